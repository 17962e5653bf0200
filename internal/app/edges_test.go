package app_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/core/teach"
	"initium/internal/insist"
)

// Values that are none are refused before a server is adopted.
func TestValuesThatAreNone(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": ""})
	for set, want := range map[string]string{
		"level=":           "the value of level is empty; leave it out",
		"level=a\nb":       "the value of level is more than one line",
		"level=a\rb":       "the value of level is more than one line",
		"level=a\x00b":     "the value of level is more than one line",
		"port=0":           `port: "0" is no port`,
		"port=-1":          `port: "-1" is no port`,
		"port=65536":       `port: "65536" is no port`,
		"port=x":           `port: "x" is no port`,
		"none=1":           `kiln takes no value "none"; it takes: program, share, port, level`,
		"port=1":           "",
		"port=65535":       "",
		"level=a b\tc":     "",
		"program=sh":       "",
		"program=./kiln x": "",
	} {
		name, value, _ := strings.Cut(set, "=")
		r, err := a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k", Set: map[string]string{name: value}})
		if want == "" && (err != nil || !strings.HasSuffix(r.Set[name], strings.TrimPrefix(value, "./")) || filepath.IsAbs(r.Set[name]) != strings.Contains(value, "/")) || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%q: %v, %v", set, r.Set, err)
		}
	}
	for path, want := range map[string]string{"none": "no such file", "kiln.list": "it is a file; name the server's folder"} {
		insist.Fails(t, path, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: filepath.Join(dir, path), Dialect: "kiln"})), want)
	}
	insist.Fails(t, "a name that is none", insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "a/b"})), "choose one with --as")
}

// The versions that mods are compared with come from a setting, from a document, from the
// first line that holds one, or from a line of a shape.
func TestVersions(t *testing.T) {
	said := func(build string, files map[string]string) string {
		t.Helper()
		all := map[string]string{"kiln.list": "set build 7.1\nfire a\n", "mods/a/need.json": `{"fits": "<1"}`}
		for name, data := range files {
			all[name] = data
		}
		a, dir := world(t, all)
		put(t, filepath.Join(a.Home.DialectDir(), "kiln.toml"), kiln+"[[manifest]]\nfile = \"need.json\"\nformat = \"json\"\nserver = \"fits\"\nversions = \"comparators\"\n[[build]]\nof = \"server\"\n"+build)
		insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k", Set: map[string]string{"level": "1", "program": "/bin/sh"}})))
		look, err := a.Look("k")
		insist.OK(t, err)
		for _, f := range look.Findings {
			if f.Code == "made-for-another" || strings.HasPrefix(string(f.Code), "build") || strings.HasPrefix(string(f.Code), "version") {
				return strings.ReplaceAll(f.Message, dir, "/srv")
			}
		}
		return ""
	}
	for build, want := range map[string]string{
		"registration = \"list\"\nkey = \"build\"":                  "and this is 7.1",
		"registration = \"list\"\nkey = \"none\"":                   "none is not set in the list",
		`file = "{dir}/v"` + "\nline = \"kiln {version} of {any}\"": "and this is 4.5",
		`file = "{dir}/v"`:     "and this is 2",
		`file = "{dir}/none"`:  "no such file",
		`file = "{dir}/blank"`: "no version is in what was found",
		`file = "{dir}/blank"` + "\nline = \"kiln {version}\"":                   "no version is in what was found",
		`file = "{dir}/v.json"` + "\nformat = \"json\"\nkey = \"about.version\"": "and this is 3.2",
		`file = "{dir}/v.json"` + "\nformat = \"json\"\nkey = \"about.none\"":    "about.none is not there",
		`file = "{dir}/v"` + "\nformat = \"json\"\nkey = \"about.none\"":         "line 1",
		`command = ["/bin/echo", "v9.8.7-beta"]`:                                 "and this is v9.8.7-beta",
		`command = ["{dir}/v.sh"]`:                                               "and this is 6.6",
		`command = ["{dir}/none"]`:                                               "none",
	} {
		if got := said(build, map[string]string{"v": "build 2 of it\nkiln x\n  kiln 4.5 of iron\nkiln 4.6 of tin\n", "blank": "no number\n\n", "v.json": `{"about": {"version": "3.2"}}`, "v.sh": "#!/bin/sh\necho kiln\necho 'kiln 6.6'\n"}); !strings.Contains(got, want) {
			t.Errorf("%s: %q, want %q", build, got, want)
		}
	}
}

// A version command is asked again only when its program has changed.
func TestVersionIsAskedOnce(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "", "asks": "", "kiln": "#!/bin/sh\n", "v.sh": "#!/bin/sh\necho x >>asks\necho 'kiln 6.6'\n"})
	put(t, filepath.Join(a.Home.DialectDir(), "kiln.toml"), kiln+"[[build]]\nof = \"server\"\ncommand = [\"{dir}/v.sh\"]\n")
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k"})))
	asks := func() int {
		for range 3 {
			insist.OK(t, insist.Err(a.Look("k")))
		}
		data, err := os.ReadFile(filepath.Join(dir, "asks"))
		insist.OK(t, err)
		return bytes.Count(data, []byte("x"))
	}
	insist.Same(t, "asked", asks(), 1)
	insist.OK(t, os.Chtimes(filepath.Join(dir, "v.sh"), time.Now(), time.Now().Add(-time.Hour)))
	insist.Same(t, "asked", asks(), 2)
}

// A server that prints nothing is looked through for a log that grows meanwhile; what cannot
// be one is passed over, and the largest is told of.
func TestLogElsewhere(t *testing.T) {
	a, dir := running(t, `sleep 1; mkdir -p logs/trap.log
echo 'kiln is lit' >logs/small.log
printf '\000b is no text, though it would be the largest of all that there are here, by far and away\n' >logs/zero.log
printf 'a\000b and much more of it, so that it is the largest of all there is\n' >logs/data.log
echo '10:00:01 it is lit, and says so at some length' >logs/now.txt
echo 'not a log, though it is longer than all the others that are, by far and away' >logs/words.txt
: >logs/empty.log
ln -s now.txt logs/link.log
`+polite)
	old := filepath.Join(dir, "logs/old.log")
	put(t, old, strings.Repeat("10:00:01 an old one\n", 20))
	insist.OK(t, os.Chtimes(old, time.Now(), time.Now().Add(-time.Hour)))
	var told []string
	p, err := a.Prove(t.Context(), "k", app.ProveOptions{Within: 6 * time.Second, OnStep: func(s app.Step) {
		if !slices.Contains(told, s.Elsewhere) {
			told = append(told, s.Elsewhere)
		}
	}})
	insist.That(t, err == nil && slices.Equal(told, []string{"", "logs/now.txt"}), "told of %q, %v", told, err)
	if want := "it printed nothing, but wrote " + dir + "/logs/now.txt meanwhile; if that is its log, initium teach log oven " + dir + "/logs/now.txt --own says so to the dialect"; p == nil || strings.ReplaceAll(p.Hint, "'", "") != want {
		t.Errorf("the hint is %q", p.Hint)
	}
}

// Of a server that prints nothing and writes nothing, and of one whose lines no rule fits.
func TestHints(t *testing.T) {
	for script, want := range map[string]string{
		": >${0%/*}/empty.log; exit 1\n": "it printed nothing, and nothing in its folder that looks like a log",
		"exit 1\n":                       "it printed nothing, and nothing in its folder that looks like a log was written meanwhile",
		"echo who knows; exit 1\n":       "no rule of the dialect oven fits a line of its log; initium teach log oven ",
		"echo in a; echo x; exit 1\n":    "the last that it wrote is line 2: x",
	} {
		a, _ := running(t, script)
		p, err := a.Prove(t.Context(), "k", app.ProveOptions{})
		insist.That(t, err == nil && (want == "") == (p.Hint == "") && strings.HasPrefix(p.Hint, want), "%q: %+v, %v", script, p, err)
	}
}

// A mod that fails by its own fault, though nothing foretold it, is foretold to fail as long
// as its files and those that it stands on are the same; when it loads after all it is not.
func TestLessonsOfStarts(t *testing.T) {
	a, dir := bakery(t, "a", "b: echo 'crumbs in b: burnt'", "c: echo 'out c: by others'")
	file := filepath.Join(a.Home.DialectDir(), "oven.toml")
	data, err := os.ReadFile(file)
	insist.OK(t, err)
	put(t, file, string(data)+"[[log.rule]]\nmeans = \"failed\"\nline = \"crumbs in {mod}: {reason}\"\nown = true\n")
	foretold := func() string {
		look, err := a.Look("k")
		insist.OK(t, err)
		var words []string
		for _, m := range look.Forecast.Mods {
			words = append(words, fmt.Sprintf("%s %s %s", m.Name, m.Outcome, m.Cause))
		}
		return strings.Join(words, ", ")
	}
	prove := func() {
		insist.OK(t, insist.Err(a.Prove(t.Context(), "k", app.ProveOptions{})))
	}
	all := "a confirmed loads, b confirmed loads, c confirmed loads"
	insist.Same(t, "at first", foretold(), all)
	prove()
	learned := "a confirmed loads, b failed lesson, c not loaded server-stops"
	insist.Same(t, "after a start", foretold(), learned)
	prove()
	insist.Same(t, "after another", foretold(), learned)
	// What failed in one place may load in another, and what was learned of it there goes.
	moved := func(mod, before string) {
		insist.OK(t, insist.Err(a.Change(t.Context(), "k", nil, lineup.Change{Op: lineup.OpMove, Mod: mod, Where: lineup.Where{Before: before}})))
	}
	moved("b", "a")
	insist.Same(t, "in another place", foretold(), "b confirmed loads, a confirmed loads, c confirmed loads")
	moved("a", "b")
	insist.Same(t, "in its old place", foretold(), learned)
	// Somebody mends what it stands on elsewhere, and it loads; its files are the same.
	put(t, filepath.Join(dir, "run.sh"), "#!/bin/sh\necho 'in a'\necho 'in b'\necho 'in c'\necho hot\n"+polite)
	prove()
	insist.Same(t, "once it has loaded", foretold(), all)
}

// Logs that were turned are read in the order of the days that they state, wherever in them
// that is; if one states none they are read as they are named.
func TestOldestFirst(t *testing.T) {
	a, dir := world(t, nil)
	put(t, filepath.Join(dir, "new"), "no time here\n10:00:02 no day\n2024-05-02 10:00:00 fired b\n2024-05-02 10:00:01 hot\n")
	put(t, filepath.Join(dir, "old"), "2024-05-01 10:00:00 fired a\n")
	put(t, filepath.Join(dir, "none"), "10:00:00 fired c\n")
	for files, want := range map[string]string{"new old": "old new", "old new": "old new", "new none old": "new none old", "none": "none"} {
		var names []string
		for _, f := range strings.Fields(files) {
			names = append(names, filepath.Join(dir, f))
		}
		r, err := a.Read(t.Context(), names, app.ReadOptions{Dialect: "kiln"})
		insist.OK(t, err)
		var got []string
		for _, f := range r.Files {
			got = append(got, filepath.Base(f))
		}
		insist.That(t, strings.Join(got, " ") == want && r.Proof.Log == r.Files[len(r.Files)-1], "%s are read as %v, the log is %s", files, got, r.Proof.Log)
	}
	for files, want := range map[string]string{"old": "no rule of the dialect kiln fits any of its lines", "fits": ""} {
		put(t, filepath.Join(dir, "fits"), "hot")
		r, err := a.Read(t.Context(), []string{filepath.Join(dir, files)}, app.ReadOptions{Dialect: "kiln"})
		insist.That(t, err == nil && r.Proof.Hint == want && r.Proof.Ready == (files == "fits"), "%s: %q, ready %v, %v", files, r.Proof.Hint, r.Proof.Ready, err)
	}
	var empty bytes.Buffer
	if r, err := a.Read(t.Context(), []string{"-"}, app.ReadOptions{Dialect: "kiln", In: &empty}); err != nil || r.Proof.Hint != "" {
		t.Errorf("of nothing: %+v, %v", r, err)
	}
}

// What is owed when a rule is taught are the mods that neither it nor another rule speaks of.
func TestOwed(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "fire a\nfire b\nfire c\nfire d\nset password hush-hush-hush\n", "mods/a/x": "", "mods/b/x": "", "mods/c/x": "", "mods/d/x": "", "log": "a burns\nb melts\nc melts, hush-hush-hush\nd hides\nhot\n"})
	put(t, filepath.Join(a.Home.DialectDir(), "kiln.toml"), kiln+"[[log.rule]]\nmeans = \"loaded\"\nline = \"{mod} burns\"\n[[log.rule]]\nmeans = \"ignore\"\nline = \"d hides\"\n[[value]]\nname = \"password\"\nregistration = \"list\"\nsecret = true\n")
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k", Dialect: "kiln", Set: map[string]string{"level": "1", "program": "/bin/sh"}})))
	l, err := a.Teach("kiln", filepath.Join(dir, "log"), "k", nil)
	insist.OK(t, err)
	taught, err := l.Propose(teach.Lesson{Means: dialect.MeansLoaded, Examples: []teach.Example{{Line: "b melts", Mod: "b"}}})
	insist.That(t, err == nil && slices.Equal(taught.Mods, []string{"b"}) && slices.Equal(taught.Owed, []string{"c", "d"}), "%+v, %v", taught, err)
	if _, err := l.Propose(teach.Lesson{Means: dialect.MeansLoaded, Examples: []teach.Example{{Line: "c melts, hush-hush-hush", Mod: "c"}}}); err == nil || !strings.Contains(err.Error(), "the line holds a secret") || strings.Contains(err.Error(), "hush") {
		t.Errorf("a line with a secret: %v", err)
	}
	if l.Shown(3) != "c melts, ••••••" || l.Meaning("a burns") != dialect.MeansLoaded || l.Meaning("d hides") != dialect.MeansIgnore || l.Meaning("b melts") != "" {
		t.Errorf("shown %q, meanings %q %q", l.Shown(3), l.Meaning("a burns"), l.Meaning("d hides"))
	}
	for number, want := range map[int]string{0: "the log has no line 0; it has 5", 6: "the log has no line 6; it has 5"} {
		if _, err := l.Line(number); err == nil || err.Error() != want {
			t.Errorf("line %d: %v", number, err)
		}
		insist.That(t, l.Words(number) == nil, "line %d has words", number)
	}
	if words := l.Words(2); len(words) == 0 || words[0] != "b" {
		t.Errorf("words are %q", words)
	}
}

// Every start in the pictures, with when it was.
func TestPicturesOfStarts(t *testing.T) {
	t.Setenv("TZ", "UTC")
	a, dir := running(t, "echo 'in a'; [ -f off ] || echo 'in b'; echo hot\n"+polite)
	insist.Fails(t, "no start yet", insist.Err(a.DrawStart("k")), "was never started here")
	insist.Fails(t, "no start yet", insist.Err(a.DrawTimes("k")), "no start of k was judged yet")
	for i := range 3 {
		if i == 2 {
			put(t, filepath.Join(dir, "off"), "")
		}
		p, err := a.Prove(t.Context(), "k", app.ProveOptions{})
		if err != nil || (p.Verdict == proof.Proved) != (i < 2) {
			t.Fatal(p, err)
		}
	}
	for name, draw := range map[string]func() ([]byte, error){
		"times": func() ([]byte, error) {
			p, err := a.DrawTimes("k")
			if err != nil {
				return nil, err
			}
			var b bytes.Buffer
			err = p.SVG(&b)
			return b.Bytes(), err
		},
		"start": func() ([]byte, error) {
			p, err := a.DrawStart("k")
			if err != nil {
				return nil, err
			}
			var b bytes.Buffer
			err = p.SVG(&b)
			return b.Bytes(), err
		},
	} {
		data, err := draw()
		insist.OK(t, err)
		var words []string
		for _, m := range regexp.MustCompile(`>([^<>\n]+)<`).FindAllSubmatch(data, -1) {
			words = append(words, string(m[1]))
		}
		all := strings.Join(words, "|")
		for _, want := range map[string][]string{"times": {"k: all starts", "3 starts, 2 proved", time.Now().UTC().Format("Jan 2006")}, "start": {"start 3"}}[name] {
			insist.Holds(t, name, all, want)
		}
	}
}

// A mod that loads because of where it is, and is on the list too, is taken away from the
// copy in a search; a line alone would not switch it off.
func TestCulpritThatLoadsAlways(t *testing.T) {
	insist.Long(t)
	a, dir := running(t, `for p in always/*; do [ -f $p/x ] && [ -f $p/bad ] && { echo "gave up: $p sank"; exit 3; }; done
echo 'in a'; echo 'in b'; echo hot
`+polite)
	file := filepath.Join(a.Home.DialectDir(), "oven.toml")
	data, err := os.ReadFile(file)
	insist.OK(t, err)
	put(t, file, strings.Replace(string(data), "[[registration]]", "[[place]]\npath = \"{dir}/always\"\nloads = \"always\"\n[[registration]]", 1)+"[[log.rule]]\nmeans = \"stopped\"\nline = \"gave up: {reason}\"\n")
	put(t, filepath.Join(dir, "always/w/x"), "")
	put(t, filepath.Join(dir, "always/w/bad"), "")
	put(t, filepath.Join(dir, "always/v/x"), "")
	put(t, filepath.Join(dir, "oven.list"), "bake a\nbake b\nbake w\nbake v\n")
	found, err := a.FindCulprits(t.Context(), "k", app.CulpritOptions{Within: 20 * time.Second, Stay: 20 * time.Millisecond})
	insist.That(t, err == nil && slices.Equal(found.Culprits, []string{"w"}) && len(found.Changes) == 1 && found.Changes[0].Op == lineup.OpRemove && found.Cured, "found %+v, %v", found, err)
	if _, err := os.Stat(filepath.Join(dir, "always/w/bad")); err != nil {
		t.Errorf("the server's own: %v", err)
	}
}

func TestStartupsThatCannotBeRead(t *testing.T) {
	dir := t.TempDir()
	for name, want := range map[string]string{"none": "no such file", ".": "is no file"} {
		insist.Fails(t, name, insist.Err(app.StartupText(dir, name)), want)
	}
	insist.OK(t, os.WriteFile(filepath.Join(dir, "long"), make([]byte, app.MaxStartup+5), 0o644))
	if data, err := app.StartupText(dir, "long"); err != nil || len(data) != app.MaxStartup {
		t.Errorf("a long one is read as %d bytes, %v", len(data), err)
	}
}
