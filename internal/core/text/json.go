package text

import (
	"encoding/json"
	"errors"
	"regexp"
	"strconv"
	"unicode/utf8"

	"github.com/tailscale/hujson"
)

// ReadJSON reads JSON with or without comments and commas after the last item.
func ReadJSON(doc []byte) (*Node, *Fault) {
	v, err := hujson.Parse(append(shadow(doc), '\n')) // a remark may end with the file
	if err != nil {
		fault := jsonFault(doc, err)
		if last, column := Position(doc, len(doc)); fault.Line > last {
			fault.Line, fault.Column = last, column
		}
		return nil, fault
	}
	return jsonNode(doc, &v), nil
}

var hujsonPlace = regexp.MustCompile(`line (\d+), column (\d+): (.*)`)

func jsonFault(doc []byte, err error) *Fault {
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		return FaultAt(doc, int(syntax.Offset), "%v", err)
	}
	if m := hujsonPlace.FindStringSubmatch(err.Error()); m != nil {
		line, _ := strconv.Atoi(m[1])
		column, _ := strconv.Atoi(m[2])
		return &Fault{line, column, m[3]}
	}
	return &Fault{1, 1, err.Error()}
}

func jsonNode(doc []byte, v *hujson.Value) *Node {
	n := &Node{Span: Span{v.StartOffset, v.EndOffset}}
	switch value := v.Value.(type) {
	case *hujson.Object:
		n.Kind, n.Flow = NodeObject, true
		for i := range value.Members {
			m := &value.Members[i]
			key := Span{m.Name.StartOffset, m.Name.EndOffset}
			n.Members = append(n.Members, Member{escapedString(doc, key, encodeJSON).Value, key, jsonNode(doc, &m.Value)})
		}
	case *hujson.Array:
		n.Kind, n.Flow = NodeList, true
		for i := range value.Elements {
			n.Items = append(n.Items, jsonNode(doc, &value.Elements[i]))
		}
	case hujson.Literal:
		n.Literal = string(value)
		if n.Literal[0] == '"' {
			n.Kind, n.Piece = NodeString, escapedString(doc, n.Span, encodeJSON)
			n.Literal = ""
		}
	}
	return n
}

// escapedString reads a string in double quotes with the escapes of JSON, TOML
// and YAML, which mean the same where they share one.
func escapedString(doc []byte, at Span, encode Encoder) Piece {
	b := newPiece(at.Start, '"', encode)
	b.open(at.Start+1, '"')
	for i := at.Start + 1; i < at.End-1; {
		if doc[i] != '\\' || i+1 >= at.End-1 {
			_, size := utf8.DecodeRune(doc[i:])
			b.add(string(doc[i:i+size]), Span{i, i + size}, '"')
			i += size
			continue
		}
		s, n := stringEscape(doc[i : at.End-1])
		b.add(s, Span{i, i + n}, '"')
		i += n
	}
	return b.done(at.End)
}

var simpleEscapes = map[byte]string{'"': `"`, '\\': `\`, '/': "/", 'b': "\b", 'f': "\f", 'n': "\n", 'r': "\r", 't': "\t",
	'0': "\x00", 'a': "\a", 'e': "\x1b", 'v': "\v", ' ': " ", 'N': "\u0085", '_': "\u00a0"}

func stringEscape(s []byte) (value string, length int) {
	if v, ok := simpleEscapes[s[1]]; ok {
		return v, 2
	}
	digits := map[byte]int{'x': 2, 'u': 4, 'U': 8}[s[1]]
	if digits == 0 || len(s) < 2+digits {
		return `\`, 1
	}
	v, err := strconv.ParseUint(string(s[2:2+digits]), 16, 32)
	if err != nil {
		return `\`, 1
	}
	length = 2 + digits
	if v >= 0xd800 && v < 0xdc00 && len(s) >= 12 && s[6] == '\\' && s[7] == 'u' { // a pair for one character
		if low, err := strconv.ParseUint(string(s[8:12]), 16, 32); err == nil && low >= 0xdc00 && low < 0xe000 {
			return string(rune(0x10000 + (v-0xd800)<<10 + (low - 0xdc00))), 12
		}
	}
	return string(rune(v)), length
}

// encodeJSON writes text inside double quotes; TOML and YAML read it the same.
func encodeJSON(_ byte, s string) (string, error) {
	quoted, err := QuoteJSON(s)
	if err != nil {
		return "", err
	}
	return quoted[1 : len(quoted)-1], nil
}

// QuoteJSON writes a string in double quotes.
func QuoteJSON(s string) (string, error) {
	if !utf8.ValidString(s) {
		return "", errNotUTF8
	}
	out := []byte{'"'}
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			out = append(out, '\\', byte(r))
		case r < 0x20 || r >= 0x7f && r < 0xa0:
			out = append(out, `\u00`...)
			out = append(out, "0123456789abcdef"[r>>4], "0123456789abcdef"[r&15])
		default:
			out = utf8.AppendRune(out, r)
		}
	}
	return string(append(out, '"')), nil
}

var errNotUTF8 = errors.New("the text is not UTF-8 and cannot be written in this file")
