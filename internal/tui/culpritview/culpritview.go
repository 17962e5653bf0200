// Package culpritview is the screen of a search for the mod that breaks a server.
package culpritview

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
	"initium/internal/tui/planview"
)

// view shows the search for the mods that break a server, as it goes on.
type view struct {
	*frame.Desk
	server  string
	symptom string // a pattern that the operator gave; "" for how the first start fails
	tries   []app.Tried
	began   time.Time
	made    int // starts that were made, not remembered
	spent   time.Duration
	found   *app.Culprits
	err     error
	over    bool
	cancel  context.CancelFunc
	news    *frame.Stream[step]
}

// step is a start of the search, or its end.
type step struct {
	tried app.Tried
	ended bool
	found *app.Culprits
	err   error
}

type stepsMsg struct {
	steps []step
	ended bool
}

// Door leads from the board to here.
var Door = frame.Door{Key: "C", Foot: "culprit", Help: "search for the mod that breaks the server, on a copy", Open: ask}

// ask asks what is to be looked for, and begins; a search that goes on is shown.
func ask(s frame.Seat) tea.Cmd {
	d, server := s.Place(), s.Server()
	if goes := d.Ongoing("search", server); goes != nil {
		return d.Enter(goes)
	}
	p := frame.NewPrompt("Find the culprit. A pattern of the log line that shows the fault, or Enter for how the start fails: ", "",
		func(symptom string) tea.Cmd { return search(d, server, symptom) })
	p.Empty, p.Hint = true, []frame.Key{{"Enter", "begin, on a copy of the server"}, {"Esc", "leave it"}}
	d.Prompt = p
	return nil
}

// search begins a search. It goes on when its screen is left, and other servers may
// be searched at the same time.
func search(d *frame.Desk, server, symptom string) tea.Cmd {
	v := &view{server: server, symptom: symptom, began: time.Now(), news: frame.NewStream[step]()}
	v.Desk = d.Model.Desk(v)
	v.KeepOpen("search", v.server)
	var ctx context.Context
	ctx, v.cancel = context.WithCancel(d.Ctx)
	d.Beside(func() {
		found, err := v.App.FindCulprits(ctx, v.server, app.CulpritOptions{Symptom: symptom, OnTry: func(t app.Tried) { v.news.Put(step{tried: t}) }})
		v.news.Put(step{ended: true, found: found, err: err})
		v.news.End()
	})
	return tea.Batch(d.Enter(v), v.next())
}

// next waits for what is new.
func (v *view) next() tea.Cmd {
	return v.Ask(func() tea.Msg {
		steps, ended := v.news.Next(v.Ctx)
		return stepsMsg{steps, ended}
	})
}

func (v *view) Update(msg tea.Msg) tea.Cmd {
	news, ok := msg.(stepsMsg)
	if !ok {
		return nil
	}
	for _, s := range news.steps {
		if !s.ended {
			v.take(s.tried)
			continue
		}
		v.found, v.err, v.over = s.found, s.err, true
		v.cancel()
		if v.InSight() {
			v.Notice = ""
		} else {
			v.Say("The search for the culprit of %s is over; C on its board shows what it found.", v.server)
		}
	}
	if news.ended {
		return nil
	}
	return v.next()
}

// Close is called when a search that is over is left: it is not kept for longer.
func (v *view) Close() { v.cancel() }

// take adds a start that is about to be made, or how it went.
func (v *view) take(t app.Tried) {
	if n := len(v.tries); n > 0 && t.Done && !v.tries[n-1].Done {
		v.tries[n-1] = t
	} else {
		v.tries = append(v.tries, t)
	}
	if t.Done && !t.Known {
		v.made++
		v.spent += t.Took
	}
}

func (v *view) Draw(c *canvas.Canvas, y, h int) {
	head := v.drawHead(c, y)
	y, h = y+head, h-head
	if v.over {
		n := v.drawFound(c, y)
		y, h = y+n, h-n
	}
	const barAt = 2
	barWidth := 24
	if c.W < 100 {
		barWidth = 10
	}
	at := struct{ mods, how, took, why int }{barAt + barWidth + 2, barAt + barWidth + 14, barAt + barWidth + 25, barAt + barWidth + 33}
	c.Put(barAt, y, "mods on", canvas.Dim)
	c.Put(at.how, y, "result", canvas.Dim)
	c.Put(at.took, y, "took", canvas.Dim)
	c.PutWithin(at.why, y, c.W-at.why-1, "to see", canvas.Dim)
	y, h = y+1, h-1
	first := max(len(v.tries)-h, 0)
	for i := first; i < len(v.tries); i++ {
		t, row := &v.tries[i], y+i-first
		filled := 0
		if t.Of > 0 {
			filled = (len(t.On)*barWidth + t.Of - 1) / t.Of
		}
		c.Put(barAt, row, strings.Repeat("━", filled), canvas.Bar)
		c.Put(barAt+filled, row, strings.Repeat("─", barWidth-filled), canvas.Faint)
		c.Put(at.mods, row, fmt.Sprintf("%d of %d", len(t.On), t.Of), canvas.Text)
		switch {
		case !t.Done:
			c.Put(at.how, row, "◦ starting", canvas.Focus)
		case t.Failed:
			c.Put(at.how, row, "✕ fails", canvas.Bad)
		default:
			c.Put(at.how, row, "◆ sound", canvas.Good)
		}
		switch {
		case t.Known:
			c.Put(at.took, row, "known", canvas.Dim)
		case t.Done:
			c.Put(at.took, row, fmt.Sprintf("%.1f s", t.Took.Seconds()), canvas.Dim)
		}
		why := canvas.Clean(t.Why)
		if t.Runs > 1 {
			why += fmt.Sprintf(" (start %d of up to %d)", t.Run, t.Runs)
		}
		c.PutWithin(at.why, row, c.W-at.why-1, why, canvas.Text)
	}
}

// drawHead says what is looked for and what is known; it returns how many lines that
// takes.
func (v *view) drawHead(c *canvas.Canvas, y int) int {
	what := "how the start fails"
	if v.symptom != "" {
		what = "a log line that fits " + canvas.Clean(v.symptom)
	}
	switch {
	case v.over && v.err != nil && errors.Is(v.err, context.Canceled):
		c.Put(2, y, "stopped; what was learned is kept, and C goes on where it was", canvas.Warn)
	case v.over && v.err != nil:
		c.Put(2, y, "✕ the search could not be carried on", canvas.Bad)
	case v.over && v.found.Problem != "":
		c.Put(2, y, "no culprit", canvas.Warn)
	case v.over:
		c.Put(2, y, "found, in "+marks.Count(v.found.Starts, "start", "starts")+" and "+marks.Span(time.Since(v.began)), canvas.Good)
	default:
		c.Put(2, y, "searching on a copy of the server, which itself is left alone", canvas.Focus)
	}
	from := y
	for _, line := range [][2]string{{"looking for", what}, {"starts", v.toCome()}, {"so far", v.learned()}} {
		if line[1] != "" {
			y++
			c.Put(2, y, line[0], canvas.Dim)
			c.PutWithin(14, y, c.W-15, line[1], canvas.Text)
		}
	}
	return y - from + 2
}

// learned is what the search knows by now.
func (v *view) learned() string {
	if v.over || len(v.tries) == 0 {
		return ""
	}
	return canvas.Clean(v.tries[len(v.tries)-1].Learned)
}

// toCome says how many starts are still to be made at the most, and how long that may
// take.
func (v *view) toCome() string {
	if v.over || len(v.tries) == 0 {
		return ""
	}
	most := v.tries[len(v.tries)-1].AtMost
	s := fmt.Sprintf("%d made, %d to come at the most", v.made, most)
	if v.made > 0 && most > 0 {
		s += ", about " + marks.Span(time.Duration(most)*v.spent/time.Duration(v.made)) + " at the longest"
	}
	return s
}

// drawFound tells the result; it returns how many lines that takes.
func (v *view) drawFound(c *canvas.Canvas, y int) int {
	from := y
	switch {
	case v.err != nil && errors.Is(v.err, context.Canceled):
		return 0
	case v.err != nil:
		return c.Paragraph(2, y, c.W-4, 4, canvas.Clean(v.err.Error()), canvas.Text) - y + 1
	case v.found.Problem != "":
		return c.Paragraph(2, y, c.W-4, 4, v.found.Problem, canvas.Text) - y + 1
	}
	label := "the culprit"
	if len(v.found.Culprits) > 1 {
		label = "the culprits, together"
	}
	x := c.Put(2, y, label+": ", canvas.Text)
	c.PutWithin(x, y, c.W-x-1, strings.Join(v.found.Culprits, ", "), canvas.Bad)
	y++
	line := func(label, s string) {
		if s != "" {
			c.Put(2, y, label, canvas.Dim)
			y = c.Paragraph(14, y, c.W-15, 2, s, canvas.Text)
		}
	}
	line("needs", strings.Join(v.found.With, ", "))
	line("because", v.found.Reason)
	for i, e := range v.found.Evidence {
		if i < 3 {
			line(fmt.Sprintf("log %d", e.Line), e.Text)
		}
	}
	if v.found.Rate < 1 {
		line("how often", fmt.Sprintf("in about %.0f %% of the starts; %d without it counted as sound", v.found.Rate*100, v.found.Repeat))
	}
	if !v.found.Sure {
		line("doubt", "this did not hold when it was tried again; look at it with doubt")
	}
	if len(v.found.Changes) > 0 {
		line("remedy", marks.Words(v.found.Changes)+"   (m plans it)")
	}
	switch {
	case v.found.Cured:
		line("then", "all the others are sound, as a start has shown")
	case v.found.Sure:
		line("then", "the others still fail: there is another cause too; make the change, and search again (C)")
	}
	if len(v.found.Instead) > 0 {
		line("or perhaps", v.found.Instead[0].Text+"   (2 plans it; it was not tried)")
	}
	return y - from + 1
}

func (v *view) Key(k string) tea.Cmd {
	switch {
	case k == "esc":
		if v.over {
			v.Forget("search", v.server)
			return v.Desk.Back()
		}
		cmd := v.Desk.Back()
		v.Say("The search goes on; C shows it.")
		return cmd
	case k == "X" && !v.over:
		v.cancel()
		v.Say("Stopping the copy …")
	case k == "C" && v.over:
		v.Forget("search", v.server)
		return tea.Batch(v.Desk.Back(), search(v.Top().Place(), v.server, v.symptom))
	case k == "m" && v.over && v.found != nil && len(v.found.Changes) > 0 && !v.Stuck:
		return v.Wish(planview.Planned(v.Desk, v.server, append([]lineup.Change(nil), v.found.Changes...)...))
	case k == "2" && v.over && v.found != nil && len(v.found.Instead) > 0 && !v.Stuck:
		return v.Wish(planview.Planned(v.Desk, v.server, append([]lineup.Change(nil), v.found.Instead[0].Changes...)...))
	}
	return nil
}

func (v *view) Keys() []frame.Key {
	switch {
	case !v.over:
		return []frame.Key{{"X", "stop it for now"}, {"Esc", "to the board, while it goes on"}}
	case v.found != nil && len(v.found.Changes) > 0:
		keys := []frame.Key{{"m", "plan the remedy"}}
		if len(v.found.Instead) > 0 {
			keys = append(keys, frame.Key{"2", "plan the other"})
		}
		return append(keys, frame.Key{"Esc", "to the board"})
	}
	return []frame.Key{{"C", "search on"}, {"Esc", "to the board"}}
}

func (v *view) Help() []frame.Help {
	return []frame.Help{{Title: "The search for the mod that breaks the server", Keys: []frame.Key{
		{"X", "stop it for now; what was learned is kept"},
		{"C", "search on, once it has stopped"},
		{"m", "plan the remedy that was found; 2 the other one"},
		{"Esc", "to the board; the search goes on, and C shows it"},
	}}}
}
