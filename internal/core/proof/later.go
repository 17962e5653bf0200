package proof

import (
	"slices"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// wholeSecond is how far a time in a log may be from the true one.
const wholeSecond = time.Second

// maxLater bounds of how many mods it is kept what came later.
const maxLater = 1000

// End says that a start is over after so many lines of its log: what is said of mods after them
// is told apart, as what came later.
func (r *Reader) End(lines int) { r.ends = lines }

// Reopen says that what comes from a time after the start on is of the start all the same: a server
// that is stopped may write what it has held back.
func (r *Reader) Reopen(at time.Duration) { r.reopened = max(at, 1) }

// over tells whether a line belongs to what came after the start. A time in a log is often one of
// whole seconds, so that a second counts as none.
func (r *Reader) over(line *Line) bool {
	if r.asked {
		return false
	}
	return r.ends > 0 && line.Number > r.ends && (r.reopened == 0 || line.At < r.reopened) || r.Settle > 0 && r.ready && line.At > r.readyAt+r.Settle+wholeSecond
}

// comesLater notes what came of a mod after the start. That one which loaded has loaded once more
// is no news.
func (r *Reader) comesLater(rec *record, o Outcome, reason string, line *Line, raw, stamp []byte) {
	line.Mods = append(line.Mods, rec.expected.Name)
	m := r.laterOf(rec)
	if o == Confirmed && m == nil && rec.loaded && !rec.failed {
		return
	}
	if m == nil {
		if len(r.later) == maxLater {
			return
		}
		r.later = append(r.later, Mod{Name: text.Clean(rec.expected.Name), Release: text.Clean(rec.expected.Release), Registered: rec.expected.Registered})
		m = &r.later[len(r.later)-1]
	}
	at := ms(line.At)
	m.Outcome, m.Reason, m.EndedMS = o, reason, &at
	m.Evidence = append(m.Evidence, r.evidence(line, raw, stamp, SourceLog))
	if n := len(m.Evidence) - maxEvidence; n > 0 {
		m.Evidence = slices.Delete(m.Evidence, 0, n)
	}
}

// failedLater takes what came later of mods that failed for failures like any other: what was taken
// for a server that runs on was the next start, which the mod that loads for the second time shows.
func (r *Reader) failedLater() {
	for i := range r.later {
		m := &r.later[i]
		if rec := r.mods[m.Name]; rec != nil && m.Outcome == Failed {
			rec.failed, rec.loaded, rec.reason, rec.evidence = true, false, m.Reason, m.Evidence
		}
	}
}

func (r *Reader) laterOf(rec *record) *Mod {
	name := text.Clean(rec.expected.Name)
	if i := slices.IndexFunc(r.later, func(m Mod) bool { return m.Name == name }); i >= 0 {
		return &r.later[i]
	}
	return nil
}

// Later is what has come of mods since the start was over, in the order in which it was first
// said of each.
func (r *Reader) Later() []Mod {
	list := slices.Clone(r.later)
	for i := range list {
		list[i].Evidence = slices.Clone(list[i].Evidence)
	}
	return list
}

// At is when what came later of a mod was said; the zero time where nobody knows when the server
// was started.
func (p *Proof) At(later *Mod) (at time.Time) {
	if p.Started == nil || later.EndedMS == nil {
		return at
	}
	return p.Started.Add(time.Duration(*later.EndedMS * float64(time.Millisecond)))
}

// Weak is a rule by which mods are said to have loaded that are not registered, and do not load
// by themselves: it may fit a line about every file that is there, and so prove nothing.
type Weak struct {
	Rule *dialect.Rule
	Mods []string // some of them
}

// maxStrangers bounds how many mods are named of a rule that is weak.
const maxStrangers = 5

func (r *Reader) strange(rule *dialect.Rule, rec *record) {
	e := &rec.expected
	if list := r.strangers[rule]; !r.Lonely && !e.Registered && !e.Base && !e.Always && len(list) < maxStrangers && !slices.Contains(list, text.Clean(e.Name)) {
		if r.strangers == nil {
			r.strangers = map[*dialect.Rule][]string{}
		}
		r.strangers[rule] = append(list, text.Clean(e.Name))
	}
}

// Weak lists the rules that are weak by what was read, in the order of the dialect.
func (r *Reader) Weak() (list []Weak) {
	for _, rule := range r.rules {
		if mods := r.strangers[rule]; len(mods) > 0 {
			list = append(list, Weak{rule, mods})
		}
	}
	return list
}
