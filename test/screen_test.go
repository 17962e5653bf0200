package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"initium/internal/insist"

	"github.com/charmbracelet/x/ansi"
)

// terminal is the program in a real terminal of its own.
type terminal struct {
	t      testing.TB
	socket string
}

// open runs the program in a terminal of a size. env are settings for it, as
// NAME=VALUE.
func open(t *testing.T, columns, rows int, env []string, args ...string) *terminal {
	t.Helper()
	needs(t, "tmux")
	dir := t.TempDir()
	x := &terminal{t, filepath.Join(dir, "s")}
	conf := filepath.Join(dir, "conf")
	write(t, conf, "set -g status off\nset -g default-terminal tmux-256color\nset -s escape-time 0\n")
	command := []string{"-f", conf, "new-session", "-d", "-x", fmt.Sprint(columns), "-y", fmt.Sprint(rows), "-s", "x"}
	for _, e := range env {
		command = append(command, "-e", e)
	}
	command = append(command, "-e", "XDG_RUNTIME_DIR=", "-e", "TMPDIR="+dir)
	x.tmux(append(command, append([]string{"env", program}, args...)...)...)
	x.tmux("set", "-g", "remain-on-exit", "on")
	t.Cleanup(func() {
		// The screen is asked to close, so that it stops what it started.
		exec.Command("tmux", "-S", x.socket, "send-keys", "-t", "x", "C-c").Run()
		for range 100 {
			if out, err := exec.Command("tmux", "-S", x.socket, "list-panes", "-t", "x", "-F", "#{pane_dead}").Output(); err != nil || strings.TrimSpace(string(out)) == "1" {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		exec.Command("tmux", "-S", x.socket, "kill-server").Run()
	})
	return x
}

func (x *terminal) tmux(args ...string) string {
	x.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", x.socket}, args...)...).CombinedOutput()
	if err != nil {
		x.t.Fatalf("tmux %v: %v\n%s", args, err, out)
	}
	return string(out)
}

func (x *terminal) keys(keys ...string) {
	x.t.Helper()
	x.tmux(append([]string{"send-keys", "-t", "x"}, keys...)...)
}

// pastes puts a text in the place of what a prompt holds.
func (x *terminal) pastes(text string) {
	x.t.Helper()
	x.keys("C-u")
	x.tmux("set-buffer", text)
	x.tmux("paste-buffer", "-p", "-t", "x")
}

func (x *terminal) picture() string { return x.tmux("capture-pane", "-p", "-t", "x") }

// sees waits until all the words are on the screen at once.
func (x *terminal) sees(words ...string) string {
	x.t.Helper()
	var picture string
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		picture = x.picture()
		all := true
		for _, w := range words {
			all = all && strings.Contains(picture, w)
		}
		if all {
			return picture
		}
	}
	x.t.Fatalf("never saw %q; the screen is\n%s", words, picture)
	return ""
}

// counts waits until a word is on the screen so many times: one may catch a picture while
// it is being drawn.
func (x *terminal) counts(n int, word string) {
	x.t.Helper()
	picture := ""
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if picture = x.picture(); strings.Count(picture, word) == n {
			return
		}
	}
	x.t.Fatalf("%q is on the screen %d times, want %d:\n%s", word, strings.Count(picture, word), n, picture)
}

// loses waits until a word is off the screen.
func (x *terminal) loses(word string) {
	x.t.Helper()
	for end := time.Now().Add(10 * time.Second); strings.Contains(x.picture(), word); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			x.t.Fatalf("%q stays on the screen:\n%s", word, x.picture())
		}
	}
}

func TestScreenFromFailureToProof(t *testing.T) {
	x := open(t, 140, 43, nil, "demo")
	x.sees("load order", "paddle_ferry", "! error", "remedy 1  move ferry_timetable before paddle_ferry", "never started")
	x.keys("s")
	x.sees("spoken for", "loading", "of 60 s at most")
	x.sees("✕ not proved", "2 of 14 registered mods are not confirmed", "✕ paddle_ferry")
	x.keys("Enter")
	x.sees("✕ failed", "it needs ferry_timetable", "ready", "start 1,")
	x.counts(12, "◆ confirmed")
	x.keys("m")
	x.sees("Plan", "comes     berth ferry_timetable", "goes      berth ferry_timetable", "Nothing is written yet")
	x.keys("Enter")
	x.sees("Done: move ferry_timetable before paddle_ferry", "changed since start 1", "S starts it anew")
	x.keys("S")
	x.sees("◆ proved", "every registered mod is confirmed", "running")
	x.keys("Enter")
	x.sees("◆ proved by start 2", "start 2,")
	x.counts(15, "◆ confirmed") // and the story of the selected row
	x.keys("X")
	x.sees("The server has stopped.", "stopped")
}

func TestScreenViewsAndKeys(t *testing.T) {
	x := open(t, 140, 43, nil, "demo")
	x.sees("remedy 1")
	x.keys("?")
	x.sees("What the shapes say", "unlisted: it loaded without being registered")
	x.keys("Escape")
	x.sees("load order")
	x.keys("End")
	x.sees("spare_anchor 0.2.0", "a add")
	x.keys("a")
	x.sees("Staged: register spare_anchor", "▷ 1 change staged", "▷ register", "p plan")
	x.keys("Up")
	x.sees("o on", "carnival_bunting 0.4.0")
	x.keys("o")
	x.sees("▷ 2 changes staged", "▷ switch on")
	x.keys("K")
	x.sees("▷ 3 changes staged", "move carnival_bunting before gull_cries")
	x.keys("p")
	x.sees("Plan", "comes     berth spare_anchor", "goes      # berth carnival_bunting", "comes     berth carnival_bunting")
	x.keys("Escape")
	x.sees("Staged, and not written")
	x.keys("u")
	x.sees("▷ 2 changes staged")
	x.keys("p")
	x.sees("Plan")
	x.keys("Enter")
	x.sees("Done: register spare_anchor, then switch carnival_bunting on")
	x.keys("g")
	x.sees("as it was found", "Entry 1", "comes     berth spare_anchor")
	x.keys("u")
	x.sees("Plan", "take entry 1 back", "goes      berth spare_anchor")
	x.keys("Enter")
	x.sees("Done: take entry 1 back", "not registered")
	x.keys("h")
	x.sees("Title of the section that begins at")
	x.keys("-l", "Fair weather")
	x.keys("Enter")
	x.sees("Staged: begin a section \"Fair weather\" before", "Fair weather")
	x.keys("[")
	x.sees("▷ 2 changes staged", "move the section \"Fair weather\" before")
	x.keys("u")
	x.sees("▷ 1 change staged")
	x.keys("u")
	x.loses("change staged")
	x.keys("l")
	x.sees("There is no log yet")
	x.keys("t")
	x.sees("paddle_ferry 2.2.0  Paddle ferry")
	x.keys("Escape")
	x.sees("5 servers", "saltmarsh", "millmoor", "moor-live", "at landlord", "wagons", "upperslope", "never started", "! 1 error")
	x.keys("Enter")
	x.sees("load order")
}

func TestScreenStopsAStart(t *testing.T) {
	x := open(t, 100, 30, nil, "demo")
	x.sees("remedy 1")
	x.keys("s")
	x.sees("loading sound_charts")
	x.keys("X")
	x.sees("✕ not proved; stopped", "the server was stopped", "s start again")
	x.keys("Enter")
	x.sees("stopped", "not proved")
}

// TestScreenSizes resizes the window through many sizes: each picture has its shape, its
// head, and where there is room its foot.
func TestScreenSizes(t *testing.T) {
	x := open(t, 80, 24, []string{"NO_COLOR=1"}, "demo")
	x.sees("load order", "! error")
	for _, size := range [][2]int{{80, 24}, {200, 60}, {100, 30}, {60, 15}, {30, 8}, {10, 3}, {140, 43}, {80, 24}} {
		x.tmux("resize-window", "-t", "x", "-x", fmt.Sprint(size[0]), "-y", fmt.Sprint(size[1]))
		var lines []string
		eventually(t, fmt.Sprintf("a picture of the size %v", size), func() bool {
			lines = strings.Split(strings.TrimRight(x.picture(), "\n"), "\n")
			foot := strings.TrimRight(lines[len(lines)-1], " ")
			head := strings.Join(lines[:min(len(lines), 3)], "\n") // it may be caught while it is being drawn
			return len(lines) == size[1] && (size[0] < 80 || strings.Contains(foot, "help") && strings.Contains(head, "saltmarsh"))
		})
		for i, line := range lines {
			if w := ansi.StringWidth(strings.TrimRight(line, " ")); w > size[0] {
				t.Errorf("%v: line %d is %d wide: %q", size, i, w, line)
			}
		}
		if all := strings.Join(lines, "\n"); strings.Contains(all, "panic") {
			t.Fatalf("%v:\n%s", size, all)
		}
	}
	x.keys("?")
	x.sees("The board: from what is declared", "go to the next trouble", "any key more")
	x.keys("x")
	x.sees("search for the mod that breaks the server")
	x.keys("x")
	x.sees("What the shapes say", "staged: shown as it will be", "On every screen", "any key back")
	x.keys("x")
	picture := x.sees("load order", "paddle_ferry", "? help")
	insist.Lacks(t, "colours under NO_COLOR", x.tmux("capture-pane", "-e", "-p", "-t", "x"), "38;2;", "38;5;")
	insist.Holds(t, "without colour the selected row or the wrong way cannot be told", picture, "▌", "┃")
}

// TestScreenWithoutServers begins with nothing and ends with a proof, without a command:
// a folder is pasted, adopted with a port of its own, and started.
func TestScreenWithoutServers(t *testing.T) {
	needs(t, "tmux")
	h := newHarbour(t, "berth a\n") // in another home, which is not used
	h.cargo("a", "", "haul 1\n")
	x := open(t, 80, 24, []string{"INITIUM_HOME=" + t.TempDir()})
	x.sees("No server is adopted yet.", "a  adopt one", "E  see the demo first", "a adopt a server")
	x.keys("a")
	x.sees("Folder of the server, there or to be made:", "Tab complete")
	x.tmux("set-buffer", h.dir)
	x.tmux("paste-buffer", "-p", "-t", "x")
	x.keys("Enter")
	x.sees("Adopt a server", "◆ its files fit", "▌ Adopt it", "Enter adopt")
	x.keys("Home", "Enter")
	x.sees("Its name:")
	x.keys("C-u", "p", "i", "e", "r", "Enter")
	x.sees("name          pier")
	x.keys("End", "Enter")
	x.sees("load order", "pier", "? help")
	x.keys("s")
	x.sees("◆ proved")
	x.keys("X")
	x.sees("stopped")
	x.keys("q")
}

// TestScreenSurvivesHostileNames shows a server whose files are full of control
// sequences.
func TestScreenSurvivesHostileNames(t *testing.T) {
	needs(t, "tmux")
	h := newHarbour(t, "berth \x1b]0;gotcha\x07evil\nberth nice\n# ~~ \x1b[2JSection ~~\nberth last\n")
	h.cargo("nice", "", "haul 1\ncall \x1b[31mred\x1b[2J\n")
	h.cargo("last", "", "haul 1\n")
	write(t, filepath.Join(h.dir, "cargo/last/bill.toml"), "name = \"last\"\ntitle = \"\\u001b[2Jtitle\"\nrelease = \"\\u009b31m1\"\n")
	x := open(t, 120, 40, []string{"INITIUM_HOME=" + h.home}, "h")
	x.sees("nice", "last", "Section")
	x.keys("s")
	x.sees("✕ not proved")
	x.keys("Enter", "End")
	x.sees("last", "title", "◆ confirmed")
	insist.Lacks(t, "the window's title was set to", x.tmux("display-message", "-p", "-t", "x", "#{pane_title}"), "gotcha")
}

// TestClosingTheWindowStopsNothing kills the screen while a proved server runs.
func TestClosingTheWindowStopsNothing(t *testing.T) {
	needs(t, "tmux")
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	x := open(t, 100, 30, []string{"INITIUM_HOME=" + h.home, "TMPDIR=" + os.TempDir()}, "h")
	x.sees("never started")
	x.keys("s")
	x.sees("◆ proved")
	x.tmux("kill-session", "-t", "x")
	defer h.try("stop", "h")
	insist.Holds(t, "servers", h.do(0, "servers"), "running since")
}

// TestScreenWays goes through a board by folding, finding, following needs and
// showing only some rows, writes a rule down and accepts a finding.
func TestScreenWays(t *testing.T) {
	x := open(t, 140, 43, nil, "demo")
	x.sees("paddle_ferry", "foretold: failed, it needs ferry_timetable, which loads after it")
	x.keys("Left")
	x.sees("pilot_cutter: needed by paddle_ferry (1 of 2; the same key goes on)")
	x.keys("Left")
	x.sees("ferry_timetable: needed by paddle_ferry (2 of 2")
	x.keys("BSpace", "Right")
	x.sees("island_post: needs paddle_ferry")
	x.keys("Tab")
	x.sees("4 folded, 1 in trouble")
	x.keys("Tab", "BTab")
	x.sees("4 folded, 1 in trouble", "3 folded")
	x.keys("BTab", "/")
	x.tmux("send-keys", "-t", "x", "-l", "gull")
	x.sees("Find (1 of 1): gull", "Gull cries")
	x.keys("Enter", "f")
	x.sees("only findings", "island_post")
	x.keys("f", "f", "f", "f")
	picture := x.sees("load order", "morning_mist")
	insist.Lacks(t, "after the last filter some rows are still hidden", picture, "     only ")
	x.keys("w")
	x.tmux("send-keys", "-t", "x", "-l", "after spare_anchor because it is heavy")
	x.keys("Enter")
	x.sees("Written down: gull_cries loads after spare_anchor.")
	x.keys("t", "A")
	x.tmux("send-keys", "-t", "x", "-l", "the ferry is laid up")
	x.keys("Enter")
	x.sees("Accepted, until the facts that it tells of change.", "(accepted: the ferry is laid up)", "1 error ")
}

// TestScreenIntake takes a mod in, brings a new release, and takes the mod out,
// all on the screen.
func TestScreenIntake(t *testing.T) {
	x := open(t, 200, 43, nil, "demo")
	x.sees("remedy 1", "i take in")
	x.keys("i")
	x.sees("Take in (an archive, a folder or a file):", "downloads/")
	x.keys("-l", "kel")
	x.keys("Tab")
	x.sees("downloads/kelp-farms-1.3-main.zip")
	x.keys("Enter")
	x.sees("what came", "what happens", "where it will be", "? to answer", "Is kelp_farms right?", "1 yes, call it so", "1 question is to answer")
	x.keys("1")
	x.sees("cargo/kelp_farms", "charts/outer_skerries.chart", "is written", "berth kelp_farms", "to read", "left out", "Enter the plan")
	x.keys("Down", "Down", "Down")
	x.sees("Rafts of kelp along the outer skerries")
	x.keys("Enter")
	x.sees("Plan", "take in kelp_farms", "the mod kelp_farms, comes, 3 files", "comes     berth kelp_farms", "4 files come", "b back the world up first")
	x.keys("Enter")
	x.sees("Done: take in kelp_farms", "kelp_farms", "1.3.0")
	x.keys("i")
	x.sees("downloads/")
	x.keys("Up")
	x.sees("tide_tables 2.2.zip")
	x.keys("Enter")
	x.sees("instead of 2.1.0", "changes", "moons.toml", "comes")
	x.keys("Escape")
	x.sees("load order")
	x.keys("/")
	x.keys("-l", "kelp_farms")
	x.keys("Enter")
	x.sees("kelp_farms 1.3.0  Kelp farms")
	x.keys("d")
	x.sees("Plan", "take out kelp_farms", "goes; the ledger keeps it", "goes      berth kelp_farms")
	x.keys("b")
	x.sees("has no world yet")
	x.keys("Enter")
	x.sees("Done: take out kelp_farms")
	x.keys("g")
	x.sees("take in kelp_farms", "take out kelp_farms")
	x.keys("Escape")
	x.sees("load order")
	x.keys("/")
	x.keys("-l", "rope_and_knot")
	x.keys("Enter")
	x.sees("rope_and_knot 1.0.3")
	x.keys("d")
	x.sees("cannot do without it. Take it out all the same? (yes)")
	x.keys("Escape")
	x.loses("Take it out")
	x.keys("i")
	x.keys("-l", "nothing.zip")
	x.keys("Enter")
	x.sees("look into", "no such file or directory")
}
