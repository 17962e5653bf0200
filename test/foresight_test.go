package test

import (
	"encoding/xml"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// foresight makes a harbour with mods "name: needs" and a startup script.
func foresight(t *testing.T, start string, mods ...string) *harbour {
	t.Helper()
	h := newHarbour(t, start)
	for _, m := range mods {
		name, needs, _ := strings.Cut(m, ": ")
		h.cargo(name, needs, "haul 1\n")
	}
	return h
}

func TestOrderCommand(t *testing.T) {
	h := foresight(t, "# ~~ Deep ~~\nberth b   # stays\nberth c\n# ~~ High ~~\nberth a\n", "a", "b: a", "c: a")
	insist.Holds(t, "order", h.do(1, "order", "h"), "move a before b\n         because b needs a; c needs a\none move does it")
	var o struct {
		Decides, Wrong any
		Moves          []struct {
			Change  string
			Reasons []string
		}
		Excess int
	}
	h.json(1, &o, "order", "h", "--json")
	insist.That(t, len(o.Moves) == 1 && len(o.Moves[0].Reasons) == 2 && o.Excess == 0, "%+v", o)
	h.do(1, "order", "h", "--stage", "--json") // JSON only tells
	h.do(0, "order", "h", "--repair")
	if got := contents(t, h.script()); !strings.HasSuffix(got, "let licence HS-1\n# ~~ Deep ~~\nberth a\nberth b   # stays\nberth c\n# ~~ High ~~\n") {
		t.Errorf("the script is\n%s", got)
	}
	insist.Holds(t, "order", h.do(0, "order", "h"), "every mod comes after what it needs")
	h.do(0, "undo", "h")
	h.do(1, "order", "h")
}

func TestRules(t *testing.T) {
	t.Parallel()
	h := foresight(t, "berth a\nberth b\nberth c\n", "a", "b", "c")
	insist.Holds(t, "", h.do(2, "rule", "h", "before", "b", "nowhere"), `there is no mod "nowhere"`)
	insist.Holds(t, "", h.do(2, "rule", "h", "beside", "b", "a"), "before, after, apart, first, last, stay, needs, reads")
	h.do(0, "rule", "h", "before", "b", "a", "--because", "b paints over a")
	insist.Holds(t, "", h.do(1, "order", "h"), "a has to come after b (your rule: b paints over a)", "move b before a")
	h.do(0, "rule", "h", "stay", "b")
	insist.Holds(t, "a line that is to stay moves", h.do(1, "order", "h"), "move a after b")
	h.do(0, "rule", "h", "apart", "a", "c", "--because", "they fight", "--family")
	insist.Holds(t, "", h.do(1, "check", "h"), "a and c are both on (your rule: they fight)")
	// A rule for the family holds on its other servers too.
	second := filepath.Join(filepath.Dir(h.home), "second")
	insist.OK(t, os.CopyFS(second, os.DirFS(h.dir)))
	h.do(0, "adopt", second, "--as", "h2", "--set", "port="+freePort(t))
	if out := h.do(1, "check", "h2"); !strings.Contains(out, "they fight") || strings.Contains(out, "paints over") {
		t.Error(out)
	}
	insist.Holds(t, "", h.do(0, "rule", "h"), "1  b loads before a", "for the whole family")
	h.do(0, "rule", "h", "--drop", "1")
	h.do(2, "rule", "h", "--drop", "1")
	h.do(0, "rule", "h2", "--drop", "3")
	h.do(0, "check", "h")
}

// Where Initium knows no manifest, what the log says that mods need is written down
// as rules, marked with the line, and foretold from then on.
func TestNeedsFromLog(t *testing.T) {
	t.Parallel()
	h := foresight(t, "berth a\n", "a: b", "b")
	h.do(2, "rule", "h", "--from-log")
	h.do(1, "prove", "h")
	if out := h.do(0, "rule", "h", "--from-log"); !strings.Contains(out, "tells of no need that is not known") {
		t.Error(out) // the manifest says so already
	}
	var bare []string
	for _, line := range strings.Split(h.do(0, "dialect", "show", "harrow-sound"), "\n") {
		if !strings.HasPrefix(line, "needs ") {
			bare = append(bare, line)
		}
	}
	source := strings.Replace(strings.Join(bare, "\n"), `name  = "harrow-sound"`, `name = "bare-sound"`, 1)
	write(t, filepath.Join(h.home, "dialects/bare-sound.toml"), source)
	h.do(0, "adopt", h.dir, "--as", "bare", "--dialect", "bare-sound", "--set", "pace=0.02")
	h.do(0, "check", "bare")
	h.do(1, "prove", "bare")
	insist.Same(t, "", h.do(0, "rule", "bare", "--from-log"), "a needs b\n")
	insist.Holds(t, "", h.do(1, "check", "bare"), "a needs b, which is there but not registered (read from the log)")
	var rules struct {
		Rules []struct{ Kind, Mod, Other, Log string }
	}
	h.json(0, &rules, "rule", "bare", "--json")
	insist.That(t, len(rules.Rules) == 1 && strings.Contains(rules.Rules[0].Log, "a is turned away, it waits for b"), "%+v", rules)
}

func TestAcceptAndExplain(t *testing.T) {
	t.Parallel()
	h := foresight(t, "berth a\nberth a\n", "a")
	insist.Holds(t, "", h.do(0, "check", "h"), "0 errors, 1 warning")
	h.do(2, "accept", "h", "need-late")
	h.do(0, "accept", "h", "registered-twice", "a", "--because", "for a joke")
	insist.Holds(t, "", h.do(0, "check", "h"), "0 errors, 0 warnings, 0 notes, 1 accepted", "(for a joke)")
	write(t, h.script(), "\n"+contents(t, h.script())) // another line, another fact
	insist.Holds(t, "", h.do(0, "check", "h"), "1 warning,")
	h.do(0, "accept", "h", "registered-twice")
	h.do(0, "accept", "h", "registered-twice", "a", "--back")
	h.do(2, "accept", "h", "registered-twice", "a", "--back")
	insist.Holds(t, "", h.do(0, "check", "--explain", "need-late"), "what it is", "in the log", "what to do")
	if out := h.do(0, "check", "--explain", "all"); strings.Count(out, "what it is") < 40 {
		t.Errorf("%d kinds of findings", strings.Count(out, "what it is"))
	}
	h.do(2, "check", "--explain", "no-such-kind")
}

// A mod that fails against the forecast is foretold to fail from then on, until
// its files change.
func TestLesson(t *testing.T) {
	t.Parallel()
	h := foresight(t, "berth a\nberth b\n", "a", "b")
	h.cargo("a", "", "haul a lot\n")
	var before, after forecastJSON
	h.json(0, &before, "check", "h", "--json")
	p := h.prove(1)
	insist.Need(t, p.mod("a").Outcome == "failed" && before.Forecast[0].Outcome == "confirmed", "a is %+v, foretold %+v", p.mod("a"), before.Forecast[0])
	h.json(1, &after, "check", "h", "--json")
	if f := after.Forecast[0]; f.Outcome != "failed" || f.Cause != "lesson" || after.Forecast[1].Outcome != "not loaded" {
		t.Errorf("foretold after the start: %+v", after.Forecast)
	}
	h.cargo("a", "", "haul 10\n")
	h.json(0, &after, "check", "h", "--json")
	h.prove(0)
}

func TestExport(t *testing.T) {
	t.Parallel()
	h := foresight(t, "berth a\nberth b\n", "a", "b: a")
	svg, pdf := filepath.Join(h.home, "o.svg"), filepath.Join(h.home, "o.pdf")
	insist.Holds(t, "", h.do(2, "export", "start", "h", "--svg", svg), "never started")
	h.do(2, "export", "order", "h")
	h.do(0, "export", "order", "h", "--svg", svg, "--pdf", pdf)
	insist.That(t, strings.HasPrefix(contents(t, pdf), "%PDF-"), "the PDF is none")
	isXML(t, contents(t, svg), "h: load order")
	h.prove(0)
	h.do(0, "export", "start", "h", "--svg", svg)
	isXML(t, contents(t, svg), "h: start 1")
	h.do(3, "export", "order", "h", "--svg", filepath.Join(h.home, "no/such/folder.svg"))
}

func isXML(t *testing.T, s, want string) {
	t.Helper()
	insist.That(t, strings.Contains(s, want), "%q is not in the drawing", want)
	for d := xml.NewDecoder(strings.NewReader(s)); ; {
		if _, err := d.Token(); err == io.EOF {
			return
		} else if err != nil {
			t.Fatal(err)
		}
	}
}

// The fair's engine and loader, and its order by needs.
func TestBuilds(t *testing.T) {
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "fair")
	insist.OK(t, os.CopyFS(dir, os.DirFS("../demo/cogwheel-fair")))
	for _, name := range []string{"carousel", "ghost_train", "ferris_wheel", "candy_stall", "brass_gears"} {
		os.RemoveAll(filepath.Join(dir, "rides", name+".ride")) // folders in the demo's data, packed when it is laid out
	}
	o.do(0, "adopt", dir, "--as", "fair", "--dialect", "cogwheel-fair", "--set", "port="+freePort(t))
	write(t, filepath.Join(dir, "engine/VERSION"), "2\n")
	var c forecastJSON
	r := o.try("check", "fair", "--json")
	decode(t, r.out, &c)
	insist.That(t, strings.Contains(r.out, `"runtime-unfit"`) && c.Forecast[0].Cause == "never-starts", "check says\n%s", r.out)
	insist.Holds(t, "", o.do(0, "order", "fair"), "none is expected to load")
	write(t, filepath.Join(dir, "engine/VERSION"), "3\n")
	if r := o.try("check", "fair", "--json"); strings.Contains(r.out, `"runtime-unfit"`) {
		t.Errorf("check says\n%s", r.out)
	}
}
