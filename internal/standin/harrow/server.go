// Package harrow is the stand-in for Harrow Sound, a made-up harbour server. It
// behaves as a server does: it reads its own startup script, finds its mods
// (which it calls cargo), loads them in order, takes its time, talks while it
// does, and fails in believable ways. It shares no code with Initium's core.
package harrow

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Exit statuses of the server.
const (
	exitFine    = 0
	exitScript  = 2 // the startup script cannot be read
	exitAground = 3 // a mod's script stopped the server
	exitLicence = 4
	exitPort    = 5
)

// Options are what the command line says.
type Options struct {
	Startup string  // the startup script
	Pace    float64 // how fast time passes while mods load; 1 is real time
	In      io.Reader
	Out     io.Writer
}

// server is one run.
type server struct {
	opt      Options
	settings map[string]string
	berths   []berth // in order, as the script names them
	aboard   map[string]bool
	order    []string
	started  time.Time

	mu  sync.Mutex // guards out
	out io.Writer
}

// Run serves until it is told to stop and returns the exit status. Its working
// directory is the server's folder.
func Run(opt Options) int {
	s := &server{opt: opt, settings: map[string]string{}, aboard: map[string]bool{}, out: opt.Out, started: time.Now()}
	s.say("harbour", "Harrow Sound 3.2 reads %s", opt.Startup)
	if err := s.readScript(opt.Startup, 0); err != nil {
		return s.close(exitScript, "%v", err)
	}
	if status := s.licence(); status != exitFine {
		return status
	}
	port, status := s.listen()
	if status != exitFine {
		return status
	}
	defer port.Close()
	if status := s.load(); status != exitFine {
		return status
	}
	s.say("harbour", "the sound is open on port %s, %d alongside", s.settings["port"], len(s.order))
	return s.serve()
}

// say prints a log line.
func (s *server) say(who, format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	fmt.Fprintf(s.out, "[%s] %s: %s\n", time.Now().Format("15:04:05.000"), who, fmt.Sprintf(format, args...))
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

func (s *server) listen() (net.Listener, int) {
	if s.settings["port"] == "" {
		s.settings["port"] = "27310"
	}
	l, err := net.Listen("tcp", "127.0.0.1:"+s.settings["port"])
	if err != nil {
		return nil, s.close(exitPort, "port %s is taken", s.settings["port"])
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			fmt.Fprintf(conn, "%s: %d alongside\n", s.settings["title"], len(s.order))
			conn.Close()
		}
	}()
	return l, exitFine
}

// serve answers the console until the end.
func (s *server) serve() int {
	stop := make(chan os.Signal, 4)
	signal.Notify(stop, syscall.SIGINT, syscall.SIGTERM)
	lines := make(chan string)
	go func() {
		scan := bufio.NewScanner(s.opt.In)
		for scan.Scan() {
			lines <- strings.TrimSpace(scan.Text())
		}
	}()
	tide := time.NewTicker(20 * time.Second)
	defer tide.Stop()
	for minutes := 372; ; {
		select {
		case <-stop:
			if s.stubborn() {
				continue
			}
			s.say("harbour", "all lines are in, good night")
			return exitFine
		case <-tide.C:
			minutes = (minutes + 371) % 745
			s.say("tide", "high water in %d minutes", minutes)
		case line := <-lines:
			if line == "cast off" && !s.stubborn() {
				s.say("harbour", "all lines are in, good night")
				return exitFine
			}
			s.answer(line)
		}
	}
}

func (s *server) stubborn() bool {
	if s.settings["stubborn"] != "yes" {
		return false
	}
	s.say("harbour", "not before the tide turns")
	return true
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
		s.aboard[rest] = false
		s.order = slices.DeleteFunc(s.order, func(n string) bool { return n == rest })
		s.moor(rest, 0)
	case word == "refit":
		s.say("harbour", "%s is not alongside", rest)
	case word == "cast":
	default:
		s.say("harbour", "the words here are: roll, refit NAME, cast off")
	}
}

// wait lets time pass as a mod loads.
func (s *server) wait(ms int) {
	if s.opt.Pace > 0 {
		time.Sleep(time.Duration(float64(ms) * s.opt.Pace * float64(time.Millisecond)))
	}
}

// store makes the folder that a mod keeps its things in.
func (s *server) store(name string) {
	dir := filepath.Join("stores", name)
	if _, err := os.Stat(dir); err == nil {
		return
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		s.say("berth", "%s has no room for its store: %v", name, err)
		return
	}
	os.WriteFile(filepath.Join(dir, "ledger.txt"), []byte("first tide\n"), 0o644)
	s.say("berth", "%s sets up its store in stores/%s", name, name)
}
