package proof_test

import (
	"encoding/json"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/proof"
)

func TestCompare(t *testing.T) {
	ms := func(v float64) *float64 { return &v }
	then := &proof.Proof{Number: 3, Verdict: proof.Proved, ReadyAfterMS: 1000, Order: []string{"a", "b", "c", "d", "gone"},
		Mods: []proof.Mod{{Name: "a", Release: "1", Outcome: proof.Confirmed, LoadMS: ms(100)}, {Name: "b", Outcome: proof.Confirmed, LoadMS: ms(10)}, {Name: "c", Outcome: proof.Confirmed}, {Name: "d", Outcome: proof.Confirmed}, {Name: "gone", Outcome: proof.Confirmed}}}
	now := &proof.Proof{Number: 5, Verdict: proof.NotProved, ReadyAfterMS: 2000, Order: []string{"new", "d", "a", "b", "c"},
		Mods: []proof.Mod{{Name: "new", Outcome: proof.Confirmed}, {Name: "a", Release: "2", Outcome: proof.Confirmed, LoadMS: ms(400)}, {Name: "b", Outcome: proof.Failed, LoadMS: ms(40)}, {Name: "c", Outcome: proof.Confirmed}, {Name: "d", Outcome: proof.Confirmed}}}
	c := proof.Compare(then, now, []proof.Remark{{Text: "warning 12"}, {Text: "old"}}, []proof.Remark{{Text: "warning 977"}, {Text: "fresh"}})
	data, err := json.Marshal(c)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"came":["new"]`, `"gone":["gone"]`, `"releases":[{"mod":"a","then":"1","now":"2"}]`, `"outcomes":[{"mod":"b","then":"confirmed","now":"failed"}]`,
		`"moved":["d"]`, `"times":[{"mod":"a","then_ms":100,"now_ms":400}]`, `"ready_after_ms":[1000,2000]`, `"text":"fresh"`, `"text":"old"`, `"starts":[3,5]`} {
		if !strings.Contains(string(data), want) {
			t.Errorf("%s is not in %s", want, data)
		}
	}
	if strings.Contains(string(data), "warning") || c.Same() {
		t.Errorf("what differs by a number only is told: %s", data)
	}
	if c = proof.Compare(then, then, nil, nil); !c.Same() {
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
		got := proof.Compare(&proof.Proof{Order: names}, &proof.Proof{Order: now}, nil, nil).Moved
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
		if len(got) != len(now)-longest || !slices.IsSorted(rest) {
			t.Fatalf("%v: moved %v, the rest %v, the longest run has %d", now, got, rest, longest)
		}
	}
}
