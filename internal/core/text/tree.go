package text

import (
	"bytes"
	"cmp"
	"slices"
	"strings"
)

// Node is a value in a structured document: JSON, YAML, TOML or XML.
type Node struct {
	Span
	Kind    NodeKind
	Piece   Piece    // of a string
	Literal string   // of any other scalar
	Members []Member // of an object
	Items   []*Node  // of a list
	Flow    bool     // a list in brackets, its items parted by commas
	Lead    Span     // of an item of a list without brackets: its mark, such as "- "

	parts string   // the characters that part the items of a list in brackets, the usual one first; "," when empty
	marks []string // what begins a comment in it; nil for "#", "//" and "/*"
}

// NodeKind is what a Node is.
type NodeKind int

// The kinds of nodes.
const (
	NodeScalar NodeKind = iota // a number, true, false, null
	NodeString
	NodeList
	NodeObject
)

// Member is a key of an object with its value.
type Member struct {
	Name  string
	Key   Span
	Value *Node
}

// Get follows a path of keys parted by dots; a key that holds a dot itself is
// found too. It returns nil when there is nothing.
func (n *Node) Get(path string) *Node {
	if path == "" || n == nil {
		return n
	}
	if m := n.Member(path); m != nil {
		return m.Value
	}
	return nil
}

// Member is like Get for the key with its value; nil also for an empty path.
func (n *Node) Member(path string) *Member {
	for i := range slices.Backward(n.Members) { // of two with one name the last counts
		m := &n.Members[i]
		if m.Name == path && path != "" {
			return m
		}
		if rest, ok := strings.CutPrefix(path, m.Name+"."); ok && m.Value != nil {
			if v := m.Value.Member(rest); v != nil {
				return v
			}
		}
	}
	return nil
}

// separator is what parts the items of a list in brackets: what stands behind the item before i,
// or behind any of them, else the usual one.
func (n *Node) separator(doc []byte, i int) string {
	for _, item := range append(slices.Clone(n.Items[max(min(i, len(n.Items))-1, 0):]), n.Items...) {
		if at := n.partAfter(doc, item.End); at >= 0 {
			return string(doc[at])
		}
	}
	return cmp.Or(n.parts, ",")[:1]
}

// InsertItem are the edits that put an item, already in the document's notation,
// into a list before item i, or at its end. A new item is laid out like its
// neighbours.
func (n *Node) InsertItem(doc []byte, i int, item string) []Edit {
	if !n.Flow {
		return []Edit{n.insertBlockItem(doc, i, item)}
	}
	open := n.Start + 1
	sep := n.separator(doc, i)
	switch {
	case len(n.Items) == 0:
		return []Edit{Insert(open, item)}
	case i < len(n.Items):
		gap := " "
		if i > 0 {
			gap = blanksBefore(doc, n.Items[i].Start)
		} else if len(n.Items) > 1 {
			gap = blanksBefore(doc, n.Items[1].Start)
		} else if g := blanksBefore(doc, n.Items[0].Start); strings.Contains(g, "\n") {
			gap = g
		}
		return []Edit{Insert(n.Items[i].Start, item+parted(sep, gap))}
	}
	last := n.Items[len(n.Items)-1]
	gap := blanksBefore(doc, last.Start)
	if len(n.Items) == 1 && !strings.Contains(gap, "\n") {
		gap = " "
	}
	if strings.Contains(gap, "\n") { // behind what is said of the last one on its line
		at, ended := last.End, n.partAfter(doc, last.End)
		if ended >= 0 {
			at = ended + 1
		}
		line := lineEnd(doc, at)
		if n.commented(doc, at) {
			at = at + len(bytes.TrimRight(doc[at:line], "\r\n \t"))
			if sep == " " {
				return []Edit{Insert(at, gap+item)}
			}
			if ended >= 0 {
				return []Edit{Insert(at, gap+item+sep)}
			}
			return []Edit{Insert(last.End, sep), Insert(at, gap+item)}
		}
	}
	return []Edit{Insert(last.End, parted(sep, gap)+item)}
}

// parted is what stands between two items: where blanks part them, no other than are there.
func parted(sep, gap string) string {
	if sep == " " && gap != "" {
		return gap
	}
	return sep + gap
}

// commented tells whether nothing but a comment stands on the rest of a line.
func (n *Node) commented(doc []byte, at int) bool {
	rest := bytes.TrimSpace(doc[at:min(lineEnd(doc, at), n.End)])
	return slices.ContainsFunc(n.comments(), func(mark string) bool { return hasPrefix(rest, mark) && mark != "/*" })
}

// comments are what begins a comment in a list in brackets.
func (n *Node) comments() []string {
	if n.marks == nil {
		return []string{"#", "//", "/*"}
	}
	return n.marks
}

// blanksBefore is the white space that ends at an offset.
func blanksBefore(doc []byte, at int) string {
	from := at
	for from > 0 && (isSpace(doc[from-1]) || doc[from-1] == '\n') {
		from--
	}
	return string(doc[from:at])
}

func (n *Node) insertBlockItem(doc []byte, i int, item string) Edit {
	like := n.Items[min(i, len(n.Items)-1)]
	if like.besides(doc) {
		if i < len(n.Items) {
			return Insert(like.Start, item)
		}
		return Insert(like.End, item)
	}
	mark := string(like.Lead.In(doc))
	if i < len(n.Items) {
		line := lineStart(doc, like.Lead.Start)
		return InsertLine(doc, line, string(doc[line:like.Lead.Start])+mark+item)
	}
	line := lineStart(doc, like.Lead.Start)
	return InsertLine(doc, lineEnd(doc, like.End), string(doc[line:like.Lead.Start])+mark+item)
}

// besides tells whether an element shares its line with others than a comment.
func (n *Node) besides(doc []byte) bool {
	if n.Literal == "" || n.Kind != NodeObject { // no element
		return false
	}
	before := doc[lineStart(doc, n.Start):n.Start]
	after := strings.TrimSpace(string(doc[n.End:lineEnd(doc, n.End)]))
	comment := strings.HasPrefix(after, "<!--") && strings.Index(after, "-->") == len(after)-len("-->")
	return strings.TrimSpace(string(before)) != "" || after != "" && !comment
}

func lineStart(doc []byte, at int) int {
	for at > Begin(doc) && doc[at-1] != '\n' {
		at--
	}
	return at
}

// lineEnd is the end of the line that an offset stands on, with its ending.
func lineEnd(doc []byte, at int) int {
	if at > 0 && at <= len(doc) && doc[at-1] == '\n' {
		return at
	}
	for at < len(doc) && doc[at] != '\n' {
		at++
	}
	return min(at+1, len(doc))
}

// RemoveItem are the edits that take an item out of a list, with the comma that
// belongs to it. Comments stay.
func (n *Node) RemoveItem(doc []byte, i int) []Edit {
	item := n.Items[i]
	if item.besides(doc) {
		return []Edit{Delete(item.Span)}
	}
	if !n.Flow {
		from := lineStart(doc, item.Lead.Start)
		return []Edit{DeleteLine(doc, Span{from, lineEnd(doc, item.End)})}
	}
	comma := n.partAfter(doc, item.End)
	switch {
	case len(n.Items) == 1 && comma < 0:
		return []Edit{Delete(item.Span)}
	case i < len(n.Items)-1 || len(n.Items) == 1:
		end := comma + 1
		for end < n.Items[min(i+1, len(n.Items)-1)].Start && (isSpace(doc[end]) || doc[end] == '\n') {
			end++
		}
		return []Edit{Delete(Span{item.Start, item.End}), Delete(Span{comma, end})}
	}
	before := n.Items[i-1]
	previous := n.partAfter(doc, before.End)
	from := item.Start - len(blanksBefore(doc, item.Start))
	if strings.Contains(string(doc[from:item.Start]), "\n") && n.commented(doc, max(item.End, comma+1)) { // what is said of it stays on its line
		end := max(item.End, comma+1)
		for end < n.End && isSpace(doc[end]) {
			end++
		}
		if comma >= 0 {
			return []Edit{Delete(Span{item.Start, end})}
		}
		return []Edit{Delete(Span{previous, previous + 1}), Delete(Span{item.Start, end})}
	}
	if comma >= 0 { // the list ends with a comma, and goes on doing so
		return []Edit{Delete(Span{max(from, previous+1), item.End}), Delete(Span{comma, comma + 1})}
	}
	if from <= previous+1 {
		return []Edit{Delete(Span{previous, item.End})}
	}
	return []Edit{Delete(Span{previous, previous + 1}), Delete(Span{from, item.End})}
}

// partAfter finds what parts an item that ends at an offset from the next, a comma as a rule,
// passing over blanks and comments; -1 when there is none before the end of the list.
func (n *Node) partAfter(doc []byte, at int) int {
	for at < n.End {
		next, ok := n.passed(doc, at)
		switch {
		case strings.IndexByte(cmp.Or(n.parts, ","), doc[at]) >= 0:
			return at
		case !ok:
			return -1
		}
		at = next
	}
	return -1
}

// passed is where a blank or a comment in a list in brackets ends; ok is false where neither stands.
func (n *Node) passed(doc []byte, at int) (next int, ok bool) {
	if isSpace(doc[at]) || doc[at] == '\n' {
		return at + 1, true
	}
	for _, mark := range n.comments() {
		if !hasPrefix(doc[at:n.End], mark) {
			continue
		}
		if mark != "/*" {
			return lineEnd(doc, at+1), true
		}
		end := bytes.Index(doc[at+2:n.End], []byte("*/"))
		return at + end + 4, end >= 0
	}
	return at, false
}

// ItemText is what an item is written as, to be put elsewhere in its list.
func (n *Node) ItemText(doc []byte, i int) string { return string(n.Items[i].In(doc)) }

// Quote writes a string the way that the strings of a document are written.
type Quote func(s string) (string, error)
