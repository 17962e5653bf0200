package host

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"

	"initium/internal/core/plan"
)

// A part is put in place in two steps, each one rename: what is there goes aside,
// what comes takes its place. Which of them were made can be seen from the names
// that are there, so that a change that was cut off can be completed.

func exists(name string) bool {
	_, err := os.Lstat(name)
	return err == nil
}

// moved tells whether a part was begun to be put in its place.
func (p *partRow) moved(id int64) bool {
	if p.new == plan.EmptyFolder || p.old == plan.EmptyFolder {
		return false
	}
	fresh, old := partNames(p.path, id, p.n)
	if p.old != "" {
		return exists(old)
	}
	return !exists(fresh) && exists(p.path)
}

// move puts a part in its place, or completes that.
func (p *partRow) move(id int64) error {
	switch {
	case p.new == plan.EmptyFolder:
		return makeFolder(p.path)
	case p.old == plan.EmptyFolder:
		return nil // it goes when what was in it is in the ledger's keeping
	}
	fresh, old := partNames(p.path, id, p.n)
	if p.old != "" && !exists(old) {
		if err := os.Rename(p.path, old); err != nil {
			return fmt.Errorf("put %s aside: %w", p.path, err)
		}
	}
	if p.new != "" && exists(fresh) {
		if err := renameNew(fresh, p.path); err != nil {
			return fmt.Errorf("put %s in place: %w", p.path, err)
		}
	}
	if p.new != "" && !exists(p.path) {
		return fmt.Errorf("put %s in place: what was to come is gone", p.path)
	}
	return syncDir(filepath.Dir(p.path))
}

// errInTheWay is returned when somebody else has put something where a part is to be.
var errInTheWay = errors.New("something else has been put there meanwhile; move it away and try again")

// renameNew gives a file or folder a name that nothing has yet.
func renameNew(from, to string) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) { // there are file systems that cannot look and rename at once
		if err = unix.EEXIST; !exists(to) {
			err = os.Rename(from, to)
		}
	}
	if errors.Is(err, unix.EEXIST) {
		return errInTheWay
	}
	return err
}

// drop takes away what waits beside a part's place.
func (p *partRow) drop(id int64) error {
	if p.new == plan.EmptyFolder {
		os.Remove(p.path) // it stays when something is in it
		return nil
	}
	fresh, _ := partNames(p.path, id, p.n)
	if err := os.RemoveAll(fresh); !errors.Is(err, syscall.ENOTDIR) {
		return err
	}
	return nil
}

// tidy brings what a done entry has put aside into the ledger's keeping.
func (l *Ledger) tidy(server string) error {
	rows, err := l.db.Query(`SELECT part.entry, part.n, part.path, part.old FROM part JOIN entry ON entry.id = part.entry
		WHERE entry.server = ? AND entry.state = 'done' AND part.tidy = 1 ORDER BY part.entry, part.n`, server)
	if err != nil {
		return err
	}
	type left struct {
		id int64
		partRow
	}
	var list []left
	for rows.Next() {
		var p left
		if err := rows.Scan(&p.id, &p.n, &p.path, &p.old); err != nil {
			rows.Close()
			return err
		}
		list = append(list, p)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, p := range list {
		if p.old == plan.EmptyFolder {
			os.Remove(p.path) // it stays when something is in it
		}
		_, old := partNames(p.path, p.id, p.n)
		if err := l.keep(server, old, p.old); err != nil {
			return fmt.Errorf("keep what was at %s: %w", p.path, err)
		}
		if _, err := l.db.Exec(`UPDATE part SET tidy = 0 WHERE entry = ? AND n = ?`, p.id, p.n); err != nil {
			return err
		}
	}
	return nil
}

// keep brings a file or folder into the ledger's keeping, under its digest.
func (l *Ledger) keep(server, from, digest string) error {
	dir := l.home.keptDir(server)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	to := filepath.Join(dir, digest)
	switch {
	case !exists(from):
		return nil // it was brought there before the ledger could write it down
	case exists(to):
		return os.RemoveAll(from)
	}
	err := os.Rename(from, to)
	if !errors.Is(err, syscall.EXDEV) {
		return err
	}
	beside := to + ".copy"
	if err := os.RemoveAll(beside); err != nil {
		return err
	}
	if err := copyTree(context.Background(), from, beside); err != nil {
		return err
	}
	if err := errors.Join(syncAll(dir), os.Rename(beside, to), syncDir(dir)); err != nil {
		return err
	}
	return os.RemoveAll(from)
}

// returnParts are the parts of the way back over entries: what was at each path
// before the first of them.
func (l *Ledger) returnParts(entries []Entry) (list []returned, err error) {
	at := map[string]int{}
	for _, e := range entries {
		parts, err := l.parts(e.id)
		if err != nil {
			return nil, err
		}
		for _, p := range parts {
			if i, ok := at[p.path]; ok {
				list[i].last = p.new
				continue
			}
			if p.new == plan.EmptyFolder {
				p.new, p.old = "", plan.EmptyFolder
			}
			at[p.path] = len(list)
			list = append(list, returned{partRow: p, last: p.new})
		}
	}
	return list, nil
}

// returned is a path that goes back to what it was before a part.
type returned struct {
	partRow
	last string // the digest that the newest entry left there
}

// baseOf is the release that a state of a path was made from, as far as it is
// known.
func (l *Ledger) baseOf(path, digest string) (base string, err error) {
	err = l.db.QueryRow(`SELECT base FROM part WHERE path = ? AND new = ? ORDER BY entry DESC LIMIT 1`, path, digest).Scan(&base)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return base, err
}

// Forget frees the disk of what entries up to a number took away. How things stood
// before that entry cannot be returned to then, where files came or went as a
// whole. It returns how many bytes were freed.
func (l *Ledger) Forget(server string, upTo int) (freed int64, err error) {
	lock, err := l.lock(server, patient)
	if err != nil {
		return 0, err
	}
	defer lock.Close()
	if _, err := l.recover(server); err != nil {
		return 0, err
	}
	wanted := map[string]bool{}
	err = l.each(func(rows *sql.Rows) error {
		var digest string
		err := rows.Scan(&digest)
		wanted[digest] = true
		return err
	}, `SELECT old FROM part JOIN entry ON entry.id = part.entry WHERE server = ? AND number > ?`, server, upTo)
	if err != nil {
		return 0, err
	}
	dir := l.home.keptDir(server)
	kept, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	for _, e := range kept {
		if wanted[e.Name()] {
			continue
		}
		full := filepath.Join(dir, e.Name())
		items, err := l.contents.List(full)
		if err != nil {
			return freed, err
		}
		p := plan.Part{Items: items}
		_, bytes := p.Size()
		if err := os.RemoveAll(full); err != nil {
			return freed, err
		}
		freed += bytes
	}
	return freed, nil
}
