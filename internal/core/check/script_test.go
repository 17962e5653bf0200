package check_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/survey"
	"initium/internal/insist"
)

const launched = `
name = "launched"
[[place]]
path = "{dir}/mods"
[[registration]]
name = "start"
file = "{dir}/FILE"
format = "FORMAT"
shape = "list"
at = "-mods={list}"
separator = ","
[start]
directory = "{dir}"
command = ["run", "{dir}/start.sh"]
hands = ["{dir}/conf/x.conf"]
[[log.rule]]
means = "ready"
line = "up"
`

// What is told of scripts and units that start a server.
func TestLaunches(t *testing.T) {
	for what, c := range map[string]struct {
		file, format, doc string
		want              string // codes with severity and line
	}{
		"right":                      {"start.sh", "shell", "#!/bin/sh\ncd /srv/q/bin\nexec ./quay -x -mods=a ../conf/x.conf\n", ""},
		"from the script's own":      {"start.sh", "shell", "cd \"$(dirname \"$0\")\" && exec bin/quay -mods=a -c=conf/x.conf\n", ""},
		"its own in other words":     {"start.sh", "shell", "cd ${0%/*}\n\"$(dirname \"$0\")/bin/quay\" -mods=a \"$(dirname -- \"${BASH_SOURCE[0]}\")\"/conf/x.conf\n", ""},
		"a folder that is not there": {"start.sh", "shell", "cd bim\nexec ./quay -mods=a conf/x.conf\n", "script-directory error 1"},
		"nobody knows where":         {"start.sh", "shell", "cd \"$WHERE\"\nexec ./quay -mods=a ../conf/x.conf\n", ""},
		"nor from there on":          {"start.sh", "shell", "cd \"$WHERE\"\ncd bim\nexec ./quay -mods=a ../conf/x.conf\n", ""},
		"but a whole path":           {"start.sh", "shell", "cd \"$WHERE\"\nexec /srv/q/quay -mods=a conf/x.conf\n", "script-program error 2"},
		"home":                       {"start.sh", "shell", "cd\nexec ./quay -mods=a x.conf\n", ""},
		"not to be run":              {"start.sh", "shell", "exec conf/x.conf -mods=a conf/x.conf\n", "script-program error 1"},
		"a folder that is run":       {"start.sh", "shell", "exec ./bin -mods=a conf/x.conf\n", "script-program error 1"},
		"by its bare name":           {"start.sh", "shell", "quay -mods=a conf/x.conf\n", ""},
		"with what is set for it":    {"start.sh", "shell", "A=1 nohup env B=2 bin/quay -mods=a conf/x.conf\n", ""},
		"nothing handed over":        {"start.sh", "shell", "bin/quay -mods=a\n", "not-handed error 1"},
		"whatever is handed over":    {"start.sh", "shell", "bin/quay -mods=a \"$@\"\n", ""},
		"seen from elsewhere":        {"start.sh", "shell", "cd bin\n./quay -mods=a conf/x.conf\n", "not-handed error 2; seen-from-elsewhere error 2"},
		"an address":                 {"start.sh", "shell", "cd bin\n./quay -mods=a ../conf/x.conf http://conf/x.conf\n", ""},
		"nothing but exec":           {"start.sh", "shell", "exec\n", "list-unreadable error 2; not-handed error 1"},
		"another script":             {"other.sh", "shell", "exec /srv/q/quay -mods=a conf/x.conf\n", "script-program warning 1"},
		"in batch":                   {"start.bat", "batch", "@echo off\r\ncd /d \"%~dp0bin\"\r\n.\\quay.exe -mods=a ..\\conf\\x.conf\r\n", ""},
		"not there in batch":         {"start.bat", "batch", "cd bim\r\nquay.exe -mods=a\r\n", "not-handed warning 2; script-directory warning 1"},
		"a unit":                     {"q.service", "unit", "[Service]\nWorkingDirectory=/srv/q\nExecStart=/srv/q/bin/quay -mods=a conf/x.conf\n", ""},
		"a unit in the root":         {"q.service", "unit", "[Service]\nExecStart=/srv/q/bin/quay -mods=a conf/x.conf\n", "not-handed warning 2; seen-from-elsewhere warning 2"},
		"a unit that goes nowhere":   {"q.service", "unit", "[Service]\nWorkingDirectory=/srv/other\nExecStart=/srv/q/bin/quay -mods=a conf/x.conf\n", "script-directory warning 2"},
		"a unit of somebody's":       {"q.service", "unit", "[Service]\nWorkingDirectory=~\nExecStart=/srv/q/bin/quay -mods=a conf/x.conf\n", ""},
		"elsewhere":                  {"start.sh", "shell", "cd /home/me/q/bin\n/home/me/q/quay -mods=a /home/me/q/conf/x.conf\n", "away"},
		"elsewhere, not runnable":    {"start.sh", "shell", "conf/x.conf -mods=a conf/x.conf\n", "away"},
		"elsewhere, not there":       {"start.sh", "shell", "./quay -mods=a\n", "away not-handed error 1; script-program error 1"},
	} {
		want, away := strings.CutPrefix(c.want, "away")
		c.want = strings.TrimSpace(want)
		d, err := dialect.Parse("launched.toml", []byte(strings.NewReplacer("FILE", c.file, "FORMAT", c.format).Replace(launched)))
		insist.OK(t, err)
		disk := fstest.MapFS{"srv/q/" + c.file: {Data: []byte(c.doc), Mode: 0o755}, "srv/q/bin/quay": {Mode: 0o755}, "srv/q/bin/quay.exe": {Mode: 0o644}, "srv/q/conf/x.conf": {Mode: 0o644}, "srv/q/mods/a/x": {}, "home/x": {}}
		s := survey.Take(survey.Input{Server: "q", Dialect: d, Vars: dialect.Vars{"dir": "/srv/q"}, FS: disk})
		var got []string
		for _, f := range check.Run(s, check.Surroundings{FS: disk, Away: away}).Findings {
			if f.Severity != check.Note {
				got = append(got, fmt.Sprintf("%s %s %d", f.Code, f.Severity, f.Line))
			}
		}
		slices.Sort(got)
		insist.Same(t, what, strings.Join(got, "; "), c.want)
	}
}
