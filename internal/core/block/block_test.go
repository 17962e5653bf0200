package block_test

import (
	"strings"
	"testing"

	"initium/internal/core/block"
	"initium/internal/insist"
)

const script = "// all of it }\nclass Boat {\n\tname = \"a } in quotes\"; /* and { here */\n\tcargo() {\n\t\treturn [1, 2];\n\t}\n};\nclass Pier\n{\n\tlong = 3;\n};\ncall go();\n"

const lua = "-- end\nlocal t = {\n  a = [[ end ]],\n  b = 2 -- last\n}\nfunction land(x)\n  if x then\n    for i = 1, 2 do print(\"end\") end\n  else\n    repeat x = 1 until x\n  end\nend\nreturn t\n"

func TestFind(t *testing.T) {
	for _, c := range []struct{ file, doc, first, want, fails string }{
		{"a.x", script, "class Boat {", script[strings.Index(script, "class Boat"):strings.Index(script, "class Pier")], ""},
		{"a.x", script, "  cargo() {  ", "\tcargo() {\n\t\treturn [1, 2];\n\t}\n", ""},
		{"a.x", script, "class Pier", "class Pier\n{\n\tlong = 3;\n};\n", ""},
		{"a.x", script, "call go();", "call go();\n", ""},
		{"a.x", script, "long = 3;", "\tlong = 3;\n", ""},
		{"a.lua", lua, "function land(x)", lua[strings.Index(lua, "function"):strings.Index(lua, "return t")], ""},
		{"a.lua", lua, "if x then", "  if x then\n    for i = 1, 2 do print(\"end\") end\n  else\n    repeat x = 1 until x\n  end\n", ""},
		{"a.lua", lua, "local t = {", lua[strings.Index(lua, "local"):strings.Index(lua, "function")], ""},
		{"a.x", "a\n\n[1]\nb\n", "a", "a\n\n[1]\n", ""},
		{"a.x", "a\nb [\n]\n", "a", "a\n", ""},
		{"a.x", "a\n]\n", "a", "a\n", ""},
		{"a.x", "a", "a", "a", ""},
		{"a.x", script, "class Ship {", "", "no line"},
		{"a.x", script, " ", "", "with which line"},
		{"a.x", script, "};", "", "on the lines 7, 11"},
		{"a.x", script, "{", "{\n\tlong = 3;\n};\n", ""},
		{"a.x", "a {\n b {\n}\n", "a {", "", "never closed"},
		{"a.x", "}\nx\n", "}", "", "closes more than the block"},
		{"a.x", "x = \"open\ny\n", "y", "", "is not closed on this line"},
		{"a.x", "/* open\ny\n", "y", "", "never closed"},
	} {
		l := block.LanguageOf(c.file, "")
		got, err := l.Find([]byte(c.doc), c.first)
		if c.fails != "" {
			insist.Fails(t, c.first, err, c.fails)
			continue
		}
		insist.That(t, err == nil, "%s: %v", c.first, err)
		insist.Same(t, c.first, string(got.In([]byte(c.doc))), c.want)
	}
}

func TestBalanced(t *testing.T) {
	for _, c := range []struct{ file, comment, doc, want string }{
		{"a.x", "", script, ""}, {"a.lua", "", lua, ""},
		{"a.x", "", "a {\n  b [\n}\n", "line 3, column 1: } closes the [ of line 2"},
		{"a.x", "", "a {\n", "line 1, column 3: { is never closed"},
		{"a.x", "", "a }\n", "line 1, column 3: } closes nothing"},
		{"a.x", "#", "a # }\n", ""}, {"a.x", "", "a # }\n", "closes nothing"},
		{"a.sql", "", "x 'it''s (' ; -- (\n", ""}, {"a.x", "", "x 'it\\'s ('", ""},
		{"a.lua", "", "if x then\n", "if is never closed"}, {"a.lua", "", "repeat x() end\n", "end closes the repeat of line 1"}, {"a.lua", "", "x = [[ open", "never closed"},
		{"a.lua", "", "local end2 = dofile\nx(end1)\n", ""}, {"a.lua", "", "( end\n)", "end closes the ( of line 1"}, {"a.lua", "", "do until x", "until closes the do of line 1"},
		{"a.x", "", "a // }", ""}, {"a.x", "", "\"a\\\"{\"", ""}, {"a.x", "", "'\\\\'{}", ""},
		{"a.x", "", "\x00\x01", "this is not a text file"},
	} {
		l := block.LanguageOf(c.file, c.comment)
		fault := l.Balanced([]byte(c.doc))
		insist.That(t, (fault == nil) == (c.want == "") && (fault == nil || strings.Contains(fault.Error(), c.want)), "%q: %v, want %q", c.doc, fault, c.want)
	}
}

func TestReplace(t *testing.T) {
	l := block.LanguageOf("a.x", "")
	now, err := l.Replace([]byte(strings.ReplaceAll(script, "\n", "\r\n")), "cargo() {", []byte("\tcargo() {\n\t\treturn [];\n\t}"))
	insist.OK(t, err)
	insist.Same(t, "in its line endings", string(now), strings.ReplaceAll(strings.Replace(script, "[1, 2]", "[]", 1), "\n", "\r\n"))
	now, err = l.Replace([]byte("a {\n}"), "a {", []byte("b {\n}\n\n"))
	insist.That(t, err == nil && string(now) == "b {\n}", "at the end: %q, %v", now, err)
	for _, c := range []struct{ doc, first, put, fails string }{
		{script, "class Boat {", "class Boat {", "the brackets of what is to be put there do not close: line 1"},
		{script + "}", "class Boat {", "x", "its brackets do not close as it is"},
		{script, "class Boat {", " \n", "nothing in what"},
		{script, "class Boat", "x", "no line"},
	} {
		_, err := l.Replace([]byte(c.doc), c.first, []byte(c.put))
		insist.Fails(t, c.put, err, c.fails)
	}
}

func TestAdd(t *testing.T) {
	for _, c := range []struct{ file, doc, first, put, want, fails string }{
		{"a.x", "jobs = [\n  \"a\",\n  \"b\" // last\n];\n", "jobs = [", "  \"c\",\n", "jobs = [\n  \"a\",\n  \"b\", // last\n  \"c\"\n];\n", ""},
		{"a.x", "jobs = [\n  \"a\",\n];\n", "jobs = [", "  \"c\"", "jobs = [\n  \"a\",\n  \"c\",\n];\n", ""},
		{"a.x", "class Jobs\n{\n  class A {};\n};\n", "class Jobs", "  class B\n  {\n  };\n", "class Jobs\n{\n  class A {};\n  class B\n  {\n  };\n};\n", ""},
		{"a.x", "urls = [\n  \"http://a\", /* one, */\n  \"b,\" /* last,\n   of them */\n];\n", "urls = [", "  \"c\"", "urls = [\n  \"http://a\", /* one, */\n  \"b,\", /* last,\n   of them */\n  \"c\"\n];\n", ""},
		{"a.x", "n = [\n  1, // one\n\n  // 2,\n];\n", "n = [", "  3", "n = [\n  1, // one\n\n  // 2,\n  3,\n];\n", ""},
		{"a.x", "n = [\n  '//', // one\n  2\n];\n", "n = [", "  3,", "n = [\n  '//', // one\n  2,\n  3\n];\n", ""},
		{"a.x", "n [\n  { 1 }\n  { 2 }\n]\n", "n [", "  { 3 }", "n [\n  { 1 }\n  { 2 }\n  { 3 }\n]\n", ""},
		{"a.x", "n\n\n[\n  1,\n  2\n]\n", "n", "  3", "n\n\n[\n  1,\n  2,\n  3\n]\n", ""},
		{"a.x", "jobs = [\n];\n", "jobs = [", "1", "jobs = [\n1\n];\n", ""},
		{"a.lua", lua, "local t = {", "  c = 3,", strings.Replace(lua, "b = 2 -- last\n", "b = 2 -- last\n  c = 3,\n", 1), ""},
		{"a.x", "jobs = [1];\n", "jobs = [", "2", "", "no line"},
		{"a.x", "jobs = [1];\n", "jobs = [1];", "2", "", "stands on one line"},
	} {
		l := block.LanguageOf(c.file, "")
		now, err := l.Add([]byte(c.doc), c.first, []byte(c.put))
		if c.fails != "" {
			insist.Fails(t, c.doc, err, c.fails)
			continue
		}
		if c.file == "a.lua" {
			c.want = strings.Replace(c.want, "b = 2 -- last\n  c = 3,\n", "b = 2, -- last\n  c = 3\n", 1)
		}
		insist.That(t, err == nil, "%s: %v", c.doc, err)
		insist.Same(t, c.doc, string(now), c.want)
	}
}

func TestPutAt(t *testing.T) {
	const doc = "{\n  // mine\n  \"a\": {\n    \"b\": {\"c\": 1}, \"d\": 2\n  }\n}\n"
	now, err := block.PutAt([]byte(doc), "a.b", []byte("{\n  \"c\": 2\n}\n"))
	insist.OK(t, err)
	insist.Same(t, "an object", string(now), strings.Replace(doc, `{"c": 1}`, "{\n      \"c\": 2\n    }", 1))
	for _, c := range []struct{ at, put, fails string }{{"a.x", "1", "nothing at"}, {"", "1", "nothing at"}, {"a.b", "{", "no JSON"}} {
		_, err := block.PutAt([]byte(doc), c.at, []byte(c.put))
		insist.Fails(t, c.at, err, c.fails)
	}
}

// FuzzReplace puts a block in the place of any other: what stands before and behind is the same bytes, and all
// brackets close.
func FuzzReplace(f *testing.F) {
	f.Add([]byte(script), "class Boat {", []byte("x {\n}"), false)
	f.Add([]byte(lua), "if x then", []byte("y()"), true)
	f.Add([]byte("a (\n(\n)\n)"), "(", []byte("[]\n"), false)
	f.Fuzz(func(t *testing.T, doc []byte, first string, put []byte, isLua bool) {
		l := block.LanguageOf(map[bool]string{true: "a.lua", false: "a.x"}[isLua], "")
		at, err := l.Find(doc, first)
		if err != nil {
			return
		}
		now, err := l.Replace(doc, first, put)
		if err == nil {
			if !strings.HasPrefix(string(now), string(doc[:at.Start])) || !strings.HasSuffix(string(now), string(doc[at.End:])) {
				t.Fatalf("%q with %q in the place of %q gives %q", doc, put, first, now)
			}
		}
		if now, err := l.Add(doc, first, put); err == nil && l.Balanced(now) != nil {
			t.Fatalf("%q with %q in %q gives %q", doc, put, first, now)
		}
	})
}
