package frame_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"initium/internal/insist"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

// What is pasted is typed: in every prompt, with the end of its line taken off, and a whole
// path in place of the folder that was proposed.
func TestPaste(t *testing.T) {
	m, s := screentest.Root(t, 100, 30)
	type done struct{ value string }
	var got []done
	ask := func(paths bool, value string) {
		p := frame.NewPrompt("? ", value, func(s string) tea.Cmd { got = append(got, done{s}); return nil })
		p.Paths = paths
		m.Prompt = p
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
			m.Update(screentest.Press(k))
		}
		m.Update(screentest.Press("enter"))
		value := got[len(got)-1].value
		insist.Same(t, fmt.Sprintf("%+v", row), value, row.want)
	}
	insist.That(t, m.Prompt == nil && len(s.Pressed) <= 0, "a prompt is left")
	m.Update(tea.PasteMsg{Content: "o"}) // where nothing is typed a paste is no key
	insist.That(t, len(s.Pressed) <= 0 && m.Prompt == nil, "a paste is taken for a key")
}

// Files are listed as a path is typed, chosen by the arrow keys and completed by Tab, and
// what was typed before is found again.
func TestPathsAreListed(t *testing.T) {
	m, _ := screentest.Root(t, 100, 30)
	dir := t.TempDir()
	for _, name := range []string{"kelp-1.zip", "kelp-2.zip", "rope.zip", "tide/x"} {
		screentest.Must(t, errors.Join(os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755), os.WriteFile(filepath.Join(dir, name), nil, 0o644)))
	}
	var got string
	open := func(value string) {
		p, cmd := frame.PathPrompt(m, "File: ", value, func(s string) tea.Cmd { got = s; return nil })
		m.Prompt = p
		screentest.Carry(m, cmd)
	}
	keys := func(list ...string) {
		for _, k := range list {
			_, cmd := m.Update(screentest.Press(k))
			screentest.Carry(m, cmd)
		}
	}
	open(dir + "/")
	insist.Holds(t, "it lists", m.View().Content, "kelp-1.zip", "tide/")
	keys("k", "tab")
	if v := m.Prompt.Value(); v != dir+"/kelp-" || strings.Contains(screentest.Text(m), "rope.zip") || !strings.Contains(screentest.Text(m), "kelp-2.zip") {
		t.Errorf("Tab makes %q of it, and lists\n%s", v, screentest.Text(m))
	}
	keys("down", "down", "enter")
	insist.Same(t, "chosen", got, dir+"/kelp-2.zip")
	open("")
	screentest.Carry(m, func() tea.Msg { return tea.PasteMsg{Content: dir + "/ti"} })
	keys("tab", "enter")
	insist.Same(t, "completed", got, dir+"/tide/")
	m.Prompt = frame.NewPrompt("Console: ", "", func(s string) tea.Cmd { got = s; return nil })
	keys("a", "enter")
	m.Prompt = frame.NewPrompt("Console: ", "", func(s string) tea.Cmd { got = s; return nil })
	keys("b", "enter")
	m.Prompt = frame.NewPrompt("Console: ", "", func(s string) tea.Cmd { got = s; return nil })
	keys("up", "up", "up", "down", "enter")
	insist.Same(t, "recalled", got, "b")
}

// A secret is asked for without being shown, proposed or found again.
func TestSecretsAreTypedUnseen(t *testing.T) {
	m, _ := screentest.Root(t, 100, 30)
	got := ""
	ask := func() {
		m.Prompt = frame.NewPrompt("token: ", "hush", func(s string) tea.Cmd { got = s; return nil })
		m.Prompt.Hide()
	}
	ask()
	for _, k := range []string{"o", "w", "l"} {
		m.Update(screentest.Press(k))
	}
	if shown := m.View().Content; strings.Contains(shown, "owl") || strings.Contains(shown, "hush") || !strings.Contains(shown, "•••") {
		t.Errorf("it shows\n%s", shown)
	}
	m.Update(screentest.Press("enter"))
	ask()
	m.Update(screentest.Press("up"))
	if v := m.Prompt.Value(); got != "owl" || v != "" {
		t.Errorf("taken is %q, found again %q", got, v)
	}
}
