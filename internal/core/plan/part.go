package plan

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/text"
)

// EmptyFolder stands in the place of a digest for a folder that is only made so
// that something can be put into it. On the way back it goes if it is empty.
const EmptyFolder = "folder"

// TheMod is what a part is that holds a mod itself, and not what comes with it.
const TheMod = "the mod"

// Laid and LaidMap are what a part is called that puts a file among the server's own.
const (
	Laid    = "a file"
	LaidMap = "a map"
)

// Part is a folder or file that is put in its place, exchanged or taken away as a
// whole.
type Part struct {
	Path string // absolute
	Mod  string // the mod that it belongs to, "" for none
	What string // what it is, in words: TheMod, "a key"
	Old  string // the digest of what is there now, "" for nothing
	New  string // the digest of what will be there, "" for nothing
	From string // where it is now, which another part of the plan takes away; "" for what does not move
	Base string // the digest of the release as it came, before the operator's own files were added; "" when that is not known

	Items   []Item   // what will be there; nil when New is brought back from the ledger
	Release []Item   // what came, where that is something else
	Notes   []Change // what happens to which file, for the eye
}

// Item is one file of a part, or an empty folder.
type Item struct {
	Rel    string   `json:"rel"` // below the part's path; "" when the part is a file itself
	Source string   `json:"-"`   // what it is copied from; "" for what is there already and stays
	From   string   `json:"-"`   // its path in the source
	Size   int64    `json:"size"`
	Sum    [32]byte `json:"sum"` // SHA-256
	Exec   bool     `json:"exec,omitempty"`
	Folder bool     `json:"folder,omitempty"`
	Link   string   `json:"link,omitempty"` // of a symbolic link that is there already
}

// Title says what a part is.
func (p *Part) Title() string {
	mod := text.Clean(p.Mod)
	switch {
	case mod == "":
		return p.What
	case strings.HasPrefix(p.What, "the "):
		return p.What + " " + mod
	}
	return p.What + " of " + mod
}

// Change is what happens to one file of a part.
type Change struct {
	Rel  string
	Kind ChangeKind
	Why  string // "" where it needs no reason
}

// ChangeKind says what happens to a file.
type ChangeKind string

// A file comes, goes, or is changed; stays as the operator has it; or changes hands.
const (
	FileComes   ChangeKind = "comes"
	FileGoes    ChangeKind = "goes"
	FileChanges ChangeKind = "changes"
	FileKept    ChangeKind = "yours stays"
	FileGiven   ChangeKind = "becomes yours" // of others until now
)

// Digest is what tells one state of a folder or file from another: the SHA-256 of
// its items, which are sorted by this.
func Digest(items []Item) string {
	slices.SortFunc(items, func(a, b Item) int { return cmp.Compare(a.Rel, b.Rel) })
	h := sha256.New()
	for i := range items {
		it := &items[i]
		kind := "-"
		switch {
		case it.Folder:
			kind = "d"
		case it.Link != "":
			kind = "l" + it.Link
		case it.Exec:
			kind = "x"
		}
		fmt.Fprintf(h, "%s\x00%s\x00%d\x00%x\n", it.Rel, kind, it.Size, it.Sum)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Size is how many files a part will have, and how many bytes.
func (p *Part) Size() (files int, bytes int64) {
	for i := range p.Items {
		if !p.Items[i].Folder {
			files++
			bytes += p.Items[i].Size
		}
	}
	return files, bytes
}

// Fetched is how many files of a plan's parts are copied from somewhere, and how
// many bytes.
func (p *Plan) Fetched() (files int, bytes int64) {
	for i := range p.Parts {
		f, b := p.Parts[i].Size()
		files, bytes = files+f, bytes+b
	}
	return files, bytes
}

// String says in a line what a part does.
func (p *Part) String() string {
	count := map[ChangeKind]int{}
	for _, n := range p.Notes {
		count[n.Kind]++
	}
	var words []string
	for _, k := range []ChangeKind{FileComes, FileChanges, FileGoes, FileKept} {
		if n := count[k]; n > 0 {
			words = append(words, fmt.Sprintf("%d %s", n, plural(k, n)))
		}
	}
	files, _ := p.Size()
	switch {
	case p.New == EmptyFolder:
		return "is made"
	case p.Old == EmptyFolder:
		return "goes, if it is empty"
	case p.New == "":
		return "goes; the ledger keeps it"
	case p.Items == nil && p.Old == "":
		return "comes back"
	case p.Items == nil:
		return "is put back as it was"
	case p.Old != "" && len(p.Items) == 1 && p.Items[0].Rel == "" && !p.Items[0].Folder:
		return "takes the place of the one that is there"
	case p.From != "":
		return "comes from another folder"
	case p.Old == "" && files == 1:
		return "comes, 1 file"
	case p.Old == "":
		return fmt.Sprintf("comes, %d files", files)
	case len(words) == 0:
		return "is exchanged"
	}
	return strings.Join(words, ", ")
}

func plural(k ChangeKind, n int) string {
	if n == 1 {
		return string(k)
	}
	return map[ChangeKind]string{FileComes: "come", FileGoes: "go", FileChanges: "change", FileKept: "of yours stay"}[k]
}
