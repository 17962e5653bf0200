package dialect_test

import (
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/insist"
)

const spoken = `name = "kiln"
[[place]]
path = "{dir}/glazes"
[start]
command = ["x"]
[log]
prefix = "{time} {level} "
time = "15:04:05"
[[log.rule]]
means = "loaded"
level = "info"
line = "{mod} is on"
[[log.rule]]
means = "failed"
line = "{path} is broken: {reason}"
[[log.rule]]
means = "missing"
line = "not here: {mods}"
[[log.rule]]
means = "ready"
line = "hot"
`

// Examples are read by the rules, and those that are read otherwise are told with their lines.
func TestExamples(t *testing.T) {
	for name, test := range map[string]struct{ example, untrue string }{
		"as it says":        {`line = "10:00:00 info ash is on"` + "\nmeans = \"loaded\"\nmods = [\"ash\"]", ""},
		"a path":            {`line = "10:00:00 error glazes/ash/a.so is broken: eof"` + "\nmeans = \"failed\"\nmods = [\"ash\"]", ""},
		"several":           {`line = "10:00:00 warn not here: \"a\", b"` + "\nmeans = \"missing\"\nmods = [\"a\", \"b\"]", ""},
		"nothing":           {`line = "10:00:00 chat ash is on"`, ""},
		"nothing, said":     {`line = "hello"` + "\nmeans = \"nothing\"", ""},
		"another level":     {`line = "10:00:00 chat ash is on"` + "\nmeans = \"loaded\"", `24: example[0].line: is to mean "loaded", and means "nothing"`},
		"another meaning":   {`line = "10:00:00 info hot"` + "\nmeans = \"loaded\"", `is to mean "loaded", and means "ready"`},
		"another mod":       {`line = "10:00:00 info ash is on"` + "\nmeans = \"loaded\"\nmods = [\"celadon\"]", "is to speak of celadon, and speaks of ash"},
		"a piece of a name": {`line = "10:00:00 info ashes is on"` + "\nmeans = \"loaded\"\nmods = [\"ash\"]", "is to speak of ash, and speaks of ashes"},
	} {
		d, err := dialect.Parse("kiln.toml", []byte(spoken+"[[example]]\n"+test.example+"\n"))
		insist.OK(t, err)
		got := d.Untrue().Error()
		if test.untrue == "" {
			insist.Same(t, name, got, "")
		} else {
			insist.Holds(t, name, got, strings.TrimPrefix(test.untrue, "24: "))
		}
	}
	_, err := dialect.Parse("kiln.toml", []byte(spoken+"[[example]]\nmeans = \"sings\"\n"))
	insist.Fails(t, "no meaning", err, "example[0].means: is \"sings\"", "example[0].line: is needed")
	d, err := dialect.Parse("kiln.toml", []byte(spoken+"[[example]]\nline = \"10:00:00 info hot\"\nmeans = \"loaded\"\n"))
	insist.OK(t, err)
	insist.Same(t, "the line of the dialect", d.Untrue()[0].Line, strings.Count(spoken, "\n")+2)
}
