package host

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"
)

// State is how a server stands.
type State struct {
	Up      bool      // a keeper holds it, or its processes live without one
	Lost    []int     // processes that live without a keeper; nil when there is one
	Start   StartDir  // the newest start, "" when there is none
	Number  int       // of that start
	Since   time.Time // when it began
	Exit    *Exit     // how it ended; nil while it runs
	Waiting bool      // it crashed, and will be started again at Exit.Again
}

// State looks at how a server stands. A server whose keeper was ended from outside
// is found by its processes; if they are gone too, that is written down.
func (h Home) State(server string) (s State, err error) {
	numbers, err := h.Starts(server)
	if err != nil {
		return s, err
	}
	if len(numbers) == 0 {
		s.Up = h.held(server)
		return s, nil
	}
	// A start that never was, as another was quicker, is not what holds the server.
	for n := len(numbers); n > 1 && h.held(server); n-- {
		if exit, ended := h.Start(server, numbers[n-1]).Exit(); !ended || exit.How != EndedNever {
			break
		}
		numbers = numbers[:n-1]
	}
	s.Number = numbers[len(numbers)-1]
	s.Start = h.Start(server, s.Number)
	running, runErr := s.Start.Running()
	// In this order: a keeper writes down how its server ended, lets go of the lock, and is gone.
	gone := runErr == nil && !alive(running.Keeper)
	held := h.held(server)
	if held && runErr != nil && len(numbers) > 1 { // it may be about to be started again
		before := h.Start(server, numbers[len(numbers)-2])
		if exit, ended := before.Exit(); ended && exit.Again != nil {
			running, _ = before.Running()
			return State{Up: true, Waiting: true, Start: before, Number: numbers[len(numbers)-2], Since: running.Started, Exit: &exit}, nil
		}
	}
	s.Since = running.Started
	exit, ended := s.Start.Exit()
	if ended {
		s.Exit = &exit
	}
	switch {
	case held && gone:
		s.Up, s.Lost = true, holders(h.lockFile(server))
	case held && ended && exit.Again == nil && runErr == nil: // all has ended, and its keeper is about to
	case held:
		s.Up, s.Waiting = true, ended && exit.Again != nil
	case ended && exit.Again != nil: // its keeper was ended while it waited
		exit.Again = nil
		return s, writeJSON(s.Start.exit(), exit)
	case ended || runErr != nil:
	case running.Born != 0 && born(running.Server) == running.Born && alive(running.Server):
		s.Up, s.Lost = true, []int{running.Server}
	default:
		s.Exit = &Exit{Status: -1, At: time.Now(), How: EndedUnseen, Error: "its keeper was ended from outside; how the server itself ended was seen by nobody"}
		if err := writeJSON(s.Start.exit(), s.Exit); err != nil {
			return s, fmt.Errorf("%s does not run any more, and that cannot be written down: %w", server, err)
		}
	}
	return s, nil
}

// held tells whether a keeper, or a server that outlived one, holds the lock.
func (h Home) held(server string) bool {
	if _, err := os.Stat(h.lockFile(server)); err != nil {
		return false
	}
	lock, err := tryFlock(h.lockFile(server), syscall.LOCK_SH) // two who look at once do not see each other
	if err != nil {
		return errors.Is(err, syscall.EWOULDBLOCK)
	}
	lock.Close()
	return false
}

// IsRunning reports whether a server runs, or is about to be started again.
func (h Home) IsRunning(server string) bool {
	s, err := h.State(server)
	return s.Up || err != nil
}

// errLost says why a server cannot be spoken to.
var errLost = errors.New("its keeper was ended from outside, so that it can neither be heard nor spoken to; stop it and start it anew")

// StopServer stops a running server: through its keeper, or, when that is lost, by
// signals: politely, then patiently, then by force.
func (h Home) StopServer(ctx context.Context, server string) (Exit, error) {
	s, err := h.State(server)
	switch {
	case err != nil:
		return Exit{}, err
	case s.Start == "":
		return Exit{}, fmt.Errorf("%s was never started here", server)
	case !s.Up && s.Exit == nil:
		return Exit{}, fmt.Errorf("%s does not run", server)
	case !s.Up:
		return *s.Exit, nil
	case s.Lost != nil:
		return h.stopLost(ctx, server, s)
	}
	exit, lost := s.Start.Stop(ctx)
	if !errors.Is(lost, errLost) {
		return exit, lost
	}
	// It was ended meanwhile. Its connections go before it does.
	for end := time.Now().Add(insistence); s.Up && s.Lost == nil; time.Sleep(tick) {
		if s, err = h.State(server); err != nil || time.Now().After(end) {
			return Exit{}, cmp.Or(err, lost)
		}
	}
	return h.StopServer(ctx, server)
}

// stopLost stops a server that has lost its keeper, by signals to all its processes.
func (h Home) stopLost(ctx context.Context, server string, s State) (Exit, error) {
	var spec Spec
	if err := readJSON(s.Start.spec(), &spec); err != nil {
		return Exit{}, err
	}
	exit := Exit{Status: -1, How: EndedStop, Left: len(s.Lost), Error: "its keeper was ended from outside, so the server was ended by signals"}
	polite := signals[spec.Signal]
	if polite == 0 {
		polite = syscall.SIGTERM
	}
	for _, step := range []struct {
		signal syscall.Signal
		wait   time.Duration
		how    string
	}{{polite, spec.Patience, EndedStop}, {syscall.SIGTERM, insistence, EndedKill}, {syscall.SIGKILL, 5 * insistence, EndedKill}} {
		exit.How = step.how
		signalAll(s.Lost, step.signal)
		for end := time.Now().Add(step.wait); time.Now().Before(end); time.Sleep(tick) {
			if ctx.Err() != nil {
				return Exit{}, ctx.Err()
			}
			if !slices.ContainsFunc(s.Lost, alive) && !h.held(server) {
				exit.At = time.Now()
				return exit, writeJSON(s.Start.exit(), exit)
			}
		}
	}
	return exit, fmt.Errorf("%s: processes %v cannot be ended, not even by force", server, s.Lost)
}

// Judge takes the right to judge a start, of which there is one: several windows
// may look at it. ok is false when another has it.
func (d StartDir) Judge() (release func(), ok bool) {
	lock, err := tryLock(filepath.Join(string(d), "judge.lock"))
	if err != nil {
		return nil, false
	}
	return func() { lock.Close() }, true
}
