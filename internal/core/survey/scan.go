package survey

import (
	"archive/zip"
	"bytes"
	"cmp"
	"fmt"
	"io"
	"io/fs"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

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
	memory  *Memory
	roots   []string // of the places
	called  []string // how registrations call them
}

// finds are what is in a folder, in the order of the names.
type finds struct {
	mods   []*Mod
	strays []Stray
}

func (f *finds) add(more finds) {
	f.mods = append(f.mods, more.mods...)
	f.strays = append(f.strays, more.strays...)
}

// fewFolders is how many folders are looked at one after the other; more are
// shared out, for most of the time is spent in waiting for the disk.
const fewFolders = 32

// folder looks at every folder in dir, which is a place, a category folder or
// a bundle.
func (s *scanner) folder(place int, dir, bundle string, depth int) (found finds) {
	entries, err := fs.ReadDir(s.fsys, rel(dir))
	if err != nil || depth > maxDepth {
		return found
	}
	if s.dialect.Places[place].File != "" {
		found.mods = s.files(place, dir, entries)
		return found
	}
	each := make([]finds, len(entries))
	look := func(i int) {
		e := entries[i]
		if !strings.HasPrefix(e.Name(), ".") && s.isFolder(dir, e) {
			each[i] = s.entry(place, dir+"/"+e.Name(), bundle, depth)
		}
	}
	if len(entries) < fewFolders {
		for i := range entries {
			look(i)
		}
	} else {
		s.share(len(entries), look)
	}
	found.mods = make([]*Mod, 0, len(entries))
	for i := range each {
		found.add(each[i])
	}
	return found
}

// share does the work for 0 to n-1 side by side.
func (s *scanner) share(n int, work func(i int)) {
	var next atomic.Int64
	var wait sync.WaitGroup
	for range 2 * runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for {
				const chunk = 16
				to := int(next.Add(chunk))
				if to-chunk >= n {
					return
				}
				for i := to - chunk; i < min(to, n); i++ {
					work(i)
				}
			}
		})
	}
	wait.Wait()
}

// entry looks at one folder among the mods.
func (s *scanner) entry(place int, full, bundle string, depth int) finds {
	if m := s.memory.recall(s, full); m != nil && m.Place == place {
		return finds{mods: []*Mod{m}}
	}
	p := &s.dialect.Places[place]
	f := &folder{fsys: s.fsys, path: full}
	name := path.Base(full)
	marked := f.hasAny(p.Mark)
	switch {
	case p.Group != "" && strings.HasPrefix(name, p.Group) && !marked, f.hasAny(p.Bundle):
		found := s.folder(place, full, name, depth+1)
		found.strays = append([]Stray{{Folder: name, Path: full, Bundle: true}}, found.strays...)
		return found
	case len(p.Mark) == 0 || marked:
		m := s.mod(place, f, bundle)
		s.memory.remember(s, f, m)
		return finds{mods: []*Mod{m}}
	}
	return finds{strays: []Stray{{Folder: name, Path: full, Empty: len(f.list()) == 0, Inner: s.inner(p, f)}}}
}

// files finds the mods of a place where each is a single file, or a folder that has more in its name
// than the mod's: `mod_{mod}/`.
func (s *scanner) files(place int, dir string, entries []fs.DirEntry) (mods []*Mod) {
	p := &s.dialect.Places[place]
	file, folder := strings.CutSuffix(p.File, "/")
	pattern, err := text.ParseFileName(file)
	if err != nil {
		return nil // Parse has checked it
	}
	forms := []*text.Pattern{pattern}
	if aside, err := text.ParseFileName(p.Aside); err == nil && p.Aside != "" {
		forms = []*text.Pattern{aside, pattern}
	}
	for _, e := range entries {
		name, release := "", ""
		if p.HasRelease() {
			name, release, _ = dialect.NameIn(file, e.Name())
			forms = nil
		}
		for _, form := range forms {
			if caps, ok := form.Match([]byte(e.Name()), nil); ok {
				name = string(form.Get("mod", []byte(e.Name()), caps))
				break
			}
		}
		if name == "" || s.isFolder(dir, e) != folder || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		m := &Mod{Name: name, Path: path.Join(dir, e.Name()), Folder: e.Name(), Place: place,
			Base: p.Loads == dialect.LoadsBase, Always: p.Loads == dialect.LoadsAlways}
		if s.called[place] != "" {
			m.Spot = s.called[place] + "/" + e.Name()
		}
		if folder {
			s.describe(m, (&folderReader{s.fsys, m.Path}).read)
		} else {
			s.ownFile(place, m)
		}
		m.Release = cmp.Or(m.Release, release)
		mods = append(mods, m)
	}
	return mods
}

// ownFile reads what a mod says of itself that is a single file.
func (s *scanner) ownFile(place int, m *Mod) {
	if s.dialect.Places[place].Packed {
		s.unpack(m)
	} else if slices.ContainsFunc(s.dialect.Manifests, func(form dialect.Manifest) bool { return form.File == dialect.OwnFile }) {
		s.describe(m, func(file string) ([]byte, error) {
			if file != dialect.OwnFile {
				return nil, fs.ErrNotExist
			}
			return Open(s.fsys, m.Path, mod.MaxManifest)
		})
	}
}

// folderReader reads what a mod says of itself that is a folder called other than the mod.
type folderReader struct {
	fsys fs.FS
	path string
}

func (f *folderReader) read(file string) ([]byte, error) {
	if file == dialect.OwnFile {
		return nil, fs.ErrNotExist
	}
	return Open(f.fsys, path.Join(f.path, file), mod.MaxManifest)
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
	s.describe(m, func(file string) ([]byte, error) {
		f, err := archive.Open(file)
		if err != nil || file == dialect.OwnFile {
			return nil, fs.ErrNotExist
		}
		defer f.Close()
		data, err := io.ReadAll(io.LimitReader(f, mod.MaxManifest+1))
		if err == nil && len(data) > mod.MaxManifest {
			err = ErrTooLarge
		}
		return data, err
	})
}

// describe reads what a mod that is a single file says of itself.
func (s *scanner) describe(m *Mod, read func(file string) ([]byte, error)) {
	m.Manifest = mod.Read(s.dialect.Manifests, read).Fit(s.dialect.BuildCalled)
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

func (s *scanner) mod(place int, f *folder, bundle string) *Mod {
	p := &s.dialect.Places[place]
	m := &Mod{Path: f.path, Folder: path.Base(f.path), Place: place, Bundle: bundle,
		Base: p.Loads == dialect.LoadsBase, Always: p.Loads == dialect.LoadsAlways}
	m.Manifest = mod.Read(s.counting(f), func(file string) ([]byte, error) {
		if file == dialect.OwnFile {
			return nil, fs.ErrNotExist
		}
		data, err := f.read(file)
		if pathError, ok := err.(*fs.PathError); ok {
			err = fmt.Errorf("it cannot be read: %w", pathError.Err)
		}
		return data, err
	}).Fit(s.dialect.BuildCalled)
	m.Name, m.Title, m.Release = m.Manifest.Name, m.Manifest.Title, m.Manifest.Release
	if m.Name == "" || s.dialect.Names.Agree {
		m.Name = m.Folder
		if aside, err := text.ParseFileName(p.Aside); err == nil && p.Aside != "" {
			if caps, ok := aside.Match([]byte(m.Folder), nil); ok {
				m.Name = string(caps[0].In([]byte(m.Folder)))
			}
		}
	}
	if s.called[place] != "" {
		m.Spot = s.called[place] + strings.TrimPrefix(f.path, s.roots[place])
	}
	s.compareKeys(m, f)
	s.readSources(m, f)
	m.Quiet = p.Speaks != "" && !f.has(p.Speaks)
	if p.Main != "" && !f.has(p.Main) {
		m.NoMain = true
		m.Inner = s.inner(p, f)
	}
	m.Empty = !f.holds() && len(f.list()) == 0
	return m
}

// counting are the manifests that the server reads in a folder.
func (s *scanner) counting(f *folder) []dialect.Manifest {
	ignored := func(form dialect.Manifest) bool { return form.Beside != "" && !f.has(form.Beside) }
	if !slices.ContainsFunc(s.dialect.Manifests, ignored) {
		return s.dialect.Manifests
	}
	return slices.DeleteFunc(slices.Clone(s.dialect.Manifests), ignored)
}

// inner looks for the mod one folder further down, where an archive unpacked
// with one folder too many leaves it. It has to be the only one there.
func (s *scanner) inner(p *dialect.Place, f *folder) string {
	marks := p.Mark
	if p.Main != "" {
		marks = append(slices.Clone(marks), p.Main)
	}
	hit := ""
	for _, e := range f.list() {
		if !e.IsDir() {
			continue
		}
		deeper := &folder{fsys: s.fsys, path: path.Join(f.path, e.Name())}
		if !deeper.hasAny(marks) {
			continue
		}
		if hit != "" {
			return ""
		}
		hit = deeper.path
	}
	return hit
}

// maxKeys bounds how many key files of one mod are compared.
const maxKeys = 64

// compareKeys looks whether the server has the key files that a mod brings.
func (s *scanner) compareKeys(m *Mod, f *folder) {
	pattern := s.dialect.Keys.Files
	if first, _, _ := strings.Cut(pattern, "/"); pattern == "" || !strings.ContainsAny(first, "*?[") && !f.has(first) {
		return
	}
	files, err := fs.Glob(s.fsys, path.Join(text.Literal(rel(f.path)), pattern)) // fs.Sub would take the folder's name for a pattern
	if err != nil {
		return
	}
	for _, file := range files[:min(len(files), maxKeys)] {
		name := path.Base(file)
		ours, err := Open(s.fsys, path.Join(s.keys, name), mod.MaxManifest)
		theirs, _ := Open(s.fsys, "/"+file, mod.MaxManifest)
		if err != nil || !bytes.Equal(ours, theirs) {
			m.Keys = append(m.Keys, Key{File: name, Differs: err == nil})
		}
	}
}

// readSources looks whether the scripts of a mod can be understood at all. The
// server's own are taken to be.
func (s *scanner) readSources(m *Mod, f *folder) {
	if m.Base {
		return
	}
	for i := range s.dialect.Sources {
		source := &s.dialect.Sources[i]
		data, err := f.read(source.File)
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
