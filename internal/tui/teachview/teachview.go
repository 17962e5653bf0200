// Package teachview has the screens that teach a dialect: from a log, and from a startup
// file.
package teachview

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/teach"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/logpane"
	"initium/internal/tui/marks"
)

// view makes rules of a dialect from the lines of a log that the operator points
// at.
type view struct {
	*frame.Desk
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

// New shows a log to teach from; number is that of the line that is chosen first, 0 for the
// first.
func New(m *frame.Model, l *app.Lessons, number int) *view {
	v := &view{l: l, marked: map[int]string{}, selected: min(max(number-1, 0), max(len(l.Lines)-1, 0))}
	v.Desk = m.Desk(v)
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

// Open opens the newest log of a server to teach its dialect from.
func Open(d *frame.Desk, name string, number int) tea.Cmd {
	return d.Wish(func() tea.Msg {
		l, err := d.App.TeachLog(d.Ctx, name)
		return lessonsMsg{l, number, err}
	})
}

// Open shows a log to teach from.
func (msg lessonsMsg) Open(d *frame.Desk) tea.Cmd {
	if msg.err != nil {
		d.Complain(msg.err)
		return nil
	}
	return d.Enter(New(d.Model, msg.l, msg.number))
}

func (v *view) Title(c *canvas.Canvas) {
	x := c.Put(2, 0, "Teach", canvas.Title)
	c.PutWithin(x+3, 0, c.W-x-4, "point at lines and say what they mean; Initium makes the rules", canvas.Dim)
}

// teachHeight is how many lines the proposal takes.
const teachHeight = 9

func (v *view) Draw(c *canvas.Canvas, y, h int) {
	logHeight := max(h-teachHeight-1, 3)
	v.top = max(min(v.top, v.selected), v.selected-logHeight+1)
	for i := v.top; i < min(v.top+logHeight, len(v.l.Lines)); i++ {
		row, line := y+i-v.top, v.l.Lines[i]
		c.Right(6, row, fmt.Sprint(i+1), canvas.Dim)
		shape, k := logpane.LineMark(&logpane.Line{Means: v.l.Meaning(line)})
		textInk := canvas.Text
		if v.fits[i] {
			shape, k, textInk = "▸", canvas.Focus, canvas.Title
		}
		if mark := v.marked[i]; mark != "" {
			shape, k = mark, canvas.Key
		}
		c.Put(7, row, shape, k)
		c.PutWithin(9, row, c.W-10, v.l.Shown(i+1), textInk)
		if i == v.selected {
			c.Lift(row, 0, c.W)
			c.Put(0, row, "▌", canvas.Focus)
		}
	}
	c.Rule(y + logHeight)
	v.drawProposal(c, y+logHeight+1)
}

func (v *view) drawProposal(c *canvas.Canvas, y int) {
	line := func(label, s string, k canvas.Ink) {
		if s != "" && y < c.H-frame.FootHeight {
			c.Put(2, y, label, canvas.Dim)
			c.PutWithin(14, y, c.W-15, s, k)
			y++
		}
	}
	prefix := v.l.Prefix()
	if prefix == "" {
		prefix = "nothing stands before the messages"
	}
	line("dialect", v.l.Dialect+"   each message comes after "+canvas.Clean(prefix), canvas.Text)
	if v.taught == nil {
		line("written", v.written, canvas.Good)
		for _, p := range v.missing {
			line("missing", p, canvas.Warn)
		}
		if v.written != "" && len(v.missing) == 0 {
			line("complete", "every dialect needs no more than this; what else you teach makes it better", canvas.Good)
		}
		line("point", "choose a line, and say what it means by its number below", canvas.Text)
		return
	}
	r := &v.taught.Rule
	words := string(r.Means) + ":  " + canvas.Clean(r.Line)
	if r.Level != "" {
		words += "   (only where the weight is " + canvas.Clean(r.Level) + ")"
	}
	if r.Source != "" {
		words += "   (only from " + canvas.Clean(r.Source) + ")"
	}
	line("rule", words, canvas.Title)
	line("fits", marks.Count(len(v.taught.Matches), "line", "lines")+", marked ▸", canvas.Text)
	if n := len(v.taught.Mods); n > 0 {
		line("mods", fmt.Sprintf("%d: %s", n, strings.Join(v.taught.Mods, ", ")), canvas.Text)
	}
	if n := len(v.taught.Strange); n > 0 {
		line("weak", fmt.Sprintf("it fits %d that no file registers: %s", n, strings.Join(v.taught.Strange, ", ")), canvas.Warn)
	}
	if n := len(v.taught.Owed); n > 0 {
		line("still owed", fmt.Sprintf("%d: %s", n, strings.Join(v.taught.Owed, ", ")), canvas.Warn)
	}
	line("next", "+ or − on other lines makes it fit better; Enter writes it into the dialect", canvas.Text)
}

func (v *view) Keys() []frame.Key {
	if v.taught != nil {
		return []frame.Key{{"Enter", "write the rule"}, {"+", "this line means it too"}, {"−", "this line does not"}, {"n", "next line that fits"}, {"Esc", "drop it"}}
	}
	keys := []frame.Key{{"↑ ↓", "choose a line"}}
	for i, m := range meanings {
		keys = append(keys, frame.Key{fmt.Sprint(i + 1), m.words})
	}
	return keys
}

func (v *view) Help() []frame.Help {
	var list []frame.Key
	for i, m := range meanings {
		list = append(list, frame.Key{fmt.Sprint(i + 1), m.words})
	}
	return []frame.Help{
		{Title: "Point at a line of the log, and say what it means", Keys: list},
		{Title: "Then make the rule better, and write it", Keys: []frame.Key{
			{"+", "this line means the same; the rule has to fit it too"},
			{"−", "this line does not; the rule must not fit it"},
			{"n", "go to the next line that the rule fits"},
			{"Enter", "write the rule into the dialect"},
			{"Esc", "drop the rule; without one, back"},
		}},
	}
}

func (v *view) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case proposedMsg:
		if msg.err != nil {
			v.Complain(msg.err)
			return nil
		}
		v.Notice, v.lesson, v.taught, v.fits = "", msg.lesson, msg.taught, map[int]bool{}
		v.marked[msg.line] = msg.mark
		for _, match := range v.taught.Matches {
			v.fits[match.Number-1] = true
		}
	case writtenMsg:
		if msg.err != nil {
			v.Complain(msg.err)
			return nil
		}
		v.drop()
		v.written, v.missing = canvas.Clean(msg.file), msg.missing
	}
	return nil
}

func (v *view) choose(i int) { v.selected = max(min(i, len(v.l.Lines)-1), 0) }

func (v *view) Wheel(by int) { v.choose(v.selected + by) }

func (v *view) Key(k string) tea.Cmd {
	if by := v.Moved(k, len(v.l.Lines)); by != 0 {
		v.choose(v.selected + by)
		return nil
	}
	if k == "esc" {
		switch {
		case v.taught != nil:
			v.drop()
		case v.Lowest():
			return tea.Quit
		default:
			return v.Desk.Back()
		}
		return nil
	}
	if len(v.l.Lines) == 0 || v.Stuck {
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
		return v.Wish(func() tea.Msg {
			file, missing, err := l.Write(taught, lesson)
			return writtenMsg{file, missing, err}
		})
	}
	return nil
}

// drop forgets the rule that is proposed.
func (v *view) drop() {
	v.taught, v.fits, v.marked = nil, nil, map[int]string{}
}

// askName asks which mod the chosen line is about, when it is about one, and makes a rule
// of it.
func (v *view) askName(lesson teach.Lesson, about bool) tea.Cmd {
	line := v.l.Lines[v.selected]
	add := func(mod string) tea.Cmd {
		lesson.Examples = append(slices.Clone(lesson.Examples), teach.Example{Line: line, Mod: mod})
		return v.propose(lesson, "+")
	}
	if !about {
		return add("")
	}
	v.Prompt = frame.WordPrompt("The name of the mod in this line (↑ ↓ go through its words): ", v.l.Words(v.selected+1), 0, add)
	return nil
}

// propose makes the rule of a lesson, for which the chosen line was added with a mark.
func (v *view) propose(lesson teach.Lesson, mark string) tea.Cmd {
	l, line := v.l, v.selected
	return v.Wish(func() tea.Msg {
		t, err := l.Propose(lesson)
		return proposedMsg{lesson, t, mark, line, err}
	})
}
