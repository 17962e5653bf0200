package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// machine is one of the operator's own that is reached by SSH, on loopback: commands are run there, with a home of its own.
type machine struct {
	*faraway
	home string
}

func newMachine(t *testing.T) *machine {
	t.Helper()
	needs(t, "sshd", "ssh-keygen")
	dir := scratch(t, "machine")
	fingerprint := keys(t, dir)
	home, port := filepath.Join(dir, "home"), freePort(t)
	insist.OK(t, os.Mkdir(home, 0o755))
	config := filepath.Join(dir, "config")
	write(t, config, "Port "+port+"\nListenAddress 127.0.0.1\nHostKey "+dir+"/host\nAuthorizedKeysFile "+dir+"/own.pub\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nPasswordAuthentication no\nPidFile none\nMaxSessions 64\nAcceptEnv nothing\nSetEnv HOME="+home+" XDG_RUNTIME_DIR= XDG_DATA_HOME= INITIUM_HOME=\nSubsystem sftp internal-sftp\n")
	whoami, err := exec.Command("id", "-un").Output()
	insist.OK(t, err)
	log := filepath.Join(t.TempDir(), "log")
	if sshd, err := exec.LookPath("sshd"); err == nil && os.Getuid() == 0 && !exists("/run/sshd") { // which root's looks for
		if exec.Command("unshare", "-m", "true").Run() != nil {
			t.Skip("there is no /run/sshd, and no other /run is granted")
		}
		serves(t, "", port, log, "unshare", "-m", "--propagation", "private", "sh", "-c", `mount -t tmpfs none /run && mkdir -m 755 /run/sshd && exec "$0" -D -e -f "$1"`, sshd, config)
	} else {
		serves(t, "", port, log, "sshd", "-D", "-e", "-f", config)
	}
	return &machine{&faraway{t, home, "ssh://" + strings.TrimSpace(string(whoami)) + "@127.0.0.1:" + port, fingerprint, filepath.Join(dir, "own")}, home}
}

// moor lays a server out there, and adopts it.
func (m *machine) moor(o *operator) (dir, port string) {
	m.t.Helper()
	dir, port = filepath.Join(m.home, "moor"), freePort(m.t)
	copyAll(m.t, "../demo/lantern-moor", dir)
	put(m.t, filepath.Join(dir, "moor.sh"), strings.ReplaceAll(contents(m.t, filepath.Join(dir, "moor.sh")), "27420", port))
	insist.Holds(m.t, "adopted", o.do(0, "at", "box", "adopt", dir, "--set", "pace=0.05", "--set", "port="+port), "adopted "+dir+" as moor")
	m.t.Cleanup(func() { o.try("at", "box", "stop", "moor") })
	return dir, port
}

// At a machine of one's own Initium is put, and runs: servers there are adopted, started and proved by that machine, and
// go on when the line is gone.
func TestMachineOfOnesOwn(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	o := newOperator(t)
	insist.Holds(t, "not added", o.try("at", "box").err, "no such host")
	o.do(0, "host", "add", "box", m.url, "--identity", m.identity, "--fingerprint", m.fingerprint)
	insist.Holds(t, "not prepared", o.try("at", "box", "servers").err, "initium host prepare box puts it there")
	not := filepath.Join(t.TempDir(), "program")
	write(t, not, "#!/bin/sh\nexit 7\n")
	insist.Holds(t, "one that does not run there", o.try("host", "prepare", "box", "--program", not).err, "it does not run there", "ended with status 7")
	place := filepath.Join(m.home, ".local/share/initium/bin")
	insist.Same(t, "nothing is left of it", len(within(place, "*")), 0)
	insist.Holds(t, "prepared", o.do(0, "host", "prepare", "box"), "box: "+place+"/initium is initium")
	own, err := os.ReadFile(program)
	insist.OK(t, err)
	there, err := os.ReadFile(filepath.Join(place, "initium"))
	insist.That(t, err == nil && string(own) == string(there), "the program there is another: %v", err)
	o.do(0, "host", "prepare", "box") // which is there already
	insist.Same(t, "what is there", len(within(place, "*")), 1)

	_, port := m.moor(o)
	r := o.try("at", "box", "survey", "nobody")
	insist.That(t, r.status == 2 && strings.Contains(r.err, "nobody is not adopted"), "its exit status: %d, %s", r.status, r.err)
	insist.Holds(t, "nothing of a word is a shell's", o.try("at", "box", "survey", `it's $HOME; echo "x" `+"`id`").err, `"it's $HOME; echo \"x\" `+"`id`"+`" cannot be the name of a server`)
	var p proofJSON
	insist.OK(t, json.Unmarshal([]byte(o.do(0, "at", "box", "prove", "moor", "--json", "--keep-running")), &p))
	insist.Same(t, "proved there", p.Verdict, "proved")
	insist.That(t, strings.HasPrefix(p.Log, m.home), "the log is %s", p.Log)
	insist.Holds(t, "it runs on", o.do(0, "at", "box", "servers"), "moor", "running")
	said := o.do(0, "servers")
	insist.Holds(t, "at a glance from here", said, "box: moor", "Lantern Moor", "running", port, "proved")
	insist.Holds(t, "what is typed goes there", o.typed("12:00:00.000 | lit     | reed_lights 1.3.0 burns (320 ms)\n", "at", "box", "read", "--dialect", "lantern-moor", "-").out, "reed_lights")
	o.do(0, "at", "box", "stop", "moor")
	insist.Holds(t, "stopped", o.do(0, "servers"), "stopped")
}

// The screen of a machine is drawn here, and opened once more when the line broke.
func TestScreenOfAMachine(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	o := newOperator(t)
	o.do(0, "host", "add", "box", m.url, "--identity", m.identity, "--fingerprint", m.fingerprint)
	o.do(0, "host", "prepare", "box")
	m.moor(o)
	x := open(t, 120, 30, o.env, "at", "box")
	x.sees("1 server", "moor", "never started")
	x.tmux("resize-window", "-t", "x", "-x", "100", "-y", "26")
	x.sees("1 server", "moor")
	x.keys("Enter")
	x.sees("load order", "reed_lights")
	x.keys("s")
	x.sees("◆ proved; running")
	hangUp(filepath.Dir(m.home))
	x.sees("1 server", "last start", "moor", "running", "proved") // opened once more, from its beginning
	x.keys("C-c")
	insist.Holds(t, "the server does not care", o.do(0, "servers"), "box: moor", "running")
	o.do(0, "at", "box", "stop", "moor")
	y := open(t, 120, 30, o.env)
	y.sees("box: moor", "Lantern Moor", "stopped")
	y.keys("End", "Enter")
	y.sees("load order", "reed_lights")
}
