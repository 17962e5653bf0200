package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
)

// maxLog bounds how many lines of a log the screen holds; older ones go first.
const maxLog = 50_000

// logView shows a log and follows it until it is scrolled back. A filter leaves
// only some of the lines; they keep their numbers.
type logView struct {
	lines  []logLine
	base   int   // lines that were let go before the first
	shown  []int // those that the filter leaves, counted from the first of all
	filter logFilter
	mod    string // that the filter about a mod is about
	find   string
	top    int // index of the first shown line when held
	held   bool
	mark   int // number of a line to point at, 0 for none

	known   map[string]bool // trouble of the last proved start, by proof.Alike; nil when there is none
	trouble int             // lines that tell of trouble
	fresh   int             // and of trouble that the last proved start had not
}

type logLine struct {
	number  int
	text    string
	means   dialect.Meaning
	mods    []string
	trouble bool
	fresh   bool
	joined  bool
}

// logFilter says which lines of a log are shown.
type logFilter int

const (
	logAll logFilter = iota
	logMod
	logTrouble
	logFresh
	logFilters
)

func (l *logView) filterWords() string {
	switch l.filter {
	case logMod:
		return "only what is about " + clean(l.mod)
	case logTrouble:
		return "only trouble"
	case logFresh:
		return "only trouble that the last proved start had not"
	}
	return ""
}

func (l *logView) add(lines []proof.Line) {
	for i := range lines {
		in := &lines[i]
		line := logLine{number: in.Number, text: clean(in.Text), means: in.Means, mods: in.Mods, trouble: in.Trouble(), joined: in.Joined}
		if n := len(l.lines); in.Joined && n > 0 {
			before := &l.lines[n-1]
			line.mods, line.trouble, line.fresh = before.mods, before.trouble, before.fresh
		} else if line.trouble {
			l.trouble++
			if line.fresh = l.known != nil && !l.known[proof.Alike(line.text)]; line.fresh {
				l.fresh++
			}
		}
		l.lines = append(l.lines, line)
		if l.fits(&line) {
			l.shown = append(l.shown, l.base+len(l.lines)-1)
		}
	}
	extra := len(l.lines) - maxLog
	if extra <= maxLog/4 { // many go at once
		return
	}
	l.lines, l.base = append(l.lines[:0:0], l.lines[extra:]...), l.base+extra
	gone, _ := slices.BinarySearch(l.shown, l.base)
	l.shown = append(l.shown[:0:0], l.shown[gone:]...)
	l.top = max(l.top-gone, 0)
}

func (l *logView) fits(line *logLine) bool {
	switch l.filter {
	case logMod:
		return slices.Contains(line.mods, l.mod)
	case logTrouble:
		return line.trouble
	case logFresh:
		return line.fresh
	}
	return true
}

func (l *logView) at(i int) *logLine { return &l.lines[l.shown[i]-l.base] }

// show sets the filter; the line in the middle stays in sight where it can.
func (l *logView) show(f logFilter, mod string, h int) {
	near := 0
	if l.held && l.top+h/2 < len(l.shown) {
		near = l.at(l.top + h/2).number
	}
	l.filter, l.mod, l.shown = f, mod, l.shown[:0]
	for i := range l.lines {
		if l.fits(&l.lines[i]) {
			l.shown = append(l.shown, l.base+i)
		}
	}
	if l.held {
		l.hold(l.after(near), h)
	}
}

// nextFilter goes through the filters; the one about a mod only when one is chosen,
// the one about new trouble only when there is an earlier start to compare with.
func (l *logView) nextFilter(mod string, h int) {
	f := l.filter
	for {
		f = (f + 1) % logFilters
		if f == logMod && mod == "" || f == logFresh && l.known == nil {
			continue
		}
		l.show(f, mod, h)
		return
	}
}

// after is the first shown line from a number on.
func (l *logView) after(number int) int {
	i, _ := slices.BinarySearchFunc(l.shown, number, func(at, number int) int { return l.lines[at-l.base].number - number })
	return i
}

// hold holds the view so that a shown line is in its middle.
func (l *logView) hold(i, h int) {
	l.top = min(max(i-h/2, 0), max(len(l.shown)-h, 0))
	l.held = true
}

// scroll moves the view by so many lines; reaching the end follows again.
func (l *logView) scroll(by, h int) {
	end := max(len(l.shown)-h, 0)
	if !l.held {
		l.top = end
	}
	l.top = min(max(l.top+by, 0), end)
	l.held = l.top < end
}

// point holds the view at a line.
func (l *logView) point(number, h int) {
	l.mark = number
	if len(l.shown) > 0 {
		l.hold(l.after(number), h)
	}
}

// seek points at the next line, forwards or backwards from where the view points,
// for which something holds; ok is false when there is none.
func (l *logView) seek(forward bool, h int, want func(*logLine) bool) (ok bool) {
	from := len(l.shown) // where nothing is pointed at: from the end backwards, from the top forwards
	if forward {
		from = -1
	}
	if l.mark > 0 {
		from = l.after(l.mark)
	}
	step := -1
	if forward {
		step = 1
	}
	for i := from + step; i >= 0 && i < len(l.shown); i += step {
		if want(l.at(i)) {
			l.mark = l.at(i).number
			l.hold(i, h)
			return true
		}
	}
	return false
}

func (l *logView) hasFind(line *logLine) bool {
	return l.find != "" && strings.Contains(strings.ToLower(line.text), strings.ToLower(l.find))
}

// beginsTrouble tells whether a line tells of trouble, and does not just go on with it.
func beginsTrouble(line *logLine) bool { return line.trouble && !line.joined }

func lineMark(line *logLine) (string, ink) {
	switch line.means {
	case dialect.MeansReady:
		return "●", inkGood
	case dialect.MeansLoaded:
		return "◆", inkGood
	case dialect.MeansLoading:
		return "◦", inkFocus
	case dialect.MeansFailed, dialect.MeansNeeds, dialect.MeansMissing, dialect.MeansStopped:
		return "✕", inkBad
	}
	switch {
	case line.joined:
		return "┆", inkDim
	case line.fresh:
		return "▲", inkWarn
	case line.trouble:
		return "△", inkWarn
	}
	return " ", inkDim
}

func (l *logView) draw(c *canvas, x, y, width, h int) {
	first := max(len(l.shown)-h, 0)
	if l.held {
		first = min(l.top, first)
	}
	if len(l.shown) == 0 && l.filter != logAll {
		c.putWithin(x+9, y, width-9, "no line so far: "+l.filterWords(), inkDim)
	}
	last := min(first+h, len(l.shown))
	for i := first; i < last; i++ {
		line, row := l.at(i), y+i-first
		c.right(x+6, row, fmt.Sprint(line.number), inkDim)
		shape, k := lineMark(line)
		c.put(x+7, row, shape, k)
		textInk := inkText
		switch {
		case line.means == dialect.MeansIgnore || line.joined:
			textInk = inkDim
		case k == inkBad || line.fresh:
			textInk = k
		}
		c.putWithin(x+9, row, width-9, line.text, textInk)
		if l.hasFind(line) {
			at := strings.Index(strings.ToLower(line.text), strings.ToLower(l.find))
			if at+len(l.find) <= len(line.text) {
				from := x + 9 + ansi.StringWidth(line.text[:at])
				c.putWithin(from, row, x+width-from-1, line.text[at:at+len(l.find)], inkKey)
			}
		}
		if line.number == l.mark {
			c.lift(row, x, x+width)
			c.put(x, row, "▌", inkFocus)
		}
	}
	var words []string
	if l.held {
		words = append(words, fmt.Sprintf("held; %d more below", len(l.shown)-last))
	}
	if l.filter != logAll {
		words = append(words, fmt.Sprintf("%s: %d of %d lines", l.filterWords(), len(l.shown), len(l.lines)))
	}
	if len(words) > 0 {
		c.right(x+width, y+h-1, " "+strings.Join(words, "; ")+" ", inkDim)
	}
}

// logHelp are the keys of every log.
var logHelp = []keyHelp{
	{"↑ ↓", "scroll; PgUp, PgDn, Home too; End follows the log"},
	{"t T", "the next line that tells of trouble; the one before"},
	{"/", "find in the log; n the next, N the one before"},
	{"D", "teach: make a rule of the dialect from a line"},
	{"f", "show only what is about the mod, trouble, or new trouble"},
}

// key carries out a key that works in every log. mod is the one that is chosen,
// "" for none.
func (l *logView) key(d *desk, k, mod string, h int) bool {
	switch k {
	case "up", "k":
		l.scroll(-1, h)
	case "down", "j":
		l.scroll(1, h)
	case "pgup":
		l.scroll(-h, h)
	case "pgdown":
		l.scroll(h, h)
	case "home":
		l.scroll(-len(l.shown), h)
	case "end":
		l.mark = 0
		l.scroll(len(l.shown), h)
	case "t", "T":
		if !l.seek(k == "t", h, beginsTrouble) {
			d.say("%s", map[string]string{"t": "No more trouble below.", "T": "No trouble above."}[k])
		}
	case "f":
		l.nextFilter(mod, h)
	case "/":
		l.findLine(d, h)
	case "n", "N":
		if l.find == "" {
			l.findLine(d, h)
		} else if !l.seek(k == "n", h, l.hasFind) {
			d.say("%q comes no more.", l.find)
		}
	default:
		return false
	}
	return true
}

// learn tells new trouble apart, also in what was said before.
func (l *logView) learn(known map[string]bool, alike func(string) string) {
	l.known, l.fresh = known, 0
	for i := range l.lines {
		line := &l.lines[i]
		switch {
		case line.joined && i > 0:
			line.fresh = l.lines[i-1].fresh
		case line.trouble:
			if line.fresh = !known[alike(line.text)]; line.fresh {
				l.fresh++
			}
		}
	}
}

// findLine asks for a text and goes to where it comes next, or else to the last
// place above.
func (l *logView) findLine(d *desk, h int) {
	d.prompt = newPrompt("Find in the log: ", l.find, func(text string) tea.Cmd {
		l.find = text
		if !l.seek(l.mark > 0, h, l.hasFind) && !l.seek(l.mark == 0, h, l.hasFind) {
			d.say("No line has %q.", text)
		}
		return nil
	})
	d.prompt.typed = func(text string) { l.find = text }
}
