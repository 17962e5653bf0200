// Package table reads the entries of a table in XML, JSON, YAML or INI, each with what it is known by, adds
// the entries that mods bring in the table's own layout, and takes them out again: nothing else in the file
// becomes other bytes.
package table

import (
	"bytes"
	"cmp"
	"slices"
	"strconv"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// Kind says where in a file the entries are and what each is known by.
type Kind struct {
	Format dialect.Format // xml, json, yaml or ini
	At     string         // the keys, or elements, that lead to them; of ini a section, "" for the sections themselves
	ID     string         // fields, or attributes as @name, with a blank between several; ByKey for the keys of an object
}

// MaxFile is the largest table that is read, in bytes, and MaxShipped the largest file of entries.
const MaxFile, MaxShipped = 64 << 20, 16 << 20

// KindOf is how the table is written that content is added to.
func KindOf(c *dialect.Content) Kind { return Kind{Format: c.Format, At: c.Entry, ID: c.ID} }

// Origin is an entry of a table that came from a mod.
type Origin struct {
	ID, Mod string
	Says    string // what it said when it came
}

// ByKey is the identity of entries that are known by the key that they stand under.
const ByKey = "{key}"

// Entry is one entry of a table.
type Entry struct {
	ID  string // what it is known by
	Raw string // as it is written, its first line without what indents it

	indent string // of the line that it begins on
	span   text.Span
	node   *text.Node // what it says; nil for the words in says
	says   string
	yaml   bool
}

// Says is what the entry says, however it is laid out.
func (e *Entry) Says() string {
	if e.node == nil {
		return e.says
	}
	if strings.Contains(e.Raw, "<![CDATA[") || e.yaml && strings.ContainsAny(e.Raw, "&*!|>") { // which the node has not got whole
		return strings.Join(strings.Fields(e.Raw), " ")
	}
	return string(says(make([]byte, 0, 2*len(e.Raw)), e.node))
}

// Table is the entries of a file.
type Table struct {
	Entries []Entry
	Unknown int // entries without what they should be known by

	doc  []byte
	kind Kind
	list *text.Node // in which new ones are put
	item int        // how many of the entries, the last ones, are its items
	in   *text.Node // of XML: the element that the first would stand in
}

// Read reads the table of a server. The fault says what cannot be read, or that there is no such table.
func Read(doc []byte, k Kind) (*Table, *text.Fault) {
	if fault := text.NotText(doc); fault != nil {
		return nil, fault
	}
	t := &Table{doc: doc, kind: k}
	if k.Format == dialect.FormatINI {
		return t, t.readINI()
	}
	root, fault := read(doc, k.Format)
	if fault != nil {
		return nil, fault
	}
	if !t.find(root, k.At) {
		return nil, text.FaultAt(doc, 0, "there is no table at %s in this file", cmp.Or(k.At, "the beginning"))
	}
	return t, nil
}

// Shipped reads the entries that a mod brings: in a file like the table, in a part of one, or bare. An entry
// without what it is known by is a fault, as is a file without any.
func Shipped(doc []byte, k Kind) ([]Entry, *text.Fault) {
	if fault := text.NotText(doc); fault != nil {
		return nil, fault
	}
	t := &Table{doc: doc, kind: k}
	if k.Format == dialect.FormatINI {
		if fault := t.readINI(); fault != nil {
			return nil, fault
		}
	} else {
		root, fault := read(doc, k.Format)
		if fault != nil {
			return nil, fault
		}
		for at, more := k.At, true; !t.find(root, at) || len(t.Entries) == 0; {
			if !more {
				break
			}
			t = &Table{doc: doc, kind: k}
			_, at, more = strings.Cut(at, ".")
		}
	}
	switch {
	case t.Unknown > 0:
		return nil, text.FaultAt(doc, 0, "%d of its entries have no %s, so that nobody can tell them from others", t.Unknown, k.ID)
	case len(t.Entries) == 0:
		return nil, text.FaultAt(doc, 0, "there is no entry at %s in it", cmp.Or(k.At, "the beginning"))
	}
	seen := map[string]bool{}
	for _, e := range t.Entries {
		if seen[e.ID] {
			return nil, text.FaultAt(doc, e.span.Start, "%s stands in it twice", text.Clean(e.ID))
		}
		seen[e.ID] = true
	}
	return t.Entries, nil
}

func read(doc []byte, f dialect.Format) (*text.Node, *text.Fault) {
	switch f {
	case dialect.FormatJSON:
		return text.ReadJSON(doc)
	case dialect.FormatYAML:
		return text.ReadYAML(doc)
	}
	return text.ReadXML(doc)
}

// find reads the entries at a path; ok is false where there is nothing.
func (t *Table) find(root *text.Node, at string) (ok bool) {
	at = strings.TrimPrefix(at, ".")
	if t.kind.Format == dialect.FormatXML {
		return t.findXML(root, at)
	}
	n := root.Get(at)
	if n == nil {
		return false
	}
	byKey := t.kind.ID == ByKey
	switch {
	case n.Kind == text.NodeList && !byKey:
		t.list = n
		for _, item := range n.Items {
			t.add(t.idOf(item), item.Span, item.Lead, item)
		}
	case n.Kind == text.NodeObject && byKey:
		t.list = &text.Node{Kind: text.NodeList, Span: n.Span, Flow: n.Flow}
		for _, m := range n.Members {
			item := &text.Node{Kind: m.Value.Kind, Span: text.Span{Start: m.Key.Start, End: max(m.Value.End, m.Key.End)}, Lead: text.Span{Start: m.Key.Start, End: m.Key.Start}}
			t.list.Items = append(t.list.Items, item)
			t.add(m.Name, item.Span, item.Lead, m.Value)
		}
	case n.Kind == text.NodeScalar && strings.Trim(n.Literal, "~") == "" || n.Literal == "null": // nothing in it yet
		t.list = &text.Node{Kind: text.NodeList, Span: n.Span}
	default:
		return false
	}
	t.item = len(t.list.Items)
	if t.kind.Format == dialect.FormatYAML && !t.list.Flow {
		t.lengthen()
	}
	return true
}

// findXML reads the elements at a path, in all elements that lead to them.
func (t *Table) findXML(root *text.Node, at string) bool {
	within := []*text.Node{root}
	names := strings.Split(at, ".")
	for _, name := range names[:len(names)-1] {
		var next []*text.Node
		for _, n := range within {
			if list := n.Get(name); list != nil {
				next = append(next, list.Items...)
			}
		}
		within = next
	}
	last := names[len(names)-1]
	for _, n := range within {
		if list := n.Get(last); list != nil && list.Kind == text.NodeList {
			t.list, t.item = list, len(list.Items)
			for _, item := range list.Items {
				t.add(t.idOf(item), item.Span, item.Lead, item)
			}
		}
	}
	if len(within) > 0 && t.list == nil {
		t.in = within[len(within)-1]
		return at != "" && len(names) > 1
	}
	return t.list != nil
}

// idOf is what an entry is known by; "" where it lacks a part of it.
func (t *Table) idOf(n *text.Node) string {
	var parts []string
	for _, field := range strings.Fields(t.kind.ID) {
		v := n.Get(field)
		if v != nil && t.kind.Format == dialect.FormatXML && v.Kind == text.NodeList { // an element with a text
			v = v.Items[0].Get("#text")
		}
		switch {
		case v == nil:
			return ""
		case v.Kind == text.NodeString:
			parts = append(parts, v.Piece.Value)
		case v.Kind == text.NodeScalar && v.Literal != "" && v.Literal != "null":
			parts = append(parts, v.Literal)
		default:
			return ""
		}
	}
	return strings.Join(parts, " ")
}

// add adds an entry; n is what it says.
func (t *Table) add(id string, at, lead text.Span, n *text.Node) {
	if id == "" {
		t.Unknown++
	}
	raw := string(at.In(t.doc))
	begins := indentOf(t.doc, at.Start)
	if t.kind.Format == dialect.FormatYAML && lead.Len() > 0 {
		begins += strings.Repeat(" ", lead.Len())
	}
	t.Entries = append(t.Entries, Entry{ID: id, Raw: raw, indent: begins, span: at, node: n, yaml: t.kind.Format == dialect.FormatYAML})
}

// lengthen finds where entries of a YAML block end, of which a text over several lines may be the last.
func (t *Table) lengthen() {
	lines := text.Lines(t.doc)
	at := 0
	for i := range t.list.Items {
		item, e := t.list.Items[i], &t.Entries[i]
		from := item.Lead.Start
		for at < len(lines) && lines[at].End <= from {
			at++
		}
		column := from - lineOf(t.doc, from)
		for k := at; k < len(lines); k++ {
			said := strings.TrimRight(string(lines[k].Text.In(t.doc)), " \t\r")
			body := strings.TrimLeft(said, " ")
			if k > at && body != "" && len(said)-len(body) <= column {
				break
			}
			if body != "" && !strings.HasPrefix(body, "#") {
				item.End = max(item.End, lines[k].Start+len(said))
			}
		}
		e.span.End = item.End
		e.Raw = string(e.span.In(t.doc))
	}
}

// lineOf is where the line begins that an offset stands on.
func lineOf(doc []byte, at int) int { return bytes.LastIndexByte(doc[:at], '\n') + 1 }

// indentOf is what indents the line on which an offset stands.
func indentOf(doc []byte, at int) string {
	line := doc[lineOf(doc, at):at]
	return string(line[:len(line)-len(bytes.TrimLeft(line, " \t"))])
}

// readINI reads sections, or the keys of one.
func (t *Table) readINI() *text.Fault {
	ini := text.ReadINI(t.doc, text.INIStyle{Bare: true})
	if len(ini.Faults) > 0 {
		return ini.Faults[0]
	}
	t.list = &text.Node{Kind: text.NodeList, Span: text.Span{Start: len(t.doc), End: len(t.doc)}}
	put := func(id string, at text.Span, says string) {
		at.End = at.Start + len(strings.TrimRight(string(at.In(t.doc)), "\r\n \t"))
		t.list.Items = append(t.list.Items, &text.Node{Span: at, Lead: text.Span{Start: at.Start, End: at.Start}})
		t.Entries = append(t.Entries, Entry{ID: id, Raw: string(at.In(t.doc)), says: says, span: at})
	}
	if t.kind.At == "" {
		for _, s := range ini.Sections[1:] {
			said := []string{}
			for _, e := range ini.Entries {
				if e.Section == s.Name && e.Line.Start >= s.Line.Start && e.Line.Start < s.End {
					said = append(said, string(e.Key.In(t.doc))+"="+e.Value.Value)
				}
			}
			put(s.Name, text.Span{Start: s.Line.Start, End: s.End}, strings.Join(said, "\n"))
		}
		t.item = len(t.list.Items)
		return nil
	}
	i := slices.IndexFunc(ini.Sections, func(s text.INISection) bool { return s.Name == t.kind.At && s.Line.Len() > 0 })
	if i < 0 {
		return text.FaultAt(t.doc, 0, "there is no section [%s] in this file", t.kind.At)
	}
	for _, e := range ini.Entries {
		if e.Section == t.kind.At {
			put(string(e.Key.In(t.doc)), e.Line.Span, e.Value.Value)
		}
	}
	t.item = len(t.list.Items)
	t.list.Start, t.list.End = ini.Sections[i].End, ini.Sections[i].End
	return nil
}

// Line is the line on which an entry of the table begins, from 1.
func (t *Table) Line(e Entry) int {
	line, _ := text.Position(t.doc, e.span.Start)
	return line
}

// says writes what a node says, however it is laid out.
func says(b []byte, n *text.Node) []byte {
	switch {
	case n.Kind == text.NodeString:
		return strconv.AppendQuote(b, n.Piece.Value)
	case n.Kind == text.NodeList:
		b = append(b, '[')
		for _, item := range n.Items {
			b = append(says(b, item), ',')
		}
		return append(b, ']')
	case n.Kind == text.NodeObject:
		b = append(b, '{')
		members := slices.Clone(n.Members)
		slices.SortStableFunc(members, func(x, y text.Member) int { return cmp.Compare(x.Name, y.Name) })
		for _, m := range members {
			b = append(strconv.AppendQuote(b, m.Name), ':')
			if m.Value != nil {
				b = says(b, m.Value)
			}
			b = append(b, ',')
		}
		return append(b, '}')
	}
	return append(b, n.Literal...)
}
