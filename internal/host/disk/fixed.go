package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Settle is a path without links in it, but for its last name: what of its folders is there
// is followed as Follow does for writing, what is yet to be made is added as it is.
func Settle(path string) (string, error) {
	dir, err := Follow(filepath.Dir(path), true)
	if errors.Is(err, fs.ErrNotExist) && filepath.Dir(path) != path {
		dir, err = Settle(filepath.Dir(path))
	}
	return filepath.Join(dir, filepath.Base(path)), err
}

// folderOf opens the folder in which the last name of a settled path stands, over no link:
// whoever owns a folder on the way cannot have led it elsewhere meanwhile. What is done by
// its handle is done there, whatever becomes of the path.
func folderOf(path string) (dir *os.File, name string, err error) {
	at, name := filepath.Dir(path), filepath.Base(path)
	const flags = unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC
	fd, err := unix.Openat2(unix.AT_FDCWD, at, &unix.OpenHow{Flags: flags, Resolve: unix.RESOLVE_NO_SYMLINKS})
	if errors.Is(err, unix.ENOSYS) { // before Linux 5.6 only the last folder is looked at
		fd, err = unix.Open(at, flags|unix.O_NOFOLLOW, 0)
	}
	if err != nil {
		return nil, "", &fs.PathError{Op: "go into", Path: at, Err: err}
	}
	return os.NewFile(uintptr(fd), at), name, nil
}

// rename gives what stands at one settled path the name of another.
func rename(from, to string, flags uint) error {
	here, old, err := folderOf(from)
	if err != nil {
		return err
	}
	defer here.Close()
	there, name, err := folderOf(to)
	if err != nil {
		return err
	}
	defer there.Close()
	if err := unix.Renameat2(int(here.Fd()), old, int(there.Fd()), name, flags); err != nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
	}
	return nil
}

// Remove takes away the file at a settled path.
func Remove(path string) error {
	dir, name, err := folderOf(path)
	if err != nil {
		return err
	}
	defer dir.Close()
	if err := unix.Unlinkat(int(dir.Fd()), name, 0); err != nil {
		return &fs.PathError{Op: "remove", Path: path, Err: err}
	}
	return nil
}

// openIn opens or makes a file at a settled path.
func openIn(path string, flags int, mode fs.FileMode) (*os.File, error) {
	dir, name, err := folderOf(path)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	fd, err := unix.Openat(int(dir.Fd()), name, flags|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, uint32(mode.Perm()))
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	return os.NewFile(uintptr(fd), path), nil
}
