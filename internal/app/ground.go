package app

import (
	"context"
	"errors"
	"maps"
	"math"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/planner"
	"initium/internal/core/survey"
	"initium/internal/host"
)

// Plan works out what changes to a server would write, and what would be on the
// server then.
func (a *App) Plan(ctx context.Context, name string, changes []lineup.Change) (*plan.Plan, *survey.Survey, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, nil, err
	}
	return a.planOn(ctx, s, survey.Take(s.input()), changes)
}

// planOn works a plan out on a survey that was taken already.
func (a *App) planOn(ctx context.Context, s *Server, now *survey.Survey, changes []lineup.Change) (*plan.Plan, *survey.Survey, error) {
	p := planner.New(ctx, &ground{a: a, s: s}, now)
	if err := p.Make(changes...); err != nil {
		return nil, nil, asUsage(err)
	}
	made, seen := p.Plan()
	return made, seen, nil
}

// planAfterStaged begins a plan for a server on top of what is staged for it.
func (a *App) planAfterStaged(ctx context.Context, server string) (*Server, *planner.Planner, error) {
	s, err := a.Server(server)
	if err != nil {
		return nil, nil, err
	}
	staged, err := a.Staged(server)
	if err != nil {
		return nil, nil, err
	}
	p := planner.New(ctx, &ground{a: a, s: s}, survey.Take(s.input()))
	if err := p.Make(staged...); err != nil {
		return nil, nil, asUsage(err)
	}
	return s, p, nil
}

// asUsage tells what cannot be done as it was asked for from what went wrong.
func asUsage(err error) error {
	if refused := (planner.Refusal{}); errors.As(err, &refused) {
		return UsageError{err}
	}
	return err
}

// Removal works out what taking a mod out of a server would come to.
func (a *App) Removal(ctx context.Context, server, name string, c lineup.Choices) (*intake.Removal, error) {
	_, p, err := a.planAfterStaged(ctx, server)
	if err != nil {
		return nil, err
	}
	return p.Removal(name, c)
}

// ground is the server that a plan is made for, on this machine.
type ground struct {
	a *App
	s *Server

	parts []plan.Part // that are planned when it was surveyed last
}

func (g *ground) Survey(parts []plan.Part, lines *lineup.Lineup) *survey.Survey {
	g.parts = parts
	s := g.s.seeing(g.a.overlay(parts))
	if s.uses == nil && len(parts) > 0 { // what comes may be the one that is used
		s.Vars, s.Missing = maps.Clone(s.Vars), map[string]string{}
		s.resolveParts()
	}
	in := s.input()
	return survey.With(in, lines)
}

func (g *ground) Target(seen *survey.Survey, parts []plan.Part) (*intake.Target, error) {
	return g.a.target(g.s, seen, parts)
}

func (g *ground) Open(ctx context.Context, source string, c *lineup.Choices) (string, *intake.Tree, error) {
	p, err := g.a.open(ctx, source, bounds(c), []*dialect.Dialect{g.s.Dialect}, nil)
	if err != nil {
		return "", nil, err
	}
	return p.source.Path, p.tree, nil
}

// Family says for which other family a source is, and which servers are of it.
func (g *ground) Family(ctx context.Context, source string, c *lineup.Choices) string {
	other, err := g.a.guessFamily(ctx, source, c, nil)
	if err != nil || other.Found.Dialect == nil || !other.Found.Surely() {
		return ""
	}
	said := "it looks like a mod for " + other.Found.Dialect.Title
	names, _ := g.a.Home.Servers() // without them the family is told alone
	var servers []string
	for _, name := range names {
		if r, err := g.a.Home.Record(name); err == nil && r.Dialect == other.Found.Dialect.Name {
			servers = append(servers, name)
		}
	}
	if len(servers) > 0 {
		said += ", as " + strings.Join(servers, ", ") + map[bool]string{true: " is", false: " are"}[len(servers) == 1]
	}
	return said
}

func (g *ground) Restore(ctx context.Context, file string) ([]plan.Part, error) {
	list, err := g.a.Home.Backups(g.s.Record.Name)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(b host.Backup) bool { return b.File == file })
	if i < 0 {
		return nil, usage("there is no backup %s", file)
	}
	own := intake.Bounds{Files: math.MaxInt32, Bytes: math.MaxInt64, Ratio: math.MaxInt64, Cases: true, Links: true}
	p, err := g.a.open(ctx, file, own, []*dialect.Dialect{g.s.Dialect}, nil)
	if err != nil {
		return nil, err
	}
	l, err := g.a.ledger()
	if err != nil {
		return nil, err
	}
	world, err := g.s.world()
	if err != nil {
		return nil, err
	}
	return list[i].RestoreParts(itemsOf(p), world, l.Digests())
}
