// Package lantern is the stand-in for Lantern Moor, a made-up bog by night. Its
// mods are named by two launch parameters, one for lanterns that players need
// too and one for those that only the server has; each brings a key file, its
// wick, that has to be among the server's.
package lantern

import (
	"encoding/json"
	"encoding/xml"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/standin/stage"
)

// manifest is what a mod says about itself, in lantern.json.
type manifest struct {
	ID      string   `json:"id"`
	Release string   `json:"release"`
	Needs   []string `json:"needs"`
	Side    string   `json:"side"`       // all or warden
	Burn    int      `json:"burn"`       // ms that it takes to light
	Sings   string   `json:"sings_with"` // a creature that has to be in the table
}

type server struct {
	*stage.Stage
	lit       map[string]bool
	creatures []string // of the table
}

// Run serves until it is told to stop and returns the exit status. args are its
// launch parameters; its working directory is the server's folder.
func Run(st *stage.Stage, args []string) int {
	s := &server{Stage: st, lit: map[string]bool{}}
	port, all, own := "27420", "", ""
	for _, arg := range args {
		name, value, _ := strings.Cut(arg, "=")
		switch name {
		case "-port":
			port = value
		case "-lanterns":
			all = value
		case "-wardens":
			own = value
		default:
			s.log("moor", "the parameter %s means nothing here", name)
		}
	}
	s.log("moor", "Lantern Moor 1.9, dusk")
	closePort, err := s.Listen(port)
	if err != nil {
		s.log("moor", "no way through: port %s is taken", port)
		return 5
	}
	defer closePort()
	if s.creatures, err = creatures("tables/creatures.xml"); err != nil {
		s.log("moor", "no way through: tables/creatures.xml: %v", err)
		return 2
	}
	s.Gather(&stage.Crowd{
		Mods:   func() []string { return stage.Entries("bog/*", "") },
		Looks:  func(mod string) { s.log("moor", "looks at %s", mod) },
		Speech: func(said string) { s.log("talk", "<Bo> %s", said) },
		Comes: func(mod string) {
			if !s.lit[mod] {
				s.light("~"+mod, "all")
			}
		},
		Breaks: s.quench,
	})
	for _, list := range []struct {
		value string
		side  string
	}{{all, "all"}, {own, "warden"}} {
		if list.value != "" && !strings.HasSuffix(list.value, ";") {
			s.log("moor", "the last lantern of a list is not read without a ; after it")
		}
		items := strings.Split(list.value, ";")
		for _, item := range items[:len(items)-1] {
			s.light(item, list.side)
		}
	}
	s.Unrest()
	s.log("moor", "night has fallen, %d lit, port %s", len(s.lit), port)
	s.Serve("dawn", func(line string) {
		if line == "count" {
			for name := range s.lit {
				s.log("count", "%s", name)
			}
			s.log("moor", "%d in all", len(s.lit))
			return
		}
		s.log("moor", "the words here are: count, dawn")
	})
	s.log("moor", "dawn")
	return 0
}

func (s *server) log(who, format string, args ...any) {
	s.Say(stage.Clock()+" | "+who+" | "+format, args...)
}

// quench loses a lantern that burns.
func (s *server) quench(name string) bool {
	if !s.lit[name] {
		return false
	}
	delete(s.lit, name)
	s.log("dark", "%s went out: it rains", name)
	return true
}

// light deals with one item of a list.
func (s *server) light(item, side string) {
	s.kindle(item, side)
	name := strings.TrimPrefix(item, "~")
	s.Did(name, s.lit[name])
}

func (s *server) kindle(item, side string) {
	name, marked := strings.CutPrefix(item, "~")
	if !marked || strings.ContainsAny(name, "/\\") || name == "" {
		s.log("dark", "%q is no lantern", item)
		return
	}
	dir := filepath.Join("bog", name)
	data, err := os.ReadFile(filepath.Join(dir, "lantern.json"))
	if err != nil {
		s.log("dark", "%s is nowhere on the moor", name)
		return
	}
	var m manifest
	if err := json.Unmarshal(data, &m); err != nil {
		s.log("dark", "%s went out: lantern.json: %v", name, err)
		return
	}
	if m.Side != "" && m.Side != side {
		s.log("dark", "%s went out: it belongs on the other list", name)
		return
	}
	for _, need := range m.Needs {
		if !s.lit[need] {
			s.log("dark", "%s wants %s lit first", name, need)
			return
		}
	}
	wicks, _ := fs.Glob(os.DirFS(filepath.Join(dir, "keys")), "*.wick") // whatever dir is called
	for _, wick := range wicks {
		want, _ := os.ReadFile(filepath.Join(dir, "keys", wick))
		have, err := os.ReadFile(filepath.Join("wicks", wick))
		if err != nil || string(have) != string(want) {
			s.log("dark", "%s went out: %s is not among the wicks", name, wick)
			return
		}
	}
	if m.Sings != "" && !slices.Contains(s.creatures, m.Sings) {
		s.log("dark", "%s went out: there is no %s on the moor to sing with", name, m.Sings)
		return
	}
	s.Wait(m.Burn)
	s.lit[name] = true
	s.log("lit", "%s %s burns (%d ms)", name, m.Release, m.Burn)
	if s.Store("embers", name) {
		s.log("lit", "%s leaves embers/%s", name, name)
	}
}

// creatures reads the table of creatures: every entry has an id of its own.
func creatures(name string) (ids []string, err error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, nil // none is none
	}
	var table struct {
		Creatures []struct {
			ID string `xml:"id,attr"`
		} `xml:"creature"`
	}
	err = xml.Unmarshal(data, &table)
	for _, c := range table.Creatures {
		ids = append(ids, c.ID)
	}
	return ids, err
}
