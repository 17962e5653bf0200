package proof

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// End is how the watch of a start ended.
type End struct {
	Exit    *int          // the exit status when the server stopped, -1 for a signal
	Limit   time.Duration // the time limit when it ran out
	Stopped bool          // the operator stopped the watch
}

// Status is where a start stands while it goes on.
type Status struct {
	Owed   []string // registered mods that nothing has been said about, in load order
	Done   int      // registered mods that have been spoken for
	Failed int
	Now    string // the mod that is loading
}

// Status sums up what is still to come.
func (r *Reader) Status() Status {
	var s Status
	latest := time.Duration(-1)
	for _, rec := range r.order {
		if !rec.expected.Registered {
			continue
		}
		switch {
		case rec.failed:
			s.Done, s.Failed = s.Done+1, s.Failed+1
		case rec.loaded:
			s.Done++
		default:
			s.Owed = append(s.Owed, rec.expected.Name)
			if rec.hasBegun && rec.began >= latest {
				s.Now, latest = rec.expected.Name, rec.began
			}
		}
	}
	return s
}

// Judge gives the outcome of every mod: first the registered ones in load
// order, then what loaded or failed besides. It may be called at any time.
func (r *Reader) Judge(end End) *Proof {
	p := &Proof{Ready: r.ready, Exit: end.Exit, Stopped: end.Stopped, Mods: []Mod{}, Gone: r.Gone, Lines: r.lines, Later: r.Later()}
	if r.ready {
		p.ReadyAfterMS = r.readyAt.Milliseconds()
	}
	for _, name := range r.loaded {
		p.Order = append(p.Order, text.Clean(name))
	}
	for _, name := range r.notNames {
		p.NotNames = append(p.NotNames, text.Mask(name, r.Secrets))
	}
	up := r.ready && end.Exit == nil
	for _, rec := range r.order {
		if rec.expected.Registered || rec.failed || (rec.loaded || rec.listed) && !rec.expected.Base {
			p.Mods = append(p.Mods, rec.judge(up, r.listed, end))
		}
	}
	other := r.tell(p)
	if p.Reason = r.reason(p, end); p.Reason == "" {
		p.Reason = other
	}
	if r.Expect != nil && r.Expect.Settled {
		p.Expected = slices.Clone(r.Expect.Met)
		if p.Reason == "" {
			p.Reason = r.Expect.Unmet()
		}
	}
	p.Verdict = NotProved
	if p.Reason == "" {
		p.Verdict = Proved
	}
	return p
}

// Told is what the server has said of itself by the end of its start, "" for nothing.
func (r *Reader) Told(fact string) string { return r.begunAs[fact] }

// tell adds what the server has said of itself, and where that is other than what
// was set. It returns the first such difference that may not be.
func (r *Reader) tell(p *Proof) (other string) {
	for _, fact := range dialect.Facts {
		told, ok := r.told[fact]
		if !ok {
			continue
		}
		if p.Told == nil {
			p.Told = map[string]string{}
		}
		p.Told[fact] = told
		began := r.begunAs[fact]
		if set := text.Mask(text.Clean(r.Facts[fact]), r.Secrets); set != "" && !sameFact(began, set) {
			p.Differs = append(p.Differs, fmt.Sprintf("the server says that its %s is %s; what it was started with says %s", fact, began, set))
			if other == "" && !r.MayDiffer[fact] {
				other = p.Differs[len(p.Differs)-1]
			}
		}
	}
	return other
}

// sameFact tells whether a server says what was set: in quotes or not, in whatever letters,
// and of a path perhaps the last name only.
func sameFact(told, set string) bool {
	told, set = strings.Trim(told, `"'`), strings.Trim(set, `"'`)
	if strings.Contains(told, "/") != strings.Contains(set, "/") {
		told, set = path.Base(told), path.Base(set)
	}
	return strings.EqualFold(told, set)
}

// judge gives the outcome of one mod. What the server's own list says at the end
// counts for more than that a mod has loaded some time; what failed has failed,
// whatever is said besides.
func (rec *record) judge(up, listed bool, end End) Mod {
	m := Mod{Name: text.Clean(rec.expected.Name), Release: text.Clean(rec.expected.Release), Registered: rec.expected.Registered, Evidence: rec.evidence}
	if m.Evidence == nil {
		m.Evidence = []Evidence{}
	}
	switch {
	case rec.failed:
		m.Outcome, m.Reason, m.Own = Failed, rec.reason, rec.own
		for _, name := range rec.wanted {
			m.Wanted = append(m.Wanted, text.Clean(name))
		}
		if m.Reason == "" {
			m.Reason = "the server said so and gave no reason"
		}
		switch {
		case rec.listed:
			m.Against = "the server's own list names it all the same"
		case rec.again:
			m.Against = "it loaded all the same after that"
		}
	case listed && rec.loaded && !rec.listed:
		m.Outcome, m.Reason = Failed, "the server's own list does not name it"
		m.Against = "it is said to have loaded"
	case (rec.loaded || rec.listed) && rec.expected.Registered:
		m.Outcome = Confirmed
	case rec.loaded || rec.listed:
		m.Outcome, m.Reason = Unlisted, "it loaded without being registered"
	case rec.earlier != nil:
		m = rec.earlier.judge(up, listed, end)
		m.Reason += "; a mod has loaded anew since then, and nothing more was said of this one"
	default:
		m.Outcome = Silent
		switch {
		case rec.shared:
			m.Reason = "another mod is called the same but for what cannot be seen, and the log does not tell them apart; give one of them another name"
		case up:
			m.Reason = "the server is up and said nothing about it"
		case end.Exit != nil:
			m.Reason = "the server stopped before it said anything about it"
		default:
			m.Reason = "nothing has been said about it"
		}
	}
	rec.times(&m)
	return m
}

func (rec *record) times(m *Mod) {
	if !rec.loaded && !rec.failed {
		if rec.hasBegun {
			began := ms(rec.began)
			m.BeganMS = &began
		}
		return
	}
	ended := ms(rec.ended)
	m.EndedMS = &ended
	load, known := rec.loadMS, rec.hasMS
	if !known && rec.hasBegun && rec.loaded {
		load, known = ms(rec.ended-rec.began), true
	}
	if known {
		m.LoadMS = &load
	}
	switch {
	case rec.hasBegun:
		began := ms(rec.began)
		m.BeganMS = &began
	case known:
		began := max(ended-load, 0)
		m.BeganMS = &began
	}
}

// reason says why a start is not proved, or "".
// stray is the first mod that has loaded without a reason that is known, "" for none.
func (r *Reader) stray() string {
	for _, rec := range r.order {
		if e := &rec.expected; (rec.loaded || rec.listed) && !e.Registered && !e.Base && !e.Always {
			return text.Clean(e.Name)
		}
	}
	return ""
}

func (r *Reader) reason(p *Proof, end End) string {
	switch {
	case end.Exit != nil:
		when := "before it was ready"
		if r.ready {
			when = "right after it was ready"
		}
		how := fmt.Sprintf("the server stopped %s, with exit status %d", when, *end.Exit)
		if *end.Exit < 0 {
			how = "the server was ended by a signal " + when
		}
		if r.stopped != "" {
			how += ": " + r.stopped
		}
		return how
	case !r.ready && end.Stopped:
		return "the start was stopped before the server was ready"
	case end.Stopped:
		return "the server was stopped right after it was ready, before it had stayed up for long enough"
	case !r.ready && end.Limit > 0:
		return fmt.Sprintf("the server did not say that it was ready within %s", end.Limit)
	case !r.ready:
		return "the server has not said that it is ready"
	}
	registered, confirmed := 0, 0
	for _, m := range p.Mods {
		if m.Registered {
			registered++
			if m.Outcome == Confirmed {
				confirmed++
			}
		}
	}
	if confirmed < registered {
		verb := "are"
		if registered-confirmed == 1 {
			verb = "is"
		}
		return fmt.Sprintf("%d of %d registered mods %s not confirmed", registered-confirmed, registered, verb)
	}
	for _, m := range p.Mods {
		if m.Outcome == Failed {
			return fmt.Sprintf("%s failed", m.Name)
		}
	}
	switch n := len(r.Unread); {
	case n == 1:
		return "not all that is registered is known: " + r.Unread[0]
	case n > 1:
		return fmt.Sprintf("not all that is registered is known: %s; and %d more places", r.Unread[0], n-1)
	}
	if stray := r.stray(); registered == 0 && stray != "" {
		return fmt.Sprintf("nothing is registered, and %s loaded all the same", stray)
	}
	if r.unknown > 0 {
		return "the log tells of a failure that belongs to no known mod"
	}
	return ""
}
