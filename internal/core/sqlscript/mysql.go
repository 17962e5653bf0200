package sqlscript

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/text"
)

// What a statement for MySQL does is told by its first word: what is not among these leads out of the database, or
// out of what can be taken back.
var (
	mysqlRuns   = []string{"CREATE", "ALTER", "DROP", "RENAME", "TRUNCATE", "INSERT", "REPLACE", "UPDATE", "DELETE", "SELECT", "SET", "WITH", "SHOW", "DESCRIBE", "DESC", "EXPLAIN", "ANALYZE", "CALL", "DO"}
	mysqlFrames = []string{"BEGIN", "START", "COMMIT", "LOCK", "UNLOCK"} // of transactions, and what dumps put around tables
	mysqlSure   = []string{"CREATE", "ALTER", "DROP", "INSERT", "TRUNCATE", "SELECT", "SET", "SHOW", "DESCRIBE", "DESC", "EXPLAIN"}
	mysqlThings = []string{"TABLE", "INDEX", "VIEW", "TRIGGER", "PROCEDURE", "FUNCTION", "EVENT"}
	// mysqlOptions may stand between CREATE, ALTER or DROP and what is made.
	mysqlOptions = []string{"OR", "REPLACE", "TEMPORARY", "UNIQUE", "FULLTEXT", "SPATIAL", "SQL", "IGNORE", "ONLINE", "AGGREGATE"}
	// mysqlBeyond are words of a SET or a SELECT that reach further than the connection.
	mysqlBeyond = []string{"GLOBAL", "PERSIST", "PERSIST_ONLY", "PASSWORD", "ROLE", "OUTFILE", "DUMPFILE", "LOAD_FILE"}
)

// ForMySQL are the statements that are run on a database of that name, and the tables that they touch; sure is
// false where not all of those can be told. The error names what cannot be run: what leads out of the database, and
// what is written for another one.
func ForMySQL(list []Statement, database string) (run []Statement, tables []string, sure bool, err error) {
	sure = true
	for i := range list {
		s := &list[i]
		first := ""
		if len(s.Head) > 0 {
			first = s.Head[0]
		}
		switch {
		case slices.Contains(mysqlFrames, first):
			continue
		case first == "USE" && len(s.Head) == 2 && strings.EqualFold(plain(s.Head[1]), database):
			continue
		case first == "USE":
			return nil, nil, false, fmt.Errorf("line %d: this is for the database %s, and the server uses %s", s.Line, text.Clean(plain(s.Head[len(s.Head)-1])), text.Clean(database))
		}
		if name, makes := s.makesDatabase(); makes && strings.EqualFold(name, database) {
			continue
		} else if makes {
			return nil, nil, false, fmt.Errorf("line %d: this is for the database %s, and the server uses %s", s.Line, text.Clean(name), text.Clean(database))
		}
		if err := s.mayRun(first); err != nil {
			return nil, nil, false, fmt.Errorf("line %d: %w", s.Line, err)
		}
		d, ok := s.deed()
		if ok && d.In != "" && !strings.EqualFold(d.In, database) {
			return nil, nil, false, fmt.Errorf("line %d: this is for the database %s, and the server uses %s", s.Line, text.Clean(d.In), text.Clean(database))
		}
		if ok && !slices.Contains(tables, d.Table) {
			tables = append(tables, d.Table)
		}
		sure = sure && slices.Contains(mysqlSure, first) && (first != "DROP" || !strings.Contains(s.Text, ",")) // one of several
		run = append(run, *s)
	}
	if len(run) == 0 {
		return nil, nil, false, errors.New("there is no statement in it")
	}
	return run, tables, sure, nil
}

// makesDatabase tells a statement that makes sure that a database is there.
func (s *Statement) makesDatabase() (name string, makes bool) {
	if len(s.Head) < 6 || s.Head[0] != "CREATE" || s.Head[1] != "DATABASE" && s.Head[1] != "SCHEMA" || s.Head[2] != "IF" {
		return "", false
	}
	return plain(s.Head[5]), true
}

// mayRun tells why a statement is not run.
func (s *Statement) mayRun(first string) error {
	words := strings.FieldsFunc(strings.ToUpper(s.Text), func(c rune) bool { return c < 0x80 && !isWord(byte(c)) })
	switch {
	case first == "PRAGMA" || first == "ATTACH" || first == "VACUUM":
		return fmt.Errorf("%s is of SQLite, and the database is one of MySQL", first)
	case first == "CREATE" && slices.Contains(words, "AUTOINCREMENT"):
		return errors.New("AUTOINCREMENT is of SQLite, and the database is one of MySQL")
	case !slices.Contains(mysqlRuns, first):
		return fmt.Errorf("%s is not run, as it may lead out of the database; do it by hand", text.Clean(first))
	case first == "CREATE" || first == "ALTER" || first == "DROP":
		if what := s.thing(); !slices.Contains(mysqlThings, what) {
			return fmt.Errorf("%s %s is not run, as it leads out of the tables of the database; do it by hand", first, text.Clean(what))
		}
	case first == "SET" || first == "SELECT" || first == "WITH" || first == "DO":
		for _, word := range words {
			if slices.Contains(mysqlBeyond, word) && (first != "SET" || word != "ROLE") {
				return fmt.Errorf("%s with %s is not run, as it reaches further than the database; do it by hand", first, word)
			}
			if word == "NO_BACKSLASH_ESCAPES" || word == "ANSI_QUOTES" {
				return fmt.Errorf("it sets %s, which changes how the rest of it is to be read; run it by hand", word)
			}
		}
	}
	return nil
}

// thing is what a statement makes, changes or drops.
func (s *Statement) thing() string {
	for i := 1; i < len(s.Head); i++ {
		switch word := s.Head[i]; {
		case word == "ALGORITHM" || word == "SECURITY" || word == "DEFINER":
			i++ // which it is
		case slices.Contains(mysqlOptions, word) || strings.HasPrefix(word, "\"") || word == "'" || word == "(" || word == ")":
		default:
			return word
		}
	}
	return ""
}
