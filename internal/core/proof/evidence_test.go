package proof_test

import (
	_ "embed"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/insist"
)

//go:embed testdata/talking.toml
var talking string

func talk(t testing.TB) *dialect.Dialect {
	t.Helper()
	d, err := dialect.Parse("t.toml", []byte(talking))
	insist.OK(t, err)
	return d
}

func registered(names ...string) (list []proof.Expected) {
	for _, n := range names {
		list = append(list, proof.Expected{Name: n, Path: "/srv/mods/" + n, Registered: true})
	}
	return list
}

// The evidence of the log and of the console together, with what contradicts itself.
func TestConsoleEvidence(t *testing.T) {
	r := proof.NewReader(talk(t), "/srv", registered("both", "log", "reply", "none", "broken", "bad"), nil)
	r.Facts = map[string]string{"port": "7", "title": "Old", "map": "north"}
	feed := func(lines ...string) {
		for _, l := range lines {
			r.Feed([]byte("10:00:00 [main] "+l+"\n"), time.Second)
		}
	}
	feed("* none", "done both", "done log", "broken broken:", "why", "named Old, map NORTH", "open on 8")
	r.Ask(true)
	feed("* both", "* reply", "* broken", "! bad: torn", "* stray")
	insist.That(t, !r.Answered(), "the reply is said to be over")
	feed("5 in all")
	insist.That(t, r.Answered(), "the end of the reply is not seen")
	r.Ask(false)
	feed("* none")
	p := r.Judge(proof.End{})
	var got []string
	for _, m := range p.Mods {
		got = append(got, fmt.Sprintf("%s %s (%s) (%s)", m.Name, m.Outcome, m.Reason, m.Against))
	}
	want := []string{"both confirmed () ()", "log failed (the server's own list does not name it) (it is said to have loaded)", "reply confirmed () ()",
		"none silent (the server is up and said nothing about it) ()", "broken failed (why) (the server's own list names it all the same)", "bad failed (torn) ()",
		"stray unlisted (it loaded without being registered) ()"}
	insist.Same(t, "got", strings.Join(got, "\n"), strings.Join(want, "\n"))
	if e := p.Find("reply").Best(); e == nil || e.Source != "console" || e.Where() != "reply on the console, log line 9" {
		t.Errorf("evidence %+v", e)
	}
	if e := p.Find("both").Best(); e == nil || e.Source != "log" {
		t.Errorf("the best evidence is %+v", e)
	}
	insist.That(t, len(p.Differs) == 1 && strings.Contains(p.Differs[0], "port is 8; what it was started with says 7") && p.Told["map"] == "NORTH", "told %v, differs %v", p.Told, p.Differs)
}

// Lines of several parts of a server, mixed, are told apart by who says them.
func TestMixedLines(t *testing.T) {
	r := proof.NewReader(talk(t), "/srv", registered("a", "b"), nil)
	r.Notice = true
	r.Feed([]byte("10:00:00 [one] begin a\n10:00:00 [two] begin b\n10:00:01 [one] broken a:\n10:00:01 [two] error of two\n10:00:01 [one] the reason of one\n10:00:02 [two] done b\n"), 0)
	p := r.Judge(proof.End{})
	if m := p.Find("a"); m.Reason != "the reason of one" {
		t.Errorf("a: %+v", m)
	}
	if rem := r.Remarks(); len(rem) != 1 || rem[0].Mod != "b" || rem[0].Sure != proof.SureLoading {
		t.Errorf("remarks %+v", rem)
	}
}

// A message and what goes on with it is one, fed in pieces or skimmed.
func TestMessagesOfManyLines(t *testing.T) {
	log := `10:00:00 [main] begin a
10:00:00 [main] Error in the engine
	at one (/srv/mods/b/init.lua:3)
	at two
Caused by: a thing
10:00:01 [main] broken a:
10:00:01 [main] it sank
  stack traceback:
    deck.lua:12
10:00:02 [main] Traceback (most recent call last):
  File "/srv/mods/b/x.py", line 3
	pour()
ValueError: 12
plain text after it
10:00:03 [main] done b
`
	for _, shown := range []bool{false, true} {
		var lines []proof.Line
		var on func(proof.Line)
		if shown {
			on = func(l proof.Line) { lines = append(lines, l) }
		}
		r := proof.NewReader(talk(t), "/srv", registered("a", "b"), on)
		r.Notice = true
		insist.OK(t, insist.Err(r.ReadFrom(strings.NewReader(log))))
		rem := r.Remarks()
		insist.That(t, len(rem) == 2 && len(rem[0].More) == 3 && rem[0].Mod == "b" && rem[0].Sure == proof.SurePath && len(rem[1].More) == 3+1 && rem[1].Mod == "b", "shown %v: remarks %+v", shown, rem)
		m := r.Judge(proof.End{}).Find("a")
		insist.That(t, m.Reason == "it sank" && len(m.Evidence[len(m.Evidence)-1].More) == 2, "shown %v: %+v", shown, m)
		if shown && (len(lines) != 15 || !lines[2].Joined || lines[9].Joined || !lines[1].Trouble() || lines[14].Trouble() || !lines[5].Fits("a", true) || lines[5].Fits("b", false)) {
			t.Errorf("lines %+v", lines)
		}
	}
}

// A log that nobody saw arrive tells by its own times how long things took.
func TestStampedLog(t *testing.T) {
	for name, test := range map[string]struct {
		times string // of four lines
		ready int64
		load  float64
	}{
		"plain":           {"10:00:00|10:00:01|10:00:03|10:00:05", 5000, 2000},
		"over midnight":   {"23:59:58|23:59:59|00:00:01|00:00:03", 5000, 2000},
		"clock set back":  {"10:00:00|10:00:01|10:00:03|09:59:00", 3000, 2000},
		"a year's first":  {"2026-01-01 20:00:00|2026-01-01 20:00:01|2026-01-01 20:00:03|2026-01-01 02:00:00", 3000, 2000},
		"comma":           {"2026-01-02 10:00:00,000|2026-01-02 10:00:00,500|2026-01-02 10:00:00,750|2026-01-02 10:00:01,250", 1250, 250},
		"epoch":           {"1767348000|1767348001|1767348003|1767348005", 5000, 2000},
		"syslog":          {"Jan  2 10:00:00|Jan  2 10:00:01|Jan  2 10:00:03|Jan  2 10:00:05", 5000, 2000},
		"no times at all": {"a|b|c|d", 0, 0},
	} {
		at := strings.Split(test.times, "|")
		log := fmt.Sprintf("%s [m] hello\n%s [m] begin a\n%s [m] done a\n%s [m] open on 1\n", at[0], at[1], at[2], at[3])
		r := proof.NewReader(talk(t), "/srv", registered("a"), nil)
		r.Stamped = true
		insist.OK(t, insist.Err(r.ReadFrom(strings.NewReader(log))))
		p := r.Judge(proof.End{})
		if m := p.Find("a"); p.ReadyAfterMS != test.ready || m.LoadMS == nil || *m.LoadMS != test.load {
			t.Errorf("%s: ready after %d, a took %v", name, p.ReadyAfterMS, m.LoadMS)
		}
	}
}

func TestMomentAndOpening(t *testing.T) {
	const day = "2026-01-02T10:00:01"
	for s, want := range map[string]string{
		"2026-01-02T10:00:01Z": day, "2026-01-02T11:00:01.5+01:00": day + ".5", "2026-01-02 10:00:01": day, "2026-01-02 10:00:01 UTC": day, "2026/01/02 10:00:01": day, "2026.01.02-10.00.01:250": day + ".25",
		"02/Jan/2026:10:00:01 +0000": day, "02/Jan/2026:10:00:01": day, "02-Jan-2026 10:00:01.25": day + ".25", "2 Jan 2026 10:00:01": day, "02Jan2026 10:00:01,250": day + ".25", "Jan 2, 2026 10:00:01 AM": day, "Jan 2, 2026, 10:00:01 am": day,
		"02.01.2026 10:00:01": day, "2.1.2026 10:00:01": day, "02.01.26 10:00:01": day, "01/02/2026 10:00:01": day, "1/2/2026 10:00:01 AM": day, "26-01-02 10:00:01": "2002-01-26T10:00:01", "32-01-02 10:00:01": "2032-01-02T10:00:01",
		"23/11/2026 10:00:01": "2026-11-23T10:00:01", "11/23/2026 - 10:00:01": "2026-11-23T10:00:01", "20260102 10:00:01": day, "20260102T100001": day, "20260102-100001": day, "2026-01-02_10:00": "2026-01-02T10:00:00",
		"Fri Jan  2 10:00:01 2026": day, "Fri Jan  2 10:00:01 UTC 2026": day, "Fri, 02 Jan 2026 10:00:01 GMT": day, "1767348001": day, "1767348001250": day + ".25", "1767348001.250": day + ".25",
		"Jan  2 10:00:01": "0000-01-02T10:00:01", "01-02 10:00:01.250": "0000-01-02T10:00:01.25", "10:00:01": "0000-01-01T10:00:01", "[10:00:01]": "0000-01-01T10:00:01", "10:00:01,250": "0000-01-01T10:00:01.25",
		"3:04:05 PM": "0000-01-01T15:04:05", "9:04": "0000-01-01T09:04:00", "10:00:01.5Z": "0000-01-01T10:00:01.5", "[   61.250000]": "0000-01-01T00:01:01.25",
	} {
		at, layout, ok := proof.Moment(s, "")
		if got := at.UTC().Format("2006-01-02T15:04:05.999"); !ok || got != want {
			t.Errorf("%q is %s, %v; want %s", s, got, ok, want)
		}
		if again, _, ok := proof.Moment(s, layout); !ok || !again.Equal(at) {
			t.Errorf("%q is %s by its own layout %q", s, again, layout)
		}
		if start, end, ok := proof.Opening([]byte(s + ": hello")); !ok || strings.Trim(s, "[]") != (s + ": hello")[start:end] {
			t.Errorf("%q begins with %q", s, (s + ": hello")[start:end])
		}
	}
	for _, s := range []string{"", "hello", "12", "99:99:99", "1.2.3", "2026-13-40 10:00:00", "3.1 warming", "1.2.3.4", "10.20.30.40", "May I", "Mon", "Mon Jan", "12 Jan", "127.0.0.1:9000", "2026", "20260102", "[12]", "[1.2.3]", "1:2", "10:00:011", "12345678901", "02/Jan-2026 10:00:01", "Jan 2x2026 10:00:01", "[12345678901.250000]", "10:000:01", "2026x-01-02 10:00:01"} {
		if _, _, ok := proof.Opening([]byte(s + " x")); ok {
			t.Errorf("%q is taken for a time", s)
		}
	}
}

// A time ends where it cannot go on.
func TestWhereTimesEnd(t *testing.T) {
	for line, want := range map[string]string{"10:00:01 +01x30 hi": "10:00:01", "10:00:01+01:30 hi": "10:00:01+01:30", "10:00:01 UTCx hi": "10:00:01", "10:00:01 UTC hi": "10:00:01 UTC", "10:00:01Zx hi": "", "10:00:01.5 AMx": "10:00:01.5", "Jan 2 10:00:01 2026 hi": "Jan 2 10:00:01 2026"} {
		start, end, ok := proof.Opening([]byte(line))
		if got := line[start:end]; got != want || ok != (want != "") {
			t.Errorf("%q begins with the time %q", line, got)
		}
	}
}

// A line that is written over is one line: what is written over something else confirms
// nothing, for nobody knows who said it; a failure counts wherever in it it stands, and
// however long it gets; a prompt says nothing.
func TestLinesWrittenOver(t *testing.T) {
	progress := ""
	for i := range 6000 {
		progress += fmt.Sprintf("%5d of 20000 chunks\r", i)
	}
	gone := strings.Repeat("x\r", proof.MaxLine+1) // as much as is let go of, to the byte
	endless := proof.NewReader(talk(t), "/srv", registered("a"), nil)
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	part := []byte(strings.Repeat("x", 9999) + "\r")
	for range 2000 {
		endless.Feed(part, 0)
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	if held := int64(after.HeapAlloc) - int64(before.HeapAlloc); held > 4<<20 || endless.Lines() != 0 {
		t.Errorf("of %d bytes without an end %d are held", 2000*len(part), held)
	}
	for name, test := range map[string]struct{ log, want string }{
		"a chat line":           {"10:00:00 [m] hello\r10:00:00 [m] done a\n", "a silent"},
		"a chat line, coloured": {"10:00:00 [m] \x1b[31mhello\x1b[0m\r\x1b[32m10:00:00 [m] done a\n", "a silent"},
		"a prompt":              {"\r> \r10:00:00 [m] done a\r\r\n", "a confirmed"},
		"only its end":          {"10:00:00 [m] done a\r\r\n", "a confirmed"},
		"the first part":        {"10:00:00 [m] done a\rhello\n", "a silent"},
		"long progress":         {progress + "10:00:00 [m] done a\n", "a silent"},
		"progress let go":       {gone + "10:00:00 [m] done a\n", "a silent"},
		"a failure let go":      {"10:00:00 [m] done a\n10:00:00 [m] broken a:\r" + gone, "a failed: the server said so and gave no reason"},
		"a failure":             {"10:00:00 [m] done a\n10:00:00 [m] broken a:\rretrying\ndisk error\n", "a failed: disk error"},
		"in the middle":         {"10:00:00 [m] done a\n5 %\r10:00:00 [m] broken a:\r6 %\ndisk error\n", "a failed: disk error"},
		"deep in progress":      {"10:00:00 [m] done a\n" + progress + "10:00:00 [m] broken a:\r" + progress + "\ndisk error\n", "a failed: disk error"},
		"at the end":            {"10:00:00 [m] done a\nhello\r10:00:00 [m] broken a:\ndisk error\n", "a failed: disk error"},
		"long and coloured":     {"\x1b[31m10:00:00 [" + strings.Repeat("x", 5000) + "] done a\x1b[0m\n", "a confirmed"},
	} {
		for _, size := range []int{1 << 30, 4095} {
			r := proof.NewReader(talk(t), "/srv", registered("a"), nil)
			for rest := test.log; rest != ""; {
				n := min(size, len(rest))
				r.Feed([]byte(rest[:n]), 0)
				rest = rest[n:]
			}
			r.Flush()
			m := r.Judge(proof.End{}).Find("a")
			got := "a " + string(m.Outcome)
			if m.Outcome == proof.Failed {
				got += ": " + m.Reason
			}
			insist.Same(t, fmt.Sprintf("%s, by %d bytes", name, size), got, test.want)
			if e := fmt.Sprint(m.Evidence); name == "in the middle" && !strings.Contains(e, "5 %\ufffd10:00:00 [m] broken a:\ufffd6 %") {
				t.Errorf("the evidence is %s", e)
			}
		}
	}
}

// What no rule knows tells of a mod that nothing was said of, by a path, a name, or what
// was loading, the surest first; and of a server that stopped without a reason.
func TestExplain(t *testing.T) {
	one := 1
	for name, test := range map[string]struct {
		log, reason, hint string
		end               proof.End
	}{
		"a path in a trace": {"10:00:00 [m] done a\n10:00:00 [m] Exception while tuning\nTraceback:\n  File \"/srv/run\", line 2\nValueError: bad crystal in /srv/mods/b/x\n10:00:01 [m] open on 1\n",
			"ValueError: bad crystal in /srv/mods/b/x (it sounds like trouble with it, by its path;", "", proof.End{}},
		"a name":           {"10:00:00 [m] done a\n10:00:00 [m] an error in b, they say\n10:00:01 [m] open on 1\n", "an error in b, they say (it sounds like trouble with it, by its name;", "", proof.End{}},
		"the surest":       {"10:00:00 [m] done a\n10:00:00 [m] error of b\n10:00:00 [m] error in /srv/mods/b/y\n10:00:01 [m] open on 1\n", "error in /srv/mods/b/y (it sounds like trouble with it, by its path;", "", proof.End{}},
		"what was thrown":  {"10:00:00 [m] done a\n10:00:00 [m] [WARN] b cannot find the pond\nx.y.NullError: pond\n\tat z (Eel:12)\n10:00:01 [m] open on 1\n", "[WARN] b cannot find the pond (it sounds like trouble with it, by its name;", "", proof.End{}},
		"another's":        {"10:00:00 [m] done a\n10:00:00 [m] error in /srv/mods/a/y\n10:00:01 [m] open on 1\n", "said nothing about it", "", proof.End{}},
		"what was loading": {"10:00:00 [m] begin b\n10:00:00 [m] error 5\n10:00:01 [m] open on 1\n", "error 5 (it sounds like trouble with it, for it was loading;", "", proof.End{}},
		"a stop":           {"10:00:00 [m] done a\n10:00:00 [m] panic in /srv/mods/b/y\n10:00:01 [m] bye\n", "by its path", "line 2: panic in /srv/mods/b/y; it seems to be about b, by its path", proof.End{Exit: &one}},
		"a stop, nobody's": {"10:00:00 [m] done a\n10:00:00 [m] fatal: no disk\n", "stopped before", "line 2: fatal: no disk", proof.End{Exit: &one}},
		"a blank end":      {"10:00:00 [m] done a\n10:00:00 [m] fatal: no disk\n\tat z (Eel:12)\n\x1b[0m\n", "stopped before", "line 2: fatal: no disk", proof.End{Exit: &one}},
		"a secret":         {"10:00:00 [m] done a\n10:00:00 [m] error in /srv/mods/b/y: key hush-hush\n10:00:01 [m] open on 1\n", "key ••••", "", proof.End{}},
	} {
		r := proof.NewReader(talk(t), "/srv", []proof.Expected{{Name: "a", Path: "/srv/mods/a", Registered: true}, {Name: "b", Path: "/srv/mods/b", Registered: true}}, nil)
		r.Notice, r.Secrets = true, []string{"hush-hush"}
		r.Feed([]byte(test.log), 0)
		r.Flush()
		p := r.Judge(test.end)
		r.Explain(p)
		m := p.Find("b")
		if m.Outcome != proof.Silent || !strings.Contains(m.Reason, test.reason) || !strings.HasSuffix(p.Hint, test.hint) || test.hint == "" && p.Hint != "" {
			t.Errorf("%s: %+v; %q", name, m, p.Hint)
		}
		if told := strings.Contains(m.Reason, "sounds like"); told != (len(m.Evidence) > 0) {
			t.Errorf("%s: %d pieces of evidence", name, len(m.Evidence))
		}
	}
}

// A log may call a mod by its title, its folder, or in other letter case; what two are
// called means neither, and a name of its own counts first.
func TestOtherNames(t *testing.T) {
	d, err := dialect.Parse("l.toml", []byte(strings.NewReplacer("line = \"done {mod}\"", "line = \"done {mods}.\"").Replace(talking)))
	insist.OK(t, err)
	mods := []proof.Expected{{Name: "glaze", Also: []string{"Blue Glaze", "same"}, Registered: true}, {Name: "clay", Also: []string{"Red Clay, wet", "same"}, Registered: true},
		{Name: "Tide", Also: []string{"clay"}, Registered: true}, {Name: "TIDE", Registered: true}}
	for said, want := range map[string]string{
		"glaze": "glaze", "Blue Glaze": "glaze", "blue glaze": "glaze", "GLAZE": "glaze", "Red Clay, wet": "clay", "Blue Glaze, clay": "glaze clay", "clay glaze": "glaze clay",
		"clay": "clay", "Tide": "Tide", "TIDE": "TIDE", "tide": "+tide", "same": "+same", "'Blue Glaze' 'x'": "glaze +x", "other": "+other",
	} {
		r := proof.NewReader(d, "/srv", mods, nil)
		r.Feed([]byte("10:00:00 [m] done "+said+".\n10:00:00 [m] open on 1\n"), 0)
		var got []string
		for _, m := range r.Judge(proof.End{}).Mods {
			switch m.Outcome {
			case proof.Confirmed:
				got = append(got, m.Name)
			case proof.Unlisted:
				got = append(got, "+"+m.Name)
			}
		}
		insist.That(t, strings.Join(got, " ") == want, "%q speaks of %q, want %s", said, got, want)
	}
}

func TestAlike(t *testing.T) {
	for _, pair := range [][2]string{{"took 12 ms at 0x7fAB", "took 9 ms at 0x1"}, {"id deadbeef01 gone", "id 00112233aa gone"}, {"a1b2 x", "a77b9 x"}, {"at b[0x7fAB]", "at b[0x1]"}, {"at b^0x7fAB`", "at b^0x1`"}, {"10:00:01.5 warning", "23:59:59.25 warning"}} {
		if a, b := proof.Alike(pair[0]), proof.Alike(pair[1]); a != b {
			t.Errorf("%q and %q: %q, %q", pair[0], pair[1], a, b)
		}
	}
	insist.That(t, proof.Alike("the added decade") != proof.Alike("the faced facade"), "words of the letters a to f are taken for numbers")
}

// FuzzMoment: no text that is taken for a time breaks anything.
func FuzzMoment(f *testing.F) {
	for _, s := range []string{"2026-01-02 10:00:01,5 x", "[10:00:01] x", "1767348001250", "Jan  2 10:00:01 x"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		start, end, ok := proof.Opening([]byte(s))
		if ok && (start > end || end > len(s)) {
			t.Fatalf("%q: %d to %d", s, start, end)
		}
		if ok {
			if _, _, ok := proof.Moment(s[start:end], ""); !ok {
				t.Fatalf("%q begins with what is no moment", s)
			}
		}
	})
}

// What stands where a name is looked for and is no mod's is told as text, and never as a mod;
// a mark on a name hides no failure, and confirms nothing.
func TestNoInventedMods(t *testing.T) {
	d, err := dialect.Parse("l.toml", []byte(strings.Replace(talking, "[[log.rule]]", "[[log.rule]]\nmeans = \"loaded\"\nline = \"dlopen {any}/{mod}_plugin.so\"\n[[log.rule]]\nmeans = \"loaded\"\nline = \"all: {mods}\"\n[[log.rule]]\nmeans = \"failed\"\nline = \"cannot load {mod}\"\n[[log.rule]]", 1)))
	insist.OK(t, err)
	for log, want := range map[string]string{
		"dlopen /usr/lib/ghost_plugin.so": "boomer silent; not usr/lib/ghost",
		"dlopen x/boomer_plugin.so":       "boomer confirmed; not ",
		"all: api 0.37 v1.2-beta boomer":  "boomer confirmed, api unlisted; not 0.37 v1.2-beta",
		"all: 7up 2 boomer":               "boomer confirmed, 7up unlisted, 2 unlisted; not ",
		"cannot load *Boomer":             "boomer failed; not ",
		"cannot load boomer!":             "boomer failed; not ",
		"done *Boomer":                    "boomer silent; not *Boomer",
		"begin *boomer":                   "boomer silent; not *boomer",
		"done mods/boomer/main.so":        "boomer confirmed; not ",
		"cannot load /usr/lib/ghost":      "boomer silent; not /usr/lib/ghost",
		"done geheim77/x":                 "boomer silent; not ••••••/x",
	} {
		r := proof.NewReader(d, "/srv", registered("boomer"), nil)
		r.Secrets = []string{"geheim77"}
		r.Feed([]byte("1 [m] "+log+"\n1 [m] open on 1\n"), 0)
		p := r.Judge(proof.End{})
		var got []string
		for _, m := range p.Mods {
			got = append(got, m.Name+" "+string(m.Outcome))
		}
		insist.Same(t, log, strings.Join(got, ", ")+"; not "+strings.Join(p.NotNames, " "), want)
		if strings.Contains(log, "ghost") && p.Verdict == proof.Proved {
			t.Errorf("%s: proved", log)
		}
	}
}

// A reason may stand on the line after or before, of a mod that fails and of a server that
// stops; in each part of the server its own.
func TestReasonsBeside(t *testing.T) {
	d, err := dialect.Parse("l.toml", []byte(strings.Replace(talking, "[console]", `[[log.rule]]
means = "stopped"
line = "giving up:"
next = true
[[log.rule]]
means = "stopped"
line = "the end"
before = true
[[log.rule]]
means = "stopped"
line = "the end: {reason}"
before = true
[[log.rule]]
means = "failed"
line = "{mod} is out"
before = true
[console]`, 1)))
	insist.OK(t, err)
	for log, want := range map[string]string{
		"1 [m] giving up:\n1 [m] no licence\n1 [m] bye\n":     "no licence",
		"1 [m] giving up:\n1 [x] no wind\n1 [m] no licence\n": "no licence",
		"1 [m] giving up:\n":                                                     "giving up:",
		"1 [m] no licence\n1 [m] the end\n":                                      "no licence",
		"1 [m] no licence\n1 [m] \n1 [x] hello\n1 [m] the end\n":                 "no licence",
		"1 [m] done a\n1 [m] the end\n":                                          "done a",
		"1 [m] hello\n1 [m] the end: no wind\n":                                  "no wind",
		"1 [m] the end\n":                                                        "the end",
		"1 [m] no key geheim77\n1 [m] the end\n":                                 "no key ••••••",
		"1 [m] a hole in it\n1 [m] a is out\n1 [m] a's end\n1 [m] the end: so\n": "so; a: a hole in it",
	} {
		for _, quick := range []bool{true, false} {
			lines := func(proof.Line) {}
			if quick {
				lines = nil
			}
			r := proof.NewReader(d, "/srv", registered("a"), lines)
			r.Secrets = []string{"geheim77"}
			insist.OK(t, insist.Err(r.ReadFrom(strings.NewReader(log))))
			p := r.Judge(proof.End{Exit: new(int)})
			got := strings.TrimPrefix(p.Reason, "the server stopped before it was ready, with exit status 0: ")
			if m := p.Find("a"); m.Outcome == proof.Failed {
				got += "; a: " + m.Reason
			}
			insist.Same(t, fmt.Sprintf("%q, quick %v", log, quick), got, want)
		}
	}
}

// A server that says by the end of its start that it is something else than it was started
// with is not proved, unless that may be.
func TestWhatItSaysOfItself(t *testing.T) {
	const all = "1 [m] done a\n"
	for log, want := range map[string]string{
		all + "1 [m] named Haven, map north\n1 [m] open on 7\n":                               "",
		all + "1 [m] named Haven, map /srv/maps/North\n1 [m] open on 7\n":                     "",
		all + "1 [m] named 'HAVEN', map \"north\"\n1 [m] open on 7\n":                         "",
		all + "1 [m] open on 7\n":                                                             "",
		all + "1 [m] named Haven, map a/north\n1 [m] open on 7\n":                             "",
		all + "1 [m] named Haven, map south\n1 [m] open on 7\n":                               "the server says that its map is south; what it was started with says north",
		all + "1 [m] named Haven, map north\n1 [m] named Haven, map south\n1 [m] open on 7\n": "the server says that its map is south; what it was started with says north",
		all + "1 [m] open on 7\n1 [m] named Haven, map south\n":                               "the server says that its map is south; what it was started with says north",
		all + "1 [m] named Haven, map north\n1 [m] open on 7\n1 [m] named Haven, map south\n": "", // it has changed while the server ran
		all + "1 [m] named Sea, map north\n1 [m] open on 7\n":                                 "", // the title may
		all + "1 [m] named Haven, map north\n1 [m] open on 8\n":                               "the server says that its port is 8; what it was started with says 7",
		"1 [m] named Haven, map south\n1 [m] open on 8\n":                                     "1 of 1 registered mods is not confirmed",
	} {
		r := proof.NewReader(talk(t), "/srv", registered("a"), nil)
		r.Facts, r.MayDiffer = map[string]string{"port": "7", "title": "Haven", "map": "north", "slots": "3"}, map[string]bool{"title": true}
		r.Feed([]byte(log), time.Second)
		p := r.Judge(proof.End{})
		insist.That(t, p.Reason == want && (p.Verdict == proof.Proved) == (want == "") && strings.Contains(log, "Sea") == (len(p.Differs) == 1 && want == ""), "%q: %s, %q, %q", log, p.Verdict, p.Reason, p.Differs)
	}
	// What it says when it is asked belongs to its start.
	r := proof.NewReader(talk(t), "/srv", registered("a"), nil)
	r.Facts = map[string]string{"map": "north"}
	r.Feed([]byte(all+"1 [m] named Haven, map north\n1 [m] open on 7\n"), 0)
	r.Ask(true)
	r.Feed([]byte("1 [m] named Haven, map south\n"), 0)
	r.Ask(false)
	if p := r.Judge(proof.End{}); p.Verdict == proof.Proved || p.Itself() != "title Haven, map south, port 7" {
		t.Errorf("%+v, %s", p, p.Itself())
	}
}

// A rule that is kept to a source counts for no other: what a player writes neither confirms
// a mod nor makes it fail, be it written over or not.
func TestRulesAndTheirSource(t *testing.T) {
	d, err := dialect.Parse("l.toml", []byte(strings.NewReplacer("line = \"done {mod}\"", "source = \"main\"\nline = \"done {mod}\"", "line = \"broken {mod}:\"", "source = \"main\"\nline = \"broken {mod}:\"").Replace(talking)))
	insist.OK(t, err)
	for log, want := range map[string]string{
		"1 [main] done a\n1 [main] done b\n":                                              "proved",
		"1 [main] done a\n1 [chat] done b\n":                                              "not proved",
		"1 [main] done a\n1 [main] done b\n1 [chat] broken b:\nx\n":                       "proved",
		"1 [main] done a\n1 [main] done b\n1 [chat] broken b:\r1 [chat] hello\n":          "proved",
		"1 [main] done a\n1 [main] done b\n1 [main] broken b:\nx\n":                       "not proved",
		"1 [main] done a\n1 [main] done b\n1 [main] broken b:\r1 [chat] hello\n1 [x] .\n": "not proved",
	} {
		r := proof.NewReader(d, "/srv", registered("a", "b"), nil)
		r.Feed([]byte(log+"1 [main] open on 1\n"), 0)
		if p := r.Judge(proof.End{}); string(p.Verdict) != want {
			t.Errorf("%q: %s, %s", log, p.Verdict, p.Reason)
		}
	}
}

// A rule for replies is kept to its level too: not every line that is heard meanwhile is
// a part of the reply.
func TestReplyAndItsLevel(t *testing.T) {
	d, err := dialect.Parse("l.toml", []byte(strings.NewReplacer("{time} [{source}] ", "{level}: ", "line = \"* {mod}\"", "level = \"roll\"\nline = \"{mod}\"").Replace(talking)))
	insist.OK(t, err)
	r := proof.NewReader(d, "/srv", registered("a", "b"), nil)
	r.Feed([]byte("x: done a\nx: done b\nx: open on 1\n"), 0)
	r.Ask(true)
	r.Feed([]byte("roll: a\nx: hello\nroll: b\nx: 2 in all\n"), 0)
	r.Ask(false)
	if p := r.Judge(proof.End{}); p.Verdict != proof.Proved || p.Find("hello") != nil {
		t.Errorf("%+v", p)
	}
	r.Ask(true)
	r.Feed([]byte("roll: a\n"), 0)
	r.Ask(false)
	if p := r.Judge(proof.End{}); p.Verdict != proof.Proved {
		t.Errorf("a part of a list takes back what was confirmed: %+v", p)
	}
}

// What a server holds in its memory confirms mods of which the log says nothing, and takes back what it
// says of those that it does not hold. A port that is listened on is as good as a line.
func TestMemoryAndPort(t *testing.T) {
	r := proof.NewReader(parse(t), "/srv", expected, nil)
	r.Feed([]byte("loaded a\n"), time.Second)
	_, ready := r.Ready()
	insist.That(t, !ready, "it is ready before it says so")
	r.Listens(2 * time.Second)
	r.Listens(9 * time.Second)
	at, ready := r.Ready()
	insist.That(t, ready && at == 2*time.Second, "it is ready after %v: %v", at, ready)
	r.Holds(map[string]string{"b": "/srv/mods/b-folder/b.so", "spare": "/srv/mods/spare/s\x1b[2J.so", "stranger": "/x"}, 3*time.Second)
	p := r.Judge(proof.End{})
	insist.Same(t, "of b", p.Find("b").Outcome, proof.Confirmed)
	best := p.Find("b").Best()
	insist.That(t, best.Source == proof.SourceMemory && best.Text == "/srv/mods/b-folder/b.so" && best.AtMS == 3000 && best.Where() == "in the server's memory", "the evidence is %+v", best)
	insist.Same(t, "of one that is not registered", p.Find("spare").Outcome, proof.Unlisted)
	insist.Lacks(t, "the file", p.Find("spare").Best().Text, "\x1b")
	insist.That(t, p.Find("stranger") == nil, "a mod that nobody knows is told")
	insist.That(t, p.Find("a").Outcome != proof.Confirmed, "of a the outcome is %s", p.Find("a").Outcome)
}
