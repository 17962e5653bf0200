package test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"initium/internal/insist"
)

// BenchmarkLineToScreen measures how long it takes from the server's writing of a
// line until the terminal shows the mod that it names as confirmed. What it is
// measured with looks about every five milliseconds.
func BenchmarkLineToScreen(b *testing.B) {
	needs(b, "tmux")
	dir := b.TempDir()
	fifo := filepath.Join(dir, "lines")
	insist.OK(b, syscall.Mkfifo(fifo, 0o600))
	const mods = 40
	lines := "let port 47110\nlet licence HS-1234\n"
	for i := range mods {
		name := fmt.Sprintf("mod_%02d", i)
		lines += "berth " + name + "\n"
		insist.OK(b, os.MkdirAll(filepath.Join(dir, "h/cargo", name), 0o755))
		os.WriteFile(filepath.Join(dir, "h/cargo", name, "deck.script"), []byte("haul 1\n"), 0o600)
	}
	os.WriteFile(filepath.Join(dir, "h/harbour.start"), []byte(lines), 0o600)
	os.WriteFile(filepath.Join(dir, "h/run.sh"), []byte("#!/bin/sh\nexec cat "+fifo+"\n"), 0o755)
	os.Chmod(filepath.Join(dir, "h/run.sh"), 0o755)
	o := newOperator(b)
	if r := o.try("adopt", filepath.Join(dir, "h"), "--as", "h", "--set", "program="+filepath.Join(dir, "h/run.sh")); r.status != 0 {
		b.Fatal(r.err)
	}
	var took []time.Duration
	for b.Loop() {
		took = append(took, once(b, o, dir, fifo, mods)...)
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms-median")
	b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, "ms-worst")
}

// once starts the server on a screen and writes a line for each mod.
func once(b *testing.B, o *operator, dir, fifo string, mods int) (took []time.Duration) {
	x := &terminal{o.t, filepath.Join(dir, "s")}
	conf := filepath.Join(dir, "conf")
	os.WriteFile(conf, []byte("set -g status off\nset -s escape-time 0\n"), 0o600)
	x.tmux("-f", conf, "new-session", "-d", "-x", "140", "-y", "60", "-s", "x", "-e", "INITIUM_HOME="+o.home, "-e", "XDG_RUNTIME_DIR=", program, "h")
	defer x.tmux("kill-server")
	shows := func(words string) bool { return strings.Contains(x.tmux("capture-pane", "-p", "-t", "x"), words) }
	wait := func(words string) {
		for end := time.Now().Add(20 * time.Second); !shows(words); time.Sleep(2 * time.Millisecond) {
			if time.Now().After(end) {
				b.Fatalf("%q is never shown:\n%s", words, x.tmux("capture-pane", "-p", "-t", "x"))
			}
		}
	}
	wait("load order")
	x.tmux("send-keys", "-t", "x", "s")
	lines, err := os.OpenFile(fifo, os.O_WRONLY, 0)
	insist.OK(b, err)
	wait("0 of 40 mods")
	for i := range mods {
		time.Sleep(time.Duration(20+i*7%60) * time.Millisecond)
		name := fmt.Sprintf("mod_%02d", i)
		began := time.Now()
		fmt.Fprintf(lines, "[10:00:00.000] berth: %s is made fast after 1 ms\n", name)
		wait("◆ " + name)
		took = append(took, time.Since(began))
	}
	lines.Close()
	wait("not proved")
	return took
}
