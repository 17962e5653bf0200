package teach

import (
	"cmp"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// treeSearch looks for the name of a mod in a document: as an item, as the value of an
// object or an attribute, as a key with a yes or no, or in one value with others.
type treeSearch struct {
	doc    []byte
	format dialect.Format
	name   string
	add    func(dialect.Shape, ...string)
}

func (t *treeSearch) in(n *text.Node, at string) {
	below := func(key string) string {
		if at == "" {
			return key
		}
		return at + "." + key
	}
	for _, item := range n.Items {
		if nameFrom(item, t.name) {
			t.add(dialect.ShapeItems, "at", cmp.Or(at, ".")) // the whole document, where it is a list
		}
		for _, m := range item.Members {
			switch {
			case !nameFrom(m.Value, t.name):
			case m.Name == "#text":
				t.add(dialect.ShapeItems, "at", at, "item", "<"+item.Literal+">{mod}</"+item.Literal+">")
			default:
				t.add(dialect.ShapeItems, "at", at, "name_key", m.Name, "item", t.item(n, item, m.Name))
			}
		}
	}
	if t.format == dialect.FormatXML && len(n.Items) == 1 { // elements that occur once lead further down
		t.in(n.Items[0], at)
	}
	for _, m := range n.Members {
		switch v := m.Value; {
		case m.Name == t.name && v.Kind == text.NodeScalar:
			t.add(dialect.ShapeKey, "at", at, "key", "{mod}", "on", "true", "off", "false")
		case m.Name == t.name && v.Kind == text.NodeObject && t.format != dialect.FormatXML: // its settings
			t.add(dialect.ShapeKey, "at", at, "key", "{mod}", "on", "{}")
		case v.Kind == text.NodeString:
			for _, keys := range listsIn(v.Piece.Value, t.name) {
				t.add(dialect.ShapeList, append(keys, "at", below(m.Name))...)
			}
		}
		t.in(m.Value, below(m.Name))
	}
}

func nameFrom(n *text.Node, mod string) bool {
	return n.Kind == text.NodeString && n.Piece.Value == mod || n.Kind == text.NodeScalar && n.Literal == mod
}

// item is what a new object of a list is written as: its name, and what all the others
// have alike.
func (t *treeSearch) item(list, sample *text.Node, name string) string {
	var members []string
	for _, m := range sample.Members {
		switch {
		case m.Name == name:
			members = append(members, t.member(m.Name, "{mod}"))
		case t.alike(list, m), m.Value.Literal == "true": // as a mod that is on has it
			members = append(members, t.member(m.Name, string(m.Value.In(t.doc))))
		}
	}
	switch t.format {
	case dialect.FormatXML:
		return "<" + sample.Literal + " " + strings.Join(members, " ") + "/>"
	case dialect.FormatJSON:
		return "{" + strings.Join(members, ", ") + "}"
	}
	return "{ " + strings.Join(members, ", ") + " }"
}

// member writes one member of an object; the name of a mod comes with the quotes of the
// format, but for those of an attribute.
func (t *treeSearch) member(key, value string) string {
	switch t.format {
	case dialect.FormatXML:
		if value == "{mod}" {
			value = `"{mod}"`
		}
		return strings.TrimPrefix(key, "@") + "=" + value
	case dialect.FormatJSON:
		return `"` + key + `": ` + value
	case dialect.FormatTOML:
		return key + " = " + value
	}
	return key + ": " + value
}

// alike tells whether all objects of a list have a member with the same simple value.
func (t *treeSearch) alike(list *text.Node, m text.Member) bool {
	if m.Value.Kind != text.NodeScalar && m.Value.Kind != text.NodeString || m.Name == "#text" || m.Value.Len() == 0 {
		return false
	}
	for _, item := range list.Items {
		other := item.Get(m.Name)
		if other == nil || string(other.In(t.doc)) != string(m.Value.In(t.doc)) {
			return false
		}
	}
	return len(list.Items) > 1
}
