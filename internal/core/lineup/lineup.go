// Package lineup reads the registrations of a server, in their sections and
// their load order, and changes them in place.
package lineup

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"unicode"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// MaxFile is the largest startup file that is read, in bytes.
const MaxFile = 64 << 20

// maxDepth bounds how deep startup files may include each other.
const maxDepth = 16

// Lineup is what the registrations of a server say. It is not changed once
// made; Apply makes a new one.
type Lineup struct {
	Dialect  *dialect.Dialect
	Vars     dialect.Vars
	Files    []File
	Entries  []Entry // registration by registration, each in the order as written
	Sections []Section
	Settings []Setting
	Problems []Problem
	Slips    []Slip   // lines that are nearly registrations
	Parked   []Parked // switched off in lists without comments

	source Source
	seq    int
	called map[Presence]string
}

// Presence is what a mod is registered by that loads for being in a folder.
type Presence struct {
	Registration int    // of Dialect.Registrations
	Name         string // of the file or folder, but for what it ends in
}

// Called is the line-up in which mods that load for being in a folder have the names that they
// give themselves, where those are other than the names of their files.
func (l *Lineup) Called(names map[Presence]string) *Lineup {
	if len(names) == 0 {
		return l
	}
	after := *l
	after.called, after.Entries = names, slices.Clone(l.Entries)
	for i := range after.Entries {
		e := &after.Entries[i]
		if name, ok := names[Presence{e.Registration, after.present(e)}]; ok {
			e.Name = name
		}
	}
	return &after
}

// present is the name in the folder by which an entry is registered, "" where it is not by that.
func (l *Lineup) present(e *Entry) string {
	if !l.Dialect.Registrations[e.Registration].ByPresence() {
		return ""
	}
	return string(e.Span.In(l.Files[e.File].Bytes))
}

// Present are the entries of mods that are registered by being in a folder, each with the paths
// that its file or folder has while it is on and while it is off.
func (l *Lineup) Present(each func(p Presence, paths [2]string)) {
	for i := range l.Entries {
		e := &l.Entries[i]
		r := &l.Dialect.Registrations[e.Registration]
		if !r.ByPresence() {
			continue
		}
		p := Presence{e.Registration, l.present(e)}
		var paths [2]string
		for k, form := range []string{r.At, r.Aside} {
			if pattern, err := text.ParseFileName(form); err == nil { // Parse has checked it
				paths[k] = path.Join(l.Files[e.File].Path, pattern.Fill(func(string) string { return p.Name }))
			}
		}
		each(p, paths)
	}
}

// Source returns the bytes of a file by its absolute path, or the names in a folder, one on each
// line; with a slash at the end of the path each link there with what it leads to, `NAME -> TARGET`.
// An error of fs.ErrNotExist means that there is none.
type Source func(path string) ([]byte, error)

// File is one startup file.
type File struct {
	Path         string
	Bytes        []byte // decoded, when the file is UTF-16
	Encoding     text.Encoding
	Missing      bool // the file is not there; Bytes are what a new one would hold
	Registration int  // of Dialect.Registrations
	parsed       bool
}

// Raw is the file as it is on the disk, or as it is to be written.
func (f *File) Raw() []byte { return text.Encode(f.Bytes, f.Encoding) }

// Entry is one registration of a mod or of a category folder.
type Entry struct {
	Name         string
	Value        string // in a key for each mod: the value; where paths may stand for names: what is written; of a link: the path that it leads to
	On           bool
	Odd          bool // On, as the value is not one for off; but it is not one for on either
	Group        bool // names a category folder
	Registration int
	File         int       // of Files
	Line         text.Span // the whole line with its ending
	Span         text.Span // the name
	Section      int       // of Sections, or -1
	Seq          int       // settings and mods of a startup script have numbers in the order in which the server reads them

	parked bool      // of Lineup.Parked: it stands in no file
	value  text.Span // in a key for each mod
	start  int       // where the statement begins, after indentation
	mark   text.Span // the comment mark that switches it off
}

// Section is a titled part of a startup file.
type Section struct {
	Title string
	File  int
	Line  text.Span
}

// Setting is a name and value in a startup file.
type Setting struct {
	Name, Value string
	File        int
	Span        text.Span // the value
	Seq         int       // as in Entry

	piece *text.Piece // in a structured file or a launch line
}

// Problem is a place in a startup file that cannot be understood.
type Problem struct {
	Code     string // as in package check
	File     int
	Harmless bool // what stands there could register nothing, so that the rest is understood all the same
	text.Fault
}

// Read reads all registrations of a server. parked is what Initium remembers of
// mods that are switched off.
func Read(d *dialect.Dialect, vars dialect.Vars, source Source, parked []Parked) *Lineup {
	l := &Lineup{Dialect: d, Vars: vars, source: source, Parked: parked}
	for i := range d.Registrations {
		r := &d.Registrations[i]
		name, ok := vars.Expand(r.File)
		if !ok {
			continue
		}
		if r.Format == dialect.FormatUnit {
			name = l.effectiveUnit(name)
		}
		if r.Shape == dialect.ShapeLink {
			name = strings.TrimRight(name, "/") + "/"
		}
		file, err := l.open(name, i)
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) && r.Optional {
				l.Files = l.Files[:file]
				continue
			} else if errors.Is(err, fs.ErrNotExist) {
				fresh, _ := vars.Expand(r.New)
				l.Files[file].Missing, l.Files[file].Bytes = true, []byte(fresh)
			} else {
				l.problem("file-unreadable", file, &text.Fault{Line: 1, Column: 1, Message: err.Error()})
				continue
			}
		}
		switch r.Shape {
		case dialect.ShapeLine:
			l.readScript(file, 1)
		case dialect.ShapeKey:
			if r.Format == dialect.FormatKeyValue {
				l.readKeys(file)
			} else {
				l.readList(file)
			}
		default:
			l.readList(file)
		}
	}
	for i := range l.Problems { // of a file that registers nothing, it could be what should
		p := &l.Problems[i]
		p.Harmless = p.Harmless && slices.ContainsFunc(l.Entries, func(e Entry) bool { return e.File == p.File && !e.parked })
	}
	return l
}

// effectiveUnit is the file that has the last word about a unit's command: the
// last of its drop-ins (NAME.d/*.conf, in the order of their names) that has an
// ExecStart, or the unit itself (systemd.unit(5)).
func (l *Lineup) effectiveUnit(unit string) string {
	listing, err := l.source(unit + ".d")
	if err != nil {
		return unit
	}
	effective := unit
	for _, name := range strings.Fields(string(listing)) {
		file := path.Join(unit+".d", name)
		if !strings.HasSuffix(name, ".conf") {
			continue
		}
		if data, err := l.source(file); err == nil && len(text.ReadUnit(data).Commands) > 0 {
			effective = file
		}
	}
	return effective
}

// open adds a file to the line-up.
func (l *Lineup) open(name string, registration int) (file int, err error) {
	data, err := l.source(name)
	doc, encoding := text.Decode(data)
	l.Files = append(l.Files, File{Path: name, Bytes: doc, Encoding: encoding, Registration: registration})
	return len(l.Files) - 1, err
}

func (l *Lineup) problem(code string, file int, fault *text.Fault) {
	l.Problems = append(l.Problems, Problem{Code: code, File: file, Fault: *fault})
}

// oddLine notes a line that is not understood, and whether it could register something.
func (l *Lineup) oddLine(file int, fault *text.Fault, harmless bool) {
	l.Problems = append(l.Problems, Problem{"line-unreadable", file, harmless, *fault})
}

// readable notes that a file was understood, or why it cannot be.
func (l *Lineup) readable(file int) bool {
	if fault := text.NotText(l.Files[file].Bytes); fault != nil {
		l.problem("file-unreadable", file, fault)
		return false
	}
	l.Files[file].parsed = true
	return true
}

func (l *Lineup) readKeys(file int) {
	f := &l.Files[file]
	r := &l.Dialect.Registrations[f.Registration]
	if !l.readable(file) {
		return
	}
	pairs, faults := text.KeyValue(f.Bytes, text.KeyValueStyle{Comment: r.Comment, Assign: r.Assign})
	fixed := strings.FieldsFunc(strings.ReplaceAll(r.Key, "{mod}", "\n"), func(c rune) bool { return c == '\n' })
	for _, fault := range faults {
		line := lineAt(f.Bytes, fault.Line)
		l.oddLine(file, fault, len(fixed) > 0 && strings.HasPrefix(r.Key, fixed[0]) && !slices.ContainsFunc(strings.FieldsFunc(line, unicode.IsSpace), func(w string) bool {
			return strings.Contains(w, fixed[0]) || nearly(w[:min(len(w), len(fixed[0]))], fixed[0])
		}))
	}
	key, err := text.ParsePattern(r.Key, nil)
	if err != nil {
		return // Parse has checked it
	}
	for _, p := range pairs {
		name, value := string(p.Key.In(f.Bytes)), string(p.Value.In(f.Bytes))
		caps, ok := key.Match([]byte(name), nil)
		if !ok || !switches(r, value) {
			if !ok && on(r, value) {
				l.keySlips(file, p.Key)
			}
			l.Settings = append(l.Settings, Setting{Name: name, Value: value, File: file, Span: p.Value})
			continue
		}
		span := text.Span{Start: p.Key.Start + caps[0].Start, End: p.Key.Start + caps[0].End}
		l.Entries = append(l.Entries, Entry{
			Name: string(span.In(f.Bytes)), Value: value, On: !off(r, value), Odd: !off(r, value) && !on(r, value),
			Registration: f.Registration, File: file, Line: p.Line.Span, Span: span, Section: -1, value: p.Value, start: p.Key.Start,
		})
	}
}

// switches tells whether a value is that of a mod's key. Where any key may be that of a
// mod, it has to be a yes or a no.
func switches(r *dialect.Registration, value string) bool {
	return !r.Switched() || r.Key != "{mod}" || off(r, value) || on(r, value)
}

// off and on tell what the value of a mod's key means.
func off(r *dialect.Registration, value string) bool {
	return slices.Contains(r.OffWords, value) || value == r.Off
}

func on(r *dialect.Registration, value string) bool {
	return value == r.On || r.OnPath && strings.Contains(value, "/") ||
		slices.ContainsFunc(r.OnWords, func(w string) bool { return strings.EqualFold(w, value) })
}

// scriptWords are a dialect's words for one kind of statement, cut up once.
type scriptWords []string

// match reports whether a statement begins with the fixed words; fits, whether
// it also has the right number of words.
func (w scriptWords) match(words []text.Word) (begins, fits bool) {
	if len(w) == 0 || len(words) == 0 || !strings.HasPrefix(w[0], "{") && words[0].Value != w[0] {
		return false, false
	}
	if len(words) != len(w) {
		return true, false
	}
	for i, field := range w {
		if !strings.HasPrefix(field, "{") && words[i].Value != field {
			return true, false
		}
	}
	return true, true
}

// bare tells whether a name is all that stands on a line.
func (w scriptWords) bare() bool { return len(w) == 1 }

func (w scriptWords) get(placeholder string, words []text.Word) text.Word {
	return words[slices.Index(w, "{"+placeholder+"}")]
}

func (l *Lineup) readScript(file, depth int) {
	if !l.readable(file) {
		return
	}
	r := &l.Dialect.Registrations[l.Files[file].Registration]
	s := scriptReader{Lineup: l, r: r, file: file, depth: depth, data: l.Files[file].Bytes, section: -1,
		line: strings.Fields(r.Line), include: strings.Fields(r.Include)}
	for _, form := range r.SettingForms() {
		s.settings = append(s.settings, strings.Fields(form))
	}
	if r.Section != "" {
		s.title, _ = text.ParsePattern(r.Section, nil)
	}
	style := text.ScriptStyle{Comment: r.Comment, Quote: r.Quote}
	statements := text.Script(s.data, style)
	l.Entries = slices.Grow(l.Entries, len(statements))
	for _, st := range statements {
		switch {
		case st.Fault != nil:
			l.oddLine(file, st.Fault, s.harmless(st))
		case len(st.Words) == 0:
			s.comment(st, style)
		default:
			s.statement(st)
		}
	}
}

// scriptReader reads one startup script into a line-up.
type scriptReader struct {
	*Lineup
	r             *dialect.Registration
	file, depth   int
	data          []byte
	line, include scriptWords
	settings      []scriptWords
	title         *text.Pattern // of a section; nil where there are none
	section       int           // that is being read, -1 before the first
}

// harmless tells a line that cannot be read and could register nothing whatever it means: it begins
// with none of the words that do, nor with one that is nearly so.
func (s *scriptReader) harmless(st text.Statement) bool {
	first, _, _ := strings.Cut(strings.TrimLeft(string(st.Line.Text.In(s.data)), " \t"), " ")
	for _, words := range []scriptWords{s.line, s.include} {
		if len(words) > 0 && (words.bare() || strings.HasPrefix(first, words[0]) || nearly(first, words[0])) {
			return false
		}
	}
	return true
}

// lineAt is the text of a line, counted from 1; "" where there is none.
func lineAt(doc []byte, number int) string {
	if lines := text.Lines(doc); number >= 1 && number <= len(lines) {
		return string(lines[number-1].Text.In(doc))
	}
	return ""
}

// comment reads a line without words: the title of a section, a registration that is
// switched off, or nothing.
func (s *scriptReader) comment(st text.Statement, style text.ScriptStyle) {
	if s.title != nil {
		comment := bytes.TrimRight(st.Comment.In(s.data), " \t")
		if caps, ok := s.title.Match(comment, nil); ok {
			s.Sections = append(s.Sections, Section{strings.TrimSpace(string(caps[0].In(comment))), s.file, st.Line.Span})
			s.section = len(s.Sections) - 1
			return
		}
	}
	hidden, mark, ok := text.Uncomment(s.data, st, style)
	if !ok || s.line.bare() && mark.Len() > len(s.r.Comment) { // a name right behind the mark is no prose
		return
	}
	if rest := strings.TrimSpace(string(hidden.Comment.In(s.data))); rest == s.r.Comment {
		return // prose in a box of comment marks
	}
	if _, fits := s.line.match(hidden.Words); fits && s.plausible(s.r, s.line.get("mod", hidden.Words).Value) {
		s.addLine(s.file, hidden, s.line, s.section, mark)
	}
}

// statement reads a line with words.
func (s *scriptReader) statement(st text.Statement) {
	begins, fits := s.line.match(st.Words)
	if fits {
		s.addLine(s.file, st, s.line, s.section, text.Span{})
		return
	}
	if begins && !s.line.bare() && len(st.Words) != len(s.line) {
		s.problem("line-unreadable", s.file, text.FaultAt(s.data, st.Words[0].Start,
			"%q takes %d words and has %d here; a name with a blank has to be written in quotes or renamed", s.line[0], len(s.line), len(st.Words)))
		return
	}
	for _, setting := range s.settings {
		if _, fits := setting.match(st.Words); fits {
			name, value := setting[0], setting.get("value", st.Words)
			if slices.Contains(setting, "{name}") {
				name = setting.get("name", st.Words).Value
			}
			s.seq++
			s.Settings = append(s.Settings, Setting{name, value.Value, s.file, value.Span, s.seq, nil})
			return
		}
	}
	if _, fits := s.include.match(st.Words); fits {
		s.Lineup.include(s.file, s.depth, s.include.get("file", st.Words))
	} else if !begins || !s.line.bare() {
		s.slip(st)
	} else {
		s.problem("line-unreadable", s.file, text.FaultAt(s.data, st.Words[0].Start,
			"a line of this file is one name, and this one has %d words; a name with a blank has to be written in quotes or renamed", len(st.Words)))
	}
}

// plausible tells a switched-off registration from prose: a comment whose words
// happen to fit counts only when the name could be one.
func (l *Lineup) plausible(r *dialect.Registration, name string) bool {
	name, _ = modIn(r, name)
	_, bad := l.Dialect.Names.Forbidden(strings.TrimPrefix(name, l.groupMark(name)))
	return !bad
}

func (l *Lineup) addLine(file int, s text.Statement, words scriptWords, section int, mark text.Span) {
	word := words.get("mod", s.Words)
	name, at := modIn(&l.Dialect.Registrations[l.Files[file].Registration], word.Value)
	span := word.Span
	if at.Len() != len(word.Value) { // a part of the word, which may have quotes
		inner := (word.Len() - len(word.Value)) / 2
		span = text.Span{Start: word.Start + inner + at.Start, End: word.Start + inner + at.End}
	}
	l.seq++
	l.Entries = append(l.Entries, Entry{
		Seq: l.seq, Name: name, Value: written(&l.Dialect.Registrations[l.Files[file].Registration], word.Value), On: mark.Len() == 0, Group: l.groupMark(name) != "",
		Registration: l.Files[file].Registration, File: file, Line: s.Line.Span, Span: span, Section: section,
		start: s.Words[0].Start, mark: mark,
	})
}

// groupMark is the mark that shows name to be a category folder, or "".
func (l *Lineup) groupMark(name string) string {
	for _, p := range l.Dialect.Places {
		if p.Group != "" && strings.HasPrefix(name, p.Group) {
			return p.Group
		}
	}
	return ""
}

func (l *Lineup) include(file, depth int, word text.Word) {
	from := l.Files[file]
	target := word.Value
	if !path.IsAbs(target) {
		target = path.Join(path.Dir(from.Path), target)
	}
	complain := func(code, format string, args ...any) {
		l.problem(code, file, text.FaultAt(from.Bytes, word.Start, format, args...))
	}
	if dir := l.Vars["dir"]; dir != "" && !within(dir, target) {
		complain("include-outside", "%q lies outside the server's folder; Initium does not read it", word.Value)
		return
	}
	for _, f := range l.Files {
		if f.Path == target {
			complain("include-again", "%q is read a second time here", word.Value)
			return
		}
	}
	if depth >= maxDepth {
		complain("include-deep", "startup files that read each other go deeper than %d", maxDepth)
		return
	}
	if _, err := l.source(target); err != nil {
		complain("include-missing", "%q cannot be read: %v", word.Value, plainError(err))
		return
	}
	next, _ := l.open(target, from.Registration)
	l.readScript(next, depth+1)
}

func plainError(err error) string {
	if errors.Is(err, fs.ErrNotExist) {
		return "there is no such file"
	}
	return err.Error()
}

func within(dir, name string) bool {
	dir = path.Clean(dir)
	return name == dir || strings.HasPrefix(name, dir+"/")
}

// Setting returns the value of a setting in a registration's files; the last
// one counts. ok is false when it is not set.
func (l *Lineup) Setting(registration, name string) (s Setting, ok bool) {
	for _, s := range slices.Backward(l.Settings) {
		if s.Name == name && l.Dialect.Registrations[l.Files[s.File].Registration].Name == registration {
			return s, true
		}
	}
	return Setting{}, false
}

// Place says where an entry stands, for people.
func (l *Lineup) Place(e Entry) (file string, line, column int) {
	f := l.Files[e.File]
	if e.parked {
		return f.Path, 0, 0
	}
	if l.Dialect.Registrations[e.Registration].Shape == dialect.ShapeLink { // the link itself
		name, _, _ := strings.Cut(string(e.Line.In(f.Bytes)), LeadsTo)
		return path.Join(f.Path, strings.TrimSuffix(name, "\n")), 0, 0
	}
	line, column = text.Position(f.Bytes, e.Span.Start)
	return f.Path, line, column
}

// Secrets lists the values of settings that the dialect wants shown to nobody.
func (l *Lineup) Secrets() (list []string) {
	for _, s := range l.Settings {
		registration := l.Dialect.Registrations[l.Files[s.File].Registration].Name
		if text.IsSecret(s.Name, s.Value) {
			list = append(list, s.Value)
		}
		for _, v := range l.Dialect.Values {
			if v.Secret && v.Name == s.Name && v.Registration == registration && !slices.Contains(v.Placeholders, s.Value) {
				list = append(list, s.Value)
			}
		}
	}
	return list
}

// Find lists the entries with a name, in order.
func (l *Lineup) Find(name string) (entries []Entry) {
	for _, e := range l.Entries {
		if e.Name == name {
			entries = append(entries, e)
		}
	}
	return entries
}

// SectionTitles lists the sections in order.
func (l *Lineup) SectionTitles() []string {
	titles := make([]string, len(l.Sections))
	for i, s := range l.Sections {
		titles[i] = s.Title
	}
	return titles
}

func (l *Lineup) errNotRegistered(name string) error {
	return fmt.Errorf("%s is not registered on this server", text.Clean(name))
}
