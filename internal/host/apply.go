package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"initium/internal/core/connection"
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
		if connection.IsPlace(f.Path) {
			continue // it is looked at right before it is changed
		}
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
	steps, err := l.steps(id, false)
	if err != nil {
		return errors.Join(err, l.leave(id))
	}
	if err := l.ready(ctx, server, id, steps, p, fetch); err != nil {
		return errors.Join(fmt.Errorf("%w; nothing was changed", err), l.forget(id, steps))
	}
	for i, s := range steps {
		if err := s.do(); err != nil {
			return l.takeBack(id, steps, i, err)
		}
	}
	err = drop(steps)
	if stays := (*fs.PathError)(nil); errors.As(err, &stays) {
		return fmt.Errorf("it was done; but what waited beside its place cannot be taken away, which the next run tries again: %w", err)
	}
	return errors.Join(err, l.done(id), l.tidy(server))
}

// ready puts everything that comes beside its place.
func (l *Ledger) ready(ctx context.Context, server string, id int64, steps []step, p *plan.Plan, fetch *Fetch) error {
	s := &preparer{ctx: ctx, ledger: l, server: server, fetch: fetch}
	for i := range steps {
		if part, ok := steps[i].(*partStep); ok {
			s.fresh = append(s.fresh, part.fresh)
		}
	}
	if err := s.prepare(p.Parts); err != nil {
		if errors.Is(err, context.Canceled) {
			return fmt.Errorf("stopped (%w)", context.Canceled)
		}
		return err
	}
	for _, s := range steps {
		if err := s.ready(); err != nil {
			return err
		}
	}
	return nil
}

// takeBack undoes the steps of an entry up to the one that has failed. What cannot be
// undone is left as it was begun, and completed by the next run.
func (l *Ledger) takeBack(id int64, steps []step, failed int, why error) error {
	for i := failed; i >= 0; i-- {
		if err := steps[i].undo(); err != nil {
			return errors.Join(why, fmt.Errorf("what was done of it could not be taken back, and will be completed: %w", err))
		}
	}
	return errors.Join(fmt.Errorf("%w; nothing was changed", why), l.forget(id, steps))
}

// drop takes away what waits beside the places of steps.
func drop(steps []step) (err error) {
	for _, s := range slices.Backward(steps) {
		err = errors.Join(err, s.drop())
	}
	return err
}

// forget takes back an entry of which nothing has been put in place.
func (l *Ledger) forget(id int64, steps []step) error {
	if err := drop(steps); err != nil {
		return err // the next run tries again
	}
	for _, s := range slices.Backward(steps) {
		if p, ok := s.(*partStep); ok && p.new == plan.EmptyFolder {
			os.Remove(p.path) // it stays when something is in it
		}
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
func (l *Ledger) lock(server string, wait time.Duration) (held locks, err error) {
	name := filepath.Join(l.home.serverDir(server), "change.lock")
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return nil, err
	}
	for end := time.Now().Add(wait); ; time.Sleep(tick) {
		held, err := l.tryLocks(server, name)
		switch {
		case err == nil:
			return held, nil
		case !errors.Is(err, syscall.EWOULDBLOCK):
			return nil, err
		case time.Now().After(end):
			return nil, ErrBusy
		}
	}
}

// locks are held together.
type locks []*os.File

// Close lets go of all of them.
func (held locks) Close() (err error) {
	for _, f := range held {
		err = errors.Join(err, f.Close())
	}
	return err
}

// tryLocks locks a server in this home, and its folder, which other homes and users may
// have as a server too.
func (l *Ledger) tryLocks(server, name string) (held locks, err error) {
	own, err := tryLock(name)
	if err != nil {
		return nil, err
	}
	held = locks{own}
	record, err := l.home.Record(server)
	if err != nil {
		return held, nil // a server that is about to be adopted, or a copy
	}
	folder, err := os.Open(record.Dir)
	if err != nil {
		return held, nil // what cannot be opened is told by whatever is done next
	}
	err = syscall.Flock(int(folder.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	if errors.Is(err, syscall.EWOULDBLOCK) {
		return nil, errors.Join(syscall.EWOULDBLOCK, folder.Close(), held.Close())
	}
	return append(held, folder), nil // there are file systems that cannot lock a folder
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

// Hold keeps others from changing a server until it is closed, with nothing left half done. The error is ErrBusy when
// somebody is at it for long.
func (l *Ledger) Hold(server string) (io.Closer, error) {
	held, err := l.lock(server, patient)
	if err != nil {
		return nil, err
	}
	if _, err := l.recover(server); err != nil {
		return nil, errors.Join(err, held.Close())
	}
	return held, nil
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
		what, err := l.conclude(b.id)
		if err != nil {
			return "", fmt.Errorf("a change that was cut off (%s) could not be brought to an end: %w", b.why, err)
		}
		words = append(words, fmt.Sprintf("a change that was cut off (%s) was %s", b.why, what))
	}
	if err := l.tidy(server); err != nil {
		return "", err
	}
	return strings.Join(words, "; "), nil
}

// conclude brings an entry that was begun to its end, when anything of it was done already,
// and else back.
func (l *Ledger) conclude(id int64) (what string, err error) {
	steps, err := l.steps(id, true)
	if err != nil {
		return "", err
	}
	begun := false
	for _, s := range steps {
		did, err := s.begun()
		if err != nil {
			return "", err
		}
		begun = begun || did
	}
	if !begun {
		return "taken back; nothing had been changed yet", l.forget(id, steps)
	}
	for _, s := range steps {
		// What is neither as it was nor as it was to be has been changed by somebody else
		// meanwhile; his bytes stay.
		if err := s.do(); err != nil && !errors.Is(err, ErrStale) {
			return "", err
		}
	}
	what = "completed"
	for _, s := range steps {
		t, ok := s.(*tablesStep)
		if ok && t.kept != "" {
			what += "; what the database held halfway is in " + t.kept
		}
		if ok && t.failed != nil {
			what += fmt.Sprintf("; its script failed (%v), and the database is as it was before", t.failed)
		}
	}
	return what, errors.Join(drop(steps), l.done(id))
}
