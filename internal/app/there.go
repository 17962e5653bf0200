package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
	"initium/internal/host/remote"
)

// There says what a start that is made elsewhere waits for.
type There struct {
	Host  string
	Log   string // below the server's folder
	Notes string // the operator's own, of that host
	Begun bool   // the log shows that the server is being started
	Down  string // why the host cannot be reached right now, "" where it can
}

// How a log at a host is watched.
const (
	thereEvery = time.Second      // between two looks
	thereMost  = 30 * time.Second // between two tries to reach a host that is down
	thereHeld  = 256 << 10        // bytes of what is said before a start is seen to begin
	thereAsks  = 24 * time.Hour   // for how long a start is waited for
)

// ProveThere watches the log of a server that is started elsewhere, over the line to its host, and judges the start as
// if it had been made here. It begins with looking at the host: the line-up that is there is the one that is judged.
// What the log holds by then is passed over; the start begins when the file is begun anew, or says something that a
// start does. When ctx ends before, the error is that of ctx and nothing is kept.
func (a *App) ProveThere(ctx context.Context, name string, opt ProveOptions) (*proof.Proof, error) {
	if err := a.beforeChangeOf(ctx, name); err != nil {
		return nil, err
	}
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	w, err := a.watchThere(s, opt)
	if err != nil {
		return nil, err
	}
	look, err := a.look(s, survey.Take(s.input()))
	if err != nil {
		return nil, err
	}
	if err := w.mark(ctx); err != nil {
		return nil, err
	}
	if err := w.untilBegun(ctx); err != nil {
		return nil, err
	}
	return w.judged(ctx, look)
}

// beforeChangeOf sends what has not arrived at the host of a server, and looks there anew.
func (a *App) beforeChangeOf(ctx context.Context, name string) error {
	r, err := a.Home.Record(name)
	if err != nil {
		return err
	}
	if r.Host == "" {
		return usage("%s is on this machine; initium prove %s starts it", name, name)
	}
	_, err = a.Sync(ctx, name, nil)
	return err
}

// thereLog is where the log of a server lies at its host: where the operator has said, or the dialect.
func (a *App) thereLog(s *Server) (rel string, err error) {
	if s.Record.Log != "" {
		return s.Record.Log, nil
	}
	for _, file := range s.Dialect.Log.Files {
		if full, ok := s.Vars.Expand(file); ok {
			if rel, ok := strings.CutPrefix(full, s.Record.Dir+"/"); ok {
				return rel, nil
			}
		}
	}
	return "", usage("the dialect %s does not say into which file %s writes its log; say which it is (initium prove %s --log PATH, below its folder), or hand it in (--from LOG)", s.Dialect.Name, s.Record.Name, s.Record.Name)
}

// SetLog keeps where the log of a server lies at its host: a path below its folder.
func (a *App) SetLog(name, rel string) error {
	r, err := a.Home.Record(name)
	if err != nil {
		return err
	}
	clean := path.Clean("/" + filepath.ToSlash(rel))[1:]
	switch {
	case r.Host == "":
		return usage("%s is on this machine; its log is read as the dialect says", name)
	case clean == "" || clean != path.Clean(rel) || text.Clean(clean) != clean:
		return usage("%s is no path of a file below the server's folder", text.Clean(rel))
	}
	r.Log = clean
	return a.Home.PutRecord(r)
}

// overseeing is a log at a host that is being watched.
type overseeing struct {
	a      *App
	server *Server
	opt    ProveOptions
	tail   *remote.Tail
	mu     sync.Mutex
	state  There
	wait   time.Duration // until the host is tried again

	expected []proof.Expected
	held     []byte          // what is said before the start is seen to begin
	reader   *proof.Reader   // looks for that
	anew     bool            // the file was begun anew since it was marked
	missed   bool            // what it said before it was begun anew, while it was read, may be missing
	log      *host.HandedLog // nil before the start has begun
}

// watchThere makes ready to watch. The error says why that can come to nothing.
func (a *App) watchThere(s *Server, opt ProveOptions) (*overseeing, error) {
	rel, err := a.thereLog(s)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(s.Dialect.Log.Rules, func(r dialect.Rule) bool { return r.Means == dialect.MeansReady }) {
		return nil, usage("no line of its log shows that %s is ready, only a port; that cannot be seen from here", s.Record.Name)
	}
	w := &overseeing{a: a, server: s, opt: opt, state: There{Host: s.Record.Host, Log: text.Clean(rel)}}
	if h, err := a.Home.Host(s.Record.Host); err == nil {
		w.state.Notes = text.Clean(h.Notes)
	}
	w.tail = &remote.Tail{Name: path.Join(s.Record.Path, rel), Feed: w.feed, Began: w.began}
	w.expected = Expect(survey.Take(s.input()))
	w.forget()
	return w, nil
}

// forget begins anew to look for the beginning of a start.
func (w *overseeing) forget() {
	w.held = nil
	w.reader = proof.NewReader(w.server.Dialect, w.server.Vars["dir"], w.expected, nil)
}

// feed takes what is new in the log.
func (w *overseeing) feed(p []byte) {
	if w.log != nil {
		w.log.Write(p)
		return
	}
	w.held = append(w.held, p...)
	w.reader.Feed(p, 0)
	if cut := len(w.held) - thereHeld; cut > 0 && !w.begun() {
		w.held = slices.Clone(w.held[cut:])
	}
}

// began hears that the file was begun anew. Before the start that is its beginning; what the server said while it was
// ended is none of it.
func (w *overseeing) began(missed bool) {
	if w.log != nil {
		w.log.End()
		w.missed = w.missed || missed
		return
	}
	w.anew = true
	w.forget()
}

// begun tells whether the log shows that the server is being started.
func (w *overseeing) begun() bool {
	now := w.reader.Status()
	_, ready := w.reader.Ready()
	return w.anew && len(w.held) > 0 || ready || now.Done > 0 || now.Now != ""
}

// look reads what is new. A line that breaks is built up again; until then it is said to be down.
func (w *overseeing) look(ctx context.Context) error {
	more := true
	var err error
	for more && err == nil && ctx.Err() == nil {
		err = w.a.over(ctx, w.server.Record.Host, func(f remote.FS) error {
			var err error
			more, err = w.tail.Next(ctx, f)
			return err
		})
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, remote.ErrLine):
		w.set(func(t *There) { t.Down = text.Clean(err.Error()) })
		w.wait = min(max(2*w.wait, thereEvery), thereMost)
	case err != nil:
		return fmt.Errorf("read %s at %s: %w", w.state.Log, w.state.Host, err)
	default:
		w.set(func(t *There) { t.Down = "" })
		w.wait = 0
	}
	return nil
}

func (w *overseeing) set(change func(*There)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	change(&w.state)
}

// there is where it stands.
func (w *overseeing) there() There {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.state
}

// mark passes over what the log holds now.
func (w *overseeing) mark(ctx context.Context) error {
	err := w.a.over(ctx, w.server.Record.Host, func(f remote.FS) error { return w.tail.Mark(ctx, f) })
	if err != nil {
		return fmt.Errorf("read %s at %s: %w", w.state.Log, w.state.Host, err)
	}
	return nil
}

// step tells where it stands while nothing is judged yet.
func (w *overseeing) step(elapsed time.Duration) {
	if w.opt.OnStep != nil {
		state := w.there()
		w.opt.OnStep(Step{There: &state, Elapsed: elapsed})
	}
}

// pause waits until the next look.
func (w *overseeing) pause(ctx context.Context) {
	select {
	case <-ctx.Done():
	case <-time.After(max(thereEvery, w.wait)):
	}
}

// untilBegun waits until somebody starts the server.
func (w *overseeing) untilBegun(ctx context.Context) error {
	for asked := time.Now(); ; w.pause(ctx) {
		if err := w.look(ctx); err != nil {
			return err
		}
		if w.begun() {
			w.set(func(t *There) { t.Begun = true })
			return nil
		}
		if time.Since(asked) > thereAsks {
			return fmt.Errorf("nobody has started %s for a day, by its log %s at %s", w.server.Record.Name, w.state.Log, w.state.Host)
		}
		w.step(time.Since(asked))
	}
}

// judged keeps the log of the start as it comes, and judges it.
func (w *overseeing) judged(ctx context.Context, look *Look) (p *proof.Proof, err error) {
	a, name := w.a, w.server.Record.Name
	inventory, err := a.inventory(look.Server, look.Survey)
	if err != nil {
		return nil, err
	}
	e, err := a.expectation(look, w.opt)
	if err != nil {
		return nil, err
	}
	dir, number, err := a.Home.NewStart(name)
	if err != nil {
		return nil, err
	}
	defer func() {
		if p == nil {
			err = errors.Join(err, dir.Remove())
		}
	}()
	if err := errors.Join(dir.PutInventory(inventory), dir.PutExpected(e)); err != nil {
		return nil, err
	}
	began := time.Now()
	if w.log, err = dir.HandLog(began); err != nil {
		return nil, err
	}
	defer w.log.Close()
	f, err := a.follow(w.server, dir, number, w.opt.OnStep)
	if err != nil {
		return nil, err
	}
	defer f.close()
	f.there, f.looked, f.reader.Sole = w.there, true, false
	f.reader.Stamped = w.anew // else its first time may be one long before the start
	w.log.Write(w.held)
	w.held = nil
	ended := make(chan error, 1)
	watched, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		for {
			if err := w.look(watched); err != nil {
				ended <- err
				cancel()
				return
			}
			w.pause(watched)
		}
	}()
	end, err := f.untilJudged(watched)
	cancel()
	failed := <-ended
	w.log.End()
	if err == nil && ctx.Err() != nil {
		err = ctx.Err() // it is not known what came of it
	}
	if err == nil && !errors.Is(failed, context.Canceled) {
		err = failed
	}
	if err == nil {
		err = f.rest(context.WithoutCancel(ctx))
	}
	if err != nil {
		return nil, err
	}
	if _, lost := a.sync(context.WithoutCancel(ctx), name, true, nil); lost != nil { // what mods have made there
		a.tell(fmt.Sprintf("what has changed at %s since the start is not known: %v", w.state.Host, lost))
	}
	p = f.judge(end)
	p.There = w.state.Host
	if w.anew && !p.Ready && f.reader.Status().Done == 0 {
		p.Hint = "the log was begun anew, and nothing in it is known to be of a start: it may only have been turned"
	}
	if w.missed {
		p.Hint = strings.TrimPrefix(p.Hint+"; the log was begun anew while it was read, and some of what the server said may be missing", "; ")
	}
	if n := f.reader.Starts(); n > 1 {
		p.Hint = cmp.Or(p.Hint, fmt.Sprintf("it was started %d times meanwhile, of which the last is judged", n))
	}
	if err := a.putProof(look, p, dir); err != nil {
		return p, err
	}
	f.step(Step{Judged: p})
	return p, nil
}
