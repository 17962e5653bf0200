package host_test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"initium/internal/core/plan"
	"initium/internal/host"
	"initium/internal/insist"
)

// What is noted of times twice, or out of turn, is passed over; what is not noted at all is a
// fault that is said.
func TestFollowOddTimes(t *testing.T) {
	for times, want := range map[string]string{
		"4 10\n9 30\n":             "10ms one\n, 30ms more\n",
		"4 10\n4 15\n2 20\n9 30\n": "10ms one\n, 30ms more\n",
		"4 40\n9 30\n":             "40ms one\n, 40ms more\n",
		"4 10\nx\n":                "10ms one\n, fault read log.times",
		"4 10\n10 30\n":            "10ms one\n, 30ms more\n, fault the log log is shorter than was written to it",
	} {
		home := host.Home{Dir: t.TempDir()}
		dir, _, err := home.NewStart("s")
		insist.OK(t, err)
		put(t, filepath.Join(string(dir), "log"), "one\nmore\n", 0o600)
		put(t, filepath.Join(string(dir), "log.times"), times, 0o600)
		f := dir.Follow()
		var got []string
		for more := true; more; {
			more, err = f.Next(func(data []byte, at time.Duration) { got = append(got, at.String()+" "+string(data)) })
			if err != nil {
				said, _, _ := strings.Cut(strings.ReplaceAll(err.Error(), string(dir)+"/", ""), ": ")
				got = append(got, "fault "+said)
				break
			}
		}
		f.Close()
		insist.That(t, strings.Join(got, ", ") == want, "%q: %q, want %q", times, got, want)
	}
}

// What comes belongs to whom the folder around it belongs, each folder on the way too.
func TestOwnersOfWhatComes(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root gives files away")
	}
	const somebody = 4242
	l, dir := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir()
	insist.OK(t, os.Lchown(dir, somebody, somebody))
	files := source{"a": "1", "sub/deep/b": "2", "sub/deep/c": "3", "other/d": "4"}
	p := folder(filepath.Join(dir, "oak"), "", files)
	p.Items = append(p.Items, plan.Item{Rel: "empty/inner", Folder: true})
	p.New = plan.Digest(p.Items)
	insist.OK(t, l.Apply(t.Context(), "s", "one", &plan.Plan{Parts: []plan.Part{p}}, from(files)))
	n := 0
	insist.OK(t, filepath.WalkDir(dir, func(name string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := os.Lstat(name)
		if st := info.Sys().(*syscall.Stat_t); st.Uid != somebody || st.Gid != somebody {
			t.Errorf("%s belongs to %d:%d", strings.TrimPrefix(name, dir), st.Uid, st.Gid)
		}
		n++
		return err
	}))
	insist.Same(t, "", n, 11)
}

// Files of a clean server are gone through until there were enough.
func TestCleanFiles(t *testing.T) {
	l, dir := ledger(t, host.Home{Dir: t.TempDir()}), t.TempDir()
	for _, name := range []string{"a", "b", "c"} {
		put(t, filepath.Join(dir, name), name, 0o600)
	}
	_, err := l.TakeBaseline("s", dir, nil)
	insist.OK(t, err)
	for most, want := range map[int]int{1: 1, 2: 2, 9: 3} {
		n := 0
		if err := l.BaselineFiles("s", func(string) bool { n++; return n < most }); err != nil || n != want {
			t.Errorf("of at most %d, %d are gone through, %v", most, n, err)
		}
	}
}
