package culpritview

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/core/culprit"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/core/remedy"
	"initium/internal/insist"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

func TestCulpritView(t *testing.T) {
	v := &view{server: "s", symptom: "boom.*", began: time.Now(), cancel: func() {}, news: frame.NewStream[step]()}
	show := func() string {
		c := canvas.New(130, 24)
		v.Draw(c, 0, 24)
		return screentest.Plain(c)
	}
	try := func(on, atMost int, why string) app.Tried {
		return app.Tried{Try: culprit.Try{On: make([]string, on), Why: why, AtMost: atMost, Learned: "something", Run: 1, Runs: 2}, Of: 8}
	}
	v.take(try(8, 6, "whether it fails"))
	insist.Holds(t, "before the first start", show(), "8 of 8", "◦ starting", "a log line that fits boom.*", "so far      something")
	done := try(8, 6, "whether it fails")
	done.Done, done.Failed, done.Took = true, true, 2*time.Second
	v.take(done)
	v.take(try(4, 5, "in which half it is"))
	if got := show(); !strings.Contains(got, "✕ fails") || !strings.Contains(got, "1 made, 5 to come at the most, about 10.0 s at the longest") || len(v.tries) != 2 {
		t.Errorf("after it:\n%s", got)
	}
	m, _ := screentest.Root(t, 120, 30)
	v.Desk = m.Desk(v)
	m.Open(v)
	if cmd := v.Update(stepsMsg{ended: true, steps: []step{{ended: true, found: &app.Culprits{Culprits: []string{"x", "y"}, With: []string{"z"}, Reason: "it sank", Evidence: []proof.Evidence{{Line: 4, Text: "sunk"}}, Starts: 9, Rate: 0.5, Repeat: 3, Instead: []remedy.Remedy{{Text: "move z before y"}},
		Changes: []lineup.Change{{Op: lineup.OpOff, Mod: "x"}}}}}}); cmd != nil {
		t.Error("a result asks for more")
	}
	got := show()
	for _, want := range []string{"found, in 9 starts", "the culprits, together: x, y", "needs       z", "because     it sank", "log 4       sunk", "in about 50 % of the starts; 3 without it", "look at it with doubt", "remedy      switch x off", "or perhaps  move z before y   (2 plans it; it was not tried)"} {
		insist.Holds(t, fmt.Sprintf("no %q in", want), got, want)
	}
	v.found, v.err = nil, errors.New("no port is free")
	insist.Holds(t, "after an error", show(), "could not be carried on", "no port is free")
	v.err, v.found = nil, &app.Culprits{Problem: "it did not fail"}
	insist.Holds(t, "without a culprit", show(), "no culprit", "it did not fail")
}

// Searches on two servers go on side by side; each is found again from its own board, and
// all have ended when the screen has.
func TestTwoSearches(t *testing.T) {
	m, first := screentest.Root(t, 100, 30)
	ctx, cancel := context.WithCancel(t.Context())
	m.Ctx = ctx
	search(first.Desk, "h", "one")
	one := m.Top()
	screentest.Hit(m, "esc")
	second := screentest.Sit(t, m, "other")
	search(second.Desk, "other", "two")
	two := m.Top()
	screentest.Hit(m, "esc")
	if ask(second); m.Top() != two || one == two {
		t.Errorf("the second server's own search is not shown again")
	}
	screentest.Hit(m, "esc")
	second.Back()
	if ask(first); m.Top() != one {
		t.Error("the first search is lost")
	}
	cancel()
	ended := make(chan struct{})
	go func() { m.Wait(); close(ended) }()
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Error("a search goes on when the screen has ended")
	}
}

func TestEverySize(t *testing.T) {
	long := strings.Repeat("long words ", 30)
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
		v := &view{server: "h", symptom: long, began: time.Now(), cancel: func() {}, news: frame.NewStream[step]()}
		v.Desk = m.Desk(v)
		v.take(app.Tried{Try: culprit.Try{On: make([]string, 5), Why: long, AtMost: 4, Learned: long}, Of: 8})
		return v
	})
}
