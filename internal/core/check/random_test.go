package check_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/golden"
)

// TestOddServersInFull checks servers that are thrown together at random: names that nearly
// fit, copies that were kept, needs in every direction, rules, settings, versions and values.
func TestOddServersInFull(t *testing.T) {
	r := rand.New(rand.NewPCG(17, 5))
	names := []string{"bell", "bells", "Bell", "mist_bells", "mistbells", "mist_bells-main", "bell.old", "lamp", "lmap", "lamp-1.2", "tide pool", "tide", "rope", "rope~", "hull-v3"}
	values := []string{"slots 3", "slots 0", "slots 99", "slots", "mode calm", "mode Storm", "mode gale", "cheats yes", "weather builtins on", "map harbour", "map nowhere", "depth 3", "port 9000"}
	versions := []string{"", "", "", "1.0", "2.5", "3", "0.9-rc1", "what"}
	var all strings.Builder
	for round := range 120 {
		w := world{"start.conf": "", "maps/harbour.map": "m"}
		name := func() string { return names[r.IntN(len(names))] }
		var start strings.Builder
		for range 2 + r.IntN(9) {
			switch n := name(); r.IntN(12) {
			case 0, 1:
				fmt.Fprintf(&start, "let %s\n", values[r.IntN(len(values))])
			case 2, 3:
				fmt.Fprintf(&start, "# use %s\n", n)
			case 4:
				fmt.Fprintf(&start, "use \"%s\"\n", n)
			case 5:
				fmt.Fprintf(&start, "use  %s # why\r\n", n)
			case 6:
				fmt.Fprintf(&start, "use %s %s\n", n, name())
			default:
				fmt.Fprintf(&start, "use %s\n", strings.ReplaceAll(n, " ", ""))
			}
		}
		w["start"] = start.String()
		for range 2 + r.IntN(8) {
			n := name()
			at := "mods/" + n
			switch r.IntN(12) {
			case 0:
				w[at+"/readme"] = ""
				continue
			case 1:
				at += "/" + name()
			case 2:
				w[at+"/about.toml"] = "name = "
				w[at+"/main"] = ""
				continue
			case 3:
				w[at+"/main"] = "x = = 1\n"
				continue
			}
			var about strings.Builder
			if r.IntN(3) == 0 {
				fmt.Fprintf(&about, "name = '%s'\n", strings.ToLower(name()))
			}
			if v := versions[r.IntN(len(versions))]; v != "" {
				fmt.Fprintf(&about, "release = '%s'\n", v)
			}
			for _, key := range []string{"needs", "needs", "likes", "hates", "gives", "reads", "before"} {
				if r.IntN(5) > 0 || strings.Contains(about.String(), key) {
					continue
				}
				of := name()
				switch {
				case key == "reads":
					of = []string{"depth", "slots", "mode"}[r.IntN(3)]
				case key == "gives":
					of = []string{"light", "rope"}[r.IntN(2)]
				case (key == "needs" || key == "likes") && r.IntN(3) == 0:
					of = []string{"light", "lamp >=2", "bell <1", "rope >=1 <3", "lamp ~~2"}[r.IntN(5)]
				}
				fmt.Fprintf(&about, "%s = ['%s']\n", key, of)
			}
			for _, of := range []string{"server", "loader", "side"} {
				if r.IntN(8) == 0 {
					fmt.Fprintf(&about, "%s = '%s'\n", of, map[string]string{"server": ">=2", "loader": "<9", "side": "client"}[of])
				}
			}
			w[at+"/about.toml"] = about.String()
			if r.IntN(8) > 0 {
				w[at+"/main"] = ""
			}
			if r.IntN(10) == 0 {
				w[at+"/keys/k.key"] = n
			}
		}
		var rules []rule.Rule
		for _, kind := range []rule.Kind{rule.Before, rule.After, rule.Apart, rule.Needs, rule.Reads, rule.First, rule.Last, rule.Stay} {
			if r.IntN(7) == 0 {
				one := rule.Rule{Kind: kind, Mod: name(), Because: "it was so"}
				if kind.Pair() {
					one.Other = name()
				}
				rules = append(rules, one)
			}
		}
		facts := check.Surroundings{Builds: map[dialect.BuildOf]check.Build{}, Running: r.IntN(9) == 0}
		for _, of := range []dialect.BuildOf{dialect.BuildServer, dialect.BuildLoader, dialect.BuildRuntime} {
			if v := versions[r.IntN(len(versions))]; v != "" {
				facts.Builds[of] = check.Build{Version: v}
			}
		}
		source := pier
		if round%3 > 0 {
			source = strings.Replace(pier, "[start]", "[load]\n"+fates([]string{"", "fails", "passed over"}[round%3])+"[start]", 1)
		}
		in := w.input(t, source)
		in.Rules, facts.FS = rules, in.FS
		fmt.Fprintf(&all, "== %d: %q, rules %v\n%s\n", round, start.String(), rules, report(check.Run(survey.Take(in), facts)))
	}
	golden.Check(t, "odd.txt", all.String())
}
