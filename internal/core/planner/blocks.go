package planner

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"initium/internal/core/block"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/text"
)

// block replaces a block of a script, adds to one, or puts a value into a JSON document.
func (p *Planner) block(c lineup.Change) error {
	if c.File == "" {
		return Refusal{errNoFile}
	}
	raw, err := p.File(c.File)
	if err != nil {
		return fmt.Errorf("read %s: %w", text.Clean(c.File), err)
	}
	doc, encoding := text.Decode(raw)
	put, _ := text.Decode(c.Content)
	language := block.LanguageOf(c.File, p.comment(c.File))
	var now []byte
	switch c.Op {
	case lineup.OpBlock:
		now, err = language.Replace(doc, c.Mod, put)
	case lineup.OpAddTo:
		if err = p.unique(c.File, doc, put); err == nil {
			now, err = language.Add(doc, c.Mod, put)
		}
	case lineup.OpPutAt:
		now, err = block.PutAt(doc, c.Mod, put)
	}
	if err != nil {
		return Refusal{fmt.Errorf("%s: %w", text.Clean(path.Base(c.File)), err)}
	}
	p.rewrite(c.File, raw, text.Encode(now, encoding))
	return nil
}

// comment are the comment marks that the dialect says a file has, "" where it does not.
func (p *Planner) comment(file string) string {
	d := p.now.Dialect
	for i := range d.Settings {
		if d.Settings[i].Fits(p.rel(file)) {
			return d.Settings[i].Comment
		}
	}
	for i := range d.Registrations {
		if name, ok := p.now.Vars.Expand(d.Registrations[i].File); ok && name == file {
			return d.Registrations[i].Comment
		}
	}
	return ""
}

// unique refuses what brings something that has to be there once, and is there already.
func (p *Planner) unique(file string, doc, put []byte) error {
	for i := range p.now.Dialect.Uniques {
		u := &p.now.Dialect.Uniques[i]
		if !u.Fits(p.rel(file)) {
			continue
		}
		there := named(u, doc)
		var twice []string
		seen := map[string]bool{}
		for _, n := range named(u, put) {
			if line, ok := lineOf(there, n.name); ok {
				twice = append(twice, fmt.Sprintf("%s (line %d)", text.Clean(n.name), line))
			} else if seen[n.name] {
				twice = append(twice, text.Clean(n.name)+" (twice in what comes)")
			}
			seen[n.name] = true
		}
		if len(twice) > 0 {
			return fmt.Errorf("%s has to be there once, and is there already: %s", strings.TrimSpace(u.About), strings.Join(twice, ", "))
		}
	}
	return nil
}

// mark is something that has to be unique, and the line on which it stands.
type mark struct {
	name string
	line int
}

func lineOf(list []mark, name string) (line int, ok bool) {
	i := slices.IndexFunc(list, func(m mark) bool { return m.name == name })
	if i < 0 {
		return 0, false
	}
	return list[i].line, true
}

// named are the names in a text that have to be unique.
func named(u *dialect.Unique, doc []byte) (list []mark) {
	read, fault := text.ReadForms(doc, u.Style())
	if fault != nil {
		return nil
	}
	for _, s := range read.Settings {
		if s.Off.Len() == 0 {
			line, _ := text.Position(doc, s.Line.Start)
			list = append(list, mark{text.Unquoted(string(s.Value.In(doc))), line})
		}
	}
	return list
}
