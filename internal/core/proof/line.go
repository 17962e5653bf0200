package proof

import (
	"slices"
	"time"

	"initium/internal/core/dialect"
)

// Line is one line of the log with what it means.
type Line struct {
	Number int
	At     time.Duration
	Text   string // as it came, at most MaxLine bytes; to be cleaned before it is shown
	Means  dialect.Meaning
	Mods   []string // the mods that it speaks of
	Joined bool     // it goes on with the message of the line before
	Alarm  bool     // it sounds like trouble, and no rule knows it
}

// Trouble tells whether the line tells of a failure, or sounds like one.
func (l *Line) Trouble() bool {
	switch l.Means {
	case dialect.MeansFailed, dialect.MeansNeeds, dialect.MeansMissing, dialect.MeansStopped:
		return true
	}
	return l.Alarm
}

// Fits tells whether the line is about a mod, when one is named, and tells of
// trouble, when that is wanted.
func (l *Line) Fits(mod string, trouble bool) bool {
	return (mod == "" || slices.Contains(l.Mods, mod)) && (!trouble || l.Trouble())
}
