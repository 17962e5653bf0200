package proof

import (
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// record finds what is kept about a mod, by its name in the log. What is no name of a mod is
// kept as text, and what is returned for it goes nowhere.
func (r *Reader) record(name string) *record {
	name = text.Clean(name)
	rec := r.find(name)
	if rec == nil && strings.ContainsAny(name, `/\\`) {
		rec = r.byPath(strings.ReplaceAll(name, `\\`, "/"))
	}
	if rec != nil && rec.shared {
		return &record{expected: Expected{Name: name}} // it is not known of which of them it is said
	}
	if rec == nil && r.isNoName(name) {
		r.notNames = remember(r.notNames, name)
		return &record{expected: Expected{Name: name}, nobody: true}
	}
	if rec == nil {
		rec = &record{expected: Expected{Name: name, Registered: r.Lonely}}
		r.mods[name] = rec
		r.order = append(r.order, rec)
	}
	return rec
}

// failing is like record for a mod that is said to have failed: a mark at either end of its
// name, which makes it another name for all else, does not hide that.
func (r *Reader) failing(name string) *record {
	if rec := r.find(strings.TrimFunc(text.Clean(name), isMark)); rec != nil && !rec.shared && r.find(text.Clean(name)) == nil {
		return rec
	}
	return r.record(name)
}

// isNoName tells what stands where a name is looked for and is none: a path that leads to no
// mod, a version, or a mod's name with a mark at an end, which may mean anything.
func (r *Reader) isNoName(name string) bool {
	return strings.ContainsAny(name, `/\\`) || version.MatchString(name) || r.find(strings.TrimFunc(name, isMark)) != nil
}

var version = regexp.MustCompile(`^[vV]?\d+(\.\d+)+([-+.]?[A-Za-z]+[\d.]*)?$`)

// isMark tells what people put before or after a name.
func isMark(c rune) bool { return !unicode.IsLetter(c) && !unicode.IsDigit(c) }

// remember adds a text to those that are known, as long as they are few.
func remember(known []string, s string) []string {
	const most = 20
	if s == "" || len(known) == most || slices.Contains(known, s) {
		return known
	}
	return append(known, s)
}

// find finds a mod by its name, by what else it is called, or by either in other letter
// case, as long as only one can be meant; nil for none.
func (r *Reader) find(name string) *record {
	if rec := r.mods[name]; rec != nil {
		return rec
	}
	if rec := r.also[name]; rec != nil {
		return rec
	}
	return r.also[strings.ToLower(name)]
}

// call notes what a mod is called besides its name. What two are called means neither.
func (r *Reader) call(rec *record) {
	own := text.Clean(rec.expected.Name)
	for _, name := range append([]string{strings.ToLower(own)}, rec.expected.Also...) {
		name = text.Clean(name)
		for _, name := range []string{name, strings.ToLower(name)} {
			if other, taken := r.also[name]; taken && other != rec {
				r.also[name] = nil
			} else if name != "" {
				r.also[name] = rec
			}
		}
	}
}

// nameByPath gives the name of the mod that a log line names by its file, by a
// path to it, or by its bare name.
func (r *Reader) nameByPath(file string) string {
	if r.mods[file] != nil {
		return file
	}
	if rec := r.byPath(file); rec != nil {
		return rec.expected.Name
	}
	base := path.Base(file)
	bare := base == file // a path that leads elsewhere is another file, though it is called so
	for _, rec := range r.order {
		if bare && rec.expected.Path != "" && path.Base(rec.expected.Path) == base {
			return rec.expected.Name
		}
	}
	name := strings.TrimSuffix(base, path.Ext(base))
	if rec := r.mods[name]; rec != nil && (bare || rec.expected.Path == "") {
		return name
	}
	if name := r.placed(file); name != "" {
		return name
	}
	return file
}

// placed is the mod that a path leads into, told by the folders that the dialect says
// mods are in, when no server is known that has them; "" for none.
func (r *Reader) placed(file string) string {
	if !r.Lonely {
		return ""
	}
	file = "/" + strings.ReplaceAll(file, `\`, "/")
	for i := range r.dialect.Places {
		place := &r.dialect.Places[i]
		folder := path.Base(place.Path)
		at := strings.LastIndex(file, "/"+folder+"/")
		if at < 0 {
			continue
		}
		name, inside, deeper := strings.Cut(file[at+len(folder)+2:], "/")
		if before, after, ok := strings.Cut(place.File, "{mod}"); ok {
			bare, fits := strings.CutSuffix(strings.TrimPrefix(name, before), after)
			if place.HasRelease() {
				bare, _, fits = dialect.NameIn(place.File, name)
			}
			if fits && isName(bare) {
				return bare
			}
		} else if deeper && inside != "" && isName(name) {
			return name
		}
	}
	return ""
}

// isName tells what can be a name from what stands for one.
func isName(s string) bool {
	for i := range len(s) {
		if !inName(s[i]) {
			return false
		}
	}
	return strings.Trim(s, ".") != ""
}

// byPath finds the mod that a file belongs to: the one whose folder holds it;
// failing that (a path may be cut short or seen from elsewhere) the one whose
// folder's name is the last to occur in it.
func (r *Reader) byPath(file string) *record {
	if !path.IsAbs(file) {
		file = path.Join(r.dir, file)
	}
	file = path.Clean(file)
	var best *record
	for _, rec := range r.order {
		if p := rec.expected.Path; p != "" && (file == p || strings.HasPrefix(file, p+"/")) && (best == nil || len(p) > len(best.expected.Path)) {
			best = rec
		}
	}
	if best != nil {
		return best
	}
	at := -1
	for _, rec := range r.order {
		if rec.expected.Path == "" {
			continue
		}
		if i := strings.LastIndex(file, "/"+path.Base(rec.expected.Path)+"/"); i > at {
			best, at = rec, i
		}
	}
	return best
}

// namesIn reads the names in a captured text: one that is a mod's as a whole, else those
// between commas, if a mod is called so, else as names does.
func (r *Reader) namesIn(one, many string) []string {
	if many == "" || strings.ContainsAny(many, "\"'") {
		return names(one, many)
	}
	parts := strings.FieldsFunc(many, func(c rune) bool { return c == ',' || c == ';' })
	called := false
	for i := range parts {
		parts[i] = strings.TrimSpace(parts[i])
		called = called || strings.Contains(parts[i], " ") && r.find(text.Clean(parts[i])) != nil
	}
	switch {
	case r.find(text.Clean(many)) != nil:
		parts = []string{many}
	case !called:
		return names(one, many)
	}
	return append(names(one, ""), parts...)
}

// names reads the names in a captured text: those in quotes when there are
// quotes, else the words.
func names(one, many string) (list []string) {
	if one != "" {
		list = append(list, one)
	}
	if many == "" {
		return list
	}
	if i := strings.IndexAny(many, "\"'"); i >= 0 {
		q := many[i : i+1]
		for parts := strings.Split(many, q); len(parts) > 2; parts = parts[2:] {
			list = append(list, parts[1])
		}
		return list
	}
	return append(list, strings.FieldsFunc(many, func(c rune) bool { return strings.ContainsRune(" \t,;", c) })...)
}

// NamesIn are the mods that a placeholder of a rule names: "mod", "mods", or "path",
// of which the base is taken, without its ending.
func NamesIn(placeholder, value string) []string {
	switch placeholder {
	case "mods":
		return names("", value)
	case "path":
		base := path.Base(strings.ReplaceAll(value, `\`, "/"))
		return []string{strings.TrimSuffix(base, path.Ext(base))}
	}
	return names(value, "")
}
