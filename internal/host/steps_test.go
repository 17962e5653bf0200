package host_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"initium/internal/core/check"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/rule"
	"initium/internal/host"
	"initium/internal/insist"
)

// meanwhile does something once while the files of a change are copied.
func meanwhile(s source, do func()) *host.Fetch {
	fetch, done := from(s), false
	fetch.Progress = func(host.Progress) {
		if !done {
			done = true
			do()
		}
	}
	return fetch
}

// TestEditsMeanwhile: whatever somebody makes of a file or a folder while a change is
// prepared stays, the change is not made, and nothing of it is left.
func TestEditsMeanwhile(t *testing.T) {
	s := source{"a": "new"}
	for name, do := range map[string]func(dir string) error{
		"the startup file is edited":    func(dir string) error { return os.WriteFile(filepath.Join(dir, "start"), []byte("mine\n"), 0o644) },
		"it is replaced":                func(dir string) error { return replace(filepath.Join(dir, "start"), "mine\n") },
		"it is taken away":              func(dir string) error { return os.Remove(filepath.Join(dir, "start")) },
		"a file of the mod is edited":   func(dir string) error { return os.WriteFile(filepath.Join(dir, "mod", "a"), []byte("mine"), 0o644) },
		"one comes into the mod":        func(dir string) error { return os.WriteFile(filepath.Join(dir, "mod", "b"), []byte("mine"), 0o644) },
		"the mod is taken away":         func(dir string) error { return os.RemoveAll(filepath.Join(dir, "mod")) },
		"what is to be new is there":    func(dir string) error { return os.WriteFile(filepath.Join(dir, "fresh"), []byte("mine"), 0o644) },
		"what is to go is edited":       func(dir string) error { return os.WriteFile(filepath.Join(dir, "goes"), []byte("mine"), 0o644) },
		"a mod of that name comes":      func(dir string) error { return os.Mkdir(filepath.Join(dir, "second"), 0o755) },
		"the file becomes a pipe":       func(dir string) error { return asPipe(filepath.Join(dir, "start")) },
		"the file becomes a link to it": func(dir string) error { return asLink(filepath.Join(dir, "start")) },
	} {
		l, dir := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir()
		put(t, filepath.Join(dir, "start"), "one\n", 0o644)
		put(t, filepath.Join(dir, "goes"), "old\n", 0o644)
		put(t, filepath.Join(dir, "mod", "a"), "old", 0o644)
		items, err := l.Digests().List(filepath.Join(dir, "mod"))
		insist.OK(t, err)
		after := ""
		p := &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "mod"), plan.Digest(items), s), folder(filepath.Join(dir, "second"), "", s)}, Files: []plan.File{
			{Path: filepath.Join(dir, "fresh"), New: true, Want: []byte("f\n")}, {Path: filepath.Join(dir, "goes"), Old: []byte("old\n"), Gone: true}, file(filepath.Join(dir, "start"), "one\n", "two\n")}}
		err = l.Apply(t.Context(), "s", "change", p, meanwhile(s, func() {
			insist.OK(t, do(dir))
			after = shape(t, dir)
		}))
		insist.Fails(t, name, err, "nothing was changed")
		insist.Same(t, fmt.Sprintf("%s: there", name), shape(t, dir), after)
		if entries, err := l.Entries("s"); err != nil || len(entries) != 1 {
			t.Errorf("%s: %d entries, %v", name, len(entries), err)
		}
	}
}

func replace(name, data string) error {
	return errors.Join(os.WriteFile(name+".tmp", []byte(data), 0o644), os.Rename(name+".tmp", name))
}

func asPipe(name string) error { return errors.Join(os.Remove(name), syscall.Mkfifo(name, 0o600)) }

func asLink(name string) error {
	return errors.Join(os.Rename(name, name+".real"), os.Symlink(name+".real", name))
}

// shape is what is below a folder, also what is no file; what waits there is left out.
func shape(t *testing.T, dir string) string {
	t.Helper()
	var words []string
	insist.OK(t, filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case strings.HasPrefix(e.Name(), ".initium-") && e.IsDir():
			return filepath.SkipDir
		case strings.HasPrefix(e.Name(), ".initium-"):
		case e.Type().IsRegular():
			data, err := os.ReadFile(name)
			words = append(words, strings.TrimPrefix(name, dir)+"="+string(data))
			return err
		default:
			words = append(words, fmt.Sprint(strings.TrimPrefix(name, dir), " ", e.Type()))
		}
		return nil
	}))
	return strings.Join(words, ", ")
}

// TestPlantedNames: whoever owns the server's folder cannot have anything written, given away
// or removed that lies elsewhere, by what he puts beside the places of a change.
func TestPlantedNames(t *testing.T) {
	h := host.Home{Dir: t.TempDir()}
	l, dir, outside := ledger(t, h), t.TempDir(), t.TempDir()
	treasure := filepath.Join(outside, "treasure")
	put(t, treasure, "secret", 0o600)
	put(t, filepath.Join(dir, "start"), "one\n", 0o644)
	for id := range 5 {
		for n := range 3 {
			insist.OK(t, os.Symlink(treasure, filepath.Join(dir, fmt.Sprintf(".initium-%d-%d", id, n))))
			insist.OK(t, os.Symlink(outside, filepath.Join(dir, fmt.Sprintf(".initium-%d-p%d-new", id, n))))
			insist.OK(t, os.Symlink(outside, filepath.Join(dir, fmt.Sprintf(".initium-%d-p%d-old", id, n))))
		}
	}
	// As soon as the name of a folder is known that is being filled, another is put in its place.
	s := source{"a": "1", "sub/deep/b": "2", "sub/c": "3"}
	swapped := 0
	fetch := from(s)
	fetch.Progress = func(host.Progress) {
		names := within(dir, ".initium-*-p0-new")
		for _, name := range names {
			if info, err := os.Lstat(name); err == nil && info.IsDir() {
				insist.OK(t, errors.Join(os.Rename(name, name+".stolen"), os.Symlink(outside, name)))
				swapped++
			}
		}
	}
	l.Apply(t.Context(), "s", "take", &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "mod"), "", s)}, Files: []plan.File{file(filepath.Join(dir, "start"), "one\n", "two\n")}}, fetch)
	insist.That(t, swapped != 0, "nothing could be swapped: the test does not see what it should")
	insist.Same(t, "elsewhere there", tree(t, outside), "treasure=secret")
	if info, err := os.Stat(treasure); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the treasure is %v, %v", info.Mode(), err)
	}
	// The same for a file that waits: the link that takes its place is not written through.
	put(t, filepath.Join(dir, "start"), "one\n", 0o644)
	cut := &plan.Plan{Files: []plan.File{file(filepath.Join(dir, "start"), "one\n", "two\n"), {Path: filepath.Join(dir, "new"), New: true, Want: []byte("n")}}}
	insist.OK(t, l.Apply(t.Context(), "s", "change", cut, nil))
	cutOff(t, h)
	put(t, filepath.Join(dir, "start"), "one\n", 0o644)
	insist.OK(t, os.Symlink(treasure, filepath.Join(dir, ".initium-"+markOf(t, h)+"-0")))
	if said, err := l.Recover("s"); err != nil || !strings.Contains(said, "completed") {
		t.Errorf("%q, %v", said, err)
	}
	want(t, treasure, "secret")
	want(t, filepath.Join(dir, "start"), "two\n")
}

// TestEditsBetweenLookingAndChanging makes by hand what is left when a run is cut off right
// after two files have changed places, of which one had been written to: the writer's bytes
// are in the place again.
func TestEditsBetweenLookingAndChanging(t *testing.T) {
	for name, test := range map[string]struct {
		place, beside, want string
	}{
		"what the plan has found": {"two\n", "one\n", "two\n"},
		"what somebody has made":  {"two\n", "mine\n", "mine\n"},
		"half of what comes":      {"one\n", "tw", "two\n"},
		"nothing":                 {"two\n", "", "two\n"},
	} {
		h := host.Home{Dir: t.TempDir()}
		l, dir := ledger(t, h), t.TempDir()
		start, goes := filepath.Join(dir, "start"), filepath.Join(dir, "goes")
		put(t, start, "one\n", 0o644)
		put(t, goes, "one\n", 0o644)
		insist.OK(t, l.Apply(t.Context(), "s", "change", &plan.Plan{Files: []plan.File{file(start, "one\n", "two\n"), {Path: goes, Old: []byte("one\n"), Gone: true}}}, nil))
		cutOff(t, h)
		put(t, start, test.place, 0o644)
		for n := range 2 {
			if test.beside != "" && (n == 0 || test.beside != "tw") {
				put(t, filepath.Join(dir, fmt.Sprintf(".initium-%s-%d", markOf(t, h), n)), test.beside, 0o644)
			}
		}
		if said, err := l.Recover("s"); err != nil || !strings.Contains(said, "completed") {
			t.Errorf("%s: %q, %v", name, said, err)
		}
		wanted := "start=" + test.want
		if test.want == "mine\n" {
			wanted = "goes=mine\n " + wanted
		}
		insist.Same(t, fmt.Sprintf("%s: there", name), tree(t, dir), wanted)
	}
}

// markOf is the mark of the newest entry.
func markOf(t *testing.T, h host.Home) (mark string) {
	t.Helper()
	db := database(t, h)
	insist.OK(t, db.QueryRow(`SELECT mark FROM entry ORDER BY id DESC LIMIT 1`).Scan(&mark))
	return mark
}

// TestNothingIsTakenForKept: what was edited since an earlier entry kept a mod of the same
// content is not taken for that one, and comes back.
func TestNothingIsTakenForKept(t *testing.T) {
	h := host.Home{Dir: t.TempDir()}
	l, dir := ledger(t, h), t.TempDir()
	mod := filepath.Join(dir, "mod")
	one, two := source{"a": "1"}, source{"a": "2"}
	take := func(s source, old string) {
		t.Helper()
		insist.OK(t, l.Apply(t.Context(), "s", "take", &plan.Plan{Parts: []plan.Part{folder(mod, old, s)}}, from(s)))
	}
	digest := func() string {
		items, err := l.Digests().List(mod)
		insist.OK(t, err)
		return plan.Digest(items)
	}
	take(one, "")
	first := digest()
	take(two, first)
	insist.OK(t, goBack(t, l, 1))
	// It is edited after the plan was made, and before the next run: as if cut off right behind the first rename.
	take(two, first)
	cutOff(t, h)
	insist.OK(t, os.Rename(mod, filepath.Join(dir, ".initium-"+markOf(t, h)+"-p0-new")))
	put(t, filepath.Join(dir, ".initium-"+markOf(t, h)+"-p0-old", "a"), "edited", 0o644)
	if said, err := l.Recover("s"); err != nil || !strings.Contains(said, "completed") {
		t.Fatalf("%q, %v", said, err)
	}
	want(t, filepath.Join(mod, "a"), "2")
	insist.OK(t, goBack(t, l, 3))
	want(t, filepath.Join(mod, "a"), "edited")
	// What the ledger has kept is looked at before it is trusted.
	kept := filepath.Join(h.Dir, "servers", "s", "kept", first)
	put(t, filepath.Join(kept, "a"), "rot", 0o644)
	insist.Fails(t, "back to what has rotted", goBack(t, l, 1), "is not what it was", "nothing was changed")
	want(t, filepath.Join(mod, "a"), "edited")
}

// TestPartGoneMeanwhile: a mod that somebody has taken away after a change was cut off, before
// its successor came, comes all the same; and on the way back over two releases nothing is
// said to have changed that has not.
func TestPartGoneMeanwhile(t *testing.T) {
	h := host.Home{Dir: t.TempDir()}
	l, dir := ledger(t, h), t.TempDir()
	mod, start := filepath.Join(dir, "mod"), filepath.Join(dir, "start")
	put(t, start, "one\n", 0o644)
	one, two := source{"a": "1"}, source{"a": "2"}
	insist.OK(t, l.Apply(t.Context(), "s", "take", &plan.Plan{Parts: []plan.Part{folder(mod, "", one)}}, from(one)))
	items, err := l.Digests().List(mod)
	insist.OK(t, err)
	insist.OK(t, l.Apply(t.Context(), "s", "take", &plan.Plan{Parts: []plan.Part{folder(mod, plan.Digest(items), two)}, Files: []plan.File{file(start, "one\n", "two\n")}}, from(two)))
	if p, err := l.Return("s", 0); err != nil || len(p.Parts) != 1 || len(p.Parts[0].Notes) != 0 {
		t.Errorf("the way back over both: %+v, %v", p.Parts, err)
	}
	cutOff(t, h)
	insist.OK(t, os.Rename(mod, filepath.Join(dir, ".initium-"+markOf(t, h)+"-p0-new")))
	if said, err := l.Recover("s"); err != nil || !strings.Contains(said, "completed") {
		t.Fatalf("%q, %v", said, err)
	}
	insist.Same(t, "there", tree(t, dir), "mod/ mod/a=2 start=two\n")
}

// TestLedgerOfAnEarlierLayout: an entry that an earlier Initium has begun is completed by the
// names that it had used.
func TestLedgerOfAnEarlierLayout(t *testing.T) {
	h := host.Home{Dir: t.TempDir()}
	l, dir := ledger(t, h), t.TempDir()
	start, mod := filepath.Join(dir, "start"), filepath.Join(dir, "mod")
	put(t, start, "one\n", 0o644)
	s := source{"a": "1"}
	insist.OK(t, l.Apply(t.Context(), "s", "change", &plan.Plan{Parts: []plan.Part{folder(mod, "", s)}, Files: []plan.File{file(start, "one\n", "two\n")}}, from(s)))
	cutOff(t, h)
	insist.OK(t, l.Close())
	db := database(t, h)
	for _, query := range []string{`ALTER TABLE entry DROP COLUMN mark`, `ALTER TABLE accepted DROP COLUMN facts`, `INSERT INTO accepted VALUES ('s', 'leftover', 'm', 'words', 'so it is', 1)`, `PRAGMA user_version = 1`} {
		_, err := db.Exec(query)
		insist.OK(t, err)
	}
	put(t, start, "one\n", 0o644)
	put(t, filepath.Join(dir, ".initium-1-0"), "tw", 0o644)
	again := ledger(t, h)
	accepted, err := again.Accepted("s")
	if want := (check.Accepted{Code: "leftover", Mod: "m", Message: "words", Because: "so it is"}); err != nil || len(accepted) != 1 || accepted[0] != want {
		t.Errorf("accepted are %+v, %v", accepted, err)
	}
	if said, err := again.Recover("s"); err != nil || !strings.Contains(said, "completed") {
		t.Fatalf("%q, %v", said, err)
	}
	insist.Same(t, "there", tree(t, dir), "mod/ mod/a=1 start=two\n")
}

// TestDid tells what an entry did: its files, what came and went, rules and values.
func TestDid(t *testing.T) {
	h := host.Home{Dir: t.TempDir()}
	l, dir := ledger(t, h), t.TempDir()
	start := filepath.Join(dir, "start")
	put(t, start, "one\ntwo\n", 0o644)
	s := source{"a": "1"}
	p := &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "mod"), "", s)}, Files: []plan.File{file(start, "one\ntwo\n", "one\nthree\n"), {Path: filepath.Join(dir, "new"), New: true, Want: []byte("n\n")}},
		Changes: []lineup.Change{{Op: lineup.OpOff, Mod: "two"}}, Rules: []rule.Rule{{Kind: rule.Before, Mod: "a", Other: "b", Because: "so"}}, Unrules: []rule.Rule{{Kind: rule.First, Mod: "c", Because: "x"}}, Given: []plan.Given{{Name: "port", Was: "1", Now: "2"}}}
	insist.OK(t, l.Apply(t.Context(), "s", "all", p, from(s)))
	did, err := l.Did("s", 1)
	insist.OK(t, err)
	if len(did.Files) != 2 || len(did.Parts) != 1 || did.Parts[0].Mod != "mod" || did.Parts[0].New != p.Parts[0].New || len(did.Changes) != 1 || !did.Files[1].New ||
		fmt.Sprint(did.Rules, did.Unrules, did.Given) != fmt.Sprint(p.Rules, p.Unrules, p.Given) {
		t.Errorf("%+v", did)
	}
	var rows []string
	for _, r := range did.Files[0].Rows(1) {
		rows = append(rows, fmt.Sprintf("%s %s", r.Kind, r.Text))
	}
	insist.Same(t, "rows", strings.Join(rows, ", "), "stays one, goes two, comes three")
	for _, number := range []int{0, 2, -1} {
		if _, err := l.Did("s", number); !errors.Is(err, host.ErrNoEntry) {
			t.Errorf("entry %d: %v", number, err)
		}
	}
}

// Whoever owns a server's folder cannot have a change made elsewhere by putting a link in the
// place of a folder while the change is prepared; a folder that the operator has linked himself
// is followed.
func TestFoldersAreNotLedElsewhere(t *testing.T) {
	s := source{"a": "new"}
	for name, what := range map[string]func(dir string) *plan.Plan{
		"a file": func(dir string) *plan.Plan {
			return &plan.Plan{Files: []plan.File{file(filepath.Join(dir, "in", "start"), "one\n", "two\n")}}
		},
		"a new file": func(dir string) *plan.Plan {
			return &plan.Plan{Files: []plan.File{{Path: filepath.Join(dir, "in", "fresh"), New: true, Want: []byte("f\n")}}}
		},
		"a mod": func(dir string) *plan.Plan {
			return &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "in", "other"), "", s)}}
		},
	} {
		for _, led := range []bool{false, true} {
			l, dir, treasure := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir(), t.TempDir()
			put(t, filepath.Join(treasure, "start"), "one\n", 0o600)
			put(t, filepath.Join(dir, "there", "start"), "one\n", 0o644)
			insist.OK(t, os.Symlink("there", filepath.Join(dir, "in")))
			before := shape(t, treasure)
			p := what(dir)
			p.Parts = append(p.Parts, folder(filepath.Join(dir, "mod"), "", s))
			err := l.Apply(t.Context(), "s", "change", p, meanwhile(s, func() {
				if led {
					insist.OK(t, os.Rename(filepath.Join(dir, "there"), filepath.Join(dir, "away")))
					insist.OK(t, os.Symlink(treasure, filepath.Join(dir, "there")))
				}
			}))
			insist.That(t, (err != nil) == led, "%s, led elsewhere %v: %v", name, led, err)
			insist.Same(t, fmt.Sprintf("%s, led elsewhere %v: there", name, led), shape(t, treasure), before)
			if _, there := os.Stat(filepath.Join(dir, "mod", "a")); !led && there != nil {
				t.Errorf("%s: the mod did not come: %v", name, there)
			}
		}
	}
}
