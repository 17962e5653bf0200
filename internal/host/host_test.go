package host_test

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"initium/internal/core/plan"
	"initium/internal/core/proof"
	"initium/internal/host"
	"initium/internal/insist"
	"initium/internal/lack"
)

func TestRecords(t *testing.T) {
	h := host.Home{Dir: t.TempDir()}
	if names, err := h.Servers(); err != nil || len(names) != 0 {
		t.Errorf("an empty home has %v, %v", names, err)
	}
	r := host.Record{Name: "one", Dir: "/srv", Dialect: "d", Set: map[string]string{"port": "1"}, Adopted: time.Unix(1e9, 0).UTC()}
	insist.OK(t, h.PutRecord(r))
	got, err := h.Record("one")
	insist.That(t, err == nil && got.Dir == r.Dir && got.Set["port"] == "1" && got.Adopted.Equal(r.Adopted), "record is %+v, %v", got, err)
	for _, name := range []string{"two", "", "../one", "a/b", ".hidden"} {
		if _, err := h.Record(name); !errors.Is(err, host.ErrUnknownServer) {
			t.Errorf("record %q gives %v", name, err)
		}
	}
}

func TestStarts(t *testing.T) {
	h := host.Home{Dir: t.TempDir()}
	for want := 1; want <= 3; want++ {
		dir, number, err := h.NewStart("s")
		insist.Need(t, err == nil && number == want, "start %d is numbered %d, %v", want, number, err)
		if _, err := dir.Proof(); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("a start without a proof gives %v", err)
		}
		insist.OK(t, dir.PutProof(&proof.Proof{Server: "s", Number: number}))
	}
	if numbers, err := h.Starts("s"); err != nil || !slices.Equal(numbers, []int{1, 2, 3}) {
		t.Errorf("starts are %v, %v", numbers, err)
	}
	if p, err := h.Start("s", 2).Proof(); err != nil || p.Number != 2 {
		t.Errorf("proof is %+v, %v", p, err)
	}
}

func ledger(t *testing.T, h host.Home) *host.Ledger {
	t.Helper()
	l, err := h.OpenLedger()
	insist.OK(t, err)
	t.Cleanup(func() { l.Close() })
	return l
}

// file makes a plan that changes one file from old to want.
func file(path, old, want string) plan.File {
	return plan.File{Path: path, Old: []byte(old), Want: []byte(want)}
}

func put(t *testing.T, name, data string, mode fs.FileMode) {
	t.Helper()
	insist.OK(t, os.MkdirAll(filepath.Dir(name), 0o755))
	insist.OK(t, os.WriteFile(name, []byte(data), mode))
}

func want(t *testing.T, name, data string) {
	t.Helper()
	if got, err := os.ReadFile(name); err != nil || string(got) != data {
		t.Errorf("%s holds %q, %v; want %q", filepath.Base(name), got, err, data)
	}
}

func TestApply(t *testing.T) {
	h, dir := host.Home{Dir: t.TempDir()}, t.TempDir()
	real, link, fresh := filepath.Join(dir, "real"), filepath.Join(dir, "link"), filepath.Join(dir, "fresh")
	put(t, real, "old", 0o600)
	insist.OK(t, os.Symlink("real", link))
	p := &plan.Plan{Files: []plan.File{file(link, "old", "new"), {Path: fresh, New: true, Want: []byte("made")}}}
	l := ledger(t, h)
	insist.OK(t, l.Apply(t.Context(), "s", "why", p, nil))
	want(t, real, "new")
	want(t, fresh, "made")
	if info, err := os.Lstat(link); err != nil || info.Mode()&fs.ModeSymlink == 0 {
		t.Error("the link is gone")
	}
	if info, err := os.Stat(real); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the mode is %v", info.Mode())
	}
	entries, err := l.Entries("s")
	insist.Need(t, err == nil && len(entries) == 2 && entries[1].Why == "why" && len(entries[1].Files) == 2, "the ledger has %+v, %v", entries, err)
	back, err := l.Return("s", 0)
	insist.OK(t, err)
	insist.OK(t, l.Apply(t.Context(), "s", "back", back, nil))
	want(t, real, "old")
	if _, err := os.Stat(fresh); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the file that was made is still there: %v", err)
	}
	if left := within(dir, ".*"); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

func TestApplyRefusesWhatChanged(t *testing.T) {
	h, dir := host.Home{Dir: t.TempDir()}, t.TempDir()
	one, two := filepath.Join(dir, "one"), filepath.Join(dir, "two")
	put(t, one, "1", 0o644)
	put(t, two, "changed by somebody", 0o644)
	for name, second := range map[string]plan.File{
		"changed":   file(two, "2", "22"),
		"gone":      file(filepath.Join(dir, "gone"), "3", "33"),
		"not fresh": {Path: two, New: true, Want: []byte("x")},
	} {
		if err := ledger(t, h).Apply(t.Context(), "s", "", &plan.Plan{Files: []plan.File{file(one, "1", "11"), second}}, nil); err == nil {
			t.Errorf("%s: no error", name)
		} else if name == "changed" && !errors.Is(err, host.ErrStale) {
			t.Errorf("%s: %v", name, err)
		}
		want(t, one, "1")
		want(t, two, "changed by somebody")
	}
}

// TestApplyRefusesReadOnly cannot write the second of two files; the first has to be as it
// was. What fails later, when files are moved, TestSecondMoveFails tries.
func TestApplyRefusesReadOnly(t *testing.T) {
	h, dir := host.Home{Dir: t.TempDir()}, t.TempDir()
	one, two := filepath.Join(dir, "one"), filepath.Join(dir, "two")
	put(t, one, "1", 0o644)
	put(t, two, "2", 0o444)
	err := ledger(t, h).Apply(t.Context(), "s", "", &plan.Plan{Files: []plan.File{file(one, "1", "11"), file(two, "2", "22")}}, nil)
	insist.That(t, errors.Is(err, fs.ErrPermission) && strings.Contains(err.Error(), "read-only"), "error is %v", err)
	want(t, one, "1")
	want(t, two, "2")
}

// TestPortHeld opens ports by both protocols, and asks before, meanwhile and afterwards.
func TestPortHeld(t *testing.T) {
	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	insist.OK(t, err)
	port := tcp.Addr().(*net.TCPAddr).Port
	insist.Same(t, "a port that is listened on is held by", host.PortHeld(port), "tcp")
	conn, err := net.Dial("tcp", tcp.Addr().String())
	insist.OK(t, err)
	defer conn.Close()
	insist.Same(t, "a port that only talks is held by", host.PortHeld(conn.LocalAddr().(*net.TCPAddr).Port), "")
	udp, err := net.ListenPacket("udp", fmt.Sprintf("127.0.0.1:%d", port))
	insist.OK(t, err)
	insist.Same(t, "by both protocols it is held by", host.PortHeld(port), "tcp and udp")
	if free := host.FreePort(port, nil); free <= port || host.PortHeld(free) != "" {
		t.Errorf("the next free port is %d", free)
	}
	if free := host.FreePort(port-1, nil); free == port {
		t.Error("a port that is listened on is free")
	}
	tcp.Close()
	insist.Same(t, "then it is held by", host.PortHeld(port), "udp")
	udp.Close()
	insist.Same(t, "at last it is held by", host.PortHeld(port), "")
}

func TestSocketFor(t *testing.T) {
	base := t.TempDir()
	t.Setenv("XDG_RUNTIME_DIR", base)
	deep := host.Home{Dir: "/" + strings.Repeat("very-deep/", 40)}
	path, err := deep.SocketFor("s")
	insist.Need(t, err == nil && len(filepath.Base(path)) <= 40, "the socket of a deep folder is %s, %v", path, err)
	if info, err := os.Stat(filepath.Dir(path)); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("its folder has mode %v, %v", info.Mode(), err)
	}
	if os.Getuid() == 0 {
		insist.OK(t, os.Chown(filepath.Dir(path), 1234, 0))
		if _, err := deep.SocketFor("s"); err == nil {
			t.Error("a folder of somebody else is used")
		}
		insist.OK(t, os.Chown(filepath.Dir(path), 0, 0))
	}
	insist.OK(t, os.Chmod(filepath.Dir(path), 0o755))
	if _, err := deep.SocketFor("s"); err == nil {
		t.Error("a folder that others may read is used")
	}
}

// TestFullDisk changes a file on a disk that has no room for it.
func TestFullDisk(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=64k"); err != nil {
		lack.Of(t, fmt.Sprintf("the right to make a small disk: %v", err))
	}
	t.Cleanup(func() { syscall.Unmount(dir, 0) })
	h := host.Home{Dir: t.TempDir()}
	one, two := filepath.Join(dir, "one"), filepath.Join(dir, "two")
	put(t, one, "1", 0o644)
	put(t, two, "2", 0o644)
	l := ledger(t, h)
	err := l.Apply(t.Context(), "s", "", &plan.Plan{Files: []plan.File{file(one, "1", "11"), file(two, "2", strings.Repeat("x", 1<<20))}}, nil)
	insist.That(t, errors.Is(err, syscall.ENOSPC) && strings.Contains(err.Error(), "nothing was changed"), "error is %v", err)
	want(t, one, "1")
	want(t, two, "2")
	if left := within(dir, ".initium*"); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	if entries, err := l.Entries("s"); err != nil || len(entries) != 1 {
		t.Errorf("the ledger has %d entries, %v", len(entries), err)
	}
}

// TestSomebodyElseIsChanging holds the lock as another Initium does.
func TestSomebodyElseIsChanging(t *testing.T) {
	h, dir := host.Home{Dir: t.TempDir()}, t.TempDir()
	l := ledger(t, h)
	one := filepath.Join(dir, "one")
	put(t, one, "1", 0o644)
	lock := filepath.Join(h.Dir, "servers", "s", "change.lock")
	insist.OK(t, os.MkdirAll(filepath.Dir(lock), 0o700))
	f, err := os.Create(lock)
	insist.OK(t, err)
	defer f.Close()
	insist.OK(t, syscall.Flock(int(f.Fd()), syscall.LOCK_EX))
	if err := l.Apply(t.Context(), "s", "", &plan.Plan{Files: []plan.File{file(one, "1", "11")}}, nil); !errors.Is(err, host.ErrBusy) {
		t.Errorf("error is %v", err)
	}
	want(t, one, "1")
	// Who is through soon is waited for.
	done := make(chan error)
	go func() {
		done <- l.Apply(t.Context(), "s", "", &plan.Plan{Files: []plan.File{file(one, "1", "11")}}, nil)
	}()
	time.Sleep(20 * time.Millisecond)
	insist.OK(t, f.Close())
	insist.OK(t, <-done)
	want(t, one, "11")
}

// within lists what fits a pattern in a folder, whatever the folder is called.
func within(dir, pattern string) (list []string) {
	names, _ := fs.Glob(os.DirFS(dir), pattern) // a pattern of a test's is right
	for _, name := range names {
		list = append(list, filepath.Join(dir, name))
	}
	return list
}
