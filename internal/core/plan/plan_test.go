package plan_test

import (
	_ "embed"
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/rule"
	"initium/internal/core/text"
	"initium/internal/insist"
)

//go:embed testdata/mixed.toml
var mixed string

//go:embed testdata/launched.toml
var launched string

//go:embed testdata/source.toml
var source string

func open(t *testing.T, doc string) *lineup.Lineup {
	t.Helper()
	d, err := dialect.Parse("s.toml", []byte(source))
	insist.OK(t, err)
	return lineup.Read(d, dialect.Vars{"dir": "/srv"}, func(string) ([]byte, error) { return []byte(doc), nil }, nil)
}

// applied is a line-up after changes, made one after the other.
func applied(t testing.TB, l *lineup.Lineup, changes ...lineup.Change) *lineup.Lineup {
	t.Helper()
	for _, c := range changes {
		var err error
		if l, err = l.Apply(c); err != nil {
			t.Fatal(err)
		}
	}
	return l
}

func TestThereAndBack(t *testing.T) {
	const doc = "# head\nuse a\nuse b\nuse c\n"
	after := applied(t, open(t, doc), lineup.Change{Op: lineup.OpMove, Mod: "c", Where: lineup.Where{Before: "a"}},
		lineup.Change{Op: lineup.OpOff, Mod: "b"}, lineup.Change{Op: lineup.OpRegister, Mod: "d", Where: lineup.Where{After: "c"}})
	p := plan.Between(open(t, doc), after)
	const want = "# head\nuse c\nuse d\nuse a\n# use b\n"
	insist.Need(t, len(p.Files) == 1 && string(p.Files[0].Want) == want && string(after.Files[0].Bytes) == want, "plan gives %q", p.Files[0].Want)
	if got, err := text.Apply(p.Files[0].Old, p.Files[0].Edits); err != nil || string(got) != want {
		t.Errorf("the edits give %q, %v", got, err)
	}
	back := plan.Between(after, open(t, doc)).Files[0]
	if got, err := text.Apply(back.Old, back.Edits); err != nil || string(got) != doc {
		t.Errorf("the way back gives %q, %v", got, err)
	}
}

func TestChangeAndBackIsEmpty(t *testing.T) {
	l := open(t, "use a\n")
	if p := plan.Between(l, applied(t, l, lineup.Change{Op: lineup.OpOff, Mod: "a"}, lineup.Change{Op: lineup.OpOn, Mod: "a"})); !p.Empty() {
		t.Errorf("the plan has %d files", len(p.Files))
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
	insist.Same(t, "rows", got, picture)
	insist.Same(t, "a new file shows as", rows(plan.File{New: true, Want: []byte("a\r\n\x1b[31mb")}, 3), "comes 0 1 a\ncomes 0 2 b")
}

// A file of two bytes a character shows its characters, before and after.
func TestRowsOfWideText(t *testing.T) {
	wide := func(s string) []byte {
		b := []byte{0xff, 0xfe}
		for _, c := range s {
			b = append(b, byte(c), byte(c>>8))
		}
		return b
	}
	insist.Same(t, "it shows as", rows(plan.File{Old: wide("use a\nuse č\nuse c\n"), Want: wide("use a\nuse ď\nuse c\n")}, 1), "stays 1 1 use a\ngoes 2 0 use č\ncomes 0 2 use ď\nstays 3 3 use c")
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
		p := plan.Between(l, applied(b, l, lineup.Change{Op: lineup.OpMove, Mod: "mod_9990", Where: lineup.Where{Before: "mod_5"}}))
		if len(p.Files) != 1 || len(p.Files[0].Rows(3)) == 0 {
			b.Fatal("nothing is planned")
		}
	}
}

func TestRowsBetweenChanges(t *testing.T) {
	for _, test := range []struct {
		old, want string
		around    int
		rows      string
	}{
		{"1 2 3", "1 x 3", 0, "goes 2 0 2|comes 0 2 x"},
		{"1 2 3 4 5 6", "x 2 3 4 5 y", 1, "goes 1 0 1|comes 0 1 x|stays 2 2 2|gap 0 0 |stays 5 5 5|goes 6 0 6|comes 0 6 y"},
		{"1 2 3 4 5 6", "x 2 3 4 5 y", 2, "goes 1 0 1|comes 0 1 x|stays 2 2 2|stays 3 3 3|stays 4 4 4|stays 5 5 5|goes 6 0 6|comes 0 6 y"},
		{"1 2 3 4 5 6 7", "x 2 3 4 5 6 y", 2, "goes 1 0 1|comes 0 1 x|stays 2 2 2|stays 3 3 3|gap 0 0 |stays 5 5 5|stays 6 6 6|goes 7 0 7|comes 0 7 y"},
		{"1 2 3 4 5 6 7 8", "1 2 3 4 x y 5 6 7", 1, "stays 4 4 4|comes 0 5 x|comes 0 6 y|stays 5 7 5|gap 0 0 |stays 7 9 7|goes 8 0 8"},
		{"1 2", "1 2", 3, ""},
		{"1", "", 3, "goes 1 0 1"},
	} {
		lines := func(words string) []byte {
			return []byte(strings.ReplaceAll(words+" ", " ", "\n")[:len(words)+min(len(words), 1)])
		}
		insist.Same(t, fmt.Sprintf("%s to %s, %d around:\n got", test.old, test.want, test.around), strings.ReplaceAll(rows(plan.File{Old: lines(test.old), Want: lines(test.want)}, test.around), "\n", "|"), test.rows)
	}
}

// A plan holds the files that change, once each, and says what they are; what is secret in
// them is not shown.
func TestBetween(t *testing.T) {
	d, err := dialect.Parse("l.toml", []byte(mixed))
	insist.OK(t, err)
	read := func(files map[string]string) *lineup.Lineup {
		return lineup.Read(d, dialect.Vars{"dir": "/srv"}, func(name string) ([]byte, error) {
			if data, ok := files[name]; ok {
				return []byte(data), nil
			}
			return nil, fs.ErrNotExist
		}, nil)
	}
	before := read(map[string]string{"/srv/start.sh": "exec run -mods=a;b\n", "/srv/conf": "let entry geheim\nuse a\nalso b\n", "/srv/on": "x\ny.off\n"})
	after := read(map[string]string{"/srv/start.sh": "exec run '-mods=a;c'\n", "/srv/conf": "let entry neuer\nuse a\nalso b\n", "/srv/on": "x.off\ny.off\n"})
	p := plan.Between(before, after)
	var got []string
	for _, f := range p.Files {
		got = append(got, fmt.Sprintf("%s %v %v %s", f.Path, f.New, f.List, f.Form))
	}
	if s := strings.Join(got, ", "); s != "/srv/start.sh false false mods, /srv/on false true , /srv/conf false false " {
		t.Fatalf("the files are %s", s)
	}
	if got := rows(p.Files[2], 1); strings.Contains(got, "geheim") || strings.Contains(got, "neuer") || strings.Count(got, "let entry") != 2 {
		t.Errorf("the secret is shown:\n%s", got)
	}
	p.Changes = []lineup.Change{{Op: lineup.OpSet, Mod: "motd", To: "the word is neuer"}, {Op: lineup.OpSet, Mod: "password", To: "x"}, {Op: lineup.OpOff, Mod: "neuer"}}
	if list := p.Shown(); strings.Contains(list[0].To, "neuer") || !strings.HasPrefix(list[0].To, "the word is ") || list[1].To == "x" || list[2].Mod != "neuer" || p.Changes[0].To != "the word is neuer" {
		t.Errorf("the changes are shown as %+v", list)
	}
	p.Hide([]string{"use a"})
	insist.Lacks(t, "what was to be hidden is shown", rows(p.Files[2], 1), "use a")
	insist.That(t, plan.Between(before, before).Empty(), "nothing changes, and the plan is not empty")
	if p := plan.Between(read(nil), after); len(p.Files) != 3 || !p.Files[0].New || p.Files[0].Old != nil {
		t.Errorf("where nothing was: %+v", p.Files)
	}
	if pairs, err := plan.Renames([]byte("a\nb\n"), []byte("a.off\nb\n")); err != nil || fmt.Sprint(pairs) != "[[a a.off]]" {
		t.Errorf("names change: %v, %v", pairs, err)
	}
	if _, err := plan.Renames([]byte("a\n"), []byte("a\nb\n")); err == nil {
		t.Error("something comes into a folder by its listing")
	}
}

// A launch line is shown a word on a row, and its lists an item on a row.
func TestRowsOfLaunchLines(t *testing.T) {
	d, err := dialect.Parse("l.toml", []byte(launched))
	insist.OK(t, err)
	read := func(doc string) *lineup.Lineup {
		return lineup.Read(d, dialect.Vars{"dir": "/srv"}, func(string) ([]byte, error) { return []byte(doc), nil }, nil)
	}
	p := plan.Between(read("exec run -port 5 '-mods=a;b;c' -x\n"), read("exec run -port 5 '-mods=a;c' -x\n"))
	insist.Need(t, len(p.Files) == 1, "files %+v", p.Files)
	if got := rows(p.Files[0], 1); strings.Count(got, "goes") != 1 || strings.Contains(got, "comes") || !strings.Contains(got, "b") {
		t.Errorf("the rows are\n%s", got)
	}
	broken := plan.Between(read("exec run '-mods=a;b;c\n"), read("exec run '-mods=a;c'\n"))
	insist.That(t, len(broken.Files) == 1 && strings.Contains(rows(broken.Files[0], 1), "exec run '-mods=a;b;c"), "a line that cannot be read is not shown as it stands")
}

// Two states of a folder have one digest only if they are the same in all that counts.
func TestDigest(t *testing.T) {
	base := plan.Item{Rel: "a", Size: 1, Sum: [32]byte{1}}
	other := plan.Item{Rel: "b", Size: 1, Sum: [32]byte{1}}
	change := func(f func(*plan.Item)) []plan.Item { it := base; f(&it); return []plan.Item{it} }
	seen := map[string]string{}
	for name, items := range map[string][]plan.Item{
		"as it is":      {base},
		"two":           {base, other},
		"another name":  change(func(it *plan.Item) { it.Rel = "b" }),
		"another size":  change(func(it *plan.Item) { it.Size = 2 }),
		"other bytes":   change(func(it *plan.Item) { it.Sum[31] = 1 }),
		"a program":     change(func(it *plan.Item) { it.Exec = true }),
		"a link":        change(func(it *plan.Item) { it.Link = "x" }),
		"another link":  change(func(it *plan.Item) { it.Link = "y" }),
		"a folder":      change(func(it *plan.Item) { it.Folder = true }),
		"nothing":       nil,
		"a line's name": change(func(it *plan.Item) { it.Rel = "a\n" }),
	} {
		sum := plan.Digest(items)
		insist.Same(t, fmt.Sprintf("%s and", name), seen[sum], "")
		seen[sum] = name
	}
	insist.That(t, plan.Digest([]plan.Item{other, base}) == plan.Digest([]plan.Item{base, other}), "the order of the files counts")
	from := base
	from.Source, from.From = "s", "elsewhere"
	insist.That(t, plan.Digest([]plan.Item{from}) == plan.Digest([]plan.Item{base}), "where a file comes from counts")
}

func TestPartsInWords(t *testing.T) {
	one, two := []plan.Item{{Rel: "a", Size: 5}}, []plan.Item{{Rel: "a", Size: 5}, {Rel: "b", Size: 6}, {Rel: "c", Folder: true}}
	for want, p := range map[string]plan.Part{
		"is made":                   {New: plan.EmptyFolder},
		"goes, if it is empty":      {Old: plan.EmptyFolder},
		"goes; the ledger keeps it": {Old: "1"},
		"comes back":                {New: "1"},
		"is put back as it was":     {Old: "1", New: "2"},
		"comes, 1 file":             {New: "1", Items: one},
		"comes, 2 files":            {New: "1", Items: two},
		"is exchanged":              {Old: "1", New: "2", Items: two},
		"1 comes, 2 change, 1 goes, 2 of yours stay": {Old: "1", New: "2", Items: two, Notes: []plan.Change{{Kind: plan.FileComes}, {Kind: plan.FileChanges}, {Kind: plan.FileChanges},
			{Kind: plan.FileGoes}, {Kind: plan.FileKept}, {Kind: plan.FileKept}}},
		"2 come, 1 changes, 2 go, 1 yours stays": {Old: "1", New: "2", Items: two, Notes: []plan.Change{{Kind: plan.FileComes}, {Kind: plan.FileComes}, {Kind: plan.FileChanges},
			{Kind: plan.FileGoes}, {Kind: plan.FileGoes}, {Kind: plan.FileKept}}},
	} {
		insist.Same(t, "", p.String(), want)
	}
	for want, p := range map[string]plan.Part{"the world": {What: "the world"}, "the mod x": {What: "the mod", Mod: "x"}, "a key of x": {What: "a key", Mod: "x"}} {
		insist.Same(t, "its title", p.Title(), want)
	}
	p := plan.Plan{Parts: []plan.Part{{Items: one}, {Items: two}}}
	if files, bytes := p.Fetched(); files != 3 || bytes != 16 || p.Empty() {
		t.Errorf("%d files with %d bytes are fetched", files, bytes)
	}
}

// A plan is empty only when it changes nothing at all.
func TestEmpty(t *testing.T) {
	for name, p := range map[string]plan.Plan{
		"a file": {Files: make([]plan.File, 1)}, "a part": {Parts: make([]plan.Part, 1)}, "what is parked": {Parked: []lineup.Parked{}},
		"a rule": {Rules: make([]rule.Rule, 1)}, "a rule less": {Unrules: make([]rule.Rule, 1)}, "a value": {Given: make([]plan.Given, 1)},
	} {
		insist.That(t, !p.Empty(), "%s: it is empty", name)
	}
	// What can be run is another content than what cannot, and a link than a file.
	one := plan.Item{Rel: "x", Size: 1}
	run, link := one, plan.Item{Rel: "x", Link: "y"}
	run.Exec = true
	digests := map[string]bool{}
	for _, it := range []plan.Item{one, run, link, {Rel: "x", Folder: true}, {Rel: "y", Size: 1}, {Rel: "x", Size: 2}, {Rel: "x", Size: 1, Sum: [32]byte{1}}} {
		digests[plan.Digest([]plan.Item{it})] = true
	}
	insist.That(t, len(digests) == 7, "of 7 contents %d are told apart", len(digests))
}
