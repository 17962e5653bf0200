package host

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"initium/internal/core/intake"
	"initium/internal/core/lineup"
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

// layer is what an entry put at a path: for which mod, and the digest of it, "" for nothing.
type layer struct{ mod, what, digest string }

// layers are what lies at a path, one over the other, the lowest being what was there before any entry. A row that
// brings an earlier state back takes off what was laid over that.
func layers(under []layer, row partRow) []layer {
	if len(under) == 0 {
		under = []layer{{digest: row.old}}
	}
	for i := len(under) - 1; i >= 0; i-- {
		if under[i].digest == row.new && (row.mod == "" || row.mod == under[i].mod || i < len(under)-1) {
			return under[:i+1]
		}
	}
	return append(under, layer{row.mod, row.what, row.new})
}

// Laid are the files that Initium has put among a server's own for one mod, and what lies below each. isMod tells
// whether a mod is on the server; a download that brought none counts as there until it is taken out.
func (l *Ledger) Laid(server, mod string, isMod func(mod string) bool) (list []intake.Laid, err error) {
	stacks := map[string][]layer{}
	last := map[string]int64{} // entry in which something was laid for each
	err = l.each(func(rows *sql.Rows) error {
		var p partRow
		var entry int64
		if err := rows.Scan(&entry, &p.path, &p.mod, &p.what, &p.old, &p.new); err != nil {
			return err
		}
		stacks[p.path] = layers(stacks[p.path], p)
		if p.new != "" {
			last[p.mod] = entry
		}
		return nil
	}, `SELECT entry, path, mod, what, part.old, part.new FROM part JOIN entry ON entry.id = part.entry
		WHERE server = ? AND state = 'done' AND path IN (SELECT path FROM part WHERE mod = ? AND what IN (?, ?))
		ORDER BY entry, n`, server, mod, plan.Laid, plan.LaidMap)
	if err != nil {
		return nil, err
	}
	out, err := l.takenOut(server)
	if err != nil {
		return nil, err
	}
	there := func(l layer) bool {
		return l.digest != "" && l.mod != mod && (l.mod == "" || isMod(l.mod) || last[l.mod] > out[l.mod])
	}
	for path, stack := range stacks {
		top := len(stack) - 1
		if stack[top].mod != mod || stack[top].digest == "" {
			if slices.ContainsFunc(stack, func(l layer) bool { return l.mod == mod && l.digest != "" }) && last[mod] > out[mod] {
				list = append(list, intake.Laid{Path: path, Over: stack[top].mod})
			}
			continue
		}
		one := intake.Laid{Path: path, What: stack[top].what, Digest: stack[top].digest, Below: stack[0].digest}
		for below := top - 1; below > 0; below-- {
			if there(stack[below]) {
				one.Below, one.Whose = stack[below].digest, stack[below].mod
				break
			}
		}
		one.Kept = one.Below == "" || disk.Exists(filepath.Join(l.home.keptDir(server), one.Below))
		list = append(list, one)
	}
	slices.SortFunc(list, func(a, b intake.Laid) int { return strings.Compare(a.Path, b.Path) })
	return list, nil
}

// takenOut tells in which entry each mod was taken out last.
func (l *Ledger) takenOut(server string) (map[string]int64, error) {
	out := map[string]int64{}
	err := l.each(func(rows *sql.Rows) error {
		var entry int64
		var data []byte
		if err := rows.Scan(&entry, &data); err != nil {
			return err
		}
		var changes []lineup.Change
		if err := json.Unmarshal(data, &changes); err != nil {
			return fmt.Errorf("read what entry %d did: %w", entry, err)
		}
		for _, c := range changes {
			if c.Op == lineup.OpRemove {
				out[c.Mod] = entry
			}
		}
		return nil
	}, `SELECT id, changes FROM entry WHERE server = ? AND state = 'done' ORDER BY id`, server)
	return out, err
}

// Over are the names for which Initium has put files among a server's own.
func (l *Ledger) Over(server string) (names []string, err error) {
	err = l.each(func(rows *sql.Rows) error {
		var name string
		err := rows.Scan(&name)
		names = append(names, name)
		return err
	}, `SELECT DISTINCT mod FROM part JOIN entry ON entry.id = part.entry WHERE server = ? AND state = 'done' AND what IN (?, ?) ORDER BY mod`, server, plan.Laid, plan.LaidMap)
	return names, err
}

// Made tells whether Initium has made a folder, be it that it was there again before.
func (l *Ledger) Made(server, path string) (made bool, err error) {
	err = l.db.QueryRow(`SELECT count(*) > 0 FROM part JOIN entry ON entry.id = part.entry WHERE server = ? AND path = ? AND part.new = ? AND state = 'done'`, server, path, plan.EmptyFolder).Scan(&made)
	return made, err
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
