package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"initium/internal/core/check"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// RehearseOptions say how a start is rehearsed.
type RehearseOptions struct {
	ProveOptions                   // Keep is of no account: the copy is stopped
	Changes      []lineup.Change   // besides those that are staged
	Set          map[string]string // given values and settings that the copy has instead, by name
	OnPhase      func(string)      // what is being done, in words; may be nil
	OnNote       func(string)      // what of the copy is other than the server, before it is started; may be nil
}

// Rehearsal is what the start of a copy has shown. Its strings are safe to show.
type Rehearsal struct {
	Server   string          `json:"server"`
	Isolated bool            `json:"isolated"` // the copy had a network of its own, and the server's port in it
	Port     string          `json:"port"`     // of the copy, "" where none is known
	Notes    []string        `json:"notes"`    // what of the copy was other than the server
	Changes  []string        `json:"changes"`  // that were made in it, in words
	Faults   []check.Finding `json:"faults"`   // that the server's own look through its startup files has found
	Proof    *proof.Proof    `json:"proof"`
	Against  int             `json:"against"` // the start that it is compared with, the last that was proved; 0 for none
	Differs  []string        `json:"differs"` // what is other than it was then
}

// Rehearse starts a copy of a server, with its world and with all changes that are staged, judges
// it as any start, and takes the copy away. The server itself is left alone, and may run. Where the
// machine grants it the copy has a network of its own, in which it can reach nobody, and else
// another port.
func (a *App) Rehearse(ctx context.Context, name string, opt RehearseOptions) (*Rehearsal, error) {
	original, err := a.idle(name, "rehearse")
	if err != nil {
		return nil, err
	}
	phase := func(format string, args ...any) {
		if opt.OnPhase != nil {
			opt.OnPhase(fmt.Sprintf(format, args...))
		}
	}
	staged, err := a.Staged(name)
	if err != nil {
		return nil, err
	}
	of := copying{suffix: host.RehearsalSuffix, set: opt.Set}
	changes := append(staged, opt.Changes...)
	if len(changes) > 0 {
		phase("working out the changes")
		if of.plan, _, err = a.Plan(ctx, name, changes); err != nil {
			return nil, err
		}
	}
	r := &Rehearsal{Server: name, Notes: []string{}, Changes: []string{}, Faults: []check.Finding{}, Differs: []string{}}
	refused := host.CanIsolate()
	r.Isolated, of.isolated = refused == nil, refused == nil
	phase("copying the server, and its world")
	t, err := a.newTrial(ctx, original, of)
	if t != nil {
		defer t.remove()
	}
	if err != nil {
		return nil, err
	}
	for _, c := range of.changesShown() {
		r.Changes = append(r.Changes, c.String())
	}
	r.Port = text.Clean(t.server.Vars["port"])
	here := strings.NewReplacer(text.Clean(t.server.Record.Dir), text.Clean(original.Record.Dir))
	faults, err := a.probeStartup(ctx, t.server)
	r.Notes = append(r.Notes, a.copyNotes(t, original, refused)...)
	if err != nil {
		r.Notes = append(r.Notes, here.Replace(text.Clean(err.Error())))
	}
	for _, note := range r.Notes {
		if opt.OnNote != nil {
			opt.OnNote(note)
		}
	}
	for _, f := range faults {
		f.File, f.Message = here.Replace(f.File), here.Replace(f.Message)
		r.Faults = append(r.Faults, f)
	}
	phase("starting the copy")
	now, err := a.startCopy(ctx, t, r, opt.ProveOptions)
	if err != nil {
		return nil, err
	}
	if err := a.beside(r, now); err != nil {
		return nil, err
	}
	r.Proof.Rename(here.Replace)
	r.Proof.Server, r.Proof.Number, r.Proof.Log = name, 0, ""
	return r, nil
}

// startCopy starts a copy, judges it, and stops it again. It returns what it was started with.
func (a *App) startCopy(ctx context.Context, t *trial, r *Rehearsal, opt ProveOptions) (*proof.Inventory, error) {
	look, err := a.look(t.server, survey.Take(t.server.input()))
	if err != nil {
		return nil, err
	}
	f, end, err := a.start(ctx, look, opt)
	if f != nil {
		defer f.dir.Remove()
		defer f.close()
	}
	if err != nil {
		return nil, err
	}
	r.Proof = f.judge(end)
	if end.Exit == nil {
		if _, err := f.dir.Stop(context.WithoutCancel(ctx)); err != nil {
			return nil, fmt.Errorf("stop the copy: %w", err)
		}
		if !end.Stopped {
			if r.Proof, err = a.judgeAgain(context.WithoutCancel(ctx), f, r.Proof, 0); err != nil {
				return nil, err
			}
		}
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return f.dir.Inventory()
}

// changesShown are the changes of a plan as they may be shown.
func (c *copying) changesShown() []lineup.Change {
	if c.plan == nil {
		return nil
	}
	return c.plan.Shown()
}

// copyNotes tells what of a copy is other than the server, and what it has in common with it.
func (a *App) copyNotes(t *trial, original *Server, refused error) (notes []string) {
	if refused != nil {
		notes = append(notes, fmt.Sprintf("%v, so the copy had another port (%s), and could reach whatever the server can: it may have announced itself, or spoken to the server's database", refused, text.Clean(t.server.Vars["port"])))
	}
	notes = append(notes, t.notes...)
	for _, g := range original.Dialect.Givens {
		value := t.server.Vars[g.Name]
		if (g.Kind == "folder" || g.Kind == "file") && value != "" && !strings.HasPrefix(value, t.folder+"/") {
			notes = append(notes, fmt.Sprintf("%s (%s) lies outside the server's folder: the copy has it in common with the server", g.Name, text.Clean(value)))
		}
	}
	if a.Home.IsRunning(original.Record.Name) {
		notes = append(notes, "the server ran while its world was copied, so that a file which it was just writing may be torn in the copy")
	}
	return notes
}

// beside tells what a rehearsal has shown other than the last start that was proved.
func (a *App) beside(r *Rehearsal, now *proof.Inventory) error {
	proved, err := a.startBefore(r.Server, 0, true)
	if err != nil || proved == nil {
		return err
	}
	then, err := a.Home.Start(r.Server, proved.Number).Inventory()
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	c := proof.Compare(proved, r.Proof, proof.Known{Inventory: then}, proof.Known{Inventory: now})
	r.Against, r.Differs = proved.Number, append(r.Differs, c.Words()...)
	return nil
}
