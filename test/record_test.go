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
// itself wrote down; INITIUM_RUNS asks for another number.
const runs = 8

// TestProofAndTheServersOwnRecord compares what a start is judged to have shown with
// what the simulated server itself has written down, beside its log, that it did.
func TestProofAndTheServersOwnRecord(t *testing.T) {
	count := runs
	if n := os.Getenv("INITIUM_RUNS"); n != "" {
		fmt.Sscan(n, &count)
	}
	for name, kind := range map[string]trial{"harrow-sound": harrowTrial{}, "lantern-moor": lanternTrial{}, "cogwheel-fair": cogwheelTrial{}, "nine-orchards": orchardsTrial{}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			o := newOperator(t)
			mods := 0
			for i := range count {
				mods += o.againstRecord(kind, rand.New(rand.NewPCG(77, uint64(i))), fmt.Sprintf("r%d", i))
			}
			insist.That(t, mods >= count*3, "only %d mods in %d line-ups", mods, count)
			t.Logf("%d line-ups, %d mods", count, mods)
		})
	}
}

// againstRecord proves one start and compares; it returns how many mods there were.
func (o *operator) againstRecord(kind trial, r *rand.Rand, server string) int {
	t, _ := o.t.(*testing.T)
	t.Helper()
	dir := filepath.Join(filepath.Dir(o.home), server)
	record := filepath.Join(filepath.Dir(o.home), server+".record")
	o.do(0, append([]string{"adopt", dir, "--as", server, "--dialect"}, kind.lay(t, r, mkdir(t, dir))...)...)
	o.env = append(o.env, "STANDIN_RECORD="+record)
	got := o.try("prove", server, "--json", "--stay", "10ms")
	var p proofJSON
	decode(t, got.out, &p)
	in := map[string]bool{}
	if data, err := os.ReadFile(record); err == nil {
		for _, line := range strings.Split(strings.TrimSpace(string(data)), "\n") {
			state, name, _ := strings.Cut(line, " ")
			in[name] = in[name] || state == "true"
		}
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
	return len(p.Mods)
}

func mkdir(t testing.TB, dir string) string {
	t.Helper()
	insist.OK(t, os.MkdirAll(dir, 0o755))
	return dir
}
