package proof_test

import (
	"encoding/json"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/proof"
	"initium/internal/insist"
)

func TestCompare(t *testing.T) {
	ms := func(v float64) *float64 { return &v }
	then := &proof.Proof{Number: 3, Verdict: proof.Proved, ReadyAfterMS: 1000, Order: []string{"a", "b", "c", "d", "gone"},
		Mods: []proof.Mod{{Name: "a", Release: "1", Outcome: proof.Confirmed, LoadMS: ms(100)}, {Name: "b", Outcome: proof.Confirmed, LoadMS: ms(10)}, {Name: "c", Outcome: proof.Confirmed}, {Name: "d", Outcome: proof.Confirmed}, {Name: "gone", Outcome: proof.Confirmed}}}
	now := &proof.Proof{Number: 5, Verdict: proof.NotProved, ReadyAfterMS: 2000, Order: []string{"new", "d", "a", "b", "c"},
		Mods: []proof.Mod{{Name: "new", Outcome: proof.Confirmed}, {Name: "a", Release: "2", Outcome: proof.Confirmed, LoadMS: ms(400)}, {Name: "b", Outcome: proof.Failed, LoadMS: ms(40)}, {Name: "c", Outcome: proof.Confirmed}, {Name: "d", Outcome: proof.Confirmed}}}
	c := proof.Compare(then, now, proof.Known{Remarks: []proof.Remark{{Text: "warning 12 at 0x7f3a"}, {Text: "old"}}}, proof.Known{Remarks: []proof.Remark{{Text: "warning 977 at 0x8e1bc"}, {Text: "fresh"}}})
	data, err := json.Marshal(c)
	insist.OK(t, err)
	for _, want := range []string{`"came":["new"]`, `"gone":["gone"]`, `"releases":[{"mod":"a","then":"1","now":"2"}]`, `"outcomes":[{"mod":"b","then":"confirmed","now":"failed"}]`,
		`"moved":["d"]`, `"times":[{"mod":"a","then_ms":100,"now_ms":400}]`, `"ready_after_ms":[1000,2000]`, `"text":"fresh"`, `"text":"old"`, `"starts":[3,5]`} {
		insist.That(t, strings.Contains(string(data), want), "%s is not in %s", want, data)
	}
	insist.That(t, !strings.Contains(string(data), "warning") && !c.Same(), "what differs by a number only is told: %s", data)
	if c = proof.Compare(then, then, proof.Known{}, proof.Known{}); !c.Same() {
		t.Errorf("a start and itself: %+v", c)
	}
}

// TestMoved compares the fewest moves with those found by trying all.
func TestMoved(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	names := []string{"a", "b", "c", "d", "e", "f", "g"}
	for range 300 {
		now := make([]string, 0, len(names))
		for _, i := range r.Perm(len(names)) {
			now = append(now, names[i])
		}
		got := proof.Compare(&proof.Proof{Order: names}, &proof.Proof{Order: now}, proof.Known{}, proof.Known{}).Moved
		longest := 0
		for set := range 1 << len(now) {
			run, last, rising := 0, "", true
			for i, name := range now {
				if set>>i&1 == 1 {
					rising = rising && name > last
					last = name
					run++
				}
			}
			if rising {
				longest = max(longest, run)
			}
		}
		rest := slices.DeleteFunc(slices.Clone(now), func(n string) bool { return slices.Contains(got, n) })
		insist.Need(t, len(got) == len(now)-longest && slices.IsSorted(rest), "%v: moved %v, the rest %v, the longest run has %d", now, got, rest, longest)
	}
}

func TestCompareInventories(t *testing.T) {
	then := &proof.Inventory{Settings: []proof.Setting{{"title", "a.ini", "Old", false}, {"slots", "a.ini", "8", false}, {"word", "a.ini", "aa11", true}, {"gone", "a.ini", "1", false}, {"gone", "a.ini", "1", false}},
		Files: []proof.File{{"m", "x.lua", 10, 1}, {"m", "y.lua", 10, 1}, {"m", "z.lua", 10, 1}, {"left", "a", 1, 1}}}
	now := &proof.Inventory{Settings: []proof.Setting{{"title", "a.ini", "New", false}, {"slots", "a.ini", "8", false}, {"word", "a.ini", "bb22", true}, {"title", "b.ini", "", false}},
		Files: []proof.File{{"m", "y.lua", 11, 1}, {"m", "x.lua", 10, 2}, {"m", "w.lua", 1, 1}, {"came", "a", 1, 1}}}
	c := proof.Compare(&proof.Proof{}, &proof.Proof{}, proof.Known{Inventory: then}, proof.Known{Inventory: now})
	got := strings.Join(c.Words(), "\n")
	const want = `setting title: New, was Old
setting word: hidden, was hidden
setting title: "", was not set
setting gone: not set, was 1, then 1
files of m: w.lua new, x.lua changed, y.lua changed, and 1 more`
	insist.That(t, got == want && !c.Same(), "got\n%s\nwant\n%s", got, want)
	if c := proof.Compare(&proof.Proof{}, &proof.Proof{}, proof.Known{Inventory: then}, proof.Known{}); !c.Same() {
		t.Errorf("with a start that nothing is known of: %v", c.Words())
	}
}
