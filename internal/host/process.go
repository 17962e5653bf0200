package host

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
)

// process is what proc(5) tells about a process.
type process struct {
	parent int
	began  uint64 // in ticks since the machine did
	ended  bool   // and not yet waited for by its parent
}

// stat looks at a process; ok is false when there is none.
func stat(pid int) (p process, ok bool) {
	data, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		return p, false
	}
	fields := bytes.Fields(data[bytes.LastIndexByte(data, ')')+1:]) // the name before it may hold anything
	const state, parentAt, beganAt = 0, 1, 19
	if len(fields) <= beganAt {
		return p, false
	}
	p.parent, _ = strconv.Atoi(string(fields[parentAt]))
	p.began, err = strconv.ParseUint(string(fields[beganAt]), 10, 64)
	p.ended = fields[state][0] == 'Z'
	return p, err == nil
}

// alive tells whether a process is there and has not ended.
func alive(pid int) bool {
	p, ok := stat(pid)
	return ok && !p.ended
}

// born is when a process began, of a child also when it has ended already and was
// not waited for; 0 when it is not there.
func born(pid int) uint64 {
	p, _ := stat(pid)
	return p.began
}

// ticksPerSecond is what the kernel counts the lives of processes in, on every
// machine that Go runs on (sysconf(3), _SC_CLK_TCK).
const ticksPerSecond = 100

// Age is how long ago the server of a start was begun, by a clock that nobody can set;
// ok is false when that is not known any more.
func (d StartDir) Age() (age time.Duration, ok bool) {
	r, err := d.Running()
	if err != nil || r.Born == 0 {
		return 0, false
	}
	var since unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &since); err != nil {
		return 0, false
	}
	age = time.Duration(since.Nano()) - time.Duration(r.Born)*time.Second/ticksPerSecond
	return age, age >= 0
}

func processes() (pids []int) {
	names, err := filepath.Glob("/proc/[0-9]*")
	if err != nil {
		return nil
	}
	for _, name := range names {
		if pid, err := strconv.Atoi(filepath.Base(name)); err == nil {
			pids = append(pids, pid)
		}
	}
	return pids
}

// descendants are all processes that a process has started, and those that these
// have, as far as they live.
func descendants(of int) (pids []int) {
	children := map[int][]int{}
	for _, pid := range processes() {
		if p, ok := stat(pid); ok && !p.ended {
			children[p.parent] = append(children[p.parent], pid)
		}
	}
	for queue := children[of]; len(queue) > 0; queue = queue[1:] {
		pids = append(pids, queue[0])
		queue = append(queue, children[queue[0]]...)
	}
	return pids
}

// holders are the processes that have a file open, other than this one.
func holders(file string) (pids []int) {
	for _, pid := range processes() {
		if pid == os.Getpid() {
			continue
		}
		links, _ := filepath.Glob("/proc/" + strconv.Itoa(pid) + "/fd/*")
		for _, link := range links {
			if to, err := os.Readlink(link); err == nil && to == file {
				pids = append(pids, pid)
				break
			}
		}
	}
	return pids
}

// RunningIn finds a process that runs the program of a command in a folder, whoever has
// started it; 0 when there is none that can be seen. Of a command that is given to a shell
// the script is the program: a shell alone may be anybody's who looks around.
func RunningIn(dir string, command []string) (pid int) {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil || len(command) == 0 {
		return 0
	}
	program := command[0]
	switch filepath.Base(program) {
	case "sh", "bash", "dash", "ash", "env":
		if len(command) < 2 || strings.HasPrefix(command[1], "-") {
			return 0
		}
		program = command[1]
	}
	for _, pid := range processes() {
		if pid == os.Getpid() { // a keeper that a service has put there, of a server whose program is this one
			continue
		}
		if cwd, err := os.Readlink("/proc/" + strconv.Itoa(pid) + "/cwd"); err != nil || cwd != real {
			continue
		}
		line, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/cmdline")
		if err != nil {
			continue
		}
		words := strings.Split(string(line), "\x00")
		if slices.Contains(words[:min(len(words), 3)], program) { // a script comes after its interpreter
			return pid
		}
	}
	return 0
}

func signalAll(pids []int, signal syscall.Signal) {
	for _, pid := range pids {
		syscall.Kill(pid, signal)
	}
}

// pipes are what a server is heard and spoken to through.
type pipes struct {
	serverIn, serverOut *os.File // the server's ends
	console, out        *os.File // the keeper's
}

// The size of a server's terminal, when it has one.
const (
	terminalRows    = 50
	terminalColumns = 250
)

// openPipes makes pipes, or a terminal that hands out what the server prints as it
// is and does not repeat what is typed.
func openPipes(terminal bool) (p pipes, err error) {
	if !terminal {
		if p.serverIn, p.console, err = os.Pipe(); err != nil {
			return p, err
		}
		p.out, p.serverOut, err = os.Pipe()
		return p, err
	}
	own, server, err := pty.Open()
	if err != nil {
		return p, err
	}
	p = pipes{server, server, own, own}
	if err := pty.Setsize(own, &pty.Winsize{Rows: terminalRows, Cols: terminalColumns}); err != nil {
		return p, err
	}
	mode, err := unix.IoctlGetTermios(int(server.Fd()), unix.TCGETS)
	if err != nil {
		return p, err
	}
	mode.Oflag &^= unix.OPOST
	mode.Lflag &^= unix.ECHO
	return p, unix.IoctlSetTermios(int(server.Fd()), unix.TCSETS, mode)
}

// hand gives the server's ends away.
func (p *pipes) hand() {
	p.serverIn.Close()
	p.serverOut.Close()
}

func (p *pipes) close() {
	for _, f := range []*os.File{p.serverIn, p.serverOut, p.console, p.out} {
		if f != nil {
			f.Close()
		}
	}
}
