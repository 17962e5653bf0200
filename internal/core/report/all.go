package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"time"

	"initium/internal/core/proof"
)

// All is one page for several servers. Its strings are safe to show.
type All struct {
	At      time.Time // when it was written
	Reports []*Report
	Without []Without
}

// Without is a server of which there is nothing to report, and why.
type Without struct{ Server, Why string }

// Title says in a line how many are proved; one that has changed since is not counted among them.
func (a *All) Title() string {
	proved, changed := 0, 0
	for _, r := range a.Reports {
		switch {
		case r.Proof.Verdict != proof.Proved:
		case len(r.Changed) > 0:
			changed++
		default:
			proved++
		}
	}
	s := fmt.Sprintf("%d of %d servers proved", proved, len(a.Reports)+len(a.Without))
	switch {
	case changed == 1:
		s += ", and 1 changed since it was"
	case changed > 1:
		s += fmt.Sprintf(", and %d changed since they were", changed)
	}
	return s
}

// ready is how long a server took.
func ready(r *Report) string {
	if !r.Proof.Ready {
		return ""
	}
	return fmt.Sprintf("%.2f s", float64(r.Proof.ReadyAfterMS)/1000)
}

// Markdown writes them as one page of Markdown.
func (a *All) Markdown() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "# %s\n\n%s\n\n| server | kind | the last start | ready after | mods | since |\n|---|---|---|---|---|---|\n", plain(a.Title()), a.At.Format("2 January 2006, 15:04 MST"))
	for _, r := range a.Reports {
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %d | %s |\n", plain(r.Server), plain(r.Family), r.Proof.Verdict, ready(r), len(r.Proof.Mods), plain(r.now()))
	}
	for _, w := range a.Without {
		fmt.Fprintf(&b, "| %s | | %s | | | |\n", plain(w.Server), plain(w.Why))
	}
	for _, r := range a.Reports {
		b.WriteByte('\n')
		b.Write(r.markdown("##"))
	}
	return b.Bytes()
}

// HTML writes them as one page that needs nothing else.
func (a *All) HTML() ([]byte, error) {
	var b bytes.Buffer
	err := pages.ExecuteTemplate(&b, "all", a)
	return b.Bytes(), err
}

// JUnit writes them as test results, a suite for each; a server of which there is nothing to report has failed.
func (a *All) JUnit() ([]byte, error) {
	all := struct {
		XMLName xml.Name `xml:"testsuites"`
		Suites  []suite  `xml:"testsuite"`
	}{}
	for _, r := range a.Reports {
		all.Suites = append(all.Suites, r.suite())
	}
	for _, w := range a.Without {
		all.Suites = append(all.Suites, suite{Name: "initium." + w.Server, Tests: 1, Failures: 1, Time: "0.000",
			Cases: []oneOf{{Class: w.Server, Name: "the start", Time: "0.000", Failure: &because{Message: w.Why, Text: w.Why}}}})
	}
	return written(all)
}
