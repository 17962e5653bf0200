package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"initium/internal/core/check"
	"initium/internal/core/forecast"
	"initium/internal/core/intake"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

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

// Prove starts a server, follows its log until it is ready, ends or runs out of
// time, judges every mod, keeps the proof, and stops the server unless it is to
// go on. When ctx ends, the start is given up and the server stopped. The error
// says why no start could be made; a start that fails is no error but a proof.
func (a *App) Prove(ctx context.Context, name string, opt ProveOptions) (*proof.Proof, error) {
	look, err := a.ready(name)
	if err != nil {
		return nil, err
	}
	f, end, err := a.start(ctx, look, opt)
	if f != nil {
		defer f.close()
	}
	if err != nil {
		return nil, err
	}
	p := f.judge(end)
	if err := a.putProof(look, p, f.dir); err != nil {
		return p, err
	}
	keep := opt.Keep == KeepAlways || opt.Keep == KeepProved && p.Verdict == proof.Proved
	switch {
	case end.Exit != nil:
		if r := look.Server.Record; r.Service != "" { // who has asked for this start knows now; systemd would try more of them
			err = a.services(r).Halt(context.WithoutCancel(ctx), serviceUnit(name))
		}
	case !keep || end.Stopped:
		f.step(Step{Stopping: true})
		if _, err := f.dir.Stop(context.WithoutCancel(ctx)); err != nil {
			return p, fmt.Errorf("stop %s: %w", name, err)
		}
		if !end.Stopped {
			again, failed := a.judgeAgain(context.WithoutCancel(ctx), f, p, 0)
			if err = failed; err == nil && again != p {
				p, err = again, a.putProof(look, again, f.dir)
			}
		}
	case look.Server.Record.Guard > 0 && look.Server.Record.Service == "": // else that is systemd's to do
		err = f.dir.Guard(look.Server.Record.Guard)
	}
	return p, err
}

// ready looks at a server that is about to be started.
func (a *App) ready(name string) (*Look, error) {
	server, err := a.idle(name, "start")
	if err != nil {
		return nil, err
	}
	return a.look(server, survey.Take(server.input()))
}

// idle looks up a server that something is to be done with while nobody changes its
// files.
func (a *App) idle(name, what string) (*Server, error) {
	if err := a.elsewhere(name, what); err != nil {
		return nil, err
	}
	return a.idleAnywhere(name, what)
}

// idleAnywhere is idle for what is done at a host, too.
func (a *App) idleAnywhere(name, what string) (*Server, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	l, err := a.ledger()
	if err != nil {
		return nil, err
	}
	if err := l.Idle(name); err != nil {
		return nil, fmt.Errorf("%s %s: %w", what, name, err)
	}
	return s, nil
}

// Begin starts a server under a keeper, and leaves it to others to follow it.
func (a *App) Begin(name string, opt ProveOptions) (*Look, error) {
	look, err := a.ready(name)
	if err != nil {
		return nil, err
	}
	dir, _, err := a.prepare(look, opt)
	if err != nil {
		return nil, err
	}
	if err := a.launch(name, dir); err != nil {
		return nil, err
	}
	return look, nil
}

// launch lets a keeper start a server. A start that did not come to it because the server runs
// already, by another who was quicker, is forgotten: the server's newest is the one that runs.
func (a *App) launch(name string, dir host.StartDir) error {
	var err error
	if r, unknown := a.Home.Record(name); unknown == nil && r.Service != "" {
		err = dir.LaunchAs(a.services(r), serviceUnit(name))
	} else {
		err = dir.Launch(a.Exe)
	}
	if err == nil {
		return nil
	}
	if exit, ended := dir.Exit(); ended && exit.How == host.EndedNever && a.Home.IsRunning(name) {
		err = errors.Join(err, dir.Remove())
	}
	return fmt.Errorf("start %s: %w", name, err)
}

// start makes one start of a server and follows it until it can be judged, which is
// left to nobody else. The server may still run then. The caller has to close what
// follows it.
func (a *App) start(ctx context.Context, look *Look, opt ProveOptions) (f *following, end proof.End, err error) {
	dir, number, err := a.prepare(look, opt)
	if err != nil {
		return nil, end, err
	}
	release, mine := dir.Judge()
	if !mine {
		return nil, end, fmt.Errorf("start %s: another Initium has begun to judge start %d", look.Server.Record.Name, number)
	}
	defer func() {
		if f == nil {
			release()
		}
	}()
	if err := a.launch(look.Server.Record.Name, dir); err != nil {
		return nil, end, err
	}
	if f, err = a.follow(look.Server, dir, number, opt.OnStep); err != nil {
		return nil, end, err
	}
	f.release = release
	end, err = f.untilJudged(ctx)
	return f, end, err
}

// prepare makes the folder of a start, with all that a keeper and those who judge
// it have to know.
func (a *App) prepare(look *Look, opt ProveOptions) (dir host.StartDir, number int, err error) {
	name := look.Server.Record.Name
	if a.Home.IsRunning(name) {
		return "", 0, fmt.Errorf("start %s: %w; stop it first (initium stop %s)", name, host.ErrRunning, name)
	}
	spec, err := look.Server.spec()
	if err != nil {
		return "", 0, err
	}
	if pid := host.RunningIn(spec.Dir, spec.Command); pid > 0 {
		return "", 0, fmt.Errorf("start %s: %w in %s, as process %d, which was not started from here; two on the same data would ruin it", name, host.ErrRunning, spec.Dir, pid)
	}
	if a.Exe != "" {
		spec.Note = []string{a.Exe, "note"}
	}
	e, err := a.expectation(look, opt)
	if err != nil {
		return "", 0, err
	}
	var inventory *proof.Inventory
	if look.Forecast != nil { // a copy that mods are tried on is not compared
		if inventory, err = a.inventory(look.Server, look.Survey); err != nil {
			return "", 0, fmt.Errorf("note what %s is started with: %w", name, err)
		}
	}
	if dir, number, err = a.Home.Prepare(spec); err != nil {
		return "", 0, err
	}
	if inventory != nil {
		if err := dir.PutInventory(inventory); err != nil {
			return "", 0, err
		}
	}
	return dir, number, dir.PutExpected(e)
}

// expectation is what a start is to be judged by.
func (a *App) expectation(look *Look, opt ProveOptions) (host.Expected, error) {
	e := host.Expected{Mods: Expect(look.Survey), Within: opt.Within, Settle: opt.Stay, Absent: look.Server.absentLeavings(look.Survey), Unread: unread(look.Survey, look.Findings)}
	if e.Within <= 0 {
		e.Within = time.Duration(look.Server.Dialect.Start.Within)
	}
	if e.Settle <= 0 {
		e.Settle = time.Duration(look.Server.Dialect.Start.Settle)
	}
	for _, m := range e.Mods {
		said := ""
		if look.Forecast != nil {
			if f := look.Forecast.Find(m.Name); f != nil {
				said = string(f.Outcome)
			}
		}
		e.Foretold = append(e.Foretold, said)
	}
	if look.Forecast == nil { // a copy that mods are tried on is not compared
		return e, nil
	}
	l, err := a.ledger()
	if err != nil {
		return e, err
	}
	entry, err := l.Newest(look.Server.Record.Name)
	if err != nil {
		return e, err
	}
	e.Entry, e.Own = &entry, look.Server.expects(look.Survey)
	e.Gone, err = a.gone(look)
	return e, err
}

// gone are the mods that were registered at the last start that was proved and are not now,
// each with what has become of it.
func (a *App) gone(look *Look) (list []proof.Gone, err error) {
	proved, err := a.startBefore(look.Server.Record.Name, 0, true)
	if err != nil || proved == nil {
		return nil, err
	}
	for i := range proved.Mods {
		was := &proved.Mods[i]
		if !was.Registered {
			continue
		}
		now := look.Survey.Find(was.Name)
		why := "no line registers it"
		slip := slices.IndexFunc(look.Findings, func(f check.Finding) bool { return f.Code == check.CodeLineMistyped && f.Mod == was.Name })
		switch {
		case now != nil && now.Listed:
			continue
		case now != nil && now.Registered:
			why = "it is switched off"
		case slip >= 0:
			f := &look.Findings[slip]
			why = fmt.Sprintf("%s, line %d is mistyped", strings.TrimPrefix(f.File, text.Clean(look.Server.Vars["dir"])+"/"), f.Line)
		case now == nil:
			why += ", and its files are gone"
		}
		list = append(list, proof.Gone{Mod: was.Name, Why: why, Start: proved.Number})
	}
	return list, nil
}

// NoteRestart notes what a server is about to be started again with, after a crash: its
// keeper asks for that. How long the server may take stays as it was.
func (a *App) NoteRestart(dir host.StartDir) error {
	name, err := dir.Server()
	if err != nil {
		return err
	}
	before, err := dir.Expected()
	if err != nil {
		return err
	}
	s, err := a.Server(name)
	if err != nil {
		return err
	}
	look, err := a.look(s, survey.Take(s.input()))
	if err != nil {
		return err
	}
	inventory, err := a.inventory(s, look.Survey)
	if err != nil {
		return err
	}
	if err := dir.PutInventory(inventory); err != nil {
		return err
	}
	e, err := a.expectation(look, ProveOptions{Within: before.Within, Stay: before.Settle})
	if err != nil {
		return err
	}
	return dir.PutExpected(e)
}

// putProof keeps a proof, with what was learned from it. look is the server as it was
// at that start, or nil when nobody knows any more.
func (a *App) putProof(look *Look, p *proof.Proof, dir host.StartDir) error {
	l, err := a.ledger()
	if err != nil {
		return err
	}
	if look != nil {
		if err := a.learn(look, p); err != nil {
			return err
		}
		if err := a.noteBase(look, p); err != nil {
			return err
		}
		if stops := look.Forecast.Stops; p.Verdict != proof.Proved && !p.Ready && !p.Stopped && stops != "" {
			p.Hint = "check had foretold that the server stops: " + stops
		}
	}
	e, err := dir.Expected()
	if err != nil {
		return fmt.Errorf("read what the start was judged by: %w", err)
	}
	// In this order: a start whose proof is there is judged, and nobody writes it down once more.
	if err := l.PutStart(p, e.Entry); err != nil {
		return fmt.Errorf("write the start into the ledger: %w", err)
	}
	if err := dir.PutProof(p); err != nil {
		return fmt.Errorf("keep the proof: %w", err)
	}
	return nil
}

// noteBase marks a start that was made without any mod. With the first that is proved the clean server is written down
// as it is: what it has made by then is its own.
func (a *App) noteBase(look *Look, p *proof.Proof) error {
	p.Base = len(p.Mods) == 0 && !slices.ContainsFunc(look.Survey.Mods, func(m survey.Mod) bool { return m.On && !m.Base })
	if !p.Base || p.Verdict != proof.Proved || look.Server.Record.Host != "" {
		return nil
	}
	if earlier, err := a.baseStart(p.Server, p.Number); err != nil || earlier != nil {
		return err
	}
	_, err := a.TakeBaseline(p.Server)
	return err
}

// baseStart is the newest proved start before a number that was made without any mod; nil for none. 0 is the newest of all.
func (a *App) baseStart(name string, before int) (*proof.Proof, error) {
	return a.startSuch(name, before, func(p *proof.Proof) bool { return p.Base && p.Verdict == proof.Proved })
}

// absentLeavings are the files and folders that mods which are on would make, as
// far as the dialect knows, and that are not there yet.
func (s *Server) absentLeavings(now *survey.Survey) (list []host.Absent) {
	for _, l := range s.Dialect.Leavings {
		for i := range now.Mods {
			m := &now.Mods[i]
			if !m.Listed {
				continue
			}
			if full, ok := intake.LeavingOf(&l, s.Vars, m.Name); ok {
				if _, err := theirs.Lstat(full); errors.Is(err, fs.ErrNotExist) {
					list = append(list, host.Absent{Mod: m.Name, Path: full})
				}
			}
		}
	}
	return list
}

// learn keeps what a start has taught: a mod that failed by its own fault against
// the forecast will do so again while its files stay the same; one that loaded will
// not.
func (a *App) learn(look *Look, p *proof.Proof) error {
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

// Expect lists what a start of the surveyed server is judged by.
func Expect(s *survey.Survey) []proof.Expected {
	expected := make([]proof.Expected, 0, len(s.Mods))
	for i := range s.Mods {
		m := &s.Mods[i]
		e := proof.Expected{Name: m.Name, Release: m.Release, Path: m.Path, Registered: m.Listed, Base: m.Base, Always: m.Always}
		also := []string{m.Title}
		if !s.Dialect.Names.Agree { // else a mod of another name is another mod
			also = append(also, m.Manifest.Name, m.Folder)
		}
		for _, name := range also {
			if name != "" && name != m.Name && !slices.Contains(e.Also, name) {
				e.Also = append(e.Also, name)
			}
		}
		expected = append(expected, e)
	}
	return expected
}

// unread are the places in a server's startup files that cannot be understood, and why.
// A line that is mistyped is among them, unless the operator has accepted it as it is.
func unread(s *survey.Survey, findings []check.Finding) (places []string) {
	for _, f := range findings {
		if f.Code == check.CodeLineMistyped && f.Accepted == "" {
			places = append(places, fmt.Sprintf("%s, line %d is mistyped, and does not register %s", strings.TrimPrefix(f.File, text.Clean(s.Vars["dir"])+"/"), f.Line, f.Mod))
		}
	}
	for _, p := range s.Lineup.Problems {
		if p.Harmless {
			continue
		}
		file := strings.TrimPrefix(s.Lineup.Files[p.File].Path, s.Vars["dir"]+"/")
		places = append(places, fmt.Sprintf("%s, line %d: %s", text.Clean(file), p.Line, text.Mask(text.Clean(p.Message), nil)))
	}
	return places
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
	return a.startSuch(name, before, func(p *proof.Proof) bool { return !proved || p.Verdict == proof.Proved })
}

// startSuch is the newest judged start before a number, 0 for any, of which something holds; nil for none.
func (a *App) startSuch(name string, before int, holds func(p *proof.Proof) bool) (*proof.Proof, error) {
	numbers, err := a.Home.Starts(name)
	if err != nil {
		return nil, err
	}
	for _, n := range slices.Backward(numbers) {
		if before > 0 && n >= before {
			continue
		}
		if p, err := a.Home.Start(name, n).Proof(); err == nil && holds(p) {
			return p, nil
		}
	}
	return nil, nil
}

// spec writes the start of a server out. The error says what is missing.
func (s *Server) spec() (host.Spec, error) {
	spec := host.Spec{Server: s.Record.Name, Console: s.Dialect.Stop.Console, Signal: s.Dialect.Stop.Signal,
		Patience: time.Duration(s.Dialect.Stop.Patience), Terminal: s.Dialect.Start.Terminal, Isolated: s.isolated}
	if spec.Isolated {
		spec.Address = host.Addresses()
	}
	for _, g := range s.Dialect.Givens {
		if problem, missing := s.Missing[g.Name]; missing {
			return spec, fmt.Errorf("%s (%s): %s; initium give %s %s=…", g.About, g.Name, text.Clean(problem), s.Record.Name, g.Name)
		}
	}
	for _, p := range s.Dialect.Parts {
		if problem, missing := s.Missing[p.Name]; missing && p.Chosen() {
			return spec, fmt.Errorf("%s: %s; initium builds %s shows what there is", cmp.Or(p.About, p.Name), text.Clean(problem), s.Record.Name)
		}
	}
	var ok bool
	if spec.Dir, ok = s.Vars.Expand(s.Dialect.Start.Directory); !ok {
		return spec, fmt.Errorf("the working directory %q cannot be filled in", s.Dialect.Start.Directory)
	}
	if info, err := theirs.Stat(spec.Dir); err != nil || !info.IsDir() {
		return spec, fmt.Errorf("the working directory %s is not there", spec.Dir)
	}
	for _, file := range s.Dialect.Log.Files {
		value, ok := s.Vars.Expand(file)
		if !ok {
			return spec, fmt.Errorf("the log file %q cannot be filled in", file)
		}
		spec.Files = append(spec.Files, value)
	}
	if listens := s.Dialect.Start.Listens; listens != "" {
		value, _ := s.Vars.Expand(listens)
		port, err := strconv.Atoi(value)
		if err != nil || port < 1 || port > 65535 {
			return spec, fmt.Errorf("the port %q on which the server listens once it is ready is no number of a port; initium give %s port=…", text.Clean(value), s.Record.Name)
		}
		spec.Listens = port
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
