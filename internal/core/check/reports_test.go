package check_test

import (
	_ "embed"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/golden"
)

// wharf is a family of launch lists: for all and for the server only, twice each, with
// numbers beside the names, data in every format, and values of every kind.
//
//go:embed testdata/wharf.toml
var wharf string

// report writes down all that check says of a server, and what the next start will do.
func report(r *check.Report) string {
	var b strings.Builder
	for _, f := range r.Findings {
		fmt.Fprintf(&b, "%s %s %s %s:%d:%d: %s\n", f.Severity, f.Code, f.Mod, f.File, f.Line, f.Column, f.Message)
		if f.Remedy != "" {
			fmt.Fprintf(&b, "    remedy: %s %v\n", f.Remedy, f.Changes)
		}
	}
	fmt.Fprintf(&b, "foretold: stops %q, order %v\n", r.Forecast.Stops, r.Forecast.Order)
	for _, m := range r.Forecast.Mods {
		fmt.Fprintf(&b, "    %s %s %s (%s %s)\n", m.Name, m.Outcome, m.Because, m.Cause, m.Of)
	}
	return b.String()
}

// TestReports holds the whole of what check says, to the word, against what was read
// through once: of every server in the tables of this package, and of some more.
func TestReports(t *testing.T) {
	type row struct {
		source string
		world  world
		rules  []rule.Rule
		facts  check.Surroundings
	}
	rows := map[string]row{}
	for name, r := range harbourRows {
		rows["harbour, "+name] = row{source: harbour, world: r.world}
	}
	for name, r := range keyedRows {
		rows["keyed, "+name] = row{source: keyed, world: r.world}
	}
	for name, r := range pierRows() {
		rows["pier, "+name] = row{source: pier, world: r.world, rules: r.rules}
	}
	mods := func(w world, list ...string) world {
		for _, item := range list {
			name, about, _ := strings.Cut(item, ": ")
			base := name[strings.LastIndexByte(name, '/')+1:]
			if !strings.Contains(name, "/") {
				name = "mods/" + name
			}
			w[name+"/about.json"] = fmt.Sprintf(`{"name": %q%s}`, base, about)
		}
		return w
	}
	for name, r := range map[string]row{
		"lists that agree":                  {world: mods(world{"start.sh": "run '-all=a;b' -own=c\n", "wharf.service": "[Service]\nExecStart=/run -all=a;b\n"}, "a", "b", "c")},
		"lists that do not agree":           {world: mods(world{"start.sh": "run '-all=a;b' -own=c\n", "wharf.service": "[Service]\nExecStart=/run -all=b;d;e;f;g\n"}, "a", "b", "c", "d", "e", "f", "g")},
		"lists in another order":            {world: mods(world{"start.sh": "run '-all=a;b'\n", "wharf.service": "[Service]\nExecStart=/run -all=b;a\n"}, "a", "b")},
		"a list that cannot be read":        {world: mods(world{"start.sh": "run '-all=a;b\n"}, "a", "b")},
		"on the wrong list":                 {world: mods(world{"start.sh": "run '-all=a;b' -own=c\n"}, `a: , "side": "server"`, "b", "c")},
		"at another place":                  {world: mods(world{"start.sh": "run '-all=a;more/b;more/a;b;more/c'\n"}, "a", "more/b")},
		"a line that is long":               {world: mods(world{"start.sh": "run -all=a x" + strings.Repeat("x", 110_000) + "\n"}, "a")},
		"a line that is too long":           {world: mods(world{"start.sh": "run -all=a x" + strings.Repeat("x", 131_072) + "\n"}, "a")},
		"a line that just fits":             {world: mods(world{"start.sh": "run -all=a " + strings.Repeat("x", 131_072) + "\n"}, "a")},
		"a line with room left":             {world: mods(world{"start.sh": "run -all=a " + strings.Repeat("x", 104_857) + "\n"}, "a")},
		"sound data":                        {world: mods(world{"start.sh": "run -all=a\n", "a.json": "\xef\xbb\xbf{\"a\": [1]}", "a.yaml": "a: 1\n", "a.toml": "a = 1\n", "a.xml": "<a/>\n"}, "a")},
		"broken data":                       {world: mods(world{"start.sh": "run -all=a\n", "a.json": "{\n\"a\": [1,]}", "a.yaml": "a: [\n", "a.toml": "a = 1\na = 2\n", "a.xml": "<a>\n</b>\n"}, "a")},
		"data that is passed over":          {world: mods(world{"start.sh": "run -all=a\n", "a.yaml": "a: [\n"}, "a")},
		"data without which nothing starts": {world: mods(world{"start.sh": "run -all=a\n", "a.toml": "a = \n"}, "a")},
		"names in capitals":                 {world: mods(world{"start.sh": "run '-all=a;B'\n"}, "a", "A", "B", "b")},
		"in UTF-16":                         {world: mods(world{"start.sh": "\xff\xfer\x00u\x00n\x00"}, "a")},
		"kept copies":                       {world: mods(world{"start.sh": "run -all=a\n", "mods/b.old/x": "", "mods/c-backup/": "", "mods/~/x": ""}, "a", "a - Copy", "a.disabled")},
		"far slips":                         {world: mods(world{"start.sh": "run '-all=mistbells;mistblels;mist_bell;xist_bells;mist;bells_mist'\n"}, "mist_bells", "mits", "mast")},
	} {
		r.source = wharf
		rows["wharf, "+name] = r
	}
	line := func(w world, list ...string) world { w["start.conf"] = ""; return w.mods(list...) }
	for name, r := range map[string]row{
		"three that cannot be together": {world: line(world{"start": "use a\nuse b\n# use c\n", "mods/a/about.toml": "hates = ['b', 'c']", "mods/a/main": "", "mods/b/about.toml": "hates = ['a']", "mods/b/main": ""}, "c")},
		"rules about what is not there": {world: line(world{"start": "use a\n# use b\n"}, "a", "b"), rules: []rule.Rule{{Kind: rule.Before, Mod: "a", Other: "z"}, {Kind: rule.Apart, Mod: "a", Other: "b"}, {Kind: rule.Needs, Mod: "z", Other: "a"}, {Kind: rule.Stay, Mod: "z"}, {Kind: rule.Before, Mod: "y", Other: "x", Family: true}}},
		"a longer circle":               {world: line(world{"start": "use a\nuse b\nuse c\nuse d\n", "mods/a/about.toml": "needs = ['b']", "mods/a/main": "", "mods/b/about.toml": "needs = ['a', 'c']", "mods/b/main": "", "mods/c/about.toml": "needs = ['d', 'b']", "mods/c/main": "", "mods/d/about.toml": "needs = ['a']", "mods/d/main": ""})},
		"many moves": {world: line(world{"start": "use e\nuse d\nuse c\nuse b\nuse a\n", "mods/b/about.toml": "needs = ['a']", "mods/b/main": "", "mods/c/about.toml": "needs = ['b']", "mods/c/main": "",
			"mods/d/about.toml": "needs = ['c']", "mods/d/main": "", "mods/e/about.toml": "needs = ['d']\nlikes = ['a']", "mods/e/main": ""}, "a")},
		"optional, off and not there": {world: line(world{"start": "use a\n# use b\n", "mods/a/about.toml": "likes = ['b', 'nowhere', 'a']\nneeds = ['b']", "mods/a/main": ""}, "b")},
		"values at their bounds":      {world: line(world{"start": "let slots 1\nlet slots 64\nlet slots 0\nlet slots 64.5\nlet mode Calm\nlet mode\nlet map ../x\n"})},
		"a setting left as it was":    {world: line(world{"start": "let title YOUR-TITLE\nlet other <put it here>\nlet third changeme\n"})},
		"versions that are not known": {world: line(world{"start": "use a\n", "mods/a/about.toml": "server = '>=2'\nloader = 'x'", "mods/a/main": ""}), facts: check.Surroundings{Builds: map[dialect.BuildOf]check.Build{dialect.BuildServer: {Problem: "it says nothing"}, dialect.BuildRuntime: {Version: "2"}}}},
		"while it runs":               {world: line(world{"start": "use a\n"}, "a"), facts: check.Surroundings{Running: true, PortBusy: "tcp", Sharing: []string{"o", "p"}, Missing: map[string]string{"port": ""}}},
		"a port that is taken":        {world: line(world{"start": "use a\n"}, "a"), facts: check.Surroundings{PortBusy: "tcp", PortFree: 8}},
		"blanks around names":         {world: line(world{"start": "use \"lamp \"\nuse \" rope\"\nuse \"sail \"\nuse sail\n"}, "rope", "sail")},
		"hates itself":                {world: line(world{"start": "use a\nuse b\n", "mods/a/about.toml": "hates = ['a']\nneeds = ['a']", "mods/a/main": ""}, "b")},
		"it runs, and holds its port": {world: line(world{"start": "use a\n"}, "a"), facts: check.Surroundings{Running: true}},
		"a lesson":                    {world: line(world{"start": "use a\nuse b\n"}, "a", "b: a"), facts: check.Surroundings{Lessons: map[string]string{"a": "it sank"}}},
		"two of one kind accepted":    {world: line(world{"start": "let cheats yes\nuse z\nuse y\n"}), facts: check.Surroundings{Accepted: []check.Accepted{{Code: "mod-missing", Mod: "z", Message: "z is registered, and there is no such mod", Because: "soon"}, {Code: "mod-missing", Mod: "y", Message: "another", Because: "never"}}}},
	} {
		r.source = pier
		rows["pier, "+name] = r
	}
	for _, fate := range []string{"fails", "stops", "passed over", "loads"} {
		source := strings.Replace(pier, "[start]", "[load]\n"+fates(fate)+"[start]", 1)
		all := line(world{"start": "use gone\nuse late\nuse early\nuse one\nuse two\nuse torn\nuse \"b d\"\nuse bare\nuse odd\nuse odd\nuse keyed\nuse set\nuse hater\nuse lua\nuse old\nuse ranged\nuse other\nuse alone\nuse last\n",
			"mods/torn/about.toml": "name = ", "mods/torn/main": "", "mods/bare/about.toml": "", "mods/keyed/about.toml": "", "mods/keyed/main": "", "mods/keyed/keys/k.key": "k",
			"mods/set/about.toml": "reads = ['depth']", "mods/set/main": "", "mods/hater/about.toml": "hates = ['early']", "mods/hater/main": "", "mods/lua/about.toml": "", "mods/lua/main": "x = = 1",
			"mods/old/about.toml": "server = '>=9'", "mods/old/main": "", "mods/ranged/about.toml": "needs = ['early >=2']", "mods/ranged/main": "", "mods/other/about.toml": "name = 'another'", "mods/other/main": ""},
			"late: early, nowhere", "early", "one: two", "two: one", "b d", "odd", "alone", "last: late")
		rows["pier, where what is wrong "+fate] = row{source: source, world: all, facts: check.Surroundings{PortBusy: "tcp", Builds: map[dialect.BuildOf]check.Build{dialect.BuildServer: {Version: "3"}, dialect.BuildLoader: {Version: "crank"}}}}
		for _, walk := range []string{"needs-first", "ready-queue", "ready-stack"} {
			for _, ties := range []string{"listed", "name", "place"} {
				own := strings.Replace(keyed, "[start]", fmt.Sprintf("[load]\nwalk = %q\nties = %q\n", walk, ties)+fates(fate)+"[start]", 1)
				w := world{"start": "load_e = true\nload_c = true\nload_gone = true\nload_a = false\nload_b = true\nload_d = true\nload_x = true\nload_y = true\nload_z = true\n"}.mods("c: b", "e: c, d", "b", "a", "d: a", "x: y", "y: x", "z")
				rows[fmt.Sprintf("keyed, %s by %s, where what is wrong %s", walk, ties, fate)] = row{source: own, world: w}
			}
		}
	}
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(rows)) {
		r := rows[name]
		if _, ok := r.world["start.conf"]; !ok && strings.Contains(r.source, "start.conf") {
			r.world["start.conf"] = ""
		}
		in := r.world.input(t, r.source)
		in.Rules, r.facts.FS = r.rules, in.FS
		if r.facts.Builds == nil && strings.Contains(r.source, "[[build]]") {
			r.facts.Builds = map[dialect.BuildOf]check.Build{}
			for of, file := range map[dialect.BuildOf]string{dialect.BuildRuntime: "engine", dialect.BuildServer: "version", dialect.BuildLoader: "loader"} {
				if v, ok := r.world[file]; ok {
					r.facts.Builds[of] = check.Build{Version: strings.TrimSpace(v)}
				}
			}
		}
		fmt.Fprintf(&b, "== %s\n%s\n", name, report(check.Run(survey.Take(in), r.facts)))
	}
	golden.Check(t, "reports.txt", b.String())
}

// fates gives everything that can be wrong one fate.
func fates(fate string) string {
	var b strings.Builder
	load := reflect.TypeFor[dialect.Load]()
	for i := range load.NumField() {
		if load.Field(i).Type == reflect.TypeFor[dialect.Fate]() {
			fmt.Fprintf(&b, "%s = %q\n", load.Field(i).Tag.Get("toml"), fate)
		}
	}
	return b.String()
}
