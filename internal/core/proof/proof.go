// Package proof reads the log of a start by a dialect's rules and judges, mod
// by mod, what the start showed.
package proof

import (
	"fmt"
	"strings"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/expect"
)

// Outcome is what one start showed for one mod.
type Outcome string

// The four answers. A server that runs is no proof that a mod does, so a mod is
// confirmed only by evidence of its own.
const (
	Confirmed Outcome = "confirmed"
	Failed    Outcome = "failed"
	Silent    Outcome = "silent"
	Unlisted  Outcome = "unlisted"
)

// Verdict is the sum of a start.
type Verdict string

// A start is proved when the server became ready, stayed up, and every
// registered mod is confirmed.
const (
	Proved    Verdict = "proved"
	NotProved Verdict = "not proved"
)

// Proof is what one start showed. Its strings are safe to show.
type Proof struct {
	Server       string     `json:"server"`
	Verdict      Verdict    `json:"verdict"`
	Ready        bool       `json:"ready"`
	ReadyAfterMS int64      `json:"ready_after_ms"`       // from the start of the process; 0 when not ready
	Exit         *int       `json:"exit"`                 // the exit status, -1 for a signal; null while it runs
	Stopped      bool       `json:"stopped,omitempty"`    // the operator stopped it before it could be judged
	Reason       string     `json:"reason"`               // why it is not proved
	Hint         string     `json:"hint,omitempty"`       // what to do when the log said nothing that the dialect knows
	LastLines    []Evidence `json:"last_lines,omitempty"` // that the server wrote, when it stopped and no rule says why
	Mods         []Mod      `json:"mods"`
	Order        []string   `json:"order,omitempty"` // in which mods loaded, the server's own among them
	Log          string     `json:"log"`             // the path of the kept log
	Number       int        `json:"number,omitempty"`

	Base       bool              `json:"base,omitempty"`       // it was made without any mod: what every later one rests on
	Told       map[string]string `json:"told,omitempty"`       // what the server has said of itself
	Differs    []string          `json:"differs,omitempty"`    // where that is other than what the startup files say
	Expected   []expect.Met      `json:"expected,omitempty"`   // what the operator expects himself
	Gone       []Gone            `json:"gone,omitempty"`       // mods of the last proved line-up that are not in this one
	NotNames   []string          `json:"not_names,omitempty"`  // what the log says has loaded and is no mod's name: paths that lead to none, versions
	Speechless bool              `json:"speechless,omitempty"` // the log had nothing in it when the start was judged
	Again      string            `json:"again,omitempty"`      // that it was judged once more after the stop, and why
	Unheard    string            `json:"unheard,omitempty"`    // why the server could not be asked on its console
	Made       []Made            `json:"made,omitempty"`       // what mods have made by themselves at this start
	Unmade     []Made            `json:"unmade,omitempty"`     // what they make as a rule, and have not made yet
	Lines      int               `json:"lines,omitempty"`      // of the log, when the start was judged
	Heard      int64             `json:"heard,omitempty"`      // bytes of the log that were read for what came later
	Later      []Mod             `json:"later,omitempty"`      // what came of mods after that, while the server ran
	Reloads    []Reload          `json:"reloads,omitempty"`    // mods that were loaded anew since
	Started    *time.Time        `json:"started,omitempty"`
	There      string            `json:"there,omitempty"`     // the host at which it was started, and whose log was read over the line
	Handed     bool              `json:"handed_in,omitempty"` // the log was handed in: that it is of this line-up is taken from whoever did
}

// Mod is the outcome for one mod.
type Mod struct {
	Name       string     `json:"name"`
	Release    string     `json:"release,omitempty"` // as its manifest said at this start
	Outcome    Outcome    `json:"outcome"`
	Registered bool       `json:"registered"`
	LoadMS     *float64   `json:"load_ms"` // how long it loaded, where the log tells; else null
	Reason     string     `json:"reason"`
	Evidence   []Evidence `json:"evidence"`
	Foretold   string     `json:"foretold,omitempty"` // what check said before the start
	Wanted     []string   `json:"wanted,omitempty"`   // what it needs, where the log says so
	Own        bool       `json:"own,omitempty"`      // it failed by a fault of its own files
	Against    string     `json:"against,omitempty"`  // what the evidence says to the contrary

	// When it began and ended loading, in ms from the start of the process; the
	// beginning is worked out from the load time where no line tells it. Both
	// are nil where nothing does.
	BeganMS *float64 `json:"began_ms,omitempty"`
	EndedMS *float64 `json:"ended_ms,omitempty"`
}

// Gone is a mod that was registered at the last start that was proved, and is not now.
type Gone struct {
	Mod   string `json:"mod"`
	Why   string `json:"why"`
	Start int    `json:"start"` // the number of that start
}

// Missed names in a sentence the mods that are gone since the last proved start, each with
// the reason, a few of them; "" when there are none.
func (p *Proof) Missed() string {
	const most = 4
	if len(p.Gone) == 0 {
		return ""
	}
	var words []string
	for _, gone := range p.Gone[:min(len(p.Gone), most)] {
		words = append(words, fmt.Sprintf("%s (%s)", gone.Mod, gone.Why))
	}
	said := fmt.Sprintf("gone since start %d was proved: %s", p.Gone[0].Start, strings.Join(words, ", "))
	if n := len(p.Gone) - most; n > 0 {
		said += fmt.Sprintf(" and %d more", n)
	}
	return said
}

// FindLater returns what came of a mod after the start, or nil.
func (p *Proof) FindLater(name string) *Mod {
	for i := range p.Later {
		if p.Later[i].Name == name {
			return &p.Later[i]
		}
	}
	return nil
}

// Turned is what came of a mod after the start where that counts for more than what the start
// showed: it was not there then, or it failed; else nil.
func (p *Proof) Turned(name string) *Mod {
	later := p.FindLater(name)
	if later == nil {
		return nil
	}
	if m := p.Find(name); m != nil && m.Outcome == Confirmed && later.Outcome == Confirmed {
		return nil
	}
	return later
}

// Itself is what the server has said of itself, in one line.
func (p *Proof) Itself() string {
	var words []string
	for _, fact := range dialect.Facts {
		if told, ok := p.Told[fact]; ok {
			words = append(words, fact+" "+told)
		}
	}
	return strings.Join(words, ", ")
}

// Made is a file or folder that a mod makes by itself, such as its settings.
type Made struct {
	Mod  string `json:"mod"`
	Path string `json:"path"`
}

// Reload is a mod that was loaded anew while the server ran.
type Reload struct {
	At  time.Time `json:"at"`
	Do  string    `json:"do"` // "reload", "load" or "unload"
	Mod Mod       `json:"mod"`
}

// Source is where evidence comes from.
type Source string

// A line of the log, a file or folder that has appeared, or a reply of the server's console.
const (
	SourceLog     Source = "log"
	SourcePath    Source = "path"
	SourceConsole Source = "console"
	SourceCommand Source = "command" // one that lists what is loaded
	SourceMemory  Source = "memory"  // of the server, which holds a file of the mod
)

// Evidence is what an outcome rests on.
type Evidence struct {
	Source Source  `json:"source"`
	Line   int     `json:"line"` // from 1; 0 for what is no line
	Time   string  `json:"time"` // the time that the line itself states, "" if none
	Text   string  `json:"text"`
	AtMS   float64 `json:"at_ms"` // when it arrived, in ms from the start of the process

	More []string `json:"more,omitempty"` // the lines that go on with it
}

// Where says where the evidence is: which line of the log, or on the disk.
func (e *Evidence) Where() string {
	switch {
	case e.Source == SourceCommand:
		return "its list, by a command"
	case e.Source == SourceMemory:
		return "in the server's memory"
	case e.Line == 0:
		return "on the disk"
	case e.Source == SourceConsole:
		return fmt.Sprintf("reply on the console, log line %d", e.Line)
	}
	return fmt.Sprintf("log line %d", e.Line)
}

// Best is the evidence that tells most: for a mod that is confirmed the last line of
// the log that does it, rather than what was asked besides; nil when there is none.
func (m *Mod) Best() *Evidence {
	for i := len(m.Evidence) - 1; i >= 0; i-- {
		if m.Outcome != Confirmed || m.Evidence[i].Source == SourceLog {
			return &m.Evidence[i]
		}
	}
	if n := len(m.Evidence); n > 0 {
		return &m.Evidence[n-1]
	}
	return nil
}

// Find returns the outcome for a mod, or nil.
func (p *Proof) Find(name string) *Mod {
	for i := range p.Mods {
		if p.Mods[i].Name == name {
			return &p.Mods[i]
		}
	}
	return nil
}

// Count tells how many mods have an outcome.
func (p *Proof) Count(o Outcome) (n int) {
	for _, m := range p.Mods {
		if m.Outcome == o {
			n++
		}
	}
	return n
}

// Expected is a mod that the survey knows, as far as judging needs it.
type Expected struct {
	Name       string
	Release    string
	Also       []string `json:",omitempty"` // what else it is called: its title, its folder
	Path       string   // of its folder, "" when it is not there
	Registered bool     // and on
	Base       bool     // the server's own; no finding when it loads
	Always     bool     `json:",omitempty"` // it loads by being there
}

// Rename puts what a function makes of it in place of every text in which a path may stand.
func (p *Proof) Rename(to func(string) string) {
	evidence := func(list []Evidence) {
		for i := range list {
			list[i].Text = to(list[i].Text)
			for k := range list[i].More {
				list[i].More[k] = to(list[i].More[k])
			}
		}
	}
	p.Reason, p.Hint, p.Unheard = to(p.Reason), to(p.Hint), to(p.Unheard)
	evidence(p.LastLines)
	for i := range p.Mods {
		m := &p.Mods[i]
		m.Reason = to(m.Reason)
		evidence(m.Evidence)
	}
	for name := range p.Told {
		p.Told[name] = to(p.Told[name])
	}
	for _, list := range [][]string{p.Differs, p.NotNames} {
		for i := range list {
			list[i] = to(list[i])
		}
	}
	for i := range p.Expected {
		p.Expected[i].Said = to(p.Expected[i].Said)
	}
	for _, list := range [][]Made{p.Made, p.Unmade} {
		for i := range list {
			list[i].Path = to(list[i].Path)
		}
	}
}
