package lineup_test

import (
	"strings"
	"testing"

	"initium/internal/core/lineup"
	"initium/internal/insist"
)

// A new mod is written as its siblings are: with their quotes, path, ending, and a line of its own
// where they have one; what only one of them has is no habit.
func TestNewOnesAreWrittenAsTheirSiblings(t *testing.T) {
	const line = "shape = 'line'\ncomment = '#'\nquote = \"'\\\"\"\nline = 'use {mod}'\n"
	for name, c := range map[string]struct {
		toml, doc, want string
		where           lineup.Where
	}{
		"a path and an ending":       {line + "paths = true\nsuffix = '.so'", "use /lib/a.so\nuse /lib/b.so\nuse c\n", "use /lib/a.so\nuse /lib/b.so\nuse c\nuse /lib/new.so\n", lineup.Where{}},
		"quotes":                     {line, "use \"a\" # why\nuse 'b'\nuse \"c\"\n", "use \"a\" # why\nuse \"new\"\nuse 'b'\nuse \"c\"\n", lineup.Where{Before: "b"}},
		"the nearest of as many":     {line, "use \"a\"\nuse 'b'\n", "use \"a\"\nuse 'b'\nuse 'new'\n", lineup.Where{}},
		"the nearest, further up":    {line, "use \"a\"\nuse 'b'\n", "use \"new\"\nuse \"a\"\nuse 'b'\n", lineup.Where{Before: "a"}},
		"one that is off is none":    {line, "use a\n# use \"b\"\n# use \"c\"\n", "use a\nuse new\n# use \"b\"\n# use \"c\"\n", lineup.Where{After: "a"}},
		"options are a mod's own":    {line + "options = ','\nsuffix = '.so'", "use \"a.so,x=1\"\nuse \"b.so,y\"\n", "use \"a.so,x=1\"\nuse \"b.so,y\"\nuse \"new.so\"\n", lineup.Where{}},
		"in a place of its own":      {line + "paths = true", "use mods/sub/a\nuse mods/sub/b\nuse c\n", "use mods/sub/a\nuse mods/sub/b\nuse c\nuse new\n", lineup.Where{}},
		"items of a list":            {"format = 'key-value'\nshape = 'list'\nat = 'mods'\nseparator = ','", "mods = 'a', \"b\", \"c\"\n", "mods = 'a', \"b\", \"c\", \"new\"\n", lineup.Where{}},
		"files in a list":            {"format = 'key-value'\nshape = 'list'\nat = 'mods'\nseparator = ','\npaths = true\nsuffix = '.so'\noptions = ':'", "mods = '/l/a.so:1','/l/b.so'\n", "mods = '/l/a.so:1','/l/new.so','/l/b.so'\n", lineup.Where{After: "a"}},
		"yaml":                       {"format = 'yaml'\nshape = 'items'\nat = 'mods'", "mods:\n  - \"a\"\n  - \"b\"\n", "mods:\n  - \"a\"\n  - \"b\"\n  - \"new\"\n", lineup.Where{}},
		"toml":                       {"format = 'toml'\nshape = 'items'\nat = 'mods'", "mods = ['a', 'b']\n", "mods = ['a', 'b', 'new']\n", lineup.Where{}},
		"words with a line each":     {"format = 'shell'\nshape = 'words'\nat = '-load {mod}'", "./run -p 1 \\\n  -load \"a\" \\\n  -load \"b\"\n", "./run -p 1 \\\n  -load \"a\" \\\n  -load \"new\" \\\n  -load \"b\"\n", lineup.Where{After: "a"}},
		"words at the end of theirs": {"format = 'shell'\nshape = 'words'\nat = '-load={mod}'", "./run -load=a \\\n  -load=b -p 1\n", "./run -load=a \\\n  -load=b \\\n  -load=new -p 1\n", lineup.Where{}},
		"a section with values":      {"format = 'ini'\nshape = 'section'\nat = 'm'", "[m]\na = 1\nb = 1\nc = 2\n", "[m]\na = 1\nb = 1\nc = 2\nnew = 1\n", lineup.Where{}},
		"each with a value":          {"format = 'ini'\nshape = 'section'\nat = 'm'", "[m]\na = 1\nb = 2\n", "[m]\na = 1\nb = 2\nnew\n", lineup.Where{}},
	} {
		toml := listDialect(c.toml)
		if strings.Contains(name, "place of its own") {
			toml = strings.Replace(toml, "[[place]]\n", "[[place]]\ncalled = 'mods/sub'\n", 1)
		}
		l := open(parse(t, toml), map[string]string{"/srv/start": c.doc})
		after, err := l.Apply(lineup.Change{Op: lineup.OpRegister, Mod: "new", Where: c.where})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		insist.That(t, string(after.Files[0].Bytes) == c.want, "%s:\n%s", name, after.Files[0].Bytes)
		back, err := after.Apply(lineup.Change{Op: lineup.OpUnregister, Mod: "new"})
		insist.That(t, err == nil && string(back.Files[0].Bytes) == c.doc, "%s, and back: %v\n%s", name, err, back.Files[0].Bytes)
		for _, mod := range []string{"a", "b", "c"} { // and what goes comes back as it was
			off, err := l.Apply(lineup.Change{Op: lineup.OpOff, Mod: mod})
			if err != nil {
				continue
			}
			on, err := off.Apply(lineup.Change{Op: lineup.OpOn, Mod: mod})
			insist.That(t, err == nil && string(on.Files[0].Bytes) == c.doc, "%s, %s off and on: %v\n%s", name, mod, err, on.Files[0].Bytes)
		}
	}
}

// A bare name among the names of files is one that no server would find.
func TestBareNameAmongFiles(t *testing.T) {
	for toml, doc := range map[string]string{
		"shape = 'line'\nline = 'use {mod}'":                                 "use a.so\nuse b.so\n",
		"format = 'key-value'\nshape = 'list'\nat = 'mods'\nseparator = ','": "mods = a.so,b.so\n",
	} {
		l := open(parse(t, listDialect(toml)), map[string]string{"/srv/start": doc})
		insist.Fails(t, doc, insist.Err(l.Apply(lineup.Change{Op: lineup.OpRegister, Mod: "new"})), "all others in the list end in .so, and new does not; register it as new.so")
		insist.OK(t, insist.Err(l.Apply(lineup.Change{Op: lineup.OpRegister, Mod: "new.so"})))
	}
}
