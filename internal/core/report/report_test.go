package report_test

import (
	"encoding/xml"
	"strings"
	"testing"
	"time"

	"initium/internal/core/proof"
	"initium/internal/core/report"
	"initium/internal/insist"
)

func sample() *report.Report {
	ms, at := 12.0, time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	return &report.Report{Server: "s", Family: "F & Sons", Proof: &proof.Proof{Number: 7, Verdict: proof.NotProved, Ready: true, ReadyAfterMS: 1500, Started: &at, Reason: "1 of 2 <mods>",
		Mods: []proof.Mod{
			{Name: "a_b", Release: "1|2", Outcome: proof.Confirmed, LoadMS: &ms, Evidence: []proof.Evidence{{Line: 3, Text: "loaded <b>a_b</b>"}}},
			{Name: "c", Outcome: proof.Silent, Reason: "nothing said"},
		}},
		Since:   &proof.Comparison{Starts: [2]int{5, 7}, Came: []string{"c"}, New: []proof.Remark{{Line: 9, Text: "<script>x</script>"}}},
		Changes: []report.Change{{At: at, Why: "take in c"}}}
}

func TestPages(t *testing.T) {
	r := sample()
	page, err := r.HTML()
	insist.OK(t, err)
	for _, want := range []string{"s: not proved, ready after 1.50 s", "F &amp; Sons, start 7, 4 March 2026", "loaded &lt;b&gt;a_b&lt;/b&gt;", "12 ms", "came: c", "&lt;script&gt;x", "4 March 05:06: take in c", `class="silent"`, "&#9676; silent"} {
		insist.That(t, strings.Contains(string(page), want), "the page lacks %q", want)
	}
	insist.That(t, !strings.Contains(string(page), "<script>") && !strings.Contains(string(page), "http"), "the page holds a script, or leads elsewhere")
	md := string(r.Markdown())
	for _, want := range []string{"# s: not proved", `| a\_b | 1\|2 | confirmed | 12 ms | log line 3: loaded \<b\>a\_b\</b\> |`, "- came: c", "- 4 March 05:06: take in c"} {
		insist.Holds(t, "the Markdown", md, want)
	}
	r.Since = nil
	insist.Holds(t, "without an earlier proof", string(r.Markdown()), "no proof of an earlier start")
}

func TestJUnit(t *testing.T) {
	data, err := sample().JUnit()
	insist.OK(t, err)
	var suite struct {
		Tests    int    `xml:"tests,attr"`
		Failures int    `xml:"failures,attr"`
		Time     string `xml:"time,attr"`
		Cases    []struct {
			Name    string `xml:"name,attr"`
			Failure *struct {
				Message string `xml:"message,attr"`
			} `xml:"failure"`
		} `xml:"testcase"`
	}
	if err := xml.Unmarshal(data, &suite); err != nil {
		t.Fatalf("%v in\n%s", err, data)
	}
	if suite.Tests != 3 || suite.Failures != 2 || suite.Time != "1.500" || len(suite.Cases) != 3 || suite.Cases[1].Failure != nil || suite.Cases[2].Failure == nil || suite.Cases[2].Failure.Message != "silent: nothing said" {
		t.Errorf("%+v in\n%s", suite, data)
	}
}
