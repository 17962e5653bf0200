// Package block finds, replaces and adds blocks of a script: from a line that is known to the line that closes
// it, by the brackets of its language, with strings and comments understood.
package block

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"initium/internal/core/text"
)

// Language is how a script is written, as far as its blocks go.
type Language struct {
	Line    []string  // what begins a comment that ends with its line
	Long    [2]string // what begins and ends one that may go over lines; "" for none
	Quotes  string    // what encloses a string
	Opens   []string  // words that open a block, besides brackets
	Closes  []string  // words that close one
	Deep    bool      // [[ and ]] enclose a string over lines
	Doubled bool      // a quote in a string is written twice, and no backslash hides one
}

var (
	braces = Language{Line: []string{"//"}, Long: [2]string{"/*", "*/"}, Quotes: `"'`}
	hash   = Language{Line: []string{"#"}, Quotes: `"'`}
	// endings are the languages of files, by how their names end.
	endings = map[string]Language{
		".lua":  {Line: []string{"--"}, Long: [2]string{"--[[", "]]"}, Quotes: `"'`, Opens: []string{"function", "do", "if", "repeat"}, Closes: []string{"end", "until"}, Deep: true},
		".sql":  {Line: []string{"--"}, Long: [2]string{"/*", "*/"}, Quotes: `"'`, Doubled: true},
		".sh":   hash,
		".conf": hash,
		".json": braces,
	}
)

// LanguageOf is the language of a file by its ending, with the comment marks that somebody has said it has.
func LanguageOf(file, comment string) Language {
	l, ok := endings[strings.ToLower(path.Ext(file))]
	if !ok {
		l = braces
	}
	if comment != "" {
		l.Line = strings.Fields(comment)
	}
	return l
}

// event is a bracket or a word that opens or closes something.
type event struct {
	at   int
	by   int // 1 opens, -1 closes
	what string
}

var partner = map[string]string{")": "(", "]": "[", "}": "{"}

// events are the brackets of a script outside of strings and comments. The fault says that a string or a
// comment never ends.
func (l *Language) events(doc []byte) (list []event, fault *text.Fault) {
	for i := 0; i < len(doc); {
		rest := doc[i:]
		switch {
		case l.Long[0] != "" && bytes.HasPrefix(rest, []byte(l.Long[0])):
			end := bytes.Index(rest[len(l.Long[0]):], []byte(l.Long[1]))
			if end < 0 {
				return nil, text.FaultAt(doc, i, "the comment that begins here is never closed")
			}
			i += len(l.Long[0]) + end + len(l.Long[1])
		case slices.ContainsFunc(l.Line, func(mark string) bool { return bytes.HasPrefix(rest, []byte(mark)) }):
			if end := bytes.IndexByte(rest, '\n'); end >= 0 {
				i += end
				continue
			}
			return list, nil
		case l.Deep && bytes.HasPrefix(rest, []byte("[[")):
			end := bytes.Index(rest, []byte("]]"))
			if end < 0 {
				return nil, text.FaultAt(doc, i, "the text that begins here is never closed")
			}
			i += end + 2
		case strings.IndexByte(l.Quotes, doc[i]) >= 0:
			end, closed := l.quoted(doc, i)
			if !closed {
				return nil, text.FaultAt(doc, i, "the quote %c opens here and is not closed on this line", doc[i])
			}
			i = end
		case strings.IndexByte("([{", doc[i]) >= 0:
			list = append(list, event{i, 1, string(doc[i])})
			i++
		case strings.IndexByte(")]}", doc[i]) >= 0:
			list = append(list, event{i, -1, string(doc[i])})
			i++
		case isLetter(doc[i]):
			end := i
			for end < len(doc) && (isLetter(doc[end]) || doc[end] >= '0' && doc[end] <= '9') {
				end++
			}
			switch word := string(doc[i:end]); {
			case slices.Contains(l.Opens, word):
				list = append(list, event{i, 1, word})
			case slices.Contains(l.Closes, word):
				list = append(list, event{i, -1, word})
			}
			i = end
		default:
			i++
		}
	}
	return list, nil
}

func isLetter(c byte) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// quoted is where a string ends that opens at an offset; it has to end on its line, unless a backslash hides
// the end of that.
func (l *Language) quoted(doc []byte, at int) (end int, closed bool) {
	for i := at + 1; i < len(doc); i++ {
		switch {
		case doc[i] == '\\' && !l.Doubled:
			i++
		case doc[i] == doc[at]:
			return i + 1, true
		case doc[i] == '\n':
			return i, false
		}
	}
	return len(doc), false
}

// Balanced looks whether all brackets of a script close. The fault has the place of the one that does not.
func (l *Language) Balanced(doc []byte) *text.Fault {
	if fault := text.NotText(doc); fault != nil {
		return fault
	}
	list, fault := l.events(doc)
	if fault != nil {
		return fault
	}
	var open []event
	for _, e := range list {
		if e.by > 0 {
			open = append(open, e)
			continue
		}
		if len(open) == 0 {
			return text.FaultAt(doc, e.at, "%s closes nothing that is open here", e.what)
		}
		last := open[len(open)-1]
		if !l.pair(last.what, e.what) {
			line, _ := text.Position(doc, last.at)
			return text.FaultAt(doc, e.at, "%s closes the %s of line %d", e.what, last.what, line)
		}
		open = open[:len(open)-1]
	}
	if len(open) > 0 {
		e := open[len(open)-1]
		return text.FaultAt(doc, e.at, "%s is never closed", e.what)
	}
	return nil
}

func (l *Language) pair(open, close string) bool {
	if want, ok := partner[close]; ok {
		return open == want
	}
	return slices.Contains(l.Opens, open) && (close == "until") == (open == "repeat")
}

// Find is the block that begins with a line, with its ending: to the line that closes what it opens, or what the
// next line opens; of a line that opens nothing that line alone. The line may be given without what indents it,
// and has to be there once.
func (l *Language) Find(doc []byte, first string) (text.Span, error) {
	first = strings.TrimSpace(first)
	if first == "" {
		return text.Span{}, errors.New("say with which line the block begins")
	}
	lines := text.Lines(doc)
	at := -1
	var where []string
	for i, line := range lines {
		if strings.TrimSpace(string(line.Text.In(doc))) == first {
			at = i
			where = append(where, fmt.Sprint(i+1))
		}
	}
	switch {
	case len(where) == 0:
		return text.Span{}, fmt.Errorf("there is no line %q", text.Clean(first))
	case len(where) > 1:
		return text.Span{}, fmt.Errorf("the line %q stands there more than once, on the lines %s; choose one that is there once", text.Clean(first), strings.Join(where, ", "))
	}
	list, fault := l.events(doc)
	if fault != nil {
		return text.Span{}, fault
	}
	end := at
	depth, next := 0, 0
	for next < len(list) && list[next].at < lines[at].Start {
		next++
	}
	opened := false
	for end < len(lines) {
		for ; next < len(list) && list[next].at < lines[end].End; next++ {
			depth += list[next].by
			opened = opened || list[next].by > 0
			if depth < 0 {
				return text.Span{}, text.FaultAt(doc, list[next].at, "%s closes more than the block that begins with %q has opened", list[next].what, text.Clean(first))
			}
		}
		if depth == 0 && (opened || !l.opensNext(doc, lines, list, end, next)) {
			return text.Span{Start: lines[at].Start, End: lines[end].End}, nil
		}
		end++
	}
	return text.Span{}, fmt.Errorf("the block that begins with %q on line %d is never closed", text.Clean(first), at+1)
}

// opensNext tells whether the next line that says something begins with a bracket: the block of a line that opens
// none itself.
func (l *Language) opensNext(doc []byte, lines []text.Line, list []event, at, next int) bool {
	for _, line := range lines[at+1:] {
		said := bytes.TrimSpace(line.Text.In(doc))
		if len(said) == 0 {
			continue
		}
		return next < len(list) && list[next].by > 0 && list[next].at < line.End && bytes.IndexByte([]byte("([{"), said[0]) >= 0
	}
	return false
}

// whole is a text as lines of a document: with its line endings, and one at its end.
func whole(doc, put []byte) string {
	s := strings.ReplaceAll(strings.TrimPrefix(string(put), "\ufeff"), "\r\n", "\n")
	s = strings.TrimRight(s, "\n") + "\n"
	return strings.ReplaceAll(s, "\n", text.Ending(doc))
}

// Replace puts a text in the place of the block that begins with a line. All brackets have to close, before and
// after.
func (l *Language) Replace(doc []byte, first string, put []byte) ([]byte, error) {
	if err := l.fits(doc, put); err != nil {
		return nil, err
	}
	at, err := l.Find(doc, first)
	if err != nil {
		return nil, err
	}
	now := whole(doc, put)
	if at.End == len(doc) && len(doc) > 0 && doc[len(doc)-1] != '\n' {
		now = strings.TrimRight(now, "\r\n")
	}
	return l.checked(text.Apply(doc, []text.Edit{{Span: at, New: now}}))
}

// Add puts a text at the end of the block that begins with a line, before the line that closes it; with a comma
// behind what stood last, and none at its own end, where the others are parted by commas.
func (l *Language) Add(doc []byte, first string, put []byte) ([]byte, error) {
	if err := l.fits(doc, put); err != nil {
		return nil, err
	}
	at, err := l.Find(doc, first)
	if err != nil {
		return nil, err
	}
	body := bytes.TrimRight(at.In(doc), "\r\n")
	from := bytes.LastIndexByte(body, '\n')
	if from < 0 {
		return nil, fmt.Errorf("the block that begins with %q stands on one line; give the line that closes it one of its own, and try again", text.Clean(strings.TrimSpace(first)))
	}
	closing := at.Start + from + 1
	now := strings.TrimRight(whole(doc, put), "\r\n")
	edits := []text.Edit{}
	if end, parted, some := l.last(doc, text.Span{Start: at.Start, End: closing}); some {
		said := strings.TrimSuffix(strings.TrimRight(now, " \t"), ",")
		switch {
		case parted == commaBehind:
			now = said + ","
		case parted == commaBetween:
			edits, now = append(edits, text.Insert(end, ",")), said
		}
	}
	edits = append(edits, text.Insert(closing, now+text.Ending(doc)))
	return l.checked(text.Apply(doc, edits))
}

// How the parts of a list are parted.
const (
	noCommas     = iota
	commaBetween // and none behind the last
	commaBehind  // behind the last too
)

// last is where the last part of a list ends, without a comma, and how its parts are parted; some is false for a
// list without any.
func (l *Language) last(doc []byte, within text.Span) (end, parted int, some bool) {
	bare := l.withoutComments(within.In(doc))
	lines := bytes.SplitAfter(bare, []byte("\n"))
	offset, commas, ends := within.Start, 0, 0
	for i, line := range lines {
		said := bytes.TrimSpace(line)
		opens := i == 0 || !some && len(said) == 1 && strings.IndexByte("([{", said[0]) >= 0
		if len(said) > 0 && !opens {
			some = true
			end = offset + len(bytes.TrimRight(line, " \t\r\n"))
			ends++
			if said[len(said)-1] == ',' {
				commas++
			}
		}
		offset += len(line)
	}
	if !some {
		return 0, noCommas, false
	}
	behind := doc[end-1] == ','
	switch {
	case behind:
		return end, commaBehind, true
	case commas > 0:
		return end, commaBetween, true
	}
	return end, noCommas, true
}

// withoutComments has blanks where comments are.
func (l *Language) withoutComments(doc []byte) []byte {
	out := bytes.Clone(doc)
	for i := 0; i < len(out); {
		rest := out[i:]
		switch {
		case l.Long[0] != "" && bytes.HasPrefix(rest, []byte(l.Long[0])):
			end := bytes.Index(rest, []byte(l.Long[1]))
			if end < 0 {
				end = len(rest) - len(l.Long[1])
			}
			for k := i; k < i+end+len(l.Long[1]); k++ {
				if out[k] != '\n' {
					out[k] = ' '
				}
			}
			i += end + len(l.Long[1])
		case slices.ContainsFunc(l.Line, func(mark string) bool { return bytes.HasPrefix(rest, []byte(mark)) }):
			for i < len(out) && out[i] != '\n' {
				out[i] = ' '
				i++
			}
		case strings.IndexByte(l.Quotes, out[i]) >= 0:
			end, _ := l.quoted(out, i)
			i = max(end, i+1)
		default:
			i++
		}
	}
	return out
}

// fits looks that the brackets of a document close, and those of what is put into it.
func (l *Language) fits(doc, put []byte) error {
	if fault := l.Balanced(doc); fault != nil {
		return fmt.Errorf("its brackets do not close as it is, so that no block of it is sure: %w", fault)
	}
	if fault := l.Balanced(put); fault != nil {
		return fmt.Errorf("the brackets of what is to be put there do not close: %w", fault)
	}
	if len(bytes.TrimSpace(put)) == 0 {
		return errors.New("there is nothing in what is to be put there")
	}
	return nil
}

func (l *Language) checked(now []byte, err error) ([]byte, error) {
	if err != nil {
		return nil, err
	}
	if fault := l.Balanced(now); fault != nil {
		return nil, fmt.Errorf("its brackets would not close any more, so nothing is changed: %w", fault)
	}
	return now, nil
}

// PutAt puts a value in the place of the one at a path of keys in a JSON document.
func PutAt(doc []byte, at string, put []byte) ([]byte, error) {
	root, fault := text.ReadJSON(doc)
	if fault != nil {
		return nil, fault
	}
	if _, fault := text.ReadJSON(put); fault != nil {
		return nil, fmt.Errorf("what is to be put there is no JSON: %w", fault)
	}
	n := root.Get(at)
	if n == nil || at == "" {
		return nil, fmt.Errorf("there is nothing at %q", text.Clean(at))
	}
	line := doc[bytes.LastIndexByte(doc[:n.Start], '\n')+1 : n.Start]
	indent := string(line[:len(line)-len(bytes.TrimLeft(line, " \t"))])
	now := strings.TrimRight(whole(doc, bytes.TrimSpace(put)), "\r\n")
	now = strings.ReplaceAll(now, "\n", "\n"+indent)
	out, err := text.Apply(doc, []text.Edit{{Span: n.Span, New: now}})
	if err != nil {
		return nil, err
	}
	if _, fault := text.ReadJSON(out); fault != nil {
		return nil, fmt.Errorf("with this it could not be read any more, so nothing is changed: %w", fault)
	}
	return out, nil
}
