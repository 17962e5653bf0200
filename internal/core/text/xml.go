package text

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// ReadXML reads an XML document. An element is an object: its attributes are
// members named @NAME, its text is the member #text, and its children are
// members by their names, those of one name gathered in a list. The places of
// children are those of the whole element.
func ReadXML(doc []byte) (*Node, *Fault) {
	data := shadow(doc)
	dec := xml.NewDecoder(bytes.NewReader(data))
	dec.CharsetReader = func(charset string, in io.Reader) (io.Reader, error) {
		return nil, fmt.Errorf("the file says that it is written in %s; save it as UTF-8", charset)
	}
	root := &Node{Kind: NodeObject, Span: Span{0, len(doc)}}
	stack := []*Node{root}
	for {
		start := int(dec.InputOffset())
		token, err := dec.RawToken()
		if err == io.EOF {
			if len(stack) > 1 {
				return nil, FaultAt(doc, len(doc), "an element is never closed")
			}
			return root, nil
		}
		if err != nil {
			var syntax *xml.SyntaxError
			if errors.As(err, &syntax) {
				return nil, FaultAt(doc, int(dec.InputOffset()), "%s", syntax.Msg)
			}
			return nil, FaultAt(doc, start, "%v", err)
		}
		top := stack[len(stack)-1]
		end := int(dec.InputOffset())
		switch t := token.(type) {
		case xml.StartElement:
			n := &Node{Kind: NodeObject, Span: Span{start, end}, Literal: t.Name.Local, Lead: Span{start, start}}
			for _, a := range t.Attr {
				if p, ok := xmlAttribute(doc, Span{start, end}, qualified(a.Name)); ok {
					n.Members = append(n.Members, Member{"@" + a.Name.Local, p.Span, &Node{Span: p.Span, Kind: NodeString, Piece: p}})
				}
			}
			top.adopt(t.Name.Local, n)
			stack = append(stack, n)
		case xml.EndElement:
			if len(stack) == 1 || top.Literal != t.Name.Local {
				return nil, FaultAt(doc, start, "</%s> closes nothing that is open here", t.Name.Local)
			}
			top.End = end
			stack = stack[:len(stack)-1]
		case xml.CharData:
			at := trimLines(doc, Span{start, end})
			if at.Len() > 0 && len(stack) > 1 && !bytes.HasPrefix(doc[start:], []byte("<![CDATA[")) {
				p := xmlText(doc, at, 0)
				p.rewrite = func(want string) (string, bool, error) {
					if strings.TrimSpace(want) != want {
						return "", false, fmt.Errorf("%q cannot be written between tags: the blanks at its ends would be lost", Clean(want))
					}
					return "", false, nil
				}
				top.Members = append(top.Members, Member{"#text", at, &Node{Span: at, Kind: NodeString, Piece: p}})
			}
		}
	}
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
	for s.Start < s.End && (isSpace(doc[s.Start]) || doc[s.Start] == '\n') {
		s.Start++
	}
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
		case isSpace(c) || c == '\n':
			rest := doc[i+1 : tag.End]
			if !bytes.HasPrefix(rest, []byte(name)) {
				continue
			}
			at := i + 1 + len(name)
			for at < tag.End && (isSpace(doc[at]) || doc[at] == '\n') {
				at++
			}
			if at >= tag.End || doc[at] != '=' {
				continue
			}
			for at++; at < tag.End && (isSpace(doc[at]) || doc[at] == '\n'); {
				at++
			}
			if at >= tag.End || doc[at] != '"' && doc[at] != '\'' {
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

var xmlEntities = []struct{ name, value string }{{"&amp;", "&"}, {"&lt;", "<"}, {"&gt;", ">"}, {"&quot;", `"`}, {"&apos;", "'"}}

// xmlText reads text with entities; quote is that of an attribute, or 0.
func xmlText(doc []byte, at Span, quote byte) Piece {
	b := newPiece(at.Start, quote, encodeXML)
	body := at
	if quote != 0 {
		body = Span{at.Start + 1, at.End - 1}
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
