// Package check says what is wrong with a server before it is started: each
// finding with its place and, where one exists, a remedy.
package check

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/mod"
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
	Code     string          `json:"code"`
	Severity Severity        `json:"severity"`
	Mod      string          `json:"mod"`
	File     string          `json:"file"`
	Line     int             `json:"line"`
	Column   int             `json:"column"`
	Message  string          `json:"message"`
	Remedy   string          `json:"remedy"` // "" when there is none
	Changes  []lineup.Change `json:"-"`      // the remedy, where Initium can carry it out
}

// Facts are what the world outside the server's files says.
type Facts struct {
	Missing  map[string]string // given values that do not exist: name to what was looked for
	PortBusy string            // who holds the server's port; "" when it is free or not known
	Running  bool              // the server runs, so its port is its own
}

// Run checks a survey. Findings come worst first, then in load order.
func Run(s *survey.Survey, facts Facts) []Finding {
	c := &checker{s: s, d: s.Dialect}
	c.start(facts)
	c.files()
	c.places()
	c.values()
	for i := range s.Mods {
		c.mod(&s.Mods[i])
	}
	c.twins()
	c.strays()
	slices.SortStableFunc(c.findings, func(a, b Finding) int { return rank(a.Severity) - rank(b.Severity) })
	return c.findings
}

func rank(s Severity) int { return slices.Index([]Severity{Error, Warning, Note}, s) }

// Count tells how many findings have a severity.
func Count(findings []Finding, s Severity) (n int) {
	for _, f := range findings {
		if f.Severity == s {
			n++
		}
	}
	return n
}

type checker struct {
	s        *survey.Survey
	d        *dialect.Dialect
	findings []Finding
}

func (c *checker) add(f Finding, format string, args ...any) *Finding {
	f.Message = text.Clean(fmt.Sprintf(format, args...))
	f.Mod, f.File = text.Clean(f.Mod), text.Clean(f.File)
	c.findings = append(c.findings, f)
	return &c.findings[len(c.findings)-1]
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
func (c *checker) at(code string, severity Severity, m *survey.Mod) Finding {
	f := Finding{Code: code, Severity: severity, Mod: m.Name, File: m.Path}
	if len(m.Entries) > 0 {
		f.File, f.Line, f.Column = c.s.Lineup.Place(c.s.Lineup.Entries[m.Entries[0]])
	}
	return f
}

func (c *checker) start(facts Facts) {
	for _, g := range c.d.Givens {
		if what, missing := facts.Missing[g.Name]; missing {
			if what == "" {
				what = "no value was given"
			}
			c.add(Finding{Code: "given-missing", Severity: Error}, "%s (%s): %s", g.About, g.Name, what).
				Remedy = fmt.Sprintf("adopt the server again with --set %s=…", g.Name)
		}
	}
	if facts.PortBusy != "" && !facts.Running {
		c.add(Finding{Code: "port-busy", Severity: Error}, "port %s is taken: %s", c.s.Vars["port"], facts.PortBusy).
			Remedy = "stop what holds the port, or give the server another one"
	}
}

var problemSeverity = map[string]Severity{"include-again": Warning, "include-outside": Note}

func (c *checker) files() {
	l := c.s.Lineup
	for _, f := range l.Files {
		if f.Missing {
			c.add(Finding{Code: "file-missing", Severity: Warning, File: f.Path}, "the %s %s is not there; Initium makes it with the first registration",
				c.d.Registrations[f.Registration].Name, path.Base(f.Path))
		}
	}
	for _, p := range l.Problems {
		severity, ok := problemSeverity[p.Code]
		if !ok {
			severity = Error
		}
		c.add(Finding{Code: p.Code, Severity: severity, File: l.Files[p.File].Path, Line: p.Line, Column: p.Column}, "%s", p.Message)
	}
}

// places compares the lists that have to agree, and looks at the length of
// launch lines.
func (c *checker) places() {
	l := c.s.Lineup
	for i, f := range l.Files {
		r := &c.d.Registrations[f.Registration]
		if r.SameAs != "" && !f.Missing && readable(l, i) {
			lead, copied := l.On(r.SameAs), l.On(r.Name)
			if !slices.Equal(lead, copied) {
				c.add(Finding{Code: "places-disagree", Severity: Error, File: f.Path}, "the %s and the %s do not agree: %s", r.SameAs, r.Name, difference(lead, copied)).
					remedy(lineup.Change{Op: lineup.OpMatch, Registration: r.Name, To: r.SameAs})
			}
		}
		length, limit, what := l.LaunchLimit(i)
		switch {
		case limit > 0 && length > limit:
			c.add(Finding{Code: "launch-too-long", Severity: Error, File: f.Path}, "%s has %d characters; more than %d are cut off or refused", what, length, limit).
				Remedy = "switch mods off, or hand the list over in a file if the server can read one"
		case limit > 0 && length > limit*4/5:
			c.add(Finding{Code: "launch-long", Severity: Warning, File: f.Path}, "%s has %d characters, of %d at most", what, length, limit).
				Remedy = "keep it shorter: there is room for few more mods"
		}
	}
}

func readable(l *lineup.Lineup, file int) bool {
	return !slices.ContainsFunc(l.Problems, func(p lineup.Problem) bool { return p.File == file })
}

// difference says how one list differs from another.
func difference(lead, copied []string) string {
	var words []string
	for _, name := range lead {
		if !slices.Contains(copied, name) {
			words = append(words, name+" is only in the first")
		}
	}
	for _, name := range copied {
		if !slices.Contains(lead, name) {
			words = append(words, name+" is only in the second")
		}
	}
	if len(words) == 0 {
		return "the order is another"
	}
	if more := len(words) - 3; more > 0 {
		words = append(words[:3], fmt.Sprintf("and %d more", more))
	}
	return strings.Join(words, ", ")
}

func (c *checker) values() {
	l := c.s.Lineup
	for _, v := range c.d.Values {
		set, ok := l.Setting(v.Registration, v.Name)
		file := ""
		for _, f := range l.Files {
			if c.d.Registrations[f.Registration].Name == v.Registration && !f.Missing {
				file = f.Path
				break
			}
		}
		if file == "" {
			continue // the file's absence is a finding of its own
		}
		var f *Finding
		switch {
		case !ok && v.Required:
			f = c.add(Finding{Code: "setting-missing", Severity: Error, File: file}, "%s is not set: %s", v.Name, v.About)
		case ok && slices.Contains(v.Placeholders, set.Value):
			line, column := text.Position(l.Files[set.File].Bytes, set.Span.Start)
			f = c.add(Finding{Code: "setting-placeholder", Severity: Error, File: l.Files[set.File].Path, Line: line, Column: column},
				"%s still has the value of the template: %s", v.Name, v.About)
		}
		if f == nil {
			continue
		}
		if value, known := c.s.Vars.Expand(v.Put); known && value != "" {
			f.remedy(lineup.Change{Op: lineup.OpSet, Mod: v.Name, To: value, Registration: v.Registration})
		} else {
			f.Remedy = "give " + v.Name + " its value"
		}
	}
}

func (c *checker) mod(m *survey.Mod) {
	if m.Base {
		return
	}
	switch {
	case !m.Registered && m.Always:
		f := c.add(c.at("not-registered", Note, m), "%s is not registered, but loads because of the folder that it is in", m.Name)
		f.remedy(lineup.Change{Op: lineup.OpRegister, Mod: m.Name})
	case !m.Registered:
		f := c.add(c.at("not-registered", Note, m), "%s is there and not registered", m.Name)
		f.remedy(lineup.Change{Op: lineup.OpRegister, Mod: m.Name})
	case m.Always && !m.Listed:
		c.add(c.at("loads-anyway", Warning, m), "%s is switched off but loads all the same, because of the folder that it is in", m.Name).
			Remedy = "move its folder elsewhere"
	}
	if !m.On {
		return
	}
	if m.Path == "" {
		c.missing(m)
		return
	}
	c.content(m)
	c.names(m)
	c.twice(m)
	c.needs(m)
}

func (c *checker) content(m *survey.Mod) {
	switch {
	case m.Empty:
		c.add(c.at("folder-empty", Error, m), "the folder of %s is empty: %s", m.Name, m.Path).
			Remedy = "put the mod's files into it, or switch the mod off"
	case m.NoMain && m.Inner != "":
		c.add(c.at("mod-nested", Error, m), "%s is one folder too deep: it is in %s", m.Name, m.Inner).
			Remedy = fmt.Sprintf("move what is in %s up into %s", path.Base(m.Inner), m.Path)
	case m.NoMain:
		c.add(c.at("main-missing", Error, m), "%s has no %s in its folder %s", m.Name, c.d.Places[m.Place].Main, m.Path).
			Remedy = "take the mod in again; its files are not complete"
	}
	if p := m.Manifest.Problem; p != nil {
		f := c.at("manifest-unreadable", Error, m)
		f.File, f.Line, f.Column = path.Join(m.Path, p.File), p.Line, p.Column
		c.add(f, "the manifest of %s cannot be read: %s", m.Name, p.Message).Remedy = "mend the manifest or take the mod in again"
	}
}

func (c *checker) names(m *survey.Mod) {
	if r, bad := c.d.Names.Forbidden(m.Name); bad && !m.Group {
		c.add(c.at("name-forbidden", Error, m), "the name %s holds %q, which %s does not allow (allowed: %s)", m.Name, r, c.d.Title, c.d.Names.Allowed).
			Remedy = "rename the mod"
	}
	if c.d.Names.Agree && m.Manifest.Name != "" && m.Manifest.Name != m.Folder {
		c.add(c.at("name-differs", Error, m), "the folder is called %s, the manifest says %s; they have to agree", m.Folder, m.Manifest.Name).
			Remedy = "rename the folder to " + text.Clean(m.Manifest.Name)
	}
}

func (c *checker) twice(m *survey.Mod) {
	var on []lineup.Entry
	for _, i := range m.Entries {
		if e := c.s.Lineup.Entries[i]; e.On && c.d.Registrations[e.Registration].SameAs == "" {
			on = append(on, e)
		}
	}
	if len(on) < 2 {
		c.value(m)
		return
	}
	_, line, _ := c.s.Lineup.Place(on[0])
	f := c.at("registered-twice", Warning, m)
	f.File, f.Line, f.Column = c.s.Lineup.Place(on[1])
	added := c.add(f, "%s is registered twice; first on line %d", m.Name, line)
	if on[0].Name == on[1].Name {
		added.remedy(lineup.Change{Op: lineup.OpOnce, Mod: m.Name})
	} else {
		added.Remedy = "take one of the lines out"
	}
}

// value checks what a yes/no key says.
func (c *checker) value(m *survey.Mod) {
	for _, i := range m.Entries {
		e := c.s.Lineup.Entries[i]
		r := &c.d.Registrations[e.Registration]
		if r.Shape != dialect.ShapeKey || !e.On || e.Value == r.On || r.OnPath && strings.Contains(e.Value, "/") ||
			slices.ContainsFunc(r.OnWords, func(w string) bool { return strings.EqualFold(w, e.Value) }) {
			continue
		}
		f := c.add(c.at("value-unknown", Error, m), "%s has the value %q, which means neither on (%s) nor off (%s) to the server", m.Name, e.Value, r.On, r.Off)
		f.remedy(lineup.Change{Op: lineup.OpOff, Mod: m.Name}, lineup.Change{Op: lineup.OpOn, Mod: m.Name})
		f.Remedy = fmt.Sprintf("set it to %s", r.On)
	}
}

func (c *checker) needs(m *survey.Mod) {
	for _, want := range m.Needs() {
		need, n := want.Name, c.s.Answer(want.Name)
		switch {
		case n == nil || n.Path == "":
			c.add(c.at("need-missing", Error, m), "%s needs %s, which is not on this server", m.Name, need).
				Remedy = "take " + text.Clean(need) + " in, or switch " + text.Clean(m.Name) + " off"
		case n.Base:
		case !n.Registered && !n.On:
			f := c.add(c.at("need-missing", Error, m), "%s needs %s, which is there but not registered", m.Name, need)
			f.remedy(c.registerBefore(need, m))
		case !n.On:
			f := c.add(c.at("need-missing", Error, m), "%s needs %s, which is switched off", m.Name, need)
			f.remedy(lineup.Change{Op: lineup.OpOn, Mod: need})
		case c.d.Order == dialect.OrderListed && n.Registered && m.Registered && n.Position > m.Position:
			c.late(m, n, "needs")
		}
	}
	for _, want := range m.OptionalNeeds() {
		n := c.s.Answer(want.Name)
		if n != nil && n.On && !n.Base && n.Registered && m.Registered && c.d.Order == dialect.OrderListed && n.Position > m.Position {
			c.late(m, n, "uses")
		}
	}
}

func (c *checker) registerBefore(need string, m *survey.Mod) lineup.Change {
	change := lineup.Change{Op: lineup.OpRegister, Mod: need}
	if c.d.Order == dialect.OrderListed && !m.Group {
		change.Where.Before = m.Name
	}
	return change
}

// late reports a need that loads after its dependent, and chooses the move that
// mends it without breaking another need: the dependent goes down when nothing
// that needs it would come before it, else the need goes up.
func (c *checker) late(m, need *survey.Mod, verb string) {
	severity := Error
	if verb == "uses" {
		severity = Warning
	}
	f := c.add(c.at("need-late", severity, m), "%s %s %s, which loads after it", m.Name, verb, need.Name)
	upHurts := slices.ContainsFunc(need.Needs(), func(want mod.Need) bool {
		n := c.s.Answer(want.Name)
		return n != nil && !n.Base && n.Position >= m.Position
	})
	downHurts := slices.ContainsFunc(c.s.Mods, func(other survey.Mod) bool {
		return other.On && other.Position > m.Position && other.Position <= need.Position && slices.ContainsFunc(other.Needs(), func(want mod.Need) bool { return m.Is(want.Name) })
	})
	switch {
	case !m.Group && (!downHurts || upHurts || need.Group):
		f.remedy(lineup.Change{Op: lineup.OpMove, Mod: m.Name, Where: lineup.Where{After: c.line(need)}})
	default:
		f.remedy(lineup.Change{Op: lineup.OpMove, Mod: c.line(need), Where: lineup.Where{Before: c.line(m)}})
	}
}

// line is the name that a mod's registration has: its own or its category's.
func (c *checker) line(m *survey.Mod) string { return c.s.Lineup.Entries[m.Entries[0]].Name }

func (c *checker) twins() {
	for _, t := range c.s.Twins {
		if m := c.s.Find(t.Name); m == nil || !m.On {
			continue
		}
		c.add(Finding{Code: "name-twice", Severity: Warning, Mod: t.Name, File: t.Path},
			"two mods are called %s; the one in %s is not used, the one in %s is", t.Name, t.Path, t.HiddenBy).
			Remedy = "remove the one that is not meant"
	}
}

func (c *checker) strays() {
	for _, st := range c.s.Strays {
		if st.Bundle || c.s.Find(st.Folder) != nil {
			continue // a registered one is told with its registration
		}
		switch {
		case st.Empty:
			c.add(Finding{Code: "stray-empty", Severity: Note, File: st.Path}, "the folder %s among the mods is empty", st.Folder).
				Remedy = "remove the folder"
		case st.Inner != "":
			c.add(Finding{Code: "stray-nested", Severity: Warning, File: st.Path}, "%s holds a mod one folder too deep, in %s", st.Folder, st.Inner).
				Remedy = "move the mod's folder up"
		default:
			c.add(Finding{Code: "stray-folder", Severity: Note, File: st.Path}, "the folder %s among the mods is no mod", st.Folder)
		}
	}
}
