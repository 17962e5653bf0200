package lineup

import (
	"errors"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// presenceShelf is a folder in which mods load by being there. Its document is
// the folder's listing, a name on each line; a changed line is a file or folder
// that gets another name.
type presenceShelf struct {
	doc       []byte
	on, aside *text.Pattern
	list      []shelfEntry
}

func openPresence(r *dialect.Registration, doc []byte) (shelf, *text.Fault) {
	s := &presenceShelf{doc: doc}
	var err error
	if s.on, err = text.ParsePattern(r.At, nil); err == nil {
		s.aside, err = text.ParsePattern(r.Aside, nil)
	}
	if err != nil {
		return nil, text.FaultAt(doc, 0, "%v", err)
	}
	for _, line := range text.Lines(doc) {
		name := line.Text.In(doc)
		// What is set aside is looked for first: its pattern may be the longer of two
		// that both fit.
		for _, form := range []struct {
			pattern *text.Pattern
			off     bool
		}{{s.aside, true}, {s.on, false}} {
			if caps, ok := form.pattern.Match(name, nil); ok {
				at := text.Span{Start: line.Text.Start + caps[0].Start, End: line.Text.Start + caps[0].End}
				s.list = append(s.list, shelfEntry{name: string(at.In(doc)), span: at, line: line.Text, off: form.off})
				break
			}
		}
	}
	return s, nil
}

func (s *presenceShelf) entries() []shelfEntry { return s.list }

var errPresence = errors.New("a mod is registered here by being in the folder; put it there or take it out, or switch it off")

func (s *presenceShelf) insert(int, string, string, string) ([]text.Edit, error) {
	return nil, errPresence
}

func (s *presenceShelf) remove(int) ([]text.Edit, error) { return nil, errPresence }

func (s *presenceShelf) rename(int, string) ([]text.Edit, error) { return nil, errPresence }

func (s *presenceShelf) turn(i int, on bool) ([]text.Edit, error) {
	form := s.aside
	if on {
		form = s.on
	}
	name := s.list[i].name
	return []text.Edit{{Span: s.list[i].line, New: form.Fill(func(string) string { return name })}}, nil
}
