package app

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/text"
)

// Renewable is something that a server makes anew when it is set aside.
type Renewable struct {
	Name  string   `json:"name"`
	About string   `json:"about,omitempty"`
	Paths []string `json:"paths"` // that are there
}

// renewables are the world and what the dialect calls made, with what of it is there.
func (s *Server) renewables() (list []Renewable, err error) {
	if len(s.Dialect.World.Paths) > 0 {
		paths, err := s.world()
		if err != nil {
			return nil, err
		}
		list = append(list, Renewable{dialect.TheWorld, cmp.Or(s.Dialect.World.About, "the world"), paths})
	}
	plain := dialect.Vars{} // only the dialect writes patterns
	for name, value := range s.Vars {
		plain[name] = text.Literal(value)
	}
	for i := range s.Dialect.Parts {
		p := &s.Dialect.Parts[i]
		if p.Of != dialect.PartMade {
			continue
		}
		one := Renewable{Name: p.Name, About: p.About}
		for _, pattern := range p.Places(plain) {
			hits, err := theirs.Glob(pattern)
			if err != nil {
				return nil, fmt.Errorf("find the %s: %w", p.Name, err)
			}
			for _, h := range hits {
				real, err := theirs.Real(h)
				if err != nil {
					return nil, fmt.Errorf("find the %s: %w", p.Name, err)
				}
				if !slices.Contains(one.Paths, real) {
					one.Paths = append(one.Paths, real)
				}
			}
		}
		list = append(list, one)
	}
	return list, nil
}

// Renewables list what a server makes anew when it is set aside.
func (a *App) Renewables(name string) ([]Renewable, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	return s.renewables()
}

// RenewOf are the changes that set aside what a server makes anew: the world where nothing is named.
func (a *App) RenewOf(name string, what []string) (changes []lineup.Change, err error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	list, err := s.renewables()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, r := range list {
		names = append(names, r.Name)
	}
	if len(names) == 0 {
		return nil, usage("the dialect %s does not say what a server of it makes anew ([world] paths = …, or a [[part]] that is made)", s.Dialect.Name)
	}
	if len(what) == 0 {
		what = names[:1]
	}
	for _, w := range what {
		if !slices.Contains(names, w) {
			return nil, usage("there is no %q that could be begun anew; there is %s", text.Clean(w), text.Clean(strings.Join(names, ", ")))
		}
		changes = append(changes, lineup.Change{Op: lineup.OpRenew, Mod: w})
	}
	return changes, nil
}

// Renew is what planner.Ground has it for: what is there goes into the ledger, from which undo brings it back.
func (g *ground) Renew(name string) (parts []plan.Part, err error) {
	list, err := g.s.renewables()
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(r Renewable) bool { return r.Name == name })
	if i < 0 {
		return nil, fmt.Errorf("there is no %q that could be begun anew", text.Clean(name))
	}
	l, err := g.a.ledger()
	if err != nil {
		return nil, err
	}
	for _, full := range list[i].Paths {
		if full == g.s.Record.Dir || strings.HasPrefix(g.s.Record.Dir, full+"/") {
			return nil, fmt.Errorf("%s is the server itself, and not set aside", text.Clean(full))
		}
		items, err := l.Digests().List(full)
		if err != nil {
			return nil, fmt.Errorf("look at %s: %w", text.Clean(full), err)
		}
		if len(items) > 0 {
			parts = append(parts, plan.Part{Path: filepath.Clean(full), What: "the " + name, Old: plan.Digest(items)})
		}
	}
	return parts, nil
}
