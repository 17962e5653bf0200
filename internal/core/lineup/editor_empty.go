package lineup

import (
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// hollow is where a list or an object of a YAML file has its key, for when it has
// nothing below it: a value that is missing, or empty brackets.
type hollow struct {
	key    text.Span // with its colon
	value  text.Span // what stands for nothing, with the blanks before it; may be empty
	indent int       // of the key
}

// yamlKey finds the key of a block list or object; ok is false when it has none of its
// own line, as when it is the whole document.
func yamlKey(doc []byte, root *text.Node, at string) (h hollow, ok bool) {
	m := root.Member(at)
	if m == nil {
		return h, false
	}
	colon := m.Key.End
	for colon < len(doc) && (doc[colon] == ' ' || doc[colon] == '\t') {
		colon++
	}
	if colon == len(doc) || doc[colon] != ':' {
		return h, false
	}
	h = hollow{key: text.Span{Start: m.Key.Start, End: colon + 1}, indent: column(doc, m.Key.Start)}
	h.value = text.Span{Start: colon + 1, End: colon + 1}
	if m.Value.Start > colon && strings.TrimLeft(string(doc[colon+1:m.Value.Start]), " ") == "" && m.Value.Len() > 0 {
		h.value.End = m.Value.End
	}
	return h, true
}

// isNull tells a value that is missing.
func isNull(n *text.Node) bool {
	return n.Kind == text.NodeScalar && slices.Contains([]string{"", "null", "~", "Null", "NULL"}, n.Literal)
}

// next is where the line after the key begins.
func (h hollow) next(doc []byte) int {
	for _, l := range text.Lines(doc) {
		if l.End > h.key.Start {
			return l.End
		}
	}
	return len(doc)
}

// fill takes away what stands for nothing.
func (h hollow) fill() []text.Edit {
	if h.value.Len() == 0 {
		return nil
	}
	return []text.Edit{text.Delete(h.value)}
}

// first is the edit that puts the first line below the key.
func (h hollow) first(doc []byte, line string) []text.Edit {
	return append(h.fill(), text.InsertLine(doc, h.next(doc), strings.Repeat(" ", h.indent+2)+line))
}

// clear has brackets stand for nothing, where the last of what was below the key goes.
func (h hollow) clear(brackets string) text.Edit { return text.Insert(h.key.End, " "+brackets) }

// firstKey is the edit that puts the first key into an object or a section.
func (s *keyEditor) firstKey(line string) (edit []text.Edit, ok bool) {
	switch s.r.Format {
	case dialect.FormatYAML:
		return s.hollow.first(s.doc, line), s.hollow.key.Len() > 0
	case dialect.FormatINI, dialect.FormatTOML:
		if s.top == 0 {
			return nil, false
		}
		return []text.Edit{text.InsertLine(s.doc, s.top, line)}, true
	}
	return nil, false
}

// tableTop is where the first line below the title of a TOML table goes; 0 when the
// table has no title of its own.
func tableTop(doc []byte, title text.Span, at string) int {
	for _, l := range text.Lines(doc) {
		if l.End <= title.Start {
			continue
		}
		head, _, _ := strings.Cut(string(l.Text.In(doc)), "#")
		if strings.TrimSpace(head) != "["+at+"]" {
			return 0
		}
		return l.End
	}
	return 0
}

// emptyXML finds the element that the items of an empty list would stand in.
func emptyXML(doc []byte, root *text.Node, at string) (parent *text.Node, ok bool) {
	i := strings.LastIndexByte(at, '.')
	if i < 0 {
		return nil, false
	}
	parent = xmlElement(root, at[:i])
	return parent, parent != nil && parent.Kind == text.NodeObject && parent.Len() > 0
}

// FirstChild is the edit that puts the first of its kind into an element: before its
// closing tag, on a line of its own if that has one.
func FirstChild(doc []byte, parent *text.Node, item string) []text.Edit {
	body := string(parent.In(doc))
	ending := text.Ending(doc)
	outer, indent := blanksOf(doc, parent.Start), ChildIndent(doc, parent)
	if strings.HasSuffix(body, "/>") {
		open := strings.TrimRight(strings.TrimSuffix(body, "/>"), " \t")
		at := text.Span{Start: parent.Start + len(open), End: parent.End}
		return []text.Edit{{Span: at, New: ">" + ending + indent + item + ending + outer + "</" + parent.Literal + ">"}}
	}
	close := parent.Start + strings.LastIndex(body, "</")
	line := strings.LastIndexByte(string(doc[:close]), '\n') + 1
	if strings.TrimLeft(string(doc[line:close]), " \t") != "" || line <= parent.Start {
		return []text.Edit{text.Insert(close, item)}
	}
	return []text.Edit{text.InsertLine(doc, line, indent+item)}
}

// ChildIndent is what indents a first child of an element: laid out like its neighbours, else a step further
// in than the element.
func ChildIndent(doc []byte, parent *text.Node) string {
	for _, m := range parent.Members {
		if m.Value.Kind == text.NodeList && len(m.Value.Items) > 0 {
			child := m.Value.Items[0].Start
			from := strings.LastIndexByte(string(doc[:child]), '\n') + 1
			if blanks := string(doc[from:child]); strings.TrimLeft(blanks, " \t") == "" {
				return blanks
			}
		}
	}
	outer := blanksOf(doc, parent.Start)
	if strings.HasPrefix(outer, "\t") {
		return outer + "\t"
	}
	return outer + "  "
}

// blanksOf is what indents the line on which something begins; "" where more stands before it.
func blanksOf(doc []byte, at int) string {
	blanks := string(doc[strings.LastIndexByte(string(doc[:at]), '\n')+1 : at])
	if strings.TrimLeft(blanks, " \t") != "" {
		return ""
	}
	return blanks
}
