package host

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/core/lineup"
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
	if strings.HasSuffix(path, "/") {
		return disk.Links(path)
	}
	entries, err := os.ReadDir(path)
	if err != nil {
		return nil, err
	}
	return survey.Listing(entries), nil
}

// mergeLinks makes the change of links from base to want in current, a later listing of the same
// folder. The error names the link that leads elsewhere by then.
func mergeLinks(base, want, current []byte) ([]byte, error) {
	gone, come, err := disk.Relinked(base, want)
	if err != nil {
		return nil, err
	}
	now := strings.SplitAfter(string(current), "\n")
	now = now[:len(now)-1]
	called := func(name string) int {
		return slices.IndexFunc(now, func(line string) bool { return nameOf(line) == name })
	}
	for _, l := range gone {
		i, line := called(l[0]), l[0]+lineup.LeadsTo+l[1]+"\n"
		switch {
		case i >= 0 && now[i] != line:
			return nil, fmt.Errorf("the link %s has been changed since by somebody else", l[0])
		case i >= 0:
			now = slices.Delete(now, i, i+1)
		}
	}
	for _, l := range come {
		i, line := called(l[0]), l[0]+lineup.LeadsTo+l[1]+"\n"
		switch {
		case i >= 0 && now[i] != line:
			return nil, fmt.Errorf("something else is called %s by now", l[0])
		case i < 0:
			now = append(now, line)
		}
	}
	slices.SortFunc(now, func(a, b string) int { return strings.Compare(nameOf(a), nameOf(b)) })
	return []byte(strings.Join(now, "")), nil
}

// nameOf is the name on a line of a folder's listing.
func nameOf(line string) string {
	name, _, _ := strings.Cut(strings.TrimSuffix(line, "\n"), lineup.LeadsTo)
	return name
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
