package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/teach"
)

// teachView makes rules of a dialect from the lines of a log that the operator points
// at.
type teachView struct {
	*desk
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

// meanings are what a line can be said to mean; the key of each is its number.
var meanings = []struct {
	means dialect.Meaning
	words string
	mod   bool // it is about a mod
}{
	{dialect.MeansLoaded, "a mod has loaded", true}, {dialect.MeansLoading, "a mod begins to load", true}, {dialect.MeansFailed, "a mod failed", true},
	{dialect.MeansMissing, "a mod was not found", true}, {dialect.MeansReady, "the server is ready", false}, {dialect.MeansStopped, "the server gives up", false},
	{dialect.MeansIgnore, "nothing worth attention", false},
}

func newTeachView(m *model, l *app.Lessons, number int) *teachView {
	v := &teachView{l: l, marked: map[int]string{}, selected: min(max(number-1, 0), max(len(l.Lines)-1, 0))}
	v.desk = m.desk(v)
	return v
}

type (
	lessonsMsg struct {
		l      *app.Lessons
		number int
		err    error
	}
	// proposedMsg is the rule that a lesson comes to.
	proposedMsg struct {
		lesson teach.Lesson
		taught *app.Taught
		mark   string // of the line that was added
		line   int
		err    error
	}
	writtenMsg struct {
		file    string
		missing []string
		err     error
	}
)

// openTeach opens the newest log of a server to teach its dialect from.
func openTeach(d *desk, name string, number int) tea.Cmd {
	return d.wish(func() tea.Msg {
		l, err := d.app.TeachLog(d.ctx, name)
		return lessonsMsg{l, number, err}
	})
}

// open shows a log to teach from.
func (msg lessonsMsg) open(d *desk) tea.Cmd {
	if msg.err != nil {
		d.complain(msg.err)
		return nil
	}
	return d.enter(newTeachView(d.model, msg.l, msg.number))
}

func (v *teachView) title(c *canvas) {
	x := c.put(2, 0, "Teach", inkTitle)
	c.putWithin(x+3, 0, c.w-x-4, "point at lines and say what they mean; Initium makes the rules", inkDim)
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
		line("point", "choose a line, and say what it means by its number below", inkText)
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
	for i, m := range meanings {
		keys = append(keys, keyHelp{fmt.Sprint(i + 1), m.words})
	}
	return keys
}

func (v *teachView) help() []helpList {
	var list []keyHelp
	for i, m := range meanings {
		list = append(list, keyHelp{fmt.Sprint(i + 1), m.words})
	}
	return []helpList{
		{"Point at a line of the log, and say what it means", list},
		{"Then make the rule better, and write it", []keyHelp{
			{"+", "this line means the same; the rule has to fit it too"},
			{"−", "this line does not; the rule must not fit it"},
			{"n", "go to the next line that the rule fits"},
			{"Enter", "write the rule into the dialect"},
			{"Esc", "drop the rule; without one, back"},
		}},
	}
}

func (v *teachView) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case proposedMsg:
		if msg.err != nil {
			v.complain(msg.err)
			return nil
		}
		v.notice, v.lesson, v.taught, v.fits = "", msg.lesson, msg.taught, map[int]bool{}
		v.marked[msg.line] = msg.mark
		for _, match := range v.taught.Matches {
			v.fits[match.Number-1] = true
		}
	case writtenMsg:
		if msg.err != nil {
			v.complain(msg.err)
			return nil
		}
		v.drop()
		v.written, v.missing = clean(msg.file), msg.missing
	}
	return nil
}

func (v *teachView) choose(i int) { v.selected = max(min(i, len(v.l.Lines)-1), 0) }

func (v *teachView) wheel(by int) { v.choose(v.selected + by) }

func (v *teachView) key(k string) tea.Cmd {
	if by := v.moved(k, len(v.l.Lines)); by != 0 {
		v.choose(v.selected + by)
		return nil
	}
	if k == "esc" {
		switch {
		case v.taught != nil:
			v.drop()
		case len(v.stack) == 1:
			return tea.Quit
		default:
			return v.desk.back()
		}
		return nil
	}
	if len(v.l.Lines) == 0 || v.stuck {
		return nil
	}
	if v.taught == nil {
		if n := int(k[0] - '1'); len(k) == 1 && n >= 0 && n < len(meanings) {
			return v.askName(teach.Lesson{Means: meanings[n].means}, meanings[n].mod)
		}
		return nil
	}
	switch k {
	case "+":
		return v.askName(v.lesson, v.lesson.Examples[0].Mod != "")
	case "-":
		lesson := v.lesson
		lesson.Counter = append(slices.Clone(lesson.Counter), v.l.Lines[v.selected])
		return v.propose(lesson, "−")
	case "n":
		for _, match := range v.taught.Matches {
			if match.Number-1 > v.selected {
				v.selected = match.Number - 1
				break
			}
		}
	case "enter":
		l, taught, lesson := v.l, v.taught, v.lesson
		return v.wish(func() tea.Msg {
			file, missing, err := l.Write(taught, lesson)
			return writtenMsg{file, missing, err}
		})
	}
	return nil
}

// drop forgets the rule that is proposed.
func (v *teachView) drop() {
	v.taught, v.fits, v.marked = nil, nil, map[int]string{}
}

// askName asks which mod the chosen line is about, when it is about one, and makes a rule
// of it.
func (v *teachView) askName(lesson teach.Lesson, about bool) tea.Cmd {
	line := v.l.Lines[v.selected]
	add := func(mod string) tea.Cmd {
		lesson.Examples = append(slices.Clone(lesson.Examples), teach.Example{Line: line, Mod: mod})
		return v.propose(lesson, "+")
	}
	if !about {
		return add("")
	}
	v.prompt = wordPrompt("The name of the mod in this line (↑ ↓ go through its words): ", v.l.Words(v.selected+1), 0, add)
	return nil
}

// propose makes the rule of a lesson, for which the chosen line was added with a mark.
func (v *teachView) propose(lesson teach.Lesson, mark string) tea.Cmd {
	l, line := v.l, v.selected
	return v.wish(func() tea.Msg {
		t, err := l.Propose(lesson)
		return proposedMsg{lesson, t, mark, line, err}
	})
}
