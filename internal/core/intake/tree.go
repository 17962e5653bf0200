package intake

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"initium/internal/core/text"
)

// Sum is the SHA-256 of a file's bytes.
type Sum [32]byte

// Kind is what an entry is.
type Kind uint8

// The kinds of entries that are taken in.
const (
	File Kind = iota
	Folder
	Link     // symbolic; Target is relative to the folder that it stands in
	HardLink // Target is the path of an earlier entry
)

// Entry is one thing in what came.
type Entry struct {
	Path    string // below the root, as EntryPath makes it
	Kind    Kind
	Size    int64 // in bytes
	Sum     Sum
	Exec    bool      // may be run
	Changed time.Time // when it was changed last, as the source says; zero when it does not
	Target  string    // of a link, as it is written
	Data    []byte    // the bytes of a small file that is worth reading; else nil
	Inside  *Tree     // of an archive inside the archive: what is in it

	Trouble string // of such an archive: why it cannot be looked into

	of string // of a link: the path of the file that it leads to, once resolved
}

// Content is the path of the entry whose bytes these are: its own, or that of
// the file that a link leads to.
func (e *Entry) Content() string {
	if e.of != "" {
		return e.of
	}
	return e.Path
}

// Bounds keep hostile archives from filling memory or disk.
type Bounds struct {
	Files int   // how many entries there may be
	Bytes int64 // how large all of them may be, unpacked
	Ratio int64 // how many times larger than the archive
	Cases bool  // names may differ by letter case or Unicode form only
	Links bool  // links stay what they are, wherever they lead: for archives of Initium's own
}

// DefaultBounds are wide enough for what mods are made of.
func DefaultBounds() Bounds { return Bounds{Files: 250_000, Bytes: 32 << 30, Ratio: 250} }

// looseBytes are unpacked without a look at the ratio: small text packs well.
const looseBytes = 64 << 20

// Bound names one of the Bounds.
type Bound string

// The bounds that an operator can set.
const (
	BoundFiles Bound = "files"
	BoundBytes Bound = "bytes"
	BoundRatio Bound = "ratio"
	BoundCases Bound = "cases"
)

// BoundError says that something is beyond a bound. Of is "" for one that cannot be set.
type BoundError struct {
	Why string
	Of  Bound
}

// Error says what is too large, or too many.
func (e BoundError) Error() string { return e.Why }

// CheckSize refuses what grows beyond the bounds: unpacked bytes so far, out of
// packed ones (0 when that is not known).
func (b Bounds) CheckSize(unpacked, packed int64) error {
	switch {
	case unpacked > b.Bytes:
		return BoundError{fmt.Sprintf("it unpacks to more than %s", Bytes(b.Bytes)), BoundBytes}
	case packed > 0 && unpacked > looseBytes && unpacked/packed > b.Ratio:
		return BoundError{fmt.Sprintf("it unpacks to more than %d times its size, as archives do that are made to fill a disk", b.Ratio), BoundRatio}
	}
	return nil
}

// CheckCount refuses too many entries.
func (b Bounds) CheckCount(n int) error {
	if n > b.Files {
		return BoundError{fmt.Sprintf("it holds more than %d entries", b.Files), BoundFiles}
	}
	return nil
}

// Bytes writes a size.
func Bytes(n int64) string {
	const k = 1000
	if n < k {
		return fmt.Sprintf("%d B", n)
	}
	f, units := float64(n)/k, []string{"kB", "MB", "GB", "TB"}
	for f >= k && len(units) > 1 {
		f, units = f/k, units[1:]
	}
	return fmt.Sprintf("%.1f %s", f, units[0])
}

// Tree is all that came, sorted by path. The folders above every entry are in it.
type Tree struct {
	Entries []Entry
	Files   int
	Total   int64 // in bytes
}

// Find returns the entry with a path, or nil.
func (t *Tree) Find(name string) *Entry {
	i, ok := slices.BinarySearchFunc(t.Entries, name, func(e Entry, name string) int { return comparePaths(e.Path, name) })
	if !ok {
		return nil
	}
	return &t.Entries[i]
}

// Below are the entries below a folder, "" for all.
func (t *Tree) Below(dir string) []Entry {
	if dir == "" {
		return t.Entries
	}
	from, ok := slices.BinarySearchFunc(t.Entries, dir, func(e Entry, name string) int { return comparePaths(e.Path, name) })
	if ok {
		from++
	}
	to := from
	for to < len(t.Entries) && strings.HasPrefix(t.Entries[to].Path, dir+"/") {
		to++
	}
	return t.Entries[from:to]
}

// comparePaths sorts a folder right before all that is in it.
func comparePaths(a, b string) int {
	for i := 0; i < len(a) && i < len(b); i++ {
		if a[i] != b[i] {
			switch {
			case a[i] == '/':
				return -1
			case b[i] == '/':
				return 1
			}
			return int(a[i]) - int(b[i])
		}
	}
	return len(a) - len(b)
}

// Builder gathers the entries of a tree and refuses what cannot be one.
type Builder struct {
	bounds  Bounds
	entries []Entry
	known   map[string]Kind   // by path
	forms   map[string]string // by what names have in common
}

// NewBuilder begins a tree.
func NewBuilder(b Bounds) *Builder {
	return &Builder{bounds: b, known: map[string]Kind{}, forms: map[string]string{}}
}

// Reserve checks the name of an entry and returns its path, before its bytes are
// read. A path of "" is the root, of which nothing need be kept.
func (b *Builder) Reserve(raw string, kind Kind) (string, error) {
	name, err := EntryPath(raw)
	if err != nil || name == "" {
		return "", err
	}
	for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
		if old, ok := b.known[dir]; ok {
			if old != Folder {
				return "", fmt.Errorf("%q is a file, and the folder of another entry too", text.Clean(shorten(dir)))
			}
			break
		}
		if err := b.put(Entry{Path: dir, Kind: Folder}); err != nil {
			return "", err
		}
	}
	if old, ok := b.known[name]; ok {
		if old == Folder && kind == Folder {
			return "", nil
		}
		return "", fmt.Errorf("%q is in it twice", text.Clean(shorten(name)))
	}
	return name, nil
}

// Add adds an entry whose path was reserved.
func (b *Builder) Add(e Entry) error { return b.put(e) }

// SetSum gives an entry its sum, which may be worked out while others are read
// already; at is what Len was right before it was added.
func (b *Builder) SetSum(at int, sum Sum) { b.entries[at].Sum = sum }

// Len is how many entries there are so far.
func (b *Builder) Len() int { return len(b.entries) }

func (b *Builder) put(e Entry) error {
	form := folded(e.Path)
	if old, ok := b.forms[form]; ok && old != e.Path && !b.bounds.Cases {
		return BoundError{fmt.Sprintf("%q and %q differ by letter case or Unicode form only; some systems hold them for one", text.Clean(shorten(old)), text.Clean(shorten(e.Path))), BoundCases}
	}
	b.forms[form], b.known[e.Path] = e.Path, e.Kind
	b.entries = append(b.entries, e)
	return b.bounds.CheckCount(len(b.entries))
}

// Tree finishes: links are followed to the files that they lead to.
func (b *Builder) Tree() (*Tree, error) {
	t := &Tree{Entries: b.entries}
	slices.SortFunc(t.Entries, func(a, b Entry) int { return comparePaths(a.Path, b.Path) })
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == HardLink || e.Kind == Link && !b.bounds.Links {
			end, err := t.follow(e)
			if err != nil {
				return nil, fmt.Errorf("the link %q %w", text.Clean(shorten(e.Path)), err)
			}
			e.of, e.Size, e.Sum, e.Data, e.Exec = end.Path, end.Size, end.Sum, end.Data, end.Exec
		}
	}
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind != Folder {
			t.Files++
			t.Total += e.Size
		}
	}
	return t, nil
}

// maxHops is how many links may lead to each other.
const maxHops = 16

// follow finds the file that a link leads to.
func (t *Tree) follow(e *Entry) (*Entry, error) {
	for range maxHops {
		target := strings.ReplaceAll(e.Target, `\`, "/")
		if e.Kind == Link {
			if path.IsAbs(target) || len(target) > 1 && target[1] == ':' {
				return nil, errors.New("leads out of what came, to " + text.Clean(shorten(target)))
			}
			target = path.Join(path.Dir(e.Path), target)
		} else {
			target = path.Clean(target)
		}
		if target == ".." || strings.HasPrefix(target, "../") || path.IsAbs(target) {
			return nil, errors.New("leads out of what came, to " + text.Clean(shorten(target)))
		}
		next := t.Find(target)
		switch {
		case next == nil:
			return nil, fmt.Errorf("leads to %q, which is not there", text.Clean(shorten(target)))
		case next.Kind == File:
			return next, nil
		case next.Kind == Folder:
			return nil, fmt.Errorf("leads to the folder %q; only links to files are taken in", text.Clean(shorten(target)))
		}
		e = next
	}
	return nil, errors.New("leads in a circle")
}

// Bytes are the bytes of a file that were kept, by its path; those of archives
// within the archive have its path before theirs.
func (t *Tree) Bytes(name string) []byte {
	if e := t.Find(name); e != nil {
		return e.Data
	}
	for i := strings.IndexByte(name, '/'); i > 0; {
		if e := t.Find(name[:i]); e != nil && e.Inside != nil {
			return e.Inside.Bytes(name[i+1:])
		}
		next := strings.IndexByte(name[i+1:], '/')
		if next < 0 {
			break
		}
		i += 1 + next
	}
	return nil
}
