package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"testing"

	"initium/internal/insist"
)

// trials is how many random line-ups of each kind TestForecast tries;
// INITIUM_TRIALS asks for another number, INITIUM_TRIAL_SEED for others, and
// INITIUM_TRIAL_ONLY for one of them, with its log. With INITIUM_TRIAL_REHEARSE each is rehearsed
// first, and the rehearsal has to be right to the last mod.
const trials = 8

// forecastJSON is what check --json foretells.
type forecastJSON struct {
	Forecast []struct{ Mod, Outcome, Because, Cause string }
	Order    []string
}

// trial is one random line-up on one kind of server.
type trial interface {
	// lay makes a server's folder and says how it is adopted.
	lay(t *testing.T, r *rand.Rand, dir string) (adopt []string)
}

// tally is what trials of one kind came to.
type tally struct {
	mu                         sync.Mutex
	lineups, exact             int // line-ups; those with every mod right
	mods, right                int
	orders, ordersRight        int
	unforeseen, unforeseeable  int // of the wrong mods, those in line-ups where a script failed for the first time
	unsettled, unsettledOrders int // line-ups that hang on which of two folders the server looks into first
	lines                      []string
}

// TestForecast compares, mod by mod, what check foretells with what a start then
// shows, on random line-ups with all that can be wrong with them.
func TestForecast(t *testing.T) {
	t.Parallel()
	count, seed := trials, uint64(1)
	if n := os.Getenv("INITIUM_TRIALS"); n != "" {
		fmt.Sscan(n, &count)
	}
	if n := os.Getenv("INITIUM_TRIAL_SEED"); n != "" {
		fmt.Sscan(n, &seed)
	}
	type kind struct {
		name  string
		make  trial
		needs []string
	}
	kinds := []kind{
		{"minetest", &minetestTrial{}, []string{minetestServer}},
		{"bzflag", &bzflagTrial{}, []string{bzfs}},
		{"harrow-sound", harrowTrial{}, nil},
		{"lantern-moor", lanternTrial{}, nil},
		{"cogwheel-fair", cogwheelTrial{}, nil},
		{"nine-orchards", orchardsTrial{}, nil},
	}
	for _, s := range theRealServers() {
		kinds = append(kinds, kind{s.dialect, realTrial{s}, s.needs})
	}
	for _, kind := range kinds {
		if only := os.Getenv("INITIUM_TRIAL_KIND"); only != "" && only != kind.name {
			continue
		}
		t.Run(kind.name, func(t *testing.T) {
			needs(t, kind.needs...)
			sum := &tally{}
			const workers = 3
			var wait sync.WaitGroup
			for worker := range workers {
				wait.Add(1)
				go func() {
					defer wait.Done()
					o := newOperator(t)
					if real, ok := kind.make.(realTrial); ok {
						o = real.s.operatorOf(t)
					}
					for i := worker; i < count; i += workers {
						if only := os.Getenv("INITIUM_TRIAL_ONLY"); only != "" && only != fmt.Sprint(i) {
							continue
						}
						o.try1(t, kind.make, rand.New(rand.NewPCG(seed, uint64(i))), i, kind.name, sum)
					}
				}()
			}
			wait.Wait()
			sum.report(t, kind.name)
		})
	}
}

// try1 lays one server out, asks what will happen, starts it, and compares.
func (o *operator) try1(t *testing.T, kind trial, r *rand.Rand, i int, name string, sum *tally) {
	dir := filepath.Join(filepath.Dir(o.home), fmt.Sprintf("%s-%d", name, i))
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Error(err)
		return
	}
	server := fmt.Sprintf("s%d", i)
	adopt := append([]string{"adopt", dir, "--as", server, "--dialect"}, kind.lay(t, r, dir)...)
	if got := o.try(adopt...); got.status != 0 {
		t.Errorf("line-up %d: %s%s", i, got.out, got.err)
		return
	}
	var told forecastJSON
	got := o.try("check", server, "--json")
	decode(t, got.out, &told)
	p := &proofJSON{}
	rehearsed := ""
	if os.Getenv("INITIUM_TRIAL_REHEARSE") != "" {
		var r rehearsalJSON
		out := o.try("rehearse", server, "--json", "--stay", "30ms", "--timeout", "120s")
		decode(t, out.out, &r)
		rehearsed = r.Proof.Verdict + ": " + r.Proof.outcomes()
	}
	started := o.try("prove", server, "--json", "--stay", "30ms", "--timeout", "120s")
	if started.status > 1 {
		t.Errorf("line-up %d: %s%s", i, started.out, started.err)
		return
	}
	decode(t, started.out, p)
	if shown := p.Verdict + ": " + p.outcomes(); rehearsed != "" && rehearsed != shown {
		t.Errorf("line-up %d was rehearsed as\n%s\nand started as\n%s", i, rehearsed, shown)
	}
	if os.Getenv("INITIUM_TRIAL_ONLY") != "" {
		t.Logf("%s\n%s\n%s", got.out, o.try("survey", server, "--json").out, contents(t, p.Log))
	}
	var s surveyJSON
	decode(t, o.try("survey", server, "--json").out, &s)
	sum.compare(i, dir, &told, p, twoFolders(&s))
}

// twoFolders tells whether registered mods come from two folders that rank the
// same. The real server does not settle which of them it looks into first: the
// same line-up at another path can load in another order.
func twoFolders(s *surveyJSON) bool {
	shared, own := false, false
	for _, m := range s.Mods {
		if m.On && m.Registered && !m.Base {
			shared = shared || strings.HasPrefix(m.Path, sharedMods)
			own = own || strings.Contains(m.Path, "/own/")
		}
	}
	return shared && own
}

// observed is what a start showed, in the words of a forecast.
func observed(outcome string) string {
	switch outcome {
	case "confirmed", "unlisted":
		return "confirmed"
	case "failed":
		return "failed"
	}
	return "not loaded"
}

func (s *tally) compare(i int, dir string, told *forecastJSON, p *proofJSON, unsettled bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lineups++
	said, firstTime := map[string]bool{}, false
	var wrong []string
	for _, f := range told.Forecast {
		said[f.Mod] = true
		m := p.mod(f.Mod)
		s.mods++
		if observed(m.Outcome) == f.Outcome {
			s.right++
			continue
		}
		firstTime = firstTime || m.Own && f.Outcome == "confirmed"
		wrong = append(wrong, fmt.Sprintf("    %s: foretold %s (%s %s), seen %q (%s)", f.Mod, f.Outcome, f.Cause, f.Because, m.Outcome, m.Reason))
	}
	for _, m := range p.Mods {
		if !said[m.Name] {
			s.mods++
			firstTime = firstTime || m.Own
			wrong = append(wrong, fmt.Sprintf("    %s: not foretold, seen %q (%s)", m.Name, m.Outcome, m.Reason))
		}
	}
	switch {
	case len(wrong) == 0:
		s.exact++
	case firstTime:
		s.unforeseen++
		s.unforeseeable += len(wrong)
	case unsettled && p.Exit != nil && *p.Exit != 0:
		s.unsettled++
	}
	if p.Exit == nil && len(p.Order) > 1 && len(told.Order) > 0 {
		s.orders++
		switch {
		case slices.Equal(p.Order, told.Order):
			s.ordersRight++
		case unsettled:
			s.unsettledOrders++
		default:
			wrong = append(wrong, fmt.Sprintf("    the order was foretold as %v, and was %v", told.Order, p.Order))
		}
	}
	if len(wrong) > 0 {
		word := ""
		if firstTime {
			word = ", a script that failed for the first time"
		}
		s.lines = append(s.lines, fmt.Sprintf("  line-up %d in %s%s (%s)\n%s", i, dir, word, p.Reason, strings.Join(wrong, "\n")))
	}
}

func (s *tally) report(t *testing.T, kind string) {
	sort.Strings(s.lines)
	t.Logf("%s: %d line-ups, every mod right in %d; %d of %d mods right; the load order right in %d of %d; %d line-ups (%d mods) with a script that failed for the first time; %d line-ups and %d orders that hang on which of two folders the server looks into first",
		kind, s.lineups, s.exact, s.right, s.mods, s.ordersRight, s.orders, s.unforeseen, s.unforeseeable, s.unsettled, s.unsettledOrders)
	for _, line := range s.lines {
		t.Log(line)
	}
	if s.exact+s.unforeseen+s.unsettled < s.lineups || s.ordersRight+s.unsettledOrders < s.orders {
		t.Errorf("%s: the forecast was wrong in %d line-ups, and about the order in %d", kind, s.lineups-s.exact-s.unforeseen-s.unsettled, s.orders-s.ordersRight-s.unsettledOrders)
	}
}

// some picks up to n of a list, at random and in random order.
func some[T any](r *rand.Rand, list []T, n int) []T {
	list = slices.Clone(list)
	r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	return list[:min(n, len(list))]
}

// put writes a file of a trial.
func put(t *testing.T, name, data string) {
	insist.OK(t, os.MkdirAll(filepath.Dir(name), 0o755))
	insist.OK(t, os.WriteFile(name, []byte(data), 0o644))
}
