package buildsview

import (
	"errors"
	"strings"
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/insist"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

var some = []app.PartThere{
	{Part: "build", Version: "1.9", Path: "/srv/h/builds/1.9", Unfit: map[string]string{"oats": ">=2"}},
	{Part: "build", Version: "2.0", Path: "/srv/h/builds/2.0", Used: true, Said: "start.sh", Changed: time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)},
	{Part: "wheel", Path: "/usr/bin/wheel", Problem: "no version is in what was found"},
	{Part: "wheel", Version: "1", Path: "/srv/h/wheel", Wants: ">=2", About: "the wheel"},
}

func opened(t *testing.T, w, h int, list []app.PartThere) (*frame.Model, *screentest.Seat, *view) {
	t.Helper()
	m, seat := screentest.Root(t, w, h)
	v := &view{}
	v.Desk = m.Desk(v)
	v.set(listMsg{server: "h", dir: "/srv/h", list: list})
	m.Open(v)
	return m, seat, v
}

func TestBuildsView(t *testing.T) {
	m, seat, v := opened(t, 120, 24, some)
	drawn := func(w int) string {
		c := canvas.New(w, 22)
		v.Draw(c, 0, 22)
		return screentest.Plain(c)
	}
	insist.Holds(t, "listed", drawn(120), "▌   build       1.9             builds/1.9", "◆ build       2.0", "1 Mar 2026", "✕ 1 mod", "✕ no version is in what was found", "✕ the server wants >=2", "not known",
		"oats wants >=2", "Enter plans to use it")
	screentest.Hit(m, "down")
	insist.Holds(t, "the used one", drawn(80), "It is used: start.sh names it.")
	insist.That(t, screentest.Hit(m, "enter") == nil && strings.Contains(m.Notice, "is used"), "%q", m.Notice)
	for range 5 {
		screentest.Hit(m, "down")
	}
	insist.Same(t, "the last is chosen", v.chosen, 3)
	insist.Holds(t, "too old", drawn(80), "The server wants >=2 of it.")
	insist.That(t, screentest.Hit(m, "enter") != nil && v.Stuck && screentest.Hit(m, "N") == nil, "one wish at a time")
	v.Stuck = false
	screentest.Hit(m, "N")
	insist.That(t, m.Prompt != nil, "N asks for nothing")
	screentest.Hit(m, "esc")
	v.Update(listMsg{err: errors.New("it cannot be")})
	insist.That(t, m.Bad && m.Notice == "it cannot be", "%q", m.Notice)
	listMsg{}.Open(v.Desk)
	insist.Holds(t, "none", m.Notice, "tells of no builds")
	v.Update(listMsg{server: "h", list: some[:1]})
	insist.Same(t, "fewer", v.chosen, 0)
	screentest.Hit(m, "esc")
	insist.That(t, m.Top() == frame.Screen(seat), "Esc does not leave")
}

func TestEverySize(t *testing.T) {
	long := strings.Repeat("long words ", 30)
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
		v := &view{}
		v.Desk = m.Desk(v)
		v.set(listMsg{server: long, dir: "/srv", list: []app.PartThere{{Part: long, Version: long, Path: "/srv/" + long, Problem: long, About: long, Used: true, Said: long}, {Part: "x", Wants: long, Unfit: map[string]string{long: long, "b": long}}}})
		return v
	})
}

// A loader lies over the server: there is one or none, and one that was laid from here can be taken out.
func TestLoaderInBuildsView(t *testing.T) {
	m, _, v := opened(t, 120, 24, []app.PartThere{{Part: "grist", Of: dialect.PartLoader, About: "the grist", Path: "/srv/h", Absent: true, Unfit: map[string]string{"oats": ">=2"}}})
	drawn := func() string {
		c := canvas.New(120, 22)
		v.Draw(c, 0, 22)
		return screentest.Plain(c)
	}
	insist.Holds(t, "none", drawn(), "grist       none            over its folder", "✕ 1 mod", "There is none. Enter lays one over the server")
	insist.That(t, screentest.Hit(m, "d") == nil, "there is nothing to take out")
	screentest.Hit(m, "enter")
	insist.That(t, m.Prompt != nil, "enter asks for nothing")
	screentest.Hit(m, "esc")
	v.Update(listMsg{server: "h", dir: "/srv/h", list: []app.PartThere{{Part: "grist", Of: dialect.PartLoader, Version: "1", Path: "/srv/h", Used: true, Said: "laid over it", Laid: []string{"/srv/h/a", "/srv/h/b"}}}})
	insist.Holds(t, "laid", drawn(), "◆ grist       1", "laid over the server from here, with 2 files", "d takes it out")
	screentest.Hit(m, "enter")
	insist.Holds(t, "it is used", m.Notice, "It lies over the server")
	insist.That(t, screentest.Hit(m, "d") != nil, "d takes nothing out")
	v.Stuck = false
	v.Update(listMsg{server: "h", dir: "/srv/h", list: []app.PartThere{{Part: "grist", Of: dialect.PartLoader, Version: "1", Path: "/srv/h", Used: true, Said: "found there"}}})
	insist.Holds(t, "found", drawn(), "It was there when the server was adopted.")
}
