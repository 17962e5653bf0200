package test

import (
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// quayDialect is a family that is started by a script, which goes to a folder, runs a program there and hands it a file.
const quayDialect = `
name = "quay"
[recognise]
files = ["start.sh", "conf"]
[[place]]
path = "{dir}/mods"
[[registration]]
name   = "start script"
file   = "{dir}/start.sh"
format = "shell"
shape  = "list"
at     = "-mods={list}"
separator = ","
[[registration]]
name    = "settings"
file    = "{dir}/conf/quay.conf"
format  = "script"
shape   = "line"
comment = "#"
line    = "load {mod}"
setting = "{name} {value}"
[[value]]
name         = "key"
registration = "settings"
required     = true
secret       = true
placeholders = ["YOUR-KEY"]
wrong        = "stops"
about        = "the key of the harbour office"
[start]
directory = "{dir}"
command   = ["/bin/sh", "{dir}/start.sh"]
hands     = ["{dir}/conf/quay.conf"]
within    = "10s"
settle    = "100ms"
[stop]
signal   = "TERM"
patience = "5s"
[[log.rule]]
means = "ready"
line  = "the quay is open"
[[log.rule]]
means = "loaded"
line  = "has {mod}"
[[log.rule]]
means = "stopped"
line  = "closed: {reason}"
`

// quayProgram finds its key only in a file that it is handed, and its berths in the folder that it runs in.
const quayProgram = `#!/bin/sh
conf=; mods=
for word; do case $word in -conf=*) conf=${word#-conf=};; -mods=*) mods=${word#-mods=};; esac; done
[ -d data ] || { echo "closed: nothing found"; exit 3; }
grep -q '^key [A-Z0-9-]' "$conf" 2>/dev/null && ! grep -q YOUR-KEY "$conf" || { echo "closed: key missing"; exit 4; }
for mod in $(echo "$mods" | tr , ' '); do echo "has $mod"; done
echo "the quay is open"
trap 'exit 0' TERM
while :; do sleep 0.1; done
`

// The classical mistakes of a start are told before it, with their place, and named once more when it has failed.
func TestMistakesOfAStart(t *testing.T) {
	t.Parallel()
	dialect := filepath.Join(t.TempDir(), "quay.toml")
	write(t, dialect, quayDialect)
	right := "#!/bin/sh\ncd \"$(dirname \"$0\")/bin\" || exit 1\nexec ./quay -conf=../conf/quay.conf -mods=lamp\n"
	for what, c := range map[string]struct {
		from, to string // in the script
		conf     string
		code     string // "" where all is well
		says     string
	}{
		"all is well":            {},
		"whole paths":            {from: `cd "$(dirname "$0")/bin" || exit 1` + "\nexec ./quay -conf=../conf/quay.conf", to: "cd \"DIR/bin\"\nexec \"DIR/bin/quay\" \"-conf=DIR/conf/quay.conf\""},
		"a wrong directory":      {from: `"$(dirname "$0")/bin"`, to: "\"DIR/bim\"", code: "script-directory", says: "start.sh goes to DIR/bim, which is not there"},
		"the program elsewhere":  {from: "exec ./quay", to: "exec \"DIR/quay\"", code: "script-program", says: "start.sh runs DIR/quay, which is not there"},
		"one that cannot be run": {from: "exec ./quay", to: "exec \"DIR/conf/quay.conf\"", code: "script-program", says: "which cannot be run"},
		"no startup file":        {from: " -conf=../conf/quay.conf", code: "not-handed", says: "start.sh does not hand conf/quay.conf over to the server"},
		"another startup file":   {from: "../conf/quay.conf", to: "../conf/other.conf", code: "not-handed", says: "does not hand conf/quay.conf over"},
		"seen from elsewhere":    {from: `cd "$(dirname "$0")/bin"`, to: "cd \"DIR/bin\""},
		"a path from elsewhere":  {from: `cd "$(dirname "$0")/bin" || exit 1` + "\nexec ./quay -conf=../conf", to: "cd \"DIR/bin\"\nexec ./quay -conf=conf", code: "seen-from-elsewhere", says: "start.sh names conf/quay.conf, which is there seen from DIR, and it runs in DIR/bin"},
		"no key":                 {conf: "title x\n", code: "setting-missing", says: "key"},
		"the template's key":     {conf: "key YOUR-KEY\n", code: "setting-placeholder", says: "key"},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			o := newOperator(t)
			o.do(0, "dialect", "add", dialect)
			dir := filepath.Join(filepath.Dir(o.home), "quay")
			executable(t, filepath.Join(dir, "bin/quay"), quayProgram)
			write(t, filepath.Join(dir, "bin/data/x"), "")
			write(t, filepath.Join(dir, "mods/lamp/x"), "")
			conf := "key K-1234\n"
			if c.conf != "" {
				conf = c.conf
			}
			write(t, filepath.Join(dir, "conf/quay.conf"), conf)
			write(t, filepath.Join(dir, "conf/other.conf"), "title none\n")
			executable(t, filepath.Join(dir, "start.sh"), strings.ReplaceAll(strings.Replace(right, c.from, c.to, 1), "DIR", dir))
			o.do(0, "adopt", dir, "--as", "q", "--dialect", "quay")
			var check checkJSON
			if c.code == "" {
				o.json(0, &check, "check", "q", "--json")
				insist.That(t, len(check.Findings) == 0, "%+v", check.Findings)
				o.do(0, "prove", "q")
				return
			}
			o.json(1, &check, "check", "q", "--json")
			f := check.Findings[0]
			insist.That(t, f.Code == c.code && f.Severity == "error" && strings.Contains(f.Message, strings.ReplaceAll(c.says, "DIR", dir)), "%+v", f)
			said := o.try("prove", "q").out
			insist.Holds(t, "after it", said, "not proved", "check had foretold that the server stops", strings.ReplaceAll(c.says, "DIR", dir))
			insist.Holds(t, "explained", o.do(0, "check", "--explain", c.code), "what to do")
		})
	}
}
