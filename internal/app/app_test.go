package app_test

import (
	"database/sql"
	_ "embed"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/host"
	"initium/internal/insist"
)

// kiln is a dialect with a given of every kind.
//
//go:embed testdata/kiln.toml
var kiln string

// world makes an App with a home of its own and the kiln's dialect, and a server
// folder with files.
func world(t *testing.T, files map[string]string) (a *app.App, dir string) {
	t.Helper()
	base := t.TempDir()
	t.Setenv("HOME", base)
	t.Setenv("XDG_RUNTIME_DIR", filepath.Join(base, "run"))
	a = &app.App{Home: host.Home{Dir: filepath.Join(base, "home")}, Exe: "/nowhere/initium"}
	t.Cleanup(func() { a.Close() })
	put(t, filepath.Join(a.Home.DialectDir(), "kiln.toml"), kiln)
	dir = filepath.Join(base, "server")
	insist.OK(t, os.MkdirAll(dir, 0o755))
	for name, data := range files {
		put(t, filepath.Join(dir, name), data)
	}
	return a, dir
}

func put(t *testing.T, name, data string) {
	t.Helper()
	insist.OK(t, os.MkdirAll(filepath.Dir(name), 0o755))
	insist.OK(t, os.WriteFile(name, []byte(data), 0o755))
}

func TestGivenValues(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "set port 9100\n", "kiln": "#!/bin/sh\n"})
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"})))
	s, err := a.Server("k")
	insist.OK(t, err)
	insist.That(t, s.Vars["program"] == filepath.Join(dir, "kiln") && s.Vars["port"] == "9100" && s.Vars["share"] == "", "values are %v", s.Vars)
	insist.That(t, len(s.Missing) == 1 && s.Missing["level"] != "", "missing are %v", s.Missing)
	insist.Fails(t, "starting it", insist.Err(a.Prove(t.Context(), "k", app.ProveOptions{})), "how hot (level): no value was given; initium give k level=")
	// What the operator says comes first, and paths are made absolute.
	t.Chdir(dir)
	put(t, filepath.Join(dir, "elsewhere", "x"), "")
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: ".", As: "k", Set: map[string]string{"share": "elsewhere", "port": "77", "level": "9"}})))
	if s, err = a.Server("k"); err != nil || s.Vars["share"] != filepath.Join(dir, "elsewhere") || s.Vars["port"] != "77" || len(s.Missing) != 0 {
		t.Errorf("values are %v, %v, missing %v", s.Vars, err, s.Missing)
	}
	insist.OK(t, os.RemoveAll(filepath.Join(dir, "elsewhere")))
	if s, err = a.Server("k"); err != nil || !strings.Contains(s.Missing["share"], "is not a folder that is there") {
		t.Errorf("a folder that is gone: %v, %v", s.Missing, err)
	}
}

func TestRecognising(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": ""})
	r, err := a.Adopt(t.Context(), app.Adoption{Dir: dir})
	insist.That(t, err == nil && r.Dialect == "kiln" && r.Name == "server", "adopted as %+v, %v", r, err)
	put(t, filepath.Join(a.Home.DialectDir(), "twin.toml"), strings.Replace(kiln, `name = "kiln"`, `name = "twin"`, 1))
	var usage app.UsageError
	if _, err := a.Adopt(t.Context(), app.Adoption{Dir: dir}); !errors.As(err, &usage) || !strings.Contains(err.Error(), "several dialects recognise") {
		t.Errorf("two dialects: %v", err)
	}
	if _, err := a.Adopt(t.Context(), app.Adoption{Dir: t.TempDir()}); !errors.As(err, &usage) {
		t.Errorf("none: %v", err)
	}
	other := t.TempDir()
	put(t, filepath.Join(other, "kiln.list"), "")
	insist.Fails(t, "a name that is taken", insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: other, Dialect: "kiln", As: "server"})), "is taken by the server in")
	put(t, filepath.Join(a.Home.DialectDir(), "bad.toml"), "name = 3")
	list, err := a.Dialects()
	insist.OK(t, err)
	bad := 0
	for _, e := range list {
		if e.Err != nil {
			bad++
		}
	}
	insist.That(t, bad == 1 && len(list) >= 5, "%d of %d dialects have faults", bad, len(list))
	insist.Fails(t, "a dialect with faults", insist.Err(a.Dialect("bad")), "bad.toml:1")
}

func TestLookingAhead(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "fire a\nfire gone\n", "mods/a/x": "", "mods/b/x": ""})
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"})))
	insist.OK(t, insist.Err(a.Stage(t.Context(), "k", lineup.Change{Op: lineup.OpOff, Mod: "gone"}, lineup.Change{Op: lineup.OpRegister, Mod: "b", Where: lineup.Where{Before: "a"}})))
	codes := func(l *app.Look) string {
		var words []string
		for _, f := range l.Findings {
			if f.Code != "given-missing" {
				words = append(words, string(f.Code))
			}
		}
		return strings.Join(words, " ")
	}
	now, err := a.Look("k")
	insist.That(t, err == nil && codes(now) == "mod-missing not-registered", "now check says %q, %v", codes(now), err)
	ahead, err := a.LookAhead("k")
	insist.That(t, err == nil && codes(ahead) == "" && len(ahead.Staged) == 2 && ahead.Survey.Mods[0].Name == "b", "then it will say %q, %v", codes(ahead), err)
	// Somebody else takes the ground away from under what is staged.
	put(t, filepath.Join(dir, "kiln.list"), "fire a\n")
	if ahead, err = a.LookAhead("k"); err != nil || !strings.Contains(ahead.Problem, "gone is not registered") {
		t.Errorf("the problem is %q, %v", ahead.Problem, err)
	}
}

func TestHeldFiles(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "fire a\n", "mods/a/x": "", "kiln": "#!/bin/sh\necho hot\nread x\n"})
	exe, err := os.Executable()
	insist.OK(t, err)
	a.Exe = exe
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k", Set: map[string]string{"level": "1"}})))
	p, err := a.Prove(t.Context(), "k", app.ProveOptions{Keep: app.KeepAlways})
	insist.Need(t, err == nil && p.Ready, "the start gives %+v, %v", p, err)
	if _, err := a.Change(t.Context(), "k", nil, lineup.Change{Op: lineup.OpOff, Mod: "a"}); !errors.Is(err, host.ErrRunning) {
		t.Errorf("changing a held file under a running server gives %v", err)
	}
	insist.OK(t, insist.Err(a.Stop(t.Context(), "k")))
	if _, err := a.Change(t.Context(), "k", nil, lineup.Change{Op: lineup.OpOff, Mod: "a"}); err != nil {
		t.Errorf("afterwards: %v", err)
	}
}

// TestMain lets the test binary be the keeper.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == "keeper" {
		if err := host.Keep(host.StartDir(os.Args[2])); err != nil {
			os.Exit(3)
		}
		os.Exit(0)
	}
	if len(os.Args) > 2 && os.Args[1] == "note" {
		a := &app.App{Home: host.Home{Dir: os.Getenv("INITIUM_HOME")}}
		if err := a.NoteRestart(host.StartDir(os.Args[2])); err != nil {
			os.Exit(3)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func TestChangedSince(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "fire a\n#fire c\nfire b\n", "mods/a/x": "", "mods/b/x": "", "mods/c/x": ""})
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"})))
	s, err := a.Survey("k")
	insist.OK(t, err)
	for _, test := range []struct {
		mods    string
		changed bool
	}{{"a b", false}, {"b a", true}, {"a", true}, {"a b c", true}} {
		p := &proof.Proof{}
		for _, name := range strings.Fields(test.mods) {
			p.Mods = append(p.Mods, proof.Mod{Name: name, Registered: true})
		}
		p.Mods = append(p.Mods, proof.Mod{Name: "stray", Outcome: proof.Unlisted})
		insist.Same(t, fmt.Sprintf("since %s", test.mods), app.ChangedSince(s, p), test.changed)
	}
}

// beginAgain makes the newest entry of the ledger one that was begun and not ended.
func beginAgain(t *testing.T, a *app.App) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: filepath.Join(a.Home.Dir, "ledger.db")}).EscapedPath()+"?_pragma=busy_timeout(10000)")
	insist.OK(t, err)
	defer db.Close()
	_, err = db.Exec(`UPDATE entry SET state = 'begun' WHERE id = (SELECT max(id) FROM entry)`)
	insist.OK(t, err)
}
