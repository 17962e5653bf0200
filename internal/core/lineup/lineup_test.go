package lineup_test

import (
	_ "embed"
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/text"
	"initium/internal/insist"
)

//go:embed testdata/scriptDialect.toml
var scriptDialect string

//go:embed testdata/keyDialect.toml
var keyDialect string

func parse(t testing.TB, source string) *dialect.Dialect {
	t.Helper()
	d, err := dialect.Parse("test.toml", []byte(source))
	insist.OK(t, err)
	return d
}

func open(d *dialect.Dialect, files map[string]string) *lineup.Lineup {
	return lineup.Read(d, dialect.Vars{"dir": "/srv"}, func(path string) ([]byte, error) {
		if data, ok := files[path]; ok {
			return []byte(data), nil
		}
		return nil, fs.ErrNotExist
	}, nil)
}

// sum writes a line-up down: sections in brackets, a minus before what is off.
func sum(l *lineup.Lineup) string {
	var words []string
	section := -1
	for _, e := range l.Entries {
		if e.Section != section && e.Section >= 0 {
			section = e.Section
			words = append(words, "["+l.Sections[section].Title+"]")
		}
		name := e.Name
		if !e.On {
			name = "-" + name
		}
		words = append(words, name)
	}
	for _, p := range l.Problems {
		words = append(words, fmt.Sprintf("!%s:%d", p.Code, p.Line))
	}
	return strings.Join(words, " ")
}

func TestReadScript(t *testing.T) {
	d := parse(t, scriptDialect)
	for name, test := range map[string]struct {
		files map[string]string
		want  string
	}{
		"plain":     {map[string]string{"/srv/start": "berth a\nlet x 1\n\tberth b # note\n"}, "a b"},
		"sections":  {map[string]string{"/srv/start": "berth z\n# ~~ One ~~\nberth a\n# ~~ Two words ~~  \r\nberth b\n"}, "z [One] a [Two words] b"},
		"off":       {map[string]string{"/srv/start": "# berth a\n#berth b # why\nberth c\n# berth one of these\n"}, "-a -b c"},
		"quoted":    {map[string]string{"/srv/start": "berth \"salt wind\"\nberth 'x'\n"}, "salt wind x"},
		"include":   {map[string]string{"/srv/start": "berth a\nalso sub/more\nberth c\n", "/srv/sub/more": "berth b\nalso ../start\n"}, "a b c !include-again:2"},
		"outside":   {map[string]string{"/srv/start": "also ../../etc/passwd\nberth a\n"}, "a !include-outside:1"},
		"absent":    {map[string]string{"/srv/start": "also other\n"}, "!include-missing:1"},
		"blank":     {map[string]string{"/srv/start": "berth salt wind\nberth \"x\nberth\n"}, "!line-unreadable:1 !line-unreadable:2 !line-unreadable:3"},
		"utf-16":    {map[string]string{"/srv/start": "\xff\xfeb\x00e\x00r\x00t\x00h\x00 \x00a\x00"}, "a"},
		"half":      {map[string]string{"/srv/start": "\xff\xfeb\x00e"}, "!file-unreadable:1"},
		"mark":      {map[string]string{"/srv/start": "\xef\xbb\xbfberth a\r\nberth b"}, "a b"},
		"not there": {map[string]string{}, ""},
	} {
		insist.Same(t, name, sum(open(d, test.files)), test.want)
	}
	l := open(d, map[string]string{"/srv/start": "let x 1\nlet x \"2 3\"\nberth +lights\n"})
	if s, ok := l.Setting("script", "x"); !ok || s.Value != "2 3" {
		t.Errorf("the last value of x is %q, %v", s.Value, ok)
	}
	insist.That(t, l.Entries[0].Group, "a category line is not seen as one")
}

type change = lineup.Change

var lineupVars = dialect.Vars{"dir": "/srv"}

func TestChangeScript(t *testing.T) {
	d := parse(t, scriptDialect)
	const doc = "# head\r\n\r\nberth a\r\n\r\n# ~~ One ~~\r\n  berth b   # keep me\r\n  # berth c\r\n# ~~ Two ~~\r\n# ~~ Three ~~\r\nberth  'd e'"
	for _, test := range []struct {
		change change
		old    string // replaced by new in doc; "" with new "" for no change at all
		new    string
	}{
		{change{Op: lineup.OpRegister, Mod: "x"}, "berth  'd e'", "berth  'd e'\r\nberth x"},
		{change{Op: lineup.OpRegister, Mod: "salt wind"}, "berth  'd e'", "berth  'd e'\r\nberth \"salt wind\""},
		{change{Op: lineup.OpRegister, Mod: "x", Where: lineup.Where{Before: "b"}}, "  berth b", "  berth x\r\n  berth b"},
		{change{Op: lineup.OpRegister, Mod: "x", Where: lineup.Where{After: "a"}}, "berth a\r\n", "berth a\r\nberth x\r\n"},
		{change{Op: lineup.OpRegister, Mod: "x", Where: lineup.Where{Section: "One"}}, "  # berth c\r\n", "  # berth c\r\n  berth x\r\n"},
		{change{Op: lineup.OpRegister, Mod: "x", Where: lineup.Where{Section: "Two"}}, "# ~~ Two ~~\r\n", "# ~~ Two ~~\r\nberth x\r\n"},
		{change{Op: lineup.OpUnregister, Mod: "b"}, "  berth b   # keep me\r\n", ""},
		{change{Op: lineup.OpUnregister, Mod: "d e"}, "\r\nberth  'd e'", ""},
		{change{Op: lineup.OpOff, Mod: "b"}, "  berth b", "  # berth b"},
		{change{Op: lineup.OpOn, Mod: "c"}, "# berth c", "berth c"},
		{change{Op: lineup.OpRename, Mod: "d e", To: "f"}, "'d e'", "f"},
		{change{Op: lineup.OpRename, Mod: "b", To: "f g"}, "berth b", "berth \"f g\""},
		{change{Op: lineup.OpSet, Registration: "script", Mod: "port", To: "7"}, "# head", "let port 7\r\n# head"},
	} {
		want := strings.Replace(doc, test.old, test.new, 1)
		after, err := open(d, map[string]string{"/srv/start": doc}).Apply(test.change)
		if err != nil {
			t.Errorf("%v: %v", test.change, err)
			continue
		}
		insist.Same(t, fmt.Sprintf("%v", test.change), string(after.Files[0].Bytes), want)
	}
}

// A script may have several kinds of lines that set something.
func TestSeveralKindsOfSettings(t *testing.T) {
	d := parse(t, strings.Replace(scriptDialect, `setting = "let {name} {value}"`, "setting = \"\"\"\nlet {name} {value}\nshow {name} {value}\ntitle {value}\"\"\"", 1))
	script := &d.Registrations[0]
	insist.Same(t, "forms", strings.Join(script.SettingForms(), "|"), "let {name} {value}|show {name} {value}|title {value}")
	l := open(d, map[string]string{"/srv/start": "let port 1\ntitle \"My server\"\nshow about us\nshow odd\nberth a\n"})
	var words []string
	for _, s := range l.Settings {
		words = append(words, s.Name+"="+s.Value)
	}
	insist.Same(t, "settings", strings.Join(words, " "), "port=1 title=My server about=us")
	for _, c := range []struct{ name, want string }{{"title", "title x\n"}, {"port", "let port x\n"}} {
		empty := open(d, map[string]string{"/srv/start": ""})
		after, err := empty.Apply(lineup.Change{Op: lineup.OpSet, Mod: c.name, To: "x", Registration: script.Name})
		insist.OK(t, err)
		insist.Same(t, c.name, string(after.Files[0].Bytes), c.want)
	}
}

func TestMoveScript(t *testing.T) {
	d := parse(t, scriptDialect)
	for _, test := range []struct {
		doc   string
		where lineup.Where
		want  string
	}{
		{"berth a\nberth m # x\nberth b\n", lineup.Where{Before: "a"}, "berth m # x\nberth a\nberth b\n"},
		{"berth a\nberth m # x\nberth b\n", lineup.Where{After: "b"}, "berth a\nberth b\nberth m # x\n"},
		{"berth a\nberth m # x\nberth b", lineup.Where{After: "b"}, "berth a\nberth b\nberth m # x"},
		{"berth a\nberth b\nberth m", lineup.Where{Before: "a"}, "berth m\nberth a\nberth b"},
		{"berth m\nberth b\n", lineup.Where{Before: "b"}, "berth m\nberth b\n"},
		{"  berth a\n# berth m\n", lineup.Where{Before: "a"}, "  # berth m\n  berth a\n"},
		{"# berth m\nberth a\nberth m # x\n# berth a\n", lineup.Where{Before: "a"}, "# berth m\nberth m # x\nberth a\n# berth a\n"},
		{"# berth a\nberth m\nberth a\nberth b\n", lineup.Where{After: "a"}, "# berth a\nberth a\nberth m\nberth b\n"},
		{"# ~~ X ~~\nberth m\n# ~~ Y ~~\nberth b\n", lineup.Where{Section: "Y"}, "# ~~ X ~~\n# ~~ Y ~~\nberth b\nberth m\n"},
	} {
		after, err := open(d, map[string]string{"/srv/start": test.doc}).Apply(change{Op: lineup.OpMove, Mod: "m", Where: test.where})
		if err != nil {
			t.Errorf("%q, %v: %v", test.doc, test.where, err)
		} else if got := string(after.Files[0].Bytes); got != test.want {
			t.Errorf("%q, %v gives %q, want %q", test.doc, test.where, got, test.want)
		}
	}
	once, err := open(d, map[string]string{"/srv/start": "# berth m\nberth a\nberth m # x\nberth m\n"}).Apply(change{Op: lineup.OpOnce, Mod: "m"})
	insist.That(t, err == nil && string(once.Files[0].Bytes) == "berth a\nberth m # x\n", "of several lines %q is left, %v", once.Files[0].Bytes, err)
	files := map[string]string{"/srv/start": "berth a\nalso more\n", "/srv/more": "berth m\nberth b\n"}
	after, err := open(d, files).Apply(change{Op: lineup.OpMove, Mod: "m", Where: lineup.Where{Before: "a"}})
	if err != nil || string(after.Files[0].Bytes) != "berth m\nberth a\nalso more\n" || string(after.Files[1].Bytes) != "berth b\n" {
		t.Errorf("moving between files: %v, %q, %q", err, after.Files[0].Bytes, after.Files[1].Bytes)
	}
}

// A startup file that is optional may be missing; one that is there and cannot be read is
// told, and nothing is changed in it.
func TestOptionalFileThatCannotBeRead(t *testing.T) {
	d := parse(t, scriptDialect+"[[registration]]\nname = \"more\"\noptional = true\nfile = \"{dir}/more\"\nshape = \"line\"\ncomment = \"#\"\nline = \"also {mod}\"\n")
	for what, failure := range map[string]error{"": fs.ErrNotExist, "file-unreadable": fs.ErrPermission} {
		l := lineup.Read(d, lineupVars, func(path string) ([]byte, error) {
			if path == "/srv/start" {
				return []byte("berth a\n"), nil
			}
			return nil, failure
		}, nil)
		var codes []string
		for _, p := range l.Problems {
			codes = append(codes, p.Code)
		}
		if got := strings.Join(codes, " "); got != what || !strings.HasPrefix(sum(l), "a") {
			t.Errorf("%v: problems %q, it reads %q", failure, got, sum(l))
		}
		if _, err := l.Apply(change{Op: lineup.OpRegister, Mod: "x", Registration: "more"}); err == nil {
			t.Errorf("%v: a mod is registered in it", failure)
		}
	}
}

func TestChangeSections(t *testing.T) {
	d := parse(t, scriptDialect)
	const doc = "let x 1\r\n  # ~~ One ~~  \r\nberth a\r\n\r\n# ~~ Two ~~\r\nberth b\r\n# ~~ Three ~~\r\nberth c"
	for _, test := range []struct {
		change change
		want   string
	}{
		{change{Op: lineup.OpNewSection, Mod: "New", Where: lineup.Where{Before: "b"}}, strings.Replace(doc, "berth b", "# ~~ New ~~\r\nberth b", 1)},
		{change{Op: lineup.OpNewSection, Mod: "New"}, doc + "\r\n# ~~ New ~~"},
		{change{Op: lineup.OpRenameSection, Mod: "One", To: "First one"}, strings.Replace(doc, "# ~~ One ~~", "# ~~ First one ~~", 1)},
		{change{Op: lineup.OpMoveSection, Mod: "Three", Where: lineup.Where{Section: "Two"}},
			"let x 1\r\n  # ~~ One ~~  \r\nberth a\r\n\r\n# ~~ Three ~~\r\nberth c\r\n# ~~ Two ~~\r\nberth b"},
		{change{Op: lineup.OpMoveSection, Mod: "One"}, "let x 1\r\n# ~~ Two ~~\r\nberth b\r\n# ~~ Three ~~\r\nberth c\r\n  # ~~ One ~~  \r\nberth a\r\n"},
		{change{Op: lineup.OpMoveSection, Mod: "Two", Where: lineup.Where{Section: "Two"}}, doc},
	} {
		after, err := open(d, map[string]string{"/srv/start": doc}).Apply(test.change)
		if err != nil {
			t.Errorf("%v: %v", test.change, err)
		} else if got := string(after.Files[0].Bytes); got != test.want {
			t.Errorf("%v gives\n%q, want\n%q", test.change, got, test.want)
		}
	}
	for _, c := range []change{{Op: lineup.OpRenameSection, Mod: "Nine", To: "x"}, {Op: lineup.OpRenameSection, Mod: "One", To: "a\nb"},
		{Op: lineup.OpNewSection, Mod: " "}, {Op: lineup.OpMoveSection, Mod: "One", Where: lineup.Where{Section: "Nine"}}} {
		if _, err := open(d, map[string]string{"/srv/start": doc}).Apply(c); err == nil {
			t.Errorf("%v is made", c)
		}
	}
}

// TestUTF16 changes a file that is not UTF-8 and looks that it stays what it was.
func TestUTF16(t *testing.T) {
	d := parse(t, scriptDialect)
	for _, e := range []text.Encoding{text.EncodingUTF16LE, text.EncodingUTF16BE} {
		raw := text.Encode([]byte("\xef\xbb\xbf# Läden 港\r\nberth a\r\nberth b"), e)
		l := open(d, map[string]string{"/srv/start": string(raw)})
		after, err := l.Apply(change{Op: lineup.OpMove, Mod: "b", Where: lineup.Where{Before: "a"}})
		want := text.Encode([]byte("\xef\xbb\xbf# Läden 港\r\nberth b\r\nberth a"), e)
		insist.That(t, err == nil && string(after.Files[0].Raw()) == string(want) && string(l.Files[0].Raw()) == string(raw), "%v: %v, %q", e, err, after.Files[0].Raw())
	}
}

func TestRegisterAfterInclude(t *testing.T) {
	d := parse(t, scriptDialect)
	files := map[string]string{"/srv/start": "berth a\nalso more\nlet x 1\n", "/srv/more": "berth b\n"}
	after, err := open(d, files).Apply(change{Op: lineup.OpRegister, Mod: "z"})
	insist.That(t, err == nil && sum(after) == "a b z", "the end of the order: %v, %q", err, sum(after))
}

func TestChangeKeys(t *testing.T) {
	d := parse(t, keyDialect)
	const doc = "game = g\n# load_q = true\nload_a=true\nload_b = false\nload_c = nil\nload_c = true\nport = 1\n"
	for _, test := range []struct {
		change   change
		old, new string
	}{
		{change{Op: lineup.OpRegister, Mod: "x"}, "load_c = true\n", "load_c = true\nload_x = true\n"},
		{change{Op: lineup.OpRegister, Mod: "b"}, "load_b = false", "load_b = true"},
		{change{Op: lineup.OpOff, Mod: "a"}, "load_a=true", "load_a=false"},
		{change{Op: lineup.OpOff, Mod: "x"}, "load_c = true\n", "load_c = true\nload_x = false\n"},
		{change{Op: lineup.OpOn, Mod: "b"}, "load_b = false", "load_b = true"},
		{change{Op: lineup.OpUnregister, Mod: "a"}, "load_a=true\n", ""},
		{change{Op: lineup.OpOnce, Mod: "c"}, "load_c = nil\n", ""},
		{change{Op: lineup.OpRename, Mod: "a", To: "z"}, "load_a", "load_z"},
		{change{Op: lineup.OpSet, Registration: "keys", Mod: "port", To: "22"}, "port = 1", "port = 22"},
		{change{Op: lineup.OpSet, Registration: "keys", Mod: "new", To: "v"}, "game = g", "new = v\ngame = g"},
	} {
		after, err := open(d, map[string]string{"/srv/start": doc}).Apply(test.change)
		if err != nil {
			t.Errorf("%v: %v", test.change, err)
			continue
		}
		if got, want := string(after.Files[0].Bytes), strings.Replace(doc, test.old, test.new, 1); got != want {
			t.Errorf("%v gives\n%q, want\n%q", test.change, got, want)
		}
	}
	fresh, err := open(d, nil).Apply(change{Op: lineup.OpRegister, Mod: "a"})
	insist.That(t, err == nil && string(fresh.Files[0].Bytes) == "game = g\nload_a = true\n", "a file that is not there yet: %v, %q", err, fresh.Files[0].Bytes)
}

func TestRefusals(t *testing.T) {
	script, keys := parse(t, scriptDialect), parse(t, keyDialect)
	for _, test := range []struct {
		dialect *dialect.Dialect
		doc     string
		change  change
		want    string
	}{
		{script, "berth a\n", change{Op: lineup.OpRegister, Mod: "a"}, "registered already"},
		{script, "# berth a\n", change{Op: lineup.OpRegister, Mod: "a"}, "switched off; switch it on"},
		{script, "berth a\n", change{Op: lineup.OpOff, Mod: "z"}, "z is not registered"},
		{script, "berth a\n", change{Op: lineup.OpOn, Mod: "a"}, "a is on already"},
		{script, "berth a\n", change{Op: lineup.OpMove, Mod: "a", Where: lineup.Where{Before: "a"}}, "before or after itself"},
		{script, "berth a\n", change{Op: lineup.OpMove, Mod: "a", Where: lineup.Where{Before: "z"}}, "z is not registered"},
		{script, "berth a\n", change{Op: lineup.OpMove, Mod: "a"}, "say where"},
		{script, "# ~~ One ~~\nberth a\n", change{Op: lineup.OpRegister, Mod: "b", Where: lineup.Where{Section: "Two"}}, `no section "Two"; there are: One`},
		{script, "", change{Op: lineup.OpRegister, Mod: " a"}, "a blank before or after"},
		{script, "", change{Op: lineup.OpRegister, Mod: "a\nb"}, "cannot be written"},
		{script, "", change{Op: lineup.OpRegister, Mod: ""}, "needs a name"},
		{script, "", change{Op: lineup.OpRegister, Mod: "a=b"}, "does not allow"},
		{script, "\xff\xfea", change{Op: lineup.OpRegister, Mod: "a"}, "cannot be read"},
		{keys, "load_a = true\n", change{Op: lineup.OpRegister, Mod: "a"}, "registered already"},
		{keys, "load_a = true\n", change{Op: lineup.OpMove, Mod: "a", Where: lineup.Where{Before: "b"}}, "order of its own"},
		{keys, "load_a = true\n", change{Op: lineup.OpRegister, Mod: "b", Where: lineup.Where{Before: "a"}}, "order of its own"},
		{keys, "text = \"\"\"\nnever closed", change{Op: lineup.OpRegister, Mod: "a"}, "would not be read as it is meant"},
		{keys, "", change{Op: lineup.OpRegister, Mod: "A"}, `holds 'A'`},
		{keys, "", change{Op: lineup.OpSet, Registration: "keys", Mod: "a", To: "x\ny"}, "cannot be written"},
	} {
		_, err := open(test.dialect, map[string]string{"/srv/start": test.doc}).Apply(test.change)
		insist.Fails(t, fmt.Sprintf("%v on %q", test.change, test.doc), err, test.want)
	}
}

// FuzzChange makes a change and its opposite in any document, which has to give
// the document back, and looks that a change touches nothing but its line.
func FuzzChange(f *testing.F) {
	for _, s := range []string{"berth a\nberth b", "# ~~ x ~~\r\nberth a\r\n", "\xef\xbb\xbfberth \"a b\"\n#berth c", "load_a = true\nload_b=nil"} {
		f.Add(s, uint8(0))
		f.Add(s, uint8(1))
	}
	script, keys := parse(f, scriptDialect), parse(f, keyDialect)
	f.Fuzz(func(t *testing.T, doc string, pick uint8) {
		if strings.HasSuffix(doc, "\r") {
			return // a line that is added makes CR LF of it
		}
		for _, d := range []*dialect.Dialect{script, keys} {
			l := open(d, map[string]string{"/srv/start": doc})
			before := sum(l)
			added, err := l.Apply(change{Op: lineup.OpRegister, Mod: "fresh_one"})
			if err != nil {
				if len(l.Find("fresh_one")) == 0 && len(l.Problems) == 0 {
					t.Fatalf("%q: register: %v", doc, err)
				}
				continue
			}
			back, err := added.Apply(change{Op: lineup.OpUnregister, Mod: "fresh_one"})
			if err != nil || string(back.Files[0].Raw()) != doc && !(l.Files[0].Missing) {
				t.Fatalf("register and unregister in %q gives %q, %v", doc, back.Files[0].Raw(), err)
			}
			if len(l.Entries) == 0 {
				continue
			}
			e := l.Entries[int(pick)%len(l.Entries)]
			if e.On && len(l.Find(e.Name)) == 1 && d == script {
				off, err := l.Apply(change{Op: lineup.OpOff, Mod: e.Name})
				if err != nil && strings.Contains(err.Error(), "would not be read as it is meant") {
					continue // it could not be switched on again
				}
				insist.Need(t, err == nil, "%q: off %q: %v", doc, e.Name, err)
				on, err := off.Apply(change{Op: lineup.OpOn, Mod: e.Name})
				if _, odd := d.Names.Forbidden(strings.TrimPrefix(e.Name, "+")); odd {
					continue // a comment with such a word is taken for prose
				}
				insist.Need(t, err == nil, "on again of %q in %q: %v", e.Name, doc, err)
				insist.Need(t, string(on.Files[0].Raw()) == doc && sum(on) == before, "off and on of %q in %q gives %q, %v", e.Name, doc, on.Files[0].Raw(), err)
			}
		}
	})
}
