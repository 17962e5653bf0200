package text

import (
	"bytes"
	"errors"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// Shell is the language that a start command is written in.
type Shell string

// The languages of start commands.
const (
	ShellPOSIX   Shell = "shell"   // a script for sh or bash
	ShellBatch   Shell = "batch"   // a batch file for Windows
	ShellUnit    Shell = "unit"    // a systemd unit with its ExecStart
	ShellPlain   Shell = "words"   // a pasted command line; words as sh would cut them, and nothing else of sh
	ShellCompose Shell = "compose" // a compose-style YAML file: the command of a service
	ShellEnv     Shell = "env"     // NAME=value lines
)

// Launch is what a start script says: its commands, cut into words as its shell
// would, and its variables.
type Launch struct {
	Commands  []Command
	Variables map[string]Piece // the last value of each
	Faults    []*Fault

	whole map[string]bool // of a batch file: variables that stand in quotes with their names, which are not part of them
}

// Command is one command with its words.
type Command struct {
	Span
	Words []Piece
	// Uses tells for a word that is, or ends in, a single variable which one:
	// Uses[i].Name is "" for all others. Mixed words, put together from several
	// variables or from a command's output, are marked as such.
	Uses []Use
}

// Use is a variable in a word.
type Use struct {
	Name  string
	At    int  // where in the word's text the variable's value would stand
	Mixed bool // the word holds what is only known when the script runs
	Cut   bool // the value falls apart here, as it has a blank or a sign of the shell in it and no quotes around that

	quoted bool // it stands in quotes
}

// posixSpecials are the characters that sh gives a meaning to outside quotes.
const posixSpecials = " \t|&;<>()$`\\\"'*?[#~{}"

func encodePOSIX(context byte, s string) (string, error) {
	if err := refuse(s, "", "a shell script"); err != nil {
		return "", err
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case context == '\'' && c == '\'':
			b.WriteString(`'\''`)
			continue
		case context == '"' && strings.IndexByte("$`\"\\", c) >= 0,
			context == 0 && strings.IndexByte(posixSpecials, c) >= 0:
			b.WriteByte('\\')
		}
		b.WriteByte(c)
	}
	return b.String(), nil
}

// ReadPOSIX reads a script for sh or bash with its own parser, which knows
// quotes, lines that go on, and comments.
func ReadPOSIX(doc []byte) *Launch {
	l := &Launch{Variables: map[string]Piece{}}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(bytes.NewReader(shadow(doc)), "")
	if err != nil {
		var pe syntax.ParseError
		if errors.As(err, &pe) {
			l.Faults = append(l.Faults, FaultAt(doc, int(pe.Pos.Offset()), "%s", pe.Text))
		} else {
			l.Faults = append(l.Faults, &Fault{1, 1, err.Error()})
		}
		return l
	}
	syntax.Walk(file, func(n syntax.Node) bool {
		if call, ok := n.(*syntax.CallExpr); ok {
			l.call(doc, call)
		}
		return !inBackquotes(n)
	})
	// export NAME=value and its like are declarations, not calls.
	syntax.Walk(file, func(n syntax.Node) bool {
		if d, ok := n.(*syntax.DeclClause); ok {
			for _, a := range d.Args {
				if a.Name != nil && !a.Naked {
					l.assign(doc, a)
				}
			}
		}
		return !inBackquotes(n)
	})
	return l
}

// inBackquotes tells a command whose output is used and that is written between backquotes:
// quotes and backslashes in it mean something else once more, so that nothing in it can be
// changed safely.
func inBackquotes(n syntax.Node) bool {
	s, ok := n.(*syntax.CmdSubst)
	return ok && s.Backquotes
}

// call notes a command and the variables that are set before it.
func (l *Launch) call(doc []byte, call *syntax.CallExpr) {
	for _, a := range call.Assigns { // each has a name: only declarations can do without
		if syntax.ValidName(a.Name.Value) && a.Index == nil {
			l.assign(doc, a)
		}
	}
	if len(call.Args) == 0 {
		return
	}
	c := Command{Span: Span{int(call.Pos().Offset()), int(call.End().Offset())}}
	for _, w := range call.Args {
		p, use := posixWord(doc, w)
		c.Words, c.Uses = append(c.Words, p), append(c.Uses, use)
	}
	l.Commands = append(l.Commands, c)
}

// assign notes the value of a variable, or that it is only known when the script runs.
func (l *Launch) assign(doc []byte, a *syntax.Assign) {
	// A name that a line's end cuts in two is one to the shell, and its value stands elsewhere than the parser says.
	if a.Value != nil && !a.Append && bytes.HasPrefix(doc[a.Name.Pos().Offset():], []byte(a.Name.Value+"=")) {
		if p, use := posixWord(doc, a.Value); use == (Use{}) {
			l.Variables[a.Name.Value] = p
			return
		}
	}
	delete(l.Variables, a.Name.Value)
}

// shadow is doc with what confuses the parsers of other packages replaced by
// blanks, byte for byte: CR before LF, and a byte-order mark.
func shadow(doc []byte) []byte {
	s := bytes.ReplaceAll(doc, []byte("\r\n"), []byte(" \n"))
	if Begin(doc) > 0 {
		copy(s, "   ")
	}
	return s
}

// posixWord reads one word: what it means as far as the script says, and the
// variable in it.
func posixWord(doc []byte, w *syntax.Word) (Piece, Use) {
	b := newPiece(int(w.Pos().Offset()), 0, encodePOSIX)
	use := Use{}
	var parts func(list []syntax.WordPart, context byte)
	parts = func(list []syntax.WordPart, context byte) {
		for _, part := range list {
			start, end := int(part.Pos().Offset()), int(part.End().Offset())
			switch part := part.(type) {
			case *syntax.Lit:
				posixLiteral(b, doc, Span{start, end}, context)
			case *syntax.SglQuoted:
				if part.Dollar {
					use.Mixed = true
					continue
				}
				b.open(start+1, '\'')
				b.add(string(doc[start+1:end-1]), Span{start + 1, end - 1}, '\'')
			case *syntax.DblQuoted:
				b.open(start+1, '"')
				parts(part.Parts, '"')
			case *syntax.ParamExp:
				if use.Name != "" || part.Param == nil || part.Exp != nil || part.Slice != nil || part.Repl != nil || part.Length || part.Excl || part.Index != nil {
					use.Mixed = true
					continue
				}
				use.Name, use.At = part.Param.Value, b.value.Len()
			default:
				use.Mixed = true
			}
		}
	}
	parts(w.Parts, 0)
	p := b.done(int(w.End().Offset()))
	if p.End < len(doc) && (doc[p.End] == '<' || doc[p.End] == '>') {
		p.rewrite = func(want string) (string, bool, error) {
			// A number right before a redirection would be taken for a file's.
			return "'" + want + "'", strings.Trim(want, "0123456789") == "", nil
		}
	}
	if use.Name != "" && use.At != len(p.Value) {
		use.Mixed = true // something follows the variable
	}
	return p, use
}

// posixLiteral reads text with backslashes.
func posixLiteral(b *pieceBuilder, doc []byte, at Span, context byte) {
	for i := at.Start; i < at.End; i++ {
		if doc[i] == '\\' && i+1 == at.End && at.End < len(doc) && (doc[at.End] == '\n' || doc[at.End] == '\r') {
			return // the line goes on; the parser ends the literal before its end
		}
		if doc[i] != '\\' || i+1 >= at.End {
			b.add(string(doc[i:i+1]), Span{i, i + 1}, context)
			continue
		}
		next := doc[i+1]
		switch {
		case next == '\n':
			i++
		case next == '\r' && i+2 < at.End && doc[i+2] == '\n':
			i += 2
		case context == '"' && strings.IndexByte("$`\"\\", next) < 0:
			b.add(`\`, Span{i, i + 1}, context)
		default:
			b.add(string(doc[i+1:i+2]), Span{i, i + 2}, context)
			i++
		}
	}
}

// ReadWords reads a command line as it is pasted into a form: words parted by
// blanks, with quotes and backslashes as in sh. Nothing else has a meaning, so
// that $ and ; stand for themselves. Lines are parted like words.
func ReadWords(doc []byte) *Launch {
	l := &Launch{Variables: map[string]Piece{}}
	c := Command{Span: Span{Begin(doc), len(doc)}}
	for at := Begin(doc); at < len(doc); {
		if isSpace(doc[at]) || doc[at] == '\n' {
			at++
			continue
		}
		p, fault := plainWord(doc, at)
		if fault != nil {
			l.Faults = append(l.Faults, fault)
			return l
		}
		c.Words, c.Uses = append(c.Words, p), append(c.Uses, Use{})
		at = p.End
	}
	l.Commands = []Command{c}
	return l
}

func plainWord(doc []byte, start int) (Piece, *Fault) {
	b := newPiece(start, 0, encodeWords)
	at := start
	for at < len(doc) && !isSpace(doc[at]) && doc[at] != '\n' {
		switch c := doc[at]; c {
		case '"', '\'':
			end := quoteLength(doc[at+1:], c)
			if end < 0 {
				return Piece{}, FaultAt(doc, at, "the quote %c opens here and is never closed", c)
			}
			b.open(at+1, c)
			for i := at + 1; i <= at+end; i++ {
				if c == '"' && doc[i] == '\\' && i < at+end && (doc[i+1] == '"' || doc[i+1] == '\\') {
					b.add(string(doc[i+1:i+2]), Span{i, i + 2}, c)
					i++
					continue
				}
				b.add(string(doc[i:i+1]), Span{i, i + 1}, c)
			}
			at += end + 2
		case '\\':
			if at+1 < len(doc) && (isSpace(doc[at+1]) || strings.IndexByte(`"'\`, doc[at+1]) >= 0) {
				b.add(string(doc[at+1:at+2]), Span{at, at + 2}, 0)
				at += 2
				continue
			}
			b.add(`\`, Span{at, at + 1}, 0)
			at++
		default:
			b.add(string(doc[at:at+1]), Span{at, at + 1}, 0)
			at++
		}
	}
	return b.done(at), nil
}

// quoteLength is how far it is to the quote that closes, -1 when none does. In
// double quotes a backslash takes the quote or backslash behind it along.
func quoteLength(s []byte, quote byte) int {
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == quote:
			return i
		case quote == '"' && s[i] == '\\' && i+1 < len(s) && (s[i+1] == '"' || s[i+1] == '\\'):
			i++
		}
	}
	return -1
}

func encodeWords(context byte, s string) (string, error) {
	if err := refuse(s, "", "a command line"); err != nil {
		return "", err
	}
	switch context {
	case '\'':
		return s, refuse(s, "'", "single quotes")
	case '"':
		return strings.NewReplacer(`"`, `\"`, `\`, `\\`).Replace(s), nil
	}
	return strings.NewReplacer(" ", `\ `, "\t", "\\\t", `"`, `\"`, "'", `\'`, `\`, `\\`).Replace(s), nil
}

// ShellWord is a text as it can be typed as one word of a POSIX shell: as it is where that
// will do, else in single quotes.
func ShellWord(s string) string {
	plain := func(c rune) bool {
		return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || strings.ContainsRune("_@%+=:,./-", c)
	}
	if s != "" && !strings.ContainsFunc(s, func(c rune) bool { return !plain(c) }) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
