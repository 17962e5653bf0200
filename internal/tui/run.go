// Package tui is Initium's screen: the list of servers, the board, the watch of
// a start, and the plan of a change, drawn with Bubble Tea. What is shown is the
// top of a stack of screens; each of them knows its own keys, its own picture and
// what it waits for.
package tui

import (
	"context"

	"initium/internal/app"
	"initium/internal/tui/board"
	"initium/internal/tui/buildsview"
	"initium/internal/tui/compareview"
	"initium/internal/tui/culpritview"
	"initium/internal/tui/differview"
	"initium/internal/tui/frame"
	"initium/internal/tui/intakeview"
	"initium/internal/tui/ledgerview"
	"initium/internal/tui/logview"
	"initium/internal/tui/servers"
	"initium/internal/tui/settingsview"
	"initium/internal/tui/teachview"
	"initium/internal/tui/tryview"
)

// Run shows the screen until the operator closes it: on a server, or on the
// list of servers when name is "".
func Run(ctx context.Context, a *app.App, name string) error {
	ctx, cancel := context.WithCancel(ctx)
	m := frame.New(ctx, a, doors)
	m.Open(servers.New(m, name))
	if name != "" {
		m.Open(board.New(m, name))
	}
	err := show(ctx, m)
	cancel()
	m.Wait() // copies of servers are put away, and nothing is followed any more
	return err
}

// Teach shows a log to teach a dialect from, until the operator closes it.
func Teach(ctx context.Context, a *app.App, l *app.Lessons) error {
	m := frame.New(ctx, a, doors)
	m.Open(teachview.New(m, l, 0))
	return show(ctx, m)
}

// TeachServer shows a startup file to begin a dialect from, until the operator closes
// it.
func TeachServer(ctx context.Context, a *app.App, of app.TeachStart) error {
	data, err := app.StartupText(of.Dir, of.Startup)
	if err != nil {
		return err
	}
	m := frame.New(ctx, a, doors)
	m.Open(teachview.NewOutline(m, of, data))
	return show(ctx, m)
}

// doors are all screens that a board leads to by a key of their own: a new one is a line
// here.
var doors = []frame.Door{intakeview.Door, ledgerview.Door, compareview.Door, culpritview.Door, logview.Door, tryview.Door, settingsview.Door, differview.Door, buildsview.Door}
