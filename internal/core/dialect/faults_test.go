package dialect_test

import (
	_ "embed"
	"fmt"
	"io/fs"
	"regexp"
	"strings"
	"testing"

	"initium/dialects"
	"initium/internal/core/dialect"
	"initium/internal/golden"
	"initium/internal/insist"
)

// everything has every key that a dialect may have, so that each can be written wrongly.
//
//go:embed testdata/everything.toml
var everything string

var keyLine = regexp.MustCompile(`^(\w+)\s*=\s*(.*)$`)

// TestFaultsInFull writes each key of a dialect wrongly, in several ways, leaves it out, and
// gives it twice; what is said of that is held to what was read through once.
func TestFaultsInFull(t *testing.T) {
	insist.Long(t)
	sources := []string{everything}
	entries, err := fs.ReadDir(dialects.FS, ".")
	insist.OK(t, err)
	for _, e := range entries {
		data, err := fs.ReadFile(dialects.FS, e.Name())
		insist.OK(t, err)
		sources = append(sources, string(data))
	}
	if _, err := dialect.Parse("all.toml", []byte(everything)); err != nil {
		t.Errorf("the whole of it:\n%v", err)
	}
	seen := map[string]bool{}
	var b strings.Builder
	for n, source := range sources {
		lines := strings.Split(source, "\n")
		section := ""
		for i, line := range lines {
			if strings.HasPrefix(line, "[") {
				section = strings.Trim(strings.TrimSpace(line), "[]")
				continue
			}
			m := keyLine.FindStringSubmatch(line)
			if m == nil || n > 0 && seen[section+"."+m[1]] {
				continue
			}
			seen[section+"."+m[1]] = true
			values := []string{`""`, `"zzz"`, `"{nope}"`, `"a{mod}b{mod}"`, `7`, `-1`, `["", "{nope}"]`, `true`, `"{mod} {reason} {any}{path}"`}
			for _, wrong := range append(values, "left out", "twice") {
				changed := append([]string{}, lines...)
				switch wrong {
				case "left out":
					changed[i] = ""
				case "twice":
					changed[i] = line + "\n" + line
				default:
					changed[i] = m[1] + " = " + wrong
				}
				d, err := dialect.Parse("d.toml", []byte(strings.Join(changed, "\n")))
				said := "fine"
				if err != nil {
					said = strings.ReplaceAll(err.Error(), "\n", "\n    ")
				} else if d == nil {
					t.Fatalf("%s.%s = %s gives nothing", section, m[1], wrong)
				}
				fmt.Fprintf(&b, "%s.%s = %s: %s\n", section, m[1], wrong, said)
			}
		}
	}
	golden.Check(t, "faults.txt", b.String())
}
