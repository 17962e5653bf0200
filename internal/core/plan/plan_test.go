package plan_test

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/text"
)

const source = `name = "s"
[[place]]
path = "{dir}/mods"
[[registration]]
name = "script"
file = "{dir}/start"
shape = "line"
comment = "#"
line = "use {mod}"
[start]
command = ["x"]
[[log.rule]]
means = "ready"
line = "up"
`

func open(t *testing.T, doc string) *lineup.Lineup {
	t.Helper()
	d, err := dialect.Parse("s.toml", []byte(source))
	if err != nil {
		t.Fatal(err)
	}
	return lineup.Read(d, dialect.Vars{"dir": "/srv"}, func(string) ([]byte, error) { return []byte(doc), nil }, nil)
}

func TestMakeAndBack(t *testing.T) {
	const doc = "# head\nuse a\nuse b\nuse c\n"
	p, after, err := plan.Make(open(t, doc), []lineup.Change{
		{Op: lineup.OpMove, Mod: "c", Where: lineup.Where{Before: "a"}},
		{Op: lineup.OpOff, Mod: "b"},
		{Op: lineup.OpRegister, Mod: "d", Where: lineup.Where{After: "c"}},
	})
	if err != nil {
		t.Fatal(err)
	}
	const want = "# head\nuse c\nuse d\nuse a\n# use b\n"
	if len(p.Files) != 1 || string(p.Files[0].Want) != want || string(after.Files[0].Bytes) != want {
		t.Fatalf("plan gives %q", p.Files[0].Want)
	}
	if got, err := text.Apply(p.Files[0].Old, p.Files[0].Edits); err != nil || string(got) != want {
		t.Errorf("the edits give %q, %v", got, err)
	}
	back := plan.Between(after, open(t, doc)).Files[0]
	if got, err := text.Apply(back.Old, back.Edits); err != nil || string(got) != doc {
		t.Errorf("the way back gives %q, %v", got, err)
	}
}

func TestMakeStopsAtTheFirstRefusal(t *testing.T) {
	_, _, err := plan.Make(open(t, "use a\n"), []lineup.Change{{Op: lineup.OpOff, Mod: "a"}, {Op: lineup.OpOff, Mod: "z"}})
	if err == nil || !strings.Contains(err.Error(), "z is not registered") {
		t.Errorf("error is %v", err)
	}
}

func TestChangeAndBackIsEmpty(t *testing.T) {
	p, _, err := plan.Make(open(t, "use a\n"), []lineup.Change{{Op: lineup.OpOff, Mod: "a"}, {Op: lineup.OpOn, Mod: "a"}})
	if err != nil || !p.Empty() {
		t.Errorf("plan has %d files, %v", len(p.Files), err)
	}
}

func rows(f plan.File, around int) string {
	var lines []string
	for _, r := range f.Rows(around) {
		lines = append(lines, fmt.Sprintf("%s %d %d %s", r.Kind, r.OldLine, r.NewLine, r.Text))
	}
	return strings.Join(lines, "\n")
}

func TestRows(t *testing.T) {
	old := []byte("1\n2\n3\n4\n5\n6\n7\n8\n9\n")
	want := []byte("1\n2\nx\n3\n4\n5\n6\n7\n9\n")
	got := rows(plan.File{Old: old, Want: want}, 1)
	const picture = `stays 2 2 2
comes 0 3 x
stays 3 4 3
gap 0 0 
stays 7 8 7
goes 8 0 8
stays 9 9 9`
	if got != picture {
		t.Errorf("rows are\n%s\nwant\n%s", got, picture)
	}
	if got := rows(plan.File{New: true, Want: []byte("a\r\n\x1b[31mb")}, 3); got != "comes 0 1 a\ncomes 0 2 b" {
		t.Errorf("a new file shows as\n%s", got)
	}
}

// BenchmarkPlan reads a startup file of 10,000 registrations, moves one from the
// end to the beginning and works the plan out.
func BenchmarkPlan(b *testing.B) {
	var doc strings.Builder
	for i := range 10_000 {
		if i%100 == 0 {
			fmt.Fprintf(&doc, "# section %d\n", i/100)
		}
		fmt.Fprintf(&doc, "use mod_%d   # note\n", i)
	}
	d, err := dialect.Parse("s.toml", []byte(source))
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		l := lineup.Read(d, dialect.Vars{"dir": "/srv"}, func(string) ([]byte, error) { return []byte(doc.String()), nil }, nil)
		p, _, err := plan.Make(l, []lineup.Change{{Op: lineup.OpMove, Mod: "mod_9990", Where: lineup.Where{Before: "mod_5"}}})
		if err != nil || len(p.Files) != 1 || len(p.Files[0].Rows(3)) == 0 {
			b.Fatal(err)
		}
	}
}
