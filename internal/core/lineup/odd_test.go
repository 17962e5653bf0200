package lineup_test

import (
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/text"
	"initium/internal/golden"
	"initium/internal/insist"
)

// scripts are startup files with a line for each mod, in some of the ways that there are.
var scripts = map[string]struct{ toml, doc string }{
	"script plain":       {"shape = 'line'\ncomment = '#'\nline = 'use {mod}'\nsetting = 'set {name} {value}'\ninclude = 'read {file}'\nsection = '# == {title}'", "set p 1\nuse a\n# == Far ==\n  use b # note\n# use c\nread more.cfg\n# == Near\nuse \"d e\"\nset p '2'\n"},
	"script quotes":      {"shape = 'line'\ncomment = '//'\nquote = \"'\"\nline = '{mod}'\nsection = '// [{title}]'", "// [One]\na\n'b'\n//c\n// prose\nd e\n// [Two]\n'f g'\n"},
	"script paths":       {"shape = 'line'\ncomment = '#'\nquote = '\"'\nline = 'use {mod} now'\npaths = true\nsuffix = '.so'\noptions = ':'", "use /lib/a.so now\nuse \"/lib/b.so:x=1\" now\n# use c now\nuse d\n"},
	"script commentless": {"shape = 'line'\nline = 'use {mod}'\nsetting = 'set {name} = {value}'", "set p = 1\nuse a\nuse b\nuse a\n"},
	"settings hidden":    {"format = 'yaml'\nshape = 'key'\nat = 'x.mods'\nkey = '{mod}'\non = '{}'", "x:\n  mods:\n    # e: prose\n    # d:\n    #   z: 1\n    a: {}\n    # c: {}\n    #  more\n    b:\n      y: [1]\n    # f: []\n  z: 1\n"},
	"statements off":     {"shape = 'statement'\ncomment = '#'\nstatements = ['load {mod};', \"use {mod} {{\\n}}\"]\nwithin = \"server {{\\n}}\"\nskip = ['old {any}']\nsetting = '{name}={value};'", "load x;\nserver {\n  p = 1;\n  load a;\n  # load b; # why\n  use c { d; }\n# use e {\n#   q\n# }\n  lod f;\n  old use z {\n  }\n}\nuse y {\n}\n"},
	"keys in lines":      {"format = 'key-value'\nshape = 'key'\nkey = '{mod}'\non = 'yes'\noff = 'no'\non_words = ['true', 'on']\noff_words = ['false']\non_path = true\ncomment = '#'", "p = 1\na = yes\nb = no # note\nc = True\nd = /lib/d\n# e = yes\n"},
	"keys with words":    {"format = 'key-value'\nshape = 'key'\nkey = 'load_{mod}'\non = '1'\noff = '0'\ncomment = ';'\nassign = ':'", "load_a: 1\nload_b: 0\nload_c: maybe\np: 1\n"},
	"key paths":          {"format = 'ini'\nshape = 'key'\nat = 'mods'\nkey = '{mod}'\non = 'yes'\noff = 'no'\noff_words = ['false', '0']\non_words = ['true']\non_path = true", "[mods]\na = yes\n b=no\nc = 'true'\nd = x/y\np = 5\n[x]\n"},
	"parallel":           {"format = 'ini'\nshape = 'parallel'\nat = 's/names'\nnumbers = 's/ids'\nseparator = ','", "[s]\nnames=a,b,c\nids=1,2,3\n"},
	"parallel marked":    {"format = 'key-value'\nshape = 'parallel'\nat = 'names'\nnumbers = 'ids'\nseparator = ';'\nmark = '@'\nlast = 'wanted'", "names = @a;@b;\nids = 1;2;\n"},
	"empty yaml":         {"format = 'yaml'\nshape = 'items'\nat = 'x.mods'", "x:\n  mods: []\n  y: 1\n"},
	"empty xml":          {"format = 'xml'\nshape = 'items'\nat = 'x.mods.mod'\nitem = '<mod>{mod}</mod>'", "<x>\n  <mods>\n    <other/>\n  </mods>\n</x>\n"},
	"empty keys":         {"format = 'yaml'\nshape = 'key'\nat = 'mods'\nkey = '{mod}'\non = 'true'\noff = 'false'", "mods:\nx: 1\n"},
	"repeat at top":      {"format = 'ini'\nshape = 'repeat'\nat = 'mod'\ncomment = '#'", "mod=a\n# mod = b\nx=1\nmod = \"c\"\nmod\n"},
	"section hidden":     {"format = 'ini'\nshape = 'section'\nat = 'mods'", "[mods]\na\n;b\n; some prose\nc = 1\n[p]\nq = 1\n"},
	"presence":           {"shape = 'presence'\nat = '{mod}.mod'\naside = '{mod}.mod.off'", "a.mod\nb.mod.off\nc.mod\nreadme.txt\n"},
	"value in json":      {"format = 'json'\nshape = 'items'\nat = 'mods'", "{\"mods\": [\"a\"], \"p\": 5, \"q\": {\"r\": \"x\"}}\n"},
	"batch words":        {"format = 'batch'\nshape = 'words'\nat = '-load {mod}'", "@echo off\r\nset X=1\r\nrun.exe -p %X% ^\r\n  -load a ^\r\n  -load \"b c\" ^\r\n  -load d\r\n"},
	"words alone":        {"format = 'words'\nshape = 'words'\nat = '+{mod}'", "-p 1 +a +b '+c'"},
	"words at the end":   {"format = 'shell'\nshape = 'words'\nat = '-load {mod}'", "./run -load a\t-load b -load"},
	"list at the end":    {"format = 'shell'\nshape = 'list'\nat = '-mods {list}'\nseparator = ','", "./run -mods\n./run -mods a,b -p 1\n"},
	"tabs in keys":       {"format = 'ini'\nshape = 'key'\nat = 'mods'\nkey = '{mod}'\non = 'yes'\noff = \"no\"\noff_words = ['0']", "bare\nq\t=\t1\n[mods]\na\t=\tyes\nb\t=\t'no'\nc = 0\n"},
	"words first":        {"format = 'words'\nshape = 'words'\nat = '+{mod}'", "+a +b"},
	"yaml comments":      {"format = 'yaml'\nshape = 'items'\nat = 'mods'", "mods:\n  # - [x]\n  # - {\n  # - first\n  - a\n  # - 12\n"},
	"shell variable":     {"format = 'shell'\nshape = 'list'\nat = '-mods={list}'\nseparator = ';'", "#!/bin/sh\nM=a\nM=\"$M;b\"\nP=5\n./run -mods=$M -p $P\n./other\n"},
}

// spoiled is a document that somebody has been at.
func spoiled(r *rand.Rand, doc string) string {
	one := func(list ...string) string { return list[r.IntN(len(list))] }
	for range 1 + r.IntN(3) {
		lines := strings.SplitAfter(doc, "\n")
		at := r.IntN(len(lines))
		word := regexp.MustCompile(`[a-z]+`).FindAllStringIndex(doc, -1)
		switch r.IntN(16) {
		case 0:
			doc = strings.ReplaceAll(strings.ReplaceAll(doc, "\r\n", "\n"), "\n", "\r\n")
		case 1:
			doc = strings.TrimRight(doc, "\r\n")
		case 2:
			doc = strings.Join(slices.Insert(lines, at, one("\n", "# note\n", "; note\n", "  \n", "\t# use z\n", "// y\n", "x\n", "# - z\n", "  # - y\n", "    # - w\n", "[new]\n")), "")
		case 3:
			doc = strings.Join(slices.Insert(lines, at, one("", "# ", "#", ";", "//", "  ", "\t")+lines[r.IntN(len(lines))]), "")
		case 4:
			doc = strings.Join(slices.Delete(lines, at, at+1), "")
		case 5:
			lines[at] = one("# ", "#", ";", "// ", "  ", "\t", "  # ") + lines[at]
			doc = strings.Join(lines, "")
		case 6:
			lines[at] = strings.TrimLeft(lines[at], " \t")
			doc = strings.Join(lines, "")
		case 7, 8:
			if len(word) > 0 {
				w := word[r.IntN(len(word))]
				doc = doc[:w[0]] + one("", "z", `"`+doc[w[0]:w[1]]+`"`, "'"+doc[w[0]:w[1]]+"'", "a b", `"a b"`, "$X", "%X%", "a", "é", "/lib/"+doc[w[0]:w[1]], doc[w[0]:w[1]]+".so", doc[w[0]:w[1]]+" # x") + doc[w[1]:]
			}
		case 9:
			doc = regexp.MustCompile(`\[[^\]\[]*\]`).ReplaceAllString(doc, one("[]", "[ ]", "[a]"))
		case 10:
			doc = strings.Replace(doc, one(",", ";", ":", "=", "\"", "'", " ", "/", "}", "]", ">"), one("", " ", ",", ";", "\""), 1)
		case 11:
			doc = strings.ReplaceAll(doc, one(",", ";", "="), one(", ", " ;", " = "))
		case 12:
			if len(word) > 1 {
				i, k := r.IntN(len(word)), r.IntN(len(word))
				if i > k {
					i, k = k, i
				}
				if i < k {
					doc = doc[:word[i][0]] + doc[word[k][0]:word[k][1]] + doc[word[i][1]:word[k][0]] + doc[word[i][0]:word[i][1]] + doc[word[k][1]:]
				}
			}
		case 13:
			if n := len(doc); n > 2 {
				at := r.IntN(n)
				doc = doc[:at] + doc[min(n, at+1+r.IntN(4)):]
			}
		case 14:
			doc = strings.ReplaceAll(doc, "  ", one("\t", "    ", " "))
		case 15:
			if len(word) > 0 {
				w := word[r.IntN(len(word))]
				doc = doc[:w[1]] + one(" ", ",", ";", "\n", "=", ": ", "\\\n", " ^\n", "/", "<!-- z -->", ": null", ": ~") + doc[w[1]:]
			}
		}
	}
	switch r.IntN(12) {
	case 0:
		doc = "\ufeff" + doc
	case 1:
		doc = string(text.Encode([]byte("\ufeff"+doc), []text.Encoding{text.EncodingUTF16LE, text.EncodingUTF16BE}[r.IntN(2)]))
	}
	return doc
}

// TestOddStartupFilesInFull reads and changes startup files that somebody has been at, in
// every notation: what is read, what is said not to be understood, and what becomes of them
// change upon change, to the byte.
func TestOddStartupFilesInFull(t *testing.T) {
	r := rand.New(rand.NewPCG(12, 34))
	files := map[string]struct{ toml, doc string }{}
	maps.Copy(files, registrations)
	maps.Copy(files, scripts)
	corpus, err := filepath.Glob("testdata/corpus/*.txt")
	insist.OK(t, err)
	for _, name := range corpus {
		data, err := os.ReadFile(name)
		insist.OK(t, err)
		registration, rest, _ := strings.Cut(string(data), "\n-- want --\n")
		_, doc, _ := strings.Cut(rest, "\n-- file --\n")
		files["corpus "+strings.TrimSuffix(filepath.Base(name), ".txt")] = struct{ toml, doc string }{registration, doc}
	}
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(files)) {
		f := files[name]
		source := listDialect(f.toml) + `
[names]
allowed = "` + []string{"", "a-z0-9_ "}[r.IntN(2)] + `"
[[value]]
name = "p"
registration = "list"
secret = true
placeholders = ["5"]
[[value]]
name = "-p {list}"
registration = "list"
[[value]]
name = "s/p"
registration = "list"
[[value]]
name = "q.r"
registration = "list"
`
		d, err := dialect.Parse(name, []byte(source))
		insist.Need(t, err == nil, "%s: %v", name, err)
		var twice [2]*dialect.Dialect // in which another list has to be the same; nil where that cannot be
		for i, optional := range []string{"true", "false"} {
			twice[i], _ = dialect.Parse(name, []byte(source+"[[registration]]\nname = 'copy'\nsame_as = 'list'\nfile = '{dir}/copy'\nformat = 'key-value'\nshape = 'list'\nat = 'mods'\nseparator = ','\nnew = \"mods = \\n\"\noptional = "+optional+map[bool]string{true: "\npaths = true\nsuffix = '.so'\noptions = ':'\n", false: "\n"}[i > 0]))
		}
		for round := range map[bool]int{true: 4, false: 9}[strings.HasPrefix(name, "corpus")] {
			doc, kinds := f.doc, 12
			if strings.Contains(f.toml, "section = ") {
				kinds = 15
			}
			if round > 0 {
				doc = spoiled(r, doc)
			}
			if round == 2 {
				doc = []string{"", "x = 1\n", "{}\n", "<x/>\n", "[mods]\n"}[r.IntN(5)]
			}
			here := map[string]string{"/srv/start": doc, "/srv/more.cfg": "use m\n# use n\nset q 1\nread start\nread ../etc/x\nread none\n", "/srv/x.d": "x.conf\n"}
			if r.IntN(20) == 0 {
				delete(here, "/srv/start")
			}
			d := d
			if copied := twice[r.IntN(2)]; copied != nil && r.IntN(3) == 0 {
				d, kinds = copied, 17
				if r.IntN(5) > 0 {
					here["/srv/copy"] = spoiled(r, []string{"mods = a, z, b\n", "x = 1\nmods=b\n", "mods = /x/a.so:q,/x/b.so\n"}[r.IntN(3)])
				}
			}
			l := open(d, here)
			fmt.Fprintf(&b, "== %s: %q\n%s", name, doc, written(l))
			for _, e := range l.Entries {
				if got := string(e.Span.In(l.Files[e.File].Bytes)); got != e.Name && !strings.Contains(e.Value, "\\") {
					fmt.Fprintf(&b, "  the place of %q holds %q\n", e.Name, got)
				}
			}
			fmt.Fprintf(&b, "  secrets %q, titles %q\n", l.Secrets(), l.SectionTitles())
			tries := 6
			if len(l.Entries) == 0 {
				tries = 2
			}
			for range tries {
				now := l
				for range 1 + r.IntN(3) {
					names := []string{"fresh", "two words", "a"}
					for _, e := range now.Entries {
						names = append(names, e.Name)
					}
					one := func() string { return names[r.IntN(len(names))] }
					c := change{Op: []lineup.Op{lineup.OpRegister, lineup.OpRegister, lineup.OpUnregister, lineup.OpOff, lineup.OpOff, lineup.OpOn, lineup.OpOn, lineup.OpMove, lineup.OpMove, lineup.OpRename, lineup.OpOnce, lineup.OpSet, lineup.OpNewSection, lineup.OpRenameSection, lineup.OpMoveSection, lineup.OpMatch, lineup.OpMatch}[r.IntN(min(kinds, 17))], Mod: one()}
					switch c.Op {
					case lineup.OpRename, lineup.OpRenameSection:
						c.To = []string{"other", "it's", `say "so"`, "a", " x", "# x"}[r.IntN(6)]
					case lineup.OpMatch:
						c.Registration, c.To = []string{"copy", "copy", "copy", "list", "none"}[r.IntN(5)], "list"
					case lineup.OpSet:
						c.Mod, c.To, c.Registration = []string{"p", "-p {list}", "s/p", "q.r", "new"}[r.IntN(5)], []string{"7", "two words", `a"b`, "", " x"}[r.IntN(5)], []string{"list", "list", "list", "none"}[r.IntN(4)]
					case lineup.OpRegister:
						c.Mod = []string{"fresh", "two words", "it's", "#x", c.Mod}[r.IntN(5)]
						c.Number = []string{"", "44"}[r.IntN(2)]
						c.Registration = []string{"", "", "list", "none"}[r.IntN(4)]
					}
					if c.Op == lineup.OpMove || c.Op == lineup.OpRegister && r.IntN(2) == 0 {
						switch r.IntN(6) {
						case 0, 1:
							c.Where.Before = one()
						case 2, 3:
							c.Where.After = one()
						case 4:
							c.Where.Section = append(now.SectionTitles(), "No Such")[r.IntN(len(now.SectionTitles())+1)]
						}
					}
					if titles := now.SectionTitles(); len(titles) > 0 && (c.Op == lineup.OpRenameSection || c.Op == lineup.OpMoveSection) {
						c.Mod = titles[r.IntN(len(titles))]
						c.Where.Section = append(titles, "")[r.IntN(len(titles)+1)]
					}
					after, err := now.Apply(c)
					if err != nil {
						fmt.Fprintf(&b, "  %s: %v\n", c, err)
						continue
					}
					fmt.Fprintf(&b, "  %s\n%s", c, difference(now, after))
					insist.That(t, sum(after) == sum(open2(d, here, after)), "%s: %s leaves %q, which reads %q when it is read again:\n%q", name, c, sum(after), sum(open2(d, here, after)), after.Files[0].Raw())
					now = after
				}
			}
		}
	}
	golden.Check(t, "odd.txt", strings.ReplaceAll(b.String(), `\t`, "→"))
}

// open2 reads a line-up again from the bytes of its files.
func open2(d *dialect.Dialect, files map[string]string, l *lineup.Lineup) *lineup.Lineup {
	again := maps.Clone(files)
	for _, f := range l.Files {
		if !f.Missing {
			again[f.Path] = string(f.Raw())
		}
	}
	return lineup.Read(d, dialect.Vars{"dir": "/srv"}, func(path string) ([]byte, error) {
		if data, ok := again[path]; ok {
			return []byte(data), nil
		}
		return nil, fs.ErrNotExist
	}, l.Parked)
}
