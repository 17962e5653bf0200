package survey_test

import (
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"initium/internal/core/dialect"
	"initium/internal/core/mod"
	"initium/internal/core/survey"
	"initium/internal/insist"
)

//go:embed testdata/source.toml
var source string

func take(t *testing.T, files map[string]string) *survey.Survey {
	t.Helper()
	d, err := dialect.Parse("s.toml", []byte(source))
	insist.OK(t, err)
	fsys := fstest.MapFS{}
	for name, data := range files {
		fsys["srv/"+name] = &fstest.MapFile{Data: []byte(data)}
	}
	return survey.Take(survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: fsys})
}

func sum(s *survey.Survey) string {
	var words []string
	for _, m := range s.Mods {
		word := fmt.Sprintf("%d%s", m.Position, m.Name)
		for mark, set := range map[string]bool{"-": m.Registered && !m.On, "?": m.Path == "", "*": m.Base} {
			if set {
				word += mark
			}
		}
		if m.Section != "" {
			word += "@" + m.Section
		}
		words = append(words, word)
	}
	return strings.Join(words, " ")
}

func TestTake(t *testing.T) {
	for name, test := range map[string]struct {
		files map[string]string
		want  string
	}{
		"order and sections": {map[string]string{"start": "use b\n## One\nuse a\n# use c\nuse gone\n", "mods/a/x": "", "mods/b/x": "", "mods/c/x": "", "mods/d/x": ""},
			"1b 2a@One 3c-@One 4gone?@One 0d"},
		"names from manifests": {map[string]string{"start": "use real\n", "mods/folder/about": "name = real\nrelease = 2\n"}, "1real"},
		"category line":        {map[string]string{"start": "use z\nuse +g\n", "mods/+g/b/x": "", "mods/+g/a/x": "", "mods/z/x": ""}, "1z 2a 3b"},
		"bundle":               {map[string]string{"start": "use in\n", "mods/big/pack": "", "mods/big/in/x": "", "mods/big/out/x": ""}, "1in 0out"},
		"always and base":      {map[string]string{"start": "use m\n", "world/w/x": "", "own/core/x": "", "mods/m/x": ""}, "1m 0w 0core*"},
		"hidden folders":       {map[string]string{"start": "", "mods/.git/x": "", "mods/a/x": ""}, "0a"},
		"no files at all":      {nil, ""},
	} {
		insist.Same(t, name, sum(take(t, test.files)), test.want)
	}
}

// What the server's folder and a mod's are called is no pattern: the keys that a mod brings are
// found in them.
// A mark may be a pattern, of a file in the mod's folder or in one further down.
func TestMarksByPattern(t *testing.T) {
	for mark, want := range map[string]string{"*.gear": "0a", "in/*.gear": "0b", "?": "0c", "*": "0a 0c"} {
		d, err := dialect.Parse("s.toml", []byte(strings.Replace(source, "path = \"{dir}/mods\"", "path = \"{dir}/mods\"\nmark = [\""+mark+"\"]", 1)))
		insist.OK(t, err)
		fsys := fstest.MapFS{"srv/start": {}}
		for _, name := range []string{"a/one.gear", "b/in/two.gear", "c/x"} {
			fsys["srv/mods/"+name] = &fstest.MapFile{}
		}
		insist.Same(t, mark, sum(survey.Take(survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: fsys})), want)
	}
}

// A mod that is a single file may say itself what it is, in comments at its beginning.
func TestFilesThatSayWhatTheyAre(t *testing.T) {
	const family = `
name = "s"
[[place]]
path = "{dir}/mods"
file = "{mod}.lua"
[[manifest]]
file = "."
format = "source"
name = "-- Name: {value}"
release = "-- Version: {value}"
needs = "-- Depends: {value}"
separator = ","
[start]
command = ["x"]
[[log.rule]]
means = "ready"
line = "up"
`
	d, err := dialect.Parse("s.toml", []byte(family))
	insist.OK(t, err)
	s := survey.Take(survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: fstest.MapFS{
		"srv/mods/one.lua": {Data: []byte("-- Name: first\n-- Version: 1.20\n-- Depends: two, three\nreturn 1\n")}, "srv/mods/two.lua": {Data: []byte("return 2\n")}, "srv/mods/odd.lua": {Data: []byte("\x00")}}})
	m := s.Find("first")
	insist.Need(t, m != nil && s.Find("two") != nil && s.Find("odd").Manifest.Problem != nil, "%s", sum(s))
	insist.Same(t, "what it says", m.Release+" "+strings.Join(mod.Names(m.Manifest.Needs), " "), "1.20 two three")
}

func TestKeysInOddFolders(t *testing.T) {
	d, err := dialect.Parse("s.toml", []byte(source+"[keys]\nfiles = \"keys/*.key\"\ninto = \"{dir}/keys\"\n"))
	insist.OK(t, err)
	for _, odd := range []string{"srv", "a b[?#%é", "[ab]", `b\c`, "x*"} {
		base := filepath.Join(t.TempDir(), odd)
		for name, data := range map[string]string{"start": "use [m]\n", "mods/[m]/keys/one.key": "1", "mods/[m]/keys/two.key": "2", "mods/[m]/keys/three.key": "3", "keys/one.key": "1", "keys/two.key": "x"} {
			file := filepath.Join(base, name)
			insist.OK(t, os.MkdirAll(filepath.Dir(file), 0o755))
			insist.OK(t, os.WriteFile(file, []byte(data), 0o644))
		}
		s := survey.Take(survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": base}, FS: os.DirFS("/")})
		if m := s.Find("[m]"); m == nil || fmt.Sprint(m.Keys) != "[{three.key false} {two.key true}]" {
			t.Errorf("%s: %+v", odd, m)
		}
	}
}

// TestTwins: a registered mod in a place of its own wins over one that loads
// anyway, and that one over the server's.
// A need is met by the mod of that name if that is on, else by one that provides it; by one
// that is off only when there is no other.
func TestAnswer(t *testing.T) {
	d, err := dialect.Parse("s.toml", []byte(strings.Replace(source, "release = \"release\"", "release = \"release\"\nprovides = \"gives\"", 1)))
	insist.OK(t, err)
	fsys := fstest.MapFS{"srv/start": {Data: []byte("# use tide\nuse other\nuse moon\n# use sun\nuse gone\nuse third\n")}}
	for name, gives := range map[string]string{"tide": "", "other": "tide", "moon": "", "sun": "light", "fourth": "moon", "third": "gone"} {
		fsys["srv/mods/"+name+"/about"] = &fstest.MapFile{Data: []byte("gives = " + gives + "\n")}
	}
	s := survey.Take(survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: fsys})
	for need, want := range map[string]string{"tide": "other", "moon": "moon", "light": "sun", "sun": "sun", "gone": "third", "nowhere": ""} {
		got := ""
		if m := s.Answer(need); m != nil {
			got = m.Name
		}
		insist.Same(t, fmt.Sprintf("%s is met by", need), got, want)
	}
}

func TestTwins(t *testing.T) {
	files := map[string]string{"start": "use x\n", "world/x/a": "", "mods/x/a": "", "own/x/a": "", "world/y/a": "", "mods/y/a": ""}
	s := take(t, files)
	insist.Same(t, "x is the one in", s.Find("x").Path, "/srv/mods/x")
	insist.Same(t, "y is the one in", s.Find("y").Path, "/srv/world/y")
	insist.That(t, len(s.Twins) == 3, "twins are %+v", s.Twins)
}

func TestByPath(t *testing.T) {
	s := take(t, map[string]string{"start": "", "mods/a/x": "", "mods/ab/x": "", "mods/big/pack": "", "mods/big/in/x": ""})
	for path, want := range map[string]string{"/srv/mods/a/init": "a", "/srv/mods/ab": "ab", "/srv/mods/big/in/d/e": "in", "/srv/mods/abc/x": "", "/srv": ""} {
		got := ""
		if m := s.ByPath(path); m != nil {
			got = m.Name
		}
		insist.Same(t, fmt.Sprintf("ByPath(%s) =", path), got, want)
	}
}

func TestOpenRefuses(t *testing.T) {
	fsys := fstest.MapFS{"a/big": {Data: make([]byte, 100)}}
	insist.Fails(t, "a file over the limit", insist.Err(survey.Open(fsys, "/a/big", 99)), "larger")
	insist.Fails(t, "a folder", insist.Err(survey.Open(fsys, "/a", 99)), "regular")
	if data, err := survey.Open(fsys, "/a/big", 100); err != nil || len(data) != 100 {
		t.Errorf("a file at the limit: %d bytes, %v", len(data), err)
	}
}
