package intake

import (
	"bytes"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"initium/internal/core/plan"
	"initium/internal/core/survey"
)

// Overlay is a file system as it would be after parts of plans are carried out,
// without anything being written. Only files whose bytes were kept can be read in
// it; others have their size, and read as empty. Paths are absolute ones without
// the first slash, as in survey.Input.
type Overlay struct {
	base  fs.FS
	roots map[string]*layer   // by the path of a part
	made  map[string][]string // folders that have parts, or folders with parts, in them: their names
}

// layer is one part.
type layer struct {
	lies     string // where the files are that stay as they are
	items    map[string]plan.Item
	children map[string][]string
	data     func(from string) []byte
}

// NewOverlay puts parts over a file system. data returns the bytes of a file of a
// source, nil when they were not kept.
func NewOverlay(base fs.FS, parts []plan.Part, data func(source, from string) []byte) *Overlay {
	o := &Overlay{base: base, roots: map[string]*layer{}, made: map[string][]string{}}
	for i := range parts {
		p := &parts[i]
		if p.New == plan.EmptyFolder || p.Old == plan.EmptyFolder {
			continue // it shows in what is put into it
		}
		l := newLayer(p)
		l.data = func(rel string) []byte {
			it := l.items[rel]
			return data(it.Source, it.From)
		}
		full := strings.TrimPrefix(p.Path, "/")
		o.roots[full] = l
		if l.lies = full; p.From != "" {
			l.lies = strings.TrimPrefix(p.From, "/")
		}
		if p.New == "" {
			o.roots[full] = &layer{}
			continue
		}
		for name := full; name != "."; name = path.Dir(name) {
			dir := path.Dir(name)
			if slices.Contains(o.made[dir], path.Base(name)) {
				break
			}
			o.made[dir] = append(o.made[dir], path.Base(name))
		}
	}
	return o
}

func newLayer(p *plan.Part) *layer {
	l := &layer{items: make(map[string]plan.Item, len(p.Items)), children: map[string][]string{}}
	known := map[string]bool{}
	for _, it := range p.Items {
		l.items[it.Rel] = it
		for rel := it.Rel; rel != "" && !known[rel]; {
			known[rel] = true
			parent := path.Dir(rel)
			if parent == "." {
				parent = ""
			}
			l.children[parent] = append(l.children[parent], path.Base(rel))
			rel = parent
		}
	}
	return l
}

// find tells in which part a path is, and where in it.
func (o *Overlay) find(name string) (l *layer, root, rel string) {
	for root = name; root != "." && root != "/"; root = path.Dir(root) {
		if l := o.roots[root]; l != nil {
			return l, root, strings.TrimPrefix(strings.TrimPrefix(name, root), "/")
		}
	}
	return nil, "", ""
}

// info describes a file of the overlay.
type info struct {
	name string
	size int64
	mode fs.FileMode
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.size }
func (i info) Mode() fs.FileMode  { return i.mode }
func (i info) ModTime() time.Time { return time.Time{} }
func (i info) IsDir() bool        { return i.mode.IsDir() }
func (i info) Sys() any           { return nil }

// stat describes what is at a place in a layer.
func (l *layer) stat(name, rel string) (info, bool) {
	it, ok := l.items[rel]
	switch {
	case ok && !it.Folder:
		mode := fs.FileMode(0o644)
		if it.Exec {
			mode = 0o755
		}
		return info{path.Base(name), it.Size, mode}, true
	case ok, len(l.children[rel]) > 0:
		return info{path.Base(name), 0, fs.ModeDir | 0o755}, true
	}
	return info{}, false
}

func absent(op, name string) error {
	return &fs.PathError{Op: op, Path: "/" + name, Err: fs.ErrNotExist}
}

// Stat describes a file or folder.
func (o *Overlay) Stat(name string) (fs.FileInfo, error) {
	if l, _, rel := o.find(name); l != nil {
		if l.kept(rel) {
			return fs.Stat(o.base, path.Join(l.lies, l.items[rel].From))
		}
		if i, ok := l.stat(name, rel); ok {
			return i, nil
		}
		return nil, absent("stat", name)
	}
	if got, err := fs.Stat(o.base, name); err == nil || len(o.made[name]) == 0 {
		return got, err
	}
	return info{path.Base(name), 0, fs.ModeDir | 0o755}, nil
}

// kept tells files that are there already and stay.
func (l *layer) kept(rel string) bool {
	it, ok := l.items[rel]
	return ok && it.Source == "" && !it.Folder
}

// ReadDir lists a folder.
func (o *Overlay) ReadDir(name string) ([]fs.DirEntry, error) {
	if l, _, rel := o.find(name); l != nil {
		i, ok := l.stat(name, rel)
		if !ok || !i.IsDir() {
			return nil, absent("open", name)
		}
		var list []fs.DirEntry
		for _, child := range l.children[rel] {
			if i, err := o.Stat(name + "/" + child); err == nil {
				list = append(list, fs.FileInfoToDirEntry(i))
			}
		}
		return sorted(list), nil
	}
	list, err := fs.ReadDir(o.base, name)
	if err != nil && len(o.made[name]) == 0 {
		return nil, err
	}
	list = slices.DeleteFunc(slices.Clone(list), func(e fs.DirEntry) bool { return o.roots[join(name, e.Name())] != nil })
	for _, child := range o.made[name] {
		full := path.Join(name, child)
		if slices.ContainsFunc(list, func(e fs.DirEntry) bool { return e.Name() == child }) {
			continue
		}
		if i, err := o.Stat(full); err == nil {
			list = append(list, fs.FileInfoToDirEntry(info{child, i.Size(), i.Mode()}))
		}
	}
	return sorted(list), nil
}

func sorted(list []fs.DirEntry) []fs.DirEntry {
	slices.SortFunc(list, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return list
}

// ReadSmall reads a file.
func (o *Overlay) ReadSmall(name string, limit int64) ([]byte, error) {
	l, _, rel := o.find(name)
	switch {
	case l == nil:
		return survey.Open(o.base, "/"+name, limit)
	case l.kept(rel):
		return survey.Open(o.base, "/"+path.Join(l.lies, l.items[rel].From), limit)
	}
	i, ok := l.stat(name, rel)
	switch {
	case !ok:
		return nil, absent("read", name)
	case i.IsDir():
		return nil, &fs.PathError{Op: "read", Path: "/" + name, Err: survey.ErrNotFile}
	case i.size > limit:
		return nil, &fs.PathError{Op: "read", Path: "/" + name, Err: survey.ErrTooLarge}
	}
	return l.data(rel), nil
}

// Stamp is that of the file system below, for what nothing was put over.
func (o *Overlay) Stamp(name string) (survey.Stamp, bool) {
	below, ok := o.base.(survey.Stamper)
	if l, _, _ := o.find(name); l != nil || !ok {
		return survey.Stamp{}, false
	}
	return below.Stamp(name)
}

// Open opens a file or folder.
func (o *Overlay) Open(name string) (fs.File, error) {
	if l, _, _ := o.find(name); l == nil && len(o.made[name]) == 0 {
		return o.base.Open(name)
	}
	i, err := o.Stat(name)
	if err != nil {
		return nil, err
	}
	f := &file{info: i}
	if i.IsDir() {
		f.list, err = o.ReadDir(name)
	} else {
		var data []byte
		data, err = o.ReadSmall(name, i.Size())
		f.Reader = bytes.NewReader(data)
	}
	return f, err
}

// file is an open file or folder of an overlay.
type file struct {
	*bytes.Reader
	info fs.FileInfo
	list []fs.DirEntry
}

func (f *file) Stat() (fs.FileInfo, error) { return f.info, nil }
func (f *file) Close() error               { return nil }

func (f *file) Read(b []byte) (int, error) {
	if f.Reader == nil {
		return 0, survey.ErrNotFile
	}
	return f.Reader.Read(b)
}

// ReadDir hands the entries of a folder out.
func (f *file) ReadDir(n int) ([]fs.DirEntry, error) {
	if n <= 0 {
		list := f.list
		f.list = nil
		return list, nil
	}
	if len(f.list) == 0 {
		return nil, io.EOF
	}
	list := f.list[:min(n, len(f.list))]
	f.list = f.list[len(list):]
	return list, nil
}
