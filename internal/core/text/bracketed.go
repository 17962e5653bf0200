package text

import (
	"bytes"
	"cmp"
	"slices"
	"strings"
)

// ReadBracketed reads a list in brackets in a text of any notation: the block that opens where a
// line fits within, such as `plugins = {`, whose items are parted by one of the characters of
// parts, on one line or on many. Items are words, or texts in quotes; what stands in a comment is
// none. The fault says that the list is not there, there twice, not closed, or that something in
// it is no item.
func ReadBracketed(doc []byte, within *Form, parts string, comments []string) (*Node, *Fault) {
	n := &Node{Kind: NodeList, Flow: true, parts: cmp.Or(parts, ","), marks: comments}
	found := false
	for _, line := range Lines(doc) {
		said := trim(doc, line.Text)
		at := within.open.FindIndex(said.In(doc))
		if at == nil || markAt(doc, said, comments) > 0 || found && said.Start < n.End {
			continue
		}
		if found {
			return nil, FaultAt(doc, said.Start, "%q opens a second time here; only one of them can be meant", within)
		}
		found = true
		n.Span = Span{said.Start + at[1] - 1, len(doc)}
		if fault := n.items(doc, within.bracket); fault != nil {
			return nil, fault
		}
	}
	if !found {
		return nil, FaultAt(doc, len(doc), "%q is not in this file; add it, empty, and try again", within)
	}
	return n, nil
}

// items reads the items behind the bracket that a list begins with, up to the one that closes it.
func (n *Node) items(doc []byte, closing byte) *Fault {
	parted := true // from the item before
	for at := n.Start + 1; at < len(doc); {
		next, blank := n.passed(doc, at)
		switch {
		case blank:
			at = next
			continue
		case doc[at] == closing:
			n.End = at + 1
			return nil
		case strings.IndexByte(n.parts, doc[at]) >= 0:
			parted = true
			at++
			continue
		case !parted && !isSpace(doc[at-1]) && doc[at-1] != '\n':
			return FaultAt(doc, at, "something stands here between two items that is no item")
		case strings.IndexByte(")]}([{", doc[at]) >= 0:
			return FaultAt(doc, at, "%q stands here, which is no item of a list of names", doc[at:at+1])
		}
		item, fault := n.item(doc, at)
		if fault != nil {
			return fault
		}
		if !parted && strings.IndexByte(n.parts, ' ') < 0 {
			return FaultAt(doc, at, "%q is not parted from the item before", item.Piece.Value)
		}
		n.Items, at, parted = append(n.Items, item), item.End, false
	}
	return FaultAt(doc, n.Start, "the list that opens here is never closed")
}

// item reads one item: a text in quotes, or a word.
func (n *Node) item(doc []byte, at int) (*Node, *Fault) {
	if q := doc[at]; q == '"' || q == '\'' {
		end := bytes.IndexByte(doc[at+1:], q)
		if end < 0 || bytes.IndexByte(doc[at+1:at+1+end], '\n') >= 0 {
			return nil, FaultAt(doc, at, "the quote %c opens here and is not closed on this line", q)
		}
		s := Span{at, at + end + 2}
		if bytes.IndexByte(s.In(doc), '\\') >= 0 {
			return nil, FaultAt(doc, at, "this text has a backslash in it, which is not read here")
		}
		return &Node{Span: s, Kind: NodeString, Piece: quotedPiece(doc, s, encodeLine)}, nil
	}
	end := at
	for end < len(doc) && doc[end] != '\n' && !isSpace(doc[end]) && strings.IndexByte(n.parts+`)]}([{"'`, doc[end]) < 0 &&
		!slices.ContainsFunc(n.comments(), func(mark string) bool { return hasPrefix(doc[end:], mark) }) {
		end++
	}
	s := Span{at, end}
	return &Node{Span: s, Kind: NodeString, Piece: plainPiece(doc, s, encodeWord)}, nil
}

// encodeWord writes a name that stands without quotes.
func encodeWord(_ byte, s string) (string, error) {
	return s, refuse(s, " \t,;()[]{}\"'\\", "a list without quotes")
}
