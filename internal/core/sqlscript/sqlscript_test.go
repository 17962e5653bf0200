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
		list, fault := sqlscript.Split([]byte(c.script), sqlscript.SQLite)
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
	list, fault := sqlscript.Split([]byte(script), sqlscript.SQLite)
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
		{"DELIMITER //\nselect 1//", "written for MySQL"}, {"-- nothing", "no statement"}, {"END; begin immediate transaction; select 1", ""}, {"SELECT engine, auto_increment FROM x", ""}, {"BEGIN;COMMIT;", "no statement"},
	} {
		list, fault := sqlscript.Split([]byte(c.script), sqlscript.SQLite)
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
		list, fault := sqlscript.Split(script, sqlscript.SQLite)
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
			again, fault := sqlscript.Split([]byte(s.Text), sqlscript.SQLite)
			if fault != nil || len(again) != 1 {
				t.Fatalf("%q of %q is %d statements by itself, %v", s.Text, script, len(again), fault)
			}
		}
	})
}

// MySQL has other comments, strings with backslashes, delimiters, and comments that it runs.
func TestSplitMySQL(t *testing.T) {
	for _, c := range []struct{ script, want, fails string }{
		{"# a; b\nselect 'it\\'s;', \"a;\\\"b\"; -- c;\nselect 1--1;", "2 select 'it\\'s;', \"a;\\\"b\"|3 select 1--1", ""},
		{"--\nselect `a;``b`;--", "2 select `a;``b`", ""},
		{"delimiter $$\ncreate trigger t after insert on a for each row begin set @x = 1; end$$\nDELIMITER ;\nselect 2; select 3", "2 create trigger t after insert on a for each row begin set @x = 1; end|4 select 2|4 select 3", ""},
		{"DELIMITER //\nselect 1 / 2//select 3//", "2 select 1 / 2|2 select 3", ""},
		{"/*!40101 SET NAMES utf8 */;\n/* ; */ /*M!100 DROP */;", "1 /*!40101 SET NAMES utf8 */|2 /*M!100 DROP */", ""},
		{"select [a;b]", "1 select [a|1 b]", ""},
		{"/*!1 select 1 /*! + 1 */; select 2", "1 /*!1 select 1 /*! + 1 */|1 select 2", ""}, {"create trigger t begin; end; select `é;`", "1 create trigger t begin|1 end|1 select `é;`", ""},
		{"\\. other.sql", "", "a program at a terminal"}, {"select 'open\\'", "", "never closed"}, {"/*!40101 SET x", "", "never closed"}, {"select 1; /* open", "", "never closed"},
	} {
		list, fault := sqlscript.Split([]byte(c.script), sqlscript.MySQL)
		if c.fails != "" {
			insist.That(t, fault != nil && strings.Contains(fault.Error(), c.fails), "%q: %v", c.script, fault)
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

func TestForMySQL(t *testing.T) {
	for _, c := range []struct {
		script, touches string
		sure            bool
		fails           string
	}{
		{"START TRANSACTION; CREATE TABLE a (x INT); INSERT b VALUES (1); INSERT INTO `C` VALUES (1); COMMIT;", "a b C", true, ""},
		{"TRUNCATE a; TRUNCATE TABLE b; ALTER TABLE c ADD x INT; DROP TABLE IF EXISTS d; insert ignore into e values (1)", "a b c d e", true, ""},
		{"LOCK TABLES a WRITE; UNLOCK TABLES; USE Boats; CREATE SCHEMA IF NOT EXISTS `boats`; INSERT INTO boats.a VALUES (1)", "a", true, ""},
		{"UPDATE a, b SET a.x = b.x", "a", false, ""}, {"DELETE FROM a", "a", false, ""}, {"REPLACE INTO a VALUES (1)", "a", false, ""}, {"DROP TABLE a, b", "a", false, ""}, {"CALL f()", "", false, ""}, {"RENAME TABLE a TO b", "a", false, ""},
		{"CREATE OR REPLACE ALGORITHM=MERGE DEFINER=`x`@`%` SQL SECURITY DEFINER VIEW v AS SELECT 1", "", true, ""}, {"CREATE DEFINER = CURRENT_USER() FUNCTION f() RETURNS INT RETURN 1", "", true, ""},
		{"CREATE UNIQUE INDEX i ON a (x)", "", true, ""},
		{"use nets", "", false, "line 1: this is for the database nets, and the server uses boats"}, {"\ncreate database if not exists nets", "", false, "line 2: this is for the database nets"}, {"DELETE FROM nets.a", "", false, "for the database nets"},
		{"CREATE DATABASE boats", "", false, "CREATE DATABASE is not run"}, {"/*!1 DROP USER x */", "", false, "DROP USER is not run"}, {"DROP", "", false, "DROP  is not run"},
		{"SET @@GLOBAL.x = 1", "", false, "SET with GLOBAL"}, {"SET PASSWORD = 'x'", "", false, "SET with PASSWORD"}, {"SELECT LOAD_FILE('/x')", "", false, "LOAD_FILE"}, {"SELECT 1 INTO DUMPFILE 'x'", "", false, "DUMPFILE"}, {"SET sql_mode = 'ANSI_QUOTES'", "", false, "how the rest of it is to be read"},
		{"PRAGMA x", "", false, "PRAGMA is of SQLite"}, {"SHUTDOWN", "", false, "SHUTDOWN is not run"}, {"INSTALL PLUGIN x", "", false, "INSTALL is not run"}, {"BEGIN; COMMIT;", "", false, "no statement"},
	} {
		list, fault := sqlscript.Split([]byte(c.script), sqlscript.MySQL)
		insist.That(t, fault == nil, "%q: %v", c.script, fault)
		_, tables, sure, err := sqlscript.ForMySQL(list, "boats")
		if c.fails != "" {
			insist.Fails(t, c.script, err, c.fails)
			continue
		}
		insist.OK(t, err)
		insist.Same(t, c.script, fmt.Sprint(strings.Join(tables, " "), sure), fmt.Sprint(c.touches, c.sure))
	}
}

// thing is a table with rows of one value each, "-" for none.
func thing(name, made string, rows ...string) sqlscript.Thing {
	t := sqlscript.Thing{Kind: sqlscript.KindTable, Name: name, Make: made, Columns: []string{"x"}}
	for _, r := range rows {
		value := []byte(r)
		if r == "-" {
			value = nil
		}
		t.Rows = append(t.Rows, [][]byte{value})
	}
	return t
}

func TestSnapshots(t *testing.T) {
	of := func(things ...sqlscript.Thing) *sqlscript.Snapshot {
		s := &sqlscript.Snapshot{Things: things}
		s.Sort()
		return s
	}
	trigger := sqlscript.Thing{Kind: sqlscript.KindTrigger, Name: "grows", Of: "b", Make: "CREATE DEFINER=`kai``s`@`%` TRIGGER grows"}
	before := of(trigger, thing("b", "B", "2", "-", "1", ""), thing("a", "A"), thing("c", "C", "1"))
	after := of(thing("b", "B", "2", "1"), trigger, thing("a", "A"), thing("c", "C2", "1"), thing("d", "D", "1"))
	read, err := sqlscript.DecodeSnapshot(before.Encode())
	insist.OK(t, err)
	insist.Same(t, "there and back", string(read.Encode()), string(before.Encode()))
	insist.That(t, read.Same(before) && !read.Same(after), "%s", read.Encode())
	insist.Same(t, "no value is not an empty one", of(thing("a", "A", "-")).Same(of(thing("a", "A", ""))), false)

	was, is := sqlscript.Changed(before, after)
	var names []string
	for _, t := range was.Things {
		names = append(names, t.Name+":"+t.Make)
	}
	insist.Same(t, "changed", strings.Join(names, " "), "b:B c:C d: grows:"+trigger.Make)
	insist.Same(t, "in words", strings.Join(sqlscript.Describe(before, after), "; "), "changes the table b: 2 rows, 4 before; changes how the table c is made; makes the table d, 1 row")
	insist.Same(t, "and back", strings.Join(sqlscript.Describe(after, before), "; "), "changes the table b: 4 rows, 2 before; changes how the table c is made; drops the table d, 1 row")
	other := thing("d", "")
	other.Kind = sqlscript.KindView
	insist.That(t, was.Lacks(other), "a view is taken for a table")
	insist.Holds(t, "no value comes first", string(of(thing("a", "A", "b", "-", "", "a")).Encode()), `"rows":[[null],[""],["YQ=="],["Yg=="]]`)
	insist.That(t, was.Lacks(thing("a", "A")) && !was.Lacks(thing("d", "")), "%s", was.Encode())
	insist.Same(t, "there are", strings.Join(after.Like(was).Tables(), " "), "b c d")
	insist.That(t, before.Reads("b") && before.Reads("new") && !of(sqlscript.Thing{Kind: sqlscript.KindTable, Name: "big", Make: "B"}).Reads("big"), "what is read")

	back, err := sqlscript.MergeSnapshots(is, was, after.Like(was))
	insist.OK(t, err)
	insist.That(t, back.Same(before.Like(was)) && sqlscript.Holds(back.Encode(), was.Encode()) && !sqlscript.Holds(is.Encode(), was.Encode()), "%s", back.Encode())
	again, err := sqlscript.MergeSnapshots(is, was, back)
	insist.That(t, err == nil && again.Same(back), "taken back already: %v", err)
	_, err = sqlscript.MergeSnapshots(is, was, of(thing("b", "B", "2", "1", "9"), thing("c", "C2", "1"), thing("d", "D", "1"), trigger))
	insist.Fails(t, "changed since", err, "the table b has been changed since")
	_, err = sqlscript.DecodeSnapshot([]byte("{"))
	insist.Fails(t, "none", err, "cannot be read")
	insist.Same(t, "none", sqlscript.Holds([]byte("{"), was.Encode()) || sqlscript.Holds(was.Encode(), of().Encode()), false)

	user, at, ok := trigger.Definer()
	insist.Same(t, "whose", fmt.Sprint(user, at, ok), "kai`s%true")
	table := thing("a", "CREATE TABLE `a` (`x` text DEFAULT ' DEFINER=`b`@`c`')")
	_, _, ok = table.Definer()
	insist.Same(t, "nobody's", ok, false)
}

// FuzzSplitMySQL cuts anything: each statement stands in the script, and what is not run is said.
func FuzzSplitMySQL(f *testing.F) {
	f.Add([]byte("DELIMITER //\nselect '\\'' //\n/*!1 use x */ // # y"))
	f.Fuzz(func(t *testing.T, script []byte) {
		list, fault := sqlscript.Split(script, sqlscript.MySQL)
		if fault != nil {
			return
		}
		rest, line := string(script), 0
		for _, s := range list {
			at := strings.Index(rest, s.Text)
			if at < 0 || s.Text == "" || s.Line < line {
				t.Fatalf("%q has no statement %q", script, s.Text)
			}
			rest, line = rest[at+len(s.Text):], s.Line
		}
		if _, _, _, err := sqlscript.ForMySQL(list, "boats"); err == nil {
			for _, s := range list {
				if head := strings.Join(s.Head, " "); strings.HasPrefix(head, "DROP DATABASE") || strings.HasPrefix(head, "GRANT") {
					t.Fatalf("%q is run", s.Text)
				}
			}
		}
	})
}
