package lineup

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// isList tells registrations that are a list in one document.
func isList(r *dialect.Registration) bool {
	return r.Shape != dialect.ShapeLine && !(r.Shape == dialect.ShapeKey && r.Format == dialect.FormatKeyValue)
}

// readList adds the entries of a list to the line-up, those that are parked in
// their old places.
func (l *Lineup) readList(file int) {
	f := &l.Files[file]
	r := &l.Dialect.Registrations[f.Registration]
	if fault := text.NotText(f.Bytes); fault != nil {
		l.problem("file-unreadable", file, fault)
		return
	}
	s, fault := openEditor(r, f.Bytes)
	if fault != nil {
		l.problem("list-unreadable", file, fault)
		return
	}
	f.parsed = true
	if o, ok := s.(interface{ odd() []*text.Fault }); ok {
		for _, fault := range o.odd() {
			l.oddLine(file, fault, true)
		}
	}
	l.readSettings(file)
	if statements, ok := s.(*statementEditor); ok {
		statements.others(l, file)
		for _, set := range statements.read.Settings {
			if set.Off.Len() > 0 {
				continue
			}
			l.seq++
			l.Settings = append(l.Settings, Setting{Name: set.Name, Value: text.Unquoted(string(set.Value.In(f.Bytes))), File: file, Span: set.Value, Seq: l.seq})
		}
	}
	var list []Entry
	for _, e := range s.entries() {
		name, inner := modIn(r, e.name)
		span := e.span
		if span.Len() == len(e.name) {
			span = text.Span{Start: e.span.Start + inner.Start, End: e.span.Start + inner.End}
		}
		value := cmp.Or(e.number, written(r, e.name))
		if r.Shape == dialect.ShapeLink {
			value = leads(f.Path, e.raw)
		}
		list = append(list, Entry{Name: name, Value: value, On: !e.off, Registration: f.Registration, File: file,
			Line: e.line, Span: span, Section: -1, start: e.span.Start})
	}
	list = withParked(list, r.Name, l.Parked, func(e Entry) string { return e.Name }, func(p Parked) Entry {
		return Entry{Name: p.Name, Value: cmp.Or(p.Number, written(r, p.Raw)), Registration: f.Registration, File: file, Section: -1, parked: true}
	})
	l.Entries = append(l.Entries, list...)
}

// modIn finds the mod's name in what stands for it: without quotes, path, ending and
// options.
func modIn(r *dialect.Registration, s string) (name string, at text.Span) {
	at.End = len(s)
	if n := len(s); r.Shape != dialect.ShapeLine && n > 2 && (s[0] == '"' || s[0] == '\'') && s[n-1] == s[0] {
		name, at = modIn(r, s[1:n-1])
		return name, text.Span{Start: at.Start + 1, End: at.End + 1}
	}
	if r.Options != "" {
		if i := strings.Index(s, r.Options); i >= 0 {
			at.End = i
		}
	}
	if r.Paths {
		at.Start = strings.LastIndexAny(s[:at.End], `/\`) + 1
	}
	if r.Suffix != "" && strings.HasSuffix(s[at.Start:at.End], r.Suffix) {
		at.End -= len(r.Suffix)
	}
	return s[at.Start:at.End], at
}

// written is what stands for a mod, without options, where that may be a path.
func written(r *dialect.Registration, s string) string {
	if !r.Paths {
		return ""
	}
	if i := strings.Index(s, r.Options); r.Options != "" && i >= 0 {
		return s[:i]
	}
	return s
}

// listChange is a change to one list, made step by step on its document.
type listChange struct {
	l      *Lineup
	r      *dialect.Registration
	doc    []byte
	editor editor
	parked []Parked
}

// step carries edits out and opens the list anew.
func (c *listChange) step(edits []text.Edit, err error) error {
	if err != nil {
		return err
	}
	if c.doc, err = text.Apply(c.doc, edits); err != nil {
		return err
	}
	s, fault := openEditor(c.r, c.doc)
	if fault != nil {
		return fault
	}
	c.editor = s
	return nil
}

func (c *listChange) index(name string) int {
	return slices.IndexFunc(c.editor.entries(), func(e editorEntry) bool { n, _ := modIn(c.r, e.name); return n == name })
}

func (c *listChange) isParked(name string) int {
	return slices.IndexFunc(c.parked, func(p Parked) bool { return p.Registration == c.r.Name && p.Name == name })
}

// changeList makes a change in a list and returns the new document and what is
// parked then.
func (l *Lineup) changeList(registration int, change Change) (doc []byte, parked []Parked, err error) {
	r := &l.Dialect.Registrations[registration]
	file := l.Files[l.root(registration)]
	c := &listChange{l: l, r: r, doc: file.Bytes, parked: slices.Clone(l.Parked)}
	if err := c.step(nil, nil); err != nil {
		return nil, nil, err
	}
	for i := range l.Entries { // by the name that its file has
		if e := &l.Entries[i]; r.ByPresence() && e.Registration == registration && e.Name == change.Mod && (e.On == (change.Op == OpOff)) {
			change.Mod = l.present(e)
			break
		}
	}
	if err := c.make(change); err != nil {
		return nil, nil, err
	}
	return c.doc, c.parked, nil
}

func (c *listChange) make(change Change) error {
	if change.Op == OpMatch {
		return c.match()
	}
	i, parked := c.index(change.Mod), c.isParked(change.Mod)
	if i < 0 && parked < 0 && change.Op != OpRegister {
		return c.l.errNotRegistered(change.Mod)
	}
	switch change.Op {
	case OpRegister:
		return c.register(change, i, parked)
	case OpUnregister:
		c.leave(change.Mod)
		if parked >= 0 {
			c.parked = slices.Delete(c.parked, parked, parked+1)
		}
		for ; i >= 0; i = c.index(change.Mod) {
			if err := c.step(c.editor.remove(i)); err != nil {
				return err
			}
		}
		if apart, ok := c.editor.(*apartEditor); ok && change.Number != "" {
			return c.step(apart.drop(change.Number))
		}
	case OpOnce:
		for n := c.lastIndex(change.Mod); n > i; n = c.lastIndex(change.Mod) {
			if err := c.step(c.editor.remove(n)); err != nil {
				return err
			}
		}
	case OpMove:
		return c.move(change, i, parked)
	case OpOff, OpOn:
		return c.turn(change, i, parked)
	case OpRename:
		return c.rename(change, i, parked)
	}
	return nil
}

// register puts a mod on the list; i and parked are where it stands already, or negative.
func (c *listChange) register(change Change, i, parked int) error {
	switch {
	case i >= 0 && c.editor.entries()[i].off:
		change.Op = OpOn
		return c.turn(change, i, parked)
	case i >= 0:
		return fmt.Errorf("%s is registered already", text.Clean(change.Mod))
	case parked >= 0:
		return fmt.Errorf("%s is registered already, but switched off; switch it on instead", text.Clean(change.Mod))
	}
	at, err := c.position(change.Where)
	if err != nil {
		return err
	}
	view := c.view()
	to := shelved(view, at)
	name := change.Written
	if name == "" {
		others := c.written()
		name = c.l.like(c.r, change.Mod, others, to)
		if err := oddOneOut(c.r, name, others); err != nil && !c.r.InFolder() && c.r.SameAs == "" {
			return err
		}
	}
	c.comesBefore(view, at, change.Mod)
	return c.step(c.editor.insert(to, name, change.Number, ""))
}

// rename gives a mod another name where it stands, be that on the list or beside it.
func (c *listChange) rename(change Change, i, parked int) error {
	for k := range c.parked {
		if p := &c.parked[k]; p.Registration == c.r.Name && p.After == change.Mod {
			p.After = change.To
		}
	}
	if i < 0 {
		c.parked[parked].Name, c.parked[parked].Raw = change.To, ""
		return nil
	}
	e := c.editor.entries()[i]
	_, at := modIn(c.r, e.name)
	return c.step(c.editor.rename(i, e.name[:at.Start]+change.To+e.name[at.End:]))
}

// written lists what stands for each mod.
func (c *listChange) written() (list []string) {
	for _, e := range c.editor.entries() {
		list = append(list, e.name)
	}
	return list
}

func (c *listChange) lastIndex(name string) int {
	last := -1
	for i, e := range c.editor.entries() {
		if n, _ := modIn(c.r, e.name); n == name {
			last = i
		}
	}
	return last
}

// position turns a place in the order into one in the view.
func (c *listChange) position(w Where) (int, error) {
	view := c.view()
	if c.r.Shape == dialect.ShapeKey && w != (Where{}) {
		return 0, fmt.Errorf("the keys of the %s have no order, so a mod cannot be put at a position", c.r.Name)
	}
	name := w.Before + w.After
	switch {
	case w.Section != "":
		return 0, fmt.Errorf("the %s has no sections", c.r.Name)
	case name == "":
		return len(view), nil
	}
	i := find(view, name)
	if i < 0 {
		return 0, c.l.errNotRegistered(name)
	}
	if w.After != "" {
		i++
	}
	return i, nil
}

func (c *listChange) move(change Change, i, parked int) error {
	switch {
	case change.Where == (Where{}):
		return fmt.Errorf("say where to move %s: before or after a mod", text.Clean(change.Mod))
	case change.Mod == change.Where.Before+change.Where.After:
		return fmt.Errorf("%s cannot stand before or after itself", text.Clean(change.Mod))
	}
	c.leave(change.Mod)
	to, err := c.position(change.Where)
	if err != nil {
		return err
	}
	view := c.view()
	c.comesBefore(view, to, change.Mod)
	if i < 0 { // switched off: only its remembered place changes
		if from := find(view, change.Mod); to != from && to != from+1 {
			c.parked[parked].After = before(view, to)
		}
		return nil
	}
	if to = shelved(view, to); to == i || to == i+1 {
		return nil // it stands there already
	}
	e := c.editor.entries()[i]
	if to > i {
		to--
	}
	if err := c.step(c.editor.remove(i)); err != nil {
		return err
	}
	return c.step(c.editor.insert(to, e.name, e.number, e.raw))
}

func (c *listChange) turn(change Change, i, parked int) error {
	on := change.Op == OpOn
	if s, ok := c.editor.(switcher); ok && i >= 0 {
		if c.editor.entries()[i].off == !on {
			return fmt.Errorf("%s is %s already", text.Clean(change.Mod), change.Op)
		}
		edits, err := s.turn(i, on)
		if !errors.Is(err, errParked) {
			return c.step(edits, err)
		}
	}
	if on == (i >= 0) {
		return fmt.Errorf("%s is %s already", text.Clean(change.Mod), change.Op)
	}
	if !on {
		e := c.editor.entries()[i]
		p := Parked{Registration: c.r.Name, Name: change.Mod, Number: e.number, Raw: e.raw}
		if c.r.Options != "" || c.r.Paths {
			p.Raw = e.name
		}
		view := c.view()
		p.After = before(view, find(view, change.Mod))
		c.parked = append(c.parked, p)
		return c.step(c.editor.remove(i))
	}
	p := c.parked[parked]
	view := c.view()
	at := shelved(view, find(view, change.Mod))
	c.parked = slices.Delete(c.parked, parked, parked+1)
	name := p.Name
	if p.Raw != "" && (c.r.Options != "" || c.r.Paths || c.r.Shape == dialect.ShapeList || c.r.Shape == dialect.ShapeParallel) {
		name = p.Raw
	}
	return c.step(c.editor.insert(at, name, p.Number, p.Raw))
}

// Understood tells whether all that a registration's files say was understood: what is not
// there, or not wholly read, is nothing that another list could go by.
func (l *Lineup) Understood(registration string) bool {
	any := false
	for i := range l.Files {
		if f := &l.Files[i]; l.Dialect.Registrations[f.Registration].Name == registration {
			if !f.parsed || slices.ContainsFunc(l.Problems, func(p Problem) bool { return p.File == i && !p.Harmless }) {
				return false
			}
			any = true
		}
	}
	return any
}

// On lists the mods that are on in a registration, each once, in order.
func (l *Lineup) On(registration string) (names []string) {
	seen := map[string]bool{}
	for _, e := range l.Entries {
		if e.On && l.Dialect.Registrations[e.Registration].Name == registration && !seen[e.Name] {
			seen[e.Name] = true
			names = append(names, e.Name)
		}
	}
	return names
}

// match makes the list the same as the one that it repeats.
func (c *listChange) match() error {
	want := c.l.On(c.r.SameAs)
	for i := len(c.editor.entries()) - 1; i >= 0; i-- {
		if name, _ := modIn(c.r, c.editor.entries()[i].name); !slices.Contains(want, name) {
			if err := c.step(c.editor.remove(i)); err != nil {
				return err
			}
		}
	}
	for to, name := range want {
		i := c.index(name)
		if i == to {
			continue
		}
		raw, number := "", ""
		written := ""
		if i < 0 {
			written = c.l.like(c.r, name, c.written(), to)
		} else {
			e := c.editor.entries()[i]
			raw, number, written = e.raw, e.number, e.name
			if err := c.step(c.editor.remove(i)); err != nil {
				return err
			}
		}
		if err := c.step(c.editor.insert(to, written, number, raw)); err != nil {
			return err
		}
	}
	return nil
}

// LaunchLimit tells how long the longest part of a start script is that has a
// limit, and the limit, in bytes; limit is 0 where there is none. A line of a
// batch file may have 8,191 characters; on Linux one word of a command may have
// 131,072 bytes (execve(2), MAX_ARG_STRLEN).
func (l *Lineup) LaunchLimit(file int) (length, limit int, what string) {
	f := l.Files[file]
	r := &l.Dialect.Registrations[f.Registration]
	switch r.Format {
	case dialect.FormatBatch:
		for _, c := range text.ReadBatch(f.Bytes).Commands {
			length = max(length, c.Len())
		}
		return length, 8191, "the line of this start script"
	case dialect.FormatShell, dialect.FormatUnit, dialect.FormatWords, dialect.FormatCompose:
		for _, c := range readLaunch(r, f.Bytes).Commands {
			for _, w := range c.Words {
				length = max(length, len(w.Value))
			}
		}
		return length, 131072, "a word of this start command"
	}
	return 0, 0, ""
}

// Unfold shows a document of launch lines as words, one a row, with the items of
// the lists in it a row each; ok is false for documents of other formats, which
// are shown as they are.
func (l *Lineup) Unfold(path string, doc []byte) (rows string, ok bool) {
	var lists []*dialect.Registration
	for i, f := range l.Files {
		if r := &l.Dialect.Registrations[f.Registration]; f.Path == path && isLaunch(r.Format) {
			lists = append(lists, &l.Dialect.Registrations[l.Files[i].Registration])
		}
	}
	if len(lists) == 0 {
		return "", false
	}
	launch := readLaunch(lists[0], doc)
	if len(launch.Faults) > 0 {
		return "", false
	}
	var b strings.Builder
	for _, c := range launch.Commands {
		for i, w := range c.Words {
			fmt.Fprintf(&b, "%s%s\n", strings.Repeat("  ", min(i, 1)), unfoldWord(lists, w))
		}
	}
	names := make([]string, 0, len(launch.Variables))
	for name := range launch.Variables {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fmt.Fprintf(&b, "%s=%s\n", name, unfoldWord(lists, launch.Variables[name]))
	}
	return b.String(), true
}

// unfoldWord breaks a word that holds a list after each item.
func unfoldWord(lists []*dialect.Registration, w text.Piece) string {
	for _, r := range lists {
		prefix, _, _ := strings.Cut(r.At, "{")
		if r.Separator != "" && strings.HasPrefix(w.Value, strings.TrimSuffix(prefix, " ")) && strings.Contains(w.Value, r.Separator) {
			head := prefix
			if !strings.HasPrefix(w.Value, prefix) {
				head = ""
			}
			return head + "\n      " + strings.TrimSuffix(strings.ReplaceAll(w.Value[len(head):], r.Separator, r.Separator+"\n      "), "\n      ")
		}
	}
	return w.Value
}

func isLaunch(f dialect.Format) bool {
	switch f {
	case dialect.FormatShell, dialect.FormatBatch, dialect.FormatUnit, dialect.FormatWords, dialect.FormatCompose:
		return true
	}
	return false
}
