package proof

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
)

// Comparison is what differs between two starts of a server. Its strings are safe
// to show.
type Comparison struct {
	Came     []string     `json:"came"`     // mods that are judged now and were not then
	Gone     []string     `json:"gone"`     // and the other way round
	Releases []Difference `json:"releases"` // other releases
	Outcomes []Difference `json:"outcomes"`
	Moved    []string     `json:"moved"`    // mods that loaded at another place among those that both starts loaded: the fewest that account for it
	Settings []Difference `json:"settings"` // other values; the name of the setting is where a mod's is
	Files    []FileChange `json:"files"`
	Times    []LoadTime   `json:"times"` // mods that took notably longer or shorter to load
	ReadyMS  [2]int64     `json:"ready_after_ms"`
	New      []Remark     `json:"remarks_new"` // what sounds like trouble and did not then
	Old      []Remark     `json:"remarks_gone"`
	Starts   [2]int       `json:"starts"` // the numbers of the two, the earlier first
	Verdicts [2]Verdict   `json:"verdicts"`
}

// Difference is a fact about a mod, then and now.
type Difference struct {
	Mod  string `json:"mod"`
	Then string `json:"then"`
	Now  string `json:"now"`
}

// LoadTime is how long a mod took to load, then and now, in ms.
type LoadTime struct {
	Mod  string  `json:"mod"`
	Then float64 `json:"then_ms"`
	Now  float64 `json:"now_ms"`
}

// Notable load times differ by half, and by more than a machine's mood.
const (
	notableRatio = 1.5
	notableMS    = 50
)

// Known is what is known of a start besides its proof; all of it may be nil.
type Known struct {
	Remarks   []Remark
	Inventory *Inventory
}

// Compare tells what differs between an earlier start and a later one.
func Compare(then, now *Proof, thenKnown, nowKnown Known) *Comparison {
	c := &Comparison{Came: []string{}, Gone: []string{}, Releases: []Difference{}, Outcomes: []Difference{}, Moved: []string{}, Settings: []Difference{}, Files: []FileChange{}, Times: []LoadTime{},
		ReadyMS: [2]int64{then.ReadyAfterMS, now.ReadyAfterMS}, Starts: [2]int{then.Number, now.Number}, Verdicts: [2]Verdict{then.Verdict, now.Verdict}}
	old := make(map[string]*Mod, len(then.Mods))
	for i := range then.Mods {
		old[then.Mods[i].Name] = &then.Mods[i]
	}
	for i := range now.Mods {
		m := &now.Mods[i]
		was := old[m.Name]
		delete(old, m.Name)
		if was == nil {
			c.Came = append(c.Came, m.Name)
			continue
		}
		if was.Release != m.Release {
			c.Releases = append(c.Releases, Difference{m.Name, was.Release, m.Release})
		}
		if was.Outcome != m.Outcome {
			c.Outcomes = append(c.Outcomes, Difference{m.Name, string(was.Outcome), string(m.Outcome)})
		}
		if was.LoadMS != nil && m.LoadMS != nil && notable(*was.LoadMS, *m.LoadMS) {
			c.Times = append(c.Times, LoadTime{m.Name, *was.LoadMS, *m.LoadMS})
		}
	}
	for i := range then.Mods {
		if old[then.Mods[i].Name] != nil {
			c.Gone = append(c.Gone, then.Mods[i].Name)
		}
	}
	slices.SortFunc(c.Times, func(a, b LoadTime) int {
		return int(math.Abs(b.Now-b.Then)) - int(math.Abs(a.Now-a.Then))
	})
	c.Moved = append(c.Moved, moved(then.Order, now.Order)...)
	c.New, c.Old = only(nowKnown.Remarks, thenKnown.Remarks), only(thenKnown.Remarks, nowKnown.Remarks)
	c.compareInventories(thenKnown.Inventory, nowKnown.Inventory)
	return c
}

func notable(then, now float64) bool {
	return math.Abs(now-then) > notableMS && max(now, then) > notableRatio*min(now, then)
}

// Same tells whether nothing of note differs.
func (c *Comparison) Same() bool {
	return len(c.Came)+len(c.Gone)+len(c.Releases)+len(c.Outcomes)+len(c.Moved)+len(c.New)+len(c.Settings)+len(c.Files) == 0
}

// Words say what differs, a line each.
func (c *Comparison) Words() (lines []string) {
	add := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	for _, group := range []struct {
		word  string
		names []string
	}{{"came", c.Came}, {"gone", c.Gone}} {
		if len(group.names) > 0 {
			add("%s: %s", group.word, strings.Join(group.names, ", "))
		}
	}
	for _, d := range c.Releases {
		add("%s: release %s, was %s", d.Mod, cmp.Or(d.Now, "none"), cmp.Or(d.Then, "none"))
	}
	for _, d := range c.Outcomes {
		add("%s: %s, was %s", d.Mod, d.Now, d.Then)
	}
	if len(c.Moved) > 0 {
		add("loaded at another place: %s", strings.Join(c.Moved, ", "))
	}
	for _, d := range c.Settings {
		add("setting %s: %s, was %s", d.Mod, cmp.Or(d.Now, "not set"), cmp.Or(d.Then, "not set"))
	}
	lines = append(lines, fileWords(c.Files)...)
	for _, took := range c.Times {
		add("%s: loaded in %.0f ms, was %.0f ms", took.Mod, took.Now, took.Then)
	}
	for _, r := range c.New {
		add("new in the log, line %d: %s", r.Line, r.Text)
	}
	return lines
}

// only are the remarks of one start of which the other has none alike.
func only(list, other []Remark) []Remark {
	known := map[string]bool{}
	for _, r := range other {
		known[Alike(r.Text)] = true
	}
	rest := []Remark{}
	for _, r := range list {
		if !known[Alike(r.Text)] {
			rest = append(rest, r)
		}
	}
	return rest
}

// moved are the fewest names that have to be taken out so that the rest, as far as
// both lists have it, stands in one order: those that are in no longest rising
// run of places.
func moved(then, now []string) []string {
	place := make(map[string]int, len(then))
	for i, name := range then {
		place[name] = i
	}
	var names []string
	var at []int
	for _, name := range now {
		if i, ok := place[name]; ok {
			names, at = append(names, name), append(at, i)
		}
	}
	var ends []int // for each length the position of the run of it that ends lowest
	before := make([]int, len(at))
	for i := range at {
		n, _ := slices.BinarySearchFunc(ends, at[i], func(end, want int) int { return at[end] - want })
		before[i] = -1
		if n > 0 {
			before[i] = ends[n-1]
		}
		if n == len(ends) {
			ends = append(ends, i)
		} else {
			ends[n] = i
		}
	}
	stays := make([]bool, len(at))
	if len(ends) > 0 {
		for i := ends[len(ends)-1]; i >= 0; i = before[i] {
			stays[i] = true
		}
	}
	var list []string
	for i, name := range names {
		if !stays[i] {
			list = append(list, name)
		}
	}
	return list
}
