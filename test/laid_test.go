package test

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// stands is all that is in a folder, with the rights.
func stands(t *testing.T, dir string) string {
	t.Helper()
	rights := ""
	insist.OK(t, filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err == nil && !info.IsDir() {
			rights += fmt.Sprintln(strings.TrimPrefix(name, dir), info.Mode())
		}
		return err
	}))
	return below(t, dir) + rights
}

// same compares how a folder stands with how it stood, and tells what is otherwise.
func same(t *testing.T, what, is, was string) {
	t.Helper()
	had := map[string]bool{}
	for _, l := range strings.Split(was, "\n") {
		had[l] = true
	}
	var other []string
	for _, l := range strings.Split(is, "\n") {
		if !had[l] {
			other = append(other, l)
		}
		delete(had, l)
	}
	insist.That(t, is == was, "%s: there is %.500q, and there was %.500q", what, other, sortedKeys(had))
}

// Files that a mod lays over the server's own go with it, and come back as they were: also in part, when a new release
// brings fewer, and in layers, when another mod has laid its own over them.
func TestLaidOver(t *testing.T) {
	t.Parallel()
	o := newOperator(t)
	dir := filepath.Join(t.TempDir(), "sound")
	insist.OK(t, os.CopyFS(dir, os.DirFS("../demo/harrow-sound")))
	write(t, filepath.Join(dir, "harbour/lights"), "the harbour's own")
	before := stands(t, dir)
	o.do(0, "adopt", dir, "--as", "sound")
	pack := func(name string, files map[string]string) string {
		full := filepath.Join(t.TempDir(), name)
		insist.OK(t, os.WriteFile(full, zipped(t, files), 0o644))
		return full
	}
	mod := func(name, release string, files map[string]string) string {
		files[name+"/bill.toml"] = fmt.Sprintf("name = %q\nrelease = %q\nwaits_for = []\n", name, release)
		files[name+"/deck.script"] = "haul 1\n"
		return pack(name+"-"+release+".zip", files)
	}
	first := mod("buoys", "1", map[string]string{"harbour/lights": "of buoys", "harbour/deep/marks": "m", "sea.chart": "a chart"})
	o.do(0, "take", "sound", first, "--take", "all")
	over := mod("beacons", "1", map[string]string{"harbour/lights": "of beacons", "harbour/fire": "f"})
	o.do(0, "take", "sound", over, "--take", "all")

	second := mod("buoys", "2", map[string]string{"harbour/more": "more"})
	said := o.do(0, "take", "sound", second, "--take", "all")
	insist.Holds(t, "an update", said, "marks", "sea.chart")
	insist.Same(t, "what another mod has laid over it", contents(t, filepath.Join(dir, "harbour/lights")), "of beacons")
	for _, gone := range []string{"harbour/deep", "charts"} {
		insist.That(t, !exists(filepath.Join(dir, gone)), "%s is still there", gone)
	}
	o.do(0, "remove", "sound", "beacons", "--agree")
	insist.Same(t, "what beacons had replaced", contents(t, filepath.Join(dir, "harbour/lights")), "of buoys")
	insist.That(t, !exists(filepath.Join(dir, "harbour/fire")), "fire is still there")

	write(t, filepath.Join(dir, "harbour/more"), "the operator's now")
	said = o.do(0, "remove", "sound", "buoys", "--agree")
	insist.Holds(t, "what was changed since", said, "harbour/more", "was changed since")
	insist.Same(t, "it stays", contents(t, filepath.Join(dir, "harbour/more")), "the operator's now")
	insist.OK(t, os.Remove(filepath.Join(dir, "harbour/more")))

	// A download without a mod goes by its own name.
	plain := pack("night-lights-1.0.zip", map[string]string{"harbour/lights": "by night", "harbour/lamps/one": "1"})
	o.do(0, "take", "sound", plain, "--take", "all")
	newer := pack("night-lights-1.1.zip", map[string]string{"harbour/lights": "later", "harbour/two": "2"})
	o.do(0, "take", "sound", newer, "--take", "all")
	insist.That(t, !exists(filepath.Join(dir, "harbour/lamps")), "lamps are still there")
	o.do(0, "remove", "sound", "night-lights", "--agree")
	same(t, "as it was", stands(t, dir), before)
	insist.Holds(t, "what is not there", o.try("remove", "sound", "night-lights", "--agree").err, "no mod")
}

// withLoader adds a family like the one of the harbours, with a loader that is laid over its servers.
func withLoader(t *testing.T, o *operator) (family string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "buoyed.toml")
	own := strings.NewReplacer(`"harrow-sound"`, `"buoyed"`).Replace(contents(t, "../dialects/harrow-sound.toml"))
	own = strings.Replace(own, `"stand-in", "buoyed"`, `"stand-in", "harrow-sound"`, 1)
	write(t, file, strings.Replace(own, "[[part]]", "[[part]]\nof = \"loader\"\nname = \"buoy\"\npath = [\"{dir}\"]\nmark = [\"harbour/buoy\"]\n\n[[part]]", 1))
	o.do(0, "dialect", "add", file)
	return "buoyed"
}

// Whatever is taken in, brought up to date, taken out and taken back, in any order: when all is out, and when all is
// taken back, the server is as it was, to the byte and the rights.
func TestLaidAtRandom(t *testing.T) {
	t.Parallel()
	rounds := 3
	if n := os.Getenv("INITIUM_RUNS"); n != "" {
		fmt.Sscan(n, &rounds)
	}
	archives := t.TempDir()
	random := rand.New(rand.NewPCG(18, 8))
	for round := range rounds {
		o := newOperator(t)
		family := withLoader(t, o)
		dir := filepath.Join(t.TempDir(), fmt.Sprint("sound", round))
		insist.OK(t, os.CopyFS(dir, os.DirFS("../demo/harrow-sound")))
		for _, name := range []string{"a", "in/b"} {
			write(t, filepath.Join(dir, "harbour", name), "own "+name)
		}
		insist.OK(t, os.Chmod(filepath.Join(dir, "harbour/a"), 0o750))
		before := stands(t, dir)
		o.do(0, "adopt", dir, "--as", "sound", "--dialect", family)
		there := map[string]bool{}
		var log []string
		for step := range 7 {
			name := []string{"one", "two", "lamps", "buoy"}[random.IntN(4)]
			files := map[string]string{}
			for _, f := range []string{"harbour/a", "harbour/in/b", "harbour/in/c", "harbour/new/d", "harbour/new/deep/e", "sea.chart"} {
				if random.IntN(2) == 0 {
					files[f] = fmt.Sprint(name, step, f)
				}
			}
			switch what := random.IntN(5); {
			case what == 0 && len(log) > 0:
				log = append(log, "undo")
				o.do(0, "undo", "sound")
				for n := range there { // what is there is told by what can be taken out
					there[n] = o.try("remove", "sound", n, "--show").status == 0
				}
			case what == 1 && there[name]:
				log = append(log, "remove "+name)
				o.try("remove", "sound", name, "--agree") // others may have laid theirs over all of it
				there[name] = false
			case name == "buoy":
				files["harbour/buoy"] = fmt.Sprint(step)
				full := filepath.Join(archives, fmt.Sprintf("buoy-%d.%d.zip", round, step))
				insist.OK(t, os.WriteFile(full, zipped(t, files), 0o644))
				log = append(log, fmt.Sprint("lay ", sortedKeys(files)))
				o.do(0, "builds", "sound", "--add", full, "--take", "all")
				there[name] = true
			default:
				if name != "lamps" {
					files[name+"/bill.toml"] = fmt.Sprintf("name = %q\nrelease = \"%d\"\nwaits_for = []\n", name, step)
					files[name+"/deck.script"] = "haul 1\n"
				} else if len(files) == 0 {
					continue
				}
				full := filepath.Join(archives, fmt.Sprintf("%s-%d.%d.zip", name, round, step))
				insist.OK(t, os.WriteFile(full, zipped(t, files), 0o644))
				log = append(log, fmt.Sprint("take ", sortedKeys(files)))
				o.do(0, "take", "sound", full, "--take", "all")
				there[name] = true
			}
		}
		if round%2 == 0 {
			for range 3 { // one that others have laid theirs over goes after them
				for _, n := range []string{"lamps", "buoy", "one", "two"} {
					o.try("remove", "sound", n, "--agree")
				}
			}
			same(t, fmt.Sprintf("all out after %s", strings.Join(log, "; ")), stands(t, dir), before)
		}
		o.try("undo", "sound", "0") // it may be so already
		same(t, fmt.Sprintf("all taken back after %s", strings.Join(log, "; ")), stands(t, dir), before)
	}
}
