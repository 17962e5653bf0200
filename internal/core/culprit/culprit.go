// Package culprit finds the mods that break a server by asking, again and again,
// whether it still fails with some of them. It keeps needs together, needs few
// tries, and knows how to deal with faults that show only sometimes.
package culprit

import (
	"fmt"
	"math"
	"slices"
	"strings"
)

// Mods are what can be switched, in an order in which each comes after its needs.
type Mods struct {
	Names []string
	Needs [][]int // for each the positions of those that it cannot do without, all before it
}

// Arrange puts mods into such an order. needs are positions in names; needs in a
// circle are kept together as far as an order can.
func Arrange(names []string, needs [][]int) Mods {
	m := Mods{}
	at := make([]int, len(names)) // in the new order, plus 1
	var path []int
	var visit func(i int)
	visit = func(i int) {
		if at[i] > 0 || slices.Contains(path, i) {
			return
		}
		path = append(path, i)
		for _, n := range needs[i] {
			visit(n)
		}
		path = path[:len(path)-1]
		m.Names = append(m.Names, names[i])
		at[i] = len(m.Names)
		var mine []int
		for _, n := range needs[i] {
			if at[n] > 0 && at[n] <= len(m.Names)-1 {
				mine = append(mine, at[n]-1)
			}
		}
		slices.Sort(mine)
		m.Needs = append(m.Needs, slices.Compact(mine))
	}
	for i := range names {
		visit(i)
	}
	return m
}

// close adds to a set all that its members need.
func (m *Mods) close(set []bool) {
	for i := len(set) - 1; i >= 0; i-- {
		if set[i] {
			for _, n := range m.Needs[i] {
				set[n] = true
			}
		}
	}
}

// Try asks for one start.
type Try struct {
	On      []string // the mods that are on, the others are off
	Why     string   // what the start is to show
	Run     int      // which of several starts of this set, from 1
	Runs    int      // of so many at most
	AtMost  int      // starts still to come, this one included, if no more than one further mod takes part
	Learned string   // what is known so far
}

// Found is what a search comes to.
type Found struct {
	Culprits []string // the smallest set of mods that still fails, without what they need
	With     []string // the mods that they need, which were on too
	Starts   int
	Rate     float64  // how often the whole line-up fails, 1 for always
	Repeat   int      // how many starts without a fault count as none
	Sure     bool     // the result was tried again and held
	Cure     []string // what has to go for the culprits not to meet: the last of them, after those that need it
	Cured    bool     // all the others without these are sound; else there is another cause too
	Problem  string   // why there are no culprits
}

// Options say how a search goes about.
type Options struct {
	Repeat int // how often a set is started before it counts as sound; 0 to find that out
	Most   int // how often the whole line-up is started to see it fail at all; 0 for 5
}

// stopped ends a search from within.
type stopped struct{ err error }

// search is one search.
type search struct {
	mods   Mods
	opt    Options
	start  func(Try) (failed bool, err error)
	known  map[string]bool // by set: whether it failed
	starts int
	repeat int
	rate   float64
}

// Search finds the smallest set of mods with which a server still fails. start
// makes one start with some mods on and tells whether it failed; an error ends the
// search and is returned. Starts that were made before and whose results start
// remembers cost it nothing.
func Search(mods Mods, opt Options, start func(Try) (failed bool, err error)) (f Found, err error) {
	s := &search{mods: mods, opt: opt, start: start, known: map[string]bool{}, repeat: max(opt.Repeat, 1)}
	defer func() {
		if p := recover(); p != nil {
			st, ok := p.(stopped)
			if !ok {
				panic(p)
			}
			err = st.err
		}
		f.Starts, f.Rate, f.Repeat = s.starts, s.rate, s.repeat
	}()
	all := s.set(len(mods.Names))
	if f.Problem = s.rateOf(all); f.Problem != "" {
		return f, nil
	}
	if s.fails(s.set(0), "whether it fails without any mod", len(mods.Names), 0) {
		f.Problem = "it fails without any mod too, so none of them is to blame"
		return f, nil
	}
	var culprits []int
	for f.Sure = false; !f.Sure; {
		culprits = s.narrow()
		if f.Sure = s.hold(culprits); f.Sure || !s.doubt() {
			break
		}
	}
	last := s.with(culprits)
	for i, on := range last {
		switch {
		case slices.Contains(culprits, i):
			f.Culprits = append(f.Culprits, mods.Names[i])
		case on:
			f.With = append(f.With, mods.Names[i])
		}
	}
	if f.Sure {
		s.cure(&f, culprits[len(culprits)-1])
	}
	return f, nil
}

// cure tries whether the whole line-up is sound without a mod and those that need it.
func (s *search) cure(f *Found, last int) {
	rest := s.set(len(s.mods.Names))
	rest[last] = false
	for i := last + 1; i < len(rest); i++ {
		rest[i] = !slices.ContainsFunc(s.mods.Needs[i], func(n int) bool { return !rest[n] })
	}
	for i, on := range slices.Backward(rest) {
		if !on {
			f.Cure = append(f.Cure, s.mods.Names[i])
		}
	}
	f.Cured = !s.fails(rest, "whether all the others are sound without "+s.mods.Names[last], 1, len(f.Culprits))
}

// with is a set of mods and all that they need.
func (s *search) with(mods []int) []bool {
	set := s.set(0)
	for _, i := range mods {
		set[i] = true
	}
	s.mods.close(set)
	return set
}

// set is the set of the first n mods.
func (s *search) set(n int) []bool {
	set := make([]bool, len(s.mods.Names))
	for i := range n {
		set[i] = true
	}
	return set
}

// rateOf finds out how often the whole line-up fails, and from that how often a
// set has to be started before it counts as sound.
func (s *search) rateOf(all []bool) (problem string) {
	most := s.opt.Most
	if most <= 0 {
		most = 5
	}
	for run := 1; run <= most; run++ {
		if s.once(all, Try{Why: "whether it fails as it stands", Run: run, Runs: most, AtMost: s.atMost(len(all), 0)}) {
			s.believe(1 / float64(run)) // at once is taken for always, until something contradicts that
			s.known[key(all)] = true
			return ""
		}
	}
	return fmt.Sprintf("it did not fail in %d starts", most)
}

// believe takes the fault for one that shows in so many of all starts, and works
// out how many starts without it count as none.
func (s *search) believe(rate float64) {
	s.rate = rate
	if s.opt.Repeat == 0 && rate < 1 {
		const doubt = 0.01 // how often a set may be held for sound that is not
		s.repeat = int(math.Ceil(math.Log(doubt) / math.Log(1-rate)))
	}
}

// doubt takes the fault for a rarer one after a result that did not hold, and lets
// the search begin anew. It gives up in the end.
func (s *search) doubt() bool {
	const rarest = 0.1
	if s.opt.Repeat > 0 || s.rate/2 < rarest {
		return false
	}
	s.believe(s.rate / 2)
	s.known = map[string]bool{key(s.set(len(s.mods.Names))): true, key(s.set(0)): false}
	return true
}

// narrow finds the culprits one by one, the last in the order first: the first n
// mods still fail and the first n-1 do not, so the n-th takes part. The next is
// looked for in the same way among those before it, with the ones found kept on.
func (s *search) narrow() (culprits []int) {
	limit := len(s.mods.Names) // only mods before this one can take part still
	for {
		base := s.with(culprits)
		if len(culprits) > 0 && s.fails(base, "whether these alone fail", limit, len(culprits)) {
			return culprits
		}
		var rest []int // those that can take part still, needs first
		for i := range limit {
			if !base[i] {
				rest = append(rest, i)
			}
		}
		sound, fails := 0, len(rest) // of rest on beside the base: so many do not fail, so many do
		for fails-sound > 1 {
			middle := (sound + fails) / 2
			set := slices.Clone(base)
			for _, i := range rest[:middle] {
				set[i] = true
			}
			s.mods.close(set)
			if s.fails(set, "in which half it is", fails-sound, len(culprits)) {
				fails = middle
			} else {
				sound = middle
			}
		}
		if len(rest) == 0 {
			return culprits // what alone did not fail did so with nothing more: it shows only sometimes
		}
		limit = rest[fails-1]
		culprits = append([]int{limit}, culprits...)
	}
}

// hold tries a result once more, for faults that show only sometimes lead a search
// astray: with the culprits it fails again, each time if it is taken to fail
// always; without any one of them, their needs still on, it does not.
func (s *search) hold(culprits []int) bool {
	if len(culprits) == 0 {
		return false
	}
	clear(s.known)
	const least = 2
	usual := s.repeat
	s.repeat = max(usual, least)
	defer func() { s.repeat = usual }()
	set := s.with(culprits)
	for run := 1; run <= least && s.rate == 1; run++ {
		if !s.once(set, Try{Why: "whether it is really these", Run: run, Runs: least, AtMost: s.atMost(1, len(culprits)), Learned: s.learned(1, len(culprits))}) {
			return false
		}
	}
	if s.rate < 1 && !s.fails(set, "whether it is really these", 1, len(culprits)) {
		return false
	}
	for _, c := range culprits {
		less := slices.Clone(set)
		less[c] = false
		if s.fails(less, "whether it is sound without "+s.mods.Names[c], 1, len(culprits)) {
			return false
		}
	}
	return true
}

// fails tells whether a set fails, by as many starts as that takes.
func (s *search) fails(set []bool, why string, among, found int) bool {
	if failed, ok := s.known[key(set)]; ok {
		return failed
	}
	failed := false
	for run := 1; run <= s.repeat && !failed; run++ {
		failed = s.once(set, Try{Why: why, Run: run, Runs: s.repeat, AtMost: s.atMost(among, found) - run + 1, Learned: s.learned(among, found)})
	}
	s.known[key(set)] = failed
	return failed
}

// atMost is how many starts are still to come when one more mod is looked for
// among so many.
func (s *search) atMost(among, found int) int {
	halvings := 0
	if among > 1 {
		halvings = int(math.Ceil(math.Log2(float64(among))))
	}
	const alone, again, cure = 1, 2, 1
	return (halvings+alone+cure)*s.repeat + again*max(s.repeat, 2)*(found+1)
}

func (s *search) learned(among, found int) string {
	words := fmt.Sprintf("%d of %d mods can still be the one", among, len(s.mods.Names))
	if found > 0 {
		words = fmt.Sprintf("%d found; ", found) + words
	}
	return words
}

// once makes one start.
func (s *search) once(set []bool, t Try) bool {
	for i, on := range set {
		if on {
			t.On = append(t.On, s.mods.Names[i])
		}
	}
	s.starts++
	failed, err := s.start(t)
	if err != nil {
		panic(stopped{err})
	}
	return failed
}

func key(set []bool) string {
	var b strings.Builder
	for _, on := range set {
		if on {
			b.WriteByte('1')
		} else {
			b.WriteByte('0')
		}
	}
	return b.String()
}
