package intake

import (
	"path"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
)

// noNames allows what is safe in any file name.
var noNames = dialect.Names{Allowed: "a-zA-Z0-9_.-"}

// settingsSuffix are endings of files that people write into.
var settingsSuffix = []string{".cfg", ".conf", ".config", ".csv", ".ini", ".json", ".json5", ".properties", ".settings", ".toml", ".txt", ".xml", ".yaml", ".yml"}

// renew puts a new release in the place of an old one: what the release no longer
// has goes, and what the operator, or the mod while it ran, has changed or added
// is found by comparing with what once came. Where that is not known, files that
// people write into count as the operator's.
func (x *assigner) renew(m *Mod, full string, comes, there []plan.Item) (items []plan.Item, notes []plan.Change) {
	release, known := x.target.Release(full)
	base, now, next := byRel(release), byRel(there), byRel(comes)
	rels := make([]string, 0, len(now)+len(next))
	for rel := range now {
		rels = append(rels, rel)
	}
	for rel := range next {
		if _, ok := now[rel]; !ok {
			rels = append(rels, rel)
		}
	}
	slices.Sort(rels)
	note := func(rel string, kind plan.ChangeKind, why string) {
		notes = append(notes, plan.Change{Rel: rel, Kind: kind, Why: why})
	}
	waits := map[string]bool{} // files of the release that are put beside the operator's
	stays := func(it plan.Item) {
		if !waits[it.Rel] { // one that waits there since an earlier release goes
			it.Source, it.From = "", it.Rel
			items = append(items, it)
		}
	}
	for _, rel := range rels {
		old, isThere := now[rel]
		fresh, isNew := next[rel]
		was, hasBase := base[rel]
		switch {
		case x.choices.Whole && !isNew:
			note(rel, plan.FileGoes, "")
		case x.choices.Whole:
			items = append(items, fresh)
			if !isThere && !fresh.Folder {
				note(rel, plan.FileComes, "")
			} else if isThere && !same(old, fresh) {
				note(rel, plan.FileChanges, "")
			}
		case isThere && isNew && same(old, fresh):
			fresh.Exec = fresh.Exec || old.Exec // not every archive knows
			items = append(items, fresh)
		case !isThere && hasBase && same(was, fresh) && !fresh.Folder:
			note(rel, plan.FileKept, "you have taken it away")
		case !isThere:
			items = append(items, fresh)
			if !fresh.Folder {
				note(rel, plan.FileComes, "")
			}
		case isNew && (hasBase && same(was, old) || !known && !x.written(rel)):
			items = append(items, fresh)
			note(rel, plan.FileChanges, "")
		case isNew && hasBase && same(was, fresh):
			stays(old)
			note(rel, plan.FileKept, "changed by you, not by the release")
		case isNew:
			if x.conflict(m, full, rel, known, old, fresh, &items, note) == lineup.Both {
				waits[beside(rel, x.Found.Name)] = true
			}
		case old.Folder && x.emptied(rel, base):
		case hasBase && same(was, old):
			note(rel, plan.FileGoes, "the release no longer has it")
		case !hasBase && known:
			stays(old)
			note(rel, plan.FileKept, "it did not come with the mod")
		case hasBase:
			stays(old)
			note(rel, plan.FileKept, "changed by you; the release no longer has it")
		case x.written(rel):
			stays(old)
			note(rel, plan.FileKept, "the release does not have it; it may be yours")
		default:
			note(rel, plan.FileGoes, "the release does not have it")
		}
	}
	return items, notes
}

// conflict is a file that both the operator and the release have changed, or that
// may be so: known tells whether what came once is known. It returns the answer.
func (x *assigner) conflict(m *Mod, full, rel string, known bool, old, fresh plan.Item, items *[]plan.Item, note func(string, plan.ChangeKind, string)) lineup.Choice {
	whole := path.Join(full, rel)
	keep := func() { old.Source, old.From = "", old.Rel; *items = append(*items, old) }
	choice := x.choice(whole)
	whose, question := "changed by you", "you have changed it, and so has the release."
	if !known {
		whose, question = "perhaps changed by you", "the release has another one, and it is not known whether you have changed yours."
	}
	x.Overlaps = append(x.Overlaps, Overlap{Path: whole, Mod: m.Name, Whose: whose, Choice: choice, Into: true})
	switch choice {
	case lineup.Take:
		*items = append(*items, fresh)
		note(rel, plan.FileChanges, "yours is kept in the ledger")
	case lineup.Keep:
		keep()
		note(rel, plan.FileKept, "the release has another one")
	case lineup.Both:
		keep()
		note(rel, plan.FileKept, "the release's own lies beside it")
		fresh.Rel = beside(rel, x.Found.Name)
		*items = append(*items, fresh)
		note(fresh.Rel, plan.FileComes, "to be compared with yours")
	default:
		keep()
		x.ask(whole, m.Name, question, true)
	}
	return choice
}

// emptied tells whether an empty folder stood there when the mod came, or files
// did that have gone since.
func (x *assigner) emptied(rel string, base map[string]plan.Item) bool {
	if it, ok := base[rel]; ok && it.Folder {
		return true
	}
	for other := range base {
		if strings.HasPrefix(other, rel+"/") {
			return true
		}
	}
	return false
}

func byRel(items []plan.Item) map[string]plan.Item {
	m := make(map[string]plan.Item, len(items))
	for _, it := range items {
		m[it.Rel] = it
	}
	return m
}

// same tells whether two files hold the same; that one may be run and the other
// may not is no change of the operator's when the file came in an archive.
func same(a, b plan.Item) bool {
	return a.Link == b.Link && a.Size == b.Size && a.Sum == b.Sum
}

// written tells files that people write into. What makes a mod one is none of
// them.
func (x *assigner) written(rel string) bool {
	d := x.Found.Dialect
	own := slices.ContainsFunc(d.Manifests, func(m dialect.Manifest) bool { return m.File == rel }) ||
		slices.ContainsFunc(d.Sources, func(s dialect.Source) bool { return s.File == rel }) ||
		slices.ContainsFunc(d.Places, func(p dialect.Place) bool {
			return p.Main == rel || p.Speaks == rel || slices.ContainsFunc(p.Mark, func(mark string) bool { ok, _ := path.Match(mark, rel); return ok })
		})
	return !own && slices.Contains(settingsSuffix, strings.ToLower(path.Ext(rel)))
}
