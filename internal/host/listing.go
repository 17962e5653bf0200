package host

import (
	"fmt"
	"os"
	"path/filepath"

	"initium/internal/core/plan"
	"initium/internal/core/survey"
	"initium/internal/host/disk"
)

// readCurrent reads a file of the ledger as it is now: its bytes, or the listing
// of a folder.
func readCurrent(path string, list bool) ([]byte, error) {
	if !list {
		place, err := disk.Follow(path, false)
		if err != nil {
			return nil, err
		}
		return disk.ReadPlain(place)
	}
	entries, err := os.ReadDir(path)
	if err != nil {
		return nil, err
	}
	return survey.Listing(entries), nil
}

// renames are the paths that get another name, in pairs.
func renames(dir string, old, want []byte) (pairs [][2]string, err error) {
	names, err := plan.Renames(old, want)
	if err != nil {
		return nil, fmt.Errorf("change %s: %w", dir, err)
	}
	for _, n := range names {
		for _, name := range n {
			if filepath.Base(name) != name {
				return nil, fmt.Errorf("change %s: %q is no name in a folder", dir, name)
			}
		}
		pairs = append(pairs, [2]string{filepath.Join(dir, n[0]), filepath.Join(dir, n[1])})
	}
	return pairs, nil
}
