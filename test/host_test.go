package test

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"initium/internal/insist"
)

// faraway is a machine elsewhere that is reached by file transfer: a real server for that, on loopback.
type faraway struct {
	t           *testing.T
	dir         string // where its files are
	url         string
	fingerprint string
	identity    string
}

// serves starts a program that listens on a port, as another user where this one is root.
func serves(t *testing.T, user, port, log string, program string, args ...string) {
	t.Helper()
	path, err := exec.LookPath(program)
	insist.OK(t, err)
	cmd := as(user, path, args...)
	out, err := os.Create(log)
	insist.OK(t, err)
	cmd.Stdout, cmd.Stderr = out, out
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	insist.OK(t, cmd.Start())
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
	})
	for n := 0; ; n++ {
		conn, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			conn.Close()
			return
		}
		insist.Need(t, n < 600, "%s does not answer: %s", program, contentsOf(log))
		time.Sleep(50 * time.Millisecond)
	}
}

// stranger is the user that such servers run as, where this one is root.
const stranger = "daemon"

// scratch is a folder that the stranger can reach and owns.
func scratch(t *testing.T, name string) string {
	t.Helper()
	dir, err := os.MkdirTemp("/tmp", "initium-"+name+"-")
	insist.OK(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	insist.OK(t, os.Chmod(dir, 0o755))
	return dir
}

func given(t *testing.T, dir string) {
	t.Helper()
	if os.Getuid() == 0 {
		out, err := exec.Command("chown", "-R", stranger, dir).CombinedOutput()
		insist.Need(t, err == nil, "%s", out)
	}
}

// keys makes the key of a host, whose fingerprint it returns, and one that it lets in.
func keys(t *testing.T, dir string) (fingerprint string) {
	t.Helper()
	for _, key := range []string{"host", "own"} {
		out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, key)).CombinedOutput()
		insist.Need(t, err == nil, "%s", out)
	}
	out, err := exec.Command("ssh-keygen", "-l", "-f", filepath.Join(dir, "host.pub")).Output()
	insist.OK(t, err)
	return strings.Fields(string(out))[1]
}

func overSFTP(t *testing.T) *faraway {
	t.Helper()
	needs(t, "sshd", "ssh-keygen")
	dir := scratch(t, "sshd")
	fingerprint := keys(t, dir)
	port := freePort(t)
	write(t, filepath.Join(dir, "config"), "Port "+port+"\nListenAddress 127.0.0.1\nHostKey "+dir+"/host\nAuthorizedKeysFile "+dir+"/own.pub\nStrictModes no\nUsePAM no\nPasswordAuthentication no\nPidFile none\nMaxSessions 64\nSubsystem sftp internal-sftp\n")
	write(t, filepath.Join(dir, "files/keep"), "")
	own := filepath.Join(t.TempDir(), "own")
	write(t, own, contents(t, filepath.Join(dir, "own")))
	insist.OK(t, os.Chmod(own, 0o600))
	given(t, dir)
	user := stranger
	if os.Getuid() != 0 {
		whoami, err := exec.Command("id", "-un").Output()
		insist.OK(t, err)
		user = strings.TrimSpace(string(whoami))
	}
	serves(t, stranger, port, filepath.Join(t.TempDir(), "log"), "sshd", "-D", "-e", "-f", filepath.Join(dir, "config"))
	return &faraway{t, filepath.Join(dir, "files"), "sftp://" + user + "@127.0.0.1:" + port + dir + "/files", fingerprint, own}
}

func overFTP(t *testing.T, secure bool) *faraway {
	t.Helper()
	needs(t, "vsftpd", "openssl")
	if os.Getuid() != 0 {
		t.Skip("vsftpd is started by root alone")
	}
	dir := scratch(t, "vsftpd")
	port := freePort(t)
	config := "listen=YES\nlisten_address=127.0.0.1\nlisten_port=" + port + "\nbackground=NO\nanonymous_enable=YES\nlocal_enable=NO\nno_anon_password=YES\nwrite_enable=YES\nanon_upload_enable=YES\nanon_mkdir_write_enable=YES\nanon_other_write_enable=YES\nanon_world_readable_only=NO\nanon_umask=022\nanon_root=" + dir + "/root\nftp_username=" + stranger + "\nsecure_chroot_dir=" + dir + "/empty\nseccomp_sandbox=NO\nisolate_network=NO\nallow_writeable_chroot=YES\npasv_address=127.0.0.1\n"
	r := &faraway{t: t, dir: filepath.Join(dir, "root/files"), url: "ftp://127.0.0.1:" + port + "/files"}
	if secure {
		out, err := exec.Command("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", dir+"/key", "-out", dir+"/cert", "-days", "2", "-subj", "/CN=quay").CombinedOutput()
		insist.Need(t, err == nil, "%s", out)
		config += "ssl_enable=YES\nallow_anon_ssl=YES\nforce_anon_data_ssl=YES\nforce_anon_logins_ssl=YES\nrequire_ssl_reuse=NO\nrsa_cert_file=" + dir + "/cert\nrsa_private_key_file=" + dir + "/key\n"
		r.url = "ftpes://127.0.0.1:" + port + "/files"
	}
	write(t, filepath.Join(dir, "config"), config)
	insist.OK(t, os.MkdirAll(filepath.Join(dir, "empty"), 0o755))
	write(t, filepath.Join(r.dir, "keep"), "")
	given(t, r.dir) // and not what is above it: such a server runs in no folder that its user may write to
	serves(t, "", port, filepath.Join(t.TempDir(), "log"), "vsftpd", filepath.Join(dir, "config"))
	return r
}

// A server at a host is one like any other: it is looked at, checked and changed from here; what is done arrives whole,
// what others do there is seen; and it is taken back there too.
func TestServerAtAHost(t *testing.T) {
	t.Parallel()
	for name, begin := range map[string]func(*testing.T) *faraway{
		"sftp": overSFTP, "ftp": func(t *testing.T) *faraway { return overFTP(t, false) }, "ftpes": func(t *testing.T) *faraway { return overFTP(t, true) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := begin(t)
			r.is(t, "../demo/lantern-moor", "moor")
			o := newOperator(t)
			add := []string{"host", "add", "there", r.url}
			if r.identity != "" {
				add = append(add, "--identity", r.identity)
			}
			if name != "ftp" {
				insist.Holds(t, "whom one does not know", o.try(add...).err, "shows the fingerprint SHA256:", "was not confirmed")
				insist.Holds(t, "another", o.try(append(add, "--fingerprint", "SHA256:x")...).err, "and not SHA256:x")
				if r.fingerprint == "" {
					_, r.fingerprint, _ = strings.Cut(o.try(add...).err, "shows the fingerprint ")
					r.fingerprint, _, _ = strings.Cut(r.fingerprint, ",")
				}
				add = append(add, "--fingerprint", r.fingerprint)
			}
			insist.Holds(t, "added", o.do(0, append(add, "--notes", "Start is the green one")...), "added there: "+r.url[:5])
			insist.Holds(t, "listed", o.do(0, "host", "list"), "there", "green one")
			insist.Holds(t, "tried", o.do(0, "host", "test", "there"), "reads back what was written", "renames over what is there")

			insist.Holds(t, "adopted", o.do(0, "adopt", "there:moor", "--as", "live"), "adopted there:", "/moor as live (Lantern Moor)")
			insist.Holds(t, "the survey", o.do(0, "survey", "live"), "reed_lights", "will_o_wisp")
			insist.Holds(t, "the host's server", o.do(0, "host", "list"), "live")
			insist.Holds(t, "it is not dropped", o.try("host", "drop", "there").err, "live stands at there")
			for _, args := range [][]string{{"prove", "live", "--keep-running"}, {"rehearse", "live"}, {"culprit", "live"}} {
				insist.Holds(t, args[0], o.try(args...).err, "it stands at there", "your notes: Start is the green one", "hand its log in")
			}
			insist.Holds(t, "no log is known", o.try("prove", "live").err, "say which it is", "--log PATH", "--from LOG")
			moor := filepath.Join(r.dir, "moor")
			table := filepath.Join(moor, "tables/creatures.xml")
			before := contents(t, table)
			script := contents(t, filepath.Join(moor, "moor.sh"))
			source := filepath.Join(t.TempDir(), "fen_choir")
			copyAll(t, "../demo/downloads/fen_choir.zip", source)
			o.do(0, "take", "live", source)
			insist.Holds(t, "there", contents(t, filepath.Join(moor, "bog/fen_choir/lantern.json")), "Fen choir")
			insist.Holds(t, "there", contents(t, table), "bittern")
			insist.Holds(t, "there", contents(t, filepath.Join(moor, "moor.sh")), "fen_choir")
			insist.Same(t, "nothing is left beside", strings.Count(below(t, moor), ".initium"), 0)

			put(t, table, strings.Replace(contents(t, table), `"heron" luck="2"`, `"heron" luck="9"`, 1)) // somebody else
			o.do(0, "sync", "live")
			insist.Holds(t, "what others do is seen", o.do(0, "settings", "live", "--file", "tables/creatures.xml"), "luck  9")
			o.do(0, "undo", "live", "0")
			insist.Same(t, "taken back", contents(t, filepath.Join(moor, "moor.sh")), script)
			insist.That(t, !exists(filepath.Join(moor, "bog/fen_choir")), "the mod is still there")
			insist.Same(t, "somebody else's stays", contents(t, table), strings.Replace(before, `"heron" luck="2"`, `"heron" luck="9"`, 1))
			o.do(0, "off", "live", "mist_bells", "--stage")
			put(t, filepath.Join(moor, "moor.sh"), script+"# mine\n")
			o.do(0, "apply", "live")
			insist.Holds(t, "an edit of the same file meanwhile", contents(t, filepath.Join(moor, "moor.sh")), "# mine")
			insist.Lacks(t, "and the change", contents(t, filepath.Join(moor, "moor.sh")), "mist_bells")
			r.proves(t, o, moor)
			insist.Lacks(t, "what is kept", contents(t, filepath.Join(o.home, "hosts/there.toml")), "PRIVATE")
		})
	}
}

// proves hands the log of a server in that is started elsewhere: from a file, from its own folder there, and as it is
// pasted.
func (r *faraway) proves(t *testing.T, o *operator, moor string) {
	t.Helper()
	o.do(0, "undo", "live", "0")
	insist.Holds(t, "before any", o.do(0, "servers"), "at there", "no start seen")
	local := newOperator(t)
	dir := filepath.Join(filepath.Dir(local.home), "moor")
	copyAll(t, moor, dir)
	free := freePort(t)
	put(t, filepath.Join(dir, "moor.sh"), strings.ReplaceAll(contents(t, filepath.Join(dir, "moor.sh")), "27420", free))
	local.do(0, "adopt", dir, "--set", "pace=0.05", "--set", "port="+free)
	var p proofJSON
	local.json(0, &p, "prove", "moor", "--json")
	log := contents(t, p.Log)
	said := o.do(0, "prove", "live", "--from", p.Log)
	insist.Holds(t, "handed in", said, "live: proved", "reed_lights", "is taken from you")
	insist.Holds(t, "it is kept", o.do(0, "log", "live"), "reed_lights")
	insist.Holds(t, "and seen", o.do(0, "servers"), "at there", "proved")
	put(t, filepath.Join(moor, "logs/latest.log"), strings.Replace(log, "will_o_wisp", "nobody_here", 1))
	o.do(0, "sync", "live")
	insist.Holds(t, "there", o.do(1, "prove", "live", "--from", "logs/latest.log"), "live: not proved", "will_o_wisp")
	pasted := o.typed(log, "prove", "live", "--from", "-")
	insist.Holds(t, "pasted", pasted.out, "live: proved")
	insist.Holds(t, "none", o.try("prove", "live", "--from", "logs/other.log").err, "no such file")
	insist.Holds(t, "empty", o.typed("", "prove", "live", "--from", "-").err, "there is nothing in")
	compared := o.do(1, "compare", "live", "1", "2")
	insist.Holds(t, "the starts", compared, "will_o_wisp: silent, was confirmed")
	insist.Lacks(t, "what was only fetched once more", compared, "files of reed_lights")
	r.watches(t, o, moor, log)
}

// watches has a server proved that somebody starts at its host, while its log is watched over the line.
func (r *faraway) watches(t *testing.T, o *operator, moor, log string) {
	t.Helper()
	insist.Holds(t, "no file of it", o.try("prove", "live", "--log", "../latest.log").err, "no path of a file below the server's folder")
	file := filepath.Join(moor, "logs/latest.log")
	lines, n := strings.SplitAfter(log, "\n"), 0
	o.do(1, "prove", "live", "--log", "logs/latest.log", "--from", "logs/latest.log")
	for name, begin := range map[string]func(){
		"moved away": func() { insist.OK(t, os.Rename(file, file+".1")) },
		"cut off":    func() { put(t, file, "") },
		"goes on":    func() {},
	} {
		until, rest := o.says(t, "prove", "live", "--timeout", "5m")
		until("start it at there now (your notes: Start is the green one); logs/latest.log is watched until it does")
		add(t, file, "12:00:00.000 | moor    | somebody walks about\n")
		begin()
		n++ // hosts that tell times by the minute do not tell a log from another of the same text
		add(t, file, fmt.Sprintf("12:00:%02d.000 | moor    | dawn\n", n))
		for i, line := range lines {
			add(t, file, line)
			if i == len(lines)/2 {
				until("it is being started")
			}
		}
		all := rest()
		insist.Holds(t, name, all, "live: proved", "it was started at there; its log was read over the line", "reed_lights")
		insist.Lacks(t, name, all, "may be missing")
	}
	starts := func(until func(string), lines string) {
		until("start it at there now")
		until("is watched until it does")
		insist.OK(t, os.Rename(file, file+".1"))
		n++
		add(t, file, fmt.Sprintf("12:00:%02d.000 | moor    | dawn\n", n)+lines)
	}
	before := contents(t, filepath.Join(moor, "moor.sh"))
	bad := strings.ReplaceAll(log, "will_o_wisp", "nobody_here")
	o.do(0, "off", "live", "reed_lights", "--stage")
	until, rest := o.says(t, "apply", "live", "--prove", "--or-return", "--timeout", "5m")
	starts(until, bad)
	until("going back to entry")
	starts(until, log)
	insist.Same(t, "gone back there", contents(t, filepath.Join(moor, "moor.sh")), before)
	insist.Holds(t, "not proved", rest(), "gone back to entry", "live: proved")
	o.do(0, "off", "live", "reed_lights", "--stage")
	until, rest = o.says(t, "apply", "live", "--prove", "--timeout", "5m")
	starts(until, log)
	insist.Holds(t, "proved", rest(), "the change is made and proved")
	insist.That(t, contents(t, filepath.Join(moor, "moor.sh")) != before, "the change is not there")
	insist.Holds(t, "known as that", o.do(0, "servers"), "at there", "proved")
	insist.Holds(t, "the log is remembered", contents(t, filepath.Join(o.home, "servers/live/server.toml")), "latest.log")
}

// says begins a command. until waits for words of what it prints, rest for its end.
func (o *operator) says(t *testing.T, args ...string) (until func(words string), rest func() string) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Env = o.env
	out, err := cmd.StdoutPipe()
	insist.OK(t, err)
	cmd.Stderr = cmd.Stdout
	insist.OK(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill() }) // it has ended by then, unless something failed
	said, all := bufio.NewScanner(out), ""
	until = func(words string) {
		t.Helper()
		for said.Scan() {
			if all += said.Text() + "\n"; strings.Contains(said.Text(), words) {
				return
			}
		}
		t.Fatalf("%v: it did not say %q:\n%s", args, words, all)
	}
	return until, func() string {
		for said.Scan() {
			all += said.Text() + "\n"
		}
		cmd.Wait()
		return all
	}
}

// hangUp kills what serves the lines to a host whose files are in a folder, and not what waits for further ones.
func hangUp(dir string) {
	for _, listener := range strings.Fields(printed(exec.Command("pgrep", "-f", "--", "-f "+dir+"/config"))) {
		for _, line := range strings.Fields(printed(exec.Command("pgrep", "-P", listener))) {
			exec.Command("kill", "-KILL", line).Run()
		}
	}
}

func printed(cmd *exec.Cmd) string {
	out, _ := cmd.Output()
	return string(out)
}

// add adds to a file, or begins it.
func add(t *testing.T, name, data string) {
	t.Helper()
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
	insist.OK(t, err)
	_, err = f.WriteString(data)
	insist.OK(t, err)
	insist.OK(t, f.Close())
}

// is lays a server out at the host.
func (r *faraway) is(t *testing.T, from, name string) {
	t.Helper()
	copyAll(t, from, filepath.Join(r.dir, name))
	given(t, r.dir)
}

// A world is brought here over the line, and put back there; one that is written to meanwhile is not.
func TestWorldAtAHost(t *testing.T) {
	t.Parallel()
	r := overSFTP(t)
	r.is(t, "../demo/lantern-moor", "moor")
	moor := filepath.Join(r.dir, "moor")
	o := newOperator(t)
	o.do(0, "host", "add", "there", r.url, "--identity", r.identity, "--fingerprint", r.fingerprint)
	o.do(0, "adopt", "there:moor", "--as", "live")
	insist.Holds(t, "none yet", o.try("backup", "live").err, "has no world yet")
	state := filepath.Join(moor, "embers/reed_lights/embers.txt")
	put(t, state, "warm")
	given(t, moor)
	insist.Holds(t, "made", o.do(0, "backup", "live", "--because", "before the flood"), "backup 1: 1 file", "read again")
	put(t, state, "cold")
	put(t, filepath.Join(moor, "embers/later"), "x")
	given(t, moor)
	o.do(0, "restore", "live")
	insist.Same(t, "there again", contents(t, state), "warm")
	insist.That(t, !exists(filepath.Join(moor, "embers/later")), "what came later is still there")
	o.do(0, "undo", "live")
	insist.Same(t, "taken back", contents(t, state)+contents(t, filepath.Join(moor, "embers/later")), "coldx")
	end, ended := make(chan bool), make(chan bool)
	go func() {
		defer close(ended)
		for i := 0; ; i++ {
			select {
			case <-end:
				return
			case <-time.After(5 * time.Millisecond):
				os.WriteFile(state, fmt.Appendf(nil, "%d", i), 0o644)
			}
		}
	}()
	insist.Holds(t, "one that is written to", o.try("backup", "live").err, "embers/reed_lights/embers.txt", "changes") // between two looks, or all the time
	close(end)
	<-ended
	insist.Holds(t, "none was made", o.do(0, "backup", "live", "--list"), "1 backup, ", "before the flood")
}

func exists(name string) bool { _, err := os.Lstat(name); return err == nil }

// A host that is gone, or another, is told, and what was seen last is shown.
func TestHostThatIsGone(t *testing.T) {
	t.Parallel()
	o := newOperator(t)
	var moor string
	var r *faraway
	t.Run("while it is there", func(t *testing.T) {
		r = overSFTP(t)
		r.is(t, "../demo/lantern-moor", "moor")
		moor = filepath.Join(r.dir, "moor")
		o.do(0, "host", "add", "there", r.url, "--identity", r.identity, "--fingerprint", r.fingerprint)
		o.do(0, "adopt", "there:"+moor)
		insist.Holds(t, "added twice", o.try("host", "add", "there", r.url).err, "--anew")
	})
	said := o.try("survey", "moor")
	insist.Holds(t, "what was seen last", said.out, "reed_lights")
	insist.Holds(t, "and that it is", said.err, "shown as it was seen last", "the line to the host broke")
	insist.Holds(t, "a change", o.try("off", "moor", "reed_lights").err, "nothing was changed")
	insist.Holds(t, "no such host", o.try("host", "test", "nowhere").err, "no such host")
	insist.Holds(t, "one's own server", o.try("sync", "nobody").err, "not adopted")
	for url, says := range map[string]string{"sftp://a:secretword@b": "a password in a URL", "gopher://b": "not by"} {
		refused := o.try("host", "add", "x", url)
		insist.Same(t, url, refused.status, 2)
		insist.Holds(t, url, refused.err, says)
		insist.Lacks(t, url, refused.err, "secretword")
	}
	open := filepath.Join(t.TempDir(), "word")
	write(t, open, "rope\n")
	insist.Holds(t, "a password that others can read", o.try("host", "add", "x", fmt.Sprintf("sftp://quay@127.0.0.1:%s", freePort(t)), "--password-file", open).err, "the line to the host broke")
	o.do(0, "host", "list")
}

// Whoever is killed while a mod is sent, at either end and at any moment: a new one is at its place whole or not at all,
// one that is updated is the old one or the new (or, between two renames, none), and the next run brings it to its end.
// INITIUM_RUNS asks for another number of rounds.
func TestTransferKilled(t *testing.T) {
	t.Parallel()
	rounds := 16
	if n := os.Getenv("INITIUM_RUNS"); n != "" {
		fmt.Sscan(n, &rounds)
	}
	r := overSFTP(t)
	r.is(t, "../demo/harrow-sound", "sound")
	o := newOperator(t)
	o.do(0, "host", "add", "there", r.url, "--identity", r.identity, "--fingerprint", r.fingerprint)
	o.do(0, "adopt", "there:sound", "--as", "live")
	random := rand.New(rand.NewPCG(11, 4))
	source := filepath.Join(t.TempDir(), "kelp_farms")
	there := filepath.Join(r.dir, "sound/cargo/kelp_farms")
	release := func(n int) string {
		write(t, filepath.Join(source, "bill.toml"), fmt.Sprintf("name = \"kelp_farms\"\nrelease = \"%d\"\nwaits_for = []\n", n))
		write(t, filepath.Join(source, "deck.script"), "haul 1\n")
		for i := range 40 {
			write(t, filepath.Join(source, fmt.Sprintf("d%d/f%02d", i%4, i)), strings.Repeat(fmt.Sprintf("%d %d\n", n, i), 1+random.IntN(3000)))
		}
		return below(t, source)
	}
	now, cut, between := "", 0, 0
	for n := range rounds {
		next := release(n + 1)
		cmd := exec.Command(program, "take", "live", source, "--take", "all")
		cmd.Env = o.env
		insist.OK(t, cmd.Start())
		time.Sleep(time.Duration(random.IntN(400)) * time.Millisecond) // any moment will do
		if random.IntN(2) == 0 {
			cmd.Process.Kill()
		} else {
			hangUp(filepath.Dir(r.dir))
		}
		if err := cmd.Wait(); err != nil {
			cut++
		}
		is := ""
		if exists(there) {
			is = below(t, there)
		}
		switch is { // none is there for the moment between two renames
		case "", now, next:
		default:
			t.Fatalf("round %d: it is there in part:\n%.3000s", n, is)
		}
		if is == "" && now != "" {
			between++
		}
		o.try("sync", "live")
		for again := 0; !exists(there) || below(t, there) != next; again++ {
			insist.Need(t, again < 3, "round %d: it did not come to its end: %s", n, o.try("take", "live", source, "--take", "all").err)
			o.try("take", "live", source, "--take", "all") // it may have been cut off before it was begun
		}
		now = next
		if random.IntN(2) == 0 {
			o.do(0, "remove", "live", "kelp_farms", "--agree")
			now = ""
		}
		insist.Same(t, "left beside", strings.Count(below(t, filepath.Join(r.dir, "sound")), ".initium"), 0)
	}
	t.Logf("%d of %d were cut off, %d of them between two renames", cut, rounds, between)
}
