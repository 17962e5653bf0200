package culprit_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/culprit"
	"initium/internal/golden"
)

// TestSearchesInFull follows searches from start to start: why each is made, how many may
// still come, and what is found, of faults of every kind.
func TestSearchesInFull(t *testing.T) {
	chain := func(n int) (names []string, needs [][]int) {
		for i := range n {
			names = append(names, string(rune('a'+i)))
			needs = append(needs, nil)
		}
		return names, needs
	}
	has := func(on []string, all ...string) bool {
		return !slices.ContainsFunc(all, func(m string) bool { return !slices.Contains(on, m) })
	}
	r := rand.New(rand.NewPCG(9, 1))
	rows := []struct {
		name  string
		mods  int
		needs map[int][]int
		opt   culprit.Options
		fails func(on []string, start int) bool
	}{
		{"one", 6, nil, culprit.Options{}, func(on []string, _ int) bool { return has(on, "c") }},
		{"the first", 6, nil, culprit.Options{}, func(on []string, _ int) bool { return has(on, "a") }},
		{"the last", 7, nil, culprit.Options{}, func(on []string, _ int) bool { return has(on, "g") }},
		{"the only", 1, nil, culprit.Options{}, func(on []string, _ int) bool { return has(on, "a") }},
		{"of two", 2, nil, culprit.Options{Repeat: 1}, func(on []string, _ int) bool { return has(on, "b") }},
		{"two together", 8, nil, culprit.Options{}, func(on []string, _ int) bool { return has(on, "b", "g") }},
		{"three together", 9, nil, culprit.Options{}, func(on []string, _ int) bool { return has(on, "b", "e", "h") }},
		{"either of two", 8, nil, culprit.Options{}, func(on []string, _ int) bool { return has(on, "b") || has(on, "g") }},
		{"with its needs", 8, map[int][]int{6: {1, 2}, 7: {6}, 2: {0}}, culprit.Options{}, func(on []string, _ int) bool { return has(on, "g") }},
		{"one that others need", 8, map[int][]int{3: {1}, 5: {3}, 6: {3}}, culprit.Options{}, func(on []string, _ int) bool { return has(on, "d") }},
		{"in a circle", 6, map[int][]int{1: {2}, 2: {1}, 4: {1}}, culprit.Options{}, func(on []string, _ int) bool { return has(on, "c") }},
		{"two that need each other's", 8, map[int][]int{3: {0}, 7: {0, 3}}, culprit.Options{}, func(on []string, _ int) bool { return has(on, "d", "h") }},
		{"never", 4, nil, culprit.Options{Most: 3}, func([]string, int) bool { return false }},
		{"never, as often as usual", 4, nil, culprit.Options{}, func([]string, int) bool { return false }},
		{"without any", 4, nil, culprit.Options{}, func([]string, int) bool { return true }},
		{"none at all", 0, nil, culprit.Options{}, func([]string, int) bool { return true }},
		{"sometimes", 5, nil, culprit.Options{}, func(on []string, _ int) bool { return has(on, "d") && r.IntN(2) == 0 }},
		{"sometimes, asked for", 5, nil, culprit.Options{Repeat: 4}, func(on []string, _ int) bool { return has(on, "b") && r.IntN(3) > 0 }},
		{"every third time", 5, nil, culprit.Options{}, func(on []string, start int) bool { return has(on, "c") && start%3 == 0 }},
		{"at first only", 6, nil, culprit.Options{}, func(on []string, start int) bool { return start == 1 }},
		{"at first, then never again with all", 6, nil, culprit.Options{Repeat: 2}, func(on []string, start int) bool { return start < 5 && has(on, "c") }},
		{"alone and not", 6, nil, culprit.Options{}, func(on []string, _ int) bool { return has(on, "b") && len(on) > 3 }},
		{"with too few", 6, nil, culprit.Options{}, func(on []string, _ int) bool { return !has(on, "e") }},
	}
	var b strings.Builder
	for _, row := range rows {
		names, needs := chain(row.mods)
		for i, list := range row.needs {
			needs[i] = list
		}
		m := culprit.Arrange(names, needs)
		fmt.Fprintf(&b, "== %s: %v needing %v\n", row.name, m.Names, m.Needs)
		starts := 0
		f, err := culprit.Search(m, row.opt, func(try culprit.Try) (bool, error) {
			starts++
			failed := row.fails(try.On, starts)
			if starts > 120 {
				return false, errors.New("it goes on and on")
			}
			fmt.Fprintf(&b, "  %v %s, %d of %d, at most %d; %s: %v\n", try.On, try.Why, try.Run, try.Runs, try.AtMost, try.Learned, failed)
			return failed, nil
		})
		fmt.Fprintf(&b, "  found %+v, %v\n", f, err)
	}
	m := culprit.Arrange([]string{"a", "b", "c"}, [][]int{nil, nil, nil})
	given := errors.New("given up")
	if f, err := culprit.Search(m, culprit.Options{}, func(try culprit.Try) (bool, error) { return false, given }); !errors.Is(err, given) || f.Starts != 1 {
		t.Errorf("given up: %+v, %v", f, err)
	}
	golden.Check(t, "searches.txt", b.String())
}
