package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"initium/internal/insist"
)

// running reads the process ids of a start.
func (h *harbour) running(start int) (keeper, server int) {
	h.t.Helper()
	var r struct{ Keeper, Server int }
	decode(h.t, contents(h.t, filepath.Join(h.home, "servers/h/starts", fmt.Sprintf("%05d", start), "run.json")), &r)
	return r.Keeper, r.Server
}

// isScript puts a script in the place of the server.
func (h *harbour) isScript(script string) {
	h.t.Helper()
	file := filepath.Join(h.dir, "run.sh")
	write(h.t, file, script)
	insist.OK(h.t, os.Chmod(file, 0o755))
	h.do(0, "adopt", h.dir, "--as", "h", "--set", "program="+file)
}

// eventually waits until something is so.
func eventually(t testing.TB, what string, so func() bool) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); !so(); time.Sleep(20 * time.Millisecond) {
		insist.Need(t, !time.Now().After(end), "never: %s", what)
	}
}

// chatty is a harbour with a few mods, of which one talks of trouble.
func chatty(t testing.TB, haul int) *harbour {
	h := newHarbour(t, "berth ropes\nberth buoys\nberth lights\n")
	h.cargo("ropes", "", fmt.Sprintf("haul %d\n", haul))
	h.cargo("buoys", "ropes", fmt.Sprintf("haul %d\ncall warning: old paint, buoy 7\n", haul))
	h.cargo("lights", "", fmt.Sprintf("haul %d\n", haul))
	return h
}

// The watch goes on where it was when it is left and opened again, in two windows at
// once; leaving stops nothing.
func TestWatchIsLeftAndOpenedAgain(t *testing.T) {
	needs(t, "tmux")
	h := chatty(t, 700)
	h.do(0, "adopt", h.dir, "--as", "h", "--set", "pace=1")
	x := open(t, 140, 43, []string{"INITIUM_HOME=" + h.home}, "h")
	x.sees("load order", "never started")
	x.keys("s")
	x.sees("loading ropes")
	x.keys("q") // in the middle of the start
	y := open(t, 120, 40, []string{"INITIUM_HOME=" + h.home}, "h")
	y.sees("load order", "running")
	y.keys("l")
	y.sees("◆ proved; running", "3 of 3 mods spoken for", "△ 1 line of trouble")
	z := open(t, 120, 40, []string{"INITIUM_HOME=" + h.home}, "h")
	z.sees("proved by start 1", "running")
	z.keys("l")
	z.sees("◆ proved; running")
	y.keys("c")
	y.sees("Console:")
	y.keys("-l", "roll")
	y.keys("Enter")
	for _, w := range []*terminal{y, z} {
		// Ready, the list that was asked for, and this one.
		eventually(t, "the reply is shown", func() bool { return strings.Count(w.picture(), "3 alongside") >= 3 })
		if n := strings.Count(w.picture(), "3 alongside"); n != 3 {
			t.Errorf("a window shows the reply %d times:\n%s", n, w.picture())
		}
	}
	if got := h.do(0, "ledger", "h"); strings.Count(got, "start 1: proved") != 1 {
		t.Errorf("the start is in the ledger not once:\n%s", got)
	}
	y.keys("X")
	y.sees("◆ proved; stopped", "The server has stopped.", "s start again")
	z.sees("◆ proved; stopped")
}

func TestWatchFindsItsWay(t *testing.T) {
	h := chatty(t, 1)
	h.do(0, "prove", "h")
	write(t, filepath.Join(h.dir, "cargo/lights/deck.script"), "haul 30\ncall error: lamp 3 is out\nstore\n")
	x := open(t, 140, 43, []string{"INITIUM_HOME=" + h.home}, "h")
	x.sees("proved by start 1")
	x.keys("s")
	x.sees("◆ proved; running", "start 1 took", "▲ 1 line of trouble that the last proved start had not", "was 1 ms", "1 file or folder")
	x.keys("t")
	x.keys("f", "f")
	picture := x.sees("only trouble that the last proved start had not: 1 of", "lamp 3 is out")
	insist.Lacks(t, "what is not new is shown", picture, "old paint")
	x.keys("f")
	x.loses("only trouble")
	x.keys("Tab", "Down", "Down")
	x.keys("f")
	picture = x.sees("only what is about lights", "error: lamp 3 is out", "lights is made fast")
	insist.Lacks(t, "another mod's lines are shown", picture, "ropes is made fast")
	x.keys("L")
	x.sees("lights, loaded anew: confirmed")
	x.keys("f", "f", "f", "Tab", "/")
	x.keys("-l", "licence")
	x.keys("Enter")
	x.sees("held;", "licence accepted")
	x.keys("R")
	x.sees("started again after a crash, 5 times in a row at most")
	_, server := h.running(2)
	insist.OK(t, syscall.Kill(server, syscall.SIGKILL))
	x.sees("it is started again in")
	x.sees("◆ proved; running", "start 2 took")
	x.keys("Escape")
	x.sees("proved by start 3", "load order")
	x.keys("=")
	x.sees("start 3, proved", "beside", "start 2, proved")
	x.keys("Left")
	x.sees("beside", "start 1, proved", "error: lamp 3 is out")
	x.keys("Escape")
	x.sees("load order")
	x.keys("X")
	x.sees("The server has stopped.")
}

// A search on the screen finds the mod, and its remedy can be planned from there.
func TestCulpritOnTheScreen(t *testing.T) {
	lines := ""
	for i := range 8 {
		lines += fmt.Sprintf("berth m%d\n", i)
	}
	h := newHarbour(t, lines)
	for i := range 8 {
		h.cargo(fmt.Sprintf("m%d", i), "", "haul 1\n")
	}
	write(t, filepath.Join(h.dir, "cargo/m5/deck.script"), "chart no.such.chart\n")
	x := open(t, 120, 40, []string{"INITIUM_HOME=" + h.home}, "h")
	x.sees("load order")
	x.keys("C")
	x.sees("Find the culprit")
	x.keys("Enter")
	x.sees("found, in", "the culprit: m5", "remedy", "m plan the remedy")
	x.keys("m")
	x.sees("Plan", "goes      berth m5")
	x.keys("Escape")
	x.sees("Staged, and not written")
}

// A rule is made by pointing at a line, and the log is read by it at once.
func TestTeachOnTheScreen(t *testing.T) {
	o := newOperator(t)
	dir := t.TempDir()
	write(t, filepath.Join(dir, "plugins.txt"), "# all\nuse tide\nuse rock\n")
	write(t, filepath.Join(dir, "plugins/tide/x"), "")
	write(t, filepath.Join(dir, "plugins/rock/x"), "")
	log := filepath.Join(dir, "old.log")
	write(t, log, "[10:00:00] [main/INFO]: waking\n[10:00:01] [main/INFO]: plug-in tide 1.2 is up (12 ms)\n[10:00:01] [main/INFO]: plug-in rock 0.9 is up (3 ms)\n[10:00:02] [main/INFO]: door open on 9000\n")
	out := o.do(0, "teach", "server", "door", dir, filepath.Join(dir, "plugins.txt"), "tide", "--start", "{dir}/run.sh")
	insist.Holds(t, "teach", out, "they are in plugins", "tide, rock", "still missing")
	o.do(2, "teach", "server", "door", dir, "plugins.txt", "tide")
	insist.Holds(t, "anew", o.do(0, "teach", "server", "door", dir, "plugins.txt", "tide", "--anew"), "written to")
	w := open(t, 180, 30, []string{"INITIUM_HOME=" + o.home}, "teach", "server", "gate", dir, "plugins.txt")
	w.sees("point at the name of a mod", "use tide")
	w.keys("Down", "Enter")
	w.sees("The name of the mod in this line (↑ ↓ go through its words): tide")
	w.keys("Enter")
	w.sees("shape       line", "2: tide, rock", "they are in plugins")
	w.keys("Enter")
	w.sees("written", "gate.toml", "initium teach log gate LOG")
	w.keys("q")
	insist.OK(t, os.Remove(filepath.Join(o.home, "dialects/gate.toml")))
	x := open(t, 120, 40, []string{"INITIUM_HOME=" + o.home}, "teach", "log", "door", log)
	x.sees("point at lines", "[{time}] [{source}/{level}]:")
	x.keys("Down", "1")
	x.sees("The name of the mod in this line")
	for range 3 {
		x.keys("Down")
	}
	x.keys("C-u")
	x.keys("-l", "tide")
	x.keys("Enter")
	x.sees("loaded:  plug-in {mod} {any} is up ({ms} ms)", "2 lines, marked", "2: tide, rock")
	x.keys("Enter")
	x.sees("written", "missing", "ready")
	x.keys("End", "5")
	x.sees("ready:  door open on {any}")
	x.keys("Enter")
	x.sees("complete")
	x.keys("q")
	var r struct {
		Proof proofJSON
		Lines int
	}
	o.json(0, &r, "read", log, "--dialect", "door", "--json")
	insist.That(t, r.Proof.outcomes() == "tide confirmed, rock confirmed" && r.Proof.ReadyAfterMS == 2000, "read by what was taught: %+v", r)
	write(t, filepath.Join(dir, "run.sh"), "#!/bin/sh\ncat \""+log+"\"\nexec sleep 60\n")
	insist.OK(t, os.Chmod(filepath.Join(dir, "run.sh"), 0o755))
	o.do(0, "adopt", dir, "--as", "door")
	if p := o.proves("door", "tide confirmed, rock confirmed"); p.Verdict != "proved" {
		t.Errorf("proof %+v", p)
	}
}

// What the console is asked for at the command line.
func TestConsoleOfARunningServer(t *testing.T) {
	h := chatty(t, 1)
	h.do(0, "prove", "h", "--keep-running")
	insist.Holds(t, "", h.do(0, "say", "h", "roll"), "roll: lights")
	var m modJSON
	h.json(0, &m, "reload", "h", "lights", "--json")
	insist.That(t, m.Outcome == "confirmed" && len(m.Evidence) != 0 && strings.Contains(m.Evidence[len(m.Evidence)-1].Text, "lights is made fast"), "reloaded: %+v", m)
	line := m.Evidence[len(m.Evidence)-1].Line
	insist.Holds(t, fmt.Sprintf("line %d is not in the log", line), h.do(0, "log", "h", "--mod", "lights"), fmt.Sprintf("%7d  %s", line, m.Evidence[len(m.Evidence)-1].Text))
	write(t, filepath.Join(h.dir, "cargo/lights/deck.script"), "dance\n")
	h.json(1, &m, "reload", "h", "lights", "--json")
	insist.That(t, m.Outcome == "failed" && strings.Contains(m.Reason, "dance"), "a reload that fails: %+v", m)
	if got := h.do(0, "log", "h", "--trouble"); !strings.Contains(got, "old paint") || !strings.Contains(got, "ran aground") || strings.Contains(got, "ropes") {
		t.Errorf("trouble:\n%s", got)
	}
	insist.Holds(t, "unload", h.do(2, "unload", "h", "lights"), "cannot unload a mod while it runs")
	h.do(0, "stop", "h")
	insist.Holds(t, "reload of a stopped server", h.do(2, "reload", "h", "lights"), "not running")
}

// A crash is followed by another start, which is judged by whoever looks later.
func TestGuardAndCatchingUp(t *testing.T) {
	h := chatty(t, 1)
	h.do(0, "guard", "h", "--times", "3")
	h.do(0, "prove", "h", "--keep-running")
	_, server := h.running(1)
	insist.OK(t, syscall.Kill(server, syscall.SIGSEGV))
	eventually(t, "a second start", func() bool { return strings.Contains(h.do(0, "servers"), "running") && len(h.starts()) == 2 })
	eventually(t, "it is up", func() bool { return strings.Contains(h.do(0, "log", "h", "--start", "2"), "the sound is open") })
	h.do(0, "guard", "h", "--off")
	time.Sleep(500 * time.Millisecond) // as long as it has to stay up
	h.do(0, "stop", "h")
	insist.Holds(t, "the ledger", h.do(0, "ledger", "h"), "start 1: proved", "start 2: proved")
}

func (h *harbour) starts() []string {
	list := within(h.home, "servers/h/starts/*")
	return list
}

// A server whose keeper was killed is said to be lost, and no second one is started.
func TestLostServer(t *testing.T) {
	h := chatty(t, 1)
	h.isScript("#!/bin/sh\ntrap '' HUP PIPE\necho '[10:00:00.000] harbour: the sound is open on port 1, 0 alongside'\nwhile :; do sleep 0.2; done\n")
	h.do(1, "prove", "h", "--keep-running")
	keeper, server := h.running(1)
	insist.OK(t, syscall.Kill(keeper, syscall.SIGKILL))
	eventually(t, "the loss is seen", func() bool { return strings.Contains(h.do(0, "servers"), "lost its keeper") })
	insist.Holds(t, "a second start", h.do(3, "prove", "h"), "running")
	insist.Holds(t, "speaking to it", h.do(3, "say", "h", "roll"), "keeper was ended from outside")
	h.do(0, "stop", "h")
	if syscall.Kill(server, 0) == nil {
		eventually(t, "the server has ended", func() bool { return syscall.Kill(server, 0) != nil })
	}
	insist.Holds(t, "after the stop", h.do(0, "servers"), "stopped")
}

// What the evidence contradicts is not confirmed, and both sides are shown.
func TestContradictions(t *testing.T) {
	h := chatty(t, 1)
	h.isScript(`#!/bin/sh
say() { echo "[10:00:00.000] $1"; }
say 'harbour: licence accepted for "Another Harbour"'
say 'berth: ropes is made fast after 1 ms'
say 'berth: buoys is made fast after 1 ms'
say 'berth: lights is turned away: it leaks'
say 'harbour: the sound is open on port 4711, 2 alongside'
while read -r line; do
  case $line in
  roll) say 'roll: ropes'; say 'roll: lights'; say 'roll: 2 alongside' ;;
  'cast off') exit 0 ;;
  esac
done
`)
	p := h.prove(1)
	insist.Same(t, "outcomes", p.outcomes(), "ropes confirmed, buoys failed, lights failed")
	insist.That(t, p.mod("buoys").Against != "" && p.mod("lights").Against != "" && p.mod("ropes").Against == "", "against: %+v", p.Mods)
	insist.That(t, len(p.Differs) == 2 && strings.Contains(p.Differs[1], "its port is 4711") && p.Told["title"] == "Another Harbour", "differs %q, told %v", p.Differs, p.Told)
	insist.Holds(t, "prove", h.do(1, "prove", "h"), "buoys: failed, but it is said to have loaded", "4711")
}

// What would mend a start follows from the evidence, what is there, and what was
// changed since the last proof.
func TestRemediesFromEvidence(t *testing.T) {
	h := chatty(t, 1)
	h.do(0, "prove", "h")
	write(t, filepath.Join(h.dir, "cargo/lights/deck.script"), "dance\n")
	h.do(1, "prove", "h")
	got := h.do(0, "remedy", "h", "lights")
	insist.Holds(t, "remedies", got, "restore its files as they were at start 1, which was proved: deck.script (changed)", "switch lights off")
	insist.Holds(t, "compare", h.do(1, "compare", "h"), "files of lights: deck.script changed", "lights: failed, was confirmed")
	insist.Holds(t, "staging", h.do(0, "remedy", "h", "lights", "2"), "staged: switch lights off")
	h.do(0, "apply", "h")
	h.do(0, "prove", "h")
	insist.Holds(t, "after that", h.do(0, "remedy", "h"), "nothing to mend")
}

// Proofs and charts can be written down, and a service for the machine.
func TestExportsOfAStart(t *testing.T) {
	h := chatty(t, 1)
	h.do(0, "prove", "h")
	dir := t.TempDir()
	file := func(name string) string { return filepath.Join(dir, name) }
	h.do(0, "export", "proof", "h", "--svg", file("p.svg"), "--pdf", file("p.pdf"), "--md", file("p.md"))
	h.do(0, "export", "times", "h", "--svg", file("t.svg"), "--pdf", file("t.pdf"))
	if svg := contents(t, file("p.svg")); !strings.Contains(svg, "buoys") || !strings.Contains(svg, "What the server says of itself") {
		t.Error("the page lacks something")
	}
	for _, name := range []string{"p.pdf", "t.pdf"} {
		insist.That(t, strings.HasPrefix(contents(t, file(name)), "%PDF-"), "%s is no PDF", name)
	}
	if svg := contents(t, file("t.svg")); !strings.Contains(svg, "1 starts, 1 proved") {
		t.Error("the chart lacks something")
	}
	unit := h.do(0, "export", "unit", "h")
	for _, want := range []string{"ExecStart=", "keep \"h\"", "KillMode=mixed", "Environment=\"INITIUM_HOME=" + strings.ReplaceAll(h.home, "%", "%%")} {
		insist.Holds(t, fmt.Sprintf("%q is not in", want), unit, want)
	}
}

// A service owns the server in its own process, and passes a request to stop on.
func TestKeepInTheForeground(t *testing.T) {
	h := chatty(t, 1)
	done := make(chan result)
	go func() { done <- h.try("keep", "h") }()
	eventually(t, "it is up", func() bool {
		return len(h.starts()) == 1 && strings.Contains(h.try("log", "h").out, "the sound is open")
	})
	keeper, _ := h.running(1)
	insist.OK(t, syscall.Kill(keeper, syscall.SIGTERM))
	if r := <-done; r.status != 0 {
		t.Errorf("it ended with %d: %s%s", r.status, r.out, r.err)
	}
	insist.Holds(t, "it was not asked to stop", h.do(0, "log", "h"), "good night")
}

// A server that prints control sequences, in its replies too, does nothing to the
// terminal.
func TestWatchOfAHostileServer(t *testing.T) {
	h := chatty(t, 1)
	h.isScript("#!/bin/sh\n" +
		`say() { printf "[10:00:00.000] $1\n"; }
say 'harbour: licence accepted for "\033]0;gotcha\007\033[2Jtitle"'
say 'berth: ropes\033[31m is made fast after 1 ms'
say '\033[2J\033[Herror: \302\233 31m everywhere'
say 'harbour: the sound is open on port 1\033[5m, 2 alongside'
while read -r line; do
  case $line in
  roll) say 'roll: ropes'; say 'roll: \033]0;gotcha\007stray'; say 'roll: 2 alongside' ;;
  'cast off') exit 0 ;;
  esac
done
`)
	x := open(t, 120, 40, []string{"INITIUM_HOME=" + h.home}, "h")
	x.sees("load order")
	x.keys("s")
	x.sees("✕ not proved; running", "error:", "everywhere", "roll: ")
	insist.Lacks(t, "the window's title was set to", x.tmux("display-message", "-p", "-t", "x", "#{pane_title}"), "gotcha")
	insist.Holds(t, "the screen was cleared", x.picture(), "mods spoken for")
	for _, args := range [][]string{{"log", "h"}, {"say", "h", "roll"}, {"compare", "h", "1", "1"}, {"remedy", "h"}, {"ledger", "h"}} {
		if r := h.try(args...); strings.ContainsAny(r.out+r.err, "\x1b\x07\u009b") {
			t.Errorf("initium %v hands control sequences on: %q", args, r.out+r.err)
		}
	}
	x.keys("X")
	x.sees("stopped")
}

// Wishes that cannot be carried out as they are put say why, and what would do.
func TestWrongWishesAboutStarts(t *testing.T) {
	h := chatty(t, 1)
	log := filepath.Join(t.TempDir(), "log")
	write(t, log, "10:00:00 a is up\n10:00:01 b is up\n")
	for _, test := range []struct {
		status int
		args   string
		want   string
	}{
		{2, "guard h --times 0", "--times has to be 1 or more"},
		{2, "guard nobody", "not adopted"},
		{2, "log h", "has no start 0"},
		{2, "log h --start 7", "has no start 7"},
		{2, "say h hello", "not running"},
		{2, "reload h lights", "not running"},
		{2, "reload h light", "no mod \"light\""},
		{2, "remedy h", "was never started"},
		{2, "compare h", "no such start"},
		{2, "export times h --svg x", "nothing to draw"},
		{2, "export times h", "--svg FILE or --pdf FILE"},
		{2, "export proof h", "--svg FILE"},
		{2, "stop h", "not running"},
		{2, "teach log nothing LOG", "there is no dialect \"nothing\""},
		{2, "teach log harrow-sound LOG 3 loaded a", "the log has no line 3; it has 2"},
		{2, "teach log harrow-sound LOG x loaded a", "no number of a line"},
		{2, "teach log harrow-sound LOG 1", "say what line 1 means"},
		{2, "teach log harrow-sound LOG 1 loaded zebra", "does not name zebra"},
		{2, "teach server harrow-x DIR nowhere a", "no such file"},
		{2, "teach server ../x DIR harbour.start ropes", "cannot be the name"},
		{2, "teach server own DIR harbour.start zebra", "in no way that a dialect can describe"},
		{2, "teach server own DIR ../../etc/passwd root", "is not below"},
		{3, "read --follow NOWHERE/log --dialect minetest", "no such file"},
	} {
		args := strings.NewReplacer("LOG", log, "DIR", h.dir, "NOWHERE", filepath.Join(h.dir, "nowhere")).Replace(test.args)
		r := h.try(split(args)...)
		if r.status != test.status && !(test.status == 2 && r.status == 3 && strings.Contains(test.want, "no such file")) || !strings.Contains(r.err, test.want) {
			t.Errorf("initium %s: %d, %s", test.args, r.status, r.out+r.err)
		}
	}
}
