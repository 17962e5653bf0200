package tui

import (
	"context"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/host"
	"initium/internal/tui/frame"
	"initium/internal/tui/screentest"
	"initium/internal/tui/servers"
)

// TestMain lets the test binary be the keeper.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == "keeper" {
		if host.Keep(host.StartDir(os.Args[2])) != nil {
			os.Exit(3)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// loop runs a root as the terminal would.
type loop struct {
	t      *testing.T
	m      *frame.Model
	msgs   chan tea.Msg
	flying atomic.Int32 // commands that have not answered yet
}

func (l *loop) run(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	l.flying.Add(1)
	go func() {
		defer l.flying.Add(-1)
		switch msg := cmd().(type) {
		case nil:
		case tea.BatchMsg:
			for _, c := range msg {
				l.run(c)
			}
		default:
			l.msgs <- msg
		}
	}()
}

func (l *loop) press(keys ...string) {
	for _, k := range keys {
		l.run(screentest.Hit(l.m, k))
	}
}

// until takes messages until something is so.
func (l *loop) until(what string, so func() bool) {
	l.t.Helper()
	limit := time.After(time.Minute)
	for !so() {
		select {
		case msg := <-l.msgs:
			_, cmd := l.m.Update(msg)
			l.run(cmd)
		case <-time.After(20 * time.Millisecond):
		case <-limit:
			buf := make([]byte, 1<<16)
			l.t.Fatalf("%s does not come; %q; %s\n%s", what, l.m.Notice, screentest.Text(l.m), buf[:runtime.Stack(buf, true)])
		}
	}
}

// shows waits until a picture has some words in it.
func (l *loop) shows(words ...string) {
	l.t.Helper()
	l.until(strings.Join(words, ", "), func() bool {
		text := screentest.Text(l.m)
		return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, w) })
	})
}

// rest waits until nothing is under way but the clock that looks again.
func (l *loop) rest() {
	l.t.Helper()
	l.until("rest", func() bool { return l.flying.Load() <= 1 && len(l.msgs) == 0 })
}

// processes counts those that were started from a folder.
func processes(dir string) (n int) {
	names, _ := filepath.Glob("/proc/[0-9]*/cmdline") // who has ended meanwhile counts for nothing
	for _, name := range names {
		if data, err := os.ReadFile(name); err == nil && strings.Contains(string(data), dir) {
			n++
		}
	}
	return n
}

// bakery is a server of two mods that starts for as long as its file "sound" is there, and
// the list of servers that it is adopted in.
func bakery(t *testing.T) (l *loop, a *app.App, dir string) {
	t.Helper()
	base := t.TempDir()
	t.Setenv("XDG_RUNTIME_DIR", filepath.Join(base, "run"))
	t.Setenv("INITIUM_BACKGROUND", "dark")
	a = &app.App{Home: host.Home{Dir: filepath.Join(base, "home")}}
	t.Cleanup(func() { a.Close() })
	var err error
	a.Exe, err = os.Executable()
	screentest.Must(t, err)
	oven, err := os.ReadFile("../app/testdata/oven.toml")
	screentest.Must(t, err)
	dir = filepath.Join(base, "server")
	for name, data := range map[string]string{
		filepath.Join(a.Home.DialectDir(), "oven.toml"): strings.Replace(string(oven), "LIST", "", 1), dir + "/oven.list": "bake a\nbake b\n", dir + "/mods/a/x": "", dir + "/mods/b/x": "",
		dir + "/run.sh": "#!/bin/sh\necho 'in a'\ngrep -q '^bake b' \"${0%/*}/oven.list\" || { echo hot; read -r x; exit 0; }\n[ -e \"${0%/*}/sound\" ] || exit 3\necho 'in b'; echo hot\nwhile read -r x; do [ \"$x\" = cool ] && exit 0; done\n",
		dir + "/sound":  "",
	} {
		screentest.Must(t, os.MkdirAll(filepath.Dir(name), 0o755))
		screentest.Must(t, os.WriteFile(name, []byte(data), 0o755))
	}
	_, err = a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"})
	screentest.Must(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	m := frame.New(ctx, a, doors)
	t.Cleanup(func() { cancel(); m.Wait() })
	m.Update(tea.WindowSizeMsg{Width: 140, Height: 50})
	m.Open(servers.New(m, "k"))
	l = &loop{t: t, m: m, msgs: make(chan tea.Msg, 1000)}
	l.run(m.Init())
	l.shows("oven")
	l.rest()
	return l, a, dir
}

// Nothing of a screen that was left runs on: neither what waits for its news nor, of a search,
// the copy of the server. A server that was started does.
func TestNothingRunsBehindClosedScreens(t *testing.T) {
	l, a, dir := bakery(t)
	enter := func() {
		l.press("enter")
		l.shows("oven.list")
		l.rest()
	}
	leave := func() {
		l.press("esc", "esc")
		l.shows("a adopt")
	}
	quiet := func(what string, goroutines, others int) {
		t.Helper()
		l.until(what, func() bool { return runtime.NumGoroutine() <= goroutines && processes(filepath.Dir(dir)) == others })
	}
	enter()
	leave()
	l.rest()
	before := runtime.NumGoroutine()

	enter()
	l.press("s")
	l.shows("◆ proved; running")
	leave()
	quiet("a watch that was left", before+1, 2) // the keeper is waited for as long as it lives
	_, err := a.Stop(context.Background(), "k")
	screentest.Must(t, err)

	screentest.Must(t, os.Remove(dir+"/sound"))
	for _, end := range []string{"X", ""} { // stopped, and to its end
		enter()
		l.press("C")
		l.press("enter")
		l.shows("whether it fails")
		if end != "" {
			l.press(end)
			l.shows("stopped; what was learned is kept")
		} else {
			l.shows("found, in")
		}
		leave()
		quiet("a search that was left", before, 0)
	}
}
