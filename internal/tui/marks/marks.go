// Package marks has the shapes, inks and words by which outcomes, findings, times and
// numbers are told on all screens.
package marks

import (
	"fmt"
	"strings"
	"time"

	"initium/internal/core/check"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/tui/canvas"
)

// Mark is how an outcome is drawn: a shape, a word and an ink, always together.
type Mark struct {
	Shape, Word string
	Ink         canvas.Ink
}

// Outcome is how an outcome is drawn.
func Outcome(o proof.Outcome) Mark {
	switch o {
	case proof.Confirmed:
		return Mark{"◆", "confirmed", canvas.Good}
	case proof.Failed:
		return Mark{"✕", "failed", canvas.Bad}
	case proof.Silent:
		return Mark{"◌", "silent", canvas.Warn}
	case proof.Unlisted:
		return Mark{"◇", "unlisted", canvas.Other}
	}
	return Mark{" ", "", canvas.Dim}
}

// Severity is how a finding's severity is drawn.
func Severity(s check.Severity) Mark {
	switch s {
	case check.Error:
		return Mark{"!", "error", canvas.Bad}
	case check.Warning:
		return Mark{"~", "warning", canvas.Warn}
	}
	return Mark{"·", "note", canvas.Dim}
}

// Millis writes a loading time.
func Millis(ms float64) string {
	if ms >= 10_000 {
		return fmt.Sprintf("%.1f s", ms/1000)
	}
	return fmt.Sprintf("%.0f ms", ms)
}

// Clock writes a moment as people say it today or on another day.
func Clock(t time.Time) string {
	t = t.Local()
	if now := time.Now(); t.Year() == now.Year() && t.YearDay() == now.YearDay() {
		return t.Format("15:04")
	}
	return t.Format("2 Jan 15:04")
}

// Count writes a number with its noun.
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// OutcomeWords say in a line what came of a mod, and by which evidence.
func OutcomeWords(m *proof.Mod) string {
	s := string(m.Outcome)
	if m.Reason != "" {
		s += ": " + m.Reason
	}
	if n := len(m.Evidence); n > 0 {
		s += " (" + m.Evidence[n-1].Where() + ")"
	}
	return s
}

// Span writes a span of time for people.
func Span(d time.Duration) string {
	switch {
	case d < 100*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 100*time.Minute:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// Words say what changes do, one after another.
func Words(changes []lineup.Change) string {
	list := make([]string, len(changes))
	for i, c := range changes {
		list[i] = c.String()
	}
	return strings.Join(list, ", then ")
}
