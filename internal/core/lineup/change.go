package lineup

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// Op is what a change does.
type Op string

// The changes that can be made to a line-up.
const (
	OpRegister   Op = "register"
	OpUnregister Op = "unregister"
	OpMove       Op = "move"
	OpOff        Op = "off"
	OpOn         Op = "on"
	OpRename     Op = "rename" // register under another name
	OpOnce       Op = "once"   // take all but the first of several registrations away
	OpMend       Op = "mend"   // write the line as it was meant that is mistyped, and so does not register
	OpSet        Op = "set"    // give a setting a value
	OpUnset      Op = "unset"  // take a setting out of File
	OpMatch      Op = "match"  // make a list that repeats another the same as that one

	// Changes of files: a line-up alone cannot make them; package app works them out.
	OpTake    Op = "take in"  // Source, in which the mods Mod were found
	OpRemove  Op = "take out" // Mod
	OpRestore Op = "restore"  // the world, from the backup Source
	OpWrite   Op = "write"    // File as Content has it, to the byte
	OpBlock   Op = "replace"  // the block of File that begins with the line Mod by Content
	OpAddTo   Op = "add to"   // Content to the end of the block of File that begins with the line Mod
	OpPutAt   Op = "put at"   // Content in the place of the value at the keys Mod of the JSON document File
	OpScript  Op = "run"      // the script To in Source, or Source itself, on the database File, for Mod
	OpLay     Op = "lay"      // the part Mod of version To, from Source, beside those that are there
	OpPutInto Op = "put into" // the mod Mod into To: a category folder, or another folder that mods stand in
	OpRenew   Op = "renew"    // what the server makes anew by itself: the world, or what its dialect calls Mod
	OpUse     Op = "use"      // the one of version To, or at the path To, of the part Mod
	OpMerge   Op = "merge"    // the entries of Mod into the table File, from Source or from its own files
	OpUnmerge Op = "unmerge"  // the entries of Mod out of the table File

	OpNewSection    Op = "new section"    // titled Mod; Where says before which mod, or at the end
	OpRenameSection Op = "rename section" // Mod is the title, To the new one
	OpMoveSection   Op = "move section"   // Mod is the title; Where.Section the one to put it before, "" for the end
)

// Change is one change to a line-up.
type Change struct {
	Op           Op     `json:"op"`
	Mod          string `json:"mod,omitempty"`          // or, for OpSet, the setting
	To           string `json:"to,omitempty"`           // the new name, or the value
	Number       string `json:"number,omitempty"`       // the mod's catalogue number: for OpRegister, and for OpUnregister where it goes too
	Registration string `json:"registration,omitempty"` // for OpSet: whose file; for OpRegister: which list, "" for the first
	Where        Where  `json:"where,omitzero"`
	File         string `json:"file,omitempty"`    // for changes of settings, files, blocks and tables: the absolute path of the file, where it is not that of a registration
	Line         int    `json:"line,omitempty"`    // and the line, where the setting stands there more than once
	AsSaid       bool   `json:"as_said,omitempty"` // and the value is written as it is said, whatever kind it is of
	Content      []byte `json:"content,omitempty"` // what is written, replaced or added by; it is never shown
	Before       string `json:"before,omitempty"`  // the SHA-256 of what File held when Content was made of it, "" where that does not matter; of OpScript, once it is planned, that of the script
	Written      string `json:"written,omitempty"` // for OpRegister: what stands in place of the bare name, "" for the name

	Source  string   `json:"source,omitempty"`  // of OpTake, OpRestore and OpMerge: an absolute path
	Entries []string `json:"entries,omitempty"` // of OpMerge, once it is planned: what is known by these is the mod's
	Owed    []Owed   `json:"owed,omitempty"`    // of OpTake, once it is planned: what is left to the operator
	Choices *Choices `json:"choices,omitempty"`
}

// Owed is something that a mod wants to be done and that Initium does not do.
type Owed struct {
	Mod   string `json:"mod,omitempty"`
	Path  string `json:"path"` // in what came
	About string `json:"about"`
	Sum   string `json:"sum,omitempty"` // of a script for a database: the SHA-256 of it
}

// OfFiles tells whether a change brings or takes files.
func (c Change) OfFiles() bool {
	return c.Op == OpTake || c.Op == OpRemove || c.Op == OpRestore || c.Op == OpWrite || c.Op == OpMerge || c.Op == OpUnmerge || c.Op == OpScript || c.Op == OpBlock || c.Op == OpAddTo || c.Op == OpPutAt || c.Op == OpLay || c.Op == OpUse || c.Op == OpRenew || c.Op == OpPutInto
}

// Where is a position in the load order. At most one field has a value; none
// means the end.
type Where struct {
	Before  string `json:"before,omitempty"`
	After   string `json:"after,omitempty"`
	Section string `json:"section,omitempty"`
}

// String says a change as an operator would.
func (c Change) String() string {
	mod := text.Clean(c.Mod)
	switch c.Op {
	case OpTake:
		return "take in " + cmp.Or(mod, text.Clean(path.Base(c.Source)))
	case OpRemove:
		return "take out " + mod
	case OpRestore:
		return "restore the world from " + text.Clean(path.Base(c.Source))
	case OpWrite:
		return "write " + text.Clean(path.Base(c.File))
	case OpBlock:
		return fmt.Sprintf("replace the block %q of %s", mod, text.Clean(path.Base(c.File)))
	case OpAddTo:
		return fmt.Sprintf("add to the block %q of %s", mod, text.Clean(path.Base(c.File)))
	case OpPutAt:
		return fmt.Sprintf("put another value at %s of %s", mod, text.Clean(path.Base(c.File)))
	case OpScript:
		return fmt.Sprintf("run %s on %s", text.Clean(path.Base(cmp.Or(c.To, c.Source))), text.Clean(path.Base(c.File)))
	case OpLay:
		return strings.Join(strings.Fields(fmt.Sprintf("bring the %s %s of %s", mod, text.Clean(c.To), text.Clean(path.Base(c.Source)))), " ")
	case OpPutInto:
		return fmt.Sprintf("put %s into %s", mod, text.Clean(c.To))
	case OpRenew:
		return "begin the " + mod + " anew"
	case OpUse:
		return fmt.Sprintf("use the %s %s", mod, text.Clean(c.To))
	case OpMerge:
		return fmt.Sprintf("add the entries of %s to %s", mod, text.Clean(path.Base(c.File)))
	case OpUnmerge:
		return fmt.Sprintf("take the entries of %s out of %s", mod, text.Clean(path.Base(c.File)))
	case OpOff, OpOn:
		return fmt.Sprintf("switch %s %s", mod, c.Op)
	case OpRename:
		return fmt.Sprintf("register %s as %s", mod, text.Clean(c.To))
	case OpMend:
		return "mend the line of " + mod
	case OpOnce:
		return fmt.Sprintf("keep only the first registration of %s", mod)
	case OpNewSection:
		return strings.TrimSpace(fmt.Sprintf("begin a section %q %s", mod, c.Where))
	case OpRenameSection:
		return fmt.Sprintf("call the section %q %q", mod, text.Clean(c.To))
	case OpMoveSection:
		if c.Where.Section == "" {
			return fmt.Sprintf("move the section %q to the end", mod)
		}
		return fmt.Sprintf("move the section %q before %q", mod, text.Clean(c.Where.Section))
	case OpMatch:
		return fmt.Sprintf("make the %s the same as the %s", c.Registration, text.Clean(c.To))
	case OpSet, OpUnset:
		words := "unset " + mod
		if c.Op == OpSet {
			words = fmt.Sprintf("set %s to %s", mod, text.Clean(text.MaskValue(c.Mod, c.To)))
		}
		if c.File != "" {
			words += " in " + text.Clean(path.Base(c.File))
		}
		return words
	}
	return strings.TrimSpace(fmt.Sprintf("%s %s %s", c.Op, mod, c.Where))
}

// String says a position as an operator would.
func (w Where) String() string {
	switch {
	case w.Before != "":
		return "before " + text.Clean(w.Before)
	case w.After != "":
		return "after " + text.Clean(w.After)
	case w.Section != "":
		return "in section " + text.Clean(w.Section)
	}
	return ""
}

// edits are the edits of one change, by file.
type edits map[int][]text.Edit

func (e edits) add(file int, edit text.Edit) { e[file] = append(e[file], edit) }

// Apply makes a change in every registration that it concerns and returns the
// new line-up. The error says why the change cannot be made; then nothing is
// changed.
func (l *Lineup) Apply(c Change) (*Lineup, error) {
	if len(l.Dialect.Registrations) == 0 {
		return nil, fmt.Errorf("the dialect %s has no registration that could be changed", l.Dialect.Name)
	}
	if c.OfFiles() {
		return nil, fmt.Errorf("to %s is no change of a startup file alone", c)
	}
	if c.Op == OpSet {
		todo := edits{}
		if err := l.set(todo, c); err != nil {
			return nil, err
		}
		return l.with(todo)
	}
	if c.Op == OpMatch {
		i := slices.IndexFunc(l.Dialect.Registrations, func(r dialect.Registration) bool { return r.Name == c.Registration })
		if i < 0 || !isList(&l.Dialect.Registrations[i]) {
			return nil, fmt.Errorf("there is no list %q that could be made the same as another", text.Clean(c.Registration))
		}
		if lead := l.Dialect.Registrations[i].SameAs; !l.Understood(lead) {
			return nil, fmt.Errorf("the %s is not understood as a whole, so that nothing can be made the same as it; see what check says", lead)
		}
		return l.applyTo(i, c)
	}
	switch c.Op {
	case OpMend:
		return l.mend(c)
	case OpNewSection, OpRenameSection, OpMoveSection:
		return l.changeSection(c)
	}
	if err := l.writable(c); err != nil {
		return nil, err
	}
	after := l
	concerned := l.concerned(c)
	switch {
	case len(concerned) > 0:
	case c.Op != OpRegister:
		return nil, fmt.Errorf("%s is not registered", text.Clean(c.Mod))
	default:
		return nil, fmt.Errorf("there is no file yet in which %s could be registered; make it first, empty", text.Clean(c.Mod))
	}
	for _, i := range concerned {
		var err error
		if after, err = after.applyTo(i, c); err != nil {
			return nil, err
		}
		if !after.shows(i, c) {
			return nil, fmt.Errorf("the %s would not be read as it is meant after this change, so nothing is changed in it; see what check says", l.Dialect.Registrations[i].Name)
		}
	}
	return after, nil
}

// shows looks in a line-up whether a change has had its effect in a registration.
// Whatever a file holds that was not understood, a change is never half made.
func (l *Lineup) shows(registration int, c Change) bool {
	name := c.Mod
	if c.Op == OpRename {
		name = c.To
	}
	entries := l.entriesOf(registration, name)
	on := slices.ContainsFunc(entries, func(e Entry) bool { return e.On })
	switch c.Op {
	case OpRegister, OpOn:
		return on
	case OpUnregister:
		return len(entries) == 0
	case OpOff: // it can be switched on again, but for what no mod may be called: a comment with such a word is prose
		_, odd := l.Dialect.Names.Forbidden(strings.TrimPrefix(name, "+"))
		return !on && (len(entries) > 0 || odd || l.Dialect.Registrations[registration].Shape != dialect.ShapeLine)
	}
	return len(entries) > 0
}

// applyTo makes a change in one registration.
func (l *Lineup) applyTo(i int, c Change) (*Lineup, error) {
	r := &l.Dialect.Registrations[i]
	if !slices.ContainsFunc(l.Files, func(f File) bool { return f.Registration == i && f.parsed }) {
		return nil, fmt.Errorf("the %s cannot be read, so nothing is changed in it; see what check says", r.Name)
	}
	todo := edits{}
	switch r.Shape {
	case dialect.ShapeLine:
		if err := l.changeLine(todo, i, c); err != nil {
			return nil, err
		}
		return l.with(todo)
	case dialect.ShapeKey:
		if r.Format != dialect.FormatKeyValue {
			break // a list like any other
		}
		if err := l.changeKey(todo, i, c); err != nil {
			return nil, err
		}
		return l.with(todo)
	}
	after := *l
	doc, parked, err := l.changeList(i, c)
	if err != nil {
		return nil, err
	}
	after.Parked = parked
	root := l.root(i)
	todo[root] = text.EditsBetween(l.Files[root].Bytes, doc)
	return after.with(todo)
}

// concerned lists the registrations that a change is made in: for a new mod the
// one that is asked for, else the first, with those that repeat its list; for a
// registered mod those that name it, or repeat a list that does.
func (l *Lineup) concerned(c Change) (list []int) {
	rs := l.Dialect.Registrations
	leads := func(r *dialect.Registration) string {
		if r.SameAs != "" {
			return r.SameAs
		}
		return r.Name
	}
	lead := map[string]bool{}
	for _, e := range l.Find(c.Mod) {
		lead[leads(&rs[e.Registration])] = true
	}
	if c.Op == OpRegister || len(lead) == 0 {
		named := slices.IndexFunc(rs, func(r dialect.Registration) bool { return c.Registration == "" || r.Name == c.Registration })
		if named >= 0 {
			lead[leads(&rs[named])] = true
		}
	}
	for i := range rs {
		if lead[leads(&rs[i])] && !(rs[i].Optional && l.root(i) < 0) {
			list = append(list, i)
		}
	}
	return list
}

// Rewritten is the line-up with other bytes in one of its files.
func (l *Lineup) Rewritten(file string, raw []byte) *Lineup {
	source := l.source
	overlay := map[string][]byte{file: raw}
	for _, f := range l.Files {
		if f.parsed && !f.Missing && f.Path != file {
			overlay[f.Path] = f.Raw()
		}
	}
	return Read(l.Dialect, l.Vars, func(path string) ([]byte, error) {
		if data, ok := overlay[path]; ok {
			return data, nil
		}
		return source(path)
	}, l.Parked).Called(l.called)
}

// with is the line-up after edits.
func (l *Lineup) with(todo edits) (*Lineup, error) {
	overlay := map[string][]byte{}
	for _, f := range l.Files {
		if f.parsed && !f.Missing {
			overlay[f.Path] = f.Raw()
		}
	}
	for file, list := range todo {
		f := l.Files[file]
		changed, err := text.Apply(f.Bytes, list)
		if err != nil {
			return nil, fmt.Errorf("change %s: %w", f.Path, err)
		}
		overlay[f.Path] = text.Encode(changed, f.Encoding)
	}
	source := l.source
	return Read(l.Dialect, l.Vars, func(path string) ([]byte, error) {
		if data, ok := overlay[path]; ok {
			return data, nil
		}
		return source(path)
	}, l.Parked).Called(l.called), nil
}

// writable refuses names that no registration of the family could hold.
func (l *Lineup) writable(c Change) error {
	name := c.Mod
	if c.Op == OpRename {
		name = c.To
	} else if c.Op != OpRegister {
		return nil
	}
	if name == "" {
		return fmt.Errorf("a mod needs a name")
	}
	if strings.TrimSpace(name) != name {
		return fmt.Errorf("the name %q has a blank before or after it", name)
	}
	if text.Clean(name) != name {
		return fmt.Errorf("the name %q holds a character that cannot be written", name)
	}
	if r, bad := l.Dialect.Names.Forbidden(strings.TrimPrefix(name, l.groupMark(name))); bad {
		return fmt.Errorf("the name %q holds %q, which %s does not allow in names (allowed: %s)", name, r, l.Dialect.Title, l.Dialect.Names.Allowed)
	}
	return nil
}

// entriesOf lists the entries of one registration that have a name.
func (l *Lineup) entriesOf(registration int, name string) (entries []Entry) {
	for _, e := range l.Entries {
		if e.Registration == registration && e.Name == name {
			entries = append(entries, e)
		}
	}
	return entries
}
