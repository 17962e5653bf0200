package lineup

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// editor is the list of one registration as it stands in its document, for all
// shapes that are a list. Its edits are for the document that it was opened on.
type editor interface {
	// entries are the items in order. Name is the text that stands for the mod.
	entries() []editorEntry
	// insert puts an item before item i, or at the end. raw is how it was written
	// where it was taken from, "" for a new one.
	insert(i int, name, number, raw string) ([]text.Edit, error)
	remove(i int) ([]text.Edit, error)
	rename(i int, name string) ([]text.Edit, error)
}

type editorEntry struct {
	name, number string
	raw          string    // the item as it is written, to be put elsewhere
	span         text.Span // of the name in the document
	line         text.Span // of what is shown as its place
	off          bool      // switched off where it stands
}

// errParked says that an item cannot be switched off where it stands; then it is
// taken out, and its place remembered.
var errParked = errors.New("the item has to be parked")

// switcher is an editor that can switch an item off in its place.
type switcher interface {
	turn(i int, on bool) ([]text.Edit, error)
}

// openEditor finds a registration's list in its document. The fault says why it
// cannot be found; then nothing is changed in it.
func openEditor(r *dialect.Registration, doc []byte) (editor, *text.Fault) {
	style := text.ListStyle{Separator: r.Separator, Mark: r.Mark, Last: r.Last}
	switch r.Shape {
	case dialect.ShapeList:
		if isLaunch(r.Format) {
			return openLaunchList(r, doc, style)
		}
		p, fault := findPiece(r, doc, r.At)
		if fault != nil {
			return nil, fault
		}
		return &valueEditor{doc, p, style}, nil
	case dialect.ShapeParallel:
		return openParallel(r, doc, style)
	case dialect.ShapeItems:
		return openItems(r, doc)
	case dialect.ShapeWords:
		return openWords(r, doc)
	case dialect.ShapeSection:
		return openSection(r, doc)
	case dialect.ShapeStatement:
		return openStatements(r, doc)
	case dialect.ShapePresence:
		return openPresence(r, doc)
	case dialect.ShapeLink:
		return openLinks(r, doc)
	case dialect.ShapeKey:
		if !r.Switched() {
			return openMembers(r, doc)
		}
		return openKeys(r, doc)
	case dialect.ShapeRepeat:
		return openRepeat(r, doc)
	}
	return nil, text.FaultAt(doc, 0, "no list is known for the shape %q", string(r.Shape))
}

// findPiece finds the value at a place in a document of any format.
func findPiece(r *dialect.Registration, doc []byte, at string) (text.Piece, *text.Fault) {
	missing := func() (text.Piece, *text.Fault) {
		return text.Piece{}, text.FaultAt(doc, len(doc), "%s is not in this file; add it, empty, and try again", at)
	}
	switch r.Format {
	case dialect.FormatKeyValue, dialect.FormatINI:
		section, key, ok := strings.Cut(at, "/")
		if !ok {
			section, key = "", at
		}
		style := text.INIStyle{Comment: r.Comment, Assign: r.Assign}
		if at == r.At || at == r.Numbers {
			style.Behind = commentBehind(r)
		}
		ini := text.ReadINI(doc, style)
		if e, ok := ini.Find(doc, section, key); ok {
			return e.Value, nil
		}
		return missing()
	case dialect.FormatEnv:
		l := text.ReadEnv(doc)
		if p, ok := l.Variables[at]; ok {
			return p, nil
		}
		return missing()
	case dialect.FormatJSON, dialect.FormatYAML, dialect.FormatTOML, dialect.FormatXML:
		root, fault := ReadDocument(r.Format, doc)
		if fault != nil {
			return text.Piece{}, fault
		}
		n := root.Get(at)
		if n == nil && r.Format == dialect.FormatXML {
			n = xmlValue(root, at)
		}
		if n == nil {
			if p, ok := assignedIn(root, at); ok {
				return p, nil
			}
			return missing()
		}
		if n.Kind != text.NodeString {
			return text.Piece{}, text.FaultAt(doc, n.Start, "%s has to be a text here", at)
		}
		return n.Piece, nil
	}
	return launchPiece(r, doc, at)
}

// commentBehind are the marks of a comment behind a list, in which no name has one behind a blank:
// all but the one that parts its items.
func commentBehind(r *dialect.Registration) string {
	marks := text.Marks(cmp.Or(r.Comment, "; #"))
	return strings.Join(slices.DeleteFunc(marks, func(m string) bool { return m == r.Separator }), " ")
}

// assignedIn finds a value in a list of NAME=value texts, as environments are
// written in compose-style files: the path leads to the list and ends in the name.
func assignedIn(root *text.Node, at string) (p text.Piece, ok bool) {
	i := strings.LastIndexByte(at, '.')
	if i < 0 {
		return p, false
	}
	list := root.Get(at[:i])
	if list == nil || list.Kind != text.NodeList {
		return p, false
	}
	for _, item := range list.Items {
		if name := at[i+1:] + "="; item.Kind == text.NodeString && strings.HasPrefix(item.Piece.Value, name) {
			p, ok = item.Piece.Tail(len(name)), true // of two the last counts
		}
	}
	return p, ok
}

// xmlValue follows a path through elements that occur once: a.b.@c or a.b.
func xmlValue(root *text.Node, at string) *text.Node {
	n := root
	for _, name := range strings.Split(at, ".") {
		if n = n.Get(name); n == nil {
			return nil
		}
		if n.Kind == text.NodeList {
			if len(n.Items) != 1 {
				return nil
			}
			n = n.Items[0]
		}
	}
	if n.Kind == text.NodeObject {
		return n.Get("#text")
	}
	return n
}

// ReadDocument reads a document of JSON, YAML, TOML or XML; the fault says why it cannot be.
func ReadDocument(f dialect.Format, doc []byte) (*text.Node, *text.Fault) {
	switch f {
	case dialect.FormatJSON:
		return text.ReadJSON(doc)
	case dialect.FormatYAML:
		return text.ReadYAML(doc)
	case dialect.FormatTOML:
		return text.ReadTOML(doc)
	}
	return text.ReadXML(doc)
}

func readLaunch(r *dialect.Registration, doc []byte) *text.Launch {
	if r.Format == dialect.FormatCompose {
		return text.ReadCompose(doc, r.Within)
	}
	return launchOf(r.Format, doc)
}

// ReadLaunch reads a start script, a unit or what is pasted into a form. The fault says what cannot be
// understood of it.
func ReadLaunch(f dialect.Format, doc []byte) (*text.Launch, *text.Fault) {
	l := launchOf(f, doc)
	if len(l.Faults) > 0 {
		return nil, l.Faults[0]
	}
	return l, nil
}

func launchOf(f dialect.Format, doc []byte) *text.Launch {
	switch f {
	case dialect.FormatShell:
		return text.ReadPOSIX(doc)
	case dialect.FormatBatch:
		return text.ReadBatch(doc)
	case dialect.FormatUnit:
		return text.ReadUnit(doc)
	}
	return text.ReadWords(doc)
}

// launchPiece finds the value of a launch parameter that is given once.
func launchPiece(r *dialect.Registration, doc []byte, at string) (text.Piece, *text.Fault) {
	found, fault := launchValues(r, doc, at)
	switch {
	case fault != nil:
		return text.Piece{}, fault
	case len(found) > 1:
		prefix, _, _ := strings.Cut(at, "{")
		return text.Piece{}, text.FaultAt(doc, found[1].word.Start, "%s is given twice in this file; only one of them can be meant", strings.TrimSpace(prefix))
	}
	return found[0].value, nil
}

// launchValue is the value of a launch parameter, and the words that give it, with what parts them
// from the word before; these are empty where they cannot be taken out.
type launchValue struct {
	value text.Piece
	word  text.Span
}

// launchValues finds the values of a launch parameter, each written in a word with it
// (`-mods={list}`) or in the word after it (`-mods {list}`), or in the variable that this word
// consists of.
func launchValues(r *dialect.Registration, doc []byte, at string) (found []launchValue, fault *text.Fault) {
	l := readLaunch(r, doc)
	if len(l.Faults) > 0 {
		return nil, l.Faults[0]
	}
	prefix, _, _ := strings.Cut(at, "{")
	flag, apart := strings.CutSuffix(prefix, " ")
	for _, c := range l.Commands {
		earlier := len(found) // in other commands
		for i := range c.Words {
			w, use := c.Words[i], c.Uses[i]
			switch {
			case apart && w.Value == flag && i+1 < len(c.Words):
				w, use = c.Words[i+1], c.Uses[i+1]
			case !apart && strings.HasPrefix(w.Value, prefix):
				use.At -= len(prefix)
				w = w.Tail(len(prefix))
			default:
				continue
			}
			v := launchValue{value: w, word: text.Span{Start: w.Start, End: w.Start}}
			if r.Format != dialect.FormatCompose && i > 0 && strings.Trim(string(doc[c.Words[i-1].End:max(c.Words[i].Start, c.Words[i-1].End)]), continued) == "" {
				v.word = text.Span{Start: c.Words[i-1].End, End: w.End}
			}
			if use.Name != "" || use.Mixed {
				variable, ok := l.Variables[use.Name]
				if use.Cut {
					return nil, text.FaultAt(doc, w.Start, "the value of %s falls apart here, at a blank or another sign that means something to the shell; it would have to stand in quotes", strings.TrimSpace(prefix))
				}
				if use.Mixed || w.Value != "" || !ok {
					return nil, text.FaultAt(doc, w.Start, "the value of %s is put together when the script runs, so it is not changed here", strings.TrimSpace(prefix))
				}
				v.value, v.word = variable, text.Span{Start: w.Start, End: w.Start}
			}
			if earlier > 0 || slices.ContainsFunc(found, func(f launchValue) bool { return f.value.Span == v.value.Span }) {
				return nil, text.FaultAt(doc, w.Start, "%s is given twice in this file; only one of them can be meant", strings.TrimSpace(prefix))
			}
			found = append(found, v)
		}
	}
	if found == nil {
		return nil, text.FaultAt(doc, len(doc), "no command in this file has %s; add it, empty, and try again", strings.TrimSpace(prefix))
	}
	return found, nil
}

// severalEditor is a list in the values of one launch parameter that is given more than once.
type severalEditor struct {
	parts []valueEditor
	words []text.Span // that give each part, empty where they cannot be taken out
}

func openLaunchList(r *dialect.Registration, doc []byte, style text.ListStyle) (editor, *text.Fault) {
	found, fault := launchValues(r, doc, r.At)
	if fault != nil {
		return nil, fault
	}
	s := &severalEditor{}
	for _, v := range found {
		s.parts, s.words = append(s.parts, valueEditor{doc, v.value, style}), append(s.words, v.word)
	}
	if len(s.parts) == 1 {
		return &s.parts[0], nil
	}
	return s, nil
}

func (s *severalEditor) entries() (list []editorEntry) {
	for i := range s.parts {
		list = append(list, s.parts[i].entries()...)
	}
	return list
}

// part is where item i stands; for one behind the last it is the end of the last part that has any.
func (s *severalEditor) part(i int) (part, at int) {
	for k := range s.parts {
		n := len(s.parts[k].entries())
		if i < n {
			return k, i
		}
		if i -= n; n > 0 {
			part, at = k, n
		}
	}
	return part, at
}

func (s *severalEditor) insert(i int, name, number, raw string) ([]text.Edit, error) {
	part, at := s.part(i)
	return s.parts[part].insert(at, name, number, raw)
}

// remove takes an item out, and with the last of a part the words that give it: what an empty value
// means beside others nobody knows.
func (s *severalEditor) remove(i int) ([]text.Edit, error) {
	part, at := s.part(i)
	if len(s.parts[part].entries()) == 1 && s.words[part].Len() > 0 {
		return []text.Edit{text.Delete(s.words[part])}, nil
	}
	return s.parts[part].remove(at)
}

func (s *severalEditor) rename(i int, name string) ([]text.Edit, error) {
	part, at := s.part(i)
	return s.parts[part].rename(at, name)
}

// valueEditor is a list in one value.
type valueEditor struct {
	doc   []byte
	piece text.Piece
	style text.ListStyle
}

func (s *valueEditor) entries() (list []editorEntry) {
	for _, it := range s.piece.Items(s.style) {
		span := text.Span{Start: s.piece.At(it.Start), End: s.piece.At(it.End)}
		list = append(list, editorEntry{name: it.Name, raw: it.Name, span: span, line: s.piece.Span})
	}
	return list
}

// arrange gives the list the items whose indexes are in keep; -1 is fresh.
func (s *valueEditor) arrange(keep []int, fresh string) ([]text.Edit, error) {
	items := s.piece.Items(s.style)
	names := make([]string, len(keep))
	for i, k := range keep {
		names[i] = fresh
		if k >= 0 {
			names[i] = items[k].Name
		}
	}
	return s.piece.WithItems(s.style, names, keep)
}

func (s *valueEditor) insert(i int, name, _, _ string) ([]text.Edit, error) {
	return s.arrange(slices.Insert(upTo(len(s.piece.Items(s.style))), i, -1), name)
}

func (s *valueEditor) remove(i int) ([]text.Edit, error) {
	return s.arrange(slices.Delete(upTo(len(s.piece.Items(s.style))), i, i+1), "")
}

func (s *valueEditor) rename(i int, name string) ([]text.Edit, error) {
	items := s.piece.Items(s.style)
	names := make([]string, len(items))
	for k, it := range items {
		names[k] = it.Name
	}
	names[i] = name
	return s.piece.WithItems(s.style, names, upTo(len(items)))
}

// upTo is 0, 1, … n-1.
func upTo(n int) []int {
	list := make([]int, n)
	for i := range list {
		list[i] = i
	}
	return list
}

// parallelEditor is two lists side by side: names and catalogue numbers.
type parallelEditor struct {
	names, numbers valueEditor
}

func openParallel(r *dialect.Registration, doc []byte, style text.ListStyle) (editor, *text.Fault) {
	names, fault := findPiece(r, doc, r.At)
	if fault != nil {
		return nil, fault
	}
	numbers, fault := findPiece(r, doc, r.Numbers)
	if fault != nil {
		return nil, fault
	}
	s := &parallelEditor{valueEditor{doc, names, style}, valueEditor{doc, numbers, text.ListStyle{Separator: style.Separator, Last: style.Last}}}
	if r.Apart {
		return &apartEditor{s.names, s.numbers}, nil
	}
	if n, m := len(s.names.entries()), len(s.numbers.entries()); n != m {
		return nil, text.FaultAt(doc, numbers.Start, "%s has %d items and %s has %d; which number belongs to which mod cannot be told", r.At, n, r.Numbers, m)
	}
	return s, nil
}

func (s *parallelEditor) entries() []editorEntry {
	list, numbers := s.names.entries(), s.numbers.entries()
	for i := range list {
		list[i].number = numbers[i].name
	}
	return list
}

func (s *parallelEditor) insert(i int, name, number, raw string) ([]text.Edit, error) {
	if number == "" {
		return nil, fmt.Errorf("%s has no catalogue number, and this list needs one beside each name", text.Clean(name))
	}
	return both(s.names.insert(i, name, "", raw))(s.numbers.insert(i, number, "", ""))
}

func (s *parallelEditor) remove(i int) ([]text.Edit, error) {
	return both(s.names.remove(i))(s.numbers.remove(i))
}

func (s *parallelEditor) rename(i int, name string) ([]text.Edit, error) {
	return s.names.rename(i, name)
}

// apartEditor is a list of names and one of the numbers that they are downloaded by: one download may
// bring several mods, or none that is registered.
type apartEditor struct {
	valueEditor
	numbers valueEditor
}

// insert adds the number too, unless it is there; a mod may have none.
func (s *apartEditor) insert(i int, name, number, raw string) ([]text.Edit, error) {
	numbers := s.numbers.entries()
	if number == "" || s.number(number) >= 0 {
		return s.valueEditor.insert(i, name, "", raw)
	}
	return both(s.valueEditor.insert(i, name, "", raw))(s.numbers.insert(len(numbers), number, "", ""))
}

func (s *apartEditor) number(number string) int {
	return slices.IndexFunc(s.numbers.entries(), func(e editorEntry) bool { return e.name == number })
}

// drop takes a number out that no mod needs any more.
func (s *apartEditor) drop(number string) ([]text.Edit, error) {
	if i := s.number(number); i >= 0 {
		return s.numbers.remove(i)
	}
	return nil, nil
}

// Numbers are the catalogue numbers beside the names of a registration, where these do not stand item
// by item.
func (l *Lineup) Numbers(registration int) (list []string) {
	i := l.root(registration)
	if i < 0 {
		return nil
	}
	s, fault := openEditor(&l.Dialect.Registrations[registration], l.Files[i].Bytes)
	if apart, ok := s.(*apartEditor); ok && fault == nil {
		for _, e := range apart.numbers.entries() {
			list = append(list, e.name)
		}
	}
	return list
}

// both joins the edits of two lists.
func both(a []text.Edit, errA error) func([]text.Edit, error) ([]text.Edit, error) {
	return func(b []text.Edit, errB error) ([]text.Edit, error) {
		if errA != nil {
			return nil, errA
		}
		return append(a, b...), errB
	}
}
