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

// Several servers are on one page, with those of which there is nothing to report; one that has changed since it was
// proved is not counted as proved.
func TestAll(t *testing.T) {
	proved, changed := sample(), sample()
	proved.Proof = &proof.Proof{Verdict: proof.Proved, Ready: true, ReadyAfterMS: 700, Number: 2, Handed: true}
	proved.Server, changed.Server = "good", "moved"
	changed.Proof = &proof.Proof{Verdict: proof.Proved, Number: 3, There: "harbour"}
	changed.Changed = []string{"off: a", "b 2, was <1>"}
	all := &report.All{At: time.Date(2026, 3, 5, 1, 2, 0, 0, time.UTC), Reports: []*report.Report{sample(), proved, changed}, Without: []report.Without{{Server: "young", Why: "never started"}}}
	insist.Same(t, "the title", all.Title(), "1 of 4 servers proved, and 1 changed since it was")
	page, err := all.HTML()
	insist.OK(t, err)
	insist.Holds(t, "the page", string(page), "<title>1 of 4 servers proved", `<a href="#good">good</a>`, `<section id="moved">`, "off: a, b 2, was &lt;1&gt;", "never started", "its log was handed in", "started at harbour, its log read over the line", "0.70 s", "loaded &lt;b&gt;a_b&lt;/b&gt;")
	insist.That(t, strings.Count(string(page), "<html") == 1 && strings.Count(string(page), "</html>") == 1, "it is not one page")
	md := string(all.Markdown())
	insist.Holds(t, "the Markdown", md, "# 1 of 4 servers proved", "| young | | never started |", "\n## s: not proved", "### Since the last proof", `was \<1\>`)
	data, err := all.JUnit()
	insist.OK(t, err)
	var suites struct {
		Suites []struct {
			Name     string `xml:"name,attr"`
			Failures int    `xml:"failures,attr"`
		} `xml:"testsuite"`
	}
	insist.OK(t, xml.Unmarshal(data, &suites))
	insist.That(t, len(suites.Suites) == 4 && suites.Suites[0].Failures == 2 && suites.Suites[1].Failures == 0 && suites.Suites[3].Name == "initium.young" && suites.Suites[3].Failures == 1, "%+v", suites)
	md = string(changed.Markdown())
	insist.Holds(t, "alone", md, "Changed since this start: off: a")
}
