package host

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"initium/internal/core/plan"
	"initium/internal/host/disk"
)

// tidy brings what a done entry has put aside into the ledger's keeping.
func (l *Ledger) tidy(server string) error {
	rows, err := l.db.Query(`SELECT part.entry, entry.mark, part.n, part.path, part.old FROM part JOIN entry ON entry.id = part.entry
		WHERE entry.server = ? AND entry.state = 'done' AND part.tidy = 1 ORDER BY part.entry, part.n`, server)
	if err != nil {
		return err
	}
	type left struct {
		id   int64
		mark string
		partRow
	}
	var list []left
	for rows.Next() {
		var p left
		if err := rows.Scan(&p.id, &p.mark, &p.n, &p.path, &p.old); err != nil {
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
		digest, err := l.store(server, spotsOf(p.path, p.mark, p.n).aside, p.old)
		if err != nil {
			return fmt.Errorf("keep what was at %s: %w", p.path, err)
		}
		if _, err := l.db.Exec(`UPDATE part SET tidy = 0, old = ? WHERE entry = ? AND n = ?`, digest, p.id, p.n); err != nil {
			return err
		}
	}
	return nil
}

// store brings a file or folder into the ledger's keeping, under the digest of what is
// really in it now; expected is the one that the plan has found. Nothing is taken away that
// is not in the ledger's keeping with the same content.
func (l *Ledger) store(server, from, expected string) (digest string, err error) {
	dir := l.home.keptDir(server)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	digest, err = disk.DigestOf(l.digests, from)
	if err != nil {
		return "", err
	}
	if digest == "" {
		return expected, nil // it was brought there before the ledger could write it down
	}
	to := filepath.Join(dir, digest)
	if disk.Exists(to) {
		there, err := disk.DigestOf(l.digests, to)
		if err != nil {
			return "", err
		}
		if there == digest {
			return digest, os.RemoveAll(from)
		}
		if err := os.Rename(to, to+".damaged-"+rand.Text()); err != nil { // whatever has become of it stays too
			return "", err
		}
	}
	if err = os.Rename(from, to); !errors.Is(err, syscall.EXDEV) {
		return digest, err
	}
	beside := to + ".copy"
	if err := os.RemoveAll(beside); err != nil {
		return "", err
	}
	if err := disk.CopyFolder(context.Background(), from, beside); err != nil {
		return "", err
	}
	if copied, err := disk.DigestOf(l.digests, beside); err != nil || copied != digest {
		return "", errors.Join(err, fmt.Errorf("%s was written to meanwhile", from))
	}
	return digest, errors.Join(disk.SyncAll(dir), os.Rename(beside, to), disk.SyncDir(dir), os.RemoveAll(from))
}

// returnParts are the parts of the way back over what entries did: what was at each path
// before the first of them.
func returnParts(deeds []deed) (list []returned) {
	at := map[string]int{}
	for _, d := range deeds {
		for _, p := range d.parts {
			if i, ok := at[p.path]; ok {
				list[i].last = p.new
				continue
			}
			r := returned{partRow: p, last: p.new, comes: p.old == plan.EmptyFolder}
			if p.new == plan.EmptyFolder {
				r.new, r.old = "", plan.EmptyFolder
			}
			at[p.path] = len(list)
			list = append(list, r)
		}
	}
	return list
}

// returned is a path that goes back to what it was before a part.
type returned struct {
	partRow
	last  string // the digest that the newest entry left there
	comes bool   // it is a folder that was taken away, and comes back
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
		items, err := l.digests.List(full)
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
