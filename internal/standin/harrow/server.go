// Package harrow is the stand-in for Harrow Sound, a made-up harbour server. It
// behaves as a server does: it reads its own startup script, finds its mods
// (which it calls cargo), loads them in order, takes its time, talks while it
// does, and fails in believable ways. It shares no code with Initium's core.
package harrow

import (
	"slices"
	"strings"
	"time"

	"initium/internal/standin/stage"
)

// Exit statuses of the server.
const (
	exitFine    = 0
	exitScript  = 2 // the startup script cannot be read
	exitAground = 3 // a mod's script stopped the server
	exitLicence = 4
	exitPort    = 5
)

// server is one run.
type server struct {
	*stage.Stage
	settings map[string]string
	berths   []berth // in order, as the script names them
	aboard   map[string]bool
	order    []string
}

// Run serves until it is told to stop and returns the exit status. startup is the
// startup script; the working directory is the server's folder.
func Run(st *stage.Stage, startup string) int {
	s := &server{Stage: st, settings: map[string]string{}, aboard: map[string]bool{}}
	s.say("harbour", "Harrow Sound 3.2 reads %s", startup)
	if err := s.readScript(startup, 0); err != nil {
		return s.close(exitScript, "%v", err)
	}
	if status := s.licence(); status != exitFine {
		return status
	}
	if s.settings["port"] == "" {
		s.settings["port"] = "27310"
	}
	closePort, err := s.Listen(s.settings["port"])
	if err != nil {
		return s.close(exitPort, "port %s is taken", s.settings["port"])
	}
	defer closePort()
	s.Gather(&stage.Crowd{
		Mods:   func() []string { return append(stage.Entries("cargo/[^+]*", ""), stage.Entries("cargo/+*/*", "")...) },
		Looks:  func(mod string) { s.say("harbour", "looks at %s", mod) },
		Speech: func(said string) { s.say("quay", "<Bo> %s", said) },
		Comes: func(mod string) {
			if dir, ok := find(mod); ok && !dry(dir) { // of which nothing could be heard
				s.moor(mod, 0)
			}
		},
		Breaks: s.sink,
	})
	if status := s.load(); status != exitFine {
		return status
	}
	s.Unrest()
	s.say("harbour", "the sound is open on port %s, %d alongside", s.settings["port"], len(s.order))
	return s.serve()
}

// say prints a log line.
func (s *server) say(who, format string, args ...any) {
	s.Say("["+stage.Clock()+"] "+who+": "+format, args...)
}

func (s *server) close(status int, format string, args ...any) int {
	s.say("harbour", "closing the sound: "+format, args...)
	return status
}

func (s *server) licence() int {
	switch s.settings["licence"] {
	case "":
		return s.close(exitLicence, "no licence is set")
	case "HS-PUT-YOURS-HERE":
		return s.close(exitLicence, "the licence is still the one of the template")
	}
	s.say("harbour", "licence accepted for %q", s.settings["title"])
	return exitFine
}

// serve answers the console until the end. A stubborn server only ends by force.
func (s *server) serve() int {
	go func() {
		for minutes := 372; ; {
			time.Sleep(20 * time.Second)
			minutes = (minutes + 371) % 745
			s.say("tide", "high water in %d minutes", minutes)
		}
	}()
	for {
		s.Serve("cast off", s.answer)
		if s.settings["stubborn"] != "yes" {
			s.say("harbour", "all lines are in, good night")
			return exitFine
		}
		s.say("harbour", "not before the tide turns")
	}
}

// answer carries out a console command.
func (s *server) answer(line string) {
	word, rest, _ := strings.Cut(line, " ")
	switch {
	case line == "":
	case word == "roll":
		for _, name := range s.order {
			s.say("roll", "%s", name)
		}
		s.say("roll", "%d alongside", len(s.order))
	case word == "refit" && s.aboard[rest]:
		s.leave(rest)
		s.moor(rest, 0)
	case word == "refit":
		s.say("harbour", "%s is not alongside", rest)
	case word == "hail" && rest != "":
		s.say("guest", "%s sails in", rest)
	case word == "farewell" && rest != "":
		s.say("guest", "%s sails away", rest)
	default:
		s.say("harbour", "the words here are: roll, refit NAME, hail GUEST, farewell GUEST, cast off")
	}
}

func (s *server) leave(name string) {
	s.aboard[name] = false
	s.order = slices.DeleteFunc(s.order, func(n string) bool { return n == name })
}

// sink loses a mod that is alongside.
func (s *server) sink(name string) bool {
	if !s.aboard[name] {
		return false
	}
	s.leave(name)
	s.say("berth", "%s is turned away: it takes in water", name)
	return true
}

// store makes the folder that a mod keeps its things in.
func (s *server) store(name string) {
	if s.Store("stores", name) {
		s.say("berth", "%s sets up its store in stores/%s", name, name)
	}
}
