package tui

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
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
	"initium/internal/core/culprit"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/host"
)

// look surveys a harbour with a startup script and mods, each "name: needs".
func look(t testing.TB, script string, mods ...string) *app.Look {
	t.Helper()
	data, err := fs.ReadFile(dialects.FS, "harrow-sound.toml")
	must(t, err)
	d, err := dialect.Parse("harrow-sound.toml", data)
	must(t, err)
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

// proved is a start in which each mod had an outcome: "name outcome".
func proved(outcomes ...string) *proof.Proof {
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

func rowsOf(b *board) string {
	var words []string
	for _, r := range b.rows {
		switch {
		case r.mod == nil:
			words = append(words, "["+r.title+"]")
		case r.outcome != nil:
			words = append(words, r.mod.Name+"="+string(r.outcome.Outcome))
		default:
			words = append(words, r.mod.Name)
		}
	}
	return strings.Join(words, " ")
}

const script = "# ~~ One ~~\nberth a\nberth b\n# ~~ Two ~~\nberth c\n# berth d\n"

func TestBoardRows(t *testing.T) {
	b := &board{}
	b.set(look(t, script, "a", "b: c", "c", "d", "e"), proved("a confirmed", "b failed", "c silent", "ghost unlisted", "e unlisted"), nil, nil)
	want := "[One] a=confirmed b=failed [Two] c=silent d [There, and not registered] e=unlisted [In the log, and not registered] ghost=unlisted"
	if got := rowsOf(b); got != want {
		t.Errorf("rows are\n%s, want\n%s", got, want)
	}
	if b.mod().Name != "b" {
		t.Errorf("the row in trouble is not chosen, but %s", b.mod().Name)
	}
	b.set(look(t, script, "a", "b: c", "c", "d", "e"), nil, nil, nil)
	if b.mod().Name != "b" {
		t.Errorf("the choice went to %s", b.mod().Name)
	}
}

func TestBoardMoves(t *testing.T) {
	b := &board{}
	b.set(look(t, script+"berth +g\n", "a", "b", "c", "d", "+g/x", "+g/y"), nil, nil, nil)
	names := func() string { return b.mod().Name }
	b.step(-100)
	if names() != "a" {
		t.Errorf("the first row is %s", names())
	}
	b.step(2)
	if names() != "c" {
		t.Errorf("two further is %s", names())
	}
	for _, test := range []struct {
		mod  string
		by   int
		want string
	}{
		{"a", -1, ""}, {"a", 1, "move a after b"}, {"b", -1, "move b before a"}, {"b", 1, "move b before c"}, {"c", -1, "move c after b"},
		{"c", 1, "move c after d"}, {"x", -1, "move +g before d"}, {"y", -1, "move +g before d"}, {"d", 1, "move d after +g"}, {"y", 1, ""},
	} {
		for i, r := range b.rows {
			if r.mod != nil && r.mod.Name == test.mod {
				b.selected = i
			}
		}
		c, ok := b.moveBy(test.by)
		got := ""
		if ok {
			got = c.String()
		}
		if got != test.want {
			t.Errorf("%s by %d gives %q, want %q", test.mod, test.by, got, test.want)
		}
	}
}

func TestBoardRemedies(t *testing.T) {
	b := &board{}
	b.set(look(t, "berth a\nberth b\nberth c\nberth gone\n", "a: b", "b: x", "c", "x"), proved("a failed", "b failed", "c confirmed", "gone failed"), nil, nil)
	for _, test := range []struct{ mod, want string }{
		{"a", "move b before a"},
		{"b", "register x before b"},
		{"c", ""},
		{"gone", "by hand: take the mod in, or switch it off"},
	} {
		for i, r := range b.rows {
			if r.mod != nil && r.mod.Name == test.mod {
				b.selected = i
			}
		}
		var words []string
		for _, r := range b.remedies(b.row()) {
			word := r.text
			if len(r.changes) == 0 {
				word = "by hand: " + word
			}
			words = append(words, word)
		}
		if got := strings.Join(words, "; "); got != test.want {
			t.Errorf("%s has the remedies %q, want %q", test.mod, got, test.want)
		}
	}
	// A mod that failed for want of another offers what mends that one.
	b.set(look(t, "berth top\nberth mid\nberth low\n", "mid: low", "low", "top"), proved("top confirmed", "mid failed"), nil, nil)
	b.set(look(t, "berth mid\nberth low\nberth top\n", "mid: low", "low", "top: mid"), proved("mid failed", "low confirmed", "top failed"), nil, nil)
	for i, r := range b.rows {
		if r.mod != nil && r.mod.Name == "top" {
			b.selected = i
		}
	}
	if list := b.fixes(); len(list) != 1 || list[0].root != "mid" {
		t.Errorf("top has the remedies %+v", list)
	}
	// Mods that failed for want of each other, and that nothing else mends, have no end.
	l := look(t, "berth a\nberth b\nberth c\n", "a: b, c", "b: c, a", "c: a, b")
	for i := range l.Findings {
		l.Findings[i].Remedy, l.Findings[i].Changes = "", nil
	}
	b.set(l, proved("a failed", "b failed", "c failed"), nil, nil)
	done := make(chan int)
	go func() {
		done <- len(b.remedies(b.all[slices.IndexFunc(b.all, func(r boardRow) bool { return r.mod != nil })]))
	}()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatal("the remedies of mods in a circle have no end")
	}
}

// Number keys plan the remedy of that number; one that there is not does nothing.
func TestNumberKeys(t *testing.T) {
	m, b := boardOn(t, 140, 43)
	for i, r := range b.rows {
		if r.mod != nil && r.mod.Name == "b" {
			b.selected = i
		}
	}
	list := b.fixes()
	if len(list) == 0 {
		t.Fatal("b has no remedy")
	}
	if cmd := m.key(fmt.Sprint(len(list) + 1)); cmd != nil || b.stuck {
		t.Errorf("a number too high begins something: %q", m.notice)
	}
	m.notice = ""
	if cmd := m.key("1"); cmd == nil {
		t.Errorf("1 plans nothing: %q", m.notice)
	}
}

// watching shows a watch above a board, of which nothing comes.
func watching(b *board) *watch {
	w := &watch{owner: b, server: b.name, names: []string{"a", "b"}, step: app.Step{Limit: time.Minute, Elapsed: time.Second, Number: 1}, heard: time.Now(), news: newStream[app.Step](), cancel: func() {}}
	w.desk = b.model.desk(w)
	b.watching = w
	b.open(w)
	return w
}

// The watch's key for restarts switches them on, and off again.
func TestGuardKey(t *testing.T) {
	m, b := boardOn(t, 140, 43)
	w := watching(b)
	for _, want := range []int{usualGuard, 0, usualGuard} {
		if cmd := m.key("R"); cmd == nil || w.guard != want {
			t.Errorf("it is started again %d times, want %d: %q", w.guard, want, m.notice)
		}
	}
}

func TestStagedWords(t *testing.T) {
	l := look(t, script, "a", "b", "c", "d")
	l.Staged = []lineup.Change{{Op: lineup.OpOff, Mod: "a"}, {Op: lineup.OpMove, Mod: "b", Where: lineup.Where{Before: "a"}}}
	b := &board{}
	b.set(l, nil, nil, nil)
	if got := b.staged(l.Survey.Find("b")); got != "move before a" {
		t.Errorf("b is staged as %q", got)
	}
	if got := b.staged(l.Survey.Find("a")); got != "switch off" {
		t.Errorf("a is staged as %q", got)
	}
}

// boardOn makes a model that shows a board, without a terminal.
func boardOn(t testing.TB, w, h int) (*model, *board) {
	t.Helper()
	m := newModel(context.Background(), &app.App{Home: host.Home{Dir: t.TempDir()}}, doors)
	m.palette, m.w, m.h = newPalette(groundDark), w, h
	m.open(newServerList(m, "h"))
	b := newBoard(m, "h")
	m.open(b)
	b.update(lookMsg{look: look(t, script, "a", "b: c", "c", "d", "e"), last: proved("a confirmed", "b failed", "c silent", "e unlisted")})
	return m, b
}

// carry carries a command out, and all that comes of it.
func carry(m *model, cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case nil:
	case tea.BatchMsg:
		for _, c := range msg {
			carry(m, c)
		}
	default:
		_, next := m.Update(msg)
		carry(m, next)
	}
}

// press is a key as the terminal sends it.
func press(k string) tea.KeyPressMsg {
	codes := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "up": tea.KeyUp, "down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight, "tab": tea.KeyTab, "home": tea.KeyHome, "end": tea.KeyEnd, "pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown, "backspace": tea.KeyBackspace}
	if code, ok := codes[k]; ok {
		return tea.KeyPressMsg{Code: code}
	}
	return tea.KeyPressMsg{Text: k, Code: []rune(k)[0]}
}

// shape looks that a picture has its lines, none wider than the window.
func shape(t *testing.T, m *model, what string) {
	t.Helper()
	lines := strings.Split(m.View().Content, "\n")
	if len(lines) != max(m.h, 1) {
		t.Fatalf("%s: %d lines in a window of %d", what, len(lines), m.h)
	}
	for i, line := range lines {
		if w := ansi.StringWidth(line); w != max(m.w, 1) {
			t.Fatalf("%s: line %d is %d wide in a window of %d: %q", what, i, w, m.w, ansi.Strip(line))
		}
	}
}

// everyScreen makes one of each of the screens, with long words in all of them.
func everyScreen(t *testing.T, m *model, b *board) map[string]screen {
	t.Helper()
	long := strings.Repeat("long words ", 30)
	dir := t.TempDir()
	server := filepath.Join(dir, "server")
	must(t, os.CopyFS(server, os.DirFS("../../demo/harrow-sound")))
	source := filepath.Join(dir, "kelp farms")
	for name, data := range map[string]string{"bill.toml": "name = \"kelp farms\"\nrelease = \"1\"\nwaits_for = [\"nowhere\"]\n", "deck.script": "haul 1\n", long[:200]: "x"} {
		file := filepath.Join(source, name)
		must(t, os.MkdirAll(filepath.Dir(file), 0o755))
		must(t, os.WriteFile(file, []byte(data), 0o600))
	}
	t.Cleanup(func() { m.app.Close() })
	must(t, second(m.app.Adopt(t.Context(), app.Adoption{Dir: server, As: "h"})))
	inside, err := m.app.Inspect(t.Context(), source, "h", lineup.Choices{}, nil)
	must(t, err)
	search := &culpritView{server: "h", symptom: long, began: time.Now(), cancel: func() {}, news: newStream[culpritStep]()}
	search.desk = m.desk(search)
	search.take(app.Tried{Try: culprit.Try{On: make([]string, 5), Why: long, AtMost: 4, Learned: long}, Of: 8})
	log := filepath.Join(dir, "log")
	must(t, os.WriteFile(log, []byte("10:00:00 "+long+"\n10:00:01 tide is up\n"), 0o600))
	lessons, err := m.app.Teach("harrow-sound", log, "", nil)
	must(t, err)
	outline := &outlineView{name: "gate", dir: server, file: "harbour.start", lines: []string{"use tide", long}}
	outline.desk = m.desk(outline)
	servers := newServerList(m, "h")
	servers.loaded, servers.list = true, []app.Summary{{Name: "h", Dialect: "Harbour", Port: "1", Last: proved("a failed")}, {Name: "x", Problem: "gone"}}
	kept := newLogScreen(m, logMsg{server: "h", mod: "a"})
	kept.log.add([]proof.Line{{Number: 1, Text: strings.Repeat("long ", 100)}})
	w := watching(b)
	m.stack = m.stack[:len(m.stack)-1]
	adoption, given := forms(t, m, server)
	return map[string]screen{
		"adoption": adoption, "values": given, "servers": servers, "no servers": func() screen { l := newServerList(m, ""); l.loaded = true; return l }(), "board": b, "plan": newPlanView(m, planMsg{server: "h", why: "why", plan: planOf(t)}), "watch": w, "log": kept,
		"ledger":  newLedgerView(m, "h", "/srv", []host.Entry{{Number: 0, Why: "found"}, {Number: 1, Why: strings.Repeat("did ", 60), Starts: []host.Start{{Number: 1, Verdict: proof.Proved}}}}),
		"compare": newCompareView(m, "h", &proof.Comparison{Came: []string{long}, Gone: []string{"b"}, Moved: []string{long}, New: []proof.Remark{{Line: 3, Text: long}}}),
		"culprit": search, "teach": newTeachView(m, lessons, 1), "outline": outline, "intake": newIntakeView(m, insideMsg{server: "h", source: source, inside: inside}),
	}
}

func TestEveryViewInEverySize(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {140, 43}, {200, 60}, {100, 30}, {40, 12}, {20, 6}, {3, 2}, {1, 1}} {
		m, b := boardOn(t, size[0], size[1])
		for name, s := range everyScreen(t, m, b) {
			m.open(s)
			for m.help = range m.helpPages() + 1 {
				shape(t, m, fmt.Sprintf("%s, help %d", name, m.help))
			}
			m.help = 0
			if got := ansi.Strip(m.View().Content); size[0] >= 80 && len(strings.Fields(got)) < 10 {
				t.Errorf("%s in %v shows nothing:\n%s", name, size, got)
			} else if lines := strings.Split(got, "\n"); size[0] >= 40 && !strings.Contains(lines[len(lines)-1], "? help") {
				t.Errorf("%s in %v has no ? on its foot: %q", name, size, lines[len(lines)-1])
			}
			m.prompt = newPrompt("Title: ", strings.Repeat("x", 90), nil)
			shape(t, m, name+", typing")
			m.prompt.paths = true
			m.prompt.list = []string{"/a/" + strings.Repeat("y", 300), "/a/b/"}
			shape(t, m, name+", choosing a file")
			m.prompt = nil
			m.stack = m.stack[:len(m.stack)-1]
		}
	}
}

// Every screen tells its own keys when it is asked for help, and no other's.
func TestEveryScreenExplainsItself(t *testing.T) {
	m, b := boardOn(t, 140, 60)
	heads := map[string]string{}
	for name, s := range everyScreen(t, m, b) {
		m.open(s)
		m.key("?")
		got := ansi.Strip(m.View().Content)
		if !strings.Contains(got, "On every screen") || !strings.Contains(got, s.help()[0].title) {
			t.Errorf("the help of %s:\n%s", name, got)
		}
		if other := heads[s.help()[0].title]; other != "" && name != "no servers" && other != "no servers" {
			t.Errorf("%s and %s have the same help", name, other)
		}
		heads[s.help()[0].title] = name
		m.key("esc")
		m.stack = m.stack[:len(m.stack)-1]
	}
}

// A key has one meaning, whatever is shown: what it does is said in the same words, or in
// words that are listed here as the same thing.
func TestKeysMeanOneThing(t *testing.T) {
	m, b := boardOn(t, 140, 60)
	meanings := map[string][]string{ // what is the same thing to an operator
		"Enter": {"*"}, "Esc": {"*"}, "↑ ↓": {"*"}, "← →": {"*"}, "Tab": {"*"}, "1": {"*"}, "2": {"*"}, "3": {"*"}, "4": {"*"}, "5": {"*"}, "6": {"*"}, "7": {"*"}, "m": {"mend", "plan the remedy"},
		"X": {"stop", "stop the server", "stop it for now"}, "s": {"start and prove", "start again"}, "o": {"off", "on", "in or out"}, "u": {"take back", "take the newest back"}, "C": {"culprit", "search on"}, "b": {"back the world up first"}, "l": {"log", "watch"},
		"n": {"next line that fits"},
	}
	for name, s := range everyScreen(t, m, b) {
		m.open(s)
		for _, k := range m.keysHere() {
			known := meanings[k[0]]
			switch {
			case len(known) == 0:
				meanings[k[0]] = []string{k[1]}
			case known[0] != "*" && !slices.Contains(known, k[1]):
				t.Errorf("%s: %s is %q, and %q elsewhere", name, k[0], k[1], known)
			}
		}
		m.stack = m.stack[:len(m.stack)-1]
	}
}

func FuzzKeys(f *testing.F) {
	f.Add("jjjkkt?xomp", uint8(80), uint8(24))
	f.Add("ggnabc\rq", uint8(20), uint8(5))
	f.Add("slSXlcgiCE=w", uint8(90), uint8(25))
	f.Fuzz(func(t *testing.T, keys string, w, h uint8) {
		m, b := boardOn(t, int(w), int(h))
		names := map[rune]string{'U': "up", 'V': "down", 'E': "enter", 'Y': "esc", 'Z': "end", 'P': "pgdown", 'Q': "pgup", 'I': "tab"}
		for _, k := range keys {
			name := string(k)
			if n, ok := names[k]; ok {
				name = n
			}
			if k == 'q' && m.prompt == nil { // it closes the screen
				continue
			}
			m.Update(press(name)) // what it begins is not carried out
			for _, d := range m.desks {
				d.stuck = false
			}
			b.owed, b.ahead = false, nil
			shape(t, m, keys)
		}
		if b.watching != nil {
			b.watching.unwatch()
		}
		for _, d := range m.kept {
			d.screen.close()
		}
		m.work.Wait()
	})
}

func planOf(t *testing.T) *plan.Plan {
	t.Helper()
	before := look(t, script, "a", "b").Survey.Lineup
	off := lineup.Change{Op: lineup.OpOff, Mod: "a"}
	after, err := before.Apply(off)
	must(t, err)
	p := plan.Between(before, after)
	p.Changes = []lineup.Change{off}
	return p
}

func TestPlanView(t *testing.T) {
	p := planOf(t)
	m, _ := boardOn(t, 80, 24)
	v := newPlanView(m, planMsg{server: "h", why: "switch a off", plan: p})
	c := newCanvas(60, 16)
	v.draw(c, 0, 16)
	got := plain(c)
	for _, want := range []string{"Plan  switch a off", "harbour.start", "goes      berth a", "comes     # berth a", "Nothing is written yet"} {
		if !strings.Contains(got, want) {
			t.Errorf("no %q in\n%s", want, got)
		}
	}
	if _, _, ok := v.nextField(); ok {
		t.Error("a file is taken for a field of a form")
	}
	p.Files[0].Form = "Launch parameters"
	if name, text, ok := v.nextField(); !ok || name != "Launch parameters" || !strings.Contains(text, "# berth a") {
		t.Errorf("the field is %q, %q", name, text)
	}
}

func TestWatchView(t *testing.T) {
	w := &watch{server: "h", names: []string{"a", "b", "c"}, last: proved("a confirmed"), news: newStream[app.Step]()}
	w.take(app.Step{Limit: time.Minute, Elapsed: 1500 * time.Millisecond, SoFar: proved("a confirmed", "b failed", "c silent"),
		Status: proof.Status{Done: 2, Failed: 1, Now: "c", Owed: []string{"c"}}, New: []proof.Line{{Number: 1, Text: "hello"}}})
	shows := func() string {
		c := newCanvas(90, 20)
		w.draw(c, 0, 20)
		return plain(c)
	}
	for _, want := range []string{"loading c", "1.5 s of 60 s at most", "(start 3 took 0.90 s; it is 1 s late by that)", "2 of 3 mods spoken for, 1 failed", "✕ b", "◦ c", "1   hello"} {
		if got := shows(); !strings.Contains(got, want) {
			t.Errorf("no %q in\n%s", want, got)
		}
	}
	w.result = proved("a confirmed", "b failed", "c silent")
	w.soFar, w.result.Reason = w.result, "2 of 3 registered mods are not confirmed"
	for _, want := range []string{"✕ not proved", "ready after 0.90 s", "2 of 3 registered mods are not confirmed", "◌ c", "silent"} {
		if got := shows(); !strings.Contains(got, want) {
			t.Errorf("no %q in\n%s", want, got)
		}
	}
}

// What is wrong with the server and with no mod has a row of its own.
func TestServerRow(t *testing.T) {
	l := look(t, "berth a\n", "a")
	l.Findings = append(l.Findings, check.Finding{Code: "port-busy", Severity: check.Error, Message: "port 1 is taken", Remedy: "stop what holds it"},
		check.Finding{Code: "setting-risky", Severity: check.Warning, Message: "cheats are on"})
	b := &board{}
	b.set(l, nil, nil, nil)
	if r := b.row(); r.mod != nil || len(r.findings) != 2 || !troubled(r) {
		t.Fatalf("the first row is %+v", r)
	}
	c := newCanvas(120, 30)
	b.drawRows(c, 0, 20)
	b.drawStory(c, 21, 8)
	for _, want := range []string{"The server itself", "port 1 is taken, and 1 more", "! error   port 1 is taken", "~ warning cheats are on", "by hand   stop what holds it"} {
		if !strings.Contains(plain(c), want) {
			t.Errorf("%q is not in\n%s", want, plain(c))
		}
	}
	b.step(1)
	if m := b.mod(); m == nil || m.Name != "a" {
		t.Errorf("below it is %+v", b.row())
	}
	b.trouble(1)
	if b.selected != 0 {
		t.Error("the next trouble is elsewhere")
	}
}

func TestFilters(t *testing.T) {
	b := &board{}
	b.set(look(t, "# ~~ One ~~\nberth a\nberth b\n# ~~ Two ~~\nberth c\n# berth d\n", "a: b", "b", "c", "d"), proved("a failed", "b confirmed", "c silent"), nil, nil)
	titles := func() (list []string) {
		for _, r := range b.rows {
			if r.mod != nil {
				list = append(list, r.mod.Name)
			} else {
				list = append(list, "["+r.title+"]")
			}
		}
		return list
	}
	seen := map[string]string{}
	for range filters {
		seen[filters[b.filter].name] = strings.Join(titles(), " ")
		b.nextFilter()
	}
	for name, want := range map[string]string{
		"all": "[One] a b [Two] c d", "findings": "[One] a", "out of order": "[One] a", "failed": "[One] a", "silent": "[Two] c", "not on": "[Two] d",
	} {
		if seen[name] != want {
			t.Errorf("%s shows %q, want %q", name, seen[name], want)
		}
	}
	if _, ok := seen["unlisted"]; ok {
		t.Error("a filter that lets nothing through is not passed over")
	}
}

// must ends a test whose ground is missing.
func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// The overview shows in one column where of all rows trouble, staged changes and the needs of
// the selected one are; a click in it goes there.
func TestOverview(t *testing.T) {
	var script strings.Builder
	var mods []string
	for i := range 200 {
		fmt.Fprintf(&script, "berth m%03d\n", i)
		mods = append(mods, fmt.Sprintf("m%03d:", i))
	}
	mods[50] = "m050: m190" // comes later
	mods[100] = "m100: m010"
	m, b := boardOn(t, 80, 24)
	known := look(t, script.String(), mods...)
	known.Staged = []lineup.Change{{Op: lineup.OpOff, Mod: "m150"}}
	b.update(lookMsg{look: known, last: proved("m000 confirmed", "m070 silent", "m199 failed")})
	column := func() string {
		var shapes []rune
		for _, line := range strings.Split(ansi.Strip(m.View().Content), "\n")[headHeight+1 : headHeight+b.boardHeight()] {
			shapes = append(shapes, []rune(line)[79])
		}
		return string(shapes)
	}
	place := func(row, h int) int { return row * h / len(b.rows) }
	at := func(name string) int {
		i := slices.IndexFunc(b.rows, func(r boardRow) bool { return r.mod != nil && r.mod.Name == name })
		return place(i, b.boardHeight()-1)
	}
	b.seek("m100", "")
	got := []rune(column())
	for name, want := range map[string]rune{"m050": '!', "m150": '▷', "m199": '✕', "m070": '◌', "m010": '○', "m100": '│', "m030": '╎'} {
		if got[at(name)] != want {
			t.Errorf("%s is shown as %c, want %c, in %s", name, got[at(name)], want, string(got))
		}
	}
	for _, name := range []string{"m050", "m199"} {
		b.click(79, 1+at(name))
		if mod := b.mod(); mod == nil || mod.Name != name {
			t.Errorf("a click for %s goes to %+v", name, b.row())
		}
	}
	b.click(79, 1+at("m030"))
	if mod := b.mod(); mod == nil || at(mod.Name) != at("m030") {
		t.Errorf("a click where there is no trouble goes to %+v", b.row())
	}
	b.click(20, 1)
	if b.selected != b.scroll && b.selected != b.scroll+1 {
		t.Errorf("a click on a row goes to row %d of those from %d on", b.selected, b.scroll)
	}
	// Where all rows are seen there is none.
	_, few := boardOn(t, 80, 60)
	if few.overview(few.boardHeight() - 1) {
		t.Error("there is an overview of what is seen anyway")
	}
}

// second is the error of a call whose value nobody needs.
func second[T any](_ T, err error) error { return err }
