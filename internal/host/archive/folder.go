package archive

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"initium/internal/core/intake"
)

// walkFolder goes through a folder, without ever leaving it through a link.
func (s *Source) walkFolder(visit visitor) error {
	root, err := os.OpenRoot(s.Path)
	if err != nil {
		return err
	}
	defer root.Close()
	return fs.WalkDir(root.FS(), ".", func(name string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case name == ".":
			return nil
		case strings.Contains(name, `\`):
			return fmt.Errorf("%q has a backslash in its name, which no mod can have", clean(name))
		case e.IsDir():
			return visit(head{name: name, kind: intake.Folder}, nil)
		case e.Type()&fs.ModeSymlink != 0:
			target, err := root.Readlink(name)
			if err != nil {
				return err
			}
			return visit(head{name: name, kind: intake.Link, target: target}, nil)
		case !e.Type().IsRegular():
			return entryError(name, errSpecial)
		}
		return s.walkFile(root, name, visit)
	})
}

func (s *Source) walkFile(root *os.Root, name string, visit visitor) error {
	f, err := root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	before, err := f.Stat()
	if err != nil {
		return err
	}
	if !before.Mode().IsRegular() {
		return entryError(name, errSpecial)
	}
	h := head{name: name, size: before.Size(), exec: before.Mode()&0o111 != 0, time: before.ModTime()}
	if err := visit(h, func() (io.Reader, error) { return f, nil }); err != nil {
		return err
	}
	after, err := f.Stat()
	if err != nil || stampOf(after) != stampOf(before) {
		return errors.Join(err, entryError(name, errors.New("has changed while it was read; try again when nothing writes there")))
	}
	return nil
}
