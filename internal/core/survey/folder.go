package survey

import (
	"errors"
	"io/fs"
	"path"

	"initium/internal/core/dialect"
	"initium/internal/core/mod"
)

// folder is a folder that may be a mod's. It is asked for single files, which is
// quicker than listing it; only where that says too little is it listed.
type folder struct {
	fsys   fs.FS
	path   string
	known  []knownFile
	listed []fs.DirEntry
	done   bool
}

// knownFile is what was found out about a file.
type knownFile struct {
	name  string
	data  []byte
	err   error
	there bool
	whole bool // data is what it holds
}

func (f *folder) find(name string) *knownFile {
	for i := range f.known {
		if f.known[i].name == name {
			return &f.known[i]
		}
	}
	return nil
}

// read returns a small file of the folder; an error of fs.ErrNotExist means that
// there is none.
func (f *folder) read(name string) ([]byte, error) {
	k := f.find(name)
	if k == nil {
		f.known = append(f.known, knownFile{name: name})
		k = &f.known[len(f.known)-1]
	} else if k.whole || k.err != nil {
		return k.data, k.err
	}
	k.data, k.err = Open(f.fsys, f.path+"/"+name, mod.MaxManifest)
	k.there, k.whole = !errors.Is(k.err, fs.ErrNotExist), k.err == nil
	return k.data, k.err
}

// has tells whether there is a file or folder of that name.
func (f *folder) has(name string) bool {
	if k := f.find(name); k != nil {
		return k.there
	}
	_, err := fs.Stat(f.fsys, rel(f.path+"/"+name))
	f.known = append(f.known, knownFile{name: name, there: err == nil})
	if err != nil {
		f.known[len(f.known)-1].err = fs.ErrNotExist
	}
	return err == nil
}

// hasAny tells whether there is one of several files. They are mostly manifests,
// so the first is read right away.
func (f *folder) hasAny(names []string) bool {
	for i, name := range names {
		if i == 0 && f.find(name) == nil {
			f.read(name)
		}
		if f.has(name) {
			return true
		}
		if dialect.IsPattern(name) && f.hasLike(name) {
			return true
		}
	}
	return false
}

// hasLike tells whether there is a file by a pattern, whose folder is no pattern.
func (f *folder) hasLike(pattern string) bool {
	list := f.list()
	if dir := path.Dir(pattern); dir != "." {
		list = (&folder{fsys: f.fsys, path: f.path + "/" + dir}).list()
	}
	for _, e := range list {
		if ok, _ := path.Match(path.Base(pattern), e.Name()); ok && !e.IsDir() {
			return f.has(path.Join(path.Dir(pattern), e.Name()))
		}
	}
	return false
}

// holds tells whether anything was found in the folder so far.
func (f *folder) holds() bool {
	for i := range f.known {
		if f.known[i].there {
			return true
		}
	}
	return false
}

// list is all that is in the folder.
func (f *folder) list() []fs.DirEntry {
	if !f.done {
		f.listed, _ = fs.ReadDir(f.fsys, rel(f.path))
		f.done = true
	}
	return f.listed
}
