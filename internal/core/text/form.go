package text

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Form is how a statement looks in a text of any notation: a line with text around
// placeholders, such as `load "{mod}";`, or of two lines, the one that opens a block and the
// one that closes it. A blank in it is one or more, and beside a sign none will do; a {mod} that
// has no quotes around it in the form may have some in the text; an {any} may be missing with the
// blank before it.
//
// A {MOD} is the name in capitals, with _ for a - in it, and a {Mod} the name with its first letter a
// capital: what stands there has to be just that.
//
// A block that closes with a bracket ends where that bracket does, with all that are opened
// within; another one at the first line that closes it, when those that open within are closed.
// With a line between the two, a block is in two parts, the first of which ends there.
type Form struct {
	lines   []*Pattern
	open    *regexp.Regexp
	names   []string       // of the groups of open
	turn    *regexp.Regexp // the line between, nil where there is none
	close   *regexp.Regexp // nil for a form of one line
	bracket byte           // that the closing line begins with, 0 for none
	nested  string         // what another block of the kind begins with, where no bracket tells
}

// ParseForm reads a form; known are the placeholders that it may have. The error says what is
// wrong with it.
func ParseForm(source string, comments, known []string) (*Form, error) {
	f := &Form{}
	parts := strings.Split(strings.Trim(source, "\n"), "\n")
	if len(parts) > 3 {
		return nil, fmt.Errorf("it has %d lines; a block has the one that opens it, the one that closes it, and perhaps one between", len(parts))
	}
	var compiled []*regexp.Regexp
	for i, part := range parts {
		part = strings.TrimSpace(part)
		if part == "" {
			return nil, fmt.Errorf("line %d has nothing in it", i+1)
		}
		p, err := ParsePattern(part, known)
		if err != nil {
			return nil, err
		}
		f.lines = append(f.lines, p)
		re, err := regexp.Compile(p.expression(comments))
		if err != nil {
			return nil, fmt.Errorf("line %d: %v", i+1, err)
		}
		compiled = append(compiled, re)
	}
	f.open, f.names = compiled[0], f.lines[0].names
	if n := len(parts); n > 1 {
		if strings.ContainsAny(strings.TrimSpace(parts[n-1])[:1], ")]}") { // behind the one that opens it the block may begin
			f.open = regexp.MustCompile(strings.TrimSuffix(f.lines[0].expression(nil), `[ \t]*$`))
		}
		f.close = compiled[n-1]
		closing := f.lines[n-1].literals[0]
		if closing != "" && strings.IndexByte(")]}", closing[0]) >= 0 {
			f.bracket = closing[0]
		}
		if n == 3 {
			f.turn = compiled[1]
		}
		for _, mark := range []string{"end", "/"} {
			if at := strings.Index(closing, mark); f.nested == "" && at >= 0 {
				f.nested = strings.TrimRight(closing[:at]+closing[at+len(mark):], "> ;")
			}
		}
	}
	return f, nil
}

// Reads finds the name in a line that fits, without quotes; ok is false where it does not.
func (f *Form) Reads(line []byte) (name string, ok bool) {
	groups := f.open.FindSubmatch(line)
	if i := slices.Index(f.names, "mod"); groups != nil && i >= 0 {
		name = string(groups[i+1])
		if n := len(name); n > 2 && (name[0] == '"' || name[0] == '\'') && name[n-1] == name[0] {
			name = name[1 : n-1]
		}
	}
	return name, groups != nil && name != ""
}

// First is the word that a line begins with which fits, up to a blank or the name; it may be empty.
func (f *Form) First() string {
	first, _, _ := strings.Cut(f.lines[0].First(), " ")
	return first
}

// Resembles tells a line that begins as one that fits and has all its words, in their order: what
// is wrong with it is a sign or two.
func (f *Form) Resembles(line string) bool {
	first := f.First()
	if first == "" || !strings.HasPrefix(line, first) {
		return false
	}
	for _, literal := range f.lines[0].literals {
		for _, word := range strings.FieldsFunc(literal, func(c rune) bool { return c < 0x80 && !isWord(byte(c)) }) {
			at := strings.Index(line, word)
			if at < 0 {
				return false
			}
			line = line[at+len(word):]
		}
	}
	return true
}

// IsBlock tells a form of several lines.
func (f *Form) IsBlock() bool { return f.close != nil }

// InBrackets tells a block that closes with a bracket, and opens with the one that belongs to it.
func (f *Form) InBrackets() bool {
	first := f.lines[0].literals[len(f.names)]
	return f.bracket != 0 && first != "" && first[len(first)-1] == opening[f.bracket]
}

// Pattern is the first line.
func (f *Form) Pattern() *Pattern { return f.lines[0] }

// String is the first line as people read it.
func (f *Form) String() string {
	return f.lines[0].Fill(func(name string) string { return "{" + name + "}" })
}

// Closing is the line that closes a block as the form has it.
func (f *Form) Closing() string {
	return f.lines[len(f.lines)-1].Fill(func(string) string { return "" })
}

// expression is the pattern as a regular expression for a line, with its indentation and a
// comment behind it.
func (p *Pattern) expression(comments []string) string {
	var b strings.Builder
	b.WriteString(`^[ \t]*`)
	for i, literal := range p.literals {
		last := i == len(p.names)
		optional := !last && p.names[i] == "any" && strings.TrimRight(literal, " \t") != literal
		if optional {
			literal = strings.TrimRight(literal, " \t")
		}
		before, after := byte(0), byte(0)
		if i > 0 {
			before = 'a'
		}
		if !last && !optional {
			after = 'a'
		}
		b.WriteString(loosely(literal, before, after))
		switch {
		case last:
		case optional:
			b.WriteString(`(?:[ \t]+(.*?))?`)
		case p.names[i] == "any":
			b.WriteString(`(.*?)`)
		case strings.HasSuffix(literal, `"`):
			b.WriteString(`([^"]+)`)
		case strings.HasSuffix(literal, `'`):
			b.WriteString(`([^']+)`)
		case p.names[i] == "value":
			b.WriteString(`("[^"]*"|'[^']*'|.*?)`)
		default:
			b.WriteString(`("[^"]+"|'[^']+'|[^ \t"']+?)`)
		}
	}
	if len(comments) > 0 {
		marks := make([]string, len(comments))
		for i, c := range comments {
			marks[i] = regexp.QuoteMeta(c)
		}
		gap := `[ \t]*`
		if p.literals[len(p.names)] == "" {
			gap = `[ \t]+`
		}
		fmt.Fprintf(&b, `(?:%s(?:%s).*)?`, gap, strings.Join(marks, "|"))
	}
	b.WriteString(`[ \t]*$`)
	return b.String()
}

// loosely is a text as a regular expression in which blanks may be more, and beside a sign none.
func loosely(literal string, before, after byte) string {
	var b strings.Builder
	for i := 0; i < len(literal); {
		if !isBlank(literal[i]) {
			b.WriteString(regexp.QuoteMeta(literal[i : i+1]))
			i++
			continue
		}
		end := i
		for end < len(literal) && isBlank(literal[end]) {
			end++
		}
		left, right := before, after
		if i > 0 {
			left = literal[i-1]
		}
		if end < len(literal) {
			right = literal[end]
		}
		if isWord(left) && isWord(right) {
			b.WriteString(`[ \t]+`)
		} else {
			b.WriteString(`[ \t]*`)
		}
		i = end
	}
	return b.String()
}

func isWord(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// FormStyle is what a text is read by.
type FormStyle struct {
	Forms    []*Form  // what is looked for
	Settings []*Form  // lines with a {value}, and a {name} where that is not a word of the form
	Within   *Form    // the block that it stands in; nil for the whole text
	Skip     []*Form  // blocks in which nothing counts
	Comment  []string // what begins a comment
}

// FormEntry is a statement that fits one of the forms.
type FormEntry struct {
	Form  int    // of FormStyle.Forms
	Line  Span   // its lines, with their endings
	Text  Span   // its first line without indentation, comment mark and the comment behind it
	Names []Span // each place of its name, without quotes
	Made  []Made // each place of a name that is made of it
	Rest  []Span // what each {any} took
	Close Span   // of a block: the line that closes it, without indentation
	Off   []Span // the comment marks that hide it, with a blank after them
}

// Made is a place of a name that is made of a mod's.
type Made struct {
	Span
	How string // MOD or Mod, as in the form
}

// MadeOf is the name that is made of a mod's, which may stand there with a path and an ending.
func MadeOf(how, mod string) string {
	plain := mod[strings.LastIndexByte(mod, '/')+1:]
	if dot := strings.LastIndexByte(plain, '.'); dot > 0 {
		plain = plain[:dot]
	}
	switch {
	case how == "MOD":
		return strings.ReplaceAll(strings.ToUpper(plain), "-", "_")
	case how == "Mod" && plain != "":
		return strings.ToUpper(plain[:1]) + plain[1:]
	}
	return mod
}

// FormSetting is a line that gives a name a value.
type FormSetting struct {
	Form  int    // of FormStyle.Settings
	Name  string // without quotes
	Value Span   // as it is written, perhaps in quotes
	Line  Span   // with its ending
	Off   Span   // the comment mark that hides it, with a blank after it; empty where none does
}

// FormText is a text that was read by forms.
type FormText struct {
	Entries  []FormEntry
	Settings []FormSetting
	Other    []Line // lines that count and fit nothing
	Room     Span   // where statements may stand: the lines of the block
	Indent   string // of the line that opens it
}

// formLine is a line of a text with what it says.
type formLine struct {
	Line
	said Span // without indentation and the comment mark that hides it
	off  Span // that mark, with a blank after it
}

// formReader reads a text by forms.
type formReader struct {
	doc   []byte
	style FormStyle
	lines []formLine
	read  *FormText
}

// ReadForms reads a text by forms. The fault says that a block is not there, there twice, or not
// closed.
func ReadForms(doc []byte, style FormStyle) (*FormText, *Fault) {
	r := &formReader{doc: doc, style: style, read: &FormText{Room: Span{Begin(doc), len(doc)}}}
	for _, line := range Lines(doc) {
		said := trim(doc, line.Text)
		l := formLine{Line: line, said: said, off: Span{said.Start, said.Start}}
		for _, mark := range style.Comment {
			if hasPrefix(said.In(doc), mark) && len(mark) > l.off.Len() {
				l.off.End = said.Start + len(mark)
			}
		}
		if l.off.Len() > 0 {
			if l.off.End < said.End && doc[l.off.End] == ' ' {
				l.off.End++
			}
			l.said = trim(doc, Span{l.off.End, said.End})
		}
		r.lines = append(r.lines, l)
	}
	from, to, fault := r.room()
	if fault != nil {
		return nil, fault
	}
	for i := 0; i < len(r.lines); {
		inside := i >= from && i < to
		next, fault := r.line(i, inside)
		if fault != nil {
			return nil, fault
		}
		i = next
	}
	return r.read, nil
}

// room finds the lines in which statements count.
func (r *formReader) room() (from, to int, fault *Fault) {
	if r.style.Within == nil {
		return 0, len(r.lines), nil
	}
	opened := -1
	for i := 0; i < len(r.lines); {
		if end, skipped, fault := r.skipped(i); fault != nil {
			return 0, 0, fault
		} else if skipped {
			i = end
			continue
		}
		if l := r.lines[i]; l.off.Len() == 0 && r.style.Within.open.Match(l.said.In(r.doc)) {
			if opened >= 0 {
				return 0, 0, FaultAt(r.doc, l.said.Start, "%q opens a second time here; only one of them can be meant", r.style.Within)
			}
			end := r.closes(i, r.style.Within, nil)
			switch end {
			case -1:
				return 0, 0, FaultAt(r.doc, l.said.Start, "the block that opens here is never closed")
			case i:
				return 0, 0, FaultAt(r.doc, l.said.Start, "this block stands on one line; give what is in it lines of their own, and try again")
			}
			opened, from, to = i, i+1, max(end, i+1)
			r.read.Indent = string(r.doc[l.Start:l.said.Start])
			r.read.Room = Span{l.End, max(r.lines[end].Start, l.End)}
		}
		i++
	}
	if opened < 0 {
		return 0, 0, FaultAt(r.doc, len(r.doc), "%q is not in this file; add it, empty, and try again", r.style.Within)
	}
	return from, to, nil
}

// skipped tells whether a block in which nothing counts opens at a line, and the line behind it.
func (r *formReader) skipped(i int) (next int, skipped bool, fault *Fault) {
	l := r.lines[i]
	if l.off.Len() > 0 {
		return i, false, nil
	}
	for _, f := range r.style.Skip {
		if !f.open.Match(l.said.In(r.doc)) {
			continue
		}
		if !f.IsBlock() {
			return i + 1, true, nil
		}
		end := r.closes(i, f, f.turn)
		if end < 0 {
			return i, false, FaultAt(r.doc, l.said.Start, "the part that opens here is never closed")
		}
		return end + 1, true, nil
	}
	return i, false, nil
}

// line reads the statement that begins at a line and returns the line behind it.
func (r *formReader) line(i int, inside bool) (next int, fault *Fault) {
	if next, skipped, fault := r.skipped(i); skipped || fault != nil {
		return next, fault
	}
	l := r.lines[i]
	for k := 0; inside && l.said.Len() > 0 && k < len(r.style.Forms); k++ {
		e, end, fault := r.statementAt(i, k)
		if fault != nil {
			return i, fault
		}
		if end >= i {
			r.read.Entries = append(r.read.Entries, e)
			return end + 1, nil
		}
	}
	if l.said.Len() > 0 && !r.setting(l) && l.off.Len() == 0 && inside {
		r.read.Other = append(r.read.Other, l.Line)
	}
	return i + 1, nil
}

// statementAt reads the statement of one form that begins at a line, and finds its last line;
// negative where there is none.
func (r *formReader) statementAt(i, form int) (e FormEntry, end int, fault *Fault) {
	f, l := r.style.Forms[form], r.lines[i]
	e, ok := r.entry(i, f)
	if !ok {
		return e, -1, nil
	}
	e.Form = form
	if !f.IsBlock() {
		return e, i, nil
	}
	if end = r.closes(i, f, nil); end < 0 {
		if l.off.Len() > 0 { // prose, or the beginning of what somebody has cut up
			return e, -1, nil
		}
		return e, -1, FaultAt(r.doc, l.said.Start, "the block that opens here is never closed")
	}
	e.Line.End = r.lines[end].End
	if end > i {
		e.Close = r.lines[end].said
	}
	for _, hidden := range r.lines[i+1 : end+1] {
		if hidden.off.Len() > 0 && l.off.Len() > 0 {
			e.Off = append(e.Off, hidden.off)
		}
	}
	return e, end, nil
}

// setting reads a line that gives a name a value; ok is false where it does not.
func (r *formReader) setting(l formLine) (ok bool) {
	for i, s := range r.style.Settings {
		groups := s.open.FindSubmatchIndex(l.said.In(r.doc))
		if groups == nil {
			continue
		}
		found := FormSetting{Form: i, Name: s.Own(), Line: l.Span, Off: l.off}
		for g, name := range s.names {
			at := Span{l.said.Start + groups[2*g+2], l.said.Start + groups[2*g+3]}
			switch name {
			case "name":
				found.Name = Unquoted(string(at.In(r.doc)))
			case "value":
				found.Value = at
			}
		}
		r.read.Settings = append(r.read.Settings, found)
		return true
	}
	return false
}

// Own is the name that a form sets which has no {name}: the word that it begins with.
func (f *Form) Own() string {
	if slices.Contains(f.names, "name") {
		return ""
	}
	words := strings.FieldsFunc(f.lines[0].literals[0], func(c rune) bool { return c < 0x80 && !isWord(byte(c)) && c != '.' && c != '-' })
	return strings.Join(words, " ")
}

// Unquoted is a word without the quotes around it.
func Unquoted(s string) string {
	if n := len(s); n > 1 && (s[0] == '"' || s[0] == '\'') && s[n-1] == s[0] {
		return s[1 : n-1]
	}
	return s
}

// entry reads a line by a form; a block has only its first line then.
func (r *formReader) entry(i int, f *Form) (e FormEntry, ok bool) {
	l := r.lines[i]
	groups := f.open.FindSubmatchIndex(l.said.In(r.doc))
	if groups == nil {
		return e, false
	}
	e = FormEntry{Line: l.Span, Text: l.said}
	end := l.said.Start
	for g, name := range f.names {
		if groups[2*g+2] < 0 {
			e.Rest = append(e.Rest, Span{end, end})
			continue
		}
		at := Span{l.said.Start + groups[2*g+2], l.said.Start + groups[2*g+3]}
		end = at.End
		if name == "any" {
			e.Rest = append(e.Rest, at)
			continue
		}
		if raw := at.In(r.doc); len(raw) > 2 && (raw[0] == '"' || raw[0] == '\'') && raw[len(raw)-1] == raw[0] {
			at = Span{at.Start + 1, at.End - 1}
		}
		if name == "MOD" || name == "Mod" {
			e.Made = append(e.Made, Made{at, name})
			continue
		}
		e.Names = append(e.Names, at)
	}
	for _, n := range e.Names {
		if string(n.In(r.doc)) != string(e.Names[0].In(r.doc)) {
			return e, false // two names: one cannot be told from the other
		}
	}
	for _, m := range e.Made {
		if len(e.Names) == 0 || MadeOf(m.How, string(e.Names[0].In(r.doc))) != string(m.In(r.doc)) {
			return e, false
		}
	}
	if e.Text.End = l.said.Start + groups[1]; f.bracket == 0 {
		e.Text.End = max(end, l.said.Start+r.statement(l.said.In(r.doc), f, end-l.said.Start))
	}
	if l.off.Len() > 0 {
		e.Off = []Span{l.off}
	}
	return e, len(e.Names) > 0
}

// statement is how long a line is without the comment behind it; from is where its last
// placeholder ends.
func (r *formReader) statement(said []byte, f *Form, from int) int {
	rest := string(said[from:])
	cut := len(rest)
	for _, mark := range r.style.Comment {
		after := len(strings.TrimRight(f.lines[0].literals[len(f.names)], " \t")) // which may hold the mark itself
		if at := strings.Index(rest[min(after, len(rest)):], mark); at >= 0 {
			cut = min(cut, at+min(after, len(rest)))
		}
	}
	return from + len(strings.TrimRight(rest[:cut], " \t"))
}

// closes finds the line that closes a block, or that turns it, where there is one; negative when
// none does. A block in comments is closed in comments.
func (r *formReader) closes(i int, f *Form, turn *regexp.Regexp) int {
	hidden := r.lines[i].off.Len() > 0
	depth := 0
	for k := i; k < len(r.lines); k++ {
		l := r.lines[k]
		if hidden && l.off.Len() == 0 && l.said.Len() > 0 {
			return -1
		}
		said := l.said.In(r.doc)
		if l.off.Len() > 0 && !hidden {
			continue
		}
		switch {
		case f.bracket != 0:
			depth += r.brackets(said, f.bracket)
			if depth <= 0 {
				return k
			}
		case k == i:
			depth = 1
		case turn != nil && depth == 1 && turn.Match(said):
			return k
		case f.close.Match(said):
			if depth--; depth == 0 {
				return k
			}
		case f.nested != "" && hasPrefix(said, f.nested):
			depth++
		}
	}
	return -1
}

var opening = map[byte]byte{')': '(', ']': '[', '}': '{'}

// brackets is by how many of a kind more a line opens than it closes, outside of quotes and
// comments.
func (r *formReader) brackets(said []byte, closing byte) (n int) {
	quote := byte(0)
	for i := 0; i < len(said); i++ {
		c := said[i]
		switch {
		case quote != 0 && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			if slices.Contains(said[i+1:], c) { // else it is one in prose
				quote = c
			}
		case slices.ContainsFunc(r.style.Comment, func(mark string) bool { return hasPrefix(said[i:], mark) }):
			return n
		case c == opening[closing]:
			n++
		case c == closing:
			n--
		}
	}
	return n
}
