// Package tui is Initium's screen: the list of servers, the board, the watch of
// a start, and the plan of a change, drawn with Bubble Tea. What is shown is the
// top of a stack of screens; each of them knows its own keys, its own picture and
// what it waits for.
package tui

import (
	"context"
	"initium/internal/app"
)

// Run shows the screen until the operator closes it: on a server, or on the
// list of servers when name is "".
func Run(ctx context.Context, a *app.App, name string) error {
	ctx, cancel := context.WithCancel(ctx)
	m := newModel(ctx, a, doors)
	m.open(newServerList(m, name))
	if name != "" {
		m.open(newBoard(m, name))
	}
	err := show(ctx, m)
	cancel()
	m.work.Wait() // copies of servers are put away, and nothing is followed any more
	return err
}

// Teach shows a log to teach a dialect from, until the operator closes it.
func Teach(ctx context.Context, a *app.App, l *app.Lessons) error {
	m := newModel(ctx, a, doors)
	m.open(newTeachView(m, l, 0))
	return show(ctx, m)
}

// TeachServer shows a startup file to begin a dialect from, until the operator closes
// it. command starts the server, "" when that is to be said later.
func TeachServer(ctx context.Context, a *app.App, name, dir, file, command string) error {
	data, err := app.StartupText(dir, file)
	if err != nil {
		return err
	}
	m := newModel(ctx, a, doors)
	m.open(newOutline(m, name, dir, file, command, data))
	return show(ctx, m)
}

// doors are all screens that a board leads to by a key of their own: a new one is a line
// here.
var doors = []door{
	{"i", "take in", "take something in: look inside an archive first", true, askSource},
	{"g", "ledger", "the ledger: what was done; return to any point", false, openLedger},
	{"=", "compare", "what is other than at the last proved start, or any other", false, openCompare},
	{"C", "culprit", "search for the mod that breaks the server, on a copy", false, askCulprit},
	{"l", "log", "watch the server that runs; else the log of the last start", false, openLog},
}
