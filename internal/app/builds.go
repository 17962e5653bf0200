package app

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"maps"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/lineup"
	"initium/internal/core/mod"
	"initium/internal/core/part"
	"initium/internal/core/plan"
	"initium/internal/core/planner"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// namers are the files that may name which one of a part a server uses, as they are seen now.
func (s *Server) namers(p *dialect.Part) (list []string) {
	add := func(form string) {
		if full, ok := s.Vars.Expand(form); ok && form != "" {
			if !filepath.IsAbs(full) {
				full = filepath.Join(s.Record.Dir, full)
			}
			if full = filepath.Clean(full); !slices.Contains(list, full) {
				list = append(list, full)
			}
		}
	}
	for _, form := range p.Named {
		add(form)
	}
	for i := range s.Dialect.Registrations {
		if r := &s.Dialect.Registrations[i]; !r.InFolder() {
			add(r.File)
		}
	}
	return list
}

// base is the folder that relative paths of a start are seen from.
func (s *Server) base() string {
	if dir, ok := s.Vars.Expand(s.Dialect.Start.Directory); ok && filepath.IsAbs(dir) {
		return filepath.Clean(dir)
	}
	return s.Record.Dir
}

// naming is a file that names one of a part.
type naming struct {
	file     string
	raw      []byte
	mentions []part.Mention
}

func (s *Server) namings(p *dialect.Part, read func(name string) ([]byte, error)) (list []naming) {
	for _, file := range s.namers(p) {
		raw, err := read(file)
		if err != nil {
			continue // what cannot be read names nothing; that it cannot is told by those who read it
		}
		doc, _ := text.Decode(raw)
		if found := part.Mentions(doc, p, s.Vars, s.base()); len(found) > 0 {
			list = append(list, naming{file, raw, found})
		}
	}
	return list
}

// whatRuns is what is seen of files where it matters whether they can be run: of those that stand elsewhere that is not
// known here.
func (s *Server) whatRuns() fs.FS {
	if s.Record.Host != "" {
		return part.Runnable{FS: s.disk()}
	}
	return s.disk()
}

// over is the folder that a loader is laid over, "" where that cannot be told, and whether there is one.
func (s *Server) over(p *dialect.Part) (folder string, there bool) {
	places := p.Places(s.Vars)
	if len(places) == 0 || !filepath.IsAbs(places[0]) {
		return "", false
	}
	return places[0], part.IsOne(s.whatRuns(), p, places[0])
}

// without tells that a server has no loader where one could be: its dialect says by which files one is known.
func (s *Server) without(of dialect.BuildOf) bool {
	return of == dialect.BuildLoader && slices.ContainsFunc(s.Dialect.Parts, func(p dialect.Part) bool {
		folder, there := s.over(&p)
		return p.Of == dialect.PartLoader && folder != "" && !there
	})
}

// spots are those of a part that are there: at its paths, and, of a runtime, the one that its name leads to.
func (s *Server) spots(p *dialect.Part) []part.Spot {
	list := part.Spots(s.whatRuns(), p, s.Vars)
	if p.Of != dialect.PartRuntime || s.Record.Host != "" {
		return list
	}
	for _, form := range p.Places(s.Vars) {
		if strings.ContainsRune(form, '/') {
			continue
		}
		if full, err := exec.LookPath(form); err == nil && !slices.ContainsFunc(list, func(o part.Spot) bool { return o.Path == full }) {
			list = append(list, part.Spot{Path: full})
		}
	}
	return list
}

// used is the one of a part that the server is started with: the one that a file names, else the one that was given,
// else the only one, or, where the start asks for it, of several the first that has no version in its name, or the newest.
// It is "" where that cannot be told. said tells by what.
func (s *Server) used(p *dialect.Part, read func(name string) ([]byte, error)) (full, said, problem string) {
	if one, ok := s.uses[p.Name]; ok {
		return one, "", ""
	}
	if named := s.namings(p, read); len(named) > 0 {
		first, file := named[0].mentions[0].Path, filepath.Base(named[0].file)
		for _, n := range named {
			for _, m := range n.mentions {
				if m.Path != first {
					return first, file, fmt.Sprintf("%s names %s, and %s names %s", file, s.short(first), filepath.Base(n.file), s.short(m.Path))
				}
			}
		}
		if !part.IsOne(s.whatRuns(), p, first) {
			return first, file, fmt.Sprintf("%s names %s, which is not there", file, s.short(first))
		}
		return first, file, ""
	}
	if given, ok := s.Record.Set[p.Name]; ok {
		if !filepath.IsAbs(given) { // a copy of the server has its own
			given = filepath.Join(s.Record.Dir, given)
		}
		if !part.IsOne(s.whatRuns(), p, given) {
			return given, "given", s.short(given) + " is not there"
		}
		return given, "given", ""
	}
	list := s.spots(p)
	if len(list) == 0 {
		return "", "", "looked for " + strings.Join(p.Places(s.Vars), ", ") + " and found none"
	}
	if len(list) > 1 && !s.asks(p) {
		return "", "", "" // the start names one in a way that is not understood here
	}
	best := list[0]
	if best.Version != "" {
		best = list[len(list)-1]
	}
	return best.Path, "", ""
}

// asks tells whether the start is made with the one of a part that is used: it names it, or a value does that it is made of.
func (s *Server) asks(p *dialect.Part) bool {
	return s.Dialect.Start.Names(p.Name) || slices.ContainsFunc(s.Dialect.Givens, func(g dialect.Given) bool {
		return slices.ContainsFunc(g.Default, func(form string) bool { return strings.Contains(form, "{"+p.Name+"}") })
	})
}

func (s *Server) short(full string) string { return strings.TrimPrefix(full, s.Record.Dir+"/") }

// resolveParts works out which one of each part is used. It tells whether that is another one than was thought.
func (s *Server) resolveParts() (other bool) {
	read := func(name string) ([]byte, error) { return survey.Source(s.disk(), name) }
	for i := range s.Dialect.Parts {
		p := &s.Dialect.Parts[i]
		if !p.Chosen() {
			continue
		}
		full, _, problem := s.used(p, read)
		other = other || s.Vars[p.Name] != full
		s.Vars[p.Name] = full
		if delete(s.Missing, p.Name); problem != "" {
			s.Missing[p.Name] = problem
		}
	}
	return other
}

// planned is a server as it will be after a plan, on the disk as it will be then.
func (a *App) planned(s *Server, after *survey.Survey, fsys fs.FS) *Server {
	other := s.seeing(fsys)
	other.uses = map[string]string{}
	for i := range s.Dialect.Parts {
		if p := &s.Dialect.Parts[i]; p.Chosen() && after.Vars[p.Name] != s.Vars[p.Name] {
			other.uses[p.Name] = after.Vars[p.Name]
		}
	}
	if len(other.uses) > 0 {
		other.Missing = map[string]string{}
		a.resolve(other)
	}
	return other
}

// Use is what planner.Ground has it for.
func (g *ground) Use(name, which string, file func(name string) ([]byte, error)) (*planner.Using, error) {
	p := g.s.Dialect.Part(name)
	if p == nil {
		return nil, fmt.Errorf("%s has no part %q of which one could be chosen", g.s.Dialect.Title, text.Clean(name))
	}
	s := *g.s
	s.fsys = g.a.overlay(g.parts)
	spot, err := s.pick(p, which)
	if err != nil {
		return nil, err
	}
	u := &planner.Using{}
	named := s.namings(p, file)
	link, _, _ := s.used(p, file)
	leads := s.led(link)
	linked := leads != link && spot.Path != link
	if linked { // what leads there changes, and nothing that names it
		if named = nil; leads != spot.Path {
			if u.Links, err = s.relinked(link, spot.Path); err != nil {
				return nil, err
			}
		}
	}
	for _, n := range named {
		doc, encoding := text.Decode(n.raw)
		changed, ok := part.Use(doc, n.mentions, spot.Path)
		if !ok {
			return nil, fmt.Errorf("%s names it as it is seen from the server's folder, and %s lies elsewhere; change that file by hand", filepath.Base(n.file), text.Clean(spot.Path))
		}
		u.Files = append(u.Files, planner.Renamed{Path: n.file, Raw: n.raw, Now: text.Encode(changed, encoding)})
	}
	was, given := s.Record.Set[p.Name]
	switch {
	case linked:
	case len(named) == 0 && s.asks(p) || given:
		if now := s.short(spot.Path); was != now {
			u.Given = append(u.Given, plan.Given{Name: p.Name, Was: was, Now: now})
		}
	case len(named) == 0:
		return nil, fmt.Errorf("no file names which %s is used as a path that is understood, and the start does not ask for it; change it by hand where it is chosen", text.Clean(p.Name))
	}
	s.fsys, s.uses, s.Missing = g.s.fsys, maps.Clone(s.uses), map[string]string{}
	if s.uses == nil {
		s.uses = map[string]string{}
	}
	s.uses[p.Name] = spot.Path
	g.a.resolve(&s)
	g.s = &s
	return u, nil
}

// relinked is the listing of a folder before and after a link in it leads to another place.
func (s *Server) relinked(link, to string) ([]plan.File, error) {
	dir := path.Dir(link)
	old, err := survey.Links(s.disk(), dir)
	if err != nil {
		return nil, err
	}
	now := to
	if was, err := fs.ReadLink(s.disk(), relative(link)); err == nil && !path.IsAbs(was) {
		if now, err = filepath.Rel(dir, to); err != nil {
			return nil, err
		}
	}
	var want strings.Builder
	for line := range strings.Lines(string(old)) {
		if strings.HasPrefix(line, path.Base(link)+lineup.LeadsTo) {
			line = path.Base(link) + lineup.LeadsTo + now + "\n"
		}
		want.WriteString(line)
	}
	if want.String() == string(old) {
		return nil, fmt.Errorf("the link %s says which is used, and is not changed from here; let it lead to %s by hand", text.Clean(link), text.Clean(to))
	}
	return []plan.File{{Path: dir + "/", List: true, Old: old, Want: []byte(want.String())}}, nil
}

// led is where a link leads, and the path itself of what is none.
func (s *Server) led(full string) string {
	for range 8 { // links of links
		info, err := fs.Lstat(s.disk(), relative(path.Clean("/"+full)))
		if err != nil || info.Mode()&fs.ModeSymlink == 0 {
			return full
		}
		to, err := fs.ReadLink(s.disk(), relative(path.Clean("/"+full)))
		if err != nil {
			return full
		}
		if !path.IsAbs(to) {
			to = path.Join(path.Dir(full), to)
		}
		full = path.Clean(to)
	}
	return full
}

// pick finds one of a part by its version, by the name of its folder, or by its path.
func (s *Server) pick(p *dialect.Part, which string) (part.Spot, error) {
	list := s.spots(p)
	var names []string
	for _, o := range list {
		if which == o.Version && o.Version != "" || which == o.Path || which == s.short(o.Path) || which == path.Base(o.Path) && p.Of == dialect.PartServer {
			return o, nil
		}
		names = append(names, cmp.Or(o.Version, s.short(o.Path)))
	}
	if p.Of == dialect.PartRuntime && filepath.IsAbs(which) && part.IsOne(s.whatRuns(), p, which) {
		return part.Spot{Path: filepath.Clean(which)}, nil
	}
	if len(names) == 0 {
		return part.Spot{}, fmt.Errorf("there is no %s at %s", text.Clean(p.Name), strings.Join(p.Places(s.Vars), ", "))
	}
	return part.Spot{}, fmt.Errorf("there is no %s %q; there is %s", text.Clean(p.Name), text.Clean(which), text.Clean(strings.Join(names, ", ")))
}

// PartThere is one of those that lie side by side.
type PartThere struct {
	Part    string            `json:"part"` // its name in the dialect
	Of      dialect.PartOf    `json:"of"`
	About   string            `json:"about,omitempty"`
	Version string            `json:"version"` // "" where it cannot be told
	Problem string            `json:"problem,omitempty"`
	Path    string            `json:"path"`
	Changed time.Time         `json:"changed,omitzero"`
	Used    bool              `json:"used"`
	Laid    []string          `json:"laid,omitempty"`    // of a loader: the files that were laid for it from here
	Absent  bool              `json:"absent,omitempty"`  // a loader that could be laid over the server, and is not
	Said    string            `json:"said_by,omitempty"` // of the one that is used: the file that names it, or "given"
	Unfit   map[string]string `json:"unfit,omitempty"`   // mods that are on and not made for it: what they want
	Wants   string            `json:"wants,omitempty"`   // what the server itself wants of it, where that does not fit
}

// Builds lists the parts of a server of which one is used, and those that lie beside it, each with the mods that are
// not made for it.
func (a *App) Builds(name string) ([]PartThere, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	now := survey.Take(s.input())
	read := func(name string) ([]byte, error) { return survey.Source(s.disk(), name) }
	list := []PartThere{}
	for i := range s.Dialect.Parts {
		p := &s.Dialect.Parts[i]
		if p.Of == dialect.PartLoader {
			one, err := a.loader(s, now, p)
			if err != nil {
				return nil, err
			}
			list = append(list, one)
		}
		if !p.Chosen() {
			continue
		}
		used, said, problem := s.used(p, read)
		spots := s.spots(p)
		if at := s.led(used); used != "" && at != used && slices.ContainsFunc(spots, func(o part.Spot) bool { return o.Path == at }) {
			said = strings.TrimPrefix(said+", through the link "+s.short(used), ", ")
			spots = slices.DeleteFunc(spots, func(o part.Spot) bool { return o.Path == used })
			used = at
		}
		if used != "" && !slices.ContainsFunc(spots, func(o part.Spot) bool { return o.Path == used }) {
			spots = append(spots, part.Spot{Path: used})
		}
		for _, o := range spots {
			one := PartThere{Part: p.Name, Of: p.Of, About: p.About, Version: text.Clean(o.Version), Path: text.Clean(o.Path), Used: o.Path == used}
			if one.Used {
				one.Said, one.Problem = text.Clean(said), text.Clean(problem)
			}
			if info, err := fs.Stat(s.disk(), relative(filepath.Clean(o.Path))); err == nil {
				one.Changed = info.ModTime()
			}
			a.fits(s, now, p, o.Path, &one)
			list = append(list, one)
		}
	}
	return list, nil
}

// loader tells of what is laid over a server.
func (a *App) loader(s *Server, now *survey.Survey, p *dialect.Part) (one PartThere, err error) {
	folder, there := s.over(p)
	one = PartThere{Part: p.Name, Of: p.Of, About: p.About, Path: text.Clean(folder), Used: there, Absent: !there}
	a.fits(s, now, p, folder, &one)
	if !there {
		one.Problem = ""
		return one, nil
	}
	if info, err := fs.Stat(s.disk(), relative(path.Join(folder, p.Mark[0]))); err == nil {
		one.Changed = info.ModTime()
	}
	l, err := a.ledger()
	if err != nil {
		return one, err
	}
	laid, err := l.Laid(s.Record.Name, p.Name, func(other string) bool { return now.Find(other) != nil })
	for _, f := range laid {
		one.Laid = append(one.Laid, text.Clean(f.Path))
	}
	if one.Said = "found there"; len(laid) > 0 {
		one.Said = "laid over it"
	}
	return one, err
}

// fits finds out the version of one of a part, and the mods that are not made for it.
func (a *App) fits(s *Server, now *survey.Survey, p *dialect.Part, full string, one *PartThere) {
	b := s.Dialect.Build(dialect.BuildOf(p.Of))
	if b == nil {
		return
	}
	with := *s
	with.uses = map[string]string{p.Name: full}
	with.Missing = map[string]string{}
	a.resolve(&with)
	version, err := a.version(&with, now, b)
	if err != nil && !one.Absent {
		one.Problem = cmp.Or(one.Problem, text.Clean(err.Error()))
		return
	}
	one.Version = text.Clean(version)
	if one.Absent {
		one.Wants = b.Wants
	} else if ok, err := mod.Fits(version, b.Wants, b.Versions); err == nil && !ok {
		one.Wants = b.Wants
	}
	for i := range now.Mods {
		m := &now.Mods[i]
		wants := map[dialect.BuildOf]string{dialect.BuildServer: m.Manifest.Server, dialect.BuildLoader: m.Manifest.Loader, dialect.BuildRuntime: m.Manifest.Runtime}[b.Of]
		if !m.On || forecast.Misfits(m, s.Dialect, map[dialect.BuildOf]string{b.Of: version}) == "" {
			continue
		}
		if one.Unfit == nil {
			one.Unfit = map[string]string{}
		}
		one.Unfit[text.Clean(m.Name)] = text.Clean(wants)
	}
}

// UseOf is the change that uses another one of a part: by its version or path, and, where the server has several parts
// to choose from, by the name of that.
func (a *App) UseOf(name, partName, which string) (lineup.Change, error) {
	s, err := a.Server(name)
	if err != nil {
		return lineup.Change{}, err
	}
	p, err := s.partFor(partName, which)
	if err != nil {
		return lineup.Change{}, err
	}
	return lineup.Change{Op: lineup.OpUse, Mod: p.Name, To: which}, nil
}

// partFor is the part that something is about: the one of a name, or the only one that has such a version.
func (s *Server) partFor(name, which string) (*dialect.Part, error) {
	var names []string
	var fit *dialect.Part
	for i := range s.Dialect.Parts {
		p := &s.Dialect.Parts[i]
		if !p.Chosen() {
			continue
		}
		names = append(names, p.Name)
		if _, err := s.pick(p, which); err == nil && (name == "" || name == p.Name) {
			if fit != nil {
				return nil, usage("several parts have a %s: %s and %s; say which (--of)", text.Clean(which), fit.Name, p.Name)
			}
			fit = p
		}
	}
	switch {
	case fit != nil:
		return fit, nil
	case len(names) == 0:
		return nil, usage("the dialect %s knows of no part of which several could lie side by side ([[part]])", s.Dialect.Name)
	}
	p := s.Dialect.Part(name)
	if p == nil {
		return nil, usage("there is no %s; say of which part (--of %s)", text.Clean(which), strings.Join(names, " or --of "))
	}
	_, err := s.pick(p, which)
	return nil, UsageError{err}
}

// LayOf are the changes that lay one of a part beside those that are there, or a loader over the server. Where nothing
// says yet which is used, that is said with it, so that the new one is not taken by itself.
func (a *App) LayOf(ctx context.Context, name, partName, source, version string, choices lineup.Choices) ([]lineup.Change, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	source, err = filepath.Abs(source)
	if err != nil {
		return nil, err
	}
	p, err := a.comingPart(ctx, s, partName, source)
	if err != nil {
		return nil, err
	}
	changes := []lineup.Change{{Op: lineup.OpLay, Mod: p.Name, To: version, Source: source, Choices: &choices}}
	if !p.Chosen() {
		return changes, nil
	}
	full, said, problem := s.used(p, readFile)
	if said == "" && problem == "" && full != "" && s.asks(p) {
		changes = append([]lineup.Change{{Op: lineup.OpUse, Mod: p.Name, To: s.short(full)}}, changes...)
	}
	return changes, nil
}

// comingPart is the part that is in a source: the one of a name, or the only one of which it has the marks.
func (a *App) comingPart(ctx context.Context, s *Server, name, source string) (*dialect.Part, error) {
	var names []string
	fit := map[string]*dialect.Part{}
	for i := range s.Dialect.Parts {
		if p := &s.Dialect.Parts[i]; p.Comes() {
			names, fit[p.Name] = append(names, p.Name), p
		}
	}
	switch {
	case fit[name] != nil:
		return fit[name], nil
	case len(names) == 0:
		return nil, usage("the dialect %s knows of no part that could be brought ([[part]])", s.Dialect.Name)
	case name != "":
		return nil, usage("there is no part %q; say of which part it is (--of %s)", text.Clean(name), strings.Join(names, " or --of "))
	}
	in, err := a.partsIn(ctx, s, source)
	if err != nil {
		return nil, err
	}
	if in = slices.DeleteFunc(in, func(n string) bool { return fit[n] == nil }); len(in) == 1 {
		return fit[in[0]], nil
	}
	if len(names) == 1 {
		return fit[names[0]], nil
	}
	return nil, usage("say of which part it is (--of %s)", strings.Join(names, " or --of "))
}

// Foreseen is what changes would come to, with what check would say then and does not say now, and the other way round.
type Foreseen struct {
	Plan   *plan.Plan
	Comes  []check.Finding
	Mended []check.Finding
}

// Foresee works out what changes would come to, on top of what is staged.
func (a *App) Foresee(ctx context.Context, name string, changes ...lineup.Change) (*Foreseen, error) {
	s, p, err := a.planAfterStaged(ctx, name)
	if err != nil {
		return nil, err
	}
	made, seen := p.Plan()
	before, err := a.look(a.planned(s, seen, a.overlay(made.Parts, made.Files...)), seen)
	if err != nil {
		return nil, err
	}
	if err := p.Make(changes...); err != nil {
		return nil, asUsage(err)
	}
	f := &Foreseen{}
	f.Plan, seen = p.Plan()
	ahead, err := a.look(a.planned(s, seen, a.overlay(f.Plan.Parts, f.Plan.Files...)), seen)
	if err != nil {
		return nil, err
	}
	f.Comes, f.Mended = others(ahead.Findings, before.Findings), others(before.Findings, ahead.Findings)
	return f, nil
}

// fitting finds, for a build that does not fit what the server wants of it, the newest that lies beside it and does.
func (a *App) fitting(s *Server, now *survey.Survey, builds map[dialect.BuildOf]check.Build) map[dialect.BuildOf]lineup.Change {
	if s.Record.Host != "" {
		return nil
	}
	found := map[dialect.BuildOf]lineup.Change{}
	for i := range s.Dialect.Parts {
		p := &s.Dialect.Parts[i]
		b := s.Dialect.Build(dialect.BuildOf(p.Of))
		if !p.Chosen() || b == nil || b.Wants == "" && s.Missing[p.Name] == "" {
			continue
		}
		if ok, err := mod.Fits(builds[b.Of].Version, b.Wants, b.Versions); builds[b.Of].Version != "" && (ok || err != nil) {
			continue
		}
		best := ""
		for _, o := range s.spots(p) {
			one := PartThere{}
			a.fits(s, now, p, o.Path, &one)
			if one.Version != "" && one.Wants == "" && one.Problem == "" && o.Path != s.Vars[p.Name] && (best == "" || mod.Compare(one.Version, best) > 0) {
				best = one.Version
				found[b.Of] = lineup.Change{Op: lineup.OpUse, Mod: p.Name, To: s.short(o.Path)}
			}
		}
	}
	return found
}
