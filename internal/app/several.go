package app

import (
	"context"
	"fmt"
	"strings"

	"initium/internal/core/check"
	"initium/internal/core/proof"
	"initium/internal/core/text"
)

// Act is what is done to several servers, one after the other.
type Act string

// The acts. All but check stop at the first server that is not proved.
const (
	ActCheck    Act = "check"
	ActRehearse Act = "rehearse"
	ActProve    Act = "prove"
	ActApply    Act = "apply" // what is staged, proved, or gone back from
)

// Acts are all of them.
func Acts() []Act { return []Act{ActCheck, ActRehearse, ActProve, ActApply} }

// Fared is how one of several servers has fared. Words are safe to show.
type Fared struct {
	Server string `json:"server"`
	Good   bool   `json:"good"`   // checked without an error, or proved
	Passed bool   `json:"passed"` // it was passed over, as there was nothing to do, or it cannot be done there
	Words  string `json:"words"`
}

// Several does the same to servers, one after the other, in the order in which they are named. phase is told what is done
// right now, and each how a server has fared; both may be nil. It returns those that it came to: the rest was left as it
// is because the last was not proved, or because ctx has ended.
func (a *App) Several(ctx context.Context, act Act, servers []string, phase func(server, words string), each func(Fared)) ([]Fared, error) {
	for _, name := range servers { // or a mistyped one would be found when half is done
		if _, err := a.Home.Record(name); err != nil {
			return nil, err
		}
	}
	var done []Fared
	for _, name := range servers {
		if ctx.Err() != nil {
			return done, ctx.Err()
		}
		f := a.one(ctx, act, name, func(words string) {
			if phase != nil {
				phase(name, words)
			}
		})
		f.Server = name
		done = append(done, f)
		if each != nil {
			each(f)
		}
		if act != ActCheck && !f.Good && !f.Passed {
			break
		}
	}
	return done, nil
}

// one does it to one server.
func (a *App) one(ctx context.Context, act Act, name string, phase func(words string)) Fared {
	r, err := a.Home.Record(name)
	if err != nil {
		return Fared{Words: text.Clean(err.Error())}
	}
	onStep := func(s Step) {
		switch {
		case s.There != nil && !s.There.Begun:
			phase("start it at " + s.There.Host + " now")
		case len(s.New) > 0:
			phase(fmt.Sprintf("%d of %d mods spoken for", s.Status.Done, s.Status.Done+len(s.Status.Owed)))
		}
	}
	switch act {
	case ActCheck:
		phase("checking")
		look, err := a.Look(name)
		if err != nil {
			return Fared{Words: text.Clean(err.Error())}
		}
		return checked(look)
	case ActRehearse:
		if r.Host != "" {
			return Fared{Passed: true, Words: "it stands at " + r.Host + ", and cannot be rehearsed there"}
		}
		phase("rehearsing")
		done, err := a.Rehearse(ctx, name, RehearseOptions{ProveOptions: ProveOptions{OnStep: onStep}, OnPhase: phase})
		switch {
		case err != nil:
			return Fared{Words: text.Clean(err.Error())}
		case len(done.Faults) > 0:
			return Fared{Words: "its own look through its startup files finds faults: " + done.Faults[0].Message}
		case done.Proof == nil:
			return Fared{Words: "the copy was not started"}
		}
		return proved(done.Proof)
	case ActProve:
		return a.proveOne(ctx, name, r.Host != "", ProveOptions{OnStep: onStep}, phase)
	}
	staged, err := a.Staged(name)
	if err != nil {
		return Fared{Words: text.Clean(err.Error())}
	}
	if _, under := a.Home.Turn(name); len(staged) == 0 && under != nil {
		return Fared{Passed: true, Words: "nothing is staged"}
	}
	t, err := a.ApplyProved(ctx, name, TurnOptions{ProveOptions: ProveOptions{OnStep: onStep}, OrReturn: true, OnPhase: phase})
	switch {
	case err != nil:
		return Fared{Words: text.Clean(err.Error())}
	case t.Why != "":
		return Fared{Words: "gone back, because of the change " + t.Why}
	case t.Proof == nil:
		return Fared{Words: "it was not started"}
	}
	f := proved(t.Proof)
	if f.Good {
		f.Words += " with " + t.Change
	}
	return f
}

// proveOne proves a server; one that runs is told by the start that it was judged by.
func (a *App) proveOne(ctx context.Context, name string, there bool, opt ProveOptions, phase func(words string)) Fared {
	if !there && a.Home.IsRunning(name) {
		last, _, err := a.LastStart(name)
		switch {
		case err != nil:
			return Fared{Words: text.Clean(err.Error())}
		case last == nil:
			return Fared{Words: "it runs, and its start was not judged"}
		}
		f := proved(last)
		f.Words = fmt.Sprintf("it runs; start %d: %s", last.Number, f.Words)
		if f.Good {
			look, err := a.Look(name)
			if err != nil {
				return Fared{Words: text.Clean(err.Error())}
			}
			if ChangedSince(look.Survey, last) {
				f.Good, f.Words = false, f.Words+", and changed since"
			}
		}
		return f
	}
	phase("starting")
	var p *proof.Proof
	var err error
	if there {
		p, err = a.ProveThere(ctx, name, opt)
	} else {
		p, err = a.Prove(ctx, name, opt)
	}
	if err != nil {
		return Fared{Words: text.Clean(err.Error())}
	}
	return proved(p)
}

func checked(look *Look) Fared {
	errs, first := 0, ""
	for _, f := range look.Findings {
		if f.Severity == check.Error && f.Accepted == "" {
			if errs++; first == "" {
				first = f.Message
			}
		}
	}
	switch errs {
	case 0:
		return Fared{Good: true, Words: "no errors"}
	case 1:
		return Fared{Words: first}
	}
	return Fared{Words: fmt.Sprintf("%d errors: %s, …", errs, first)}
}

func proved(p *proof.Proof) Fared {
	if p.Verdict == proof.Proved {
		return Fared{Good: true, Words: "proved"}
	}
	return Fared{Words: strings.TrimSuffix("not proved: "+p.Reason, ": ")}
}
