package planview

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/insist"
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
		insist.Holds(t, fmt.Sprintf("no %q in", want), got, want)
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
	insist.Same(t, "a plan of the ledger is left for", m.Top(), frame.Screen(above))
	planMsg{server: "h", why: "on", plan: screentest.PlanOf(t)}.Open(above.Desk)
	screentest.Hit(m, "esc")
	insist.That(t, m.Top() == frame.Screen(b) && strings.Contains(m.Notice, "Staged, and not written"), "it is left for %T: %q", m.Top(), m.Notice)
	planMsg{err: errors.New("no\x1b[2J way")}.Open(b.Desk)
	insist.That(t, m.Bad && !strings.Contains(m.Notice, "\x1b"), "a plan that cannot be made says %q", m.Notice)
	planMsg{server: "h", why: "on", plan: screentest.PlanOf(t)}.Open(b.Desk)
	v := m.Top().(*view)
	if cmd := screentest.Hit(m, "enter"); cmd == nil || !v.Stuck {
		t.Fatal("Enter writes nothing")
	}
	if cmd := screentest.Hit(m, "enter"); cmd != nil {
		t.Error("it is written twice")
	}
	v.Update(appliedMsg{why: lineup.Change{Op: lineup.OpOff, Mod: "a"}.String()})
	insist.That(t, m.Top() == frame.Screen(b) && strings.Contains(m.Notice, "Done: switch a off"), "written, it shows %T: %q", m.Top(), m.Notice)
}

func TestEverySize(t *testing.T) {
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
		return newView(m, planMsg{server: "h", why: strings.Repeat("why ", 60), plan: screentest.PlanOf(t)})
	})
}

// A plan is made, backed up before, written, and taken back, on a server that is there: every
// file that comes is in it, every line, and what was agreed to.
func TestPlansAreWritten(t *testing.T) {
	m, seat := screentest.Root(t, 120, 50)
	base := t.TempDir()
	dir := filepath.Join(base, "server")
	screentest.Must(t, os.CopyFS(dir, os.DirFS("../../../demo/harrow-sound")))
	_, err := m.App.Adopt(t.Context(), app.Adoption{Dir: dir, As: "h", Set: map[string]string{"port": "27310"}})
	screentest.Must(t, err)
	screentest.Must(t, errors.Join(os.MkdirAll(filepath.Join(dir, "stores"), 0o755), os.WriteFile(filepath.Join(dir, "stores", "hold"), []byte("fish"), 0o644)))
	source := filepath.Join(base, "kelp_farms")
	for name, data := range map[string]string{"bill.toml": "name = \"kelp_farms\"\nrelease = \"1\"\n", "deck.script": "haul 1\n"} {
		screentest.Must(t, os.MkdirAll(source, 0o755))
		screentest.Must(t, os.WriteFile(filepath.Join(source, name), []byte(data), 0o644))
	}
	before, err := os.ReadFile(filepath.Join(dir, "harbour.start"))
	screentest.Must(t, err)
	shows := func(words ...string) {
		t.Helper()
		for _, w := range words {
			insist.Holds(t, fmt.Sprintf("no %q in", w), screentest.Text(m), w)
		}
	}
	key := func(k string) { screentest.Carry(m, screentest.Hit(m, k)) }

	screentest.Carry(m, seat.Wish(Planned(seat.Desk, "h", lineup.Change{Op: lineup.OpTake, Mod: "kelp_farms", Source: source}, lineup.Change{Op: lineup.OpOff, Mod: "gull_cries"})))
	shows("Plan  take in kelp_farms", "then switch gull_cries off", "cargo/kelp_farms", "comes, 2 files", "harbour.start", "berth kelp_farms", "# berth gull_cries")
	for range 100 {
		key("down")
	}
	key("home")
	shows("cargo/kelp_farms")
	key("b")
	shows("read again and whole")
	key("enter")
	insist.That(t, m.Top() == frame.Screen(seat) && strings.HasPrefix(m.Notice, "Done: ") && strings.HasSuffix(m.Notice, "The next start will show it."), "written, %T says %q", m.Top(), m.Notice)
	if data, err := os.ReadFile(filepath.Join(dir, "cargo/kelp_farms/bill.toml")); err != nil || !strings.Contains(string(data), "kelp_farms") {
		t.Errorf("what comes is %q, %v", data, err)
	}

	screentest.Carry(m, seat.Wish(Planned(seat.Desk, "h", lineup.Change{Op: lineup.OpOff, Mod: "nobody"})))
	insist.That(t, m.Top() == frame.Screen(seat) && m.Bad && strings.Contains(m.Notice, "nobody"), "what cannot be changed opens %T: %q", m.Top(), m.Notice)
	screentest.Carry(m, seat.Wish(Planned(seat.Desk, "h")))
	insist.That(t, m.Top() == frame.Screen(seat) && strings.Contains(m.Notice, "nothing to change"), "nothing opens %T: %q", m.Top(), m.Notice)

	screentest.Carry(m, seat.Wish(Returned(seat.Desk, "h", 0)))
	shows("cargo/kelp_farms", "goes", "berth kelp_farms")
	key("enter")
	after, err := os.ReadFile(filepath.Join(dir, "harbour.start"))
	screentest.Must(t, err)
	if _, gone := os.Stat(filepath.Join(dir, "cargo/kelp_farms")); string(after) != string(before) || gone == nil || !strings.HasPrefix(m.Notice, "Done: ") {
		t.Errorf("taken back, %q says %q, the folder is still there: %v", after, m.Notice, gone == nil)
	}

	p := screentest.PlanOf(t)
	p.Files[0].Form = "Launch parameters"
	planMsg{server: "h", why: "off", plan: p, runs: true}.Open(seat.Desk)
	shows("the field Launch parameters of the web form", "F")
	insist.That(t, screentest.Hit(m, "F") != nil && strings.Contains(m.Notice, "Launch parameters"), "nothing is copied: %q", m.Notice)
	m.Top().Update(appliedMsg{why: "off", err: errors.New("the disk is full")})
	insist.That(t, m.Top() == frame.Screen(seat) && m.Bad && strings.Contains(m.Notice, "the disk is full"), "what went wrong is said in %T: %q", m.Top(), m.Notice)
}
