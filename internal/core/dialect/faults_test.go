package dialect_test

import (
	"fmt"
	"io/fs"
	"regexp"
	"strings"
	"testing"

	"initium/dialects"
	"initium/internal/core/dialect"
	"initium/internal/golden"
)

// everything has every key that a dialect may have, so that each can be written wrongly.
const everything = `name = "all"
title = "All of it"
about = "a family with every key"
order = "listed"
[recognise]
files = ["a", "b/c"]
[[given]]
name = "port"
kind = "port"
about = "the port"
optional = true
default = ["9000"]
from = { registration = "script", key = "port" }
[[given]]
name = "program"
kind = "program"
default = ["{dir}/run", "run"]
[[place]]
path = "{dir}/mods"
group = "+"
mark = ["about.toml"]
main = "main"
bundle = ["pack"]
loads = "registered"
[[place]]
path = "{dir}/files"
file = "{mod}.so"
aside = "{mod}.so.off"
called = "files"
packed = true
[[manifest]]
file = "about.toml"
format = "toml"
name = "name"
release = "release"
needs = "needs"
versions = "comparators"
[[source]]
file = "main"
format = "script"
words = ["use", "set"]
comment = "#"
quote = "\""
[names]
allowed = "a-z_"
agree = true
[[registration]]
name = "script"
file = "{dir}/start"
shape = "line"
comment = "#"
quote = "\""
line = "use {mod}"
setting = "let {name} {value}"
include = "also {file}"
section = "# == {title} =="
sides = ["all"]
[[registration]]
name = "list"
file = "{dir}/start.sh"
format = "shell"
shape = "list"
at = "-mods={list}"
separator = ";"
mark = "@"
last = "wanted"
optional = true
[[registration]]
name = "twin"
same_as = "list"
file = "{dir}/all.service"
format = "unit"
shape = "list"
at = "-mods={list}"
separator = ";"
[[registration]]
name = "switches"
file = "{dir}/all.conf"
shape = "key"
format = "key-value"
key = "load_{mod}"
on = "true"
off = "false"
[[registration]]
name = "pairs"
file = "{dir}/all.ini"
format = "ini"
shape = "parallel"
at = "s/names"
numbers = "s/ids"
separator = ","
[[registration]]
name = "items"
file = "{dir}/all.json"
format = "json"
shape = "items"
at = "mods"
name_key = "id"
item = "{\"id\": {mod}}"
[[registration]]
name = "field"
file = "{form}/mods.txt"
form = "Mods"
format = "words"
shape = "list"
at = "-m={list}"
separator = ";"
[[value]]
name = "slots"
registration = "script"
about = "how many"
least = 1
most = 64
required = true
placeholders = ["X"]
[[value]]
name = "mode"
registration = "script"
allowed = ["a", "b"]
risky = ["b"]
risk = "it is risky"
secret = true
told = "mode"
[[build]]
of = "server"
about = "the program"
command = ["{program}", "--version"]
line = "v{version}"
wants = ">=1"
[[data]]
file = "{dir}/table.xml"
format = "xml"
about = "the table"
wrong = "stops"
[[icon]]
file = "{dir}/icon.png"
width = 64
height = 64
[keys]
files = "keys/*.key"
into = "{dir}/keys"
[[content]]
kind = "map"
files = "*.map"
into = "{dir}/maps"
[[leaves]]
path = "{dir}/stores/{mod}"
about = "its store"
[world]
paths = ["{dir}/world"]
about = "the world"
[load]
absent = "fails"
circle = "stops"
[start]
command = ["{program}", "-p", "{port}"]
directory = "{dir}"
files = ["start"]
extra = [["-x", "{port}"]]
env = { PLACE = "{dir}" }
within = "60s"
settle = "1s"
terminal = false
[stop]
console = "quit"
signal = "TERM"
patience = "5s"
[log]
prefix = "{time} {level}: "
time = "15:04:05"
files = ["{dir}/log"]
[[log.rule]]
means = "ready"
line = "open on {port}"
[[log.rule]]
means = "failed"
level = "error"
line = "{mod} is torn:"
next = true
fatal = true
own = true
[console]
list = "list"
reload = "again {mod}"
end = "{any} in all"
within = "2s"
[[console.rule]]
means = "loaded"
line = "- {mod}"
`

var keyLine = regexp.MustCompile(`^(\w+)\s*=\s*(.*)$`)

// TestFaultsInFull writes each key of a dialect wrongly, in several ways, leaves it out, and
// gives it twice; what is said of that is held to what was read through once.
func TestFaultsInFull(t *testing.T) {
	sources := []string{everything}
	entries, err := fs.ReadDir(dialects.FS, ".")
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		data, err := fs.ReadFile(dialects.FS, e.Name())
		if err != nil {
			t.Fatal(err)
		}
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
