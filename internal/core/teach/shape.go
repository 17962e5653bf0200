package teach

import (
	"regexp"
	"slices"
	"strings"

	"initium/internal/core/proof"
)

// shape is a way in which lines begin: places with a text before each, and one behind
// the last.
type shape struct {
	holes []hole
	last  string
}

// hole is a place in which lines differ.
type hole struct {
	before string
	kind   holeKind
}

type holeKind int

const (
	holeAny holeKind = iota
	holeTime
	holeLevel
)

func (s *shape) has(kind holeKind) bool {
	return slices.ContainsFunc(s.holes, func(h hole) bool { return h.kind == kind })
}

// heads tells whether a line of this shape can only be the beginning of a message.
func (s *shape) heads() bool { return s.has(holeTime) || s.has(holeLevel) }

// String tells shapes apart.
func (s *shape) String() string {
	var b strings.Builder
	for _, h := range s.holes {
		b.WriteString(h.before)
		b.WriteByte(byte(h.kind))
	}
	return b.String() + s.last
}

// better tells whether a shape says more than another: a time counts most, then a
// weight.
func (s *shape) better(than *shape) bool {
	switch {
	case than == nil:
		return true
	case s.has(holeTime) != than.has(holeTime):
		return s.has(holeTime)
	case s.has(holeLevel) != than.has(holeLevel):
		return s.has(holeLevel)
	case len(s.holes) != len(than.holes):
		return len(s.holes) > len(than.holes)
	}
	return len(s.String()) > len(than.String())
}

// standsBefore tells whether most lines have this shape, and few different texts in
// its places.
func (s *shape) standsBefore(lines []string) bool {
	headed, count, own := 0, 0, 0
	values := make([]map[string]bool, len(s.holes))
	for _, line := range lines {
		if line != "" && line[0] != ' ' && line[0] != '\t' { // else it goes on with the message before it
			own++
		}
		if s.headed(line) {
			headed++
		}
		fields, ok := s.fields(line)
		if !ok {
			continue
		}
		count++
		for i, f := range fields {
			if s.holes[i].kind == holeAny && !numeral.MatchString(f) { // a process may have any number
				if values[i] == nil {
					values[i] = map[string]bool{}
				}
				values[i][f] = true
			}
		}
	}
	many := func(v map[string]bool) bool { return len(v) > min(maxValues, max(count/3, 3)) }
	return count >= 2 && float64(headed) >= headedLines*float64(max(own, headed)) && float64(count) >= mostLines*float64(headed) && !slices.ContainsFunc(values, many)
}

var numeral = regexp.MustCompile(`^\d+$`)

// headed tells whether a line begins with what is the first sure sign in a shape that a
// message begins: a time, or a weight.
func (s *shape) headed(line string) bool {
	first := slices.IndexFunc(s.holes, func(h hole) bool { return h.kind != holeAny })
	_, ok := (&shape{holes: s.holes[:first+1]}).fields(line)
	return ok
}

// length is how much of a text a place takes that is known by its look; 0 for nothing.
func (h hole) length(s string) int {
	if h.kind == holeTime {
		return timeLength(s)
	}
	return levelLength(s)
}

// timeLength is how long the time is that a text begins with.
func timeLength(s string) int {
	if start, end, ok := proof.Opening([]byte(s)); ok && start == 0 {
		return end
	}
	return 0
}

// levels are how programs call the weight of a message.
var levels = regexp.MustCompile(`(?i)^ {0,6}(trace|debug|verbose|fine|info|information|notice|action|warn|warning|error|severe|err|crit|critical|fatal|panic|alert|emerg|[tdvinwefc])(?:[^\pL\pN_]|$)`)

// levelLength is how long the weight of a message is that a text begins with.
func levelLength(s string) int {
	at := levels.FindStringSubmatchIndex(s)
	if at == nil {
		return 0
	}
	return at[3]
}

// field is a text between what is the same in all lines: no longer than a few words.
var field = regexp.MustCompile(`^[\pL\pN_.:/@+#*\-][\pL\pN_.:/@+#*\- ]{0,39}?$|^ {0,4}\d{1,10}$`)

// fields takes the texts in the places of a shape out of a line.
func (s *shape) fields(line string) (fields []string, ok bool) {
	rest := line
	for i, h := range s.holes {
		if rest, ok = strings.CutPrefix(rest, h.before); !ok {
			return nil, false
		}
		next := s.last
		if i+1 < len(s.holes) {
			next = s.holes[i+1].before
		}
		var length int
		if h.kind == holeAny {
			length = strings.Index(rest, next)
			if length <= 0 || !field.MatchString(rest[:length]) {
				return nil, false
			}
		} else if length = h.length(rest); length == 0 {
			return nil, false
		}
		fields, rest = append(fields, strings.TrimSpace(rest[:length])), rest[length:]
		if h.kind == holeLevel {
			rest = unfilled(rest, next)
		}
	}
	_, ok = strings.CutPrefix(rest, s.last)
	return fields, ok
}

// unfilled takes the blanks away with which a weight is filled up, before what comes
// next or behind it.
func unfilled(rest, next string) string {
	bare := strings.TrimLeft(rest, " ")
	if !strings.HasPrefix(next, " ") {
		return bare
	}
	if after, ok := strings.CutPrefix(bare, strings.TrimLeft(next, " ")); ok && len(bare) < len(rest) {
		return next + strings.TrimLeft(after, " ")
	}
	return rest
}

// pattern writes a shape as a dialect does. Of the places that are neither time nor
// weight, the one in which lines differ most is who says it.
func (s *shape) pattern(lines []string) string {
	values := make([]map[string]bool, len(s.holes))
	for _, line := range lines {
		if fields, ok := s.fields(line); ok {
			for i, f := range fields {
				if values[i] == nil {
					values[i] = map[string]bool{}
				}
				values[i][f] = true
			}
		}
	}
	source := -1
	for i, h := range s.holes {
		if h.kind == holeAny && (source < 0 || len(values[i]) >= len(values[source])) {
			source = i
		}
	}
	var b strings.Builder
	for i, h := range s.holes {
		b.WriteString(escape(h.before))
		switch {
		case h.kind == holeTime:
			b.WriteString("{time}")
		case h.kind == holeLevel:
			b.WriteString("{level}")
		case i == source:
			b.WriteString("{source}")
		default:
			b.WriteString("{any}")
		}
	}
	return b.String() + escape(s.last)
}

// escape doubles the braces of a text that is meant as it stands.
func escape(s string) string { return strings.NewReplacer("{", "{{", "}", "}}").Replace(s) }
