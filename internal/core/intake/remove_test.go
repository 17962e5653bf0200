package intake_test

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/host/archive"
	"initium/internal/host/disk"
	"initium/internal/insist"
)

// treeOf writes files into a folder and reads them as a source.
func treeOf(t *testing.T, dir string, files map[string]string) *intake.Tree {
	t.Helper()
	for name, data := range files {
		full := filepath.Join(dir, name)
		insist.OK(t, os.MkdirAll(filepath.Dir(full), 0o755))
		insist.OK(t, os.WriteFile(full, []byte(data), 0o644))
	}
	source, err := archive.Open(dir, archive.Options{Bounds: intake.DefaultBounds()})
	insist.OK(t, err)
	tree, err := source.Read(t.Context())
	insist.OK(t, err)
	return tree
}

func TestRemove(t *testing.T) {
	files := map[string]string{
		"mill.start":            "turn oak\nturn elm\nturn ash\n",
		"wheels/oak/wheel.toml": "name='oak'", "wheels/oak/keys/oak.key": "O", "wheels/oak/keys/both.key": "B", "wheels/oak/keys/own.key": "S", "wheels/oak/keys/else.key": "1",
		"wheels/elm/wheel.toml": "name='elm'\nneeds=['oak']", "wheels/elm/keys/both.key": "B",
		"wheels/ash/wheel.toml": "name='ash'",
		"keys/oak.key":          "O", "keys/both.key": "B", "keys/own.key": "S", "keys/else.key": "2",
		"flour/oak/sack": "x",
	}
	p := newPlace(t, files)
	p.owners[filepath.Join(p.dir, "keys/own.key")] = intake.Owner{Clean: true}
	r := intake.Remove("oak", p.target(), lineup.Choices{})
	var parts, left []string
	for _, part := range r.Parts {
		parts = append(parts, strings.TrimPrefix(part.Path, p.dir+"/"))
		insist.That(t, part.New == "" && part.Old != "", "the part %s does not go: %+v", part.Path, part)
	}
	for _, l := range r.Left {
		left = append(left, strings.TrimPrefix(l.Path, p.dir+"/")+": "+l.About)
	}
	insist.Same(t, "goes", strings.Join(parts, " "), "wheels/oak keys/oak.key")
	want := "keys/both.key: a key that elm needs too; keys/else.key: a key with other bytes than the mod's; keys/own.key: a key that the server had before; flour/oak: its flour"
	insist.Same(t, "stays", strings.Join(left, "; "), want)
	if strings.Join(r.Dependents, " ") != "elm" || len(r.Changes) != 1 || r.Changes[0].Op != lineup.OpUnregister || r.World == "" {
		t.Errorf("dependents %v, changes %v, world %q", r.Dependents, r.Changes, r.World)
	}
	if r = intake.Remove("oak", p.target(), lineup.Choices{Leavings: true}); len(r.Parts) != 3 || !r.Left[len(r.Left)-1].Goes {
		t.Errorf("with what it has made: %v", r.Parts)
	}
	for failing, goes := range map[string]bool{"flour/oak": true, "wheels/elm": false, "wheels/oak": false} {
		p.failing = failing
		if r = intake.Remove("oak", p.target(), lineup.Choices{Leavings: goes}); len(r.Problems) != 1 || !strings.HasPrefix(r.Problems[0], p.dir+"/"+failing+" cannot be read") {
			t.Errorf("where %s cannot be read: %q, %v", failing, r.Problems, r.Parts)
		}
	}
	p.failing = "flour/oak"
	if r = intake.Remove("oak", p.target(), lineup.Choices{}); len(r.Problems) != 0 || r.Left[len(r.Left)-1].About != "its flour, which cannot be read" {
		t.Errorf("where what it has made stays, and cannot be read: %q, %v", r.Problems, r.Left)
	}
	p.failing = ""
	if r = intake.Remove("Oak", p.target(), lineup.Choices{}); len(r.Problems) == 0 || len(r.Parts) > 0 {
		t.Errorf("a mod that is not there: %+v", r)
	}
}

// TestOverlay compares what a survey would see before parts are put in place with
// what is there afterwards.
func TestOverlay(t *testing.T) {
	p := newPlace(t, map[string]string{"mill.start": "turn oak", "wheels/oak/wheel.toml": "name='oak'", "wheels/oak/old": "", "wheels/gone/wheel.toml": "", "wheels/elm/mine.dat": "12345"})
	data := map[string][]byte{"oak/wheel.toml": []byte("name='oak'\nrelease='2'"), "m": []byte("map!")}
	item := func(rel, from string) plan.Item {
		return plan.Item{Rel: rel, Source: "s", From: from, Size: int64(len(data[from]))}
	}
	parts := []plan.Part{
		{Path: p.dir + "/wheels/oak", Old: "x", New: "y", Items: []plan.Item{item("wheel.toml", "oak/wheel.toml"), item("sub/deep/file", "none"), {Rel: "empty", Folder: true}}},
		{Path: p.dir + "/wheels/gone", Old: "x"},
		{Path: p.dir + "/plans", New: plan.EmptyFolder}, {Path: p.dir + "/plans/hills", New: plan.EmptyFolder},
		{Path: p.dir + "/plans/hills/a.plan", New: "z", Items: []plan.Item{item("", "m")}},
		{Path: p.dir + "/wheels/elm", Old: "x", New: "w", Items: []plan.Item{{Rel: "mine.dat", From: "mine.dat", Size: 5}, item("wheel.toml", "oak/wheel.toml")}},
	}
	o := intake.NewOverlay(disk.NewTree(), parts, func(source, from string) []byte { return data[from] })
	sub := subFS{o, strings.TrimPrefix(p.dir, "/")}
	if _, ok := intake.NewOverlay(fstest.MapFS{}, nil, nil).Stamp("x"); ok {
		t.Error("a file system without stamps has one")
	}
	insist.OK(t, fstest.TestFS(sub, "mill.start", "wheels/oak/wheel.toml", "wheels/oak/sub/deep/file", "wheels/oak/empty", "plans/hills/a.plan", "wheels/elm/mine.dat"))
	for _, name := range []string{"wheels/oak/old", "wheels/gone", "wheels/gone/wheel.toml"} {
		if _, err := sub.Stat(name); err == nil {
			t.Errorf("%s is still seen", name)
		}
	}
	if got, err := o.ReadSmall(strings.TrimPrefix(p.dir, "/")+"/wheels/oak/wheel.toml", 100); err != nil || !strings.Contains(string(got), "'2'") {
		t.Errorf("the new manifest reads %q, %v", got, err)
	}
	if got, err := o.ReadSmall(strings.TrimPrefix(p.dir, "/")+"/wheels/elm/mine.dat", 100); err != nil || string(got) != "12345" {
		t.Errorf("a file that stays reads %q, %v", got, err)
	}
}

// subFS is a folder of an overlay.
type subFS struct {
	*intake.Overlay
	dir string
}

func (s subFS) at(name string) (string, error) {
	if !fs.ValidPath(name) {
		return "", &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	return path.Join(s.dir, name), nil
}

func (s subFS) Open(name string) (fs.File, error) {
	full, err := s.at(name)
	if err != nil {
		return nil, err
	}
	return s.Overlay.Open(full)
}

func (s subFS) Stat(name string) (fs.FileInfo, error) {
	full, err := s.at(name)
	if err != nil {
		return nil, err
	}
	return s.Overlay.Stat(full)
}

func (s subFS) ReadDir(name string) ([]fs.DirEntry, error) {
	full, err := s.at(name)
	if err != nil {
		return nil, err
	}
	return s.Overlay.ReadDir(full)
}

func TestOverlapping(t *testing.T) {
	clean := slices.Values([]string{"/a", "/b", "/c"})
	got := intake.Overlapping(clean, []intake.Brought{{"oak", []string{"/b", "/x", "/y"}}, {"elm", []string{"/y", "/z", "/y"}}, {"ash", []string{"/y", "/c"}}})
	want := []intake.Shared{{"/b", []string{"oak"}, true}, {"/c", []string{"ash"}, true}, {"/y", []string{"oak", "elm", "elm", "ash"}, false}}
	insist.That(t, fmt.Sprint(got) == fmt.Sprint(want), "%v; want %v", got, want)
}

// What was put among the server's own goes with a mod, but for what cannot be told or brought back.
func TestRemoveLaid(t *testing.T) {
	p := newPlace(t, map[string]string{"engine/a": "laid", "engine/b": "changed", "engine/c": "laid", "engine/new/d": "laid", "engine/e": "laid"})
	laid := plan.Digest([]plan.Item{{Size: 4, Sum: sha256.Sum256([]byte("laid"))}})
	at := func(rel, below, whose string, kept bool) intake.Laid {
		return intake.Laid{Path: path.Join(p.dir, rel), What: plan.Laid, Digest: laid, Below: below, Whose: whose, Kept: kept}
	}
	p.made = map[string]bool{path.Join(p.dir, "engine/new"): true}
	p.laid = map[string][]intake.Laid{"lamps": {at("engine/a", "old", "elm", true), at("engine/b", "", "", true), at("engine/c", "lost", "", false),
		at("engine/gone", "", "", true), at("engine/new/d", "", "", true), {Path: path.Join(p.dir, "engine/e"), Over: "elm"}}}
	r := intake.Remove("lamps", p.target(), lineup.Choices{})
	said := ""
	for i := range r.Parts {
		said += fmt.Sprintf("%s %s; ", r.Parts[i].Title(), &r.Parts[i])
	}
	insist.Same(t, "goes", said, "a file of elm is put back as it was; a file of lamps goes; the ledger keeps it; a folder goes, if it is empty; ")
	insist.Same(t, "stays", fmt.Sprintf("%s, %s; %s, %s", path.Base(r.Left[0].Path), r.Left[0].About, path.Base(r.Left[1].Path), r.Left[1].About),
		"b, a file that came with it, and was changed since; c, a file that came with it; what it replaced is not kept any more")
	p.laid["lamps"] = []intake.Laid{{Path: path.Join(p.dir, "engine/e"), Over: "elm"}}
	r = intake.Remove("lamps", p.target(), lineup.Choices{})
	insist.Holds(t, "covered", strings.Join(r.Problems, ""), "elm has laid its own over all that came with lamps")
	p.laid["lamps"] = []intake.Laid{at("engine/a", "", "", true)}
	p.failing = "engine/a"
	insist.Holds(t, "unreadable", strings.Join(intake.Remove("lamps", p.target(), lineup.Choices{}).Problems, ""), "engine/a cannot be read")
	p.laidFails = fs.ErrInvalid
	insist.Holds(t, "unknown", strings.Join(intake.Remove("lamps", p.target(), lineup.Choices{}).Problems, ""), "cannot be told")
}
