package teach_test

import (
	"io/fs"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/mod"
	"initium/internal/core/teach"
	"initium/internal/insist"
)

// read reads a mod's files as a dialect with that table does.
func readAs(t testing.TB, table string, files map[string][]byte) mod.Manifest {
	t.Helper()
	const rest = "name = \"trial\"\n[[place]]\npath = \"{dir}/mods\"\n[start]\ncommand = [\"x\"]\n[[log.rule]]\nmeans = \"ready\"\nline = \"ready\"\n"
	d, err := dialect.Parse("trial", []byte(rest+table))
	insist.OK(t, err)
	return mod.Read(d.Manifests, func(file string) ([]byte, error) {
		if data, ok := files[file]; ok {
			return data, nil
		}
		return nil, fs.ErrNotExist
	})
}

func TestFindManifest(t *testing.T) {
	known := teach.Known{Name: "rope", Number: "1004", Needs: []string{"lamp", "tide"}}
	for name, test := range map[string]struct {
		file, doc string
		holds     string // keys that are found
	}{
		"json":                 {"mod.json", `{"id": "rope", "version": "1.4", "number": 1004, "requires": ["lamp", "tide"], "icon": "x.png"}`, "name = 'id' release = 'version' number = 'number' needs = 'requires'"},
		"json, deeper":         {"mod.json", `{"format": 2, "about": {"name": "rope", "needs": {"lamp": "1", "tide": "*"}}}`, "name = 'about.name' needs = 'about.needs'"},
		"toml":                 {"mod.toml", "[mod]\nname = \"rope\"\ncode = \"1004\"\nafter = [\"lamp\", \"tide\"]\n", "name = 'mod.name' number = 'mod.code' needs = 'mod.after'"},
		"yaml":                 {"mod.yml", "title: Rope\nname: rope\nversion: 2\ndepend: [lamp, tide]\n", "name = 'name' release = 'version' needs = 'depend'"},
		"xml":                  {"mod.xml", "<mod name=\"rope\"><needs><need>lamp</need><need>tide</need></needs></mod>", "name = 'mod.@name'"},
		"keys and values":      {"mod.conf", "# rope\nname = rope\ndepends = lamp, tide\n", "name = 'name' needs = 'depends' separator = ','"},
		"with a colon":         {"mod.txt", "Name: rope\nVersion: 1.0\nDepends: lamp tide\n", "assign = ':' name = 'Name' release = 'Version' needs = 'Depends' separator = ' '"},
		"sections":             {"mod.cfg", "[mod]\nname=rope\nneeds=lamp;tide\n", "name = 'mod/name' needs = 'mod/needs' separator = ';'"},
		"a list":               {"needs.txt", "lamp\ntide\n", "format = 'lines'"},
		"comments of a script": {"main.lua", "-- Name: rope\n-- Depends: lamp, tide\nprint(1)\n", "name = '-- Name: {value}' needs = '-- Depends: {value}'"},
		"a script":             {"main.lua", "name = \"rope\"\nrequires = \"lamp, tide\"\n", "name = 'name = \"{value}\"' needs = 'requires = \"{value}\"'"},
	} {
		files := map[string][]byte{test.file: []byte(test.doc), "other.bin": {0, 1, 2}}
		m, ok := teach.FindManifest(files, known)
		if !ok {
			t.Errorf("%s: nothing is found", name)
			continue
		}
		for _, key := range strings.Split(test.holds, "' ") {
			insist.Holds(t, name, m.Text, strings.TrimSuffix(key, "'"))
		}
		got := readAs(t, m.Text, files)
		if m.Needs != (strings.Contains(test.holds, "needs") || strings.Contains(test.holds, "lines")) || m.Needs && (!slices.Contains(mod.Names(got.Needs), "lamp") || !slices.Contains(mod.Names(got.Needs), "tide")) {
			t.Errorf("%s: needs are %v, by\n%s", name, mod.Names(got.Needs), m.Text)
		}
		if m.Named && got.Name != "rope" {
			t.Errorf("%s: the name is %q, by\n%s", name, got.Name, m.Text)
		}
		if strings.Contains(test.holds, "number") && got.Number != "1004" {
			t.Errorf("%s: the number is %q", name, got.Number)
		}
	}
	if m, ok := teach.FindManifest(map[string][]byte{"a.json": []byte(`{"id": "gull"}`), "b.conf": []byte("x = 1\n")}, known); ok {
		t.Errorf("where nothing says it, %s is found", m.Text)
	}
}

// FuzzFindManifest: whatever the file, what is found reads what is known.
func FuzzFindManifest(f *testing.F) {
	f.Add("mod.json", `{"id": "rope", "needs": ["lamp"]}`)
	f.Add("mod.conf", "name = rope\nneeds = lamp\n")
	f.Add("mod.lua", "-- name: rope\nneed('lamp')\n")
	f.Fuzz(func(t *testing.T, file, doc string) {
		if !fs.ValidPath(file) || strings.ContainsAny(file, "{}\x00") || file == "." || len(doc) > 2000 {
			t.Skip()
		}
		files := map[string][]byte{file: []byte(doc)}
		m, ok := teach.FindManifest(files, teach.Known{Name: "rope", Needs: []string{"lamp"}})
		if !ok {
			return
		}
		got := readAs(t, m.Text, files)
		if m.Named && got.Name != "rope" || m.Needs && !slices.Contains(mod.Names(got.Needs), "lamp") {
			t.Errorf("%+v is read by\n%s", got, m.Text)
		}
	})
}

// What is pointed at may be the first of a list in quotes, one of a whole document, or one of a list
// beside another; a release is no part of what all names end in.
func TestMoreRegistrations(t *testing.T) {
	for name, test := range map[string]struct{ file, doc, mod, mods string }{
		"first, in quotes": {"x.conf", "rides = \"gull;lamp\"\nguards = \"kelp;tide\"\n", "kelp", "kelp tide"},
		"and a comment":    {"x.conf", "libs = 'gull, lamp'\t# both\n", "gull", "gull lamp"},
		"a document":       {"x.json", "[\n  \"gull\",\n  \"lamp\"\n]\n", "lamp", "gull lamp"},
		"a statement":      {"x.conf", "load_it /usr/lib/gull.so;\nload_it /usr/lib/lamp.so;\n", "lamp", "gull lamp"},
	} {
		r, err := teach.FindSiblings(test.file, []byte(test.doc), test.mod)
		insist.OK(t, err)
		insist.Same(t, name, strings.Join(r.Mods, " "), test.mods)
		again := r.Renamed("other name")
		insist.Holds(t, name, again.Text, "name = 'other name'")
		insist.Same(t, name+": lines", strings.Count(again.Text, "\n"), strings.Count(r.Text, "\n"))
	}
	r, err := teach.FindSiblings("x.conf", []byte("load_it /usr/lib/gull.so;\nload_it /usr/lib/lamp.so;\n"), "lamp")
	insist.OK(t, err)
	insist.Same(t, "the folder", strings.Join(r.Paths, " "), "/usr/lib")
}

// What stands before messages may be the number and the role of a process, and its own number each time.
func TestPrefixesOfProcesses(t *testing.T) {
	var roles, numbers []string
	for i, word := range []string{"waking", "loading gull", "loading lamp", "ready to serve", "saving", "tick", "tock", "done"} {
		roles = append(roles, "1907:M 28 Nov 2026 21:07:4"+string(rune('0'+i))+".597 * "+word)
		numbers = append(numbers, "2026-11-28 21:28:4"+string(rune('0'+i))+".377 UTC ["+string(rune('1'+i))+"493] LOG:  "+word)
	}
	insist.Same(t, "roles", teach.FindPrefix(roles).Pattern, "{source} {time} ")
	insist.Same(t, "numbers", teach.FindPrefix(numbers).Pattern, "{time} [{source}] {any}: ")
}
