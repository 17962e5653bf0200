package draw

import (
	"image/color"
	"math"

	"gonum.org/v1/plot/vg"
)

// Mark is what is shown of a mod's outcome.
type Mark int

// The marks: nothing is known, the four outcomes, and a mod that is off.
const (
	MarkNone Mark = iota
	MarkConfirmed
	MarkFailed
	MarkSilent
	MarkUnlisted
	MarkOff
)

var markWords = map[Mark]string{MarkConfirmed: "confirmed", MarkFailed: "failed", MarkSilent: "silent", MarkUnlisted: "unlisted", MarkOff: "off"}

func (m Mark) ink() color.RGBA {
	switch m {
	case MarkConfirmed:
		return inkGood
	case MarkFailed:
		return inkBad
	case MarkSilent:
		return inkWarn
	case MarkUnlisted:
		return inkOther
	}
	return inkFaint
}

// mark draws a mark around a point: a full diamond, a cross, a broken ring, a
// hollow diamond, or a dot.
func (p *Picture) mark(x, y float64, m Mark) {
	const r = 3.2
	diamond := [][2]float64{{x, y - r}, {x + r, y}, {x, y + r}, {x - r, y}}
	switch m {
	case MarkConfirmed:
		p.polygon(diamond, m.ink(), nil, 0)
	case MarkFailed:
		p.line(x-r+0.6, y-r+0.6, x+r-0.6, y+r-0.6, 1.6, m.ink(), nil)
		p.line(x-r+0.6, y+r-0.6, x+r-0.6, y-r+0.6, 1.6, m.ink(), nil)
	case MarkSilent:
		p.ring(x, y, r-0.4, 1.1, nil, m.ink(), []vg.Length{1.7, 1.3})
	case MarkUnlisted:
		p.polygon(diamond, inkPaper, m.ink(), 1)
	case MarkOff:
		p.ring(x, y, 1.3, 0, inkDim, nil, nil)
	}
}

// ring draws a circle, as a shape of many corners: not every format's circles can
// be dashed.
func (p *Picture) ring(x, y, r, thick float64, fill, ink color.Color, dash []vg.Length) {
	const corners = 24
	at := func(i int) (float64, float64) {
		angle := 2 * math.Pi * float64(i) / corners
		return x + r*math.Cos(angle), y + r*math.Sin(angle)
	}
	p.add(func(c vg.Canvas, flip func(x, y float64) vg.Point) {
		var path vg.Path
		path.Move(flip(at(0)))
		for i := 1; i < corners; i++ {
			path.Line(flip(at(i)))
		}
		path.Close()
		if fill != nil {
			c.SetColor(fill)
			c.Fill(path)
			return
		}
		c.SetLineDash(dash, 0)
		c.SetLineWidth(vg.Length(thick))
		c.SetColor(ink)
		c.Stroke(path)
	})
}

// legend explains the marks that occur, from x on, and returns where it ends.
func (p *Picture) legend(x, y float64, used map[Mark]int) float64 {
	for m := MarkConfirmed; m <= MarkOff; m++ {
		if used[m] == 0 {
			continue
		}
		p.mark(x+4, y-3, m)
		p.text(x+11, y, textSize, false, inkDim, markWords[m])
		x += 11 + p.width(markWords[m], textSize, false) + 14
	}
	return x
}
