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
}

// FindRegistration finds out how mods stand in a startup file, by the name of one of
// them. file is its path below the server's folder, with slashes. Every way that a
// dialect can describe and that the file suggests is tried by reading the file; the
// one that finds most of the mods that are known is taken. The error says that none
// finds the mod.
func FindRegistration(file string, doc []byte, mod string, known func(string) bool) (Registration, error) {
	var best Registration
	bestScore := -1 << 30
	for _, keys := range candidates(file, doc, mod) {
		r, err := tryRegistration(file, doc, keys)
		if err != nil || !slices.Contains(r.Mods, mod) {
			continue
		}
		score := 0
		for _, name := range r.Mods {
			if known != nil && known(name) {
				score += 10
			} else if name != mod {
				score--
			}
		}
		if score > bestScore {
			best, bestScore = r, score
		}
	}
	if best.Text == "" {
		return best, fmt.Errorf("%s stands in %s in no way that a dialect can describe; see docs/dialects.md, \"Where mods are named\"", text.Clean(mod), text.Clean(file))
	}
	return best, nil
}

// keys are those of a [[registration]], in the order in which they are written.
type keys [][2]string

func (k keys) with(more ...string) keys {
	k = slices.Clone(k)
	for i := 0; i+1 < len(more); i += 2 {
		k = append(k, [2]string{more[i], more[i+1]})
	}
	return k
}

// table writes the keys as a table of TOML.
func (k keys) table() string {
	var b strings.Builder
	b.WriteString("[[registration]]\n")
	for _, kv := range k {
		line, err := toml.Marshal(map[string]string{kv[0]: kv[1]})
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
	r := Registration{Text: table, Shape: d.Registrations[0].Shape}
	for _, e := range l.Entries {
		r.Mods = append(r.Mods, e.Name)
	}
	return r, nil
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
			inTree(root, "", mod, func(shape dialect.Shape, more ...string) { add(tree.format, shape, more...) })
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
	return list
}

// inTree looks for the name in a document: as an item, as an object's value, as a
// key with a yes or no, or in one value with others.
func inTree(n *text.Node, at, mod string, add func(dialect.Shape, ...string)) {
	below := func(key string) string {
		if at == "" {
			return key
		}
		return at + "." + key
	}
	for _, item := range n.Items {
		if nameFrom(item, mod) {
			add(dialect.ShapeItems, "at", at)
		}
		for _, m := range item.Members {
			if nameFrom(m.Value, mod) {
				add(dialect.ShapeItems, "at", at, "name_key", m.Name, "item", "{ "+m.Name+": \"{mod}\" }")
			}
		}
	}
	for _, m := range n.Members {
		switch v := m.Value; {
		case m.Name == mod && v.Kind == text.NodeScalar:
			add(dialect.ShapeKey, "at", at, "key", "{mod}", "on", "true", "off", "false")
		case v.Kind == text.NodeString:
			for _, separator := range separatorsIn(v.Piece.Value, mod) {
				add(dialect.ShapeList, "at", below(m.Name), "separator", separator)
			}
		}
		inTree(m.Value, below(m.Name), mod, add)
	}
}

func nameFrom(n *text.Node, mod string) bool {
	return n.Kind == text.NodeString && n.Piece.Value == mod || n.Kind == text.NodeScalar && n.Literal == mod
}

// separatorsIn are what parts the items of a value that has the name as one of them.
func separatorsIn(value, mod string) (list []string) {
	for _, separator := range []string{";", ",", ", ", "; ", "|", ":", " "} {
		for _, item := range strings.Split(value, separator) {
			if item == mod {
				list = append(list, separator)
				break
			}
		}
	}
	return list
}

// inLaunch looks for the name in the words of a launch line: after a parameter, or in
// its value with others.
func inLaunch(l *text.Launch, mod string, add func(dialect.Shape, ...string)) {
	if l == nil {
		return
	}
	for _, c := range l.Commands {
		for i := range c.Words {
			word := c.Words[i].Value
			if name, value, ok := strings.Cut(word, "="); ok && name != "" {
				for _, separator := range separatorsIn(value, mod) {
					add(dialect.ShapeList, "at", name+"={list}", "separator", separator)
				}
			}
			if i == 0 {
				continue
			}
			before := c.Words[i-1].Value
			if word == mod {
				add(dialect.ShapeWords, "at", before+" {mod}")
			}
			for _, separator := range separatorsIn(word, mod) {
				add(dialect.ShapeList, "at", before+" {list}", "separator", separator)
			}
		}
	}
}

var (
	title   = regexp.MustCompile(`^\s*\[([^\]]+)\]\s*$`)
	pair    = regexp.MustCompile(`^\s*([^=:\s][^=:]*?)\s*([=:])\s*(.*?)\s*$`)
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
		if m := pair.FindStringSubmatch(line); m != nil && m[2] == "=" {
			inPair(section, sections, comment, m[1], m[3], mod, add)
		}
		if sections && bare == mod {
			add(dialect.FormatINI, dialect.ShapeSection, "at", section, "item", "{mod}", "comment", comment)
		}
		inWords(bare, comment, mod, add)
	}
}

func inPair(section string, sections bool, comment, key, value, mod string, add func(dialect.Format, dialect.Shape, ...string)) {
	at := key
	if section != "" {
		at = section + "/" + key
	}
	for _, separator := range separatorsIn(value, mod) {
		if value == mod {
			break
		}
		if sections {
			add(dialect.FormatINI, dialect.ShapeList, "at", at, "separator", separator, "comment", comment)
		} else {
			add(dialect.FormatKeyValue, dialect.ShapeList, "at", at, "separator", separator, "comment", comment)
		}
	}
	if i := strings.Index(key, mod); i >= 0 {
		on, off := "true", "false"
		for _, w := range yesOrNo {
			if slices.Contains(w[:], strings.ToLower(value)) {
				on, off = w[0], w[1]
			}
		}
		pattern := key[:i] + "{mod}" + key[i+len(mod):]
		if sections {
			add(dialect.FormatINI, dialect.ShapeKey, "at", section, "key", pattern, "on", on, "off", off, "comment", comment)
			if key == mod {
				add(dialect.FormatINI, dialect.ShapeSection, "at", section, "item", "{mod} = "+value, "comment", comment)
			}
		} else {
			add(dialect.FormatKeyValue, dialect.ShapeKey, "key", pattern, "on", on, "off", off, "comment", comment)
		}
	}
	if value == mod {
		add(dialect.FormatINI, dialect.ShapeRepeat, "at", at, "comment", comment)
		add(dialect.FormatKeyValue, dialect.ShapeList, "at", at, "separator", ",", "comment", comment)
	}
}

// inWords takes the words before the name as those that register.
func inWords(bare, comment, mod string, add func(dialect.Format, dialect.Shape, ...string)) {
	words := strings.Fields(bare)
	for i, word := range words {
		name := strings.Trim(word, `"'`)
		line := strings.Join(append(slices.Clone(words[:i]), "{mod}"), " ")
		more := []string{"line", line, "comment", comment}
		if name != word {
			more = append(more, "quote", word[:1])
		}
		switch stem, options, _ := strings.Cut(name, ","); {
		case name == mod:
			add(dialect.FormatScript, dialect.ShapeLine, more...)
		case stem == mod && options != "":
			add(dialect.FormatScript, dialect.ShapeLine, append(more, "options", ",")...)
		case strings.TrimSuffix(name, path.Ext(name)) == mod:
			add(dialect.FormatScript, dialect.ShapeLine, append(more, "suffix", path.Ext(name))...)
		}
	}
}

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
	return best
}
