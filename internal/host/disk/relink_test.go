package disk_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"initium/internal/host/disk"
	"initium/internal/insist"
)

func TestRelinked(t *testing.T) {
	gone, come, err := disk.Relinked([]byte("a -> x\nb -> y\nnotes\n"), []byte("a -> x\nb -> z\nc -> y\nnotes\n"))
	insist.That(t, err == nil && len(gone) == 1 && gone[0] == [2]string{"b", "y"} && len(come) == 2 && come[0] == [2]string{"b", "z"} && come[1] == [2]string{"c", "y"}, "gone %q, come %q, %v", gone, come, err)
	for _, want := range []string{"notes\n", "../a -> x\n", ".. -> x\n", "a -> \n", "a/b -> x\n", " -> x\n"} {
		_, _, err := disk.Relinked(nil, []byte(want))
		insist.Fails(t, want, err, "no link in a folder")
	}
}

func TestRelink(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "on")
	is := func(what, want string) {
		t.Helper()
		now, err := disk.Links(dir)
		insist.OK(t, err)
		insist.Same(t, what, string(now), want)
	}
	// into a folder that is not there yet, and once more, as after a run that was cut off
	links := [][2]string{{"a", "../x/a"}, {"b", "/far/b"}}
	for range 2 {
		_, err := disk.Relink(dir, nil, links)
		insist.OK(t, err)
		is("made", "a -> ../x/a\nb -> /far/b\n")
	}
	// one leads elsewhere, and back
	for range 2 {
		_, err := disk.Relink(dir, [][2]string{{"a", "../x/a"}}, [][2]string{{"a", "../y/a"}})
		insist.OK(t, err)
		is("led elsewhere", "a -> ../y/a\nb -> /far/b\n")
	}
	back, err := disk.Relink(dir, [][2]string{{"a", "../y/a"}}, [][2]string{{"a", "../x/a"}, {"c", "c"}})
	insist.OK(t, err)
	is("both", "a -> ../x/a\nb -> /far/b\nc -> c\n")
	insist.OK(t, back())
	is("taken back", "a -> ../y/a\nb -> /far/b\n")
	// what is not as it was said to be stays, and all else with it
	insist.OK(t, os.WriteFile(filepath.Join(dir, "own"), []byte("mine"), 0o644))
	for name, change := range map[string][2][][2]string{
		"another target":    {{{"b", "/far/b"}, {"a", "../x/a"}}, nil},
		"a file":            {{{"b", "/far/b"}, {"own", "x"}}, nil},
		"a file in the way": {{{"b", "/far/b"}}, {{"own", "x"}}},
		"a link in the way": {{{"b", "/far/b"}}, {{"a", "x"}}},
		"changed meanwhile": {{{"a", "../x/a"}}, {{"a", "../z/a"}}},
	} {
		_, err := disk.Relink(dir, change[0], change[1])
		insist.That(t, errors.Is(err, disk.ErrInTheWay), "%s: %v", name, err)
		is(name, "a -> ../y/a\nb -> /far/b\nown\n")
	}
	_, err = disk.Relink(dir, [][2]string{{"gone", "x"}}, nil)
	insist.OK(t, err)
	// over a link into another folder nothing is changed
	insist.OK(t, os.Symlink(t.TempDir(), filepath.Join(filepath.Dir(dir), "led")))
	if os.Getuid() == 0 {
		insist.OK(t, os.Lchown(filepath.Join(filepath.Dir(dir), "led"), 65534, 65534))
		_, err = disk.Relink(filepath.Join(filepath.Dir(dir), "led"), nil, [][2]string{{"a", "x"}})
		insist.That(t, err != nil, "links are made by way of another's link")
	}
}
