package intake_test

import (
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/intake"
	"initium/internal/insist"
)

// build makes a tree of lines: "path" for a file, "path/" for a folder, "path ->
// target" for a link, "path => target" for a hard link, "path: bytes" for a file
// with bytes.
func build(b intake.Bounds, lines ...string) (*intake.Tree, error) {
	builder := intake.NewBuilder(b)
	for _, line := range lines {
		e := intake.Entry{Size: 1, Sum: intake.Sum{1}}
		name := line
		if n, target, ok := strings.Cut(line, " -> "); ok {
			name, e.Kind, e.Target = n, intake.Link, target
		} else if n, target, ok := strings.Cut(line, " => "); ok {
			name, e.Kind, e.Target = n, intake.HardLink, target
		} else if n, data, ok := strings.Cut(line, ": "); ok {
			name, e.Data, e.Size = n, []byte(data), int64(len(data))
			e.Sum = sha256.Sum256(e.Data)
		} else if strings.HasSuffix(line, "/") {
			e.Kind = intake.Folder
		}
		var err error
		if e.Path, err = builder.Reserve(name, e.Kind); err != nil {
			return nil, err
		}
		if e.Path == "" {
			continue
		}
		if err := builder.Add(e); err != nil {
			return nil, err
		}
	}
	return builder.Tree()
}

func mustBuild(t *testing.T, lines ...string) *intake.Tree {
	t.Helper()
	tree, err := build(intake.DefaultBounds(), lines...)
	insist.OK(t, err)
	return tree
}

func TestTree(t *testing.T) {
	tree := mustBuild(t, "b/c/d", "b/a", "b.x", "a -> b/a", "l => b.x", "b/", "e/")
	var names []string
	for _, e := range tree.Entries {
		names = append(names, e.Path)
	}
	if got, want := strings.Join(names, " "), "a b b/a b/c b/c/d b.x e l"; got != want {
		t.Errorf("the tree is %s; want %s", got, want)
	}
	if tree.Files != 5 || tree.Find("a").Content() != "b/a" || tree.Find("l").Content() != "b.x" || tree.Find("b/a").Content() != "b/a" {
		t.Errorf("%d files, a is %q, l is %q", tree.Files, tree.Find("a").Content(), tree.Find("l").Content())
	}
	if below := tree.Below("b"); len(below) != 3 || below[0].Path != "b/a" {
		t.Errorf("below b is %v", below)
	}
	insist.That(t, tree.Find("nothing") == nil && len(tree.Below("b/a")) == 0, "what is not there is found")
}

func TestTreeRefuses(t *testing.T) {
	chain := []string{"f"}
	for i := range 20 {
		chain = append(chain, fmt.Sprintf("l%d -> %s", i, map[bool]string{true: "f", false: fmt.Sprintf("l%d", i-1)}[i == 0]))
	}
	for name, c := range map[string]struct {
		word  string
		lines []string
	}{
		"twice":                {"twice", []string{"a", "a"}},
		"twice by another way": {"twice", []string{"a/b", "./a//b"}},
		"by case":              {"letter case", []string{"Readme", "README"}},
		"folders by case":      {"letter case", []string{"Foo/a", "foo/b"}},
		"by Unicode form":      {"Unicode form", []string{"caf\u00e9", "cafe\u0301"}},
		"a file as a folder":   {"is a file", []string{"a", "a/b"}},
		"a link as a folder":   {"is a file", []string{"b", "a -> b", "a/c"}},
		"a folder as a file":   {"twice", []string{"a/b", "a"}},
		"replaced by a link":   {"twice", []string{"b", "a", "a -> b"}},
		"out by a link":        {"leads out", []string{"a -> ../b"}},
		"to what is above":     {"leads out", []string{"a -> .."}},
		"out from deep":        {"leads out", []string{"a/b -> ../../c"}},
		"absolute link":        {"leads out", []string{"a -> /etc/passwd"}},
		"link to a drive":      {"leads out", []string{`a -> C:\x`}},
		"hard link out":        {"leads out", []string{"a => ../b"}},
		"hard link absolute":   {"leads out", []string{"a => /etc/shadow"}},
		"nowhere":              {"not there", []string{"a -> b"}},
		"itself":               {"circle", []string{"a -> a"}},
		"circle":               {"circle", []string{"a -> b", "b -> a"}},
		"to a folder":          {"folder", []string{"d/x", "a -> d"}},
		"chain":                {"circle", chain},
	} {
		if tree, err := build(intake.DefaultBounds(), c.lines...); err == nil || !strings.Contains(err.Error(), c.word) {
			t.Errorf("%s: %v, %v; want an error with %q", name, tree, err, c.word)
		}
	}
	loose := intake.DefaultBounds()
	loose.Cases = true
	if _, err := build(loose, "Readme", "README"); err != nil {
		t.Errorf("names that may differ by case: %v", err)
	}
	tight := intake.DefaultBounds()
	tight.Files = 3
	insist.Fails(t, "four entries where three may be", insist.Err(build(tight, "a/b/c", "d")), "3 entries")
}

func TestBounds(t *testing.T) {
	b := intake.Bounds{Files: 10, Bytes: 1 << 30, Ratio: 100}
	for _, c := range []struct {
		unpacked, packed int64
		ok               bool
	}{{1 << 30, 0, true}, {1<<30 + 1, 0, false}, {60 << 20, 1, true}, {200 << 20, 1 << 20, false}, {200 << 20, 3 << 20, true}} {
		if err := b.CheckSize(c.unpacked, c.packed); (err == nil) != c.ok {
			t.Errorf("%d from %d: %v", c.unpacked, c.packed, err)
		}
	}
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.0 kB", 2_500_000: "2.5 MB", 7_000_000_000: "7.0 GB", 1 << 50: "1125.9 TB"} {
		insist.Same(t, fmt.Sprintf("%d is written", n), intake.Bytes(n), want)
	}
}
