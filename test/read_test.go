package test

import (
	"archive/zip"
	"bufio"
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
	"unicode/utf16"

	"initium/internal/insist"

	"golang.org/x/sys/unix"
)

type readingJSON struct {
	Dialect       string
	Lines, Starts int
	Proof         proofJSON
	Remarks       []struct {
		Line, Count     int
		Text, Mod, Sure string
	}
}

// TestRead judges a log without its server: as it is, packed, in UTF-16, in two
// files, and from the standard input.
func TestRead(t *testing.T) {
	h := newHarbour(t, "berth a\nberth b\n")
	h.cargo("a", "", "haul 1\ncall an error in the rigging\n")
	h.cargo("b", "nowhere", "haul 1\n")
	h.prove(1)
	logs := within(h.home, "servers/h/starts/*/log")
	log := contents(t, logs[0])
	dir := t.TempDir()
	plain := filepath.Join(dir, "sent.txt")
	write(t, plain, log)
	wide := []byte("\xff\xfe")
	for _, u := range utf16.Encode([]rune(log)) {
		wide = append(wide, byte(u), byte(u>>8))
	}
	half := strings.Index(log, "\n") + 1
	write(t, filepath.Join(dir, "wide.txt"), string(wide))
	write(t, filepath.Join(dir, "log.1"), log[:half])
	write(t, filepath.Join(dir, "log"), log[half:])
	if out, err := exec.Command("gzip", "-k", plain).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	zipped := func(name string, files ...string) {
		t.Helper()
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for _, f := range files {
			w, err := z.Create(f)
			if err == nil && !strings.HasSuffix(f, "/") {
				_, err = io.WriteString(w, log)
			}
			insist.OK(t, err)
		}
		insist.OK(t, z.Close())
		write(t, filepath.Join(dir, name), b.String())
	}
	zipped("sent.zip", "logs/", "logs/sent.txt")
	zipped("two.zip", "a.txt", "b.txt")
	for _, files := range [][]string{{"sent.txt"}, {"sent.txt.gz"}, {"sent.zip"}, {"wide.txt"}, {"log.1", "log"}} {
		args := []string{"read", "--json", "--dialect", "harrow-sound"}
		for _, f := range files {
			args = append(args, filepath.Join(dir, f))
		}
		var r readingJSON
		h.json(1, &r, args...)
		if got := r.Proof.outcomes(); got != "a confirmed, b failed" || r.Lines != strings.Count(log, "\n") || r.Starts != 1 {
			t.Errorf("%v: %s, %d lines, %d starts", files, got, r.Lines, r.Starts)
		}
		insist.That(t, len(r.Remarks) == 1 && r.Remarks[0].Mod == "a" && strings.Contains(r.Remarks[0].Text, "an error in the rigging"), "%v: remarks %+v", files, r.Remarks)
	}
	insist.Holds(t, "found out by itself", h.do(1, "read", plain), "read as harrow-sound", "it needs nowhere")
	cmd := exec.Command(program, "read", "-", "--server", "h")
	cmd.Env, cmd.Stdin = h.env, strings.NewReader(log)
	var out bytes.Buffer
	cmd.Stdout = &out
	if cmd.Run(); !strings.Contains(out.String(), "confirmed  a") {
		t.Errorf("from the standard input:\n%s", out.String())
	}
	write(t, filepath.Join(dir, "other.txt"), "nobody knows this\n")
	for _, args := range [][]string{{"read", filepath.Join(dir, "other.txt")}, {"read", "-"}} {
		if r := h.try(args...); r.status != 2 || !strings.Contains(r.err, "--dialect") {
			t.Errorf("%v: %d %s", args, r.status, r.err)
		}
	}
	if r := h.try("read", filepath.Join(dir, "two.zip")); r.status != 3 || !strings.Contains(r.err, "archive of 2 files") {
		t.Errorf("two logs in a zip archive: %d %s", r.status, r.err)
	}
	if r := h.try("read", filepath.Join(dir, "other.txt"), "--dialect", "harrow-sound"); r.status != 1 || !strings.Contains(r.out, "no rule of the dialect harrow-sound fits any of its lines") {
		t.Errorf("a log of another family: %d %s", r.status, r.out)
	}
	write(t, filepath.Join(dir, "cut.gz"), contents(t, plain+".gz")[:60])
	if r := h.try("read", filepath.Join(dir, "cut.gz"), "--dialect", "harrow-sound"); r.status != 3 {
		t.Errorf("a packed log that was cut off: %d %s", r.status, r.err)
	}
}

// TestReadTurnedAndGrowing reads logs in the order in which they were written, however
// they are named, and goes on with one that grows and is cut off meanwhile.
func TestReadTurnedAndGrowing(t *testing.T) {
	o := newOperator(t)
	dir := t.TempDir()
	file := func(name string) string { return filepath.Join(dir, name) }
	line := func(day int, words string) string {
		return fmt.Sprintf("2026-01-%02d 10:00:00: ACTION[Main]: %s\n", day, words)
	}
	write(t, file("log"), line(3, `Server for gameid="x" listening on [::]:7.`))
	write(t, file("log.1"), line(2, `Mod "b" loaded after 2 ms`))
	write(t, file("log.2"), line(1, `Mod "a" loaded after 1 ms`))
	var r readingJSON
	o.json(0, &r, "read", "--json", file("log"), file("log.2"), file("log.1"))
	if got := r.Proof.outcomes(); got != "a confirmed, b confirmed" || r.Proof.ReadyAfterMS != 2*24*3600*1000 {
		t.Errorf("%s, ready after %d ms", got, r.Proof.ReadyAfterMS)
	}
	cmd := exec.Command(program, "read", "--follow", "--dialect", "minetest", file("log.2"), file("grows"))
	cmd.Env = o.env
	out, err := cmd.StdoutPipe()
	insist.OK(t, err)
	insist.OK(t, cmd.Start())
	defer time.AfterFunc(20*time.Second, func() { cmd.Process.Kill() }).Stop()
	said := bufio.NewScanner(out)
	next := func(want string) {
		t.Helper()
		insist.That(t, said.Scan() && strings.Contains(said.Text(), want), "it says %q, want %q", said.Text(), want)
	}
	next(`      1  2026-01-01 10:00:00: ACTION[Main]: Mod "a"`)
	write(t, file("grows"), line(2, `Mod "b" loaded after 2 ms`))
	next(`      2  2026-01-02 10:00:00: ACTION[Main]: Mod "b"`)
	write(t, file("grows"), line(2, `Mod "c"`)[:40]) // cut off, and begun anew
	time.Sleep(50 * time.Millisecond)
	write(t, file("grows"), line(2, "x")+line(2, `Server for gameid="x" listening on [::]:7.`))
	next("listening on")
	cmd.Process.Signal(os.Interrupt)
	rest := ""
	for said.Scan() {
		rest += said.Text() + "\n"
	}
	if err := cmd.Wait(); err != nil || !strings.Contains(rest, "proved") || !strings.Contains(rest, "confirmed  b") {
		t.Errorf("at the end, %v:\n%s", err, rest)
	}
}

// A pipe is no log file; the standard input is waited for no longer than the operator likes.
func TestReadFromPipes(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	pipe := filepath.Join(t.TempDir(), "pipe")
	insist.OK(t, syscall.Mkfifo(pipe, 0o600))
	if r := h.try("read", pipe, "--server", "h"); r.status != 3 || !strings.Contains(r.err, "it is no file; what comes out of a pipe can be read as the standard input") {
		t.Errorf("of a pipe: %d, %s", r.status, r.err)
	}
	in, silent, err := os.Pipe()
	insist.OK(t, err)
	defer in.Close()
	defer silent.Close()
	cmd := exec.Command(program, "read", "-", "--server", "h")
	cmd.Env, cmd.Stdin = append(os.Environ(), "INITIUM_HOME="+h.home), in
	insist.OK(t, cmd.Start())
	insist.OK(t, insist.Err(silent.WriteString("a line\n")))
	eventually(t, "it has read the line", func() bool {
		left, err := unix.IoctlGetInt(int(in.Fd()), unix.TIOCINQ)
		return err == nil && left == 0
	})
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	eventually(t, "it ends when it is asked to", func() bool {
		cmd.Process.Signal(os.Interrupt)
		select {
		case <-ended:
			return true
		default:
			return false
		}
	})
}
