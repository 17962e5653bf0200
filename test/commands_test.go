package test

import (
	_ "embed"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"initium/internal/insist"
)

//go:embed testdata/far.toml
var far string

//go:embed testdata/gate.toml
var gate string

// is asks whether a file is there.
func is(name string) bool {
	_, err := os.Lstat(name)
	return err == nil
}

// TestTakeWithItsFlags looks at what each flag of an intake and a removal changes.
func TestTakeWithItsFlags(t *testing.T) {
	h := newHarbour(t, "berth a\nberth +lights\n")
	h.cargo("a", "", "haul 1\n")
	h.cargo("+lights/lamp", "", "haul 1\n")
	base, before := filepath.Dir(h.home), contents(t, h.script())
	source := filepath.Join(base, "kelp.zip")
	write(t, source, string(zipped(t, kelp("kelp_farms/"))))
	mod := filepath.Join(h.dir, "cargo/kelp_farms")

	for _, args := range [][]string{{"--most-files", "2"}, {"--most-bytes", "20"}} {
		if r := h.try(append([]string{"take", "h", source}, args...)...); r.status == 0 || !strings.Contains(r.err, "the bound can be set with "+args[0]) || is(mod) {
			t.Errorf("%v: %d %s", args, r.status, r.err)
		}
	}
	// Quietly nothing is printed but JSON, and the status tells.
	for _, args := range [][]string{{"check", "h"}, {"survey", "h"}, {"ledger", "h"}, {"off", "h", "a"}, {"undo", "h"}} {
		if r := h.try(append(args, "--quiet")...); r.out != "" || r.err != "" || r.status == 2 || r.status == 3 {
			t.Errorf("%v --quiet: %d, %q, %q", args, r.status, r.out, r.err)
		}
	}
	if r := h.try("survey", "h", "--quiet", "--json"); !strings.HasPrefix(r.out, "{") {
		t.Errorf("quiet JSON is %q", r.out)
	}
	if r := h.try("off", "h", "nobody", "--quiet"); r.status != 2 || r.out != "" || r.err == "" {
		t.Errorf("a quiet mistake: %d, %q, %q", r.status, r.out, r.err)
	}
	// What could not be carried out stands in Initium's own log too.
	if out := h.do(0, "log", "--own"); strings.Count(out, "a command could not be carried out") != 2 || !strings.Contains(out, `command="initium take"`) {
		t.Errorf("Initium's own log is\n%s", out)
	}
	for _, args := range [][]string{{"log"}, {"log", "h", "--own"}} {
		if r := h.try(args...); r.status != 2 {
			t.Errorf("%v: %d %s", args, r.status, r.err)
		}
	}
	big := kelp("kelp_farms/")
	big["kelp_farms/zeros"] = strings.Repeat("0", 70<<20)
	write(t, filepath.Join(base, "big.zip"), string(zipped(t, big)))
	if r := h.try("take", "h", filepath.Join(base, "big.zip"), "--most-ratio", "1"); r.status == 0 || is(mod) {
		t.Errorf("more than the ratio: %d %s", r.status, r.err)
	}
	h.do(0, "take", "h", source, "--files-only")
	insist.That(t, is(filepath.Join(mod, "bill.toml")) && contents(t, h.script()) == before, "only files: the script is\n%s", contents(t, h.script()))
	h.do(0, "undo", "h")
	h.do(0, "take", "h", source, "--stage")
	insist.That(t, !is(mod) && contents(t, h.script()) == before, "what was staged is done")
	insist.Holds(t, "the plan", h.do(0, "plan", "h"), "kelp_farms")
	h.do(0, "plan", "h", "--drop")
	insist.Lacks(t, "after it was dropped, the plan", h.do(0, "plan", "h"), "kelp_farms")
	h.do(0, "take", "h", source, "--as", "weed_farms", "--before", "a")
	if got := contents(t, h.script()); !strings.Contains(got, "berth weed_farms\nberth a\n") || !is(filepath.Join(h.dir, "cargo/weed_farms/bill.toml")) {
		t.Errorf("under another name: %s", got)
	}
	h.do(0, "undo", "h")

	two := kelp("pack/kelp_farms/")
	for name, data := range kelp("pack/moss_farms/") {
		two[name] = strings.ReplaceAll(data, "kelp_farms", "moss_farms")
	}
	write(t, filepath.Join(base, "two.zip"), string(zipped(t, two)))
	h.do(0, "take", "h", filepath.Join(base, "two.zip"), "--only", "moss_farms")
	insist.That(t, !is(mod) && is(filepath.Join(h.dir, "cargo/moss_farms/bill.toml")), "of two not the one that was named came")
	h.do(0, "undo", "h")
	if r := h.try("take", "h", source, "--into", "no/such/folder"); r.status == 0 || is(mod) {
		t.Errorf("into a folder that is none of the family's: %d %s", r.status, r.err)
	}
	h.do(0, "take", "h", source, "--into", "cargo")
	insist.That(t, is(filepath.Join(mod, "bill.toml")), "into a folder that was named it does not come")
	h.do(0, "undo", "h")

	cases := kelp("kelp_farms/", "kelp_farms/Art.png=1", "kelp_farms/art.png=2")
	write(t, filepath.Join(base, "cases.zip"), string(zipped(t, cases)))
	if r := h.try("take", "h", filepath.Join(base, "cases.zip")); r.status == 0 || !strings.Contains(r.err, "--cases") || is(mod) {
		t.Errorf("names that differ by letter case: %d %s", r.status, r.err)
	}
	h.do(0, "take", "h", filepath.Join(base, "cases.zip"), "--cases")
	insist.That(t, contents(t, filepath.Join(mod, "Art.png"))+contents(t, filepath.Join(mod, "art.png")) == "12", "both do not come")

	// Taking out: shown, with a backup, and the disk freed.
	write(t, filepath.Join(h.dir, "world/tide.dat"), "tide")
	world := below(t, h.dir)
	if out := h.do(0, "remove", "h", "kelp_farms", "--show"); !strings.Contains(out, "kelp_farms") || below(t, h.dir) != world {
		t.Errorf("showing what would go:\n%s", out)
	}
	backups := func() string { return h.do(0, "backup", "h", "--list") }
	none := backups()
	r := h.try("remove", "h", "kelp_farms", "--backup")
	if made := backups() != none; made != (r.status == 0) || is(mod) == made {
		t.Errorf("with a backup first: %d %s%s; backups: %s", r.status, r.out, r.err, backups())
	}
	if r.status != 0 { // a server without a world has nothing to keep, and is not touched
		h.do(0, "remove", "h", "kelp_farms")
	}
	kept := within(h.home, "servers/h/kept/*")
	insist.Need(t, len(kept) != 0, "the ledger keeps nothing of what went")
	newest := strings.Fields(lastLine(h.do(0, "ledger", "h")))[0]
	if out := h.do(0, "ledger", "h", "--forget", newest); !strings.Contains(out, "freed") && !strings.Contains(out, "free") {
		t.Errorf("forgetting says %s", out)
	}
	if kept = within(h.home, "servers/h/kept/*"); len(kept) != 0 {
		t.Errorf("still kept: %v", kept)
	}
	if r := h.try("undo", "h"); r.status == 0 || !strings.Contains(r.err, "does not have it any more") || is(mod) {
		t.Errorf("the way back to what was forgotten: %d %s", r.status, r.err)
	}
}

// TestRemoveWithABackup keeps the world first.
func TestRemoveWithABackup(t *testing.T) {
	w := newWorld(t)
	w.own("rocks", "", "")
	write(t, filepath.Join(w.dir, "map.sqlite"), "the map")
	w.do(0, "remove", "w", "rocks", "--backup")
	insist.That(t, !is(filepath.Join(w.dir, "worldmods/rocks")), "it did not go")
	insist.Holds(t, "the backups", w.do(0, "backup", "w", "--list"), "rocks")
	write(t, filepath.Join(w.dir, "map.sqlite"), "spoilt")
	w.do(0, "restore", "w")
	insist.Same(t, "after restoring the map", contents(t, filepath.Join(w.dir, "map.sqlite")), "the map")
}

// TestForms hands a field of a web form to Initium and gets it back changed.
func TestForms(t *testing.T) {
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "far")
	for _, m := range []string{"oak", "elm"} {
		write(t, filepath.Join(dir, "mods", m, "x"), "")
	}
	write(t, filepath.Join(o.home, "dialects/far.toml"), far)
	r := o.try("adopt", dir, "--dialect", "far")
	if r.status != 0 { // how a form's field is named is told by the documents
		t.Fatal(r.err)
	}
	form := func(field, data string) result {
		cmd := exec.Command(program, "form", "far", field)
		cmd.Env, cmd.Stdin = o.env, strings.NewReader(data)
		out, err := cmd.CombinedOutput()
		if _, exited := err.(*exec.ExitError); err != nil && !exited {
			t.Fatal(err)
		}
		return result{cmd.ProcessState.ExitCode(), "", string(out)}
	}
	if r := form("Mods", "-port 5 -mods=oak"); r.status != 0 {
		t.Fatalf("the field is not taken: %s", r.err)
	}
	o.do(0, "register", "far", "elm", "--stage")
	insist.Holds(t, "the paste sheet", o.do(0, "plan", "far", "--paste-sheet"), "-port 5 -mods=oak;elm", "Mods")
	if r := form("Nothing", "x"); r.status == 0 || !strings.Contains(r.err, "Mods") {
		t.Errorf("a field that there is not: %d %s", r.status, r.err)
	}
}

// TestLoadAndUnload speaks to a server whose family can load and take out single mods: each
// has words of its own.
func TestLoadAndUnload(t *testing.T) {
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "gate")
	write(t, filepath.Join(dir, "list"), "use oak\nuse elm\n")
	for _, m := range []string{"oak", "elm"} {
		write(t, filepath.Join(dir, "mods", m, "x"), "")
	}
	write(t, filepath.Join(dir, "run.sh"), `#!/bin/sh
test -t 0 && echo "on a terminal"
echo "given $*"
echo "oak is in"; echo "elm is in"; echo "open"
while read -r word mod; do
  case $word in
  again) echo "$mod is in again" ;;
  add) echo "$mod is in" ;;
  drop) echo "$mod is out" ;;
  list) echo "- oak"; echo "that is all" ;;
  quit) exit 0 ;;
  esac
done
`)
	insist.OK(t, os.Chmod(filepath.Join(dir, "run.sh"), 0o755))
	source := gate
	file := filepath.Join(o.home, "dialects/gate.toml")
	write(t, file, strings.Replace(source, "TERMINAL\n", "", 1))
	o.do(0, "adopt", dir, "--dialect", "gate")
	o.do(0, "prove", "gate", "--keep-running")
	if out := o.do(0, "log", "gate"); !strings.Contains(out, "given always\n") || strings.Contains(out, "on a terminal") {
		t.Errorf("it was started so:\n%s", out)
	}
	for do, want := range map[string]string{"load": "oak is in", "reload": "oak is in again"} {
		var m modJSON
		o.json(0, &m, do, "gate", "oak", "--json")
		if n := len(m.Evidence); m.Outcome != "confirmed" || n == 0 || m.Evidence[n-1].Text != want {
			t.Errorf("%s: %+v", do, m)
		}
	}
	if r := o.try("unload", "gate", "elm"); !strings.Contains(o.do(0, "log", "gate"), "elm is out") {
		t.Errorf("unload: %d %s%s", r.status, r.out, r.err)
	}
	bay := archived(t, "bay.zip", map[string]string{"bay/x": "x"})
	insist.Holds(t, "told", o.do(0, "take", "gate", bay), "gate runs without it: initium load gate bay takes it in now, with proof")
	insist.Holds(t, "loaded", o.do(0, "take", "gate", archived(t, "cove.zip", map[string]string{"cove/x": "x"}), "--load"), "cove: confirmed", "cove is in")
	o.do(0, "stop", "gate")
	o.do(0, "undo", "gate", "0")
	insist.Holds(t, "one that does not run", o.do(0, "take", "gate", bay, "--load"), "gate does not run")
	o.do(0, "undo", "gate", "0")
	// With a list on its console that does not name it, it is known to be gone.
	write(t, file, strings.Replace(strings.Replace(source, "TERMINAL", "terminal = true", 1), "[console]\n", "[console]\nlist = \"list\"\n", 1))
	o.do(0, "adopt", dir, "--dialect", "gate", "--set", "tag=red")
	p := &proofJSON{}
	o.json(1, p, "prove", "gate", "--json", "--keep-running") // its list names one of two
	insist.That(t, p.mod("elm").Outcome == "failed" && p.mod("oak").Outcome == "confirmed", "outcomes are %s", p.outcomes())
	insist.Holds(t, "it was started so", o.do(0, "log", "gate"), "given always --tag red", "on a terminal")
	var m modJSON
	o.json(0, &m, "unload", "gate", "elm", "--json")
	insist.That(t, m.Outcome == "confirmed" && strings.Contains(m.Reason, "names it no more"), "unloaded: %+v", m)
	o.json(1, &m, "unload", "gate", "oak", "--json")
	insist.That(t, m.Outcome == "failed" && strings.Contains(m.Reason, "still names it"), "what is still there: %+v", m)
	o.do(0, "stop", "gate")
	if out := o.do(0, "servers"); !strings.Contains(out, "stopped") || strings.Contains(out, "crash") {
		t.Errorf("a server that was stopped is told as\n%s", out)
	}
}

// TestTeachWithItsFlags makes rules with more examples, with lines that mean nothing, and
// for a log that the server writes by itself.
func TestTeachWithItsFlags(t *testing.T) {
	o := newOperator(t)
	dir := t.TempDir()
	write(t, filepath.Join(dir, "list"), "use tide\nuse rock\n")
	for _, m := range []string{"tide", "rock"} {
		write(t, filepath.Join(dir, "mods", m, "x"), "")
	}
	log := filepath.Join(dir, "out.log")
	write(t, log, "10:00:00 tide is up now\n10:00:00 rock is up (late)\n10:00:01 weather is up (rain)\n10:00:02 open\n")
	o.do(0, "teach", "server", "door", dir, filepath.Join(dir, "list"), "tide", "--start", "{dir}/run.sh")
	if out := o.do(0, "teach", "log", "door", log, "1", "loaded", "tide"); strings.Contains(out, "rock") && strings.Contains(out, "lines") && strings.Contains(out, "written") {
		t.Errorf("one example, not written:\n%s", out)
	}
	file := filepath.Join(o.home, "dialects/door.toml")
	before := contents(t, file)
	both := o.do(0, "teach", "log", "door", log, "1", "loaded", "tide", "--also", "2=rock")
	insist.That(t, contents(t, file) == before && strings.Contains(both, "{mod} is up {any}"), "two examples: %s", both)
	if r := o.try("teach", "log", "door", log, "1", "loaded", "tide", "--also", "2=rock", "--not", "3"); r.status == 0 && strings.Contains(r.out, "weather") && !strings.Contains(r.out, "not") {
		t.Errorf("with a line that means nothing: %s", r.out)
	}
	if r := o.try("teach", "log", "door", log, "1", "loaded", "tide", "--also", "nonsense"); r.status != 2 {
		t.Errorf("an example that is none: %d %s", r.status, r.err)
	}
	if r := o.try("teach", "log", "door", log, "1", "loaded", "tide", "--not", "99"); r.status == 0 {
		t.Errorf("a line that there is not: %s", r.out)
	}
	o.do(0, "teach", "log", "door", log, "1", "loaded", "tide", "--also", "2=rock", "--write")
	o.do(0, "teach", "log", "door", log, "4", "ready", "--write", "--own")
	insist.Holds(t, "the dialect", contents(t, file), "{mod} is up {any}", "{dir}/out.log")
}

// TestUnitInAFile writes a service unit to a file, and says it on the screen without one.
func TestUnitInAFile(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	file := filepath.Join(filepath.Dir(h.home), "h.service")
	printed := h.do(0, "export", "unit", "h")
	h.do(0, "export", "unit", "h", "--file", file)
	if got := contents(t, file); !strings.HasPrefix(printed, got) || !strings.Contains(got, "[Service]") || !strings.Contains(got, `keep "h"`) {
		t.Errorf("the unit is\n%s\nprinted\n%s", got, printed)
	}
}

// TestGuardCounts starts a server again as often as was said, and no more.
func TestGuardCounts(t *testing.T) {
	h := chatty(t, 1)
	h.do(0, "guard", "h", "--times", "1")
	h.do(0, "prove", "h", "--keep-running")
	for start := 1; start <= 2; start++ {
		eventually(t, "it is up", func() bool {
			return len(h.starts()) == start && strings.Contains(h.try("log", "h", "--start", fmt.Sprint(start)).out, "the sound is open")
		})
		_, server := h.running(start)
		insist.OK(t, syscall.Kill(server, syscall.SIGSEGV))
	}
	eventually(t, "it stays down", func() bool { return !strings.Contains(h.do(0, "servers"), "running") })
	insist.Same(t, "there", len(h.starts()), 2)
	// One that is not proved is not guarded.
	write(t, filepath.Join(h.dir, "cargo/lights/deck.script"), "dance\n")
	h.do(1, "prove", "h", "--keep-running")
	if out := h.do(0, "servers"); strings.Contains(out, "running") {
		_, server := h.running(3)
		insist.OK(t, syscall.Kill(server, syscall.SIGSEGV))
		eventually(t, "it is down", func() bool { return !strings.Contains(h.do(0, "servers"), "running") })
	}
	insist.Same(t, "a start that was not proved is made again", len(h.starts()), 3)
}

// A ledger that something has torn is told of with what to do, whatever the command; repaired,
// it works on.
func TestRepairTheLedger(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	h.do(0, "off", "h", "a")
	insist.Holds(t, "of a whole one", h.do(0, "ledger", "--repair"), "the ledger is whole; nothing was changed")
	db := filepath.Join(h.home, "ledger.db")
	data, err := os.ReadFile(db)
	insist.OK(t, err)
	insist.OK(t, os.WriteFile(db, append(make([]byte, 100), data[100:]...), 0o600))
	if r := h.try("ledger", "h"); r.status != 3 || !strings.Contains(r.err, "the ledger is damaged; initium ledger --repair keeps it") {
		t.Errorf("of a torn one: %d, %s", r.status, r.err)
	}
	out := h.do(0, "ledger", "--repair")
	insist.Holds(t, "repaired", out, "damaged: ", "is kept in "+h.home+"/ledger-damaged-")
	h.do(0, "on", "h", "a")
	insist.Holds(t, "afterwards", h.do(0, "ledger", "h"), "switch a on")
}
