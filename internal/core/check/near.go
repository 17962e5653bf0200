package check

import (
	"fmt"
	"path"
	"regexp"
	"strings"
	"unicode"

	"initium/internal/core/lineup"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// releaseSuffix is what archives and branches add to the name of a folder.
var releaseSuffix = regexp.MustCompile(`^[-_. ]?(?i:main|master|dev|develop|trunk|release|latest|stable|v?\d+([._-]\d+)*([-_.]?(alpha|beta|rc)\d*)?)$`)

// missing reports a registered mod that is not there, and looks for what the
// operator may have meant.
func (c *checker) missing(m *survey.Mod) {
	if strings.TrimSpace(m.Name) != m.Name {
		c.blanks(m)
		return
	}
	if c.near == nil {
		c.near = namesOf(c.s)
	}
	if s, ok := c.near.strays[m.Name]; ok {
		c.stray(m, s)
		return
	}
	name := text.Clean(m.Name)
	if o := c.near.byCase(m.Name); o != nil {
		c.meant(CodeModCase, m, o, "%s is registered, but the mod is called %s: capitals matter", name, o.Name)
	} else if o := c.near.byFolder(m.Name); o != nil {
		c.meant(CodeModRenamed, m, o, "%s is the name of a folder; the mod in it calls itself %s", name, o.Name)
	} else if o, onDisk := c.near.bySuffix(m.Name); o != nil && onDisk {
		c.add(c.at(CodeModSuffix, Error, m), "%s is not there, but a folder %s is: an archive's ending was left on it", name, o.Folder).
			Remedy = fmt.Sprintf("rename the folder %s to %s", text.Clean(o.Path), name)
	} else if o != nil {
		c.meant(CodeModSuffix, m, o, "%s is registered with an archive's ending; the mod is called %s", name, o.Name)
	} else if o := c.near.alike(m.Name); o != nil {
		c.meant(CodeModMissing, m, o, "%s is registered and not there; %s is, and its name is nearly the same", name, o.Name)
	} else {
		c.add(c.at(CodeModMissing, Error, m), "%s is registered and not there: no folder for mods has it", name).
			Remedy = "take the mod in, or switch it off"
	}
}

// stray reports a registered mod whose folder is there and is no mod.
func (c *checker) stray(m *survey.Mod, s *survey.Stray) {
	at := func(code Code) Finding { return c.at(code, Error, m) }
	name := text.Clean(m.Name)
	switch {
	case s.Bundle && len(m.Entries) > 0 && c.s.Lineup.Entries[m.Entries[0]].Group:
		c.add(at(CodeGroupEmpty), "%s names a category folder that holds no mod", name).Remedy = "put mods into it, or take the line out"
	case s.Bundle:
		c.add(at(CodeModBundle), "%s is a bundle; its mods are registered one by one, not the bundle", name).
			Remedy = "register the mods in it that are wanted"
	case s.Empty:
		c.add(at(CodeFolderEmpty), "the folder of %s is empty: %s", name, s.Path).Remedy = "put the mod's files into it, or switch the mod off"
	case s.Inner != "":
		c.add(at(CodeModNested), "%s is one folder too deep: it is in %s", name, s.Inner).
			Remedy = fmt.Sprintf("move %s up, in place of %s", text.Clean(path.Base(s.Inner)), text.Clean(s.Path))
	default:
		c.add(at(CodeFolderForeign), "the folder %s is there, but nothing in it says that it is a mod", s.Path).
			Remedy = "take the mod in again; its files are not complete"
	}
}

// meant reports a registered mod that is not there where another is, which is put in its
// place.
func (c *checker) meant(code Code, m, other *survey.Mod, format string, args ...any) {
	f := c.add(c.at(code, Error, m), format, args...)
	if other.Registered && other.On {
		f.remedy(lineup.Change{Op: lineup.OpUnregister, Mod: m.Name})
		return
	}
	f.remedy(lineup.Change{Op: lineup.OpRename, Mod: m.Name, To: other.Name})
	if other.Registered { // two entries of one name would be left
		f.remedy(lineup.Change{Op: lineup.OpUnregister, Mod: m.Name}, lineup.Change{Op: lineup.OpOn, Mod: other.Name})
	}
}

// names finds mods that are there by names that are nearly theirs, however many of either
// there are. The lists are of places in mods, in their order.
type names struct {
	mods    []survey.Mod
	strays  map[string]*survey.Stray
	cases   map[string][]int // by their names without regard to letter case
	exact   map[string][]int
	folders map[string][]int
	stems   map[string][]int // by what is left of their folders' names without an archive's ending
	slips   map[string][]int // by their plain names, and by those with one letter left out
}

// namesOf indexes the names of a survey.
func namesOf(s *survey.Survey) *names {
	n := &names{mods: s.Mods, strays: map[string]*survey.Stray{}, cases: map[string][]int{}, exact: map[string][]int{},
		folders: map[string][]int{}, stems: map[string][]int{}, slips: map[string][]int{}}
	for i := range s.Strays {
		if st := &s.Strays[i]; n.strays[st.Folder] == nil {
			n.strays[st.Folder] = st
		}
	}
	for i := range s.Mods {
		m := &s.Mods[i]
		if m.Path == "" {
			continue
		}
		n.exact[m.Name] = append(n.exact[m.Name], i)
		n.cases[foldCase(m.Name)] = append(n.cases[foldCase(m.Name)], i)
		n.folders[m.Folder] = append(n.folders[m.Folder], i)
		for _, stem := range stems(m.Folder) {
			n.stems[stem] = append(n.stems[stem], i)
		}
		if !m.Base {
			for _, slip := range slips(plain(m.Name)) {
				n.slips[slip] = append(n.slips[slip], i)
			}
		}
	}
	return n
}

// other is the first of a list that has another name.
func (n *names) other(list []int, name string) int {
	for _, i := range list {
		if n.mods[i].Name != name {
			return i
		}
	}
	return -1
}

func (n *names) at(i int) *survey.Mod {
	if i < 0 {
		return nil
	}
	return &n.mods[i]
}

// byCase finds a mod whose name differs by capitals only.
func (n *names) byCase(name string) *survey.Mod { return n.at(n.other(n.cases[foldCase(name)], name)) }

// byFolder finds a mod whose folder is called so.
func (n *names) byFolder(name string) *survey.Mod { return n.at(n.other(n.folders[name], name)) }

// bySuffix finds the first mod whose folder, or else name, differs by an archive's ending
// only; onDisk is true when the folder has it, and false when the name that is looked for
// does.
func (n *names) bySuffix(name string) (found *survey.Mod, onDisk bool) {
	at := n.other(n.stems[name], name)
	onDisk = at >= 0
	for _, stem := range stems(name) {
		if i := n.other(n.exact[stem], name); i >= 0 && (at < 0 || i < at) {
			at, onDisk = i, false
		}
	}
	return n.at(at), onDisk
}

// alike finds the one mod whose name is a slip of the hand away.
func (n *names) alike(name string) *survey.Mod {
	if len(name) < 4 {
		return nil
	}
	hit := -1
	for _, slip := range slips(plain(name)) {
		for _, i := range n.slips[slip] {
			if i == hit || n.mods[i].Name == name || !oneSlip(plain(n.mods[i].Name), plain(name)) {
				continue
			}
			if hit >= 0 {
				return nil
			}
			hit = i
		}
	}
	return n.at(hit)
}

// stems are what a name can be without an archive's ending.
func stems(name string) (list []string) {
	for i := range len(name) {
		if releaseSuffix.MatchString(name[i:]) {
			list = append(list, name[:i])
		}
	}
	return list
}

// slips are a word, and what it is with any one letter left out: two words that are a slip
// of the hand apart have one of these in common.
func slips(word string) []string {
	list := make([]string, 0, len(word)+1)
	list = append(list, word)
	for i := range len(word) {
		if i == 0 || word[i] != word[i-1] { // else it is the same as the one before
			list = append(list, word[:i]+word[i+1:])
		}
	}
	return list
}

// foldCase is one spelling for all that strings.EqualFold holds for the same.
func foldCase(s string) string {
	return strings.Map(func(r rune) rune {
		least := r
		for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
			least = min(least, f)
		}
		return least
	}, s)
}

var unmixed = strings.NewReplacer("-", "", "_", "", " ", "", ".", "")

// plain leaves out what people mix up in names.
func plain(name string) string {
	return unmixed.Replace(strings.ToLower(name))
}

// oneSlip tells whether two words differ by at most one letter added, left out,
// changed, or swapped with its neighbour.
func oneSlip(a, b string) bool {
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	return len(a) <= 1 && len(b) <= 1 || len(a) == 2 && len(b) == 2 && a[0] == b[1] && a[1] == b[0]
}
