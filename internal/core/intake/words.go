package intake

import (
	"path"
	"strings"

	"initium/internal/core/text"
)

// RootWords says where in what came the mod begins, and how that is known.
func (m *Mod) RootWords() string {
	if m.Single {
		where := "the file " + text.Clean(path.Base(m.Root))
		if len(m.Around) > 0 {
			where += " in " + text.Clean(strings.Join(m.Around, "/"))
		}
		return where
	}
	shown := ", which holds " + text.Clean(m.Shown)
	if m.Shown == anyFolder {
		shown = ", as nothing marks the mods of this family"
	}
	if m.Root == "" {
		return "all that came" + shown + "; there is no folder around it"
	}
	where := text.Clean(m.Root) + "/" + shown
	switch n := len(m.Around); {
	case n == 0:
		return where
	case likeness(BareName(m.Around[n-1])) == likeness(BareName(path.Base(m.Root))):
		return where + "; it lies in a folder of the same name"
	case n == 1:
		return where + "; the folder around it is left out"
	}
	return where + "; the folders around it are left out"
}

// Troubles are archives within the archive that cannot be looked into, with the
// reason.
func (f *Found) Troubles() (list []string) {
	for i := range f.Tree.Entries {
		if e := &f.Tree.Entries[i]; e.Trouble != "" {
			list = append(list, e.Path+": "+e.Trouble)
		}
	}
	return list
}
