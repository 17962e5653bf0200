package lineup

import (
	"fmt"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// readSettings reads those settings of a structured file, or of a launch line,
// that the dialect knows by their place. Scripts and key-value files tell theirs
// line by line, and are read with their mods.
func (l *Lineup) readSettings(file int) {
	f := &l.Files[file]
	r := &l.Dialect.Registrations[f.Registration]
	if r.Format == dialect.FormatText {
		return // its statements tell them
	}
	for _, at := range settingPlaces(l.Dialect, r) {
		if isLaunch(r.Format) && !strings.Contains(at, "{list}") {
			continue // only a parameter with a value can be asked for
		}
		if p, fault := findPiece(r, f.Bytes, at); fault == nil {
			l.Settings = append(l.Settings, Setting{Name: at, Value: p.Value, File: file, Span: p.Text(), piece: &p})
			continue
		}
		if isTree(r.Format) {
			if root, fault := ReadDocument(r.Format, f.Bytes); fault == nil {
				if n := root.Get(at); n != nil && n.Kind == text.NodeScalar {
					l.Settings = append(l.Settings, Setting{Name: at, Value: n.Literal, File: file, Span: n.Span})
				}
			}
		}
	}
}

func isTree(f dialect.Format) bool {
	return f == dialect.FormatJSON || f == dialect.FormatYAML || f == dialect.FormatTOML || f == dialect.FormatXML
}

// settingPlaces are the places in a registration's file where the dialect knows
// settings, each once.
func settingPlaces(d *dialect.Dialect, r *dialect.Registration) (places []string) {
	seen := map[string]bool{}
	add := func(registration, at string) {
		if registration == r.Name && at != "" && !seen[at] {
			seen[at] = true
			places = append(places, at)
		}
	}
	for _, v := range d.Values {
		add(v.Registration, v.Name)
	}
	for _, g := range d.Givens {
		if g.From != nil {
			add(g.From.Registration, g.From.Key)
		}
	}
	for i := range d.Builds {
		add(d.Builds[i].Registration, d.Builds[i].Key)
	}
	return places
}

// set gives a setting a value, or adds it at the end of its file.
func (l *Lineup) set(todo edits, c Change) error {
	if c.To == "" || text.Clean(c.To) != c.To || strings.TrimSpace(c.To) != c.To {
		return fmt.Errorf("the value %q cannot be written: it is empty, or has control characters or a blank at an end", text.Clean(c.To))
	}
	r := l.Dialect.Registration(c.Registration)
	if r == nil {
		return fmt.Errorf("the dialect %s has no registration %q", l.Dialect.Name, c.Registration)
	}
	if s, ok := l.Setting(c.Registration, c.Mod); ok {
		if s.piece == nil {
			todo.add(s.File, text.Edit{Span: s.Span, New: l.quoteLike(s, c.To)})
			return nil
		}
		edits, err := s.piece.Becomes(c.To)
		for _, e := range edits {
			todo.add(s.File, e)
		}
		return err
	}
	line := c.Mod + " " + r.Assign + " " + c.To
	switch {
	case r.Format == dialect.FormatScript:
		form := r.SettingForm(c.Mod)
		if form == "" {
			return fmt.Errorf("the %s has no settings", r.Name)
		}
		line = strings.NewReplacer("{name}", c.Mod, "{value}", c.To).Replace(form)
	case r.Format != dialect.FormatKeyValue:
		return fmt.Errorf("%s is not in the %s; add it by hand, empty, and try again", text.Clean(c.Mod), r.Name)
	}
	var root int
	for i := range l.Dialect.Registrations {
		if l.Dialect.Registrations[i].Name == r.Name {
			root = l.root(i)
		}
	}
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
