package mod_test

import (
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/mod"
	"initium/internal/insist"
)

var forms = []dialect.Manifest{
	{File: "about.conf", Format: dialect.FormatKeyValue, Comment: "#", Assign: "=", Name: "name", Release: "release", Needs: "depends", OptionalNeeds: "likes", Separator: ","},
	{File: "about.toml", Format: dialect.FormatTOML, Name: "mod.name", Title: "mod.title", Release: "mod.release", Needs: "waits_for", OptionalNeeds: "likes"},
	{File: "about.json", Format: dialect.FormatJSON, Name: "name", Release: "release", Needs: "needs", Separator: " "},
	{File: "needs.txt", Format: dialect.FormatLines, OptionalMark: "?", Comment: "#"},
	{File: "main.src", Format: dialect.FormatSource, Title: "-- title: {value}", Needs: "require {value}", Settings: "read {value}", Versions: dialect.VersionsComparators},
	{File: "about.yaml", Format: dialect.FormatYAML, Needs: "needs", Conflicts: "not", Provides: "gives", Server: "server", NeedName: "id", NeedRange: "range", NeedMust: "must",
		OptionalMark: "?", ConflictMark: "!", Versions: dialect.VersionsIntervals},
	{File: "about.xml", Format: dialect.FormatXML, Name: "mod.@id", Title: "mod.title", Release: "mod.release", Needs: "mod.needs.need", NeedName: "@id", NeedRange: "@from", Versions: dialect.VersionsLeast},
	{File: "about.ini", Format: dialect.FormatINI, Assign: "=", Name: "mod/name", Release: "mod/release", Needs: "mod/need", Title: "title", Separator: ","},
}

func read(files map[string]string) mod.Manifest {
	return mod.Read(forms, func(file string) ([]byte, error) {
		if data, ok := files[file]; ok {
			return []byte(data), nil
		}
		return nil, fs.ErrNotExist
	})
}

func TestRead(t *testing.T) {
	for name, test := range map[string]struct {
		files map[string]string
		want  string // name title release | needs | optional
	}{
		"nothing":             {nil, "   |  | "},
		"key and value":       {map[string]string{"about.conf": "name = a\nrelease = 1.2\ndepends = b, c ,\nlikes=d\n"}, "a  1.2 | b c | d"},
		"table":               {map[string]string{"about.toml": "waits_for = ['b']\n[mod]\nname = 'a'\ntitle = 'A'\nrelease = 3\n"}, "a A 3 | b | "},
		"json":                {map[string]string{"about.json": `{"name": "a", "release": 1.5, "needs": "b c"}`}, "a  1.5 | b c | "},
		"json with mark":      {map[string]string{"about.json": "\xef\xbb\xbf{\"name\": \"a\"}"}, "a   |  | "},
		"numbers as written":  {map[string]string{"about.yaml": "needs:\n- {id: b, range: 2.10}\nserver: 3.30\n", "about.toml": "[mod]\nrelease = 1.20 # x\n"}, "  1.20 | b | "},
		"a number in json":    {map[string]string{"about.json": `{"name": "a", "release": 1.50}`}, "a  1.50 |  | "},
		"lines":               {map[string]string{"needs.txt": "b\n c? \n# d\n\ne\r\n"}, "   | b e | c"},
		"xml":                 {map[string]string{"about.xml": "<?xml version='1.0'?>\n<mod id='a'>\n <title>A &amp; B</title><release>1.20</release>\n <needs><need id='b' from='2'/><need id='c'/></needs>\n</mod>\n"}, "a A & B 1.20 | b c | "},
		"one need in xml":     {map[string]string{"about.xml": "<mod id='a'><needs><need id='b'/></needs></mod>"}, "a   | b | "},
		"ini":                 {map[string]string{"about.ini": "title = T\n[other]\nname = z\n[mod]\n; x\nname = \"a\"\nrelease=1.20\nneed = b, c\n"}, "a T 1.20 | b c | "},
		"ini with a key each": {map[string]string{"about.ini": "[mod]\nneed = b\nneed = c\n"}, "   | b c | "},
		"a script":            {map[string]string{"main.src": "-- title: Tide\nx = 1\n  require b >=2\nrequire c\n"}, " Tide  | b c | "},
		"one line of a kind":  {map[string]string{"main.src": "require b\n"}, "   | b | "},
		"objects":             {map[string]string{"about.yaml": "needs:\n- {id: b, range: '[1,2)'}\n- {id: c, must: false}\n- '?d'\n"}, "   | b | c d"},
		"first wins":          {map[string]string{"about.conf": "name = a\n", "about.json": `{"name": "z", "release": "2"}`}, "a  2 |  | "},
		"needs are one fact":  {map[string]string{"about.conf": "likes = x\n", "needs.txt": "y\n"}, "   |  | x"},
		"needs from the next": {map[string]string{"about.conf": "name = a\n", "needs.txt": "y\n"}, "a   | y | "},
	} {
		m := read(test.files)
		if m.File == "about.yaml" && strings.HasPrefix(name, "numbers") && (m.Needs[0].Range != "2.10" || m.Server != "3.30") {
			t.Errorf("%s: %+v", name, m)
		}
		got := m.Name + " " + m.Title + " " + m.Release + " | " + strings.Join(mod.Names(m.Needs), " ") + " | " + strings.Join(mod.Names(m.OptionalNeeds), " ")
		insist.That(t, got == test.want && m.Problem == nil, "%s: %q, problem %v; want %q", name, got, m.Problem, test.want)
	}
}

func TestProblems(t *testing.T) {
	for name, test := range map[string]struct {
		file, data string
		line       int
		message    string
	}{
		"toml":        {"about.toml", "a = 1\nb = \n", 2, ""},
		"json":        {"about.json", "{\n\"name\": }", 2, "invalid character"},
		"key":         {"about.conf", "name = a\nwhat is this\n", 2, "expected a key"},
		"xml":         {"about.xml", "<mod>\n<x>\n</mod>", 3, ""},
		"ini":         {"about.ini", "[mod\nname = a\n", 1, "not closed"},
		"wrong kind":  {"about.toml", "waits_for = 3\n", 1, "waits_for has to be a list"},
		"wrong items": {"about.toml", "waits_for = [1]\n", 1, "waits_for has to be a list"},
		"utf-16":      {"about.conf", "\xff\xfen\x00", 1, "UTF-16"},
		"binary":      {"about.json", "\x00\x01", 1, "zero byte"},
	} {
		m := read(map[string]string{test.file: test.data, "needs.txt": "still_read\n"})
		if m.Problem == nil || m.Problem.File != test.file || m.Problem.Line != test.line || !strings.Contains(m.Problem.Message, test.message) {
			t.Errorf("%s: problem %+v, want line %d with %q", name, m.Problem, test.line, test.message)
		}
		insist.That(t, len(m.Needs) == 1, "%s: the next manifest was not read: %+v", name, m)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(0, []byte("name = a\ndepends = b\n"))
	f.Add(1, []byte("waits_for = ['b']\n"))
	f.Add(2, []byte(`{"needs": "b c", "name": {"x": []}}`))
	f.Add(3, []byte("a\nb?\n"))
	f.Fuzz(func(t *testing.T, form int, data []byte) {
		if form < 0 || form >= len(forms) {
			return
		}
		m := read(map[string]string{forms[form].File: string(data)})
		if m.Problem != nil && (m.Problem.Line < 1 || m.Problem.Message == "") {
			t.Fatalf("a problem without a place or a word: %+v", m.Problem)
		}
		for _, need := range append(m.Needs, m.OptionalNeeds...) {
			insist.Need(t, need.Name != "", "an empty need")
		}
	})
}

// What is needed and is no mod, but the server or what it runs on, is a range that the mod is
// made for.
func TestFit(t *testing.T) {
	of := func(name string) (dialect.BuildOf, bool) {
		build, ok := map[string]dialect.BuildOf{"engine": dialect.BuildServer, "loader": dialect.BuildLoader, "jvm": dialect.BuildRuntime}[name]
		return build, ok
	}
	m := mod.Manifest{Needs: []mod.Need{{Name: "a"}, {Name: "engine", Range: "~3.2"}, {Name: "jvm"}, {Name: "b", Range: "1"}}, OptionalNeeds: []mod.Need{{Name: "loader", Range: ">=0.9"}, {Name: "c"}}, Runtime: "17"}
	got := m.Fit(of)
	insist.That(t, fmt.Sprintf("%v %v %s %s %s", got.Needs, got.OptionalNeeds, got.Server, got.Loader, got.Runtime) == "[{a } {b 1}] [{c }] ~3.2  17" && len(m.Needs) == 4, "%+v of %+v", got, m)
	if got := (mod.Manifest{Server: "3", Needs: []mod.Need{{Name: "engine", Range: "4"}}}).Fit(of); got.Server != "3" || len(got.Needs) != 0 {
		t.Errorf("what the manifest says first counts: %+v", got)
	}
}
