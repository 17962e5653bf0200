package host_test

import (
	"maps"
	"os"
	"path/filepath"
	"testing"

	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/insist"
)

// What an entry gives holds once it is done, also when it was completed after a sudden
// end, and not when it was taken back. What is staged is forgotten with files only.
func TestGivenValues(t *testing.T) {
	l, db, _ := openWithDatabase(t)
	adopted := map[string]string{"port": "1"}
	holds := func(want map[string]string) {
		t.Helper()
		if got, err := l.Given("s", adopted); err != nil || !maps.Equal(got, want) {
			t.Errorf("the values are %v, %v, want %v", got, err, want)
		}
	}
	apply := func(p *plan.Plan) {
		t.Helper()
		insist.OK(t, l.Apply(t.Context(), "s", "give", p, nil))
	}
	staged := func(want int) {
		t.Helper()
		if list, err := l.Staged("s"); err != nil || len(list) != want {
			t.Errorf("staged are %v, %v, want %d", list, err, want)
		}
	}
	insist.OK(t, l.Stage("s", lineup.Change{Op: lineup.OpOff, Mod: "a"}))
	holds(adopted)
	apply(&plan.Plan{Given: []plan.Given{{Name: "port", Was: "1", Now: "2"}, {Name: "level", Now: "x"}}})
	holds(map[string]string{"port": "2", "level": "x"})
	staged(1)
	if got, err := l.Given("other", adopted); err != nil || !maps.Equal(got, adopted) {
		t.Errorf("another server's are %v, %v", got, err)
	}
	apply(&plan.Plan{Given: []plan.Given{{Name: "port", Was: "2"}}})
	holds(map[string]string{"level": "x"})
	back, err := l.Return("s", 0)
	insist.Need(t, err == nil && len(back.Given) == 2 && back.Given[0] == (plan.Given{Name: "level", Was: "x"}) && back.Given[1] == (plan.Given{Name: "port", Now: "1"}), "the way back: %+v, %v", back, err)
	file := filepath.Join(t.TempDir(), "start")
	insist.OK(t, os.WriteFile(file, []byte("a\n"), 0o644))
	back.Files = []plan.File{{Path: file, Old: []byte("a\n"), Want: []byte("b\n")}}
	apply(back)
	holds(adopted)
	staged(0)
	if back, err = l.Return("s", 2); err != nil || len(back.Given) != 2 {
		t.Fatalf("and forth: %+v, %v", back, err)
	}
	// As if it had ended before the entry was done.
	insist.OK(t, insist.Err(db.Exec(`UPDATE entry SET state = 'begun' WHERE id = (SELECT max(id) FROM entry)`)))
	holds(map[string]string{"level": "x"})
	if said, err := l.Recover("s"); err != nil || said == "" {
		t.Fatalf("%q, %v", said, err)
	}
	holds(adopted)
	// And before anything of it was: the file stands as it stood.
	insist.OK(t, os.WriteFile(file, []byte("a\n"), 0o644))
	insist.OK(t, insist.Err(db.Exec(`UPDATE entry SET state = 'begun' WHERE id = (SELECT max(id) FROM entry)`)))
	insist.OK(t, insist.Err(l.Recover("s")))
	holds(map[string]string{"level": "x"})
	for g, want := range map[plan.Given]string{{Name: "n", Now: "1"}: "n is 1", {Name: "n", Was: "1"}: "n is no longer 1", {Name: "n", Was: "1", Now: "2"}: "n is 2, not 1"} {
		insist.That(t, g.String() == want, "%+v is said as %q", g, g)
	}
}
