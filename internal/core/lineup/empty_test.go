package lineup_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/insist"
)

// TestEmptied: a list can lose all its mods, one after the other, and get them back.
func TestEmptied(t *testing.T) {
	for name, r := range registrations {
		t.Run(name, func(t *testing.T) {
			start := open(parse(t, listDialect(r.toml)), map[string]string{"/srv/start": r.doc})
			off := inTurn(t, start, lineup.OpOff, "b", "a", "c")
			if got := off.On("list"); len(got) != 0 {
				t.Errorf("with all off %q are on:\n%s", got, off.Files[0].Bytes)
			}
			if on := inTurn(t, off, lineup.OpOn, "a", "b", "c"); sum(on) != "a b c" {
				t.Errorf("off and on again gives %q:\n%s", sum(on), on.Files[0].Bytes)
			}
			gone := inTurn(t, start, lineup.OpUnregister, "a", "b", "c")
			if got := sum(gone); got != "" {
				t.Errorf("emptied it reads %q:\n%s", got, gone.Files[0].Bytes)
			}
			if again := inTurn(t, gone, lineup.OpRegister, "a", "b", "c"); sum(again) != "a b c" {
				t.Errorf("filled again it reads %q:\n%s", sum(again), again.Files[0].Bytes)
			}
		})
	}
}

// inTurn makes a change to one mod after the other.
func inTurn(t *testing.T, l *lineup.Lineup, op lineup.Op, mods ...string) *lineup.Lineup {
	t.Helper()
	for _, mod := range mods {
		after, err := l.Apply(change{Op: op, Mod: mod})
		insist.Need(t, err == nil, "%v %s: %v\n%s", op, mod, err, l.Files[0].Bytes)
		insist.Need(t, len(after.Problems) <= 0, "after %v %s: %v\n%s", op, mod, after.Problems, after.Files[0].Bytes)
		l = after
	}
	return l
}

// TestEmptiedToTheByte: what stands for nothing is written as each format wants it, and
// goes again with the first mod.
func TestEmptiedToTheByte(t *testing.T) {
	items := "format = 'yaml'\nshape = 'items'\nat = 'x.mods'"
	elements := "format = 'xml'\nshape = 'items'\nat = 'x.list.one'\nname_key = '@id'\nitem = '<one id=\"{mod}\"/>'"
	keys := "format = 'FORMAT'\nshape = 'key'\nat = 'mods'\nkey = '{mod}'\non = 'yes'\noff = 'no'"
	const commented = "x:\n  mods: # all\n    - a # first\n    # - c\nz: 1\n"
	for _, test := range []struct {
		toml, doc, mod string
		op             lineup.Op
		want           string
	}{
		{items, commented, "a", lineup.OpOff, "x:\n  mods: [] # all\n    # - a # first\n    # - c\nz: 1\n"},
		{items, "x:\n  mods: [] # all\n    # - a # first\n    # - c\nz: 1\n", "a", lineup.OpOn, commented},
		{items, commented, "a", lineup.OpUnregister, "x:\n  mods: [] # all\n    # - c\nz: 1\n"},
		{items, "x:\n  mods: [] # all\n    # - c\nz: 1\n", "m", lineup.OpRegister, "x:\n  mods: # all\n    # - c\n    - m\nz: 1\n"},
		{items, "x:\n  mods:\n  - a\n# - other\n", "a", lineup.OpOff, "x:\n  mods: []\n  # - a\n# - other\n"},
		{items, "x:\n  mods:\nz: 1\n", "m", lineup.OpRegister, "x:\n  mods:\n    - m\nz: 1\n"},
		{items, "x:\r\n  mods: ~ # none\r\n", "m", lineup.OpRegister, "x:\r\n  mods: # none\r\n    - m\r\n"},
		{items, "x:\n  mods:", "m", lineup.OpRegister, "x:\n  mods:\n    - m"},
		{items, "x: {mods: []}\n", "m", lineup.OpRegister, "x: {mods: [m]}\n"},
		{items, "x:\n  mods: []\n", "m", lineup.OpRegister, "x:\n  mods: [m]\n"},
		{elements, "<x>\n  <list>\n    <one id='a'/>\n  </list>\n</x>\n", "a", lineup.OpUnregister, "<x>\n  <list>\n  </list>\n</x>\n"},
		{elements, "<x>\n  <list>\n  </list>\n</x>\n", "m", lineup.OpRegister, "<x>\n  <list>\n    <one id=\"m\"/>\n  </list>\n</x>\n"},
		{elements, "<x>\n\t<list/>\n</x>\n", "m", lineup.OpRegister, "<x>\n\t<list>\n\t\t<one id=\"m\"/>\n\t</list>\n</x>\n"},
		{elements, "<x><list></list></x>", "m", lineup.OpRegister, "<x><list><one id=\"m\"/></list></x>"},
		{elements, "<x>\n <list>\n     <other/>\n </list>\n</x>\n", "m", lineup.OpRegister, "<x>\n <list>\n     <other/>\n     <one id=\"m\"/>\n </list>\n</x>\n"},
		{strings.Replace(keys, "FORMAT", "yaml", 1), "mods:\n  a: yes\nz: 1\n", "a", lineup.OpUnregister, "mods: {}\nz: 1\n"},
		{strings.Replace(keys, "FORMAT", "yaml", 1), "mods:\nz: 1\n", "m", lineup.OpRegister, "mods:\n  m: yes\nz: 1\n"},
		{strings.Replace(keys, "FORMAT", "ini", 1), "[mods]\n[y]\nq=1\n", "m", lineup.OpRegister, "[mods]\nm=yes\n[y]\nq=1\n"},
		{strings.Replace(strings.Replace(keys, "FORMAT", "toml", 1), "'yes'\noff = 'no'", "'true'\noff = 'false'", 1), "[mods] # m\n[y]\nq=1\n", "m", lineup.OpRegister, "[mods] # m\nm = true\n[y]\nq=1\n"},
	} {
		start := open(parse(t, listDialect(test.toml)), map[string]string{"/srv/start": test.doc})
		if after := inTurn(t, start, test.op, test.mod); string(after.Files[0].Bytes) != test.want {
			t.Errorf("%q: %v %s gives\n%q, want\n%q", test.doc, test.op, test.mod, after.Files[0].Bytes, test.want)
		}
	}
	start := open(parse(t, listDialect(strings.Replace(keys, "FORMAT", "toml", 1))), map[string]string{"/srv/start": "[mods.other]\nq = 1\n"})
	if _, err := start.Apply(change{Op: lineup.OpRegister, Mod: "n"}); err == nil {
		t.Error("a key was put below the title of another table")
	}
}

// TestPlacesOfTheParked: who is switched off keeps his place, whatever happens around it.
func TestPlacesOfTheParked(t *testing.T) {
	start := open(parse(t, listDialect("format = 'key-value'\nshape = 'list'\nat = 'mods'\nseparator = ','")), map[string]string{"/srv/start": "mods=a,b,c,d\n"})
	for _, test := range []struct{ steps, want string }{
		{"off b, off c, on c, on b", "a b c d"},
		{"off c, off b", "a -b -c d"},
		{"off b, off a, off c", "-a -b -c d"},
		{"off b, unregister a", "-b c d"},
		{"off b, move a after d", "-b c d a"},
		{"off b, rename a z, on b", "z b c d"},
		{"off b, register n after b", "a -b n c d"},
		{"off b, register n before b", "a n -b c d"},
		{"off b, off c, move c before a, on c", "c a -b d"},
		{"off c, off b, off d, off a, on d, on b, on a, on c", "a b c d"},
		{"off b, move d before b", "a d -b c"},
	} {
		l := start
		for _, step := range strings.Split(test.steps, ", ") {
			words := append(strings.Fields(step), "", "", "")
			c := change{Op: lineup.Op(words[0]), Mod: words[1]}
			switch words[2] {
			case "before":
				c.Where.Before = words[3]
			case "after":
				c.Where.After = words[3]
			default:
				c.To = words[2]
			}
			var err error
			if l, err = l.Apply(c); err != nil {
				t.Fatalf("%s: %v", test.steps, err)
			}
		}
		insist.Same(t, test.steps, sum(l), test.want)
	}
}

// FuzzEmptied: whatever a document looks like, a mod that is registered in its list can
// be read, and one that goes is gone, with the others as they were.
func FuzzEmptied(f *testing.F) {
	var dialects []*dialect.Dialect
	for _, name := range []string{"items in yaml", "items in xml", "items in json", "keys in yaml", "keys in ini", "keys in toml"} {
		dialects = append(dialects, parse(f, listDialect(registrations[name].toml)))
		f.Add(registrations[name].doc)
	}
	for _, doc := range []string{"x:\n  mods:\n", "x:\n  mods: [] # a\n    # - b\n", "<x/>", "<x>\n</x>", "[mods]\n; a\n[y]", "mods: {}\n", "s:\n  mods:", "x: {mods: [a]}"} {
		f.Add(doc)
	}
	f.Fuzz(func(t *testing.T, doc string) {
		for _, d := range dialects {
			l := open(d, map[string]string{"/srv/start": doc})
			if len(l.Problems) > 0 || len(l.Find("fresh_one")) > 0 {
				continue
			}
			names := l.On("list")
			slices.Sort(names)
			if slices.Contains(names, "") || len(slices.Compact(names)) != len(l.On("list")) {
				continue // a place beside one of two with one name is not clear
			}
			added, err := l.Apply(change{Op: lineup.OpRegister, Mod: "fresh_one"})
			if err != nil {
				continue
			}
			insist.Need(t, len(added.Problems) <= 0 && len(added.On("list")) == len(l.On("list"))+1, "%q: register gives %q: %v", doc, added.Files[0].Bytes, added.Problems)
			for _, op := range []lineup.Op{lineup.OpUnregister, lineup.OpOff} {
				gone, err := added.Apply(change{Op: op, Mod: "fresh_one"})
				insist.Need(t, err == nil, "%q: %s: %v", added.Files[0].Bytes, op, err)
				insist.Need(t, len(gone.Problems) <= 0 && slices.Equal(gone.On("list"), l.On("list")), "%q: %s gives %q: %v", added.Files[0].Bytes, op, gone.Files[0].Bytes, gone.Problems)
				if op == lineup.OpUnregister {
					continue
				}
				on, err := gone.Apply(change{Op: lineup.OpOn, Mod: "fresh_one"})
				insist.Need(t, err == nil && sum(on) == sum(added), "%q: on again: %v", gone.Files[0].Bytes, err)
			}
		}
	})
}

// TestOddPlacesOfTheParked: whatever is remembered of places, nobody is lost.
func TestOddPlacesOfTheParked(t *testing.T) {
	d := parse(t, listDialect("format = 'key-value'\nshape = 'list'\nat = 'mods'\nseparator = ','"))
	for _, test := range []struct{ parked, want string }{
		{"x y, y x", "a b -x -y"}, {"x gone, y x", "-x -y a b"}, {"x a, y a", "a -y -x b"}, {"a b", "a b"}, {"x x", "a b -x"}, {"z y, y x, x b", "a b -x -y -z"},
	} {
		var parked []lineup.Parked
		for _, s := range strings.Split(test.parked, ", ") {
			name, after, _ := strings.Cut(s, " ")
			parked = append(parked, lineup.Parked{Registration: "list", Name: name, After: after})
		}
		l := lineup.Read(d, dialect.Vars{"dir": "/srv"}, func(string) ([]byte, error) { return []byte("mods=a,b\n"), nil }, parked)
		insist.Same(t, fmt.Sprintf("with %s parked it", test.parked), sum(l), test.want)
	}
}

// TestBareNames: in a file that holds nothing but names, a line is a mod; where any key
// may be that of a mod, its value tells.
func TestBareNames(t *testing.T) {
	d := parse(t, listDialect("format = 'script'\nshape = 'line'\nline = '{mod}'\ncomment = ';'\nquote = '\"'\nsetting = 'set {name} {value}'"))
	const doc = "; foundations\r\nalpha\r\n;beta\r\n\"c d\" ; why\r\nset x 1\r\n"
	l := open(d, map[string]string{"/srv/start": doc})
	if got := sum(l); got != "alpha -beta c d" || len(l.Settings) != 1 {
		t.Fatalf("it reads %q, %v", got, l.Settings)
	}
	off := inTurn(t, l, lineup.OpOff, "alpha")
	insist.Same(t, "off", string(off.Files[0].Bytes), "; foundations\r\n;alpha\r\n;beta\r\n\"c d\" ; why\r\nset x 1\r\n")
	if on := inTurn(t, off, lineup.OpOn, "alpha"); string(on.Files[0].Bytes) != doc {
		t.Errorf("on gives %q", on.Files[0].Bytes)
	}
	if more := inTurn(t, l, lineup.OpRegister, "new", "e f"); sum(more) != "alpha -beta c d new e f" {
		t.Errorf("registered: %q", more.Files[0].Bytes)
	}
	if odd := open(d, map[string]string{"/srv/start": "alpha\nblue glaze\n"}); sum(odd) != "alpha !line-unreadable:2" {
		t.Errorf("a name with a blank: %q", sum(odd))
	}
	keys := open(parse(t, listDialect("format = 'key-value'\nshape = 'key'\nkey = '{mod}'\non = 'true'\noff = 'false'")), map[string]string{"/srv/start": "a = true\nport = 3\nb = false\n"})
	if got := sum(keys); got != "a -b" || len(keys.Settings) != 1 {
		t.Errorf("keys read as %q, %v", got, keys.Settings)
	}
}
