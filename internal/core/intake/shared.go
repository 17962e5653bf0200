package intake

import (
	"iter"
	"slices"
)

// Brought are the files that one mod brings, by the places that they go to.
type Brought struct {
	Mod   string
	Paths []string
}

// Shared is a place that more than one of several mods, or the clean server too,
// has a file for.
type Shared struct {
	Path  string
	Mods  []string
	Clean bool // the server has had a file there before any mod
}

// Overlapping finds the places that mods share with each other or with the clean
// server, sorted by path. Only what the mods bring is held in memory.
func Overlapping(clean iter.Seq[string], mods []Brought) []Shared {
	total := 0
	for _, m := range mods {
		total += len(m.Paths)
	}
	first := make(map[string]int32, total) // the mod that a place was seen with first
	more := map[string]*Shared{}
	for i, m := range mods {
		for _, p := range m.Paths {
			at, ok := first[p]
			switch {
			case !ok:
				first[p] = int32(i)
			case at != int32(i):
				if more[p] == nil {
					more[p] = &Shared{Path: p, Mods: []string{mods[at].Mod}}
				}
				more[p].Mods = append(more[p].Mods, m.Mod)
			}
		}
	}
	for p := range clean {
		if at, ok := first[p]; ok {
			if more[p] == nil {
				more[p] = &Shared{Path: p, Mods: []string{mods[at].Mod}}
			}
			more[p].Clean = true
		}
	}
	list := make([]Shared, 0, len(more))
	for _, s := range more {
		list = append(list, *s)
	}
	slices.SortFunc(list, func(a, b Shared) int { return comparePaths(a.Path, b.Path) })
	return list
}
