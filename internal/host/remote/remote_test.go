package remote_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	mathrand "math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"initium/internal/host/remote"
	"initium/internal/insist"
)

// box is a host over SFTP within this process, with a folder of its own. Its line breaks after a number of bytes, when
// that is asked for.
type box struct {
	t    *testing.T
	dir  string
	addr remote.Address
	pin  string
	left atomic.Int64 // bytes until the line breaks; below zero for never
	runs bool         // commands
}

type secret string

func (s secret) Password(string) (string, error) { return string(s), nil }

func newBox(t *testing.T) *box {
	t.Helper()
	b := &box{t: t, dir: t.TempDir()}
	b.left.Store(-1)
	_, key, err := ed25519.GenerateKey(rand.Reader)
	insist.OK(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	insist.OK(t, err)
	b.pin = ssh.FingerprintSHA256(signer.PublicKey())
	config := &ssh.ServerConfig{PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if c.User() == "quay" && string(password) == "rope" {
			return nil, nil
		}
		return nil, errors.New("no")
	}}
	config.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	insist.OK(t, err)
	t.Cleanup(func() { l.Close() })
	b.addr = remote.Address{Scheme: remote.SFTP, Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, User: "quay"}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go b.serve(&breaking{conn, b}, config)
		}
	}()
	return b
}

// breaking is a line that breaks.
type breaking struct {
	net.Conn
	b *box
}

func (c *breaking) spend(n int) bool {
	if c.b.left.Load() < 0 {
		return true
	}
	if c.b.left.Add(-int64(n)) > 0 {
		return true
	}
	c.b.left.Store(0)
	c.Close()
	return false
}

func (c *breaking) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if n > 0 && !c.spend(n) {
		return 0, io.ErrUnexpectedEOF
	}
	return n, err
}

func (c *breaking) Write(p []byte) (int, error) {
	if !c.spend(len(p)) {
		return 0, io.ErrClosedPipe
	}
	return c.Conn.Write(p)
}

func (b *box) serve(conn net.Conn, config *ssh.ServerConfig) {
	defer conn.Close()
	_, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for c := range channels {
		channel, asked, err := c.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range asked {
				switch {
				case r.Type == "subsystem":
					r.Reply(true, nil)
					if server, err := sftp.NewServer(channel); err == nil {
						go server.Serve()
					}
				case r.Type == "exec" && b.runs:
					r.Reply(true, nil)
					go b.run(channel, string(r.Payload[4:]))
				default:
					r.Reply(false, nil)
				}
			}
		}()
	}
}

// run does what the shell of a host does.
func (b *box) run(channel ssh.Channel, line string) {
	cmd := exec.Command("/bin/sh", "-c", line)
	cmd.Dir, cmd.Stdin, cmd.Stdout, cmd.Stderr = b.dir, channel, channel, channel.Stderr()
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + b.dir}
	status := uint32(0)
	if err := cmd.Run(); err != nil {
		status = uint32(cmd.ProcessState.ExitCode())
	}
	channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{status}))
	channel.Close()
}

func (b *box) dial() remote.FS {
	b.t.Helper()
	h, pin, err := remote.Dial(context.Background(), b.addr, remote.Login{Pin: b.pin, Secrets: secret("rope")})
	insist.OK(b.t, err)
	insist.Same(b.t, "the fingerprint", pin, b.pin)
	b.t.Cleanup(func() { h.Close() })
	return h
}

func (b *box) mirror() *remote.Mirror {
	notes := b.t.TempDir()
	return &remote.Mirror{Dir: filepath.Join(notes, "there"), Root: b.dir, Notes: notes, Last: func(rel string) bool { return rel == "start" }}
}

// again is the same mirror in another run.
func again(m *remote.Mirror) *remote.Mirror {
	return &remote.Mirror{Dir: m.Dir, Root: m.Root, Notes: m.Notes, Last: m.Last, Mods: m.Mods}
}

func put(t *testing.T, name, data string) {
	t.Helper()
	insist.OK(t, os.MkdirAll(filepath.Dir(name), 0o755))
	insist.OK(t, os.WriteFile(name, []byte(data), 0o644))
}

// aged makes a file old, so that its time tells whether it has changed.
func aged(t *testing.T, name string) {
	t.Helper()
	old := time.Now().Add(-time.Hour)
	insist.OK(t, os.Chtimes(name, old, old))
}

// holds is all that is below a folder.
func holds(t *testing.T, dir string) string {
	t.Helper()
	var b strings.Builder
	insist.OK(t, filepath.WalkDir(dir, func(full string, e fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(dir, full)
		if err != nil || rel == "." {
			return err
		}
		if e.IsDir() {
			fmt.Fprintf(&b, "%s/\n", rel)
			return nil
		}
		data, err := os.ReadFile(full)
		fmt.Fprintf(&b, "%s=%.40s %d\n", rel, data, len(data))
		return err
	}))
	return b.String()
}

func TestParseAddress(t *testing.T) {
	for s, want := range map[string]string{
		"sftp://quay@h.local": "sftp://quay@h.local:22", "ssh://quay@h:2022/srv/x/": "sftp://quay@h:2022/srv/x", "ftp://h/a": "ftp://anonymous@h:21/a", "FTPS://u@[::1]": "ftps://u@[::1]:990", "ftpes://u@h": "ftpes://u@h:21",
		"sftp://quay:secret@h": "!a password in a URL", "sftp://h": "!names no user", "http://h": "!not by \"http\"", "sftp://q@": "!names no host", "sftp://q@h:0": "!port", "sftp://q@h:99999": "!port", "sftp://q@h/a%1bb": "!cannot be shown", "": "!not by", "sftp://%zz": "!no URL",
	} {
		a, err := remote.ParseAddress(s)
		if says, fails := strings.CutPrefix(want, "!"); fails {
			insist.Fails(t, s, err, says)
			insist.Lacks(t, s, err.Error(), "secret")
			continue
		}
		insist.OK(t, err)
		insist.Same(t, s, a.String(), want)
	}
	insist.Same(t, "whole", remote.Address{Path: "/srv"}.Whole("a/../b")+remote.Address{Path: "/srv"}.Whole("/c")+remote.Address{}.Whole("d"), "/srv/b/cd")
}

// Who is not let in is told so, and another host in the place of the one that was seen is refused.
func TestLogin(t *testing.T) {
	b := newBox(t)
	_, _, err := remote.Dial(context.Background(), b.addr, remote.Login{Secrets: secret("wr0ng-password")})
	insist.That(t, errors.Is(err, remote.ErrSecret), "%v", err)
	insist.Lacks(t, "wrong", err.Error(), "wr0ng")
	_, _, err = remote.Dial(context.Background(), b.addr, remote.Login{Pin: "SHA256:another", Secrets: secret("rope")})
	insist.That(t, errors.Is(err, remote.ErrOther), "%v", err)
	insist.Holds(t, "another host", err.Error(), b.pin, "somebody stands between")
	nobody := b.addr
	nobody.Port = 1
	_, _, err = remote.Dial(context.Background(), nobody, remote.Login{})
	insist.That(t, errors.Is(err, remote.ErrLine), "%v", err)
}

func TestPull(t *testing.T) {
	b := newBox(t)
	put(t, filepath.Join(b.dir, "start"), "use a\n")
	put(t, filepath.Join(b.dir, "mods/a/one"), strings.Repeat("x", 300_000))
	put(t, filepath.Join(b.dir, "mods/a/empty"), "")
	put(t, filepath.Join(b.dir, "mods/turns"), "a file")
	put(t, filepath.Join(b.dir, "bad\x1bname"), "x")
	insist.OK(t, os.Symlink("/etc/hostname", filepath.Join(b.dir, "link")))
	for _, f := range []string{"start", "mods/a/one", "mods/a/empty", "mods/turns"} {
		aged(t, filepath.Join(b.dir, f))
	}
	m, h := b.mirror(), b.dial()
	var last remote.Progress
	p, err := m.Pull(context.Background(), h, func(at remote.Progress) { last = at })
	insist.OK(t, err)
	insist.Same(t, "came", fmt.Sprint(p.Files, p.Came, p.Went, p.Bytes, last), "4 4 0 300012 {4 4 300012 300012}")
	insist.That(t, len(p.Passed) == 2 && strings.Contains(p.Passed[0], "no name that a file could have") && strings.Contains(p.Passed[1], "/link: a link"), "passed over: %q", p.Passed)
	insist.Same(t, "here", holds(t, m.Dir), "mods/\nmods/a/\nmods/a/empty= 0\nmods/a/one="+strings.Repeat("x", 40)+" 300000\nmods/turns=a file 6\nstart=use a\n 6\n")

	put(t, filepath.Join(b.dir, "start"), "use b\n")
	insist.OK(t, os.Remove(filepath.Join(b.dir, "mods/turns")))
	put(t, filepath.Join(b.dir, "mods/turns/into"), "a folder")
	insist.OK(t, os.RemoveAll(filepath.Join(b.dir, "mods/a")))
	m = again(m)
	p, err = m.Pull(context.Background(), h, nil)
	insist.OK(t, err)
	insist.Same(t, "came later", fmt.Sprint(p.Files, p.Came, p.Went), "2 2 2")
	insist.Same(t, "here", holds(t, m.Dir), "mods/\nmods/turns/\nmods/turns/into=a folder 8\nstart=use b\n 6\n")
	p, err = m.Pull(context.Background(), h, nil)
	insist.That(t, err == nil && p.Came == 2, "what had just been changed is not looked at again: %+v, %v", p, err)
	aged(t, filepath.Join(b.dir, "start"))
	aged(t, filepath.Join(b.dir, "mods/turns/into"))
	for _, came := range []int{2, 0} {
		p, err = m.Pull(context.Background(), h, nil)
		insist.That(t, err == nil && p.Came == came, "%+v, %v", p, err)
	}
	put(t, filepath.Join(m.Dir, "start"), "use c\n")
	_, err = m.Pull(context.Background(), h, nil)
	insist.That(t, errors.Is(err, remote.ErrAhead), "what was done here is written over: %v", err)
	write := os.WriteFile(filepath.Join(m.Notes, "there.json"), []byte("{"), 0o600)
	insist.OK(t, write)
	_, err = again(m).Pull(context.Background(), h, nil)
	insist.Fails(t, "notes that are damaged", err, "cannot be read")
}

// change is what a change of a server does here.
func change(t *testing.T, m *remote.Mirror) {
	t.Helper()
	put(t, filepath.Join(m.Dir, "mods/b/deep/two"), strings.Repeat("y", 70_000))
	put(t, filepath.Join(m.Dir, "mods/b/three"), "3")
	put(t, filepath.Join(m.Dir, "mods/a/one"), "new")
	put(t, filepath.Join(m.Dir, "start"), "use a\nuse b\n")
	insist.OK(t, os.RemoveAll(filepath.Join(m.Dir, "mods/old")))
}

func (b *box) before() {
	for name, data := range map[string]string{"start": "use a\n", "mods/a/one": "1", "mods/a/stays": "s", "mods/old/x": "x", "mods/old/in/y": "y"} {
		put(b.t, filepath.Join(b.dir, name), data)
		aged(b.t, filepath.Join(b.dir, name))
	}
}

func TestPush(t *testing.T) {
	b := newBox(t)
	b.before()
	m, h := b.mirror(), b.dial()
	insist.OK(t, insist.Err(m.Pull(context.Background(), h, nil)))
	insist.OK(t, m.Push(context.Background(), h, nil))
	change(t, m)
	said, err := m.Ahead()
	insist.That(t, err == nil && strings.Join(said, "; ") == "the folder mods/b comes; mods/a/one changes; start changes; mods/old/x goes; mods/old/in/y goes; mods/old/in goes; mods/old goes", "%q, %v", said, err)
	var last remote.Progress
	insist.OK(t, m.Push(context.Background(), h, func(at remote.Progress) { last = at }))
	insist.Same(t, "how far", fmt.Sprint(last), "{4 4 70016 70016}")
	insist.Same(t, "there", holds(t, b.dir), holds(t, m.Dir))
	p, err := again(m).Pull(context.Background(), h, nil)
	insist.That(t, err == nil && (p.Came == 1 || p.Came == 2) && p.Files == 5, "after it what has just been replaced is looked at once more: %+v, %v", p, err)

	touched := time.Now().Add(time.Minute)
	insist.OK(t, os.Chtimes(filepath.Join(m.Dir, "mods/b/three"), touched, touched))
	said, err = again(m).Ahead()
	insist.That(t, err == nil && len(said) == 0, "what holds the same is to be sent: %q, %v", said, err)
	put(t, filepath.Join(m.Dir, "start"), "use a\n")
	put(t, filepath.Join(b.dir, "start"), "somebody else's\n")
	m = again(m)
	err = m.Push(context.Background(), h, nil)
	insist.That(t, errors.Is(err, remote.ErrChanged) && strings.Contains(err.Error(), "start"), "%v", err)
	insist.Lacks(t, "it stays", holds(t, b.dir), "use a\n", ".initium")
	put(t, filepath.Join(m.Dir, "we\x1bird"), "x")
	insist.Fails(t, "a name", m.Push(context.Background(), h, nil), "not sent to a host")
	insist.OK(t, os.Remove(filepath.Join(m.Dir, "we\x1bird")))
	insist.OK(t, os.Symlink("x", filepath.Join(m.Dir, "link")))
	insist.Fails(t, "a link", m.Push(context.Background(), h, nil), "neither a file nor a folder")
}

// The line breaks after any number of bytes: what is in place there is the old or the new of each, no mod is there in
// part, and pushes that follow bring it to its end, with nothing left beside.
func TestPushOverABreakingLine(t *testing.T) {
	rounds := 16
	if testing.Short() {
		rounds = 4
	}
	random := mathrand.New(mathrand.NewPCG(7, 7))
	cut := 0
	for range rounds {
		b := newBox(t)
		b.before()
		m := b.mirror()
		insist.OK(t, insist.Err(m.Pull(context.Background(), b.dial(), nil)))
		change(t, m)
		for tries := 0; ; tries++ {
			insist.Need(t, tries < 60, "it never comes to its end")
			b.left.Store(4_000 + random.Int64N(120_000))
			if tries > 40 {
				b.left.Store(-1)
			}
			h, _, err := remote.Dial(context.Background(), b.addr, remote.Login{Pin: b.pin, Secrets: secret("rope"), Timeout: 5 * time.Second})
			if err == nil {
				m = again(m)
				err = m.Push(context.Background(), h, nil)
				h.Close()
			}
			b.left.Store(-1)
			start, _ := os.ReadFile(filepath.Join(b.dir, "start"))
			one, _ := os.ReadFile(filepath.Join(b.dir, "mods/a/one"))
			insist.That(t, string(one) == "1" || string(one) == "new", "mods/a/one is %q", one)
			two, there := os.ReadFile(filepath.Join(b.dir, "mods/b/deep/two"))
			_, folder := os.Stat(filepath.Join(b.dir, "mods/b"))
			insist.That(t, folder != nil || there == nil && len(two) == 70_000, "the mod is there in part")
			insist.That(t, string(start) == "use a\n" || folder == nil && string(start) == "use a\nuse b\n" && string(one) == "new", "it is registered before it is there: %q", start)
			if err == nil {
				break
			}
			cut++
		}
		insist.Same(t, "there", holds(t, b.dir), holds(t, m.Dir))
		insist.OK(t, insist.Err(again(m).Pull(context.Background(), b.dial(), nil)))
		insist.Same(t, "here", holds(t, m.Dir), holds(t, b.dir))
	}
	t.Logf("the line broke %d times", cut)
	insist.That(t, cut > rounds/2, "it broke %d times only", cut)
}

// What waited for a push that nothing came of is taken away when the host is looked at again.
func TestNothingIsLeftOfAPush(t *testing.T) {
	b := newBox(t)
	b.before()
	m := b.mirror()
	insist.OK(t, insist.Err(m.Pull(context.Background(), b.dial(), nil)))
	kept := holds(t, m.Dir)
	put(t, filepath.Join(m.Dir, "mods/b/deep/two"), strings.Repeat("y", 70_000))
	b.left.Store(30_000)
	if h, _, err := remote.Dial(context.Background(), b.addr, remote.Login{Secrets: secret("rope")}); err == nil {
		insist.That(t, m.Push(context.Background(), h, nil) != nil, "the line did not break")
		h.Close()
	}
	b.left.Store(-1)
	insist.Holds(t, "what waits", holds(t, b.dir), ".initium-")
	insist.OK(t, os.RemoveAll(filepath.Join(m.Dir, "mods/b")))
	insist.OK(t, insist.Err(again(m).Pull(context.Background(), b.dial(), nil)))
	insist.Same(t, "there", holds(t, b.dir), kept)
}
