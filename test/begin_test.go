package test

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// archived is an archive of files in a scratch folder.
func archived(t *testing.T, name string, files map[string]string) string {
	t.Helper()
	full := filepath.Join(t.TempDir(), name)
	insist.OK(t, os.WriteFile(full, zipped(t, files), 0o644))
	return full
}

// From an empty folder to the first proved start of every family that ships with a stand-in or can be run here, and on
// to the first mod.
func TestFromNothing(t *testing.T) {
	t.Parallel()
	ride := string(zipped(t, map[string]string{"ride.yaml": "name: swing\nrelease: 1.0\nloader: crank\nwind: 1\n"}))
	for family, c := range map[string]struct {
		needs string
		from  map[string]map[string]string // archives, by their names
		set   []string
		owes  string // before its first start
		says  []string
		mod   []string // the first one: what is done for it
		named string
	}{
		"harrow-sound": {owes: "licence still has the value of the template", says: []string{"set", "new", "licence", "HS-1", "--in", "harbour.start"}, set: []string{"title=Evening sound"},
			mod: []string{"take", "new", archived(t, "kelp.zip", map[string]string{"kelp_farms/bill.toml": "name = \"kelp_farms\"\n", "kelp_farms/deck.script": "haul 1\n"})}, named: "kelp_farms"},
		"lantern-moor":  {mod: []string{"take", "new", archived(t, "x.zip", map[string]string{"glow/lantern.json": `{"id": "glow", "release": "1"}`})}, named: "glow"},
		"cogwheel-fair": {from: map[string]map[string]string{"engine-4.zip": {"engine-4/VERSION": "4\n", "engine-4/cogs": "c", "readme.txt": "r"}, "rides.zip": {"rides/swing.ride": ride}}, named: "swing"},
		"nine-orchards": {from: map[string]map[string]string{"maps.zip": {"maps/hill.map": "h"}}, owes: "country/map still has the value of the template", says: []string{"set", "new", "country/map", "hill", "--in", "orchard.ini"},
			mod: []string{"take", "new", archived(t, "y.zip", map[string]string{"plum/graft.txt": "title = Plum\nnumber = 12\nrelease = 1\n"})}, named: "plum"},
		"bzflag":   {needs: "/usr/games/bzfs", set: []string{"address=127.0.0.1"}, mod: []string{"register", "new", "HoldTheFlag"}, named: "HoldTheFlag"},
		"minetest": {needs: minetestServer, mod: []string{"register", "new", "basic_materials"}, named: "basic_materials"},
	} {
		t.Run(family, func(t *testing.T) {
			t.Parallel()
			if c.needs != "" {
				needs(t, c.needs)
			}
			o := newOperator(t)
			dir := filepath.Join(t.TempDir(), "a new one")
			port := freePort(t)
			args := []string{"new", dir, "--dialect", family, "--as", "new", "--set", "port=" + port}
			for _, name := range sortedKeys(c.from) {
				args = append(args, "--from", archived(t, name, c.from[name]))
			}
			for _, s := range c.set {
				args = append(args, "--set", s)
			}
			shown := o.do(0, append(args, "--show")...)
			insist.That(t, !exists(dir), "it was only to be shown")
			said := o.do(0, args...)
			insist.Same(t, "as it was shown", strings.Replace(said, "made new", "would make new", 1), shown)
			if c.owes == "" {
				insist.Holds(t, "what is owed", said, "nothing stands in the way of its first start")
			} else {
				insist.Holds(t, "what is owed", said, "before the first start:", c.owes)
				insist.Holds(t, "what comes of it", o.try("prove", "new").out, "not proved", "no mod is to blame")
				o.do(0, c.says...)
			}
			if strings.Contains(contents(t, "../dialects/"+family+".toml"), `"pace"`) {
				o.do(0, "give", "new", "pace=0.01")
			}
			p := &proofJSON{}
			o.json(0, p, "prove", "new", "--json")
			if c.mod != nil {
				insist.Same(t, "a clean start", p.outcomes(), "")
				insist.Holds(t, "its ledger", o.do(0, "ledger", "new"), "proved")
				o.do(0, c.mod...)
				o.json(0, p, "prove", "new", "--json")
				insist.Holds(t, "beside the base", o.do(1, "compare", "new", "--base"), c.named)
			} else {
				insist.Holds(t, "no base", o.try("compare", "new", "--base").err, "never started without any mod")
			}
			insist.Same(t, "with a mod", p.outcomes(), c.named+" confirmed")
			if c.needs != "" {
				return // it writes files of its own
			}
			o.do(0, "undo", "new", "0")
			left := 0
			insist.OK(t, filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
				if err == nil && !e.IsDir() && filepath.Base(name) != "state.txt" {
					left++
				}
				return err
			}))
			insist.That(t, left == 0, "%d files are left: %s", left, below(t, dir))
		})
	}
}

// A bundle brings all at once: data, many mods, a startup file with placeholders, a script for the database.
func TestFromABundle(t *testing.T) {
	t.Parallel()
	o := newOperator(t)
	files := map[string]string{"country/maps/hill.map": "h", "country/tables.sql": "CREATE TABLE bees (name TEXT);\n", "country/readme.txt": "Set the map.\n"}
	for i := range 40 {
		files[fmt.Sprintf("country/grove/tree_%02d/graft.txt", i)] = fmt.Sprintf("title = Tree %d\nnumber = %d\nrelease = 1\n", i, 100+i)
	}
	dir := filepath.Join(t.TempDir(), "country")
	said := o.do(0, "new", dir, "--dialect", "nine-orchards", "--set", "port="+freePort(t), "--set", "country/title=All of it", "--from", archived(t, "country-2.0.zip", files))
	insist.Holds(t, "what is owed", said, "country/map still has the value of the template", "tables.sql")
	insist.Holds(t, "its file", contents(t, filepath.Join(dir, "orchard.ini")), "title=All of it", "tree_00,tree_01")
	o.do(0, "set", "country", "country/map", "hill", "--in", "orchard.ini")
	o.do(0, "give", "country", "pace=0.01")
	p := &proofJSON{}
	o.json(0, p, "prove", "country", "--json")
	insist.That(t, len(p.Mods) == 40, "%s", p.outcomes())
}

func TestNothingToBeginWith(t *testing.T) {
	t.Parallel()
	o := newOperator(t)
	full := t.TempDir()
	write(t, filepath.Join(full, "x"), "x")
	dir := filepath.Join(t.TempDir(), "new")
	for what, c := range map[string]struct {
		args []string
		says string
	}{
		"a folder with something in it": {[]string{full, "--dialect", "harrow-sound"}, "there is something in"},
		"no family":                     {[]string{dir}, "--dialect"},
		"an unknown family":             {[]string{dir, "--dialect", "nowhere"}, "nowhere"},
		"nothing in a source":           {[]string{dir, "--dialect", "cogwheel-fair", "--from", archived(t, "x.zip", map[string]string{"x": "x"})}, "nothing in x.zip is a mod for Cogwheel Fair"},
		"no such source":                {[]string{dir, "--dialect", "cogwheel-fair", "--from", "/nowhere"}, "/nowhere"},
		"a value that there is not":     {[]string{dir, "--dialect", "harrow-sound", "--set", "colour=red"}, `takes no value "colour"`},
		"a port that is none":           {[]string{dir, "--dialect", "harrow-sound", "--set", "port=high"}, "port"},
		"no name for it":                {[]string{dir, "--dialect", "harrow-sound", "--as", "../x"}, "--as"},
	} {
		got := o.try(append([]string{"new"}, c.args...)...)
		insist.That(t, got.status != 0 && strings.Contains(got.err, c.says), "%s: %d, %s", what, got.status, got.err)
		insist.That(t, !exists(dir), "%s: something was made", what)
	}
	o.do(0, "new", dir, "--dialect", "harrow-sound")
	insist.Holds(t, "a second of that name", o.try("new", filepath.Join(t.TempDir(), "new"), "--dialect", "harrow-sound").err, "is taken by another server")
	second := filepath.Join(t.TempDir(), "second")
	o.do(0, "new", second, "--dialect", "harrow-sound")
	insist.Lacks(t, "its port", contents(t, filepath.Join(second, "harbour.start")), "27310")
	third := filepath.Join(t.TempDir(), "third")
	o.do(0, "new", third, "--dialect", "lantern-moor")
	insist.Holds(t, "its script", contents(t, filepath.Join(third, "moor.sh")), `exec "${MOOR:-initium}"`)
}

// A server is begun, started and proved on the screen, and its world begun anew by two keys.
func TestFromNothingOnTheScreen(t *testing.T) {
	needs(t, "tmux")
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "moor")
	x := open(t, 110, 34, []string{"INITIUM_HOME=" + t.TempDir()})
	x.sees("No server is adopted yet.", "a new one is begun")
	x.keys("a")
	x.sees("Folder of the server, there or to be made:")
	x.pastes(dir)
	x.sees("/moor▏")
	x.keys("Enter")
	x.sees("Begin a server", "← → another family", "family        bzflag")
	for _, family := range []string{"cogwheel-fair", "harrow-sound", "lantern-moor"} {
		x.keys("Right")
		x.sees("family        " + family)
	}
	x.sees("moor.sh", "◆ nothing stands in the way of its first start")
	port := freePort(t)
	x.keys("End", "Up", "Up")
	x.sees("▌ port")
	x.keys("Enter")
	x.sees("port (nothing: as it is at first):")
	x.keys("C-u", port, "Enter")
	x.sees("port          "+port, "given")
	x.keys("End")
	x.sees("▌ Make it")
	x.keys("Enter")
	x.sees("never started", "s start and prove")
	insist.That(t, exists(filepath.Join(dir, "moor.sh")), "it was not made")
	write(t, filepath.Join(dir, "embers/peat/x"), "players'")
	x.keys("s")
	x.sees("proved", "X stop")
	x.keys("X")
	x.sees("s start again")
	x.keys("Escape")
	x.sees("s start and prove")
	x.keys("W")
	x.sees("Plan  begin the world anew", "embers", "goes")
	x.keys("Enter")
	x.sees("Done: begin the world anew")
	insist.That(t, !exists(filepath.Join(dir, "embers")), "the world is still there")
	x.keys("u")
	x.sees("Enter write it")
	x.keys("Enter")
	x.sees("Done")
	insist.Same(t, "the world", contents(t, filepath.Join(dir, "embers/peat/x")), "players'")
}

// An icon has an exact size; a picture of another one is brought to it, when that is asked for.
func TestIconIsScaled(t *testing.T) {
	t.Parallel()
	o, dir := newMill(t)
	file := filepath.Join(t.TempDir(), "mill.toml")
	write(t, file, strings.Replace(millDialect, `name = "mill"`, `name = "mill-3"`, 1)+"[[icon]]\nfile = \"{dir}/mill.png\"\nwidth = 64\nheight = 32\n")
	o.do(0, "dialect", "add", file)
	o.do(0, "adopt", dir, "--as", "three", "--dialect", "mill-3")
	picture := image.NewNRGBA(image.Rect(0, 0, 200, 100))
	for x := range 200 {
		for y := range 100 {
			picture.Set(x, y, color.NRGBA{uint8(x), 0, 200, 255})
		}
	}
	var data bytes.Buffer
	insist.OK(t, png.Encode(&data, picture))
	came := filepath.Join(t.TempDir(), "logo.png")
	write(t, came, data.String())
	o.do(0, "put", "three", "mill.png", "--with", came)
	insist.Holds(t, "as it came", o.try("check", "three").out, "200")
	o.do(0, "put", "three", "mill.png", "--with", came, "--scale")
	insist.Lacks(t, "scaled", o.try("check", "three").out, "mill.png")
	scaled, err := png.Decode(strings.NewReader(contents(t, filepath.Join(dir, "mill.png"))))
	insist.OK(t, err)
	insist.Same(t, "its size", scaled.Bounds().String(), "(0,0)-(64,32)")
	left, _, blue, alpha := scaled.At(2, 16).RGBA()
	right, _, _, _ := scaled.At(61, 16).RGBA()
	insist.That(t, left>>8 < 20 && right>>8 > 180 && blue>>8 == 200 && alpha>>8 == 255, "its colours are %d %d %d %d", left>>8, right>>8, blue>>8, alpha>>8)
	o.do(0, "undo", "three")
	insist.Same(t, "taken back", contents(t, filepath.Join(dir, "mill.png")), data.String())
	insist.Holds(t, "no icon", o.try("put", "three", "other.png", "--with", came, "--scale").err, "knows of no icon other.png")
	write(t, came, "no picture")
	insist.Holds(t, "no picture", o.try("put", "three", "mill.png", "--with", came, "--scale").err, "it is no PNG, JPEG or GIF")
	insist.Holds(t, "a block of a picture", o.try("put", "three", "mill.png", "--with", came, "--scale", "--block", "x {").err, "--scale is about a picture")
}

// The script that is written starts the server as Initium does, wherever its folder is put; a secret is not in it.
func TestStartScriptIsWritten(t *testing.T) {
	t.Parallel()
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "a gate")
	write(t, filepath.Join(dir, "list"), "use oak\n")
	write(t, filepath.Join(dir, "mods/oak/x"), "")
	executable(t, filepath.Join(dir, "run.sh"), "#!/bin/sh\necho \"given $* in $(basename \"$PWD\")\"\n")
	family := strings.NewReplacer("TERMINAL\n", "", "tag", "password").Replace(gate)
	write(t, filepath.Join(o.home, "dialects/gate.toml"), strings.Replace(family, "[start]\n", "[start]\ndirectory = \"{dir}\"\n", 1))
	o.do(0, "adopt", dir, "--as", "gate", "--dialect", "gate", "--set", "password=s3cret word")
	file := filepath.Join(dir, "start.sh")
	o.do(0, "export", "script", "gate", "--file", file)
	insist.Lacks(t, "the script", contents(t, file), "s3cret", dir)
	insist.Holds(t, "a batch file", o.do(0, "export", "script", "gate", "--batch"), "@echo off\r\n", "%PASSWORD%", "cd /d \"")
	moved := filepath.Join(filepath.Dir(dir), "moved")
	insist.OK(t, os.Rename(dir, moved))
	cmd := exec.Command(filepath.Join(moved, "start.sh"))
	cmd.Env = append(os.Environ(), "PASSWORD=s3cret word")
	out, err := cmd.CombinedOutput()
	insist.That(t, err == nil && string(out) == "given always --password s3cret word in moved\n", "%v: %s", err, out)
	cmd = exec.Command(filepath.Join(moved, "start.sh"))
	out, err = cmd.CombinedOutput()
	insist.That(t, err != nil && strings.Contains(string(out), "is a secret, and not written down here"), "%v: %s", err, out)
	insist.Holds(t, "a folder that is not there", o.try("export", "script", "gate").err, "is not there")
}

// goesTo moves down to the row that begins with a word.
func (x *terminal) goesTo(word string) {
	x.t.Helper()
	x.keys("Home")
	x.sees("▌ name")
	for range 60 {
		was := selectedRow(x.picture())
		if strings.HasPrefix(was, word) {
			return
		}
		x.keys("Down")
		eventually(x.t, "another row than "+was, func() bool { return selectedRow(x.picture()) != was })
	}
	x.t.Fatalf("no row begins with %q:\n%s", word, x.picture())
}

func selectedRow(picture string) string {
	for line := range strings.Lines(picture) {
		if rest, ok := strings.CutPrefix(line, "▌ "); ok {
			return strings.TrimSpace(rest)
		}
	}
	return ""
}

// Every family's server is begun, started and proved on the screen alone.
func TestEveryFamilyFromNothingOnTheScreen(t *testing.T) {
	needs(t, "tmux")
	t.Parallel()
	for family, c := range map[string]struct {
		needs string
		from  map[string]string
		set   [][2]string
	}{
		"harrow-sound":  {set: [][2]string{{"licence", "HS-1"}, {"pace", "0.01"}}},
		"cogwheel-fair": {from: map[string]string{"engine-4/VERSION": "4\n"}, set: [][2]string{{"pace", "0.01"}}},
		"nine-orchards": {from: map[string]string{"maps/hill.map": "h"}, set: [][2]string{{"country/map", "hill"}, {"pace", "0.01"}}},
		"bzflag":        {needs: "/usr/games/bzfs", set: [][2]string{{"address", "127.0.0.1"}}},
		"minetest":      {needs: minetestServer},
	} {
		t.Run(family, func(t *testing.T) {
			t.Parallel()
			if c.needs != "" {
				needs(t, c.needs)
			}
			dir := filepath.Join(t.TempDir(), "fresh")
			x := open(t, 120, 40, []string{"INITIUM_HOME=" + t.TempDir()})
			typed := func(prompt, text string) {
				t.Helper()
				x.keys("Enter")
				x.sees(prompt)
				x.pastes(text)
				eventually(t, "it is typed", func() bool {
					p := x.picture()
					return strings.Contains(p, filepath.Base(text)+"▏") || strings.Contains(p, strings.Repeat("•", len(text))+"▏")
				})
				x.keys("Enter")
			}
			x.sees("No server is adopted yet.")
			x.keys("a")
			x.sees("Folder of the server, there or to be made:")
			x.pastes(dir)
			x.sees("/fresh▏")
			x.keys("Enter")
			x.sees("Begin a server", "family        bzflag")
			for !strings.Contains(x.picture(), "family        "+family) {
				was := selectedRow(x.picture())
				x.keys("Right")
				eventually(t, "another family than "+was, func() bool { return selectedRow(x.picture()) != was })
			}
			x.sees("Make it")
			if c.from != nil {
				source := archived(t, "brought.zip", c.from)
				x.goesTo("Bring an archive")
				typed("Bring an archive or a folder:", source)
				x.sees("from          ", "brought.zip")
			}
			port := freePort(t)
			for _, set := range append(c.set, [2]string{"port", port}) {
				x.goesTo(set[0])
				typed(set[0]+" (nothing: as it is at first):", set[1])
				eventually(t, set[0]+" is given", func() bool {
					return strings.HasPrefix(selectedRow(x.picture()), set[0]) && strings.HasSuffix(selectedRow(x.picture()), "given")
				})
			}
			x.keys("End")
			x.sees("▌ Make it", "◆ nothing stands in the way of its first start")
			x.keys("Enter")
			x.sees("never started", "s start and prove")
			x.keys("s")
			x.sees("◆ proved")
			x.keys("X")
			x.sees("s start again")
		})
	}
}

// A loader that comes with a build is part of it; one that comes by itself is laid over what is there by then, whichever
// is named first.
func TestFromNothingWithALoader(t *testing.T) {
	t.Parallel()
	o := newOperator(t)
	family := filepath.Join(t.TempDir(), "mill.toml")
	millAlone := strings.Replace(strings.Replace(millDialect, `path  = ["{dir}"]`, `path  = ["{build}"]`, 1), `file    = "{dir}/grist/version"`, `file    = "{build}/grist/version"`, 1)
	write(t, family, millAlone)
	o.do(0, "dialect", "add", family)
	base := t.TempDir()
	build := map[string]string{"mill-2.0/mill": "#!/bin/sh\necho mill 2.0\n"}
	dir := filepath.Join(base, "one")
	said := o.do(0, "new", dir, "--dialect", "mill", "--as", "one", "--from", grist(t, "1.4", nil), "--from", archived(t, "mill-2.0.zip", build))
	insist.Holds(t, "laid", said, "then, over that: bring the grist of grist-1.4.zip")
	insist.Same(t, "over the build", contents(t, filepath.Join(dir, "builds/2.0/grist/version")), "1.4\n")
	insist.Holds(t, "told apart", o.do(0, "builds", "one", "--of", "grist"), "1.4", "used (laid over it)")
	o.do(0, "remove", "one", "grist", "--agree")
	insist.That(t, !exists(filepath.Join(dir, "builds/2.0/grist")), "it is still there")
	build["mill-2.0/grist/version"], build["mill-2.0/hopper"] = "2\n", "wide\n"
	dir = filepath.Join(base, "two")
	o.do(0, "new", dir, "--dialect", "mill", "--as", "two", "--from", archived(t, "mill-2.0.zip", build))
	insist.Holds(t, "part of it", o.do(0, "builds", "two", "--of", "grist"), "2  ", "used (found there)")
	insist.Holds(t, "over one of its own", o.try("new", filepath.Join(base, "three"), "--dialect", "mill", "--as", "three", "--from", grist(t, "1.4", nil), "--from", archived(t, "mill-2.0.zip", build)).err,
		"three is made; but to bring the grist of grist-1.4.zip needs an answer first: initium builds three --add")
}

// Where a loader is chosen by its name, that is said before the first start, and which mods are made for another is
// foretold as it comes.
func TestLoaderChosenByName(t *testing.T) {
	t.Parallel()
	o := newOperator(t)
	ride := string(zipped(t, map[string]string{"ride.yaml": "name: swing\nrelease: 1.0\nloader: crank\nwind: 1\n"}))
	dir := filepath.Join(t.TempDir(), "fair")
	said := o.do(0, "new", dir, "--dialect", "cogwheel-fair", "--as", "fair", "--set", "port="+freePort(t), "--set", "pace=0.01", "--set", "loader=ratchet",
		"--from", archived(t, "engine-4.zip", map[string]string{"engine-4/VERSION": "4\n"}), "--from", archived(t, "rides.zip", map[string]string{"rides/swing.ride": ride}))
	insist.Holds(t, "foretold", said, "it is made for the loader crank, and this is ratchet")
	p := &proofJSON{}
	o.json(1, p, "prove", "fair", "--json")
	insist.Same(t, "as foretold", p.outcomes(), "swing failed")
	o.do(0, "set", "fair", "loader", "crank")
	o.json(0, p, "prove", "fair", "--json")
	insist.Same(t, "with its own", p.outcomes(), "swing confirmed")
	o.do(0, "undo", "fair")
	insist.Holds(t, "taken back", contents(t, filepath.Join(dir, "fair.json")), "ratchet")
}
