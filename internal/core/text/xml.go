package text

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// ReadXML reads an XML document. An element is an object: its attributes are
// members named @NAME, its text is the member #text, and its children are
// members by their names, those of one name gathered in a list. The places of
// children are those of the whole element.
func ReadXML(doc []byte) (*Node, *Fault) {
	dec := xml.NewDecoder(bytes.NewReader(shadow(doc)))
	dec.CharsetReader = func(charset string, in io.Reader) (io.Reader, error) {
		return nil, fmt.Errorf("the file says that it is written in %s; save it as UTF-8", charset)
	}
	root := &Node{Kind: NodeObject, Span: Span{0, len(doc)}}
	x := xmlReader{doc: doc, open: []*Node{root}}
	for {
		start := int(dec.InputOffset())
		token, err := dec.RawToken()
		at := Span{start, int(dec.InputOffset())}
		switch {
		case err == io.EOF && len(x.open) > 1:
			return nil, FaultAt(doc, len(doc), "an element is never closed")
		case err == io.EOF:
			return root, nil
		case err != nil:
			return nil, xmlFault(doc, at, err)
		}
		if fault := x.take(token, at); fault != nil {
			return nil, fault
		}
	}
}

func xmlFault(doc []byte, at Span, err error) *Fault {
	var syntax *xml.SyntaxError
	if errors.As(err, &syntax) {
		return FaultAt(doc, at.End, "%s", syntax.Msg)
	}
	return FaultAt(doc, at.Start, "%v", err)
}

// xmlReader puts tokens together.
type xmlReader struct {
	doc  []byte
	open []*Node // the elements that are not closed yet, the root first
}

// take adds a token that stands at a place.
func (x *xmlReader) take(token xml.Token, at Span) *Fault {
	top := x.open[len(x.open)-1]
	switch t := token.(type) {
	case xml.StartElement:
		n := &Node{Kind: NodeObject, Span: at, Literal: t.Name.Local, Lead: Span{at.Start, at.Start}}
		for i, a := range t.Attr {
			if slices.ContainsFunc(t.Attr[:i], func(b xml.Attr) bool { return b.Name == a.Name }) {
				return FaultAt(x.doc, at.Start, "the attribute %s stands twice in <%s>", Clean(qualified(a.Name)), Clean(t.Name.Local))
			}
			if p, ok := xmlAttribute(x.doc, at, qualified(a.Name)); ok {
				n.Members = append(n.Members, Member{"@" + a.Name.Local, p.Span, &Node{Span: p.Span, Kind: NodeString, Piece: p}})
			}
		}
		top.adopt(t.Name.Local, n)
		x.open = append(x.open, n)
	case xml.EndElement:
		if len(x.open) == 1 || top.Literal != t.Name.Local {
			return FaultAt(x.doc, at.Start, "</%s> closes nothing that is open here", t.Name.Local)
		}
		top.End = at.End
		x.open = x.open[:len(x.open)-1]
	case xml.CharData:
		body := trimLines(x.doc, at)
		if body.Len() > 0 && len(x.open) > 1 && !bytes.HasPrefix(x.doc[at.Start:], []byte("<![CDATA[")) {
			p := xmlText(x.doc, body, 0)
			p.rewrite = refuseBlankEnds
			top.Members = append(top.Members, Member{"#text", body, &Node{Span: body, Kind: NodeString, Piece: p}})
		}
	}
	return nil
}

// refuseBlankEnds refuses what would not be read as it was written.
func refuseBlankEnds(want string) (written string, needed bool, err error) {
	if strings.TrimSpace(want) != want {
		return "", false, fmt.Errorf("%q cannot be written between tags: the blanks at its ends would be lost", Clean(want))
	}
	return "", false, nil
}

func qualified(n xml.Name) string {
	if n.Space != "" {
		return n.Space + ":" + n.Local
	}
	return n.Local
}

// adopt adds a child element, in the list of those with its name.
func (n *Node) adopt(name string, child *Node) {
	for _, m := range n.Members {
		if m.Name == name {
			m.Value.Items = append(m.Value.Items, child)
			return
		}
	}
	n.Members = append(n.Members, Member{name, child.Span, &Node{Kind: NodeList, Span: child.Span, Items: []*Node{child}}})
}

func trimLines(doc []byte, s Span) Span {
	s.Start = pastBlanks(doc, s)
	for s.End > s.Start && (isSpace(doc[s.End-1]) || doc[s.End-1] == '\n') {
		s.End--
	}
	return s
}

// xmlAttribute finds an attribute's value in a start tag.
func xmlAttribute(doc []byte, tag Span, name string) (Piece, bool) {
	for i := tag.Start + 1; i < tag.End; i++ {
		switch c := doc[i]; {
		case c == '"' || c == '\'':
			end := bytes.IndexByte(doc[i+1:tag.End], c)
			if end < 0 {
				return Piece{}, false
			}
			i += end + 1
		case (isSpace(c) || c == '\n') && bytes.HasPrefix(doc[i+1:tag.End], []byte(name)):
			at, ok := xmlAssigned(doc, Span{i + 1 + len(name), tag.End})
			if !ok {
				continue
			}
			end := bytes.IndexByte(doc[at+1:tag.End], doc[at])
			if end < 0 {
				return Piece{}, false
			}
			return xmlText(doc, Span{at, at + end + 2}, doc[at]), true
		}
	}
	return Piece{}, false
}

// xmlAssigned is where the quote stands that opens a value, behind a name and "=".
func xmlAssigned(doc []byte, rest Span) (quote int, ok bool) {
	rest.Start = pastBlanks(doc, rest)
	if rest.Len() == 0 || doc[rest.Start] != '=' {
		return 0, false
	}
	rest.Start++
	rest.Start = pastBlanks(doc, rest)
	return rest.Start, rest.Len() > 0 && (doc[rest.Start] == '"' || doc[rest.Start] == '\'')
}

// pastBlanks is where white space ends.
func pastBlanks(doc []byte, s Span) int {
	for s.Start < s.End && (isSpace(doc[s.Start]) || doc[s.Start] == '\n') {
		s.Start++
	}
	return s.Start
}

var xmlEntities = []struct{ name, value string }{{"&amp;", "&"}, {"&lt;", "<"}, {"&gt;", ">"}, {"&quot;", `"`}, {"&apos;", "'"}}

// xmlText reads text with entities; quote is that of an attribute, or 0.
func xmlText(doc []byte, at Span, quote byte) Piece {
	body := at
	if quote != 0 {
		body = Span{at.Start + 1, at.End - 1}
	}
	if bytes.IndexByte(body.In(doc), '&') < 0 {
		return Piece{Span: at, Value: string(body.In(doc)), encode: encodeXML, later: func() Piece { return xmlPlaces(doc, at, body, quote) }}
	}
	return xmlPlaces(doc, at, body, quote)
}

// xmlPlaces reads text with entities with the place of every byte.
func xmlPlaces(doc []byte, at, body Span, quote byte) Piece {
	b := newPiece(at.Start, quote, encodeXML)
	if quote != 0 {
		b.open(body.Start, quote)
	}
next:
	for i := body.Start; i < body.End; {
		if doc[i] == '&' {
			for _, e := range xmlEntities {
				if bytes.HasPrefix(doc[i:body.End], []byte(e.name)) {
					b.add(e.value, Span{i, i + len(e.name)}, quote)
					i += len(e.name)
					continue next
				}
			}
			if end := bytes.IndexByte(doc[i:body.End], ';'); end > 2 && doc[i+1] == '#' {
				var r rune
				format := "%d"
				digits := string(doc[i+2 : i+end])
				if digits[0] == 'x' {
					format, digits = "%x", digits[1:]
				}
				if _, err := fmt.Sscanf(digits, format, &r); err == nil {
					b.add(string(r), Span{i, i + end + 1}, quote)
					i += end + 1
					continue
				}
			}
		}
		b.add(string(doc[i:i+1]), Span{i, i + 1}, quote)
		i++
	}
	return b.done(at.End)
}

func encodeXML(context byte, s string) (string, error) {
	if err := refuse(s, "", "XML"); err != nil {
		return "", err
	}
	s = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(s)
	switch context {
	case '"':
		s = strings.ReplaceAll(s, `"`, "&quot;")
	case '\'':
		s = strings.ReplaceAll(s, "'", "&apos;")
	}
	return s, nil
}

// QuoteXML writes text for any place in an XML document.
func QuoteXML(s string) (string, error) {
	s, err := encodeXML('"', s)
	return strings.ReplaceAll(s, "'", "&apos;"), err
}
