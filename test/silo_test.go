package test

import (
	"archive/zip"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"initium/internal/insist"
)

//go:embed testdata/silo.toml
var silo string

// sack writes a file that is a mod of silo's.
func sack(t testing.TB, file, name, release string) {
	t.Helper()
	insist.OK(t, os.MkdirAll(filepath.Dir(file), 0o755))
	f, err := os.Create(file)
	insist.OK(t, err)
	z := zip.NewWriter(f)
	w, err := z.CreateHeader(&zip.FileHeader{Name: "sack.yaml", Method: zip.Store})
	insist.OK(t, err)
	insist.OK(t, insist.Err(fmt.Fprintf(w, "name: %s\nrelease: %q\n", name, release)))
	insist.OK(t, z.Close())
	insist.OK(t, f.Close())
}

// Mods that load for being there and whose files are called as they were downloaded have the
// names that they give themselves, everywhere; a new release comes under its own file's name.
func TestFilesNamedAsDownloaded(t *testing.T) {
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "silo")
	write(t, filepath.Join(o.home, "dialects", "silo.toml"), silo)
	write(t, filepath.Join(dir, "silo.sh"), "#!/bin/sh\nfor f in sacks/*.sack; do grep -a -o 'name: [A-Za-z]*' \"$f\" | while read -r _ n; do echo \"opened $n from ${f##*/}\"; done; done\necho 'silo is full'\nread -r line\n")
	insist.OK(t, os.Chmod(filepath.Join(dir, "silo.sh"), 0o755))
	sack(t, filepath.Join(dir, "sacks", "millwheel-7.0.4.sack"), "MillWheel", "7.0.4")
	sack(t, filepath.Join(dir, "sacks", "Rye (1).sack"), "rye", "2")
	o.do(0, "adopt", dir)
	o.do(0, "check", "silo")
	o.proves("silo", "rye confirmed, MillWheel confirmed")
	o.do(0, "off", "silo", "MillWheel")
	there := func(want ...string) {
		t.Helper()
		insist.Same(t, "the sacks", fmt.Sprint(within(dir, "sacks/*")), fmt.Sprint(prefixed(filepath.Join(dir, "sacks"), want)))
	}
	there("Rye (1).sack", "millwheel-7.0.4.sack.kept")
	o.proves("silo", "rye confirmed")
	fresh := filepath.Join(filepath.Dir(o.home), "millwheel-7.1.0.sack")
	sack(t, fresh, "MillWheel", "7.1.0")
	insist.Holds(t, "the plan", o.do(0, "take", "silo", fresh, "--stage"), "millwheel-7.1.0.sack.kept")
	o.do(0, "apply", "silo")
	there("Rye (1).sack", "millwheel-7.1.0.sack.kept")
	o.do(0, "on", "silo", "MillWheel")
	there("Rye (1).sack", "millwheel-7.1.0.sack")
	o.proves("silo", "rye confirmed, MillWheel confirmed")
	o.do(0, "remove", "silo", "rye")
	there("millwheel-7.1.0.sack")
	insist.Holds(t, "all at once", o.try("undo", "silo", "0").err, "take the entries back one by one")
	for _, entry := range []string{"3", "2", "1", "0"} {
		o.do(0, "undo", "silo", entry)
	}
	there("Rye (1).sack", "millwheel-7.0.4.sack")
}

func prefixed(dir string, names []string) (paths []string) {
	for _, name := range names {
		paths = append(paths, filepath.Join(dir, name))
	}
	return paths
}
