package host_test

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"initium/internal/core/survey"
	"initium/internal/host"
	"initium/internal/host/disk"
	"initium/internal/insist"
)

// What a program prints as its version is read where it is run, from either output, up to a
// bound, whether it fails or leaves somebody behind that holds on to its output.
func TestAskVersion(t *testing.T) {
	dir := t.TempDir()
	for name, test := range map[string]struct{ script, want, fault string }{
		"either output":   {"echo 1.2; echo 3.4 >&2", "1.2\n3.4\n", ""},
		"fails":           {"echo 1.2; exit 3", "1.2\n", ""},
		"its folder":      {"pwd", dir + "\n", ""},
		"no input":        {"cat; echo 1", "1\n", ""},
		"says nothing":    {"exit 3", "", "exit status 3"},
		"without a word":  {"exit 0", "", ""},
		"somebody stays":  {"echo 1.2; sleep 30 &", "", "WaitDelay"},
		"a great deal":    {"head -c 70000 /dev/zero | tr '\\0' v", strings.Repeat("v", 64<<10), ""},
		"just the bound":  {"head -c 65536 /dev/zero | tr '\\0' v", strings.Repeat("v", 64<<10), ""},
		"not even a line": {"printf 1", "1", ""},
	} {
		got, err := host.AskVersion([]string{"/bin/sh", "-c", test.script}, dir)
		if string(got) != test.want || (err == nil) != (test.fault == "") || err != nil && !strings.Contains(err.Error(), test.fault) {
			t.Errorf("%s: %.60q, %v", name, got, err)
		}
	}
	insist.Fails(t, "what is not there", insist.Err(host.AskVersion([]string{"/no/such/program"}, dir)), "run /no/such/program")
}

// Small files are read whole, up to a bound, and nothing else is.
func TestReadSmall(t *testing.T) {
	dir := t.TempDir()
	disk := survey.SmallReader(disk.NewTree())
	for _, size := range []int{0, 1, 9, 10, 11, 5000} {
		name := filepath.Join(dir, fmt.Sprint(size))
		data := bytes.Repeat([]byte("x"), size)
		put(t, name, string(data), 0o644)
		got, err := disk.ReadSmall(strings.TrimPrefix(name, "/"), 10)
		if size > 10 {
			insist.That(t, errors.Is(err, survey.ErrTooLarge) && got == nil, "of %d bytes %d are read, %v", size, len(got), err)
		} else if err != nil || !bytes.Equal(got, data) {
			t.Errorf("of %d bytes %d are read, %v", size, len(got), err)
		}
	}
	insist.OK(t, os.Mkdir(filepath.Join(dir, "folder"), 0o755))
	if _, err := disk.ReadSmall(strings.TrimPrefix(dir, "/")+"/folder", 10); !errors.Is(err, survey.ErrNotFile) {
		t.Errorf("a folder: %v", err)
	}
	if _, err := disk.ReadSmall(strings.TrimPrefix(dir, "/")+"/nothing", 10); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("nothing: %v", err)
	}
}

// The key of a home is made once, of no bytes that anybody could guess, and for its owner
// alone; one that was torn is made anew.
func TestKeyOfAHome(t *testing.T) {
	one, other := host.Home{Dir: t.TempDir()}, host.Home{Dir: t.TempDir()}
	key, err := one.Key()
	again, err2 := one.Key()
	third, err3 := other.Key()
	if err := errors.Join(err, err2, err3); err != nil || len(key) != 32 || !bytes.Equal(key, again) || bytes.Equal(key, third) || bytes.Equal(key, make([]byte, 32)) {
		t.Errorf("%x, %x, %x, %v", key, again, third, err)
	}
	name := filepath.Join(one.Dir, "key")
	if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info, err)
	}
	put(t, name, "torn", 0o600)
	if anew, err := one.Key(); err != nil || len(anew) != 32 || bytes.Equal(anew, key) {
		t.Errorf("made anew: %x, %v", anew, err)
	}
}

// A process is found by what it runs and where; a shell that somebody has open there is none.
func TestRunningIn(t *testing.T) {
	dir, other := t.TempDir(), t.TempDir()
	script := filepath.Join(dir, "run.sh")
	insist.OK(t, os.WriteFile(script, []byte("#!/bin/sh\nread x\n"), 0o755))
	started := func(in string, words ...string) int {
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Dir = in
		stdin, err := cmd.StdinPipe()
		insist.OK(t, errors.Join(err, cmd.Start()))
		t.Cleanup(func() { stdin.Close(); cmd.Wait() })
		return cmd.Process.Pid
	}
	started(other, script)
	started(dir, "/bin/sh", "-c", "read x")
	for _, command := range [][]string{{script}, {"/bin/sh"}, {"/bin/sh", "-c", "read x"}, {"/bin/sh", script}, {"/no/such"}, nil} {
		insist.Same(t, fmt.Sprintf("%v runs as", command), host.RunningIn(dir, command), 0)
	}
	pid := started(dir, script, "x")
	for range 500 { // until it is what it has become
		if host.RunningIn(dir, []string{script}) == pid {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	for _, command := range [][]string{{script}, {script, "other"}, {"/bin/sh", script}} {
		insist.Same(t, fmt.Sprintf("%v runs as", command), host.RunningIn(dir, command), pid)
	}
	insist.Same(t, "in a folder that is not there it runs as", host.RunningIn(filepath.Join(dir, "none"), []string{script}), 0)
}
