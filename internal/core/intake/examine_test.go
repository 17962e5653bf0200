package intake_test

import (
	_ "embed"
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/insist"
)

// mill is a family with a folder for each mod, categories, bundles, keys, maps and
// a table.
//
//go:embed testdata/mill.toml
var mill string

func parse(t *testing.T, text string) *dialect.Dialect {
	t.Helper()
	d, err := dialect.Parse("d.toml", []byte(text))
	insist.OK(t, err)
	return d
}

// describe writes down what was found.
func describe(f *intake.Found) string {
	var words []string
	for _, m := range f.Mods {
		s := fmt.Sprintf("%s at %q", m.Name, m.Root)
		if m.In != nil {
			s += " in " + m.In.Name
		}
		if len(m.Around) > 0 {
			s += " around " + strings.Join(m.Around, "/")
		}
		if m.Mended != "" {
			s += " was " + m.Mended
		}
		words = append(words, fmt.Sprintf("%s, %d files", s, m.Files))
	}
	for _, e := range f.Extras {
		words = append(words, fmt.Sprintf("%s %s as %s", e.Content.Kind, e.Path, e.Below))
	}
	for _, group := range []struct {
		what  string
		names []string
	}{{"keys", f.Keys}, {"notes", f.Notes}, {"surplus", f.Surplus}, {"lists", f.Lists}} {
		if len(group.names) > 0 {
			words = append(words, group.what+" "+strings.Join(group.names, " "))
		}
	}
	return strings.Join(words, "; ")
}

const wheel = `: name = "oak"`

func TestExamine(t *testing.T) {
	d := parse(t, mill)
	for name, c := range map[string]struct {
		source string
		lines  []string
		want   string
	}{
		"as it should be": {"oak.zip", []string{"oak/wheel.toml" + wheel, "oak/a/b"}, `oak at "oak", 2 files`},
		"no folder":       {"oak.zip", []string{"wheel.toml" + wheel, "a/b"}, `oak at "", 2 files`},
		"no folder and no name": {"Ash Tree-v1.2.zip", []string{"wheel.toml: release = '1'", "x"},
			`ash_tree at "" was Ash Tree, 2 files`},
		"the same folder twice":   {"x.zip", []string{"oak/oak/wheel.toml" + wheel}, `oak at "oak/oak" around oak, 1 files`},
		"a release on the folder": {"x.zip", []string{"oak-1.4.2/wheel.toml: needs = []"}, `oak at "oak-1.4.2", 1 files`},
		"two levels down": {"x.zip", []string{"release/content/oak/wheel.toml" + wheel, "release/README.md", "release/LICENSE"},
			`oak at "release/content/oak" around release/content, 1 files; notes release/README.md; surplus release/LICENSE`},
		"several": {"x.zip", []string{"oak/wheel.toml" + wheel, "elm/wheel.toml: name = 'elm'"}, `elm at "elm", 1 files; oak at "oak", 1 files`},
		"a category": {"x.zip", []string{"+trees/oak/wheel.toml" + wheel, "+trees/elm/wheel.toml: name='elm'"},
			`elm at "+trees/elm" in +trees, 1 files; oak at "+trees/oak" in +trees, 1 files`},
		"a bundle": {"x.zip", []string{"wood-1.0/train.txt", "wood-1.0/oak/wheel.toml" + wheel}, `oak at "wood-1.0/oak" in wood, 1 files`},
		"a bundle without a folder": {"wood-1.0-master.zip", []string{"train.txt", "oak/wheel.toml" + wheel, "elm/wheel.toml: name='elm'"},
			`elm at "elm" in wood, 1 files; oak at "oak" in wood, 1 files`},
		"a mod within a mod is a part of it": {"x.zip", []string{"oak/wheel.toml" + wheel, "oak/lib/elm/wheel.toml: name='elm'"}, `oak at "oak", 2 files`},
		"a name that is no name":             {"x.zip", []string{"f/wheel.toml: name = 'Oak Tree'"}, `oak_tree at "f" was Oak Tree, 1 files`},
		"litter":                             {"x.zip", []string{"oak/wheel.toml" + wheel, "oak/.DS_Store", "__MACOSX/oak/._wheel.toml"}, `oak at "oak", 1 files; surplus __MACOSX`},
		"beside it":                          {"x.zip", []string{"oak/wheel.toml" + wheel, "hill.plan", "server/engine/a/b.dat", "grain_oak.xml", "keys/oak.key", "mill.start: turn oak", "INSTALL.txt", "pic.png"}, `oak at "oak", 1 files; data grain_oak.xml as grain_oak.xml; map hill.plan as hill.plan; overlay server/engine/a/b.dat as a/b.dat; keys keys/oak.key; notes INSTALL.txt; surplus pic.png; lists mill.start`},
		"nothing":                            {"x.zip", []string{"a.txt", "b/c.dat"}, `surplus a.txt b/c.dat`},
		"what cannot be read":                {"x.zip", []string{"oak/wheel.toml: name = "}, `oak at "oak", 1 files`},
	} {
		found := intake.Examine(mustBuild(t, c.lines...), c.source, d, nil)
		insist.Same(t, fmt.Sprintf("%s:\n got", name), describe(found), c.want)
	}
}

func TestExamineNested(t *testing.T) {
	d := parse(t, mill)
	tree := mustBuild(t, "README.txt", "oak-1.2.zip", "data/other.zip")
	tree.Find("oak-1.2.zip").Inside = mustBuild(t, "wheel.toml: release = '1.2'", "x/y")
	tree.Find("data/other.zip").Inside = mustBuild(t, "readme.md")
	found := intake.Examine(tree, "all.zip", d, nil)
	insist.That(t, len(found.Mods) == 1 && found.Mods[0].Name == "oak" && found.Mods[0].Root == "oak-1.2.zip" && found.Mods[0].Files == 2 && found.Mods[0].Manifest.Release == "1.2", "found %+v", found.Mods)
	// A bundle in an archive is called by that.
	tree = mustBuild(t, "README.txt", "wood-1.2-main.zip")
	tree.Find("wood-1.2-main.zip").Inside = mustBuild(t, "train.txt", "oak/wheel.toml"+wheel)
	if got := describe(intake.Examine(tree, "all.zip", d, nil)); !strings.HasPrefix(got, `oak at "wood-1.2-main.zip/oak" in wood,`) {
		t.Errorf("a bundle in an archive: %s", got)
	}
	// Inside of a mod an archive is a file like any other.
	tree = mustBuild(t, "oak/wheel.toml"+wheel, "oak/data.zip")
	tree.Find("oak/data.zip").Inside = mustBuild(t, "elm/wheel.toml: name = 'elm'")
	found = intake.Examine(tree, "all.zip", d, nil)
	insist.That(t, len(found.Mods) == 1 && found.Mods[0].Name == "oak", "found %+v", found.Mods)
}

func TestNameThatOthersLookFor(t *testing.T) {
	d := parse(t, mill)
	found := intake.Examine(mustBuild(t, "Oak-Tree/wheel.toml: release='1'"), "x.zip", d, []string{"elm", "oaktree"})
	if m := found.Mods[0]; m.Name != "oaktree" || m.Mended != "" || !strings.Contains(m.Why, "look for it") {
		t.Errorf("named %+v", m.Naming)
	}
}

func TestExamineSingleFiles(t *testing.T) {
	d := parse(t, strings.Replace(mill, `path = "{dir}/wheels"
group = "+"
mark = ["wheel.toml"]
bundle = ["train.txt"]`, `path = "{dir}/wheels"
file = "{mod}.wheel"
packed = true`, 1))
	packed := mustBuild(t, "sub/oak (1).wheel", "sub/note.txt")
	found := intake.Examine(packed, "x.zip", d, nil)
	insist.That(t, len(found.Mods) == 1 && found.Mods[0].Name == "oak" && found.Mods[0].Root == "sub/oak (1).wheel" && found.Mods[0].Single && found.Mods[0].Manifest.Problem != nil, "found %+v", found.Mods)
	insist.That(t, intake.PackedForms([]*dialect.Dialect{d})("a/b/oak.wheel") && !intake.PackedForms([]*dialect.Dialect{d})("oak.zip"), "packed forms are not told by the dialect")
	keep := intake.Interesting([]*dialect.Dialect{d})
	for name, want := range map[string]bool{"a/wheel.toml": true, "keys/x.key": true, "README.md": true, "mill.start": true, "a/texture.png": false} {
		insist.That(t, keep(name, 100) == want, "%s is kept: %v", name, !want)
	}
	insist.That(t, !keep("a/wheel.toml", 2<<20), "a manifest of 2 MiB is kept")
}
