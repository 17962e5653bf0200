// Package sqlscript cuts a script for a database into its statements, with strings, comments and the bodies of
// triggers understood, tells which tables it touches, and keeps what those held.
package sqlscript

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/text"
)

// MaxScript is the largest script that is read, in bytes.
const MaxScript = 16 << 20

// Statement is one statement of a script.
type Statement struct {
	Text string   `json:"text"` // without the semicolon behind it
	Line int      `json:"line"` // from 1
	Head []string `json:"-"`
}

// headWords is how many words of a statement are kept in Head, in capitals where they have no quotes.
const headWords = 12

// Engine is the kind of a database.
type Engine string

// The engines that scripts are run on; MySQL stands for MariaDB too.
const (
	SQLite Engine = "sqlite"
	MySQL  Engine = "mysql"
)

// Split cuts a script into statements, as its engine's documentation has it ("SQL As Understood By SQLite"; "Comments",
// "String Literals" and, of the client, "DELIMITER" in the MySQL manual). The fault says what is never closed, or
// that a line is meant for another program.
func Split(script []byte, engine Engine) ([]Statement, *text.Fault) {
	if fault := text.NotText(script); fault != nil {
		return nil, fault
	}
	r := reader{doc: script, line: 1, mysql: engine == MySQL, ends: ";"}
	for r.at < len(script) {
		if fault := r.next(); fault != nil {
			return nil, fault
		}
	}
	if r.cond {
		return nil, text.FaultAt(r.doc, r.from, "the comment that begins here is never closed")
	}
	r.end(len(script))
	return r.list, nil
}

// reader reads a script.
type reader struct {
	doc   []byte
	at    int
	line  int // on which at stands
	from  int // where the statement begins, from its first word on
	began int // on which line
	words []string
	depth int // of BEGIN and CASE in the body of a trigger
	list  []Statement

	mysql bool
	ends  string // what ends a statement
	cond  bool   // at is in a comment that MySQL runs
}

const blanks = " \t\r\n\f\v"

// next reads a comment, a string, a word, or a sign.
func (r *reader) next() *text.Fault {
	rest := r.doc[r.at:]
	switch c := rest[0]; {
	case r.mysql && r.began == 0 && r.delimiter(rest):
	case bytes.HasPrefix(rest, []byte(r.ends)):
		if r.depth > 0 {
			r.at++
			return nil
		}
		r.end(r.at)
		r.at += len(r.ends)
	case r.comment(rest):
		end := bytes.IndexByte(rest, '\n')
		if end < 0 {
			end = len(rest)
		}
		r.at += end
	case r.mysql && r.conditional(rest):
	case bytes.HasPrefix(rest, []byte("/*")):
		end := bytes.Index(rest, []byte("*/"))
		if end < 0 {
			return text.FaultAt(r.doc, r.at, "the comment that begins here is never closed")
		}
		r.pass(end + 2)
	case c == '\'' || c == '"' || c == '`' || c == '[' && !r.mysql:
		return r.quoted(c)
	case r.began == 0 && (c == '.' && !r.mysql || c == '\\'):
		return text.FaultAt(r.doc, r.at, "this line is meant for a program at a terminal, and not for the database")
	case isWord(c):
		end := 1
		for end < len(rest) && isWord(rest[end]) && !bytes.HasPrefix(rest[end:], []byte(r.ends)) {
			end++
		}
		r.word(strings.ToUpper(string(rest[:end])))
		r.at += end
	default:
		if strings.IndexByte(blanks, c) < 0 {
			r.begin()
			if c == '(' || c == ')' || c == '.' || c == ',' {
				r.add(string(c))
			}
		}
		r.pass(1)
	}
	return nil
}

// comment tells whether one begins that ends with its line.
func (r *reader) comment(rest []byte) bool {
	if !r.mysql {
		return bytes.HasPrefix(rest, []byte("--"))
	}
	return rest[0] == '#' || bytes.HasPrefix(rest, []byte("--")) && (len(rest) == 2 || rest[2] <= ' ')
}

// delimiter reads a line that says what ends statements from there on.
func (r *reader) delimiter(rest []byte) bool {
	const word = "DELIMITER"
	if len(rest) <= len(word) || !bytes.EqualFold(rest[:len(word)], []byte(word)) || rest[len(word)] != ' ' && rest[len(word)] != '\t' {
		return false
	}
	line, _, _ := bytes.Cut(rest, []byte("\n"))
	said := bytes.Fields(line[len(word):])
	if len(said) == 0 {
		return false
	}
	r.ends = string(said[0])
	r.at += len(line)
	return true
}

// conditional reads the marks around what MySQL runs though it looks like a comment (/*!40101 … */).
func (r *reader) conditional(rest []byte) bool {
	if r.cond && bytes.HasPrefix(rest, []byte("*/")) {
		r.cond = false
		r.pass(2)
		return true
	}
	n := 0
	for _, mark := range []string{"/*!", "/*M!"} {
		if bytes.HasPrefix(rest, []byte(mark)) {
			n = len(mark)
		}
	}
	if n == 0 || r.cond {
		return false
	}
	for n < len(rest) && rest[n] >= '0' && rest[n] <= '9' {
		n++
	}
	r.begin()
	r.pass(n)
	r.cond = true
	return true
}

// isWord tells what words and numbers are made of.
func isWord(c byte) bool {
	return c == '_' || c == '$' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// pass goes on by so many bytes.
func (r *reader) pass(n int) {
	r.line += bytes.Count(r.doc[r.at:r.at+n], []byte("\n"))
	r.at += n
}

func (r *reader) begin() {
	if r.began == 0 {
		r.from, r.began = r.at, r.line
	}
}

func (r *reader) add(word string) {
	if len(r.words) < headWords {
		r.words = append(r.words, word)
	}
}

// word reads a word: within the body of a trigger statements end with semicolons of their own.
func (r *reader) word(word string) {
	r.begin()
	r.add(word)
	if !r.trigger() {
		return
	}
	switch word {
	case "BEGIN", "CASE":
		r.depth++
	case "END":
		r.depth = max(r.depth-1, 0)
	}
}

// trigger tells whether the statement makes one.
func (r *reader) trigger() bool {
	if r.mysql || len(r.words) < 2 || r.words[0] != "CREATE" {
		return false
	}
	return r.words[1] == "TRIGGER" || len(r.words) > 2 && strings.HasPrefix(r.words[1], "TEMP") && r.words[2] == "TRIGGER"
}

// quoted reads a string or a name in quotes; a quote in it is written twice, or in MySQL's strings behind a backslash.
func (r *reader) quoted(open byte) *text.Fault {
	r.begin()
	closing := open
	if open == '[' {
		closing = ']'
	}
	for i := r.at + 1; i < len(r.doc); i++ {
		if r.mysql && open != '`' && r.doc[i] == '\\' {
			i++
			continue
		}
		if r.doc[i] != closing {
			continue
		}
		if open != '[' && i+1 < len(r.doc) && r.doc[i+1] == closing {
			i++
			continue
		}
		name := string(r.doc[r.at+1 : i])
		if open != '\'' && (open != '"' || !r.mysql) {
			r.add("\"" + name)
		} else {
			r.add("'")
		}
		r.pass(i + 1 - r.at)
		return nil
	}
	return text.FaultAt(r.doc, r.at, "the %c that opens here is never closed", open)
}

// end ends a statement.
func (r *reader) end(at int) {
	if r.began > 0 {
		r.list = append(r.list, Statement{strings.Trim(string(r.doc[r.from:at]), blanks), r.began, r.words})
	}
	r.began, r.words, r.depth, r.cond = 0, nil, 0, false
}

// Deed is what a script does to a table.
type Deed struct {
	In    string // the database that is named with the table, "" for none
	Table string
	Does  string // makes, drops, changes, adds to, or takes from
}

// Deeds are what statements do to which tables, each once, in their order.
func Deeds(list []Statement) (deeds []Deed) {
	for i := range list {
		d, ok := list[i].deed()
		if ok && !slices.ContainsFunc(deeds, func(o Deed) bool { return o.Table == d.Table && o.Does == d.Does }) {
			deeds = append(deeds, d)
		}
	}
	return deeds
}

// skipped are the words that may stand before a name.
var skipped = []string{"TEMP", "TEMPORARY", "VIRTUAL", "IF", "NOT", "EXISTS", "OR", "REPLACE", "IGNORE", "ABORT", "FAIL", "ROLLBACK", "ONLY", "UNIQUE", "LOW_PRIORITY", "DELAYED", "HIGH_PRIORITY", "QUICK"}

// deed is what a statement does.
func (s *Statement) deed() (d Deed, ok bool) {
	does := map[string]string{"CREATE": "makes", "DROP": "drops", "ALTER": "changes", "INSERT": "adds to", "REPLACE": "adds to", "UPDATE": "changes", "DELETE": "takes from", "TRUNCATE": "empties", "RENAME": "renames"}
	if len(s.Head) == 0 || does[s.Head[0]] == "" {
		return d, false
	}
	d.Does = does[s.Head[0]]
	want := map[string]string{"CREATE": "TABLE", "DROP": "TABLE", "ALTER": "TABLE", "INSERT": "INTO", "REPLACE": "INTO", "DELETE": "FROM", "RENAME": "TABLE", "TRUNCATE": "TABLE"}[s.Head[0]]
	for i, word := range s.Head[1:] {
		switch {
		case want != "" && word == want:
			want = ""
		case slices.Contains(skipped, word):
		case want == "TABLE" && s.Head[0] != "TRUNCATE", want == "FROM":
			return d, false // an index, a view, a trigger
		case i+3 < len(s.Head) && s.Head[i+2] == ".": // the name of the database before it
			d.In, d.Table = plain(word), plain(s.Head[i+3])
			return d, true
		default:
			d.Table = plain(word)
			return d, d.Table != "" && d.Table != "("
		}
	}
	return d, false
}

// plain is a name without its mark.
func plain(word string) string {
	if name, quoted := strings.CutPrefix(word, "\""); quoted {
		return name
	}
	return strings.ToLower(word)
}

// String says a deed as an operator would.
func (d Deed) String() string { return fmt.Sprintf("%s the table %s", d.Does, text.Clean(d.Table)) }

// forbidden are statements that lead out of the database, or out of what can be taken back.
var forbidden = map[string]string{
	"ATTACH": "opens another file", "DETACH": "belongs to another file", "VACUUM": "writes the whole file anew", "PRAGMA": "changes how the database works", "ROLLBACK": "takes back what came before",
}

// framing are statements of which Initium has its own.
var framing = []string{"BEGIN", "COMMIT", "END"}

// foreign are words that SQLite has not, and the database that they are of.
var foreign = map[string]string{"ENGINE": "MySQL", "AUTO_INCREMENT": "MySQL", "DELIMITER": "MySQL", "UNSIGNED": "MySQL", "LOCK": "MySQL", "USE": "MySQL", "SERIAL": "PostgreSQL"}

// ForSQLite are the statements that are run, without those that begin and end a transaction. The error names what
// cannot be run: what leads out of the database, and what is written for another one.
func ForSQLite(list []Statement) (run []Statement, err error) {
	for _, s := range list {
		first := ""
		if len(s.Head) > 0 {
			first = s.Head[0]
		}
		switch {
		case slices.Contains(framing, first) && len(s.Head) <= 3:
			continue
		case forbidden[first] != "":
			return nil, fmt.Errorf("line %d: %s is not run, as it %s", s.Line, first, forbidden[first])
		case foreign[first] != "":
			return nil, fmt.Errorf("line %d: this is written for %s, and the database is one of SQLite", s.Line, foreign[first])
		}
		for _, word := range strings.FieldsFunc(strings.ToUpper(s.Text), func(c rune) bool { return c < 0x80 && !isWord(byte(c)) }) {
			if of := foreign[word]; of != "" && first == "CREATE" && (word == "ENGINE" || word == "AUTO_INCREMENT") {
				return nil, fmt.Errorf("line %d: %s is of %s, and the database is one of SQLite", s.Line, word, of)
			}
		}
		run = append(run, s)
	}
	if len(run) == 0 {
		return nil, fmt.Errorf("there is no statement in it")
	}
	return run, nil
}
