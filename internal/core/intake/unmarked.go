package intake

import (
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
)

// unmarked finds the folders that are mods of a family in which nothing marks one: where every
// folder that lies among the mods is a mod. Where a mod shows itself all the same, by a file in
// which it says what it is, that is believed instead.
func (x *examiner) unmarked() {
	place := slices.IndexFunc(x.Dialect.Places, func(p dialect.Place) bool {
		return p.File == "" && p.Loads != dialect.LoadsBase && len(p.Mark) == 0 && p.Main == ""
	})
	if place < 0 {
		return
	}
	for dir, files := range x.children {
		if _, shown := x.asMod(dir); shown != "" {
			return
		}
		for _, name := range files {
			if slices.ContainsFunc(x.Dialect.Places, func(p dialect.Place) bool { _, ok := stem(p.File, path.Base(name)); return ok }) {
				return
			}
		}
	}
	x.plain = map[string]int{}
	x.folders("", place)
}

// folders takes the folders in a folder for mods, or it itself.
func (x *examiner) folders(dir string, place int) {
	var inner []string
	own := 0 // files that belong to nothing else
	for _, name := range x.children[dir] {
		e := x.entries[name]
		switch {
		case isLitter(name):
		case e.Kind == Folder || e.Inside != nil:
			if x.ownFiles(name) > 0 {
				inner = append(inner, name)
			}
		case !isNote(path.Base(name)) && !x.belongsElsewhere(name):
			own++
		}
	}
	base := path.Base(dir)
	around := dir == "" || // the archive itself
		slices.ContainsFunc(x.Dialect.Places, func(p dialect.Place) bool { return p.Group != "" && strings.HasPrefix(base, p.Group) }) ||
		base == path.Base(x.Dialect.Places[place].Path) || // the folder of the mods came along
		len(inner) == 1 && (path.Base(inner[0]) == base || // a folder twice
			!strings.Contains(dir, "/") && BareName(base) == BareName(archiveSuffix.ReplaceAllString(path.Base(x.Name), ""))) // one around it that is called as the archive
	switch {
	case own > 0 || !around && len(inner) > 0:
		x.plain[dir] = place
	default:
		for _, name := range inner {
			x.folders(name, place)
		}
	}
}

// ownFiles counts the files below a folder, or in an archive, that could be a mod's.
func (x *examiner) ownFiles(dir string) (n int) {
	for _, name := range x.children[dir] {
		switch e := x.entries[name]; {
		case isLitter(name):
		case e.Kind == Folder || e.Inside != nil:
			n += x.ownFiles(name)
		case !x.belongsElsewhere(name):
			n++
		}
	}
	return n
}

// belongsElsewhere tells files that the family has another place for than a mod.
func (x *examiner) belongsElsewhere(name string) bool {
	base := path.Base(name)
	return x.isKey(name) || slices.ContainsFunc(x.Dialect.Contents, func(c dialect.Content) bool {
		_, ok := c.Fits(name)
		return ok
	}) || slices.ContainsFunc(x.Dialect.Registrations, func(r dialect.Registration) bool {
		return slices.Contains(listNames(x.Dialect, &r), base)
	})
}
