package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/core/text"
	"initium/internal/host"
)

// TurnOptions say how a change is made and proved in one go.
type TurnOptions struct {
	ProveOptions                 // Keep is of no account: the server runs on afterwards if it ran before
	OrReturn     bool            // go back to the last proved state when it is not proved
	Changes      []lineup.Change // besides those that are staged
	OnPhase      func(string)    // what is being done, in words; may be nil
	Progress     func(host.Progress)
}

// Turned is what has come of a change that was made and proved in one go. Its strings are safe to
// show.
type Turned struct {
	Server  string       `json:"server"`
	Host    string       `json:"host,omitempty"` // at which it is started by its operator, "" for this machine
	Resumed bool         `json:"resumed"`        // it was begun by a run that was cut off
	Entry   int          `json:"entry"`          // of the ledger, 0 when nothing was changed
	Change  string       `json:"change"`         // what was changed, in words
	Proof   *proof.Proof `json:"proof"`          // of the change; null when it was not started with it
	Why     string       `json:"why"`            // it was gone back, "" when it was not
	To      int          `json:"to"`             // the entry that was gone back to
	Back    *proof.Proof `json:"back"`           // the proof of that
	OutMS   int64        `json:"out_ms"`         // for how long players were out; 0 when the server did not run before
	Ran     bool         `json:"ran"`            // before
	Running bool         `json:"running"`        // in the end
}

// Proved tells whether the change holds.
func (t *Turned) Proved() bool {
	return t.Proof != nil && t.Proof.Verdict == proof.Proved && t.Back == nil && t.Why == ""
}

// turning is a turn that goes on.
type turning struct {
	*App
	name string
	host string // at which the server is started by its operator, "" for this machine
	opt  TurnOptions
	host.Turn
	result *Turned
}

// ApplyProved stops a server politely if it runs, makes all changes that are staged, starts it, and
// proves it. If it is not proved, or ctx ends before it is, it goes back to the last proved state if
// that was asked for, starts that and proves it. A run that was cut off is carried on with, whatever is staged by
// now.
func (a *App) ApplyProved(ctx context.Context, name string, opt TurnOptions) (*Turned, error) {
	s, err := a.idleAnywhere(name, "change")
	if err != nil {
		return nil, err
	}
	if s.Record.Host != "" {
		if _, err := a.watchThere(s, opt.ProveOptions); err != nil {
			return nil, err // what cannot be judged is not begun
		}
	}
	lock, err := a.Home.LockTurn(name)
	if err != nil {
		return nil, fmt.Errorf("%s is being changed and proved already", name)
	}
	defer lock.Close()
	t := &turning{App: a, name: name, host: s.Record.Host, opt: opt, result: &Turned{Server: name, Host: s.Record.Host}}
	t.Turn, err = a.Home.Turn(name)
	switch {
	case err == nil:
		t.result.Resumed = true
		t.phase("carrying on with what was cut off")
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	default:
		if err := t.begin(ctx); err != nil {
			return nil, err
		}
	}
	if err := t.carryOn(ctx); err != nil {
		return t.result, fmt.Errorf("%w; initium apply %s --prove carries on from here", err, name)
	}
	if t.Entry != t.Before {
		if t.result.Change, err = t.why(t.Entry); err != nil {
			return t.result, err
		}
	}
	t.result.Ran, t.result.Running = t.Turn.Ran, a.Home.IsRunning(name)
	return t.result, a.Home.EndTurn(name)
}

func (t *turning) phase(words string) {
	if t.opt.OnPhase != nil {
		t.opt.OnPhase(words)
	}
}

// newest is the newest entry of the ledger.
func (t *turning) newest() (int, error) {
	entries, err := t.Ledger(t.name)
	if err != nil {
		return 0, err
	}
	return entries[len(entries)-1].Number, nil
}

// noteTurn tells, once, that a change was being made and proved when its run was cut off.
func (a *App) noteTurn(name string) {
	if _, err := a.Home.Turn(name); err != nil {
		return
	}
	lock, err := a.Home.LockTurn(name)
	if err != nil {
		return // it goes on
	}
	lock.Close()
	a.mu.Lock()
	defer a.mu.Unlock()
	if !a.noted[name] {
		if a.noted == nil {
			a.noted = map[string]bool{}
		}
		a.noted[name] = true
		a.notes = append(a.notes, fmt.Sprintf("a change of %s was being made and proved, and was cut off; initium apply %s --prove carries on, to its end or back", name, name))
	}
}

// why is what an entry of the ledger did, in words.
func (t *turning) why(entry int) (string, error) {
	entries, err := t.Ledger(t.name)
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(entries, func(e host.Entry) bool { return e.Number == entry })
	if i < 0 {
		return "", fmt.Errorf("%s has no entry %d any more", t.name, entry)
	}
	return text.Clean(entries[i].Why), nil
}

// begin works out what is to be done, while nothing is.
func (t *turning) begin(ctx context.Context) error {
	if len(t.opt.Changes) > 0 {
		if _, err := t.Stage(ctx, t.name, t.opt.Changes...); err != nil {
			return err
		}
	}
	staged, err := t.Staged(t.name)
	if err != nil {
		return err
	}
	p, _, err := t.Plan(ctx, t.name, staged)
	if err != nil {
		return err
	}
	if p.Empty() {
		return UsageError{errSoAlready}
	}
	if t.Before, err = t.newest(); err != nil {
		return err
	}
	t.Turn.To = t.Before
	l, err := t.ledger()
	if err != nil {
		return err
	}
	if entry, ok, err := l.LastProved(t.name); err != nil {
		return err
	} else if ok {
		t.Turn.To = entry
	}
	t.Phase, t.Turn.OrReturn, t.Ran = host.TurnMake, t.opt.OrReturn, t.Home.IsRunning(t.name)
	return t.Home.PutTurn(t.name, t.Turn)
}

// next notes that a phase is over.
func (t *turning) next(phase host.TurnPhase) error {
	t.Phase = phase
	return t.Home.PutTurn(t.name, t.Turn)
}

// carryOn goes through the phases from where the turn is.
func (t *turning) carryOn(ctx context.Context) error {
	for {
		switch t.Phase {
		case host.TurnMake:
			if err := t.make(ctx); err != nil {
				return err
			}
		case host.TurnProve:
			if done, err := t.prove(ctx); err != nil || done {
				return err
			}
			if t.host == "" {
				ctx = context.WithoutCancel(ctx) // whoever has had enough wants the old state
			}
		case host.TurnReturn:
			if err := t.goBack(context.WithoutCancel(ctx)); err != nil {
				return err
			}
		case host.TurnBack:
			t.result.Entry, t.result.Why, t.result.To = t.Entry, t.Why, t.Turn.To
			if t.host != "" && ctx.Err() != nil {
				return nil // it was not waited for any longer; whoever starts it there next can have that proved
			}
			t.phase("starting what was gone back to")
			p, err := t.start(ctx, KeepAlways)
			t.result.Back = p
			return err
		default:
			return fmt.Errorf("what was begun with %s is not known to this Initium (%q)", t.name, t.Phase)
		}
	}
}

// stop stops the server, and notes since when players are out.
func (t *turning) stop() error {
	if !t.Home.IsRunning(t.name) {
		return nil
	}
	t.phase("stopping the server")
	if t.Ran && t.Out.IsZero() {
		t.Out = time.Now()
		if err := t.Home.PutTurn(t.name, t.Turn); err != nil {
			return err
		}
	}
	if _, err := t.Home.StopServer(context.Background(), t.name); err != nil {
		return fmt.Errorf("stop %s: %w", t.name, err)
	}
	return nil
}

// make makes the change, unless an earlier run has.
func (t *turning) make(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	now, err := t.newest()
	if err != nil {
		return err
	}
	if now == t.Before {
		if err := t.stop(); err != nil {
			return err
		}
		t.phase("making the change")
		_, err := t.Change(ctx, t.name, t.opt.Progress)
		if made, failed := t.newest(); err != nil && failed == nil && made != t.Before {
			return err // it is made, and has not all arrived at its host
		}
		if err != nil { // nothing was changed
			t.Entry, t.Turn.To, t.Why = t.Before, t.Before, "it could not be made: "+text.Clean(err.Error())
			return t.next(host.TurnReturn)
		}
		if now, err = t.newest(); err != nil {
			return err
		}
	}
	t.Entry = now
	return t.next(host.TurnProve)
}

// prove proves the change; done tells that it stays, proved or not.
func (t *turning) prove(ctx context.Context) (done bool, err error) {
	t.phase("starting it")
	keep := KeepProved
	if !t.Turn.OrReturn {
		keep = KeepAlways
	}
	p, err := t.start(ctx, keep)
	t.result.Entry, t.result.Proof = t.Entry, p
	switch {
	case err != nil && !t.Turn.OrReturn:
		return false, err
	case err != nil && t.host != "" && ctx.Err() != nil:
		t.Why = "nobody started it there for as long as that was waited for"
	case err != nil:
		t.Why = "it could not be started: " + text.Clean(err.Error())
	case p.Verdict == proof.Proved:
		return true, nil
	case !t.Turn.OrReturn:
		return true, ctx.Err()
	default:
		t.Why = p.Reason
	}
	return false, t.next(host.TurnReturn)
}

// start starts the server and judges it, or one that an earlier run has started. A server that did not
// run before is stopped again.
func (t *turning) start(ctx context.Context, keep Keep) (p *proof.Proof, err error) {
	if !t.Ran {
		keep = KeepNever
	}
	if t.host != "" {
		if h, err := t.Home.Host(t.host); err == nil && h.Notes != "" {
			t.phase(fmt.Sprintf("start it at %s now (your notes: %s)", t.host, text.Clean(h.Notes)))
		} else {
			t.phase(fmt.Sprintf("start it at %s now", t.host))
		}
		return t.ProveThere(ctx, t.name, t.opt.ProveOptions)
	}
	begun := t.Home.IsRunning(t.name)
	if !begun {
		opt := t.opt.ProveOptions
		opt.Keep = keep
		p, err = t.Prove(ctx, t.name, opt)
		begun = err != nil && p == nil && t.Home.IsRunning(t.name) // by what an earlier run had just set going
	}
	if begun {
		p, err = t.judged(ctx)
		for again := 0; err != nil && ctx.Err() == nil && again < quicker && t.Home.IsRunning(t.name); again++ {
			p, err = t.judged(ctx) // it was not the start that runs
		}
		if err == nil && (keep == KeepNever || keep == KeepProved && p.Verdict != proof.Proved) {
			err = t.stop()
		}
	}
	if p != nil && p.Ready && !t.Out.IsZero() && p.Started != nil {
		t.result.OutMS = p.Started.Add(time.Duration(p.ReadyAfterMS) * time.Millisecond).Sub(t.Out).Milliseconds()
	}
	return p, err
}

// quicker bounds how often it is looked again which start it is that runs, when one turns out to be
// another's who was slower.
const quicker = 5

// judged waits until the server that runs has been judged, by whomever.
func (t *turning) judged(ctx context.Context) (p *proof.Proof, err error) {
	watching, cancel := context.WithCancel(ctx)
	defer cancel()
	err = t.Follow(watching, t.name, FollowOptions{OnStep: func(s Step) {
		if t.opt.OnStep != nil {
			t.opt.OnStep(s)
		}
		if s.Judged != nil {
			p = s.Judged
			cancel()
		}
	}})
	switch {
	case p != nil:
		return p, nil
	case err == nil:
		err = ctx.Err()
	}
	if err == nil {
		err = fmt.Errorf("%s ended, and its start was not judged", t.name)
	}
	return nil, err
}

// goBack takes the change back, unless an earlier run has.
func (t *turning) goBack(ctx context.Context) error {
	if err := t.stop(); err != nil {
		return err
	}
	now, err := t.newest()
	if err != nil {
		return err
	}
	if now == t.Entry && t.Entry != t.Before {
		t.phase(fmt.Sprintf("going back to entry %d", t.Turn.To))
		p, why, err := t.ReturnPlan(t.name, t.Turn.To)
		if err != nil {
			return err
		}
		if !p.Empty() {
			if err := t.Return(ctx, t.name, p, why); err != nil {
				return err
			}
		}
	}
	return t.next(host.TurnBack)
}
