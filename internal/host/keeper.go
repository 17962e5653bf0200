package host

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Spec says how a server is started and stopped, with nothing left to fill in.
type Spec struct {
	Server   string        `json:"server"`
	Command  []string      `json:"command"`
	Dir      string        `json:"dir"`
	Env      []string      `json:"env"` // added to the environment
	Console  string        `json:"console,omitempty"`
	Signal   string        `json:"signal,omitempty"`
	Patience time.Duration `json:"patience"` // ns
	Lock     string        `json:"lock"`     // held for as long as the server runs
	Socket   string        `json:"socket"`
}

// Running is what a keeper says about itself.
type Running struct {
	Keeper  int       `json:"keeper"` // process ids
	Server  int       `json:"server"`
	Started time.Time `json:"started"`
}

// Exit says how a server ended.
type Exit struct {
	Status int       `json:"status"` // -1 when a signal ended it
	At     time.Time `json:"at"`
	How    string    `json:"how"` // "by itself", "stopped", "killed" or "not started"
	Error  string    `json:"error,omitempty"`
}

// How a server ended.
const (
	EndedItself = "by itself"
	EndedStop   = "stopped"
	EndedKill   = "killed"
	EndedNever  = "not started"
)

// keeper owns one running server: its process, its console and its log.
type keeper struct {
	dir     StartDir
	spec    Spec
	cmd     *exec.Cmd
	console io.WriteCloser
	done    chan struct{} // closed when the server has ended

	mu  sync.Mutex
	how string
}

// Keep runs a server until it ends; it is what a keeper process does. The start
// folder has to hold what NewKeeper put there. Its own failures end up in the
// start folder too, where the client looks for them.
func Keep(dir StartDir) error {
	k := &keeper{dir: dir, done: make(chan struct{}), how: EndedItself}
	if err := readJSON(dir.spec(), &k.spec); err != nil {
		return err
	}
	never := func(err error) error {
		return errors.Join(err, writeJSON(dir.exit(), Exit{Status: -1, At: time.Now(), How: EndedNever, Error: err.Error()}))
	}
	lock, err := tryLock(k.spec.Lock)
	if err != nil {
		return never(fmt.Errorf("%s is running already", k.spec.Server))
	}
	defer lock.Close()
	status, err := k.run()
	if err != nil {
		return never(err)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	return writeJSON(dir.exit(), Exit{Status: status, At: time.Now(), How: k.how})
}

// run starts the server, writes its log and waits for its end. The error says
// why it could not be started.
func (k *keeper) run() (status int, err error) {
	logFile, err := os.OpenFile(k.dir.Log(), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return 0, err
	}
	defer logFile.Close()
	times, err := os.OpenFile(k.dir.times(), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return 0, err
	}
	defer times.Close()
	out, outWriter, err := os.Pipe()
	if err != nil {
		return 0, err
	}
	defer out.Close()
	k.cmd = exec.Command(k.spec.Command[0], k.spec.Command[1:]...)
	k.cmd.Dir = k.spec.Dir
	k.cmd.Env = append(os.Environ(), k.spec.Env...)
	k.cmd.Stdout, k.cmd.Stderr = outWriter, outWriter
	k.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if k.console, err = k.cmd.StdinPipe(); err != nil {
		return 0, err
	}
	listener, err := listenPrivate(k.spec.Socket)
	if err != nil {
		return 0, err
	}
	defer listener.Close()
	started := time.Now()
	if err := k.cmd.Start(); err != nil {
		return 0, fmt.Errorf("start the server: %w", err)
	}
	outWriter.Close()
	if err := writeJSON(k.dir.run(), Running{os.Getpid(), k.cmd.Process.Pid, started}); err != nil {
		return 0, err
	}
	go k.serve(listener)
	copied := make(chan struct{})
	go func() {
		defer close(copied)
		copyTimed(logFile, times, out, started)
	}()
	waitErr := k.cmd.Wait()
	close(k.done)
	select { // what the server left behind may hold the pipe open
	case <-copied:
	case <-time.After(2 * time.Second):
	}
	var exit *exec.ExitError
	if errors.As(waitErr, &exit) {
		return exit.ExitCode(), nil
	}
	return 0, nil
}

// copyTimed writes the log and, for each piece of it, the offset of its end and
// the milliseconds since the start.
func copyTimed(logFile, times io.Writer, from io.Reader, started time.Time) {
	buf := make([]byte, 64<<10)
	offset := int64(0)
	for {
		n, err := from.Read(buf)
		if n > 0 {
			logFile.Write(buf[:n]) // a full disk must not stop the server
			offset += int64(n)
			fmt.Fprintf(times, "%d %d\n", offset, time.Since(started).Milliseconds())
		}
		if err != nil {
			return
		}
	}
}

// serve answers the console socket.
func (k *keeper) serve(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			scan := bufio.NewScanner(conn)
			for scan.Scan() {
				word, rest, _ := strings.Cut(scan.Text(), " ")
				if err := k.order(word, rest); err != nil {
					fmt.Fprintf(conn, "error %v\n", err)
					continue
				}
				fmt.Fprintln(conn, "ok")
			}
		}()
	}
}

func (k *keeper) order(word, rest string) error {
	switch word {
	case "say":
		_, err := fmt.Fprintf(k.console, "%s\n", rest)
		return err
	case "stop":
		go k.stop()
		return nil
	}
	return fmt.Errorf("unknown order %q", word)
}

var signals = map[string]syscall.Signal{"INT": syscall.SIGINT, "TERM": syscall.SIGTERM, "HUP": syscall.SIGHUP, "QUIT": syscall.SIGQUIT}

// stop asks politely, waits, and only then insists.
func (k *keeper) stop() {
	k.mu.Lock()
	if k.how != EndedItself {
		k.mu.Unlock()
		return // somebody has asked already
	}
	k.how = EndedStop
	k.mu.Unlock()
	group := -k.cmd.Process.Pid
	if k.spec.Console != "" {
		fmt.Fprintf(k.console, "%s\n", k.spec.Console)
	} else {
		k.cmd.Process.Signal(signals[k.spec.Signal])
	}
	if k.ends(k.spec.Patience) {
		return
	}
	k.mu.Lock()
	k.how = EndedKill
	k.mu.Unlock()
	syscall.Kill(group, syscall.SIGTERM)
	if !k.ends(2 * time.Second) {
		syscall.Kill(group, syscall.SIGKILL)
	}
}

func (k *keeper) ends(within time.Duration) bool {
	select {
	case <-k.done:
		return true
	case <-time.After(within):
		return false
	}
}

// SocketFor is where the keeper of a start folder listens: a short path, as
// Unix sockets need, in a folder of the operator's own.
func SocketFor(dir StartDir) (string, error) {
	base := os.Getenv("XDG_RUNTIME_DIR")
	if base == "" {
		base = filepath.Join(os.TempDir(), "initium-"+strconv.Itoa(os.Getuid()))
	} else {
		base = filepath.Join(base, "initium")
	}
	if err := os.MkdirAll(base, 0o700); err != nil {
		return "", err
	}
	info, err := os.Lstat(base)
	if err != nil {
		return "", err
	}
	if stat, ok := info.Sys().(*syscall.Stat_t); !ok || !info.IsDir() || info.Mode().Perm()&0o077 != 0 || int(stat.Uid) != os.Getuid() {
		return "", fmt.Errorf("%s has to be a folder that only you may use; remove it and try again", base)
	}
	return filepath.Join(base, shortHash(string(dir))+".sock"), nil
}

func listenPrivate(path string) (net.Listener, error) {
	os.Remove(path)
	l, err := net.Listen("unix", path)
	if err != nil {
		return nil, err
	}
	return l, os.Chmod(path, 0o600)
}
