package teach

import (
	"regexp"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

// withBesides adds to the registration of a text what else stands in it beside registrations: titles of
// sections, and lines that set something. It is kept only if the same mods are read with it.
func withBesides(file string, doc []byte, r Registration, k keys) (Registration, keys) {
	var more [][]string
	switch r.Shape {
	case dialect.ShapeLine:
		if title := sectionForm(doc, k.get("comment")); title != "" {
			more = append(more, []string{"section", title})
		}
		more = append(more, scriptSetting(doc, k)...)
	case dialect.ShapeStatement:
		if form := assignForm(doc, k); form != "" {
			more = append(more, []string{"setting", form})
		}
	}
	for _, add := range more {
		with := k.with(add...)
		if tried, err := tryRegistration(file, doc, with); err == nil && slices.Equal(tried.Mods, r.Mods) {
			r, k = tried, with
		}
	}
	return r, k
}

// titled is a comment with the same signs on both sides of some words.
var titled = regexp.MustCompile(`^([=~*+\-_#]{2,}) ?(\S.*?) ?([=~*+\-_#]{2,})$`)

// sectionForm is how the titles of sections are written as comments, "" where none are, or in several
// ways.
func sectionForm(doc []byte, comment string) (form string) {
	for _, line := range text.Lines(doc) {
		said := strings.TrimSpace(string(line.Text.In(doc)))
		rest, ok := strings.CutPrefix(said, comment)
		m := titled.FindStringSubmatch(strings.TrimSpace(rest))
		if comment == "" || !ok || m == nil || m[1] != m[3] {
			continue
		}
		at := strings.Index(said, m[2])
		this := escape(said[:at]) + "{title}" + escape(said[at+len(m[2]):])
		if form != "" && form != this {
			return ""
		}
		form = this
	}
	return form
}

// scriptSetting finds lines of a script that set something: a word, a name and a value, the word being
// the same on several lines, and the name none; quotes around values are named with it.
func scriptSetting(doc []byte, k keys) (ways [][]string) {
	const quotes = `"'`
	names, quoted := map[string][]string{}, map[string]string{}
	register, _, _ := strings.Cut(k.get("line"), " ")
	for _, s := range text.Script(doc, text.ScriptStyle{Comment: k.get("comment"), Quote: quotes}) {
		if len(s.Words) != 3 || s.Words[0].Value == register || strings.Contains(s.Words[1].Value, `"`) {
			continue
		}
		word := s.Words[0].Value
		names[word] = append(names[word], s.Words[1].Value)
		if w := s.Words[2]; w.Len() > len(w.Value) {
			quoted[word] = string(doc[w.Start])
		}
	}
	best := ""
	for word, list := range names {
		slices.Sort(list)
		if len(slices.Compact(slices.Clone(list))) == len(list) && len(list) > 1 && (len(list) > len(names[best]) || len(list) == len(names[best]) && word < best) {
			best = word
		}
	}
	if best == "" {
		return nil
	}
	if q := quoted[best]; q != "" && k.get("quote") == "" {
		ways = append(ways, []string{"quote", q, "setting", best + " {name} {value}"})
	}
	return append(ways, []string{"setting", best + " {name} {value}"})[:1]
}

// assignments are the ways in which a text of statements may set something.
var assignments = []struct {
	form string
	line *regexp.Regexp
}{
	{"{name} = {value};", regexp.MustCompile(`^[A-Za-z_][\w.-]* *= *\S.*;$`)},
	{"{name} {value};", regexp.MustCompile(`^[A-Za-z_][\w.-]* +[^\s{};]+;$`)},
	{"{name} = {value}", regexp.MustCompile(`^[A-Za-z_][\w.-]* *= *[^\s;][^;]*$`)},
}

// assignForm is how several lines set something that are no registrations, "" where they do not.
func assignForm(doc []byte, k keys) string {
	counts := map[string]int{}
	for _, line := range text.Lines(doc) {
		said := withoutComment(strings.TrimSpace(string(line.Text.In(doc))), k.get("comment"))
		registers := slices.ContainsFunc(strings.Split(k.get("statements"), listMark), func(form string) bool {
			first, _, _ := strings.Cut(form, "{")
			return first != "" && strings.HasPrefix(said, strings.TrimRight(first, ` "'`))
		})
		for _, a := range assignments {
			if !registers && a.line.MatchString(said) {
				counts[a.form]++
				break
			}
		}
	}
	for _, a := range assignments {
		if counts[a.form] > 1 {
			return a.form
		}
	}
	return ""
}
