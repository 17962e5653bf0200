package tui

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/lineup"
)

// culpritView shows the search for the mods that break a server, as it goes on.
type culpritView struct {
	*desk
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
	news    *stream[culpritStep]
}

// culpritStep is a start of the search, or its end.
type culpritStep struct {
	tried app.Tried
	ended bool
	found *app.Culprits
	err   error
}

type culpritMsg struct {
	steps []culpritStep
	ended bool
}

// askCulprit asks what is to be looked for, and begins; a search that goes on is shown.
func askCulprit(s seat) tea.Cmd {
	d, server := s.place(), s.server()
	if kept := d.kept[kind{"search", server}]; kept != nil {
		return d.enter(kept.screen)
	}
	p := newPrompt("Find the culprit. A pattern of the log line that shows the fault, or Enter for how the start fails: ", "",
		func(symptom string) tea.Cmd { return searchCulprit(d, server, symptom) })
	p.empty, p.hint = true, []keyHelp{{"Enter", "begin, on a copy of the server"}, {"Esc", "leave it"}}
	d.prompt = p
	return nil
}

// searchCulprit begins a search. It goes on when its screen is left, and other servers may
// be searched at the same time.
func searchCulprit(d *desk, server, symptom string) tea.Cmd {
	v := &culpritView{server: server, symptom: symptom, began: time.Now(), news: newStream[culpritStep]()}
	v.desk = d.model.desk(v)
	v.keepOpen("search", v.server)
	var ctx context.Context
	ctx, v.cancel = context.WithCancel(d.ctx)
	d.beside(func() {
		found, err := v.app.FindCulprits(ctx, v.server, app.CulpritOptions{Symptom: symptom, OnTry: func(t app.Tried) { v.news.put(culpritStep{tried: t}) }})
		v.news.put(culpritStep{ended: true, found: found, err: err})
		v.news.end()
	})
	return tea.Batch(d.enter(v), v.next())
}

// next waits for what is new.
func (v *culpritView) next() tea.Cmd {
	return v.ask(func() tea.Msg {
		steps, ended := v.news.next(v.ctx)
		return culpritMsg{steps, ended}
	})
}

func (v *culpritView) update(msg tea.Msg) tea.Cmd {
	news, ok := msg.(culpritMsg)
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
		if v.top() == screen(v) {
			v.notice = ""
		} else {
			v.say("The search for the culprit of %s is over; C on its board shows what it found.", v.server)
		}
	}
	if news.ended {
		return nil
	}
	return v.next()
}

// close is called when a search that is over is left: it is not kept for longer.
func (v *culpritView) close() { v.cancel() }

// take adds a start that is about to be made, or how it went.
func (v *culpritView) take(t app.Tried) {
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

func (v *culpritView) draw(c *canvas, y, h int) {
	head := v.drawHead(c, y)
	y, h = y+head, h-head
	if v.over {
		n := v.drawFound(c, y)
		y, h = y+n, h-n
	}
	const barAt = 2
	barWidth := 24
	if c.w < 100 {
		barWidth = 10
	}
	at := struct{ mods, how, took, why int }{barAt + barWidth + 2, barAt + barWidth + 14, barAt + barWidth + 25, barAt + barWidth + 33}
	c.put(barAt, y, "mods on", inkDim)
	c.put(at.how, y, "result", inkDim)
	c.put(at.took, y, "took", inkDim)
	c.putWithin(at.why, y, c.w-at.why-1, "to see", inkDim)
	y, h = y+1, h-1
	first := max(len(v.tries)-h, 0)
	for i := first; i < len(v.tries); i++ {
		t, row := &v.tries[i], y+i-first
		filled := 0
		if t.Of > 0 {
			filled = (len(t.On)*barWidth + t.Of - 1) / t.Of
		}
		c.put(barAt, row, strings.Repeat("━", filled), inkBar)
		c.put(barAt+filled, row, strings.Repeat("─", barWidth-filled), inkFaint)
		c.put(at.mods, row, fmt.Sprintf("%d of %d", len(t.On), t.Of), inkText)
		switch {
		case !t.Done:
			c.put(at.how, row, "◦ starting", inkFocus)
		case t.Failed:
			c.put(at.how, row, "✕ fails", inkBad)
		default:
			c.put(at.how, row, "◆ sound", inkGood)
		}
		switch {
		case t.Known:
			c.put(at.took, row, "known", inkDim)
		case t.Done:
			c.put(at.took, row, fmt.Sprintf("%.1f s", t.Took.Seconds()), inkDim)
		}
		why := clean(t.Why)
		if t.Runs > 1 {
			why += fmt.Sprintf(" (start %d of up to %d)", t.Run, t.Runs)
		}
		c.putWithin(at.why, row, c.w-at.why-1, why, inkText)
	}
}

// drawHead says what is looked for and what is known; it returns how many lines that
// takes.
func (v *culpritView) drawHead(c *canvas, y int) int {
	what := "how the start fails"
	if v.symptom != "" {
		what = "a log line that fits " + clean(v.symptom)
	}
	switch {
	case v.over && v.err != nil && errors.Is(v.err, context.Canceled):
		c.put(2, y, "stopped; what was learned is kept, and C goes on where it was", inkWarn)
	case v.over && v.err != nil:
		c.put(2, y, "✕ the search could not be carried on", inkBad)
	case v.over && v.found.Problem != "":
		c.put(2, y, "no culprit", inkWarn)
	case v.over:
		c.put(2, y, "found, in "+count(v.found.Starts, "start", "starts")+" and "+span(time.Since(v.began)), inkGood)
	default:
		c.put(2, y, "searching on a copy of the server, which itself is left alone", inkFocus)
	}
	from := y
	for _, line := range [][2]string{{"looking for", what}, {"starts", v.toCome()}, {"so far", v.learned()}} {
		if line[1] != "" {
			y++
			c.put(2, y, line[0], inkDim)
			c.putWithin(14, y, c.w-15, line[1], inkText)
		}
	}
	return y - from + 2
}

// learned is what the search knows by now.
func (v *culpritView) learned() string {
	if v.over || len(v.tries) == 0 {
		return ""
	}
	return clean(v.tries[len(v.tries)-1].Learned)
}

// toCome says how many starts are still to be made at the most, and how long that may
// take.
func (v *culpritView) toCome() string {
	if v.over || len(v.tries) == 0 {
		return ""
	}
	most := v.tries[len(v.tries)-1].AtMost
	s := fmt.Sprintf("%d made, %d to come at the most", v.made, most)
	if v.made > 0 && most > 0 {
		s += ", about " + span(time.Duration(most)*v.spent/time.Duration(v.made)) + " at the longest"
	}
	return s
}

// drawFound tells the result; it returns how many lines that takes.
func (v *culpritView) drawFound(c *canvas, y int) int {
	from := y
	switch {
	case v.err != nil && errors.Is(v.err, context.Canceled):
		return 0
	case v.err != nil:
		return c.paragraph(2, y, c.w-4, 4, clean(v.err.Error()), inkText) - y + 1
	case v.found.Problem != "":
		return c.paragraph(2, y, c.w-4, 4, v.found.Problem, inkText) - y + 1
	}
	label := "the culprit"
	if len(v.found.Culprits) > 1 {
		label = "the culprits, together"
	}
	x := c.put(2, y, label+": ", inkText)
	c.putWithin(x, y, c.w-x-1, strings.Join(v.found.Culprits, ", "), inkBad)
	y++
	line := func(label, s string) {
		if s != "" {
			c.put(2, y, label, inkDim)
			y = c.paragraph(14, y, c.w-15, 2, s, inkText)
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
		line("remedy", words(v.found.Changes)+"   (m plans it)")
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

func (v *culpritView) key(k string) tea.Cmd {
	switch {
	case k == "esc":
		if v.over {
			v.forget("search", v.server)
			return v.desk.back()
		}
		cmd := v.desk.back()
		v.say("The search goes on; C shows it.")
		return cmd
	case k == "X" && !v.over:
		v.cancel()
		v.say("Stopping the copy …")
	case k == "C" && v.over:
		v.forget("search", v.server)
		return tea.Batch(v.desk.back(), searchCulprit(v.top().place(), v.server, v.symptom))
	case k == "m" && v.over && v.found != nil && len(v.found.Changes) > 0 && !v.stuck:
		return v.wish(planned(v.desk, v.server, append([]lineup.Change(nil), v.found.Changes...)...))
	case k == "2" && v.over && v.found != nil && len(v.found.Instead) > 0 && !v.stuck:
		return v.wish(planned(v.desk, v.server, append([]lineup.Change(nil), v.found.Instead[0].Changes...)...))
	}
	return nil
}

func (v *culpritView) keys() []keyHelp {
	switch {
	case !v.over:
		return []keyHelp{{"X", "stop it for now"}, {"Esc", "to the board, while it goes on"}}
	case v.found != nil && len(v.found.Changes) > 0:
		keys := []keyHelp{{"m", "plan the remedy"}}
		if len(v.found.Instead) > 0 {
			keys = append(keys, keyHelp{"2", "plan the other"})
		}
		return append(keys, keyHelp{"Esc", "to the board"})
	}
	return []keyHelp{{"C", "search on"}, {"Esc", "to the board"}}
}

func (v *culpritView) help() []helpList {
	return []helpList{{"The search for the mod that breaks the server", []keyHelp{
		{"X", "stop it for now; what was learned is kept"},
		{"C", "search on, once it has stopped"},
		{"m", "plan the remedy that was found; 2 the other one"},
		{"Esc", "to the board; the search goes on, and C shows it"},
	}}}
}
