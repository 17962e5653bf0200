package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// writes are the system calls that change something on a disk, or open a file to
// do so. Each is counted by itself, in each thread.
var writes = []string{"write", "pwrite64", "fsync", "fdatasync", "syncfs", "rename", "renameat", "renameat2", "unlink", "unlinkat", "mkdirat", "symlinkat",
	"ftruncate", "fchmod", "fchmodat", "utimensat", "copy_file_range", "openat", "close"}

// frequent are calls of which there are so many that only every few are tried,
// unless INITIUM_KILL_ROUNDS asks for more.
var frequent = map[string]int{"write": 3, "pwrite64": 3, "openat": 5, "close": 7}

// killing kills commands at the system calls that they make.
type killing struct {
	*harbour
	base, kept string
	states     map[string]string // by the name under which one was kept
	runs       int
	found      map[string]int
}

func newKilling(h *harbour) *killing {
	needs(h.t, "strace")
	return &killing{harbour: h, base: filepath.Dir(h.home), kept: h.t.TempDir(), states: map[string]string{}, found: map[string]int{}}
}

// keep remembers how the server and Initium's home stand.
func (k *killing) keep(name string) {
	k.t.Helper()
	for _, dir := range []string{"home", "server"} {
		copyAll(k.t, filepath.Join(k.base, dir), filepath.Join(k.kept, name, dir))
	}
	k.states[name] = below(k.t, k.dir)
}

func (k *killing) restore(name string) {
	k.t.Helper()
	for _, dir := range []string{"home", "server"} {
		if err := os.RemoveAll(filepath.Join(k.base, dir)); err != nil {
			k.t.Fatal(err)
		}
		copyAll(k.t, filepath.Join(k.kept, name, dir), filepath.Join(k.base, dir))
	}
}

// everywhere kills a command that leads from one kept state to another at each
// system call that writes, one after the other. After each, the next run has to
// find all as it was before or all as it was to be, with nothing left beside it.
// entry is the number that the ledger then gives it; thin asks for fewer kills.
func (k *killing) everywhere(from, to, entry string, thin bool, args ...string) {
	k.t.Helper()
	one, two := k.states[from], k.states[to]
	rounds := 1
	if n := os.Getenv("INITIUM_KILL_ROUNDS"); n != "" {
		fmt.Sscan(n, &rounds)
		thin = false
	}
	for round := range rounds {
		for _, call := range writes {
			step := 1
			if thin {
				step = max(frequent[call], 1)
			}
			for n := 1; n < 3000; n += step {
				k.restore(from)
				cmd := exec.Command("strace", append([]string{"-f", "-qq", "-o", "/dev/null", "-e", "trace=" + call,
					"-e", fmt.Sprintf("inject=%s:signal=SIGKILL:when=%d", call, n), program}, args...)...)
				cmd.Env = k.env
				if err := cmd.Run(); err == nil {
					if got := below(k.t, k.dir); got != two {
						k.t.Fatalf("not killed, %v gives\n%s", args, got)
					}
					break // there is no n-th one
				}
				k.runs++
				out := k.do(0, "ledger", "h") // the next run
				got := below(k.t, k.dir)
				where := fmt.Sprintf("%v killed at %s %d, round %d", args, call, n, round)
				switch got {
				case one:
					k.found["before"]++
				case two:
					k.found["after"]++
				default:
					k.t.Fatalf("%s leaves\n%s\nthe next run said\n%s", where, got, out)
				}
				// The ledger knows which of the two it is.
				if (got == two) != strings.HasPrefix(strings.TrimSpace(lastLine(out)), entry+" ") {
					k.t.Fatalf("%s: the files are\n%s\nthe ledger says\n%s", where, got, out)
				}
			}
		}
	}
}

// TestKilledAtEveryWrite kills a change of two files, and one that is taken back.
func TestKilledAtEveryWrite(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\nalso more.start\n")
	k := newKilling(h)
	write(t, filepath.Join(h.dir, "more.start"), "berth b\nberth c\n")
	for _, name := range []string{"a", "b", "c"} {
		h.cargo(name, "", "haul 1\n")
	}
	h.do(0, "ledger", "h")
	k.keep("before")
	h.do(0, "move", "h", "c", "--before", "a")
	k.keep("after")
	k.everywhere("before", "after", "1", false, "move", "h", "c", "--before", "a")
	k.everywhere("after", "before", "2", false, "undo", "h")
	k.check(60)
}

func (k *killing) check(least int) {
	k.t.Helper()
	k.t.Logf("%d runs were killed: %v", k.runs, k.found)
	if k.runs < least || k.found["before"] == 0 || k.found["after"] == 0 {
		k.t.Errorf("only %d runs were killed: %v", k.runs, k.found)
	}
}

// TestKilledWhileEntriesAndBlocksCome kills a recipe of all that goes into files, which takes a mod in with entries
// for a table that is begun by it, replaces a block and sets something; and the way back.
func TestKilledWhileEntriesAndBlocksCome(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	k := newKilling(h)
	h.cargo("a", "", "haul 1\n")
	put(t, filepath.Join(h.home, "dialects/harrow-sound.toml"), h.do(0, "dialect", "show", "harrow-sound")+"\n[[content]]\nkind = 'data'\nfiles = 'fish*.json'\ninto = '{dir}/conf/fish.json'\nentry = 'fish'\nid = 'name'\nbase = '{dir}/base.json'\n")
	write(t, filepath.Join(h.dir, "base.json"), "{\"fish\": [{\"name\": \"cod\"}]}\n")
	write(t, filepath.Join(h.dir, "conf/quay.script"), "quay {\n  lamp = 1;\n}\n")
	write(t, filepath.Join(h.dir, "conf/net.properties"), "slots=8\n")
	came := filepath.Join(filepath.Dir(h.home), "came")
	write(t, filepath.Join(came, "kelp/kelp/bill.toml"), "name = \"kelp\"\nrelease = \"1.4\"\n")
	write(t, filepath.Join(came, "kelp/kelp/deck.script"), "haul 1\n")
	write(t, filepath.Join(came, "kelp/fish_kelp.json"), "[{\"name\": \"wrasse\"}]\n")
	folder := filepath.Join(filepath.Dir(h.home), "recipe")
	write(t, filepath.Join(folder, "block"), "quay {\n  lamp = 5;\n}\n")
	write(t, filepath.Join(folder, "recipe.toml"), "dialect = 'harrow-sound'\n[[step]]\ndo = 'take in'\nsource = 'kelp'\nmods = [{name = 'kelp', release = '1.4'}]\n[[step]]\ndo = 'replace'\nfile = 'conf/quay.script'\nname = 'quay {'\ntext = 'block'\n[[step]]\ndo = 'set'\nfile = 'conf/net.properties'\nname = 'slots'\nvalue = '12'\n")
	h.do(0, "ledger", "h")
	k.keep("before")
	h.do(0, "recipe", "run", "h", folder, "--from", came)
	k.keep("after")
	insist.Holds(t, "the table", contents(t, filepath.Join(h.dir, "conf/fish.json")), "cod", "wrasse")
	k.everywhere("before", "after", "1", true, "recipe", "run", "h", folder, "--from", came)
	k.everywhere("after", "before", "2", true, "undo", "h")
	k.check(60)
}

// TestKilledWhileFilesComeAndGo kills intake, update, removal and the way back.
func TestKilledWhileFilesComeAndGo(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	k := newKilling(h)
	h.cargo("a", "", "haul 1\n")
	base := filepath.Dir(h.home)
	one, two := filepath.Join(base, "one.zip"), filepath.Join(base, "two.zip")
	write(t, one, string(zipped(t, kelp("kelp_farms/", "outer.chart=chart"))))
	newer := kelp("kelp_farms/", "outer.chart=chart", "kelp_farms/more.toml=m")
	newer["kelp_farms/bill.toml"] = strings.Replace(kelpBill, "1.3.0", "2.0.0", 1)
	delete(newer, "kelp_farms/art/raft.png")
	write(t, two, string(zipped(t, newer)))
	h.do(0, "ledger", "h")
	k.keep("clean")
	h.do(0, "take", "h", one)
	k.keep("one")
	write(t, filepath.Join(h.dir, "cargo/kelp_farms/mine.txt"), "mine")
	k.keep("edited")
	h.do(0, "take", "h", two)
	k.keep("two")
	h.do(0, "remove", "h", "kelp_farms")
	k.keep("removed")
	h.do(0, "undo", "h")
	k.keep("again")
	insist.Need(t, k.states["again"] == k.states["two"] && k.states["one"] != k.states["clean"], "undo gives\n%s", k.states["again"])
	k.everywhere("clean", "one", "1", true, "take", "h", one)
	k.everywhere("edited", "two", "2", true, "take", "h", two)
	k.everywhere("two", "removed", "3", true, "remove", "h", "kelp_farms")
	k.everywhere("removed", "again", "4", true, "undo", "h")
	k.check(100)
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

func copyAll(t testing.TB, from, to string) {
	t.Helper()
	insist.OK(t, os.CopyFS(to, os.DirFS(from)))
}
