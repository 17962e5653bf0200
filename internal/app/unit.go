package app

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"time"
	"unicode"

	"initium/internal/core/text"
	"initium/internal/host"
)

// Unit writes a systemd service that runs a server under a keeper: started with the
// machine, started again after a crash, stopped politely (systemd.service(5)).
func (a *App) Unit(name string) ([]byte, error) { return a.unit(name, host.Services{}) }

// unit writes the service for a systemd.
func (a *App) unit(name string, of host.Services) ([]byte, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	if _, err := s.spec(); err != nil {
		return nil, err
	}
	me, err := user.Current()
	if err != nil {
		return nil, fmt.Errorf("find out who runs the server: %w", err)
	}
	patience := time.Duration(s.Dialect.Stop.Patience) + unitMargin
	u := &unitWriter{}
	u.line("[Unit]")
	u.line("Description=" + u.value("the name", name+" ("+s.Dialect.Title+"), kept by Initium"))
	if !of.User { // a user's knows of no network
		u.line("After=network-online.target")
		u.line("Wants=network-online.target")
	}
	u.line("StartLimitIntervalSec=10min")
	u.line("StartLimitBurst=5")
	u.line("")
	u.line("[Service]")
	u.line("Type=exec")
	if !of.User {
		u.line("User=" + u.value("the user", me.Username))
	}
	u.line("WorkingDirectory=" + u.value("the server's folder", s.Record.Dir))
	u.line("Environment=" + u.quoted("Initium's home", "INITIUM_HOME="+a.Home.Dir))
	u.line("Environment=" + u.quoted("PATH, by which programs are found", "PATH="+os.Getenv("PATH")))
	u.line("ExecStart=" + strings.ReplaceAll(u.quoted("the program", a.Exe)+" keep "+u.quoted("the name", name), "$", "$$"))
	u.line("# The keeper asks the server to stop, waits and then insists; only after that does systemd.")
	u.line("KillMode=mixed")
	u.line(fmt.Sprintf("TimeoutStopSec=%d", int(patience.Seconds())))
	u.line("Restart=on-failure")
	u.line("RestartSec=5")
	u.line("")
	u.line("[Install]")
	if of.User {
		u.line("WantedBy=default.target")
	} else {
		u.line("WantedBy=multi-user.target")
	}
	return []byte(u.b.String()), u.err
}

// unitWriter writes a unit line by line; what could become a line of its own is refused.
type unitWriter struct {
	b   strings.Builder
	err error
}

func (u *unitWriter) line(s string) { u.b.WriteString(s + "\n") }

// value writes a value as it stands: only a percent sign has a meaning of its own there
// (systemd.unit(5)).
func (u *unitWriter) value(what, s string) string {
	if strings.ContainsFunc(s, unicode.IsControl) || strings.HasSuffix(s, `\`) {
		u.err = errors.Join(u.err, usage("%s, %s, has a control character in it or ends in a backslash; a unit of systemd cannot hold it", what, text.Clean(s)))
		return ""
	}
	return strings.ReplaceAll(s, "%", "%%")
}

// quoted writes one word of a command or of an environment (systemd.syntax(7)).
func (u *unitWriter) quoted(what, s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(u.value(what, s)) + `"`
}

// unitMargin is how much longer than the keeper systemd waits for a stop.
const unitMargin = 10 * time.Second

// StartScript writes a script that starts a server as it is started from here, without a keeper: for sh, or for cmd.exe.
// file is where it is going to stand, "" where that is not known: in the folder that the server is started in its paths
// are seen from there. Secrets are not in it: it wants them in its environment.
func (a *App) StartScript(name, file string, batch bool) ([]byte, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	with := *s
	with.Vars = maps.Clone(s.Vars)
	for _, g := range s.Dialect.Givens {
		if value := s.Vars[g.Name]; value != "" && text.MaskValue(g.Name, value) != value {
			with.Vars[g.Name] = text.Hole(variableName(g.Name))
		}
	}
	spec, err := with.spec()
	if err != nil {
		return nil, err
	}
	script := &text.StartScript{About: "Starts " + name + " (" + s.Dialect.Title + "). Written by Initium.", Dir: spec.Dir, Env: spec.Env, Command: spec.Command}
	if full, err := filepath.Abs(file); file != "" && err == nil && filepath.Dir(full) == filepath.Clean(spec.Dir) {
		script.Dir = ""
		for i, word := range script.Command {
			if rest, ok := strings.CutPrefix(word, filepath.Clean(spec.Dir)+"/"); ok {
				script.Command[i] = "./" + rest
			}
		}
	}
	if batch {
		return script.Batch()
	}
	return script.POSIX()
}

// variableName is what a value is called in an environment.
func variableName(name string) string {
	return strings.Map(func(c rune) rune {
		if c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' {
			return c
		}
		return '_'
	}, strings.ToUpper(name))
}
