package lineup

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/text"
)

// changeSection begins, renames or moves a titled section of a startup file.
func (l *Lineup) changeSection(c Change) (*Lineup, error) {
	registration := slices.IndexFunc(l.Files, func(f File) bool { return l.Dialect.Registrations[f.Registration].Section != "" && f.parsed })
	if registration < 0 {
		return nil, fmt.Errorf("%s has no startup file with titled sections that can be read", l.Dialect.Title)
	}
	r := &l.Dialect.Registrations[l.Files[registration].Registration]
	title := func(s string) (string, error) {
		if s = strings.TrimSpace(s); s == "" || text.Clean(s) != s {
			return "", fmt.Errorf("%q cannot be the title of a section", text.Clean(s))
		}
		return strings.ReplaceAll(r.Section, "{title}", s), nil
	}
	if c.Op == OpNewSection {
		line, err := title(c.Mod)
		if err != nil {
			return nil, err
		}
		todo := edits{}
		return l.titled(todo, l.insertLine(todo, l.Files[registration].Registration, c.Where, line))
	}
	i := slices.IndexFunc(l.Sections, func(s Section) bool { return s.Title == c.Mod })
	if i < 0 {
		return nil, l.noSection(c.Mod)
	}
	section := l.Sections[i]
	doc := l.Files[section.File].Bytes
	if c.Op == OpRenameSection {
		line, err := title(c.To)
		if err != nil {
			return nil, err
		}
		old := section.Line.In(doc)
		body := strings.TrimRight(string(old), "\r\n \t")
		indent := len(body) - len(strings.TrimLeft(body, " \t"))
		at := text.Span{Start: section.Line.Start + indent, End: section.Line.Start + len(body)}
		return l.with(edits{section.File: {{Span: at, New: line}}})
	}
	want, err := l.sectionMoved(i, c.Where.Section)
	if err != nil {
		return nil, err
	}
	return l.with(edits{section.File: text.EditsBetween(doc, want)})
}

func (l *Lineup) titled(todo edits, err error) (*Lineup, error) {
	if err != nil {
		return nil, err
	}
	return l.with(todo)
}

// sectionMoved is a file with one of its sections, title and all, put before
// another or at the end.
func (l *Lineup) sectionMoved(i int, before string) ([]byte, error) {
	section := l.Sections[i]
	doc := l.Files[section.File].Bytes
	var parts []text.Span // each from its title to the next
	var titles []string
	for _, s := range l.Sections {
		if s.File == section.File {
			parts, titles = append(parts, text.Span{Start: s.Line.Start, End: len(doc)}), append(titles, s.Title)
			if n := len(parts); n > 1 {
				parts[n-2].End = s.Line.Start
			}
		}
	}
	from, to := slices.Index(titles, section.Title), len(parts)
	if before != "" {
		if to = slices.Index(titles, before); to < 0 {
			return nil, fmt.Errorf("there is no section %q in the same file", text.Clean(before))
		}
	}
	order := make([]int, 0, len(parts))
	for k := range parts {
		if k == to {
			order = append(order, from)
		}
		if k != from {
			order = append(order, k)
		}
	}
	if to == len(parts) {
		order = append(order, from)
	}
	out := append([]byte{}, doc[:parts[0].Start]...)
	ending := text.Ending(doc)
	open := doc[len(doc)-1] != '\n'
	for _, k := range order {
		part := string(parts[k].In(doc))
		if open && k == len(parts)-1 { // the last line had no ending, and is not the last any more
			part += ending
		}
		out = append(out, part...)
	}
	if open {
		out = []byte(strings.TrimSuffix(string(out), ending))
	}
	return out, nil
}

// noSection says that there is no section of a title, and which there are.
func (l *Lineup) noSection(title string) error {
	titles := l.SectionTitles()
	if len(titles) == 0 {
		return fmt.Errorf("there is no section %q; this startup file has none", text.Clean(title))
	}
	return fmt.Errorf("there is no section %q; there are: %s", text.Clean(title), text.Clean(strings.Join(titles, ", ")))
}
