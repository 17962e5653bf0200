package text_test

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/text"
	"initium/internal/insist"
)

var style = text.ScriptStyle{Comment: "#", Quote: `"'`}

// words writes what a script was read as: words in brackets, one line each.
func words(doc string, statements []text.Statement) string {
	var lines []string
	for _, s := range statements {
		var b strings.Builder
		for _, w := range s.Words {
			fmt.Fprintf(&b, "[%s]", w.Value)
		}
		if s.Comment.Len() > 0 {
			b.WriteString(string(s.Comment.In([]byte(doc))))
		}
		if s.Fault != nil {
			fmt.Fprintf(&b, "!%d:%d", s.Fault.Line, s.Fault.Column)
		}
		lines = append(lines, b.String())
	}
	return strings.Join(lines, "|")
}

func TestScript(t *testing.T) {
	for _, test := range []struct{ doc, want string }{
		{"berth a\n", "[berth][a]"},
		{"  berth\ta  # note\r\n\r\n#x", "[berth][a]# note||#x"},
		{`berth "salt wind"`, "[berth][salt wind]"},
		{`berth 'it is "so"'`, `[berth][it is "so"]`},
		{`berth "open`, "!1:7"},
		{"a#b #c", "[a#b]#c"},
		{`berth "a#b"`, "[berth][a#b]"},
		{`x "" y`, "[x][][y]"},
		{"\xef\xbb\xbfberth a", "[berth][a]"},
	} {
		insist.Same(t, fmt.Sprintf("Script(%q) =", test.doc), words(test.doc, text.Script([]byte(test.doc), style)), test.want)
	}
}

func TestUncomment(t *testing.T) {
	for _, test := range []struct{ doc, words, without string }{
		{"# berth a", "[berth][a]", "berth a"},
		{"#berth a # why", "[berth][a]# why", "berth a # why"},
		{"  #  berth a", "[berth][a]", "   berth a"},
		{"berth a # berth b", "", ""},
		{"##", "", ""},
		{"#", "", ""},
		{"# ", "", ""},
		{"#  a", "[a]", " a"},
		{"# 'a", "", ""},
		{"'a # b", "", ""},
	} {
		doc := []byte(test.doc)
		hidden, mark, ok := text.Uncomment(doc, text.Script(doc, style)[0], style)
		if ok != (test.words != "") {
			t.Errorf("Uncomment(%q) ok = %v", test.doc, ok)
			continue
		}
		if !ok {
			continue
		}
		insist.Same(t, fmt.Sprintf("Uncomment(%q) =", test.doc), words(test.doc, []text.Statement{hidden}), test.words)
		if got, _ := text.Apply(doc, []text.Edit{text.Delete(mark)}); string(got) != test.without {
			t.Errorf("Uncomment(%q) leaves %q, want %q", test.doc, got, test.without)
		}
	}
}

func FuzzScript(f *testing.F) {
	for _, s := range []string{"berth a\r\n# b\n", `x "y z`, "\xef\xbb\xbf#", "'"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, doc string) {
		data := []byte(doc)
		at := text.Begin(data)
		for _, s := range text.Script(data, style) {
			insist.Need(t, s.Line.Start == at && s.Line.Text.Start == at && s.Line.Text.End <= s.Line.End, "line %v does not follow on %d", s.Line, at)
			at = s.Line.End
			word := s.Line.Start
			for _, w := range s.Words {
				insist.Need(t, w.Start >= word && w.End <= s.Line.Text.End, "word %v out of order in line %v of %q", w, s.Line, doc)
				word = w.End
				raw := string(w.In(data))
				if w.Value != raw && w.Value != raw[1:len(raw)-1] {
					t.Fatalf("word %q has the value %q", raw, w.Value)
				}
			}
		}
		insist.Need(t, at == len(data), "lines end at %d of %d", at, len(data))
	})
}

var keyValueStyle = text.KeyValueStyle{Comment: "#", Assign: "="}

func TestKeyValue(t *testing.T) {
	for _, test := range []struct{ doc, want, faults string }{
		{"a = 1\nb=2\n\n# c = 3\n  d  =  4 \r\n", "a:1|b:2|d:4", ""},
		{"a = b = c", "a:b = c", ""},
		{"a =", "a:", ""},
		{"just words\na = 1", "a:1", "1:1"},
		{" = 1", "", "1:2"},
		{"t = \"\"\"\nx = 1\n\"\"\"\nb = 2", "t:\"\"\"\nx = 1\n\"\"\"|b:2", ""},
		{"a = 1\nt = \"\"\"\nb = 2", "a:1", "2:5"},
	} {
		doc := []byte(test.doc)
		pairs, faults := text.KeyValue(doc, keyValueStyle)
		var got, bad []string
		for _, p := range pairs {
			got = append(got, string(p.Key.In(doc))+":"+string(p.Value.In(doc)))
		}
		for _, f := range faults {
			bad = append(bad, fmt.Sprintf("%d:%d", f.Line, f.Column))
		}
		insist.That(t, strings.Join(got, "|") == test.want && strings.Join(bad, "|") == test.faults, "KeyValue(%q) = %q, faults %v; want %q, %q", test.doc, got, bad, test.want, test.faults)
	}
}

func FuzzKeyValue(f *testing.F) {
	for _, s := range []string{"a = 1\n", "t = \"\"\"\nx\n\"\"\"", "=", "\xef\xbb\xbfa=b"} {
		f.Add(s, "new value")
	}
	f.Fuzz(func(t *testing.T, s, value string) {
		doc := []byte(s)
		pairs, _ := text.KeyValue(doc, keyValueStyle)
		if strings.ContainsAny(value, "\n\r\v\f") || strings.TrimSpace(value) != value || value == `"""` {
			return
		}
		for i, p := range pairs {
			if strings.Contains(string(p.Value.In(doc)), "\n") {
				continue
			}
			got, err := text.Apply(doc, []text.Edit{{Span: p.Value, New: value}})
			insist.OK(t, err)
			again, _ := text.KeyValue(got, keyValueStyle)
			insist.Need(t, len(again) == len(pairs) && string(again[i].Value.In(got)) == value && string(again[i].Key.In(got)) == string(p.Key.In(doc)), "setting value %d of %q to %q gives %q", i, s, value, got)
		}
	})
}

func TestPattern(t *testing.T) {
	for _, test := range []struct {
		pattern, line string
		want          string // captures parted by |, "no" for no match
	}{
		{"ready", "ready", ""},
		{"ready", "ready!", "no"},
		{`Mod "{mod}" loaded after {ms} ms`, `Mod "stairs" loaded after 12 ms`, "stairs|12"},
		{`Mod "{mod}" loaded after {ms} ms`, `Mod "a b" loaded after 12 ms`, "no"},
		{`Mod "{mod}" loaded after {ms} ms`, `Mod "a" loaded after x ms`, "no"},
		{`Mod "{mod}" loaded after {ms} ms`, `chat: Mod "a" loaded after 1 ms`, "no"},
		{"{mod} is turned away: {reason}", "ferry is turned away: ", "ferry|"},
		{"{mod} is turned away: {reason}", "ferry is turned away: a: b", "ferry|a: b"},
		{"{mod} is turned away: {reason}", "ferry is turned away:", "ferry|"},
		{"{mod} is turned away: {reason}", "ferry is turned away", "no"},
		{"gone: {any}", "gone:", ""},
		{"gone: {any}", "gone", "no"},
		{"gone: {title}", "gone:", "no"},
		{"{mod} {reason}", "ferry", "no"},
		{"x {{ {reason}", "x {", ""},
		{"{any}from mod '{mod}' in {reason}", "x from mod 'y' in z in w", "x |y|z in w"},
		{"took {s} s", "took 1.25 s", "1.25"},
		{"took {s} s", "took 1.2.5 s", "no"},
		{"took {s} s", "took 1x5 s", "no"},
		{"took {s} s", "took .5 s", "no"},
		{"took {s} s", "took 1. s", "1."},
		{"took {ms} ms", "took : ms", "no"},
		{"took {ms} ms", "took / ms", "no"},
		{"took {ms} ms", "took 0123456789 ms", "0123456789"},
		{"{{x}} {mod}", "{x} y", "y"},
		{"{path}:", "/a/b.lua:", "/a/b.lua"},
		{"{path}:", ":", "no"},
		{"x{mods}", "x", "no"},
	} {
		p, err := text.ParsePattern(test.pattern, nil)
		if err != nil {
			t.Errorf("ParsePattern(%q): %v", test.pattern, err)
			continue
		}
		got := "no"
		if caps, ok := p.Match([]byte(test.line), nil); ok {
			var parts []string
			for _, c := range caps {
				parts = append(parts, string(c.In([]byte(test.line))))
			}
			got = strings.Join(parts, "|")
		}
		insist.Same(t, fmt.Sprintf("%q on %q", test.pattern, test.line), got, test.want)
	}
}

func TestPatternPrefix(t *testing.T) {
	p, err := text.ParsePattern("[{time}] {level}: ", nil)
	insist.OK(t, err)
	line := []byte("[12:00:01.5] berth: a: b")
	caps, end, ok := p.MatchPrefix(line, nil)
	insist.That(t, ok && string(line[end:]) == "a: b" && string(p.Get("level", line, caps)) == "berth" && string(p.Get("time", line, caps)) == "12:00:01.5", "MatchPrefix = %v, %d, %v", caps, end, ok)
	if _, _, ok := p.MatchPrefix([]byte("no prefix: here"), nil); ok {
		t.Error("a line without the prefix matches")
	}
	for _, test := range []struct{ pattern, sample, line, want string }{
		{"{time} {level}: ", "2026-01-02 10:00", "2026-01-02 10:00 INFO: x", "2026-01-02 10:00|INFO|x"},
		{"{time} {level}: ", "2026-01-02 10:00", "2026-01-02 INFO: x", "no"},
		{"{time} {level}: ", "2026-01-02 10:00", "someone said so: x", "no"},
		{"{time} {level}: ", "2026-01-02 10:00", "2026-01-02", "no"},
		{"{time} {level}: ", "Jan 2", "Jan 2 INFO: x", "Jan 2|INFO|x"},
		{"{time} ", "9:0", "9:0 x", "9:0|x"},
		{"{time} ", "0:0", "/:0 x", "no"},
		{"{time} ", "0:0", "::0 x", "no"},
		{"[{level}] ", "", "[INFO ] x", "INFO|x"},
		{"[{level}] ", "", "[ INFO]   x", "INFO|x"},
		{"[{level}]", "", "[INFO]  x", "INFO|  x"},
		{"[{level}] ", "", "[] x", "no"},
		{"[{level}] ", "", "[  ] x", "no"},
		{"[{level}] ", "", "[A B] x", "no"},
		{"{level} ", "", "INFO    ", "INFO|"},
		{"x{any}: ", "", "x: y", "|y"},
		{"x{time}: ", "", "x: y", "no"},
		{"x{time}:", "", "x", "no"},
	} {
		p, err := text.ParsePattern(test.pattern, nil)
		insist.OK(t, err)
		if test.sample != "" {
			p.Shape("time", test.sample)
		}
		got := "no"
		if caps, end, ok := p.MatchPrefix([]byte(test.line), nil); ok {
			got = ""
			for _, c := range caps {
				got += string(c.In([]byte(test.line))) + "|"
			}
			got += test.line[end:]
		}
		insist.Same(t, fmt.Sprintf("%q (%s) on %q", test.pattern, test.sample, test.line), got, test.want)
	}
	for pattern, want := range map[string]string{"giving up: {reason}": "giving up:", "{mod} of {any}": " of", "gone: {title}": "gone: ", "{mod} {reason}": " "} {
		if p, err := text.ParsePattern(pattern, nil); err != nil || p.Longest() != want {
			t.Errorf("what every line that fits %q has in it is %q, %v", pattern, p.Longest(), err)
		}
	}
	long, err := text.ParsePattern("ab{mod}abcd{any}abc", nil)
	if err != nil || long.Longest() != "abcd" || long.First() != "ab" || long.String() != "ab{mod}abcd{any}abc" || strings.Join(long.Names(), " ") != "mod any" {
		t.Errorf("the longest text is %q, the first %q, %v", long.Longest(), long.First(), err)
	}
}

// entries writes an INI file down: its entries with their sections, those in comments, and
// the places of what is not understood.
func entries(doc string, style text.INIStyle) string {
	ini := text.ReadINI([]byte(doc), style)
	var words []string
	for _, list := range [][]text.INIEntry{ini.Entries, ini.Hidden} {
		for _, e := range list {
			sign := ""
			if e.HasSign {
				sign = "="
			}
			words = append(words, fmt.Sprintf("%s/%s%s%s", e.Section, e.Key.In([]byte(doc)), sign, e.Value.Value))
			if e.Off.Len() > 0 {
				words[len(words)-1] += fmt.Sprintf(" in %q", e.Off.In([]byte(doc)))
			}
		}
	}
	for _, s := range ini.Sections[1:] {
		words = append(words, fmt.Sprintf("[%s] to %d", s.Name, s.End))
	}
	for _, f := range ini.Faults {
		words = append(words, fmt.Sprintf("!%d:%d", f.Line, f.Column))
	}
	return strings.Join(words, " ; ")
}

func TestINI(t *testing.T) {
	for _, test := range []struct {
		doc   string
		style text.INIStyle
		want  string
	}{
		{"a=1\n[ s ]\nb = 2\n; c = 3\n#d=4\n\n[t]\n", text.INIStyle{}, "/a=1 ; s/b=2 ; s/c=3 in \"; \" ; s/d=4 in \"#\" ; [s] to 16 ; [t] to 34"},
		{"[s\na\n=b\nc=d", text.INIStyle{}, "/c=d ; !1:1 ; !2:1 ; !3:1"},
		{"a\nb = \n", text.INIStyle{Bare: true}, "/a ; /b="},
		{"; words\n;\n; = x\n;  y = z", text.INIStyle{}, "/y=z in \"; \""},
		{";a\n;", text.INIStyle{Bare: true}, "/a in \";\""},
		{"a: 1\n! b: 2\n# c: 3", text.INIStyle{Comment: "!", Assign: ":"}, "/a=1 ; /# c=3 ; /b=2 in \"! \""},
		{"a = \"x\nb = 'x' 'y'\nc = \"\nd = 'x\"\ne = 'z'\n", text.INIStyle{}, "/a=\"x ; /b='x' 'y' ; /c=\" ; /d='x\" ; /e=z"},
		{"a==b", text.INIStyle{}, "/a==b"},
	} {
		insist.Same(t, fmt.Sprintf("%q is read as", test.doc), entries(test.doc, test.style), test.want)
	}
	doc := []byte("[s]\na=1\na=2\n[t]\na=3\n")
	ini := text.ReadINI(doc, text.INIStyle{})
	if e, ok := ini.Find(doc, "s", "a"); !ok || e.Value.Value != "2" {
		t.Errorf("the last of two is %+v, %v", e, ok)
	}
	if _, ok := ini.Find(doc, "s", "b"); ok {
		t.Error("a key is found that is not there")
	}
}

func TestPatternFaults(t *testing.T) {
	for pattern, want := range map[string]string{
		"{mod":       "a { without its }",
		"mod}":       "a } without its {",
		"{mod}{ms}":  "two placeholders need some text",
		"{nonsense}": "{nonsense} is not known here",
	} {
		insist.Fails(t, fmt.Sprintf("ParsePattern(%q)", pattern), insist.Err(text.ParsePattern(pattern, []string{"mod", "ms"})), want)
	}
}

func FuzzPattern(f *testing.F) {
	f.Add("{mod} is {any} now {ms}", "a", "b c", "3")
	f.Add("x {reason}", "", "", "")
	f.Fuzz(func(t *testing.T, pattern, mod, anything, ms string) {
		p, err := text.ParsePattern(pattern, []string{"mod", "any", "ms"})
		if err != nil {
			return
		}
		line := []byte(p.Fill(func(name string) string { return map[string]string{"mod": mod, "any": anything, "ms": ms}[name] }))
		caps, ok := p.Match(line, nil)
		if !ok {
			return
		}
		// Whatever was captured, the pattern filled with it is the line again.
		i := 0
		again := p.Fill(func(string) string { i++; return string(caps[i-1].In(line)) })
		if again != string(line) && strings.TrimRight(again, " ") != string(line) {
			t.Fatalf("%q took %v from %q, which gives %q", pattern, caps, line, again)
		}
	})
}
