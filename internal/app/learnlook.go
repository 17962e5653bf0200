package app

import (
	"archive/zip"
	"bytes"
	"cmp"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/shell"

	"initium/internal/core/dialect"
	"initium/internal/core/survey"
	"initium/internal/core/teach"
	"initium/internal/core/text"
)

// Bounds of what is looked at when a server is learned.
const (
	maxLearnFiles = 5000    // files below its folder
	maxFar        = 400_000 // files and folders elsewhere on the machine
	farShare      = 0.6     // of the registered mods that a folder elsewhere has to hold
)

// Way is a way in which mods may be registered, as far as looking tells.
type Way struct {
	File  string   // below the server's folder, "" for being in a folder
	Shape string   //
	Mods  []string // that it finds
	Place string   // where they are, below the server's folder or a whole path; "" when that was not found
	There int      // mods that are there

	outline teach.Outline
}

// sighting is what a look through the folder of a server has found.
type sighting struct {
	dir     string
	command []string // that starts the server, with {dir} in it
	ways    []Way    // the likeliest first
}

// lookAround finds the ways in which the mods of a server may be registered, from the names of some of
// them. startup is the file that registers them, "" when that is to be found.
func (a *App) lookAround(dir, startup string, command, mods []string) (*sighting, error) {
	if _, err := os.ReadDir(dir); err != nil {
		return nil, fmt.Errorf("look through the server's folder: %w", err)
	}
	g := &sighting{dir: dir, command: command}
	files := startupFiles(dir, startup)
	if len(mods) == 0 {
		if mods = namesWithin(dir, files); len(mods) == 0 {
			return nil, usage("no file below %s names what lies in a folder of it: name a mod", text.Clean(dir))
		}
	}
	near := lookNear(dir, mods[0])
	if len(near[mods[0]]) == 0 && len(packedPlaces(dir, near, mods[0])) == 0 {
		addReleases(near, dir, mods[0])
	}
	for _, file := range slices.Sorted(maps.Keys(files)) {
		doc := files[file]
		if teach.NameAt(string(doc), mods[0]) < 0 || insideMod(near, mods[0], file) {
			continue
		}
		g.add(file, doc, mods, near)
	}
	if startup == "" {
		g.addLinks(near, mods[0])
		g.addPresence(near, mods[0])
	}
	if len(g.ways) == 0 {
		return nil, usage("no file below %s names %s in a way that a dialect can describe, and no folder of it holds it", text.Clean(dir), text.Clean(mods[0]))
	}
	named := func(w Way) int { // a file that the command names, beside others
		if w.File != "" && slices.ContainsFunc(g.command, func(word string) bool { return strings.HasSuffix(word, w.File) }) {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(g.ways, func(a, b Way) int {
		return cmp.Or(cmp.Compare(named(a), named(b)), cmp.Compare(b.There, a.There), cmp.Compare(strings.Count(a.File, "/"), strings.Count(b.File, "/")), cmp.Compare(len(b.Mods), len(a.Mods)))
	})
	if g.ways[0].File == "" { // a file that names the mods says more than that they are there
		if i := slices.IndexFunc(g.ways, func(w Way) bool { return w.File != "" && (w.There > 1 || 2*w.There >= g.ways[0].There && w.There > 0) }); i > 0 {
			w := g.ways[i]
			g.ways = append([]Way{w}, slices.Delete(g.ways, i, i+1)...)
		}
	}
	return g, nil
}

// startupFiles are the texts below a folder that may register mods, by their path from there.
func startupFiles(dir, startup string) map[string][]byte {
	files := map[string][]byte{}
	if startup != "" {
		below := filepath.Clean(startup)
		if rel, err := filepath.Rel(dir, absolute(startup)); err == nil && filepath.IsLocal(rel) {
			below = rel
		}
		if doc, err := survey.Open(theirs.Tree(), filepath.Join(dir, below), maxTaughtFile); err == nil && filepath.IsLocal(below) {
			files[filepath.ToSlash(below)] = doc
		}
		return files
	}
	left := maxLearnFiles
	theirs.Walk(dir, func(full string, e fs.DirEntry, err error) error {
		if left--; left < 0 {
			return fs.SkipAll
		}
		below, relErr := filepath.Rel(dir, full)
		if err != nil || relErr != nil {
			return nil
		}
		if e.IsDir() && strings.Count(below, string(filepath.Separator)) >= 4 {
			return fs.SkipDir
		}
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() || info.Size() > maxTaughtFile || info.Size() == 0 {
			return nil
		}
		switch strings.ToLower(path.Ext(below)) {
		case ".md", ".log", ".html", ".zip", ".gz", ".png", ".so":
			return nil
		}
		if doc, err := survey.Open(theirs.Tree(), full, maxTaughtFile); err == nil && bytes.IndexByte(doc[:min(len(doc), 8<<10)], 0) < 0 {
			files[filepath.ToSlash(below)] = doc
		}
		return nil
	})
	return files
}

// addReleases adds the mods whose files or folders are called by their names and releases, where one of
// them is the mod.
func addReleases(near map[string][]spot, dir, mod string) {
	forms := map[string]bool{} // folders and forms that fit the mod
	names := map[string][]string{}
	for name, spots := range near {
		for _, s := range spots {
			called := s.before + name + s.ending
			names[s.dir] = append(names[s.dir], called)
			after, ok := strings.CutPrefix(called, mod)
			if !ok || !release.MatchString(after) {
				continue
			}
			ending := path.Ext(called)
			if strings.Trim(ending, ".0123456789") == "" { // it is the end of the release
				ending = ""
			}
			if info, err := theirs.Stat(filepath.Join(dir, filepath.FromSlash(s.dir), called)); err == nil && info.IsDir() {
				ending += "/"
			}
			forms[s.dir+"\x00{mod}"+after[:1]+"{release}"+ending] = true
		}
	}
	for in := range forms {
		folder, form, _ := strings.Cut(in, "\x00")
		for _, called := range names[folder] {
			if name, _, ok := dialect.NameIn(strings.TrimSuffix(form, "/"), called); ok {
				s := spot{dir: folder, ending: strings.TrimPrefix(form, "{mod}")}
				if !slices.Contains(near[name], s) {
					near[name] = append(near[name], s)
				}
			}
		}
	}
}

// insideMod tells whether a file lies in a folder that is a mod, as its manifest does.
func insideMod(near map[string][]spot, mod, file string) bool {
	return slices.ContainsFunc(near[mod], func(s spot) bool {
		rest, ok := strings.CutPrefix(file, strings.TrimPrefix(s.dir+"/", "./"))
		return ok && s.dir != "." && strings.Contains(rest, "/") || ok && s.dir != "." && s.ending != "" && strings.HasSuffix(file, s.ending)
	})
}

// add adds the way in which a file names mods, if there is one that finds them all.
func (g *sighting) add(file string, doc []byte, mods []string, near map[string][]spot) {
	first, err := teach.FindSiblings(file, doc, mods[0])
	if err != nil {
		return
	}
	o := teach.Outline{Recognise: []string{file}}
	o.Place, o.File = placeOf(near, first.Mods)
	if near := thereOf(near, first.Mods); near < len(first.Mods) {
		place, name, far := lookFar(foldersNamed(doc), first.Mods)
		if place == "" {
			place, name, far = lookFar([]string{"/usr/lib", "/usr/libexec", "/usr/share", "/usr/local", "/opt", "/var/lib"}, first.Mods)
		}
		if far > near {
			o.Place, o.File = place, name
			if below, err := filepath.Rel(g.dir, place); err == nil && filepath.IsLocal(below) {
				o.Place = filepath.ToSlash(below)
			}
		}
	}
	if o.Place == "" {
		for _, p := range packedPlaces(g.dir, near, mods[0]) {
			o.Place, o.File, o.Packed, o.Manifest = p.dir, "{mod}"+p.ending, true, p.manifest
		}
	}
	root := filepath.Join(g.dir, filepath.FromSlash(o.Place))
	if path.IsAbs(o.Place) {
		root = o.Place
	}
	there := func(mod string) bool {
		if o.Packed { // any file may be it
			return slices.Contains(first.Mods, mod)
		}
		name := mod
		if o.File != "" {
			name = strings.Replace(o.File, "{mod}", mod, 1)
		}
		if strings.Contains(name, "{release}") {
			return o.Place != "" && slices.ContainsFunc(near[mod], func(s spot) bool { return s.before+"{mod}"+s.ending == o.File })
		}
		_, err := theirs.Stat(filepath.Join(root, name))
		return err == nil && o.Place != "" && mod != "" && filepath.IsLocal(name)
	}
	r, err := teach.FindRegistration(file, doc, mods[0], there)
	if err != nil || slices.ContainsFunc(mods, func(m string) bool { return !slices.Contains(r.Mods, m) && bytes.Contains(doc, []byte(m)) }) {
		return
	}
	if o.Place != "" && o.Place != "." && !path.IsAbs(o.Place) {
		o.Recognise = append(o.Recognise, o.Place)
	}
	o.Registration = r
	g.more(&o, file, doc, there)
	o.Group = groupMark(r.Mods)
	if len(r.Paths) == 1 && strings.Contains(r.Text, "paths") {
		o.Called = r.Paths[0]
	}
	w := Way{File: file, Shape: string(r.Shape), Mods: slices.Clone(r.Mods), Place: o.Place, outline: o}
	for _, more := range o.More {
		w.Mods = append(w.Mods, more.Mods...)
	}
	for _, mod := range w.Mods {
		if there(mod) {
			w.There++
		}
	}
	g.ways = append(g.ways, w)
}

// more finds further lists in a file, which name mods that the first does not: those that are in the
// same place.
func (g *sighting) more(o *teach.Outline, file string, doc []byte, there func(string) bool) {
	const most = 3
	found := slices.Clone(o.Registration.Mods)
	root := filepath.Join(g.dir, filepath.FromSlash(o.Place))
	if path.IsAbs(o.Place) {
		root = o.Place
	}
	entries, err := os.ReadDir(root)
	if err != nil || o.Place == "" {
		return
	}
	before, after, _ := strings.Cut(cmp.Or(o.File, "{mod}"), "{mod}")
	for _, e := range entries {
		mod, ok := strings.CutPrefix(e.Name(), before)
		mod, ok2 := strings.CutSuffix(mod, after)
		if !ok || !ok2 || mod == "" || slices.Contains(found, mod) || len(o.More) == most || teach.NameAt(string(doc), mod) < 0 {
			continue
		}
		r, err := teach.FindRegistration(file, doc, mod, there)
		if err != nil || slices.ContainsFunc(r.Mods, func(m string) bool { return slices.Contains(found, m) || !there(m) }) {
			continue
		}
		found = append(found, r.Mods...)
		o.More = append(o.More, r.Renamed(fmt.Sprintf("%s, list %d", path.Base(file), len(o.More)+2)))
	}
}

// groupMark is what the names of category folders begin with, where some of those that are registered
// begin with a sign and the others do not; "" for none.
func groupMark(mods []string) (mark string) {
	plain := 0
	for _, mod := range mods {
		switch first := mod[:min(1, len(mod))]; {
		case first == "" || letter(first[0]) || first == "_" || first == ".":
			plain++
		case mark == "" || mark == first:
			mark = first
		default:
			return ""
		}
	}
	if plain == 0 {
		return ""
	}
	return mark
}

// thereOf is how many of some mods are near.
func thereOf(near map[string][]spot, mods []string) (n int) {
	for _, m := range mods {
		if len(near[m]) > 0 {
			n++
		}
	}
	return n
}

// addLinks adds the folders in which a link for each mod registers it.
func (g *sighting) addLinks(near map[string][]spot, mod string) {
	for from, mods := range g.linksIn(near) {
		place := g.within(from.dir, from.into)
		there := slices.ContainsFunc(near[mod], func(other spot) bool {
			return other.dir == place && other.before == from.before && other.ending == from.ending
		})
		if !slices.Contains(mods, mod) && !there {
			continue
		}
		called := from.before + "{mod}" + from.ending
		o := teach.Outline{Recognise: []string{from.dir}, Place: place, Order: dialect.OrderServer, Registration: teach.Links(from.dir, called, from.into, mods)}
		if called != "{mod}" {
			o.File = called
		}
		w := Way{File: from.dir + "/", Shape: string(dialect.ShapeLink), Mods: mods, Place: place, outline: o}
		for _, name := range mods {
			if _, err := theirs.Stat(filepath.Join(g.dir, filepath.FromSlash(from.dir), from.before+name+from.ending)); err == nil {
				w.There++
			}
		}
		g.ways = append(g.ways, w)
	}
}

// linked are links in one folder that lead into another, as seen from there, to what is called alike.
type linked struct {
	spot
	into string
}

// linksIn finds the links near a server, with the names that they have.
func (g *sighting) linksIn(near map[string][]spot) map[linked][]string {
	found := map[linked][]string{}
	for _, name := range slices.Sorted(maps.Keys(near)) {
		for _, s := range near[name] {
			called := s.before + name + s.ending
			target, err := os.Readlink(filepath.Join(g.dir, filepath.FromSlash(s.dir), called))
			if err != nil || path.Base(target) != called || s.dir == "." || strings.ContainsAny(s.dir+s.before+s.ending+target, "{}") {
				continue
			}
			from := linked{s, path.Dir(target)}
			found[from] = append(found[from], name)
		}
	}
	return found
}

// within is a folder that a link leads into, as seen from the server's where it lies below that.
func (g *sighting) within(dir, into string) string {
	full := into
	if !path.IsAbs(into) {
		full = filepath.Join(g.dir, filepath.FromSlash(dir), filepath.FromSlash(into))
	}
	if below, err := filepath.Rel(g.dir, full); err == nil && filepath.IsLocal(below) {
		return filepath.ToSlash(below)
	}
	return full
}

// addPresence adds being in a folder as the way in which mods are registered.
func (g *sighting) addPresence(near map[string][]spot, mod string) {
	for _, s := range near[mod] {
		if s.dir == "." {
			continue
		}
		var mods []string
		for _, name := range slices.Sorted(maps.Keys(near)) {
			if slices.Contains(near[name], s) {
				mods = append(mods, name)
			}
		}
		o := teach.Outline{Recognise: []string{s.dir}, Place: s.dir, Always: true, Order: dialect.OrderServer}
		if s.before+s.ending != "" {
			o.File = s.before + "{mod}" + s.ending
		}
		g.ways = append(g.ways, Way{Shape: "presence", Mods: mods, Place: s.dir, There: len(mods), outline: o})
	}
	if len(near[mod]) > 0 {
		return
	}
	for _, p := range packedPlaces(g.dir, near, mod) {
		o := teach.Outline{Recognise: []string{p.dir}, Place: p.dir, File: "{mod}" + p.ending, Packed: true, Manifest: p.manifest, Always: true, Order: dialect.OrderServer}
		g.ways = append(g.ways, Way{Shape: "presence", Mods: p.files, Place: p.dir, There: len(p.files), outline: o})
	}
}

// packed is a folder of archives that each are a mod.
type packed struct {
	dir, ending string
	manifest    string   // the table that says what such a mod is called
	files       []string // without their ending
}

// packedPlaces are the folders with archives one of which says inside that it is the mod.
func packedPlaces(dir string, near map[string][]spot, mod string) (list []packed) {
	folders := map[spot][]string{}
	for _, name := range slices.Sorted(maps.Keys(near)) {
		for _, s := range near[name] {
			if s.ending != "" && s.dir != "." {
				folders[s] = append(folders[s], name)
			}
		}
	}
	for s, names := range folders {
		for _, name := range names {
			if !strings.Contains(strings.ToLower(name), strings.ToLower(mod)) {
				continue
			}
			inside := filesOf(filepath.Join(dir, filepath.FromSlash(s.dir), name+s.ending))
			if m, ok := teach.FindManifest(inside, teach.Known{Name: mod}); ok && m.Named {
				list = append(list, packed{s.dir, s.ending, m.Text, names})
				break
			}
		}
	}
	return list
}

// filesOf are the small files of a mod that may describe it, by their path below it: of a folder, or of
// a zip archive.
func filesOf(mod string) map[string][]byte {
	const most, deep, size = 60, 2, 64 << 10
	files := map[string][]byte{}
	info, err := theirs.Stat(mod)
	if err != nil {
		return files
	}
	from := fs.FS(nil)
	if info.IsDir() {
		from = os.DirFS(mod)
	} else {
		r, err := zip.OpenReader(mod)
		if err != nil {
			return files
		}
		defer r.Close()
		from = r
	}
	fs.WalkDir(from, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || len(files) >= most {
			return fs.SkipAll
		}
		if e.IsDir() && strings.Count(name, "/") >= deep {
			return fs.SkipDir
		}
		if info, err := e.Info(); err != nil || !info.Mode().IsRegular() || info.Size() > size {
			return nil
		}
		f, err := from.Open(name)
		if err != nil {
			return nil
		}
		defer f.Close()
		if data, err := io.ReadAll(io.LimitReader(f, size)); err == nil {
			files[name] = data
		}
		return nil
	})
	return files
}

// foldersNamed are the folders of this machine that a startup file names by their whole path, and
// those that hold the files which it does.
func foldersNamed(doc []byte) (list []string) {
	for _, word := range bytes.FieldsFunc(doc, func(r rune) bool { return strings.ContainsRune(" \t\r\n\"'`;,()[]{}<>=", r) }) {
		name := filepath.Clean(string(word))
		if !filepath.IsAbs(name) || len(list) > 100 {
			continue
		}
		info, err := theirs.Stat(name)
		if err != nil || !info.IsDir() {
			name = filepath.Dir(name)
			if info, err = theirs.Stat(name); err != nil || !info.IsDir() {
				continue
			}
		}
		if strings.Count(name, "/") > 1 && !slices.Contains(list, name) { // not the whole machine
			list = append(list, name)
		}
	}
	return list
}

// lookFar finds the folder, below some, that holds most of the registered mods, what they are called
// there, and how many they are.
func lookFar(roots, mods []string) (dir, file string, best int) {
	left := maxFar
	for _, root := range roots {
		theirs.Walk(root, func(full string, e fs.DirEntry, err error) error {
			if left--; left < 0 {
				return fs.SkipAll
			}
			if err != nil || !e.IsDir() {
				return nil
			}
			entries, err := os.ReadDir(full)
			if err != nil || len(entries) < best {
				return nil
			}
			if found, name := namedIn(entries, mods); found > best {
				dir, file, best = full, name, found
			}
			return nil
		})
	}
	if best < 1 || float64(best) < farShare*float64(len(mods)) || best < 2 && len(mods) > 1 {
		return "", "", 0
	}
	return dir, file, best
}

// namedIn counts the mods that are entries of a folder, with the same before and behind the name.
func namedIn(entries []os.DirEntry, mods []string) (found int, file string) {
	counts := map[[2]string]int{}
	for _, e := range entries {
		for _, mod := range mods {
			before, after, ok := strings.Cut(e.Name(), mod)
			if !ok || before != "" && letter(before[len(before)-1]) || after != "" && letter(after[0]) {
				continue
			}
			around := [2]string{before, after}
			if counts[around]++; counts[around] > found {
				found, file = counts[around], before+"{mod}"+after
			}
		}
	}
	if file == "{mod}" {
		file = ""
	}
	return found, file
}

// namesWithin guesses which names are those of mods: those of files or folders side by side that one
// file names.
func namesWithin(dir string, files map[string][]byte) (best []string) {
	folders := map[string][]string{}
	for name, spots := range lookNear(dir, "") {
		for _, s := range spots {
			folders[s.dir] = append(folders[s.dir], name)
		}
	}
	for _, file := range slices.Sorted(maps.Keys(files)) {
		words := map[string]bool{}
		for _, word := range strings.FieldsFunc(string(files[file]), func(r rune) bool { return strings.ContainsRune(" \t\r\n\"'`;,:()[]{}<>=/", r) }) {
			words[word] = true
			words[strings.TrimSuffix(word, path.Ext(word))] = true
		}
		for _, folder := range slices.Sorted(maps.Keys(folders)) {
			var named []string
			for _, name := range folders[folder] {
				if words[name] && !strings.HasPrefix(file, folder+"/"+name+"/") {
					named = append(named, name)
				}
			}
			if len(named) > 1 && len(named) > len(best) {
				slices.Sort(named)
				best = named
			}
		}
	}
	return best
}

// starter is the command that starts the server of a folder: as the operator says it, with the folder
// itself as {dir}; else the one script or program that lies in it.
func starter(dir, said string) ([]string, error) {
	if said != "" {
		words, err := shell.Fields(said, func(string) string { return "" })
		if err != nil || len(words) == 0 {
			return nil, usage("the command %q cannot be read: %v", text.Clean(said), err)
		}
		for i, w := range words {
			if w == dir || strings.HasPrefix(w, dir+"/") {
				words[i] = "{dir}" + strings.TrimPrefix(w, dir)
			}
		}
		if strings.HasPrefix(words[0], "./") {
			words[0] = "{dir}/" + strings.TrimPrefix(words[0], "./")
		}
		return words, nil
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var found []string
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && info.Mode().IsRegular() && (strings.HasSuffix(e.Name(), ".sh") || info.Mode()&0o111 != 0) && !strings.HasSuffix(e.Name(), ".so") {
			found = append(found, e.Name())
		}
	}
	switch len(found) {
	case 1:
		if info, err := os.Stat(filepath.Join(dir, found[0])); err == nil && info.Mode()&0o111 == 0 {
			return []string{"/bin/sh", "{dir}/" + found[0]}, nil
		}
		return []string{"{dir}/" + found[0]}, nil
	case 0:
		return nil, usage("nothing in %s looks like what starts the server: say it with --start 'PROGRAM WORDS', the folder as {dir}", text.Clean(dir))
	}
	return nil, usage("%s of %s may start the server: say which with --start '{dir}/%s'", text.Clean(strings.Join(found, ", ")), text.Clean(dir), text.Clean(found[0]))
}

// String says a way in one line.
func (w Way) String() string {
	if w.File == "" {
		return fmt.Sprintf("by being in %s: %s", text.Clean(w.Place), text.Clean(strings.Join(w.Mods, ", ")))
	}
	where := ", which were found nowhere"
	if w.Place != "" {
		where = fmt.Sprintf(", %d of them in %s", w.There, text.Clean(w.Place))
	}
	return fmt.Sprintf("in %s, as %q: %s%s", text.Clean(w.File), w.Shape, text.Clean(strings.Join(w.Mods, ", ")), where)
}
