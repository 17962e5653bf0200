package draw

import (
	"cmp"
	"fmt"
	"slices"

	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// MarkOf is the mark of an outcome.
func MarkOf(o proof.Outcome) Mark {
	switch o {
	case proof.Confirmed:
		return MarkConfirmed
	case proof.Failed:
		return MarkFailed
	case proof.Silent:
		return MarkSilent
	case proof.Unlisted:
		return MarkUnlisted
	}
	return MarkNone
}

// OrderOf is the load order of a surveyed server, with the outcomes of a start;
// last may be nil. For a server that orders its mods itself the numbers are those
// of the forecast.
func OrderOf(s *survey.Survey, f *forecast.Forecast, last *proof.Proof) *Order {
	o := &Order{Title: s.Server + ": load order"}
	foretold := map[string]int{}
	if s.Dialect.Order == dialect.OrderServer && f != nil {
		o.Title = s.Server + ": load order, as the server is expected to choose it"
		for i, name := range f.Order {
			foretold[name] = i + 1
		}
	}
	band, index := map[string]int{}, map[*survey.Mod]int{}
	for i := range s.Mods {
		m := &s.Mods[i]
		if m.Base || !m.On && !m.Registered {
			continue
		}
		name, title := text.Clean(m.Name), text.Clean(m.Section)
		if m.Always && !m.Registered {
			title = "Not registered, and loads anyway"
		}
		if _, ok := band[title]; !ok {
			band[title] = len(o.Bands)
			o.Bands = append(o.Bands, title)
		}
		node := OrderMod{Name: name, Number: m.Position, Band: band[title], Mark: markAfter(m, last)}
		if s.Dialect.Order == dialect.OrderServer {
			node.Number = foretold[name]
		}
		index[m] = len(o.Mods)
		o.Mods = append(o.Mods, node)
	}
	o.connect(s, index)
	o.About = fmt.Sprintf("%d mods, %d needs among them", len(o.Mods), len(o.Needs))
	if last != nil && last.Started != nil {
		o.About += fmt.Sprintf("; marks from start %d, %s, %s", last.Number, last.Started.Format("2 January 2006 15:04"), last.Verdict)
	}
	return o
}

// markAfter is the mark of a mod after a start; last may be nil.
func markAfter(m *survey.Mod, last *proof.Proof) Mark {
	if !m.On {
		return MarkOff
	}
	if last != nil {
		if p := last.Find(text.Clean(m.Name)); p != nil {
			return MarkOf(p.Outcome)
		}
	}
	return MarkNone
}

// connect adds the needs of the mods that are on; index is where each is in o.Mods.
func (o *Order) connect(s *survey.Survey, index map[*survey.Mod]int) {
	for i := range s.Mods {
		m := &s.Mods[i]
		then, ok := index[m]
		if !ok || !m.On {
			continue
		}
		for _, need := range m.Needs() {
			o.need(s, index, need.Name, then, false)
		}
		for _, need := range m.OptionalNeeds() {
			o.need(s, index, need.Name, then, true)
		}
	}
}

func (o *Order) need(s *survey.Survey, index map[*survey.Mod]int, name string, then int, optional bool) {
	n := s.Answer(name)
	if n == nil || !n.On {
		return
	}
	first, ok := index[n]
	if !ok || first == then {
		return
	}
	wrong := s.Dialect.Order == dialect.OrderListed && n.Registered && o.Mods[then].Number > 0 && o.Mods[first].Number > o.Mods[then].Number
	o.Needs = append(o.Needs, OrderNeed{First: first, Then: then, Optional: optional, Wrong: wrong})
}

// StartOf is a start beside the last one that was proved; proved may be nil, or
// the same start.
func StartOf(server string, p, proved *proof.Proof) *Start {
	s := &Start{Title: fmt.Sprintf("%s: start %d", server, p.Number), Ready: float64(p.ReadyAfterMS)}
	if p.Started != nil {
		s.About = p.Started.Format("2 January 2006 15:04") + ", "
	}
	s.About += string(p.Verdict)
	if p.Reason != "" {
		s.About += ": " + p.Reason
	}
	if proved != nil && proved.Number == p.Number {
		proved = nil
	}
	if proved != nil {
		s.WasReady = float64(proved.ReadyAfterMS)
		s.About += fmt.Sprintf("; beside start %d", proved.Number)
	}
	for _, m := range p.Mods {
		b := Bar{Name: m.Name, Mark: MarkOf(m.Outcome)}
		b.From, b.To, b.Known = span(&m)
		if proved != nil {
			old := proved.Find(m.Name)
			if b.New = old == nil; old != nil {
				b.WasFrom, b.WasTo, b.WasKnown = span(old)
			}
		}
		s.Bars = append(s.Bars, b)
	}
	if proved != nil {
		for _, old := range proved.Mods {
			if p.Find(old.Name) == nil {
				s.Gone = append(s.Gone, old.Name)
			}
		}
	}
	slices.SortStableFunc(s.Bars, func(a, b Bar) int {
		if a.Known != b.Known {
			if a.Known {
				return -1
			}
			return 1
		}
		return cmp.Compare(a.From, b.From)
	})
	return s
}

func span(m *proof.Mod) (from, to float64, known bool) {
	if m.EndedMS == nil {
		return 0, 0, false
	}
	to = *m.EndedMS
	if from = to; m.BeganMS != nil {
		from = *m.BeganMS
	}
	return from, to, true
}
