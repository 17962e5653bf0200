package text

import (
	"bytes"
	"strings"
)

// ReadBatch reads a Windows batch file: rem and :: remarks, set NAME=value and
// set "NAME=value", lines that go on after ^, words in double quotes, %NAME%.
func ReadBatch(doc []byte) *Launch {
	l := &Launch{Variables: map[string]Piece{}, whole: map[string]bool{}}
	lines := Lines(doc)
	for i := 0; i < len(lines); i++ {
		from := lines[i].Text.Start
		for i+1 < len(lines) && endsInCaret(lines[i].Text.In(doc)) {
			i++
		}
		batchLine(doc, Span{from, lines[i].Text.End}, l)
	}
	for _, c := range l.Commands {
		for i, use := range c.Uses {
			v, ok := l.Variables[use.Name]
			if ok && batchCut(v, l.whole[use.Name], use.quoted) {
				c.Uses[i].Cut = true
			}
			if ok && use.quoted && !l.whole[use.Name] && strings.IndexByte(string(v.In(doc)), '"') < 0 { // blanks need no quotes here, and could have none
				v.encode, v.rewrite = encodeBatchLoose, nil
				l.Variables[use.Name] = v
			}
		}
	}
	return l
}

// batchCut tells whether the value of a variable falls apart where it is used: the shell puts its text there before it
// looks for quotes, blanks and commands, so that quotes which are part of the value, as in set NAME="value", end those
// that stand around its use.
func batchCut(v Piece, whole, quoted bool) bool {
	v.placed()
	for i := range len(v.Value) {
		own := !whole && v.within[i] == '"'
		if strings.IndexByte(" \t&|<>^", v.Value[i]) >= 0 && own == quoted {
			return true
		}
	}
	return false
}

// endsInCaret tells a line that goes on: its last caret is neither itself escaped nor
// between quotes, where a caret is one.
func endsInCaret(line []byte) bool {
	quoted := false
	for i := 0; i < len(line); i++ {
		switch {
		case line[i] == '"':
			quoted = !quoted
		case line[i] == '^' && !quoted:
			if i++; i == len(line) {
				return true
			}
		}
	}
	return false
}

func batchLine(doc []byte, at Span, l *Launch) {
	body := trim(doc, at)
	if body.Len() > 0 && doc[body.Start] == '@' {
		body.Start++
	}
	head := strings.ToLower(string(body.In(doc)))
	switch {
	case head == "" || head[0] == ':' || head == "rem" || strings.HasPrefix(head, "rem ") || strings.HasPrefix(head, "rem\t"):
	case head == "set" || strings.HasPrefix(head, "set ") || strings.HasPrefix(head, "set\t") || strings.HasPrefix(head, "set/"):
		batchSet(doc, Span{body.Start + 3, at.End}, l)
	default:
		batchCommands(doc, body, l)
	}
}

// batchSet reads what stands behind "set".
func batchSet(doc []byte, at Span, l *Launch) {
	value := trim(doc, at)
	if value.Len() > 0 && doc[value.Start] == '/' {
		batchAsked(string(value.In(doc)), l)
		return
	}
	quote := byte(0)
	if value.Len() > 0 && doc[value.Start] == '"' { // up to the last quote; where there is none, to the line's end
		value, quote = Span{value.Start + 1, at.End}, '"'
		if last := bytes.LastIndexByte(value.In(doc), '"'); last >= 0 {
			value.End = value.Start + last
		}
	}
	name, _, ok := bytes.Cut(value.In(doc), []byte("="))
	if !ok {
		return
	}
	p, use := batchPiece(doc, Span{value.Start + len(name) + 1, value.End}, quote)
	variable := strings.ToUpper(strings.TrimSpace(string(name)))
	delete(l.Variables, variable)
	l.whole[variable] = quote != 0
	if use == (Use{}) { // else it is only known when the file runs
		l.Variables[variable] = p
	}
}

// batchAsked forgets the variables of "set /p NAME=question" and "set /a NAME=sum, …":
// what they are is known only when the file runs.
func batchAsked(options string, l *Launch) {
	for _, part := range strings.Split(options, ",") {
		name, _, _ := strings.Cut(part, "=")
		if strings.HasPrefix(name, "/") {
			name = name[min(2, len(name)):]
		}
		delete(l.Variables, strings.ToUpper(strings.Trim(name, " \t\"+-*/%&|^<>")))
	}
}

// batchCommands reads the commands of a line.
func batchCommands(doc []byte, body Span, l *Launch) {
	c := Command{Span: body}
	end := func() {
		if len(c.Words) > 0 {
			l.Commands = append(l.Commands, c)
		}
	}
	for start := body.Start; start < body.End; {
		switch {
		case isBlank(doc[start]) || endsLine(doc[start]) || doc[start] == '^' && start+1 < body.End && endsLine(doc[start+1]):
			start++
		case doc[start] == '&' || doc[start] == '|': // another command on the same line
			end()
			c = Command{Span: Span{start, body.End}}
			start++
		default:
			stop := batchWordEnd(doc, start, body.End)
			p, use := batchPiece(doc, Span{start, stop}, 0)
			c.Words, c.Uses = append(c.Words, p), append(c.Uses, use)
			start = stop
		}
	}
	end()
}

func endsLine(c byte) bool { return c == '\r' || c == '\n' }

func batchWordEnd(doc []byte, at, end int) int {
	quoted := false
	for ; at < end; at++ {
		switch c := doc[at]; {
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '^' && at+1 < end:
			if endsLine(doc[at+1]) {
				return at
			}
			at++
		case isBlank(c) || endsLine(c) || c == '&' || c == '|':
			return at
		}
	}
	return end
}

// batchPiece reads a word, or the value of a variable.
func batchPiece(doc []byte, at Span, context byte) (Piece, Use) {
	b, use := newPiece(at.Start, context, encodeBatch), Use{}
	base := context
	for i := at.Start; i < at.End; i++ {
		switch c := doc[i]; {
		case c == '"' && base == 0 && context == 0:
			context = '"'
			b.open(i+1, '"')
		case c == '"' && base == 0:
			context = 0
		case c == '^' && context == 0 && i+1 < at.End && endsLine(doc[i+1]):
			for i+1 < at.End && endsLine(doc[i+1]) {
				i++
			}
		case c == '^' && context == 0 && i+1 == at.End: // there is nothing that it could keep from meaning something
		case c == '^' && context == 0 && i+1 < at.End:
			b.add(string(doc[i+1:i+2]), Span{i, i + 2}, context)
			i++
		case c == '%' && i+1 < at.End && doc[i+1] == '%':
			b.add("%", Span{i, i + 2}, context)
			i++
		case c == '%':
			end := bytes.IndexByte(doc[i+1:at.End], '%')
			if end < 1 || use.Name != "" {
				use.Mixed = true
				b.add("%", Span{i, i + 1}, context)
				continue
			}
			use.quoted = context == '"'
			use.Name, use.At = strings.ToUpper(string(doc[i+1:i+1+end])), b.value.Len()
			i += end + 1
		default:
			b.add(string(doc[i:i+1]), Span{i, i + 1}, context)
		}
	}
	p := b.done(at.End)
	if base == 0 && use == (Use{}) {
		p.rewrite = rewriteBatch
	}
	use.Mixed = use.Mixed || use.Name != "" && use.At != len(p.Value)
	return p, use
}

// rewriteBatch puts a word with blanks in quotes.
func rewriteBatch(want string) (written string, needed bool, err error) {
	if !strings.ContainsAny(want, " \t") {
		return "", false, nil
	}
	written, err = encodeBatch('"', want)
	return `"` + written + `"`, true, err
}

// encodeBatchLoose writes the value of a variable that is used in quotes: blanks need none of their own.
func encodeBatchLoose(context byte, s string) (string, error) {
	words := strings.Split(s, " ")
	for i := range words {
		var err error
		if words[i], err = encodeBatch(context, words[i]); err != nil {
			return "", err
		}
	}
	return strings.Join(words, " "), nil
}

func encodeBatch(context byte, s string) (string, error) {
	if err := refuse(s, "\"", "a batch file"); err != nil {
		return "", err
	}
	s = strings.ReplaceAll(s, "%", "%%")
	if context == '"' {
		return s, nil
	}
	if strings.ContainsAny(s, " \t") {
		return "", refuse(s, " \t", "a batch file outside quotes")
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if strings.IndexByte("&|<>^()", s[i]) >= 0 {
			b.WriteByte('^')
		}
		b.WriteByte(s[i])
	}
	return b.String(), nil
}
