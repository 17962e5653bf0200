package culprit_test

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/culprit"
	"initium/internal/insist"
)

// lineup makes n mods, each needing a few of those before it.
func lineup(r *rand.Rand, n int) culprit.Mods {
	names, needs := make([]string, n), make([][]int, n)
	for i := range n {
		names[i] = fmt.Sprintf("m%d", i)
		for range r.IntN(3) {
			if i > 0 {
				needs[i] = append(needs[i], r.IntN(i))
			}
		}
	}
	order := r.Perm(n) // in which the mods stand in a startup file
	mixed, mixedNeeds, at := make([]string, n), make([][]int, n), make([]int, n)
	for to, from := range order {
		at[from] = to
	}
	for to, from := range order {
		mixed[to] = names[from]
		for _, need := range needs[from] {
			mixedNeeds[to] = append(mixedNeeds[to], at[need])
		}
	}
	return culprit.Arrange(mixed, mixedNeeds)
}

// whole looks that a set has all that its members need.
func whole(t *testing.T, m culprit.Mods, on []string) {
	t.Helper()
	for i, name := range m.Names {
		if slices.Contains(on, name) {
			for _, n := range m.Needs[i] {
				insist.Need(t, slices.Contains(on, m.Names[n]), "%s is on without %s", name, m.Names[n])
			}
		}
	}
}

// minimal are those of the bad mods that no other bad one needs.
func minimal(m culprit.Mods, bad []string) []string {
	needed := map[string]bool{}
	var mark func(i int)
	mark = func(i int) {
		for _, n := range m.Needs[i] {
			if !needed[m.Names[n]] {
				needed[m.Names[n]] = true
				mark(n)
			}
		}
	}
	for _, b := range bad {
		mark(slices.Index(m.Names, b))
	}
	var list []string
	for _, b := range bad {
		if !needed[b] {
			list = append(list, b)
		}
	}
	slices.Sort(list)
	return list
}

func TestSearch(t *testing.T) {
	insist.Long(t)
	r := rand.New(rand.NewPCG(3, 4))
	for size := 1; size <= 3; size++ {
		worst, sum := 0, 0
		const rounds = 200
		for range rounds {
			m := lineup(r, 200)
			var bad []string
			for len(bad) < size {
				if b := m.Names[r.IntN(200)]; !slices.Contains(bad, b) {
					bad = append(bad, b)
				}
			}
			f, err := culprit.Search(m, culprit.Options{}, func(try culprit.Try) (bool, error) {
				whole(t, m, try.On)
				for _, b := range bad {
					if !slices.Contains(try.On, b) {
						return false, nil
					}
				}
				return true, nil
			})
			slices.Sort(f.Culprits)
			if want := minimal(m, bad); err != nil || !slices.Equal(f.Culprits, want) || !f.Sure {
				t.Fatalf("%v are bad, found %+v, %v", want, f, err)
			}
			whole(t, m, append(slices.Clone(f.Culprits), f.With...))
			var rest []string
			for _, name := range m.Names {
				if !slices.Contains(f.Cure, name) {
					rest = append(rest, name)
				}
			}
			whole(t, m, rest)
			insist.Need(t, f.Cured && slices.Contains(f.Culprits, f.Cure[len(f.Cure)-1]), "found %+v", f)
			worst, sum = max(worst, f.Starts), sum+f.Starts
		}
		least := float64(size) * math.Log2(200) // what no search can do without
		t.Logf("%d planted among 200: %.1f starts on average, %d at the worst; %.1f tell so many mods apart", size, float64(sum)/rounds, worst, least)
		insist.That(t, worst <= size*(8+1+2)+5, "%d planted: %d starts", size, worst)
	}
}

// TestFlaky has a fault that shows in some starts only.
func TestFlaky(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	right, wrong, unsure, starts := 0, 0, 0, 0
	const rounds = 100
	for range rounds {
		m := lineup(r, 60)
		bad := m.Names[r.IntN(60)]
		f, err := culprit.Search(m, culprit.Options{Most: 20}, func(try culprit.Try) (bool, error) {
			return slices.Contains(try.On, bad) && r.Float64() < 0.6, nil
		})
		starts += f.Starts
		switch {
		case err != nil:
			t.Fatal(err)
		case len(f.Culprits) == 1 && f.Culprits[0] == bad:
			right++
		case f.Sure:
			wrong++
		default:
			unsure++
		}
	}
	t.Logf("%d of %d right, %d wrong, %d said to be unsure, %.1f starts on average", right, rounds, wrong, unsure, float64(starts)/rounds)
	insist.That(t, right >= rounds*9/10 && wrong <= rounds/20, "only %d of %d are right", right, rounds)
}

func TestSearchSaysNo(t *testing.T) {
	m := culprit.Arrange([]string{"a", "b"}, [][]int{nil, nil})
	for word, failed := range map[string]func(on []string) bool{
		"did not fail":    func([]string) bool { return false },
		"without any mod": func([]string) bool { return true },
	} {
		f, err := culprit.Search(m, culprit.Options{}, func(t culprit.Try) (bool, error) { return failed(t.On), nil })
		insist.That(t, err == nil && len(f.Culprits) <= 0 && strings.Contains(f.Problem, word), "%s: %+v, %v", word, f, err)
	}
	enough := errors.New("enough")
	if f, err := culprit.Search(m, culprit.Options{}, func(culprit.Try) (bool, error) { return true, enough }); err != enough || f.Starts != 1 {
		t.Errorf("stopped: %+v, %v", f, err)
	}
}

// Of two mods of which each breaks the server alone, one is found, and that there is
// another cause.
func TestTwoCauses(t *testing.T) {
	m := culprit.Arrange([]string{"a", "b", "c", "d"}, [][]int{nil, nil, {1}, nil})
	f, err := culprit.Search(m, culprit.Options{}, func(t culprit.Try) (bool, error) {
		return slices.Contains(t.On, "b") || slices.Contains(t.On, "d"), nil
	})
	insist.That(t, err == nil && f.Sure && !f.Cured && strings.Join(f.Culprits, " ") == "b" && strings.Join(f.Cure, " ") == "c b", "%+v, %v", f, err)
}

func TestArrange(t *testing.T) {
	m := culprit.Arrange([]string{"c", "a", "b", "x", "y"}, [][]int{{2}, nil, {1}, {4}, {3}})
	if got := strings.Join(m.Names, " "); got != "a b c y x" || len(m.Needs[2]) != 1 || m.Needs[2][0] != 1 {
		t.Errorf("%s, %v", got, m.Needs)
	}
	for i, needs := range m.Needs {
		for _, n := range needs {
			insist.That(t, n < i, "%s comes before %s, which it needs", m.Names[i], m.Names[n])
		}
	}
}
