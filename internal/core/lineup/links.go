package lineup

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// LeadsTo stands between the name of a link and what it leads to, in the listing of a folder.
const LeadsTo = " -> "

// linkEditor is a folder with a link for each mod. Its document is the folder's listing, a name on
// each line and behind it what that leads to; a line that comes or goes is a link that does.
type linkEditor struct {
	doc     []byte
	on, end *text.Pattern // the link's name; what it leads to
	list    []link
}

type link struct {
	editorEntry
	target string // "" for what is no link, but the mod itself
}

func openLinks(r *dialect.Registration, doc []byte) (editor, *text.Fault) {
	s := &linkEditor{doc: doc}
	var err error
	if s.on, err = text.ParseFileName(r.At); err == nil {
		s.end, err = text.ParseFileName(r.Item)
	}
	if err != nil {
		return nil, text.FaultAt(doc, 0, "%v", err)
	}
	for _, line := range text.Lines(doc) {
		name, target, _ := strings.Cut(string(line.Text.In(doc)), LeadsTo)
		caps, ok := s.on.Match([]byte(name), nil)
		if !ok {
			continue
		}
		at := text.Span{Start: line.Text.Start + caps[0].Start, End: line.Text.Start + caps[0].End}
		s.list = append(s.list, link{editorEntry{name: string(at.In(doc)), raw: string(line.Text.In(doc)), span: at, line: line.Span}, target})
	}
	return s, nil
}

// leads is the path that a line of a folder's listing leads to.
func leads(dir, line string) string {
	name, target, ok := strings.Cut(line, LeadsTo)
	switch {
	case !ok:
		return path.Join(dir, name)
	case path.IsAbs(target):
		return path.Clean(target)
	}
	return path.Join(dir, target)
}

func (s *linkEditor) entries() (list []editorEntry) {
	for _, l := range s.list {
		list = append(list, l.editorEntry)
	}
	return list
}

// insert adds a link that leads where those of most others lead, in the place that its name has among
// the others.
func (s *linkEditor) insert(_ int, name, _, raw string) ([]text.Edit, error) {
	if raw == "" {
		fill := func(p *text.Pattern) string { return p.Fill(func(string) string { return name }) }
		to := fill(s.end)
		if dir, ok := s.mostLead(); ok {
			to = path.Join(dir, path.Base(to))
		}
		raw = fill(s.on) + LeadsTo + to
	}
	title, _, _ := strings.Cut(raw, LeadsTo)
	if strings.Contains(title, "/") {
		return nil, fmt.Errorf("%q is no name that a link could have", text.Clean(title))
	}
	at := len(s.doc)
	for _, line := range slices.Backward(text.Lines(s.doc)) {
		other, _, _ := strings.Cut(string(line.Text.In(s.doc)), LeadsTo)
		if other == title {
			return nil, fmt.Errorf("there is something called %s already", text.Clean(title))
		}
		if other > title {
			at = line.Start
		}
	}
	return []text.Edit{text.Insert(at, raw+"\n")}, nil
}

// mostLead is the folder that most of the links lead into, where they keep the name that they lead to.
func (s *linkEditor) mostLead() (dir string, ok bool) {
	counts := map[string]int{}
	for _, l := range s.list {
		if want := s.end.Fill(func(string) string { return l.name }); l.target != "" && path.Base(l.target) == path.Base(want) {
			d := path.Dir(l.target)
			if counts[d]++; counts[d] > counts[dir] || !ok {
				dir, ok = d, true
			}
		}
	}
	return dir, ok
}

func (s *linkEditor) remove(i int) ([]text.Edit, error) {
	if s.list[i].target == "" {
		return nil, fmt.Errorf("%s is no link but the mod itself, so that it cannot be taken off the list without losing it; move it to where the others are and put a link in its place",
			text.Clean(strings.TrimSpace(s.list[i].raw)))
	}
	return []text.Edit{text.DeleteLine(s.doc, s.list[i].line)}, nil
}

func (s *linkEditor) rename(int, string) ([]text.Edit, error) {
	return nil, errors.New("a link is called as what it leads to; take the mod off the list and register the other")
}
