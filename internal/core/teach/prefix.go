// Package teach makes the rules of a dialect from examples: a line of a log and what
// it says, or the name of a mod in a startup file.
package teach

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"initium/internal/core/proof"
)

// Prefix is what stands before every message of a log, as a dialect writes it.
type Prefix struct {
	Pattern string // "" for nothing
	Time    string // how its {time} is written; "" for a notation that is understood without it
}

// How much of a log has to begin alike for that to be what stands before messages,
// and how many of its lines are looked at.
const (
	mostLines   = 0.8 // of those that begin with a time or a weight at all
	headedLines = 0.4 // that have to, of all; the others go on with messages
	headLines   = 5000
	sampleLines = 40
	prefixReach = 110 // bytes
	maxValues   = 40  // different texts in one place of it
	maxHoles    = 4
)

// FindPrefix finds what stands before the messages of a log: a time, the weight of the
// message, who says it, in any order, as far as most lines have it.
func FindPrefix(lines []string) Prefix {
	lines = lines[:min(len(lines), headLines)]
	var best *shape
	for _, s := range shapes(lines) {
		if s.better(best) && s.standsBefore(lines) {
			best = s
		}
	}
	if best == nil {
		return Prefix{}
	}
	return Prefix{Pattern: best.pattern(lines), Time: best.layout(lines)}
}

// layout is how the time is written.
func (s *shape) layout(lines []string) string {
	at := slices.IndexFunc(s.holes, func(h hole) bool { return h.kind == holeTime })
	for _, line := range lines {
		if fields, ok := s.fields(line); ok && at >= 0 {
			if _, layout, ok := proof.Moment(fields[at], ""); ok && layout != "" {
				if _, err := time.Parse(layout, fields[at]); err == nil {
					return layout
				}
			}
			return ""
		}
	}
	return ""
}

// shapes are the ways in which some of the lines begin.
func shapes(lines []string) (list []*shape) {
	seen := map[string]bool{}
	add := func(s *shape) {
		if key := s.String(); !seen[key] {
			seen[key] = true
			list = append(list, s)
		}
	}
	for i := range min(len(lines), sampleLines) {
		line := lines[i*len(lines)/min(len(lines), sampleLines)]
		line = line[:min(len(line), prefixReach)]
		(&shape{}).grow(line, "", add)
		if key := firstKey.FindString(line); key != "" {
			(&shape{}).grow(line[len(key):], key, add)
		}
	}
	return list
}

// Lines may be made of keys and values: the first key, and one that comes after a value.
var (
	firstKey = regexp.MustCompile(`^\{? ?"?[A-Za-z_@]\w*"?[=:] ?"?`)
	nextKey  = regexp.MustCompile(`"?,? ?"?\b[A-Za-z_]\w*(?:=|":) ?"?`)
)

// openings are what a place may begin with, and what closes it.
var openings = map[byte]string{'[': "]", '(': ")", '<': ">", '{': "}"}

// marks are what parts one place from the next, and what stands before a message from
// it.
var marks = []string{"/", "][", "] [", "[", "]: ", "] ", "]", ") ", "> ", "} ", ": ", " | ", " - ", " -- ", ", ", "\t", " "}

// grow adds the shapes that go on with one more place, of which rest is the line's
// rest, and the text before it is literal.
func (s *shape) grow(rest, literal string, add func(*shape)) {
	if len(s.holes) == maxHoles || rest == "" {
		return
	}
	closer := ""
	if c, ok := openings[rest[0]]; ok {
		literal, rest, closer = literal+rest[:1], rest[1:], c
	}
	more := func(kind holeKind, length int) {
		s.more(hole{before: literal, kind: kind}, rest[length:], closer, add)
	}
	if n := timeLength(rest); n > 0 && !s.has(holeTime) {
		more(holeTime, n)
		return
	}
	if n := levelLength(rest); n > 0 && !s.has(holeLevel) {
		more(holeLevel, n)
	}
	all := marks
	if key := nextKey.FindString(rest); key != "" {
		all = append(slices.Clone(marks), key)
	}
	for _, mark := range all {
		at := strings.Index(rest, mark)
		bare := mark == " " && closer == "" && (at < 0 || timeLength(rest[at+1:]) == 0) // the first word of a message looks the same
		if at > 0 && field.MatchString(rest[:at]) && !bare && (mark != " " || !strings.Contains(rest[:at], " ")) {
			more(holeAny, at)
		}
	}
}

// more adds the shapes that go on behind one more place: rest is what follows it, and
// closer what has to, when it was opened.
func (s *shape) more(h hole, rest, closer string, add func(*shape)) {
	for ; ; rest = rest[1:] {
		all := marks
		if at := nextKey.FindStringIndex(rest); at != nil && at[0] == 0 {
			all = append(slices.Clone(marks), rest[:at[1]])
		}
		for _, mark := range all {
			if mark == " " && closer == "" && h.kind == holeAny && strings.HasPrefix(rest, mark) && timeLength(rest[1:]) == 0 {
				continue // it is the first word of a message
			}
			if strings.HasPrefix(rest, mark) && (closer == "" || strings.HasPrefix(mark, closer) || mark == "/") {
				s.with(h, mark, rest[len(mark):], add)
			}
		}
		if h.kind != holeLevel || rest == "" || rest[0] != ' ' { // a weight may be filled up
			return
		}
	}
}

// with adds the shape that one more place and its mark make, and those that go on from it.
func (s *shape) with(h hole, mark, after string, add func(*shape)) {
	next := &shape{holes: append(slices.Clone(s.holes), h), last: mark}
	opened, opens := strings.CutSuffix(mark, "[")
	if next.heads() && !opens {
		add(next)
	}
	if h.kind == holeLevel {
		after = strings.TrimLeft(after, " ")
	}
	if opens { // it opens the next place
		next.grow("["+after, opened, add)
	} else {
		next.grow(after, mark, add)
	}
}
