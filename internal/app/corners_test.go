package app_test

import (
	"archive/zip"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/mod"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/insist"
)

// A dialect that cannot be read is told of where it could have been the one that is looked
// for, and is passed over elsewhere; one may be as large as the bound, and no larger.
func TestDialectsWithFaults(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "", "other/x": "", "log": "hot\n"})
	put(t, filepath.Join(a.Home.DialectDir(), "broken.toml"), "name = \"broken\"\nnonsense = 1\n")
	insist.Fails(t, "of a folder that none recognises", insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: filepath.Join(dir, "other")})), "; broken has faults and was not tried (initium dialect check broken)")
	if _, err := a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"}); err != nil {
		t.Errorf("of one that another recognises: %v", err)
	}
	if r, err := a.Read(t.Context(), []string{filepath.Join(dir, "log")}, app.ReadOptions{}); err != nil || !r.Proof.Ready {
		t.Errorf("a log whose dialect is found out: %+v, %v", r, err)
	}
	for more, want := range []string{"", "is larger than a dialect may be"} {
		file := filepath.Join(dir, "large.toml")
		put(t, file, kiln+"#"+strings.Repeat("x", dialect.MaxSize-len(kiln)-2+more)+"\n")
		if _, err := a.CheckDialect(file); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%d bytes above the bound: %v", more, err)
		}
	}
}

// Two mods that break a server only together are both culprits, and the last of them goes.
func TestCulpritsTogether(t *testing.T) {
	insist.Long(t)
	a, _ := bakery(t, "a", "b: B=1", "c", "d: [ \"$B\" ] && echo 'gave up: d and b' && exit 3", "e")
	found, err := a.FindCulprits(t.Context(), "k", app.CulpritOptions{})
	if err != nil || !slices.Equal(found.Culprits, []string{"b", "d"}) || !found.Cured || len(found.Changes) != 1 || found.Changes[0].Op != lineup.OpOff || found.Changes[0].Mod != "d" {
		t.Errorf("found %+v, %v", found, err)
	}
	if n := len(found.Problem); n > 0 {
		t.Error(found.Problem)
	}
}

// The evidence is told as if it came from the server itself, not from the copy.
func TestEvidenceOfCulprits(t *testing.T) {
	insist.Long(t)
	a, dir := bakery(t, "a", "b: echo \"out c: no flour in $(pwd)/mods/b\"", "c")
	found, err := a.FindCulprits(t.Context(), "k", app.CulpritOptions{})
	insist.OK(t, err)
	if said := fmt.Sprint(found.Evidence, found.Reason); strings.Count(said, "no flour in "+dir+"/mods/b") < 2 || len(found.Evidence) == 0 {
		t.Errorf("it is told: %s", said)
	}
}

// A mod that is silent is the symptom where none has failed: the one that keeps it silent is
// found, and no other mod's silence counts.
func TestCulpritOfASilentMod(t *testing.T) {
	insist.Long(t)
	a, _ := bakery(t, "a", "b: B=1", "c", "d: [ \"$B\" ] && continue", "e")
	found, err := a.FindCulprits(t.Context(), "k", app.CulpritOptions{})
	insist.That(t, err == nil && slices.Contains(found.Culprits, "b") && strings.Contains(found.Symptom, "d"), "found %+v, %v", found, err)
}

// A reply without an end of its last line is heard too.
func TestReplyWithoutEnd(t *testing.T) {
	a, _ := running(t, "echo 'in a'; echo 'in b'; echo hot\nwhile read -r line; do [ \"$line\" = cool ] && exit 0; printf 'out b: at once'; done\n")
	file := filepath.Join(a.Home.DialectDir(), "oven.toml")
	data, err := os.ReadFile(file)
	insist.OK(t, err)
	put(t, file, string(data)+"[[console.rule]]\nmeans = \"failed\"\nline = \"out {mod}: {reason}\"\n[[log.rule]]\nmeans = \"failed\"\nline = \"out {mod}: {reason}\"\n")
	var stopping bool
	p, err := a.Prove(t.Context(), "k", app.ProveOptions{Keep: app.KeepAlways, OnStep: func(s app.Step) { stopping = stopping || s.Stopping }})
	insist.Need(t, err == nil && p.Verdict == proof.Proved && !stopping, "%+v, %v, stopping %v", p, err, stopping)
	m, err := a.SwitchMod(t.Context(), "k", "b", app.SwitchUnload)
	insist.That(t, err == nil && strings.Contains(m.Reason+fmt.Sprint(m.Evidence), "at once"), "%+v, %v", m, err)
	a.StopAll(func(name string) { a.Stop(context.Background(), name) })
	insist.That(t, !a.Home.IsRunning("k"), "it still runs after all were stopped")
	if _, err := a.Prove(t.Context(), "k", app.ProveOptions{OnStep: func(s app.Step) { stopping = stopping || s.Stopping }}); err != nil || !stopping {
		t.Errorf("that it is being stopped is not told: %v", err)
	}
}

// A start is judged by every name that a mod may be called by in a log, each once; where the
// names have to agree, by its own and its title.
func TestNamesOfExpectedMods(t *testing.T) {
	m := survey.Mod{Name: "tongs", Title: "Tongs of Iron", Folder: "tongs-2", Manifest: mod.Manifest{Name: "iron-tongs"}}
	twice := survey.Mod{Name: "anvil", Title: "anvil", Folder: "Anvil", Manifest: mod.Manifest{Name: "Anvil"}}
	for agree, want := range map[bool]string{false: "[[Tongs of Iron iron-tongs tongs-2] [Anvil]]", true: "[[Tongs of Iron] []]"} {
		s := &survey.Survey{Mods: []survey.Mod{m, twice}, Dialect: &dialect.Dialect{}}
		s.Dialect.Names.Agree = agree
		var got [][]string
		for _, e := range app.Expect(s) {
			got = append(got, e.Also)
		}
		insist.That(t, fmt.Sprint(got) == want, "agreeing %v: %v, want %s", agree, got, want)
	}
}

// What a server is started with are the files of the mods that are there and on; not those of
// a mod that is missing, and not the server's own.
func TestInventoryOfWhatIsThere(t *testing.T) {
	a, dir := running(t, "echo 'in a'; echo hot\n"+polite)
	file := filepath.Join(a.Home.DialectDir(), "oven.toml")
	data, err := os.ReadFile(file)
	insist.OK(t, err)
	put(t, file, strings.Replace(string(data), "[[registration]]", "[[place]]\npath = \"{dir}/own\"\nloads = \"base\"\n[[registration]]", 1))
	put(t, filepath.Join(dir, "own", "floor", "x"), "")
	put(t, filepath.Join(dir, "oven.list"), "bake a\nbake gone\nbake floor\n")
	t.Chdir(dir) // what has no folder is not looked for in this one
	p, err := a.Prove(t.Context(), "k", app.ProveOptions{})
	insist.OK(t, err)
	v, err := a.Home.Start("k", p.Number).Inventory()
	insist.That(t, err == nil && len(v.Files) == 2 && v.Files[0].Path == "run.sh" && v.Files[1].Mod == "a" && v.Files[1].Path == "x", "%+v, %v", v, err)
}

// While a startup file cannot be understood nothing is proved, whatever loads; and read says the
// same of the log.
func TestNothingIsProvedOfWhatCannotBeRead(t *testing.T) {
	a, dir := running(t, "echo 'in a'; echo 'in b'; echo hot\n"+polite)
	list, err := os.ReadFile(filepath.Join(dir, "oven.list"))
	insist.OK(t, err)
	put(t, filepath.Join(dir, "oven.list"), string(list)+"\x00")
	p, err := a.Prove(t.Context(), "k", app.ProveOptions{})
	insist.That(t, err == nil && p.Verdict != proof.Proved && strings.HasPrefix(p.Reason, "not all that is registered is known: oven.list, line "), "%s: %q, %v", p.Verdict, p.Reason, err)
	read, err := a.Read(t.Context(), []string{p.Log}, app.ReadOptions{Server: "k"})
	insist.That(t, err == nil && read.Proof.Reason == p.Reason, "read says %+v, %v", read.Proof, err)
	put(t, filepath.Join(dir, "oven.list"), string(list))
	if p, err := a.Prove(t.Context(), "k", app.ProveOptions{}); err != nil || p.Verdict != proof.Proved {
		t.Errorf("mended: %s: %q, %v", p.Verdict, p.Reason, err)
	}
}

// Of a server that stops and gives no reason that a rule knows the last lines stand in the
// proof, without the secrets in them.
func TestLastLines(t *testing.T) {
	a, _ := running(t, "echo in a; for i in 2 3 4 5 6; do echo \"line $i\"; done; echo; echo 'console password=geheim11'; echo 'it is over'; exit 3\n")
	p, err := a.Prove(t.Context(), "k", app.ProveOptions{})
	insist.OK(t, err)
	var said []string
	for _, l := range p.LastLines {
		said = append(said, fmt.Sprint(l.Line, " ", l.Text))
	}
	if got := strings.Join(said, "; "); got != "3 line 3; 4 line 4; 5 line 5; 6 line 6; 8 console password=••••••; 9 it is over" || p.Hint != "the last that it wrote is line 9: it is over" {
		t.Errorf("%s; %s", got, p.Hint)
	}
}

// A log that a server writes by itself is read where its name can be filled in.
func TestLogFiles(t *testing.T) {
	a, dir := running(t, "echo 'in a' >>\"${0%/*}/own.log\"; echo 'in b' >>\"${0%/*}/own.log\"; echo hot >>\"${0%/*}/own.log\"\n"+polite)
	file := filepath.Join(a.Home.DialectDir(), "oven.toml")
	data, err := os.ReadFile(file)
	insist.OK(t, err)
	put(t, file, string(data)+"[log]\nfiles = [\"{dir}/own.log\"]\n")
	put(t, filepath.Join(dir, "own.log"), "of before\n")
	if p, err := a.Prove(t.Context(), "k", app.ProveOptions{}); err != nil || p.Verdict != proof.Proved {
		t.Errorf("%+v, %v", p, err)
	}
}

// Of a mod whose files are older than the program by years that is said; a time that only
// stands for none is not taken for one.
func TestAgedMods(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "", "kiln": "#!/bin/sh\n"})
	put(t, filepath.Join(a.Home.DialectDir(), "kiln.toml"), strings.Replace(kiln, "path = \"{dir}/mods\"", "path = \"{dir}/mods\"\nmark = [\"x\"]", 1))
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"})))
	for year, want := range map[int]bool{1980: false, 1981: true, time.Now().Year() + 1: false} {
		name := filepath.Join(filepath.Dir(dir), fmt.Sprint(year, ".zip"))
		f, err := os.Create(name)
		insist.OK(t, err)
		w := zip.NewWriter(f)
		_, err = w.CreateHeader(&zip.FileHeader{Name: "tongs/x", Modified: time.Date(year, 5, 5, 5, 5, 0, 0, time.UTC)})
		insist.OK(t, err)
		insist.OK(t, w.Close())
		insist.OK(t, f.Close())
		inside, err := a.Inspect(t.Context(), name, "k", lineup.Choices{}, nil)
		insist.That(t, err == nil && (inside.Aged["tongs"] != "") == want, "of %d: %v, %v", year, inside.Aged, err)
	}
}
