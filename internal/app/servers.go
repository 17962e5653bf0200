package app

import (
	"context"
	"slices"

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
	Changed                  bool // its startup files, since the last proved start
	Registered               int  // mods that are on
	Errors                   int  // findings of severity error
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
		if f.Severity == "error" {
			sum.Errors++
		}
	}
	if state, err := a.Home.State(name); err == nil {
		sum.State = state
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

// Crashed tells whether a server that had been proved ended by itself since.
func (s *Summary) Crashed() bool {
	exit := s.State.Exit
	return !s.State.Up && exit != nil && (exit.How == host.EndedUnseen || exit.How == host.EndedItself && exit.Status != 0) &&
		s.Last != nil && s.Last.Number == s.State.Number && s.Last.Verdict == proof.Proved
}
