package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"initium/internal/insist"
)

type turnJSON struct {
	Resumed, Running bool
	Entry, To        int
	Why              string
	Proof, Back      *proofJSON
	OutMS            int `json:"out_ms"`
}

// A change is made and proved in one go; or the last proved state comes back, and is proved.
func TestProveOrReturn(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	for _, name := range []string{"a", "b"} {
		h.cargo(name, "", "haul 1\n")
	}
	h.cargo("wreck", "", "no such word\n")
	h.do(2, "apply", "h", "--or-return")
	h.do(2, "apply", "h", "--prove") // nothing is staged
	h.prove(0)
	var r turnJSON
	h.do(0, "register", "h", "b", "--stage")
	h.json(0, &r, "apply", "h", "--prove", "--json")
	insist.That(t, r.Entry == 1 && !r.Running && r.OutMS == 0 && r.Why == "" && r.Back == nil && r.Proof.outcomes() == "a confirmed, b confirmed", "of one that did not run: %+v", r)
	h.prove(0, "--keep-running")
	defer h.try("stop", "h")
	good := contents(t, h.script())
	h.do(0, "register", "h", "wreck", "--stage")
	r = turnJSON{}
	h.json(1, &r, "apply", "h", "--prove", "--or-return", "--timeout", "20s", "--json")
	insist.That(t, r.Entry == 2 && r.To == 1 && r.Running && r.OutMS > 0 && r.Why != "" && r.Proof.mod("wreck").Outcome == "failed" && r.Back.outcomes() == "a confirmed, b confirmed" && r.Back.Verdict == "proved", "gone back: %+v", r)
	insist.Same(t, "the script", contents(t, h.script()), good)
	h.do(0, "off", "h", "b", "--stage")
	insist.Holds(t, "in words", h.do(0, "apply", "h", "--prove", "--or-return"), "stopping the server …", "making the change …", "the change is made and proved (entry 4): switch b off", "the server runs; players were out for ")
	h.do(0, "register", "h", "wreck", "--stage")
	insist.Holds(t, "without a return", h.do(1, "apply", "h", "--prove"), "the change is made (entry 5) and not proved; initium undo h takes it back", "the server does not run")
	// Whoever has had enough gets the old state back.
	h.do(0, "undo", "h")
	h.do(0, "on", "h", "b", "--stage")
	h.do(0, "give", "h", "pace=20")
	cmd := exec.Command(program, "apply", "h", "--prove", "--or-return")
	cmd.Env = h.env
	insist.OK(t, cmd.Start())
	for end := time.Now().Add(20 * time.Second); !strings.Contains(contents(t, h.script()), "\nberth b"); time.Sleep(time.Millisecond) {
		insist.Need(t, !time.Now().After(end), "the change is not made")
	}
	insist.OK(t, cmd.Process.Signal(syscall.SIGINT))
	insist.That(t, cmd.Wait() != nil, "what was stopped is proved")
	insist.Lacks(t, "the script", contents(t, h.script()), "\nberth b")
}

// Killed at any instant, the next run completes the change or goes back: never neither, never both.
func TestTurnKilled(t *testing.T) {
	rounds, seed := 4, uint64(20261128)
	if s := os.Getenv("INITIUM_TURNS"); s != "" { // scripts/attack
		fmt.Sscan(s, &rounds, &seed)
	}
	h := newHarbour(t, "berth a\n# berth b\n# berth wreck\n")
	for _, name := range []string{"a", "b"} {
		h.cargo(name, "", "haul 1\n")
	}
	h.cargo("wreck", "", "no such word\n")
	h.prove(0, "--keep-running")
	defer h.try("stop", "h")
	rnd := rand.New(rand.NewPCG(seed, 1))
	kills := 0
	var said strings.Builder // by the last run
	for round := range rounds {
		on := func(name string) bool { return strings.Contains(contents(t, h.script()), "\nberth "+name+"\n") }
		had := on("b")
		word := map[bool]string{true: "off", false: "on"}[had]
		bad := rnd.IntN(2) == 0
		h.do(0, word, "h", "b", "--stage")
		if bad {
			h.do(0, "on", "h", "wreck", "--stage")
		}
		for again := 0; ; again++ {
			cmd := exec.Command(program, "apply", "h", "--prove", "--or-return", "--json")
			cmd.Env = h.env
			said.Reset()
			cmd.Stdout, cmd.Stderr = &said, &said
			insist.OK(t, cmd.Start())
			ended := make(chan error, 1)
			go func() { ended <- cmd.Wait() }()
			if again < 3 {
				select {
				case <-ended:
				case <-time.After(time.Duration(rnd.IntN(900_000)) * time.Microsecond):
					kills++
					cmd.Process.Kill()
					<-ended
					if _, err := os.Stat(h.home + "/servers/h/turn.json"); err == nil {
						continue
					}
				}
			} else {
				<-ended
			}
			if _, err := os.Stat(h.home + "/servers/h/turn.json"); err != nil {
				break
			}
		}
		if len(stagedIn(h)) > 0 { // it was killed before it had begun
			h.do(0, "plan", "h", "--drop")
			insist.That(t, on("b") == had && !on("wreck"), "round %d, not begun: the script is\n%s", round, contents(t, h.script()))
		} else if bad {
			insist.That(t, on("b") == had && !on("wreck"), "round %d, gone back: the script is\n%s", round, contents(t, h.script()))
		} else {
			insist.That(t, on("b") != had && !on("wreck"), "round %d, made: the script is\n%s\n%s", round, contents(t, h.script()), said.String())
		}
		insist.Same(t, "servers that run, in round "+strconv.Itoa(round), h.standIns(), 1)
		starts := within(h.home, "servers/h/starts/*/run.json") // not those that another was quicker with
		for i := range starts {
			starts[i] = filepath.Dir(starts[i])
		}
		insist.Holds(t, "the last start, after "+said.String(), contents(t, starts[len(starts)-1]+"/proof.json"), `"verdict": "proved"`)
		if t.Failed() {
			for _, file := range within(h.home, "servers/h/starts/"+starts[len(starts)-1][len(starts[len(starts)-1])-5:]+"/*.json") {
				t.Logf("%s\n%s", file, contents(t, file))
			}
			t.Log(h.do(0, "log", "--own"))
			t.FailNow()
		}
	}
	t.Logf("%d rounds, %d kills", rounds, kills)
}

func stagedIn(h *harbour) []any {
	var p struct{ Changes []any }
	h.json(0, &p, "plan", "h", "--json")
	return p.Changes
}

// standIns counts the servers that run in the harbour's folder.
func (h *harbour) standIns() (n int) {
	for _, dir := range within("/proc", "[0-9]*") {
		if cwd, err := os.Readlink(dir + "/cwd"); err == nil && cwd == h.dir {
			n++
		}
	}
	return n
}
