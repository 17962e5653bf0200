package survey

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/mod"
	"initium/internal/core/text"
)

// maxDepth bounds how deep bundles and category folders may be nested.
const maxDepth = 8

// scanner walks through the places of a server.
type scanner struct {
	fsys    fs.FS
	dialect *dialect.Dialect
	keys    string // the server's folder for the mods' key files
	found   []Mod
	strays  []Stray
}

// folder looks at every folder in dir, which is a place, a category folder or
// a bundle.
func (s *scanner) folder(place int, dir, bundle string, depth int) {
	entries, err := fs.ReadDir(s.fsys, rel(dir))
	if err != nil || depth > maxDepth {
		return
	}
	p := &s.dialect.Places[place]
	if p.File != "" {
		s.files(place, dir, entries)
		return
	}
	for _, e := range entries {
		name := e.Name()
		if strings.HasPrefix(name, ".") || !s.isFolder(dir, e) {
			continue
		}
		full := path.Join(dir, name)
		inside, _ := fs.ReadDir(s.fsys, rel(full))
		switch {
		case p.Group != "" && strings.HasPrefix(name, p.Group) && !hasAny(inside, p.Mark),
			hasAny(inside, p.Bundle):
			s.strays = append(s.strays, Stray{Folder: name, Path: full, Bundle: true})
			s.folder(place, full, name, depth+1)
		case len(p.Mark) == 0 || hasAny(inside, p.Mark):
			s.found = append(s.found, s.mod(place, full, bundle, inside))
		default:
			s.strays = append(s.strays, Stray{Folder: name, Path: full, Empty: len(inside) == 0, Inner: s.inner(p, full, inside)})
		}
	}
}

// files finds the mods of a place where each is a single file.
func (s *scanner) files(place int, dir string, entries []fs.DirEntry) {
	p := &s.dialect.Places[place]
	pattern, err := text.ParsePattern(p.File, nil)
	if err != nil {
		return // Parse has checked it
	}
	forms := []*text.Pattern{pattern}
	if aside, err := text.ParsePattern(p.Aside, nil); err == nil && p.Aside != "" {
		forms = []*text.Pattern{aside, pattern}
	}
	for _, e := range entries {
		name := ""
		for _, form := range forms {
			if caps, ok := form.Match([]byte(e.Name()), nil); ok {
				name = string(form.Get("mod", []byte(e.Name()), caps))
				break
			}
		}
		if name == "" || e.IsDir() || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		m := Mod{Name: name, Path: path.Join(dir, e.Name()), Folder: e.Name(), Place: place,
			Base: p.Loads == dialect.LoadsBase, Always: p.Loads == dialect.LoadsAlways}
		if p.Packed {
			s.unpack(&m)
		}
		s.found = append(s.found, m)
	}
}

// maxPacked is the largest packed mod that is looked into, in bytes.
const maxPacked = 256 << 20

// unpack reads the manifest inside a packed mod.
func (s *scanner) unpack(m *Mod) {
	data, err := Open(s.fsys, m.Path, maxPacked)
	var archive *zip.Reader
	if err == nil {
		archive, err = zip.NewReader(bytes.NewReader(data), int64(len(data)))
	}
	if err != nil {
		m.Manifest.Problem = &mod.Problem{File: "", Fault: text.Fault{Line: 1, Column: 1, Message: "it is no zip archive that can be read: " + err.Error()}}
		return
	}
	m.Manifest = mod.Read(s.dialect.Manifests, func(file string) ([]byte, error) {
		f, err := archive.Open(file)
		if err != nil {
			return nil, fs.ErrNotExist
		}
		defer f.Close()
		data, err := io.ReadAll(io.LimitReader(f, mod.MaxManifest+1))
		if err == nil && len(data) > mod.MaxManifest {
			err = errTooLarge
		}
		return data, err
	})
	if m.Manifest.Name != "" {
		m.Name = m.Manifest.Name
	}
	m.Title, m.Release = m.Manifest.Title, m.Manifest.Release
}

func (s *scanner) isFolder(dir string, e fs.DirEntry) bool {
	if e.Type()&fs.ModeSymlink == 0 {
		return e.IsDir()
	}
	info, err := fs.Stat(s.fsys, rel(path.Join(dir, e.Name())))
	return err == nil && info.IsDir()
}

func (s *scanner) mod(place int, full, bundle string, inside []fs.DirEntry) Mod {
	p := &s.dialect.Places[place]
	m := Mod{Path: full, Folder: path.Base(full), Place: place, Bundle: bundle, Empty: len(inside) == 0,
		Base: p.Loads == dialect.LoadsBase, Always: p.Loads == dialect.LoadsAlways}
	m.Manifest = mod.Read(s.counting(inside), func(file string) ([]byte, error) {
		first, _, _ := strings.Cut(file, "/")
		if !has(inside, first) {
			return nil, fs.ErrNotExist
		}
		data, err := Open(s.fsys, path.Join(full, file), mod.MaxManifest)
		if pathError, ok := err.(*fs.PathError); ok {
			err = fmt.Errorf("it cannot be read: %w", pathError.Err)
		}
		return data, err
	})
	m.Name, m.Title, m.Release = m.Manifest.Name, m.Manifest.Title, m.Manifest.Release
	if m.Name == "" || s.dialect.Names.Agree {
		m.Name = m.Folder
		if aside, err := text.ParsePattern(p.Aside, nil); err == nil && p.Aside != "" {
			if caps, ok := aside.Match([]byte(m.Folder), nil); ok {
				m.Name = string(caps[0].In([]byte(m.Folder)))
			}
		}
	}
	s.compareKeys(&m, full, inside)
	s.readSources(&m, full, inside)
	m.Quiet = p.Speaks != "" && !has(inside, p.Speaks)
	if p.Main != "" && !has(inside, p.Main) {
		m.NoMain = true
		m.Inner = s.inner(p, full, inside)
	}
	return m
}

// counting are the manifests that the server reads in a folder with these files.
func (s *scanner) counting(inside []fs.DirEntry) []dialect.Manifest {
	ignored := func(form dialect.Manifest) bool { return form.Beside != "" && !has(inside, form.Beside) }
	if !slices.ContainsFunc(s.dialect.Manifests, ignored) {
		return s.dialect.Manifests
	}
	return slices.DeleteFunc(slices.Clone(s.dialect.Manifests), ignored)
}

// inner looks for the mod one folder further down, where an archive unpacked
// with one folder too many leaves it. It has to be the only one there.
func (s *scanner) inner(p *dialect.Place, full string, inside []fs.DirEntry) string {
	marks := p.Mark
	if p.Main != "" {
		marks = append(slices.Clone(marks), p.Main)
	}
	hit := ""
	for _, e := range inside {
		if !e.IsDir() {
			continue
		}
		deeper, err := fs.ReadDir(s.fsys, rel(path.Join(full, e.Name())))
		if err != nil || !hasAny(deeper, marks) {
			continue
		}
		if hit != "" {
			return ""
		}
		hit = path.Join(full, e.Name())
	}
	return hit
}

func has(entries []fs.DirEntry, name string) bool {
	_, ok := slices.BinarySearchFunc(entries, name, func(e fs.DirEntry, name string) int { return strings.Compare(e.Name(), name) })
	return ok
}

func hasAny(entries []fs.DirEntry, names []string) bool {
	return slices.ContainsFunc(names, func(n string) bool { return has(entries, n) })
}

// maxKeys bounds how many key files of one mod are compared.
const maxKeys = 64

// compareKeys looks whether the server has the key files that a mod brings.
func (s *scanner) compareKeys(m *Mod, full string, inside []fs.DirEntry) {
	pattern := s.dialect.Keys.Files
	if first, _, _ := strings.Cut(pattern, "/"); pattern == "" || !strings.ContainsAny(first, "*?[") && !has(inside, first) {
		return
	}
	folder, err := fs.Sub(s.fsys, rel(full))
	if err != nil {
		return
	}
	files, err := fs.Glob(folder, pattern)
	if err != nil {
		return
	}
	for _, file := range files[:min(len(files), maxKeys)] {
		name := path.Base(file)
		ours, err := Open(s.fsys, path.Join(s.keys, name), mod.MaxManifest)
		theirs, _ := Open(s.fsys, path.Join(full, file), mod.MaxManifest)
		if err != nil || !bytes.Equal(ours, theirs) {
			m.Keys = append(m.Keys, Key{File: name, Differs: err == nil})
		}
	}
}

// readSources looks whether the scripts of a mod can be understood at all. The
// server's own are taken to be.
func (s *scanner) readSources(m *Mod, full string, inside []fs.DirEntry) {
	if m.Base {
		return
	}
	for i := range s.dialect.Sources {
		source := &s.dialect.Sources[i]
		if first, _, _ := strings.Cut(source.File, "/"); !has(inside, first) {
			continue
		}
		data, err := Open(s.fsys, path.Join(full, source.File), mod.MaxManifest)
		if err != nil {
			continue
		}
		var fault *text.Fault
		if source.Format == dialect.FormatLua {
			fault = text.CheckLua(data)
		} else {
			fault = text.CheckWords(data, text.ScriptStyle{Comment: source.Comment, Quote: source.Quote}, source.Words)
		}
		if fault != nil {
			m.Broken = &mod.Problem{File: source.File, Fault: *fault}
			return
		}
	}
}
