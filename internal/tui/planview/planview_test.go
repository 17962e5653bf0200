package planview

import (
	"errors"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"initium/internal/core/lineup"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

func TestPlanView(t *testing.T) {
	p := screentest.PlanOf(t)
	m, _ := screentest.Root(t, 80, 24)
	v := newView(m, planMsg{server: "h", why: "switch a off", plan: p})
	c := canvas.New(60, 16)
	v.Draw(c, 0, 16)
	got := screentest.Plain(c)
	for _, want := range []string{"Plan  switch a off", "harbour.start", "goes      berth a", "comes     # berth a", "Nothing is written yet"} {
		if !strings.Contains(got, want) {
			t.Errorf("no %q in\n%s", want, got)
		}
	}
	if _, _, ok := v.nextField(); ok {
		t.Error("a file is taken for a field of a form")
	}
	p.Files[0].Form = "Launch parameters"
	if name, text, ok := v.nextField(); !ok || name != "Launch parameters" || !strings.Contains(text, "# berth a") {
		t.Errorf("the field is %q, %q", name, text)
	}
}

// other is a screen that a plan may be asked for from, and does nothing itself.
type other struct{ *frame.Desk }

func (o *other) Update(tea.Msg) tea.Cmd          { return nil }
func (o *other) Key(string) tea.Cmd              { return nil }
func (o *other) Draw(c *canvas.Canvas, y, h int) {}
func (o *other) Keys() []frame.Key               { return nil }
func (o *other) Help() []frame.Help              { return nil }

// A plan that is left goes back to where it was asked for in the ledger, and to the board
// from anywhere else; while a plan is written nothing else begins.
func TestPlansAreLeft(t *testing.T) {
	m, b := screentest.Root(t, 100, 30)
	above := &other{}
	above.Desk = m.Desk(above)
	m.Open(above)
	planMsg{server: "h", why: "back", plan: screentest.PlanOf(t), back: true}.Open(above.Desk)
	screentest.Hit(m, "esc")
	if m.Top() != frame.Screen(above) {
		t.Errorf("a plan of the ledger is left for %T", m.Top())
	}
	planMsg{server: "h", why: "on", plan: screentest.PlanOf(t)}.Open(above.Desk)
	screentest.Hit(m, "esc")
	if m.Top() != frame.Screen(b) || !strings.Contains(m.Notice, "Staged, and not written") {
		t.Errorf("it is left for %T: %q", m.Top(), m.Notice)
	}
	planMsg{err: errors.New("no\x1b[2J way")}.Open(b.Desk)
	if !m.Bad || strings.Contains(m.Notice, "\x1b") {
		t.Errorf("a plan that cannot be made says %q", m.Notice)
	}
	planMsg{server: "h", why: "on", plan: screentest.PlanOf(t)}.Open(b.Desk)
	v := m.Top().(*view)
	if cmd := screentest.Hit(m, "enter"); cmd == nil || !v.Stuck {
		t.Fatal("Enter writes nothing")
	}
	if cmd := screentest.Hit(m, "enter"); cmd != nil {
		t.Error("it is written twice")
	}
	v.Update(appliedMsg{why: lineup.Change{Op: lineup.OpOff, Mod: "a"}.String()})
	if m.Top() != frame.Screen(b) || !strings.Contains(m.Notice, "Done: switch a off") {
		t.Errorf("written, it shows %T: %q", m.Top(), m.Notice)
	}
}

func TestEverySize(t *testing.T) {
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
		return newView(m, planMsg{server: "h", why: strings.Repeat("why ", 60), plan: screentest.PlanOf(t)})
	})
}
