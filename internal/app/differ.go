package app

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/differ"
	"initium/internal/core/expect"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/planner"
	"initium/internal/core/proof"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/core/table"
	"initium/internal/core/text"
	"initium/internal/host/disk"
)

// Differ tells what two servers of one family have otherwise.
func (a *App) Differ(one, other string) ([]differ.Difference, error) {
	x, err := a.Server(one)
	if err != nil {
		return nil, err
	}
	y, err := a.Server(other)
	if err != nil {
		return nil, err
	}
	if x.Dialect.Name != y.Dialect.Name {
		return nil, usage("%s is one of %s, and %s one of %s; only servers of one family have something to compare", one, x.Dialect.Title, other, y.Dialect.Title)
	}
	here, err := a.standing(x, survey.Take(x.input()))
	if err != nil {
		return nil, err
	}
	there, err := a.standing(y, survey.Take(y.input()))
	if err != nil {
		return nil, err
	}
	return differ.Compare(here, there), nil
}

// standing notes how a server stands.
func (a *App) standing(s *Server, now *survey.Survey) (*differ.Standing, error) {
	l, err := a.ledger()
	if err != nil {
		return nil, err
	}
	st := &differ.Standing{Server: s.Record.Name, Order: s.Dialect.Order == dialect.OrderListed}
	for i := range now.Mods {
		m := &now.Mods[i]
		if m.Base {
			continue
		}
		one := differ.Mod{Name: text.Clean(m.Name), Release: text.Clean(m.Release), Registered: m.Registered, On: m.On, Written: written(now, m)}
		if m.Path != "" {
			if one.Digest, err = disk.DigestOf(l.Digests(), m.Path); err != nil {
				return nil, fmt.Errorf("look at the files of %s: %w", text.Clean(m.Name), err)
			}
		}
		st.Mods = append(st.Mods, one)
	}
	tables, err := tableFacts(s, st)
	if err != nil {
		return nil, err
	}
	if err := a.settingFacts(s, now, st, tables); err != nil {
		return nil, err
	}
	for _, full := range s.restsOn(now) {
		if err := fileFact(st, s, full); err != nil {
			return nil, err
		}
	}
	scripts, err := scriptsRun(l, s)
	if err != nil {
		return nil, err
	}
	for i := range scripts {
		r := &scripts[i]
		st.Facts = append(st.Facts, differ.Fact{Kind: differ.KindScript, Name: r.name(), Value: "run", Print: r.change.Before})
	}
	for _, r := range s.Rules {
		if !r.Family {
			st.Facts = append(st.Facts, differ.Fact{Kind: differ.KindRule, Name: text.Clean(r.String()), Value: "written down", Print: "1"})
		}
	}
	for _, e := range s.Expected {
		st.Facts = append(st.Facts, differ.Fact{Kind: differ.KindExpectation, Name: text.Clean(e.String()), Value: "expected", Print: "1"})
	}
	builds := a.builds(s, now)
	for _, of := range slices.Sorted(maps.Keys(builds)) {
		said := builds[of].Version
		if said == "" {
			said = builds[of].Problem
		}
		st.Facts = append(st.Facts, differ.Fact{Kind: differ.KindBuild, Name: string(of), Value: said, Print: said})
	}
	for i := range s.Dialect.Givens {
		g := &s.Dialect.Givens[i]
		if value, given := s.Record.Set[g.Name]; given {
			st.Facts = append(st.Facts, differ.Fact{Kind: differ.KindValue, Name: g.Name, Value: text.Clean(text.MaskValue(g.Name, value)), Print: value, Own: true})
		}
	}
	return st, nil
}

// written is what stands at a mod's registrations besides its name.
func written(now *survey.Survey, m *survey.Mod) string {
	var words []string
	for _, k := range m.Entries {
		e := &now.Lineup.Entries[k]
		words = append(words, text.Clean(strings.Replace(e.Value, e.Name, "", 1)))
	}
	return strings.Join(words, " ")
}

// tableFacts notes the entries of the tables that mods add to, and returns their files. One that cannot be read is
// noted as a file.
func tableFacts(s *Server, st *differ.Standing) (files []string, err error) {
	for i := range s.Dialect.Contents {
		c := &s.Dialect.Contents[i]
		full, ok := s.Vars.Expand(c.Into)
		if !c.Merged() || !ok || slices.Contains(files, full) || !strings.HasPrefix(full, s.Record.Dir+"/") {
			continue
		}
		data, err := survey.Open(theirs.Tree(), full, table.MaxFile)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", text.Clean(s.below(full)), err)
		}
		files = append(files, full)
		doc, _ := text.Decode(data)
		t, fault := table.Read(doc, table.KindOf(c))
		if fault != nil {
			st.Facts = append(st.Facts, differ.Fact{Kind: differ.KindFile, Name: text.Clean(s.below(full)), Value: text.Clean(fault.Error()), Print: planner.Sum(data)})
			continue
		}
		nth := map[string]int{}
		for k := range t.Entries {
			e := &t.Entries[k]
			nth[e.ID]++
			st.Facts = append(st.Facts, differ.Fact{Kind: differ.KindEntry, Where: text.Clean(s.below(full)), Name: text.Clean(e.ID), Nth: nth[e.ID],
				Value: text.Clean(text.Mask(strings.Join(strings.Fields(e.Raw), " "), nil)), Print: e.Says()})
		}
	}
	return files, nil
}

// settingFacts notes what is set, but in some files. A secret is told by a print that only this home can make.
func (a *App) settingFacts(s *Server, now *survey.Survey, st *differ.Standing, without []string) error {
	files, _, err := s.settingFiles(now)
	if err != nil {
		return err
	}
	key, err := a.Home.Key()
	if err != nil {
		return err
	}
	secrets := now.Lineup.Secrets()
	for _, full := range files {
		list, err := s.settingsIn(now.Lineup, full)
		if err != nil || slices.Contains(without, full) {
			continue // check tells of what cannot be read
		}
		nth := map[string]int{}
		for _, one := range list {
			if one.Off {
				continue
			}
			nth[one.Name]++
			seal := hmac.New(sha256.New, key)
			seal.Write([]byte(one.Value))
			st.Facts = append(st.Facts, differ.Fact{Kind: differ.KindSetting, Where: text.Clean(s.below(full)), Name: text.Clean(one.Name), Nth: nth[one.Name],
				Value: s.shown(full, one, secrets).Value, Print: hex.EncodeToString(seal.Sum(nil)), Own: s.own(one.Name, one.Value)})
		}
	}
	return nil
}

// own tells whether each server has its own value of a setting: keys and passwords, what it says of itself, what a
// template leaves open, what Initium knows it by, the ports that it has, and what the operator says so of.
func (s *Server) own(name, value string) bool {
	if text.IsSecret(name, value) {
		return true
	}
	for i := range s.Dialect.Values {
		if v := &s.Dialect.Values[i]; v.Is(name) && (v.Secret || v.Told != "" || len(v.Placeholders) > 0) {
			return true
		}
	}
	if slices.Contains(s.Record.Own, name) {
		return true
	}
	return slices.ContainsFunc(s.Dialect.Givens, func(g dialect.Given) bool {
		return g.From != nil && g.From.Key == name || g.Kind == dialect.KindPort && value != "" && value == s.Vars[g.Name]
	})
}

// fileFact notes a file of the server's own by what it holds.
func fileFact(st *differ.Standing, s *Server, full string) error {
	if !strings.HasPrefix(full, s.Record.Dir+"/") {
		return nil // the same for both, or each server's own
	}
	data, err := readFile(full)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	st.Facts = append(st.Facts, differ.Fact{Kind: differ.KindFile, Name: text.Clean(s.below(full)), Value: fmt.Sprintf("%d bytes", len(data)), Print: planner.Sum(data)})
	return nil
}

// Carried is what gives one server what another has.
type Carried struct {
	Changes []lineup.Change
	Plan    *plan.Plan
	Rules   []rule.Rule          // to be written down there, which no plan does
	Expects []expect.Expectation // likewise
	Left    []string             // differences that are left, as they are each server's own or have to be done otherwise
}

// Nothing tells whether there is nothing to carry.
func (c *Carried) Nothing() bool { return len(c.Changes)+len(c.Rules)+len(c.Expects) == 0 }

// WriteCarried writes down what a plan does not: the rules and expectations of a server that another is to have. It
// returns them in words. The mods that they are about have to be there by then, or the error says which is not; what was
// written down before it stays so.
func (a *App) WriteCarried(to string, c *Carried) (written []string, err error) {
	for _, r := range c.Rules {
		if err := a.PutRule(to, r); err != nil {
			return written, fmt.Errorf("write down that %s: %w", r, err)
		}
		written = append(written, r.String())
	}
	for _, e := range c.Expects {
		if err := a.PutExpectation(to, e); err != nil {
			return written, fmt.Errorf("expect %s: %w", e, err)
		}
		written = append(written, "expected: "+e.String())
	}
	return written, nil
}

// SetOwn says that a setting is a server's own, or is not: what is own is set apart where servers are compared, and never
// carried.
func (a *App) SetOwn(server, name string, own bool) error {
	s, err := a.Server(server)
	if err != nil {
		return err
	}
	r, err := a.Home.Record(server)
	if err != nil {
		return err
	}
	at := slices.Index(r.Own, name)
	switch {
	case own && at < 0:
		known, err := s.sets(name)
		if err != nil {
			return err
		}
		if !known {
			return usage("nothing sets %s on %s; initium settings %s lists what is set", text.Clean(name), server, server)
		}
		r.Own = append(r.Own, name)
	case !own && at >= 0:
		r.Own = slices.Delete(r.Own, at, at+1)
	case !own && s.own(name, ""):
		return usage("%s is each server's own by its dialect", text.Clean(name))
	default:
		return UsageError{errSoAlready}
	}
	return a.Home.PutRecord(r)
}

// sets tells whether anything sets a setting of the server.
func (s *Server) sets(name string) (bool, error) {
	now := survey.Take(s.input())
	files, _, err := s.settingFiles(now)
	if err != nil {
		return false, err
	}
	for _, full := range files {
		list, err := s.settingsIn(now.Lineup, full)
		if err != nil {
			continue // check tells of what cannot be read
		}
		if slices.ContainsFunc(list, func(one placed) bool { return one.Name == name }) {
			return true, nil
		}
	}
	return false, nil
}

// PlanCarry works out what gives a server what another has, on top of what is staged there: mods with their files and
// places, and what is set; never what is its own. With mods it is only about those.
func (a *App) PlanCarry(ctx context.Context, from, to string, mods []string) (*Carried, error) {
	list, err := a.Differ(from, to)
	if err != nil {
		return nil, err
	}
	x, err := a.Server(from)
	if err != nil {
		return nil, err
	}
	source := survey.Take(x.input())
	for _, name := range mods {
		if source.Find(name) == nil {
			return nil, usage("%s has no mod %s", from, text.Clean(name))
		}
	}
	y, p, err := a.planAfterStaged(ctx, to)
	if err != nil {
		return nil, err
	}
	c := &carrying{a: a, from: x, to: y, source: source, p: p, only: mods, out: &Carried{}}
	for _, d := range list {
		if err := c.difference(d); err != nil {
			return nil, fmt.Errorf("%s: %w", d.Name, err)
		}
	}
	if err := errors.Join(c.order(), c.run(ctx)); err != nil {
		return nil, err
	}
	c.out.Plan, _ = p.Plan()
	return c.out, nil
}

// CarryOne stages on one server what takes one difference to another away, or writes it down there where no plan does.
// It returns that in words; the error says why there is nothing. A file that the start rests on is carried whole: it was
// asked for.
func (a *App) CarryOne(ctx context.Context, from, to string, d differ.Difference) (done []string, err error) {
	x, err := a.Server(from)
	if err != nil {
		return nil, err
	}
	y, p, err := a.planAfterStaged(ctx, to)
	if err != nil {
		return nil, err
	}
	c := &carrying{a: a, from: x, to: y, source: survey.Take(x.input()), p: p, out: &Carried{}, asked: true}
	if err := c.difference(d); err != nil {
		return nil, err
	}
	if d.Kind == differ.KindScript {
		err = c.run(ctx)
	}
	if err != nil {
		return nil, err
	}
	if d.Kind == differ.KindOrder {
		c.only = []string{d.Name}
		if err := c.order(); err != nil {
			return nil, err
		}
	}
	switch {
	case c.out.Nothing() && len(c.out.Left) > 0:
		return nil, usage("%s", c.out.Left[0])
	case c.out.Nothing():
		return nil, UsageError{errSoAlready}
	case len(c.out.Changes) == 0:
		return a.WriteCarried(to, c.out)
	}
	_, err = a.Stage(ctx, to, c.out.Changes...)
	for _, change := range c.out.Changes {
		done = append(done, change.String())
	}
	return done, err
}

// Beside are the names of the other servers of a server's family.
func (a *App) Beside(name string) (others []string, err error) {
	own, err := a.Home.Record(name)
	if err != nil {
		return nil, err
	}
	names, err := a.Home.Servers()
	for _, other := range names {
		if r, err := a.Home.Record(other); err == nil && other != name && r.Dialect == own.Dialect {
			others = append(others, other)
		}
	}
	return others, err
}

// carrying makes the changes.
type carrying struct {
	a        *App
	from, to *Server
	source   *survey.Survey
	p        *planner.Planner
	only     []string
	asked    bool // for this one difference
	out      *Carried
	scripts  []differ.Difference // to be run there once all else is planned
	set      map[[2]string]bool  // settings that were seen to, by file and name
}

func (c *carrying) make(change lineup.Change) error {
	if err := c.p.Make(change); err != nil {
		return err
	}
	c.out.Changes = append(c.out.Changes, change)
	return nil
}

func (c *carrying) left(d differ.Difference, why string) {
	c.out.Left = append(c.out.Left, d.String()+" ("+why+")")
}

// difference makes the changes that take one difference away.
func (c *carrying) difference(d differ.Difference) error {
	switch {
	case len(c.only) > 0 && (d.Kind != differ.KindMod || !slices.Contains(c.only, d.Name)):
		return nil
	case d.Own:
		c.left(d, "each server has its own")
		return nil
	case d.Kind == differ.KindMod:
		return c.mod(d)
	case d.Kind == differ.KindOrder:
		return nil // once all are there
	case d.Kind == differ.KindSetting:
		return c.setting(d)
	case d.Kind == differ.KindEntry:
		return c.file(d, d.Where)
	case d.Kind == differ.KindFile && c.data(d.Name):
		return c.file(d, d.Name)
	case d.Kind == differ.KindScript:
		c.scripts = append(c.scripts, d)
	case d.Kind == differ.KindFile && c.asked && c.holdsOwn(d.Name):
		c.left(d, "there is something in it that is each server's own; change its settings one by one, or edit it")
	case d.Kind == differ.KindFile && c.asked:
		return c.file(d, d.Name)
	case d.Kind == differ.KindRule || d.Kind == differ.KindExpectation:
		c.note(d)
	default:
		c.left(d, "carry it by a recipe, or by hand")
	}
	return nil
}

// holdsOwn tells whether a file holds, on either server, what is that one's own: a file is carried whole, or not at all.
func (c *carrying) holdsOwn(below string) bool {
	for s, now := range map[*Server]*survey.Survey{c.from: c.source, c.to: c.p.Seen()} {
		full := filepath.Join(s.Record.Dir, below)
		list, err := s.settingsIn(now.Lineup, full)
		if err == nil && slices.ContainsFunc(list, func(one placed) bool { return s.own(one.Name, one.Value) }) {
			return true
		}
		data, err := survey.Open(theirs.Tree(), full, table.MaxFile)
		if err != nil {
			continue // there is none, or carrying it says why not
		}
		if doc, _ := text.Decode(data); text.Mask(string(doc), now.Lineup.Secrets()) != string(doc) {
			return true
		}
	}
	return false
}

// run has the scripts run that were run on the other server's database, in the order in which they were.
func (c *carrying) run(ctx context.Context) error {
	l, err := c.a.ledger()
	if err != nil || len(c.scripts) == 0 {
		return err
	}
	all, err := scriptsRun(l, c.from)
	if err != nil {
		return err
	}
	known := func(d differ.Difference) bool {
		return slices.ContainsFunc(all, func(r ranScript) bool { return r.name() == d.Name })
	}
	for i := range all {
		r := &all[i]
		at := slices.IndexFunc(c.scripts, func(d differ.Difference) bool {
			return r.name() == d.Name
		})
		if at < 0 {
			continue
		}
		data, err := (&ground{a: c.a, s: c.from}).Script(ctx, r.change.Source, r.change.To)
		if err != nil || planner.Sum(data) != r.change.Before {
			c.left(c.scripts[at], "the script is not there any more as it was run; initium sql "+c.to.Record.Name+" runs it")
			continue
		}
		err = c.make(lineup.Change{Op: lineup.OpScript, Mod: r.change.Mod, Source: r.change.Source, To: r.change.To})
		if refused := (planner.Refusal{}); errors.As(err, &refused) {
			c.left(c.scripts[at], refused.Error())
		} else if err != nil {
			return err
		}
	}
	for _, d := range c.scripts {
		if !known(d) {
			c.left(d, "only "+c.to.Record.Name+" has run it")
		}
	}
	return nil
}

// note gives the server a rule or an expectation that the other has.
func (c *carrying) note(d differ.Difference) {
	for _, r := range c.from.Rules {
		if d.Kind == differ.KindRule && !r.Family && text.Clean(r.String()) == d.Name {
			r.Number = 0
			c.out.Rules = append(c.out.Rules, r)
			return
		}
	}
	for _, e := range c.from.Expected {
		if d.Kind == differ.KindExpectation && text.Clean(e.String()) == d.Name {
			e.Number = 0
			c.out.Expects = append(c.out.Expects, e)
			return
		}
	}
	c.left(d, "only "+c.to.Record.Name+" has it; take it back there if it is not wanted")
}

// mod gives the server a mod as the other has it, or takes one out that it has not.
func (c *carrying) mod(d differ.Difference) error {
	m, n := c.source.Find(d.Name), c.p.Seen().Find(d.Name)
	if m == nil {
		if n.Registered {
			if err := c.make(lineup.Change{Op: lineup.OpUnregister, Mod: n.Name}); err != nil {
				return err
			}
		}
		if n = c.p.Seen().Find(d.Name); n != nil && n.Path != "" {
			return c.make(lineup.Change{Op: lineup.OpRemove, Mod: n.Name, Choices: &lineup.Choices{Agree: true}})
		}
		return nil
	}
	if err := c.files(m, n); err != nil {
		return err
	}
	n = c.p.Seen().Find(m.Name)
	switch {
	case n == nil:
		c.left(d, "it could not be brought along")
		return nil
	case m.Registered && !n.Registered:
		if err := c.make(lineup.Change{Op: lineup.OpRegister, Mod: m.Name, Where: c.behind(m)}); err != nil {
			return err
		}
	case !m.Registered && n.Registered:
		return c.make(lineup.Change{Op: lineup.OpUnregister, Mod: m.Name})
	}
	if n = c.p.Seen().Find(m.Name); m.Registered && n != nil && n.On != m.On {
		op := lineup.OpOff
		if m.On {
			op = lineup.OpOn
		}
		return c.make(lineup.Change{Op: op, Mod: m.Name})
	}
	return nil
}

// files brings the files of a mod, where they are others or not there.
func (c *carrying) files(m, n *survey.Mod) error {
	if m.Path == "" {
		return nil
	}
	l, err := c.a.ledger()
	if err != nil {
		return err
	}
	here, err := disk.DigestOf(l.Digests(), m.Path)
	if err != nil {
		return err
	}
	if n != nil && n.Path != "" {
		there, err := disk.DigestOf(l.Digests(), n.Path)
		if err != nil || there == here {
			return err
		}
	}
	return c.make(lineup.Change{Op: lineup.OpTake, Mod: m.Name, Source: m.Path, Choices: &lineup.Choices{Agree: true, Quiet: true, Whole: true, Take: []string{"all"}}})
}

// behind is the place of a mod behind the one that it stands behind on the other server.
func (c *carrying) behind(m *survey.Mod) lineup.Where {
	seen := c.p.Seen()
	for i := m.Index() - 1; i >= 0; i-- {
		if before := &c.source.Mods[i]; before.Registered && len(seen.Lineup.Find(before.Name)) > 0 {
			return lineup.Where{After: before.Name}
		}
	}
	return lineup.Where{}
}

// setting gives a setting the value that the other server has, or takes it out. One that is set more than once is set
// as often there, each to what stands at its turn.
func (c *carrying) setting(d differ.Difference) error {
	if c.set[[2]string{d.Where, d.Name}] {
		return nil
	}
	if c.set == nil {
		c.set = map[[2]string]bool{}
	}
	c.set[[2]string{d.Where, d.Name}] = true
	full := filepath.Join(c.from.Record.Dir, d.Where)
	file := filepath.Join(c.to.Record.Dir, d.Where)
	if _, err := c.p.File(file); err != nil {
		c.left(d, "the file is not there")
		return nil
	}
	list, err := c.from.settingsIn(c.source.Lineup, full)
	if err != nil {
		return err
	}
	var values []string
	for _, one := range list {
		if text.Clean(one.Name) == d.Name && !one.Off {
			values = append(values, one.Value)
		}
	}
	there, err := c.to.settingsIn(c.p.Seen().Lineup, file)
	if err != nil {
		return err
	}
	var now []placed
	for _, one := range there {
		if text.Clean(one.Name) == d.Name && !one.Off {
			now = append(now, one)
		}
	}
	switch {
	case (len(values) > 1 || len(now) > 1) && len(values) != len(now):
		c.left(d, fmt.Sprintf("it is set %d times on %s, and %d times on %s", len(values), c.from.Record.Name, len(now), c.to.Record.Name))
		return nil
	case len(values) > 1:
		for i, value := range values {
			if err == nil && value != now[i].Value {
				err = c.make(lineup.Change{Op: lineup.OpSet, Mod: d.Name, To: value, File: file, Line: now[i].Line, AsSaid: true})
			}
		}
	case len(values) == 0:
		err = c.make(lineup.Change{Op: lineup.OpUnset, Mod: d.Name, File: file})
	default:
		err = c.make(lineup.Change{Op: lineup.OpSet, Mod: d.Name, To: values[0], File: file, AsSaid: true})
	}
	if refused := (planner.Refusal{}); errors.As(err, &refused) {
		c.left(d, refused.Error())
		return nil
	}
	return err
}

// data tells a file that the dialect names as one with data, which is the same for all servers that have the same mods.
func (c *carrying) data(below string) bool {
	full := filepath.Join(c.to.Record.Dir, below)
	is := func(form string) bool { name, ok := c.to.Vars.Expand(form); return ok && name == full }
	return slices.ContainsFunc(c.to.Dialect.Data, func(d dialect.Data) bool { return is(d.File) }) ||
		slices.ContainsFunc(c.to.Dialect.Contents, func(d dialect.Content) bool { return d.Merged() && is(d.Into) })
}

// file gives the server a whole file as the other has it, once for all that is otherwise in it.
func (c *carrying) file(d differ.Difference, below string) error {
	from, to := filepath.Join(c.from.Record.Dir, below), filepath.Join(c.to.Record.Dir, below)
	data, err := survey.Open(theirs.Tree(), from, table.MaxFile)
	if errors.Is(err, fs.ErrNotExist) {
		c.left(d, "the file is not there")
		return nil
	}
	if err != nil {
		return err
	}
	for i := range c.from.Dialect.Contents {
		content := &c.from.Dialect.Contents[i]
		if into, ok := c.from.Vars.Expand(content.Into); !ok || into != from || !content.Merged() {
			continue
		}
		doc, _ := text.Decode(data)
		if _, fault := table.Read(doc, table.KindOf(content)); fault != nil {
			c.left(d, "it cannot be read: "+text.Clean(fault.Error()))
			return nil
		}
	}
	now, err := c.p.File(to)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err == nil && planner.Sum(now) == planner.Sum(data) {
		return nil
	}
	return c.make(lineup.Change{Op: lineup.OpWrite, File: to, Content: data})
}

// order brings mods that both have into the order of the other server, where that counts.
func (c *carrying) order() error {
	if c.to.Dialect.Order != dialect.OrderListed {
		return nil
	}
	var before string
	for i := range c.source.Mods {
		m := &c.source.Mods[i]
		seen := c.p.Seen()
		n := seen.Find(m.Name)
		if !m.Registered || n == nil || !n.Registered {
			continue
		}
		last := c.behindNow(seen, n)
		if last != before && (len(c.only) == 0 || slices.Contains(c.only, m.Name)) {
			where := lineup.Where{After: before}
			if before == "" {
				where = lineup.Where{Before: c.firstOf(seen)}
			}
			if where.Before != m.Name {
				if err := c.make(lineup.Change{Op: lineup.OpMove, Mod: m.Name, Where: where}); err != nil {
					return err
				}
			}
		}
		before = m.Name
	}
	return nil
}

// behindNow is the mod of both servers that stands before one, "" for none.
func (c *carrying) behindNow(seen *survey.Survey, n *survey.Mod) string {
	for i := n.Index() - 1; i >= 0; i-- {
		other := &seen.Mods[i]
		if m := c.source.Find(other.Name); other.Registered && m != nil && m.Registered {
			return other.Name
		}
	}
	return ""
}

func (c *carrying) firstOf(seen *survey.Survey) string {
	for i := range seen.Mods {
		if seen.Mods[i].Registered {
			return seen.Mods[i].Name
		}
	}
	return ""
}

// Downtime is how long the last starts of a server took to be ready, in ms; 0 where that is not known.
func (a *App) Downtime(name string) (ms int64, err error) {
	numbers, err := a.Home.Starts(name)
	if err != nil {
		return 0, err
	}
	const lately = 5
	var all []int64
	for _, n := range numbers[max(len(numbers)-lately, 0):] {
		if p, err := a.Home.Start(name, n).Proof(); err == nil && p.Verdict == proof.Proved && p.ReadyAfterMS > 0 {
			all = append(all, p.ReadyAfterMS)
		}
	}
	if len(all) == 0 {
		return 0, nil
	}
	slices.Sort(all)
	return all[len(all)/2], nil
}
