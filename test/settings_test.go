package test

import (
	"os"
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

// What a mod reads is told at the setting, and what nothing reads that is known.
func TestWhoReadsSettings(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "let lamp 3\nlet rope 4\nlet flag 5\nberth a\n# berth b\n")
	h.cargo("a", "", "haul 1\nchart lamp\n")
	h.cargo("b", "", "haul 1\nchart rope\n")
	out := h.do(0, "settings", "h")
	insist.Holds(t, "read", out, "lamp     3  (read by a)", "rope     4  (nothing known reads it)", "flag     5  (nothing known reads it)")
	insist.Lacks(t, "the server's own", out, "Test  (nothing", h.port+"  (nothing")
	h.do(0, "rule", "h", "reads", "a", "flag")
	h.do(0, "on", "h", "b")
	insist.Lacks(t, "by a rule, and once it is on", h.do(0, "settings", "h"), "nothing known")
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

// Files of which only the dialect tells how they are written are read and changed as it says.
func TestSettingsAsTheDialectTells(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	own := h.do(0, "dialect", "show", "harrow-sound") + "\n[[settings]]\nfiles = 'conf/*.cfg'\nformat = 'text'\ncomment = '//'\nsetting = \"\"\"\n{name} = {value};\nmotd {value}\"\"\"\n"
	put(t, filepath.Join(h.home, "dialects/harrow-sound.toml"), own)
	const cfg = "// of the quay\nlamps = 0;  // none\n  name = \"The quay\";\nmotd hello there\n//ropes = 3;\nodd line\n"
	file := filepath.Join(h.dir, "conf/quay.cfg")
	write(t, file, cfg)
	var s settingsJSON
	h.json(0, &s, "settings", "h", "--json", "--file", "conf/quay.cfg")
	insist.Same(t, "what is set", s.all(), "conf/quay.cfg: lamps=0\nconf/quay.cfg: name=The quay\nconf/quay.cfg: motd=hello there\nconf/quay.cfg: ropes=3 off")
	h.do(0, "set", "h", "lamps", "7")
	h.do(0, "set", "h", "name", "Old quay")
	h.do(0, "set", "h", "ropes", "4")
	h.do(0, "set", "h", "oars", "2", "--in", "conf/quay.cfg")
	insist.Same(t, "the file", contents(t, file), "// of the quay\nlamps = 7;  // none\n  name = \"Old quay\";\nmotd hello there\nropes = 4;\noars = 2;\nodd line\n")
	insist.Holds(t, "what would end the line", h.try("set", "h", "oars", "2; lamps = 9", "--as-said").err, "with which it would end here")
	insist.Holds(t, "who has set it", h.do(0, "settings", "h", "--json", "lamps"), `"entry": 1`)
	h.do(0, "undo", "h", "0")
	insist.Same(t, "back", contents(t, file), cfg)
	insist.Same(t, "proved", h.prove(0).outcomes(), "a confirmed")
}

// A whole file is edited with the operator's own program: what it has changed is planned, and what is
// changed meanwhile by somebody else is not lost.
func TestEditWholeFile(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	h.cargo("b", "", "haul 1\n")
	program := filepath.Join(t.TempDir(), "edit")
	edits := func(script string) {
		write(t, program, "#!/bin/sh\n"+script+"\n")
		insist.OK(t, os.Chmod(program, 0o755))
	}
	h.env = append(h.env, "VISUAL=", "EDITOR="+program)
	before := contents(t, h.script())
	edits(`echo 'berth b' >>"$1"`)
	insist.Holds(t, "the plan", h.do(0, "edit", "h", "harbour.start"), "> berth b")
	insist.Same(t, "the file", contents(t, h.script()), before+"berth b\n")
	insist.Holds(t, "the ledger", h.do(0, "ledger", "h"), "write harbour.start")
	edits("true")
	insist.Holds(t, "nothing", h.do(0, "edit", "h", "harbour.start"), "nothing was changed")
	edits("exit 3")
	insist.Holds(t, "an editor that fails", h.try("edit", "h", "harbour.start").err, "the editor failed, and nothing is changed")
	edits(`echo 'berth c' >>"$1"; echo '# by hand' >>` + "'" + h.script() + "'")
	insist.Holds(t, "changed meanwhile", h.try("edit", "h", "harbour.start").err, "has changed meanwhile")
	insist.Same(t, "the file", contents(t, h.script()), before+"berth b\n# by hand\n")
	insist.Holds(t, "of another place", h.try("edit", "h", "../home/ledger.db").err, "no file of this server")
	edits(`echo 'lamp=1' >"$1"`)
	write(t, filepath.Join(h.dir, "conf/lamp.properties"), "lamp=0\n")
	h.do(0, "edit", "h", "conf/lamp.properties", "--stage")
	insist.Same(t, "the file", contents(t, filepath.Join(h.dir, "conf/lamp.properties")), "lamp=0\n")
	h.do(0, "apply", "h")
	insist.Same(t, "the file", contents(t, filepath.Join(h.dir, "conf/lamp.properties")), "lamp=1\n")
	h.do(0, "undo", "h")
	insist.Same(t, "back", contents(t, filepath.Join(h.dir, "conf/lamp.properties")), "lamp=0\n")
	insist.Same(t, "proved", h.prove(0).outcomes(), "a confirmed, b confirmed")
}

// From the board to a value, with the operator's own editor, to the plan and back.
func TestSettingsOnTheScreen(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	file := filepath.Join(h.dir, "conf/lamp.properties")
	write(t, file, "lamp=no\nlicence-key=hunter22\n")
	program := filepath.Join(t.TempDir(), "edit")
	write(t, program, "#!/bin/sh\necho ropes=3 >>\"$1\"\n")
	insist.OK(t, os.Chmod(program, 0o755))
	x := open(t, 140, 43, []string{"INITIUM_HOME=" + h.home, "VISUAL=", "EDITOR=" + program}, "h")
	x.sees("harbour.start", "never started")
	x.keys(",")
	x.sees("Settings", "conf/lamp.properties", "licence-key", "••••••")
	x.keys("/")
	x.keys("-l", "lamp")
	x.sees("1 of ", `hold "lamp"`)
	x.keys("Enter")
	x.keys("Space")
	x.sees("no → yes", "1 change staged")
	x.keys("p")
	x.sees("Plan", "lamp=yes")
	x.keys("Enter")
	x.sees("Done: set lamp to yes")
	insist.Same(t, "the file", contents(t, file), "lamp=yes\nlicence-key=hunter22\n")
	x.keys(",")
	x.sees("entry 1, ")
	x.keys("End")
	x.keys("E")
	picture := x.sees("Plan", "ropes=3")
	insist.Lacks(t, "the plan", picture, "hunter22")
	x.keys("Enter")
	x.sees("Done: write lamp.properties")
	insist.Same(t, "the file", contents(t, file), "lamp=yes\nlicence-key=hunter22\nropes=3\n")
}
