package host_test

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
	"initium/internal/host"
	"initium/internal/insist"
)

// edit applies a plan that gives files new contents; "" means that there is none.
func edit(t *testing.T, l *host.Ledger, why string, files map[string]string) {
	t.Helper()
	p := &plan.Plan{}
	var names []string
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		f := plan.File{Path: name, Want: []byte(files[name])}
		if old, err := os.ReadFile(name); err == nil {
			f.Old = old
		} else {
			f.New = true
		}
		p.Files = append(p.Files, f)
	}
	if err := l.Apply(t.Context(), "s", why, p, nil); err != nil {
		t.Fatalf("%s: %v", why, err)
	}
}

func goBack(t *testing.T, l *host.Ledger, to int) error {
	t.Helper()
	p, err := l.Return("s", to)
	if err != nil {
		return err
	}
	return l.Apply(t.Context(), "s", "back", p, nil)
}

func TestReturnToAnyEntry(t *testing.T) {
	l, dir := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir()
	one, two := filepath.Join(dir, "one"), filepath.Join(dir, "two")
	put(t, one, "a\nb\nc\n", 0o644)
	states := []map[string]string{{one: "a\nb\nc\n"}, {one: "a\nc\n"}, {one: "a\nc\n", two: "new\n"}, {one: "a\nx\nc\n", two: "new\n"}, {one: "", two: "newer\n"}}
	for i, s := range states[1:] {
		edit(t, l, "step", s)
		_ = i
	}
	for _, to := range []int{2, 0, 4, 1, 3} {
		if err := goBack(t, l, to); err != nil {
			t.Fatalf("to %d: %v", to, err)
		}
		for _, name := range []string{one, two} {
			data, ok := states[to][name]
			got, err := os.ReadFile(name)
			insist.That(t, ok == (err == nil) && string(got) == data, "at %d, %s holds %q, %v; want %q", to, filepath.Base(name), got, err, data)
		}
	}
	insist.Fails(t, "an entry that is not there", goBack(t, l, 77), "no such entry")
}

func TestStaging(t *testing.T) {
	l := ledger(t, host.Home{Dir: t.TempDir()})
	for _, mod := range []string{"a", "b", "c"} {
		insist.OK(t, l.Stage("s", lineup.Change{Op: lineup.OpOff, Mod: mod}))
	}
	insist.OK(t, l.Stage("other", lineup.Change{Op: lineup.OpOn, Mod: "z"}))
	insist.OK(t, l.Unstage("s", false))
	staged, err := l.Staged("s")
	insist.That(t, err == nil && len(staged) == 2 && staged[1].Mod == "b" && staged[1].Op == lineup.OpOff, "staged are %+v, %v", staged, err)
	insist.OK(t, l.Unstage("s", true))
	if staged, err = l.Staged("s"); err != nil || len(staged) != 0 {
		t.Errorf("after all was unstaged, %+v are staged, %v", staged, err)
	}
	insist.OK(t, l.Stage("s", lineup.Change{Op: lineup.OpOff, Mod: "a"}))
	dir := t.TempDir()
	edit(t, l, "done", map[string]string{filepath.Join(dir, "x"): "1"})
	if staged, _ = l.Staged("s"); len(staged) != 0 {
		t.Errorf("after it was applied, %+v are staged", staged)
	}
	if staged, _ = l.Staged("other"); len(staged) != 1 {
		t.Errorf("of the other server %+v are staged", staged)
	}
}

func TestStartsInTheLedger(t *testing.T) {
	l, dir := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir()
	start := func(number int, v proof.Verdict) {
		t.Helper()
		at := time.UnixMilli(int64(number) * 1000)
		insist.OK(t, l.PutStart(&proof.Proof{Server: "s", Number: number, Verdict: v, Started: &at}, nil))
	}
	if _, ok, err := l.LastProved("s"); ok || err != nil {
		t.Errorf("nothing was proved: %v, %v", ok, err)
	}
	start(1, proof.NotProved)
	edit(t, l, "one", map[string]string{filepath.Join(dir, "x"): "1"})
	start(2, proof.Proved)
	start(3, proof.NotProved)
	edit(t, l, "two", map[string]string{filepath.Join(dir, "x"): "2"})
	entries, err := l.Entries("s")
	if err != nil || len(entries) != 3 || entries[1].Starts[1].At.Unix() != 3 || len(entries[0].Starts) != 1 || len(entries[1].Starts) != 2 || len(entries[2].Starts) != 0 {
		t.Errorf("entries are %+v, %v", entries, err)
	}
	if entry, ok, err := l.LastProved("s"); entry != 1 || !ok || err != nil {
		t.Errorf("the last proved state is %d, %v, %v", entry, ok, err)
	}
}

func TestParkedInTheLedger(t *testing.T) {
	l, dir := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir()
	name := filepath.Join(dir, "list")
	put(t, name, "a;b", 0o644)
	parked := []lineup.Parked{{Registration: "list", Name: "b", After: "a"}}
	insist.OK(t, l.Apply(t.Context(), "s", "off", &plan.Plan{Parked: parked, Files: []plan.File{file(name, "a;b", "a")}}, nil))
	if got, err := l.Parked("s"); err != nil || !slices.Equal(got, parked) {
		t.Errorf("parked are %+v, %v", got, err)
	}
	edit(t, l, "another change", map[string]string{filepath.Join(dir, "x"): "1"})
	if got, _ := l.Parked("s"); !slices.Equal(got, parked) {
		t.Errorf("after another change parked are %+v", got)
	}
	insist.OK(t, goBack(t, l, 0))
	want(t, name, "a;b")
	if got, _ := l.Parked("s"); len(got) != 0 {
		t.Errorf("at the beginning parked are %+v", got)
	}
}
