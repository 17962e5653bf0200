package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// A mod of the demo wants two settings above its line, and says so in its notes: without them it ends the server.
func TestStormGlassOfTheDemo(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth sound_charts\n")
	h.cargo("sound_charts", "", "haul 1\n")
	source := filepath.Join(t.TempDir(), "storm_glass")
	copyAll(t, "../demo/downloads/storm_glass.zip", source)
	h.do(0, "take", "h", source)
	insist.Holds(t, "owed", h.try("owed", "h").out, "storm_glass", "glass_at", "storm_from")
	if p := h.prove(1); p.Verdict == "proved" || !strings.Contains(p.mod("storm_glass").Reason, "the setting glass_at is not set at this point") {
		t.Errorf("without its settings: %s, %s", p.Verdict, p.mod("storm_glass").Reason)
	}
	h.do(0, "set", "h", "glass_at", "3")
	h.do(0, "set", "h", "storm_from", "8")
	insist.Same(t, "with them", h.prove(0).outcomes(), "sound_charts confirmed, storm_glass confirmed")
	insist.Lacks(t, "owed", h.try("owed", "h").out, "glass_at")
	h.do(0, "unset", "h", "storm_from")
	saved := h.do(0, "recipe", "save", "h", filepath.Join(t.TempDir(), "glass"), "--mod", "storm_glass")
	insist.Holds(t, "what its notes say", saved, "notes: INSTALL.txt in storm_glass", "5  let glass_at 3  (so already)", "6  let storm_from 8  → initium set h storm_from 8", "10  berth storm_glass  (so already)")
	insist.OK(t, os.RemoveAll(source))
	insist.Holds(t, "notes that are gone", h.do(0, "recipe", "save", "h", filepath.Join(t.TempDir(), "glass")), "the notes in storm_glass are not shown")
}

// One wants a block of a script of the server replaced: as long as its gate lets nobody on, it jams.
func TestMoonSwingOfTheDemo(t *testing.T) {
	t.Parallel()
	o, dir := family(t, "cogwheel-fair", "27530")
	source := filepath.Join(t.TempDir(), "moon_swing")
	copyAll(t, "../demo/downloads/moon_swing", source)
	ride := filepath.Join(source, "moon_swing.ride")
	manifest := contents(t, filepath.Join(ride, "ride.yaml"))
	insist.OK(t, os.RemoveAll(ride))
	packed(t, ride, manifest)
	gates := filepath.Join(dir, "gates.fair")
	before := contents(t, gates)

	o.do(0, "take", "cogwheel-fair", source)
	p := &proofJSON{}
	decode(t, o.try("prove", "cogwheel-fair", "--json").out, p)
	insist.Same(t, "with the gate shut", string(p.mod("moon_swing").Outcome)+": "+p.mod("moon_swing").Reason, "failed: the gate children lets nobody on it")
	o.do(0, "put", "cogwheel-fair", "gates.fair", "--block", "gate children {", "--with", filepath.Join(source, "children.gate"))
	insist.Same(t, "the block", contents(t, gates), strings.Replace(before, "gate children {\n    lets(carousel, ferris_wheel, candy_stall);\n    turns = 3;\n}\n", contents(t, filepath.Join(source, "children.gate")), 1))
	decode(t, o.try("prove", "cogwheel-fair", "--json").out, p)
	insist.Same(t, "with the gate open", string(p.mod("moon_swing").Outcome), "confirmed")
	write(t, gates, strings.Replace(contents(t, gates), "turns = 3;\n}", "turns = 3;\n", 1))
	insist.Holds(t, "a bracket that does not close", o.try("check", "cogwheel-fair").out, "gates.fair:8:15 [data-unreadable]")
}

// One wants a script run on the server's database, once: without the table that it makes the mod does not take.
func TestHoneyHouseOfTheDemo(t *testing.T) {
	t.Parallel()
	o, dir := family(t, "nine-orchards", "27640")
	source := filepath.Join(t.TempDir(), "honey_house")
	copyAll(t, "../demo/downloads/honey_house.zip", source)
	db := filepath.Join(dir, "orchard.db")
	before := contents(t, db)
	o.do(0, "take", "nine-orchards", source)
	insist.Holds(t, "owed", o.try("owed", "nine-orchards").out, "honey_house", "initium sql nine-orchards SOURCE honey.sql --mod honey_house")
	const rest = "hive_stands confirmed, early_blossom confirmed, cider_press confirmed, bee_roads confirmed, "
	if p := o.proves("nine-orchards", rest+"honey_house failed"); p.mod("honey_house").Reason != "orchard.db has no table honey" {
		t.Errorf("it failed as %q", p.mod("honey_house").Reason)
	}
	o.do(0, "sql", "nine-orchards", source, "honey.sql", "--mod", "honey_house")
	insist.Same(t, "what the bees brought", asks(t, db, "SELECT kind FROM honey ORDER BY jars")+" "+asks(t, db, "SELECT yield FROM trees WHERE name = 'linden'"), "heather; late|clover 7")
	o.proves("nine-orchards", rest+"honey_house confirmed")
	folder := filepath.Join(t.TempDir(), "honey")
	insist.Holds(t, "what its notes say", o.do(0, "recipe", "save", "nine-orchards", folder), "2  run 2-honey.sql on the server's database", "notes: README.md in honey_house", "4  Run honey.sql once on orchard.db. Without its table the house does not take.  (so already)")
	insist.Lacks(t, "owed", o.try("owed", "nine-orchards").out, "honey.sql")
	o.do(0, "undo", "nine-orchards")
	insist.Same(t, "taken back", contents(t, db), before)
	o.do(0, "undo", "nine-orchards", "0")

	o.do(0, "prove", "nine-orchards", "--keep-running")
	insist.Holds(t, "under a running server", o.try("recipe", "run", "nine-orchards", folder, "--from", filepath.Dir(source)).err, "orchard.db must not change under it")
	o.do(0, "stop", "nine-orchards")
	insist.Holds(t, "the recipe", o.do(0, "recipe", "run", "nine-orchards", folder, "--from", filepath.Dir(source)), "honey.sql")
	insist.Same(t, "what the bees brought again", asks(t, db, "SELECT kind FROM honey ORDER BY jars"), "heather; late|clover")
	o.proves("nine-orchards", rest+"honey_house confirmed")
	insist.Holds(t, "once more", o.do(0, "recipe", "run", "nine-orchards", folder, "--from", filepath.Dir(source)), "so already: run 2-honey.sql", "nothing to change")

	// Another server of the family gets mod and script in one plan.
	live := filepath.Join(filepath.Dir(dir), "live")
	copyAll(t, "../demo/nine-orchards", live)
	free := freePort(t)
	write(t, filepath.Join(live, "orchard.ini"), strings.ReplaceAll(contents(t, filepath.Join(live, "orchard.ini")), "27640", free))
	o.do(0, "adopt", live, "--as", "live", "--set", "pace=0.05")
	insist.Holds(t, "beside it", o.do(1, "differ", "nine-orchards", "live"), "mod honey_house", "script 2-honey.sql", "run | not there")
	said := o.do(0, "carry", "nine-orchards", "live")
	insist.Lacks(t, "carried", said, "left as it is: script")
	insist.Same(t, "what the bees brought there", asks(t, filepath.Join(live, "orchard.db"), "SELECT kind FROM honey ORDER BY jars"), "heather; late|clover")
	o.proves("live", rest+"honey_house confirmed")
	o.do(0, "differ", "nine-orchards", "live")
	o.do(0, "undo", "live")
	insist.Same(t, "taken back there", contents(t, filepath.Join(live, "orchard.db")), before)
	insist.OK(t, os.RemoveAll(folder))
	insist.Holds(t, "a script that is gone", o.do(0, "carry", "nine-orchards", "live", "--show"), "left as it is: script 2-honey.sql", "initium sql live runs it")
}
