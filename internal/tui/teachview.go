package tui

import (
	"context"
	"fmt"
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/teach"
)

// teachView makes rules of a dialect from the lines of a log that the operator points
// at.
type teachView struct {
	l        *app.Lessons
	selected int // of the lines, from 0
	top      int
	lesson   teach.Lesson
	marked   map[int]string // lines that were pointed at, with the mark of each
	taught   *app.Taught    // the rule that is proposed, or nil
	fits     map[int]bool   // lines that it fits
	written  string         // what was written last
	missing  []string       // what the dialect still lacks
}

// meaningKeys are the keys that say what a line means.
var meaningKeys = []struct {
	key   string
	means dialect.Meaning
	words string
	mod   bool // it is about a mod
}{
	{"l", dialect.MeansLoaded, "a mod has loaded", true}, {"b", dialect.MeansLoading, "a mod begins to load", true}, {"f", dialect.MeansFailed, "a mod failed", true},
	{"m", dialect.MeansMissing, "a mod was not found", true}, {"r", dialect.MeansReady, "the server is ready", false}, {"s", dialect.MeansStopped, "the server gives up", false},
	{"i", dialect.MeansIgnore, "nothing worth attention", false},
}

// Teach shows a log to teach a dialect from, until the operator closes it.
func Teach(ctx context.Context, a *app.App, l *app.Lessons) error {
	m := &model{ctx: ctx, app: a, palette: newPalette(groundOf(os.Getenv)), w: 80, h: 24, view: viewTeach, teach: newTeachView(l, 0), only: true}
	return show(ctx, m)
}

func newTeachView(l *app.Lessons, number int) *teachView {
	return &teachView{l: l, marked: map[int]string{}, selected: min(max(number-1, 0), max(len(l.Lines)-1, 0))}
}

type lessonsMsg struct {
	l      *app.Lessons
	number int
	err    error
}

// openTeach opens the newest log of the server to teach its dialect from.
func (m *model) openTeach(number int) tea.Cmd {
	m.stuck = true
	name := m.server
	return func() tea.Msg {
		l, err := m.app.TeachLog(m.ctx, name)
		return lessonsMsg{l, number, err}
	}
}

// teachHeight is how many lines the proposal takes.
const teachHeight = 9

func (v *teachView) draw(c *canvas, y, h int) {
	logHeight := max(h-teachHeight-1, 3)
	v.top = max(min(v.top, v.selected), v.selected-logHeight+1)
	for i := v.top; i < min(v.top+logHeight, len(v.l.Lines)); i++ {
		row, line := y+i-v.top, v.l.Lines[i]
		c.right(6, row, fmt.Sprint(i+1), inkDim)
		shape, k := lineMark(&logLine{means: v.l.Meaning(line)})
		textInk := inkText
		if v.fits[i] {
			shape, k, textInk = "▸", inkFocus, inkTitle
		}
		if mark := v.marked[i]; mark != "" {
			shape, k = mark, inkKey
		}
		c.put(7, row, shape, k)
		c.putWithin(9, row, c.w-10, v.l.Shown(i+1), textInk)
		if i == v.selected {
			c.lift(row, 0, c.w)
			c.put(0, row, "▌", inkFocus)
		}
	}
	c.rule(y + logHeight)
	v.drawProposal(c, y+logHeight+1)
}

func (v *teachView) drawProposal(c *canvas, y int) {
	line := func(label, s string, k ink) {
		if s != "" && y < c.h-footHeight {
			c.put(2, y, label, inkDim)
			c.putWithin(14, y, c.w-15, s, k)
			y++
		}
	}
	prefix := v.l.Prefix()
	if prefix == "" {
		prefix = "nothing stands before the messages"
	}
	line("dialect", v.l.Dialect+"   each message comes after "+clean(prefix), inkText)
	if v.taught == nil {
		line("written", v.written, inkGood)
		for _, p := range v.missing {
			line("missing", p, inkWarn)
		}
		if v.written != "" && len(v.missing) == 0 {
			line("complete", "every dialect needs no more than this; what else you teach makes it better", inkGood)
		}
		line("point", "choose a line, and say what it means by a key below", inkText)
		return
	}
	r := &v.taught.Rule
	words := string(r.Means) + ":  " + clean(r.Line)
	if r.Level != "" {
		words += "   (only where the weight is " + clean(r.Level) + ")"
	}
	line("rule", words, inkTitle)
	line("fits", count(len(v.taught.Matches), "line", "lines")+", marked ▸", inkText)
	if n := len(v.taught.Mods); n > 0 {
		line("mods", fmt.Sprintf("%d: %s", n, strings.Join(v.taught.Mods, ", ")), inkText)
	}
	if n := len(v.taught.Owed); n > 0 {
		line("still owed", fmt.Sprintf("%d: %s", n, strings.Join(v.taught.Owed, ", ")), inkWarn)
	}
	line("next", "+ or − on other lines makes it fit better; Enter writes it into the dialect", inkText)
}

func (v *teachView) keys() []keyHelp {
	if v.taught != nil {
		return []keyHelp{{"Enter", "write the rule"}, {"+", "this line means it too"}, {"−", "this line does not"}, {"n", "next line that fits"}, {"Esc", "drop it"}}
	}
	keys := []keyHelp{{"↑ ↓", "choose a line"}}
	for _, k := range meaningKeys {
		keys = append(keys, keyHelp{k.key, k.words})
	}
	return append(keys, keyHelp{"q", "close"})
}

func (m *model) teachKey(k string) tea.Cmd {
	v := m.teach
	h := max(m.bodyHeight()-teachHeight-1, 3)
	by := map[string]int{"up": -1, "k": -1, "down": 1, "j": 1, "pgup": -h, "pgdown": h, "home": -len(v.l.Lines), "end": len(v.l.Lines)}[k]
	if by != 0 {
		v.selected = max(min(v.selected+by, len(v.l.Lines)-1), 0)
		return nil
	}
	switch k {
	case "esc":
		switch {
		case v.taught != nil:
			v.drop()
		case m.only:
			return m.close()
		default:
			m.view, m.notice = viewBoard, ""
			return m.reload()
		}
		return nil
	case "q":
		return m.close()
	}
	if len(v.l.Lines) == 0 {
		return nil
	}
	if v.taught == nil {
		for _, meaning := range meaningKeys {
			if k == meaning.key {
				v.lesson = teach.Lesson{Means: meaning.means}
				m.askName("+", meaning.mod)
			}
		}
		return nil
	}
	switch k {
	case "+":
		m.askName("+", v.lesson.Examples[0].Mod != "")
	case "-":
		v.lesson.Counter = append(v.lesson.Counter, v.l.Lines[v.selected])
		if m.propose("−") != nil {
			v.lesson.Counter = v.lesson.Counter[:len(v.lesson.Counter)-1]
		}
	case "n":
		for _, match := range v.taught.Matches {
			if match.Number-1 > v.selected {
				v.selected = match.Number - 1
				break
			}
		}
	case "enter":
		file, missing, err := v.l.Write(v.taught, v.lesson)
		if err != nil {
			m.complain(err)
			return nil
		}
		v.drop()
		v.written, v.missing = clean(file), missing
	}
	return nil
}

// drop forgets the rule that is proposed.
func (v *teachView) drop() {
	v.taught, v.fits, v.marked = nil, nil, map[int]string{}
}

// askName asks which mod the chosen line is about, when it is about one.
func (m *model) askName(mark string, about bool) {
	v := m.teach
	add := func(mod string) tea.Cmd {
		v.lesson.Examples = append(v.lesson.Examples, teach.Example{Line: v.l.Lines[v.selected], Mod: mod})
		if m.propose(mark) != nil {
			v.lesson.Examples = v.lesson.Examples[:len(v.lesson.Examples)-1]
		}
		return nil
	}
	if !about {
		add("")
		return
	}
	words, at := v.l.Words(v.selected+1), 0
	value := ""
	if len(words) > 0 {
		value = clean(words[0])
	}
	m.prompt = &prompt{label: "The name of the mod in this line (↑ ↓ go through its words): ", value: value, done: add, step: func(by int) {
		if len(words) > 0 {
			at = (at + by + len(words)) % len(words)
			m.prompt.value = clean(words[at])
		}
	}}
}

// propose makes the rule anew, and marks the line that was added.
func (m *model) propose(mark string) error {
	v := m.teach
	t, err := v.l.Propose(v.lesson)
	if err != nil {
		m.complain(err)
		return err
	}
	m.notice = ""
	v.taught, v.fits = t, map[int]bool{}
	v.marked[v.selected] = mark
	for _, match := range t.Matches {
		v.fits[match.Number-1] = true
	}
	return nil
}
