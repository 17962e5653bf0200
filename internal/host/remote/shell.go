package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"

	"golang.org/x/crypto/ssh"

	"initium/internal/core/text"
)

// ErrNoShell is returned by hosts at which no commands can be run.
var ErrNoShell = errors.New("no commands can be run there")

// Terminal is the terminal that a command runs in.
type Terminal struct {
	Kind          string            // as TERM says it
	Width, Height int               // in cells
	Sized         <-chan [2]int     // width and height, whenever they change; may be nil
	Env           map[string]string // set for the command
}

// Running is a command at a host.
type Running struct {
	Words    []string
	In       io.Reader // nil for none
	Out, Err io.Writer // with a terminal all comes to Out
	Terminal *Terminal // nil for none
}

// Run runs a command at a host that is reached by SSH, and returns its exit status. The error is ErrNoShell where the
// host runs none, and ErrLine where the line broke: whether the command goes on then is not known.
func Run(ctx context.Context, f FS, r Running) (status int, err error) {
	h, ok := f.(*sftpHost)
	if !ok {
		return 0, fmt.Errorf("%w: it is reached by FTP", ErrNoShell)
	}
	s, err := h.line.NewSession()
	if err != nil {
		return 0, fmt.Errorf("%w: %w", ErrLine, err)
	}
	defer s.Close()
	defer context.AfterFunc(ctx, func() { s.Close() })()
	s.Stdin, s.Stdout, s.Stderr = r.In, r.Out, r.Err
	words := quoted(r.Words)
	if t := r.Terminal; t != nil {
		if err := s.RequestPty(t.Kind, t.Height, t.Width, ssh.TerminalModes{}); err != nil {
			return 0, fmt.Errorf("%w in a terminal (%w)", ErrNoShell, err)
		}
		var set []string
		for name, value := range t.Env {
			set = append(set, name+"="+quote(value))
		}
		if len(set) > 0 {
			words = "env " + strings.Join(set, " ") + " " + words
		}
	}
	switch err := s.Start("exec " + words); {
	case err == nil:
	case ctx.Err() != nil:
		return 0, ctx.Err()
	case errors.Is(err, io.EOF):
		return 0, fmt.Errorf("%w: %w", ErrLine, err)
	default:
		return 0, fmt.Errorf("%w (%w)", ErrNoShell, err)
	}
	if r.Terminal != nil && r.Terminal.Sized != nil {
		over := make(chan struct{})
		defer close(over)
		go func() {
			for {
				select {
				case <-over:
					return
				case size := <-r.Terminal.Sized:
					_ = s.WindowChange(size[1], size[0]) // the next one is told too
				}
			}
		}()
	}
	err = s.Wait()
	var exit *ssh.ExitError
	switch {
	case ctx.Err() != nil:
		return 0, ctx.Err()
	case errors.As(err, &exit) && exit.Signal() != "":
		return 128, nil
	case errors.As(err, &exit):
		return exit.ExitStatus(), nil
	case err != nil:
		return 0, fmt.Errorf("%w: %w", ErrLine, err)
	}
	return 0, nil
}

// quoted are words as the shell of a host reads them.
func quoted(words []string) string {
	list := make([]string, len(words))
	for i, w := range words {
		list[i] = quote(w)
	}
	return strings.Join(list, " ")
}

// quote is a word between single quotes (POSIX, 2.2.2), in which nothing but another of them means anything.
func quote(w string) string { return "'" + strings.ReplaceAll(w, "'", `'\''`) + "'" }

// Machine is what is known of a machine on which commands can be run.
type Machine struct {
	System string // as Go names it
	Home   string // the folder of the user there
}

// machines are how uname tells processors, and how Go does.
var machines = map[string]string{"x86_64": "amd64", "amd64": "amd64", "aarch64": "arm64", "arm64": "arm64", "i686": "386", "i386": "386", "armv7l": "arm", "armv6l": "arm", "riscv64": "riscv64", "ppc64le": "ppc64le", "s390x": "s390x"}

// Look asks a machine what it is.
func Look(ctx context.Context, f FS) (m Machine, err error) {
	var out, said strings.Builder
	status, err := Run(ctx, f, Running{Words: []string{"sh", "-c", `uname -s && uname -m && printf '%s\n' "$HOME"`}, Out: upToText{&out}, Err: upToText{&said}})
	if err != nil {
		return m, err
	}
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	if status != 0 || len(lines) < 3 {
		return m, fmt.Errorf("%w: what was asked of it ended with status %d (%s)", ErrNoShell, status, text.Clean(strings.TrimSpace(said.String()+" "+out.String())))
	}
	lines = lines[len(lines)-3:] // a shell may greet first
	m.System, m.Home = strings.ToLower(strings.TrimSpace(lines[0]))+"/"+machines[strings.TrimSpace(lines[1])], strings.TrimSpace(lines[2])
	if strings.HasSuffix(m.System, "/") {
		m.System += text.Clean(strings.TrimSpace(lines[1]))
	}
	return m, nil
}

// Own is the kind of machine that this program is for.
func Own() string { return runtime.GOOS + "/" + runtime.GOARCH }

// upToText keeps the first of what is said, which is enough of an answer.
type upToText struct{ into *strings.Builder }

// Write takes it all, and keeps what there is room for.
func (u upToText) Write(p []byte) (int, error) {
	const most = 64 << 10
	u.into.Write(p[:max(min(most-u.into.Len(), len(p)), 0)])
	return len(p), nil
}
