package watch

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/expect"
	"initium/internal/core/proof"
	"initium/internal/host"
	"initium/internal/insist"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
	"initium/internal/tui/screentest"
)

// drawn is what a watch shows.
func (w *Watch) drawn() string {
	c := canvas.New(200, 30)
	w.Draw(c, 0, 30)
	return screentest.Plain(c)
}

// stopped is a clock that does not go on, at noon.
var noon = time.Date(2026, 1, 2, 12, 0, 0, 0, time.UTC)

func stopped() time.Time { return noon }

func TestWatchView(t *testing.T) {
	w := &Watch{server: "h", names: []string{"a", "b", "c"}, clock: stopped, last: screentest.Proved("a confirmed"), news: frame.NewStream[app.Step]()}
	w.take(app.Step{Limit: time.Minute, Elapsed: 1500 * time.Millisecond, SoFar: screentest.Proved("a confirmed", "b failed", "c silent"),
		Status: proof.Status{Done: 2, Failed: 1, Now: "c", Owed: []string{"c"}}, New: []proof.Line{{Number: 1, Text: "hello"}}})
	shows := func() string {
		c := canvas.New(90, 20)
		w.Draw(c, 0, 20)
		return screentest.Plain(c)
	}
	for _, want := range []string{"loading c", "1.5 s of 60 s at most", "(start 3 took 0.90 s; it is 1 s late by that)", "2 of 3 mods spoken for, 1 failed", "✕ b", "◦ c", "1   hello"} {
		insist.Holds(t, fmt.Sprintf("no %q in", want), shows(), want)
	}
	w.result = screentest.Proved("a confirmed", "b failed", "c silent")
	w.soFar, w.result.Reason = w.result, "2 of 3 registered mods are not confirmed"
	for _, want := range []string{"✕ not proved", "ready after 0.90 s", "2 of 3 registered mods are not confirmed", "◌ c", "silent"} {
		insist.Holds(t, fmt.Sprintf("no %q in", want), shows(), want)
	}
}

func TestWatchPhases(t *testing.T) {
	soon := time.Now().Add(4 * time.Second)
	good, bad := &proof.Proof{Verdict: proof.Proved, Ready: true, ReadyAfterMS: 1500}, &proof.Proof{Verdict: proof.NotProved, Reason: "1 of 2 registered mods is not confirmed"}
	for name, test := range map[string]struct {
		set  func(*Watch)
		want string
	}{
		"starting":   {func(*Watch) {}, "starting"},
		"loading":    {func(w *Watch) { w.step.Status.Now = "b\x1b[2J" }, "loading b"},
		"settling":   {func(w *Watch) { w.step.Settling = true }, "ready; watching that it stays up"},
		"asking":     {func(w *Watch) { w.step.Settling, w.step.Asking = true, true }, "ready; asking the server itself"},
		"proved":     {func(w *Watch) { w.result = good }, "◆ proved; running"},
		"not proved": {func(w *Watch) { w.result = bad }, "✕ not proved; running"},
		"why":        {func(w *Watch) { w.result = bad }, "1 of 2 registered mods is not confirmed; the server runs on"},
		"the demo":   {func(w *Watch) { w.result, w.passing = bad, true }, "whatever you close, until the demo ends."},
		"stopped":    {func(w *Watch) { w.result, w.exit = good, &host.Exit{How: host.EndedStop} }, "◆ proved; stopped"},
		"crashed":    {func(w *Watch) { w.result, w.exit = good, &host.Exit{How: host.EndedItself, Status: 3} }, "◆ proved; it ended by itself, with status 3"},
		"insisted":   {func(w *Watch) { w.result, w.exit = good, &host.Exit{How: host.EndedKill} }, "ended by force"},
		"again":      {func(w *Watch) { w.exit = &host.Exit{Status: 3, Again: &soon} }, "it ended with status 3; it is started again in 4 s"},
		"no start":   {func(w *Watch) { w.err = errors.New("no program\x07") }, "✕ could not be started"},
		"gone": {func(w *Watch) {
			p := *good
			p.Gone = []proof.Gone{{Mod: "a", Why: "it is switched off", Start: 3}, {Mod: "b", Why: "no line registers it", Start: 3}, {Mod: "c", Start: 3}, {Mod: "d", Start: 3}, {Mod: "e", Start: 3}}
			w.result = &p
		}, "gone since start 3 was proved: a (it is switched off), b (no line registers it),"},
		"judged again": {func(w *Watch) { p := *good; p.Again = "judged once more"; w.result = &p }, "Judged once more."},
		"another mode": {func(w *Watch) {
			p := *good
			p.Reason, p.Differs = "the server says that its mode is x", []string{"the server says that its mode is x"}
			w.result = &p
		}, "the server says that its mode is x; the server runs on"},
		"said of self": {func(w *Watch) { p := *good; p.Differs = []string{"the server says that its port is 1"}; w.result = &p }, "The server says that its port is 1."},
		"unheard":      {func(w *Watch) { p := *good; p.Unheard = "it is deaf"; w.result = &p }, "could not be asked: it is deaf."},
		"made":         {func(w *Watch) { p := *good; p.Made = []proof.Made{{Mod: "a", Path: "/x"}}; w.result = &p }, "1 file or folder at this start: X stops the server"},
		"owed":         {func(w *Watch) { p := *good; p.Unmade = []proof.Made{{Mod: "a", Path: "/x"}}; w.result = &p }, "a has not made /x yet"},
		"hint":         {func(w *Watch) { p := *bad; p.Hint = "it printed nothing"; w.result = &p }, "It printed nothing."},
		"elsewhere":    {func(w *Watch) { w.step.Elsewhere = "logs/a.log" }, "nothing printed yet, but logs/a.log grows"},
		"later":        {func(w *Watch) { w.take(app.Step{Number: 1, Judged: later(good, "new", proof.Confirmed)}) }, "◆ new"},
		"fails later":  {func(w *Watch) { w.result = later(good, "a", proof.Failed) }, ", while the server ran: it rots; the server runs on"},
		"came since":   {func(w *Watch) { w.result = good; w.Since([]string{"a", "fresh"}) }, "· fresh"},
		"unmet besides": {func(w *Watch) {
			p := *bad
			p.Expected = []expect.Met{{Expectation: expect.Expectation{Kind: expect.Path, Text: "map"}}}
			w.result = &p
		}, "Besides, not as expected: map is there, and that is not so."},
		"guarded": {func(w *Watch) { w.guard = 5 }, "started again after a crash, 5 times in a row at most"},
	} {
		w := &Watch{server: "s", names: []string{"a", "b"}, heard: noon, clock: stopped, step: app.Step{Limit: time.Minute, Number: 1}}
		test.set(w)
		insist.Holds(t, fmt.Sprintf("%s: no %q in", name, test.want), w.drawn(), test.want)
		for _, k := range w.Keys() {
			insist.That(t, k[0] != "" && k[1] != "", "%s: a key without words", name)
		}
	}
}

// later is a proof to which something was added while the server ran.
func later(of *proof.Proof, mod string, o proof.Outcome) *proof.Proof {
	p, at, began := *of, 9000.0, time.Date(2026, 3, 1, 10, 0, 0, 0, time.Local)
	p.Started, p.Later = &began, []proof.Mod{{Name: mod, Outcome: o, EndedMS: &at}}
	if o == proof.Failed {
		p.Later[0].Reason = "it rots"
	}
	return &p
}

// With the start before at hand, a watch tells how long each mod took then, and when
// the server will be ready.
func TestWatchAgainstTheLastStart(t *testing.T) {
	ms := func(v float64) *float64 { return &v }
	last := &proof.Proof{Number: 3, Verdict: proof.Proved, Ready: true, ReadyAfterMS: 10_000, Mods: []proof.Mod{{Name: "a", LoadMS: ms(1000), EndedMS: ms(2000)}, {Name: "b", LoadMS: ms(12_000), EndedMS: ms(9000)}}}
	w := &Watch{server: "s", names: []string{"a", "b"}, last: last, heard: noon, clock: stopped, step: app.Step{Limit: time.Minute, Elapsed: 4 * time.Second}}
	if left, ok := w.estimate(4 * time.Second); !ok || left != 6*time.Second {
		t.Errorf("at the pace of then %s are left, %v", left, ok)
	}
	w.soFar = &proof.Proof{Mods: []proof.Mod{{Name: "a", Outcome: proof.Confirmed, LoadMS: ms(2100), EndedMS: ms(4000)}}}
	if left, ok := w.estimate(4 * time.Second); !ok || left != 16*time.Second {
		t.Errorf("at half the pace %s are left, %v", left, ok)
	}
	w.names = []string{"a", "b"}
	c := canvas.New(160, 30)
	w.Draw(c, 0, 30)
	for _, want := range []string{"start 3 took 10.00 s; about 16 s more", "2100 ms  was 1000 ms", "was 12.0 s"} {
		insist.Holds(t, fmt.Sprintf("no %q in", want), screentest.Plain(c), want)
	}
	w.step.Ready = true
	if _, ok := w.estimate(time.Second); ok {
		t.Error("a server that is ready is still estimated")
	}
	for d, want := range map[time.Duration]string{1500 * time.Millisecond: "1.5 s", 125 * time.Second: "2 min 05 s", 3*time.Hour + 4*time.Minute: "3 h 04 min", 72 * time.Hour: "3 days"} {
		insist.Same(t, d.String(), marks.Span(d), want)
	}
}

// A start that comes after a crash begins a new picture, compared with the one before.
func TestWatchOfASecondStart(t *testing.T) {
	w := &Watch{server: "s", names: []string{"a"}, heard: noon, clock: stopped}
	w.take(app.Step{Number: 4, New: []proof.Line{{Number: 1, Text: "one"}}})
	w.take(app.Step{Number: 4, Judged: &proof.Proof{Number: 4, Verdict: proof.Proved, Ready: true, ReadyAfterMS: 100}})
	w.take(app.Step{Number: 4, Exit: &host.Exit{Status: 7}})
	w.take(app.Step{Number: 5, New: []proof.Line{{Number: 1, Text: "two"}}})
	insist.That(t, w.result == nil && w.exit == nil && w.last != nil && w.last.Number == 4 && len(w.log.Lines) == 1 && strings.Contains(w.drawn(), "two"), "the second start shows %+v", w)
}

// owner is what a watch belongs to, and does nothing.
type nobody struct{}

func (nobody) Reload() tea.Cmd               { return nil }
func (nobody) HasStopped(StoppedMsg) tea.Cmd { return nil }
func (nobody) WatchAnew(bool) tea.Cmd        { return nil }

// watching shows a watch of which nothing comes.
func watching(m *frame.Model) *Watch {
	w := &Watch{owner: nobody{}, server: "h", names: []string{"a", "b"}, step: app.Step{Limit: time.Minute, Elapsed: time.Second, Number: 1}, heard: noon, clock: stopped, news: frame.NewStream[app.Step](), cancel: func() {}}
	w.Desk = m.Desk(w)
	m.Open(w)
	return w
}

// The watch's key for restarts switches them on, and off again.
func TestGuardKey(t *testing.T) {
	m, _ := screentest.Root(t, 140, 43)
	w := watching(m)
	for _, want := range []int{usualGuard, 0, usualGuard} {
		if cmd := screentest.Hit(m, "R"); cmd == nil || w.guard != want {
			t.Errorf("it is started again %d times, want %d: %q", w.guard, want, m.Notice)
		}
	}
}

func TestEverySize(t *testing.T) {
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen { return watching(m) })
}
