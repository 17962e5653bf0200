package proof

import (
	"bytes"
	"slices"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// Plain is a line as rules see it: without its end and without colours, and of one that
// was written over and over what it shows at last.
func Plain(line []byte) []byte {
	line = bytes.TrimRight(line, "\r\n")
	if at := bytes.LastIndexByte(line, '\r'); at >= 0 {
		line = line[at+1:]
	}
	if bytes.IndexByte(line, 0x1b) >= 0 {
		line = []byte(text.Clean(string(line)))
	}
	return line
}

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
