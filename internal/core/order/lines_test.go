package order_test

import (
	_ "embed"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/order"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/insist"
)

//go:embed testdata/quay.toml
var quay string

// input makes a server of a startup script and manifests: "name: words of TOML".
func input(t testing.TB, start string, rules []rule.Rule, mods ...string) survey.Input {
	t.Helper()
	d, err := dialect.Parse("quay.toml", []byte(quay))
	insist.OK(t, err)
	fsys := fstest.MapFS{"srv/start": {Data: []byte(start)}}
	for _, m := range mods {
		name, about, _ := strings.Cut(m, ": ")
		fsys["srv/mods/"+name+"/about.toml"] = &fstest.MapFile{Data: []byte(strings.ReplaceAll(about, "; ", "\n"))}
	}
	return survey.Input{Server: "s", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: fsys, Rules: rules}
}

func wrongs(l *order.Lines) string {
	var words []string
	for _, w := range l.Wrong() {
		word := w.Words()
		if w.Fixed {
			word += " [fixed]"
		}
		words = append(words, word)
	}
	return strings.Join(words, "; ")
}

func TestWrongAndRepair(t *testing.T) {
	because := func(kind rule.Kind, a, b string) rule.Rule {
		return rule.Rule{Kind: kind, Mod: a, Other: b, Because: "tried"}
	}
	for name, test := range map[string]struct {
		start, wrong, moves string
		rules               []rule.Rule
		mods                []string
	}{
		"in order": {"use a\nuse b\n", "", "", nil, []string{"a: ", "b: needs = ['a']"}},
		"a need": {"use b\nuse c\nuse a\n", "b needs a", "move a before b", nil,
			[]string{"a: ", "b: needs = ['a']", "c: "}},
		"the dependent moves": {"use b\nuse a\nuse c\nuse d\n", "b needs a; b needs c; b needs d", "move b after d", nil,
			[]string{"a: ", "b: needs = ['a', 'c', 'd']", "c: ", "d: "}},
		"the need moves": {"use b\nuse c\nuse d\nuse a\n", "b needs a; c needs a; d needs a", "move a before b", nil,
			[]string{"a: ", "b: needs = ['a']", "c: needs = ['a']", "d: needs = ['a']"}},
		"an optional need": {"use b\nuse a\n", "b uses a", "move a before b", nil, []string{"a: ", "b: uses = ['a']"}},
		"before and after": {"use b\nuse c\nuse a\n", "b asks to come after c; b asks to come after a", "move b after a", nil,
			[]string{"a: before = ['b']", "b: after = ['c']", "c: "}},
		"another name":       {"use b\nuse a\n", "b needs a", "move a before b", nil, []string{"a: gives = ['z']", "b: needs = ['z']"}},
		"off does not count": {"use b\n# use a\n", "", "", nil, []string{"a: ", "b: uses = ['a']"}},
		"a setting": {"use b\nlet depth 3\nuse c\n", "b reads the setting depth", "move b before c", nil,
			[]string{"b: reads = ['depth']", "c: "}},
		"a circle of soft ones": {"use b\nuse a\n", "b needs a", "move a before b", nil,
			[]string{"a: uses = ['b']", "b: needs = ['a']"}},
		"a category":        {"use +g\nuse a\n", "b needs a", "move a before +g", nil, []string{"a: ", "+g/b: needs = ['a']", "+g/c: "}},
		"inside a category": {"use +g\n", "b needs c [fixed]", "", nil, []string{"+g/b: needs = ['c']", "+g/c: "}},
		"a rule": {"use a\nuse b\n", "a has to come after b (your rule: tried)", "move b before a", []rule.Rule{because(rule.Before, "b", "a")},
			[]string{"a: ", "b: "}},
		"a rule of a mod that is off": {"use a\n# use b\n", "", "", []rule.Rule{because(rule.Before, "b", "a")}, []string{"a: ", "b: "}},
		"first, with its needs": {"use a\nuse b\nuse c\n", "c has to load first (your rule: tried)", "move a after c",
			[]rule.Rule{because(rule.First, "c", "")}, []string{"a: ", "b: ", "c: needs = ['b']"}},
		"last": {"use a\nuse b\nuse c\n", "a has to load last (your rule: tried)", "move a after c",
			[]rule.Rule{because(rule.Last, "a", "")}, []string{"a: ", "b: ", "c: "}},
		"one stays": {"use b\nuse c\nuse a\n", "b needs a", "move b after a", []rule.Rule{because(rule.Stay, "a", "")},
			[]string{"a: ", "b: needs = ['a']", "c: "}},
		"a setting that is set twice": {"let depth 3\nuse b\nlet depth 4\n", "", "", nil, []string{"b: reads = ['depth']"}},
		"a setting that a rule names": {"use b\nlet depth 3\n", "b reads the setting depth", "", []rule.Rule{because(rule.Reads, "b", "depth")}, []string{"b: "}},
		"a setting in time":           {"let depth 3\nuse b\n", "", "", nil, []string{"b: reads = ['depth', 'width']"}},
		"rules of mods that are not here": {"# use b\nuse a\n", "", "", []rule.Rule{because(rule.Before, "a", "b"), because(rule.After, "a", "nowhere"), because(rule.Before, "a", "nowhere"), because(rule.Stay, "nowhere", ""),
			because(rule.First, "nowhere", ""), because(rule.Last, "b", "")}, []string{"a: ", "b: "}},
		"after": {"use a\nuse b\n", "a has to come after b (your rule: tried)", "move b before a", []rule.Rule{because(rule.After, "a", "b")}, []string{"a: ", "b: "}},
		"first, with the needs of its needs": {"use a\nuse z\nuse b\nuse c\n", "c has to load first (your rule: tried)", "move a after c",
			[]rule.Rule{because(rule.First, "c", "")}, []string{"a: ", "b: needs = ['z']", "c: needs = ['b']", "z: "}},
		"two first": {"use a\nuse c\nuse d\n", "c has to load first (your rule: tried); d has to load first (your rule: tried)", "move a after d",
			[]rule.Rule{because(rule.First, "c", ""), because(rule.First, "d", "")}, []string{"a: ", "c: ", "d: "}},
		"two last": {"use c\nuse d\nuse a\n", "c has to load last (your rule: tried); d has to load last (your rule: tried)", "move a before c",
			[]rule.Rule{because(rule.Last, "c", ""), because(rule.Last, "d", "")}, []string{"a: ", "c: ", "d: "}},
		"last, before those that need it": {"use c\nuse b\nuse a\n", "c has to load last (your rule: tried)", "move a before c",
			[]rule.Rule{because(rule.Last, "c", "")}, []string{"a: ", "b: needs = ['c']", "c: "}},
		"the first place, and settings": {"let depth 3\nuse c\n", "", "", []rule.Rule{because(rule.First, "c", "")}, []string{"c: reads = ['depth']"}},
		"a soft circle among hard ones": {"use c\nuse b\nuse a\n", "c needs b; b needs a", "move a before c; move b before c", nil,
			[]string{"a: uses = ['c']", "b: needs = ['a']", "c: needs = ['b']"}},
		"a soft wish that can be met beside a soft circle": {"use d\nuse a\nuse b\n", "d uses a", "move a before d", nil,
			[]string{"a: uses = ['b']", "b: uses = ['a']", "d: uses = ['a']"}},
		"two entries of one mod":         {"use b\n# use a\nuse a\n", "b needs a", "move a before b", nil, []string{"a: ", "b: needs = ['a']"}},
		"down to the end of its section": {"# == One ==\nuse a\nuse b\n# == Two ==\nuse c\nuse d\n", "a needs b", "move b before a", nil, []string{"a: needs = ['b']", "b: ", "c: ", "d: "}},
		"into a section that has to be":  {"# == One ==\nuse a\n# == Two ==\nuse b\nuse c\n", "a needs b; a needs c", "move a after c", nil, []string{"a: needs = ['b', 'c']", "b: ", "c: "}},
		"the shorter way":                {"use a\nuse x\nuse y\nuse b\nuse z\n", "a needs b", "move a after b", nil, []string{"a: needs = ['b']", "b: needs = ['x', 'y']", "x: ", "y: ", "z: "}},
		"sections are kept": {"# == One ==\nuse x\nuse b\n# == Two ==\nuse y\nuse c\nuse a\n", "c needs a", "move a before c", nil,
			[]string{"a: ", "b: ", "c: needs = ['a']", "x: ", "y: "}},
	} {
		in := input(t, test.start, test.rules, test.mods...)
		s := survey.Take(in)
		l := order.Read(s)
		repair := l.Repair()
		var moves []string
		for _, m := range repair.Moves {
			moves = append(moves, m.Change.String())
			insist.That(t, len(m.Reasons) != 0, "%s: %s has no reason", name, m.Change)
		}
		insist.Same(t, fmt.Sprintf("%s: moves", name), strings.Join(moves, "; "), test.moves)
		insist.Same(t, fmt.Sprintf("%s: wrong", name), wrongs(l), test.wrong)
		after, err := applied(s.Lineup, repair.Changes())
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		still := order.Read(survey.With(in, after)).Wrong()
		insist.That(t, (len(still) > 0) == (len(repair.Left) > 0), "%s: after the repair %d are wrong, and it says %q", name, len(still), repair.Left)
		for _, w := range still {
			if !w.Fixed && len(repair.Left) == 0 {
				t.Errorf("%s: after the repair %s still %s", name, w.Then, w.Reason())
			}
		}
	}
}

// What stands on different lists cannot change places: it is said, and no move tries it.
func TestWrongAcrossLists(t *testing.T) {
	in := input(t, "use b\nuse d\nuse c\n", nil, "a: ", "b: needs = ['a']", "c: ", "d: needs = ['c']", "e: needs = ['f']", "f: ")
	d, err := dialect.Parse("quay.toml", []byte(strings.Replace(quay, "[start]", `[[registration]]
name = "late"
file = "{dir}/late"
shape = "line"
comment = "#"
line = "use {mod}"
[start]`, 1)))
	insist.OK(t, err)
	in.Dialect = d
	in.FS.(fstest.MapFS)["srv/late"] = &fstest.MapFile{Data: []byte("use e\nuse f\nuse a\n")}
	l := order.Read(survey.Take(in))
	if got := wrongs(l); got != "b needs a [fixed]; d needs c; e needs f" && got != "d needs c; b needs a [fixed]; e needs f" {
		t.Errorf("wrong: %s", got)
	}
	var moves []string
	for _, m := range l.Repair().Moves {
		moves = append(moves, m.Change.String())
	}
	if got := strings.Join(moves, "; "); got != "move c before d; move f before e" && got != "move d after c; move e after f" && got != "move c before d; move e after f" && got != "move d after c; move f before e" {
		t.Errorf("moves: %s", got)
	}
	if repair := l.Repair(); repair.String() != "2 moves" {
		t.Errorf("it is summed up as %q", repair.String())
	}
	none := order.Repair{}
	insist.Same(t, "no moves", none.String(), "nothing has to be moved")
}

// A server that orders by itself has no lines; its circles are those of the needs of mods
// that are on.
func TestNeedsOfAServerThatOrders(t *testing.T) {
	in := input(t, "use a\nuse b\n# use c\nuse d\nuse e\n", nil, "a: needs = ['b']", "b: needs = ['a', 'nowhere']", "c: needs = ['d']", "d: needs = ['c']", "e: needs = ['a']")
	own, err := dialect.Parse("quay.toml", []byte("order = \"server\"\n"+quay))
	insist.OK(t, err)
	in.Dialect = own
	s := survey.Take(in)
	c := order.Needs(s)
	if len(c) != 1 || fmt.Sprint(c[0].All) != "[a b]" || c[0].Describe() != "b needs a, a needs b" && c[0].Describe() != "a needs b, b needs a" {
		t.Errorf("the circles are %+v", c)
	}
	if l := order.Read(s); len(l.Wrong()) != 0 || len(l.Repair().Moves) != 0 {
		t.Errorf("it has lines: %s", wrongs(l))
	}
}

func TestServerCircles(t *testing.T) {
	in := input(t, "use a\nuse b\nuse c\nuse d\n", nil, "a: needs = ['b']", "b: needs = ['c']", "c: needs = ['a', 'b']", "d: needs = ['a']")
	l := order.Read(survey.Take(in))
	c := l.Circles()
	if len(c) != 1 || fmt.Sprint(c[0].All) != "[a b c]" || c[0].Describe() != "b needs c, c needs b" && c[0].Describe() != "c needs b, b needs c" {
		t.Errorf("%+v", c)
	}
	insist.Same(t, "wrong besides the circle", wrongs(l), "")
}

// Random servers: the repair can be planned, mends everything, moves no more than
// counting on the bare graph says, and leaves every line of the script as it is.
func TestRepairRandom(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for round := range 120 {
		n := 2 + r.IntN(14)
		edges := randomGraph(r, n, r.IntN(2*n))
		var start strings.Builder
		needs := make([][]string, n)
		for _, e := range edges {
			needs[e.To] = append(needs[e.To], fmt.Sprintf("'m%02d'", e.From))
		}
		var mods []string
		for i := range n {
			if r.IntN(4) == 0 {
				fmt.Fprintf(&start, "\n# == Part %d ==\n", i)
			}
			fmt.Fprintf(&start, "use m%02d\n", i)
			mods = append(mods, fmt.Sprintf("m%02d: needs = [%s]", i, strings.Join(needs[i], ", ")))
		}
		in := input(t, start.String(), nil, mods...)
		s := survey.Take(in)
		repair := order.Read(s).Repair()
		k := order.NewGraph(n, edges).Keep(nil, true)
		insist.Need(t, len(repair.Moves) == n-count(k.Stay), "round %d: %d moves, %d are enough", round, len(repair.Moves), n-count(k.Stay))
		after, err := applied(s.Lineup, repair.Changes())
		insist.Need(t, err == nil, "round %d: %v", round, err)
		now := survey.With(in, after)
		if got := wrongs(order.Read(now)); got != "" {
			t.Fatalf("round %d: after the repair %s\n%s\n%s", round, got, start.String(), after.Files[0].Bytes)
		}
		insist.That(t, len(after.Files[0].Bytes) == start.Len(), "round %d: the script has %d bytes, had %d", round, len(after.Files[0].Bytes), start.Len())
	}
}

// applied is a line-up after changes, made one after the other.
func applied(l *lineup.Lineup, changes []lineup.Change) (*lineup.Lineup, error) {
	var err error
	for _, c := range changes {
		if l, err = l.Apply(c); err != nil {
			return nil, err
		}
	}
	return l, nil
}
