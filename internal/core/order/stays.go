package order

import "math/bits"

// The most memory that finding the fewest moves may take, in bits. Beyond it a
// bound is given.
const maxClosure = 1 << 30

// Kept says which items can stay where they are, among themselves.
type Kept struct {
	Stay   []bool
	Excess int  // how many more items move than have to, at most; 0 means that no smaller set will do
	Torn   bool // two pinned items stand the wrong way round; then one of them does not stay
}

// Keep finds the largest set of items that can keep their order among each other
// while all edges are obeyed; the others have to move. Pinned items stay in any
// case. There may be no circles.
//
// Why it is the largest: two items cannot both stay when the later one has to
// come before the earlier one. "Stands later and has to come before" is a
// partial order, being two such orders at once, and a set of items of which no
// two are related by it is an antichain. Its largest antichain is found through
// a largest matching (Dilworth's and König's theorems). Where that would take too
// much memory, the items are taken that nothing later has to come before, or
// those that need not come before anything earlier, whichever are more; a
// matching of single needs then tells how far that is from the best.
//
// Often several sets are largest. up chooses the one in which, of two items that
// stand the wrong way round, the later one moves up.
func (g *Graph) Keep(pinned []bool, up bool) Kept {
	k := stays{g: g, sorted: g.Sort()}
	k.reach()
	stay := make([]bool, g.n)
	for i := range stay {
		stay[i] = true
	}
	result := Kept{Stay: stay}
	items := k.affected()
	if len(items) == 0 {
		return result
	}
	if len(items)*g.n > maxClosure {
		result.Excess = k.coarse(stay)
		return result
	}
	k.close(items)
	items, result.Torn = k.obeyPins(items, pinned, stay)
	k.match(items)
	for _, i := range k.cover(items, up) {
		stay[i] = false
	}
	return result
}

type stays struct {
	g        *Graph
	sorted   []int32
	highest  []int32 // the latest item that has to come before, or -1
	lowest   []int32 // the earliest that has to come after, or n
	index    []int32 // of an affected item among them, or -1
	items    []int32
	before   []bitset // for each affected item, those that stand earlier and have to come after it
	pairUp   []int32  // for each affected item the one it is matched with, as the later of the two
	pairDown []int32
}

type bitset []uint64

func (b bitset) has(i int32) bool { return b[i>>6]&(1<<(i&63)) != 0 }
func (b bitset) set(i int32)      { b[i>>6] |= 1 << (i & 63) }

// reach finds for each item the latest that has to come before it, and the
// earliest that has to come after it.
func (k *stays) reach() {
	n := int32(k.g.n)
	k.highest, k.lowest = make([]int32, n), make([]int32, n)
	for i := range n {
		k.highest[i], k.lowest[i] = -1, n
	}
	for _, i := range k.sorted {
		h := max(k.highest[i], i)
		for _, to := range k.g.After(i) {
			k.highest[to] = max(k.highest[to], h)
		}
	}
	for at := len(k.sorted) - 1; at >= 0; at-- {
		i := k.sorted[at]
		for _, to := range k.g.After(i) {
			k.lowest[i] = min(k.lowest[i], to, k.lowest[to])
		}
	}
}

// affected lists the items that stand the wrong way round with another one.
func (k *stays) affected() (items []int32) {
	for i := range int32(k.g.n) {
		if k.highest[i] > i || k.lowest[i] < i {
			items = append(items, i)
		}
	}
	return items
}

// coarse keeps the items at one of the ends.
func (k *stays) coarse(stay []bool) (excess int) {
	up, down := 0, 0
	for i := range int32(k.g.n) {
		if k.highest[i] > i {
			down++
		}
		if k.lowest[i] < i {
			up++
		}
	}
	for i := range int32(k.g.n) {
		if down < up {
			stay[i] = k.highest[i] <= i
		} else {
			stay[i] = k.lowest[i] >= i
		}
	}
	usedUp, usedDown, pairs := make([]bool, k.g.n), make([]bool, k.g.n), 0
	for i := range int32(k.g.n) {
		for _, to := range k.g.After(i) {
			if to < i && !usedUp[i] && !usedDown[to] {
				usedUp[i], usedDown[to] = true, true
				pairs++
			}
		}
	}
	return min(up, down) - pairs
}

// close works out for each affected item which affected ones stand earlier and
// have to come after it, at whatever distance.
func (k *stays) close(items []int32) {
	k.items = items
	k.index = make([]int32, k.g.n)
	for i := range k.index {
		k.index[i] = -1
	}
	for at, i := range items {
		k.index[i] = int32(at)
	}
	words := (len(items) + 63) / 64
	all := make([]uint64, words*k.g.n)
	row := func(i int32) bitset { return all[int(i)*words : (int(i)+1)*words] }
	for at := len(k.sorted) - 1; at >= 0; at-- {
		i := k.sorted[at]
		mine := row(i)
		for _, to := range k.g.After(i) {
			if k.index[to] >= 0 {
				mine.set(k.index[to])
			}
			for w, bits := range row(to) {
				mine[w] |= bits
			}
		}
	}
	k.before = make([]bitset, len(items))
	for at, i := range items {
		b := row(i)
		// Of those that have to come after it, only the ones that stand earlier.
		b[at>>6] &= 1<<(at&63) - 1
		for w := at>>6 + 1; w < words; w++ {
			b[w] = 0
		}
		k.before[at] = b
	}
}

// obeyPins takes out what cannot stay beside the pinned items.
func (k *stays) obeyPins(items []int32, pinned, stay []bool) (left []int32, torn bool) {
	if pinned == nil {
		return indexes(len(items), nil), false
	}
	gone := make([]bool, len(items))
	for a := range items {
		for b := range a {
			if !k.before[a].has(int32(b)) {
				continue
			}
			pa, pb := pinned[items[a]], pinned[items[b]]
			switch {
			case pa && pb:
				torn = true
				gone[a] = true
			case pa:
				gone[b] = true
			case pb:
				gone[a] = true
			}
		}
	}
	for at, i := range items {
		if gone[at] {
			stay[i] = false
		}
	}
	return indexes(len(items), gone), torn
}

func indexes(n int, without []bool) (list []int32) {
	for i := range int32(n) {
		if without == nil || !without[i] {
			list = append(list, i)
		}
	}
	return list
}

// match finds a largest matching of later items with earlier ones, by the
// algorithm of Hopcroft and Karp.
func (k *stays) match(items []int32) {
	k.pairUp, k.pairDown = make([]int32, len(k.items)), make([]int32, len(k.items))
	for i := range k.pairUp {
		k.pairUp[i], k.pairDown[i] = -1, -1
	}
	allowed := make(bitset, (len(k.items)+63)/64)
	for _, i := range items {
		allowed.set(i)
	}
	for _, i := range items {
		for w := range k.before[i] {
			k.before[i][w] &= allowed[w]
		}
	}
	level := make([]int32, len(k.items))
	for k.layers(items, level) {
		for _, i := range items {
			if k.pairUp[i] < 0 {
				k.augment(i, level)
			}
		}
	}
}

// layers numbers the later items by how many steps they are from a free one, and
// tells whether a free earlier item can be reached.
func (k *stays) layers(items, level []int32) (found bool) {
	var queue []int32
	for _, i := range items {
		level[i] = -1
		if k.pairUp[i] < 0 {
			level[i] = 0
			queue = append(queue, i)
		}
	}
	for len(queue) > 0 {
		i := queue[0]
		queue = queue[1:]
		k.each(i, func(j int32) bool {
			next := k.pairDown[j]
			if next < 0 {
				found = true
			} else if level[next] < 0 {
				level[next] = level[i] + 1
				queue = append(queue, next)
			}
			return true
		})
	}
	return found
}

// augment finds a way from a free later item to a free earlier one and turns
// its pairs round.
func (k *stays) augment(i int32, level []int32) bool {
	done := false
	k.each(i, func(j int32) bool {
		next := k.pairDown[j]
		if next < 0 || level[next] == level[i]+1 && k.augment(next, level) {
			k.pairUp[i], k.pairDown[j] = j, i
			done = true
		}
		return !done
	})
	if !done {
		level[i] = -1
	}
	return done
}

// each calls f for the earlier items that have to come after item i, until it
// returns false.
func (k *stays) each(i int32, f func(j int32) bool) {
	for w, word := range k.before[i] {
		for word != 0 {
			j := int32(w<<6 + bits.TrailingZeros64(word))
			word &= word - 1
			if !f(j) {
				return
			}
		}
	}
}

// cover is a smallest set of items that all pairs standing the wrong way round
// have a part in: those that move.
func (k *stays) cover(items []int32, up bool) (moved []int32) {
	var upper, lower []bool // of each item: as the later one of pairs, as the earlier one
	if up {
		upper, lower = k.alternate(items, k.pairUp, k.pairDown, k.each)
	} else {
		after := make([][]int32, len(k.items))
		for _, i := range items {
			k.each(i, func(j int32) bool {
				after[j] = append(after[j], i)
				return true
			})
		}
		lower, upper = k.alternate(items, k.pairDown, k.pairUp, func(j int32, f func(int32) bool) {
			for _, i := range after[j] {
				f(i)
			}
		})
	}
	for _, i := range items {
		if up && (!upper[i] || lower[i]) || !up && (upper[i] || !lower[i]) {
			moved = append(moved, k.items[i])
		}
	}
	return moved
}

// alternate finds what is reached from the items on one side that have no pair, by
// going to any related item of the other side and from that to its partner.
func (k *stays) alternate(items, pair, partner []int32, related func(int32, func(int32) bool)) (near, far []bool) {
	near, far = make([]bool, len(k.items)), make([]bool, len(k.items))
	var queue []int32
	for _, i := range items {
		if pair[i] < 0 {
			near[i] = true
			queue = append(queue, i)
		}
	}
	for len(queue) > 0 {
		i := queue[0]
		queue = queue[1:]
		related(i, func(j int32) bool {
			if !far[j] {
				far[j] = true
				if p := partner[j]; p >= 0 && !near[p] {
					near[p] = true
					queue = append(queue, p)
				}
			}
			return true
		})
	}
	return near, far
}
