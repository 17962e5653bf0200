package mod_test

import (
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/mod"
	"initium/internal/insist"
)

func TestCompare(t *testing.T) {
	// Each is older than the next; those on one line are the same.
	ladder := []string{
		"0.9", "1.0-alpha", "1.0-alpha.1 1.0-alpha-1 1.0-alpha_1", "1.0-alpha.beta", "1.0-beta.2", "1.0-beta.11", "1.0-rc.1 1.0rc1", "1 1.0 v1.0.0 1.0+build.7",
		"1.0.1", "1.2", "1.2b", "1.9", "1.10 1.010", "2.0-dev", "2", "2024.1.15", "2024.11", "99999999999999999999", "100000000000000000000",
	}
	for i, line := range ladder {
		for j, other := range ladder {
			for _, a := range strings.Fields(line) {
				for _, b := range strings.Fields(other) {
					want := min(max(i-j, -1), 1)
					insist.Same(t, fmt.Sprintf("Compare(%s, %s)", a, b), min(max(mod.Compare(a, b), -1), 1), want)
				}
			}
		}
	}
}

func TestFits(t *testing.T) {
	for _, test := range []struct {
		notation  dialect.Notation
		want      string
		fits, not string
	}{
		{dialect.VersionsComparators, "", "0 1.2", ""},
		{dialect.VersionsComparators, "*", "0 1.2", ""},
		{dialect.VersionsComparators, ">=1.2 <2", "1.2 1.2.0 1.9.9", "1.1.9 2 2.0.1"},
		{dialect.VersionsComparators, ">=1.2,<2", "1.2 1.9.9", "1.1.9 2"},
		{dialect.VersionsComparators, ">= 1.2", "1.2 7", "1.1"},
		{dialect.VersionsComparators, "^1.2", "1.2 1.2.5 1.9", "1.1 2.0"},
		{dialect.VersionsComparators, "^0.2.3", "0.2.3 0.2.9", "0.3 0.2.2 1"},
		{dialect.VersionsComparators, "~1.2", "1.2 1.2.9", "1.3 1.1"},
		{dialect.VersionsComparators, "~1.2.3", "1.2.3 1.2.9", "1.2.2 1.3"},
		{dialect.VersionsComparators, "~>1.2.3", "1.2.3 1.2.9", "1.3"},
		{dialect.VersionsComparators, "1.2.x", "1.2 1.2.9", "1.3 1.1"},
		{dialect.VersionsComparators, "1.2", "1.2 1.2.9 1.2-rc1", "1.3 1.20 1"},
		{dialect.VersionsComparators, "1.2-rc1", "1.2-rc1 1.2-rc.1", "1.2 1.2-rc2"},
		{dialect.VersionsComparators, "=1.2.3", "1.2.3", "1.2.4"},
		{dialect.VersionsComparators, "!=1.2", "1.3", "1.2 1.2.3"},
		{dialect.VersionsComparators, "1.0 - 2.0", "1.0 1.5 2.0 2.0.7", "0.9 2.1"},
		{dialect.VersionsComparators, "<1 || >=2", "0.5 2 3", "1 1.9"},
		{dialect.VersionsIntervals, "[1.2,2)", "1.2 1.9", "1.1 2"},
		{dialect.VersionsIntervals, "(,1.5]", "0 1.5", "1.6"},
		{dialect.VersionsIntervals, "(1.0,)", "1.1 9", "1.0"},
		{dialect.VersionsIntervals, "[1.2]", "1.2 1.2.0", "1.3"},
		{dialect.VersionsIntervals, "[1,2),[3,4)", "1 3.5", "2 4"},
		{dialect.VersionsIntervals, "1.2", "1.2 5", "1.1"},
		{dialect.VersionsLeast, "1.2", "1.2 5", "1.1"},
		{dialect.VersionsListed, "1.19, 1.20", "1.19 1.19.4 1.20", "1.21 1.18 1.2"},
	} {
		for i, list := range []string{test.fits, test.not} {
			for _, v := range strings.Fields(list) {
				got, err := mod.Fits(v, test.want, test.notation)
				insist.That(t, got == (i == 0) && err == nil, "%s in %q (%s): %v, %v", v, test.want, test.notation, got, err)
			}
		}
	}
	for notation, bad := range map[dialect.Notation]string{
		dialect.VersionsComparators: ">=", dialect.VersionsIntervals: "[1.2", dialect.VersionsLeast: "new",
	} {
		if _, err := mod.Fits("1", bad, notation); err == nil {
			t.Errorf("%q passes as a range (%s)", bad, notation)
		}
	}
}

func FuzzFits(f *testing.F) {
	f.Add("1.2", ">=1.2 <2 || ^3")
	f.Add("1.2-rc1", "[1.2,2),(3,]")
	f.Fuzz(func(t *testing.T, have, want string) {
		if c := mod.Compare(have, want); c*mod.Compare(want, have) > 0 {
			t.Errorf("%q and %q are both before the other", have, want)
		}
		for _, n := range []dialect.Notation{dialect.VersionsComparators, dialect.VersionsIntervals, dialect.VersionsLeast, dialect.VersionsListed} {
			mod.Fits(have, want, n)
		}
	})
}

// relations writes all that a manifest says of other mods and of the server.
func relations(m mod.Manifest) string {
	var b strings.Builder
	for _, part := range []struct {
		word string
		list []mod.Need
	}{{"needs", m.Needs}, {"uses", m.OptionalNeeds}, {"not", m.Conflicts}} {
		for _, n := range part.list {
			fmt.Fprintf(&b, "%s %s(%s) ", part.word, n.Name, n.Range)
		}
	}
	fmt.Fprintf(&b, "%v %v %v %s %s %s", m.Provides, m.Before, m.After, m.Server, m.Loader, m.Runtime)
	return b.String()
}

func TestRelations(t *testing.T) {
	tree := dialect.Manifest{Needs: "needs", OptionalNeeds: "uses", Conflicts: "not", Provides: "gives", Before: "before", After: "after",
		Server: "for", Loader: "loader", Runtime: "engine", Versions: dialect.VersionsComparators, OptionalMark: "?", ConflictMark: "!",
		NeedName: "id", NeedRange: "v", NeedMust: "must"}
	for name, test := range map[string]struct {
		format     dialect.Format
		data, want string
	}{
		"texts":   {dialect.FormatJSON, `{"needs": ["a", "b >=1.2", "c@^1", "d (>= 2)", "?e", "!f <3"]}`, "needs a() needs b(>=1.2) needs c(^1) needs d(>= 2) uses e() not f(<3) [] [] []   "},
		"objects": {dialect.FormatJSON, `{"needs": [{"id": "a", "v": "1.x"}, {"id": "b", "must": false}]}`, "needs a(1.x) uses b() [] [] []   "},
		"names":   {dialect.FormatTOML, "[needs]\na = '>=1'\nb = '*'\n[uses]\nc = {v = '2'}\n", "needs a(>=1) needs b(*) uses c(2) [] [] []   "},
		"others":  {dialect.FormatYAML, "not: [x, y <2]\ngives: z\nbefore: [p]\nafter: [q]\nfor: ['1.19', '1.20']\nloader: cog\nengine: '>=3'\n", "not x() not y(<2) [z] [p] [q] 1.19 1.20 cog >=3"},
	} {
		form := tree
		form.File, form.Format = "about", test.format
		m := mod.Read([]dialect.Manifest{form}, func(string) ([]byte, error) { return []byte(test.data), nil })
		if got := relations(m); got != test.want || m.Problem != nil {
			t.Errorf("%s: %q, %v; want %q", name, got, m.Problem, test.want)
		}
	}
	plain := mod.Read([]dialect.Manifest{{File: "x", Format: dialect.FormatLines}}, func(file string) ([]byte, error) {
		if file != "x" {
			return nil, fs.ErrNotExist
		}
		return []byte("a >=1\n"), nil
	})
	insist.Same(t, "without a notation the name", plain.Needs[0].Name, "a >=1")
}
