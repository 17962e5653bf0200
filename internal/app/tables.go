package app

import (
	"bytes"
	"cmp"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/survey"
	"initium/internal/core/table"
	"initium/internal/core/text"
	"initium/internal/host"
)

// MergeChange is the change that adds the entries of a mod to a table: those in a file, or those among its own
// where none is named. into names the table, as seen from the server's folder, where there are several.
func (a *App) MergeChange(server, mod, file, into string, choices lineup.Choices) (c lineup.Change, err error) {
	s, err := a.Server(server)
	if err != nil {
		return c, err
	}
	if err := wholeBase(&choices); err != nil {
		return c, err
	}
	c = lineup.Change{Op: lineup.OpMerge, Mod: mod, Choices: &choices}
	if file != "" {
		if c.Source, err = filepath.Abs(file); err != nil {
			return c, err
		}
	}
	if into != "" {
		c.File, err = s.fileOf(survey.Take(s.input()).Lineup, into)
	}
	return c, err
}

// wholeBase makes the base that somebody has named a whole path: a change that is staged is carried out from
// anywhere.
func wholeBase(c *lineup.Choices) (err error) {
	if c.Base != "" {
		c.Base, err = filepath.Abs(c.Base)
	}
	return err
}

// UnmergeChange is the change that takes the entries of a mod out of a table, or out of all.
func (a *App) UnmergeChange(server, mod, into string) (c lineup.Change, err error) {
	s, err := a.Server(server)
	if err != nil {
		return c, err
	}
	c = lineup.Change{Op: lineup.OpUnmerge, Mod: mod}
	if into != "" {
		c.File, err = s.fileOf(survey.Take(s.input()).Lineup, into)
	}
	return c, err
}

// Entries are what a file holds that the operator has named.
func (g *ground) Entries(file string) ([]byte, error) {
	data, err := survey.Open(theirs.Tree(), file, table.MaxFile)
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", text.Clean(file), err)
	}
	return data, nil
}

// Bounds of what is looked through for entries in a mod's own folder.
const maxShippedDepth, maxShippedFiles = 4, 5000

// Shipped are the entries that a mod has among its own files.
func (g *ground) Shipped(m *survey.Mod, parts []plan.Part) ([]intake.Shipped, error) {
	return shipped(g.a.overlay(parts), g.s.Dialect, g.s.Vars, m)
}

// shipped looks through the folder of a mod for files with entries.
func shipped(tree fs.FS, d *dialect.Dialect, vars dialect.Vars, m *survey.Mod) (list []intake.Shipped, err error) {
	if m.Path == "" || !slices.ContainsFunc(d.Contents, func(c dialect.Content) bool { return c.Merged() }) {
		return nil, nil
	}
	root := strings.TrimPrefix(m.Path, "/")
	files := 0
	err = fs.WalkDir(tree, root, func(name string, e fs.DirEntry, err error) error {
		below := strings.TrimPrefix(strings.TrimPrefix(name, root), "/")
		switch files++; {
		case err != nil:
			return fmt.Errorf("read %s: %w", text.Clean(name), err)
		case files > maxShippedFiles:
			return fmt.Errorf("it has more than the %d files that are looked through", maxShippedFiles)
		case e.IsDir() && strings.Count(below, "/") >= maxShippedDepth:
			return fs.SkipDir
		case e.IsDir():
			return nil
		}
		for i := range d.Contents {
			c := &d.Contents[i]
			into, ok := vars.Expand(c.Into)
			if _, fits := c.Fits(below); !ok || !fits || !c.Merged() || !e.Type().IsRegular() {
				continue
			}
			data, err := survey.Open(tree, "/"+name, table.MaxShipped)
			if err != nil {
				return fmt.Errorf("read %s: %w", text.Clean(name), err)
			}
			list = append(list, intake.Shipped{Mod: m.Name, Content: c, Into: into, Path: "/" + name, Data: data})
			break
		}
		return nil
	})
	return list, err
}

// Origins are the entries of a table that came from mods, as the ledger tells.
func (g *ground) Origins(into string) ([]table.Origin, error) {
	l, err := g.a.ledger()
	if err != nil {
		return nil, err
	}
	return g.a.origins(g.s, l, into)
}

// origins goes through what entries of the ledger have added to a table: an entry is from each mod that it was
// added for, as the last of them has brought it.
func (a *App) origins(s *Server, l *host.Ledger, into string) ([]table.Origin, error) {
	newest, err := l.Newest(s.Record.Name)
	if err != nil {
		return nil, err
	}
	key := fmt.Sprintf("%s\x00%s\x00%d", s.Record.Name, into, newest)
	a.mu.Lock()
	known, ok := a.came[key]
	a.mu.Unlock()
	if ok {
		return known, nil
	}
	list, err := s.origins(l, into)
	if err == nil {
		a.mu.Lock()
		defer a.mu.Unlock()
		if a.came == nil || len(a.came) >= mostTables {
			a.came = map[string][]table.Origin{}
		}
		a.came[key] = list
	}
	return list, err
}

// mostTables is how many tables, and of how many it is kept where their entries are from.
const mostTables = 16

// readTable is a table as it was read, and what it was read from.
type readTable struct {
	raw   []byte
	kind  table.Kind
	have  *table.Table
	fault *text.Fault
}

// table reads a table, or has what was read of the same bytes before: a screen looks again and again.
func (a *App) table(file string, raw []byte, kind table.Kind) (*table.Table, *text.Fault) {
	a.mu.Lock()
	known := a.tables[file]
	a.mu.Unlock()
	if known != nil && known.kind == kind && bytes.Equal(known.raw, raw) {
		return known.have, known.fault
	}
	doc, _ := text.Decode(raw)
	have, fault := table.Read(doc, kind)
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.tables == nil || len(a.tables) >= mostTables {
		a.tables = map[string]*readTable{}
	}
	a.tables[file] = &readTable{raw, kind, have, fault}
	return have, fault
}

// origins reads that from the ledger.
func (s *Server) origins(l *host.Ledger, into string) ([]table.Origin, error) {
	i := slices.IndexFunc(s.Dialect.Contents, func(c dialect.Content) bool {
		full, ok := s.Vars.Expand(c.Into)
		return ok && c.Merged() && full == into
	})
	if i < 0 {
		return nil, nil
	}
	versions, err := l.Merges(s.Record.Name, into)
	if err != nil {
		return nil, err
	}
	type came struct{ id, mod string }
	kind := table.KindOf(&s.Dialect.Contents[i])
	from, says := map[came]bool{}, map[string]string{}
	for _, v := range versions { // from the oldest on
		said := map[string]string{}
		if len(v.New) > 0 {
			doc, _ := text.Decode(v.New)
			t, fault := table.Read(doc, kind)
			if fault != nil {
				continue // somebody has torn it since; what is in it now is looked at by itself
			}
			for k := range t.Entries {
				said[t.Entries[k].ID] = t.Entries[k].Says()
			}
		}
		for _, c := range v.Changes {
			if c.Op != lineup.OpMerge || c.File != into {
				continue
			}
			for _, id := range c.Entries {
				from[came{id, c.Mod}] = true
				if now, ok := said[id]; ok {
					says[id] = now
				}
			}
		}
	}
	var list []table.Origin
	for o := range from {
		list = append(list, table.Origin{ID: o.id, Mod: o.mod, Says: says[o.id]})
	}
	slices.SortFunc(list, func(a, b table.Origin) int { return cmp.Or(strings.Compare(a.ID, b.ID), strings.Compare(a.Mod, b.Mod)) })
	return list, nil
}

// tableFacts are what check has to know of tables: what mods ship for them, what they hold, and what in them came
// from mods.
func (a *App) tableFacts(s *Server, now *survey.Survey, l *host.Ledger) (list []check.Table) {
	for i := range s.Dialect.Contents {
		c := &s.Dialect.Contents[i]
		into, ok := s.Vars.Expand(c.Into)
		if !ok || !c.Merged() || slices.ContainsFunc(list, func(t check.Table) bool { return t.File == into }) {
			continue
		}
		t := check.Table{File: into, Kind: table.KindOf(c), Needed: c.Needed}
		if raw, err := survey.Open(s.disk(), into, table.MaxFile); err == nil {
			t.Have, t.Fault = a.table(into, raw, t.Kind)
		} else {
			t.Problem = text.Clean(err.Error())
		}
		origins, err := a.origins(s, l, into)
		if err != nil {
			a.tell(err.Error())
		}
		t.Origins = origins
		list = append(list, t)
	}
	if len(list) == 0 {
		return nil
	}
	for k := range now.Mods {
		m := &now.Mods[k]
		if !m.On {
			continue
		}
		found, err := shipped(s.disk(), s.Dialect, s.Vars, m)
		if err != nil { // what it ships is not known then, and is said
			list[0].Ships = append(list[0].Ships, check.Ships{Mod: m.Name, File: m.Path, Problem: text.Clean(err.Error())})
		}
		for _, b := range found {
			i := slices.IndexFunc(list, func(t check.Table) bool { return t.File == b.Into })
			list[i].Ships = append(list[i].Ships, check.Ships{Mod: m.Name, File: b.Path, Data: b.Data})
		}
	}
	return list
}
