package lineup

import (
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// itemShelf is a list in a structured document, of names or of objects.
type itemShelf struct {
	doc    []byte
	list   *text.Node
	r      *dialect.Registration
	hidden []hiddenItem // of a YAML list with an item on each line: those in comments
}

// hiddenItem is an item that was switched off by a comment mark before its dash.
type hiddenItem struct {
	mark text.Span // to take away to bring it back
	line text.Line
	name string
	span text.Span
	at   int // index of the item that it stands before
}

func openItems(r *dialect.Registration, doc []byte) (shelf, *text.Fault) {
	root, fault := readTree(r.Format, doc)
	if fault != nil {
		return nil, fault
	}
	n := root.Get(r.At)
	if n == nil && r.Format == dialect.FormatXML {
		parent, name := root, r.At
		if i := strings.LastIndexByte(r.At, '.'); i > 0 {
			parent, name = xmlElement(root, r.At[:i]), r.At[i+1:]
		}
		if parent != nil {
			n = parent.Get(name)
		}
	}
	if n == nil || n.Kind != text.NodeList || len(n.Items) == 0 && !n.Flow {
		return nil, text.FaultAt(doc, len(doc), "there is no list at %s in this file; add it and try again", r.At)
	}
	s := &itemShelf{doc: doc, list: n, r: r}
	for _, item := range n.Items {
		if s.nameOf(item) == nil {
			return nil, text.FaultAt(doc, item.Start, "an item of %s has no name that could be read", r.At)
		}
	}
	s.findHidden()
	return s, nil
}

// commentsItems tells lists in which an item is switched off in its place: those
// of YAML with an item on each line.
func (s *itemShelf) commentsItems() bool {
	return s.r.Format == dialect.FormatYAML && !s.list.Flow && s.r.NameKey == ""
}

// findHidden looks for items in comments: lines from right above the first item
// to right behind the last whose dash stands in the column of the others when the
// comment mark is taken away.
func (s *itemShelf) findHidden() {
	if !s.commentsItems() || len(s.list.Items) == 0 {
		return
	}
	first, last := s.list.Items[0], s.list.Items[len(s.list.Items)-1]
	indent := column(s.doc, first.Lead.Start)
	lines := text.Lines(s.doc)
	begin := slices.IndexFunc(lines, func(l text.Line) bool { return l.End > first.Lead.Start })
	for begin > 0 && strings.HasPrefix(strings.TrimLeft(string(lines[begin-1].Text.In(s.doc)), " "), "#") {
		begin--
	}
	for _, line := range lines[begin:] {
		raw := string(line.Text.In(s.doc))
		body := strings.TrimLeft(raw, " ")
		if line.Text.Start >= last.End && !strings.HasPrefix(body, "#") {
			break
		}
		rest, ok := strings.CutPrefix(body, "# - ")
		if !ok || len(raw)-len(body) != indent {
			continue
		}
		n, fault := text.ReadYAML([]byte("- " + rest))
		if fault != nil || n.Kind != text.NodeList || len(n.Items) != 1 || n.Items[0].Kind != text.NodeString {
			continue
		}
		mark := line.Text.Start + indent
		value := mark + len("# - ") - len("- ")
		p := n.Items[0].Piece
		at := 0
		for at < len(s.list.Items) && s.list.Items[at].Start < mark {
			at++
		}
		s.hidden = append(s.hidden, hiddenItem{text.Span{Start: mark, End: mark + 2}, line, p.Value,
			text.Span{Start: value + p.Text().Start, End: value + p.Text().End}, at})
	}
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
func (s *itemShelf) nameOf(item *text.Node) *text.Piece {
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

func (s *itemShelf) entries() (list []shelfEntry) {
	next := 0
	for i := 0; i <= len(s.list.Items); i++ {
		for ; next < len(s.hidden) && s.hidden[next].at == i; next++ {
			h := s.hidden[next]
			list = append(list, shelfEntry{name: h.name, span: h.span, line: h.line.Span, off: true})
		}
		if i < len(s.list.Items) {
			item := s.list.Items[i]
			p := s.nameOf(item)
			list = append(list, shelfEntry{name: p.Value, raw: s.list.ItemText(s.doc, i), span: p.Text(), line: item.Span})
		}
	}
	return list
}

// split turns an index of entries into one of items, or of hidden items.
func (s *itemShelf) split(i int) (item, hidden int) {
	for _, e := range s.entries()[:min(i, len(s.entries()))] {
		if e.off {
			hidden++
		} else {
			item++
		}
	}
	return item, hidden
}

func (s *itemShelf) insert(i int, name, number, raw string) ([]text.Edit, error) {
	if raw == "" {
		quote := map[dialect.Format]text.Quote{dialect.FormatJSON: text.QuoteJSON, dialect.FormatTOML: text.QuoteJSON,
			dialect.FormatYAML: text.QuoteYAML, dialect.FormatXML: text.QuoteXML}[s.r.Format]
		mod, err := quote(name)
		if err != nil {
			return nil, err
		}
		raw = strings.NewReplacer("{mod}", mod, "{number}", number).Replace(s.r.Item)
	}
	item, hidden := s.split(i)
	if hidden < len(s.hidden) && s.hidden[hidden].at == item && i < len(s.entries()) { // before one that is off
		return []text.Edit{text.InsertLine(s.doc, s.hidden[hidden].line.Start, strings.Repeat(" ", column(s.doc, s.hidden[hidden].mark.Start))+"- "+raw)}, nil
	}
	if n := len(s.hidden); n > 0 && item == len(s.list.Items) && s.hidden[n-1].at == item { // behind one that is off
		return []text.Edit{text.InsertLine(s.doc, s.hidden[n-1].line.End, strings.Repeat(" ", column(s.doc, s.hidden[n-1].mark.Start))+"- "+raw)}, nil
	}
	return []text.Edit{s.list.InsertItem(s.doc, item, raw)}, nil
}

func (s *itemShelf) remove(i int) ([]text.Edit, error) {
	item, hidden := s.split(i)
	if s.entries()[i].off {
		return []text.Edit{text.DeleteLine(s.doc, s.hidden[hidden].line.Span)}, nil
	}
	return s.list.RemoveItem(s.doc, item), nil
}

func (s *itemShelf) rename(i int, name string) ([]text.Edit, error) {
	item, hidden := s.split(i)
	if s.entries()[i].off {
		written, err := text.QuoteYAML(name)
		return []text.Edit{{Span: s.hidden[hidden].span, New: written}}, err
	}
	return s.nameOf(s.list.Items[item]).Becomes(name)
}

// turn switches an item off or on where it stands; ErrParked says that this list
// cannot.
func (s *itemShelf) turn(i int, on bool) ([]text.Edit, error) {
	item, hidden := s.split(i)
	switch {
	case !s.commentsItems():
		return nil, errParked
	case on:
		return []text.Edit{text.Delete(s.hidden[hidden].mark)}, nil
	case len(s.list.Items) == 1:
		return nil, errParked // a list without any item is no list any more
	}
	return []text.Edit{text.Insert(s.list.Items[item].Lead.Start, "# ")}, nil
}
