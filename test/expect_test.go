package test

import (
	"strconv"
	"strings"
	"testing"

	"initium/internal/insist"
)

// What the operator expects besides is part of every proof, of each kind, met and not.
func TestExpectations(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n# berth b\n")
	h.cargo("a", "", "haul 1\n")
	h.cargo("b", "", "haul 1\n")
	for _, met := range [][]string{{"--line", "a is{any}fast"}, {"--no-line", "leak"}, {"--to", "roll", "--reply", "a"}, {"--path", "cargo/a"}, {"--told", "title=Test"}, {"--port", h.port}, {"b", "--path", "nowhere"}} {
		h.do(0, append([]string{"expect", "h"}, met...)...)
	}
	h.do(0, "expect", "h", "--line", "a is{any}fast", "--because", "it has to load") // the same, with a reason
	insist.Same(t, "listed", strings.Count(h.do(0, "expect", "h"), "\n"), 7)
	out := h.do(0, "prove", "h")
	insist.Holds(t, "the proof", out, `expected: a line of the log holds "a is{any}fast", and so it is: line `, `no line of the log holds "leak", and so it is`, `the reply to "roll" holds "a", and so it is: `,
		"cargo/a is there, and so it is", "the server says that its title is Test, and so it is", "the server has port "+h.port+" open, and so it is: ")
	insist.Lacks(t, "of a mod that is off", out, "nowhere")
	for _, unmet := range []struct{ say, reason string }{
		{"--line ghost", `not as expected: a line of the log holds "ghost", and that is not so: no line does`},
		{"--no-line made{any}fast --because quiet", `not as expected: no line of the log holds "made{any}fast", and that is not so: line `},
		{"--to roll --reply ghost", `not as expected: the reply to "roll" holds "ghost", and that is not so: it said `},
		{"a --path cargo/a/ghost", "not as expected: a: cargo/a/ghost is there, and that is not so: "},
		{"--told title=Other", "not as expected: the server says that its title is Other, and that is not so: it says Test"},
		{"--port 1", "not as expected: the server has port 1 open, and that is not so"},
	} {
		h.do(0, append([]string{"expect", "h"}, strings.Fields(unmet.say)...)...)
		var list []struct{ Number int }
		h.json(0, &list, "expect", "h", "--json")
		p := h.prove(1)
		insist.That(t, strings.HasPrefix(p.Reason, unmet.reason), "%s: %s", unmet.say, p.Reason)
		var r rehearsalJSON
		h.json(1, &r, "rehearse", "h", "--json")
		insist.That(t, strings.HasPrefix(r.Proof.Reason, unmet.reason), "%s, rehearsed: %s", unmet.say, r.Proof.Reason)
		h.do(0, "expect", "h", "--drop", strconv.Itoa(list[len(list)-1].Number))
	}
	h.do(0, "prove", "h", "--keep-running")
	insist.Lacks(t, "after the stop", h.do(0, "stop", "h")+h.do(0, "servers"), "not proved")
	h.do(2, "expect", "h", "--drop", "99")
	h.do(2, "expect", "h", "ghost", "--path", "x")
	h.do(2, "expect", "h", "--line", "a", "--path", "x")
	h.do(2, "expect", "h", "--because", "x")
	h.do(2, "expect", "h", "--told", "title")
	insist.Holds(t, "a secret", h.do(2, "expect", "h", "--line", "HS-1"), "a secret of the server cannot be expected")
}
