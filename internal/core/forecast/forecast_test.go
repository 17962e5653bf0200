package forecast_test

import (
	_ "embed"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/survey"
	"initium/internal/insist"
)

//go:embed testdata/family.toml
var family string

// foretell writes a forecast down: the order, then all that is not confirmed and
// not merely off.
func foretell(t *testing.T, orderBy, load, start string, facts forecast.Facts, mods ...string) string {
	t.Helper()
	d, err := dialect.Parse("family.toml", []byte(strings.NewReplacer("ORDER", orderBy, "LOAD", load).Replace(family)))
	insist.OK(t, err)
	fsys := fstest.MapFS{"srv/start": {Data: []byte("use " + strings.Join(strings.Fields(start), "\nuse ") + "\n")}}
	for _, m := range mods {
		name, about, _ := strings.Cut(m, ":")
		if !strings.HasPrefix(name, "base/") && !strings.HasPrefix(name, "always/") {
			name = "mods/" + name
		}
		fsys["srv/"+name+"/about"] = &fstest.MapFile{Data: []byte(strings.ReplaceAll(strings.TrimSpace(about), "; ", "\n") + "\n")}
		if !strings.Contains(about, "hollow") {
			fsys["srv/"+name+"/main"] = &fstest.MapFile{}
		}
		if i := strings.Index(name, "+/"); i > 0 {
			fsys["srv/"+name[:i+1]+"/pack"] = &fstest.MapFile{}
		}
	}
	f := forecast.Of(survey.Take(survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: fsys}), facts)
	words := []string{strings.Join(f.Order, " ")}
	for _, m := range f.Mods {
		if m.Outcome != forecast.Confirmed && m.Cause != forecast.Off {
			word := fmt.Sprintf("%s %s %s", m.Name, m.Outcome, m.Cause)
			if m.Of != "" {
				word += " " + m.Of
			}
			words = append(words, word)
		}
		if m.Outcome != forecast.Confirmed && m.Because == "" {
			t.Errorf("%s is %s for no reason", m.Name, m.Outcome)
		}
	}
	return strings.Join(words, "; ")
}

func TestListed(t *testing.T) {
	for name, test := range map[string]struct {
		load, start string
		mods        []string
		want        string
	}{
		"in order":            {"", "a b", []string{"a:", "b: needs = a"}, "a b"},
		"late":                {"", "b a", []string{"a:", "b: needs = a"}, "a; b failed need-late a"},
		"late and borne":      {"need_late = 'loads'", "b a", []string{"a:", "b: needs = a"}, "b a"},
		"absent":              {"", "b x", []string{"b: needs = y"}, "; b failed need-absent y; x failed absent"},
		"absent stops":        {"absent = 'stops'", "x a", []string{"a:"}, "; x failed absent; a not loaded server-stops x"},
		"a chain":             {"", "a b c", []string{"a: needs = x", "b: needs = a", "c: needs = b"}, "; a failed need-absent x; b failed need-fails a; c failed need-fails b"},
		"a second try":        {"", "b a b", []string{"a:", "b: needs = a"}, "a b; b failed need-late a"},
		"twice":               {"twice = 'fails'", "a a", []string{"a:"}, "a; a failed twice"},
		"twice stops":         {"twice = 'stops'", "a b a c", []string{"a:", "b:", "c:"}, "a b; a failed twice; c not loaded server-stops a"},
		"twice stops, later":  {"twice = 'stops later'", "a b a c", []string{"a:", "b:", "c:"}, "a b c; a failed twice"},
		"once, and off":       {"twice = 'stops'", "a b", []string{"a:", "b:"}, "a b"},
		"absent stops later":  {"absent = 'stops later'", "x a", []string{"a:"}, "a; x failed absent"},
		"hollow":              {"", "a b", []string{"a: hollow = 1", "b: needs = a"}, "; a failed no-main; b failed need-fails a"},
		"hollow stops":        {"no_main = 'stops'", "a b", []string{"a: hollow = 1", "b:"}, "; a failed no-main; b not loaded server-stops a"},
		"hollow and passed":   {"no_main = 'passed over'", "a", []string{"a: hollow = 1"}, "; a not loaded no-main"},
		"conflict":            {"", "a b", []string{"a: hates = b", "b:"}, "a; b failed conflict a"},
		"what it brings":      {"", "a", []string{"a: brings = b", "b:"}, "a b"},
		"brings one anew":     {"", "b c a", []string{"a: brings = b", "b: needs = c", "c:"}, "c a b; b failed need-late c"},
		"brings what is lost": {"", "a b x c", []string{"a: brings = x", "b: hollow = 1", "c:"}, "a c; b failed no-main; x failed absent"},
		"lost, then stops":    {"no_main = 'stops'", "a b x", []string{"a: brings = x", "b: hollow = 1"}, "a; b failed no-main; x failed absent"},
		"the server's own":    {"", "a", []string{"base/core:", "a: needs = core"}, "core a"},
		"what always loads":   {"", "a", []string{"always/x: needs = gone", "a:"}, "a; x failed need-absent gone"},
		"manifest":            {"", "a", []string{"a: what is this"}, "; a failed unreadable"},
		"manifest, and borne": {"unreadable = 'loads'", "a", []string{"a: what is this"}, "a"},
		"a name":              {"", "a", []string{"a: name = A"}, "; a failed absent"},
	} {
		insist.Same(t, name, foretell(t, "listed", test.load, test.start, forecast.Facts{}, test.mods...), test.want)
	}
}

func TestServerOrder(t *testing.T) {
	for name, test := range map[string]struct {
		load, start string
		mods        []string
		want        string
	}{
		"needs first":      {"", "c a b", []string{"a: needs = b", "b:", "c: needs = a"}, "b a c"},
		"by name":          {"ties = 'name'", "c a b", []string{"a:", "b:", "c:"}, "a b c"},
		"optional first":   {"", "a b", []string{"a: uses = b", "b:"}, "b a"},
		"a circle":         {"", "a b c", []string{"a: needs = b", "b: needs = a", "c:"}, "c; a failed need-fails b; b failed circle a"},
		"a circle stops":   {"circle = 'stops'", "a b c", []string{"a: needs = b", "b: needs = a", "c:"}, "; a failed circle b; b not loaded server-stops a; c not loaded server-stops a"},
		"queue":            {"walk = 'ready-queue'", "c a b", []string{"a:", "b:", "c: needs = a"}, "a b c"},
		"stack":            {"walk = 'ready-stack'", "c a b", []string{"a:", "b:", "c: needs = a"}, "b a c"},
		"stack by place":   {"walk = 'ready-stack'\nties = 'place'", "z a", []string{"base/m:", "always/n:", "z:", "a:", "pack+/x:"}, "z a n m"},
		"ready, wanting":   {"walk = 'ready-stack'", "a b c", []string{"a: needs = x", "b: needs = a", "c:"}, "c; a failed need-absent x; b failed need-fails a"},
		"ready, optional":  {"walk = 'ready-stack'", "a b", []string{"a: needs = x", "b: uses = a"}, "; a failed need-absent x; b failed need-fails a"},
		"ready, circle":    {"walk = 'ready-stack'", "a b c", []string{"a: needs = b", "b: needs = a", "c:"}, "c; a failed circle b; b failed circle a"},
		"ready, absent":    {"walk = 'ready-stack'", "a x", []string{"a:"}, "a; x failed absent"},
		"two of a name":    {"walk = 'ready-stack'\ntwins = 'stops'", "a b", []string{"p+/a:", "q+/a:", "b:"}, "; a failed twins; b not loaded server-stops a"},
		"hides one of its": {"walk = 'ready-stack'\nties = 'place'", "m", []string{"base/k:", "base/m:", "m: needs = k"}, "k m"},
		"a bundle's":       {"", "x", []string{"pack+/x:"}, "x"},
	} {
		insist.Same(t, name, foretell(t, "server", test.load, test.start, forecast.Facts{}, test.mods...), test.want)
	}
}

// Where the port is opened last, the mods load before the server stops.
func TestPortAtTheEnd(t *testing.T) {
	insist.Same(t, "", foretell(t, "listed", "port = 'loads'", "a", forecast.Facts{PortBusy: "another"}, "a:"), "a")
}

func TestFacts(t *testing.T) {
	for name, test := range map[string]struct {
		facts forecast.Facts
		want  string
	}{
		"a lesson":      {forecast.Facts{Lessons: map[string]string{"a": "it broke"}}, "core; a failed lesson; b not loaded server-stops a"},
		"stops":         {forecast.Facts{Stops: []string{"no licence"}}, "; a not loaded never-starts; b not loaded never-starts"},
		"cannot start":  {forecast.Facts{Missing: true}, "; a not loaded never-starts; b not loaded never-starts"},
		"port":          {forecast.Facts{PortBusy: "another"}, "; a not loaded never-starts; b not loaded never-starts"},
		"none loads":    {forecast.Facts{Passed: []string{"mods are off"}}, "; a not loaded passed-over; b not loaded passed-over"},
		"none is found": {forecast.Facts{Unfound: []string{"no game"}}, "; a failed absent; b failed absent"},
	} {
		insist.Same(t, name, foretell(t, "listed", "", "a b", test.facts, "base/core:", "a:", "b: needs = core"), test.want)
	}
}

// A mod that loads without a word is confirmed by the server's own list, if it comes
// to be asked.
func TestQuietMods(t *testing.T) {
	const quiet = "[console]\nlist = 'list'\n[[console.rule]]\nmeans = 'loaded'\nline = '* {mod}'\n"
	for name, test := range map[string]struct {
		console, start string
		want           forecast.Outcome
	}{"nobody asks": {"", "q", forecast.NotLoaded}, "it is asked": {quiet, "q", forecast.Confirmed}, "it stops first": {quiet, "q stop", forecast.NotLoaded}} {
		d, err := dialect.Parse("q.toml", []byte("name = 'q'\n[[place]]\npath = '{dir}/mods'\nspeaks = 'voice'\nmain = 'main'\n[[registration]]\nname = 's'\nfile = '{dir}/start'\nshape = 'line'\nline = 'use {mod}'\n[load]\nno_main = 'stops'\n"+
			test.console+"[start]\ncommand = ['x']\n[[log.rule]]\nmeans = 'ready'\nline = 'up'\n"))
		insist.OK(t, err)
		fsys := fstest.MapFS{"srv/start": {Data: []byte("use " + strings.Join(strings.Fields(test.start), "\nuse ") + "\n")}, "srv/mods/q/main": {}, "srv/mods/stop/voice": {}}
		f := forecast.Of(survey.Take(survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: fsys}), forecast.Facts{})
		if m := f.Find("q"); m == nil || m.Outcome != test.want || m.Outcome != forecast.Confirmed && m.Cause != forecast.Silent {
			t.Errorf("%s: %+v", name, m)
		}
	}
}

// A server that goes through all mods and then stops because of one is foretold to stop.
func TestStopsInTheEnd(t *testing.T) {
	for load, want := range map[string]string{"absent = 'stops later'": "a; x failed absent", "twice = 'loads'": "a; x failed absent"} {
		insist.Same(t, load, foretell(t, "listed", load, "x a", forecast.Facts{}, "a:"), want)
	}
	for load, stops := range map[string]bool{"absent = 'stops later'": true, "absent = 'fails'": false, "twice = 'stops'": false} {
		d, err := dialect.Parse("family.toml", []byte(strings.NewReplacer("ORDER", "listed", "LOAD", load).Replace(family)))
		insist.OK(t, err)
		fsys := fstest.MapFS{"srv/start": {Data: []byte("use x\nuse a\n")}, "srv/mods/a/about": {Data: []byte("\n")}, "srv/mods/a/main": {}}
		f := forecast.Of(survey.Take(survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: fsys}), forecast.Facts{})
		insist.Same(t, load+": the server stops", f.Stops != "", stops)
	}
}
