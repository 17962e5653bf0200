// Package order puts mods in order: it finds what stands the wrong way round,
// the smallest set of moves that mends it, circles, and the order that a server
// chooses by itself.
//
// The first part of it, in terms of numbers: items 0 to n-1 stand in the order
// of their numbers, and edges say which has to come before which.
package order

import (
	"container/heap"
	"slices"
)

// Edge says that the item From has to come before the item To.
type Edge struct{ From, To int32 }

// Graph is a set of items with edges between them. Its edges are kept in one
// slice, item by item, which is what makes large ones fast.
type Graph struct {
	n     int
	first []int32 // of item i in next: first[i] to first[i+1]
	next  []int32
}

// NewGraph gathers edges; both ends have to be below n. An edge from an item
// to itself is left out.
func NewGraph(n int, edges []Edge) *Graph {
	g := &Graph{n: n, first: make([]int32, n+1), next: make([]int32, len(edges))}
	for _, e := range edges {
		if e.From != e.To {
			g.first[e.From+1]++
		}
	}
	for i := range n {
		g.first[i+1] += g.first[i]
	}
	g.next = g.next[:g.first[n]]
	fill := slices.Clone(g.first[:n])
	for _, e := range edges {
		if e.From != e.To {
			g.next[fill[e.From]] = e.To
			fill[e.From]++
		}
	}
	return g
}

// After lists the items that have to come after item i.
func (g *Graph) After(i int32) []int32 { return g.next[g.first[i]:g.first[i+1]] }

// waits counts for each item what it has to come after.
func (g *Graph) waits() []int32 {
	w := make([]int32, g.n)
	for _, to := range g.next {
		w[to]++
	}
	return w
}

// backwards is the graph with its edges turned round.
func (g *Graph) backwards() *Graph {
	edges := make([]Edge, 0, len(g.next))
	for i := range int32(g.n) {
		for _, to := range g.After(i) {
			edges = append(edges, Edge{to, i})
		}
	}
	return NewGraph(g.n, edges)
}

// lowest gives out items, the lowest number first.
type lowest []int32

func (h lowest) Len() int           { return len(h) }
func (h lowest) Less(i, j int) bool { return h[i] < h[j] }
func (h lowest) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *lowest) Push(x any)        { *h = append(*h, x.(int32)) }
func (h *lowest) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

// Sort puts the items in an order that all edges agree with, and keeps them as
// they stand where it can: of several that could come next, the lowest number
// does. Items in circles, and those that wait for them, are left out.
func (g *Graph) Sort() []int32 {
	waits := g.waits()
	sorted := make([]int32, 0, g.n)
	ready := &lowest{}
	// The items are gone through once; only those that are held back and become
	// ready later have to be put in order by the heap.
	for i := range int32(g.n) {
		for ready.Len() > 0 && (*ready)[0] < i {
			sorted = g.take(heap.Pop(ready).(int32), i-1, waits, ready, sorted)
		}
		if waits[i] == 0 {
			sorted = g.take(i, i, waits, ready, sorted)
		}
	}
	for ready.Len() > 0 {
		sorted = g.take(heap.Pop(ready).(int32), int32(g.n), waits, ready, sorted)
	}
	return sorted
}

// take appends an item and frees what waits for it. What is passed already, or
// is below the item now looked at, goes on the heap; the rest is still to come.
func (g *Graph) take(i, now int32, waits []int32, ready *lowest, sorted []int32) []int32 {
	for _, to := range g.After(i) {
		if waits[to]--; waits[to] == 0 && to <= now {
			heap.Push(ready, to)
		}
	}
	return append(sorted, i)
}

// Circles lists the sets of items that have to come before each other, each in
// the order of the numbers, found by Tarjan's algorithm.
func (g *Graph) Circles() [][]int32 {
	if len(g.Sort()) == g.n {
		return nil
	}
	t := tarjan{g: g, index: make([]int32, g.n), low: make([]int32, g.n), on: make([]bool, g.n)}
	for i := range int32(g.n) {
		if t.index[i] == 0 {
			t.visit(i)
		}
	}
	slices.SortFunc(t.circles, func(a, b []int32) int { return int(a[0] - b[0]) })
	return t.circles
}

type tarjan struct {
	g          *Graph
	index, low []int32
	on         []bool
	stack      []int32
	count      int32
	circles    [][]int32
}

// visit goes through all that an item leads to, without recursion: chains of
// needs can be as long as there are mods.
func (t *tarjan) visit(root int32) {
	type frame struct{ item, edge int32 }
	frames := []frame{{root, t.enter(root)}}
	for len(frames) > 0 {
		f := &frames[len(frames)-1]
		if f.edge < t.g.first[f.item+1] {
			to := t.g.next[f.edge]
			f.edge++
			if t.index[to] == 0 {
				frames = append(frames, frame{to, t.enter(to)})
			} else if t.on[to] {
				t.low[f.item] = min(t.low[f.item], t.index[to])
			}
			continue
		}
		item := f.item
		frames = frames[:len(frames)-1]
		if len(frames) > 0 {
			parent := frames[len(frames)-1].item
			t.low[parent] = min(t.low[parent], t.low[item])
		}
		if t.low[item] == t.index[item] {
			t.leave(item)
		}
	}
}

func (t *tarjan) enter(item int32) (edge int32) {
	t.count++
	t.index[item], t.low[item], t.on[item] = t.count, t.count, true
	t.stack = append(t.stack, item)
	return t.g.first[item]
}

func (t *tarjan) leave(item int32) {
	at := slices.Index(t.stack, item)
	circle := slices.Clone(t.stack[at:])
	t.stack = t.stack[:at]
	for _, i := range circle {
		t.on[i] = false
	}
	if len(circle) > 1 {
		slices.Sort(circle)
		t.circles = append(t.circles, circle)
	}
}

// maxSearched bounds how many items of one set of circles are searched from.
const maxSearched = 2000

// Shortest is the shortest circle in a set of items that have to come before
// each other: each comes before the next, and the last before the first.
func (g *Graph) Shortest(circle []int32) []int32 {
	within := map[int32]bool{}
	for _, i := range circle {
		within[i] = true
	}
	var best []int32
	for _, start := range circle[:min(len(circle), maxSearched)] {
		from := map[int32]int32{}
		queue := []int32{start}
	search:
		for depth := 1; len(queue) > 0 && (best == nil || depth < len(best)); depth++ {
			var further []int32
			for _, i := range queue {
				for _, to := range g.After(i) {
					if to == start {
						best = path(from, start, i)
						break search
					}
					if _, seen := from[to]; !seen && within[to] {
						from[to] = i
						further = append(further, to)
					}
				}
			}
			queue = further
		}
	}
	return best
}

func path(from map[int32]int32, start, end int32) []int32 {
	list := []int32{end}
	for i := end; i != start; {
		i = from[i]
		list = append(list, i)
	}
	slices.Reverse(list)
	return list
}

// Open is the graph without the edges inside circles, which no order can agree
// with.
func (g *Graph) Open(circles [][]int32) *Graph {
	if len(circles) == 0 {
		return g
	}
	of := map[int32]int{}
	for c, circle := range circles {
		for _, i := range circle {
			of[i] = c + 1
		}
	}
	var edges []Edge
	for i := range int32(g.n) {
		for _, to := range g.After(i) {
			if of[i] == 0 || of[i] != of[to] {
				edges = append(edges, Edge{i, to})
			}
		}
	}
	return NewGraph(g.n, edges)
}
