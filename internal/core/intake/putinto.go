package intake

import (
	"fmt"
	"path"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/text"
)

// Putting is what putting a mod that is there into another folder comes to.
type Putting struct {
	Parts    []plan.Part
	Was, Now string // the category folder that it stands in, before and then; "" for none
	Last     bool   // it is the last of its old category
}

// PutInto works out how a mod comes into another of the folders that mods stand in: a place of the family, a bundle, or
// a category folder, which may be a new one.
func PutInto(name, into string, target *Target) (*Putting, error) {
	s := target.Survey
	m := s.Find(name)
	switch {
	case m == nil:
		return nil, s.Unknown(name)
	case m.Base || m.Path == "" || m.Place < 0:
		return nil, fmt.Errorf("%s is not put anywhere else: it belongs to the server itself, or its files are not there", text.Clean(name))
	}
	x := &assigner{Intake: &Intake{}, target: target, choices: &lineup.Choices{Into: into}, dir: path.Clean(s.Vars["dir"])}
	place, dir := x.home(&Mod{Place: m.Place, Single: s.Dialect.Places[m.Place].File != ""})
	if place < 0 {
		return nil, fmt.Errorf("%s is no place that %s could be put into; there is %s", text.Clean(into), text.Clean(name), text.Clean(x.places()))
	}
	full := path.Join(dir, path.Base(m.Path))
	switch {
	case full == m.Path:
		return nil, fmt.Errorf("%s stands there already", text.Clean(name))
	case target.Exists(full):
		return nil, fmt.Errorf("%s is there already", text.Clean(full))
	case !target.Writable(path.Dir(m.Path)):
		return nil, fmt.Errorf("%s cannot be taken out of %s: that folder cannot be written to", text.Clean(name), text.Clean(path.Dir(m.Path)))
	}
	items, err := target.List(m.Path)
	if err != nil || len(items) == 0 {
		return nil, fmt.Errorf("%s cannot be read: %w", text.Clean(m.Path), err)
	}
	digest := plan.Digest(items)
	for i := range items {
		items[i].Source, items[i].From = "", items[i].Rel // as it lies there
	}
	comes := plan.Part{Path: full, From: m.Path, Mod: name, What: plan.TheMod, New: digest, Items: items}
	if release, ok := target.Release(m.Path); ok {
		comes.Base, comes.Release = plan.Digest(release), release
	}
	x.Parts = []plan.Part{comes, {Path: m.Path, Mod: name, What: plan.TheMod, Old: digest}}
	x.folders()
	p := &Putting{Parts: x.Parts, Was: CategoryOf(s.Dialect, m.Place, path.Dir(m.Path)), Now: CategoryOf(s.Dialect, place, dir)}
	p.Last = (&Removal{Mod: m}).lastOfGroup(s)
	return p, nil
}

// CategoryOf is the name of a category folder, "" for what is none.
func CategoryOf(d *dialect.Dialect, place int, dir string) string {
	if mark, base := d.Places[place].Group, path.Base(dir); mark != "" && strings.HasPrefix(base, mark) {
		return base
	}
	return ""
}
