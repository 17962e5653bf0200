package dialect

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/text"
)

// Example is a line of a log and what it says: a test that a dialect carries with it.
type Example struct {
	Line  string   `toml:"line"`
	Means Meaning  `toml:"means"` // "" for a line that no rule fits
	Mods  []string `toml:"mods"`  // that it names

	at int // the line of the dialect that it stands on
}

// nothing is what a line means that no rule fits.
const nothing Meaning = "nothing"

func (c *checker) examples(d *Dialect) {
	for i := range d.Examples {
		e, key := &d.Examples[i], fmt.Sprintf("example[%d]", i)
		c.need(key+".line", e.Line)
		oneOf(c, key+".means", &e.Means, nothing, nothing, MeansReady, MeansLoading, MeansLoaded, MeansFailed, MeansNeeds, MeansMissing, MeansStopped, MeansTold, MeansJoined, MeansLeft, MeansIgnore)
		e.at = c.lines[key+".line"]
	}
}

// Says is what a dialect reads in a line of the log that stands by itself: the first rule that fits it,
// nil for none, and the names, or paths, of the mods that it speaks of.
func (d *Dialect) Says(line string) (rule *Rule, mods []string) {
	said := []byte(line)
	var level, source []byte
	if p := d.Log.prefix; p != nil {
		if caps, end, ok := p.MatchPrefix(said, nil); ok {
			level, source = p.Get("level", said, caps), p.Get("source", said, caps)
			said = said[end:]
		}
	}
	said = []byte(strings.TrimRight(string(said), " \t\r\n"))
	for i := range d.Log.Rules {
		r := &d.Log.Rules[i]
		if r.pattern == nil || !r.Counts(level, source) {
			continue
		}
		caps, ok := r.pattern.Match(said, nil)
		if !ok {
			continue
		}
		for _, name := range []string{"mod", "mods", "path"} {
			value := string(r.pattern.Get(name, said, caps))
			if name == "mods" {
				for _, one := range strings.FieldsFunc(value, func(c rune) bool { return c == ',' || c == ' ' }) {
					mods = append(mods, strings.Trim(one, `"'`))
				}
			} else if value != "" {
				mods = append(mods, value)
			}
		}
		return r, mods
	}
	return nil, nil
}

// Untrue are the examples of a dialect that its rules read otherwise than they say.
func (d *Dialect) Untrue() (list Problems) {
	for i := range d.Examples {
		e := &d.Examples[i]
		add := func(format string, args ...any) {
			list = append(list, Problem{Line: e.at, Key: fmt.Sprintf("example[%d].line", i), Message: fmt.Sprintf(format, args...)})
		}
		rule, mods := d.Says(e.Line)
		got := nothing
		if rule != nil {
			got = rule.Means
		}
		if got != e.Means {
			add("is to mean %q, and means %q: %s", string(e.Means), string(got), text.Mask(text.Clean(e.Line), nil))
			continue
		}
		for _, mod := range e.Mods {
			named := func(s string) bool { return s == mod || strings.ContainsAny(s, `/\.`) && strings.Contains(s, mod) }
			if !slices.ContainsFunc(mods, named) {
				add("is to speak of %s, and speaks of %s", text.Clean(mod), text.Clean(strings.Join(mods, ", ")))
			}
		}
	}
	return list
}
