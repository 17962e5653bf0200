package order

import (
	"slices"

	"initium/internal/core/lineup"
	"initium/internal/core/rule"
)

// Repair works out the smallest set of moves after which every demand is met
// that can be. Lines that rules pin down stay, lines that need not move stay, and
// what moves goes no further than it has to. Of two smallest sets that one is
// taken which leaves more lines in their sections, then the one with the shorter
// ways.
func (l *Lines) Repair() Repair {
	wrong := l.Wrong()
	if len(wrong) == 0 {
		return Repair{}
	}
	g := l.withinLists(l.full)
	pinned := l.pinned()
	var best Repair
	var bestCost int
	for i, up := range []bool{true, false} {
		kept := g.Keep(pinned, up)
		candidate, cost := l.moves(g, kept)
		if i == 0 || len(candidate.Moves) < len(best.Moves) || len(candidate.Moves) == len(best.Moves) && cost < bestCost {
			best, bestCost = candidate, cost
		}
	}
	for _, w := range wrong {
		if w.Fixed {
			best.Left = append(best.Left, w.Words()+": no move within one list mends that")
		}
	}
	return best
}

// withinLists leaves demands out that go from one list to another: no move
// mends them.
func (l *Lines) withinLists(g *Graph) *Graph {
	if !slices.ContainsFunc(l.rows, func(r row) bool { return r.list != l.rows[0].list }) {
		return g
	}
	var edges []Edge
	for i := range int32(g.n) {
		for _, to := range g.After(i) {
			if l.rows[i].list == l.rows[to].list {
				edges = append(edges, Edge{i, to})
			}
		}
	}
	return NewGraph(g.n, edges)
}

// pinned are the settings, which stay where they are, and the lines that rules
// hold.
func (l *Lines) pinned() []bool {
	pinned := make([]bool, len(l.rows))
	for i, r := range l.rows {
		pinned[i] = r.entry < 0
	}
	for _, r := range l.s.Rules {
		if m := l.s.Find(r.Mod); m != nil && r.Kind == rule.Stay && l.row(m) >= 0 {
			pinned[l.row(m)] = true
		}
	}
	return pinned
}

// moves turns the rows that do not stay into changes, from the top down, so that
// each is put beside one that stands where it belongs.
func (l *Lines) moves(g *Graph, kept Kept) (repair Repair, cost int) {
	sorted, reasons := g.Rearrange(kept.Stay), l.reasons()
	repair.Excess = kept.Excess
	section := make([]int, len(l.rows))
	for i := range section {
		section[i] = l.rows[i].section
	}
	for at, i := range sorted {
		if kept.Stay[i] {
			continue
		}
		change := lineup.Change{Op: lineup.OpMove, Mod: l.rows[i].name}
		before, after := l.neighbour(sorted[:at], i), l.nextKept(sorted[at+1:], i, kept)
		if before < 0 && after < 0 {
			repair.Left = append(repair.Left, l.rows[i].name+" cannot be moved: its list has no line beside which it would stand right")
			continue
		}
		if l.belowIsBetter(i, before, after, section) {
			change.Where.After = l.rows[before].name
			section[i] = section[before]
		} else {
			change.Where.Before = l.rows[after].name
			section[i] = section[after]
		}
		if section[i] != l.rows[i].section {
			cost += len(l.rows)
		}
		cost += max(at-int(i), int(i)-at)
		why := reasons[i]
		if len(why) == 0 {
			why = []string{"what it needs, or what needs it, moves too"}
		}
		repair.Moves = append(repair.Moves, Move{change, why})
	}
	if kept.Torn {
		repair.Left = append(repair.Left, "lines that are to stay stand the wrong way round themselves")
	}
	return repair, cost
}

// reasons are what each row would be moved for.
func (l *Lines) reasons() map[int32][]string {
	reasons := map[int32][]string{}
	for _, d := range l.demands {
		if d.edge.From <= d.edge.To || l.rows[d.edge.From].list != l.rows[d.edge.To].list {
			continue
		}
		for _, i := range []int32{d.edge.From, d.edge.To} {
			if words := d.Words(); !slices.Contains(reasons[i], words) {
				reasons[i] = append(reasons[i], words)
			}
		}
	}
	return reasons
}

// belowIsBetter tells whether a row is put below the one before it, and not above the one
// after it, of which one may be negative: in the section that it comes from, where it
// can be; else beside the line that it moves for.
func (l *Lines) belowIsBetter(i, before, after int32, section []int) bool {
	if before < 0 || after < 0 {
		return before >= 0
	}
	home := func(j int32) bool { return section[j] == l.rows[i].section }
	if home(before) != home(after) {
		return home(before)
	}
	return i < after // it goes down: the line above is what it moves for
}

// neighbour is the nearest line above in the same list, or -1; a setting in
// between makes it useless.
func (l *Lines) neighbour(above []int32, i int32) int32 {
	for _, j := range slices.Backward(above) {
		if l.rows[j].list == l.rows[i].list {
			if l.rows[j].entry < 0 {
				return -1
			}
			return j
		}
	}
	return -1
}

// nextKept is the nearest line below in the same list that stays, if only lines
// that move as well are in between; else -1.
func (l *Lines) nextKept(below []int32, i int32, kept Kept) int32 {
	for _, j := range below {
		if l.rows[j].list != l.rows[i].list || !kept.Stay[j] {
			continue
		}
		if l.rows[j].entry < 0 {
			return -1
		}
		return j
	}
	return -1
}
