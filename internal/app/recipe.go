package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/planner"
	"initium/internal/core/recipe"
	"initium/internal/core/setting"
	"initium/internal/core/survey"
	"initium/internal/core/table"
	"initium/internal/core/text"
	"initium/internal/host"
)

// RecipeOf says what of a server's ledger becomes a recipe.
type RecipeOf struct {
	From, To int    // entries; 0 for the first and the last
	Mod      string // only what was done for this mod; "" for all
	About    string
	Await    []string
}

// Saved is a recipe that was made, and what the notes say that came with its mods.
type Saved struct {
	Recipe *recipe.Recipe
	Notes  []Notes
}

// SaveRecipe makes a recipe of what was done to a server, and writes it into a new folder.
func (a *App) SaveRecipe(ctx context.Context, server, folder string, of RecipeOf) (*Saved, error) {
	_, l, err := a.recovered(server)
	if err != nil {
		return nil, err
	}
	s, err := a.Server(server)
	if err != nil {
		return nil, err
	}
	if _, err := os.Lstat(folder); err == nil {
		return nil, usage("%s is there already; a recipe is written into a new folder", text.Clean(folder))
	}
	entries, err := l.Entries(server)
	if err != nil {
		return nil, err
	}
	m := &maker{a: a, s: s, l: l, of: of, now: survey.Take(s.input()), texts: map[string][]byte{}}
	if m.set, err = s.setValues(m.now); err != nil {
		return nil, err
	}
	m.r = &recipe.Recipe{Name: filepath.Base(folder), Dialect: s.Dialect.Name, About: of.About, Await: of.Await}
	for _, e := range entries {
		if e.Number == 0 || e.Number < of.From || of.To > 0 && e.Number > of.To {
			continue
		}
		if err := m.entry(ctx, e); err != nil {
			return nil, err
		}
	}
	if len(m.r.Steps) == 0 {
		return nil, usage("nothing in these entries of the ledger can be repeated on another server")
	}
	if err := m.besides(); err != nil {
		return nil, err
	}
	data, err := m.r.Write()
	if err != nil {
		return nil, err
	}
	if _, err := recipe.Read(data); err != nil {
		return nil, fmt.Errorf("the recipe could not be read again, so it is not written: %w", err)
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	m.texts[recipe.File] = data
	for name, data := range m.texts {
		if err := os.WriteFile(filepath.Join(folder, name), data, 0o644); err != nil {
			return nil, err
		}
	}
	return &Saved{m.r, m.said}, nil
}

// maker makes a recipe.
type maker struct {
	a     *App
	s     *Server
	l     *host.Ledger
	of    RecipeOf
	now   *survey.Survey
	r     *recipe.Recipe
	texts map[string][]byte
	mods  []string            // that it is about
	set   map[string][]string // what is set on the server
	said  []Notes
}

func (m *maker) left(format string, args ...any) {
	m.r.Left = append(m.r.Left, fmt.Sprintf(format, args...))
}

// entry adds the changes of an entry.
func (m *maker) entry(ctx context.Context, e host.Entry) error {
	if len(e.Changes) == 0 {
		if m.of.Mod == "" {
			m.left("entry %d: %s", e.Number, text.Clean(e.Why))
		}
		return nil
	}
	did, err := m.l.Did(m.s.Record.Name, e.Number)
	if err != nil {
		return err
	}
	for _, c := range e.Changes {
		if m.of.Mod != "" && !m.concerns(c, did) {
			continue
		}
		if c.Op == lineup.OpMerge && slices.ContainsFunc(e.Changes, func(o lineup.Change) bool { return o.Op == lineup.OpTake }) {
			continue // it comes again with the mod
		}
		if err := m.change(ctx, e, c, did); err != nil {
			return err
		}
		if c.Op == lineup.OpTake {
			m.said = append(m.said, m.notes(ctx, c)...)
		}
	}
	return nil
}

// concerns tells whether a change was made for the mod that the recipe is about: it names it, or an entry that
// takes it in does.
func (m *maker) concerns(c lineup.Change, did *plan.Plan) bool {
	if c.Op == lineup.OpTake {
		return slices.ContainsFunc(did.Parts, func(p plan.Part) bool { return p.Mod == m.of.Mod && p.What == plan.TheMod })
	}
	return c.Mod == m.of.Mod
}

// change adds one change.
func (m *maker) change(ctx context.Context, e host.Entry, c lineup.Change, did *plan.Plan) error {
	step, ok := recipe.StepOf(c, func(full string) (string, bool) {
		below, ok := strings.CutPrefix(full, m.s.Record.Dir+"/")
		return below, ok
	})
	switch {
	case !ok:
		m.left("entry %d: %s", e.Number, c.String())
		return nil
	case c.Op == lineup.OpSet && m.own(c, step.File):
		return nil
	case c.Op == lineup.OpSet && c.File == "":
		if step.File, ok = m.startupFile(c.Registration); !ok {
			m.left("entry %d: %s", e.Number, c.String())
			return nil
		}
		step.List = ""
	case c.Op == lineup.OpTake:
		m.taken(&step, c, did)
	case recipe.Puts(c.Op):
		if len(c.Content) == 0 || m.secret(c) {
			m.left("entry %d: %s, as there is a key or a password in it", e.Number, c.String())
			return nil
		}
		step.Text = m.text(filepath.Base(c.File), c.Content)
	case c.Op == lineup.OpScript:
		script := m.script(ctx, c)
		if script == nil {
			m.left("entry %d: %s, as the script is not there any more, or not as it was, or there is a key or a password in it", e.Number, c.String())
			return nil
		}
		step.Text = m.text(path.Base(filepath.ToSlash(cmp.Or(c.To, c.Source))), script)
	case c.Op == lineup.OpMerge:
		put, err := m.entries(c, did)
		if err != nil || put == nil {
			m.left("entry %d: %s", e.Number, c.String())
			return nil
		}
		step.Text = m.text("entries-"+filepath.Base(c.File), put)
	}
	if m.now.Find(c.Mod) != nil {
		m.mods = append(m.mods, c.Mod)
	}
	m.r.Steps = append(m.r.Steps, step)
	return nil
}

// script is what was run on a database, nil where that is not to be had any more or holds a secret.
func (m *maker) script(ctx context.Context, c lineup.Change) []byte {
	data, err := (&ground{a: m.a, s: m.s}).Script(ctx, c.Source, c.To)
	if err != nil || planner.Sum(data) != c.Before || len(data) > recipe.MaxText {
		return nil
	}
	if doc, _ := text.Decode(data); text.Mask(string(doc), m.now.Lineup.Secrets()) != string(doc) {
		return nil
	}
	return data
}

// startupFile is the file of a registration, below the server's folder; ok is false where it is elsewhere.
func (m *maker) startupFile(registration string) (below string, ok bool) {
	r := m.s.Dialect.Registration(registration)
	if r == nil {
		return "", false
	}
	file, known := m.s.Vars.Expand(r.File)
	below, ok = strings.CutPrefix(file, m.s.Record.Dir+"/")
	return below, known && ok
}

// taken says of mods that were taken in which they are, with the digests of their files, and where they are loaded.
func (m *maker) taken(step *recipe.Step, c lineup.Change, did *plan.Plan) {
	step.Mod, step.Source = "", filepath.Base(c.Source)
	for _, p := range did.Parts {
		if p.What != plan.TheMod || p.New == "" {
			continue
		}
		one := recipe.Mod{Name: p.Mod, Sum: p.Base}
		if there := m.now.Find(p.Mod); there != nil {
			one.Release = there.Manifest.Release
		}
		step.Mods, m.mods = append(step.Mods, one), append(m.mods, p.Mod)
	}
	if len(step.Mods) == 1 && step.Before+step.After+step.Section == "" {
		step.After = m.before(step.Mods[0].Name)
	}
}

// text keeps a text beside the recipe, under a name that nothing else has.
func (m *maker) text(base string, data []byte) string {
	name := fmt.Sprintf("%d-%s", len(m.r.Steps)+1, base)
	m.texts[name] = data
	return name
}

// before is the mod whose registration stands before that of another, "" for none.
func (m *maker) before(name string) (last string) {
	for _, e := range m.now.Lineup.Entries {
		if e.Name == name {
			return last
		}
		if e.On {
			last = e.Name
		}
	}
	return ""
}

// own notes a setting of which every server has its own value: keys and passwords, what the server says of
// itself, what a template leaves open, and what Initium knows the server by.
func (m *maker) own(c lineup.Change, file string) bool {
	about, own := "", m.s.own(c.Mod, c.To)
	for i := range m.s.Dialect.Values {
		if v := &m.s.Dialect.Values[i]; v.Is(c.Mod) {
			about = v.About
		}
	}
	if own && !slices.ContainsFunc(m.r.Own, func(o recipe.Own) bool { return o.Name == c.Mod && o.File == file }) {
		m.r.Own = append(m.r.Own, recipe.Own{Name: c.Mod, File: file, About: about})
	}
	return own
}

// secret tells whether there is a key or a password in what a change puts in place.
func (m *maker) secret(c lineup.Change) bool {
	doc, _ := text.Decode(c.Content)
	if n, ok := setting.Of(m.s.Dialect, m.s.Vars, c.File); ok && len(setting.Secrets(c.Content, n)) > 0 {
		return true
	}
	for _, line := range strings.Split(string(doc), "\n") {
		if text.Mask(line, m.now.Lineup.Secrets()) != line {
			return true
		}
	}
	return false
}

// entries are what a merge has added to a table, as a file of entries.
func (m *maker) entries(c lineup.Change, did *plan.Plan) ([]byte, error) {
	for i := range m.s.Dialect.Contents {
		content := &m.s.Dialect.Contents[i]
		if into, ok := m.s.Vars.Expand(content.Into); !ok || into != c.File || !content.Merged() {
			continue
		}
		for _, f := range did.Files {
			if f.Path != c.File {
				continue
			}
			doc, _ := text.Decode(f.Want)
			t, fault := table.Read(doc, table.KindOf(content))
			if fault != nil {
				return nil, fault
			}
			return t.Bare(c.Entries), nil
		}
	}
	return nil, nil
}

// besides adds the rules and expectations of the mods that the recipe is about.
func (m *maker) besides() error {
	about := func(name string) bool { return slices.Contains(m.mods, name) }
	for _, r := range m.s.Rules {
		if about(r.Mod) && !r.Family {
			m.r.Rules = append(m.r.Rules, recipe.Rule{Mod: r.Mod, Kind: string(r.Kind), Other: r.Other, Because: r.Because})
		}
	}
	expected, err := m.l.Expectations(m.s.Record.Name)
	for _, e := range expected {
		if about(e.Mod) || e.Mod == "" && m.of.Mod == "" {
			m.r.Expects = append(m.r.Expects, recipe.Expect{Mod: e.Mod, Kind: string(e.Kind), Text: e.Text, Ask: e.Ask, Fact: e.Fact, Because: e.Because})
		}
	}
	return err
}

// ReadRecipe reads the recipe in a folder.
func ReadRecipe(folder string) (*recipe.Recipe, error) {
	data, err := survey.Open(theirs.Tree(), filepath.Join(whole(folder), recipe.File), recipe.MaxFile)
	if err != nil {
		return nil, fmt.Errorf("read the recipe %s: %w", text.Clean(folder), err)
	}
	return recipe.Read(data)
}

func whole(name string) string {
	if full, err := filepath.Abs(name); err == nil {
		return full
	}
	return name
}

// Run is what a recipe comes to on a server.
type Run struct {
	Recipe   *recipe.Recipe
	Changes  []lineup.Change // that are to be made
	Passed   []string        // steps that are so already
	Problems []string        // what does not fit, by step
	Own      []recipe.Own    // settings that are the server's own and not set there, or set to what a template has
}

// PlanRecipe works out what a recipe comes to on a server, on top of what is staged; nothing is written. What the
// mods come in is looked for in the folders from, and beside the recipe.
func (a *App) PlanRecipe(ctx context.Context, server, folder string, from []string) (*Run, error) {
	r, err := ReadRecipe(folder)
	if err != nil {
		return nil, UsageError{err}
	}
	s, p, err := a.planAfterStaged(ctx, server)
	if err != nil {
		return nil, err
	}
	if s.Dialect.Name != r.Dialect {
		return nil, usage("the recipe %s is for servers of %s, and %s is one of %s", text.Clean(r.Name), text.Clean(r.Dialect), server, s.Dialect.Name)
	}
	l, err := a.ledger()
	if err != nil {
		return nil, err
	}
	run := &Run{Recipe: r}
	for i := range r.Steps {
		step := &r.Steps[i]
		problem := func(err error) {
			run.Problems = append(run.Problems, fmt.Sprintf("step %d, %s: %v", i+1, step, err))
		}
		c, passed, err := a.stepFor(ctx, s, l, p, folder, from, step)
		if err != nil {
			problem(err)
			continue
		}
		if passed {
			run.Passed = append(run.Passed, step.String())
			continue
		}
		if err := p.Make(c); err != nil {
			problem(err)
			continue
		}
		run.Changes = append(run.Changes, c)
	}
	for _, o := range r.Own {
		if !a.isSet(s, p.Seen(), o) {
			run.Own = append(run.Own, o)
		}
	}
	return run, nil
}

// stepFor is the change that a step is on a server; passed tells that it is so already.
func (a *App) stepFor(ctx context.Context, s *Server, l *host.Ledger, p *planner.Planner, folder string, from []string, step *recipe.Step) (c lineup.Change, passed bool, err error) {
	var content []byte
	if step.Text != "" {
		if content, err = survey.Open(theirs.Tree(), filepath.Join(whole(folder), step.Text), recipe.MaxText); err != nil {
			return c, false, fmt.Errorf("read %s of the recipe: %w", text.Clean(step.Text), err)
		}
	}
	c = step.Change(s.Record.Dir, content)
	seen := p.Seen()
	m := seen.Find(c.Mod)
	anchor := func(name string) string {
		if len(seen.Lineup.Find(name)) > 0 {
			return name
		}
		return ""
	}
	c.Where.Before, c.Where.After = anchor(c.Where.Before), anchor(c.Where.After)
	switch c.Op {
	case lineup.OpRegister:
		return c, m != nil && m.Registered, nil
	case lineup.OpUnregister:
		return c, m == nil || !m.Registered, nil
	case lineup.OpOn, lineup.OpOff:
		return c, m != nil && m.Registered && m.On == (c.Op == lineup.OpOn), nil
	case lineup.OpRemove:
		return c, m == nil || m.Path == "", nil
	case lineup.OpBlock, lineup.OpAddTo, lineup.OpPutAt:
		raw, err := p.File(c.File)
		return c, err == nil && holdsText(raw, content), nil
	case lineup.OpMerge:
		c.Content, c.Source = nil, filepath.Join(whole(folder), step.Text)
		return c, false, nil
	case lineup.OpScript:
		c.Source, c.To = filepath.Join(whole(folder), step.Text), ""
		if entry, err := ran(l, s.Record.Name, s.databasePlace(), planner.Sum(content)); err != nil || entry > 0 {
			return c, err == nil, err
		}
		c.Content = nil
		return c, false, nil
	case lineup.OpTake:
		if a.hasAll(l, seen, step) {
			return c, true, nil
		}
		return a.takeFor(ctx, s, p, folder, from, step, c)
	}
	return c, false, nil
}

// holdsText tells whether a file has a text in it already, whatever its line endings.
func holdsText(raw, content []byte) bool {
	plain := func(data []byte) string {
		doc, _ := text.Decode(data)
		lines := strings.Split(strings.ReplaceAll(string(doc), "\r\n", "\n"), "\n")
		for i := range lines {
			lines[i] = strings.TrimSpace(lines[i])
		}
		return strings.Trim(strings.Join(lines, "\n"), "\n,")
	}
	want, have := "\n"+plain(content), "\n"+plain(raw)+"\n"
	return want != "\n" && (strings.Contains(have, want+"\n") || strings.Contains(have, want+",\n"))
}

// hasAll tells whether all mods of a step are there with the same files, and registered.
func (a *App) hasAll(l *host.Ledger, seen *survey.Survey, step *recipe.Step) bool {
	for _, want := range step.Mods {
		m := seen.Find(want.Name)
		if m == nil || m.Path == "" || !m.Listed {
			return false
		}
		if want.Sum == "" { // then the release has to do
			if want.Release == "" || want.Release != m.Manifest.Release {
				return false
			}
			continue
		}
		if items, err := l.Digests().List(m.Path); err != nil || plan.Digest(items) != want.Sum {
			return false
		}
	}
	return true
}

// takeFor finds what mods come in, and looks that it holds just those.
func (a *App) takeFor(ctx context.Context, s *Server, p *planner.Planner, folder string, from []string, step *recipe.Step, c lineup.Change) (lineup.Change, bool, error) {
	for _, place := range append(slices.Clone(from), folder) {
		full := whole(place)
		if filepath.Base(full) != step.Source {
			full = filepath.Join(full, step.Source)
		}
		if _, err := theirs.Lstat(full); err == nil {
			c.Source = full
			break
		}
	}
	if c.Source == "" {
		return c, false, fmt.Errorf("%s is wanted; say with --from where it is", text.Clean(step.Source))
	}
	choices := lineup.Choices{}
	came, err := a.open(ctx, c.Source, bounds(&choices), []*dialect.Dialect{s.Dialect}, nil)
	if err != nil {
		return c, false, err
	}
	in, err := p.Assign(came.source.Path, came.tree, choices)
	if err != nil {
		return c, false, err
	}
	for _, want := range step.Mods {
		at := slices.IndexFunc(in.Parts, func(part plan.Part) bool { return part.Mod == want.Name && part.What == plan.TheMod })
		switch {
		case at < 0 && len(in.Problems) > 0:
			return c, false, errors.New(strings.Join(in.Problems, "; "))
		case at < 0:
			return c, false, fmt.Errorf("%s is not in %s", text.Clean(want.Name), text.Clean(step.Source))
		case want.Sum != "" && in.Parts[at].Base != want.Sum:
			return c, false, fmt.Errorf("%s in %s has other files than the %s that the recipe was made with", text.Clean(want.Name), text.Clean(step.Source), strings.TrimSpace(text.Clean(want.Name+" "+want.Release)))
		}
	}
	c.Mod, c.Choices = names(in), &choices
	return c, false, nil
}

// isSet tells whether a setting of a server's own has a value of its own there.
func (a *App) isSet(s *Server, seen *survey.Survey, o recipe.Own) bool {
	var templates []string
	for i := range s.Dialect.Values {
		if v := &s.Dialect.Values[i]; v.Is(o.Name) {
			templates = v.Placeholders
		}
	}
	for _, set := range seen.Lineup.Settings {
		if set.Name == o.Name && set.Value != "" && !slices.Contains(templates, set.Value) {
			return true
		}
	}
	if o.File == "" {
		return false
	}
	list, err := s.settingsIn(seen.Lineup, filepath.Join(s.Record.Dir, o.File))
	return err == nil && slices.ContainsFunc(list, func(p placed) bool {
		return p.Name == o.Name && !p.Off && p.Value != "" && !slices.Contains(templates, p.Value)
	})
}

// FinishRecipe writes down what a recipe says of mods, once its changes are made.
func (a *App) FinishRecipe(server string, r *recipe.Recipe) error {
	rules, err := a.Rules(server)
	if err != nil {
		return err
	}
	for i := range r.Rules {
		if one := r.Rules[i].Rule(); !slices.ContainsFunc(rules, one.Same) {
			if err := a.PutRule(server, one); err != nil {
				return err
			}
		}
	}
	expected, err := a.Expectations(server)
	if err != nil {
		return err
	}
	for i := range r.Expects {
		if one := r.Expects[i].Expectation(); !slices.ContainsFunc(expected, one.Same) {
			if err := a.PutExpectation(server, one); err != nil {
				return err
			}
		}
	}
	return nil
}
