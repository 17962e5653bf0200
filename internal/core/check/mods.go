package check

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/lineup"
	"initium/internal/core/order"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

func (c *checker) mod(m *survey.Mod) {
	if m.Base {
		return
	}
	switch {
	case !m.Registered && m.Always && len(c.d.Registrations) == 0: // being there is all that there is
	case !m.Registered && m.Always:
		f := c.add(c.at(CodeNotRegistered, Note, m), "%s is not registered, but loads because of the folder that it is in", m.Name)
		f.remedy(lineup.Change{Op: lineup.OpRegister, Mod: m.Name})
	case !m.Registered && c.mistyped[m.Name]: // it is said of the line
	case !m.Registered:
		f := c.add(c.at(CodeNotRegistered, Note, m), "%s is there and not registered", m.Name)
		f.remedy(lineup.Change{Op: lineup.OpRegister, Mod: m.Name})
	case m.Always && !m.Listed:
		c.add(c.at(CodeLoadsAnyway, Warning, m), "%s is switched off but loads all the same, because of the folder that it is in", m.Name).
			Remedy = "move its folder elsewhere"
	}
	if !m.On {
		return
	}
	if m.Path == "" {
		c.missing(m)
		return
	}
	c.content(m)
	c.names(m)
	c.twice(m)
	c.place(m)
	c.needs(m)
	c.settingsOf(m)
}

func (c *checker) content(m *survey.Mod) {
	switch {
	case m.Empty:
		c.add(c.at(CodeFolderEmpty, Error, m), "the folder of %s is empty: %s", m.Name, m.Path).
			Remedy = "put the mod's files into it, or switch the mod off"
	case m.NoMain && m.Inner != "":
		c.add(c.at(CodeModNested, Error, m), "%s is one folder too deep: it is in %s", m.Name, m.Inner).
			Remedy = fmt.Sprintf("move what is in %s up into %s", path.Base(m.Inner), m.Path)
	case m.NoMain:
		c.add(c.at(CodeMainMissing, Error, m), "%s has no %s in its folder %s", m.Name, c.d.Places[m.Place].Main, m.Path).
			Remedy = "take the mod in again; its files are not complete"
	}
	if p := m.Manifest.Problem; p != nil {
		f := c.at(CodeManifestUnreadable, severityOf(c.d.Load.Unreadable), m)
		f.File, f.Line, f.Column = path.Join(m.Path, p.File), p.Line, p.Column
		c.add(f, "the manifest of %s cannot be read: %s", m.Name, p.Message).Remedy = "mend the manifest or take the mod in again"
	}
	if p := m.Broken; p != nil {
		f := c.at(CodeScriptBroken, Error, m)
		f.File, f.Line, f.Column = path.Join(m.Path, p.File), p.Line, p.Column
		c.add(f, "the script of %s cannot be understood: %s", m.Name, p.Message).Remedy = "mend the script or take the mod in again"
	}
	for _, k := range m.Keys {
		if k.Differs {
			c.add(c.at(CodeKeyDiffers, Error, m), "the key %s of %s is another one than the server's of the same name", k.File, m.Name).
				Remedy = "find out which of the two is current before one replaces the other"
			continue
		}
		into, _ := c.s.Vars.Expand(c.d.Keys.Into)
		c.add(c.at(CodeKeyMissing, Error, m), "the key %s of %s is not among the server's", k.File, m.Name).
			Remedy = fmt.Sprintf("copy %s into %s", k.File, into)
	}
}

func (c *checker) names(m *survey.Mod) {
	c.blanks(m)
	if r, bad := c.d.Names.Forbidden(m.Name); bad && !m.Group {
		c.add(c.at(CodeNameForbidden, Error, m), "the name %s holds %q, which %s does not allow (allowed: %s)", m.Name, r, c.d.Title, c.d.Names.Allowed).
			Remedy = "rename the mod"
	}
	if c.d.Names.Agree && m.Manifest.Name != "" && m.Manifest.Name != m.Folder && m.Manifest.Name != m.Name {
		c.add(c.at(CodeNameDiffers, Error, m), "the folder is called %s, the manifest says %s; they have to agree", m.Folder, m.Manifest.Name).
			Remedy = "rename the folder to " + text.Clean(m.Manifest.Name)
	}
}

// blanks tells of names that were typed with a blank at an end.
func (c *checker) blanks(m *survey.Mod) {
	trimmed := strings.TrimSpace(m.Name)
	if trimmed == m.Name || len(m.Entries) == 0 {
		return
	}
	f := c.add(c.at(CodeNameBlank, Error, m), "%q has a blank before or after it", m.Name)
	if other := c.s.Find(trimmed); other != nil && other.Registered {
		f.remedy(lineup.Change{Op: lineup.OpUnregister, Mod: m.Name})
	} else if trimmed != "" {
		f.remedy(lineup.Change{Op: lineup.OpRename, Mod: m.Name, To: trimmed})
	}
}

func (c *checker) twice(m *survey.Mod) {
	var on []lineup.Entry
	for _, i := range m.Entries {
		if e := c.s.Lineup.Entries[i]; e.On && c.d.Registrations[e.Registration].SameAs == "" {
			on = append(on, e)
		}
	}
	if len(on) < 2 {
		c.keyValue(m)
		return
	}
	_, line, _ := c.s.Lineup.Place(on[0])
	f := c.at(CodeRegisteredTwice, severityOf(c.d.Load.Twice), m)
	f.File, f.Line, f.Column = c.s.Lineup.Place(on[1])
	added := c.add(f, "%s is registered twice; first on line %d", m.Name, line)
	if on[0].Name == on[1].Name {
		added.remedy(lineup.Change{Op: lineup.OpOnce, Mod: m.Name})
	} else {
		added.Remedy = "take one of the lines out"
	}
}

// elsewhere tells of a mod that is registered at a path that is not its own, or by
// its bare name where the server finds it only by its path.
func (c *checker) elsewhere(m *survey.Mod) {
	e := c.s.Lineup.Entries[m.Entries[0]]
	if c.d.Registrations[e.Registration].Shape == dialect.ShapeLink {
		f := c.add(c.at(CodePathWrong, Error, m), "the link of %s leads to %s, where nothing is; it is at %s", m.Name, e.Value, m.Path)
		f.remedy(lineup.Change{Op: lineup.OpUnregister, Mod: m.Name}, lineup.Change{Op: lineup.OpRegister, Mod: m.Name})
		f.Remedy = "let the link lead there"
		return
	}
	if !c.d.Registrations[e.Registration].Paths {
		f := c.add(c.at(CodePathWrong, Error, m), "%s is registered at a path where it is not; it is at %s", m.Name, m.Spot)
		f.remedy(lineup.Change{Op: lineup.OpOff, Mod: m.Name}, lineup.Change{Op: lineup.OpOn, Mod: m.Name})
		f.Remedy = "register it without a path"
		return
	}
	where := lineup.Where{}
	for _, next := range c.s.Lineup.Entries[m.Entries[0]+1:] {
		if next.Registration == e.Registration && next.Name != e.Name {
			where.Before = next.Name
			break
		}
	}
	f := c.add(c.at(CodePathWrong, Error, m), "%s is registered as %s, where the server does not find it; it is at %s", m.Name, e.Value, m.Path)
	f.remedy(lineup.Change{Op: lineup.OpUnregister, Mod: m.Name}, lineup.Change{Op: lineup.OpRegister, Mod: m.Name, Where: where})
	f.Remedy = "register it at its path"
	if m.Spot == "" {
		f.Remedy = "register it by its name"
	}
}

// keyValue checks what a yes/no key says.
func (c *checker) keyValue(m *survey.Mod) {
	if m.Elsewhere && !m.Always {
		c.elsewhere(m)
	}
	for _, i := range m.Entries {
		e := c.s.Lineup.Entries[i]
		r := &c.d.Registrations[e.Registration]
		if !e.Odd {
			continue
		}
		f := c.add(c.at(CodeValueUnknown, Error, m), "%s has the value %q, which means neither on (%s) nor off (%s) to the server", m.Name, e.Value, r.On, r.Off)
		f.remedy(lineup.Change{Op: lineup.OpOff, Mod: m.Name}, lineup.Change{Op: lineup.OpOn, Mod: m.Name})
		f.Remedy = fmt.Sprintf("set it to %s", r.On)
	}
}

// place checks the list that a mod is on, its catalogue number, and whether it is
// made for this server at all.
func (c *checker) place(m *survey.Mod) {
	if forecast.WrongSide(c.s, m) != "" {
		belongs := forecast.BelongsOn(c.d, m.Manifest.Side)
		f := c.add(c.at(CodeSideWrong, Error, m), "%s is made for the side %q and belongs on the %s", m.Name, m.Manifest.Side, belongs)
		f.remedy(lineup.Change{Op: lineup.OpUnregister, Mod: m.Name}, lineup.Change{Op: lineup.OpRegister, Mod: m.Name, Registration: belongs})
		f.Remedy = fmt.Sprintf("put %s on the %s instead", text.Clean(m.Name), belongs)
	}
	if have, want, differ := forecast.NumberOf(c.s, m); differ {
		f := c.add(c.at(CodeNumberDiffers, Error, m), "beside %s stands the number %s; its manifest says %s", m.Name, have, want)
		change := lineup.Change{Op: lineup.OpRegister, Mod: m.Name, Number: want}
		if next := c.nextInList(m); next != "" {
			change.Where.Before = next
		}
		f.remedy(lineup.Change{Op: lineup.OpUnregister, Mod: m.Name}, change)
		if have == "" {
			f.Message, f.Remedy = text.Clean(fmt.Sprintf("the number %s of %s is not on the list of numbers", want, m.Name)), "add it"
		} else {
			f.Remedy = fmt.Sprintf("write %s beside %s", text.Clean(want), text.Clean(m.Name))
		}
	}
	if why := forecast.Misfits(m, c.d, c.versions); why != "" {
		c.add(c.inManifest(CodeMadeForAnother, severityOf(c.d.Load.Misfit), m), "%s: %s", m.Name, why).
			Remedy = "take in a release that is made for this one"
	}
}

// nextInList is the name of the entry after a mod's.
func (c *checker) nextInList(m *survey.Mod) string {
	entries := c.s.Lineup.Entries
	if i := m.Entries[0] + 1; i < len(entries) && entries[i].Registration == entries[m.Entries[0]].Registration {
		return entries[i].Name
	}
	return ""
}

// settingsOf checks that what a mod reads when it starts is set before its line.
func (c *checker) settingsOf(m *survey.Mod) {
	for _, name := range order.Settings(c.s, m) {
		if !slices.ContainsFunc(c.s.Lineup.Settings, func(s lineup.Setting) bool { return s.Name == name }) {
			c.add(c.at(CodeSettingUnset, Error, m), "%s reads the setting %s when it starts, and it is not set", m.Name, name).
				Remedy = fmt.Sprintf("set it above the line of %s: initium set %s %s VALUE", text.Clean(m.Name), text.Clean(c.s.Server), text.Clean(name))
		}
	}
}

func (c *checker) twins() {
	for _, t := range c.s.Twins {
		m := c.s.Find(t.Name)
		if m == nil || !m.On {
			continue
		}
		if t.Older != "" {
			c.add(Finding{Code: CodeReleaseOlder, Severity: Note, Mod: t.Name, File: t.Path}, "%s is the release %s of %s, of which the server takes the newest; it takes %s",
				path.Base(t.Path), t.Older, t.Name, path.Base(t.HiddenBy)).
				Remedy = "remove it, unless it is to take the place of the newer one again"
			continue
		}
		severity := Warning
		if t.Level && c.d.Load.Twins != dialect.FateIgnored {
			severity = Error
		}
		c.add(Finding{Code: CodeNameTwice, Severity: severity, Mod: t.Name, File: t.Path},
			"two mods are called %s; the one in %s is not used, the one in %s is", t.Name, t.Path, t.HiddenBy).
			Remedy = "remove the one that is not meant"
	}
	c.capitals()
}

// capitals tells of mods whose names differ in nothing but capitals: on some
// machines they are one folder.
func (c *checker) capitals() {
	seen := map[string]*survey.Mod{}
	for i := range c.s.Mods {
		m := &c.s.Mods[i]
		if m.Path == "" {
			continue
		}
		key := strings.ToLower(m.Name)
		if other := seen[key]; other != nil && (m.On || other.On) {
			c.add(c.at(CodeNameNearlyTwice, Note, m), "%s and %s differ in nothing but capitals", m.Name, other.Name)
		}
		seen[key] = m
	}
}

// kept are endings of folders that people keep beside the real one.
var kept = []string{".bak", ".old", ".orig", ".save", "_old", "_backup", "-old", "-backup", ".disabled", " copy", " - Copy", "~"}

func (c *checker) strays() {
	for i := range c.s.Mods {
		m := &c.s.Mods[i]
		if m.Path != "" && !m.Base && !m.Registered {
			if of := keptCopy(m.Folder); of != "" && c.s.Find(of) != nil {
				c.add(Finding{Code: CodeLeftover, Severity: Warning, Mod: m.Name, File: m.Path}, "%s looks like a copy of %s that was kept among the mods", m.Folder, of).
					Remedy = "move it out of the mods' folder"
			}
		}
	}
	for _, st := range c.s.Strays {
		if st.Bundle || c.s.Find(st.Folder) != nil {
			continue // a registered one is told with its registration
		}
		switch {
		case keptCopy(st.Folder) != "":
			c.add(Finding{Code: CodeLeftover, Severity: Note, File: st.Path}, "%s looks like a copy that was kept among the mods", st.Folder).
				Remedy = "move it out of the mods' folder"
		case st.Empty:
			c.add(Finding{Code: CodeStrayEmpty, Severity: Note, File: st.Path}, "the folder %s among the mods is empty", st.Folder).
				Remedy = "remove the folder"
		case st.Inner != "":
			c.add(Finding{Code: CodeStrayNested, Severity: Warning, File: st.Path}, "%s holds a mod one folder too deep, in %s", st.Folder, st.Inner).
				Remedy = "move the mod's folder up"
		default:
			c.add(Finding{Code: CodeStrayFolder, Severity: Note, File: st.Path}, "the folder %s among the mods is no mod", st.Folder)
		}
	}
}

// keptCopy is the name of the folder that another is a kept copy of, or "".
func keptCopy(folder string) string {
	for _, ending := range kept {
		if name, ok := strings.CutSuffix(folder, ending); ok && name != "" {
			return name
		}
	}
	return ""
}
