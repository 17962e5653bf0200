package app

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Stop stops a running server as its dialect says.
func (a *App) Stop(ctx context.Context, name string) (host.Exit, error) {
	if _, err := a.Home.Record(name); err != nil {
		return host.Exit{}, err
	}
	if !a.Home.IsRunning(name) {
		return host.Exit{}, usage("%s is not running", name)
	}
	return a.Home.StopServer(ctx, name)
}

// Summary is one server in the list of all.
type Summary struct {
	Name, Dialect, Dir, Port string
	Running                  bool
	State                    host.State
	Last, Proved             *proof.Proof
	Changed                  bool     // the mods that are on, their releases or an order that matters, since the last proved start
	Since                    []string // in words, what of that
	Registered               int      // mods that are on
	Errors                   int      // findings of severity error
	Owed                     int      // what is still to be done, besides
	Staged                   int      // changes that are gathered
	Players                  *int     // that are in, where the log of one that runs here tells; else nil
	Problem                  string
	Host                     string // where it stands, "" for this machine
	Down                     bool   // the line there is
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
	if r := look.Server.Record; r.Host != "" {
		sum.Host, sum.Dir, sum.Down = r.Host, r.Place(r.Dir), a.LineDown(name) != nil
	}
	if sum.Last, sum.Proved, err = a.LastStart(name); err != nil {
		sum.Problem = text.Clean(err.Error())
	}
	for i := range look.Survey.Mods {
		if m := &look.Survey.Mods[i]; m.Listed {
			sum.Registered++
		}
	}
	for _, f := range look.Findings {
		if f.Severity == check.Error {
			sum.Errors++
		} else if f.Accepted == "" && slices.Contains(owedCodes, f.Code) {
			sum.Owed++
		}
	}
	if state, err := a.Home.State(name); err == nil {
		sum.State = state
		if state.Up && state.Lost == nil && !state.Waiting {
			sum.Players = a.playersIn(look.Server, state.Start)
		}
	}
	if staged, err := a.Staged(name); err == nil { // one that cannot be read is told where it is looked at
		sum.Staged = len(staged)
	}
	if sum.Changed = sum.Proved != nil && ChangedSince(look.Survey, sum.Proved); sum.Changed {
		sum.Since = since(look.Survey, sum.Proved)
	}
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

// since tells in words what is other than at a start, of what ChangedSince looks at.
func since(s *survey.Survey, p *proof.Proof) (words []string) {
	for i := range s.Mods {
		m := &s.Mods[i]
		was := p.Find(text.Clean(m.Name))
		switch on := was != nil && was.Registered; {
		case m.Listed && !on:
			words = append(words, "on: "+text.Clean(m.Name))
		case !m.Listed && on:
			words = append(words, "off: "+text.Clean(m.Name))
		case m.Listed && was.Release != text.Clean(m.Release):
			words = append(words, fmt.Sprintf("%s %s, was %s", text.Clean(m.Name), cmp.Or(text.Clean(m.Release), "without a release"), cmp.Or(was.Release, "without one")))
		}
	}
	for i := range p.Mods {
		if m := &p.Mods[i]; m.Registered && !slices.ContainsFunc(s.Mods, func(now survey.Mod) bool { return text.Clean(now.Name) == m.Name }) {
			words = append(words, "gone: "+m.Name)
		}
	}
	if len(words) == 0 {
		words = append(words, "the order")
	}
	return words
}

// ToDo says in a few words what a server waits for, "" for nothing.
func (s *Summary) ToDo() string { return ToDo(s.Errors, s.Owed, s.Staged) }

// ToDo says in a few words how many errors there are, how much is owed and how many changes are staged.
func ToDo(errors, owed, staged int) string {
	var words []string
	for _, n := range []struct {
		count     int
		one, more string
	}{{errors, "error", "errors"}, {owed, "owed", "owed"}, {staged, "staged", "staged"}} {
		switch {
		case n.count == 1:
			words = append(words, "1 "+n.one)
		case n.count > 1:
			words = append(words, fmt.Sprintf("%d %s", n.count, n.more))
		}
	}
	return strings.Join(words, ", ")
}

// StateWords say in a few words how a server stands, and whether that is as it should
// be.
func (s *Summary) StateWords() (words string, fine bool) {
	st := &s.State
	switch {
	case s.Down:
		return "at " + s.Host + ", line down", false
	case s.Host != "":
		return "at " + s.Host, true
	case st.Waiting:
		return "restarting", false
	case st.Lost != nil:
		return "lost its keeper", false
	case st.Up:
		return "running", true
	case s.Crashed():
		return "crashed", false
	}
	return "stopped", true
}

// In says how many players are in, as what goes on with a sentence; "" where that is not known.
func In(players *int) string {
	switch {
	case players == nil:
		return ""
	case *players == 1:
		return ", 1 player"
	}
	return fmt.Sprintf(", %d players", *players)
}

// Crashed tells whether a server that had been proved ended by itself since.
func (s *Summary) Crashed() bool {
	exit := s.State.Exit
	return !s.State.Up && exit != nil && (exit.How == host.EndedUnseen || exit.How == host.EndedItself && exit.Status != 0) &&
		s.Last != nil && s.Last.Number == s.State.Number && s.Last.Verdict == proof.Proved
}
