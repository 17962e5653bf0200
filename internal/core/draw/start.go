package draw

import (
	"fmt"
	"math"

	"gonum.org/v1/plot/vg"
)

// Start is a start to be drawn as a time chart, beside an earlier one.
type Start struct {
	Title, About    string
	Ready, WasReady float64 // ms from the start of the process; 0 for never, or no earlier one
	Bars            []Bar   // in the order in which they are to stand
	Gone            []string
}

// Bar is one mod in a start. Times are in ms from the start of the process.
type Bar struct {
	Name           string
	Mark           Mark
	Known          bool // when it loaded is known
	From, To       float64
	WasKnown       bool // and of the earlier start too
	WasFrom, WasTo float64
	New            bool // the earlier start did not have it
}

// Sizes of the chart, in points.
const (
	chartRow   = 12.0
	chartRows  = 56 // that one column holds easily
	chartAxis  = 300.0
	chartName  = 140.0
	chartWords = 84.0
)

// Draw draws the chart: a bar for each mod, in columns when there are many, with
// the earlier start as thin lines below.
func (s *Start) Draw() *Picture {
	p := newPicture()
	const column = chartName + chartAxis + chartWords
	columns := s.columns(column)
	rows := (len(s.Bars) + columns - 1) / columns
	gone := 0.0
	if len(s.Gone) > 0 {
		gone = 14
	}
	p.Width = max(2*border+float64(columns)*column+float64(columns-1)*layerGap, 420)
	p.Height = headSpace + 16 + float64(rows)*chartRow + footSpace + gone + 6
	p.box(0, 0, p.Width, p.Height, inkPaper, nil, 0)
	p.text(border, 24, titleSize, true, inkText, s.Title)
	p.text(border, 37, textSize, false, inkDim, s.About)
	end := s.Ready
	for _, b := range s.Bars {
		end = max(end, b.To, b.WasTo)
	}
	end = max(end, s.WasReady, 1) * 1.03
	used := map[Mark]int{}
	for c := range columns {
		x := border + float64(c)*(column+layerGap)
		bars := s.Bars[min(c*rows, len(s.Bars)):min((c+1)*rows, len(s.Bars))]
		from, to := 0.0, end
		if columns > 1 {
			from, to = window(bars, end)
		}
		s.column(p, x, from, to, bars)
		for _, b := range bars {
			used[b.Mark]++
		}
	}
	y := p.Height - 12
	x := p.legend(border, y, used)
	if s.WasReady > 0 {
		p.line(x, y-3, x+18, y-3, 1, inkDim, nil)
		p.text(x+22, y, textSize, false, inkDim, "the last start that proved it")
	}
	if len(s.Gone) > 0 {
		words := "in the earlier start only: "
		for i, name := range s.Gone {
			if i > 0 {
				words += ", "
			}
			words += name
		}
		p.text(border, y-14, textSize, false, inkDim, p.cut(words, textSize, p.Width-2*border))
	}
	return p
}

// columns is how many columns bring the chart nearest to the shape of a page.
func (s *Start) columns(width float64) int {
	best, n := math.Inf(1), 1
	for c := 1; c <= len(s.Bars)/chartRows+1; c++ {
		rows := float64((len(s.Bars) + c - 1) / c)
		w, h := float64(c)*(width+layerGap), headSpace+footSpace+rows*chartRow
		if off := math.Abs(math.Log(w / h / math.Sqrt2)); off < best {
			best, n = off, c
		}
	}
	if len(s.Bars) <= chartRows {
		return 1
	}
	return n
}

// window is the part of the time that some bars need.
func window(bars []Bar, end float64) (from, to float64) {
	from = end
	for _, b := range bars {
		if b.Known {
			from, to = min(from, b.From), max(to, b.To)
		}
	}
	if to <= from {
		return 0, end
	}
	room := (to - from) * 0.03
	return max(from-room, 0), to + room
}

// column draws some of the bars with an axis of their own, from one moment to
// another.
func (s *Start) column(p *Picture, x, from, to float64, bars []Bar) {
	left, top := x+chartName, headSpace+16
	bottom := top + float64(len(bars))*chartRow
	at := func(ms float64) float64 {
		return left + min(max((ms-from)/(to-from), 0), 1)*chartAxis
	}
	within := func(ms float64) bool { return ms > 0 && ms >= from && ms <= to }
	step := tickStep(to - from)
	for ms := math.Ceil(from/step) * step; ms <= to; ms += step {
		p.line(at(ms), top-3, at(ms), bottom, 0.4, inkFaint, nil)
		p.text(at(ms)+2, top-6, textSize-1, false, inkDim, tickLabel(ms))
	}
	for i, b := range bars {
		s.bar(p, x, top+float64(i)*chartRow, at, b)
	}
	if within(s.WasReady) {
		p.line(at(s.WasReady), top-3, at(s.WasReady), bottom, 0.8, inkDim, []vg.Length{2, 2})
	}
	if within(s.Ready) {
		p.line(at(s.Ready), top-3, at(s.Ready), bottom, 1.2, inkText, nil)
		p.textRight(at(s.Ready)-2, bottom+9, textSize, true, inkText, "ready")
	}
}

func (s *Start) bar(p *Picture, x, y float64, at func(float64) float64, b Bar) {
	base := y + chartRow - 3.5
	p.mark(x+4, y+chartRow/2, b.Mark)
	p.text(x+12, base, textSize, false, inkText, p.cut(b.Name, textSize, chartName-18))
	words := ""
	if b.Known {
		p.box(at(b.From), y+2, max(at(b.To)-at(b.From), 0.8), chartRow-6, b.Mark.ink(), nil, 0)
		words = milliseconds(b.To - b.From)
	}
	if b.WasKnown {
		if end := at(b.WasTo); end > x+chartName {
			p.line(at(b.WasFrom), y+chartRow-2.2, max(end, at(b.WasFrom)+0.8), y+chartRow-2.2, 1, inkDim, nil)
		}
		if b.Known {
			words += difference((b.To - b.From) - (b.WasTo - b.WasFrom))
		}
	}
	switch {
	case b.Mark == MarkFailed:
		words = "failed"
	case b.New && b.Mark != MarkOff:
		words += " new"
	case words == "" && b.Mark != MarkNone:
		words = markWords[b.Mark]
	}
	p.text(x+chartName+chartAxis+6, base, textSize, false, inkDim, words)
}

func milliseconds(ms float64) string {
	if ms >= 10_000 {
		return fmt.Sprintf("%.1f s", ms/1000)
	}
	return fmt.Sprintf("%.0f ms", ms)
}

// difference tells how much longer or shorter a mod took, when that is worth a
// word.
func difference(ms float64) string {
	if math.Abs(ms) < 1 {
		return ""
	}
	return fmt.Sprintf(" (%+.0f)", ms)
}

// tickStep is the distance of the axis' ticks, in ms.
func tickStep(end float64) float64 {
	for step := 1.0; ; step *= 10 {
		for _, part := range []float64{1, 2, 5} {
			if end/(step*part) <= 7 {
				return step * part
			}
		}
	}
}

func tickLabel(ms float64) string {
	switch {
	case ms == 0:
		return "0"
	case ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	case ms < 120_000:
		return fmt.Sprintf("%g s", math.Round(ms/10)/100)
	}
	return fmt.Sprintf("%g min", math.Round(ms/600)/100)
}
