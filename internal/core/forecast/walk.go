package forecast

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/mod"
	"initium/internal/core/survey"
)

// walk goes through the mods in the order of the server.
func (w *walker) walk() {
	switch {
	case w.d.Order == dialect.OrderListed:
		w.lines()
	case w.d.Load.Walk == dialect.WalkNeedsFirst:
		for _, i := range w.sequence() {
			if w.state[i] == waiting && !w.withNeeds(i) {
				return
			}
		}
	default:
		for i := range w.s.Mods { // such a server tells first of what is not there
			if m := &w.s.Mods[i]; m.On && w.nowhere(m) {
				w.absent(i)
			}
		}
		for i := range w.s.Mods { // and then of names that two have
			m := &w.s.Mods[i]
			if t, ok := w.twins[m.Name]; ok && m.On && w.state[i] == waiting && (w.d.Load.Twins == dialect.FateStops || w.d.Load.Twins == dialect.FateFirst) {
				w.fall(i, w.d.Load.Twins, faultf(TwinMods, "", "two mods are called so, in %s and %s", t.HiddenBy, t.Path))
			}
		}
		if w.stops == "" {
			w.ready(w.d.Load.Walk == dialect.WalkReadyStack)
		}
	}
}

// lines goes through a list line by line, after what loads without one. A mod
// that was turned away is tried again when it has a second line.
func (w *walker) lines() {
	of := make([][]int, len(w.s.Lineup.Entries)) // the mods that each line loads
	for _, i := range w.sequence() {
		m := &w.s.Mods[i]
		if m.Base || !m.Listed {
			if w.state[i] == waiting && !w.inList(i) {
				return
			}
			continue
		}
		for _, e := range m.Entries {
			of[e] = append(of[e], i)
		}
	}
	for e := range w.s.Lineup.Entries {
		entry := &w.s.Lineup.Entries[e]
		if !entry.On || w.d.Registrations[entry.Registration].SameAs != "" {
			continue
		}
		w.seq = entry.Seq
		for _, i := range of[e] {
			if w.state[i] != loaded && !w.inList(i) {
				return
			}
		}
	}
}

// nowhere tells whether a server does not find a mod.
func (w *walker) nowhere(m *survey.Mod) bool {
	return m.Path == "" || !m.Always && (!m.Base && (m.Elsewhere || unknownValue(w.s, m)) || len(w.facts.Unfound) > 0)
}

// absent tells of a registered mod that is not there.
func (w *walker) absent(i int) {
	f := faultf(Absent, "", "it is registered and not there")
	if m := &w.s.Mods[i]; m.Path != "" && unknownValue(w.s, m) {
		f.because = "its value means neither on nor off"
	} else if m.Elsewhere {
		f.because = "it is registered at another path than its own, " + m.Spot
	} else if m.Path != "" {
		f.because = "the server does not find it: " + w.facts.Unfound[0]
	}
	w.fall(i, w.d.Load.Absent, f)
	w.state[i] = out
}

// sequence lists the mods in the order in which the server looks at them.
func (w *walker) sequence() (list []int) {
	for i := range w.s.Mods {
		if m := &w.s.Mods[i]; (m.On || m.Base && len(w.facts.Unfound) == 0) && w.state[i] == waiting {
			list = append(list, i)
		}
	}
	mods := w.s.Mods
	switch w.d.Load.Ties {
	case dialect.TiesName:
		slices.SortStableFunc(list, func(a, b int) int { return strings.Compare(mods[a].Name, mods[b].Name) })
	case dialect.TiesPlace:
		place := w.firstSeen()
		slices.SortStableFunc(list, func(a, b int) int {
			pa, pb := place(&mods[a]), place(&mods[b])
			return cmp.Or(pa.compare(pb), cmp.Compare(pa.place, pb.place), strings.Compare(pa.bundle, pb.bundle), strings.Compare(pa.path, pb.path))
		})
	default:
		slices.SortStableFunc(list, func(a, b int) int {
			return cmp.Or(cmp.Compare(listedKey(w.s, &mods[a]), listedKey(w.s, &mods[b])), strings.Compare(mods[a].Name, mods[b].Name))
		})
	}
	return list
}

// listedKey puts the server's own first, then what loads anyway, then the list.
func listedKey(s *survey.Survey, m *survey.Mod) int {
	switch {
	case m.Base:
		return -2
	case !m.Registered || !m.Listed:
		return -1
	}
	return m.Position
}

// seat is where a server comes across a mod that looks through folders.
type seat struct {
	tier, alone  int
	place        int
	bundle, path string
}

// compare orders seats by what is gathered when: tier by tier, and in each first
// what is in bundles, then what is not.
func (s seat) compare(o seat) int {
	return cmp.Or(cmp.Compare(s.tier, o.tier), cmp.Compare(s.alone, o.alone))
}

// firstSeen tells where each mod is come across first: where one hides another of
// its name, it takes that one's seat.
func (w *walker) firstSeen() func(m *survey.Mod) seat {
	seats := map[string]seat{}
	of := func(place int, bundle, full string) seat {
		s := seat{tier: w.tier(place), place: place, bundle: bundle, path: path.Base(full)}
		if bundle == "" {
			s.alone = 1
		}
		return s
	}
	for _, t := range w.s.Twins {
		if len(w.facts.Unfound) > 0 && w.tier(t.Place) != tierAlways {
			continue // it is not looked at
		}
		s := of(t.Place, t.Bundle, t.Path)
		if old, ok := seats[t.Name]; !ok || s.compare(old) < 0 {
			seats[t.Name] = s
		}
	}
	return func(m *survey.Mod) seat {
		mine := of(m.Place, m.Bundle, m.Path)
		if s, ok := seats[m.Name]; ok && s.compare(mine) < 0 {
			return s
		}
		return mine
	}
}

// The tiers of folders: the server's own come first, then those whose mods always
// load, then those whose mods have to be registered.
const (
	tierBase = iota
	tierAlways
	tierRegistered
)

// tier is which folders a place belongs to.
func (w *walker) tier(place int) int {
	if place < 0 {
		return tierRegistered
	}
	switch w.d.Places[place].Loads {
	case dialect.LoadsBase:
		return tierBase
	case dialect.LoadsAlways:
		return tierAlways
	}
	return tierRegistered
}

// inList loads a mod where it stands in the list.
func (w *walker) inList(i int) bool {
	m := &w.s.Mods[i]
	if w.nowhere(m) {
		w.absent(i)
		return w.stops == ""
	}
	w.state[i] = underway
	if fate, f := w.met(m); !w.fall(i, fate, f) {
		return w.stops == ""
	}
	return w.enter(i)
}

// withNeeds loads what a mod needs first, and then the mod. It returns false when the
// server cannot go on.
func (w *walker) withNeeds(i int) bool {
	m := &w.s.Mods[i]
	if w.nowhere(m) {
		w.absent(i)
		return w.stops == ""
	}
	if !m.Base && !w.readable(i) {
		return w.stops == ""
	}
	w.state[i] = underway
	for _, need := range m.Needs() {
		n := w.s.Answer(need.Name)
		if n == nil || !n.On && !n.Base || w.nowhere(n) {
			break // met tells of it
		}
		if !w.fetch(i, n) {
			return false
		}
		if w.state[i] == out {
			return true
		}
		if w.state[n.Index()] == out {
			break
		}
		if fits, err := Fits(need, n, m.Manifest.Versions); err == nil && !fits && w.d.Load.Range != dialect.FateIgnored {
			break
		}
	}
	if !w.withOptional(m) {
		return false
	}
	if fate, f := w.met(m); !w.fall(i, fate, f) {
		return w.stops == ""
	}
	return w.enter(i)
}

// withOptional loads what a mod needs only where it is there. It returns false when the
// server cannot go on.
func (w *walker) withOptional(m *survey.Mod) bool {
	for _, need := range m.OptionalNeeds() {
		if n := w.s.Answer(need.Name); n != nil && (n.On || n.Base) && !w.nowhere(n) && w.state[n.Index()] == waiting && !w.withNeeds(n.Index()) {
			return false
		}
	}
	return true
}

// readable tells whether a mod gets past what is looked at before its needs.
func (w *walker) readable(i int) bool {
	m := &w.s.Mods[i]
	if why := Misfits(m, w.d, w.facts.Builds); why != "" && !w.fall(i, w.d.Load.Misfit, faultf(Misfit, "", "%s", why)) {
		return false
	}
	return m.Manifest.Problem == nil ||
		w.fall(i, w.d.Load.Unreadable, faultf(Unreadable, "", "its manifest cannot be read: %s", m.Manifest.Problem.Message))
}

// fetch loads what a mod needs, unless that is loaded, or waits for the mod itself. It
// returns false when the server cannot go on.
func (w *walker) fetch(i int, n *survey.Mod) bool {
	at := n.Index()
	switch w.state[at] {
	case waiting:
		return w.withNeeds(at)
	case underway:
		if w.d.Load.Circle == dialect.FateStops { // said of the one that it has come back to
			m := &w.s.Mods[i]
			return w.fall(at, w.d.Load.Circle, faultf(InCircle, m.Name, "it waits for itself, by way of %s", m.Name))
		}
		w.fall(i, w.d.Load.Circle, faultf(InCircle, n.Name, "it waits for itself, by way of %s", n.Name))
	}
	return true
}

// ready takes again and again a mod that waits for nothing more. Optional needs
// count as needs when a mod of that name is there at all.
func (w *walker) ready(stack bool) {
	list := w.sequence()
	there := map[string]bool{}
	for _, i := range list {
		for _, name := range w.answersTo(i) {
			there[name] = true
		}
	}
	sorted, met := w.readiness(list, there, stack)
	for _, i := range list {
		missing := slices.DeleteFunc(w.awaits(i, there), func(name string) bool { return met[name] })
		if len(missing) > 0 && w.unready(i, missing) {
			sorted = append(sorted, i)
		}
	}
	for _, i := range sorted {
		if w.stops != "" {
			return
		}
		if w.state[i] != waiting { // another has brought it along
			continue
		}
		w.state[i] = underway
		w.enter(i)
	}
}

// readiness is the order in which those of a list become ready, the newest first where
// they are stacked, and the names that are met by then.
func (w *walker) readiness(list []int, there map[string]bool, stack bool) (sorted []int, met map[string]bool) {
	users := map[string][]int{}           // who waits for a name, in the order of the list
	waits := make(map[int]int, len(list)) // for how many names
	var free []int
	for _, i := range list {
		names := w.awaits(i, there)
		for _, name := range names {
			users[name] = append(users[name], i)
		}
		if waits[i] = len(names); len(names) == 0 {
			free = append(free, i)
		}
	}
	met = map[string]bool{}
	for len(free) > 0 {
		i, rest := free[0], free[1:]
		if stack {
			i, rest = free[len(free)-1], free[:len(free)-1]
		}
		free = rest
		sorted = append(sorted, i)
		for _, name := range w.answersTo(i) {
			if met[name] {
				continue
			}
			met[name] = true
			for _, j := range users[name] {
				if waits[j]--; waits[j] == 0 {
					free = append(free, j)
				}
			}
		}
	}
	return sorted, met
}

// answersTo lists the names that a mod meets needs by.
func (w *walker) answersTo(i int) []string {
	m := &w.s.Mods[i]
	return append([]string{m.Name}, m.Manifest.Provides...)
}

// awaits lists the names that a mod waits for, each once.
func (w *walker) awaits(i int, there map[string]bool) (names []string) {
	m := &w.s.Mods[i]
	for _, n := range m.Needs() {
		if !slices.Contains(names, n.Name) {
			names = append(names, n.Name)
		}
	}
	for _, n := range m.OptionalNeeds() {
		if there[n.Name] && !slices.Contains(names, n.Name) {
			names = append(names, n.Name)
		}
	}
	return names
}

// unready tells of a mod that never became ready, for want of the missing names. It
// returns true when the server loads it all the same, after those that are ready.
func (w *walker) unready(i int, missing []string) (loads bool) {
	slices.Sort(missing)
	words := strings.Join(missing, ", ")
	fate, f := w.d.Load.NeedAbsent, faultf(NeedAbsent, missing[0], "it needs %s, which is not there", words)
	for _, name := range missing {
		n := w.s.Answer(name)
		switch {
		case n == nil || n.Path == "":
		case !n.On && !n.Base:
			f = faultf(NeedAbsent, n.Name, "it needs %s, which is %s", n.Name, offOrUnknown(n))
		case w.waitsForItself(n, n, map[*survey.Mod]bool{}):
			fate, f = w.d.Load.Circle, faultf(InCircle, n.Name, "it waits for a circle of needs, by way of %s", n.Name)
		default:
			if f.cause != InCircle {
				f = faultf(NeedFails, n.Name, "it needs %s, which will not load", words)
			}
		}
	}
	return w.fall(i, fate, f)
}

// waitsForItself tells whether a mod is in a circle of needs.
func (w *walker) waitsForItself(start, m *survey.Mod, seen map[*survey.Mod]bool) bool {
	for _, list := range [][]mod.Need{m.Needs(), m.OptionalNeeds()} {
		for _, need := range list {
			n := w.s.Answer(need.Name)
			if n == start {
				return true
			}
			if n != nil && (n.On || n.Base) && !seen[n] {
				seen[n] = true
				if w.waitsForItself(start, n, seen) {
					return true
				}
			}
		}
	}
	return false
}
