// Package text finds places in the bytes of a file and changes just those.
//
// A document is its bytes. A reader yields spans, an edit replaces one span,
// and nothing is ever printed back from a parsed form, so whatever an edit does
// not name stays as it was, to the byte.
package text

import (
	"bytes"
	"errors"
	"fmt"
	"sort"
	"strings"
)

// Span is a half-open range of byte offsets in a document.
type Span struct{ Start, End int }

// Len is the number of bytes in the span.
func (s Span) Len() int { return s.End - s.Start }

// In returns the bytes of doc that the span covers.
func (s Span) In(doc []byte) []byte { return doc[s.Start:s.End] }

// Edit replaces the bytes of a span by New. An empty span inserts.
type Edit struct {
	Span
	New string
}

// Insert is the edit that puts s before offset at.
func Insert(at int, s string) Edit { return Edit{Span{at, at}, s} }

// Delete is the edit that takes a span away.
func Delete(s Span) Edit { return Edit{s, ""} }

// ErrOverlap is returned by Apply when two edits touch the same bytes, or an
// edit lies outside the document.
var ErrOverlap = errors.New("edits overlap or lie outside the document")

// Apply returns a new document with the edits made. Edits may be given in any
// order; insertions at the same offset keep the order in which they are given.
// doc is not changed. The error is ErrOverlap.
func Apply(doc []byte, edits []Edit) ([]byte, error) {
	sorted, grow, err := arrange(doc, edits)
	if err != nil {
		return nil, err
	}
	out := make([]byte, 0, len(doc)+grow)
	at := 0
	for _, e := range sorted {
		out = append(out, doc[at:e.Start]...)
		out = append(out, e.New...)
		at = e.End
	}
	return append(out, doc[at:]...), nil
}

// arrange sorts edits by place and refuses those that cannot all be made.
func arrange(doc []byte, edits []Edit) (sorted []Edit, grow int, err error) {
	sorted = append(sorted, edits...)
	sort.SliceStable(sorted, func(i, j int) bool {
		if sorted[i].Start != sorted[j].Start {
			return sorted[i].Start < sorted[j].Start
		}
		return sorted[i].End < sorted[j].End
	})
	at := 0
	for _, e := range sorted {
		if e.Start < at || e.End < e.Start || e.End > len(doc) {
			return nil, 0, fmt.Errorf("edit of bytes %d to %d in a document of %d: %w", e.Start, e.End, len(doc), ErrOverlap)
		}
		at = e.End
		grow += len(e.New)
	}
	return sorted, grow, nil
}

// Fault is a place in a document that cannot be read, in words for an operator.
type Fault struct {
	Line, Column int // both count from 1; Column counts bytes
	Message      string
}

func (f *Fault) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", f.Line, f.Column, f.Message)
}

// Position says on which line and column, both counted from 1, the offset
// stands.
func Position(doc []byte, offset int) (line, column int) {
	offset = min(max(offset, 0), len(doc))
	line = 1 + bytes.Count(doc[:offset], []byte{'\n'})
	return line, offset - bytes.LastIndexByte(doc[:offset], '\n')
}

// FaultAt makes a Fault for an offset.
func FaultAt(doc []byte, offset int, format string, args ...any) *Fault {
	line, column := Position(doc, offset)
	return &Fault{line, column, fmt.Sprintf(format, args...)}
}

// Line is one line of a document.
type Line struct {
	Span      // with its ending
	Text Span // without its ending
}

// Lines splits a document into lines ended by LF, CRLF or the end of the
// document. An empty document has no line. A UTF-8 byte-order mark at the very
// start belongs to no line, so that it keeps its place whatever happens to the
// first line.
func Lines(doc []byte) []Line {
	lines := make([]Line, 0, bytes.Count(doc, []byte{'\n'})+1)
	for at := Begin(doc); at < len(doc); {
		end, text := len(doc), len(doc)
		if i := bytes.IndexByte(doc[at:], '\n'); i >= 0 {
			end, text = at+i+1, at+i
			if text > at && doc[text-1] == '\r' {
				text--
			}
		}
		lines = append(lines, Line{Span{at, end}, Span{at, text}})
		at = end
	}
	return lines
}

// Begin is the offset of the first line: after a UTF-8 byte-order mark.
func Begin(doc []byte) int {
	const mark = "\xef\xbb\xbf"
	if len(doc) >= len(mark) && string(doc[:len(mark)]) == mark {
		return len(mark)
	}
	return 0
}

// Ending is the line ending that the document uses most; "\n" when it has none.
func Ending(doc []byte) string {
	crlf := bytes.Count(doc, []byte("\r\n"))
	if crlf*2 > bytes.Count(doc, []byte("\n")) {
		return "\r\n"
	}
	return "\n"
}

// NotText says why the bytes cannot be read as the 8-bit text that line
// formats are made of, or nil. Such a file is shown and left alone.
func NotText(doc []byte) *Fault {
	switch {
	case bytes.HasPrefix(doc, []byte("\xff\xfe")), bytes.HasPrefix(doc, []byte("\xfe\xff")):
		return &Fault{1, 1, "the file begins like UTF-16 and is none that could be read; save it as UTF-8 and try again"}
	}
	if i := bytes.IndexByte(doc, 0); i >= 0 {
		return FaultAt(doc, i, "a zero byte: this is not a text file")
	}
	return nil
}

// InsertLine is the edit that puts a new line before the line that starts at
// offset at (a line start, or the end of the document). It minds a last line
// that has no ending: the new line then takes over that habit.
func InsertLine(doc []byte, at int, line string) Edit {
	ending := Ending(doc)
	if at == len(doc) && at > Begin(doc) && doc[at-1] != '\n' {
		return Insert(at, ending+line)
	}
	return Insert(at, line+ending)
}

// DeleteLine is the edit that takes a whole line away. When the last line has
// no ending, the ending before it goes instead, so that the document still has
// none.
func DeleteLine(doc []byte, line Span) Edit {
	start := line.Start
	if line.End == len(doc) && line.End > line.Start && doc[line.End-1] != '\n' && start > 0 && doc[start-1] == '\n' {
		start--
		if start > 0 && doc[start-1] == '\r' {
			start--
		}
	}
	return Delete(Span{start, line.End})
}

// Literal writes a path for where file patterns are read (path.Match), so that nothing in it
// is taken for one.
func Literal(path string) string { return literal.Replace(path) }

var literal = strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`)
