package intake

import (
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/mod"
	"initium/internal/core/plan"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
)

// Target is the server that something is taken into or out of.
type Target struct {
	Survey *survey.Survey

	// List is what is at a path: all below a folder, or one item without a Rel for
	// a file. There is none when nothing is there.
	List func(path string) ([]plan.Item, error)
	// Exists tells whether there is anything at a path.
	Exists func(path string) bool
	// Release is what came when Initium put the present state of a path there; ok
	// is false when it did not, or somebody else has put another thing there.
	Release func(path string) (items []plan.Item, ok bool)
	// Owner tells whose a file is.
	Owner func(path string) Owner
	// Laid are the files that were put among the server's own for a mod, or for a download that brought no mod.
	Laid func(mod string) ([]Laid, error)
	// Made tells whether Initium has made a folder.
	Made func(path string) bool
	// Writable tells whether files can be put into a folder, there or to be made.
	Writable func(dir string) bool
}

// Owner is whose a file on the server is.
type Owner struct {
	Clean bool   // the server had it before any mod
	Mod   string // it was put there for this mod; "" for none
}

// Laid is a file that was put among the server's own.
type Laid struct {
	Path   string
	What   string // plan.Laid or plan.LaidMap
	Digest string // of what was put there
	Below  string // the digest of what comes back when it goes, "" for nothing
	Whose  string // the mod that this came with, "" for the server itself
	Kept   bool   // it can be brought back
	Over   string // another mod has laid its own over it: that one; the rest is empty then
}

// Question is something that only the operator can answer.
type Question struct {
	About   string // what it is about: a path on the server, or a name
	Rel     string // the path as it is told; "" for a name
	Text    string
	Answers []Answer // that can be given
}

// Answer is something that can be said to a question.
type Answer string

// A thing is right as it is, or has another name; of two files in one place the one that
// comes is taken, the one that is there is kept, or both stand side by side.
const (
	AnswerAgree Answer = "agree"
	AnswerName  Answer = "another name"
	AnswerTake  Answer = "take"
	AnswerKeep  Answer = "keep"
	AnswerBoth  Answer = "both"
)

// Overlap is a file that something taken in has in common with what is there.
type Overlap struct {
	Path   string
	Mod    string // whose file comes
	Same   bool   // the bytes are the same
	Whose  string // whose file is there, in words
	Choice lineup.Choice
	Into   bool // it is one of a mod's own files, met by its new release
}

// Placed is where a mod goes.
type Placed struct {
	*Mod
	Path   string      // of its folder or file on the server
	There  *survey.Mod // the mod that it takes the place of, or nil
	Notes  []plan.Change
	Listed bool // it has to be registered to be loaded
}

// Step is something that is left to the operator.
type Step struct {
	Path  string // in what came
	About string
	Mod   string // that it belongs to, as far as its name tells
	Sum   string // of a script for a database: the SHA-256 of it
}

// Intake is what taking something in comes to.
type Intake struct {
	Found     *Found
	Mods      []Placed
	Parts     []plan.Part
	Overlaps  []Overlap
	Keys      []string // key files that are on the server already, with the same bytes
	Questions []Question
	Problems  []string // why it cannot be taken in
	Rules     []rule.Rule
	Steps     []Step
	Brings    []Shipped
	Left      []Left // of an earlier release, and stays
}

// Shipped are entries that a mod brings for a table of the server.
type Shipped struct {
	Mod     string
	Content *dialect.Content
	Into    string // the table
	Path    string // of the file with them, in what came or on the server
	Data    []byte
}

// Ready tells whether nothing stands in the way.
func (in *Intake) Ready() bool { return len(in.Questions) == 0 && len(in.Problems) == 0 }

// Wanted are the names of mods that others on a server look for in vain.
func Wanted(s *survey.Survey) []string {
	var names []string
	for i := range s.Mods {
		m := &s.Mods[i]
		if m.Path == "" {
			names = append(names, m.Name)
		}
		for _, need := range slices.Concat(m.Needs(), m.OptionalNeeds()) {
			if s.Answer(need.Name) == nil {
				names = append(names, need.Name)
			}
		}
	}
	return names
}

// home finds the place for a mod: the one that was asked for; else, of those
// that take its kind, one where mods load when they are registered and that is
// below the server's own folder, and so on down to what the system shares.
func (x *assigner) home(m *Mod) (place int, dir string) {
	d := x.target.Survey.Dialect
	best, rank := -1, 0
	for i := range d.Places {
		p := &d.Places[i]
		full, ok := x.target.Survey.Vars.Expand(p.Path)
		if !ok || p.Loads == dialect.LoadsBase || (p.File != "") != m.Single || !sameKind(p, &d.Places[m.Place]) {
			continue
		}
		full = path.Clean(full)
		into, ok := x.into(p, full)
		if !ok {
			continue
		}
		if !x.target.Writable(full) {
			continue
		}
		r := 1
		own := x.own(p, full)
		switch {
		case p.Loads == dialect.LoadsRegistered && own:
			r = 4
		case own:
			r = 3
		case p.Loads == dialect.LoadsRegistered:
			r = 2
		}
		if r > rank {
			best, rank, dir = i, r, into
		}
	}
	return best, dir
}

// into is where in a place a mod goes: the place itself, or, where the operator has asked for one, a category folder
// in it, which may be a new one, or the folder of a bundle. ok is false where he has asked for something else.
func (x *assigner) into(p *dialect.Place, full string) (dir string, ok bool) {
	asked := x.choices.Into
	switch {
	case asked == "":
		return full, true
	case path.IsAbs(asked):
		asked = path.Clean(asked)
	case p.Group != "" && strings.HasPrefix(asked, p.Group) && !strings.Contains(asked, "/"):
		asked = path.Join(full, asked)
	default:
		asked = path.Join(x.dir, asked)
	}
	if asked == full {
		return full, true
	}
	base := path.Base(asked)
	if path.Dir(asked) != full {
		return "", false
	}
	if p.Group != "" && strings.HasPrefix(base, p.Group) {
		_, bad := x.target.Survey.Dialect.Names.Forbidden(strings.TrimPrefix(base, p.Group))
		return asked, !bad && base != p.Group
	}
	return asked, slices.ContainsFunc(x.target.Survey.Mods, func(m survey.Mod) bool { return m.Bundle == base && path.Dir(m.Path) == asked })
}

// Folders are those that mods can be put into, seen from the server's folder where they lie in it: the family's, and the
// categories and bundles that are in these.
func Folders(target *Target) (list []string) {
	s := target.Survey
	dir := path.Clean(s.Vars["dir"])
	add := func(full string) {
		if full = strings.TrimPrefix(full, dir+"/"); !slices.Contains(list, full) {
			list = append(list, full)
		}
	}
	for i := range s.Dialect.Places {
		p := &s.Dialect.Places[i]
		full, ok := s.Vars.Expand(p.Path)
		if !ok || p.Loads == dialect.LoadsBase || !target.Writable(full) {
			continue
		}
		add(path.Clean(full))
		for k := range s.Mods {
			if m := &s.Mods[k]; m.Bundle != "" && path.Dir(path.Dir(m.Path)) == path.Clean(full) {
				add(path.Dir(m.Path))
			}
		}
	}
	return list
}

// places are the folders that mods can be put into, for one who has asked for none of them.
func (x *assigner) places() string {
	said := strings.Join(Folders(x.target), ", ")
	if slices.ContainsFunc(x.target.Survey.Dialect.Places, func(p dialect.Place) bool { return p.Group != "" }) {
		said += ", or a new category folder"
	}
	return said
}

// own tells whether a place belongs to this server alone: it is below its folder,
// or was given for it. What the system shares among servers is not touched.
func (x *assigner) own(p *dialect.Place, full string) bool {
	if strings.HasPrefix(full, x.dir+"/") {
		return true
	}
	name, ok := strings.CutPrefix(p.Path, "{")
	name, _, _ = strings.Cut(name, "}")
	g := x.target.Survey.Dialect.Given(name)
	return ok && g != nil && len(g.Default) == 0
}

// sameKind tells whether mods of one place could stand in another.
func sameKind(a, b *dialect.Place) bool {
	return a.File == b.File && a.Packed == b.Packed && slices.Equal(a.Mark, b.Mark) && a.Main == b.Main
}

// lacking are the needs of a mod that neither the server nor what is taken in
// along with it has.
func lacking(s *survey.Survey, m *mod.Manifest, along []string) (names []string) {
	for _, need := range m.Needs {
		if s.Answer(need.Name) == nil && !slices.Contains(along, need.Name) {
			names = append(names, need.Name)
		}
	}
	return names
}
