package intake_test

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/insist"
)

// plainMill is a family in which every folder among the mods is a mod.
const plainMill = `
name = "plain"
[[place]]
path = "{dir}/wheels"
[names]
allowed = "a-z0-9_"
[[registration]]
name = "list"
file = "{dir}/mill.list"
shape = "line"
line = "{mod}"
[[content]]
kind = "map"
files = "*.plan"
into = "{dir}/plans"
[start]
command = ["x"]
[[log.rule]]
means = "ready"
line = "up"
`

// Where nothing marks a mod, the folder is one that would lie among the mods.
func TestExamineWithoutMarks(t *testing.T) {
	d := parse(t, plainMill)
	for name, c := range map[string]struct {
		source string
		lines  []string
		want   string
	}{
		"one folder":                {"x.zip", []string{"oak/a.dat", "oak/b/c.dat"}, `oak at "oak", 2 files`},
		"several":                   {"x.zip", []string{"oak/a", "elm/b/c"}, `elm at "elm", 1 files; oak at "oak", 1 files`},
		"no folder":                 {"oak-1.2.zip", []string{"a.dat", "b/c.dat", "README.md"}, `oak at "", 3 files`},
		"the folder of the mods":    {"x.zip", []string{"wheels/oak/a", "wheels/elm/b", "readme.txt"}, `elm at "wheels/elm" around wheels, 1 files; oak at "wheels/oak" around wheels, 1 files; notes readme.txt`},
		"a folder twice":            {"x.zip", []string{"oak/oak/a"}, `oak at "oak/oak" around oak, 1 files`},
		"one around, as the source": {"trees-1.0.zip", []string{"trees-1.0/oak/a"}, `oak at "trees-1.0/oak" around trees-1.0, 1 files`},
		"a mod of folders alone":    {"x.zip", []string{"oak/stream/a", "oak/data/b"}, `oak at "oak", 2 files`},
		"a branch on it":            {"x.zip", []string{"oak-main/a"}, `oak at "oak-main", 1 files`},
		"what belongs elsewhere":    {"x.zip", []string{"oak/a", "plans/hill.plan", "mill.list: oak"}, `oak at "oak", 1 files; map plans/hill.plan as hill.plan; lists mill.list`},
		"nothing else":              {"x.zip", []string{"plans/hill.plan", "install.txt"}, `map plans/hill.plan as hill.plan; notes install.txt`},
		"litter":                    {"x.zip", []string{"oak/a", "__MACOSX/oak/._a"}, `oak at "oak", 1 files; surplus __MACOSX`},
	} {
		found := intake.Examine(mustBuild(t, c.lines...), c.source, d, nil)
		insist.Same(t, fmt.Sprintf("%s:\n got", name), describe(found), c.want)
	}
	tree := mustBuild(t, "oak.zip", "notes.txt")
	tree.Find("oak.zip").Inside = mustBuild(t, "a/b")
	insist.Same(t, "an archive in it", describe(intake.Examine(tree, "all.zip", d, nil)), `oak at "oak.zip", 1 files; notes notes.txt`)
}

// A single file that is a mod may say itself what it is.
func TestExamineFilesThatSayWhatTheyAre(t *testing.T) {
	source := strings.Replace(plainMill, "path = \"{dir}/wheels\"", "path = \"{dir}/wheels\"\nfile = \"{mod}.lua\"\n[[manifest]]\nfile = \".\"\nformat = \"source\"\nname = \"-- Name: {value}\"\nrelease = \"-- Version: {value}\"", 1)
	d := parse(t, source)
	found := intake.Examine(mustBuild(t, "a/one.lua: -- Name: first\n-- Version: 2\n", "two.lua: return 2"), "x.zip", d, nil)
	insist.Need(t, len(found.Mods) == 2, "%s", describe(found))
	insist.Same(t, "what they say", found.Mods[0].Name+" "+found.Mods[0].Manifest.Release+", "+found.Mods[1].Name, "first 2, two")
	insist.That(t, intake.Interesting([]*dialect.Dialect{d})("deep/three.lua", 10) && !intake.Interesting([]*dialect.Dialect{d})("deep/three.png", 10), "the file that says it is not read")
}

// A mark may be a pattern, of a file in the mod or in a folder of it.
func TestExamineByPattern(t *testing.T) {
	for mark, c := range map[string][2]string{
		"*.gear":      {"oak/any.gear", `oak at "oak", 2 files`},
		"gears/*.cog": {"oak/gears/x.cog", `oak at "oak", 2 files`},
		"?.gear":      {"oak/any.gear", `surplus oak/any.gear oak/z`},
	} {
		d := parse(t, strings.Replace(plainMill, "path = \"{dir}/wheels\"", "path = \"{dir}/wheels\"\nmark = [\""+mark+"\"]", 1))
		insist.Same(t, mark, describe(intake.Examine(mustBuild(t, c[0], "oak/z"), "x.zip", d, nil)), c[1])
	}
}
