package test

import (
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// settingsJSON is what settings --json prints.
type settingsJSON struct {
	Settings []struct {
		File, Name, Value, Kind string
		Line, Again             int
		Off                     bool
	}
	Files  int
	Unread []string
}

func (s *settingsJSON) all() string {
	var words []string
	for _, one := range s.Settings {
		word := one.File + ": " + one.Name + "=" + one.Value
		if one.Off {
			word += " off"
		}
		words = append(words, word)
	}
	return strings.Join(words, "\n")
}

func TestSettings(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	file := func(name string) string { return filepath.Join(h.dir, "conf", name) }
	const properties = "# the net\r\nslots=8\r\nopen=yes\r\n#motd = hello\r\nadmin-password=hunter22\r\n"
	const deep = "{\n  \"world\": {\"seed\": 77, \"name\": \"old\"},\n  \"slots\": 12\n}\n"
	write(t, file("net.properties"), properties)
	write(t, file("deep.json"), deep)
	write(t, file("torn.json"), "{")
	write(t, file("plain.cfg"), "slots 3\n")
	write(t, filepath.Join(h.dir, "cargo/a/own.json"), `{"slots": 1}`)
	script := contents(t, h.script())

	var s settingsJSON
	h.json(0, &s, "settings", "h", "--json")
	insist.Same(t, "what is set", s.all(), strings.Join([]string{"harbour.start: title=Test", "harbour.start: port=" + h.port, "harbour.start: licence=••••••",
		"conf/deep.json: world.seed=77", "conf/deep.json: world.name=old", "conf/deep.json: slots=12",
		"conf/net.properties: slots=8", "conf/net.properties: open=yes", "conf/net.properties: motd=hello off", "conf/net.properties: admin-password=••••••"}, "\n"))
	insist.That(t, len(s.Unread) == 1 && strings.Contains(s.Unread[0], "conf/torn.json"), "not understood is %q", s.Unread)
	h.json(0, &s, "settings", "h", "SLOT", "8", "--json")
	insist.Same(t, "found by words", s.all(), "conf/net.properties: slots=8")
	insist.Holds(t, "in one file", h.do(0, "settings", "h", "--file", "conf/deep.json"), "conf/deep.json", "2  world.seed  77", "3 settings in 1 file")

	insist.Holds(t, "in two files", h.try("set", "h", "slots", "9").err, "conf/deep.json, conf/net.properties", "--in FILE")
	out := h.do(0, "set", "h", "slots", "9", "--in", "conf/net.properties")
	insist.Holds(t, "the plan", out, "slots=8", "slots=9")
	insist.Same(t, "the file", contents(t, file("net.properties")), strings.Replace(properties, "slots=8", "slots=9", 1))
	h.do(0, "set", "h", "open", "false")
	h.do(0, "set", "h", "motd", "good evening")
	h.do(0, "set", "h", "world.name", "new one")
	h.do(0, "set", "h", "title", "A new title")
	insist.Same(t, "the file", contents(t, file("net.properties")), strings.NewReplacer("slots=8", "slots=9", "open=yes", "open=no", "#motd = hello", "motd = good evening").Replace(properties))
	insist.Same(t, "the document", contents(t, file("deep.json")), strings.Replace(deep, "old", "new one", 1))
	insist.Same(t, "the startup file", contents(t, h.script()), strings.Replace(script, `"Test"`, `"A new title"`, 1))
	insist.Holds(t, "the ledger", h.do(0, "ledger", "h"), "set world.name to new one in deep.json", "set open to false in net.properties")
	h.do(0, "unset", "h", "world.seed")
	insist.Holds(t, "the document", contents(t, file("deep.json")), `{"name": "new one"}`)

	for _, c := range []struct{ says, args string }{
		{"it is the number 9", "set h slots many --in conf/net.properties"},
		{"set in no file", "set h nothing 1"},
		{"set in no file", "unset h nothing"},
		{"no file of this server", "set h slots 1 --in ../x.properties"},
		{"how plain.cfg is written is not known", "set h slots 1 --in conf/plain.cfg"},
		{"expected", "set h slots 1 --in conf/torn.json"},
	} {
		before := below(t, h.dir)
		r := h.try(split(c.args)...)
		insist.Holds(t, c.args, r.err, c.says)
		insist.That(t, r.status == 2 || r.status == 3, "%s ends with %d", c.args, r.status)
		insist.Same(t, c.args+" leaves", below(t, h.dir), before)
	}
	h.do(0, "set", "h", "slots", "many", "--in", "conf/net.properties", "--as-said", "--stage")
	h.do(0, "rehearse", "h")
	insist.Holds(t, "what is gathered", h.do(0, "plan", "h"), "slots=9", "slots=many")
	insist.Holds(t, "the file", contents(t, file("net.properties")), "slots=9")
	r := h.try("set", "h", "admin-password", "swordfish9", "--stage")
	insist.Lacks(t, "what is gathered", r.out+r.err+h.do(0, "plan", "h")+h.do(0, "plan", "h", "--json"), "swordfish9", "hunter22")
	h.do(0, "apply", "h")
	insist.Holds(t, "the file", contents(t, file("net.properties")), "slots=many", "admin-password=swordfish9")
	insist.Lacks(t, "the ledger", h.do(0, "ledger", "h")+h.do(0, "ledger", "h", "--json"), "swordfish9", "hunter22")

	typed := h.typed("a key = with signs\n", "set", "h", "admin-password", "-")
	insist.That(t, typed.status == 0, "a value that is typed: %s", typed.err)
	insist.Holds(t, "the file", contents(t, file("net.properties")), "admin-password=a key = with signs\r\n")

	write(t, file("twice.ini"), "[a]\nadmin = x\nadmin = y\n")
	insist.Holds(t, "set twice", h.try("set", "h", "a/admin", "z").err, "on the lines 2, 3")
	h.do(0, "set", "h", "a/admin", "z", "--line", "3")
	insist.Same(t, "the second", contents(t, file("twice.ini")), "[a]\nadmin = x\nadmin = z\n")
	insist.Holds(t, "once more", h.do(0, "settings", "h", "admin"), "again on line 3")

	h.do(0, "undo", "h", "0")
	insist.Same(t, "back at the beginning", contents(t, file("net.properties"))+contents(t, file("deep.json"))+contents(t, h.script()), properties+deep+script)
	insist.Same(t, "proved", h.prove(0).outcomes(), "a confirmed")
}

// What registers mods is no setting, and is not changed as one.
func TestSettingsBesideRegistrations(t *testing.T) {
	t.Parallel()
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "press")
	madeUpFiles(t, "press", dir)
	put(t, filepath.Join(o.home, "dialects/press.toml"), "name = 'press'\n[[place]]\npath = '{dir}/plates'\n[[registration]]\nname = 'list'\nfile = '{dir}/press.ini'\nformat = 'ini'\nshape = 'parallel'\nat = 'press/names'\nnumbers = 'press/numbers'\nseparator = ','\n[start]\ncommand = ['{dir}/start.sh']\n[[log.rule]]\nmeans = 'loaded'\nline = '{mod}'\n[[log.rule]]\nmeans = 'ready'\nline = 'printing'\n")
	o.do(0, "adopt", dir, "--dialect", "press")
	before := contents(t, filepath.Join(dir, "press.ini"))
	var s settingsJSON
	o.json(0, &s, "settings", "press", "--json")
	insist.Lacks(t, "what is set", s.all(), "names")
	insist.Holds(t, "what is set", s.all(), "press.ini: press/title=A press")
	insist.Holds(t, "the list as a setting", o.try("set", "press", "press/names", "gull", "--in", "press.ini").err, "registers mods")
	insist.Same(t, "the file", contents(t, filepath.Join(dir, "press.ini")), before)
	o.do(0, "set", "press", "press/title", "My own")
	insist.Same(t, "the file", contents(t, filepath.Join(dir, "press.ini")), strings.Replace(before, "A press", "My own", 1))
}
