package harrow

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// bill is what a mod says about itself, in bill.toml.
type bill struct {
	Name     string   `toml:"name"`
	Title    string   `toml:"title"`
	Release  string   `toml:"release"`
	WaitsFor []string `toml:"waits_for"`
	Likes    []string `toml:"likes"`
	Tows     []string `toml:"tows"` // brought in with it, registered or not
}

// find looks for the folder of a mod: in cargo, or one category further down.
func find(name string) (dir string, ok bool) {
	if name == "" || strings.ContainsAny(name, "/\\") || strings.HasPrefix(name, ".") {
		return "", false
	}
	candidates := []string{filepath.Join("cargo", name)}
	if groups, err := filepath.Glob(filepath.Join("cargo", "+*", name)); err == nil {
		candidates = append(candidates, groups...)
	}
	for _, dir := range candidates {
		for _, mark := range []string{"bill.toml", "deck.script"} {
			if _, err := os.Stat(filepath.Join(dir, mark)); err == nil {
				return dir, true
			}
		}
	}
	return "", false
}

// dry tells cargo without a script, which comes in without a word.
func dry(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, "deck.script"))
	return err != nil
}

// group lists the mods in a category folder, in the order of their names.
func group(name string) (names []string, ok bool) {
	entries, err := os.ReadDir(filepath.Join("cargo", name))
	if err != nil {
		return nil, false
	}
	for _, e := range entries {
		if e.IsDir() {
			names = append(names, e.Name())
		}
	}
	return names, true
}

// load brings in all cargo in the order of the startup script.
func (s *server) load() int {
	for i, b := range s.berths {
		if i%4 == 3 {
			s.say("tide", "high water in %d minutes", 372-i)
		}
		names := []string{b.name}
		if strings.HasPrefix(b.name, "+") {
			var ok bool
			if names, ok = group(b.name); !ok {
				s.say("berth", "no cargo answers to %s", b.name)
				s.Did(b.name, false)
				continue
			}
		}
		s.settings = b.set
		for _, name := range names {
			if !s.moor(name, 0) {
				return exitAground
			}
		}
	}
	return exitFine
}

// moor deals with one mod. It returns false when the server cannot go on.
func (s *server) moor(name string, depth int) bool {
	goesOn := s.dock(name, depth)
	s.Did(name, s.aboard[name])
	return goesOn
}

// dock loads one mod, if it can be.
func (s *server) dock(name string, depth int) bool {
	dir, ok := find(name)
	if !ok {
		s.say("berth", "no cargo answers to %s", name)
		return true
	}
	if s.aboard[name] {
		s.say("berth", "%s lies alongside already", name)
		return true
	}
	b, err := readBill(dir)
	if err != nil {
		s.say("berth", "%s is turned away: its bill cannot be read: %v", name, err)
		return true
	}
	if b.Name != "" && b.Name != name {
		s.say("berth", "%s is turned away: its bill is made out to %s", name, b.Name)
		return true
	}
	var absent []string
	for _, need := range b.WaitsFor {
		if !s.aboard[need] {
			absent = append(absent, need)
		}
	}
	if len(absent) > 0 {
		s.Wait(8)
		s.say("berth", "%s is turned away, it waits for %s", name, strings.Join(absent, ", "))
		return true
	}
	deck, err := os.ReadFile(filepath.Join(dir, "deck.script"))
	if err != nil { // dry cargo comes in without a word
		s.aboard[name] = true
		s.order = append(s.order, name)
		return true
	}
	release := b.Release
	if release == "" {
		release = "unmarked"
	}
	s.say("berth", "%s %s is coming alongside", name, release)
	took, err := s.work(name, string(deck))
	if err != nil {
		s.say("berth", "%s ran aground: deck.script, %v", name, err)
		s.say("harbour", "closing the sound: wreck at the pier")
		return false
	}
	s.aboard[name] = true
	s.order = append(s.order, name)
	s.say("berth", "%s is made fast after %d ms", name, took)
	for _, other := range b.Tows {
		if depth < 4 && !s.moor(other, depth+1) {
			return false
		}
	}
	return true
}

func readBill(dir string) (b bill, err error) {
	data, err := os.ReadFile(filepath.Join(dir, "bill.toml"))
	if os.IsNotExist(err) {
		return b, nil
	}
	if err == nil {
		err = toml.Unmarshal(data, &b)
	}
	if err != nil {
		return b, fmt.Errorf("%s", strings.TrimPrefix(strings.Split(err.Error(), "\n")[0], "toml: "))
	}
	return b, nil
}

// work runs a mod's deck script. Its words: haul MS (take that long), store
// (keep a folder), chart NAME (a setting that has to be set before this line),
// call TEXT (say something).
func (s *server) work(name, deck string) (took int, err error) {
	for i, raw := range strings.Split(deck, "\n") {
		words, err := cut(strings.TrimRight(raw, "\r"))
		if err != nil {
			return took, fmt.Errorf("line %d: %v", i+1, err)
		}
		if len(words) == 0 {
			continue
		}
		arg := strings.Join(words[1:], " ")
		switch words[0] {
		case "haul":
			ms, err := strconv.Atoi(arg)
			if err != nil || ms < 0 || ms > 600_000 {
				return took, fmt.Errorf("line %d: %q is no time in ms", i+1, arg)
			}
			s.Wait(ms)
			took += ms
		case "store":
			s.store(name)
		case "chart":
			if s.settings[arg] == "" {
				return took, fmt.Errorf("line %d: the setting %s is not set at this point", i+1, arg)
			}
		case "call":
			s.say(name, "%s", arg)
		default:
			return took, fmt.Errorf("line %d: unknown word %q", i+1, words[0])
		}
	}
	return took, nil
}
