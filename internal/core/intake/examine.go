package intake

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/mod"
	"initium/internal/core/table"
)

// Mod is a mod that was found in what came.
type Mod struct {
	Naming
	Root     string // its folder or file in the tree; "" when the mod is all that came
	Place    int    // of Dialect.Places
	Single   bool   // it is one file
	Packed   bool   // which is an archive with the manifest inside
	In       *Bundle
	Shown    string // how it was known for a mod: the file that says so
	Around   []string
	Manifest mod.Manifest
	Files    int
	Bytes    int64
	Newest   time.Time // when the newest of its files was changed; zero when that is not known
}

// Bundle is a folder that holds several mods that belong together.
type Bundle struct {
	Root  string // its folder in the tree; "" when it is all that came
	Name  string // of its folder on a server
	Group bool   // it is a category folder, and no bundle
}

// Extra is something else that the dialect knows.
type Extra struct {
	Content *dialect.Content
	Path    string // in the tree
	Below   string // where below the content's folder it belongs
}

// Found is what is in what came, as far as a dialect can tell.
type Found struct {
	Dialect *dialect.Dialect
	Tree    *Tree
	Name    string // of what came
	Mods    []Mod
	Extras  []Extra
	Keys    []string // key files outside of mods
	Notes   []string // what to read: readmes and the like
	Surplus []string // files that belong nowhere
	Lists   []string // startup files that came along, from which an order can be read
}

// Interesting tells whether the bytes of a file are worth keeping while a source
// is read, for the dialects that it may be for.
func Interesting(dialects []*dialect.Dialect) func(name string, size int64) bool {
	names := map[string]bool{}
	var keys, own, data []string
	for _, d := range dialects {
		for _, p := range d.Places {
			if p.File != "" && !p.Packed && slices.ContainsFunc(d.Manifests, func(m dialect.Manifest) bool { return m.File == dialect.OwnFile }) {
				own = append(own, p.File) // which says itself what it is
			}
		}
		for _, name := range telling(d) {
			names[name] = true
		}
		if d.Keys.Files != "" {
			keys = append(keys, path.Base(d.Keys.Files))
		}
		for i := range d.Contents {
			if c := &d.Contents[i]; c.Merged() || c.Kind == dialect.ContentDatabase {
				data = append(data, path.Base(strings.TrimSuffix(c.Files, "/**")))
			}
		}
	}
	return func(name string, size int64) bool {
		base := path.Base(name)
		like := func(pattern string) bool { ok, _ := path.Match(pattern, base); return ok }
		if size <= table.MaxShipped && slices.ContainsFunc(data, like) {
			return true
		}
		if size > mod.MaxManifest {
			return false
		}
		for _, form := range own {
			if _, ok := stem(form, base); ok {
				return true
			}
		}
		return names[base] || isNote(base) && size <= maxNote || slices.ContainsFunc(keys, like)
	}
}

// telling are the names of files that tell what a mod is, or how it is registered.
func telling(d *dialect.Dialect) (names []string) {
	for _, p := range d.Places {
		for _, f := range slices.Concat(p.Mark, p.Bundle, []string{p.Main, p.Speaks}) {
			names = append(names, path.Base(f))
		}
	}
	for _, b := range d.Builds { // which is told of a build that comes
		if b.File != "" {
			names = append(names, path.Base(b.File))
		}
	}
	for _, m := range d.Manifests {
		if m.File != dialect.OwnFile {
			names = append(names, path.Base(m.File))
		}
	}
	for _, s := range d.Sources {
		names = append(names, path.Base(s.File))
	}
	for _, r := range d.Registrations {
		names = append(names, listNames(d, &r)...)
	}
	return names
}

// listNames are the names that a registration's file has, as far as the dialect
// itself says.
func listNames(d *dialect.Dialect, r *dialect.Registration) []string {
	base := path.Base(r.File)
	given, isGiven := strings.CutPrefix(base, "{")
	switch {
	case r.InFolder() || r.Form != "":
		return nil
	case !isGiven:
		return []string{base}
	}
	var names []string
	if g := d.Given(strings.TrimSuffix(given, "}")); g != nil {
		for _, value := range g.Default {
			names = append(names, path.Base(value))
		}
	}
	return names
}

// maxNote is the largest readme that is kept to be shown, in bytes.
const maxNote = 64 << 10

var noteWords = []string{"readme", "read me", "install", "changelog", "changes", "liesmich", "lisezmoi", "howto", "instructions", "notes"}

// isNote tells files that are for the operator to read.
func isNote(base string) bool {
	lower := strings.ToLower(base)
	switch path.Ext(lower) {
	case "", ".txt", ".md", ".rst", ".adoc", ".nfo", ".html":
	default:
		return false
	}
	return slices.ContainsFunc(noteWords, func(w string) bool { return strings.HasPrefix(lower, w) })
}

// isLitter tells files that systems leave behind and nobody wants.
func isLitter(name string) bool {
	for _, e := range strings.Split(name, "/") {
		switch e {
		case "__MACOSX", ".DS_Store", "Thumbs.db", "desktop.ini", ".git", ".svn", ".hg", ".github":
			return true
		}
	}
	return strings.HasPrefix(path.Base(name), "._")
}

// PackedForms tell packed mods by their names: they are not unpacked though they
// are archives.
func PackedForms(dialects []*dialect.Dialect) func(name string) bool {
	return func(name string) bool {
		return slices.ContainsFunc(dialects, func(d *dialect.Dialect) bool {
			return slices.ContainsFunc(d.Places, func(p dialect.Place) bool {
				_, ok := stem(p.File, path.Base(name))
				return ok && p.Packed
			})
		})
	}
}

// stem is the name of a mod that is a single file, as the file is called. Unlike
// on a server, it may hold anything.
func stem(form, base string) (name string, ok bool) {
	name, _, ok = dialect.NameIn(form, base)
	return name, ok
}

// examiner walks through a tree.
type examiner struct {
	*Found
	wanted   []string
	children map[string][]string
	entries  map[string]*Entry
	plain    map[string]int // folders that are mods though nothing marks them, with the place of each
}

// Examine finds out what is in a tree. name is what came is called; wanted are
// the names of mods that others look for and that are not there.
func Examine(tree *Tree, name string, d *dialect.Dialect, wanted []string) *Found {
	x := &examiner{Found: &Found{Dialect: d, Tree: tree, Name: name}, wanted: wanted,
		children: map[string][]string{}, entries: map[string]*Entry{}}
	x.index(tree, "")
	x.unmarked()
	x.visit("", nil)
	return x.Found
}

// index makes the contents of archives inside the archive look like folders.
func (x *examiner) index(t *Tree, prefix string) {
	for i := range t.Entries {
		e := &t.Entries[i]
		full := join(prefix, e.Path)
		x.entries[full] = e
		parent := path.Dir(full)
		if parent == "." {
			parent = ""
		}
		x.children[parent] = append(x.children[parent], full)
		if e.Inside != nil {
			x.index(e.Inside, full)
		}
	}
}

func join(dir, name string) string {
	if dir == "" {
		return name
	}
	return dir + "/" + name
}

// each goes through the files below a folder.
func (x *examiner) each(dir string, do func(name string)) {
	for _, name := range x.children[dir] {
		if x.entries[name].Kind == Folder {
			x.each(name, do)
		} else {
			do(name)
		}
	}
}

// has tells whether a file is in a folder of the tree.
func (x *examiner) has(dir, name string) bool {
	e := x.entries[join(dir, name)]
	return e != nil && e.Kind != Folder
}

func (x *examiner) hasAny(dir string, names []string) (which string) {
	for _, n := range names {
		if x.has(dir, n) {
			return n
		}
		if !dialect.IsPattern(n) {
			continue
		}
		parent := strings.TrimPrefix(path.Join("/", dir, path.Dir(n)), "/")
		for _, name := range x.children[parent] { // in a folder of the mod's, or in itself
			if ok, _ := path.Match(path.Base(n), path.Base(name)); ok && x.entries[name].Kind != Folder {
				return path.Base(name)
			}
		}
	}
	return ""
}

// visit looks at one folder and what is in it.
func (x *examiner) visit(dir string, bundle *Bundle) {
	if place, shown := x.asMod(dir); shown != "" && !isLitter(dir) {
		x.mod(dir, place, shown, bundle)
		return
	}
	if bundle == nil {
		bundle = x.asBundle(dir)
	}
	for _, name := range x.children[dir] {
		e := x.entries[name]
		switch {
		case isLitter(name):
			x.Surplus = append(x.Surplus, name)
		case e.Kind == Folder:
			x.visit(name, bundle)
		case e.Inside != nil:
			x.visit(name, nil)
		default:
			x.file(name, e, bundle)
		}
	}
}

// anyFolder is what shows a mod in a family in which any folder is one.
const anyFolder = "any folder"

// asMod tells whether a folder is a mod: by a file that marks one, or without
// which one cannot load, or in which one describes itself.
func (x *examiner) asMod(dir string) (place int, shown string) {
	if x.hasBundleFile(dir) {
		return -1, ""
	}
	if place, ok := x.plain[dir]; ok {
		return place, anyFolder
	}
	for i := range x.Dialect.Places {
		p := &x.Dialect.Places[i]
		if p.File != "" || p.Loads == dialect.LoadsBase {
			continue
		}
		if mark := x.hasAny(dir, p.Mark); mark != "" {
			return i, mark
		}
		if len(p.Mark) > 0 {
			continue
		}
		if p.Main != "" && x.has(dir, p.Main) {
			return i, p.Main
		}
		for _, m := range x.Dialect.Manifests {
			if m.Format != dialect.FormatSource && x.has(dir, m.File) {
				return i, m.File
			}
		}
	}
	return -1, ""
}

func (x *examiner) hasBundleFile(dir string) bool {
	return slices.ContainsFunc(x.Dialect.Places, func(p dialect.Place) bool { return x.hasAny(dir, p.Bundle) != "" })
}

// asBundle tells whether a folder holds several mods that belong together; nil
// when it does not. A category folder is called by its exact name in startup files;
// the name of a bundle is free, and what only says which copy it is goes.
func (x *examiner) asBundle(dir string) *Bundle {
	for _, p := range x.Dialect.Places {
		if p.Group != "" && strings.HasPrefix(path.Base(dir), p.Group) {
			return &Bundle{dir, path.Base(dir), true}
		}
	}
	if !x.hasBundleFile(dir) {
		return nil
	}
	name := dir
	if dir == "" || x.entries[dir].Inside != nil {
		name = x.archive(dir)
	}
	return &Bundle{dir, Mend(noNames, BareName(path.Base(name))), false}
}

// archive is what the archive that a folder lies in is called.
func (x *examiner) archive(dir string) string {
	for at := dir; at != "." && at != ""; at = path.Dir(at) {
		if x.entries[at].Inside != nil {
			return path.Base(at)
		}
	}
	return x.Name
}

// mod takes a folder down as a mod.
func (x *examiner) mod(dir string, place int, shown string, bundle *Bundle) {
	m := Mod{Root: dir, Place: place, Shown: shown, In: bundle}
	m.Manifest = mod.Read(x.Dialect.Manifests, func(file string) ([]byte, error) { return x.read(join(dir, file)) }).Fit(x.Dialect.BuildCalled)
	folder := path.Base(dir)
	if dir == "" || x.entries[dir].Inside != nil {
		folder = ""
	}
	m.Naming = propose(x.Dialect.Names, m.Manifest.Name, folder, x.archive(dir), x.wanted)
	above := path.Dir(dir)
	if bundle != nil {
		above = path.Dir(bundle.Root)
	}
	if dir != "" && above != "." && (bundle == nil || bundle.Root != "") {
		m.Around = strings.Split(above, "/")
	}
	x.count(&m, dir)
	x.Mods = append(x.Mods, m)
}

func (x *examiner) count(m *Mod, dir string) {
	for _, name := range x.children[dir] {
		switch e := x.entries[name]; {
		case isLitter(name):
		case e.Kind == Folder:
			x.count(m, name)
		default:
			m.Files++
			m.Bytes += e.Size
			if e.Changed.After(m.Newest) {
				m.Newest = e.Changed
			}
		}
	}
}

func (x *examiner) read(name string) ([]byte, error) {
	e := x.entries[name]
	switch {
	case e == nil || e.Kind == Folder:
		return nil, fs.ErrNotExist
	case e.Data == nil && e.Size > 0:
		return nil, fmt.Errorf("it is larger than the %s that are read of such a file", Bytes(mod.MaxManifest))
	}
	return e.Data, nil
}

// file finds out what a file outside of folders that are mods is.
func (x *examiner) file(name string, e *Entry, bundle *Bundle) {
	base := path.Base(name)
	for i := range x.Dialect.Places {
		p := &x.Dialect.Places[i]
		if called, ok := stem(p.File, base); ok && p.Loads != dialect.LoadsBase {
			x.single(name, e, i, called, bundle)
			return
		}
	}
	for i := range x.Dialect.Contents {
		if below, ok := x.Dialect.Contents[i].Fits(name); ok {
			x.Extras = append(x.Extras, Extra{&x.Dialect.Contents[i], name, below})
			return
		}
	}
	if x.isKey(name) {
		x.Keys = append(x.Keys, name)
		return
	}
	for _, r := range x.Dialect.Registrations {
		if slices.Contains(listNames(x.Dialect, &r), base) {
			x.Lists = append(x.Lists, name)
			return
		}
	}
	if isNote(base) {
		x.Notes = append(x.Notes, name)
	} else if bundle == nil { // what lies in a bundle comes along with it
		x.Surplus = append(x.Surplus, name)
	}
}

// isKey tells whether a file lies where mods have their keys.
func (x *examiner) isKey(name string) bool {
	if x.Dialect.Keys.Files == "" {
		return false
	}
	_, ok := (&dialect.Content{Files: x.Dialect.Keys.Files}).Fits(name)
	return ok
}

// single takes a file down as a mod.
func (x *examiner) single(name string, e *Entry, place int, stem string, bundle *Bundle) {
	p := &x.Dialect.Places[place]
	m := Mod{Root: name, Place: place, Single: true, Packed: p.Packed, Shown: path.Base(name), In: bundle, Files: 1, Bytes: e.Size, Newest: e.Changed}
	if p.Packed {
		m.Manifest = readPacked(x.Dialect, e.Data)
	} else {
		m.Manifest = mod.Read(x.Dialect.Manifests, func(file string) ([]byte, error) {
			if file != dialect.OwnFile {
				return nil, fs.ErrNotExist
			}
			return x.read(name)
		}).Fit(x.Dialect.BuildCalled)
	}
	if _, release, ok := dialect.NameIn(p.File, path.Base(name)); ok && m.Manifest.Release == "" {
		m.Manifest.Release = release
	}
	m.Naming = propose(x.Dialect.Names, m.Manifest.Name, stem, x.Name, x.wanted)
	if dir := path.Dir(name); dir != "." {
		m.Around = strings.Split(dir, "/")
	}
	x.Mods = append(x.Mods, m)
}

// Surely tells whether something in what came shows what it is for: not only that in a family any
// folder is a mod.
func (f *Found) Surely() bool {
	return slices.ContainsFunc(f.Mods, func(m Mod) bool { return m.Shown != anyFolder })
}

// Weight is how much of what came the dialect can tell, to find the family that it
// is for.
func (f *Found) Weight() int {
	n := 0
	if len(f.Mods) > 0 && !f.Surely() {
		return 1
	}
	for i := range f.Mods {
		m := &f.Mods[i]
		n += 10
		if m.Manifest.File != "" && m.Manifest.Problem == nil {
			n += 5
		}
	}
	if n == 0 {
		return 0
	}
	return n + len(f.Extras)
}
