package differview

import (
	"errors"
	"strings"
	"testing"

	"initium/internal/core/differ"
	"initium/internal/insist"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

var some = []differ.Difference{
	{Kind: differ.KindMod, Name: "kelp", A: "1.3 on", B: ""}, {Kind: differ.KindOrder, Name: "tides", A: "first", B: "behind maps"},
	{Kind: differ.KindSetting, Where: "start", Name: "slots", A: "8", B: "12"}, {Kind: differ.KindSetting, Where: "start", Name: "port", A: "1", B: "2", Own: true},
}

func opened(t *testing.T, w, h int, list []differ.Difference, others ...string) (*frame.Model, *screentest.Seat, *view) {
	t.Helper()
	m, seat := screentest.Root(t, w, h)
	v := &view{server: "h"}
	v.Desk = m.Desk(v)
	v.set(differMsg{server: "h", others: others, list: list})
	m.Open(v)
	return m, seat, v
}

func TestDifferView(t *testing.T) {
	m, seat, v := opened(t, 110, 20, some, "live", "old")
	c := canvas.New(110, 20)
	v.Draw(c, 0, 20)
	got := screentest.Plain(c)
	insist.Holds(t, "side by side", got, "h  beside  live   3 differences, and 1 of each one's own", "▌ mod          kelp", "1.3 on", "·", "setting      slots", "12")
	insist.Holds(t, "the chosen one in full", got, "kelp\n  h     1.3 on\n  live  ·")
	for range 9 {
		screentest.Hit(m, "down")
	}
	insist.Same(t, "the last is chosen", v.chosen, 3)
	insist.That(t, screentest.Hit(m, ">") == nil && strings.Contains(m.Notice, "is not carried"), "what is its own is carried: %q", m.Notice)
	screentest.Hit(m, "up")
	insist.That(t, screentest.Hit(m, ">") != nil && v.Stuck && screentest.Hit(m, "<") == nil && screentest.Hit(m, "right") == nil, "one wish at a time")
	v.Stuck = false
	v.Update(carriedMsg{to: "live", said: "set slots to 8"})
	insist.Same(t, "said", m.Notice, "Staged on live: set slots to 8. Its plan shows the lines.")
	v.Update(carriedMsg{err: errors.New("it cannot be")})
	insist.That(t, m.Bad && m.Notice == "it cannot be", "%q", m.Notice)
	v.Update(carriedMsg{to: "live", said: "a loads before b", kind: differ.KindRule})
	insist.Same(t, "said", m.Notice, "Written down on live: a loads before b.")
	v.Update(ownMsg{name: "slots", own: true})
	insist.Holds(t, "own", m.Notice, "slots is each one's own from now on")
	v.Update(ownMsg{name: "slots"})
	insist.Holds(t, "not any more", m.Notice, "slots is no longer each one's own")
	v.chosen = 0
	insist.That(t, screentest.Hit(m, "V") == nil && strings.Contains(m.Notice, "Only a setting"), "a mod is each one's own: %q", m.Notice)
	v.chosen = 2
	insist.That(t, screentest.Hit(m, "V") != nil && v.Stuck, "V asks nobody")
	v.Stuck = false
	insist.That(t, screentest.Hit(m, "left") != nil, "no other is asked for")
	v.Stuck = false
	v.set(differMsg{others: []string{"live"}})
	insist.That(t, v.chosen == 0 && screentest.Hit(m, "left") == nil && strings.Contains(m.Notice, "no further server"), "%q", m.Notice)
	c = canvas.New(80, 10)
	v.Draw(c, 0, 10)
	insist.Holds(t, "alike", screentest.Plain(c), "Nothing is otherwise")
	insist.That(t, screentest.Hit(m, ">") == nil, "nothing is carried")
	screentest.Hit(m, "esc")
	insist.That(t, m.Top() == frame.Screen(seat), "Esc does not leave")
}

func TestEverySize(t *testing.T) {
	long := strings.Repeat("long words ", 30)
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
		v := &view{server: long}
		v.Desk = m.Desk(v)
		v.set(differMsg{others: []string{long}, list: append([]differ.Difference{{Kind: differ.KindFile, Name: long, A: long, B: long}}, some...)})
		return v
	})
}
