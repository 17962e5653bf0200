package text_test

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/text"
	"initium/internal/insist"
)

func form(t testing.TB, source string) *text.Form {
	t.Helper()
	f, err := text.ParseForm(source, []string{"#", "//"}, nil)
	insist.Need(t, err == nil, "%q: %v", source, err)
	return f
}

// A line fits a form whatever its blanks, quotes and comment are.
func TestFormsOfOneLine(t *testing.T) {
	for _, test := range []struct{ form, line, want string }{
		{"load {mod};", "load a;", "a"},
		{"load {mod};", "load   \"a b\" ;", ""},
		{"load {mod} ;", "load   \"a b\"   ; # why", "a b"},
		{"load {mod};", "load 'a';// why", "a"},
		{"load {mod};", "load a", ""},
		{"set ={mod}", "set=a", "a"},
		{" load {mod}\t", "load a", "a"},
		{"A {mod}", "Aa", ""},
		{"fuzz {mod}", "fuzza", ""},
		{"set to {mod}", "setto a", ""},
		{"load {mod};", "loada;", ""},
		{"load {mod};", "reload a;", ""},
		{"load {mod}", "load a#b", "a#b"},
		{"load {mod}", "load a # b", "a"},
		{"load {mod}", "load a b", ""},
		{"load {mod} {any}", "load a", "a"},
		{"load {mod} {any}", "load a b c # d", "a"},
		{"load {mod} {any};", "load a;", "a"},
		{`use("{mod}")`, `use("a b")`, "a b"},
		{`use("{mod}")`, `use('a')`, ""},
		{"{mod} = on", "a=on", "a"},
		{"{mod} = on", "\ta  =  on  ", "a"},
		{"{mod}", "a b", ""},
		{"set {{{mod}}}", "set {a}", "a"},
		{"größe {mod}", "größe  a", "a"},
	} {
		name, ok := form(t, test.form).Reads([]byte(test.line))
		insist.Same(t, fmt.Sprintf("%q as %q", test.line, test.form), fmt.Sprint(name, ok), fmt.Sprint(test.want, test.want != ""))
	}
	for source, want := range map[string]string{
		"": "line 1 has nothing", "a\n\nb": "line 2 has nothing", "a\nb\nc\nd": "it has 4 lines", "{mod": "without its }", "{mod}{any}": "two placeholders",
	} {
		_, err := text.ParseForm(source, nil, nil)
		insist.Fails(t, source, err, want)
	}
}

// sketch writes down what was read by forms: each statement with its lines, and what hides it.
func sketch(doc string, style text.FormStyle) string {
	read, fault := text.ReadForms([]byte(doc), style)
	if fault != nil {
		return fmt.Sprintf("%d:%d %s", fault.Line, fault.Column, fault.Message)
	}
	var words []string
	for _, e := range read.Entries {
		first, _ := text.Position([]byte(doc), e.Line.Start)
		last, _ := text.Position([]byte(doc), e.Line.End-1)
		off := strings.Repeat("-", len(e.Off))
		words = append(words, fmt.Sprintf("%s%s:%d-%d", off, e.Names[0].In([]byte(doc)), first, last))
	}
	for _, s := range read.Settings {
		words = append(words, fmt.Sprintf("%s%s=%s", strings.Repeat("-", min(s.Off.Len(), 1)), s.Name, s.Value.In([]byte(doc))))
	}
	for _, o := range read.Other {
		words = append(words, fmt.Sprintf("?%s", strings.TrimSpace(string(o.Text.In([]byte(doc))))))
	}
	return strings.Join(words, " ")
}

func formStyle(t testing.TB) text.FormStyle {
	return text.FormStyle{
		Forms:    []*text.Form{form(t, "load {mod};"), form(t, "mod {mod} {{\n}}"), form(t, "<mod {mod}>\n</mod>")},
		Settings: []*text.Form{form(t, "{name} = {value};")},
		Within:   form(t, "server {{\n}}"),
		Skip:     []*text.Form{form(t, "#if 0\n#else\n#endif"), form(t, "/*{any}\n{any}*/"), form(t, "old {any}")},
		Comment:  []string{"//"},
	}
}

// Blocks end where their own bracket does, or the line that closes them; what is skipped and
// what stands elsewhere does not count; what is hidden is whole or prose.
func TestFormsInBlocks(t *testing.T) {
	in := func(body string) string { return "x = 'y';\nload far;\nserver { // s\n" + body + "}\nload farther;\n" }
	for name, test := range map[string]struct{ doc, want string }{
		"lines":                   {in("load a;\n  load b; // w\n"), "a:4-4 b:5-5 x='y'"},
		"settings anywhere":       {in("p = 1;\n// q = 2;\n"), "x='y' p=1 -q=2"},
		"brackets within":         {in("mod a {\n x { y; }\n \"}\" + '}';\n // }\n}\nload b;\n"), "a:4-8 b:9-9 x='y'"},
		"a block on one line":     {in("mod a { x; }\nload b;\n"), "a:4-4 b:5-5 x='y'"},
		"more behind the bracket": {in("mod a { x;\n y }\nload b;\n"), "a:4-5 b:6-6 x='y'"},
		"tags within":             {in("<mod a>\n<mod z>\n</mod>\n</mod>\nload b;\n"), "a:4-7 b:8-8 x='y'"},
		"hidden":                  {in("// load a;\n//mod b {\n//   x;\n\n// }\n// mod c {\nload d;\n"), "-a:4-4 ---b:5-8 d:10-10 x='y'"},
		"skipped":                 {in("#if 0\nload z;\n#if 1\nload y;\n#else\n#endif\n#else\nload a;\n#endif\nold load w;\n/* load v;\n load u; */\n"), "a:11-11 x='y' ?#endif"},
		"other":                   {in("lod a;\nload b\n"), "x='y' ?lod a; ?load b"},
		"never closed":            {"server {\nload a;\n", "1:1 the block that opens here is never closed"},
		"nor this":                {in("<mod a>\n"), "4:1 the block that opens here is never closed"},
		"nor what is skipped":     {in("/* load a;\n"), "4:1 the part that opens here is never closed"},
		"twice":                   {"server {\n}\nserver {\n}\n", "3:1 \"server {\" opens a second time here; only one of them can be meant"},
		"not there":               {"load a;\n", "2:1 \"server {\" is not in this file; add it, empty, and try again"},
		"on one line":             {"server { load a; }\n", "1:1 this block stands on one line; give what is in it lines of their own, and try again"},
		"the second is skipped":   {"server {\n}\n/* server {\n} */\n", ""},
	} {
		insist.Same(t, name, sketch(test.doc, formStyle(t)), test.want)
		insist.Same(t, name+", in Windows", sketch(strings.ReplaceAll(test.doc, "\n", "\r\n"), formStyle(t)), test.want)
	}
}

// A list in brackets is read wherever its brackets and commas are.
func TestBracketed(t *testing.T) {
	for name, test := range map[string]struct{ doc, want string }{
		"one line":          {"x = 1\nmods = { a, 'b c';\"d\" }\n", "a|b c|d"},
		"many":              {"mods={\n// z,\n a,// y\n\n  b\n}\nq = { w }\n", "a|b"},
		"empty":             {"mods = {}\n", ""},
		"none parted":       {"mods = { a b }\n", "1:12 \"b\" is not parted from the item before"},
		"glued":             {"mods = { 'a'b }\n", "1:13 something stands here between two items that is no item"},
		"a list in it":      {"mods = { a, { b } }\n", "1:13 \"{\" stands here, which is no item of a list of names"},
		"another bracket":   {"mods = { a ) }\n", "1:12 \")\" stands here, which is no item of a list of names"},
		"a quote":           {"mods = { 'a\n' }\n", "1:10 the quote ' opens here and is not closed on this line"},
		"a backslash":       {"mods = { \"a\\n\" }\n", "1:10 this text has a backslash in it, which is not read here"},
		"not closed":        {"mods = { a,\n", "1:8 the list that opens here is never closed"},
		"twice":             {"mods = { a }\nmods = {\n}\n", "2:1 \"mods = {\" opens a second time here; only one of them can be meant"},
		"within itself":     {"mods = {\n mods,\n}\n", "mods"},
		"in a comment only": {"// mods = { a }\n", "2:1 \"mods = {\" is not in this file; add it, empty, and try again"},
	} {
		n, fault := text.ReadBracketed([]byte(test.doc), form(t, "mods = {{\n}}"), ",;", []string{"//"})
		got := ""
		if fault != nil {
			got = fmt.Sprintf("%d:%d %s", fault.Line, fault.Column, fault.Message)
		} else {
			var names []string
			for _, item := range n.Items {
				names = append(names, item.Piece.Value)
			}
			got = strings.Join(names, "|")
		}
		insist.Same(t, name, got, test.want)
	}
}

func FuzzBracketed(f *testing.F) {
	for _, seed := range []string{"mods = { a, 'b' ;\n// c\n}", "mods = {\n\t\"a\"; // w\n\tb\n}"} {
		f.Add([]byte(seed), 0)
	}
	within := form(f, "mods = {{\n}}")
	f.Fuzz(func(t *testing.T, doc []byte, at int) {
		n, fault := text.ReadBracketed(doc, within, ";,", []string{"//"})
		if fault != nil {
			return
		}
		at = max(at, 0) % (len(n.Items) + 1)
		put, err := text.Apply(doc, n.InsertItem(doc, at, "fresh"))
		insist.OK(t, err)
		more, fault := text.ReadBracketed(put, within, ";,", []string{"//"})
		insist.Need(t, fault == nil && len(more.Items) == len(n.Items)+1 && more.Items[at].Piece.Value == "fresh", "%q: %v", put, fault)
		back, err := text.Apply(put, more.RemoveItem(put, at))
		insist.OK(t, err)
		again, fault := text.ReadBracketed(back, within, ";,", []string{"//"})
		insist.Need(t, fault == nil && len(again.Items) == len(n.Items), "%q: %v", back, fault)
	})
}

func FuzzForms(f *testing.F) {
	for _, seed := range []string{"server {\nload a;\n// mod b {\n// }\n}", "<mod a>\n</mod>", "server {\n/*\n*/\nmod 'a' { x \"}\" }\np = ;\n}"} {
		f.Add([]byte(seed), true)
	}
	within, whole := formStyle(f), formStyle(f)
	whole.Within = nil
	f.Fuzz(func(t *testing.T, doc []byte, inside bool) {
		style := whole
		if inside {
			style = within
		}
		read, fault := text.ReadForms(doc, style)
		if fault != nil {
			return
		}
		at := 0
		for _, e := range read.Entries {
			insist.That(t, e.Line.Start >= at && e.Line.End <= len(doc) && e.Text.Start >= e.Line.Start && e.Text.End <= e.Line.End, "lines %v, text %v of %q", e.Line, e.Text, doc)
			at = e.Line.End
			for _, s := range append(append([]text.Span{}, e.Names...), e.Off...) {
				insist.That(t, s.Len() > 0 && s.Start >= e.Line.Start && s.End <= e.Line.End, "%v of %q", s, doc)
			}
		}
	})
}
