// Package planner works out what changes of a server come to, one after the other, each on
// what the ones before leave: the edits of its startup files, the files that come and go,
// and the rules that come with them. It writes nothing.
package planner

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/order"
	"initium/internal/core/plan"
	"initium/internal/core/rule"
	"initium/internal/core/setting"
	"initium/internal/core/sqlscript"
	"initium/internal/core/survey"
	"initium/internal/core/table"
	"initium/internal/core/text"
)

// Ground is what a plan stands on: the server's files, and what can be brought to them.
type Ground interface {
	// Survey is what there is on the server once the parts are in place and the startup
	// files say what the line-up does.
	Survey(parts []plan.Part, lines *lineup.Lineup) *survey.Survey
	// Target is the server as an intake sees it, with the parts in place.
	Target(seen *survey.Survey, parts []plan.Part) (*intake.Target, error)
	// Open looks into a source within the bounds that were chosen. It returns the
	// source's whole path.
	Open(ctx context.Context, source string, c *lineup.Choices) (path string, tree *intake.Tree, err error)
	// Family says in a sentence whose a source seems to be in which nothing is a mod of
	// this server's family; "" when that is not known.
	Family(ctx context.Context, source string, c *lineup.Choices) string
	// File is what a file of the server holds.
	File(name string) ([]byte, error)
	// Origins are the entries of a table that came from mods, as far as the ledger knows.
	Origins(table string) ([]table.Origin, error)
	// Shipped are the entries that a mod has among its own files, with the parts in place.
	Shipped(m *survey.Mod, parts []plan.Part) ([]intake.Shipped, error)
	// Script is a script for a database in a source, or the source itself.
	Script(ctx context.Context, source, name string) ([]byte, error)
	// RunScript runs statements on what a database file holds, and tells which tables it had before.
	RunScript(ctx context.Context, db []byte, run []sqlscript.Statement) (now []byte, tables []string, err error)
	// Database is the one that the server uses: its name, and the place under which the ledger has it.
	Database() (name, place string, err error)
	// Tables are what is in that database, of all that a script touches with the rows; sure is false where not all of
	// those can be told. The error names what could not be put back.
	Tables(ctx context.Context, run []sqlscript.Statement, touched []string, sure bool) (*sqlscript.Snapshot, error)
	// Ran is the entry of the ledger that has run a script on a database, by its SHA-256; 0 for none.
	Ran(db, sum string) (entry int, err error)
	// Entries are those in a file that somebody has named.
	Entries(file string) ([]byte, error)
	// Use names another one of a part of the server wherever that is named, in files as file reads them, or is given.
	// What is planned afterwards is for a server that uses it.
	Use(part, which string, file func(name string) ([]byte, error)) (*Using, error)
	// Renew are the parts that set aside what the server makes anew by itself: its world, or what its dialect calls so.
	Renew(name string) ([]plan.Part, error)
	// Restore are the parts that put a backup back.
	Restore(ctx context.Context, file string) ([]plan.Part, error)
}

// Using is what it takes to use another one of a part of a server.
type Using struct {
	Files []Renamed
	Links []plan.File // listings of folders in which a link leads to another one then
	Given []plan.Given
}

// Renamed is a file that names another one.
type Renamed struct {
	Path     string
	Raw, Now []byte
}

// Refusal is a change that cannot be made as it was asked for.
type Refusal struct{ Err error }

// Error says why.
func (r Refusal) Error() string { return r.Err.Error() }

// Unwrap returns what was refused for.
func (r Refusal) Unwrap() error { return r.Err }

// Unanswered says what only the operator can answer before a change is made.
type Unanswered struct {
	About     string
	Questions []intake.Question
	Problems  []string
}

// Error says in lines what is open.
func (e *Unanswered) Error() string {
	lines := []string{fmt.Sprintf("to %s needs an answer; nothing was written", e.About)}
	if len(e.Problems) > 0 {
		lines[0] = fmt.Sprintf("to %s cannot be done; nothing was written", e.About)
	}
	lines = append(lines, e.Problems...)
	for _, q := range e.Questions {
		lines = append(lines, q.Text)
	}
	return strings.Join(lines, "\n")
}

// Planner makes one plan.
type Planner struct {
	ctx    context.Context
	ground Ground
	now    *survey.Survey
	seen   *survey.Survey // after the files that came and went so far
	behind bool           // lines were changed since
	lines  *lineup.Lineup // after all changes so far
	parts  []plan.Part
	rules  []rule.Rule
	texts  []plan.File // files with settings that are no startup files
	hide   []string    // secrets in them
	given  []plan.Given
	made   []lineup.Change
	merged []lineup.Change // by the change that is being made
	owed   []lineup.Owed   // by it too
}

// New begins a plan for a server as a survey has found it. ctx ends what reads sources.
func New(ctx context.Context, ground Ground, now *survey.Survey) *Planner {
	return &Planner{ctx: ctx, ground: ground, now: now, seen: now, lines: now.Lineup}
}

// Seen is the server as it will be after the changes so far.
func (p *Planner) Seen() *survey.Survey {
	if p.behind {
		p.refresh()
	}
	return p.seen
}

// Parts are the files and folders that come and go with the changes so far.
func (p *Planner) Parts() []plan.Part { return p.parts }

// Plan is the plan of the changes so far, and what there will be on the server then.
func (p *Planner) Plan() (*plan.Plan, *survey.Survey) {
	all := plan.Between(p.now.Lineup, p.lines)
	all.Changes, all.Parts, all.Given = slices.Clone(p.made), p.parts, p.given
	for _, f := range p.texts {
		if f.New || !bytes.Equal(f.Old, f.Want) {
			if f.About == nil {
				f.Edits = text.EditsBetween(f.Old, f.Want)
			}
			all.Files = append(all.Files, f)
		}
	}
	all.Hide(p.hide)
	for _, r := range p.rules { // each once
		if !slices.ContainsFunc(slices.Concat(p.now.Rules, all.Rules), r.Same) {
			all.Rules = append(all.Rules, r)
		}
	}
	return all, p.Seen()
}

// Make adds changes. The error is that of the first that cannot be made: a Refusal, an
// *Unanswered, or what kept a source from being read.
func (p *Planner) Make(changes ...lineup.Change) error {
	for _, c := range changes {
		var err error
		switch c.Op {
		case lineup.OpTake:
			err = p.take(c)
		case lineup.OpRemove:
			err = p.remove(c)
		case lineup.OpRestore:
			var parts []plan.Part
			parts, err = p.ground.Restore(p.ctx, c.Source)
			p.parts, p.behind = append(p.parts, parts...), true
		case lineup.OpUnset:
			err = p.inFile(c)
		case lineup.OpWrite:
			err = p.write(c)
		case lineup.OpBlock, lineup.OpAddTo, lineup.OpPutAt:
			err = p.block(c)
		case lineup.OpScript:
			c.Before, c.File, err = p.script(c)
		case lineup.OpRenew:
			var parts []plan.Part
			if parts, err = p.ground.Renew(c.Mod); err != nil {
				err = Refusal{err}
			}
			p.parts, p.behind = append(p.parts, parts...), true
		case lineup.OpPutInto:
			err = p.putInto(c)
		case lineup.OpLay:
			c.To, err = p.lay(c)
		case lineup.OpUse:
			err = p.use(c)
		case lineup.OpMerge:
			err = p.merge(c)
		case lineup.OpUnmerge:
			err = p.unmerge(c.Mod, c.File)
		default:
			if c.Op == lineup.OpSet && c.File != "" {
				err = p.inFile(c)
			} else {
				err = p.line(c)
			}
		}
		if err != nil {
			return err
		}
		if c.Owed, p.owed = p.owed, nil; c.Op != lineup.OpMerge { // which says itself what it comes to
			p.made = append(p.made, c)
		}
		p.made, p.merged = append(p.made, p.merged...), nil
	}
	return nil
}

// lay brings one of those parts of a server that lie side by side. It returns its version.
func (p *Planner) lay(c lineup.Change) (version string, err error) {
	one := p.partOf(c.Mod)
	if one == nil {
		return "", Refusal{fmt.Errorf("%s has no part %q", p.now.Dialect.Title, text.Clean(c.Mod))}
	}
	choices := lineup.Choices{}
	if c.Choices != nil {
		choices = *c.Choices
	}
	source, tree, err := p.ground.Open(p.ctx, c.Source, &choices)
	if err != nil {
		return "", err
	}
	target, err := p.ground.Target(p.Seen(), p.parts)
	if err != nil {
		return "", err
	}
	l, err := intake.Lay(tree, source, one, c.To, target, &choices)
	if err != nil {
		return "", Refusal{err}
	}
	if len(l.Questions)+len(l.Problems) > 0 {
		return "", &Unanswered{About: c.String(), Questions: l.Questions, Problems: l.Problems}
	}
	for _, left := range l.Left {
		p.owed = append(p.owed, lineup.Owed{Mod: c.Mod, Path: left.Path, About: left.About})
	}
	for _, part := range l.Parts {
		if !slices.ContainsFunc(p.parts, func(o plan.Part) bool { return o.Path == part.Path && part.New == plan.EmptyFolder }) {
			p.parts = append(p.parts, part)
		}
	}
	p.behind = true
	return l.Version, nil
}

func (p *Planner) partOf(name string) *dialect.Part {
	for i := range p.now.Dialect.Parts {
		if one := &p.now.Dialect.Parts[i]; one.Name == name && one.Of != dialect.PartFile && one.Of != dialect.PartMade {
			return one
		}
	}
	return nil
}

// use names another one of those that lie side by side.
func (p *Planner) use(c lineup.Change) error {
	p.Seen()
	u, err := p.ground.Use(c.Mod, c.To, p.File)
	if err != nil {
		return Refusal{err}
	}
	for _, f := range u.Files {
		p.rewrite(f.Path, f.Raw, f.Now)
	}
	for _, f := range u.Links {
		p.texts = append(slices.DeleteFunc(p.texts, func(o plan.File) bool { return o.Path == f.Path }), f)
	}
	for _, g := range u.Given {
		p.given = slices.DeleteFunc(p.given, func(o plan.Given) bool { return o.Name == g.Name })
		p.given = append(p.given, g)
	}
	p.behind = true
	return nil
}

// refresh surveys the server as it will be after the changes so far.
func (p *Planner) refresh() {
	p.seen, p.behind = p.ground.Survey(p.parts, p.lines), false
}

// line makes a change of the line-up.
func (p *Planner) line(c lineup.Change) error {
	if err := refuse(p.seen, c); err != nil {
		return Refusal{err}
	}
	fillIn(p.seen, &c)
	after, err := p.lines.Apply(c)
	if err != nil {
		return Refusal{err}
	}
	p.lines, p.behind = after, true
	return nil
}

// inFile changes a setting in a file: one of those that register mods, of which it may change nothing
// else, or any other of the server.
func (p *Planner) inFile(c lineup.Change) error {
	if c.File == "" {
		return Refusal{errNoFile}
	}
	n, ok := setting.Of(p.now.Dialect, p.now.Vars, c.File)
	if !ok {
		return Refusal{fmt.Errorf("how %s is written is not known, by its dialect or by its ending", text.Clean(path.Base(c.File)))}
	}
	raw, err := p.File(c.File)
	if err != nil {
		return fmt.Errorf("read %s: %w", text.Clean(c.File), err)
	}
	if err := p.fits(c); err != nil {
		return Refusal{err}
	}
	n.Above = p.readAt(c)
	doc, encoding := text.Decode(raw)
	changed := doc
	if c.Op == lineup.OpUnset {
		changed, err = setting.Unset(doc, n, c.Mod, c.Line)
	} else {
		changed, err = setting.Set(doc, n, c.Mod, c.To, c.Line, c.AsSaid)
	}
	if err != nil {
		return Refusal{fmt.Errorf("%s: %w", text.Clean(path.Base(c.File)), err)}
	}
	if text.IsSecret(c.Mod, c.To) {
		p.hide = append(p.hide, c.To)
	}
	before := p.lines.Entries
	p.rewrite(c.File, raw, text.Encode(changed, encoding))
	same := func(a, b lineup.Entry) bool {
		return a.Name == b.Name && a.On == b.On && a.Registration == b.Registration && a.Value == b.Value
	}
	if !slices.EqualFunc(before, p.lines.Entries, same) {
		return Refusal{fmt.Errorf("%s registers mods, and is changed by registering, switching and moving them", text.Clean(c.Mod))}
	}
	return nil
}

// readAt is where in a file the first mod stands that reads a setting when it starts; 0 for none.
func (p *Planner) readAt(c lineup.Change) (at int) {
	seen := p.Seen()
	for i := range seen.Mods {
		m := &seen.Mods[i]
		if !m.On || !slices.Contains(order.Settings(seen, m), c.Mod) {
			continue
		}
		for _, k := range m.Entries {
			e := &p.lines.Entries[k]
			if p.lines.Files[e.File].Path == c.File && (at == 0 || e.Line.Start < at) {
				at = e.Line.Start
			}
		}
	}
	return at
}

// write gives a file what it is to hold, or makes it.
func (p *Planner) write(c lineup.Change) error {
	if c.File == "" {
		return Refusal{errNoFile}
	}
	raw, err := p.File(c.File)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("read %s: %w", text.Clean(c.File), err)
	}
	if c.Before != "" && c.Before != Sum(raw) {
		return Refusal{fmt.Errorf("%s has changed meanwhile; look at it again", text.Clean(path.Base(c.File)))}
	}
	if err != nil {
		if err := p.folderFor(c.File); err != nil {
			return err
		}
	}
	p.rewriteNew(c.File, raw, c.Content, err != nil)
	return nil
}

// folderFor makes the folders that a new file needs.
func (p *Planner) folderFor(file string) error {
	target, err := p.ground.Target(p.Seen(), p.parts)
	if err != nil {
		return err
	}
	var missing []plan.Part
	for dir := path.Dir(file); dir != "/" && !target.Exists(dir); dir = path.Dir(dir) {
		missing = append(missing, plan.Part{Path: dir, What: "a folder", New: plan.EmptyFolder})
	}
	slices.Reverse(missing)
	p.parts = append(p.parts, missing...)
	return nil
}

// Sum is the SHA-256 of what a file holds, as the Before of a change has it.
func Sum(raw []byte) string { return fmt.Sprintf("%x", sha256.Sum256(raw)) }

// File is what a file of the server holds after the changes so far.
func (p *Planner) File(name string) ([]byte, error) {
	for i := range p.lines.Files {
		if f := &p.lines.Files[i]; f.Path == name && !f.Missing {
			return f.Raw(), nil
		}
	}
	for i := range p.texts {
		if p.texts[i].Path == name {
			return p.texts[i].Want, nil
		}
	}
	return p.ground.File(name)
}

// rewrite changes a file from raw to now.
func (p *Planner) rewrite(name string, raw, now []byte) { p.rewriteNew(name, raw, now, false) }

// rewriteNew changes a file from raw to now, or makes it.
func (p *Planner) rewriteNew(name string, raw, now []byte, fresh bool) {
	p.behind = true
	if slices.ContainsFunc(p.lines.Files, func(f lineup.File) bool { return f.Path == name && (!f.Missing || fresh) }) {
		p.lines = p.lines.Rewritten(name, now)
		return
	}
	if n, ok := setting.Of(p.now.Dialect, p.now.Vars, name); ok {
		p.hide = append(append(p.hide, setting.Secrets(raw, n)...), setting.Secrets(now, n)...)
	}
	at := slices.IndexFunc(p.texts, func(f plan.File) bool { return f.Path == name })
	if at < 0 {
		at = len(p.texts)
		p.texts = append(p.texts, plan.File{Path: name, Old: raw, New: fresh})
		if fresh {
			p.texts[at].Old = nil
		}
	}
	p.texts[at].Want = now
}

// fits refuses a value that the dialect says a setting of a startup file cannot have, unless it is to
// be written as it is said.
func (p *Planner) fits(c lineup.Change) error {
	if c.Op != lineup.OpSet || c.AsSaid {
		return nil
	}
	for i := range p.now.Dialect.Values {
		v := &p.now.Dialect.Values[i]
		r := p.now.Dialect.Registration(v.Registration)
		if r == nil || !v.Is(c.Mod) {
			continue
		}
		if file, known := p.now.Vars.Expand(r.File); known && file == c.File && !v.Allows(c.To) {
			said := text.MaskValue(c.Mod, c.To)
			if v.Secret {
				said = "that"
			}
			return fmt.Errorf("%s cannot be %s: it may be %s", text.Clean(c.Mod), text.Clean(said), v.MayBe())
		}
	}
	return nil
}

// errNoFile refuses a setting of which nobody knows where it stands.
var errNoFile = errors.New("say in which file it is set")

// Assign works out what taking a source in comes to, after the changes so far.
func (p *Planner) Assign(source string, tree *intake.Tree, c lineup.Choices) (*intake.Intake, error) {
	target, err := p.ground.Target(p.Seen(), p.parts)
	if err != nil {
		return nil, err
	}
	found := intake.Examine(tree, source, p.now.Dialect, intake.Wanted(p.seen))
	in := intake.Assign(found, source, target, c)
	for i := range in.Brings { // what has to be answered about their entries
		w, err := p.weigh(&in.Brings[i], c)
		if err != nil {
			return nil, err
		}
		in.Questions, in.Problems = append(in.Questions, w.questions...), append(in.Problems, w.problems...)
	}
	if len(found.Mods) == 0 && len(in.Problems) > 0 {
		if said := p.ground.Family(p.ctx, source, &c); said != "" {
			in.Problems = append(in.Problems, said)
		}
	}
	return in, nil
}

// Removal works out what taking a mod out comes to, after the changes so far.
func (p *Planner) Removal(name string, c lineup.Choices) (*intake.Removal, error) {
	target, err := p.ground.Target(p.Seen(), p.parts)
	if err != nil {
		return nil, err
	}
	r := intake.Remove(name, target, c)
	if r.Mod != nil {
		p.leaves(r)
	}
	return r, nil
}

// take brings in what a source holds and registers it.
func (p *Planner) take(c lineup.Change) error {
	choices := lineup.Choices{}
	if c.Choices != nil {
		choices = *c.Choices
	}
	source, tree, err := p.ground.Open(p.ctx, c.Source, &choices)
	if err != nil {
		return err
	}
	in, err := p.Assign(source, tree, choices)
	if err != nil {
		return err
	}
	if !in.Ready() {
		return &Unanswered{About: c.String(), Questions: in.Questions, Problems: in.Problems}
	}
	p.parts = append(p.parts, in.Parts...)
	p.rules = append(p.rules, in.Rules...)
	for _, s := range in.Steps {
		p.owed = append(p.owed, lineup.Owed{Mod: s.Mod, Path: s.Path, About: s.About, Sum: s.Sum})
	}
	p.refresh()
	if err := p.takeEntries(c.String(), in.Brings, choices, true); err != nil {
		return err
	}
	if choices.Quiet || byPresence(p.now.Dialect) {
		if choices.Alone {
			return p.alone(in)
		}
		return nil
	}
	where := c.Where
	if where == (lineup.Where{}) {
		where.Section = choices.Section
	}
	for _, m := range in.InOrder() {
		if err := p.register(m, where); err != nil {
			return err
		}
	}
	if choices.Alone {
		return p.alone(in)
	}
	return nil
}

// register puts a mod that was taken in on its list, unless it stands there.
func (p *Planner) register(m intake.Placed, where lineup.Where) error {
	if !m.Listed || len(p.lines.Find(m.Name)) > 0 {
		return nil
	}
	if there := p.seen.Find(m.Name); there != nil && there.Registered {
		return nil // through its category folder
	}
	add := lineup.Change{Op: lineup.OpRegister, Mod: m.Name, Where: where}
	if group := p.categoryOf(m); group != "" && m.There == nil { // one line names the whole category
		if add.Mod = group; len(p.lines.Find(add.Mod)) > 0 {
			return nil
		}
	}
	if add.Where == (lineup.Where{}) {
		add.Where = intake.Position(p.seen, m.Name)
	}
	return p.line(add)
}

// categoryOf is the category folder that a mod comes with, or is put into; "" for none.
func (p *Planner) categoryOf(m intake.Placed) string {
	if m.In != nil && m.In.Group {
		return m.In.Name
	}
	return intake.CategoryOf(p.now.Dialect, m.Mod.Place, path.Dir(m.Path))
}

// byPresence tells families in which being in the folder is all.
func byPresence(d *dialect.Dialect) bool {
	return !slices.ContainsFunc(d.Registrations, func(r dialect.Registration) bool { return !r.ByPresence() })
}

// remove takes a mod out.
func (p *Planner) remove(c lineup.Change) error {
	choices := lineup.Choices{}
	if c.Choices != nil {
		choices = *c.Choices
	}
	r, err := p.Removal(c.Mod, choices)
	if err != nil {
		return err
	}
	open := &Unanswered{About: c.String(), Problems: r.Problems}
	if len(r.Dependents) > 0 && !choices.Agree {
		open.Questions = []intake.Question{{About: c.Mod, Answers: []intake.Answer{intake.AnswerAgree},
			Text: fmt.Sprintf("%s cannot do without it and will not load.", text.Clean(strings.Join(r.Dependents, ", ")))}}
	}
	if len(open.Questions)+len(open.Problems) > 0 {
		return open
	}
	p.parts = append(p.parts, r.Parts...)
	for _, line := range r.Changes {
		if err := p.line(line); err != nil {
			return err
		}
	}
	if err := p.unmerge(c.Mod, ""); err != nil {
		return err
	}
	p.refresh()
	return nil
}

// putInto puts a mod into another folder. Where the one that registers it is another then, its line stands where the old
// one did, so that the order stays.
func (p *Planner) putInto(c lineup.Change) error {
	target, err := p.ground.Target(p.Seen(), p.parts)
	if err != nil {
		return err
	}
	in, err := intake.PutInto(c.Mod, c.To, target)
	if err != nil {
		return Refusal{err}
	}
	m := *p.seen.Find(c.Mod)
	listed := func(name string) bool { return name != "" && len(p.lines.Find(name)) > 0 }
	own := listed(c.Mod)
	if own && !m.On && in.Now != "" {
		return Refusal{fmt.Errorf("%s is switched off, which it cannot be in a category that is on; switch it on or take its line out first", text.Clean(c.Mod))}
	}
	var lines []lineup.Change
	switch {
	case own && in.Now != "":
		if !listed(in.Now) {
			lines = append(lines, lineup.Change{Op: lineup.OpRegister, Mod: in.Now, Where: lineup.Where{Before: c.Mod}})
		}
		lines = append(lines, lineup.Change{Op: lineup.OpUnregister, Mod: c.Mod})
	case m.Group && in.Now != "" && !listed(in.Now):
		lines = append(lines, lineup.Change{Op: lineup.OpRegister, Mod: in.Now, Where: lineup.Where{After: in.Was}})
	case m.Group && in.Now == "":
		lines = append(lines, lineup.Change{Op: lineup.OpRegister, Mod: c.Mod, Where: lineup.Where{After: in.Was}})
	}
	if in.Last && listed(in.Was) {
		lines = append(lines, lineup.Change{Op: lineup.OpUnregister, Mod: in.Was})
	}
	p.parts = append(p.parts, in.Parts...)
	p.refresh()
	for _, l := range lines {
		if err := p.line(l); err != nil {
			return err
		}
	}
	return nil
}

// fillIn fills in what a registration needs to know of a mod, so that nobody
// has to type it: which list it belongs on, and its catalogue number; and of one that is taken out
// the number that goes with it.
func fillIn(s *survey.Survey, c *lineup.Change) {
	apart := slices.ContainsFunc(s.Dialect.Registrations, func(r dialect.Registration) bool { return r.Apart })
	if m := s.Find(c.Mod); c.Op == lineup.OpUnregister && m != nil && apart {
		shared := slices.ContainsFunc(s.Mods, func(o survey.Mod) bool {
			return o.Registered && o.Name != m.Name && o.Manifest.Number == m.Manifest.Number
		})
		if !shared { // the list of numbers need not have it any more
			c.Number = m.Manifest.Number
		}
	}
	if c.Op != lineup.OpRegister {
		return
	}
	side := ""
	if m := s.Find(c.Mod); m != nil { // else a category folder
		side, c.Number = m.Manifest.Side, cmp.Or(c.Number, m.Manifest.Number)
		if slices.ContainsFunc(s.Dialect.Registrations, func(r dialect.Registration) bool { return r.Paths }) {
			c.Written = m.Spot
		}
	}
	if c.Registration != "" {
		return
	}
	for _, r := range s.Dialect.Registrations {
		if slices.Contains(r.Sides, side) {
			c.Registration = r.Name
			return
		}
	}
	for _, r := range s.Dialect.Registrations {
		if len(r.Sides) == 0 && r.SameAs == "" {
			c.Registration = r.Name
			return
		}
	}
}

// refuse refuses changes that the line-up alone cannot see to be wrong: a
// mod that is not on the server, or one that only its category line names.
func refuse(s *survey.Survey, c lineup.Change) error {
	switch c.Op {
	case lineup.OpSet, lineup.OpUnset, lineup.OpMatch, lineup.OpMend, lineup.OpNewSection, lineup.OpRenameSection, lineup.OpMoveSection:
		return nil
	}
	m, registers := s.Find(c.Mod), c.Op == lineup.OpRegister
	switch {
	case m == nil && registers && !s.Category(c.Mod):
		return s.Unknown(c.Mod)
	case m == nil:
	case m.Base && registers:
		return fmt.Errorf("%s is the server's own and loads by itself", c.Mod)
	case m.Group && !registers && len(s.Lineup.Find(c.Mod)) == 0:
		return fmt.Errorf("%s is registered through its category folder; change %s instead", c.Mod, s.Lineup.Entries[m.Entries[0]].Name)
	}
	return nil
}
