package intake_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/golden"
)

// TestOddIntakesInFull takes in what is thrown together at random, with answers that may fit
// or not, on a server that has some of it: what comes of it, in which order, what would still
// be lacking and where it would be registered.
func TestOddIntakesInFull(t *testing.T) {
	r := rand.New(rand.NewPCG(31, 8))
	server := map[string]string{"mill.start": "turn elm\nturn birch\n# turn yew\nturn +old\nlet depth 3\n", "wheels/elm/wheel.toml": "name = 'elm'\nrelease = '1'\nneeds = ['yew']", "wheels/elm/notes.txt": "mine", "wheels/yew/wheel.toml": "name = 'yew'\nneeds = ['oak']",
		"wheels/birch/wheel.toml": "name = 'birch'\nneeds = ['ash']", "wheels/+old/ash/wheel.toml": "name = 'ash'\nneeds = ['elm']", "wheels/junk/readme": "", "keys/elm.key": "E", "plans/hill.plan": "hill", "flour/elm/sack": "x", "engine/core.dat": "core"}
	around := []string{"", "", "", "pack/", "x-1.2/", "mill/wheels/", "+trees/", "a/b/c/", "oak/", "train/"}
	names := []string{"oak", "elm", "yew", "fir", "ash", "Pine Nut", "oak-master", "maple_1.2.3", ".hidden", "elm (1)"}
	files := []string{"%swheel.toml: name = '%s'", "%swheel.toml: name = '%s'\nrelease = '2'\nneeds = ['elm', 'oak']", "%swheel.toml: name = '%s'\nneeds = ['fir']", "%swheel.toml: release = '1'\n#%s", "%swheel.toml: name = \n#%s", "%smain: %s", "%skeys/x.key: %s", "%shill.plan: %s", "%sgrain_x.xml: <%s/>", "%snotes.txt: %s", "%srun.sh: %s", "%ssub/deep.bin: %s", "%sempty/#%s", "%strain.txt: %s", "%sREADME.md: %s", "%smill.start: turn %s\nturn oak\nturn fir"}
	answers := []string{"oak", "elm", "a/b", "..", " x", "Up!", "fine_name", strings.Repeat("n", 201), ".x"}
	var all strings.Builder
	for round := range 110 {
		var lines []string
		for range 1 + r.IntN(3) {
			before, name := around[r.IntN(len(around))], names[r.IntN(len(names))]
			if r.IntN(6) > 0 {
				before += name + "/"
			}
			for i, n := 0, 1+r.IntN(4); i < n; i++ {
				kind := files[r.IntN(len(files))]
				if i == 0 && r.IntN(5) > 0 {
					kind = files[r.IntN(5)]
				}
				line := fmt.Sprintf(kind, before, name)
				if at, ok := strings.CutSuffix(line, "/#"+name); ok {
					line = at + "/"
				}
				path, _, _ := strings.Cut(line, ": ")
				if !slices.ContainsFunc(lines, func(l string) bool { return l == path || strings.HasPrefix(l, path+": ") }) {
					lines = append(lines, line)
				}
			}
		}
		var c lineup.Choices
		switch r.IntN(10) {
		case 0:
			c.As = answers[r.IntN(len(answers))]
		case 1:
			c.Only = []string{names[r.IntN(4)]}
		case 2:
			c.Into = []string{"wheels", "engine", "nowhere"}[r.IntN(3)]
		case 3:
			c.Agree = true
		case 4:
			c.Take, c.Keep = []string{"plans/hill.plan", "wheels/elm"}, []string{"keys/x.key"}
		case 5:
			c.Quiet, c.Cases = true, true
		}
		source := []string{"some.zip", "oak-1.2.zip", "elm-master.tar.gz", "yew.7z", "x"}[r.IntN(5)]
		p := newPlace(t, server)
		for i, line := range lines {
			lines[i] = strings.ReplaceAll(line, "\n#", "\n# ")
		}
		in := p.settle(c, source, lines...)
		s := p.target().Survey
		fmt.Fprintf(&all, "== %d: %s of %q with %+v\n%s", round, source, lines, c, p.whole(in))
		var order []string
		for _, m := range in.InOrder() {
			order = append(order, fmt.Sprintf("%s %v", m.Name, intake.Position(s, m.Name)))
		}
		fmt.Fprintf(&all, "  in order %q, lacking %v, ready %v\n", order, in.Lacking(s), in.Ready())
	}
	for _, name := range []string{"elm", "yew", "birch", "ash", "nowhere", "junk"} {
		fmt.Fprintf(&all, "%s would be registered at %+v\n", name, intake.Position(newPlace(t, server).target().Survey, name))
	}
	more := map[string]string{"wheels/oak/wheel.toml": "name = 'oak'\nneeds = ['ash']", "wheels/fir/wheel.toml": "name = 'fir'\nneeds = ['fir', 'elm']", "flour/yew/sack": "x", "flour/elm/deep/sack": "y"}
	for name, data := range server {
		more[name] = data
	}
	p := newPlace(t, more)
	for _, name := range []string{"elm", "yew", "birch", "ash", "oak", "fir", "+old", "core"} {
		for _, leavings := range []bool{false, true} {
			fmt.Fprintf(&all, "== %s goes, with what it has made: %v\n%s", name, leavings, p.wholeRemoval(intake.Remove(name, p.target(), lineup.Choices{Leavings: leavings, Agree: leavings})))
		}
	}
	golden.Check(t, "odd.txt", all.String())
}
