// Package insist has the words in which the tests say what has to be so. Each marks the test
// as failed and lets it go on, but for OK and Need, which end it. The first text says what was looked
// at; it may be empty.
package insist

import (
	"strings"
	"testing"
)

// OK ends a test that cannot go on without something that failed.
func OK(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// Err is the error of a call that gives something else, too.
func Err[T any](_ T, err error) error { return err }

// Same wants one value to be another.
func Same[T comparable](t testing.TB, what string, got, want T) {
	t.Helper()
	if got != want {
		t.Errorf("%s: %#v, want %#v", what, got, want)
	}
}

// Holds wants words to be in a text.
func Holds(t testing.TB, what, text string, words ...string) {
	t.Helper()
	for _, word := range words {
		if !strings.Contains(text, word) {
			t.Errorf("%s: %q is not in\n%s", what, word, text)
		}
	}
}

// Lacks wants words not to be in a text.
func Lacks(t testing.TB, what, text string, words ...string) {
	t.Helper()
	for _, word := range words {
		if strings.Contains(text, word) {
			t.Errorf("%s: %q is in\n%s", what, word, text)
		}
	}
}

// Fails wants an error that says words.
func Fails(t testing.TB, what string, err error, words ...string) {
	t.Helper()
	if err == nil {
		t.Errorf("%s: no error", what)
		return
	}
	Holds(t, what, err.Error(), words...)
}

// That wants something to be so; format and what goes into it say what is.
func That(t testing.TB, so bool, format string, args ...any) {
	t.Helper()
	if !so {
		t.Errorf(format, args...)
	}
}

// Need wants something to be so without which a test cannot go on.
func Need(t testing.TB, so bool, format string, args ...any) {
	t.Helper()
	if !so {
		t.Fatalf(format, args...)
	}
}

// Long is for a test that takes long and shows nothing of what runs side by side that others do not
// show: with -short, as for the detector of races, which slows everything down, it is left out.
func Long(t testing.TB) {
	t.Helper()
	if testing.Short() {
		t.Skip("it takes long")
	}
}
