package test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"initium/internal/insist"
	"initium/internal/lack"
)

// zipped packs files, by their paths, into a zip archive; a path that ends in a
// slash is a folder.
func zipped(t *testing.T, files map[string]string) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, name := range sortedKeys(files) {
		f, err := w.Create(name)
		insist.OK(t, err)
		insist.OK(t, insist.Err(f.Write([]byte(files[name]))))
	}
	insist.OK(t, w.Close())
	return out.Bytes()
}

func tarred(t *testing.T, files map[string]string) []byte {
	t.Helper()
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	w := tar.NewWriter(z)
	for _, name := range sortedKeys(files) {
		h := &tar.Header{Name: name, Mode: 0o644, Size: int64(len(files[name])), Typeflag: tar.TypeReg}
		if strings.HasSuffix(name, "/") {
			h.Typeflag, h.Mode = tar.TypeDir, 0o755
		}
		insist.OK(t, w.WriteHeader(h))
		insist.OK(t, insist.Err(w.Write([]byte(files[name]))))
	}
	insist.OK(t, w.Close())
	insist.OK(t, z.Close())
	return out.Bytes()
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// below writes down all that is below a folder, with the bytes of small files.
func below(t testing.TB, dir string) string {
	t.Helper()
	var out strings.Builder
	err := filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		fmt.Fprintf(&out, "%s %v\n", strings.TrimPrefix(name, dir), e.Type())
		if e.Type().IsRegular() {
			data, err := os.ReadFile(name)
			fmt.Fprintf(&out, "%q\n", data)
			return err
		}
		return nil
	})
	insist.OK(t, err)
	return out.String()
}

const (
	kelpBill = "name = \"kelp_farms\"\nrelease = \"1.3.0\"\nwaits_for = [\"a\"]\n"
	kelpDeck = "haul 1\nstore\n"
)

// kelp packs a mod for the harbour in a layout: a pattern of where its files are.
func kelp(root string, more ...string) map[string]string {
	files := map[string]string{root + "bill.toml": kelpBill, root + "deck.script": kelpDeck, root + "art/raft.png": "png"}
	for _, m := range more {
		name, data, _ := strings.Cut(m, "=")
		files[name] = data
	}
	return files
}

// TestLayouts takes one mod in from archives in which it is packed in all the
// ways that people pack mods. The same has to stand on the server each time, the
// server has to load it, and taking it back has to leave all as it was.
func TestLayouts(t *testing.T) {
	inner := string(zipped(t, kelp("kelp_farms/")))
	for name, files := range map[string]map[string]string{
		"as it should be":               kelp("kelp_farms/"),
		"no folder around it":           kelp(""),
		"the same folder twice":         kelp("kelp_farms/kelp_farms/"),
		"a release on the folder":       kelp("kelp_farms-1.3.0/"),
		"a branch on the folder":        kelp("kelp_farms-main/"),
		"deep beside a readme":          kelp("release/content/kelp_farms/", "release/README.md=read me", "release/LICENSE=free"),
		"with blanks and capitals":      kelp("Kelp Farms (2)/"),
		"with what a system leaves":     kelp("kelp_farms/", "__MACOSX/kelp_farms/._bill.toml=x", "kelp_farms/.DS_Store=x", "Thumbs.db=x"),
		"with folders written down":     kelp("./kelp_farms/", "./=", "./kelp_farms/=", "./kelp_farms/art/="),
		"with backslashes":              {`kelp_farms\bill.toml`: kelpBill, `kelp_farms\deck.script`: kelpDeck, `kelp_farms\art\raft.png`: "png"},
		"an archive within the archive": {"read me.txt": "unpack the other one", "files/kelp_farms-1.3.zip": inner},
		"in the server's own tree":      kelp("cargo/kelp_farms/"),
		"in the tree of a whole server": kelp("harbour-server/cargo/kelp_farms/", "harbour-server/start.sh=#!/bin/sh"),
		"beside pictures":               kelp("kelp_farms/", "preview.png=png", "docs/manual.html=<p>"),
	} {
		for suffix, pack := range map[string]func(*testing.T, map[string]string) []byte{"zip": zipped, "tar.gz": tarred} {
			t.Run(name+", "+suffix, func(t *testing.T) {
				t.Parallel()
				h := newHarbour(t, "berth a\n")
				h.cargo("a", "", "haul 1\n")
				before := below(t, h.dir)
				// It is called by another suffix than it has: only the content counts.
				source := filepath.Join(filepath.Dir(h.home), "download.dat")
				write(t, source, string(pack(t, files)))
				var look struct {
					Family string
					Mods   []struct{ Name, Release, Root, Path string }
				}
				h.json(0, &look, "look", source, "--server", "h", "--json")
				insist.Need(t, len(look.Mods) == 1 && look.Mods[0].Name == "kelp_farms" && look.Mods[0].Release == "1.3.0" && look.Family == "harrow-sound", "look finds %+v", look)
				insist.Same(t, fmt.Sprintf("looking has changed\n%s\nto", before), below(t, h.dir), before)
				h.do(0, "take", "h", source)
				want := map[string]string{"bill.toml": kelpBill, "deck.script": kelpDeck, "art/raft.png": "png"}
				for file, data := range want {
					insist.Same(t, file, contents(t, filepath.Join(h.dir, "cargo/kelp_farms", file)), data)
				}
				if got := strings.Count(below(t, filepath.Join(h.dir, "cargo/kelp_farms")), "\n"); got != 8 { // the folder, art, and two lines for each file
					t.Errorf("there is\n%s", below(t, filepath.Join(h.dir, "cargo/kelp_farms")))
				}
				if p := h.prove(0); p.outcomes() != "a confirmed, kelp_farms confirmed" {
					t.Errorf("outcomes are %s", p.outcomes())
				}
				os.RemoveAll(filepath.Join(h.dir, "stores")) // what the mod has made at its start
				h.do(0, "undo", "h")
				insist.Same(t, "taken back there", below(t, h.dir), before)
			})
		}
	}
}

// TestEveryFamilyIsFed takes a mod in on a server of each stand-in family, has the
// server load it, and takes it out again.
func TestEveryFamilyIsFed(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		family, port, mod string
		files             map[string]string
		wants             []string // on the server afterwards
		leaves            string   // what stays when it goes
	}{
		{"harrow-sound", "27310", "kelp_farms", map[string]string{"x/kelp_farms/bill.toml": strings.Replace(kelpBill, `"a"`, `"tide_tables"`, 1), "x/kelp_farms/deck.script": kelpDeck, "x/outer.chart": "chart"},
			[]string{"cargo/kelp_farms/bill.toml", "charts/outer.chart"}, "stores/kelp_farms"},
		{"lantern-moor", "27420", "fen_choir", map[string]string{"lantern.json": `{"id": "fen_choir", "release": "1.1", "needs": ["mist_bells"], "side": "all", "burn": 1}`, "keys/fen_choir.wick": "wick"},
			[]string{"bog/fen_choir/lantern.json", "wicks/fen_choir.wick"}, "embers/fen_choir"},
		{"cogwheel-fair", "27530", "coconut_shy", map[string]string{"rides/coconut_shy-2.ride": string(zipped(t, map[string]string{"ride.yaml": "name: coconut_shy\nrelease: 2.0.0\n"}))},
			[]string{"rides/coconut_shy.ride"}, "ledgers/coconut_shy"},
		{"nine-orchards", "27640", "quince_walk", map[string]string{"quince_walk/graft.txt": "title = Quince walk\nrelease = 1.0\nnumber = 4711\n"},
			[]string{"grove/quince_walk/graft.txt"}, "hives/quince_walk"},
	} {
		t.Run(c.family, func(t *testing.T) {
			o, dir := family(t, c.family, c.port)
			before := below(t, dir)
			source := filepath.Join(filepath.Dir(o.home), "download.zip")
			write(t, source, string(zipped(t, c.files)))
			o.do(0, "take", c.family, source)
			for _, file := range c.wants {
				insist.OK(t, insist.Err(os.Stat(filepath.Join(dir, file))))
			}
			p := &proofJSON{}
			decode(t, o.try("prove", c.family, "--json").out, p)
			if m := p.mod(c.mod); m.Outcome != "confirmed" {
				t.Fatalf("%s is %+v", c.mod, m)
			}
			out := o.do(0, "remove", c.family, c.mod)
			insist.Holds(t, "what stays is not told", out, c.leaves)
			for _, file := range c.wants {
				if _, err := os.Stat(filepath.Join(dir, file)); err == nil && !strings.Contains(file, ".chart") {
					t.Errorf("%s is still there", file)
				}
			}
			o.do(0, "undo", c.family)
			o.do(0, "remove", c.family, c.mod, "--leavings")
			if _, err := os.Stat(filepath.Join(dir, c.leaves)); err == nil {
				t.Errorf("%s is still there", c.leaves)
			}
			o.do(0, "undo", c.family, "0")
			for _, made := range []string{"stores", "embers", "ledgers", "hives"} { // by the start
				os.RemoveAll(filepath.Join(dir, made))
			}
			insist.Same(t, "back at the beginning there", below(t, dir), before)
		})
	}
}

// TestRealServersAreFed takes installed mods of the real servers in from archives
// in which they were packed badly.
func TestRealServersAreFed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	needs(t, "bsdtar")
	from := t.TempDir()
	copyAll(t, "/usr/share/games/minetest/mods/moreores", filepath.Join(from, "moreores-2.1-master", "moreores"))
	write(t, filepath.Join(from, "moreores-2.1-master", "README.md"), "read me")
	source := filepath.Join(t.TempDir(), "more.7z")
	if out, err := exec.Command("bsdtar", "-C", from, "-caf", source, ".").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	w.do(0, "take", "w", source)
	insist.OK(t, insist.Err(os.Stat(filepath.Join(w.dir, "worldmods/moreores/init.lua"))))
	if p := w.prove(0); p.mod("moreores").Outcome != "unlisted" { // it loads by being there
		t.Errorf("outcomes are %s", p.outcomes())
	}
	w.do(0, "backup", "w")
	w.do(0, "remove", "w", "moreores")
	if p := w.prove(0); p.mod("moreores").Name != "" {
		t.Errorf("outcomes are %s", p.outcomes())
	}
	w.do(0, "restore", "w")

	needs(t, "/usr/games/bzfs")
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "bz")
	write(t, filepath.Join(dir, "bzfs.conf"), "-i 127.0.0.1\n-p "+freePort(t)+"\n-loadplugin HoldTheFlag\n")
	o.do(0, "adopt", dir, "--as", "bz")
	write(t, filepath.Join(from, "plugins", "evening.so"), contents(t, "/usr/lib/bzflag-server/airspawn.so"))
	o.do(0, "take", "bz", filepath.Join(from, "plugins"))
	p := &proofJSON{}
	o.json(0, p, "prove", "bz", "--json")
	insist.Same(t, "outcomes", p.outcomes(), "HoldTheFlag confirmed, evening confirmed")
	if got := contents(t, filepath.Join(dir, "bzfs.conf")); !strings.HasSuffix(strings.ReplaceAll(got, `"`, ""), "-loadplugin "+dir+"/plugins/evening.so\n") {
		t.Errorf("the options file is\n%s", got)
	}
}

// TestUpdateKeepsWhatIsTheOperators has a mod in two releases, with settings that
// the operator has changed in between.
func TestUpdateKeepsWhatIsTheOperators(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	base := filepath.Dir(h.home)
	release := func(n string, files map[string]string) string {
		all := map[string]string{"kelp_farms/bill.toml": strings.Replace(kelpBill, "1.3.0", n, 1), "kelp_farms/deck.script": kelpDeck}
		for name, data := range files {
			all["kelp_farms/"+name] = data
		}
		name := filepath.Join(base, "kelp-"+n+".zip")
		write(t, name, string(zipped(t, all)))
		return name
	}
	one := release("1.0", map[string]string{"same.toml": "s", "mine.toml": "1", "both.toml": "1", "theirs.toml": "1", "old.dat": "o"})
	h.do(0, "take", "h", one)
	dir := filepath.Join(h.dir, "cargo/kelp_farms")
	write(t, filepath.Join(dir, "mine.toml"), "mine")
	write(t, filepath.Join(dir, "both.toml"), "mine")
	write(t, filepath.Join(dir, "added.txt"), "added")
	insist.OK(t, errors.Join(os.Chmod(filepath.Join(dir, "mine.toml"), 0o750), os.Chmod(filepath.Join(dir, "added.txt"), 0o600)))
	before := below(t, dir)
	two := release("2.0", map[string]string{"same.toml": "s", "mine.toml": "1", "both.toml": "2", "theirs.toml": "2", "new.dat": "n"})
	r := h.try("take", "h", two)
	insist.Need(t, r.status == 1 && strings.Contains(r.err, "cargo/kelp_farms/both.toml") && !strings.Contains(r.err, "mine.toml") && below(t, dir) == before, "status %d\n%s", r.status, r.err)
	h.do(0, "take", "h", two, "--both", "cargo/kelp_farms/both.toml")
	for file, want := range map[string]string{"same.toml": "s", "mine.toml": "mine", "both.toml": "mine", "both.toml.from-kelp-2.0": "2", "theirs.toml": "2", "new.dat": "n", "added.txt": "added"} {
		insist.Same(t, file, contents(t, filepath.Join(dir, file)), want)
	}
	if _, err := os.Stat(filepath.Join(dir, "old.dat")); err == nil {
		t.Error("a file that the release no longer has is still there")
	}
	for file, want := range map[string]fs.FileMode{"mine.toml": 0o750, "added.txt": 0o600} {
		if info, err := os.Stat(filepath.Join(dir, file)); err != nil || info.Mode().Perm() != want {
			t.Errorf("%s has the mode %v, %v", file, info.Mode(), err)
		}
	}
	// The next release under the same name: what waits beside is the newer one then.
	write(t, two, string(zipped(t, map[string]string{"kelp_farms/bill.toml": strings.Replace(kelpBill, "1.3.0", "2.1", 1), "kelp_farms/deck.script": kelpDeck, "kelp_farms/both.toml": "3"})))
	h.do(0, "take", "h", two, "--both", "all")
	insist.Same(t, "the second time both hold", contents(t, filepath.Join(dir, "both.toml"))+contents(t, filepath.Join(dir, "both.toml.from-kelp-2.0")), "mine3")
	h.do(0, "undo", "h", "1")
	insist.Same(t, "both.toml", contents(t, filepath.Join(dir, "both.toml")), "mine")
	insist.Same(t, "taken back there", below(t, dir), before)
	h.do(0, "take", "h", release("2.0", map[string]string{"both.toml": "2"}), "--take", "all")
	insist.Same(t, "both.toml", contents(t, filepath.Join(dir, "both.toml")), "2")
}

// TestRunningServersAreNotDisturbed adds to a running server and takes nothing
// away from it.
func TestRunningServersAreNotDisturbed(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	h.prove(0, "--keep-running")
	defer h.try("stop", "h")
	source := filepath.Join(filepath.Dir(h.home), "kelp.zip")
	write(t, source, string(zipped(t, kelp("kelp_farms/"))))
	insist.Holds(t, "not loaded yet", h.do(0, "take", "h", source), "h runs without it, and loads it when it is started anew")
	for _, args := range [][]string{{"remove", "h", "a", "--agree"}, {"undo", "h"}, {"backup", "h"}} {
		if r := h.try(args...); r.status != 3 || !strings.Contains(r.err, "running") {
			t.Errorf("%v: %d %s", args, r.status, r.err)
		}
	}
}

// TestStagedIntake gathers a mod with other changes and makes all at once; the
// board and check see it before.
func TestStagedIntake(t *testing.T) {
	h := newHarbour(t, "berth b\n")
	h.cargo("a", "", "haul 1\n")
	h.cargo("b", "kelp_farms", "haul 1\n")
	source := filepath.Join(filepath.Dir(h.home), "kelp.zip")
	write(t, source, string(zipped(t, kelp("kelp_farms/"))))
	before := below(t, h.dir)
	h.do(0, "take", "h", source, "--stage")
	h.do(0, "register", "h", "a", "--before", "kelp_farms", "--stage")
	insist.Same(t, fmt.Sprintf("staging has changed\n%s\nto", before), below(t, h.dir), before)
	out := h.do(0, "plan", "h")
	for _, word := range []string{"take in kelp_farms", "cargo/kelp_farms (the mod kelp_farms): comes, 3 files", "> berth a", "> berth kelp_farms"} {
		insist.Holds(t, "the plan", out, word)
	}
	h.do(0, "apply", "h")
	if p := h.prove(0); p.outcomes() != "a confirmed, kelp_farms confirmed, b confirmed" {
		t.Errorf("outcomes are %s", p.outcomes())
	}
}

// TestBackupAndRestore loses a world and gets it back.
func TestBackupAndRestore(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\nstore\n")
	h.prove(0)
	state := filepath.Join(h.dir, "stores/a/state.txt")
	write(t, state, "years of work")
	out := h.do(0, "backup", "h", "--because", "before the storm")
	insist.Holds(t, "backup", out, "read again")
	write(t, state, "ruined")
	write(t, filepath.Join(h.dir, "stores/wreck/x"), "x")
	insist.Holds(t, "the list", h.do(0, "backup", "h", "--list"), "before the storm")
	h.do(0, "restore", "h")
	insist.Same(t, "the world", contents(t, state), "years of work")
	if _, err := os.Stat(filepath.Join(h.dir, "stores/wreck")); err == nil {
		t.Error("what came after the backup is still there")
	}
	h.do(0, "undo", "h")
	insist.Same(t, "taken back the world", contents(t, state)+contents(t, filepath.Join(h.dir, "stores/wreck/x")), "ruinedx")
	// A world that was empty is empty again.
	insist.OK(t, os.RemoveAll(filepath.Join(h.dir, "stores")))
	insist.OK(t, os.Mkdir(filepath.Join(h.dir, "stores"), 0o755))
	h.do(0, "backup", "h")
	write(t, state, "ruined")
	h.do(0, "restore", "h")
	if got := below(t, filepath.Join(h.dir, "stores")); strings.Count(got, "\n") != 1 {
		t.Errorf("an empty world holds\n%s", got)
	}
	h.do(0, "undo", "h")
	// A backup that was damaged is not restored.
	files := within(h.home, "servers/h/backups/*.zst")
	data := contents(t, files[0])
	write(t, files[0], data[:len(data)/2]+"rubbish")
	if r := h.try("restore", "h", "1"); r.status != 3 || !strings.Contains(contents(t, state), "ruined") {
		t.Errorf("a damaged backup: %d %s", r.status, r.err)
	}
	insist.Holds(t, "one that is not there", h.try("backup", "h", "--drop", "9").err, "no backup 9")
	h.do(0, "backup", "h", "--drop", "1")
	insist.Holds(t, "one is left", h.do(0, "backup", "h", "--list"), "   2  ", "1 backup, ")
	insist.Holds(t, "no more than some", h.do(0, "backup", "h", "--keep", "2")+h.do(0, "backup", "h", "--keep", "2"), "1 older one is taken away")
	said := h.do(0, "backup", "h", "--list")
	insist.That(t, strings.Contains(said, "   3  ") && strings.Contains(said, "   4  ") && !strings.Contains(said, "   2  ") && len(within(h.home, "servers/h/backups/*.zst")) == 2, "kept are\n%s", said)
	insist.Holds(t, "nothing is kept", h.try("backup", "h", "--keep", "-1").err, "at least 1")
}

// TestRestoreByAnotherUser: who is not root cannot give files back to others, and is told so
// before he restores.
func TestRestoreByAnotherUser(t *testing.T) {
	needs(t, "setpriv")
	if os.Getuid() != 0 {
		lack.Of(t, "root")
	}
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "")
	state, mine := filepath.Join(h.dir, "stores/a/state.txt"), filepath.Join(h.dir, "stores/a/mine.txt")
	write(t, state, "years of work")
	write(t, mine, "x")
	insist.OK(t, filepath.WalkDir(filepath.Dir(h.home), func(path string, _ fs.DirEntry, err error) error {
		if path == state {
			return err
		}
		return errors.Join(err, os.Lchown(path, 65534, 65534))
	}))
	insist.OK(t, os.Chmod(filepath.Dir(filepath.Dir(h.home)), 0o755)) // its way there
	insist.OK(t, os.Chmod(filepath.Dir(program), 0o755))
	as := func(args ...string) string {
		cmd := exec.Command("setpriv", append([]string{"--reuid=65534", "--regid=65534", "--clear-groups", program}, args...)...)
		cmd.Env = h.env
		out, err := cmd.CombinedOutput()
		insist.Need(t, err == nil, "%q: %v\n%s", args, err, out)
		return string(out)
	}
	as("backup", "h")
	insist.OK(t, os.WriteFile(mine, []byte("y"), 0o644))
	as("restore", "h", "--stage")
	insist.Holds(t, "the plan", as("plan", "h"), "becomes yours", "files and folders of other users in the backup: 1;")
	as("apply", "h")
	if info, err := os.Stat(state); err != nil || info.Sys().(*syscall.Stat_t).Uid != 65534 || contents(t, mine) != "x" {
		t.Errorf("%v, %v", info, err)
	}
	write(t, mine, "y")
	h.do(0, "restore", "h", "1", "--stage")
	insist.Lacks(t, "to root the plan", h.do(0, "plan", "h"), "becomes yours")
}

// TestOtherFamily tells for whom a mod is that was brought to the wrong server.
func TestOtherFamily(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	source := filepath.Join(filepath.Dir(h.home), "x.zip")
	write(t, source, string(zipped(t, map[string]string{"fen/lantern.json": `{"id": "fen"}`})))
	if r := h.try("take", "h", source); r.status != 1 || !strings.Contains(r.err, "Lantern Moor") {
		t.Errorf("%d %s", r.status, r.err)
	}
	write(t, source, "rubbish")
	if r := h.try("look", source); r.status != 1 || !strings.Contains(r.out, "no dialect") {
		t.Errorf("%d %s%s", r.status, r.out, r.err)
	}
}

// TestCleanRecord knows the server's own files.
func TestCleanRecord(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	write(t, filepath.Join(h.dir, "harbour/pier.dat"), "pier")
	h.do(0, "baseline", "h")
	source := filepath.Join(filepath.Dir(h.home), "kelp.zip")
	write(t, source, string(zipped(t, kelp("kelp_farms/", "harbour/pier.dat=other"))))
	if r := h.try("take", "h", source); r.status != 1 || !strings.Contains(r.err, "one of the server's own") {
		t.Errorf("%d %s", r.status, r.err)
	}
	other := filepath.Join(filepath.Dir(h.home), "other.zip")
	write(t, other, string(zipped(t, map[string]string{"squid_boat/bill.toml": "name = 'squid_boat'", "outer.chart": "1"})))
	third := filepath.Join(filepath.Dir(h.home), "third.zip")
	write(t, third, string(zipped(t, map[string]string{"crab_pots/bill.toml": "name = 'crab_pots'", "outer.chart": "2"})))
	var looked struct {
		Sources []struct{ Source string }
		Shared  []struct {
			Path string
			Mods []string
		}
	}
	h.json(0, &looked, "look", other, third, "--server", "h", "--json")
	insist.That(t, len(looked.Sources) == 2 && len(looked.Shared) == 1 && looked.Shared[0].Path == filepath.Join(h.dir, "charts/outer.chart") && len(looked.Shared[0].Mods) == 2, "looked into two: %+v", looked)
	if r := h.try("take", "h", other, third); r.status != 1 || !strings.Contains(r.err, "charts/outer.chart") {
		t.Errorf("two that share a file: %d %s", r.status, r.err)
	}
	h.do(0, "take", "h", source, "--take", "harbour/pier.dat")
	insist.Holds(t, "changed", h.do(0, "baseline", "h", "--changed"), "harbour/pier.dat")
	h.do(0, "undo", "h")
	insist.Same(t, "taken back it", contents(t, filepath.Join(h.dir, "harbour/pier.dat")), "pier")
}

// TestCategoriesAndParts takes a category in as a whole, with the order that came
// along, and of several mods only some.
func TestCategoriesAndParts(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	base := filepath.Dir(h.home)
	category := filepath.Join(base, "nets.zip")
	write(t, category, string(zipped(t, map[string]string{"pack/+nets/gill/bill.toml": "name = 'gill'", "pack/+nets/gill/deck.script": "haul 1\n",
		"pack/+nets/trawl/bill.toml": "name = 'trawl'\nwaits_for = ['gill']", "pack/+nets/trawl/deck.script": "haul 1\n"})))
	h.do(0, "take", "h", category)
	if got := contents(t, h.script()); !strings.HasSuffix(got, "berth a\nberth +nets\n") {
		t.Errorf("the startup script is\n%s", got)
	}
	if p := h.prove(0); p.outcomes() != "a confirmed, gill confirmed, trawl confirmed" {
		t.Errorf("outcomes are %s", p.outcomes())
	}
	several := filepath.Join(base, "several.tar.gz")
	files := map[string]string{"harbour.start": "berth zeta\nberth eta\nberth theta\n"}
	for _, name := range []string{"eta", "theta", "zeta"} {
		files[name+"/bill.toml"], files[name+"/deck.script"] = "name = '"+name+"'", "haul 1\n"
	}
	write(t, several, string(tarred(t, files)))
	h.do(0, "take", "h", several, "--only", "eta,zeta")
	if got := contents(t, h.script()); !strings.HasSuffix(got, "berth +nets\nberth zeta\nberth eta\n") {
		t.Errorf("the startup script is\n%s", got)
	}
	if _, err := os.Stat(filepath.Join(h.dir, "cargo/theta")); err == nil {
		t.Error("a mod that was left out is there")
	}
	insist.Holds(t, "rules", h.do(0, "rule", "h"), "eta loads after zeta")
}

// A mod is put into a category folder that is there, or a new one: one line names the category, and a mod that its
// category brings is not registered a second time.
func TestIntoACategory(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\nberth +marks\n")
	h.cargo("a", "", "haul 1\n")
	write(t, filepath.Join(h.dir, "cargo/+marks/buoy/bill.toml"), "name = \"buoy\"\n")
	write(t, filepath.Join(h.dir, "cargo/+marks/buoy/deck.script"), "haul 1\n")
	script := contents(t, h.script())
	pack := func(name string) string {
		return archived(t, name+".zip", map[string]string{name + "/bill.toml": "name = \"" + name + "\"\n", name + "/deck.script": "haul 1\n"})
	}
	before := below(t, h.dir)
	h.do(0, "take", "h", pack("beacon"), "--into", "cargo/+marks")
	insist.That(t, exists(filepath.Join(h.dir, "cargo/+marks/beacon/bill.toml")), "it is not there")
	insist.Same(t, "its category names it", contents(t, h.script()), script)
	h.do(0, "take", "h", pack("lamp"), "--into", "+lights")
	h.do(0, "take", "h", pack("lantern"), "--into", filepath.Join(h.dir, "cargo/+lights"))
	insist.Same(t, "one line for a new category", contents(t, h.script()), script+"berth +lights\n")
	h.do(0, "take", "h", pack("plain"), "--into", "cargo")
	var p proofJSON
	h.json(0, &p, "prove", "h", "--json")
	insist.Same(t, "outcomes", p.outcomes(), "a confirmed, beacon confirmed, buoy confirmed, lamp confirmed, lantern confirmed, plain confirmed")
	for _, into := range []string{"nowhere", "cargo/deep/+marks", "+", "+No Such", "cargo/a"} {
		insist.Holds(t, into, h.try("take", "h", pack("other"), "--into", into).err, "is no place that other could be put into; there is cargo, cargo/+", "cargo/+lights")
	}
	h.do(0, "undo", "h", "0")
	insist.OK(t, os.RemoveAll(filepath.Join(h.dir, "stores")))
	insist.Same(t, "taken back", below(t, h.dir), before)
}

// A mod that is there is moved between categories with all its files and rights, and what registers it stands where
// that did before.
func TestMovedBetweenCategories(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\nberth +marks\nberth b\nberth c\n")
	for _, name := range []string{"a", "b", "c", "+marks/buoy", "+marks/beacon"} {
		h.cargo(name, "", "haul 1\n")
	}
	insist.OK(t, os.Symlink("deck.script", filepath.Join(h.dir, "cargo/+marks/buoy/again")))
	insist.OK(t, os.Chmod(filepath.Join(h.dir, "cargo/+marks/buoy/bill.toml"), 0o640))
	top, before := strings.TrimSuffix(contents(t, h.script()), "berth a\nberth +marks\nberth b\nberth c\n"), stands(t, h.dir)
	is := func(what, want string) {
		t.Helper()
		insist.Same(t, what, strings.TrimPrefix(contents(t, h.script()), top), want)
	}
	h.do(0, "move", "h", "buoy", "--into", "+lights")
	is("a new category beside", "berth a\nberth +marks\nberth +lights\nberth b\nberth c\n")
	info, err := os.Stat(filepath.Join(h.dir, "cargo/+lights/buoy/bill.toml"))
	insist.That(t, err == nil && info.Mode().Perm() == 0o640, "%v, %v", info, err)
	insist.That(t, !exists(filepath.Join(h.dir, "cargo/+marks/buoy")), "it is there twice")
	h.do(0, "move", "h", "beacon", "--into", "cargo/+lights")
	is("the last of its category", "berth a\nberth +lights\nberth b\nberth c\n")
	h.do(0, "move", "h", "b", "--into", "+lights")
	is("one of a category that is there", "berth a\nberth +lights\nberth c\n")
	h.do(0, "move", "h", "c", "--into", "+far")
	is("a new category in its place", "berth a\nberth +lights\nberth +far\n")
	h.do(0, "move", "h", "buoy", "--into", "cargo")
	is("out of one", "berth a\nberth +lights\nberth buoy\nberth +far\n")
	var p proofJSON
	h.json(0, &p, "prove", "h", "--json")
	insist.Same(t, "outcomes", p.outcomes(), "a confirmed, b confirmed, beacon confirmed, buoy confirmed, c confirmed")
	h.do(0, "off", "h", "a")
	for into, want := range map[string]string{"+lights": "is switched off", "nowhere": "is no place that a could be put into; there is cargo", "cargo": "stands there already"} {
		insist.Holds(t, into, h.try("move", "h", "a", "--into", into).err, want)
	}
	insist.Holds(t, "both", h.try("move", "h", "a", "--into", "+x", "--before", "b").err, "its line stays where it is")
	insist.Holds(t, "none of that name", h.try("move", "h", "kelp", "--into", "+x").err, "kelp")
	write(t, h.script(), contents(t, h.script())+"berth ghost\n")
	insist.Holds(t, "without files", h.try("move", "h", "ghost", "--into", "+x").err, "its files are not there")
	write(t, h.script(), strings.TrimSuffix(contents(t, h.script()), "berth ghost\n"))
	h.do(0, "undo", "h", "0")
	insist.OK(t, os.RemoveAll(filepath.Join(h.dir, "stores")))
	same(t, "taken back", stands(t, h.dir), before)
}

// On the screen a mod is put into a category and a section as it is taken in, and into another folder later; a section
// in which no mod stands is seen.
func TestCategoryAndSectionOnTheScreen(t *testing.T) {
	needs(t, "tmux")
	t.Parallel()
	h := newHarbour(t, "# ~~ Lights ~~\nberth +marks\n# ~~ Far ~~\n# ~~ Last ~~\nberth a\n")
	h.cargo("a", "", "haul 1\n")
	h.cargo("+marks/buoy", "", "haul 1\n")
	came := archived(t, "kelp.zip", map[string]string{"kelp/bill.toml": "name = \"kelp\"\n", "kelp/deck.script": "haul 1\n"})
	x := open(t, 120, 36, h.env, "h")
	x.sees("Lights", "Far", "no mod stands in it", "Last")
	x.keys("i")
	x.sees("Take in (an archive, a folder or a file):")
	x.pastes(came)
	x.sees("kelp.zip▏")
	x.keys("Enter")
	x.sees("cargo/kelp", "I folder", "h section")
	x.keys("h")
	x.sees("Into the section", "Lights▏")
	x.keys("Down")
	x.sees("Far▏")
	x.keys("Enter")
	x.sees("section", "Far", "Enter the plan")
	x.keys("I")
	x.sees("Put into", "cargo▏")
	x.keys("C-u")
	x.keys("+nets", "Enter")
	x.sees("cargo/+nets/kelp")
	x.keys("z")
	x.sees("every other mod that it does not need")
	x.keys("z")
	x.sees("berth +nets")
	x.keys("Enter")
	x.sees("berth +nets", "Enter write it")
	x.keys("Enter")
	x.sees("Done", "kelp")
	insist.Holds(t, "the script", contents(t, h.script()), "# ~~ Far ~~\nberth +nets\n# ~~ Last ~~\n")
	eventually(t, "the section is not empty", func() bool { return !strings.Contains(x.picture(), "no mod stands in it") })
	x.keys("/")
	x.sees("Find:")
	x.keys("buoy", "Enter")
	x.sees("▌ ", "buoy")
	x.keys("I")
	x.sees("Put buoy into", "cargo/+marks▏")
	x.keys("Down")
	x.sees("cargo/+nets▏")
	x.keys("Enter")
	x.sees("put into cargo/+nets")
	x.keys("p")
	x.sees("cargo/+nets/buoy", "Enter write it")
	x.keys("Enter")
	x.sees("Done: put buoy into cargo/+nets")
	insist.Holds(t, "the script", contents(t, h.script()), "# ~~ Lights ~~\n# ~~ Far ~~\nberth +nets\n")
	x.sees("Lights", "no mod stands in it")
}

// What wants the server for itself: all other mods are switched off with it, its map is chosen, and one undo brings the
// old line-up back.
func TestTakenAlone(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\nberth +marks\n# berth off\nberth b\n")
	for _, name := range []string{"a", "b", "off", "+marks/buoy", "+marks/beacon"} {
		h.cargo(name, "", "haul 1\n")
	}
	before := stands(t, h.dir)
	bundle := archived(t, "regatta.zip", map[string]string{"regatta/harbour.start": "let title \"Regatta\"\nberth sails\nberth course\n",
		"regatta/sails/bill.toml": "name = 'sails'\nwaits_for = ['b']\n", "regatta/sails/deck.script": "haul 1\n", "regatta/course/bill.toml": "name = 'course'\n", "regatta/course/deck.script": "haul 1\n"})
	said := h.do(0, "take", "h", bundle, "--alone")
	insist.Holds(t, "owed", said, "left to you: regatta/harbour.start, a startup file that came along")
	var p proofJSON
	h.json(0, &p, "prove", "h", "--json")
	insist.Same(t, "outcomes", p.outcomes(), "b confirmed, sails confirmed, course confirmed")
	h.do(0, "undo", "h")
	insist.OK(t, os.RemoveAll(filepath.Join(h.dir, "stores")))
	same(t, "taken back", stands(t, h.dir), before)
	needy := archived(t, "needy.zip", map[string]string{"needy/bill.toml": "name = 'needy'\nwaits_for = ['buoy']\n", "needy/deck.script": "haul 1\n"})
	insist.Holds(t, "in a category that it needs", h.do(0, "take", "h", needy, "--alone"), "left to you: beacon, it loads beside what was to be alone, in the category +marks with what that needs")
	h.json(0, &p, "prove", "h", "--json")
	insist.Same(t, "outcomes", p.outcomes(), "beacon confirmed, buoy confirmed, needy confirmed")
	h.do(0, "undo", "h")
	insist.OK(t, os.RemoveAll(filepath.Join(h.dir, "stores")))
	insist.Holds(t, "in one category", h.try("take", "h", bundle, "--alone", "--into", "+marks").err, "is in the category +marks with what comes")
	same(t, "nothing was written", stands(t, h.dir), before)

	o, dir := family(t, "nine-orchards", "27640")
	ini := filepath.Join(dir, "orchard.ini")
	was := contents(t, ini)
	fair := archived(t, "fair.zip", map[string]string{"fair/maps/meadow.map": "m", "fair/grove/stalls/graft.txt": "title = Stalls\nnumber = 77\n"})
	o.do(0, "take", "nine-orchards", fair, "--alone")
	insist.Holds(t, "its map", contents(t, ini), "meadow", "stalls")
	insist.Lacks(t, "all others are off", contents(t, ini), "bee_roads")
	o.json(0, &p, "prove", "nine-orchards", "--json")
	insist.Same(t, "outcomes", p.outcomes(), "stalls confirmed")
	o.do(0, "undo", "nine-orchards")
	insist.Same(t, "taken back", contents(t, ini), was)
	two := archived(t, "two.zip", map[string]string{"two/maps/meadow.map": "m", "two/maps/brook.map": "m", "two/grove/stalls/graft.txt": "title = Stalls\nnumber = 77\n"})
	insist.Holds(t, "which of two", o.do(0, "take", "nine-orchards", two, "--alone"), "left to you: country/map, which of the maps is played on that came: brook, meadow")
}
