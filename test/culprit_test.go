package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"initium/internal/insist"
)

type culpritJSON struct {
	Culprits, With           []string
	Starts                   int
	Sure, Cured              bool
	Problem, Reason, Symptom string
	Evidence                 []struct{ Text string }
	Remedy                   []struct{ Op, Mod string }
	Instead                  []struct{ Text string }
}

// TestCulprit plants one bad mod among forty, of which some load through a
// category folder. The server itself has to stay as it is.
func TestCulprit(t *testing.T) {
	lines := "berth +all\n"
	for i := range 30 {
		lines += fmt.Sprintf("berth m%02d\n", i)
	}
	h := newHarbour(t, lines)
	for i := range 30 {
		needs := ""
		if i > 2 && i%3 == 0 {
			needs = fmt.Sprintf("m%02d", i-3)
		}
		h.cargo(fmt.Sprintf("m%02d", i), needs, "haul 1\n")
	}
	for i := range 10 {
		write(t, filepath.Join(h.dir, "cargo/+all", fmt.Sprintf("g%d", i), "deck.script"), "haul 1\n")
	}
	for _, bad := range []string{"cargo/m21", "cargo/+all/g7"} {
		script := filepath.Join(h.dir, bad, "deck.script")
		sound := contents(t, script)
		write(t, script, "haul 1\nchart no.such.chart\n")
		before := below(t, h.dir)
		var c culpritJSON
		h.json(0, &c, "culprit", "h", "--json")
		if name := filepath.Base(bad); len(c.Culprits) != 1 || c.Culprits[0] != name || !c.Sure || !c.Cured || c.Starts > 17 || !strings.Contains(c.Reason, "is not set at this point") || len(c.Evidence) == 0 || !strings.Contains(c.Evidence[0].Text, name) {
			t.Errorf("%s is bad: %+v", bad, c)
		}
		if bad == "cargo/m21" && (strings.Join(c.With, " ") != "m00 m03 m06 m09 m12 m15 m18" || fmt.Sprint(c.Remedy) != "[{off m27} {off m24} {off m21}]") { // those that need it go first
			t.Errorf("with %v, remedy %v", c.With, c.Remedy)
		}
		insist.Same(t, fmt.Sprintf("the server itself was changed:\n%s\nto", before), below(t, h.dir), before)
		write(t, script, sound)
	}
	if left := within(h.home, "servers/*"); len(left) != 1 {
		t.Errorf("left behind: %v", left)
	}
	var c culpritJSON
	h.json(1, &c, "culprit", "h", "--json", "--first", "1")
	insist.That(t, strings.Contains(c.Problem, "did not fail"), "a sound server: %+v", c)
	if r := h.try("culprit", "h", "--symptom", "("); r.status != 2 {
		t.Errorf("a symptom that is no pattern: %d %s", r.status, r.err)
	}
}

// TestCulpritMayStay: where what is said of a culprit tells of a change that lets it stay,
// that is told too.
func TestCulpritMayStay(t *testing.T) {
	h := newHarbour(t, "berth late\nberth early\nberth other\n")
	h.cargo("late", "early", "haul 1\n")
	h.cargo("early", "", "haul 1\n")
	h.cargo("other", "", "haul 1\n")
	var c culpritJSON
	h.json(0, &c, "culprit", "h", "--json")
	insist.That(t, fmt.Sprint(c.Culprits) == "[late]" && c.Cured && len(c.Instead) == 1 && c.Instead[0].Text == "move early before late" && strings.Contains(c.Reason, "late (failed): it needs early"), "%+v", c)
	insist.Holds(t, "", h.do(0, "culprit", "h"), "with that all the others are sound", "or perhaps: move early before late (not tried)")
}

// TestCulpritGoesOn stops a search and begins it again.
func TestCulpritGoesOn(t *testing.T) {
	lines := ""
	for i := range 16 {
		lines += fmt.Sprintf("berth m%02d\n", i)
	}
	h := newHarbour(t, lines)
	for i := range 16 {
		h.cargo(fmt.Sprintf("m%02d", i), "", "haul 20\n")
	}
	write(t, filepath.Join(h.dir, "cargo/m11/deck.script"), "chart no.such.chart\n")
	cmd := exec.Command(program, "culprit", "h")
	cmd.Env = h.env
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	insist.OK(t, cmd.Start())
	search := filepath.Join(h.home, "servers/h/search.json")
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if data, err := os.ReadFile(search); err == nil && strings.Count(string(data), "failed\": ") > 3 {
			break
		}
		insist.Need(t, !time.Now().After(end), "the search does not come on")
	}
	cmd.Process.Signal(syscall.SIGINT)
	if err := cmd.Wait(); err == nil {
		t.Fatalf("the search ended by itself:\n%s", out.String())
	}
	again := h.do(0, "culprit", "h")
	if n := strings.Count(again, "as an earlier start has shown"); n < 3 || !strings.Contains(again, "the culprit: m11") {
		t.Errorf("%d starts are remembered:\n%s", n, again)
	}
}

// TestRealCulprits finds two mods that break the real server only together, and
// one that breaks it only sometimes.
func TestRealCulprits(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for i := range 4 {
		w.own(fmt.Sprintf("fill%02d", i), "", "")
	}
	w.own("left", "", "left_was_here = true\n")
	w.own("right", "optional_depends = left\n", "if rawget(_G, 'left_was_here') then error('not beside left') end\n")
	var c culpritJSON
	w.json(0, &c, "culprit", "w", "--json")
	if len(c.Culprits) != 2 || !strings.Contains(strings.Join(c.Culprits, " "), "left") || !strings.Contains(strings.Join(c.Culprits, " "), "right") || !c.Sure || !strings.Contains(c.Reason, "not beside left") {
		t.Errorf("two together: %+v", c)
	}
	insist.That(t, len(c.Remedy) == 1 && c.Remedy[0].Op == "take out", "the remedy is %+v", c.Remedy)
	w.own("right", "", "")
	write(t, filepath.Join(w.dir, "worldmods/left/init.lua"), "if core.get_us_time() % 10 < 9 then print('left stumbles') end\n")
	c = culpritJSON{}
	w.json(0, &c, "culprit", "w", "--json", "--symptom", "left stumbles", "--first", "12", "--repeat", "4")
	insist.That(t, len(c.Culprits) == 1 && c.Culprits[0] == "left", "one that stumbles sometimes: %+v", c)
}
