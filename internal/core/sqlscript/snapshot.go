package sqlscript

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"initium/internal/core/text"
)

// Snapshot is what some of the things in a database are: what the ledger keeps of a database as it keeps the bytes
// of a file. Things are in the order of their kinds and names.
type Snapshot struct {
	Script []Statement `json:"script,omitempty"` // statements that are still to be run on it; what it comes to is not known then
	Things []Thing     `json:"things"`
}

// Thing is a table, or something else that a statement has made.
type Thing struct {
	Kind    Kind       `json:"kind"`
	Name    string     `json:"name"`
	Make    string     `json:"make,omitempty"`    // the statement that makes it, "" where there is no such thing
	Mode    string     `json:"mode,omitempty"`    // the mode of SQL that it is made in
	Of      string     `json:"of,omitempty"`      // the table of a trigger
	Columns []string   `json:"columns,omitempty"` // of a table, without those that are worked out
	Rows    [][][]byte `json:"rows,omitempty"`    // in the order of their bytes; nil is no value
}

// Kind is what a thing in a database is.
type Kind string

// The kinds, in the order in which they are made.
const (
	KindTable     Kind = "table"
	KindView      Kind = "view"
	KindFunction  Kind = "function"
	KindProcedure Kind = "procedure"
	KindTrigger   Kind = "trigger"
	KindEvent     Kind = "event"
)

var kinds = []Kind{KindTable, KindView, KindFunction, KindProcedure, KindTrigger, KindEvent}

// ErrSnapshot is returned for bytes that are no snapshot.
var ErrSnapshot = errors.New("what was kept of the database cannot be read")

// DecodeSnapshot reads what Encode has written.
func DecodeSnapshot(data []byte) (*Snapshot, error) {
	s := &Snapshot{}
	if err := json.Unmarshal(data, s); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSnapshot, err)
	}
	return s, nil
}

// Encode writes a snapshot: the same things always as the same bytes.
func (s *Snapshot) Encode() []byte {
	s.Sort()
	data, err := json.Marshal(s)
	if err != nil {
		panic(err) // there is nothing in it that could fail
	}
	return data
}

// Sort brings things and rows into their order, in which they are compared.
func (s *Snapshot) Sort() {
	for _, t := range s.Things {
		slices.SortFunc(t.Rows, func(a, b [][]byte) int { return slices.CompareFunc(a, b, compareValues) })
	}
	slices.SortFunc(s.Things, func(a, b Thing) int {
		return cmp.Or(slices.Index(kinds, a.Kind)-slices.Index(kinds, b.Kind), strings.Compare(a.Name, b.Name))
	})
}

// compareValues puts no value before an empty one.
func compareValues(a, b []byte) int {
	if (a == nil) != (b == nil) {
		if a == nil {
			return -1
		}
		return 1
	}
	return bytes.Compare(a, b)
}

// find is the thing of a kind and name; one without Make where there is none.
func (s *Snapshot) find(kind Kind, name string) Thing {
	for i := range s.Things {
		if s.Things[i].Kind == kind && s.Things[i].Name == name {
			return s.Things[i]
		}
	}
	return Thing{Kind: kind, Name: name}
}

// Reads tells whether the rows of a table are in it, as far as there is such a table.
func (s *Snapshot) Reads(table string) bool {
	t := s.find(KindTable, table)
	return t.Make == "" || t.Columns != nil
}

// Tables are the names of those that are there.
func (s *Snapshot) Tables() (names []string) {
	for _, t := range s.Things {
		if t.Kind == KindTable && t.Make != "" {
			names = append(names, t.Name)
		}
	}
	return names
}

var definer = regexp.MustCompile("^[^']*? DEFINER ?= ?`((?:[^`]|``)*)`@`((?:[^`]|``)*)`")

// Definer is the user in whose name a thing runs; ok is false where it has none.
func (t *Thing) Definer() (user, at string, ok bool) {
	m := definer.FindStringSubmatch(t.Make)
	if m == nil {
		return "", "", false
	}
	return strings.ReplaceAll(m[1], "``", "`"), strings.ReplaceAll(m[2], "``", "`"), true
}

// Lacks tells whether a thing of that kind and name is not named.
func (s *Snapshot) Lacks(t Thing) bool {
	return !slices.ContainsFunc(s.Things, func(o Thing) bool { return o.Kind == t.Kind && o.Name == t.Name })
}

// Same tells whether two things are alike, to the last row.
func (t *Thing) Same(o *Thing) bool {
	return t.Make == o.Make && t.Mode == o.Mode && slices.Equal(t.Columns, o.Columns) && slices.EqualFunc(t.Rows, o.Rows, func(a, b [][]byte) bool {
		return slices.EqualFunc(a, b, func(x, y []byte) bool { return compareValues(x, y) == 0 })
	})
}

// Like are the things of s that another snapshot names, and those that are not there as things without Make.
func (s *Snapshot) Like(other *Snapshot) *Snapshot {
	only := &Snapshot{}
	for i := range other.Things {
		only.Things = append(only.Things, s.find(other.Things[i].Kind, other.Things[i].Name))
	}
	only.Sort()
	return only
}

// Same tells whether two snapshots say the same of each thing that either names.
func (s *Snapshot) Same(other *Snapshot) bool {
	before, _ := Changed(s, other)
	return len(before.Things) == 0
}

// Changed are the things that are not the same in two snapshots, as either has them. The triggers of a table that
// has changed are among them: they come and go with it.
func Changed(before, after *Snapshot) (was, is *Snapshot) {
	type key struct {
		kind Kind
		name string
	}
	was, is = &Snapshot{}, &Snapshot{}
	seen, tables := map[key]bool{}, map[string]bool{}
	add := func(t *Thing) {
		if k := (key{t.Kind, t.Name}); !seen[k] {
			seen[k] = true
			was.Things = append(was.Things, before.find(t.Kind, t.Name))
			is.Things = append(is.Things, after.find(t.Kind, t.Name))
		}
	}
	each := func(do func(t *Thing)) {
		for _, s := range []*Snapshot{before, after} {
			for i := range s.Things {
				do(&s.Things[i])
			}
		}
	}
	each(func(t *Thing) {
		a, b := before.find(t.Kind, t.Name), after.find(t.Kind, t.Name)
		if !a.Same(&b) {
			add(t)
			tables[t.Name] = tables[t.Name] || t.Kind == KindTable
		}
	})
	each(func(t *Thing) {
		if t.Kind == KindTrigger && tables[t.Of] {
			add(t)
		}
	})
	was.Sort()
	is.Sort()
	return was, is
}

// MergeSnapshots makes the change from base to want in current, a later snapshot that names their things. The error
// names what somebody has changed since.
func MergeSnapshots(base, want, current *Snapshot) (*Snapshot, error) {
	merged := &Snapshot{}
	for _, t := range current.Things {
		was, is := base.find(t.Kind, t.Name), want.find(t.Kind, t.Name)
		switch {
		case was.Same(&is):
			merged.Things = append(merged.Things, t)
		case t.Same(&was):
			merged.Things = append(merged.Things, is)
		case t.Same(&is):
			merged.Things = append(merged.Things, t)
		default:
			return nil, fmt.Errorf("the %s %s has been changed since; take it back by hand, or make a backup and put that back", t.Kind, text.Clean(t.Name))
		}
	}
	merged.Sort()
	return merged, nil
}

// Holds tells whether a snapshot says of all things that another names what that says; false for what is none.
func Holds(data, other []byte) bool {
	a, err := DecodeSnapshot(data)
	b, again := DecodeSnapshot(other)
	return err == nil && again == nil && len(b.Things) > 0 && b.Same(a.Like(b))
}

// Describe says in words what becomes of a database.
func Describe(before, after *Snapshot) (said []string) {
	was, is := Changed(before, after)
	for i := range was.Things {
		a, b := &was.Things[i], &is.Things[i]
		name := string(a.Kind) + " " + text.Clean(a.Name)
		switch {
		case a.Make == "":
			said = append(said, "makes the "+name+rowsOf(b))
		case b.Make == "":
			said = append(said, "drops the "+name+rowsOf(a))
		case a.Make != b.Make && len(a.Rows) == len(b.Rows):
			said = append(said, "changes how the "+name+" is made")
		case a.Same(b): // a trigger that goes with its table
		default:
			said = append(said, fmt.Sprintf("changes the %s: %s, %d before", name, rows(len(b.Rows)), len(a.Rows)))
		}
	}
	return said
}

func rowsOf(t *Thing) string {
	if t.Kind != KindTable {
		return ""
	}
	return ", " + rows(len(t.Rows))
}

func rows(n int) string {
	if n == 1 {
		return "1 row"
	}
	return fmt.Sprintf("%d rows", n)
}
