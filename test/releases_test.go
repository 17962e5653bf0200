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
