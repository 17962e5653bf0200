package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/core/lineup"
	"initium/internal/core/survey"

	"golang.org/x/sys/unix"
)

// ReadLink tells what a link leads to.
func (d Tree) ReadLink(name string) (string, error) { return fs.ReadLink(d.FS, name) }

// Lstat tells about a file, or about a link itself.
func (d Tree) Lstat(name string) (fs.FileInfo, error) { return fs.Lstat(d.FS, name) }

// Links lists a folder as lineup.Source says, each link with what it leads to.
func Links(dir string) ([]byte, error) { return survey.Links(NewTree(), dir) }

// Relinked are the links that go and that come between two listings of a folder, each a name and what
// it leads to. The error says that something else than a link would have to come or go.
func Relinked(old, want []byte) (gone, come [][2]string, err error) {
	was, will := strings.Split(string(old), "\n"), strings.Split(string(want), "\n")
	only := func(list, others []string) (links [][2]string) {
		for _, line := range list {
			if line == "" || slices.Contains(others, line) {
				continue
			}
			name, target, ok := strings.Cut(line, lineup.LeadsTo)
			if !ok || name != path.Base(name) || name == "." || name == ".." || target == "" {
				err = fmt.Errorf("%q is no link in a folder", line)
			}
			links = append(links, [2]string{name, target})
		}
		return links
	}
	return only(was, will), only(will, was), err
}

// Relink takes links of a folder away and makes others. What is so already is passed over, so that a
// run that was cut off can be completed; where a link leads elsewhere by now, or is none, nothing is
// done: that is ErrInTheWay. back takes back what was done.
func Relink(dir string, gone, come [][2]string) (back func() error, err error) {
	back = func() error { return nil }
	if err := MakeFolder(dir); err != nil {
		return back, err
	}
	place, err := Settle(filepath.Join(dir, "x"))
	if err != nil {
		return back, err
	}
	dir = filepath.Dir(place)
	type deed struct {
		at, target string
		comes      bool
	}
	goes := map[string]bool{} // the names of links that go, perhaps to lead elsewhere
	for _, l := range gone {
		goes[l[0]] = true
	}
	var todo, done []deed
	for _, list := range []struct {
		links [][2]string
		comes bool
	}{{gone, false}, {come, true}} {
		for _, l := range list.links {
			d := deed{filepath.Join(dir, l[0]), l[1], list.comes}
			is, there, err := leads(d.at, d.target)
			if !list.comes && there && !is && slices.ContainsFunc(come, func(c [2]string) bool { is, _, _ := leads(d.at, c[1]); return c[0] == l[0] && is }) {
				continue // it leads there already
			}
			switch {
			case err != nil:
				return back, err
			case there && !is && !(list.comes && goes[l[0]]):
				return back, fmt.Errorf("the link %s: %w", l[0], ErrInTheWay)
			case is != d.comes:
				todo = append(todo, d)
			}
		}
	}
	do := func(d deed, comes bool) error {
		if comes {
			return link(d.at, d.target)
		}
		return unlink(d.at, d.target)
	}
	back = func() (err error) {
		for _, d := range slices.Backward(done) {
			err = errors.Join(err, do(d, !d.comes))
		}
		return errors.Join(err, SyncDir(dir))
	}
	for _, d := range todo {
		if err := do(d, d.comes); err != nil {
			return back, fmt.Errorf("the link %s: %w", path.Base(d.at), err)
		}
		done = append(done, d)
	}
	return back, SyncDir(dir)
}

// leads tells whether there is anything at a settled path, and whether it is a link with that target.
func leads(at, target string) (is, there bool, err error) {
	now, err := leadsTo(at)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return false, false, nil
	case errors.Is(err, unix.EINVAL):
		return false, true, nil
	}
	return err == nil && now == target, true, err
}

// leadsTo reads the link at a settled path.
func leadsTo(at string) (target string, err error) {
	dir, name, err := folderOf(at)
	if err != nil {
		return "", err
	}
	defer dir.Close()
	buf := make([]byte, unix.PathMax)
	n, err := unix.Readlinkat(int(dir.Fd()), name, buf)
	if err != nil {
		return "", &fs.PathError{Op: "read the link", Path: at, Err: err}
	}
	return string(buf[:n]), nil
}

// unlink takes a link away that leads where it is said to.
func unlink(at, target string) error {
	is, there, err := leads(at, target)
	switch {
	case err != nil || !there:
		return err
	case !is:
		return ErrInTheWay
	}
	return Remove(at)
}

// link makes a link, owned as its folder is.
func link(at, target string) error {
	dir, name, err := folderOf(at)
	if err != nil {
		return err
	}
	defer dir.Close()
	err = unix.Symlinkat(target, int(dir.Fd()), name)
	if errors.Is(err, fs.ErrExist) {
		if now, err := leadsTo(at); err == nil && now == target {
			return nil
		}
		return ErrInTheWay
	}
	if err != nil {
		return &fs.PathError{Op: "make a link at", Path: at, Err: err}
	}
	if os.Getuid() != 0 {
		return nil
	}
	var owner unix.Stat_t
	if err := unix.Fstat(int(dir.Fd()), &owner); err != nil {
		return err
	}
	return unix.Fchownat(int(dir.Fd()), name, int(owner.Uid), int(owner.Gid), unix.AT_SYMLINK_NOFOLLOW)
}
