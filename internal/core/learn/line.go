package learn

import (
	"regexp"
	"strconv"
	"strings"

	"initium/internal/core/teach"
)

// nameMark stands for a mod's name in a kind of line, and wantMark for that of one that it needs.
const (
	nameMark = "\x00"
	wantMark = "initiumwantedmod"

	otherMark = "initiumothermod" // for another mod
)

var digits = regexp.MustCompile(`\b0x[0-9a-fA-F]+\b|\d+([.,:]\d+)*`)

// numbered is a line without what differs from start to start: numbers, times, addresses.
func numbered(said string) string { return digits.ReplaceAllString(said, "0") }

// kindOf is what a line that names a mod has in common with others of its kind that name other mods;
// ok is false when it names it nowhere, as a word of its own or in the name of a file.
func kindOf(said, mod string) (kind string, ok bool) {
	at := teach.NameAt(said, mod)
	if at < 0 || !apart(said, at, len(mod)) {
		return "", false
	}
	return numbered(replaceName(said, mod, nameMark)), true
}

// apart tells whether a name that was found in a line is no piece of another word.
func apart(said string, at, length int) bool {
	return !inWord(said, at-1, false) && !inWord(said, at+length, false)
}

// alone is apart, where an underscore is a letter too.
func alone(said string, at, length int) bool {
	return !inWord(said, at-1, true) && !inWord(said, at+length, true)
}

func inWord(said string, i int, underscore bool) bool {
	if i < 0 || i >= len(said) {
		return false
	}
	c := said[i]
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' && underscore
}

// quoted is a text in quotes.
var quoted = regexp.MustCompile("\"[^\"]+\"|'[^']+'")

// Words that a line is likely to hold which tells that a mod has loaded, that the server is ready, or
// that something is wrong. They decide between lines that the starts do not tell apart.
var (
	loadWords  = regexp.MustCompile(`(?i)\b(un)?(load|enabl|initiali[sz]|regist|activ|attach|plugg|install|mount|start|ready|up\b|on\b)`)
	readyWords = regexp.MustCompile(`(?i)\b(ready|listen|accept|complete|initiali[sz]ed|started|start-up|startup done|online|up and|now running|is running|serving|entering|waiting for)`)
	badWords   = regexp.MustCompile(`(?i)(\bnot\b|n't\b|\bno\b|\bfail|\berr|unable|cannot|missing|unknown|invalid|unsatisf|refus|denied|fatal|exception|bad\b|broken|absent|without|abort|crit)`)
	badLevels  = regexp.MustCompile(`(?i)^(e|err|error|f|fatal|emerg|alert|crit|critical|severe|panic)$`)
	warnLevels = regexp.MustCompile(`(?i)^(w|warn|warning)$`)
)

func speaksOfLoading(kind string) bool {
	return loadWords.MatchString(kind) && !badWords.MatchString(kind)
}

func saysReady(said string) bool { return readyWords.MatchString(said) && !badWords.MatchString(said) }

// bad tells how much a line speaks of a fault.
func bad(m message) (points int) {
	switch {
	case badLevels.MatchString(m.level):
		points += 4
	case warnLevels.MatchString(m.level):
		points += 2
	}
	if badWords.MatchString(m.said) {
		points += 3
	}
	return points
}

// worst is the line that speaks of a fault most, of as many the first.
func worst(list []message) message {
	best := list[0]
	for _, m := range list[1:] {
		if bad(m) > bad(best) {
			best = m
		}
	}
	return best
}

// hasNumber tells whether a number stands in a line by itself.
func hasNumber(said string, n int) bool {
	want := strconv.Itoa(n)
	for rest := said; ; {
		i := strings.Index(rest, want)
		if i < 0 {
			return false
		}
		before, after := byte(' '), byte(' ')
		if i > 0 {
			before = rest[i-1]
		}
		if end := i + len(want); end < len(rest) {
			after = rest[end]
		}
		if (before < '0' || before > '9') && (after < '0' || after > '9') {
			return true
		}
		rest = rest[i+1:]
	}
}

// wanting is a line with a mark in place of the mod that another one needs.
func wanting(line, need string) (marked string, ok bool) {
	at := teach.NameAt(line, need)
	if at < 0 || !apart(line, at, len(need)) {
		return "", false
	}
	return line[:at] + wantMark + line[at+len(need):], true
}

// together is a line with a mark in place of all of some names, which stand one after the other; ok is
// false when they do not.
func together(line string, names []string) (marked string, ok bool) {
	from, to := len(line), 0
	for _, name := range names {
		at := teach.NameAt(line, name)
		if at < 0 || !apart(line, at, len(name)) {
			return "", false
		}
		from, to = min(from, at), max(to, at+len(name))
	}
	between := line[from:to]
	for _, name := range names {
		between = strings.Replace(between, name, "", 1)
	}
	if strings.Trim(between, ` ,;"'`+"`") != "" {
		return "", false
	}
	if from > 0 && to < len(line) && line[from-1] == line[to] && strings.ContainsRune(`"'`, rune(line[to])) {
		from, to = from-1, to+1
	}
	return line[:from] + wantMark + line[to:], true
}

// otherName is a line with the name of another mod in it, wherever it names one.
func otherName(line, mod string) string { return replaceWhere(line, mod, otherMark, apart) }

// replaceName puts another text in the place of a name, wherever that is no piece of another word: of
// one with underscores only where it is nowhere alone.
func replaceName(line, name, by string) string {
	if replaced := replaceWhere(line, name, by, alone); replaced != line {
		return replaced
	}
	return replaceWhere(line, name, by, apart)
}

// replaceWhere puts another text in the place of a name, wherever it stands as it has to.
func replaceWhere(line, name, by string, stands func(line string, at, length int) bool) string {
	if name == "" {
		return line
	}
	var b strings.Builder
	for from := 0; ; {
		i := strings.Index(line[from:], name)
		if i < 0 {
			return b.String() + line[from:]
		}
		at := from + i
		b.WriteString(line[from:at])
		from = at + len(name)
		if stands(line, at, len(name)) {
			b.WriteString(by)
		} else {
			b.WriteString(name)
		}
	}
}

// alike tells whether two kinds of lines have most of their words in common, and begin or end with the
// same one.
func alike(a, b string) bool {
	x, y := strings.Fields(a), strings.Fields(b)
	if len(x) == 0 || len(y) == 0 || x[0] != y[0] && x[len(x)-1] != y[len(y)-1] {
		return false
	}
	have, same := map[string]int{}, 0
	for _, w := range x {
		have[w]++
	}
	for _, w := range y {
		if have[w] > 0 {
			have[w]--
			same++
		}
	}
	return 2*same > max(len(x), len(y))
}

// otherNumbers is a text with other numbers in it, where these stand by themselves.
func otherNumbers(said string) string {
	return lone.ReplaceAllStringFunc(said, func(n string) string {
		if n[len(n)-1] == '9' {
			return n[:len(n)-1] + "8"
		}
		return n[:len(n)-1] + string(n[len(n)-1]+1)
	})
}

var lone = regexp.MustCompile(`\b\d+\b`)
