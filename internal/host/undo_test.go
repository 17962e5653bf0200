package host_test

import (
	"archive/tar"
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"initium/internal/core/plan"
	"initium/internal/host"
	"initium/internal/host/disk"
	"initium/internal/insist"
)

// slots is a file of many places, each of which holds a line or none.
type slots [40]string

func (s slots) text() string {
	var b strings.Builder
	for i, line := range s {
		fmt.Fprintf(&b, "-- %d\n", i)
		if line != "" {
			b.WriteString(line + "\n")
		}
	}
	return b.String()
}

// TestReturnBesideOthersEdits applies random entries, lets somebody else edit other lines
// in between, and goes back to random entries: the lines of the entries are as they were
// then, those of others as they are now.
func TestReturnBesideOthersEdits(t *testing.T) {
	insist.Long(t)
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 7))
		l, dir := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir()
		name := filepath.Join(dir, "list")
		var now slots
		for i := range now {
			if r.IntN(2) == 0 {
				now[i] = fmt.Sprint("base ", i)
			}
		}
		put(t, name, now.text(), 0o644)
		change := func(who string, parity int) {
			for range 1 + r.IntN(6) {
				i := 2*r.IntN(len(now)/2) + parity
				now[i] = []string{"", fmt.Sprint(who, " ", i, " ", r.IntN(3)), fmt.Sprint("base ", i)}[r.IntN(3)]
			}
		}
		states := []slots{now} // how each entry left the lines of entries
		for range 8 {
			if r.IntN(2) == 0 {
				change("other", 1)
				put(t, name, now.text(), 0o644)
			}
			to := r.IntN(len(states) + 2)
			if to >= len(states) {
				before := now
				if change("ours", 0); now == before {
					continue
				}
				edit(t, l, "step", map[string]string{name: now.text()})
				states = append(states, now)
				continue
			}
			want := now
			for i := 0; i < len(now); i += 2 {
				want[i] = states[to][i]
			}
			p, err := l.Return("s", to)
			insist.Need(t, err == nil, "seed %d, back to %d: %v", seed, to, err)
			if p.Empty() {
				insist.Need(t, want == now, "seed %d: nothing is to be done to go back to %d", seed, to)
				continue
			}
			insist.OK(t, l.Apply(t.Context(), "s", "back", p, nil))
			if got, _ := os.ReadFile(name); string(got) != want.text() {
				t.Fatalf("seed %d: back to %d gives\n%s\nwant\n%s", seed, to, got, want.text())
			}
			now = want
			states = append(states, now)
		}
	}
}

// TestReturnKeepsOthersEdits: what somebody else has made of a file is not lost, however
// long it is.
func TestReturnKeepsOthersEdits(t *testing.T) {
	for name, test := range map[string]struct {
		before, after, edited, want string // "" for no file; want "" for a refusal
		says                        string
	}{
		"a new file, edited to the same length": {"", "new\n", "old\n", "", "has been changed since by somebody else"},
		"a new file, as it came":                {"", "new\n", "new\n", "gone", ""},
		"the same line, of the same length":     {"one\n", "two\n", "six\n", "", "line 1 has been changed since"},
		"another line, of the same length":      {"one\nx\n", "two\nx\n", "two\ny\n", "one\ny\n", ""},
		"taken away, and made anew":             {"one\n", "two\n", "", "one\n", ""},
		"a new file, taken away already":        {"", "new\n", "", "gone", ""},
		"given back by hand already":            {"one\n", "two\n", "one\n", "one\n", ""},
	} {
		l, dir := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir()
		file, other := filepath.Join(dir, "file"), filepath.Join(dir, "other")
		if test.before != "" {
			put(t, file, test.before, 0o644)
		}
		edit(t, l, "change", map[string]string{file: test.after, other: "x"})
		if test.edited == "" {
			os.Remove(file)
		} else {
			put(t, file, test.edited, 0o644)
		}
		err := goBack(t, l, 0)
		got, readErr := os.ReadFile(file)
		switch {
		case test.want == "":
			insist.That(t, err != nil && strings.Contains(err.Error(), test.says) && !strings.Contains(err.Error(), "later changes") && string(got) == test.edited, "%s: %v, the file is %q", name, err, got)
			want(t, other, "x")
		case err != nil:
			t.Errorf("%s: %v", name, err)
		case test.want == "gone":
			insist.That(t, errors.Is(readErr, fs.ErrNotExist), "%s: the file is %q", name, got)
		case string(got) != test.want:
			t.Errorf("%s: the file is %q", name, got)
		}
	}
}

// TestReturnOfParts tells what has been changed since, asks for one at a time where they
// lie within each other, and leaves alone what is as it was.
func TestReturnOfParts(t *testing.T) {
	l, dir := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir()
	mod := filepath.Join(dir, "mod")
	one := source{"a": "1"}
	take := func(path string, s source) {
		t.Helper()
		insist.OK(t, l.Apply(t.Context(), "s", "take", &plan.Plan{Parts: []plan.Part{folder(path, "", s)}}, from(s)))
	}
	take(mod, one)
	p, err := l.Return("s", 0)
	insist.Need(t, err == nil && len(p.Parts) == 1 && len(p.Parts[0].Notes) == 0 && p.Parts[0].New == "" && p.Parts[0].Mod == "mod", "%+v, %v", p, err)
	put(t, filepath.Join(mod, "own"), "mine", 0o644)
	if p, err = l.Return("s", 0); err != nil || len(p.Parts) != 1 || len(p.Parts[0].Notes) != 1 || p.Parts[0].Notes[0].Kind != plan.FileChanges {
		t.Fatalf("after a change: %+v, %v", p, err)
	}
	os.RemoveAll(mod)
	if p, err = l.Return("s", 0); err != nil || len(p.Parts) != 0 {
		t.Fatalf("when it is gone already: %+v, %v", p, err)
	}
	two := source{"a": "2"}
	take(mod, one)
	insist.OK(t, l.Apply(t.Context(), "s", "update", &plan.Plan{Parts: []plan.Part{folder(mod, folder(mod, "", one).New, two)}}, from(two)))
	if p, err = l.Return("s", 1); err != nil || len(p.Parts) != 1 || len(p.Parts[0].Notes) != 0 || p.Parts[0].Base != "" {
		t.Fatalf("over two releases that nobody has changed: %+v, %v", p, err)
	}
	if p, err = l.Return("s", 2); err != nil || len(p.Parts) != 1 || p.Parts[0].Base != folder(mod, "", one).New {
		t.Fatalf("to the release before: %+v, %v", p, err)
	}
	insist.OK(t, goBack(t, l, 1))
	take(mod, one)
	take(filepath.Join(mod, "within"), source{"b": "2"})
	insist.Fails(t, "parts within each other", insist.Err(l.Return("s", 0)), "lie within each other")
	insist.OK(t, l.Apply(t.Context(), "s", "make", &plan.Plan{Parts: []plan.Part{{Path: filepath.Join(dir, "e"), New: plan.EmptyFolder}, {Path: filepath.Join(dir, "e", "f"), New: plan.EmptyFolder}}}, nil))
	for n := 6; n >= 0; n-- {
		if err := goBack(t, l, n); err != nil {
			t.Fatalf("back to %d: %v", n, err)
		}
	}
	insist.Same(t, "in the end there", tree(t, dir), "")
	if freed, err := l.Forget("s", 100); err != nil || freed == 0 {
		t.Errorf("%d bytes are freed, %v", freed, err)
	}
	insist.That(t, l.Digests() != nil, "no contents")
}

// A folder that came around a mod that was taken in before is taken back by itself, and never
// brings back what is to be gone.
func TestReturnOfNestedParts(t *testing.T) {
	l, dir := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir()
	outer := filepath.Join(dir, "outer")
	one, two := source{"a": "1"}, source{"fen/a": "2"}
	insist.OK(t, l.Apply(t.Context(), "s", "take", &plan.Plan{Parts: []plan.Part{folder(filepath.Join(outer, "fen"), "", one)}}, from(one)))
	items, err := l.Digests().List(outer)
	insist.OK(t, err)
	insist.OK(t, l.Apply(t.Context(), "s", "exchange", &plan.Plan{Parts: []plan.Part{folder(outer, plan.Digest(items), two)}}, from(two)))
	refused := func() {
		t.Helper()
		insist.Fails(t, "the whole way back", insist.Err(l.Return("s", 0)), "lie within each other")
	}
	refused()
	insist.OK(t, os.RemoveAll(filepath.Join(outer, "fen")))
	refused()
	insist.OK(t, goBack(t, l, 1))
	want(t, filepath.Join(outer, "fen", "a"), "1")
	insist.OK(t, goBack(t, l, 0))
	insist.Lacks(t, "in the end there", tree(t, dir), "fen")
}

// obstacle puts something in the way of a change while its files are being copied.
func obstacle(t *testing.T, name string) *host.Fetch {
	fetch := from(source{"a": "1"})
	fetch.Progress = func(host.Progress) {
		os.Remove(name)
		insist.OK(t, os.MkdirAll(filepath.Join(name, "in the way"), 0o755))
	}
	return fetch
}

// TestSecondMoveFails: when one of several things cannot be moved into place, what was done
// before it is taken back.
func TestSecondMoveFails(t *testing.T) {
	s := source{"a": "1"}
	for name, test := range map[string]struct {
		plan    func(dir string) *plan.Plan
		blocked string
	}{
		"the second part": {func(dir string) *plan.Plan {
			return &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "m1"), "", s), folder(filepath.Join(dir, "m2"), "", s)}}
		}, "m2"},
		"the only part": {func(dir string) *plan.Plan {
			return &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "m1"), "", s)}}
		}, "m1"},
		"a file after a part": {func(dir string) *plan.Plan {
			return &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "m1"), "", s)}, Files: []plan.File{file(filepath.Join(dir, "f"), "1", "11")}}
		}, "f"},
		"the last of files and names": {func(dir string) *plan.Plan {
			return &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "m1"), "", s)}, Files: []plan.File{file(filepath.Join(dir, "e"), "1", "11"), {Path: filepath.Join(dir, "d"), Old: []byte("1"), Gone: true},
				{Path: filepath.Join(dir, "new"), New: true, Want: []byte("n")}, {Path: filepath.Join(dir, "mods"), List: true, Old: []byte("a\n"), Want: []byte("a.off\n")}, file(filepath.Join(dir, "f"), "1", "11")}}
		}, "f"},
	} {
		h, dir := host.Home{Dir: t.TempDir()}, t.TempDir()
		l := ledger(t, h)
		for _, name := range []string{"d", "e", "f", "mods/a"} {
			put(t, filepath.Join(dir, name), "1", 0o640)
		}
		before, inode := tree(t, dir), inodeOf(t, filepath.Join(dir, "d"))
		blocked := filepath.Join(dir, test.blocked)
		err := l.Apply(t.Context(), "s", "change", test.plan(dir), obstacle(t, blocked))
		insist.Fails(t, name, err, "nothing was changed")
		if entries, err := l.Entries("s"); err != nil || len(entries) != 1 {
			t.Errorf("%s: entries %v, %v", name, entries, err)
		}
		insist.OK(t, os.RemoveAll(blocked))
		if test.blocked == "f" {
			put(t, blocked, "1", 0o644)
		}
		insist.Same(t, fmt.Sprintf("%s: there", name), tree(t, dir), before)
		insist.That(t, inodeOf(t, filepath.Join(dir, "d")) == inode, "%s: what was to go is not the same file", name)
		if said, err := l.Recover("s"); err != nil || said != "" {
			t.Errorf("%s: the next run says %q, %v", name, said, err)
		}
	}
}

func inodeOf(t *testing.T, name string) uint64 {
	t.Helper()
	info, err := os.Lstat(name)
	insist.OK(t, err)
	return info.Sys().(*syscall.Stat_t).Ino
}

// TestApplyCompletesFirst: an entry that was cut off is settled before another is made.
func TestApplyCompletesFirst(t *testing.T) {
	h, dir := host.Home{Dir: t.TempDir()}, t.TempDir()
	l := ledger(t, h)
	s := source{"a": "1"}
	m2 := filepath.Join(dir, "m2")
	insist.OK(t, l.Apply(t.Context(), "s", "cut off", &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "m1"), "", s), folder(m2, "", s)}}, from(s)))
	cutOff(t, h)
	insist.OK(t, os.Rename(m2, m2+".away"))
	other := filepath.Join(dir, "other")
	next := &plan.Plan{Files: []plan.File{{Path: other, New: true, Want: []byte("x")}}}
	insist.Fails(t, "while the first cannot be settled", l.Apply(t.Context(), "s", "next", next, nil), "could not be brought to an end")
	insist.OK(t, os.Rename(m2+".away", m2))
	insist.OK(t, l.Apply(t.Context(), "s", "next", next, nil))
	insist.Same(t, "in the end there", tree(t, dir), "m1/ m1/a=1 m2/ m2/a=1 other=x")
	if entries, err := l.Entries("s"); err != nil || len(entries) != 3 || entries[1].Why != "cut off" || entries[2].Why != "next" || entries[2].Number != 2 {
		t.Errorf("entries %+v, %v", entries, err)
	}
}

// TestSettleByHand makes the states in which a change of files can be cut off, with
// somebody else at work meanwhile, and lets the next run settle them.
func TestSettleByHand(t *testing.T) {
	type state map[string]string // files by name; "" for none
	plan1 := func(dir string) *plan.Plan {
		return &plan.Plan{Files: []plan.File{file(filepath.Join(dir, "a"), "1", "11"), {Path: filepath.Join(dir, "b"), New: true, Want: []byte("2")},
			{Path: filepath.Join(dir, "c"), Old: []byte("3"), Gone: true}}}
	}
	for name, test := range map[string]struct {
		found state // when the next run looks
		says  string
		want  string
	}{
		"before anything":          {state{"a": "1", "c": "3"}, "taken back; nothing had been changed yet", "a=1 c=3"},
		"after the first":          {state{"a": "11", "c": "3"}, "completed", "a=11 b=2"},
		"after the second":         {state{"a": "11", "b": "2", "c": "3"}, "completed", "a=11 b=2"},
		"after all":                {state{"a": "11", "b": "2"}, "completed", "a=11 b=2"},
		"only the last":            {state{"a": "1"}, "completed", "a=11 b=2"},
		"others changed the first": {state{"a": "own", "b": "2", "c": "3"}, "completed", "a=own b=2"},
		"others made the second":   {state{"a": "11", "b": "own", "c": "3"}, "completed", "a=11 b=own"},
		"others changed the third": {state{"a": "11", "c": "own"}, "completed", "a=11 b=2 c=own"},
		"others changed all":       {state{"a": "own", "b": "own", "c": "own"}, "taken back", "a=own b=own c=own"},
	} {
		h, dir := host.Home{Dir: t.TempDir()}, t.TempDir()
		l := ledger(t, h)
		put(t, filepath.Join(dir, "a"), "1", 0o640)
		put(t, filepath.Join(dir, "c"), "3", 0o644)
		insist.OK(t, l.Apply(t.Context(), "s", "change", plan1(dir), nil))
		cutOff(t, h)
		for _, f := range []string{"a", "b", "c"} {
			os.RemoveAll(filepath.Join(dir, f))
			if data, ok := test.found[f]; ok {
				put(t, filepath.Join(dir, f), data, 0o640)
			}
		}
		said, err := l.Recover("s")
		insist.That(t, err == nil && strings.Contains(said, test.says), "%s: it says %q, %v", name, said, err)
		insist.Same(t, fmt.Sprintf("%s: there", name), tree(t, dir), test.want)
		if info, err := os.Stat(filepath.Join(dir, "a")); err != nil || info.Mode().Perm() != 0o640 {
			t.Errorf("%s: the mode is %v, %v", name, info.Mode(), err)
		}
		if again, err := l.Recover("s"); err != nil || again != "" {
			t.Errorf("%s: once more it says %q, %v", name, again, err)
		}
		entries, err := l.Entries("s")
		insist.That(t, err == nil && (len(entries) == 2) == (test.says == "completed"), "%s: entries %v, %v", name, entries, err)
	}
}

// database opens what the ledger of a home is kept in.
func database(t *testing.T, h host.Home) *sql.DB {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: filepath.Join(h.Dir, "ledger.db")}).EscapedPath()+"?_pragma=busy_timeout(10000)")
	insist.OK(t, err)
	t.Cleanup(func() { db.Close() })
	return db
}

// cutOff makes the newest entry one that was begun and not ended.
func cutOff(t *testing.T, h host.Home) {
	t.Helper()
	insist.OK(t, insist.Err(database(t, h).Exec(`UPDATE entry SET state = 'begun' WHERE id = (SELECT max(id) FROM entry)`)))
}

// TestVerifiedBackup puts another archive in the place of a backup before it is read
// again: it is refused, whatever is wrong with it, and nothing is left.
func TestVerifiedBackup(t *testing.T) {
	packed := func(files ...string) []byte {
		var buf bytes.Buffer
		z, err := zstd.NewWriter(&buf)
		insist.OK(t, err)
		w := tar.NewWriter(z)
		for i := 0; i < len(files); i += 2 {
			insist.OK(t, errors.Join(w.WriteHeader(&tar.Header{Name: files[i], Size: int64(len(files[i+1])), Mode: 0o644, Typeflag: tar.TypeReg}), func() error { _, err := w.Write([]byte(files[i+1])); return err }()))
		}
		insist.OK(t, errors.Join(w.Close(), z.Close()))
		return buf.Bytes()
	}
	good := packed("world/a", "alpha", "world/b", "beta!")
	for name, test := range map[string]struct {
		archive []byte
		says    string
	}{
		"as it was written":  {good, ""},
		"other bytes":        {packed("world/a", "alphA", "world/b", "beta!"), "world/a is not as it was written"},
		"a file is missing":  {packed("world/a", "alpha"), "1 of 2 files are missing"},
		"a file of its own":  {packed("world/a", "alpha", "world/b", "beta!", "world/c", "x"), "world/c is not as it was written"},
		"cut off":            {good[:len(good)-9], "read the backup again"},
		"not even an archiv": {[]byte("nothing"), "read the backup again"},
	} {
		h, dir := host.Home{Dir: t.TempDir()}, t.TempDir()
		put(t, filepath.Join(dir, "world", "a"), "alpha", 0o644)
		put(t, filepath.Join(dir, "world", "b"), "beta!", 0o644)
		put(t, filepath.Join(h.Dir, "other"), string(test.archive), 0o600)
		done := false
		b, err := h.WriteBackup(t.Context(), "s", dir, "", []string{filepath.Join(dir, "world")}, func(p host.Progress) {
			if p.Files == 2 && !done {
				done = true
				insist.OK(t, os.Rename(filepath.Join(h.Dir, "other"), filepath.Join(h.Dir, "servers", "s", "backups", "0001.tar.zst.part")))
			}
		})
		if (err == nil) != (test.says == "") || err != nil && (!strings.Contains(err.Error(), test.says) || !strings.Contains(err.Error(), "no backup was made")) {
			t.Errorf("%s: %v", name, err)
		}
		list, listErr := h.Backups("s")
		insist.That(t, listErr == nil && (len(list) == 1) == (err == nil), "%s: the list is %v, %v", name, list, listErr)
		if _, err := os.Stat(b.File); (err == nil) != (test.says == "") {
			t.Errorf("%s: the backup is there: %v", name, err)
		}
		if left := within(h.Dir, "servers/s/backups/*.part"); len(left) > 0 {
			t.Errorf("%s: left behind: %v", name, left)
		}
	}
}

// TestBackupsOfOddWorlds: what cannot be kept in an archive is refused; numbers go on; the
// way back has all that is in it.
func TestBackupsOfOddWorlds(t *testing.T) {
	h, dir := host.Home{Dir: t.TempDir()}, t.TempDir()
	put(t, filepath.Join(dir, "world", "a"), "alpha", 0o644)
	outside := filepath.Join(t.TempDir(), "far")
	put(t, outside, "far away", 0o644)
	for number := 1; number <= 3; number++ {
		b, err := h.WriteBackup(t.Context(), "s", dir, "why", []string{filepath.Join(dir, "world"), outside}, nil)
		insist.Need(t, err == nil && b.Number == number && b.Files == 2 && b.Roots[0].Name == "world" && b.Roots[1].Name == "outside/1/far", "backup %d is %+v, %v", number, b, err)
	}
	list, err := h.Backups("s")
	insist.Need(t, err == nil && len(list) == 3 && list[2].Number == 3 && list[0].Why == "why" && time.Since(list[0].At) <= time.Hour, "the list is %+v, %v", list, err)
	items := []plan.Item{{Rel: "world/a", From: "world/a", Size: 5}, {Rel: "outside/1/far", From: "outside/1/far", Size: 8}, {Rel: "worldly/x", From: "worldly/x", Size: 1}}
	more := filepath.Join(dir, "more")
	put(t, more, "since then", 0o644)
	parts, err := list[2].RestoreParts(items, []string{filepath.Join(dir, "world"), more}, new(disk.Digests))
	insist.Need(t, err == nil && len(parts) == 3, "the parts are %+v, %v", parts, err)
	if p := parts[0]; p.Path != filepath.Join(dir, "world") || p.Old == "" || p.New == "" || len(p.Items) != 1 || p.Items[0].Rel != "a" {
		t.Errorf("the world: %+v", p)
	}
	if p := parts[1]; p.Path != outside || len(p.Items) != 1 || p.Items[0].Rel != "" {
		t.Errorf("what lies outside: %+v", p)
	}
	if p := parts[2]; p.Path != more || p.Old == "" || p.New != "" {
		t.Errorf("what came since then: %+v", p)
	}
	insist.OK(t, syscall.Mkfifo(filepath.Join(dir, "world", "pipe"), 0o600))
	insist.Fails(t, "a pipe", insist.Err(h.WriteBackup(t.Context(), "s", dir, "", []string{filepath.Join(dir, "world")}, nil)), "world/pipe: is a device, a pipe or a socket")
	// That the list of backups is torn keeps nobody from taking a mod in.
	insist.OK(t, os.WriteFile(filepath.Join(h.Dir, "servers", "s", "backups", "0009.json"), []byte("{torn"), 0o600))
	if list, err := h.Backups("s"); err == nil {
		t.Errorf("of a torn list: %v", list)
	}
	one := source{"a": "1"}
	insist.OK(t, ledger(t, h).Apply(t.Context(), "s", "take", &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "mod"), "", one)}}, from(one)))
}
