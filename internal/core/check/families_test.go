package check_test

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/golden"
	"initium/internal/insist"
)

// family puts a dialect together from what dialects can have.
func family(r *rand.Rand) string {
	one := func(list ...string) string { return list[r.IntN(len(list))] }
	some := func(n int) bool { return r.IntN(n) == 0 }
	var b strings.Builder
	put := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	put("name = \"pier\"\norder = \"%s\"\n[[given]]\nname = \"port\"\n[[given]]\nname = \"program\"", one("listed", "listed", "server"))
	mark, main := one("mark = ['about.toml']", "mark = ['about.toml', 'main']", "", "mark = ['about.toml']"), one("", "main = 'main'", "main = 'main'")
	places := []string{"path = \"{dir}/mods\"\n" + one("", "group = '+'", "bundle = ['pack']", "group = '+'\nbundle = ['pack']") + "\n" + one("", "speaks = 'voice'"), "path = \"{dir}/more\"\n" + one("", "called = 'more'"), "path = \"{dir}/auto\"\nloads = \"always\"", "path = \"{dir}/base\"\nloads = \"base\""}
	for i, p := range places {
		if i == 0 || !some(3) {
			put("[[place]]\n%s\n%s\n%s", p, mark, main)
		}
	}
	put("[names]\nallowed = \"%s\"\nagree = %v", one("", "a-z0-9_", "a-z"), some(2))
	put("[[manifest]]\nfile = \"about.toml\"\nformat = \"toml\"\nname = \"name\"\nrelease = \"release\"\nneeds = \"needs\"\noptional_needs = \"likes\"\nconflicts = \"hates\"\nprovides = \"gives\"\nsettings = \"reads\"\nbefore = \"before\"\nafter = \"after\"\nbrings = \"brings\"\nnumber = \"number\"\nside = \"side\"\nserver = \"server\"\nloader = \"loader\"\nruntime = \"runtime\"")
	if v := one("comparators", "comparators", "intervals", "least", "listed", ""); v != "" {
		put("versions = \"%s\"", v)
	}
	if some(3) {
		put("[[source]]\nfile = \"main\"\nformat = \"%s", one("lua\"", "script\"\nwords = ['say', 'do']"))
	}
	list := one("shape = \"line\"\ncomment = \"#\"\nquote = \"\\\"\"\nline = \"use {mod}\"\nsetting = \"let {name} {value}\"", "shape = \"line\"\ncomment = \"#\"\nline = \"use {mod}\"\nsetting = \"let {name} {value}\"\npaths = true", "shape = \"line\"\nline = \"use {mod}\"\nsetting = \"let {name} {value}\"", "format = \"key-value\"\nshape = \"key\"\nkey = \"use {mod}\"\non = \"1\"\noff = \"0\"\non_path = true")
	put("[[registration]]\nname = \"script\"\nfile = \"{dir}/start\"\n%s\nplain = %v", list, some(2))
	switch r.IntN(4) {
	case 0:
		put("[[registration]]\nname = \"own\"\nsides = [\"server\"]\nfile = \"{dir}/own\"\nshape = \"line\"\ncomment = \"#\"\nline = \"have {mod}\"\noptional = %v", some(2))
	case 1:
		put("[[registration]]\nname = \"own\"\nsame_as = \"script\"\nfile = \"{dir}/own\"\nshape = \"line\"\ncomment = \"#\"\nline = \"have {mod}\"\noptional = %v", some(2))
	case 2:
		put("[[registration]]\nname = \"own\"\nformat = \"ini\"\nshape = \"parallel\"\nat = \"s/names\"\nnumbers = \"s/ids\"\nseparator = \";\"\nfile = \"{dir}/numbers\"\noptional = %v", some(2))
	}
	wrong := func() string {
		return one("", "wrong = \"stops\"", "wrong = \"passed over\"", "wrong = \"fails\"", "wrong = \"loads\"")
	}
	for _, v := range []string{"slots\"\nleast = 1", "slots2\"\nmost = 64", "mode\"\nallowed = [\"calm\", \"storm\"]", "cheats\"\nrisky = [\"yes\"]\nrisk = \"players can do as they like\"", "weather\"\nbroad = [\"builtins on\"]", "map\"\nfile = \"{dir}/maps/{value}.map\"", "motto\"\nrequired = true\nabout = \"what it is called\"", "pass\"\nsecret = true\nallowed = [\"a\", \"b\"]\nplaceholders = [\"x\", \"your key\"]", "where\"\nput = \"{dir}\"\nplaceholders = [\"/path\"]", "port\"\nput = \"{port}\"\nrequired = true"} {
		if some(2) {
			put("[[value]]\nregistration = \"script\"\nname = \"%s\n%s", v, wrong())
		}
	}
	for _, of := range []string{"server", "loader", "runtime"} {
		{
			put("[[build]]\nof = \"%s\"\nabout = \"%s\"\nfile = \"{dir}/%s\"", of, one("", "the engine"), of)
			if strings.Contains(b.String(), "versions = ") && some(2) {
				put("wants = \"%s\"", map[bool]string{true: ">=3", false: "3"}[strings.Contains(b.String(), "versions = \"comparators\"")])
			}
		}
	}
	for _, f := range []string{"json", "yaml", "toml", "xml"} {
		if some(4) {
			put("[[data]]\nfile = \"{dir}/a.%s\"\nformat = \"%[1]s\"\n%s", f, strings.Replace(wrong(), "fails", "stops", 1))
		}
	}
	if some(4) {
		put("[[icon]]\nfile = \"{dir}/icon.png\"\nwidth = 4\nheight = %d", 3+r.IntN(2))
	}
	if some(2) {
		put("[keys]\nfiles = \"keys/*.key\"\ninto = \"{dir}/keys\"")
	}
	put("[load]")
	load := reflect.TypeFor[dialect.Load]()
	for i := range load.NumField() {
		if load.Field(i).Type == reflect.TypeFor[dialect.Fate]() && some(2) {
			put("%s = %q", load.Field(i).Tag.Get("toml"), one("fails", "fails", "stops", "passed over", "loads"))
		}
	}
	if strings.Contains(b.String(), "order = \"server\"") {
		put("walk = \"%s\"\nties = \"%s\"", one("needs-first", "ready-queue", "ready-stack"), one("listed", "name", "place"))
	}
	put("[start]\ncommand = [\"x\"]\nfiles = [%s]\n[[log.rule]]\nmeans = \"ready\"\nline = \"up\"", one("", "", "", "", "\"start.conf\"", "\"{dir}/start.conf\", \"none\""))
	return b.String()
}

// TestVariedServersInFull checks random servers of random families: every finding, and all
// that is foretold for the next start.
func TestVariedServersInFull(t *testing.T) {
	r := rand.New(rand.NewPCG(41, 3))
	one := func(list ...string) string { return list[r.IntN(len(list))] }
	var icon bytes.Buffer
	insist.OK(t, png.Encode(&icon, image.NewGray(image.Rect(0, 0, 4, 4))))
	names := []string{"bell", "lamp", "rope", "tide", "hull", "mast", "Bell", "keel_2"}
	versions := []string{"", "1.0", "2.5", "3", "0.9-rc1", "what"}
	ranges := []string{"", " >=2", " <1", " [1,2)", " 2.5", " >=1 <3", " ~~2", " 1.0 || 3"}
	var all strings.Builder
	for round := range 200 {
		source := family(r)
		for { // not everything goes together
			if _, err := dialect.Parse("test.toml", []byte(source)); err == nil {
				break
			}
			source = family(r)
		}
		assign := strings.Contains(source, "key-value")
		w := world{}
		var start strings.Builder
		write := func(on bool, name string) {
			switch {
			case assign:
				fmt.Fprintf(&start, "use %s = %s\n", name, map[bool]string{true: "1", false: "0"}[on])
			case on:
				fmt.Fprintf(&start, "use %s\n", name)
			default:
				fmt.Fprintf(&start, "# use %s\n", name)
			}
		}
		for range 3 + r.IntN(7) {
			n := names[r.IntN(len(names))]
			switch r.IntN(9) {
			case 0, 1:
				set := one("slots 3", "slots 0", "slots2 99", "mode calm", "mode gale", "cheats yes", "weather on", "builtins ON", "map one", "map none", "map a/b", "motto Hi", "pass x", "pass c", "pass a", "where /path", "port 7", "depth 3", "depth <depth>", "slots x", "mode changeme")
				if assign {
					set = strings.Replace(set, " ", " = ", 1)
				} else if r.IntN(2) == 0 {
					fmt.Fprintf(&start, "let %s\n", set)
				}
				fmt.Fprintf(&start, "%s%s\n", map[bool]string{true: "", false: "let "}[assign], set)
			case 2:
				write(false, n)
			case 3:
				write(true, one("+rig", "more/"+n, "pack", "base/"+n))
			default:
				write(true, n)
			}
		}
		w["start"] = start.String()
		if r.IntN(12) == 0 {
			w["start"] = one("\xef\xbb\xbf", "\xff\xfe", "<<<<<<< mine\nx\n>>>>>>> yours\n") + w["start"]
		}
		if r.IntN(15) == 0 {
			delete(w, "start")
		}
		w["own"] = one("have bell\nhave lamp\n", "have rope\nhave bell\n# have tide\n", strings.ReplaceAll(w["start"], "use ", "have "))
		w["numbers"] = one("[s]\nnames=bell;lamp\nids=11;22\n", "[s]\nnames=rope\nids=7\n", "[s]\nnames=a;b\nids=1\n")
		for _, more := range []string{"maps/one.map: m", "start.conf: ", "a.json: {\"a\": 1", "a.json: {}", "a.yaml: a: [", "a.toml: a = ", "a.xml: <a><b></a>", "a.xml: <a/>", "server: 2.0", "loader: 3", "runtime: x", "keys/k.key: bell", "icon.png: no"} {
			if path, data, _ := strings.Cut(more, ": "); r.IntN(2) == 0 {
				w[path] = data
			}
		}
		if r.IntN(3) == 0 {
			w["icon.png"] = icon.String()
		}
		for _, place := range []string{"mods", "mods", "mods", "mods/+rig", "mods/pack", "more", "auto", "base"} {
			for _, n := range names {
				if r.IntN(4) > 0 {
					continue
				}
				at := place + "/" + n
				var about strings.Builder
				if r.IntN(3) == 0 {
					fmt.Fprintf(&about, "name = '%s'\n", one(n, n, names[r.IntN(len(names))]))
				}
				if v := versions[r.IntN(len(versions))]; v != "" {
					fmt.Fprintf(&about, "release = '%s'\n", v)
				}
				for _, key := range []string{"needs", "likes", "hates", "gives", "reads", "before", "after", "brings"} {
					if r.IntN(6) > 0 {
						continue
					}
					of := names[r.IntN(len(names))]
					switch {
					case key == "reads":
						of = one("depth", "slots", "mode")
					case key == "gives":
						of = one("light", "rope")
					case key == "needs" || key == "likes" || key == "hates":
						of = one(of, of, "light", "none") + one("", "", ranges[r.IntN(len(ranges))])
					}
					fmt.Fprintf(&about, "%s = ['%s']\n", key, of)
				}
				for _, of := range []string{"server", "loader", "runtime", "side", "number"} {
					if r.IntN(8) == 0 {
						fmt.Fprintf(&about, "%s = '%s'\n", of, map[string]string{"server": ">=2", "loader": "<3", "runtime": "1", "side": "server", "number": "11"}[of])
					}
				}
				if r.IntN(12) == 0 {
					about.WriteString("x = ")
				}
				if r.IntN(10) > 0 {
					w[at+"/about.toml"] = about.String()
				}
				if r.IntN(8) > 0 {
					w[at+"/main"] = one("", "", "say 1\n", "x = = 1\n")
				}
				if r.IntN(6) == 0 {
					w[at+"/keys/k.key"] = one("bell", n)
				}
				if r.IntN(3) == 0 {
					w[at+"/voice"] = ""
				}
				if r.IntN(15) == 0 {
					w[at+"/"+n+"/about.toml"] = ""
				}
			}
		}
		if r.IntN(2) == 0 {
			w["mods/pack/pack"] = ""
		}
		var rules []rule.Rule
		for _, kind := range []rule.Kind{rule.Before, rule.After, rule.Apart, rule.Needs, rule.Reads, rule.First, rule.Last, rule.Stay} {
			if r.IntN(10) == 0 {
				one := rule.Rule{Kind: kind, Mod: names[r.IntN(len(names))], Because: "it was so"}
				if kind.Pair() {
					one.Other = names[r.IntN(len(names))]
				}
				rules = append(rules, one)
			}
		}
		facts := check.Surroundings{Builds: map[dialect.BuildOf]check.Build{}, Running: r.IntN(9) == 0, Lessons: map[string]string{}, PortBusy: one("", "", "", "the server x runs on it"), PortFree: []int{0, 8000}[r.IntN(2)]}
		if r.IntN(8) == 0 {
			facts.Sharing = []string{"other"}
		}
		if r.IntN(8) == 0 {
			facts.Lessons[names[r.IntN(len(names))]] = "it broke"
		}
		if r.IntN(10) == 0 {
			facts.Missing = map[string]string{one("port", "program"): "it is not there"}
		}
		for _, of := range []dialect.BuildOf{dialect.BuildServer, dialect.BuildLoader, dialect.BuildRuntime} {
			if v := versions[r.IntN(len(versions))]; v != "" {
				facts.Builds[of] = check.Build{Version: v}
			} else if r.IntN(3) == 0 {
				facts.Builds[of] = check.Build{Problem: "it does not say"}
			}
		}
		in := w.input(t, source)
		in.Rules, facts.FS = rules, in.FS
		now := survey.Take(in)
		found := check.Run(now, facts)
		if r.IntN(3) == 0 && len(found.Findings) > 0 { // one is accepted, and is so only as long as it says the same
			f := found.Findings[r.IntN(len(found.Findings))]
			facts.Accepted = []check.Accepted{{Code: f.Code, Mod: f.Mod, Message: f.Message + one("", "", "?"), Because: "so it is"}}
			found = check.Run(now, facts)
		}
		fmt.Fprintf(&all, "== %d: %q, rules %v\n%s", round, w["start"], rules, report(found))
		for _, f := range found.Findings {
			if f.Accepted != "" {
				fmt.Fprintf(&all, "accepted %s %s: %s\n", f.Code, f.Mod, f.Accepted)
			}
		}
		fmt.Fprintf(&all, "repair %s, %d more than needed, left %q\n", found.Repair.String(), found.Repair.Excess, found.Repair.Left)
		for i := range now.Mods {
			m := &now.Mods[i]
			fmt.Fprintf(&all, "  %s %s at %s %d:", m.Name, m.Release, m.Path, m.Position)
			for _, more := range []struct {
				what string
				is   any
			}{{"title", m.Title}, {"place", m.Place}, {"bundle", m.Bundle}, {"spot", m.Spot}, {"empty", m.Empty}, {"no main", m.NoMain}, {"quiet", m.Quiet}, {"broken", m.Broken != nil}, {"inner", m.Inner}, {"registered", m.Registered}, {"listed", m.Listed}, {"on", m.On},
				{"always", m.Always}, {"base", m.Base}, {"elsewhere", m.Elsewhere}, {"group", m.Group}} {
				if !reflect.ValueOf(more.is).IsZero() && more.is != m.Name {
					fmt.Fprintf(&all, " %s %v", more.what, more.is)
				}
			}
			fmt.Fprintf(&all, " %v %v %v\n", m.Keys, m.Needs(), m.OptionalNeeds())
		}
	}
	golden.Check(t, "varied.txt", all.String())
}
