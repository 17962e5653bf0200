package dialect_test

import (
	_ "embed"
	"errors"
	"io/fs"
	"strings"
	"testing"

	"initium/dialects"
	"initium/internal/core/dialect"
	"initium/internal/insist"
)

// small is a dialect with nothing to spare.
//
//go:embed testdata/small.toml
var small string

func TestShippedDialects(t *testing.T) {
	entries, err := fs.ReadDir(dialects.FS, ".")
	insist.Need(t, err == nil && len(entries) >= 2, "%d dialects, %v", len(entries), err)
	for _, e := range entries {
		data, err := dialects.FS.ReadFile(e.Name())
		insist.OK(t, err)
		d, err := dialect.Parse(e.Name(), data)
		if err != nil {
			t.Errorf("%s:\n%v", e.Name(), err)
			continue
		}
		insist.That(t, d.Name+".toml" == e.Name(), "%s is named %q", e.Name(), d.Name)
	}
}

func TestDefaults(t *testing.T) {
	d, err := dialect.Parse("small.toml", []byte(small))
	insist.OK(t, err)
	if d.Title != "small" || d.Order != dialect.OrderListed || d.Start.Directory != "{dir}" || d.Stop.Signal != "TERM" ||
		d.Start.Within == 0 || d.Places[0].Loads != dialect.LoadsRegistered || d.Registrations[0].Format != dialect.FormatScript {
		t.Errorf("defaults are not filled in: %+v", d)
	}
}

func TestProblemsNameFileLineAndKey(t *testing.T) {
	for _, test := range []struct{ from, to, want string }{
		{`name = "small"`, `name = "Small Server"`, `x.toml:1: name: is "Small Server"; use small letters, digits and -`},
		{`name = "small"`, `nam = "small"`, `x.toml:1: nam: a dialect has no such key`},
		{`name = "small"`, `name = `, `x.toml:1: `},
		{`name = "small"`, "name = \"small\"\norder = \"random\"", `x.toml:2: order: is "random"; it may be "listed", "server"`},
		{`path = "{dir}/mods"`, `path = "{dri}/mods"`, `x.toml:4: place[0].path: {dri} is not known here`},
		{`path = "{dir}/mods"`, `mark = ["../x"]`, `x.toml:3: place[0].path: is needed`},
		{`path = "{dir}/mods"`, "path = \"{dir}/mods\"\nmark = [\"../x\"]", `place[0]: "../x" has to be a file below the mod's folder`},
		{`line  = "use {mod}"`, `line = "use"`, `x.toml:10: registration[0].line: has to hold {mod} as a word of its own`},
		{`line  = "use {mod}"`, `line = "use-{mod}"`, `x.toml:10: registration[0].line: has to hold {mod} as a word of its own`},
		{`shape = "line"`, `shape = "circle"`, `x.toml:9: registration[0].shape: is "circle"`},
		{`shape = "line"`, `shape = "key"`, `registration[0].on: is needed`},
		{`command = ["{dir}/run"]`, `directory = "{dir}"`, `x.toml:12: start.command: is needed`},
		{`means = "ready"`, `means = "perhaps"`, `x.toml:16: log.rule[0].means: is "perhaps"`},
		{`means = "ready"`, `means = "loaded"`, `x.toml:17: log.rule[0].line: a rule that means "loaded" has to hold {mod} or {mods}`},
		{`means = "ready"`, `means = "loaded"`, `log: a rule that means "ready" is needed`},
		{`line  = "up"`, `line = "up {mod"`, `x.toml:17: log.rule[0].line: character 4: a { without its }`},
		{`line  = "up"`, "line = \"up\"\nbefore = true", `log.rule[0].before: is for a rule that means "failed" or "stopped"`},
		{`means = "ready"`, "means = \"stopped\"\nnext = true\nbefore = true", `log.rule[0].before: the reason cannot stand on the line before and on the next one`},
		{`line  = "up"`, "line = \"up\"\nlevel = \"x\"", `x.toml:18: log.rule[0].level: log.prefix has no {level}`},
		{`line  = "up"`, "line = \"up\"\nsource = \"x\"", `x.toml:18: log.rule[0].source: log.prefix has no {source}`},
		{`[start]`, "[stop]\nsignal = \"KILL\"\n[start]", `stop.signal: is "KILL"`},
		{`[start]`, "[stop]\npatience = \"soon\"\n[start]", `x.toml:13: `},
		{`[start]`, "[[given]]\nname = \"port\"\nkind = \"harbour\"\n[start]", `x.toml:14: given[0].kind: is "harbour"`},
		{`[start]`, "[[given]]\nname = \"dir\"\n[start]", `x.toml:13: given[0].name: "dir" is there already`},
		{`[start]`, "[[value]]\nname = \"key\"\nregistration = \"other\"\n[start]", `value[0].registration: names "other"`},
		{`[start]`, "[[manifest]]\nfile = \"/etc/passwd\"\nformat = \"toml\"\n[start]", `manifest[0].file: "/etc/passwd" has to be a file below the mod's folder`},
		{`[start]`, "[load]\nabsent = \"explodes\"\n[start]", `x.toml:13: load.absent: is "explodes"; it may be "fails", "stops", "stops later", "stops first", "passed over", "loads"`},
		{`[start]`, "[load]\nwalk = \"random\"\n[start]", `load.walk: is "random"`},
		{`[start]`, "[[build]]\nof = \"weather\"\nfile = \"v\"\n[start]", `build[0].of: is "weather"`},
		{`[start]`, "[[build]]\nof = \"server\"\n[start]", `build[0]: needs either a command that prints the version, a file that holds it, or a registration with its key`},
		{`[start]`, "[[build]]\nof = \"server\"\nregistration = \"none\"\nkey = \"v\"\n[start]", `build[0].registration: has to be the name of a registration`},
		{`[start]`, "[[manifest]]\nfile = \"a\"\nformat = \"toml\"\nserver = \"for\"\n[start]", `manifest[0].server: a [[build]] of the server is needed to compare it with`},
		{`[start]`, "[[manifest]]\nfile = \"a\"\nformat = \"toml\"\nversions = \"roman\"\n[start]", `manifest[0].versions: is "roman"`},
		{`[start]`, "[[manifest]]\nfile = \"a\"\nformat = \"json\"\nneed_range = \"v\"\n[start]", `manifest[0].need_name: is needed where needs are objects`},
		{`[start]`, "[[manifest]]\nfile = \"a\"\nformat = \"source\"\nneeds = \"require\"\n[start]", `manifest[0].needs: has to hold {value}`},
		{`[start]`, "[[source]]\nfile = \"a\"\nformat = \"script\"\n[start]", `source[0].words: are needed`},
		{`[start]`, "[[data]]\nfile = \"{dir}/t\"\nformat = \"script\"\n[start]", `data[0].format: is "script"`},
		{`[start]`, "[[icon]]\nfile = \"{dir}/i.png\"\nwidth = 64\n[start]", `icon[0]: needs a width and a height, in pixels`},
		{`[start]`, "[keys]\nfiles = \"../*.key\"\ninto = \"{dir}/keys\"\n[start]", `keys.files: "../*.key" has to be files below the mod's folder`},
		{`[start]`, "[[value]]\nname = \"a\"\nbroad = [\"all\"]\n[start]", `value[0].broad: "all" has to be a setting and its value`},
		{`[start]`, "[[value]]\nname = \"a\"\nwrong = \"rains\"\n[start]", `value[0].wrong: is "rains"`},
		{`[start]`, "[names]\nallowed = \"z-a\"\n[start]", `names.allowed: the range z-a runs backwards`},
		{`[start]`, "[console]\nlist = \"list\"\n[start]", `console: a rule that means "loaded" is needed to read the reply`},
		{`[start]`, "[console]\nreload = \"again\"\n[start]", `x.toml:13: console.reload: has to hold {mod}`},
		{`[start]`, "[console]\nunload = \"away {mod} {now}\"\n[start]", `console.unload: {now} is not known here`},
		{`[start]`, "[console]\nend = \"{all}\"\n[start]", `console.end: character 1: {all} is not known here`},
		{`[start]`, "[[console.rule]]\nmeans = \"loaded\"\nline = \"all\"\n[start]", `console.rule[0].line: a rule that means "loaded" has to hold {mod}`},
		{`[start]`, "[[given]]\nname = \"a\"\ntold = \"weather\"\n[start]", `given[0].told: "weather" is none of what a server tells of itself`},
		{`[start]`, "[[given]]\nname = \"a\"\nmay_differ = true\n[start]", `given[0].may_differ: is for a value with told`},
		{`[start]`, "[[value]]\nname = \"a\"\ntold = \"weather\"\n[start]", `value[0].told: "weather" is none of what a server tells of itself`},
		{`[start]`, "[log]\nfiles = [\"{home}/x\"]\n[start]", `log.files: {home} is not known here`},
		{`means = "ready"`, "means = \"told\"", `log.rule[0].line: a rule that means "told" has to hold {title} or {map}`},
	} {
		insist.Need(t, strings.Contains(small, test.from), "the small dialect has no %q", test.from)
		_, err := dialect.Parse("x.toml", []byte(strings.Replace(small, test.from, test.to, 1)))
		var problems dialect.Problems
		if !errors.As(err, &problems) {
			t.Errorf("%q: error is %v", test.to, err)
			continue
		}
		insist.That(t, strings.Contains(err.Error(), test.want), "%q is answered with\n%v\nwant\n%s", test.to, err, test.want)
	}
}

func TestExpand(t *testing.T) {
	vars := dialect.Vars{"dir": "/srv", "port": "1", "none": ""}
	for in, want := range map[string]string{"{dir}/x": "/srv/x", "plain": "plain", "{{{port}}}": "{1}", "a{port}b{port}": "a1b1"} {
		if got, ok := vars.Expand(in); !ok || got != want {
			t.Errorf("Expand(%q) = %q, %v; want %q", in, got, ok, want)
		}
	}
	for _, in := range []string{"{none}", "{other}", "{dir"} {
		if got, ok := vars.Expand(in); ok {
			t.Errorf("Expand(%q) = %q", in, got)
		}
	}
}

func TestForbidden(t *testing.T) {
	n := dialect.Names{Allowed: "a-z0-9_-"}
	for name, want := range map[string]rune{"tide_tables": 0, "a-b": 0, "A": 'A', "a b": ' ', "é": 'é', "a.b": '.'} {
		if r, _ := n.Forbidden(name); r != want {
			t.Errorf("Forbidden(%q) = %q, want %q", name, r, want)
		}
	}
	if _, bad := (dialect.Names{}).Forbidden("any thing"); bad {
		t.Error("a family without a rule forbids something")
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(small))
	for _, name := range []string{"harrow-sound.toml", "minetest.toml"} {
		data, err := dialects.FS.ReadFile(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := dialect.Parse("x.toml", data)
		insist.Need(t, (d == nil) != (err == nil), "dialect %v with error %v", d, err)
		if err == nil {
			for i := range d.Log.Rules {
				insist.Need(t, d.Log.Rules[i].Pattern() != nil, "a rule without a pattern")
			}
		}
	})
}

// A dialect that is not complete can be read as far as it goes.
func TestDraft(t *testing.T) {
	d, problems := dialect.Draft("x.toml", []byte("name = \"x\"\n[log]\nprefix = \"{time} \"\n[[log.rule]]\nmeans = \"loaded\"\nline = \"{mod} on {port}\"\n"))
	insist.That(t, d != nil && d.Log.PrefixPattern() != nil && len(d.Log.Rules) == 1 && d.Log.Rules[0].Pattern() != nil && d.Log.Rules[0].TellsFacts() && len(problems) != 0, "%+v, %v", d, problems)
	if d, problems := dialect.Draft("x.toml", []byte("name = ")); d == nil || len(problems) != 1 {
		t.Errorf("%+v, %v", d, problems)
	}
}

// A console's keys have their defaults, and its rules are those of the log.
func TestConsole(t *testing.T) {
	d, err := dialect.Parse("x.toml", []byte(small+"\n[console]\nlist = \"list\"\nend = \"{any} in all\"\n[[console.rule]]\nmeans = \"loaded\"\nline = \"* {mod}\"\n"))
	insist.OK(t, err)
	k := &d.Console
	insist.That(t, k.Within != 0 && k.EndPattern() != nil && k.Rules[0].Pattern() != nil && !k.Rules[0].TellsFacts(), "%+v", k)
}
