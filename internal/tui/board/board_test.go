package board

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/lineup"
	"initium/internal/insist"
	"initium/internal/tui/canvas"
	"initium/internal/tui/compareview"
	"initium/internal/tui/culpritview"
	"initium/internal/tui/frame"
	"initium/internal/tui/intakeview"
	"initium/internal/tui/ledgerview"
	"initium/internal/tui/logview"
	"initium/internal/tui/screentest"
)

// boardOn makes a root that shows a board with all its doors, without a terminal.
func boardOn(t testing.TB, w, h int) (*frame.Model, *Board) {
	t.Helper()
	m, _ := screentest.Root(t, w, h, intakeview.Door, ledgerview.Door, compareview.Door, culpritview.Door, logview.Door)
	b := New(m, "h")
	m.Open(b)
	b.Update(lookMsg{look: known(t), last: screentest.Proved("a confirmed", "b failed", "c silent", "e unlisted")})
	return m, b
}

func known(t testing.TB) *app.Look {
	return screentest.Look(t, screentest.Script, "a", "b: c", "c", "d", "e")
}

func rowsOf(b *Board) string {
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

func TestBoardRows(t *testing.T) {
	b := &Board{}
	b.set(screentest.Look(t, screentest.Script, "a", "b: c", "c", "d", "e"), screentest.Proved("a confirmed", "b failed", "c silent", "ghost unlisted", "e unlisted"), nil, nil)
	want := "[One] a=confirmed b=failed [Two] c=silent d [There, and not registered] e=unlisted [In the log, and not registered] ghost=unlisted"
	insist.Same(t, "rows", rowsOf(b), want)
	insist.Same(t, "the row in trouble is not chosen, but", b.mod().Name, "b")
	b.set(screentest.Look(t, screentest.Script, "a", "b: c", "c", "d", "e"), nil, nil, nil)
	insist.Same(t, "the choice went to", b.mod().Name, "b")
}

func TestBoardMoves(t *testing.T) {
	b := &Board{}
	b.set(screentest.Look(t, screentest.Script+"berth +g\n", "a", "b", "c", "d", "+g/x", "+g/y"), nil, nil, nil)
	names := func() string { return b.mod().Name }
	b.step(-100)
	insist.Same(t, "the first row", names(), "a")
	b.step(2)
	insist.Same(t, "two further", names(), "c")
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
		insist.Same(t, fmt.Sprintf("%s by %d", test.mod, test.by), got, test.want)
	}
}

func TestBoardRemedies(t *testing.T) {
	b := &Board{}
	b.set(screentest.Look(t, "berth a\nberth b\nberth c\nberth gone\n", "a: b", "b: x", "c", "x"), screentest.Proved("a failed", "b failed", "c confirmed", "gone failed"), nil, nil)
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
		for _, r := range b.remedies(b.current()) {
			word := r.text
			if len(r.changes) == 0 {
				word = "by hand: " + word
			}
			words = append(words, word)
		}
		insist.Same(t, fmt.Sprintf("%s has the remedies", test.mod), strings.Join(words, "; "), test.want)
	}
	// A mod that failed for want of another offers what mends that one.
	b.set(screentest.Look(t, "berth top\nberth mid\nberth low\n", "mid: low", "low", "top"), screentest.Proved("top confirmed", "mid failed"), nil, nil)
	b.set(screentest.Look(t, "berth mid\nberth low\nberth top\n", "mid: low", "low", "top: mid"), screentest.Proved("mid failed", "low confirmed", "top failed"), nil, nil)
	for i, r := range b.rows {
		if r.mod != nil && r.mod.Name == "top" {
			b.selected = i
		}
	}
	if list := b.fixes(); len(list) != 1 || list[0].root != "mid" {
		t.Errorf("top has the remedies %+v", list)
	}
	// Mods that failed for want of each other, and that nothing else mends, have no end.
	l := screentest.Look(t, "berth a\nberth b\nberth c\n", "a: b, c", "b: c, a", "c: a, b")
	for i := range l.Findings {
		l.Findings[i].Remedy, l.Findings[i].Changes = "", nil
	}
	b.set(l, screentest.Proved("a failed", "b failed", "c failed"), nil, nil)
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
	insist.Need(t, len(list) != 0, "b has no remedy")
	if cmd := screentest.Hit(m, fmt.Sprint(len(list)+1)); cmd != nil || b.Stuck {
		t.Errorf("a number too high begins something: %q", m.Notice)
	}
	m.Notice = ""
	if cmd := screentest.Hit(m, "1"); cmd == nil {
		t.Errorf("1 plans nothing: %q", m.Notice)
	}
}

func TestStagedWords(t *testing.T) {
	l := screentest.Look(t, screentest.Script, "a", "b", "c", "d")
	l.Staged = []lineup.Change{{Op: lineup.OpOff, Mod: "a"}, {Op: lineup.OpMove, Mod: "b", Where: lineup.Where{Before: "a"}}}
	b := &Board{}
	b.set(l, nil, nil, nil)
	insist.Same(t, "b is staged as", b.staged(l.Survey.Find("b")), "move before a")
	insist.Same(t, "a is staged as", b.staged(l.Survey.Find("a")), "switch off")
}

// What is wrong with the server and with no mod has a row of its own.
func TestServerRow(t *testing.T) {
	l := screentest.Look(t, "berth a\n", "a")
	l.Findings = append(l.Findings, check.Finding{Code: "port-busy", Severity: check.Error, Message: "port 1 is taken", Remedy: "stop what holds it"},
		check.Finding{Code: "setting-risky", Severity: check.Warning, Message: "cheats are on"})
	b := &Board{}
	b.set(l, nil, nil, nil)
	if r := b.current(); r.mod != nil || len(r.findings) != 2 || !troubled(r) {
		t.Fatalf("the first row is %+v", r)
	}
	c := canvas.New(120, 30)
	b.drawRows(c, 0, 20)
	b.drawStory(c, 21, 8)
	for _, want := range []string{"The server itself", "port 1 is taken, and 1 more", "! error   port 1 is taken", "~ warning cheats are on", "by hand   stop what holds it"} {
		insist.Holds(t, fmt.Sprintf("%q is not in", want), screentest.Plain(c), want)
	}
	b.step(1)
	if m := b.mod(); m == nil || m.Name != "a" {
		t.Errorf("below it is %+v", b.current())
	}
	b.trouble(1)
	insist.That(t, b.selected == 0, "the next trouble is elsewhere")
}

func TestFilters(t *testing.T) {
	b := &Board{}
	b.set(screentest.Look(t, "# ~~ One ~~\nberth a\nberth b\n# ~~ Two ~~\nberth c\n# berth d\n", "a: b", "b", "c", "d"), screentest.Proved("a failed", "b confirmed", "c silent"), nil, nil)
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
		insist.Same(t, name, seen[name], want)
	}
	if _, ok := seen["unlisted"]; ok {
		t.Error("a filter that lets nothing through is not passed over")
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
	known := screentest.Look(t, script.String(), mods...)
	known.Staged = []lineup.Change{{Op: lineup.OpOff, Mod: "m150"}}
	b.Update(lookMsg{look: known, last: screentest.Proved("m000 confirmed", "m070 silent", "m199 failed")})
	column := func() string {
		var shapes []rune
		for _, line := range strings.Split(ansi.Strip(m.View().Content), "\n")[frame.HeadHeight+1 : frame.HeadHeight+b.BoardHeight()] {
			shapes = append(shapes, []rune(line)[79])
		}
		return string(shapes)
	}
	place := func(row, h int) int { return row * h / len(b.rows) }
	at := func(name string) int {
		i := slices.IndexFunc(b.rows, func(r boardRow) bool { return r.mod != nil && r.mod.Name == name })
		return place(i, b.BoardHeight()-1)
	}
	b.seek("m100", "")
	got := []rune(column())
	for name, want := range map[string]rune{"m050": '!', "m150": '▷', "m199": '✕', "m070": '◌', "m010": '○', "m100": '│', "m030": '╎'} {
		insist.That(t, got[at(name)] == want, "%s is shown as %c, want %c, in %s", name, got[at(name)], want, string(got))
	}
	for _, name := range []string{"m050", "m199"} {
		b.Click(79, 1+at(name))
		if mod := b.mod(); mod == nil || mod.Name != name {
			t.Errorf("a click for %s goes to %+v", name, b.current())
		}
	}
	b.Click(79, 1+at("m030"))
	if mod := b.mod(); mod == nil || at(mod.Name) != at("m030") {
		t.Errorf("a click where there is no trouble goes to %+v", b.current())
	}
	b.Click(20, 1)
	if b.selected != b.scroll && b.selected != b.scroll+1 {
		t.Errorf("a click on a row goes to row %d of those from %d on", b.selected, b.scroll)
	}
	// Where all rows are seen there is none.
	_, few := boardOn(t, 80, 60)
	insist.That(t, !few.overview(few.BoardHeight()-1), "there is an overview of what is seen anyway")
}

// An answer that comes in after its screen was left lands nowhere: not on the board of
// another server, which is shown by then.
func TestLateAnswers(t *testing.T) {
	m, first := boardOn(t, 100, 30)
	late := first.Ask(func() tea.Msg { return lookMsg{look: screentest.Look(t, "berth late\n", "late")} })
	wish := first.Wish(func() tea.Msg { return stagedMsg{said: "staged on the first"} })
	screentest.Hit(m, "esc")
	second := New(m, "other")
	m.Open(second)
	second.Update(lookMsg{look: screentest.Look(t, "berth own\n", "own")})
	for _, cmd := range []tea.Cmd{late, wish} {
		m.Update(cmd())
	}
	if got := rowsOf(second); !strings.Contains(got, "own") || strings.Contains(got, "late") || strings.Contains(m.Notice, "first") {
		t.Errorf("the second board shows %s, %q", got, m.Notice)
	}
	// Of the board that is shown it lands.
	m.Update(second.Ask(func() tea.Msg { return lookMsg{look: screentest.Look(t, "berth late\n", "late")} })())
	insist.Holds(t, "its own look", rowsOf(second), "late")
}

// What is typed ahead of a change is carried out on what the board shows after it, in order;
// what only moves about, at once.
func TestTypedAhead(t *testing.T) {
	m, b := boardOn(t, 100, 30)
	b.seek("b", "")
	insist.Need(t, screentest.Hit(m, "o") != nil && b.owed, "nothing is staged")
	for _, k := range []string{"p", "up", "o"} {
		insist.That(t, screentest.Hit(m, k) == nil && !strings.Contains(m.Notice, "Nothing is staged"), "%s is carried out on what is not so any more: %q", k, m.Notice)
	}
	insist.Same(t, "the choice is on", b.mod().Name, "a")
	b.Stuck = false
	b.Update(stagedMsg{said: "staged"})
	after := screentest.Look(t, screentest.Script, "a", "b: c", "c", "d", "e")
	after.Staged = []lineup.Change{{Op: lineup.OpOff, Mod: "b"}}
	insist.That(t, b.Update(lookMsg{look: after}) != nil && b.Stuck && len(b.ahead) == 0, "the plan that was typed ahead is not asked for, or what comes after it waits: %q", b.ahead)
	b.owed, b.Stuck, b.ahead = true, false, nil
	for _, k := range []string{"w", "f", "i", "space", "x", "up"} {
		screentest.Hit(m, k)
	}
	b.Update(lookMsg{look: after})
	insist.That(t, b.Prompt != nil && b.Prompt.Value() == "fi x" && len(b.ahead) == 0, "what was typed ahead into a prompt: %v, %q", b.Prompt, b.ahead)
	b.Prompt = nil
	for range 2 * maxAhead {
		b.owed = true
		screentest.Hit(m, "o")
	}
	insist.That(t, len(b.ahead) == maxAhead, "%d keys are kept", len(b.ahead))
}

// While a look is under way no other begins; one that is asked for meanwhile follows it.
func TestLooksDoNotPileUp(t *testing.T) {
	_, b := boardOn(t, 100, 30)
	if cmd := b.Reload(); cmd == nil {
		t.Fatal("nothing is looked at")
	}
	for range 5 {
		insist.Need(t, b.Reload() == nil, "a second look begins beside the first")
	}
	if next := b.Update(lookMsg{look: screentest.Look(t, screentest.Script, "a")}); next == nil {
		t.Error("what was asked for meanwhile is not looked at")
	}
	if next := b.Update(lookMsg{look: screentest.Look(t, screentest.Script, "a")}); next != nil || b.looking {
		t.Error("it goes on looking")
	}
}

// A server that is still starting is stopped before it is started anew, though the board
// has not seen it run.
func TestStartAnewWhileItStarts(t *testing.T) {
	m, b := boardOn(t, 100, 30)
	b.WatchAnew(true)
	screentest.Hit(m, "esc")
	if cmd := b.startAnew(); cmd == nil || !b.Stuck || !strings.Contains(m.Notice, "Stopping") {
		t.Errorf("anew: %q", m.Notice)
	}
}

// Of a server with several lists the board says on which a mod stands.
func TestBoardNamesTheList(t *testing.T) {
	for demo, wants := range map[string]string{"lantern-moor": ", on the list ", "harrow-sound": "harbour.start, line "} {
		m, _ := boardOn(t, 140, 60)
		t.Cleanup(func() { m.App.Close() })
		dir := filepath.Join(t.TempDir(), demo)
		screentest.Must(t, os.CopyFS(dir, os.DirFS("../../../demo/"+demo)))
		screentest.Must(t, func() error { _, err := m.App.Adopt(t.Context(), app.Adoption{Dir: dir, As: "n"}); return err }())
		b := New(m, "n")
		m.Open(b)
		screentest.Carry(m, b.Shown())
		said := ""
		for i := range b.look.Survey.Mods {
			if mod := &b.look.Survey.Mods[i]; len(mod.Entries) > 0 {
				said += b.declared(mod) + "\n"
			}
		}
		if !strings.Contains(said, wants) || strings.Contains(said, "line 0") || demo == "harrow-sound" && strings.Contains(said, "list") {
			t.Errorf("%s: the mods are declared in\n%s", demo, said)
		}
	}
}

func FuzzKeys(f *testing.F) {
	f.Add("jjjkkt?xomp", uint8(80), uint8(24))
	f.Add("ggnabc\rq", uint8(20), uint8(5))
	f.Add("slSXlcgiCE=w", uint8(90), uint8(25))
	const most = 300 // keys; each has a picture
	f.Fuzz(func(t *testing.T, keys string, w, h uint8) {
		keys = keys[:min(len(keys), most)]
		m, b := boardOn(t, int(w), int(h))
		names := map[rune]string{'U': "up", 'V': "down", 'E': "enter", 'Y': "esc", 'Z': "end", 'P': "pgdown", 'Q': "pgup", 'I': "tab"}
		for _, k := range keys {
			name := string(k)
			if n, ok := names[k]; ok {
				name = n
			}
			if k == 'q' && m.Prompt == nil { // it closes the screen
				continue
			}
			m.Update(screentest.Press(name)) // what it begins is not carried out
			m.Top().Place().Stuck = false
			b.owed, b.ahead = false, nil
			screentest.Shape(t, m, int(w), int(h), keys)
		}
		if b.watching != nil {
			b.watching.Unwatch()
		}
		if s := b.Ongoing("search", b.name); s != nil {
			s.Close()
		}
		m.Wait()
	})
}

func TestEverySize(t *testing.T) {
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
		b := New(m, "h")
		b.Update(lookMsg{look: known(t), last: screentest.Proved("a confirmed", "b failed", "c silent", "e unlisted")})
		return b
	})
}

// A click chooses a row, and the wheel moves the choice.
func TestMouse(t *testing.T) {
	m, b := boardOn(t, 140, 43)
	b.selected = 0
	m.Update(tea.MouseClickMsg{X: 5, Y: frame.HeadHeight + 3})
	insist.That(t, b.selected != 0, "a click on a row chooses nothing")
	was := b.selected
	m.Update(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	if b.selected == was && b.selected < len(b.rows)-1 {
		t.Error("the wheel moves nothing")
	}
}

// A board that is left ends the watch of its server, and forgets it.
func TestWatchEndsWithTheBoard(t *testing.T) {
	m, b := boardOn(t, 100, 30)
	b.WatchAnew(false)
	if screentest.Hit(m, "esc"); m.Top() != frame.Screen(b) || b.Ongoing("watch", b.name) == nil {
		t.Errorf("left for the board, which shows %T, the watch goes on: %v", m.Top(), b.Ongoing("watch", b.name) != nil)
	}
	if screentest.Hit(m, "esc"); m.Top() == frame.Screen(b) || b.Ongoing("watch", b.name) != nil {
		t.Errorf("the board is left for %T, and its watch goes on", m.Top())
	}
	m.Wait()
}
