package host

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"initium/internal/core/connection"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
	"initium/internal/core/text"
	"initium/internal/host/disk"
)

// ErrNoEntry is returned for an entry that a ledger does not have.
var ErrNoEntry = errors.New("the ledger has no such entry")

// Return makes the plan that brings a server's files back to how they stood
// right after an entry; 0 is how Initium found them. What others have changed
// since stays, unless they changed the same lines: then the error says where.
func (l *Ledger) Return(server string, to int) (*plan.Plan, error) {
	entries, err := l.Entries(server)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(entries, func(e Entry) bool { return e.Number == to })
	if at < 0 {
		return nil, fmt.Errorf("%w: %d; the newest is %d", ErrNoEntry, to, entries[len(entries)-1].Number)
	}
	deeds, err := l.standing(entries[at+1:])
	if err != nil {
		return nil, err
	}
	files := map[string][]fileRow{} // what entries did to each file, the newest first
	var order []string
	for _, d := range slices.Backward(deeds) {
		for _, f := range slices.Backward(d.rows) {
			if files[f.path] == nil {
				order = append(order, f.path)
			}
			files[f.path] = append(files[f.path], f)
		}
	}
	slices.Reverse(order)
	p := &plan.Plan{}
	for _, name := range order {
		if connection.IsPlace(name) {
			file, err := l.databaseBack(server, name, files[name])
			if err != nil {
				return nil, err
			}
			if !bytes.Equal(file.Old, file.Want) {
				p.Files = append(p.Files, file)
			}
			continue
		}
		file, err := wayBack(name, files[name])
		if err != nil {
			return nil, err
		}
		if file.New != file.Gone || string(file.Old) != string(file.Want) {
			file.Edits = text.EditsBetween(file.Old, file.Want)
			p.Files = append(p.Files, file)
		}
	}
	if err := l.partsBack(p, server, deeds); err != nil {
		return nil, err
	}
	if err := errors.Join(l.rulesBack(p, entries[at+1:]), l.givenBack(p, entries[at+1:])); err != nil {
		return nil, err
	}
	now, err := l.Parked(server)
	if err != nil {
		return nil, err
	}
	then, err := l.parkedAfter(entries[at])
	if err != nil {
		return nil, err
	}
	if !slices.Equal(now, then) {
		p.Parked, p.Unpark = append([]lineup.Parked{}, then...), now
	}
	return p, nil
}

// deed is what an entry has done to files.
type deed struct {
	rows  []fileRow
	parts []partRow
}

// undoes tells whether a deed takes the one before it back, and does nothing else.
func (d *deed) undoes(before *deed) bool {
	if len(d.rows) != len(before.rows) || len(d.parts) != len(before.parts) {
		return false
	}
	for _, f := range d.rows {
		if !slices.ContainsFunc(before.rows, func(b fileRow) bool {
			return f.path == b.path && string(f.old) == string(b.new) && string(f.new) == string(b.old)
		}) {
			return false
		}
	}
	for _, p := range d.parts {
		if !slices.ContainsFunc(before.parts, func(b partRow) bool { return p.path == b.path && p.old == b.new && p.new == b.old }) {
			return false
		}
	}
	return true
}

// mixed is a folder in which one deed has given names and another has put something in or taken
// something out, so that what came may have another name by now; "" when there is none.
func mixed(deeds []deed) string {
	for i, d := range deeds {
		for _, f := range d.rows {
			for k := range deeds {
				if f.list && i != k && slices.ContainsFunc(deeds[k].parts, func(p partRow) bool { return path.Dir(p.path) == f.path }) {
					return f.path
				}
			}
		}
	}
	return ""
}

// standing is what entries have done to files. Where that is mixed, those that take each other
// back are left out; the error tells where it still cannot be gone back over at once.
func (l *Ledger) standing(entries []Entry) (deeds []deed, err error) {
	var left []deed
	for _, e := range entries {
		var d deed
		if d.rows, err = l.rows(e.id); err != nil {
			return nil, err
		}
		if d.parts, err = l.parts(e.id); err != nil {
			return nil, err
		}
		deeds = append(deeds, d)
		if n := len(left); n > 0 && d.undoes(&left[n-1]) {
			left = left[:n-1]
		} else {
			left = append(left, d)
		}
	}
	if mixed(deeds) == "" {
		return deeds, nil
	}
	if folder := mixed(left); folder != "" {
		return nil, fmt.Errorf("in %s mods were switched, and others came or went; take the entries back one by one, the newest first (initium undo %s %d, and so on)",
			folder, entries[0].server, entries[len(entries)-1].Number-1)
	}
	return left, nil
}

// Did is the plan of what an entry has done, as far as it can be told afterwards: its
// files with their bytes before and after, what came and went as a whole, its rules and
// its values. The error is ErrNoEntry when there is no such entry.
func (l *Ledger) Did(server string, number int) (*plan.Plan, error) {
	entries, err := l.Entries(server)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(entries, func(e Entry) bool { return e.Number == number && number > 0 })
	if at < 0 {
		return nil, fmt.Errorf("%w: %d; the newest is %d", ErrNoEntry, number, entries[len(entries)-1].Number)
	}
	e := entries[at]
	p := &plan.Plan{Changes: e.Changes}
	rows, err := l.rows(e.id)
	if err != nil {
		return nil, err
	}
	for _, f := range rows {
		if connection.IsPlace(f.path) {
			p.Files = append(p.Files, plan.File{Path: f.path, About: describe(&f)})
			continue
		}
		p.Files = append(p.Files, plan.File{Path: f.path, New: f.fresh, Gone: f.gone, List: f.list, Old: f.old, Want: f.new, Edits: text.EditsBetween(f.old, f.new)})
	}
	parts, err := l.parts(e.id)
	if err != nil {
		return nil, err
	}
	for _, part := range parts {
		p.Parts = append(p.Parts, plan.Part{Path: part.path, Mod: part.mod, What: part.what, Old: part.old, New: part.new, Base: part.base})
	}
	return p, errors.Join(l.rulesOf(p, e), l.givenOf(p, e))
}

// partsBack adds the folders and files that entries put in place or took away as
// a whole. What is there now goes into the ledger's keeping, whatever has become
// of it meanwhile, so nothing is lost.
func (l *Ledger) partsBack(p *plan.Plan, server string, deeds []deed) error {
	parts := returnParts(deeds)
	var folders []plan.Part
	for n, r := range parts {
		switch {
		case r.comes: // it was taken away when nothing was in it any more
			if !disk.Exists(r.path) {
				p.Parts = append([]plan.Part{{Path: r.path, What: r.what, New: plan.EmptyFolder}}, p.Parts...)
			}
			continue
		case r.old == plan.EmptyFolder:
			if disk.Exists(r.path) {
				folders = append(folders, plan.Part{Path: r.path, What: r.what, Old: r.old})
			}
			continue
		}
		items, err := l.digests.List(r.path)
		if err != nil {
			return err
		}
		part := plan.Part{Path: r.path, Mod: r.mod, What: r.what, New: r.old}
		if len(items) > 0 {
			part.Old = plan.Digest(items)
		}
		if part.Old == part.New {
			continue
		}
		if other := entangled(&part, p.Parts, parts[:n]); other != "" {
			return fmt.Errorf("%s and %s lie within each other; take the entries back one by one (initium undo %s)", other, r.path, server)
		}
		if part.Old != r.last {
			part.Notes = []plan.Change{{Kind: plan.FileChanges, Why: "it has changed since; the ledger keeps that too"}}
		}
		if part.New != "" {
			if part.Base, err = l.baseOf(r.path, part.New); err != nil {
				return err
			}
		}
		p.Parts = append(p.Parts, part)
	}
	slices.Reverse(folders) // the deepest first, and after what is in them
	p.Parts = append(p.Parts, folders...)
	return nil
}

// entangled is a path that cannot go back in one plan with a part: each is moved as a whole, so
// that none may lie within another; and what comes back brings back all that an earlier entry
// had put into it, whatever is to become of that. "" when there is none.
func entangled(part *plan.Part, others []plan.Part, earlier []returned) string {
	for _, other := range others {
		if strings.HasPrefix(part.Path, other.Path+"/") || strings.HasPrefix(other.Path, part.Path+"/") {
			return other.Path
		}
	}
	for _, other := range earlier {
		if part.New != "" && other.old != plan.EmptyFolder && strings.HasPrefix(other.path, part.Path+"/") {
			return other.path
		}
	}
	return ""
}

// wayBack is the plan for one file: from what is on the disk over what each entry did to
// it, the newest first. What others have changed, before, between or after them, stays.
func wayBack(path string, rows []fileRow) (plan.File, error) {
	file := plan.File{Path: path, List: rows[0].list}
	current, err := readCurrent(path, file.List)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		file.New = true
	case err != nil:
		return file, err
	}
	file.Old, file.Want, file.Gone = current, current, file.New
	for i, f := range rows {
		switch {
		case f.fresh && !file.Gone && string(file.Want) != string(f.new):
			return file, fmt.Errorf("%s was not there then, and has been changed since by somebody else; remove it by hand if it is to go", path)
		case f.fresh:
			file.Want, file.Gone = nil, true
		case file.Gone:
			file.Want, file.Gone = f.old, false
		default:
			merge := mergeBytes
			if file.Links() {
				merge = mergeLinks
			}
			want, err := merge(f.new, f.old, file.Want)
			if err != nil {
				if i > 0 {
					return file, fmt.Errorf("go back in %s, after taking back %d later changes of it: %w", path, i, err)
				}
				return file, fmt.Errorf("go back in %s: %w", path, err)
			}
			file.Want = want
		}
	}
	return file, nil
}

// mergeBytes merges texts; what is none comes back only where nobody has changed it since.
func mergeBytes(base, want, current []byte) ([]byte, error) {
	switch {
	case bytes.Equal(base, current):
		return want, nil
	case text.IsBinary(base) || text.IsBinary(current):
		return nil, errors.New("it has been changed since, and is no text of which a part could be taken back; the ledger keeps what it held")
	}
	return text.Merge(base, want, current)
}

func (l *Ledger) parkedAfter(e Entry) (list []lineup.Parked, err error) {
	if e.Number == 0 {
		return nil, nil
	}
	var data string
	if err := l.db.QueryRow(`SELECT parked FROM entry WHERE id = ?`, e.id).Scan(&data); err != nil {
		return nil, err
	}
	return list, json.Unmarshal([]byte(data), &list)
}

// LastProved is the number of the entry that the newest proved start followed;
// ok is false when no start was proved.
func (l *Ledger) LastProved(server string) (entry int, ok bool, err error) {
	starts, err := l.Starts(server)
	if err != nil {
		return 0, false, err
	}
	for _, s := range slices.Backward(starts) {
		if s.Verdict == proof.Proved {
			return s.Entry, true, nil
		}
	}
	return 0, false, nil
}
