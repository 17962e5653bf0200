package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"time"
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

// bounded keeps the beginning of what is written to it.
type bounded struct{ kept bytes.Buffer } // a field: it must not be filled past Write

func (b *bounded) Write(p []byte) (int, error) {
	b.kept.Write(p[:min(len(p), maxVersion-b.kept.Len())])
	return len(p), nil
}
