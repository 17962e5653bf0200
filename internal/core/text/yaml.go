package text

import (
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// ReadYAML reads the first document of a YAML file.
func ReadYAML(doc []byte) (root *Node, fault *Fault) {
	var parsed yaml.Node
	if err := yaml.Unmarshal(doc[Begin(doc):], &parsed); err != nil {
		return nil, YAMLFault(err)
	}
	y := &yamlReader{doc: doc, lines: Lines(doc)}
	if len(parsed.Content) == 0 {
		return &Node{Kind: NodeObject}, nil
	}
	root = y.node(parsed.Content[0], false)
	if y.lost > 0 {
		return nil, &Fault{y.lost, 1, "the place of a value on this line cannot be found"}
	}
	return root, nil
}

var yamlPlace = regexp.MustCompile(`line (\d+): (.*)`)

// YAMLFault is an error of the YAML parser, with its place.
func YAMLFault(err error) *Fault {
	message := strings.TrimPrefix(err.Error(), "yaml: ")
	if m := yamlPlace.FindStringSubmatch(message); m != nil {
		line, _ := strconv.Atoi(m[1])
		return &Fault{line, 1, m[2]}
	}
	return &Fault{1, 1, message}
}

type yamlReader struct {
	doc   []byte
	lines []Line
	lost  int // the line of a value that was not where the parser says
}

// offset is where a node begins: the parser counts lines and characters.
func (y *yamlReader) offset(n *yaml.Node) int {
	if n.Line < 1 || n.Line > len(y.lines) {
		y.lost = max(n.Line, 1)
		return Begin(y.doc)
	}
	line := y.lines[n.Line-1]
	at := line.Start
	for c := 1; c < n.Column && at < line.End; c++ {
		_, size := utf8.DecodeRune(y.doc[at:line.End])
		at += size
	}
	return at
}

// node reads a value; flow tells that it stands inside brackets.
func (y *yamlReader) node(n *yaml.Node, flow bool) *Node {
	at := y.offset(n)
	switch n.Kind {
	case yaml.MappingNode:
		object := &Node{Kind: NodeObject, Flow: n.Style&yaml.FlowStyle != 0, Span: Span{at, at}}
		for i := 0; i+1 < len(n.Content); i += 2 {
			key := y.node(n.Content[i], object.Flow)
			value := y.node(n.Content[i+1], object.Flow)
			object.Members = append(object.Members, Member{n.Content[i].Value, key.Span, value})
			object.End = max(object.End, value.End, key.End)
		}
		if object.Flow {
			object.End = y.bracket(max(object.End, at+1), '}')
		}
		return object
	case yaml.SequenceNode:
		return y.list(n, at)
	case yaml.ScalarNode:
		return y.scalar(n, at, flow)
	}
	return &Node{Kind: NodeScalar, Literal: n.Value, Span: Span{at, at + len(n.Value)}} // an alias: shown, not followed
}

func (y *yamlReader) list(n *yaml.Node, at int) *Node {
	list := &Node{Kind: NodeList, Flow: n.Style&yaml.FlowStyle != 0, Span: Span{at, at + 1}}
	for _, v := range n.Content {
		item := y.node(v, list.Flow)
		if !list.Flow {
			dash := min(item.Start, len(y.doc)-1)
			for dash > list.Start && !(y.doc[dash] == '-' && dash+1 < len(y.doc) && (isSpace(y.doc[dash+1]) || y.doc[dash+1] == '\n')) {
				dash--
			}
			item.Lead = Span{dash, item.Start}
		}
		list.Items = append(list.Items, item)
		list.End = max(list.End, item.End)
	}
	if list.Flow {
		list.End = y.bracket(list.End, ']')
	}
	return list
}

// bracket finds the bracket that closes a list or an object.
func (y *yamlReader) bracket(at int, close byte) int {
	for at < len(y.doc) && y.doc[at] != close {
		if y.doc[at] == '#' {
			at = lineEnd(y.doc, at+1)
			continue
		}
		at++
	}
	return min(at+1, len(y.doc))
}

// scalar reads a value where it stands, in the one of YAML's styles that fit on
// a line.
func (y *yamlReader) scalar(n *yaml.Node, at int, flow bool) *Node {
	if n.Anchor != "" || n.Style&yaml.TaggedStyle != 0 { // the place is that of the anchor or tag
		return &Node{Kind: NodeScalar, Literal: n.Value, Span: Span{at, at}}
	}
	v := &Node{Kind: NodeString}
	switch {
	case n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0:
		return &Node{Kind: NodeScalar, Literal: n.Value, Span: Span{at, at}}
	case n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0:
		v.Span = Span{at, y.closing(at)}
		if v.Len() < 2 {
			y.lost = n.Line
			return v
		}
		if n.Style&yaml.SingleQuotedStyle != 0 {
			v.Piece = yamlSingle(y.doc, v.Span)
		} else {
			v.Piece = escapedString(y.doc, v.Span, encodeJSON)
		}
	default:
		v.Span = Span{at, min(at+len(n.Value), len(y.doc))}
		v.Piece = plainPiece(y.doc, v.Span, encodeYAMLPlain)
		v.Piece.rewrite = rewriteYAML(flow)
		if n.Tag != "!!str" {
			v.Kind, v.Literal = NodeScalar, n.Value
		}
	}
	if v.Piece.Value != n.Value { // over several lines: shown, not changed
		return &Node{Kind: NodeScalar, Literal: n.Value, Span: v.Span}
	}
	return v
}

// closing finds the end of a quoted scalar.
func (y *yamlReader) closing(at int) int {
	if at >= len(y.doc) {
		return at
	}
	q := y.doc[at]
	for i := at + 1; i < len(y.doc); i++ {
		switch {
		case q == '"' && y.doc[i] == '\\':
			i++
		case y.doc[i] == q && q == '\'' && i+1 < len(y.doc) && y.doc[i+1] == q:
			i++
		case y.doc[i] == q:
			return i + 1
		}
	}
	return at
}

func yamlSingle(doc []byte, at Span) Piece {
	b := newPiece(at.Start, '\'', func(_ byte, s string) (string, error) {
		return strings.ReplaceAll(s, "'", "''"), refuse(s, "", "single quotes")
	})
	b.open(at.Start+1, '\'')
	for i := at.Start + 1; i < at.End-1; i++ {
		if doc[i] == '\'' {
			b.add("'", Span{i, i + 2}, '\'')
			i++
			continue
		}
		b.add(string(doc[i:i+1]), Span{i, i + 1}, '\'')
	}
	return b.done(at.End)
}

// encodeYAMLPlain writes a part of a plain scalar; rewriteYAML has looked at the
// whole of it.
func encodeYAMLPlain(_ byte, s string) (string, error) { return s, refuse(s, "", "YAML") }

// rewriteYAML puts a text in quotes that would mean something else without.
// Commas part items inside brackets only, and there a question mark begins a key.
func rewriteYAML(flow bool) func(want string) (written string, needed bool, err error) {
	return func(want string) (written string, needed bool, err error) {
		if isPlainYAML(want) && !(flow && strings.ContainsAny(want, ",?")) {
			return "", false, nil
		}
		written, err = QuoteJSON(want)
		return written, true, err
	}
}

// isPlainYAML tells texts that mean themselves as a plain scalar; inside brackets
// only when they hold no comma.
func isPlainYAML(s string) bool {
	var v any
	if s == "" || strings.TrimSpace(s) != s || strings.ContainsAny(s, "[]{}\"'`#&*!|>%@\t\\") || strings.Contains(s, ": ") || strings.HasSuffix(s, ":") ||
		strings.ContainsRune("-?:=~.<,", rune(s[0])) || strings.ContainsFunc(s, func(r rune) bool {
		return r < 0x20 || r == 0x7f || r == 0x85 || r == 0xfeff || r == 0x2028 || r == 0x2029
	}) {
		return false
	}
	if yaml.Unmarshal([]byte(s), &v) != nil {
		return false
	}
	text, ok := v.(string) // and not a number, a truth value, a date
	return ok && text == s && !isYAMLWord(s)
}

// QuoteYAML writes a string for YAML, in quotes unless it is a plain word.
func QuoteYAML(s string) (string, error) {
	if isPlainYAML(s) && !strings.ContainsAny(s, ",?") {
		return s, nil
	}
	return QuoteJSON(s)
}

func isYAMLWord(s string) bool {
	switch strings.ToLower(s) {
	case "true", "false", "null", "yes", "no", "on", "off", "y", "n":
		return true
	}
	return false
}

// ReadCompose reads the command of a service in a compose-style YAML file, where
// the value at a path of keys is a command line or a list of words.
func ReadCompose(doc []byte, at string) *Launch {
	l := &Launch{Variables: map[string]Piece{}}
	root, fault := ReadYAML(doc)
	if fault != nil {
		l.Faults = []*Fault{fault}
		return l
	}
	n := root.Get(at)
	switch {
	case n == nil:
		l.Faults = []*Fault{FaultAt(doc, len(doc), "there is no command at %s", at)}
	case n.Kind == NodeList:
		c := Command{Span: n.Span}
		for _, item := range n.Items {
			if item.Kind != NodeString {
				item.Piece = plainPiece(doc, item.Span, encodeYAMLPlain) // a number: a word like any other
				item.Piece.rewrite = rewriteYAML(n.Flow)
			}
			c.Words, c.Uses = append(c.Words, item.Piece), append(c.Uses, Use{Mixed: strings.Contains(item.Piece.Value, "$")})
		}
		l.Commands = []Command{c}
	case n.Kind == NodeString:
		inner := ReadWords([]byte(n.Piece.Value))
		if len(inner.Faults) > 0 {
			l.Faults = []*Fault{FaultAt(doc, n.Start, "in this command: %s", inner.Faults[0].Message)}
			return l
		}
		for _, c := range inner.Commands {
			for i := range c.Words {
				c.Words[i] = c.Words[i].inside(&n.Piece)
				c.Uses[i].Mixed = strings.Contains(c.Words[i].Value, "$")
			}
			c.Span = n.Span
			l.Commands = append(l.Commands, c)
		}
	default:
		l.Faults = []*Fault{FaultAt(doc, n.Start, "the command at %s is neither a text nor a list of words", at)}
	}
	return l
}
