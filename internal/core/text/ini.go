package text

import (
	"bytes"
	"fmt"
	"strings"
)

// INIStyle is how an INI file is written.
type INIStyle struct {
	Comment string // what starts a comment line, several with a blank between them; "; #" when empty
	Assign  string // "=" when empty
	Bare    bool   // keys without a value are allowed
	Behind  string // and what starts one behind a value without quotes, after a blank; none when empty
}

// INIEntry is a line with a key in an INI file.
type INIEntry struct {
	Section string // "" before the first one
	Line    Line
	Key     Span
	Value   Piece // empty, at the end of the line, for a key without a value
	HasSign bool  // there is an assignment mark
	Off     Span  // for an entry in a comment: the comment mark and a blank after it
}

// INISection is a section of an INI file.
type INISection struct {
	Name string
	Line Line
	End  int // where a new last line of it goes: after its last entry or its title
}

// INI is an INI file read with the places of everything. Keys may occur more than
// once, in one section or when a section comes again.
type INI struct {
	Sections []INISection
	Entries  []INIEntry
	Hidden   []INIEntry // entries in comments, as when a line was switched off
	Faults   []*Fault

	within []string // the section of each fault
}

// FaultIn is the first fault of a section, and of the lines that could begin it; nil for none.
// The others are elsewhere.
func (ini *INI) FaultIn(section string) (fault *Fault, others []*Fault) {
	for i, f := range ini.Faults {
		switch {
		case ini.within[i] != section && ini.within[i] != anySection:
			others = append(others, f)
		case fault == nil:
			fault = f
		}
	}
	return fault, others
}

// anySection is what a fault belongs to that stands where a section may begin.
const anySection = "\x00"

// ReadINI reads an INI file. Lines that cannot be understood are among its
// faults and left out.
func ReadINI(doc []byte, style INIStyle) *INI {
	marks := Marks(style.Comment)
	if len(marks) == 0 {
		marks = []string{";", "#"}
	}
	if style.Assign == "" {
		style.Assign = "="
	}
	ini := &INI{Sections: []INISection{{Line: Line{Span: Span{Begin(doc), Begin(doc)}}, End: Begin(doc)}}}
	for _, line := range Lines(doc) {
		body := trim(doc, line.Text)
		section := &ini.Sections[len(ini.Sections)-1]
		switch {
		case body.Len() == 0:
		case markAt(doc, body, marks) > 0:
			mark := Span{body.Start, body.Start + markAt(doc, body, marks)}
			if mark.End < body.End && doc[mark.End] == ' ' {
				mark.End++
			}
			if e, fault := iniEntry(doc, line, Span{mark.End, body.End}, style, marks); fault == nil && e.Key.Len() > 0 {
				e.Section, e.Off = section.Name, mark
				ini.Hidden = append(ini.Hidden, e)
			}
		case doc[body.Start] == '[':
			end := bytes.IndexByte(body.In(doc), ']')
			if end < 0 {
				ini.Faults = append(ini.Faults, FaultAt(doc, body.Start, "the section's name is not closed with ]"))
				ini.within = append(ini.within, anySection)
				continue
			}
			name := trim(doc, Span{body.Start + 1, body.Start + end})
			ini.Sections = append(ini.Sections, INISection{Name: string(name.In(doc)), Line: line, End: line.End})
		default:
			e, fault := iniEntry(doc, line, body, style, marks)
			if fault != nil {
				ini.Faults, ini.within = append(ini.Faults, fault), append(ini.within, section.Name)
				continue
			}
			e.Section, section.End = section.Name, line.End
			ini.Entries = append(ini.Entries, e)
		}
	}
	return ini
}

// Marks are the words that begin a comment, as a dialect lists them: with a blank between two.
// Of the two usual ones of an INI file none is needed.
func Marks(comment string) []string {
	if comment == ";#" || comment == "#;" {
		return []string{comment[:1], comment[1:]}
	}
	return strings.Fields(comment)
}

// markAt is how long the comment mark is that a span begins with, 0 for none.
func markAt(doc []byte, at Span, marks []string) (n int) {
	for _, mark := range marks {
		if hasPrefix(at.In(doc), mark) {
			n = max(n, len(mark))
		}
	}
	return n
}

// withoutComment is a value without the comment behind it: behind its quotes, or, where one may
// stand there, behind a blank.
func withoutComment(doc []byte, value Span, style INIStyle, marks []string) Span {
	if value.Len() == 0 {
		return value
	}
	if q := doc[value.Start]; q == '"' || q == '\'' {
		end := bytes.IndexByte(doc[value.Start+1:value.End], q)
		if end < 0 {
			return value
		}
		end += value.Start + 2
		if rest := trim(doc, Span{end, value.End}); rest.Start > end && markAt(doc, rest, marks) > 0 {
			return Span{value.Start, end}
		}
	}
	behind := Marks(style.Behind)
	for at := value.Start + 1; len(behind) > 0 && at < value.End; at++ {
		if isBlank(doc[at-1]) && markAt(doc, Span{at, value.End}, behind) > 0 {
			return trim(doc, Span{value.Start, at})
		}
	}
	return value
}

func iniEntry(doc []byte, line Line, body Span, style INIStyle, marks []string) (INIEntry, *Fault) {
	cut := bytes.Index(body.In(doc), []byte(style.Assign))
	if cut < 0 {
		if !style.Bare {
			return INIEntry{}, FaultAt(doc, body.Start, "expected a key, %q and a value, or a section in brackets", style.Assign)
		}
		return INIEntry{Line: line, Key: body, Value: plainPiece(doc, Span{body.End, body.End}, encodeLine)}, nil
	}
	key := trim(doc, Span{body.Start, body.Start + cut})
	if key.Len() == 0 {
		return INIEntry{}, FaultAt(doc, body.Start, "expected a key before %q", style.Assign)
	}
	value := withoutComment(doc, trim(doc, Span{body.Start + cut + len(style.Assign), body.End}), style, marks)
	if value.Len() == 0 { // it goes behind the blank that stands there, and not close to a comment
		behind := line.Text.In(doc)[body.Start-line.Text.Start+cut+len(style.Assign):]
		n := blanksAt(behind)
		if n < len(behind) {
			n = min(n, 1)
		}
		value.Start = body.Start + cut + len(style.Assign) + n
		value.End = value.Start
	}
	return INIEntry{Line: line, Key: key, Value: quotedLine(doc, value), HasSign: true}, nil
}

// quotedLine is a value to the end of a line; quotes around the whole of it are
// not part of the text.
func quotedLine(doc []byte, at Span) Piece {
	if at.Len() >= 2 {
		if q := doc[at.Start]; (q == '"' || q == '\'') && doc[at.End-1] == q && bytes.IndexByte(doc[at.Start+1:at.End-1], q) < 0 {
			return quotedPiece(doc, at, encodeLine)
		}
	}
	p := plainPiece(doc, at, encodeLine)
	p.rewrite = func(want string) (string, bool, error) {
		quoted := len(want) > 1 && (want[0] == '"' || want[0] == '\'') && strings.IndexByte(want[1:], want[0]) == len(want)-2
		if quoted || strings.Trim(want, " \t\r\v\f") != want {
			return "", false, fmt.Errorf("%q cannot be written here: a blank or quotes at its ends would be lost", Clean(want))
		}
		return "", false, nil
	}
	return p
}

// encodeLine writes text that ends with its line; the context is the quote that
// it stands in, or 0.
func encodeLine(context byte, s string) (string, error) {
	if context != 0 {
		return s, refuse(s, string(context), fmt.Sprintf("quotes of the kind %c", context))
	}
	return s, refuse(s, "", "a line")
}

// Find returns the last entry with a key in a section; ok is false when there is
// none.
func (ini *INI) Find(doc []byte, section, key string) (e INIEntry, ok bool) {
	for i := len(ini.Entries) - 1; i >= 0; i-- {
		if e := ini.Entries[i]; e.Section == section && string(e.Key.In(doc)) == key {
			return e, true
		}
	}
	return INIEntry{}, false
}
