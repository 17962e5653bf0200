package planner_test

import (
	"context"
	"crypto/sha256"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/planner"
	"initium/internal/core/sqlscript"
	"initium/internal/core/survey"
	"initium/internal/core/table"
	"initium/internal/host/disk"
	"initium/internal/insist"
)

//go:embed testdata/loom.toml
var loom string

// shed is a server in a folder of its own, with sources that can be brought to it.
type shed struct {
	t       *testing.T
	in      survey.Input
	dir     string
	sources map[string]*intake.Tree
	backup  []plan.Part
	family  string
	failing error // of the target
}

func newShed(t *testing.T, files map[string]string) *shed {
	t.Helper()
	d, err := dialect.Parse("loom.toml", []byte(loom))
	insist.OK(t, err)
	s := &shed{t: t, dir: t.TempDir(), sources: map[string]*intake.Tree{}}
	for name, data := range files {
		full := filepath.Join(s.dir, name)
		insist.OK(t, os.MkdirAll(filepath.Dir(full), 0o755))
		insist.OK(t, os.WriteFile(full, []byte(data), 0o644))
	}
	s.in = survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": s.dir}, FS: disk.NewTree()}
	return s
}

// comes makes a source of lines as "path: content".
func (s *shed) comes(name string, lines ...string) {
	s.t.Helper()
	b := intake.NewBuilder(intake.DefaultBounds())
	for _, line := range lines {
		path, data, _ := strings.Cut(line, ": ")
		e := intake.Entry{Kind: intake.File, Size: int64(len(data)), Data: []byte(data), Sum: sha256.Sum256([]byte(data))}
		var err error
		e.Path, err = b.Reserve(path, e.Kind)
		insist.OK(s.t, errors.Join(err, b.Add(e)))
	}
	tree, err := b.Tree()
	insist.OK(s.t, err)
	s.sources[name] = tree
}

func (s *shed) Survey(parts []plan.Part, lines *lineup.Lineup) *survey.Survey {
	in := s.in
	in.FS = intake.NewOverlay(s.in.FS, parts, func(source, from string) []byte { return s.sources[source].Bytes(from) })
	return survey.With(in, lines)
}

func (s *shed) Target(seen *survey.Survey, _ []plan.Part) (*intake.Target, error) {
	contents := &disk.Digests{}
	return &intake.Target{Survey: seen, List: contents.List, Writable: disk.Writable, Exists: func(name string) bool { _, err := os.Lstat(name); return err == nil },
		Release: func(string) ([]plan.Item, bool) { return nil, false }, Owner: func(string) intake.Owner { return intake.Owner{} },
		Laid: func(string) ([]intake.Laid, error) { return nil, nil }}, s.failing
}

func (s *shed) Open(_ context.Context, source string, _ *lineup.Choices) (string, *intake.Tree, error) {
	if tree := s.sources[source]; tree != nil {
		return source, tree, nil
	}
	return "", nil, fs.ErrNotExist
}

func (s *shed) Family(context.Context, string, *lineup.Choices) string { return s.family }

func (s *shed) File(name string) ([]byte, error) { return survey.Source(s.in.FS, name) }

func (s *shed) Origins(string) ([]table.Origin, error) { return nil, nil }

func (s *shed) Shipped(*survey.Mod, []plan.Part) ([]intake.Shipped, error) { return nil, nil }

func (s *shed) Script(context.Context, string, string) ([]byte, error) { return nil, fs.ErrNotExist }

func (s *shed) Database() (string, string, error) { return "", "", errors.New("no database") }

func (s *shed) Tables(context.Context, []sqlscript.Statement, []string, bool) (*sqlscript.Snapshot, error) {
	return nil, nil
}

func (s *shed) RunScript(context.Context, []byte, []sqlscript.Statement) ([]byte, []string, error) {
	return nil, nil, fs.ErrNotExist
}

func (s *shed) Ran(string, string) (int, error) { return 0, nil }

func (s *shed) Entries(file string) ([]byte, error) { return survey.Source(s.in.FS, file) }

func (s *shed) Use(string, string, func(string) ([]byte, error)) (*planner.Using, error) {
	return &planner.Using{Given: []plan.Given{{Name: "build", Now: "/srv/2"}}}, s.failing
}

func (s *shed) Renew(name string) ([]plan.Part, error) {
	return []plan.Part{{Path: "/srv/" + name, What: "the " + name, Old: "x"}}, s.failing
}

func (s *shed) Restore(_ context.Context, file string) ([]plan.Part, error) {
	if file != "b" {
		return nil, fs.ErrNotExist
	}
	return s.backup, nil
}

// made plans changes, and writes down what the startup files say then, what comes, and what
// the survey sees.
func (s *shed) made(changes ...lineup.Change) (string, error) {
	p := planner.New(s.t.Context(), s, survey.Take(s.in))
	if err := p.Make(changes...); err != nil {
		return "", err
	}
	made, seen := p.Plan()
	var words []string
	for _, f := range made.Files {
		words = append(words, fmt.Sprintf("%s %q", filepath.Base(f.Path), f.Want))
	}
	for _, part := range made.Parts {
		words = append(words, fmt.Sprintf("%s %v", strings.TrimPrefix(part.Path, s.dir+"/"), part.New != ""))
	}
	var on []string
	for i := range seen.Mods {
		if m := &seen.Mods[i]; m.On && m.Path != "" {
			on = append(on, m.Name)
		}
	}
	if !slices.EqualFunc(made.Changes, changes, func(a, b lineup.Change) bool { return a.String() == b.String() }) {
		s.t.Errorf("the plan is of %v, not of %v", made.Changes, changes)
	}
	return strings.Join(append(words, "on: "+strings.Join(on, " ")), "; "), nil
}

func TestMake(t *testing.T) {
	files := map[string]string{"loom.start": "weave red\n", "loom.clients": "", "threads/red/thread.toml": "name = 'red'", "threads/blue/thread.toml": "name = 'blue'\nneeds = ['red']",
		"threads/veil/thread.toml": "name = 'veil'\nside = 'client'", "own/warp/thread.toml": "name = 'warp'", "threads/box/spool": "", "threads/box/gold/thread.toml": "name = 'gold'"}
	const (
		take   = lineup.OpTake
		remove = lineup.OpRemove
		put    = lineup.OpRegister
	)
	agree, quiet := &lineup.Choices{Agree: true}, &lineup.Choices{Quiet: true}
	for name, test := range map[string]struct {
		changes []lineup.Change
		want    string // or how the error begins
		refused bool
	}{
		"nothing":                      {nil, "on: red", false},
		"registered":                   {[]lineup.Change{{Op: put, Mod: "blue"}}, `loom.start "weave red\nweave blue\n"; on: red blue`, false},
		"on the list of its side":      {[]lineup.Change{{Op: put, Mod: "veil"}}, `loom.clients "weave veil\n"; on: veil red`, false},
		"on the list that is said":     {[]lineup.Change{{Op: put, Mod: "veil", Registration: "script"}}, `loom.start "weave red\nweave veil\n"; on: red veil`, false},
		"unknown":                      {[]lineup.Change{{Op: put, Mod: "green"}}, `there is no mod "green" on this server; a name has to be exact`, true},
		"by other capitals":            {[]lineup.Change{{Op: put, Mod: "Blue"}}, `there is no mod "Blue" on this server; the one that you mean is called blue`, true},
		"the server's own":             {[]lineup.Change{{Op: put, Mod: "warp"}}, "warp is the server's own", true},
		"a bundle":                     {[]lineup.Change{{Op: put, Mod: "box"}}, `loom.start "weave red\nweave box\n"; on: red`, false},
		"registered twice":             {[]lineup.Change{{Op: put, Mod: "red"}}, "red is registered already", true},
		"one after the other":          {[]lineup.Change{{Op: put, Mod: "blue"}, {Op: lineup.OpOff, Mod: "red"}, {Op: lineup.OpMove, Mod: "blue", Where: lineup.Where{Before: "red"}}}, `loom.start "weave blue\n# weave red\n"; on: blue`, false},
		"the first that cannot be":     {[]lineup.Change{{Op: put, Mod: "blue"}, {Op: put, Mod: "blue"}, {Op: put, Mod: "x"}}, "blue is registered already", true},
		"taken in":                     {[]lineup.Change{{Op: take, Mod: "gray", Source: "gray.zip"}}, `loom.start "weave red\nweave gray\n"; threads/gray true; on: red gray`, false},
		"taken in at a place":          {[]lineup.Change{{Op: take, Mod: "gray", Source: "gray.zip", Where: lineup.Where{Before: "red"}}}, `loom.start "weave gray\nweave red\n"; threads/gray true; on: gray red`, false},
		"taken in, files only":         {[]lineup.Change{{Op: take, Mod: "gray", Source: "gray.zip", Choices: quiet}}, "threads/gray true; on: red", false},
		"taken in twice":               {[]lineup.Change{{Op: take, Mod: "gray", Source: "gray.zip"}, {Op: lineup.OpOff, Mod: "gray"}, {Op: lineup.OpOn, Mod: "gray"}}, `loom.start "weave red\nweave gray\n"; threads/gray true; on: red gray`, false},
		"no such source":               {[]lineup.Change{{Op: take, Source: "none.zip"}}, "file does not exist", false},
		"taken out":                    {[]lineup.Change{{Op: remove, Mod: "red"}}, `loom.start ""; threads/red false; on:`, false},
		"taken out, with a dependent":  {[]lineup.Change{{Op: put, Mod: "blue"}, {Op: remove, Mod: "red"}}, "to take out red needs an answer; nothing was written\nblue cannot do without it and will not load.", false},
		"taken out all the same":       {[]lineup.Change{{Op: put, Mod: "blue"}, {Op: remove, Mod: "red", Choices: agree}}, `loom.start "weave blue\n"; threads/red false; on: blue`, false},
		"taken out, then registered":   {[]lineup.Change{{Op: remove, Mod: "red"}, {Op: put, Mod: "red"}}, `there is no mod "red" on this server`, true},
		"a bundle that is not on":      {[]lineup.Change{{Op: lineup.OpOff, Mod: "box"}}, "box is not registered", true},
		"the server's own, off":        {[]lineup.Change{{Op: lineup.OpOff, Mod: "warp"}}, "warp is not registered", true},
		"what is not there, taken out": {[]lineup.Change{{Op: remove, Mod: "green"}}, "to take out green cannot be done; nothing was written", false},
		"a name to be agreed to":       {[]lineup.Change{{Op: take, Mod: "x", Source: "odd.zip"}}, "to take in x needs an answer; nothing was written\nIt came as \"Odd One\", which loom does not allow as a name. Is odd_one right?", false},
		"agreed":                       {[]lineup.Change{{Op: take, Mod: "x", Source: "odd.zip", Choices: agree}}, `loom.start "weave red\nweave odd_one\n"; threads/odd_one true; on: red odd_one`, false},
		"of another family":            {[]lineup.Change{{Op: take, Mod: "x", Source: "other.zip"}}, "to take in x cannot be done; nothing was written\nnothing in other.zip is a mod for loom: there is no thread.toml in it\nit looks like a kite", false},
		"a world comes back":           {[]lineup.Change{{Op: lineup.OpRestore, Source: "b"}}, "world true; on: red", false},
		"from no backup":               {[]lineup.Change{{Op: lineup.OpRestore, Source: "c"}}, "file does not exist", false},
	} {
		s := newShed(t, files)
		s.family, s.backup = "it looks like a kite", []plan.Part{{Path: s.dir + "/world", New: "x", Items: []plan.Item{{Folder: true}}}}
		s.comes("gray.zip", "gray/thread.toml: name = 'gray'")
		s.comes("odd.zip", "Odd One/thread.toml: release = '1'")
		s.comes("other.zip", "other/kite.txt: x")
		got, err := s.made(test.changes...)
		if err != nil {
			got = err.Error()
		}
		var refused planner.Refusal
		insist.That(t, strings.HasPrefix(got, test.want) && errors.As(err, &refused) == test.refused, "%s:\n got %s, refused %v\nwant %s", name, got, errors.As(err, &refused), test.want)
		var open *planner.Unanswered
		insist.That(t, errors.As(err, &open) == strings.HasPrefix(test.want, "to "), "%s: unanswered %v", name, open)
	}
	s := newShed(t, files)
	s.failing = errors.New("no target")
	s.comes("gray.zip", "gray/thread.toml: name = 'gray'")
	for _, op := range []lineup.Op{take, remove} {
		if _, err := s.made(lineup.Change{Op: op, Mod: "red", Source: "gray.zip"}); !errors.Is(err, s.failing) {
			t.Errorf("%s without a target: %v", op, err)
		}
	}
}

// A change that names no list concerns all on which a mod stands; only what is registered gets
// one of its own. What a category folder names is changed by that, and a family of presence
// needs no line for what comes.
func TestListsOfChanges(t *testing.T) {
	s := newShed(t, map[string]string{"loom.start": "weave red\n", "loom.clients": "weave red\n", "threads/red/thread.toml": "name = 'red'", "threads/veil/thread.toml": "name = 'veil'\nside = 'client'"})
	if got, err := s.made(lineup.Change{Op: lineup.OpOff, Mod: "red"}); err != nil || !strings.Contains(got, `loom.clients "# weave red\n"; loom.start "# weave red\n"`) {
		t.Errorf("off: %s, %v", got, err)
	}
	if got, err := s.made(lineup.Change{Op: lineup.OpSet, Mod: "pace", To: "3", Registration: "script"}); err != nil || !strings.Contains(got, "let pace 3") {
		t.Errorf("set: %s, %v", got, err)
	}
	d, err := dialect.Parse("group.toml", []byte(strings.Replace(loom, "bundle = [\"spool\"]", "group = \"+\"", 1)))
	insist.OK(t, err)
	s = newShed(t, map[string]string{"loom.start": "weave +reds\n", "loom.clients": "", "threads/+reds/red/thread.toml": "name = 'red'", "threads/+blues/blue/thread.toml": "name = 'blue'"})
	s.in.Dialect = d
	insist.Fails(t, "of a category", insist.Err(s.made(lineup.Change{Op: lineup.OpOff, Mod: "red"})), "red is registered through its category folder; change +reds instead")
	s.comes("rose.zip", "+reds/rose/thread.toml: name = 'rose'")
	s.comes("greens.zip", "+greens/moss/thread.toml: name = 'moss'", "+greens/fern/thread.toml: name = 'fern'")
	for source, want := range map[string]string{"rose.zip": "on: red rose", "greens.zip": `loom.start "weave +reds\nweave +greens\n"`} {
		if got, err := s.made(lineup.Change{Op: lineup.OpTake, Mod: "x", Source: source}); err != nil || !strings.Contains(got, want) {
			t.Errorf("%s: %s, %v", source, got, err)
		}
	}
	presence, err := dialect.Parse("presence.toml", []byte(strings.NewReplacer("shape = \"line\"\ncomment = \"#\"\nline = \"weave {mod}\"\nsetting = \"let {name} {value}\"", "shape = \"presence\"\nat = \"{mod}\"\naside = \"{mod}.off\"", "{dir}/loom.start", "{dir}/threads").Replace(loom[:strings.Index(loom, "[[registration]]")]+loom[strings.Index(loom, "[[registration]]\nname = \"script\""):])))
	insist.OK(t, err)
	s = newShed(t, map[string]string{"threads/red/thread.toml": "name = 'red'"})
	s.in.Dialect = presence
	s.comes("rose.zip", "rose/thread.toml: name = 'rose'")
	if got, err := s.made(lineup.Change{Op: lineup.OpTake, Mod: "x", Source: "rose.zip"}); err != nil || !strings.HasPrefix(got, "threads/rose true; on: ") {
		t.Errorf("by presence: %s, %v", got, err)
	}
}

// What is open is said in lines: what cannot be helped first.
func TestUnanswered(t *testing.T) {
	open := planner.Unanswered{About: "take x.zip in", Questions: []intake.Question{{Text: "Is it a?"}, {Text: "Or b?"}}}
	if got, want := open.Error(), "to take x.zip in needs an answer; nothing was written\nIs it a?\nOr b?"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
	open.Problems = []string{"there is no room", "nor time"}
	if got, want := open.Error(), "to take x.zip in cannot be done; nothing was written\nthere is no room\nnor time\nIs it a?\nOr b?"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
}
