package intake

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/order"
	"initium/internal/core/plan"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// Left is something that a mod which is taken out leaves behind.
type Left struct {
	Path  string // on the server
	Line  int    // in that file, from 1; 0 for a file or folder as a whole
	About string
	Goes  bool // it goes with the mod
}

// Removal is what taking a mod out comes to.
type Removal struct {
	Mod        *survey.Mod
	Dependents []string // mods that are on and cannot do without it
	Parts      []plan.Part
	Changes    []lineup.Change
	Left       []Left
	World      string // what of the world may go with it, as far as the dialect knows
	Problems   []string
}

// Remove works out what taking a mod out of a server comes to. Files of it go,
// and its registrations; its keys go unless another mod brings the same; what it
// has made by itself stays, unless the operator wants that to go too.
func Remove(name string, target *Target, choices lineup.Choices) *Removal {
	s := target.Survey
	r := &Removal{Mod: s.Find(name)}
	laid, err := target.Laid(name)
	if err != nil {
		r.Problems = []string{fmt.Sprintf("what came with %s cannot be told: %v", text.Clean(name), err)}
		return r
	}
	if r.Mod == nil && len(laid) > 0 { // it brought no mod, but files of the server's own
		r.Mod = &survey.Mod{Name: name, Place: -1}
		if covered := laid[0].Over; !slices.ContainsFunc(laid, func(f Laid) bool { return f.Over == "" }) {
			r.Problems = []string{fmt.Sprintf("%s has laid its own over all that came with %s; take that out first", text.Clean(covered), text.Clean(name))}
			return r
		}
	}
	switch m := r.Mod; {
	case m == nil:
		r.Problems = []string{fmt.Sprintf("there is no mod %q on this server; a name has to be exact, capitals too", text.Clean(name))}
		return r
	case m.Base:
		r.Problems = []string{text.Clean(name) + " belongs to the server itself and is not taken out"}
		return r
	case m.Path != "" && !target.Writable(path.Dir(m.Path)):
		r.Problems = []string{fmt.Sprintf("%s cannot be taken out of %s: that folder cannot be written to; switch the mod off instead", text.Clean(name), path.Dir(m.Path))}
		return r
	}
	r.World = s.Dialect.World.About
	r.dependents(s)
	r.lines(s)
	if r.Mod.Path != "" {
		r.take(target, r.Mod.Path, plan.TheMod)
		for _, t := range s.Twins { // or they would take its place
			if t.Name == r.Mod.Name && t.Older != "" {
				r.take(target, t.Path, "the older release "+t.Older)
			}
		}
		r.keys(target)
	}
	r.laid(target, laid)
	r.leavings(target, choices)
	return r
}

// laid are the files that came among the server's own with the mod: what they replaced comes back.
func (r *Removal) laid(target *Target, list []Laid) {
	parts, left, problems := lift(target, r.Mod.Name, list)
	r.Parts, r.Left, r.Problems = append(r.Parts, parts...), append(r.Left, left...), append(r.Problems, problems...)
}

// lift takes files out again that were put among the server's own, and the folders that were made for them.
func lift(target *Target, mod string, list []Laid) (parts []plan.Part, left []Left, problems []string) {
	dirs := map[string]bool{}
	for _, f := range list {
		if f.Over != "" {
			continue // it does not come back when that goes
		}
		there, err := target.List(f.Path)
		switch {
		case err != nil:
			problems = append(problems, fmt.Sprintf("%s cannot be read: %v", f.Path, err))
		case len(there) == 0:
		case plan.Digest(there) != f.Digest:
			left = append(left, Left{Path: f.Path, About: "a file that came with it, and was changed since"})
		case !f.Kept:
			left = append(left, Left{Path: f.Path, About: "a file that came with it; what it replaced is not kept any more"})
		default:
			parts = append(parts, plan.Part{Path: f.Path, Mod: cmp.Or(f.Whose, mod), What: f.What, Old: f.Digest, New: f.Below})
			for dir := path.Dir(f.Path); f.Below == "" && dir != "/" && target.Made(dir); dir = path.Dir(dir) {
				dirs[dir] = true
			}
		}
	}
	for _, dir := range slices.Backward(slices.Sorted(maps.Keys(dirs))) { // what is in a folder before it
		parts = append(parts, plan.Part{Path: dir, What: "a folder", Old: plan.EmptyFolder})
	}
	return parts, left, problems
}

func (r *Removal) dependents(s *survey.Survey) {
	for i := range s.Mods {
		m := &s.Mods[i]
		if m == r.Mod || !m.On {
			continue
		}
		for _, need := range m.Needs() {
			if s.Answer(need.Name) == r.Mod {
				r.Dependents = append(r.Dependents, m.Name)
				break
			}
		}
	}
}

// take lets what is at a path go into the ledger.
func (r *Removal) take(target *Target, full, what string) {
	items, err := target.List(full)
	if err != nil {
		r.Problems = append(r.Problems, fmt.Sprintf("%s cannot be read: %v", full, err))
		return
	}
	if len(items) > 0 {
		r.Parts = append(r.Parts, plan.Part{Path: full, Mod: r.Mod.Name, What: what, Old: plan.Digest(items)})
	}
}

// lines are the registrations that go, and the settings that only this mod reads.
func (r *Removal) lines(s *survey.Survey) {
	if r.Mod.Registered && !r.Mod.Group {
		presence := true
		for _, i := range r.Mod.Entries {
			presence = presence && s.Dialect.Registrations[s.Lineup.Entries[i].Registration].ByPresence()
		}
		if !presence {
			r.Changes = append(r.Changes, lineup.Change{Op: lineup.OpUnregister, Mod: r.Mod.Name})
		}
	}
	if r.Mod.Group && r.lastOfGroup(s) {
		r.Changes = append(r.Changes, lineup.Change{Op: lineup.OpUnregister, Mod: r.Mod.Bundle})
	}
	for _, name := range order.Settings(s, r.Mod) {
		if r.readByOthers(s, name) {
			continue
		}
		for _, set := range s.Lineup.Settings {
			if set.Name == name {
				file := &s.Lineup.Files[set.File]
				line, _ := text.Position(file.Bytes, set.Span.Start)
				r.Left = append(r.Left, Left{Path: file.Path, Line: line, About: "the setting " + text.Clean(name) + ", which no other mod reads"})
			}
		}
	}
}

// lastOfGroup tells whether the category folder holds no other mod.
func (r *Removal) lastOfGroup(s *survey.Survey) bool {
	return !slices.ContainsFunc(s.Mods, func(m survey.Mod) bool {
		return m.Bundle == r.Mod.Bundle && m.Name != r.Mod.Name && m.Path != ""
	})
}

func (r *Removal) readByOthers(s *survey.Survey, setting string) bool {
	for i := range s.Mods {
		if m := &s.Mods[i]; m != r.Mod && slices.Contains(order.Settings(s, m), setting) {
			return true
		}
	}
	return false
}

// keys lets those keys go that no other mod brings and that were not the server's
// to begin with.
func (r *Removal) keys(target *Target) {
	s := target.Survey
	into, ok := s.Vars.Expand(s.Dialect.Keys.Into)
	if !ok || s.Dialect.Keys.Files == "" {
		return
	}
	brings := func(m *survey.Mod) map[string]plan.Item {
		keys := map[string]plan.Item{}
		items, err := target.List(m.Path)
		if err != nil && m != r.Mod { // of this one it is told already
			r.Problems = append(r.Problems, fmt.Sprintf("%s cannot be read, so that nobody knows which keys %s needs: %v", m.Path, text.Clean(m.Name), err))
		}
		for _, it := range items {
			if ok, _ := path.Match(s.Dialect.Keys.Files, it.Rel); ok {
				keys[path.Base(it.Rel)] = it
			}
		}
		return keys
	}
	mine := brings(r.Mod)
	if len(mine) == 0 {
		return
	}
	sharedBy := map[string]string{}
	for i := range s.Mods {
		if m := &s.Mods[i]; m != r.Mod && m.Path != "" {
			for name := range brings(m) {
				sharedBy[name] = m.Name
			}
		}
	}
	for name, it := range mine {
		full := path.Join(into, name)
		there, err := target.List(full)
		if err != nil || len(there) != 1 {
			continue
		}
		owner := target.Owner(full)
		switch {
		case sharedBy[name] != "":
			r.Left = append(r.Left, Left{Path: full, About: "a key that " + text.Clean(sharedBy[name]) + " needs too"})
		case there[0].Sum != it.Sum:
			r.Left = append(r.Left, Left{Path: full, About: "a key with other bytes than the mod's"})
		case owner.Clean && owner.Mod == "":
			r.Left = append(r.Left, Left{Path: full, About: "a key that the server had before"})
		default:
			r.take(target, full, "a key")
		}
	}
	slices.SortFunc(r.Left, func(a, b Left) int { return strings.Compare(a.Path, b.Path) })
}

// leavings are what the mod has made by itself.
func (r *Removal) leavings(target *Target, choices lineup.Choices) {
	s := target.Survey
	for _, l := range s.Dialect.Leavings {
		full, ok := LeavingOf(&l, s.Vars, r.Mod.Name)
		if !ok {
			continue
		}
		about := cmp.Or(l.About, "made by the mod")
		items, err := target.List(full)
		if err == nil && len(items) == 0 {
			continue
		}
		if err != nil {
			about += ", which cannot be read"
		}
		r.Left = append(r.Left, Left{Path: full, About: about, Goes: choices.Leavings})
		if choices.Leavings {
			r.take(target, full, about)
		}
	}
}

// LeavingOf is where a mod makes something by itself; ok is false where that
// cannot be told, or where the mod's name would lead elsewhere.
func LeavingOf(l *dialect.Leaving, vars dialect.Vars, name string) (full string, ok bool) {
	if strings.ContainsAny(name, `/\`) || strings.HasPrefix(name, ".") {
		return "", false
	}
	with := maps.Clone(vars)
	with["mod"] = name
	return with.Expand(l.Path)
}
