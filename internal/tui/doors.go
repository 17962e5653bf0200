package tui

import (
	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
)

// seat is what a screen may know of the server that it is opened for, and of the row that
// is chosen there.
type seat interface {
	base
	place() *desk
	seen() *app.Look         // the server with what is staged for it
	lastStart() *proof.Proof // nil when it was never started
	pick() (m *survey.Mod, outcome *proof.Mod)
}

// door is a way from the board to another screen.
type door struct {
	key   string
	foot  string // what it is called at the bottom
	help  string
	often bool // it is used with most rows
	open  func(s seat) tea.Cmd
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

// doorKeys are the keys of the doors that are used with most rows, or of the others.
func doorKeys(often bool) (keys []keyHelp) {
	for _, d := range doors {
		if d.often == often {
			keys = append(keys, keyHelp{d.key, d.foot})
		}
	}
	return keys
}

// doorHelp explains the doors.
func doorHelp() (keys []keyHelp) {
	for _, d := range doors {
		keys = append(keys, keyHelp{d.key, d.help})
	}
	return keys
}
