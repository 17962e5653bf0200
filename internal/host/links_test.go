package host_test

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/core/plan"
	"initium/internal/core/survey"
	"initium/internal/host"
	"initium/internal/host/disk"
	"initium/internal/insist"
)

// TestLinksOfOthers: by a link of the server's owner nothing is read that he could not read,
// and nothing written that is not his; links of root and of the operator are followed.
func TestLinksOfOthers(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can make what belongs to others")
	}
	const owner, other = 4242, 4343
	base := t.TempDir()
	insist.OK(t, os.Chmod(base, 0o755))
	insist.OK(t, os.Chmod(filepath.Dir(base), 0o755))
	outside := func(name string, mode fs.FileMode, uid int) string {
		full := filepath.Join(base, "outside", name)
		put(t, full, "one\n", mode)
		insist.OK(t, os.Chown(full, uid, uid))
		return full
	}
	for name, test := range map[string]struct {
		target      string
		linked      int
		read, write bool
	}{
		"his own":               {outside("his", 0o600, owner), owner, true, true},
		"root's, for root only": {outside("closed", 0o600, 0), owner, false, false},
		"another's":             {outside("others", 0o600, other), owner, false, false},
		"for all to read":       {outside("open", 0o644, 0), owner, true, false},
		"in a closed folder":    {outside("deep/open", 0o644, 0), owner, false, false},
		"linked by root":        {outside("closed", 0o600, 0), 0, true, true},
	} {
		put(t, test.target, "one\n", 0)
		dir := filepath.Join(base, "server")
		insist.OK(t, os.RemoveAll(dir))
		insist.OK(t, os.MkdirAll(dir, 0o755))
		insist.OK(t, os.Chown(dir, owner, owner))
		insist.OK(t, os.Chmod(filepath.Join(base, "outside", "deep"), 0o700))
		start := filepath.Join(dir, "start")
		insist.OK(t, os.Symlink(test.target, start))
		insist.OK(t, os.Lchown(start, test.linked, test.linked))
		data, err := survey.Open(disk.NewTree(), start, 1<<20)
		if (err == nil) != test.read || test.read && string(data) != "one\n" || err != nil && !strings.Contains(err.Error(), "a link of another user's leads there") {
			t.Errorf("%s: read %q, %v", name, data, err)
		}
		l := ledger(t, host.Home{Dir: t.TempDir()})
		err = l.Apply(t.Context(), "s", "change", &plan.Plan{Files: []plan.File{file(start, "one\n", "two\n")}}, nil)
		got, readErr := os.ReadFile(test.target)
		insist.OK(t, readErr)
		insist.That(t, (err == nil) == test.write && (string(got) == "two\n") == test.write, "%s: written %q, %v", name, got, err)
		if info, err := os.Lstat(start); err != nil || info.Mode()&fs.ModeSymlink == 0 {
			t.Errorf("%s: the link is %v, %v", name, info, err)
		}
	}
	// A folder that leads away: nothing new is put there, and nothing is read.
	dir := filepath.Join(base, "server")
	etc := filepath.Join(base, "etc")
	put(t, filepath.Join(etc, "start"), "one\n", 0o600)
	insist.OK(t, os.Symlink(etc, filepath.Join(dir, "conf")))
	insist.OK(t, os.Lchown(filepath.Join(dir, "conf"), owner, owner))
	l := ledger(t, host.Home{Dir: t.TempDir()})
	for _, f := range []plan.File{file(filepath.Join(dir, "conf", "start"), "one\n", "two\n"), {Path: filepath.Join(dir, "conf", "new"), New: true, Want: []byte("x")}} {
		if err := l.Apply(t.Context(), "s", "change", &plan.Plan{Files: []plan.File{f}}, nil); err == nil {
			t.Errorf("%s is written", f.Path)
		}
	}
	s := source{"a": "1"}
	insist.Fails(t, "a mod is put there", l.Apply(t.Context(), "s", "take", &plan.Plan{Parts: []plan.Part{folder(filepath.Join(dir, "conf", "mod"), "", s)}}, from(s)), "a link of another user's")
	insist.Same(t, "there", tree(t, etc), "start=one\n")
	// Circles end.
	insist.OK(t, os.Symlink("round", filepath.Join(dir, "round")))
	if _, err := survey.Open(disk.NewTree(), filepath.Join(dir, "round"), 9); err == nil || errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a circle of links: %v", err)
	}
}
