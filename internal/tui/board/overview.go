package board

import (
	"slices"

	"initium/internal/core/proof"
	"initium/internal/tui/canvas"
	"initium/internal/tui/marks"
)

// sign is what the overview shows of a row; of several rows in one place the greatest.
type sign byte

const (
	signNone sign = iota
	signSilent
	signNeed // of the selected row
	signStaged
	signFailed
	signError
)

// signs are what the rows are marked with in the overview, but for the needs of the
// selected one.
func (b *Board) signs() []sign {
	staged := map[string]bool{}
	for _, c := range b.look.Staged {
		staged[c.Mod], staged[c.To] = true, true
	}
	delete(staged, "")
	list := make([]sign, len(b.rows))
	for i := range b.rows {
		r := &b.rows[i]
		switch {
		case r.outcome != nil && r.outcome.Outcome == proof.Failed:
			list[i] = signFailed
		case r.trouble > 0 || troubled(*r):
			list[i] = signError
		case r.mod != nil && (staged[r.mod.Name] || r.mod.Group && len(r.mod.Entries) > 0 && staged[b.line(r.mod)]):
			list[i] = signStaged
		case r.outcome != nil && r.outcome.Outcome == proof.Silent:
			list[i] = signSilent
		}
	}
	return list
}

// overviewWidth is the room at the right of the rows that the overview takes.
const overviewWidth = 2

// overview tells whether there are more rows than can be seen at once.
func (b *Board) overview(h int) bool { return len(b.rows) > h }

// drawOverview draws all rows in one column of h places, from line y on: which of them can
// be seen, and where trouble, staged changes and what the selected row needs are.
func (b *Board) drawOverview(c *canvas.Canvas, x, y, h, last int) {
	if len(b.marks) != len(b.rows) {
		b.marks = b.signs()
	}
	place := func(row int) int { return row * h / len(b.rows) }
	most := make([]sign, h)
	for i, s := range b.marks {
		most[place(i)] = max(most[place(i)], s)
	}
	for _, n := range b.needs {
		if n.from == b.selected {
			most[place(n.to)] = max(most[place(n.to)], signNeed)
		}
	}
	for i, s := range most {
		shape, k := "╎", canvas.Faint
		if i >= place(b.scroll) && i <= place(last-1) {
			shape, k = "│", canvas.Text
		}
		switch s {
		case signError:
			shape, k = "!", canvas.Bad
		case signFailed:
			shape, k = marks.Outcome(proof.Failed).Shape, canvas.Bad
		case signStaged:
			shape, k = "▷", canvas.Focus
		case signNeed:
			shape, k = "○", canvas.Text
		case signSilent:
			shape, k = marks.Outcome(proof.Silent).Shape, canvas.Warn
		}
		c.Put(x, y+i, shape, k)
	}
}

// jumpTo selects the row that stands at a place of the overview.
func (b *Board) jumpTo(at, h int) {
	begin := func(place int) int { return (place*len(b.rows) + h - 1) / h } // the first row there
	first := begin(at)
	rows := b.rows[first:begin(at+1)]
	i := slices.IndexFunc(rows, func(r boardRow) bool { return r.chosen() && (troubled(r) || r.trouble > 0) })
	if i < 0 {
		i = slices.IndexFunc(rows, func(r boardRow) bool { return r.chosen() })
	}
	if i >= 0 {
		b.selected = first + i
	}
}
