package main

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
)

//go:embed switch.go.txt
var switchSource []byte

// test is one test of one package.
type test struct {
	pkg, name string
	binary    string
	dir       string
	lasts     time.Duration
	reaches   []byte // a byte for each fault, 1 where the test passes through it
}

// built is all tests, with all faults built in.
type built struct {
	work    string
	program string // the product itself, for the tests from the outside
	tests   []*test
	total   int // of faults
}

// outside is the package whose tests drive the built program.
const outside = "initium/test"

// workFolder makes a folder that outlives the sandboxes, which have a /tmp of their own.
func workFolder() (string, error) {
	base, err := os.UserCacheDir()
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(base, 0o755); err != nil {
		return "", err
	}
	return os.MkdirTemp(base, "initium-mutate-")
}

// build compiles the product and the tests of all packages with the faults in them.
func build(ctx context.Context, work string, sources []source) (*built, error) {
	root, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	replace := map[string]string{filepath.Join(root, "internal", helper, "switch.go"): filepath.Join(work, "switch.go")}
	if err := os.WriteFile(filepath.Join(work, "switch.go"), switchSource, 0o644); err != nil {
		return nil, err
	}
	for i, s := range sources {
		name := filepath.Join(work, fmt.Sprintf("%03d.go", i))
		replace[s.path] = name
		if err := os.WriteFile(name, s.data, 0o644); err != nil {
			return nil, err
		}
	}
	overlay := filepath.Join(work, "overlay.json")
	data, err := json.Marshal(map[string]any{"Replace": replace})
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(overlay, data, 0o644); err != nil {
		return nil, err
	}
	b := &built{work: work, program: filepath.Join(work, "initium")}
	tool := func(args ...string) error {
		cmd := exec.CommandContext(ctx, "go", args...)
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("go %s: %w\n%s", strings.Join(args, " "), err, out)
		}
		return nil
	}
	if err := tool("build", "-overlay", overlay, "-ldflags=-s -w", "-o", b.program, "./cmd/initium"); err != nil {
		return nil, err
	}
	listed, err := exec.CommandContext(ctx, "go", "list", "-f", "{{if or .TestGoFiles .XTestGoFiles}}{{.ImportPath}} {{.Dir}}{{end}}", "./...").Output()
	if err != nil {
		return nil, err
	}
	for _, line := range strings.Split(strings.TrimSpace(string(listed)), "\n") {
		pkg, dir, ok := strings.Cut(line, " ")
		if !ok {
			continue
		}
		binary := filepath.Join(work, strings.ReplaceAll(pkg, "/", "_")+".test")
		if err := tool("test", "-c", "-vet=off", "-overlay", overlay, "-ldflags=-s -w", "-o", binary, pkg); err != nil {
			return nil, err
		}
		list := exec.CommandContext(ctx, binary, "-test.list", ".")
		list.Dir, list.Env = dir, append(os.Environ(), "INITIUM_TEST_PROGRAM="+b.program)
		out, err := list.Output()
		if err != nil {
			return nil, fmt.Errorf("list the tests of %s: %w", pkg, err)
		}
		for _, name := range strings.Fields(string(out)) {
			if strings.HasPrefix(name, "Test") || strings.HasPrefix(name, "Fuzz") {
				b.tests = append(b.tests, &test{pkg: pkg, name: name, binary: binary, dir: dir})
			}
		}
	}
	return b, nil
}

// learn runs each test once with no fault awake and notes how long it takes and which
// faults it passes through.
func (b *built) learn(ctx context.Context, workers int) error {
	for _, s := range b.tests {
		s.reaches = make([]byte, b.total)
	}
	order := slices.Clone(b.tests)
	slices.SortStableFunc(order, func(a, c *test) int { // the long ones first
		return cmp.Compare(fromOutside(c), fromOutside(a))
	})
	var mu sync.Mutex
	var failed []*test
	began := time.Now()
	each(ctx, workers, order, func(s *test) {
		seen := filepath.Join(b.work, "seen", s.pkg, s.name)
		if os.MkdirAll(filepath.Dir(seen), 0o755) != nil || os.WriteFile(seen, s.reaches, 0o644) != nil {
			return
		}
		started := time.Now()
		ok, out := b.run(ctx, s.binary, s.dir, []string{s.name}, 5*time.Minute, "INITIUM_FAULTS_SEEN="+seen)
		s.lasts = time.Since(started)
		s.reaches, _ = os.ReadFile(seen)
		if !ok {
			mu.Lock()
			failed = append(failed, s)
			fmt.Printf("%s %s fails without a fault, and is left out:\n%s\n", s.pkg, s.name, tail(out))
			mu.Unlock()
		}
	})
	b.tests = slices.DeleteFunc(b.tests, func(s *test) bool { return slices.Contains(failed, s) || len(s.reaches) < b.total })
	fmt.Printf("%d tests, known in %v\n", len(b.tests), time.Since(began).Round(time.Second))
	return ctx.Err()
}

func fromOutside(s *test) int {
	if s.pkg == outside {
		return 1
	}
	return 0
}

// outcome is what became of one fault.
type outcome int

const (
	untried   outcome = iota
	caught            // a test failed
	survived          // no test did
	unreached         // no test passes through it
)

// try wakes one fault after the other.
func (b *built) try(ctx context.Context, faults []*fault, workers int, budget time.Duration) {
	var mu sync.Mutex
	done := 0
	each(ctx, workers, faults, func(f *fault) {
		b.tryOne(ctx, f, budget)
		mu.Lock()
		defer mu.Unlock()
		if done++; f.outcome == survived || f.outcome == unreached {
			fmt.Printf("%4d  %s\n", done, f)
		}
	})
}

// distance is how far a test is from a fault: in its package, in another, or outside.
func (f *fault) distance(s *test) int {
	switch s.pkg {
	case f.pkg, f.pkg + "_test":
		return 0
	case outside:
		return 2
	}
	return 1
}

// groupsFor are the tests that pass through a fault, the near and quick ones first. Those of
// one package run together, but for the long ones.
func (b *built) groupsFor(f *fault) (groups [][]*test) {
	var near []*test
	for _, s := range b.tests {
		if s.reaches[f.number] == 1 {
			near = append(near, s)
		}
	}
	slices.SortStableFunc(near, func(a, c *test) int {
		return cmp.Or(f.distance(a)-f.distance(c), cmp.Compare(a.lasts, c.lasts))
	})
	at := map[string]int{}
	for _, s := range near {
		if f.distance(s) == 2 || s.lasts > 2*time.Second {
			groups = append(groups, []*test{s})
			continue
		}
		if _, ok := at[s.pkg]; !ok {
			at[s.pkg] = len(groups)
			groups = append(groups, nil)
		}
		groups[at[s.pkg]] = append(groups[at[s.pkg]], s)
	}
	return groups
}

// tryOne runs the tests that pass through a fault: those of its own package, then those of
// others, then those from the outside, the quick ones first, until one fails or the budget
// is used up.
func (b *built) tryOne(ctx context.Context, f *fault, budget time.Duration) {
	groups := b.groupsFor(f)
	if len(groups) == 0 {
		f.outcome = unreached
		return
	}
	used := time.Duration(0)
	for _, group := range groups {
		lasts := time.Duration(0)
		for _, s := range group {
			lasts += s.lasts
		}
		if f.distance(group[0]) > 0 {
			if used+lasts > budget && used > 0 {
				break
			}
			used += lasts
		}
		ok, out := b.runAwake(ctx, f, group, lasts)
		if !ok && lasts > time.Second { // such a test may be red by itself on a busy machine
			ok, out = b.runAwake(ctx, f, group, lasts)
		}
		if ctx.Err() != nil {
			return
		}
		if !ok {
			f.outcome, f.noticed = caught, group[0].pkg
			if m := failing.FindStringSubmatch(out); m != nil {
				f.noticed += " " + m[1]
			}
			return
		}
	}
	f.outcome = survived
}

// runAwake runs tests of one package, which usually last so long, with a fault awake.
func (b *built) runAwake(ctx context.Context, f *fault, group []*test, lasts time.Duration) (ok bool, out string) {
	names := make([]string, len(group))
	for i, s := range group {
		names[i] = s.name
	}
	return b.run(ctx, group[0].binary, group[0].dir, names, 3*lasts+15*time.Second, fmt.Sprintf("INITIUM_FAULT=%d", f.number))
}

var failing = regexp.MustCompile(`--- FAIL: (\S+)`)

// run runs tests of one package in a sandbox; ok is false when one fails, or does not end.
func (b *built) run(ctx context.Context, binary, dir string, names []string, limit time.Duration, env ...string) (ok bool, out string) {
	args := []string{"-test.run=^(" + strings.Join(names, "|") + ")$", "-test.failfast", "-test.timeout=" + limit.String()}
	ctx, cancel := context.WithTimeout(ctx, limit+5*time.Second)
	defer cancel()
	cmd := sandboxed(ctx, b.work, binary, args...)
	cmd.Dir = dir
	cmd.Env = append(cmd.Env, append(env, "INITIUM_TEST_PROGRAM="+b.program)...)
	var buf bytes.Buffer
	cmd.Stdout, cmd.Stderr = &buf, &buf
	err := cmd.Run()
	return err == nil, buf.String()
}

// each does something with each of several things, a few at a time.
func each[T any](ctx context.Context, workers int, list []T, do func(T)) {
	queue := make(chan T)
	var wg sync.WaitGroup
	for range workers {
		wg.Go(func() {
			for x := range queue {
				do(x)
			}
		})
	}
	defer wg.Wait()
	defer close(queue)
	for _, x := range list {
		select {
		case queue <- x:
		case <-ctx.Done():
			return
		}
	}
}

func tail(out string) string {
	lines := strings.Split(strings.TrimSpace(out), "\n")
	return strings.Join(lines[max(0, len(lines)-12):], "\n")
}

// report prints how many faults were noticed in each package.
func report(faults []*fault) {
	type row struct{ tried, caught, survived, unreached, untried int }
	rows := map[string]*row{}
	all := &row{}
	for _, f := range faults {
		name := strings.TrimPrefix(f.pkg, "initium/internal/")
		if rows[name] == nil {
			rows[name] = &row{}
		}
		for _, r := range []*row{rows[name], all} {
			switch f.outcome {
			case untried:
				r.untried++
				continue
			case caught:
				r.caught++
			case survived:
				r.survived++
			case unreached:
				r.unreached++
			}
			r.tried++
		}
	}
	names := slices.Sorted(func(yield func(string) bool) {
		for n := range rows {
			if !yield(n) {
				return
			}
		}
	})
	fmt.Printf("\n%-18s %6s %8s %9s %10s\n", "package", "faults", "noticed", "survived", "unreached")
	line := func(name string, r *row) {
		if r.tried > 0 {
			fmt.Printf("%-18s %6d %6d %% %9d %10d\n", name, r.tried, 100*r.caught/r.tried, r.survived, r.unreached)
		}
	}
	for _, n := range names {
		line(n, rows[n])
	}
	line("all", all)
	if all.untried > 0 {
		fmt.Printf("%d were not tried: the time was up\n", all.untried)
	}
}

// list of what is no fault, although the code differs.
//
//go:embed harmless.txt
var harmlessText string

type known struct {
	places map[string]bool // and whether it was met
}

// harmless reads the faults that were looked at and are none: nothing that the product
// promises differs with them. Each has its reason in a comment above it.
func harmless() (*known, error) {
	k := &known{places: map[string]bool{}}
	scan := bufio.NewScanner(strings.NewReader(harmlessText))
	reason := false
	for n := 1; scan.Scan(); n++ {
		line := strings.TrimSpace(scan.Text())
		switch {
		case line == "":
			reason = false
		case strings.HasPrefix(line, "#"):
			reason = true
		case !reason:
			return nil, fmt.Errorf("harmless.txt:%d: has no reason above it", n)
		default:
			k.places[line] = false
		}
	}
	return k, scan.Err()
}

// without takes out what is no fault.
func (k *known) without(faults []*fault) []*fault {
	return slices.DeleteFunc(faults, func(f *fault) bool {
		place := fmt.Sprintf("%s %s: %s: %s", f.file, f.fn, f.kind, f.code)
		_, ok := k.places[place]
		if ok {
			k.places[place] = true
		}
		return ok
	})
}

func (k *known) unused() (list []string) {
	for place, met := range k.places {
		if !met {
			list = append(list, place)
		}
	}
	slices.Sort(list)
	return list
}
