package host

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"initium/internal/core/check"
	"initium/internal/core/rule"
)

// notesSchema keeps what the operator has written down, and what starts have
// taught.
const notesSchema = `
CREATE TABLE IF NOT EXISTS rule (
	id      INTEGER PRIMARY KEY,
	scope   TEXT NOT NULL, -- a server, or a dialect
	family  INTEGER NOT NULL, -- scope is a dialect
	kind    TEXT NOT NULL,
	mod     TEXT NOT NULL,
	other   TEXT NOT NULL,
	because TEXT NOT NULL,
	log     TEXT NOT NULL, -- the line that it was read from
	UNIQUE (scope, family, kind, mod, other)
);
CREATE TABLE IF NOT EXISTS accepted (
	server  TEXT NOT NULL,
	code    TEXT NOT NULL,
	mod     TEXT NOT NULL,
	message TEXT NOT NULL,
	because TEXT NOT NULL,
	at      INTEGER NOT NULL, -- Unix ms
	PRIMARY KEY (server, code, mod, message)
);
CREATE TABLE IF NOT EXISTS lesson (
	path   TEXT PRIMARY KEY, -- of the mod
	print  TEXT NOT NULL,    -- of its files
	around TEXT NOT NULL,    -- which mods it stood on
	said   TEXT NOT NULL,    -- what the log said
	at     INTEGER NOT NULL  -- Unix ms
);`

// Rules lists the rules for a server of a dialect: its own, then the family's.
func (l *Ledger) Rules(server, dialect string) (list []rule.Rule, err error) {
	rows, err := l.db.Query(`SELECT id, kind, mod, other, because, family, log FROM rule
		WHERE family = 0 AND scope = ? OR family = 1 AND scope = ? ORDER BY family, id`, server, dialect)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var r rule.Rule
		if err := rows.Scan(&r.Number, &r.Kind, &r.Mod, &r.Other, &r.Because, &r.Family, &r.Log); err != nil {
			return nil, err
		}
		list = append(list, r)
	}
	return list, rows.Err()
}

// PutRule writes a rule down for a server, or for a dialect when it is for the
// family. One that is there already gets the new reason.
func (l *Ledger) PutRule(scope string, r rule.Rule) error {
	if err := r.Check(); err != nil {
		return err
	}
	_, err := l.db.Exec(`INSERT INTO rule (scope, family, kind, mod, other, because, log) VALUES (?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET because = excluded.because, log = excluded.log`, scope, r.Family, r.Kind, r.Mod, r.Other, r.Because, r.Log)
	return err
}

// DropRule takes a rule back. The error says when there is none of that number
// for this server or dialect.
func (l *Ledger) DropRule(server, dialect string, number int64) error {
	result, err := l.db.Exec(`DELETE FROM rule WHERE id = ? AND (family = 0 AND scope = ? OR family = 1 AND scope = ?)`, number, server, dialect)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return fmt.Errorf("there is no rule %d for %s", number, server)
	}
	return nil
}

// Accept notes that the operator accepts a finding as it is.
func (l *Ledger) Accept(server string, a check.Accepted) error {
	_, err := l.db.Exec(`INSERT OR REPLACE INTO accepted VALUES (?, ?, ?, ?, ?, ?)`, server, a.Code, a.Mod, a.Message, a.Because, time.Now().UnixMilli())
	return err
}

// Unaccept forgets that findings of a code, about a mod or about none, were
// accepted. It returns how many there were.
func (l *Ledger) Unaccept(server, code, mod string) (int64, error) {
	result, err := l.db.Exec(`DELETE FROM accepted WHERE server = ? AND code = ? AND mod = ?`, server, code, mod)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// Accepted lists the findings that the operator accepts.
func (l *Ledger) Accepted(server string) (list []check.Accepted, err error) {
	rows, err := l.db.Query(`SELECT code, mod, message, because FROM accepted WHERE server = ?`, server)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var a check.Accepted
		if err := rows.Scan(&a.Code, &a.Mod, &a.Message, &a.Because); err != nil {
			return nil, err
		}
		list = append(list, a)
	}
	return list, rows.Err()
}

// Lesson is what a start taught about a mod: that it failed by its own fault.
type Lesson struct {
	Around string // which mods it stood on
	Said   string // what the log said
}

// Learn notes that the mod at a path failed by its own fault; a lesson that says
// nothing notes that it loads. It counts until the mod's files change.
func (l *Ledger) Learn(path string, lesson Lesson) error {
	if lesson.Said == "" {
		_, err := l.db.Exec(`DELETE FROM lesson WHERE path = ?`, path)
		return err
	}
	_, err := l.db.Exec(`INSERT OR REPLACE INTO lesson VALUES (?, ?, ?, ?, ?)`, path, filesPrint(path), lesson.Around, lesson.Said, time.Now().UnixMilli())
	return err
}

// Lessons lists what starts have taught about mods whose files have not changed
// since, by their paths.
func (l *Ledger) Lessons() (map[string]Lesson, error) {
	rows, err := l.db.Query(`SELECT path, print, around, said FROM lesson`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	lessons := map[string]Lesson{}
	for rows.Next() {
		var path, print string
		var lesson Lesson
		if err := rows.Scan(&path, &print, &lesson.Around, &lesson.Said); err != nil {
			return nil, err
		}
		if filesPrint(path) == print {
			lessons[path] = lesson
		}
	}
	return lessons, rows.Err()
}

// maxPrinted bounds how many files of a mod are looked at.
const maxPrinted = 20_000

// filesPrint tells the state of a mod's files by their names, sizes and times;
// nothing is read.
func filesPrint(path string) string {
	sum, seen := sha256.New(), 0
	filepath.WalkDir(path, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if seen++; seen > maxPrinted {
			return fs.SkipAll
		}
		if info, err := e.Info(); err == nil && !e.IsDir() {
			fmt.Fprintf(sum, "%s\x00%d\x00%d\n", name, info.Size(), info.ModTime().UnixNano())
		}
		return nil
	})
	return hex.EncodeToString(sum.Sum(nil))
}
