package proof

import (
	"bytes"
	"slices"
	"time"
	"unicode"

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
	return text.Uncoloured(line)
}

// overwritten are the parts of a line that end with a carriage return, so that the next one
// is written over them. hides tells that they say something: more than a prompt does, which
// has neither letters nor digits.
func overwritten(line []byte) (parts [][]byte, hides bool) {
	for {
		part, rest, found := bytes.Cut(line, []byte{'\r'})
		if !found {
			return parts, hides
		}
		if part = text.Uncoloured(part); len(part) > 0 {
			parts = append(parts, part)
			hides = hides || bytes.ContainsFunc(part, func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) })
		}
		line = rest
	}
}

// fails tells which meanings tell of a failure.
func fails(m dialect.Meaning) bool {
	return m == dialect.MeansFailed || m == dialect.MeansNeeds || m == dialect.MeansMissing || m == dialect.MeansStopped
}

// confirms tells which meanings say that all goes well.
func confirms(m dialect.Meaning) bool {
	return m == dialect.MeansLoaded || m == dialect.MeansLoading || m == dialect.MeansReady
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
	return fails(l.Means) || l.Alarm
}

// Fits tells whether the line is about a mod, when one is named, and tells of
// trouble, when that is wanted.
func (l *Line) Fits(mod string, trouble bool) bool {
	return (mod == "" || slices.Contains(l.Mods, mod)) && (!trouble || l.Trouble())
}
