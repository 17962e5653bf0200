// Package check says what is wrong with a server before it is started: each
// finding with its place and, where one exists, a remedy; and what the server
// will do with each mod.
package check

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/lineup"
	"initium/internal/core/order"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// Severity is how much a finding matters.
type Severity string

// An error stops a mod or the server; a warning is likely to surprise; a note
// is good to know.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Note    Severity = "note"
)

// Finding is one thing that check has to say. Its strings are safe to show.
type Finding struct {
	Code     Code            `json:"code"`
	Severity Severity        `json:"severity"`
	Mod      string          `json:"mod"`
	File     string          `json:"file"`
	Line     int             `json:"line"`
	Column   int             `json:"column"`
	Message  string          `json:"message"`
	Remedy   string          `json:"remedy"`             // "" when there is none
	Accepted string          `json:"accepted,omitempty"` // why the operator accepts it, "" when he does not
	Changes  []lineup.Change `json:"-"`                  // the remedy, where Initium can carry it out
	Facts    string          `json:"-"`                  // a print of the facts that it tells of, whatever its words
}

// Accepted is a finding that the operator accepts. It stays accepted as long as the facts
// are the same ones; where those were not written down, as long as the words are.
type Accepted struct {
	Code           Code
	Mod            string
	Facts, Message string
	Because        string
}

// Surroundings are what the world outside the server's files says.
type Surroundings struct {
	FS       fs.FS             // the whole file system, for what the dialect says has to be there; nil leaves that out
	Missing  map[string]string // given values that do not exist: name to what was looked for
	PortBusy string            // who holds the server's port; "" when it is free or not known
	PortFree int               // the next port that is free; 0 when that is not known
	Sharing  []string          // other adopted servers with the same port
	Running  bool              // the server runs, so its port is its own
	Away     bool              // the server stands elsewhere: what is here is its files, without their rights, in another folder
	Builds   map[dialect.BuildOf]Build
	Fitting  map[dialect.BuildOf]lineup.Change // what uses one that fits, where the one that is used does not and another lies beside it
	Lessons  map[string]string                 // as in package forecast
	Refuted  *forecast.Refuted
	Accepted []Accepted
	Tables   []Table       // that mods add entries to
	Owed     []lineup.Owed // what mods that were taken in want to be done besides
	Database *Database     // nil where it is none that has to be reached
}

// Database is what was found out about the server's database.
type Database struct {
	State DatabaseState
	Place string
	Said  string // why it cannot be used, without anything secret
}

// DatabaseState says whether a database can be used.
type DatabaseState string

// It was reached; or it is not said how that is done, nobody answers, the user is not let in, or there is none of
// that name.
const (
	DatabaseReached DatabaseState = "reached"
	DatabaseUnset   DatabaseState = "unset"
	DatabaseAway    DatabaseState = "away"
	DatabaseRefused DatabaseState = "refused"
	DatabaseMissing DatabaseState = "missing"
)

// Build is what was found out about a version.
type Build struct {
	Version string
	Problem string // why it is not known
	Absent  bool   // there is none
}

// Report is what check finds.
type Report struct {
	Findings []Finding // worst first, then in load order
	Forecast *forecast.Forecast
	Repair   order.Repair // what would bring the load order right
}

// Run checks a survey.
func Run(s *survey.Survey, facts Surroundings) *Report {
	c := &checker{s: s, d: s.Dialect, facts: facts, worst: map[string]bool{}, mistyped: map[string]bool{}, versions: map[dialect.BuildOf]string{}, secrets: s.Lineup.Secrets()}
	c.start()
	c.launches()
	c.builds()
	c.files()
	c.data()
	c.database()
	c.places()
	c.values()
	c.foretell()
	for i := range s.Mods {
		c.mod(&s.Mods[i])
	}
	c.order()
	c.together()
	c.rules()
	c.twins()
	c.strays()
	c.tables()
	c.owed()
	c.consequences()
	slices.SortStableFunc(c.findings, func(a, b Finding) int { return cmp.Compare(rank(a.Severity), rank(b.Severity)) })
	accept(c.findings, facts.Accepted)
	return &Report{c.findings, c.forecast, c.repair}
}

func rank(s Severity) int {
	switch s {
	case Error:
		return 0
	case Warning:
		return 1
	}
	return 2
}

// accept marks the findings that the operator accepts as they are.
func accept(findings []Finding, accepted []Accepted) {
	for i := range findings {
		f := &findings[i]
		for _, a := range accepted {
			same := a.Facts == f.Facts
			if a.Facts == "" { // an earlier Initium wrote it down
				same = a.Message == f.Message
			}
			if same && a.Code == f.Code && a.Mod == f.Mod {
				f.Accepted = cmp.Or(a.Because, "accepted")
			}
		}
	}
}

// Count tells how many findings have a severity and are not accepted.
func Count(findings []Finding, s Severity) (n int) {
	for _, f := range findings {
		if f.Severity == s && f.Accepted == "" {
			n++
		}
	}
	return n
}

type checker struct {
	s        *survey.Survey
	d        *dialect.Dialect
	facts    Surroundings
	findings []Finding
	worst    map[string]bool // mods with an error of their own
	secrets  []string        // that no message shows

	versions               map[dialect.BuildOf]string // those that are known
	stops, passed, unfound []string                   // what keeps the server from loading mods
	halted                 bool                       // it cannot even be started
	forecast               *forecast.Forecast
	repair                 order.Repair
	near                   *names          // made when a mod is missing
	mistyped               map[string]bool // mods that a line would register if it were written right
}

func (c *checker) add(f Finding, format string, args ...any) *Finding {
	f.Facts = printOf(args, c.secrets)
	f.Message = text.Mask(text.Clean(fmt.Sprintf(format, args...)), c.secrets)
	f.Mod, f.File = text.Clean(f.Mod), text.Clean(f.File)
	if f.Severity == Error && f.Mod != "" {
		c.worst[f.Mod] = true
	}
	c.findings = append(c.findings, f)
	return &c.findings[len(c.findings)-1]
}

// printOf is a print of the facts of a finding, which stays the same when it is put in other
// words, or in another order.
func printOf(facts []any, secrets []string) string {
	words := make([]string, len(facts))
	for i, fact := range facts {
		words[i] = text.Mask(fmt.Sprint(fact), secrets)
	}
	slices.Sort(words)
	sum := sha256.Sum256([]byte(strings.Join(words, "\x00")))
	return hex.EncodeToString(sum[:12])
}

// remedy gives a finding a remedy that Initium can carry out.
func (f *Finding) remedy(changes ...lineup.Change) {
	f.Changes = changes
	words := make([]string, len(changes))
	for i, change := range changes {
		words[i] = change.String()
	}
	f.Remedy = strings.Join(words, ", then ")
}

// at is a finding about a mod, placed where the mod is registered.
func (c *checker) at(code Code, severity Severity, m *survey.Mod) Finding {
	f := Finding{Code: code, Severity: severity, Mod: m.Name, File: m.Path}
	if len(m.Entries) > 0 {
		f.File, f.Line, f.Column = c.s.Lineup.Place(c.s.Lineup.Entries[m.Entries[0]])
	}
	return f
}

// inManifest is a finding about a mod, placed in its manifest.
func (c *checker) inManifest(code Code, severity Severity, m *survey.Mod) Finding {
	f := c.at(code, severity, m)
	if m.Manifest.File != "" {
		f.File, f.Line, f.Column = m.Path+"/"+m.Manifest.File, 0, 0
	}
	return f
}

// severityOf is how much a fault matters that has a fate: one that the server bears
// is no error.
func severityOf(fate dialect.Fate) Severity {
	if fate == dialect.FateIgnored {
		return Warning
	}
	return Error
}

// foretell works out what the start will show, with what was found so far.
func (c *checker) foretell() {
	for of, b := range c.facts.Builds {
		if b.Version != "" || b.Absent {
			c.versions[of] = b.Version
		}
	}
	busy := c.facts.PortBusy
	if c.facts.Running {
		busy = ""
	}
	c.forecast = forecast.Of(c.s, forecast.Facts{Builds: c.versions, PortBusy: busy, Missing: c.halted, Lessons: c.facts.Lessons, Refuted: c.facts.Refuted, Stops: c.stops, Passed: c.passed, Unfound: c.unfound})
}

// consequences tells of mods that will not load and that nothing was said about
// yet: what is wrong is with another mod, or with the server.
func (c *checker) consequences() {
	if r := c.facts.Refuted; r != nil && !c.facts.Running { // of one that runs its proof tells
		c.add(Finding{Code: CodeStartRefuted, Severity: Warning}, "start %d was not proved, and nothing that it rested on has changed since: %s", r.Start, r.Reason).
			Remedy = "change what it tells of; start it again as it is only if the cause was outside its files"
	}
	for i := range c.s.Mods {
		m := &c.s.Mods[i]
		said := c.forecast.Find(m.Name)
		if said == nil || !m.On || said.Outcome == forecast.Confirmed || c.worst[said.Name] {
			continue
		}
		switch said.Cause {
		case forecast.NeedFails, forecast.InCircle:
			c.add(c.at(CodeNeedFails, Error, m), "%s will not load: %s", m.Name, said.Because).
				Remedy = "mend " + said.Of + " first; or switch " + text.Clean(m.Name) + " off"
		case forecast.ServerStops:
			c.add(c.at(CodeNeverReached, Warning, m), "%s will not be reached: %s", m.Name, said.Because)
		case forecast.Lesson:
			f := c.add(c.at(CodeFailedBefore, Error, m), "%s: %s", m.Name, said.Because)
			f.remedy(lineup.Change{Op: lineup.OpOff, Mod: m.Name})
		case forecast.Silent:
			c.add(c.at(CodeSaysNothing, Note, m), "%s loads without a word, so no start can confirm it", m.Name)
		case forecast.NeverStarts, forecast.AllPassed: // that has a finding of its own
		default:
			c.add(c.at(CodeWillFail, Error, m), "%s will not load: %s", m.Name, said.Because).
				Remedy = "switch it off, or take another release of it in"
		}
	}
}
