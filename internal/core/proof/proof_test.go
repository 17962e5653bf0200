package proof_test

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/insist"
)

//go:embed testdata/source.toml
var source string

func parse(t testing.TB) *dialect.Dialect {
	t.Helper()
	d, err := dialect.Parse("s.toml", []byte(source))
	insist.OK(t, err)
	return d
}

var expected = []proof.Expected{
	{Name: "a", Path: "/srv/mods/a", Registered: true},
	{Name: "b", Path: "/srv/mods/b-folder", Registered: true},
	{Name: "spare", Path: "/srv/mods/spare"},
	{Name: "core", Path: "/srv/own/core", Base: true},
}

func read(t testing.TB, log string, end proof.End) *proof.Proof {
	r := proof.NewReader(parse(t), "/srv", expected, nil)
	r.Feed([]byte(log), 1500*time.Millisecond)
	r.Flush()
	return r.Judge(end)
}

// sum writes a proof down: "verdict; a confirmed 12; b failed (why)".
func sum(p *proof.Proof) string {
	words := []string{string(p.Verdict)}
	for _, m := range p.Mods {
		word := m.Name + " " + string(m.Outcome)
		if m.LoadMS != nil {
			word += fmt.Sprintf(" %g", *m.LoadMS)
		}
		if m.Outcome == proof.Failed {
			word += " (" + m.Reason + ")"
		}
		words = append(words, word)
	}
	return strings.Join(words, "; ")
}

func TestJudge(t *testing.T) {
	exit := func(status int) proof.End { return proof.End{Exit: &status} }
	for name, test := range map[string]struct {
		log    string
		end    proof.End
		want   string
		reason string
	}{
		"proved":                       {"loaded a in 12 ms\n2026-01-02 10:00:00 info: done b\nopen\n", proof.End{}, "proved; a confirmed 12; b confirmed", ""},
		"a list of all":                {"all of: \"a\", \"b\"\nopen", proof.End{}, "proved; a confirmed; b confirmed", ""},
		"a bare list":                  {"all of: a, b core\nopen", proof.End{}, "proved; a confirmed; b confirmed", ""},
		"base is no finding, spare is": {"all of: a b core spare\nopen", proof.End{}, "proved; a confirmed; b confirmed; spare unlisted", ""},
		"unknown is unlisted":          {"all of: a b ghost\nopen", proof.End{}, "proved; a confirmed; b confirmed; ghost unlisted", ""},
		"silent":                       {"loaded a in 1 ms\nopen\n", proof.End{}, "not proved; a confirmed 1; b silent", "1 of 2 registered mods is not confirmed"},
		"not without its level":        {"loaded a in 1 ms\n2026-01-02 10:00:00 chat: done b\nopen\n", proof.End{}, "not proved; a confirmed 1; b silent", "1 of 2"},
		"missing":                      {"not found: 'b'\nloaded a in 1 ms\nopen\n", proof.End{}, "not proved; a confirmed 1; b failed (it is registered, and the server could not find it)", "1 of 2"},
		"needs":                        {"b wants x, y\nloaded a in 1 ms\nopen\n", proof.End{}, "not proved; a confirmed 1; b failed (it needs x, y)", "1 of 2"},
		"broken":                       {"broken: b: too old\nopen\n", proof.End{}, "not proved; a silent; b failed (too old)", "2 of 2"},
		"failed after it loaded":       {"all of: a b\nopen\nbroken: b: crash in a timer\n", proof.End{}, "not proved; a confirmed; b failed (crash in a timer)", "1 of 2"},
		"a file of a mod":              {"script /srv/mods/b-folder/x/init:\nline 3: boom\n", exit(1), "not proved; a silent; b failed (line 3: boom)", "exit status 1: line 3: boom"},
		"a relative file":              {"script mods/b-folder/init:\nboom\n", exit(1), "not proved; a silent; b failed (boom)", "boom"},
		"a shortened file":             {"script ...ods/b-folder/init:\nboom\n", exit(1), "not proved; a silent; b failed (boom)", "boom"},
		"a file of nobody":             {"all of: a b\nscript /elsewhere/init:\nboom\nopen\n", proof.End{}, "not proved; a confirmed; b confirmed", "belongs to no known mod"},
		"base fails":                   {"all of: a b\nbroken: core: x\nopen\n", proof.End{}, "not proved; a confirmed; b confirmed; core failed (x)", "core failed"},
		"stopped":                      {"giving up: port taken\n", exit(5), "not proved; a silent; b silent", "before it was ready, with exit status 5: port taken"},
		"a signal":                     {"", exit(-1), "not proved; a silent; b silent", "ended by a signal before it was ready"},
		"ready and gone":               {"all of: a b\nopen\n", exit(0), "not proved; a confirmed; b confirmed", "right after it was ready"},
		"time is up":                   {"all of: a b\n", proof.End{Limit: 30 * time.Second}, "not proved; a confirmed; b confirmed", "within 30s"},
		"given up":                     {"all of: a b\n", proof.End{Stopped: true}, "not proved; a confirmed; b confirmed", "stopped before"},
		"nothing":                      {"", proof.End{}, "not proved; a silent; b silent", "has not said that it is ready"},
		"colours and CR":               {"\x1b[32mloaded a in 5 ms\x1b[0m\r\nall of: b\r\nopen\r\n", proof.End{}, "proved; a confirmed 5; b confirmed", ""},
		"with semicolons":              {"all of: a;b\nopen\n", proof.End{}, "proved; a confirmed; b confirmed", ""},
		"missing, written over":        {"not found: 'b'\rretrying\nloaded a in 1 ms\nopen\n", proof.End{}, "not proved; a confirmed 1; b failed (it is registered, and the server could not find it)", "1 of 2"},
		"needs, written over":          {"b wants x, y\rretrying\nloaded a in 1 ms\nopen\n", proof.End{}, "not proved; a confirmed 1; b failed (it needs x, y)", "1 of 2"},
		"stopped, written over":        {"giving up: port taken\rbye now\n", exit(5), "not proved; a silent; b silent", "before it was ready, with exit status 5: port taken"},
		"ready, written over":          {"all of: a b\nhello\ropen\n", proof.End{}, "not proved; a confirmed; b confirmed", "has not said that it is ready"},
		"in the middle is not it":      {"chat: loaded a in 5 ms\nall of: b\nopen\n", proof.End{}, "not proved; a silent; b confirmed", "1 of 2"},
	} {
		p := read(t, test.log, test.end)
		insist.Same(t, name, sum(p), test.want)
		insist.That(t, strings.Contains(p.Reason, test.reason) && (p.Reason == "") == (p.Verdict == proof.Proved), "%s: reason %q, want %q", name, p.Reason, test.reason)
	}
}

func TestEvidenceAndTimes(t *testing.T) {
	r := proof.NewReader(parse(t), "/srv", expected, nil)
	feed := func(ms int, s string) { r.Feed([]byte(s), time.Duration(ms)*time.Millisecond) }
	feed(10, "2026-01-02 10:00:00 info: begin a\n2026-01-02 10:0")
	feed(90, "0:01 info: hm\n")
	feed(120, "2026-01-02 10:00:01 info: done a\nloaded b in 50 ms\n")
	feed(200, "open\n")
	p := r.Judge(proof.End{})
	a, b := p.Find("a"), p.Find("b")
	insist.That(t, *a.LoadMS == 110 && *a.BeganMS == 10 && *a.EndedMS == 120, "a took %v, from %v to %v", *a.LoadMS, *a.BeganMS, *a.EndedMS)
	insist.That(t, *b.LoadMS == 50 && *b.BeganMS == 70 && *b.EndedMS == 120, "b took %v, from %v to %v", *b.LoadMS, *b.BeganMS, *b.EndedMS)
	insist.That(t, p.ReadyAfterMS == 200 && p.Ready, "ready after %d", p.ReadyAfterMS)
	want := proof.Evidence{Source: "log", Line: 3, Time: "2026-01-02T10:00:01", Text: "2026-01-02 10:00:01 info: done a", AtMS: 120}
	insist.That(t, len(a.Evidence) == 2 && reflect.DeepEqual(a.Evidence[1], want), "evidence is %+v", a.Evidence)
	data, err := json.Marshal(p)
	insist.That(t, err == nil && bytes.Contains(data, []byte(`"exit":null`)) && bytes.Contains(data, []byte(`"evidence":[{"source":"log","line":1`)), "as JSON: %s, %v", data, err)
}

func TestStatus(t *testing.T) {
	r := proof.NewReader(parse(t), "/srv", expected, nil)
	r.Feed([]byte("begin b\nbroken: a: x\n"), 0)
	s := r.Status()
	insist.That(t, s.Done == 1 && s.Failed == 1 && s.Now == "b" && len(s.Owed) == 1, "status is %+v", s)
}

func TestHostileLog(t *testing.T) {
	long := strings.Repeat("x", 3*proof.MaxLine)
	p := read(t, long+"\nbroken: b: \x1b]0;owned\x07\u202egnp\x9b\nbroken: \x00: \xff\nopen\n"+long, proof.End{})
	for _, m := range p.Mods {
		text := m.Name + m.Reason
		for _, e := range m.Evidence {
			text += e.Text + e.Time
			insist.That(t, len(e.Text) <= 5000, "evidence of %d bytes", len(e.Text))
		}
		insist.That(t, !strings.ContainsAny(text, "\x1b\x07\x00\u202e"), "%q reaches the screen", text)
	}
	insist.That(t, p.Find("b").Evidence[0].Line == 2, "a line of megabytes counts as %d lines", p.Find("b").Evidence[0].Line-1)
}

// FuzzFeed cuts a log into two pieces anywhere, which must not change what is
// read from it, and looks that nobody is confirmed without evidence.
func FuzzFeed(f *testing.F) {
	f.Add([]byte("loaded a in 12 ms\r\nbroken: b: x\nopen\n"), uint16(5))
	f.Add([]byte("script mods/a/init:\nboom\n\x1b[1mopen"), uint16(20))
	d := parse(f)
	f.Fuzz(func(t *testing.T, log []byte, cut uint16) {
		whole := proof.NewReader(d, "/srv", expected, nil)
		whole.Feed(log, 0)
		whole.Flush()
		parts := proof.NewReader(d, "/srv", expected, nil)
		at := min(int(cut), len(log))
		parts.Feed(log[:at], 0)
		parts.Feed(log[at:], 0)
		parts.Flush()
		// One that shows every line has to look at each, and reads the same.
		shown := proof.NewReader(d, "/srv", expected, func(proof.Line) {})
		shown.Feed(log, 0)
		shown.Flush()
		one, _ := json.Marshal(whole.Judge(proof.End{}))
		// And so does one that is handed the log to read, in pieces of any size.
		from := proof.NewReader(d, "/srv", expected, nil)
		if n, err := from.ReadFrom(iotest.HalfReader(bytes.NewReader(log))); err != nil || n != int64(len(log)) {
			t.Fatalf("%d of %d bytes were read, %v", n, len(log), err)
		}
		from.Flush()
		if four, _ := json.Marshal(from.Judge(proof.End{})); !bytes.Equal(one, four) || from.Lines() != whole.Lines() || shown.Lines() != whole.Lines() {
			t.Fatalf("read from a stream:\n%s\n%s", one, four)
		}
		if three, _ := json.Marshal(shown.Judge(proof.End{})); !bytes.Equal(one, three) {
			t.Fatalf("skimmed:\n%s\n%s", one, three)
		}
		two, _ := json.Marshal(parts.Judge(proof.End{}))
		insist.Need(t, bytes.Equal(one, two), "cut at %d:\n%s\n%s", at, one, two)
		for _, m := range whole.Judge(proof.End{}).Mods {
			if m.Outcome != proof.Silent && len(m.Evidence) == 0 {
				t.Fatalf("%s is %s without evidence", m.Name, m.Outcome)
			}
		}
	})
}

// chatter is a log of so many lines, of which one in every few speaks of a mod.
func chatter(lines, every int) string {
	var log strings.Builder
	for i := range lines {
		if i%every == 0 {
			fmt.Fprintf(&log, "2026-01-02 10:00:00 info: loaded mod_%d in 12 ms\n", i/every%500)
			continue
		}
		fmt.Fprintf(&log, "2026-01-02 10:00:00 info: something that the server says about itself, number %d\n", i)
	}
	return log.String()
}

// BenchmarkFeed reads a log in which one line in twenty speaks of a mod.
func BenchmarkFeed(b *testing.B) {
	log := chatter(20_000, 20)
	d := parse(b)
	b.SetBytes(int64(len(log)))
	for b.Loop() {
		r := proof.NewReader(d, "/srv", expected, nil)
		r.Feed([]byte(log), 0)
	}
}
