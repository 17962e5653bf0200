package proof_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/insist"
)

const gate = `
name = "gate"
title = "Gate"
order = "listed"
[[place]]
path = "{dir}/mods"
[[registration]]
name = "list"
file = "{dir}/list"
format = "script"
shape = "line"
line = "{mod}"
[start]
directory = "{dir}"
command = ["x"]
[[log.rule]]
means = "ready"
line = "up"
[[log.rule]]
means = "loaded"
line = "found {mod}"
from = "loading {any}"
until = "loaded all"
[[log.rule]]
means = "loading"
line = "begins {mod}"
[[log.rule]]
means = "failed"
line = "broke {mod}"
next = true
[[log.rule]]
means = "failed"
line = "bad {path}"
`

// What is said after a start is told apart; and rules count in their part of the log only.
func TestAfterTheStart(t *testing.T) {
	d, err := dialect.Parse("gate.toml", []byte(gate))
	insist.OK(t, err)
	for name, test := range map[string]struct {
		settle, reopen time.Duration
		ends           int
		several        bool   // the log may be of several starts
		log            string // a line each, after the second at which it comes
		want, later    string
	}{
		"in its part":                {log: "0 found b|0 loading 2|0 found a|0 loaded all|0 found b|0 up", want: "not proved; a confirmed; b silent"},
		"another part":               {log: "0 loading|0 loading 1|0 found a|0 loaded all|0 up|0 loading 1|0 found b|0 loaded all|0 found x", want: "proved; a confirmed; b confirmed"},
		"on the line that begins it": {log: "0 up|0 loading 1|1 found a|2 found b", want: "proved; a confirmed; b confirmed"},
		"later, by the time":         {settle: time.Second, log: "1 loading 1|1 found a|2 up|5 found b|6 found b", want: "not proved; a confirmed; b silent", later: "b confirmed  4,5"},
		"not later yet":              {settle: time.Second, log: "1 loading 1|1 found a|2 up|4 found b", want: "proved; a confirmed; b confirmed", later: "-"},
		"fails later":                {settle: time.Second, log: "1 loading 1|1 found a|1 found b|2 up|9 broke b|9 a nail|10 found b", want: "proved; a confirmed; b confirmed", later: "b confirmed  5,6,7"},
		"has failed in the end":      {settle: time.Second, log: "1 loading 1|1 found a|1 found b|2 up|9 found b|9 broke b|9 a nail", want: "proved; a confirmed; b confirmed", later: "b failed a nail 6,7"},
		"loads once more":            {settle: time.Second, log: "1 loading 1|1 found a|1 found b|2 up|9 begins b|9 found b", want: "proved; a confirmed; b confirmed", later: ""},
		"a stranger, and nobody's":   {settle: time.Second, log: "1 loading 1|1 found a|1 found b|2 up|9 found new|9 bad nowhere/at/all", want: "proved; a confirmed; b confirmed", later: "new confirmed  5"},
		"by the line":                {ends: 4, log: "0 loading 1|0 found a|0 found b|0 up|0 broke a|0 a nail", want: "proved; a confirmed; b confirmed", later: "a failed a nail 5,6"},
		"of the next start":          {several: true, settle: time.Second, log: "1 loading 1|1 found a|1 found b|2 up|90 broke a|90 a nail|91 loading 1|91 found b|92 up", want: "not proved; a failed (a nail; a mod has loaded anew since then, and nothing more was said of this one); b confirmed"},
		"held back until the stop":   {ends: 3, reopen: 9 * time.Second, log: "0 loading 1|0 found a|0 up|8 found x|9 found b", want: "proved; a confirmed; b confirmed", later: "x confirmed  4"},
	} {
		r := proof.NewReader(d, "/srv", []proof.Expected{{Name: "a", Registered: true}, {Name: "b", Registered: true}}, nil)
		r.Sole, r.Settle = !test.several, test.settle
		if test.ends > 0 {
			r.End(test.ends)
		}
		if test.reopen > 0 {
			r.Reopen(test.reopen)
		}
		for _, line := range strings.Split(test.log, "|") {
			var second int
			insist.OK(t, insist.Err(fmt.Sscan(line, &second)))
			_, said, _ := strings.Cut(line, " ")
			r.Feed([]byte(said+"\n"), time.Duration(second)*time.Second)
		}
		p := r.Judge(proof.End{})
		insist.Same(t, name, sum(p), test.want)
		if test.later == "-" {
			continue
		}
		var later []string
		for _, m := range p.Later {
			var lines []string
			for _, e := range m.Evidence {
				lines = append(lines, fmt.Sprint(e.Line))
			}
			later = append(later, fmt.Sprintf("%s %s %s %s", m.Name, m.Outcome, m.Reason, strings.Join(lines, ",")))
		}
		insist.Same(t, name+": later", strings.Join(later, "; "), test.later)
	}
}
