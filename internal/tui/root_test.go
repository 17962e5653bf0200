package tui

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/host"
)

// An answer that comes in after its screen was left lands nowhere: not on the board of
// another server, which is shown by then.
func TestLateAnswers(t *testing.T) {
	m, first := boardOn(t, 100, 30)
	late := first.ask(func() tea.Msg { return lookMsg{look: look(t, "berth late\n", "late")} })
	wish := first.wish(func() tea.Msg { return stagedMsg{said: "staged on the first"} })
	m.key("esc")
	second := newBoard(m, "other")
	m.open(second)
	second.update(lookMsg{look: look(t, "berth own\n", "own")})
	for _, cmd := range []tea.Cmd{late, wish} {
		m.Update(cmd())
	}
	if got := rowsOf(second); !strings.Contains(got, "own") || strings.Contains(got, "late") || strings.Contains(m.notice, "first") {
		t.Errorf("the second board shows %s, %q", got, m.notice)
	}
	// Of the board that is shown it lands.
	m.Update(second.ask(func() tea.Msg { return lookMsg{look: look(t, "berth late\n", "late")} })())
	if got := rowsOf(second); !strings.Contains(got, "late") {
		t.Errorf("its own look shows %s", got)
	}
}

// What is typed ahead of a change is carried out on what the board shows after it, in order;
// what only moves about, at once.
func TestTypedAhead(t *testing.T) {
	m, b := boardOn(t, 100, 30)
	b.seek("b", "")
	if m.key("o") == nil || !b.owed {
		t.Fatal("nothing is staged")
	}
	for _, k := range []string{"p", "up", "o"} {
		if m.key(k) != nil || strings.Contains(m.notice, "Nothing is staged") {
			t.Errorf("%s is carried out on what is not so any more: %q", k, m.notice)
		}
	}
	if b.mod().Name != "a" {
		t.Errorf("the choice is on %s", b.mod().Name)
	}
	b.stuck = false
	b.update(stagedMsg{said: "staged"})
	after := look(t, script, "a", "b: c", "c", "d", "e")
	after.Staged = []lineup.Change{{Op: lineup.OpOff, Mod: "b"}}
	if b.update(lookMsg{look: after}) == nil || !b.stuck || len(b.ahead) != 0 {
		t.Errorf("the plan that was typed ahead is not asked for, or what comes after it waits: %q", b.ahead)
	}
	for range 2 * maxAhead {
		b.owed = true
		m.key("o")
	}
	if len(b.ahead) != maxAhead {
		t.Errorf("%d keys are kept", len(b.ahead))
	}
}

// While a look is under way no other begins; one that is asked for meanwhile follows it.
func TestLooksDoNotPileUp(t *testing.T) {
	_, b := boardOn(t, 100, 30)
	if cmd := b.reload(); cmd == nil {
		t.Fatal("nothing is looked at")
	}
	for range 5 {
		if b.reload() != nil {
			t.Fatal("a second look begins beside the first")
		}
	}
	if next := b.update(lookMsg{look: look(t, script, "a")}); next == nil {
		t.Error("what was asked for meanwhile is not looked at")
	}
	if next := b.update(lookMsg{look: look(t, script, "a")}); next != nil || b.looking {
		t.Error("it goes on looking")
	}
	l := newServerList(b.model, "")
	if l.reload() == nil || l.reload() != nil || l.judgeLate() == nil || l.judgeLate() != nil {
		t.Error("looks at all servers pile up")
	}
}

// What is pasted is typed: in every prompt, with the end of its line taken off, and a whole
// path in place of the folder that was proposed.
func TestPaste(t *testing.T) {
	m, b := boardOn(t, 100, 30)
	type done struct{ value string }
	var got []done
	ask := func(paths bool, value string) {
		p := newPrompt("? ", value, func(s string) tea.Cmd { got = append(got, done{s}); return nil })
		p.paths = paths
		m.prompt = p
	}
	for _, row := range []struct {
		paths           bool
		proposed, paste string
		keys            []string
		want            string
	}{
		{false, "", "Fair weather\n", nil, "Fair weather"}, {false, "", "a\x1b[2Jb", nil, "a[2Jb"}, {false, "old ", "new", nil, "old new"}, {false, "/a", "/b", nil, "/a/b"},
		{true, "/srv/in/", "/home/me/x.zip\n", nil, "/home/me/x.zip"}, {true, "/srv/in/", "x.zip", nil, "/srv/in/x.zip"}, {true, "/srv/in/", "~/x.zip", nil, "~/x.zip"},
		{true, "/srv/in/", "", []string{"/", "t", "m", "p"}, "/tmp"}, {true, "/srv/in/", "", []string{"a", "/", "b"}, "/srv/in/a/b"}, {true, "/srv/in/", "x", []string{"left", "left", "y"}, "/srv/iny/x"},
	} {
		ask(row.paths, row.proposed)
		if row.paste != "" {
			m.Update(tea.PasteMsg{Content: row.paste})
		}
		for _, k := range row.keys {
			m.Update(press(k))
		}
		m.Update(press("enter"))
		value := got[len(got)-1].value
		if value != row.want {
			t.Errorf("%+v gives %q", row, value)
		}
	}
	if m.prompt != nil || len(b.rows) == 0 {
		t.Error("a prompt is left")
	}
	m.Update(tea.PasteMsg{Content: "o"}) // where nothing is typed a paste is no key
	if b.stuck || m.prompt != nil {
		t.Error("a paste is taken for a key")
	}
}

// Files are listed as a path is typed, chosen by the arrow keys and completed by Tab, and
// what was typed before is found again.
func TestPathsAreListed(t *testing.T) {
	m, _ := boardOn(t, 100, 30)
	dir := t.TempDir()
	for _, name := range []string{"kelp-1.zip", "kelp-2.zip", "rope.zip", "tide/x"} {
		must(t, errors.Join(os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755), os.WriteFile(filepath.Join(dir, name), nil, 0o644)))
	}
	var got string
	open := func(value string) {
		p, cmd := pathPrompt(m, "File: ", value, func(s string) tea.Cmd { got = s; return nil })
		m.prompt = p
		carry(m, cmd)
	}
	keys := func(list ...string) {
		for _, k := range list {
			_, cmd := m.Update(press(k))
			carry(m, cmd)
		}
	}
	open(dir + "/")
	if shown := m.View().Content; !strings.Contains(shown, "kelp-1.zip") || !strings.Contains(shown, "tide/") {
		t.Errorf("it lists\n%s", shown)
	}
	keys("k", "tab")
	if v := m.prompt.value(); v != dir+"/kelp-" || len(m.prompt.list) != 2 {
		t.Errorf("Tab makes %q of it, list %q", v, m.prompt.list)
	}
	keys("down", "down", "enter")
	if got != dir+"/kelp-2.zip" {
		t.Errorf("chosen is %q", got)
	}
	open("")
	carry(m, func() tea.Msg { return tea.PasteMsg{Content: dir + "/ti"} })
	keys("tab", "enter")
	if got != dir+"/tide/" {
		t.Errorf("completed is %q", got)
	}
	m.prompt = newPrompt("Console: ", "", func(s string) tea.Cmd { got = s; return nil })
	keys("a", "enter")
	m.prompt = newPrompt("Console: ", "", func(s string) tea.Cmd { got = s; return nil })
	keys("b", "enter")
	m.prompt = newPrompt("Console: ", "", func(s string) tea.Cmd { got = s; return nil })
	keys("up", "up", "up", "down", "enter")
	if got != "b" {
		t.Errorf("recalled is %q", got)
	}
}

// Searches on two servers go on side by side; each is found again from its own board, and
// all have ended when the screen has.
func TestTwoSearches(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	m, first := boardOn(t, 100, 30)
	m.ctx = ctx
	searchCulprit(first.desk, "h", "one")
	one := m.top()
	m.key("esc")
	m.key("esc")
	second := newBoard(m, "other")
	m.open(second)
	second.update(lookMsg{look: look(t, script, "a")})
	searchCulprit(second.desk, "other", "two")
	two := m.top()
	m.key("esc")
	askCulprit(second)
	if m.top() != two || one == two {
		t.Errorf("the second server's own search is not shown again")
	}
	m.key("esc")
	m.key("esc")
	again := newBoard(m, "h")
	m.open(again)
	again.update(lookMsg{look: look(t, script, "a")})
	askCulprit(again)
	if m.top() != one {
		t.Error("the first search is lost")
	}
	cancel()
	ended := make(chan struct{})
	go func() { m.work.Wait(); close(ended) }()
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Error("a search goes on when the screen has ended")
	}
}

// Leaving a board ends what watched its server; nothing of a closed screen takes answers.
func TestClosedScreensAreForgotten(t *testing.T) {
	m, b := boardOn(t, 100, 30)
	before := len(m.desks)
	for range 5 {
		carry(m, b.enter(newLedgerView(m, "h", "/srv", nil)))
		m.key("esc")
		w := watching(b)
		w.keepOpen("watch", w.server)
		m.key("esc")
		if m.desks[w.id] == nil {
			t.Fatal("a watch that was left takes no more news")
		}
		w.unwatch()
	}
	if len(m.desks) != before || len(m.stack) != 2 || len(m.kept) != 0 {
		t.Errorf("%d desks where there were %d, %d screens, %d kept", len(m.desks), before, len(m.stack), len(m.kept))
	}
	w := watching(b)
	w.keepOpen("watch", w.server)
	ended := false
	w.cancel = func() { ended = true }
	m.key("esc")
	m.key("esc")
	if !ended || len(m.stack) != 1 || len(m.desks) != 1 {
		t.Errorf("after the board: ended %v, %d screens, %d desks", ended, len(m.stack), len(m.desks))
	}
}

// The mouse chooses and scrolls on every screen that has something to choose.
func TestMouse(t *testing.T) {
	m, b := boardOn(t, 140, 43)
	for name, s := range everyScreen(t, m, b) {
		m.open(s)
		shape(t, m, name)
		m.Update(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
		shape(t, m, name+", down")
		m.Update(tea.MouseWheelMsg{Button: tea.MouseWheelUp})
		for y := range m.h {
			m.Update(tea.MouseClickMsg{X: 5, Y: y})
			shape(t, m, name+", clicked")
			for len(m.stack) > 3 {
				m.stack = m.stack[:len(m.stack)-1]
			}
		}
		m.stack = m.stack[:2]
	}
	b.selected = 0
	m.Update(tea.MouseClickMsg{X: 5, Y: headHeight + 3})
	if b.selected == 0 {
		t.Error("a click on a row chooses nothing")
	}
	was := b.selected
	m.Update(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	if b.selected == was && b.selected < len(b.rows)-1 {
		t.Error("the wheel moves nothing")
	}
	servers := m.stack[0].(*serverList)
	servers.loaded, servers.list = true, []app.Summary{{Name: "h"}, {Name: "x"}}
	m.stack = m.stack[:1]
	m.Update(tea.MouseClickMsg{X: 5, Y: headHeight + 2})
	if servers.selected != 1 {
		t.Error("a click chooses no server")
	}
	m.Update(tea.MouseClickMsg{X: 5, Y: headHeight + 2})
	if opened, ok := m.top().(*board); !ok || opened.name != "x" {
		t.Error("a second click opens no board")
	}
}

// The ledger tells what the selected entry did, once for each, and why it cannot.
func TestLedgerTellsLines(t *testing.T) {
	m, _ := boardOn(t, 80, 24)
	l := newLedgerView(m, "h", "/srv", []host.Entry{{Number: 0}, {Number: 1, Why: "one", Files: []string{"/srv/start"}}, {Number: 2, Why: "two", Files: []string{"/srv/other"}}})
	m.open(l)
	said := func() string { return ansi.Strip(m.View().Content) }
	if cmd := l.shown(); cmd == nil || !strings.Contains(said(), "other") {
		t.Errorf("before it is known:\n%s", said())
	}
	after := planRows("/srv", planOf(t), 1)
	l.update(didMsg{number: 2, rows: after})
	if l.shown() != nil || !strings.Contains(said(), "goes") || !strings.Contains(said(), "# berth a") {
		t.Errorf("once it is known:\n%s", said())
	}
	long := slices.Repeat(after, 9)
	l.update(didMsg{number: 2, rows: long})
	if !strings.Contains(said(), "lines more; initium ledger") {
		t.Errorf("of many lines:\n%s", said())
	}
	if l.key("down") == nil {
		t.Error("the next entry is not asked for")
	}
	l.update(didMsg{number: 1, err: errors.New("it is torn")})
	if !strings.Contains(said(), "cannot be told: it is torn") {
		t.Errorf("when it cannot be told:\n%s", said())
	}
	l.key("down")
	if !strings.Contains(said(), "as Initium found the server") {
		t.Errorf("of the first:\n%s", said())
	}
}

// A plan that is left goes back to where it was asked for in the ledger, and to the board
// from anywhere else; while a plan is written nothing else begins.
func TestPlansAreLeft(t *testing.T) {
	m, b := boardOn(t, 100, 30)
	l := newLedgerView(m, "h", "/srv", nil)
	m.open(l)
	planMsg{server: "h", why: "back", plan: planOf(t), back: true}.open(l.desk)
	m.key("esc")
	if m.top() != screen(l) {
		t.Errorf("a plan of the ledger is left for %T", m.top())
	}
	m.open(newCompareView(m, "h", &proof.Comparison{}))
	planMsg{server: "h", why: "on", plan: planOf(t)}.open(m.top().place())
	m.key("esc")
	if m.top() != screen(b) || !strings.Contains(m.notice, "Staged, and not written") {
		t.Errorf("it is left for %T: %q", m.top(), m.notice)
	}
	planMsg{err: errors.New("no\x1b[2J way")}.open(b.desk)
	if !m.bad || strings.Contains(m.notice, "\x1b") {
		t.Errorf("a plan that cannot be made says %q", m.notice)
	}
	planMsg{server: "h", why: "on", plan: planOf(t)}.open(b.desk)
	v := m.top().(*planView)
	if cmd := m.key("enter"); cmd == nil || !v.stuck {
		t.Fatal("Enter writes nothing")
	}
	if cmd := m.key("enter"); cmd != nil {
		t.Error("it is written twice")
	}
	v.update(appliedMsg{why: lineup.Change{Op: lineup.OpOff, Mod: "a"}.String()})
	if m.top() != screen(b) || !strings.Contains(m.notice, "Done: switch a off") {
		t.Errorf("written, it shows %T: %q", m.top(), m.notice)
	}
}
