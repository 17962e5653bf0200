package lineup_test

import (
	_ "embed"
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/insist"
)

//go:embed testdata/twoLists.toml
var twoLists string

// registrations are one of each shape and format, with a document that lists a,
// b and c.
var registrations = map[string]struct{ toml, doc string }{
	"list in key-value": {"format = 'key-value'\nshape = 'list'\nat = 'mods'\nseparator = ','", "# x\r\nmods = a, b, c\r\nz = 1\r\n"},
	"list in ini":       {"format = 'ini'\nshape = 'list'\nat = 's/mods'\nseparator = ';'\nlast = 'wanted'", "[r]\nmods=q\n[s]\nmods=\"a;b;c;\"\n"},
	"list in env":       {"format = 'env'\nshape = 'list'\nat = 'MODS'\nseparator = ':'", "# m\nexport MODS='a:b:c'\nX=1"},
	"list in json":      {"format = 'json'\nshape = 'list'\nat = 'x.mods'\nseparator = ' '", "{\"x\": {\"mods\": \"a b c\"}} // m"},
	"list in yaml":      {"format = 'yaml'\nshape = 'list'\nat = 'x.mods'\nseparator = ','", "x:\n  mods: a,b,c # m\n"},
	"list in toml":      {"format = 'toml'\nshape = 'list'\nat = 'x.mods'\nseparator = ','", "[x]\nmods = 'a,b,c' # m\n"},
	"list in xml":       {"format = 'xml'\nshape = 'list'\nat = 'x.mods.@list'\nseparator = ','", "<x>\n <mods list='a,b,c'/>\n</x>\n"},
	"list in shell":     {"format = 'shell'\nshape = 'list'\nat = '-mods={list}'\nseparator = ';'\nmark = '@'", "#!/bin/sh\nexec ./run \\\n  '-mods=@a;@b;@c' \\\n  -p 1 # go\n"},
	"list in variable":  {"format = 'shell'\nshape = 'list'\nat = '-mods {list}'\nseparator = ';'", "MODS=\"a;b;c\"\n./run -mods \"$MODS\" -p 1\n"},
	"list in batch":     {"format = 'batch'\nshape = 'list'\nat = '-mods={list}'\nseparator = ';'", "@echo off\r\nrem -mods=q\r\nrun.exe ^\r\n  \"-mods=a;b;c\" -p 1\r\n"},
	"list in unit":      {"format = 'unit'\nshape = 'list'\nat = '--mods={list}'\nseparator = ','", "[Service]\nExecStart=/run \\\n  --mods=a,b,c \\\n  -p 1\n[Install]\nX=1\n"},
	"list in words":     {"format = 'words'\nshape = 'list'\nat = '-mods={list}'\nseparator = ';'\nlast = 'wanted'", "-p 1 \"-mods=a;b;c;\" -q"},
	"items in json":     {"format = 'json'\nshape = 'items'\nat = 'mods'", "{\n  // m\n  \"mods\": [\n    \"a\",\n    \"b\", // keep\n    \"c\"\n  ]\n}\n"},
	"objects in json":   {"format = 'json'\nshape = 'items'\nat = 'mods'\nname_key = 'id'\nitem = '{\"id\": {mod}, \"on\": true}'", "{\"mods\": [{\"id\": \"a\", \"x\": 1}, {\"id\": \"b\", \"on\": false}, {\"x\": 2, \"id\": \"c\"}]}"},
	"items in yaml":     {"format = 'yaml'\nshape = 'items'\nat = 'x.mods'", "x:\r\n  mods:\r\n    - a\r\n    - 'b' # keep\r\n    - c\r\ny: 1\r\n"},
	"items in toml":     {"format = 'toml'\nshape = 'items'\nat = 'x.mods'", "[x]\nmods = [\n  'a',\n  'b',\n  'c',\n]\n"},
	"items in xml":      {"format = 'xml'\nshape = 'items'\nat = 'x.mod'\nname_key = '@id'\nitem = '<mod id=\"{mod}\"/>'", "<x>\n  <mod id=\"a\"/>\n  <mod id='b' q='1'/>\n  <mod id=\"c\"/>\n</x>\n"},
	"words in unit":     {"format = 'unit'\nshape = 'words'\nat = '-load {mod}'", "[Service]\nExecStart=/run -p 1 -load a -load b -load c -x\n"},
	"words with paths":  {"format = 'shell'\nshape = 'words'\nat = '-load={mod}'\npaths = true\nsuffix = '.so'\noptions = ','", "./run -load=/lib/a.so -load=b,opt=1 -load='c'\n"},
	"compose text":      {"format = 'compose'\nwithin = 'services.game.command'\nshape = 'list'\nat = '-mods={list}'\nseparator = ';'", "services:\n  game:\n    image: x # y\n    command: run -mods=a;b;c -p 1\n  other:\n    command: run -mods=z\n"},
	"compose quoted":    {"format = 'compose'\nwithin = 'services.game.command'\nshape = 'list'\nat = '-mods {list}'\nseparator = ';'\nmark = '@'", "services:\n  game:\n    command: \"run -mods '@a;@b;@c' -p 1\"\n"},
	"environment list":  {"format = 'yaml'\nshape = 'list'\nat = 'services.game.environment.MODS'\nseparator = ';'", "services:\n  game:\n    environment:\n      - X=1\n      - \"MODS=a;b;c\"\n"},
	"environment map":   {"format = 'yaml'\nshape = 'list'\nat = 'services.game.environment.MODS'\nseparator = ';'", "services:\n  game:\n    environment:\n      X: 1\n      MODS: a;b;c # m\n"},
	"compose list":      {"format = 'compose'\nwithin = 'services.game.command'\nshape = 'list'\nat = '-mods={list}'\nseparator = ','", "services:\n  game:\n    command:\n      - run\n      - \"-mods=a,b,c\" # m\n      - -p\n      - 1\n"},
	"keys in json":      {"format = 'json'\nshape = 'key'\nat = 'mods'\nkey = '{mod}'\non = 'true'\noff = 'false'", "{\n  \"x\": 1,\n  \"mods\": {\n    \"a\": true,\n    \"b\": true, // keep\n    \"c\": true\n  }\n}\n"},
	"keys in yaml":      {"format = 'yaml'\nshape = 'key'\nat = 's.mods'\nkey = 'load-{mod}'\non = 'yes'\noff = 'no'", "s:\n  mods:\n    load-a: yes\n    load-b: yes # keep\n    other: 1\n    load-c: yes\n  z: 1\n"},
	"keys in toml":      {"format = 'toml'\nshape = 'key'\nat = 'mods'\nkey = '{mod}'\non = 'true'\noff = 'false'", "[mods]\na = true\nb = true # keep\nc = true\n[x]\ny = 1\n"},
	"keys in ini":       {"format = 'ini'\nshape = 'key'\nat = 'mods'\nkey = '{mod}'\non = '1'\noff = '0'", "[x]\nq=1\n[mods]\na=1\nb=1\nc=1\n[y]\n"},
	"repeated key":      {"format = 'ini'\nshape = 'repeat'\nat = 's/Mod'", "[s]\r\n Mod = a\r\nx=1\r\n Mod = b\r\n Mod = c\r\n[t]\r\nMod=q\r\n"},
	"statements":        {"shape = 'statement'\ncomment = '#'\nstatements = ['load \"{mod}\";']\nsetting = '{name} {value};'", "# x\nload \"a\";\n  load  \"b\"; # keep\nload \"c\";\nport 1;\n"},
	"blocks and lines":  {"shape = 'statement'\ncomment = '#'\nstatements = ['Load {mod}', \"<Load {mod}>\\n</Load>\"]", "Load a\r\n <Load \"b\">\r\n   x 1\r\n\r\n   # y\r\n </Load>\r\nLoad c\r\n"},
	"within a block":    {"shape = 'statement'\ncomment = '--'\nwithin = \"mods = {{\\n}}\"\nstatements = ['\"{mod}\";']", "mods ={\n\t\"a\"; -- one\n\n\t\"b\";\n\t\"c\";\n}\nother = { \"z\"; }\n"},
	"blocks in braces":  {"shape = 'statement'\ncomment = '//'\nskip = [\"#if 0\\n#endif\", \"/*{any}\\n{any}*/\"]\nstatements = [\"module {mod} {{\\n}}\"]", "#if 0\nmodule z {\n#endif\n/* module y {\n} */\nmodule a {\n  q = { 1 }; // }\n}\nmodule b {\n}\nmodule c { x \"}\" }\n"},
	"arguments":         {"shape = 'statement'\ncomment = '#'\npaths = true\nsuffix = '.so'\nstatements = ['plugin {mod} {any}', 'alias {mod} = {mod}']", "plugin /lib/a.so x y # z\nalias b = b\nplugin /lib/c.so\n"},
	"items in brackets": {"format = 'text'\nshape = 'items'\ncomment = '--'\nseparator = ';,'\nat = \"mods = {{\\n}}\"", "-- mods = {\nmods={ -- all\n\t\"a\";\n\t'b', -- \"z\";\n\t\"c\"; -- last\n}\nx = { \"q\" }\n"},
	"items in a row":    {"format = 'text'\nshape = 'items'\ncomment = '#'\nat = \"mods (\\n)\"", "x = (q)\nmods ( a, b,c ) # d\n"},
	"items by blanks":   {"format = 'text'\nshape = 'items'\ncomment = '#'\nseparator = ' '\nat = \"MODS=(\\n)\"", "X=1\nMODS=(a b\n  c) # d\n"},
	"a bare array":      {"format = 'json'\nshape = 'items'\nat = '.'", "[\n  \"a\",\n  \"b\",\n  \"c\"\n]\n"},
	"a bare yaml list":  {"format = 'yaml'\nshape = 'items'\nat = '.'", "# all\n- a\n- b\n- c\n"},
	"settings in yaml":  {"format = 'yaml'\nshape = 'key'\nat = 'mods'\nkey = 'mod_{mod}'\non = '{}'", "mods:\n  mod_a: {}\n  mod_b: # b\n    x: 1\n\n    # y: 2\n    z:\n      - 1\n  mod_c:\nother: 1\n"},
	"settings in json":  {"format = 'json'\nshape = 'key'\nat = 'mods'\nkey = '{mod}'\non = '{}'", "{\"mods\": {\n  \"a\": {\"x\": [1, 2]},\n  \"b\": {},\n  \"c\": 5\n}}\n"},
	"objects in yaml":   {"format = 'yaml'\nshape = 'items'\nat = 'mods'\nname_key = 'id'\nitem = 'id: {mod}'", "mods:\n- id: a\n  x: 1\n- x: 2 # y\n  id: \"b\"\n  z: {}\n- id: c\n"},
	"section":           {"format = 'ini'\nshape = 'section'\nat = 'mods'\nitem = '{mod} = 1'", "[x]\nq = 1\n[mods]\na = 1\nb = 2\nc = 1\n\n[y]\n"},
}

func listDialect(registration string) string {
	return "name = 'l'\n[[place]]\npath = '{dir}/mods'\n[[registration]]\nname = 'list'\nfile = '{dir}/start'\n" + registration +
		"\n[start]\ncommand = ['x']\n[[log.rule]]\nmeans = 'ready'\nline = 'up'\n"
}

func TestLists(t *testing.T) {
	for name, r := range registrations {
		d := parse(t, listDialect(r.toml))
		start := open(d, map[string]string{"/srv/start": r.doc})
		if got := sum(start); got != "a b c" {
			t.Errorf("%s: reads %q", name, got)
			continue
		}
		for _, e := range start.Entries {
			insist.Same(t, fmt.Sprintf("%s: the place of %s", name, e.Name), string(e.Span.In([]byte(r.doc))), e.Name)
		}
		for _, step := range []struct {
			change change
			want   string
		}{
			{change{Op: lineup.OpRegister, Mod: "new_one"}, "a b c new_one"},
			{change{Op: lineup.OpRegister, Mod: "n", Where: lineup.Where{Before: "a"}}, "n a b c"},
			{change{Op: lineup.OpRegister, Mod: "n", Where: lineup.Where{After: "a"}}, "a n b c"},
			{change{Op: lineup.OpUnregister, Mod: "a"}, "b c"},
			{change{Op: lineup.OpUnregister, Mod: "b"}, "a c"},
			{change{Op: lineup.OpUnregister, Mod: "c"}, "a b"},
			{change{Op: lineup.OpMove, Mod: "c", Where: lineup.Where{Before: "a"}}, "c a b"},
			{change{Op: lineup.OpMove, Mod: "a", Where: lineup.Where{After: "c"}}, "b c a"},
			{change{Op: lineup.OpMove, Mod: "b", Where: lineup.Where{Before: "b"}}, ""},
			{change{Op: lineup.OpRename, Mod: "b", To: "longer"}, "a longer c"},
			{change{Op: lineup.OpOff, Mod: "b"}, "a -b c"},
		} {
			if step.change.Where != (lineup.Where{}) && strings.Contains(r.toml, "'key'") {
				step.want = "" // keys have no order
			}
			after, err := start.Apply(step.change)
			if (err != nil) != (step.want == "") {
				t.Errorf("%s: %v: %v", name, step.change, err)
				continue
			}
			if err != nil {
				continue
			}
			if got := sum(after); got != step.want {
				t.Errorf("%s: %v gives %q, want %q:\n%s", name, step.change, got, step.want, after.Files[0].Bytes)
			}
			if again, err := start.Apply(step.change); err != nil || string(again.Files[0].Bytes) != string(after.Files[0].Bytes) {
				t.Errorf("%s: %v does not give the same twice", name, step.change)
			}
		}
		off, err := start.Apply(change{Op: lineup.OpOff, Mod: "b"})
		if err != nil {
			t.Errorf("%s: off: %v", name, err)
			continue
		}
		on, err := off.Apply(change{Op: lineup.OpOn, Mod: "b"})
		if err != nil || sum(on) != "a b c" || len(on.Parked) != 0 {
			t.Errorf("%s: off and on gives %q, %v", name, sum(on), err)
			continue
		}
		if !strings.Contains(name, "items in yaml") && name != "items in brackets" && name != "items in a row" && name != "items by blanks" && name != "a bare yaml list" && string(on.Files[0].Bytes) != r.doc && name != "items in json" && name != "list in key-value" {
			t.Errorf("%s: off and on gives\n%q, want\n%q", name, on.Files[0].Bytes, r.doc)
		}
	}
}

// TestOffInYAML: where an item has a line of its own, it keeps it.
func TestOffInYAML(t *testing.T) {
	d := parse(t, listDialect("format = 'yaml'\nshape = 'items'\nat = 'mods'"))
	l := open(d, map[string]string{"/srv/start": "# - top\n\nmods:\n  # - first\n  - a # why\n  # - \"b c\"\n  #  - prose\n  - d\n  # - last\nx: 1\n# - no\n"})
	if got := sum(l); got != "-first a -b c d -last" {
		t.Fatalf("it reads %q", got)
	}
	for _, step := range []struct {
		change change
		want   string
	}{
		{change{Op: lineup.OpOff, Mod: "a"}, "# - top\n\nmods:\n  # - first\n  # - a # why\n  # - \"b c\"\n  #  - prose\n  - d\n  # - last\nx: 1\n# - no\n"},
		{change{Op: lineup.OpOn, Mod: "a"}, "# - top\n\nmods:\n  # - first\n  - a # why\n  # - \"b c\"\n  #  - prose\n  - d\n  # - last\nx: 1\n# - no\n"},
		{change{Op: lineup.OpOn, Mod: "b c"}, "# - top\n\nmods:\n  # - first\n  - a # why\n  - \"b c\"\n  #  - prose\n  - d\n  # - last\nx: 1\n# - no\n"},
		{change{Op: lineup.OpRegister, Mod: "net"}, "# - top\n\nmods:\n  # - first\n  - a # why\n  - \"b c\"\n  #  - prose\n  - d\n  # - last\n  - net\nx: 1\n# - no\n"},
		{change{Op: lineup.OpUnregister, Mod: "first"}, "# - top\n\nmods:\n  - a # why\n  - \"b c\"\n  #  - prose\n  - d\n  # - last\n  - net\nx: 1\n# - no\n"},
		{change{Op: lineup.OpMove, Mod: "a", Where: lineup.Where{Before: "last"}}, "# - top\n\nmods:\n  - \"b c\"\n  #  - prose\n  - d\n  - a\n  # - last\n  - net\nx: 1\n# - no\n"},
	} {
		after, err := l.Apply(step.change)
		insist.Need(t, err == nil && string(after.Files[0].Bytes) == step.want, "%v gives\n%q, %v, want\n%q", step.change, after.Files[0].Bytes, err, step.want)
		l = after
	}
}

func TestParallelLists(t *testing.T) {
	d := parse(t, listDialect("format = 'ini'\nshape = 'parallel'\nat = 's/names'\nnumbers = 's/ids'\nseparator = ','"))
	l := open(d, map[string]string{"/srv/start": "[s]\nnames=a,b,c\nids=1,2,3\n"})
	steps := []struct {
		change change
		want   string
	}{
		{change{Op: lineup.OpRegister, Mod: "n", Number: "9", Where: lineup.Where{After: "a"}}, "[s]\nnames=a,n,b,c\nids=1,9,2,3\n"},
		{change{Op: lineup.OpMove, Mod: "c", Where: lineup.Where{Before: "a"}}, "[s]\nnames=c,a,n,b\nids=3,1,9,2\n"},
		{change{Op: lineup.OpOff, Mod: "n"}, "[s]\nnames=c,a,b\nids=3,1,2\n"},
		{change{Op: lineup.OpUnregister, Mod: "b"}, "[s]\nnames=c,a\nids=3,1\n"},
		{change{Op: lineup.OpOn, Mod: "n"}, "[s]\nnames=c,a,n\nids=3,1,9\n"},
	}
	for _, step := range steps {
		after, err := l.Apply(step.change)
		insist.Need(t, err == nil && string(after.Files[0].Bytes) == step.want, "%v gives %q, %v; want %q", step.change, after.Files[0].Bytes, err, step.want)
		l = after
	}
	insist.Fails(t, "without a number", insist.Err(l.Apply(change{Op: lineup.OpRegister, Mod: "z"})), "no catalogue number")
	uneven := open(d, map[string]string{"/srv/start": "[s]\nnames=a,b\nids=1\n"})
	insist.Same(t, "uneven lists read as", sum(uneven), "!list-unreadable:3")
}

// The numbers of downloads beside the names, of which one may bring several mods, or none.
func TestNumbersApart(t *testing.T) {
	d := parse(t, listDialect("format = 'ini'\nshape = 'parallel'\nat = 's/names'\nnumbers = 's/ids'\napart = true\nseparator = ','"))
	l := open(d, map[string]string{"/srv/start": "[s]\nnames=a,b,c\nids=11,22\n"})
	insist.Same(t, "it reads as", sum(l), "a b c")
	for _, step := range []struct {
		change change
		want   string
	}{
		{change{Op: lineup.OpRegister, Mod: "n", Number: "33", Where: lineup.Where{After: "a"}}, "[s]\nnames=a,n,b,c\nids=11,22,33\n"},
		{change{Op: lineup.OpRegister, Mod: "m", Number: "22"}, "[s]\nnames=a,n,b,c,m\nids=11,22,33\n"},
		{change{Op: lineup.OpRegister, Mod: "own"}, "[s]\nnames=a,n,b,c,m,own\nids=11,22,33\n"},
		{change{Op: lineup.OpMove, Mod: "c", Where: lineup.Where{Before: "a"}}, "[s]\nnames=c,a,n,b,m,own\nids=11,22,33\n"},
		{change{Op: lineup.OpOff, Mod: "n"}, "[s]\nnames=c,a,b,m,own\nids=11,22,33\n"},
		{change{Op: lineup.OpOn, Mod: "n"}, "[s]\nnames=c,a,n,b,m,own\nids=11,22,33\n"},
		{change{Op: lineup.OpUnregister, Mod: "m"}, "[s]\nnames=c,a,n,b,own\nids=11,22,33\n"},
		{change{Op: lineup.OpUnregister, Mod: "n", Number: "33"}, "[s]\nnames=c,a,b,own\nids=11,22\n"},
		{change{Op: lineup.OpUnregister, Mod: "b", Number: "99"}, "[s]\nnames=c,a,own\nids=11,22\n"},
	} {
		after, err := l.Apply(step.change)
		insist.Need(t, err == nil && string(after.Files[0].Bytes) == step.want, "%v gives %q, %v; want %q", step.change, after.Files[0].Bytes, err, step.want)
		l = after
	}
	insist.Same(t, "the numbers", strings.Join(l.Numbers(0), " "), "11 22")
}

func TestListRefusals(t *testing.T) {
	for _, test := range []struct{ name, doc, mod, want string }{
		{"list in shell", "", "x", "cannot be read"},
		{"list in shell", "./run -mods=a$B\n", "x", "cannot be read"},
		{"list in shell", "./run -mods=a\n./run -mods=b\n", "x", "cannot be read"},
		{"list in shell", "./run '-mods=@a", "x", "cannot be read"},
		{"list in shell", "./run '-mods=@a'\n", "a;b", "parts the items"},
		{"list in shell", "./run '-mods=@a'\n", "@b", "by itself"},
		{"list in batch", "run.exe -mods=a\r\n", `a"b`, "cannot be written"},
		{"items in json", "{\"mods\": \"a\"}", "x", "cannot be read"},
		{"items in json", "{\"mods\": [1]}", "x", "cannot be read"},
		{"items in json", "{", "x", "cannot be read"},
		{"section", "[x]\n", "n", "cannot be read"},
	} {
		d := parse(t, listDialect(registrations[test.name].toml))
		_, err := open(d, map[string]string{"/srv/start": test.doc}).Apply(change{Op: lineup.OpRegister, Mod: test.mod})
		insist.Fails(t, fmt.Sprintf("%s, %q in %q", test.name, test.mod, test.doc), err, test.want)
	}
}

// TestPlacesThatAgree changes a list that stands in two files at once, and one
// of two lists in one file.
func TestPlacesThatAgree(t *testing.T) {
	d := parse(t, twoLists)
	files := map[string]string{"/srv/start.sh": "./run '-mods=a;b' '-own=s'\n", "/srv/x.service": "[Service]\nExecStart=/run '-mods=a;b'\n"}
	for _, test := range []struct {
		change       change
		script, unit string
	}{
		{change{Op: lineup.OpRegister, Mod: "c"}, "./run '-mods=a;b;c' '-own=s'\n", "[Service]\nExecStart=/run '-mods=a;b;c'\n"},
		{change{Op: lineup.OpRegister, Mod: "c", Registration: "server only"}, "./run '-mods=a;b' '-own=s;c'\n", files["/srv/x.service"]},
		{change{Op: lineup.OpUnregister, Mod: "s"}, "./run '-mods=a;b' '-own='\n", files["/srv/x.service"]},
		{change{Op: lineup.OpMove, Mod: "b", Where: lineup.Where{Before: "a"}}, "./run '-mods=b;a' '-own=s'\n", "[Service]\nExecStart=/run '-mods=b;a'\n"},
	} {
		after, err := open(d, files).Apply(test.change)
		if err != nil {
			t.Errorf("%v: %v", test.change, err)
			continue
		}
		if script, unit := string(after.Files[0].Bytes), string(after.Files[1].Bytes); script != test.script || unit != test.unit {
			t.Errorf("%v gives\n%q\n%q, want\n%q\n%q", test.change, script, unit, test.script, test.unit)
		}
	}
}

// TestDropIns: the last drop-in that has a command has the last word.
func TestDropIns(t *testing.T) {
	d := parse(t, strings.Replace(listDialect("format = 'unit'\nshape = 'list'\nat = '--mods={list}'\nseparator = ','"), "{dir}/start", "{dir}/x.service", 1))
	files := map[string]string{
		"/srv/x.service":                  "[Service]\nExecStart=/run --mods=a\n",
		"/srv/x.service.d":                "10-env.conf\n20-mods.conf\n30-limits.conf\nreadme\n",
		"/srv/x.service.d/10-env.conf":    "[Service]\nEnvironment=X=1\n",
		"/srv/x.service.d/20-mods.conf":   "[Service]\nExecStart=\nExecStart=/run --mods=b,c\n",
		"/srv/x.service.d/30-limits.conf": "[Service]\nLimitNOFILE=1\n",
	}
	l := open(d, files)
	if got := sum(l); got != "b c" || l.Files[0].Path != "/srv/x.service.d/20-mods.conf" {
		t.Errorf("%s has %q", l.Files[0].Path, got)
	}
	delete(files, "/srv/x.service.d")
	insist.Same(t, "without drop-ins it", sum(open(d, files)), "a")
}

// A list that repeats another is made the same as it only where that is wholly understood,
// and takes each mod once, whatever is registered twice.
func TestMatchOfOddLists(t *testing.T) {
	d := parse(t, listDialect("shape = 'line'\ncomment = '#'\nline = 'use {mod}'")+"[[registration]]\nname = 'copy'\nsame_as = 'list'\nfile = '{dir}/copy'\nformat = 'key-value'\nshape = 'list'\nat = 'mods'\nseparator = ','\n")
	for lead, want := range map[string]string{"use a\nuse a\nuse b\nuse a\n": "mods = a,b\n", "use a b\nuse c\n": "!is not understood as a whole", "use a,x\nuse b\n": "!which parts the items of this list", "# use a\n": "mods = \n", "\x00": "!is not understood as a whole"} {
		l := open(d, map[string]string{"/srv/start": lead, "/srv/copy": "mods = z,a,y\n"})
		after, err := l.Apply(change{Op: lineup.OpMatch, Registration: "copy", To: "list"})
		said, refused := strings.CutPrefix(want, "!")
		if refused && (err == nil || !strings.Contains(err.Error(), said)) || !refused && (err != nil || string(after.Files[1].Raw()) != want) {
			t.Errorf("%q: %v, want %s", lead, err, want)
		}
	}
}

// A parameter that is given several times, with a list each time: what is registered, taken out or
// switched off is so where it stands, and a value that would be empty goes with its parameter.
func TestOneParameterSeveralTimes(t *testing.T) {
	const doc = "#!/bin/sh\nexec ./run -x -mods=a,b \\\n  '-mods=c' -y\n"
	d, err := dialect.Parse("t.toml", []byte("name = 't'\n[[place]]\npath = '{dir}/m'\n[start]\ncommand = ['x']\n[[log.rule]]\nmeans = 'ready'\nline = 'up'\n[[registration]]\nname = 'r'\nfile = '{dir}/start'\nformat = 'shell'\nshape = 'list'\nat = '-mods={list}'\nseparator = ','\n"))
	insist.OK(t, err)
	read := func() *lineup.Lineup {
		return lineup.Read(d, dialect.Vars{"dir": "/srv"}, func(string) ([]byte, error) { return []byte(doc), nil }, nil)
	}
	for _, c := range []struct {
		name    string
		changes []lineup.Change
		want    string
	}{
		{"at the end", []lineup.Change{{Op: lineup.OpRegister, Mod: "d"}}, "#!/bin/sh\nexec ./run -x -mods=a,b \\\n  '-mods=c,d' -y\n"},
		{"in the first", []lineup.Change{{Op: lineup.OpRegister, Mod: "d", Where: lineup.Where{Before: "b"}}}, "#!/bin/sh\nexec ./run -x -mods=a,d,b \\\n  '-mods=c' -y\n"},
		{"out of the first", []lineup.Change{{Op: lineup.OpUnregister, Mod: "a"}}, "#!/bin/sh\nexec ./run -x -mods=b \\\n  '-mods=c' -y\n"},
		{"the last of one", []lineup.Change{{Op: lineup.OpUnregister, Mod: "c"}}, "#!/bin/sh\nexec ./run -x -mods=a,b -y\n"},
		{"moved into another", []lineup.Change{{Op: lineup.OpMove, Mod: "b", Where: lineup.Where{After: "c"}}}, "#!/bin/sh\nexec ./run -x -mods=a \\\n  '-mods=c,b' -y\n"},
		{"off and on", []lineup.Change{{Op: lineup.OpOff, Mod: "a"}, {Op: lineup.OpOn, Mod: "a"}}, doc},
		{"all out", []lineup.Change{{Op: lineup.OpUnregister, Mod: "c"}, {Op: lineup.OpUnregister, Mod: "a"}, {Op: lineup.OpUnregister, Mod: "b"}}, "#!/bin/sh\nexec ./run -x -mods= -y\n"},
		{"another name", []lineup.Change{{Op: lineup.OpRename, Mod: "c", To: "cc"}}, "#!/bin/sh\nexec ./run -x -mods=a,b \\\n  '-mods=cc' -y\n"},
	} {
		l := read()
		for _, change := range c.changes {
			var err error
			l, err = l.Apply(change)
			insist.Need(t, err == nil, "%s: %v", c.name, err)
		}
		insist.Same(t, c.name, string(l.Files[0].Raw()), c.want)
	}
}

// A second name that is made of the first is written with it, and a line in which it is another
// registers nothing.
func TestNamesThatAreMade(t *testing.T) {
	d := parse(t, listDialect("shape = 'statement'\ncomment = '#'\nstatements = ['use {MOD}_on {mod} {any}', 'call {mod} as {Mod}']"))
	l := open(d, map[string]string{"/srv/start": "use SEA_VIEW_on sea-view now\nuse TIDE_on tide\nuse OTHER_on lamp\ncall rope as Rope\ncall kelp as kelp\n"})
	insist.Same(t, "it reads as", sum(l), "sea-view tide rope !line-unreadable:3 !line-unreadable:5")
	l = open(d, map[string]string{"/srv/start": "use SEA_VIEW_on sea-view now\nuse TIDE_on tide\ncall rope as Rope\n"})
	for _, step := range []struct {
		change change
		want   string
	}{
		{change{Op: lineup.OpRegister, Mod: "wet-rock", Where: lineup.Where{After: "tide"}}, "use SEA_VIEW_on sea-view now\nuse TIDE_on tide\nuse WET_ROCK_on wet-rock\ncall rope as Rope\n"},
		{change{Op: lineup.OpRename, Mod: "sea-view", To: "lake-view"}, "use LAKE_VIEW_on lake-view now\nuse TIDE_on tide\nuse WET_ROCK_on wet-rock\ncall rope as Rope\n"},
		{change{Op: lineup.OpRename, Mod: "rope", To: "cord"}, "use LAKE_VIEW_on lake-view now\nuse TIDE_on tide\nuse WET_ROCK_on wet-rock\ncall cord as Cord\n"},
		{change{Op: lineup.OpOff, Mod: "tide"}, "use LAKE_VIEW_on lake-view now\n# use TIDE_on tide\nuse WET_ROCK_on wet-rock\ncall cord as Cord\n"},
	} {
		after, err := l.Apply(step.change)
		insist.Need(t, err == nil && string(after.Files[0].Bytes) == step.want, "%v gives %q, %v; want %q", step.change, after.Files[0].Bytes, err, step.want)
		l = after
	}
}
