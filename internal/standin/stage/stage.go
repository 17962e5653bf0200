// Package stage is what the simulated servers have in common: a log, a console,
// a port, and time that passes. It shares no code with Initium's core.
package stage

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Stage is one run of a server.
type Stage struct {
	In   io.Reader
	Out  io.Writer
	Pace float64 // how fast time passes while mods load; 1 is real time

	mu    sync.Mutex // guards Out and crowd
	crowd *Crowd
}

// Say prints a log line as it is.
func (s *Stage) Say(format string, args ...any) {
	line := fmt.Sprintf(format, args...)
	s.mu.Lock()
	fmt.Fprintln(s.Out, line)
	crowd := s.crowd
	s.mu.Unlock()
	if crowd != nil {
		crowd.hear(line)
	}
}

// Wait lets time pass, in ms.
func (s *Stage) Wait(ms int) {
	if s.Pace > 0 {
		time.Sleep(time.Duration(float64(ms) * s.Pace * float64(time.Millisecond)))
	}
}

// Listen opens the server's port on loopback. The returned function closes it.
func (s *Stage) Listen(port string) (closePort func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:"+port)
	if err != nil {
		return nil, err
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			conn.Close()
		}
	}()
	return func() { l.Close() }, nil
}

// Serve answers the console until a line is the stop word or a signal comes.
func (s *Stage) Serve(stopWord string, answer func(line string)) {
	stop := make(chan os.Signal, 4)
	signal.Notify(stop, syscall.SIGINT, syscall.SIGTERM)
	lines := make(chan string)
	go func() {
		scan := bufio.NewScanner(s.In)
		for scan.Scan() {
			lines <- strings.TrimSpace(scan.Text())
		}
	}()
	for {
		select {
		case <-stop:
			return
		case line := <-lines:
			switch {
			case line == stopWord:
				return
			case strings.HasPrefix(line, stirWord) && s.crowd != nil:
				times, _ := strconv.Atoi(line[len(stirWord):])
				for range times {
					s.stir()
				}
			default:
				answer(line)
			}
		}
	}
}

// Store makes the folder that a mod keeps its things in, at its first start.
func (s *Stage) Store(dir, name string) (made bool) {
	dir = filepath.Join(dir, name)
	if _, err := os.Stat(dir); err == nil {
		return false
	}
	return os.MkdirAll(dir, 0o755) == nil && os.WriteFile(filepath.Join(dir, "state.txt"), []byte("new\n"), 0o644) == nil
}

// recordFile names, in the environment, a file that a server writes down what it did
// with each mod in, whatever its log says.
const recordFile = "STANDIN_RECORD"

// Entries lists what lies in folders of the server's, by the pattern of filepath.Glob and without an ending.
func Entries(pattern, ending string) (names []string) {
	files, _ := filepath.Glob(pattern + ending)
	for _, file := range files {
		names = append(names, strings.TrimSuffix(filepath.Base(file), ending))
	}
	return names
}

// Did writes down whether a mod is in now that the server has dealt with it.
func (s *Stage) Did(name string, in bool) {
	file := os.Getenv(recordFile)
	if file == "" {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	f, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return
	}
	defer f.Close()
	fmt.Fprintf(f, "%t %s\n", in, name)
}

// Clock is the time of day for a log.
func Clock() string { return time.Now().Format("15:04:05.000") }
