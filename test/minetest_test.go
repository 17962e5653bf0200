package test

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"initium/internal/insist"
	"initium/internal/lack"
)

// picks is how many random line-ups TestRandomPicks proves; INITIUM_PICKS
// asks for another number.
const picks = 10

const minetestServer = "/usr/games/minetestserver"

// world is a fresh world of the real server, adopted as w.
type world struct {
	*operator
	dir string
}

func newWorld(t *testing.T) *world {
	t.Helper()
	needs(t, minetestServer)
	o := newOperator(t)
	w := &world{o, filepath.Join(filepath.Dir(o.home), "world")}
	insist.OK(t, os.MkdirAll(w.dir, 0o755))
	w.do(0, "adopt", w.dir, "--dialect", "minetest", "--as", "w", "--set", "port="+freePort(t))
	return w
}

func (w *world) prove(status int, args ...string) *proofJSON {
	w.t.Helper()
	p := &proofJSON{}
	w.json(status, p, append([]string{"prove", "w", "--json"}, args...)...)
	return p
}

// own writes a mod into the world's own folder.
func (w *world) own(name, conf, script string) {
	dir := filepath.Join(w.dir, "worldmods", name)
	write(w.t, filepath.Join(dir, "mod.conf"), "name = "+name+"\n"+conf)
	write(w.t, filepath.Join(dir, "init.lua"), script)
}

func TestFreshWorld(t *testing.T) {
	w := newWorld(t)
	w.do(0, "register", "w", "basic_materials")
	if got := contents(t, filepath.Join(w.dir, "world.mt")); !strings.HasPrefix(got, "gameid = minetest_game\n") || !strings.HasSuffix(got, "load_mod_basic_materials = true\n") {
		t.Errorf("the new world file is\n%s", got)
	}
	w.do(0, "register", "w", "pipeworks")
	p := w.prove(0)
	if got := p.outcomes(); p.Verdict != "proved" || got != "basic_materials confirmed, pipeworks confirmed" {
		t.Fatalf("%s: %s", p.Verdict, got)
	}
	m := p.mod("pipeworks")
	insist.That(t, m.LoadMS != nil && len(m.Evidence) != 0 && strings.Contains(m.Evidence[0].Text, `Mod "pipeworks" loaded after`), "pipeworks is %+v", m)
	// The server has rewritten its file meanwhile; what it wrote is understood.
	var s surveyJSON
	w.json(0, &s, "survey", "w", "--json")
	on := 0
	for _, m := range s.Mods {
		if m.On && !m.Base {
			on++
		}
	}
	insist.That(t, on == 2 && len(s.Mods) >= 50, "%d of %d mods are on", on, len(s.Mods))
}

func TestRealMissingNeed(t *testing.T) {
	w := newWorld(t)
	w.do(0, "register", "w", "pipeworks")
	var c checkJSON
	w.json(1, &c, "check", "w", "--json")
	insist.That(t, c.Findings[0].Code == "need-missing" && c.Findings[0].Mod == "pipeworks", "check foretells %+v", c.Findings[0])
	p := w.prove(1)
	m := p.mod("pipeworks")
	insist.That(t, m.Outcome == "failed" && m.Reason == "it needs basic_materials" && strings.Contains(m.Evidence[0].Text, "unsatisfied dependencies") && p.Ready, "pipeworks is %+v", m)
}

func TestRealMissingMod(t *testing.T) {
	w := newWorld(t)
	write(t, filepath.Join(w.dir, "world.mt"), "gameid = minetest_game\nload_mod_no_such_thing = true\nload_mod_mobs_redo = true\nload_mod_craftguide = yes\n")
	var c checkJSON
	w.json(1, &c, "check", "w", "--json")
	var codes []string
	for _, f := range c.Findings {
		if f.Severity == "error" {
			codes = append(codes, f.Code+" "+f.Mod)
		}
	}
	insist.Same(t, "check", strings.Join(codes, ", "), "mod-missing no_such_thing, mod-renamed mobs_redo")
	p := w.prove(1)
	insist.Same(t, "outcomes", p.outcomes(), "no_such_thing failed, mobs_redo failed, craftguide confirmed")
	if e := p.mod("no_such_thing").Evidence; len(e) != 1 || !strings.Contains(e[0].Text, "could not be found") {
		t.Errorf("the evidence is %+v", e)
	}
}

func TestRealScriptError(t *testing.T) {
	for name, test := range map[string]struct{ script, reason string }{
		"error":  {"error('out of rope')\n", "out of rope"},
		"syntax": {"x = = 1\n", "unexpected symbol near '='"},
		"timer":  {"minetest.register_globalstep(function() error('later') end)\n", "later"},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.own("broken", "", test.script)
			w.own("sound", "depends = broken\n", "")
			w.do(0, "register", "w", "craftguide")
			p := w.prove(1, "--stay", "60s") // on a busy machine the first step of the world takes its time
			m := p.mod("broken")
			insist.That(t, m.Outcome == "failed" && strings.Contains(m.Reason, test.reason) && p.Exit != nil && *p.Exit != 0, "broken is %+v, exit %v", m, p.Exit)
			insist.Holds(t, "the reason", p.Reason, test.reason)
			if m.Registered || name == "timer" && p.mod("sound").Outcome != "unlisted" || p.mod("craftguide").Name == "" {
				t.Errorf("outcomes are %s", p.outcomes())
			}
		})
	}
}

// TestRealOwnFolder: what lies in the world's own folder loads without being
// registered, or in spite of being switched off; one that a registered mod of the
// same name hides does not.
func TestRealOwnFolder(t *testing.T) {
	w := newWorld(t)
	for _, name := range []string{"stray", "off_here", "named", "craftguide"} {
		w.own(name, "", "")
	}
	w.own("needy", "depends = stray\n", "")
	write(t, filepath.Join(w.dir, "world.mt"), "gameid = minetest_game\nload_mod_off_here = false\nload_mod_craftguide = true\nload_mod_needy = true\n")
	var c checkJSON
	w.json(0, &c, "check", "w", "--json")
	p := w.prove(0)
	insist.Holds(t, "outcomes", p.outcomes(), "craftguide confirmed", "stray unlisted", "off_here unlisted", "named unlisted", "needy confirmed")
}

func TestRealWorldWithoutGame(t *testing.T) {
	w := newWorld(t)
	write(t, filepath.Join(w.dir, "world.mt"), "# mine\nload_mod_craftguide = true\n")
	var c checkJSON
	w.json(1, &c, "check", "w", "--json")
	if f := c.Findings[0]; f.Code != "setting-missing" || f.Remedy != "set gameid to minetest_game" {
		t.Errorf("check says %+v", f)
	}
	if p := w.prove(1); p.mod("craftguide").Outcome != "failed" {
		t.Errorf("craftguide is %+v", p.mod("craftguide"))
	}
}

// TestRandomPicks proves random line-ups of all installed mods and compares
// each outcome with what the log states, read here by other means.
func TestRandomPicks(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var s surveyJSON
	w.json(0, &s, "survey", "w", "--json")
	var all []string
	for _, m := range s.Mods {
		if !m.Base {
			all = append(all, m.Name)
		}
	}
	if len(all) < 30 {
		lack.Of(t, fmt.Sprintf("more mods of the real server than the %d that are installed", len(all)))
	}
	count := picks
	if n := os.Getenv("INITIUM_PICKS"); n != "" {
		fmt.Sscan(n, &count)
	}
	random := rand.New(rand.NewPCG(2, 3))
	for i := range count {
		random.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		chosen := slices.Clone(all[:1+random.IntN(25)])
		if i%3 == 0 {
			chosen = append(chosen, fmt.Sprintf("absent_%d", i))
		}
		file := "gameid = minetest_game\nbackend = sqlite3\nplayer_backend = sqlite3\nauth_backend = sqlite3\nmod_storage_backend = sqlite3\n"
		for _, name := range chosen {
			file += "load_mod_" + name + " = true\n"
		}
		write(t, filepath.Join(w.dir, "world.mt"), file)
		p := &proofJSON{}
		r := w.try("prove", "w", "--json")
		decode(t, r.out, p)
		agree(t, p, chosen)
		insist.That(t, (p.Verdict == "proved") == (r.status == 0), "%s with exit status %d", p.Verdict, r.status)
	}
}

var (
	loadedLine  = regexp.MustCompile(`(?m)Mod "([a-z0-9_]+)" loaded after`)
	missingLine = regexp.MustCompile(`The following mods could not be found: (.*)`)
	needsLine   = regexp.MustCompile(`mod "([a-z0-9_]+)" has unsatisfied`)
	scriptLine  = regexp.MustCompile(`Failed to load and run script from .*/([a-z0-9_-]+)/init\.lua:`)
)

// agree compares a proof with the log that it was made from.
func agree(t *testing.T, p *proofJSON, chosen []string) {
	t.Helper()
	log := contents(t, p.Log)
	want := map[string]string{}
	for _, m := range loadedLine.FindAllStringSubmatch(log, -1) {
		want[m[1]] = "confirmed"
	}
	for _, m := range missingLine.FindAllStringSubmatch(log, -1) {
		for _, name := range strings.Fields(m[1]) {
			want[strings.Trim(name, `"`)] = "failed"
		}
	}
	for _, m := range needsLine.FindAllStringSubmatch(log, -1) {
		want[m[1]] = "failed"
	}
	if m := scriptLine.FindStringSubmatch(log); m != nil {
		want[strings.NewReplacer("lucky-block", "lucky_block", "mobs_redo", "mobs").Replace(m[1])] = "failed"
	}
	for _, name := range chosen {
		expect := want[name]
		if expect == "" {
			expect = "silent"
		}
		if got := p.mod(name); got.Outcome != expect {
			t.Errorf("%s is %s (%s), the log says %s; log %s", name, got.Outcome, got.Reason, expect, p.Log)
		}
	}
	insist.That(t, len(p.Mods) == len(chosen), "%d outcomes for %d mods", len(p.Mods), len(chosen))
}

// The real server opens its port last: the mods load, and then it stops.
func TestRealPortTaken(t *testing.T) {
	w := newWorld(t)
	w.do(0, "register", "w", "craftguide")
	port := freePort(t)
	w.do(0, "adopt", w.dir, "--dialect", "minetest", "--as", "taken", "--set", "port="+port)
	held, err := net.ListenPacket("udp", ":"+port)
	insist.OK(t, err)
	defer held.Close()
	var told forecastJSON
	out := w.do(1, "check", "taken", "--json")
	decode(t, out, &told)
	p := &proofJSON{}
	w.json(1, p, "prove", "taken", "--json")
	for _, f := range told.Forecast {
		if f.Mod == "craftguide" && (f.Outcome != "confirmed" || p.mod("craftguide").Outcome != "confirmed") {
			t.Errorf("foretold %s, seen %s", f.Outcome, p.mod("craftguide").Outcome)
		}
	}
	insist.That(t, strings.Contains(out, "its port is taken, which shows after the mods have loaded") && p.Exit != nil && *p.Exit != 0, "%s; exit %v\n%s", p.Reason, p.Exit, out)
}
