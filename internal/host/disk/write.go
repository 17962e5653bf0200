package disk

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"initium/internal/core/plan"

	"golang.org/x/sys/unix"
)

// Exists tells whether there is anything at a path, be it a link that leads nowhere.
func Exists(name string) bool {
	_, err := os.Lstat(name)
	return err == nil
}

// ReadPlain reads a file that is one, and neither a link nor a pipe.
func ReadPlain(name string) ([]byte, error) {
	f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, errors.Join(err, fmt.Errorf("%s is no file", name))
	}
	return io.ReadAll(f)
}

// Destination follows a symbolic link, which stays, to the file that is changed.
func Destination(name string) (string, error) {
	place, err := Follow(name, true)
	if !errors.Is(err, fs.ErrNotExist) {
		return place, err
	}
	if info, err := os.Lstat(name); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		return "", fmt.Errorf("it is a link to a file that is not there")
	}
	if dir, err := Follow(filepath.Dir(name), true); err == nil {
		return filepath.Join(dir, filepath.Base(name)), nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	return name, nil
}

// WriteBeside writes a file, at a settled path, with the mode and owner of the one whose place it will take.
// An earlier one of that name goes first; whatever else it is, nothing is written through
// it. A new script, which begins by naming what it is run with, can be run.
func WriteBeside(beside, place string, data []byte) error {
	mode := fs.FileMode(0o644)
	if bytes.HasPrefix(data, []byte("#!")) {
		mode = 0o755
	}
	var attributes Attributes
	var info fs.FileInfo
	there, err := openIn(place, os.O_RDONLY, 0)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	default:
		defer there.Close()
		if info, err = there.Stat(); err == nil {
			attributes, err = AttributesOf(there)
		}
		if err != nil {
			return err
		}
		mode = info.Mode() & rights
		if mode&0o200 == 0 {
			return fmt.Errorf("it is read-only: %w", fs.ErrPermission)
		}
	}
	if err := MakeFolder(filepath.Dir(beside)); err != nil {
		return err
	}
	if err := Remove(beside); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := openIn(beside, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode&0o700)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil && info != nil {
		if owner, ok := info.Sys().(*syscall.Stat_t); ok && (int(owner.Uid) != os.Getuid() || int(owner.Gid) != os.Getgid()) {
			err = f.Chown(int(owner.Uid), int(owner.Gid))
		}
	} else if err == nil {
		err = ownLike(f, filepath.Dir(place))
	}
	if err == nil && info != nil {
		err = attributes.Give(f)
	}
	if err == nil { // after the owner, whose change takes rights away
		err = f.Chmod(mode)
	}
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// DigestOf is the digest of what is at a path, "" for nothing.
func DigestOf(c *Digests, path string) (string, error) {
	items, err := c.List(path)
	if err != nil || len(items) == 0 {
		return "", err
	}
	return plan.Digest(items), nil
}

// ErrInTheWay is returned when somebody else has put something where a part is to be.
var ErrInTheWay = errors.New("something else has been put there meanwhile; move it away and try again")

// RenameNew gives a file or folder at a settled path a name that nothing has yet.
func RenameNew(from, to string) error {
	err := rename(from, to, unix.RENAME_NOREPLACE)
	if cannotLook(err) {
		if err = unix.EEXIST; !Exists(to) {
			err = rename(from, to, 0)
		}
	}
	if errors.Is(err, unix.EEXIST) {
		return ErrInTheWay
	}
	return err
}

// Exchange lets two files at settled paths change places, so that what was in one can still be looked at.
// Where that cannot be done at once, the first takes the place of the second.
func Exchange(from, to string) error {
	err := rename(from, to, unix.RENAME_EXCHANGE)
	if cannotLook(err) {
		return rename(from, to, 0)
	}
	return err
}

// cannotLook tells of file systems that cannot look and rename at once.
func cannotLook(err error) bool { return errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) }

// RenameAll gives files and folders their new names; what has its name already
// is passed over, so that a run that was cut off can be completed. Nothing is
// ever written over.
func RenameAll(pairs [][2]string) error {
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
		if err := SyncDir(filepath.Dir(p[1])); err != nil {
			return err
		}
	}
	return nil
}

// SyncDir brings the names in a folder to the disk.
func SyncDir(name string) error {
	dir, err := os.Open(name)
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.Sync()
}

// OpenPlain opens a file that is one, and no pipe that nobody may ever write into.
func OpenPlain(name string) (*os.File, error) {
	file, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	if info, err := file.Stat(); err != nil || !info.Mode().IsRegular() {
		file.Close()
		return nil, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	}
	return file, nil
}

// MakeFolder makes a folder and those above it, with the owner of the first that
// is there.
func MakeFolder(dir string) error {
	info, err := os.Stat(dir)
	if err == nil {
		if !info.IsDir() {
			return &fs.PathError{Op: "make a folder at", Path: dir, Err: syscall.ENOTDIR}
		}
		return nil
	}
	if err := MakeFolder(filepath.Dir(dir)); err != nil {
		return err
	}
	if err := os.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return chownLike(dir, filepath.Dir(dir))
}

func chownLike(name, like string) error {
	if os.Getuid() != 0 {
		return nil
	}
	var st unix.Stat_t
	if err := unix.Stat(like, &st); err != nil {
		return err
	}
	return os.Lchown(name, int(st.Uid), int(st.Gid))
}

func ownLike(f *os.File, like string) error {
	if os.Getuid() != 0 {
		return nil
	}
	var st unix.Stat_t
	if err := unix.Stat(like, &st); err != nil {
		return err
	}
	return f.Chown(int(st.Uid), int(st.Gid))
}
