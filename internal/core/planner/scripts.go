package planner

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/sqlscript"
	"initium/internal/core/text"
)

// script runs a script on the server's database. It returns the digest of the script, and where the database is.
func (p *Planner) script(c lineup.Change) (sum, place string, err error) {
	d := p.now.Dialect.Database
	file, _ := p.now.Vars.Expand(d.File)
	name, database := path.Base(c.Source), ""
	if c.To != "" {
		name = path.Base(c.To)
	}
	switch engine := sqlscript.Engine(d.Engine); {
	case engine == sqlscript.MySQL:
		if database, place, err = p.ground.Database(); err != nil {
			return "", "", Refusal{err}
		}
	case file == "":
		return "", "", Refusal{fmt.Errorf("the dialect %s knows no database of this server that a script could be run on", p.now.Dialect.Name)}
	default:
		place = file
	}
	script, err := p.ground.Script(p.ctx, c.Source, c.To)
	if err != nil {
		return "", "", err
	}
	refuse := func(err error) (string, string, error) {
		return "", "", Refusal{fmt.Errorf("%s: %w", text.Clean(name), err)}
	}
	sum = Sum(script)
	if entry, err := p.ground.Ran(place, sum); err != nil {
		return "", "", err
	} else if entry > 0 && !c.AsSaid {
		return refuse(fmt.Errorf("this very script was run already, by entry %d of the ledger; say --again to run it once more", entry))
	}
	doc, _ := text.Decode(script)
	all, fault := sqlscript.Split(doc, sqlscript.Engine(d.Engine))
	if fault != nil {
		return refuse(fault)
	}
	if database != "" {
		err = p.onServer(all, name, database, place)
	} else {
		err = p.onFile(all, name, file)
	}
	if err != nil {
		return refuse(err)
	}
	return sum, place, nil
}

// onFile runs a script on a copy of a database that is a file: what that holds then is what the plan writes, so that
// it is taken back to the byte.
func (p *Planner) onFile(all []sqlscript.Statement, name, file string) error {
	run, err := sqlscript.ForSQLite(all)
	if err != nil {
		return err
	}
	raw, err := p.File(file)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s is not there yet; start the server once, so that it makes it", text.Clean(p.rel(file)))
	} else if err != nil {
		return err
	}
	for _, beside := range []string{"-wal", "-journal"} {
		if data, err := p.ground.File(file + beside); err == nil && len(data) > 0 {
			return fmt.Errorf("%s has changes in %s that are not in it yet: it is in use, or was left in the middle; let the server stop properly", text.Clean(p.rel(file)), path.Base(file)+beside)
		}
	}
	now, tables, err := p.ground.RunScript(p.ctx, raw, run)
	if err != nil {
		return err
	}
	p.rewrite(file, raw, now)
	i := slices.IndexFunc(p.texts, func(f plan.File) bool { return f.Path == file })
	p.texts[i].About = append(p.texts[i].About, deeds(run, name, "in one transaction", tables)...)
	return nil
}

// onServer plans to run a script on a database that a server of its own has: what the script may change is read
// beforehand, so that it can be put back. What it comes to is known once it has run.
func (p *Planner) onServer(all []sqlscript.Statement, name, database, place string) error {
	run, touched, sure, err := sqlscript.ForMySQL(all, database)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(p.texts, func(f plan.File) bool { return f.Path == place }) {
		return fmt.Errorf("another script is to be run on %s by the same plan; make that change first", place)
	}
	held, err := p.ground.Tables(p.ctx, run, touched, sure)
	if err != nil {
		return err
	}
	file := plan.File{Path: place, Old: held.Encode(), Want: (&sqlscript.Snapshot{Script: run, Things: []sqlscript.Thing{}}).Encode()}
	file.About = append(deeds(run, name, "in one transaction as far as the database can", held.Tables()), "what it changes is kept first, and put back when it fails or is undone")
	p.texts = append(p.texts, file)
	return nil
}

// deeds say what statements do, and which tables that they make are there already.
func deeds(run []sqlscript.Statement, name, how string, tables []string) []string {
	said := []string{fmt.Sprintf("%s runs, %d statements %s", text.Clean(name), len(run), how)}
	for _, d := range sqlscript.Deeds(run) {
		does := d.String()
		if d.Does == "makes" && slices.ContainsFunc(tables, func(t string) bool { return strings.EqualFold(t, d.Table) }) {
			does += ", which is there already"
		}
		said = append(said, does)
	}
	return said
}
