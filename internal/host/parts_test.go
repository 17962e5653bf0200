package host_test

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/plan"
	"initium/internal/host"
	"initium/internal/insist"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"
)

// source is something to copy from: files by their paths.
type source map[string]string

func (s source) Copy(ctx context.Context, wanted func(string) bool, put func(string, io.Reader) error) error {
	for name, data := range s {
		if err := ctx.Err(); err != nil {
			return err
		}
		if wanted(name) {
			if err := put(name, strings.NewReader(data)); err != nil {
				return err
			}
		}
	}
	return nil
}

// nested is a source that is asked for the archives within it, too.
type nested struct {
	source
	wants map[string]bool
}

func (n nested) Copy(ctx context.Context, wanted func(string) bool, put func(string, io.Reader) error) error {
	for name := range n.wants {
		n.wants[name] = wanted(name)
	}
	return n.source.Copy(ctx, wanted, put)
}

// Of the archives within an archive those are wanted that something comes from, however deep
// they are in it.
func TestArchivesWithinAreWanted(t *testing.T) {
	l, place := ledger(t, host.Home{Dir: t.TempDir()}), filepath.Join(t.TempDir(), "mod")
	s := source{"all.zip/two.zip/sea.tar/f": "1", "all.zip/g": "2", "h": "3"}
	n := nested{s, map[string]bool{"all.zip/": true, "all.zip/two.zip/": true, "all.zip/two.zip/sea.tar/": true, "all.zip/two.zip/air.tar/": false, "all.zip/two.zip": false, "other.zip/": false, "h/": false, "h": true}}
	want := maps.Clone(n.wants)
	part := folder(place, "", s)
	insist.OK(t, l.Apply(t.Context(), "s", "take", &plan.Plan{Parts: []plan.Part{part}}, &host.Fetch{Sources: map[string]host.Copier{"s": n}}))
	insist.That(t, maps.Equal(n.wants, want), "wanted are %v", n.wants)
	// Where all that is to be is there already, nothing is fetched.
	kept, err := l.Digests().List(place)
	insist.OK(t, err)
	p := plan.Part{Path: place, Old: plan.Digest(kept)}
	for _, it := range kept {
		if it.From = it.Rel; it.Rel != "h" {
			p.Items = append(p.Items, it)
		}
	}
	p.New = plan.Digest(p.Items)
	insist.OK(t, l.Apply(t.Context(), "s", "less", &plan.Plan{Parts: []plan.Part{p}}, nil))
	if got := tree(t, place); strings.Contains(got, "h") || !strings.Contains(got, "all.zip/two.zip/sea.tar/f") {
		t.Errorf("there is %s", got)
	}
}

// folder is a part that puts files of a source into a folder.
func folder(path string, old string, files source) plan.Part {
	p := plan.Part{Path: path, Mod: filepath.Base(path), What: "the mod", Old: old}
	for name, data := range files {
		p.Items = append(p.Items, plan.Item{Rel: name, Source: "s", From: name, Size: int64(len(data)), Sum: sha256.Sum256([]byte(data))})
	}
	p.New = plan.Digest(p.Items)
	p.Base = p.New
	return p
}

func from(s source) *host.Fetch { return &host.Fetch{Sources: map[string]host.Copier{"s": s}} }

// tree writes down what is below a folder.
func tree(t *testing.T, dir string) string {
	t.Helper()
	var words []string
	err := filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
		if err != nil || name == dir {
			return err
		}
		rel := strings.TrimPrefix(name, dir+"/")
		if e.IsDir() {
			words = append(words, rel+"/")
			return nil
		}
		data, err := os.ReadFile(name)
		words = append(words, rel+"="+string(data))
		return err
	})
	insist.OK(t, err)
	return strings.Join(words, " ")
}

func TestPartsComeAndGo(t *testing.T) {
	h := host.Home{Dir: t.TempDir()}
	l, dir := ledger(t, h), t.TempDir()
	oak := filepath.Join(dir, "mods", "oak")
	first := source{"a": "1", "sub/b": "2"}
	come := &plan.Plan{Parts: []plan.Part{{Path: filepath.Dir(oak), What: "a folder", New: plan.EmptyFolder}, folder(oak, "", first)}}
	insist.OK(t, l.Apply(t.Context(), "s", "one", come, from(first)))
	one := tree(t, dir)
	insist.Need(t, one == "mods/ mods/oak/ mods/oak/a=1 mods/oak/sub/ mods/oak/sub/b=2", "after it came there is %s", one)
	if items, ok, err := l.Release(oak); err != nil || !ok || plan.Digest(items) != come.Parts[1].New {
		t.Errorf("what came is remembered as %v, %v, %v", items, ok, err)
	}
	if o, err := l.Owner("s", oak); err != nil || o.Mod != "oak" || o.Clean {
		t.Errorf("what came is %+v's, %v", o, err)
	}
	// The mod writes something itself; then comes another release, of which one file stays as it is.
	put(t, filepath.Join(oak, "own"), "mine", 0o600)
	insist.OK(t, unix.Setxattr(filepath.Join(oak, "own"), "user.note", []byte("kept"), 0))
	there, err := l.Digests().List(oak)
	insist.OK(t, err)
	second := source{"a": "11"}
	next := folder(oak, plan.Digest(there), second)
	next.Release = slices.Clone(next.Items)
	kept := there[slices.IndexFunc(there, func(it plan.Item) bool { return it.Rel == "own" })]
	next.Items = append(next.Items, kept)
	next.New = plan.Digest(next.Items)
	insist.OK(t, l.Apply(t.Context(), "s", "two", &plan.Plan{Parts: []plan.Part{next}}, from(second)))
	two := tree(t, dir)
	insist.Need(t, two == "mods/ mods/oak/ mods/oak/a=11 mods/oak/own=mine", "after the second release there is %s", two)
	note := make([]byte, 10)
	if n, err := unix.Getxattr(filepath.Join(oak, "own"), "user.note", note); err != nil || string(note[:n]) != "kept" {
		t.Errorf("the file that stays has the note %q, %v", note[:max(n, 0)], err)
	}
	if info, err := os.Stat(filepath.Join(oak, "own")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the file that stays has the mode %v, %v", info.Mode(), err)
	}
	// Back and forth through the ledger.
	goTo := func(n int, want string) {
		t.Helper()
		p, err := l.Return("s", n)
		insist.OK(t, err)
		insist.OK(t, l.Apply(t.Context(), "s", fmt.Sprint("back to ", n), p, nil))
		insist.Same(t, fmt.Sprintf("back to entry %d there", n), tree(t, dir), want)
	}
	goTo(1, strings.Replace(one, "mods/oak/sub/ ", "mods/oak/own=mine mods/oak/sub/ ", 1))
	goTo(2, two)
	goTo(0, "")
	goTo(2, two)
	goTo(0, "")
	if freed, err := l.Forget("s", 2); err != nil || freed != 0 {
		t.Errorf("%d bytes freed that later entries want, %v", freed, err)
	}
	if freed, err := l.Forget("s", 7); err != nil || freed == 0 {
		t.Errorf("%d bytes freed, %v", freed, err)
	}
	if p, err := l.Return("s", 6); err != nil {
		t.Error(err)
	} else if err = l.Apply(t.Context(), "s", "too far", p, nil); err == nil || !strings.Contains(err.Error(), "does not have it") {
		t.Errorf("back to what was forgotten: %v", err)
	}
	if left := within(dir, ".initium*"); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

func TestPartsAreRefused(t *testing.T) {
	h := host.Home{Dir: t.TempDir()}
	l, dir := ledger(t, h), t.TempDir()
	put(t, filepath.Join(dir, "there", "x"), "x", 0o644)
	before := tree(t, dir)
	good := source{"a": "1"}
	big := folder(filepath.Join(dir, "big"), "", good)
	big.Items[0].Size = 1 << 60
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	for name, c := range map[string]struct {
		ctx   context.Context
		part  plan.Part
		fetch source
		is    error
		word  string
	}{
		"something is there":   {t.Context(), folder(filepath.Join(dir, "there"), "", good), good, host.ErrStale, ""},
		"nothing is there":     {t.Context(), folder(filepath.Join(dir, "new"), "0123", good), good, host.ErrStale, ""},
		"other bytes come":     {t.Context(), folder(filepath.Join(dir, "new"), "", good), source{"a": "2"}, nil, "changed since"},
		"more bytes come":      {t.Context(), folder(filepath.Join(dir, "new"), "", good), source{"a": "1 and more"}, nil, "changed since"},
		"a file is gone":       {t.Context(), folder(filepath.Join(dir, "new"), "", good), source{"b": "1"}, nil, "is gone"},
		"no room":              {t.Context(), big, good, nil, "too little room"},
		"the ledger lost it":   {t.Context(), plan.Part{Path: filepath.Join(dir, "new"), New: "0123"}, good, nil, "does not have it"},
		"stopped by the owner": {stopped, folder(filepath.Join(dir, "deep", "new"), "", good), good, context.Canceled, ""},
		"a file is in the way": {t.Context(), folder(filepath.Join(dir, "there", "x", "new"), "", good), good, nil, "not a directory"},
	} {
		err := l.Apply(c.ctx, "s", name, &plan.Plan{Parts: []plan.Part{{Path: filepath.Join(dir, "deep"), What: "a folder", New: plan.EmptyFolder}, c.part}}, from(c.fetch))
		if err == nil || c.is != nil && !errors.Is(err, c.is) || !strings.Contains(err.Error(), c.word) {
			t.Errorf("%s: %v", name, err)
		}
		insist.Same(t, fmt.Sprintf("%s: it leaves", name), tree(t, dir), before)
	}
	if entries, err := l.Entries("s"); err != nil || len(entries) != 1 {
		t.Errorf("the ledger holds %v, %v", entries, err)
	}
}

// slow is a source that takes its time.
type slow struct {
	source
	begun, end chan struct{}
}

func (s slow) Copy(ctx context.Context, wanted func(string) bool, put func(string, io.Reader) error) error {
	close(s.begun)
	<-s.end
	return s.source.Copy(ctx, wanted, put)
}

// TestOthersGoOnMeanwhile looks at a server into which another Initium is copying.
func TestOthersGoOnMeanwhile(t *testing.T) {
	h := host.Home{Dir: t.TempDir()}
	l, dir := ledger(t, h), t.TempDir()
	s := slow{source{"a": "1"}, make(chan struct{}), make(chan struct{})}
	done := make(chan error)
	go func() {
		done <- l.Apply(t.Context(), "s", "x", &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "m"), "", s.source)}}, &host.Fetch{Sources: map[string]host.Copier{"s": s}})
	}()
	<-s.begun
	other := ledger(t, h)
	if said, err := other.Recover("s"); err != nil || said != "" {
		t.Errorf("while another copies: %q, %v", said, err)
	}
	if entries, err := other.Entries("s"); err != nil || len(entries) != 1 {
		t.Errorf("entries %v, %v", entries, err)
	}
	if err := other.Idle("s"); !errors.Is(err, host.ErrBusy) {
		t.Errorf("a start meanwhile: %v", err)
	}
	close(s.end)
	insist.OK(t, <-done)
	insist.Same(t, "in the end there", tree(t, dir), "m/ m/a=1")
}

// TestProgress counts files and bytes.
func TestProgress(t *testing.T) {
	l, dir := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir()
	s := source{"a": strings.Repeat("x", 1<<20), "b": "y"}
	fetch := from(s)
	var last host.Progress
	calls := 0
	fetch.Progress = func(p host.Progress) {
		insist.That(t, p.Bytes >= last.Bytes && p.Files >= last.Files && p.Bytes <= p.AllBytes && p.Files <= p.AllFiles, "after %+v comes %+v", last, p)
		last = p
		calls++
	}
	insist.OK(t, l.Apply(t.Context(), "s", "x", &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "m"), "", s)}}, fetch))
	if want := (host.Progress{Files: 2, AllFiles: 2, Bytes: 1<<20 + 1, AllBytes: 1<<20 + 1}); last != want || calls < 4 {
		t.Errorf("in the end %+v after %d calls; want %+v", last, calls, want)
	}
}

func TestBackup(t *testing.T) {
	h, dir := host.Home{Dir: t.TempDir()}, t.TempDir()
	put(t, filepath.Join(dir, "world", "map.db"), strings.Repeat("map", 1000), 0o644)
	put(t, filepath.Join(dir, "world", "players", "wren"), "wren", 0o600)
	put(t, filepath.Join(dir, "auth.txt"), "secret", 0o600)
	insist.OK(t, os.Symlink("/elsewhere", filepath.Join(dir, "world", "link")))
	b, err := h.WriteBackup(t.Context(), "s", dir, "test", []string{filepath.Join(dir, "world"), filepath.Join(dir, "auth.txt")}, nil)
	insist.Need(t, err == nil && b.Number == 1 && b.Files == 3 && b.Bytes == 3010, "%+v, %v", b, err)
	if list, err := h.Backups("s"); err != nil || len(list) != 1 || list[0].File != b.File {
		t.Errorf("the list is %v, %v", list, err)
	}
	if info, err := os.Stat(b.File); err != nil || info.Mode().Perm() != 0o600 || info.Size() != b.Packed {
		t.Errorf("the file is %v, %v", info, err)
	}
	packed, err := os.Open(b.File)
	insist.OK(t, err)
	defer packed.Close()
	unpacked, err := zstd.NewReader(packed)
	insist.OK(t, err)
	defer unpacked.Close()
	var names []string
	for r := tar.NewReader(unpacked); ; {
		head, err := r.Next()
		if err == io.EOF {
			break
		}
		insist.OK(t, err)
		names = append(names, head.Name)
	}
	slices.Sort(names)
	insist.Same(t, "the archive", strings.Join(names, " "), "auth.txt world/ world/link world/map.db world/players/ world/players/wren")
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := h.WriteBackup(stopped, "s", dir, "", []string{dir}, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
	if files := within(filepath.Dir(b.File), "*"); len(files) != 2 {
		t.Errorf("there is %v", files)
	}
}

func TestRecordClean(t *testing.T) {
	h, dir := host.Home{Dir: t.TempDir()}, t.TempDir()
	l := ledger(t, h)
	for _, name := range []string{"a", "sub/b", "mods/m/c"} {
		put(t, filepath.Join(dir, name), name, 0o644)
	}
	n, err := l.TakeBaseline("s", dir, []string{filepath.Join(dir, "mods")})
	insist.Need(t, err == nil && n == 2, "%d files, %v", n, err)
	for name, want := range map[string]bool{"sub/b": true, "mods/m/c": false} {
		if o, err := l.Owner("s", filepath.Join(dir, name)); err != nil || o.Clean != want {
			t.Errorf("%s is of the clean server: %v, %v", name, o.Clean, err)
		}
	}
	put(t, filepath.Join(dir, "a"), "other", 0o644)
	os.Remove(filepath.Join(dir, "sub/b"))
	if _, changed, err := l.BaselineChanges("s"); err != nil || len(changed) != 2 {
		t.Errorf("changed: %v, %v", changed, err)
	}
}

// What is written anew has the rights, the owner and the attributes of what was there; and no
// access list that it had not.
func TestAttributesStay(t *testing.T) {
	h := host.Home{Dir: t.TempDir()}
	l, dir := ledger(t, h), t.TempDir()
	conf := filepath.Join(dir, "conf")
	put(t, conf, "one", 0o644)
	insist.OK(t, errors.Join(os.Chmod(conf, 0o640|fs.ModeSetgid), unix.Setxattr(conf, "user.note", []byte("a\x00b"), 0), unix.Setxattr(conf, "user.empty", nil, 0)))
	insist.OK(t, l.Apply(t.Context(), "s", "one", &plan.Plan{Files: []plan.File{file(conf, "one", "two")}}, nil))
	want(t, conf, "two")
	note := make([]byte, 10)
	n, err := unix.Getxattr(conf, "user.note", note)
	if _, none := unix.Getxattr(conf, "user.empty", note[n:]); err != nil || none != nil || string(note[:n]) != "a\x00b" {
		t.Errorf("its note is %q, %v, %v", note[:max(n, 0)], err, none)
	}
	if info, err := os.Stat(conf); err != nil || info.Mode() != 0o640|fs.ModeSetgid {
		t.Errorf("its mode is %v, %v", info.Mode(), err)
	}
}
