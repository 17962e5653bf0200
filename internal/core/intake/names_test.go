package intake_test

import (
	"fmt"
	"path"
	"strings"
	"testing"
	"unicode/utf8"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/insist"
)

func TestEntryPath(t *testing.T) {
	for raw, want := range map[string]string{
		"a/b.txt": "a/b.txt", "./a//b/": "a/b", `a\b\c`: "a/b/c", "": "", "./": "", "a/./b": "a/b", "ünï/日本": "ünï/日本",
		"...": "...", "a..b/..c": "a..b/..c", "con-tent/auxiliary.txt": "con-tent/auxiliary.txt", "a b/c ": "a b/c ",
		strings.Repeat("x", 255): strings.Repeat("x", 255), "com0": "com0", "lpt": "lpt", "com10": "com10", "c": "c", "1:a": "1:a", "ab:c": "ab:c", "console": "console",
		strings.Repeat(strings.Repeat("x", 249)+"/", 16): strings.Repeat("/"+strings.Repeat("x", 249), 16)[1:], // 4000 bytes
	} {
		if got, err := intake.EntryPath(raw); err != nil || got != want {
			t.Errorf("%q: %q, %v; want %q", raw, got, err, want)
		}
	}
	for raw, word := range map[string]string{
		"../a": "climbs", "a/../../b": "climbs", "a/..": "climbs", `..\a`: "climbs", `a\..\..\b`: "climbs", "/etc/passwd": "absolute", `\\host\share`: "absolute",
		`\a`: "absolute", "C:/a": "drive", `c:\a`: "drive", "Z:a": "drive", "CON": "device", "a/aux.txt": "device", "NUL": "device",
		"com1": "device", "x/LPT9.log": "device", "nul .txt": "device", "a\x00b": "control", "a\nb": "control", "\x1b[2Jx": "control", "a\x7f": "control",
		"a\u0085b": "control", "a\u202eb": "control", "a\u2028b": "control", "a\u2029b": "control", "a\u200bb": "cannot be seen", "a\u2060b": "cannot be seen", "a\U000e0041b": "cannot be seen", "a\u00adb": "cannot be seen", "C:": "drive", "\xff\xfe": "UTF-8", strings.Repeat("x", 256): "255", strings.Repeat("é", 128): "255",
		strings.Repeat("a/", 2001) + "b": "4000", strings.Repeat(strings.Repeat("x", 249)+"/", 16) + "x": "4000", strings.Repeat("a/", 64) + "b": "deep",
	} {
		if got, err := intake.EntryPath(raw); err == nil || !strings.Contains(err.Error(), word) {
			t.Errorf("%q: %q, %v; want an error with %q", raw, got, err, word)
		} else if strings.ContainsAny(err.Error(), "\x00\n\x1b\u202e") || len(err.Error()) > 400 {
			t.Errorf("%q: the message itself is hostile or too long: %q", raw, err)
		}
	}
}

func FuzzEntryPath(f *testing.F) {
	for _, s := range []string{"a/b", "../x", `a\..\b`, "C:x", "/x", "a//b/./c", "con", "\xff", "a\x00"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, raw string) {
		got, err := intake.EntryPath(raw)
		if err != nil {
			insist.That(t, got == "", "%q gives both %q and %v", raw, got, err)
			return
		}
		if got == "" {
			return
		}
		insist.That(t, !path.IsAbs(got) && path.Clean(got) == got && got != ".." && !strings.HasPrefix(got, "../") && !strings.Contains(got, `\`) && utf8.ValidString(got), "%q gives %q", raw, got)
		if joined := path.Join("/srv/mods", got); !strings.HasPrefix(joined, "/srv/mods/") {
			t.Errorf("%q leads to %q", raw, joined)
		}
		for _, e := range strings.Split(got, "/") {
			insist.That(t, len(e) <= 255 && e != "" && !strings.ContainsFunc(e, func(r rune) bool { return r < 0x20 }), "%q gives the element %q", raw, e)
		}
		if again, err := intake.EntryPath(got); err != nil || again != got {
			t.Errorf("%q gives %q, and that %q, %v", raw, got, again, err)
		}
	})
}

func TestBareName(t *testing.T) {
	for name, want := range map[string]string{
		"tide_tables-1.4.2.tar.gz": "tide_tables", "tide_tables-master.zip": "tide_tables", "Tide Tables (1).zip": "Tide Tables",
		"tide-tables-v2": "tide-tables", "tide_tables-1.4-rc1": "tide_tables", "tides v2.0 - Copy": "tides", "tides-3f2a9c1b0d": "tides",
		"tides.7z": "tides", "castle_2": "castle_2", "area51": "area51", "2.0": "2.0", "v2": "v2", "deadbeef1": "deadbeef1",
		"tides-1.4.2-main.tar.zst": "tides", "tides_stable": "tides", "mod.so": "mod.so", "a-b-c": "a-b-c",
	} {
		insist.Same(t, fmt.Sprintf("%q", name), intake.BareName(name), want)
	}
}

func TestMend(t *testing.T) {
	for _, c := range []struct{ allowed, name, want string }{
		{"a-z0-9_", "Tide Tables", "tide_tables"}, {"a-z0-9_", "tide-tables!", "tide_tables"}, {"a-z0-9", "Tide Tables", "tidetables"},
		{"A-Z", "tide", "TIDE"}, {"a-z0-9-", "Tide_Tables", "tide-tables"}, {"", " Tide/Tables ", "Tide_Tables"}, {"", `Tide\Tables`, "Tide_Tables"}, {"a-z", `a\/b`, "ab"}, {"a-z_", "日本", ""}, {"a-z_", "__x__", "x"},
	} {
		got := intake.Mend(dialect.Names{Allowed: c.allowed}, c.name)
		insist.Same(t, fmt.Sprintf("%q among %q", c.name, c.allowed), got, c.want)
	}
}

func FuzzMend(f *testing.F) {
	f.Add("a-z0-9_", "Tide Tables")
	f.Fuzz(func(t *testing.T, allowed, name string) {
		names := dialect.Names{Allowed: allowed}
		if got := intake.Mend(names, name); got != "" && allowed != "" {
			if r, bad := names.Forbidden(got); bad {
				t.Errorf("%q among %q gives %q, with %q", name, allowed, got, r)
			}
		}
		intake.BareName(name)
	})
}
