package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"initium/internal/core/connection"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/setting"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Apply carries a plan out and writes it into the ledger. progress is told how far
// the copying of files has come; it may be nil.
func (a *App) Apply(ctx context.Context, name string, p *plan.Plan, progress func(host.Progress)) error {
	if p.Empty() {
		return UsageError{errSoAlready}
	}
	s, err := a.Server(name)
	if err != nil {
		return err
	}
	if a.Home.IsRunning(name) {
		for _, f := range p.Files {
			if s.held(f.Path) {
				return fmt.Errorf("%w, and %s must not change under it; stop it first (initium stop %s)", host.ErrRunning, f.Path, name)
			}
		}
		if err := a.disturbs(name, p); err != nil {
			return err
		}
	}
	l, err := a.ledger()
	if err != nil {
		return err
	}
	if err := a.beforeChange(ctx, s.Record); err != nil {
		return err
	}
	began := time.Now()
	err = l.Apply(ctx, name, why(p.Shown()), p, a.fetch(p, progress))
	if err == nil {
		err = a.arrive(ctx, s.Record, progress)
	}
	if took := time.Since(began); took > host.Slow {
		a.Home.Log().Info("a change took long", "server", name, "took", took, "files", len(p.Files), "parts", len(p.Parts))
	}
	return err
}

// held tells files that the dialect wants left alone while the server runs.
func (s *Server) held(path string) bool {
	if db, ok := s.Vars.Expand(s.Dialect.Database.File); connection.IsPlace(path) || ok && db != "" && db == path {
		return true
	}
	for _, r := range s.Dialect.Registrations {
		if name, ok := s.Vars.Expand(r.File); ok && r.Held && name == path {
			return true
		}
	}
	return false
}

// IsSoAlready tells that a change was none.
func IsSoAlready(err error) bool { return errors.Is(err, errSoAlready) }

func why(changes []lineup.Change) string {
	var words []string
	for _, c := range changes {
		words = append(words, c.String())
	}
	return strings.Join(words, ", then ")
}

// Change plans changes and applies them in one go, together with what is staged.
// When another Initium has changed a file in between, the plan is made anew.
func (a *App) Change(ctx context.Context, name string, progress func(host.Progress), changes ...lineup.Change) (p *plan.Plan, err error) {
	const tries = 5
	for range tries {
		staged, err := a.Staged(name)
		if err != nil {
			return nil, err
		}
		if p, _, err = a.Plan(ctx, name, append(staged, changes...)); err != nil {
			return nil, err
		}
		if err = a.Apply(ctx, name, p, progress); !errors.Is(err, host.ErrStale) {
			return p, err
		}
	}
	return nil, fmt.Errorf("%w; something changes the files of %s all the time", host.ErrStale, name)
}

// Staged lists the changes that were gathered and not applied yet.
func (a *App) Staged(name string) ([]lineup.Change, error) {
	_, l, err := a.recovered(name)
	if err != nil {
		return nil, err
	}
	return l.Staged(name)
}

// Stage gathers changes after looking that they can be made on top of those
// already gathered. It returns the plan of all of them.
func (a *App) Stage(ctx context.Context, name string, changes ...lineup.Change) (*plan.Plan, error) {
	staged, err := a.Staged(name)
	if err != nil {
		return nil, err
	}
	p, _, err := a.Plan(ctx, name, append(staged, changes...))
	if err != nil {
		return nil, err
	}
	l, err := a.ledger()
	if err != nil {
		return nil, err
	}
	return p, l.Stage(name, changes...)
}

// Unstage forgets the last staged change, or all of them.
func (a *App) Unstage(name string, all bool) error {
	_, l, err := a.recovered(name)
	if err != nil {
		return err
	}
	return l.Unstage(name, all)
}

// Ledger lists what was done to a server, oldest first.
func (a *App) Ledger(name string) ([]host.Entry, error) {
	_, l, err := a.recovered(name)
	if err != nil {
		return nil, err
	}
	if _, err := a.CatchUp(context.Background(), name); err != nil {
		return nil, err
	}
	entries, err := l.Entries(name)
	for i := range entries { // as earlier Initiums have written them too
		e := &entries[i]
		for k := range e.Changes {
			c := &e.Changes[k]
			c.Content = nil
			if shown := text.MaskValue(c.Mod, c.To); c.Op == lineup.OpSet && shown != c.To {
				e.Why = strings.ReplaceAll(e.Why, text.Clean(c.To), shown)
				c.To = shown
			}
		}
	}
	return entries, err
}

// Forget frees the disk of what entries up to a number took away, in bytes.
func (a *App) Forget(name string, upTo int) (freed int64, err error) {
	_, l, err := a.recovered(name)
	if err != nil {
		return 0, err
	}
	return l.Forget(name, upTo)
}

// Returns to an entry of the ledger.
const (
	ReturnLast   = -1 // take the newest entry back
	ReturnProved = -2 // to the entry that the last proved start followed
)

// ReturnPlan works out what going back to an entry would write: to how things
// stood right after it; 0 is how Initium found them.
func (a *App) ReturnPlan(name string, to int) (p *plan.Plan, why string, err error) {
	entries, err := a.Ledger(name)
	if err != nil {
		return nil, "", err
	}
	last := entries[len(entries)-1]
	l, err := a.ledger()
	if err != nil {
		return nil, "", err
	}
	switch to {
	case ReturnLast:
		if last.Number == 0 {
			return nil, "", usage("there is nothing to take back: the ledger of %s is empty", name)
		}
		to, why = last.Number-1, fmt.Sprintf("take entry %d back: %s", last.Number, last.Why)
	case ReturnProved:
		entry, ok, err := l.LastProved(name)
		if err != nil {
			return nil, "", err
		}
		if !ok {
			return nil, "", usage("no start of %s was proved yet", name)
		}
		to, why = entry, fmt.Sprintf("return to entry %d, the last proved state", entry)
	default:
		why = fmt.Sprintf("return to entry %d", to)
	}
	if p, err = l.Return(name, to); errors.Is(err, host.ErrNoEntry) {
		return nil, "", UsageError{err}
	} else if err != nil {
		return nil, "", err
	}
	s, err := a.Server(name)
	if err != nil {
		return nil, "", err
	}
	p.Hide(s.secretsOf(p))
	return p, why, nil
}

// EntryPlan tells what an entry of the ledger has done, line by line; secrets in it are not
// shown.
func (a *App) EntryPlan(name string, number int) (*plan.Plan, error) {
	_, l, err := a.recovered(name)
	if err != nil {
		return nil, err
	}
	p, err := l.Did(name, number)
	if errors.Is(err, host.ErrNoEntry) {
		return nil, UsageError{err}
	}
	if err != nil {
		return nil, err
	}
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	p.Hide(s.secretsOf(p))
	return p, nil
}

// secretsOf are the secrets in the startup files as they are, and as a plan wants
// them: what was secret once is so still.
func (s *Server) secretsOf(p *plan.Plan) []string {
	read := func(file func(f plan.File) []byte) []string {
		return lineup.Read(s.Dialect, s.Vars, func(name string) ([]byte, error) {
			for _, f := range p.Files {
				if f.Path == name && (!f.List || f.Links()) {
					return file(f), nil
				}
			}
			return readFile(name)
		}, nil).Secrets()
	}
	secrets := append(read(func(f plan.File) []byte { return f.Old }), read(func(f plan.File) []byte { return f.Want })...)
	for _, f := range p.Files {
		if n, ok := setting.Of(s.Dialect, s.Vars, f.Path); ok && !f.List {
			secrets = append(append(secrets, setting.Secrets(f.Old, n)...), setting.Secrets(f.Want, n)...)
		}
	}
	return secrets
}

// Return goes back to an entry of the ledger. It is an entry of its own, so it
// can be taken back too.
func (a *App) Return(ctx context.Context, name string, p *plan.Plan, why string) error {
	if p.Empty() {
		return UsageError{errSoAlready}
	}
	l, err := a.ledger()
	if err != nil {
		return err
	}
	if a.Home.IsRunning(name) {
		s, err := a.Server(name)
		if err != nil {
			return err
		}
		for _, f := range p.Files {
			if s.held(f.Path) {
				return fmt.Errorf("%w, and %s must not change under it; stop it first (initium stop %s)", host.ErrRunning, f.Path, name)
			}
		}
		if err := a.disturbs(name, p); err != nil {
			return err
		}
	}
	record, err := a.Home.Record(name)
	if err != nil {
		return err
	}
	if err := a.beforeChange(ctx, record); err != nil {
		return err
	}
	if err := l.Apply(ctx, name, why, p, a.fetch(p, nil)); err != nil {
		return err
	}
	return a.arrive(ctx, record, nil)
}

// Field is one field of a rented server's web form, with exactly what to paste.
type Field struct {
	Name    string `json:"field"`
	Text    string `json:"text"`
	Changed bool   `json:"changed"` // other than what was pasted last
}

// PasteSheet lists the fields of a server's web form as they are to be after the
// staged changes.
func (a *App) PasteSheet(name string) ([]Field, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	staged, err := a.Staged(name)
	if err != nil {
		return nil, err
	}
	now := survey.Take(s.input())
	_, seen, err := a.planOn(context.Background(), s, now, staged)
	if err != nil {
		return nil, err
	}
	after := seen.Lineup
	var fields []Field
	for i, f := range after.Files {
		r := s.Dialect.Registrations[f.Registration]
		if r.Form == "" || slices.ContainsFunc(fields, func(d Field) bool { return d.Name == r.Form }) {
			continue
		}
		changed := i >= len(now.Lineup.Files) || string(now.Lineup.Files[i].Bytes) != string(f.Bytes) || now.Lineup.Files[i].Missing
		fields = append(fields, Field{r.Form, strings.TrimRight(string(f.Bytes), "\r\n"), changed})
	}
	if len(fields) == 0 {
		return nil, usage("%s has no web form: its dialect names no field (a registration with form = …)", name)
	}
	return fields, nil
}

// PutField tells Initium what a field of the web form holds now.
func (a *App) PutField(name, field, value string) error {
	s, err := a.Server(name)
	if err != nil {
		return err
	}
	var known []string
	for _, r := range s.Dialect.Registrations {
		if r.Form == field {
			if path, ok := s.Vars.Expand(r.File); ok {
				return host.WritePrivate(path, []byte(strings.TrimRight(value, "\r\n")+"\n"))
			}
		}
		if r.Form != "" {
			known = append(known, r.Form)
		}
	}
	return usage("the web form of %s has no field %q; it has: %s", name, field, strings.Join(known, ", "))
}
