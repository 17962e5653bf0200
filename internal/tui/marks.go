package tui

import (
	"fmt"
	"time"

	"initium/internal/core/check"
	"initium/internal/core/proof"
)

// mark is how an outcome is drawn: a shape, a word and an ink, always together.
type mark struct {
	shape, word string
	ink         ink
}

func outcomeMark(o proof.Outcome) mark {
	switch o {
	case proof.Confirmed:
		return mark{"◆", "confirmed", inkGood}
	case proof.Failed:
		return mark{"✕", "failed", inkBad}
	case proof.Silent:
		return mark{"◌", "silent", inkWarn}
	case proof.Unlisted:
		return mark{"◇", "unlisted", inkOther}
	}
	return mark{" ", "", inkDim}
}

func severityMark(s check.Severity) mark {
	switch s {
	case check.Error:
		return mark{"!", "error", inkBad}
	case check.Warning:
		return mark{"~", "warning", inkWarn}
	}
	return mark{"·", "note", inkDim}
}

// load writes a loading time.
func load(ms float64) string {
	if ms >= 10_000 {
		return fmt.Sprintf("%.1f s", ms/1000)
	}
	return fmt.Sprintf("%.0f ms", ms)
}

// clock writes a moment as people say it today or on another day.
func clock(t time.Time) string {
	t = t.Local()
	if now := time.Now(); t.Year() == now.Year() && t.YearDay() == now.YearDay() {
		return t.Format("15:04")
	}
	return t.Format("2 Jan 15:04")
}

// count writes a number with its noun.
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// outcomeWords say in a line what came of a mod, and by which evidence.
func outcomeWords(m *proof.Mod) string {
	s := string(m.Outcome)
	if m.Reason != "" {
		s += ": " + m.Reason
	}
	if n := len(m.Evidence); n > 0 {
		s += " (" + m.Evidence[n-1].Where() + ")"
	}
	return s
}

// span writes a span of time for people.
func span(d time.Duration) string {
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
