package compareview

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/proof"
	"initium/internal/insist"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

func TestCompareView(t *testing.T) {
	m, seat := screentest.Root(t, 80, 10)
	v := newView(m, "h", &proof.Comparison{Starts: [2]int{2, 5}, Verdicts: [2]proof.Verdict{proof.Proved, proof.NotProved}, Came: []string{"new_one"}, Gone: []string{"old_one"},
		Releases: []proof.Difference{{Mod: "a", Then: "1", Now: "2"}}, Outcomes: []proof.Difference{{Mod: "b", Then: "confirmed", Now: "failed"}}, Moved: []string{"c"},
		Settings: []proof.Difference{{Mod: "title", Now: "X"}}, Files: []proof.FileChange{{Mod: "a", Path: "x.lua", What: "changed"}}, Times: []proof.LoadTime{{Mod: "a", Then: 10, Now: 500}},
		New: []proof.Remark{{Line: 9, Text: "error here", Mod: "a", Sure: proof.SureName}}, Old: []proof.Remark{{Text: "gone now"}}, ReadyMS: [2]int64{1000, 2000}})
	c := canvas.New(100, 30)
	v.Draw(c, 0, 30)
	got := screentest.Plain(c)
	for _, want := range []string{"start 5, not proved  beside  start 2, proved", "mods        + new_one is new", "− old_one is gone", "~ a: release 2, was 1", "✕ b: failed, was confirmed", "order       ↕ loaded at another place: c",
		"settings    ~ title: X, was not set", "files       ~ a: x.lua is changed", "times       ~ a took 500 ms to load, was 10 ms", "log, new    ▲ line 9: error here   (a, by its name)", "log, gone     gone now"} {
		insist.Holds(t, fmt.Sprintf("no %q in", want), got, want)
	}
	m.Open(v)
	for range 30 {
		screentest.Hit(m, "down")
		v.Draw(canvas.New(80, 6), 0, 6)
	}
	insist.That(t, v.first == len(v.lines)-4, "scrolled to %d of %d", v.first, len(v.lines))
	screentest.Hit(m, "esc")
	insist.That(t, m.Top() == frame.Screen(seat), "Esc does not leave")
	same := newView(m, "h", &proof.Comparison{})
	c = canvas.New(80, 10)
	same.Draw(c, 0, 10)
	insist.Holds(t, "two that are alike", screentest.Plain(c), "Nothing of note differs.")
}

func TestEverySize(t *testing.T) {
	long := strings.Repeat("long words ", 30)
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
		return newView(m, "h", &proof.Comparison{Came: []string{long}, Gone: []string{"b"}, Moved: []string{long}, New: []proof.Remark{{Line: 3, Text: long}}})
	})
}
