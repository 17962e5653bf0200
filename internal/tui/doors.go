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

// doorKeys are the keys of the doors that are used with most rows, or of the others.
func (m *model) doorKeys(often bool) (keys []keyHelp) {
	for _, d := range m.doors {
		if d.often == often {
			keys = append(keys, keyHelp{d.key, d.foot})
		}
	}
	return keys
}

// doorHelp explains the doors.
func (m *model) doorHelp() (keys []keyHelp) {
	for _, d := range m.doors {
		keys = append(keys, keyHelp{d.key, d.help})
	}
	return keys
}
