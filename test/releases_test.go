package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// pierDialect is a family of packed mods that say their release in the names of their files, and nothing
// inside; of several the server takes the newest.
const pierDialect = `name  = "pier"
order = "server"
[[place]]
path   = "{dir}/piers"
file   = "{mod}-{release}.pier"
loads  = "always"
newest = true
[start]
command = ["/bin/false"]
[[log.rule]]
means = "loaded"
line  = "{mod} stands"
[[log.rule]]
means = "ready"
line  = "open"
`

func TestReleasesInNamesOfFiles(t *testing.T) {
	o := newOperator(t)
	base := filepath.Dir(o.home)
	dir := filepath.Join(base, "pier")
	put(t, filepath.Join(o.home, "dialects/pier.toml"), pierDialect)
	for _, name := range []string{"sea-view-1.9.pier", "sea-view-1.10.pier", "sea-view-1.10-beta.pier", "lamp-v2.pier", "notes.txt", "plain.pier"} {
		put(t, filepath.Join(dir, "piers", name), name)
	}
	files := func() string { return strings.Join(namesIn(filepath.Join(dir, "piers")), " ") }
	before := files()
	o.do(0, "adopt", dir, "--dialect", "pier")
	insist.Same(t, "the survey", releasesOf(o, "pier"), "lamp v2, sea-view 1.10")
	check := o.do(0, "check", "pier")
	insist.Holds(t, "check", check, "sea-view-1.9.pier is the release 1.9 of sea-view", "it takes sea-view-1.10.pier", "release-older", "sea-view-1.10-beta.pier")
	insist.Lacks(t, "check", check, "lamp", "called sea-view")

	put(t, filepath.Join(base, "lamp-v2.1.pier"), "newer")
	o.do(0, "take", "pier", filepath.Join(base, "lamp-v2.1.pier"))
	insist.Same(t, "a newer release takes the place of the old", releasesOf(o, "pier"), "lamp v2.1, sea-view 1.10")
	insist.Lacks(t, "the files", files(), "lamp-v2.pier")
	put(t, filepath.Join(base, "rope-0.3.pier"), "rope")
	o.do(0, "take", "pier", filepath.Join(base, "rope-0.3.pier"))
	insist.Holds(t, "the files", files(), "rope-0.3.pier")
	o.do(0, "remove", "pier", "sea-view")
	insist.Same(t, "no older one comes in its place", releasesOf(o, "pier"), "lamp v2.1, rope 0.3")
	insist.Lacks(t, "the files", files(), "sea-view")
	o.do(0, "undo", "pier", "0")
	insist.Same(t, "back at the beginning", files(), before)
	insist.OK(t, os.Remove(filepath.Join(dir, "piers/sea-view-1.10.pier")))
	insist.Same(t, "a preview before its release", releasesOf(o, "pier"), "lamp v2, sea-view 1.10-beta")
}

// releasesOf are the mods of a server with their releases.
func releasesOf(o *operator, server string) string {
	var s surveyJSON
	o.json(0, &s, "survey", server, "--json")
	var list []string
	for _, m := range s.Mods {
		list = append(list, m.Name+" "+m.Release)
	}
	return strings.Join(list, ", ")
}

// One download brings two mods: its number comes with the first, and goes with the last.
func TestNumbersOfDownloads(t *testing.T) {
	o := newOperator(t)
	dir := filepath.Join(filepath.Dir(o.home), "depot")
	put(t, filepath.Join(o.home, "dialects/depot.toml"), `name = "depot"
[[place]]
path = "{dir}/crates"
[[registration]]
name      = "list"
file      = "{dir}/depot.ini"
format    = "ini"
shape     = "parallel"
at        = "depot/crates"
numbers   = "depot/fetched"
apart     = true
separator = ";"
[[manifest]]
file   = "crate.toml"
format = "toml"
number = "fetched_as"
[start]
command = ["/bin/false"]
[[log.rule]]
means = "loaded"
line  = "{mod} is open"
[[log.rule]]
means = "ready"
line  = "open"
`)
	for name, number := range map[string]string{"red": "700123", "blue": "700123", "green": "700456", "own": ""} {
		manifest := ""
		if number != "" {
			manifest = "fetched_as = \"" + number + "\"\n"
		}
		put(t, filepath.Join(dir, "crates", name, "crate.toml"), manifest)
	}
	file := filepath.Join(dir, "depot.ini")
	const before = "[depot]\ncrates=red;own\nfetched=700123;700999\n"
	put(t, file, before)
	o.do(0, "adopt", dir, "--dialect", "depot")
	says := func(what, crates, fetched string) {
		t.Helper()
		insist.Same(t, what, contents(t, file), "[depot]\ncrates="+crates+"\nfetched="+fetched+"\n")
	}
	o.do(0, "register", "depot", "blue")
	says("a second of one download", "red;own;blue", "700123;700999")
	o.do(0, "register", "depot", "green", "--before", "own")
	says("of another", "red;green;own;blue", "700123;700999;700456")
	o.do(0, "unregister", "depot", "red")
	says("one of two", "green;own;blue", "700123;700999;700456")
	o.do(0, "unregister", "depot", "blue")
	says("the last of them", "green;own", "700999;700456")
	o.do(0, "off", "depot", "green")
	o.do(0, "on", "depot", "green")
	says("off and on", "green;own", "700999;700456")
	put(t, file, "[depot]\ncrates=green;own\nfetched=700999\n")
	insist.Holds(t, "check", o.do(1, "check", "depot"), "the number 700456 of green is not on the list of numbers", "remedy: add it")
	o.do(0, "unregister", "depot", "green")
	o.do(0, "register", "depot", "green", "--before", "own")
	says("mended", "green;own", "700999;700456")
	insist.Lacks(t, "check", o.try("check", "depot").out, "700456")
}
