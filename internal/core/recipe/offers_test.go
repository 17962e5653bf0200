package recipe_test

import (
	"fmt"
	"strings"
	"testing"

	"initium/dialects"
	"initium/internal/core/dialect"
	"initium/internal/core/recipe"
	"initium/internal/insist"
)

// What notes say is told apart from prose: settings and registrations as the family writes them, entries of its
// tables, and files that are there.
func TestOffers(t *testing.T) {
	for _, c := range []struct{ family, notes, want string }{
		{"harrow-sound", "\ufeff# Storm glass\r\n\r\n1. Set `glass_at`:\r\n\r\n    let glass_at 3\r\n * let title \"Two words\"\r\n\r\n`berth storm_glass`\r\nberth it well\r\n# let x 1\r\n", "5 setting glass_at=3|6 setting title=Two words|8 mod storm_glass"},
		{"harrow-sound", "See conf/quay.ini and (charts\\outer.chart); see conf/quay.ini, e.g. or http://x.y/z.\nwind_from=8\nIt is = what it is\n", "1 file conf/quay.ini|1 file charts/outer.chart|2 setting wind_from=8"},
		{"lantern-moor", "Add\n  <creature id=\"bittern\"/>\nto tables/creatures.xml.\n<b>bold</b>\n", "2 entry {dir}/tables/creatures.xml|3 file tables/creatures.xml"},
		{"nine-orchards", "- honey = 3;\nRun honey.sql once on orchard.db\n", "1 setting honey=3|2 file honey.sql"},
		{"harrow-sound", "a\x00b\nlet x 1", ""}, {"harrow-sound", "", ""},
	} {
		data, err := dialects.FS.ReadFile(c.family + ".toml")
		insist.OK(t, err)
		d, err := dialect.Parse(c.family, data)
		insist.OK(t, err)
		var got []string
		for _, o := range recipe.Offers([]byte(c.notes), d, func(name string) bool {
			return name == "conf/quay.ini" || name == "charts/outer.chart" || name == "tables/creatures.xml" || name == "honey.sql"
		}) {
			got = append(got, strings.TrimSuffix(fmt.Sprintf("%d %s %s=%s", o.Line, o.Kind, o.Name, o.Value), "="))
		}
		insist.Same(t, c.notes, strings.Join(got, "|"), c.want)
	}
}

// FuzzOffers reads anything.
func FuzzOffers(f *testing.F) {
	data, err := dialects.FS.ReadFile("lantern-moor.toml")
	insist.OK(f, err)
	d, err := dialect.Parse("d", data)
	insist.OK(f, err)
	f.Add([]byte("1. <creature id='x'/>\n a = b\nc/d.e"))
	f.Fuzz(func(t *testing.T, notes []byte) {
		for _, o := range recipe.Offers(notes, d, func(string) bool { return true }) {
			if o.Name == "" || o.Line < 1 || !strings.Contains(string(notes), strings.Fields(o.Text)[0]) {
				t.Fatalf("%q offers %+v", notes, o)
			}
		}
	})
}
