package host

import (
	"crypto/rand"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"initium/internal/host/disk"
)

// ErrDamaged tells that the ledger cannot be read as it was written.
var ErrDamaged = errors.New("the ledger is damaged; initium ledger --repair keeps it as it is, and saves what can be saved into a new one")

// Damaged tells whether an error comes of a ledger that is damaged (SQLite's result codes
// CORRUPT and NOTADB).
func Damaged(err error) bool {
	var cause *sqlite.Error
	if errors.As(err, &cause) {
		code := cause.Code() & 0xff
		return code == sqlite3.SQLITE_CORRUPT || code == sqlite3.SQLITE_NOTADB
	}
	return errors.Is(err, ErrDamaged)
}

// justMade is how long a ledger may be without anything in it while it is being made.
const justMade = 10 * time.Second

// emptied tells whether there is a ledger file with nothing in it, as a full disk or a torn
// file system may leave it behind.
func emptied(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.Size() == 0 && time.Since(info.ModTime()) > justMade
}

// Repair is what came of a repair of the ledger.
type Repair struct {
	Problems []string // what is wrong with it, as far as that can be told; none when it is whole
	Kept     string   // where the damaged one lies
	Rows     int      // that were saved
	Lost     []string // tables of which not all could be read
	Begun    int      // entries that had been begun and not ended
}

// RepairLedger looks a ledger through. One that is damaged is kept beside the new one, into
// which everything is saved that can still be read. The servers' files are not touched.
func (h Home) RepairLedger() (r Repair, err error) {
	name := h.ledgerFile()
	if _, err := os.Stat(name); errors.Is(err, fs.ErrNotExist) {
		return r, fmt.Errorf("there is no ledger in %s yet; the first change makes it", h.Dir)
	}
	if r.Problems, err = problemsOf(name); err != nil || len(r.Problems) == 0 {
		return r, err
	}
	if real, err := filepath.EvalSymlinks(name); err != nil {
		return r, err
	} else if others := holders(real); len(others) > 0 { // what they write would be lost
		return r, fmt.Errorf("the ledger is damaged, and process %d has it open; close that Initium first, and repair it then", others[0])
	}
	r.Kept = filepath.Join(h.Dir, fmt.Sprintf("ledger-damaged-%s.db", time.Now().UTC().Format("20060102-150405")))
	beside := filepath.Join(h.Dir, ".initium-"+rand.Text()+".db")
	defer func() { err = errors.Join(err, removeDatabase(beside)) }()
	if err := copyDatabase(name, r.Kept); err != nil {
		return r, fmt.Errorf("keep the damaged ledger: %w; nothing was changed", err)
	}
	if err := r.save(r.Kept, beside); err != nil {
		return r, fmt.Errorf("save the ledger: %w; the damaged one is as it was, with a copy in %s", err, r.Kept)
	}
	if err := removeDatabase(name); err != nil {
		return r, err
	}
	return r, errors.Join(os.Rename(beside, name), disk.SyncDir(h.Dir))
}

// problemsOf are what an integrity check says of a database; none when it is whole.
func problemsOf(name string) (list []string, err error) {
	if emptied(name) {
		return []string{"there is nothing in it"}, nil
	}
	db, err := openDatabase(name)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	rows, err := db.Query(`PRAGMA integrity_check(20)`)
	if err != nil {
		return []string{err.Error()}, nil
	}
	defer rows.Close()
	for rows.Next() {
		var said string
		if err := rows.Scan(&said); err != nil {
			return append(list, err.Error()), nil
		}
		if said != "ok" {
			list = append(list, strings.Join(strings.Fields(said), " "))
		}
	}
	if err := rows.Err(); err != nil {
		list = append(list, err.Error())
	}
	return list, nil
}

// save reads every table of a damaged ledger as far as it can be read, from both ends, and
// writes what it finds into a new one.
func (r *Repair) save(from, to string) (err error) {
	out, err := openDatabase(to)
	if err != nil {
		return err
	}
	defer out.Close()
	if err := prepare(out); err != nil {
		return err
	}
	tables, err := namesFrom(out, `SELECT name FROM sqlite_schema WHERE type = 'table' ORDER BY name`)
	if err != nil {
		return err
	}
	work := to + ".old" // which gets the columns of today, if it can
	defer func() { err = errors.Join(err, removeDatabase(work)) }()
	if err := copyDatabase(from, work); err != nil {
		return err
	}
	if err := lengthen(work); err != nil {
		return err
	}
	in, err := openDatabase(work)
	if err != nil {
		return err
	}
	defer in.Close()
	prepare(in) // what it lacks is lost
	for _, table := range tables {
		columns, err := namesFrom(out, `SELECT name FROM pragma_table_info(?) ORDER BY cid`, table)
		if err != nil {
			return err
		}
		for _, order := range []string{"", " DESC"} {
			n, whole, err := saveTable(in, out, table, columns, order)
			if err != nil {
				return err
			}
			r.Rows += n
			if whole {
				break
			}
			if order != "" {
				r.Lost = append(r.Lost, table)
			}
		}
	}
	return out.QueryRow(`SELECT count(*) FROM entry WHERE state = 'begun'`).Scan(&r.Begun)
}

// lengthen gives a database that was cut off the length that it says it has, for SQLite reads
// none that is shorter (the database file format, 1.3: the size of a page at 16, the number
// of pages at 28).
func lengthen(name string) error {
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	head := make([]byte, 100)
	if _, err := f.ReadAt(head, 0); err != nil || !strings.HasPrefix(string(head), "SQLite format 3") {
		return nil // nothing can be read of it
	}
	page := int64(binary.BigEndian.Uint16(head[16:]))
	if page == 1 {
		page = 1 << 16
	}
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if size := page * int64(binary.BigEndian.Uint32(head[28:])); size > info.Size() && size < maxLedger {
		return f.Truncate(size)
	}
	return nil
}

// maxLedger bounds what a damaged ledger may say of its size, in bytes.
const maxLedger = 64 << 30

// saveTable copies the rows of a table that can be read, from its beginning or its end. What
// is there already is passed over; whole tells that all of it could be read.
func saveTable(in, out *sql.DB, table string, columns []string, order string) (n int, whole bool, err error) {
	known, err := namesFrom(in, `SELECT name FROM pragma_table_info(?) ORDER BY cid`, table)
	if err != nil || len(known) == 0 {
		return 0, false, nil // not even how it is laid out
	}
	var shared []string
	for _, c := range columns {
		for _, k := range known {
			if c == k {
				shared = append(shared, c)
			}
		}
	}
	list := strings.Join(shared, ", ")
	rows, err := in.Query(fmt.Sprintf("SELECT %s FROM %s ORDER BY %s%s", list, table, keyOf(in, table, shared), order))
	if err != nil {
		return 0, false, nil
	}
	defer rows.Close()
	insert := fmt.Sprintf("INSERT OR IGNORE INTO %s (%s) VALUES (?%s)", table, list, strings.Repeat(", ?", len(shared)-1))
	values, places := make([]any, len(shared)), make([]any, len(shared))
	for i := range values {
		places[i] = &values[i]
	}
	for rows.Next() {
		if rows.Scan(places...) != nil {
			return n, false, nil
		}
		done, err := out.Exec(insert, values...)
		if err != nil {
			return n, false, err
		}
		if added, err := done.RowsAffected(); err == nil {
			n += int(added)
		}
	}
	return n, rows.Err() == nil, nil
}

// keyOf is what the rows of a table are read in the order of, so that they are read one
// after the other and not sorted first.
func keyOf(db *sql.DB, table string, columns []string) string {
	if db.QueryRow("SELECT rowid FROM "+table+" LIMIT 1").Scan(new(int64)) == nil {
		return "rowid"
	}
	key, err := namesFrom(db, `SELECT name FROM pragma_table_info(?) WHERE pk > 0 ORDER BY pk`, table)
	if err != nil || len(key) == 0 {
		return columns[0]
	}
	return strings.Join(key, ", ")
}

func namesFrom(db *sql.DB, query string, args ...any) (list []string, err error) {
	rows, err := db.Query(query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		list = append(list, name)
	}
	return list, rows.Err()
}

// databaseFiles are those that belong to a database beside itself.
var databaseFiles = []string{"", "-wal", "-shm", "-journal"}

// copyDatabase copies a database to a place where there is none.
func copyDatabase(from, to string) error {
	for _, suffix := range databaseFiles {
		in, err := os.Open(from + suffix)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		out, err := os.OpenFile(to+suffix, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err == nil {
			_, err = io.Copy(out, in)
			err = errors.Join(err, out.Sync(), out.Close())
		}
		if err = errors.Join(err, in.Close()); err != nil {
			return err
		}
	}
	return nil
}

func removeDatabase(name string) (err error) {
	for _, suffix := range databaseFiles {
		if e := os.Remove(name + suffix); !errors.Is(e, fs.ErrNotExist) {
			err = errors.Join(err, e)
		}
	}
	return err
}
