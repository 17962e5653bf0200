package disk

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"initium/internal/core/plan"
)

// Digests tells what is in folders, file by file. It remembers the sums of files
// for as long as they do not change.
type Digests struct {
	mu    sync.Mutex
	known map[fileStamp][32]byte
}

// fileStamp tells a state of a file from all others (stat(2): the change time
// moves with every change).
type fileStamp struct {
	dev, ino uint64
	size     int64
	changed  int64
}

// List is what is at a path: all that is below a folder, or one item without a
// Rel for a file. Nothing is there when the list is empty.
func (c *Digests) List(name string) (items []plan.Item, err error) {
	info, err := os.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		it, err := c.item(name, "", info)
		return []plan.Item{it}, err
	}
	err = c.folder(name, "", &items)
	if len(items) == 0 && err == nil {
		items = []plan.Item{{Folder: true}} // an empty folder is something too
	}
	return items, err
}

func (c *Digests) folder(root, rel string, items *[]plan.Item) error {
	entries, err := os.ReadDir(filepath.Join(root, rel))
	if err != nil {
		return err
	}
	for _, e := range entries {
		below := filepath.Join(rel, e.Name())
		if e.IsDir() {
			before := len(*items)
			if err := c.folder(root, below, items); err != nil {
				return err
			}
			if len(*items) == before {
				*items = append(*items, plan.Item{Rel: below, Folder: true})
			}
			continue
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		it, err := c.item(filepath.Join(root, below), below, info)
		if err != nil {
			return err
		}
		*items = append(*items, it)
	}
	return nil
}

func (c *Digests) item(full, rel string, info fs.FileInfo) (it plan.Item, err error) {
	it = plan.Item{Rel: rel, From: rel, Size: info.Size(), Exec: info.Mode()&0o111 != 0}
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		it.Size, it.Exec = 0, false
		it.Link, err = os.Readlink(full)
		return it, err
	case !info.Mode().IsRegular():
		return it, fmt.Errorf("%s is a device, a pipe or a socket", full)
	}
	it.Sum, err = c.Sum(full, info)
	return it, err
}

// Sum is the SHA-256 of a file.
func (c *Digests) Sum(full string, info fs.FileInfo) (sum [32]byte, err error) {
	var stamp fileStamp
	if sys, ok := info.Sys().(*syscall.Stat_t); ok {
		stamp = fileStamp{uint64(sys.Dev), sys.Ino, info.Size(), sys.Ctim.Nano()}
		c.mu.Lock()
		sum, ok := c.known[stamp]
		c.mu.Unlock()
		if ok {
			return sum, nil
		}
	}
	f, err := os.OpenFile(full, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return sum, err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return sum, err
	}
	h.Sum(sum[:0])
	if time.Since(time.Unix(0, stamp.changed)) < trusted {
		return sum, nil // another change could go unseen
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.known == nil {
		c.known = map[fileStamp][32]byte{}
	}
	c.known[stamp] = sum
	return sum, nil
}

// CopyTree copies a folder or file with modes, owners, times and links. Where the
// file system can, the copies share their blocks until one is changed. Both are reached
// through the folders that they are in, which are held open: links in them lead nowhere
// else.
func CopyTree(ctx context.Context, from, to string) error { return copyTree(ctx, from, to, 0) }

// copyTree copies a folder without files of some types.
func copyTree(ctx context.Context, from, to string, without fs.FileMode) error {
	in, err := os.OpenRoot(filepath.Dir(from))
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenRoot(filepath.Dir(to))
	if err != nil {
		return err
	}
	defer out.Close()
	c := &copier{ctx: ctx, without: without, mine: without != 0 && os.Geteuid() != 0, top: out, linked: map[[2]uint64]string{}}
	return c.below(in, filepath.Base(from), out, filepath.Base(to), filepath.Base(to))
}

// copier copies what is in a folder.
type copier struct {
	ctx     context.Context
	without fs.FileMode          // types of files that are passed over
	mine    bool                 // the copies are the caller's own, whose ever the files are
	top     *os.Root             // the folder that all comes into
	linked  map[[2]uint64]string // copies, seen from there, of files that have several names
}

// ownInfo is what is known of a file, as if it were the caller's own.
type ownInfo struct{ fs.FileInfo }

// Sys is what the system says of the file, with another owner.
func (i ownInfo) Sys() any {
	sys, ok := i.FileInfo.Sys().(*syscall.Stat_t)
	if !ok {
		return i.FileInfo.Sys()
	}
	own := *sys
	own.Uid, own.Gid = uint32(os.Getuid()), uint32(os.Getgid())
	return &own
}

// below copies what has the name from in one folder, to the name to in another; seen is its
// path from the top.
func (c *copier) below(in *os.Root, from string, out *os.Root, to, seen string) error {
	info, err := in.Lstat(from)
	if err != nil {
		return err
	}
	if info.Mode()&c.without != 0 {
		return nil
	}
	if c.mine {
		info = ownInfo{info}
	}
	if !info.IsDir() {
		if sys, ok := info.Sys().(*syscall.Stat_t); ok && info.Mode().IsRegular() && sys.Nlink > 1 {
			file := [2]uint64{uint64(sys.Dev), sys.Ino}
			if first, known := c.linked[file]; known {
				return c.top.Link(first, seen)
			}
			c.linked[file] = seen
		}
		return CopyOne(in, from, out, to, info)
	}
	if err := out.Mkdir(to, info.Mode().Perm()|0o700); err != nil {
		return err
	}
	source, err := in.OpenRoot(from)
	if err != nil {
		return err
	}
	defer source.Close()
	copied, err := out.OpenRoot(to)
	if err != nil {
		return err
	}
	defer copied.Close()
	entries, err := fs.ReadDir(source.FS(), ".")
	if err != nil {
		return err
	}
	for _, e := range entries {
		if err := c.ctx.Err(); err != nil {
			return err
		}
		if err := c.below(source, e.Name(), copied, e.Name(), filepath.Join(seen, e.Name())); err != nil {
			return err
		}
	}
	folder, err := source.Open(".")
	if err != nil {
		return err
	}
	defer folder.Close()
	return likeBefore(copied, ".", info, folder)
}

// CopyOne copies one file or link.
func CopyOne(in *os.Root, from string, out *os.Root, to string, info fs.FileInfo) error {
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := in.Readlink(from)
		if err != nil {
			return err
		}
		if err := out.Symlink(target, to); err != nil {
			return err
		}
		if uid, gid := ownerOf(info); uid != os.Getuid() || gid != os.Getgid() {
			return out.Lchown(to, uid, gid)
		}
		return nil
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%s is a device, a pipe or a socket", filepath.Join(in.Name(), from))
	}
	source, err := in.OpenFile(from, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	defer source.Close()
	copied, err := out.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, info.Mode().Perm()|0o200)
	if err != nil {
		return err
	}
	if unix.IoctlFileClone(int(copied.Fd()), int(source.Fd())) != nil {
		_, err = io.Copy(copied, source)
	}
	if err = errors.Join(err, copied.Close()); err != nil {
		return err
	}
	return likeBefore(out, to, info, source)
}

// likeBefore gives a copy the mode, the owner, the times and the attributes of what it was
// copied from.
func likeBefore(out *os.Root, to string, info fs.FileInfo, from *os.File) error {
	attributes, err := AttributesOf(from)
	if err != nil {
		return err
	}
	uid, gid := ownerOf(info)
	return Like(out, to, info.Mode(), uid, gid, info.ModTime(), attributes)
}

func ownerOf(info fs.FileInfo) (uid, gid int) {
	if sys, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(sys.Uid), int(sys.Gid)
	}
	return os.Getuid(), os.Getgid()
}

// rights are the bits of a mode that can be given to a file.
const rights = fs.ModePerm | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky

// Like gives a file or folder in a folder an owner, rights, extended attributes, and the time
// when it was changed.
func Like(in *os.Root, name string, mode fs.FileMode, uid, gid int, changed time.Time, attributes Attributes) error {
	if uid != os.Getuid() || gid != os.Getgid() {
		if err := in.Lchown(name, uid, gid); err != nil {
			return err
		}
	}
	f, err := in.OpenFile(name, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := attributes.Give(f); err != nil {
		return err
	}
	if err := in.Chmod(name, mode&rights); err != nil { // after the owner, whose change takes rights away
		return err
	}
	return in.Chtimes(name, changed, changed)
}

// SyncAll brings everything that was written to the file system of a folder to
// the disk, at once: for many files that is far quicker than one by one.
func SyncAll(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.Syncfs(int(f.Fd()))
}

// Writable tells whether files can be put into a folder, or into one that would
// have to be made.
func Writable(dir string) bool {
	for {
		err := unix.Access(dir, unix.W_OK|unix.X_OK)
		if !errors.Is(err, fs.ErrNotExist) {
			return err == nil
		}
		up := filepath.Dir(dir)
		if up == dir {
			return false
		}
		dir = up
	}
}

// Room is what is free where a folder is, or would be made, in bytes; and which
// file system that is.
func Room(dir string) (free int64, device uint64, err error) {
	for {
		var st unix.Statfs_t
		err := unix.Statfs(dir, &st)
		if err == nil {
			var info unix.Stat_t
			if err := unix.Stat(dir, &info); err != nil {
				return 0, 0, err
			}
			return int64(st.Bavail) * st.Bsize, uint64(info.Dev), nil
		}
		up := filepath.Dir(dir)
		if !errors.Is(err, fs.ErrNotExist) || up == dir {
			return 0, 0, err
		}
		dir = up
	}
}

// CopyFolder copies a folder to a place where there is none.
func CopyFolder(ctx context.Context, from, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	return CopyTree(ctx, from, to)
}

// CopyServer copies the folder of a server to a place where there is none, but for pipes and
// sockets: they are those of a program that runs. Where nobody but root may give files to others, the
// copy is the caller's own.
func CopyServer(ctx context.Context, from, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	return copyTree(ctx, from, to, fs.ModeNamedPipe|fs.ModeSocket)
}
