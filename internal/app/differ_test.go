package app_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/app"
	"initium/internal/core/differ"
	"initium/internal/core/lineup"
	"initium/internal/host"
	"initium/internal/insist"
)

// A file that the start rests on is carried whole when its row is asked for, but not where it holds what is a server's
// own on either side.
func TestCarryAFile(t *testing.T) {
	dir := t.TempDir()
	a := &app.App{Home: host.Home{Dir: filepath.Join(dir, "home")}, Exe: "/nowhere/initium"}
	t.Cleanup(func() { a.Close() })
	file := func(server string) string { return filepath.Join(dir, server, "maps/hillside.map") }
	for _, name := range []string{"test", "live"} {
		insist.OK(t, os.CopyFS(filepath.Join(dir, name), os.DirFS("../../demo/nine-orchards")))
		_, err := a.Adopt(t.Context(), app.Adoption{Dir: filepath.Join(dir, name), As: name})
		insist.OK(t, err)
	}
	row := func() *differ.Difference {
		list, err := a.Differ("test", "live")
		insist.OK(t, err)
		for i := range list {
			if list[i].Kind == differ.KindFile {
				return &list[i]
			}
		}
		return nil
	}
	insist.That(t, row() == nil, "two copies differ in a file")
	insist.OK(t, os.WriteFile(file("test"), []byte("a new map\n"), 0o644))
	d := row()
	insist.Need(t, d != nil && d.Name == "maps/hillside.map", "the map is not told: %+v", d)
	c, err := a.PlanCarry(t.Context(), "test", "live", nil)
	insist.That(t, err == nil && len(c.Changes) == 0 && strings.Contains(strings.Join(c.Left, "\n"), "maps/hillside.map"), "all at once leaves files: %+v, %v", c, err)
	done, err := a.CarryOne(t.Context(), "test", "live", *d)
	insist.That(t, err == nil && len(done) == 1 && done[0] == "write hillside.map", "%q, %v", done, err)
	staged, err := a.Staged("live")
	insist.That(t, err == nil && len(staged) == 1 && staged[0].Op == lineup.OpWrite && string(staged[0].Content) == "a new map\n", "%v, %v", staged, err)
	insist.OK(t, a.Unstage("live", true))
	for _, server := range []string{"live", "test"} {
		before, err := os.ReadFile(file(server))
		insist.OK(t, err)
		insist.OK(t, os.WriteFile(file(server), []byte("password = hunter2x\n"), 0o644))
		_, err = a.CarryOne(t.Context(), "test", "live", *row())
		insist.Fails(t, "a key on "+server, err, "each server's own")
		insist.OK(t, os.WriteFile(file(server), before, 0o644))
	}
}
