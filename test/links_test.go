package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// ferryDialect is that of the made-up servers in which a link registers a mod.
const ferryDialect = `name  = "ferry"
order = "server"
[[place]]
path = "{dir}/hulls"
[[registration]]
name  = "afloat"
file  = "{dir}/afloat"
shape = "link"
at    = "{mod}"
item  = "../hulls/{mod}"
[[manifest]]
file   = "hull.json"
format = "json"
name   = "name"
needs  = "needs"
[start]
command = ["{dir}/start.sh"]
[log]
prefix = "{time} <{level}> "
[[log.rule]]
means = "loaded"
line  = "{mod} floats"
[[log.rule]]
means = "missing"
line  = "{mod} is gone: its rope leads nowhere"
[[log.rule]]
means = "ready"
line  = "casting off"
`

// linksIn are the links in a folder, and where they lead.
func linksIn(t *testing.T, dir string) string {
	t.Helper()
	var b strings.Builder
	for _, name := range namesIn(dir) {
		target, err := os.Readlink(filepath.Join(dir, name))
		insist.OK(t, err)
		b.WriteString(name + " -> " + target + "\n")
	}
	return b.String()
}

func TestLinksRegister(t *testing.T) {
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "ferry")
	madeUpFiles(t, "ferry", dir)
	afloat := filepath.Join(dir, "afloat")
	before := linksIn(t, afloat)
	put(t, filepath.Join(o.home, "dialects/ferry.toml"), ferryDialect)
	o.do(0, "adopt", dir, "--dialect", "ferry")
	insist.Holds(t, "the proof", o.do(0, "prove", "ferry"), "ferry: proved")

	o.do(0, "off", "ferry", "gull", "--stage")
	insist.Holds(t, "the plan", o.do(0, "plan", "ferry"), "afloat", "gull -> ../hulls/gull")
	insist.Lacks(t, "the rehearsal", o.do(0, "rehearse", "ferry"), "confirmed  gull")
	insist.Same(t, "after the rehearsal", linksIn(t, afloat), before)
	o.do(0, "apply", "ferry")
	insist.Same(t, "without gull", linksIn(t, afloat), strings.Replace(before, "gull -> ../hulls/gull\n", "", 1))
	o.do(0, "on", "ferry", "gull")
	insist.Same(t, "on again", linksIn(t, afloat), before)
	o.do(0, "register", "ferry", "tide")
	insist.Same(t, "with tide", linksIn(t, afloat), before+"tide -> ../hulls/tide\n")
	insist.Holds(t, "the proof", o.do(0, "prove", "ferry"), "ferry: proved", "tide")

	// one that leads there by its whole path does so in a copy too
	insist.OK(t, os.Remove(filepath.Join(afloat, "lamp")))
	insist.OK(t, os.Symlink(filepath.Join(dir, "hulls/lamp"), filepath.Join(afloat, "lamp")))
	o.do(0, "off", "ferry", "lamp", "--stage")
	insist.Holds(t, "the rehearsal", o.try("rehearse", "ferry").out, "rope")
	o.do(0, "plan", "ferry", "--drop")
	insist.OK(t, os.Remove(filepath.Join(afloat, "lamp")))
	insist.OK(t, os.Symlink("../hulls/lamp", filepath.Join(afloat, "lamp")))

	archive(t, filepath.Join(o.home, "wren.zip"), "wren/hull.json", `{"name": "wren", "needs": []}`)
	o.do(0, "take", "ferry", filepath.Join(o.home, "wren.zip"))
	insist.Holds(t, "the links", linksIn(t, afloat), "wren -> ../hulls/wren\n")
	o.do(0, "remove", "ferry", "wren")
	insist.Lacks(t, "the links", linksIn(t, afloat), "wren")

	// a link to nowhere is a mod that is not there, and what leads to another place is that mod
	insist.OK(t, os.Remove(filepath.Join(afloat, "kelp")))
	insist.OK(t, os.Symlink("../hull/kelp", filepath.Join(afloat, "kelp")))
	insist.Holds(t, "check", o.do(1, "check", "ferry"), "the link of kelp leads to", "hull/kelp, where nothing is", "at afloat/kelp [", "let the link lead there")
	o.do(0, "unregister", "ferry", "kelp")
	o.do(0, "register", "ferry", "kelp")
	insist.Holds(t, "the links", linksIn(t, afloat), "kelp -> ../hulls/kelp\n")
	insist.OK(t, os.Rename(filepath.Join(dir, "hulls/kelp"), filepath.Join(dir, "kelp")))
	insist.Holds(t, "check", o.do(1, "check", "ferry"), "kelp is registered", "not there")
	insist.OK(t, os.Remove(filepath.Join(afloat, "kelp")))
	insist.OK(t, os.Symlink("../kelp", filepath.Join(afloat, "kelp")))
	o.do(0, "check", "ferry")
	insist.OK(t, os.Rename(filepath.Join(dir, "kelp"), filepath.Join(dir, "hulls/kelp")))

	// what somebody else has put there is neither taken away nor written over
	insist.OK(t, os.Remove(filepath.Join(afloat, "kelp")))
	put(t, filepath.Join(afloat, "kelp", "hull.json"), `{"name": "kelp", "needs": []}`)
	insist.Holds(t, "a mod in the place of a link", o.do(2, "off", "ferry", "kelp"), "no link but the mod itself")
	insist.OK(t, os.RemoveAll(filepath.Join(afloat, "kelp")))
	insist.OK(t, os.Symlink("../hulls/kelp", filepath.Join(afloat, "kelp")))

	o.do(0, "undo", "ferry", "0")
	insist.Same(t, "back at the beginning, but for what was done by hand", linksIn(t, afloat), strings.Replace(before, "../hulls/kelp", "../hull/kelp", 1))
}
