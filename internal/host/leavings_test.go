package host_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/plan"
	"initium/internal/host"
	"initium/internal/host/disk"
	"initium/internal/insist"
)

// below lists what is in a folder, with what links point to.
func below(t *testing.T, dir string) (names []string) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	insist.OK(t, err)
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

// Nothing that was put beside a place stays there: not for files, for one that goes, or for
// names in a folder; nor when the change was completed after a sudden end.
func TestNothingIsLeftBeside(t *testing.T) {
	l, db, _ := openWithDatabase(t)
	dir := t.TempDir()
	for name, data := range map[string]string{"start": "a\n", "old": "x\n", "mods/a": "", "mods/b": ""} {
		full := filepath.Join(dir, name)
		insist.OK(t, os.MkdirAll(filepath.Dir(full), 0o755))
		insist.OK(t, os.WriteFile(full, []byte(data), 0o644))
	}
	p := &plan.Plan{Files: []plan.File{
		{Path: filepath.Join(dir, "start"), Old: []byte("a\n"), Want: []byte("b\n")},
		{Path: filepath.Join(dir, "old"), Old: []byte("x\n"), Gone: true},
		{Path: filepath.Join(dir, "new"), New: true, Want: []byte("n\n")},
		{Path: filepath.Join(dir, "mods"), List: true, Old: []byte("a\nb\n"), Want: []byte("a.off\nb\n")},
	}}
	insist.OK(t, l.Apply(t.Context(), "s", "x", p, nil))
	tidy := func(when string) {
		t.Helper()
		if got := below(t, dir); !slices.Equal(got, []string{"mods", "new", "start"}) {
			t.Errorf("%s the folder holds %q", when, got)
		}
		if got := below(t, filepath.Join(dir, "mods")); !slices.Equal(got, []string{"a.off", "b"}) {
			t.Errorf("%s the mods are %q", when, got)
		}
	}
	tidy("after the change")
	insist.OK(t, insist.Err(db.Exec(`UPDATE entry SET state = 'begun'`)))
	if said, err := l.Recover("s"); err != nil || !strings.Contains(said, "completed") {
		t.Fatalf("%q, %v", said, err)
	}
	tidy("after it was completed")
	// Half of it: the file that goes is gone, the rest stands as it stood.
	for name, data := range map[string]string{"start": "a\n"} {
		insist.OK(t, os.WriteFile(filepath.Join(dir, name), []byte(data), 0o644))
	}
	insist.OK(t, insist.Err(db.Exec(`UPDATE entry SET state = 'begun'`)))
	if said, err := l.Recover("s"); err != nil || said == "" {
		t.Fatalf("half of it: %q, %v", said, err)
	}
	if got := below(t, dir); slices.ContainsFunc(got, func(name string) bool { return strings.HasPrefix(name, ".initium") }) {
		t.Errorf("half of it leaves %q", got)
	}
}

// What follows a log lets go of everything when it is closed.
func TestFollowersLetGo(t *testing.T) {
	home := host.Home{Dir: t.TempDir()}
	dir, _, err := home.NewStart("s")
	insist.OK(t, err)
	insist.OK(t, os.WriteFile(dir.Log(), []byte("one\ntwo\n"), 0o600))
	open := func() int { return len(below(t, "/proc/self/fd")) }
	f := dir.Follow()
	f.Close()
	before := open()
	for range 20 {
		f := dir.Follow()
		f.Wait(t.Context(), 1)
		f.Close()
	}
	if after := open(); after > before+2 {
		t.Errorf("%d files are open after following, %d before", after, before)
	}
}

// A file that says it is empty and is not, as those of the system do, is read whole.
func TestReadSmallOfTheSystem(t *testing.T) {
	want, err := os.ReadFile("/proc/self/cmdline")
	if err != nil || len(want) < 2 {
		t.Skip("there is no such file here")
	}
	got, err := disk.NewTree().ReadSmall("proc/self/cmdline", 1<<20)
	insist.That(t, err == nil && string(got) == string(want), "%q, %v, want %q", got, err, want)
	if _, err := disk.NewTree().ReadSmall("proc/self/cmdline", 1); err == nil {
		t.Error("more than is allowed is read")
	}
}
