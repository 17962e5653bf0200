package dialect

import "fmt"

// notation checks how version ranges are said to be written; nothing is fine.
func (c *checker) notation(key string, n *Notation) {
	if *n != "" {
		oneOf(c, key, n, "", VersionsComparators, VersionsIntervals, VersionsLeast, VersionsListed)
	}
}

func (c *checker) builds(d *Dialect, vars []string) {
	for i := range d.Builds {
		b, key := &d.Builds[i], fmt.Sprintf("build[%d]", i)
		oneOf(c, key+".of", &b.Of, "", BuildServer, BuildLoader, BuildRuntime)
		for _, word := range b.Command {
			c.variables(key+".command", word, vars)
		}
		switch {
		case (len(b.Command) > 0) == (b.File != ""):
			c.bad(key, "needs either a command that prints the version or a file that holds it")
		case b.File != "":
			c.variables(key+".file", b.File, vars)
		}
		if b.Format != "" {
			oneOf(c, key+".format", &b.Format, "", FormatTOML, FormatJSON, FormatYAML)
			c.need(key+".key", b.Key)
		}
		if b.Line != "" {
			b.line = c.pattern(key+".line", b.Line, []string{"version", "any"})
		}
		c.notation(key+".versions", &b.Versions)
		if b.Versions == "" {
			b.Versions = VersionsComparators
		}
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

// load fills in what a careful server would do, and checks what the dialect says.
func (c *checker) load(d *Dialect) {
	l := &d.Load
	oneOf(c, "load.walk", &l.Walk, WalkNeedsFirst, WalkNeedsFirst, WalkReadyQueue, WalkReadyStack)
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
	} {
		oneOf(c, "load."+fate.key, fate.value, fate.fallback, FateFails, FateStops, FatePassed, FateIgnored)
	}
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
