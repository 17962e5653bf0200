package teach_test

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/teach"
	"initium/internal/core/text"
	"initium/internal/golden"
	"initium/internal/insist"
)

// Lines of many servers: what rule each meaning makes of each, alone and with a second
// example, what beginnings are found in logs, and in which words of a line a name may be.
func TestProposalsInFull(t *testing.T) {
	prefix, err := text.ParsePattern("{time} {level} ", nil)
	insist.OK(t, err)
	lines := []struct{ line, mod string }{
		{"tide", "tide"}, {"[tide] up", "tide"}, {"tide is in after 3 ms", "tide"}, {"tide is in after 3.5 s (2 of 7)", "tide"}, {"loaded tide v1.2.3 from tide.so in 12ms", "tide"}, {"loaded 'tide', 'rock' and 2 more", "tide"},
		{"mod=tide took=12ms n=3", "tide"}, {"took 12ms, then 0.3s: tide", "tide"}, {"tide_two, tide2, xtide, tide", "tide"}, {"TIDE tide9 atide", "tide"}, {"tide/main.so: no magic: 0x1f", "tide"}, {"cannot take tide in: rock is not there: tide left out", "tide"},
		{"/srv/mods/tide/init:12: wrong word", "tide"}, {"C:\\srv\\mods\\tide\\init.x is read", "tide"}, {"\"tide\" needs \"rock\"", "tide"}, {"tide needs rock, sand", "tide"}, {"{tide} {{x}} is in", "tide"}, {"  tide   is   in", "tide"}, {"é tide ü 日本", "tide"},
		{"3 mods: tide, rock, sand", "rock"}, {"3 mods: rock", "rock"}, {"1/7 rock", "rock"}, {"rock: ", "rock"}, {": rock", "rock"}, {"rock.", "rock"}, {"(rock)", "rock"}, {"rock -> sand", "rock"}, {"rock@1.0+2", "rock"}, {"the rock of ages is 1,250 ms old", "rock"}, {"done in 1m 2s", ""}, {"open on port 9000 after 2.5 s", ""}, {"giving up: rock: broken", ""}, {"", "rock"}, {"tide0 0tide tide is in", "tide"}, {"tideZ Ztide tide is in", "tide"}, {"tidez ztide Atide tideA tide9 is in", "tide"}, {"_tide tide_ étide", "tide"},
	}
	means := []dialect.Meaning{dialect.MeansReady, dialect.MeansLoading, dialect.MeansLoaded, dialect.MeansFailed, dialect.MeansNeeds, dialect.MeansMissing, dialect.MeansStopped, dialect.MeansIgnore, dialect.MeansTold}
	var b strings.Builder
	say := func(what string, l teach.Lesson) {
		for _, m := range means {
			l.Means = m
			rule, err := teach.Propose(prefix, l)
			said := fmt.Sprintf("%q", rule.Line)
			if rule.Level != "" {
				said += " at " + rule.Level
			}
			if err != nil {
				said = err.Error()
			}
			fmt.Fprintf(&b, "%s, %s: %s\n", what, m, said)
		}
	}
	for i, one := range lines {
		first := teach.Example{Line: "10:00:01 I " + one.line, Mod: one.mod}
		say(fmt.Sprintf("%q of %q", one.line, one.mod), teach.Lesson{Examples: []teach.Example{first}})
		if other := lines[(i+1)%len(lines)]; i%4 == 0 {
			say(fmt.Sprintf("%q and %q", one.line, other.line), teach.Lesson{Examples: []teach.Example{first, {Line: "10:00:02 W " + other.line, Mod: other.mod}}})
		}
		if one.mod != "" {
			twin := strings.ReplaceAll(strings.ReplaceAll(one.line, one.mod, "kelp"), "in", "out")
			say(fmt.Sprintf("%q and its twin", one.line), teach.Lesson{Examples: []teach.Example{first, {Line: "10:00:09 I " + twin, Mod: "kelp"}}})
			say(fmt.Sprintf("%q and not its twin", one.line), teach.Lesson{Examples: []teach.Example{first}, Counter: []string{"10:00:09 E " + twin, "10:00:09 I " + strings.ToUpper(one.line)}})
		}
		fmt.Fprintf(&b, "words of %q: %q\n", one.line, teach.Words(prefix, first.Line, func(s string) bool { return s == "tide" || s == "sand" || s == "rock@1" }))
	}
	for _, form := range []string{
		"[T] [L] [S]: M", "[T] [L/S]: M", "[T] [S/L] M", "T L S: M", "T L  M", "L T M", "L M", "[L] M", "(T) <L> {S} M", "T | L | S | M", "T - L - S - M", "T -- M", "T, L, M", "T\tL\tM", "T [L] S - M", "[T][L]M", "[T] [  1] M", "T host S[12]: M",
		"time=T level=L source=S msg=\"M\"", "time=\"T\" level=L msg=M", "{\"t\":\"T\",\"l\":\"L\",\"m\":\"M\"}", "{\"l\":\"L\",\"t\":\"T\",\"m\":\"M\"}", "<L>T M", "#T# M", "S L M", "S: M", "[S] M", "T  M", "T: M", "M",
	} {
		var log []string
		for i, message := range []string{"one", "two three", "four: five", "six", "seven is in", "eight", "nine: ten", "eleven"} {
			level, source := []string{"INFO", "WARN ", "ERROR"}[i%3], []string{"core", "net", "core"}[i%3]
			log = append(log, strings.NewReplacer("T", fmt.Sprintf("10:00:0%d", i), "L", level, "S", source, "M", message).Replace(form))
		}
		p := teach.FindPrefix(log)
		fmt.Fprintf(&b, "a log of %q begins with %q, %q\n", form, p.Pattern, p.Time)
		log = append([]string{"a banner", ""}, log...)
		if again := teach.FindPrefix(log); again != p {
			fmt.Fprintf(&b, "  below a banner with %q, %q\n", again.Pattern, again.Time)
		}
	}
	golden.Check(t, "proposals.txt", b.String())
}
