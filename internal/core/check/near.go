package check

import (
	"fmt"
	"path"
	"regexp"
	"strings"

	"initium/internal/core/lineup"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// releaseSuffix is what archives and branches add to the name of a folder.
var releaseSuffix = regexp.MustCompile(`^[-_. ]?(?i:main|master|dev|develop|trunk|release|latest|stable|v?\d+([._-]\d+)*([-_.]?(alpha|beta|rc)\d*)?)$`)

// missing reports a registered mod that is not there, and looks for what the
// operator may have meant.
func (c *checker) missing(m *survey.Mod) {
	at := func(code string) Finding { return c.at(code, Error, m) }
	if strings.TrimSpace(m.Name) != m.Name {
		c.blanks(m)
		return
	}
	name := text.Clean(m.Name)
	for _, s := range c.s.Strays {
		switch {
		case s.Folder == m.Name && s.Bundle && len(m.Entries) > 0 && c.s.Lineup.Entries[m.Entries[0]].Group:
			c.add(at("group-empty"), "%s names a category folder that holds no mod", name).Remedy = "put mods into it, or take the line out"
			return
		case s.Folder == m.Name && s.Bundle:
			c.add(at("mod-bundle"), "%s is a bundle; its mods are registered one by one, not the bundle", name).
				Remedy = "register the mods in it that are wanted"
			return
		case s.Folder == m.Name && s.Empty:
			c.add(at("folder-empty"), "the folder of %s is empty: %s", name, s.Path).Remedy = "put the mod's files into it, or switch the mod off"
			return
		case s.Folder == m.Name && s.Inner != "":
			c.add(at("mod-nested"), "%s is one folder too deep: it is in %s", name, s.Inner).
				Remedy = fmt.Sprintf("move %s up, in place of %s", text.Clean(path.Base(s.Inner)), text.Clean(s.Path))
			return
		case s.Folder == m.Name:
			c.add(at("folder-foreign"), "the folder %s is there, but nothing in it says that it is a mod", s.Path).
				Remedy = "take the mod in again; its files are not complete"
			return
		}
	}
	rename := func(code string, other *survey.Mod, format string, args ...any) {
		f := c.add(at(code), format, args...)
		if other.Registered && other.On {
			f.remedy(lineup.Change{Op: lineup.OpUnregister, Mod: m.Name})
			return
		}
		f.remedy(lineup.Change{Op: lineup.OpRename, Mod: m.Name, To: other.Name})
		if other.Registered { // two entries of one name would be left
			f.remedy(lineup.Change{Op: lineup.OpUnregister, Mod: m.Name}, lineup.Change{Op: lineup.OpOn, Mod: other.Name})
		}
	}
	for i := range c.s.Mods {
		if o := &c.s.Mods[i]; o.Path != "" && o.Name != m.Name && strings.EqualFold(o.Name, m.Name) {
			rename("mod-case", o, "%s is registered, but the mod is called %s: capitals matter", name, o.Name)
			return
		}
	}
	for i := range c.s.Mods {
		if o := &c.s.Mods[i]; o.Path != "" && o.Folder == m.Name && o.Name != m.Name {
			rename("mod-renamed", o, "%s is the name of a folder; the mod in it calls itself %s", name, o.Name)
			return
		}
	}
	for i := range c.s.Mods {
		o := &c.s.Mods[i]
		if o.Path == "" || o.Name == m.Name {
			continue
		}
		if rest, ok := strings.CutPrefix(o.Folder, m.Name); ok && releaseSuffix.MatchString(rest) {
			c.add(at("mod-suffix"), "%s is not there, but a folder %s is: an archive's ending was left on it", name, o.Folder).
				Remedy = fmt.Sprintf("rename the folder %s to %s", text.Clean(o.Path), name)
			return
		}
		if rest, ok := strings.CutPrefix(m.Name, o.Name); ok && releaseSuffix.MatchString(rest) {
			rename("mod-suffix", o, "%s is registered with an archive's ending; the mod is called %s", name, o.Name)
			return
		}
	}
	if o := c.alike(m.Name); o != nil {
		rename("mod-missing", o, "%s is registered and not there; %s is, and its name is nearly the same", name, o.Name)
		return
	}
	c.add(at("mod-missing"), "%s is registered and not there: no folder for mods has it", name).
		Remedy = "take the mod in, or switch it off"
}

// alike finds the one mod whose name is a slip of the hand away.
func (c *checker) alike(name string) *survey.Mod {
	var hit *survey.Mod
	for i := range c.s.Mods {
		o := &c.s.Mods[i]
		if o.Path == "" || o.Base || len(name) < 4 || o.Name == name || !oneSlip(plain(o.Name), plain(name)) {
			continue
		}
		if hit != nil {
			return nil
		}
		hit = o
	}
	return hit
}

// plain leaves out what people mix up in names.
func plain(name string) string {
	return strings.NewReplacer("-", "", "_", "", " ", "", ".", "").Replace(strings.ToLower(name))
}

// oneSlip tells whether two words differ by at most one letter added, left out,
// changed, or swapped with its neighbour.
func oneSlip(a, b string) bool {
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	return len(a) <= 1 && len(b) <= 1 || len(a) == 2 && len(b) == 2 && a[0] == b[1] && a[1] == b[0]
}
