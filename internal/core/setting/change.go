package setting

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/text"
)

// ErrNotSet is returned when there is nothing of a name.
var ErrNotSet = errors.New("it is not set here")

// Set gives a setting another value in a file, or sets what was not: where it stands in a comment it is
// put in force there. line tells apart what is set more than once; 0 where it is not. kept writes the
// value as it is said, whatever stands there. The new document differs in nothing else: it is read
// again, and what is not as it was meant is an error, as is a name that is set twice.
func Set(doc []byte, n Notation, name, value string, line int, kept bool) ([]byte, error) {
	if text.Clean(value) != value {
		return nil, fmt.Errorf("the value %q cannot be written: it has control characters or a line break in it", text.Clean(value))
	}
	list, fault := Read(doc, n)
	if fault != nil {
		return nil, fault
	}
	at, err := find(list, name, line)
	if errors.Is(err, ErrNotSet) {
		at = hiddenOf(list, name, line)
	} else if err != nil {
		return nil, err
	}
	var edits []text.Edit
	if at < 0 {
		edits, err = add(doc, n, list, name, value)
	} else {
		if !kept && !list[at].Off {
			if value, err = AsBefore(value, list[at].Value); err != nil {
				return nil, fmt.Errorf("%s: %w", text.Clean(name), err)
			}
		}
		edits, err = list[at].becomes(doc, n, value)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", text.Clean(name), err)
	}
	return checked(doc, edits, n, list, at, name, &value)
}

// Unset takes a setting out of a file, the whole line where it has one. Otherwise as Set.
func Unset(doc []byte, n Notation, name string, line int) ([]byte, error) {
	list, fault := Read(doc, n)
	if fault != nil {
		return nil, fault
	}
	at, err := find(list, name, line)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", text.Clean(name), err)
	}
	edits, err := list[at].gone(doc, n)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", text.Clean(name), err)
	}
	return checked(doc, edits, n, list, at, name, nil)
}

// find is the one place at which a name is set.
func find(list []Setting, name string, line int) (int, error) {
	var at []int
	for i := range list {
		if list[i].Name == name && !list[i].Off && (line == 0 || list[i].Line == line) {
			at = append(at, i)
		}
	}
	switch len(at) {
	case 0:
		return -1, ErrNotSet
	case 1:
		return at[0], nil
	}
	lines := make([]string, len(at))
	for i, k := range at {
		lines[i] = fmt.Sprint(list[k].Line)
	}
	return -1, fmt.Errorf("it is set on the lines %s; say which is meant", strings.Join(lines, ", "))
}

// hiddenOf is where a name stands in a comment, -1 for nowhere.
func hiddenOf(list []Setting, name string, line int) int {
	return slices.IndexFunc(list, func(s Setting) bool { return s.Off && s.Name == name && (line == 0 || s.Line == line) })
}

// checked is the document after edits, if that reads as it is meant: the setting with its value, or
// without it where value is nil, and all others as they were.
func checked(doc []byte, edits []text.Edit, n Notation, before []Setting, at int, name string, value *string) ([]byte, error) {
	out, err := text.Apply(doc, edits)
	if err != nil {
		return nil, err
	}
	after, fault := Read(out, n)
	if fault != nil {
		return nil, fmt.Errorf("with this change the file could not be read any more (%v), so nothing is changed", fault)
	}
	type said struct {
		name, value string
		off         bool
	}
	plain := func(list []Setting) (all []said) {
		for _, s := range list {
			all = append(all, said{s.Name, s.Value, s.Off})
		}
		return all
	}
	was, is := plain(before), plain(after)
	if at >= 0 {
		was = slices.Delete(was, at, at+1)
	}
	if value != nil {
		i := slices.IndexFunc(is, func(s said) bool { return s == said{name, *value, false} })
		if i < 0 {
			return nil, fmt.Errorf("%q would not be read as it is meant here, so nothing is changed", text.Clean(*value))
		}
		is = slices.Delete(is, i, i+1)
	}
	if !slices.Equal(was, is) {
		return nil, errors.New("other settings would be read otherwise after this change, so nothing is changed")
	}
	return out, nil
}

// becomes are the edits that give a setting a value, and put it in force.
func (s *Setting) becomes(doc []byte, n Notation, value string) (edits []text.Edit, err error) {
	bare := n.Format == dialect.FormatYAML && KindOf(s.Value) == Flag && KindOf(value) == Flag && string(s.Span.In(doc)) == s.Value
	if bare { // words that are texts to some readers of YAML, and a yes or no to others
		edits = []text.Edit{{Span: s.Span, New: value}}
	} else if s.piece != nil {
		edits, err = s.piece.Becomes(value)
	} else {
		var written string
		if written, err = s.written(doc, n, value); err == nil {
			edits = []text.Edit{{Span: s.Span, New: written}}
		}
	}
	if s.Off {
		edits = append([]text.Edit{text.Delete(s.mark)}, edits...)
	}
	return edits, err
}

// written is a value as it is to stand in the place of a word or of what is no text.
func (s *Setting) written(doc []byte, n Notation, value string) (string, error) {
	switch n.Format {
	case dialect.FormatScript:
		was := string(s.Span.In(doc))
		return word(value, n, was != s.Value && was != "", was)
	case dialect.FormatText:
		was := string(s.Span.In(doc))
		return inText(value, was, s.Value, n.Forms[s.form])
	}
	return literal(n.Format, value)
}

// word writes a value as a word of a script, in quotes where it stood in some or needs them.
func word(value string, n Notation, quoted bool, was string) (string, error) {
	quote := ""
	switch {
	case quoted:
		quote = was[:1]
	case value == "" || strings.ContainsAny(value, " \t") || n.Comment != "" && strings.Contains(value, n.Comment) || n.Quote != "" && strings.Contains(n.Quote, value[:1]):
		if n.Quote == "" {
			return "", fmt.Errorf("%q cannot be written as one word, and this file has no quotes", text.Clean(value))
		}
		quote = n.Quote[:1]
	}
	if quote != "" && strings.Contains(value, quote) {
		i := strings.IndexFunc(n.Quote, func(q rune) bool { return !strings.ContainsRune(value, q) })
		if i < 0 {
			return "", fmt.Errorf("%q holds the quotes that it would have to stand in", text.Clean(value))
		}
		quote = n.Quote[i : i+1]
	}
	return quote + value + quote, nil
}

// inText writes a value in a text of any notation, in the place of was, in the quotes that stood there. What
// ends it in its form cannot be written, and no quote in it, as nobody here knows how this notation does that.
func inText(value, was, plain, form string) (string, error) {
	if was == plain {
		_, behind, _ := strings.Cut(form, "{value}")
		behind, _, _ = strings.Cut(behind, "{any}")
		if end := strings.TrimSpace(behind); end != "" && strings.Contains(value, end) {
			return "", fmt.Errorf("%q has a %s in it, with which it would end here", text.Clean(value), end)
		}
		return value, nil
	}
	quote := was[:1]
	if strings.Contains(value, quote) || strings.HasSuffix(value, `\\`) {
		return "", fmt.Errorf("%q has a %s in it, and how that is written between two of them is not known here", text.Clean(value), quote)
	}
	return quote + value + quote, nil
}

// literal writes a value in a document where no text stood: a number and a yes or no as they are, all
// else as a text.
func literal(f dialect.Format, value string) (string, error) {
	if plain := KindOf(value) == Number || value == "true" || value == "false"; plain {
		return value, nil
	}
	if f == dialect.FormatYAML {
		return text.QuoteYAML(value)
	}
	return text.QuoteJSON(value) // a basic string of TOML is written so too (TOML 1.0, String)
}

// gone are the edits that take a setting out.
func (s *Setting) gone(doc []byte, n Notation) ([]text.Edit, error) {
	switch n.Format {
	case dialect.FormatJSON, dialect.FormatYAML, dialect.FormatTOML:
		if strings.HasSuffix(s.Name, "]") {
			return nil, errors.New("it is an item of a list, which is not taken out as a setting")
		}
		at := parentOf(s.Name)
		return lineup.DropKey(n.Format, doc, at, strings.TrimPrefix(s.Name[len(at):], "."))
	case dialect.FormatXML:
		if s.whole.Len() == 0 {
			return nil, errors.New("it stands in an element with more in it, and nobody here knows what is to stay of that; give it another value, or edit the file")
		}
		if alone := lineAt(doc, s.whole.Start); strings.TrimSpace(string(alone.In(doc))) == string(s.whole.In(doc)) {
			return []text.Edit{text.DeleteLine(doc, alone)}, nil
		}
		return []text.Edit{text.Delete(s.whole)}, nil
	}
	if s.word {
		return []text.Edit{text.Delete(s.whole)}, nil
	}
	return []text.Edit{text.DeleteLine(doc, s.whole)}, nil
}

// add are the edits that set what is not there.
func add(doc []byte, n Notation, list []Setting, name, value string) ([]text.Edit, error) {
	switch n.Format {
	case dialect.FormatJSON, dialect.FormatYAML, dialect.FormatTOML:
		written, err := literal(n.Format, value)
		if err != nil {
			return nil, err
		}
		at := parentOf(name)
		return lineup.AddKey(n.Format, doc, at, strings.TrimPrefix(name[len(at):], "."), written)
	case dialect.FormatXML:
		return nil, fmt.Errorf("%w, and nobody here knows in which element it belongs", ErrNotSet)
	case dialect.FormatShell, dialect.FormatBatch, dialect.FormatUnit, dialect.FormatWords:
		return addParameter(doc, list, name, value)
	case dialect.FormatScript, dialect.FormatText:
		return addLine(doc, n, list, name, value)
	}
	return addKey(doc, n, list, name, value)
}

// addKey adds a line with a key: behind the last of its section, and spaced as that is.
func addKey(doc []byte, n Notation, list []Setting, name, value string) ([]text.Edit, error) {
	section, key, ok := strings.Cut(name, "/")
	if !ok {
		section, key = "", name
	}
	if key == "" || strings.TrimSpace(key) != key || strings.ContainsAny(key, "=[]\"'\n") {
		return nil, fmt.Errorf("%q is no name of a setting here", text.Clean(name))
	}
	line := key + cmp.Or(n.Assign, "=") + value
	at := len(doc)
	if n.Format == dialect.FormatINI {
		ini := text.ReadINI(doc, text.INIStyle{Comment: n.Comment, Assign: n.Assign, Bare: true})
		found := false
		for _, s := range ini.Sections {
			if s.Name == section {
				found, at = true, s.End
			}
		}
		if !found {
			return nil, fmt.Errorf("%w, and there is no section [%s]", ErrNotSet, text.Clean(section))
		}
	}
	for i := range list { // spaced as the last one of its section
		own, _, in := strings.Cut(list[i].Name, "/")
		if !in {
			own = ""
		}
		if s := &list[i]; own == section && !s.Off {
			lead := string(doc[s.whole.Start:s.Span.Start])
			if before, after, ok := strings.Cut(lead, cmp.Or(n.Assign, "=")); ok {
				old := strings.TrimSpace(before)
				line = strings.Replace(before, old, key, 1) + cmp.Or(n.Assign, "=") + strings.TrimRight(after, `"'`) + value
			}
			at = s.whole.End
		}
	}
	return []text.Edit{text.InsertLine(doc, at, line)}, nil
}

// addLine adds a line to a script: behind the last that sets something in the same way, above what reads it, or
// else where the file begins.
func addLine(doc []byte, n Notation, list []Setting, name, value string) ([]text.Edit, error) {
	form := formFor(n, list, name)
	if form < 0 {
		return nil, fmt.Errorf("%w, and the dialect says no line by which it could be", ErrNotSet)
	}
	if strings.Contains(n.Forms[form], "{name}") && strings.ContainsAny(name, " \t\"'") {
		return nil, fmt.Errorf("%q is no name of a setting here", text.Clean(name))
	}
	at, like := text.Begin(doc), -1
	for i := range list {
		if s := &list[i]; s.form == form && !s.Off && (n.Above == 0 || s.whole.End <= n.Above) {
			at, like = s.whole.End, i
		}
	}
	if n.Format == dialect.FormatText && like >= 0 {
		return addLike(doc, &list[like], name, value, n.Forms[form], at)
	}
	written, err := value, error(nil)
	if n.Format == dialect.FormatScript {
		if written, err = word(value, n, false, ""); err != nil {
			return nil, err
		}
	}
	line := strings.NewReplacer("{name}", name, "{value}", written, " {any}", "", "{any}", "").Replace(strings.TrimSpace(n.Forms[form]))
	return []text.Edit{text.InsertLine(doc, at, line)}, nil
}

// formFor is the line by which a name is set: one of its own, or else the one that most settings of
// those with a name have; -1 for none.
func formFor(n Notation, list []Setting, name string) int {
	best, most := -1, -1
	for i, f := range n.Forms {
		if !strings.Contains(f, "{name}") {
			first, _, _ := strings.Cut(strings.TrimSpace(f), "{")
			if strings.TrimRight(first, " \t=:") == name {
				return i
			}
			continue
		}
		count := 0
		for k := range list {
			if list[k].form == i && !list[k].Off {
				count++
			}
		}
		if count > most {
			best, most = i, count
		}
	}
	return best
}

// addLike adds a line that is written as another one of the text, but for what stands behind its value in
// a comment.
func addLike(doc []byte, s *Setting, name, value, form string, at int) ([]text.Edit, error) {
	was := string(s.Span.In(doc))
	written, err := inText(value, was, s.Value, form)
	if err != nil {
		return nil, err
	}
	line := strings.TrimRight(string(s.whole.In(doc)), "\r\n")
	before, behind := line[:s.Span.Start-s.whole.Start], line[s.Span.End-s.whole.Start:]
	i := strings.LastIndex(before, s.Name)
	if i < 0 {
		return nil, fmt.Errorf("%w, and no line shows how it could be", ErrNotSet)
	}
	sign, _, _ := strings.Cut(behind, " ")
	return []text.Edit{text.InsertLine(doc, at, before[:i]+name+before[i+len(s.Name):]+written+strings.TrimRight(sign, " \t"))}, nil
}
