package check_test

import (
	"bytes"
	_ "embed"
	"image"
	"image/png"
	"strings"
	"testing"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/insist"
)

// pier is a family with everything that check can look at.
//
//go:embed testdata/pier.toml
var pier string

type pierRow struct {
	world world
	want  string
	rules []rule.Rule
}

func pierRows() map[string]pierRow {
	var small bytes.Buffer
	if err := png.Encode(&small, image.NewGray(image.Rect(0, 0, 2, 2))); err != nil {
		panic(err)
	}
	about := func(words string) world {
		return world{"start": "use a\n", "mods/a/about.toml": words, "mods/a/main": ""}
	}
	b := "name = 'b'\nrelease = '1.4'\n"
	with := func(w world, more ...string) world {
		for i := 0; i < len(more); i += 2 {
			w[more[i]] = more[i+1]
		}
		return w
	}
	needed := func(needs, b string) world {
		return with(about(needs), "start", "use b\nuse a\n", "mods/b/about.toml", b, "mods/b/main", "")
	}
	return map[string]pierRow{
		"all is well":          {needed("needs = ['b >=1.2']", b), "", nil},
		"an old need":          {needed("needs = ['b >=2']", b), "need-version a@2", nil},
		"a range in words":     {needed("needs = ['b >=']", b), "~range-unreadable a", nil},
		"itself":               {about("name = 'a'\nneeds = ['a']"), "need-itself a", nil},
		"a circle":             {needed("needs = ['b']", "needs = ['a']"), "need-circle a@2", nil},
		"a need that fails":    {needed("needs = ['b']", "needs = ['c']"), "need-missing b@1; need-fails a@2", nil},
		"conflict":             {needed("hates = ['b']", b), "conflict a@2", nil},
		"conflict with others": {needed("hates = ['b >2']", b), "", nil},
		"the same work":        {needed("gives = ['x']", "gives = ['x']"), "~same-work a@2", nil},
		"met by another name":  {needed("needs = ['x']", "gives = ['x']"), "", nil},
		"asked":                {needed("before = ['b']", b), "~asked-late b@1", nil},
		"another server":       {with(about("server = '>=2'"), "version", "1.9"), "made-for-another a", nil},
		"needs another server": {with(about("needs = ['quay-server >=2']"), "version", "1.9"), "made-for-another a", nil},
		"needs this server":    {with(about("needs = ['quay-server >=1.5']"), "version", "1.9"), "", nil},
		"another loader":       {with(about("loader = 'winch'"), "loader", "crank"), "made-for-another a", nil},
		"the same loader":      {with(about("loader = 'crank'"), "loader", "crank"), "", nil},
		"another side":         {about("side = 'server'"), "side-wrong a@1", nil},
		"unset":                {about("reads = ['depth']"), "setting-unset a@1", nil},
		"set too late":         {with(about("reads = ['depth']"), "start", "use a\nlet depth 3\n"), "setting-late a@1", nil},
		"a key":                {with(about(""), "mods/a/keys/a.key", "k"), "key-missing a@1", nil},
		"another key":          {with(about(""), "mods/a/keys/a.key", "k", "keys/a.key", "z"), "key-differs a@1", nil},
		"the key":              {with(about(""), "mods/a/keys/a.key", "k", "keys/a.key", "k"), "", nil},
		"broken script":        {with(about(""), "mods/a/main", "x = = 1"), "script-broken a@1", nil},
		"mistyped":             {with(about(""), "start", "ues a\n"), "line-mistyped a@1", nil},
		"mistyped, and not":    {with(about(""), "start", "ues a\nuse a\nues b\n"), "", nil},
		"a blank":              {with(about(""), "start", "use \"a \"\n"), "name-blank a @1", nil},
		"refused":              {with(about(""), "start", "let slots 65\nlet mode mild\n"), "setting-refused@1; setting-refused@2", nil},
		"no number":            {with(about(""), "start", "let slots many\n"), "setting-refused@1", nil},
		"risky":                {with(about(""), "start", "let cheats Yes\n"), "~setting-risky@1", nil},
		"undone":               {with(about(""), "start", "let builtins on\nlet weather off\n"), "~setting-undone@1", nil},
		"overruled":            {with(about(""), "start", "let mode calm\nlet mode storm\n"), "~setting-overruled@1", nil},
		"said twice":           {with(about(""), "start", "let mode calm\nlet mode calm\n"), "", nil},
		"template":             {with(about(""), "start", "let title CHANGE-ME\n"), "~setting-template@1", nil},
		"no such map":          {with(about(""), "start", "let map hill\n"), "setting-names-nothing@1", nil},
		"the map":              {with(about(""), "start", "let map hill\n", "maps/hill.map", ""), "", nil},
		"table":                {with(about(""), "table.xml", "<a>\n<b>\n</a>\n"), "data-unreadable@3", nil},
		"icon":                 {with(about(""), "icon.png", small.String()), "~icon-size", nil},
		"no icon":              {with(about(""), "icon.png", "gif"), "~icon-unreadable", nil},
		"engine":               {with(about(""), "engine", "2.9\n"), "runtime-unfit", nil},
		"byte-order mark":      {with(about(""), "start", "\xef\xbb\xbfuse a\n"), "encoding-wrong@1", nil},
		"merge":                {with(about(""), "start", "use a\n<<<<<<< mine\n=======\n>>>>>>> theirs\n"), "merge-unfinished@2", nil},
		"a kept copy":          {with(about(""), "mods/a.bak/main", ""), "~leftover a.bak", nil},
		"start file":           {with(about(""), "start.conf/", ""), "", nil},
		"a rule on order":      {needed("", b), "~rule-broken b@1", []rule.Rule{{Kind: rule.After, Mod: "b", Other: "a"}}},
		"a rule on company":    {needed("", b), "rule-apart a@2", []rule.Rule{{Kind: rule.Apart, Mod: "a", Other: "b"}}},
		"a rule on needs":      {about(""), "need-missing a@1", []rule.Rule{{Kind: rule.Needs, Mod: "a", Other: "z"}}},
		"a rule on settings":   {about(""), "setting-unset a@1", []rule.Rule{{Kind: rule.Reads, Mod: "a", Other: "z"}}},
	}
}

func TestMoreFindings(t *testing.T) {
	for name, test := range pierRows() {
		if _, ok := test.world["start.conf"]; !ok {
			test.world["start.conf"] = ""
		}
		in := test.world.input(t, pier)
		in.Rules = test.rules
		facts := check.Surroundings{FS: in.FS, Builds: map[dialect.BuildOf]check.Build{}}
		for of, file := range map[dialect.BuildOf]string{dialect.BuildRuntime: "engine", dialect.BuildServer: "version", dialect.BuildLoader: "loader"} {
			if v, ok := test.world[file]; ok {
				facts.Builds[of] = check.Build{Version: strings.TrimSpace(v)}
			}
		}
		var left []check.Finding
		for _, f := range check.Run(survey.Take(in), facts).Findings {
			if f.Code != "never-reached" {
				left = append(left, f)
			}
		}
		insist.Same(t, name, codes(left, false), test.want)
	}
}

func TestStartFindings(t *testing.T) {
	w := world{"start": ""}
	in := w.input(t, pier)
	facts := check.Surroundings{FS: in.FS, PortBusy: "something", PortFree: 9, Sharing: []string{"other"}, Builds: map[dialect.BuildOf]check.Build{dialect.BuildServer: {Problem: "it is gone"}}}
	report := check.Run(survey.Take(in), facts)
	insist.Same(t, "", codes(report.Findings, true), "start-file-missing; port-busy; .version-unknown")
	insist.That(t, strings.Contains(report.Findings[1].Remedy, "9 is free") && report.Forecast.Stops != "", "%+v, stops %q", report.Findings[1], report.Forecast.Stops)
	facts.PortBusy = ""
	w["start.conf"] = ""
	insist.Same(t, "", codes(check.Run(survey.Take(w.input(t, pier)), check.Surroundings{Sharing: []string{"other"}}).Findings, false), "~port-shared")
	in.Dialect.Start.Directory = "/nowhere"
	insist.Same(t, "", codes(check.Run(survey.Take(in), check.Surroundings{FS: in.FS}).Findings, false), "directory-missing")
}

// What is accepted stays accepted until the facts are other ones, in whatever words they are
// told; what an earlier Initium wrote down, as long as the words are the same.
func TestAccepted(t *testing.T) {
	w := world{"start": "let cheats yes\n", "start.conf": ""}
	found := func(facts check.Surroundings) check.Finding {
		return check.Run(survey.Take(w.input(t, pier)), facts).Findings[0]
	}
	f := found(check.Surroundings{})
	for name, test := range map[string]struct {
		a    check.Accepted
		want string
	}{
		"by its facts":      {check.Accepted{Code: f.Code, Facts: f.Facts, Message: "in other words", Because: "a test server"}, "a test server"},
		"without a reason":  {check.Accepted{Code: f.Code, Facts: f.Facts}, "accepted"},
		"of earlier":        {check.Accepted{Code: f.Code, Message: f.Message, Because: "a test server"}, "a test server"},
		"of earlier, other": {check.Accepted{Code: f.Code, Message: "in other words"}, ""},
		"of other facts":    {check.Accepted{Code: f.Code, Facts: "0123", Message: f.Message}, ""},
		"of another kind":   {check.Accepted{Code: check.CodeLeftover, Facts: f.Facts}, ""},
		"about another mod": {check.Accepted{Code: f.Code, Mod: "x", Facts: f.Facts}, ""},
	} {
		w["start"] = "let cheats yes\n"
		facts := check.Surroundings{Accepted: []check.Accepted{test.a}}
		if got := found(facts); got.Accepted != test.want || (check.Count([]check.Finding{got}, check.Warning) == 0) != (test.want != "") {
			t.Errorf("%s: %+v", name, got)
		}
		w["start"] = "let cheats YES\n"
		if got := found(facts); got.Accepted != "" {
			t.Errorf("%s: still accepted: %+v", name, got)
		}
	}
}

// Rules that are against each other fail no mod; a rule about the first place is
// told once, however many stand in its way.
func TestRulesAgainstEachOther(t *testing.T) {
	w := world{"start": "use a\nuse b\nuse c\n", "start.conf": ""}.mods("a", "b", "c")
	for want, rules := range map[string][]rule.Rule{
		"need-circle": {{Kind: rule.Before, Mod: "a", Other: "b"}, {Kind: rule.Before, Mod: "b", Other: "a"}},
		"rule-broken": {{Kind: rule.First, Mod: "c", Because: "it lights the way"}},
	} {
		in := w.input(t, pier)
		in.Rules = rules
		report := check.Run(survey.Take(in), check.Surroundings{})
		insist.That(t, len(report.Findings) == 1 && string(report.Findings[0].Code) == want && report.Findings[0].Severity == check.Warning, "%+v", report.Findings)
		if want == "rule-broken" && report.Findings[0].Message != "c has to load first (your rule: it lights the way), and does not" {
			t.Errorf("%q", report.Findings[0].Message)
		}
	}
}
