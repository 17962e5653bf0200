// Package learnview is the screen on which a dialect is learned from a server that nobody knows: what
// looking tells, the starts of copies as they are made, and what came of them.
package learnview

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
)

// view is where learning stands.
type view struct {
	*frame.Desk
	opt     app.LearnOptions
	ways    []string // in which mods may be registered, once that was looked
	command []string // that starts the server, nil while it is not known
	lacks   string   // what keeps it from being tried
	looked  bool

	began   time.Time
	took    time.Duration
	phases  []string // what was done, the last is being done
	cancel  context.CancelFunc
	news    *frame.Stream[event]
	learned *app.Learned
	err     error
	written bool
	lines   []line // what came of it
	first   int    // of them that is shown
}

// line is one of what came of it.
type line struct {
	label, text string
	ink         canvas.Ink
}

// event is what is new: something that is done, or the end.
type event struct {
	phase   string
	ended   bool
	learned *app.Learned
	err     error
}

type (
	lookedMsg struct {
		ways, command []string
		err           error
	}
	eventsMsg struct {
		events []event
		ended  bool
	}
	writtenMsg struct{ err error }
)

// New looks through a folder whose server is to be learned, under the name that its dialect will have.
func New(m *frame.Model, name, dir string) (frame.Screen, func() tea.Cmd) {
	v := &view{opt: app.LearnOptions{Name: name, Dir: dir, Trials: 10, Seed: 1}}
	v.Desk = m.Desk(v)
	return v, v.look
}

// look finds out what looking alone tells.
func (v *view) look() tea.Cmd {
	opt := v.opt
	v.looked = false
	return v.Ask(func() tea.Msg {
		ways, command, err := v.App.LookAround(opt)
		if err == nil {
			err = v.App.FreeDialect(opt.Name)
		}
		return lookedMsg{ways, command, err}
	})
}

// try starts the copies.
func (v *view) try() tea.Cmd {
	v.began, v.phases, v.news = time.Now(), nil, frame.NewStream[event]()
	opt := v.opt
	opt.OnPhase = func(s string) { v.news.Put(event{phase: s}) }
	var ctx context.Context
	ctx, v.cancel = context.WithCancel(v.Ctx)
	v.Beside(func() {
		defer v.news.End()
		l, err := v.App.Learn(ctx, opt)
		v.news.Put(event{ended: true, learned: l, err: err})
	})
	return v.next()
}

func (v *view) next() tea.Cmd {
	return v.Ask(func() tea.Msg {
		events, ended := v.news.Next(v.Ctx)
		return eventsMsg{events, ended}
	})
}

func (v *view) going() bool { return v.news != nil && v.learned == nil && v.err == nil }

func (v *view) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case lookedMsg:
		v.looked, v.ways, v.command, v.lacks = true, msg.ways, msg.command, ""
		if msg.err != nil {
			v.lacks = canvas.Clean(msg.err.Error())
		}
	case eventsMsg:
		for _, e := range msg.events {
			v.take(e)
		}
		if !msg.ended {
			return v.next()
		}
	case writtenMsg:
		if msg.err != nil {
			v.Complain(msg.err)
			return nil
		}
		v.written = true
		v.Say("Written; %s is a family now that the folder can be adopted as.", v.opt.Name)
	}
	return nil
}

// take adds what is new.
func (v *view) take(e event) {
	if e.phase != "" {
		v.phases = append(v.phases, canvas.Clean(e.phase))
		return
	}
	v.learned, v.err, v.took = e.learned, e.err, time.Since(v.began)
	v.cancel()
	v.tell()
}

// Close is called when the screen is left.
func (v *view) Close() {
	if v.cancel != nil {
		v.cancel()
	}
}

// tell writes down what came of it.
func (v *view) tell() {
	v.lines, v.first = nil, 0
	add := func(label, text string, k canvas.Ink) { v.lines = append(v.lines, line{label, text, k}) }
	l := v.learned
	if v.err != nil {
		if !errors.Is(v.err, context.Canceled) {
			add("because", canvas.Clean(v.err.Error()), canvas.Text)
		}
		add("next", "Enter tries once more", canvas.Text)
		return
	}
	if t := l.Trial; t.Lineups > 0 {
		k := canvas.Good
		if t.Exact < t.Lineups {
			k = canvas.Warn
		}
		add("tried", fmt.Sprintf("%d of %d random line-ups came out as foretold, %d of %d mods", t.Exact, t.Lineups, t.Right, t.Shown), k)
		if t.Shown < t.Mods {
			add("", fmt.Sprintf("%s not counted: a broken mod may have taken them along, or nothing tells of them", marks.Count(t.Mods-t.Shown, "more is", "more are")), canvas.Dim)
		}
	}
	add("mods are", l.Ways[0], canvas.Text)
	for _, r := range l.Rules {
		if r.Line != "" {
			add(r.Means, r.Line, canvas.Title)
			add("", r.Why, canvas.Dim)
		} else {
			add(r.Means, r.Why, canvas.Title)
		}
	}
	list := func(label string, items []string, k canvas.Ink) {
		for _, s := range items {
			add(label, s, k)
			label = ""
		}
	}
	list("fates", l.Fates, canvas.Text)
	list("not found", l.Unsaid, canvas.Warn)
	list("lacks", l.Problems, canvas.Bad)
	list("differed", l.Trial.Differed, canvas.Warn)
	list("notes", l.Notes, canvas.Dim)
	list("or else", l.Ways[1:], canvas.Dim)
}

func (v *view) Title(c *canvas.Canvas) {
	x := c.Put(2, 0, "Learn", canvas.Title)
	c.PutWithin(x+3, 0, c.W-x-4, "what starts of copies tell of "+canvas.Clean(filepath.Base(v.opt.Dir))+"; the server itself is left alone", canvas.Dim)
}

// verdict says in words where it stands.
func (v *view) verdict() (string, canvas.Ink) {
	switch {
	case v.going():
		return fmt.Sprintf("finding out by copies, %s so far of some thirty", marks.Count(len(v.phases), "step", "steps")), canvas.Focus
	case errors.Is(v.err, context.Canceled):
		return "stopped", canvas.Warn
	case v.err != nil:
		return "✕ it could not be carried on", canvas.Bad
	case v.written:
		return "◆ learned, and written", canvas.Good
	case v.learned != nil && len(v.learned.Problems) > 0:
		return "✕ learned in part: the dialect is not complete", canvas.Warn
	case v.learned != nil:
		return "◆ learned", canvas.Good
	case !v.looked:
		return "looking through the folder", canvas.Focus
	case v.lacks != "":
		return "something is to be said first", canvas.Warn
	}
	return "looked, and nothing started yet", canvas.Text
}

func (v *view) Draw(c *canvas.Canvas, y, h int) {
	words, k := v.verdict()
	span := ""
	if v.news != nil {
		took := v.took
		if v.going() {
			took = time.Since(v.began)
		}
		span = marks.Span(took)
	}
	c.PutWithin(2, y, c.W-5-len(span), words, k)
	c.Right(c.W-1, y, span, canvas.Dim)
	y, h = y+2, h-2
	switch {
	case v.going():
		v.drawGoing(c, y, h)
	case v.news != nil:
		v.drawLines(c, y, h, v.lines)
	case v.looked:
		v.drawLines(c, y, h, v.plan())
	}
}

// plan is what is known before anything was started, and what would be done.
func (v *view) plan() (lines []line) {
	add := func(label, text string, k canvas.Ink) { lines = append(lines, line{label, text, k}) }
	if v.lacks != "" {
		add("first", v.lacks, canvas.Warn)
	}
	label := "mods may be"
	for _, w := range v.ways {
		add(label, w, canvas.Text)
		label = ""
	}
	if len(v.opt.Mods) > 0 {
		add("named", canvas.Clean(strings.Join(v.opt.Mods, ", ")), canvas.Text)
	}
	if len(v.command) > 0 {
		add("started by", canvas.Clean(strings.Join(v.command, " ")), canvas.Text)
	}
	add("", "", canvas.Text)
	if v.lacks == "" {
		add("next", "Enter starts copies of the server: as it is, without each of some mods, with a name that is nowhere, with a broken mod, and more. Each is stopped again and taken away.", canvas.Title)
	} else {
		add("next", "w names a mod of the server, y says what starts it", canvas.Title)
	}
	return lines
}

func (v *view) drawLines(c *canvas.Canvas, y, h int, lines []line) {
	v.first = max(min(v.first, len(lines)-1), 0)
	row, end := y, y+h-1 // the last row is for what says that there is more
	for i := v.first; i < len(lines); i++ {
		l := &lines[i]
		if row >= end && !(i == len(lines)-1 && row == end) {
			c.Right(c.W, y+h-1, " ↓ more ", canvas.Dim)
			return
		}
		c.Put(2, row, l.label, canvas.Dim)
		row = c.Paragraph(14, row, c.W-15, min(4, max(end-row, 1)), l.text, l.ink)
	}
}

// drawGoing shows what was done, the newest last.
func (v *view) drawGoing(c *canvas.Canvas, y, h int) {
	from := max(len(v.phases)-max(h, 0), 0)
	for i, phase := range v.phases[from:] {
		shape, k := "✓", canvas.Dim
		if from+i == len(v.phases)-1 {
			shape, k = "▸", canvas.Title
		}
		c.Put(2, y+i, shape, k)
		c.PutWithin(4, y+i, c.W-5, phase, k)
	}
}

func (v *view) Key(k string) tea.Cmd {
	switch {
	case k == "esc" && v.going():
		v.cancel()
		v.Say("Stopping the copy …")
	case k == "esc":
		return v.Back()
	case v.Stuck || v.going():
	case k == "enter" && v.learned != nil && !v.written:
		l := v.learned
		return v.Wish(func() tea.Msg { return writtenMsg{l.Write()} })
	case k == "enter" && v.learned == nil && v.looked && v.lacks == "":
		v.err = nil
		return v.try()
	case k == "w" && v.news == nil:
		v.Prompt = frame.NewPrompt("Mods of it, with a blank between them (nothing: to be guessed): ", strings.Join(v.opt.Mods, " "), func(typed string) tea.Cmd {
			v.opt.Mods = strings.Fields(typed)
			return v.look()
		})
		v.Prompt.Empty = true
	case k == "y" && v.news == nil:
		said := v.opt.Command
		if said == "" {
			said = strings.Join(v.command, " ")
		}
		v.Prompt = frame.NewPrompt("What starts it, its folder as {dir}: ", said, func(typed string) tea.Cmd {
			v.opt.Command = typed
			return v.look()
		})
	default:
		lines := v.lines
		if v.news == nil {
			lines = v.plan()
		}
		v.first = max(v.first+v.Moved(k, len(lines)), 0)
	}
	return nil
}

func (v *view) Wheel(by int) { v.first = max(v.first+by, 0) }

func (v *view) Keys() []frame.Key {
	switch {
	case v.going():
		return []frame.Key{{"Esc", "stop it"}}
	case v.learned != nil && !v.written:
		return []frame.Key{{"Enter", "write the dialect"}, {"↑ ↓", "scroll"}, {"Esc", "leave it"}}
	case v.learned != nil:
		return []frame.Key{{"↑ ↓", "scroll"}, {"Esc", "adopt the folder"}}
	case v.err != nil:
		return []frame.Key{{"Enter", "try once more"}, {"Esc", "back"}}
	}
	keys := []frame.Key{{"w", "name a mod"}, {"y", "what starts it"}, {"Esc", "back"}}
	if v.looked && v.lacks == "" {
		keys = append([]frame.Key{{"Enter", "start copies"}}, keys...)
	}
	return keys
}

func (v *view) Help() []frame.Help {
	return []frame.Help{{Title: "A dialect, learned from starts of copies of the server", Keys: []frame.Key{
		{"Enter", "start the copies; write the dialect, when they have told it"},
		{"w", "name mods of the server, where they are not found"},
		{"y", "say what starts the server"},
		{"Esc", "stop the copy; back"},
	}}}
}
