package forecast

import (
	"slices"

	"initium/internal/core/dialect"
	"initium/internal/core/mod"
	"initium/internal/core/survey"
)

// Fits tells whether a mod's release meets a need. A release or a range that is
// not known is no hindrance.
func Fits(need mod.Need, n *survey.Mod, notation dialect.Notation) (bool, error) {
	if need.Range == "" || n.Release == "" || notation == "" {
		return true, nil
	}
	if n.Name != need.Name { // it provides the name, and says nothing of a version under it
		return true, nil
	}
	return mod.Fits(n.Release, need.Range, notation)
}

type fated struct {
	fate dialect.Fate
	fault
}

// ownFaults lists what is wrong with a mod by itself, in the order in which
// servers tend to find out.
func (w *walker) ownFaults(m *survey.Mod) (list []fated) {
	l := &w.d.Load
	add := func(fate dialect.Fate, f fault) { list = append(list, fated{fate, f}) }
	if m.Base {
		return nil
	}
	if r, bad := w.d.Names.Forbidden(m.Name); bad {
		add(l.BadName, faultf(BadName, "", "its name holds %q, which is not allowed", r))
	}
	if m.Manifest.Problem != nil {
		add(l.Unreadable, faultf(Unreadable, "", "its manifest cannot be read: %s", m.Manifest.Problem.Message))
	}
	if w.d.Names.Agree && m.Manifest.Name != "" && m.Manifest.Name != m.Name {
		add(l.Differs, faultf(Differs, "", "its manifest is made out to %s", m.Manifest.Name))
	}
	if m.NoMain || m.Empty {
		main := ""
		if m.Place >= 0 {
			main = w.d.Places[m.Place].Main
		}
		add(l.NoMain, faultf(NoMain, "", "it has no %s", main))
	}
	if why := Misfits(m, w.d, w.facts.Builds); why != "" {
		add(l.Misfit, faultf(Misfit, "", "%s", why))
	}
	if why := WrongSide(w.s, m); why != "" {
		add(l.WrongList, faultf(WrongList, "", "%s", why))
	}
	if have, want, differ := NumberOf(w.s, m); differ {
		if have == "" {
			add(l.Number, faultf(NumberDiffers, "", "its number %s is not on the list", want))
		} else {
			add(l.Number, faultf(NumberDiffers, "", "its number is %s, the list says %s", want, have))
		}
	}
	for _, k := range m.Keys {
		word := "is not among the server's"
		if k.Differs {
			word = "is another one on the server"
		}
		add(l.Key, faultf(KeyWanting, "", "its key %s %s", k.File, word))
	}
	if t, ok := w.twins[m.Name]; ok {
		add(l.Twins, faultf(TwinMods, "", "two mods are called so, in %s and %s", t.HiddenBy, t.Path))
	}
	if other := w.against(m); other != "" {
		add(l.Conflict, faultf(Conflict, other, "it cannot be with %s", other))
	}
	for _, name := range w.reads[m.Name] {
		if !w.setBefore(name) {
			add(l.Setting, faultf(SettingLate, name, "the setting %s is not set when it starts", name))
		}
	}
	if m.Broken != nil {
		add(l.Script, faultf(Broken, "", "its script %s has a mistake on line %d: %s", m.Broken.File, m.Broken.Line, m.Broken.Message))
	}
	if said, ok := w.facts.Lessons[m.Name]; ok {
		add(l.Script, faultf(Lesson, "", "it failed by itself at an earlier start and has not changed since: %s", said))
	}
	if r := w.facts.Refuted; r != nil && r.Failed[m.Name] != "" {
		add(dialect.FateFails, faultf(Lesson, "", "it failed at start %d, and nothing that it rested on has changed since: %s", r.Start, r.Failed[m.Name]))
	}
	return list
}

// against finds a mod that is loaded already and that this one cannot be with,
// by what either says.
func (w *walker) against(m *survey.Mod) string {
	for _, other := range w.conflicts[m.Name] {
		if o := w.s.Find(other); o != nil && w.state[o.Index()] == loaded {
			return other
		}
	}
	return ""
}

// setBefore tells whether a setting stands above the line that is gone through; in files that are
// not read from top to bottom it is enough that it is set.
func (w *walker) setBefore(name string) bool {
	for _, s := range w.s.Lineup.Settings {
		if s.Name == name && (s.Seq == 0 || w.seq == 0 || s.Seq < w.seq) {
			return true
		}
	}
	return false
}

// Conflicts lists for each mod those that it cannot be with, whichever of the two
// says so.
func Conflicts(s *survey.Survey) map[string][]string {
	pairs := map[string][]string{}
	add := func(a, b string) {
		if !slices.Contains(pairs[a], b) {
			pairs[a] = append(pairs[a], b)
		}
	}
	for i := range s.Mods {
		m := &s.Mods[i]
		for _, c := range m.Manifest.Conflicts {
			if o := s.Answer(c.Name); o != nil && o != m && Excludes(m, o) {
				add(m.Name, o.Name)
				add(o.Name, m.Name)
			}
		}
	}
	return pairs
}

// Excludes tells whether a mod says of another that they cannot be together.
func Excludes(m, other *survey.Mod) bool {
	for _, c := range m.Manifest.Conflicts {
		if other.Is(c.Name) && other.Name != m.Name {
			if fits, err := Fits(c, other, m.Manifest.Versions); err == nil && fits {
				return true
			}
		}
	}
	return false
}

// Misfits says for which other server, loader or runtime a mod is made; "" when
// it fits, or not enough is known.
func Misfits(m *survey.Mod, d *dialect.Dialect, builds map[dialect.BuildOf]string) string {
	for _, part := range []struct {
		of   dialect.BuildOf
		want string
	}{{dialect.BuildServer, m.Manifest.Server}, {dialect.BuildLoader, m.Manifest.Loader}, {dialect.BuildRuntime, m.Manifest.Runtime}} {
		have, known := builds[part.of]
		if part.want == "" || !known || have == part.want {
			continue
		}
		if have == "" {
			return "it is made for the " + string(part.of) + " " + part.want + ", and there is none"
		}
		notation := m.Manifest.Versions
		if b := d.Build(part.of); b != nil && b.Versions != "" {
			notation = b.Versions
		}
		fits, err := mod.Fits(have, part.want, notation)
		if err != nil && part.of == dialect.BuildLoader {
			fits, err = false, nil // the loader's name, and another one
		}
		if err == nil && !fits {
			return "it is made for the " + string(part.of) + " " + part.want + ", and this is " + have
		}
	}
	return ""
}

// WrongSide says on which list a mod belongs, when it is on another.
func WrongSide(s *survey.Survey, m *survey.Mod) string {
	side := m.Manifest.Side
	if side == "" || !m.Listed {
		return ""
	}
	belongs := BelongsOn(s.Dialect, side)
	for _, i := range m.Entries {
		e := &s.Lineup.Entries[i]
		r := &s.Dialect.Registrations[e.Registration]
		if e.On && r.SameAs == "" && belongs != "" && r.Name != belongs {
			return "it belongs on the " + belongs
		}
	}
	return ""
}

// BelongsOn is the registration for mods of a side, "" when the dialect does not
// tell sides apart.
func BelongsOn(d *dialect.Dialect, side string) string {
	sided := false
	for i := range d.Registrations {
		r := &d.Registrations[i]
		if slices.Contains(r.Sides, side) {
			return r.Name
		}
		sided = sided || len(r.Sides) > 0
	}
	if !sided {
		return ""
	}
	for i := range d.Registrations {
		if r := &d.Registrations[i]; len(r.Sides) == 0 && r.SameAs == "" {
			return r.Name
		}
	}
	return ""
}

// NumberOf compares the catalogue number beside a mod's name with the one in its
// manifest, or looks for that on the list where numbers do not stand beside names; have is "" then.
func NumberOf(s *survey.Survey, m *survey.Mod) (have, want string, differ bool) {
	if m.Manifest.Number == "" {
		return "", "", false
	}
	for _, i := range m.Entries {
		e := &s.Lineup.Entries[i]
		switch r := &s.Dialect.Registrations[e.Registration]; {
		case !e.On || r.Shape != dialect.ShapeParallel:
		case r.Apart && !slices.Contains(s.Lineup.Numbers(e.Registration), m.Manifest.Number):
			return "", m.Manifest.Number, true
		case !r.Apart && e.Value != m.Manifest.Number:
			return e.Value, m.Manifest.Number, true
		}
	}
	return "", "", false
}
