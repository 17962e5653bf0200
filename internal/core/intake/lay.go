package intake

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/part"
	"initium/internal/core/plan"
	"initium/internal/core/text"
)

// Laying is what laying a part of a server in its place comes to.
type Laying struct {
	Part    *dialect.Part
	Root    string // the folder in the source, "" for all of it
	Version string // "" where the part has a place for one only
	Path    string // where it goes
	Parts   []plan.Part
	There   bool // the same is there already

	// Of what is laid over what is there:
	Overlaps  []Overlap
	Questions []Question
	Left      []Left // of what was laid there before and cannot be taken out
	Problems  []string
}

// RootOf finds the folder in a source that is a part of a server: the highest that has all of its marks. There is none
// in ok where none has, and several in more where others are as high.
func RootOf(tree *Tree, p *dialect.Part) (root string, more []string, ok bool) {
	x := &examiner{Found: &Found{Tree: tree}, children: map[string][]string{}, entries: map[string]*Entry{}}
	x.index(tree, "")
	var found []string
	level := []string{""}
	for len(level) > 0 && len(found) == 0 && len(p.Mark) > 0 {
		var next []string
		for _, dir := range level {
			if !slices.ContainsFunc(p.Mark, func(m string) bool { return x.entries[join(dir, m)] == nil }) {
				found = append(found, dir)
			}
			for _, name := range x.children[dir] {
				if e := x.entries[name]; e.Kind == Folder || e.Inside != nil {
					next = append(next, name)
				}
			}
		}
		level = next
	}
	if len(found) == 0 {
		return "", nil, false
	}
	return found[0], found[1:], true
}

// inNames is a version at the end of a name, or all of it.
var inNames = regexp.MustCompile(`(?i)(?:^|[-_. ])v?(\d+(?:\.\d+)*(?:[-_.+]?(?:a|b|alpha|beta|rc|pre|build)?\.?\d+)*)$`)

// VersionIn is the version that a name of a folder or an archive has; "" for none.
func VersionIn(name string) string {
	for archiveSuffix.MatchString(name) {
		name = archiveSuffix.ReplaceAllString(name, "")
	}
	if m := inNames.FindStringSubmatch(name); m != nil {
		return m[1]
	}
	return ""
}

// goodVersion is what a version may be that becomes part of a folder's name.
var goodVersion = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z._+-]*$`)

// Lay works out where a part of a server goes that was found in a source. version is what the operator calls it, ""
// for what its folder or archive is called. What is there already is never written over, but for what a loader replaces:
// that is asked about, as choices do not say it.
func Lay(tree *Tree, source string, p *dialect.Part, version string, target *Target, choices *lineup.Choices) (*Laying, error) {
	name := text.Clean(path.Base(source))
	root, more, ok := RootOf(tree, p)
	switch {
	case !ok:
		return nil, fmt.Errorf("there is no %s in %s: no folder in it has %s", cmp.Or(p.About, p.Name), name, strings.Join(p.Mark, " and "))
	case len(more) > 0:
		return nil, fmt.Errorf("there are several in %s that could be %s: %s; unpack the one that is meant", name, cmp.Or(p.About, p.Name), text.Clean(strings.Join(append([]string{root}, more...), ", ")))
	}
	l := &Laying{Part: p, Root: root}
	vars := target.Survey.Vars
	several := slices.ContainsFunc(p.Paths, func(f string) bool { return strings.Contains(f, "{version}") })
	if several {
		if l.Version = cmp.Or(version, VersionIn(path.Base(root)), VersionIn(path.Base(source))); l.Version == "" {
			return nil, fmt.Errorf("which version %s is of, its name does not say; say it", name)
		}
		if !goodVersion.MatchString(l.Version) || len(l.Version) > 100 {
			return nil, fmt.Errorf("the version %q cannot be the name of a folder", text.Clean(l.Version))
		}
		l.Path, ok = part.At(p, vars, l.Version)
	} else {
		places := p.Places(vars)
		if ok = len(places) > 0; ok {
			l.Path = places[0]
		}
	}
	if !ok || !path.IsAbs(l.Path) {
		return nil, fmt.Errorf("where %s goes cannot be told", cmp.Or(p.About, p.Name))
	}
	x := &assigner{Intake: &Intake{Found: &Found{Tree: tree, Name: source}}, target: target, choices: choices, source: source, dir: path.Clean(vars["dir"]), comes: map[string]string{}}
	x.x = &examiner{Found: x.Found, children: map[string][]string{}, entries: map[string]*Entry{}}
	x.x.index(tree, "")
	if p.Of == dialect.PartLoader {
		return l, x.layOver(l)
	}
	items := x.items(&Mod{Root: root})
	one := plan.Part{Path: l.Path, What: "the " + strings.TrimPrefix(cmp.Or(p.About, p.Name), "the "), Items: items, New: plan.Digest(items)}
	one.Base = one.New
	there, err := target.List(l.Path)
	switch {
	case err != nil:
		return nil, fmt.Errorf("%s cannot be read: %w", text.Clean(l.Path), err)
	case len(there) > 0 && plan.Digest(there) == one.New:
		l.There = true
		return l, nil
	case len(there) == 1 && there[0].Folder && there[0].Rel == "": // an empty folder
		one.Old = plan.Digest(there)
	case len(there) > 0:
		return nil, fmt.Errorf("%s is there already, with other files; nothing is laid over it", text.Clean(l.Path))
	}
	x.add(one)
	x.folders()
	l.Parts = x.Parts
	return l, nil
}

// layOver lays files among those that are there. What an earlier one has laid there goes, unless it comes again.
func (x *assigner) layOver(l *Laying) error {
	name := l.Part.Name
	if m := x.target.Survey.Find(name); m != nil {
		return fmt.Errorf("there is a mod that is called %s as %s is, and what came with which could not be told apart", text.Clean(name), cmp.Or(l.Part.About, "the part"))
	}
	comes := map[string]bool{}
	for _, item := range x.items(&Mod{Root: l.Root}) {
		full := path.Join(l.Path, item.Rel)
		if item.Folder {
			continue // an empty one is no part of what makes a loader work
		}
		comes[full] = true
		if there, err := x.target.List(full); err == nil && len(there) == 0 && x.target.Exists(full) {
			x.problem("%s comes with another change of this plan; apply that first", full)
			continue
		}
		x.single(join(l.Root, item.Rel), full, name, plan.Laid)
	}
	x.lifted(name, comes)
	x.folders()
	l.Parts, l.Overlaps, l.Questions, l.Left, l.Problems = x.Parts, x.Overlaps, x.Questions, x.Left, x.Problems
	l.There = len(l.Parts) == 0
	return nil
}
