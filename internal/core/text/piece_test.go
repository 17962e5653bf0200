package text_test

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/text"
	"initium/internal/insist"
)

// readers gives for each notation all pieces of a document, in order.
var readers = map[string]func(doc []byte) []text.Piece{
	"ini": func(doc []byte) (list []text.Piece) {
		for _, e := range text.ReadINI(doc, text.INIStyle{}).Entries {
			list = append(list, e.Value)
		}
		return list
	},
	"shell": func(doc []byte) []text.Piece { return launchPieces(text.ReadPOSIX(doc)) },
	"batch": func(doc []byte) []text.Piece { return launchPieces(text.ReadBatch(doc)) },
	"unit":  func(doc []byte) []text.Piece { return launchPieces(text.ReadUnit(doc)) },
	"env":   func(doc []byte) []text.Piece { return launchPieces(text.ReadEnv(doc)) },
	"words": func(doc []byte) []text.Piece { return launchPieces(text.ReadWords(doc)) },
	"json":  func(doc []byte) []text.Piece { return treePieces(text.ReadJSON(doc)) },
	"yaml":  func(doc []byte) []text.Piece { return treePieces(text.ReadYAML(doc)) },
	"toml":  func(doc []byte) []text.Piece { return treePieces(text.ReadTOML(doc)) },
	"xml":   func(doc []byte) []text.Piece { return treePieces(text.ReadXML(doc)) },
}

func launchPieces(l *text.Launch) (list []text.Piece) {
	if len(l.Faults) > 0 {
		return nil
	}
	for _, c := range l.Commands {
		for i, w := range c.Words {
			if i == 0 { // what the command is called is not changed
				continue
			}
			if c.Uses[i] == (text.Use{}) {
				list = append(list, w)
			}
		}
	}
	var names []string
	for name := range l.Variables {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		list = append(list, l.Variables[name])
	}
	return list
}

func treePieces(n *text.Node, fault *text.Fault) (list []text.Piece) {
	if fault != nil {
		return nil
	}
	var walk func(n *text.Node)
	walk = func(n *text.Node) {
		if n.Kind == text.NodeString {
			list = append(list, n.Piece)
		}
		for _, m := range n.Members {
			walk(m.Value)
		}
		for _, i := range n.Items {
			walk(i)
		}
	}
	walk(n)
	return list
}

// samples are documents of each notation with what their pieces mean.
var samples = map[string]struct{ doc, want string }{
	"ini":   {"a = 1\r\n[s]\r\n; c = 2\r\nb=\"x y\"\r\nb = 'q'\r\n", "1|x y|q"},
	"shell": {"#!/bin/sh\nMODS=\"a;b\"\ncd /srv # go\nexec ./run -mods=$MODS \\\n  -x='it''s' \"q \\\"r\\\"\" a\\ b\n", "/srv|./run|-x=its|q \"r\"|a b|a;b"},
	"batch": {"@echo off\r\nrem run -mods=x\r\nset \"MODS=a;b c\"\r\nrun.exe -mods=%MODS% \"-p=C:\\x y\" ^\r\n  -z=a^&b\r\n", "off|-p=C:\\x y|-z=a&b|a;b c"},
	"unit":  {"[Service]\n# c\nEnvironment=A=b \"C=d e\"\nExecStart=/bin/run --mods=a,b \\\n# between\n  '--q=x y' \"%%\" \\x41\n", "--mods=a,b|--q=x y|%|A|b|d e"},
	"env":   {"# c\nA=b\nexport C=\"d e\"\nF='g'\n", "b|d e|g"},
	"words": {"-a \"b c\" d\\ e 'f\"g' $HOME;x\r\n\"q\\\"r\"", "b c|d e|f\"g|$HOME;x|q\"r"},
	"json":  {"{// c\n\"a\": [\"x\", \"\\u0041\\n\"], /* d */ \"b\": {\"c\": \"\\\"\"},}", "x|A\n|\""},
	"yaml":  {"# c\r\na:\r\n  - \"x\\ty\"\r\n  - 'z''s'\r\n  - plain one # d\r\nb: [q, \"r\"]\r\né: ü\r\n", "x\ty|z's|plain one|q|r|ü"},
	"toml":  {"a = [\"x\", 'y\\z', [\"\\u0041\"]] # c\r\n[t]\r\nb = { c = \"d\" }\r\n[[l]]\r\ne = \"f\"\n", "x|y\\z|A|d|f"},
	"xml":   {"<?xml version=\"1.0\"?>\r\n<a x='1' y=\"&lt;&#65;\">\r\n <b>t &amp; u</b><!-- c --><b/>\r\n</a>", "1|<A|t & u"},
}

func meaning(list []text.Piece) string {
	var words []string
	for _, p := range list {
		words = append(words, p.Value)
	}
	return strings.Join(words, "|")
}

func TestReaders(t *testing.T) {
	for name, read := range readers {
		sample := samples[name]
		insist.Same(t, fmt.Sprintf("%s means", name), meaning(read([]byte(sample.doc))), sample.want)
	}
}

// becomes changes one piece of a document and looks that all others stay what
// they were, that the piece means what was asked for, and that the way back gives
// the document back.
func becomes(read func([]byte) []text.Piece, doc []byte, i int, want string) error {
	before := read(doc)
	edits, err := before[i].Becomes(want)
	if err != nil {
		return nil // a clear refusal is an answer
	}
	after, err := text.Apply(doc, edits)
	if err != nil {
		return fmt.Errorf("piece %d to %q: %v", i, want, err)
	}
	got := read(after)
	if len(got) != len(before) {
		return fmt.Errorf("piece %d, %q, to %q gives %q with %d pieces instead of %d", i, before[i].Value, want, after, len(got), len(before))
	}
	for k := range got {
		expect := before[k].Value
		if k == i {
			expect = want
		}
		if got[k].Value != expect {
			return fmt.Errorf("piece %d to %q gives %q, where piece %d is %q instead of %q", i, want, after, k, got[k].Value, expect)
		}
	}
	if again, err := text.Apply(after, text.EditsBetween(after, doc)); err != nil || !bytes.Equal(again, doc) {
		return fmt.Errorf("the way back gives %q", again)
	}
	return nil
}

func TestPiecesBecome(t *testing.T) {
	for name, read := range readers {
		doc := []byte(samples[name].doc)
		for i := range read(doc) {
			for _, want := range []string{"plain", "", "a;b;c", "x y", "it's", `say "hi"`, `back\slash`, "50%", "$HOME", "a&b<c>d", "ünï", "#no", "a,b"} {
				if want == "" && (name == "shell" || name == "words" || name == "batch" || name == "unit" || name == "xml" || name == "yaml") {
					continue // an empty word is no word
				}
				if err := becomes(read, doc, i, want); err != nil {
					t.Errorf("%s: %v", name, err)
				}
			}
		}
	}
}

func TestWordsWithBackslashes(t *testing.T) {
	for doc, want := range map[string]string{`a "b\\" c`: `b\|c`, `a "b\"c" d`: `b"c|d`, `a 'b\' c`: `b\|c`, `a b\\ c`: `b\|c`} {
		insist.Same(t, fmt.Sprintf("%s means", doc), meaning(readers["words"]([]byte(doc))), want)
	}
}

func FuzzPieces(f *testing.F) {
	var names []string
	for name := range readers {
		names = append(names, name)
	}
	slices.Sort(names)
	for k, name := range names {
		f.Add(uint8(k), []byte(samples[name].doc), uint8(2), "a;b")
		f.Add(uint8(k), []byte(samples[name].doc), uint8(0), "it's \"so\"")
	}
	f.Fuzz(func(t *testing.T, notation uint8, doc []byte, pick uint8, want string) {
		name := names[int(notation)%len(names)]
		if text.NotText(doc) != nil || want == "" {
			return
		}
		if name == "yaml" && bytes.Contains(bytes.ReplaceAll(doc, []byte("\r\n"), nil), []byte("\r")) {
			return // a CR alone ends a line there, and a plain value may go on behind it
		}
		if name == "yaml" && bytes.Contains(doc, []byte("\n\t")) {
			return // a tab may go on behind a plain value, and nowhere else
		}
		list := readers[name](doc)
		if len(list) == 0 {
			return
		}
		i := int(pick) % len(list)
		if list[i].Value == "" {
			return
		}
		if err := becomes(readers[name], doc, i, want); err != nil {
			t.Fatalf("%s, %q: %v", name, doc, err)
		}
	})
}

func TestItems(t *testing.T) {
	semicolon := text.ListStyle{Separator: ";", Mark: "@"}
	for _, test := range []struct {
		style text.ListStyle
		doc   string
		names []string
		keep  []int
		want  string
	}{
		{semicolon, "-m=@a;@b", []string{"a", "c", "b"}, []int{0, -1, 1}, "-m=@a;@c;@b"},
		{semicolon, "-m=@a;@b;", []string{"b"}, []int{1}, "-m=@b;"},
		{semicolon, "\"-m=@a; @b\"", []string{"a", "b", "c"}, []int{0, 1, -1}, "\"-m=@a; @b; @c\""},
		{semicolon, "-m=", []string{"a"}, []int{-1}, "-m=@a"},
		{semicolon, "-m=@a", []string{}, []int{}, "-m="},
		{text.ListStyle{Separator: ";", Last: text.LastWanted}, "-m=a", []string{"a", "b"}, []int{0, -1}, "-m=a;b;"},
		{text.ListStyle{Separator: ";", Last: text.LastForbidden}, "-m=a;b;", []string{"a", "b"}, []int{0, 1}, "-m=a;b"},
		{text.ListStyle{Separator: ","}, "'-m=a, b'", []string{"b", "a"}, []int{1, 0}, "'-m=b, a'"},
	} {
		words := text.ReadWords([]byte(test.doc)).Commands[0].Words
		p := words[0].Tail(len("-m="))
		edits, err := p.WithItems(test.style, test.names, test.keep)
		if err != nil {
			t.Errorf("%s: %v", test.doc, err)
			continue
		}
		if got, err := text.Apply([]byte(test.doc), edits); err != nil || string(got) != test.want {
			t.Errorf("%s with %v gives %s, %v; want %s", test.doc, test.names, got, err, test.want)
		}
	}
	for _, name := range []string{"", " a", "a;b", "@a"} {
		insist.That(t, semicolon.CheckItem(name) != nil, "the list takes %q", name)
	}
}

func TestTreeLists(t *testing.T) {
	for _, test := range []struct{ name, doc, insert0, insertEnd, remove0, removeEnd string }{
		{"json", `{"a": ["x", "y"]}`, `{"a": [N, "x", "y"]}`, `{"a": ["x", "y", N]}`, `{"a": ["y"]}`, `{"a": ["x"]}`},
		{"json", "{\"a\": [\n  \"x\",\n  \"y\" // why\n]}", "{\"a\": [\n  N,\n  \"x\",\n  \"y\" // why\n]}", "{\"a\": [\n  \"x\",\n  \"y\", // why\n  N\n]}",
			"{\"a\": [\n  \"y\" // why\n]}", "{\"a\": [\n  \"x\"\n  // why\n]}"},
		{"json", `{"a": ["x",]}`, `{"a": [N, "x",]}`, `{"a": ["x", N,]}`, `{"a": []}`, `{"a": []}`},
		{"json", `{"a": []}`, `{"a": [N]}`, `{"a": [N]}`, "", ""},
		{"toml", "a = [\n\t'x', # one\n\t'y', # two\n]\n", "a = [\n\tN,\n\t'x', # one\n\t'y', # two\n]\n", "a = [\n\t'x', # one\n\t'y', # two\n\tN,\n]\n",
			"a = [\n\t# one\n\t'y', # two\n]\n", "a = [\n\t'x', # one\n\t# two\n]\n"},
		{"yaml", "a:\r\n  - x # one\r\n  - y\r\nb: 1\r\n", "a:\r\n  - N\r\n  - x # one\r\n  - y\r\nb: 1\r\n", "a:\r\n  - x # one\r\n  - y\r\n  - N\r\nb: 1\r\n",
			"a:\r\n  - y\r\nb: 1\r\n", "a:\r\n  - x # one\r\nb: 1\r\n"},
		{"yaml", "a: [x, 'y']\n", "a: [N, x, 'y']\n", "a: [x, 'y', N]\n", "a: ['y']\n", "a: [x]\n"},
		{"json", "{\"a\": [\"x\"/* , */ , // ,\n \"y\"]}", "{\"a\": [N,\n \"x\"/* , */ , // ,\n \"y\"]}", "{\"a\": [\"x\"/* , */ , // ,\n \"y\",\n N]}",
			"{\"a\": [/* , */ // ,\n \"y\"]}", "{\"a\": [\"x\"/* , */  // ,]}"},
		{"json", "{\"a\": [\"x\", \"y\" , ]}", "{\"a\": [N, \"x\", \"y\" , ]}", "{\"a\": [\"x\", \"y\", N , ]}", "{\"a\": [\"y\" , ]}", "{\"a\": [\"x\",  ]}"},
		{"json", "{\"a\": [\n \"x\"\n , \"y\"\n ]}", "{\"a\": [\n N, \"x\"\n , \"y\"\n ]}", "{\"a\": [\n \"x\"\n , \"y\", N\n ]}", "{\"a\": [\n \n \"y\"\n ]}", "{\"a\": [\n \"x\"\n \n ]}"},
		{"json", "{\"a\": [\"x\"/**/,/**/\"y\"/**/]}", "{\"a\": [N,\"x\"/**/,/**/\"y\"/**/]}", "{\"a\": [\"x\"/**/,/**/\"y\",N/**/]}", "{\"a\": [/**//**/\"y\"/**/]}", "{\"a\": [\"x\"/**//**//**/]}"},
		{"json", `{"a": ["x","y"]}`, `{"a": [N,"x","y"]}`, `{"a": ["x","y",N]}`, `{"a": ["y"]}`, `{"a": ["x"]}`},
		{"json", "{\"a\": [\n \"x\"\n]}", "{\"a\": [\n N,\n \"x\"\n]}", "{\"a\": [\n \"x\",\n N\n]}", "{\"a\": [\n \n]}", "{\"a\": [\n \n]}"},
		{"yaml", "a:\n- x\n- y", "a:\n- N\n- x\n- y", "a:\n- x\n- y\n- N", "a:\n- y", "a:\n- x"},
	} {
		read := map[string]func([]byte) (*text.Node, *text.Fault){"json": text.ReadJSON, "toml": text.ReadTOML, "yaml": text.ReadYAML}[test.name]
		doc := []byte(test.doc)
		root, fault := read(doc)
		if fault != nil {
			t.Errorf("%s: %v", test.doc, fault)
			continue
		}
		list := root.Get("a")
		try := func(what string, edits []text.Edit, want string) {
			if got, err := text.Apply(doc, edits); err != nil || string(got) != want {
				t.Errorf("%s in %q gives\n%q, %v; want\n%q", what, test.doc, got, err, want)
			}
		}
		try("insert first", list.InsertItem(doc, 0, "N"), test.insert0)
		try("insert last", list.InsertItem(doc, len(list.Items), "N"), test.insertEnd)
		if len(list.Items) > 0 {
			try("remove first", list.RemoveItem(doc, 0), test.remove0)
			try("remove last", list.RemoveItem(doc, len(list.Items)-1), test.removeEnd)
		}
	}
}

func TestQuoting(t *testing.T) {
	for s, want := range map[string][2]string{"plain": {"plain", `"plain"`}, "a,b": {`"a,b"`, `"a,b"`}, "": {`""`, `""`}, "two words": {"two words", `"two words"`}, "yes": {`"yes"`, `"yes"`}, "a\x7fb": {`"a\u007fb"`, `"a\u007fb"`}, "a\u2029b": {"\"a\u2029b\"", "\"a\u2029b\""}, "a\u2028b": {"\"a\u2028b\"", "\"a\u2028b\""}, "a\u0085b": {`"a\u0085b"`, `"a\u0085b"`}, "a\"b\\c\x01\x7f": {`"a\"b\\c\u0001\u007f"`, `"a\"b\\c\u0001\u007f"`}, "é\u00a0": {"\"é\u00a0\"", "\"é\u00a0\""}} {
		yaml, err := text.QuoteYAML(s)
		json, err2 := text.QuoteJSON(s)
		insist.That(t, err == nil && err2 == nil && yaml == want[0] && json == want[1], "%q is written as %s, %s, %v, %v; want %s", s, yaml, json, err, err2, want)
	}
	if got, err := text.QuoteXML(`<a b="c" d='e'> & f`); err != nil || got != "&lt;a b=&quot;c&quot; d=&apos;e&apos;&gt; &amp; f" {
		t.Errorf("for XML it is %s, %v", got, err)
	}
	for _, quote := range []func(string) (string, error){text.QuoteYAML, text.QuoteJSON} {
		if got, err := quote("\xff"); err == nil {
			t.Errorf("what is no UTF-8 is written as %q", got)
		}
	}
	if got, err := text.QuoteXML("a\x00"); err == nil {
		t.Errorf("a zero byte is written as %q", got)
	}
}

func TestReaderFaults(t *testing.T) {
	for _, test := range []struct {
		name, doc string
		line      int
	}{
		{"json", "{\n\"a\": x}", 2}, {"yaml", "a:\n  - x\n b: [", 2}, {"toml", "a = 1\na = 2\n", 2}, {"xml", "<a>\n<b></a>", 2}, {"xml", "<a>", 1},
		{"json", "", 1},
	} {
		var fault *text.Fault
		switch test.name {
		case "json":
			_, fault = text.ReadJSON([]byte(test.doc))
		case "yaml":
			_, fault = text.ReadYAML([]byte(test.doc))
		case "toml":
			_, fault = text.ReadTOML([]byte(test.doc))
		case "xml":
			_, fault = text.ReadXML([]byte(test.doc))
		}
		insist.That(t, fault != nil && fault.Line == test.line && fault.Message != "", "%s %q: fault %v, want line %d", test.name, test.doc, fault, test.line)
	}
	for name, doc := range map[string]string{"shell": "run 'x\n", "words": "a \"b", "unit": "[Service]\nExecStart=/x 'y\n", "env": "what\n"} {
		l := map[string]func([]byte) *text.Launch{"shell": text.ReadPOSIX, "words": text.ReadWords, "unit": text.ReadUnit, "env": text.ReadEnv}[name]([]byte(doc))
		insist.That(t, len(l.Faults) != 0 && l.Faults[0].Line >= 1, "%s %q has no fault", name, doc)
	}
}
