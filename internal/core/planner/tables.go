package planner

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/table"
	"initium/internal/core/text"
)

// merge adds the entries of a mod to the server's tables: those in a file that is named, or those among its
// own files.
func (p *Planner) merge(c lineup.Change) error {
	choices := lineup.Choices{}
	if c.Choices != nil {
		choices = *c.Choices
	}
	m := p.Seen().Find(c.Mod)
	if m == nil {
		return Refusal{p.seen.Unknown(c.Mod)}
	}
	var brings []intake.Shipped
	if c.Source == "" {
		all, err := p.ground.Shipped(m, p.parts)
		if err != nil {
			return err
		}
		for _, b := range all {
			if c.File == "" || c.File == b.Into {
				brings = append(brings, b)
			}
		}
		if len(brings) == 0 {
			return Refusal{fmt.Errorf("%s has no file with entries for a table of this server; name one, if it came beside the mod", text.Clean(c.Mod))}
		}
	} else {
		content, into, err := p.tableFor(c.File, c.Source)
		if err != nil {
			return Refusal{err}
		}
		data, err := p.ground.Entries(c.Source)
		if err != nil {
			return err
		}
		brings = []intake.Shipped{{Mod: c.Mod, Content: content, Into: into, Path: c.Source, Data: data}}
	}
	return p.takeEntries(c.String(), brings, choices, false)
}

// tableFor is the table that a file of entries is for: the one that is named, or the only one whose files are
// called so, or the only one there is.
func (p *Planner) tableFor(named, source string) (*dialect.Content, string, error) {
	var all, like []int
	var names []string
	d := p.now.Dialect
	for i := range d.Contents {
		into, ok := p.now.Vars.Expand(d.Contents[i].Into)
		if !ok || !d.Contents[i].Merged() || named != "" && named != into {
			continue
		}
		all, names = append(all, i), append(names, path.Base(into))
		if _, fits := d.Contents[i].Fits(path.Base(source)); fits {
			like = append(like, i)
		}
	}
	if len(like) == 1 {
		all = like
	}
	switch {
	case len(all) == 1:
		into, _ := p.now.Vars.Expand(d.Contents[all[0]].Into)
		return &d.Contents[all[0]], into, nil
	case len(all) == 0 && named != "":
		return nil, "", fmt.Errorf("%s is no table of which the dialect %s says what its entries are known by", text.Clean(named), d.Name)
	case len(all) == 0:
		return nil, "", fmt.Errorf("the dialect %s knows no table that entries are added to", d.Name)
	}
	return nil, "", fmt.Errorf("say which table is meant: %s", text.Clean(strings.Join(names, ", ")))
}

// takeEntries adds what mods bring to the tables it is for. about is what is asked for, where something has
// to be answered first.
// renews tells that they are all that these mods bring: what else an earlier release has brought goes.
func (p *Planner) takeEntries(about string, brings []intake.Shipped, choices lineup.Choices, renews bool) error {
	open := &Unanswered{About: about}
	for i := range brings {
		b := &brings[i]
		w, err := p.weigh(b, choices)
		if renews && err == nil {
			w.gone = p.outdated(w, b, brings)
		}
		if err != nil {
			return err
		}
		open.Questions, open.Problems = append(open.Questions, w.questions...), append(open.Problems, w.problems...)
		if len(open.Questions)+len(open.Problems) > 0 {
			continue
		}
		if err := p.add(b, w); err != nil {
			return Refusal{fmt.Errorf("%s: %w", text.Clean(p.rel(b.Into)), err)}
		}
	}
	if len(open.Questions)+len(open.Problems) > 0 {
		return open
	}
	return nil
}

// weighed is what the entries of one file come to.
type weighed struct {
	have         *table.Table
	raw          []byte
	encoding     text.Encoding
	begun        bool          // the table is not there yet
	fresh, other []table.Entry // that come, and that take the place of others
	gone         []string
	shared       []string          // that are there already, as other mods have brought them
	before       map[string]string // what the mod has brought, with what it said
	questions    []intake.Question
	problems     []string
}

// weigh works out what the entries of one file come to; it changes nothing.
func (p *Planner) weigh(b *intake.Shipped, choices lineup.Choices) (w weighed, err error) {
	kind := table.KindOf(b.Content)
	problem := func(format string, args ...any) (weighed, error) {
		w.problems = append(w.problems, fmt.Sprintf(format, args...))
		return w, nil
	}
	shipped, _ := text.Decode(b.Data)
	entries, fault := table.Shipped(shipped, kind)
	if fault != nil {
		return problem("the entries in %s cannot be added: %v", text.Clean(path.Base(b.Path)), fault)
	}
	if w.raw, w.begun, err = p.tableFile(b, choices); err != nil {
		return problem("%v", err)
	}
	var doc []byte
	doc, w.encoding = text.Decode(w.raw)
	if w.have, fault = table.Read(doc, kind); fault != nil {
		return problem("%s cannot be added to: %v", text.Clean(p.rel(b.Into)), fault)
	}
	origins, err := p.ground.Origins(b.Into)
	if err != nil {
		return w, err
	}
	before := from(origins, b.Mod)
	w.before = before
	got := w.have.Compare(entries)
	for _, e := range got.Same {
		if _, mine := before[e.ID]; !mine && slices.ContainsFunc(origins, func(o table.Origin) bool { return o.ID == e.ID }) {
			w.shared = append(w.shared, e.ID)
		}
	}
	w.fresh = got.Fresh
	for _, d := range got.Differ {
		if says, mine := before[d.Have.ID]; mine && says == d.Have.Says() {
			w.other = append(w.other, d.Brings) // its own, as it came
			continue
		}
		rel, full := p.rel(b.Into), b.Into
		answer := choices.About(rel+":"+d.Have.ID, full+":"+d.Have.ID)
		if answer == lineup.Open {
			answer = choices.About(rel, full)
		}
		switch answer {
		case lineup.Take:
			w.other = append(w.other, d.Brings)
		case lineup.Keep:
		default:
			w.questions = append(w.questions, intake.Question{About: full + ":" + d.Have.ID, Rel: rel + ":" + d.Have.ID, Answers: []intake.Answer{intake.AnswerTake, intake.AnswerKeep}, Text: p.sideBySide(b, w.have, d)})
		}
	}
	return w, nil
}

// outdated are the entries that an earlier release of a mod has brought and that are in none of the files which
// come for the table now; what others have brought too stays.
func (p *Planner) outdated(w weighed, b *intake.Shipped, brings []intake.Shipped) (gone []string) {
	comes := map[string]bool{}
	for i := range brings {
		if o := &brings[i]; o.Mod == b.Mod && o.Into == b.Into {
			doc, _ := text.Decode(o.Data)
			entries, _ := table.Shipped(doc, table.KindOf(o.Content))
			for _, e := range entries {
				comes[e.ID] = true
			}
		}
	}
	for i := range w.have.Entries {
		e := &w.have.Entries[i]
		if says, mine := w.before[e.ID]; mine && says == e.Says() && !comes[e.ID] && !p.wanted(b.Into, e.ID, b.Mod) {
			gone = append(gone, e.ID)
		}
	}
	return gone
}

// wanted tells whether another mod that is on the server has brought an entry too.
func (p *Planner) wanted(into, id, but string) bool {
	origins, err := p.ground.Origins(into)
	return err != nil || slices.ContainsFunc(origins, func(o table.Origin) bool {
		if o.ID != id || o.Mod == but {
			return false
		}
		m := p.seen.Find(o.Mod)
		return m != nil && m.Path != ""
	})
}

// from are the entries of a table that came from a mod, with what they said then.
func from(origins []table.Origin, mod string) map[string]string {
	said := map[string]string{}
	for _, o := range origins {
		if o.Mod == mod {
			said[o.ID] = o.Says
		}
	}
	return said
}

// add makes of a table what was worked out.
func (p *Planner) add(b *intake.Shipped, w weighed) error {
	if len(w.fresh)+len(w.other)+len(w.gone)+len(w.shared) == 0 && !w.begun {
		return nil
	}
	now, err := w.have.Change(w.fresh, w.other, w.gone)
	if err != nil {
		return err
	}
	p.rewriteNew(b.Into, w.raw, text.Encode(now, w.encoding), w.begun)
	c := lineup.Change{Op: lineup.OpMerge, Mod: b.Mod, File: b.Into, Entries: slices.Clone(w.shared)}
	for _, e := range slices.Concat(w.fresh, w.other) {
		c.Entries = append(c.Entries, e.ID)
	}
	p.merged = append(p.merged, c)
	return nil
}

// sideBySide says what an entry is, and what it would be.
func (p *Planner) sideBySide(b *intake.Shipped, have *table.Table, d table.Pair) string {
	secrets := p.now.Lineup.Secrets()
	one := func(e table.Entry) string {
		said := []rune(text.Clean(text.Mask(strings.Join(strings.Fields(e.Raw), " "), secrets)))
		if len(said) > maxSaid {
			said = append(said[:maxSaid], '…')
		}
		return string(said)
	}
	return fmt.Sprintf("%s is in %s already, on line %d, and says something else.\n    there  %s\n    %s  %s", text.Clean(d.Have.ID), text.Clean(p.rel(b.Into)), have.Line(d.Have), one(d.Have), "comes", one(d.Brings))
}

// maxSaid is how much is shown of an entry that is asked about, in characters.
const maxSaid = 200

// rel is a path as seen from the server's folder.
func (p *Planner) rel(full string) string { return strings.TrimPrefix(full, p.now.Vars["dir"]+"/") }

// tableFile is what a table holds, or, where it is not there yet, what it begins from; fresh tells that.
func (p *Planner) tableFile(b *intake.Shipped, choices lineup.Choices) (raw []byte, fresh bool, err error) {
	if raw, err = p.File(b.Into); err == nil || !errors.Is(err, fs.ErrNotExist) {
		return raw, false, err
	}
	if base, ok := p.now.Vars.Expand(b.Content.Base); ok && base != "" && choices.Base == "" {
		if raw, err = p.ground.File(base); err == nil {
			return raw, true, nil
		}
	}
	if choices.Base == "" {
		return nil, false, fmt.Errorf("%s is not there yet, and entries are not added to nothing; say with --base FILE what it begins from", text.Clean(p.rel(b.Into)))
	}
	raw, err = p.ground.Entries(choices.Base)
	return raw, true, err
}

// tables are those of the dialect, each with its content; one name only, where that is given.
func (p *Planner) tables(only string) map[string]*dialect.Content {
	all := map[string]*dialect.Content{}
	for i := range p.now.Dialect.Contents {
		c := &p.now.Dialect.Contents[i]
		if into, ok := p.now.Vars.Expand(c.Into); ok && c.Merged() && (only == "" || only == into) {
			all[into] = c
		}
	}
	return all
}

// entriesOf are the entries of a mod that are in a table: those that are as they came, and those that
// somebody has changed since.
func (p *Planner) entriesOf(mod, into string, c *dialect.Content) (t *table.Table, asCame, changed []table.Entry, err error) {
	origins, err := p.ground.Origins(into)
	said := from(origins, mod)
	if err != nil || len(said) == 0 {
		return nil, nil, nil, err
	}
	raw, err := p.File(into)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil, nil
	} else if err != nil {
		return nil, nil, nil, err
	}
	doc, _ := text.Decode(raw)
	t, fault := table.Read(doc, table.KindOf(c))
	if fault != nil {
		return nil, nil, nil, fmt.Errorf("%s cannot be read, which has entries of %s: %w", text.Clean(p.rel(into)), text.Clean(mod), fault)
	}
	for _, e := range t.Entries {
		switch says, mine := said[e.ID]; {
		case mine && p.wanted(into, e.ID, mod):
		case mine && says == e.Says():
			asCame = append(asCame, e)
		case mine:
			changed = append(changed, e)
		}
	}
	return t, asCame, changed, nil
}

// unmerge takes the entries of a mod out of a table, or of all where none is named; those that somebody has
// changed since stay.
func (p *Planner) unmerge(mod, only string) error {
	all := p.tables(only)
	for _, into := range slices.Sorted(maps.Keys(all)) {
		c := all[into]
		t, asCame, _, err := p.entriesOf(mod, into, c)
		if err != nil {
			return Refusal{err}
		}
		if len(asCame) == 0 {
			continue
		}
		var gone []string
		for _, e := range asCame {
			gone = append(gone, e.ID)
		}
		raw, err := p.File(into)
		if err != nil {
			return err
		}
		_, encoding := text.Decode(raw)
		now, err := t.Change(nil, nil, gone)
		if err != nil {
			return Refusal{fmt.Errorf("%s: %w", text.Clean(p.rel(into)), err)}
		}
		p.rewrite(into, raw, text.Encode(now, encoding))
	}
	return nil
}

// leaves tells what of a mod that is taken out is in tables: what goes, and what stays.
func (p *Planner) leaves(r *intake.Removal) {
	all := p.tables("")
	for _, into := range slices.Sorted(maps.Keys(all)) {
		c := all[into]
		t, asCame, changed, err := p.entriesOf(r.Mod.Name, into, c)
		if err != nil {
			r.Problems = append(r.Problems, err.Error())
			continue
		}
		if n := len(asCame); n > 0 {
			r.Left = append(r.Left, intake.Left{Path: into, Line: t.Line(asCame[0]), Goes: true, About: fmt.Sprintf("the %d entries that it has brought", n)})
		}
		for _, e := range changed {
			r.Left = append(r.Left, intake.Left{Path: into, Line: t.Line(e), About: "its entry " + text.Clean(e.ID) + ", which somebody has changed since"})
		}
	}
}
