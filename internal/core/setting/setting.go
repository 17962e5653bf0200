// Package setting reads what is set in a file of any notation that Initium knows, and changes it:
// one value, and no other byte.
package setting

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/text"
)

// Notation says how a file is written.
type Notation struct {
	Format  dialect.Format // key-value, ini, env, json, yaml, toml, xml, script, text, shell, batch, unit or words
	Comment string         // of a script, or of keys and values; several marks with a blank between them
	Assign  string         // what parts key and value; "=" when empty
	Quote   string         // of a script: the characters that may enclose a value
	Forms   []string       // of a script or a text: the lines that set something, such as `set {name} {value}`
	Style   text.FormStyle // of a text: how it is read, with these lines compiled
	Launch  string         // of a start script, unit or pasted command line: how a word begins that only the command which starts the server has

	Above int // of a script: what is set anew comes above this place, where it is read; 0 for anywhere
}

// Setting is one place at which something is set.
type Setting struct {
	Name  string    // a key; in a section after its name and a slash, in a document after the keys that lead to it and dots
	Value string    // what it is
	Line  int       // from 1
	Span  text.Span // the value as it is written
	Off   bool      // it stands in a comment, as a template has what may be set

	piece *text.Piece // of a text
	form  int         // of a script: which of the forms
	whole text.Span   // all that goes when it is unset: the line, with its ending; of XML the element or attribute; of a launch line its words
	word  bool        // it is one of a launch line
	mark  text.Span   // the comment mark that keeps it from counting
}

// Kind is what a value looks like.
type Kind string

// The kinds of values.
const (
	Flag   Kind = "yes or no"
	Number Kind = "number"
	Colour Kind = "colour" // as web pages have it: # and hexadecimal digits
	Path   Kind = "path"
	Text   Kind = "text"
)

var (
	colours = regexp.MustCompile(`^#(?:[0-9A-Fa-f]{3,4}|[0-9A-Fa-f]{6}|[0-9A-Fa-f]{8})$`)
	paths   = regexp.MustCompile(`^(?:[A-Za-z]:[/\\]|~/|\.{0,2}/)?[^\s/\\:;,=*?"'<>|]+(?:[/\\][^\s/\\:;,=*?"'<>|]+)*/?$`)
)

// flags are the pairs of words that people write for yes and no.
var flags = [][2]string{{"true", "false"}, {"yes", "no"}, {"on", "off"}, {"enabled", "disabled"}}

// KindOf tells what a value is by its looks.
func KindOf(value string) Kind {
	for _, pair := range flags {
		if strings.EqualFold(value, pair[0]) || strings.EqualFold(value, pair[1]) {
			return Flag
		}
	}
	if _, err := strconv.ParseFloat(value, 64); err == nil && strings.Trim(value, "0123456789.+-eE") == "" {
		return Number
	}
	switch {
	case colours.MatchString(value):
		return Colour
	case strings.ContainsAny(value, `/\`) && paths.MatchString(value):
		return Path
	}
	return Text
}

// Other is the other of yes and no, in the words and capitals of the one; ok is false for what is neither.
func Other(flag string) (other string, ok bool) {
	if KindOf(flag) != Flag {
		return "", false
	}
	no := slices.ContainsFunc(flags, func(pair [2]string) bool { return strings.EqualFold(flag, pair[1]) })
	other, err := AsBefore(map[bool]string{true: "yes", false: "no"}[no], flag)
	return other, err == nil
}

// AsBefore writes a value as the one in whose place it comes is written: yes and no with its words and
// its capitals. The error says that it is of another kind.
func AsBefore(value, before string) (string, error) {
	kind := KindOf(before)
	switch {
	case kind == Number && KindOf(value) != Number:
		return "", fmt.Errorf("it is the number %s, and %q is none", text.Clean(before), text.Clean(value))
	case kind == Colour && value != "" && (KindOf(value) != Colour || len(value) != len(before)):
		return "", fmt.Errorf("it is the colour %s, and %q is none written like it", text.Clean(before), text.Clean(value))
	case kind != Flag:
		return value, nil
	case KindOf(value) != Flag:
		return "", fmt.Errorf("it is %s, a yes or no, and %q is neither", text.Clean(before), text.Clean(value))
	}
	no := slices.ContainsFunc(flags, func(pair [2]string) bool { return strings.EqualFold(value, pair[1]) })
	for _, pair := range flags {
		if !strings.EqualFold(before, pair[0]) && !strings.EqualFold(before, pair[1]) {
			continue
		}
		word := pair[0]
		if no {
			word = pair[1]
		}
		switch {
		case before == strings.ToUpper(before):
			return strings.ToUpper(word), nil
		case before[:1] == strings.ToUpper(before[:1]):
			return strings.ToUpper(word[:1]) + word[1:], nil
		}
		return word, nil
	}
	return value, nil
}

// Read lists what is set in a file, in its order, with what could be set in comments. The fault says
// why nothing can be told of it.
func Read(doc []byte, n Notation) ([]Setting, *text.Fault) {
	if fault := text.NotText(doc); fault != nil {
		return nil, fault
	}
	var list []Setting
	var fault *text.Fault
	switch n.Format {
	case dialect.FormatKeyValue, dialect.FormatINI:
		list = readKeys(doc, n)
	case dialect.FormatEnv:
		list = readEnv(doc)
	case dialect.FormatScript:
		list = readScript(doc, n)
	case dialect.FormatText:
		list, fault = readText(doc, n)
	case dialect.FormatShell, dialect.FormatBatch, dialect.FormatUnit, dialect.FormatWords:
		list, fault = readLaunch(doc, n)
	default:
		list, fault = readTree(doc, n.Format)
	}
	for i := range list {
		list[i].Line, _ = text.Position(doc, list[i].Span.Start)
	}
	slices.SortStableFunc(list, func(a, b Setting) int { return a.Span.Start - b.Span.Start })
	return list, fault
}

// readKeys reads keys and values, in sections where there are some.
func readKeys(doc []byte, n Notation) (list []Setting) {
	ini := text.ReadINI(doc, text.INIStyle{Comment: n.Comment, Assign: n.Assign, Bare: n.Format == dialect.FormatINI, Behind: behind(n)})
	add := func(e text.INIEntry) {
		if !e.HasSign {
			return
		}
		name := string(e.Key.In(doc))
		if e.Off.Len() > 0 && strings.ContainsAny(name, " \t") { // prose
			return
		}
		if e.Section != "" {
			name = e.Section + "/" + name
		}
		piece := e.Value
		list = append(list, Setting{Name: name, Value: piece.Value, Span: piece.Span, Off: e.Off.Len() > 0, piece: &piece, whole: e.Line.Span, mark: e.Off})
	}
	for _, e := range ini.Entries {
		add(e)
	}
	for _, e := range ini.Hidden {
		add(e)
	}
	return list
}

// behind are the marks of comments that may stand behind a value: words of two signs and more. A single
// sign is as likely a part of the value, such as the # of a colour.
func behind(n Notation) string {
	return strings.Join(slices.DeleteFunc(text.Marks(n.Comment), func(m string) bool { return len(m) < 2 }), " ")
}

// readEnv reads lines of NAME=value.
func readEnv(doc []byte) (list []Setting) {
	for name, piece := range text.ReadEnv(doc).Variables {
		s := Setting{Name: name, Value: piece.Value, Span: piece.Span, piece: &piece}
		s.whole = lineAt(doc, piece.Start)
		list = append(list, s)
	}
	return list
}

// lineAt is the line that an offset stands on, with its ending.
func lineAt(doc []byte, at int) text.Span {
	for _, l := range text.Lines(doc) {
		if at < l.End || l.End == len(doc) {
			return l.Span
		}
	}
	return text.Span{Start: at, End: at}
}

// readScript reads lines of words that fit one of the forms.
func readScript(doc []byte, n Notation) (list []Setting) {
	style := text.ScriptStyle{Comment: n.Comment, Quote: n.Quote}
	add := func(s text.Statement, mark text.Span) {
		for i, form := range n.Forms {
			words := strings.Fields(form)
			at, value := slices.Index(words, "{name}"), slices.Index(words, "{value}")
			if value < 0 || len(s.Words) != len(words) || !fits(s.Words, words) {
				continue
			}
			w := s.Words[value]
			name := words[0]
			if at >= 0 {
				name = s.Words[at].Value
			}
			list = append(list, Setting{Name: name, Value: w.Value, Span: w.Span, Off: mark.Len() > 0, form: i, whole: s.Line.Span, mark: mark})
			return
		}
	}
	for _, s := range text.Script(doc, style) {
		add(s, text.Span{})
		if hidden, mark, ok := text.Uncomment(doc, s, style); ok {
			add(hidden, mark)
		}
	}
	return list
}

// readText reads the lines of a text that fit one of the forms.
func readText(doc []byte, n Notation) (list []Setting, fault *text.Fault) {
	read, fault := text.ReadForms(doc, n.Style)
	if fault != nil {
		return nil, fault
	}
	for _, s := range read.Settings {
		list = append(list, Setting{Name: s.Name, Value: text.Unquoted(string(s.Value.In(doc))), Span: s.Value, Off: s.Off.Len() > 0, form: s.Form, whole: s.Line, mark: s.Off})
	}
	return list, nil
}

// fits tells whether the words of a line are those of a form.
func fits(words []text.Word, form []string) bool {
	for i, f := range form {
		if !strings.HasPrefix(f, "{") && words[i].Value != f {
			return false
		}
	}
	return true
}

// maxSettings is how many values of one document are told, and maxDeep how deep it may go.
const maxSettings, maxDeep = 200_000, 64

// readTree reads the values of a document that are no lists or objects.
func readTree(doc []byte, f dialect.Format) ([]Setting, *text.Fault) {
	root, fault := lineup.ReadDocument(f, doc)
	if fault != nil {
		return nil, fault
	}
	t := treeReader{doc: doc, xml: f == dialect.FormatXML}
	t.walk(root, "", 0)
	return t.list, nil
}

type treeReader struct {
	doc  []byte
	xml  bool
	list []Setting
}

// walk reads what is at a name.
func (t *treeReader) walk(n *text.Node, name string, depth int) {
	if n == nil || depth > maxDeep || len(t.list) >= maxSettings {
		return
	}
	switch n.Kind {
	case text.NodeString:
		piece := n.Piece
		t.list = append(t.list, Setting{Name: strings.TrimSuffix(name, ".#text"), Value: piece.Value, Span: n.Span, piece: &piece})
	case text.NodeScalar:
		t.list = append(t.list, Setting{Name: name, Value: n.Literal, Span: n.Span})
	case text.NodeList:
		for i, item := range n.Items {
			at := fmt.Sprintf("%s[%d]", name, i)
			if t.xml && len(n.Items) == 1 {
				at = name
			}
			t.walk(item, at, depth+1)
		}
	case text.NodeObject:
		if t.xml {
			t.element(n, name, depth)
			return
		}
		for _, m := range n.Members {
			t.walk(m.Value, join(name, m.Name), depth+1)
		}
	}
}

// element reads an element of XML, and notes what goes when what is set in it is taken out: an attribute, or the
// element where there is nothing else in it.
func (t *treeReader) element(n *text.Node, name string, depth int) {
	if named, value := pairOf(n); named != "" {
		piece := value.Piece
		t.list = append(t.list, Setting{Name: join(parentOf(name), named), Value: piece.Value, Span: value.Span, piece: &piece, whole: n.Span})
		return
	}
	first := len(t.list)
	for _, m := range n.Members {
		t.walk(m.Value, join(name, m.Name), depth+1)
	}
	mine := t.list[first:]
	if len(n.Members) == 1 && n.Members[0].Name == "#text" && len(mine) > 0 {
		mine[0].whole = n.Span
	}
	for i := range mine {
		if at := strings.LastIndexByte(mine[i].Name, '@'); at >= 0 && mine[i].whole.Len() == 0 {
			mine[i].whole = attributeAt(t.doc, mine[i].Span, mine[i].Name[at+1:])
		}
	}
}

// attributeAt is an attribute of XML with the blanks before it; value is the value with its quotes.
func attributeAt(doc []byte, value text.Span, name string) text.Span {
	lead := strings.TrimRight(string(doc[max(value.Start-len(name)-200, 0):value.Start]), " \t\r\n=")
	if !strings.HasSuffix(lead, name) {
		return text.Span{}
	}
	before := strings.TrimRight(strings.TrimSuffix(lead, name), " \t\r\n")
	if before == strings.TrimSuffix(lead, name) { // the name has a prefix
		return text.Span{}
	}
	start := max(value.Start-len(name)-200, 0) + len(before)
	return text.Span{Start: start, End: value.End}
}

func join(name, key string) string {
	if name == "" {
		return key
	}
	return name + "." + key
}

// parentOf is a path without its last element.
func parentOf(name string) string {
	if i := strings.LastIndexByte(name, '.'); i >= 0 {
		return name[:i]
	}
	return ""
}

// pairOf tells an element in which one attribute names a setting and another holds its value.
func pairOf(n *text.Node) (name string, value *text.Node) {
	if len(n.Members) != 2 {
		return "", nil
	}
	for _, key := range []string{"@name", "@key", "@id"} {
		if named, value := n.Get(key), n.Get("@value"); named != nil && value != nil {
			return named.Piece.Value, value
		}
	}
	return "", nil
}

// Secrets are the values in a file that are keys or passwords by their names.
func Secrets(raw []byte, n Notation) (secrets []string) {
	doc, _ := text.Decode(raw)
	list, _ := Read(doc, n)
	for _, s := range list {
		if s.Value != "" && text.IsSecret(s.Name, s.Value) {
			secrets = append(secrets, s.Value)
		}
	}
	return secrets
}
