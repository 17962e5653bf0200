package host_test

import (
	"os"
	"path/filepath"
	"testing"

	"initium/internal/core/plan"
	"initium/internal/host"
	"initium/internal/insist"
)

// What somebody makes of a link stays, and nothing else of the change is left.
func TestLinksMeanwhile(t *testing.T) {
	const old, want = "a -> ../a\nb -> ../b\n", "a -> ../a\nc -> ../c\n"
	for _, c := range []struct {
		name string
		do   func(dir string) error
		says string
	}{
		{"nothing happens", func(string) error { return nil }, ""},
		{"a link is led elsewhere", func(dir string) error {
			if err := os.Remove(filepath.Join(dir, "b")); err != nil {
				return err
			}
			return os.Symlink("../x", filepath.Join(dir, "b"))
		}, "nothing was changed"},
		{"a link becomes a file", func(dir string) error { return replace(filepath.Join(dir, "b"), "mine") }, "nothing was changed"},
		{"what is to come is there", func(dir string) error { return os.WriteFile(filepath.Join(dir, "c"), []byte("mine"), 0o644) }, "nothing was changed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			l, root := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir()
			dir := filepath.Join(root, "on")
			insist.OK(t, os.Mkdir(dir, 0o755))
			for _, name := range []string{"a", "b"} {
				insist.OK(t, os.Symlink("../"+name, filepath.Join(dir, name)))
			}
			before := shape(t, root)
			after := ""
			p := &plan.Plan{Parts: []plan.Part{folder(filepath.Join(root, "mod"), "", source{"a": "new"})}, Files: []plan.File{{Path: dir + "/", List: true, Old: []byte(old), Want: []byte(want)}}}
			err := l.Apply(t.Context(), "s", "change", p, meanwhile(source{"a": "new"}, func() {
				insist.OK(t, c.do(dir))
				after = shape(t, root)
			}))
			if c.says != "" {
				insist.Fails(t, "the change", err, c.says)
				insist.Same(t, "there", shape(t, root), after)
				return
			}
			insist.OK(t, err)
			insist.Holds(t, "there", shape(t, root), "c")
			back, err := l.Return("s", 0)
			insist.OK(t, err)
			insist.OK(t, l.Apply(t.Context(), "s", "back", back, nil))
			insist.Same(t, "back", shape(t, root), before)
		})
	}
}
