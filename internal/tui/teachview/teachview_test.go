package teachview

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/host"
	"initium/internal/insist"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
)

// Rules are made by keys alone: a meaning, a name, more examples, a line that is none.
func TestTeachView(t *testing.T) {
	dir := t.TempDir()
	a := &app.App{Home: host.Home{Dir: filepath.Join(dir, "home")}}
	screentest.Must(t, os.MkdirAll(a.Home.DialectDir(), 0o700))
	const outline = "name = \"door\"\n[[place]]\npath = \"{dir}/mods\"\n[start]\ncommand = [\"x\"]\n"
	file, log := filepath.Join(a.Home.DialectDir(), "door.toml"), filepath.Join(dir, "log")
	lines := "10:00:00 I waking\n10:00:01 I tide is up, 12 ms\n10:00:02 E rock is up, but leaks\n10:00:03 I sand is up, 7 ms\n10:00:04 I open\x1b[2J\n"
	for name, data := range map[string]string{file: outline, log: lines} {
		screentest.Must(t, os.WriteFile(name, []byte(data), 0o600))
	}
	l, err := a.Teach("door", log, "", nil)
	screentest.Must(t, err)
	m := frame.New(t.Context(), a, nil)
	m.Update(tea.WindowSizeMsg{Width: 110, Height: 30})
	v := New(m, l, 0)
	m.Open(v)
	keys := func(list ...string) {
		for _, k := range list {
			if m.Prompt != nil && k != "enter" {
				screentest.Type(m, k)
				continue
			}
			_, cmd := m.Update(screentest.Press(k))
			screentest.Carry(m, cmd)
		}
	}
	show := func() string { return m.View().Content }
	keys("down", "1", "tide", "enter")
	insist.Need(t, v.taught != nil && v.taught.Rule.Line == "{mod} is up, {ms} ms" && len(v.taught.Matches) == 2, "the rule is %+v, %s", v.taught, m.Notice)
	if got := show(); !strings.Contains(got, "2 lines, marked") || !strings.Contains(got, "tide, sand") || strings.Contains(got, "\x1b[2J") {
		t.Errorf("it shows\n%q", got)
	}
	keys("down", "+", "rock", "enter")
	if got := v.taught.Rule.Line; got != "{mod} is up, {any}" {
		t.Errorf("with another example: %s, %s", got, m.Notice)
	}
	keys("esc", "up", "1", "tide", "enter", "end", "-", "home", "-")
	insist.That(t, len(v.lesson.Counter) == 2 && v.taught != nil, "with lines that are none: %+v", v.lesson)
	keys("n", "enter")
	insist.That(t, strings.Contains(v.written, "door.toml") && len(v.missing) == 1 && strings.Contains(v.missing[0], "ready"), "written %q, missing %q, %s", v.written, v.missing, m.Notice)
	keys("end", "5", "enter")
	insist.That(t, len(v.missing) == 0 && strings.Contains(show(), "complete"), "still missing %q, %s", v.missing, m.Notice)
	keys("home", "down", "5")
	insist.That(t, v.taught != nil, "a meaning without a name makes no rule")
	keys("esc", "home", "1", "nobody", "enter")
	insist.That(t, m.Bad && strings.Contains(m.Notice, "does not name nobody"), "a name that is not there: %q", m.Notice)
	if d, err := a.Dialect("door"); err != nil || len(d.Dialect.Log.Rules) != 2 || d.Dialect.Log.Prefix != "{time} {level} " {
		t.Errorf("the dialect: %v, %v", d.Dialect, err)
	}
	if words := fmt.Sprint(v.Keys()); !strings.Contains(words, "loaded") && !strings.Contains(words, "means") {
		t.Errorf("the keys are %s", words)
	}
}

func TestEverySize(t *testing.T) {
	long := strings.Repeat("long words ", 30)
	dir := t.TempDir()
	server := filepath.Join(dir, "server")
	screentest.Must(t, os.CopyFS(server, os.DirFS("../../../demo/harrow-sound")))
	log := filepath.Join(dir, "log")
	screentest.Must(t, os.WriteFile(log, []byte("10:00:00 "+long+"\n10:00:01 tide is up\n"), 0o600))
	t.Run("a log", func(t *testing.T) {
		screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
			lessons, err := m.App.Teach("harrow-sound", log, "", nil)
			screentest.Must(t, err)
			return New(m, lessons, 1)
		})
	})
	t.Run("a startup file", func(t *testing.T) {
		screentest.EverySize(t, func(m *frame.Model, s *screentest.Seat) frame.Screen {
			return NewOutline(m, app.TeachStart{Name: "gate", Dir: server, Startup: "harbour.start"}, []byte("use tide\n"+long+"\n"))
		})
	})
}
