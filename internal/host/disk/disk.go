package disk

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
	"time"

	"initium/internal/core/survey"

	"golang.org/x/sys/unix"
)

// Tree is this machine's whole file system, for surveys: paths in it are absolute
// ones without the first slash. It reads small files with as few calls as can be,
// and never waits for a pipe that stands where a file should.
type Tree struct{ fs.FS }

// NewTree returns the machine's file system.
func NewTree() Tree { return Tree{os.DirFS("/")} }

// ReadDir lists a folder.
func (d Tree) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(d.FS, name) }

// Stat tells about a file.
func (d Tree) Stat(name string) (fs.FileInfo, error) { return fs.Stat(d.FS, name) }

// ReadSmall reads a regular file of at most limit bytes.
func (d Tree) ReadSmall(name string, limit int64) (data []byte, err error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "read", Path: name, Err: fs.ErrInvalid}
	}
	full := "/" + name
	fail := func(err error) ([]byte, error) { return nil, &fs.PathError{Op: "read", Path: full, Err: err} }
	fd, err := openStraight(full)
	if errors.Is(err, unix.ELOOP) { // a link is on the way
		var real string
		if real, err = Follow(full, false); err == nil {
			fd, err = openStraight(real)
		}
	}
	if err != nil {
		return fail(PlainCause(err))
	}
	defer syscall.Close(fd)
	var info syscall.Stat_t
	if err := syscall.Fstat(fd, &info); err != nil {
		return fail(err)
	}
	if info.Mode&syscall.S_IFMT != syscall.S_IFREG {
		return fail(survey.ErrNotFile)
	}
	if info.Size > limit {
		return fail(survey.ErrTooLarge)
	}
	data = make([]byte, info.Size+1) // one more, to see the end at the first reading
	for n := 0; ; {
		got, err := again(func() (int, error) { return syscall.Read(fd, data[n:]) })
		if err != nil {
			return fail(err)
		}
		n += got
		switch {
		case got == 0 || n < len(data):
			return data[:n], nil
		case int64(n) > limit:
			return fail(survey.ErrTooLarge)
		}
		data = append(data, make([]byte, len(data))...) // it has grown meanwhile
	}
}

// openStraight opens a file without going over any link. A kernel that cannot be asked for
// that looks at the whole path first.
func openStraight(full string) (fd int, err error) {
	const flags = unix.O_RDONLY | unix.O_CLOEXEC | unix.O_NONBLOCK
	fd, err = again(func() (int, error) {
		return unix.Openat2(unix.AT_FDCWD, full, &unix.OpenHow{Flags: flags, Resolve: unix.RESOLVE_NO_SYMLINKS})
	})
	if !errors.Is(err, unix.ENOSYS) && !errors.Is(err, unix.EPERM) {
		return fd, err
	}
	real, err := Follow(full, false)
	if err != nil {
		return -1, err
	}
	return again(func() (int, error) { return unix.Open(real, flags|unix.O_NOFOLLOW, 0) })
}

// again repeats a call that a signal has cut off.
func again(call func() (int, error)) (int, error) {
	for {
		if n, err := call(); err != syscall.EINTR {
			return n, err
		}
	}
}

// trusted is how long ago a file has to have changed before its stamp is trusted:
// file systems count time in steps, and two changes in one step look like one.
const trusted = 2 * time.Second

// Stamp tells whether a file is the same as before (stat(2): the change time also
// moves when the time of modification is set back).
func (d Tree) Stamp(name string) (survey.Stamp, bool) {
	var info syscall.Stat_t
	if _, err := again(func() (int, error) { return 0, syscall.Stat("/"+name, &info) }); err != nil {
		return survey.Stamp{}, false
	}
	s := survey.Stamp{Device: uint64(info.Dev), Inode: info.Ino, Size: info.Size, Changed: info.Ctim.Nano()}
	return s, time.Since(time.Unix(0, s.Changed)) > trusted
}

// PlainCause is an error without the path that it is about.
func PlainCause(err error) error {
	if path := new(os.PathError); errors.As(err, &path) {
		return path.Err
	}
	return err
}
