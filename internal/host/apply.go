package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"initium/internal/core/plan"
)

// ErrStale is returned by Apply when a file is not as the plan found it.
var ErrStale = errors.New("the file has changed since the plan was made")

// ErrBusy is returned when another Initium is changing the same server.
var ErrBusy = errors.New("another Initium is changing this server right now")

// Apply carries a plan out: all of it or nothing. What will be done is written
// into the ledger first, with the old bytes; then every new file is written
// beside its place and synced; only then they are moved into place, one after
// the other. When this is cut off at any moment, the next Recover completes it or
// takes it back. Owner and mode of files are kept, and links stay links.
//
// Files and folders that come from elsewhere are fetched before anything is
// moved; ctx stops that, and then nothing was changed.
func (l *Ledger) Apply(ctx context.Context, server, why string, p *plan.Plan, fetch *Fetch) (err error) {
	lock, err := l.lock(server, patient)
	if err != nil {
		return err
	}
	defer lock.Close()
	if _, err := l.recover(server); err != nil {
		return err
	}
	for _, f := range p.Files {
		if err := unchanged(f); err != nil {
			return err
		}
	}
	if err := l.checkParts(server, p); err != nil {
		return err
	}
	id, err := l.begin(server, why, p)
	if err != nil {
		return fmt.Errorf("write the ledger: %w; nothing was changed", err)
	}
	rows, err := l.rows(id)
	if err != nil {
		return err
	}
	parts, err := l.parts(id)
	if err != nil {
		return err
	}
	s := &stager{ctx: ctx, ledger: l, server: server, id: id, fetch: fetch}
	if err := s.stage(p.Parts); err != nil {
		if errors.Is(err, context.Canceled) {
			err = fmt.Errorf("stopped (%w)", context.Canceled)
		}
		return errors.Join(fmt.Errorf("%w; nothing was changed", err), l.forget(id, parts))
	}
	staged, err := stage(id, rows)
	if err != nil {
		return errors.Join(fmt.Errorf("%w; nothing was changed", err), l.forget(id, parts))
	}
	for i := range parts {
		if err := parts[i].move(id); err != nil {
			for _, s := range staged {
				s.drop()
			}
			if !slices.ContainsFunc(parts, func(p partRow) bool { return p.moved(id) }) {
				return errors.Join(fmt.Errorf("%w; nothing was changed", err), l.forget(id, parts))
			}
			_, again := l.recover(server)
			return errors.Join(err, again)
		}
	}
	for i, s := range staged {
		if err := s.move(); err != nil {
			for _, rest := range staged[i:] {
				rest.drop()
			}
			if i == 0 && len(parts) == 0 {
				return errors.Join(fmt.Errorf("%w; nothing was changed", err), l.leave(id))
			}
			_, again := l.recover(server)
			return errors.Join(err, again)
		}
	}
	return errors.Join(l.done(id), l.tidy(server))
}

// forget takes back an entry of which nothing has been put in place.
func (l *Ledger) forget(id int64, parts []partRow) error {
	var err error
	for _, p := range slices.Backward(parts) { // folders after what was to go into them
		err = errors.Join(err, p.drop(id))
	}
	if err != nil {
		return err // the next run tries again
	}
	return l.leave(id)
}

// How long one Initium waits for another that is changing the same server: to
// change something too, or only to see whether something was left half done.
const (
	patient = 3 * time.Second
	brief   = 300 * time.Millisecond
)

// lock keeps other Initiums from changing the same server.
func (l *Ledger) lock(server string, wait time.Duration) (*os.File, error) {
	name := filepath.Join(l.home.serverDir(server), "change.lock")
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return nil, err
	}
	for end := time.Now().Add(wait); ; time.Sleep(tick) {
		f, err := tryLock(name)
		switch {
		case err == nil:
			return f, nil
		case !errors.Is(err, syscall.EWOULDBLOCK):
			return nil, err
		case time.Now().After(end):
			return nil, ErrBusy
		}
	}
}

// Idle waits until nobody is changing a server; the error is ErrBusy when somebody
// still is after a while.
func (l *Ledger) Idle(server string) error {
	lock, err := l.lock(server, patient)
	if err != nil {
		return err
	}
	return lock.Close()
}

// unchanged looks that a file is still as the plan found it.
func unchanged(f plan.File) error {
	now, err := readCurrent(f.Path, f.List)
	switch {
	case f.New && errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return fmt.Errorf("change %s: %w", f.Path, err)
	case f.New || !bytes.Equal(now, f.Old):
		return fmt.Errorf("change %s: %w; look at the plan again", f.Path, ErrStale)
	}
	return nil
}

// stagedFile is a new file beside the place that it will be moved into.
type stagedFile struct {
	beside, place string
	gone          bool        // the place is to be empty
	renames       [][2]string // for a folder: what gets another name in it
	list          bool
}

// besideName is where a new file waits; recover knows it again.
func besideName(place string, id int64, n int) string {
	return filepath.Join(filepath.Dir(place), fmt.Sprintf(".initium-%d-%d", id, n))
}

// stage writes all new files beside their places. On an error it leaves none.
func stage(id int64, rows []fileRow) (list []stagedFile, err error) {
	defer func() {
		if err != nil {
			for _, s := range list {
				s.drop()
			}
		}
	}()
	for n, f := range rows {
		place, err := destination(f.path)
		if err != nil {
			return list, fmt.Errorf("change %s: %w", f.path, err)
		}
		s := stagedFile{beside: besideName(place, id, n), place: place, gone: f.gone, list: f.list}
		if f.list {
			if s.renames, err = renames(place, f.old, f.new); err != nil {
				return list, err
			}
		}
		list = append(list, s)
		if f.gone || f.list {
			continue
		}
		if err := writeBeside(s, f.new); err != nil {
			return list, fmt.Errorf("change %s: %w", f.path, err)
		}
	}
	return list, nil
}

// destination follows a symbolic link, which stays, to the file that is changed.
func destination(name string) (string, error) {
	place, err := filepath.EvalSymlinks(name)
	if errors.Is(err, fs.ErrNotExist) {
		if info, err := os.Lstat(name); err == nil && info.Mode()&fs.ModeSymlink != 0 {
			return "", fmt.Errorf("it is a link to a file that is not there")
		}
		return name, nil
	}
	return place, err
}

// writeBeside writes a new file with the mode and owner of the one that it will
// take the place of.
func writeBeside(s stagedFile, data []byte) error {
	mode := fs.FileMode(0o644)
	info, err := os.Stat(s.place)
	if err == nil {
		mode = info.Mode().Perm()
		if mode&0o200 == 0 {
			return fmt.Errorf("it is read-only: %w", fs.ErrPermission)
		}
	}
	if err := os.MkdirAll(filepath.Dir(s.beside), 0o755); err != nil {
		return err
	}
	f, err := os.OpenFile(s.beside, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Chmod(mode)
	}
	if info != nil && err == nil {
		if owner, ok := info.Sys().(*syscall.Stat_t); ok && (int(owner.Uid) != os.Getuid() || int(owner.Gid) != os.Getgid()) {
			err = f.Chown(int(owner.Uid), int(owner.Gid))
		}
	}
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// move puts a staged file in its place.
func (s stagedFile) move() error {
	if s.list {
		return renameAll(s.renames)
	}
	if s.gone {
		if err := os.Remove(s.place); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	} else if err := os.Rename(s.beside, s.place); err != nil {
		return err
	}
	return syncDir(filepath.Dir(s.place))
}

func (s stagedFile) drop() { os.Remove(s.beside) }

// Recover completes or takes back what an earlier run left half done, and says
// which in words; "" when there was nothing.
func (l *Ledger) Recover(server string) (said string, err error) {
	var pending int
	if err := l.db.QueryRow(`SELECT (SELECT count(*) FROM entry WHERE server = ?1 AND state = 'begun') +
		(SELECT count(*) FROM part JOIN entry ON entry.id = part.entry WHERE entry.server = ?1 AND part.tidy = 1)`, server).Scan(&pending); err != nil || pending == 0 {
		return "", err
	}
	lock, err := l.lock(server, brief)
	if errors.Is(err, ErrBusy) {
		return "", nil // nothing is left half done: somebody is at it, perhaps copying for minutes
	}
	if err != nil {
		return "", err
	}
	defer lock.Close()
	return l.recover(server)
}

func (l *Ledger) recover(server string) (said string, err error) {
	rows, err := l.db.Query(`SELECT id, why FROM entry WHERE server = ? AND state = 'begun' ORDER BY id`, server)
	if err != nil {
		return "", err
	}
	type begun struct {
		id  int64
		why string
	}
	var list []begun
	for rows.Next() {
		var b begun
		if err := rows.Scan(&b.id, &b.why); err != nil {
			rows.Close()
			return "", err
		}
		list = append(list, b)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return "", err
	}
	var words []string
	for _, b := range list {
		what, err := l.settle(b.id)
		if err != nil {
			return "", fmt.Errorf("a change that was cut off (%s) could not be settled: %w", b.why, err)
		}
		words = append(words, fmt.Sprintf("a change that was cut off (%s) was %s", b.why, what))
	}
	if err := l.tidy(server); err != nil {
		return "", err
	}
	return strings.Join(words, "; "), nil
}

// settle brings an entry that was begun to its end, when it had changed any file
// already, and else back.
func (l *Ledger) settle(id int64) (what string, err error) {
	rows, err := l.rows(id)
	if err != nil {
		return "", err
	}
	parts, err := l.parts(id)
	if err != nil {
		return "", err
	}
	changed := 0
	for i := range parts {
		if parts[i].moved(id) {
			changed++
		}
	}
	for _, f := range rows {
		place, err := destination(f.path)
		if err != nil {
			return "", err
		}
		if f.list {
			if done, err := anyRenamed(f, place); err != nil {
				return "", err
			} else if done {
				changed++
			}
			continue
		}
		now, err := os.ReadFile(place)
		missing := errors.Is(err, fs.ErrNotExist)
		if err != nil && !missing {
			return "", err
		}
		if missing && f.gone || !missing && !f.gone && bytes.Equal(now, f.new) {
			changed++
		}
	}
	if changed == 0 {
		for n, f := range rows {
			if place, err := destination(f.path); err == nil {
				os.Remove(besideName(place, id, n))
			}
		}
		return "taken back; nothing had been changed yet", l.forget(id, parts)
	}
	for i := range parts {
		if err := parts[i].move(id); err != nil {
			return "", err
		}
	}
	for n, f := range rows {
		place, err := destination(f.path)
		if err != nil {
			return "", err
		}
		if f.list {
			pairs, err := renames(place, f.old, f.new)
			if err == nil {
				err = renameAll(pairs)
			}
			if err != nil {
				return "", err
			}
			continue
		}
		now, err := os.ReadFile(place)
		missing := errors.Is(err, fs.ErrNotExist)
		s := stagedFile{beside: besideName(place, id, n), place: place, gone: f.gone}
		// A file that is neither as it was nor as it was to be has been changed by
		// somebody else meanwhile; his bytes stay.
		if missing && f.fresh || !missing && bytes.Equal(now, f.old) && !bytes.Equal(f.old, f.new) {
			if !f.gone {
				if err := writeBeside(s, f.new); err != nil {
					return "", err
				}
			}
			if err := s.move(); err != nil {
				return "", err
			}
		}
		s.drop()
	}
	return "completed", l.done(id)
}

// anyRenamed tells whether anything in a folder has its new name already.
func anyRenamed(f fileRow, dir string) (bool, error) {
	pairs, err := renames(dir, f.old, f.new)
	if err != nil {
		return false, err
	}
	for _, p := range pairs {
		if _, err := os.Lstat(p[0]); errors.Is(err, fs.ErrNotExist) {
			return true, nil
		}
	}
	return false, nil
}
