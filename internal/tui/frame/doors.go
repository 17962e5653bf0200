package frame

import (
	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
)

// Seat is what a screen may know of the server that it is opened for, and of the row that
// is chosen there.
type Seat interface {
	base
	Place() *Desk
	Seen() *app.Look         // the server with what is staged for it
	LastStart() *proof.Proof // nil when it was never started
	Pick() (m *survey.Mod, outcome *proof.Mod)
}

// Door is a way from the board to another screen.
type Door struct {
	Key   string
	Foot  string // what it is called at the bottom
	Help  string
	Often bool // it is used with most rows
	Open  func(s Seat) tea.Cmd
}

// DoorKeys are the keys of the doors that are used with most rows, or of the others.
func (m *Model) DoorKeys(often bool) (keys []Key) {
	for _, d := range m.Doors {
		if d.Often == often {
			keys = append(keys, Key{d.Key, d.Foot})
		}
	}
	return keys
}

// DoorHelp explains the doors.
func (m *Model) DoorHelp() (keys []Key) {
	for _, d := range m.Doors {
		keys = append(keys, Key{d.Key, d.Help})
	}
	return keys
}
