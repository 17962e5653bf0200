package text

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
)

// Pattern is a line with placeholders, such as `{mod} made fast ({ms} ms)`. It
// matches a whole line; each placeholder takes as little as it can. Matching
// takes time in proportion to the line, whatever the pattern.
//
// What a placeholder may stand for follows from its name:
//
//	{mod} {level}   text without blanks
//	{ms} {s}        a number with an optional fraction
//	{reason} {any}  anything, also nothing
//	all others      anything, but at least one character
//
// A {reason} or {any} at the end may be left out with the blank before it, where other
// text stands before that: programs that have no reason to give often print nothing.
//
// Two braces, {{ or }}, stand for one brace.
type Pattern struct {
	source   string
	literals []string // one more than names: before, between and after them
	names    []string
	sample   map[string]string
	bare     *Pattern // for a {reason} or {any} at the end that says nothing: without it, and the blank before it
	file     bool     // a {mod} may hold blanks
}

// ParseFileName reads a pattern for the names of files, in which a {mod} may hold blanks, as it
// does in those of many downloads.
func ParseFileName(source string) (*Pattern, error) {
	p, err := ParsePattern(source, nil)
	if err == nil {
		p.file = true
	}
	return p, err
}

// ParsePattern reads a pattern. known lists the placeholder names that are
// allowed, nil for any. The error says what is wrong and where in the pattern.
func ParsePattern(source string, known []string) (*Pattern, error) {
	p := &Pattern{source: source}
	var literal strings.Builder
	for i := 0; i < len(source); {
		switch {
		case strings.HasPrefix(source[i:], "{{"), strings.HasPrefix(source[i:], "}}"):
			literal.WriteByte(source[i])
			i += 2
		case source[i] == '}':
			return nil, fmt.Errorf("character %d: a } without its {; write }} for a brace that is meant", i+1)
		case source[i] == '{':
			end := strings.IndexByte(source[i:], '}')
			if end < 0 {
				return nil, fmt.Errorf("character %d: a { without its }; write {{ for a brace that is meant", i+1)
			}
			name := source[i+1 : i+end]
			if known != nil && !slices.Contains(known, name) {
				return nil, fmt.Errorf("character %d: {%s} is not known here; known are {%s}", i+1, name, strings.Join(known, "}, {"))
			}
			if len(p.names) > 0 && literal.Len() == 0 {
				return nil, fmt.Errorf("character %d: two placeholders need some text between them", i+1)
			}
			p.literals = append(p.literals, literal.String())
			p.names = append(p.names, name)
			literal.Reset()
			i += end + 1
		default:
			literal.WriteByte(source[i])
			i++
		}
	}
	p.literals = append(p.literals, literal.String())
	if n := len(p.names); n > 0 && p.literals[n] == "" && mayBeEmpty(p.names[n-1]) {
		if before := p.literals[n-1]; strings.HasSuffix(before, " ") && strings.TrimRight(before, " ") != "" {
			p.bare = &Pattern{literals: append(slices.Clone(p.literals[:n-1]), strings.TrimRight(before, " ")), names: p.names[:n-1]}
		}
	}
	return p, nil
}

// Shape says what a placeholder looks like: it holds the text that follows it in
// the pattern as often as the sample does, and begins with a digit when the
// sample does. Without it, `{time} {level}: ` could not be told from any line
// with a blank and a colon.
func (p *Pattern) Shape(name, sample string) {
	if p.sample == nil {
		p.sample = map[string]string{}
	}
	p.sample[name] = sample
}

// String is the pattern as it was written.
func (p *Pattern) String() string { return p.source }

// Names lists the placeholders in order.
func (p *Pattern) Names() []string { return p.names }

// First is the text that every match begins with; it may be empty.
func (p *Pattern) First() string { return p.literals[0] }

// Longest is the longest text of the pattern that every line which fits has in it;
// it may be empty.
func (p *Pattern) Longest() string {
	literals := p.literals
	if p.bare != nil {
		literals = p.bare.literals
	}
	longest := ""
	for _, l := range literals {
		if len(l) > len(longest) {
			longest = l
		}
	}
	return longest
}

// Captures are the spans that the placeholders of a pattern took, in the order
// of Names.
type Captures []Span

// Match reports whether the whole line fits. Captures go into buf, which is
// grown as needed and returned, so that a caller can use one for many lines.
func (p *Pattern) Match(line []byte, buf Captures) (Captures, bool) {
	caps, end, ok := p.match(line, buf)
	if (!ok || end != len(line)) && p.bare != nil {
		if caps, ok = p.bare.Match(line, caps); ok {
			return append(caps, Span{len(line), len(line)}), true
		}
	}
	return caps, ok && end == len(line)
}

// MatchPrefix is like Match for the beginning of a line; the pattern has to end
// with text. It also returns where the match ends. A {level} may be filled up with
// blanks, as programs do to keep their messages in a column.
func (p *Pattern) MatchPrefix(line []byte, buf Captures) (caps Captures, end int, ok bool) {
	caps = buf[:0]
	at := len(p.literals[0])
	if !hasPrefix(line, p.literals[0]) {
		return caps, 0, false
	}
	for i, name := range p.names {
		next := p.literals[i+1]
		cut := p.prefixCut(line, at, next, name)
		if cut < 0 {
			return caps, 0, false
		}
		took := Span{at, cut}
		at = cut + len(next)
		if name == "level" {
			took = unpadded(line, took)
			for strings.HasSuffix(next, " ") && at < len(line) && line[at] == ' ' {
				at++
			}
		}
		if !allows(name, took.In(line)) {
			return caps, 0, false
		}
		caps = append(caps, took)
	}
	return caps, at, true
}

// prefixCut is where a placeholder of a prefix ends: at the text that comes next, or, for
// one whose sample holds that text itself, as often further on; negative when nowhere.
func (p *Pattern) prefixCut(line []byte, at int, next, name string) int {
	cut := indexAfter(line, at, next, name)
	sample := p.sample[name]
	if sample == "" || cut < 0 {
		return cut
	}
	if isDigit(sample[0]) && !isDigit(line[at]) {
		return -1
	}
	for range strings.Count(sample, next) {
		if cut = indexAfter(line, cut+len(next), next, name); cut < 0 {
			break
		}
	}
	return cut
}

// unpadded is a span without the blanks at its ends.
func unpadded(line []byte, s Span) Span {
	for s.Start < s.End && line[s.Start] == ' ' {
		s.Start++
	}
	for s.Start < s.End && line[s.End-1] == ' ' {
		s.End--
	}
	return s
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

func (p *Pattern) match(line []byte, buf Captures) (caps Captures, end int, ok bool) {
	caps = buf[:0]
	if !hasPrefix(line, p.literals[0]) {
		return caps, 0, false
	}
	at := len(p.literals[0])
	for i, name := range p.names {
		next := p.literals[i+1]
		cut := -1
		if i == len(p.names)-1 { // the last text stands at the end of the line
			if cut = len(line) - len(next); cut < at || string(line[cut:]) != next {
				return caps, 0, false
			}
		} else if cut = indexAfter(line, at, next, name); cut < 0 {
			return caps, 0, false
		}
		if !allows(name, line[at:cut]) && !(p.file && cut > at) {
			return caps, 0, false
		}
		caps = append(caps, Span{at, cut})
		at = cut + len(next)
	}
	return caps, at, true
}

func hasPrefix(line []byte, s string) bool {
	return len(line) >= len(s) && string(line[:len(s)]) == s
}

// indexAfter finds the text that ends a placeholder; one that must not be empty
// takes at least a character first.
func indexAfter(line []byte, at int, next, name string) int {
	from := at
	if !mayBeEmpty(name) {
		from++
	}
	if from > len(line) {
		return -1
	}
	i := bytes.Index(line[from:], []byte(next))
	if i < 0 {
		return -1
	}
	return from + i
}

func mayBeEmpty(name string) bool { return name == "any" || name == "reason" }

func allows(name string, got []byte) bool {
	switch name {
	case "any", "reason":
		return true
	case "mod", "level":
		return len(got) > 0 && !bytes.ContainsAny(got, " \t")
	case "ms", "s":
		dot := false
		for i, c := range got {
			if c == '.' && !dot && i > 0 {
				dot = true
			} else if c < '0' || c > '9' {
				return false
			}
		}
	}
	return len(got) > 0
}

// Get returns what the placeholder took from line, or nil when the pattern has
// no such placeholder.
func (p *Pattern) Get(name string, line []byte, caps Captures) []byte {
	if i := slices.Index(p.names, name); i >= 0 && i < len(caps) {
		return caps[i].In(line)
	}
	return nil
}

// Fill writes the pattern out with a value for each placeholder.
func (p *Pattern) Fill(value func(name string) string) string {
	var b strings.Builder
	for i, name := range p.names {
		b.WriteString(p.literals[i])
		b.WriteString(value(name))
	}
	b.WriteString(p.literals[len(p.names)])
	return b.String()
}
