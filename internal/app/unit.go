package app

import (
	"errors"
	"fmt"
	"os"
	"os/user"
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
