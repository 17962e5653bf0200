package tui

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/rivo/uniseg"

	"initium/internal/core/text"
)

// canvas is a grid of cells that the views draw on. Whatever is put beyond its
// edges is cut, so nothing can overflow.
type canvas struct {
	w, h  int
	cells []cell
}

type cell struct {
	s    string // one character; "" for the second half of a wide one
	ink  ink
	lift bool // on the raised ground of the selected row
}

func newCanvas(w, h int) *canvas {
	c := &canvas{w: max(w, 1), h: max(h, 1)}
	c.cells = make([]cell, c.w*c.h)
	for i := range c.cells {
		c.cells[i].s = " "
	}
	return c
}

// put writes text at a place, cut at the right edge, and returns the column
// after it. What it writes has to be clean of control characters.
func (c *canvas) put(x, y int, s string, k ink) int {
	return c.putWithin(x, y, c.w-x, s, k)
}

// putWithin writes text into at most width columns. Text that does not fit ends
// in an ellipsis.
func (c *canvas) putWithin(x, y, width int, s string, k ink) int {
	if y < 0 || y >= c.h || width <= 0 {
		return x
	}
	if ansi.StringWidth(s) > width {
		s = ansi.Truncate(s, width, "…")
	}
	for g := uniseg.NewGraphemes(s); g.Next(); {
		ch := g.Str()
		w := ansi.StringWidth(ch)
		if w == 0 || x+w > c.w {
			continue
		}
		if x >= 0 {
			at := &c.cells[y*c.w+x]
			at.s, at.ink = ch, k
			for i := 1; i < w; i++ {
				c.cells[y*c.w+x+i] = cell{s: "", ink: k, lift: at.lift}
			}
		}
		x += w
	}
	return x
}

// right writes text so that it ends before column x, and returns where it
// begins.
func (c *canvas) right(x, y int, s string, k ink) int {
	start := x - ansi.StringWidth(s)
	c.put(start, y, s, k)
	return start
}

// rule draws a thin line across.
func (c *canvas) rule(y int) {
	if y >= 0 && y < c.h {
		c.put(0, y, strings.Repeat("─", c.w), inkFaint)
	}
}

// lift raises the ground of a row.
func (c *canvas) lift(y, from, to int) {
	if y < 0 || y >= c.h {
		return
	}
	for x := max(from, 0); x < min(to, c.w); x++ {
		c.cells[y*c.w+x].lift = true
	}
}

// paragraph writes text over several lines, broken between words, and returns
// the line after it. At most lines lines are written.
func (c *canvas) paragraph(x, y, width, lines int, s string, k ink) int {
	if width <= 0 {
		return y
	}
	wrapped := strings.Split(ansi.Wrap(s, width, " "), "\n")
	for i, line := range wrapped[:min(len(wrapped), lines)] {
		line = strings.TrimRight(line, " ")
		if i == lines-1 && len(wrapped) > lines {
			line = ansi.Truncate(line, width-2, "") + " …"
		}
		c.putWithin(x, y, width, line, k)
		y++
	}
	return y
}

// render turns the canvas into what the terminal is sent.
func (c *canvas) render(p *palette) string {
	var b, run strings.Builder
	for y := range c.h {
		if y > 0 {
			b.WriteByte('\n')
		}
		row := c.cells[y*c.w : (y+1)*c.w]
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

// clean is short for making foreign text safe.
func clean(s string) string { return text.Clean(s) }

// clear takes away what stands on a line.
func (c *canvas) clear(y int) {
	if y < 0 || y >= c.h {
		return
	}
	for x := range c.w {
		c.cells[y*c.w+x] = cell{s: " "}
	}
}

// ending cuts a path that is too long so that its end is seen, which tells more.
func ending(s string, width int) string {
	over := ansi.StringWidth(s) - width
	if over <= 0 || width < 2 {
		return s
	}
	return "…" + ansi.TruncateLeft(s, over+1, "")
}
