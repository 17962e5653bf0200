package intake_test

import (
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
	"initium/internal/core/survey"
	"initium/internal/host/disk"
	"initium/internal/insist"
)

// place is a server on the disk for settling on.
type place struct {
	t       *testing.T
	dir     string
	d       *dialect.Dialect
	release map[string][]plan.Item
	owners  map[string]intake.Owner
	failing string // what cannot be read

	laid      map[string][]intake.Laid
	laidFails error
	made      map[string]bool
}

func newPlace(t *testing.T, files map[string]string) *place {
	p := &place{t: t, dir: t.TempDir(), d: parse(t, mill), release: map[string][]plan.Item{}, owners: map[string]intake.Owner{}}
	for name, data := range files {
		full := filepath.Join(p.dir, name)
		insist.OK(t, os.MkdirAll(filepath.Dir(full), 0o755))
		insist.OK(t, os.WriteFile(full, []byte(data), 0o644))
	}
	return p
}

func (p *place) target() *intake.Target {
	contents := &disk.Digests{}
	list := func(name string) ([]plan.Item, error) {
		if p.failing != "" && strings.HasSuffix(name, p.failing) {
			return nil, fs.ErrPermission
		}
		return contents.List(name)
	}
	s := survey.Take(survey.Input{Server: "s", Dialect: p.d, Vars: dialect.Vars{"dir": p.dir}, FS: disk.NewTree()})
	return &intake.Target{Survey: s, List: list, Writable: disk.Writable,
		Exists:  func(name string) bool { _, err := os.Lstat(name); return err == nil },
		Release: func(name string) ([]plan.Item, bool) { items, ok := p.release[name]; return items, ok },
		Owner:   func(name string) intake.Owner { return p.owners[name] },
		Laid:    func(mod string) ([]intake.Laid, error) { return p.laid[mod], p.laidFails },
		Made:    func(name string) bool { return p.made[name] }}
}

func (p *place) settle(c lineup.Choices, source string, lines ...string) *intake.Intake {
	p.t.Helper()
	target := p.target()
	found := intake.Examine(mustBuild(p.t, lines...), source, p.d, intake.Wanted(target.Survey))
	return intake.Assign(found, "/src/"+source, target, c)
}

// parts writes the parts of an intake down.
func (p *place) parts(in *intake.Intake) string {
	var words []string
	for i := range in.Parts {
		part := &in.Parts[i]
		var items []string
		for _, it := range part.Items {
			s := it.Rel
			switch {
			case it.Folder:
				s += "/"
			case it.Source == "":
				s += "(kept)"
			}
			items = append(items, s)
		}
		state := "new"
		if part.Old != "" {
			state = "instead"
		}
		words = append(words, fmt.Sprintf("%s %s [%s]", strings.TrimPrefix(part.Path, p.dir+"/"), state, strings.Join(items, " ")))
	}
	return strings.Join(words, "; ")
}

func TestSettleNew(t *testing.T) {
	p := newPlace(t, map[string]string{"mill.start": ""})
	in := p.settle(lineup.Choices{}, "oak.zip", "oak/wheel.toml"+wheel, "oak/keys/oak.key: K", "oak/empty/", "oak/.DS_Store", "hill.plan: P", "grain_oak.xml")
	want := "wheels new []; keys new []; plans new []; wheels/oak new [empty/ keys/oak.key wheel.toml]; keys/oak.key new []; plans/hill.plan new []"
	if got := p.parts(in); got != want || !in.Ready() {
		t.Errorf("parts %s\nwant  %s\n%v %v", got, want, in.Questions, in.Problems)
	}
	insist.That(t, len(in.Steps) == 1 && in.Steps[0].Path == "grain_oak.xml" && strings.Contains(in.Steps[0].About, "grain.xml"), "steps %v", in.Steps)
	for i := range in.Parts {
		if part := &in.Parts[i]; part.New != plan.EmptyFolder && (part.New == "" || part.New != plan.Digest(part.Items)) {
			t.Errorf("%s has the digest %q", part.Path, part.New)
		}
	}
}

func TestSettleOverlaps(t *testing.T) {
	files := map[string]string{"mill.start": "", "plans/hill.plan": "old", "plans/same.plan": "same", "keys/oak.key": "other", "wheels/elm/wheel.toml": "", "engine/core.dat": "server's"}
	lines := []string{"oak/wheel.toml" + wheel, "hill.plan: new", "same.plan: same", "oak/keys/oak.key: mine", "engine/core.dat: mine"}
	p := newPlace(t, files)
	p.owners[filepath.Join(p.dir, "engine/core.dat")] = intake.Owner{Clean: true}
	in := p.settle(lineup.Choices{}, "oak.zip", lines...)
	insist.Need(t, len(in.Questions) == 3 && !in.Ready(), "questions %v", in.Questions)
	var whose []string
	for _, o := range in.Overlaps {
		whose = append(whose, fmt.Sprint(filepath.Base(o.Path), " ", o.Same, " ", o.Whose))
	}
	slices.Sort(whose)
	want := "core.dat false one of the server's own; hill.plan false of which nothing is known; oak.key false of which nothing is known; same.plan true of which nothing is known"
	insist.Same(t, "overlaps", strings.Join(whose, "; "), want)
	in = p.settle(lineup.Choices{Take: []string{"plans/hill.plan"}, Keep: []string{filepath.Join(p.dir, "keys/oak.key")}, Both: []string{"all"}}, "oak-2.zip", lines...)
	got := p.parts(in)
	for _, part := range []string{"plans/hill.plan instead", "engine/core.dat.from-oak-2 new", "wheels/oak new"} {
		insist.Holds(t, "parts", got, part)
	}
	insist.That(t, !strings.Contains(got, "; keys/oak.key") && in.Ready(), "parts %s, questions %v", got, in.Questions)
}

func TestSettleRefuses(t *testing.T) {
	p := newPlace(t, map[string]string{"mill.start": "", "wheels/elm/wheel.toml": "name = 'elm'", "wheels/junk/readme": "", "plans/hill.plan/x": ""})
	for name, c := range map[string]struct {
		choices lineup.Choices
		lines   []string
		word    string
	}{
		"nothing in it":     {lineup.Choices{}, []string{"a.txt"}, "no wheel.toml"},
		"two of one name":   {lineup.Choices{}, []string{"a/wheel.toml" + wheel, "b/wheel.toml" + wheel}, "two mods"},
		"no such mod":       {lineup.Choices{Only: []string{"ash"}}, []string{"a/wheel.toml" + wheel}, `no mod "ash"`},
		"a name for two":    {lineup.Choices{As: "x"}, []string{"a/wheel.toml" + wheel, "b/wheel.toml: name='elm'"}, "here are 2"},
		"a forbidden name":  {lineup.Choices{As: "X Y"}, []string{"a/wheel.toml" + wheel}, "does not allow"},
		"a climbing name":   {lineup.Choices{As: "../x"}, []string{"a/wheel.toml" + wheel}, "does not allow"},
		"no such place":     {lineup.Choices{Into: "elsewhere"}, []string{"a/wheel.toml" + wheel}, "no place"},
		"a folder in place": {lineup.Choices{}, []string{"a/wheel.toml" + wheel, "hill.plan"}, "is a folder"},
	} {
		in := p.settle(c.choices, "x.zip", c.lines...)
		insist.Holds(t, name, strings.Join(in.Problems, "\n"), c.word)
	}
	for _, p.failing = range []string{"wheels/oak", "plans/dale.plan"} {
		in := p.settle(lineup.Choices{}, "x.zip", "a/wheel.toml"+wheel, "dale.plan")
		if got := strings.Join(in.Problems, "\n"); in.Ready() || got != filepath.Join(p.dir, p.failing)+" cannot be read: permission denied" {
			t.Errorf("%s: %q", p.failing, got)
		}
	}
	p.failing = ""
	in := p.settle(lineup.Choices{}, "x.zip", "junk/wheel.toml: name='junk'")
	insist.That(t, len(in.Questions) == 1 && strings.Contains(in.Questions[0].Text, "no mod"), "a stray folder: %v", in.Questions)
	in = p.settle(lineup.Choices{}, "x.zip", "f/wheel.toml: name='Oak Tree'")
	insist.That(t, len(in.Questions) == 1 && strings.Contains(in.Questions[0].Text, "oak_tree"), "a mended name: %v", in.Questions)
	if in = p.settle(lineup.Choices{Agree: true}, "x.zip", "f/wheel.toml: name='Oak Tree'"); !in.Ready() || in.Mods[0].Name != "oak_tree" {
		t.Errorf("agreed: %v %v", in.Questions, in.Mods)
	}
}

// TestRenew goes through what can have become of a file: what came once, what is
// there, what comes.
func TestRenew(t *testing.T) {
	const none = "-"
	for _, c := range []struct {
		file, base, now, next string
		choice                lineup.Choices
		want                  string // what is in place afterwards: the next, the present one, none, or a question
	}{
		{"a.dat", "1", "1", "1", lineup.Choices{}, "next"},
		{"a.dat", "1", "1", "2", lineup.Choices{}, "next"},
		{"a.dat", "1", "9", "1", lineup.Choices{}, "kept"},
		{"a.dat", "1", "9", "2", lineup.Choices{}, "question"},
		{"a.dat", "1", "9", "2", lineup.Choices{Keep: []string{"all"}}, "kept"},
		{"a.dat", "1", "9", "2", lineup.Choices{Take: []string{"all"}}, "next"},
		{"a.dat", "1", "9", "2", lineup.Choices{Both: []string{"all"}}, "kept next"},
		{"a.dat", "1", "2", "2", lineup.Choices{}, "next"},
		{"a.dat", "1", "1", none, lineup.Choices{}, ""},
		{"a.dat", "1", "9", none, lineup.Choices{}, "kept"},
		{"a.dat", none, "9", none, lineup.Choices{}, "kept"},
		{"a.dat", none, none, "2", lineup.Choices{}, "next"},
		{"a.dat", "1", none, "1", lineup.Choices{}, ""},
		{"a.dat", "1", none, "2", lineup.Choices{}, "next"},
		{"a.dat", none, "9", "2", lineup.Choices{}, "question"},
		// Nothing is known of what came once:
		{"a.dat", "?", "9", "2", lineup.Choices{}, "next"},
		{"a.toml", "?", "9", "2", lineup.Choices{}, "question"},
		{"a.toml", "?", "9", none, lineup.Choices{}, "kept"},
		{"a.dat", "?", "9", none, lineup.Choices{}, ""},
		{"a.toml", "?", "2", "2", lineup.Choices{}, "next"},
	} {
		p := newPlace(t, map[string]string{"mill.start": ""})
		root := filepath.Join(p.dir, "wheels/oak")
		put := func(name, data string) {
			if data == none {
				return
			}
			insist.OK(t, os.MkdirAll(filepath.Join(root, filepath.Dir(name)), 0o755))
			insist.OK(t, os.WriteFile(filepath.Join(root, name), []byte(data), 0o644))
		}
		put("wheel.toml", `name = "oak"`)
		if c.base != "?" {
			put("sub/"+c.file, c.base)
			items, err := (&disk.Digests{}).List(root)
			insist.OK(t, err)
			p.release[root] = items
			os.RemoveAll(filepath.Join(root, "sub"))
		}
		put("sub/"+c.file, c.now)
		target := p.target()
		// The source is a folder on the disk too, so that sums are sums.
		next := t.TempDir()
		lines := map[string]string{"oak/wheel.toml": `name = "oak"`}
		if c.next != none {
			lines["oak/sub/"+c.file] = c.next
		}
		in := intake.Assign(intake.Examine(treeOf(t, next, lines), "next.zip", p.d, nil), next, target, c.choice)
		got := ""
		for i := range in.Parts {
			for _, it := range in.Parts[i].Items {
				if strings.HasPrefix(it.Rel, "sub/a.") && !it.Folder {
					word := "next"
					if it.Source == "" {
						word = "kept"
					}
					got = strings.TrimSpace(got + " " + word)
				}
			}
		}
		if len(in.Questions) > 0 {
			got = "question"
		}
		if len(in.Parts) == 0 && got == "" && c.now != none { // nothing changes
			got = map[bool]string{true: "next", false: "kept"}[c.now == c.next]
		}
		insist.Same(t, fmt.Sprintf("%s came as %s, is %s, comes as %s (%+v)", c.file, c.base, c.now, c.next, c.choice), got, c.want)
	}
}

func TestBundleOrder(t *testing.T) {
	p := newPlace(t, map[string]string{"mill.start": "turn elm\nturn zed\n", "wheels/zed/wheel.toml": "name='zed'\nneeds=['ash']"})
	in := p.settle(lineup.Choices{}, "wood.zip", "wood/train.txt", "wood/oak/wheel.toml"+wheel, "wood/elm/wheel.toml: name='elm'\nneeds=['oak']", "wood/ash/wheel.toml: name='ash'", "mill.start: turn oak\nturn elm\nturn other\nturn ash")
	var rules []string
	for _, r := range in.Rules {
		rules = append(rules, r.String())
	}
	insist.Same(t, "rules", strings.Join(rules, "; "), "ash loads after elm")
	var order []string
	for _, m := range in.InOrder() {
		order = append(order, m.Name)
	}
	insist.Same(t, "order", strings.Join(order, " "), "oak elm ash")
	insist.Holds(t, "parts", p.parts(in), "wheels/wood/train.txt", "wheels/wood/ash new")
	in = p.settle(lineup.Choices{Only: []string{"ash"}}, "wood.zip", "wood/train.txt", "wood/oak/wheel.toml"+wheel, "wood/ash/wheel.toml: name='ash'")
	insist.That(t, len(in.Mods) == 1 && in.Mods[0].Name == "ash", "in part: %v", in.Mods)
}

func TestPosition(t *testing.T) {
	p := newPlace(t, map[string]string{"mill.start": "turn a\nturn b\nturn c\n",
		"wheels/a/wheel.toml": "name='a'", "wheels/b/wheel.toml": "name='b'\nneeds=['new']", "wheels/c/wheel.toml": "name='c'",
		"wheels/new/wheel.toml": "name='new'\nneeds=['a']", "wheels/late/wheel.toml": "name='late'\nneeds=['c']", "wheels/odd/wheel.toml": "name='odd'\nneeds=['c']"})
	s := p.target().Survey
	if w := intake.Position(s, "new"); w.Before != "b" {
		t.Errorf("new goes %v", w)
	}
	insist.Same(t, "late goes", intake.Position(s, "late"), (lineup.Where{}))
}
