package host

import (
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the database driver

	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
	"initium/internal/host/disk"
)

// Ledger keeps every applied plan with the bytes before and after, every start,
// and what is staged, in one SQLite file in Initium's home.
type Ledger struct {
	home    Home
	db      *sql.DB
	digests *disk.Digests

	connector Connector // nil where no database is changed
}

const schema = `
CREATE TABLE IF NOT EXISTS entry (
	id      INTEGER PRIMARY KEY,
	server  TEXT NOT NULL,
	number  INTEGER NOT NULL,
	at      INTEGER NOT NULL, -- Unix ms
	why     TEXT NOT NULL,
	changes TEXT NOT NULL,    -- JSON
	state   TEXT NOT NULL,    -- begun, done, or left: begun, and taken back before anything was changed
	parked  TEXT NOT NULL,    -- JSON, as it is afterwards
	mark    TEXT NOT NULL,    -- is in the names of all that it puts beside its places
	UNIQUE (server, number)
);
CREATE TABLE IF NOT EXISTS file (
	entry INTEGER NOT NULL REFERENCES entry(id),
	path  TEXT NOT NULL,
	fresh INTEGER NOT NULL, -- there was no such file before
	gone  INTEGER NOT NULL, -- there is none afterwards
	list  INTEGER NOT NULL, -- path is a folder, old and new are its listings
	old   BLOB NOT NULL,
	new   BLOB NOT NULL
);
CREATE TABLE IF NOT EXISTS part (
	entry INTEGER NOT NULL REFERENCES entry(id),
	n     INTEGER NOT NULL,
	path  TEXT NOT NULL,
	mod   TEXT NOT NULL,
	what  TEXT NOT NULL,
	old   TEXT NOT NULL, -- the digest of what was there, "" for nothing
	new   TEXT NOT NULL,
	base  TEXT NOT NULL, -- of the release as it came
	tidy  INTEGER NOT NULL, -- what was there still lies beside
	PRIMARY KEY (entry, n)
);
CREATE INDEX IF NOT EXISTS part_path ON part (path);
CREATE TABLE IF NOT EXISTS release (
	sum   TEXT PRIMARY KEY,
	items BLOB NOT NULL -- JSON, packed with zstd
);
CREATE TABLE IF NOT EXISTS clean ( -- what servers had before any mod
	server TEXT NOT NULL,
	path   TEXT NOT NULL,
	size   INTEGER NOT NULL,
	sum    BLOB NOT NULL, -- SHA-256; empty for files that are too large or change all the time
	PRIMARY KEY (server, path)
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS start (
	server  TEXT NOT NULL,
	number  INTEGER NOT NULL,
	at      INTEGER NOT NULL,
	verdict TEXT NOT NULL,
	entry   INTEGER NOT NULL, -- number of the newest entry then, 0 for none
	PRIMARY KEY (server, number)
);
CREATE TABLE IF NOT EXISTS staged (
	id     INTEGER PRIMARY KEY,
	server TEXT NOT NULL,
	change TEXT NOT NULL -- JSON
);`

func (h Home) ledgerFile() string { return filepath.Join(h.Dir, "ledger.db") }

func openDatabase(name string) (*sql.DB, error) {
	place := url.URL{Path: name} // a home may be called anything
	db, err := sql.Open("sqlite", "file:"+place.EscapedPath()+"?_pragma=busy_timeout(10000)&_pragma=synchronous(full)&_txlock=immediate")
	if err == nil {
		db.SetMaxOpenConns(1)
	}
	return db, err
}

// OpenLedger opens the ledger of a home, and makes it when it is not there.
func (h Home) OpenLedger() (*Ledger, error) {
	if err := os.MkdirAll(h.Dir, 0o700); err != nil {
		return nil, err
	}
	name := h.ledgerFile()
	if emptied(name) {
		return nil, fmt.Errorf("open the ledger %s: it has nothing in it: %w", name, ErrDamaged)
	}
	db, err := openDatabase(name)
	if err != nil {
		return nil, err
	}
	if err := prepare(db); err != nil {
		db.Close()
		if Damaged(err) {
			err = fmt.Errorf("%w: %w", err, ErrDamaged)
		}
		return nil, fmt.Errorf("open the ledger %s: %w", name, err)
	}
	return &Ledger{home: h, db: db, digests: &disk.Digests{}}, os.Chmod(name, 0o600)
}

// ledgerVersion is how ledgers are laid out that this Initium makes (PRAGMA user_version);
// it grows with every change of a table that is there already.
const ledgerVersion = 3

// prepare makes the tables that are missing. A ledger that a newer Initium has made is
// refused, and left as it is.
func prepare(db *sql.DB) error {
	var version int
	if err := db.QueryRow(`PRAGMA user_version`).Scan(&version); err != nil {
		return err
	}
	if version > ledgerVersion {
		return fmt.Errorf("a newer Initium has laid it out anew (version %d; this one knows up to %d); use that one", version, ledgerVersion)
	}
	if _, err := db.Exec(schema + notesSchema + givenSchema); err != nil {
		return err
	}
	for _, later := range []struct{ table, column, add string }{
		// Until version 2 the number of the entry stood in its place.
		{"entry", "mark", `BEGIN; ALTER TABLE entry ADD COLUMN mark TEXT NOT NULL DEFAULT ''; UPDATE entry SET mark = id; COMMIT`},
		{"accepted", "facts", `ALTER TABLE accepted ADD COLUMN facts TEXT NOT NULL DEFAULT ''`},
	} {
		var there bool
		if err := db.QueryRow(`SELECT count(*) FROM pragma_table_info(?) WHERE name = ?`, later.table, later.column).Scan(&there); err != nil {
			return err
		}
		if there {
			continue
		}
		if _, err := db.Exec(later.add); err != nil {
			return err
		}
	}
	if version == ledgerVersion {
		return nil
	}
	_, err := db.Exec(fmt.Sprintf(`PRAGMA user_version = %d`, ledgerVersion))
	return err
}

// Close closes the ledger.
func (l *Ledger) Close() error { return l.db.Close() }

// Entry is one applied plan.
type Entry struct {
	Number  int             `json:"entry"` // counts from 1 for each server
	At      time.Time       `json:"at"`
	Why     string          `json:"why"`
	Changes []lineup.Change `json:"changes"`
	Files   []string        `json:"files"`
	Starts  []Start         `json:"starts"` // that followed, before the next entry
	id      int64
	server  string
}

// Start is a start in the ledger.
type Start struct {
	Number  int           `json:"start"`
	At      time.Time     `json:"at"`
	Verdict proof.Verdict `json:"verdict"`
	Entry   int           `json:"-"`
}

// Entries lists the applied plans of a server, oldest first. Entry 0 is how
// Initium found the server; it is there when starts followed it.
func (l *Ledger) Entries(server string) ([]Entry, error) {
	rows, err := l.db.Query(`SELECT id, number, at, why, changes FROM entry WHERE server = ? AND state = 'done' ORDER BY number`, server)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Entry{{Why: "as it was found"}}
	for rows.Next() {
		e := Entry{server: server}
		var at int64
		var changes string
		if err := rows.Scan(&e.id, &e.Number, &at, &e.Why, &changes); err != nil {
			return nil, err
		}
		e.At = time.UnixMilli(at)
		if err := json.Unmarshal([]byte(changes), &e.Changes); err != nil {
			return nil, err
		}
		list = append(list, e)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	starts, err := l.Starts(server)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if err := l.files(&list[i]); err != nil {
			return nil, err
		}
		for _, s := range starts {
			if s.Entry == list[i].Number {
				list[i].Starts = append(list[i].Starts, s)
			}
		}
	}
	return list, nil
}

func (l *Ledger) files(e *Entry) error {
	rows, err := l.db.Query(`SELECT path FROM part WHERE entry = ? UNION ALL SELECT path FROM file WHERE entry = ?`, e.id, e.id)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var path string
		if err := rows.Scan(&path); err != nil {
			return err
		}
		e.Files = append(e.Files, path)
	}
	return rows.Err()
}

// Starts lists the starts of a server, oldest first.
func (l *Ledger) Starts(server string) (list []Start, err error) {
	rows, err := l.db.Query(`SELECT number, at, verdict, entry FROM start WHERE server = ? ORDER BY number`, server)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var s Start
		var at int64
		if err := rows.Scan(&s.Number, &at, &s.Verdict, &s.Entry); err != nil {
			return nil, err
		}
		s.At = time.UnixMilli(at)
		list = append(list, s)
	}
	return list, rows.Err()
}

// PutStart records how a start went, and after which entry it was made: nil for the newest there
// is now.
func (l *Ledger) PutStart(p *proof.Proof, entry *int) error {
	_, err := l.db.Exec(`INSERT OR REPLACE INTO start VALUES (?, ?, ?, ?, coalesce(?, (SELECT coalesce(max(number), 0) FROM entry WHERE server = ? AND state = 'done')))`,
		p.Server, p.Number, p.Started.UnixMilli(), p.Verdict, entry, p.Server)
	return err
}

// Newest is the number of the newest entry of a server, 0 when there is none.
func (l *Ledger) Newest(server string) (entry int, err error) {
	return entry, l.db.QueryRow(`SELECT coalesce(max(number), 0) FROM entry WHERE server = ? AND state = 'done'`, server).Scan(&entry)
}

// Version is what a file held before and after an entry.
type Version struct {
	Entry    int
	At       time.Time
	Why      string
	Changes  []lineup.Change
	Old, New []byte
}

// Versions are those of a file of a server that entries have changed, newest first, at most so many.
func (l *Ledger) Versions(server, path string, most int) (list []Version, err error) {
	rows, err := l.db.Query(`SELECT number, at, why, changes, old, new FROM entry JOIN file ON file.entry = entry.id
		WHERE server = ? AND path = ? AND state = 'done' AND NOT list AND NOT gone ORDER BY number DESC LIMIT ?`, server, path, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var v Version
		var at int64
		var changes string
		if err := rows.Scan(&v.Entry, &at, &v.Why, &changes, &v.Old, &v.New); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(changes), &v.Changes); err != nil {
			return nil, err
		}
		v.At = time.UnixMilli(at)
		list = append(list, v)
	}
	return list, rows.Err()
}

// Merges are the entries of the ledger that have added to a table, oldest first, with what it held then where it
// was changed.
func (l *Ledger) Merges(server, table string) (list []Version, err error) {
	rows, err := l.db.Query(`SELECT number, changes, coalesce(file.new, '') FROM entry LEFT JOIN file ON file.entry = entry.id AND file.path = ?2
		WHERE server = ?1 AND state = 'done' AND changes LIKE '%"op":"merge"%' ORDER BY number`, server, table)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var v Version
		var changes string
		if err := rows.Scan(&v.Entry, &changes, &v.New); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(changes), &v.Changes); err != nil {
			return nil, err
		}
		if slices.ContainsFunc(v.Changes, func(c lineup.Change) bool { return c.Op == lineup.OpMerge && c.File == table }) {
			list = append(list, v)
		}
	}
	return list, rows.Err()
}

// Owed is what mods want to be done that were taken in, each as its newest release has it.
func (l *Ledger) Owed(server string) ([]lineup.Owed, error) {
	rows, err := l.db.Query(`SELECT changes FROM entry WHERE server = ? AND state = 'done' AND changes LIKE '%"op":"take in"%' ORDER BY number`, server)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []lineup.Owed
	for rows.Next() {
		var data string
		var changes []lineup.Change
		if err := rows.Scan(&data); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(data), &changes); err != nil {
			return nil, err
		}
		for _, c := range changes {
			if c.Op != lineup.OpTake {
				continue
			}
			renewed := strings.Split(c.Mod, ", ")
			list = slices.DeleteFunc(list, func(o lineup.Owed) bool { return slices.Contains(renewed, o.Mod) })
			list = append(list, c.Owed...)
		}
	}
	return list, rows.Err()
}

// Touched are the files of a server that entries have changed.
func (l *Ledger) Touched(server string) (paths map[string]bool, err error) {
	rows, err := l.db.Query(`SELECT DISTINCT path FROM file JOIN entry ON file.entry = entry.id WHERE server = ? AND state = 'done' AND NOT list`, server)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	paths = map[string]bool{}
	for rows.Next() {
		var path string
		if err := rows.Scan(&path); err != nil {
			return nil, err
		}
		paths[path] = true
	}
	return paths, rows.Err()
}

// Parked lists what is switched off in lists that cannot say so themselves.
func (l *Ledger) Parked(server string) (list []lineup.Parked, err error) {
	var data string
	err = l.db.QueryRow(`SELECT parked FROM entry WHERE server = ? AND state = 'done' ORDER BY number DESC LIMIT 1`, server).Scan(&data)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return list, json.Unmarshal([]byte(data), &list)
}

// Staged lists the changes that were gathered for a server and not applied yet.
func (l *Ledger) Staged(server string) (list []lineup.Change, err error) {
	rows, err := l.db.Query(`SELECT change FROM staged WHERE server = ? ORDER BY id`, server)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var data string
		var c lineup.Change
		if err := rows.Scan(&data); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(data), &c); err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	return list, rows.Err()
}

// Stage gathers changes to be applied later.
func (l *Ledger) Stage(server string, changes ...lineup.Change) error {
	for _, c := range changes {
		data, err := json.Marshal(c)
		if err != nil {
			return err
		}
		if _, err := l.db.Exec(`INSERT INTO staged (server, change) VALUES (?, ?)`, server, string(data)); err != nil {
			return err
		}
	}
	return nil
}

// Unstage forgets the last of the staged changes, or all of them.
func (l *Ledger) Unstage(server string, all bool) error {
	query := `DELETE FROM staged WHERE id = (SELECT max(id) FROM staged WHERE server = ?)`
	if all {
		query = `DELETE FROM staged WHERE server = ?`
	}
	_, err := l.db.Exec(query, server)
	return err
}

// fileRow is one file of an entry as the ledger keeps it.
type fileRow struct {
	path        string
	fresh, gone bool
	list        bool
	old, new    []byte
}

// begin writes down what is about to be done.
func (l *Ledger) begin(server, why string, p *plan.Plan) (id int64, err error) {
	parked := p.Parked
	if parked == nil {
		if parked, err = l.Parked(server); err != nil {
			return 0, err
		}
	}
	parkedJSON, err := json.Marshal(parked)
	if err != nil {
		return 0, err
	}
	changes, err := json.Marshal(p.Changes)
	if err != nil {
		return 0, err
	}
	tx, err := l.db.Begin()
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	result, err := tx.Exec(`INSERT INTO entry (server, number, at, why, changes, state, parked, mark)
		VALUES (?, (SELECT coalesce(max(number), 0) + 1 FROM entry WHERE server = ? AND state = 'done'), ?, ?, ?, 'begun', ?, ?)`,
		server, server, time.Now().UnixMilli(), why, string(changes), string(parkedJSON), rand.Text())
	if err != nil {
		return 0, err
	}
	if id, err = result.LastInsertId(); err != nil {
		return 0, err
	}
	if err := errors.Join(beginParts(tx, id, p.Parts), beginRules(tx, id, p), beginGiven(tx, id, p)); err != nil {
		return 0, err
	}
	for _, f := range p.Files {
		if _, err := tx.Exec(`INSERT INTO file VALUES (?, ?, ?, ?, ?, ?, ?)`, id, f.Path, f.New, f.Gone, f.List, blob(f.Old), blob(f.Want)); err != nil {
			return 0, err
		}
	}
	return id, tx.Commit()
}

// blob keeps an empty file from becoming NULL.
func blob(data []byte) []byte {
	if data == nil {
		return []byte{}
	}
	return data
}

// done marks an entry as carried out and forgets what was staged for it.
func (l *Ledger) done(id int64) error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.Exec(`UPDATE entry SET state = 'done' WHERE id = ?`, id); err != nil {
		return err
	}
	if _, err := tx.Exec(`UPDATE part SET tidy = 1 WHERE entry = ? AND old <> ''`, id); err != nil {
		return err
	}
	// An entry that only gives values leaves what is staged as it is.
	if _, err := tx.Exec(`DELETE FROM staged WHERE server = (SELECT server FROM entry WHERE id = ?1) AND (NOT EXISTS (SELECT 1 FROM entry_given WHERE entry = ?1)
		OR EXISTS (SELECT 1 FROM file WHERE entry = ?1) OR EXISTS (SELECT 1 FROM part WHERE entry = ?1) OR EXISTS (SELECT 1 FROM entry WHERE id = ?1 AND changes NOT IN ('', '[]', 'null')))`, id); err != nil {
		return err
	}
	if err := doneRules(tx, id); err != nil {
		return err
	}
	return tx.Commit()
}

// leave forgets an entry that was begun and changed nothing.
func (l *Ledger) leave(id int64) error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, query := range []string{`DELETE FROM file WHERE entry = ?`, `DELETE FROM part WHERE entry = ?`, `DELETE FROM entry_rule WHERE entry = ?`, `DELETE FROM entry_given WHERE entry = ?`, `DELETE FROM entry WHERE id = ?`} {
		if _, err := tx.Exec(query, id); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// rows reads the files of an entry.
func (l *Ledger) rows(id int64) (list []fileRow, err error) {
	rows, err := l.db.Query(`SELECT path, fresh, gone, list, old, new FROM file WHERE entry = ? ORDER BY rowid`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var f fileRow
		if err := rows.Scan(&f.path, &f.fresh, &f.gone, &f.list, &f.old, &f.new); err != nil {
			return nil, err
		}
		list = append(list, f)
	}
	return list, rows.Err()
}
