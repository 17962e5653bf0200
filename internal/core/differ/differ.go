// Package differ tells what two servers of one family have otherwise: mods, their releases and files, their order, what
// is set, and what was written down about them. What is each server's own is set apart.
package differ

import (
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
)

// Standing is how a server stands. Its strings are safe to show.
type Standing struct {
	Server string
	Mods   []Mod // that are registered, in load order, and then all others
	Order  bool  // the order of the list is the load order
	Facts  []Fact
}

// Mod is a mod of a server.
type Mod struct {
	Name       string
	Release    string
	Registered bool
	On         bool
	Digest     string // of its files; "" where it has none
	Written    string // what stands at its registration besides its name
}

// Fact is something else that a server has.
type Fact struct {
	Kind  Kind
	Where string // the file, below the server's folder
	Name  string
	Nth   int    // of several of one name in a file, from 1
	Value string // as it may be shown
	Print string // what is the same where the values are, also of those that are not shown
	Own   bool   // each server has its own
}

// Kind is what a difference is about.
type Kind string

// The kinds of differences, in the order in which they are told.
const (
	KindMod         Kind = "mod"
	KindOrder       Kind = "order"
	KindSetting     Kind = "setting"
	KindEntry       Kind = "entry" // of a table
	KindFile        Kind = "file"
	KindScript      Kind = "script" // that was run on the database
	KindRule        Kind = "rule"
	KindExpectation Kind = "expectation"
	KindBuild       Kind = "build"
	KindValue       Kind = "value" // that a server is given
)

var kinds = []Kind{KindMod, KindOrder, KindSetting, KindEntry, KindFile, KindScript, KindRule, KindExpectation, KindBuild, KindValue}

// Difference is one thing that is otherwise on two servers.
type Difference struct {
	Kind  Kind   `json:"kind"`
	Where string `json:"where,omitempty"`
	Name  string `json:"name"`
	A     string `json:"a"` // as either has it, in words; "" for not at all
	B     string `json:"b"`
	Own   bool   `json:"own,omitempty"`
}

// String says a difference in a line.
func (d Difference) String() string {
	a, b := d.A, d.B
	if a == "" {
		a = "not there"
	}
	if b == "" {
		b = "not there"
	}
	where := ""
	if d.Where != "" {
		where = " in " + d.Where
	}
	return fmt.Sprintf("%s %s%s: %s | %s", d.Kind, d.Name, where, a, b)
}

// Compare tells what is otherwise on two servers: by kind, those that are a server's own last.
func Compare(a, b *Standing) (list []Difference) {
	list = append(mods(a, b), order(a, b)...)
	type key struct {
		kind        Kind
		where, name string
		nth         int
	}
	facts := func(s *Standing) map[key]Fact {
		all := map[key]Fact{}
		for _, f := range s.Facts {
			all[key{f.Kind, f.Where, f.Name, f.Nth}] = f
		}
		return all
	}
	here, there := facts(a), facts(b)
	both := maps.Clone(here)
	maps.Copy(both, there)
	for k := range both {
		f, inA := here[k]
		g, inB := there[k]
		if inA && inB && f.Print == g.Print {
			continue
		}
		d := Difference{Kind: k.kind, Where: k.where, Name: k.name, A: shown(f, inA), B: shown(g, inB), Own: f.Own || g.Own}
		if d.A == d.B { // of secrets it is only told that they are others
			d.A, d.B = d.A+" (one)", d.B+" (another)"
		}
		list = append(list, d)
	}
	slices.SortStableFunc(list, func(x, y Difference) int {
		if x.Own != y.Own {
			if x.Own {
				return 1
			}
			return -1
		}
		if by := slices.Index(kinds, x.Kind) - slices.Index(kinds, y.Kind); by != 0 || x.Kind == KindMod || x.Kind == KindOrder {
			return by
		}
		return strings.Compare(x.Where+"\x00"+x.Name+"\x00"+x.A, y.Where+"\x00"+y.Name+"\x00"+y.A)
	})
	return list
}

func shown(f Fact, there bool) string {
	switch {
	case !there:
		return ""
	case f.Value == "":
		return "(nothing)"
	}
	return f.Value
}

func (s *Standing) find(name string) *Mod {
	i := slices.IndexFunc(s.Mods, func(m Mod) bool { return m.Name == name })
	if i < 0 {
		return nil
	}
	return &s.Mods[i]
}

// mods tells which mods are otherwise.
func mods(a, b *Standing) (list []Difference) {
	visit := func(name string) {
		m, n := a.find(name), b.find(name)
		x, y := m.state(), n.state()
		if x == y && m != nil && n != nil && (m.Digest != n.Digest || m.Written != n.Written) {
			what := "files"
			if m.Digest == n.Digest {
				what = "registration"
			}
			x, y = x+", its own "+what, y+", other "+what
		}
		if x != y {
			list = append(list, Difference{Kind: KindMod, Name: name, A: x, B: y})
		}
	}
	for _, m := range a.Mods {
		visit(m.Name)
	}
	for _, n := range b.Mods {
		if a.find(n.Name) == nil {
			visit(n.Name)
		}
	}
	return list
}

// state is how a mod stands, in words; "" for one that is not there.
func (m *Mod) state() string {
	if m == nil {
		return ""
	}
	words := m.Release
	switch {
	case m.On:
		words += " on"
	case m.Registered:
		words += " off"
	default:
		words += " not registered"
	}
	if m.Digest == "" {
		words += ", without files"
	}
	return strings.TrimSpace(words)
}

// order tells which mods that both have on stand behind others, as far as that counts.
func order(a, b *Standing) (list []Difference) {
	if !a.Order || !b.Order {
		return nil
	}
	common := func(s, other *Standing) (names []string) {
		for _, m := range s.Mods {
			if n := other.find(m.Name); m.Registered && n != nil && n.Registered {
				names = append(names, m.Name)
			}
		}
		return names
	}
	x, y := common(a, b), common(b, a)
	at := make(map[string]int, len(y))
	for i, name := range y {
		at[name] = i
	}
	stays := rising(x, at)
	for i, name := range x {
		if !stays[name] {
			list = append(list, Difference{Kind: KindOrder, Name: name, A: behind(x, i), B: behind(y, at[name])})
		}
	}
	return list
}

// rising are the most names that stand in the same order in both lists: the others are those that were moved.
func rising(names []string, at map[string]int) map[string]bool {
	var ends []int // of the best row of each length, as an index of names
	before := make([]int, len(names))
	for i, name := range names {
		k := sort.Search(len(ends), func(k int) bool { return at[names[ends[k]]] > at[name] })
		if before[i] = -1; k > 0 {
			before[i] = ends[k-1]
		}
		if k == len(ends) {
			ends = append(ends, i)
		} else {
			ends[k] = i
		}
	}
	stays := map[string]bool{}
	if len(ends) > 0 {
		for i := ends[len(ends)-1]; i >= 0; i = before[i] {
			stays[names[i]] = true
		}
	}
	return stays
}

func behind(names []string, i int) string {
	if i == 0 {
		return "first"
	}
	return "behind " + names[i-1]
}
