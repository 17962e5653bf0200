// Package report writes the proof of a start down for others: a page to read, to
// send or to keep, and the form in which build servers take results.
package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"html/template"
	"maps"
	"slices"
	"strings"
	"time"

	"initium/internal/core/draw"
	"initium/internal/core/proof"
)

// Report is what a page says. Its strings are safe to show.
type Report struct {
	Server, Family string
	Port           string
	Proof          *proof.Proof
	Since          *proof.Comparison // with the last proof before; nil when there is none
	Changes        []Change          // what was done since then
	Changed        []string          // what of the line-up is other by now than it was at the start, in words
}

// Change is an entry of the ledger.
type Change struct {
	At  time.Time
	Why string
}

// title says in a line how the start went.
func (r *Report) title() string {
	s := fmt.Sprintf("%s: %s", r.Server, r.Proof.Verdict)
	if r.Proof.Ready {
		s += fmt.Sprintf(", ready after %.2f s", float64(r.Proof.ReadyAfterMS)/1000)
	}
	return s
}

// when says which start it is, and when it was made as far as that is known.
func (r *Report) when() string {
	start := fmt.Sprintf("start %d", r.Proof.Number)
	if r.Proof.Started != nil {
		start += ", " + r.Proof.Started.Format("2 January 2006, 15:04:05 MST")
	}
	switch {
	case r.Proof.Handed:
		start += "; its log was handed in, and that it is of this line-up is taken from whoever did"
	case r.Proof.There != "":
		start += "; started at " + r.Proof.There + ", its log read over the line"
	}
	return start
}

// now says what is other by now, "" where nothing is.
func (r *Report) now() string {
	if len(r.Changed) == 0 {
		return ""
	}
	return "Changed since this start: " + strings.Join(r.Changed, ", ") + "."
}

// evidence is what an outcome rests on.
func evidence(m *proof.Mod) string {
	e := m.Best()
	if e == nil {
		return ""
	}
	return fmt.Sprintf("%s: %s", e.Where(), e.Text)
}

func load(m *proof.Mod) string {
	if m.LoadMS == nil {
		return ""
	}
	return fmt.Sprintf("%.0f ms", *m.LoadMS)
}

// since are the differences from the last proof, in words.
func (r *Report) since() (lines []string) {
	if r.Since == nil {
		return []string{"There is no proof of an earlier start to compare with."}
	}
	if lines = r.Since.Words(); len(lines) == 0 {
		lines = []string{fmt.Sprintf("Nothing of note is other than at start %d.", r.Since.Starts[0])}
	}
	return lines
}

// Markdown writes the report as a page of Markdown.
func (r *Report) Markdown() []byte { return r.markdown("#") }

func (r *Report) markdown(heading string) []byte {
	var b bytes.Buffer
	p := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	p("%s %s\n", heading, plain(r.title()))
	p("%s, %s\n", plain(r.Family), r.when())
	if now := r.now(); now != "" {
		p("%s\n", plain(now))
	}
	if r.Proof.Reason != "" {
		p("Not proved because %s.\n", plain(r.Proof.Reason))
	}
	p("| mod | release | outcome | load time | evidence |\n|---|---|---|---|---|")
	for i := range r.Proof.Mods {
		m := &r.Proof.Mods[i]
		p("| %s | %s | %s | %s | %s |", plain(m.Name), plain(m.Release), m.Outcome, load(m), plain(said(m)))
	}
	if itself := r.itself(); len(itself) > 0 {
		p("\n%s# What the server says of itself\n", heading)
		for _, line := range itself {
			p("- %s", plain(line))
		}
	}
	p("\n%s# Since the last proof\n", heading)
	for _, line := range r.since() {
		p("- %s", plain(line))
	}
	if len(r.Changes) > 0 {
		p("\n%s# What was done\n", heading)
		for _, c := range r.Changes {
			p("- %s: %s", c.At.Format("2 January 15:04"), plain(c.Why))
		}
	}
	return b.Bytes()
}

// Draw draws the report on one page.
func (r *Report) Draw() *draw.Picture {
	page := &draw.Page{Title: r.title(), About: fmt.Sprintf("%s, %s", r.Family, r.when()), Reason: r.Proof.Reason}
	if now := r.now(); now != "" {
		page.Parts = append(page.Parts, draw.PagePart{Title: "By now", Lines: []string{now}})
	}
	for i := range r.Proof.Mods {
		m := &r.Proof.Mods[i]
		page.Rows = append(page.Rows, draw.PageRow{Mark: draw.MarkOf(m.Outcome), Name: m.Name, Release: m.Release, Load: load(m), Said: said(m)})
	}
	if itself := r.itself(); len(itself) > 0 {
		page.Parts = append(page.Parts, draw.PagePart{Title: "What the server says of itself", Lines: itself})
	}
	page.Parts = append(page.Parts, draw.PagePart{Title: "Since the last proof", Lines: r.since()})
	if len(r.Changes) > 0 {
		part := draw.PagePart{Title: "What was done"}
		for _, c := range r.Changes {
			part.Lines = append(part.Lines, c.At.Format("2 January 15:04")+": "+c.Why)
		}
		page.Parts = append(page.Parts, part)
	}
	return page.Draw()
}

// said is what there is to say of a mod: what was wrong, what speaks against that, and
// the evidence.
func said(m *proof.Mod) string {
	words := []string{}
	for _, s := range []string{m.Reason, m.Against, evidence(m)} {
		if s != "" {
			words = append(words, s)
		}
	}
	return strings.Join(words, "; ")
}

// itself is what the server has said of itself, and where that is other than it was
// set.
func (r *Report) itself() (lines []string) {
	for _, fact := range slices.Sorted(maps.Keys(r.Proof.Told)) {
		lines = append(lines, fact+": "+r.Proof.Told[fact])
	}
	return append(lines, r.Proof.Differs...)
}

// plain keeps text from being taken for Markdown.
func plain(s string) string {
	var b strings.Builder
	for _, c := range s {
		if strings.ContainsRune("\\`*_{}[]<>()#|!~", c) {
			b.WriteByte('\\')
		}
		b.WriteRune(c)
	}
	return b.String()
}

// HTML writes the report as one page that needs nothing else.
func (r *Report) HTML() ([]byte, error) {
	var b bytes.Buffer
	err := pages.ExecuteTemplate(&b, "page", r)
	return b.Bytes(), err
}

// pages are those of one server and of several.
var pages = template.Must(template.New("").Funcs(template.FuncMap{
	"evidence": evidence, "load": load, "title": (*Report).title, "when": (*Report).when, "now": (*Report).now, "since": (*Report).since, "itself": (*Report).itself, "ready": ready,
}).Parse(page))

const page = `{{define "head"}}<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{.}}</title>
<style>
  :root { color-scheme: light dark; --line: #8885; --good: #00695a; --bad: #b03a00; --warn: #855f00; --other: #6a3d9a }
  @media (prefers-color-scheme: dark) { :root { --good: #4fc3a6; --bad: #ff8a5c; --warn: #e3b84f; --other: #c3a6ff } }
  body { font: 15px/1.5 system-ui, sans-serif; margin: 2.5rem auto; padding: 0 1rem; max-width: 68rem }
  h1 { font-size: 1.4rem; margin: 0 } h2 { font-size: 1.05rem; margin: 2rem 0 .5rem }
  table { border-collapse: collapse; width: 100% } th { text-align: left; font-weight: 600 }
  td, th { border-bottom: 1px solid var(--line); padding: .25rem .75rem .25rem 0; vertical-align: top }
  td.n { text-align: right; white-space: nowrap } td.e { font-family: ui-monospace, monospace; font-size: .85em; overflow-wrap: anywhere }
  .confirmed { color: var(--good) } .failed { color: var(--bad) } .silent { color: var(--warn) } .unlisted { color: var(--other) }
  .dim { opacity: .7 }
</style>
{{end}}{{define "page"}}{{template "head" (title .)}}<h1>{{title .}}</h1>
{{template "body" .}}</html>
{{end}}{{define "body"}}<p class="dim">{{.Family}}, {{when .}}</p>
{{with now .}}<p>{{.}}</p>{{end}}
{{with .Proof.Reason}}<p>Not proved because {{.}}.</p>{{end}}
<table>
<tr><th>mod<th>release<th>outcome<th>load time<th>evidence</tr>
{{range .Proof.Mods}}<tr><td>{{.Name}}<td>{{.Release}}<td class="{{.Outcome}}">{{if eq .Outcome "confirmed"}}&#9670;{{else if eq .Outcome "failed"}}&#10005;{{else if eq .Outcome "silent"}}&#9676;{{else}}&#9671;{{end}} {{.Outcome}}<td class="n">{{load .}}<td class="e">{{with .Reason}}{{.}}<br>{{end}}{{with .Against}}{{.}}<br>{{end}}{{evidence .}}</tr>
{{end}}</table>
{{with itself .}}<h2>What the server says of itself</h2>
<ul>{{range .}}<li>{{.}}</li>{{end}}</ul>{{end}}
<h2>Since the last proof</h2>
<ul>{{range since .}}<li>{{.}}</li>{{end}}</ul>
{{with .Changes}}<h2>What was done</h2>
<ul>{{range .}}<li>{{.At.Format "2 January 15:04"}}: {{.Why}}</li>{{end}}</ul>{{end}}
{{end}}{{define "all"}}{{template "head" .Title}}<h1>{{.Title}}</h1>
<p class="dim">{{.At.Format "2 January 2006, 15:04 MST"}}</p>
<table>
<tr><th>server<th>kind<th>the last start<th>ready after<th>mods<th>since</tr>
{{range .Reports}}<tr><td><a href="#{{.Server}}">{{.Server}}</a><td>{{.Family}}<td class="{{if eq .Proof.Verdict "proved"}}confirmed{{else}}failed{{end}}">{{if eq .Proof.Verdict "proved"}}&#9670;{{else}}&#10005;{{end}} {{.Proof.Verdict}}<td class="n">{{ready .}}<td class="n">{{len .Proof.Mods}}<td>{{with now .}}{{.}}{{end}}</tr>
{{end}}{{range .Without}}<tr><td>{{.Server}}<td><td colspan="4">{{.Why}}</tr>
{{end}}</table>
{{range .Reports}}<section id="{{.Server}}"><h1 style="margin-top:3rem">{{title .}}</h1>
{{template "body" .}}</section>
{{end}}</html>
{{end}}`

// The shape of JUnit results, as far as build servers agree on it.
type (
	suite struct {
		XMLName  xml.Name `xml:"testsuite"`
		Name     string   `xml:"name,attr"`
		Tests    int      `xml:"tests,attr"`
		Failures int      `xml:"failures,attr"`
		Skipped  int      `xml:"skipped,attr"`
		Time     string   `xml:"time,attr"` // seconds
		At       string   `xml:"timestamp,attr,omitempty"`
		Cases    []oneOf  `xml:"testcase"`
	}
	oneOf struct {
		Class   string   `xml:"classname,attr"`
		Name    string   `xml:"name,attr"`
		Time    string   `xml:"time,attr"`
		Failure *because `xml:"failure,omitempty"`
		Out     string   `xml:"system-out,omitempty"`
	}
	because struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// JUnit writes the report as test results: a case for the start itself, and one
// for each mod.
func (r *Report) JUnit() ([]byte, error) { return written(r.suite()) }

func written(v any) ([]byte, error) {
	data, err := xml.MarshalIndent(v, "", "  ")
	return append([]byte(xml.Header), append(data, '\n')...), err
}

func (r *Report) suite() suite {
	seconds := func(ms float64) string { return fmt.Sprintf("%.3f", ms/1000) }
	s := suite{Name: "initium." + r.Server, Time: seconds(float64(r.Proof.ReadyAfterMS))}
	if r.Proof.Started != nil {
		s.At = r.Proof.Started.UTC().Format("2006-01-02T15:04:05")
	}
	start := oneOf{Class: r.Server, Name: "the start", Time: s.Time}
	if r.Proof.Verdict != proof.Proved {
		start.Failure = &because{Message: r.Proof.Reason, Text: r.Proof.Reason}
	}
	s.Cases = append(s.Cases, start)
	for i := range r.Proof.Mods {
		m := &r.Proof.Mods[i]
		c := oneOf{Class: r.Server, Name: m.Name, Time: "0.000", Out: evidence(m)}
		if m.LoadMS != nil {
			c.Time = seconds(*m.LoadMS)
		}
		if m.Outcome == proof.Failed || m.Outcome == proof.Silent {
			c.Failure = &because{Message: fmt.Sprintf("%s: %s", m.Outcome, m.Reason), Text: evidence(m)}
		}
		s.Cases = append(s.Cases, c)
	}
	for _, c := range s.Cases {
		s.Tests++
		if c.Failure != nil {
			s.Failures++
		}
	}
	return s
}
