package remote_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"initium/internal/host/remote"
	"initium/internal/insist"
)

// watched is a log at a host, and what was read of it.
type watched struct {
	t    *testing.T
	fs   remote.FS
	tail *remote.Tail
	got  strings.Builder
}

func watch(t *testing.T, b *box, name string) *watched {
	w := &watched{t: t, fs: b.dial()}
	w.tail = &remote.Tail{Name: name, Feed: func(p []byte) { w.got.Write(p) }, Began: func(missed bool) {
		w.got.WriteString(map[bool]string{true: "[anew, missed]", false: "[anew]"}[missed])
	}}
	insist.OK(t, w.tail.Mark(t.Context(), w.fs))
	return w
}

// next is what is new.
func (w *watched) next() string {
	w.t.Helper()
	w.got.Reset()
	for more := true; more; {
		var err error
		more, err = w.tail.Next(w.t.Context(), w.fs)
		insist.OK(w.t, err)
	}
	return w.got.String()
}

// A log is read as it grows, through all that happens to logs, and what was there before is passed over.
func TestTail(t *testing.T) {
	b := newBox(t)
	dir := filepath.Join(b.dir, "logs")
	log := filepath.Join(dir, "latest.log")
	long := strings.Repeat("a line of the start before\n", 40)
	add := func(words string) {
		f, err := os.OpenFile(log, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
		insist.OK(t, err)
		_, err = f.WriteString(words)
		insist.OK(t, err)
		insist.OK(t, f.Close())
	}
	for name, steps := range map[string][]struct {
		do   func()
		want string
	}{
		"grows": {
			{func() {}, ""},
			{func() { add("one\ntwo") }, "one\ntwo"},
			{func() { add("\nthree\n") }, "\nthree\n"},
			{func() {}, ""},
		},
		"is cut off": {
			{func() { put(t, log, "new\n") }, "[anew]new\n"},
			{func() { add("more\n") }, "more\n"},
			{func() { put(t, log, "?") }, "[anew, missed]?"},
		},
		"is cut off, and longer by the next look": {
			{func() { put(t, log, strings.Repeat("x", len(long)+20)) }, "[anew]" + strings.Repeat("x", len(long)+20)},
		},
		"the same is written once more": {
			{func() { put(t, log, long); later(t, log) }, "[anew]" + long},
			{func() { later(t, log) }, ""},
		},
		"is moved away": {
			{func() { add("the end\n"); insist.OK(t, os.Rename(log, log+".1")) }, ""},
			{func() { put(t, log, "the beginning\n") }, "the end\n[anew]the beginning\n"},
			{func() { insist.OK(t, os.Rename(log, log+".2")); put(t, log, "again\n") }, "[anew]again\n"},
		},
		"is moved away among others": {
			{func() {
				add("more\n")
				insist.OK(t, os.Rename(log, log+".1"))
				put(t, log+".a", strings.Repeat("z", 3*len(long)))
				insist.OK(t, os.MkdirAll(filepath.Join(dir, "a folder"), 0o755))
				put(t, log+".b", "short")
				put(t, log, "the beginning\n")
			}, "more\n[anew]the beginning\n"},
		},
		"goes, and comes back as another": {
			{func() { insist.OK(t, os.Remove(log)) }, ""},
			{func() { add("other\n") }, "[anew]other\n"},
		},
		"is more than is fetched at once": {
			{func() { add(strings.Repeat("0123456789abcdef", 600_000)) }, strings.Repeat("0123456789abcdef", 600_000)},
		},
	} {
		t.Run(name, func(t *testing.T) {
			insist.OK(t, os.RemoveAll(dir))
			put(t, log, long)
			w := watch(t, b, log)
			for i, s := range steps {
				s.do()
				if got := w.next(); got != s.want {
					t.Fatalf("step %d: %.200q, and not %.200q", i, got, s.want)
				}
			}
		})
	}
}

// later gives a file a later time, as hosts tell it by the second.
func later(t *testing.T, name string) {
	t.Helper()
	info, err := os.Stat(name)
	insist.OK(t, err)
	insist.OK(t, os.Chtimes(name, time.Time{}, info.ModTime().Add(2*time.Second)))
}

// A log that is not there yet is waited for, and one that is a link is read where it leads.
func TestTailOfNone(t *testing.T) {
	b := newBox(t)
	log := filepath.Join(b.dir, "logs/latest.log")
	w := watch(t, b, log)
	insist.Same(t, "nothing is there", w.next(), "")
	put(t, filepath.Join(b.dir, "logs/today.log"), "hello\n")
	insist.OK(t, os.Symlink("today.log", log))
	insist.Same(t, "a link", w.next(), "hello\n")
	put(t, filepath.Join(b.dir, "logs/today.log"), "hello\nworld\n")
	insist.Same(t, "it grows", w.next(), "world\n")
	put(t, filepath.Join(b.dir, "logs/later.log"), "good morning\n")
	insist.OK(t, os.Remove(log))
	insist.OK(t, os.Symlink("later.log", log))
	insist.Same(t, "it leads elsewhere", w.next(), "[anew]good morning\n")
	w = watch(t, b, log)
	put(t, filepath.Join(b.dir, "logs/later.log"), "good morning\nto you\n")
	insist.Same(t, "marked as a link", w.next(), "to you\n")
}

// However a log grows and is turned between two looks, every line of it comes once, in order.
func TestTailOfALogThatTurns(t *testing.T) {
	b := newBox(t)
	log := filepath.Join(b.dir, "logs/latest.log")
	put(t, log, "")
	w := watch(t, b, log)
	rnd := rand.New(rand.NewPCG(5, 1))
	n, turned := 0, 0
	var want, got strings.Builder
	for range 200 {
		f, err := os.OpenFile(log, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
		insist.OK(t, err)
		for range 1 + rnd.IntN(3) {
			n++
			fmt.Fprintf(f, "line %d\n", n)
			fmt.Fprintf(&want, "line %d\n", n)
		}
		insist.OK(t, f.Close())
		if rnd.IntN(6) == 0 {
			got.WriteString(w.next()) // of two turns between two looks only the newer is seen
			for range rnd.IntN(3) {
				n++
				fmt.Fprintf(&want, "line %d\n", n)
				put(t, log, contentOf(t, log)+fmt.Sprintf("line %d\n", n))
			}
			turned++
			insist.OK(t, os.Rename(log, fmt.Sprintf("%s.%d", log, turned)))
			os.Remove(fmt.Sprintf("%s.%d", log, turned-5))
		}
		if rnd.IntN(2) == 0 {
			got.WriteString(w.next())
		}
	}
	got.WriteString(w.next())
	insist.That(t, turned > 10, "it was turned %d times", turned)
	insist.Same(t, "all that was said", strings.ReplaceAll(got.String(), "[anew]", ""), want.String())
}

func contentOf(t *testing.T, name string) string {
	t.Helper()
	data, err := os.ReadFile(name)
	insist.OK(t, err)
	return string(data)
}
