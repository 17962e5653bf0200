package host

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"initium/internal/core/plan"
	"initium/internal/core/survey"
)

// readCurrent reads a file of the ledger as it is now: its bytes, or the listing
// of a folder.
func readCurrent(path string, list bool) ([]byte, error) {
	if !list {
		place, err := follow(path, false)
		if err != nil {
			return nil, err
		}
		return readPlain(place)
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

// renameAll gives files and folders their new names; what has its name already
// is passed over, so that a run that was cut off can be completed. Nothing is
// ever written over.
func renameAll(pairs [][2]string) error {
	for _, p := range pairs {
		if _, err := os.Lstat(p[1]); err == nil {
			if _, err := os.Lstat(p[0]); errors.Is(err, fs.ErrNotExist) {
				continue
			}
			return fmt.Errorf("%s cannot be called %s: there is something of that name already", p[0], filepath.Base(p[1]))
		}
		if err := os.Rename(p[0], p[1]); err != nil {
			return err
		}
		if err := syncDir(filepath.Dir(p[1])); err != nil {
			return err
		}
	}
	return nil
}

func syncDir(name string) error {
	dir, err := os.Open(name)
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.Sync()
}
