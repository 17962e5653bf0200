package stage

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
)

// Crowd is what a server needs so that more goes on at it than its own work: players who
// repeat its lines with other mods in them, mods that come and break while it runs.
type Crowd struct {
	Mods   func() []string             // all mods that lie there, in the start or not
	Looks  func(mod string)            // says that the server looks at a mod's files, which is not loading it
	Speech func(said string)           // a player says something
	Comes  func(mod string)            // loads a mod while the server runs
	Breaks func(mod string) (did bool) // takes a mod out for a fault of its own, if it is in

	mu   sync.Mutex
	r    *rand.Rand
	said []string // what the server said, for players to repeat
	busy bool
}

// crowdSeed names, in the environment, the seed of the crowd; without it nobody comes.
const crowdSeed = "STANDIN_CROWD"

// stirWord and a number make so many things happen, on the console of a server with a crowd.
const stirWord = "stir "

// Gather lets the crowd in, where one is wanted: it has a look at all mods that are there.
func (s *Stage) Gather(c *Crowd) {
	var seed uint64
	if n, _ := fmt.Sscan(os.Getenv(crowdSeed), &seed); n != 1 {
		return
	}
	c.r = rand.New(rand.NewPCG(seed, 1))
	for _, mod := range c.Mods() {
		c.Looks(mod)
	}
	s.mu.Lock()
	s.crowd = c
	s.mu.Unlock()
}

// stir makes one thing happen, or none: a mod comes or breaks.
func (s *Stage) stir() {
	mods := s.crowd.Mods()
	if len(mods) == 0 {
		return
	}
	mod := mods[s.crowd.pick(len(mods))]
	if s.crowd.pick(2) == 0 {
		s.crowd.Comes(mod)
	} else if s.crowd.Breaks(mod) {
		s.Did(mod, false)
	}
}

// Unrest lets something break now and then before the server is ready.
func (s *Stage) Unrest() {
	if s.crowd == nil || s.crowd.pick(3) > 0 {
		return
	}
	for _, mod := range s.crowd.Mods() {
		if s.crowd.pick(4) == 0 && s.crowd.Breaks(mod) {
			s.Did(mod, false)
		}
	}
}

func (c *Crowd) pick(n int) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.r.IntN(n)
}

// hear keeps a line of the server's, and now and then has a player repeat one.
func (c *Crowd) hear(line string) {
	c.mu.Lock()
	if c.busy {
		c.mu.Unlock()
		return
	}
	c.said = append(c.said, line)
	var lies []string
	for c.r.IntN(3) == 0 {
		lies = append(lies, c.lie())
	}
	c.busy = true
	c.mu.Unlock()
	for _, lie := range lies {
		c.Speech(lie)
	}
	c.mu.Lock()
	c.busy = false
	c.mu.Unlock()
}

// lie is a line of the server's, or a part of one, with another mod in the place of the one that it is about.
func (c *Crowd) lie() string {
	lie := c.said[c.r.IntN(len(c.said))]
	if mods := c.Mods(); len(mods) > 0 {
		other := mods[c.r.IntN(len(mods))]
		for _, mod := range mods {
			if strings.Contains(lie, mod) {
				lie = strings.ReplaceAll(lie, mod, other)
				break
			}
		}
	}
	if words := strings.SplitAfter(lie, " "); c.r.IntN(2) == 0 {
		lie = strings.Join(words[c.r.IntN(len(words)):], "")
	}
	return lie
}
