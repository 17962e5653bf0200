package servers

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/host"
	"initium/internal/insist"
	"initium/internal/tui/board"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

func TestServerStates(t *testing.T) {
	soon := time.Now()
	proved := &proof.Proof{Number: 3, Verdict: proof.Proved, Started: &soon}
	for want, s := range map[string]app.Summary{
		"restarting":      {State: host.State{Up: true, Waiting: true, Exit: &host.Exit{Status: 3, Again: &soon}}},
		"lost its keeper": {State: host.State{Up: true, Lost: []int{12}}},
		"running":         {State: host.State{Up: true}},
		"crashed":         {State: host.State{Number: 3, Exit: &host.Exit{How: host.EndedItself, Status: 1}}, Last: proved},
		"stopped":         {State: host.State{Number: 3, Exit: &host.Exit{How: host.EndedStop}}, Last: proved},
	} {
		s.Name = "s"
		l := &serverList{list: []app.Summary{s}, loaded: true}
		c := canvas.New(80, 24)
		l.Draw(c, 0, 20)
		insist.Holds(t, fmt.Sprintf("no %q in", want), screentest.Plain(c), want)
	}
}

// A server is adopted without leaving the screen: its folder is chosen from a list that
// tells which family fits, its values are asked with what holds by itself, and its board
// opens. They can be changed later, and begun anew for a folder that no dialect knows.
func TestAdoptOnTheScreen(t *testing.T) {
	m := screentest.Bare(t, 100, 30)
	m.App.Exe = os.Args[0] // the demo's servers are played by the program itself
	list := New(m, "")
	m.Open(list)
	screentest.Carry(m, list.Shown())
	dir := t.TempDir()
	screentest.Must(t, errors.Join(os.CopyFS(filepath.Join(dir, "pier"), os.DirFS("../../../demo/harrow-sound")), os.MkdirAll(filepath.Join(dir, "shed", "mods", "axe"), 0o755), os.WriteFile(filepath.Join(dir, "shed", "go.txt"), []byte("# \x1b[2Jshed\nuse axe\n"), 0o644)))
	keys := func(list ...string) {
		for _, k := range list {
			_, cmd := m.Update(screentest.Press(k))
			screentest.Carry(m, cmd)
		}
	}
	type_ := func(s string) { screentest.Carry(m, func() tea.Msg { return tea.PasteMsg{Content: s} }) }
	shows := func(wants ...string) {
		t.Helper()
		got := m.View().Content
		for _, want := range wants {
			insist.Holds(t, fmt.Sprintf("it does not show %q", want), got, want)
		}
	}
	shows("No server is adopted yet", "adopt one")
	keys("a")
	type_(dir + "/")
	shows("pier/", "harrow-sound", "shed/")
	keys("down", "enter")
	f, ok := m.Top().(*serverForm)
	insist.Need(t, ok && f.selected == f.rows()-1, "after the folder comes %T", m.Top())
	shows("◆ its files fit", "Adopt it")
	keys("home", "enter", "backspace")
	type_("s-2")
	keys("enter") // its name
	at := formHead
	for f.values[at-formHead].Name != "port" {
		at++
	}
	f.choose(at)
	keys("enter")
	screentest.Type(m, "x")
	keys("enter")
	insist.That(t, m.Bad && strings.Contains(m.Notice, "no port"), "a port that is none: %q", m.Notice)
	keys("enter")
	screentest.Type(m, "31999")
	keys("enter", "end", "enter")
	if b, ok := m.Top().(*board.Board); !ok || b.Server() != "pies-2" {
		t.Fatalf("after it was adopted comes %T", m.Top())
	}
	keys("esc")
	insist.Need(t, m.Top() == list && len(list.list) == 1 && list.list[0].Port == "31999", "the servers are %+v", list.list)
	keys("e")
	f = m.Top().(*serverForm)
	for i, v := range f.values {
		if v.Name == "port" {
			f.choose(i)
		}
	}
	keys("enter")
	screentest.Type(m, "31998")
	keys("enter")
	if entries, err := m.App.Ledger("pies-2"); err != nil || len(entries) != 2 || entries[1].Why != "give: port is 31998, not 31999" {
		t.Errorf("the ledger has %+v, %v", entries, err)
	}
	shows("31998")
	keys("enter")
	screentest.Type(m, "")
	keys("enter")
	if v := f.value(); v.Given || v.Value == "31998" {
		t.Errorf("taken back it is %+v", v)
	}
	keys("esc", "a")
	screentest.Type(m, dir+"/shed")
	keys("enter")
	f = m.Top().(*serverForm)
	insist.Same(t, "of a folder that none fits row", f.selected, 1)
	shows("its files do not fit", "No dialect recognises this folder")
	keys("right", "left", "D")
	type_("go.txt")
	keys("enter")
	insist.Need(t, m.Top() != frame.Screen(f), "a dialect is not begun: %q", m.Notice)
	shows("use axe", "# shed")
	keys("down", "enter", "enter", "enter")
	shows("written", "shed.toml")
	keys("esc")
	if m.Top() != frame.Screen(f) || f.about.Fit != 0 && f.about.Families[0] != "shed" {
		t.Errorf("after it comes %T with %+v", m.Top(), f.about)
	}
	keys("esc", "a")
	screentest.Type(m, dir+"/shed/go.txt")
	keys("enter")
	insist.That(t, m.Top() == list && m.Bad && strings.Contains(m.Notice, "it is a file"), "a file: %T, %q", m.Top(), m.Notice)
}

// A server is begun in a folder that is not there yet: its family, what it is laid out from, what it has to be told.
func TestBeginOnTheScreen(t *testing.T) {
	m := screentest.Bare(t, 100, 34)
	m.App.Exe = os.Args[0]
	list := New(m, "")
	m.Open(list)
	screentest.Carry(m, list.Shown())
	dir := t.TempDir()
	screentest.Must(t, errors.Join(os.MkdirAll(filepath.Join(dir, "engine-2"), 0o755), os.WriteFile(filepath.Join(dir, "engine-2", "VERSION"), []byte("2\n"), 0o644)))
	keys := func(list ...string) {
		for _, k := range list {
			_, cmd := m.Update(screentest.Press(k))
			screentest.Carry(m, cmd)
		}
	}
	answer := func(s string) {
		screentest.Type(m, s)
		keys("enter")
	}
	shows := func(wants ...string) {
		t.Helper()
		for _, want := range wants {
			insist.Holds(t, fmt.Sprintf("it does not show %q", want), m.View().Content, want)
		}
	}
	keys("a")
	answer(dir + "/new one")
	f := m.Top().(*beginForm)
	for range f.families {
		if f.b.Dialect == "cogwheel-fair" {
			break
		}
		keys("right")
	}
	shows("Begin a server", "cogwheel-fair", "It cannot be made so: ", "choose one with --as")
	keys("up", "enter")
	answer("fair")
	shows("the engine: looked for", "fair.json", "is written")
	keys("down", "down", "enter")
	answer(dir + "/engine-2")
	shows("engine-2", "the engine comes, 1 file", "the engine has version 2, and >=3 is needed")
	keys("enter")
	answer("")
	shows("the engine: looked for")
	keys("enter")
	answer(dir + "/nowhere")
	insist.That(t, m.Bad && strings.Contains(m.Notice, "nowhere") && len(f.b.From) == 0, "%q, %q", m.Notice, f.b.From)
	for range f.families {
		if f.b.Dialect == "harrow-sound" {
			break
		}
		f.selected = 1
		keys("right")
	}
	f.Update(begunMsg{asked: f.asked - 1, b: app.Beginning{Dialect: "cogwheel-fair"}, err: errors.New("too late")})
	insist.That(t, f.b.Dialect == "harrow-sound" && f.problem == "", "an answer to what was said before that counts: %+v, %q", f.b, f.problem)
	shows("licence", "✕ HS-PUT-YOURS-HERE", "✕ before its first start: licence still has the value of the template")
	for f.selected = f.settings(); f.begun.Settings[f.selected-f.settings()].Name != "licence"; {
		keys("down")
	}
	keys("enter")
	answer("HS-MY-OWN")
	shows("given", "◆ nothing stands in the way of its first start", "••••••")
	insist.Lacks(t, "a secret", m.View().Content, "HS-MY-OWN")
	f.selected = f.values() + 2
	insist.Same(t, "a value", f.begun.Values[2].Name, "port")
	keys("enter")
	answer("30777")
	shows("30777")
	insist.That(t, isNot(filepath.Join(dir, "new one")), "something was written")
	keys("end", "enter")
	insist.That(t, !isNot(filepath.Join(dir, "new one/harbour.start")), "it was not made: %q", m.Notice)
	_, opened := m.Top().(*board.Board)
	insist.That(t, opened, "its board is not opened: %T", m.Top())
	script, err := os.ReadFile(filepath.Join(dir, "new one/harbour.start"))
	insist.OK(t, err)
	insist.Holds(t, "its script", string(script), "let licence HS-MY-OWN", "let port    30777")
}

// isNot tells whether there is nothing of a name.
func isNot(name string) bool { _, err := os.Lstat(name); return err != nil }

// Whatever the list shows, and both forms, fit into every window.
func TestEverySize(t *testing.T) {
	listed := []app.Summary{{Name: "h", Dialect: "Harbour", Port: "1", Last: screentest.Proved("a failed")}, {Name: "x", Problem: strings.Repeat("long words ", 30)}}
	for name, list := range map[string][]app.Summary{"servers": listed, "none": nil} {
		t.Run(name, func(t *testing.T) {
			screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
				l := New(m, "")
				l.loaded, l.list = true, list
				return l
			})
		})
	}
	form := func(open func(m *frame.Model, dir string) *serverForm) func(*testing.T) {
		return func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "server")
			screentest.Must(t, os.CopyFS(dir, os.DirFS("../../../demo/harrow-sound")))
			screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
				_, err := m.App.Adopt(t.Context(), app.Adoption{Dir: dir, As: "h"})
				screentest.Must(t, err)
				f := open(m, dir)
				m.Open(f)
				screentest.Carry(m, f.Shown())
				return f
			})
		}
	}
	t.Run("beginning", func(t *testing.T) {
		screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
			f := newBeginning(m, func(string) {}, filepath.Join(t.TempDir(), strings.Repeat("long", 20)))
			m.Open(f)
			screentest.Carry(m, f.Shown())
			return f
		})
	})
	t.Run("adoption", form(func(m *frame.Model, dir string) *serverForm { return newAdoption(m, func(string) {}, dir) }))
	t.Run("values", form(func(m *frame.Model, dir string) *serverForm { return newValues(m, &app.Summary{Name: "h", Dir: dir}) }))
}

// A click chooses a server; a second one opens its board.
func TestMouse(t *testing.T) {
	m := screentest.Bare(t, 140, 43)
	l := New(m, "")
	m.Open(l)
	l.loaded, l.list = true, []app.Summary{{Name: "h"}, {Name: "x"}}
	click := func() { m.Update(tea.MouseClickMsg{X: 5, Y: frame.HeadHeight + 2}) }
	if click(); l.selected != 1 {
		t.Error("a click chooses no server")
	}
	if click(); m.Top().(*board.Board).Server() != "x" {
		t.Error("a second click opens another's board")
	}
}

// Looks at all servers do not pile up.
func TestLooksDoNotPileUp(t *testing.T) {
	l := New(screentest.Bare(t, 80, 24), "")
	insist.That(t, l.reload() != nil && l.reload() == nil && l.judgeLate() != nil && l.judgeLate() == nil, "a second look begins beside the first")
}
