package text

import "strings"

// ScriptStyle is how a line script is written.
type ScriptStyle struct {
	Comment string // what starts a comment, to the end of the line; "" for none
	Quote   string // the characters that may enclose a word; a quoted word may hold blanks and comment marks
}

// Word is one word of a statement.
type Word struct {
	Span         // with its quotes
	Value string // without them
}

// Statement is one line of a script, cut into words. A line with no word is a
// blank line or a comment.
type Statement struct {
	Line    Line
	Words   []Word
	Comment Span // from the comment mark to the end of the text; empty when there is none
	Fault   *Fault
}

// Script reads a line script: one statement on a line, words parted by blanks
// or tabs. A line that cannot be read carries its Fault and no words.
func Script(doc []byte, style ScriptStyle) []Statement {
	lines := Lines(doc)
	statements := make([]Statement, len(lines))
	for i, line := range lines {
		statements[i] = scriptLine(doc, line, style)
	}
	return statements
}

// scriptLine reads the statement in one line of doc.
func scriptLine(doc []byte, line Line, style ScriptStyle) Statement {
	s := Statement{Line: line, Comment: Span{line.Text.End, line.Text.End}}
	for at := line.Text.Start; at < line.Text.End; {
		c := doc[at]
		switch {
		case isBlank(c):
			at++
		case style.Comment != "" && strings.HasPrefix(string(doc[at:min(at+len(style.Comment), line.Text.End)]), style.Comment):
			s.Comment.Start = at
			return s
		case strings.IndexByte(style.Quote, c) >= 0:
			end := at + 1
			for end < line.Text.End && doc[end] != c {
				end++
			}
			if end == line.Text.End {
				s.Words = nil
				s.Fault = FaultAt(doc, at, "the quote %c opens here and is not closed on this line", c)
				return s
			}
			s.Words = append(s.Words, Word{Span{at, end + 1}, string(doc[at+1 : end])})
			at = end + 1
		default:
			end := at
			for end < line.Text.End && !isBlank(doc[end]) {
				end++
			}
			s.Words = append(s.Words, Word{Span{at, end}, string(doc[at:end])})
			at = end
		}
	}
	return s
}

func isBlank(c byte) bool { return c == ' ' || c == '\t' }

// Uncomment reads the statement that a comment hides, as when a line was
// switched off by hand. Mark is the span to take away to bring it back: the
// comment mark and at most one blank after it. ok is false when the line is no
// comment from its first word on.
func Uncomment(doc []byte, s Statement, style ScriptStyle) (hidden Statement, mark Span, ok bool) {
	if len(s.Words) > 0 || s.Fault != nil || s.Comment.Len() == 0 || style.Comment == "" {
		return Statement{}, Span{}, false
	}
	mark = Span{s.Comment.Start, s.Comment.Start + len(style.Comment)}
	if mark.End < s.Line.Text.End && doc[mark.End] == ' ' {
		mark.End++
	}
	rest := s.Line
	rest.Text.Start = mark.End
	hidden = scriptLine(doc, rest, style)
	hidden.Line = s.Line
	return hidden, mark, len(hidden.Words) > 0
}
