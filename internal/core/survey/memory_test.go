package survey_test

import (
	_ "embed"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/survey"
	"initium/internal/host/disk"
	"initium/internal/insist"
)

//go:embed testdata/remembered.toml
var remembered string

// counting counts how often files are read.
type counting struct {
	disk.Tree
	reads *int
	old   bool // every file counts as long unchanged
}

func (c counting) ReadSmall(name string, limit int64) ([]byte, error) {
	if strings.HasSuffix(name, "about.toml") {
		*c.reads++
	}
	return c.Tree.ReadSmall(name, limit)
}

func (c counting) Stamp(name string) (survey.Stamp, bool) {
	s, ok := c.Tree.Stamp(name)
	return s, ok || c.old && s != survey.Stamp{}
}

func (c counting) ReadDir(name string) ([]fs.DirEntry, error) { return c.Tree.ReadDir(name) }

func TestMemory(t *testing.T) {
	dir := t.TempDir()
	put := func(name, data string) {
		t.Helper()
		full := filepath.Join(dir, name)
		insist.OK(t, os.MkdirAll(filepath.Dir(full), 0o755))
		insist.OK(t, os.WriteFile(full, []byte(data), 0o644))
	}
	put("start", "use a\nuse b\n")
	put("mods/a/about.toml", "release = '1'\n")
	put("mods/b/about.toml", "release = '1'\n")
	d, err := dialect.Parse("d.toml", []byte(remembered))
	insist.OK(t, err)
	reads := 0
	under := counting{disk.NewTree(), &reads, true}
	in := survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": dir}, FS: under, Memory: &survey.Memory{}}
	look := func(wantReads int, releases string) {
		t.Helper()
		reads = 0
		var got []string
		for _, m := range survey.Take(in).Mods {
			got = append(got, m.Name+" "+m.Release)
		}
		insist.That(t, strings.Join(got, ", ") == releases && reads == wantReads, "%d files read for %s; want %d for %s", reads, strings.Join(got, ", "), wantReads, releases)
	}
	look(2, "a 1, b 1")
	look(2, "a 1, b 1") // now it is kept
	look(0, "a 1, b 1")
	time.Sleep(20 * time.Millisecond) // so that the change time is another one
	put("mods/b/about.toml", "release = '2'\n")
	look(1, "a 1, b 2")
	look(0, "a 1, b 2")
	insist.OK(t, os.Remove(filepath.Join(dir, "mods/a/about.toml")))
	look(1, "a , b 2") // read for, and not there
	// What has just been changed is not remembered.
	under.old, in.FS, in.Memory = false, counting{disk.NewTree(), &reads, false}, &survey.Memory{}
	for range 3 {
		look(2, "a , b 2")
	}
}
