// Package survey finds out what is on a server: its content, its
// registrations, and what belongs to what. A Survey is a value from which
// everything else is computed; it is not changed once taken.
package survey

import (
	"cmp"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/mod"
	"initium/internal/core/rule"
)

// Input is what a survey is taken from.
type Input struct {
	Server  string // the name that the operator gave
	Dialect *dialect.Dialect
	Vars    dialect.Vars
	Parked  []lineup.Parked
	Rules   []rule.Rule
	Memory  *Memory // of earlier surveys of the same server; may be nil
	FS      fs.FS   // the whole file system; paths in it are absolute ones without the first slash
}

// Survey is what is on a server.
type Survey struct {
	Server  string
	Dialect *dialect.Dialect
	Vars    dialect.Vars
	Lineup  *lineup.Lineup
	Rules   []rule.Rule
	Mods    []Mod // registered ones in load order, then the others by name; the server's own last
	Strays  []Stray
	Twins   []Twin

	byName    map[string]int
	providers map[string][]int // other names that mods answer to
}

// Mod is one mod: registered, or present, or both.
type Mod struct {
	Name, Title, Release string
	Path                 string // of its folder; "" when it is registered and not there
	Folder               string // the last element of Path
	Place                int    // of Dialect.Places, or -1
	Spot                 string // its path as registrations write it, "" where they do not
	Bundle               string // the bundle or category folder that it is in
	Manifest             mod.Manifest
	Noted                []mod.Need   // needs that rules tell, not the manifest
	Empty                bool         // its folder holds nothing
	NoMain               bool         // its folder lacks the file that the dialect wants
	Quiet                bool         // it lacks the file without which the log says nothing of it
	Broken               *mod.Problem // why a script of its own cannot be understood
	Keys                 []Key        // its key files that are not among the server's own
	Inner                string       // a folder inside that looks like the mod itself

	Registered bool // a registration names it, be it on or off
	Listed     bool // and has it on
	On         bool // will be loaded, as far as the declarations go: it is listed, or loads anyway
	Always     bool // loads by being where it is
	Base       bool // the server's own content
	Position   int  // in the load order, from 1; 0 for what is not registered
	Section    string
	Entries    []int // of Lineup.Entries
	Elsewhere  bool  // registered at a path that is not its own
	Group      bool  // registered through its category folder

	index int // of Survey.Mods
}

// Index is where in Survey.Mods the mod is.
func (m *Mod) Index() int { return m.index }

// Needs are the mods that this one cannot do without: those that its manifest
// names, and those that the operator has written down.
func (m *Mod) Needs() []mod.Need {
	if len(m.Noted) == 0 {
		return m.Manifest.Needs
	}
	return slices.Concat(m.Manifest.Needs, m.Noted)
}

// OptionalNeeds are mods that have to come first if they are there.
func (m *Mod) OptionalNeeds() []mod.Need { return m.Manifest.OptionalNeeds }

// Is tells whether need is met by this mod's name, or by one that it provides.
func (m *Mod) Is(need string) bool {
	return m.Name == need || slices.Contains(m.Manifest.Provides, need)
}

// Key is a key file of a mod that the server does not have, or has with other
// contents.
type Key struct {
	File    string // its name
	Differs bool
}

// Stray is a folder in a place for mods that is none.
type Stray struct {
	Folder string // its name
	Path   string
	Empty  bool
	Inner  string // the path of a mod one folder further down
	Bundle bool   // it is a bundle or a category folder: its mods are registered, not it
}

// Twin is a mod that another of the same name hides.
type Twin struct {
	Name, Path, HiddenBy string
	Level                bool // neither stands above the other: a server may not know which to take
	Place                int  // of Dialect.Places
	Bundle               string
	Older                string // its release, where the server takes the newer one
}

// Find returns the mod with a name, or nil.
func (s *Survey) Find(name string) *Mod {
	if i, ok := s.byName[name]; ok {
		return &s.Mods[i]
	}
	return nil
}

// Answer returns the mod that meets a need: the one of that name, else one that
// provides it, one that loads before one that does not. nil means that there is
// none.
func (s *Survey) Answer(need string) *Mod {
	m := s.Find(need)
	if m != nil && m.Path != "" && m.On {
		return m
	}
	for _, i := range s.providers[need] {
		if p := &s.Mods[i]; p.On { // it has a manifest, and so a path
			return p
		}
	}
	if m == nil && len(s.providers[need]) > 0 {
		return &s.Mods[s.providers[need][0]]
	}
	return m
}

// ByPath returns the mod whose folder holds the path, or nil.
func (s *Survey) ByPath(name string) *Mod {
	var best *Mod
	for i := range s.Mods {
		m := &s.Mods[i]
		if m.Path != "" && (name == m.Path || strings.HasPrefix(name, m.Path+"/")) && (best == nil || len(m.Path) > len(best.Path)) {
			best = m
		}
	}
	return best
}

// SmallReader is a file system that can read a file at one go. The error says
// when it is no regular file (ErrNotFile) or larger than limit (ErrTooLarge).
type SmallReader interface {
	ReadSmall(name string, limit int64) ([]byte, error)
}

// Open reads at most limit bytes of a file by its absolute path.
func Open(fsys fs.FS, name string, limit int64) ([]byte, error) {
	if r, ok := fsys.(SmallReader); ok {
		return r.ReadSmall(rel(name), limit)
	}
	f, err := fsys.Open(rel(name))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "read", Path: name, Err: ErrNotFile}
	}
	data, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(data)) > limit {
		err = &fs.PathError{Op: "read", Path: name, Err: ErrTooLarge}
	}
	return data, err
}

// Source reads a startup file, or the listing of a folder, as lineup.Source says: without names
// that begin with a dot.
func Source(fsys fs.FS, name string) ([]byte, error) {
	if strings.HasSuffix(name, "/") {
		return Links(fsys, name)
	}
	if info, err := fs.Stat(fsys, rel(name)); err != nil || !info.IsDir() {
		return Open(fsys, name, lineup.MaxFile)
	}
	entries, err := fs.ReadDir(fsys, rel(name))
	if err != nil {
		return nil, err
	}
	return Listing(entries), nil
}

// Listing writes the names of a folder down, one on each line.
func Listing(entries []fs.DirEntry) []byte {
	listing := []byte{}
	for _, e := range entries {
		if n := e.Name(); !strings.HasPrefix(n, ".") && !strings.ContainsAny(n, "\n\r") {
			listing = append(append(listing, n...), '\n')
		}
	}
	return listing
}

// Links writes the names of a folder down, one on each line, and behind each link what it leads to.
// A link whose name or target could not be told from that notation is left out.
func Links(fsys fs.FS, dir string) ([]byte, error) {
	entries, err := fs.ReadDir(fsys, rel(dir))
	if err != nil {
		return nil, err
	}
	listing := []byte{}
	for _, e := range entries {
		line, target := e.Name(), ""
		if e.Type()&fs.ModeSymlink != 0 {
			if target, err = fs.ReadLink(fsys, path.Join(rel(dir), e.Name())); err != nil {
				return nil, err
			}
			line += lineup.LeadsTo + target
		}
		if !strings.HasPrefix(line, ".") && !strings.ContainsAny(line, "\n\r") && !strings.Contains(e.Name(), lineup.LeadsTo) {
			listing = append(append(listing, line...), '\n')
		}
	}
	return listing, nil
}

type surveyError string

func (e surveyError) Error() string { return string(e) }

// Why a file is not read.
const (
	ErrNotFile  = surveyError("is not a regular file")
	ErrTooLarge = surveyError("is larger than a file of its kind may be")
)

func rel(name string) string {
	name = strings.TrimPrefix(path.Clean(name), "/")
	if name == "" {
		return "."
	}
	return name
}

// Take surveys a server. What cannot be read becomes part of the survey, for
// check to tell; there is no error.
func Take(in Input) *Survey {
	return With(in, lineup.Read(in.Dialect, in.Vars, func(name string) ([]byte, error) {
		return Source(in.FS, name)
	}, in.Parked))
}

// With surveys a server's content against a given line-up, as it would be after
// a change.
func With(in Input, l *lineup.Lineup) *Survey {
	s := &Survey{Server: in.Server, Dialect: in.Dialect, Vars: in.Vars, Lineup: l, Rules: in.Rules, byName: map[string]int{}}
	scan := &scanner{fsys: in.FS, dialect: in.Dialect, memory: in.Memory}
	in.Memory.begin()
	scan.keys, _ = in.Vars.Expand(in.Dialect.Keys.Into)
	var found finds
	scan.roots, scan.called = make([]string, len(in.Dialect.Places)), make([]string, len(in.Dialect.Places))
	for i := range in.Dialect.Places {
		if dir, ok := in.Vars.Expand(in.Dialect.Places[i].Path); ok {
			scan.roots[i] = path.Clean(dir)
			scan.called[i], _ = in.Vars.Expand(in.Dialect.Places[i].Called)
			found.add(scan.folder(i, path.Clean(dir), "", 0))
		}
	}
	found.mods = append(found.mods, scan.linked(l, found.mods)...)
	s.Strays = found.strays
	s.Lineup = l.Called(ownNames(l, found.mods))
	s.join(found.mods)
	return s
}

// linked are the mods that links lead to, or that stand in the place of one, outside of all places.
func (s *scanner) linked(l *lineup.Lineup, found []*Mod) (more []*Mod) {
	for _, e := range l.Entries {
		if s.dialect.Registrations[e.Registration].Shape != dialect.ShapeLink || e.Value == "" {
			continue
		}
		at := path.Clean(e.Value)
		if slices.ContainsFunc(found, func(m *Mod) bool { return m.Path == at }) {
			continue
		}
		info, err := fs.Stat(s.fsys, rel(at))
		if err != nil {
			continue
		}
		m := &Mod{Name: e.Name, Path: at, Folder: path.Base(at)}
		if info.IsDir() {
			s.describe(m, (&folderReader{s.fsys, at}).read)
		} else {
			s.ownFile(0, m)
		}
		m.Name = e.Name
		more = append(more, m)
	}
	return more
}

// ownNames are the names that mods give themselves which are registered by being in a folder,
// for those whose file or folder is called otherwise.
func ownNames(l *lineup.Lineup, found []*Mod) map[lineup.Presence]string {
	var at map[string]*Mod
	names := map[lineup.Presence]string{}
	l.Present(func(p lineup.Presence, paths [2]string) {
		if at == nil {
			at = make(map[string]*Mod, len(found))
			for _, m := range found {
				at[m.Path] = m
			}
		}
		for _, full := range paths {
			if m := at[full]; m != nil && m.Name != p.Name {
				names[p] = m.Name
			}
		}
	})
	return names
}

// join brings content and registrations together.
func (s *Survey) join(found []*Mod) {
	wanted := make(map[string]bool, len(s.Lineup.Entries))
	at := map[string]*lineup.Entry{} // those that say where mods are
	for i := range s.Lineup.Entries {
		e := &s.Lineup.Entries[i]
		wanted[e.Name] = wanted[e.Name] || e.On && !e.Odd
		if s.saysWhere(e) {
			at[e.Name] = e // of several keys the last counts
		}
	}
	chosen := s.choose(found, func(m *Mod) bool {
		e, named := at[m.Name]
		return wanted[m.Name] && (!named || s.fits(m, e))
	})
	s.Mods = make([]Mod, 0, len(chosen)+16)
	s.byName = make(map[string]int, len(chosen)+16)
	groups := map[string][]string{}
	for _, m := range chosen {
		if m.Bundle != "" {
			groups[m.Bundle] = append(groups[m.Bundle], m.Name)
		}
	}
	for i, e := range s.Lineup.Entries {
		if s.Dialect.Registrations[e.Registration].SameAs != "" {
			continue // a copy of another list; check tells where it differs
		}
		names := []string{e.Name}
		if e.Group && len(groups[e.Name]) > 0 {
			names = groups[e.Name]
			sort.Strings(names)
		}
		for _, name := range names {
			s.register(chosen[name], name, i, e)
		}
	}
	rest := make([]string, 0, len(chosen))
	for name := range chosen {
		if _, ok := s.byName[name]; !ok {
			rest = append(rest, name)
		}
	}
	sort.Strings(rest)
	for _, name := range rest {
		m := *chosen[name]
		m.On = m.Always
		s.byName[name] = len(s.Mods)
		s.Mods = append(s.Mods, m)
	}
	s.arrange()
}

// choose settles which of several mods with one name counts.
func (s *Survey) choose(found []*Mod, wanted func(*Mod) bool) map[string]*Mod {
	rank := func(m *Mod) int {
		r := 0 // those in bundles and category folders stand behind those that are not
		if m.Bundle != "" {
			r = 1
		}
		switch {
		case m.Base:
			return r + 4
		case m.Always:
			return r + 2
		case wanted(m):
			return r
		}
		return r + 6
	}
	chosen := make(map[string]*Mod, len(found))
	for _, m := range found {
		old := chosen[m.Name]
		if old == nil {
			chosen[m.Name] = m
			continue
		}
		older := rank(m) == rank(old) && m.Place == old.Place && s.Dialect.Places[m.Place].Newest && mod.Compare(m.Release, old.Release) != 0
		if rank(m) < rank(old) || older && mod.Compare(m.Release, old.Release) > 0 {
			old, m = m, old
			chosen[old.Name] = old
		}
		t := Twin{m.Name, m.Path, old.Path, rank(m) == rank(old) && !older, m.Place, m.Bundle, ""}
		if older {
			t.Older = m.Release
		}
		s.Twins = append(s.Twins, t)
	}
	return chosen
}

// pathOf is the path at which an entry has its mod, "" when it names none.
func (s *Survey) pathOf(e *lineup.Entry) string {
	r := &s.Dialect.Registrations[e.Registration]
	if (r.OnPath && e.On || r.Paths || r.Shape == dialect.ShapeLink) && strings.Contains(e.Value, "/") {
		return e.Value
	}
	return ""
}

// saysWhere tells whether an entry may say where its mod is.
func (s *Survey) saysWhere(e *lineup.Entry) bool {
	r := &s.Dialect.Registrations[e.Registration]
	return r.OnPath || r.Paths || r.Shape == dialect.ShapeLink
}

// fits tells whether a mod is where an entry with a path, or with none, has it.
func (s *Survey) fits(m *Mod, e *lineup.Entry) bool {
	at := s.pathOf(e)
	if s.Dialect.Registrations[e.Registration].Shape == dialect.ShapeLink {
		return at == "" || path.Clean(at) == m.Path
	}
	paths := slices.ContainsFunc(s.Dialect.Registrations, func(r dialect.Registration) bool { return r.Paths })
	switch {
	case !paths:
		return at == "" || m.Spot == "" || at == m.Spot // a mod without a spot is found anyhow
	case at == "":
		return m.Spot == "" // a mod with a spot is not found by its bare name
	}
	if !path.IsAbs(at) {
		dir, _ := s.Vars.Expand(s.Dialect.Start.Directory)
		at = path.Join(dir, at)
	}
	for _, r := range s.Dialect.Registrations {
		if path.Clean(at) == m.Path || r.Suffix != "" && path.Clean(at)+r.Suffix == m.Path {
			return true
		}
	}
	return false
}

func (s *Survey) register(content *Mod, name string, entry int, e lineup.Entry) {
	i, ok := s.byName[name]
	if !ok {
		m := Mod{Name: name, Place: -1}
		if content != nil {
			m = *content
		}
		i = len(s.Mods)
		s.byName[name] = i
		s.Mods = append(s.Mods, m)
	}
	m := &s.Mods[i]
	first := len(m.Entries) == 0
	m.Entries = append(m.Entries, entry)
	m.Registered = true
	// The place in the order is that of the first line that counts.
	if first || e.On && !m.Listed {
		m.Section, m.Group, m.Position = "", e.Group, 1+entry
		if e.Section >= 0 {
			m.Section = s.Lineup.Sections[e.Section].Title
		}
	}
	if s.Dialect.Registrations[e.Registration].Shape == dialect.ShapeKey {
		m.Listed = e.On // of several keys the last counts
	} else {
		m.Listed = m.Listed || e.On
	}
	m.On = m.Listed || m.Always
	if s.saysWhere(&e) {
		m.Elsewhere = m.Path != "" && !s.fits(m, &e)
	}
}

// arrange puts the mods in order and numbers them.
func (s *Survey) arrange() {
	class := func(m *Mod) int {
		switch {
		case m.Base:
			return 4
		case !m.Registered && m.Always:
			return 2
		case !m.Registered:
			return 3
		case !m.On && s.Dialect.Order == dialect.OrderServer:
			return 1
		}
		return 0
	}
	// The mods themselves are large, so their numbers are sorted.
	place := make([]int, len(s.Mods))
	for i := range place {
		place[i] = i
	}
	slices.SortStableFunc(place, func(a, b int) int {
		return cmp.Or(class(&s.Mods[a])-class(&s.Mods[b]), s.Mods[a].Position-s.Mods[b].Position)
	})
	if !slices.IsSorted(place) {
		sorted := make([]Mod, len(place))
		for i, from := range place {
			sorted[i] = s.Mods[from]
		}
		s.Mods = sorted
	}
	position := 0
	for i := range s.Mods {
		m := &s.Mods[i]
		m.Position, m.index = 0, i
		if m.Registered {
			position++
			m.Position = position
		}
		s.byName[m.Name] = i
	}
	s.providers = map[string][]int{}
	for i := range s.Mods {
		for _, name := range s.Mods[i].Manifest.Provides {
			s.providers[name] = append(s.providers[name], i)
		}
	}
	for _, r := range s.Rules {
		if m := s.Find(r.Mod); m != nil && r.Kind == rule.Needs && !slices.Contains(mod.Names(m.Needs()), r.Other) {
			m.Noted = append(m.Noted, mod.Need{Name: r.Other})
		}
	}
}

// bundle tells whether a name is that of a folder that holds mods.
func (s *Survey) bundle(name string) bool {
	return slices.ContainsFunc(s.Strays, func(st Stray) bool { return st.Bundle && st.Folder == name })
}

// Category tells whether a name is that of a category folder, which is registered as a whole.
func (s *Survey) Category(name string) bool {
	rs := s.Dialect.Registrations
	return s.bundle(name) && len(rs) > 0 && rs[0].Shape == dialect.ShapeLine
}

// Slips are the lines that are mistyped, so that a mod or a category folder which is there is
// not registered.
func (s *Survey) Slips() (list []lineup.Slip) {
	for _, slip := range s.Lineup.Slips {
		m := s.Find(slip.Name)
		if m != nil && m.Path != "" && !m.Registered && !m.Base && !m.Always || m == nil && s.Category(slip.Name) && len(s.Lineup.Find(slip.Name)) == 0 {
			list = append(list, slip)
		}
	}
	return list
}

// Unknown says what is wrong with a name that no mod has.
func (s *Survey) Unknown(name string) error {
	if s.bundle(name) {
		return fmt.Errorf("%s is a bundle; name the mods in it, one by one", name)
	}
	for i := range s.Mods {
		if m := &s.Mods[i]; m.Path != "" && m.Folder == name || strings.EqualFold(m.Name, name) {
			return fmt.Errorf("there is no mod %q on this server; the one that you mean is called %s", name, m.Name)
		}
	}
	return fmt.Errorf("there is no mod %q on this server; a name has to be exact, capitals too", name)
}
