package teach

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// Example is a line and the mod that it speaks of.
type Example struct {
	Line string
	Mod  string // "" for what is about no mod, such as that the server is ready
}

// Lesson is what an operator has said of some lines.
type Lesson struct {
	Means    dialect.Meaning
	Examples []Example
	Counter  []string // lines that do not mean it
}

// Errors of Propose.
var (
	ErrNoExample = errors.New("no line was pointed at")
	ErrTooWide   = errors.New("what is left in common is too little: almost any line would fit; point at lines of one kind")
	ErrBlank     = errors.New("the name has a blank in it and no quotes around it, so that a rule cannot tell where it ends")
)

// Propose makes the rule that fits all examples and none of the lines that do not
// mean it. prefix may be nil.
func Propose(prefix *text.Pattern, l Lesson) (dialect.Rule, error) {
	if len(l.Examples) == 0 {
		return dialect.Rule{}, ErrNoExample
	}
	var problem error
	for _, exact := range []bool{false, true} { // numbers as they are, if nothing else helps
		line, err := common(prefix, l, exact)
		if err != nil {
			problem = err
			continue
		}
		level, source := inCommon(prefix, l)
		for _, held := range [][2]string{{"", ""}, {level, ""}, {"", source}, {level, source}} {
			rule := dialect.Rule{Means: l.Means, Line: line, Level: held[0], Source: held[1]}
			counter, err := holds(prefix, rule, l)
			if err == nil {
				return rule, nil
			}
			if problem = err; !counter {
				break
			}
		}
	}
	return dialect.Rule{}, problem
}

// inCommon are the level and the source that all examples have, "" for what they have not
// in common.
func inCommon(prefix *text.Pattern, l Lesson) (level, source string) {
	for i, e := range l.Examples {
		_, itsLevel, itsSource := Message(prefix, e.Line)
		if i == 0 {
			level, source = string(itsLevel), string(itsSource)
		}
		if string(itsLevel) != level {
			level = ""
		}
		if string(itsSource) != source {
			source = ""
		}
	}
	return level, source
}

// holds tells whether a rule fits as it should; counter tells that it fits a line that
// does not mean it.
func holds(prefix *text.Pattern, rule dialect.Rule, l Lesson) (counter bool, err error) {
	pattern, err := text.ParsePattern(rule.Line, nil)
	if err != nil {
		return false, err
	}
	for _, e := range l.Examples {
		if !Fits(prefix, &rule, pattern, e.Line) {
			return false, fmt.Errorf("no rule fits the line %q", text.Clean(e.Line))
		}
	}
	for _, line := range l.Counter {
		if Fits(prefix, &rule, pattern, line) {
			return true, fmt.Errorf("no rule of this kind fits the examples and not the line %q", text.Clean(line))
		}
	}
	return false, nil
}

// Fits tells whether a line fits a rule, whose Line is that pattern.
func Fits(prefix *text.Pattern, rule *dialect.Rule, pattern *text.Pattern, line string) bool {
	said, level, source := Message(prefix, line)
	if !rule.Counts(level, source) {
		return false
	}
	_, ok := pattern.Match([]byte(said), nil)
	return ok
}

// Message is what a line says after what stands before it, and the level and the source
// that stand there.
func Message(prefix *text.Pattern, line string) (said string, level, source []byte) {
	if prefix != nil {
		if caps, end, ok := prefix.MatchPrefix([]byte(line), nil); ok {
			line, level, source = line[end:], prefix.Get("level", []byte(line), caps), prefix.Get("source", []byte(line), caps)
		}
	}
	return strings.TrimRight(line, " \t\r"), level, source
}

// token is a piece of a message: a text that is meant as it stands, or a placeholder.
type token struct {
	text string
	hole string // "" for a text
}

var (
	pieces  = regexp.MustCompile(`[\pL\pN_.+\-]+|\s+|.`)
	number  = regexp.MustCompile(`^[vV]?\d[\d.,:x_-]*[\pL\d+-]*$|^0x[0-9a-fA-F]+$`)
	seconds = regexp.MustCompile(`^(s|sec|secs|second|seconds)$`)
	millis  = regexp.MustCompile(`^(ms|msec|millis|milliseconds)$`)
	plain   = regexp.MustCompile(`^\d+(\.\d+)?$`)
	joined  = regexp.MustCompile(`^(\d+(?:\.\d+)?)(ms|s)$`)
)

// common is what all examples have in common, with placeholders for the rest.
func common(prefix *text.Pattern, l Lesson, exact bool) (string, error) {
	var tokens []token
	for i, e := range l.Examples {
		said, _, _ := Message(prefix, e.Line)
		these, err := tokensOf(said, e.Mod, l.Means, exact)
		if err != nil {
			return "", err
		}
		if i == 0 {
			tokens = these
		} else {
			tokens = align(tokens, these)
		}
	}
	return write(tokens, l.Means)
}

// tokensOf takes a message apart, with the mod's name as a placeholder and, unless it
// is to be exact, one for every number.
func tokensOf(said, mod string, means dialect.Meaning, exact bool) (tokens []token, err error) {
	rest := said
	if mod != "" {
		at := NameAt(said, mod)
		if at < 0 {
			return nil, fmt.Errorf("the line does not name %s: %q", text.Clean(mod), text.Clean(said))
		}
		start, end, hole := holeFor(said, at, at+len(mod))
		if strings.ContainsAny(mod, " \t") {
			if hole != "mod" || start == 0 || end == len(said) || said[start-1] != said[end] || !strings.ContainsRune(`"'`, rune(said[end])) {
				return nil, ErrBlank
			}
			start, end, hole = start-1, end+1, "mods" // which are read with their quotes
		}
		switch means {
		case dialect.MeansReady, dialect.MeansStopped, dialect.MeansIgnore, dialect.MeansTold, dialect.MeansJoined, dialect.MeansLeft: // about no mod
			hole = "any"
		case dialect.MeansLoading:
			if hole == "path" { // which only ends are known by
				start, end, hole = at, at+len(mod), "mod"
			}
		}
		tokens = append(split(said[:start], mod, exact), token{hole: hole})
		rest = said[end:]
		if means == dialect.MeansFailed || means == dialect.MeansNeeds {
			if before, _, ok := strings.Cut(rest, ": "); ok && len(before) < len(rest)-2 {
				behind := map[dialect.Meaning]string{dialect.MeansFailed: "reason", dialect.MeansNeeds: "mods"}[means]
				return append(append(tokens, split(before+": ", mod, exact)...), token{hole: behind}), nil
			}
		}
	} else if means == dialect.MeansStopped {
		if before, _, ok := strings.Cut(rest, ": "); ok {
			return append(split(before+": ", "", exact), token{hole: "reason"}), nil
		}
	}
	tokens = times(append(tokens, split(rest, mod, exact)...), means)
	if !exact {
		tokens = anyTime(tokens)
	}
	return tokens, nil
}

// NameAt finds a name as a whole word, else wherever it is; -1 for nowhere.
func NameAt(s, name string) int {
	if name == "" {
		return -1
	}
	inWord := func(i int) bool { return i >= 0 && i < len(s) && inName(s[i]) }
	for from := 0; ; {
		i := strings.Index(s[from:], name)
		if i < 0 {
			return strings.Index(s, name)
		}
		if at := from + i; !inWord(at-1) && !inWord(at+len(name)) {
			return at
		}
		from += i + 1
	}
}

// ending is that of a file which is named after a mod.
var ending = regexp.MustCompile(`^\.[a-z]{1,5}\b`)

// holeFor is what stands for a name: the name, or the whole path that it is a part of.
func holeFor(s string, start, end int) (from, to int, hole string) {
	from, to = start, end
	for from > 0 && !strings.ContainsRune(" \t\"'()[]<>=,;:", rune(s[from-1])) {
		from--
	}
	for to < len(s) && !strings.ContainsRune(" \t\"'()[]<>=,;:", rune(s[to])) {
		to++
	}
	if strings.ContainsAny(s[from:to], `/\`) || ending.MatchString(s[end:]) && from == start {
		if to > end && s[to-1] == '.' { // of the sentence
			to--
		}
		return from, to, "path"
	}
	return start, end, "mod"
}

func split(s, mod string, exact bool) (tokens []token) {
	for _, p := range pieces.FindAllString(s, -1) {
		switch {
		case p == mod || !exact && number.MatchString(p) && !joined.MatchString(p):
			tokens = append(tokens, token{text: p, hole: "any"})
		default:
			tokens = append(tokens, token{text: p})
		}
	}
	return undated(tokens)
}

// dayName is that of a month or a day of the week.
var dayName = regexp.MustCompile(`^(?i)(jan|feb|mar|apr|may|jun|jul|aug|sept?|oct|nov|dec|mon|tue|wed|thu|fri|sat|sun)[a-z]*$`)

// undated has the names of months and days beside numbers stand for any.
func undated(tokens []token) []token {
	number := func(i, by int) bool {
		for i += by; i >= 0 && i < len(tokens) && tokens[i].hole == "" && strings.TrimSpace(tokens[i].text) == ""; i += by {
		}
		return i >= 0 && i < len(tokens) && tokens[i].hole == "any"
	}
	for i := range tokens {
		if t := &tokens[i]; t.hole == "" && dayName.MatchString(t.text) && (number(i, -1) || number(i, 1)) {
			t.hole = "any"
		}
	}
	return tokens
}

// anyTime has what is left of times stand for any.
func anyTime(tokens []token) []token {
	for i := range tokens {
		if t := &tokens[i]; joined.MatchString(t.text) {
			t.hole = "any"
		}
	}
	return tokens
}

// times finds the time that a mod took to load.
func times(tokens []token, means dialect.Meaning) []token {
	if means != dialect.MeansLoaded {
		return tokens
	}
	for i := range tokens {
		t := &tokens[i]
		if m := joined.FindStringSubmatch(t.text); m != nil && t.hole == "" {
			unit := m[2]
			return slices.Concat(tokens[:i], []token{{text: m[1], hole: unit}, {text: unit}}, tokens[i+1:])
		}
		next := i + 1
		if next < len(tokens) && strings.TrimSpace(tokens[next].text) == "" {
			next++
		}
		if !plain.MatchString(t.text) || next >= len(tokens) {
			continue
		}
		switch {
		case millis.MatchString(tokens[next].text):
			t.hole = "ms"
			return tokens
		case seconds.MatchString(tokens[next].text):
			t.hole = "s"
			return tokens
		}
	}
	return tokens
}

// align keeps what two messages have in common, in order: the longest common
// subsequence of their tokens. What differs becomes a placeholder.
func align(a, b []token) (tokens []token) {
	same := func(x, y token) bool {
		return x.hole == y.hole && (x.hole != "" || x.text == y.text)
	}
	long := make([][]int, len(a)+1)
	for i := range long {
		long[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if same(a[i], b[j]) {
				long[i][j] = long[i+1][j+1] + 1
			} else {
				long[i][j] = max(long[i+1][j], long[i][j+1])
			}
		}
	}
	gap := func() {
		if n := len(tokens); n == 0 || tokens[n-1].hole != "any" {
			tokens = append(tokens, token{hole: "any"})
		}
	}
	i, j := 0, 0
	for i < len(a) && j < len(b) {
		switch {
		case same(a[i], b[j]):
			tokens = append(tokens, a[i])
			i, j = i+1, j+1
		case long[i+1][j] >= long[i][j+1]:
			gap()
			i++
		default:
			gap()
			j++
		}
	}
	if i < len(a) || j < len(b) {
		gap()
	}
	return tokens
}

// write puts a rule's line together. Placeholders that touch become one; blanks
// between two that stand for anything are no text to part them by.
func write(tokens []token, means dialect.Meaning) (string, error) {
	var b strings.Builder
	var last, words string
	for i, t := range tokens {
		if t.hole == "" {
			blank := strings.TrimSpace(t.text) == ""
			if blank && last == "any" && i+1 < len(tokens) && tokens[i+1].hole == "any" {
				continue
			}
			b.WriteString(escape(t.text))
			if last = ""; !blank {
				words += t.text
			}
			continue
		}
		switch {
		case last == "any" && t.hole == "any":
			continue
		case last != "":
			return "", fmt.Errorf("nothing parts the name from what is next to it, so that a rule cannot tell where it ends")
		}
		b.WriteString("{" + t.hole + "}")
		last = t.hole
	}
	const least = 3
	if letters := regexp.MustCompile(`\pL`).FindAllString(words, -1); len(letters) < least && (means != dialect.MeansIgnore || words == "") { // a row of dashes may be ignored; all lines may not
		return "", ErrTooWide
	}
	return b.String(), nil
}
