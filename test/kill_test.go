package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// writes are the system calls that change something on a disk, or open a file to
// do so. Each is counted by itself, in each thread.
var writes = []string{"write", "pwrite64", "fsync", "fdatasync", "rename", "renameat", "renameat2", "unlink", "unlinkat", "ftruncate", "fchmod", "fchmodat", "openat", "close"}

// TestKilledAtEveryWrite kills a change of two files, and one that is taken back,
// at each system call that writes, one after the other. After each, the next run
// has to find all as it was before or all as it was to be.
func TestKilledAtEveryWrite(t *testing.T) {
	needs(t, "strace")
	h := newHarbour(t, "berth a\nalso more.start\n")
	more := filepath.Join(h.dir, "more.start")
	write(t, more, "berth b\nberth c\n")
	for _, name := range []string{"a", "b", "c"} {
		h.cargo(name, "", "haul 1\n")
	}
	state := func() string { return contents(t, h.script()) + "|" + contents(t, more) }
	base := filepath.Dir(h.home)
	kept := t.TempDir()
	keep := func(name string) {
		t.Helper()
		for _, dir := range []string{"home", "server"} {
			copyAll(t, filepath.Join(base, dir), filepath.Join(kept, name, dir))
		}
	}
	restore := func(name string) {
		t.Helper()
		for _, dir := range []string{"home", "server"} {
			if err := os.RemoveAll(filepath.Join(base, dir)); err != nil {
				t.Fatal(err)
			}
			copyAll(t, filepath.Join(kept, name, dir), filepath.Join(base, dir))
		}
	}
	h.do(0, "ledger", "h")
	before := state()
	keep("before")
	h.do(0, "move", "h", "c", "--before", "a")
	after := state()
	keep("after")
	if before == after || strings.Count(after, "berth c") != 1 {
		t.Fatalf("the change gives %q", after)
	}
	rounds := 1 // INITIUM_KILL_ROUNDS asks for more
	if n := os.Getenv("INITIUM_KILL_ROUNDS"); n != "" {
		fmt.Sscan(n, &rounds)
	}
	runs, found := 0, map[string]int{}
	for _, scenario := range []struct {
		from string
		args []string
		one  string
		two  string
	}{
		{"before", []string{"move", "h", "c", "--before", "a"}, before, after},
		{"after", []string{"undo", "h"}, after, before},
	} {
		for round := range rounds {
			for _, call := range writes {
				for n := 1; n < 500; n++ {
					restore(scenario.from)
					cmd := exec.Command("strace", append([]string{"-f", "-qq", "-o", "/dev/null", "-e", "trace=" + call,
						"-e", fmt.Sprintf("inject=%s:signal=SIGKILL:when=%d", call, n), program}, scenario.args...)...)
					cmd.Env = h.env
					if err := cmd.Run(); err == nil {
						if state() != scenario.two {
							t.Fatalf("not killed, %v gives %q", scenario.args, state())
						}
						break // there is no n-th one
					}
					runs++
					out := h.do(0, "ledger", "h") // the next run
					got := state()
					where := fmt.Sprintf("%v killed at %s %d, round %d", scenario.args, call, n, round)
					switch got {
					case scenario.one:
						found["before"]++
					case scenario.two:
						found["after"]++
					default:
						t.Fatalf("%s leaves %q\n%s", where, got, out)
					}
					if left, _ := filepath.Glob(filepath.Join(h.dir, ".initium*")); len(left) > 0 {
						t.Fatalf("%s leaves %v behind; the next run said\n%s", where, left, out)
					}
					// The ledger knows which of the two it is.
					if (got == scenario.two) != strings.Contains(lastLine(out), lastWhy(scenario.args)) {
						t.Fatalf("%s: the files are %q, the ledger says\n%s", where, got, out)
					}
				}
			}
		}
	}
	t.Logf("%d runs were killed: %v", runs, found)
	if runs < 60 || found["before"] == 0 || found["after"] == 0 {
		t.Errorf("only %d runs were killed: %v", runs, found)
	}
}

func lastLine(out string) string {
	lines := strings.Split(strings.TrimSpace(out), "\n")
	for i := len(lines) - 1; i >= 0; i-- {
		if !strings.HasPrefix(lines[i], "initium:") {
			return lines[i]
		}
	}
	return ""
}

func lastWhy(args []string) string {
	if args[0] == "undo" {
		return "take entry 1 back"
	}
	return "move c before a"
}

func copyAll(t *testing.T, from, to string) {
	t.Helper()
	if err := os.CopyFS(to, os.DirFS(from)); err != nil {
		t.Fatal(err)
	}
}
