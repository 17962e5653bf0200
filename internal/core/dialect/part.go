package dialect

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// Part is something that a server consists of besides its mods.
type Part struct {
	Of    PartOf   `toml:"of"`
	Name  string   `toml:"name"` // the variable that says which is used
	About string   `toml:"about"`
	Paths []string `toml:"path"`  // where it lies; {version} stands for the version of one of several
	Mark  []string `toml:"mark"`  // files below its folder that show it
	Named []string `toml:"named"` // files that name the one which is used, besides those that register mods
	Holds string   `toml:"holds"` // of a file: what a new one holds; {name} in it is a variable where there is one of that name, and stays as it is elsewhere
}

// PartOf says what a part is.
type PartOf string

// Of the server's program and of what it runs on several can lie side by side, of which one is used. A loader is laid over
// what is there, and is known by its files then. Data are a folder that comes with the server, and a file is one that a
// server begins with. What is made is what the server makes anew when it is set aside: settings, caches, libraries.
const (
	PartServer  PartOf = "server"
	PartRuntime PartOf = "runtime"
	PartLoader  PartOf = "loader"
	PartData    PartOf = "data"
	PartFile    PartOf = "file"
	PartMade    PartOf = "made"
)

// Chosen tells parts of which one of several is used.
func (p *Part) Chosen() bool { return p.Of == PartServer || p.Of == PartRuntime }

// Comes tells parts that an operator brings under their name later, beside those that are there or over them.
func (p *Part) Comes() bool { return p.Chosen() || p.Of == PartLoader }

// TheWorld is what the world is called among what can be begun anew.
const TheWorld = "world"

// Part finds a part by name, or the only one that can be chosen when name is ""; or nil.
func (d *Dialect) Part(name string) (found *Part) {
	for i := range d.Parts {
		p := &d.Parts[i]
		if !p.Chosen() || name != "" && p.Name != name {
			continue
		}
		if found != nil {
			return nil
		}
		found = p
	}
	return found
}

// versionIn is what stands for a version in the path of a part.
const versionIn = "{version}"

// Places are the paths of a part with all variables filled in but {version}. Those that cannot be filled in are left out.
func (p *Part) Places(vars Vars) (list []string) {
	with := Vars{"version": versionIn}
	for k, v := range vars {
		with[k] = v
	}
	for _, form := range p.Paths {
		if full, ok := with.Expand(form); ok {
			list = append(list, path.Clean(full))
		}
	}
	return list
}

// parts checks what a server consists of. It returns the variables that are known with those of them.
func (c *checker) parts(d *Dialect, vars []string) []string {
	before := slices.Clone(vars)
	for i := range d.Parts {
		p, key := &d.Parts[i], fmt.Sprintf("part[%d]", i)
		known := before
		if p.Of == PartLoader {
			known = slices.Clone(vars) // it may lie over another part
		}
		c.part(p, key, append(known, "version"))
		if !p.Chosen() {
			continue
		}
		if slices.Contains(vars, p.Name) || p.Name == "version" {
			c.bad(key+".name", "%q is there already", p.Name)
		}
		vars = append(vars, p.Name)
	}
	return vars
}

func (c *checker) part(p *Part, key string, vars []string) {
	oneOf(c, key+".of", &p.Of, "", PartServer, PartRuntime, PartLoader, PartData, PartFile, PartMade)
	if len(p.Paths) == 0 {
		c.bad(key+".path", "is needed: where it lies")
	}
	for _, form := range p.Paths {
		c.variables(key+".path", form, vars)
		if strings.Count(form, versionIn) > 1 {
			c.bad(key+".path", "%q has {version} twice", form)
		}
		if p.Of == PartLoader && (len(p.Paths) > 1 || strings.Contains(form, versionIn)) {
			c.bad(key+".path", "is one folder, without a version in its name: a loader is laid over what is there")
		}
	}
	for _, m := range p.Mark {
		if !isBelow(m) {
			c.bad(key+".mark", "%q has to be a path below the part's folder", m)
		}
	}
	if p.Comes() || p.Of == PartMade {
		c.need(key+".name", p.Name)
	}
	if p.Of == PartMade && p.Name == TheWorld {
		c.bad(key+".name", "the world is what [world] says")
	}
	if !p.Chosen() && len(p.Named) > 0 {
		c.bad(key+".named", "is of no use: there is one only")
	}
	if (p.Of == PartFile) != (p.Holds != "") {
		c.bad(key+".holds", "is what a part that is a file begins with, and of no other")
	}
	if (p.Of == PartServer || p.Of == PartLoader || p.Of == PartData) && len(p.Mark) == 0 {
		c.bad(key+".mark", "is needed: files that show it")
	}
}

// Begin is what a new file holds.
func (p *Part) Begin(vars Vars) string {
	var pairs []string
	for name, value := range vars {
		if value != "" {
			pairs = append(pairs, "{"+name+"}", value)
		}
	}
	return strings.NewReplacer(pairs...).Replace(p.Holds)
}
