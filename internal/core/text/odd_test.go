package text_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/text"
	"initium/internal/golden"
)

// snippets are what documents of each notation are thrown together from.
var snippets = map[string][]string{
	"json":   {"{", "}", "[", "]", ",", ":", "\"a\"", "\"b\": ", "\"c\\\"\\n\\u00e9\\\\\"", "\"\\ud83d\\ude00\"", "1", "true", "null", " ", "\n", "  ", "// x\n", "/* y */", "{\"k\": [1, \"v\"], \"l\": {}}", "[\"x\", \"y\"]", "[\n  \"p\",\n  \"q\" // r\n]", "-2.5e3", "\"", "\\", "\"\\ud800x\"", "\"\\ud83d\\u0041\"", "\"\\/\""},
	"yaml":   {"a: ", "b:\n", "  c: 1\n", "- x\n", "  - y\n", "  - 'it''s'\n", "- \"q\\n\\x41\\u00e9\"\n", "# note\n", "\n", "[p, 'q', \"r\"]\n", "{k: v, l: [1]}\n", "d: |\n  text\n  more\n", "e: >\n  folded\n", "~\n", "true\n", "? z\n", "&n ", "*n\n", "    ", "\t", "'", "f: [\n  g,\n  h # i\n]\n", "---\n", "key: a b # c\n"},
	"toml":   {"a = 1\n", "b = \"x\\ty\"\n", "c = 'z'\n", "[s]\n", "[s.t]\n", "[[u]]\n", "d = [1, \"p\", 'q']\n", "e = [\n  \"r\", # n\n  's',\n]\n", "f = {g = 1, h = 'i'}\n", "# c\n", "\n", "\"k l\" = true\n", "m.n = 2024-05-01\n", "o = \"\"\"\nlong\n\"\"\"\n", "p = '''raw'''\n", "[", "]", "= 1\n", "\"", "  "},
	"xml":    {"<a>", "</a>", "<b c='d' e=\"f&amp;g\"/>", "<b>", "</b>", "text", "&lt;&#65;&#x42;", "<!-- n -->", "<![CDATA[x<y]]>", "\n", "  ", "<?xml version='1.0'?>", "<h i = 'j' >k</h>", "<", ">", "&", "'", "<l/>", "<m>1</m>", "<m>2</m>", "<n\n o='p'\n/>"},
	"ini":    {"[s]\n", "[t u]\n", "a=1\n", "b = \"x y\"\n", " c='z' ; n\n", "d\n", "; e = 2\n", "#f=3\n", "\n", "g: h\n", "=\n", "[", "i = \n", "j = a=b\n", "\t k = 5 # m\r\n", "[]\n", "a=2\n"},
	"kv":     {"a = 1\n", "b=2\n", "# c = 3\n", "d\n", "e = {\nx\n}\n", "f = \"\"\"\ny\n\"\"\"\n", "  g  =  h i  # j\n", "\n", "= k\n", "l:m\n", "n = {\n", "}\n", "\r\n", "o =\n"},
	"script": {"use a\n", "use \"b c\" # d\n", "  use 'e'\n", "# use f\n", "#use g\n", "#  use h # i\n", "\"j\n", "k 'l m' \"n\"\n", "\n", "\t\n", "//x\n", "o#p\n", "q \"\"\n", "# \n", "##\n", "r\\ s\r\n"},
	"posix":  {"run ", "-a ", "-m=x;y ", "\"q $V r\" ", "'s $t' ", "u\\ v ", "\\\n  ", "\n", "V=1\n", "V=\"$V;2\"\n", "export W='x'\n", "# c\n", "$V ", "${W} ", "$(date) ", "`x` ", "; ", "&& ", "| ", "> out ", "if true; then\n", "fi\n", "\"a", "$'b\\n' ", "\"\\\"c\\$d\\`\" ", "<<E\nhere\nE\n", "exec ", "e\"f\"'g' ", "# -m=z\n", "( ", ")\n", "{ ", "}\n", "*.so ", "V+=x\n", "a[1]=x\n", "\"${V}\" ", "x$V ", "$V$W "},
	"batch":  {"run.exe ", "-a ", "\"b c\" ", "%V% ", "set V=1\r\n", "set \"W=x y\"\r\n", "set V=%V%;2\r\n", "^\r\n", "\r\n", "rem x\r\n", ":: y\r\n", "%%d ", "^& ", "& ", "| ", "if x ", "(\r\n", ")\r\n", "!V! ", "%1 ", "@echo off\r\n", ":label\r\n", "\"e", "f^^g ", "> nul ", "call ", "^\n", "^", "a^\r\n  b ", "set /p V=x\r\n", "%V%x ", "\"%V%\" ", "start \"\" ", "-m=\"p;q\" "},
	"unit":   {"[Service]\n", "[Unit]\n", "ExecStart=run ", "-a ", "\"b c\" ", "'d' ", "\\\n  ", "\n", "# e\n", "; f\n", "Environment=V=1 \"W=x y\"\n", "%h ", "%%i ", "$V ", "${W} ", "ExecStart=\n", "ExecStart=-@/x y\n", "g\\x20h ", "$$j ", "a$V ", "${V}b ", "\"$V\" ", "ExecStartPre=z\n", "\"k"},
	"words":  {"run ", "-a ", "\"b c\" ", "'d e' ", "-m=x;y ", "\n", "f\"g\" ", "\\h ", "\"", "'"},
	"env":    {"A=1\n", "export B=2\n", "C=\"x y\"\n", "D='z'\n", "# E=3\n", "\n", "F\n", "G=$A\n", "H= i\n", " J=k # l\n", "=m\n", "A=9\n", "N=\"o", "P='q r' s\n"},
}

// piece writes a piece down, with what becomes of it when it is changed.
func piece(b *strings.Builder, doc []byte, p *text.Piece, r *rand.Rand) {
	fmt.Fprintf(b, "%q at %d-%d", p.Value, p.Start, p.End)
	if n := len(p.Value); n > 0 {
		fmt.Fprintf(b, " (%d %d)", p.At(0), p.At(n))
	}
	want := []string{"new", "two words", "it's", `a"b`, "c;d", "$x %y%", "e\\f", "é", "", "#g", "h&<>", "x\ny", "true", "12", "a: b", "*i"}[r.IntN(16)]
	edits, err := p.Becomes(want)
	after := ""
	if err == nil {
		var out []byte
		if out, err = text.Apply(doc, edits); err == nil {
			after = string(out)
		}
	}
	if err != nil {
		fmt.Fprintf(b, "; %q: %v", want, err)
		return
	}
	from := 0
	for from < len(after) && from < len(doc) && after[from] == doc[from] {
		from++
	}
	to := 0
	for to < len(after)-from && to < len(doc)-from && after[len(after)-1-to] == doc[len(doc)-1-to] {
		to++
	}
	fmt.Fprintf(b, "; %q is written %q for %q", want, after[from:len(after)-to], doc[from:len(doc)-to])
	style := text.ListStyle{Separator: []string{";", ",", " "}[r.IntN(3)], Mark: []string{"", "", "@"}[r.IntN(3)], Last: []text.Last{"", "wanted", "forbidden"}[r.IntN(3)]}
	items := p.Items(style)
	fmt.Fprintf(b, "; items by %q:", style.Separator)
	names, keep := []string{}, []int{}
	for i, it := range items {
		fmt.Fprintf(b, " %q", it.Name)
		if r.IntN(3) > 0 {
			names, keep = append(names, it.Name), append(keep, i)
		}
	}
	at := r.IntN(len(names) + 1)
	names, keep = slices.Insert(names, at, "fresh"), slices.Insert(keep, at, -1)
	edits, err = p.WithItems(style, names, keep)
	if err == nil {
		var out []byte
		if out, err = text.Apply(doc, edits); err == nil {
			fmt.Fprintf(b, " then %q", out[p.Start:len(out)-(len(doc)-p.End)])
			return
		}
	}
	fmt.Fprintf(b, " then %v", err)
}

func tree(b *strings.Builder, doc []byte, n *text.Node, depth int, r *rand.Rand) {
	fmt.Fprintf(b, "%d %d-%d", n.Kind, n.Start, n.End)
	switch n.Kind {
	case text.NodeString:
		b.WriteString(" ")
		piece(b, doc, &n.Piece, r)
	case text.NodeScalar:
		fmt.Fprintf(b, " %q", n.Literal)
	}
	if n.Flow {
		b.WriteString(" flow")
	}
	if n.Lead.Len() > 0 {
		fmt.Fprintf(b, " behind %q", n.Lead.In(doc))
	}
	for _, m := range n.Members {
		fmt.Fprintf(b, "\n%s%s %q ", strings.Repeat("  ", depth+1), m.Name, m.Key.In(doc))
		tree(b, doc, m.Value, depth+1, r)
	}
	for i, item := range n.Items {
		fmt.Fprintf(b, "\n%s%d ", strings.Repeat("  ", depth+1), i)
		tree(b, doc, item, depth+1, r)
	}
	if len(n.Items) == 0 && !n.Flow {
		return
	}
	at := r.IntN(len(n.Items) + 1)
	out, err := text.Apply(doc, n.InsertItem(doc, at, "NEW"))
	fmt.Fprintf(b, "\n%swith one at %d: %q %v", strings.Repeat("  ", depth+1), at, out, err)
	if len(n.Items) > 0 {
		at := r.IntN(len(n.Items))
		out, err := text.Apply(doc, n.RemoveItem(doc, at))
		fmt.Fprintf(b, "\n%swithout %d, %q: %q %v", strings.Repeat("  ", depth+1), at, n.ItemText(doc, at), out, err)
	}
}

// TestOddDocumentsInFull reads documents that are thrown together at random, in every
// notation, and changes what is read: all that comes of it, to the byte.
func TestOddDocumentsInFull(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 12))
	trees := map[string]func([]byte) (*text.Node, *text.Fault){"json": text.ReadJSON, "yaml": text.ReadYAML, "toml": text.ReadTOML, "xml": text.ReadXML}
	launches := map[string]func([]byte) *text.Launch{"posix": text.ReadPOSIX, "batch": text.ReadBatch, "unit": text.ReadUnit, "words": text.ReadWords, "env": text.ReadEnv}
	var b strings.Builder
	for _, notation := range slices.Sorted(maps.Keys(snippets)) {
		list := snippets[notation]
		rounds := 170
		if trees[notation] != nil {
			rounds = 220
		}
		for range rounds {
			var d strings.Builder
			switch notation { // so that more of them can be read
			case "json":
				d.WriteString([]string{"{\"b\": ", "[", "{\"x\": [", ""}[r.IntN(4)])
			case "xml":
				d.WriteString([]string{"<r>", "<r>", ""}[r.IntN(3)])
			case "unit":
				d.WriteString("[Service]\nExecStart=")
			}
			for range 1 + r.IntN(8) {
				d.WriteString(list[r.IntN(len(list))])
			}
			switch notation {
			case "json":
				d.WriteString([]string{"}", "]", "]}", ""}[r.IntN(4)])
			case "xml":
				d.WriteString([]string{"</r>", "</r>\n", ""}[r.IntN(3)])
			}
			s := d.String()
			if r.IntN(9) == 0 {
				s = strings.ReplaceAll(s, "\n", "\r\n")
			}
			doc := []byte(s)
			fmt.Fprintf(&b, "== %s %q\n", notation, s)
			switch {
			case trees[notation] != nil:
				root, fault := trees[notation](doc)
				if fault != nil {
					fmt.Fprintf(&b, "%v\n", fault)
					continue
				}
				tree(&b, doc, root, 0, r)
				b.WriteString("\n")
			case launches[notation] != nil:
				l := launches[notation](doc)
				for _, c := range l.Commands {
					fmt.Fprintf(&b, "command %d-%d\n", c.Start, c.End)
					for i := range c.Words {
						b.WriteString("  ")
						piece(&b, doc, &c.Words[i], r)
						if c.Uses[i] != (text.Use{}) {
							fmt.Fprintf(&b, " uses %+v", c.Uses[i])
						}
						b.WriteString("\n")
					}
				}
				for _, name := range slices.Sorted(maps.Keys(l.Variables)) {
					p := l.Variables[name]
					fmt.Fprintf(&b, "variable %s ", name)
					piece(&b, doc, &p, r)
					b.WriteString("\n")
				}
				for _, f := range l.Faults {
					fmt.Fprintf(&b, "%v\n", f)
				}
			case notation == "ini":
				style := text.INIStyle{Comment: []string{"", ";", "#"}[r.IntN(3)], Assign: []string{"", ":"}[r.IntN(2)], Bare: r.IntN(2) == 0}
				ini := text.ReadINI(doc, style)
				fmt.Fprintf(&b, "%+v, sections %v\n", style, ini.Sections)
				for i, e := range append(slices.Clone(ini.Entries), ini.Hidden...) {
					fmt.Fprintf(&b, "  %d %s/%q sign %v off %v line %v ", i, e.Section, e.Key.In(doc), e.HasSign, e.Off, e.Line.Span)
					piece(&b, doc, &e.Value, r)
					b.WriteString("\n")
				}
				for _, f := range ini.Faults {
					fmt.Fprintf(&b, "%v\n", f)
				}
				e, ok := ini.Find(doc, []string{"", "s"}[r.IntN(2)], "a")
				fmt.Fprintf(&b, "a is %q, %v\n", e.Value.Value, ok)
			case notation == "kv":
				pairs, faults := text.KeyValue(doc, text.KeyValueStyle{Comment: []string{"#", ""}[r.IntN(2)], Assign: []string{"=", ":"}[r.IntN(2)]})
				for _, p := range pairs {
					fmt.Fprintf(&b, "  %q is %q, line %v\n", p.Key.In(doc), p.Value.In(doc), p.Line.Span)
				}
				fmt.Fprintf(&b, "%v\n", faults)
			default:
				style := text.ScriptStyle{Comment: []string{"#", "//", ""}[r.IntN(3)], Quote: []string{"", "\"", "\"'"}[r.IntN(3)]}
				for _, st := range text.Script(doc, style) {
					fmt.Fprintf(&b, "  %+v %q %v", st.Words, st.Comment.In(doc), st.Fault)
					if hidden, mark, ok := text.Uncomment(doc, st, style); ok {
						fmt.Fprintf(&b, " hides %+v behind %q", hidden.Words, mark.In(doc))
					}
					b.WriteString("\n")
				}
			}
		}
	}
	golden.Check(t, "odd.txt", b.String())
}
