// Package tryview is the screen on which a change is tried: a rehearsal on a copy of the server, or
// the change made and proved in one go, with the way back.
package tryview

import (
	"context"
	"errors"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/logpane"
	"initium/internal/tui/marks"
)

// view shows how it goes, and what came of it.
type view struct {
	*frame.Desk
	server    string
	turn      bool // the change is made and proved, not rehearsed
	phase     string
	began     time.Time
	took      time.Duration // once it is over
	step      app.Step
	log       logpane.Pane
	rehearsal *app.Rehearsal
	turned    *app.Turned
	err       error
	over      bool
	lines     []resultLine // what came of it
	first     int          // of them that is shown
	cancel    context.CancelFunc
	news      *frame.Stream[event]
}

// event is what is new: a phase, a step of a start, or the end.
type event struct {
	phase     string
	step      *app.Step
	ended     bool
	rehearsal *app.Rehearsal
	turned    *app.Turned
	err       error
}

type eventsMsg struct {
	events []event
	ended  bool
}

type resultLine struct {
	label, text string
	ink         canvas.Ink
}

// Door leads from the board to a rehearsal.
var Door = frame.Door{Key: "r", Foot: "rehearse", Help: "rehearse the start on a copy, with what is staged", Open: func(s frame.Seat) tea.Cmd { return Rehearse(s.Place(), s.Server()) }}

// Rehearse rehearses the start of a server with what is staged, or shows the rehearsal that goes on.
func Rehearse(d *frame.Desk, server string) tea.Cmd {
	return begin(d, server, "rehearsal", func(v *view, ctx context.Context, opt app.ProveOptions, phase func(string)) event {
		r, err := v.App.Rehearse(ctx, server, app.RehearseOptions{ProveOptions: opt, OnPhase: phase})
		return event{ended: true, rehearsal: r, err: err}
	})
}

// ProveOrReturn makes what is staged, starts the server and proves it, or goes back.
func ProveOrReturn(d *frame.Desk, server string) tea.Cmd {
	return begin(d, server, "turn", func(v *view, ctx context.Context, opt app.ProveOptions, phase func(string)) event {
		t, err := v.App.ApplyProved(ctx, server, app.TurnOptions{ProveOptions: opt, OrReturn: true, OnPhase: phase})
		return event{ended: true, turned: t, err: err}
	})
}

func begin(d *frame.Desk, server, what string, work func(v *view, ctx context.Context, opt app.ProveOptions, phase func(string)) event) tea.Cmd {
	if goes := d.Ongoing(what, server); goes != nil {
		return d.Enter(goes)
	}
	v := &view{server: server, turn: what == "turn", phase: "getting ready", began: time.Now(), news: frame.NewStream[event]()}
	v.Desk = d.Model.Desk(v)
	v.KeepOpen(what, server)
	var ctx context.Context
	ctx, v.cancel = context.WithCancel(d.Ctx)
	d.Beside(func() {
		defer v.news.End()
		v.news.Put(work(v, ctx, app.ProveOptions{OnStep: func(s app.Step) { v.news.Put(event{step: &s}) }}, func(s string) { v.news.Put(event{phase: s}) }))
	})
	return tea.Batch(d.Enter(v), v.next())
}

// what it is kept open as.
func (v *view) what() string {
	if v.turn {
		return "turn"
	}
	return "rehearsal"
}

func (v *view) next() tea.Cmd {
	return v.Ask(func() tea.Msg {
		events, ended := v.news.Next(v.Ctx)
		return eventsMsg{events, ended}
	})
}

func (v *view) Update(msg tea.Msg) tea.Cmd {
	news, ok := msg.(eventsMsg)
	if !ok {
		return nil
	}
	var cmd tea.Cmd
	for _, e := range news.events {
		if v.take(e); e.ended && v.turn {
			cmd = v.Renew()
		}
	}
	if news.ended {
		return cmd
	}
	return tea.Batch(cmd, v.next())
}

// take adds what is new to the picture.
func (v *view) take(e event) {
	switch {
	case e.phase != "":
		v.phase = e.phase
	case e.step != nil:
		if e.step.Number != v.step.Number {
			v.log = logpane.Pane{}
		}
		v.log.Add(e.step.New)
		v.step = *e.step
	case e.ended:
		v.over, v.err, v.took = true, e.err, time.Since(v.began)
		v.rehearsal, v.turned = e.rehearsal, e.turned
		v.cancel()
		v.tell()
		if !v.InSight() {
			v.Say("%s of %s is over; %s on its board shows what came of it.", map[bool]string{true: "The change", false: "The rehearsal"}[v.turn], v.server, map[bool]string{true: "P on the plan", false: "r"}[v.turn])
		}
	}
}

// Close is called when what is over is left.
func (v *view) Close() { v.cancel() }

// tell writes down what came of it.
func (v *view) tell() {
	add := func(label, text string, k canvas.Ink) { v.lines = append(v.lines, resultLine{label, text, k}) }
	switch {
	case v.err != nil:
		add("because", canvas.Clean(v.err.Error()), canvas.Text)
	case v.turn:
		v.tellTurn(add)
	default:
		v.tellRehearsal(add)
	}
}

func (v *view) tellRehearsal(add func(label, text string, k canvas.Ink)) {
	r := v.rehearsal
	if r.Proof.Reason != "" {
		add("because", r.Proof.Reason, canvas.Title)
	}
	switch proved := r.Proof.Verdict == proof.Proved; {
	case proved && len(r.Changes) > 0:
		add("next", "Enter on the plan writes it, P proves it on the server itself; p on the board shows the plan", canvas.Text)
	case !proved && len(r.Changes) > 0:
		add("next", "mend it on the board (m), or take the last staged change back (u), and rehearse once more", canvas.Text)
	case !proved:
		add("next", "mend it on the board (m), and rehearse once more", canvas.Text)
	}
	where := "in a network of its own, in which it could reach nobody"
	if !r.Isolated {
		where = "in the network of this machine"
	}
	if r.Port != "" {
		where += ", on port " + r.Port
	}
	add("a copy", where, canvas.Dim)
	label := "with"
	for _, c := range r.Changes {
		add(label, c, canvas.Text)
		label = ""
	}
	label = "but"
	for _, note := range r.Notes {
		add(label, note, canvas.Warn)
		label = ""
	}
	label = "its own look"
	for _, f := range r.Faults {
		add(label, fmt.Sprintf("%s, line %d: %s", f.File, f.Line, f.Message), canvas.Bad)
		label = ""
	}
	switch {
	case r.Against > 0 && len(r.Differs) == 0:
		add("other", fmt.Sprintf("nothing of note, beside start %d, the last that was proved", r.Against), canvas.Text)
	case r.Against > 0:
		add("other", fmt.Sprintf("than at start %d, the last that was proved:", r.Against), canvas.Dim)
		for _, d := range r.Differs {
			add("", d, canvas.Text)
		}
	}
	tellProof(add, r.Proof)
}

func (v *view) tellTurn(add func(label, text string, k canvas.Ink)) {
	t := v.turned
	if t.Why != "" {
		add("because", t.Why, canvas.Title)
	}
	switch {
	case t.Back != nil && t.Back.Verdict == proof.Proved:
		add("next", "look at what the change came to, below; what was staged is not staged any more", canvas.Text)
	case t.Back != nil:
		add("next", "mend what is told of below on the board (m)", canvas.Text)
	}
	if t.Change != "" {
		add("with", t.Change, canvas.Text)
	}
	if t.OutMS > 0 {
		add("players", fmt.Sprintf("were out for %.1f s", float64(t.OutMS)/1000), canvas.Text)
	}
	switch {
	case t.Host != "" && t.Back == nil && t.Why != "":
		add("next", fmt.Sprintf("start it at %s; s on the board watches that", t.Host), canvas.Text)
	case t.Host != "":
	case t.Running:
		add("now", "the server runs", canvas.Text)
	case t.Ran:
		add("now", "the server does not run", canvas.Bad)
	default:
		add("now", "the server is stopped, as it was before", canvas.Text)
	}
	if t.Proof != nil {
		tellProof(add, t.Proof)
	}
	if t.Back != nil {
		add("", "", canvas.Text)
		add("back", fmt.Sprintf("at entry %d, which is %s", t.To, t.Back.Verdict), canvas.Text)
		tellProof(add, t.Back)
	}
}

// tellProof tells what came of each mod, those that are not confirmed first.
func tellProof(add func(label, text string, k canvas.Ink), p *proof.Proof) {
	label := "mods"
	for _, good := range []bool{false, true} {
		for i := range p.Mods {
			m := &p.Mods[i]
			if (m.Outcome == proof.Confirmed) != good {
				continue
			}
			mark := marks.Outcome(m.Outcome)
			words := fmt.Sprintf("%s %-10s %s", mark.Shape, mark.Word, m.Name)
			if m.Reason != "" {
				words += ": " + m.Reason
			}
			add(label, words, mark.Ink)
			label = ""
		}
	}
	label = "expected"
	for i := range p.Expected {
		if m := &p.Expected[i]; !m.So {
			add(label, m.String(), canvas.Bad)
			label = ""
		}
	}
}

// verdict says in words where it stands.
func (v *view) verdict() (string, canvas.Ink) {
	proved := func(p *proof.Proof) bool { return p != nil && p.Verdict == proof.Proved }
	switch {
	case !v.over && v.turn:
		return "making the change, and proving it: " + canvas.Clean(v.phase), canvas.Focus
	case !v.over:
		return "rehearsing on a copy, the server itself is left alone: " + canvas.Clean(v.phase), canvas.Focus
	case errors.Is(v.err, context.Canceled):
		return "stopped", canvas.Warn
	case v.err != nil:
		return "✕ it could not be carried on", canvas.Bad
	case v.turn && v.turned.Proved():
		return "◆ made and proved", canvas.Good
	case v.turn && proved(v.turned.Back):
		return "✕ not proved; ◆ gone back, and that is proved", canvas.Warn
	case v.turn && v.turned.Back != nil:
		return "✕ not proved, and neither is what was gone back to", canvas.Bad
	case v.turn:
		return "✕ made, and not proved", canvas.Bad
	case proved(v.rehearsal.Proof):
		return "◆ rehearsed, and proved", canvas.Good
	}
	return "✕ rehearsed, and not proved", canvas.Bad
}

func (v *view) Draw(c *canvas.Canvas, y, h int) {
	words, k := v.verdict()
	took := v.took
	if !v.over {
		took = time.Since(v.began)
	}
	at := c.W - 2 - len(marks.Span(took))
	c.PutWithin(2, y, at-3, words, k)
	c.Right(c.W-1, y, marks.Span(took), canvas.Dim)
	y, h = y+2, h-2
	if !v.over {
		v.drawGoing(c, y, h)
		return
	}
	v.first = max(min(v.first, len(v.lines)-1), 0)
	row := y
	for i := v.first; i < len(v.lines) && row < y+h; i++ {
		line := &v.lines[i]
		c.Put(2, row, line.label, canvas.Dim)
		row = c.Paragraph(16, row, c.W-17, min(3, y+h-row), line.text, line.ink)
		if i == len(v.lines)-1 {
			return
		}
	}
	c.Right(c.W, y+h-1, " ↓ more ", canvas.Dim)
}

// drawGoing draws the start that is under way: what is spoken for, and the log.
func (v *view) drawGoing(c *canvas.Canvas, y, h int) {
	s := v.step.Status
	if v.step.Number > 0 {
		words := fmt.Sprintf("%s spoken for, %s owed", marks.Count(s.Done, "mod", "mods"), marks.Count(len(s.Owed), "mod is", "mods are"))
		if s.Failed > 0 {
			words += fmt.Sprintf(", %d failed", s.Failed)
		}
		if s.Now != "" {
			words += "; loading " + canvas.Clean(s.Now)
		}
		c.PutWithin(2, y, c.W-3, words, canvas.Text)
	}
	if h > 2 {
		v.log.Draw(c, 1, y+2, c.W-2, h-2)
	}
}

func (v *view) Key(k string) tea.Cmd {
	switch {
	case k == "esc":
		if v.over {
			v.Forget(v.what(), v.server)
			if v.turn {
				return v.BackToBase()
			}
			return v.Desk.Back()
		}
		cmd := v.Desk.Back()
		v.Say("It goes on; %s shows it.", map[bool]string{true: "P on the plan", false: "r"}[v.turn])
		return cmd
	case k == "X" && !v.over:
		v.cancel()
		v.Say("%s", map[bool]string{true: "Going back …", false: "Stopping the copy …"}[v.turn])
	case k == "r" && v.over && !v.turn:
		v.Forget(v.what(), v.server)
		cmd := v.Desk.Back()
		return tea.Batch(cmd, Rehearse(v.Top().Place(), v.server))
	case v.over:
		v.first = max(v.first+v.Moved(k, len(v.lines)), 0)
	}
	return nil
}

func (v *view) Wheel(by int) {
	if v.over {
		v.first = max(v.first+by, 0)
	}
}

func (v *view) Keys() []frame.Key {
	switch {
	case !v.over && v.turn:
		return []frame.Key{{"X", "give it up and go back"}, {"Esc", "to the board, while it goes on"}}
	case !v.over:
		return []frame.Key{{"X", "stop it"}, {"Esc", "to the board, while it goes on"}}
	case v.turn:
		return []frame.Key{{"↑ ↓", "scroll"}, {"Esc", "to the board"}}
	}
	return []frame.Key{{"r", "rehearse once more"}, {"↑ ↓", "scroll"}, {"Esc", "back"}}
}

func (v *view) Help() []frame.Help {
	if v.turn {
		return []frame.Help{{Title: "A change that is made and proved in one go", Keys: []frame.Key{
			{"X", "give it up: the last proved state comes back, and is started"},
			{"Esc", "to the board; it goes on"},
		}}}
	}
	return []frame.Help{{Title: "The rehearsal: a copy of the server is started, with what is staged", Keys: []frame.Key{
		{"r", "rehearse once more, when it is over"},
		{"X", "stop the copy"},
		{"Esc", "back; it goes on, and r shows it"},
	}}}
}
