package host

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"

	"initium/internal/core/intake"
	"initium/internal/core/plan"
	"initium/internal/host/disk"
)

// Digests is what the ledger uses to see what is in folders.
func (l *Ledger) Digests() *disk.Digests { return l.digests }

// Release is what came when Initium put the mod at a path there last; ok is false
// when it did not.
func (l *Ledger) Release(path string) (items []plan.Item, ok bool, err error) {
	var base, digest string
	err = l.db.QueryRow(`SELECT part.base, part.new FROM part JOIN entry ON entry.id = part.entry
		WHERE path = ? AND state = 'done' ORDER BY entry DESC LIMIT 1`, path).Scan(&base, &digest)
	if errors.Is(err, sql.ErrNoRows) || err == nil && (base == "" || digest == "") {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	var packed []byte
	err = l.db.QueryRow(`SELECT items FROM release WHERE sum = ?`, base).Scan(&packed)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	r, err := zstd.NewReader(nil)
	if err != nil {
		return nil, false, err
	}
	defer r.Close()
	data, err := r.DecodeAll(packed, nil)
	if err != nil {
		return nil, false, fmt.Errorf("read what came to %s: %w", path, err)
	}
	return items, true, json.Unmarshal(data, &items)
}

// Owner tells whose a file of a server is: of the clean server, or of a mod that
// Initium put it there for.
func (l *Ledger) Owner(server, path string) (o intake.Owner, err error) {
	if err := l.db.QueryRow(`SELECT count(*) FROM clean WHERE server = ? AND path = ?`, server, path).Scan(&o.Clean); err != nil {
		return o, err
	}
	var digest string
	err = l.db.QueryRow(`SELECT mod, new FROM part JOIN entry ON entry.id = part.entry WHERE path = ? AND state = 'done' ORDER BY entry DESC LIMIT 1`, path).Scan(&o.Mod, &digest)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	if digest == "" {
		o.Mod = ""
	}
	return o, err
}

// BaselineFiles goes through the files that a clean server had, until yield has
// enough.
func (l *Ledger) BaselineFiles(server string, yield func(path string) bool) error {
	enough := errors.New("enough")
	err := l.each(func(rows *sql.Rows) error {
		var path string
		if err := rows.Scan(&path); err != nil {
			return err
		}
		if !yield(path) {
			return enough
		}
		return nil
	}, `SELECT path FROM clean WHERE server = ?`, server)
	if err == enough {
		err = nil
	}
	return err
}

func (l *Ledger) each(take func(*sql.Rows) error, query string, args ...any) error {
	rows, err := l.db.Query(query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := take(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Bounds of the record of a clean server.
const (
	maxRecorded  = 2_000_000 // files
	maxSummed    = 64 << 20  // bytes of a file whose sum is recorded
	maxAllSummed = 1 << 30   // and of all such files; the others are known by their size only
)

// TakeBaseline writes down what a server has, so that later it is known which
// files are its own. The folders in which mods are put are left out. It returns
// how many files there are.
func (l *Ledger) TakeBaseline(server, dir string, without []string) (files int, err error) {
	tx, err := l.db.Begin()
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	if _, err := tx.Exec(`DELETE FROM clean WHERE server = ?`, server); err != nil {
		return 0, err
	}
	insert, err := tx.Prepare(`INSERT INTO clean VALUES (?, ?, ?, ?)`)
	if err != nil {
		return 0, err
	}
	defer insert.Close()
	skip := map[string]bool{}
	for _, name := range without {
		skip[name] = true
	}
	put, err := puts(tx, server)
	if err != nil {
		return 0, err
	}
	summed := int64(0)
	err = filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
		switch {
		case err != nil && name == dir:
			return err
		case err != nil:
			return nil // what cannot be read is not overlapped either
		case skip[name] || put[name] || strings.HasPrefix(e.Name(), besidePrefix):
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		case !e.Type().IsRegular():
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return nil
		}
		sum := []byte{}
		if info.Size() <= maxSummed && summed+info.Size() <= maxAllSummed {
			summed += info.Size()
			if s, err := l.digests.Sum(name, info); err == nil {
				sum = s[:]
			}
		}
		if files++; files > maxRecorded {
			return fmt.Errorf("%s holds more than %d files", dir, maxRecorded)
		}
		_, err = insert.Exec(server, name, info.Size(), sum)
		return err
	})
	if err != nil {
		return 0, fmt.Errorf("record the clean server: %w", err)
	}
	return files, tx.Commit()
}

// puts are the paths at which something is that Initium has put there for mods.
func puts(tx *sql.Tx, server string) (map[string]bool, error) {
	rows, err := tx.Query(`SELECT path, new <> '' AND mod <> '' FROM part JOIN entry ON entry.id = part.entry WHERE state = 'done' AND server = ? ORDER BY entry, n`, server)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	there := map[string]bool{}
	for rows.Next() {
		var path string
		var is bool
		if err := rows.Scan(&path, &is); err != nil {
			return nil, err
		}
		there[path] = is
	}
	return there, rows.Err()
}

// Clean is how many files of the clean server are recorded, and those of them
// that are other files now, or gone.
func (l *Ledger) BaselineChanges(server string) (files int, changed []string, err error) {
	type row struct {
		path string
		size int64
		sum  []byte
	}
	var rows []row
	err = l.each(func(r *sql.Rows) error {
		var w row
		err := r.Scan(&w.path, &w.size, &w.sum)
		rows = append(rows, w)
		return err
	}, `SELECT path, size, sum FROM clean WHERE server = ? ORDER BY path`, server)
	if err != nil {
		return 0, nil, err
	}
	for _, w := range rows {
		items, err := l.digests.List(w.path)
		if err != nil || len(items) != 1 || items[0].Size != w.size || len(w.sum) > 0 && string(items[0].Sum[:]) != string(w.sum) {
			changed = append(changed, w.path)
		}
	}
	return len(rows), changed, nil
}
