package host

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
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

// Prepare makes the folder of the next start of a server, for a keeper. The spec's
// Home, Lock and Socket are filled in.
func (h Home) Prepare(spec Spec) (StartDir, int, error) {
	dir, number, err := h.NewStart(spec.Server)
	if err != nil {
		return "", 0, err
	}
	_ = h.DropOldLogs(spec.Server, logRoom) // no reason not to start; the next start tries again
	spec.Home, spec.Lock = h.Dir, h.lockFile(spec.Server)
	if spec.Socket, err = h.SocketFor(spec.Server); err != nil {
		return "", 0, err
	}
	return dir, number, writeJSON(dir.spec(), spec)
}

// startPatience is how long a keeper that lives is waited for until it has started its
// server: on a machine that is busy with something else that takes a while.
const startPatience = time.Minute

// Launch starts a server in a start folder that was prepared, under a keeper of
// its own, which outlives this program. exe is the path of Initium itself.
func (d StartDir) Launch(exe string) error {
	cmd := exec.Command(exe, "keeper", string(d))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	var spec Spec
	if err := readJSON(d.spec(), &spec); err != nil {
		return fmt.Errorf("start the keeper: %w", err)
	}
	if spec.Isolated {
		isolated(cmd.SysProcAttr)
	}
	cmd.Dir = "/" // it holds on to no folder
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start the keeper: %w", err)
	}
	ended := make(chan struct{})
	go func() { // a keeper that ends before this program must not stay a zombie
		cmd.Wait()
		close(ended)
	}()
	return d.begun(startPatience, ended)
}

// begun waits until the keeper has started the server.
func (d StartDir) begun(limit time.Duration, ended <-chan struct{}) error {
	for end := time.Now().Add(limit); time.Now().Before(end); {
		gone := within(ended, 0)
		if exit, ok := d.Exit(); ok && exit.How == EndedNever {
			return errors.New(exit.Error)
		}
		if _, err := os.Stat(d.run()); err == nil {
			return nil
		}
		if gone {
			return fmt.Errorf("the keeper ended before it had started the server; look into %s", d)
		}
		time.Sleep(beginTick)
	}
	return fmt.Errorf("the keeper did not start the server within %s; look into %s", limit, d)
}

// beginTick is how often a client looks whether a server has been started.
const beginTick = 2 * time.Millisecond

func (h Home) lockFile(server string) string {
	return filepath.Join(h.serverDir(server), "running.lock")
}

// tryLock takes an exclusive lock on a file, which lasts as long as the file is
// open and this process lives.
func tryLock(name string) (*os.File, error) { return tryFlock(name, syscall.LOCK_EX) }

func tryFlock(name string, how int) (*os.File, error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), how|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// Exit tells how the server of a start ended; ok is false while it runs.
func (d StartDir) Exit() (e Exit, ok bool) { return e, readJSON(d.exit(), &e) == nil }

// Running tells what runs in a start.
func (d StartDir) Running() (r Running, err error) { return r, readJSON(d.run(), &r) }

// Listens is how long after its start the server began to listen on the port that shows it to be
// ready; ok is false as long as it does not.
func (d StartDir) Listens() (after time.Duration, ok bool) {
	return after, readJSON(d.listens(), &after) == nil
}

// order sends one order to the keeper of a start.
func (d StartDir) order(line string) error {
	var spec Spec
	if err := readJSON(d.spec(), &spec); err != nil {
		return err
	}
	near, release, err := nearSocket(spec.Socket)
	if err != nil {
		return fmt.Errorf("reach the keeper of %s: %w", spec.Server, err)
	}
	defer release()
	conn, err := net.DialTimeout("unix", near, 2*time.Second)
	var answer string
	if err == nil {
		defer conn.Close()
		conn.SetDeadline(time.Now().Add(5 * time.Second))
		if _, err = fmt.Fprintln(conn, line); err == nil {
			answer, err = bufio.NewReader(conn).ReadString('\n')
		}
	}
	if message, failed := strings.CutPrefix(strings.TrimSpace(answer), "error "); failed {
		return errors.New(message)
	}
	for _, gone := range []error{syscall.ECONNREFUSED, syscall.ECONNRESET, syscall.EPIPE, io.EOF} {
		if errors.Is(err, gone) { // it may be ended while it is spoken to
			err = errLost
		}
	}
	if err != nil {
		return fmt.Errorf("reach the keeper of %s: %w", spec.Server, err)
	}
	return nil
}

// Say types a line on the server's console.
func (d StartDir) Say(line string) error {
	return d.order("say " + strings.NewReplacer("\n", " ", "\r", " ").Replace(line))
}

// Guard has the keeper start the server again after a crash, at most so many times
// in a row; 0 for never.
func (d StartDir) Guard(times int) error { return d.order(fmt.Sprint("guard ", times)) }

// Stop stops the server as its dialect says and waits until it has ended.
func (d StartDir) Stop(ctx context.Context) (Exit, error) {
	if err := d.order("stop"); err != nil {
		if exit, ok := d.Exit(); ok {
			return exit, nil
		}
		return Exit{}, err
	}
	for {
		switch exit, ok := d.Exit(); {
		case ok && exit.Again == nil:
			return exit, nil
		case ok && exit.Next > 0: // it was started again at that very moment
			d = StartDir(filepath.Join(filepath.Dir(string(d)), startName(exit.Next)))
		case !ok:
			if r, err := d.Running(); err == nil && !alive(r.Keeper) {
				if exit, ok := d.Exit(); ok { // the last thing that it did
					return exit, nil
				}
				return Exit{}, errLost
			}
		}
		select {
		case <-ctx.Done():
			return Exit{}, ctx.Err()
		case <-time.After(tick):
		}
	}
}
