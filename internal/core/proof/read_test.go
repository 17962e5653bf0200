package proof_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"testing"
	"testing/iotest"

	"initium/dialects"
	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/insist"
)

// TestReadFrom reads logs whose lines are longer than what is read at a time.
func TestReadFrom(t *testing.T) {
	insist.Long(t)
	d := parse(t)
	long := strings.Repeat("x", 3<<20)
	for name, log := range map[string]string{
		"empty":                   "",
		"no end":                  "loaded a in 1 ms",
		"a long line first":       long + "\nloaded a in 1 ms\nopen\n",
		"a long line between":     "loaded a in 1 ms\n" + long + "\nloaded b in 2 ms\nopen\n",
		"a long line last":        "loaded a in 1 ms\n" + long,
		"long lines only":         long + "\n" + long + "\n" + long,
		"a text in a long line":   "loaded a in 1 ms " + long + "\nloaded b in 2 ms\n",
		"the reason in a new one": "script mods/a/init:\n" + long + "\nopen\n",
		"many short ones":         strings.Repeat("nothing to see here\nloaded a in 1 ms\n", 60_000) + "open\n",
		"empty lines":             strings.Repeat("\n", 700_000) + "open\n",
	} {
		fed := proof.NewReader(d, "/srv", expected, func(proof.Line) {})
		fed.Feed([]byte(log), 0)
		fed.Flush()
		for _, in := range []io.Reader{strings.NewReader(log), iotest.HalfReader(strings.NewReader(log)), iotest.DataErrReader(strings.NewReader(log))} {
			read := proof.NewReader(d, "/srv", expected, nil)
			n, err := read.ReadFrom(in)
			read.Flush()
			one, _ := json.Marshal(fed.Judge(proof.End{}))
			two, _ := json.Marshal(read.Judge(proof.End{}))
			if err != nil || n != int64(len(log)) || string(one) != string(two) || fed.Lines() != read.Lines() {
				t.Errorf("%s: %d bytes of %d, %d lines of %d, %v\n%.300s\n%.300s", name, n, len(log), read.Lines(), fed.Lines(), err, one, two)
			}
		}
	}
	broken := errors.New("broken")
	r := proof.NewReader(d, "/srv", expected, nil)
	_, err := r.ReadFrom(io.MultiReader(strings.NewReader("open\n"), iotest.ErrReader(broken)))
	if _, ready := r.Ready(); !errors.Is(err, broken) || !ready {
		t.Errorf("a log that breaks off: %v", err)
	}
}

func TestRemarks(t *testing.T) {
	r := proof.NewReader(parse(t), "/srv", expected, nil)
	r.Notice = true
	log := "begin a\n" +
		"Error 12 at 0x7f in the hold\nError 13 at 0x8f in the hold\n" +
		"2026-01-02 10:00:00 info: done a\n" +
		"warning: b is old\n" +
		"panic in /srv/mods/a/init.lua:3\n" +
		"an exception, and no more\n" +
		"broken: b: it failed\n" +
		"\x1b[31merror in colour\x1b[0m\n" +
		"50 %\r 75 %\rfatal: line over line\n"
	insist.OK(t, insist.Err(r.ReadFrom(strings.NewReader(log))))
	var got []string
	for _, m := range r.Remarks() {
		got = append(got, fmt.Sprintf("%d x%d %s %s", m.Line, m.Count, m.Mod, m.Sure))
	}
	want := "2 x2 a it was loading; 5 x1 b its name; 6 x1 a its path; 7 x1  ; 9 x1  ; 10 x1  "
	insist.Same(t, "", strings.Join(got, "; "), want)
	insist.Same(t, "a line that was written over shows as", r.Remarks()[5].Text, "50 %\ufffd 75 %\ufffdfatal: line over line")
}

// TestSeveralStarts judges the last of them.
func TestSeveralStarts(t *testing.T) {
	r := proof.NewReader(parse(t), "/srv", expected, nil)
	r.Feed([]byte("loaded a in 1 ms\nbroken: b: bad\nopen\nloaded a in 2 ms\nloaded b in 3 ms\nopen\n"), 0)
	if p := r.Judge(proof.End{}); r.Starts() != 2 || p.Find("b").Outcome != proof.Confirmed || len(p.Order) != 2 {
		t.Errorf("%d starts, %+v", r.Starts(), p)
	}
	lonely := proof.NewReader(parse(t), "", nil, nil)
	lonely.Lonely = true
	lonely.Feed([]byte("loaded x in 1 ms\nopen\n"), 0)
	if p := lonely.Judge(proof.End{}); p.Verdict != proof.Proved || p.Find("x").Outcome != proof.Confirmed {
		t.Errorf("with no server: %+v", p)
	}
}

// BenchmarkReadFrom reads a log in which one line in fifty speaks of a mod.
func BenchmarkReadFrom(b *testing.B) {
	log := chatter(400_000, 50)
	d := parse(b)
	b.SetBytes(int64(len(log)))
	for b.Loop() {
		r := proof.NewReader(d, "/srv", expected, nil)
		insist.OK(b, insist.Err(r.ReadFrom(strings.NewReader(log))))
	}
}

// Without a server a mod is known by the folder that the dialect says mods are in.
func TestPlacedWithoutAServer(t *testing.T) {
	for line, want := range map[string]string{
		"error in /srv/mods/b/init.x:4":      "b",
		"error in mods/b/sub/y":              "b",
		`an error: C:\\srv\mods/b/init.x`:    "b",
		"error in /srv/mods/stray.txt":       "",
		"error in /srv/mods/../etc/x":        "",
		"error in /srv/mods//x":              "",
		"error in mods/%s/x of mods/b/x":     "b",
		"error in /srv/other/b/x":            "",
		"error in /a/mods/old/mods/b/init.x": "b",
	} {
		r := proof.NewReader(talk(t), "", nil, nil)
		r.Notice, r.Lonely = true, true
		r.Feed([]byte("10:00:00 [m] "+line+"\n"), 0)
		if got := r.Remarks(); len(got) != 1 || got[0].Mod != want {
			t.Errorf("%s: %+v", line, got)
		}
	}
}

// Lines that are passed over unread are none that a rule fits; a rule for what is worth no
// attention does not change what is looked for.
func TestWhatIsWorthNothing(t *testing.T) {
	d, err := dialect.Parse("l.toml", []byte(strings.Replace(talking, "[console]", "[[log.rule]]\nmeans = \"ignore\"\nline = \"chatter {any}\"\n[console]", 1)))
	insist.OK(t, err)
	r := proof.NewReader(d, "/srv", registered("a", "b"), nil)
	r.Feed([]byte(strings.Repeat("10:00:00 [m] chatter of gulls\n10:00:00 [m] nothing at all\n", 2000)+"10:00:00 [m] done a\n10:00:00 [m] broken b:\nit sank\n10:00:00 [m] open on 1\n"), 0)
	insist.Same(t, "", sum(r.Judge(proof.End{})), "not proved; a confirmed; b failed (it sank)")
}

// Two mods whose names differ in nothing that a log shows never stand for each other: what is
// said of the one confirms neither, for it may be the other's.
func TestNamesThatLookAlike(t *testing.T) {
	for _, twin := range []string{"to\x1b[31mol", "to\x1b[0mol\x1b[1m"} {
		for _, said := range []string{"tool", twin} {
			r := proof.NewReader(talk(t), "/srv", registered("tool", twin, "other"), nil)
			r.Feed([]byte("10:00:00 [m] done "+said+"\n10:00:00 [m] done other\n10:00:00 [m] open on 1\n"), 0)
			r.Appeared("tool", "/srv/made", 0)
			p := r.Judge(proof.End{})
			if p.Verdict == proof.Proved || p.Mods[0].Outcome != proof.Silent || p.Mods[1].Outcome != proof.Silent || !strings.Contains(p.Mods[0].Reason, "what cannot be seen") || p.Find("other").Outcome != proof.Confirmed {
				t.Errorf("%q beside tool, of which the log says %q: %s", twin, said, sum(p))
			}
		}
	}
	r := proof.NewReader(talk(t), "/srv", registered("tool", "to\u200bol"), nil)
	r.Feed([]byte("10:00:00 [m] done to\u200bol\n10:00:00 [m] open on 1\n"), 0)
	if p := r.Judge(proof.End{}); p.Mods[0].Outcome != proof.Silent || p.Mods[1].Outcome != proof.Confirmed {
		t.Errorf("a mark that a log shows: %s", sum(p))
	}
}

// A player who quotes an error in the chat of a server makes no mod fail.
func TestErrorsInAChat(t *testing.T) {
	data, err := fs.ReadFile(dialects.FS, "minetest.toml")
	insist.OK(t, err)
	d, err := dialect.Parse("minetest.toml", data)
	insist.OK(t, err)
	const chat, own = "ACTION[Server]: CHAT: <eve> ", "ERROR[Main]: "
	for _, said := range []string{"Runtime error from mod 'b' in callback x", "ModError: Error loading mod \"b\": torn", "ServerError: no", "The following mods could not be found: \"b\"", "mod \"b\" has unsatisfied dependencies: c"} {
		for _, who := range []string{chat, own, "ACTION[Server]: "} {
			r := proof.NewReader(d, "/srv", registered("a", "b"), nil)
			r.Feed([]byte("2026-01-02 10:00:00: INFO[Main]: Mod \"b\" loaded after 1 ms\n2026-01-02 10:00:00: "+who+said+"\n"), 0)
			p := r.Judge(proof.End{})
			if failed := p.Find("b").Outcome == proof.Failed; failed && who != own || who == own && !failed && !strings.HasPrefix(said, "ServerError") {
				t.Errorf("%s%s: %s", who, said, sum(p))
			}
		}
	}
}
