package intake_test

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/survey"
	"initium/internal/golden"
	"initium/internal/host/disk"
	"initium/internal/insist"
)

// family puts a dialect together from what dialects can have.
func family(r *rand.Rand) string {
	one := func(list ...string) string { return list[r.IntN(len(list))] }
	var b strings.Builder
	b.WriteString("name = \"mill\"\norder = \"" + one("listed", "listed", "server") + "\"\n[[given]]\nname = \"share\"\nkind = \"folder\"\ndefault = [" + one("", "'{dir}/share'") + "]\noptional = true\n[[given]]\nname = \"list\"\nkind = \"text\"\ndefault = ['{dir}/mill.start']\n")
	marks := one("mark = ['wheel.toml']\n", "mark = ['wheel.toml', 'hub']\n", "", "main = 'init.run'\n")
	places := []string{
		"[[place]]\npath = \"{dir}/wheels\"\n" + marks + one("", "group = '+'\n", "bundle = ['train.txt']\n", "group = '+'\nbundle = ['train.txt', 'pack.txt']\n"),
		"[[place]]\npath = \"{dir}/always\"\nloads = \"always\"\n" + marks,
		"[[place]]\npath = \"{share}/wheels\"\n" + marks + one("", "loads = \"always\"\n"),
		"[[place]]\npath = \"{dir}/base\"\nloads = \"base\"\n" + marks,
		"[[place]]\npath = \"{dir}/caps\"\nfile = \"{mod}.cap\"\n",
		"[[place]]\npath = \"{dir}/packs\"\nfile = \"p_{mod}.pak\"\npacked = true\n" + one("", "loads = \"always\"\n"),
	}
	r.Shuffle(len(places), func(i, j int) { places[i], places[j] = places[j], places[i] })
	for _, p := range places[:1+r.IntN(len(places))] {
		b.WriteString(p)
	}
	b.WriteString("[names]\nallowed = \"" + one("", "a-z0-9_", "a-z", "A-Za-z .-", "A-Z0-9") + "\"\n")
	b.WriteString(one("[[manifest]]\nfile = \"wheel.toml\"\nformat = \"toml\"\nname = \"name\"\nrelease = \"release\"\nneeds = \"needs\"\noptional_needs = \"wishes\"\nbefore = \"before\"\nafter = \"after\"\nprovides = \"provides\"\nsettings = \"reads\"\n",
		"[[manifest]]\nfile = \"wheel.toml\"\nformat = \"toml\"\nname = \"name\"\nneeds = \"needs\"\nprovides = \"provides\"\nbefore = \"before\"\nsettings = \"reads\"\n[[manifest]]\nfile = \"more.json\"\nformat = \"json\"\nrelease = \"release\"\n",
		"[[manifest]]\nfile = \"init.run\"\nformat = \"source\"\nsettings = \"chart {value}\"\n"))
	b.WriteString("[[registration]]\nname = \"list\"\nfile = \"" + one("{dir}/mill.start", "{dir}/mill.start", "{list}") + "\"\nshape = \"line\"\ncomment = \"#\"\nline = \"turn {mod}\"\nsetting = \"let {name} {value}\"\n")
	b.WriteString(one("", "[keys]\nfiles = \"keys/*.key\"\ninto = \"{dir}/keys\"\n", "[keys]\nfiles = \"*.key\"\ninto = \"{dir}/keys\"\n"))
	for _, c := range []string{"[[content]]\nkind = \"map\"\nfiles = \"*.plan\"\ninto = \"{dir}/plans\"\n", "[[content]]\nkind = \"overlay\"\nfiles = \"engine/**\"\ninto = \"{dir}/engine\"\n", "[[content]]\nkind = \"data\"\nfiles = \"grain*.xml\"\ninto = \"{dir}/grain.xml\"\nabout = \"kinds of grain\"\n",
		"[[content]]\nkind = \"database\"\nfiles = \"*.sql\"\n", "[[content]]\nkind = \"settings\"\nfiles = \"*.conf\"\n"} {
		if r.IntN(2) == 0 {
			b.WriteString(c)
		}
	}
	b.WriteString(one("", "[[leaves]]\npath = \"{dir}/flour/{mod}\"\n", "[[leaves]]\npath = \"{dir}/flour/{mod}\"\nabout = \"its flour\"\n[[leaves]]\npath = \"{dir}/bran/{mod}.txt\"\n"))
	b.WriteString("[start]\ncommand = [\"x\"]\n[[log.rule]]\nmeans = \"ready\"\nline = \"up\"\n")
	return b.String()
}

// zipOf is a zip archive with one file.
func zipOf(t *testing.T, name, data string) string {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create(name)
	if err == nil {
		_, err = w.Write([]byte(data))
	}
	if err = errors.Join(err, z.Close()); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// TestVariedIntakesInFull takes random archives in on random servers of random families, and
// takes mods out again: what is found, what comes of it, and what would be seen then.
func TestVariedIntakesInFull(t *testing.T) {
	r := rand.New(rand.NewPCG(77, 5))
	one := func(list ...string) string { return list[r.IntN(len(list))] }
	names := []string{"oak", "elm", "yew", "ash", "Pine Nut", "oak-master", "fir_1.2", "Elm Tree"}
	manifest := func(name string) string {
		var b strings.Builder
		if r.IntN(4) > 0 {
			fmt.Fprintf(&b, "name = '%s'\n", name)
		}
		fmt.Fprintf(&b, "release = '%d'\n", r.IntN(3))
		for _, key := range []string{"needs", "wishes", "before", "after", "provides", "reads"} {
			if r.IntN(4) == 0 {
				fmt.Fprintf(&b, "%s = ['%s']\n", key, one("oak", "elm", "yew", "ash", "bark", "depth"))
			}
		}
		return b.String() + one("", "", "", "x = ")
	}
	contents := func(name string) []string {
		list := []string{"wheel.toml: " + manifest(name), "init.run: chart depth\nchart " + name, "hub: h", "keys/" + one("a", "b", strings.ToLower(name)) + ".key: " + one("1", "2"), "a.key: " + one("1", "2"), "more.json: {\"release\": \"" + one("1", "2") + "\"}",
			"my.conf: " + one("x", "y"), "sub/deep.bin: " + one("x", "y"), "empty/", "run.sh: " + one("x", "y"), "notes.txt: " + name}
		r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		return list[:1+r.IntN(len(list))]
	}
	extras := []string{"hill.plan: 1", "maps/dale.plan: 2", "engine/core.dat: 3", "x/engine/deep/a.dat: 4", "grain.xml: <g/>", "grain_x.xml: <g/>", "tables.sql: 5", "server.conf: 6", "a.key: 1", "keys/oak.key: 2", "train.txt: t", "pack.txt: p", "README.md: r", "INSTALL: i",
		"mill.start: turn elm\n# turn yew\nturn oak\nturn elm\nturn ash\n", "other.bin: o", "one.cap: c", "p_oak.pak: PACK oak", "sub/p_elm.pak: no archive", "Thumbs.db: t", "hub: h", "p_.pak: x", ".cap: x"}
	var all strings.Builder
	for round := range 170 {
		source := family(r)
		p := &place{t: t, dir: t.TempDir(), release: map[string][]plan.Item{}, owners: map[string]intake.Owner{}}
		d, err := dialect.Parse("d.toml", []byte(source))
		insist.Need(t, err == nil, "%d: %v\n%s", round, err, source)
		p.d = d
		list := ""
		for _, name := range names[:4] {
			list += one("turn "+name+"\n", "# turn "+name+"\n", "", "turn +old\n") + one("", "let depth 3\n")
		}
		put(t, filepath.Join(p.dir, "mill.start"), list)
		for _, where := range []string{"wheels", "always", "share/wheels", "base", "wheels/+old", "wheels/pack"} {
			for _, name := range names[:4] {
				if r.IntN(5) > 0 {
					continue
				}
				for _, line := range contents(name) {
					if path, data, ok := strings.Cut(line, ": "); ok {
						put(t, filepath.Join(p.dir, where, name, path), data)
					}
				}
			}
		}
		for _, line := range []string{"wheels/pack/train.txt: t", "caps/one.cap: C", "packs/p_oak.pak: no", "keys/a.key: 1", "keys/oak.key: 7", "plans/hill.plan: 1", "plans/dale.plan: other", "engine/core.dat: own", "flour/oak/sack: f", "bran/elm.txt: b", "flour/yew: f", "wheels/elm/mine.txt: m"} {
			if path, data, _ := strings.Cut(line, ": "); r.IntN(2) == 0 {
				put(t, filepath.Join(p.dir, path), data)
			}
		}
		for _, path := range []string{"keys/a.key", "keys/oak.key", "plans/hill.plan", "plans/dale.plan", "engine/core.dat"} {
			p.owners[filepath.Join(p.dir, path)] = []intake.Owner{{}, {Clean: true}, {Mod: "elm"}, {Clean: true, Mod: "oak"}}[r.IntN(4)]
		}
		for _, name := range names[:4] {
			at := filepath.Join(p.dir, "wheels", name)
			if items, err := (&disk.Digests{}).List(at); err == nil && len(items) > 0 && r.IntN(2) == 0 {
				items = slices.DeleteFunc(items, func(plan.Item) bool { return r.IntN(4) == 0 })
				for i := range items {
					if r.IntN(4) == 0 {
						items[i].Sum[0]++
					}
				}
				p.release[at] = items
			}
		}
		var lines []string
		add := func(line string) {
			path, _, _ := strings.Cut(strings.TrimSuffix(line, "/"), ": ")
			if !slices.ContainsFunc(lines, func(l string) bool {
				other, _, _ := strings.Cut(strings.TrimSuffix(l, "/"), ": ")
				return strings.EqualFold(other, path) || strings.HasPrefix(strings.ToLower(other), strings.ToLower(path)+"/") || strings.HasPrefix(strings.ToLower(path), strings.ToLower(other)+"/")
			}) {
				lines = append(lines, line)
			}
		}
		for range 1 + r.IntN(3) {
			name := names[r.IntN(len(names))]
			around := one("", "", "pack/", "+trees/", "a/b/", name+"/")
			if r.IntN(8) > 0 {
				around += name + "/"
			}
			for _, line := range contents(name) {
				add(around + line)
			}
		}
		for range r.IntN(5) {
			add(one("", "", "pack/", "more/") + extras[r.IntN(len(extras))])
		}
		tree, err := build(intake.DefaultBounds(), lines...)
		if err != nil {
			fmt.Fprintf(&all, "== %d: %v\n", round, err)
			continue
		}
		for i := range tree.Entries {
			switch e := &tree.Entries[i]; {
			case string(e.Data) == "PACK oak":
				e.Data = []byte(zipOf(t, "wheel.toml", "name = 'oak'\nrelease = '9'\n"))
			case strings.HasSuffix(e.Path, ".sh"):
				e.Exec = true
			case strings.HasSuffix(e.Path, ".bin") && r.IntN(3) == 0:
				e.Changed = time.Date(2000+r.IntN(20), 1, 1, 0, 0, 0, 0, time.UTC)
			case strings.HasSuffix(e.Path, "other.bin") && r.IntN(2) == 0:
				e.Trouble = "it is broken"
			case strings.HasSuffix(e.Path, "wheel.toml") && r.IntN(12) == 0:
				e.Data, e.Size = nil, 5<<20
			}
		}
		choices := lineup.Choices{Agree: r.IntN(2) == 0, As: one("", "beech", "a/b", " x", "B", ".x", "x\ty"), Into: one("", "wheels", "always", p.dir+"/share/wheels", "none")}
		if r.IntN(4) > 0 {
			choices.As = ""
		}
		if r.IntN(4) > 0 {
			choices.Into = ""
		}
		for _, list := range []*[]string{&choices.Take, &choices.Keep, &choices.Both} {
			if r.IntN(3) == 0 {
				*list = append(*list, one("all", "plans/dale.plan", "keys/a.key", "wheels/elm/my.conf", "wheels/oak", "engine/core.dat", "wheels/elm/notes.txt"))
			}
		}
		if r.IntN(6) == 0 {
			choices.Only = []string{one("oak", "elm", "pack/oak", "nothing")}
		}
		target := p.target()
		vars := dialect.Vars{"dir": p.dir, "list": p.dir + "/mill.start"}
		if r.IntN(4) > 0 {
			vars["share"] = p.dir + []string{"/share", "/../" + filepath.Base(p.dir) + "-share"}[r.IntN(2)]
		}
		target.Survey = survey.Take(survey.Input{Server: "s", Dialect: d, Vars: vars, FS: disk.NewTree()})
		called := one("some.zip", "oak-1.2.zip", "elm-master.tar.gz", "Yew Tree.7z", "x")
		found := intake.Examine(tree, called, d, intake.Wanted(target.Survey))
		in := intake.Assign(found, "/src/"+called, target, choices)
		fmt.Fprintf(&all, "== %d: %s of %q with %s, %d places, names %q\n%s", round, called, lines, strings.ReplaceAll(fmt.Sprintf("%+v", choices), p.dir, "/srv"), len(d.Places), d.Names.Allowed, p.whole(in))
		for i := range found.Mods {
			m := &found.Mods[i]
			fmt.Fprintf(&all, "  %s: %s, %d files, newest %d\n", m.Name, m.RootWords(), m.Files, m.Newest.Year())
		}
		var order []string
		for _, m := range in.InOrder() {
			order = append(order, m.Name)
		}
		fmt.Fprintf(&all, "  in order %q, lacking %v, ready %v, troubles %q\n", order, in.Lacking(target.Survey), in.Ready(), found.Troubles())
		for _, rule := range in.Rules {
			fmt.Fprintf(&all, "  rule %s because %s\n", rule, rule.Because)
		}
		over := intake.NewOverlay(disk.NewTree(), in.Parts, func(source, from string) []byte { return tree.Bytes(from) })
		after := survey.Take(survey.Input{Server: "s", Dialect: d, Vars: vars, FS: over})
		for i := range after.Mods {
			m := &after.Mods[i]
			fmt.Fprintf(&all, "  then %s %s at %s, on %v, registered at %+v\n", m.Name, m.Release, strings.TrimPrefix(m.Path, p.dir), m.On, intake.Position(after, m.Name))
		}
		fs.WalkDir(over, p.dir[1:], func(full string, e fs.DirEntry, err error) error {
			below := strings.TrimPrefix(full, p.dir[1:])
			if err != nil || e.IsDir() {
				fmt.Fprintf(&all, "  %s/ %v", below, err)
				return nil
			}
			info, err := e.Info()
			insist.OK(t, err)
			data, _ := fs.ReadFile(over, full)
			fmt.Fprintf(&all, " %s %s %d %.12q", filepath.Base(below), info.Mode(), info.Size(), data)
			return nil
		})
		all.WriteString("\n")
		for _, name := range names[:4] {
			if target.Survey.Find(name) == nil {
				continue
			}
			removal := intake.Remove(name, target, lineup.Choices{Leavings: r.IntN(2) == 0})
			fmt.Fprintf(&all, "-- %s goes\n%s", name, p.wholeRemoval(removal))
		}
	}
	golden.Check(t, "varied.txt", all.String())
}

// What is kept while an archive is read, and what is not unpacked, by families.
func TestKeptForFamilies(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	var all strings.Builder
	for range 12 {
		d := parse(t, family(r))
		keep, packed := intake.Interesting([]*dialect.Dialect{d}), intake.PackedForms([]*dialect.Dialect{d})
		for _, name := range []string{"a/wheel.toml", "hub", "init.run", "more.json", "train.txt", "x/pack.txt", "keys/a.key", "a.key", "mill.start", "README", "read me.txt", "readme.bin", "p_oak.pak", "p_.pak", "q_oak.pak", "oak.cap", ".cap", "x.png"} {
			fmt.Fprintf(&all, "%s %v %v %v %v; ", name, keep(name, 64<<10), keep(name, 64<<10+1), keep(name, 2<<20), packed("a/"+name))
		}
		for _, size := range []int64{1 << 20, 1<<20 + 1} {
			fmt.Fprintf(&all, "%v ", keep("wheel.toml", size))
		}
		all.WriteString("\n")
	}
	golden.Check(t, "kept.txt", all.String())
}

func put(t *testing.T, name, data string) {
	t.Helper()
	insist.OK(t, os.MkdirAll(filepath.Dir(name), 0o755))
	insist.OK(t, os.WriteFile(name, []byte(data), map[bool]fs.FileMode{true: 0o755, false: 0o644}[strings.HasSuffix(name, ".sh")]))
}
