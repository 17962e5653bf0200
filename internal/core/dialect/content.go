package dialect

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// Content is something that a download may bring besides mods.
type Content struct {
	Kind  ContentKind `toml:"kind"`
	Files string      `toml:"files"` // a pattern; see Fits
	Into  string      `toml:"into"`  // the folder that the files go into; of data the table that they are added to
	About string      `toml:"about"`

	// Of data that Initium adds itself:
	Entry  string `toml:"entry"`  // where in the table the entries are; of an INI file a section, "" for the sections
	ID     string `toml:"id"`     // what each is known by: attributes, fields, or {key}
	Format Format `toml:"format"` // of the table, where its ending does not tell it
	Base   string `toml:"base"`   // a file that the table begins from when it is not there yet
	Needed bool   `toml:"needed"` // the mod does not work without its entries
}

// Merged tells content of which Initium adds the entries to a table.
func (c *Content) Merged() bool { return c.Kind == ContentData && c.ID != "" }

// ContentKind says what is done with content.
type ContentKind string

// Maps and overlays are files that are put among the server's own. Data are added to a table, where the
// dialect says how; else they are left to the operator, who is told of it, as is what is to be run in a
// database or set by hand.
const (
	ContentMap      ContentKind = "map"
	ContentOverlay  ContentKind = "overlay"
	ContentData     ContentKind = "data"
	ContentDatabase ContentKind = "database"
	ContentSettings ContentKind = "settings"
)

// Placed tells whether the files of a kind are put somewhere by Initium.
func (k ContentKind) Placed() bool { return k == ContentMap || k == ContentOverlay }

// Fits tells whether a path in a download is such content, and where below Into
// it belongs. A pattern without a slash is compared with the file's name, one with
// slashes with as many elements at the end of its path, and one that ends in "/**"
// with the folders above: what is below them keeps its path.
func (c *Content) Fits(name string) (below string, ok bool) {
	elements := strings.Split(name, "/")
	pattern := strings.Split(c.Files, "/")
	if pattern[len(pattern)-1] != "**" {
		from := len(elements) - len(pattern)
		if from < 0 || !fitsAll(pattern, elements[from:]) {
			return "", false
		}
		return elements[len(elements)-1], true
	}
	pattern = pattern[:len(pattern)-1]
	for at := 0; at+len(pattern) < len(elements); at++ {
		if fitsAll(pattern, elements[at:at+len(pattern)]) {
			return strings.Join(elements[at+len(pattern):], "/"), true
		}
	}
	return "", false
}

func fitsAll(pattern, elements []string) bool {
	for i := range pattern {
		if ok, err := path.Match(pattern[i], elements[i]); err != nil || !ok {
			return false
		}
	}
	return true
}

// Leaving is a file or folder that a mod makes by itself when it runs.
type Leaving struct {
	Path  string `toml:"path"` // with {mod} in it
	About string `toml:"about"`
}

// World says what a backup of the server's world holds.
type World struct {
	Paths []string `toml:"paths"` // files and folders; the last element may be a pattern
	About string   `toml:"about"` // what of it goes with a mod that is removed
}

// Database is the one that scripts which come with mods are run on.
type Database struct {
	Engine  string `toml:"engine"`  // sqlite or mysql
	File    string `toml:"file"`    // of SQLite
	Setting string `toml:"setting"` // whose value says how MySQL or MariaDB is reached, as a URL or in words

	// Settings that each have a part of that.
	Host     string `toml:"host"`
	Port     string `toml:"port"`
	User     string `toml:"user"`
	Password string `toml:"password"`
	Name     string `toml:"name"`
}

// Known tells whether there is a database at all.
func (d Database) Known() bool { return d.Engine != "" }

// content checks what the dialect says of downloads, of what mods leave behind,
// and of the world.
func (c *checker) content(d *Dialect, vars []string) {
	for i := range d.Contents {
		content, key := &d.Contents[i], fmt.Sprintf("content[%d]", i)
		oneOf(c, key+".kind", &content.Kind, "", ContentMap, ContentOverlay, ContentData, ContentDatabase, ContentSettings)
		c.glob(key+".files", strings.TrimSuffix(content.Files, "/**"))
		c.variables(key+".into", content.Into, vars)
		if content.Kind.Placed() && content.Into == "" {
			c.bad(key+".into", "is needed: the folder that a %s goes into", content.Kind)
		}
		c.mergedContent(content, key, vars)
	}
	for i := range d.Leavings {
		key := fmt.Sprintf("leaves[%d].path", i)
		c.variables(key, d.Leavings[i].Path, append(slices.Clip(vars), "mod"))
		if !strings.Contains(path.Base(d.Leavings[i].Path), "{mod}") {
			c.bad(key, "has to hold {mod} in its last element")
		}
	}
	for _, p := range d.World.Paths {
		c.variables("world.paths", p, vars)
		c.glob("world.paths", path.Base(p))
	}
	c.variables("database.file", d.Database.File, vars)
	if d.Database != (Database{}) {
		oneOf(c, "database.engine", &d.Database.Engine, "sqlite", "sqlite", "mysql")
		c.database(&d.Database)
	}
	c.variables("keys.into", d.Keys.Into, vars)
	if d.Keys.Files != "" {
		c.glob("keys.files", d.Keys.Files)
		c.need("keys.into", d.Keys.Into)
	}
}

// database checks what the dialect says of how its database is reached.
func (c *checker) database(d *Database) {
	parts := []string{d.Host, d.Port, d.User, d.Password, d.Name}
	apart := slices.ContainsFunc(parts, func(p string) bool { return p != "" })
	switch {
	case d.Engine == "sqlite":
		c.need("database.file", d.File)
		if d.Setting != "" || apart {
			c.bad("database.setting", "belongs to a database of mysql; one of sqlite is a file")
		}
	case d.File != "":
		c.bad("database.file", "belongs to a database of sqlite; that of mysql is found by a setting")
	case d.Setting == "" && d.Name == "":
		c.bad("database.setting", "is needed: the setting that says how the database is reached (or host, user, password and name, each a setting of its own)")
	case d.Setting != "" && apart:
		c.bad("database.setting", "says all of it, or settings of their own each say a part; not both")
	}
}

// tableFormats are those of tables, by the endings of files.
var tableFormats = map[string]Format{".xml": FormatXML, ".json": FormatJSON, ".yaml": FormatYAML, ".yml": FormatYAML, ".ini": FormatINI}

// mergedContent checks how data are added to a table.
func (c *checker) mergedContent(content *Content, key string, vars []string) {
	if content.ID == "" {
		if content.Entry != "" || content.Base != "" || content.Needed {
			c.bad(key+".id", "is needed: what each entry is known by")
		}
		return
	}
	if content.Kind != ContentData {
		c.bad(key+".id", "is of no use: only data have entries")
		return
	}
	c.need(key+".into", content.Into)
	oneOf(c, key+".format", &content.Format, tableFormats[strings.ToLower(path.Ext(content.Into))], FormatXML, FormatJSON, FormatYAML, FormatINI)
	c.variables(key+".base", content.Base, vars)
	if content.Format == FormatXML && !strings.Contains(content.Entry, ".") {
		c.bad(key+".entry", "has to be the elements that lead to an entry, with dots, such as animals.animal")
	}
}

func (c *checker) glob(key, pattern string) {
	c.need(key, pattern)
	if _, err := path.Match(pattern, "x"); err != nil {
		c.bad(key, "%q is no pattern: %v", pattern, err)
	}
}
