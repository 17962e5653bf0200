package intake

import (
	"slices"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/survey"
)

// Position proposes where in the load order a new mod is registered: at the end,
// or right before the first mod that needs it, where its own needs allow that.
func Position(s *survey.Survey, name string) lineup.Where {
	m := s.Find(name)
	if m == nil || s.Dialect.Order != dialect.OrderListed {
		return lineup.Where{}
	}
	last := 0 // the last of the mods that have to come before
	var first *survey.Mod
	for i := range s.Mods {
		other := &s.Mods[i]
		if other == m || !other.Registered || other.Position == 0 || other.Group {
			continue
		}
		if needs(m, other) || slices.Contains(other.Manifest.Before, m.Name) {
			last = max(last, other.Position)
		}
		if (needs(other, m) || slices.Contains(m.Manifest.Before, other.Name)) && (first == nil || other.Position < first.Position) {
			first = other
		}
	}
	if first == nil || first.Position < last {
		return lineup.Where{}
	}
	return lineup.Where{Before: first.Name}
}

// needs tells whether one mod has to come after another.
func needs(m, other *survey.Mod) bool {
	for _, n := range slices.Concat(m.Needs(), m.OptionalNeeds()) {
		if other.Is(n.Name) {
			return true
		}
	}
	return slices.Contains(m.Manifest.After, other.Name)
}

// InOrder sorts the mods of an intake so that each comes after those that it
// needs, and else as a startup file that came along lists them, or by name.
func (in *Intake) InOrder() []Placed {
	at := map[string]int{}
	for i, p := range in.Mods {
		at[p.Name] = i
	}
	after := map[string][]string{}
	for _, p := range in.Mods {
		for _, n := range slices.Concat(p.Manifest.Needs, p.Manifest.OptionalNeeds) {
			after[p.Name] = append(after[p.Name], n.Name)
		}
		after[p.Name] = append(after[p.Name], p.Manifest.After...)
		for _, b := range p.Manifest.Before {
			after[b] = append(after[b], p.Name)
		}
	}
	for _, r := range in.Rules {
		after[r.Mod] = append(after[r.Mod], r.Other)
	}
	var list []Placed
	done := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		i, ok := at[name]
		if !ok || done[name] {
			return
		}
		done[name] = true // a circle ends here; check tells of it
		for _, first := range after[name] {
			visit(first)
		}
		list = append(list, in.Mods[i])
	}
	for _, p := range in.Mods {
		visit(p.Name)
	}
	return list
}
