package check_test

import (
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/survey"
	"initium/internal/insist"
)

//go:embed testdata/harbour.toml
var harbour string

//go:embed testdata/keyed.toml
var keyed string

type world map[string]string

// mods adds mods to a world: "name" or "name: needs, comma separated".
func (w world) mods(list ...string) world {
	for _, item := range list {
		name, needs, _ := strings.Cut(item, ":")
		base := name[strings.LastIndexByte(name, '/')+1:]
		about := fmt.Sprintf("name = %q\nrelease = '1.0'\n", base)
		if needs != "" {
			about += fmt.Sprintf("needs = ['%s']\n", strings.Join(strings.Split(strings.TrimSpace(needs), ", "), "', '"))
		}
		w["mods/"+name+"/about.toml"] = about
		w["mods/"+name+"/main"] = ""
	}
	return w
}

func (w world) input(t testing.TB, source string) survey.Input {
	t.Helper()
	d, err := dialect.Parse("test.toml", []byte(source))
	insist.OK(t, err)
	fsys := fstest.MapFS{}
	for name, data := range w {
		if strings.HasSuffix(name, "/") {
			fsys["srv/"+strings.TrimSuffix(name, "/")] = &fstest.MapFile{Mode: 0o755 | 1<<31}
			continue
		}
		fsys["srv/"+name] = &fstest.MapFile{Data: []byte(data)}
	}
	return survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv", "port": "7", "program": "/x"}, FS: fsys}
}

// codes writes findings down: "code mod@line", a warning with ~ before it; notes, with a dot,
// are left out unless asked for.
func codes(findings []check.Finding, notes bool) string {
	var words []string
	for _, f := range findings {
		if f.Severity == check.Note && !notes {
			continue
		}
		word := map[check.Severity]string{check.Warning: "~", check.Note: "."}[f.Severity] + string(f.Code)
		if f.Mod != "" {
			word += " " + f.Mod
		}
		if f.Line > 0 {
			word += fmt.Sprintf("@%d", f.Line)
		}
		words = append(words, word)
	}
	return strings.Join(words, "; ")
}

var harbourRows = map[string]struct {
	world world
	want  string
}{
	"all is well":        {world{"start": "let licence L\nuse a\nuse b\n"}.mods("a", "b: a"), ""},
	"not there":          {world{"start": "let licence L\nuse a\n"}, "mod-missing a@2"},
	"another case":       {world{"start": "let licence L\nuse Alpha\n"}.mods("alpha"), "mod-case Alpha@2"},
	"nested":             {world{"start": "let licence L\nuse alpha\n", "mods/alpha/alpha-1.2/main": ""}, "mod-nested alpha@2"},
	"nested below about": {world{"start": "let licence L\nuse alpha\n", "mods/alpha/alpha/main": "", "mods/alpha/about.toml": ""}, "mod-nested alpha@2"},
	"suffix":             {world{"start": "let licence L\nuse alpha\n", "mods/alpha-main/main": ""}, "mod-suffix alpha@2"},
	"release suffix":     {world{"start": "let licence L\nuse alpha\n", "mods/alpha_v1.2.3/main": ""}, "mod-suffix alpha@2"},
	"slip of the hand":   {world{"start": "let licence L\nuse tide_tabels\n"}.mods("tide_tables"), "mod-missing tide_tabels@2"},
	"empty folder":       {world{"start": "let licence L\nuse alpha\n", "mods/alpha/": ""}, "folder-empty alpha@2"},
	"foreign folder":     {world{"start": "let licence L\nuse alpha\n", "mods/alpha/readme": ""}, "folder-foreign alpha@2"},
	"twice":              {world{"start": "let licence L\nuse a\nuse a\n"}.mods("a"), "~registered-twice a@3"},
	"once on, once off":  {world{"start": "let licence L\nuse a\n# use a\n"}.mods("a"), ""},
	"need missing":       {world{"start": "let licence L\nuse a\n"}.mods("a: z"), "need-missing a@2"},
	"need unregistered":  {world{"start": "let licence L\nuse a\n"}.mods("a: b", "b"), "need-missing a@2"},
	"need off":           {world{"start": "let licence L\n# use b\nuse a\n"}.mods("a: b", "b"), "need-missing a@3"},
	"need late":          {world{"start": "let licence L\nuse a\nuse b\n"}.mods("a: b", "b"), "need-late a@2"},
	"need of the server": {world{"start": "let licence L\nuse a\n", "own/core/about.toml": "name = 'core'"}.mods("a: core"), ""},
	"manifest":           {world{"start": "let licence L\nuse a\n", "mods/a/about.toml": "name = \n", "mods/a/main": ""}, "manifest-unreadable a@1"},
	"another name":       {world{"start": "let licence L\nuse a\n", "mods/a/about.toml": "name = 'b'\n", "mods/a/main": ""}, "name-differs a@2"},
	"no main":            {world{"start": "let licence L\nuse a\n", "mods/a/about.toml": "name = 'a'\n"}, "main-missing a@2"},
	"category":           {world{"start": "let licence L\nuse +lights\n"}.mods("+lights/a", "+lights/b: a"), ""},
	"category in part":   {world{"start": "let licence L\nuse +lights\nuse b\n"}.mods("+lights/a: b", "b"), "need-late a@2"},
	"category empty":     {world{"start": "let licence L\nuse +lights\n", "mods/+lights/": ""}, "group-empty +lights@2"},
	"no licence":         {world{"start": "use a\n"}.mods("a"), "setting-missing"},
	"placeholder":        {world{"start": "use a\nlet licence PUT-IT-HERE\n"}.mods("a"), "setting-placeholder@2"},
	"include":            {world{"start": "let licence L\nalso more\n"}, "include-missing@2"},
	"words":              {world{"start": "let licence L\nuse a b\n"}, "line-unreadable@2"},
	"two of one name":    {world{"start": "let licence L\nuse a\n"}.mods("a", "+g/a"), "~name-twice a"},
	"forbidden":          {world{"start": "let licence L\nuse A\n"}.mods("A"), "name-forbidden A@2"},
	"no file":            {world{}, "~file-missing"},
	"off all the same":   {world{"start": "let licence L\n# use x\n", "always/x/about.toml": "name = 'x'"}, "~loads-anyway x@2"},
	"off is not checked": {world{"start": "let licence L\n# use zzz\n"}, ""},
}

func TestFindings(t *testing.T) {
	for name, test := range harbourRows {
		insist.Same(t, name, codes(check.Run(survey.Take(test.world.input(t, harbour)), check.Surroundings{}).Findings, false), test.want)
	}
}

var keyedRows = map[string]struct {
	world world
	want  string
}{
	"order is the server's": {world{"start": "load_a = true\nload_b = yes\n"}.mods("a: b", "b"), ""},
	"a folder's name":       {world{"start": "load_folder = true\n", "mods/folder/about.toml": "name = 'real'"}, "mod-renamed folder@1"},
	"a bundle":              {world{"start": "load_bund = true\n", "mods/bund/pack": ""}.mods("bund/a"), "mod-bundle bund@1"},
	"in a bundle":           {world{"start": "load_a = true\n", "mods/bund/pack": ""}.mods("bund/a"), ""},
	"a value":               {world{"start": "load_a = False\n"}.mods("a"), "value-unknown a@1"},
	"a path":                {world{"start": "load_a = mods/a\n"}.mods("a"), ""},
	"no assignment":         {world{"start": "load_a\n"}.mods("a"), "line-unreadable@1"},
}

func TestKeyedFindings(t *testing.T) {
	for name, test := range keyedRows {
		insist.Same(t, name, codes(check.Run(survey.Take(test.world.input(t, keyed)), check.Surroundings{}).Findings, false), test.want)
	}
}

func TestNotes(t *testing.T) {
	w := world{"start": "let licence L\n", "mods/junk/readme": "", "mods/hollow/": "", "mods/deep/deep/main": "", "own/core/about.toml": ""}.mods("spare")
	got := codes(check.Run(survey.Take(w.input(t, harbour)), check.Surroundings{}).Findings, true)
	want := "~stray-nested; .not-registered spare; .stray-empty; .stray-folder"
	insist.Same(t, "notes", got, want)
}

func TestFacts(t *testing.T) {
	s := survey.Take(world{"start": "let licence L\n"}.input(t, harbour))
	facts := check.Surroundings{Missing: map[string]string{"program": "/x is not there"}, PortBusy: "another program has it"}
	insist.Same(t, "findings", codes(check.Run(s, facts).Findings, false), "given-missing; port-busy")
	facts.Running = true
	insist.Same(t, "the server's own port is reported", codes(check.Run(s, facts).Findings, false), "given-missing")
}

// TestRemedies carries out what is offered, and looks that it mends.
func TestRemedies(t *testing.T) {
	for name, test := range map[string]struct {
		source string
		world  world
		want   string // the startup file afterwards
	}{
		"move the dependent down": {harbour, world{"start": "let licence L\nuse a\nuse x\nuse b\nuse c\n"}.mods("a: b, c", "b", "c", "x"), "let licence L\nuse x\nuse b\nuse c\nuse a\n"},
		"move the need up":        {harbour, world{"start": "let licence L\nuse a\nuse x\nuse b\n"}.mods("a: b", "b", "x: a"), "let licence L\nuse b\nuse a\nuse x\n"},
		"move a category":         {harbour, world{"start": "let licence L\nuse +g\nuse b\n"}.mods("+g/a: b", "b"), "let licence L\nuse b\nuse +g\n"},
		"register a need":         {harbour, world{"start": "let licence L\nuse a\n"}.mods("a: b", "b"), "let licence L\nuse b\nuse a\n"},
		"switch a need on":        {harbour, world{"start": "let licence L\n# use b\nuse a\n"}.mods("a: b", "b"), "let licence L\nuse b\nuse a\n"},
		"right the case":          {harbour, world{"start": "let licence L\nuse Alpha\n"}.mods("alpha"), "let licence L\nuse alpha\n"},
		"right the spelling":      {harbour, world{"start": "let licence L\nuse tide_tabels\n"}.mods("tide_tables"), "let licence L\nuse tide_tables\n"},
		"keep one of two":         {harbour, world{"start": "let licence L\nuse a\nuse a\n"}.mods("a"), "let licence L\nuse a\n"},
		"wrong one beside right":  {harbour, world{"start": "let licence L\nuse Alpha\nuse alpha\n"}.mods("alpha"), "let licence L\nuse alpha\n"},
		"wrong one, right is off": {harbour, world{"start": "let licence L\nuse Alpha\n# use alpha\n"}.mods("alpha"), "let licence L\nuse alpha\n"},
		"the mod's own name":      {keyed, world{"start": "load_folder = true\n", "mods/folder/about.toml": "name = 'real'"}, "load_real = true\n"},
		"a value":                 {keyed, world{"start": "load_a = False\n"}.mods("a"), "load_a = true\n"},
		"a key for a need":        {keyed, world{"start": "load_a = true\n"}.mods("a: b", "b"), "load_a = true\nload_b = true\n"},
	} {
		in := test.world.input(t, test.source)
		now := survey.Take(in)
		var changes []lineup.Change
		for _, f := range check.Run(now, check.Surroundings{}).Findings {
			if f.Severity != check.Note {
				insist.That(t, f.Remedy != "", "%s: %s has no remedy", name, f.Code)
				changes = append(changes, f.Changes...)
			}
		}
		after, err := applied(now.Lineup, changes)
		if err != nil {
			t.Errorf("%s: %v: %v", name, changes, err)
			continue
		}
		p := plan.Between(now.Lineup, after)
		if len(p.Files) != 1 {
			t.Errorf("%s: %v changes %d files", name, changes, len(p.Files))
			continue
		}
		insist.Same(t, fmt.Sprintf("%s: %v", name, changes), string(p.Files[0].Want), test.want)
		insist.Same(t, fmt.Sprintf("%s: afterwards check", name), codes(check.Run(survey.With(in, after), check.Surroundings{}).Findings, false), "")
	}
}

func TestFindingsAreSafeToShow(t *testing.T) {
	w := world{"start": "let licence L\nuse \x1b[31mred\nuse a\n", "mods/a/about.toml": "name = \"x\\u001b[2J\"\nneeds = [\"\\u001b]0;t\\u0007\"]\n", "mods/a/main": ""}
	for _, f := range check.Run(survey.Take(w.input(t, harbour)), check.Surroundings{}).Findings {
		for _, s := range []string{f.Message, f.Mod, f.File, f.Remedy} {
			insist.That(t, !strings.ContainsAny(s, "\x1b\x07"), "%s: %q", f.Code, s)
		}
	}
}

// BenchmarkSurveyAndCheck looks at 1,000 mods with some 5,000 needs.
func BenchmarkSurveyAndCheck(b *testing.B) {
	w := world{}
	start := "let licence L\n"
	for i := range 1000 {
		var needs []string
		for k := 1; k <= 5 && i-k*7 >= 0; k++ {
			needs = append(needs, fmt.Sprintf("mod_%d", i-k*7))
		}
		w.mods(fmt.Sprintf("mod_%d: %s", i, strings.Join(needs, ", ")))
		start += fmt.Sprintf("use mod_%d\n", i)
	}
	w["start"] = start
	in := w.input(b, harbour)
	dir := b.TempDir()
	for name, data := range w {
		file := filepath.Join(dir, name)
		insist.OK(b, os.MkdirAll(filepath.Dir(file), 0o755))
		insist.OK(b, os.WriteFile(file, []byte(data), 0o644))
	}
	in.FS, in.Vars["dir"] = os.DirFS("/"), dir
	for b.Loop() {
		if n := len(check.Run(survey.Take(in), check.Surroundings{}).Findings); n != 0 {
			b.Fatalf("%d findings", n)
		}
	}
}

// applied is a line-up after changes, made one after the other.
func applied(l *lineup.Lineup, changes []lineup.Change) (*lineup.Lineup, error) {
	var err error
	for _, c := range changes {
		if l, err = l.Apply(c); err != nil {
			return nil, err
		}
	}
	return l, nil
}
