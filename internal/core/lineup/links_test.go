package lineup_test

import (
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/insist"
)

// linkDialect is a family in which a link in one folder registers what lies in another.
const linkDialect = `name = "t"
order = "server"
[[place]]
path = "{dir}/stock"
file = "{mod}.so"
[[registration]]
name = "shelf"
file = "{dir}/shelf"
shape = "link"
at = "{mod}.so"
item = "../stock/{mod}.so"
[start]
command = ["x"]
[[log.rule]]
means = "ready"
line = "ready"
`

func readLinks(t *testing.T, listing string) *lineup.Lineup {
	t.Helper()
	d, err := dialect.Parse("t.toml", []byte(linkDialect))
	insist.OK(t, err)
	return lineup.Read(d, dialect.Vars{"dir": "/srv"}, func(path string) ([]byte, error) {
		insist.Same(t, "what is asked for", path, "/srv/shelf/")
		return []byte(listing), nil
	}, nil)
}

func TestLinks(t *testing.T) {
	const shelf = "README\na.so -> ../stock/a.so\nb.so -> /far/b.so\nc.so -> /far/c.so\nd.so\n"
	for _, c := range []struct {
		name, listing string
		change        lineup.Change
		want, refused string
	}{
		{"as most lead", shelf, lineup.Change{Op: lineup.OpRegister, Mod: "bb"}, "README\na.so -> ../stock/a.so\nb.so -> /far/b.so\nbb.so -> /far/bb.so\nc.so -> /far/c.so\nd.so\n", ""},
		{"the first", "", lineup.Change{Op: lineup.OpRegister, Mod: "x"}, "x.so -> ../stock/x.so\n", ""},
		{"the last by name", "a.so -> ../stock/a.so\n", lineup.Change{Op: lineup.OpRegister, Mod: "x"}, "a.so -> ../stock/a.so\nx.so -> ../stock/x.so\n", ""},
		{"in the way", "x.so -> nowhere/y.so\n", lineup.Change{Op: lineup.OpRegister, Mod: "x"}, "", "registered already"},
		{"taken off", shelf, lineup.Change{Op: lineup.OpUnregister, Mod: "b"}, "README\na.so -> ../stock/a.so\nc.so -> /far/c.so\nd.so\n", ""},
		{"off", shelf, lineup.Change{Op: lineup.OpOff, Mod: "a"}, "README\nb.so -> /far/b.so\nc.so -> /far/c.so\nd.so\n", ""},
		{"what is no link", shelf, lineup.Change{Op: lineup.OpOff, Mod: "d"}, "", "no link but the mod itself"},
		{"renamed", shelf, lineup.Change{Op: lineup.OpRename, Mod: "a", To: "z"}, "", "a link is called"},
		{"out of the folder", "", lineup.Change{Op: lineup.OpRegister, Mod: "../x"}, "", "no name that a link could have"},
	} {
		t.Run(c.name, func(t *testing.T) {
			l := readLinks(t, c.listing)
			after, err := l.Apply(c.change)
			if c.refused != "" {
				insist.Fails(t, "the change", err, c.refused)
				return
			}
			insist.OK(t, err)
			insist.Same(t, "the links", string(after.Files[0].Bytes), c.want)
			if c.change.Op == lineup.OpOff { // and comes back to where it led
				again, err := after.Apply(lineup.Change{Op: lineup.OpOn, Mod: c.change.Mod})
				insist.OK(t, err)
				insist.Same(t, "on again", string(again.Files[0].Bytes), c.listing)
			}
		})
	}
	within, err := readLinks(t, "a.so -> ../stock/a.so\nb.so -> ../stock/b.so\n").Apply(lineup.Change{Op: lineup.OpRegister, Mod: "a.so"})
	insist.OK(t, err) // a name is that of a file, whatever else it looks like
	insist.Same(t, "the links", string(within.Files[0].Bytes), "a.so -> ../stock/a.so\na.so.so -> ../stock/a.so.so\nb.so -> ../stock/b.so\n")
	var leads []string
	for _, e := range readLinks(t, shelf).Entries {
		leads = append(leads, e.Name+" "+e.Value)
	}
	insist.Same(t, "where they lead", strings.Join(leads, ", "), "a /srv/stock/a.so, b /far/b.so, c /far/c.so, d /srv/shelf/d.so")
}
