package forecast_test

import (
	_ "embed"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/survey"
	"initium/internal/golden"
	"initium/internal/insist"
)

// whole is a family that declares all that a forecast looks at.
//
//go:embed testdata/whole.toml
var whole string

// TestOddServersInFull foretells starts of servers that are thrown together at random, for
// every way in which a server goes through its mods and every fate that one may have.
func TestOddServersInFull(t *testing.T) {
	r := rand.New(rand.NewPCG(23, 8))
	names := []string{"ash", "beech", "cedar", "date", "elm", "fir", "gum", "Holly"}
	own := []string{"soil", "rain", "elm"}
	name := func() string { return names[r.IntN(len(names))] }
	fates := []string{"fails", "stops", "passed over", "passed over", "loads", "fails"}
	var all strings.Builder
	for round := range 300 {
		var load strings.Builder
		order := []string{"listed", "server", "server", "server"}[round%4]
		if order == "server" {
			fmt.Fprintf(&load, "walk = %q\n", []string{"needs-first", "ready-queue", "ready-stack"}[round%4-1])
		}
		fmt.Fprintf(&load, "ties = %q\n", []string{"listed", "name", "place"}[r.IntN(3)])
		fields := reflect.TypeFor[dialect.Load]()
		for i := range fields.NumField() {
			if f := fields.Field(i); f.Type == reflect.TypeFor[dialect.Fate]() && r.IntN(3) == 0 {
				of := fates[r.IntN(len(fates))]
				if key := f.Tag.Get("toml"); key == "port" {
					of = []string{"stops", "loads"}[r.IntN(2)]
				}
				fmt.Fprintf(&load, "%s = %q\n", f.Tag.Get("toml"), of)
			}
		}
		source := strings.Replace("order = \""+order+"\"\n"+whole, "[start]", "[load]\n"+load.String()+"[start]", 1)
		d, err := dialect.Parse("family.toml", []byte(source))
		insist.OK(t, err)
		fsys := fstest.MapFS{}
		put := func(path, data string) { fsys["srv/"+path] = &fstest.MapFile{Data: []byte(data)} }
		var start []string
		for range 3 + r.IntN(6) {
			switch n := name(); r.IntN(9) {
			case 0:
				start = append(start, "# use "+n)
			case 1:
				start = append(start, "let depth 3")
			case 2:
				start = append(start, "use nowhere")
			default:
				start = append(start, "use "+n)
			}
		}
		put("start", strings.Join(start, "\n")+"\n")
		var mods []string
		for range 6 + r.IntN(7) {
			n, place := name(), "mods"
			switch r.IntN(10) {
			case 0:
				n, place = own[r.IntN(len(own))], "base"
			case 1:
				place = "always"
			case 2:
				place = "more"
			}
			if r.IntN(5) == 0 {
				bundle := place + "/" + []string{"wood", "field"}[r.IntN(2)]
				put(bundle+"/pack", "")
				place = bundle
			}
			var about []string
			of := func(key string, odds int, more ...string) {
				if r.IntN(odds) == 0 {
					list := []string{name()}
					if r.IntN(3) == 0 {
						list = append(list, name())
					}
					if len(more) > 0 && r.IntN(2) == 0 {
						list = []string{more[r.IntN(len(more))]}
					}
					about = append(about, fmt.Sprintf("%s = ['%s']", key, strings.Join(list, "', '")))
				}
			}
			of("needs", 2, "ash >=2", "beech <2", "soil", "shade", "nowhere")
			of("likes", 4, "cedar", "shade", "rain")
			of("hates", 9)
			of("gives", 8, "shade")
			of("brings", 9)
			of("reads", 9, "depth")
			if r.IntN(3) == 0 {
				about = append(about, fmt.Sprintf("release = '%d.%d'", 1+r.IntN(3), r.IntN(3)))
			}
			if r.IntN(12) == 0 {
				about = append(about, "server = '>=2'")
			}
			if r.IntN(14) == 0 {
				about = append(about, "name = '"+strings.ToUpper(n)+"'")
			}
			if r.IntN(20) == 0 {
				about = append(about, "needs = = 3")
			}
			put(place+"/"+n+"/about.toml", strings.Join(about, "\n"))
			if r.IntN(10) > 0 {
				put(place+"/"+n+"/main", "")
			}
			mods = append(mods, place+"/"+n+" "+strings.Join(about, "; "))
		}
		facts := forecast.Facts{Builds: map[dialect.BuildOf]string{}, Lessons: map[string]string{}}
		if r.IntN(3) > 0 {
			facts.Builds[dialect.BuildServer] = []string{"1.9", "2.1"}[r.IntN(2)]
		}
		if r.IntN(6) == 0 {
			facts.Lessons[name()] = "it rotted"
		}
		said := ""
		switch r.IntN(24) {
		case 0:
			facts.PortBusy, said = "another", "port"
		case 1:
			facts.Unfound, said = []string{"the folder is not named"}, "unfound"
		case 2:
			facts.Passed, said = []string{"it is set to load none"}, "passed"
		case 3:
			facts.Stops, said = []string{"a file is wanting"}, "stops"
		case 4:
			facts.Missing, said = true, "missing"
		}
		f := forecast.Of(survey.Take(survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: fsys}), facts)
		fmt.Fprintf(&all, "== %d: %s, %s %s %v %v\n%s\n  %s\n-> %s; %s\n", round, order, strings.ReplaceAll(strings.TrimSpace(load.String()), "\n", ", "), said, facts.Builds, facts.Lessons, strings.Join(start, ", "), strings.Join(mods, "\n  "), strings.Join(f.Order, " "), f.Stops)
		for _, m := range f.Mods {
			if m.Cause == forecast.Off {
				fmt.Fprintf(&all, "%s: off\n", m.Name)
			} else {
				fmt.Fprintf(&all, "%s: %s, %s %s: %s\n", m.Name, m.Outcome, m.Cause, m.Of, m.Because)
			}
			if (m.Outcome == forecast.Confirmed) != slices.Contains(f.Order, m.Name) && m.Cause != forecast.Silent && !(m.Outcome == forecast.Failed && order == "listed" || m.Cause == forecast.Twice) {
				t.Errorf("%d: %s is %s, and those that load are %v", round, m.Name, m.Outcome, f.Order)
			}
			if m.Outcome != forecast.Confirmed && m.Because == "" || f.Find(m.Name) == nil {
				t.Errorf("%d: %s is %s for no reason", round, m.Name, m.Outcome)
			}
		}
		insist.That(t, len(f.Order) == len(slices.Compact(slices.Sorted(slices.Values(f.Order)))), "%d: one loads twice: %v", round, f.Order)
	}
	golden.Check(t, "odd.txt", all.String())
}
