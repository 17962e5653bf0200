package learnview

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/app"
	"initium/internal/insist"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

// opened is the screen with what it has heard.
func opened(m *frame.Model, events ...event) *view {
	screen, _ := New(m, "kiln", "/srv/kiln")
	v := screen.(*view)
	m.Open(v)
	v.Update(lookedMsg{ways: []string{"in kiln.list, as lines"}, command: []string{"{dir}/kiln.sh"}})
	if len(events) > 0 {
		v.cancel, v.news = func() {}, frame.NewStream[event]()
		v.Update(eventsMsg{events: events, ended: true})
	}
	return v
}

func TestToldOfLearning(t *testing.T) {
	whole := &app.Learned{Ways: []string{"in kiln.list, as lines", "by being in glazes"}, Rules: []app.LearnedRule{{Means: "loaded", Line: "glaze {mod} is on", Why: "in 2 of 2 starts"}, {Means: "loaded", Why: "in its memory"}},
		Fates: []string{"a name that is nowhere fails"}, Trial: app.LearnAgreement{Lineups: 10, Exact: 10, Mods: 22, Shown: 20, Right: 20}}
	part := &app.Learned{Ways: []string{"in kiln.list, as lines"}, Unsaid: []string{"when it is ready"}, Problems: []string{"a rule that means ready is needed"}, Notes: []string{"not tried: moved"}, Trial: app.LearnAgreement{Lineups: 2, Exact: 1, Differed: []string{"without a: b was other"}}}
	for name, test := range map[string]struct {
		events []event
		want   []string
	}{
		"looked":    {nil, []string{"looked, and nothing started yet", "mods may be in kiln.list, as lines", "started by  {dir}/kiln.sh", "Enter starts copies"}},
		"under way": {[]event{{phase: "looking"}, {phase: "start 1: as it is"}}, []string{"finding out by copies, 2 steps so far", "✓ looking", "▸ start 1: as it is"}},
		"learned":   {[]event{{phase: "looking"}, {ended: true, learned: whole}}, []string{"◆ learned", "10 of 10 random line-ups came out as foretold, 20 of 20 mods", "2 more are not counted", "loaded      glaze {mod} is on", "in 2 of 2 starts", "in its memory", "fates       a name that is nowhere fails", "or else     by being in glazes"}},
		"in part":   {[]event{{ended: true, learned: part}}, []string{"✕ learned in part", "1 of 2 random line-ups", "not found   when it is ready", "lacks       a rule that means ready is needed", "differed    without a: b was other", "notes       not tried: moved"}},
		"stopped":   {[]event{{ended: true, err: context.Canceled}}, []string{"stopped", "Enter tries once more"}},
		"could not": {[]event{{ended: true, err: errors.New("no \x1b[2Jroom")}}, []string{"✕ it could not be carried on", "room"}},
	} {
		m, _ := screentest.Root(t, 120, 40)
		v := opened(m, test.events...)
		c := canvas.New(120, 40)
		v.Draw(c, 0, 40)
		insist.Holds(t, name, screentest.Plain(c), test.want...)
		insist.Lacks(t, name, screentest.Plain(c), "\x1b")
	}
}

// What is missing is asked for, and a look that finds nothing says what to do.
func TestAsked(t *testing.T) {
	m, _ := screentest.Root(t, 120, 40)
	dir := t.TempDir()
	insist.OK(t, os.WriteFile(filepath.Join(dir, "kiln.list"), []byte("glaze celadon\nglaze ash\n"), 0o644))
	insist.OK(t, os.MkdirAll(filepath.Join(dir, "glazes/celadon"), 0o755))
	insist.OK(t, os.MkdirAll(filepath.Join(dir, "glazes/ash"), 0o755))
	screen, look := New(m, "kiln", dir)
	v := screen.(*view)
	m.Open(v)
	insist.Holds(t, "at first", screentest.Text(m), "looking through the folder")
	screentest.Carry(m, look())
	insist.Holds(t, "without a program", screentest.Text(m), "something is to be said first")
	insist.Holds(t, "without a program", v.lacks, "say it with --start")
	screentest.Carry(m, screentest.Hit(m, "enter")) // nothing can be started
	insist.That(t, v.news == nil, "it is tried all the same")
	screentest.Hit(m, "y")
	screentest.Type(m, "true {dir}")
	screentest.Carry(m, screentest.Hit(m, "enter"))
	insist.Holds(t, "with one", screentest.Text(m), "started by  true {dir}", "Enter starts copies", "in kiln.list")
	screentest.Hit(m, "w")
	screentest.Type(m, "whale")
	screentest.Carry(m, screentest.Hit(m, "enter"))
	insist.Holds(t, "of a mod that is nowhere", v.lacks, "names whale in a way")
	screentest.Hit(m, "esc")
	insist.That(t, m.Top() != frame.Screen(v), "Esc does not leave it")
}

// What was learned is written when the operator says so, and not twice.
func TestWritten(t *testing.T) {
	m, _ := screentest.Root(t, 120, 40)
	v := opened(m, event{ended: true, learned: &app.Learned{Ways: []string{"x"}, File: filepath.Join(t.TempDir(), "dialects", "kiln.toml")}})
	screentest.Carry(m, screentest.Hit(m, "enter"))
	insist.That(t, v.written, "it is not written")
	insist.Holds(t, "the screen", screentest.Text(m), "◆ learned, and written", "kiln is a family now")
	insist.OK(t, insist.Err(os.Stat(v.learned.File)))
	insist.OK(t, os.Remove(v.learned.File))
	screentest.Carry(m, screentest.Hit(m, "enter"))
	_, err := os.Stat(v.learned.File)
	insist.That(t, err != nil, "it is written once more")
	m, _ = screentest.Root(t, 120, 40)
	v = opened(m, event{phase: "start 1"})
	stopped := false
	v.cancel = func() { stopped = true }
	screentest.Hit(m, "esc")
	insist.That(t, stopped && m.Top() == frame.Screen(v), "Esc does not stop what goes on")
}

func TestEverySize(t *testing.T) {
	long := strings.Repeat("long words ", 30)
	l := &app.Learned{Ways: []string{long, long}, Rules: []app.LearnedRule{{Means: "loaded", Line: long, Why: long}}, Unsaid: []string{long}, Notes: []string{long}}
	for range 8 {
		l.Fates = append(l.Fates, long)
	}
	for _, events := range [][]event{nil, {{phase: long}, {phase: "x"}}, {{ended: true, learned: l}}, {{ended: true, err: errors.New(long)}}} {
		screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen { return opened(m, events...) })
	}
}
