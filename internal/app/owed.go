package app

import (
	"slices"

	"initium/internal/core/check"
	"initium/internal/core/text"
)

// owedCodes are the findings that tell of something which is still to be done, and not of something that is wrong.
var owedCodes = []check.Code{check.CodeDataUnmerged, check.CodeStepLeft, check.CodeSettingMissing, check.CodeSettingPlaceholder, check.CodeSettingTemplate, check.CodeSettingUnset}

// Owing is something that is still to be done on a server.
type Owing struct {
	Code   check.Code `json:"code,omitempty"` // of the finding that tells it, "" for a start
	Mod    string     `json:"mod,omitempty"`
	About  string     `json:"about"`
	How    string     `json:"how"`
	Waived string     `json:"waived,omitempty"` // why it need not be done, "" where it is open
}

// Owed lists what is still to be done on a server: what mods have left open, settings that wait for their value,
// and a first start. What was accepted is told as waived.
func (a *App) Owed(server string) ([]Owing, error) {
	look, err := a.Look(server)
	if err != nil {
		return nil, err
	}
	list := []Owing{}
	for _, f := range look.Findings {
		if slices.Contains(owedCodes, f.Code) {
			list = append(list, Owing{Code: f.Code, Mod: f.Mod, About: f.Message, How: f.Remedy, Waived: text.Clean(f.Accepted)})
		}
	}
	l, err := a.ledger()
	if err != nil {
		return nil, err
	}
	entries, err := l.Entries(server)
	if err != nil {
		return nil, err
	}
	if last := entries[len(entries)-1]; last.Number > 0 && len(last.Starts) == 0 {
		list = append(list, Owing{About: "nothing was started since the last change: " + text.Clean(last.Why), How: "initium prove " + server})
	}
	return list, nil
}
