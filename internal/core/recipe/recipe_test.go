package recipe_test

import (
	"os"
	"strings"
	"testing"

	"initium/internal/core/lineup"
	"initium/internal/core/recipe"
	"initium/internal/insist"
)

// below makes paths of the server in /srv ones below it.
func below(full string) (string, bool) { return strings.CutPrefix(full, "/srv/") }

// Every change that a recipe can have becomes a step, is written, read, and the same change again.
func TestThereAndBack(t *testing.T) {
	changes := []lineup.Change{
		{Op: lineup.OpRegister, Mod: "a", Where: lineup.Where{Before: "b"}}, {Op: lineup.OpMove, Mod: "a", Where: lineup.Where{After: "b"}}, {Op: lineup.OpMove, Mod: "a", Where: lineup.Where{Section: "One"}},
		{Op: lineup.OpOff, Mod: "a"}, {Op: lineup.OpOn, Mod: "a"}, {Op: lineup.OpUnregister, Mod: "a"}, {Op: lineup.OpRemove, Mod: "a"},
		{Op: lineup.OpSet, Mod: "slots", To: "12", File: "/srv/conf/a.ini"}, {Op: lineup.OpSet, Mod: "slots", To: "many", File: "/srv/conf/a.ini", AsSaid: true}, {Op: lineup.OpUnset, Mod: "a/b.c", File: "/srv/conf/a.ini"},
		{Op: lineup.OpNewSection, Mod: "Two"}, {Op: lineup.OpUnmerge, Mod: "a", File: "/srv/t.xml"},
		{Op: lineup.OpBlock, Mod: "job \"x\" {", File: "/srv/a.script", Content: []byte("x")},
	}
	r := &recipe.Recipe{Name: "n", Dialect: "d"}
	for _, c := range changes {
		s, ok := recipe.StepOf(c, below)
		insist.That(t, ok, "%s is no step", c)
		if recipe.Puts(c.Op) {
			s.Text = "1-a"
		}
		r.Steps = append(r.Steps, s)
	}
	data, err := r.Write()
	insist.OK(t, err)
	back, err := recipe.Read(data)
	insist.Need(t, err == nil, "read again: %v\n%s", err, data)
	for i, c := range changes {
		got := back.Steps[i].Change("/srv", c.Content)
		insist.That(t, got.String() == c.String() && got.File == c.File && got.To == c.To && got.Where == c.Where && got.AsSaid == c.AsSaid && got.Mod == c.Mod, "%+v becomes %+v", c, got)
	}
	insist.Same(t, "a step in words", back.Steps[7].String(), "set slots to 12 in conf/a.ini")
	for _, c := range []lineup.Change{{Op: lineup.OpRestore, Source: "/x"}, {Op: lineup.OpSet, Mod: "a", To: "b", File: "/etc/x"}, {Op: lineup.OpSet, Mod: "a", To: "b", File: "/srv/x", Line: 3}} {
		_, ok := recipe.StepOf(c, below)
		insist.That(t, !ok, "%s is a step", c)
	}
}

// What a recipe says of itself in the documentation is one.
func TestDocumented(t *testing.T) {
	page, err := os.ReadFile("../../../docs/recipes.md")
	insist.OK(t, err)
	_, rest, _ := strings.Cut(string(page), "```toml\n")
	example, _, ok := strings.Cut(rest, "```")
	insist.Need(t, ok, "there is no example")
	r, err := recipe.Read([]byte(example))
	insist.Need(t, err == nil, "%v", err)
	insist.That(t, len(r.Steps) == 3 && len(r.Rules) == 1 && len(r.Expects) == 1 && len(r.Own) == 1 && r.Steps[0].Mods[0].Release == "1.4", "it reads %+v", r)
	insist.Same(t, "its steps", r.Steps[0].String()+"; "+r.Steps[2].String(), `take in tides 1.4; replace the block "job rope {" of jobs.script`)
}

func TestRefused(t *testing.T) {
	for _, c := range []struct{ text, says string }{
		{"", "dialect is needed"}, {"dialect = 'd'\n[[step]]\ndo = 'write'\nfile = 'a'\n", "step 1: file and text are needed"}, {"dialect = 'd'\n[[step]]\ndo = 'take in'\n", "mods are needed"},
		{"dialect = 'd'\n[[step]]\ndo = 'set'\nfile = 'a'\n", "file and name are needed"}, {"dialect = 'd'\n[[step]]\ndo = 'off'\nfile = '..'\n", "below the server's folder"}, {"dialect = 'd'\n[[step]]\ndo = 'on'\ntext = 'a/b'\n", "in the recipe's folder"},
		{"dialect = 'd'\n[[step]]\ndo = 'write'\nfile = 'a'\ntext = 'recipe.toml'\n", "in the recipe's folder"}, {"dialect = 'd'\nawait = ['.']\n", "await"}, {"dialect = 'd'\nawait = ['a/../b']\n", "await"}, {"dialect = 'd'\nawait = ['']\n", "await"},
		{"dialect = 'd'\n[[rule]]\nmod = 'a'\nkind = 'under'\n", "rule 1"}, {"dialect = 'd'\n[[expect]]\nkind = 'line'\ntext = ''\n", "expect 1"}, {"dialect = 3\n", "recipe.toml:1"},
		{"dialect = 'd'\n[[step]]\ndo = 'unset'\nname = 'a'\nfile = 'a\\b'\n", "below the server's folder"}, {"dialect = 'd'\nabout = '''" + strings.Repeat("x", recipe.MaxFile) + "'''", "larger than"},
	} {
		_, err := recipe.Read([]byte(c.text))
		insist.Fails(t, c.text[:min(len(c.text), 60)], err, c.says)
	}
}

// FuzzRead reads anything: what is taken for a recipe stays one when it is written, and leads nowhere else.
func FuzzRead(f *testing.F) {
	f.Add([]byte("dialect = 'd'\n[[step]]\ndo = 'set'\nfile = 'a/b'\nname = 'x'\nvalue = '1'\n"))
	f.Add([]byte("dialect = 'd'\n[[step]]\ndo = 'write'\nfile = '../a'\ntext = '../b'\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := recipe.Read(data)
		if err != nil {
			return
		}
		for i := range r.Steps {
			c := r.Steps[i].Change("/srv", nil)
			if c.File != "" && !strings.HasPrefix(c.File, "/srv/") || strings.Contains(r.Steps[i].Text, "/") || strings.Contains(r.Steps[i].Source, "/") {
				t.Fatalf("%q leads to %q, %q, %q", data, c.File, r.Steps[i].Text, r.Steps[i].Source)
			}
		}
		again, err := r.Write()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := recipe.Read(again); err != nil {
			t.Fatalf("%q is written as %q, which is none: %v", data, again, err)
		}
	})
}
