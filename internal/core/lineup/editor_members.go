package lineup

import (
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// memberEditor is an object of a structured document that has a key for each mod, whose value are
// the mod's settings: there is no word for off, so that an entry is switched off as a whole.
type memberEditor struct {
	keyEditor
	hidden []hiddenMember // in YAML: those in comments
}

type hiddenMember struct {
	hiddenBlock
	name text.Span // in the document
}

func openMembers(r *dialect.Registration, doc []byte) (editor, *text.Fault) {
	keys, fault := openKeys(r, doc)
	if fault != nil {
		return nil, fault
	}
	s := &memberEditor{keyEditor: *keys.(*keyEditor)}
	if s.inComments() {
		s.findHidden()
	}
	return s, nil
}

// inComments tells objects in which an entry can be put into comments where it stands.
func (s *memberEditor) inComments() bool {
	return s.r.Format == dialect.FormatYAML && (!s.list.Flow || len(s.list.Items) == 0) && s.hollow.key.Len() > 0
}

// findHidden looks for entries in comments: from right below the key of the object to right
// behind its last entry, in the column of the others.
func (s *memberEditor) findHidden() {
	lines := text.Lines(s.doc)
	next := s.hollow.next(s.doc)
	begin := max(slices.IndexFunc(lines, func(l text.Line) bool { return l.Start >= next }), 0)
	end, indent := next, -1
	if n := len(s.list.Items); n > 0 {
		end, indent = s.list.Items[n-1].End, column(s.doc, s.list.Items[0].Start)
	}
	stop := begin
	for stop < len(lines) {
		body := strings.TrimLeft(string(lines[stop].Text.In(s.doc)), " ")
		if lines[stop].Text.Start >= end && body != "" && !strings.HasPrefix(body, "#") {
			break
		}
		if at := column(s.doc, lines[stop].Text.End-len(body)); indent < 0 && at > s.hollow.indent && s.begins(strings.TrimPrefix(body, "# ")) {
			indent = at
		}
		stop++
	}
	for _, block := range hiddenBlocks(s.doc, lines[begin:stop], indent, s.begins) {
		name, ok := s.hiddenName(block)
		if !ok && len(block.marks) > 1 {
			block = block.first()
			name, ok = s.hiddenName(block)
		}
		if ok {
			s.hidden = append(s.hidden, hiddenMember{block, name})
		}
	}
}

// begins tells a line that could be the first of an entry.
func (s *memberEditor) begins(body string) bool {
	key, _, ok := strings.Cut(body, ":")
	return ok && key != "" && !strings.ContainsAny(key, " \t")
}

// hiddenName is where the name stands in a block that is an entry; a key with a word behind it is
// as likely prose.
func (s *memberEditor) hiddenName(block hiddenBlock) (name text.Span, ok bool) {
	n, fault := text.ReadYAML(block.body)
	if fault != nil || n.Kind != text.NodeObject || len(n.Members) != 1 {
		return name, false
	}
	m := n.Members[0]
	if m.Value == nil || m.Value.Kind == text.NodeString || m.Value.Kind == text.NodeScalar && !isNull(m.Value) {
		return name, false
	}
	caps, ok := s.key.Match([]byte(m.Name), nil)
	if !ok {
		return name, false
	}
	inner := m.Key.Start + (m.Key.Len()-len(m.Name))/2
	return text.Span{Start: block.at(inner + caps[0].Start), End: block.at(inner + caps[0].End)}, true
}

// spot is an entry of the object, on or off, in the order of the file.
type memberSpot struct {
	start        int
	item, hidden int // which it is; the other is -1
}

func (s *memberEditor) spots() (list []memberSpot) {
	for i := range s.items {
		list = append(list, memberSpot{s.list.Items[s.items[i].member].Start, i, -1})
	}
	for i := range s.hidden {
		list = append(list, memberSpot{s.hidden[i].lines.Start, -1, i})
	}
	slices.SortFunc(list, func(a, b memberSpot) int { return a.start - b.start })
	return list
}

func (s *memberEditor) entries() (list []editorEntry) {
	for _, spot := range s.spots() {
		if spot.hidden >= 0 {
			h := s.hidden[spot.hidden]
			list = append(list, editorEntry{name: string(h.name.In(s.doc)), span: h.name, line: h.lines, off: true})
			continue
		}
		it := s.items[spot.item]
		member := s.list.Items[it.member].Span
		list = append(list, editorEntry{name: string(it.name.In(s.doc)), raw: string(member.In(s.doc)), span: it.name, line: member})
	}
	return list
}

func (s *memberEditor) insert(i int, name, number, raw string) ([]text.Edit, error) {
	spots := s.spots()
	if raw == "" && (len(s.list.Items) > 0 || !s.inComments()) {
		return s.keyEditor.insert(i, name, number, raw)
	}
	if raw == "" {
		raw = s.key.Fill(func(string) string { return name }) + ": " + s.r.On
	}
	if n := len(s.hidden); len(s.list.Items) == 0 && n > 0 { // in the column of those that are off
		at := s.hidden[n-1].lines.End
		if i < n {
			at = s.hidden[i].lines.Start
		}
		return append(s.hollow.fill(), text.InsertLine(s.doc, at, strings.Repeat(" ", column(s.doc, s.hidden[0].marks[0].Start))+raw)), nil
	}
	member := len(s.list.Items)
	for _, spot := range spots[min(i, len(spots)):] {
		if spot.item >= 0 {
			member = s.items[spot.item].member
			break
		}
	}
	if len(s.list.Items) == 0 && (!s.list.Flow || s.inComments()) {
		if edits, ok := s.firstKey(raw); ok {
			return edits, nil
		}
	}
	return s.list.InsertItem(s.doc, member, raw), nil
}

func (s *memberEditor) remove(i int) ([]text.Edit, error) {
	spot := s.spots()[i]
	if spot.hidden >= 0 {
		return []text.Edit{text.DeleteLine(s.doc, s.hidden[spot.hidden].lines)}, nil
	}
	return s.keyEditor.remove(spot.item)
}

func (s *memberEditor) rename(i int, name string) ([]text.Edit, error) {
	return []text.Edit{{Span: s.entries()[i].span, New: name}}, nil
}

// turn puts an entry into comments with all its settings, or takes it out of them.
func (s *memberEditor) turn(i int, on bool) ([]text.Edit, error) {
	spot := s.spots()[i]
	if !s.inComments() {
		return nil, errParked
	}
	if on {
		edits := s.hidden[spot.hidden].shown()
		if len(s.list.Items) == 0 {
			edits = append(s.hollow.fill(), edits...)
		}
		return edits, nil
	}
	member := s.list.Items[s.items[spot.item].member].Span
	at := column(s.doc, member.Start)
	edits, ok := hide(s.doc, text.Span{Start: member.Start - at, End: member.End}, at)
	if !ok || at <= s.hollow.indent {
		return nil, errParked
	}
	if len(s.list.Items) == 1 {
		edits = append([]text.Edit{s.hollow.clear("{}")}, edits...)
	}
	return edits, nil
}
