package host

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"initium/internal/core/connection"
	"initium/internal/core/plan"
	"initium/internal/host/disk"
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
	var mark, server string
	if err := l.db.QueryRow(`SELECT mark, server FROM entry WHERE id = ?`, id).Scan(&mark, &server); err != nil {
		return nil, err
	}
	parts, err := l.parts(id)
	if err != nil {
		return nil, err
	}
	for _, p := range parts {
		if p.path, err = disk.Settle(p.path); err != nil {
			return nil, fmt.Errorf("change %s: %w", p.path, err)
		}
		list = append(list, &partStep{partRow: p, spots: spotsOf(p.path, mark, p.n), contents: l.digests, late: late})
	}
	rows, err := l.rows(id)
	if err != nil {
		return nil, err
	}
	for n, f := range rows {
		if connection.IsPlace(f.path) {
			list = append(list, &tablesStep{fileRow: f, ledger: l, server: server, id: id, late: late})
			continue
		}
		if f.list && strings.HasSuffix(f.path, "/") {
			list = append(list, &linksStep{fileRow: f})
			continue
		}
		if f.list {
			list = append(list, &namesStep{f})
			continue
		}
		place, err := disk.Destination(f.path)
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
	now, err = disk.ReadPlain(s.place)
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
	if err := disk.WriteBeside(s.beside, s.place, s.new); err != nil {
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
	return disk.SyncDir(filepath.Dir(s.place))
}

// swap puts what waits beside the place into it, and what was there beside it.
func (s *fileStep) swap() error {
	var err error
	switch {
	case s.fresh:
		err = disk.RenameNew(s.beside, s.place)
	case s.gone:
		err = disk.RenameNew(s.place, s.beside)
	default:
		err = disk.Exchange(s.beside, s.place)
	}
	if errors.Is(err, disk.ErrInTheWay) || errors.Is(err, fs.ErrNotExist) {
		return s.stale()
	}
	return err
}

// verify looks that what came out of the place is what the plan has found: between
// looking and changing somebody may have written. His bytes go back.
func (s *fileStep) verify() error {
	out, err := disk.ReadPlain(s.beside)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case bytes.Equal(out, s.old) || !s.gone && bytes.Equal(out, s.new):
		return nil
	case s.gone:
		err = disk.RenameNew(s.beside, s.place)
	default:
		err = disk.Exchange(s.beside, s.place)
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
	switch { // what lies beside comes back with whatever somebody has made of it meanwhile
	case s.fresh:
		err = disk.RenameNew(s.place, s.beside)
	case !disk.Exists(s.beside): // where names cannot be exchanged it was written over
		if err = disk.WriteBeside(s.beside, s.place, s.old); err == nil {
			err = os.Rename(s.beside, s.place)
		}
	case s.gone:
		err = disk.RenameNew(s.beside, s.place)
	default:
		err = disk.Exchange(s.beside, s.place)
	}
	return errors.Join(err, disk.SyncDir(filepath.Dir(s.place)))
}

// drop takes away what waits, and what was put there; the ledger has the bytes of both.
// What is neither stays.
func (s *fileStep) drop() error {
	data, err := disk.ReadPlain(s.beside)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil && !s.waits && !bytes.Equal(data, s.old) && !bytes.HasPrefix(s.new, data) {
		return fmt.Errorf("somebody has written to %s while it was changed; what he has written is in %s", s.path, s.beside)
	}
	return disk.Remove(s.beside)
}

// namesStep gives files and folders in one folder other names. Nothing waits for that, and
// nothing is ever written over.
type namesStep struct{ fileRow }

func (s *namesStep) ready() error { _, err := s.pairs(); return err }

func (s *namesStep) pairs() ([][2]string, error) { return renames(s.path, s.old, s.new) }

func (s *namesStep) begun() (bool, error) {
	pairs, err := s.pairs()
	for _, p := range pairs {
		if !disk.Exists(p[0]) {
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
	return disk.RenameAll(pairs)
}

func (s *namesStep) undo() error {
	pairs, err := renames(s.path, s.new, s.old)
	if err != nil {
		return err
	}
	return disk.RenameAll(pairs)
}

func (s *namesStep) drop() error { return nil }

// linksStep takes links in one folder away and makes others.
type linksStep struct {
	fileRow
	back func() error // takes back what this run has done; nil for nothing
}

func (s *linksStep) ready() error {
	_, _, err := disk.Relinked(s.old, s.new)
	return err
}

func (s *linksStep) begun() (bool, error) {
	now, err := readCurrent(s.path, true)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil && !bytes.Equal(now, s.old), err
}

func (s *linksStep) do() error {
	gone, come, err := disk.Relinked(s.old, s.new)
	if err == nil {
		s.back, err = disk.Relink(s.path, gone, come)
	}
	if err != nil {
		return fmt.Errorf("change the links in %s: %w", s.path, err)
	}
	return nil
}

func (s *linksStep) undo() error {
	if s.back == nil {
		return nil
	}
	return s.back()
}

func (s *linksStep) drop() error { return nil }

// partStep puts a folder or a file in place as a whole, or takes it away, in two renames:
// what is there goes aside, what comes takes its place. What comes is made ready for all
// parts of an entry at once, by the stager.
type partStep struct {
	partRow
	spots
	contents *disk.Digests
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
		return disk.Exists(s.aside), nil
	}
	return !disk.Exists(s.fresh) && disk.Exists(s.path), nil
}

func (s *partStep) do() error {
	switch {
	case s.new == plan.EmptyFolder:
		return disk.MakeFolder(s.path)
	case s.old == plan.EmptyFolder:
		return nil // it goes when what was in it is in the ledger's keeping
	}
	if s.old != "" && !disk.Exists(s.aside) {
		if err := s.putAside(); err != nil {
			return fmt.Errorf("put %s aside: %w", s.path, err)
		}
	}
	if s.new != "" && disk.Exists(s.fresh) {
		if err := disk.RenameNew(s.fresh, s.path); err != nil {
			return fmt.Errorf("put %s in place: %w", s.path, err)
		}
	}
	if s.new != "" && !disk.Exists(s.path) {
		return fmt.Errorf("put %s in place: what was to come is gone", s.path)
	}
	return disk.SyncDir(filepath.Dir(s.path))
}

// putAside takes away what is there, and brings it back when it is not what the plan has
// found.
func (s *partStep) putAside() error {
	err := disk.RenameNew(s.path, s.aside)
	if s.late && errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil || s.late {
		return err
	}
	now, err := disk.DigestOf(s.contents, s.aside)
	if err == nil && now != s.old {
		err = fmt.Errorf("%w; look at the plan again", ErrStale)
	}
	if err != nil {
		return errors.Join(err, disk.RenameNew(s.aside, s.path))
	}
	return nil
}

func (s *partStep) undo() error {
	if s.new == plan.EmptyFolder || s.old == plan.EmptyFolder {
		return nil // what was made goes when the entry is forgotten
	}
	if s.new != "" && !disk.Exists(s.fresh) && disk.Exists(s.path) {
		if err := s.takeOut(); err != nil {
			return fmt.Errorf("take %s back: %w", s.path, err)
		}
	}
	if s.old != "" && disk.Exists(s.aside) {
		if err := disk.RenameNew(s.aside, s.path); err != nil {
			return err
		}
	}
	return disk.SyncDir(filepath.Dir(s.path))
}

// takeOut takes away what was put in place, and brings it back when somebody has written
// there since: it is looked at where nobody else finds it any more.
func (s *partStep) takeOut() error {
	if err := disk.RenameNew(s.path, s.fresh); err != nil {
		return err
	}
	now, err := disk.DigestOf(s.contents, s.fresh)
	if err == nil && now != s.new {
		err = ErrStale
	}
	if err != nil {
		return errors.Join(err, disk.RenameNew(s.fresh, s.path))
	}
	return nil
}

func (s *partStep) drop() error {
	if err := os.RemoveAll(s.fresh); !errors.Is(err, syscall.ENOTDIR) {
		return err
	}
	return nil
}
