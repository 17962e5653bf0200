package check

import (
	"fmt"
	"path"
	"strings"

	"initium/internal/core/lineup"
	"initium/internal/core/table"
	"initium/internal/core/text"
)

// Table is a table of the server that mods add entries to.
type Table struct {
	File    string
	Kind    table.Kind
	Needed  bool         // a mod does not work without its entries
	Have    *table.Table // nil where it cannot be read
	Fault   *text.Fault  // why
	Problem string       // or that it is not there
	Ships   []Ships
	Origins []table.Origin
}

// Ships is a file of a mod with entries for a table.
type Ships struct {
	Mod, File string
	Data      []byte
	Problem   string // why the files of the mod could not be looked through, "" where they were
}

// tables looks whether what mods ship is in the server's tables, and whether what mods have brought that are gone
// still is.
func (c *checker) tables() {
	for i := range c.facts.Tables {
		t := &c.facts.Tables[i]
		for _, s := range t.Ships {
			c.ships(t, s)
		}
		c.leftEntries(t)
	}
}

// ships looks at the entries that one file of a mod has.
func (c *checker) ships(t *Table, s Ships) {
	m := c.s.Find(s.Mod)
	if m == nil || !m.On {
		return
	}
	severity := Warning
	if t.Needed {
		severity = Error
	}
	if s.Problem != "" {
		c.add(Finding{Code: CodeDataUnreadable, Severity: Warning, Mod: s.Mod, File: s.File}, "whether it ships entries for tables of the server cannot be told: %s", s.Problem)
		return
	}
	doc, _ := text.Decode(s.Data)
	entries, fault := table.Shipped(doc, t.Kind)
	if fault != nil {
		c.add(Finding{Code: CodeDataUnreadable, Severity: severity, Mod: s.Mod, File: s.File, Line: fault.Line, Column: fault.Column}, "its entries for %s cannot be read: %v", path.Base(t.File), fault)
		return
	}
	change := lineup.Change{Op: lineup.OpMerge, Mod: s.Mod, File: t.File}
	if t.Have == nil {
		why := t.Problem
		if t.Fault != nil {
			why = t.Fault.Error()
		}
		c.add(Finding{Code: CodeDataUnmerged, Severity: severity, Mod: s.Mod, File: t.File}, "it ships %s for %s, which cannot be read: %s", entriesOf(len(entries)), path.Base(t.File), why).
			Remedy = fmt.Sprintf("mend %s, or begin it: initium merge %s %s --base FILE", path.Base(t.File), c.s.Server, text.Clean(s.Mod))
		return
	}
	got := t.Have.Compare(entries)
	var names []string
	for _, e := range got.Fresh {
		names = append(names, e.ID)
	}
	switch {
	case len(got.Fresh) > 0:
		f := c.add(Finding{Code: CodeDataUnmerged, Severity: severity, Mod: s.Mod, File: t.File}, "it ships %s that %s has not: %s", entriesOf(len(got.Fresh)), path.Base(t.File), some(names))
		if len(got.Differ) == 0 {
			f.remedy(change)
		} else {
			f.Remedy = fmt.Sprintf("add them, and say of those that differ which is meant: initium merge %s %s", c.s.Server, text.Clean(s.Mod))
		}
	case len(got.Differ) > 0:
		for _, d := range got.Differ {
			names = append(names, d.Have.ID)
		}
		c.add(Finding{Code: CodeDataDiffers, Severity: Note, Mod: s.Mod, File: t.File, Line: t.Have.Line(got.Differ[0].Have)}, "%s has %s otherwise than it ships them: %s", path.Base(t.File), entriesOf(len(got.Differ)), some(names)).
			Remedy = fmt.Sprintf("see them side by side: initium merge %s %s --show; or accept it with the reason", c.s.Server, text.Clean(s.Mod))
	}
}

// leftEntries tells of entries of mods that are not on the server any more.
func (c *checker) leftEntries(t *Table) {
	if t.Have == nil {
		return
	}
	has := map[string]*table.Entry{}
	for i := range t.Have.Entries {
		has[t.Have.Entries[i].ID] = &t.Have.Entries[i]
	}
	left, line := map[string][]string{}, map[string]int{}
	var mods []string
	needed := map[string]bool{}
	for _, o := range t.Origins {
		m := c.s.Find(o.Mod)
		needed[o.ID] = needed[o.ID] || m != nil && m.Path != ""
	}
	for _, o := range t.Origins {
		e := has[o.ID]
		if e == nil || e.Says() != o.Says || needed[o.ID] {
			continue
		}
		if len(left[o.Mod]) == 0 {
			mods, line[o.Mod] = append(mods, o.Mod), t.Have.Line(*e)
		}
		left[o.Mod] = append(left[o.Mod], o.ID)
	}
	for _, mod := range mods {
		c.add(Finding{Code: CodeDataLeft, Severity: Warning, File: t.File, Line: line[mod]}, "%s has %s of %s, which is not on the server any more: %s", path.Base(t.File), entriesOf(len(left[mod])), mod, some(left[mod])).
			remedy(lineup.Change{Op: lineup.OpUnmerge, Mod: mod, File: t.File})
	}
}

// database tells whether the server's database can be used.
func (c *checker) database() {
	d := c.facts.Database
	if d == nil {
		return
	}
	switch d.State {
	case DatabaseUnset:
		c.add(Finding{Code: CodeDatabaseUnset, Severity: Error}, "%s", d.Said)
	case DatabaseAway:
		c.add(Finding{Code: CodeDatabaseAway, Severity: Error}, "%s", d.Said)
	case DatabaseRefused:
		c.add(Finding{Code: CodeDatabaseRefused, Severity: Error}, "%s", d.Said)
	case DatabaseMissing:
		c.add(Finding{Code: CodeDatabaseMissing, Severity: Error}, "%s", d.Said)
	}
}

// owed tells of what mods want to be done that Initium does not do.
func (c *checker) owed() {
	for _, o := range c.facts.Owed {
		m := c.s.Find(o.Mod)
		if m == nil || m.Path == "" {
			continue
		}
		c.add(Finding{Code: CodeStepLeft, Severity: Warning, Mod: o.Mod, File: m.Path}, "it wants to be done besides: %s (%s)", o.About, o.Path).
			Remedy = c.doing(o)
	}
}

// doing is how something is done that a mod wants.
func (c *checker) doing(o lineup.Owed) string {
	if o.Sum != "" && c.d.Database.Known() {
		return text.Clean(fmt.Sprintf("initium sql %s %s --mod %s, with what it came in", c.s.Server, "SOURCE "+o.Path, o.Mod))
	}
	return fmt.Sprintf("do it, and accept this with what you did: initium accept %s %s %s --because WHY", c.s.Server, CodeStepLeft, text.Clean(o.Mod))
}

// entriesOf is a number of entries in words.
func entriesOf(n int) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}

// some are the first of many names.
func some(names []string) string {
	const most = 5
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return strings.Join(names, ", ")
}
