package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/intake"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// pollEvery is how often a start is looked at.
const pollEvery = 25 * time.Millisecond

// ProveOptions say how a start is proved.
type ProveOptions struct {
	Within time.Duration // the limit for becoming ready; 0 for the dialect's
	Stay   time.Duration // how long the server has to stay up after it said ready; 0 for the dialect's
	Keep   Keep
	OnStep func(Step) // called from the caller's goroutine whenever something is new; may be nil
}

// Keep says whether a server goes on running after its start was judged.
type Keep int

// A server is stopped, goes on when it is proved, or goes on in any case.
const (
	KeepNever Keep = iota
	KeepProved
	KeepAlways
)

// Step is where a start stands.
type Step struct {
	Number   int // of the start
	Elapsed  time.Duration
	Limit    time.Duration
	Ready    bool
	Settling bool // ready, and watched a little longer
	Stopping bool // judged, and being stopped
	Status   proof.Status
	New      []proof.Line // since the last step
	SoFar    *proof.Proof // as it would be judged now; nil when nothing is new
}

// start is one start being watched.
type start struct {
	server   *Server
	dir      host.StartDir
	number   int
	began    time.Time
	limit    time.Duration
	settle   time.Duration
	reader   *proof.Reader
	follower *host.Follower
	fresh    []proof.Line
	onStep   func(Step)
}

// Prove starts a server, follows its log until it is ready, ends or runs out of
// time, judges every mod, keeps the proof, and stops the server unless it is to
// go on. When ctx ends, the start is given up and the server stopped. The error
// says why no start could be made; a start that fails is no error but a proof.
func (a *App) Prove(ctx context.Context, name string, opt ProveOptions) (*proof.Proof, error) {
	server, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	l, err := a.ledger()
	if err != nil {
		return nil, err
	}
	if err := l.Idle(name); err != nil {
		return nil, fmt.Errorf("start %s: %w", name, err)
	}
	look, err := a.look(server, survey.Take(server.input()))
	if err != nil {
		return nil, err
	}
	st, p, end, err := a.start(ctx, server, look.Survey, opt)
	if err != nil {
		return nil, err
	}
	if err := a.compare(look, p); err != nil {
		return p, err
	}
	if err := st.dir.PutProof(p); err != nil {
		return p, fmt.Errorf("keep the proof: %w", err)
	}
	if err := l.PutStart(p); err != nil {
		return p, fmt.Errorf("write the start into the ledger: %w", err)
	}
	keep := opt.Keep == KeepAlways || opt.Keep == KeepProved && p.Verdict == proof.Proved
	if end.Exit == nil && (!keep || end.Stopped) {
		st.step(Step{Stopping: true})
		if _, err := st.dir.Stop(context.WithoutCancel(ctx)); err != nil {
			return p, fmt.Errorf("stop %s: %w", name, err)
		}
	}
	return p, nil
}

// start makes one start of a server and judges it. The server may still run then.
func (a *App) start(ctx context.Context, server *Server, now *survey.Survey, opt ProveOptions) (st *start, p *proof.Proof, end proof.End, err error) {
	st = &start{server: server, onStep: opt.OnStep, limit: opt.Within, settle: opt.Stay}
	if st.limit <= 0 {
		st.limit = time.Duration(server.Dialect.Start.Within)
	}
	if st.settle <= 0 {
		st.settle = time.Duration(server.Dialect.Start.Settle)
	}
	spec, err := server.spec()
	if err != nil {
		return nil, nil, end, err
	}
	absent := server.absentLeavings(now)
	st.began = time.Now()
	if st.dir, st.number, err = a.Home.Launch(a.Exe, spec); err != nil {
		return nil, nil, end, fmt.Errorf("start %s: %w", server.Record.Name, err)
	}
	st.reader = proof.NewReader(server.Dialect, spec.Dir, Expect(now), func(l proof.Line) { st.fresh = append(st.fresh, l) })
	st.reader.Secrets = now.Lineup.Secrets()
	st.follower = st.dir.Follow()
	defer st.follower.Close()
	if end, err = st.watch(ctx); err != nil {
		return nil, nil, end, err
	}
	st.reader.Flush()
	for _, l := range absent {
		if info, err := os.Stat(l.path); err == nil {
			st.reader.Appeared(l.mod, l.path, max(info.ModTime().Sub(st.began), 0))
		}
	}
	p = st.reader.Judge(end)
	p.Server, p.Number, p.Log, p.Started = server.Record.Name, st.number, st.dir.Log(), &st.began
	return st, p, end, nil
}

// leaving is something that a mod makes by itself, and that is not there yet.
type leaving struct{ mod, path string }

// absentLeavings are the files and folders that mods which are on would make, as
// far as the dialect knows, and that are not there yet.
func (s *Server) absentLeavings(now *survey.Survey) (list []leaving) {
	for _, l := range s.Dialect.Leavings {
		for i := range now.Mods {
			m := &now.Mods[i]
			if !m.Listed {
				continue
			}
			if full, ok := intake.LeavingOf(&l, s.Vars, m.Name); ok {
				if _, err := os.Lstat(full); errors.Is(err, fs.ErrNotExist) {
					list = append(list, leaving{m.Name, full})
				}
			}
		}
	}
	return list
}

// compare puts what was foretold beside what a start showed, and keeps what was
// learned: a mod that failed by its own fault against the forecast will do so
// again while its files stay the same; one that loaded will not.
func (a *App) compare(look *Look, p *proof.Proof) error {
	l, err := a.ledger()
	if err != nil {
		return err
	}
	for i := range p.Mods {
		m := &p.Mods[i]
		said := look.Forecast.Find(m.Name)
		known := look.Survey.Find(m.Name)
		if said == nil || known == nil {
			continue
		}
		m.Foretold = string(said.Outcome)
		switch {
		case known.Path == "":
		case m.Outcome == proof.Failed && m.Own && said.Outcome == forecast.Confirmed:
			err = l.Learn(known.Path, host.Lesson{Around: around(look.Survey, known), Said: m.Reason})
		case said.Cause == forecast.Lesson && (m.Outcome == proof.Confirmed || m.Outcome == proof.Unlisted):
			err = l.Learn(known.Path, host.Lesson{})
		}
		if err != nil {
			return fmt.Errorf("keep what the start taught: %w", err)
		}
	}
	return nil
}

// watch follows a start to its end.
func (st *start) watch(ctx context.Context) (proof.End, error) {
	var readySince time.Time
	for {
		// Whether the server has ended is asked first: all that it said is in the
		// log by then.
		exit, ended := st.dir.Exit()
		if err := st.follower.Next(st.reader.Feed); err != nil {
			return proof.End{}, fmt.Errorf("follow the log: %w", err)
		}
		if st.reader.Ready() && readySince.IsZero() {
			readySince = time.Now()
		}
		st.step(Step{Settling: !readySince.IsZero()})
		switch {
		case ended:
			return proof.End{Exit: &exit.Status}, nil
		case ctx.Err() != nil:
			return proof.End{Stopped: true}, nil
		case !readySince.IsZero() && time.Since(readySince) >= st.settle:
			return proof.End{}, nil
		case readySince.IsZero() && time.Since(st.began) >= st.limit:
			return proof.End{Limit: st.limit}, nil
		}
		select {
		case <-ctx.Done():
		case <-time.After(pollEvery):
		}
	}
}

// step tells the caller where the start stands.
func (st *start) step(s Step) {
	if st.onStep == nil {
		st.fresh = st.fresh[:0]
		return
	}
	s.Number, s.Elapsed, s.Limit = st.number, time.Since(st.began), st.limit
	s.Ready, s.Status = st.reader.Ready(), st.reader.Status()
	s.New = slices.Clone(st.fresh)
	if len(s.New) > 0 {
		s.SoFar = st.reader.Judge(proof.End{})
	}
	st.fresh = st.fresh[:0]
	st.onStep(s)
}

// Expect lists what a start of the surveyed server is judged by.
func Expect(s *survey.Survey) []proof.Expected {
	expected := make([]proof.Expected, 0, len(s.Mods))
	for i := range s.Mods {
		m := &s.Mods[i]
		expected = append(expected, proof.Expected{Name: m.Name, Release: m.Release, Path: m.Path, Registered: m.Listed, Base: m.Base})
	}
	return expected
}

// spec writes the start of a server out. The error says what is missing.
func (s *Server) spec() (host.Spec, error) {
	spec := host.Spec{Server: s.Record.Name, Console: s.Dialect.Stop.Console, Signal: s.Dialect.Stop.Signal,
		Patience: time.Duration(s.Dialect.Stop.Patience)}
	for _, g := range s.Dialect.Givens {
		if problem, missing := s.Missing[g.Name]; missing {
			return spec, fmt.Errorf("%s (%s): %s; adopt the server again with --set %s=…", g.About, g.Name, text.Clean(problem), g.Name)
		}
	}
	var ok bool
	if spec.Dir, ok = s.Vars.Expand(s.Dialect.Start.Directory); !ok {
		return spec, fmt.Errorf("the working directory %q cannot be filled in", s.Dialect.Start.Directory)
	}
	if info, err := os.Stat(spec.Dir); err != nil || !info.IsDir() {
		return spec, fmt.Errorf("the working directory %s is not there", spec.Dir)
	}
	for _, word := range s.Dialect.Start.Command {
		value, ok := s.Vars.Expand(word)
		if !ok {
			return spec, fmt.Errorf("the start command's word %q cannot be filled in", word)
		}
		spec.Command = append(spec.Command, value)
	}
	for _, group := range s.Dialect.Start.Extra {
		spec.Command = append(spec.Command, s.expandAll(group)...)
	}
	for name, value := range s.Dialect.Start.Env {
		if value, ok := s.Vars.Expand(value); ok {
			spec.Env = append(spec.Env, name+"="+value)
		}
	}
	slices.Sort(spec.Env)
	return spec, nil
}

// expandAll fills in words that belong together, or none of them.
func (s *Server) expandAll(words []string) []string {
	var values []string
	for _, word := range words {
		value, ok := s.Vars.Expand(word)
		if !ok {
			return nil
		}
		values = append(values, value)
	}
	return values
}

// ReadLog reads a kept log of a server by its dialect and hands its lines out in
// batches.
func (a *App) ReadLog(look *Look, file string, lines func([]proof.Line)) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	var fresh []proof.Line
	r := proof.NewReader(look.Server.Dialect, "", nil, func(l proof.Line) { fresh = append(fresh, l) })
	r.Secrets = look.Survey.Lineup.Secrets()
	buf := make([]byte, 64<<10)
	for {
		n, err := f.Read(buf)
		r.Feed(buf[:n], 0)
		if err == io.EOF {
			r.Flush()
		}
		lines(fresh)
		fresh = fresh[:0]
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// LastStart is the newest proof of a server, and the newest that proved it;
// either may be nil.
func (a *App) LastStart(name string) (last, proved *proof.Proof, err error) {
	last, err = a.startBefore(name, 0, false)
	if err != nil || last == nil || last.Verdict == proof.Proved {
		return last, last, err
	}
	proved, err = a.startBefore(name, last.Number, true)
	return last, proved, err
}

// startBefore is the newest judged start before another, or of all when that is
// 0; nil when there is none.
func (a *App) startBefore(name string, before int, proved bool) (*proof.Proof, error) {
	numbers, err := a.Home.Starts(name)
	if err != nil {
		return nil, err
	}
	for _, n := range slices.Backward(numbers) {
		if before > 0 && n >= before {
			continue
		}
		if p, err := a.Home.Start(name, n).Proof(); err == nil && (!proved || p.Verdict == proof.Proved) {
			return p, nil
		}
	}
	return nil, nil
}

// Stop stops a running server as its dialect says.
func (a *App) Stop(ctx context.Context, name string) (host.Exit, error) {
	if _, err := a.Home.Record(name); err != nil {
		return host.Exit{}, err
	}
	if !a.Home.IsRunning(name) {
		return host.Exit{}, usage("%s is not running", name)
	}
	return a.stopRunning(ctx, name)
}

// stopRunning stops the newest start of a server.
func (a *App) stopRunning(ctx context.Context, name string) (host.Exit, error) {
	numbers, err := a.Home.Starts(name)
	if err != nil || len(numbers) == 0 {
		return host.Exit{}, fmt.Errorf("find the start that runs: %w", err)
	}
	return a.Home.Start(name, numbers[len(numbers)-1]).Stop(ctx)
}

// Summary is one server in the list of all.
type Summary struct {
	Name, Dialect, Dir, Port string
	Running                  bool
	Since                    time.Time // of the running start
	Last, Proved             *proof.Proof
	Changed                  bool // its startup files, since the last proved start
	Registered               int  // mods that are on
	Errors                   int  // findings of severity error
	Problem                  string
}

// Servers sums up all adopted servers.
func (a *App) Servers() ([]Summary, error) {
	names, err := a.Home.Servers()
	if err != nil {
		return nil, err
	}
	list := make([]Summary, 0, len(names))
	for _, name := range names {
		list = append(list, a.summary(name))
	}
	return list, nil
}

func (a *App) summary(name string) Summary {
	sum := Summary{Name: name}
	look, err := a.Look(name)
	if err != nil {
		sum.Problem = text.Clean(err.Error())
		return sum
	}
	sum.Dialect, sum.Dir, sum.Port = look.Server.Dialect.Title, look.Server.Record.Dir, look.Server.Vars["port"]
	sum.Running = look.Running
	if sum.Last, sum.Proved, err = a.LastStart(name); err != nil {
		sum.Problem = text.Clean(err.Error())
	}
	for i := range look.Survey.Mods {
		if m := &look.Survey.Mods[i]; m.Listed {
			sum.Registered++
		}
	}
	for _, f := range look.Findings {
		if f.Severity == "error" {
			sum.Errors++
		}
	}
	if numbers, err := a.Home.Starts(name); err == nil && len(numbers) > 0 && sum.Running {
		if r, err := a.Home.Start(name, numbers[len(numbers)-1]).Running(); err == nil {
			sum.Since = r.Started
		}
	}
	sum.Changed = sum.Proved != nil && ChangedSince(look.Survey, sum.Proved)
	return sum
}

// ChangedSince tells whether the mods that are on, their releases, or an order
// that matters, are other than they were at a start.
func ChangedSince(s *survey.Survey, p *proof.Proof) bool {
	var then, now []string
	for _, m := range p.Mods {
		if m.Registered {
			then = append(then, m.Name+" "+m.Release)
		}
	}
	for i := range s.Mods {
		if m := &s.Mods[i]; m.Listed {
			now = append(now, text.Clean(m.Name)+" "+text.Clean(m.Release))
		}
	}
	if s.Dialect.Order == dialect.OrderServer {
		slices.Sort(then)
		slices.Sort(now)
	}
	return !slices.Equal(then, now)
}
