package archive_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"initium/internal/host/archive"
	"initium/internal/insist"
)

// wide writes a text in UTF-16.
func wide(s string, mark, big bool) []byte {
	var out []byte
	if mark {
		s = "\ufeff" + s
	}
	for _, c := range utf16.Encode([]rune(s)) {
		if big {
			out = append(out, byte(c>>8), byte(c))
		} else {
			out = append(out, byte(c), byte(c>>8))
		}
	}
	return out
}

// A log is read as text whatever it is packed in and however it is written, from a file and
// from a pipe; what is no text of one file is refused.
func TestStreams(t *testing.T) {
	const text = "10:00:01 Tide is in, é 日\n10:00:02 up\n"
	long := strings.Repeat(text, 5000)
	dir := t.TempDir()
	for name, test := range map[string]struct {
		data        []byte
		want, fault string
		piped       string // the fault from a pipe, when it is another
	}{
		"plain": {[]byte(text), text, "", ""}, "long": {[]byte(long), long, "", ""}, "empty": {nil, "", "", ""}, "three bytes": {[]byte("a\x00b"), "a\x00b", "", ""}, "one byte": {[]byte("x"), "x", "", ""},
		"UTF-16, marked": {wide(text, true, false), text, "", ""}, "UTF-16, the other way round": {wide(text, true, true), text, "", ""}, "UTF-16, unmarked": {wide(text, false, false), text, "", ""}, "two wide letters": {wide("ab", false, false), "ab", "", ""}, "one wide letter": {wide("a", true, false), "a", "", ""},
		"gzip": {gzipOf([]byte(text)), text, "", ""}, "xz": {xzOf([]byte(text)), text, "", ""}, "zstd": {zstdOf([]byte(long)), long, "", ""}, "gzip of UTF-16": {gzipOf(wide(text, true, false)), text, "", ""}, "zstd of unmarked UTF-16": {zstdOf(wide(long, false, false)), long, "", ""}, "gzip of nothing": {gzipOf(nil), "", "", ""},
		"zip of one": {zipOf(file("a/log", text), entry{name: "a/"}), text, "", "cannot be read from a pipe"}, "zip of one in UTF-16": {zipOf(file("log", string(wide(text, true, true)))), text, "", "cannot be read from a pipe"},
		"zip of two": {zipOf(file("a", "1"), file("b", "2")), "", "it is a zip archive of 2 files; unpack the log first", "cannot be read from a pipe"}, "zip of none": {zipOf(entry{name: "a/"}), "", "it is a zip archive of 0 files", "cannot be read from a pipe"},
		"zip of a link": {zipOf(entry{name: "l", target: "x", mode: fs.ModeSymlink | 0o777}), "", "it is a zip archive of 0 files", "cannot be read from a pipe"}, "a broken zip": {[]byte("PK\x03\x04 and no more"), "", "", "cannot be read from a pipe"},
		"tar": {tarOf(file("a", "1")), "", "it is an archive; unpack the log first", ""}, "rar": {rarOf(file("a", "1")), "", "it is an archive", ""}, "7z": {[]byte("7z\xbc\xaf\x27\x1c\x00\x04" + strings.Repeat("x", 600)), "", "it is an archive", ""},
		"gzip, cut off": {gzipOf([]byte(long))[:60], "", "", ""},
	} {
		full := filepath.Join(dir, "log")
		insist.OK(t, os.WriteFile(full, test.data, 0o644))
		for _, from := range []string{full, "-"} {
			s, err := archive.OpenStream(from, bytes.NewReader(test.data))
			fault := test.fault
			if from == "-" && test.piped != "" {
				fault = test.piped
			}
			if fault != "" || strings.Contains(name, "broken") || strings.Contains(name, "cut off") {
				var got []byte
				if err == nil {
					got, err = io.ReadAll(s)
					s.Close()
				}
				insist.Fails(t, fmt.Sprintf("%s from %s: %q", name, filepath.Base(from), got), err, fault)
				continue
			}
			if err != nil {
				t.Errorf("%s from %s: %v", name, filepath.Base(from), err)
				continue
			}
			got, err := io.ReadAll(s)
			if err := errors.Join(err, s.Close()); err != nil || string(got) != test.want {
				t.Errorf("%s from %s: %.80q, %v", name, filepath.Base(from), got, err)
			}
		}
	}
	if _, err := archive.OpenStream(filepath.Join(dir, "nothing"), nil); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("what is not there: %v", err)
	}
	open, err := os.ReadDir("/proc/self/fd")
	insist.OK(t, err)
	for _, fd := range open {
		if to, _ := os.Readlink("/proc/self/fd/" + fd.Name()); strings.HasPrefix(to, dir) {
			t.Errorf("%s is left open", to)
		}
	}
}
