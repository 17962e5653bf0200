package survey_test

import (
	"archive/zip"
	"bytes"
	_ "embed"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"initium/dialects"
	"initium/internal/core/dialect"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/golden"
	"initium/internal/insist"
)

//go:embed testdata/oddOnes.toml
var oddOnes string

// whole writes a survey down in full.
func whole(s *survey.Survey) string {
	var b strings.Builder
	for i := range s.Mods {
		m := &s.Mods[i]
		fmt.Fprintf(&b, "%d %s %q %s at %s (%s) place %d spot %q in %q, section %q\n", m.Position, m.Name, m.Title, m.Release, m.Path, m.Folder, m.Place, m.Spot, m.Bundle, m.Section)
		var marks []string
		for _, mark := range []struct {
			word string
			set  bool
		}{{"registered", m.Registered}, {"listed", m.Listed}, {"on", m.On}, {"always", m.Always}, {"base", m.Base}, {"elsewhere", m.Elsewhere}, {"group", m.Group}, {"empty", m.Empty}, {"no main", m.NoMain}, {"quiet", m.Quiet}} {
			if mark.set {
				marks = append(marks, mark.word)
			}
		}
		manifest, problem := m.Manifest, ""
		if p := manifest.Problem; p != nil {
			problem, manifest.Problem = fmt.Sprintf(" problem %+v", *p), nil
		}
		fmt.Fprintf(&b, "    %s; entries %v; manifest %+v%s", strings.Join(marks, ", "), m.Entries, manifest, problem)
		if len(m.Noted)+len(m.Keys) > 0 || m.Inner != "" {
			fmt.Fprintf(&b, "; noted %v, keys %+v, inner %q", m.Noted, m.Keys, m.Inner)
		}
		if m.Broken != nil {
			fmt.Fprintf(&b, "; broken %+v", *m.Broken)
		}
		b.WriteString("\n")
	}
	for _, st := range s.Strays {
		fmt.Fprintf(&b, "stray %+v\n", st)
	}
	for _, tw := range s.Twins {
		fmt.Fprintf(&b, "twin %+v\n", tw)
	}
	for _, p := range s.Lineup.Problems {
		fmt.Fprintf(&b, "problem %+v\n", p)
	}
	return b.String()
}

// TestSurveysInFull holds surveys of the demo's servers, and of some in a bad way, to what
// was read through once.
func TestSurveysInFull(t *testing.T) {
	for _, family := range []string{"harrow-sound", "lantern-moor", "cogwheel-fair", "nine-orchards"} {
		data, err := fs.ReadFile(dialects.FS, family+".toml")
		insist.OK(t, err)
		d, err := dialect.Parse(family+".toml", data)
		insist.OK(t, err)
		files := fstest.MapFS{}
		root := filepath.Join("../../../demo", family)
		err = filepath.WalkDir(root, func(name string, e fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			rel, _ := filepath.Rel(root, name)
			if strings.HasSuffix(name, ".ride") && e.IsDir() { // these are packed where they are used
				manifest, err := os.ReadFile(filepath.Join(name, "ride.yaml"))
				if err != nil {
					return err
				}
				var out bytes.Buffer
				w := zip.NewWriter(&out)
				f, err := w.Create("ride.yaml")
				if err == nil {
					_, err = f.Write(manifest)
				}
				if err != nil {
					return err
				}
				files["srv/"+rel] = &fstest.MapFile{Data: out.Bytes()}
				if err := w.Close(); err != nil {
					return err
				}
				files["srv/"+rel].Data = out.Bytes()
				return filepath.SkipDir
			}
			if e.Type().IsRegular() {
				data, err := os.ReadFile(name)
				files["srv/"+rel] = &fstest.MapFile{Data: data}
				return err
			}
			return nil
		})
		insist.OK(t, err)
		vars := dialect.Vars{"dir": "/srv", "port": "1"}
		for _, g := range d.Givens {
			if vars[g.Name] == "" {
				vars[g.Name] = "/srv/" + g.Name
			}
		}
		golden.Check(t, family+".txt", whole(survey.Take(survey.Input{Server: "s", Dialect: d, Vars: vars, FS: files})))
	}

	d, err := dialect.Parse("odd.toml", []byte(oddOnes))
	insist.OK(t, err)
	files := fstest.MapFS{}
	for name, data := range map[string]string{
		"start": "use b\n## One\nuse a\n# use off\nalso more\nuse +g\nuse gone\nuse both\nuse a\nuse named\nuse empty\n## Two\nuse nested\n", "more": "use m\nalso start\nalso nowhere\n",
		"plug":               "plug tide\nplug /srv/files/rock.so\nplug /elsewhere/sand.so\n# plug silt\n",
		"first/a/about.toml": "title = 'The A'\nrelease = '1.2'\nneeds = ['b', 'z']\nlikes = ['off']\n",
		"first/a/main":       "", "first/a/voice": "", "first/a/a.key": "k", "first/a/b.key": "other", "keys/b.key": "own",
		"first/b/about.toml": "gives = ['z', 'y']\n", "first/b/main": "x = = 1",
		"first/off/about.toml": "", "first/+g/g1/about.toml": "", "first/+g/g1/main": "", "first/+g/g2/about.toml": "name = 'renamed'", "first/+g/readme": "",
		"first/bund/pack": "", "first/bund/in1/about.toml": "", "first/bund/in2/about.toml": "",
		"first/both/about.toml": "release = '1'", "second/both/about.toml": "release = '2'", "first/m/about.toml": "name = ",
		"first/folder/about.toml": "name = 'named'\n", "first/empty/": "", "first/nested/nested-1/about.toml": "", "first/stray/x": "", "second/only/about.toml": "gives = ['y']",
		"files/tide.so": "t", "files/rock.so": "r", "files/silt.so": "s", "files/readme.txt": "", "always/loud/about.toml": "", "always/off/about.toml": "", "base/core/x": "",
		"first/.hidden/about.toml": "", "files/.hidden.so": "", "files/dim.so.off": "", "first/+solo/about.toml": "", "first/" + strings.Repeat("d/", 8) + "deep/about.toml": "", "first/" + strings.Repeat("d/", 9) + "deeper/about.toml": "",
		"first/loose.txt": "",
	} {
		if strings.HasSuffix(name, "r/about.toml") && strings.Contains(name, "d/d") { // bundles within bundles
			for at := "first/d"; at != "first/d/d/d/d/d/d/d/d/d/d"; at += "/d" {
				files["srv/"+at+"/pack"] = &fstest.MapFile{}
			}
		}
		mode := fs.FileMode(0o644)
		if strings.HasSuffix(name, "/") {
			mode = fs.ModeDir | 0o755
		}
		files["srv/"+strings.TrimSuffix(name, "/")] = &fstest.MapFile{Data: []byte(data), Mode: mode}
	}
	in := survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: files,
		Rules: []rule.Rule{{Kind: rule.Needs, Mod: "b", Other: "off"}, {Kind: rule.Needs, Mod: "nowhere", Other: "a"}, {Kind: rule.Before, Mod: "a", Other: "b"}}}
	s := survey.Take(in)
	var b strings.Builder
	b.WriteString(whole(s))
	for _, name := range []string{"a", "z", "y", "off", "renamed", "nowhere", "core"} {
		found, answers := "none", "none"
		if m := s.Find(name); m != nil {
			found = m.Name
		}
		if m := s.Answer(name); m != nil {
			answers = m.Name
		}
		fmt.Fprintf(&b, "%s: found %s, answers %s\n", name, found, answers)
	}
	for _, name := range []string{"/srv/first/a", "/srv/first/a/x", "/srv/files/rock.so", "/srv/first", "/srv/second/both", ""} {
		if m := s.ByPath(name); m != nil {
			fmt.Fprintf(&b, "at %q is %s\n", name, m.Name)
		}
	}
	golden.Check(t, "odd.txt", b.String())
	// What is remembered from an earlier look changes nothing.
	in.Memory = &survey.Memory{}
	for range 2 {
		insist.Same(t, "with a memory it", whole(survey.Take(in)), whole(s))
	}
	delete(files, "srv/first/a/a.key")
	files["srv/first/b/about.toml"] = &fstest.MapFile{Data: []byte("gives = ['x']\n")}
	in2 := in
	in2.Memory = nil
	if with, without := whole(survey.Take(in)), whole(survey.Take(in2)); with != without {
		t.Errorf("after a change, with a memory it is\n%s\nwithout\n%s", with, without)
	}
}
