package app

import (
	"cmp"
	"context"
	"strings"

	"initium/internal/core/lineup"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// MoveToList are the changes that take a mod's registration out of the list that it is on and put it on another one of
// the server's, by the name of that registration in its dialect. One that is switched off is off there too.
func (a *App) MoveToList(server, mod, list string, where lineup.Where) ([]lineup.Change, error) {
	s, p, err := a.planAfterStaged(context.Background(), server)
	if err != nil {
		return nil, err
	}
	seen := p.Seen()
	m := seen.Find(mod)
	switch {
	case m == nil:
		return nil, UsageError{seen.Unknown(mod)}
	case !m.Registered:
		return nil, usage("%s is not registered; initium register %s %s --list puts it on a list", text.Clean(m.Name), server, text.Clean(m.Name))
	}
	to, err := s.list(list)
	if err != nil {
		return nil, err
	}
	if onList(s, seen, m) == to {
		return nil, UsageError{errSoAlready}
	}
	changes := []lineup.Change{{Op: lineup.OpUnregister, Mod: m.Name}, {Op: lineup.OpRegister, Mod: m.Name, Registration: to, Where: where}}
	if !m.On {
		changes = append(changes, lineup.Change{Op: lineup.OpOff, Mod: m.Name})
	}
	return changes, nil
}

// CheckList refuses what is no list of a server that mods can be put on, and names those that are.
func (a *App) CheckList(server, list string) error {
	s, err := a.Server(server)
	if err != nil {
		return err
	}
	_, err = s.list(list)
	return err
}

// list is a registration that mods can be put on, by its name. The error names those that there are.
func (s *Server) list(name string) (string, error) {
	var names []string
	for i := range s.Dialect.Registrations {
		if r := &s.Dialect.Registrations[i]; r.SameAs == "" {
			if r.Name == name {
				return name, nil
			}
			names = append(names, text.Clean(r.Name))
		}
	}
	return "", usage("%s has no list %q; it has %s", s.Record.Name, text.Clean(name), strings.Join(names, "; "))
}

// onList is the name of the list that a mod is registered on.
func onList(s *Server, seen *survey.Survey, m *survey.Mod) string {
	if len(m.Entries) == 0 {
		return ""
	}
	r := &s.Dialect.Registrations[seen.Lineup.Entries[m.Entries[0]].Registration]
	return cmp.Or(r.SameAs, r.Name)
}
