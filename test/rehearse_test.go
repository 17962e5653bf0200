package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
	"initium/internal/lack"
)

type rehearsalJSON struct {
	Isolated       bool
	Port           string
	Notes, Changes []string
	Proof          proofJSON
	Against        int
	Differs        []string
}

// A start is rehearsed on a copy while the server itself runs: with what is staged, on the same port
// in a network of its own, and nothing of it is left.
func TestRehearse(t *testing.T) {
	h := newHarbour(t, "berth a\nberth b\n")
	for _, name := range []string{"a", "b"} {
		h.cargo(name, "", "haul 1\n")
	}
	h.cargo("wreck", "", "no such word\n")
	h.prove(0, "--keep-running")
	defer h.try("stop", "h")
	var r rehearsalJSON
	h.json(0, &r, "rehearse", "h", "--json")
	alone := exec.Command("unshare", "--net", "true").Run() == nil // the machine grants that
	insist.That(t, r.Isolated == alone && (r.Port == h.port) == alone && r.Against == 1 && len(r.Differs) == 0 && r.Proof.outcomes() == "a confirmed, b confirmed" && r.Proof.Log == "", "as it is: %+v", r)
	h.do(0, "off", "h", "b", "--stage")
	h.do(0, "register", "h", "wreck", "--stage")
	before := below(t, h.dir) + below(t, filepath.Join(h.home, "servers"))
	h.json(1, &r, "rehearse", "h", "--json")
	insist.Same(t, "with what is staged", r.Proof.outcomes(), "a confirmed, wreck failed")
	insist.Same(t, "made in it", strings.Join(r.Changes, "; "), "switch b off; register wreck")
	insist.Holds(t, "other than then", strings.Join(r.Differs, "\n"), "came: wreck", "gone: b")
	insist.Lacks(t, "the proof", h.try("rehearse", "h").out, "/rehearsal/")
	insist.Holds(t, "another title", h.try("rehearse", "h", "--set", "title=Dry run").out, "title is Dry run in it, not Test", "the server says of itself: title Dry run", "with what is staged: switch b off; register wreck")
	insist.Holds(t, "no such value", h.do(2, "rehearse", "h", "--set", "nothing=1"), "no value and no setting nothing")
	insist.Same(t, "all there is", below(t, h.dir)+below(t, filepath.Join(h.home, "servers")), before)
	insist.Holds(t, "the server itself", h.do(0, "servers"), "running")
}

// Where the machine grants no network of its own, the copy has another port, and that is said; links
// into the server lead into the copy.
func TestRehearseInTheSameNetwork(t *testing.T) {
	needs(t, "setpriv")
	if os.Getuid() != 0 {
		lack.Of(t, "root")
	}
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	insist.OK(t, os.Symlink(filepath.Join(h.dir, "cargo", "a", "bill.toml"), filepath.Join(h.dir, "cargo", "a", "again.toml")))
	insist.OK(t, os.Symlink("/usr", filepath.Join(h.dir, "aside")))
	aside := filepath.Join(filepath.Dir(h.home), "aside.start")
	write(t, aside, contents(t, h.script()))
	insist.OK(t, os.Remove(h.script()))
	insist.OK(t, os.Symlink(aside, h.script()))
	before := contents(t, aside)
	cmd := exec.Command("setpriv", "--inh-caps=-sys_admin", "--bounding-set=-sys_admin", program, "rehearse", "h", "--json")
	cmd.Env = h.env
	out, err := cmd.Output()
	insist.OK(t, err)
	var r rehearsalJSON
	decode(t, string(out), &r)
	insist.That(t, !r.Isolated && r.Port != h.port && r.Port != "", "it ran so: %+v", r)
	insist.Same(t, "of it", r.Proof.outcomes(), "a confirmed")
	insist.Holds(t, "the notes", strings.Join(r.Notes, "\n"), "no network of its own", "another port ("+r.Port+")", "aside leads out of the server's folder, to /usr")
	insist.Same(t, "what the script leads to", contents(t, aside), before)
	insist.Lacks(t, "the notes", strings.Join(r.Notes, "\n"), "again.toml")
}
