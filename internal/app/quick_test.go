package app_test

import (
	"archive/zip"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"initium/internal/app"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/host"
	"initium/internal/host/disk"
	"initium/internal/insist"

	"golang.org/x/sys/unix"
)

// The bounds that an operator sets for a source are those that hold for it, and each says
// which it is.
func TestChosenBounds(t *testing.T) {
	insist.Long(t)
	a, dir := world(t, map[string]string{"kiln.list": ""})
	name := filepath.Join(filepath.Dir(dir), "x.zip")
	f, err := os.Create(name)
	insist.OK(t, err)
	w := zip.NewWriter(f)
	for _, file := range []string{"tongs/x", "tongs/y", "tongs/Y"} {
		entry, err := w.Create(file)
		insist.OK(t, err)
		_, err = entry.Write([]byte(strings.Repeat("z", 30<<20)))
		insist.OK(t, err)
	}
	insist.OK(t, errors.Join(w.Close(), f.Close()))
	for want, c := range map[intake.Bound]lineup.Choices{
		intake.BoundFiles: {Cases: true, MostFiles: 2, MostRatio: 1 << 40}, intake.BoundBytes: {Cases: true, MostBytes: 1000, MostRatio: 1 << 40},
		intake.BoundRatio: {Cases: true, MostRatio: 2}, intake.BoundCases: {MostRatio: 1 << 40}, "": {Cases: true, MostRatio: 1 << 40},
	} {
		_, err := a.Inspect(t.Context(), name, "", c, nil)
		var bound intake.BoundError
		if errors.As(err, &bound); bound.Of != want || (err == nil) != (want == "") {
			t.Errorf("%q: %v", want, err)
		}
	}
}

// A lesson holds as long as the mods that one stands on are the same ones, also where they
// need each other.
func TestLessonsAmongCircles(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "fire a\nfire b\nfire c\n", "kiln": "#!/bin/sh\n", "mods/a/need.json": `{"needs": ["b"]}`, "mods/b/need.json": `{"needs": ["c"], "likes": ["a"]}`, "mods/c/need.json": `{"needs": ["a"]}`})
	put(t, filepath.Join(a.Home.DialectDir(), "kiln.toml"), kiln+"[[manifest]]\nfile = \"need.json\"\nformat = \"json\"\nneeds = \"needs\"\noptional_needs = \"likes\"\n[load]\ncircle = \"loads\"\nneed_late = \"loads\"\n")
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k", Set: map[string]string{"level": "1"}})))
	at := func(name string) string { return filepath.Join(dir, "mods", name) }
	for around, want := range map[string]string{strings.Join([]string{at("a"), at("b"), at("c")}, "\n"): "lesson", at("b"): "loads", "": "loads"} {
		l, err := a.Home.OpenLedger()
		insist.OK(t, err)
		insist.OK(t, errors.Join(l.Learn(at("a"), host.Lesson{Around: around, Said: "it cracked"}), l.Close()))
		look, err := a.Look("k")
		insist.OK(t, err)
		if got := look.Forecast.Find("a"); got == nil || string(got.Cause) != want {
			t.Errorf("around %q: %+v", around, got)
		}
	}
}

// What was never started is not spoken to; and a world comes back with its empty folders and
// its links.
func TestOddWorlds(t *testing.T) {
	a, dir := world(t, map[string]string{"kiln.list": "fire a\n", "kiln": "#!/bin/sh\n", "world/map": "one", "world/deep/file": "two"})
	put(t, filepath.Join(a.Home.DialectDir(), "kiln.toml"), kiln+"[world]\npaths = [\"{dir}/world\"]\n")
	insist.OK(t, insist.Err(a.Adopt(t.Context(), app.Adoption{Dir: dir, As: "k", Set: map[string]string{"level": "1"}})))
	insist.Fails(t, "spoken to", a.Type("k", "hello"), "is not running")
	insist.OK(t, os.Mkdir(filepath.Join(dir, "world", "empty"), 0o755))
	insist.OK(t, os.Symlink("../elsewhere", filepath.Join(dir, "world", "link")))
	world := filepath.Join(dir, "world")
	changed := time.Date(2021, 2, 3, 4, 5, 6, 789_000_000, time.UTC)
	insist.OK(t, errors.Join(os.Link(filepath.Join(world, "map"), filepath.Join(world, "deep", "again")), os.Chmod(filepath.Join(world, "map"), 0o600), os.Chmod(filepath.Join(world, "empty"), 0o500)))
	if os.Getuid() == 0 {
		insist.OK(t, errors.Join(os.Lchown(filepath.Join(world, "map"), 12345, 123), os.Lchown(filepath.Join(world, "link"), 12345, 123), os.Lchown(filepath.Join(world, "deep"), 12345, 123)))
	}
	insist.OK(t, errors.Join(os.Chmod(filepath.Join(world, "deep"), 0o770|fs.ModeSetgid), os.Chtimes(filepath.Join(world, "map"), changed, changed), os.Chtimes(filepath.Join(world, "deep"), changed, changed), os.Chtimes(world, changed, changed)))
	for _, name := range []string{"map", "deep"} {
		insist.OK(t, unix.Setxattr(filepath.Join(world, name), "user.note", []byte("of "+name+"\x00"), 0))
	}
	likes := func() (said string) {
		insist.OK(t, filepath.WalkDir(world, func(name string, e os.DirEntry, err error) error {
			insist.OK(t, err)
			info, err := e.Info()
			insist.OK(t, err)
			sys := info.Sys().(*syscall.Stat_t)
			when := ""
			if info.Mode()&fs.ModeSymlink == 0 {
				when = info.ModTime().UTC().String()
			}
			note := make([]byte, 100)
			n, _ := unix.Lgetxattr(name, "user.note", note) // most have none
			said += fmt.Sprintf("%s %v %d:%d %s, %d names, %q\n", strings.TrimPrefix(name, dir), info.Mode(), sys.Uid, sys.Gid, when, sys.Nlink, note[:max(n, 0)])
			return nil
		}))
		return said
	}
	before := likes()
	b, err := a.Backup(t.Context(), "k", "", nil)
	insist.OK(t, err)
	insist.OK(t, os.RemoveAll(filepath.Join(dir, "world")))
	put(t, filepath.Join(dir, "world", "new"), "three")
	insist.OK(t, insist.Err(a.Change(t.Context(), "k", nil, lineup.Change{Op: lineup.OpRestore, Source: b.File})))
	insist.Same(t, fmt.Sprintf("the world was\n%sand comes back as", before), likes(), before)
	copied := filepath.Join(t.TempDir(), "world")
	insist.OK(t, disk.CopyFolder(t.Context(), world, copied))
	world, dir = copied, filepath.Dir(copied)
	insist.Same(t, "a copy", likes(), before)
	world, dir = filepath.Join(filepath.Dir(a.Home.Dir), "server", "world"), filepath.Join(filepath.Dir(a.Home.Dir), "server")
	var there []string
	insist.OK(t, filepath.WalkDir(filepath.Join(dir, "world"), func(name string, e os.DirEntry, err error) error {
		there = append(there, fmt.Sprint(strings.TrimPrefix(name, dir), " ", e.Type()))
		return err
	}))
	const want = "/world d---------, /world/deep d---------, /world/deep/again ----------, /world/deep/file ----------, /world/empty d---------, /world/link L---------, /world/map ----------"
	insist.Same(t, "there", strings.Join(there, ", "), want)
	if to, err := os.Readlink(filepath.Join(dir, "world", "link")); err != nil || to != "../elsewhere" {
		t.Errorf("the link leads to %s, %v", to, err)
	}
}
