package intake

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// assigner works out what taking something in comes to.
type assigner struct {
	*Intake
	target  *Target
	choices *lineup.Choices
	dir     string // of the server
	source  string
	x       *examiner // the tree, with nested archives opened
	comes   map[string]string
}

// Assign works out where on a server everything goes that was found, what it
// overlaps, and what has to be asked. source is what the files are copied from.
func Assign(found *Found, source string, target *Target, choices lineup.Choices) *Intake {
	x := &assigner{Intake: &Intake{Found: found}, target: target, choices: &choices, source: source,
		dir: path.Clean(target.Survey.Vars["dir"]), comes: map[string]string{}}
	x.x = &examiner{Found: found, children: map[string][]string{}, entries: map[string]*Entry{}}
	x.x.index(found.Tree, "")
	mods := x.chosen()
	if len(x.Problems) > 0 {
		return x.Intake
	}
	for _, m := range mods {
		x.place(m)
	}
	x.bundleFiles()
	x.keys()
	x.extras()
	x.Rules = x.order()
	x.folders()
	return x.Intake
}

// folders puts those before the parts that have to be made for them.
func (x *assigner) folders() {
	made := map[string]bool{}
	var list []plan.Part
	for _, p := range x.Parts {
		var missing []string
		for dir := path.Dir(p.Path); !made[dir] && dir != "/" && !x.target.Exists(dir); dir = path.Dir(dir) {
			made[dir] = true
			missing = append(missing, dir)
		}
		for _, dir := range slices.Backward(missing) {
			list = append(list, plan.Part{Path: dir, What: "a folder", New: plan.EmptyFolder})
		}
	}
	x.Parts = append(list, x.Parts...)
}

// choice is the operator's answer about a path.
func (x *assigner) choice(full string) lineup.Choice {
	return x.choices.About(strings.TrimPrefix(full, x.dir+"/"), full)
}

func (x *assigner) problem(format string, args ...any) {
	x.Problems = append(x.Problems, fmt.Sprintf(format, args...))
}

// chosen are the mods that are wanted of those that were found.
func (x *assigner) chosen() (mods []*Mod) {
	found := x.Found
	placed := slices.ContainsFunc(found.Extras, func(e Extra) bool { return e.Content.Kind.Placed() })
	if len(found.Mods) == 0 && !placed {
		x.problem("nothing in %s is a mod for %s: %s", text.Clean(path.Base(found.Name)), found.Dialect.Title, wants(found))
		return nil
	}
	var names []string
	for i := range found.Mods {
		m := &found.Mods[i]
		names = append(names, m.Name)
		if len(x.choices.Only) == 0 || slices.Contains(x.choices.Only, m.Name) || slices.Contains(x.choices.Only, m.Root) {
			mods = append(mods, m)
		}
	}
	for _, o := range x.choices.Only {
		if !slices.ContainsFunc(mods, func(m *Mod) bool { return m.Name == o || m.Root == o }) {
			if len(names) == 0 {
				x.problem("there is no mod %q in %s; no mod was found in it", text.Clean(o), text.Clean(path.Base(found.Name)))
				continue
			}
			x.problem("there is no mod %q in %s; there are: %s", text.Clean(o), text.Clean(path.Base(found.Name)), text.Clean(strings.Join(names, ", ")))
		}
	}
	if x.choices.As != "" {
		if len(mods) != 1 {
			x.problem("a name can be given when one mod is taken in, and here are %d; choose one of them", len(mods))
			return nil
		}
		if r, bad := found.Dialect.Names.Forbidden(x.choices.As); bad || strings.ContainsAny(x.choices.As, `/\`) || strings.HasPrefix(x.choices.As, ".") || strings.TrimSpace(x.choices.As) != x.choices.As || text.Clean(x.choices.As) != x.choices.As || len(x.choices.As) > maxName {
			x.problem("the name %q cannot be used; %s", text.Clean(x.choices.As), allowedWords(found, r))
			return nil
		}
		mods[0].Naming = Naming{Name: x.choices.As, Why: "you have said so"}
	}
	by := map[string]*Mod{}
	for _, m := range mods {
		if other := by[m.Name]; other != nil {
			x.problem("two mods in it are called %s: %s and %s; choose one of them by its folder", text.Clean(m.Name), text.Clean(other.Root), text.Clean(m.Root))
		}
		by[m.Name] = m
		if m.Mended != "" && !x.choices.Agree && !slices.Contains(x.choices.Agreed, m.Name) {
			x.Questions = append(x.Questions, Question{About: m.Name,
				Text:    fmt.Sprintf("It came as %q, which %s does not allow as a name. Is %s right?", text.Clean(m.Mended), found.Dialect.Title, m.Name),
				Answers: []Answer{AnswerAgree, AnswerName}})
		}
	}
	return mods
}

func allowedWords(f *Found, r rune) string {
	if r == 0 || f.Dialect.Names.Allowed == "" {
		return "a name has no slash in it, no dot before it and no blank around it"
	}
	return fmt.Sprintf("%s does not allow %q in names (allowed: %s)", f.Dialect.Title, r, f.Dialect.Names.Allowed)
}

// wants says by what a mod of the family would be known.
func wants(f *Found) string {
	var words []string
	add := func(s string) {
		if s != "" && !slices.Contains(words, s) {
			words = append(words, s)
		}
	}
	for _, p := range f.Dialect.Places {
		for _, m := range p.Mark {
			add(m)
		}
		add(p.Main)
		add(strings.ReplaceAll(p.File, "{mod}", "…"))
	}
	for _, m := range f.Dialect.Manifests {
		add(m.File)
	}
	if len(words) == 0 {
		return "there is no folder in it"
	}
	return "there is no " + strings.Join(words, " and no ") + " in it"
}

// place finds out where a mod goes and what becomes of each of its files.
func (x *assigner) place(m *Mod) {
	p := Placed{Mod: m}
	if there := x.target.Survey.Find(m.Name); x.replaceable(there) {
		p.There, p.Path = there, there.Path
		m.Place = there.Place
	} else {
		place, dir := x.home(m)
		if place < 0 {
			if x.choices.Into != "" {
				x.problem("%s is no place that %s could be put into; there is %s", text.Clean(x.choices.Into), text.Clean(m.Name), text.Clean(x.places()))
				return
			}
			x.problem("there is no place on the server that %s could be put into and that can be written to", text.Clean(m.Name))
			return
		}
		m.Place = place
		if m.In != nil {
			dir = path.Join(dir, m.In.Name)
		}
		name := m.Name
		if m.Single {
			var ok bool
			if name, ok = x.fileOf(place, m); !ok {
				x.problem("the release of %s is not known, which has to be in the name of its file", text.Clean(m.Name))
				return
			}
		}
		p.Path = path.Join(dir, name)
	}
	x.newName(&p)
	p.Listed = x.target.Survey.Dialect.Places[m.Place].Loads == "registered"
	items := x.items(m)
	there, err := x.target.List(p.Path)
	if err != nil {
		x.problem("%s cannot be read: %v", p.Path, err)
		return
	}
	part := plan.Part{Path: p.Path, Mod: m.Name, What: plan.TheMod, Base: plan.Digest(items)}
	switch {
	case len(there) == 1 && there[0].Folder && there[0].Rel == "":
		part.Old, part.Items = plan.Digest(there), items // an empty folder
	case len(there) == 0:
		part.Items = items
	case p.There == nil && x.choice(p.Path) == lineup.Keep:
		return // what is there stays, and the mod out
	case p.There == nil && x.choice(p.Path) != lineup.Take:
		part.Items = items
		x.ask(p.Path, m.Name, fmt.Sprintf("There is something at this place already that is no mod (%d files).", len(there)), false)
	default:
		part.Old = plan.Digest(there)
		part.Items, part.Notes = x.renew(m, p.Path, items, there)
		part.Release = items
		p.Notes = part.Notes
	}
	part.New = plan.Digest(part.Items)
	x.Mods = append(x.Mods, p)
	if part.New != part.Old {
		x.add(part)
	}
}

// newName lets a mod that is one file and whose file is not called by its own name, but as
// it was when it was downloaded, keep to that: the new release comes under its new name, and
// the old file goes.
func (x *assigner) newName(p *Placed) {
	place := &x.target.Survey.Dialect.Places[p.Mod.Place]
	fill := func(form, name string) string { return strings.ReplaceAll(form, "{mod}", name) }
	if place.HasRelease() && p.There != nil && p.Single {
		if name, ok := x.fileOf(p.Mod.Place, p.Mod); ok {
			x.takesPlace(p, path.Join(path.Dir(p.Path), name))
		}
		return
	}
	if p.There == nil || !p.Single || slices.Contains([]string{fill(place.File, p.Name), fill(place.Aside, p.Name)}, path.Base(p.Path)) {
		return
	}
	comes, ok := stem(place.File, path.Base(p.Root))
	if !ok {
		return
	}
	form := place.File
	if _, off := stem(place.Aside, path.Base(p.Path)); off {
		form = place.Aside
	}
	x.takesPlace(p, path.Join(path.Dir(p.Path), fill(form, comes)))
}

// fileOf is what the file of a mod is called in a place; ok is false where that needs a release, and
// none is known.
func (x *assigner) fileOf(place int, m *Mod) (name string, ok bool) {
	p := &x.target.Survey.Dialect.Places[place]
	_, release, _ := dialect.NameIn(p.File, path.Base(m.Root))
	release = cmp.Or(release, m.Manifest.Release)
	return dialect.Call(p.File, m.Name, release), release != "" || !p.HasRelease()
}

// takesPlace lets the new release come under another name than the old one has, which goes.
func (x *assigner) takesPlace(p *Placed, full string) {
	old, err := x.target.List(p.Path)
	if full == p.Path || err != nil {
		return
	}
	x.add(plan.Part{Path: p.Path, Mod: p.Name, What: plan.TheMod, Old: plan.Digest(old)})
	p.Path = full
}

// replaceable tells whether a new release goes where the mod is. One that several
// servers share, or that came with the system, stays; the new one goes before it.
func (x *assigner) replaceable(m *survey.Mod) bool {
	if m == nil || m.Path == "" || m.Base || x.choices.Into != "" || !x.target.Writable(path.Dir(m.Path)) {
		return false
	}
	p := &x.target.Survey.Dialect.Places[m.Place]
	full, _ := x.target.Survey.Vars.Expand(p.Path) // it was, when the mod was found
	return x.own(p, path.Clean(full))
}

// add puts a part into the plan; two things never go to one place.
func (x *assigner) add(p plan.Part) {
	if other, ok := x.comes[p.Path]; ok {
		x.problem("%s and %s would both go to %s", text.Clean(other), text.Clean(p.Mod), p.Path)
		return
	}
	x.comes[p.Path] = p.Mod
	x.Parts = append(x.Parts, p)
}

// ask asks about a path that is taken already.
func (x *assigner) ask(full, about, what string, both bool) {
	rel := strings.TrimPrefix(full, x.dir+"/")
	answers := []Answer{AnswerTake, AnswerKeep}
	if both {
		answers = append(answers, AnswerBoth)
	}
	x.Questions = append(x.Questions, Question{About: full, Rel: rel, Text: text.Clean(rel) + ": " + what, Answers: answers})
}

// items are the files of a mod, as they come.
func (x *assigner) items(m *Mod) (items []plan.Item) {
	if m.Single {
		return []plan.Item{x.item(m.Root, "")}
	}
	var walk func(dir string) bool
	walk = func(dir string) (any bool) {
		for _, name := range x.x.children[dir] {
			if isLitter(name) {
				continue
			}
			any = true
			rel := strings.TrimPrefix(strings.TrimPrefix(name, m.Root), "/")
			e := x.x.entries[name]
			switch {
			case e.Kind != Folder:
				items = append(items, x.item(name, rel))
			case !walk(name):
				items = append(items, plan.Item{Rel: rel, Folder: true})
			}
		}
		return any
	}
	walk(m.Root)
	return items
}

func (x *assigner) item(name, rel string) plan.Item {
	e := x.x.entries[name]
	return plan.Item{Rel: rel, Source: x.source, From: x.from(name, e), Size: e.Size, Sum: e.Sum, Exec: e.Exec}
}

// from is the path at which a source has the bytes of an entry: that of the entry
// itself, or of the file that a link leads to.
func (x *assigner) from(name string, e *Entry) string {
	if e.of == "" {
		return name
	}
	return strings.TrimSuffix(name, e.Path) + e.of
}

// bundleFiles places what bundles have besides mods.
func (x *assigner) bundleFiles() {
	done := map[*Bundle]bool{}
	for _, p := range x.Mods {
		if p.In == nil || p.There != nil || done[p.In] || p.In.Group {
			continue
		}
		done[p.In] = true
		dir := path.Dir(p.Path)
		for _, name := range x.x.children[p.In.Root] {
			if e := x.x.entries[name]; e.Kind != Folder && e.Inside == nil && !isLitter(name) && !x.isMod(name) {
				x.single(name, path.Join(dir, path.Base(name)), p.In.Name, "the bundle")
			}
		}
	}
}

func (x *assigner) isMod(name string) bool {
	return slices.ContainsFunc(x.Found.Mods, func(m Mod) bool { return m.Root == name })
}

// single places one file, and asks when there is another one already.
func (x *assigner) single(name, full, about, what string) {
	item := x.item(name, "")
	part := plan.Part{Path: full, Mod: about, What: what, Items: []plan.Item{item}}
	part.New = plan.Digest(part.Items)
	part.Base = part.New
	there, err := x.target.List(full)
	switch {
	case err != nil:
		x.problem("%s cannot be read: %v", full, err)
		return
	case len(there) == 0:
		x.add(part)
		return
	case len(there) > 1 || there[0].Folder || there[0].Rel != "":
		x.problem("%s is a folder, and a file of that name would have to go there", full)
		return
	}
	part.Old = plan.Digest(there)
	over := Overlap{Path: full, Mod: about, Same: there[0].Sum == item.Sum, Whose: x.whose(full)}
	if over.Same {
		x.Overlaps = append(x.Overlaps, over)
		return
	}
	over.Choice = x.choice(full)
	switch over.Choice {
	case lineup.Take:
		part.Notes = []plan.Change{{Kind: plan.FileChanges}}
		x.add(part)
	case lineup.Both:
		part.Path, part.Old = beside(full, x.Found.Name), ""
		if earlier, err := x.target.List(part.Path); err == nil && len(earlier) > 0 {
			part.Old = plan.Digest(earlier)
		}
		if part.Old != part.New {
			x.add(part)
		}
	case lineup.Open:
		x.ask(full, about, fmt.Sprintf("there is a file of that name already, %s, with other bytes.", over.Whose), true)
	}
	x.Overlaps = append(x.Overlaps, over)
}

// beside is the name under which a new file waits next to an old one.
func beside(full, source string) string {
	return full + ".from-" + Mend(noNames, archiveSuffix.ReplaceAllString(path.Base(source), ""))
}

// whose says whose file is at a path.
func (x *assigner) whose(full string) string {
	if m := x.target.Survey.ByPath(full); m != nil {
		return "a file of the mod " + text.Clean(m.Name)
	}
	owner := x.target.Owner(full)
	switch {
	case owner.Mod != "":
		return "which came with " + text.Clean(owner.Mod)
	case owner.Clean:
		return "one of the server's own"
	}
	return "of which nothing is known"
}
