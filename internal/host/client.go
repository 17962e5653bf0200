package host

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// tick is how often a client looks for something new.
const tick = 25 * time.Millisecond

func shortHash(s string) string {
	sum := sha256.Sum256([]byte(s))
	return hex.EncodeToString(sum[:8])
}

// ErrRunning is returned when a server runs and the wish needs it stopped.
var ErrRunning = errors.New("the server is running")

// Launch starts a server under a keeper of its own, which outlives this
// program. exe is the path of Initium itself. The spec's Lock and Socket are
// filled in.
func (h Home) Launch(exe string, spec Spec) (StartDir, int, error) {
	if h.IsRunning(spec.Server) {
		return "", 0, fmt.Errorf("%w: %s; stop it first (initium stop %s)", ErrRunning, spec.Server, spec.Server)
	}
	dir, number, err := h.NewStart(spec.Server)
	if err != nil {
		return "", 0, err
	}
	spec.Lock = h.lockFile(spec.Server)
	if spec.Socket, err = SocketFor(dir); err != nil {
		return "", 0, err
	}
	if err := writeJSON(dir.spec(), spec); err != nil {
		return "", 0, err
	}
	cmd := exec.Command(exe, "keeper", string(dir))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return "", 0, fmt.Errorf("start the keeper: %w", err)
	}
	go cmd.Wait() // a keeper that ends before this program must not stay a zombie
	return dir, number, dir.begun(10 * time.Second)
}

// begun waits until the keeper has started the server.
func (d StartDir) begun(limit time.Duration) error {
	for end := time.Now().Add(limit); time.Now().Before(end); time.Sleep(tick) {
		if exit, ok := d.Exit(); ok && exit.How == EndedNever {
			return errors.New(exit.Error)
		}
		if _, err := os.Stat(d.run()); err == nil {
			return nil
		}
	}
	return fmt.Errorf("the keeper did not start the server within %s; look into %s", limit, d)
}

func (h Home) lockFile(server string) string {
	return filepath.Join(h.serverDir(server), "running.lock")
}

// tryLock takes an exclusive lock on a file, which lasts as long as the file is
// open and this process lives.
func tryLock(name string) (*os.File, error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// IsRunning reports whether a keeper holds the server.
func (h Home) IsRunning(server string) bool {
	if _, err := os.Stat(h.lockFile(server)); err != nil {
		return false
	}
	lock, err := tryLock(h.lockFile(server))
	if err != nil {
		return errors.Is(err, syscall.EWOULDBLOCK)
	}
	lock.Close()
	return false
}

// Exit tells how the server of a start ended; ok is false while it runs.
func (d StartDir) Exit() (e Exit, ok bool) { return e, readJSON(d.exit(), &e) == nil }

// Running tells what runs in a start.
func (d StartDir) Running() (r Running, err error) { return r, readJSON(d.run(), &r) }

// order sends one order to the keeper of a start.
func (d StartDir) order(line string) error {
	var spec Spec
	if err := readJSON(d.spec(), &spec); err != nil {
		return err
	}
	conn, err := net.DialTimeout("unix", spec.Socket, 2*time.Second)
	if err != nil {
		return fmt.Errorf("reach the keeper of %s: %w", spec.Server, err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(5 * time.Second))
	if _, err := fmt.Fprintln(conn, line); err != nil {
		return err
	}
	answer, err := bufio.NewReader(conn).ReadString('\n')
	if message, failed := strings.CutPrefix(strings.TrimSpace(answer), "error "); failed {
		return errors.New(message)
	}
	return err
}

// Say types a line on the server's console.
func (d StartDir) Say(line string) error {
	return d.order("say " + strings.NewReplacer("\n", " ", "\r", " ").Replace(line))
}

// Stop stops the server as its dialect says and waits until it has ended.
func (d StartDir) Stop(ctx context.Context) (Exit, error) {
	if err := d.order("stop"); err != nil {
		if exit, ok := d.Exit(); ok {
			return exit, nil
		}
		return Exit{}, err
	}
	for {
		if exit, ok := d.Exit(); ok {
			return exit, nil
		}
		select {
		case <-ctx.Done():
			return Exit{}, ctx.Err()
		case <-time.After(tick):
		}
	}
}

// Follower reads the log of a start as it grows.
type Follower struct {
	dir    StartDir
	log    *os.File
	times  *os.File
	read   int64 // bytes of the log that were handed out
	latest time.Duration
	rest   []byte // of times: a line that has begun
}

// Follow begins at the start of the log.
func (d StartDir) Follow() *Follower { return &Follower{dir: d} }

// Next hands every new piece of the log to feed, with the time of its arrival
// after the start. A log without times is handed out whole, with the time of
// the last piece.
func (f *Follower) Next(feed func(chunk []byte, at time.Duration)) error {
	if f.log == nil {
		var err error
		if f.log, err = os.Open(f.dir.Log()); err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		}
		if f.times, err = os.Open(f.dir.times()); err != nil {
			f.Close()
			f.log = nil
			return err
		}
	}
	fresh, err := io.ReadAll(f.times)
	if err != nil {
		return err
	}
	f.rest = append(f.rest, fresh...)
	for {
		end := bytes.IndexByte(f.rest, '\n')
		if end < 0 {
			return nil
		}
		var offset, millis int64
		if _, err := fmt.Sscanf(string(f.rest[:end]), "%d %d", &offset, &millis); err != nil {
			return fmt.Errorf("read %s: %w", f.dir.times(), err)
		}
		f.rest = f.rest[end+1:]
		f.latest = time.Duration(millis) * time.Millisecond
		if err := f.piece(offset, feed); err != nil {
			return err
		}
	}
}

func (f *Follower) piece(end int64, feed func([]byte, time.Duration)) error {
	chunk := make([]byte, end-f.read)
	n, err := io.ReadFull(f.log, chunk)
	f.read += int64(n)
	feed(chunk[:n], f.latest)
	if err == io.ErrUnexpectedEOF || err == io.EOF {
		return fmt.Errorf("the log %s is shorter than was written to it", f.dir.Log())
	}
	return err
}

// Close closes the log.
func (f *Follower) Close() {
	for _, file := range []*os.File{f.log, f.times} {
		if file != nil {
			file.Close()
		}
	}
}
