package order

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// Cause is why one mod has to load before another.
type Cause int

// The causes, the weightiest first.
const (
	ByNeed     Cause = iota // the later one cannot do without the earlier one
	ByRule                  // the operator's own rule says so
	BySetting               // the earlier one is a setting that the later one reads
	ByOptional              // the later one uses the earlier one if it is there
	ByManifest              // one of the two says so, without a need
)

// Demand is that First loads before Then.
type Demand struct {
	First, Then string // mods; or First is a setting
	Cause       Cause
	Rule        *rule.Rule // of ByRule
}

// Reason says the demand in words that stand behind the name of Then.
func (d Demand) Reason() string {
	first := text.Clean(d.First)
	switch d.Cause {
	case ByNeed:
		return "needs " + first
	case ByRule:
		return "has to come after " + first + " (" + d.Rule.Why() + ")"
	case BySetting:
		return "reads the setting " + first
	case ByOptional:
		return "uses " + first
	}
	return "asks to come after " + first
}

// Words say the demand as a sentence. A rule about the first or the last place is
// about one mod, whatever stands in its way.
func (d Demand) Words() string {
	if d.Cause == ByRule && d.Rule.Kind.End() {
		return fmt.Sprintf("%s has to load %s (%s)", text.Clean(d.Rule.Mod), d.Rule.Kind, d.Rule.Why())
	}
	return text.Clean(d.Then) + " " + d.Reason()
}

// Lines are the registrations of a server that loads its mods as they are
// listed, with what has to come before what.
type Lines struct {
	s       *survey.Survey
	rows    []row
	rowOf   []int32          // of a mod, by its index; -1 for none
	setting map[string]int32 // the rows of settings
	demands []demand

	hard, full *Graph    // without and with what mods would merely like
	circles    [][]int32 // in the hard one
}

// row is a line of the load order, or a setting that a mod reads.
type row struct {
	name    string // as the line has it
	list    int    // the registration; rows of different ones cannot change places
	entry   int    // of Lineup.Entries, -1 for a setting
	section int
	seq     int
}

type demand struct {
	Demand
	edge Edge
	soft bool
}

// Read finds out what has to come before what. For a server that orders by
// itself there are no lines.
func Read(s *survey.Survey) *Lines {
	l := &Lines{s: s, setting: map[string]int32{}}
	if s.Dialect.Order == dialect.OrderListed {
		l.lines()
		count := 0
		for i := range s.Mods {
			count += len(s.Mods[i].Manifest.Needs) + len(s.Mods[i].Manifest.OptionalNeeds)
		}
		l.demands = make([]demand, 0, count)
		for i := range s.Mods {
			if m := &s.Mods[i]; l.rowOf[i] >= 0 {
				l.demandsOf(m)
			}
		}
		l.rules()
	}
	l.hard = l.hardGraph()
	l.circles = l.hard.Circles()
	l.full = l.fullGraph()
	return l
}

// here tells whether a mod takes part in the order.
func (l *Lines) here(m *survey.Mod) bool {
	return m.On && m.Registered && !m.Base && len(m.Entries) > 0
}

// lines numbers the rows: the lines that are on, and the settings that mods read,
// in the order in which the server reads them.
func (l *Lines) lines() {
	read := map[string]bool{}
	l.rowOf = make([]int32, len(l.s.Mods))
	for i := range l.s.Mods {
		l.rowOf[i] = -1
		for _, name := range Settings(l.s, &l.s.Mods[i]) {
			read[name] = true
		}
	}
	set := map[string]bool{}
	for _, setting := range l.s.Lineup.Settings {
		if read[setting.Name] && !set[setting.Name] && setting.Seq > 0 {
			set[setting.Name] = true
			registration := l.s.Lineup.Files[setting.File].Registration
			l.rows = append(l.rows, row{name: setting.Name, list: registration, entry: -1, section: -1, seq: setting.Seq})
		}
	}
	seen := make([]bool, len(l.s.Lineup.Entries))
	for i := range l.s.Mods {
		m := &l.s.Mods[i]
		if !l.here(m) {
			continue
		}
		at := Line(l.s, m)
		if !seen[at] {
			seen[at] = true
			e := &l.s.Lineup.Entries[at]
			l.rows = append(l.rows, row{name: e.Name, list: e.Registration, entry: at, section: e.Section, seq: e.Seq})
		}
	}
	slices.SortStableFunc(l.rows, func(a, b row) int {
		return cmp.Or(cmp.Compare(a.list, b.list), cmp.Compare(a.seq, b.seq), cmp.Compare(a.entry, b.entry))
	})
	of := make([]int32, len(l.s.Lineup.Entries))
	for i, r := range l.rows {
		if r.entry < 0 {
			l.setting[r.name] = int32(i)
		} else {
			of[r.entry] = int32(i)
		}
	}
	for i := range l.s.Mods {
		if m := &l.s.Mods[i]; l.here(m) {
			l.rowOf[i] = of[Line(l.s, m)]
		}
	}
}

// Line is the entry of the line-up by which a registered mod loads: the first
// that is on.
func Line(s *survey.Survey, m *survey.Mod) int {
	for _, i := range m.Entries {
		if e := &s.Lineup.Entries[i]; e.On && s.Dialect.Registrations[e.Registration].SameAs == "" {
			return i
		}
	}
	return m.Entries[0]
}

// Settings are the names of the settings that a mod reads when it starts, by its
// manifest or a rule.
func Settings(s *survey.Survey, m *survey.Mod) []string {
	list := m.Manifest.Settings
	for _, r := range s.Rules {
		if r.Kind == rule.Reads && r.Mod == m.Name {
			list = append(slices.Clip(list), r.Other)
		}
	}
	return list
}

func (l *Lines) demandsOf(m *survey.Mod) {
	for _, need := range m.Needs() {
		l.before(need.Name, m, ByNeed)
	}
	for _, need := range m.OptionalNeeds() {
		l.before(need.Name, m, ByOptional)
	}
	for _, name := range m.Manifest.After {
		l.before(name, m, ByManifest)
	}
	for _, name := range m.Manifest.Before {
		if other := l.s.Answer(name); other != nil && l.row(other) >= 0 {
			l.demand(m, other, ByManifest, nil)
		}
	}
	for _, name := range Settings(l.s, m) {
		if at, ok := l.setting[name]; ok {
			l.demands = append(l.demands, demand{Demand{First: name, Then: m.Name, Cause: BySetting}, Edge{at, l.row(m)}, false})
		}
	}
}

func (l *Lines) before(name string, m *survey.Mod, cause Cause) {
	if other := l.s.Answer(name); other != nil && other != m && l.row(other) >= 0 {
		l.demand(other, m, cause, nil)
	}
}

// row is a mod's row, or -1.
func (l *Lines) row(m *survey.Mod) int32 { return l.rowOf[m.Index()] }

func (l *Lines) demand(first, then *survey.Mod, cause Cause, r *rule.Rule) {
	l.demands = append(l.demands, demand{Demand{first.Name, then.Name, cause, r}, Edge{l.row(first), l.row(then)}, cause == ByOptional || cause == ByManifest})
}

// rules adds what the operator has written down about the order.
func (l *Lines) rules() {
	for i := range l.s.Rules {
		r := &l.s.Rules[i]
		first, then := r.Mod, r.Other
		switch r.Kind {
		case rule.After:
			first, then = then, first
		case rule.Before:
		default:
			continue
		}
		a, b := l.s.Find(first), l.s.Find(then)
		if a != nil && b != nil && l.row(a) >= 0 && l.row(b) >= 0 {
			l.demand(a, b, ByRule, r)
		}
	}
	l.ends(rule.First)
	l.ends(rule.Last)
}

// ends lets the mods of rules of the kind first or last come before or after all
// others of their list that they need not, or that need not them.
func (l *Lines) ends(kind rule.Kind) {
	chosen := map[int32]*rule.Rule{}
	for i := range l.s.Rules {
		r := &l.s.Rules[i]
		if m := l.s.Find(r.Mod); r.Kind == kind && m != nil && l.row(m) >= 0 {
			chosen[l.row(m)] = r
		}
	}
	if len(chosen) == 0 {
		return
	}
	g := l.hardGraph()
	if kind == rule.First {
		g = g.backwards()
	}
	excepted := map[int32]bool{} // those that have to be even nearer to the end
	var mark func(i int32)
	mark = func(i int32) {
		for _, next := range g.After(i) {
			if !excepted[next] {
				excepted[next] = true
				mark(next)
			}
		}
	}
	for i := range chosen {
		mark(i)
	}
	for _, at := range slices.Sorted(maps.Keys(chosen)) {
		r := chosen[at]
		for i := range int32(len(l.rows)) {
			if chosen[i] != nil || excepted[i] || l.rows[i].entry < 0 || l.rows[i].list != l.rows[at].list {
				continue
			}
			d := demand{Demand{First: r.Mod, Then: l.rows[i].name, Cause: ByRule, Rule: r}, Edge{at, i}, false}
			if kind == rule.Last {
				d.First, d.Then, d.edge = l.rows[i].name, r.Mod, Edge{i, at}
			}
			l.demands = append(l.demands, d)
		}
	}
	slices.SortStableFunc(l.demands, func(a, b demand) int { return cmp.Compare(a.edge.To, b.edge.To) })
}

// hardGraph is what has to come before what, without what mods would merely like.
func (l *Lines) hardGraph() *Graph {
	edges := make([]Edge, 0, len(l.demands))
	for _, d := range l.demands {
		if !d.soft {
			edges = append(edges, d.edge)
		}
	}
	return NewGraph(len(l.rows), edges)
}

// fullGraph is what an order can meet: all that has to be, without circles, and
// what mods would merely like where that makes no circle.
func (l *Lines) fullGraph() *Graph {
	open := l.hard.Open(l.circles)
	if !slices.ContainsFunc(l.demands, func(d demand) bool { return d.soft }) {
		return open
	}
	hard := make([]Edge, 0, len(l.demands))
	for i := range int32(open.n) {
		for _, to := range open.After(i) {
			hard = append(hard, Edge{i, to})
		}
	}
	with := func(wanted func(Edge) bool) *Graph {
		edges := slices.Clone(hard)
		for _, d := range l.demands {
			if d.soft && wanted(d.edge) {
				edges = append(edges, d.edge)
			}
		}
		return NewGraph(len(l.rows), edges)
	}
	g := with(func(Edge) bool { return true })
	in := map[int32]int{}
	for c, circle := range g.Circles() {
		for _, i := range circle {
			in[i] = c + 1
		}
	}
	if len(in) == 0 {
		return g
	}
	return with(func(e Edge) bool { return in[e.From] == 0 || in[e.From] != in[e.To] })
}

// Wrong is a demand that the order does not meet.
type Wrong struct {
	Demand
	Fixed bool // no move within the list can mend it: both load through one line, or stand on different lists
}

// Wrong lists the demands that the order does not meet, in load order. Those in
// circles are left out, Circles tells them; and so is what a mod would merely
// like where a stronger demand is against it.
func (l *Lines) Wrong() (list []Wrong) {
	met := map[Edge]bool{} // those that an order can meet
	for i := range int32(len(l.rows)) {
		for _, to := range l.full.After(i) {
			if i > to {
				met[Edge{i, to}] = true
			}
		}
	}
	told := map[*rule.Rule]bool{}
	for _, d := range l.demands {
		from, to := d.edge.From, d.edge.To
		if d.Cause == ByRule && d.Rule.Kind.End() && from > to {
			if told[d.Rule] {
				continue // once is enough, however many stand in the way
			}
			told[d.Rule] = met[d.edge]
		}
		switch {
		case from == to:
			if d.Cause != ByRule && l.position(d.First) > l.position(d.Then) {
				list = append(list, Wrong{d.Demand, true})
			}
		case from > to && met[d.edge]:
			list = append(list, Wrong{d.Demand, l.rows[from].list != l.rows[to].list})
		}
	}
	return list
}

func (l *Lines) position(name string) int {
	if m := l.s.Find(name); m != nil {
		return m.Position
	}
	return 0
}

// Circle is a set of mods that have to come before each other.
type Circle struct {
	Shortest []Demand // each Then is the next one's First, and the last one's Then the first one's First
	All      []string // all mods in circles that hang together, in load order
}

// Circles lists what no order can mend.
func (l *Lines) Circles() (list []Circle) {
	g := l.hard
	for _, circle := range l.circles {
		var c Circle
		in := map[int32]bool{}
		for _, i := range circle {
			in[i] = true
			c.All = append(c.All, l.rows[i].name)
		}
		shortest := g.Shortest(circle)
		for k, i := range shortest {
			next := shortest[(k+1)%len(shortest)]
			at := slices.IndexFunc(l.demands, func(d demand) bool { return !d.soft && d.edge == Edge{i, next} })
			c.Shortest = append(c.Shortest, l.demands[at].Demand)
		}
		list = append(list, c)
	}
	return list
}

// Describe says a circle in one sentence.
func (c Circle) Describe() string {
	words := ""
	for i := range slices.Backward(c.Shortest) { // from the one that needs to the one that is needed
		d := c.Shortest[i]
		if words != "" {
			words += ", "
		}
		words += d.Words()
	}
	return words
}

// Move is one move of a repair.
type Move struct {
	Change  lineup.Change
	Reasons []string // why, one for each demand that was not met
}

// Repair is the smallest set of moves that brings all lines in order.
type Repair struct {
	Moves  []Move
	Excess int      // how many moves more than needed it may have; 0 when it is known to be the smallest
	Left   []string // what it cannot mend, in words that need cleaning before they are shown
}

// Changes are the moves, to be planned.
func (r *Repair) Changes() []lineup.Change {
	changes := make([]lineup.Change, len(r.Moves))
	for i, m := range r.Moves {
		changes[i] = m.Change
	}
	return changes
}

// String sums a repair up.
func (r *Repair) String() string {
	switch len(r.Moves) {
	case 0:
		return "nothing has to be moved"
	case 1:
		return "one move: " + r.Moves[0].Change.String()
	}
	return fmt.Sprintf("%d moves", len(r.Moves))
}

// Needs lists the circles of hard needs among the mods that are on, for a server
// that orders by itself.
func Needs(s *survey.Survey) (list []Circle) {
	index := map[*survey.Mod]int32{}
	for i := range s.Mods {
		index[&s.Mods[i]] = int32(i)
	}
	var edges []Edge
	for i := range s.Mods {
		m := &s.Mods[i]
		if !m.On || m.Base {
			continue
		}
		for _, need := range m.Needs() {
			if n := s.Answer(need.Name); n != nil { // what is off, or the game's, is passed over above, and so is in no circle
				edges = append(edges, Edge{index[n], int32(i)})
			}
		}
	}
	g := NewGraph(len(s.Mods), edges)
	for _, circle := range g.Circles() {
		var c Circle
		for _, i := range circle {
			c.All = append(c.All, s.Mods[i].Name)
		}
		shortest := g.Shortest(circle)
		for k, i := range shortest {
			next := shortest[(k+1)%len(shortest)]
			c.Shortest = append(c.Shortest, Demand{First: s.Mods[i].Name, Then: s.Mods[next].Name, Cause: ByNeed})
		}
		list = append(list, c)
	}
	return list
}
