package draw

import (
	"slices"
	"sort"
)

// sweeps is how often the layers are gone through from either side.
const sweeps = 8

// uncross puts the mods of each cell in an order in which few lines cross: again
// and again, each is put where the middle of its neighbours is.
func (l *orderLayout) uncross() {
	near := make([][]int, len(l.o.Mods))
	for _, n := range l.needs {
		near[n.First] = append(near[n.First], n.Then)
		near[n.Then] = append(near[n.Then], n.First)
	}
	best, bestCells := l.crossings(), l.copyCells()
	for sweep := range sweeps {
		for step := range l.layers {
			layer := step
			if sweep%2 == 1 {
				layer = l.layers - 1 - step
			}
			for band := range l.o.Bands {
				l.sortCell([2]int{band, layer}, near, sweep%2 == 1)
			}
		}
		if c := l.crossings(); c < best {
			best, bestCells = c, l.copyCells()
		}
	}
	l.cells = bestCells
	for _, cell := range l.cells {
		for slot, i := range cell {
			l.at[i].slot = slot
		}
	}
}

func (l *orderLayout) copyCells() map[[2]int][]int {
	cells := map[[2]int][]int{}
	for cell, list := range l.cells {
		cells[cell] = slices.Clone(list)
	}
	return cells
}

// height is where a mod stands from top to bottom, roughly.
func (l *orderLayout) height(i int) float64 {
	band := l.o.Mods[i].Band
	n := len(l.cells[[2]int{band, l.at[i].layer}])
	return float64(band) + (float64(l.at[i].slot)+0.5)/float64(max(n, 1))
}

// sortCell orders a cell by the middle of its neighbours to the left, or to the
// right.
func (l *orderLayout) sortCell(cell [2]int, near [][]int, right bool) {
	list := l.cells[cell]
	middle := make(map[int]float64, len(list))
	for _, i := range list {
		sum, n := 0.0, 0
		for _, j := range near[i] {
			if (l.at[j].layer > l.at[i].layer) == right {
				sum += l.height(j)
				n++
			}
		}
		if middle[i] = l.height(i); n > 0 {
			middle[i] = sum / float64(n)
		}
	}
	sort.SliceStable(list, func(a, b int) bool { return middle[list[a]] < middle[list[b]] })
	for slot, i := range list {
		l.at[i].slot = slot
	}
}

// most is how many lines are compared with each other; more would take long and
// be told apart by nobody.
const mostCompared = 4000

// crossings counts the pairs of lines between the same layers that cross.
func (l *orderLayout) crossings() (n int) {
	type line struct{ from, to float64 }
	between := map[[2]int][]line{}
	for _, need := range l.needs[:min(len(l.needs), mostCompared)] {
		key := [2]int{l.at[need.First].layer, l.at[need.Then].layer}
		between[key] = append(between[key], line{l.height(need.First), l.height(need.Then)})
	}
	for _, lines := range between {
		for i, a := range lines {
			for _, b := range lines[:i] {
				if (a.from-b.from)*(a.to-b.to) < 0 {
					n++
				}
			}
		}
	}
	return n
}
