package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/planner"
	"initium/internal/core/setting"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Beginning is what an operator says of a server that is not there yet.
type Beginning struct {
	Dir     string // not there yet, or empty
	Dialect string
	As      string   // "" for the name of the folder
	From    []string // archives and folders with what the server consists of, and with mods
	Set     map[string]string
}

// Begun is a server that was made from nothing, or would be.
type Begun struct {
	Server   string
	Dir      string
	Family   string
	Plan     *plan.Plan
	Then     []lineup.Change // what follows as entries of its own, as it is laid over what is there by then
	Findings []check.Finding // what stands in the way of its first start, and what is worth knowing before it
	Values   []Value         // that the family asks for, as they would be
	Settings []FirstSetting  // of its files, that are worth saying before its first start
}

// FirstSetting is a setting of a server's files that is worth saying before its first start.
type FirstSetting struct {
	Name    string
	About   string
	Value   string // as it may be shown
	Hidden  bool   // it is a secret
	Problem string // why a start would not do with it
}

// firsts are the settings of a dialect that the server's files have, or have to have.
func firsts(look *Look) (list []FirstSetting) {
	for i := range look.Survey.Dialect.Values {
		v := &look.Survey.Dialect.Values[i]
		set, ok := look.Survey.Lineup.Setting(v.Registration, v.Name)
		if !ok && !v.Required {
			continue
		}
		one := FirstSetting{Name: v.Name, About: v.About, Value: set.Value, Hidden: v.Secret || text.IsSecret(v.Name, set.Value)}
		switch {
		case !ok:
			one.Problem = "it is not set"
		case slices.Contains(v.Placeholders, set.Value):
			one.Problem = "it still has the value of the template"
		}
		if one.Hidden && one.Problem == "" {
			one.Value = text.MaskValue("password", set.Value)
		}
		list = append(list, one)
	}
	return list
}

// Beginnable are the families of which a server can be begun: those that say what one consists of.
func (a *App) Beginnable() (names []string, err error) {
	list, err := a.Dialects()
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		if e.Err == nil && (len(e.Dialect.Parts) > 0 || slices.ContainsFunc(e.Dialect.Registrations, func(r dialect.Registration) bool { return r.New != "" })) {
			names = append(names, e.Name)
		}
	}
	return names, nil
}

// IsBeginning tells whether a server can be begun in a folder: it is not there, or empty.
func IsBeginning(dir string) bool {
	list, err := os.ReadDir(dir)
	return errors.Is(err, fs.ErrNotExist) || err == nil && len(list) == 0
}

// NewServer lays a new server out: what it consists of from the sources, each thing in its place, files that it begins with
// as the dialect has them, and a port that no other server has. It is one entry of its ledger. With only show nothing
// is written; nothing is either where the plan cannot be made.
func (a *App) NewServer(ctx context.Context, b Beginning, show bool, progress func(host.Progress)) (*Begun, error) {
	dir, err := filepath.Abs(b.Dir)
	if err != nil {
		return nil, err
	}
	if list, err := os.ReadDir(dir); err == nil && len(list) > 0 {
		return nil, usage("there is something in %s already; a new server begins in an empty folder (initium adopt takes one that is there)", text.Clean(b.Dir))
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	b.As = cmp.Or(b.As, filepath.Base(dir))
	if err := host.CheckName(b.As); err != nil {
		return nil, usage("%w; choose one with --as", err)
	}
	if _, err := a.Home.Record(b.As); err == nil {
		return nil, usage("the name %s is taken by another server; choose another with --as", b.As)
	}
	s, err := a.serverIn(dir, b.Dialect)
	if err != nil {
		return nil, err
	}
	s.Record.Name = b.As
	set, values := firstValues(s.Dialect, b.Set)
	if s.Record.Set, err = givenValues(s.Dialect, set); err != nil {
		return nil, err
	}
	a.resolve(s)
	a.choosePort(s)
	changes, then, made, err := a.beginning(ctx, s, b.From, values)
	if err != nil {
		return nil, err
	}
	begun := &Begun{Server: b.As, Dir: dir, Family: s.Dialect.Title, Plan: made, Then: then}
	if show {
		ahead := s.seeing(a.overlay(made.Parts, made.Files...))
		ahead.Missing = map[string]string{}
		a.resolve(ahead)
		look, err := a.look(ahead, survey.Take(ahead.input()))
		if err != nil {
			return nil, err
		}
		begun.Findings, begun.Values, begun.Settings = look.Findings, ahead.values(), firsts(look)
		return begun, nil
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if _, err := a.Adopt(ctx, Adoption{Dir: dir, Dialect: b.Dialect, As: b.As, Set: s.Record.Set}); err != nil {
		return nil, err
	}
	if begun.Plan, err = a.Change(ctx, b.As, progress, changes...); err != nil {
		return nil, fmt.Errorf("%w; the server is adopted and its folder empty: initium new cannot be run on it again under this name", err)
	}
	if _, err := a.TakeBaseline(b.As); err != nil {
		return nil, err
	}
	for _, c := range then {
		_, err := a.Change(ctx, b.As, progress, c)
		if open := (*planner.Unanswered)(nil); errors.As(err, &open) {
			return nil, fmt.Errorf("%s is made; but to %s needs an answer first: initium builds %s --add %s asks for it", b.As, c, b.As, text.Clean(c.Source))
		}
		if err != nil {
			return nil, fmt.Errorf("%s is made; but to %s could not be done: %w", b.As, c, err)
		}
	}
	look, err := a.Look(b.As)
	if err != nil {
		return nil, err
	}
	begun.Findings = look.Findings
	return begun, nil
}

// firstValues parts what an operator says into what the family asks for and settings of its files.
func firstValues(d *dialect.Dialect, said map[string]string) (set, values map[string]string) {
	set, values = map[string]string{}, map[string]string{}
	for name, value := range said {
		if d.Given(name) != nil {
			set[name] = value
		} else {
			values[name] = value
		}
	}
	return set, values
}

// setOf is the change that sets something in a file that registers mods: where the dialect says it stands, or where it
// stands already.
func setOf(s *survey.Survey, name, value string) (lineup.Change, bool) {
	c := lineup.Change{Op: lineup.OpSet, Mod: name, To: value}
	for i := range s.Dialect.Values {
		v := &s.Dialect.Values[i]
		if r := s.Dialect.Registration(v.Registration); v.Name == name && r != nil {
			c.File, _ = s.Vars.Expand(r.File)
			return c, true
		}
	}
	for i := range s.Lineup.Files {
		f := &s.Lineup.Files[i]
		n, ok := setting.Of(s.Dialect, s.Vars, f.Path)
		if f.Missing || !ok {
			continue
		}
		doc, _ := text.Decode(f.Raw())
		list, _ := setting.Read(doc, n)
		if slices.ContainsFunc(list, func(o setting.Setting) bool { return o.Name == name }) {
			c.File = f.Path
			return c, true
		}
	}
	return c, false
}

// choosePort gives a new server a port that no other adopted server has and nothing on this machine holds, where the
// operator has not said one.
func (a *App) choosePort(s *Server) {
	if _, said := s.Record.Set["port"]; said || s.Dialect.Given("port") == nil {
		return
	}
	port, err := strconv.Atoi(s.Vars["port"])
	if err != nil {
		return
	}
	taken := map[int]bool{}
	names, _ := a.Home.Servers() // without them it is this machine alone that is asked
	for _, other := range names {
		if n, err := strconv.Atoi(a.portOf(other)); err == nil {
			taken[n] = true
		}
	}
	if !taken[port] && host.PortHeld(port) == "" {
		return
	}
	if free := host.FreePort(port, taken); free != 0 {
		s.Vars["port"] = strconv.Itoa(free)
		if s.Dialect.Given("port").From == nil { // its files do not say it
			s.Record.Set["port"] = s.Vars["port"]
		}
	}
}

// layout gathers the changes that lay a new server out, each on what those before it leave.
type layout struct {
	a       *App
	s       *Server
	p       *planner.Planner
	changes []lineup.Change
	then    []lineup.Change // that have to wait until all that is there
}

func (l *layout) do(c lineup.Change) error {
	l.changes = append(l.changes, c)
	return asUsage(l.p.Make(c))
}

// beginning works out the changes that lay a new server out.
func (a *App) beginning(ctx context.Context, s *Server, sources []string, values map[string]string) (changes, then []lineup.Change, made *plan.Plan, err error) {
	l := &layout{a: a, s: s, p: planner.New(ctx, &ground{a: a, s: s}, survey.Take(s.input()))}
	mods, err := l.parts(ctx, sources)
	if err == nil {
		err = l.files()
	}
	if err == nil {
		err = l.values(values)
	}
	if err != nil {
		return nil, nil, nil, err
	}
	for _, source := range mods {
		if err := l.do(lineup.Change{Op: lineup.OpTake, Source: source, Choices: &lineup.Choices{}}); err != nil {
			return nil, nil, nil, err
		}
	}
	if len(l.changes) == 0 {
		return nil, nil, nil, usage("the dialect %s does not say what a server of it begins with ([[part]]), and nothing was brought (--from)", s.Dialect.Name)
	}
	made, _ = l.p.Plan()
	made.Parts = slices.DeleteFunc(made.Parts, func(p plan.Part) bool { return p.Path == s.Record.Dir }) // it is made first
	return l.changes, l.then, made, nil
}

// parts lays the parts that are in sources. It returns the sources in which there is none: they may be mods.
func (l *layout) parts(ctx context.Context, sources []string) (others []string, err error) {
	var over []lineup.Change // once that is there which they are laid over
	for _, source := range sources {
		names, err := l.a.partsIn(ctx, l.s, source)
		if err != nil {
			return nil, err
		}
		full, err := filepath.Abs(source)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			c := lineup.Change{Op: lineup.OpLay, Mod: name, Source: full}
			if slices.ContainsFunc(l.s.Dialect.Parts, func(p dialect.Part) bool { return p.Name == name && p.Of == dialect.PartLoader }) {
				over = append(over, c)
			} else if err := l.do(c); err != nil {
				return nil, err
			}
		}
		if len(names) == 0 {
			others = append(others, full)
		}
	}
	for _, c := range over {
		if l.overWhatComes(c.Mod) {
			l.then = append(l.then, c)
		} else if err := l.do(c); err != nil {
			return nil, err
		}
	}
	return others, nil
}

// overWhatComes tells whether a loader is laid over a folder that is only put in its place by the same plan.
func (l *layout) overWhatComes(loader string) bool {
	there := *l.s
	there.fsys = l.a.overlay(l.p.Parts())
	there.Vars, there.Missing = maps.Clone(l.s.Vars), map[string]string{}
	there.resolveParts()
	for i := range l.s.Dialect.Parts {
		if p := &l.s.Dialect.Parts[i]; p.Name == loader {
			folder, _ := there.over(p)
			return slices.ContainsFunc(l.p.Parts(), func(o plan.Part) bool {
				return o.New != plan.EmptyFolder && (folder == o.Path || strings.HasPrefix(folder, o.Path+"/"))
			})
		}
	}
	return false
}

// files writes what a server begins with, unless it came with its parts.
func (l *layout) files() error {
	there := *l.s
	there.fsys = l.a.overlay(l.p.Parts())
	there.Vars, there.Missing = maps.Clone(l.s.Vars), map[string]string{}
	there.resolveParts()
	write := func(full, holds string) error {
		if _, err := fs.Stat(there.fsys, relative(full)); err == nil {
			return nil
		}
		if _, err := l.p.File(full); err == nil { // it is planned already
			return nil
		}
		return l.do(lineup.Change{Op: lineup.OpWrite, File: full, Content: []byte(strings.TrimLeft(holds, "\n"))})
	}
	for i := range l.s.Dialect.Parts {
		part := &l.s.Dialect.Parts[i]
		if part.Of != dialect.PartFile {
			continue
		}
		for _, full := range part.Places(l.s.Vars) {
			if err := write(full, part.Begin(there.fromDir())); err != nil {
				return err
			}
		}
	}
	for i := range l.s.Dialect.Registrations {
		r := &l.s.Dialect.Registrations[i]
		full, ok := l.s.Vars.Expand(r.File)
		if fresh, filled := l.s.Vars.Expand(r.New); ok && filled && fresh != "" {
			if err := write(full, fresh); err != nil {
				return err
			}
		}
	}
	return nil
}

// values sets what the operator has said of the server's files.
func (l *layout) values(said map[string]string) error {
	for _, name := range slices.Sorted(maps.Keys(said)) {
		c, ok := setOf(l.p.Seen(), name, said[name])
		if !ok {
			_, err := givenValues(l.s.Dialect, map[string]string{name: "?"})
			return err
		}
		if err := l.do(c); err != nil {
			return err
		}
	}
	return nil
}

// fromDir are the variables of a server with parts as they are seen from its folder, where they lie in it.
func (s *Server) fromDir() dialect.Vars {
	vars := maps.Clone(s.Vars)
	for _, p := range s.Dialect.Parts {
		if p.Chosen() {
			vars[p.Name] = s.short(vars[p.Name])
		}
	}
	return vars
}

// partsIn are the parts of a server that are in a source.
func (a *App) partsIn(ctx context.Context, s *Server, source string) (names []string, err error) {
	came, err := a.open(ctx, source, bounds(nil), []*dialect.Dialect{s.Dialect}, nil)
	if err != nil {
		return nil, err
	}
	var roots, loaders []string
	for i := range s.Dialect.Parts {
		p := &s.Dialect.Parts[i]
		if p.Of == dialect.PartFile || p.Name == "" {
			continue
		}
		if root, _, ok := intake.RootOf(came.tree, p); ok {
			names, roots = append(names, p.Name), append(roots, root)
			if p.Of == dialect.PartLoader {
				loaders = append(loaders, p.Name)
			}
		}
	}
	for i, root := range roots { // a build may come with its loader
		if slices.Contains(loaders, names[i]) {
			continue
		}
		for k := range roots {
			if loader := names[k]; slices.Contains(loaders, loader) && (root == "" || roots[k] == root || strings.HasPrefix(roots[k], root+"/")) {
				names[k] = ""
			}
		}
	}
	return slices.DeleteFunc(names, func(n string) bool { return n == "" }), nil
}
