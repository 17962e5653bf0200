package dialect

import (
	"fmt"
	"slices"
)

// Probe is a command, other than the server itself, that tells something of it.
type Probe struct {
	Of        ProbeOf  `toml:"of"`
	Command   []string `toml:"command"`   // words; no shell reads them
	Mapped    bool     `toml:"mapped"`    // instead of a command: whether the server holds a mod's files in its memory
	Directory string   `toml:"directory"` // where it runs; that of the start when left out
	Within    Duration `toml:"within"`    // how long it may take
	Rules     []Rule   `toml:"rule"`      // as in the log, for what it prints
}

// ProbeOf is what a probe tells.
type ProbeOf string

// A probe names the mods that the running server has loaded, or looks through the startup files
// without starting it.
const (
	ProbeLoaded  ProbeOf = "loaded"
	ProbeStartup ProbeOf = "startup"
)

// MeansFault is what a line of a probe of startup files says: there is a mistake at {file}, {row},
// for {reason}.
const MeansFault Meaning = "fault"

// defaultProbe is how long a probe may take, in seconds.
const defaultProbe = 10

// ProbesOf are the probes of one kind.
func (d *Dialect) ProbesOf(of ProbeOf) (list []*Probe) {
	for i := range d.Probes {
		if d.Probes[i].Of == of {
			list = append(list, &d.Probes[i])
		}
	}
	return list
}

func (c *checker) probes(d *Dialect, vars []string) {
	for i := range d.Probes {
		p, key := &d.Probes[i], fmt.Sprintf("probe[%d]", i)
		oneOf(c, key+".of", &p.Of, "", ProbeLoaded, ProbeStartup)
		switch {
		case p.Mapped && len(p.Command) > 0:
			c.bad(key+".command", "has no place beside mapped, which takes no command")
		case p.Mapped && p.Of == ProbeStartup:
			c.bad(key+".mapped", "is for a probe of %q: there is nothing in the memory of a server that is not started", ProbeLoaded)
		case !p.Mapped && len(p.Command) == 0:
			c.bad(key+".command", "is needed")
		}
		for _, word := range p.Command {
			c.variables(key+".command", word, vars)
		}
		c.variables(key+".directory", p.Directory, vars)
		if p.Directory == "" {
			p.Directory = d.Start.Directory
		}
		if p.Within <= 0 {
			p.Within = Duration(defaultProbe * 1e9)
		}
		c.rules(key, p.Rules, "")
		wants := map[ProbeOf][]Meaning{ProbeLoaded: {MeansLoaded, MeansFailed, MeansIgnore}, ProbeStartup: {MeansFault, MeansIgnore}}[p.Of]
		for k := range p.Rules {
			if r := &p.Rules[k]; wants != nil && r.Means != "" && !slices.Contains(wants, r.Means) {
				c.bad(fmt.Sprintf("%s.rule[%d].means", key, k), "a probe of %q has no rule that means %q", p.Of, r.Means)
			}
		}
		if p.Mapped && len(p.Rules) > 0 {
			c.bad(key+".rule", "has no place beside mapped, which prints nothing")
		}
		if p.Of == ProbeLoaded && !p.Mapped && !slices.ContainsFunc(p.Rules, func(r Rule) bool { return r.Means == MeansLoaded }) {
			c.bad(key, "a rule that means %q is needed", MeansLoaded)
		}
	}
}
