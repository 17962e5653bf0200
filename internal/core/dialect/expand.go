package dialect

import (
	"strings"
	"time"
)

const (
	defaultWithin   = 2 * time.Minute
	defaultPatience = 20 * time.Second
)

// Vars are the values of a dialect's variables for one server.
type Vars map[string]string

// Expand writes the variables in s out. ok is false when one of them has no
// value; s is then of no use.
func (v Vars) Expand(s string) (expanded string, ok bool) {
	if !strings.ContainsAny(s, "{}") {
		return s, true
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		switch {
		case strings.HasPrefix(s[i:], "{{"), strings.HasPrefix(s[i:], "}}"):
			b.WriteByte(s[i])
			i += 2
		case s[i] == '{':
			end := strings.IndexByte(s[i:], '}')
			if end < 0 {
				return "", false
			}
			value := v[s[i+1:i+end]]
			if value == "" {
				return "", false
			}
			b.WriteString(value)
			i += end + 1
		default:
			b.WriteByte(s[i])
			i++
		}
	}
	return b.String(), true
}

// unknownVariable names a variable in s that is not among vars, or "".
func unknownVariable(s string, vars []string) string {
	for {
		start := strings.IndexByte(s, '{')
		if start < 0 {
			return ""
		}
		if strings.HasPrefix(s[start:], "{{") {
			s = s[start+2:]
			continue
		}
		end := strings.IndexByte(s[start:], '}')
		if end < 0 {
			return ""
		}
		name := s[start+1 : start+end]
		found := false
		for _, v := range vars {
			found = found || v == name
		}
		if !found {
			return name
		}
		s = s[start+end:]
	}
}

// charRange is one item of Names.Allowed.
type charRange struct{ from, to rune }

func charRanges(allowed string) (ranges []charRange) {
	runes := []rune(allowed)
	for i := 0; i < len(runes); i++ {
		if i+2 < len(runes) && runes[i+1] == '-' {
			ranges = append(ranges, charRange{runes[i], runes[i+2]})
			i += 2
			continue
		}
		ranges = append(ranges, charRange{runes[i], runes[i]})
	}
	return ranges
}

// Forbidden returns the first character of name that the family does not
// allow. ok is false when all are allowed.
func (n Names) Forbidden(name string) (r rune, ok bool) {
	if n.Allowed == "" {
		return 0, false
	}
	ranges := charRanges(n.Allowed)
next:
	for _, r := range name {
		for _, a := range ranges {
			if r >= a.from && r <= a.to {
				continue next
			}
		}
		return r, true
	}
	return 0, false
}
