package teach_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/teach"
	"initium/internal/core/text"
	"initium/internal/golden"
	"initium/internal/insist"
)

func TestFindRegistration(t *testing.T) {
	whole := map[string]string{}
	for name, test := range map[string]struct {
		file, doc, mod string
		shape          string
		mods           string
		has            string // a line of the table
	}{
		"words":                 {"kiln.list", "# fires\nfire glaze\nfire tide\n#fire off\nheat 9\n", "glaze", "line", "glaze tide off", `line = 'fire {mod}'`},
		"quoted words":          {"a.conf", "// x\nuse \"tide\"\nuse \"rock\"\n", "tide", "line", "tide rock", `quote = '"'`},
		"file endings":          {"a.conf", "-plug tide.so\n-plug rock.so\n", "tide", "line", "tide rock", `suffix = '.so'`},
		"options":               {"a.conf", "-plug tide,fast\n-plug rock\n", "tide", "line", "tide rock", `options = ','`},
		"yes and no":            {"w.conf", "seed = 12\nload_tide = true\nload_rock = false\n", "tide", "key", "tide rock", `key = 'load_{mod}'`},
		"a list":                {"s.properties", "port=1\nmods=tide;rock;sand\n", "rock", "list", "tide rock sand", `separator = ';'`},
		"a list in INI":         {"s.ini", "[net]\nport = 1\n[game]\nmods = tide, rock\n", "tide", "list", "tide rock", `at = 'game/mods'`},
		"repeated":              {"s.ini", "[game]\nmod = tide\nmod = rock\nname = x\n", "tide", "repeat", "tide rock", `at = 'game/mod'`},
		"a section":             {"s.ini", "[mods]\ntide\nrock\n[net]\nport=1\n", "tide", "section", "tide rock", `at = 'mods'`},
		"JSON":                  {"s.json", `{"game": {"on": ["tide", "rock"]}}`, "rock", "items", "tide rock", `at = 'game.on'`},
		"JSON objects":          {"s.json", `{"on": [{"id": "tide", "x": 1}, {"id": "rock"}]}`, "rock", "items", "tide rock", `name_key = 'id'`},
		"JSON switches":         {"s.json", `{"on": {"tide": true, "rock": false}}`, "tide", "key", "tide rock", `at = 'on'`},
		"YAML":                  {"s.yaml", "server:\n  mods:\n    - tide\n    - rock\n", "tide", "items", "tide rock", `at = 'server.mods'`},
		"TOML":                  {"s.toml", "[a]\nmods = [\"tide\", \"rock\"]\n", "tide", "items", "tide rock", `at = 'a.mods'`},
		"a launch line":         {"start.sh", "#!/bin/sh\nexec ./server -port 1 -mods=tide:rock\n", "tide", "list", "tide rock", `at = '-mods={list}'`},
		"launch words":          {"start.sh", "#!/bin/sh\n./server --with tide --with rock\n", "rock", "words", "tide rock", `at = '--with {mod}'`},
		"marks":                 {"start.sh", "#!/bin/sh\nexec ./server \"-mod=@tide;@rock\" -servermod=@sand\n", "tide", "list", "tide rock", `mark = '@'`},
		"names alone":           {"order.txt", "tide\r\nrock\r\n", "tide", "line", "tide rock", `line = '{mod}'`},
		"options of others":     {"opts", "-load plug/tide.so\n-load plug/rock.so,fast\n", "tide", "line", "tide rock", `options = ','`},
		"paths":                 {"opts", "-load plug/tide.so\n-load plug/rock.so,fast\n", "rock", "line", "tide rock", `paths = true`},
		"XML":                   {"s.xml", "<c>\n  <mods>\n    <mod dir='tide' on='1'/>\n    <mod dir='rock' on='1'/>\n  </mods>\n</c>\n", "rock", "items", "tide rock", `name_key = '@dir'`},
		"XML texts":             {"s.xml", "<c><mods><mod>tide</mod><mod>rock</mod></mods></c>", "rock", "items", "tide rock", `item = '<mod>{mod}</mod>'`},
		"like the rest":         {"s.json", `{"on": [{"id": "tide", "on": true, "n": 1}, {"id": "rock", "on": true, "n": 2}, {"id": "sand", "on": false, "n": 3}]}`, "rock", "items", "tide rock sand", `item = '{"id": {mod}, "on": true}'`},
		"numbers apart":         {"w.ini", "[g]\nids=1112223;2223334\nnames=tide;rock;kelp\nports=1;2\n", "tide", "parallel", "tide rock kelp", `apart = true`},
		"side by side":          {"w.ini", "[g]\nids=111;222\nnames=tide;rock\nport=1\n", "tide", "parallel", "tide rock", `numbers = 'g/ids'`},
		"among settings":        {"w.conf", "tide = yes\nport = 3\nrock = no\n", "tide", "key", "tide rock", `off = 'no'`},
		"a path in a list":      {"w.ini", "mods=./m/tide.zip,./m/rock.zip\n", "rock", "list", "tide rock", `suffix = '.zip'`},
		"a unit":                {"x.service", "[Unit]\nDescription=x\n[Service]\nExecStart=/srv/run -p 1 --mods tide:rock\n", "tide", "list", "tide rock", `format = 'unit'`},
		"words of a unit":       {"x.service", "[Service]\nExecStart=/srv/run --with tide --with rock\n", "tide", "words", "tide rock", `at = '--with {mod}'`},
		"gaps in numbers":       {"w.ini", "[g]\nids=111;;333\nnames=tide;rock;sand\n", "tide", "list", "tide rock sand", `at = 'g/names'`},
		"lines and blocks":      {"s.conf", "Load tide\n<Load rock>\n  X 1\n</Load>\nPort 1\n", "tide", "statement", "tide rock", `statements = ['Load {mod}', "<Load {mod}>\n</Load>"]`},
		"two keywords":          {"s.conf", "use tide;\ninclude rock;\nport 1;\n", "rock", "statement", "tide rock", `statements = ['include {mod};', 'use {mod};']`},
		"a semicolon":           {"s.conf", "port 1;\nload_module mods/tide.so;\nload_module \"mods/rock.so\"; # wet\n", "tide", "statement", "tide rock", `statements = ['load_module {mod};']`},
		"arguments":             {"s.conf", "loadmod /lib/tide.so 1 2\nloadmod /lib/rock.so\nport 1\n", "rock", "statement", "tide rock", `statements = ['loadmod {mod} {any}']`},
		"a call":                {"s.lua", "-- mods\nuse(\"tide\")\nuse('rock')\nset('port', 1)\n", "tide", "statement", "tide rock", `statements = ['use({mod})']`},
		"a table":               {"s.lua", "on = {\n  -- all ( of them\n\n  \"tide\"; -- wet\n  \"rock\";\n}\noff = { \"sand\" }\n", "tide", "statement", "tide rock", `statements = ['{mod};']`},
		"files in a row":        {"s.lua", "on = { \"tide.so\", \"rock.so\" }\n", "rock", "items", "tide rock", `suffix = '.so'`},
		"parts of words":        {"s.conf", "use Xtide;\nuse tideÜ;\nuse tide;\nuse rock;\n", "tide", "statement", "Xtide tideÜ tide rock", `statements = ['use {mod};']`},
		"a table in a row":      {"s.lua", "on = { \"tide\", \"rock\" }\noff = { \"sand\" }\n", "rock", "items", "tide rock", `format = 'text'`},
		"a list in brackets":    {"s.conf", "mods (\n  tide, // one\n  rock\n)\nport 1\n", "rock", "items", "tide rock", `comment = '//'`},
		"blocks":                {"s.conf", "mod tide {\n  x = 1\n}\nmod rock {\n}\nport 1\n", "tide", "statement", "tide rock", `shape = 'statement'`},
		"tags":                  {"s.conf", "<Load tide>\n  X 1\n</Load>\n<Load \"rock\">\n</Load>\nPort 1\n", "rock", "statement", "tide rock", `shape = 'statement'`},
		"keys of a table":       {"o.lua", "return {\n  [\"tide\"] = { on = true },\n  [\"rock\"] = { on = true },\n}\n", "tide", "statement", "tide rock", `shape = 'statement'`},
		"a name in capitals":    {"s.conf", "set TIDE_ON = lib(tide);\nset ROCK_ON = lib(rock);\nset x = 1;\n", "tide", "statement", "tide rock", `statements = ['set {MOD}_ON = lib({mod});']`},
		"a name with a capital": {"s.conf", "load tide.so as Tide;\nload rock.so as Rock;\n", "tide", "statement", "tide rock", `statements = ['load {mod} as {Mod};']`},
		"the name twice":        {"s.conf", "set tide = lib(tide);\nset rock = lib(rock);\nset x = 1;\n", "tide", "statement", "tide rock", `statements = ['set {mod} = lib({mod});']`},
		"a batch script":        {"start.bat", "@echo off\r\nserver.exe -mods=tide;rock\r\n", "tide", "list", "tide rock", `format = 'batch'`},
	} {
		r, err := teach.FindRegistration(test.file, []byte(test.doc), test.mod, func(s string) bool { return s == "tide" || s == "rock" })
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		whole[name] = r.Text
		if got := strings.Join(r.Mods, " "); string(r.Shape) != test.shape || got != test.mods || !strings.Contains(r.Text, strings.ReplaceAll(test.has, "\n", `\n`)+"\n") {
			t.Errorf("%s: %s finds %q, want %s that finds %q with %s\n%s", name, r.Shape, got, test.shape, test.mods, test.has, r.Text)
		}
	}
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(whole)) {
		fmt.Fprintf(&b, "== %s\n%s\n", name, whole[name])
	}
	golden.Check(t, "registrations.txt", b.String())
	insist.Fails(t, "without the mod", insist.Err(teach.FindRegistration("a.conf", []byte("nothing here\n"), "tide", nil)), "tide stands in a.conf in no way")
}

// The word that is proposed is the one that names a mod, not one of the comment behind it.
func TestNamed(t *testing.T) {
	for line, want := range map[string]string{
		"use tide": "tide", "  \"tide\"; -- the best one": "tide", "load \"lib/tide.so\" fast": "tide.so", "use tide -- wet": "tide", "-- nothing": "nothing", "": "", "load 'x' 'y'": "x", "a = 1": "a",
	} {
		insist.Same(t, line, teach.Named([]string{"-- a", line, "-- b"}, 1), want)
	}
}

// TestDialectFromExamples makes a dialect that works out of a startup file and a log.
func TestDialectFromExamples(t *testing.T) {
	reg, err := teach.FindRegistration("kiln.list", []byte("fire glaze\nfire tide\n"), "glaze", nil)
	insist.OK(t, err)
	outline := teach.Outline{Name: "kiln", Title: "Kiln", Recognise: []string{"kiln.list"}, Place: "recipes", Registration: reg}
	doc, err := outline.Write()
	insist.OK(t, err)
	log := strings.Split("10:00:01 I glaze fired in 0.8 s\n10:00:02 I tide fired in 1 s\n10:00:03 E rock fired in anger\n10:00:04 I kiln is hot", "\n")
	if doc, err = teach.AddPrefix(doc, teach.FindPrefix(log)); err != nil {
		t.Fatal(err)
	}
	for _, l := range []teach.Lesson{
		{Means: "ready", Examples: []teach.Example{{Line: log[3]}}},
		{Means: "ignore", Examples: []teach.Example{{Line: log[2], Mod: "rock"}}},
		{Means: "loaded", Examples: []teach.Example{{Line: log[0], Mod: "glaze"}}, Counter: log[2:3]},
	} {
		d, _ := dialect.Draft("kiln.toml", doc)
		rule, err := teach.Propose(d.Log.PrefixPattern(), l)
		insist.OK(t, err)
		if doc, err = teach.AddRule(doc, d, rule, l.Examples); err != nil {
			t.Fatal(err)
		}
	}
	d, err := dialect.Parse("kiln.toml", doc)
	insist.Need(t, err == nil, "%v\n%s", err, doc)
	insist.That(t, d.Log.Prefix == "{time} {level} " && len(d.Log.Rules) == 3 && d.Log.Rules[2].Line == "{mod} fired in {s} s", "the dialect is\n%s", doc)
	// A rule that would never count is put before the one that takes its lines.
	l := teach.Lesson{Means: "failed", Examples: []teach.Example{{Line: log[2], Mod: "rock"}}}
	rule, err := teach.Propose(d.Log.PrefixPattern(), l)
	insist.OK(t, err)
	doc, err = teach.AddRule(doc, d, rule, l.Examples)
	insist.OK(t, err)
	if d, err = dialect.Parse("kiln.toml", doc); err != nil || d.Log.Rules[1].Means != "failed" {
		t.Errorf("%v\n%s", err, doc)
	}
}

// FuzzFindRegistration: whatever the file, what is found finds the mod in it.
func FuzzFindRegistration(f *testing.F) {
	f.Add("a.conf", "use tide\n", "tide")
	f.Add("a.ini", "[x]\nmods=tide,rock\n", "tide")
	f.Add("a.json", `{"a":["tide"]}`, "tide")
	f.Add("a.sh", "x -m=tide\n", "tide")
	f.Fuzz(func(t *testing.T, file, doc, mod string) {
		if strings.Contains(file, "..") || strings.HasPrefix(file, "/") || text.Clean(mod) != mod || len(doc) > 1<<12 {
			return
		}
		r, err := teach.FindRegistration(file, []byte(doc), mod, nil)
		if err == nil && (len(r.Mods) == 0 || r.Text == "") {
			t.Fatalf("%+v", r)
		}
	})
}

// What else a text says beside its registrations.
func TestBesidesRegistrations(t *testing.T) {
	for name, test := range map[string]struct{ doc, holds, lacks string }{
		"sections":            {"# ~~ base ~~\nuse tide\n# ~~ more ~~\nuse rock\n", "section = '# ~~ {title} ~~'", "setting"},
		"two kinds of titles": {"# ~~ base ~~\nuse tide\n# == more ==\nuse rock\n", "line = 'use {mod}'", "section"},
		"unlike signs":        {"# ~~ base ==\nuse tide\nuse rock\n", "line = 'use {mod}'", "section"},
		"of two, the first":   {"let a 1\nlet b 2\nfor c 1\nfor d 2\nuse tide\nuse rock\n", "setting = 'for {name} {value}'", "let"},
		"of two, the more":    {"let a 1\nlet b 2\nlet e 2\nfor c 1\nfor d 2\nuse tide\nuse rock\n", "setting = 'let {name} {value}'", "'for"},
		"settings":            {"let a 1\nlet b 2\nuse tide\nuse rock\n", "setting = 'let {name} {value}'", "quote"},
		"in quotes":           {"let a 'x y'\nlet b 2\nuse tide\nuse rock\n", `quote = "'"`, "section"},
		"one alone":           {"let a 1\nuse tide\nuse rock\n", "line = 'use {mod}'", "setting"},
		"the same name twice": {"give a 1\ngive a 2\nuse tide\nuse rock\n", "line = 'use {mod}'", "setting"},
		"assigned":            {"a = 1;\nb = 2;\nload \"tide\";\nload \"rock\";\n", "setting = '{name} = {value};'", "section"},
		"with blanks":         {"port 1;\nslots 2;\nload \"tide\";\nload \"rock\";\n", "setting = '{name} {value};'", "section"},
	} {
		r, err := teach.FindRegistration("s.conf", []byte(test.doc), "tide", func(n string) bool { return n == "tide" || n == "rock" })
		insist.Need(t, err == nil && strings.Join(r.Mods, " ") == "tide rock", "%s: %v, %v", name, r.Mods, err)
		insist.Holds(t, name, r.Text, test.holds)
		insist.Lacks(t, name, r.Text, test.lacks)
	}
}
