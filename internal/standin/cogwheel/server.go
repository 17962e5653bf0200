// Package cogwheel is the stand-in for Cogwheel Fair, a made-up travelling fair.
// Its mods are packed files dropped in a folder, with a manifest inside; a JSON
// file lists which are open; the server decides the order by itself, and needs a
// loader and an engine of the right version.
package cogwheel

import (
	"archive/zip"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"initium/internal/standin/stage"
)

// needEngine is the engine version that this build of the fair needs.
const needEngine = 3

// fair is what fair.json says.
type fair struct {
	Port   int      `json:"port"`
	Loader string   `json:"loader"`
	Open   []string `json:"open"`
}

// ride is what a mod says about itself, in ride.yaml inside its file.
type ride struct {
	Name    string   `yaml:"name"`
	Release string   `yaml:"release"`
	After   []string `yaml:"after"`    // names, perhaps with the least release: "carousel >=1.2"
	Quarrel []string `yaml:"quarrels"` // rides that it will not turn beside
	Loader  string   `yaml:"loader"`
	Wind    int      `yaml:"wind"` // ms that it takes to start
	Gate    string   `yaml:"gate"` // the one in gates.fair that has to let visitors on it
}

type server struct {
	*stage.Stage
	rides map[string]ride
	turns map[string]bool
}

// Run serves until it is told to stop and returns the exit status. Its working
// directory is the server's folder; engine is the folder of what it runs on.
func Run(st *stage.Stage, engine string) int {
	s := &server{st, map[string]ride{}, map[string]bool{}}
	s.log("Cogwheel Fair 12 unpacks")
	data, err := os.ReadFile("fair.json")
	var f fair
	if err == nil {
		err = json.Unmarshal(data, &f)
	}
	if err != nil {
		s.log("the fair stays shut: fair.json: %v", err)
		return 2
	}
	version, _ := os.ReadFile(filepath.Join(engine, "VERSION"))
	if v, _ := strconv.Atoi(strings.TrimSpace(string(version))); v < needEngine {
		s.log("the fair stays shut: the engine is version %d, this fair needs %d", v, needEngine)
		return 6
	}
	if f.Port == 0 {
		f.Port = 27530
	}
	closePort, err := s.Listen(fmt.Sprint(f.Port))
	if err != nil {
		s.log("the fair stays shut: port %d is taken", f.Port)
		return 5
	}
	defer closePort()
	s.unpack()
	s.Gather(&stage.Crowd{
		Mods:   func() []string { return stage.Entries("rides/*", ".ride") },
		Looks:  func(mod string) { s.log("looks at %s", mod) },
		Speech: func(said string) { s.log("Bo says: %s", said) },
		Comes:  func(mod string) { s.start(mod, f.Loader, nil) },
		Breaks: s.jam,
	})
	for _, name := range f.Open {
		if !s.start(name, f.Loader, nil) {
			return 3
		}
	}
	s.Unrest()
	s.log("the gates are open on %d with %d rides", f.Port, len(s.turns))
	s.Serve("pack up", func(line string) {
		if line == "rides" {
			for name := range s.turns {
				s.log("turning: %s", name)
			}
			s.log("that is all, %d rides", len(s.turns))
			return
		}
		s.log("the words here are: rides, pack up")
	})
	s.log("packed up")
	return 0
}

func (s *server) log(format string, args ...any) {
	s.Say("[fair "+stage.Clock()+"] "+format, args...)
}

// jam loses a ride that turns.
func (s *server) jam(name string) bool {
	if !s.turns[name] {
		return false
	}
	delete(s.turns, name)
	s.log("%s jams: a tooth broke", name)
	return true
}

// unpack reads the manifests of all packed rides.
func (s *server) unpack() {
	files, _ := filepath.Glob("rides/*.ride")
	for _, file := range files {
		r, err := readRide(file)
		if err != nil {
			s.log("%s cannot be unpacked: %v", filepath.Base(file), err)
			continue
		}
		s.rides[r.Name] = r
	}
}

func readRide(file string) (r ride, err error) {
	z, err := zip.OpenReader(file)
	if err != nil {
		return r, err
	}
	defer z.Close()
	m, err := z.Open("ride.yaml")
	if err != nil {
		return r, err
	}
	defer m.Close()
	data, err := io.ReadAll(io.LimitReader(m, 1<<20))
	if err == nil {
		err = yaml.Unmarshal(data, &r)
	}
	if err == nil && r.Name == "" {
		r.Name = strings.TrimSuffix(filepath.Base(file), ".ride")
	}
	return r, err
}

// start deals with a ride. It returns false when the fair cannot go on.
func (s *server) start(name, loader string, on []string) bool {
	goesOn := s.wind(name, loader, on)
	s.Did(name, s.turns[name])
	return goesOn
}

// wind starts a ride after those that it comes after, if it can be.
func (s *server) wind(name, loader string, on []string) bool {
	r, ok := s.rides[name]
	switch {
	case s.turns[name]:
		return true
	case !ok:
		s.log("%s is on the list and not on the wagons", name)
		return true
	case r.Loader != "" && r.Loader != loader:
		s.log("%s jams: it is built for the loader %s, and this is %s", name, r.Loader, loader)
		return true
	}
	if r.Gate != "" && !lets(r.Gate, name) {
		s.log("%s jams: the gate %s lets nobody on it", name, r.Gate)
		return true
	}
	for _, before := range on {
		if before == name {
			s.log("the fair stays shut: %s waits for itself", name)
			return false
		}
	}
	for _, want := range r.After {
		need, least, _ := strings.Cut(want, " >=")
		if !s.listed(need) {
			s.log("%s has to come after %s, which is not here", name, need)
			return true
		}
		if !s.start(need, loader, append(on, name)) {
			return false
		}
		if !s.turns[need] {
			s.log("%s has to come after %s, which is not here", name, need)
			return true
		}
		if older(s.rides[need].Release, least) {
			s.log("%s jams: it wants %s from %s on, and %s is here", name, need, least, s.rides[need].Release)
			return true
		}
	}
	for other := range s.turns {
		if slices.Contains(r.Quarrel, other) || slices.Contains(s.rides[other].Quarrel, name) {
			s.log("%s jams: it will not turn beside %s", name, other)
			return true
		}
	}
	s.log("winding up %s %s", name, r.Release)
	s.Wait(r.Wind)
	s.turns[name] = true
	s.log("%s turns (%d ms)", name, r.Wind)
	if s.Store("ledgers", name) {
		s.log("%s opens ledgers/%s", name, name)
	}
	return true
}

// lets tells whether a gate lets visitors on a ride.
func lets(gate, ride string) bool {
	data, err := os.ReadFile("gates.fair")
	if err != nil {
		return false
	}
	_, block, _ := strings.Cut(string(data), "\ngate "+gate+" {\n")
	block, _, _ = strings.Cut(block, "\n}")
	for _, line := range strings.Split(block, "\n") {
		line, _, _ = strings.Cut(line, "//")
		said, ok := strings.CutPrefix(strings.TrimSpace(line), "lets(")
		said, closed := strings.CutSuffix(strings.TrimSpace(said), ");")
		if ok && closed && slices.Contains(strings.Fields(strings.ReplaceAll(said, ",", " ")), ride) {
			return true
		}
	}
	return false
}

// older tells whether a release comes before another; both are numbers with dots.
func older(have, least string) bool {
	if least == "" {
		return false
	}
	a, b := strings.Split(have, "."), strings.Split(least, ".")
	for i := range max(len(a), len(b)) {
		x, y := 0, 0
		if i < len(a) {
			x, _ = strconv.Atoi(a[i])
		}
		if i < len(b) {
			y, _ = strconv.Atoi(b[i])
		}
		if x != y {
			return x < y
		}
	}
	return false
}

// listed tells whether a ride is on the list of those that are open.
func (s *server) listed(name string) bool {
	data, err := os.ReadFile("fair.json")
	var f fair
	if err != nil || json.Unmarshal(data, &f) != nil {
		return false
	}
	for _, n := range f.Open {
		if n == name {
			return true
		}
	}
	return false
}
