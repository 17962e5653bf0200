// Package plan turns changes into the exact edits that they need, and shows them as
// the lines that will change.
package plan

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/lineup"
	"initium/internal/core/rule"
	"initium/internal/core/text"
)

// Plan is what will be written, before anything is.
type Plan struct {
	Changes []lineup.Change
	Files   []File
	Parts   []Part
	Rules   []rule.Rule     // to be written down with it
	Unrules []rule.Rule     // and to be taken back, as it takes back what brought them
	Given   []Given         // values of the server that change
	Parked  []lineup.Parked // what Initium is to remember as switched off; nil for no change
	Unpark  []lineup.Parked // and what it remembered before
}

// Given is a value of the server that the operator gives, "" where none of his holds.
type Given struct{ Name, Was, Now string }

// String tells the change in words, without a secret.
func (g Given) String() string {
	was, now := g.Shown()
	switch {
	case g.Was == "":
		return g.Name + " is " + now
	case g.Now == "":
		return g.Name + " is no longer " + was
	}
	return g.Name + " is " + now + ", not " + was
}

// Shown are both values as they may be shown.
func (g Given) Shown() (was, now string) {
	return text.MaskValue(g.Name, g.Was), text.MaskValue(g.Name, g.Now)
}

// File is one file of a plan. Its path is absolute.
type File struct {
	Path  string
	New   bool   // there is no such file yet
	Gone  bool   // there will be none
	Old   []byte // what the file holds now; nil when New
	Want  []byte // what it will hold
	Edits []text.Edit
	About []string // of a file that is no text: what happens to it, in words that are safe to show
	List  bool     // Path is a folder, Old and Want its listings: what changes its line gets another name, or, where Path ends in a slash, links come and go
	Form  string   // the field of a web form that the file stands for, "" for a real file

	oldRows, wantRows []byte   // of launch lines: a word on each row; else nil
	secrets           []string // shown to nobody
}

// Between is the plan that brings the files of one line-up to how another has them.
func Between(before, after *lineup.Lineup) *Plan {
	p := &Plan{}
	seen := map[string]bool{} // two registrations may be in one file
	for _, f := range after.Files {
		if seen[f.Path] {
			continue
		}
		seen[f.Path] = true
		file := File{Path: f.Path, New: true, Want: f.Raw()}
		for _, old := range before.Files {
			if old.Path == f.Path && !old.Missing {
				file.New, file.Old = false, old.Raw()
			}
		}
		if f.Missing || !file.New && bytes.Equal(file.Old, file.Want) {
			continue
		}
		file.Edits = text.EditsBetween(file.Old, file.Want)
		file.secrets = append(before.Secrets(), after.Secrets()...)
		file.List = after.Dialect.Registrations[f.Registration].InFolder()
		file.Form = after.Dialect.Registrations[f.Registration].Form
		oldRows, okOld := before.Unfold(f.Path, decoded(file.Old))
		wantRows, okWant := after.Unfold(f.Path, decoded(file.Want))
		if okOld && okWant && !file.New {
			file.oldRows, file.wantRows = []byte(oldRows), []byte(wantRows)
		}
		p.Files = append(p.Files, file)
	}
	if !slices.Equal(before.Parked, after.Parked) {
		p.Parked, p.Unpark = append([]lineup.Parked{}, after.Parked...), append([]lineup.Parked{}, before.Parked...)
	}
	return p
}

func decoded(data []byte) []byte {
	doc, _ := text.Decode(data)
	return doc
}

// Empty reports whether the plan would change nothing.
func (p *Plan) Empty() bool {
	return len(p.Files) == 0 && len(p.Parts) == 0 && p.Parked == nil && len(p.Rules) == 0 && len(p.Unrules) == 0 && len(p.Given) == 0
}

// Renames are the names that change between two listings of a folder, in pairs.
// The error says that something comes or goes, which a listing cannot do.
func Renames(old, want []byte) (pairs [][2]string, err error) {
	for _, c := range text.Diff(old, want) {
		a, b := lines(old)[c.OldFrom:c.OldTo], lines(want)[c.NewFrom:c.NewTo]
		if len(a) != len(b) {
			return nil, errors.New("the folder has changed meanwhile")
		}
		for i := range a {
			pairs = append(pairs, [2]string{a[i], b[i]})
		}
	}
	return pairs, nil
}

// Links tells whether what changes are the links in a folder.
func (f *File) Links() bool { return f.List && strings.HasSuffix(f.Path, "/") }

// Row is one line of a file as a plan shows it. Its text is safe to show.
type Row struct {
	Kind    RowKind
	OldLine int // from 1; 0 for a line that comes in
	NewLine int // from 1; 0 for a line that goes
	Text    string
}

// RowKind says what happens to a line.
type RowKind string

// A line stays, goes, or comes in; or some lines between two changes are left
// out of the picture.
const (
	Stays RowKind = "stays"
	Goes  RowKind = "goes"
	Comes RowKind = "comes"
	Gap   RowKind = "gap"
)

// Rows shows the lines of a file that change, each with up to around lines of
// its surroundings. Launch lines are shown as words, one a row, and the items of
// the lists in them a row each.
func (f File) Rows(around int) []Row {
	if f.About != nil {
		rows := make([]Row, len(f.About))
		for i, said := range f.About {
			rows[i] = Row{Kind: Comes, NewLine: i + 1, Text: said}
		}
		return rows
	}
	if text.IsBinary(f.Old) || text.IsBinary(f.Want) {
		return []Row{{Kind: Comes, NewLine: 1, Text: fmt.Sprintf("a file that is no text, of %d bytes, in the place of one of %d", len(f.Want), len(f.Old))}}
	}
	old, want := f.Old, f.Want
	if f.oldRows != nil {
		old, want = f.oldRows, f.wantRows
	}
	rows := rowsBetween(old, want, around)
	for i := range rows {
		rows[i].Text = f.Masked(rows[i].Text)
	}
	return rows
}

// Hide keeps texts from being shown with the plan's files.
func (p *Plan) Hide(secrets []string) {
	for i := range p.Files {
		p.Files[i].secrets = append(p.Files[i].secrets, secrets...)
	}
}

// Shown are the plan's changes as they may be shown and kept: without the secrets that they set, and
// without what files are to hold.
func (p *Plan) Shown() []lineup.Change {
	list := slices.Clone(p.Changes)
	for i := range list {
		c := &list[i]
		c.Content = nil
		if c.Op != lineup.OpSet {
			continue
		}
		c.To = text.MaskValue(c.Mod, c.To)
		for _, f := range p.Files {
			c.To = f.Masked(c.To)
		}
	}
	return list
}

// Masked hides the secrets in a part of the file that is about to be shown.
func (f File) Masked(s string) string { return text.Mask(s, f.secrets) }

func rowsBetween(old, want []byte, around int) []Row {
	old, _ = text.Decode(old)
	want, _ = text.Decode(want)
	a, b := lines(old), lines(want)
	var rows []Row
	shown, shift := 0, 0 // lines of the old file that are dealt with; new line minus old line
	stay := func(from, to int) {
		for i := from; i < to; i++ {
			rows = append(rows, Row{Stays, i + 1, i + 1 + shift, text.Clean(a[i])})
		}
	}
	for _, c := range text.Diff(old, want) {
		if from := c.OldFrom - around; len(rows) == 0 {
			shown = max(from, 0)
		} else if from > shown+around {
			stay(shown, shown+around)
			rows = append(rows, Row{Kind: Gap})
			shown = from
		}
		stay(shown, c.OldFrom)
		for i := c.OldFrom; i < c.OldTo; i++ {
			rows = append(rows, Row{Goes, i + 1, 0, text.Clean(a[i])})
		}
		for i := c.NewFrom; i < c.NewTo; i++ {
			rows = append(rows, Row{Comes, 0, i + 1, text.Clean(b[i])})
		}
		shown, shift = c.OldTo, c.NewTo-c.OldTo
	}
	if len(rows) > 0 {
		stay(shown, min(shown+around, len(a)))
	}
	return rows
}

func lines(doc []byte) []string {
	all := strings.SplitAfter(strings.TrimPrefix(string(doc), "\ufeff"), "\n")
	if n := len(all) - 1; all[n] == "" {
		all = all[:n]
	}
	for i := range all {
		all[i] = strings.TrimRight(all[i], "\r\n")
	}
	return all
}
