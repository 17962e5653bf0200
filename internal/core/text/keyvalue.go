package text

import (
	"bytes"
	"strings"
)

// KeyValueStyle is how a file of "key = value" lines is written.
type KeyValueStyle struct {
	Comment string // what starts a comment line, several with a blank between them
	Assign  string // what parts key and value
}

// Pair is one key with its value.
type Pair struct {
	Line  Line // the line, or for a value over several lines all of them
	Key   Span
	Value Span // without blanks around it
}

// KeyValue reads "key = value" lines. Blank lines and comment lines are passed
// over; a line without the assignment mark is reported among the faults and
// passed over. A value that is just three double quotes begins a text over
// several lines, up to a line that is again three double quotes; a text that is
// never closed is a fault and ends the reading.
func KeyValue(doc []byte, style KeyValueStyle) ([]Pair, []*Fault) {
	var faults []*Fault
	lines, marks := Lines(doc), Marks(style.Comment)
	pairs := make([]Pair, 0, len(lines))
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		body := trim(doc, line.Text)
		if body.Len() == 0 || markAt(doc, body, marks) > 0 {
			continue
		}
		cut := bytes.Index(body.In(doc), []byte(style.Assign))
		if cut < 0 {
			faults = append(faults, FaultAt(doc, body.Start, "expected a key, %q and a value", style.Assign))
			continue
		}
		pair := Pair{
			Line:  line,
			Key:   trim(doc, Span{body.Start, body.Start + cut}),
			Value: trim(doc, Span{body.Start + cut + len(style.Assign), body.End}),
		}
		if pair.Value.Len() == 0 { // it goes behind the blank that stands there
			pair.Value.Start = body.Start + cut + len(style.Assign) + blanksAt(line.Text.In(doc)[body.Start-line.Text.Start+cut+len(style.Assign):])
			pair.Value.End = pair.Value.Start
		}
		if pair.Key.Len() == 0 {
			faults = append(faults, FaultAt(doc, body.Start, "expected a key before %q", style.Assign))
			continue
		}
		if string(pair.Value.In(doc)) == `"""` {
			end := i + 1
			for end < len(lines) && strings.TrimSpace(string(lines[end].Text.In(doc))) != `"""` {
				end++
			}
			if end == len(lines) {
				return pairs, append(faults, FaultAt(doc, pair.Value.Start, `the text that opens here with """ is never closed`))
			}
			pair.Line.End, pair.Line.Text.End = lines[end].End, lines[end].Text.End
			pair.Value.End = lines[end].Text.End
			i = end
		}
		pairs = append(pairs, pair)
	}
	return pairs, faults
}

func trim(doc []byte, s Span) Span {
	for s.Start < s.End && isSpace(doc[s.Start]) {
		s.Start++
	}
	for s.End > s.Start && isSpace(doc[s.End-1]) {
		s.End--
	}
	return s
}

// blanksAt is how many blanks a text begins with.
func blanksAt(s []byte) int { return len(s) - len(bytes.TrimLeft(s, " \t")) }

func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\r' || c == '\v' || c == '\f' }
