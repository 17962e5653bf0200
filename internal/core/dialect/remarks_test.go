package dialect_test

import (
	"strings"
	"testing"

	"initium/dialects"
	"initium/internal/core/dialect"
	"initium/internal/insist"
)

// bareDialect says what has to be said, and that a mod has loaded.
const bareDialect = `
name = "b"
[[place]]
path = "{dir}/mods"
#place
[[registration]]
name = "list"
file = "{dir}/list"
#registration
[load]
absent = "fails"
#load
[start]
command = ["x"]
[stop]
patience = "5s"
#stop
[log]
prefix = "{level}: "
#log
[[log.rule]]
means = "ready"
line = "up"
[[log.rule]]
means = "loaded"
line = "got {mod}"
#rule
[console]
within = "1s"
#console
`

// What has no effect where it stands is told, with its line; what has one is not.
func TestRemarks(t *testing.T) {
	const line = "shape = 'line'\nline = 'use {mod}'\n"
	for add, want := range map[string]string{
		"registration " + line:                                                                                                                                     "",
		"registration " + line + "separator = ','":                                                                                                                 `registration[0].separator: has no effect in a registration of the shape "line" and the format "script"`,
		"registration shape = 'items'\nformat = 'json'\nat = 'm'\ncomment = '#'":                                                                                   `registration[0].comment: has no effect in a registration of the shape "items" and the format "json"`,
		"registration shape = 'items'\nformat = 'text'\nat = \"m {{\\n}}\"\ncomment = '#'":                                                                         "",
		"registration shape = 'key'\nkey = '{mod}'\non = '1'\noff = '0'\nat = 'x'":                                                                                 `registration[0].at: has no effect`,
		"registration shape = 'list'\nformat = 'json'\nat = 'm'\nseparator = ','\nassign = ':'":                                                                    `registration[0].assign: has no effect`,
		"registration shape = 'list'\nformat = 'ini'\nat = 'm'\nseparator = ','\nassign = ':'\ncomment = '#'":                                                      "",
		"registration shape = 'presence'\nat = '{mod}'\naside = '{mod}.off'\nsuffix = '.x'":                                                                        `registration[0].suffix: has no effect`,
		"registration shape = 'list'\nformat = 'ini'\nat = 'm'\nseparator = ','\nwithin = 'x'":                                                                     `registration[0].within: has no effect`,
		"registration " + line + "|place file = '{mod}.so'\nmark = ['x']":                                                                                          `place[0].mark: has no effect where each mod is a single file`,
		"registration " + line + "\n[[manifest]]\nfile = 'm'\nformat = 'toml'\nassign = ':'":                                                                       `manifest[0].assign: has no effect in the format "toml"`,
		"registration " + line + "\n[[manifest]]\nfile = 'm'\nformat = 'key-value'\nassign = ':'":                                                                  "",
		"registration " + line + "\n[[manifest]]\nfile = 'm'\nformat = 'ini'\nassign = ':'":                                                                        "",
		"registration " + line + "|place packed = true":                                                                                                            `place[0].packed: has no effect where mods are folders`,
		"registration " + line + "|load walk = 'needs-first'\nties = 'name'":                                                                                       `load.walk: has no effect where mods load in the order of the list; load.ties: has no effect where mods load in the order of the list`,
		"registration " + line + "|log time = '15:04'":                                                                                                             `log.time: has no effect without {time} in the prefix`,
		"registration " + line + "|stop console = 'q'\nsignal = 'INT'":                                                                                             `stop.signal: has no effect beside a word on the console`,
		"registration " + line + "|console end_level = 'x'\n[[console.rule]]\nmeans = 'loaded'\nline = '{mod}'":                                                    `console.end_level: has no effect without end; console.rule[0]: has no effect as nothing is asked that could be replied to`,
		"registration " + line + "|rule [[log.rule]]\nmeans = 'failed'\nline = 'no {mod} '":                                                                        `log.rule[2].line: ends with a blank`,
		"registration " + line + "|rule [[log.rule]]\nmeans = 'failed'\nline = 'got {mod}'":                                                                        `log.rule[2].line: never counts: the rule "got {mod}" before it fits all of its lines`,
		"registration " + line + "|rule [[log.rule]]\nmeans = 'ignore'\nline = 'x {any}'\n[[log.rule]]\nmeans = 'failed'\nline = 'x {mod}: {reason}'":              `log.rule[3].line: never counts: the rule "x {any}"`,
		"registration " + line + "|rule [[log.rule]]\nmeans = 'ignore'\nline = 'x {any}'\nlevel = 'I'\n[[log.rule]]\nmeans = 'failed'\nline = 'x {mod}: {reason}'": "",
		"registration " + line + "|rule [[log.rule]]\nmeans = 'failed'\nline = 'got {mod}: {reason}'":                                                              "",
	} {
		doc := bareDialect
		for _, part := range strings.Split(add, "|") {
			table, lines, _ := strings.Cut(part, " ")
			doc = strings.Replace(doc, "#"+table+"\n", lines+"\n", 1)
		}
		d, err := dialect.Parse("b.toml", []byte(doc))
		insist.Need(t, err == nil, "%s: %v", add, err)
		var got []string
		for _, r := range d.Remarks() {
			got = append(got, r.Key+": "+r.Message)
		}
		said := strings.Join(got, "; ")
		insist.That(t, strings.HasPrefix(said, want) && (want != "" || said == ""), "%s: %q, want %q", add, said, want)
	}
	for _, at := range []string{"m\\nend", "m (\\n}}", "(\\n", "m"} {
		_, err := dialect.Parse("b.toml", []byte(strings.Replace(bareDialect, "#registration", "shape = 'items'\nformat = 'text'\nat = \""+at+"\"", 1)))
		insist.Fails(t, at, err, "has to be the line with the bracket that opens the list")
	}
	for database, says := range map[string]string{
		"": "database.file: is needed", "engine = 'mysql'": "database.setting: is needed", "engine = 'mysql'\nhost = 'h'": "database.setting: is needed", "engine = 'mysql'\nname = 'n'": "", "engine = 'mysql'\nsetting = 's'": "",
		"engine = 'mysql'\nsetting = 's'\nname = 'n'": "not both", "engine = 'mysql'\nfile = '{dir}/x'\nsetting = 's'": "database.file: belongs to a database of sqlite", "file = '{dir}/x'\nuser = 'u'": "belongs to a database of mysql", "file = '{dir}/x'": "",
	} {
		if database == "" {
			database = "engine = 'sqlite'"
		}
		_, err := dialect.Parse("b.toml", []byte(strings.Replace(bareDialect, "#registration", line+"[database]\n"+database, 1)))
		if says == "" {
			insist.OK(t, err)
		} else {
			insist.Fails(t, database, err, says)
		}
	}
	d, err := dialect.Parse("b.toml", []byte(strings.NewReplacer("#registration", line, "means = \"loaded\"", "means = \"loading\"").Replace(bareDialect)))
	insist.OK(t, err)
	insist.That(t, len(d.Remarks()) == 1 && strings.Contains(d.Remarks()[0].Error(), "no start of such a server can be proved"), "%v", d.Remarks())
	for _, name := range []string{"harrow-sound", "lantern-moor", "cogwheel-fair", "nine-orchards", "bzflag", "bzflag-launch", "minetest"} {
		data, err := dialects.FS.ReadFile(name + ".toml")
		insist.OK(t, err)
		d, err := dialect.Parse(name, data)
		insist.OK(t, err)
		insist.That(t, len(d.Remarks()) == 0, "%s: %v", name, d.Remarks())
	}
}
