package lineup_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/insist"
)

// TestCorpus reads startup files written in as many styles as operators use.
// Each file says its registration, what has to be read, and then the file itself.
// Whatever is read, taking one mod in and out again has to give the file back.
func TestCorpus(t *testing.T) {
	files, err := filepath.Glob("testdata/corpus/*.txt")
	insist.Need(t, err == nil && len(files) >= 60, "%d files, %v", len(files), err)
	for _, file := range files {
		data, err := os.ReadFile(file)
		insist.OK(t, err)
		registration, rest, _ := strings.Cut(string(data), "\n-- want --\n")
		want, doc, ok := strings.Cut(rest, "\n-- file --\n")
		insist.Need(t, ok, "%s has no parts", file)
		name := filepath.Base(file)
		d, err := dialect.Parse(name, []byte("name = 'c'\n[[place]]\npath = '{dir}/m'\n[start]\ncommand = ['x']\n[[log.rule]]\nmeans = 'ready'\nline = 'up'\n"+
			"[[registration]]\nname = 'r'\nfile = '{dir}/start'\n"+registration))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		l := lineup.Read(d, dialect.Vars{"dir": "/srv"}, func(path string) ([]byte, error) {
			if path == "/srv/start" {
				return []byte(doc), nil
			}
			return nil, fs.ErrNotExist
		}, nil)
		if got := sum(l); got != want {
			t.Errorf("%s reads %q, want %q", name, got, want)
			continue
		}
		added, err := l.Apply(change{Op: lineup.OpRegister, Mod: "fresh_one"})
		if err != nil {
			insist.That(t, strings.Contains(want, "!"), "%s: register: %v", name, err)
			continue
		}
		back, err := added.Apply(change{Op: lineup.OpUnregister, Mod: "fresh_one"})
		insist.That(t, err == nil && string(back.Files[0].Raw()) == doc, "%s: in and out again gives\n%q, %v, want\n%q", name, back.Files[0].Raw(), err, doc)
	}
}
