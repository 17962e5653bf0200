package app

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"path"
	"path/filepath"
	"slices"

	"initium/internal/core/connection"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/planner"
	"initium/internal/core/sqlscript"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// ScriptChange is the change that runs a script on a server's database: a file, or one by its path in an archive or
// folder. again runs one that was run already.
func (a *App) ScriptChange(server, mod, source, name string, again bool) (c lineup.Change, err error) {
	s, err := a.Server(server)
	if err != nil {
		return c, err
	}
	if !s.Dialect.Database.Known() {
		return c, usage("the dialect %s knows no database of %s that a script could be run on", s.Dialect.Name, server)
	}
	if a.Home.IsRunning(server) {
		return c, fmt.Errorf("%w, and its database must not change under it; stop it first (initium stop %s)", host.ErrRunning, server)
	}
	c = lineup.Change{Op: lineup.OpScript, Mod: mod, To: name, AsSaid: again}
	c.Source, err = filepath.Abs(source)
	return c, err
}

// Script is a script in a source, or the source itself.
func (g *ground) Script(ctx context.Context, source, name string) ([]byte, error) {
	if name == "" {
		data, err := survey.Open(theirs.Tree(), source, sqlscript.MaxScript)
		if err != nil {
			return nil, fmt.Errorf("read the script %s: %w", text.Clean(source), err)
		}
		return data, nil
	}
	choices := lineup.Choices{}
	came, err := g.a.open(ctx, source, bounds(&choices), []*dialect.Dialect{g.s.Dialect}, nil)
	if err != nil {
		return nil, err
	}
	data := came.tree.Bytes(name)
	if data == nil {
		return nil, usage("there is no script %s in %s", text.Clean(name), text.Clean(filepath.Base(source)))
	}
	return data, nil
}

// script is what came of a script on a copy of a database.
type script struct {
	now    []byte
	tables []string
}

// mostScripts is how many of them are kept.
const mostScripts = 8

// RunScript runs statements on a copy of a database. A plan that is looked at again does not run them again.
func (g *ground) RunScript(ctx context.Context, db []byte, run []sqlscript.Statement) ([]byte, []string, error) {
	key := planner.Sum(db)
	for _, s := range run {
		key += planner.Sum([]byte(s.Text))
	}
	g.a.mu.Lock()
	known := g.a.scripts[key]
	g.a.mu.Unlock()
	if known != nil {
		return known.now, known.tables, nil
	}
	now, tables, err := host.RunSQLite(ctx, db, run)
	if err != nil {
		return nil, nil, err
	}
	g.a.mu.Lock()
	defer g.a.mu.Unlock()
	if g.a.scripts == nil || len(g.a.scripts) >= mostScripts {
		g.a.scripts = map[string]*script{}
	}
	g.a.scripts[key] = &script{now, tables}
	return now, tables, nil
}

// Ran is the entry of the ledger that has run a script on a database and was not taken back since.
func (g *ground) Ran(db, sum string) (int, error) {
	l, err := g.a.ledger()
	if err != nil {
		return 0, err
	}
	return ran(l, g.s.Record.Name, db, sum)
}

// ran goes through what entries have made of a database, the newest first: one that brought back what was before
// the script has taken it back.
func ran(l *host.Ledger, server, db, sum string) (int, error) {
	versions, err := l.Versions(server, db, maxVersions)
	if err != nil {
		return 0, err
	}
	for i, v := range versions {
		for _, c := range v.Changes {
			if c.Op != lineup.OpScript || c.Before != sum {
				continue
			}
			back := false
			for _, later := range versions[:i] {
				back = back || bytes.Equal(later.New, v.Old) || connection.IsPlace(db) && sqlscript.Holds(later.New, v.Old)
			}
			if !back {
				return v.Entry, nil
			}
		}
	}
	return 0, nil
}

// ranScript is a script that was run on a server's database, and not taken back since.
type ranScript struct {
	entry  int // of the ledger
	change lineup.Change
}

// name is that of its file, and the beginning of its SHA-256.
func (r *ranScript) name() string {
	return fmt.Sprintf("%s (%.8s)", text.Clean(path.Base(filepath.ToSlash(cmp.Or(r.change.To, r.change.Source)))), r.change.Before)
}

// scriptsRun are the scripts that were run on a server's database by Initium, the earliest first, each once.
func scriptsRun(l *host.Ledger, s *Server) (list []ranScript, err error) {
	db := s.databasePlace()
	if db == "" {
		return nil, nil
	}
	versions, err := l.Versions(s.Record.Name, db, maxVersions)
	if err != nil {
		return nil, err
	}
	for _, v := range slices.Backward(versions) {
		for _, c := range v.Changes {
			if c.Op != lineup.OpScript || slices.ContainsFunc(list, func(r ranScript) bool { return r.change.Before == c.Before }) {
				continue
			}
			entry, err := ran(l, s.Record.Name, db, c.Before)
			if err != nil {
				return nil, err
			}
			if entry == v.Entry {
				list = append(list, ranScript{entry, c})
			}
		}
	}
	slices.SortStableFunc(list, func(a, b ranScript) int { return cmp.Compare(a.entry, b.entry) })
	return list, nil
}

// owedBy are the things that mods want to be done, without the scripts that were run.
func (a *App) owedBy(s *Server, l *host.Ledger) ([]lineup.Owed, error) {
	all, err := l.Owed(s.Record.Name)
	if err != nil {
		return nil, err
	}
	db := s.databasePlace()
	var open []lineup.Owed
	for _, o := range all {
		if o.Sum != "" && db != "" {
			entry, err := ran(l, s.Record.Name, db, o.Sum)
			if err != nil {
				return nil, err
			}
			if entry > 0 {
				continue
			}
		}
		open = append(open, o)
	}
	return open, nil
}
