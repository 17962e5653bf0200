// Package test drives the built program from the outside: its commands, its
// screen in a terminal, and real servers.
package test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"initium/internal/insist"
	"initium/internal/lack"
)

// program is the path of the built program.
var program string

func TestMain(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	if len(os.Args) > 3 && os.Args[1] == familyWord {
		madeUpServers[os.Args[2]].serve(os.Args[3], os.Args[4:])
	}
	dir, err := os.MkdirTemp("", "initium-test-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // some tests are another user
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	program = os.Getenv("INITIUM_TEST_PROGRAM") // one that was built in a way of its own
	if program != "" {
		if counts := os.Getenv("INITIUM_TEST_COUNTS"); counts != "" {
			os.Setenv("GOCOVERDIR", counts) // go test has its own, which it throws away
		}
		return m.Run()
	}
	program = filepath.Join(dir, "initium")
	if out, err := exec.Command("go", "build", "-o", program, "initium/cmd/initium").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build the program: %v\n%s", err, out)
		return 1
	}
	return m.Run()
}

// needs skips a test when a program is not installed; in CI it fails then.
func needs(t testing.TB, programs ...string) {
	t.Helper()
	lack.Programs(t, programs...)
}

// operator is one operator with a home of his own.
type operator struct {
	t    testing.TB
	home string
	env  []string
	as   string // another user, where this one is root
}

func newOperator(t testing.TB) *operator {
	t.Helper()
	dir := t.TempDir()
	o := &operator{t: t, home: filepath.Join(dir, "home")}
	o.env = append(os.Environ(), "INITIUM_HOME="+o.home, "HOME="+dir, "XDG_RUNTIME_DIR=")
	t.Cleanup(func() { // what a test has started ends with it
		servers := within(o.home, "servers/*")
		for _, dir := range servers {
			o.try("stop", filepath.Base(dir))
		}
	})
	return o
}

// result is what one command did.
type result struct {
	status   int
	out, err string
}

func (o *operator) try(args ...string) result {
	o.t.Helper()
	return o.typed("", args...)
}

// typed carries out a command that is told something on its standard input.
func (o *operator) typed(in string, args ...string) result {
	o.t.Helper()
	cmd := as(o.as, program, args...)
	cmd.Env, cmd.Stdin = o.env, strings.NewReader(in)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		o.t.Fatal(err)
	}
	return result{cmd.ProcessState.ExitCode(), out.String(), errOut.String()}
}

// split cuts a command line into words at its blanks, except those in the name of the folder
// that tests work in.
func split(line string) []string {
	words := strings.Fields(strings.ReplaceAll(line, os.TempDir(), "\x00"))
	for i := range words {
		words[i] = strings.ReplaceAll(words[i], "\x00", os.TempDir())
	}
	return words
}

// do carries out a command that has to end with a status.
func (o *operator) do(status int, args ...string) string {
	o.t.Helper()
	r := o.try(args...)
	if r.status != status {
		o.t.Fatalf("initium %s: exit status %d, want %d\n%s%s", strings.Join(args, " "), r.status, status, r.out, r.err)
	}
	return r.out + r.err
}

// json carries out a command and reads its output.
func (o *operator) json(status int, v any, args ...string) {
	o.t.Helper()
	r := o.try(args...)
	if r.status != status {
		o.t.Fatalf("initium %s: exit status %d, want %d\n%s%s", strings.Join(args, " "), r.status, status, r.out, r.err)
	}
	if err := json.Unmarshal([]byte(r.out), v); err != nil {
		o.t.Fatalf("initium %s: %v in\n%s", strings.Join(args, " "), err, r.out)
	}
}

// The shapes of what --json prints.
type (
	proofJSON struct {
		Server, Verdict, Reason, Log string
		Ready                        bool
		ReadyAfterMS                 int64 `json:"ready_after_ms"`
		Exit                         *int
		Mods                         []modJSON
		Order                        []string
		Differs                      []string
		Gone                         []struct {
			Mod, Why string
			Start    int
		}
		Told map[string]string
	}
	modJSON struct {
		Name, Outcome, Reason string
		Against               string
		Registered, Own       bool
		LoadMS                *float64 `json:"load_ms"`
		Evidence              []struct {
			Source, Time, Text string
			Line               int
		}
	}
	findingJSON struct {
		Code, Severity, Mod, File, Message, Remedy string
		Line, Column                               int
	}
	checkJSON  struct{ Findings []findingJSON }
	surveyJSON struct {
		Mods []struct {
			Name, Release, Section, Path string
			Registered, On, Base         bool
			Position                     int
			Needs                        []string
			OptionalNeeds                []string `json:"optional_needs"`
		}
	}
)

func (p *proofJSON) mod(name string) modJSON {
	for _, m := range p.Mods {
		if m.Name == name {
			return m
		}
	}
	return modJSON{}
}

func (p *proofJSON) find(name string) *modJSON {
	for i := range p.Mods {
		if p.Mods[i].Name == name {
			return &p.Mods[i]
		}
	}
	return nil
}

// outcomes writes a proof down, mod by mod.
func (p *proofJSON) outcomes() string {
	var words []string
	for _, m := range p.Mods {
		words = append(words, m.Name+" "+m.Outcome)
	}
	return strings.Join(words, ", ")
}

// freePort finds a port that nothing on this machine uses, and that no other test was given. It is none of those from
// which the system hands ports out to whoever connects somewhere.
func freePort(t testing.TB) string {
	t.Helper()
	for {
		port := fmt.Sprint(20_000 + rand.IntN(12_000))
		l, err := net.Listen("tcp", "127.0.0.1:"+port)
		if err != nil {
			continue
		}
		insist.OK(t, l.Close())
		if _, given := givenPorts.LoadOrStore(port, true); !given {
			return port
		}
	}
}

var givenPorts sync.Map

func write(t testing.TB, name, data string) {
	t.Helper()
	insist.OK(t, os.MkdirAll(filepath.Dir(name), 0o755))
	insist.OK(t, os.WriteFile(name, []byte(data), 0o644))
}

func contents(t testing.TB, name string) string {
	t.Helper()
	data, err := os.ReadFile(name)
	insist.OK(t, err)
	return string(data)
}

func decode(t testing.TB, out string, v any) {
	t.Helper()
	if err := json.Unmarshal([]byte(out), v); err != nil {
		t.Fatalf("%v in\n%s", err, out)
	}
}

// within lists what fits a pattern in a folder, whatever the folder is called.
func within(dir, pattern string) (list []string) {
	names, _ := fs.Glob(os.DirFS(dir), pattern) // a pattern of a test's is right
	for _, name := range names {
		list = append(list, filepath.Join(dir, name))
	}
	return list
}
