// Package forecast says, before a server is started, what it will do with each
// mod: it goes through what the survey found as the dialect says that the server
// does.
package forecast

import (
	"cmp"
	"fmt"
	"slices"

	"initium/internal/core/dialect"
	"initium/internal/core/order"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// Outcome is what a start is expected to show for a mod.
type Outcome string

// A mod will be confirmed; it will fail, and the log will say so; or it will not
// be loaded, or not be spoken of.
const (
	Confirmed Outcome = "confirmed"
	Failed    Outcome = "failed"
	NotLoaded Outcome = "not loaded"
)

// Mod is what is foretold for one mod. Its strings are safe to show.
type Mod struct {
	Name    string  `json:"mod"`
	Outcome Outcome `json:"outcome"`
	Because string  `json:"because"`
	Cause   Cause   `json:"cause"`
	Of      string  `json:"of,omitempty"` // the other mod that it is because of
}

// Cause is the kind of reason behind an outcome.
type Cause string

// The causes.
const (
	Loads         Cause = "loads"
	Off           Cause = "off"          // switched off, or not registered
	Absent        Cause = "absent"       // registered and not there
	NeedAbsent    Cause = "need-absent"  // what it needs is not there, or off
	NeedFails     Cause = "need-fails"   // what it needs will not load
	NeedLate      Cause = "need-late"    // what it needs comes after it
	RangeMisses   Cause = "range"        // what it needs is there in another version
	InCircle      Cause = "circle"       // it needs itself in the end
	Unreadable    Cause = "unreadable"   // its manifest cannot be read
	BadName       Cause = "bad-name"     // the server does not allow its name
	Differs       Cause = "differs"      // folder and manifest name it differently
	NoMain        Cause = "no-main"      // its main file is missing
	Misfit        Cause = "misfit"       // made for another server, loader or runtime
	WrongList     Cause = "wrong-list"   // on the list of another side
	KeyWanting    Cause = "key"          // its key file is not among the server's
	NumberDiffers Cause = "number"       // another catalogue number than the list says
	SettingLate   Cause = "setting"      // a setting that it reads is not set by then
	Conflict      Cause = "conflict"     // it cannot be with another that loads
	TwinMods      Cause = "twins"        // two of one name
	Twice         Cause = "twice"        // registered twice
	Broken        Cause = "script"       // a script of its own cannot be understood
	Lesson        Cause = "lesson"       // it failed by itself before, and has not changed
	Silent        Cause = "silent"       // it loads without a word
	ServerStops   Cause = "server-stops" // the server stops before it comes to it
	NeverStarts   Cause = "never-starts" // the server does not come to loading mods
	AllPassed     Cause = "passed-over"  // the server loads no mods as it is set up
)

// Forecast is what is foretold for a start.
type Forecast struct {
	Mods  []Mod    `json:"mods"`  // in the order of the survey, without those of the server's own that will load
	Order []string `json:"order"` // in which mods are expected to load, the server's own among them
	Stops string   `json:"stops"` // why the server will stop by itself, "" when it will not

	byName map[string]int
}

// Find returns what is foretold for a mod, or nil.
func (f *Forecast) Find(name string) *Mod {
	if i, ok := f.byName[name]; ok {
		return &f.Mods[i]
	}
	return nil
}

// Facts are what has to be known from outside the server's files.
type Facts struct {
	Builds   map[dialect.BuildOf]string // versions that are known; "" for what is known not to be there
	PortBusy string                     // who holds the server's port
	Missing  bool                       // something that the start command needs is missing
	Lessons  map[string]string          // mods that failed by their own fault and have not changed since: what the log said
	Refuted  *Refuted                   // the last start, where it was not proved and would be made with the same; or nil
	Stops    []string                   // what else is known to stop the server before it loads mods
	Passed   []string                   // what keeps it from loading any
	Unfound  []string                   // what keeps it from finding those that have to be registered
}

// Refuted is a start that was not proved, and of all that it rested on nothing has changed since.
// So it will go the same way again, whatever is said of it otherwise.
type Refuted struct {
	Start  int               // its number
	Reason string            // why it was not proved
	Stops  bool              // the server stopped by itself
	Failed map[string]string // mods that failed: what the log said
	Silent []string          // registered mods of which nothing was said
}

// Of foretells a start of the surveyed server.
func Of(s *survey.Survey, facts Facts) *Forecast {
	w := &walker{s: s, d: s.Dialect, facts: facts, state: make([]state, len(s.Mods)), says: make([]Mod, len(s.Mods)),
		secrets: s.Lineup.Secrets(), conflicts: Conflicts(s), twins: map[string]survey.Twin{}, reads: map[string][]string{}}
	for _, t := range s.Twins {
		if t.Level {
			w.twins[t.Name] = t
		}
	}
	for i := range s.Mods {
		if names := order.Settings(s, &s.Mods[i]); len(names) > 0 {
			w.reads[s.Mods[i].Name] = names
		}
	}
	f := &Forecast{byName: map[string]int{}}
	switch {
	case facts.Missing:
		w.all(NeverStarts, "the server cannot be started as it is set up")
	case len(facts.Stops) > 0:
		f.Stops = facts.Stops[0]
		w.all(NeverStarts, "the server stops before: "+facts.Stops[0])
	case facts.PortBusy != "" && s.Dialect.Load.Port == dialect.FateStops:
		f.Stops = "its port is taken: " + facts.PortBusy
		w.all(NeverStarts, "the server stops before: "+f.Stops)
	case len(facts.Passed) > 0:
		w.all(AllPassed, facts.Passed[0])
	default:
		w.walk()
		w.stops = cmp.Or(w.stops, w.later)
		w.unreached()
		w.repeat()
		f.Stops, f.Order = w.stops, w.order
		if w.d.Order == dialect.OrderServer && w.d.Load.Walk == dialect.WalkUnknown {
			f.Order = nil
		}
		if f.Stops == "" && facts.PortBusy != "" {
			f.Stops = "its port is taken, which shows after the mods have loaded: " + facts.PortBusy
		}
	}
	for i := range s.Mods {
		m := &s.Mods[i]
		if said := w.says[i].Outcome; !m.Base || m.Listed || said != "" && said != Confirmed {
			f.byName[m.Name] = len(f.Mods)
			f.Mods = append(f.Mods, w.say(i, m))
		}
	}
	return f
}

// unreached takes back what was said of all mods but the one because of which the server stops before
// it comes to any.
func (w *walker) unreached() {
	if !w.first {
		return
	}
	w.order = nil
	for i := range w.says {
		if w.s.Mods[i].Name != w.culprit {
			w.says[i] = Mod{}
		}
	}
}

// repeat lets what a start has refuted not be foretold once more.
func (w *walker) repeat() {
	r := w.facts.Refuted
	if r == nil {
		return
	}
	if r.Stops && w.stops == "" {
		w.stops = fmt.Sprintf("start %d did so, and nothing that it rested on has changed since: %s", r.Start, r.Reason)
	}
	for _, name := range r.Silent {
		m := w.s.Find(name)
		if m == nil || w.says[m.Index()].Outcome != Confirmed {
			continue
		}
		w.order = slices.DeleteFunc(w.order, func(loads string) bool { return loads == text.Clean(name) })
		if w.says[m.Index()] = (Mod{}); !r.Stops { // else it is not reached
			w.tell(m.Index(), NotLoaded, Silent, "", "start %d did not say a word about it, and nothing that it rested on has changed since", r.Start)
		}
	}
}

// all lets every mod be not loaded for one reason.
func (w *walker) all(cause Cause, because string) {
	for i := range w.s.Mods {
		if w.s.Mods[i].On {
			w.tell(i, NotLoaded, cause, "", "%s", because)
		}
	}
}

// quiet tells whether the log says nothing of a mod that loads: the server has to be asked, or looked
// at.
func (w *walker) quiet(m *survey.Mod) bool { return m.Quiet || w.d.OnlyAsked() }

// say is what is foretold for a mod in the end.
func (w *walker) say(i int, m *survey.Mod) Mod {
	said := w.says[i]
	if w.quiet(m) && said.Outcome == Confirmed && w.stops != "" {
		said = Mod{Outcome: NotLoaded, Cause: Silent, Because: "it loads without a word, and the server stops before it can be asked"}
	}
	said.Name = text.Clean(m.Name)
	if said.Outcome != "" {
		return said
	}
	said.Outcome = NotLoaded
	switch {
	case w.stops != "" && m.On:
		said.Cause, said.Of, said.Because = ServerStops, text.Clean(w.culprit), "the server stops before it comes to it: "+w.stops
	case !m.Registered:
		said.Cause, said.Because = Off, "it is not registered"
	case !m.On:
		said.Cause, said.Because = Off, "it is switched off"
	default:
		said.Cause, said.Because = InCircle, "the server never comes to it"
	}
	return said
}

// state is how far a mod has come.
type state int

const (
	waiting state = iota
	underway
	loaded
	out // failed, or passed over
)

// walker goes through a start.
type walker struct {
	s         *survey.Survey
	d         *dialect.Dialect
	facts     Facts
	secrets   []string // that nothing shows
	conflicts map[string][]string
	reads     map[string][]string    // the settings that mods read when they start
	twins     map[string]survey.Twin // of the same level

	state   []state
	says    []Mod
	order   []string
	seq     int    // of the line that is being gone through
	stops   string // why the server has stopped, "" while it goes on
	culprit string // the mod that stopped it
	again   int    // the entry at which it stops, as it is the second of a mod; 0 for none
	later   string // why it will stop once it has gone through all mods
	first   bool   // it has stopped before it came to any
}

func (w *walker) tell(i int, o Outcome, cause Cause, of, format string, args ...any) {
	w.says[i] = Mod{Outcome: o, Cause: cause, Of: text.Clean(of), Because: text.Mask(text.Clean(fmt.Sprintf(format, args...)), w.secrets)}
}

// fall lets a mod's fault have the fate that the dialect says. It returns true
// when the mod loads all the same.
func (w *walker) fall(i int, fate dialect.Fate, f fault) (loads bool) {
	switch fate {
	case dialect.FateIgnored:
		return true
	case dialect.FatePassed:
		w.tell(i, NotLoaded, f.cause, f.of, "%s", f.because)
	case dialect.FateStops:
		w.tell(i, Failed, f.cause, f.of, "%s", f.because)
		w.stops = text.Mask(text.Clean(w.s.Mods[i].Name+": "+f.because), w.secrets)
		w.culprit = w.s.Mods[i].Name
	case dialect.FateFirst:
		if w.first {
			break // it has stopped already
		}
		w.tell(i, Failed, f.cause, f.of, "%s", f.because)
		w.stops = text.Mask(text.Clean(w.s.Mods[i].Name+": "+f.because), w.secrets)
		w.culprit, w.first = w.s.Mods[i].Name, true
	case dialect.FateLater:
		w.tell(i, Failed, f.cause, f.of, "%s", f.because)
		if w.later == "" {
			w.later = text.Mask(text.Clean(w.s.Mods[i].Name+": "+f.because), w.secrets)
		}
	default:
		w.tell(i, Failed, f.cause, f.of, "%s", f.because)
	}
	w.state[i] = out
	return false
}

// fault is something that is wrong with a mod.
type fault struct {
	cause   Cause
	of      string
	because string
}

func faultf(cause Cause, of, format string, args ...any) fault {
	return fault{cause, of, fmt.Sprintf(format, args...)}
}

// enter tries to load a mod whose needs are settled. It returns false when the
// server cannot go on.
func (w *walker) enter(i int) bool {
	m := &w.s.Mods[i]
	if w.again > 0 && len(m.Entries) > 0 && m.Entries[0] >= w.again { // the second line of another comes before it
		w.stops = w.later
		return false
	}
	for _, c := range w.ownFaults(m) {
		if !w.fall(i, c.fate, c.fault) {
			return w.stops == ""
		}
	}
	w.state[i] = loaded
	if !w.quiet(m) { // the log has the order
		w.order = append(w.order, text.Clean(m.Name))
	}
	switch {
	case w.says[i].Outcome == Failed: // turned away at an earlier line, which the log keeps
	case m.Quiet && w.d.Console.List == "":
		w.tell(i, NotLoaded, Silent, "", "it loads without a word, having no %s", w.d.Places[m.Place].Speaks)
	case w.twice(m) > 0 && w.d.Load.Twice == dialect.FateFirst:
		return w.fall(i, dialect.FateFirst, faultf(Twice, "", "it is registered twice, and the server does not begin with that"))
	case w.twice(m) > 0:
		because := "it is registered twice, and the server complains about the second time"
		if w.d.Load.Twice == dialect.FateStops || w.d.Load.Twice == dialect.FateLater {
			because = "it is registered twice, and the server stops at the second time"
			w.later, w.culprit = cmp.Or(w.later, text.Mask(text.Clean(m.Name+": "+because), w.secrets)), cmp.Or(w.culprit, m.Name)
			if again := w.twice(m); w.d.Load.Twice == dialect.FateStops && (w.again == 0 || again < w.again) {
				w.again = again
			}
		}
		w.tell(i, Failed, Twice, "", "%s", because)
	default:
		w.tell(i, Confirmed, Loads, "", "")
	}
	for _, name := range m.Manifest.Brings {
		// One that is not there is looked for too, and missed.
		if b := w.s.Find(name); b != nil && (b.Path != "" || b.Registered) && (w.state[b.Index()] == waiting || w.state[b.Index()] == out) {
			if !w.inList(b.Index()) {
				return false
			}
		}
	}
	return true
}

// twice is the second line of a mod that has two, by its number among the entries, where the server
// minds; else 0.
func (w *walker) twice(m *survey.Mod) int {
	if w.d.Load.Twice == dialect.FateIgnored || w.d.Load.Twice == dialect.FatePassed {
		return 0
	}
	on := 0
	for _, e := range m.Entries {
		entry := &w.s.Lineup.Entries[e]
		if entry.On && w.d.Registrations[entry.Registration].SameAs == "" && !w.lastKeyCounts(entry.Registration) {
			if on++; on == 2 {
				return e
			}
		}
	}
	return 0
}

// lastKeyCounts tells registrations in which of several keys of one mod the last says what becomes of it.
func (w *walker) lastKeyCounts(registration int) bool {
	r := &w.d.Registrations[registration]
	return r.Shape == dialect.ShapeKey && (r.Switched() || r.Format == dialect.FormatKeyValue)
}

// met finds out whether what a mod needs is there and has loaded.
func (w *walker) met(m *survey.Mod) (dialect.Fate, fault) {
	for _, need := range m.Needs() {
		n := w.s.Answer(need.Name)
		switch {
		case n == nil || n.Path == "":
			return w.d.Load.NeedAbsent, faultf(NeedAbsent, need.Name, "it needs %s, which is not there", need.Name)
		case !n.On && !n.Base && w.state[n.Index()] != loaded:
			return w.d.Load.NeedAbsent, faultf(NeedAbsent, need.Name, "it needs %s, which is %s", need.Name, offOrUnknown(n))
		}
		switch w.state[n.Index()] {
		case out:
			return w.d.Load.NeedAbsent, faultf(NeedFails, n.Name, "it needs %s, which will not load", need.Name)
		case underway:
			if w.d.Order == dialect.OrderListed {
				return w.d.Load.NeedLate, faultf(InCircle, n.Name, "it waits for itself")
			}
		case waiting:
			if !n.Base {
				return w.d.Load.NeedLate, faultf(NeedLate, n.Name, "it needs %s, which loads after it", need.Name)
			}
		}
		if fits, err := Fits(need, n, m.Manifest.Versions); err == nil && !fits {
			return w.d.Load.Range, faultf(RangeMisses, n.Name, "it needs %s %s, and %s is there", need.Name, need.Range, n.Release)
		}
	}
	return dialect.FateIgnored, fault{}
}

func offOrUnknown(m *survey.Mod) string {
	if !m.Registered {
		return "not registered"
	}
	return "switched off"
}

// unknownValue tells of a yes/no key whose value means neither. Of several keys
// the last counts.
func unknownValue(s *survey.Survey, m *survey.Mod) bool {
	return len(m.Entries) > 0 && s.Lineup.Entries[m.Entries[len(m.Entries)-1]].Odd
}
