package tui

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"initium/internal/app"
	"initium/internal/tui/screentest"
)

// A key has one meaning, whatever is shown: what it does is said in the same words, or in
// words that are listed here as the same thing. The way leads through all screens, as an
// operator would go it.
func TestKeysMeanOneThing(t *testing.T) {
	meanings := map[string][]string{ // what is the same thing to an operator
		"Enter": {"*"}, "Esc": {"*"}, "↑ ↓": {"*"}, "← →": {"*"}, "Tab": {"*"}, "1": {"*"}, "2": {"*"}, "3": {"*"}, "4": {"*"}, "5": {"*"}, "6": {"*"}, "7": {"*"}, "m": {"mend", "plan the remedy"},
		"X": {"stop", "stop the server", "stop it for now", "stop it", "give it up and go back"}, "s": {"start and prove", "start again"}, "o": {"off", "on", "in or out"}, "u": {"take back", "take the newest back"}, "C": {"culprit", "search on"}, "b": {"back the world up first"}, "l": {"log", "watch"}, "r": {"rehearse", "rehearse it", "rehearse once more"},
		"Space": {"yes or no", "choose several"}, "n": {"next line that fits"}, "a": {"adopt a server", "add"},
	}
	l, a, dir := bakery(t)
	titles := map[string]string{}
	look := func(name string) {
		t.Helper()
		for _, k := range l.m.Top().Keys() {
			known := meanings[k[0]]
			switch {
			case len(known) == 0:
				meanings[k[0]] = []string{k[1]}
			case known[0] != "*" && !slices.Contains(known, k[1]):
				t.Errorf("%s: %s is %q, and %q elsewhere", name, k[0], k[1], known)
			}
		}
		title := l.m.Top().Help()[0].Title
		if other := titles[title]; other != "" && strings.Fields(other)[0] != strings.Fields(name)[0] {
			t.Errorf("%s and %s have the same help", name, other)
		}
		titles[title] = name
	}
	back := func(words ...string) {
		t.Helper()
		l.press("esc")
		l.shows(words...)
		l.rest()
	}
	strange := filepath.Join(filepath.Dir(dir), "strange")
	loaf := filepath.Join(filepath.Dir(dir), "in", "c", "y")
	for _, file := range []string{filepath.Join(strange, "list.txt"), loaf} {
		screentest.Must(t, os.MkdirAll(filepath.Dir(file), 0o755))
		screentest.Must(t, os.WriteFile(file, []byte("use a\n"), 0o644))
	}

	look("servers")
	l.press("a")
	screentest.Type(l.m, strange)
	l.press("enter")
	l.shows("No dialect recognises this folder")
	look("adoption")
	l.press("D")
	screentest.Type(l.m, "list.txt")
	l.press("enter")
	l.shows("use a")
	look("outline")
	l.press("esc")
	l.shows("No dialect recognises this folder")
	l.press("L")
	l.shows("what starts it")
	look("learn")
	l.press("esc")
	l.shows("No dialect recognises this folder")
	back("oven")
	l.press("e")
	l.shows("Its family asks for no values")
	look("values")
	back("oven")
	l.press("enter")
	l.shows("oven.list")
	l.rest()
	look("board")
	screentest.Must(t, os.WriteFile(filepath.Join(dir, "heat.properties"), []byte("hot=yes\n"), 0o644))
	l.press(",")
	l.shows("1 setting in 1 file", "hot")
	look("settings")
	l.press("space")
	l.shows("yes → no", "Staged: set hot")
	l.rest()
	look("settings with one staged")
	l.press("u")
	l.shows("is taken back")
	l.press("esc")
	l.shows("oven.list")
	l.rest()
	screentest.Must(t, os.Remove(filepath.Join(dir, "heat.properties")))
	for range 2 { // two starts, to be compared
		l.press("s")
		l.shows("starting")
		look("watch of a start")
		l.shows("◆ proved; running")
		look("watch of a server")
		l.press("X")
		l.shows("◆ proved; stopped")
		look("watch of the past")
		back("oven.list")
	}
	l.press("l")
	l.shows("to the board")
	look("log")
	l.press("D")
	l.shows("a mod has loaded")
	look("teach")
	back("to the board")
	back("oven.list")
	l.press("=")
	l.shows("beside")
	look("compare")
	back("oven.list")
	l.press("B")
	l.shows("There is no other server of this family.")
	l.rest()
	two := filepath.Join(filepath.Dir(dir), "two")
	screentest.Must(t, os.CopyFS(two, os.DirFS(dir)))
	screentest.Must(t, os.WriteFile(filepath.Join(two, "oven.list"), []byte("bake b\nbake a\n"), 0o644))
	_, err := a.Adopt(t.Context(), app.Adoption{Dir: two, As: "two", Dialect: "oven"})
	screentest.Must(t, err)
	l.press("B")
	l.shows("two", "order")
	l.rest()
	look("differ")
	l.press(">")
	l.shows("Staged on two: move")
	l.press("<")
	l.shows("Staged on k: move")
	l.rest()
	back("oven.list")
	l.press("u")
	l.shows("is taken back")
	l.rest()
	l.press("g")
	l.shows("as Initium found the server")
	look("ledger")
	back("oven.list")
	l.press("o")
	l.rest()
	l.press("p")
	l.shows("Nothing is written yet")
	look("plan")
	l.press("r")
	l.shows("rehearsing on a copy")
	look("rehearsal under way")
	l.shows("◆ rehearsed, and proved")
	l.shows("switch a off")
	look("rehearsal")
	back("Nothing is written yet")
	l.press("P")
	l.shows("making the change, and proving it")
	look("turn under way")
	l.shows("◆ made and proved")
	l.shows("the server is stopped, as it was before")
	look("turn")
	back("oven.list")
	l.press("o")
	l.rest()
	l.press("p")
	l.shows("Nothing is written yet")
	l.press("enter")
	l.shows("Done: switch a on")
	l.press("M")
	screentest.Type(l.m, "server path sound because it sings")
	l.press("enter")
	l.shows("From now on every proof looks whether sound is there.")
	l.rest()
	l.press("i")
	screentest.Type(l.m, filepath.Dir(filepath.Dir(loaf)))
	l.press("enter")
	l.shows("what happens")
	look("intake")
	back("oven.list")
	screentest.Must(t, os.Remove(filepath.Join(dir, "sound")))
	l.press("C")
	l.press("enter")
	l.shows("whether it fails")
	look("culprit")
	l.shows("found, in")
	look("culprit found")
	if want := 18; len(titles) != want {
		t.Errorf("%d screens are explained, want %d: %q", len(titles), want, titles)
	}
}
