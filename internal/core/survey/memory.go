package survey

import (
	"strings"
	"sync"

	"initium/internal/core/dialect"
)

// Stamp tells whether a file or folder is the same as before.
type Stamp struct {
	Device, Inode uint64
	Size          int64
	Changed       int64 // when it was changed last, by the system's own count
}

// Stamper is a file system that can tell whether files have changed. ok is false
// for what is not there, and for what was changed so lately that another change
// could go unseen.
type Stamper interface {
	Stamp(name string) (s Stamp, ok bool)
}

// Memory keeps from one survey to the next what was found in the folders of mods,
// for as long as their files do not change. It may be used by several surveys at
// a time.
type Memory struct {
	mu     sync.Mutex
	rounds int // surveys so far
	mods   map[string]*memory
	of     *dialect.Dialect
}

// begin counts a survey. Nothing is kept of the first: it costs something, and a
// program that looks once has no use for it.
func (m *Memory) begin() {
	if m != nil {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.rounds++
	}
}

// memory is a mod with the stamps of its folder and of the files that were read.
type memory struct {
	mod    *Mod
	names  []string
	stamps []Stamp
}

// recall returns the mod in a folder, if nothing that it was read from has changed.
func (m *Memory) recall(s *scanner, full string) *Mod {
	stamper, ok := s.fsys.(Stamper)
	if m == nil || !ok {
		return nil
	}
	m.mu.Lock()
	if m.of != s.dialect { // another dialect reads other things out of the same files
		m.mods, m.of = map[string]*memory{}, s.dialect
	}
	known := m.mods[full]
	m.mu.Unlock()
	if known == nil {
		return nil
	}
	for i, name := range known.names {
		if now, ok := stamper.Stamp(rel(name)); !ok || now != known.stamps[i] {
			return nil
		}
	}
	return known.mod
}

// remember remembers a mod that was read from a folder.
func (m *Memory) remember(s *scanner, f *folder, found *Mod) {
	stamper, ok := s.fsys.(Stamper)
	if m == nil || !ok || m.once() || found.NoMain || found.Empty || s.dialect.Keys.Files != "" {
		return // what these hang on lies further away
	}
	kept := &memory{mod: found, names: []string{f.path}}
	for i := range f.known {
		if strings.Contains(f.known[i].name, "/") {
			return
		}
		if f.known[i].there {
			kept.names = append(kept.names, f.path+"/"+f.known[i].name)
		}
	}
	for _, name := range kept.names {
		stamp, ok := stamper.Stamp(rel(name))
		if !ok {
			return
		}
		kept.stamps = append(kept.stamps, stamp)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.of == s.dialect {
		m.mods[f.path] = kept
	}
}

// once tells that this is the first survey.
func (m *Memory) once() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.rounds < 2
}
