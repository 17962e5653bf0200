package lineup

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// itemEditor is a list in a structured document, of names or of objects.
type itemEditor struct {
	doc    []byte
	list   *text.Node
	r      *dialect.Registration
	hidden []hiddenItem // of a YAML list with an item on each line: those in comments
	hollow hollow       // its key, in YAML; of no length when it has none
	bare   bool         // an empty document, which is to be a list
	parent *text.Node   // the element that an empty list of XML stands in
}

// wholeDocument is where a list is that is all that a document holds.
const wholeDocument = "."

// hiddenItem is an item that was switched off by comment marks, one before its dash.
type hiddenItem struct {
	hiddenBlock
	name  string
	span  text.Span  // of the name
	piece text.Piece // it, in the body of the block
	at    int        // index of the item that it stands before
}

func openItems(r *dialect.Registration, doc []byte) (editor, *text.Fault) {
	if r.Format == dialect.FormatText {
		style := r.FormStyle()
		n, fault := text.ReadBracketed(doc, style.Within, r.Separator, style.Comment)
		if fault != nil {
			return nil, fault
		}
		return &itemEditor{doc: doc, list: n, r: r}, nil
	}
	root, fault := ReadDocument(r.Format, doc)
	if fault != nil {
		return nil, fault
	}
	n := root.Get(strings.TrimPrefix(r.At, wholeDocument))
	if n == nil && r.Format == dialect.FormatXML {
		parent, name := root, r.At
		if i := strings.LastIndexByte(r.At, '.'); i > 0 {
			parent, name = xmlElement(root, r.At[:i]), r.At[i+1:]
		}
		if parent != nil {
			n = parent.Get(name)
		}
	}
	s := &itemEditor{doc: doc, list: n, r: r}
	switch {
	case r.Format == dialect.FormatYAML:
		var ok bool
		if s.hollow, ok = yamlKey(doc, root, r.At); ok && isNull(n) {
			s.list = &text.Node{Kind: text.NodeList, Span: n.Span}
			s.findHidden()
			return s, nil
		}
	case n == nil && r.Format == dialect.FormatXML:
		if parent, ok := emptyXML(doc, root, r.At); ok {
			s.list, s.parent = &text.Node{Kind: text.NodeList}, parent
			return s, nil
		}
	}
	if r.At == wholeDocument && r.Format == dialect.FormatYAML && n.Kind == text.NodeObject && len(n.Members) == 0 && !n.Flow {
		s.list, s.bare, s.hollow.indent = &text.Node{Kind: text.NodeList}, true, -1
		s.findHidden()
		return s, nil
	}
	if n == nil || n.Kind != text.NodeList || len(n.Items) == 0 && !n.Flow {
		return nil, text.FaultAt(doc, len(doc), "there is no list at %s in this file; add it and try again", r.At)
	}
	for _, item := range n.Items {
		if s.nameOf(item) == nil {
			return nil, text.FaultAt(doc, item.Start, "an item of %s has no name that could be read", r.At)
		}
	}
	s.findHidden()
	return s, nil
}

// commentsItems tells lists in which an item is switched off in its place, with all its settings:
// those of YAML with an item on each line.
func (s *itemEditor) commentsItems() bool {
	return s.r.Format == dialect.FormatYAML && (!s.list.Flow || s.empty())
}

func (s *itemEditor) empty() bool { return len(s.list.Items) == 0 }

// findHidden looks for items in comments: lines from right above the first item
// to right behind the last whose dash stands in the column of the others when the
// comment mark is taken away. Of a list without any item they stand right below its
// key, further in.
func (s *itemEditor) findHidden() {
	if !s.commentsItems() || s.empty() && s.hollow.key.Len() == 0 && !s.bare {
		return
	}
	lines := text.Lines(s.doc)
	begin, end, indent := 0, s.hollow.key.End, -1
	if s.empty() {
		next := 0
		if !s.bare {
			next = s.hollow.next(s.doc)
		}
		begin = slices.IndexFunc(lines, func(l text.Line) bool { return l.Start >= next })
		begin = max(begin, 0)
	} else {
		first := s.list.Items[0]
		end, indent = s.list.Items[len(s.list.Items)-1].End, column(s.doc, first.Lead.Start)
		begin = slices.IndexFunc(lines, func(l text.Line) bool { return l.End > first.Lead.Start })
		for begin > 0 && strings.HasPrefix(strings.TrimLeft(string(lines[begin-1].Text.In(s.doc)), " "), "#") {
			begin--
		}
	}
	stop := begin
	for stop < len(lines) {
		body := strings.TrimLeft(string(lines[stop].Text.In(s.doc)), " ")
		if lines[stop].Text.Start >= end && !strings.HasPrefix(body, "#") {
			break
		}
		if at := column(s.doc, lines[stop].Text.End-len(body)); indent < 0 && at >= s.hollow.indent && strings.HasPrefix(body, "# - ") {
			indent = at
		}
		stop++
	}
	for _, block := range hiddenBlocks(s.doc, lines[begin:stop], indent, func(body string) bool { return strings.HasPrefix(body, "- ") }) {
		p := s.hiddenName(block)
		if p == nil && len(block.marks) > 1 { // what follows is prose
			block = block.first()
			p = s.hiddenName(block)
		}
		if p == nil {
			continue
		}
		at := 0
		for at < len(s.list.Items) && s.list.Items[at].Start < block.lines.Start {
			at++
		}
		inner := p.Text()
		s.hidden = append(s.hidden, hiddenItem{block, p.Value, text.Span{Start: block.at(inner.Start), End: block.at(inner.End)},
			*p, at})
	}
}

// hiddenName is the name in a block that is an item, or nil.
func (s *itemEditor) hiddenName(block hiddenBlock) *text.Piece {
	n, fault := text.ReadYAML(block.body)
	if fault != nil || n.Kind != text.NodeList || len(n.Items) != 1 || s.r.NameKey == "" && n.Items[0].Kind != text.NodeString {
		return nil
	}
	if p := s.nameOf(n.Items[0]); p != nil && p.Value != "" {
		return p
	}
	return nil
}

func column(doc []byte, at int) int {
	_, c := text.Position(doc, at)
	return c - 1
}

func xmlElement(root *text.Node, at string) *text.Node {
	n := root
	for _, name := range strings.Split(at, ".") {
		if n = n.Get(name); n == nil {
			return nil
		}
		if n.Kind == text.NodeList {
			n = n.Items[0]
		}
	}
	return n
}

// nameOf finds the text in an item that names the mod.
func (s *itemEditor) nameOf(item *text.Node) *text.Piece {
	n := item
	if s.r.NameKey != "" {
		n = item.Get(s.r.NameKey)
	} else if item.Kind == text.NodeObject {
		n = item.Get("#text")
	}
	if n == nil || n.Kind != text.NodeString {
		return nil
	}
	return &n.Piece
}

func (s *itemEditor) entries() (list []editorEntry) {
	next := 0
	for i := 0; i <= len(s.list.Items); i++ {
		for ; next < len(s.hidden) && s.hidden[next].at == i; next++ {
			h := s.hidden[next]
			list = append(list, editorEntry{name: h.name, span: h.span, line: h.lines, off: true})
		}
		if i < len(s.list.Items) {
			item := s.list.Items[i]
			p := s.nameOf(item)
			list = append(list, editorEntry{name: p.Value, raw: s.list.ItemText(s.doc, i), span: p.Text(), line: item.Span})
		}
	}
	return list
}

// split turns an index of entries into one of items, or of hidden items.
func (s *itemEditor) split(i int) (item, hidden int) {
	for _, e := range s.entries()[:min(i, len(s.entries()))] {
		if e.off {
			hidden++
		} else {
			item++
		}
	}
	return item, hidden
}

func (s *itemEditor) insert(i int, name, number, raw string) ([]text.Edit, error) {
	if raw == "" {
		quote := map[dialect.Format]text.Quote{dialect.FormatJSON: text.QuoteJSON, dialect.FormatTOML: text.QuoteJSON,
			dialect.FormatYAML: text.QuoteYAML, dialect.FormatXML: text.QuoteXML, dialect.FormatText: quoteText}[s.r.Format]
		mod, err := quote(name)
		if err != nil {
			return nil, err
		}
		if s.r.Item == "{mod}" {
			mod = s.quoted(name, mod, i)
		}
		raw = strings.NewReplacer("{mod}", mod, "{number}", number).Replace(s.r.Item)
	}
	item, hidden := s.split(i)
	beside := func(h hiddenItem, at int) []text.Edit {
		edit := text.InsertLine(s.doc, at, strings.Repeat(" ", column(s.doc, h.marks[0].Start))+"- "+raw)
		if s.empty() {
			return append(s.hollow.fill(), edit)
		}
		return []text.Edit{edit}
	}
	switch n := len(s.hidden); {
	case hidden < n && s.hidden[hidden].at == item && i < len(s.entries()): // before one that is off
		return beside(s.hidden[hidden], s.hidden[hidden].lines.Start), nil
	case n > 0 && item == len(s.list.Items) && s.hidden[n-1].at == item: // behind one that is off
		return beside(s.hidden[n-1], s.hidden[n-1].lines.End), nil
	case s.parent != nil:
		return FirstChild(s.doc, s.parent, raw), nil
	case s.bare:
		return []text.Edit{text.InsertLine(s.doc, len(s.doc), "- "+raw)}, nil
	case s.empty() && (!s.list.Flow || s.r.NameKey != "" && s.hollow.key.Len() > 0):
		return s.hollow.first(s.doc, "- "+raw), nil
	}
	return s.list.InsertItem(s.doc, item, raw), nil
}

// quoted writes a name in the quotes that most items have; plain is how it is written where they
// have none, or cannot hold it.
func (s *itemEditor) quoted(name, plain string, near int) string {
	if s.r.Format == dialect.FormatJSON || s.r.Format == dialect.FormatXML {
		return plain
	}
	var all []around
	for i, item := range s.list.Items {
		q := ""
		if raw := s.list.ItemText(s.doc, i); raw != "" && strings.ContainsAny(raw[:1], `"'`) && item.Kind == text.NodeString {
			q = raw[:1]
		}
		all = append(all, around{q, q})
	}
	a := most(all, min(near, len(all)))
	if s.r.Format == dialect.FormatText && len(all) > 0 && a.before == "" && !strings.ContainsAny(name, " \t,;()[]{}\"'\\") {
		return name
	}
	if strings.ContainsAny(name, "\"'\\") || len(all) == 0 || a.before == "" && plain != name {
		return plain
	}
	if s.r.Format == dialect.FormatTOML && a.before == "" {
		return plain
	}
	return a.put(name)
}

// quoteText writes a name in a text of any notation, where nothing tells how others are written.
func quoteText(name string) (string, error) {
	if strings.ContainsAny(name, "\"\\") {
		return "", fmt.Errorf("the name %q cannot be written in quotes", text.Clean(name))
	}
	return `"` + name + `"`, nil
}

func (s *itemEditor) remove(i int) ([]text.Edit, error) {
	item, hidden := s.split(i)
	if s.entries()[i].off {
		return []text.Edit{text.DeleteLine(s.doc, s.hidden[hidden].lines)}, nil
	}
	edits := s.list.RemoveItem(s.doc, item)
	if len(s.list.Items) == 1 && !s.list.Flow && s.hollow.key.Len() > 0 {
		edits = append(edits, s.hollow.clear("[]"))
	}
	return edits, nil
}

func (s *itemEditor) rename(i int, name string) ([]text.Edit, error) {
	item, hidden := s.split(i)
	if s.entries()[i].off {
		h := &s.hidden[hidden]
		edits, err := h.piece.Becomes(name)
		for i := range edits {
			edits[i].Start, edits[i].End = h.hiddenBlock.at(edits[i].Start), h.hiddenBlock.at(edits[i].End)
		}
		return edits, err
	}
	return s.nameOf(s.list.Items[item]).Becomes(name)
}

// turn switches an item off or on where it stands; ErrParked says that this list
// cannot.
func (s *itemEditor) turn(i int, on bool) ([]text.Edit, error) {
	item, hidden := s.split(i)
	switch {
	case !s.commentsItems():
		return nil, errParked
	case on && s.empty():
		return append(s.hollow.fill(), s.hidden[hidden].shown()...), nil
	case on:
		return s.hidden[hidden].shown(), nil
	}
	lead := s.list.Items[item].Lead.Start
	start := lead - column(s.doc, lead)
	edits, ok := hide(s.doc, text.Span{Start: start, End: s.list.Items[item].End}, column(s.doc, lead))
	if !ok {
		return nil, errParked
	}
	if len(s.list.Items) > 1 {
		return edits, nil
	}
	if s.hollow.key.Len() == 0 || column(s.doc, lead) < s.hollow.indent {
		return nil, errParked // below no key it could not be told from any other comment
	}
	return append([]text.Edit{s.hollow.clear("[]")}, edits...), nil
}
