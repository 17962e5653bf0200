package lineup

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/text"
)

// changeKey makes a change in a registration with a key for each mod.
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
