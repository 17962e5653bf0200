package lineup

import (
	"cmp"
	"fmt"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// wordEditor is a launch parameter for each mod: `-load {mod}` or `-load={mod}`.
type wordEditor struct {
	doc    []byte
	r      *dialect.Registration
	prefix string // `-load=`, or `-load` when the name is a word of its own
	apart  bool
	found  []wordItem
	last   text.Piece // the last word of the command
}

type wordItem struct {
	flag, name text.Piece // the same word unless they are apart
	after      int        // where the word before them ends, negative where there is none
}

func openWords(r *dialect.Registration, doc []byte) (editor, *text.Fault) {
	l := readLaunch(r, doc)
	if len(l.Faults) > 0 {
		return nil, l.Faults[0]
	}
	s := &wordEditor{doc: doc, r: r}
	s.prefix, _, _ = strings.Cut(r.At, "{")
	s.prefix, s.apart = strings.CutSuffix(s.prefix, " ")
	commands := 0
	for _, c := range l.Commands {
		here := 0
		for i, w := range c.Words {
			switch {
			case s.apart && w.Value == s.prefix && i+1 < len(c.Words):
				if c.Uses[i+1] != (text.Use{}) {
					return nil, text.FaultAt(doc, c.Words[i+1].Start, "this name is put together when the script runs, so it is not changed here")
				}
				s.found = append(s.found, wordItem{w, c.Words[i+1], s.endBefore(c.Words, i)})
				here++
			case !s.apart && strings.HasPrefix(w.Value, s.prefix):
				s.found = append(s.found, wordItem{w, w.Tail(len(s.prefix)), s.endBefore(c.Words, i)})
				here++
			}
		}
		if here > 0 || len(l.Commands) == 1 {
			commands++
			if len(c.Words) > 0 {
				s.last = c.Words[len(c.Words)-1]
			}
		}
	}
	if commands > 1 {
		return nil, text.FaultAt(doc, 0, "several commands in this file have %s; only one of them can be meant", s.prefix)
	}
	if commands == 0 {
		return nil, text.FaultAt(doc, len(doc), "which command of this file starts the server cannot be told, since none has %s yet; add the first by hand", s.prefix)
	}
	return s, nil
}

// endBefore is where the word before another ends, with nothing but blanks between them; -1 where
// there is none.
func (s *wordEditor) endBefore(words []text.Piece, i int) int {
	if i == 0 || words[i-1].End > words[i].Start || strings.Trim(string(s.doc[words[i-1].End:words[i].Start]), continued) != "" {
		return -1
	}
	return words[i-1].End
}

func (s *wordEditor) entries() (list []editorEntry) {
	for i, f := range s.found {
		list = append(list, editorEntry{name: f.name.Value, raw: s.gap(i) + string(s.doc[f.flag.Start:f.name.End]), span: f.name.Text(), line: text.Span{Start: f.flag.Start, End: f.name.End}})
	}
	return list
}

func (s *wordEditor) insert(i int, name, _, raw string) ([]text.Edit, error) {
	written, err := writeWord(s.r.Format, name)
	if err != nil {
		return nil, err
	}
	n := len(s.found)
	item, gap := s.prefix+written, " "
	if s.apart {
		item = s.prefix + " " + written
	}
	if like, ok := s.beside(min(i, n-1)); raw == "" && ok && written == name {
		item = like.put(name)
	}
	if n > 0 {
		gap = cmp.Or(s.gap(min(i, n-1)), " ")
	}
	if raw != "" && raw != name { // as it was, with what stood before it
		item = strings.Trim(raw, continued)
		if lead := raw[:strings.Index(raw, item)]; lead != "" {
			gap = lead
		}
	}
	switch {
	case i < n && s.found[i].after < 0:
		return []text.Edit{text.Insert(s.found[i].flag.Start, item+" ")}, nil
	case i < n:
		return []text.Edit{text.Insert(s.found[i].after, gap+item)}, nil
	case n > 0:
		return []text.Edit{text.Insert(s.found[n-1].name.End, gap+item)}, nil
	}
	return []text.Edit{text.Insert(s.last.End, gap+item)}, nil
}

// continued are the characters that part the words of a command, which may go on in the next line.
const continued = " \t\r\n\\^"

// gap is what stands between an item and the word before it; "" where it is the first word.
func (s *wordEditor) gap(i int) string {
	if s.found[i].after < 0 {
		return ""
	}
	return string(s.doc[s.found[i].after:s.found[i].flag.Start])
}

// beside is what stands around a name, the parameter and all, where that is written without escapes.
func (s *wordEditor) beside(i int) (a around, ok bool) {
	if i < 0 {
		return a, false
	}
	f := s.found[i]
	at := f.name.Text()
	if at.Len() != len(f.name.Value) || at.Start < f.flag.Start || at.End > f.name.End {
		return a, false
	}
	a = around{string(s.doc[f.flag.Start:at.Start]), string(s.doc[at.End:f.name.End])}
	return a, !strings.Contains(a.before, "\n")
}

// writeWord writes a name as a word of a command.
func writeWord(f dialect.Format, name string) (string, error) {
	if strings.ContainsAny(name, "\"'`\\%^!&|<>()$;*?") {
		return "", fmt.Errorf("the name %q has characters that a command line gives a meaning to; rename the mod", text.Clean(name))
	}
	if strings.ContainsAny(name, " \t") {
		return `"` + name + `"`, nil
	}
	return name, nil
}

func (s *wordEditor) remove(i int) ([]text.Edit, error) {
	f := s.found[i]
	if f.after >= 0 {
		return []text.Edit{text.Delete(text.Span{Start: f.after, End: f.name.End})}, nil
	}
	end := f.name.End
	for end < len(s.doc) && (s.doc[end] == ' ' || s.doc[end] == '\t') {
		end++
	}
	return []text.Edit{text.Delete(text.Span{Start: f.flag.Start, End: end})}, nil
}

func (s *wordEditor) rename(i int, name string) ([]text.Edit, error) {
	p := s.found[i].name
	return p.Becomes(name)
}

// sectionEditor is the keys of a section of an INI file, in order.
type sectionEditor struct {
	doc     []byte
	r       *dialect.Registration
	section text.INISection
	list    []text.INIEntry
	others  []*text.Fault // in other sections
}

func (s *sectionEditor) odd() []*text.Fault { return s.others }

func openSection(r *dialect.Registration, doc []byte) (editor, *text.Fault) {
	ini := text.ReadINI(doc, text.INIStyle{Comment: r.Comment, Assign: r.Assign, Bare: true})
	fault, others := ini.FaultIn(r.At)
	if fault != nil {
		return nil, fault
	}
	s := &sectionEditor{doc: doc, r: r, others: others}
	found := false
	for _, sec := range ini.Sections {
		if sec.Name == r.At {
			s.section, found = sec, true
		}
	}
	if !found {
		return nil, text.FaultAt(doc, len(doc), "there is no section [%s] in this file; add it and try again", r.At)
	}
	all := append(ini.Entries, ini.Hidden...)
	for _, e := range all {
		if e.Section == r.At && (e.Off.Len() == 0 || !strings.ContainsAny(string(e.Key.In(doc)), " \t")) {
			s.list = append(s.list, e)
		}
	}
	sortByLine(s.list)
	return s, nil
}

// repeatEditor is a key that comes once for each mod, its value being the name.
type repeatEditor struct{ sectionEditor }

func openRepeat(r *dialect.Registration, doc []byte) (editor, *text.Fault) {
	section, key, ok := strings.Cut(r.At, "/")
	if !ok {
		section, key = "", r.At
	}
	ini := text.ReadINI(doc, text.INIStyle{Comment: r.Comment, Assign: r.Assign, Bare: true})
	s := &repeatEditor{sectionEditor{doc: doc, r: r}}
	found := false
	for _, sec := range ini.Sections {
		if sec.Name == section {
			s.section, found = sec, true
		}
	}
	if !found {
		return nil, text.FaultAt(doc, len(doc), "there is no section [%s] in this file; add it and try again", section)
	}
	for _, e := range append(ini.Entries, ini.Hidden...) {
		if e.Section == section && e.HasSign && string(e.Key.In(doc)) == key && e.Value.Value != "" {
			s.list = append(s.list, e)
		}
	}
	sortByLine(s.list)
	return s, nil
}

func (s *repeatEditor) entries() (list []editorEntry) {
	for _, e := range s.list {
		raw := strings.TrimRight(string(e.Line.Span.In(s.doc)), "\r\n")
		list = append(list, editorEntry{name: e.Value.Value, raw: raw, span: e.Value.Text(), line: e.Line.Span, off: e.Off.Len() > 0})
	}
	return list
}

func (s *repeatEditor) insert(i int, name, number, raw string) ([]text.Edit, error) {
	if raw == "" {
		_, key, ok := strings.Cut(s.r.At, "/")
		if !ok {
			key = s.r.At
		}
		raw = key + "=" + name
		if n := len(s.list); n > 0 { // written like its neighbour
			e := s.list[min(i, n-1)]
			raw = string(s.doc[e.Line.Start:e.Value.Text().Start]) + name + string(s.doc[e.Value.Text().End:e.Line.Text.End])
			if e.Off.Len() > 0 {
				raw = key + "=" + name
			}
		}
	}
	return s.sectionEditor.insert(i, name, number, raw)
}

func (s *repeatEditor) rename(i int, name string) ([]text.Edit, error) {
	return s.list[i].Value.Becomes(name)
}

func sortByLine(list []text.INIEntry) {
	for i := 1; i < len(list); i++ {
		for k := i; k > 0 && list[k].Line.Start < list[k-1].Line.Start; k-- {
			list[k], list[k-1] = list[k-1], list[k]
		}
	}
}

func (s *sectionEditor) entries() (list []editorEntry) {
	for _, e := range s.list {
		raw := strings.TrimRight(string(e.Line.Span.In(s.doc)), "\r\n")
		list = append(list, editorEntry{name: string(e.Key.In(s.doc)), raw: raw, span: e.Key, line: e.Line.Span, off: e.Off.Len() > 0})
	}
	return list
}

func (s *sectionEditor) insert(i int, name, number, raw string) ([]text.Edit, error) {
	if raw == "" {
		item := s.r.Item
		if item == "" {
			var all []around
			for _, e := range s.list {
				if e.Off.Len() == 0 {
					all = append(all, around{string(s.doc[e.Line.Start:e.Key.Start]), string(s.doc[e.Key.End:e.Line.Text.End])})
				}
			}
			item = "{mod}"
			if a := most(all, min(i, len(all))); len(all) == 1 || share(all, a) > 1 {
				item = a.put(item)
			}
		}
		raw = strings.NewReplacer("{mod}", name, "{number}", number).Replace(item)
	}
	at := s.section.End
	if i < len(s.list) {
		at = s.list[i].Line.Start
	} else if n := len(s.list); n > 0 {
		at = s.list[n-1].Line.End
	}
	return []text.Edit{text.InsertLine(s.doc, at, raw)}, nil
}

func (s *sectionEditor) remove(i int) ([]text.Edit, error) {
	return []text.Edit{text.DeleteLine(s.doc, s.list[i].Line.Span)}, nil
}

func (s *sectionEditor) rename(i int, name string) ([]text.Edit, error) {
	return []text.Edit{{Span: s.list[i].Key, New: name}}, nil
}

func (s *sectionEditor) turn(i int, on bool) ([]text.Edit, error) {
	e := s.list[i]
	if on {
		return []text.Edit{text.Delete(e.Off)}, nil
	}
	comment := ";"
	if s.r.Comment != "" {
		comment = text.Marks(s.r.Comment)[0]
	}
	return []text.Edit{text.Insert(e.Key.Start, comment+" ")}, nil
}
