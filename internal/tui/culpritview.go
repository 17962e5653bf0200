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
	news    chan app.Tried
	end     chan culpritEnd
}

type culpritEnd struct {
	found *app.Culprits
	err   error
}

type (
	triedMsg struct {
		v *culpritView
		t app.Tried
	}
	foundMsg struct {
		v *culpritView
		culpritEnd
	}
)

// askCulprit asks what is to be looked for, and begins.
func (m *model) askCulprit() {
	if v := m.hunt; v != nil && v.server == m.server && !v.over {
		m.view = viewCulprit
		return
	}
	m.prompt = &prompt{label: "Find the culprit. A pattern of the log line that shows the fault, or Enter for how the start fails: ", empty: true,
		hint: []keyHelp{{"Enter", "begin, on a copy of the server"}, {"Esc", "leave it"}},
		done: func(symptom string) tea.Cmd { return m.searchCulprit(symptom) }}
}

func (m *model) searchCulprit(symptom string) tea.Cmd {
	v := &culpritView{server: m.server, symptom: symptom, began: time.Now(), news: make(chan app.Tried, 64), end: make(chan culpritEnd, 1)}
	var ctx context.Context
	ctx, v.cancel = context.WithCancel(m.ctx)
	m.hunt, m.view, m.notice = v, viewCulprit, ""
	go func() {
		defer close(v.news)
		found, err := m.app.FindCulprits(ctx, v.server, app.CulpritOptions{Symptom: symptom, OnTry: func(t app.Tried) { v.news <- t }})
		v.end <- culpritEnd{found, err}
	}()
	return v.next()
}

func (v *culpritView) next() tea.Cmd {
	return func() tea.Msg {
		if t, ok := <-v.news; ok {
			return triedMsg{v, t}
		}
		return foundMsg{v, <-v.end}
	}
}

// finish gives the search up and waits until its copy has been put away.
func (v *culpritView) finish() {
	if v.over {
		return
	}
	v.cancel()
	for range v.news { // which is closed when all is done
	}
}

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
		line("or perhaps", v.found.Instead[0].Text+"   (M plans it; it was not tried)")
	}
	return y - from + 1
}

func (m *model) culpritKey(k string) tea.Cmd {
	v := m.hunt
	switch k {
	case "x":
		if !v.over {
			v.cancel()
			m.say("Stopping the copy …")
		}
	case "C":
		if v.over {
			return m.searchCulprit(v.symptom)
		}
	case "m":
		if v.over && v.found != nil && len(v.found.Changes) > 0 && !m.stuck {
			return m.mendNow(append([]lineup.Change(nil), v.found.Changes...))
		}
	case "M":
		if v.over && v.found != nil && len(v.found.Instead) > 0 && !m.stuck {
			return m.mendNow(append([]lineup.Change(nil), v.found.Instead[0].Changes...))
		}
	case "esc", "enter":
		m.view, m.notice = viewBoard, ""
		if !v.over {
			m.say("The search goes on; C shows it.")
		}
		return m.reload()
	case "q":
		return m.close()
	}
	return nil
}

func (v *culpritView) keys() []keyHelp {
	switch {
	case !v.over:
		return []keyHelp{{"x", "stop it for now"}, {"Esc", "to the board, while it goes on"}, {"?", "help"}, {"q", "close"}}
	case v.found != nil && len(v.found.Changes) > 0:
		keys := []keyHelp{{"m", "plan the remedy"}}
		if len(v.found.Instead) > 0 {
			keys = append(keys, keyHelp{"M", "plan the other"})
		}
		return append(keys, keyHelp{"Esc", "to the board"}, keyHelp{"?", "help"}, keyHelp{"q", "close"})
	}
	return []keyHelp{{"C", "search on"}, {"Esc", "to the board"}, {"?", "help"}, {"q", "close"}}
}
