package teach

import (
	"cmp"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// listMark parts the texts of a key that is a list.
const listMark = "\x1e"

// structural are the characters that end what stands for a mod.
const structural = " \t\"'`;,()[]{}<>=#"

// adder takes down a way in which mods may stand in a file.
type adder func(dialect.Format, dialect.Shape, ...string)

// inStatements looks for the name with text around it: in a line that ends as statements do, in
// one that opens a block, or among the items of a list in brackets; by itself, and in the block
// that all that stands in.
func inStatements(doc []byte, mod string, add adder) {
	comment, places := commentOf(doc), 0
	lines := strings.Split(strings.ReplaceAll(string(doc), "\r\n", "\n"), "\n")
	for i, line := range lines {
		bare := withoutComment(strings.TrimSpace(line), comment)
		at := nameIn(bare, mod)
		if at < 0 || strings.HasPrefix(bare, comment) || places == maxTries {
			continue
		}
		places++
		around := enclosing(lines, i, comment)
		for _, found := range statementsOf(lines, i, bare, at, mod) {
			found.add(around, comment, add)
		}
		if cut := strings.LastIndexAny(bare[:at], "([{"); cut >= 0 {
			around = blockOf(bare[:cut+1])
		}
		if around != "" {
			keys := []string{"at", around, "separator", ",;", "comment", comment}
			add(dialect.FormatText, dialect.ShapeItems, keys...)
			start, end := wordAround(bare, at, mod)
			if ending := fileEnding(bare[start:end], mod); ending != "" {
				add(dialect.FormatText, dialect.ShapeItems, append(keys, "suffix", ending)...)
			}
		}
	}
}

// add takes a form down, by itself and in the block around it; not where any line would fit it.
func (f found) add(around, comment string, add adder) {
	fixed := strings.NewReplacer("{mod}", "", "{any}", "").Replace(f.form)
	worded := strings.ContainsFunc(fixed, unicode.IsLetter)
	if strings.TrimSpace(fixed) == "" || !worded && strings.Contains(f.form, "{any}") {
		return
	}
	more := append([]string{"statements", f.form, "comment", comment}, f.more...)
	if around == "" || worded { // else anything could be one outside of its block
		add(dialect.FormatText, dialect.ShapeStatement, more...)
	}
	if around != "" {
		add(dialect.FormatText, dialect.ShapeStatement, append(more, "within", around)...)
	}
}

// maxForms bounds how many forms of one registration are found, and maxTries in how many places of
// a file they are looked for: each means reading it.
const (
	maxForms = 6
	maxTries = 60
)

// quotedName is a name in quotes, perhaps with a path before it.
var quotedName = regexp.MustCompile(`["'](?:[^"'\s]*[/\\])?([^"'\s/\\]+)["']`)

// Named is the word of a line of a startup file that is likeliest to name a mod: one in quotes,
// else the last before a comment, as what registers comes before the name more often than not.
func Named(lines []string, i int) string {
	bare := withoutComment(strings.TrimSpace(lines[i]), commentOf([]byte(strings.Join(lines, "\n"))))
	words := Words(nil, bare, nil)
	if m := quotedName.FindStringSubmatch(bare); m != nil {
		if quoted := Words(nil, m[1], nil); len(quoted) > 0 {
			return quoted[0]
		}
	}
	if len(words) == 0 {
		return ""
	}
	return words[len(words)-1]
}

// formSearch looks for the forms in which mods stand in a file beside those that are found already.
type formSearch struct {
	file  string
	doc   []byte
	keys  keys
	known func(string) bool
	best  Registration
	found keys // that best is read by
	forms []string
	tries int
}

// withOtherForms adds the forms in which mods stand in the file that the first does not find, such
// as a block beside lines; each has to leave the others as they are.
func withOtherForms(file string, doc []byte, best Registration, k keys, known func(string) bool) (Registration, keys) {
	s := &formSearch{file: file, doc: doc, keys: k, found: k, known: known, best: best}
	switch best.Shape {
	case dialect.ShapeStatement:
		s.forms = strings.Split(k.get("statements"), listMark)
	case dialect.ShapeLine:
		s.forms = []string{escapeBut(k.get("line"))}
	default:
		return best, k
	}
	comment := k.get("comment")
	lines := strings.Split(strings.ReplaceAll(string(doc), "\r\n", "\n"), "\n")
	hidden := make([]bool, len(lines))
	for i, line := range lines { // a block that is switched off shows how one is written, too
		bare, off := strings.CutPrefix(strings.TrimSpace(line), comment)
		lines[i], hidden[i] = strings.TrimSpace(bare), off && comment != ""
	}
	for i := range lines {
		bare := withoutComment(lines[i], comment)
		for _, name := range s.missed(bare) {
			for _, found := range statementsOf(lines, i, bare, nameIn(bare, name), name) {
				if block := strings.Contains(found.form, "\n"); (block || !hidden[i]) && s.try(found.form, name) {
					break
				}
			}
		}
	}
	return s.best, s.found
}

// missed are the mods in a line that are there and not found yet.
func (s *formSearch) missed(bare string) (names []string) {
	for _, word := range strings.FieldsFunc(bare, func(c rune) bool { return strings.ContainsRune(structural, c) }) {
		name := path.Base(word)
		name = strings.TrimSuffix(name, cmp.Or(s.keys.get("suffix"), path.Ext(name)))
		if s.known(name) && !slices.Contains(s.best.Mods, name) && nameIn(bare, name) >= 0 {
			names = append(names, name)
		}
	}
	return names
}

// try reads the file with one more form, and takes that if it finds a mod, still finds all
// others, and takes nothing else for one.
func (s *formSearch) try(form, name string) bool {
	if slices.Contains(s.forms, form) || s.tries == maxTries || len(s.forms) == maxForms {
		return false
	}
	s.tries++
	forms := append(slices.Clone(s.forms), form)
	k := keys{{"name", s.keys.get("name")}, {"file", s.keys.get("file")}, {"format", string(dialect.FormatText)}, {"shape", string(dialect.ShapeStatement)},
		{"statements", strings.Join(forms, listMark)}, {"comment", s.keys.get("comment")}}
	for _, key := range []string{"paths", "suffix", "options", "within"} {
		if value := s.keys.get(key); value != "" {
			k = append(k, [2]string{key, value})
		}
	}
	r, err := tryRegistration(s.file, s.doc, k)
	lost := func(m string) bool { return !slices.Contains(r.Mods, m) }
	strange := func(m string) bool { return !s.known(m) && !slices.Contains(s.best.Mods, m) }
	if err != nil || lost(name) || slices.ContainsFunc(s.best.Mods, lost) || slices.ContainsFunc(r.Mods, strange) {
		return false
	}
	s.best, s.found, s.forms = r, k, forms
	return true
}

// escapeBut doubles the braces of words in which {mod} is a placeholder.
func escapeBut(line string) string { return strings.ReplaceAll(escape(line), "{{mod}}", "{mod}") }

// found is a form in which a mod may be registered, with what else a registration says then.
type found struct {
	form string
	more []string
}

// statementsOf are the forms that a line may have: as it stands, with what differs behind the name
// left open, and as a block.
func statementsOf(lines []string, i int, bare string, at int, mod string) (list []found) {
	start, end := wordAround(bare, at, mod)
	more, ok := standsFor(bare[start:end], mod)
	if !ok {
		return nil
	}
	if start > 0 && end < len(bare) && strings.ContainsRune(`"'`, rune(bare[start-1])) && bare[end] == bare[start-1] {
		start, end = start-1, end+1
	}
	before, after := escape(bare[:start]), bare[end:]
	if again := nameIn(after, mod); again >= 0 { // the name comes twice
		list = append(list, found{before + "{mod}" + escape(after[:again]) + "{mod}" + escape(after[again+len(mod):]), more})
	}
	for _, how := range []string{"MOD", "Mod"} { // or another that is made of it
		made := text.MadeOf(how, mod)
		find := nameIn
		if how == "MOD" && len(mod) > 2 { // capitals with more behind them, such as _ON
			find = strings.Index
		}
		if again := find(after, made); again >= 0 && made != mod {
			list = append(list, found{before + "{mod}" + escape(after[:again]) + "{" + how + "}" + escape(after[again+len(made):]), more})
		}
		if again := find(bare[:start], made); again >= 0 && made != mod {
			list = append(list, found{escape(bare[:again]) + "{" + how + "}" + escape(bare[again+len(made):start]) + "{mod}" + escape(after), more})
		}
	}
	if last := bare[len(bare)-1]; strings.IndexByte("([{", last) >= 0 {
		list = append(list, found{before + "{mod}" + escape(after) + "\n" + closing[last], more})
	}
	if m := tag.FindStringSubmatch(bare); m != nil {
		end := "</" + m[1] + ">"
		if slices.ContainsFunc(lines[i:], func(l string) bool { return strings.TrimSpace(l) == end }) {
			list = append(list, found{before + "{mod}" + escape(after) + "\n" + end, more})
		}
	}
	list = append(list, found{before + "{mod}" + escape(after), more})
	if tail := strings.TrimRight(after, ";,)>"); strings.TrimSpace(tail) != "" && strings.HasPrefix(tail, " ") {
		list = append(list, found{before + "{mod} {any}" + escape(after[len(tail):]), more})
	} else if tail == "" {
		list = append(list, found{before + "{mod} {any}" + escape(after), more})
	}
	return list
}

var (
	closing = map[byte]string{'(': ")", '[': "]", '{': "}}"}
	tag     = regexp.MustCompile(`^<([A-Za-z][\w.-]*)\s[^<>/]*>$`)
)

// blockOf is the form of a block that opens with a line which ends with a bracket.
func blockOf(line string) string {
	line = strings.TrimSpace(line)
	return escape(line) + "\n" + closing[line[len(line)-1]]
}

// enclosing is the form of the innermost block in brackets that a line stands in, "" for none.
func enclosing(lines []string, i int, comment string) string {
	depth := 0
	for k := i - 1; k >= 0; k-- {
		bare := withoutComment(strings.TrimSpace(lines[k]), comment)
		if bare == "" || strings.HasPrefix(bare, comment) {
			continue
		}
		for at := len(bare) - 1; at >= 0; at-- {
			switch bare[at] {
			case ')', ']', '}':
				depth++
			case '(', '[', '{':
				if depth--; depth < 0 {
					return blockOf(bare[:at+1])
				}
			}
		}
	}
	return ""
}

// withoutComment is a line without the comment behind it.
func withoutComment(bare, comment string) string {
	if at := strings.Index(bare, " "+comment); comment != "" && at > 0 {
		return strings.TrimSpace(bare[:at])
	}
	if at := strings.Index(bare, "\t"+comment); comment != "" && at > 0 {
		return strings.TrimSpace(bare[:at])
	}
	return bare
}

// nameIn is where a name stands in a text, as a word of its own or a part of a path; negative for
// nowhere.
func nameIn(s, name string) int {
	for from := 0; name != ""; {
		at := strings.Index(s[from:], name)
		if at < 0 {
			return -1
		}
		at += from
		if end := at + len(name); (at == 0 || !wordByte(s[at-1])) && (end == len(s) || !wordByte(s[end])) {
			return at
		}
		from = at + 1
	}
	return -1
}

func wordByte(c byte) bool {
	return c == '_' || c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// wordAround is where the word begins and ends that a name at an offset is a part of, such as a path.
func wordAround(s string, at int, name string) (start, end int) {
	start, end = at, at+len(name)
	for start > 0 && strings.IndexByte(structural, s[start-1]) < 0 {
		start--
	}
	for end < len(s) && strings.IndexByte(structural, s[end]) < 0 {
		end++
	}
	return start, end
}

// fileEnding is what a word has behind the name where that is the ending of a file.
func fileEnding(word, name string) string {
	if rest, ok := strings.CutPrefix(word, name); ok && strings.HasPrefix(rest, ".") {
		return rest
	}
	return ""
}
