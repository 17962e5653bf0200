package board

import (
	"fmt"
	"math"
	"strings"

	"initium/internal/core/proof"
	"initium/internal/tui/canvas"
	"initium/internal/tui/marks"
)

// axis places moments of a start on columns.
type axis struct {
	x, width int
	span     float64 // ms from the left edge to the right one
	ready    float64 // ms, 0 when the start never was
}

func newAxis(x, width int, p *proof.Proof) axis {
	a := axis{x: x, width: width}
	if p == nil {
		return a
	}
	a.ready = float64(p.ReadyAfterMS)
	a.span = a.ready
	for _, m := range p.Mods {
		if m.EndedMS != nil {
			a.span = max(a.span, *m.EndedMS)
		}
	}
	a.span *= 1.04
	return a
}

// halves is a moment in half columns from the left edge.
func (a axis) halves(ms float64) int {
	if a.span <= 0 {
		return 0
	}
	return min(max(int(math.Round(ms/a.span*float64(2*a.width))), 0), 2*a.width)
}

// steps of the scale, in ms: the first that leaves room for its labels is used.
var scaleSteps = []float64{10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000, 20_000, 30_000, 60_000, 120_000, 300_000, 600_000, 1_800_000, 3_600_000}

// header draws the scale.
func (a axis) header(c *canvas.Canvas, y int) {
	if a.span <= 0 || a.width < 8 {
		return
	}
	step := scaleSteps[len(scaleSteps)-1]
	for _, s := range scaleSteps {
		if s/a.span*float64(a.width) >= 9 {
			step = s
			break
		}
	}
	end := a.width
	if a.ready > 0 {
		const label = "ready"
		at := max(a.readyColumn()-len(label)+1, 0)
		c.Put(a.x+at, y, label, canvas.Text)
		end = at - 1
	}
	for ms := 0.0; ms <= a.span; ms += step {
		col := a.halves(ms) / 2
		label := scaleLabel(ms, step)
		if col+len(label) <= end {
			c.Put(a.x+col, y, label, canvas.Dim)
		}
	}
}

// readyColumn is where the server was ready, from the left edge.
func (a axis) readyColumn() int { return min(a.halves(a.ready)/2, a.width-1) }

func scaleLabel(ms, step float64) string {
	switch {
	case ms == 0:
		return "0"
	case step < 1000 && ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	case step < 1000:
		return fmt.Sprintf("%.1f s", ms/1000)
	case ms >= 120_000:
		return fmt.Sprintf("%.0f min", ms/60_000)
	}
	return fmt.Sprintf("%.0f s", ms/1000)
}

// grid draws the moment in which the server was ready.
func (a axis) grid(c *canvas.Canvas, y int) {
	if a.ready > 0 && a.width > 0 {
		c.Put(a.x+a.readyColumn(), y, "┊", canvas.Faint)
	}
}

// bar draws when a mod loaded.
func (a axis) bar(c *canvas.Canvas, y int, m *proof.Mod) {
	if m == nil || m.EndedMS == nil || a.width < 4 || a.span <= 0 {
		return
	}
	to := a.halves(*m.EndedMS)
	from := to
	if m.BeganMS != nil {
		from = min(a.halves(*m.BeganMS), to)
	}
	mark := marks.Outcome(m.Outcome)
	if m.Outcome == proof.Failed {
		c.Put(a.x+min(to/2, a.width-1), y, mark.Shape, mark.Ink)
		return
	}
	if to == from { // too short to see: at least half a column
		if to == 2*a.width {
			from--
		} else {
			to++
		}
	}
	var b strings.Builder
	col := from / 2
	for i := col * 2; i < to; i += 2 {
		left, right := i >= from, i+1 < to
		switch {
		case left && right:
			b.WriteString("━")
		case left:
			b.WriteString("╸")
		default:
			b.WriteString("╺")
		}
	}
	c.PutWithin(a.x+col, y, a.width-col, b.String(), canvas.Bar)
}
