package text

import (
	"bytes"
	"fmt"
	"strings"
)

// INIStyle is how an INI file is written.
type INIStyle struct {
	Comment string // each of these characters starts a comment line; ";#" when empty
	Assign  string // "=" when empty
	Bare    bool   // keys without a value are allowed
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
}

// ReadINI reads an INI file. Lines that cannot be understood are among its
// faults and left out.
func ReadINI(doc []byte, style INIStyle) *INI {
	if style.Comment == "" {
		style.Comment = ";#"
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
		case strings.IndexByte(style.Comment, doc[body.Start]) >= 0:
			mark := Span{body.Start, body.Start + 1}
			if mark.End < body.End && doc[mark.End] == ' ' {
				mark.End++
			}
			if e, fault := iniEntry(doc, line, Span{mark.End, body.End}, style); fault == nil && e.Key.Len() > 0 {
				e.Section, e.Off = section.Name, mark
				ini.Hidden = append(ini.Hidden, e)
			}
		case doc[body.Start] == '[':
			end := bytes.IndexByte(body.In(doc), ']')
			if end < 0 {
				ini.Faults = append(ini.Faults, FaultAt(doc, body.Start, "the section's name is not closed with ]"))
				continue
			}
			name := trim(doc, Span{body.Start + 1, body.Start + end})
			ini.Sections = append(ini.Sections, INISection{Name: string(name.In(doc)), Line: line, End: line.End})
		default:
			e, fault := iniEntry(doc, line, body, style)
			if fault != nil {
				ini.Faults = append(ini.Faults, fault)
				continue
			}
			e.Section, section.End = section.Name, line.End
			ini.Entries = append(ini.Entries, e)
		}
	}
	return ini
}

func iniEntry(doc []byte, line Line, body Span, style INIStyle) (INIEntry, *Fault) {
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
	value := trim(doc, Span{body.Start + cut + len(style.Assign), body.End})
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
