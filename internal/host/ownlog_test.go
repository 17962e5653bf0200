package host_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"initium/internal/host"
	"initium/internal/insist"
)

// Initium's own log is for its operator alone, bounded, and holds neither secrets nor what a
// terminal would obey.
func TestOwnLog(t *testing.T) {
	h := host.Home{Dir: t.TempDir()}
	var all strings.Builder
	insist.OK(t, h.ReadLog(&all))
	insist.That(t, all.Len() <= 0, "before anything there is %q", all.String())
	log := h.Log()
	log.Info("a change was completed", "server", "s\x1b[31m\nx", "took", 1234567*time.Microsecond)
	log.Error("the login failed", "error", errors.New("password=geheim77 was refused"))
	log.Info("a line was typed", "line", "login password=geheim78")
	insist.OK(t, h.ReadLog(&all))
	said := all.String()
	for _, want := range []string{`level=INFO msg="a change was completed"`, "took=1.235s", "level=ERROR", "was refused"} {
		insist.Holds(t, "", said, want)
	}
	insist.That(t, !strings.Contains(said, "geheim") && !strings.ContainsAny(said, "\x1b") && strings.Count(said, "\n") == 3, "it says %q", said)
	file := filepath.Join(h.Dir, "initium.log")
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info, err)
	}
	long := strings.Repeat("x", 1000)
	for range 3500 {
		log.Info(long)
	}
	log.Info("the last")
	size := int64(0)
	files := within(h.Dir, "initium.log*")
	for _, name := range files {
		info, err := os.Stat(name)
		insist.OK(t, err)
		size += info.Size()
	}
	insist.That(t, len(files) == 2 && size <= 2<<20+4096 && size >= 1<<20, "%d files of %d bytes", len(files), size)
	all.Reset()
	insist.OK(t, h.ReadLog(&all))
	insist.That(t, strings.HasSuffix(all.String(), "msg=\"the last\"\n"), "it ends with %q", all.String()[all.Len()-100:])
}
