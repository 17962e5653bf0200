package table

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/text"
)

// Pair is two entries that are known by the same, and say something else.
type Pair struct{ Have, Brings Entry }

// Compared is what the entries of a mod come to beside those of a table.
type Compared struct {
	Fresh  []Entry // the table has none of these
	Same   []Entry // it has just these
	Differ []Pair
}

// Compare tells which entries of a mod a table has already.
func (t *Table) Compare(brings []Entry) (c Compared) {
	have := make(map[string]int, len(t.Entries))
	for i := range slices.Backward(t.Entries) { // of two the first counts
		have[t.Entries[i].ID] = i
	}
	for _, e := range brings {
		i, there := have[e.ID]
		switch {
		case !there:
			c.Fresh = append(c.Fresh, e)
		case t.Entries[i].Says() == e.Says():
			c.Same = append(c.Same, e)
		default:
			c.Differ = append(c.Differ, Pair{t.Entries[i], e})
		}
	}
	return c
}

// Change adds entries at the end of a table, lets others take the place of those that are known by the same,
// and takes out those with these identities. The new document is read again: where anything else in it
// reads otherwise, that is an error.
func (t *Table) Change(fresh, other []Entry, gone []string) ([]byte, error) {
	edits, err := t.out(gone)
	if err != nil {
		return nil, err
	}
	want := make([]*Entry, 0, len(t.Entries)+len(fresh))
	goes := setOf(gone)
	replaced := map[string]Entry{}
	for _, e := range other {
		replaced[e.ID] = e
	}
	for i := range t.Entries {
		have := &t.Entries[i]
		if goes[have.ID] {
			continue
		}
		if e, ok := replaced[have.ID]; ok {
			delete(replaced, have.ID)
			edits = append(edits, text.Edit{Span: have.span, New: e.under(have.indent, text.Ending(t.doc))})
			want = append(want, &e)
			continue
		}
		want = append(want, have)
	}
	now, err := text.Apply(t.doc, edits)
	if err != nil {
		return nil, err
	}
	if len(fresh) > 0 {
		left := t
		if len(edits) > 0 {
			var fault *text.Fault
			if left, fault = Read(now, t.kind); fault != nil {
				return nil, fmt.Errorf("without what goes the table could not be read any more: %w", fault)
			}
		}
		if edits, err = left.atEnd(fresh); err != nil {
			return nil, err
		}
		if now, err = text.Apply(now, edits); err != nil {
			return nil, err
		}
		for i := range fresh {
			want = append(want, &fresh[i])
		}
	}
	return now, t.checked(now, want)
}

// checked looks that a document has just these entries.
func (t *Table) checked(now []byte, want []*Entry) error {
	after, fault := Read(now, t.kind)
	if fault != nil {
		if len(want) == 0 {
			return nil
		}
		return fmt.Errorf("with these entries the table could not be read any more (%w), so nothing is changed", fault)
	}
	got := make([]*Entry, len(after.Entries))
	for i := range got {
		got[i] = &after.Entries[i]
	}
	byID := func(a, b *Entry) int { return cmp.Compare(a.ID, b.ID) }
	slices.SortStableFunc(got, byID)
	slices.SortStableFunc(want, byID)
	same := func(a, b *Entry) bool { return a.ID == b.ID && (a.Raw == b.Raw || a.Says() == b.Says()) }
	if !slices.EqualFunc(got, want, same) {
		return errors.New("the entries would not be read as they are meant in this table, so nothing is changed")
	}
	return nil
}

// under writes an entry with its lines indented as those of a table, whose line ending is given.
func (e *Entry) under(indent, ending string) string {
	lines := strings.Split(strings.ReplaceAll(e.Raw, "\r\n", "\n"), "\n")
	for i, line := range lines {
		if i == 0 {
			continue
		}
		rest, ok := strings.CutPrefix(line, e.indent)
		if !ok {
			rest = strings.TrimLeft(line, " \t")
		}
		if line = indent + rest; strings.TrimSpace(rest) == "" {
			line = ""
		}
		lines[i] = line
	}
	return strings.Join(lines, ending)
}

// atEnd are the edits that put entries at the end of a table.
func (t *Table) atEnd(fresh []Entry) ([]text.Edit, error) {
	ending := text.Ending(t.doc)
	if t.kind.Format == dialect.FormatINI {
		return t.lines(fresh, ending), nil
	}
	join := func(indent, between string) string {
		all := make([]string, len(fresh))
		for i := range fresh {
			all[i] = fresh[i].under(indent, ending)
		}
		return strings.Join(all, between)
	}
	if t.in != nil { // the first of its kind
		indent := lineup.ChildIndent(t.doc, t.in)
		return lineup.FirstChild(t.doc, t.in, join(indent, ending+indent)), nil
	}
	n := len(t.list.Items)
	if n == 0 {
		return t.first(join, ending)
	}
	last := t.Entries[len(t.Entries)-1]
	item := t.list.Items[n-1]
	lead := string(t.doc[item.Lead.Start:item.Lead.End])
	switch {
	case t.list.Flow:
		gap := string(t.doc[item.Start-len(before(t.doc, item.Start)) : item.Start])
		if !strings.Contains(gap, "\n") {
			return t.list.InsertItem(t.doc, n, join(last.indent, ", ")), nil
		}
		return t.list.InsertItem(t.doc, n, join(last.indent, ","+gap)), nil
	case t.kind.Format == dialect.FormatXML && shares(t.doc, item):
		return t.list.InsertItem(t.doc, n, join(last.indent, "")), nil
	}
	outer := strings.TrimSuffix(last.indent, strings.Repeat(" ", len(lead)))
	return t.list.InsertItem(t.doc, n, join(last.indent, ending+outer+lead)), nil
}

// shares tells whether an element shares its line with others.
func shares(doc []byte, n *text.Node) bool {
	return len(bytes.TrimSpace(doc[lineOf(doc, n.Start):n.Start])) > 0
}

// before is the white space that ends at an offset.
func before(doc []byte, at int) string {
	return string(doc[len(bytes.TrimRight(doc[:at], " \t\r\n")):at])
}

// first puts the first entries into an empty list or object.
func (t *Table) first(join func(indent, between string) string, ending string) ([]text.Edit, error) {
	outer := indentOf(t.doc, t.list.Start)
	unit := "  "
	if strings.Contains(outer, "\t") {
		unit = "\t"
	}
	if t.kind.Format == dialect.FormatJSON {
		inside := text.Span{Start: t.list.Start + 1, End: t.list.End - 1}
		if strings.TrimSpace(string(inside.In(t.doc))) != "" {
			return nil, errors.New("the table is empty but for comments; add a first entry by hand")
		}
		return []text.Edit{{Span: inside, New: ending + outer + unit + join(outer+unit, ","+ending+outer+unit) + ending + outer}}, nil
	}
	if strings.TrimSpace(string(t.doc)) == strings.TrimSpace(string(t.list.In(t.doc))) { // all there is
		return nil, errors.New("the table is empty; add a first entry by hand")
	}
	mark := "- "
	if t.kind.ID == ByKey {
		mark = ""
	}
	from := t.list.Start - len(strings.TrimLeft(before(t.doc, t.list.Start), "\r\n"))
	lead := ending + outer + unit + mark
	inner := outer + unit + strings.Repeat(" ", len(mark))
	return []text.Edit{{Span: text.Span{Start: from, End: t.list.End}, New: lead + join(inner, lead)}}, nil
}

// lines puts sections at the end of an INI file, or keys at the end of a section.
func (t *Table) lines(fresh []Entry, ending string) []text.Edit {
	at := len(t.doc)
	gap := ""
	if t.kind.At != "" {
		at = t.list.End
	} else if len(t.doc) > text.Begin(t.doc) && !strings.HasSuffix(string(t.doc), ending+ending) {
		gap = ending
	}
	all := make([]string, len(fresh))
	for i := range fresh {
		all[i] = fresh[i].under("", ending)
	}
	between := ending
	if t.kind.At == "" {
		between = ending + ending
	}
	return []text.Edit{text.InsertLine(t.doc, at, gap+strings.Join(all, between))}
}

func setOf(list []string) map[string]bool {
	set := make(map[string]bool, len(list))
	for _, s := range list {
		set[s] = true
	}
	return set
}

// out are the edits that take entries out.
func (t *Table) out(gone []string) (edits []text.Edit, err error) {
	if len(gone) == 0 {
		return nil, nil
	}
	goes := setOf(gone)
	var at []int
	for i := range t.Entries {
		if goes[t.Entries[i].ID] {
			at = append(at, i)
		}
	}
	if t.list != nil && t.list.Flow {
		return t.outOfBrackets(at), nil
	}
	if t.kind.Format == dialect.FormatYAML && len(at) == len(t.Entries) && len(at) > 0 {
		return nil, errors.New("these are all of its entries, and a table without any is not left; take it out by hand")
	}
	for _, i := range at {
		s := t.Entries[i].span
		if t.kind.Format == dialect.FormatXML && (shares(t.doc, &text.Node{Span: s}) || follows(t.doc, s.End)) {
			edits = append(edits, text.Delete(s))
			continue
		}
		from := max(lineOf(t.doc, s.Start), text.Begin(t.doc))
		end := s.End
		for end < len(t.doc) && t.doc[end] != '\n' {
			end++
		}
		end = min(end+1, len(t.doc))
		edits = append(edits, text.DeleteLine(t.doc, text.Span{Start: from, End: end}))
	}
	return edits, nil
}

// follows tells whether something stands behind an offset on its line.
func follows(doc []byte, at int) bool {
	rest := doc[at:]
	if i := bytes.IndexByte(rest, '\n'); i >= 0 {
		rest = rest[:i]
	}
	return len(bytes.TrimSpace(rest)) > 0
}

// outOfBrackets takes items out of a list in brackets: each with what stands between it and the next, and
// those at its end with what stands before them.
func (t *Table) outOfBrackets(at []int) (edits []text.Edit) {
	n := len(t.Entries)
	tail := n
	for k := len(at) - 1; k >= 0 && at[k] == tail-1; k-- {
		tail--
	}
	for _, i := range at {
		if i < tail {
			edits = append(edits, text.Delete(text.Span{Start: t.Entries[i].span.Start, End: t.Entries[i+1].span.Start}))
		}
	}
	if tail == n {
		return edits
	}
	span := text.Span{Start: t.Entries[tail].span.Start, End: t.Entries[n-1].span.End}
	if tail > 0 {
		span.Start = t.Entries[tail-1].span.End
	}
	return append(edits, text.Delete(span))
}

// Bare are entries of a table by what they are known by, as a file of nothing else, in the order of the table.
func (t *Table) Bare(ids []string) []byte {
	want := setOf(ids)
	var raws []string
	for i := range t.Entries {
		e := &t.Entries[i]
		if !want[e.ID] {
			continue
		}
		indent := ""
		switch {
		case t.kind.Format == dialect.FormatYAML && t.kind.ID != ByKey:
			indent = "  "
		case t.kind.Format == dialect.FormatJSON:
			indent = "  "
		}
		raws = append(raws, e.under(indent, "\n"))
	}
	if len(raws) == 0 {
		return nil
	}
	switch {
	case t.kind.Format == dialect.FormatJSON && t.kind.ID == ByKey:
		return []byte("{\n  " + strings.Join(raws, ",\n  ") + "\n}\n")
	case t.kind.Format == dialect.FormatJSON:
		return []byte("[\n  " + strings.Join(raws, ",\n  ") + "\n]\n")
	case t.kind.Format == dialect.FormatYAML && t.kind.ID != ByKey:
		return []byte("- " + strings.Join(raws, "\n- ") + "\n")
	case t.kind.Format == dialect.FormatINI && t.kind.At != "":
		return []byte("[" + t.kind.At + "]\n" + strings.Join(raws, "\n") + "\n")
	}
	return []byte(strings.Join(raws, "\n") + "\n")
}
