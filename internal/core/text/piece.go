package text

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Piece is a text that stands in a document in some notation: with quotes,
// escapes, or lines that go on. It knows for each byte of the text where in the
// document it comes from, so that a part of the text can be changed and the rest
// of it, quotes and all, stays as it is written.
type Piece struct {
	Span         // in the document, with quotes
	Value string // what it means

	from, to []int  // the bytes of the document that each byte of Value comes from
	within   []byte // the context that each byte of Value stands in
	insert   []int  // for each position in Value the place in the document to insert at
	context  []byte // and the context there
	encode   Encoder
	rewrite  func(want string) (written string, needed bool, err error) // the whole in other quotes, for notations whose plain form cannot hold everything

	outer *Piece // the piece that this one is a part of, when it is; spans are then in its Value

	later func() Piece // works out the places, which most pieces of a large document are never asked for; nil when they are known
}

// placed works the places out.
func (p *Piece) placed() {
	if p.later != nil {
		q := p.later()
		p.from, p.to, p.within, p.insert, p.context, p.later = q.from, q.to, q.within, q.insert, q.context, nil
	}
}

// Encoder writes text in a notation. The context says in what surroundings, such
// as inside which quotes; the notation gives it its meaning. The error says why
// the text cannot be written there.
type Encoder func(context byte, s string) (string, error)

// pieceBuilder gathers a piece while its notation is being read.
type pieceBuilder struct {
	p     Piece
	value strings.Builder
}

func newPiece(start int, context byte, encode Encoder) *pieceBuilder {
	b := &pieceBuilder{p: Piece{Span: Span{start, start}, encode: encode}}
	b.p.insert, b.p.context = []int{start}, []byte{context}
	return b
}

// add notes that s stands at a span of the document.
func (b *pieceBuilder) add(s string, at Span, context byte) {
	for i := range len(s) {
		from, to := at.Start, at.End
		if len(s) == at.Len() { // one to one
			from, to = at.Start+i, at.Start+i+1
		}
		b.p.from, b.p.to, b.p.within = append(b.p.from, from), append(b.p.to, to), append(b.p.within, context)
		b.p.insert, b.p.context = append(b.p.insert, to), append(b.p.context, context)
	}
	b.value.WriteString(s)
}

// open notes that quotes open at an offset: what is inserted here goes inside.
func (b *pieceBuilder) open(inside int, context byte) {
	last := len(b.p.insert) - 1
	b.p.insert[last], b.p.context[last] = inside, context
}

func (b *pieceBuilder) done(end int) Piece {
	b.p.End, b.p.Value = end, b.value.String()
	return b.p
}

// plainPiece is text that stands for itself.
func plainPiece(doc []byte, at Span, encode Encoder) Piece {
	b := newPiece(at.Start, 0, encode)
	b.add(string(at.In(doc)), at, 0)
	return b.done(at.End)
}

// Edits replaces the bytes from to to of the piece's text by s, in its notation.
func (p *Piece) Edits(from, to int, s string) ([]Edit, error) {
	p.placed()
	if from < 0 || to < from || to > len(p.Value) {
		return nil, fmt.Errorf("text %d to %d of %d: %w", from, to, len(p.Value), ErrOverlap)
	}
	context := p.context[from]
	if from < to {
		context = p.within[from]
	}
	written := ""
	if s != "" {
		var err error
		if written, err = p.encode(context, s); err != nil {
			return nil, err
		}
	}
	var edits []Edit
	if from == to {
		edits = []Edit{{Span{p.insert[from], p.insert[from]}, written}}
	} else {
		edits = p.replace(from, to, written)
	}
	if p.outer == nil {
		return edits, nil
	}
	var all []Edit
	for _, e := range edits {
		list, err := p.outer.Edits(e.Start, e.End, e.New)
		if err != nil {
			return nil, err
		}
		all = append(all, list...)
	}
	return all, nil
}

// replace takes each run of document bytes that the text comes from away, and
// puts the new text in place of the first; quotes between two runs stay.
func (p *Piece) replace(from, to int, written string) []Edit {
	p.placed()
	var edits []Edit
	for i := from; i < to; {
		run := Span{p.from[i], p.to[i]}
		for i++; i < to && (p.from[i] == run.End || p.to[i] == run.End); i++ {
			run.End = p.to[i]
		}
		edits = append(edits, Edit{Span: run})
	}
	edits[0].New = written
	return edits
}

// At is where in the document a byte of the text comes from.
func (p *Piece) At(i int) int {
	p.placed()
	if p.outer != nil {
		return p.outer.At(min(p.insert[min(i, len(p.insert)-1)], len(p.outer.Value)))
	}
	if i < len(p.from) {
		return p.from[i]
	}
	return p.insert[len(p.insert)-1]
}

// inside makes a piece that was read from another's text a part of that.
func (p Piece) inside(outer *Piece) Piece {
	p.outer = outer
	return p
}

// Text is where the text itself stands in the document, without the quotes
// around it.
func (p *Piece) Text() Span {
	p.placed()
	if len(p.from) == 0 {
		return Span{p.At(0), p.At(0)}
	}
	if p.outer != nil {
		return Span{p.At(0), p.outer.At(p.to[len(p.to)-1])}
	}
	return Span{p.from[0], p.to[len(p.to)-1]}
}

// refuse is the encoder check that every notation shares.
func refuse(s, forbidden, where string) error {
	if !utf8.ValidString(s) {
		return errNotUTF8
	}
	for _, r := range s {
		if r < 0x20 && r != '\t' || r == 0x7f || strings.ContainsRune(forbidden, r) {
			return fmt.Errorf("%q cannot be written in %s, because of %q", Clean(s), where, r)
		}
	}
	return nil
}

// ListStyle is how several items stand in one text.
type ListStyle struct {
	Separator string // between items
	Mark      string // before each item
	Last      Last   // whether a separator follows the last item
}

// Last says whether a list ends with a separator.
type Last string

// A separator after the last item is kept as it is found, always wanted, or not
// allowed.
const (
	LastAsFound   Last = ""
	LastWanted    Last = "wanted"
	LastForbidden Last = "forbidden"
)

// Item is one item of a list in a text.
type Item struct {
	Name string
	Span      // of the name, in the piece's Value
	cell Span // with its mark and the blanks around it
}

// Items cuts the text of a piece into the items of a list. Empty cells are
// passed over.
func (p *Piece) Items(style ListStyle) []Item {
	var items []Item
	for at := 0; at <= len(p.Value); {
		end := len(p.Value)
		if i := strings.Index(p.Value[at:], style.Separator); i >= 0 && style.Separator != "" {
			end = at + i
		}
		cell := Span{at, end}
		name := trim([]byte(p.Value), cell)
		if strings.HasPrefix(p.Value[name.Start:name.End], style.Mark) {
			name.Start += len(style.Mark)
		}
		if name.Len() > 0 {
			items = append(items, Item{p.Value[name.Start:name.End], name, cell})
		}
		if end == len(p.Value) {
			break
		}
		at = end + len(style.Separator)
	}
	return items
}

// CheckItem says why a name cannot be an item of such a list.
func (s ListStyle) CheckItem(name string) error {
	switch {
	case name == "" || strings.TrimSpace(name) != name:
		return fmt.Errorf("the name %q is empty, or has a blank before or after it", Clean(name))
	case s.Separator != "" && strings.Contains(name, s.Separator):
		return fmt.Errorf("the name %q holds %q, which parts the items of this list", Clean(name), s.Separator)
	case s.Mark != "" && strings.HasPrefix(name, s.Mark):
		return fmt.Errorf("the name %q begins with %q, which this list puts before each item by itself", Clean(name), s.Mark)
	}
	return nil
}

// WithItems are the edits after which the list holds the items in the given
// order. Cells that stay are not touched, so their blanks and marks stay; names
// is what each cell is to hold, and keep the index of the cell that it is taken
// from, or -1 for a new one.
func (p *Piece) WithItems(style ListStyle, names []string, keep []int) ([]Edit, error) {
	items := p.Items(style)
	cells := make([]string, len(names))
	for i, name := range names {
		if err := style.CheckItem(name); err != nil {
			return nil, err
		}
		cells[i] = style.Mark + name
		if keep[i] >= 0 {
			it := items[keep[i]]
			cells[i] = p.Value[it.cell.Start:it.Span.Start] + name + p.Value[it.Span.End:it.cell.End]
		}
		first := keep[i] == 0 && i > 0 && strings.TrimLeft(cells[i], " \t") == cells[i] // and has no blank before it for that
		if (keep[i] < 0 || first) && len(items) > 1 {                                   // spaced like the others
			it := items[len(items)-1]
			lead := p.Value[it.cell.Start:it.Span.Start]
			cells[i] = lead[:len(lead)-len(strings.TrimLeft(lead, " \t"))] + cells[i]
		}
	}
	if len(cells) > 0 && len(items) > 0 && style.Separator != "" {
		lead := p.Value[items[0].cell.Start:items[0].Span.Start]
		if strings.TrimLeft(lead, " \t") == lead {
			cells[0] = strings.TrimLeft(cells[0], " \t")
		}
	}
	want := strings.Join(cells, style.Separator)
	trailing := len(items) > 0 && strings.HasSuffix(strings.TrimRight(p.Value, " \t"), style.Separator)
	if len(cells) > 0 && (style.Last == LastWanted || style.Last == LastAsFound && trailing) {
		want += style.Separator
	}
	return p.Becomes(want)
}

// Becomes are the edits after which the piece's text is another, changing only
// what lies between what both begin and end with.
func (p *Piece) Becomes(want string) ([]Edit, error) {
	head := 0
	for head < len(want) && head < len(p.Value) && want[head] == p.Value[head] {
		head++
	}
	tail := 0
	for tail < len(want)-head && tail < len(p.Value)-head && want[len(want)-1-tail] == p.Value[len(p.Value)-1-tail] {
		tail++
	}
	// A boundary inside a character of several bytes would be written in halves.
	for head > 0 && (splits(want, head) || splits(p.Value, head)) {
		head--
	}
	// A backslash that stands for itself where it is may mean something before
	// another character, so it is written anew.
	for head > 0 && p.Value[head-1] == '\\' {
		head--
	}
	for tail > 0 && (splits(want, len(want)-tail) || splits(p.Value, len(p.Value)-tail)) {
		tail--
	}
	if head+tail == len(p.Value) && head+tail == len(want) {
		return nil, nil
	}
	if p.rewrite != nil {
		if written, needed, err := p.rewrite(want); err != nil {
			return nil, err
		} else if needed {
			return p.wholly(written)
		}
	}
	return p.Edits(head, len(p.Value)-tail, want[head:len(want)-tail])
}

// wholly replaces all that the piece is written with.
func (p *Piece) wholly(written string) ([]Edit, error) {
	if p.outer != nil {
		return p.outer.Edits(p.Start, p.End, written)
	}
	return []Edit{{p.Span, written}}, nil
}

// splits tells whether a position is inside a character.
func splits(s string, at int) bool { return at < len(s) && !utf8.RuneStart(s[at]) }
