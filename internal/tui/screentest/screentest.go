// Package screentest helps to test screens: a root to open them in without a terminal,
// keys as a terminal sends them, pictures as text, and what has to hold of every screen.
package screentest

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"initium/dialects"
	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/host"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
)

// Look surveys a harbour with a startup script and mods, each "name: needs".
func Look(t testing.TB, script string, mods ...string) *app.Look {
	t.Helper()
	data, err := fs.ReadFile(dialects.FS, "harrow-sound.toml")
	Must(t, err)
	d, err := dialect.Parse("harrow-sound.toml", data)
	Must(t, err)
	files := fstest.MapFS{"srv/harbour.start": {Data: []byte("let licence x\n" + script)}}
	for _, m := range mods {
		name, needs, _ := strings.Cut(m, ":")
		base := name[strings.LastIndexByte(name, '/')+1:]
		bill := fmt.Sprintf("name = %q\nrelease = '1.0'\n", base)
		if needs != "" {
			bill += fmt.Sprintf("waits_for = ['%s']\n", strings.Join(strings.Fields(needs), "', '"))
		}
		files["srv/cargo/"+name+"/bill.toml"] = &fstest.MapFile{Data: []byte(bill)}
	}
	vars := dialect.Vars{"dir": "/srv", "startup": "harbour.start", "port": "1"}
	s := survey.Take(survey.Input{Server: "h", Dialect: d, Vars: vars, FS: files})
	return &app.Look{Server: &app.Server{Record: host.Record{Name: "h", Dir: "/srv"}, Dialect: d, Vars: vars}, Survey: s,
		Findings: check.Run(s, check.Surroundings{}).Findings}
}

// Proved is a start in which each mod had an outcome: "name outcome".
func Proved(outcomes ...string) *proof.Proof {
	started := time.Now()
	p := &proof.Proof{Number: 3, Verdict: proof.NotProved, Ready: true, ReadyAfterMS: 900, Started: &started}
	for i, o := range outcomes {
		name, outcome, _ := strings.Cut(o, " ")
		end := float64(100 * (i + 1))
		m := proof.Mod{Name: name, Outcome: proof.Outcome(outcome), Registered: outcome != "unlisted", EndedMS: &end}
		if m.Outcome != proof.Silent {
			m.Evidence = []proof.Evidence{{Source: "log", Line: i + 5, Text: "the line about " + name}}
		}
		if m.Outcome == proof.Failed {
			m.Reason = "why " + name + " failed"
		}
		p.Mods = append(p.Mods, m)
	}
	return p
}

// Script registers four of the mods that tests are about, in two sections, and switches one off.
const Script = "# ~~ One ~~\nberth a\nberth b\n# ~~ Two ~~\nberth c\n# berth d\n"

// Seat is the lowest screen of a root in tests: what a server is known by, with nothing on
// it.
type Seat struct {
	*frame.Desk
	Look    *app.Look
	Last    *proof.Proof
	Mod     *survey.Mod // that is chosen, or nil
	Looked  int         // how often it was shown
	Pressed []string    // keys
}

func (s *Seat) Server() string                       { return s.Look.Server.Record.Name }
func (s *Seat) Head(c *canvas.Canvas, starting bool) { c.Put(2, 0, s.Server(), canvas.Title) }
func (s *Seat) Seen() *app.Look                      { return s.Look }
func (s *Seat) LastStart() *proof.Proof              { return s.Last }
func (s *Seat) Pick() (*survey.Mod, *proof.Mod)      { return s.Mod, nil }
func (s *Seat) Update(msg tea.Msg) tea.Cmd           { return nil }
func (s *Seat) Key(k string) tea.Cmd                 { s.Pressed = append(s.Pressed, k); return nil }
func (s *Seat) Draw(c *canvas.Canvas, y, h int)      {}
func (s *Seat) Keys() []frame.Key                    { return nil }
func (s *Seat) Help() []frame.Help                   { return []frame.Help{{Title: "A server"}} }
func (s *Seat) Shown() tea.Cmd                       { s.Looked++; return nil }
func (s *Seat) Again() tea.Cmd                       { return nil }

// Bare is a root without a screen, for a home and on a ground of its own.
func Bare(t testing.TB, w, h int, doors ...frame.Door) *frame.Model {
	t.Helper()
	t.Setenv("INITIUM_BACKGROUND", "dark")
	a := &app.App{Home: host.Home{Dir: t.TempDir()}}
	m := frame.New(t.Context(), a, doors)
	t.Cleanup(func() { m.Wait(); a.Close() })
	m.Update(tea.WindowSizeMsg{Width: w, Height: h})
	return m
}

// Root is a root with nothing but a seat in it.
func Root(t testing.TB, w, h int, doors ...frame.Door) (*frame.Model, *Seat) {
	t.Helper()
	m := Bare(t, w, h, doors...)
	return m, Sit(t, m, "h")
}

// Sit opens a seat for a server.
func Sit(t testing.TB, m *frame.Model, name string) *Seat {
	t.Helper()
	s := &Seat{Look: Look(t, Script, "a", "b: c", "c", "d", "e")}
	s.Look.Server.Record.Name = name
	s.Desk = m.Desk(s)
	m.Open(s)
	return s
}

// PlanOf is a plan that switches a mod off.
func PlanOf(t testing.TB) *plan.Plan {
	t.Helper()
	before := Look(t, Script, "a", "b").Survey.Lineup
	off := lineup.Change{Op: lineup.OpOff, Mod: "a"}
	after, err := before.Apply(off)
	Must(t, err)
	p := plan.Between(before, after)
	p.Changes = []lineup.Change{off}
	return p
}

// Carry carries a command out, and all that comes of it; what keeps a line moving while work
// goes on comes first in a batch, and is carried out last.
func Carry(m *frame.Model, cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case nil:
	case tea.BatchMsg:
		for _, c := range slices.Backward(msg) {
			Carry(m, c)
		}
	default:
		_, next := m.Update(msg)
		Carry(m, next)
	}
}

// Press is a key as the terminal sends it.
func Press(k string) tea.KeyPressMsg {
	codes := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "up": tea.KeyUp, "down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight, "tab": tea.KeyTab, "home": tea.KeyHome, "end": tea.KeyEnd, "pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown, "backspace": tea.KeyBackspace, "space": tea.KeySpace}
	if code, ok := codes[k]; ok {
		return tea.KeyPressMsg{Code: code}
	}
	return tea.KeyPressMsg{Text: k, Code: []rune(k)[0]}
}

// Hit presses a key, and returns what it begins.
func Hit(m *frame.Model, k string) tea.Cmd {
	_, cmd := m.Update(Press(k))
	return cmd
}

// Type types into the prompt, in place of what stands there.
func Type(m *frame.Model, words string) {
	m.Update(tea.KeyPressMsg{Mod: tea.ModCtrl, Code: 'u'})
	_, cmd := m.Update(tea.PasteMsg{Content: words})
	Carry(m, cmd)
}

// Text is the picture that is shown, without its colours.
func Text(m *frame.Model) string { return ansi.Strip(m.View().Content) }

// Plain is what a canvas shows, without colours, and without blanks at the ends of lines.
func Plain(c *canvas.Canvas) string {
	lines := strings.Split(ansi.Strip(c.Render(canvas.NewPalette(canvas.GroundDark))), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.TrimRight(strings.Join(lines, "\n"), "\n")
}

// Shape looks that a picture has the lines of its window, each as wide as it.
func Shape(t testing.TB, m *frame.Model, w, h int, what string) {
	t.Helper()
	lines := strings.Split(m.View().Content, "\n")
	if len(lines) != max(h, 1) {
		t.Fatalf("%s: %d lines in a window of %d", what, len(lines), h)
	}
	for i, line := range lines {
		if got := ansi.StringWidth(line); got != max(w, 1) {
			t.Fatalf("%s: line %d is %d wide in a window of %d: %q", what, i, got, w, ansi.Strip(line))
		}
	}
}

// EverySize looks at a screen in windows of every size: nothing overflows, whatever is shown,
// clicked, scrolled or typed; it says what it is for and how to ask; and its help is its own.
// It returns what its foot offers.
func EverySize(t *testing.T, open func(m *frame.Model, s *Seat) frame.Screen) []frame.Key {
	t.Helper()
	var keys []frame.Key
	for _, size := range [][2]int{{80, 24}, {140, 43}, {200, 60}, {100, 30}, {40, 12}, {20, 6}, {3, 2}, {1, 1}} {
		w, h := size[0], size[1]
		m, seat := Root(t, w, h)
		s := open(m, seat)
		if m.Top() != s {
			m.Open(s)
		}
		shape := func(what string) { t.Helper(); Shape(t, m, w, h, fmt.Sprintf("%v: %s", size, what)) }
		shape("at rest")
		if got := Text(m); w >= 80 && len(strings.Fields(got)) < 10 {
			t.Errorf("in %v it shows nothing:\n%s", size, got)
		} else if lines := strings.Split(got, "\n"); w >= 40 && !strings.Contains(lines[len(lines)-1], "? help") {
			t.Errorf("in %v it has no ? on its foot: %q", size, lines[len(lines)-1])
		}
		Hit(m, "?")
		helped := Text(m)
		for page := 1; strings.Contains(Text(m), "Every change is shown as a plan first") && page < 1000; page++ {
			shape(fmt.Sprintf("help %d", page))
			helped += Text(m)
			Hit(m, "down")
		}
		if w >= 80 && (!strings.Contains(helped, "On every screen") || !strings.Contains(helped, s.Help()[0].Title)) {
			t.Errorf("in %v its help is\n%s", size, helped)
		}
		Hit(m, "esc")
		m.Prompt = frame.NewPrompt("Title: ", strings.Repeat("x", 90), nil)
		shape("typing")
		m.Prompt = nil
		m.Update(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
		shape("scrolled down")
		m.Update(tea.MouseWheelMsg{Button: tea.MouseWheelUp})
		shape("scrolled up")
		for y := range h {
			m.Update(tea.MouseClickMsg{X: 5, Y: y})
			shape("clicked")
		}
		keys = slices.Clone(s.Keys())
	}
	return keys
}

// Must ends a test whose ground is missing.
func Must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
