package tui

import (
	"fmt"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
)

// maxLog bounds how many lines of a log the screen holds; older ones go first.
const maxLog = 50_000

// logView shows a log and follows it until it is scrolled back.
type logView struct {
	lines []logLine
	top   int // index of the first shown line when held
	held  bool
	mark  int // number of a line to point at, 0 for none
}

type logLine struct {
	number int
	text   string
	means  dialect.Meaning
}

func (l *logView) add(lines []proof.Line) {
	for _, line := range lines {
		l.lines = append(l.lines, logLine{line.Number, clean(line.Text), line.Means})
	}
	if extra := len(l.lines) - maxLog; extra > 0 {
		l.lines = append(l.lines[:0:0], l.lines[extra:]...)
		l.top = max(l.top-extra, 0)
	}
}

// scroll moves the view by so many lines; reaching the end follows again.
func (l *logView) scroll(by, h int) {
	end := max(len(l.lines)-h, 0)
	if !l.held {
		l.top = end
	}
	l.top = min(max(l.top+by, 0), end)
	l.held = l.top < end
}

// point holds the view at a line.
func (l *logView) point(number, h int) {
	l.mark = number
	if len(l.lines) == 0 {
		return
	}
	l.top = min(max(number-l.lines[0].number-h/2, 0), max(len(l.lines)-h, 0))
	l.held = true
}

func meaningMark(m dialect.Meaning) (string, ink) {
	switch m {
	case dialect.MeansReady:
		return "●", inkGood
	case dialect.MeansLoaded:
		return "◆", inkGood
	case dialect.MeansLoading:
		return "◦", inkFocus
	case dialect.MeansFailed, dialect.MeansNeeds, dialect.MeansMissing, dialect.MeansStopped:
		return "✕", inkBad
	}
	return " ", inkDim
}

func (l *logView) draw(c *canvas, x, y, width, h int) {
	first := max(len(l.lines)-h, 0)
	if l.held {
		first = l.top
	}
	for i := first; i < min(first+h, len(l.lines)); i++ {
		line, row := l.lines[i], y+i-first
		c.right(x+6, row, fmt.Sprint(line.number), inkDim)
		shape, k := meaningMark(line.means)
		c.put(x+7, row, shape, k)
		textInk := inkText
		switch {
		case line.means == dialect.MeansIgnore:
			textInk = inkDim
		case k == inkBad:
			textInk = inkBad
		}
		c.putWithin(x+9, row, width-9, line.text, textInk)
		if line.number == l.mark {
			c.lift(row, x, x+width)
			c.put(x, row, "▌", inkFocus)
		}
	}
	if l.held {
		c.right(x+width, y+h-1, fmt.Sprintf(" held; %d more below ", len(l.lines)-min(first+h, len(l.lines))), inkDim)
	}
}
