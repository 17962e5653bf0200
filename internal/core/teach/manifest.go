package teach

import (
	"bytes"
	"cmp"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"initium/internal/core/dialect"
	"initium/internal/core/mod"
	"initium/internal/core/text"
)

// Manifest is a way of reading what a mod says of itself, found from what is known of the mod.
type Manifest struct {
	Text  string // the table of a dialect that says so
	Named bool   // it says what the mod is called
	Needs bool   // and what it needs
}

// Bounds of what is tried to read a manifest: each try means reading it.
const (
	maxManifest = 64 << 10 // bytes of one
	maxKeyWords = 400      // what may be a key in it
	maxObjects  = 8        // objects in it that may hold keys
)

// Known is what is known of a mod before its manifest is: what is "" or nil is not.
type Known struct {
	Name   string
	Number string // in a catalogue
	Needs  []string
}

// FindManifest finds out which of a mod's files, by their path below it, says what is known of the mod,
// and how. ok is false when none says any of it. Every way that a dialect can describe and that a file
// suggests is tried by reading it.
func FindManifest(files map[string][]byte, known Known) (best Manifest, ok bool) {
	score := 0
	for _, file := range slices.SortedFunc(maps.Keys(files), func(a, b string) int { // the outer ones first
		return cmp.Or(cmp.Compare(strings.Count(a, "/"), strings.Count(b, "/")), strings.Compare(a, b))
	}) {
		doc := files[file]
		if len(doc) > maxManifest || text.NotText(doc) != nil {
			continue
		}
		for _, form := range manifestForms(file) {
			s := manifestSearch{doc: doc, form: form}
			s.find(known)
			if now := 4*yes(s.form.Needs != "") + 2*yes(s.form.Number != "") + yes(s.form.Name != ""); now > score {
				score = now
				best = Manifest{Text: s.table(), Named: s.form.Name != "", Needs: s.form.Needs != ""}
			}
		}
	}
	return best, score > 0
}

func yes(b bool) int {
	if b {
		return 1
	}
	return 0
}

// manifestForms are the notations that the name of a file suggests.
func manifestForms(file string) []dialect.Manifest {
	switch strings.ToLower(path.Ext(file)) {
	case ".json":
		return []dialect.Manifest{{File: file, Format: dialect.FormatJSON}}
	case ".toml":
		return []dialect.Manifest{{File: file, Format: dialect.FormatTOML}}
	case ".yaml", ".yml":
		return []dialect.Manifest{{File: file, Format: dialect.FormatYAML}}
	case ".xml":
		return []dialect.Manifest{{File: file, Format: dialect.FormatXML}}
	case ".lua", ".js", ".py", ".rb", ".pl", ".php", ".sh":
		return []dialect.Manifest{{File: file, Format: dialect.FormatSource}}
	}
	return []dialect.Manifest{
		{File: file, Format: dialect.FormatKeyValue, Comment: "#"},
		{File: file, Format: dialect.FormatKeyValue, Comment: "#", Assign: ":"},
		{File: file, Format: dialect.FormatINI, Comment: "#"},
		{File: file, Format: dialect.FormatLines},
	}
}

// manifestSearch looks for the keys of one file.
type manifestSearch struct {
	doc  []byte
	form dialect.Manifest
}

var (
	keyWord    = regexp.MustCompile(`[A-Za-z_][\w-]*`)
	sectioned  = regexp.MustCompile(`(?m)^\s*\[([^\]\r\n]+)\]`)
	objectKey  = regexp.MustCompile(`(?m)(?:"([\w-]+)"\s*:\s*\{|^([\w-]+):\s*$|<([\w-]+)[\s>])`)
	frontLine  = regexp.MustCompile(`(?m)^[ \t]*((?:#|--|//|;)[ \t]*@?[A-Za-z][A-Za-z _-]*[:=]?[ \t]+)\S`)
	callOrSet  = regexp.MustCompile(`(?m)^[ \t]*([A-Za-z_][\w.]*)[ \t]*([=(:]|[ \t])[ \t]*(["'])`)
	versionKey = regexp.MustCompile(`(?i)(version|release)$`)
	versionTxt = regexp.MustCompile(`^v?\d+(\.\w+)*$`)
)

// keys are what may be keys of the file.
func (s *manifestSearch) keys() (list []string) {
	add := func(key string) {
		if !slices.Contains(list, key) && len(list) < maxKeyWords {
			list = append(list, key)
		}
	}
	if s.form.Format == dialect.FormatSource {
		for _, m := range frontLine.FindAllSubmatch(s.doc, -1) {
			add(escape(string(m[1])) + "{value}")
		}
		for _, m := range callOrSet.FindAllSubmatch(s.doc, -1) {
			before, quote := string(m[1]), string(m[3])
			switch string(m[2]) {
			case "=":
				add(before + " = " + quote + "{value}" + quote)
			case "(":
				add(before + "(" + quote + "{value}" + quote + ")")
			default:
				add(before + " " + quote + "{value}" + quote)
			}
		}
		return list
	}
	words := keyWord.FindAllString(string(s.doc), -1)
	for _, w := range words {
		add(w)
		if s.form.Format == dialect.FormatXML {
			add("@" + w)
		}
	}
	between := "."
	if s.form.Format == dialect.FormatINI {
		between = "/"
	}
	for _, m := range slices.Concat(sectioned.FindAllSubmatch(s.doc, -1), objectKey.FindAllSubmatch(s.doc, maxObjects)) {
		outer := string(bytes.Join(m[1:], nil)) // one of them is what was found
		for _, w := range words {
			add(outer + between + w)
			if s.form.Format == dialect.FormatXML {
				add(outer + between + "@" + w)
			}
		}
	}
	return list
}

// read reads the file with one more key.
func (s *manifestSearch) read(form dialect.Manifest) mod.Manifest {
	return mod.Read([]dialect.Manifest{form}, func(file string) ([]byte, error) {
		if file == form.File {
			return s.doc, nil
		}
		return nil, fs.ErrNotExist
	})
}

// find finds the keys of the name, the number, the release and the needs.
func (s *manifestSearch) find(known Known) {
	if s.form.Format == dialect.FormatLines { // all of it is needs
		m := s.read(s.form)
		if len(known.Needs) > 0 && holdsAll(mod.Names(m.Needs), known.Needs) && m.Problem == nil {
			s.form.Needs = "."
		}
		return
	}
	for _, key := range s.keys() {
		switch {
		case s.form.Name == "" && s.reads(func(f *dialect.Manifest) { f.Name = key }, func(m *mod.Manifest) bool { return m.Name == known.Name }):
		case s.form.Number == "" && known.Number != "" && s.reads(func(f *dialect.Manifest) { f.Number = key }, func(m *mod.Manifest) bool { return m.Number == known.Number }):
		case s.form.Release == "" && versionKey.MatchString(strings.TrimRight(strings.ReplaceAll(key, "{value}", ""), " =:\"'()")) &&
			s.reads(func(f *dialect.Manifest) { f.Release = key }, func(m *mod.Manifest) bool { return versionTxt.MatchString(m.Release) }):
		case s.form.Needs == "" && len(known.Needs) > 0:
			s.findNeeds(key, known.Needs)
		}
	}
}

// reads keeps one more key if the file then reads as it has to.
func (s *manifestSearch) reads(with func(*dialect.Manifest), as func(*mod.Manifest) bool) bool {
	form := s.form
	with(&form)
	if m := s.read(form); m.Problem != nil || !as(&m) {
		return false
	}
	s.form = form
	return true
}

// findNeeds keeps a key of needs, and what parts them, if it tells of all that are known.
func (s *manifestSearch) findNeeds(key string, needs []string) {
	separators := []string{"", ",", ";", " "}
	switch s.form.Format {
	case dialect.FormatKeyValue, dialect.FormatINI, dialect.FormatSource: // of one need nothing tells what would part two
		separators = []string{",", ";", " ", ""}
	}
	for _, separator := range separators {
		if s.reads(func(f *dialect.Manifest) { f.Needs, f.Separator = key, separator }, func(m *mod.Manifest) bool { return holdsAll(mod.Names(m.Needs), needs) }) {
			return
		}
	}
}

func holdsAll(list, all []string) bool {
	return !slices.ContainsFunc(all, func(s string) bool { return !slices.Contains(list, s) })
}

// table writes what was found as a table of TOML.
func (s *manifestSearch) table() string {
	var b strings.Builder
	b.WriteString("[[manifest]]\n")
	f := &s.form
	needs := f.Needs
	if f.Format == dialect.FormatLines {
		needs = ""
	}
	comment := f.Comment
	for _, kv := range [][2]string{{"file", f.File}, {"format", string(f.Format)}, {"comment", comment}, {"assign", f.Assign}, {"name", f.Name}, {"release", f.Release}, {"number", f.Number}, {"needs", needs}, {"separator", f.Separator}} {
		if kv[1] == "" || kv[0] == "separator" && needs == "" {
			continue
		}
		if line, err := toml.Marshal(map[string]string{kv[0]: kv[1]}); err == nil {
			b.Write(line)
		}
	}
	return b.String()
}
