package dialect_test

import (
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/insist"
)

func TestNameIn(t *testing.T) {
	for _, c := range []struct{ form, file, want string }{
		{"{mod}.so", "tide.so", "tide  true"},
		{"{mod}.so", "tide-1.2.so", "tide-1.2  true"},
		{"{mod}.so", ".so", "  false"},
		{"{mod}.so", "tide.dll", "  false"},
		{"mod_{mod}/", "mod_tide/", "tide  true"},
		{"{mod}-{release}.pak", "tide-1.2.pak", "tide 1.2 true"},
		{"{mod}-{release}.pak", "sea-chart-1.2-beta.3.pak", "sea-chart 1.2-beta.3 true"},
		{"{mod}-{release}.pak", "sea-chart-v2.pak", "sea-chart v2 true"},
		{"{mod}-{release}.pak", "sea-view.pak", "  false"},
		{"{mod}-{release}.pak", "-1.2.pak", "  false"},
		{"{mod}-{release}.pak", "tide-.pak", "  false"},
		{"x{mod}_{release}", "xtide_3", "tide 3 true"},
		{"{release}", "3", "  false"},
		{"", "3", "  false"},
	} {
		mod, release, ok := dialect.NameIn(c.form, c.file)
		got := mod + " " + release + " false"
		if ok {
			got = mod + " " + release + " true"
			insist.Same(t, c.form+" filled in", dialect.Call(c.form, mod, release), c.file)
		}
		insist.Same(t, c.file+" by "+c.form, got, c.want)
	}
}
