package lineup_test

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/text"
	"initium/internal/golden"
	"initium/internal/insist"
)

// written writes a line-up down in full: entries with their places, sections, settings,
// what is not understood, and what is parked.
func written(l *lineup.Lineup) string {
	var b strings.Builder
	for _, e := range l.Entries {
		file, line, column := l.Place(e)
		fmt.Fprintf(&b, "  %q %s:%d:%d on=%v", e.Name, filepath.Base(file), line, column, e.On)
		for _, more := range []struct {
			name, value string
		}{{"value", e.Value}} {
			if more.value != "" && more.value != e.Name {
				fmt.Fprintf(&b, " %s=%q", more.name, more.value)
			}
		}
		if e.Odd {
			b.WriteString(" odd")
		}
		if e.Section >= 0 {
			fmt.Fprintf(&b, " in %q", l.Sections[e.Section].Title)
		}
		b.WriteString("\n")
	}
	for _, s := range l.Settings {
		fmt.Fprintf(&b, "  setting %s=%q seq %d\n", s.Name, s.Value, s.Seq)
	}
	for _, p := range l.Problems {
		fmt.Fprintf(&b, "  problem %s %d:%d %s\n", p.Code, p.Line, p.Column, p.Message)
	}
	for _, p := range l.Parked {
		fmt.Fprintf(&b, "  parked %+v\n", p)
	}
	return b.String()
}

// difference writes down the lines that a change goes from and comes to.
func difference(before, after *lineup.Lineup) string {
	var b strings.Builder
	for i, f := range after.Files {
		old := []byte(nil)
		if i < len(before.Files) && before.Files[i].Path == f.Path {
			old = before.Files[i].Raw()
		}
		a, z := strings.SplitAfter(string(old), "\n"), strings.SplitAfter(string(f.Raw()), "\n")
		for _, c := range text.Diff(old, f.Raw()) {
			for _, line := range a[c.OldFrom:c.OldTo] {
				fmt.Fprintf(&b, "    - %q\n", line)
			}
			for _, line := range z[c.NewFrom:c.NewTo] {
				fmt.Fprintf(&b, "    + %q\n", line)
			}
		}
	}
	for _, p := range after.Parked {
		fmt.Fprintf(&b, "    parked %+v\n", p)
	}
	return b.String()
}

// TestChangesToTheByte makes every kind of change in a file of every notation and shape, and
// in all of the corpus, and holds what comes of it to what was read through once.
func TestChangesToTheByte(t *testing.T) {
	type file struct{ registration, doc string }
	files := map[string]file{}
	for name, r := range registrations {
		files[name] = file{r.toml, r.doc}
	}
	corpus, err := filepath.Glob("testdata/corpus/*.txt")
	insist.OK(t, err)
	for _, name := range corpus {
		data, err := os.ReadFile(name)
		insist.OK(t, err)
		registration, rest, _ := strings.Cut(string(data), "\n-- want --\n")
		_, doc, _ := strings.Cut(rest, "\n-- file --\n")
		files["corpus "+strings.TrimSuffix(filepath.Base(name), ".txt")] = file{registration, doc}
	}
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(files)) {
		f := files[name]
		d, err := dialect.Parse(name, []byte(listDialect(f.registration)))
		insist.Need(t, err == nil, "%s: %v", name, err)
		l := open(d, map[string]string{"/srv/start": f.doc})
		fmt.Fprintf(&b, "== %s\n%s", name, written(l))
		if rows, ok := l.Unfold("/srv/start", []byte(f.doc)); ok {
			fmt.Fprintf(&b, "  unfolded %q\n", rows)
		}
		if length, limit, what := l.LaunchLimit(0); limit > 0 {
			fmt.Fprintf(&b, "  %s: %d of %d\n", what, length, limit)
		}
		var names []string
		for _, e := range l.Entries {
			if !slices.Contains(names, e.Name) {
				names = append(names, e.Name)
			}
		}
		changes := []change{{Op: lineup.OpRegister, Mod: "fresh_one"}, {Op: lineup.OpRegister, Mod: "two words", Number: "77"}, {Op: lineup.OpOn, Mod: "nowhere"}}
		if n := len(names); n > 0 {
			first, middle, last := names[0], names[n/2], names[n-1]
			changes = append(changes, change{Op: lineup.OpRegister, Mod: "fresh_one", Where: lineup.Where{Before: first}}, change{Op: lineup.OpRegister, Mod: "fresh_one", Where: lineup.Where{After: middle}},
				change{Op: lineup.OpMove, Mod: last, Where: lineup.Where{Before: first}}, change{Op: lineup.OpMove, Mod: first, Where: lineup.Where{After: last}}, change{Op: lineup.OpMove, Mod: first, Where: lineup.Where{Before: middle}},
				change{Op: lineup.OpRename, Mod: middle, To: "other_name"}, change{Op: lineup.OpRegister, Mod: middle})
			for _, mod := range []string{first, middle, last} {
				for _, op := range []lineup.Op{lineup.OpUnregister, lineup.OpOff, lineup.OpOn, lineup.OpOnce} {
					changes = append(changes, change{Op: op, Mod: mod})
				}
			}
		}
		seen := map[string]bool{}
		for _, c := range changes {
			what := fmt.Sprint(c)
			if seen[what] {
				continue
			}
			seen[what] = true
			after, err := l.Apply(c)
			if err != nil {
				fmt.Fprintf(&b, "  %s: %v\n", what, err)
				continue
			}
			fmt.Fprintf(&b, "  %s\n%s", what, difference(l, after))
			if c.Op == lineup.OpOff { // and what is off can be moved about, and comes back
				for _, next := range []change{{Op: lineup.OpOn, Mod: c.Mod}, {Op: lineup.OpUnregister, Mod: c.Mod}, {Op: lineup.OpRename, Mod: c.Mod, To: "other_name"}, {Op: lineup.OpMove, Mod: c.Mod, Where: lineup.Where{Before: names[0]}}, {Op: lineup.OpUnregister, Mod: names[0]}} {
					if again, err := after.Apply(next); err != nil {
						fmt.Fprintf(&b, "    then %s: %v\n", next, err)
					} else {
						fmt.Fprintf(&b, "    then %s\n%s", next, difference(after, again))
					}
				}
			}
		}
	}
	golden.Check(t, "changes.txt", strings.ReplaceAll(b.String(), `\t`, "→")) // a tab, so that it is no letter of a word
}
