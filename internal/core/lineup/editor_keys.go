package lineup

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// keyEditor is an object of a structured document, or a section of an INI file,
// that has a key for each mod with a yes or no.
type keyEditor struct {
	doc   []byte
	r     *dialect.Registration
	key   *text.Pattern
	list  *text.Node // the members of the object as the items of a list
	items []keyItem

	others []*text.Fault // in other sections of an INI file
	hollow hollow        // its key, in YAML; of no length when it has none
	top    int           // where the first line of an INI section or TOML table goes; 0 when that is not known
	glue   string        // between a key and its value elsewhere in the file, "" when that is not known
}

type keyItem struct {
	name, value text.Span // the mod's name in the key, and the whole value
	raw         string    // the value as it is written
	member      int       // of list.Items
}

func openKeys(r *dialect.Registration, doc []byte) (editor, *text.Fault) {
	key, err := text.ParsePattern(r.Key, nil)
	if err != nil {
		return nil, text.FaultAt(doc, 0, "%v", err)
	}
	s := &keyEditor{doc: doc, r: r, key: key}
	if r.Format == dialect.FormatINI {
		return s, s.openSection()
	}
	root, fault := ReadDocument(r.Format, doc)
	if fault != nil {
		return nil, fault
	}
	n := root.Get(r.At)
	switch r.Format {
	case dialect.FormatYAML:
		var ok bool
		if s.hollow, ok = yamlKey(doc, root, r.At); ok && isNull(n) {
			s.list = &text.Node{Kind: text.NodeList, Span: n.Span}
			return s, nil
		}
	case dialect.FormatTOML:
		if n != nil && !n.Flow {
			s.top = tableTop(doc, n.Span, r.At)
		}
	}
	if n == nil || n.Kind != text.NodeObject {
		return nil, text.FaultAt(doc, len(doc), "there are no keys at %q in this file; add them and try again", r.At)
	}
	s.list = &text.Node{Kind: text.NodeList, Span: n.Span, Flow: n.Flow}
	for i, m := range n.Members {
		item := &text.Node{Span: text.Span{Start: m.Key.Start, End: max(m.Value.End, m.Key.End)}, Lead: text.Span{Start: m.Key.Start, End: m.Key.Start}}
		s.list.Items = append(s.list.Items, item)
		s.add(m.Name, m.Key, m.Value.Span, i)
	}
	return s, nil
}

func (s *keyEditor) openSection() *text.Fault {
	ini := text.ReadINI(s.doc, text.INIStyle{Comment: s.r.Comment, Assign: s.r.Assign})
	fault, others := ini.FaultIn(s.r.At)
	if fault != nil {
		return fault
	}
	s.others = others
	found := slices.ContainsFunc(ini.Sections, func(sec text.INISection) bool { return sec.Name == s.r.At })
	if !found {
		return text.FaultAt(s.doc, len(s.doc), "there is no section [%s] in this file; add it and try again", s.r.At)
	}
	s.list = &text.Node{Kind: text.NodeList}
	for _, section := range ini.Sections {
		if section.Name == s.r.At {
			s.top = section.End
		}
	}
	for _, e := range ini.Entries {
		if s.glue == "" {
			s.glue = string(s.doc[e.Key.End:e.Value.Start])
		}
		if e.Section != s.r.At {
			continue
		}
		item := &text.Node{Span: text.Span{Start: e.Key.Start, End: max(e.Value.End, e.Key.End)}, Lead: text.Span{Start: e.Key.Start, End: e.Key.Start}}
		s.list.Items = append(s.list.Items, item)
		s.add(string(e.Key.In(s.doc)), e.Key, e.Value.Span, len(s.list.Items)-1)
	}
	return nil
}

func (s *keyEditor) odd() []*text.Fault { return s.others }

// add notes a member whose key names a mod.
func (s *keyEditor) add(name string, key, value text.Span, member int) {
	raw := string(value.In(s.doc))
	caps, ok := s.key.Match([]byte(name), nil)
	if !ok || !switches(s.r, raw) && !switches(s.r, strings.Trim(raw, `"'`)) {
		return
	}
	inner := (key.Len() - len(name)) / 2 // quotes around the key
	at := text.Span{Start: key.Start + inner + caps[0].Start, End: key.Start + inner + caps[0].End}
	s.items = append(s.items, keyItem{at, value, raw, member})
}

func (s *keyEditor) entries() (list []editorEntry) {
	for _, it := range s.items {
		value := strings.Trim(it.raw, `"'`)
		off := value == strings.Trim(s.r.Off, `"'`) || slices.Contains(s.r.OffWords, value)
		list = append(list, editorEntry{name: string(it.name.In(s.doc)), number: value, span: it.name, line: s.list.Items[it.member].Span, off: off})
	}
	return list
}

func (s *keyEditor) insert(_ int, name, _, _ string) ([]text.Edit, error) {
	key := s.key.Fill(func(string) string { return name })
	glue := ": "
	switch s.r.Format {
	case dialect.FormatJSON:
		quoted, err := text.QuoteJSON(key)
		if err != nil {
			return nil, err
		}
		key = quoted
	case dialect.FormatTOML, dialect.FormatINI:
		glue = " = "
	}
	last := len(s.items) - 1
	for last >= 0 && (s.items[last].value.Len() == 0 || strings.Contains(string(s.doc[s.items[last].name.End:s.items[last].value.Start]), "\n")) {
		last--
	}
	if last >= 0 { // spaced like the last one that has a value on its line
		it := s.items[last]
		member := s.list.Items[it.member]
		keyEnd := member.Start + strings.IndexAny(string(member.In(s.doc)), ":=")
		if keyEnd >= member.Start {
			from := keyEnd
			for from > member.Start && (s.doc[from-1] == ' ' || s.doc[from-1] == '\t') {
				from--
			}
			glue = string(s.doc[from:it.value.Start])
		}
	}
	if len(s.list.Items) == 0 && !s.list.Flow {
		glue = cmp.Or(s.glue, glue)
		if edits, ok := s.firstKey(key + glue + s.r.On); ok {
			return edits, nil
		}
		return nil, fmt.Errorf("there is no key yet in %q that a new one could be put beside; add the first by hand", s.r.At)
	}
	return s.list.InsertItem(s.doc, len(s.list.Items), key+glue+s.r.On), nil
}

func (s *keyEditor) remove(i int) ([]text.Edit, error) {
	edits := s.list.RemoveItem(s.doc, s.items[i].member)
	if len(s.list.Items) == 1 && !s.list.Flow && s.hollow.key.Len() > 0 {
		edits = append(edits, s.hollow.clear("{}"))
	}
	return edits, nil
}

func (s *keyEditor) rename(i int, name string) ([]text.Edit, error) {
	return []text.Edit{{Span: s.items[i].name, New: name}}, nil
}

func (s *keyEditor) turn(i int, on bool) ([]text.Edit, error) {
	word := s.r.Off
	if on {
		word = s.r.On
	}
	return []text.Edit{{Span: s.items[i].value, New: word}}, nil
}

// AddKey are the edits that add a key with a value, written in the document's notation, to the object at
// a path in a document of JSON, YAML or TOML; "" for the document itself.
func AddKey(f dialect.Format, doc []byte, at, key, value string) ([]text.Edit, error) {
	s, fault := openKeys(keyOf(f, at, value), doc)
	if fault != nil {
		return nil, fault
	}
	return s.insert(0, key, "", "")
}

// DropKey are the edits that take a key out of such an object.
func DropKey(f dialect.Format, doc []byte, at, key string) ([]text.Edit, error) {
	s, fault := openKeys(keyOf(f, at, ""), doc)
	if fault != nil {
		return nil, fault
	}
	i := slices.IndexFunc(s.entries(), func(e editorEntry) bool { return e.name == key })
	if i < 0 {
		return nil, fmt.Errorf("there is no key %q at %q", text.Clean(key), at)
	}
	return s.remove(i)
}

// keyOf is the object at a path as a registration by keys.
func keyOf(f dialect.Format, at, value string) *dialect.Registration {
	return &dialect.Registration{Format: f, Shape: dialect.ShapeKey, At: at, Key: "{mod}", On: value}
}
