package dialect

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"initium/internal/core/text"
)

// notation checks how version ranges are said to be written; nothing is fine.
func (c *checker) notation(key string, n *Notation) {
	if *n != "" {
		oneOf(c, key, n, "", VersionsComparators, VersionsIntervals, VersionsLeast, VersionsListed)
	}
}

// sourceKeys compiles the keys of a manifest that is picked out of a script.
func (c *checker) sourceKeys(key string, m *Manifest) {
	m.patterns = map[string]*text.Pattern{}
	for name, line := range map[string]string{
		"name": m.Name, "title": m.Title, "release": m.Release, "side": m.Side, "number": m.Number, "needs": m.Needs, "optional_needs": m.OptionalNeeds,
		"conflicts": m.Conflicts, "provides": m.Provides, "before": m.Before, "after": m.After, "brings": m.Brings, "settings": m.Settings,
		"server": m.Server, "loader": m.Loader, "runtime": m.Runtime,
	} {
		if line == "" {
			continue
		}
		p := c.pattern(key+"."+name, line, []string{"value", "any"})
		if p != nil && !slices.Contains(p.Names(), "value") {
			c.bad(key+"."+name, "has to hold {value}")
		}
		m.patterns[line] = p
	}
}

func (c *checker) builds(d *Dialect, vars []string) {
	for i := range d.Builds {
		c.build(d, &d.Builds[i], fmt.Sprintf("build[%d]", i), vars)
	}
	for i := range d.Manifests {
		m := &d.Manifests[i]
		for _, part := range []struct {
			name, key string
			of        BuildOf
		}{{"server", m.Server, BuildServer}, {"loader", m.Loader, BuildLoader}, {"runtime", m.Runtime, BuildRuntime}} {
			if part.key != "" && d.Build(part.of) == nil {
				c.bad(fmt.Sprintf("manifest[%d].%s", i, part.name), "a [[build]] of the %s is needed to compare it with", part.name)
			}
		}
	}
}

func (c *checker) build(d *Dialect, b *Build, key string, vars []string) {
	oneOf(c, key+".of", &b.Of, "", BuildServer, BuildLoader, BuildRuntime)
	for _, word := range b.Command {
		c.variables(key+".command", word, vars)
	}
	switch {
	case b.Registration != "":
		if d.Registration(b.Registration) == nil || b.Key == "" || b.File != "" || len(b.Command) > 0 {
			c.bad(key+".registration", "has to be the name of a registration, with the key of the setting in it")
		}
	case (len(b.Command) > 0) == (b.File != ""):
		c.bad(key, "needs either a command that prints the version, a file that holds it, or a registration with its key")
	case b.File != "":
		c.variables(key+".file", b.File, vars)
	}
	if b.Format != "" {
		oneOf(c, key+".format", &b.Format, "", FormatTOML, FormatJSON, FormatYAML)
		c.need(key+".key", b.Key)
	}
	if b.Line != "" {
		b.line = c.pattern(key+".line", b.Line, []string{"version", "any"})
		if b.line != nil && !slices.Contains(b.line.Names(), "version") {
			c.bad(key+".line", "has to hold {version}")
		}
	}
	c.notation(key+".versions", &b.Versions)
	if b.Versions == "" {
		b.Versions = VersionsComparators
	}
}

// load fills in what a careful server would do, and checks what the dialect says.
func (c *checker) load(d *Dialect) {
	l := &d.Load
	oneOf(c, "load.walk", &l.Walk, WalkNeedsFirst, WalkNeedsFirst, WalkReadyQueue, WalkReadyStack, WalkUnknown)
	oneOf(c, "load.ties", &l.Ties, TiesListed, TiesListed, TiesName, TiesPlace)
	for _, fate := range []struct {
		key      string
		value    *Fate
		fallback Fate
	}{
		{"absent", &l.Absent, FateFails}, {"need_absent", &l.NeedAbsent, FateFails}, {"need_late", &l.NeedLate, FateFails}, {"circle", &l.Circle, FateFails},
		{"unreadable", &l.Unreadable, FateFails}, {"bad_name", &l.BadName, FateFails}, {"differs", &l.Differs, FateFails},
		{"no_main", &l.NoMain, FateFails}, {"misfit", &l.Misfit, FateFails}, {"wrong_list", &l.WrongList, FateFails},
		{"conflict", &l.Conflict, FateFails}, {"twins", &l.Twins, FateIgnored}, {"script", &l.Script, FateStops}, {"range", &l.Range, FateFails},
		{"twice", &l.Twice, FateIgnored}, {"key", &l.Key, FateFails}, {"setting", &l.Setting, FateFails}, {"number", &l.Number, FateFails}, {"port", &l.Port, FateStops},
	} {
		oneOf(c, "load."+fate.key, fate.value, fate.fallback, FateFails, FateStops, FateLater, FateFirst, FatePassed, FateIgnored)
	}
}

// data checks the files that have to be well formed, and the mods' keys.
func (c *checker) data(d *Dialect, vars []string) {
	for i := range d.Data {
		f, key := &d.Data[i], fmt.Sprintf("data[%d]", i)
		c.need(key+".file", f.File)
		c.variables(key+".file", f.File, vars)
		oneOf(c, key+".format", &f.Format, "", FormatJSON, FormatYAML, FormatTOML, FormatXML, FormatText)
		oneOf(c, key+".wrong", &f.Wrong, FateStops, FateStops, FatePassed, FateIgnored)
	}
	for i := range d.Sources {
		s, key := &d.Sources[i], fmt.Sprintf("source[%d]", i)
		if !isBelow(s.File) {
			c.bad(key+".file", "%q has to be a file below the mod's folder", s.File)
		}
		oneOf(c, key+".format", &s.Format, "", FormatLua, FormatScript)
		if s.Format == FormatScript && len(s.Words) == 0 {
			c.bad(key+".words", "are needed: what a line of the script may begin with")
		}
	}
	for i := range d.Icons {
		icon, key := &d.Icons[i], fmt.Sprintf("icon[%d]", i)
		c.need(key+".file", icon.File)
		c.variables(key+".file", icon.File, vars)
		if icon.Width < 1 || icon.Height < 1 {
			c.bad(key, "needs a width and a height, in pixels")
		}
	}
	for i, v := range d.Values {
		for _, broad := range v.Broad {
			if len(strings.Fields(broad)) != 2 {
				c.bad(fmt.Sprintf("value[%d].broad", i), "%q has to be a setting and its value", broad)
			}
		}
	}
	if k := d.Keys; k.Files != "" || k.Into != "" {
		c.need("keys.into", k.Into)
		c.variables("keys.into", k.Into, vars)
		if _, err := path.Match(k.Files, ""); err != nil || !isBelow(k.Files) {
			c.bad("keys.files", "%q has to be files below the mod's folder, such as keys/*.key", k.Files)
		}
	}
}

// BuildCalled is what a name among a mod's needs means that is no mod.
func (d *Dialect) BuildCalled(name string) (of BuildOf, ok bool) {
	for i := range d.Builds {
		if slices.Contains(d.Builds[i].Called, name) {
			return d.Builds[i].Of, true
		}
	}
	return "", false
}

// Build finds a build by what it is the version of, or nil.
func (d *Dialect) Build(of BuildOf) *Build {
	for i := range d.Builds {
		if d.Builds[i].Of == of {
			return &d.Builds[i]
		}
	}
	return nil
}
