package test

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"initium/internal/insist"
	"initium/internal/lack"
)

// insideWord tells a test that it is in a world of its own, where systemd may run.
const insideWord = "INITIUM_TEST_INSIDE"

// A server that was handed to systemd is started, proved and stopped from here as before, is started again by systemd
// after a crash, and is taken back. The systemd is a real one, that of a user, among processes, mounts and control
// groups that are the test's own.
func TestHandedToSystemd(t *testing.T) {
	needs(t, "systemctl", "unshare")
	const systemd = "/lib/systemd/systemd"
	if os.Getenv(insideWord) == "" {
		t.Parallel()
		if os.Getuid() != 0 {
			t.Skip("mounts are made by root alone")
		}
		if out, err := exec.Command("unshare", "--pid", "--fork", "--mount", "--mount-proc", "--cgroup", "mount", "-t", "tmpfs", "tmpfs", "/run").CombinedOutput(); err != nil {
			t.Skipf("no mounts of its own here: %s", out)
		}
		groups := ownGroups(t)
		cmd := exec.Command("unshare", "--pid", "--fork", "--kill-child", "--mount", "--mount-proc", "--cgroup",
			"sh", "-c", `mount -t tmpfs tmpfs /run && mkdir -p /run/systemd/system && "$@"; exit $?`, "sh", os.Args[0], "-test.run=^TestHandedToSystemd$", "-test.v")
		cmd.Env = append(os.Environ(), insideWord+"=1", "INITIUM_TEST_PROGRAM="+program)
		cmd.Args = append([]string{"sh", "-c", `for g in $0; do echo $$ >"$g/cgroup.procs" || exit 1; done; exec "$@"`, strings.Join(groups, " ")}, cmd.Args...)
		cmd.Path, _ = exec.LookPath("sh")
		out, err := cmd.CombinedOutput()
		insist.Need(t, err == nil, "%v\n%s", err, out)
		if strings.Contains(string(out), "--- SKIP") {
			t.Skipf("%s", out)
		}
		return
	}
	o := newHarbour(t, "")
	insist.Holds(t, "without one", o.try("service", "h", "--on", "--user").err, "nothing is handed over", "export unit h")
	insist.Holds(t, "not yet", o.do(0, "service", "h"), "h: not handed to systemd")
	insist.Holds(t, "nothing to take back", o.try("service", "h", "--off").err, "was not handed")
	home := filepath.Dir(o.home)
	run := filepath.Join(home, "run")
	insist.OK(t, os.Mkdir(run, 0o700))
	for i, e := range o.env {
		if strings.HasPrefix(e, "XDG_RUNTIME_DIR=") {
			o.env[i] += run
		}
	}
	manager := exec.Command(systemd, "--user")
	manager.Env = o.env
	if err := manager.Start(); errors.Is(err, fs.ErrNotExist) {
		lack.Of(t, systemd)
	}
	t.Cleanup(func() { manager.Process.Kill(); manager.Wait() })
	systemctl := func(args ...string) string {
		cmd := exec.Command("systemctl", append([]string{"--user"}, args...)...)
		cmd.Env = o.env
		out, _ := cmd.CombinedOutput()
		return strings.TrimSpace(string(out))
	}
	eventually(t, "systemd answers", func() bool { return strings.HasPrefix(systemctl("show", "--property=Version"), "Version=") })

	insist.Holds(t, "handed over", o.do(0, "service", "h", "--on", "--user"), "h: handed to systemd as initium-h.service, a service of yours: inactive (dead), starts by itself", "loginctl enable-linger")
	unit := filepath.Join(home, ".config/systemd/user/initium-h.service")
	insist.Holds(t, "the unit", contents(t, unit), "# Written by Initium", "WantedBy=default.target")
	insist.Lacks(t, "the unit", contents(t, unit), "User=")
	insist.Holds(t, "another systemd", o.try("service", "h", "--on").err, "is a service of the user already")

	insist.Holds(t, "proved", o.do(0, "prove", "h", "--keep-running"), "proved")
	insist.Same(t, "it is the service", systemctl("is-active", "initium-h"), "active")
	insist.Holds(t, "told", o.do(0, "service", "h"), "active (running)")
	insist.Holds(t, "it runs", o.try("service", "h", "--off").err, "h is running; stop it first")
	insist.Holds(t, "a second start", o.try("prove", "h").err, "is running")

	var again struct {
		State struct{ Restarts, Active string }
	}
	main := strings.TrimPrefix(systemctl("show", "--property=MainPID", "initium-h"), "MainPID=")
	for _, pid := range childrenOf(t, main) {
		insist.OK(t, syscall.Kill(pid, syscall.SIGKILL))
	}
	eventually(t, "systemd starts it again", func() bool {
		o.json(0, &again, "service", "h", "--json")
		return again.State.Restarts == "1" && again.State.Active == "active"
	})
	eventually(t, "the second start is that of the server", func() bool { return strings.Contains(o.do(0, "servers"), "running") })
	o.do(0, "stop", "h")
	eventually(t, "it stays down", func() bool { return systemctl("is-active", "initium-h") == "inactive" })

	good := contents(t, o.script())
	write(t, o.script(), strings.ReplaceAll(good, "let licence HS-1", ""))
	insist.Holds(t, "a start that fails", o.try("prove", "h").out, "the server stopped before it was ready")
	insist.Same(t, "it is not tried again", systemctl("is-active", "initium-h"), "inactive")
	write(t, o.script(), good)
	insist.Holds(t, "proved once more", o.do(0, "prove", "h"), "proved")

	insist.Holds(t, "who starts it again", o.try("guard", "h").err, "systemd starts it again after a crash")
	ours := contents(t, unit)
	write(t, unit, strings.ReplaceAll(ours, o.home, o.home+"2"))
	insist.Holds(t, "another Initium's", o.try("service", "h", "--off").err, "was not written here; it stays")
	write(t, unit, "[Service]\nExecStart=/bin/true\n")
	insist.Holds(t, "somebody else's", o.try("service", "h", "--off").err, "was not written here; it stays")
	insist.Holds(t, "and not replaced", o.try("service", "h", "--on", "--user").err, "was not written here; it stays")
	write(t, unit, ours)
	insist.Holds(t, "taken back", o.do(0, "service", "h", "--off"), "h is started from here alone again")
	_, err := os.Stat(unit)
	insist.That(t, errors.Is(err, fs.ErrNotExist), "the unit: %v", err)
	insist.Holds(t, "proved without", o.do(0, "prove", "h"), "proved")
	insist.Holds(t, "and not by systemd", systemctl("is-active", "initium-h"), "inactive")
}

// childrenOf are the processes that one has started.
func childrenOf(t *testing.T, pid string) (list []int) {
	t.Helper()
	for _, file := range within("/proc/"+pid, "task/*/children") { // of each thread those that it has
		for _, word := range strings.Fields(contents(t, file)) {
			n, err := strconv.Atoi(word)
			insist.OK(t, err)
			list = append(list, n)
		}
	}
	insist.Need(t, len(list) > 0, "process %s has started none", pid)
	return list
}

// ownGroups makes control groups for a systemd of the test's own, one in each tree that systemd uses (cgroups(7)).
func ownGroups(t *testing.T) (groups []string) {
	t.Helper()
	name := fmt.Sprint("initium-test-", os.Getpid())
	for _, tree := range []string{"/sys/fs/cgroup/systemd", "/sys/fs/cgroup/unified", "/sys/fs/cgroup"} {
		if _, err := os.Stat(filepath.Join(tree, "cgroup.procs")); err != nil {
			continue
		}
		group := filepath.Join(tree, name)
		if err := os.Mkdir(group, 0o755); err != nil {
			t.Skipf("no control groups can be made here: %v", err)
		}
		t.Cleanup(func() {
			var all []string
			_ = filepath.WalkDir(group, func(path string, e fs.DirEntry, err error) error {
				if err == nil && e.IsDir() {
					all = append(all, path)
				}
				return err
			})
			for i := len(all) - 1; i >= 0; i-- {
				eventually(t, "a control group becomes empty", func() bool { return os.Remove(all[i]) == nil })
			}
		})
		groups = append(groups, group)
	}
	if len(groups) == 0 {
		t.Skip("there are no control groups here")
	}
	return groups
}
