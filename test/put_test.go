package test

import (
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// A block of a script is replaced by a mod's, added to, and found to be broken; the same first line finds it in
// another server's file, however that is laid out.
func TestPutBlocks(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	own := h.do(0, "dialect", "show", "harrow-sound") + "\n[[unique]]\nfiles = 'quay/*.script'\nline = 'job {value} {{'\ncomment = '//'\nabout = 'a job'\n[[data]]\nfile = '{dir}/quay/quay.script'\nformat = 'text'\ncomment = '//'\nabout = 'the quay'\nwrong = 'loads'\n"
	put(t, filepath.Join(h.home, "dialects/harrow-sound.toml"), own)
	const script = "// the quay }\r\njobs {\r\n  job rope {\r\n    pay = 3;\r\n  }\r\n}\r\nlamps = [\r\n  1,\r\n  2\r\n];\r\n"
	file := filepath.Join(h.dir, "quay/quay.script")
	write(t, file, script)
	from := func(text string) string {
		name := filepath.Join(t.TempDir(), "from.txt")
		write(t, name, text)
		return name
	}
	h.do(0, "put", "h", "quay/quay.script", "--with", from("  job rope {\n    pay = 5;\n    tea = \"yes }\";\n  }\n"), "--block", "job rope {")
	insist.Same(t, "replaced", contents(t, file), strings.Replace(script, "pay = 3;\r\n", "pay = 5;\r\n    tea = \"yes }\";\r\n", 1))
	h.do(0, "undo", "h")
	insist.Same(t, "taken back", contents(t, file), script)
	h.do(0, "put", "h", "quay/quay.script", "--with", from("  job sail {\n  }"), "--into", "jobs {", "--stage")
	h.do(0, "put", "h", "quay/quay.script", "--with", from("  3"), "--into", "lamps = [", "--stage")
	h.do(0, "apply", "h")
	insist.Same(t, "added", contents(t, file), strings.Replace(strings.Replace(script, "  }\r\n}\r\n", "  }\r\n  job sail {\r\n  }\r\n}\r\n", 1), "  2\r\n", "  2,\r\n  3\r\n", 1))
	insist.Holds(t, "the ledger", h.do(0, "ledger", "h"), `add to the block "jobs {" of quay.script`)
	before := contents(t, file)
	for _, c := range []struct{ text, flag, line, says string }{
		{"job rope {\n}\n", "--into", "jobs {", "a job has to be there once, and is there already: rope (line 3)"},
		{"job x {\n}\njob x {\n}\n", "--into", "jobs {", "x (twice in what comes)"},
		{"job x {\n", "--block", "job rope {", "the brackets of what is to be put there do not close"},
		{"job x {\n}\n", "--block", "job oar {", `there is no line "job oar {"`},
		{"1", "--block", "}", "stands there more than once"},
		{"1", "--at", "jobs", "quay.script"},
	} {
		r := h.try("put", "h", "quay/quay.script", "--with", from(c.text), c.flag, c.line)
		insist.That(t, r.status == 2, "%s %s ends with %d", c.flag, c.line, r.status)
		insist.Holds(t, c.says, r.err, c.says)
	}
	insist.Holds(t, "two places", h.try("put", "h", "quay/quay.script", "--with", from("1"), "--block", "a", "--into", "b").err, "one of --block, --into and --at")
	insist.Holds(t, "nothing to put", h.try("put", "h", "quay/quay.script").err, "--with SOURCE")
	insist.Holds(t, "of elsewhere", h.try("put", "h", "../x", "--with", from("1")).err, "no file of this server")
	insist.Same(t, "after all these", contents(t, file), before)
	write(t, file, strings.Replace(before, "job sail {", "job sail", 1))
	insist.Holds(t, "brackets that do not close", h.try("check", "h").out, "quay.script cannot be read: } closes nothing that is open here")
	insist.Holds(t, "of a broken one", h.try("put", "h", "quay/quay.script", "--with", from("1"), "--into", "jobs {").err, "its brackets do not close as it is")
}

// A value of JSON and a whole file are put in place, to the byte; what was there comes back.
func TestPutValuesAndFiles(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	const doc = "{\n\t// ours\n\t\"lamps\": {\"a\": 1},\n\t\"api_key\": \"hunter22\"\n}\n"
	file := filepath.Join(h.dir, "conf/lamps.json")
	write(t, file, doc)
	with := filepath.Join(t.TempDir(), "with.json")
	write(t, with, "{\n\t\"b\": [2]\n}\n")
	insist.Holds(t, "shown", h.do(0, "put", "h", "conf/lamps.json", "--with", with, "--at", "lamps", "--show"), `"b": [2]`)
	insist.Same(t, "nothing is written", contents(t, file), doc)
	h.do(0, "put", "h", "conf/lamps.json", "--with", with, "--at", "lamps")
	insist.Same(t, "the value", contents(t, file), strings.Replace(doc, `{"a": 1}`, "{\n\t\t\"b\": [2]\n\t}", 1))
	h.do(0, "put", "h", "conf/lamps.json", "--with", with)
	insist.Same(t, "the whole", contents(t, file), contents(t, with))
	insist.Lacks(t, "what was there", h.do(0, "ledger", "h", "2")+h.do(0, "ledger", "h", "--json"), "hunter22", "content")
	h.do(0, "put", "h", "conf/fresh.json", "--with", with)
	insist.Same(t, "a new one", contents(t, filepath.Join(h.dir, "conf/fresh.json")), contents(t, with))
	before := contents(t, h.script())
	write(t, with, before+"berth b\n")
	h.cargo("b", "", "haul 1\n")
	h.do(0, "put", "h", "harbour.start", "--with", with)
	insist.Same(t, "a startup file", h.prove(0).outcomes(), "a confirmed, b confirmed")
	h.do(0, "undo", "h", "0")
	insist.Same(t, "back at the beginning", contents(t, file)+contents(t, h.script()), doc+before)
	insist.That(t, len(within(h.dir, "conf/fresh.json")) == 0, "what was made stays")
}
