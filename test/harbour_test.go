package test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"initium/internal/insist"
)

// harbour is a stand-in server in a folder of its own.
type harbour struct {
	*operator
	dir, port string
}

// newHarbour makes a server with the given lines in its startup script, after
// its title, port and licence, and adopts it as h.
func newHarbour(t testing.TB, lines string) *harbour {
	t.Helper()
	o := newOperator(t)
	h := &harbour{o, filepath.Join(filepath.Dir(o.home), "server"), freePort(t)}
	write(t, h.script(), fmt.Sprintf("let title \"Test\"\nlet port %s\nlet licence HS-1\n%s", h.port, lines))
	insist.OK(t, os.MkdirAll(filepath.Join(h.dir, "cargo"), 0o755))
	h.do(0, "adopt", h.dir, "--as", "h", "--set", "pace=0.02")
	return h
}

func (h *harbour) script() string { return filepath.Join(h.dir, "harbour.start") }

// cargo adds a mod: its folder below cargo, what it waits for, its deck script.
func (h *harbour) cargo(folder, needs, deck string) {
	name := filepath.Base(folder)
	bill := fmt.Sprintf("name = %q\nrelease = \"1.0\"\n", name)
	if needs != "" {
		bill += fmt.Sprintf("waits_for = [\"%s\"]\n", strings.ReplaceAll(needs, " ", "\", \""))
	}
	write(h.t, filepath.Join(h.dir, "cargo", folder, "bill.toml"), bill)
	if deck != "" {
		write(h.t, filepath.Join(h.dir, "cargo", folder, "deck.script"), deck)
	}
}

func (h *harbour) prove(status int, args ...string) *proofJSON {
	h.t.Helper()
	p := &proofJSON{}
	h.json(status, p, append([]string{"prove", "h", "--json"}, args...)...)
	return p
}

// TestMistypedLine: a mod that a mistyped line drops is missed, and its line mended.
func TestMistypedLine(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\nberth shrubs\nberth c\n")
	for _, name := range []string{"a", "shrubs", "c"} {
		h.cargo(name, "", "haul 1\n")
	}
	h.prove(0)
	good := contents(t, h.script())
	write(t, h.script(), strings.NewReplacer("berth shrubs", "bieth shrubs", "berth c", "# berth c").Replace(good))
	if out := h.do(1, "check", "h"); !strings.Contains(out, `"bieth" is not known here, so that shrubs is not registered; "berth" is what registers a mod`) || !strings.Contains(out, "at harbour.start:5:1 [line-mistyped]\n         remedy: mend the line of shrubs") || strings.Contains(out, "not-registered") {
		t.Errorf("check says\n%s", out)
	}
	p := h.prove(1)
	insist.That(t, strings.HasPrefix(p.Reason, "not all that is registered is known: harbour.start, line 5 is mistyped, and does not register shrubs"), "the reason is %q", p.Reason)
	if got := fmt.Sprint(p.Gone); !strings.HasPrefix(got, "[{shrubs harbour.start, line 5 is mistyped 1}") || !strings.HasSuffix(got, "{c it is switched off 1}]") {
		t.Errorf("gone are %s", got)
	}
	if r := h.try("read", p.Log, "--server", "h"); !strings.Contains(r.out, "not proved") || !strings.Contains(r.out, "line 5 is mistyped") {
		t.Errorf("read says\n%s", r.out)
	}
	if out := h.do(0, "remedy", "h"); !strings.Contains(out, "shrubs: gone since start 1 was proved; harbour.start, line 5") || !strings.Contains(out, "1  mend the line of shrubs\n") || !strings.Contains(out, "c: gone since start 1 was proved; it is switched off\n  1  switch c on\n") {
		t.Errorf("remedies are\n%s", out)
	}
	h.do(0, "remedy", "h", "shrubs", "1")
	h.do(0, "apply", "h")
	h.do(0, "on", "h", "c")
	insist.Same(t, "it is mended to", contents(t, h.script()), good)
	insist.Holds(t, "remedies", h.do(0, "remedy", "h"), "the line-up is another one by now than at start 2")
	if p := h.prove(0); len(p.Gone) != 0 {
		t.Errorf("%+v", p)
	}
	insist.Same(t, "remedies", h.do(0, "remedy", "h"), "nothing to mend: start 3 was proved\n")
	write(t, h.script(), strings.Replace(good, "berth shrubs", "bieth shrubs", 1))
	h.do(0, "accept", "h", "line-mistyped", "shrubs", "--because", "another program reads it")
	if p := h.prove(0); len(p.Gone) != 1 {
		t.Errorf("%+v", p)
	}
}

func TestDemoStory(t *testing.T) {
	out := newOperator(t).do(0, "demo", "--run")
	at := 0
	for _, want := range []string{"Survey", "Lights and marks", "Check", "paddle_ferry needs ferry_timetable, which loads after it",
		"saltmarsh: not proved", "failed", "it needs ferry_timetable", "Remedy", "move ferry_timetable before paddle_ferry",
		"> berth ferry_timetable", "< berth ferry_timetable", "saltmarsh: proved, ready after"} {
		i := strings.Index(out[at:], want)
		insist.Need(t, i >= 0, "the story has no %q after\n%s\nin\n%s", want, out[:at], out)
		at += i
	}
}

func TestProveOutcomes(t *testing.T) {
	h := newHarbour(t, "berth tide\nberth +lights\nberth late\nberth early\nberth gone\nberth torn\nberth dry\nberth tug\n")
	h.cargo("tide", "", "haul 50\nstore\n")
	h.cargo("+lights/lamp", "tide", "haul 10\n")
	h.cargo("late", "early", "haul 10\n")
	h.cargo("early", "", "haul 10\n")
	h.cargo("dry", "", "")
	h.cargo("barge", "", "haul 10\n")
	write(t, filepath.Join(h.dir, "cargo/torn/bill.toml"), "name = \n")
	write(t, filepath.Join(h.dir, "cargo/torn/deck.script"), "")
	write(t, filepath.Join(h.dir, "cargo/tug/bill.toml"), "tows = ['barge']\n")
	write(t, filepath.Join(h.dir, "cargo/tug/deck.script"), "haul 5\n")
	p := h.prove(1)
	const want = "tide confirmed, lamp confirmed, late failed, early confirmed, gone failed, torn failed, dry confirmed, tug confirmed, barge unlisted"
	insist.Same(t, "outcomes", p.outcomes(), want)
	insist.That(t, p.Ready && p.Exit == nil && p.Verdict == "not proved" && p.Reason == "3 of 8 registered mods are not confirmed", "proof is %+v", p)
	log := strings.Split(contents(t, p.Log), "\n")
	for _, m := range p.Mods {
		for _, e := range m.Evidence {
			insist.That(t, log[e.Line-1] == e.Text && strings.Contains(e.Text, m.Name), "%s: evidence %+v, but line %d of the log is %q", m.Name, e, e.Line, log[e.Line-1])
		}
		insist.That(t, (m.Outcome == "silent") == (len(m.Evidence) == 0), "%s is %s with %d pieces of evidence", m.Name, m.Outcome, len(m.Evidence))
	}
	if m := p.mod("tide"); m.LoadMS == nil || *m.LoadMS != 50 {
		t.Errorf("tide loaded in %v", m.LoadMS)
	}
	if m := p.mod("late"); m.Reason != "it needs early" {
		t.Errorf("late failed because %q", m.Reason)
	}
	if _, err := os.Stat(filepath.Join(h.dir, "stores/tide/state.txt")); err != nil {
		t.Error("the mod made no folder at its first start")
	}
}

func TestServerThatStops(t *testing.T) {
	t.Parallel()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	insist.OK(t, err)
	defer taken.Close()
	for name, test := range map[string]struct {
		lines  string
		exit   int
		reason string
	}{
		"script error": {"berth wreck\nberth after\n", 3, "deck.script, line 2: unknown word \"hoist\""},
		"licence":      {"let licence HS-PUT-YOURS-HERE\nberth after\n", 4, "the licence is still the one of the template"},
		"port":         {fmt.Sprintf("let port %d\nberth after\n", taken.Addr().(*net.TCPAddr).Port), 5, "is taken"},
		"no script":    {"also nowhere.start\n", 2, "nowhere.start is not there"},
	} {
		t.Run(name, func(t *testing.T) {
			h := newHarbour(t, test.lines)
			h.cargo("wreck", "", "haul 1\nhoist\n")
			h.cargo("after", "", "haul 1\n")
			p := h.prove(1)
			insist.That(t, !p.Ready && p.Exit != nil && *p.Exit == test.exit && strings.Contains(p.Reason, test.reason), "ready %v, exit %v, reason %q; want exit %d, %q", p.Ready, p.Exit, p.Reason, test.exit, test.reason)
			if m := p.mod("after"); m.Name != "" && (m.Outcome != "silent" || !strings.Contains(m.Reason, "stopped before")) {
				t.Errorf("after is %+v", m)
			}
			if name == "script error" && p.mod("wreck").Outcome != "failed" {
				t.Errorf("wreck is %+v", p.mod("wreck"))
			}
		})
	}
}

func TestTimeLimit(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth slow\n")
	h.cargo("slow", "", "haul 600000\n")
	began := time.Now()
	p := h.prove(1, "--timeout", "400ms")
	insist.That(t, !p.Ready && strings.Contains(p.Reason, "within 400ms"), "proof is %+v", p)
	if took := time.Since(began); took > 15*time.Second {
		t.Errorf("it took %s", took)
	}
	insist.Holds(t, "the server was left behind", h.do(2, "stop", "h"), "not running")
}

func TestChangesTouchOnlyTheirLines(t *testing.T) {
	h := newHarbour(t, "")
	const script = "\xef\xbb\xbf# Läden\r\nlet port 1\r\n\r\n# ~~ One ~~\r\n\tberth  a   # first\r\nberth b\r\n# ~~ Two ~~\r\n# berth c"
	write(t, h.script(), script)
	for _, name := range []string{"a", "b", "c", "d"} {
		h.cargo(name, "", "haul 1\n")
	}
	insist.OK(t, os.Chmod(h.script(), 0o640))
	for _, step := range []struct {
		args string
		want string
	}{
		{"off h a", strings.Replace(script, "\tberth  a", "\t# berth  a", 1)},
		{"on h a", script},
		{"register h d --section One", strings.Replace(script, "berth b\r\n", "berth b\r\nberth d\r\n", 1)},
		{"unregister h d", script},
		{"register h d --before a", strings.Replace(script, "\tberth  a", "\tberth d\r\n\tberth  a", 1)},
		{"unregister h d", script},
		{"register h d", script + "\r\nberth d"},
		{"unregister h d", script},
		{"move h b --before a", strings.Replace(strings.Replace(script, "berth b\r\n", "", 1), "\tberth  a", "\tberth b\r\n\tberth  a", 1)},
	} {
		h.do(0, split(step.args)...)
		if got := contents(t, h.script()); got != step.want {
			t.Fatalf("%s gives\n%q, want\n%q", step.args, got, step.want)
		}
	}
	if info, err := os.Stat(h.script()); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("the file's mode is %v, %v", info.Mode(), err)
	}
	var ledger struct{ Entries []struct{ Entry int } }
	h.json(0, &ledger, "ledger", "h", "--json")
	insist.That(t, len(ledger.Entries) == 10, "the ledger has %d entries", len(ledger.Entries))
	h.do(0, "undo", "h", "0")
	insist.Same(t, "back at the beginning the script", contents(t, h.script()), script)
}

func TestWrongUsageAndRefusals(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	before := contents(t, h.script())
	for args, want := range map[string]struct {
		status int
		words  string
	}{
		"survey":                                {2, "accepts 1 arg"},
		"frobnicate x y":                        {2, ""},
		"check nobody":                          {2, "nobody is not adopted"},
		"prove h --timeout soon":                {2, "invalid"},
		"register h ghost":                      {2, `no mod "ghost"`},
		"register h A":                          {2, "the one that you mean is called a"},
		"register h a":                          {2, "registered already"},
		"unregister h ghost":                    {2, "not registered"},
		"move h a":                              {2, "say where"},
		"move h a --before a":                   {2, "before or after itself"},
		"register h x --before a --after a":     {2, "say one of"},
		"adopt /nowhere/at/all":                 {3, "no such file"},
		"adopt " + h.dir + " --as ../x":         {2, "cannot be the name"},
		"adopt " + h.dir + " --dialect klingon": {2, "there is no dialect"},
		"adopt " + h.dir + " --set harbor=1":    {2, "takes no value"},
		"adopt " + h.dir + " --set port=99999":  {2, "is no port"},
		"adopt " + h.dir + " --set port":        {2, "KEY=VALUE"},
		"adopt " + h.home:                       {2, "no dialect recognises"},
		"stop h":                                {2, "not running"},
	} {
		r := h.try(split(args)...)
		insist.That(t, r.status == want.status && strings.Contains(r.err, want.words), "initium %s: exit status %d, %q; want %d, %q", args, r.status, r.err, want.status, want.words)
	}
	insist.Same(t, "a refused wish changed the script", contents(t, h.script()), before)
}

func TestKeepRunningAndStop(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	if p := h.prove(0, "--keep-running"); p.Verdict != "proved" {
		t.Fatalf("proof is %+v", p)
	}
	defer h.try("stop", "h")
	conn, err := net.Dial("tcp", "127.0.0.1:"+h.port)
	insist.Need(t, err == nil, "the server does not go on: %v", err)
	conn.Close()
	insist.Holds(t, "servers", h.do(0, "servers"), "running since")
	insist.Holds(t, "a second start", h.do(3, "prove", "h"), "running")
	insist.Holds(t, "stop", h.do(0, "stop", "h"), "it stopped when asked, exit status 0")
	if _, err := net.Dial("tcp", "127.0.0.1:"+h.port); err == nil {
		t.Error("the server still runs")
	}
}

func TestStubbornServerIsEndedByForce(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "let stubborn yes\nberth a\n")
	h.cargo("a", "", "haul 1\n")
	h.prove(0, "--keep-running")
	insist.Holds(t, "stop", h.do(0, "stop", "h"), "ended by force")
}

func TestSurveyAndCheckJSON(t *testing.T) {
	h := newHarbour(t, "# ~~ Deep ~~\nberth a\nberth b\n# berth c\n")
	h.cargo("a", "b", "haul 1\n")
	h.cargo("b", "", "haul 1\n")
	h.cargo("c", "", "haul 1\n")
	h.cargo("d", "", "haul 1\n")
	var s surveyJSON
	h.json(0, &s, "survey", "h", "--json")
	if len(s.Mods) != 4 || s.Mods[0].Name != "a" || s.Mods[0].Section != "Deep" || s.Mods[0].Position != 1 || !s.Mods[0].On ||
		s.Mods[0].Needs[0] != "b" || s.Mods[0].OptionalNeeds == nil || s.Mods[2].On || !s.Mods[2].Registered || s.Mods[3].Registered ||
		s.Mods[1].Path != filepath.Join(h.dir, "cargo/b") || s.Mods[1].Release != "1.0" {
		t.Errorf("survey is %+v", s)
	}
	var c checkJSON
	h.json(1, &c, "check", "h", "--json")
	insist.Need(t, len(c.Findings) == 2, "findings are %+v", c.Findings)
	f := c.Findings[0]
	insist.That(t, f.Code == "need-late" && f.Severity == "error" && f.Mod == "a" && f.File == h.script() && f.Line == 5 && f.Column == 7 && f.Remedy == "move b before a", "the finding is %+v", f)
	insist.That(t, c.Findings[1].Code == "not-registered" && c.Findings[1].Severity == "note", "the note is %+v", c.Findings[1])
}

func TestOwnDialects(t *testing.T) {
	o := newOperator(t)
	insist.Holds(t, "list", o.do(0, "dialect", "list"), "harrow-sound", "minetest")
	mine := o.do(0, "dialect", "show", "harrow-sound")
	file := filepath.Join(o.home, "dialects", "mine.toml")
	write(t, file, strings.Replace(mine, "\nname  = \"harrow-sound\"", "\nname = \"mine\"", 1))
	insist.Holds(t, "check", o.do(0, "dialect", "check", file), "mine: no faults")
	insist.Holds(t, "list", o.do(0, "dialect", "list"), file)
	write(t, file, strings.Replace(mine, "order = \"listed\"", "order = \"sorted\"", 1))
	insist.Holds(t, "check", o.do(1, "dialect", "check", file), "mine.toml:6: order: is \"sorted\"")
}

// TestSecretsAreShownToNobody looks for the licence in all that the commands
// print, also when the server prints it itself.
func TestSecretsAreShownToNobody(t *testing.T) {
	t.Parallel()
	const licence = "HS-9X7Q-SECRET"
	h := newHarbour(t, "let licence "+licence+"\nberth a\nberth b\nberth c\n")
	h.cargo("a", "", "haul 1\ncall the licence is "+licence+"\n")
	h.cargo("b", "", "call "+licence+"\nhoist "+licence+"\n")
	h.cargo("c", "", licence+"\n")
	source, page := filepath.Join(filepath.Dir(h.home), "kelp.zip"), filepath.Join(filepath.Dir(h.home), "page.md")
	write(t, source, string(zipped(t, kelp("kelp_farms/", "README.md=the key is "+licence))))
	for _, args := range []string{"off h a", "on h a", "move h b --before a", "plan h --json", "survey h", "survey h --json", "check h", "check h --json", "order h", "order h --json", "rule h", "ledger h --json", "servers", "prove h", "prove h --json",
		"undo h", "undo h", "look SOURCE --server h", "look SOURCE --server h --json", "take h SOURCE --stage", "plan h", "plan h --json", "apply h", "remove h kelp_farms", "undo h", "ledger h",
		"culprit h", "culprit h --json", "prove h", "compare h", "compare h --json", "read LOG --server h", "read LOG --server h --json", "export proof h --md OUT", "export proof h --svg OUT", "export times h --svg OUT",
		"log h", "log h --trouble", "remedy h", "remedy h --json", "teach log harrow-sound LOG 2 ignore --server h", "teach log harrow-sound LOG LINE-OF-B loaded b --server h", "MEND", "prove h --keep-running", "say h hello " + licence, "reload h a", "stop h", "log h"} {
		if args == "MEND" { // so that the server stays up
			h.cargo("b", "", "call "+licence+"\n")
			h.cargo("c", "", "haul 1\n")
			continue
		}
		log, line := filepath.Join(h.home, "servers/h/starts/00001/log"), 0
		if data, err := os.ReadFile(log); err == nil {
			line = 1 + slices.IndexFunc(strings.Split(string(data), "\n"), func(l string) bool { return strings.Contains(l, "berth: b ") })
		}
		args = strings.NewReplacer("SOURCE", source, "LOG", log, "LINE-OF-B", fmt.Sprint(line), "OUT", page).Replace(args)
		r := h.try(split(args)...)
		insist.That(t, r.status <= 1, "initium %s was not carried out: %d %s", args, r.status, r.err)
		insist.That(t, !strings.Contains(r.out+r.err, licence), "initium %s shows the licence:\n%s%s", args, r.out, r.err)
		if data, err := os.ReadFile(page); err == nil && strings.Contains(string(data), licence) {
			t.Errorf("initium %s writes the licence down", args)
		}
	}
	inventories := within(h.home, "servers/h/starts/*/*.json")
	for _, file := range inventories {
		insist.That(t, !strings.Contains(contents(t, file), licence), "%s holds the licence", file)
	}
	insist.Holds(t, "the script has lost its licence", contents(t, h.script()), "let licence "+licence+"\n")
}
