package host

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// Turn is a change of a server that is not over before it is proved, or gone back from. It is kept
// for as long as that takes, so that whoever comes next can carry on where it was cut off.
type Turn struct {
	Phase    TurnPhase `json:"phase"`
	Before   int       `json:"before"`    // the newest entry of the ledger before it
	Entry    int       `json:"entry"`     // of the change, as soon as it is made
	To       int       `json:"to"`        // the entry that is gone back to
	OrReturn bool      `json:"or_return"` // it goes back where it is not proved
	Ran      bool      `json:"ran"`       // the server ran before it
	Out      time.Time `json:"out"`       // since when players are out; zero where there were none
	Why      string    `json:"why"`       // it is gone back
}

// TurnPhase is what is to be done next.
type TurnPhase string

// A turn makes its change, proves it, and perhaps goes back and proves that.
const (
	TurnMake   TurnPhase = "make"
	TurnProve  TurnPhase = "prove"
	TurnReturn TurnPhase = "return"
	TurnBack   TurnPhase = "prove what was gone back to"
)

func (h Home) turnFile(server string) string { return filepath.Join(h.serverDir(server), "turn.json") }

// Turn reads a turn that is not over; fs.ErrNotExist when there is none.
func (h Home) Turn(server string) (t Turn, err error) { return t, readJSON(h.turnFile(server), &t) }

// PutTurn keeps how far a turn has come.
func (h Home) PutTurn(server string, t Turn) error { return writeJSON(h.turnFile(server), t) }

// EndTurn forgets a turn, which is over.
func (h Home) EndTurn(server string) error {
	if err := os.Remove(h.turnFile(server)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// LockTurn lets nobody else carry on with a server's turn until the file is closed. The error says
// that somebody does.
func (h Home) LockTurn(server string) (*os.File, error) {
	return tryLock(filepath.Join(h.serverDir(server), "turn.lock"))
}
