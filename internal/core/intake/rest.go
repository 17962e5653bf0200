package intake

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/mod"
	"initium/internal/core/plan"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// keys places the key files that mods bring, and those that came beside them.
func (x *assigner) keys() {
	into, ok := x.target.Survey.Vars.Expand(x.Found.Dialect.Keys.Into)
	if !ok || x.Found.Dialect.Keys.Files == "" {
		return
	}
	put := func(name, about string) {
		full := path.Join(into, path.Base(name))
		if there, err := x.target.List(full); err == nil && len(there) == 1 && there[0].Sum == x.x.entries[name].Sum {
			x.Keys = append(x.Keys, path.Base(name))
			return
		}
		if other, ok := x.comes[full]; ok {
			if !x.sameKey(full, name) {
				x.problem("%s and %s bring different keys called %s", text.Clean(other), text.Clean(about), text.Clean(path.Base(name)))
			}
			return
		}
		x.single(name, full, about, "a key")
	}
	for _, p := range x.Mods {
		if p.Single {
			continue
		}
		x.x.each(p.Root, func(name string) {
			rel := strings.TrimPrefix(strings.TrimPrefix(name, p.Root), "/")
			if fits, _ := path.Match(x.Found.Dialect.Keys.Files, rel); fits {
				put(name, p.Name)
			}
		})
	}
	for _, name := range x.Found.Keys {
		put(name, x.whoseKey(name))
	}
	slices.Sort(x.Keys)
}

// sameKey tells whether a key that is to be put in place already has the bytes of
// another.
func (x *assigner) sameKey(full, name string) bool {
	for i := range x.Parts {
		if x.Parts[i].Path == full {
			return x.Parts[i].Items[0].Sum == x.x.entries[name].Sum
		}
	}
	return false
}

// whoseKey is the mod that a key beside the mods belongs to: the only one, or the
// one that is called like it.
func (x *assigner) whoseKey(name string) string {
	stem := strings.TrimSuffix(path.Base(name), path.Ext(name))
	for _, p := range x.Mods {
		if len(x.Mods) == 1 || likeness(p.Name) == likeness(stem) {
			return p.Name
		}
	}
	return stem
}

// extras places maps and overlays, and gathers what is left to the operator.
func (x *assigner) extras() {
	about := BareName(path.Base(x.Found.Name))
	if len(x.Mods) == 1 {
		about = x.Mods[0].Name
	}
	laid := map[string]bool{}
	defer func() { x.lifted(about, laid) }()
	for _, e := range x.Found.Extras {
		into, ok := x.target.Survey.Vars.Expand(e.Content.Into)
		switch {
		case e.Content.Kind.Placed() && ok:
			laid[path.Join(into, e.Below)] = true
			x.single(e.Path, path.Join(into, e.Below), about, map[dialect.ContentKind]string{dialect.ContentMap: plan.LaidMap, dialect.ContentOverlay: plan.Laid}[e.Content.Kind])
		case e.Content.Merged() && ok:
			x.brings(e.Path, x.whoseKey(e.Path), e.Content, into)
		default:
			step := Step{Path: e.Path, About: stepWords(e.Content, into), Mod: x.whoseStep(e.Path)}
			if e.Content.Kind == dialect.ContentDatabase {
				step.Sum = fmt.Sprintf("%x", x.x.entries[e.Path].Sum)
			}
			x.Steps = append(x.Steps, step)
		}
	}
	for i := range x.Found.Dialect.Contents {
		c := &x.Found.Dialect.Contents[i]
		into, ok := x.target.Survey.Vars.Expand(c.Into)
		if !c.Merged() || !ok {
			continue
		}
		for _, p := range x.Mods {
			if p.Single {
				continue
			}
			x.x.each(p.Root, func(name string) {
				if _, fits := c.Fits(strings.TrimPrefix(strings.TrimPrefix(name, p.Root), "/")); fits {
					x.brings(name, p.Name, c, into)
				}
			})
		}
	}
}

// lifted takes out what an earlier release has put among the server's own, and this one does not bring.
func (x *assigner) lifted(about string, comes map[string]bool) {
	list, err := x.target.Laid(about)
	if err != nil {
		x.problem("what came with %s before cannot be told: %v", text.Clean(about), err)
		return
	}
	list = slices.DeleteFunc(list, func(f Laid) bool { return comes[f.Path] })
	parts, left, problems := lift(x.target, about, list)
	for _, p := range parts {
		x.add(p)
	}
	x.Left, x.Problems = append(x.Left, left...), append(x.Problems, problems...)
}

// brings notes a file with entries for a table.
func (x *assigner) brings(name, mod string, c *dialect.Content, into string) {
	data, err := x.x.read(name)
	if err != nil {
		x.problem("the entries in %s cannot be read: %v", text.Clean(name), err)
		return
	}
	x.Brings = append(x.Brings, Shipped{mod, c, into, name, data})
}

// whoseStep is the mod that something beside the mods is for: the one that it is called like, or else the
// first; "" where no mod comes.
func (x *assigner) whoseStep(name string) string {
	mod := x.whoseKey(name)
	if len(x.Mods) > 0 && !slices.ContainsFunc(x.Mods, func(p Placed) bool { return p.Name == mod }) {
		return x.Mods[0].Name
	}
	return mod
}

// stepWords says what is to be done with content that Initium does not place.
func stepWords(c *dialect.Content, into string) string {
	what := c.About
	if what == "" {
		what = string(c.Kind)
	}
	switch {
	case c.Kind == dialect.ContentData && into != "":
		return what + "; its entries go into " + path.Base(into)
	case c.Kind == dialect.ContentDatabase:
		return what + "; run it once against the server's database"
	}
	return what
}

// order reads the order of a bundle's mods from a startup file that came along,
// and makes rules of it, where their needs do not say the same already.
func (x *assigner) order() (rules []rule.Rule) {
	for _, name := range x.Found.Lists {
		data, err := x.x.read(name)
		if err != nil {
			continue
		}
		listed := x.listed(name, data)
		for i := 1; i < len(listed); i++ {
			before, after := listed[i-1], listed[i]
			if !x.needs(after, before) {
				rules = append(rules, rule.Rule{Kind: rule.After, Mod: after, Other: before,
					Because: text.Clean(path.Base(name)) + " of " + text.Clean(path.Base(x.Found.Name)) + " lists them so"})
			}
		}
	}
	return rules
}

// listed are the mods that are taken in, in the order of a startup file.
func (x *assigner) listed(name string, data []byte) (names []string) {
	d, vars := x.Found.Dialect, x.target.Survey.Vars
	files := map[string]bool{} // where the server has such a file
	for i := range d.Registrations {
		if full, ok := vars.Expand(d.Registrations[i].File); ok && slices.Contains(listNames(d, &d.Registrations[i]), path.Base(name)) {
			files[full] = true
		}
	}
	l := lineup.Read(d, vars, func(file string) ([]byte, error) {
		if files[file] {
			return data, nil
		}
		return nil, fs.ErrNotExist
	}, nil)
	for _, e := range l.Entries {
		if e.On && !slices.Contains(names, e.Name) && slices.ContainsFunc(x.Mods, func(p Placed) bool { return p.Name == e.Name }) {
			names = append(names, e.Name)
		}
	}
	return names
}

func (x *assigner) needs(name, other string) bool {
	for _, p := range x.Mods {
		if p.Name == name {
			return slices.ContainsFunc(p.Manifest.Needs, func(n mod.Need) bool { return n.Name == other })
		}
	}
	return false
}

// Lacking are the needs of the mods that are taken in that would still be open.
func (in *Intake) Lacking(s *survey.Survey) map[string][]string {
	var along []string
	for _, p := range in.Mods {
		along = append(along, p.Name)
		along = append(along, p.Manifest.Provides...)
	}
	open := map[string][]string{}
	for _, p := range in.Mods {
		if names := lacking(s, &p.Manifest, along); len(names) > 0 {
			open[p.Name] = names
		}
	}
	return open
}
