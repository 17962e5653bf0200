package teach_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/core/teach"
	"initium/internal/core/text"
	"initium/internal/insist"
)

func TestFindPrefix(t *testing.T) {
	for name, test := range map[string]struct {
		lines      string
		want, time string
	}{
		"none":         {"opening the doors\nready\n", "", ""},
		"time only":    {"10:00:01 opening\n10:00:02 the doors are open\n10:00:03 ready now\n", "{time} ", "15:04:05"},
		"brackets":     {"[10:00:01.250] [main/INFO]: opening\n[10:00:02.001] [main/WARN]: a door sticks\n[10:00:03.900] [pump 2/INFO]: ready\n[10:00:04.900] [main/INFO]: ready\n[10:00:05.900] [main/INFO]: done: ok\n", "[{time}] [{source}/{level}]: ", "15:04:05.000"},
		"date, level":  {"2026-01-02 10:00:01: INFO[Main]: opening\n2026-01-02 10:00:02: ERROR[Main]: no key\n2026-01-02 10:00:03: INFO[Main]: ready: yes\n2026-01-02 10:00:03: INFO[Main]: it is\n", "{time}: {level}[{source}]: ", "2006-01-02 15:04:05"},
		"bars":         {"10:00:01 | moor | dusk\n10:00:02 | moor | night\n10:00:03 | lamp | lit\n10:00:04 | moor | night has fallen\n10:00:05 | moor | a\n10:00:06 | moor | b\n", "{time} | {source} | ", "15:04:05"},
		"few untimed":  {"a banner\n10:00:01 one\n10:00:02 two\n10:00:03 three four\n10:00:04 five\n", "{time} ", "15:04:05"},
		"braces":       {"{10:00:01} one\n{10:00:02} two\n", "{{{time}}} ", "15:04:05"},
		"weight first": {"INFO  [10:00:01] one\nERROR [10:00:02] two: three\nWARN  [10:00:03] two: four\n", "{level} [{time}] ", "15:04:05"},
		"filled up":    {"2026-01-02 10:00:01,250 [INFO ] [a.b.C] one\n2026-01-02 10:00:02,250 [ERROR] [a.b.C] two\n2026-01-02 10:00:02,250 [INFO ] [a.D] three: a\n", "{time} [{level}] [{source}] ", "2006-01-02 15:04:05,000"},
		"no time":      {"[info] one\n[info] two\n    at x\n[error] three: four\n", "[{level}] ", ""},
		"words":        {"info: one\nwarning: two\ninfo: three four\n", "{level}: ", ""},
		"constant":     {"[02/Jan/2026:10:00:01] {main} INFO  one\n[02/Jan/2026:10:00:02] {main} WARN  two\n[02/Jan/2026:10:00:02] {main} INFO  three\n", "[{time}] {{{source}}} {level} ", "02/Jan/2006:15:04:05"},
		"counted":      {"[2026.01.02-10.00.01:250][  0]LogInit: one\n[2026.01.02-10.00.01:251][  0]LogNet: two\n[2026.01.02-10.00.01:252][  1]LogInit: three\n[2026.01.02-10.00.01:252][  1]LogInit: four\n", "[{time}][{any}]{source}: ", ""},
		"service":      {"Jan  2 10:00:01 host kiln[12]: one\nJan  2 10:00:02 host kiln[12]: two: three\n", "{time} {any}[{source}]: ", "Jan _2 15:04:05"},
		"elapsed":      {"[    0.250000] one\n[   10.250000] two\n", "[{time}] ", ""},
		"words of it":  {"10:00:01 INIT loading a\n10:00:02 DONE loading b\n10:00:02 c is in\n10:00:02 ready\n", "{time} ", "15:04:05"},
		"keys": {"ts=2026-01-02T10:00:01Z lvl=info comp=core msg=\"one\"\nts=2026-01-02T10:00:02Z lvl=warn comp=mods msg=\"two\" a=b\nts=2026-01-02T10:00:03Z lvl=info comp=core msg=\"three\" c=d\n",
			`ts={time} lvl={level} comp={source} msg="`, "2006-01-02T15:04:05Z07:00"},
		"an object": {"{\"time\":\"2026-01-02T10:00:01.5Z\",\"level\":\"INFO\",\"msg\":\"one\"}\n{\"time\":\"2026-01-02T10:00:02.5Z\",\"level\":\"ERROR\",\"msg\":\"two\",\"a\":1}\n",
			`{{"time":"{time}","level":"{level}","msg":"`, "2006-01-02T15:04:05.0Z07:00"},
		"a list":       {"- one\n- two\n- three\n", "", ""},
		"many sources": {"10:00:01 a: x\n10:00:02 b: x\n10:00:03 c: x\n10:00:04 d: x\n10:00:05 e: x\n10:00:06 f: x\n", "{time} ", "15:04:05"},
	} {
		got := teach.FindPrefix(strings.Split(strings.TrimSuffix(test.lines, "\n"), "\n"))
		insist.That(t, got.Pattern == test.want && got.Time == test.time, "%s: %q, %q; want %q, %q", name, got.Pattern, got.Time, test.want, test.time)
	}
}

func TestPropose(t *testing.T) {
	prefix, err := text.ParsePattern("{time} {level} ", nil)
	insist.OK(t, err)
	const at = "10:00:01 I "
	for name, test := range map[string]struct {
		means    dialect.Meaning
		examples string // LINE = MOD
		counter  string
		want     string
	}{
		"name and time":      {"loaded", "glaze_basics fired in 0.8 s = glaze_basics", "", "{mod} fired in {s} s"},
		"milliseconds":       {"loaded", "took on glaze 1.2 (14ms) = glaze", "", "took on {mod} {any} ({ms}ms)"},
		"quotes":             {"loaded", `Mod "blue glaze" is in = blue glaze`, "", "Mod {mods} is in"},
		"path":               {"loaded", "plugin loaded from /srv/lib/tide.so. = tide", "", "plugin loaded from {path}."},
		"file":               {"failed", "cannot open tide.so: wrong magic = tide", "", "cannot open {path}: {reason}"},
		"part of a word":     {"loaded", "tidewater and tide are in = tide", "", "tidewater and {mod} are in"},
		"reason":             {"failed", "blue_glaze cracked: no cobalt (7) = blue_glaze", "", "{mod} cracked: {reason}"},
		"twice in the line":  {"loading", "loading tide from mods dir tide = tide", "", "loading {mod} from mods dir {any}"},
		"ready with a time":  {"ready", "done (3.2s)! for help, type help", "", "done ({any})! for help, type help"},
		"two times":          {"loaded", "glaze: 12ms of 300ms = glaze", "", "{mod}: {ms}ms of {any}"},
		"ready with a port":  {"ready", "kiln is hot on port 9000", "", "kiln is hot on port {any}"},
		"stopped":            {"stopped", "giving up: no fuel", "", "giving up: {reason}"},
		"two examples":       {"loaded", "added the red clay = red\nadded the blue sand = blue", "", "added the {mod} {any}"},
		"braces":             {"loaded", "{tide} is in = tide", "", "{{{mod}}} is in"},
		"a counter-example":  {"loaded", "tide is in pool 1 = tide", "rock is in pool 2", "{mod} is in pool 1"},
		"told by its weight": {"loaded", "tide is in = tide", "E rock is in", "{mod} is in"},
		"too wide":           {"loaded", "tide = tide", "", "error: too little"},
		"nothing in common":  {"loaded", "tide came = tide\nwelcome rock = rock", "", "error: too little"},
		"not there":          {"loaded", "tide came = rock", "", "error: does not name"},
		"a blank":            {"loaded", "the blue glaze is in = blue glaze", "", "error: has a blank"},
		"no difference":      {"loaded", "tide is in = tide", "rock is in", "error: not the line"},
	} {
		l := teach.Lesson{Means: test.means}
		for _, e := range strings.Split(test.examples, "\n") {
			line, mod, _ := strings.Cut(e, " = ")
			l.Examples = append(l.Examples, teach.Example{Line: at + line, Mod: mod})
		}
		if test.counter != "" {
			line := at + test.counter
			if rest, ok := strings.CutPrefix(test.counter, "E "); ok {
				line = "10:00:01 E " + rest
			}
			l.Counter = []string{line}
		}
		rule, err := teach.Propose(prefix, l)
		if want, ok := strings.CutPrefix(test.want, "error: "); ok {
			insist.Fails(t, fmt.Sprintf("%s: %q", name, rule.Line), err, want)
			continue
		}
		insist.That(t, err == nil && rule.Line == test.want, "%s: %q, %v; want %q", name, rule.Line, err, test.want)
		insist.That(t, (rule.Level != "") == (name == "told by its weight"), "%s: level %q", name, rule.Level)
	}
	prefix, err = text.ParsePattern("[{source}/{level}] ", nil)
	insist.OK(t, err)
	for _, test := range []struct{ said, counter, level, source string }{
		{"[main/info] done tide", "[main/warn] done early", "info", ""},
		{"[main/info] done tide", "[chat/info] done early", "", "main"},
		{"[main/info] done tide", "[main/info] done early", "", ""},
	} {
		rule, err := teach.Propose(prefix, teach.Lesson{Means: dialect.MeansLoaded, Examples: []teach.Example{{Line: test.said, Mod: "tide"}}, Counter: []string{test.counter}})
		insist.That(t, rule.Level == test.level && rule.Source == test.source && (err == nil) == (test.level+test.source != ""), "%s, and not %s: %+v, %v", test.said, test.counter, rule, err)
	}
	if _, err := teach.Propose(nil, teach.Lesson{}); !errors.Is(err, teach.ErrNoExample) {
		t.Errorf("without an example: %v", err)
	}
}

func TestTry(t *testing.T) {
	lines := []string{"a is in", "b is out", "c is in", "is in"}
	got, err := teach.Try(nil, dialect.Rule{Line: "{mod} is in"}, lines)
	insist.That(t, err == nil && len(got) == 2 && got[1].Number == 3 && got[1].Mods[0] == "c", "%+v, %v", got, err)
	insist.Same(t, "words", strings.Join(teach.Words(nil, "took on glaze 1.2 from x/tide.so (blue)", func(s string) bool { return s == "tide" || s == "blue" }), " "), "tide blue took on glaze from x tide.so")
}

// FuzzPropose: whatever the line, a rule that is proposed can be read and fits it.
func FuzzPropose(f *testing.F) {
	f.Add("Mod \"tide\" is in after 3 ms", "tide", "loaded")
	f.Add("x/tide.so: {wrong} magic 0x1f", "tide", "failed")
	f.Fuzz(func(t *testing.T, line, mod, means string) {
		rule, err := teach.Propose(nil, teach.Lesson{Means: dialect.Meaning(means), Examples: []teach.Example{{Line: line, Mod: mod}}})
		if err != nil {
			return
		}
		pattern, err := text.ParsePattern(rule.Line, nil)
		insist.Need(t, err == nil, "%q gives %q: %v", line, rule.Line, err)
		insist.Need(t, teach.Fits(nil, &rule, pattern, line), "%q does not fit %q", rule.Line, line)
	})
}

// FuzzFindPrefix: what is found can be read.
func FuzzFindPrefix(f *testing.F) {
	f.Add("[10:00:01] [a/INFO]: x\n[10:00:02] [b/INFO]: y")
	f.Add("2026-01-02T10:00:01Z x {a}\n2026-01-02T10:00:02Z y {b}")
	f.Fuzz(func(t *testing.T, log string) {
		p := teach.FindPrefix(strings.Split(log, "\n"))
		if p.Pattern == "" {
			return
		}
		if _, err := text.ParsePattern(p.Pattern, nil); err != nil {
			t.Fatalf("%q gives %q: %v", log, p.Pattern, err)
		}
		proof.Opening([]byte(log))
	})
}
