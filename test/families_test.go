package test

import (
	"archive/zip"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"initium/internal/insist"
)

//go:embed testdata/rented.toml
var rented string

//go:embed testdata/shed.toml
var shed string

// family copies one of the demo's servers and adopts it under its folder's name.
func family(t testing.TB, name, port string) (*operator, string) {
	t.Helper()
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), name)
	copyAll(t, filepath.Join("../demo", name), dir)
	rides := within(dir, "rides/*.ride")
	for _, folder := range rides {
		manifest := contents(t, filepath.Join(folder, "ride.yaml"))
		insist.OK(t, os.RemoveAll(folder))
		packed(t, folder, manifest)
	}
	files := within(dir, "*")
	free := freePort(t)
	for _, f := range files {
		if info, err := os.Stat(f); err == nil && !info.IsDir() {
			write(t, f, strings.ReplaceAll(contents(t, f), port, free))
		}
	}
	o.do(0, "adopt", dir, "--set", "pace=0.05", "--set", "port="+free)
	return o, dir
}

func packed(t testing.TB, file, manifest string) {
	t.Helper()
	f, err := os.Create(file)
	insist.OK(t, err)
	defer f.Close()
	z := zip.NewWriter(f)
	w, err := z.Create("ride.yaml")
	insist.OK(t, err)
	insist.OK(t, insist.Err(w.Write([]byte(manifest))))
	insist.OK(t, z.Close())
}

func (o *operator) proves(name, want string) *proofJSON {
	o.t.Helper()
	p := &proofJSON{}
	r := o.try("prove", name, "--json")
	decode(o.t, r.out, p)
	if got := p.outcomes(); got != want {
		o.t.Errorf("%s: outcomes are %s\nwant %s\n(%s)", name, got, want, p.Reason)
	}
	return p
}

func TestLanternMoor(t *testing.T) {
	o, dir := family(t, "lantern-moor", "27420")
	script, unit := filepath.Join(dir, "moor.sh"), filepath.Join(dir, "lantern-moor.service")
	before := contents(t, script)
	o.do(0, "register", "lantern-moor", "peat_smoke", "--before", "stilt_walks")
	if got, want := contents(t, script), strings.Replace(before, "~stilt_walks;", "~peat_smoke;~stilt_walks;", 1); got != want {
		t.Errorf("the script is\n%s", got)
	}
	insist.Holds(t, "the unit", contents(t, unit), `"-lanterns=~reed_lights;~peat_smoke;~stilt_walks;~mist_bells;`)
	o.do(0, "off", "lantern-moor", "ford_keepers")
	insist.Holds(t, "the script", contents(t, script), `"-wardens="`)
	o.proves("lantern-moor", "reed_lights confirmed, mist_bells confirmed, peat_smoke confirmed, stilt_walks confirmed, will_o_wisp confirmed")
	o.do(0, "on", "lantern-moor", "ford_keepers")
	o.do(0, "move", "lantern-moor", "reed_lights", "--after", "mist_bells")
	insist.OK(t, os.Remove(filepath.Join(dir, "wicks/stilt_walks.wick")))
	p := o.proves("lantern-moor", "mist_bells failed, reed_lights confirmed, peat_smoke confirmed, stilt_walks failed, will_o_wisp failed, ford_keepers failed")
	if m := p.mod("stilt_walks"); m.Reason != "stilt_walks.wick is not among the wicks" {
		t.Errorf("stilt_walks is %+v", m)
	}
	o.do(0, "undo", "lantern-moor", "0")
	insist.Same(t, "back at the beginning the script", contents(t, script), before)
}

func TestCogwheelFair(t *testing.T) {
	o, dir := family(t, "cogwheel-fair", "27530")
	list := filepath.Join(dir, "fair.json")
	var c checkJSON
	o.json(1, &c, "check", "cogwheel-fair", "--json")
	if f := c.Findings[0]; f.Code != "need-missing" || f.Remedy != "register brass_gears" {
		t.Errorf("check says %+v", f)
	}
	o.proves("cogwheel-fair", "carousel failed, ghost_train failed, ferris_wheel failed")
	before := contents(t, list)
	o.do(0, "register", "cogwheel-fair", "brass_gears")
	if got, want := contents(t, list), strings.Replace(before, `"ferris_wheel"`, "\"ferris_wheel\",\n    \"brass_gears\"", 1); got != want {
		t.Errorf("the list is\n%s", got)
	}
	o.proves("cogwheel-fair", "carousel confirmed, ghost_train confirmed, ferris_wheel confirmed, brass_gears confirmed")
	o.do(0, "off", "cogwheel-fair", "ghost_train")
	var s surveyJSON
	o.json(0, &s, "survey", "cogwheel-fair", "--json")
	for _, m := range s.Mods {
		if m.Name == "ghost_train" && (!m.Registered || m.On) {
			t.Errorf("ghost_train is %+v", m)
		}
	}
	o.do(0, "on", "cogwheel-fair", "ghost_train")
	o.do(0, "unregister", "cogwheel-fair", "brass_gears")
	insist.Same(t, "afterwards the list", contents(t, list), before)
	packed(t, filepath.Join(dir, "rides", "torn.ride"), "name: [")
	write(t, filepath.Join(dir, "rides", "rotten.ride"), "this is no archive")
	write(t, filepath.Join(dir, "engine/VERSION"), "2\n")
	if p := o.proves("cogwheel-fair", "carousel silent, ghost_train silent, ferris_wheel silent"); !strings.Contains(p.Reason, "the engine is version 2, this fair needs 3") {
		t.Errorf("the reason is %q", p.Reason)
	}
}

func TestNineOrchards(t *testing.T) {
	o, dir := family(t, "nine-orchards", "27640")
	ini := filepath.Join(dir, "orchard.ini")
	before := contents(t, ini)
	o.do(0, "register", "nine-orchards", "scarecrows", "--after", "hive_stands")
	want := strings.NewReplacer("hive_stands,", "hive_stands,scarecrows,", "1040,", "1040,1500,").Replace(before)
	insist.Same(t, "the lists", contents(t, ini), want)
	o.do(0, "move", "nine-orchards", "cider_press", "--before", "early_blossom")
	p := o.proves("nine-orchards", "hive_stands confirmed, scarecrows confirmed, cider_press failed, early_blossom confirmed, bee_roads confirmed")
	if m := p.mod("hive_stands"); !strings.Contains(m.Evidence[0].Text, "grafted: hive_stands, scarecrows") {
		t.Errorf("hive_stands is %+v", m)
	}
	var c checkJSON
	o.json(1, &c, "check", "nine-orchards", "--json")
	if f := c.Findings[0]; f.Code != "need-late" || f.Mod != "cider_press" {
		t.Errorf("check says %+v", f)
	}
	write(t, ini, strings.Replace(before, "numbers=1040,", "numbers=", 1))
	c = checkJSON{}
	o.json(1, &c, "check", "nine-orchards", "--json")
	if f := c.Findings[0]; f.Code != "list-unreadable" || !strings.Contains(f.Message, "grafts/names has 4 items and grafts/numbers has 3") {
		t.Errorf("check says %+v", f)
	}
	insist.Holds(t, "register", o.do(2, "register", "nine-orchards", "scarecrows"), "cannot be read, so nothing is changed")
}

func TestStagedChanges(t *testing.T) {
	h := newHarbour(t, "berth a\nberth b\n")
	for _, name := range []string{"a", "b", "c"} {
		h.cargo(name, "", "haul 1\n")
	}
	before := contents(t, h.script())
	h.do(0, "register", "h", "c", "--stage", "--before", "a")
	h.do(0, "off", "h", "c", "--stage")
	h.do(0, "move", "h", "b", "--stage", "--before", "c")
	insist.Need(t, contents(t, h.script()) == before, "a staged change was written")
	insist.Holds(t, "a change that cannot be made on top", h.do(2, "off", "h", "c", "--stage"), "c is off already")
	insist.Holds(t, "the plan", h.do(0, "plan", "h"), "< berth a", "> # berth c")
	var plan struct {
		Changes []struct{ Op, Mod string }
		Files   []struct {
			Path  string
			Edits []struct {
				Start, End int
				New        string
			}
		}
	}
	h.json(0, &plan, "plan", "h", "--json")
	insist.That(t, len(plan.Changes) == 3 && len(plan.Files) == 1 && len(plan.Files[0].Edits) != 0, "the plan is %+v", plan)
	h.do(0, "apply", "h")
	if got, want := contents(t, h.script()), strings.Replace(before, "berth a\nberth b\n", "berth b\n# berth c\nberth a\n", 1); got != want {
		t.Errorf("the script is %q, want %q", got, want)
	}
	h.do(2, "apply", "h")
	h.do(0, "off", "h", "a", "--stage")
	h.do(0, "plan", "h", "--drop")
	h.do(2, "apply", "h")
}

func TestReturning(t *testing.T) {
	h := newHarbour(t, "berth a\nberth b\n")
	for _, name := range []string{"a", "b", "c"} {
		h.cargo(name, "", "haul 1\n")
	}
	zero := contents(t, h.script())
	h.do(0, "register", "h", "c")
	one := contents(t, h.script())
	h.prove(0)
	h.do(0, "off", "h", "a")
	h.do(0, "unregister", "h", "b")
	three := contents(t, h.script())
	// Somebody else adds a line elsewhere: it has to stay.
	write(t, h.script(), "# hello\n"+three)
	insist.Holds(t, "undo", h.do(0, "undo", "h", "--proved"), "return to entry 1, the last proved state")
	insist.Same(t, "the script", contents(t, h.script()), "# hello\n"+one)
	h.do(0, "undo", "h")
	insist.Same(t, "the script", contents(t, h.script()), "# hello\n"+three)
	write(t, h.script(), three)
	h.do(0, "undo", "h", "0")
	insist.Same(t, "the script", contents(t, h.script()), zero)
	insist.Holds(t, "undo", h.do(2, "undo", "h", "99"), "no such entry")
	insist.Holds(t, "the ledger", h.do(0, "ledger", "h"), "start 1: proved", "register c")
	// The same lines changed by somebody else: refused, with the place.
	h.do(0, "off", "h", "a")
	write(t, h.script(), strings.Replace(contents(t, h.script()), "# berth a", "# berth a, never again", 1))
	insist.Holds(t, "undo", h.do(3, "undo", "h"), "line 4 has been changed since by somebody else")
}

// TestPasteSheet is a rented server: its launch parameters live in a web form.
func TestPasteSheet(t *testing.T) {
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "rented")
	write(t, filepath.Join(o.home, "dialects/rented.toml"), rented)
	for _, name := range []string{"a", "salt wind", "c"} {
		write(t, filepath.Join(dir, "mods", name, "x"), "")
	}
	o.do(0, "adopt", dir, "--dialect", "rented", "--as", "r")
	o.do(0, "register", "r", "a", "--stage")
	o.do(0, "register", "r", "salt wind", "--stage")
	insist.Same(t, "the paste sheet", o.do(0, "plan", "r", "--paste-sheet"), "Start parameters (changed; paste this):\n\"-mods=a;salt wind\"\n")
	o.do(0, "apply", "r")
	insist.Holds(t, "the paste sheet", o.do(0, "plan", "r", "--paste-sheet"), "as it was pasted last")
	out := o.do(0, "register", "r", "c", "--before", "a")
	insist.Holds(t, "the plan does not show a row for each item", out, ">       c;\n")
	if left := within(dir, "*"); len(left) != 1 {
		t.Errorf("something was written into the server's folder: %v", left)
	}
}

// TestPresence is a server whose mods load by being in a folder; one is switched
// off by setting it aside under another name.
func TestPresence(t *testing.T) {
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "shed")
	write(t, filepath.Join(o.home, "dialects/shed.toml"), shed)
	for _, name := range []string{"axe.tool", "rake.tool.away", "saw.tool", "readme.txt"} {
		write(t, filepath.Join(dir, "tools", name), name)
	}
	o.do(0, "adopt", dir, "--dialect", "shed")
	names := func() string {
		entries, err := os.ReadDir(filepath.Join(dir, "tools"))
		insist.OK(t, err)
		var list []string
		for _, e := range entries {
			list = append(list, e.Name())
		}
		return strings.Join(list, " ")
	}
	state := func() string {
		var s surveyJSON
		o.json(0, &s, "survey", "shed", "--json")
		var words []string
		for _, m := range s.Mods {
			word := m.Name
			if !m.On {
				word = "-" + word
			}
			words = append(words, word)
		}
		return strings.Join(words, " ")
	}
	if got := state(); got != "axe -rake saw" {
		t.Fatalf("the shed has %s", got)
	}
	o.do(0, "off", "shed", "axe")
	o.do(0, "on", "shed", "rake")
	if got := names(); got != "axe.tool.away rake.tool readme.txt saw.tool" || state() != "-axe rake saw" {
		t.Errorf("the folder has %s: %s", got, state())
	}
	insist.Same(t, "the axe", contents(t, filepath.Join(dir, "tools/axe.tool.away")), "axe.tool")
	write(t, filepath.Join(dir, "tools", "zest.tool"), "")
	o.do(0, "undo", "shed", "0")
	insist.Same(t, "back at the beginning the folder", names(), "axe.tool rake.tool.away readme.txt saw.tool zest.tool")
	write(t, filepath.Join(dir, "tools", "saw.tool.away"), "in the way")
	insist.Holds(t, "off", o.do(3, "off", "shed", "saw"), "there is something of that name already")
	insist.Holds(t, "unregister", o.do(2, "unregister", "shed", "axe"), "by being in the folder")
}

// TestManyAtOnce lets many Initiums change one server at the same time. Each
// change is made whole or refused, and the ledger knows which.
func TestManyAtOnce(t *testing.T) {
	var lines strings.Builder
	for i := range 8 {
		fmt.Fprintf(&lines, "berth m%d\n", i)
	}
	h := newHarbour(t, lines.String())
	for i := range 8 {
		h.cargo(fmt.Sprintf("m%d", i), "", "haul 1\n")
	}
	before := contents(t, h.script())
	status := make([]int, 8)
	var all sync.WaitGroup
	for i := range status {
		all.Go(func() { status[i] = h.try("off", "h", fmt.Sprintf("m%d", i)).status })
	}
	all.Wait()
	want, made := before, 0
	for i, s := range status {
		switch s {
		case 0:
			want = strings.Replace(want, fmt.Sprintf("berth m%d\n", i), fmt.Sprintf("# berth m%d\n", i), 1)
			made++
		case 3:
		default:
			t.Errorf("m%d ended with exit status %d", i, s)
		}
	}
	if got := contents(t, h.script()); got != want || made == 0 {
		t.Errorf("after %d changes the script is\n%s", made, got)
	}
	if out := h.do(0, "ledger", "h"); strings.Count(out, "\n") != made+1 {
		t.Errorf("the ledger of %d changes is\n%s", made, out)
	}
}
