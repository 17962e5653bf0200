package lineup

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// changeLine makes a change in a registration with a line for each mod.
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
		name, err := l.newWord(registration, c)
		if err != nil {
			return err
		}
		return l.insertLine(todo, registration, c.Where, strings.ReplaceAll(r.Line, "{mod}", name))
	case OpUnregister:
		for _, e := range have {
			todo.add(e.File, text.DeleteLine(l.Files[e.File].Bytes, e.Line))
		}
	case OpOnce:
		stays := counting(have)
		for _, e := range have {
			if e.Line != stays.Line || e.File != stays.File {
				todo.add(e.File, text.DeleteLine(l.Files[e.File].Bytes, e.Line))
			}
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
		return l.moveLine(todo, counting(have), c)
	}
	return nil
}

// newWord is what a new registration has where the name goes: in quotes, behind a path and with
// an ending where most others have them.
func (l *Lineup) newWord(registration int, c Change) (string, error) {
	r := &l.Dialect.Registrations[registration]
	if c.Written != "" {
		return quoteWord(c.Written, r)
	}
	var all []around
	var others []string
	near := 0
	for i := range l.Entries {
		e := &l.Entries[i]
		if e.Registration != registration || !e.On {
			continue
		}
		word, ok := l.wordOf(e)
		if !ok {
			continue
		}
		one := aroundIn(r, word.Value)
		if l.calledPlace(one.before) || e.Group {
			continue
		}
		if word.Len() > len(word.Value) {
			q := string(l.Files[e.File].Bytes[word.Start])
			one = around{q + one.before, one.after + q}
		}
		all, others = append(all, one), append(others, word.Value)
		switch {
		case c.Where == (Where{}) || e.Name == c.Where.After:
			near = len(all)
		case e.Name == c.Where.Before:
			near = len(all) - 1
		}
	}
	a := most(all, near)
	bare := strings.Trim(a.put(c.Mod), r.Quote)
	if err := oddOneOut(r, bare, others); err != nil && l.groupMark(c.Mod) == "" {
		return "", err
	}
	if a.before != "" && strings.IndexByte(r.Quote, a.before[0]) >= 0 && strings.IndexByte(bare, a.before[0]) < 0 {
		return a.put(c.Mod), nil
	}
	return quoteWord(bare, r)
}

// wordOf is the word of a line that names the mod.
func (l *Lineup) wordOf(e *Entry) (word text.Word, ok bool) {
	r := &l.Dialect.Registrations[e.Registration]
	line := e.Line.In(l.Files[e.File].Bytes)
	for _, s := range text.Script(line, text.ScriptStyle{Comment: r.Comment, Quote: r.Quote}) {
		for _, w := range s.Words {
			w.Start, w.End = w.Start+e.Line.Start, w.End+e.Line.Start
			if w.Start <= e.Span.Start && e.Span.End <= w.End {
				return w, true
			}
		}
	}
	return word, false
}

// counting is of several lines of one mod the one that the server goes by: the first that
// is on, else the first.
func counting(have []Entry) Entry {
	return have[max(slices.IndexFunc(have, func(e Entry) bool { return e.On }), 0)]
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
			mark := l.usualMark(e.Registration)
			if scriptWords(strings.Fields(r.Line)).bare() { // with a blank it would be prose
				mark = r.Comment
			}
			todo.add(e.File, text.Insert(e.start, mark))
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

// usualMark is what most lines of a registration are switched off by.
func (l *Lineup) usualMark(registration int) string {
	var marks []string
	for i := range l.Entries {
		if e := &l.Entries[i]; e.Registration == registration && e.mark.Len() > 0 {
			marks = append(marks, string(e.mark.In(l.Files[e.File].Bytes)))
		}
	}
	return usualMark(marks, l.Dialect.Registrations[registration].Comment+" ")
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
			if file == e.File && (edit.Start == e.Line.Start || edit.Start == e.Line.End) {
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
		e := counting(have)
		if where.Before != "" {
			put(e.File, e.Line.Start, &e)
		} else {
			put(e.File, e.Line.End, &e)
		}
	case where.Section != "":
		section := slices.IndexFunc(l.Sections, func(s Section) bool { return s.Title == where.Section })
		if section < 0 {
			return l.noSection(where.Section)
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
