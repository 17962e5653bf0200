package planner

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/text"
)

// alone makes what was taken in the only thing that the server loads, with what it needs: every other mod is switched
// off, the one map that came is chosen, and what is left of that is owed.
func (p *Planner) alone(in *intake.Intake) error {
	with := p.needed(in)
	stays := func(name string) bool { return with[name] }
	comes := func(name string) bool {
		return slices.ContainsFunc(in.Mods, func(m intake.Placed) bool { return m.Name == name })
	}
	lines := map[string]bool{}
	for _, m := range slices.Clone(p.Seen().Mods) {
		if !m.On || m.Base || stays(m.Name) {
			continue
		}
		name := m.Name
		if m.Group && len(p.lines.Find(name)) == 0 {
			name = p.seen.Lineup.Entries[m.Entries[0]].Name
			switch {
			case p.sharesGroup(name, comes):
				return Refusal{fmt.Errorf("%s is in the category %s with what comes, and cannot be switched off alone; put what comes into another (--into)", text.Clean(m.Name), text.Clean(name))}
			case p.sharesGroup(name, stays):
				p.owed = append(p.owed, lineup.Owed{Mod: m.Name, Path: path.Base(m.Path), About: "it loads beside what was to be alone, in the category " + text.Clean(name) + " with what that needs"})
				continue
			}
		}
		switch {
		case !m.Registered:
			p.owed = append(p.owed, lineup.Owed{Mod: m.Name, Path: path.Base(m.Path), About: "it loads without being registered, beside what was to be alone; take it out if it must not"})
		case !lines[name]:
			lines[name] = true
			if err := p.line(lineup.Change{Op: lineup.OpOff, Mod: name}); err != nil {
				return err
			}
		}
	}
	p.refresh()
	for _, name := range in.Found.Lists {
		p.owed = append(p.owed, lineup.Owed{Path: name, About: "a startup file that came along: the order of its mods is kept, and what else it sets is yours to take over"})
	}
	return p.chooseMap(in.Parts)
}

// needed are the mods that came, and those that they cannot do without.
func (p *Planner) needed(in *intake.Intake) map[string]bool {
	with := map[string]bool{}
	var add func(name string)
	add = func(name string) {
		m := p.Seen().Find(name)
		if m == nil || with[name] {
			return
		}
		with[name] = true
		for _, need := range m.Needs() {
			if other := p.seen.Answer(need.Name); other != nil {
				add(other.Name)
			}
		}
	}
	for i := range in.Mods {
		add(in.Mods[i].Name)
	}
	return with
}

// sharesGroup tells whether one of some mods is registered through a category folder.
func (p *Planner) sharesGroup(group string, some func(string) bool) bool {
	for i := range p.seen.Mods {
		if m := &p.seen.Mods[i]; m.Bundle == group && some(m.Name) {
			return true
		}
	}
	return false
}

// chooseMap sets the setting that names the file of a map to the only one that came.
func (p *Planner) chooseMap(parts []plan.Part) error {
	var setting *dialect.Value
	var names []string
	for i := range parts {
		if parts[i].What != plan.LaidMap || parts[i].New == "" {
			continue
		}
		for k := range p.now.Dialect.Values {
			v := &p.now.Dialect.Values[k]
			if name, ok := namedBy(v, p.seen.Vars, parts[i].Path); ok {
				setting, names = v, append(names, name)
			}
		}
	}
	switch {
	case len(names) == 0:
		return nil
	case len(names) > 1:
		p.owed = append(p.owed, lineup.Owed{Path: setting.Name, About: "which of the maps is played on that came: " + strings.Join(names, ", ")})
		return nil
	}
	c := lineup.Change{Op: lineup.OpSet, Mod: setting.Name, To: names[0]}
	if r := p.now.Dialect.Registration(setting.Registration); r != nil {
		c.File, _ = p.seen.Vars.Expand(r.File)
	}
	if set, ok := p.seen.Lineup.Setting(setting.Registration, setting.Name); ok && set.Value == c.To {
		return nil
	}
	return p.inFile(c)
}

// namedBy is what a setting has to be to name a file.
func namedBy(v *dialect.Value, vars dialect.Vars, file string) (name string, ok bool) {
	const mark = "\x00"
	with := dialect.Vars{"value": mark}
	for k, value := range vars {
		with[k] = value
	}
	form, ok := with.Expand(v.File)
	before, after, marked := strings.Cut(form, mark)
	if !ok || !marked {
		return "", false
	}
	name, begins := strings.CutPrefix(file, before)
	name, ends := strings.CutSuffix(name, after)
	return name, begins && ends && name != "" && !strings.Contains(name, "/")
}
