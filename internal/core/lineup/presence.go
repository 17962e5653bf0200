package lineup

import (
	"errors"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// presenceEditor is a folder in which mods load by being there. Its document is
// the folder's listing, a name on each line; a changed line is a file or folder
// that gets another name.
type presenceEditor struct {
	doc       []byte
	on, aside *text.Pattern
	list      []editorEntry
}

func openPresence(r *dialect.Registration, doc []byte) (editor, *text.Fault) {
	s := &presenceEditor{doc: doc}
	var err error
	if s.on, err = text.ParseFileName(r.At); err == nil {
		s.aside, err = text.ParseFileName(r.Aside)
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
				s.list = append(s.list, editorEntry{name: string(at.In(doc)), span: at, line: line.Text, off: form.off})
				break
			}
		}
	}
	return s, nil
}

func (s *presenceEditor) entries() []editorEntry { return s.list }

var errPresence = errors.New("a mod is registered here by being in the folder; put it there or take it out, or switch it off")

func (s *presenceEditor) insert(int, string, string, string) ([]text.Edit, error) {
	return nil, errPresence
}

func (s *presenceEditor) remove(int) ([]text.Edit, error) { return nil, errPresence }

func (s *presenceEditor) rename(int, string) ([]text.Edit, error) { return nil, errPresence }

func (s *presenceEditor) turn(i int, on bool) ([]text.Edit, error) {
	form := s.aside
	if on {
		form = s.on
	}
	name := s.list[i].name
	return []text.Edit{{Span: s.list[i].line, New: form.Fill(func(string) string { return name })}}, nil
}
