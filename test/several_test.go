package test

import (
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

type eachJSON struct {
	Servers []struct {
		Server       string
		Good, Passed bool
		Words        string
	}
	Left []string
}

func (e *eachJSON) words() string {
	var all []string
	for _, s := range e.Servers {
		all = append(all, s.Server+": "+s.Words)
	}
	return strings.Join(all, "\n")
}

// The same is done to several servers, one after the other, and the first that is not proved is the last.
func TestEach(t *testing.T) {
	t.Parallel()
	h, _ := twins(t, "berth a\nberth b\n", "a", "b")
	third := filepath.Join(filepath.Dir(h.home), "third")
	copyAll(t, h.dir, third)
	port := freePort(t)
	write(t, filepath.Join(third, "harbour.start"), strings.Replace(contents(t, filepath.Join(third, "harbour.start")), h.port, port, 1))
	h.do(0, "adopt", third, "--as", "third", "--set", "pace=0.05")
	insist.Holds(t, "none so", h.try("each", "prove", "h", "nobody").err, "nobody is not adopted")
	insist.Holds(t, "no act", h.try("each", "praise").err, "check, rehearse, prove, apply")
	h.do(0, "each", "check")
	h.do(0, "each", "prove")
	var list []struct {
		Server       string
		LastStart    string `json:"last_start"`
		Owed, Staged int
		Changed      []string
	}
	h.do(0, "off", "h", "b", "--stage")
	h.do(0, "off", "third", "a")
	h.json(0, &list, "servers", "--json")
	insist.That(t, len(list) == 3 && list[0].Staged == 1 && len(list[0].Changed) == 0 && strings.Join(list[2].Changed, "") == "off: a", "%+v", list)
	insist.Holds(t, "at a glance", h.do(0, "servers"), "TO DO", "1 staged", "proved, changed since (off: a)")
	insist.Holds(t, "on one page", h.do(0, "export", "proof", "h", "live", "third", "--md", "-"), "# 2 of 3 servers proved, and 1 changed since it was", "Changed since this start: off: a.", "## live: proved")
	insist.Holds(t, "no drawing of several", h.try("export", "proof", "h", "live", "--svg", "-").err, "several servers go onto one page")
	var e eachJSON
	h.json(0, &e, "each", "apply", "--json")
	insist.Same(t, "applied", e.words(), "h: proved with switch b off\nlive: nothing is staged\nthird: nothing is staged")
	write(t, filepath.Join(h.dir, "../live/harbour.start"), strings.Replace(contents(t, filepath.Join(h.dir, "../live/harbour.start")), "berth a", "berth nobody", 1))
	h.json(1, &e, "each", "rehearse", "h", "live", "third", "--json")
	insist.Holds(t, "rehearsed", e.words(), "h: proved", "live: not proved")
	insist.Same(t, "and left", strings.Join(e.Left, ""), "third")
	said := h.do(1, "each", "prove", "h", "live", "third")
	insist.Holds(t, "proved", said, "h      proved", "live   not proved", "left as they are: third")
	insist.Holds(t, "all are checked", h.do(1, "each", "check"), "third  no errors")
	h.do(0, "prove", "h", "--keep-running")
	insist.Holds(t, "one that runs", h.do(0, "each", "prove", "h"), "it runs; start", "proved")
	h.do(0, "off", "h", "a")
	h.do(0, "say", "h", "hail amy")
	h.do(0, "say", "h", "hail bo of the isles")
	h.do(0, "say", "h", "hail amy")
	insist.Holds(t, "who is in", h.do(0, "servers"), ", 2 players")
	h.do(0, "say", "h", "farewell amy")
	h.do(0, "say", "h", "farewell nobody")
	insist.Holds(t, "who is in", h.do(0, "servers"), ", 1 player")
	insist.Holds(t, "who is in", h.do(0, "servers", "--json"), `"players": 1`, `"players": null`)
	insist.Holds(t, "one that was changed", h.do(1, "each", "prove", "h"), "and changed since")
	h.do(0, "stop", "h")
}

// On the screen servers are chosen, and gone through one after the other.
func TestScreenOfSeveral(t *testing.T) {
	t.Parallel()
	x := open(t, 140, 40, nil, "demo")
	x.sees("remedy 1")
	x.keys("Escape")
	x.sees("5 servers")
	x.keys("s")
	x.sees("Space chooses servers for that")
	x.keys("Home", "Space")
	x.sees("1 chosen", "✓ millmoor", "P prove it, or return")
	x.keys("Down", "Down", "Space")
	x.sees("2 chosen", "✓ upperslope")
	x.keys("P")
	x.sees("· nothing is staged")
	x.loses("chosen")
	x.keys("Space", "Up", "Space", "r")
	x.sees("▸")
	x.keys("X") // which may be too late for it
	x.loses("▸")
	x.keys("Enter")
	x.sees("Cogwheel Fair", "needs")
}
