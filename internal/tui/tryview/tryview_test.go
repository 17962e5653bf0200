package tryview

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/expect"
	"initium/internal/core/proof"
	"initium/internal/insist"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

func over(m *frame.Model, turn bool, e event) *view {
	v := &view{server: "h", turn: turn, began: time.Now(), cancel: func() {}, news: frame.NewStream[event]()}
	v.Desk = m.Desk(v)
	m.Open(v)
	e.ended = true
	v.Update(eventsMsg{events: []event{{phase: "copying"}, {step: &app.Step{Number: 1, New: []proof.Line{{Number: 1, Text: "hello"}}}}, e}, ended: true})
	return v
}

func TestTold(t *testing.T) {
	good, bad := &proof.Proof{Verdict: proof.Proved, Mods: []proof.Mod{{Name: "a", Outcome: proof.Confirmed}}}, &proof.Proof{Verdict: proof.NotProved, Reason: "1 of 2 is not confirmed",
		Mods: []proof.Mod{{Name: "a", Outcome: proof.Confirmed}, {Name: "b", Outcome: proof.Failed, Reason: "it sank"}}, Expected: []expect.Met{{Expectation: expect.Expectation{Kind: expect.Path, Text: "map"}}}}
	for name, test := range map[string]struct {
		turn bool
		e    event
		want []string
	}{
		"rehearsed":     {e: event{rehearsal: &app.Rehearsal{Isolated: true, Port: "70", Proof: good, Against: 3, Changes: []string{"switch b off"}}}, want: []string{"◆ rehearsed, and proved", "Enter on the plan writes it", "a network of its own, in which it could reach nobody, on port 70", "with          switch b off", "nothing of note, beside start 3"}},
		"not proved":    {e: event{rehearsal: &app.Rehearsal{Proof: bad, Notes: []string{"title is x in it"}, Against: 3, Differs: []string{"b: failed"}, Faults: []check.Finding{{File: "f", Line: 3, Message: "odd"}}}}, want: []string{"✕ rehearsed, and not proved", "because       1 of 2", "mend it on the board", "in the network of this machine", "but           title is x in it", "its own look  f, line 3: odd", "than at start 3", "b: failed", "✕ failed     b: it sank", "◆ confirmed  a", "expected      map is there, and that is not so"}},
		"stopped":       {e: event{err: context.Canceled}, want: []string{"stopped"}},
		"could not":     {e: event{err: errors.New("no room")}, want: []string{"✕ it could not be carried on", "no room"}},
		"made":          {turn: true, e: event{turned: &app.Turned{Proof: good, Running: true, OutMS: 1500, Change: "switch b off"}}, want: []string{"◆ made and proved", "with          switch b off", "were out for 1.5 s", "the server runs"}},
		"gone back":     {turn: true, e: event{turned: &app.Turned{Proof: bad, Back: good, Why: "it sank", To: 4, Ran: true, Running: true}}, want: []string{"✕ not proved; ◆ gone back, and that is proved", "because       it sank", "at entry 4, which is proved"}},
		"neither":       {turn: true, e: event{turned: &app.Turned{Proof: bad, Back: bad, Why: "it sank", Ran: true}}, want: []string{"neither is what was gone back to", "the server does not run"}},
		"without a way": {turn: true, e: event{turned: &app.Turned{Proof: bad}}, want: []string{"✕ made, and not proved", "stopped, as it was before"}},
	} {
		m, _ := screentest.Root(t, 120, 40)
		v := over(m, test.turn, test.e)
		c := canvas.New(120, 40)
		v.Draw(c, 0, 40)
		insist.Holds(t, name, screentest.Plain(c), test.want...)
	}
}

// What goes on is found again from its own board, and ends with the screen.
func TestGoesOn(t *testing.T) {
	m, seat := screentest.Root(t, 100, 30)
	ctx, cancel := context.WithCancel(t.Context())
	m.Ctx = ctx
	Door.Open(seat)
	one := m.Top()
	c := canvas.New(100, 20)
	one.Draw(c, 0, 20)
	insist.Holds(t, "under way", screentest.Plain(c), "rehearsing on a copy")
	screentest.Hit(m, "esc")
	insist.That(t, m.Top() != one, "Esc does not leave it")
	ProveOrReturn(seat.Place(), "h")
	insist.That(t, m.Top() != one, "a change is taken for the rehearsal")
	screentest.Hit(m, "X")
	screentest.Hit(m, "esc")
	Door.Open(seat)
	insist.That(t, m.Top() == one, "the rehearsal is lost")
	cancel()
	m.Wait()
}

func TestEverySize(t *testing.T) {
	long := strings.Repeat("long words ", 30)
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
		return over(m, false, event{rehearsal: &app.Rehearsal{Proof: &proof.Proof{Reason: long, Mods: []proof.Mod{{Name: long, Outcome: proof.Failed, Reason: long}}}, Notes: []string{long}}})
	})
}
