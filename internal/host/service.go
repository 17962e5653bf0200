package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/renameio/v2"

	"initium/internal/core/text"
)

// Services is a systemd that runs services here: the machine's, or that of one user (systemd(1)).
type Services struct {
	User bool
	Home string // of the Initium that writes them: another one's are somebody else's
}

// What Service of a Record may be.
const (
	ServiceOfMachine = "machine"
	ServiceOfUser    = "user"
)

// mark is the first line of a unit that may be replaced and taken away, as it was written here.
func (s Services) mark() []byte {
	return fmt.Appendf(nil, "# Written by Initium, which writes it anew, for %q.\n", s.Home)
}

// serviceLimit is how long systemd may take to answer what is quickly done.
const serviceLimit = 20 * time.Second

// Folder is where units belong that the machine's administrator, or the user, has written (systemd.unit(5)).
func (s Services) Folder() (string, error) {
	if !s.User {
		return "/etc/systemd/system", nil
	}
	config, err := os.UserConfigDir()
	return filepath.Join(config, "systemd", "user"), err
}

// Manner is how systemctl is called for it.
func (s Services) Manner() string {
	if s.User {
		return "systemctl --user"
	}
	return "systemctl"
}

// call runs systemctl(1). The error holds what that says.
func (s Services) call(ctx context.Context, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, serviceLimit)
	defer cancel()
	if s.User {
		args = append([]string{"--user"}, args...)
	}
	cmd := exec.CommandContext(ctx, "systemctl", append([]string{"--no-ask-password", "--no-pager"}, args...)...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	switch {
	case errors.Is(err, exec.ErrNotFound):
		err = errors.New("systemd is not installed here")
	case ctx.Err() != nil:
		err = fmt.Errorf("systemd did not answer: %w", ctx.Err())
	case err != nil && errs.Len() > 0:
		err = fmt.Errorf("systemctl %s: %s", args[len(args)-1], text.Clean(strings.TrimSpace(errs.String())))
	}
	return out.String(), err
}

// Reachable tells why nothing can be handed over, nil where it can.
func (s Services) Reachable(ctx context.Context) error {
	_, err := s.call(ctx, "show", "--property=Version")
	return err
}

// Put writes a unit, and lets it be started with the machine (or when the user logs in). What stands under its name and
// was written by somebody else stays, with an error. Where systemd does not take it, nothing is left of it.
func (s Services) Put(ctx context.Context, unit string, data []byte) error {
	folder, err := s.Folder()
	if err != nil {
		return err
	}
	file := filepath.Join(folder, unit)
	old, err := os.ReadFile(file)
	switch {
	case err == nil && !bytes.HasPrefix(old, s.mark()):
		return fmt.Errorf("%s is there already, and was not written here; it stays as it is", file)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	if err := renameio.WriteFile(file, append(s.mark(), data...), 0o644); err != nil {
		return err
	}
	if err = s.reloaded(ctx, "enable", unit); err == nil {
		return nil
	}
	if old != nil {
		return errors.Join(err, renameio.WriteFile(file, old, 0o644), s.reloaded(ctx))
	}
	_, _ = s.call(ctx, "disable", unit) // as far as it came
	return errors.Join(err, os.Remove(file), s.reloaded(ctx))
}

func (s Services) reloaded(ctx context.Context, then ...string) error {
	_, err := s.call(ctx, "daemon-reload")
	if err == nil && len(then) > 0 {
		_, err = s.call(ctx, then...)
	}
	return err
}

// Drop takes a unit away that Put has written.
func (s Services) Drop(ctx context.Context, unit string) error {
	folder, err := s.Folder()
	if err != nil {
		return err
	}
	file := filepath.Join(folder, unit)
	old, err := os.ReadFile(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return s.reloaded(ctx)
	case err != nil:
		return err
	case !bytes.HasPrefix(old, s.mark()):
		return fmt.Errorf("%s was not written here; it stays as it is", file)
	}
	if _, err := s.call(ctx, "disable", unit); err != nil {
		return err
	}
	if err := os.Remove(file); err != nil {
		return err
	}
	return s.reloaded(ctx)
}

// ServiceState is what systemd tells of a unit, in its own words (systemctl(1), show).
type ServiceState struct {
	Known    bool   `json:"known"`    // there is a file of it that systemd has read
	File     string `json:"file"`     // where that is
	Starts   bool   `json:"starts"`   // it is started with the machine, or with the user
	Active   string `json:"active"`   // active, inactive, failed, activating…
	Detail   string `json:"detail"`   // running, dead, auto-restart…
	Result   string `json:"result"`   // how it ended last; success where nothing was wrong
	Restarts string `json:"restarts"` // how often it was started anew after it had failed
	Stale    bool   `json:"stale"`    // its file was changed since systemd read it
}

// State asks what has become of a unit.
func (s Services) State(ctx context.Context, unit string) (st ServiceState, err error) {
	out, err := s.call(ctx, "show", "--property=LoadState,FragmentPath,UnitFileState,ActiveState,SubState,Result,NRestarts,NeedDaemonReload", unit)
	if err != nil {
		return st, err
	}
	for line := range strings.Lines(out) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		value = text.Clean(value)
		switch key {
		case "LoadState":
			st.Known = value == "loaded"
		case "FragmentPath":
			st.File = value
		case "UnitFileState":
			st.Starts = value == "enabled"
		case "ActiveState":
			st.Active = value
		case "SubState":
			st.Detail = value
		case "Result":
			st.Result = value
		case "NRestarts":
			st.Restarts = value
		case "NeedDaemonReload":
			st.Stale = value == "yes"
		}
	}
	return st, nil
}

// Lingers tells whether the services of who runs this go on, and begin, without anybody logged in (loginctl(1)). Those
// of the machine always do.
func (s Services) Lingers() bool {
	if !s.User {
		return true
	}
	me, err := user.Current()
	if err != nil {
		return false
	}
	_, err = os.Stat(filepath.Join("/var/lib/systemd/linger", me.Username))
	return err == nil
}

// LaunchAs starts a server in a start folder that was prepared, under a keeper that systemd runs as one of its services.
func (d StartDir) LaunchAs(s Services, unit string) error {
	if err := d.hand(); err != nil {
		return err
	}
	defer d.unhand() // where the keeper did not come to it
	_, err := s.call(context.Background(), "start", unit)
	if err != nil {
		return fmt.Errorf("%w; %s status %s tells more", err, s.Manner(), unit)
	}
	ended, over := make(chan struct{}), make(chan struct{})
	defer close(over)
	go func() {
		for !within(over, serviceTick) {
			st, err := s.State(context.Background(), unit)
			if err == nil && (st.Active == "failed" || st.Active == "inactive" || st.Detail == "auto-restart") {
				close(ended)
				return
			}
		}
	}()
	if err := d.begun(startPatience, ended); err != nil {
		return errors.Join(err, s.Halt(context.Background(), unit))
	}
	return nil
}

// Halt stops a service, also while it waits to be started again after a failure.
func (s Services) Halt(ctx context.Context, unit string) error {
	_, err := s.call(ctx, "stop", unit)
	return err
}

// serviceTick is how often systemd is asked whether a keeper lives.
const serviceTick = 200 * time.Millisecond

// handedFile names the start that the next keeper of a server is to take, instead of making one.
func (h Home) handedFile(server string) string { return filepath.Join(h.serverDir(server), "handed") }

func (d StartDir) hand() error {
	var spec Spec
	if err := readJSON(d.spec(), &spec); err != nil {
		return err
	}
	return WritePrivate(Home{spec.Home}.handedFile(spec.Server), []byte(d))
}

func (d StartDir) unhand() {
	var spec Spec
	if readJSON(d.spec(), &spec) == nil {
		_, _ = Home{spec.Home}.Handed(spec.Server)
	}
}

// Handed takes the start that was prepared for the next keeper of a server; ok is false when there is none.
func (h Home) Handed(server string) (dir StartDir, ok bool) {
	file := h.handedFile(server)
	data, err := os.ReadFile(file)
	if err != nil || os.Remove(file) != nil { // whoever takes it away has it
		return "", false
	}
	dir = StartDir(data)
	_, ended := dir.Exit()
	_, err = dir.Running()
	if ended || err == nil || filepath.Dir(string(dir)) != filepath.Dir(string(h.Start(server, 1))) {
		return "", false // of another time
	}
	return dir, true
}
