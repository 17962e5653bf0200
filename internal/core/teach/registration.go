package teach

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/text"
)

// Registration is a way of reading a startup file, found from the name of a mod in it.
type Registration struct {
	Text  string // the table of a dialect that says so
	Shape dialect.Shape
	Mods  []string // that it finds in the file

	Paths []string // the folders that stand before the names in the file

	off map[string]bool // those of them that are switched off
}

// FindRegistration finds out how mods stand in a startup file, by the name of one of
// them. file is its path below the server's folder, with slashes. Every way that a
// dialect can describe and that the file suggests is tried by reading the file; the
// one that finds most of the mods that are known is taken. The error says that none
// finds the mod.
func FindRegistration(file string, doc []byte, mod string, known func(string) bool) (Registration, error) {
	return findRegistration(file, doc, mod, known, 1)
}

// FindSiblings is FindRegistration where nothing is known of other mods, and any name may be one.
func FindSiblings(file string, doc []byte, mod string) (Registration, error) {
	return findRegistration(file, doc, mod, nil, 0)
}

// findRegistration takes so much from a way for each mod that nobody knows.
func findRegistration(file string, doc []byte, mod string, known func(string) bool, unknown int) (Registration, error) {
	var best Registration
	var bestKeys keys
	bestScore := -1 << 30
	var tried []string // ways that the file suggests and that do not hold, with the first reason
	for _, keys := range candidates(file, doc, mod) {
		r, err := tryRegistration(file, doc, keys)
		if err != nil || !slices.Contains(r.Mods, mod) {
			shape := fmt.Sprintf("%q", keys.get("shape"))
			if err != nil {
				shape += " (" + text.Clean(err.Error()) + ")"
			}
			if !slices.ContainsFunc(tried, func(s string) bool { return strings.HasPrefix(s, fmt.Sprintf("%q", keys.get("shape"))) }) {
				tried = append(tried, shape)
			}
			continue
		}
		score := scoreOf(r, keys, mod, known, unknown)
		each := r.Shape == dialect.ShapeWords && best.Shape == dialect.ShapeList && flagOf(keys) == flagOf(bestKeys) && len(r.Mods) > 1 // a parameter for each, rather than lists of one
		if score > bestScore || score == bestScore && each {
			best, bestKeys, bestScore = r, keys, score
		}
	}
	if best.Text == "" {
		where := ""
		if at := NameAt(string(doc), mod); at >= 0 {
			from, to := bytes.LastIndexByte(doc[:at], '\n')+1, at+bytes.IndexByte(append(doc[at:len(doc):len(doc)], '\n'), '\n')
			where = fmt.Sprintf(" (line %d: %s)", bytes.Count(doc[:at], []byte("\n"))+1, text.Mask(text.Clean(strings.TrimSpace(string(doc[from:min(to, from+maxQuoted)]))), nil))
		}
		ways := ""
		if len(tried) > 0 {
			ways = "; tried as " + strings.Join(tried, ", ")
		}
		return best, fmt.Errorf("%s stands in %s%s in no way that a dialect can describe%s; see docs/dialects.md, \"Where mods are named\"", text.Clean(mod), text.Clean(file), where, ways)
	}
	if known != nil {
		best, bestKeys = withOtherForms(file, doc, best, bestKeys, known)
	}
	best, _ = withBesides(file, doc, best, bestKeys)
	return best, nil
}

// scoreOf tells ways of reading a file apart: by the mods that they find of which is known that they are
// some.
func scoreOf(r Registration, k keys, mod string, known func(string) bool, unknown int) (score int) {
	for _, name := range r.Mods {
		if known != nil && known(name) {
			score += 10
		} else if name != mod && !r.off[name] { // a mod that is off is often not there
			score -= unknown
		}
	}
	if r.Shape == dialect.ShapeParallel { // more is known of the same list
		score++
	}
	if unknown == 0 && k.get("options") != "" { // what looks like options may be the other mods
		score--
	}
	return score
}

// flagOf is what stands before the names in a launch parameter.
func flagOf(k keys) string {
	flag, _, _ := strings.Cut(k.get("at"), "{")
	return flag
}

// Renamed is the same registration under another name, as a dialect has each name once.
func (r Registration) Renamed(name string) Registration {
	old, _, _ := strings.Cut(r.Text[strings.Index(r.Text, "\nname"):], "\nfile")
	line, err := toml.Marshal(map[string]string{"name": name})
	if err == nil {
		r.Text = strings.Replace(r.Text, strings.TrimPrefix(old, "\n")+"\n", string(line), 1)
	}
	return r
}

// Links is the registration of mods by a link for each in a folder below the server's, all of which
// lead into one other, as seen from there. at is what a link is called, with {mod} in it.
func Links(folder, at, into string, mods []string) Registration {
	k := keys{{"name", "the folder " + path.Base(folder)}, {"file", "{dir}/" + folder}, {"shape", string(dialect.ShapeLink)}, {"at", at}, {"item", path.Join(into, at)}}
	return Registration{Text: k.table(), Shape: dialect.ShapeLink, Mods: mods}
}

// maxQuoted is how much of a line is shown that cannot be described, in bytes.
const maxQuoted = 120

// keys are those of a [[registration]], in the order in which they are written.
type keys [][2]string

func (k keys) with(more ...string) keys {
	k = slices.Clone(k)
	for i := 0; i+1 < len(more); i += 2 {
		k = append(k, [2]string{more[i], more[i+1]})
	}
	return k
}

func (k keys) get(name string) string {
	for _, kv := range k {
		if kv[0] == name {
			return kv[1]
		}
	}
	return ""
}

func (k keys) set(name, value string) keys {
	k = slices.Clone(k)
	for i := range k {
		if k[i][0] == name {
			k[i][1] = value
		}
	}
	return k
}

// table writes the keys as a table of TOML.
func (k keys) table() string {
	var b strings.Builder
	b.WriteString("[[registration]]\n")
	for _, kv := range k {
		var value any = kv[1]
		switch kv[0] {
		case "paths", "apart":
			value = true
		case "statements":
			value = strings.Split(kv[1], listMark)
		}
		line, err := toml.Marshal(map[string]any{kv[0]: value})
		if err == nil {
			b.Write(line)
		}
	}
	return b.String()
}

// tryRegistration reads the file by a dialect that knows nothing else.
func tryRegistration(file string, doc []byte, k keys) (Registration, error) {
	const rest = "name = \"trial\"\n[[place]]\npath = \"{dir}/mods\"\n[start]\ncommand = [\"x\"]\n[[log.rule]]\nmeans = \"ready\"\nline = \"ready\"\n"
	table := k.table()
	d, err := dialect.Parse("trial", []byte(rest+table))
	if err != nil {
		return Registration{}, err
	}
	const dir = "/srv"
	l := lineup.Read(d, dialect.Vars{"dir": dir}, func(name string) ([]byte, error) {
		if name == path.Join(dir, file) {
			return doc, nil
		}
		return nil, fs.ErrNotExist
	}, nil)
	r := Registration{Text: table, Shape: d.Registrations[0].Shape, off: map[string]bool{}}
	for _, e := range l.Entries {
		r.Mods = append(r.Mods, e.Name)
		r.off[e.Name] = !e.On
		if before, _, ok := cutLast(e.Value); ok && !slices.Contains(r.Paths, before) {
			r.Paths = append(r.Paths, before)
		}
	}
	return r, changeable(l)
}

// cutLast parts a path from its last element.
func cutLast(value string) (before, last string, ok bool) {
	i := strings.LastIndexAny(value, "/\\")
	if i <= 0 {
		return "", value, false
	}
	return value[:i], value[i+1:], true
}

// changeable tells whether a mod can be added to what was read, and is then read too.
func changeable(l *lineup.Lineup) error {
	const fresh = "fresh_one"
	after, err := l.Apply(lineup.Change{Op: lineup.OpRegister, Mod: fresh, Number: "1"})
	if err != nil {
		return err
	}
	if len(after.Problems) > 0 {
		return &after.Problems[0].Fault
	}
	if len(after.Find(fresh)) == 0 {
		return fmt.Errorf("a mod that is added is not read again")
	}
	return nil
}

// candidates are the ways that the file suggests, the surest first.
func candidates(file string, doc []byte, mod string) (list []keys) {
	base := keys{{"name", path.Base(file)}, {"file", "{dir}/" + file}}
	add := func(format dialect.Format, shape dialect.Shape, more ...string) {
		list = append(list, base.with("format", string(format), "shape", string(shape)).with(more...))
	}
	for _, tree := range []struct {
		format dialect.Format
		ends   []string
		read   func([]byte) (*text.Node, *text.Fault)
	}{{dialect.FormatJSON, []string{".json", ".json5", ".jsonc"}, text.ReadJSON}, {dialect.FormatTOML, []string{".toml"}, text.ReadTOML},
		{dialect.FormatYAML, []string{".yaml", ".yml"}, text.ReadYAML}, {dialect.FormatXML, []string{".xml"}, text.ReadXML}} {
		if !slices.Contains(tree.ends, strings.ToLower(path.Ext(file))) {
			continue
		}
		if root, fault := tree.read(doc); fault == nil {
			t := treeSearch{doc: doc, format: tree.format, name: mod, add: func(shape dialect.Shape, more ...string) { add(tree.format, shape, more...) }}
			t.in(root, "")
		}
		return list
	}
	switch strings.ToLower(path.Ext(file)) {
	case ".sh", ".bash", "":
		inLaunch(text.ReadPOSIX(doc), mod, func(shape dialect.Shape, more ...string) { add(dialect.FormatShell, shape, more...) })
	case ".bat", ".cmd":
		inLaunch(text.ReadBatch(doc), mod, func(shape dialect.Shape, more ...string) { add(dialect.FormatBatch, shape, more...) })
		return list
	case ".service":
		inLaunch(text.ReadUnit(doc), mod, func(shape dialect.Shape, more ...string) { add(dialect.FormatUnit, shape, more...) })
		return list
	}
	inLines(doc, mod, add)
	list = sideBySide(doc, list)
	inStatements(doc, mod, add)
	return list
}

var (
	title   = regexp.MustCompile(`^\s*\[([^\]]+)\]\s*$`)
	pair    = regexp.MustCompile(`^\s*([^=:\s][^=:]*?)\s*=\s*(.*?)\s*$`)
	yesOrNo = [][2]string{{"true", "false"}, {"1", "0"}, {"yes", "no"}, {"on", "off"}, {"enabled", "disabled"}}
)

// inLines looks for the name in a file of lines: a section's keys, keys with values,
// or words.
func inLines(doc []byte, mod string, add func(dialect.Format, dialect.Shape, ...string)) {
	section, sections := "", bytes.Contains(doc, []byte("\n[")) || bytes.HasPrefix(doc, []byte("["))
	comment := commentOf(doc)
	for line := range strings.Lines(string(doc)) {
		line = strings.TrimRight(line, "\r\n")
		bare := strings.TrimSpace(line)
		if m := title.FindStringSubmatch(line); m != nil {
			section = m[1]
			continue
		}
		if bare == "" || comment != "" && strings.HasPrefix(bare, comment) || !strings.Contains(bare, mod) {
			continue
		}
		if m := pair.FindStringSubmatch(line); m != nil {
			inPair(section, sections, comment, m[1], strings.TrimSpace(withoutComment(m[2], comment)), mod, add)
		}
		if sections && bare == mod {
			add(dialect.FormatINI, dialect.ShapeSection, "at", section, "item", "{mod}", "comment", comment)
		}
		inWords(bare, comment, mod, add)
	}
}

func inPair(section string, sections bool, comment, key, value, mod string, add func(dialect.Format, dialect.Shape, ...string)) {
	at, format := key, dialect.FormatKeyValue
	if section != "" {
		at = section + "/" + key
	}
	if sections {
		format = dialect.FormatINI
	}
	if bare := unquoted(value); value != mod && bare != mod {
		for _, keys := range listsIn(bare, mod) {
			add(format, dialect.ShapeList, append(keys, "at", at, "comment", comment)...)
		}
	}
	on, off, known := "", "", false
	for _, w := range yesOrNo {
		if slices.Contains(w[:], strings.ToLower(value)) {
			on, off, known = w[0], w[1], true
		}
	}
	if i := strings.Index(key, mod); i >= 0 && known {
		pattern := key[:i] + "{mod}" + key[i+len(mod):]
		if sections {
			add(dialect.FormatINI, dialect.ShapeKey, "at", section, "key", pattern, "on", on, "off", off, "comment", comment)
		} else {
			add(dialect.FormatKeyValue, dialect.ShapeKey, "key", pattern, "on", on, "off", off, "comment", comment)
		}
	}
	if key == mod && sections {
		add(dialect.FormatINI, dialect.ShapeSection, "at", section, "item", "{mod} = "+value, "comment", comment)
	}
	if value == mod {
		add(dialect.FormatINI, dialect.ShapeRepeat, "at", at, "comment", comment)
		add(dialect.FormatKeyValue, dialect.ShapeList, "at", at, "separator", ",", "comment", comment)
	}
}

// unquoted is a value without the quotes around all of it.
func unquoted(value string) string {
	if n := len(value); n > 1 && value[0] == value[n-1] && strings.ContainsRune(`"'`, rune(value[0])) && !strings.Contains(value[1:n-1], value[:1]) {
		return value[1 : n-1]
	}
	return value
}

// inWords takes the words before the name as those that register.
func inWords(bare, comment, mod string, add func(dialect.Format, dialect.Shape, ...string)) {
	words := strings.Fields(bare)
	for i, word := range words {
		name := strings.Trim(word, `"'`)
		more, ok := standsFor(name, mod)
		if !ok {
			continue
		}
		line := strings.Join(append(slices.Clone(words[:i]), "{mod}"), " ")
		more = append([]string{"line", line, "comment", comment}, more...)
		if name != word {
			more = append(more, "quote", word[:1])
		}
		add(dialect.FormatScript, dialect.ShapeLine, more...)
		if !slices.Contains(more, "options") { // others may have some
			add(dialect.FormatScript, dialect.ShapeLine, append(more, "options", ",")...)
		}
	}
}

// behind is a comment behind something else.
var behind = regexp.MustCompile(`[^\s][ \t]+(#|//|--)[ \t]`)

// commentOf is what most comments of the file begin with; "#" when there are none.
func commentOf(doc []byte) string {
	best, most := "#", 0
	for _, mark := range []string{"#", "//", ";", "--", "rem ", "!"} {
		count := 0
		for line := range strings.Lines(string(doc)) {
			if strings.HasPrefix(strings.TrimSpace(line), mark) {
				count++
			}
		}
		if count > most {
			best, most = mark, count
		}
	}
	if m := behind.FindSubmatch(doc); most == 0 && m != nil { // none begins its line
		best = string(m[1])
	}
	return best
}
