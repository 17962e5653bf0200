// Package canvas is what screens draw on: cells that nothing overflows, and inks that fit
// the terminal's background.
package canvas

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/rivo/uniseg"

	"initium/internal/core/text"
)

// Canvas is a grid of cells that the views draw on. Whatever is put beyond its
// edges is cut, so nothing can overflow.
type Canvas struct {
	W, H  int
	cells []cell
}

type cell struct {
	s    string // one character; "" for the second half of a wide one
	ink  Ink
	lift bool // on the raised ground of the selected row
}

// New is an empty canvas.
func New(w, h int) *Canvas {
	c := &Canvas{W: max(w, 1), H: max(h, 1)}
	c.cells = make([]cell, c.W*c.H)
	for i := range c.cells {
		c.cells[i].s = " "
	}
	return c
}

// Put writes text at a place, cut at the right edge, and returns the column
// after it. What it writes has to be clean of control characters.
func (c *Canvas) Put(x, y int, s string, k Ink) int {
	return c.PutWithin(x, y, c.W-x, s, k)
}

// PutWithin writes text into at most width columns. Text that does not fit ends
// in an ellipsis.
func (c *Canvas) PutWithin(x, y, width int, s string, k Ink) int {
	if y < 0 || y >= c.H || width <= 0 {
		return x
	}
	if ansi.StringWidth(s) > width {
		s = ansi.Truncate(s, width, "…")
	}
	for g := uniseg.NewGraphemes(s); g.Next(); {
		ch := g.Str()
		w := ansi.StringWidth(ch)
		if w == 0 || x+w > c.W {
			continue
		}
		if x >= 0 {
			at := &c.cells[y*c.W+x]
			at.s, at.ink = ch, k
			for i := 1; i < w; i++ {
				c.cells[y*c.W+x+i] = cell{s: "", ink: k, lift: at.lift}
			}
		}
		x += w
	}
	return x
}

// Right writes text so that it ends before column x, and returns where it
// begins.
func (c *Canvas) Right(x, y int, s string, k Ink) int {
	start := x - ansi.StringWidth(s)
	c.Put(start, y, s, k)
	return start
}

// Rule draws a thin line across.
func (c *Canvas) Rule(y int) {
	if y >= 0 && y < c.H {
		c.Put(0, y, strings.Repeat("─", c.W), Faint)
	}
}

// Lift raises the ground of a row.
func (c *Canvas) Lift(y, from, to int) {
	if y < 0 || y >= c.H {
		return
	}
	for x := max(from, 0); x < min(to, c.W); x++ {
		c.cells[y*c.W+x].lift = true
	}
}

// Paragraph writes text over several lines, broken between words, and returns
// the line after it. At most lines lines are written.
func (c *Canvas) Paragraph(x, y, width, lines int, s string, k Ink) int {
	if width <= 0 {
		return y
	}
	wrapped := strings.Split(ansi.Wrap(s, width, " "), "\n")
	for i, line := range wrapped[:min(len(wrapped), lines)] {
		line = strings.TrimRight(line, " ")
		if i == lines-1 && len(wrapped) > lines {
			line = ansi.Truncate(line, width-2, "") + " …"
		}
		c.PutWithin(x, y, width, line, k)
		y++
	}
	return y
}

// Render turns the canvas into what the terminal is sent.
func (c *Canvas) Render(p *Palette) string {
	var b, run strings.Builder
	for y := range c.H {
		if y > 0 {
			b.WriteByte('\n')
		}
		row := c.cells[y*c.W : (y+1)*c.W]
		for x := 0; x < len(row); {
			first := row[x]
			run.Reset()
			for ; x < len(row) && row[x].ink == first.ink && row[x].lift == first.lift; x++ {
				run.WriteString(row[x].s)
			}
			b.WriteString(p.style(first.ink, first.lift).Render(run.String()))
		}
	}
	return b.String()
}

// Clean is short for making foreign text safe.
func Clean(s string) string { return text.Clean(s) }

// Clear takes away what stands on a line.
func (c *Canvas) Clear(y int) {
	if y < 0 || y >= c.H {
		return
	}
	for x := range c.W {
		c.cells[y*c.W+x] = cell{s: " "}
	}
}

// Ending cuts a path that is too long so that its end is seen, which tells more.
func Ending(s string, width int) string {
	over := ansi.StringWidth(s) - width
	if over <= 0 || width < 2 {
		return s
	}
	return "…" + ansi.TruncateLeft(s, over+1, "")
}
