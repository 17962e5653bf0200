package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"initium/internal/insist"

	"golang.org/x/sys/unix"
)

// traced runs a command under strace and lists the system calls that it makes on files, in
// order, each with the paths of what it works on.
func (h *harbour) traced(args ...string) []string {
	h.t.Helper()
	file := filepath.Join(h.t.TempDir(), "trace")
	cmd := exec.Command("strace", append([]string{"-f", "-y", "-qq", "-s", "0", "-o", file, "-e", "trace=write,pwrite64,copy_file_range,ftruncate,fsync,fdatasync,syncfs,rename,renameat,renameat2,unlink,unlinkat", program}, args...)...)
	cmd.Env = h.env
	if out, err := cmd.CombinedOutput(); err != nil {
		h.t.Fatalf("%v: %v\n%s", args, err, out)
	}
	data, err := os.ReadFile(file)
	insist.OK(h.t, err)
	var calls []string
	begun := map[string]string{} // by thread: calls that another thread's came into
	for _, line := range strings.Split(string(data), "\n") {
		line = inOctal.ReplaceAllStringFunc(line, func(s string) string { n, _ := strconv.ParseUint(s[1:], 8, 8); return string([]byte{byte(n)}) })
		thread, call, _ := strings.Cut(line, " ")
		call = strings.TrimSpace(call)
		if before, _, ok := strings.Cut(call, " <unfinished ...>"); ok {
			begun[thread] = before
			continue
		}
		if _, after, ok := strings.Cut(call, " resumed>"); ok {
			call = begun[thread] + after
		}
		if call != "" && !strings.Contains(call, ") = -1 ") {
			calls = append(calls, call)
		}
	}
	return calls
}

var (
	inOctal = regexp.MustCompile(`\\[0-3][0-7]{2}`) // as strace writes what is not ASCII
	onFile  = regexp.MustCompile(`^(\w+)\(\d+<([^>]*)>`)
	between = regexp.MustCompile(`^rename(?:at2?)?\((?:(?:AT_FDCWD|\d+)(?:<([^>]*)>)?, )?"([^"]*)", (?:(?:AT_FDCWD|\d+)(?:<([^>]*)>)?, )?"([^"]*)"`)
)

// synced looks that everything that is renamed into its place below some folders was written
// through before, and that the folder is written through after it, before the ledger says
// that it is done. It counts the renames.
func synced(t *testing.T, what string, calls []string, folders ...string) (renames int) {
	t.Helper()
	const never = -1
	written, safe := map[string]int{}, map[string]int{} // when a file was written last, and synced last
	all := never                                        // when all was
	open := map[string]string{}                         // folders of renames that have to be synced yet, with the file
	begun := ""                                         // the first that was put in place by this change
	place := func(name string) bool {
		for _, f := range folders {
			if strings.HasPrefix(name, f+"/") {
				return true
			}
		}
		return false
	}
	for at, call := range calls {
		if m := between.FindStringSubmatch(call); m != nil {
			from, to := m[2], m[4]
			if !filepath.IsAbs(from) {
				from, to = filepath.Join(m[1], from), filepath.Join(m[3], to)
			}
			if place(to) && !strings.HasSuffix(to, "-old") {
				renames++
				for name, when := range written { // the file, or all that is in the folder
					if name != from && !strings.HasPrefix(name, from+"/") {
						continue
					}
					done, ok := safe[name]
					if all < when && (!ok || done < when) {
						t.Errorf("%s: %s is renamed to %s, and was not written through: %s", what, name, to, call)
					}
				}
				open[filepath.Dir(to)] = to
				if begun == "" {
					begun = to
				}
			}
			continue
		}
		m := onFile.FindStringSubmatch(call)
		if m == nil {
			continue
		}
		switch name := m[2]; m[1] {
		case "write", "pwrite64", "copy_file_range", "ftruncate":
			written[name] = at
			if begun != "" && place(name) && strings.HasPrefix(filepath.Base(name), ".initium-") {
				t.Errorf("%s: %s is written when %s is in place already", what, name, begun)
			}
			if strings.Contains(name, "ledger.db") {
				begun = ""
			}
		case "syncfs":
			all = at
			clear(open)
		case "fsync", "fdatasync":
			safe[name] = at
			delete(open, name)
			if strings.Contains(name, "ledger.db") && len(open) > 0 {
				for dir, to := range open {
					t.Errorf("%s: the ledger goes on while %s, with %s new in it, was not written through", what, dir, to)
				}
				clear(open)
			}
		}
	}
	for dir, to := range open {
		t.Errorf("%s: %s, with %s new in it, is never written through", what, dir, to)
	}
	return renames
}

// TestWrittenThrough traces what changes a server's files, and a backup.
func TestWrittenThrough(t *testing.T) {
	needs(t, "strace")
	h := newHarbour(t, "berth a\nalso more.start\n")
	write(t, filepath.Join(h.dir, "more.start"), "berth b\nberth c\n")
	for _, name := range []string{"a", "b", "c"} {
		h.cargo(name, "", "haul 1\n")
	}
	base := filepath.Dir(h.home)
	one, two := filepath.Join(base, "one.zip"), filepath.Join(base, "two.zip")
	write(t, one, string(zipped(t, kelp("kelp_farms/", "outer.chart=chart"))))
	write(t, two, string(zipped(t, kelp("kelp_farms/", "outer.chart=other", "kelp_farms/new=n"))))
	for _, step := range []struct {
		words string
		least int // renames into place
	}{
		{"move h c --before a", 2}, {"take h " + one, 3}, {"take h " + two + " --take all", 2}, {"remove h kelp_farms", 1}, {"undo h", 2}, {"undo h 0", 2},
	} {
		if n := synced(t, step.words, h.traced(split(step.words)...), h.dir); n < step.least {
			t.Errorf("%s: %d renames were seen, of %d at least", step.words, n, step.least)
		}
	}
	real := newWorld(t)
	write(t, filepath.Join(real.dir, "map.sqlite"), strings.Repeat("map", 100_000))
	w := &harbour{operator: real.operator, dir: real.dir}
	backups := filepath.Join(w.home, "servers/w/backups")
	if n := synced(t, "backup", w.traced("backup", "w"), backups); n < 1 {
		t.Errorf("backup: %d renames were seen", n)
	}
}

// Somebody may exchange a startup file at the very moment when it is changed, after it was
// looked at for the last time: his is what the change is made in, or it is not made.
func TestEditAtTheVeryMoment(t *testing.T) {
	t.Parallel()
	needs(t, "strace")
	h := newHarbour(t, "berth a\nberth b\n")
	h.cargo("a", "", "haul 1\n")
	h.cargo("b", "", "haul 1\n")
	start, theirs := filepath.Join(h.dir, "harbour.start"), "berth a\nberth b\n# mine\n"
	cmd := exec.Command("strace", "-f", "-qq", "-o", "/dev/null", "-e", "trace=renameat2", "-e", "inject=renameat2:delay_enter=4000000:when=1", program, "off", "h", "a")
	cmd.Env = h.env
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	insist.OK(t, cmd.Start())
	var process string // that is traced
	eventually(t, "the change runs", func() bool {
		all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
		i := slices.IndexFunc(all, func(name string) bool {
			line, err := os.ReadFile(name)
			return err == nil && strings.HasPrefix(string(line), program+"\x00off")
		})
		if i >= 0 {
			process = filepath.Dir(all[i])
		}
		return i >= 0
	})
	eventually(t, "the file is about to be exchanged", func() bool {
		if waits := within(h.dir, ".initium-*"); len(waits) == 0 {
			return false
		}
		calls, _ := filepath.Glob(process + "/task/[0-9]*/syscall")
		return slices.ContainsFunc(calls, func(name string) bool {
			call, err := os.ReadFile(name)
			return err == nil && strings.HasPrefix(string(call), fmt.Sprint(unix.SYS_RENAMEAT2, " "))
		})
	})
	write(t, start+".new", theirs)
	insist.OK(t, os.Rename(start+".new", start))
	err := cmd.Wait()
	got, readErr := os.ReadFile(start)
	insist.OK(t, readErr)
	if want := map[bool]string{true: "# " + theirs, false: theirs}[err == nil]; string(got) != want { // made on top of his, or not
		t.Errorf("afterwards the file is %q, %v: %s", got, err, said.String())
	}
	if left := within(h.dir, ".initium-*"); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}
