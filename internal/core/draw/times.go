package draw

import (
	"fmt"
	"math"
)

// Times is how long all starts of a server took.
type Times struct {
	Title, About string
	Starts       []TimesStart // the oldest first
}

// TimesStart is one start.
type TimesStart struct {
	Number int
	When   string  // such as "3 Jan 15:04"
	Ready  float64 // ms until the server was ready; 0 for never
	Proved bool
}

// Sizes of the chart, in points.
const (
	timesHeight = 240.0
	timesLeft   = 52.0
	timesMost   = 26.0 // for one start
	timesLeast  = 3.0
	timesWidth  = 820.0
)

// Draw draws a column for each start: as high as it took until the server was ready,
// with its outcome above.
func (s *Times) Draw() *Picture {
	p := newPicture()
	n := float64(max(len(s.Starts), 1))
	step := min(max(timesWidth/n, timesLeast), timesMost)
	p.Width = max(timesLeft+n*step+border, 420)
	p.Height = headSpace + timesHeight + 58
	p.box(0, 0, p.Width, p.Height, inkPaper, nil, 0)
	p.text(border, 24, titleSize, true, inkText, s.Title)
	p.text(border, 37, textSize, false, inkDim, s.About)
	most := 1.0
	for _, one := range s.Starts {
		most = max(most, one.Ready)
	}
	most *= 1.12
	bottom := headSpace + 10 + timesHeight
	at := func(ms float64) float64 { return bottom - ms/most*timesHeight }
	tick := tickStep(most)
	for ms := 0.0; ms <= most; ms += tick {
		p.line(timesLeft-3, at(ms), p.Width-border, at(ms), 0.4, inkFaint, nil)
		p.textRight(timesLeft-6, at(ms)+3, textSize-1, false, inkDim, tickLabel(ms))
	}
	labels := max(int(math.Ceil(34/step)), 1)
	for i, one := range s.Starts {
		x := timesLeft + float64(i)*step
		mark, ink := MarkConfirmed, inkGood
		if !one.Proved {
			mark, ink = MarkFailed, inkBad
		}
		if one.Ready > 0 {
			p.box(x+step*0.15, at(one.Ready), step*0.7, bottom-at(one.Ready), ink, nil, 0)
		}
		if step >= 9 {
			p.mark(x+step/2, at(one.Ready)-7, mark)
		}
		if i%labels == 0 {
			p.text(x, bottom+12, textSize-1, false, inkDim, fmt.Sprint(one.Number))
		}
	}
	if len(s.Starts) > 0 {
		first, last := s.Starts[0], s.Starts[len(s.Starts)-1]
		p.text(timesLeft, bottom+26, textSize, false, inkDim, first.When)
		if len(s.Starts) > 1 {
			p.textRight(max(timesLeft+n*step, timesLeft+170), bottom+26, textSize, false, inkDim, last.When)
		}
	}
	p.mark(border+4, p.Height-13, MarkConfirmed)
	p.text(border+12, p.Height-10, textSize, false, inkDim, "proved; its height is the time until the server was ready")
	p.mark(border+300, p.Height-13, MarkFailed)
	p.text(border+308, p.Height-10, textSize, false, inkDim, "not proved")
	return p
}
