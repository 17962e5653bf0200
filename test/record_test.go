package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// runs is how many random line-ups of each kind are compared with what the server
// itself wrote down; INITIUM_RUNS asks for another number, and seed.
const runs = 8

// TestProofAndTheServersOwnRecord compares what a start is judged to have shown with
// what the simulated server itself has written down, beside its log, that it did.
func TestProofAndTheServersOwnRecord(t *testing.T) {
	count, seed := runs, uint64(77)
	fmt.Sscan(os.Getenv("INITIUM_RUNS"), &count, &seed)
	for name, kind := range map[string]trial{"harrow-sound": harrowTrial{}, "lantern-moor": lanternTrial{}, "cogwheel-fair": cogwheelTrial{}, "nine-orchards": orchardsTrial{}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var o *operator
			mods := 0
			for i := range count {
				if i%20 == 0 { // who looks at all servers looks at few
					o = newOperator(t)
				}
				mods += o.againstRecord(kind, rand.New(rand.NewPCG(seed, uint64(i))), fmt.Sprintf("%s-%d", name, i))
			}
			insist.That(t, mods >= count*3, "only %d mods in %d line-ups", mods, count)
			t.Logf("%d line-ups, %d mods", count, mods)
		})
	}
}

// againstRecord proves one start and compares, with players who repeat the server's lines, mods that are looked
// at and not loaded, and then with what comes and breaks while it runs; it returns how many mods there were.
func (o *operator) againstRecord(kind trial, r *rand.Rand, server string) int {
	t, _ := o.t.(*testing.T)
	t.Helper()
	dir := filepath.Join(filepath.Dir(o.home), server)
	record := filepath.Join(filepath.Dir(o.home), server+".record")
	o.do(0, append([]string{"adopt", dir, "--as", server, "--dialect"}, kind.lay(t, r, mkdir(t, dir))...)...)
	o.env = append(o.env, "STANDIN_RECORD="+record, fmt.Sprintf("STANDIN_CROWD=%d", r.Uint32()))
	got := o.try("prove", server, "--json", "--stay", "10ms", "--keep-running")
	var p struct {
		proofJSON
		Later, Reloads []struct {
			Name, Outcome, Reason string
			Mod                   struct{ Name, Outcome string }
		}
	}
	decode(t, got.out, &p)
	started := did(record)
	in := map[string]bool{}
	for _, d := range started {
		in[d.mod] = d.in
	}
	for _, m := range p.Mods {
		loaded, dealt := in[m.Name]
		wrong := ""
		switch m.Outcome {
		case "confirmed", "unlisted":
			if !loaded {
				wrong = "the server did not load it"
			}
		case "failed":
			if loaded && m.Against == "" || !dealt {
				wrong = "the server loaded it, or never came to it"
			}
		case "silent":
			if dealt && p.Exit == nil {
				wrong = "the server dealt with it"
			}
		}
		insist.That(t, wrong == "", "%s: %s is %s (%s), and %s\n%s", server, m.Name, m.Outcome, m.Reason, wrong, contents(t, p.Log))
	}
	for name, loaded := range in {
		if m := p.find(name); m == nil && loaded {
			t.Errorf("%s: %s was loaded, and nothing is said of it", server, name)
		}
	}
	if p.Exit != nil {
		return len(p.Mods)
	}
	reloaded := map[string]bool{}
	if m := p.Mods[r.IntN(len(p.Mods))]; kind == (harrowTrial{}) && m.Outcome == "confirmed" && r.IntN(3) == 0 {
		o.try("reload", server, m.Name)
		reloaded[m.Name] = true
	}
	o.do(0, "say", server, fmt.Sprint("stir ", r.IntN(6)))
	o.do(0, "stop", server)
	o.do(0, "servers") // hears what is left
	decode(t, contents(t, filepath.Join(o.home, "servers", server, "starts", "00001", "proof.json")), &p)
	want := map[string]string{}
	for _, d := range did(record)[len(started):] {
		switch {
		case reloaded[d.mod]:
		case !d.in:
			want[d.mod] = "failed"
		case !in[d.mod] || want[d.mod] != "":
			want[d.mod] = "confirmed"
		}
	}
	for _, m := range p.Later {
		if !reloaded[m.Name] {
			insist.That(t, want[m.Name] == m.Outcome, "%s: later, %s %s (%s), and the server says %q\n%s", server, m.Name, m.Outcome, m.Reason, want[m.Name], contents(t, p.Log))
			delete(want, m.Name)
		}
	}
	insist.That(t, len(want) == 0, "%s: nothing was heard of %v\n%s", server, want, contents(t, p.Log))
	return len(p.Mods)
}

// deed is what a server has done with a mod, by its own record.
type deed struct {
	mod string
	in  bool
}

// did is a server's own record, as far as it goes.
func did(file string) (deeds []deed) {
	data, _ := os.ReadFile(file) // none, where it came to no mod
	for line := range strings.Lines(string(data)) {
		state, name, _ := strings.Cut(strings.TrimSpace(line), " ")
		deeds = append(deeds, deed{name, state == "true"})
	}
	return deeds
}

func mkdir(t testing.TB, dir string) string {
	t.Helper()
	insist.OK(t, os.MkdirAll(dir, 0o755))
	return dir
}
