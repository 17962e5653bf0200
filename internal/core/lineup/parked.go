package lineup

import (
	"maps"
	"slices"
)

// Parked is a mod that is switched off in a list without comments. Its place is
// remembered in Initium's own record, not in the file.
type Parked struct {
	Registration string `json:"registration"`
	Name         string `json:"name"`
	Number       string `json:"number,omitempty"`
	After        string `json:"after,omitempty"` // what it stood after, on or off; "" for the first
	Raw          string `json:"raw,omitempty"`   // as it was written
}

// withParked puts those that are parked in a registration back into its list, each after
// what it stood after, which may be parked itself; of two that stood after the same, the
// one that was parked last comes first. One whose neighbour is gone comes at the top.
func withParked[T any](list []T, registration string, parked []Parked, name func(T) string, place func(Parked) T) []T {
	there := make(map[string]bool, len(list))
	for _, e := range list {
		there[name(e)] = true
	}
	after := map[string][]Parked{}
	var names []string // of those that are parked
	for _, p := range parked {
		if p.Registration == registration && !there[p.Name] {
			there[p.Name] = true
			after[p.After] = append(after[p.After], p)
			names = append(names, p.Name)
		}
	}
	if len(names) == 0 {
		return list
	}
	whole := make([]T, 0, len(list)+len(names))
	placed := map[string]bool{}
	var follow func(of string)
	follow = func(of string) {
		these := after[of]
		delete(after, of)
		for _, p := range slices.Backward(these) {
			placed[p.Name] = true
			whole = append(whole, place(p))
			follow(p.Name)
		}
	}
	follow("")
	for _, of := range slices.Sorted(maps.Keys(after)) {
		if !there[of] {
			follow(of)
		}
	}
	for _, e := range list {
		whole = append(whole, e)
		follow(name(e))
	}
	for _, p := range parked { // those that stand after each other in a circle come last
		if p.Registration == registration && !placed[p.Name] && slices.Contains(names, p.Name) {
			follow(p.After)
		}
	}
	return whole
}

// spot is a place in a list as the operator sees it.
type spot struct {
	name   string
	parked bool
}

// view is the list with what is parked in it.
func (c *listChange) view() []spot {
	var list []spot
	for _, e := range c.editor.entries() {
		name, _ := modIn(c.r, e.name)
		list = append(list, spot{name: name})
	}
	return withParked(list, c.r.Name, c.parked, func(s spot) string { return s.name }, func(p Parked) spot { return spot{p.Name, true} })
}

func find(view []spot, name string) int {
	return slices.IndexFunc(view, func(s spot) bool { return s.name == name })
}

// shelved turns a place in the view into one in the list as it is written.
func shelved(view []spot, at int) (index int) {
	for _, s := range view[:at] {
		if !s.parked {
			index++
		}
	}
	return index
}

// before is what stands before a place in the view, "" for nothing.
func before(view []spot, at int) string {
	if at <= 0 {
		return ""
	}
	return view[at-1].name
}

// leave has those that are parked behind a mod stay where they are when it goes.
func (c *listChange) leave(mod string) {
	view := c.view()
	at := find(view, mod)
	for i := range c.parked {
		if p := &c.parked[i]; p.Registration == c.r.Name && p.After == mod {
			p.After = before(view, at)
		}
	}
}

// comesBefore has one that is parked at a place follow the mod that is put before it.
func (c *listChange) comesBefore(view []spot, at int, mod string) {
	if at == len(view) || !view[at].parked || view[at].name == mod {
		return
	}
	c.parked[c.isParked(view[at].name)].After = mod
}
