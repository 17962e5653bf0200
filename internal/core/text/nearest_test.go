package text_test

import (
	"fmt"
	"testing"

	"initium/internal/core/text"
	"initium/internal/insist"
)

func TestNearest(t *testing.T) {
	names := []string{"check", "culprit", "undo", "anvil", "tide_tables", "on", "off", "Rope"}
	for typed, want := range map[string]string{"chek": "check", "chekc": "check", "cehck": "check", "checkk": "check", "chick": "check", "culprits": "culprit", "udno": "undo", "anvl": "anvil", "tide_table": "tide_tables", "tidetables": "tide_tables",
		"ROPE": "Rope", "rpoe": "Rope", "xyz": "", "": "", "o": "", "offf": "off", "no": "on", "chxxk": "", "cxxxk": "", "anything else": ""} {
		insist.Same(t, fmt.Sprintf("%q is taken for", typed), text.Nearest(typed, names), want)
	}
	insist.Same(t, "of no names", text.Nearest("a", nil), "")
}
