package teach

import (
	"bytes"
	"cmp"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"initium/internal/core/dialect"
)

// header is the line that begins a rule of the log.
const header = "[[log.rule]]"

// AddRule adds a rule to the file of a dialect. Of several rules that fit a line the
// first counts, so it is put before those that fit the examples and mean something
// else; else behind the last. Nothing else in the file changes.
func AddRule(doc []byte, d *dialect.Dialect, rule dialect.Rule, examples []Example) ([]byte, error) {
	block, err := ruleText(rule)
	if err != nil {
		return nil, err
	}
	at := rulesIn(doc)
	for i := range d.Log.Rules {
		old := &d.Log.Rules[i]
		if old.Pattern() == nil || i >= len(at) {
			continue
		}
		for _, e := range examples {
			if Fits(d.Log.PrefixPattern(), old, old.Pattern(), e.Line) {
				return insert(doc, at[i], block+"\n"), nil
			}
		}
	}
	doc = ended(doc)
	end := len(doc)
	if n := len(at); n > 0 {
		end = tableEnd(doc, at[n-1])
	}
	return insert(doc, end, "\n"+block), nil
}

// DropRule takes a rule of the log out of the file of a dialect, by its number from 0, with the comment
// right above it. Nothing else in the file changes. ok is false when there is no such rule.
func DropRule(doc []byte, number int) (without []byte, ok bool) {
	at := rulesIn(doc)
	if number < 0 || number >= len(at) {
		return nil, false
	}
	start, end := at[number], tableEnd(doc, at[number])
	for start > 0 {
		line := doc[bytes.LastIndexByte(doc[:start-1], '\n')+1 : start]
		if !bytes.HasPrefix(bytes.TrimSpace(line), []byte("#")) {
			break
		}
		start -= len(line)
	}
	for end < len(doc) { // and the blank lines behind it
		line, _, _ := bytes.Cut(doc[end:], []byte("\n"))
		if len(bytes.TrimSpace(line)) > 0 || len(line) == len(doc[end:]) {
			break
		}
		end += len(line) + 1
	}
	return slices.Delete(bytes.Clone(doc), start, end), true
}

func ruleText(r dialect.Rule) (string, error) {
	var b strings.Builder
	b.WriteString(header + "\n")
	for _, kv := range [][2]string{{"means", string(r.Means)}, {"level", r.Level}, {"source", r.Source}, {"line", r.Line}} {
		if kv[1] == "" {
			continue
		}
		line, err := toml.Marshal(map[string]string{kv[0]: kv[1]})
		if err != nil {
			return "", fmt.Errorf("write the rule: %w", err)
		}
		b.Write(line)
	}
	return b.String(), nil
}

// rulesIn are the places where the rules of a log begin.
func rulesIn(doc []byte) (at []int) {
	pos := 0
	for line := range bytes.Lines(doc) {
		if bytes.HasPrefix(bytes.TrimSpace(line), []byte(header)) {
			at = append(at, pos)
		}
		pos += len(line)
	}
	return at
}

// tableEnd is where the table that begins at a place ends, without the blank lines
// and the comments before the next.
func tableEnd(doc []byte, from int) int {
	pos, end := from, from
	for line := range bytes.Lines(doc[from:]) {
		bare := bytes.TrimSpace(line)
		if pos > from && bytes.HasPrefix(bare, []byte("[")) {
			break
		}
		pos += len(line)
		if len(bare) > 0 && bare[0] != '#' {
			end = pos
		}
	}
	return end
}

func ended(doc []byte) []byte {
	if len(doc) > 0 && doc[len(doc)-1] != '\n' {
		return append(bytes.Clone(doc), '\n')
	}
	return doc
}

func insert(doc []byte, at int, s string) []byte {
	return slices.Insert(bytes.Clone(doc), at, []byte(s)...)
}

// AddPrefix adds what stands before messages to the file of a dialect that does not
// say it.
func AddPrefix(doc []byte, p Prefix) ([]byte, error) {
	lines, err := toml.Marshal(struct {
		Prefix string `toml:"prefix"`
		Time   string `toml:"time,omitempty"`
	}{p.Pattern, p.Time})
	if err != nil {
		return nil, err
	}
	return addToLog(doc, string(lines)), nil
}

// AddFiles adds the files that the server writes its log into to the file of a dialect
// that names none.
func AddFiles(doc []byte, files []string) ([]byte, error) {
	line, err := toml.Marshal(map[string][]string{"files": files})
	if err != nil {
		return nil, err
	}
	return addToLog(doc, string(line)), nil
}

// addToLog adds lines to what a dialect says of the log.
func addToLog(doc []byte, lines string) []byte {
	pos := 0
	for line := range bytes.Lines(doc) {
		pos += len(line)
		if bytes.HasPrefix(bytes.TrimSpace(line), []byte("[log]")) {
			return insert(ended(doc), pos, lines)
		}
	}
	if rules := rulesIn(doc); len(rules) > 0 {
		return insert(doc, rules[0], "[log]\n"+lines+"\n")
	}
	return insert(ended(doc), len(ended(doc)), "\n[log]\n"+lines)
}

// Outline is what a dialect begins with, before its log is known.
type Outline struct {
	Name, Title  string
	Recognise    []string // files and folders below the server's folder
	Place        string   // the folder that mods are in, below the server's or a whole path; "" when it is not known
	File         string   // when mods are single files, what they are called: `{mod}.so`
	Registration Registration
	Command      []string // that starts the server; nil when it is not known

	About    string         // "" for where it is taught from
	Order    dialect.Order  // "" for what the shape suggests
	Port     int            // that players connect to, when the command says it as {port}; 0 for none
	More     []Registration // further places where mods are named
	Group    string         // how the name of a category folder begins
	Mark     []string       // files by which a folder is known as a mod
	Packed   bool           // mods are archives with their manifest inside
	Manifest string         // the table of a dialect that says how mods describe themselves
	Listens  string         // the port that shows the server to be ready, where no line does
	Called   string         // how a registration with a path begins that means a mod in the place
	Base     []string       // more folders, below the server's or whole paths, with mods that it brings itself
	Always   bool           // being in the place is enough,
	Aside    string         // and this is what a mod there is called while it is off
}

// Write writes the outline of a dialect as a file that is to be completed by the rules
// of its log.
func (o *Outline) Write() ([]byte, error) {
	var b strings.Builder
	var problem error
	put := func(key string, value any) {
		line, err := toml.Marshal(map[string]any{key: value})
		if problem == nil {
			problem = err
		}
		b.Write(line)
	}
	put("name", o.Name)
	put("title", o.Title)
	put("about", cmp.Or(o.About, "Taught from the files and a log of "+o.Title+"."))
	order := cmp.Or(o.Order, dialect.OrderListed)
	if o.Order == "" && o.Registration.Shape == dialect.ShapeKey {
		order = dialect.OrderServer
	}
	put("order", string(order))
	b.WriteString("\n[recognise]\n")
	put("files", o.Recognise)
	if o.Command == nil {
		b.WriteString("\n[[given]]\n")
		put("name", "program")
		put("kind", "program")
		put("about", "the server program")
		o.Command = []string{"{program}"}
	}
	if o.Port > 0 {
		b.WriteString("\n[[given]]\n")
		put("name", "port")
		put("kind", string(dialect.KindPort))
		put("about", "the port that players connect to")
		put("default", []string{strconv.Itoa(o.Port)})
	}
	b.WriteString("\n[[place]]\n")
	place := "{dir}/mods"
	switch {
	case path.IsAbs(o.Place):
		place = o.Place
	case o.Place != "":
		place = "{dir}/" + o.Place
	}
	place = strings.TrimSuffix(place, "/.")
	put("path", place)
	if o.File != "" {
		put("file", o.File)
	}
	if o.Group != "" {
		put("group", o.Group)
	}
	if len(o.Mark) > 0 {
		put("mark", o.Mark)
	}
	if o.Packed {
		put("packed", true)
	}
	if o.Called != "" {
		put("called", o.Called)
	}
	if o.Always {
		put("loads", string(dialect.LoadsAlways))
	} else {
		for _, r := range append([]Registration{o.Registration}, o.More...) {
			b.WriteString("\n" + r.Text)
		}
	}
	if o.Aside != "" {
		put("aside", o.Aside)
		b.WriteString("\n[[registration]]\n")
		put("name", "the folder "+path.Base(place))
		put("file", place)
		put("shape", string(dialect.ShapePresence))
		put("at", cmp.Or(o.File, "{mod}"))
		put("aside", o.Aside)
	}
	for _, base := range o.Base {
		b.WriteString("\n[[place]]\n")
		if !path.IsAbs(base) {
			base = "{dir}/" + base
		}
		put("path", base)
		put("loads", string(dialect.LoadsBase))
		if o.File != "" {
			put("file", o.File)
		}
	}
	if o.Manifest != "" {
		b.WriteString("\n" + o.Manifest)
	}
	b.WriteString("\n[start]\n")
	put("directory", "{dir}")
	put("command", o.Command)
	if o.Listens != "" {
		put("listens", o.Listens)
	}
	return []byte(b.String()), problem
}
