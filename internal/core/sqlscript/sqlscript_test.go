package sqlscript_test

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/sqlscript"
	"initium/internal/core/text"
	"initium/internal/insist"
)

func TestSplit(t *testing.T) {
	for _, c := range []struct{ script, want, fails string }{
		{"CREATE TABLE a (x);\n-- one; two\nINSERT INTO a VALUES ('it''s; so');", "1 CREATE TABLE a (x)|3 INSERT INTO a VALUES ('it''s; so')", ""},
		{"/* ; */ select 1 ; ; \n\n  select \"a;b\", [c;d], `e;f`", "1 select 1|3 select \"a;b\", [c;d], `e;f`", ""},
		{"CREATE TRIGGER t AFTER INSERT ON a BEGIN\n UPDATE a SET x = CASE WHEN 1 THEN 2 END;\n DELETE FROM b;\nEND;\nselect 2;", "1 CREATE TRIGGER t AFTER INSERT ON a BEGIN\n UPDATE a SET x = CASE WHEN 1 THEN 2 END;\n DELETE FROM b;\nEND|5 select 2", ""},
		{"create temp trigger t after insert on a begin select 1; end; x", "1 create temp trigger t after insert on a begin select 1; end|1 x", ""},
		{"", "", ""}, {" ;; -- x", "", ""}, {"select 1 -- end", "1 select 1 -- end", ""},
		{"select 'open", "", "the ' that opens here is never closed"}, {"/* open", "", "comment that begins here"}, {".tables\n", "", "a program at a terminal"}, {"a\x00b", "", "no text"},
	} {
		list, fault := sqlscript.Split([]byte(c.script))
		if c.fails != "" {
			insist.That(t, fault != nil && (strings.Contains(fault.Error(), c.fails) || strings.Contains(c.script, "\x00")), "%q: %v", c.script, fault)
			continue
		}
		var got []string
		for _, s := range list {
			got = append(got, fmt.Sprintf("%d %s", s.Line, s.Text))
		}
		insist.That(t, fault == nil, "%q: %v", c.script, fault)
		insist.Same(t, c.script, strings.Join(got, "|"), c.want)
	}
}

func TestDeeds(t *testing.T) {
	const script = `CREATE TABLE IF NOT EXISTS Hives (n INTEGER); create index i on hives (n); INSERT OR REPLACE INTO "My trees" VALUES (1); insert into main.bees values (1);
		UPDATE OR IGNORE hives SET n = 1; DELETE FROM [old ones]; DROP TABLE IF EXISTS x; ALTER TABLE y ADD z; select 1; REPLACE INTO q VALUES (1); CREATE VIEW v AS SELECT 1; INSERT INTO bees VALUES (2); CREATE VIRTUAL TABLE f USING fts5(x)`
	list, fault := sqlscript.Split([]byte(script))
	insist.That(t, fault == nil, "%v", fault)
	var got []string
	for _, d := range sqlscript.Deeds(list) {
		got = append(got, d.String())
	}
	insist.Same(t, "deeds", strings.Join(got, "; "), "makes the table hives; adds to the table My trees; adds to the table bees; changes the table hives; takes from the table old ones; drops the table x; changes the table y; adds to the table q; makes the table f")
}

func TestForSQLite(t *testing.T) {
	for _, c := range []struct{ script, fails string }{
		{"BEGIN; CREATE TABLE a (x); COMMIT;", ""}, {"begin transaction; select 1; end transaction;", ""}, {"CREATE TABLE engine (x)", "ENGINE is of MySQL"},
		{"ATTACH 'x' AS y", "line 1: ATTACH is not run, as it opens another file"}, {"\nVACUUM INTO '/x'", "line 2: VACUUM"}, {"PRAGMA writable_schema = 1", "PRAGMA"}, {"CREATE TABLE a (x INT AUTO_INCREMENT)", "AUTO_INCREMENT is of MySQL"},
		{"DELIMITER //\nselect 1//", "written for MySQL"}, {"-- nothing", "no statement"}, {"BEGIN;COMMIT;", "no statement"},
	} {
		list, fault := sqlscript.Split([]byte(c.script))
		insist.That(t, fault == nil, "%q: %v", c.script, fault)
		run, err := sqlscript.ForSQLite(list)
		if c.fails != "" {
			insist.Fails(t, c.script, err, c.fails)
			continue
		}
		insist.That(t, err == nil && len(run) == 1, "%q: %v, %v", c.script, run, err)
	}
}

// FuzzSplit cuts anything: what is between the statements is blanks, comments and semicolons, and each is whole.
func FuzzSplit(f *testing.F) {
	f.Add([]byte("CREATE TRIGGER t BEGIN select ';'; END; /* x */ select [a];"))
	f.Fuzz(func(t *testing.T, script []byte) {
		list, fault := sqlscript.Split(script)
		if fault != nil {
			return
		}
		sqlscript.Deeds(list)
		rest, line := string(script), 0
		for _, s := range list {
			at := strings.Index(rest, s.Text)
			if at < 0 || s.Text == "" || s.Line < line {
				t.Fatalf("%q has no statement %q", script, s.Text)
			}
			rest, line = rest[at+len(s.Text):], s.Line
			if text.NotText([]byte(s.Text)) != nil {
				continue // a mark that means something only where a file begins
			}
			again, fault := sqlscript.Split([]byte(s.Text))
			if fault != nil || len(again) != 1 {
				t.Fatalf("%q of %q is %d statements by itself, %v", s.Text, script, len(again), fault)
			}
		}
	})
}
