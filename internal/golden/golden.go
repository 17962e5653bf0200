// Package golden keeps what tests have looked at: texts that a person has read through
// once, and that have to stay as they are until somebody changes them on purpose.
package golden

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Check compares a text with the file of a name in the package's testdata folder. With
// INITIUM_GOLDEN=write in the environment the file is written instead; what has changed
// then shows as a diff, to be read before it is kept.
func Check(t testing.TB, name, got string) {
	t.Helper()
	file := filepath.Join("testdata", name)
	if os.Getenv("INITIUM_GOLDEN") == "write" {
		if err := os.MkdirAll("testdata", 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	have, want := strings.Split(got, "\n"), strings.Split(string(data), "\n")
	for i := range max(len(have), len(want)) {
		a, b := "(nothing)", "(nothing)"
		if i < len(have) {
			a = have[i]
		}
		if i < len(want) {
			b = want[i]
		}
		if a != b {
			t.Errorf("%s:%d:\n got %s\nwant %s", file, i+1, a, b)
			return
		}
	}
}
