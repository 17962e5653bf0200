package text_test

import (
	"testing"

	"initium/internal/core/text"
)

func TestNearest(t *testing.T) {
	names := []string{"check", "culprit", "undo", "anvil", "tide_tables", "on", "off", "Rope"}
	for typed, want := range map[string]string{"chek": "check", "chekc": "check", "cehck": "check", "checkk": "check", "chick": "check", "culprits": "culprit", "udno": "undo", "anvl": "anvil", "tide_table": "tide_tables", "tidetables": "tide_tables",
		"ROPE": "Rope", "rpoe": "Rope", "xyz": "", "": "", "o": "", "offf": "off", "no": "on", "chxxk": "", "cxxxk": "", "anything else": ""} {
		if got := text.Nearest(typed, names); got != want {
			t.Errorf("%q is taken for %q, want %q", typed, got, want)
		}
	}
	if got := text.Nearest("a", nil); got != "" {
		t.Errorf("of no names %q is near", got)
	}
}
