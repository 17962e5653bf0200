package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// versionPatience is how long a program may take to print its version.
const versionPatience = 5 * time.Second

// maxVersion is how much of what it prints is read, in bytes.
const maxVersion = 64 << 10

// AskVersion runs a command that prints a version and returns what it printed, on
// either output. The command gets no input. The error says why it could not be
// run.
func AskVersion(command []string, dir string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(context.Background(), versionPatience)
	defer cancel()
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Dir = dir
	cmd.WaitDelay = time.Second
	var out bounded
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return nil, fmt.Errorf("%s did not end within %s", strings.Join(command, " "), versionPatience)
	case errors.As(err, &exit) && out.kept.Len() > 0: // some programs print their version and fail
		return out.kept.Bytes(), nil
	case err != nil:
		return nil, fmt.Errorf("run %s: %w", command[0], err)
	}
	return out.kept.Bytes(), nil
}

// Probe is a command that tells something of a server.
type Probe struct {
	Command []string
	Dir     string
	Within  time.Duration
	Beside  int // a process in whose network it runs; 0 for this one's
}

// Ask runs a probe and returns what it printed, on either output, and its exit status. It gets no
// input. The error says why it could not be run, or that it came to no end.
func (p Probe) Ask(ctx context.Context) (printed []byte, status int, err error) {
	ctx, cancel := context.WithTimeout(ctx, p.Within)
	defer cancel()
	cmd := exec.CommandContext(ctx, p.Command[0], p.Command[1:]...)
	cmd.Dir = p.Dir
	cmd.WaitDelay = time.Second
	var out bounded
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := p.start(cmd); err != nil {
		return nil, 0, fmt.Errorf("run %s: %w", p.Command[0], err)
	}
	err = cmd.Wait()
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return nil, 0, fmt.Errorf("%s did not end within %s", p.Command[0], p.Within)
	case errors.As(err, &exit):
		return out.kept.Bytes(), exit.ExitCode(), nil
	case err != nil:
		return nil, 0, fmt.Errorf("run %s: %w", p.Command[0], err)
	}
	return out.kept.Bytes(), 0, nil
}

// start starts the command of a probe in the network that it is for.
func (p Probe) start(cmd *exec.Cmd) error {
	if p.Beside == 0 {
		return cmd.Start()
	}
	network, err := os.Open(fmt.Sprintf("/proc/%d/ns/net", p.Beside))
	if err != nil {
		return err
	}
	defer network.Close()
	started := make(chan error)
	go func() {
		runtime.LockOSThread() // and for good: the thread ends with it
		if err := unix.Setns(int(network.Fd()), unix.CLONE_NEWNET); err != nil {
			started <- fmt.Errorf("enter the network of the server: %w", err)
			return
		}
		started <- cmd.Start()
	}()
	return <-started
}

// bounded keeps the beginning of what is written to it.
type bounded struct{ kept bytes.Buffer } // a field: it must not be filled past Write

func (b *bounded) Write(p []byte) (int, error) {
	b.kept.Write(p[:min(len(p), maxVersion-b.kept.Len())])
	return len(p), nil
}
