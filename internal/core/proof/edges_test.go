package proof_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/insist"
)

// A secret is shown nowhere, wherever the server prints it.
func TestSecretsAreHidden(t *testing.T) {
	d, err := dialect.Parse("t.toml", []byte(strings.Replace(talking, "[console]", `[[log.rule]]
means = "stopped"
line = "giving up: {reason}"
[[log.rule]]
means = "stopped"
line = "lost {any}"
[[log.rule]]
means = "failed"
line = "torn {mod}: {reason}"
[[log.rule]]
means = "failed"
line = "script {path}:"
next = true
fatal = true
[console]`, 1)))
	insist.OK(t, err)
	const secret = "geheim77"
	for name, lines := range map[string][]string{
		"a reason":             {"torn a: no key " + secret},
		"a reason on the next": {"broken a:", "no key " + secret},
		"a fatal one":          {"script /srv/mods/a/x:", "no key " + secret},
		"a stop":               {"giving up: no key " + secret},
		"a stop's own line":    {"lost " + secret},
		"a fact":               {"named Harbour " + secret + ", map " + secret},
		"a port":               {"open on " + secret},
		"a mod's line":         {"done b " + secret, "begin " + secret + "x"},
		"a trace":              {"torn a: x", "  at " + secret, "  at y"},
		"trouble":              {"an error about b: " + secret},
		"a trace of trouble":   {"an error about b", "\tat " + secret, secret + "Error: x"},
		"a reply":              {"! b: " + secret, "* c", "1 in all " + secret},
	} {
		one := 1
		var shown []string
		r := proof.NewReader(d, "/srv", registered("a", "b", "c"), func(l proof.Line) { shown = append(shown, l.Text) })
		r.Notice, r.Secrets, r.Facts = true, []string{secret}, map[string]string{"port": secret + "1", "map": "x" + secret}
		r.Ask(name == "a reply")
		for _, l := range lines {
			prefix := "10:00:00 [m] "
			if l[0] == ' ' || l[0] == '\t' || strings.HasPrefix(l, secret) {
				prefix = ""
			}
			r.Feed([]byte(prefix+l+"\n"), 0)
		}
		r.Ask(false)
		p := r.Judge(proof.End{Exit: &one})
		r.Explain(p)
		data, err := json.Marshal(map[string]any{"proof": p, "remarks": r.Remarks(), "lines": shown})
		insist.That(t, err == nil && !strings.Contains(string(data), secret), "%s: the secret is told in %s, %v", name, data, err)
		insist.That(t, strings.Contains(string(data), "••••"), "%s: nothing is hidden in %s", name, data)
	}
}

func TestJudgeFurther(t *testing.T) {
	exit := func(status int) proof.End { return proof.End{Exit: &status} }
	for name, test := range map[string]struct {
		log    string
		end    proof.End
		want   string // what sum says
		reason string // of the proof
		mod    string // a mod, and why it is as it is
	}{
		"no reason given":                     {"broken: b: \nloaded a in 1 ms\nopen\n", proof.End{}, "not proved; a confirmed 1; b failed (the server said so and gave no reason)", "1 of 2", "b: the server said so and gave no reason"},
		"loaded, and failed without a reason": {"all of: a b\nopen\nbroken: b:\n", proof.End{}, "not proved; a confirmed; b failed (the server said so and gave no reason)", "1 of 2", ""},
		"loaded after it failed":              {"broken: b: torn\nall of: a b\nopen\n", proof.End{}, "not proved; a confirmed; b failed (torn)", "1 of 2", "b: torn; it loaded all the same after that"},
		"failed twice":                        {"broken: b: first\nbroken: b: second\nall of: a\nopen\n", proof.End{}, "not proved; a confirmed; b failed (first)", "1 of 2", "b: first"},
		"silent while it is up":               {"all of: a\nopen\n", proof.End{}, "not proved; a confirmed; b silent", "1 of 2 registered mods is not", "b: the server is up and said nothing about it"},
		"silent when it stopped":              {"all of: a\nopen\n", exit(0), "not proved; a confirmed; b silent", "right after it was ready, with exit status 0", "b: the server stopped before it said anything about it"},
		"silent before it is ready":           {"all of: a\n", proof.End{}, "not proved; a confirmed; b silent", "has not said", "b: nothing has been said about it"},
		"stopped once it was ready":           {"all of: a b\nopen\n", proof.End{Stopped: true}, "not proved; a confirmed; b confirmed", "before it had stayed up for long enough", ""},
		"the first reason of two":             {"giving up: one\ngiving up: two\n", exit(3), "not proved; a silent; b silent", "exit status 3: one", ""},
		"no reason for the stop":              {"giving up: \n", exit(3), "not proved; a silent; b silent", "exit status 3: giving up:", ""},
		"a fatal script":                      {"script /srv/mods/a/x:\nfirst\nscript /srv/mods/b-folder/y:\nsecond\n", exit(1), "not proved; a failed (first); b failed (second)", "exit status 1: first", ""},
		"fatal after it said why":             {"giving up: said\nscript /srv/mods/a/x:\nlater\n", exit(1), "not proved; a failed (later); b silent", "exit status 1: said", ""},
		"a failure of another kind":           {"broken: b: x\ngiving up: y\n", exit(1), "not proved; a silent; b failed (x)", "exit status 1: y", ""},
		"two are not confirmed":               {"open\n", proof.End{}, "not proved; a silent; b silent", "2 of 2 registered mods are not confirmed", ""},
		"what is not registered fails":        {"all of: a b\nbroken: ghost: x\nopen\n", proof.End{}, "not proved; a confirmed; b confirmed; ghost failed (x)", "ghost failed", ""},
		"ready twice":                         {"open\nopen\nall of: a b\n", proof.End{}, "proved; a confirmed; b confirmed", "", ""},
		"a limit that came too late":          {"open\nall of: a b\n", proof.End{Limit: time.Second}, "proved; a confirmed; b confirmed", "", ""},
	} {
		p := read(t, test.log, test.end)
		if got := sum(p); got != test.want || !strings.Contains(p.Reason, test.reason) || (test.reason == "") != (p.Reason == "") {
			t.Errorf("%s: %s (%s)\nwant %s (%s)", name, got, p.Reason, test.want, test.reason)
		}
		if mod, why, ok := strings.Cut(test.mod, ": "); ok {
			m := p.Find(mod)
			got := m.Reason
			if m.Against != "" {
				got += "; " + m.Against
			}
			insist.Same(t, fmt.Sprintf("%s: %s", name, mod), got, why)
		}
		for _, m := range p.Mods {
			insist.That(t, m.Evidence != nil, "%s: the evidence of %s is no list", name, m.Name)
		}
	}
	p := read(t, "b wants x, 'y'\nb wants z\nall of: a\nopen\n", proof.End{})
	if m := p.Find("b"); fmt.Sprint(m.Wanted) != "[y z]" {
		t.Errorf("b wants %q", m.Wanted)
	}
	p = read(t, "all of: b, spare\nloaded a in 5 ms\nall of: b\nopen\n", proof.End{})
	insist.That(t, fmt.Sprint(p.Order) == "[b spare a]" && p.Count(proof.Confirmed) == 2 && p.Count(proof.Unlisted) == 1, "they loaded in the order %v: %s", p.Order, sum(p))
}

// The mod that began last and has not ended is the one that is loading; what is not
// registered is owed by nobody.
func TestStatusFurther(t *testing.T) {
	r := proof.NewReader(parse(t), "/srv", append([]proof.Expected{{Name: "c", Registered: true}, {Name: "d", Registered: true}}, expected...), nil)
	status := func(at time.Duration, log string) string {
		r.Feed([]byte(log), at)
		s := r.Status()
		return fmt.Sprintf("%v %d %d %s", s.Owed, s.Done, s.Failed, s.Now)
	}
	for i, step := range []struct{ log, want string }{
		{"", "[c d a b] 0 0 "},
		{"begin d\n", "[c d a b] 0 0 d"},
		{"begin a\n", "[c d a b] 0 0 a"},
		{"begin spare\nbegin core\n", "[c d a b] 0 0 a"},
		{"loaded a in 1 ms\n", "[c d b] 1 0 d"},
		{"broken: b: x\nloaded b in 2 ms\n", "[c d] 2 1 d"},
		{"broken: spare: x\n", "[c d] 2 1 d"},
		{"loaded d in 1 ms\nloaded c in 1 ms\n", "[] 4 1 "},
	} {
		insist.Same(t, fmt.Sprintf("after %q", step.log), status(time.Duration(i)*time.Second, step.log), step.want)
	}
}

// Of many lines about a mod the first are kept, and the last. A line counts from when it
// began, under the number that it has in the whole log.
func TestEvidenceIsBounded(t *testing.T) {
	r := proof.NewReader(parse(t), "/srv", expected, nil)
	r.From(100)
	for i := range 40 {
		r.Feed(fmt.Appendf(nil, "loaded a in %d ms\n", i), 0)
	}
	r.Feed([]byte("loaded b"), 10*time.Millisecond)
	r.Feed([]byte(" in 5 ms\nopen\nbegin spare\n"), 90*time.Millisecond)
	p := r.Judge(proof.End{})
	a, b := p.Find("a"), p.Find("b")
	if len(a.Evidence) != 16 || a.Evidence[0].Line != 101 || a.Evidence[15].Text != "loaded a in 39 ms" || *a.LoadMS != 39 || r.Lines() != 143 || r.Fitted() != 43 {
		t.Errorf("%d pieces, %+v, %d lines, %d fitted", len(a.Evidence), a.Evidence[15], r.Lines(), r.Fitted())
	}
	insist.That(t, *b.EndedMS == 10 && *b.BeganMS == 5 && p.ReadyAfterMS == 90, "b began at %v and ended at %v, ready after %d", *b.BeganMS, *b.EndedMS, p.ReadyAfterMS)
	if e := a.Best(); e.Line != 140 || e.Where() != "log line 140" {
		t.Errorf("the best evidence is %+v, %s", e, e.Where())
	}
	// One that has only begun has a beginning and no end; one that took longer than there was time began at once.
	r = proof.NewReader(parse(t), "/srv", expected, nil)
	r.Feed([]byte("begin a\nloaded b in 900 ms\n"), 40*time.Millisecond)
	p = r.Judge(proof.End{})
	if a := p.Find("a"); a.BeganMS == nil || *a.BeganMS != 40 || a.EndedMS != nil || a.LoadMS != nil {
		t.Errorf("a: %+v", a)
	}
	if b := p.Find("b"); *b.BeganMS != 0 || *b.EndedMS != 40 {
		t.Errorf("b began at %v", *b.BeganMS)
	}
	r.Feed([]byte("broken: a: torn\n"), 70*time.Millisecond)
	if a := r.Judge(proof.End{}).Find("a"); *a.BeganMS != 40 || *a.EndedMS != 70 || a.LoadMS != nil {
		t.Errorf("after it failed, a: %+v", a)
	}
}

// A line is read up to a length, whatever pieces it comes in, and counts as one.
func TestLongestLine(t *testing.T) {
	for over, want := range []proof.Outcome{proof.Confirmed, proof.Silent} {
		line := "all of: a, "
		line += strings.Repeat("x", proof.MaxLine-len(line)-2+over) + " b"
		for _, piece := range []int{1 << 30, 1000, proof.MaxLine, proof.MaxLine - 1, proof.MaxLine + 1} {
			r := proof.NewReader(parse(t), "/srv", expected, func(proof.Line) {})
			for rest := line + "\nopen\n"; rest != ""; {
				n := min(piece, len(rest))
				r.Feed([]byte(rest[:n]), 0)
				rest = rest[n:]
			}
			p := r.Judge(proof.End{})
			if p.Find("b").Outcome != want && !(over == 1 && piece == 1<<30) || r.Lines() != 2 || !p.Ready || p.Find("a").Outcome != proof.Confirmed {
				t.Errorf("%d bytes too many, in pieces of %d: b is %s, %d lines", over, piece, p.Find("b").Outcome, r.Lines())
			}
		}
	}
}

// A reply that has no line to end with is taken to be whole.
func TestReplyWithoutAnEnd(t *testing.T) {
	d, err := dialect.Parse("l.toml", []byte(strings.Replace(talking, "end = \"{any} in all\"\n", "", 1)))
	insist.OK(t, err)
	r := proof.NewReader(d, "/srv", registered("a", "b"), nil)
	r.Feed([]byte("10:00:00 [m] done a\n10:00:00 [m] done b\n10:00:00 [m] open on 1\n"), 0)
	r.Ask(true)
	r.Feed([]byte("10:00:00 [m] hello\n"), 0)
	r.Ask(false)
	if p := r.Judge(proof.End{}); p.Verdict != proof.Proved {
		t.Errorf("a reply that names nothing counts as a list: %s", sum(p))
	}
	r.Ask(true)
	r.Feed([]byte("10:00:00 [m] * a\n"), 0)
	insist.That(t, r.Whole() && !r.Answered(), "whole %v, answered %v", r.Whole(), r.Answered())
	r.Ask(false)
	if p := r.Judge(proof.End{}); sum(p) != "not proved; a confirmed; b failed (the server's own list does not name it)" {
		t.Errorf("after the reply: %s", sum(p))
	}
	r = proof.NewReader(talk(t), "/srv", registered("a"), nil)
	r.Ask(true)
	insist.That(t, !r.Whole(), "a reply that did not come is whole")
}

// Who says that a reply is over has to be the one who gives it: a player does not end it early.
func TestEndOfAReplyIsTheServers(t *testing.T) {
	for held, want := range map[string]string{
		"":                     "not proved; a confirmed; b failed (the server's own list does not name it)", // nothing tells who says it
		"end_source = \"m\"\n": "proved; a confirmed; b confirmed",
	} {
		d, err := dialect.Parse("l.toml", []byte(strings.Replace(talking, "end = \"{any} in all\"\n", "end = \"{any} in all\"\n"+held, 1)))
		insist.OK(t, err)
		r := proof.NewReader(d, "/srv", registered("a", "b"), nil)
		r.Feed([]byte("10:00:00 [m] done a\n10:00:00 [m] done b\n10:00:00 [m] open on 1\n"), 0)
		r.Ask(true)
		r.Feed([]byte("10:00:00 [m] * a\n10:00:00 [chat] one for all, all in all\n"), 0)
		if !r.Answered() {
			r.Feed([]byte("10:00:00 [m] * b\n10:00:00 [m] 2 in all\n"), 0)
		}
		r.Ask(false)
		insist.Same(t, held, sum(r.Judge(proof.End{})), want)
	}
}

// A later start in one log is judged alone: nothing of the earlier counts.
func TestStartsAreKeptApart(t *testing.T) {
	r := proof.NewReader(talk(t), "/srv", registered("a", "b"), nil)
	r.Notice = true
	feed := func(lines ...string) {
		for _, l := range lines {
			r.Feed([]byte("10:00:00 [m] "+l+"\n"), time.Second)
		}
	}
	feed("named One, map north", "begin a", "done a", "done b", "done ghost", "an error of b", "open on 1")
	insist.Same(t, "", r.Starts(), 1)
	feed("begin a")
	p := r.Judge(proof.End{})
	if r.Starts() != 2 || sum(p) != "not proved; a silent; b silent" || p.Ready || p.Told != nil || len(r.Remarks()) != 0 || len(p.Order) != 0 {
		t.Errorf("%d starts: %s, ready %v, told %v, %d remarks", r.Starts(), sum(p), p.Ready, p.Told, len(r.Remarks()))
	}
	feed("done a", "done b", "open on 1", "done a")
	if p := r.Judge(proof.End{}); r.Starts() != 3 || sum(p) != "not proved; a confirmed; b silent" {
		t.Errorf("%d starts: %s", r.Starts(), sum(p))
	}
}

// Of what is registered where nobody can read it nothing is proved, nor where nothing is and
// something loads.
func TestUnreadIsNotProved(t *testing.T) {
	for want, places := range map[string][]string{"": nil, "not all that is registered is known: x, line 1: torn": {"x, line 1: torn"}, "not all that is registered is known: x, line 1: torn; and 2 more places": {"x, line 1: torn", "y", "z"}} {
		r := proof.NewReader(talk(t), "/srv", registered("a"), nil)
		r.Unread = places
		r.Feed([]byte("10:00:00 [m] done a\n10:00:00 [m] open on 1\n"), 0)
		if p := r.Judge(proof.End{}); p.Reason != want || (p.Verdict == proof.Proved) != (want == "") {
			t.Errorf("%q: %s, %q", places, p.Verdict, p.Reason)
		}
	}
	r := proof.NewReader(talk(t), "/srv", nil, nil)
	r.Feed([]byte("10:00:00 [m] open on 1\n"), 0)
	if p := r.Judge(proof.End{}); p.Verdict != proof.Proved {
		t.Errorf("a server without mods: %q", p.Reason)
	}
	r.Feed([]byte("10:00:00 [m] done stray\n"), 0)
	if p := r.Judge(proof.End{}); p.Verdict == proof.Proved || p.Reason != "nothing is registered, and stray loaded all the same" {
		t.Errorf("with nothing registered: %s, %q", p.Verdict, p.Reason)
	}
}

// A mod that is loaded anew takes no other's failure back: a line is made easily. A start that
// speaks of the other does.
func TestFailuresOutliveAReload(t *testing.T) {
	for name, test := range map[string]struct{ lines, want string }{
		"a reload":                   {"done a|broken b:|torn|open on 1|done a", "not proved; a confirmed; b failed (torn; a mod has loaded anew since then, and nothing more was said of this one)"},
		"two":                        {"done a|broken b:|torn|open on 1|done a|open on 1|done a|open on 1", "not proved; a confirmed; b failed (torn; a mod has loaded anew since then, and nothing more was said of this one)"},
		"a start":                    {"done a|broken b:|torn|open on 1|done a|done b|open on 1", "proved; a confirmed; b confirmed"},
		"a start, and another":       {"done a|broken b:|torn|open on 1|done a|done b|open on 1|done a|open on 1", "not proved; a confirmed; b silent"},
		"a failure, then another":    {"done a|broken b:|torn|open on 1|done a|broken b:|worn|open on 1", "not proved; a confirmed; b failed (worn)"},
		"what failed is loaded anew": {"broken a:|torn|done b|open on 1|done b|done a|open on 1", "proved; a confirmed; b confirmed"},
	} {
		r := proof.NewReader(talk(t), "/srv", registered("a", "b"), nil)
		for l := range strings.SplitSeq(test.lines, "|") {
			r.Feed([]byte("10:00:00 [m] "+l+"\n"), 0)
		}
		insist.Same(t, name, sum(r.Judge(proof.End{})), test.want)
	}
}

// In the log of one process a mod that loads again begins no other start: what failed stays
// failed.
func TestSoleStart(t *testing.T) {
	r := proof.NewReader(talk(t), "/srv", registered("a", "b"), nil)
	r.Sole = true
	for _, l := range []string{"done a", "broken b:", "torn", "open on 1", "begin a", "done a"} {
		r.Feed([]byte("10:00:00 [m] "+l+"\n"), 0)
	}
	if p := r.Judge(proof.End{}); r.Starts() != 1 || sum(p) != "not proved; a confirmed 0; b failed (torn)" {
		t.Errorf("%d starts: %s", r.Starts(), sum(p))
	}
}

func TestComparisonInWords(t *testing.T) {
	ms := func(v float64) *float64 { return &v }
	then := &proof.Proof{Order: []string{"a", "b", "c"}, Mods: []proof.Mod{{Name: "a", Outcome: proof.Confirmed, LoadMS: ms(100), Release: "1"}, {Name: "b", LoadMS: ms(100)}, {Name: "c"}, {Name: "gone"}}}
	now := &proof.Proof{Order: []string{"b", "a", "c"}, Mods: []proof.Mod{{Name: "a", Outcome: proof.Failed, LoadMS: ms(200)}, {Name: "b", LoadMS: ms(150)}, {Name: "c", LoadMS: ms(900)}, {Name: "came"}}}
	remark := []proof.Remark{{Line: 4, Text: "a warning 5"}}
	got := strings.Join(proof.Compare(then, now, proof.Known{}, proof.Known{Remarks: remark}).Words(), "\n")
	if want := "came: came\ngone: gone\na: release none, was 1\na: failed, was confirmed\nloaded at another place: b\na: loaded in 200 ms, was 100 ms\nnew in the log, line 4: a warning 5"; got != want {
		t.Errorf("it says\n%s\nwant\n%s", got, want)
	}
	slow := func(a, b float64) int {
		one := func(v float64) *proof.Proof { return &proof.Proof{Mods: []proof.Mod{{Name: "a", LoadMS: ms(v)}}} }
		return len(proof.Compare(one(a), one(b), proof.Known{}, proof.Known{}).Times)
	}
	for _, test := range []struct {
		then, now float64
		want      int
	}{{100, 150, 0}, {100, 151, 1}, {151, 100, 1}, {1000, 1400, 0}, {10, 60, 0}, {10, 61, 1}, {100, 200, 1}, {120, 180, 0}, {120, 181, 1}} {
		insist.That(t, slow(test.then, test.now) == test.want, "%g and %g ms: told %d times, want %d", test.then, test.now, 1-test.want, test.want)
	}
	three := proof.Compare(&proof.Proof{Mods: []proof.Mod{{Name: "a", LoadMS: ms(100)}, {Name: "b", LoadMS: ms(100)}, {Name: "c", LoadMS: ms(900)}}},
		&proof.Proof{Mods: []proof.Mod{{Name: "a", LoadMS: ms(200)}, {Name: "b", LoadMS: ms(500)}, {Name: "c", LoadMS: ms(100)}}}, proof.Known{}, proof.Known{})
	insist.That(t, len(three.Times) == 3 && three.Times[0].Mod == "c" && three.Times[1].Mod == "b", "the greatest difference does not come first: %+v", three.Times)
	// Whatever differs, it is not the same.
	base := func() *proof.Proof {
		return &proof.Proof{Order: []string{"a", "b"}, Mods: []proof.Mod{{Name: "a"}, {Name: "b"}}}
	}
	for name, change := range map[string]func(p *proof.Proof, k *proof.Known){
		"came":    func(p *proof.Proof, _ *proof.Known) { p.Mods = append(p.Mods, proof.Mod{Name: "c"}) },
		"gone":    func(p *proof.Proof, _ *proof.Known) { p.Mods = p.Mods[:1] },
		"release": func(p *proof.Proof, _ *proof.Known) { p.Mods[0].Release = "2" },
		"outcome": func(p *proof.Proof, _ *proof.Known) { p.Mods[0].Outcome = proof.Silent },
		"moved":   func(p *proof.Proof, _ *proof.Known) { p.Order = []string{"b", "a"} },
		"remark":  func(_ *proof.Proof, k *proof.Known) { k.Remarks = remark },
		"setting": func(_ *proof.Proof, k *proof.Known) {
			k.Inventory = &proof.Inventory{Settings: []proof.Setting{{Name: "s", Value: "1"}}}
		},
	} {
		p, k := base(), proof.Known{Inventory: &proof.Inventory{}}
		change(p, &k)
		if c := proof.Compare(base(), p, proof.Known{Inventory: &proof.Inventory{}}, k); c.Same() || len(c.Words()) != 1 {
			t.Errorf("%s: same %v, %q", name, c.Same(), c.Words())
		}
	}
	files := func(paths ...string) (list []proof.File) {
		for _, p := range paths {
			mod, name, _ := strings.Cut(p, "/")
			list = append(list, proof.File{Mod: mod, Path: name})
		}
		return list
	}
	set := func(values ...string) (list []proof.Setting) {
		for _, v := range values {
			list = append(list, proof.Setting{Name: "s", File: "f", Value: v})
		}
		return list
	}
	inventories := func(then, now proof.Inventory) string {
		return strings.Join(proof.Compare(base(), base(), proof.Known{Inventory: &then}, proof.Known{Inventory: &now}).Words(), "; ")
	}
	for want, test := range map[string][2]proof.Inventory{
		"files of a: x gone, y new; files of b: x gone, y gone, z gone": {{Files: files("b/z", "b/y", "b/x", "b/s", "a/x", "a/s")}, {Files: files("a/s", "a/y", "b/s")}},
		"files of a: 1 new, 2 new, 3 new, and 2 more":                   {{Files: files("a/s")}, {Files: files("a/1", "a/2", "a/3", "a/4", "a/5", "a/s")}},
		"": {{Cut: true, Files: files("a/s")}, {Files: files("a/t")}},
		"files of the server: maps/fen new, maps/moor gone": {{Files: files("/maps/moor")}, {Files: files("/maps/fen")}},
		"setting s: 1, then 3, was 1, then 2":               {{Settings: set("1", "2")}, {Settings: set("1", "3")}},
		"setting s: 2, then 1, was 1, then 2":               {{Settings: set("1", "2")}, {Settings: set("2", "1")}},
		"setting s: 1, was 1, then 1":                       {{Settings: set("1", "1")}, {Settings: set("1")}},
	} {
		insist.Same(t, "the files", inventories(test[0], test[1]), want)
	}
}

func TestAlikeKeepsWords(t *testing.T) {
	for line, want := range map[string]string{
		"x12y3 4z":           "x#y# #z",
		"0x1f 0x 0xzz":       "# #x #xzz",
		"cafe1234 cafe123":   "# cafe#",
		"deadbeef a_b z Z":   "deadbeef a_b z Z",
		"12:30:59.001, [99]": "#:#:#.#, [#]",
		"ABCDEF01 ABCDEFG1":  "# ABCDEFG#",
		"é1 ":                "é# ",
	} {
		insist.Same(t, fmt.Sprintf("%q is like", line), proof.Alike(line), want)
	}
}
