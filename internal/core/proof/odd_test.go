package proof_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/golden"
	"initium/internal/insist"
)

// TestOddLogsInFull reads logs that are thrown together at random, of one process and of
// several, with replies in them, messages of many lines, sources that speak at the same time
// and times of every kind; what each line is taken for and what comes of it in the end is held
// to what was read through once.
func TestOddLogsInFull(t *testing.T) {
	r := rand.New(rand.NewPCG(77, 3))
	plain := []string{"loaded a in 12 ms", "loaded b in 0 ms", "done b", "begin a", "begin b", "begin spare", "all of: a, b core", "all of: 'a' \"b\"", "not found: 'b'", "b wants x, y", "a wants b", "broken: b: too old", "broken: ghost: gone",
		"script mods/a/init:", "script /srv/own/core/x:", "line 3: boom", "giving up: port taken", "giving up: ", "open", "chat: done a", "nothing to see"}
	talked := []string{"named Harbour, map north", "named , map ", "open on 7000", "begin a", "begin b", "done a", "done b", "done ghost", "broken a:", "broken b:", "it is torn", "* a", "* b", "* ghost", "! b: no", "! a: ", "2 in all", "0 in all", "hello"}
	trouble := []string{"warning: b is old", "an error of a", "an error of a here", "Error: torn", "Traceback (most recent call last):", "  File x, line 3", "\tat a.x(y:3)", "Caused by: z", "    indented", "exception in b at /srv/mods/a/x.lua:4:", "panic: nil", "error 12 at 0x7f3a in the hold", "error 13 at 0x8e1b in the hold", "fatal: gone", "", "}"}
	var all strings.Builder
	for round := range 160 {
		d, words := parse(t), plain
		if round%2 == 1 {
			d, words = talk(t), talked
		}
		var fresh []proof.Line
		read := proof.NewReader(d, "/srv", expected, func(l proof.Line) { fresh = append(fresh, l) })
		read.Notice, read.Sole, read.Lonely = true, round%3 == 0, round%7 == 0
		read.Facts = map[string]string{"port": "7000", "map": "north", "title": "Haven"}
		fmt.Fprintf(&all, "== %d: sole %v, lonely %v\n", round, read.Sole, read.Lonely)
		say := func(line string) {
			read.Feed([]byte(line+"\n"), time.Duration(len(fresh))*time.Second)
			for _, l := range fresh {
				fmt.Fprintf(&all, "%d %.40q %s %v", l.Number, l.Text, l.Means, l.Mods)
				if l.Joined {
					all.WriteString(" joined")
				}
				if l.Alarm {
					all.WriteString(" alarm")
				}
				all.WriteString("\n")
			}
			fresh = fresh[:0]
		}
		second := 0
		for range 6 + r.IntN(14) {
			line := words[r.IntN(len(words))]
			if r.IntN(3) == 0 {
				line = trouble[r.IntN(len(trouble))]
			}
			second += r.IntN(3)
			if r.IntN(5) > 0 {
				stamp := fmt.Sprintf("2026-01-02 10:00:%02d ", second%60)
				switch {
				case round%2 == 1:
					line = fmt.Sprintf("10:00:%02d [%s] %s", second%60, []string{"m", "main", "net"}[r.IntN(3)], line)
				case r.IntN(2) == 0:
					line = stamp + []string{"info", "chat", "warn"}[r.IntN(3)] + ": " + line
				}
			}
			switch r.IntN(16) {
			case 0:
				read.Ask(true)
				all.WriteString("asked\n")
			case 1:
				fmt.Fprintf(&all, "answered %v\n", read.Answered())
				read.Ask(false)
			case 2:
				for i := range 45 { // a message longer than is kept
					say(fmt.Sprintf("    at line %d", i))
				}
			}
			say(line)
		}
		read.Flush()
		end := proof.End{}
		switch one := r.IntN(3); r.IntN(4) {
		case 0:
			end.Exit = &one
		case 1:
			end.Limit = time.Minute
		}
		p := read.Judge(end)
		read.Explain(p)
		fmt.Fprintf(&all, "-> %s; starts %d, ready %v, told %v, order %v: %s\n", sum(p), read.Starts(), p.Ready, p.Told, p.Order, p.Reason)
		for _, m := range p.Mods {
			for _, e := range m.Evidence {
				fmt.Fprintf(&all, "   %s %s %d %.50q +%d\n", m.Name, e.Source, e.Line, e.Text, len(e.More))
			}
			if m.Reason != "" || m.Against != "" || len(m.Wanted) > 0 {
				fmt.Fprintf(&all, "   %s: %s; against %q, wants %v\n", m.Name, m.Reason, m.Against, m.Wanted)
			}
		}
		for _, m := range read.Remarks() {
			fmt.Fprintf(&all, "   remark %d x%d %s %s %q +%d\n", m.Line, m.Count, m.Mod, m.Sure, m.Text, len(m.More))
		}
	}
	for _, rules := range []string{"", "[[log.rule]]\nmeans = \"loaded\"\nline = \"{mod}\"\n"} { // rules without a text of their own
		d, err := dialect.Parse("n.toml", []byte("name = \"n\"\n[[place]]\npath = \"{dir}/mods\"\n[start]\ncommand = [\"x\"]\n[[log.rule]]\nmeans = \"ready\"\nline = \"up\"\n"+rules))
		insist.OK(t, err)
		read := proof.NewReader(d, "/srv", registered("a"), nil)
		read.Feed([]byte("a\nup\n"), 0)
		fmt.Fprintf(&all, "== %q: %s\n", rules, sum(read.Judge(proof.End{})))
	}
	golden.Check(t, "odd.txt", all.String())
}
