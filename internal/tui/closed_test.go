package tui

import (
	"context"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/host"
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

// loop runs a model as the terminal would.
type loop struct {
	t    *testing.T
	m    *model
	msgs chan tea.Msg
}

func (l *loop) run(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	go func() {
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
		_, cmd := l.m.Update(press(k))
		l.run(cmd)
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
			l.t.Fatalf("%s does not come; %q; %s", what, l.m.notice, buf[:runtime.Stack(buf, true)])
		}
	}
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

// Nothing of a screen that was left runs on: neither what waits for its news nor, of a search,
// the copy of the server. A server that was started does.
func TestNothingRunsBehindClosedScreens(t *testing.T) {
	base := t.TempDir()
	t.Setenv("XDG_RUNTIME_DIR", filepath.Join(base, "run"))
	a := &app.App{Home: host.Home{Dir: filepath.Join(base, "home")}}
	var err error
	a.Exe, err = os.Executable()
	must(t, err)
	oven, err := os.ReadFile("../app/testdata/oven.toml")
	must(t, err)
	dir := filepath.Join(base, "server")
	for name, data := range map[string]string{
		filepath.Join(a.Home.DialectDir(), "oven.toml"): strings.Replace(string(oven), "LIST", "", 1), dir + "/oven.list": "bake a\nbake b\n", dir + "/mods/a/x": "", dir + "/mods/b/x": "",
		dir + "/run.sh": "#!/bin/sh\necho 'in a'\ngrep -q '^bake b' \"${0%/*}/oven.list\" || { echo hot; read -r x; exit 0; }\n[ -e \"${0%/*}/sound\" ] || exit 3\necho 'in b'; echo hot\nwhile read -r x; do [ \"$x\" = cool ] && exit 0; done\n",
		dir + "/sound":  "",
	} {
		must(t, os.MkdirAll(filepath.Dir(name), 0o755))
		must(t, os.WriteFile(name, []byte(data), 0o755))
	}
	must(t, second(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"})))
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	m := newModel(ctx, a, doors)
	list := newServerList(m, "k")
	m.open(list)
	l := &loop{t, m, make(chan tea.Msg, 1000)}
	l.run(m.show())
	l.until("the list", func() bool { return list.loaded && !list.judging })
	enter := func() {
		l.press("enter")
		l.until("the board", func() bool { b, ok := m.top().(*board); return ok && b.look != nil && !b.judging && !b.looking })
	}
	leave := func() {
		l.press("esc", "esc")
		l.until("the list", func() bool { return m.top() == screen(list) && !list.looking && !list.judging })
	}
	quiet := func(what string, goroutines, others int) {
		t.Helper()
		l.until(what, func() bool { return runtime.NumGoroutine() <= goroutines && processes(base) == others })
		if len(m.desks) != 1 || len(m.kept) != 0 {
			t.Errorf("%s: %d desks, %d kept", what, len(m.desks), len(m.kept))
		}
	}
	enter()
	leave()
	time.Sleep(10 * time.Millisecond) // what is about to end has
	before := runtime.NumGoroutine()

	enter()
	l.press("s")
	l.until("the proof", func() bool { w, ok := m.top().(*watch); return ok && w.result != nil })
	leave()
	quiet("a watch that was left", before+1, 2) // the keeper is waited for as long as it lives
	must(t, second(a.Stop(context.Background(), "k")))

	must(t, os.Remove(dir+"/sound"))
	for _, end := range []string{"X", ""} { // stopped, and to its end
		enter()
		l.press("C")
		l.press("enter")
		l.until("the first start", func() bool { v, ok := m.top().(*culpritView); return ok && len(v.tries) > 0 })
		v := m.top().(*culpritView)
		if end != "" {
			l.press(end)
		}
		l.until("the end of the search", func() bool { return v.over })
		leave()
		quiet("a search that was left", before, 0)
	}
}
