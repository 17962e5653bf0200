package intake_test

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/golden"
	"initium/internal/insist"
)

// whole writes an intake down in full.
func (p *place) whole(in *intake.Intake) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, "  "+format+"\n", args...) }
	line("found: %s, weight %d", describe(in.Found), in.Found.Weight())
	for _, m := range in.Mods {
		there := ""
		if m.There != nil {
			there = " in place of " + m.There.Name
		}
		line("mod %s %s: %s, shown by %s, naming %+v; single %v, packed %v, %d files, %d bytes; listed %v%s %v", m.Name, m.Manifest.Release, m.Path, m.Shown, m.Naming, m.Single, m.Packed, m.Files, m.Bytes, m.Listed, there, m.Notes)
	}
	for i := range in.Parts {
		part := &in.Parts[i]
		line("part %s %s: %s %v; as it came: %v, known: %v", part.Title(), part.Path, part, part.Notes, part.Base == part.New, part.Base != "")
		for _, it := range part.Items {
			line("  %q from %q of %q, %d bytes, exec %v, folder %v, link %q", it.Rel, it.From, it.Source, it.Size, it.Exec, it.Folder, it.Link)
		}
	}
	for _, o := range in.Overlaps {
		line("overlap %+v", o)
	}
	for _, q := range in.Questions {
		line("question %s: %s %q", q.About, q.Text, q.Answers)
	}
	for _, word := range in.Problems {
		line("problem %s", word)
	}
	for _, s := range in.Steps {
		line("step %s: %s", s.Path, s.About)
	}
	if len(in.Keys)+len(in.Rules) > 0 {
		line("keys %v, rules %v", in.Keys, in.Rules)
	}
	return strings.ReplaceAll(b.String(), p.dir, "/srv")
}

// wholeRemoval writes a removal down in full.
func (p *place) wholeRemoval(r *intake.Removal) string {
	var b strings.Builder
	for i := range r.Parts {
		fmt.Fprintf(&b, "  part %s %s: %s\n", r.Parts[i].Title(), r.Parts[i].Path, r.Parts[i].String())
	}
	for _, l := range r.Left {
		fmt.Fprintf(&b, "  left %s:%d %s, goes %v\n", l.Path, l.Line, l.About, l.Goes)
	}
	fmt.Fprintf(&b, "  dependents %v, changes %v, world %q, problems %q\n", r.Dependents, r.Changes, r.World, r.Problems)
	return strings.ReplaceAll(b.String(), p.dir, "/srv")
}

// TestIntakesInFull holds all that an intake and a removal say to what was read through once.
func TestIntakesInFull(t *testing.T) {
	server := map[string]string{"mill.start": "turn elm\nturn +old\nlet depth 3\n", "wheels/elm/wheel.toml": "name = 'elm'\nrelease = '1'", "wheels/elm/own": "mine", "wheels/+old/ash/wheel.toml": "name = 'ash'\nneeds = ['elm']",
		"wheels/junk/readme": "", "keys/elm.key": "E", "wheels/elm/keys/elm.key": "E", "plans/hill.plan": "hill", "flour/elm/sack": "x", "engine/core.dat": "core"}
	const oak = `: name = "oak"`
	type row struct {
		files   map[string]string // nil for the usual server
		choices lineup.Choices
		source  string
		lines   []string
		known   bool // what came of elm once is known
	}
	rows := map[string]row{
		"a mod":                         {source: "oak.zip", lines: []string{"oak/wheel.toml" + oak, "oak/a/b: 1", "oak/run.sh: x", "oak/empty/"}},
		"no folder around it":           {source: "oak-1.2.zip", lines: []string{"wheel.toml" + oak, "a: 1"}},
		"no folder, no name":            {source: "oak-1.2-main.zip", lines: []string{"wheel.toml: release = '3'", "a: 1"}},
		"twice inside itself":           {source: "x.zip", lines: []string{"oak/oak/wheel.toml" + oak, "oak/readme.txt: read"}},
		"a branch":                      {source: "x.zip", lines: []string{"oak-master/wheel.toml: release = '1'", "oak-master/LICENSE: free"}},
		"two levels down":               {source: "x.zip", lines: []string{"pack/content/oak/wheel.toml" + oak, "pack/readme.md: read", "pack/install.txt: how", "pack/picture.png: p"}},
		"in the server's tree":          {source: "x.zip", lines: []string{"mill/wheels/oak/wheel.toml" + oak, "mill/engine/new.dat: n", "mill/mill.start: turn oak"}},
		"several":                       {source: "x.zip", lines: []string{"oak/wheel.toml" + oak, "elm/wheel.toml: name = 'elm'", "yew/wheel.toml: name = 'yew'\nneeds = ['oak', 'nowhere']"}},
		"only one of several":           {source: "x.zip", choices: lineup.Choices{Only: []string{"yew"}}, lines: []string{"oak/wheel.toml" + oak, "yew/wheel.toml: name = 'yew'"}},
		"a category":                    {source: "x.zip", lines: []string{"+trees/oak/wheel.toml" + oak, "+trees/yew/wheel.toml: name = 'yew'"}},
		"litter":                        {source: "x.zip", lines: []string{"__MACOSX/oak/wheel.toml: name = 'no'", "__MACOSX/._x: x", "oak/wheel.toml" + oak, "oak/.DS_Store: d", "oak/Thumbs.db: t", "oak/desktop.ini: i", "oak/.git/wheel.toml: name = 'nor'", ".git/config: c", ".svn/wheel.toml: name = 'neither'"}},
		"chosen by its folder":          {source: "x.zip", choices: lineup.Choices{Only: []string{"b/oak"}}, lines: []string{"a/oak/wheel.toml" + oak, "b/oak/wheel.toml" + oak + "\nrelease = '2'"}},
		"a bundle":                      {source: "train.zip", lines: []string{"train/train.txt: x", "train/oak/wheel.toml" + oak, "train/yew/wheel.toml: name = 'yew'", "train/shared: s"}},
		"a bundle of names":             {source: "train.zip", lines: []string{"train.txt: x", "oak/wheel.toml" + oak}},
		"keys, maps, data and overlays": {source: "x.zip", lines: []string{"oak/wheel.toml" + oak, "oak/keys/oak.key: O", "oak/keys/elm.key: E", "more.key: M", "keys/other.key: K", "hill.plan: hill", "maps/dale.plan: dale", "grain_oak.xml: <g/>", "engine/core.dat: other", "engine/deep/x.dat: x"}},
		"take, keep, both":              {source: "oak-2.zip", choices: lineup.Choices{Take: []string{"plans/hill.plan"}, Keep: []string{"keys/elm.key"}, Both: []string{"engine/core.dat"}}, lines: []string{"oak/wheel.toml" + oak, "oak/keys/elm.key: Z", "hill.plan: other", "engine/core.dat: other"}},
		"a new release":                 {source: "elm-2.zip", lines: []string{"elm/wheel.toml: name = 'elm'\nrelease = '2'", "elm/new: n"}},
		"a new release, known":          {source: "elm-2.zip", known: true, lines: []string{"elm/wheel.toml: name = 'elm'\nrelease = '2'", "elm/new: n"}},
		"the same release":              {source: "elm.zip", known: true, lines: []string{"elm/wheel.toml: name = 'elm'\nrelease = '1'", "elm/keys/elm.key: E"}},
		"an older release":              {source: "elm.zip", known: true, lines: []string{"elm/wheel.toml: name = 'elm'\nrelease = '0.5'"}},
		"of a mod in a category":        {source: "ash.zip", lines: []string{"ash/wheel.toml: name = 'ash'\nneeds = ['elm']", "ash/x: x"}},
		"a name that is not allowed":    {source: "x.zip", lines: []string{"a/wheel.toml: name = 'Oak Tree'"}},
		"agreed with":                   {source: "x.zip", choices: lineup.Choices{Agree: true}, lines: []string{"a/wheel.toml: name = 'Oak Tree'"}},
		"named by the operator":         {source: "x.zip", choices: lineup.Choices{As: "beech"}, lines: []string{"a/wheel.toml" + oak}},
		"into a place":                  {source: "x.zip", choices: lineup.Choices{Into: "wheels"}, lines: []string{"a/wheel.toml" + oak}},
		"where no mod is":               {source: "x.zip", lines: []string{"junk/wheel.toml: name = 'junk'"}},
		"where no mod is, taken":        {source: "x.zip", choices: lineup.Choices{Take: []string{"wheels/junk"}}, lines: []string{"junk/wheel.toml: name = 'junk'"}},
		"a manifest that is broken":     {source: "oak.zip", lines: []string{"oak/wheel.toml: name = "}},
		"a map alone":                   {source: "dale.zip", lines: []string{"dale.plan: dale"}},
		"nothing":                       {source: "x.zip", lines: []string{"a.txt: a", "b/c.bin: c"}},
		"only files":                    {source: "oak.zip", choices: lineup.Choices{Quiet: true}, lines: []string{"oak/wheel.toml" + oak}},
		"wanted under another name":     {files: map[string]string{"mill.start": "turn oak_tree\n"}, source: "x.zip", lines: []string{"oak_tree/wheel.toml" + oak}},
		"wanted by another":             {files: map[string]string{"mill.start": "turn elm\n", "wheels/elm/wheel.toml": "name = 'elm'\nneeds = ['oak']"}, source: "x.zip", lines: []string{"some_oak/wheel.toml: release = '1'", "x: x"}},
	}
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(rows)) {
		r := rows[name]
		files := r.files
		if files == nil {
			files = server
		}
		p := newPlace(t, files)
		p.owners[filepath.Join(p.dir, "engine/core.dat")] = intake.Owner{Clean: true}
		p.owners[filepath.Join(p.dir, "plans/hill.plan")] = intake.Owner{Mod: "elm"}
		if r.known {
			items, err := p.target().List(filepath.Join(p.dir, "wheels/elm"))
			insist.OK(t, err)
			p.release[filepath.Join(p.dir, "wheels/elm")] = slices.DeleteFunc(items, func(it plan.Item) bool { return it.Rel == "own" })
		}
		fmt.Fprintf(&b, "== %s\n%s", name, p.whole(p.settle(r.choices, r.source, r.lines...)))
	}
	p := newPlace(t, server)
	p.owners[filepath.Join(p.dir, "keys/elm.key")] = intake.Owner{Mod: "elm"}
	for _, mod := range []string{"elm", "ash", "nowhere", "junk"} {
		for _, leavings := range []bool{false, true} {
			fmt.Fprintf(&b, "== %s goes, with what it has made: %v\n%s", mod, leavings, p.wholeRemoval(intake.Remove(mod, p.target(), lineup.Choices{Leavings: leavings})))
		}
	}
	golden.Check(t, "intakes.txt", b.String())
}
