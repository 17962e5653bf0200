package test

import (
	"archive/zip"
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// learnedJSON is what learn --json prints.
type learnedJSON struct {
	Ways   []string
	Mods   []string
	Starts int
	Rules  []struct{ Means, Line, Why string }
	Fates  []string
	Unsaid []string
	Trial  struct {
		Lineups, Exact, Mods, Right, Shown int
		Differed                           []string
	}
	Problems []string
}

// madeUpFiles lays out a server of a made-up family. Of its mods rope needs lamp.
func madeUpFiles(t *testing.T, kind, dir string) (mod string) {
	t.Helper()
	self, err := os.Executable()
	insist.OK(t, err)
	start := fmt.Sprintf("exec '%s' %s %s '%s'", self, familyWord, kind, dir)
	mods := []string{"gull", "kelp", "lamp", "rope", "tide"}
	each := func(folder, manifest, script string, describe func(i int, name, need string) string) {
		for i, name := range mods {
			need := ""
			if name == "rope" {
				need = "lamp"
			}
			if manifest != "" {
				put(t, filepath.Join(dir, folder, name, manifest), describe(i, name, need))
			}
			put(t, filepath.Join(dir, folder, name, script), "here and there\n")
		}
	}
	switch kind {
	case "quay":
		each("berths", "berth.toml", "route.txt", func(_ int, name, need string) string {
			return fmt.Sprintf("name = %q\nversion = \"1.2\"\nneeds = [%s]\n", name, strings.TrimSuffix(fmt.Sprintf("%q", need), `""`))
		})
		put(t, filepath.Join(dir, "berths/+deep/cave/berth.toml"), "name = \"cave\"\n")
		put(t, filepath.Join(dir, "berths/+deep/cave/route.txt"), "down\n")
		put(t, filepath.Join(dir, "quay.plan"), "# what lies at the quay\nsay welcome\nmoor gull\nmoor kelp\nmoor lamp # first\nmoor rope\nmoor +deep\n#moor tide\n")
	case "mill":
		for _, name := range mods {
			needs := "[]"
			if name == "rope" {
				needs = `["lamp"]`
			}
			archive(t, filepath.Join(dir, "stones", name+"-1.4.2.stone"), "stone.json", fmt.Sprintf("{\"id\": %q, \"version\": \"1.4.2\", \"needs\": %s}\n", name, needs))
		}
	case "tram":
		each("cars", "car.yml", "line.txt", func(_ int, name, need string) string {
			return fmt.Sprintf("name: %s\nversion: 2.0\nneeds: [%s]\n", name, need)
		})
		start = fmt.Sprintf("RIDES=\"gull;lamp;rope\"\nGUARDS=\"kelp;tide\"\n%s \"-rides=$RIDES\" \"-guards=$GUARDS\"", start)
	case "press":
		each("plates", "plate.xml", "type.txt", func(i int, name, need string) string {
			if need != "" {
				need = "<need>" + need + "</need>"
			}
			return fmt.Sprintf("<plate>\n  <name>%s</name>\n  <number>%d</number>\n  %s\n</plate>\n", name, 1001+i, need)
		})
		put(t, filepath.Join(dir, "press.ini"), "[press]\ntitle=A press\nnames=gull,lamp,rope,tide\nnumbers=1001,1003,1004,1005\n")
	case "choir":
		each("voices", "voice.ini", "score.txt", func(_ int, name, need string) string {
			return fmt.Sprintf("name = %s\nversion = 0.9\nneeds = %s\n", name, need)
		})
		put(t, filepath.Join(dir, "voices.json"), "[\n  \"gull\",\n  \"lamp\",\n  \"rope\",\n  \"tide\"\n]\n")
	case "ferry":
		each("hulls", "hull.json", "course.txt", func(_ int, name, need string) string {
			return fmt.Sprintf("{\"name\": %q, \"needs\": [%s]}\n", name, strings.TrimSuffix(fmt.Sprintf("%q", need), `""`))
		})
		insist.OK(t, os.MkdirAll(filepath.Join(dir, "afloat"), 0o755))
		for _, name := range mods {
			if name != "tide" {
				insist.OK(t, os.Symlink("../hulls/"+name, filepath.Join(dir, "afloat", name)))
			}
		}
	case "garden":
		each("beds", "", "plants.txt", nil)
	}
	script := filepath.Join(dir, "start.sh")
	put(t, script, "#!/bin/sh\n"+strings.ReplaceAll(start, "'"+dir+"'", `"$(dirname "$0")"`)+"\n")
	insist.OK(t, os.Chmod(script, 0o755))
	return "lamp"
}

func archive(t *testing.T, file, name, content string) {
	t.Helper()
	insist.OK(t, os.MkdirAll(filepath.Dir(file), 0o755))
	f, err := os.Create(file)
	insist.OK(t, err)
	defer f.Close()
	z := zip.NewWriter(f)
	w, err := z.Create(name)
	insist.OK(t, err)
	insist.OK(t, insist.Err(w.Write([]byte(content))))
	insist.OK(t, z.Close())
}

// trialCount is how many random line-ups are tried of each server; INITIUM_TRIALS asks for another number.
func trialCount() string { return cmp.Or(os.Getenv("INITIUM_TRIALS"), "4") }

// trialSeed is which random line-ups are tried; INITIUM_TRIAL_SEED asks for others.
func trialSeed() string { return cmp.Or(os.Getenv("INITIUM_TRIAL_SEED"), "1") }

// TestLearnMadeUpFamilies learns servers of families that nobody knows, from their folder and the name
// of a mod, and holds them to what they then do.
func TestLearnMadeUpFamilies(t *testing.T) {
	for _, kind := range []string{"quay", "mill", "tram", "press", "choir", "garden", "ferry"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			o := newOperator(t)
			dir := filepath.Join(filepath.Dir(o.home), kind)
			mod := madeUpFiles(t, kind, dir)
			var l learnedJSON
			o.json(0, &l, "learn", dir, mod, "--try", "--json", "--trials", trialCount(), "--seed", trialSeed())
			t.Logf("%d starts, %d of %d line-ups as foretold, %d of %d mods: %s", l.Starts+l.Trial.Lineups, l.Trial.Exact, l.Trial.Lineups, l.Trial.Right, l.Trial.Shown, l.Ways[0])
			for _, d := range l.Trial.Differed {
				t.Log(d)
			}
			if 10*l.Trial.Exact < 9*l.Trial.Lineups || l.Trial.Lineups == 0 || len(l.Problems) > 0 {
				t.Errorf("%d of %d line-ups were as foretold:\n%s\n%s\nstill missing: %s\n%+v\n%s", l.Trial.Exact, l.Trial.Lineups, strings.Join(l.Trial.Differed, "\n"), strings.Join(l.Unsaid, "\n"), strings.Join(l.Problems, "\n"), l.Rules,
					contents(t, filepath.Join(o.home, "dialects", kind+".toml")))
				return
			}
			o.do(0, "dialect", "check", kind)
			o.do(0, "adopt", dir, "--dialect", kind)
			insist.Holds(t, "the proof", o.do(0, "prove", kind), kind+": proved")
		})
	}
}
