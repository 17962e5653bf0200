package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// Unanswered says what only the operator can answer before a change is made.
type Unanswered struct {
	About     string
	Questions []intake.Question
	Problems  []string
}

func (e *Unanswered) Error() string {
	lines := []string{fmt.Sprintf("to %s needs an answer; nothing was written", e.About)}
	if len(e.Problems) > 0 {
		lines[0] = fmt.Sprintf("to %s cannot be done; nothing was written", e.About)
	}
	lines = append(lines, e.Problems...)
	for _, q := range e.Questions {
		lines = append(lines, q.Text+" Say: "+strings.Join(q.Say, " or "))
	}
	return strings.Join(lines, "\n")
}

// work is a plan in the making: changes, one after the other, each on what the
// ones before leave.
type work struct {
	a     *App
	ctx   context.Context
	s     *Server
	now   *survey.Survey
	seen  *survey.Survey // after the files that came and went so far
	lines *lineup.Lineup // after all changes so far
	plan  *plan.Plan

	staged []lineup.Change // that it began with
}

func (a *App) work(ctx context.Context, s *Server, now *survey.Survey) *work {
	return &work{a: a, ctx: ctx, s: s, now: now, seen: now, lines: now.Lineup, plan: &plan.Plan{}}
}

// workOn begins a plan for a server on top of what is staged for it.
func (a *App) workOn(ctx context.Context, server string) (*work, error) {
	s, err := a.Server(server)
	if err != nil {
		return nil, err
	}
	staged, err := a.Staged(server)
	if err != nil {
		return nil, err
	}
	w := a.work(ctx, s, survey.Take(s.input()))
	w.staged = staged
	if err := w.all(staged); err != nil || len(staged) == 0 {
		return w, err
	}
	w.look()
	return w, nil
}

func (w *work) all(changes []lineup.Change) error {
	for _, c := range changes {
		var err error
		switch c.Op {
		case lineup.OpTake:
			err = w.take(c)
		case lineup.OpRemove:
			err = w.remove(c)
		case lineup.OpRestore:
			err = w.restore(c)
		default:
			err = w.line(c)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// line makes a change of the line-up.
func (w *work) line(c lineup.Change) error {
	if err := sensible(w.seen, c); err != nil {
		return UsageError{err}
	}
	complete(w.seen, &c)
	after, err := w.lines.Apply(c)
	if err != nil {
		return UsageError{err}
	}
	w.lines = after
	return nil
}

// look surveys what there is after the changes so far.
func (w *work) look() {
	in := w.s.input()
	in.FS = w.a.overlay(w.plan.Parts)
	w.seen = survey.With(in, w.lines)
}

// settle works out what taking a source in comes to.
func (w *work) settle(p *parcel, c lineup.Choices) (*intake.Intake, error) {
	scene, err := w.a.scene(w.s, w.seen, w.plan.Parts)
	if err != nil {
		return nil, err
	}
	found := intake.Examine(p.tree, p.source.Path, w.s.Dialect, intake.Wanted(w.seen))
	in := intake.Settle(found, p.source.Path, scene, c)
	if len(found.Mods) == 0 && len(in.Problems) > 0 {
		w.a.otherFamily(w.ctx, p.source.Path, &c, in)
	}
	return in, nil
}

// take brings in what a source holds and registers it.
func (w *work) take(c lineup.Change) error {
	if c.Choices == nil {
		c.Choices = &lineup.Choices{}
	}
	p, err := w.a.open(w.ctx, c.Source, bounds(c.Choices), []*dialect.Dialect{w.s.Dialect}, nil)
	if err != nil {
		return err
	}
	in, err := w.settle(p, *c.Choices)
	if err != nil {
		return err
	}
	if !in.Ready() {
		return &Unanswered{About: c.String(), Questions: in.Questions, Problems: in.Problems}
	}
	w.plan.Parts = append(w.plan.Parts, in.Parts...)
	w.plan.Rules = append(w.plan.Rules, in.Rules...)
	w.look()
	if c.Choices.Quiet {
		return nil
	}
	for _, m := range in.InOrder() {
		if !m.Listed || len(w.lines.Find(m.Name)) > 0 || byPresence(w.s.Dialect) {
			continue
		}
		if there := w.seen.Find(m.Name); there != nil && there.Registered {
			continue // through its category folder
		}
		add := lineup.Change{Op: lineup.OpRegister, Mod: m.Name, Where: c.Where}
		if m.In != nil && m.In.Group && m.There == nil { // one line names the whole category
			if add.Mod = m.In.Name; len(w.lines.Find(add.Mod)) > 0 {
				continue
			}
		}
		if add.Where == (lineup.Where{}) {
			add.Where = intake.Position(w.seen, m.Name)
		}
		if err := w.line(add); err != nil {
			return err
		}
	}
	return nil
}

// byPresence tells families in which being in the folder is all.
func byPresence(d *dialect.Dialect) bool {
	return !slices.ContainsFunc(d.Registrations, func(r dialect.Registration) bool { return r.Shape != dialect.ShapePresence })
}

// remove takes a mod out.
func (w *work) remove(c lineup.Change) error {
	if c.Choices == nil {
		c.Choices = &lineup.Choices{}
	}
	r, err := w.removal(c.Mod, *c.Choices)
	if err != nil {
		return err
	}
	un := &Unanswered{About: c.String(), Problems: r.Problems}
	if len(r.Dependents) > 0 && !c.Choices.Agree {
		un.Questions = []intake.Question{{About: c.Mod, Say: []string{"--agree"},
			Text: fmt.Sprintf("%s cannot do without it and will not load.", text.Clean(strings.Join(r.Dependents, ", ")))}}
	}
	if len(un.Questions)+len(un.Problems) > 0 {
		return un
	}
	w.plan.Parts = append(w.plan.Parts, r.Parts...)
	for _, line := range r.Changes {
		if err := w.line(line); err != nil {
			return err
		}
	}
	w.look()
	return nil
}

func (w *work) removal(name string, c lineup.Choices) (*intake.Removal, error) {
	scene, err := w.a.scene(w.s, w.seen, w.plan.Parts)
	if err != nil {
		return nil, err
	}
	return intake.Remove(name, scene, c), nil
}

// Removal works out what taking a mod out of a server would come to.
func (a *App) Removal(ctx context.Context, server, name string, c lineup.Choices) (*intake.Removal, error) {
	w, err := a.workOn(ctx, server)
	if err != nil {
		return nil, err
	}
	return w.removal(name, c)
}
