package test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"initium/internal/insist"
)

// moor is a lantern moor with a mod, reeds, that lies in a folder to be taken in with entries beside it.
type moor struct {
	*operator
	dir, table string
}

func newMoor(t *testing.T) *moor {
	t.Helper()
	o, dir := family(t, "lantern-moor", "27420")
	return &moor{o, dir, filepath.Join(dir, "tables/creatures.xml")}
}

// comes makes a folder that a mod comes in, of a release, with entries beside it and in it.
func (m *moor) comes(mod, release, beside, own string) string {
	m.t.Helper()
	folder := filepath.Join(m.t.TempDir(), mod)
	write(m.t, filepath.Join(folder, mod, "lantern.json"), `{"id": "`+mod+`", "release": "`+release+`", "side": "all", "burn": 1, "needs": []}`)
	write(m.t, filepath.Join(folder, mod, "keys", mod+".wick"), "wick")
	if beside != "" {
		write(m.t, filepath.Join(folder, "creatures_"+mod+".xml"), "<creatures>\n\t"+beside+"\n</creatures>\n")
	}
	if own != "" {
		write(m.t, filepath.Join(folder, mod, "data", "creatures.xml"), own)
	}
	return folder
}

// has looks that the table has just these lines between the moor's own and its end.
func (m *moor) has(what string, lines ...string) {
	m.t.Helper()
	want := "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<creatures>\n  <!-- the moor's own -->\n  <creature id=\"heron\" luck=\"2\"/>\n  <creature id=\"eel\" luck=\"1\"/>\n"
	for _, l := range lines {
		want += "  " + l + "\n"
	}
	insist.Same(m.t, what, contents(m.t, m.table), want+"</creatures>\n")
}

const (
	newt    = `<creature id="newt" luck="4"/>`
	bittern = `<creature id="bittern" luck="3"/>`
)

// What a mod brings for a table comes and goes with it, in one plan; a new release brings the differences; what
// somebody has changed stays.
func TestEntriesComeAndGoWithTheirMod(t *testing.T) {
	t.Parallel()
	m := newMoor(t)
	before := contents(t, m.table)
	source := m.comes("reeds", "1.0", newt+"\n\t"+bittern, "")
	insist.Holds(t, "look", m.do(0, "look", source, "--server", "lantern-moor"), "entries: creatures_reeds.xml, for "+m.table, `<creature id="newt" luck="4"/>`)
	insist.Holds(t, "take", m.do(0, "take", "lantern-moor", source), "bog/reeds", newt)
	m.has("the table", newt, bittern)
	insist.Holds(t, "the ledger", m.do(0, "ledger", "lantern-moor"), "take in reeds, then add the entries of reeds to creatures.xml")
	m.do(0, "undo", "lantern-moor")
	insist.Same(t, "taken back", contents(t, m.table), before)
	m.do(0, "take", "lantern-moor", source)

	// A new release changes one, has another no more, and brings a third.
	next := m.comes("reeds", "1.1", `<creature luck="5" id="newt"/>`+"\n\t"+`<creature id="toad"/>`, "")
	m.do(0, "take", "lantern-moor", next)
	m.has("the new release", `<creature luck="5" id="newt"/>`, `<creature id="toad"/>`)
	write(t, m.table, strings.Replace(contents(t, m.table), `id="toad"`, `id="toad" luck="9"`, 1))
	insist.Holds(t, "what would go", m.do(0, "remove", "lantern-moor", "reeds", "--show"), "goes: "+m.table+":6, the 1 entries that it has brought", "stays: "+m.table+":7, its entry toad, which somebody has changed since")
	m.do(0, "remove", "lantern-moor", "reeds")
	m.has("without the mod", `<creature id="toad" luck="9"/>`)
	m.do(0, "undo", "lantern-moor")
	m.has("with it again", `<creature luck="5" id="newt"/>`, `<creature id="toad" luck="9"/>`)
	m.do(0, "remove", "lantern-moor", "reeds")
	m.has("without it once more", `<creature id="toad" luck="9"/>`)
}

// Entries that are there and say something else are shown side by side, and asked.
func TestEntriesThatDiffer(t *testing.T) {
	t.Parallel()
	m := newMoor(t)
	before := contents(t, m.table)
	source := m.comes("reeds", "1.0", newt+"\n\t"+`<creature id="eel" luck="7"/>`+"\n\t"+`<creature luck='2' id='heron'></creature>`, "")
	r := m.try("take", "lantern-moor", source)
	insist.That(t, r.status == 1, "it is taken: %d", r.status)
	insist.Holds(t, "asked", r.err, "eel is in tables/creatures.xml already, on line 5, and says something else", `there  <creature id="eel" luck="1"/>`, `comes  <creature id="eel" luck="7"/>`, "--keep tables/creatures.xml:eel")
	insist.Lacks(t, "asked", r.err, "heron")
	insist.Same(t, "nothing is written", contents(t, m.table), before)
	m.do(0, "take", "lantern-moor", source, "--keep", "tables/creatures.xml:eel")
	m.has("kept", newt)
	m.do(0, "undo", "lantern-moor")
	m.do(0, "take", "lantern-moor", source, "--take", "tables/creatures.xml")
	insist.Same(t, "taken", contents(t, m.table), strings.Replace(strings.Replace(before, `luck="1"`, `luck="7"`, 1), "</creatures>", "  "+newt+"\n</creatures>", 1))

	torn := m.comes("frogs", "1.0", `<creature luck="1"/>`, "")
	insist.Holds(t, "without what they are known by", m.try("take", "lantern-moor", torn).err, "1 of its entries have no @id")
	write(t, m.table, "<creatures>\n")
	insist.Holds(t, "into a torn table", m.try("take", "lantern-moor", m.comes("frogs", "1.0", newt, "")).err, "tables/creatures.xml cannot be added to", "never closed")
}

// check tells of entries that were never added, and of those of mods that are gone; both have their remedy.
func TestForgottenEntries(t *testing.T) {
	t.Parallel()
	m := newMoor(t)
	before := contents(t, m.table)
	copyAll(t, filepath.Join(m.comes("reeds", "1.0", "", newt+"\n"+bittern), "reeds"), filepath.Join(m.dir, "bog/reeds"))
	copyAll(t, filepath.Join(m.dir, "bog/reeds/keys"), filepath.Join(m.dir, "wicks"))
	m.do(0, "register", "lantern-moor", "reeds")
	findings := func(code string) (said string) {
		var c checkJSON
		decode(t, m.try("check", "lantern-moor", "--json").out, &c)
		for _, f := range c.Findings {
			if f.Code == code {
				said += f.Severity + ": " + f.Message + "; " + f.Remedy
			}
		}
		return said
	}
	insist.Same(t, "not added", findings("data-unmerged"), "warning: it ships 2 entries that creatures.xml has not: newt, bittern; add the entries of reeds to creatures.xml")
	insist.Holds(t, "shown", m.do(0, "merge", "lantern-moor", "reeds", "--show"), newt)
	insist.Same(t, "nothing is written", contents(t, m.table), before)
	m.do(0, "merge", "lantern-moor", "reeds", "--stage")
	insist.Same(t, "staged", contents(t, m.table), before)
	m.do(0, "apply", "lantern-moor")
	m.has("added", newt, bittern)
	insist.Same(t, "not added", findings("data-unmerged"), "")
	insist.Holds(t, "once more", m.do(2, "merge", "lantern-moor", "reeds"), "it is so already")
	write(t, m.table, strings.Replace(contents(t, m.table), `luck="4"`, `luck="8"`, 1))
	insist.Holds(t, "changed since", findings("data-differs"), "note: creatures.xml has 1 entry otherwise than it ships them: newt")
	m.proves("lantern-moor", "reed_lights confirmed, mist_bells confirmed, stilt_walks confirmed, will_o_wisp confirmed, reeds confirmed, ford_keepers confirmed")

	m.do(0, "unregister", "lantern-moor", "reeds")
	insist.OK(t, os.RemoveAll(filepath.Join(m.dir, "bog/reeds")))
	insist.Holds(t, "left", findings("data-left"), "warning: creatures.xml has 1 entry of reeds, which is not on the server any more: bittern", "take the entries of reeds out of creatures.xml")
	m.do(0, "merge", "lantern-moor", "reeds", "--away", "--table", "tables/creatures.xml")
	m.has("taken out", `<creature id="newt" luck="8"/>`)
	insist.Same(t, "left", findings("data-left"), "")
	m.do(0, "undo", "lantern-moor")
	m.has("back again", `<creature id="newt" luck="8"/>`, bittern)
}

// A table that is not there yet begins from what the operator says, never from nothing; and a file that came
// beside a mod can be added by its name.
func TestTableThatIsNotThereYet(t *testing.T) {
	t.Parallel()
	m := newMoor(t)
	before := contents(t, m.table)
	insist.OK(t, os.Remove(m.table))
	source := m.comes("reeds", "1.0", newt, "")
	insist.Holds(t, "without a base", m.try("take", "lantern-moor", source).err, "tables/creatures.xml is not there yet", "--base FILE")
	insist.Holds(t, "of no mod", m.try("merge", "lantern-moor", "reeds", filepath.Join(source, "creatures_reeds.xml")).err, "reeds")
	base := filepath.Join(t.TempDir(), "base.xml")
	write(t, base, before)
	m.do(0, "merge", "lantern-moor", "mist_bells", filepath.Join(source, "creatures_reeds.xml"), "--base", base)
	m.has("begun", newt)
	m.do(0, "undo", "lantern-moor")
	m.do(0, "take", "lantern-moor", source, "--base", base)
	m.has("begun by what is taken in", newt)
	m.do(0, "undo", "lantern-moor")
	_, err := os.Stat(m.table)
	insist.That(t, os.IsNotExist(err), "taken back, the table is there: %v", err)
	insist.Holds(t, "nothing of its own", m.try("merge", "lantern-moor", "mist_bells").err, "has no file with entries")
	insist.Holds(t, "no table", m.try("merge", "lantern-moor", "mist_bells", base, "--table", "moor.sh").err, "is no table of which the dialect")
}

// What a mod wants to be done besides stands at it until it is done, and so does all else that is owed.
func TestOwed(t *testing.T) {
	t.Parallel()
	m := newMoor(t)
	insist.Holds(t, "at first", m.do(0, "owed", "lantern-moor"), "nothing that Initium knows of")
	source := m.comes("reeds", "1.0", newt, "")
	write(t, filepath.Join(source, "reeds.sql"), "CREATE TABLE reeds (n INTEGER);\n")
	m.do(0, "take", "lantern-moor", source)
	out := m.do(1, "owed", "lantern-moor")
	insist.Holds(t, "owed", out, "owed    reeds: it wants to be done besides: a script for the moor's database, to be run once; run it once against the server's database (reeds.sql)",
		"initium accept lantern-moor step-left reeds", "nothing was started since the last change: take in reeds")
	var c checkJSON
	decode(t, m.try("check", "lantern-moor", "--json").out, &c)
	insist.That(t, slices.ContainsFunc(c.Findings, func(f findingJSON) bool { return f.Code == "step-left" && f.Mod == "reeds" }), "check says %+v", c.Findings)
	m.do(0, "accept", "lantern-moor", "step-left", "reeds", "--because", "ran it by hand")
	m.proves("lantern-moor", "reed_lights confirmed, mist_bells confirmed, stilt_walks confirmed, will_o_wisp confirmed, reeds confirmed, ford_keepers confirmed")
	insist.Same(t, "done", m.do(0, "owed", "lantern-moor"), "waived  reeds: it wants to be done besides: a script for the moor's database, to be run once; run it once against the server's database (reeds.sql) (ran it by hand)\n")
	var list []struct{ Code, Waived string }
	m.json(0, &list, "owed", "lantern-moor", "--json")
	insist.That(t, len(list) == 1 && list[0].Code == "step-left" && list[0].Waived == "ran it by hand", "as JSON it is %+v", list)
	m.do(0, "remove", "lantern-moor", "reeds")
	insist.Lacks(t, "without the mod", m.try("owed", "lantern-moor").out, "reeds.sql")
}

// An entry that several mods have brought stays until the last of them is gone; one that the moor had before
// stays whoever brings it too; and what a mod brings in several files is all of it.
func TestEntriesOfSeveralMods(t *testing.T) {
	t.Parallel()
	m := newMoor(t)
	before := contents(t, m.table)
	reeds := m.comes("reeds", "1.0", newt+"\n\t"+`<creature id="eel" luck="1"/>`, `<creature id="crake"/>`)
	frogs := m.comes("frogs", "1.0", `<creature luck="4" id="newt"></creature>`+"\n\t"+bittern, "")
	m.do(0, "take", "lantern-moor", reeds)
	m.do(0, "take", "lantern-moor", frogs)
	both := []string{newt, `<creature id="crake"/>`, bittern}
	m.has("of both", both...)
	m.do(0, "remove", "lantern-moor", "reeds")
	m.has("of one", newt, bittern)
	m.do(0, "remove", "lantern-moor", "frogs")
	insist.Same(t, "of none", contents(t, m.table), before)
	m.do(0, "undo", "lantern-moor", "2")
	m.has("of both again", both...)
	m.do(0, "take", "lantern-moor", m.comes("reeds", "1.1", newt, `<creature id="crake"/>`))
	m.has("a release with the same", both...)
	m.do(0, "merge", "lantern-moor", "frogs", "--away")
	m.has("one's own taken out", newt, `<creature id="crake"/>`)
	m.do(0, "take", "lantern-moor", m.comes("reeds", "1.2", "", ""))
	m.has("a release without any", newt, `<creature id="crake"/>`)
}

// The demo's own: without its entry in the table the choir does not load, with it it does.
func TestChoirOfTheDemo(t *testing.T) {
	t.Parallel()
	m := newMoor(t)
	source := filepath.Join(t.TempDir(), "fen_choir")
	copyAll(t, "../demo/downloads/fen_choir.zip", source)
	m.do(0, "take", "lantern-moor", source)
	const all = "reed_lights confirmed, mist_bells confirmed, stilt_walks confirmed, will_o_wisp confirmed, fen_choir confirmed, ford_keepers confirmed"
	m.proves("lantern-moor", all)
	m.do(0, "merge", "lantern-moor", "fen_choir", "--away")
	if p := m.proves("lantern-moor", strings.Replace(all, "fen_choir confirmed", "fen_choir failed", 1)); p.mod("fen_choir").Reason != "there is no bittern on the moor to sing with" {
		t.Errorf("it failed as %q", p.mod("fen_choir").Reason)
	}
	m.do(0, "merge", "lantern-moor", "fen_choir", filepath.Join(source, "creatures_fen_choir.xml"))
	m.proves("lantern-moor", all)
}

// A mod that could not be looked through as a whole is not taken for one that ships nothing.
func TestModWithTooManyFiles(t *testing.T) {
	t.Parallel()
	m := newMoor(t)
	before := m.do(1, "check", "lantern-moor")
	insist.Lacks(t, "at first", before, "cannot be told")
	for i := range 5001 {
		write(t, filepath.Join(m.dir, "bog/reed_lights/many", fmt.Sprint(i)), "x")
	}
	insist.Holds(t, "with more than are looked at", m.try("check", "lantern-moor").out, "whether it ships entries for tables of the server cannot be told: it has more than the 5000 files that are looked through")
	insist.Holds(t, "asked for", m.try("merge", "lantern-moor", "reed_lights").err, "more than the 5000 files")
}
