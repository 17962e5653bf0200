package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// A dialect is handed on with lines of its servers' logs as examples, tried on a folder, and taken in
// by somebody else; nothing that its rules leave open goes with it.
func TestDialectsAreShared(t *testing.T) {
	o, dir := family(t, "harrow-sound", "27410")
	o.do(0, "off", "harrow-sound", "paddle_ferry")
	o.try("prove", "harrow-sound")
	log := filepath.Join(o.home, "servers/harrow-sound/starts/00001/log")
	said := contents(t, log)
	shared := o.do(0, "dialect", "export", "harrow-sound")
	insist.Holds(t, "the dialect", shared, "[[example]]", "means = 'loaded'", "mods = ['tide_tables']", "is made fast after")
	if i := strings.Index(said, "licence"); i >= 0 {
		insist.Lacks(t, "the dialect", shared, "not-a-real-licence")
	}
	other := newOperator(t)
	file := filepath.Join(filepath.Dir(other.home), "shared.toml")
	write(t, file, strings.Replace(shared, `name  = "harrow-sound"`, `name = "sound"`, 1))
	insist.Holds(t, "check", other.do(0, "dialect", "check", file), "no faults", "examples are read as they say")
	insist.Holds(t, "add", other.do(0, "dialect", "add", file), "sound is among your dialects")
	insist.Holds(t, "add", other.do(2, "dialect", "add", file), "there is a dialect sound already")
	other.do(0, "dialect", "add", file, "--anew")
	insist.Holds(t, "list", other.do(0, "dialect", "list"), "sound")
	out := other.do(0, "dialect", "try", "sound", dir, log)
	insist.Holds(t, "try", out, "mods that are registered: ", "  tide_tables\n", "lines that a rule fits: ", " of ")
	var f struct {
		Missing, Mods, Unread, Left []string
		There, Lines, Known         int
	}
	other.json(0, &f, "dialect", "try", "sound", dir, log, "--json")
	insist.That(t, len(f.Missing) == 0 && f.There > 5 && f.Lines == strings.Count(said, "\n") && f.Known > 5 && f.Known < f.Lines && len(f.Left) > 0, "it fits %+v", f)
	insist.Holds(t, "of another folder", other.do(0, "dialect", "try", "sound", t.TempDir()), "by which it would be recognised", "mods that are registered: 0")
	lie := filepath.Join(filepath.Dir(other.home), "lie.toml")
	write(t, lie, contents(t, file)+"\n[[example]]\nline = \"nobody says so\"\nmeans = \"ready\"\n")
	insist.Holds(t, "one that lies", other.do(1, "dialect", "check", lie), "is to mean \"ready\", and means \"nothing\"")
	insist.Holds(t, "one that lies", other.do(1, "dialect", "add", lie, "--anew"), "lie.toml", "is to mean")
	insist.Fails(t, "what was not added", insist.Err(os.Stat(filepath.Join(other.home, "dialects/lie.toml"))))
	other.do(3, "dialect", "try", "sound", dir, filepath.Join(dir, "no.log"))
}

// A rule that was taught is listed, and taken out; of a dialect that ships a copy is written.
func TestRulesAreTakenOut(t *testing.T) {
	o := newOperator(t)
	before := o.do(0, "teach", "rules", "redis")
	insist.Holds(t, "the rules", before, "  1  loaded   \"Module {any} loaded from {path}\"\n", "ready    \"Ready to accept connections\"")
	insist.Holds(t, "dropped", o.do(0, "teach", "rules", "redis", "--drop", "2"), "rule 2 is taken out", "the dialect is complete")
	after := o.do(0, "teach", "rules", "redis")
	insist.Same(t, "rules", strings.Count(after, "\n"), strings.Count(before, "\n")-1)
	insist.Lacks(t, "the rules", after, "failed to load")
	insist.Holds(t, "dropped", o.do(0, "teach", "rules", "redis", "--drop", "2"), "still missing: a rule that means \"ready\" is needed")
	insist.Holds(t, "no such rule", o.do(2, "teach", "rules", "redis", "--drop", "99"), "has no rule 99")
	insist.Holds(t, "no such dialect", o.do(2, "teach", "rules", "nothing"), "there is no dialect")
	file := contents(t, filepath.Join(o.home, "dialects/redis.toml"))
	insist.Holds(t, "the file", file, "[[log.rule]]\nmeans = \"loaded\"\nline  = \"Module {any} loaded from {path}\"\n\n[[log.rule]]\nmeans = \"told\"")
}
