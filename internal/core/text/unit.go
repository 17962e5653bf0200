package text

import (
	"bytes"
	"strconv"
	"strings"
)

// ReadUnit reads a systemd unit (systemd.service(5), systemd.syntax(7)): the
// words of its last ExecStart, lines that go on after a backslash, comments
// between them, quotes and escapes, and the variables of its Environment lines.
func ReadUnit(doc []byte) *Launch {
	l := &Launch{Variables: map[string]Piece{}}
	lines := Lines(doc)
	section := ""
	for i := 0; i < len(lines); i++ {
		body := trim(doc, lines[i].Text)
		if body.Len() == 0 || strings.IndexByte("#;", doc[body.Start]) >= 0 {
			continue
		}
		if doc[body.Start] == '[' {
			section = strings.Trim(string(body.In(doc)), "[] ")
			continue
		}
		pieces := []Span{body}
		for i+1 < len(lines) && bytes.HasSuffix(bytes.TrimRight(lines[i].Text.In(doc), " \t\r"), []byte(`\`)) {
			last := &pieces[len(pieces)-1]
			if last.Len() > 0 && doc[last.End-1] == '\\' {
				last.End--
			}
			i++
			for i+1 < len(lines) && isUnitComment(lines[i].Text.In(doc)) {
				i++
			}
			pieces = append(pieces, trim(doc, lines[i].Text))
		}
		key, _, ok := bytes.Cut(pieces[0].In(doc), []byte("="))
		if !ok {
			l.Faults = append(l.Faults, FaultAt(doc, body.Start, "expected a setting with =, or a section in brackets"))
			continue
		}
		pieces[0].Start += len(key) + 1
		if section == "Service" {
			unitSetting(doc, strings.TrimSpace(string(key)), pieces, l)
		}
	}
	return l
}

func isUnitComment(line []byte) bool {
	line = bytes.TrimSpace(line)
	return len(line) > 0 && strings.IndexByte("#;", line[0]) >= 0
}

func unitSetting(doc []byte, key string, pieces []Span, l *Launch) {
	words, uses, fault := unitWords(doc, pieces)
	if fault != nil {
		l.Faults = append(l.Faults, fault)
		return
	}
	switch key {
	case "ExecStart":
		if len(words) == 0 { // an empty one takes those before it back
			l.Commands = nil
			return
		}
		l.Commands = append(l.Commands, Command{Span{pieces[0].Start, pieces[len(pieces)-1].End}, words, uses})
	case "Environment":
		for i := range words {
			name, _, ok := strings.Cut(words[i].Value, "=")
			if ok && uses[i] == (Use{}) {
				l.Variables[name] = words[i].Tail(len(name) + 1)
			}
		}
	}
}

// Tail is the piece from a position of its text on.
func (p Piece) Tail(from int) Piece {
	if whole, head := p.rewrite, p.Value[:from]; whole != nil { // other quotes are those of the whole word
		p.rewrite = func(want string) (string, bool, error) { return whole(head + want) }
	}
	p.Value = p.Value[from:]
	p.placed()
	p.from, p.to, p.within = p.from[from:], p.to[from:], p.within[from:]
	p.insert, p.context = p.insert[from:], p.context[from:]
	return p
}

// unitWords cuts a setting into words. A word does not go on over the end of a
// line.
func unitWords(doc []byte, pieces []Span) (words []Piece, uses []Use, fault *Fault) {
	for _, at := range pieces {
		for i := at.Start; i < at.End; {
			if isSpace(doc[i]) {
				i++
				continue
			}
			p, use, fault := unitWord(doc, i, at.End)
			if fault != nil {
				return nil, nil, fault
			}
			words, uses = append(words, p), append(uses, use)
			i = p.End
		}
	}
	return words, uses, nil
}

func unitWord(doc []byte, start, end int) (Piece, Use, *Fault) {
	b, use, quote := newPiece(start, 0, encodeUnit), Use{}, byte(0)
	i := start
	for ; i < end; i++ {
		c := doc[i]
		switch {
		case quote == 0 && isSpace(c):
			p := b.done(i)
			use.Mixed = use.Mixed || use.Name != "" && use.At != len(p.Value)
			return p, use, nil
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
			b.open(i+1, c)
		case quote != 0 && c == quote:
			quote = 0
		case c == '\\' && i+1 < end:
			s, n := unitEscape(doc[i:end])
			b.add(s, Span{i, i + n}, quote)
			i += n - 1
		case (c == '%' || c == '$') && i+1 < end && doc[i+1] == c:
			b.add(string(c), Span{i, i + 2}, quote)
			i++
		case c == '%':
			use.Mixed = true // a specifier, known to systemd only
			b.add("%", Span{i, i + 1}, quote)
		case c == '$':
			name, n := variableName(doc[i:end])
			if name == "" || use.Name != "" {
				use.Mixed = true
				b.add("$", Span{i, i + 1}, quote)
				continue
			}
			use.Name, use.At = name, b.value.Len()
			i += n - 1
		default:
			b.add(string(doc[i:i+1]), Span{i, i + 1}, quote)
		}
	}
	if quote != 0 {
		return Piece{}, Use{}, FaultAt(doc, start, "the quote %c in this word is never closed", quote)
	}
	p := b.done(i)
	use.Mixed = use.Mixed || use.Name != "" && use.At != len(p.Value)
	return p, use, nil
}

// variableName reads $NAME or ${NAME}.
func variableName(s []byte) (name string, length int) {
	body, braces := s[1:], 0
	if len(body) > 0 && body[0] == '{' {
		body, braces = body[1:], 1
	}
	n := 0
	for n < len(body) && (body[n] == '_' || body[n] >= 'a' && body[n] <= 'z' || body[n] >= 'A' && body[n] <= 'Z' || n > 0 && isDigit(body[n])) {
		n++
	}
	if braces > 0 && (n >= len(body) || body[n] != '}') {
		return "", 0
	}
	return string(body[:n]), 1 + n + 2*braces
}

// unitEscape reads an escape of C, as systemd.syntax(7) lists them.
func unitEscape(s []byte) (value string, length int) {
	if i := strings.IndexByte(`abfnrtv\"'s`, s[1]); i >= 0 {
		return "\a\b\f\n\r\t\v\\\"' "[i : i+1], 2
	}
	for _, form := range []struct {
		letter byte
		digits int
		base   int
	}{{'x', 2, 16}, {'u', 4, 16}, {'U', 8, 16}} {
		if s[1] == form.letter && len(s) >= 2+form.digits {
			if v, err := strconv.ParseUint(string(s[2:2+form.digits]), form.base, 32); err == nil {
				return string(rune(v)), 2 + form.digits
			}
		}
	}
	return `\`, 1
}

func encodeUnit(context byte, s string) (string, error) {
	if err := refuse(s, "", "a unit"); err != nil {
		return "", err
	}
	s = strings.NewReplacer(`\`, `\\`, "%", "%%", "$", "$$").Replace(s)
	switch context {
	case 0:
		s = strings.NewReplacer(" ", `\s`, "\t", `\t`, `"`, `\"`, "'", `\'`).Replace(s)
	default:
		s = strings.ReplaceAll(s, string(context), `\`+string(context))
	}
	return s, nil
}

// ReadEnv reads a file of NAME=value lines, with an optional export, quotes, and
// comment lines.
func ReadEnv(doc []byte) *Launch {
	l := &Launch{Variables: map[string]Piece{}}
	for _, line := range Lines(doc) {
		body := trim(doc, line.Text)
		if body.Len() == 0 || doc[body.Start] == '#' {
			continue
		}
		before, _, ok := bytes.Cut(body.In(doc), []byte("="))
		name := strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(string(before)), "export "))
		if !ok || name == "" {
			l.Faults = append(l.Faults, FaultAt(doc, body.Start, "expected NAME=value"))
			continue
		}
		l.Variables[name] = quotedLine(doc, trim(doc, Span{body.Start + len(before) + 1, body.End}))
	}
	return l
}
