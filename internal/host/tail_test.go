package host_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/text/encoding/unicode"

	"initium/internal/host"
	"initium/internal/insist"
)

// followed is a file that is followed, with what has come of it.
type followed struct {
	*testing.T
	name string
	mu   sync.Mutex
	got  strings.Builder
}

func follow(t *testing.T, name string) *followed {
	t.Helper()
	f := &followed{T: t, name: name}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	add := func(s string) {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.got.WriteString(s)
	}
	go func() { ended <- host.FollowFile(ctx, name, func(p []byte) { add(string(p)) }, func() { add("|") }) }()
	t.Cleanup(func() {
		cancel()
		insist.OK(t, <-ended)
	})
	return f
}

// put writes the file anew, or adds to it.
func (f *followed) put(flags int, data string) {
	f.Helper()
	file, err := os.OpenFile(f.name, os.O_WRONLY|os.O_CREATE|flags, 0o600)
	if err != nil {
		f.Fatal(err)
	}
	defer file.Close()
	if _, err := file.WriteString(data); err != nil {
		f.Fatal(err)
	}
}

// has waits until all that was expected has come, and nothing else.
func (f *followed) has(want string) {
	f.Helper()
	got := ""
	for end := time.Now().Add(tooLate); got != want && time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		f.mu.Lock()
		got = f.got.String()
		f.mu.Unlock()
		if len(got) > len(want) {
			break
		}
	}
	if got != want {
		f.Fatalf("it reads %q, want %q", got, want)
	}
}

func TestFollowFile(t *testing.T) {
	f := follow(t, filepath.Join(t.TempDir(), "log"))
	f.put(0, "one\n")
	f.has("one\n")
	f.put(os.O_APPEND, "two\nhal")
	f.has("one\ntwo\nhal")
	f.put(os.O_APPEND, "f\n")
	f.has("one\ntwo\nhalf\n")
	f.put(os.O_TRUNC, "new\n")
	f.has("one\ntwo\nhalf\n|new\n")
	insist.OK(t, os.Rename(f.name, f.name+".1"))
	f.put(0, "another\n")
	f.has("one\ntwo\nhalf\n|new\n|another\n")
}

// A log in UTF-16 is read as any other, also when a character comes in two pieces.
func TestFollowFileInUTF16(t *testing.T) {
	for name, test := range map[string]struct {
		order unicode.Endianness
		mark  unicode.BOMPolicy
	}{"little": {unicode.LittleEndian, unicode.UseBOM}, "big": {unicode.BigEndian, unicode.UseBOM}, "without a mark": {unicode.LittleEndian, unicode.IgnoreBOM}} {
		for _, first := range []int{0, 1, 2, 3, 19} { // bytes that are there when it is looked at first
			f := follow(t, filepath.Join(t.TempDir(), "log"))
			const text = "glaze größer 𝄞 fired\nand more\n"
			wide, err := unicode.UTF16(test.order, test.mark).NewEncoder().String(text)
			insist.OK(t, err)
			f.put(0, wide[:first])
			for at := first; at < len(wide); at += 5 {
				time.Sleep(2 * time.Millisecond)
				f.put(os.O_APPEND, wide[at:min(at+5, len(wide))])
			}
			t.Log(name, first)
			f.has(text)
			f.put(os.O_TRUNC, "plain now\n")
			f.has(text + "|plain now\n")
		}
	}
}

// A file that was cut off and has grown past where it was before anybody looked is read
// from its beginning.
func TestFollowFileThatGrewAgain(t *testing.T) {
	f := follow(t, filepath.Join(t.TempDir(), "log"))
	f.put(0, "10:00 short\n")
	f.has("10:00 short\n")
	other := f.name + ".new"
	insist.OK(t, os.WriteFile(other, []byte("11:00 a much longer first line\n11:01 and a second\n"), 0o600))
	data, err := os.ReadFile(other)
	insist.OK(t, err)
	// One write that leaves no moment in which the file is short.
	file, err := os.OpenFile(f.name, os.O_WRONLY, 0)
	insist.OK(t, err)
	defer file.Close()
	insist.OK(t, insist.Err(file.WriteAt(data, 0)))
	f.has("10:00 short\n|" + string(data))
}

// How long ago a server was started is known by a clock that nobody can set.
func TestAge(t *testing.T) {
	k := begin(t, nil)
	k.log("up")
	time.Sleep(100 * time.Millisecond)
	if age, ok := k.dir.Age(); !ok || age < 80*time.Millisecond || age > time.Minute {
		t.Errorf("it is %s old, %v", age, ok)
	}
	if _, ok := host.StartDir(t.TempDir()).Age(); ok {
		t.Error("a start that never was has an age")
	}
}

// FuzzPieces: an index of a log's pieces that is damaged breaks nothing.
func FuzzPieces(f *testing.F) {
	f.Add("1 10\n2 20\n", "one\n")
	f.Add("5 -3\n", "x")
	f.Add("1 1\n1 1\n0 0\n", "")
	f.Fuzz(func(t *testing.T, index, log string) {
		dir := host.StartDir(t.TempDir())
		if len(index) > 1000 || strings.ContainsAny(index, "0123456789") && len(strings.Fields(index)) > 6 {
			return
		}
		for name, data := range map[string]string{"log": log, "log.pieces": index, "log.times": "", "log.00001": "more\n"} {
			insist.OK(t, os.WriteFile(filepath.Join(string(dir), name), []byte(data), 0o600))
		}
		whole := host.OpenLog(dir.Log())
		defer whole.Close()
		buf := make([]byte, 4096)
		for range 100 {
			if _, err := whole.Read(buf); err != nil {
				break
			}
		}
		follower := dir.Follow()
		defer follower.Close()
		follower.Next(func([]byte, time.Duration) {})
	})
}

// Of many who make a start at the same time, each gets a folder of its own.
func TestNewStartsAtOnce(t *testing.T) {
	home := host.Home{Dir: t.TempDir()}
	numbers := make(chan int, 20)
	for range 20 {
		go func() {
			_, n, err := home.NewStart("s")
			insist.That(t, err == nil, "%v", err)
			numbers <- n
		}()
	}
	seen := map[int]bool{}
	for range 20 {
		n := <-numbers
		if n < 1 || n > 20 || seen[n] {
			t.Errorf("start %d is given out again", n)
		}
		seen[n] = true
	}
}
