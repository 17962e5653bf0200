package part_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"initium/internal/core/dialect"
	"initium/internal/core/part"
	"initium/internal/insist"
)

var builds = &dialect.Part{Of: dialect.PartServer, Name: "build", Paths: []string{"{dir}/now", "{dir}/builds/mill-{version}"}, Mark: []string{"bin/mill"}}

var vars = dialect.Vars{"dir": "/srv/mill"}

func TestSpots(t *testing.T) {
	disk := fstest.MapFS{"srv/mill/now/bin/mill": {}, "srv/mill/builds/mill-1.10/bin/mill": {}, "srv/mill/builds/mill-1.9/bin/mill": {}, "srv/mill/builds/mill-2/bin/other": {},
		"srv/mill/builds/other-3/bin/mill": {}, "srv/mill/builds/mill-": {}, "opt/wheel-2/bin/wheel": {Mode: 0o755}, "opt/wheel-3/bin/wheel": {Mode: 0o644}, "opt/wheel-4/bin/wheel/x": {}}
	insist.Same(t, "builds", fmt.Sprint(part.Spots(disk, builds, vars)), "[{/srv/mill/now } {/srv/mill/builds/mill-1.9 1.9} {/srv/mill/builds/mill-1.10 1.10}]")
	runtime := &dialect.Part{Of: dialect.PartRuntime, Name: "wheel", Paths: []string{"wheel", "{nowhere}/x", "/opt/wheel-{version}/bin/wheel"}}
	insist.Same(t, "runtimes", fmt.Sprint(part.Spots(disk, runtime, vars)), "[{/opt/wheel-2/bin/wheel 2}]")
	insist.Same(t, "of which nobody knows what can be run", fmt.Sprint(part.Spots(part.Runnable{FS: disk}, runtime, vars)), "[{/opt/wheel-2/bin/wheel 2} {/opt/wheel-3/bin/wheel 3}]")
	full, ok := part.At(builds, vars, "3")
	insist.That(t, ok && full == "/srv/mill/builds/mill-3", "%q", full)
	_, ok = part.At(&dialect.Part{Paths: []string{"{dir}/now"}}, vars, "3")
	insist.That(t, !ok, "there is no place for several")
}

// Where a file names a build, and what is there once another one is used.
func TestMentions(t *testing.T) {
	const to = "/srv/mill/builds/mill-2"
	for name, c := range map[string]struct{ doc, want string }{
		"from the server's folder": {"exec builds/mill-1.9/bin/mill -x\n", "exec builds/mill-2/bin/mill -x\n"},
		"with a dot":               {"./builds/mill-1.9/bin/mill\n", "./builds/mill-2/bin/mill\n"},
		"whole":                    {"exec /srv/mill/builds/mill-1.9/bin/mill\n", "exec /srv/mill/builds/mill-2/bin/mill\n"},
		"whole, of another server": {"exec /srv/other/builds/mill-1.9/bin/mill\n", ""},
		"whole, longer":            {"exec /backup/srv/mill/builds/mill-1.9/bin/mill\n", ""},
		"filled in by a shell":     {"\"$(dirname \"$0\")/builds/mill-1.9/bin/mill\" -d \"$HERE\"/builds/mill-1.9 ${HERE}/builds/mill-1.9\n", "\"$(dirname \"$0\")/builds/mill-2/bin/mill\" -d \"$HERE\"/builds/mill-2 ${HERE}/builds/mill-2\n"},
		"in batch":                 {"@echo off\r\nrem builds\\mill-1.8\r\n\"%~dp0builds\\mill-1.9\\bin\\mill.exe\" -x\r\n", "@echo off\r\nrem builds\\mill-1.8\r\n\"%~dp0builds\\mill-2\\bin\\mill.exe\" -x\r\n"},
		"in a unit":                {"[Service]\n# was builds/mill-1.8\nExecStart=/srv/mill/builds/mill-1.9/bin/mill\n", "[Service]\n# was builds/mill-1.8\nExecStart=/srv/mill/builds/mill-2/bin/mill\n"},
		"quoted":                   {"exec \"builds/mill-1.9/bin/mill\" 'builds/mill-1.9/x'\n", "exec \"builds/mill-2/bin/mill\" 'builds/mill-2/x'\n"},
		"in a comment":             {"# builds/mill-1.9\nexec x # builds/mill-1.9\n", ""},
		"no comment":               {"exec '#' builds/mill-1.9 \"a # b\" builds/mill-1.9\n", "exec '#' builds/mill-2 \"a # b\" builds/mill-2\n"},
		"two of them":              {"A=builds/mill-1.9\nB=builds/mill-1.10/lib\n", "A=builds/mill-2\nB=builds/mill-2/lib\n"},
		"a longer name":            {"exec mybuilds/mill-1.9/x oldbuilds/mill-1 x/builds/mill-1.9\n", ""},
		"one without a version":    {"exec now/bin/mill nowhere/x ./now\n", "exec builds/mill-2/bin/mill nowhere/x ./builds/mill-2\n"},
		"over the folder above":    {"exec ../mill/builds/mill-1.9/x ../else/builds/mill-1.9/x\n", "exec ../mill/builds/mill-2/x ../else/builds/mill-1.9/x\n"},
		"a list of paths":          {"LIBS=/usr/lib:/srv/mill/builds/mill-1.9/lib\n", "LIBS=/usr/lib:/srv/mill/builds/mill-2/lib\n"},
		"not one":                  {"exec builds/mill- builds/other-1.9\n", ""},
	} {
		list := part.Mentions([]byte(c.doc), builds, vars, "/srv/mill")
		if c.want == "" {
			insist.That(t, len(list) == 0, "%s: %v", name, list)
			continue
		}
		got, ok := part.Use([]byte(c.doc), list, to)
		insist.That(t, ok && string(got) == c.want, "%s: %q, want %q", name, got, c.want)
		for _, m := range list {
			insist.That(t, strings.HasPrefix(m.Path, "/srv/mill/"), "%s: %q", name, m.Path)
		}
		if again := part.Mentions(got, builds, vars, "/srv/mill"); !strings.Contains(c.doc, "1.10") {
			insist.That(t, len(again) == len(list) && again[0].Path == to, "%s: afterwards %v", name, again)
		}
	}
	doc := []byte("exec builds/mill-1.9/x\n")
	_, ok := part.Use(doc, part.Mentions(doc, builds, vars, "/srv/mill"), "/opt/mill-2")
	insist.That(t, !ok, "what lies elsewhere is named from the server's folder")
}

func FuzzMentions(f *testing.F) {
	f.Add([]byte("exec \"$(dirname \"$0\")/builds/mill-1.9/x\" # builds/mill-1\nrem now\n"))
	f.Add([]byte("\"\\builds\\mill-1\"'#\"%~dp0now"))
	f.Fuzz(func(t *testing.T, doc []byte) {
		list := part.Mentions(doc, builds, vars, "/srv/mill")
		for i, m := range list {
			insist.Need(t, m.Span.Start >= 0 && m.Span.End <= len(doc) && m.Span.Start < m.Span.End && (i == 0 || list[i-1].Span.End <= m.Span.Start), "%v", list)
		}
		changed, ok := part.Use(doc, list, "/srv/mill/builds/mill-2")
		insist.Need(t, ok, "it cannot be changed")
		again := part.Mentions(changed, builds, vars, "/srv/mill")
		insist.Need(t, len(again) == len(list), "%d become %d: %q, %q", len(list), len(again), doc, changed)
	})
}
