package lineup

import (
	"fmt"
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
	OpSet        Op = "set"    // give a setting a value
	OpMatch      Op = "match"  // make a list that repeats another the same as that one

	OpNewSection    Op = "new section"    // titled Mod; Where says before which mod, or at the end
	OpRenameSection Op = "rename section" // Mod is the title, To the new one
	OpMoveSection   Op = "move section"   // Mod is the title; Where.Section the one to put it before, "" for the end
)

// Change is one change to a line-up.
type Change struct {
	Op           Op     `json:"op"`
	Mod          string `json:"mod,omitempty"`          // or, for OpSet, the setting
	To           string `json:"to,omitempty"`           // the new name, or the value
	Number       string `json:"number,omitempty"`       // for OpRegister: the mod's catalogue number
	Registration string `json:"registration,omitempty"` // for OpSet: whose file; for OpRegister: which list, "" for the first
	Where        Where  `json:"where,omitzero"`
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
	case OpOff, OpOn:
		return fmt.Sprintf("switch %s %s", mod, c.Op)
	case OpRename:
		return fmt.Sprintf("register %s as %s", mod, text.Clean(c.To))
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
	case OpSet:
		return fmt.Sprintf("set %s to %s", mod, text.Clean(c.To))
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
		return l.applyTo(i, c)
	}
	switch c.Op {
	case OpNewSection, OpRenameSection, OpMoveSection:
		return l.changeSection(c)
	}
	if err := l.writable(c); err != nil {
		return nil, err
	}
	after := l
	for _, i := range l.concerned(c) {
		var err error
		if after, err = after.applyTo(i, c); err != nil {
			return nil, err
		}
	}
	return after, nil
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
	if c.Op == OpRegister {
		name := c.Registration
		if name == "" {
			name = rs[0].Name
		}
		lead[name] = true
	}
	for _, e := range l.Find(c.Mod) {
		lead[leads(&rs[e.Registration])] = true
	}
	if len(lead) == 0 {
		lead[rs[0].Name] = true
	}
	for i := range rs {
		if lead[leads(&rs[i])] && !(rs[i].Optional && l.root(i) < 0) {
			list = append(list, i)
		}
	}
	return list
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
	}, l.Parked), nil
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

func (l *Lineup) changeLine(todo edits, registration int, c Change) error {
	r := &l.Dialect.Registrations[registration]
	have := l.entriesOf(registration, c.Mod)
	if len(have) == 0 && c.Op != OpRegister {
		return l.errNotRegistered(c.Mod)
	}
	switch c.Op {
	case OpRegister:
		if len(have) > 0 {
			return fmt.Errorf("%s is registered already%s", text.Clean(c.Mod), offHint(have))
		}
		name, err := quoteWord(c.Mod, r)
		if err != nil {
			return err
		}
		return l.insertLine(todo, registration, c.Where, strings.ReplaceAll(r.Line, "{mod}", name))
	case OpUnregister:
		for _, e := range have {
			todo.add(e.File, text.DeleteLine(l.Files[e.File].Bytes, e.Line))
		}
	case OpOnce:
		for _, e := range have[1:] {
			todo.add(e.File, text.DeleteLine(l.Files[e.File].Bytes, e.Line))
		}
	case OpOff, OpOn:
		return l.switchLines(todo, r, have, c)
	case OpRename:
		name, err := quoteWord(c.To, r)
		if err != nil {
			return err
		}
		for _, e := range have {
			todo.add(e.File, text.Edit{Span: e.Span, New: name})
		}
	case OpMove:
		return l.moveLine(todo, have[0], c)
	}
	return nil
}

func offHint(have []Entry) string {
	for _, e := range have {
		if e.On {
			return ""
		}
	}
	return ", but switched off; switch it on instead"
}

func (l *Lineup) switchLines(todo edits, r *dialect.Registration, have []Entry, c Change) error {
	changed := false
	for _, e := range have {
		switch {
		case c.Op == OpOff && e.On:
			if r.Comment == "" {
				return fmt.Errorf("the %s has no comments, so a line cannot be switched off in its place", r.Name)
			}
			todo.add(e.File, text.Insert(e.start, r.Comment+" "))
			changed = true
		case c.Op == OpOn && !e.On:
			todo.add(e.File, text.Delete(e.mark))
			return nil // one is enough
		}
	}
	if !changed {
		return fmt.Errorf("%s is %s already", text.Clean(c.Mod), c.Op)
	}
	return nil
}

func quoteWord(name string, r *dialect.Registration) (string, error) {
	comment := r.Comment != "" && strings.HasPrefix(name, r.Comment)
	if !comment && !strings.ContainsAny(name, " \t"+r.Quote) {
		return name, nil
	}
	for _, q := range r.Quote {
		if !strings.ContainsRune(name, q) {
			return string(q) + name + string(q), nil
		}
	}
	return "", fmt.Errorf("the name %q cannot be written in the %s, which has no quotes that could hold it", name, r.Name)
}

// moveLine moves a whole line, as it is written, to another place.
func (l *Lineup) moveLine(todo edits, e Entry, c Change) error {
	if c.Where == (Where{}) {
		return fmt.Errorf("say where to move %s: before or after a mod, or in a section", text.Clean(c.Mod))
	}
	if c.Mod == c.Where.Before || c.Mod == c.Where.After {
		return fmt.Errorf("%s cannot stand before or after itself", text.Clean(c.Mod))
	}
	doc := l.Files[e.File].Bytes
	line := strings.TrimRight(string(e.Line.In(doc)), "\r\n")
	if err := l.insertLine(todo, e.Registration, c.Where, line); err != nil {
		return err
	}
	for file, list := range todo {
		for _, edit := range list {
			if file == e.File && edit.Len() == 0 && (edit.Start == e.Line.Start || edit.Start == e.Line.End) {
				delete(todo, file) // it stands there already
				return nil
			}
		}
	}
	todo.add(e.File, text.DeleteLine(doc, e.Line))
	return nil
}

// insertLine puts a statement at a position. The statement takes over the
// indentation of the line that it is put beside.
func (l *Lineup) insertLine(todo edits, registration int, where Where, statement string) error {
	put := func(file, at int, like *Entry) {
		doc := l.Files[file].Bytes
		if like != nil {
			statement = string(doc[like.Line.Start:like.indentEnd()]) + strings.TrimLeft(statement, " \t")
		}
		todo.add(file, text.InsertLine(doc, at, statement))
	}
	switch {
	case where.Before != "" || where.After != "":
		name := where.Before + where.After
		have := l.entriesOf(registration, name)
		if len(have) == 0 {
			return l.errNotRegistered(name)
		}
		e := have[0]
		if where.Before != "" {
			put(e.File, e.Line.Start, &e)
		} else {
			put(e.File, e.Line.End, &e)
		}
	case where.Section != "":
		section := slices.IndexFunc(l.Sections, func(s Section) bool { return s.Title == where.Section })
		if section < 0 {
			return fmt.Errorf("there is no section %q; there are: %s", text.Clean(where.Section), text.Clean(strings.Join(l.SectionTitles(), ", ")))
		}
		if e := l.last(func(e Entry) bool { return e.Section == section }); e != nil {
			put(e.File, e.Line.End, e)
		} else {
			put(l.Sections[section].File, l.Sections[section].Line.End, nil)
		}
	default:
		root := l.root(registration)
		if e := l.last(func(e Entry) bool { return e.Registration == registration && e.File == root }); e != nil && l.lastMatters(root, e) {
			put(e.File, e.Line.End, e)
		} else {
			put(root, len(l.Files[root].Bytes), nil)
		}
	}
	return nil
}

// lastMatters tells whether the end of the load order is right after the last
// entry of the root file: not when a file that the root reads further down
// registers more.
func (l *Lineup) lastMatters(root int, last *Entry) bool {
	return l.Entries[len(l.Entries)-1].Line == last.Line && l.Entries[len(l.Entries)-1].File == root
}

func (l *Lineup) last(match func(Entry) bool) *Entry {
	for i := len(l.Entries) - 1; i >= 0; i-- {
		if match(l.Entries[i]) {
			return &l.Entries[i]
		}
	}
	return nil
}

// indentEnd is where the indentation of the entry's line ends.
func (e *Entry) indentEnd() int {
	if e.mark.Len() > 0 {
		return e.mark.Start
	}
	return e.start
}

func (l *Lineup) changeKey(todo edits, registration int, c Change) error {
	r := &l.Dialect.Registrations[registration]
	have := l.entriesOf(registration, c.Mod)
	if len(have) == 0 && c.Op != OpRegister && c.Op != OpOff {
		return l.errNotRegistered(c.Mod)
	}
	turn := func(word string, on bool) error {
		changed := false
		for _, e := range have {
			if e.On != on {
				todo.add(e.File, text.Edit{Span: e.value, New: word})
				changed = true
			}
		}
		if !changed {
			return fmt.Errorf("%s is %s already", text.Clean(c.Mod), map[bool]string{true: "on", false: "off"}[on])
		}
		return nil
	}
	switch c.Op {
	case OpRegister:
		switch {
		case c.Where != (Where{}):
			return fmt.Errorf("%s loads mods in an order of its own, so a mod cannot be put at a position", l.Dialect.Title)
		case len(have) > 0 && have[len(have)-1].On:
			return fmt.Errorf("%s is registered already", text.Clean(c.Mod))
		case len(have) > 0:
			return turn(r.On, true)
		}
		l.addKey(todo, registration, strings.ReplaceAll(r.Key, "{mod}", c.Mod), r.On)
	case OpOff:
		if len(have) == 0 {
			l.addKey(todo, registration, strings.ReplaceAll(r.Key, "{mod}", c.Mod), r.Off)
			return nil
		}
		return turn(r.Off, false)
	case OpOn:
		return turn(r.On, true)
	case OpUnregister:
		for _, e := range have {
			todo.add(e.File, text.DeleteLine(l.Files[e.File].Bytes, e.Line))
		}
	case OpOnce:
		for _, e := range have[:len(have)-1] {
			todo.add(e.File, text.DeleteLine(l.Files[e.File].Bytes, e.Line))
		}
	case OpRename:
		for _, e := range have {
			todo.add(e.File, text.Edit{Span: e.Span, New: c.To})
		}
	case OpMove:
		return fmt.Errorf("%s loads mods in an order of its own, so moving %s would change nothing", l.Dialect.Title, text.Clean(c.Mod))
	}
	return nil
}

// addKey writes a new key after the last of its kind, spaced like the line
// before it, or at the end of the file.
func (l *Lineup) addKey(todo edits, registration int, key, value string) {
	r := &l.Dialect.Registrations[registration]
	root := l.root(registration)
	doc := l.Files[root].Bytes
	at := len(doc)
	if e := l.last(func(e Entry) bool { return e.Registration == registration }); e != nil {
		at = e.Line.End
	}
	between := " " + r.Assign + " "
	if lines := text.Lines(doc[:at]); len(lines) > 0 {
		between = spacing(string(lines[len(lines)-1].Text.In(doc)), r.Assign)
	}
	todo.add(root, text.InsertLine(doc, at, key+between+value))
}

// spacing is the assignment mark with the blanks that a line has around it;
// one blank each when the line has no such mark.
func spacing(line, assign string) string {
	key, value, ok := strings.Cut(line, assign)
	if !ok {
		return " " + assign + " "
	}
	left := key[len(strings.TrimRight(key, " \t")):]
	right := value[:len(value)-len(strings.TrimLeft(value, " \t"))]
	return left + assign + right
}

// root is the file that a registration begins with.
func (l *Lineup) root(registration int) int {
	return slices.IndexFunc(l.Files, func(f File) bool { return f.Registration == registration })
}

// set gives a setting a value, or adds it at the end of its file.
func (l *Lineup) set(todo edits, c Change) error {
	if c.To == "" || text.Clean(c.To) != c.To || strings.TrimSpace(c.To) != c.To {
		return fmt.Errorf("the value %q cannot be written: it is empty, or has control characters or a blank at an end", text.Clean(c.To))
	}
	registration := slices.IndexFunc(l.Dialect.Registrations, func(r dialect.Registration) bool { return r.Name == c.Registration })
	if registration < 0 {
		return fmt.Errorf("the dialect %s has no registration %q", l.Dialect.Name, c.Registration)
	}
	r := &l.Dialect.Registrations[registration]
	if s, ok := l.Setting(c.Registration, c.Mod); ok {
		todo.add(s.File, text.Edit{Span: s.Span, New: l.quoteLike(s, c.To)})
		return nil
	}
	line := c.Mod + " " + r.Assign + " " + c.To
	if r.Format == dialect.FormatScript {
		if r.Setting == "" {
			return fmt.Errorf("the %s has no settings", r.Name)
		}
		line = strings.NewReplacer("{name}", c.Mod, "{value}", c.To).Replace(r.Setting)
	}
	root := l.root(registration)
	doc := l.Files[root].Bytes
	todo.add(root, text.InsertLine(doc, text.Begin(doc), line))
	return nil
}

// quoteLike keeps the quotes of the value that is replaced.
func (l *Lineup) quoteLike(s Setting, value string) string {
	doc := l.Files[s.File].Bytes
	if q := doc[s.Span.Start]; s.Span.Len() > len(s.Value) && strings.IndexByte(value, q) < 0 {
		return string(q) + value + string(q)
	}
	return value
}
