package app_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/host"
	"initium/internal/insist"
)

// A server that is being changed by another Initium is not started, nor copied for a search.
func TestNothingStartsMeanwhile(t *testing.T) {
	a, _ := bakery(t, "a", "b")
	insist.OK(t, insist.Err(a.Change(t.Context(), "k", nil, lineup.Change{Op: lineup.OpOff, Mod: "b"})))
	lock, err := os.OpenFile(filepath.Join(a.Home.Dir, "servers", "k", "change.lock"), os.O_RDWR|os.O_CREATE, 0o600)
	insist.OK(t, err)
	defer lock.Close()
	insist.OK(t, syscall.Flock(int(lock.Fd()), syscall.LOCK_EX))
	for what, do := range map[string]func() error{
		"prove": func() error { _, err := a.Prove(t.Context(), "k", app.ProveOptions{}); return err },
		"begin": func() error { _, err := a.Begin("k", app.ProveOptions{}); return err },
		"search": func() error {
			_, err := a.FindCulprits(t.Context(), "k", app.CulpritOptions{})
			return err
		},
	} {
		insist.Fails(t, what, do(), "another Initium is changing this server")
	}
}

// What was done about a change that had been cut off is told once, and stands in Initium's own
// log.
func TestNotes(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "fire a\nfire b\n", "mods/a/x": "", "mods/b/x": ""})
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"})))
	insist.OK(t, insist.Err(a.Change(t.Context(), "k", nil, lineup.Change{Op: lineup.OpOff, Mod: "b"})))
	beginAgain(t, a)
	insist.OK(t, insist.Err(a.Server("k")))
	notes := a.Notes()
	insist.That(t, len(notes) == 1 && strings.Contains(notes[0], "a change that was cut off (switch b off) was completed") && len(a.Notes()) == 0, "it is told: %q", notes)
	var own strings.Builder
	insist.OK(t, a.Home.ReadLog(&own))
	insist.That(t, strings.Count(own.String(), "switch b off") == 1, "Initium's own log: %s", own.String())
}

// Of what was done to single mods of a running server the last two hundred are kept.
func TestReloadsAreBounded(t *testing.T) {
	a, _ := asking(t, "echo 'in a'; echo 'in b'; echo hot\n"+polite, "")
	p, err := a.Prove(t.Context(), "k", app.ProveOptions{Keep: app.KeepAlways})
	insist.OK(t, err)
	for i := range 200 {
		p.Reloads = append(p.Reloads, proof.Reload{Do: "unload", Mod: proof.Mod{Name: strings.Repeat("x", i%7+1)}})
	}
	insist.OK(t, a.Home.Start("k", p.Number).PutProof(p))
	insist.OK(t, insist.Err(a.SwitchMod(t.Context(), "k", "b", app.SwitchUnload)))
	kept, err := a.Home.Start("k", p.Number).Proof()
	insist.That(t, err == nil && len(kept.Reloads) == 200 && kept.Reloads[199].Mod.Name == "b" && kept.Reloads[0].Mod.Name == "xx", "%d are kept, %v", len(kept.Reloads), err)
	if m := kept.Reloads[199].Mod; m.Outcome != proof.Silent || !strings.Contains(m.Reason, "said nothing about it") {
		t.Errorf("of a server without a list of its own: %+v", m)
	}
}

// A list that breaks off does not tell that a mod is out.
func TestUnloadByABrokenList(t *testing.T) {
	a, _ := asking(t, "echo 'in a'; echo 'in b'; echo hot\nn=0; while read -r line; do case $line in cool) exit 0;; list) n=$((n+1)); echo '* a'; [ $n = 1 ] && echo '* b' && echo '2 in all';; esac; done\n", "list = \"list\"\nend = \"{any} in all\"\nwithin = \"400ms\"")
	if p, err := a.Prove(t.Context(), "k", app.ProveOptions{Keep: app.KeepAlways}); err != nil || p.Verdict != proof.Proved {
		t.Fatal(p, err)
	}
	if m, err := a.SwitchMod(t.Context(), "k", "b", app.SwitchUnload); err != nil || m.Outcome == proof.Confirmed {
		t.Errorf("%+v, %v", m, err)
	}
}

// A copy gets a port of its own, wherever the server's is said: in a setting of a startup
// file, somewhere in one, or nowhere.
func TestCulpritWithAPort(t *testing.T) {
	for name, test := range map[string]struct{ given, line string }{
		"somewhere":        {"default = [\"21988\"]\n", "# on 21988"},
		"in a setting":     {"from = { registration = \"list\", key = \"port\" }\n", "set port 21988"},
		"not in its place": {"from = { registration = \"list\", key = \"port\" }\ndefault = [\"21988\"]\n", "# none"},
	} {
		a, dir := bakery(t, "a", "b: read -r l <oven.list; echo \"gave up: sunk $l\"; exit 3", "c")
		file := filepath.Join(a.Home.DialectDir(), "oven.toml")
		data, err := os.ReadFile(file)
		insist.OK(t, err)
		put(t, file, strings.NewReplacer("[recognise]", "[[given]]\nname = \"port\"\nkind = \"port\"\n"+test.given+"[recognise]", "[start]\n", "setting = \"set {name} {value}\"\n[start]\n").Replace(string(data)))
		list := filepath.Join(dir, "oven.list")
		before, err := os.ReadFile(list)
		insist.OK(t, err)
		put(t, list, test.line+"\n"+string(before))
		found, err := a.FindCulprits(t.Context(), "k", app.CulpritOptions{})
		if err != nil || !slices.Equal(found.Culprits, []string{"b"}) || strings.Contains(found.Reason, "21988") || !strings.Contains(found.Reason, "sunk "+strings.TrimSuffix(test.line, "21988")) {
			t.Errorf("%s: %+v, %v", name, found, err)
		}
		if got, err := os.ReadFile(list); err != nil || !strings.HasPrefix(string(got), test.line+"\n") {
			t.Errorf("%s: the server's own list is %q, %v", name, got, err)
		}
	}
}

// Of which other families a source could be is told; and the files that the clean server has
// of its own are among what comes into the same place.
func TestOtherFamiliesAndTheServersOwn(t *testing.T) {
	marked := strings.Replace(kiln, "path = \"{dir}/mods\"", "path = \"{dir}/mods\"\nmark = [\"x\"]", 1)
	a, dir := world(t, map[string]string{"kiln.list": "", "kiln": "#!/bin/sh\n"})
	put(t, filepath.Join(a.Home.DialectDir(), "kiln.toml"), marked)
	put(t, filepath.Join(a.Home.DialectDir(), "stove.toml"), strings.Replace(marked, `name = "kiln"`, "name = \"stove\"\ntitle = \"Stove\"", 1))
	put(t, filepath.Join(a.Home.DialectDir(), "a-first.toml"), "name = \"a-first\"\nnonsense = 1\n")
	source := filepath.Join(filepath.Dir(dir), "tongs")
	put(t, filepath.Join(source, "x"), "new")
	inside, err := a.Inspect(t.Context(), source, "", lineup.Choices{}, nil)
	insist.That(t, err == nil && inside.Found.Dialect != nil && slices.Contains(append(inside.Also, inside.Found.Dialect.Title), "Stove") && len(inside.Also) == 1, "%+v, %v", inside, err)
	list, err := a.Dialects()
	insist.OK(t, err)
	insist.That(t, slices.IsSortedFunc(list, func(x, y app.DialectEntry) int { return strings.Compare(x.Name, y.Name) }) && list[0].Name == "a-first" && list[0].Err != nil, "dialects are %v", list)
	put(t, filepath.Join(dir, "elsewhere", "x"), "the server's own")
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k", Dialect: "kiln"})))
	one, err := a.Inspect(t.Context(), source, "k", lineup.Choices{}, nil)
	insist.OK(t, err)
	one.Intake.Parts[len(one.Intake.Parts)-1].Path = filepath.Join(dir, "elsewhere")
	shared, err := a.Overlaps("k", []*app.Inspection{one, {Source: "nothing"}})
	insist.That(t, err == nil && len(shared) == 1 && shared[0].Clean && shared[0].Path == filepath.Join(dir, "elsewhere", "x"), "%+v, %v", shared, err)
}

// What cannot be the beginning of a dialect is refused, and the operator's own folder is known
// to it.
func TestTeachOutside(t *testing.T) {
	a, dir := world(t, map[string]string{"list.conf": "fire tide\n", "sub/x": ""})
	for _, startup := range []string{"../list.conf", "..", filepath.Dir(dir)} {
		if o, err := a.TeachServer(app.TeachStart{Name: "d", Dir: filepath.Join(dir, "sub"), Startup: startup}, "tide"); err == nil || !strings.Contains(err.Error(), "is not below") {
			t.Errorf("%s: %+v", startup, o)
		}
	}
	put(t, filepath.Join(a.Home.DialectDir(), "kiln.toml"), strings.Replace(kiln, "{share}/mods", "{user_home}/mods", 1))
	home, err := os.UserHomeDir()
	insist.OK(t, err)
	put(t, filepath.Join(home, "mods", "far", "x"), "")
	put(t, filepath.Join(dir, "kiln.list"), "fire far\n")
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k", Dialect: "kiln"})))
	look, err := a.Look("k")
	insist.OK(t, err)
	if m := look.Survey.Find("far"); m == nil || m.Path != filepath.Join(home, "mods", "far") {
		t.Errorf("%+v", m)
	}
}

// Starts that nobody has looked at are counted over all servers; one that has begun a moment
// ago is left to whoever made it.
func TestCatchUpAll(t *testing.T) {
	a, _ := running(t, "echo 'in a'; echo 'in b'; echo hot\n"+polite)
	insist.OK(t, insist.Err(a.Begin("k", app.ProveOptions{})))
	insist.Same(t, "", a.CatchUpAll(t.Context()), 0)
	insist.OK(t, insist.Err(a.Stop(t.Context(), "k")))
	insist.Same(t, "", a.CatchUpAll(t.Context()), 1)
	insist.Same(t, "", a.CatchUpAll(t.Context()), 0)
	// One that could not be started is no start to be judged.
	_, n, err := a.Home.NewStart("k")
	insist.OK(t, err)
	put(t, filepath.Join(string(a.Home.Start("k", n)), "exit.json"), `{"status":-1,"how":"not started","error":"x","at":"`+time.Now().Format(time.RFC3339)+`"}`)
	put(t, filepath.Join(string(a.Home.Start("k", n)), "expected.json"), `{}`)
	insist.Same(t, "", a.CatchUpAll(t.Context()), 0)
}

// Two homes that have the same folder as a server do not change it at the same time, lose no
// change to each other, and do not start it twice.
func TestTwoHomes(t *testing.T) {
	a, dir := running(t, "echo 'in a'; echo 'in b'; echo hot\n"+polite)
	other := &app.App{Home: host.Home{Dir: filepath.Join(t.TempDir(), "home")}, Exe: a.Exe}
	t.Cleanup(func() { other.Close() })
	insist.OK(t, os.CopyFS(other.Home.DialectDir(), os.DirFS(a.Home.DialectDir())))
	insist.OK(t, insist.Err(other.Adopt(t.Context(), app.Adoption{Dir: dir, As: "mine"})))
	list := filepath.Join(dir, "oven.list")
	var all strings.Builder
	for i := range 40 {
		fmt.Fprintf(&all, "bake m%02d\n", i)
		put(t, filepath.Join(dir, "mods", fmt.Sprintf("m%02d", i), "x"), "")
	}
	put(t, list, all.String())
	var wait sync.WaitGroup
	for parity, one := range []struct {
		a    *app.App
		name string
	}{{a, "k"}, {other, "mine"}} {
		wait.Go(func() {
			for i := parity; i < 40; i += 2 {
				for {
					_, err := one.a.Change(t.Context(), one.name, nil, lineup.Change{Op: lineup.OpOff, Mod: fmt.Sprintf("m%02d", i)})
					if err == nil {
						break
					}
					if !errors.Is(err, host.ErrStale) && !errors.Is(err, host.ErrBusy) {
						t.Error(err)
						return
					}
				}
			}
		})
	}
	wait.Wait()
	if data, err := os.ReadFile(list); err != nil || string(data) != strings.ReplaceAll(all.String(), "bake", "# bake") {
		t.Errorf("%v, the list is\n%s", err, data)
	}
	if p, err := a.Prove(t.Context(), "k", app.ProveOptions{Keep: app.KeepAlways}); err != nil || !p.Ready {
		t.Fatal(p, err)
	}
	if _, err := other.Prove(t.Context(), "mine", app.ProveOptions{}); !errors.Is(err, host.ErrRunning) || !strings.Contains(err.Error(), "which was not started from here") {
		t.Errorf("a second start: %v", err)
	}
}
