package teach

import (
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/core/text"
)

// Match is a line that fits a rule.
type Match struct {
	Number int      // of the line, from 1
	Mods   []string // that it speaks of
}

// Try tells what else in a log a rule fits. prefix may be nil.
func Try(prefix *text.Pattern, rule dialect.Rule, lines []string) (list []Match, err error) {
	pattern, err := text.ParsePattern(rule.Line, nil)
	if err != nil {
		return nil, err
	}
	for i, line := range lines {
		said, level, source := Message(prefix, line)
		if !rule.Counts(level, source) {
			continue
		}
		caps, ok := pattern.Match([]byte(said), nil)
		if !ok {
			continue
		}
		m := Match{Number: i + 1}
		for _, hole := range []string{"mod", "mods", "path"} {
			if v := pattern.Get(hole, []byte(said), caps); v != nil {
				m.Mods = append(m.Mods, proof.NamesIn(hole, string(v))...)
			}
		}
		list = append(list, m)
	}
	return list, nil
}

// Words are the words of a line that can be the name of a mod, those that are known
// first.
func Words(prefix *text.Pattern, line string, known func(string) bool) (list []string) {
	said, _, _ := Message(prefix, line)
	var rest []string
	seen := map[string]bool{}
	add := func(w string) {
		w = strings.Trim(w, ".-+")
		if w == "" || seen[w] || number.MatchString(w) {
			return
		}
		seen[w] = true
		if known != nil && known(w) {
			list = append(list, w)
		} else {
			rest = append(rest, w)
		}
	}
	for _, w := range pieces.FindAllString(said, -1) {
		if strings.TrimSpace(w) == "" || len(w) == 1 && !inName(w[0]) {
			continue
		}
		if i := strings.LastIndexByte(w, '.'); i > 0 && known != nil && known(w[:i]) {
			add(w[:i])
		}
		add(w)
	}
	return append(list, rest...)
}

func inName(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c >= 0x80
}
