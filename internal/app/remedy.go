package app

import (
	"errors"
	"io/fs"

	"initium/internal/core/check"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/core/remedy"
)

// Remedies lists, by mod, what would mend what the last start did not confirm;
// nothing when the line-up is another one by now.
func (a *App) Remedies(look *Look, last, proved *proof.Proof) (map[string][]remedy.Remedy, error) {
	if last == nil || last.Verdict == proof.Proved || ChangedSince(look.Survey, last) {
		return nil, nil
	}
	f := remedy.Case{Survey: look.Survey, Proof: last, Proved: proved, Lines: map[string]lineup.Change{}}
	for i := range look.Findings {
		if found := &look.Findings[i]; found.Code == check.CodeLineMistyped && len(found.Changes) > 0 {
			f.Lines[found.Mod] = found.Changes[0]
		}
	}
	name := look.Server.Record.Name
	if proved != nil {
		var known [2]proof.Known
		for i, p := range []*proof.Proof{proved, last} {
			var err error
			if known[i].Inventory, err = a.Home.Start(name, p.Number).Inventory(); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, err
			}
		}
		f.Files = proof.Compare(proved, last, known[0], known[1]).Files
		var err error
		if f.Wrote, err = a.writtenSinceProved(name); err != nil {
			return nil, err
		}
	}
	list := map[string][]remedy.Remedy{}
	for i := range last.Mods {
		if found := remedy.For(f, &last.Mods[i]); len(found) > 0 {
			list[last.Mods[i].Name] = found
		}
	}
	for _, gone := range last.Gone {
		if found := remedy.ForGone(f, gone); len(found) > 0 {
			list[gone.Mod] = found
		}
	}
	return list, nil
}

// writtenSinceProved are the files and folders that entries of the ledger have written
// after the last proved start.
func (a *App) writtenSinceProved(name string) (files []string, err error) {
	l, err := a.ledger()
	if err != nil {
		return nil, err
	}
	entry, ok, err := l.LastProved(name)
	if err != nil || !ok {
		return nil, err
	}
	entries, err := l.Entries(name)
	for _, e := range entries {
		if e.Number > entry {
			files = append(files, e.Files...)
		}
	}
	return files, err
}

// Mends are what would mend what the last start of a server did not confirm.
type Mends struct {
	Last    *proof.Proof // that start
	Changed bool         // the line-up is another one by now
	ByMod   map[string][]remedy.Remedy
}

// RemediesOf lists what would mend what the last start of a server did not confirm.
func (a *App) RemediesOf(name string) (*Mends, error) {
	look, err := a.Look(name)
	if err != nil {
		return nil, err
	}
	last, proved, err := a.LastStart(name)
	if err != nil {
		return nil, err
	}
	if last == nil {
		return nil, usage("%s was never started here; initium prove %s starts it", name, name)
	}
	list, err := a.Remedies(look, last, proved)
	return &Mends{last, ChangedSince(look.Survey, last), list}, err
}
