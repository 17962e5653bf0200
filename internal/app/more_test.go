package app_test

import (
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/rule"
	"initium/internal/core/teach"
	"initium/internal/insist"
)

// The unit that systemd is given, to the word.
func TestUnitInFull(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "", "kiln": "#!/bin/sh\n"})
	a.Exe = `/opt/a "b" $c/100%`
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k", Set: map[string]string{"level": "9"}})))
	got, err := a.Unit("k")
	me, meErr := user.Current()
	if err != nil || meErr != nil {
		t.Fatal(err, meErr)
	}
	want := `[Unit]
Description=k (kiln), kept by Initium
After=network-online.target
Wants=network-online.target
StartLimitIntervalSec=10min
StartLimitBurst=5

[Service]
Type=exec
User=` + me.Username + `
WorkingDirectory=` + doubled(dir) + `
Environment="INITIUM_HOME=` + doubled(a.Home.Dir) + `"
Environment="PATH=` + doubled(os.Getenv("PATH")) + `"
ExecStart="/opt/a \"b\" $$c/100%%" keep "k"
# The keeper asks the server to stop, waits and then insists; only after that does systemd.
KillMode=mixed
TimeoutStopSec=30
Restart=on-failure
RestartSec=5

[Install]
WantedBy=multi-user.target
`
	insist.That(t, string(got) == want, "the unit is\n%s", got)
}

// doubled is a path as a unit writes it.
func doubled(path string) string { return strings.ReplaceAll(path, "%", "%%") }

// What would become a line of its own in a unit is refused; a dollar sign means nothing in an
// environment.
func TestUnitsOfOddFolders(t *testing.T) {
	for name, want := range map[string]string{"a b[?#%é": "", "a$b": "", "a\nExecStartPre=/bin/evil": "has a control character", "a\x1bb": "has a control character", `a\`: "ends in a backslash"} {
		a, dir := world(t, nil)
		odd := filepath.Join(dir, name)
		put(t, filepath.Join(odd, "kiln.list"), "")
		put(t, filepath.Join(odd, "kiln"), "#!/bin/sh\n")
		a.Home.Dir = filepath.Join(filepath.Dir(dir), "home$x")
		put(t, filepath.Join(a.Home.DialectDir(), "kiln.toml"), kiln)
		insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: odd, As: "k", Set: map[string]string{"level": "9"}})))
		unit, err := a.Unit("k")
		if want != "" {
			insist.That(t, err != nil && strings.Contains(err.Error(), want) && !strings.ContainsAny(err.Error(), "\n\x1b"), "%q: %v\n%s", name, err, unit)
			continue
		}
		if err != nil || !strings.Contains(string(unit), "\nWorkingDirectory="+doubled(odd)+"\n") || !strings.Contains(string(unit), "INITIUM_HOME="+doubled(a.Home.Dir)+"\"\n") {
			t.Errorf("%q: %v\n%s", name, err, unit)
		}
	}
}

// In a home and a folder that are called as patterns and addresses are written, everything is
// where it belongs, and the world is found and backed up, also where a link leads to it.
func TestOddNamesOfFolders(t *testing.T) {
	base := t.TempDir()
	for _, odd := range []string{"a b[?#%é", "we[ir]d", "h%41", "x*y", `b\s`} {
		a, _ := world(t, nil)
		a.Home.Dir = filepath.Join(base, odd, "home")
		dir := filepath.Join(base, odd, "server")
		put(t, filepath.Join(a.Home.DialectDir(), "kiln.toml"), kiln+"[world]\npaths = [\"{dir}/world*\"]\n")
		put(t, filepath.Join(dir, "kiln.list"), "fire a\n")
		put(t, filepath.Join(dir, "kiln"), "#!/bin/sh\n")
		put(t, filepath.Join(dir, "mods", "a", "x"), "")
		put(t, filepath.Join(base, odd, "disk", "map"), "the map")
		insist.OK(t, os.Symlink(filepath.Join(base, odd, "disk"), filepath.Join(dir, "world")))
		insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"})))
		if _, err := a.Change(t.Context(), "k", nil, lineup.Change{Op: lineup.OpOff, Mod: "a"}); err != nil {
			t.Errorf("%s: %v", odd, err)
		}
		for number := 1; number <= 2; number++ {
			if b, err := a.Backup(t.Context(), "k", "", nil); err != nil || b.Files != 1 || b.Number != number {
				t.Errorf("%s: backup %+v, %v", odd, b, err)
			}
		}
		put(t, filepath.Join(base, odd, "disk", "map"), "another")
		list, err := a.Backups("k")
		insist.OK(t, err)
		if _, err := a.Change(t.Context(), "k", nil, lineup.Change{Op: lineup.OpRestore, Source: list[0].File}); err != nil {
			t.Errorf("%s: restore: %v", odd, err)
		}
		if data, err := os.ReadFile(filepath.Join(base, odd, "disk", "map")); err != nil || string(data) != "the map" {
			t.Errorf("%s: the world is %q, %v", odd, data, err)
		}
		if info, err := os.Lstat(filepath.Join(dir, "world")); err != nil || info.Mode()&os.ModeSymlink == 0 {
			t.Errorf("%s: the link is %v, %v", odd, info, err)
		}
		if info, err := os.Stat(filepath.Join(a.Home.Dir, "ledger.db")); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: the ledger is %v, %v", odd, info, err)
		}
		insist.OK(t, os.Remove(filepath.Join(base, odd, "disk", "map")))
		if b, err := a.Backup(t.Context(), "k", "", nil); err != nil || b.Files != 0 {
			t.Errorf("%s: of an empty folder: %+v, %v", odd, b, err)
		}
		insist.OK(t, os.Remove(filepath.Join(base, odd, "disk")))
		insist.Fails(t, fmt.Sprintf("%s: of a link that leads nowhere", odd), insist.Err(a.Backup(t.Context(), "k", "", nil)), "find the world")
		insist.OK(t, a.Close())
	}
}

// Ports that several servers have, that another program has, and that are none.
func TestPortsOfServers(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	insist.OK(t, err)
	defer listener.Close()
	busy := listener.Addr().(*net.TCPAddr).Port
	const free = 21_987 // nobody is given such a one by chance
	a, dir := world(t, nil)
	for name, port := range map[string]string{"one": fmt.Sprint(free), "two": fmt.Sprint(free), "busy": fmt.Sprint(busy), "none": "0", "high": "65536", "word": "x", "alone": "1"} {
		put(t, filepath.Join(dir, name, "kiln.list"), "set port "+port+"\n")
		put(t, filepath.Join(dir, name, "kiln"), "#!/bin/sh\n")
		insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: filepath.Join(dir, name), As: name})))
	}
	for name, want := range map[string]string{
		"one": "port-shared", "two": "port-shared", "busy": "port-busy", "none": "", "high": "", "word": "", "alone": "",
	} {
		look, err := a.Look(name)
		insist.OK(t, err)
		got := ""
		for _, f := range look.Findings {
			if strings.HasPrefix(string(f.Code), "port") {
				got = string(f.Code)
				if other := map[string]string{"one": "two", "two": "one"}[name]; !strings.Contains(f.Message, other) {
					t.Errorf("%s: %s", name, f.Message)
				}
				insist.That(t, strings.Contains(f.Message+f.Remedy, "is free"), "%s: no port that is free is told: %s; %s", name, f.Message, f.Remedy)
				if strings.Contains(f.Remedy+fmt.Sprint(f.Changes), fmt.Sprint(free)) || strings.Contains(f.Remedy+fmt.Sprint(f.Changes), fmt.Sprint(busy)) {
					t.Errorf("%s: a port that is taken is proposed: %s %v", name, f.Remedy, f.Changes)
				}
			}
		}
		insist.Same(t, name, got, want)
	}
	// A port that was given since is the one that counts, on both sides.
	insist.OK(t, insist.Err(a.Give(t.Context(), "two", map[string]string{"port": "1"})))
	for name, want := range map[string]string{"one": "", "alone": "port-shared"} {
		look, err := a.Look(name)
		insist.OK(t, err)
		got := ""
		for _, f := range look.Findings {
			if strings.HasPrefix(string(f.Code), "port") {
				got = string(f.Code)
			}
		}
		insist.Same(t, fmt.Sprintf("after another was given, %s", name), got, want)
	}
}

// A dialect is begun from a folder whose mods are files, folders or folders of folders, and
// what is taught of it is written where the dialect is, whatever its file is called.
func TestBeginsOfDialects(t *testing.T) {
	a, dir := world(t, nil)
	for name, test := range map[string]struct {
		files map[string]string
		place string
		lines string // of the file that is written
	}{
		"files":   {map[string]string{"list.conf": "fire tide\nfire rock\n", "lib/tide.so": "", "lib/rock.so": "", "doc/tide.txt": ""}, "lib", `file = '{mod}.so'`},
		"folders": {map[string]string{"list.conf": "fire tide\nfire rock\n", "deep/mods/tide/x": "", "deep/mods/rock/x": "", "tide": ""}, "deep/mods", ``},
		"parts":   {map[string]string{"list.conf": "fire tide\nfire rock\n", "lib/mod_tide.lua": "", "lib/mod_rock.lua": "", "lib/mod_sand.lua": "", "doc/a-tide.txt": "", "lib/tides.lua": ""}, "lib", `file = 'mod_{mod}.lua'`},
		"nothing": {map[string]string{"list.conf": "fire tide\nfire rock\n"}, "", ``},
	} {
		for file, data := range test.files {
			put(t, filepath.Join(dir, name, file), data)
		}
		o, err := a.TeachServer(app.TeachStart{Name: "d-" + name, Dir: filepath.Join(dir, name), Startup: "list.conf", Command: "./run -x"}, "tide")
		insist.OK(t, err)
		insist.That(t, o.Place == test.place && slices.Equal(o.Mods, []string{"tide", "rock"}) && o.Shape == dialect.ShapeLine, "%s: %+v", name, o)
		insist.OK(t, o.Write())
		data, err := os.ReadFile(o.File)
		insist.That(t, err == nil && strings.Contains(string(data), test.lines) && strings.Contains(string(data), "{mod}.so") == (name == "files"), "%s: %v\n%s", name, err, data)
		insist.Fails(t, fmt.Sprintf("%s, again", name), insist.Err(a.TeachServer(app.TeachStart{Name: "d-" + name, Dir: filepath.Join(dir, name), Startup: "list.conf"}, "tide")), "there is a dialect")
	}
	// what else the files show
	put(t, filepath.Join(dir, "more", "start.cfg"), "# the server\nset title \"Mine\"\nset port 2020\n\n# == the base ==\nuse tide\nuse rock\n# == more ==\nuse +deep\n")
	for _, name := range []string{"tide", "rock", "+deep/cave"} {
		put(t, filepath.Join(dir, "more", "mods", name, "mod.toml"), "name = \""+filepath.Base(name)+"\"\nneeds = []\n")
		put(t, filepath.Join(dir, "more", "mods", name, "readme.txt"), "x")
	}
	put(t, filepath.Join(dir, "more", "mods", "notes", "readme.txt"), "x")
	more, err := a.TeachServer(app.TeachStart{Name: "d-more", Dir: filepath.Join(dir, "more"), Startup: "start.cfg"}, "tide")
	insist.OK(t, err)
	insist.OK(t, more.Write())
	said, err := os.ReadFile(more.File)
	insist.OK(t, err)
	insist.Holds(t, "the dialect", string(said), "group = '+'", "mark = ['mod.toml']", "section = '# == {title} =='", "setting = 'set {name} {value}'", "quote = '\"'", "file = 'mod.toml'", "name = 'name'")
	// over one that is there: what it says of the log is kept, and the file as it was
	drafted := filepath.Join(a.Home.DialectDir(), "d-files.toml")
	before, err := os.ReadFile(drafted)
	insist.OK(t, err)
	before = append(before, "\n[log]\nprefix = '{time} {level} '\n\n[[log.rule]]\nmeans = 'loaded'\nlevel = 'I'\nline = '{mod} is fired'\n"...)
	insist.OK(t, os.WriteFile(drafted, before, 0o600))
	put(t, filepath.Join(dir, "files", "list.conf"), "light tide\nlight rock\n")
	o, err := a.TeachServer(app.TeachStart{Name: "d-files", Dir: filepath.Join(dir, "files"), Startup: "list.conf", Command: "./run -x", Anew: true}, "tide")
	insist.OK(t, err)
	insist.OK(t, o.Write())
	now, err := os.ReadFile(drafted)
	insist.OK(t, err)
	insist.Holds(t, "the dialect", string(now), "light {mod}", "prefix = '{time} {level} '", "line = '{mod} is fired'", "level = 'I'")
	insist.Lacks(t, "the dialect", string(now), "fire {mod}")
	kept, err := os.ReadFile(drafted + ".before")
	insist.OK(t, err)
	insist.Same(t, "the one before", string(kept), string(before))
	log := filepath.Join(dir, "log.txt")
	put(t, log, "10:00:01 I tide is fired\n10:00:02 I rock is fired\n10:00:03 I hot\n")
	own := filepath.Join(a.Home.DialectDir(), "another.toml")
	put(t, own, strings.NewReplacer(`name = "kiln"`, `name = "hearth"`).Replace(kiln))
	l, err := a.Teach("hearth", log, "", nil)
	insist.OK(t, err)
	if l.Prefix() != "" { // it has rules, and so has said what its lines begin with
		t.Errorf("the beginning is %q", l.Prefix())
	}
	taught, err := l.Propose(teach.Lesson{Means: dialect.MeansLoaded, Examples: []teach.Example{{Line: "10:00:01 I tide is fired", Mod: "tide"}}})
	insist.Need(t, err == nil && len(taught.Matches) == 2, "%+v, %v", taught, err)
	file, _, err := l.Write(taught, teach.Lesson{Means: dialect.MeansLoaded, Examples: []teach.Example{{Line: "10:00:01 I tide is fired", Mod: "tide"}}})
	if data, readErr := os.ReadFile(own); err != nil || file != own || readErr != nil || !strings.Contains(string(data), "is fired") {
		t.Errorf("written to %s, %v, %v", file, err, readErr)
	}
	// Of a server its folder is known, and so which log is its own.
	put(t, filepath.Join(dir, "s", "kiln.list"), "fire tide\n")
	put(t, filepath.Join(dir, "s", "mods", "tide", "x"), "")
	put(t, filepath.Join(dir, "s", "logs", "now.log"), "10:00:01 I tide is fired\n")
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: filepath.Join(dir, "s"), As: "s", Dialect: "hearth", Set: map[string]string{"program": "/bin/sh", "level": "1"}})))
	if l, err = a.Teach("hearth", filepath.Join(dir, "s", "logs", "now.log"), "s", nil); err != nil || !slices.Equal(l.Known, []string{"tide"}) {
		t.Fatalf("known are %v, %v", l.Known, err)
	}
	if file, err := l.Own(); err != nil || file != "{dir}/logs/now.log" {
		t.Errorf("its own log is %q, %v", file, err)
	}
	if l, err = a.Teach("hearth", log, "s", nil); err != nil {
		t.Fatal(err)
	}
	insist.Fails(t, "a log of another folder", insist.Err(l.Own()), "is not below the folder")
}

// Rules that a change brings along are written down once, and others of the same mods beside
// them.
func TestRulesOfAServer(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "fire a\nfire b\n", "mods/a/x": "", "mods/b/x": ""})
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"})))
	for _, kind := range []rule.Kind{rule.Before, rule.Needs} {
		insist.OK(t, a.PutRule("k", rule.Rule{Kind: kind, Mod: "a", Other: "b", Because: "of it"}))
	}
	rules, err := a.Rules("k")
	insist.That(t, err == nil && len(rules) == 2 && rules[0].Kind != rules[1].Kind, "%+v, %v", rules, err)
	insist.OK(t, a.DropRule("k", rules[0].Number))
	if rules, err = a.Rules("k"); err != nil || len(rules) != 1 {
		t.Errorf("%+v, %v", rules, err)
	}
	if err := a.DropRule("k", 99); err == nil {
		t.Error("a rule that is not there is taken back")
	}
}

// What a clean server has of its own is written down without its mods, and what has become of
// it is told.
func TestCleanServer(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "fire a\n", "kiln": "#!/bin/sh\n", "mods/a/x": "1", "share/mods/b/x": "1", "data/one": "1", "data/two": "2"})
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"})))
	if files, err := a.TakeBaseline("k"); err != nil || files != 4 { // the list, the program and the data
		t.Errorf("%d files, %v", files, err)
	}
	for name, data := range map[string]string{"mods/a/x": "2", "share/mods/b/x": "2", "data/one": "other", "data/new": "x"} {
		put(t, filepath.Join(dir, name), data)
	}
	insist.OK(t, os.Remove(filepath.Join(dir, "data/two")))
	files, changed, err := a.BaselineChanges("k")
	slices.Sort(changed)
	insist.That(t, err == nil && files == 4 && slices.Equal(changed, []string{filepath.Join(dir, "data/one"), filepath.Join(dir, "data/two")}), "%d files, of which %q have changed, %v", files, changed, err)
}
