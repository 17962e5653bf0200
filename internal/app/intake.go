package app

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/survey"
	"initium/internal/host"
	"initium/internal/host/archive"
)

// Inspection is what was found in a source, and what taking it in would come to.
type Inspection struct {
	Source  string // its path
	Form    archive.Form
	Bytes   int64  // as it is; 0 for a folder
	Called  string // the suffix, where it says another form than the content has
	Found   *intake.Found
	Also    []string // titles of other families that it could be for
	Server  string   // the server that it was looked at for; "" for none
	Intake  *intake.Intake
	Plan    *plan.Plan          // nil while something stands in the way
	Comes   []check.Finding     // that there would be afterwards and are not now
	Mended  []check.Finding     // that there would be no more
	Lacking map[string][]string // needs that would still be open, by mod
	Folders []string            // that mods can be put into, as Choices.Into has them
	Titles  []string            // of the sections that a new line could go into
	Aged    map[string]string   // mods that nobody has changed since the server program was built: what tells so
}

// Inspect looks into a source without writing anything: for a server, or, when
// server is "", for the family that it fits best.
func (a *App) Inspect(ctx context.Context, source, server string, c lineup.Choices, progress func(int64)) (*Inspection, error) {
	if server == "" {
		return a.guessFamily(ctx, source, &c, progress)
	}
	if err := wholeBase(&c); err != nil {
		return nil, err
	}
	s, p, err := a.planAfterStaged(ctx, server)
	if err != nil {
		return nil, err
	}
	came, err := a.open(ctx, source, bounds(&c), []*dialect.Dialect{s.Dialect}, progress)
	if err != nil {
		return nil, err
	}
	in, err := p.Assign(came.source.Path, came.tree, c)
	if err != nil {
		return nil, err
	}
	inside := insideOf(came, in.Found)
	inside.Server, inside.Intake = server, in
	target, err := a.target(s, p.Seen(), p.Parts())
	if err != nil {
		return nil, err
	}
	inside.Folders, inside.Titles = intake.Folders(target), p.Seen().Lineup.SectionTitles()
	inside.Lacking, inside.Aged = in.Lacking(p.Seen()), s.aged(in)
	if !in.Ready() {
		return inside, nil
	}
	before, err := a.look(a.planned(s, p.Seen(), a.overlay(p.Parts())), p.Seen())
	if err != nil {
		return nil, err
	}
	if err := p.Make(lineup.Change{Op: lineup.OpTake, Mod: names(in), Source: came.source.Path, Choices: &c}); err != nil {
		return nil, asUsage(err)
	}
	var after *survey.Survey
	inside.Plan, after = p.Plan()
	ahead, err := a.look(a.planned(s, after, a.overlay(p.Parts(), inside.Plan.Files...)), after)
	if err != nil {
		return nil, err
	}
	inside.Comes, inside.Mended = others(ahead.Findings, before.Findings), others(before.Findings, ahead.Findings)
	return inside, nil
}

// Folders are those that mods of a server can be put into, seen from its own folder.
func (a *App) Folders(name string) ([]string, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	target, err := a.target(s, survey.Take(s.input()), nil)
	if err != nil {
		return nil, err
	}
	return intake.Folders(target), nil
}

// aged finds the mods whose newest file is older than the server program by more
// than a while: nobody has updated them since, and they are the likeliest to break.
func (s *Server) aged(in *intake.Intake) map[string]string {
	const while = 60 * 24 * time.Hour // between two things that were made for each other
	aged := map[string]string{}
	for _, g := range s.Dialect.Givens {
		program := s.Vars[g.Name]
		if g.Kind != dialect.KindProgram || program == "" || program == s.Vars["initium"] {
			continue
		}
		info, err := theirs.Stat(program)
		if err != nil {
			continue
		}
		for _, p := range in.Mods {
			if p.Newest.Year() > 1980 && info.ModTime().Sub(p.Newest) > while {
				aged[p.Name] = fmt.Sprintf("its newest file is of %s, the server program of %s; look whether it still works with it",
					p.Newest.Format("January 2006"), info.ModTime().Format("January 2006"))
			}
		}
	}
	return aged
}

// others are the findings of one list that another does not have.
func others(a, b []check.Finding) (list []check.Finding) {
	type key struct {
		code       check.Code
		mod, facts string
	}
	known := map[key]bool{}
	for _, f := range b {
		known[key{f.Code, f.Mod, f.Facts}] = true
	}
	for _, f := range a {
		if !known[key{f.Code, f.Mod, f.Facts}] {
			list = append(list, f)
		}
	}
	return list
}

func insideOf(p *parcel, found *intake.Found) *Inspection {
	i := &Inspection{Source: p.source.Path, Form: p.source.Form, Bytes: p.source.Size, Found: found}
	i.Called = p.source.Misnamed()
	return i
}

// names are the mods of an intake, for a sentence.
func names(in *intake.Intake) string {
	list := make([]string, len(in.Mods))
	for i, p := range in.Mods {
		list[i] = p.Name
	}
	return strings.Join(list, ", ")
}

// guessFamily finds the family that a source fits best.
func (a *App) guessFamily(ctx context.Context, source string, c *lineup.Choices, progress func(int64)) (*Inspection, error) {
	entries, err := a.Dialects()
	if err != nil {
		return nil, err
	}
	var all []*dialect.Dialect
	for _, e := range entries {
		if e.Err == nil {
			all = append(all, e.Dialect)
		}
	}
	p, err := a.open(ctx, source, bounds(c), all, progress)
	if err != nil {
		return nil, err
	}
	best, most := -1, 0
	var found []*intake.Found
	for i, d := range all {
		f := intake.Examine(p.tree, p.source.Path, d, nil)
		found = append(found, f)
		if n := f.Weight(); n > most {
			best, most = i, n
		}
	}
	if best < 0 {
		inside := insideOf(p, found[0])
		inside.Found.Dialect = nil
		return inside, nil
	}
	inside := insideOf(p, found[best])
	for i, f := range found {
		if i != best && f.Weight() > 0 && f.Surely() == found[best].Surely() {
			inside.Also = append(inside.Also, f.Dialect.Title)
		}
	}
	return inside, nil
}

// disturbs refuses to exchange or take away files under a running server, and the values
// that it was started with; new files it does not see.
func (a *App) disturbs(name string, p *plan.Plan) error {
	if len(p.Given) > 0 {
		return fmt.Errorf("%w, with %s as it is; stop it first (initium stop %s)", host.ErrRunning, p.Given[0].Name, name)
	}
	for i := range p.Parts {
		if part := &p.Parts[i]; part.Old != "" && part.Old != plan.EmptyFolder {
			return fmt.Errorf("%w, and %s must not change under it; stop it first (initium stop %s)", host.ErrRunning, part.Path, name)
		}
	}
	return nil
}

// TakeBaseline writes down which files a server has of its own, so that overlaps
// with them are known. The folders that mods are put into are left out.
func (a *App) TakeBaseline(name string) (files int, err error) {
	s, err := a.Server(name)
	if err != nil {
		return 0, err
	}
	l, err := a.ledger()
	if err != nil {
		return 0, err
	}
	var without []string
	for _, p := range s.Dialect.Places {
		if dir, ok := s.Vars.Expand(p.Path); ok {
			without = append(without, dir)
		}
	}
	return l.TakeBaseline(name, s.Record.Dir, without)
}

// BaselineChanges tells how many files of the clean server are recorded, and which of them
// are other files now, or gone.
func (a *App) BaselineChanges(name string) (files int, changed []string, err error) {
	_, l, err := a.recovered(name)
	if err != nil {
		return 0, nil, err
	}
	return l.BaselineChanges(name)
}

// errNoSource refuses a change without anything to take in.
var errNoSource = errors.New("say what is to be taken in")

// TakeAll makes the changes that take several sources in, with the names of what
// is in each.
func (a *App) TakeAll(ctx context.Context, server string, sources []string, c lineup.Choices, where lineup.Where, progress func(int64)) ([]lineup.Change, error) {
	if len(sources) == 0 {
		return nil, UsageError{errNoSource}
	}
	if err := wholeBase(&c); err != nil {
		return nil, err
	}
	s, p, err := a.planAfterStaged(ctx, server)
	if err != nil {
		return nil, err
	}
	var changes []lineup.Change
	for _, source := range sources {
		came, err := a.open(ctx, source, bounds(&c), []*dialect.Dialect{s.Dialect}, progress)
		if err != nil {
			return nil, err
		}
		in, err := p.Assign(came.source.Path, came.tree, c)
		if err != nil {
			return nil, err
		}
		change := lineup.Change{Op: lineup.OpTake, Mod: names(in), Source: came.source.Path, Choices: &c, Where: where}
		if err := p.Make(change); err != nil {
			return nil, asUsage(err)
		}
		changes = append(changes, change)
	}
	return changes, nil
}

// Overlaps finds the files that several things which were looked into for a server
// would put in the same places, or where the clean server has files of its own.
func (a *App) Overlaps(server string, looked []*Inspection) ([]intake.Shared, error) {
	_, l, err := a.recovered(server)
	if err != nil {
		return nil, err
	}
	var mods []intake.Brought
	for _, in := range looked {
		if in.Intake == nil {
			continue
		}
		m := intake.Brought{Mod: names(in.Intake)}
		for i := range in.Intake.Parts {
			p := &in.Intake.Parts[i]
			for _, it := range p.Items {
				if !it.Folder {
					m.Paths = append(m.Paths, filepath.Join(p.Path, it.Rel))
				}
			}
		}
		mods = append(mods, m)
	}
	var failed error
	shared := intake.Overlapping(func(yield func(string) bool) { failed = l.BaselineFiles(server, yield) }, mods)
	return shared, failed
}
