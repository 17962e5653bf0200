package order_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"

	"initium/internal/core/dialect"
	"initium/internal/core/order"
	"initium/internal/core/plan"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
)

const quay = `name = "quay"
[[place]]
path = "{dir}/mods"
group = "+"
mark = ["about.toml"]
[[manifest]]
file = "about.toml"
format = "toml"
needs = "needs"
optional_needs = "uses"
before = "before"
after = "after"
provides = "gives"
settings = "reads"
[[registration]]
name = "script"
file = "{dir}/start"
shape = "line"
comment = "#"
line = "use {mod}"
setting = "let {name} {value}"
section = "# == {title} =="
[start]
command = ["x"]
[[log.rule]]
means = "ready"
line = "up"
`

// input makes a server of a startup script and manifests: "name: words of TOML".
func input(t testing.TB, start string, rules []rule.Rule, mods ...string) survey.Input {
	t.Helper()
	d, err := dialect.Parse("quay.toml", []byte(quay))
	if err != nil {
		t.Fatal(err)
	}
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
			if len(m.Reasons) == 0 {
				t.Errorf("%s: %s has no reason", name, m.Change)
			}
		}
		if got := strings.Join(moves, "; "); got != test.moves {
			t.Errorf("%s: moves %q, want %q", name, got, test.moves)
		}
		if got := wrongs(l); got != test.wrong {
			t.Errorf("%s: wrong %q, want %q", name, got, test.wrong)
		}
		_, after, err := plan.Make(s.Lineup, repair.Changes())
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		for _, w := range order.Read(survey.With(in, after)).Wrong() {
			if !w.Fixed {
				t.Errorf("%s: after the repair %s still %s", name, w.Then, w.Reason())
			}
		}
	}
}

func TestServerCircles(t *testing.T) {
	in := input(t, "use a\nuse b\nuse c\nuse d\n", nil, "a: needs = ['b']", "b: needs = ['c']", "c: needs = ['a', 'b']", "d: needs = ['a']")
	l := order.Read(survey.Take(in))
	c := l.Circles()
	if len(c) != 1 || fmt.Sprint(c[0].All) != "[a b c]" || c[0].Describe() != "b needs c, c needs b" && c[0].Describe() != "c needs b, b needs c" {
		t.Errorf("%+v", c)
	}
	if got := wrongs(l); got != "" {
		t.Errorf("wrong besides the circle: %s", got)
	}
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
		if len(repair.Moves) != n-count(k.Stay) {
			t.Fatalf("round %d: %d moves, %d are enough", round, len(repair.Moves), n-count(k.Stay))
		}
		_, after, err := plan.Make(s.Lineup, repair.Changes())
		if err != nil {
			t.Fatalf("round %d: %v", round, err)
		}
		now := survey.With(in, after)
		if got := wrongs(order.Read(now)); got != "" {
			t.Fatalf("round %d: after the repair %s\n%s\n%s", round, got, start.String(), after.Files[0].Bytes)
		}
		if len(after.Files[0].Bytes) != start.Len() {
			t.Errorf("round %d: the script has %d bytes, had %d", round, len(after.Files[0].Bytes), start.Len())
		}
	}
}
