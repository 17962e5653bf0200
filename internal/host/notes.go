package host

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"initium/internal/core/check"
	"initium/internal/core/plan"
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
CREATE TABLE IF NOT EXISTS entry_rule ( -- what entries do to the rules of their server
	entry   INTEGER NOT NULL,
	gone    INTEGER NOT NULL, -- it is taken back
	kind    TEXT NOT NULL,
	mod     TEXT NOT NULL,
	other   TEXT NOT NULL,
	because TEXT NOT NULL
);
CREATE INDEX IF NOT EXISTS entry_rule_entry ON entry_rule (entry);
CREATE TABLE IF NOT EXISTS accepted (
	server  TEXT NOT NULL,
	code    TEXT NOT NULL,
	mod     TEXT NOT NULL,
	message TEXT NOT NULL,
	because TEXT NOT NULL,
	at      INTEGER NOT NULL, -- Unix ms
	facts   TEXT NOT NULL DEFAULT '', -- a print of them; '' of what was accepted before version 3
	PRIMARY KEY (server, code, mod, message)
);
CREATE TABLE IF NOT EXISTS lesson (
	path   TEXT PRIMARY KEY, -- of the mod
	print  TEXT NOT NULL,    -- of its files
	around TEXT NOT NULL,    -- which mods it stood on
	said   TEXT NOT NULL,    -- what the log said
	at     INTEGER NOT NULL  -- Unix ms
);
CREATE TABLE IF NOT EXISTS expectation (
	id     INTEGER PRIMARY KEY,
	server TEXT NOT NULL,
	data   TEXT NOT NULL -- JSON
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
	n, err := result.RowsAffected()
	if err == nil && n == 0 {
		err = fmt.Errorf("%w %d for %s", ErrNoRule, number, server)
	}
	return err
}

// ErrNoRule is returned for the number of a rule that is not there.
var ErrNoRule = errors.New("there is no rule")

// beginRules notes the rules that an entry brings or takes back.
func beginRules(tx *sql.Tx, id int64, p *plan.Plan) error {
	for gone, rules := range map[bool][]rule.Rule{false: p.Rules, true: p.Unrules} {
		for _, r := range rules {
			if err := r.Check(); err != nil {
				return err
			}
			if _, err := tx.Exec(`INSERT INTO entry_rule VALUES (?, ?, ?, ?, ?, ?)`, id, gone, r.Kind, r.Mod, r.Other, r.Because); err != nil {
				return err
			}
		}
	}
	return nil
}

// doneRules carries out what an entry does to the rules of its server. A rule that the
// operator has written down himself meanwhile keeps his reason.
func doneRules(tx *sql.Tx, id int64) error {
	for _, query := range []string{
		`INSERT INTO rule (scope, family, kind, mod, other, because, log)
			SELECT entry.server, 0, kind, mod, other, because, '' FROM entry_rule JOIN entry ON entry.id = entry_rule.entry WHERE entry_rule.entry = ? AND NOT gone ON CONFLICT DO NOTHING`,
		`DELETE FROM rule WHERE family = 0 AND EXISTS (SELECT 1 FROM entry_rule AS its JOIN entry ON entry.id = its.entry
			WHERE its.entry = ? AND its.gone AND rule.scope = entry.server AND rule.kind = its.kind AND rule.mod = its.mod AND rule.other = its.other AND rule.because = its.because)`,
	} {
		if _, err := tx.Exec(query, id); err != nil {
			return err
		}
	}
	return nil
}

// rulesOf adds to a plan what an entry did to the rules.
func (l *Ledger) rulesOf(p *plan.Plan, e Entry) error {
	return l.each(func(rows *sql.Rows) error {
		var r rule.Rule
		var gone bool
		err := rows.Scan(&gone, &r.Kind, &r.Mod, &r.Other, &r.Because)
		if gone {
			p.Unrules = append(p.Unrules, r)
		} else {
			p.Rules = append(p.Rules, r)
		}
		return err
	}, `SELECT gone, kind, mod, other, because FROM entry_rule WHERE entry = ? ORDER BY rowid`, e.id)
}

// rulesBack adds to a plan what takes back what entries did to the rules; entries come
// the oldest first.
func (l *Ledger) rulesBack(p *plan.Plan, entries []Entry) error {
	first := map[rule.Rule]bool{} // by rule: whether it was there before the first of them that did anything to it
	var list []rule.Rule
	for _, e := range entries {
		err := l.each(func(rows *sql.Rows) error {
			var r rule.Rule
			var gone bool
			if err := rows.Scan(&gone, &r.Kind, &r.Mod, &r.Other, &r.Because); err != nil {
				return err
			}
			if _, ok := first[r]; !ok {
				first[r] = gone
				list = append(list, r)
			}
			return nil
		}, `SELECT gone, kind, mod, other, because FROM entry_rule WHERE entry = ? ORDER BY rowid`, e.id)
		if err != nil {
			return err
		}
	}
	if len(list) == 0 {
		return nil
	}
	now, err := l.Rules(entries[0].server, "")
	if err != nil {
		return err
	}
	for _, r := range list {
		there := slices.ContainsFunc(now, func(k rule.Rule) bool { return !k.Family && k.Same(r) && k.Because == r.Because })
		switch {
		case first[r] && !there:
			p.Rules = append(p.Rules, r)
		case !first[r] && there:
			p.Unrules = append(p.Unrules, r)
		}
	}
	return nil
}

// Accept notes that the operator accepts a finding as it is.
func (l *Ledger) Accept(server string, a check.Accepted) error {
	_, err := l.db.Exec(`INSERT OR REPLACE INTO accepted VALUES (?, ?, ?, ?, ?, ?, ?)`, server, a.Code, a.Mod, a.Message, a.Because, time.Now().UnixMilli(), a.Facts)
	return err
}

// Unaccept forgets that findings of a code, about a mod or about none, were
// accepted. It returns how many there were.
func (l *Ledger) Unaccept(server string, code check.Code, mod string) (int64, error) {
	result, err := l.db.Exec(`DELETE FROM accepted WHERE server = ? AND code = ? AND mod = ?`, server, code, mod)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// Accepted lists the findings that the operator accepts.
func (l *Ledger) Accepted(server string) (list []check.Accepted, err error) {
	rows, err := l.db.Query(`SELECT code, mod, facts, message, because FROM accepted WHERE server = ?`, server)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var a check.Accepted
		if err := rows.Scan(&a.Code, &a.Mod, &a.Facts, &a.Message, &a.Because); err != nil {
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
