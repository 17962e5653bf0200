package app_test

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/host"
	"initium/internal/insist"
)

// oven is a dialect whose server is a script in its folder.
//
//go:embed testdata/oven.toml
var oven string

// running is a server that can be started: a script says what it does.
func running(t *testing.T, script string) (*app.App, string) { return asking(t, script, "") }

// asking is one whose console has more keys.
func asking(t *testing.T, script, list string) (*app.App, string) {
	t.Helper()
	t.Setenv("XDG_RUNTIME_DIR", t.TempDir())
	a, dir := world(t, map[string]string{"oven.list": "bake a\nbake b\n", "mods/a/x": "", "mods/b/x": ""})
	for name, data := range map[string]string{filepath.Join(a.Home.DialectDir(), "oven.toml"): strings.Replace(oven, "LIST", list, 1), filepath.Join(dir, "run.sh"): "#!/bin/sh\n" + script} {
		insist.OK(t, os.WriteFile(name, []byte(data), 0o755))
	}
	exe, err := os.Executable()
	insist.OK(t, err)
	a.Exe = exe
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"})))
	t.Cleanup(func() { a.StopAll(func(name string) { a.Stop(context.Background(), name) }) })
	return a, dir
}

// steps gathers what a watch is told, until something is so.
func steps(t *testing.T, a *app.App, until func(app.Step) bool) (lines []string, judged []*proof.Proof) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	err := a.Follow(ctx, "k", app.FollowOptions{OnStep: func(s app.Step) {
		for _, l := range s.New {
			lines = append(lines, l.Text)
		}
		if s.Judged != nil {
			judged = append(judged, s.Judged)
		}
		if until(s) {
			cancel()
		}
	}})
	insist.OK(t, err)
	insist.Need(t, ctx.Err() != context.DeadlineExceeded, "it never came: %q", lines)
	return lines, judged
}

const polite = "while read -r line; do [ \"$line\" = cool ] && exit 0; echo \"heard $line\"; done\n"

// A start is watched by many and judged once; one who comes later sees all of it.
func TestFollow(t *testing.T) {
	a, _ := running(t, "echo 'in a'; sleep 0.3; echo 'in b'; echo hot\n"+polite)
	insist.OK(t, insist.Err(a.Begin("k", app.ProveOptions{})))
	insist.Fails(t, "a second start", insist.Err(a.Begin("k", app.ProveOptions{})), "running")
	type seen struct {
		lines  []string
		judged []*proof.Proof
	}
	all := make(chan seen, 3)
	for range 3 {
		go func() {
			lines, judged := steps(t, a, func(s app.Step) bool { return s.Judged != nil })
			all <- seen{lines, judged}
		}()
	}
	for range 3 {
		s := <-all
		if got := strings.Join(s.lines, ", "); got != "in a, in b, hot" || len(s.judged) != 1 || s.judged[0].Verdict != proof.Proved {
			t.Errorf("a watcher sees %s, %d proofs", got, len(s.judged))
		}
	}
	insist.OK(t, a.Type("k", "hello"))
	lines, _ := steps(t, a, func(s app.Step) bool {
		for _, l := range s.New {
			if l.Text == "heard hello" {
				return true
			}
		}
		return false
	})
	insist.Same(t, "one who comes later sees", strings.Join(lines, ", "), "in a, in b, hot, heard hello")
	entries, err := a.Ledger("k")
	insist.That(t, err == nil && len(entries[0].Starts) == 1, "the ledger has %+v, %v", entries, err)
	done := make(chan *host.Exit, 1)
	go func() {
		var exit *host.Exit
		steps(t, a, func(s app.Step) bool { exit = s.Exit; return s.Exit != nil })
		done <- exit
	}()
	insist.OK(t, insist.Err(a.Stop(context.Background(), "k")))
	if exit := <-done; exit.How != host.EndedStop {
		t.Errorf("the end is seen as %+v", exit)
	}
}

// A server that is never ready is judged when its time is up, and runs on.
func TestFollowOfAServerThatIsNeverReady(t *testing.T) {
	a, _ := running(t, "echo 'in a'\n"+polite)
	insist.OK(t, insist.Err(a.Begin("k", app.ProveOptions{Within: 300 * time.Millisecond})))
	_, judged := steps(t, a, func(s app.Step) bool { return s.Judged != nil })
	if p := judged[0]; p.Verdict == proof.Proved || !strings.Contains(p.Reason, "within 300ms") {
		t.Errorf("judged %+v", p)
	}
	insist.That(t, a.Home.IsRunning("k"), "it was stopped")
}

// What a server is started again with after a crash is noted too: it may be other than
// before, and is compared.
func TestNoteBeforeARestart(t *testing.T) {
	a, dir := running(t, "cd \"${0%/*}\"; echo 'in a'; echo 'in b'; echo hot; [ -e crashed ] || { touch crashed; while [ ! -e judged ]; do sleep 0.02; done; exit 3; }\n"+polite)
	insist.OK(t, a.Guard("k", 2))
	insist.OK(t, insist.Err(a.Begin("k", app.ProveOptions{})))
	_, judged := steps(t, a, func(s app.Step) bool {
		if s.Number == 1 && s.Judged != nil { // only then it crashes
			insist.OK(t, os.WriteFile(filepath.Join(dir, "judged"), nil, 0o600))
		}
		if s.Number == 1 && s.Exit != nil && s.Exit.Again != nil {
			insist.OK(t, os.WriteFile(filepath.Join(dir, "mods/b/new"), nil, 0o600))
		}
		return s.Number == 2 && s.Judged != nil
	})
	insist.Need(t, len(judged) == 2 && judged[0].Verdict == proof.Proved && judged[1].Verdict == proof.Proved, "judged %+v", judged)
	c, err := a.Compare(context.Background(), "k", 1, 2)
	insist.That(t, err == nil && len(c.Files) == 1 && c.Files[0].Mod == "b" && c.Files[0].Path == "new", "compared: %+v, %v", c, err)
}

// A clock that was set meanwhile changes nothing: what the keeper wrote down of the time
// of day counts for nothing but being shown.
func TestFollowAfterTheClockWasSet(t *testing.T) {
	for _, by := range []time.Duration{-30 * time.Hour, 30 * time.Hour} {
		a, _ := running(t, "echo 'in a'; sleep 0.3; echo 'in b'; echo hot\n"+polite)
		insist.OK(t, insist.Err(a.Begin("k", app.ProveOptions{})))
		name := filepath.Join(string(a.Home.Start("k", 1)), "run.json")
		data, err := os.ReadFile(name)
		insist.OK(t, err)
		var run host.Running
		insist.OK(t, json.Unmarshal(data, &run))
		run.Started = run.Started.Add(by)
		if data, err = json.Marshal(run); err != nil {
			t.Fatal(err)
		}
		insist.OK(t, os.WriteFile(name, data, 0o600))
		_, judged := steps(t, a, func(s app.Step) bool { return s.Judged != nil })
		if p := judged[0]; p.Verdict != proof.Proved || p.ReadyAfterMS < 250 || p.ReadyAfterMS > 9000 || *p.Mods[1].EndedMS < 250 || *p.Mods[1].EndedMS > 9000 {
			t.Errorf("set by %s: %+v", by, p)
		}
	}
}

// Where the log tells nothing that the dialect knows, the proof says what to do; a server
// that writes its log itself is then followed there.
func TestHint(t *testing.T) {
	for script, want := range map[string]string{
		polite: "it printed nothing, and nothing",
		"exec >\"${0%/*}/own.log\" 2>&1; echo process $$; echo in a; echo in b; [ -f ready ] || exit 1; echo hot; " + polite: "own.log --own",
		"echo hello; echo world; exit 1": "no rule of the dialect oven fits a line",
		"echo in a; exit 1":              "the last that it wrote is line 1: in a",
	} {
		a, dir := running(t, script)
		p, err := a.Prove(context.Background(), "k", app.ProveOptions{Within: 500 * time.Millisecond})
		if err != nil || p.Verdict == proof.Proved || !strings.Contains(strings.ReplaceAll(p.Hint, "'", ""), want) || want == "" && p.Hint != "" {
			t.Errorf("%q: %+v, %v", script, p, err)
		}
		if !strings.HasSuffix(want, "--own") {
			continue
		}
		l, err := a.Teach("oven", filepath.Join(dir, "own.log"), "k", nil)
		insist.OK(t, err)
		if file, err := l.Own(); err != nil || file != "{dir}/own.log" {
			t.Errorf("own: %q, %v", file, err)
		}
		put(t, filepath.Join(dir, "ready"), "")
		if p, err := a.Prove(context.Background(), "k", app.ProveOptions{}); err != nil || p.Verdict != proof.Proved {
			t.Errorf("followed there: %+v, %v", p, err)
		}
		sent := filepath.Join(t.TempDir(), "own.log")
		insist.OK(t, os.WriteFile(sent, []byte("in a\n"), 0o600))
		if l, err = a.Teach("oven", sent, "", nil); err != nil {
			t.Fatal(err)
		}
		if file, err := l.Own(); err == nil || !strings.Contains(err.Error(), "is not below the folder") {
			t.Errorf("a log from anywhere was taken for the server's own: %q, %v", file, err)
		}
	}
}

// A start that was watched by nobody to its end is judged by whoever looks next, as it
// would have been then.
func TestCatchUp(t *testing.T) {
	for name, test := range map[string]struct{ script, reason string }{
		"up for long enough": {"echo 'in a'; echo 'in b'; echo hot; sleep 0.4; exit 3\n", ""},
		"at once":            {"echo 'in a'; exit 3\n", "the server stopped before it was ready, with exit status 3"},
	} {
		a, _ := running(t, test.script)
		insist.OK(t, insist.Err(a.Begin("k", app.ProveOptions{Stay: 100 * time.Millisecond})))
		for end := time.Now().Add(10 * time.Second); a.Home.IsRunning("k") && time.Now().Before(end); {
			time.Sleep(20 * time.Millisecond)
		}
		entries, err := a.Ledger("k")
		insist.Need(t, err == nil && len(entries[0].Starts) == 1, "%s: %+v, %v", name, entries, err)
		p, err := a.Home.Start("k", 1).Proof()
		insist.That(t, err == nil && p.Reason == test.reason, "%s: %+v, %v", name, p, err)
	}
}

// A start that never came to be, and one of which nobody knows what was expected, are
// passed over; what comes after them is judged, once.
func TestCatchUpPassesOver(t *testing.T) {
	a, _ := running(t, "echo 'in a'; exit 3\n")
	_, err := a.Begin("k", app.ProveOptions{})
	insist.OK(t, err)
	for end := time.Now().Add(20 * time.Second); a.Home.IsRunning("k") && time.Now().Before(end); {
		time.Sleep(10 * time.Millisecond)
	}
	first := a.Home.Start("k", 1)
	expected, err := first.Expected()
	insist.OK(t, err)
	expected.Foretold = nil // as an earlier Initium wrote it
	for _, how := range []string{host.EndedNever, "nobody knows", host.EndedItself} {
		dir, _, err := a.Home.NewStart("k")
		insist.OK(t, err)
		if how != "nobody knows" {
			insist.OK(t, dir.PutExpected(expected))
			insist.OK(t, os.WriteFile(filepath.Join(string(dir), "exit.json"), []byte(`{"status":1,"how":"`+how+`"}`), 0o600))
		}
		insist.OK(t, os.WriteFile(dir.Log(), []byte("in a\n"), 0o600))
	}
	for _, want := range []int{2, 0} {
		if judged, err := a.CatchUp(t.Context(), "k"); err != nil || judged != want {
			t.Errorf("%d starts are judged, %v, want %d", judged, err, want)
		}
	}
	for n, want := range []bool{true, false, false, true} {
		insist.Same(t, fmt.Sprintf("start %d: judged", n+1), a.Home.Start("k", n+1).Judged(), want)
	}
}

// How long a server stays up is counted from when it was ready, however long that took; and
// while nothing is new those who watch are told of the time now and then, not all the time.
func TestStaysUpFromWhenItIsReady(t *testing.T) {
	a, _ := running(t, "sleep 1; echo 'in a'; echo 'in b'; echo hot; sleep 0.3; exit 3\n")
	told := 0
	p, err := a.Prove(t.Context(), "k", app.ProveOptions{Stay: 1200 * time.Millisecond, OnStep: func(app.Step) { told++ }})
	insist.That(t, err == nil && p.Verdict != proof.Proved && p.Exit != nil, "%+v, %v", p, err)
	insist.That(t, told <= 100, "told of %d steps", told)
}

// While somebody else judges a start it is waited for as long as the server runs, and for a
// while after it has ended.
func TestJudgedByAnother(t *testing.T) {
	a, _ := running(t, "for i in 1 2 3 4 5 6 7 8 9 0; do for j in 1 2 3 4; do echo $i $j; sleep 0.02; done; done; echo 'in a'; echo 'in b'; echo hot\n"+polite)
	insist.OK(t, insist.Err(a.Begin("k", app.ProveOptions{})))
	dir := a.Home.Start("k", 1)
	release, mine := dir.Judge()
	insist.Need(t, mine, "somebody else judges it")
	heard := 0
	_, judged := steps(t, a, func(s app.Step) bool {
		if heard += len(s.New); release != nil && heard > 40 {
			release()
			release = nil
		}
		return s.Judged != nil
	})
	insist.That(t, len(judged) == 1 && judged[0].Verdict == proof.Proved, "judged %+v", judged)
	insist.OK(t, insist.Err(a.Stop(t.Context(), "k")))
	insist.OK(t, os.Remove(filepath.Join(string(dir), "proof.json")))
	if release, mine = dir.Judge(); !mine {
		t.Fatal("somebody else judges it")
	}
	defer release()
	if _, judged := steps(t, a, func(s app.Step) bool { return s.Exit != nil }); len(judged) != 0 {
		t.Errorf("judged %+v", judged)
	}
}

// A start that nobody judged at first is guarded once it is proved, and only then.
func TestLateGuard(t *testing.T) {
	for name, test := range map[string]struct {
		script string
		starts int
	}{
		"proved":     {"echo 'in a'; echo 'in b'; echo hot\n", 2},
		"not proved": {"echo 'in a'; echo hot\n", 1},
	} {
		a, _ := running(t, test.script+"while read -r line; do case $line in cool) exit 0;; crash) exit 3;; esac; done\n")
		insist.OK(t, a.Guard("k", 1))
		insist.OK(t, insist.Err(a.Begin("k", app.ProveOptions{})))
		steps(t, a, func(s app.Step) bool { return s.Judged != nil })
		insist.OK(t, a.Type("k", "crash"))
		for end := time.Now().Add(20 * time.Second); ; time.Sleep(10 * time.Millisecond) {
			exit, ended := a.Home.Start("k", 1).Exit()
			if ended && (exit.Next > 0 || exit.Again == nil) {
				break
			}
			insist.Need(t, !time.Now().After(end), "%s: it does not come to an end: %+v", name, exit)
		}
		if starts, err := a.Home.Starts("k"); err != nil || len(starts) != test.starts {
			t.Errorf("%s: there are %d starts, %v", name, len(starts), err)
		}
		a.Stop(context.Background(), "k")
	}
}

// When what a server says of itself is compared with what was set, and what it was
// started with is noted, secrets are sealed.
func TestInventoryOfAStart(t *testing.T) {
	a, dir := running(t, "echo 'in a'; echo 'in b'; echo hot\n"+polite)
	prove := func() *proof.Proof {
		p, err := a.Prove(context.Background(), "k", app.ProveOptions{})
		insist.OK(t, err)
		return p
	}
	prove()
	insist.OK(t, os.WriteFile(filepath.Join(dir, "mods/a/new"), []byte("x"), 0o600))
	second := prove()
	c, err := a.Compare(context.Background(), "k", 0, 0)
	insist.That(t, err == nil && second.Number == 2 && fmt.Sprint(c.Files) == "[{a new new}]" && !c.Same(), "start %d, %+v, %v", second.Number, c, err)
	v, err := a.Home.Start("k", 2).Inventory()
	insist.That(t, err == nil && len(v.Files) == 4 && !v.Cut, "%+v, %v", v, err)
	one, err := a.Home.Key()
	two, again := a.Home.Key()
	insist.That(t, err == nil && again == nil && len(one) == 32 && string(one) == string(two), "the key of the home is not kept: %v, %v", err, again)
}

// A mod is taken out when the server's own list names it no more; a list that breaks off
// proves nothing.
func TestUnloadAndBrokenLists(t *testing.T) {
	const list = "list = \"list\"\nend = \"{any} in all\"\nwithin = \"500ms\""
	say := func(reply string) string {
		return "echo 'in a'; echo 'in b'; echo hot; b='* b'\nwhile read -r line; do case $line in cool) exit 0;; 'out b') b=;; list) " + reply + ";; esac; done\n"
	}
	a, _ := asking(t, say("echo '* a'; echo \"$b\"; echo '2 in all'"), list)
	p, err := a.Prove(context.Background(), "k", app.ProveOptions{Keep: app.KeepAlways})
	insist.Need(t, err == nil && p.Verdict == proof.Proved, "%+v, %v", p, err)
	for mod, want := range map[string]proof.Outcome{"a": proof.Failed, "b": proof.Confirmed} { // it does not know how to let go of a
		if m, err := a.SwitchMod(context.Background(), "k", mod, app.SwitchUnload); err != nil || m.Outcome != want || m.Reason == "" {
			t.Errorf("%s: %+v, %v", mod, m, err)
		}
	}
	if p, err := a.Home.Start("k", 1).Proof(); err != nil || len(p.Reloads) != 2 {
		t.Errorf("kept with the proof: %+v, %v", p, err)
	}
	a, _ = asking(t, say(":"), "") // that nothing is said of a mod is no list without it
	if p, err = a.Prove(context.Background(), "k", app.ProveOptions{Keep: app.KeepAlways}); err != nil || p.Verdict != proof.Proved {
		t.Fatalf("%+v, %v", p, err)
	}
	if m, err := a.SwitchMod(context.Background(), "k", "b", app.SwitchUnload); err != nil || m.Outcome != proof.Silent || !strings.Contains(m.Reason, "said nothing") {
		t.Errorf("without a list: %+v, %v", m, err)
	}
	a, _ = asking(t, say("echo '* a'"), list)
	if p, err = a.Prove(context.Background(), "k", app.ProveOptions{}); err != nil || p.Verdict != proof.Proved || !strings.Contains(p.Unheard, "did not come to an end") {
		t.Errorf("with a list that breaks off: %+v, %v", p, err)
	}
}

// Of a server that prints nothing, the file is told that may be its log: the largest that
// was written since, by its name or by the times in it, and no other.
func TestHintOfLogs(t *testing.T) {
	a, dir := running(t, `exec 2>&1 >/dev/null; d="${0%/*}"
printf '10:00:00 said\nand more, and more\n' >"$d/timed"; printf 'x\n' >"$d/a.out"; printf 'long enough\0b' >"$d/bin.log"
: >"$d/empty.log"; ln -s a.out "$d/link.log"; printf 'some text, long enough to be first\n' >"$d/plain.txt"; mkdir "$d/deep"; printf 'x y\n' >"$d/deep/B.LOG"; printf 'z\n' >"$d/z.log"; exit 3
`)
	put(t, filepath.Join(dir, "old.log"), "10:00:00 of another day, and long enough to be first\n")
	then := time.Now().Add(-time.Hour)
	insist.OK(t, os.Chtimes(filepath.Join(dir, "old.log"), then, then))
	p, err := a.Prove(context.Background(), "k", app.ProveOptions{})
	insist.OK(t, err)
	insist.Holds(t, "it is told", p.Hint, "wrote "+filepath.Join(dir, "timed")+" meanwhile")
	for _, not := range []string{"bin.log", "empty.log", "link.log", "plain.txt", "old.log", "z.log", "a.out", "B.LOG"} {
		insist.Lacks(t, not, p.Hint, not)
	}
}

// What a server is given is compared with what it says of itself, and a mode that it falls back
// to is no proof.
func TestGivenIsToldBack(t *testing.T) {
	for set, want := range map[string]string{"warm": "", "hot": "the server says that its mode is warm; what it was started with says hot"} {
		a, _ := asking(t, "echo in a; echo in b; echo mode warm; echo hot; read x", "[[given]]\nname = \"climate\"\ndefault = [\"warm\"]\ntold = \"mode\"\n[[log.rule]]\nmeans = \"told\"\nline = \"mode {mode}\"")
		insist.OK(t, insist.Err(a.Give(t.Context(), "k", map[string]string{"climate": set})))
		p, err := a.Prove(t.Context(), "k", app.ProveOptions{})
		insist.That(t, err == nil && p.Reason == want && p.Told["mode"] == "warm", "%s: %+v, %v", set, p, err)
	}
	// The port counts where it is handed to the server, and is else the server's own affair.
	const differs = "the server says that its port is 7; what it was started with says 9"
	for command, want := range map[string]string{"command = [\"{dir}/run.sh\", \"-p\", \"{port}\"]": differs, "command = [\"{dir}/run.sh\"]": "", "env = { P = \"{port}\" }\ncommand = [\"{dir}/run.sh\"]": differs} {
		a, _ := asking(t, "echo in a; echo in b; echo on 7; echo hot; read x", "[[given]]\nname = \"port\"\nkind = \"port\"\ndefault = [\"9\"]\n[[log.rule]]\nmeans = \"told\"\nline = \"on {port}\"")
		file := filepath.Join(a.Home.DialectDir(), "oven.toml")
		data, err := os.ReadFile(file)
		insist.OK(t, err)
		put(t, file, strings.Replace(string(data), "command = [\"{dir}/run.sh\"]", command, 1))
		if p, err := a.Prove(t.Context(), "k", app.ProveOptions{}); err != nil || p.Reason != want || !slices.Equal(p.Differs, []string{differs}) {
			t.Errorf("%s: %+v, %v", command, p, err)
		}
	}
}

// A mod that is loaded anew is waited for until something is said of it, and no longer than a
// start may take; the operator can stop that.
func TestReloadTakesItsTime(t *testing.T) {
	a, _ := asking(t, `echo 'in a'; echo 'in b'; echo hot
while read -r line; do case $line in cool) exit 0;; 'again a') echo working; sleep 1.2; echo 'in a';; 'again b') sleep 1.2; echo 'b fell:'; echo 'a hole';; *) echo hm;; esac; done
`, "reload = \"again {mod}\"\nload = \"more {mod}\"\n[[log.rule]]\nmeans = \"failed\"\nline = \"{mod} fell:\"\nnext = true")
	file := filepath.Join(a.Home.DialectDir(), "oven.toml")
	data, err := os.ReadFile(file)
	insist.OK(t, err)
	put(t, file, strings.Replace(string(data), "settle = \"100ms\"", "settle = \"100ms\"\nwithin = \"6s\"", 1))
	p, err := a.Prove(t.Context(), "k", app.ProveOptions{Keep: app.KeepAlways})
	insist.Need(t, err == nil && p.Verdict == proof.Proved, "%+v, %v", p, err)
	stopped, stop := context.WithCancel(t.Context())
	defer stop()
	for _, test := range []struct {
		ctx       context.Context
		do        app.Switch
		mod, want string
	}{
		{t.Context(), app.SwitchReload, "a", "confirmed: "},
		{t.Context(), app.SwitchReload, "b", "failed: a hole"},
		{t.Context(), app.SwitchLoad, "b", "silent: the server said nothing about it after it was told to load it, in "},
		{stopped, app.SwitchLoad, "a", "silent: the server said nothing about it after it was told to load it, in "},
	} {
		if test.ctx == stopped {
			stop()
		}
		m, err := a.SwitchMod(test.ctx, "k", test.mod, test.do)
		insist.That(t, err == nil && strings.HasPrefix(string(m.Outcome)+": "+m.Reason, test.want), "%s %s: %+v, %v", test.do, test.mod, m, err)
	}
	if p, err := a.Home.Start("k", 1).Proof(); err != nil || p.Verdict != proof.Proved || len(p.Reloads) != 4 || p.Find("b").Outcome != proof.Confirmed {
		t.Errorf("the proof of the start is %+v, %v", p, err)
	}
}

// A server that writes its log only when it stops is judged once more then, whoever stops it.
func TestJudgedAfterTheStop(t *testing.T) {
	for log, want := range map[string]string{
		"echo 'in a'; echo 'in b'; echo hot": "proved, confirmed confirmed: judged once more after the stop: only since then the log says what came of 2 mods, and that the server was ready",
		"echo 'in a'; echo hot":              "not proved, confirmed silent: judged once more after the stop: only since then the log says what came of one mod, and that the server was ready",
		"echo 'in b'":                        "not proved, silent confirmed: judged once more after the stop: only since then the log says what came of one mod",
		":":                                  "not proved, silent silent: ",
		"echo 'in a'; echo 'in b'; echo hot # slow": "not proved, silent silent: ", // it was still at it when it was stopped
	} {
		before := ""
		if strings.HasSuffix(log, "slow") {
			before = "echo waking; "
		}
		a, _ := running(t, before+"while read -r line; do [ $line = cool ] && { "+strings.TrimSuffix(log, " # slow")+"; exit 0; }; done\n")
		said := func(p *proof.Proof) string {
			return fmt.Sprintf("%s, %s %s: %s", p.Verdict, p.Find("a").Outcome, p.Find("b").Outcome, p.Again)
		}
		p, err := a.Prove(t.Context(), "k", app.ProveOptions{Within: 300 * time.Millisecond})
		insist.That(t, err == nil && said(p) == want, "%s: %s, %v", log, said(p), err)
		if kept, err := a.Home.Start("k", 1).Proof(); err != nil || said(kept) != want {
			t.Errorf("%s: it is kept as %s, %v", log, said(kept), err)
		}
		// And so by whoever watches.
		if p, err = a.Prove(t.Context(), "k", app.ProveOptions{Within: 300 * time.Millisecond, Keep: app.KeepAlways}); err != nil || p.Again != "" || p.Find("a").Outcome != proof.Silent {
			t.Errorf("%s: while it runs: %s, %v", log, said(p), err)
		}
		go a.Stop(t.Context(), "k")
		_, judged := steps(t, a, func(s app.Step) bool { return s.Exit != nil })
		if last := judged[len(judged)-1]; said(last) != want {
			t.Errorf("%s: watched: %s", log, said(last))
		}
	}
}
