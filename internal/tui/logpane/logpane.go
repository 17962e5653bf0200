// Package logpane draws a log that can be searched and filtered, for the screens that show
// one.
package logpane

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
)

// MaxLines bounds how many lines of a log the screen holds; older ones go first.
const MaxLines = 50_000

// Pane shows a log and follows it until it is scrolled back. A filter leaves
// only some of the lines; they keep their numbers.
type Pane struct {
	Lines  []Line
	base   int   // lines that were let go before the first
	Shown  []int // those that the filter leaves, counted from the first of all
	Filter logFilter
	mod    string // that the filter about a mod is about
	find   string
	top    int // index of the first shown line when held
	held   bool
	Mark   int // number of a line to point at, 0 for none

	Known   map[string]bool // trouble of the last proved start, by proof.Alike; nil when there is none
	Trouble int             // lines that tell of trouble
	Fresh   int             // and of trouble that the last proved start had not
}

// Line is a line of a log, with what the dialect's rules read in it.
type Line struct {
	number  int
	text    string
	Means   dialect.Meaning
	mods    []string
	trouble bool
	fresh   bool
	joined  bool
}

// logFilter says which lines of a log are shown.
type logFilter int

const (
	logAll logFilter = iota
	OfMod
	logTrouble
	logFresh
	logFilters
)

func (l *Pane) filterWords() string {
	switch l.Filter {
	case OfMod:
		return "only what is about " + canvas.Clean(l.mod)
	case logTrouble:
		return "only trouble"
	case logFresh:
		return "only trouble that the last proved start had not"
	}
	return ""
}

// Add puts what was read of the log at its end.
func (l *Pane) Add(lines []proof.Line) {
	for i := range lines {
		in := &lines[i]
		line := Line{number: in.Number, text: canvas.Clean(in.Text), Means: in.Means, mods: in.Mods, trouble: in.Trouble(), joined: in.Joined}
		if n := len(l.Lines); in.Joined && n > 0 {
			before := &l.Lines[n-1]
			line.mods, line.trouble, line.fresh = before.mods, before.trouble, before.fresh
		} else if line.trouble {
			l.Trouble++
			if line.fresh = l.Known != nil && !l.Known[proof.Alike(line.text)]; line.fresh {
				l.Fresh++
			}
		}
		l.Lines = append(l.Lines, line)
		if l.fits(&line) {
			l.Shown = append(l.Shown, l.base+len(l.Lines)-1)
		}
	}
	extra := len(l.Lines) - MaxLines
	if extra <= MaxLines/4 { // many go at once
		return
	}
	l.Lines, l.base = append(l.Lines[:0:0], l.Lines[extra:]...), l.base+extra
	gone, _ := slices.BinarySearch(l.Shown, l.base)
	l.Shown = append(l.Shown[:0:0], l.Shown[gone:]...)
	l.top = max(l.top-gone, 0)
}

func (l *Pane) fits(line *Line) bool {
	switch l.Filter {
	case OfMod:
		return slices.Contains(line.mods, l.mod)
	case logTrouble:
		return line.trouble
	case logFresh:
		return line.fresh
	}
	return true
}

func (l *Pane) at(i int) *Line { return &l.Lines[l.Shown[i]-l.base] }

// Show sets the filter; the line in the middle stays in sight where it can.
func (l *Pane) Show(f logFilter, mod string, h int) {
	near := 0
	if l.held && l.top+h/2 < len(l.Shown) {
		near = l.at(l.top + h/2).number
	}
	l.Filter, l.mod, l.Shown = f, mod, l.Shown[:0]
	for i := range l.Lines {
		if l.fits(&l.Lines[i]) {
			l.Shown = append(l.Shown, l.base+i)
		}
	}
	if l.held {
		l.hold(l.after(near), h)
	}
}

// nextFilter goes through the filters; the one about a mod only when one is chosen,
// the one about new trouble only when there is an earlier start to compare with.
func (l *Pane) nextFilter(mod string, h int) {
	f := l.Filter
	for {
		f = (f + 1) % logFilters
		if f == OfMod && mod == "" || f == logFresh && l.Known == nil {
			continue
		}
		l.Show(f, mod, h)
		return
	}
}

// after is the first shown line from a number on.
func (l *Pane) after(number int) int {
	i, _ := slices.BinarySearchFunc(l.Shown, number, func(at, number int) int { return l.Lines[at-l.base].number - number })
	return i
}

// hold holds the view so that a shown line is in its middle.
func (l *Pane) hold(i, h int) {
	l.top = min(max(i-h/2, 0), max(len(l.Shown)-h, 0))
	l.held = true
}

// Scroll moves the view by so many lines; reaching the end follows again.
func (l *Pane) Scroll(by, h int) {
	end := max(len(l.Shown)-h, 0)
	if !l.held {
		l.top = end
	}
	l.top = min(max(l.top+by, 0), end)
	l.held = l.top < end
}

// Point holds the view at a line.
func (l *Pane) Point(number, h int) {
	l.Mark = number
	if len(l.Shown) > 0 {
		l.hold(l.after(number), h)
	}
}

// Said is the line that is pointed at as it may be expected of every start, without the time before
// it; "" when none is.
func (l *Pane) Said() string {
	i := slices.IndexFunc(l.Lines, func(line Line) bool { return l.Mark > 0 && line.number == l.Mark })
	if i < 0 {
		return ""
	}
	said := l.Lines[i].text
	if start, end, ok := proof.Opening([]byte(said)); ok && start <= 1 {
		said = strings.TrimLeft(said[end:], "] ")
	}
	return "line " + canvas.Clean(said)
}

// seek points at the next line, forwards or backwards from where the view points,
// for which something holds; ok is false when there is none.
func (l *Pane) seek(forward bool, h int, want func(*Line) bool) (ok bool) {
	from := len(l.Shown) // where nothing is pointed at: from the end backwards, from the top forwards
	if forward {
		from = -1
	}
	if l.Mark > 0 {
		from = l.after(l.Mark)
	}
	step := -1
	if forward {
		step = 1
	}
	for i := from + step; i >= 0 && i < len(l.Shown); i += step {
		if want(l.at(i)) {
			l.Mark = l.at(i).number
			l.hold(i, h)
			return true
		}
	}
	return false
}

func (l *Pane) hasFind(line *Line) bool {
	return l.find != "" && strings.Contains(strings.ToLower(line.text), strings.ToLower(l.find))
}

// beginsTrouble tells whether a line tells of trouble, and does not just go on with it.
func beginsTrouble(line *Line) bool { return line.trouble && !line.joined }

// LineMark is the shape before a line, and its ink.
func LineMark(line *Line) (string, canvas.Ink) {
	switch line.Means {
	case dialect.MeansReady:
		return "●", canvas.Good
	case dialect.MeansLoaded:
		return "◆", canvas.Good
	case dialect.MeansLoading:
		return "◦", canvas.Focus
	case dialect.MeansFailed, dialect.MeansNeeds, dialect.MeansMissing, dialect.MeansStopped:
		return "✕", canvas.Bad
	}
	switch {
	case line.joined:
		return "┆", canvas.Dim
	case line.fresh:
		return "▲", canvas.Warn
	case line.trouble:
		return "△", canvas.Warn
	}
	return " ", canvas.Dim
}

func (l *Pane) Draw(c *canvas.Canvas, x, y, width, h int) {
	first := max(len(l.Shown)-h, 0)
	if l.held {
		first = min(l.top, first)
	}
	if len(l.Shown) == 0 && l.Filter != logAll {
		c.PutWithin(x+9, y, width-9, "no line so far: "+l.filterWords(), canvas.Dim)
	}
	last := min(first+h, len(l.Shown))
	for i := first; i < last; i++ {
		line, row := l.at(i), y+i-first
		c.Right(x+6, row, fmt.Sprint(line.number), canvas.Dim)
		shape, k := LineMark(line)
		c.Put(x+7, row, shape, k)
		textInk := canvas.Text
		switch {
		case line.Means == dialect.MeansIgnore || line.joined:
			textInk = canvas.Dim
		case k == canvas.Bad || line.fresh:
			textInk = k
		}
		c.PutWithin(x+9, row, width-9, line.text, textInk)
		if l.hasFind(line) {
			at := strings.Index(strings.ToLower(line.text), strings.ToLower(l.find))
			if at+len(l.find) <= len(line.text) {
				from := x + 9 + ansi.StringWidth(line.text[:at])
				c.PutWithin(from, row, x+width-from-1, line.text[at:at+len(l.find)], canvas.Key)
			}
		}
		if line.number == l.Mark {
			c.Lift(row, x, x+width)
			c.Put(x, row, "▌", canvas.Focus)
		}
	}
	var words []string
	if l.held {
		words = append(words, fmt.Sprintf("held; %d more below", len(l.Shown)-last))
	}
	if l.Filter != logAll {
		words = append(words, fmt.Sprintf("%s: %d of %d lines", l.filterWords(), len(l.Shown), len(l.Lines)))
	}
	if len(words) > 0 {
		c.Right(x+width, y+h-1, " "+strings.Join(words, "; ")+" ", canvas.Dim)
	}
}

// Help are the keys of every log.
var Help = []frame.Key{
	{"↑ ↓", "scroll; PgUp, PgDn, Home too; End follows the log"},
	{"t T", "the next line that tells of trouble; the one before"},
	{"/", "find in the log; n the next, N the one before"},
	{"D", "teach: make a rule of the dialect from a line"},
	{"M", "expect the line that is pointed at of every start, or something else"},
	{"f", "show only what is about the mod, trouble, or new trouble"},
}

// Key carries out a key that works in every log. mod is the one that is chosen,
// "" for none.
func (l *Pane) Key(d *frame.Desk, k, mod string, h int) bool {
	switch k {
	case "up", "k":
		l.Scroll(-1, h)
	case "down", "j":
		l.Scroll(1, h)
	case "pgup":
		l.Scroll(-h, h)
	case "pgdown":
		l.Scroll(h, h)
	case "home":
		l.Scroll(-len(l.Shown), h)
	case "end":
		l.Mark = 0
		l.Scroll(len(l.Shown), h)
	case "t", "T":
		if !l.seek(k == "t", h, beginsTrouble) {
			d.Say("%s", map[string]string{"t": "No more trouble below.", "T": "No trouble above."}[k])
		}
	case "f":
		l.nextFilter(mod, h)
	case "/":
		l.findLine(d, h)
	case "n", "N":
		if l.find == "" {
			l.findLine(d, h)
		} else if !l.seek(k == "n", h, l.hasFind) {
			d.Say("%q comes no more.", l.find)
		}
	default:
		return false
	}
	return true
}

// Learn tells new trouble apart, also in what was said before.
func (l *Pane) Learn(known map[string]bool, alike func(string) string) {
	l.Known, l.Fresh = known, 0
	for i := range l.Lines {
		line := &l.Lines[i]
		switch {
		case line.joined && i > 0:
			line.fresh = l.Lines[i-1].fresh
		case line.trouble:
			if line.fresh = !known[alike(line.text)]; line.fresh {
				l.Fresh++
			}
		}
	}
}

// findLine asks for a text and goes to where it comes next, or else to the last
// place above.
func (l *Pane) findLine(d *frame.Desk, h int) {
	d.Prompt = frame.NewPrompt("Find in the log: ", l.find, func(text string) tea.Cmd {
		l.find = text
		if !l.seek(l.Mark > 0, h, l.hasFind) && !l.seek(l.Mark == 0, h, l.hasFind) {
			d.Say("No line has %q.", text)
		}
		return nil
	})
	d.Prompt.Typed = func(text string) { l.find = text }
}
