// Package part knows the parts of a server of which several lie side by side, and finds where the one that is used is
// named: in start scripts, units and whatever else starts it.
package part

import (
	"bytes"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/mod"
	"initium/internal/core/text"
)

// Spot is one of those that lie side by side.
type Spot struct {
	Path    string // absolute
	Version string // as its path has it, "" where that does not
}

// versionIn stands for a version in the path of a part.
const versionIn = "{version}"

// Spots are those of a part that are there, in the order of its paths, the oldest version first. fsys has the whole
// disk, without the slash that paths begin with.
func Spots(fsys fs.FS, p *dialect.Part, vars dialect.Vars) (list []Spot) {
	add := func(full, version string) {
		if IsOne(fsys, p, full) && !slices.ContainsFunc(list, func(s Spot) bool { return s.Path == full }) {
			list = append(list, Spot{full, version})
		}
	}
	for _, place := range p.Places(vars) {
		before, after, several := strings.Cut(place, versionIn)
		switch {
		case !path.IsAbs(place):
			continue // a name that is looked up
		case !several:
			add(place, "")
			continue
		}
		dir, begins := path.Split(before)
		ends, rest, _ := strings.Cut(after, "/")
		entries, _ := fs.ReadDir(fsys, relative(dir)) // there may be none
		var versions []string
		for _, e := range entries {
			if name := e.Name(); len(name) > len(begins)+len(ends) && strings.HasPrefix(name, begins) && strings.HasSuffix(name, ends) {
				versions = append(versions, name[len(begins):len(name)-len(ends)])
			}
		}
		slices.SortStableFunc(versions, mod.Compare)
		for _, v := range versions {
			add(path.Join(dir, begins+v+ends, rest), v)
		}
	}
	return list
}

func relative(name string) string { return strings.TrimPrefix(path.Clean(name), "/") }

// Runnable is what is known of files of which nothing is known but that they are there: each may be one that can be run.
type Runnable struct{ fs.FS }

// Stat tells of a file that it can be run.
func (r Runnable) Stat(name string) (fs.FileInfo, error) {
	info, err := fs.Stat(r.FS, name)
	if err == nil && info.Mode().IsRegular() {
		info = runnable{info}
	}
	return info, err
}

// ReadDir is that of the files themselves.
func (r Runnable) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(r.FS, name) }

type runnable struct{ fs.FileInfo }

func (r runnable) Mode() fs.FileMode { return r.FileInfo.Mode() | 0o111 }

// IsOne tells whether what is at a path is a part: a folder with its marks, or, of a runtime, a file that can be run.
func IsOne(fsys fs.FS, p *dialect.Part, full string) bool {
	info, err := fs.Stat(fsys, relative(full))
	switch {
	case err != nil:
		return false
	case p.Of == dialect.PartRuntime && len(p.Mark) == 0:
		return info.Mode().IsRegular() && info.Mode()&0o111 != 0
	case !info.IsDir():
		return false
	}
	for _, m := range p.Mark {
		if _, err := fs.Stat(fsys, relative(path.Join(full, m))); err != nil {
			return false
		}
	}
	return true
}

// At is where a new one of a version belongs; ok is false where the part's paths have no place for several.
func At(p *dialect.Part, vars dialect.Vars, version string) (full string, ok bool) {
	for _, place := range p.Places(vars) {
		if strings.Contains(place, versionIn) {
			return strings.Replace(place, versionIn, version, 1), true
		}
	}
	return "", false
}

// Mention is where a file names one of those that lie side by side.
type Mention struct {
	Span text.Span // of all that says which: from the server's folder on, or the whole path
	Path string    // of the one that is named, absolute
	From string    // what the span's path is seen from: the server's folder, or "" where it is whole
}

// Mentions are where a file names one of a part, outside of comments. dir is the server's folder, base the one that
// relative paths in the file are seen from. A path after something that only a shell fills in counts as one from the
// server's folder.
func Mentions(doc []byte, p *dialect.Part, vars dialect.Vars, base string) (list []Mention) {
	dir := path.Clean(vars["dir"])
	skip := comments(doc)
	for _, place := range p.Places(vars) {
		if !path.IsAbs(place) {
			continue
		}
		forms := []struct{ place, from string }{{place, ""}}
		if rel, ok := strings.CutPrefix(place, dir+"/"); ok {
			forms = append(forms, struct{ place, from string }{rel, dir})
		}
		for _, f := range forms {
			for _, at := range pattern(f.place).FindAllSubmatchIndex(doc, -1) {
				s := text.Span{Start: at[2], End: at[3]}
				if skip(s.Start) || !ends(doc, s.End) || !begins(doc, s.Start, f.from, base) {
					continue
				}
				full := strings.ReplaceAll(string(doc[s.Start:s.End]), `\`, "/")
				list = append(list, Mention{s, path.Join("/", f.from, full), f.from})
			}
		}
	}
	slices.SortFunc(list, func(a, b Mention) int { return a.Span.Start - b.Span.Start })
	return slices.CompactFunc(list, func(a, b Mention) bool { return a.Span.Start < b.Span.End && b.Span.Start < a.Span.End })
}

// pattern finds a place in a text, whichever way its slashes lean.
func pattern(place string) *regexp.Regexp {
	before, after, several := strings.Cut(place, versionIn)
	quote := func(s string) string { return strings.ReplaceAll(regexp.QuoteMeta(s), "/", `[/\\]`) }
	form := quote(before)
	if several {
		form += `[0-9A-Za-z][0-9A-Za-z._+-]*` + quote(after)
	}
	return regexp.MustCompile(`(` + form + `)`)
}

func inName(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c == '.' || c == '_' || c == '+' || c == '-'
}

func ends(doc []byte, at int) bool { return at == len(doc) || !inName(doc[at]) }

// filled ends in what only a shell fills in: $HERE/, ${HERE}/, $(dirname "$0")/, %HERE%\, %~dp0.
var filled = regexp.MustCompile(`(\$[A-Za-z_][A-Za-z0-9_]*"?[/\\]|[)}]"?[/\\]|%[/\\]?|%~dp0[/\\]?)$`)

// begins tells whether a path that begins at a place in a file is one from the server's folder, or a whole one.
func begins(doc []byte, at int, from, base string) bool {
	start := at
	for start > 0 && !bytes.ContainsRune([]byte(" \t\r\n'=;:,<>|&"), rune(doc[start-1])) {
		start--
	}
	word := string(doc[start:at])
	if from != "" && filled.MatchString(word) {
		return true
	}
	word = strings.ReplaceAll(word[strings.LastIndexByte(word, '"')+1:], `\`, "/")
	switch {
	case from == "":
		return word == ""
	case path.IsAbs(word):
		return path.Clean(word) == from
	case word != "" && !strings.HasSuffix(word, "/"):
		return false
	}
	return path.Join(base, word) == from
}

// comments tells what stands in a comment, as scripts, units and settings files write them: behind # or ; at the
// beginning of a line, behind # after a blank and outside of quotes, and in lines of rem and :: .
func comments(doc []byte) func(at int) bool {
	var spans []text.Span
	start := 0
	for line := range bytes.Lines(doc) {
		begun := bytes.ToLower(bytes.TrimLeft(line, " \t@"))
		first := len(line) - len(bytes.TrimLeft(line, " \t@"))
		switch {
		case bytes.HasPrefix(begun, []byte("#")), bytes.HasPrefix(begun, []byte(";")), bytes.HasPrefix(begun, []byte("::")),
			bytes.HasPrefix(begun, []byte("rem ")), bytes.HasPrefix(begun, []byte("//")):
			spans = append(spans, text.Span{Start: start + first, End: start + len(line)})
		default:
			quote := byte(0)
			for i, c := range line {
				switch {
				case quote != 0 && c == quote:
					quote = 0
				case quote == 0 && (c == '"' || c == '\''):
					quote = c
				case quote == 0 && c == '#' && i > 0 && (line[i-1] == ' ' || line[i-1] == '\t'):
					spans = append(spans, text.Span{Start: start + i, End: start + len(line)})
					quote = '\n'
				}
			}
		}
		start += len(line)
	}
	return func(at int) bool {
		return slices.ContainsFunc(spans, func(s text.Span) bool { return at >= s.Start && at < s.End })
	}
}

// Use names another one wherever a file names one: seen from where it was, with slashes as they leant.
func Use(doc []byte, mentions []Mention, full string) (changed []byte, ok bool) {
	var edits []text.Edit
	for _, m := range mentions {
		now := full
		if m.From != "" {
			if now, ok = strings.CutPrefix(full, m.From+"/"); !ok {
				return nil, false // it lies outside of the server's folder
			}
		}
		if old := doc[m.Span.Start:m.Span.End]; bytes.ContainsRune(old, '\\') {
			now = strings.ReplaceAll(now, "/", `\`)
		}
		edits = append(edits, text.Edit{Span: m.Span, New: now})
	}
	changed, err := text.Apply(doc, edits)
	return changed, err == nil
}
