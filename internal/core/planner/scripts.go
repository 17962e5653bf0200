package planner

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/sqlscript"
	"initium/internal/core/text"
)

// script runs a script on the server's database, on a copy of it: what that holds then is what the plan writes, so
// that it is taken back to the byte. It returns the digest of the script.
func (p *Planner) script(c lineup.Change) (sum string, err error) {
	file, ok := p.now.Vars.Expand(p.now.Dialect.Database.File)
	if !ok || file == "" {
		return "", Refusal{fmt.Errorf("the dialect %s knows no database of this server that a script could be run on", p.now.Dialect.Name)}
	}
	script, err := p.ground.Script(p.ctx, c.Source, c.To)
	if err != nil {
		return "", err
	}
	name := path.Base(c.Source)
	if c.To != "" {
		name = path.Base(c.To)
	}
	refuse := func(err error) (string, error) { return "", Refusal{fmt.Errorf("%s: %w", text.Clean(name), err)} }
	sum = Sum(script)
	if entry, err := p.ground.Ran(file, sum); err != nil {
		return "", err
	} else if entry > 0 && !c.AsSaid {
		return refuse(fmt.Errorf("this very script was run already, by entry %d of the ledger; say --again to run it once more", entry))
	}
	doc, _ := text.Decode(script)
	all, fault := sqlscript.Split(doc)
	if fault != nil {
		return refuse(fault)
	}
	run, err := sqlscript.ForSQLite(all)
	if err != nil {
		return refuse(err)
	}
	raw, err := p.File(file)
	if errors.Is(err, fs.ErrNotExist) {
		return "", Refusal{fmt.Errorf("%s is not there yet; start the server once, so that it makes it", text.Clean(p.rel(file)))}
	} else if err != nil {
		return "", err
	}
	for _, beside := range []string{"-wal", "-journal"} {
		if data, err := p.ground.File(file + beside); err == nil && len(data) > 0 {
			return "", Refusal{fmt.Errorf("%s has changes in %s that are not in it yet: it is in use, or was left in the middle; let the server stop properly", text.Clean(p.rel(file)), path.Base(file)+beside)}
		}
	}
	now, tables, err := p.ground.RunScript(p.ctx, raw, run)
	if err != nil {
		return refuse(err)
	}
	p.rewrite(file, raw, now)
	i := slices.IndexFunc(p.texts, func(f plan.File) bool { return f.Path == file })
	about := &p.texts[i].About
	*about = append(*about, fmt.Sprintf("%s runs, %d statements in one transaction", text.Clean(name), len(run)))
	for _, d := range sqlscript.Deeds(run) {
		said := d.String()
		if there := slices.Contains(tables, d.Table); d.Does == "makes" && there {
			said += ", which is there already"
		}
		*about = append(*about, said)
	}
	return sum, nil
}
