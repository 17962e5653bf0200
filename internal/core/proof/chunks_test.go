package proof_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/golden"
	"initium/internal/insist"
)

// TestHoweverALogComes reads random logs in one piece and in pieces of every size, with and
// without somebody who looks at each line, and by rules of two letters too: all say the same.
func TestHoweverALogComes(t *testing.T) {
	r := rand.New(rand.NewPCG(12, 4))
	short, err := dialect.Parse("s.toml", []byte(source+"[[log.rule]]\nmeans = \"loaded\"\nline = \"+ {mod}\"\n"))
	insist.OK(t, err)
	long := strings.Repeat("y", proof.MaxLine)
	words := []string{"loaded a in 12 ms", "2026-01-02 10:00:00 info: done b", "2026-01-02 10:00:00 chat: done b", "begin a", "begin b", "all of: a, b core", "not found: 'b'", "b wants x, y", "broken: b: too old",
		"script mods/a/init:", "line 3: boom", "giving up: port taken", "open", "+ a", "+ b", "warning: b is old", "an error of a\n\tat a.x\n at b\n\n\tno", "Error: torn\nTraceback (most recent call last):\n  File x\nE: y",
		"", " ", "done", "\x1b[31mbroken: a: red\x1b[0m", "nothing", long, long[1:], long + "x", "open" + long, "broken: a: " + long, "script " + long + ":"}
	for round := range 250 {
		var log strings.Builder
		for range 2 + r.IntN(12) {
			log.WriteString(words[r.IntN(len(words)-6*min(round%8, 1))])
			log.WriteString([]string{"\n", "\n", "\n", "\r\n", "\r", "\r\r\n", ""}[r.IntN(7)])
		}
		d := []*dialect.Dialect{parse(t), short}[round%2]
		said := func(noticed bool, onLine func(proof.Line), feed func(*proof.Reader)) string {
			read := proof.NewReader(d, "/srv", expected, onLine)
			read.Notice = noticed
			feed(read)
			read.Flush()
			read.Flush() // once more changes nothing
			data, err := json.Marshal([]any{read.Judge(proof.End{}), read.Remarks(), read.Lines(), read.Starts(), read.Fitted()})
			insist.OK(t, err)
			return string(data)
		}
		whole := log.String()
		for _, noticed := range []bool{false, true} {
			want := said(noticed, func(proof.Line) {}, func(read *proof.Reader) { read.Feed([]byte(whole), 0) })
			for name, got := range map[string]string{
				"by nobody's lines": said(noticed, nil, func(read *proof.Reader) { read.Feed([]byte(whole), 0) }),
				"from a file":       said(noticed, nil, func(read *proof.Reader) { read.ReadFrom(iotest.HalfReader(strings.NewReader(whole))) }),
				"in pieces": said(noticed, nil, func(read *proof.Reader) {
					for rest := whole; rest != ""; {
						n := min(1+r.IntN([]int{1, 3, 40, 5000, 70_000}[r.IntN(5)]), len(rest))
						read.Feed([]byte(rest[:n]), 0)
						rest = rest[n:]
					}
				}),
				"in pieces, line by line": said(noticed, func(proof.Line) {}, func(read *proof.Reader) {
					for rest := whole; rest != ""; {
						n := min(1+r.IntN(9000), len(rest))
						read.Feed([]byte(rest[:n]), 0)
						rest = rest[n:]
					}
				}),
			} {
				insist.Need(t, got == want, "round %d, %s, noticed %v: %.600q\n%.900s\nwant\n%.900s", round, name, noticed, whole, got, want)
			}
		}
	}
}

// TestWhoIsMeant tells of every path and every text whose mod it is taken to speak of, with a
// server known and without.
func TestWhoIsMeant(t *testing.T) {
	d, err := dialect.Parse("p.toml", []byte(strings.Replace(source, "[start]", "[[place]]\npath = \"{dir}/plug\"\nfile = \"p-{mod}.so\"\n[[place]]\npath = \"{dir}\"\n[start]", 1)+"[[log.rule]]\nmeans = \"loaded\"\nline = \"from {path}\"\n"))
	insist.OK(t, err)
	known := append(slices.Clone(expected), proof.Expected{Name: "deep", Path: "/srv/mods/a/deep", Registered: true}, proof.Expected{Name: "one", Path: "/srv/plug/p-one.so", Registered: true}, proof.Expected{Name: "none", Registered: true})
	var all strings.Builder
	for _, path := range []string{"/srv/mods/a/x", "/srv/mods/a", "/srv/mods/a2/x", "/srv/mods/a/deep/x", "/srv/mods/a/deeper/x", "mods/a/x", "mods/../mods/b-folder/x", "/srv/mods/b-folder//x", "./mods/a/x", "/srv/mods/none/x",
		"/elsewhere/a/x", "/elsewhere/a/b-folder/x", "/elsewhere/a", "/elsewhere/b-folder/a/x", "...b-folder/x", "/srv/plug/p-one.so", "p-one.so", "plug/p-one.so/x", "one.lua", "a.lua", "b.so", "x.so", "/other/plug/p-two.so", "/other/plug/two.so", "/other/plug/p-t/x.so",
		"/other/mods/two/x", "/other/mods/two", "/other/mods/two/", "/other/mods/t o/x", "/other/mods/../x", "/other/mods/./x", `\other\mods\three\x`, "/other/mods/mods/four/x", "mods/five/x"} {
		fmt.Fprintf(&all, "%s:", path)
		for _, lonely := range []bool{false, true} {
			r := proof.NewReader(d, "/srv", known, nil)
			r.Lonely = lonely
			r.Feed([]byte("script "+path+":\nboom\n"), 0)
			r.Flush()
			var who []string
			for _, m := range r.Judge(proof.End{}).Mods {
				if m.Outcome == proof.Failed {
					who = append(who, m.Name)
				}
			}
			r = proof.NewReader(d, "/srv", known, nil)
			r.Lonely = lonely
			r.Feed([]byte("from "+path+"\n"), 0)
			for _, m := range r.Judge(proof.End{}).Mods {
				if m.Outcome == proof.Confirmed || m.Outcome == proof.Unlisted {
					who = append(who, "loaded "+m.Name)
				}
			}
			fmt.Fprintf(&all, " %q", who)
		}
		all.WriteString("\n")
	}
	about := func(message string) string {
		r := proof.NewReader(d, "/srv", known, nil)
		r.Notice = true
		r.Feed([]byte(message+"\n"), 0)
		r.Flush()
		var who []string
		for _, m := range r.Remarks() {
			who = append(who, m.Mod+" "+string(m.Sure))
		}
		return strings.Join(who, ", ")
	}
	var near []string
	for c := rune(' '); c < 0x7f; c++ {
		if strings.HasPrefix(about("error: b"+string(c)+"x"), "b ") && strings.HasPrefix(about("error: x"+string(c)+"b"), "b ") {
			near = append(near, string(c))
		}
	}
	fmt.Fprintf(&all, "a name ends at %s\n", strings.Join(near, ""))
	near = nil
	for c := rune(' '); c < 0x7f; c++ {
		if about("error"+string(c)) != "" && about(string(c)+"error") != "" {
			near = append(near, string(c))
		}
	}
	fmt.Fprintf(&all, "a word of trouble ends at %s\n", strings.Join(near, ""))
	for _, message := range []string{"error: bé", "error: éb", "error of b.", "error of b-", "error of b..", "error of b.so", "error of b.so.", "error: a and spare", "error: spare and a", "error of /srv/mods/a/x:", "error of /srv/mods/a/x.", "error: /nowhere/x and b", "error of core", "error of ghost", "errors of b", "terror of b", "an ERROR of b", "Error of b", "eRror of b"} {
		fmt.Fprintf(&all, "%q: %s\n", message, about(message))
	}
	for _, names := range []string{"a, b", "a b", "a,b", "'a' b", `"a", "b"`, "a; b", "spare, x", "x y, a", "a and b"} {
		p := read(t, "all of: "+names+"\nopen\n", proof.End{})
		fmt.Fprintf(&all, "names in %q: %s\n", names, sum(p))
	}
	golden.Check(t, "meant.txt", all.String())
}

// TestSame tells of each thing in which two starts can differ that it is a difference.
func TestSame(t *testing.T) {
	kinds := map[string]proof.Comparison{
		"came": {Came: []string{"x"}}, "gone": {Gone: []string{"x"}}, "releases": {Releases: make([]proof.Difference, 1)}, "outcomes": {Outcomes: make([]proof.Difference, 1)}, "moved": {Moved: []string{"x"}},
		"remarks": {New: make([]proof.Remark, 1)}, "settings": {Settings: make([]proof.Difference, 1)}, "files": {Files: make([]proof.FileChange, 1)},
	}
	for name, c := range kinds {
		for other, d := range kinds { // together too
			both := proof.Comparison{Came: append(c.Came, d.Came...), Gone: append(c.Gone, d.Gone...), Releases: append(c.Releases, d.Releases...), Outcomes: append(c.Outcomes, d.Outcomes...),
				Moved: append(c.Moved, d.Moved...), New: append(c.New, d.New...), Settings: append(c.Settings, d.Settings...), Files: append(c.Files, d.Files...)}
			insist.That(t, !both.Same() && !c.Same(), "%s and %s: it is said to be the same", name, other)
		}
	}
	insist.That(t, (&proof.Comparison{Times: make([]proof.LoadTime, 1)}).Same(), "other times alone are a difference")
	ms := 5.0
	c := proof.Compare(&proof.Proof{Mods: []proof.Mod{{Name: "a", LoadMS: &ms}, {Name: "b"}}}, &proof.Proof{Mods: []proof.Mod{{Name: "a"}, {Name: "b", LoadMS: &ms}}}, proof.Known{}, proof.Known{})
	insist.That(t, len(c.Times) == 0, "times of which one is not known are compared: %+v", c.Times)
}

// TestWhatAppears is evidence for a mod that the log says nothing of, and for no other.
func TestWhatAppears(t *testing.T) {
	r := proof.NewReader(parse(t), "/srv", append(registered("c"), expected...), nil)
	r.Feed([]byte("loaded a in 1 ms\nbroken: b: torn\n"), 0)
	for _, mod := range []string{"a", "b", "c", "ghost"} {
		r.Appeared(mod, "/srv/data/"+mod, 0)
		r.Appeared(mod, "/srv/data/again", 0)
	}
	p := r.Judge(proof.End{})
	var got []string
	for _, m := range p.Mods {
		for _, e := range m.Evidence {
			got = append(got, m.Name+" "+string(e.Source)+" "+e.Text)
		}
	}
	insist.Same(t, "", strings.Join(got, ", "), "c path /srv/data/c has appeared, a log loaded a in 1 ms, b log broken: b: torn")
}
