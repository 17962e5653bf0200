package recipe

import (
	"regexp"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/setting"
	"initium/internal/core/text"
)

// MaxNote is how much of a mod's notes is read, in bytes.
const MaxNote = 64 << 10

// Offer is a line of a mod's notes that looks like something to be done. Its strings are as they stand in the
// notes, and not safe to show.
type Offer struct {
	Line  int // from 1
	Kind  OfferKind
	Text  string // the line
	Name  string // of a setting, of a mod, or of a file
	Value string // of a setting
}

// OfferKind says what a line looks like.
type OfferKind string

// A line sets something, registers a mod, is an entry of a table, or names a file.
const (
	OfferSetting OfferKind = "setting"
	OfferMod     OfferKind = "mod"
	OfferEntry   OfferKind = "entry"
	OfferFile    OfferKind = "file"
)

var (
	bullet   = regexp.MustCompile(`^(?:[-*>•]|\d+[.)])\s+`)
	assigned = regexp.MustCompile(`^([A-Za-z_][\w./-]*)\s*=\s*(\S.*)$`)
	token    = regexp.MustCompile(`[\w+@~-][\w+@~./\\-]*`)
)

// Offers finds in the notes that came with a mod what looks like settings, registrations, entries and files, as a
// dialect writes them. there tells which words are files, in what came or on the server.
func Offers(notes []byte, d *dialect.Dialect, there func(name string) bool) (list []Offer) {
	notes, _ = text.Decode(notes[:min(len(notes), MaxNote)])
	if text.NotText(notes) != nil {
		return nil
	}
	for i, line := range strings.Split(string(notes), "\n") {
		said := strings.Trim(bullet.ReplaceAllString(strings.TrimSpace(line), ""), "`")
		if said == "" {
			continue
		}
		if o, ok := offered(said, d); ok {
			o.Line, o.Text = i+1, said
			list = append(list, o)
			continue
		}
		for _, word := range token.FindAllString(said, -1) {
			word = strings.TrimRight(strings.ReplaceAll(word, `\`, "/"), "./")
			twice := slices.ContainsFunc(list, func(o Offer) bool { return o.Kind == OfferFile && o.Name == word })
			if strings.ContainsAny(word, "./") && !twice && there(word) {
				list = append(list, Offer{i + 1, OfferFile, said, word, ""})
			}
		}
	}
	return list
}

// offered is what a line looks like as a whole.
func offered(line string, d *dialect.Dialect) (o Offer, ok bool) {
	for i := range d.Registrations {
		r := &d.Registrations[i]
		if before, after, is := strings.Cut(r.Line, "{mod}"); is && strings.TrimSpace(before) != "" && strings.HasPrefix(line, before) {
			name := strings.Trim(strings.TrimSuffix(strings.TrimPrefix(line, before), after), ` "'`)
			if name != "" && !strings.ContainsAny(name, " \t") {
				return Offer{Kind: OfferMod, Name: name}, true
			}
		}
		if forms := r.SettingForms(); r.Format == dialect.FormatScript && len(forms) > 0 {
			n := setting.Notation{Format: r.Format, Comment: r.Comment, Quote: r.Quote, Forms: forms}
			if set, fault := setting.Read([]byte(line), n); fault == nil && len(set) == 1 && !set[0].Off {
				return Offer{Kind: OfferSetting, Name: set[0].Name, Value: set[0].Value}, true
			}
		}
	}
	for i := range d.Contents {
		c := &d.Contents[i]
		if element := c.Entry[strings.LastIndexAny(c.Entry, "./")+1:]; c.Merged() && c.Format == dialect.FormatXML && element != "" && strings.HasPrefix(line, "<"+element) {
			return Offer{Kind: OfferEntry, Name: c.Into}, true
		}
	}
	if m := assigned.FindStringSubmatch(line); m != nil {
		return Offer{Kind: OfferSetting, Name: m[1], Value: strings.TrimRight(m[2], ";")}, true
	}
	return o, false
}
