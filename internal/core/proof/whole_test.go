package proof_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"initium/internal/core/proof"
	"initium/internal/golden"
	"initium/internal/insist"
)

// pieces are lines as servers write them: what rules know, what sounds like it, and what does
// not belong there. # stands for a mod, @ for a time.
var pieces = []string{
	"@ [m] begin #", "@ [m] done #", "@ [m] done #", "@ [m] done #", "@ [m] broken #:", "@ [m] broken #:\nwhy: torn\n", "@ [m] broken #:\n\tat x\n\tat y\nReason: sunk", "@ [m] open on 9000", "@ [m] open on x", "@ [m] named Sea, map m1", "@ [m] # is here", "@ [w] error in /srv/mods/#/init.x:3",
	"@ [w] warning: #-old is old", "@ [w] cannot find #", "panic: #.so", "Traceback (most recent call last):\n  File \"/srv/mods/#/a.x\", line 3\nKeyError: 'x'", "@ [e] java.lang.Error: no\n\tat a.b.C\n\t... 3 more\nCaused by: #", "\x1b[31m@ [m] done #\x1b[0m", "10%\r50%\r@ [m] done #", "",
	"  indented #", "@ [m] begin #\r", "@ [m] done # twice # over", "* #", "! #: no good", "3 in all", "@ [m] done", "@ [m]  done #", "@ [m] begin nobody", "@ [m] done nobody", "@ done #", "[m] done #", "@ [m] broken nobody:", "@ [m] done \xff#", "@ [e] exception _# in __#", "@ [m] begin # ", "@ [x] fatal error: # # #",
}

// TestProofsInFull reads logs made of such lines and writes down all that is made of each:
// verdicts, outcomes, times, evidence, remarks, the same in pieces as in one.
func TestProofsInFull(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 4))
	names := []string{"a", "b", "tide_pool", "rock-2", "core", "spare"}
	mods := append(registered("a", "b", "tide_pool", "rock-2"), proof.Expected{Name: "spare", Path: "/srv/mods/spare"}, proof.Expected{Name: "core", Path: "/srv/own/core", Base: true})
	mods[2].Also = []string{"Tide Pool"}
	var all strings.Builder
	for round := range 330 {
		var log strings.Builder
		clock := 36000
		for range 3 + r.IntN(14) {
			line := pieces[r.IntN(len(pieces))]
			if r.IntN(9) == 0 {
				line = "@ [m] open on 9000"
			}
			for strings.Contains(line, "#") {
				line = strings.Replace(line, "#", names[r.IntN(len(names))], 1)
			}
			clock += r.IntN(4)
			line = strings.ReplaceAll(line, "@", fmt.Sprintf("%02d:%02d:%02d", clock/3600, clock/60%60, clock%60))
			log.WriteString(line + "\n")
		}
		text := log.String()
		if r.IntN(4) == 0 {
			text = strings.TrimSuffix(text, "\n")
		}
		status := r.IntN(3)
		end := []proof.End{{}, {}, {Exit: &status}, {Limit: time.Minute}, {Stopped: true}}[r.IntN(5)]
		read := func(feed func(*proof.Reader)) string {
			reader := proof.NewReader(talk(t), "/srv", mods, nil)
			reader.Notice, reader.Stamped = round%11 > 0, round%3 == 0
			reader.Lonely = round%7 == 0
			if round%5 == 0 {
				reader.Secrets, reader.Facts = []string{"torn", "9000"}, map[string]string{"title": "Lake", "map": "m1", "port": "9000"}
			}
			if round%9 == 0 {
				reader.From(7)
			}
			reader.Ask(round%13 == 0)
			feed(reader)
			reader.Flush()
			remarks, err := json.Marshal(reader.Remarks())
			insist.OK(t, err)
			whole, err := json.Marshal(reader.Judge(end))
			insist.OK(t, err)
			at, ready := reader.Ready()
			status := reader.Status()
			return fmt.Sprintf("%d lines, starts %d, ready %v %v, %d done, %d failed, now %q, owed %q, fitted %d, answered %v, whole %v\n  %s\n  remarks %s\n", reader.Lines(), reader.Starts(), ready, at, status.Done, status.Failed, status.Now, status.Owed, reader.Fitted(), reader.Answered(), reader.Whole(), whole, remarks)
		}
		one := read(func(r *proof.Reader) { r.Feed([]byte(text), 1500*time.Millisecond) })
		many := read(func(reader *proof.Reader) {
			for rest := text; rest != ""; {
				n := min(1+r.IntN(40), len(rest))
				reader.Feed([]byte(rest[:n]), 1500*time.Millisecond)
				rest = rest[n:]
			}
		})
		insist.That(t, one == many, "log %d in one\n%s\nin pieces\n%s\n%q", round, one, many, text)
		fmt.Fprintf(&all, "log %d: %q, end %+v\n  %s", round, text, strings.TrimPrefix(fmt.Sprintf("%v %v %v", end.Exit != nil, end.Limit, end.Stopped), " "), one)
	}
	golden.Check(t, "proofs.txt", all.String())
}
