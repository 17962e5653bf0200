package test

import (
	"database/sql"
	"net/url"
	"path/filepath"
	"strings"
	"testing"

	_ "modernc.org/sqlite" // the database of the server

	"initium/internal/insist"
)

// asks runs a query on a database file and returns what it says, row by row.
func asks(t *testing.T, file, query string) string {
	t.Helper()
	place := url.URL{Path: file}
	db, err := sql.Open("sqlite", "file:"+place.EscapedPath())
	insist.OK(t, err)
	defer db.Close()
	rows, err := db.Query(query)
	if err != nil {
		return err.Error()
	}
	defer rows.Close()
	var said []string
	for rows.Next() {
		var s string
		insist.OK(t, rows.Scan(&s))
		said = append(said, s)
	}
	return strings.Join(said, "|")
}

// A script that a mod brings runs once, in one transaction, and is taken back to the byte for as long as nobody has
// changed the database since.
func TestDatabaseScript(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	put(t, filepath.Join(h.home, "dialects/harrow-sound.toml"), h.do(0, "dialect", "show", "harrow-sound")+"\n[[content]]\nkind = 'database'\nfiles = '*.sql'\nabout = 'tables for the quay'\n[database]\nengine = 'sqlite'\nfile = '{dir}/quay.db'\n")
	db := filepath.Join(h.dir, "quay.db")
	came := filepath.Join(filepath.Dir(h.home), "came")
	write(t, filepath.Join(came, "kelp/bill.toml"), "name = \"kelp\"\nrelease = \"1.4\"\n")
	write(t, filepath.Join(came, "kelp/deck.script"), "haul 1\n")
	write(t, filepath.Join(came, "kelp.sql"), "-- for kelp; once\nBEGIN;\nCREATE TABLE kelp (n INTEGER, said TEXT);\nINSERT INTO kelp VALUES (1, 'it''s; green');\nINSERT INTO boats VALUES ('kelper');\nCREATE TRIGGER grow AFTER INSERT ON boats BEGIN UPDATE kelp SET n = n + 1; END;\nCOMMIT;\n")
	insist.Holds(t, "before there is one", h.try("sql", "h", filepath.Join(came, "kelp.sql")).err, "quay.db is not there yet; start the server once")
	insist.Same(t, "made", asks(t, db, "CREATE TABLE boats (name TEXT)"), "")
	before := contents(t, db)

	h.do(0, "take", "h", came)
	insist.Holds(t, "owed", h.try("owed", "h").out, "kelp: it wants to be done besides: tables for the quay", "initium sql h SOURCE kelp.sql --mod kelp")
	insist.Holds(t, "shown", h.do(0, "sql", "h", came, "kelp.sql", "--mod", "kelp", "--show"), "kelp.sql runs, 4 statements in one transaction", "makes the table kelp", "adds to the table boats")
	insist.Same(t, "nothing is written", contents(t, db), before)
	h.do(0, "sql", "h", came, "kelp.sql", "--mod", "kelp")
	insist.Same(t, "in it", asks(t, db, "SELECT said FROM kelp")+asks(t, db, "SELECT name FROM boats"), "it's; greenkelper")
	insist.Lacks(t, "owed", h.try("owed", "h").out, "tables for the quay")
	insist.Holds(t, "once more", h.try("sql", "h", came, "kelp.sql").err, "this very script was run already, by entry 2 of the ledger; say --again")
	insist.Holds(t, "though", h.try("sql", "h", came, "kelp.sql", "--again").err, "line 3: table kelp already exists", "nothing was changed")
	insist.Holds(t, "the ledger", h.do(0, "ledger", "h", "2"), "run kelp.sql on quay.db", "a file that is no text")
	ran := contents(t, db)
	h.do(0, "undo", "h")
	insist.Same(t, "taken back", contents(t, db), before)
	insist.Holds(t, "owed again", h.try("owed", "h").out, "kelp.sql")
	h.do(0, "sql", "h", came, "kelp.sql", "--stage")
	insist.Same(t, "staged", contents(t, db), before)
	h.do(0, "apply", "h")
	insist.Same(t, "applied", contents(t, db), ran)
	asks(t, db, "INSERT INTO boats VALUES ('a player')")
	insist.Holds(t, "with players' boats in it", h.try("undo", "h").err, "quay.db", "has been changed since, and is no text")
	insist.Same(t, "they stay", asks(t, db, "SELECT n FROM kelp"), "2")

	for _, c := range []struct{ script, says string }{
		{"CREATE TABLE x (n INT) ENGINE=InnoDB;", "ENGINE is of MySQL"},
		{"ATTACH '/etc/x' AS y;", "ATTACH is not run"},
		{"CREATE TABLE x (n);\nINSERT INTO nowhere VALUES (1);", "line 2: no such table: nowhere"},
		{"select 'open", "never closed"},
		{"-- nothing\n", "no statement"},
	} {
		script := filepath.Join(t.TempDir(), "x.sql")
		write(t, script, c.script)
		now := contents(t, db)
		insist.Holds(t, c.script, h.try("sql", "h", script).err, c.says)
		insist.Same(t, c.script+" leaves", contents(t, db), now)
	}
	write(t, db+"-wal", "some")
	insist.Holds(t, "with writes beside it", h.try("sql", "h", came, "kelp.sql", "--again").err, "quay.db-wal")
	write(t, db+"-wal", "")
	write(t, db, "this is no database")
	insist.Holds(t, "of no database", h.try("sql", "h", came, "kelp.sql", "--again").err, "no SQLite database that can be read")
	insist.Holds(t, "of a family without one", newMoor(t).try("sql", "lantern-moor", came).err, "knows no database")
}
