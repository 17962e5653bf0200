package settingsview

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/lineup"
	"initium/internal/core/setting"
	"initium/internal/insist"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

// harbour is a server with some files of settings, and its settings on the screen.
func harbour(t *testing.T) (m *frame.Model, v *view, dir string) {
	t.Helper()
	m, seat := screentest.Root(t, 120, 50)
	dir = filepath.Join(t.TempDir(), "server")
	screentest.Must(t, os.CopyFS(dir, os.DirFS("../../../demo/harrow-sound")))
	for name, data := range map[string]string{
		"conf/net.properties":           "slots=8\nopen=yes\n#motd = hello\nadmin-password=hunter22\nslots=12\n",
		"conf/torn.json":                "{",
		"stores/tide_tables/tides.json": `{"every": 12}`,
	} {
		screentest.Must(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		screentest.Must(t, os.WriteFile(filepath.Join(dir, name), []byte(data), 0o644))
	}
	_, err := m.App.Adopt(t.Context(), app.Adoption{Dir: dir, As: "h", Set: map[string]string{"port": "27310"}})
	screentest.Must(t, err)
	seat.Look, err = m.App.LookAhead("h")
	screentest.Must(t, err)
	screentest.Carry(m, Door.Open(seat))
	v, ok := m.Top().(*view)
	insist.Need(t, ok, "the settings are not shown: %s", screentest.Text(m))
	return m, v, dir
}

// at chooses a setting.
func at(t *testing.T, v *view, file, name string, nth int) {
	t.Helper()
	for i, r := range v.rows {
		if s := v.setting(r); s != nil && s.File == file && s.Name == name {
			if nth--; nth < 0 {
				v.selected = i
				return
			}
		}
	}
	t.Fatalf("%s is not set in %s", name, file)
}

func hit(m *frame.Model, keys ...string) {
	for _, k := range keys {
		screentest.Carry(m, screentest.Hit(m, k))
	}
}

func answer(m *frame.Model, typed string) {
	screentest.Type(m, typed)
	hit(m, "enter")
}

// staged are the changes that are staged.
func staged(t *testing.T, m *frame.Model) string {
	t.Helper()
	list, err := m.App.Staged("h")
	screentest.Must(t, err)
	var words []string
	for _, c := range list {
		words = append(words, fmt.Sprintf("%s:%d", c, c.Line))
	}
	return strings.Join(words, "|")
}

func TestSettingsAreShown(t *testing.T) {
	m, v, _ := harbour(t)
	said := screentest.Text(m)
	insist.Holds(t, "the picture", said, "harbour.start", "licence", "••••••", "conf/net.properties", "set again on line 5", "in a comment",
		"stores/tide_tables/tides.json   made by tide_tables", "Not understood", "conf/torn.json", "what players see in the list of servers")
	insist.Lacks(t, "the picture", said, "hunter22")
	at(t, v, "stores/tide_tables/tides.json", "every", 0)
	insist.Holds(t, "its story", screentest.Text(m), "It is one that tide_tables has made.", "12 (a number)", "Initium has not changed it.")
	at(t, v, "conf/net.properties", "motd", 0)
	insist.Holds(t, "its story", screentest.Text(m), "in a comment, hello; another value puts it in force")
	at(t, v, "conf/net.properties", "slots", 0)
	insist.Holds(t, "its story", screentest.Text(m), "It is set once more on line 5")
	hit(m, "home")
	insist.That(t, v.setting(v.current()) != nil, "the heading is chosen")
	hit(m, "t")
	insist.Same(t, "the next trouble", v.setting(v.current()).Name, "slots")
	hit(m, "end")
	insist.That(t, v.setting(v.current()) != nil, "what is not understood is chosen")
}

func TestFindAsYouType(t *testing.T) {
	m, v, _ := harbour(t)
	hit(m, "/")
	screentest.Type(m, "SLOT 1")
	insist.Holds(t, "while it is typed", screentest.Text(m), "1 of ", `hold "SLOT 1"`)
	insist.Same(t, "what is left", v.setting(v.current()).Value, "12")
	hit(m, "enter")
	insist.Same(t, "what is looked for", v.words, "SLOT 1")
	hit(m, "/")
	screentest.Type(m, "nothing has this")
	insist.Holds(t, "where nothing fits", screentest.Text(m), "No setting holds that. Esc shows all.")
	hit(m, "esc")
	insist.Same(t, "after Esc", v.words, "SLOT 1")
	hit(m, "esc")
	insist.That(t, v.words == "" && m.Top() == frame.Screen(v), "Esc does not show all")
	hit(m, "esc")
	insist.That(t, m.Top() != frame.Screen(v), "Esc does not leave")
}

func TestValuesAreChanged(t *testing.T) {
	m, v, dir := harbour(t)
	file := filepath.Join(dir, "conf/net.properties")
	at(t, v, "conf/net.properties", "open", 0)
	hit(m, " ")
	insist.Same(t, "flipped", staged(t, m), "set open to no in net.properties:0")
	insist.Holds(t, "beside the old one", screentest.Text(m), "yes → no", "1 change staged", "no; staged, and not written yet")
	hit(m, " ")
	insist.Holds(t, "flipped back", staged(t, m), "to no in", "set open to yes")
	hit(m, "u", "u", "u")
	insist.Same(t, "taken back", staged(t, m), "")
	at(t, v, "conf/net.properties", "slots", 1)
	hit(m, " ")
	insist.Holds(t, "of a number", m.Notice, "slots is no yes or no")
	hit(m, "enter")
	insist.Same(t, "the value is there to be typed over", m.Prompt.Value(), "12")
	answer(m, "many")
	insist.That(t, m.Bad && strings.Contains(m.Notice, "it is the number 12"), "of a wrong kind it says %q", m.Notice)
	hit(m, "enter")
	answer(m, "12")
	insist.Same(t, "the same value", staged(t, m), "")
	hit(m, "enter")
	answer(m, "16")
	insist.Same(t, "one of two", staged(t, m), "set slots to 16 in net.properties:5")
	at(t, v, "conf/net.properties", "admin-password", 0)
	hit(m, "enter")
	insist.Same(t, "a secret is not begun with", m.Prompt.Value(), "")
	answer(m, "sesame77")
	insist.Holds(t, "a secret is staged", screentest.Text(m), "•••••• → another one, hidden")
	insist.Lacks(t, "a secret is staged", screentest.Text(m), "sesame77")
	at(t, v, "conf/net.properties", "motd", 0)
	hit(m, "d")
	insist.Holds(t, "what is in a comment", m.Notice, "not in force")
	hit(m, "a")
	answer(m, "no sign")
	insist.Holds(t, "nothing new", m.Notice, "NAME = VALUE")
	hit(m, "a")
	answer(m, "fresh = a = b")
	at(t, v, "conf/net.properties", "open", 0)
	hit(m, "d")
	insist.Holds(t, "taken out", screentest.Text(m), "yes → taken out")
	hit(m, "p")
	insist.Holds(t, "the plan", screentest.Text(m), "slots=16", "fresh=a = b", "open=yes")
	insist.Lacks(t, "the plan", screentest.Text(m), "sesame77", "hunter22")
	hit(m, "enter")
	now, err := os.ReadFile(file)
	screentest.Must(t, err)
	insist.Same(t, "the file", string(now), "slots=8\n#motd = hello\nadmin-password=sesame77\nslots=16\nfresh=a = b\n")
}

// Who has set something is told by the ledger, and that somebody else has.
func TestSince(t *testing.T) {
	m, v, dir := harbour(t)
	file := filepath.Join(dir, "conf/net.properties")
	for _, c := range []lineup.Change{{Op: lineup.OpSet, Mod: "open", To: "no", File: file}, {Op: lineup.OpSet, Mod: "slots", To: "9", File: file, Line: 1}} {
		_, err := m.App.Change(t.Context(), "h", nil, c)
		screentest.Must(t, err)
	}
	screentest.Carry(m, v.Shown())
	at(t, v, "conf/net.properties", "open", 0)
	insist.Holds(t, "an older entry", screentest.Text(m), "Entry 1, ", ": set open to no in net.properties")
	at(t, v, "conf/net.properties", "slots", 0)
	insist.Holds(t, "the newest entry", screentest.Text(m), "Entry 2, ")
	at(t, v, "conf/net.properties", "slots", 1)
	insist.Holds(t, "another place of it", screentest.Text(m), "Initium has not changed it.")
	data, err := os.ReadFile(file)
	screentest.Must(t, err)
	screentest.Must(t, os.WriteFile(file, []byte(strings.Replace(string(data), "open=no", "open=yes", 1)), 0o644))
	screentest.Carry(m, v.Again())
	at(t, v, "conf/net.properties", "open", 0)
	insist.Holds(t, "by somebody else", screentest.Text(m), "somebody else has changed it since", "changed by others since entry 2")
}

// Where a file was changed more often than is looked at, nothing is said of what lies further back.
func TestSinceLongAgo(t *testing.T) {
	m, v, dir := harbour(t)
	file := filepath.Join(dir, "conf/net.properties")
	for i := range 101 {
		_, err := m.App.Change(t.Context(), "h", nil, lineup.Change{Op: lineup.OpSet, Mod: "slots", To: fmt.Sprint(20 + i), File: file, Line: 1})
		screentest.Must(t, err)
	}
	screentest.Carry(m, v.Shown())
	at(t, v, "conf/net.properties", "open", 0)
	insist.Holds(t, "a setting that was not among them", screentest.Text(m), "It was so before entry 2; what lies further back is not looked at.")
	at(t, v, "conf/net.properties", "slots", 0)
	insist.Holds(t, "the one that was", screentest.Text(m), "Entry 101, ")
}

// The whole file is edited on a copy, which is gone afterwards, and what was changed becomes a plan.
func TestWholeFile(t *testing.T) {
	m, v, dir := harbour(t)
	file := filepath.Join(dir, "conf/net.properties")
	program := filepath.Join(t.TempDir(), "edit")
	screentest.Must(t, os.WriteFile(program, []byte("#!/bin/sh\necho \"$2\" >\"$0.seen\"\necho 'added=1' >>\"$2\"\n"), 0o755))
	t.Setenv("VISUAL", "")
	t.Setenv("EDITOR", "'"+program+"' -x")
	edit, err := m.App.BeginEdit("h", "conf/net.properties")
	screentest.Must(t, err)
	screentest.Must(t, edit.Command().Run())
	seen, err := os.ReadFile(program + ".seen")
	screentest.Must(t, err)
	copied := strings.TrimSpace(string(seen))
	insist.That(t, filepath.Base(copied) == "net.properties" && copied != file, "it edits %s", copied)
	c, changed, err := edit.Done()
	insist.That(t, changed && err == nil, "changed %v, %v", changed, err)
	_, err = os.Stat(filepath.Dir(copied))
	insist.That(t, os.IsNotExist(err), "the copy stays: %v", err)
	screentest.Carry(m, v.Update(editedMsg{c, false, nil}))
	insist.Holds(t, "where nothing was", m.Notice, "Nothing was changed.")
	screentest.Carry(m, v.Update(editedMsg{c, true, errors.New("it broke")}))
	insist.That(t, m.Bad && strings.Contains(m.Notice, "it broke"), "it says %q", m.Notice)
	_, wish := m.Update(nil)
	screentest.Carry(m, wish)
	screentest.Carry(m, v.Update(editedMsg{c, true, nil}))
	insist.Holds(t, "the plan", screentest.Text(m), "write net.properties", "added=1")
	hit(m, "enter")
	now, err := os.ReadFile(file)
	screentest.Must(t, err)
	insist.That(t, strings.HasSuffix(string(now), "slots=12\nadded=1\n"), "the file is %q", now)
	_, err = m.App.Change(t.Context(), "h", nil, c)
	insist.Fails(t, "once more, made of what was there before", err, "has changed meanwhile")
	screentest.Carry(m, v.Update(editMsg{err: errors.New("no editor")}))
	insist.That(t, m.Bad, "it does not complain")
}

// A finding leads to its setting.
func TestOpensAtAFinding(t *testing.T) {
	m, v, dir := harbour(t)
	v.findings = []check.Finding{{Code: check.CodeSettingRisky, Severity: check.Warning, File: filepath.Join(dir, "conf/net.properties"), Line: 2, Message: "open is yes: anybody comes in", Remedy: "set it otherwise"}}
	v.lay()
	at(t, v, "conf/net.properties", "open", 0)
	insist.Holds(t, "the finding", screentest.Text(m), "~ open is yes: anybody comes in", "remedy", "set it otherwise")
	opened := newView(m, opening{server: "h", dir: dir, file: filepath.Join(dir, "conf/net.properties"), line: 2}, v.found, nil)
	insist.Same(t, "it is opened at", opened.setting(opened.current()).Name, "open")
}

// crowd are many settings in many files.
func crowd(n int) *app.Settings {
	found := &app.Settings{Files: n / 100, Unread: []string{"odd.json: it is torn"}}
	at := time.Now()
	for i := range n {
		s := app.Setting{File: fmt.Sprintf("conf/%d/settings.properties", i/100), Path: fmt.Sprintf("/srv/conf/%d", i/100), Name: fmt.Sprintf("a.rather.long.name.of.a.setting.%d", i%100), Value: fmt.Sprint("value ", i), Line: i%100 + 1}
		s.Written, s.Kind, s.Off, s.About = s.Name, setting.Text, i%7 == 0, strings.Repeat("about it ", 20)
		if i%5 == 0 {
			s.Since = &app.Since{Entry: i, At: at, Why: "set it"}
		}
		found.List = append(found.List, s)
	}
	return found
}

func TestEverySize(t *testing.T) {
	screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
		return newView(m, opening{server: "h", dir: "/srv"}, crowd(300), []lineup.Change{{Op: lineup.OpSet, Mod: "a.rather.long.name.of.a.setting.3", To: strings.Repeat("港", 90), File: "/srv/conf/0"}})
	})
	m, _ := screentest.Root(t, 80, 24)
	m.Open(newView(m, opening{server: "h", dir: "/srv"}, &app.Settings{}, nil))
	insist.Holds(t, "where there is nothing", screentest.Text(m), "No file of this server sets anything")
	hit(m, "enter", " ", "d", "a", "E", "p", "u", "t", "down", "up")
}

// BenchmarkKey is a key and the picture that follows, of 10,000 settings.
func BenchmarkKey(b *testing.B) {
	m, _ := screentest.Root(b, 200, 60)
	v := newView(m, opening{server: "h", dir: "/srv"}, crowd(10_000), nil)
	m.Open(v)
	b.Run("down", func(b *testing.B) {
		for b.Loop() {
			screentest.Hit(m, "down")
			_ = m.View()
		}
	})
	b.Run("find", func(b *testing.B) {
		words := []string{"s", "se", "setting.7", "value 99"}
		for i := 0; b.Loop(); i++ {
			v.words = words[i%len(words)]
			v.lay()
			_ = m.View()
		}
	})
}
