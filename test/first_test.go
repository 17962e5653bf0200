package test

import (
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// A first start waits for what mods make, also after the server has said that it is ready, stops it, and starts it
// once more where something has not come.
func TestFirstStart(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	type first struct {
		Starts  int
		Awaited []struct {
			Path, Mod string
			Start     int
		}
		Proof proofJSON
	}
	// What a server makes is made by a program beside it here, which the start script begins.
	own := h.do(0, "dialect", "show", "harrow-sound")
	makes := func(script string) {
		write(t, filepath.Join(h.dir, "makes.sh"), "#!/bin/sh\ncd \"${0%/*}\"\n"+script+"\n")
	}
	put(t, filepath.Join(h.home, "dialects/harrow-sound.toml"), strings.Replace(own, `["{program}", "stand-in"`, `["/bin/sh", "{dir}/run.sh", "{program}", "stand-in"`, 1))
	write(t, filepath.Join(h.dir, "run.sh"), "sh \"${0%/*}/makes.sh\"\nexec \"$@\"\n")
	count := `echo x >>starts; n=$(wc -l <starts)`
	var f first
	makes(count + `; mkdir -p stores/a; (sleep 1; mkdir -p conf; echo a=1 >conf/late.properties) & `)
	h.json(0, &f, "prove", "h", "--first", "--await", "conf/late.properties", "--json")
	insist.That(t, f.Starts == 1 && f.Proof.outcomes() == "a confirmed", "%+v", f)
	came := map[string]int{}
	for _, a := range f.Awaited {
		came[a.Path] = a.Start
	}
	insist.Same(t, "the late one came in start", came["conf/late.properties"], 1)
	insist.Same(t, "its store came in start", came["stores/a"], 1)

	makes(count + `; [ "$n" -lt 3 ] || touch second`)
	out := h.do(0, "prove", "h", "--first", "--await", "second", "--stay", "1s")
	insist.Holds(t, "once more", out, "first start, 2 starts", "came           second, in start 2")
	makes(count)
	out = h.do(1, "prove", "h", "--first", "--await", "never", "--stay", "1s")
	insist.Holds(t, "never", out, "first start, 2 starts", "did not come   never")
	insist.Holds(t, "nothing more", h.do(0, "prove", "h", "--first", "--await", "second"), "first start, 1 start", "nothing was awaited")
	insist.Holds(t, "of elsewhere", h.try("prove", "h", "--first", "--await", "../x").err, "below the server's folder")
}
