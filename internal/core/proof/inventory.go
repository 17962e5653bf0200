package proof

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Inventory is what a server was started with: its settings, what it was given, its builds, and
// the files of its mods and of its own that its start rests on. Its strings are safe to show.
type Inventory struct {
	Settings []Setting `json:"settings"`
	Files    []File    `json:"files"` // by mod, then by path; those of no mod are the server's own
	Cut      bool      `json:"cut"`   // there were more files than are kept
}

// Setting is a value in a startup file. Of a secret only a seal is kept, which tells
// whether it is the same.
type Setting struct {
	Name   string `json:"name"`
	File   string `json:"file"` // the startup file that it stands in, or where else it is from
	Value  string `json:"value"`
	Hidden bool   `json:"hidden,omitempty"`
}

// File is a file of a mod, or of the server.
type File struct {
	Mod     string `json:"mod"`  // "" for the server's own
	Path    string `json:"path"` // below the mod's folder, or the server's
	Size    int64  `json:"size"`
	Changed int64  `json:"changed"` // ns since 1970
}

// FileChange says what became of a file of a mod.
type FileChange struct {
	Mod  string `json:"mod"`
	Path string `json:"path"`
	What string `json:"what"` // "new", "gone" or "changed"
}

// compareInventories adds what differs in settings and files. Files of mods that only
// one start knew are told by the mod.
func (c *Comparison) compareInventories(then, now *Inventory) {
	if then == nil || now == nil {
		return
	}
	type place struct{ name, file string }
	values := func(v *Inventory) (by map[place][]Setting, order []place) {
		by = map[place][]Setting{}
		for _, s := range v.Settings {
			at := place{s.Name, s.File}
			if by[at] == nil {
				order = append(order, at)
			}
			by[at] = append(by[at], s)
		}
		return by, order
	}
	old, before := values(then)
	fresh, order := values(now)
	for _, at := range before {
		if fresh[at] == nil {
			order = append(order, at)
		}
	}
	for _, at := range order {
		if !slices.Equal(old[at], fresh[at]) && (len(old[at])+len(fresh[at]) > 0) {
			c.Settings = append(c.Settings, Difference{Mod: at.name, Then: shown(old[at]), Now: shown(fresh[at])})
		}
	}
	if then.Cut || now.Cut {
		return
	}
	c.Files = fileChanges(then.Files, now.Files)
}

// shown are the values of a setting, each time that it stands in its file; "" when it is not set.
func shown(list []Setting) string {
	var words []string
	for _, s := range list {
		words = append(words, s.shown())
	}
	return strings.Join(words, ", then ")
}

// Same tells whether nothing differs from what another start was made with, as far as that can be
// known.
func (v *Inventory) Same(other *Inventory) bool {
	return !v.Cut && !other.Cut && slices.Equal(v.Settings, other.Settings) && slices.Equal(v.Files, other.Files)
}

func (s Setting) shown() string {
	switch {
	case s.Hidden:
		return "hidden"
	case s.Value == "":
		return `""`
	}
	return s.Value
}

func fileChanges(then, now []File) (list []FileChange) {
	order := func(a, b File) int {
		return cmp.Or(strings.Compare(a.Mod, b.Mod), strings.Compare(a.Path, b.Path))
	}
	then, now = slices.SortedFunc(slices.Values(then), order), slices.SortedFunc(slices.Values(now), order)
	both := map[string]int{}
	for i, files := range [][]File{then, now} {
		for _, f := range files {
			both[f.Mod] |= 1 << i
		}
	}
	add := func(f File, what string) {
		if both[f.Mod] == 3 {
			list = append(list, FileChange{f.Mod, f.Path, what})
		}
	}
	for len(then) > 0 || len(now) > 0 {
		switch {
		case len(now) == 0 || len(then) > 0 && order(then[0], now[0]) < 0:
			add(then[0], "gone")
			then = then[1:]
		case len(then) == 0 || order(then[0], now[0]) > 0:
			add(now[0], "new")
			now = now[1:]
		default:
			if then[0].Size != now[0].Size || then[0].Changed != now[0].Changed {
				add(now[0], "changed")
			}
			then, now = then[1:], now[1:]
		}
	}
	return list
}

// shownFiles is how many files of a mod are named in words.
const shownFiles = 3

// fileWords say in a line for each mod which of its files differ.
func fileWords(files []FileChange) (lines []string) {
	for len(files) > 0 {
		n := slices.IndexFunc(files, func(f FileChange) bool { return f.Mod != files[0].Mod })
		if n < 0 {
			n = len(files)
		}
		var words []string
		for _, f := range files[:min(n, shownFiles)] {
			words = append(words, f.Path+" "+f.What)
		}
		if n > shownFiles {
			words = append(words, fmt.Sprintf("and %d more", n-shownFiles))
		}
		lines = append(lines, fmt.Sprintf("files of %s: %s", cmp.Or(files[0].Mod, "the server"), strings.Join(words, ", ")))
		files = files[n:]
	}
	return lines
}
