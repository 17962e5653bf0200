package dialect_test

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/golden"
)

// TestShapesInFull writes every shape of a registration in every format, each with what it
// needs, with something wrong and with something left out, and the parts of a dialect that
// hang on each other; what is said of that is held to what was read through once.
func TestShapesInFull(t *testing.T) {
	const least = "name = \"d\"\n[[place]]\npath = \"{dir}/mods\"\n[start]\ncommand = [\"x\"]\n[[log.rule]]\nmeans = \"ready\"\nline = \"up\"\n"
	var b strings.Builder
	say := func(what, more string) {
		d, err := dialect.Parse("d.toml", []byte(least+more))
		switch {
		case err != nil:
			fmt.Fprintf(&b, "%s: %s\n", what, strings.ReplaceAll(strings.ReplaceAll(err.Error(), "d.toml", ""), "\n", "\n    "))
		case len(d.Registrations) == 1:
			r := d.Registrations[0]
			fmt.Fprintf(&b, "%s: %s in %q, %q %q %q\n", what, r.Shape, r.Format, r.Item, r.Assign, r.Last)
		default:
			fmt.Fprintf(&b, "%s: fine\n", what)
		}
	}
	shapes := map[string]string{
		"line":     "line = \"use {mod}\"\n",
		"key":      "key = \"on_{mod}\"\non = \"1\"\noff = \"0\"\n",
		"list":     "at = \"a={list}\"\nseparator = \";\"\n",
		"parallel": "at = \"a\"\nnumbers = \"n\"\nseparator = \";\"\n",
		"items":    "at = \"a\"\nitem = \"<{mod}>\"\n",
		"words":    "at = \"-a {mod}\"\n",
		"section":  "at = \"a\"\n",
		"repeat":   "at = \"a\"\n",
		"presence": "at = \"{mod}\"\naside = \"{mod}.off\"\n",
		"link":     "at = \"{mod}\"\nitem = \"../{mod}\"\n",
	}
	names := []string{"line", "key", "list", "parallel", "items", "words", "section", "repeat", "presence", "link", "heap", ""}
	formats := []string{"", "script", "key-value", "ini", "env", "json", "yaml", "toml", "xml", "shell", "batch", "unit", "words", "compose", "lines", "lua", "nonsense"}
	registration := func(shape, format, keys string) string {
		return fmt.Sprintf("[[registration]]\nname = \"r\"\nfile = \"{dir}/r\"\nshape = %q\nformat = %q\n%s", shape, format, keys)
	}
	for _, shape := range names {
		for _, format := range formats {
			say(shape+" in "+format, registration(shape, format, shapes[shape]))
		}
	}
	good := map[string]string{"line": "", "key": "", "list": "ini", "parallel": "ini", "items": "json", "words": "shell", "section": "", "repeat": "", "presence": "", "link": ""}
	for _, shape := range names[:10] {
		lines := strings.SplitAfter(strings.TrimSuffix(shapes[shape], "\n"), "\n")
		for i, line := range lines {
			without := strings.Join(append(append([]string{}, lines[:i]...), lines[i+1:]...), "") + "\n"
			key, _, _ := strings.Cut(line, " ")
			say(shape+" without "+key, registration(shape, good[shape], without))
			for _, wrong := range []string{"", "x", "{mod}", "{mod}{mod}", "{mod} {mod}", "{list}", "{other}", "{mod"} {
				say(fmt.Sprintf("%s with %s = %q", shape, key, wrong), registration(shape, good[shape], without+fmt.Sprintf("%s = %q\n", key, wrong)))
			}
		}
		for _, last := range []string{"as-found", "wanted", "forbidden", "never"} {
			say(shape+" with the last "+last, registration(shape, good[shape], shapes[shape]+fmt.Sprintf("last = %q\n", last)))
		}
	}
	for _, more := range []string{
		"line = \"{mod}\"\n", "line = \"use {mod} {name}\"\n", "line = \" \"\n", "line = \"use\"\n", "line = \"{mod} of\"\n", "line = \"use {mod}\"\nsetting = \"{name} {value}\"\n", "line = \"use {mod}\"\nsetting = \"{value} {name}\"\n",
		"line = \"use {mod}\"\nsetting = \"let {name}\"\n", "line = \"use {mod}\"\ninclude = \"{file}\"\n", "line = \"use {mod}\"\ninclude = \"also {file}\"\n", "line = \"use {mod}\"\ninclude = \"also\"\n",
		"line = \"use {mod}\"\nsection = \"== {title}\"\n", "line = \"use {mod}\"\ncomment = \"#\"\nsection = \"== {title}\"\n", "line = \"use {mod}\"\ncomment = \"#\"\nsection = \"# {title}\"\n", "line = \"use {mod}\"\ncomment = \"#\"\nsection = \"# {name}\"\n",
		"line = \"use {mod}\"\nsame_as = \"r\"\n", "line = \"use {mod}\"\nsame_as = \"q\"\n", "line = \"use {mod}\"\nnew = \"{nope}\"\n",
	} {
		say("line with "+strings.ReplaceAll(more, "\n", "; "), registration("line", "", more))
	}
	say("compose with within", registration("list", "compose", shapes["list"]+"within = \"s.command\"\n"))
	for _, more := range []string{
		"[[place]]\npath = \"{dir}/{nope}\"\n", "[[place]]\npath = \"a\"\nfile = \"x\"\n", "[[place]]\npath = \"a\"\nfile = \"{mod}.a\"\naside = \"{nope}\"\n", "[[place]]\npath = \"a\"\naside = \"{mod}.off\"\n", "[[place]]\npath = \"a\"\nfile = \"{mod}{mod}\"\n",
		"[[place]]\npath = \"a\"\nmain = \"../x\"\n", "[[place]]\npath = \"a\"\nmain = \"/x\"\n", "[[place]]\npath = \"a\"\nmark = [\"a\", \"../x\"]\n", "[[place]]\npath = \"a\"\nbundle = [\"\"]\n", "[[place]]\npath = \"a\"\nloads = \"never\"\n",
		"[[manifest]]\nfile = \"m\"\nformat = \"key-value\"\n", "[[manifest]]\nfile = \"m\"\nformat = \"lines\"\n", "[[manifest]]\nfile = \"m\"\nformat = \"lines\"\nneeds = \"n\"\n", "[[manifest]]\nfile = \"m\"\nformat = \"toml\"\n", "[[manifest]]\nfile = \"m\"\nformat = \"json\"\n",
		"[[manifest]]\nfile = \"m\"\nformat = \"yaml\"\n", "[[manifest]]\nfile = \"m\"\nformat = \"source\"\n", "[[manifest]]\nfile = \"m\"\nformat = \"xml\"\n", "[[manifest]]\nfile = \"m\"\n", "[[manifest]]\nfile = \"m\"\nformat = \"toml\"\nbeside = \"../n\"\n", "[[manifest]]\nfile = \"m\"\nformat = \"toml\"\nbeside = \"n\"\n",
		"[[manifest]]\nfile = \"m\"\nformat = \"toml\"\nneed_range = \"r\"\n", "[[manifest]]\nfile = \"m\"\nformat = \"toml\"\nneed_must = \"r\"\n", "[[manifest]]\nfile = \"m\"\nformat = \"toml\"\nneed_must = \"r\"\nneed_name = \"n\"\n", "[[manifest]]\nfile = \"m\"\nformat = \"toml\"\nversions = \"what\"\n",
		"[[given]]\nname = \"g\"\nfrom = { registration = \"q\", key = \"k\" }\n", "[[given]]\nname = \"g\"\nkind = \"thing\"\n", "[[given]]\nname = \"g\"\ndefault = [\"{h}\"]\n[[given]]\nname = \"h\"\ndefault = [\"{g}\"]\n", "[[given]]\nname = \"dir\"\n", "[[given]]\nname = \"g\"\n[[given]]\nname = \"g\"\n",
		registration("line", "", shapes["line"]) + "[[given]]\nname = \"g\"\nfrom = { registration = \"r\", key = \"\" }\n", registration("line", "", shapes["line"]) + "[[given]]\nname = \"g\"\nfrom = { registration = \"r\", key = \"k\" }\n",
		"[[value]]\nname = \"v\"\n", registration("line", "", shapes["line"]) + "[[value]]\nname = \"v\"\n", registration("line", "", shapes["line"]) + "[[value]]\nname = \"v\"\ntold = \"moon\"\n", registration("line", "", shapes["line"]) + "[[value]]\nname = \"v\"\nfile = \"{value}/{nope}\"\n", registration("line", "", shapes["line"]) + "[[value]]\nname = \"v\"\nwrong = \"sleeps\"\n",
		"[[build]]\nof = \"server\"\n", "[[build]]\nof = \"server\"\ncommand = [\"x\"]\n", "[[build]]\nof = \"server\"\ncommand = [\"x\"]\nfile = \"f\"\n", "[[build]]\nof = \"server\"\ncommand = [\"{nope}\"]\n", "[[build]]\nof = \"server\"\nfile = \"{nope}\"\n", "[[build]]\nof = \"server\"\nfile = \"f\"\nformat = \"toml\"\n",
		"[[build]]\nof = \"server\"\nfile = \"f\"\nformat = \"toml\"\nkey = \"k\"\n", "[[build]]\nof = \"server\"\nfile = \"f\"\nformat = \"ini\"\nkey = \"k\"\n", "[[build]]\nof = \"moon\"\nfile = \"f\"\n", "[[build]]\nof = \"server\"\nregistration = \"q\"\nkey = \"k\"\n", "[[build]]\nof = \"server\"\nfile = \"f\"\nline = \"x\"\n",
		registration("line", "", shapes["line"]) + "[[build]]\nof = \"server\"\nregistration = \"r\"\nkey = \"k\"\n", registration("line", "", shapes["line"]) + "[[build]]\nof = \"server\"\nregistration = \"r\"\n", registration("line", "", shapes["line"]) + "[[build]]\nof = \"server\"\nregistration = \"r\"\nkey = \"k\"\nfile = \"f\"\n",
		registration("line", "", shapes["line"]) + "[[build]]\nof = \"server\"\nregistration = \"r\"\nkey = \"k\"\ncommand = [\"f\"]\n", "[stop]\nsignal = \"KILL\"\n", "[stop]\nsignal = \"HUP\"\n", "[stop]\nsignal = \"QUIT\"\n", "[stop]\nconsole = \"end\"\nsignal = \"KILL\"\n",
		"[log]\nprefix = \"{time} \"\n", "[log]\nprefix = \"{time}\"\n", "[log]\nprefix = \"{time}}}\"\n", "[log]\nprefix = \"{mod} \"\n", "[log]\nfiles = [\"{nope}\"]\n", "[log]\ntime = \"15:04\"\n",
		"[[log.rule]]\nmeans = \"loaded\"\nline = \"up\"\n", "[[log.rule]]\nmeans = \"told\"\nline = \"up\"\n", "[[log.rule]]\nmeans = \"told\"\nline = \"on {port}\"\n", "[[log.rule]]\nmeans = \"needs\"\nline = \"{mods}\"\n", "[[log.rule]]\nmeans = \"missing\"\nline = \"{mods} x\"\n", "[[log.rule]]\nmeans = \"sings\"\nline = \"up\"\n",
		"[[log.rule]]\nmeans = \"loaded\"\nline = \"{mod} {ms} {s} {reason}\"\n", "[[log.rule]]\nmeans = \"failed\"\nline = \"{mod}: {reason}\"\n", "[[log.rule]]\nmeans = \"ready\"\nline = \"{mod}\"\n", "[[log.rule]]\nmeans = \"stopped\"\nline = \"{mod}\"\n", "[[log.rule]]\nmeans = \"ignore\"\nline = \"{any}\"\n",
	} {
		say(strings.ReplaceAll(strings.TrimSpace(more), "\n", "; "), "\n"+more)
	}
	for _, env := range []string{"{ A = \"{nope}\" }", "{ A = \"{dir}\" }", "{ A = \"{dir\" }"} {
		d, err := dialect.Parse("d.toml", []byte(strings.Replace(least, "[start]\n", "[start]\nenv = "+env+"\n", 1)))
		fmt.Fprintf(&b, "env = %s: %v, %v\n", env, d != nil, err)
	}
	golden.Check(t, "shapes.txt", b.String())
}
