package order_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"initium/internal/core/order"
	"initium/internal/insist"
)

// permutations calls f with every order of n items.
func permutations(n int, f func([]int32)) {
	p := make([]int32, n)
	for i := range p {
		p[i] = int32(i)
	}
	var rec func(k int)
	rec = func(k int) {
		if k == n {
			f(p)
			return
		}
		for i := k; i < n; i++ {
			p[k], p[i] = p[i], p[k]
			rec(k + 1)
			p[k], p[i] = p[i], p[k]
		}
	}
	rec(0)
}

// unmoved is how many items of an order need not be moved to reach it from 0, 1,
// 2, …: its longest rising subsequence, with pinned items in it; -1 when no rising
// subsequence holds them all.
func unmoved(p []int32, pinned []bool) int {
	best := make([]int, len(p)) // longest that ends at i
	result := -1
	if !slices.Contains(pinned, true) {
		result = 0
	}
	for i := range p {
		best[i] = -1
		if !slices.ContainsFunc(p[:i], func(x int32) bool { return pinned[x] }) {
			best[i] = 1
		}
		for j := range i {
			if p[j] < p[i] && best[j] > 0 && !slices.ContainsFunc(p[j+1:i], func(x int32) bool { return pinned[x] }) {
				best[i] = max(best[i], best[j]+1)
			}
		}
		if !slices.ContainsFunc(p[i+1:], func(x int32) bool { return pinned[x] }) {
			result = max(result, best[i])
		}
	}
	return result
}

func agrees(p []int32, edges []order.Edge) bool {
	at := make([]int, len(p))
	for i, x := range p {
		at[x] = i
	}
	return !slices.ContainsFunc(edges, func(e order.Edge) bool { return at[e.From] > at[e.To] })
}

func count(list []bool) (n int) {
	for _, b := range list {
		if b {
			n++
		}
	}
	return n
}

// fewest goes through all orders to find how many items can stay.
func fewest(n int, edges []order.Edge, pinned []bool) int {
	best := -1
	permutations(n, func(p []int32) {
		if agrees(p, edges) {
			best = max(best, unmoved(p, pinned))
		}
	})
	return best
}

// checkKeep compares the two largest sets with what going through all orders
// finds, and the order that comes of each with the edges.
func checkKeep(t *testing.T, n int, edges []order.Edge, pinned []bool, want int) {
	t.Helper()
	g := order.NewGraph(n, edges)
	for _, up := range []bool{true, false} {
		k := g.Keep(pinned, up)
		insist.Need(t, k.Torn == (want < 0) && k.Excess == 0, "%v pinned %v: torn %v, excess %d; best is %d", edges, pinned, k.Torn, k.Excess, want)
		if k.Torn {
			return
		}
		if got := count(k.Stay); got != want {
			t.Fatalf("%v pinned %v: %d stay, %d can", edges, pinned, got, want)
		}
		settled := g.Rearrange(k.Stay)
		var stayed []int32
		for _, i := range settled {
			if k.Stay[i] {
				stayed = append(stayed, i)
			}
		}
		for i, is := range pinned {
			if is && !k.Stay[i] {
				t.Fatalf("%v: the pinned item %d moves", edges, i)
			}
		}
		insist.Need(t, len(settled) == n && agrees(settled, edges) && slices.IsSorted(stayed), "%v: %v is no such order", edges, settled)
	}
}

// Every graph without circles that has up to five items.
func TestKeepAllSmall(t *testing.T) {
	insist.Long(t)
	most := 5
	if testing.Short() {
		most = 4
	}
	for n := 1; n <= most; n++ {
		var pairs []order.Edge
		for a := range int32(n) {
			for b := range int32(n) {
				if a != b {
					pairs = append(pairs, order.Edge{From: a, To: b})
				}
			}
		}
		seen := 0
		for mask := range 1 << len(pairs) {
			var edges []order.Edge
			for i, p := range pairs {
				if mask&(1<<i) != 0 {
					edges = append(edges, p)
				}
			}
			if len(order.NewGraph(n, edges).Sort()) < n {
				continue
			}
			seen++
			checkKeep(t, n, edges, make([]bool, n), fewest(n, edges, make([]bool, n)))
		}
		if want := []int{0, 1, 3, 25, 543, 29281}[n]; seen != want {
			t.Errorf("%d items: %d graphs without circles, there are %d", n, seen, want)
		}
	}
}

func randomGraph(r *rand.Rand, n, edges int) []order.Edge {
	rank := r.Perm(n)
	list := make([]order.Edge, 0, edges)
	for range edges {
		a, b := r.IntN(n), r.IntN(n)
		if rank[a] > rank[b] {
			a, b = b, a
		}
		if a != b {
			list = append(list, order.Edge{From: int32(a), To: int32(b)})
		}
	}
	return list
}

func TestKeepPinned(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		n := 2 + r.IntN(6)
		edges := randomGraph(r, n, r.IntN(2*n))
		pinned := make([]bool, n)
		for range r.IntN(3) {
			pinned[r.IntN(n)] = true
		}
		checkKeep(t, n, edges, pinned, fewest(n, edges, pinned))
	}
}

// On big graphs: nothing stays that stands the wrong way round, nothing more
// could stay, and what moved is as many as disjoint pairs that prove it.
func TestKeepBig(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for _, n := range []int{50, 300, 900} {
		for _, density := range []int{1, 3} {
			edges := randomGraph(r, n, density*n)
			g := order.NewGraph(n, edges)
			k := g.Keep(nil, true)
			if down := g.Keep(nil, false); count(k.Stay) != count(down.Stay) {
				t.Errorf("%d items: %d stay, or %d", n, count(k.Stay), count(down.Stay))
			}
			insist.That(t, agrees(g.Rearrange(k.Stay), edges), "%d items: the order that comes of it is wrong", n)
			for i := range k.Stay {
				if k.Stay[i] {
					continue
				}
				k.Stay[i] = true
				insist.Need(t, len(g.Rearrange(k.Stay)) != n, "%d items: item %d need not move", n, i)
				k.Stay[i] = false
			}
		}
	}
}

func TestKeepTooBig(t *testing.T) {
	const n = 40_000
	edges := randomGraph(rand.New(rand.NewPCG(5, 6)), n, 2*n)
	g := order.NewGraph(n, edges)
	k := g.Keep(nil, true)
	insist.That(t, k.Excess != 0 && agrees(g.Rearrange(k.Stay), edges), "excess %d", k.Excess)
	// One item, at either end, that all others have to be on the other side of.
	for _, one := range []int32{0, n - 1} {
		var edges []order.Edge
		for i := range int32(n) {
			switch {
			case i == one:
			case one == 0:
				edges = append(edges, order.Edge{From: i, To: one})
			default:
				edges = append(edges, order.Edge{From: one, To: i})
			}
		}
		k := order.NewGraph(n, edges).Keep(nil, true)
		if moved := n - count(k.Stay); moved != 1 || k.Stay[one] || k.Excess != 0 {
			t.Errorf("%d items move, item %d stays %v, excess %d", moved, one, k.Stay[one], k.Excess)
		}
	}
	// An order that is right, apart from the last two.
	edges = nil
	for i := range int32(n - 1) {
		edges = append(edges, order.Edge{From: i, To: i + 1})
	}
	edges[n-2] = order.Edge{From: n - 1, To: 0}
	if k := order.NewGraph(n, edges).Keep(nil, true); n-count(k.Stay) != 1 || k.Excess != 0 || k.Stay[n-1] {
		t.Errorf("%d items move, excess %d", n-count(k.Stay), k.Excess)
	}
}

func TestSort(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for range 500 {
		n := 1 + r.IntN(40)
		edges := randomGraph(r, n, r.IntN(4*n))
		got := order.NewGraph(n, edges).Sort()
		// The same by looking through all items for the lowest that may come next.
		done := make([]bool, n)
		for at, item := range got {
			for i := range int32(n) {
				free := !done[i] && !slices.ContainsFunc(edges, func(e order.Edge) bool { return e.To == i && !done[e.From] })
				if free {
					insist.Need(t, i == item, "%v: place %d is %d, %d could come there", edges, at, item, i)
					break
				}
			}
			done[item] = true
		}
		insist.Need(t, len(got) == n, "%d of %d items", len(got), n)
	}
}

func TestCircles(t *testing.T) {
	e := func(pairs ...int32) (edges []order.Edge) {
		for i := 0; i < len(pairs); i += 2 {
			edges = append(edges, order.Edge{From: pairs[i], To: pairs[i+1]})
		}
		return edges
	}
	for name, test := range map[string]struct {
		n        int
		edges    []order.Edge
		circles  string
		shortest string // of the first
	}{
		"none":           {3, e(0, 1, 1, 2), "[]", ""},
		"itself":         {2, e(1, 1), "[]", ""},
		"two":            {3, e(1, 2, 2, 1, 0, 1), "[[1 2]]", "[1 2]"},
		"two circles":    {5, e(0, 4, 4, 0, 1, 2, 2, 3, 3, 1), "[[0 4] [1 2 3]]", "[0 4]"},
		"a short inside": {4, e(0, 1, 1, 2, 2, 3, 3, 0, 2, 1), "[[0 1 2 3]]", "[1 2]"},
	} {
		g := order.NewGraph(test.n, test.edges)
		circles := g.Circles()
		insist.Same(t, fmt.Sprintf("%s: circles", name), fmt.Sprint(circles), test.circles)
		if len(circles) > 0 {
			insist.Same(t, fmt.Sprintf("%s: the shortest", name), fmt.Sprint(g.Shortest(circles[0])), test.shortest)
		}
		insist.That(t, len(g.Open(circles).Sort()) == test.n, "%s: circles are left after opening them", name)
	}
	long := make([]order.Edge, 0, 100_000)
	for i := range int32(100_000) {
		long = append(long, order.Edge{From: i, To: (i + 1) % 100_000})
	}
	if c := order.NewGraph(100_000, long).Circles(); len(c) != 1 || len(c[0]) != 100_000 {
		t.Error("the long circle is not found")
	}
}

func BenchmarkSort100k(b *testing.B) {
	edges := randomGraph(rand.New(rand.NewPCG(9, 10)), 100_000, 500_000)
	b.ReportAllocs()
	for b.Loop() {
		if len(order.NewGraph(100_000, edges).Sort()) != 100_000 {
			b.Fatal("circles")
		}
	}
}

// Ten thousand mods in order but for a hundred of them.
func BenchmarkKeep10k(b *testing.B) {
	const n = 10_000
	r := rand.New(rand.NewPCG(11, 12))
	place := make([]int32, n)
	for i := range place {
		place[i] = int32(i)
	}
	for range 100 {
		x, y := r.IntN(n), r.IntN(n)
		place[x], place[y] = place[y], place[x]
	}
	var edges []order.Edge
	for range 5 * n {
		x, y := r.IntN(n), r.IntN(n)
		if x != y {
			edges = append(edges, order.Edge{From: place[min(x, y)], To: place[max(x, y)]})
		}
	}
	g := order.NewGraph(n, edges)
	b.ReportAllocs()
	for b.Loop() {
		if k := g.Keep(nil, true); n-count(k.Stay) > 200 {
			b.Fatal(n - count(k.Stay))
		}
	}
}
