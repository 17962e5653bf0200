package landlord

import (
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/pkg/sftp"
)

// files serves a folder over SFTP, and nothing outside it: the tenant's links lead no further either.
type files struct{ root *os.Root }

// below is a path of a request, below the folder.
func below(name string) string {
	if name = strings.TrimPrefix(name, "/"); name == "" {
		return "."
	}
	return name
}

// Fileread opens a file to be read.
func (f files) Fileread(r *sftp.Request) (io.ReaderAt, error) { return f.root.Open(below(r.Filepath)) }

// Filewrite opens a file to be written.
func (f files) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	how, asked := os.O_WRONLY, r.Pflags()
	for flag, is := range map[int]bool{os.O_CREATE: asked.Creat, os.O_TRUNC: asked.Trunc, os.O_EXCL: asked.Excl} {
		if is {
			how |= flag
		}
	}
	return f.root.OpenFile(below(r.Filepath), how, 0o644)
}

// Filecmd does what changes a folder.
func (f files) Filecmd(r *sftp.Request) error {
	name, target := below(r.Filepath), below(r.Target)
	switch r.Method {
	case "Rename":
		if _, err := f.root.Lstat(target); err == nil {
			return fs.ErrExist
		}
		return f.root.Rename(name, target)
	case "Rmdir", "Remove":
		return f.root.Remove(name)
	case "Mkdir":
		return f.root.Mkdir(name, 0o755)
	case "Setstat":
		return f.attributes(r, name)
	}
	return sftp.ErrSSHFxOpUnsupported
}

func (f files) attributes(r *sftp.Request, name string) error {
	asked, given := r.AttrFlags(), r.Attributes()
	if asked.Permissions {
		if err := f.root.Chmod(name, given.FileMode().Perm()); err != nil {
			return err
		}
	}
	if asked.Acmodtime {
		if err := f.root.Chtimes(name, given.AccessTime(), given.ModTime()); err != nil {
			return err
		}
	}
	if asked.Size {
		file, err := f.root.OpenFile(name, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		defer file.Close()
		return file.Truncate(int64(given.Size))
	}
	return nil
}

// PosixRename renames over what is there.
func (f files) PosixRename(r *sftp.Request) error {
	return f.root.Rename(below(r.Filepath), below(r.Target))
}

// Filelist tells what is in a folder, or of one file.
func (f files) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method != "List" {
		info, err := f.root.Stat(below(r.Filepath))
		return listed{info}, err
	}
	dir, err := f.root.Open(below(r.Filepath))
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	list, err := dir.Readdir(-1)
	slices.SortFunc(list, func(a, b os.FileInfo) int { return strings.Compare(a.Name(), b.Name()) })
	return listed(list), err
}

// Lstat tells of a link itself.
func (f files) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	info, err := f.root.Lstat(below(r.Filepath))
	return listed{info}, err
}

type listed []os.FileInfo

// ListAt hands a list out in parts.
func (l listed) ListAt(out []os.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(out, l[at:])
	if n < len(out) {
		return n, io.EOF
	}
	return n, nil
}
