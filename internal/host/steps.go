package host

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"

	"initium/internal/core/plan"
)

// A step is one thing that an entry does to the files of a server. What comes is made
// ready beside its place, and put there by renames alone; how far that has come can be
// seen from the names and bytes that are there, so that the same steps bring an entry to
// its end that was cut off.
//
// What is there and is neither what the plan has found nor what comes was made by somebody
// else meanwhile. It is never written over: do returns ErrStale, and leaves it.
type step interface {
	// ready writes beside its place what comes.
	ready() error
	// begun tells whether anything of the step has been done.
	begun() (bool, error)
	// do puts what comes in place, or completes that.
	do() error
	// undo brings back what was there, as far as this run has done anything.
	undo() error
	// drop takes away what waits beside the place.
	drop() error
}

// steps are those of an entry, in the order in which they are done. late is set for an
// entry that was cut off: what has been made of its folders meanwhile is put aside with
// them, and kept.
func (l *Ledger) steps(id int64, late bool) (list []step, err error) {
	var mark string
	if err := l.db.QueryRow(`SELECT mark FROM entry WHERE id = ?`, id).Scan(&mark); err != nil {
		return nil, err
	}
	parts, err := l.parts(id)
	if err != nil {
		return nil, err
	}
	for _, p := range parts {
		list = append(list, &partStep{partRow: p, spots: spotsOf(p.path, mark, p.n), contents: l.digests, late: late})
	}
	rows, err := l.rows(id)
	if err != nil {
		return nil, err
	}
	for n, f := range rows {
		if f.list {
			list = append(list, &namesStep{f})
			continue
		}
		place, err := destination(f.path)
		if err != nil {
			return nil, fmt.Errorf("change %s: %w", f.path, err)
		}
		list = append(list, &fileStep{fileRow: f, place: place, beside: besideName(place, mark, n)})
	}
	return list, nil
}

// besideName is where a new file waits. The mark is the entry's own, and cannot be guessed:
// nobody puts anything there beforehand.
func besideName(place, mark string, n int) string {
	return filepath.Join(filepath.Dir(place), fmt.Sprintf("%s%s-%d", besidePrefix, mark, n))
}

// besidePrefix is what the names of all begin with that lies beside its place for a while.
const besidePrefix = ".initium-"

// spots are the two places beside a part where things wait: what comes, and what was
// there.
type spots struct{ fresh, aside string }

func spotsOf(path, mark string, n int) spots {
	base := filepath.Join(filepath.Dir(path), fmt.Sprintf("%s%s-p%d", besidePrefix, mark, n))
	return spots{base + "-new", base + "-old"}
}

func exists(name string) bool {
	_, err := os.Lstat(name)
	return err == nil
}

// fileStep gives one file other bytes, makes it, or takes it away.
type fileStep struct {
	fileRow
	place  string // the file itself, where path is a link to it
	beside string // what comes, and once that is in its place what was there
	waits  bool   // what comes is known to lie beside the place
	did    bool   // it was put in its place by this run
}

// found reads the file as it is; there is false when there is none.
func (s *fileStep) found() (now []byte, there bool, err error) {
	now, err = readPlain(s.place)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, false, nil
	}
	return now, err == nil, err
}

// isOld and isNew tell whether what is there is what the plan has found, or what comes.
func (s *fileStep) isOld(now []byte, there bool) bool {
	return there != s.fresh && (!there || bytes.Equal(now, s.old))
}

func (s *fileStep) isNew(now []byte, there bool) bool {
	return there != s.gone && (!there || bytes.Equal(now, s.new))
}

func (s *fileStep) ready() error {
	if s.gone {
		return nil
	}
	if err := writeBeside(s.beside, s.place, s.new); err != nil {
		return fmt.Errorf("change %s: %w", s.path, err)
	}
	s.waits = true
	return nil
}

func (s *fileStep) begun() (bool, error) {
	now, there, err := s.found()
	return err == nil && s.isNew(now, there) && !s.isOld(now, there), err
}

func (s *fileStep) do() error {
	now, there, err := s.found()
	switch {
	case err != nil:
		return err
	case s.isNew(now, there):
		return s.verify()
	case !s.isOld(now, there):
		return s.stale()
	}
	if !s.waits && !s.gone {
		if err := s.ready(); err != nil {
			return err
		}
	}
	if err := s.swap(); err != nil {
		return err
	}
	s.waits, s.did = false, true
	if err := s.verify(); err != nil {
		return err
	}
	return syncDir(filepath.Dir(s.place))
}

// swap puts what waits beside the place into it, and what was there beside it.
func (s *fileStep) swap() error {
	var err error
	switch {
	case s.fresh:
		err = renameNew(s.beside, s.place)
	case s.gone:
		err = renameNew(s.place, s.beside)
	default:
		err = exchange(s.beside, s.place)
	}
	if errors.Is(err, errInTheWay) || errors.Is(err, fs.ErrNotExist) {
		return s.stale()
	}
	return err
}

// verify looks that what came out of the place is what the plan has found: between
// looking and changing somebody may have written. His bytes go back.
func (s *fileStep) verify() error {
	out, err := readPlain(s.beside)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case bytes.Equal(out, s.old) || !s.gone && bytes.Equal(out, s.new):
		return nil
	case s.gone:
		err = renameNew(s.beside, s.place)
	default:
		err = exchange(s.beside, s.place)
	}
	s.did = err != nil
	return errors.Join(s.stale(), err)
}

func (s *fileStep) stale() error {
	return fmt.Errorf("change %s: %w; look at the plan again", s.path, ErrStale)
}

func (s *fileStep) undo() error {
	if !s.did {
		return nil
	}
	now, there, err := s.found()
	if err != nil || s.isOld(now, there) {
		return err
	}
	if !s.isNew(now, there) {
		return s.stale()
	}
	out, err := readPlain(s.beside)
	kept := err == nil && bytes.Equal(out, s.old)
	switch {
	case s.fresh:
		err = renameNew(s.place, s.beside)
	case kept && s.gone:
		err = renameNew(s.beside, s.place)
	case kept:
		err = exchange(s.beside, s.place)
	default: // where names cannot be exchanged it was written over
		if err = writeBeside(s.beside, s.place, s.old); err == nil {
			err = os.Rename(s.beside, s.place)
		}
	}
	return errors.Join(err, syncDir(filepath.Dir(s.place)))
}

// drop takes away what waits, and what was put there; the ledger has the bytes of both.
// What is neither stays.
func (s *fileStep) drop() error {
	data, err := readPlain(s.beside)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil && !s.waits && !bytes.Equal(data, s.old) && !bytes.HasPrefix(s.new, data) {
		return fmt.Errorf("somebody has written to %s while it was changed; what he has written is in %s", s.path, s.beside)
	}
	return os.Remove(s.beside)
}

// readPlain reads a file that is one, and neither a link nor a pipe.
func readPlain(name string) ([]byte, error) {
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

// destination follows a symbolic link, which stays, to the file that is changed.
func destination(name string) (string, error) {
	place, err := follow(name, true)
	if !errors.Is(err, fs.ErrNotExist) {
		return place, err
	}
	if info, err := os.Lstat(name); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		return "", fmt.Errorf("it is a link to a file that is not there")
	}
	if dir, err := follow(filepath.Dir(name), true); err == nil {
		return filepath.Join(dir, filepath.Base(name)), nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	return name, nil
}

// writeBeside writes a file with the mode and owner of the one whose place it will take.
// An earlier one of that name goes first; whatever else it is, nothing is written through
// it.
func writeBeside(beside, place string, data []byte) error {
	mode := fs.FileMode(0o644)
	info, err := os.Stat(place)
	if err == nil {
		mode = info.Mode().Perm()
		if mode&0o200 == 0 {
			return fmt.Errorf("it is read-only: %w", fs.ErrPermission)
		}
	}
	if err := makeFolder(filepath.Dir(beside)); err != nil {
		return err
	}
	if err := os.Remove(beside); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := os.OpenFile(beside, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode&0o700)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Chmod(mode)
	}
	if err == nil && info != nil {
		if owner, ok := info.Sys().(*syscall.Stat_t); ok && (int(owner.Uid) != os.Getuid() || int(owner.Gid) != os.Getgid()) {
			err = f.Chown(int(owner.Uid), int(owner.Gid))
		}
	} else if err == nil {
		err = ownLike(f, filepath.Dir(place))
	}
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// namesStep gives files and folders in one folder other names. Nothing waits for that, and
// nothing is ever written over.
type namesStep struct{ fileRow }

func (s *namesStep) ready() error { _, err := s.pairs(); return err }

func (s *namesStep) pairs() ([][2]string, error) { return renames(s.path, s.old, s.new) }

func (s *namesStep) begun() (bool, error) {
	pairs, err := s.pairs()
	for _, p := range pairs {
		if !exists(p[0]) {
			return true, nil
		}
	}
	return false, err
}

func (s *namesStep) do() error {
	pairs, err := s.pairs()
	if err != nil {
		return err
	}
	return renameAll(pairs)
}

func (s *namesStep) undo() error {
	pairs, err := renames(s.path, s.new, s.old)
	if err != nil {
		return err
	}
	return renameAll(pairs)
}

func (s *namesStep) drop() error { return nil }

// partStep puts a folder or a file in place as a whole, or takes it away, in two renames:
// what is there goes aside, what comes takes its place. What comes is made ready for all
// parts of an entry at once, by the stager.
type partStep struct {
	partRow
	spots
	contents *Digests
	late     bool
}

func (s *partStep) ready() error { return nil }

// begun is false for folders that hold the parts of others: they are made beforehand, and
// go afterwards if nothing is left in them.
func (s *partStep) begun() (bool, error) {
	switch {
	case s.new == plan.EmptyFolder || s.old == plan.EmptyFolder:
		return false, nil
	case s.old != "":
		return exists(s.aside), nil
	}
	return !exists(s.fresh) && exists(s.path), nil
}

func (s *partStep) do() error {
	switch {
	case s.new == plan.EmptyFolder:
		return makeFolder(s.path)
	case s.old == plan.EmptyFolder:
		return nil // it goes when what was in it is in the ledger's keeping
	}
	if s.old != "" && !exists(s.aside) {
		if err := s.putAside(); err != nil {
			return fmt.Errorf("put %s aside: %w", s.path, err)
		}
	}
	if s.new != "" && exists(s.fresh) {
		if err := renameNew(s.fresh, s.path); err != nil {
			return fmt.Errorf("put %s in place: %w", s.path, err)
		}
	}
	if s.new != "" && !exists(s.path) {
		return fmt.Errorf("put %s in place: what was to come is gone", s.path)
	}
	return syncDir(filepath.Dir(s.path))
}

// putAside takes away what is there, and brings it back when it is not what the plan has
// found.
func (s *partStep) putAside() error {
	err := renameNew(s.path, s.aside)
	if s.late && errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil || s.late {
		return err
	}
	now, err := digestOf(s.contents, s.aside)
	if err == nil && now != s.old {
		err = fmt.Errorf("%w; look at the plan again", ErrStale)
	}
	if err != nil {
		return errors.Join(err, renameNew(s.aside, s.path))
	}
	return nil
}

func (s *partStep) undo() error {
	if s.new == plan.EmptyFolder || s.old == plan.EmptyFolder {
		return nil // what was made goes when the entry is forgotten
	}
	if s.new != "" && !exists(s.fresh) && exists(s.path) {
		now, err := digestOf(s.contents, s.path)
		if err == nil && now != s.new {
			err = fmt.Errorf("take %s back: %w", s.path, ErrStale)
		}
		if err == nil {
			err = renameNew(s.path, s.fresh)
		}
		if err != nil {
			return err
		}
	}
	if s.old != "" && exists(s.aside) {
		if err := renameNew(s.aside, s.path); err != nil {
			return err
		}
	}
	return syncDir(filepath.Dir(s.path))
}

func (s *partStep) drop() error {
	if err := os.RemoveAll(s.fresh); !errors.Is(err, syscall.ENOTDIR) {
		return err
	}
	return nil
}

// digestOf is the digest of what is at a path, "" for nothing.
func digestOf(c *Digests, path string) (string, error) {
	items, err := c.List(path)
	if err != nil || len(items) == 0 {
		return "", err
	}
	return plan.Digest(items), nil
}

// errInTheWay is returned when somebody else has put something where a part is to be.
var errInTheWay = errors.New("something else has been put there meanwhile; move it away and try again")

// renameNew gives a file or folder a name that nothing has yet.
func renameNew(from, to string) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
	if cannotLook(err) {
		if err = unix.EEXIST; !exists(to) {
			err = os.Rename(from, to)
		}
	}
	if errors.Is(err, unix.EEXIST) {
		return errInTheWay
	}
	return err
}

// exchange lets two files change places, so that what was in one can still be looked at.
// Where that cannot be done at once, the first takes the place of the second.
func exchange(from, to string) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_EXCHANGE)
	if cannotLook(err) {
		return os.Rename(from, to)
	}
	return err
}

// cannotLook tells of file systems that cannot look and rename at once.
func cannotLook(err error) bool { return errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) }
