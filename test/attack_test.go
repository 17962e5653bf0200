package test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"initium/internal/insist"
)

// TestAttack lets operators change servers at random while the world is against them: a
// command is killed or refused by the disk at a random system call, others edit the same
// files at the same time, a second home works on the same folder, and whoever owns the folder
// has planted links, pipes and folders at the places that are used. Whatever happens nothing
// of anybody's is lost, nothing outside the folder is touched, nothing is left beside it, and
// a change is there as a whole or not at all.
//
// scripts/attack runs many rounds; INITIUM_ATTACK is how many, INITIUM_ATTACK_SEED which.
func TestAttack(t *testing.T) {
	needs(t, "strace")
	rounds, seed := 6, uint64(1)
	for name, set := range map[string]func(uint64){"INITIUM_ATTACK": func(n uint64) { rounds = int(n) }, "INITIUM_ATTACK_SEED": func(n uint64) { seed = n }} {
		if v := os.Getenv(name); v != "" {
			n, err := strconv.ParseUint(v, 10, 63)
			insist.OK(t, err)
			set(n)
		}
	}
	var mu sync.Mutex
	all := map[string]int{}
	t.Cleanup(func() { t.Logf("%d rounds from seed %d: %v", rounds, seed, all) })
	for n := range rounds {
		t.Run(fmt.Sprint("round ", n), func(t *testing.T) {
			t.Parallel()
			f := newFront(t, rand.New(rand.NewPCG(seed, uint64(n))))
			f.round()
			mu.Lock()
			defer mu.Unlock()
			for what, times := range f.happened {
				all[what] += times
			}
		})
	}
}

// front is a round: a server, its operators, and what is against them.
type front struct {
	*testing.T
	r         *rand.Rand
	base, dir string
	operators []*operator // of the same folder, each with a home of his own
	names     []string    // of the server, by operator
	treasure  string      // a folder that is no business of the server's
	guarded   string      // how that looks
	first     string      // how the server looked before anything
	tokens    []string    // what others have written into the startup file
	notes     []string    // and into files of mods
	foreign   bool        // others have had their hands in it
	planted   []string    // what was put in the way, to be taken away again
	says      []string    // what was done, for whoever reads of a failure
	happened  map[string]int
}

// nobody is who owns what is planted.
const nobody = 65534

func newFront(t *testing.T, r *rand.Rand) *front {
	f := &front{T: t, r: r, base: t.TempDir(), happened: map[string]int{}}
	f.dir = filepath.Join(f.base, f.one("server", "h[1]s", "se rver", "a*b?", "50%41", "st#1"))
	f.treasure = filepath.Join(f.base, "treasure")
	write(t, filepath.Join(f.treasure, "secret"), "let licence of-somebody-else\n")
	insist.OK(t, os.Chmod(filepath.Join(f.treasure, "secret"), 0o600))
	write(t, filepath.Join(f.dir, "harbour.start"), "let title \"Test\"\nlet port 27000\nlet licence HS-1\nberth a\n# ~~ more ~~\nberth b\n# berth c\nalso more.start\n")
	write(t, filepath.Join(f.dir, "more.start"), "berth d\n")
	insist.OK(t, os.Chmod(filepath.Join(f.dir, "more.start"), 0o640))
	for _, name := range []string{"a", "b", "c", "d", "e", "g"} {
		write(t, filepath.Join(f.dir, "cargo", name, "bill.toml"), fmt.Sprintf("name = %q\nrelease = \"1.0\"\n", name))
		write(t, filepath.Join(f.dir, "cargo", name, "deck.script"), "haul 1\n")
	}
	insist.OK(t, os.Chmod(filepath.Join(f.dir, "cargo", "d", "deck.script"), 0o750))
	older, newer := kelp("kelp_farms/"), kelp("kelp_farms/", "kelp_farms/more.toml=m")
	newer["kelp_farms/bill.toml"] = strings.Replace(kelpBill, "1.3.0", "2.0.0", 1)
	delete(newer, "kelp_farms/art/raft.png")
	insist.OK(t, os.WriteFile(filepath.Join(f.base, "one.zip"), zipped(t, older), 0o644))
	insist.OK(t, os.WriteFile(filepath.Join(f.base, "two.zip"), zipped(t, newer), 0o644))
	if os.Getuid() == 0 && f.chance(3) { // a folder of somebody else's
		insist.OK(t, filepath.WalkDir(f.dir, func(name string, _ fs.DirEntry, err error) error {
			return errors.Join(err, os.Lchown(name, nobody, nobody))
		}))
	}
	homes := 1
	if f.chance(3) {
		homes = 2
	}
	for n := range homes {
		o := &operator{t: t, home: filepath.Join(f.base, f.one("home", "a b[?#%é", "we[ir]d", "ho'me", "50%41")+strconv.Itoa(n))}
		o.env = append(os.Environ(), "INITIUM_HOME="+o.home, "HOME="+f.base, "XDG_RUNTIME_DIR=")
		f.operators, f.names = append(f.operators, o), append(f.names, "s"+strconv.Itoa(n))
		o.do(0, "adopt", f.dir, "--as", f.names[n])
		o.do(0, "ledger", f.names[n])
	}
	f.guarded, f.first = f.look(f.treasure), f.look(f.dir)
	return f
}

func (f *front) one(of ...string) string { return of[f.r.IntN(len(of))] }
func (f *front) chance(in int) bool      { return f.r.IntN(in) == 0 }

func (f *front) failed(format string, args ...any) {
	f.Helper()
	f.Fatalf("%s\nafter\n%s\nthe server's folder\n%s", fmt.Sprintf(format, args...), strings.Join(f.says, "\n"), f.look(f.dir))
}

// look writes down all that is below a folder, with rights and owners.
func (f *front) look(dir string) string {
	var all strings.Builder
	err := filepath.WalkDir(dir, func(name string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := os.Lstat(name)
		if err != nil {
			return err
		}
		fmt.Fprintf(&all, "%s %v %d", strings.TrimPrefix(name, dir), info.Mode(), info.Sys().(*syscall.Stat_t).Uid)
		switch {
		case info.Mode().IsRegular():
			data, err := os.ReadFile(name)
			if err != nil {
				return err
			}
			fmt.Fprintf(&all, " %q", data)
		case info.Mode()&fs.ModeSymlink != 0:
			to, _ := os.Readlink(name)
			all.WriteString(" to " + to)
		}
		all.WriteString("\n")
		return nil
	})
	if err != nil {
		f.Fatal(err)
	}
	return all.String()
}

// change is a random change of one operator's, and whether it can be wrong in itself.
func (f *front) change(name string, mods ...string) []string {
	mod := f.one(mods...)
	switch f.r.IntN(9) {
	case 0:
		return []string{"off", name, mod}
	case 1:
		return []string{"on", name, mod}
	case 2:
		return []string{"move", name, mod, "--" + f.one("before", "after"), f.one("a", "b", "d")}
	case 3:
		return []string{"register", name, mod}
	case 4, 5:
		return []string{"take", name, filepath.Join(f.base, f.one("one.zip", "two.zip")), "--agree"}
	case 6:
		return []string{"remove", name, f.one("kelp_farms", mod), "--agree"}
	case 7:
		return []string{"undo", name, f.one("0", "1")}
	}
	return []string{"undo", name}
}

// run carries a command out, under strace when inject says so, and looks that it ends, in
// time and in its own words.
func (f *front) run(o *operator, inject []string, args ...string) result {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	if inject != nil {
		cmd = exec.CommandContext(ctx, "strace", append(append([]string{"-f", "-qq", "-o", "/dev/null"}, inject...), append([]string{program}, args...)...)...)
	}
	cmd.Env = o.env
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	f.says = append(f.says, fmt.Sprintf("%s %s: %v", strings.Join(args, " "), strings.Join(inject, " "), err))
	killed := cmd.ProcessState != nil && !cmd.ProcessState.Exited()
	switch {
	case killed:
		f.happened["dead"]++
	case err == nil && args[0] != "ledger":
		f.happened["done"]++
	}
	switch status := cmd.ProcessState.ExitCode(); {
	case ctx.Err() != nil:
		f.failed("it does not end")
	case strings.Contains(errOut.String(), "goroutine "):
		f.failed("it breaks:\n%s", errOut.String())
	case !killed && (status < 0 || status > 3) && status != 128+int(syscall.SIGKILL):
		f.failed("it ends with %d:\n%s%s", status, out.String(), errOut.String())
	}
	return result{cmd.ProcessState.ExitCode(), out.String(), errOut.String()}
}

// round does a few things, each with something against it, and looks at what is left.
func (f *front) round() {
	for range 3 + f.r.IntN(4) {
		n := f.r.IntN(len(f.operators))
		args := f.change(f.names[n], "a", "b", "c", "d")
		stop := func() {}
		switch f.r.IntN(6) {
		case 0, 1:
			f.happened["edited meanwhile"]++
			stop = f.edit()
		case 2:
			if len(f.operators) == 2 {
				f.happened["changed by another home"]++
				stop = f.other(1 - n)
			}
		case 3:
			f.happened["planted"]++
			f.plant()
		}
		inject := f.inject()
		f.happened["commands"]++
		f.run(f.operators[n], inject, args...)
		if inject != nil && f.chance(4) { // what brings it to an end is cut off too
			f.run(f.operators[n], f.inject(), "ledger", f.names[n])
		}
		stop()
		f.unplant()
		f.holds()
	}
	f.wayBack()
}

// inject says where strace is to kill a command or have a system call refused; nil for nowhere.
func (f *front) inject() []string {
	call, what := f.one(writes...), ""
	switch f.r.IntN(7) {
	case 0, 1, 2:
		f.happened["killed"]++
		what = fmt.Sprintf("signal=SIGKILL:when=%d", 1+f.r.IntN(f.reach(call)))
	case 3:
		f.happened["refused by the disk"]++
		call = f.one("write", "pwrite64", "fsync", "renameat2", "renameat", "rename", "mkdirat", "ftruncate", "copy_file_range", "unlinkat", "fchmod")
		what = fmt.Sprintf("error=%s:when=%d%s", f.one("ENOSPC", "EIO", "EACCES"), 1+f.r.IntN(f.reach(call)), f.one("", "+"))
	default:
		return nil
	}
	return []string{"-e", "trace=" + call, "-e", "inject=" + call + ":" + what}
}

// reach is about how often a change makes a system call.
func (f *front) reach(call string) int {
	return map[string]int{"write": 12, "pwrite64": 40, "openat": 90, "close": 90, "fsync": 12, "fdatasync": 12}[call] + 4
}

// edit lets somebody write into the startup file and into mods until it is stopped, as
// editors do: the new file beside the old one, then in its place.
func (f *front) edit() (stop func()) {
	f.foreign = true
	done, ended := make(chan struct{}), make(chan struct{})
	r := rand.New(rand.NewPCG(f.r.Uint64(), 0))
	begin := len(f.tokens)
	go func() {
		defer close(ended)
		for n := 0; n < 20; n++ {
			select {
			case <-done:
				return
			case <-time.After(time.Duration(r.IntN(8)) * time.Millisecond):
			}
			token := fmt.Sprintf("# token %d", begin+n)
			if r.IntN(2) == 0 {
				script := filepath.Join(f.dir, "harbour.start")
				if replaced(script, func(old []byte) []byte { return append(old, token+"\n"...) }) == nil {
					f.tokens = append(f.tokens, token)
				}
				continue
			}
			mod := filepath.Join(f.dir, "cargo", []string{"a", "b", "d", "kelp_farms"}[r.IntN(4)])
			if os.WriteFile(filepath.Join(mod, fmt.Sprint("note ", begin+n)), []byte(token), 0o644) == nil {
				f.notes = append(f.notes, token)
			}
		}
	}()
	return func() { close(done); <-ended }
}

// replaced puts a changed file into a file's place, if it is still the one that was read.
func replaced(name string, change func([]byte) []byte) error {
	old, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	beside := name + ".edit"
	if err := os.WriteFile(beside, change(old), 0o644); err != nil {
		return err
	}
	return os.Rename(beside, name)
}

// other lets the operator of another home change mods of his own meanwhile.
func (f *front) other(n int) (stop func()) {
	f.foreign = true
	args := []string{f.one("off", "on", "register"), f.names[n], f.one("e", "g")}
	ended := make(chan result)
	cmd := exec.Command(program, args...)
	cmd.Env = f.operators[n].env
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	go func() {
		err := cmd.Run()
		ended <- result{cmd.ProcessState.ExitCode(), fmt.Sprint(err), out.String()}
	}()
	return func() {
		r := <-ended
		f.says = append(f.says, fmt.Sprintf("%s, at the same time: %s", strings.Join(args, " "), r.out))
		if strings.Contains(r.err, "goroutine ") || r.status < 0 || r.status > 3 {
			f.failed("the other home's command ends with %d: %s", r.status, r.err)
		}
		if r.status != 0 {
			return
		}
		lines := contents(f, filepath.Join(f.dir, "harbour.start")) + contents(f, filepath.Join(f.dir, "more.start"))
		if on := slices.Contains(strings.Split(lines, "\n"), "berth "+args[2]); on != (args[0] != "off") {
			f.failed("%s was done, and is not so any more", strings.Join(args, " "))
		}
	}
}

// plant puts something in the way of what may come next: a link out of the folder, a pipe, a
// folder, as somebody who may write there and nowhere else.
func (f *front) plant() {
	place := filepath.Join(f.dir, f.one("cargo/kelp_farms", "cargo/kelp_farms/bill.toml", "cargo/kelp_farms/art", "cargo/kelp_farms/deck.script", "harbour.start.initium", ".initium", ".initium-1", ".initium-1-0", "cargo/.initium-1-p0", "cargo/.initium-1-p0-old"))
	if _, err := os.Lstat(place); err == nil {
		return
	}
	if os.MkdirAll(filepath.Dir(place), 0o755) != nil {
		return
	}
	kept := filepath.Dir(place)
	var err error
	switch f.r.IntN(4) {
	case 0:
		err = os.Symlink(filepath.Join(f.treasure, "secret"), place)
	case 1:
		err = os.Symlink(f.treasure, place)
	case 2:
		err = syscall.Mkfifo(place, 0o666)
	case 3:
		err = os.Mkdir(place, 0o777)
	}
	insist.OK(f, err)
	if os.Getuid() == 0 {
		insist.OK(f, os.Lchown(place, nobody, nobody))
	}
	f.says = append(f.says, "planted "+place)
	f.planted = append(f.planted, place)
	if filepath.Base(kept) == "kelp_farms" {
		f.planted = append(f.planted, kept)
	}
	f.foreign = true
}

// unplant takes away what is still there of it.
func (f *front) unplant() {
	for _, place := range f.planted {
		if info, err := os.Lstat(place); err == nil && !info.Mode().IsRegular() {
			os.Remove(place) // a folder that was filled stays
		}
	}
	f.planted = nil
}

// holds looks at what has to be so whatever has happened.
func (f *front) holds() {
	f.Helper()
	for n, o := range f.operators {
		if r := f.run(o, nil, "ledger", f.names[n]); r.status != 0 && !f.foreign {
			f.failed("the next run ends with %d: %s%s", r.status, r.out, r.err)
		}
	}
	if now := f.look(f.treasure); now != f.guarded {
		f.failed("outside the folder there is\n%s\nand was\n%s", now, f.guarded)
	}
	left := ""
	filepath.WalkDir(f.dir, func(name string, e fs.DirEntry, err error) error {
		if err == nil && strings.Contains(filepath.Base(name), ".initium") {
			left += name + "\n"
		}
		return nil
	})
	if left != "" {
		f.failed("left beside the files:\n%s", left)
	}
	script := contents(f, filepath.Join(f.dir, "harbour.start"))
	for _, token := range f.tokens {
		if !strings.Contains(script, token+"\n") {
			f.failed("the edit %q is lost", token)
		}
	}
	for _, note := range f.notes {
		if !f.kept(note) {
			f.failed("the file with %q is lost", note)
		}
	}
	for _, line := range []string{"let title \"Test\"\n", "let licence HS-1\n", "# ~~ more ~~\n", "also more.start\n"} {
		if strings.Count(script, line) != 1 {
			f.failed("%q is in the startup file %d times", line, strings.Count(script, line))
		}
	}
}

// kept tells whether a file with a text is there yet, on the server or in a home.
func (f *front) kept(text string) (is bool) {
	for _, dir := range append([]string{f.dir}, f.homes()...) {
		filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() {
				return nil
			}
			if data, err := os.ReadFile(name); err == nil && string(data) == text {
				is = true
				return fs.SkipAll
			}
			return nil
		})
	}
	return is
}

func (f *front) homes() (list []string) {
	for _, o := range f.operators {
		list = append(list, o.home)
	}
	return list
}

// wayBack goes back to how Initium found the server. Where nobody else had his hands in it
// that is all as it was, to the last byte.
func (f *front) wayBack() {
	f.Helper()
	r := f.run(f.operators[0], nil, "undo", f.names[0], "0")
	f.holds()
	if f.foreign || len(f.operators) > 1 {
		return
	}
	if r.status != 0 && !strings.Contains(r.out+r.err, "there is nothing to change") {
		f.failed("the way back ends with %d: %s%s", r.status, r.out, r.err)
	}
	if now := f.look(f.dir); now != f.first {
		f.failed("after the way back it is not\n%s", f.first)
	}
}
