package tui

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/core/culprit"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	found "initium/internal/core/remedy"
	"initium/internal/host"
)

// drawn is what a watch shows.
func (w *watch) drawn() string {
	c := newCanvas(200, 30)
	w.draw(c, 0, 30)
	return plain(c)
}

func TestWatchPhases(t *testing.T) {
	soon := time.Now().Add(4 * time.Second)
	good, bad := &proof.Proof{Verdict: proof.Proved, Ready: true, ReadyAfterMS: 1500}, &proof.Proof{Verdict: proof.NotProved, Reason: "1 of 2 registered mods is not confirmed"}
	for name, test := range map[string]struct {
		set  func(*watch)
		want string
	}{
		"starting":     {func(*watch) {}, "starting"},
		"loading":      {func(w *watch) { w.step.Status.Now = "b\x1b[2J" }, "loading b"},
		"settling":     {func(w *watch) { w.step.Settling = true }, "ready; watching that it stays up"},
		"asking":       {func(w *watch) { w.step.Settling, w.step.Asking = true, true }, "ready; asking the server itself"},
		"proved":       {func(w *watch) { w.result = good }, "◆ proved; running"},
		"not proved":   {func(w *watch) { w.result = bad }, "✕ not proved; running"},
		"why":          {func(w *watch) { w.result = bad }, "1 of 2 registered mods is not confirmed; the server runs on"},
		"the demo":     {func(w *watch) { w.result, w.passing = bad, true }, "whatever you close, until the demo ends."},
		"stopped":      {func(w *watch) { w.result, w.exit = good, &host.Exit{How: host.EndedStop} }, "◆ proved; stopped"},
		"crashed":      {func(w *watch) { w.result, w.exit = good, &host.Exit{How: host.EndedItself, Status: 3} }, "◆ proved; it ended by itself, with status 3"},
		"insisted":     {func(w *watch) { w.result, w.exit = good, &host.Exit{How: host.EndedKill} }, "ended by force"},
		"again":        {func(w *watch) { w.exit = &host.Exit{Status: 3, Again: &soon} }, "it ended with status 3; it is started again in 4 s"},
		"no start":     {func(w *watch) { w.err = errors.New("no program\x07") }, "✕ could not be started"},
		"said of self": {func(w *watch) { p := *good; p.Differs = []string{"the server says that its port is 1"}; w.result = &p }, "The server says that its port is 1."},
		"unheard":      {func(w *watch) { p := *good; p.Unheard = "it is deaf"; w.result = &p }, "could not be asked on its console: it is deaf."},
		"made":         {func(w *watch) { p := *good; p.Made = []proof.Made{{Mod: "a", Path: "/x"}}; w.result = &p }, "1 file or folder at this start: X stops the server"},
		"owed":         {func(w *watch) { p := *good; p.Unmade = []proof.Made{{Mod: "a", Path: "/x"}}; w.result = &p }, "a has not made /x yet"},
		"hint":         {func(w *watch) { p := *bad; p.Hint = "it printed nothing"; w.result = &p }, "It printed nothing."},
		"elsewhere":    {func(w *watch) { w.step.Elsewhere = "logs/a.log" }, "nothing printed yet, but logs/a.log grows"},
		"guarded":      {func(w *watch) { w.guard = 5 }, "started again after a crash, 5 times in a row at most"},
	} {
		w := &watch{server: "s", names: []string{"a", "b"}, heard: time.Now(), step: app.Step{Limit: time.Minute, Number: 1}}
		test.set(w)
		if got := w.drawn(); !strings.Contains(got, test.want) {
			t.Errorf("%s: no %q in\n%s", name, test.want, got)
		}
		for _, k := range w.keys() {
			if k[0] == "" || k[1] == "" {
				t.Errorf("%s: a key without words", name)
			}
		}
	}
}

// With the start before at hand, a watch tells how long each mod took then, and when
// the server will be ready.
func TestWatchAgainstTheLastStart(t *testing.T) {
	ms := func(v float64) *float64 { return &v }
	last := &proof.Proof{Number: 3, Verdict: proof.Proved, Ready: true, ReadyAfterMS: 10_000, Mods: []proof.Mod{{Name: "a", LoadMS: ms(1000), EndedMS: ms(2000)}, {Name: "b", LoadMS: ms(12_000), EndedMS: ms(9000)}}}
	w := &watch{server: "s", names: []string{"a", "b"}, last: last, heard: time.Now(), step: app.Step{Limit: time.Minute, Elapsed: 4 * time.Second}}
	if left, ok := w.estimate(4 * time.Second); !ok || left != 6*time.Second {
		t.Errorf("at the pace of then %s are left, %v", left, ok)
	}
	w.soFar = &proof.Proof{Mods: []proof.Mod{{Name: "a", Outcome: proof.Confirmed, LoadMS: ms(2100), EndedMS: ms(4000)}}}
	if left, ok := w.estimate(4 * time.Second); !ok || left != 16*time.Second {
		t.Errorf("at half the pace %s are left, %v", left, ok)
	}
	w.names = []string{"a", "b"}
	c := newCanvas(160, 30)
	w.draw(c, 0, 30)
	for _, want := range []string{"start 3 took 10.00 s; about 16 s more", "2100 ms  was 1000 ms", "was 12.0 s"} {
		if got := plain(c); !strings.Contains(got, want) {
			t.Errorf("no %q in\n%s", want, got)
		}
	}
	w.step.Ready = true
	if _, ok := w.estimate(time.Second); ok {
		t.Error("a server that is ready is still estimated")
	}
	for d, want := range map[time.Duration]string{1500 * time.Millisecond: "1.5 s", 125 * time.Second: "2 min 05 s", 3*time.Hour + 4*time.Minute: "3 h 04 min", 72 * time.Hour: "3 days"} {
		if got := span(d); got != want {
			t.Errorf("%s is %q", d, got)
		}
	}
}

// A start that comes after a crash begins a new picture, compared with the one before.
func TestWatchOfASecondStart(t *testing.T) {
	w := &watch{server: "s", names: []string{"a"}, heard: time.Now()}
	w.take(app.Step{Number: 4, New: []proof.Line{{Number: 1, Text: "one"}}})
	w.take(app.Step{Number: 4, Judged: &proof.Proof{Number: 4, Verdict: proof.Proved, Ready: true, ReadyAfterMS: 100}})
	w.take(app.Step{Number: 4, Exit: &host.Exit{Status: 7}})
	w.take(app.Step{Number: 5, New: []proof.Line{{Number: 1, Text: "two"}}})
	if w.result != nil || w.exit != nil || w.last == nil || w.last.Number != 4 || len(w.log.lines) != 1 || w.log.lines[0].text != "two" {
		t.Errorf("the second start shows %+v", w)
	}
}

// A server that is still starting is stopped before it is started anew, though the board
// has not seen it run.
func TestStartAnewWhileItStarts(t *testing.T) {
	m, b := boardOn(t, 100, 30)
	watching(b)
	m.stack = m.stack[:2]
	if cmd := b.startAnew(); cmd == nil || !b.stuck || !strings.Contains(m.notice, "Stopping") {
		t.Errorf("anew: %q", m.notice)
	}
}

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
		c := newCanvas(80, 24)
		l.draw(c, 0, 20)
		if got := plain(c); !strings.Contains(got, want) {
			t.Errorf("no %q in\n%s", want, got)
		}
	}
}

func TestCompareView(t *testing.T) {
	m, _ := boardOn(t, 80, 10)
	v := newCompareView(m, "h", &proof.Comparison{Starts: [2]int{2, 5}, Verdicts: [2]proof.Verdict{proof.Proved, proof.NotProved}, Came: []string{"new_one"}, Gone: []string{"old_one"},
		Releases: []proof.Difference{{Mod: "a", Then: "1", Now: "2"}}, Outcomes: []proof.Difference{{Mod: "b", Then: "confirmed", Now: "failed"}}, Moved: []string{"c"},
		Settings: []proof.Difference{{Mod: "title", Now: "X"}}, Files: []proof.FileChange{{Mod: "a", Path: "x.lua", What: "changed"}}, Times: []proof.LoadTime{{Mod: "a", Then: 10, Now: 500}},
		New: []proof.Remark{{Line: 9, Text: "error here", Mod: "a", Sure: proof.SureName}}, Old: []proof.Remark{{Text: "gone now"}}, ReadyMS: [2]int64{1000, 2000}})
	c := newCanvas(100, 30)
	v.draw(c, 0, 30)
	got := plain(c)
	for _, want := range []string{"start 5, not proved  beside  start 2, proved", "mods        + new_one is new", "− old_one is gone", "~ a: release 2, was 1", "✕ b: failed, was confirmed", "order       ↕ loaded at another place: c",
		"settings    ~ title: X, was not set", "files       ~ a: x.lua is changed", "times       ~ a took 500 ms to load, was 10 ms", "log, new    ▲ line 9: error here   (a, by its name)", "log, gone     gone now"} {
		if !strings.Contains(got, want) {
			t.Errorf("no %q in\n%s", want, got)
		}
	}
	m.open(v)
	for range 30 {
		m.key("down")
		v.draw(newCanvas(80, 6), 0, 6)
	}
	if v.first != len(v.lines)-4 {
		t.Errorf("scrolled to %d of %d", v.first, len(v.lines))
	}
	m.key("esc")
	if _, ok := m.top().(*board); !ok {
		t.Error("Esc does not leave")
	}
	same := newCompareView(m, "h", &proof.Comparison{})
	c = newCanvas(80, 10)
	same.draw(c, 0, 10)
	if !strings.Contains(plain(c), "Nothing of note differs.") {
		t.Errorf("two that are alike:\n%s", plain(c))
	}
}

func TestCulpritView(t *testing.T) {
	v := &culpritView{server: "s", symptom: "boom.*", began: time.Now(), cancel: func() {}, news: newStream[culpritStep]()}
	show := func() string {
		c := newCanvas(130, 24)
		v.draw(c, 0, 24)
		return plain(c)
	}
	try := func(on, atMost int, why string) app.Tried {
		return app.Tried{Try: culprit.Try{On: make([]string, on), Why: why, AtMost: atMost, Learned: "something", Run: 1, Runs: 2}, Of: 8}
	}
	v.take(try(8, 6, "whether it fails"))
	if got := show(); !strings.Contains(got, "8 of 8") || !strings.Contains(got, "◦ starting") || !strings.Contains(got, "a log line that fits boom.*") || !strings.Contains(got, "so far      something") {
		t.Errorf("before the first start:\n%s", got)
	}
	done := try(8, 6, "whether it fails")
	done.Done, done.Failed, done.Took = true, true, 2*time.Second
	v.take(done)
	v.take(try(4, 5, "in which half it is"))
	if got := show(); !strings.Contains(got, "✕ fails") || !strings.Contains(got, "1 made, 5 to come at the most, about 10.0 s at the longest") || len(v.tries) != 2 {
		t.Errorf("after it:\n%s", got)
	}
	m, _ := boardOn(t, 120, 30)
	v.desk = m.desk(v)
	m.open(v)
	if cmd := v.update(culpritMsg{ended: true, steps: []culpritStep{{ended: true, found: &app.Culprits{Culprits: []string{"x", "y"}, With: []string{"z"}, Reason: "it sank", Evidence: []proof.Evidence{{Line: 4, Text: "sunk"}}, Starts: 9, Rate: 0.5, Repeat: 3, Instead: []found.Remedy{{Text: "move z before y"}},
		Changes: []lineup.Change{{Op: lineup.OpOff, Mod: "x"}}}}}}); cmd != nil {
		t.Error("a result asks for more")
	}
	got := show()
	for _, want := range []string{"found, in 9 starts", "the culprits, together: x, y", "needs       z", "because     it sank", "log 4       sunk", "in about 50 % of the starts; 3 without it", "look at it with doubt", "remedy      switch x off", "or perhaps  move z before y   (2 plans it; it was not tried)"} {
		if !strings.Contains(got, want) {
			t.Errorf("no %q in\n%s", want, got)
		}
	}
	v.found, v.err = nil, errors.New("no port is free")
	if got := show(); !strings.Contains(got, "could not be carried on") || !strings.Contains(got, "no port is free") {
		t.Errorf("after an error:\n%s", got)
	}
	v.err, v.found = nil, &app.Culprits{Problem: "it did not fail"}
	if got := show(); !strings.Contains(got, "no culprit") || !strings.Contains(got, "it did not fail") {
		t.Errorf("without a culprit:\n%s", got)
	}
}

// Rules are made by keys alone: a meaning, a name, more examples, a line that is none.
func TestTeachView(t *testing.T) {
	dir := t.TempDir()
	a := &app.App{Home: host.Home{Dir: filepath.Join(dir, "home")}}
	must(t, os.MkdirAll(a.Home.DialectDir(), 0o700))
	const outline = "name = \"door\"\n[[place]]\npath = \"{dir}/mods\"\n[start]\ncommand = [\"x\"]\n"
	file, log := filepath.Join(a.Home.DialectDir(), "door.toml"), filepath.Join(dir, "log")
	lines := "10:00:00 I waking\n10:00:01 I tide is up, 12 ms\n10:00:02 E rock is up, but leaks\n10:00:03 I sand is up, 7 ms\n10:00:04 I open\x1b[2J\n"
	for name, data := range map[string]string{file: outline, log: lines} {
		must(t, os.WriteFile(name, []byte(data), 0o600))
	}
	l, err := a.Teach("door", log, "", nil)
	must(t, err)
	m := newModel(t.Context(), a, doors)
	m.palette, m.w, m.h = newPalette(groundDark), 110, 30
	v := newTeachView(m, l, 0)
	m.open(v)
	keys := func(list ...string) {
		for _, k := range list {
			if m.prompt != nil && k != "enter" {
				m.prompt.set(k)
				continue
			}
			_, cmd := m.Update(press(k))
			carry(m, cmd)
		}
	}
	show := func() string { return m.View().Content }
	keys("down", "1", "tide", "enter")
	if v.taught == nil || v.taught.Rule.Line != "{mod} is up, {ms} ms" || len(v.taught.Matches) != 2 {
		t.Fatalf("the rule is %+v, %s", v.taught, m.notice)
	}
	if got := show(); !strings.Contains(got, "2 lines, marked") || !strings.Contains(got, "tide, sand") || strings.Contains(got, "\x1b[2J") {
		t.Errorf("it shows\n%q", got)
	}
	keys("down", "+", "rock", "enter")
	if got := v.taught.Rule.Line; got != "{mod} is up, {any}" {
		t.Errorf("with another example: %s, %s", got, m.notice)
	}
	keys("esc", "up", "1", "tide", "enter", "end", "-", "home", "-")
	if len(v.lesson.Counter) != 2 || v.taught == nil {
		t.Errorf("with lines that are none: %+v", v.lesson)
	}
	keys("n", "enter")
	if !strings.Contains(v.written, "door.toml") || len(v.missing) != 1 || !strings.Contains(v.missing[0], "ready") {
		t.Errorf("written %q, missing %q, %s", v.written, v.missing, m.notice)
	}
	keys("end", "5", "enter")
	if len(v.missing) != 0 || !strings.Contains(show(), "complete") {
		t.Errorf("still missing %q, %s", v.missing, m.notice)
	}
	keys("home", "down", "5")
	if v.taught == nil {
		t.Error("a meaning without a name makes no rule")
	}
	keys("esc", "home", "1", "nobody", "enter")
	if !m.bad || !strings.Contains(m.notice, "does not name nobody") {
		t.Errorf("a name that is not there: %q", m.notice)
	}
	if d, err := a.Dialect("door"); err != nil || len(d.Dialect.Log.Rules) != 2 || d.Dialect.Log.Prefix != "{time} {level} " {
		t.Errorf("the dialect: %v, %v", d.Dialect, err)
	}
	if words := fmt.Sprint(v.keys()); !strings.Contains(words, "loaded") && !strings.Contains(words, "means") {
		t.Errorf("the keys are %s", words)
	}
}
