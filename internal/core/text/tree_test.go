package text_test

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/text"
	"initium/internal/insist"
)

// outline writes down what a document was read as: strings in quotes, other scalars as they
// are, each node with what it covers in the document where that is not what it says.
func outline(doc string, n *text.Node) string {
	raw := func(s text.Span) string { return string(s.In([]byte(doc))) }
	var b strings.Builder
	switch n.Kind {
	case text.NodeString:
		fmt.Fprintf(&b, "'%s'", n.Piece.Value)
		if raw(n.Span) != n.Piece.Value {
			fmt.Fprintf(&b, "<%s>", raw(n.Span))
		}
	case text.NodeScalar:
		b.WriteString(n.Literal)
		if raw(n.Span) != n.Literal {
			fmt.Fprintf(&b, "<%s>", raw(n.Span))
		}
	case text.NodeList:
		b.WriteString("[")
		for i, item := range n.Items {
			if i > 0 {
				b.WriteString(" ")
			}
			if item.Lead.Len() > 0 {
				fmt.Fprintf(&b, "(%s)", raw(item.Lead))
			}
			b.WriteString(outline(doc, item))
		}
		b.WriteString("]")
		if n.Flow {
			fmt.Fprintf(&b, "<%s>", raw(n.Span))
		}
	case text.NodeObject:
		b.WriteString("{")
		for i, m := range n.Members {
			if i > 0 {
				b.WriteString(" ")
			}
			b.WriteString(m.Name + "=" + outline(doc, m.Value))
		}
		b.WriteString("}")
		if n.Flow || n.Literal != "" {
			fmt.Fprintf(&b, "<%s>", raw(n.Span))
		}
	}
	return b.String()
}

var trees = map[string]func([]byte) (*text.Node, *text.Fault){"json": text.ReadJSON, "toml": text.ReadTOML, "yaml": text.ReadYAML, "xml": text.ReadXML}

func TestTreesAreRead(t *testing.T) {
	for _, test := range []struct{ format, doc, want string }{
		{"json", "{\"a\": 1, \"b\": [true, null, -2.5e3], \"c\": {\"d\": \"x\"}}", "{a=1 b=[true null -2.5e3]<[true, null, -2.5e3]> c={d='x'<\"x\">}<{\"d\": \"x\"}>}<{\"a\": 1, \"b\": [true, null, -2.5e3], \"c\": {\"d\": \"x\"}}>"},
		{"json", "[ \"\\u00e9\\ud83d\\ude00\" , \"\\ud83dx\", \"\\\\\\\"\\/\\b\" ] // end", "['é😀'<\"\\u00e9\\ud83d\\ude00\"> '�x'<\"\\ud83dx\"> '\\\"/\b'<\"\\\\\\\"\\/\\b\">]<[ \"\\u00e9\\ud83d\\ude00\" , \"\\ud83dx\", \"\\\\\\\"\\/\\b\" ]>"},
		{"json", "{/* a */ \"a\" /* b */: [1, 2,], // c\n}", "{a=[1 2]<[1, 2,]>}<{/* a */ \"a\" /* b */: [1, 2,], // c\n}>"},
		{"json", "\ufeff{\"a\": \"é\"}", "{a='é'<\"é\">}<{\"a\": \"é\"}>"},
		{"json", "{\"a\": \"1\", \"a\": \"2\"}", "{a='1'<\"1\"> a='2'<\"2\">}<{\"a\": \"1\", \"a\": \"2\"}>"},
		{"json", "{\"a.b\": {\"c\": []}}", "{a.b={c=[]<[]>}<{\"c\": []}>}<{\"a.b\": {\"c\": []}}>"},
		{"json", "{\"a\": \"\\x41\\u12\"}", "!1:7"},
		{"json", "{\"a\": 1}}", "!1:9"},
		{"json", "{\"a\": [1 2]}", "!1:10"},
		{"json", "{\n  \"a\": 'x'\n}", "!2:8"},
		{"toml", "a = 1\nb = \"x\" # c\n'c d' = 'y'\ne.f.g = true\n", "{a=1 b='x'<\"x\"> c d='y'<'y'> e={f={g=true}}}"},
		{"toml", "a = [ 1, \"x\", [ ], # c ]\n  'y', ]\n", "{a=[1 'x'<\"x\"> []<[ ]> 'y'<'y'>]<[ 1, \"x\", [ ], # c ]\n  'y', ]>}"},
		{"toml", "a = { b = 1, c.d = \"x\", e = { } } # f\n", "{a={b=1 c={d='x'<\"x\">} e={}<{ }>}<{ b = 1, c.d = \"x\", e = { } }>}"},
		{"toml", "[a.b]\nc = 1\n[[a.l]]\nd = 1\n[[a.l]]\nd = 2\n[a.l.e]\nf = 3\n", "{a={b={c=1} l=[{d=1} {d=2 e={f=3}}]}}"},
		{"toml", "a = \"\"\"\nx\n\"\"\"\nb = '''y'''\nc = \"\\t\\u00e9\"\n", "{a='\nx\n'<\"\"\"\nx\n\"\"\"> b='y'<'''y'''> c='\té'<\"\\t\\u00e9\">}"},
		{"toml", "\ufeffa = 1979-05-27T07:32:00Z\r\nb = 1_000\r\n", "{a=1979-05-27T07:32:00Z b=1_000}"},
		{"toml", "a = \n", "!1:5"},
		{"toml", "a = 1\n[a]\n", "!2:2"},
		{"yaml", "a: 1\nb: x # c\nc: \"d\\te\"\nf: 'g''h'\n\"i\": ~\n", "{a=1 b='x' c='d\te'<\"d\\te\"> f='g'h'<'g''h'> i=~}"},
		{"yaml", "- a\n-   b\n- - c\n  - d\n- e: f\n  g: h\n", "[(- )'a' (-   )'b' [(- )'c' (- )'d'] (- ){e='f' g='h'}]"},
		{"yaml", "a: [x, \"y, ]\", 'z]', {b: c, d: [e]}] # ]\nf: {g: h, # }\n  i: j}\n", "{a=['x' 'y, ]'<\"y, ]\"> 'z]'<'z]'> {b='c' d=['e']<[e]>}<{b: c, d: [e]}>]<[x, \"y, ]\", 'z]', {b: c, d: [e]}]> f={g='h' i='j'}<{g: h, # }\n  i: j}>}"},
		{"yaml", "a: &x b\nc: *x\nd: !!str 5\n", "{a=b<> c=x<*> d=5<>}"},
		{"yaml", "a: |\n  x\n  y\nb: >-\n  z\nc: x\n  y\n", "{a=x\ny\n<> b=z<> c=x y<x\n >}"},
		{"yaml", "a:\n  - x-y\n  - \"- z\"\n  - 5\nb: -\n", "!5:1"},
		{"yaml", "é:\n  - ünï\r\n  - b\r\n", "{é=[(- )'ünï' (- )'b']}"},
		{"yaml", "# only\n", "{}"},
		{"yaml", "a: b\n---\nc: d\n", "{a='b'}"},
		{"yaml", "a: [x, y\n", "!1:1"},
		{"yaml", "a: \"x\n  y\"\nb: 'z\n  w'\n", "{a=x y<\"x\n  y\"> b=z w<'z\n  w'>}"},
		{"yaml", "a: []\nb: {}\nc: [\n  x, # ]\n  y\n]\n", "{a=[]<[]> b={}<{}> c=['x' 'y']<[\n  x, # ]\n  y\n]>}"},
		{"yaml", "a: \"x\\\\\"\nb: \"y\\\"z\"\n", "{a='x\\'<\"x\\\\\"> b='y\"z'<\"y\\\"z\">}"},
		{"xml", "<a b=\"1\" c='2'><d/>x &amp; y<d e=\"f\"/></a>", "{a=[{@b='1'<\"1\"> @c='2'<'2'> d=[{}<<d/>> {@e='f'<\"f\">}<<d e=\"f\"/>>] #text='x & y'<x &amp; y>}<<a b=\"1\" c='2'><d/>x &amp; y<d e=\"f\"/></a>>]}"},
		{"xml", "<?xml version=\"1.0\"?>\r\n<a>\r\n  <b> t </b>\r\n</a>\r\n", "{a=[{b=[{#text='t'}<<b> t </b>>]}<<a>\r\n  <b> t </b>\r\n</a>>]}"},
		{"xml", "<a x:b=\"1\" b=\"2\"/>", "{a=[{@b='1'<\"1\"> @b='2'<\"2\">}<<a x:b=\"1\" b=\"2\"/>>]}"},
		{"xml", "<a b = \"1\"\n c\n=\n'2' />", "{a=[{@b='1'<\"1\"> @c='2'<'2'>}<<a b = \"1\"\n c\n=\n'2' />>]}"},
		{"xml", "<a bc=\"1\" b=\"2\" cb=\"b='3'\"/>", "{a=[{@bc='1'<\"1\"> @b='2'<\"2\"> @cb='b='3''<\"b='3'\">}<<a bc=\"1\" b=\"2\" cb=\"b='3'\"/>>]}"},
		{"xml", "<a><![CDATA[x]]><!-- <b/> -->y<?z w?></a>", "{a=[{#text='y'}<<a><![CDATA[x]]><!-- <b/> -->y<?z w?></a>>]}"},
		{"xml", "<a>&#65;&#x42;&lt;&gt;&quot;&apos;</a>", "{a=[{#text='AB<>\"''<&#65;&#x42;&lt;&gt;&quot;&apos;>}<<a>&#65;&#x42;&lt;&gt;&quot;&apos;</a>>]}"},
		{"xml", "<?xml version=\"1.0\" encoding=\"latin1\"?><a/>", "!1:1"},
		{"yaml", "a: [\n  x # ]\n]\nb: {c: d # }\n  }\n", "{a=['x']<[\n  x # ]\n]> b={c='d'}<{c: d # }\n  }>}"},
		{"yaml", "a: [x] # y\nb:\n  - c\n\n  - d\ne: f", "{a=['x']<[x]> b=[(- )'c' (- )'d'] e='f'}"},
		{"xml", "<a>\nx\n\t</a>", "{a=[{#text='x'}<<a>\nx\n\t</a>>]}"},
		{"xml", "<a x=\"\" y='' b=\"1\"/>", "{a=[{@x=''<\"\"> @y=''<''> @b='1'<\"1\">}<<a x=\"\" y='' b=\"1\"/>>]}"},
		{"xml", "<a x='b=\"9\"' b-c=\"1\" b=\"2\"/>", "{a=[{@x='b=\"9\"'<'b=\"9\"'> @b-c='1'<\"1\"> @b='2'<\"2\">}<<a x='b=\"9\"' b-c=\"1\" b=\"2\"/>>]}"},
		{"json", "{\"a\": [\"x\" // c,\n, \"y\" /* d */ ,]}", "{a=['x'<\"x\"> 'y'<\"y\">]<[\"x\" // c,\n, \"y\" /* d */ ,]>}<{\"a\": [\"x\" // c,\n, \"y\" /* d */ ,]}>"},
		{"xml", "<a></b>", "!1:4"},
		{"xml", "<a\nc=\"1\"\nb\n=\n'2'\n/>", "{a=[{@c='1'<\"1\"> @b='2'<'2'>}<<a\nc=\"1\"\nb\n=\n'2'\n/>>]}"},
		{"yaml", "a: [x, # ],\n  y, {z: [w, # ]\n  ]}, ']'] # }\nb: c", "{a=['x' 'y' {z=['w']<[w, # ]\n  ]>}<{z: [w, # ]\n  ]}> ']'<']'>]<[x, # ],\n  y, {z: [w, # ]\n  ]}, ']']> b='c'}"},
	} {
		root, fault := trees[test.format]([]byte(test.doc))
		got := ""
		if fault != nil {
			got = fmt.Sprintf("!%d:%d", fault.Line, fault.Column)
		} else {
			got = outline(test.doc, root)
		}
		insist.Same(t, fmt.Sprintf("%s %q is read as", test.format, test.doc), got, test.want)
	}
}

// TestPiecesAreWritten looks at the very bytes: what becomes of a document when one of its
// pieces is to mean something else. - is a refusal.
func TestPiecesAreWritten(t *testing.T) {
	for _, test := range []struct {
		notation, doc string
		piece         int
		want, written string
	}{
		{"ini", "a = x\n", 0, "y z", "a = y z\n"},
		{"ini", "a = \"x\"\n", 0, "y", "a = \"y\"\n"},
		{"shell", "run a", 0, "b c", "run b\\ c"},
		{"shell", "run a", 0, "$x\"'\\", "run \\$x\\\"\\'\\\\"},
		{"shell", "run \"a\"", 0, "b $c\"d", "run \"b \\$c\\\"d\""},
		{"shell", "run 'a'", 0, "it's", "run 'it'\\''s'"},
		{"shell", "run a 2>x", 0, "5", "run 5 2>x"},
		{"shell", "run a>x", 0, "5", "run '5'>x"},
		{"shell", "run a>x", 0, "b5", "run b5>x"},
		{"shell", "run 'a'b", 0, "ac", "run 'a'c"},
		{"shell", "run a\\ b", 0, "a b!", "run a\\ b!"},
		{"shell", "run a~", 0, "~b", "run \\~b"},
		{"shell", "A=x run", 0, "y z", "A=y\\ z run"},
		{"batch", "run a", 0, "b c", "run \"b c\""},
		{"batch", "run a", 0, "b&c", "run b^&c"},
		{"batch", "run a", 0, "5%", "run 5%%"},
		{"batch", "run a", 0, "b\"c", "-"},
		{"batch", "run \"a\"", 0, "b&c", "run \"b&c\""},
		{"batch", "run \"\"", 0, "x", "run \"x\""},
		{"batch", "run a\" \"b", 0, "a xb", "run \"a xb\""},
		{"batch", "set \"A=x\"\n", 0, "y&z", "set \"A=y&z\"\n"},
		{"batch", "set A=x\n", 0, "y&z", "set A=y^&z\n"},
		{"batch", "set A=x\n", 0, "y z", "set A=\"y z\"\n"},
		{"batch", "run a^^b", 0, "a^c", "run a^^c"},
		{"batch", "run a", 0, "(b)", "run ^(b^)"},
		{"unit", "[Service]\nExecStart=/x a", 0, "b c", "[Service]\nExecStart=/x b\\sc"},
		{"unit", "[Service]\nExecStart=/x a", 0, "b\"c'd\\e%f$g", "[Service]\nExecStart=/x b\\\"c\\'d\\\\e%%f$$g"},
		{"unit", "[Service]\nExecStart=/x \"a\"", 0, "b\"c d", "[Service]\nExecStart=/x \"b\\\"c d\""},
		{"unit", "[Service]\nExecStart=/x 'a'", 0, "b'c", "[Service]\nExecStart=/x 'b\\'c'"},
		{"unit", "[Service]\nExecStart=/x \"a%%b\"", 0, "a%c", "[Service]\nExecStart=/x \"a%%c\""},
		{"unit", "[Service]\nEnvironment=\"A=b c\"\nExecStart=/x", 0, "b d", "[Service]\nEnvironment=\"A=b d\"\nExecStart=/x"},
		{"env", "A=b\n", 0, "c d", "A=c d\n"},
		{"env", "A=\"b\"\n", 0, "c\"d", "-"},
		{"env", "A='b'\n", 0, "c'd", "-"},
		{"words", "x a", 0, "b c", "x b\\ c"},
		{"words", "x a", 0, "b\"c'd\\e", "x b\\\"c\\'d\\\\e"},
		{"words", "x \"a\"", 0, "b\"c\\d", "x \"b\\\"c\\\\d\""},
		{"words", "x 'a'", 0, "it's", "-"},
		{"words", "x a\\b", 0, "a\\\\c", "x a\\\\\\\\c"},
		{"words", "x \"a\"b", 0, "ab!", "x \"a\"b!"},
		{"json", "[\"a\"]", 0, "b\"c\\d\te", "[\"b\\\"c\\\\d\\u0009e\"]"},
		{"json", "[\"aéb\"]", 0, "aèb", "[\"aèb\"]"},
		{"json", "[\"\\u0041b\"]", 0, "Ac", "[\"\\u0041c\"]"},
		{"json", "[\"x\"]", 0, "\u0085", "[\"\\u0085\"]"},
		{"toml", "a = 'x'", 0, "it's", "-"},
		{"toml", "a = \"x\"", 0, "it's \"y\"", "a = \"it's \\\"y\\\"\""},
		{"toml", "a = \"\"\"x\"\"\"", 0, "y", "-"},
		{"yaml", "a: x\n", 0, "y z", "a: y z\n"},
		{"yaml", "a: x\n", 0, "true", "a: \"true\"\n"},
		{"yaml", "a: x\n", 0, "No", "a: \"No\"\n"},
		{"yaml", "a: x\n", 0, "5", "a: \"5\"\n"},
		{"yaml", "a: x\n", 0, "~", "a: \"~\"\n"},
		{"yaml", "a: x\n", 0, "y: z", "a: \"y: z\"\n"},
		{"yaml", "a: x\n", 0, "y:", "a: \"y:\"\n"},
		{"yaml", "a: x\n", 0, "y#z", "a: \"y#z\"\n"},
		{"yaml", "a: x\n", 0, "-y", "a: \"-y\"\n"},
		{"yaml", "a: x\n", 0, "2026-01-02", "a: \"2026-01-02\"\n"},
		{"yaml", "a: x\n", 0, "a,b", "a: a,b\n"},
		{"yaml", "a: x\n", 0, "a\u0085b", "a: \"a\\u0085b\"\n"},
		{"yaml", "a: x\n", 0, "a\ufeffb", "a: \"a\ufeffb\"\n"},
		{"yaml", "a: x\n", 0, "a\u2028b", "a: \"a\u2028b\"\n"},
		{"yaml", "a: [x]\n", 0, "a,b", "a: [\"a,b\"]\n"},
		{"yaml", "a: [x]\n", 0, "a b", "a: [a b]\n"},
		{"yaml", "a: 'x'\n", 0, "it's", "a: 'it''s'\n"},
		{"yaml", "a: \"x\"\n", 0, "say \"y\"", "a: \"say \\\"y\\\"\"\n"},
		{"yaml", "a: xé\n", 0, "xè", "a: xè\n"},
		{"yaml", "a: x\n", 0, "a\u2029b", "a: \"a\u2029b\"\n"},
		{"yaml", "a: x\n", 0, "y ", "a: \"y \"\n"},
		{"yaml", "a: x\n", 0, "%y", "a: \"%y\"\n"},
		{"yaml", "a: x\n", 0, "0x1f", "a: \"0x1f\"\n"},
		{"yaml", "a: x\n", 0, "y: ", "a: \"y: \"\n"},
		{"shell", "run \"a\"'b'c", 0, "aXc", "run \"a\"'X'c"},
		{"shell", "run \"\"", 0, "x", "run \"x\""},
		{"words", "x ''", 0, "it is", "x 'it is'"},
		{"unit", "[Service]\nExecStart=/x \"\"", 0, "y z", "[Service]\nExecStart=/x \"y z\""},
		{"unit", "[Service]\nExecStart=/x a", 0, "tab\there", "[Service]\nExecStart=/x tab\\there"},
		{"json", "[\"aéc\"]", 0, "aéçc", "[\"aéçc\"]"},
		{"xml", "<a>x</a>", 0, "a\u0007b", "-"},
		{"xml", "<a>x</a>", 0, "y<z>&\"'", "<a>y&lt;z&gt;&amp;\"'</a>"},
		{"xml", "<a b=\"x\"/>", 0, "y<z>&\"'", "<a b=\"y&lt;z&gt;&amp;&quot;'\"/>"},
		{"xml", "<a b='x'/>", 0, "y<z>&\"'", "<a b='y&lt;z&gt;&amp;\"&apos;'/>"},
		{"xml", "<a>x</a>", 0, " y", "-"},
		{"xml", "<a b=\"x\"/>", 0, " y ", "<a b=\" y \"/>"},
		{"xml", "<a>x &amp; y</a>", 0, "x & z", "<a>x &amp; z</a>"},
		{"xml", "<a>x&#65;y</a>", 0, "xBy", "<a>xBy</a>"},
		{"xml", "<a b=\"\\\"/>", 0, "c", "<a b=\"c\"/>"},
	} {
		list := readers[test.notation]([]byte(test.doc))
		if test.piece >= len(list) {
			t.Errorf("%s %q has %d pieces", test.notation, test.doc, len(list))
			continue
		}
		got := "-"
		if edits, err := list[test.piece].Becomes(test.want); err == nil {
			after, err := text.Apply([]byte(test.doc), edits)
			insist.OK(t, err)
			got = string(after)
		}
		insist.Same(t, fmt.Sprintf("%s %q %d %q is written as", test.notation, test.doc, test.piece, test.want), got, test.written)
	}
}

// A comment that begins its line stands between the items of a list, in every notation that
// has comments: it is passed over.
func TestCommentsThatBeginTheirLine(t *testing.T) {
	for name, test := range map[string]struct {
		read func([]byte) (*text.Node, *text.Fault)
		doc  string
	}{
		"toml":  {text.ReadTOML, "mods = [\n# before\n  'a'\n# behind\n,\n# last\n]\n"},
		"json":  {text.ReadJSON, "{\"mods\": [\n// before\n\"a\"\n// behind\n,\n\"b\"]}\n"},
		"yaml":  {text.ReadYAML, "mods: [a\n# behind\n]\n"},
		"yaml2": {text.ReadYAML, "mods:\n# before\n- a\n# behind\n- b\n"},
	} {
		root, fault := test.read([]byte(test.doc))
		if fault != nil {
			t.Errorf("%s: %v", name, fault)
			continue
		}
		list := root.Get("mods")
		if list == nil || len(list.Items) == 0 || list.Items[0].Piece.Value != "a" {
			t.Errorf("%s: it reads %+v", name, list)
			continue
		}
		out, err := text.Apply([]byte(test.doc), list.RemoveItem([]byte(test.doc), 0))
		if _, fault := test.read(out); err != nil || fault != nil {
			t.Errorf("%s: without its first item it is %q, %v, %v", name, out, err, fault)
		}
	}
}
