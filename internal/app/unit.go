package app

import (
	"fmt"
	"os/user"
	"strings"
	"time"
)

// Unit writes a systemd service that runs a server under a keeper: started with the
// machine, started again after a crash, stopped politely (systemd.service(5)).
func (a *App) Unit(name string) ([]byte, error) {
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
	var b strings.Builder
	p := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	p("[Unit]")
	p("Description=%s (%s), kept by Initium", escapeUnit(name), escapeUnit(s.Dialect.Title))
	p("After=network-online.target")
	p("Wants=network-online.target")
	p("StartLimitIntervalSec=10min")
	p("StartLimitBurst=5")
	p("")
	p("[Service]")
	p("Type=exec")
	p("User=%s", escapeUnit(me.Username))
	p("WorkingDirectory=%s", escapeUnit(s.Record.Dir))
	p("Environment=%s", quoteUnit("INITIUM_HOME="+a.Home.Dir))
	p("ExecStart=%s keep %s", quoteUnit(a.Exe), quoteUnit(name))
	p("# The keeper asks the server to stop, waits and then insists; only after that does systemd.")
	p("KillMode=mixed")
	p("TimeoutStopSec=%d", int(patience.Seconds()))
	p("Restart=on-failure")
	p("RestartSec=5")
	p("")
	p("[Install]")
	p("WantedBy=multi-user.target")
	return []byte(b.String()), nil
}

// unitMargin is how much longer than the keeper systemd waits for a stop.
const unitMargin = 10 * time.Second

// escapeUnit keeps a percent sign from being taken for a specifier.
func escapeUnit(s string) string { return strings.ReplaceAll(s, "%", "%%") }

// quoteUnit writes one word of a command or of an environment.
func quoteUnit(s string) string {
	return `"` + strings.NewReplacer("%", "%%", "$", "$$", `\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}
