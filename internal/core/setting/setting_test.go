package setting_test

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/setting"
	"initium/internal/insist"
)

var (
	properties = setting.Notation{Format: dialect.FormatKeyValue, Comment: "# !"}
	ini        = setting.Notation{Format: dialect.FormatINI, Comment: "; # //"}
	env        = setting.Notation{Format: dialect.FormatEnv}
	script     = setting.Notation{Format: dialect.FormatScript, Comment: "#", Quote: `"'`, Forms: []string{"set {name} {value}", "sets {name} {value}", "hostname {value}"}}
)

// constants is a text of lines that a dialect tells, read as one does.
var constants = func() setting.Notation {
	const family = "name = 'x'\ntitle = 'X'\n[[settings]]\nfiles = '*.rc'\nformat = 'text'\ncomment = '// #'\nsetting = \"\"\"\n{name} = {value};\ndefine('{name}', {value}){any};\ntitle {value}\n\"\"\"\n"
	d, _ := dialect.Draft("x.toml", []byte(family))
	n, _ := setting.Of(d, dialect.Vars{"dir": "/srv"}, "/srv/conf/a.rc")
	return n
}()

func tree(f dialect.Format) setting.Notation { return setting.Notation{Format: f} }

// documents are files as servers have them, with what is read of them.
var documents = map[string]struct {
	n    setting.Notation
	doc  string
	want string // NAME=VALUE, with a # before those in comments
}{
	"keys":              {properties, "# mine\r\nport=2020\r\ntitle = My server # 1\r\n#slots = 8\r\n# a line of prose = nothing\r\nmotd=\r\ncolour = #ff0000\r\n", "port=2020|title=My server # 1|#slots=8|motd=|colour=#ff0000"},
	"sections":          {ini, "top = 1\n[net]\nport = 2020 // the usual\n; ssl = false\nname = \"A b\"\n[net.more]\nport = 1\n", "top=1|net/port=2020|#net/ssl=false|net/name=A b|net.more/port=1"},
	"a key twice":       {ini, "[a]\nadmin = x\nadmin = y\n", "a/admin=x|a/admin=y"},
	"environment":       {env, "# e\nPORT=2020\nexport TITLE=\"My server\"\nEMPTY=\n", "PORT=2020|TITLE=My server|EMPTY="},
	"script":            {script, "# all\nset port 2020\nsets title \"My server\" # shown\nhostname 'here'\n#set slots 8\nset slots 16\nload x\n", "port=2020|title=My server|hostname=here|#slots=8|slots=16"},
	"json":              {tree(dialect.FormatJSON), "{\n  \"port\": 2020, \"net\": {\"title\": \"My \\\"server\\\"\", \"on\": true},\n  \"list\": [1, {\"a\": null}]\n}\n", `port=2020|net.title=My "server"|net.on=true|list[0]=1|list[1].a=null`},
	"yaml":              {tree(dialect.FormatYAML), "# c\nport: 2020 # the usual\nnet:\n  title: My server\n  on: yes\nlist:\n  - a\n  - b: 'it''s'\n", "port=2020|net.title=My server|net.on=yes|list[0]=a|list[1].b=it's"},
	"toml":              {tree(dialect.FormatTOML), "port = 2020\n[net]\ntitle = \"My server\"\non = true # c\n", "port=2020|net.title=My server|net.on=true"},
	"elements":          {tree(dialect.FormatXML), "<?xml version=\"1.0\"?>\n<!-- c -->\n<server port=\"2020\">\n  <title>My &amp; server</title>\n  <slot n='1'/>\n  <slot n='2'/>\n</server>\n", "server.@port=2020|server.title=My & server|server.slot[0].@n=1|server.slot[1].@n=2"},
	"named in xml":      {tree(dialect.FormatXML), "<s>\n  <property name=\"port\" value=\"2020\"/>\n  <property name=\"title\" value=\"\"/>\n</s>\n", "s.port=2020|s.title="},
	"names with blanks": {properties, "max players = 5\n#max bots = 2\n", "max players=5"},
	"no value to name":  {tree(dialect.FormatXML), "<s>\n  <p name=\"a\" kind=\"b\"/>\n  <p value=\"1\" kind=\"c\"/>\n  <q name=\"x\" value=\"1\" more=\"2\"/>\n</s>\n", "s.p[0].@name=a|s.p[0].@kind=b|s.p[1].@value=1|s.p[1].@kind=c|s.q.@name=x|s.q.@value=1|s.q.@more=2"},
	"flags in quotes":   {tree(dialect.FormatYAML), "on: \"yes\"\noff: no\n", "on=yes|off=no"},
	"two kinds":         {script, "set a 1\nsets b 2\n", "a=1|b=2"},
	"no comments":       {setting.Notation{Format: dialect.FormatScript, Quote: `"`, Forms: []string{"set {name} {value}"}}, "set a 1\n", "a=1"},
	"last of env":       {env, "A=1\nB=2", "A=1|B=2"},
	"no ending":         {properties, "a=1\nb=2", "a=1|b=2"},
	"nothing":           {ini, "", ""},
	"constants":         {constants, "// all of it\nslots = 0;  // note = 1;\nname = \"A; b\"; # x\ndefine('DEBUG', false);\n  //speed = 2;\nlevel=3;\ntitle My server\n", "slots=0|name=A; b|DEBUG=false|#speed=2|level=3|title=My server"},
	"quoted constants":  {constants, "define('A', 'it');\n\tdefine('B', 'on'); // c\n", "A=it|B=on"},
	"start script":      {setting.Notation{Format: dialect.FormatShell, Launch: "-mods="}, "#!/bin/sh\nPORT=27420\nTITLE='My server'\nrm -rf tmp\nexec ./server -port \"$PORT\" -mods=a \\\n  -slots 8 -title=\"$TITLE\" -name 'The quay' -quiet --pace=1.5\n", "PORT=27420|TITLE=My server|-mods=a|-slots=8|-name=The quay|--pace=1.5"},
	"batch":             {setting.Notation{Format: dialect.FormatBatch}, "@echo off\r\nset SLOTS=8\r\nserver.exe -port=27420 \"-name=The quay\" -load a\r\n", "SLOTS=8|-port=27420|-name=The quay|-load=a"},
	"unit":              {setting.Notation{Format: dialect.FormatUnit}, "[Service]\nEnvironment=SLOTS=8 \"TITLE=My server\"\nExecStart=/srv/run -port 27420 \\\n  \"-mods=a;b\"\n", "SLOTS=8|TITLE=My server|-port=27420|-mods=a;b"},
	"pasted":            {setting.Notation{Format: dialect.FormatWords}, "run -port=1 -name \"a b\"\n", "-port=1|-name=a b"},
	"a mark in value":   {ini, "[a]\nurl = http://x/y\n", "a/url=http://x/y"},
}

func said(list []setting.Setting) string {
	var words []string
	for _, s := range list {
		word := s.Name + "=" + s.Value
		if s.Off {
			word = "#" + word
		}
		words = append(words, word)
	}
	return strings.Join(words, "|")
}

// variants are a file as different editors leave it.
var variants = map[string]func(doc string) string{
	"as it is": func(doc string) string { return doc },
	"from Windows": func(doc string) string {
		return strings.ReplaceAll(strings.ReplaceAll(doc, "\r\n", "\n"), "\n", "\r\n")
	},
	"from elsewhere": func(doc string) string { return strings.ReplaceAll(doc, "\r\n", "\n") },
	"with a mark":    func(doc string) string { return "\ufeff" + doc },
	"without an end": func(doc string) string { return strings.TrimRight(doc, "\r\n") },
	"with blanks":    func(doc string) string { return strings.TrimRight(doc, "\r\n") + "\n\n \n" },
}

// TestEverySetting reads files of all notations, as editors leave them, gives each setting another value and puts
// the first one back, which has to give the file back to the byte.
func TestEverySetting(t *testing.T) {
	files, places := 0, 0
	for name, c := range documents {
		for how, vary := range variants {
			if how == "with a mark" && (c.n.Format == dialect.FormatShell || c.n.Format == dialect.FormatBatch || c.n.Format == dialect.FormatUnit || c.n.Format == dialect.FormatWords) {
				continue // no shell reads such a file
			}
			if how == "from Windows" && c.n.Format == dialect.FormatShell {
				continue // for sh a backslash before such an end of a line hides no end of it
			}
			name, doc := name+" "+how, vary(c.doc)
			files++
			list, fault := setting.Read([]byte(doc), c.n)
			insist.Need(t, fault == nil && said(list) == c.want, "%s reads\n%s, %v, want\n%s", name, said(list), fault, c.want)
			for _, s := range list {
				if s.Off {
					continue
				}
				places++
				other := map[setting.Kind]string{setting.Flag: "false", setting.Number: "77", setting.Text: "else", setting.Path: "maps/b.map", setting.Colour: "#0077aa"}[setting.KindOf(s.Value)]
				changed, err := setting.Set([]byte(doc), c.n, s.Name, other, s.Line, s.Value == "null")
				if err != nil {
					t.Errorf("%s: set %s: %v", name, s.Name, err)
					continue
				}
				if c.n.Format == dialect.FormatJSON && s.Value == "null" {
					continue // nothing is no value that could be set
				}
				back, err := setting.Set(changed, c.n, s.Name, s.Value, s.Line, true)
				insist.That(t, err == nil && string(back) == doc, "%s: %s to %s and back gives\n%q, %v, want\n%q", name, s.Name, other, back, err, doc)
			}
		}
	}
	t.Logf("%d files with %d places at which something is set", files, places)
}

func TestSet(t *testing.T) {
	doc := func(name string) string { return documents[name].doc }
	for _, c := range []struct {
		in, name, value string
		line            int
		old, now        string // what of the file changes
	}{
		{"keys", "port", "2021", 0, "port=2020", "port=2021"},
		{"keys", "title", "Other # 2", 0, "My server # 1", "Other # 2"},
		{"keys", "slots", "12", 0, "#slots = 8", "slots = 12"},
		{"keys", "motd", "hello there", 0, "motd=", "motd=hello there"},
		{"keys", "fresh", "x", 0, "colour = #ff0000\r\n", "colour = #ff0000\r\nfresh = x\r\n"},
		{"no ending", "c", "3", 0, "b=2", "b=2\nc=3"},
		{"sections", "net/port", "1", 0, "2020 // the usual", "1 // the usual"},
		{"sections", "net/ssl", "true", 0, "; ssl = false", "ssl = true"},
		{"sections", "net/name", "C d", 0, "\"A b\"", "\"C d\""},
		{"sections", "net/fresh", "5", 0, "name = \"A b\"\n", "name = \"A b\"\nfresh = 5\n"},
		{"a key twice", "a/admin", "z", 3, "admin = y", "admin = z"},
		{"environment", "TITLE", "It's mine", 0, "\"My server\"", "\"It's mine\""},
		{"environment", "FRESH", "1", 0, "EMPTY=\n", "EMPTY=\nFRESH=1\n"},
		{"script", "title", "A new one", 0, "\"My server\"", "\"A new one\""},
		{"script", "port", "1", 0, "set port 2020", "set port 1"},
		{"script", "fresh", "two words", 0, "set slots 16\n", "set slots 16\nset fresh \"two words\"\n"},
		{"script", "hostname", "it's there", 0, "'here'", "\"it's there\""},
		{"json", "net.title", `a "b" \c`, 0, `"My \"server\""`, `"a \"b\" \\c"`},
		{"json", "net.on", "no", 0, "true", "false"},
		{"json", "fresh", "text", 0, "  \"list\": [1, {\"a\": null}]\n", "  \"list\": [1, {\"a\": null}],\n  \"fresh\": \"text\"\n"},
		{"yaml", "net.on", "false", 0, "on: yes", "on: no"},
		{"yaml", "net.fresh", "x: y", 0, "  on: yes\n", "  on: yes\n  fresh: \"x: y\"\n"},
		{"toml", "net.on", "off", 0, "on = true", "on = false"},
		{"toml", "net.fresh", "5", 0, "on = true # c\n", "on = true # c\nfresh = 5\n"},
		{"elements", "server.title", "a < b", 0, "My &amp; server", "a &lt; b"},
		{"elements", "server.slot[1].@n", "3", 0, "n='2'", "n='3'"},
		{"flags in quotes", "on", "false", 0, `"yes"`, `"no"`},
		{"flags in quotes", "off", "true", 0, "off: no", "off: yes"},
		{"two kinds", "fresh", "3", 0, "set a 1\n", "set a 1\nset fresh 3\n"},
		{"no comments", "a", "2", 0, "set a 1", "set a 2"},
		{"names with blanks", "max players", "7", 0, "= 5", "= 7"},
		{"constants", "slots", "12", 0, "slots = 0;", "slots = 12;"},
		{"constants", "name", "C // d", 0, "A; b", "C // d"},
		{"constants", "DEBUG", "yes", 0, "false", "true"},
		{"constants", "speed", "4", 0, "//speed = 2;", "speed = 4;"},
		{"constants", "fresh", "5", 0, "level=3;\n", "level=3;\nfresh=5;\n"},
		{"constants", "title", "Other", 0, "My server", "Other"},
		{"quoted constants", "B", "off", 0, "'on'", "'off'"},
		{"quoted constants", "C", "x", 0, "define('B', 'on'); // c\n", "define('B', 'on'); // c\n\tdefine('C', 'x');\n"},
		{"start script", "-slots", "12", 0, "-slots 8", "-slots 12"},
		{"start script", "-name", "It's", 0, "'The quay'", "'It'\\''s'"},
		{"start script", "PORT", "27421", 0, "PORT=27420", "PORT=27421"},
		{"start script", "--pace", "2", 0, "--pace=1.5", "--pace=2"},
		{"batch", "-name", "Old quay", 0, "The quay", "Old quay"},
		{"unit", "-port", "1", 0, "-port 27420", "-port 1"},
		{"unit", "TITLE", "Yours", 0, "My server", "Yours"},
		{"named in xml", "s.title", "x", 0, "value=\"\"", "value=\"x\""},
	} {
		got, err := setting.Set([]byte(doc(c.in)), documents[c.in].n, c.name, c.value, c.line, false)
		insist.That(t, err == nil, "%s: set %s to %q: %v", c.in, c.name, c.value, err)
		insist.Same(t, fmt.Sprintf("%s: %s set to %q", c.in, c.name, c.value), string(got), strings.Replace(doc(c.in), c.old, c.now, 1))
	}
}

func TestUnset(t *testing.T) {
	for _, c := range []struct {
		in, name string
		line     int
		old, now string
	}{
		{"keys", "port", 0, "port=2020\r\n", ""},
		{"no ending", "b", 0, "\nb=2", ""},
		{"last of env", "B", 0, "\nB=2", ""},
		{"sections", "net/port", 0, "port = 2020 // the usual\n", ""},
		{"a key twice", "a/admin", 2, "admin = x\n", ""},
		{"environment", "TITLE", 0, "export TITLE=\"My server\"\n", ""},
		{"script", "title", 0, "sets title \"My server\" # shown\n", ""},
		{"json", "net.on", 0, ", \"on\": true", ""},
		{"yaml", "port", 0, "port: 2020 # the usual\n", ""},
		{"start script", "-slots", 0, " \\\n  -slots 8", ""},
		{"start script", "--pace", 0, " --pace=1.5", ""},
		{"start script", "TITLE", 0, "TITLE='My server'\n", ""},
		{"unit", "-port", 0, " -port 27420", ""},
		{"elements", "server.title", 0, "  <title>My &amp; server</title>\n", ""},
		{"elements", "server.@port", 0, " port=\"2020\"", ""},
		{"elements", "server.slot[1].@n", 0, " n='2'", ""},
		{"named in xml", "s.title", 0, "  <property name=\"title\" value=\"\"/>\n", ""},
		{"toml", "net.title", 0, "title = \"My server\"\n", ""},
	} {
		d := documents[c.in]
		got, err := setting.Unset([]byte(d.doc), d.n, c.name, c.line)
		insist.That(t, err == nil, "%s: unset %s: %v", c.in, c.name, err)
		insist.Same(t, fmt.Sprintf("%s without %s", c.in, c.name), string(got), strings.Replace(d.doc, c.old, c.now, 1))
	}
}

// What cannot be written as it is meant is refused, and says why.
func TestRefused(t *testing.T) {
	for _, c := range []struct {
		in, name, value, says string
	}{
		{"keys", "port", "many", "it is the number 2020"},
		{"keys", "port", "1\n2", "line break"},
		{"keys", "a=b", "1", "no name of a setting"},
		{"sections", "net/", "1", "no name of a setting"},
		{"sections", "", "1", "no name of a setting"},
		{"flags in quotes", "off", "perhaps", "a yes or no"},
		{"sections", "none/port", "1", "no section [none]"},
		{"a mark in value", "a/url", "x // y", "as it is meant"},
		{"a key twice", "a/admin", "z", "on the lines 2, 3"},
		{"script", "hostname", `both " and '`, "the quotes that it would have to stand in"},
		{"script", "a b", "1", "no name of a setting"},
		{"constants", "speed", "5; more = 1", "with which it would end here"},
		{"constants", "slots", "many", "it is the number 0"},
		{"constants", "name", "a \"b\"", "is not known here"},
		{"constants", "level", "3 // x", "it is the number"},
		{"constants", "title", "a # b", "as it is meant"},
		{"constants", "a b", "1", "no name of a setting"},
		{"json", "none.port", "1", "there are no keys at"},
		{"yaml", "net.on", "perhaps", "a yes or no"},
		{"elements", "server.none", "1", "nobody here knows in which element"},
	} {
		d := documents[c.in]
		_, err := setting.Set([]byte(d.doc), d.n, c.name, c.value, 0, false)
		insist.Fails(t, fmt.Sprintf("%s: %s to %q", c.in, c.name, c.value), err, c.says)
	}
	_, err := setting.Unset([]byte("<a><b>x<c/>y</b></a>"), tree(dialect.FormatXML), "a.b", 2)
	insist.That(t, err != nil, "a text among others is taken out")
	for _, c := range []struct{ doc, name, value, want, says string }{
		{"exec ./server -mods=a \\\n  -slots 8 \\\n  -port=\"$P\" -quiet\n", "-fresh", "1", "exec ./server -mods=a \\\n  -slots 8 \\\n  -fresh 1 \\\n  -port=\"$P\" -quiet\n", ""},
		{"exec ./server -mods=a '-title=My quay'\n", "-pace", "1.5", "exec ./server -mods=a '-title=My quay' -pace=1.5\n", ""},
		{"exec ./server -mods=a -title=\"x\" &\n", "--map", "tables/a.map", "exec ./server -mods=a -title=\"x\" --map=tables/a.map &\n", ""},
		{"exec ./server -mods=a -slots 8\n", "-title", "two words", "", "in which quotes"},
		{"exec ./server -mods=a -slots 8\n", "fresh", "1", "", "not in the launch line"},
		{"exec ./server -slots -mods=a$X\n", "-fresh", "1", "", "not in the launch line"},
	} {
		n := setting.Notation{Format: dialect.FormatShell, Launch: "-"}
		got, err := setting.Set([]byte(c.doc), n, c.name, c.value, 0, false)
		if c.says != "" {
			insist.Fails(t, c.doc, err, c.says)
			continue
		}
		insist.OK(t, err)
		insist.Same(t, "a parameter that is not there", string(got), c.want)
	}
	for doc, n := range map[string]setting.Notation{"a = \nb=2\n": {Format: dialect.FormatKeyValue, Assign: "=", Comment: "#"}, "[x]\na =  \n": {Format: dialect.FormatINI, Comment: ";"}} {
		name := map[bool]string{true: "x/a", false: "a"}[doc[0] == '[']
		full, err := setting.Set([]byte(doc), n, name, "8", 0, true)
		insist.OK(t, err)
		insist.Same(t, doc+" filled", strings.Contains(string(full), "a = 8") || strings.Contains(string(full), "a =  8\n"), true)
		empty, err := setting.Set(full, n, name, "", 0, true)
		insist.OK(t, err)
		insist.Same(t, doc+" and back", string(empty), doc)
	}
	for value, kind := range map[string]setting.Kind{"#12ab9F": setting.Colour, "#12a": setting.Colour, "#12": setting.Text, "12": setting.Number, "maps/a.map": setting.Path, "./a": setting.Path, "/srv/x/": setting.Path, `C:\a\b`: setting.Path, "a b/c": setting.Text, "http://x/y": setting.Text, "a/b,c/d": setting.Text, "a": setting.Text, "/": setting.Text, "1/2 // x": setting.Text} {
		insist.Same(t, value, setting.KindOf(value), kind)
	}
	for value, says := range map[string]string{"#ffffff": "", "#fff": "none written like it", "red": "none written like it"} {
		if _, err := setting.AsBefore(value, "#12ab9f"); says == "" {
			insist.OK(t, err)
		} else {
			insist.Fails(t, value, err, says)
		}
	}
	_, err = setting.Unset([]byte(documents["yaml"].doc), tree(dialect.FormatYAML), "list[0]", 0)
	insist.Fails(t, "an item taken out", err, "an item of a list")
	_, err = setting.Unset([]byte(documents["keys"].doc), properties, "slots", 0)
	insist.Fails(t, "what stands in a comment", err, "not set")
	as, err := setting.Set([]byte(documents["flags in quotes"].doc), tree(dialect.FormatYAML), "off", "perhaps", 0, true)
	insist.That(t, err == nil && strings.HasSuffix(string(as), "off: perhaps\n"), "as it is said: %q, %v", as, err)
	deep, fault := setting.Read([]byte(strings.Repeat("{\"a\":", 500)+"1"+strings.Repeat("}", 500)), tree(dialect.FormatJSON))
	insist.That(t, len(deep) == 0, "of a bottomless document are read %v, %v", deep, fault)
	_, fault = setting.Read([]byte("{"), tree(dialect.FormatJSON))
	insist.That(t, fault != nil, "a torn document is read")
}

func TestAsBefore(t *testing.T) {
	for _, c := range []struct{ value, before, want string }{
		{"true", "no", "yes"}, {"off", "True", "False"}, {"yes", "OFF", "ON"}, {"no", "enabled", "disabled"}, {"7", "1.5", "7"}, {"x", "y", "x"}, {"-3", "4", "-3"},
	} {
		got, err := setting.AsBefore(c.value, c.before)
		insist.That(t, err == nil && got == c.want, "%s for %s is %q, %v, want %q", c.value, c.before, got, err, c.want)
	}
}

// FuzzSet gives whatever is set in any document a value: everything else reads as before, the value as it
// was asked for, and nothing but the place of the value is other bytes.
func FuzzSet(f *testing.F) {
	kinds := []setting.Notation{properties, ini, env, script, constants, tree(dialect.FormatJSON), tree(dialect.FormatYAML), tree(dialect.FormatTOML), tree(dialect.FormatXML)}
	for _, c := range documents {
		for i := range kinds {
			f.Add(i, []byte(c.doc), "x y", 1)
		}
	}
	f.Fuzz(func(t *testing.T, kind int, doc []byte, value string, which int) {
		n := kinds[uint(kind)%uint(len(kinds))]
		list, fault := setting.Read(doc, n)
		if fault != nil || len(list) == 0 {
			return
		}
		s := list[uint(which)%uint(len(list))]
		out, err := setting.Set(doc, n, s.Name, value, s.Line, true)
		if err != nil {
			return
		}
		after, fault := setting.Read(out, n)
		if fault != nil || len(after) != len(list) {
			t.Fatalf("%q reads %d settings, and %d after %s was set to %q: %v", doc, len(list), len(after), s.Name, value, fault)
		}
		if gone, err := setting.Unset(out, n, s.Name, s.Line); err == nil {
			if left, fault := setting.Read(gone, n); fault != nil || len(left) != len(list)-1 {
				t.Fatalf("%q without %s reads %d settings, %v", out, s.Name, len(left), fault)
			}
		}
	})
}
