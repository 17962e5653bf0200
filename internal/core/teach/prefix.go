// Package teach makes the rules of a dialect from examples: a line of a log and what
// it says, or the name of a mod in a startup file.
package teach

import (
	"bytes"
	"regexp"
	"slices"
	"strings"

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
	mostLines   = 0.8
	headLines   = 5000
	prefixReach = 70 // bytes after the time
	maxValues   = 40 // different texts in one place of it
)

// field is a text between what is the same in all lines: no longer than a few words.
var field = regexp.MustCompile(`^[\pL\pN_.:/@+\- ]{1,40}?$`)

// levels are how programs call the weight of a message.
var levels = []string{"trace", "debug", "verbose", "info", "information", "notice", "action", "warn", "warning", "error", "severe", "err", "critical", "fatal", "panic",
	"t", "d", "v", "i", "n", "w", "e", "f", "c"}

// FindPrefix finds what stands before the messages of a log: a time, and perhaps the
// weight of the message and who says it.
func FindPrefix(lines []string) Prefix {
	timed := timedLines(lines)
	if float64(len(timed)) < mostLines/2*float64(min(len(lines), headLines)) || len(timed) < 2 {
		return Prefix{}
	}
	best, layout := prefixOf(timed)
	return Prefix{best, layout}
}

// timedLine is a line that begins with a time.
type timedLine struct{ before, time, after string }

func timedLines(lines []string) (list []timedLine) {
	for _, line := range lines[:min(len(lines), headLines)] {
		if start, end, ok := proof.Opening([]byte(line)); ok {
			list = append(list, timedLine{line[:start], line[start:end], line[end:]})
		}
	}
	return list
}

// prefixOf tries every way of going on after the time that some line shows, and takes
// the longest that most lines have.
func prefixOf(timed []timedLine) (pattern, layout string) {
	before := timed[0].before
	enough := int(mostLines * float64(len(timed)))
	best := ""
	for _, shape := range shapes(timed[:min(len(timed), 40)]) {
		count := 0
		values := make([]map[string]bool, strings.Count(shape, "\x00"))
		for _, l := range timed {
			if l.before != before {
				continue
			}
			if fields, ok := fitsShape(l.after, shape); ok {
				count++
				for i, f := range fields {
					if values[i] == nil {
						values[i] = map[string]bool{}
					}
					values[i][f] = true
				}
			}
		}
		few := !slices.ContainsFunc(values, func(v map[string]bool) bool { return len(v) > min(maxValues, max(count/3, 3)) })
		if count >= max(enough, 2) && few && len(shape) > len(best) {
			best = shape
		}
	}
	if best == "" {
		return "", ""
	}
	if _, found, ok := proof.Moment(timed[0].time, ""); ok {
		layout = strings.TrimSuffix(found, ".999999999")
		if fraction := timed[0].time[strings.LastIndexAny(timed[0].time, ".,")+1:]; found != layout && len(fraction) < len(timed[0].time) && isDigits(fraction) {
			layout += "." + strings.Repeat("0", len(fraction))
		}
	}
	return escape(before) + "{time}" + named(best, timed, before), layout
}

func isDigits(s string) bool {
	return s != "" && strings.Trim(s, "0123456789") == ""
}

// marks are what parts what stands before a message from it.
var marks = []string{"]: ", "] ", ": ", " | ", " - ", "> ", ") ", "\t", " "}

func isLevel(s string) bool { return slices.Contains(levels, strings.ToLower(s)) }

// shapes are the ways in which lines go on after the time: the same text, and a zero
// byte in place of what differs, with a one after it where that has to be a weight.
func shapes(timed []timedLine) (list []string) {
	seen := map[string]bool{}
	add := func(s string) {
		if !seen[s] {
			seen[s] = true
			list = append(list, s)
		}
	}
	for _, l := range timed {
		for _, first := range marks {
			if strings.HasPrefix(l.after, first) {
				grow(first, l.after[len(first):], 0, add)
			}
		}
	}
	return list
}

// grow adds a shape, and those that go on with one more field.
func grow(shape, rest string, fields int, add func(string)) {
	add(shape)
	const most = 3
	if fields == most || len(rest) == 0 {
		return
	}
	rest = rest[:min(len(rest), prefixReach)]
	open := ""
	if strings.ContainsRune("[(<", rune(rest[0])) {
		open, rest = rest[:1], rest[1:]
	}
	for _, mark := range append([]string{"/", "][", "["}, marks...) {
		at := strings.Index(rest, mark)
		if at <= 0 || !field.MatchString(rest[:at]) || mark == " " && strings.Contains(rest[:at], " ") {
			continue
		}
		hole := "\x00"
		if mark == " " && open == "" { // the first word of a message looks the same
			if !isLevel(rest[:at]) {
				continue
			}
			hole = "\x00\x01"
		}
		grow(shape+open+hole+mark, rest[at+len(mark):], fields+1, add)
	}
}

// fitsShape takes the fields of a line out by a shape.
func fitsShape(s, shape string) (fields []string, ok bool) {
	parts := strings.Split(shape, "\x00")
	rest, ok := strings.CutPrefix(s, parts[0])
	if !ok {
		return nil, false
	}
	for _, part := range parts[1:] {
		part, level := strings.CutPrefix(part, "\x01")
		at := strings.Index(rest, part)
		if at <= 0 || !field.MatchString(rest[:at]) || level && !isLevel(rest[:at]) {
			return nil, false
		}
		fields, rest = append(fields, rest[:at]), rest[at+len(part):]
	}
	return fields, true
}

// named gives the fields of a shape their names: the weight of the message, and who
// says it.
func named(shape string, timed []timedLine, before string) string {
	parts := strings.Split(shape, "\x00")
	var b bytes.Buffer
	b.WriteString(escape(parts[0]))
	level, source := false, false
	for i, part := range parts[1:] {
		weights, blank, n := 0, false, 0
		for _, l := range timed {
			if fields, ok := fitsShape(l.after, shape); ok && l.before == before {
				n++
				blank = blank || strings.Contains(fields[i], " ")
				if isLevel(fields[i]) {
					weights++
				}
			}
		}
		switch {
		case !level && !blank && weights > n/2:
			b.WriteString("{level}")
			level = true
		case !source:
			b.WriteString("{source}")
			source = true
		default:
			b.WriteString("{any}")
		}
		b.WriteString(escape(strings.TrimPrefix(part, "\x01")))
	}
	return b.String()
}

// escape doubles the braces of a text that is meant as it stands.
func escape(s string) string { return strings.NewReplacer("{", "{{", "}", "}}").Replace(s) }
