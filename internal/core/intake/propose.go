package intake

import (
	"path"
	"regexp"
	"strings"
	"unicode"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// Naming is how a mod is to be called on the server.
type Naming struct {
	Name   string
	Why    string // where the name comes from
	Mended string // the name as it was found, when it had to be changed to be allowed; else ""
}

// archiveSuffix are endings of archives.
var archiveSuffix = regexp.MustCompile(`(?i)\.(zip|7z|rar|tar|tgz|tbz2?|txz|tzst|(tar\.)?(gz|bz2|xz|zst))$`)

// What is put behind the name of a folder or archive on its way to the operator.
var trailing = []*regexp.Regexp{
	regexp.MustCompile(`(?i) ?\(\d+\)$`), // downloaded a second time
	regexp.MustCompile(`(?i) - copy$`),   // copied beside itself
	regexp.MustCompile(`(?i)[-_. ](master|main|trunk|develop|dev|stable|latest|release|head)$`), // a branch
	regexp.MustCompile(`(?i)[-_ ][0-9a-f]{7,40}$`),                                              // a commit
	regexp.MustCompile(`(?i)[-_. ]?v\d+(\.\d+)*([-_.]?(a|b|alpha|beta|rc|pre)\.?\d*)?$`),        // v2, v1.4-rc1
	regexp.MustCompile(`(?i)[-_. ]\d+(\.\d+)+([-_.]?(a|b|alpha|beta|rc|pre)\.?\d*)?$`),          // 1.4.2
}

var hasLetter = regexp.MustCompile(`[g-zG-Z]|[a-fA-F].*[^0-9a-fA-F]`)

// BareName takes from the name of a folder or archive what only says which copy
// it is: the suffix, the release, the branch.
func BareName(s string) string {
	for archiveSuffix.MatchString(s) {
		s = archiveSuffix.ReplaceAllString(s, "")
	}
	for again := true; again; {
		again = false
		for _, t := range trailing {
			if cut := strings.TrimRight(t.ReplaceAllString(s, ""), "-_. "); cut != s && hasLetter.MatchString(cut) {
				s, again = cut, true
			}
		}
	}
	return strings.TrimSpace(s)
}

// Mend makes a name one that the family allows. Letters that only lack their
// small form get it; other characters become "_" or "-", whichever is allowed, or
// go. "" means that nothing is left.
func Mend(names dialect.Names, s string) string {
	allowed := func(r rune) bool { _, bad := names.Forbidden(string(r)); return !bad }
	if names.Allowed == "" { // still no blanks at the ends, and nothing that parts a path or a line
		return strings.TrimSpace(strings.Map(func(r rune) rune {
			if r == '/' || r == '\\' || !unicode.IsPrint(r) {
				return '_'
			}
			return r
		}, s))
	}
	filler := ""
	for _, r := range "_-." {
		if allowed(r) {
			filler = string(r)
			break
		}
	}
	var b strings.Builder
	for _, r := range s {
		low := unicode.ToLower(r)
		switch {
		case allowed(r):
			b.WriteRune(r)
		case allowed(low):
			b.WriteRune(low)
		case allowed(unicode.ToUpper(r)):
			b.WriteRune(unicode.ToUpper(r))
		case filler != "" && !strings.HasSuffix(b.String(), filler):
			b.WriteString(filler)
		}
	}
	if filler == "" {
		return b.String()
	}
	return strings.Trim(b.String(), filler)
}

// likeness is what two names have in common that are meant to be the same.
func likeness(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, s)
}

// maxName is how long the name of a mod may be, in bytes: its file may have a
// suffix too, or another name while it waits.
const maxName = 200

// propose finds the name of a mod: what its manifest says; else the name that
// other mods look for and that its folder or archive resembles; else that of its
// folder or archive, without release and branch.
func propose(names dialect.Names, stated, folder, archive string, wanted []string) Naming {
	allowed := func(s string) bool {
		_, bad := names.Forbidden(s)
		return s != "" && len(s) <= maxName && text.Clean(s) == s && !bad && !strings.ContainsAny(s, `/\`) && !strings.HasPrefix(s, ".") && strings.TrimSpace(s) == s
	}
	if allowed(stated) {
		return Naming{Name: stated, Why: "its manifest says so"}
	}
	type candidate struct{ found, why string }
	var list []candidate
	if stated != "" {
		list = append(list, candidate{stated, "its manifest says so"})
	}
	if folder != "" {
		list = append(list, candidate{BareName(folder), "its folder is called so"})
	}
	list = append(list, candidate{BareName(path.Base(archive)), "what came is called so"})
	for _, c := range list {
		for _, w := range wanted {
			if allowed(w) && likeness(w) == likeness(c.found) && likeness(w) != "" {
				return Naming{Name: w, Why: "other mods look for it by this name"}
			}
		}
	}
	for _, c := range list {
		if allowed(c.found) {
			return Naming{Name: c.found, Why: c.why}
		}
		if mended := Mend(names, c.found); allowed(mended) {
			return Naming{mended, c.why + ", as far as it may", c.found}
		}
	}
	return Naming{Name: "mod", Why: "nothing in it says how it is called", Mended: archive}
}
