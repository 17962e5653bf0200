package lineup

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// statementEditor is a list of statements in a text: a line or a block for each mod.
type statementEditor struct {
	doc   []byte
	r     *dialect.Registration
	style text.FormStyle
	read  *text.FormText
}

func openStatements(r *dialect.Registration, doc []byte) (*statementEditor, *text.Fault) {
	s := &statementEditor{doc: doc, r: r, style: r.FormStyle()}
	read, fault := text.ReadForms(doc, s.style)
	if fault != nil {
		return nil, fault
	}
	s.read = read
	s.read.Entries = slices.DeleteFunc(read.Entries, s.prose)
	return s, nil
}

// prose tells a comment that only reads as a registration: one whose words go on, or that begins
// with a blank where the name is all there is; and one that lacks the ending of a file.
func (s *statementEditor) prose(e text.FormEntry) bool {
	if len(e.Off) == 0 {
		return false
	}
	p := s.style.Forms[e.Form].Pattern()
	name := string(e.Names[0].In(s.doc))
	bare := p.Longest() == "" && strings.HasSuffix(string(e.Off[0].In(s.doc)), " ")
	goesOn := slices.ContainsFunc(e.Rest, func(rest text.Span) bool { return rest.Len() > 0 })
	return bare || goesOn && s.r.Suffix != "" && !strings.HasSuffix(name, s.r.Suffix)
}

func (s *statementEditor) entries() (list []editorEntry) {
	for _, e := range s.read.Entries {
		list = append(list, editorEntry{name: string(e.Names[0].In(s.doc)), raw: strings.TrimRight(string(e.Line.In(s.doc)), "\r\n"),
			span: e.Names[0], line: e.Line, off: len(e.Off) > 0})
	}
	return list
}

// outline is how a statement is written, but for the name and for what is a mod's own.
type outline struct {
	form    int
	parts   string   // its first line, with nameMark in the place of the name, and restMark in that of an {any}
	rest    []string // what stands there, with the blank before it
	closing string   // of a block
}

const nameMark, restMark = "\x00", "\x01"

// madeMark stands in the place of a name that is made of the mod's.
func madeMark(how string) string { return "\x02" + how + "\x02" }

func (s *statementEditor) outline(e text.FormEntry) outline {
	type hole struct {
		text.Span
		mark string
	}
	var holes []hole
	for _, n := range e.Names {
		holes = append(holes, hole{n, nameMark})
	}
	for _, m := range e.Made {
		holes = append(holes, hole{m.Span, madeMark(m.How)})
	}
	for _, r := range e.Rest {
		holes = append(holes, hole{r, restMark})
	}
	slices.SortStableFunc(holes, func(a, b hole) int { return a.Start - b.Start })
	o := outline{form: e.Form, closing: string(e.Close.In(s.doc))}
	at := e.Text.Start
	for _, h := range holes {
		lead := string(s.doc[at:max(h.Start, at)])
		if h.mark == restMark {
			trimmed := strings.TrimRight(lead, " \t")
			o.rest = append(o.rest, lead[len(trimmed):]+string(h.In(s.doc)))
			lead = trimmed
		}
		o.parts += lead + h.mark
		at = max(h.End, at)
	}
	o.parts += string(s.doc[at:max(at, e.Text.End)])
	return o
}

// like is how a new statement is written that goes before entry i: as most others are, the nearest
// of those, and with what stands there besides the name only where most of them have the same.
func (s *statementEditor) like(i int, name string) (lines []string, err error) {
	o, all := s.usual(i)
	if len(all) == 0 {
		f := s.style.Forms[0]
		line := f.Pattern().Fill(func(placeholder string) string {
			if placeholder == "any" {
				return ""
			}
			return text.MadeOf(placeholder, name)
		})
		lines = []string{strings.TrimRight(line, " \t")}
		if f.IsBlock() {
			lines = append(lines, f.Closing())
		}
		return lines, nil
	}
	if !strings.Contains(o.parts, `"`+nameMark+`"`) && !strings.Contains(o.parts, "'"+nameMark+"'") && strings.ContainsAny(name, " \t\"'") {
		return nil, fmt.Errorf("the name %q cannot be written as the others are in the %s, which have no quotes", text.Clean(name), s.r.Name)
	}
	line := strings.NewReplacer(nameMark, name, madeMark("MOD"), text.MadeOf("MOD", name), madeMark("Mod"), text.MadeOf("Mod", name)).Replace(o.parts)
	for k := range o.rest {
		line = strings.Replace(line, restMark, usualRest(all, k), 1)
	}
	lines = []string{line}
	if f := s.style.Forms[o.form]; f.IsBlock() {
		lines = append(lines, cmp.Or(o.closing, f.Closing()))
	}
	return lines, nil
}

// usual is how most statements are written that are on, of as many the one nearest to where a new
// one goes, with all that are written so.
func (s *statementEditor) usual(i int) (o outline, all []outline) {
	same := map[string][]outline{}
	for _, e := range s.read.Entries {
		if len(e.Off) == 0 {
			one := s.outline(e)
			same[one.parts] = append(same[one.parts], one)
		}
	}
	distance := 0
	for k, e := range s.read.Entries {
		if len(e.Off) > 0 {
			continue
		}
		one, d := s.outline(e), max(i-1-k, k-i)
		if n := len(same[one.parts]); n > len(all) || n == len(all) && d < distance {
			o, all, distance = one, same[one.parts], d
		}
	}
	return o, all
}

// usualRest is what stands in the place of an {any} in more than half of the statements, and in
// more than one: else it is a mod's own.
func usualRest(all []outline, k int) string {
	counts := map[string]int{}
	for _, o := range all {
		counts[o.rest[k]]++
		if n := counts[o.rest[k]]; n > 1 && 2*n > len(all) {
			return o.rest[k]
		}
	}
	return ""
}

func (s *statementEditor) insert(i int, name, _, raw string) ([]text.Edit, error) {
	n := len(s.read.Entries)
	at := s.read.Room.End
	indent := s.indent(i)
	if i < n {
		at = s.read.Entries[i].Line.Start
	} else if n > 0 {
		at = s.read.Entries[n-1].Line.End
	}
	if raw == "" {
		lines, err := s.like(i, name)
		if err != nil {
			return nil, err
		}
		raw = indent + strings.Join(lines, text.Ending(s.doc)+indent)
	}
	return []text.Edit{text.InsertLine(s.doc, at, raw)}, nil
}

// indent is that of the statement beside which a new one goes, or of one that is the first.
func (s *statementEditor) indent(i int) string {
	if n := len(s.read.Entries); n > 0 {
		e := s.read.Entries[min(max(i-1, 0), n-1)]
		start := e.Text.Start
		if len(e.Off) > 0 {
			start = e.Off[0].Start
		}
		return string(s.doc[e.Line.Start:start])
	}
	if s.style.Within == nil {
		return ""
	}
	for _, l := range text.Lines(s.read.Room.In(s.doc)) {
		line := string(l.Text.In(s.read.Room.In(s.doc)))
		if body := strings.TrimLeft(line, " \t"); body != "" {
			return line[:len(line)-len(body)]
		}
	}
	if strings.HasPrefix(s.read.Indent, "\t") {
		return s.read.Indent + "\t"
	}
	return s.read.Indent + "    "
}

func (s *statementEditor) remove(i int) ([]text.Edit, error) {
	return []text.Edit{text.DeleteLine(s.doc, s.read.Entries[i].Line)}, nil
}

func (s *statementEditor) rename(i int, name string) (edits []text.Edit, err error) {
	for _, n := range s.read.Entries[i].Names {
		quoted := n.Start > 0 && strings.IndexByte(`"'`, s.doc[n.Start-1]) >= 0
		if !quoted && strings.ContainsAny(name, " \t\"'") || quoted && strings.IndexByte(name, s.doc[n.Start-1]) >= 0 {
			return nil, fmt.Errorf("the name %q cannot be written where %s stands in the %s", text.Clean(name), text.Clean(string(n.In(s.doc))), s.r.Name)
		}
		edits = append(edits, text.Edit{Span: n, New: name})
	}
	for _, m := range s.read.Entries[i].Made {
		edits = append(edits, text.Edit{Span: m.Span, New: text.MadeOf(m.How, name)})
	}
	return edits, nil
}

// turn puts a statement into comments, each of its lines, or takes it out of them.
func (s *statementEditor) turn(i int, on bool) (edits []text.Edit, err error) {
	e := s.read.Entries[i]
	if on {
		for _, mark := range e.Off {
			edits = append(edits, text.Delete(mark))
		}
		return edits, nil
	}
	if len(s.style.Comment) == 0 {
		return nil, errParked
	}
	var marks []string
	for _, other := range s.read.Entries {
		for _, m := range other.Off[:min(len(other.Off), 1)] {
			marks = append(marks, string(m.In(s.doc)))
		}
	}
	mark := usualMark(marks, s.style.Comment[0]+" ")
	if s.style.Forms[e.Form].Pattern().Longest() == "" { // with a blank it would be prose
		mark = s.style.Comment[0]
	}
	for _, line := range text.Lines(s.doc) {
		if line.Start < e.Line.Start || line.Start >= e.Line.End {
			continue
		}
		if body := strings.TrimLeft(string(line.Text.In(s.doc)), " \t"); strings.TrimSpace(body) != "" {
			edits = append(edits, text.Insert(line.Text.End-len(body), mark))
		}
	}
	return edits, nil
}

// others tells what is wrong in the lines that could register something and do not.
func (s *statementEditor) others(l *Lineup, file int) {
	for _, line := range s.read.Other {
		said := strings.TrimLeft(string(line.Text.In(s.doc)), " \t")
		start := line.Text.End - len(said)
		word, _, _ := strings.Cut(said, " ")
		for _, f := range s.style.Forms {
			first := f.First()
			if first == "" && s.style.Within != nil { // nothing else belongs in that block
				l.problem("line-unreadable", file, text.FaultAt(s.doc, start, "this stands among registrations, %s, and is not written as one", f))
				break
			} else if first == "" {
				continue
			}
			if f.Resembles(said) {
				l.problem("line-unreadable", file, text.FaultAt(s.doc, start, "this begins as a registration does, %s, and is not written as one", f))
				break
			}
			if name, ok := f.Reads([]byte(first + said[len(word):])); ok && nearly(word, first) {
				name, _ = modIn(s.r, name)
				l.Slips = append(l.Slips, Slip{name, file, text.Span{Start: start, End: start + len(word)}, first})
				break
			}
		}
	}
}
