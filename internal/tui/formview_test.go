package tui

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
)

// A server is adopted without leaving the screen: its folder is chosen from a list that
// tells which family fits, its values are asked with what holds by itself, and its board
// opens. They can be changed later, and begun anew for a folder that no dialect knows.
func TestAdoptOnTheScreen(t *testing.T) {
	m, _ := boardOn(t, 100, 30)
	t.Cleanup(func() { m.app.Close() })
	m.app.Exe = os.Args[0] // the demo's servers are played by the program itself
	carry(m, m.leave(func(screen) bool { return false }))
	list := m.top().(*serverList)
	dir := t.TempDir()
	must(t, errors.Join(os.CopyFS(filepath.Join(dir, "pier"), os.DirFS("../../demo/harrow-sound")), os.MkdirAll(filepath.Join(dir, "shed", "mods", "axe"), 0o755), os.WriteFile(filepath.Join(dir, "shed", "go.txt"), []byte("# \x1b[2Jshed\nuse axe\n"), 0o644)))
	keys := func(list ...string) {
		for _, k := range list {
			_, cmd := m.Update(press(k))
			carry(m, cmd)
		}
	}
	type_ := func(s string) { carry(m, func() tea.Msg { return tea.PasteMsg{Content: s} }) }
	shows := func(wants ...string) {
		t.Helper()
		got := m.View().Content
		for _, want := range wants {
			if !strings.Contains(got, want) {
				t.Errorf("it does not show %q:\n%s", want, got)
			}
		}
	}
	shows("No server is adopted yet", "adopt one")
	keys("a")
	type_(dir + "/")
	shows("pier/", "harrow-sound", "shed/")
	keys("down", "enter")
	f, ok := m.top().(*serverForm)
	if !ok || f.selected != f.rows()-1 {
		t.Fatalf("after the folder comes %T", m.top())
	}
	shows("◆ its files fit", "Adopt it")
	keys("home", "enter", "backspace")
	type_("s-2")
	keys("enter") // its name
	at := formHead
	for f.values[at-formHead].Name != "port" {
		at++
	}
	f.choose(at)
	keys("enter")
	m.prompt.set("x")
	keys("enter")
	if !m.bad || !strings.Contains(m.notice, "no port") {
		t.Errorf("a port that is none: %q", m.notice)
	}
	keys("enter")
	m.prompt.set("31999")
	keys("enter", "end", "enter")
	if b, ok := m.top().(*board); !ok || b.name != "pies-2" {
		t.Fatalf("after it was adopted comes %T", m.top())
	}
	keys("esc")
	if m.top() != list || len(list.list) != 1 || list.list[0].Port != "31999" {
		t.Fatalf("the servers are %+v", list.list)
	}
	keys("e")
	f = m.top().(*serverForm)
	for i, v := range f.values {
		if v.Name == "port" {
			f.choose(i)
		}
	}
	keys("enter")
	m.prompt.set("31998")
	keys("enter")
	if entries, err := m.app.Ledger("pies-2"); err != nil || len(entries) != 2 || entries[1].Why != "give: port is 31998, not 31999" {
		t.Errorf("the ledger has %+v, %v", entries, err)
	}
	shows("31998")
	keys("enter")
	m.prompt.set("")
	keys("enter")
	if v := f.value(); v.Given || v.Value == "31998" {
		t.Errorf("taken back it is %+v", v)
	}
	keys("esc", "a")
	m.prompt.set(dir + "/shed")
	keys("enter")
	f = m.top().(*serverForm)
	if f.selected != 1 {
		t.Errorf("of a folder that none fits row %d is chosen", f.selected)
	}
	shows("its files do not fit", "No dialect recognises this folder")
	keys("right", "left", "D")
	type_("go.txt")
	keys("enter")
	o, ok := m.top().(*outlineView)
	if !ok {
		t.Fatalf("to begin a dialect comes %T, %q", m.top(), m.notice)
	}
	shows("use axe", "# shed")
	keys("down", "enter", "enter", "enter", "esc")
	if m.top() != f || o.outline == nil || f.about.Fit != 0 && f.about.Families[0] != "shed" {
		t.Errorf("after it comes %T with %+v", m.top(), f.about)
	}
	keys("esc", "a")
	m.prompt.set(dir + "/none")
	keys("enter")
	if m.top() != list || !m.bad || !strings.Contains(m.notice, "no such file") {
		t.Errorf("a folder that is not there: %T, %q", m.top(), m.notice)
	}
}

// forms are both kinds of it, for the tests of every screen.
func forms(t *testing.T, m *model, dir string) (adoption, values *serverForm) {
	t.Helper()
	adoption, values = newAdoption(m, func(string) {}, dir), newValues(m, &app.Summary{Name: "h", Dir: dir})
	for _, f := range []*serverForm{adoption, values} {
		m.open(f)
		carry(m, f.shown())
		m.stack = m.stack[:len(m.stack)-1]
	}
	return adoption, values
}

// Of a server with several lists the board says on which a mod stands.
func TestBoardNamesTheList(t *testing.T) {
	for demo, wants := range map[string]string{"lantern-moor": ", on the list ", "harrow-sound": "harbour.start, line "} {
		m, _ := boardOn(t, 140, 60)
		t.Cleanup(func() { m.app.Close() })
		dir := filepath.Join(t.TempDir(), demo)
		must(t, os.CopyFS(dir, os.DirFS("../../demo/"+demo)))
		must(t, second(m.app.Adopt(t.Context(), app.Adoption{Dir: dir, As: "n"})))
		b := newBoard(m, "n")
		m.open(b)
		carry(m, b.shown())
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

// A secret is asked for without being shown, proposed or found again.
func TestSecretsAreTypedUnseen(t *testing.T) {
	m, _ := boardOn(t, 100, 30)
	got := ""
	ask := func() {
		m.prompt = newPrompt("token: ", "hush", func(s string) tea.Cmd { got = s; return nil })
		m.prompt.hide()
	}
	ask()
	for _, k := range []string{"o", "w", "l"} {
		m.Update(press(k))
	}
	if shown := m.View().Content; strings.Contains(shown, "owl") || strings.Contains(shown, "hush") || !strings.Contains(shown, "•••") {
		t.Errorf("it shows\n%s", shown)
	}
	m.Update(press("enter"))
	ask()
	m.Update(press("up"))
	if v := m.prompt.value(); got != "owl" || v != "" {
		t.Errorf("taken is %q, found again %q", got, v)
	}
}
