package check

import (
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/mod"
)

// exists looks for a file or folder by its absolute path; without a file system
// nothing is missed.
func (c *checker) exists(name string) bool {
	if c.facts.FS == nil {
		return true
	}
	_, err := fs.Stat(c.facts.FS, strings.TrimPrefix(path.Clean(name), "/"))
	return err == nil
}

func (c *checker) start() {
	for _, g := range c.d.Givens {
		if what, missing := c.facts.Missing[g.Name]; missing {
			if what == "" {
				what = "no value was given"
			}
			c.add(Finding{Code: CodeGivenMissing, Severity: Error}, "%s (%s): %s", g.About, g.Name, what).
				Remedy = fmt.Sprintf("give the server's value %s", g.Name)
			c.halted = true
		}
	}
	for i := range c.d.Parts {
		p := &c.d.Parts[i]
		if what, missing := c.facts.Missing[p.Name]; missing && p.Chosen() {
			f := c.add(Finding{Code: CodePartMissing, Severity: Error}, "%s: %s", cmp.Or(p.About, p.Name), what)
			f.Remedy = "use one that is there, or lay it there"
			c.offer(f, dialect.BuildOf(p.Of))
			c.halted = true
		}
	}
	dir, ok := c.s.Vars.Expand(c.d.Start.Directory)
	switch {
	case !ok:
	case !c.exists(dir):
		c.add(Finding{Code: CodeDirectoryMissing, Severity: Error, File: dir}, "the working directory %s is not there", dir).
			Remedy = "adopt the server again with the folder that it is in"
		c.halted = true
	default:
		c.startFiles(dir)
	}
	if c.facts.Running {
		return
	}
	if c.facts.PortBusy != "" {
		c.add(Finding{Code: CodePortBusy, Severity: Error}, "port %s is taken: %s", c.s.Vars["port"], c.facts.PortBusy).
			Remedy = "stop what holds the port, or give the server another one" + c.freePort()
	}
	if len(c.facts.Sharing) > 0 && c.facts.PortBusy == "" {
		c.add(Finding{Code: CodePortShared, Severity: Warning}, "port %s is also that of %s: only one of them can run at a time", c.s.Vars["port"], strings.Join(c.facts.Sharing, ", ")).
			Remedy = "give one of them another port" + c.freePort()
	}
}

func (c *checker) freePort() string {
	if c.facts.PortFree == 0 {
		return ""
	}
	return fmt.Sprintf(" (%d is free)", c.facts.PortFree)
}

// startFiles looks for the files that the start command names, as they are seen
// from the working directory.
func (c *checker) startFiles(dir string) {
	for _, word := range c.d.Start.Files {
		name, ok := c.s.Vars.Expand(word)
		if !ok {
			continue
		}
		full := name
		if !path.IsAbs(name) {
			full = path.Join(dir, name)
		}
		if c.exists(full) {
			continue
		}
		c.add(Finding{Code: CodeStartFileMissing, Severity: Error, File: full}, "the start command names %s, which is not there, seen from %s", name, dir).
			Remedy = "put the file there, or give the server the value that names the right one"
		c.stops = append(c.stops, name+" is not there")
	}
}

var unfit = map[dialect.BuildOf]Code{dialect.BuildServer: CodeServerUnfit, dialect.BuildLoader: CodeLoaderUnfit, dialect.BuildRuntime: CodeRuntimeUnfit}

// offer offers to use another one that lies beside the one that does not fit.
func (c *checker) offer(f *Finding, of dialect.BuildOf) {
	if use, ok := c.facts.Fitting[of]; ok {
		f.Remedy, f.Changes = use.String(), []lineup.Change{use}
	}
}

// builds compares the versions of the server and what it stands on with what
// this family of servers needs.
func (c *checker) builds() {
	for i := range c.d.Builds {
		b := &c.d.Builds[i]
		have, asked := c.facts.Builds[b.Of]
		if !asked {
			continue
		}
		about := b.About
		if about == "" {
			about = "the " + string(b.Of)
		}
		if have.Absent {
			if b.Wants != "" {
				c.add(Finding{Code: unfit[b.Of], Severity: Error}, "%s is not there, and %s is needed", about, b.Wants).
					Remedy = "lay one over the server that fits " + b.Wants
			}
			continue
		}
		if have.Version == "" {
			c.add(Finding{Code: CodeVersionUnknown, Severity: Note}, "the version of %s cannot be found out: %s", about, have.Problem)
			continue
		}
		fits, err := mod.Fits(have.Version, b.Wants, b.Versions)
		if err != nil || fits {
			continue
		}
		f := c.add(Finding{Code: unfit[b.Of], Severity: Error}, "%s has version %s, and %s is needed", about, have.Version, b.Wants)
		f.Remedy = fmt.Sprintf("put %s of a version in its place that fits %s", about, b.Wants)
		c.offer(f, b.Of)
		if b.Of != dialect.BuildLoader {
			c.stops = append(c.stops, fmt.Sprintf("%s has version %s, and %s is needed", about, have.Version, b.Wants))
		}
	}
}
