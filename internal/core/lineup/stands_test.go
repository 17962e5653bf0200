package lineup_test

import (
	"strings"
	"testing"

	"initium/internal/core/lineup"
	"initium/internal/insist"
)

// What stands in a file beside the list is left as it is, and disables nothing that it is no part of.
func TestWhatStandsBesideAList(t *testing.T) {
	for name, c := range map[string]struct{ toml, doc, want, after string }{
		"a comment behind quotes":       {"format = 'key-value'\nshape = 'list'\nat = 'mods'\nseparator = ','\ncomment = '#'", "mods = 'a, b'\t# 'c', restart\n", "a b", "mods = 'a, b, new'\t# 'c', restart\n"},
		"a comment behind a list":       {"format = 'ini'\nshape = 'list'\nat = 's/mods'\nseparator = ','", "[s]\nmods=a,b ; c, d\n", "a b", "[s]\nmods=a,b,new ; c, d\n"},
		"what looks like one":           {"format = 'ini'\nshape = 'list'\nat = 's/mods'\nseparator = ';'", "[s]\nmods=a ;b#1\n", "a b#1", "[s]\nmods=a ;b#1;new\n"},
		"long comment marks":            {"format = 'key-value'\nshape = 'list'\nat = 'mods'\nseparator = ','\ncomment = '// --'", "// mods = z\n-- x\n/ = y\nmods = a,b // c\n", "a b", "// mods = z\n-- x\n/ = y\nmods = a,b,new // c\n"},
		"marks of a section":            {"format = 'ini'\nshape = 'section'\nat = 'm'\ncomment = '//'", "[m]\n// a\nb\n/c\n", "-a b /c", "[m]\n// a\nb\n/c\nnew\n"},
		"an odd line elsewhere":         {"format = 'ini'\nshape = 'key'\nat = 'm'\nkey = '{mod}'\non = 'yes'\noff = 'no'", "[x]\nwhat is this\n[m]\na = yes\n", "a !line-unreadable:2~", "[x]\nwhat is this\n[m]\na = yes\nnew = yes\n"},
		"an odd line among them":        {"format = 'ini'\nshape = 'key'\nat = 'm'\nkey = '{mod}'\non = 'yes'\noff = 'no'", "[m]\nwhat is this\na = yes\n", "!list-unreadable:2", ""},
		"a stray quote elsewhere":       {"shape = 'line'\nquote = \"'\"\nline = 'use {mod}'", "say 'so\nuse a\n", "a !line-unreadable:1~", "say 'so\nuse a\nuse new\n"},
		"a stray quote in one of them":  {"shape = 'line'\nquote = \"'\"\nline = 'use {mod}'", "uze 'b\nuse a\n", "a !line-unreadable:1", "uze 'b\nuse a\nuse new\n"},
		"nothing else there":            {"shape = 'line'\nquote = \"'\"\nline = 'use {mod}'", "say 'so\n", "!line-unreadable:1", "say 'so\nuse new\n"},
		"keys with an ending":           {"format = 'key-value'\nshape = 'key'\nkey = '{mod}_on'\non = '1'\noff = '0'", "a_on = 1\nb_0n 1\n", "a !line-unreadable:2", "a_on = 1\nnew_on = 1\nb_0n 1\n"},
		"a sign that is missing":        {"shape = 'statement'\nwithin = \"m {{\\n}}\"\nstatements = ['{mod};']", "m {\n  'a';\n  'b'\n}\n", "a !line-unreadable:3", "m {\n  'a';\n  'new';\n  'b'\n}\n"},
		"keys without a sign elsewhere": {"format = 'key-value'\nshape = 'key'\nkey = 'load_{mod}'\non = '1'\noff = '0'", "port 5\nload_a = 1\nlaod_b 1\nload_c 1\n", "a !line-unreadable:1~ !line-unreadable:3 !line-unreadable:4", "port 5\nload_a = 1\nload_new = 1\nlaod_b 1\nload_c 1\n"},
	} {
		l := open(parse(t, listDialect(c.toml)), map[string]string{"/srv/start": c.doc})
		got := sum(l)
		for _, p := range l.Problems {
			if p.Harmless {
				at := strings.Index(got, "!"+p.Code)
				end := at + strings.IndexAny(got[at:]+" ", " ")
				got = got[:end] + "~" + got[end:]
			}
		}
		insist.Same(t, name, got, c.want)
		after, err := l.Apply(lineup.Change{Op: lineup.OpRegister, Mod: "new"})
		if c.after == "" {
			insist.Fails(t, name, err, "cannot be read")
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		insist.Same(t, name, string(after.Files[0].Bytes), c.after)
	}
}

// What is switched off is hidden as most others are; prose in a box of comment marks is none.
func TestHiddenAsOthersAre(t *testing.T) {
	for toml, docs := range map[string][2]string{
		"shape = 'line'\ncomment = '#'\nline = 'use {mod}'":                        {"# use words #\n#use b\n#use c\nuse a\n# use d\n", "# use words #\n#use b\n#use c\n#use a\n# use d\n"},
		"shape = 'statement'\ncomment = '--'\nstatements = ['use {mod};']":         {"--use b;\n  use a; -- x\n", "--use b;\n  --use a; -- x\n"},
		"shape = 'statement'\ncomment = '#'\nstatements = [\"use {mod} {{\\n}}\"]": {"use a {\n  x\n}\n", "# use a {\n  # x\n# }\n"},
	} {
		l := open(parse(t, listDialect(toml)), map[string]string{"/srv/start": docs[0]})
		insist.That(t, len(l.Find("words")) == 0, "prose is read as a mod")
		off, err := l.Apply(lineup.Change{Op: lineup.OpOff, Mod: "a"})
		insist.OK(t, err)
		insist.Same(t, toml, string(off.Files[0].Bytes), docs[1])
		on, err := off.Apply(lineup.Change{Op: lineup.OpOn, Mod: "a"})
		insist.OK(t, err)
		insist.Same(t, toml, string(on.Files[0].Bytes), docs[0])
	}
}

// Entries with settings are found in comments whatever their quotes, up to the end of the file.
func TestHiddenEntries(t *testing.T) {
	l := open(parse(t, listDialect("format = 'yaml'\nshape = 'key'\nat = 'mods'\nkey = '{mod}'\non = '{}'")), map[string]string{"/srv/start": "mods:\n  a: {}\n  # \"b\": {}\n  # c:\n  #   x: 1"})
	insist.Same(t, "read", sum(l), "a -b -c")
	for _, mod := range []string{"b", "c"} {
		on, err := l.Apply(lineup.Change{Op: lineup.OpOn, Mod: mod})
		insist.OK(t, err)
		off, err := on.Apply(lineup.Change{Op: lineup.OpOff, Mod: mod})
		insist.That(t, err == nil && string(off.Files[0].Bytes) == string(l.Files[0].Bytes), "%s on and off: %v\n%s", mod, err, off.Files[0].Bytes)
	}
	renamed, err := l.Apply(lineup.Change{Op: lineup.OpRename, Mod: "b", To: "d"})
	insist.That(t, err == nil && sum(renamed) == "a -d -c" && strings.Contains(string(renamed.Files[0].Bytes), "# \"d\": {}"), "%v\n%s", err, renamed.Files[0].Bytes)
}

// Comment marks of several characters are words where a mod is switched off, too.
func TestOffWithLongMarks(t *testing.T) {
	for toml, docs := range map[string][2]string{
		"format = 'ini'\nshape = 'section'\nat = 'm'\ncomment = '// #'": {"[m]\na\n", "[m]\n// a\n"},
		"format = 'ini'\nshape = 'repeat'\nat = 'm'\ncomment = '--'":    {"m = a\n", "-- m = a\n"},
	} {
		l := open(parse(t, listDialect(toml)), map[string]string{"/srv/start": docs[0]})
		off, err := l.Apply(lineup.Change{Op: lineup.OpOff, Mod: "a"})
		insist.OK(t, err)
		insist.Same(t, toml, string(off.Files[0].Bytes), docs[1])
		on, err := off.Apply(lineup.Change{Op: lineup.OpOn, Mod: "a"})
		insist.OK(t, err)
		insist.Same(t, toml, string(on.Files[0].Bytes), docs[0])
	}
}
