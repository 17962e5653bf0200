package intake_test

import (
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/host/disk"
	"initium/internal/insist"
)

// Names that a family without rules for names would let through, but that no folder can or
// should have.
func TestNamesThatAreNone(t *testing.T) {
	d := parse(t, strings.Replace(mill, `allowed = "a-z0-9_"`, "", 1))
	for stated, want := range map[string]string{"Oak Tree": "Oak Tree", "a/b": "a_b", `a\\b`: "a_b", ".": "dir", "..": "dir", ".x": "dir", " x": "x", "x ": "x", `x\ty`: "x_y", strings.Repeat("n", 200): strings.Repeat("n", 200), strings.Repeat("n", 201): "dir"} {
		found := intake.Examine(mustBuild(t, "dir/wheel.toml: name = \""+stated+"\""), "x.zip", d, nil)
		insist.That(t, len(found.Mods) == 1 && found.Mods[0].Name == want, "%q: %+v, want %q", stated, found.Mods, want)
	}
	for folder, want := range map[string]string{"oak2": "oak2", "Oak_2": "oak2", "oak3": "oak3", "oak": "oak"} {
		found := intake.Examine(mustBuild(t, folder+"/wheel.toml: release = '1'"), "x.zip", d, []string{"oak2"})
		insist.That(t, len(found.Mods) == 1 && found.Mods[0].Name == want, "the folder %q, where oak2 is looked for: %+v", folder, found.Mods)
	}
	l := dialect.Leaving{Path: "{dir}/flour/{mod}"}
	for name, want := range map[string]string{"oak": "/srv/flour/oak", "a/b": "", `a\b`: "", "..": "", ".x": ""} {
		if full, ok := intake.LeavingOf(&l, dialect.Vars{"dir": "/srv"}, name); full != want || ok != (want != "") {
			t.Errorf("what %q makes is at %q, %v", name, full, ok)
		}
	}
}

// Bounds are kept to the byte, and links followed however they are written.
func TestEdgesOfTrees(t *testing.T) {
	b := intake.Bounds{Files: 3, Bytes: 1 << 40, Ratio: 10}
	for _, row := range []struct {
		unpacked, packed int64
		refuse           bool
	}{{64 << 20, 1, false}, {64<<20 + 1, 1, true}, {100 << 20, 10 << 20, false}, {110 << 20, 10 << 20, true}, {100 << 20, 0, false}, {1 << 40, 1 << 39, false}, {1<<40 + 1, 1 << 39, true}} {
		if err := b.CheckSize(row.unpacked, row.packed); (err != nil) != row.refuse {
			t.Errorf("%d of %d: %v", row.unpacked, row.packed, err)
		}
	}
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.0 kB", 999_900: "999.9 kB", 1_000_000: "1.0 MB", 1e9: "1.0 GB", 1e12: "1.0 TB", 2e15: "2000.0 TB"} {
		insist.Same(t, fmt.Sprintf("%d bytes", n), intake.Bytes(n), want)
	}
	if _, err := build(b, "a", "b", "c"); err != nil {
		t.Errorf("three of three: %v", err)
	}
	insist.Fails(t, "four of three", insist.Err(build(b, "a", "b", "c", "d")), "more than 3 entries")
	insist.Fails(t, "four of three with folders", insist.Err(build(b, "a/b/c", "d")), "more than 3 entries")
	tree := mustBuild(t, "a/b: words", "c.zip", "l => ./a//b", "m => a/../a/b")
	insist.That(t, tree.Find("l").Content() == "a/b" && tree.Find("m").Content() == "a/b", "hard links lead to %q and %q", tree.Find("l").Content(), tree.Find("m").Content())
	tree.Find("c.zip").Inside = mustBuild(t, "d/e: inner", "f: deep")
	for name, want := range map[string]string{"a/b": "words", "c.zip/d/e": "inner", "c.zip/f": "deep", "a/b/c": "", "a/x": "", "c.zip/x": "", "x": "", "x/y/z": "", "/a": ""} {
		insist.Same(t, name, string(tree.Bytes(name)), want)
	}
}

// Two things never go to one place, and an overlay lists all of a folder when it is asked for
// all.
func TestOnePlace(t *testing.T) {
	p := newPlace(t, map[string]string{"mill.start": ""})
	in := p.settle(lineup.Choices{}, "x.zip", "oak/wheel.toml"+wheel, "a/hill.plan: 1", "b/hill.plan: 2")
	insist.That(t, len(in.Problems) == 1 && strings.Contains(in.Problems[0], "oak and oak would both go to "+p.dir+"/plans/hill.plan"), "problems %q", in.Problems)
	over := intake.NewOverlay(disk.NewTree(), []plan.Part{{Path: filepath.Join(p.dir, "new"), New: "x", Items: []plan.Item{{Rel: "a", Source: "s"}, {Rel: "b", Source: "s", Exec: true}, {Rel: "c/d", Source: "s"}}}}, func(string, string) []byte { return nil })
	for n, want := range map[int]int{0: 3, -1: 3, 2: 2, 9: 3} {
		f, err := over.Open(filepath.Join(p.dir, "new")[1:])
		insist.OK(t, err)
		list, err := f.(interface {
			ReadDir(int) ([]fs.DirEntry, error)
		}).ReadDir(n)
		insist.That(t, err == nil && len(list) == want, "asked for %d: %v, %v", n, list, err)
	}
}
