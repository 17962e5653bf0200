package app

import (
	"sync"
	"time"

	"initium/internal/core/proof"
	"initium/internal/host"
)

// count reads the log of a start for who is in.
type count struct {
	mu       sync.Mutex
	start    host.StartDir
	reader   *proof.Reader
	follower *host.Follower
}

// How much of a log is gone through in one look at a server, in time.
const countWithin = 2 * time.Second

// playersIn is how many players are in by the log of a start that goes on; nil where its dialect does not tell, or more
// of the log is still to be read than one look has time for: the next goes on there.
func (a *App) playersIn(s *Server, start host.StartDir) *int {
	a.mu.Lock()
	a.counts = made(a.counts)
	c := a.counts[s.Record.Name]
	if c == nil {
		c = &count{}
		a.counts[s.Record.Name] = c
	}
	a.mu.Unlock()
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.start != start {
		c.end()
		c.start, c.reader = start, proof.NewReader(s.Dialect, s.Vars["dir"], nil, nil)
		c.reader.Sole = true
	}
	if _, known := c.reader.Players(); !known {
		return nil
	}
	if c.follower == nil {
		c.follower = start.Follow()
	}
	for began := time.Now(); ; {
		more, err := c.follower.Next(c.reader.Feed)
		if err != nil {
			c.start = "" // the next look begins anew
			return nil
		}
		if !more {
			break
		}
		if time.Since(began) > countWithin {
			return nil
		}
	}
	n, _ := c.reader.Players()
	return &n
}

// end ends the reading.
func (c *count) end() {
	if c.follower != nil {
		c.follower.Close()
		c.follower = nil
	}
}

// endCounts ends all reading for who is in.
func (a *App) endCounts() {
	a.mu.Lock()
	defer a.mu.Unlock()
	for name, c := range a.counts {
		c.end()
		delete(a.counts, name)
	}
}
