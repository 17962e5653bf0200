package text

import (
	"errors"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// ReadTOML reads a TOML document.
func ReadTOML(doc []byte) (root *Node, fault *Fault) {
	data := shadow(doc)
	var check map[string]any
	if err := toml.Unmarshal(data, &check); err != nil { // the whole of the rules, such as a key given twice
		var de *toml.DecodeError
		if errors.As(err, &de) {
			line, column := de.Position()
			return nil, &Fault{line, column, strings.TrimPrefix(de.Error(), "toml: ")}
		}
		return nil, &Fault{1, 1, err.Error()}
	}
	root = &Node{Kind: NodeObject, Span: Span{0, len(doc)}}
	table := root
	p := &unstable.Parser{}
	p.Reset(data)
	for p.NextExpression() {
		e := p.Expression()
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			table = root
			names, key := tomlKey(p, e)
			for i, name := range names {
				if e.Kind == unstable.ArrayTable && i == len(names)-1 {
					list := table.child(name, key, NodeList)
					table = &Node{Kind: NodeObject, Span: key}
					list.Items = append(list.Items, table)
					continue
				}
				table = table.child(name, key, NodeObject)
				if table.Kind == NodeList {
					table = table.Items[len(table.Items)-1]
				}
			}
		case unstable.KeyValue:
			names, key := tomlKey(p, e)
			into := table
			for _, name := range names[:len(names)-1] {
				into = into.child(name, key, NodeObject)
			}
			into.Members = append(into.Members, Member{names[len(names)-1], key, tomlNode(doc, p, e.Value(), key.End)})
		}
	}
	return root, nil
}

// child is the value of a key, made when it is not there yet.
func (n *Node) child(name string, key Span, kind NodeKind) *Node {
	for _, m := range n.Members {
		if m.Name == name {
			return m.Value
		}
	}
	v := &Node{Kind: kind, Span: key}
	n.Members = append(n.Members, Member{name, key, v})
	return v
}

func tomlKey(p *unstable.Parser, e *unstable.Node) (names []string, key Span) {
	for it := e.Key(); it.Next(); {
		raw := it.Node().Raw
		if names == nil {
			key.Start = int(raw.Offset)
		}
		key.End = int(raw.Offset + raw.Length)
		names = append(names, string(it.Node().Data))
	}
	return names, key
}

// tomlNode reads a value that begins at hint or, past blanks and the like, after
// it. The parser gives ranges for scalars only; brackets are found from there.
func tomlNode(doc []byte, p *unstable.Parser, v *unstable.Node, hint int) *Node {
	n := &Node{Span: Span{int(v.Raw.Offset), int(v.Raw.Offset + v.Raw.Length)}}
	switch v.Kind {
	case unstable.Array:
		n.Kind, n.Flow, n.Start = NodeList, true, tomlSkip(doc, hint)
		at := n.Start + 1
		for it := v.Children(); it.Next(); {
			item := tomlNode(doc, p, it.Node(), at)
			n.Items = append(n.Items, item)
			at = item.End
		}
		n.End = tomlSkip(doc, at) + 1
	case unstable.InlineTable:
		n.Kind, n.Flow, n.Start = NodeObject, true, tomlSkip(doc, hint)
		at := n.Start + 1
		for it := v.Children(); it.Next(); {
			names, key := tomlKey(p, it.Node())
			into := n
			for _, name := range names[:len(names)-1] {
				into = into.child(name, key, NodeObject)
			}
			value := tomlNode(doc, p, it.Node().Value(), key.End)
			into.Members = append(into.Members, Member{names[len(names)-1], key, value})
			at = value.End
		}
		n.End = tomlSkip(doc, at) + 1
	case unstable.String:
		n.Kind, n.Piece = NodeString, tomlString(doc, n.Span)
	default:
		n.Literal = string(n.In(doc))
	}
	return n
}

func tomlString(doc []byte, at Span) Piece {
	raw := string(at.In(doc))
	switch {
	case strings.HasPrefix(raw, `"""`), strings.HasPrefix(raw, `'''`):
		return plainPiece(doc, Span{at.Start + 3, at.End - 3}, func(byte, string) (string, error) {
			return "", errors.New("a text over several lines is not changed")
		})
	case raw[0] == '\'':
		return quotedPiece(doc, at, encodeLiteral)
	}
	return escapedString(doc, at, encodeJSON)
}

// tomlSkip passes over what may stand before a value or a closing bracket.
func tomlSkip(doc []byte, at int) int {
	for at < len(doc) {
		switch c := doc[at]; {
		case c == '#':
			at = lineEnd(doc, at+1)
		case isSpace(c) || c == '\n' || c == ',' || c == '=':
			at++
		default:
			return at
		}
	}
	return at
}

// quotedPiece is a text in quotes that knows no escapes.
func quotedPiece(doc []byte, at Span, encode Encoder) Piece {
	b := newPiece(at.Start, doc[at.Start], encode)
	b.open(at.Start+1, doc[at.Start])
	b.add(string(doc[at.Start+1:at.End-1]), Span{at.Start + 1, at.End - 1}, doc[at.Start])
	return b.done(at.End)
}

func encodeLiteral(_ byte, s string) (string, error) { return s, refuse(s, "'", "single quotes") }
