package lineup

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// around is what stands beside a mod's name where it is registered: quotes, a path, an ending.
type around struct{ before, after string }

func (a around) put(name string) string { return a.before + name + a.after }

// aroundIn is what stands around the name in what is written for a mod. Options are a mod's own.
func aroundIn(r *dialect.Registration, written string) around {
	_, at := modIn(r, written)
	after := written[at.End:]
	if i := strings.Index(after, r.Options); r.Options != "" && i >= 0 {
		quote := ""
		if n := len(written); at.Start > 0 && written[0] == written[n-1] { // they end before it
			quote = written[n-1:]
		}
		after = after[:i] + quote
	}
	return around{written[:at.Start], after}
}

// most is what stands around most of the names, in load order; of several that do so equally
// often the one nearest to where a new one goes.
func most(all []around, near int) (a around) {
	counts := map[around]int{}
	for _, one := range all {
		counts[one]++
	}
	best, distance := 0, 0
	for i, one := range all {
		if d := max(near-1-i, i-near); counts[one] > best || counts[one] == best && d < distance {
			a, best, distance = one, counts[one], d
		}
	}
	return a
}

// usualMark is what most of those are hidden by that are off; fallback where none is, or as many
// by that.
func usualMark(marks []string, fallback string) string {
	counts := map[string]int{}
	best := fallback
	for _, m := range marks {
		if counts[m]++; counts[m] > counts[best] {
			best = m
		}
	}
	return best
}

// share is how many have the same around their names.
func share(all []around, a around) (n int) {
	for _, one := range all {
		if one == a {
			n++
		}
	}
	return n
}

// like is what stands for a new mod in a list whose others are written as given: with the path
// and the ending that most of them have. A path into a place that has a way of its own to be
// written is for mods in there only.
func (l *Lineup) like(r *dialect.Registration, name string, others []string, near int) string {
	all := make([]around, 0, len(others))
	for _, o := range others {
		if a := aroundIn(r, o); !l.calledPlace(a.before) {
			all = append(all, a)
		}
	}
	return most(all, min(near, len(all))).put(name)
}

// calledPlace tells whether a path begins as those of mods in one place do.
func (l *Lineup) calledPlace(before string) bool {
	return before != "" && slices.ContainsFunc(l.Dialect.Places, func(p dialect.Place) bool {
		called, ok := l.Vars.Expand(p.Called)
		return ok && called != "" && strings.HasPrefix(before, strings.TrimSuffix(called, "/")+"/")
	})
}

// oddOneOut refuses a name that is written otherwise than all the others: a bare one among names
// of files is one that the server would not find.
func oddOneOut(r *dialect.Registration, name string, others []string) error {
	if len(others) < 2 {
		return nil
	}
	ending := fileEnding(others[0])
	for _, o := range others {
		if ending == "" || fileEnding(o) != ending {
			return nil
		}
	}
	if fileEnding(name) == ending {
		return nil
	}
	return fmt.Errorf("all others in the %s end in %s, and %s does not; register it as %s", r.Name, text.Clean(ending), text.Clean(name), text.Clean(name+ending))
}

// fileEnding is the ending of what looks like the name of a file, "" where it has none.
func fileEnding(name string) string {
	ending := path.Ext(name)
	if len(ending) < 2 || len(ending) > 8 || strings.Trim(ending[1:], "0123456789") == "" {
		return ""
	}
	return ending
}
