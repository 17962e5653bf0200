package test

import (
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// What was done on one server is done again on another: mods with their files, their order, settings, entries,
// blocks, rules and expectations; what is each server's own is left out and named.
func TestRecipe(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\nberth z\n")
	live := filepath.Join(filepath.Dir(h.home), "live")
	own := h.do(0, "dialect", "show", "harrow-sound") + "\n[[content]]\nkind = 'data'\nfiles = 'fish*.json'\ninto = '{dir}/conf/fish.json'\nentry = 'fish'\nid = 'name'\n"
	put(t, filepath.Join(h.home, "dialects/harrow-sound.toml"), own)
	for _, dir := range []string{h.dir, live} {
		port := h.port
		if dir == live {
			port = freePort(t)
		}
		write(t, filepath.Join(dir, "harbour.start"), "let title \"Test\"\nlet port "+port+"\nlet licence HS-1\nberth a\nberth z\n")
		write(t, filepath.Join(dir, "conf/net.properties"), "slots=8\napi_key=hunter22\n")
		write(t, filepath.Join(dir, "conf/fish.json"), "{\"fish\": [\n  {\"name\": \"cod\"}\n]}\n")
		write(t, filepath.Join(dir, "conf/quay.script"), "quay {\n  lamp = 1;\n}\n")
		for _, mod := range []string{"a", "z"} {
			write(t, filepath.Join(dir, "cargo", mod, "bill.toml"), "name = \""+mod+"\"\nrelease = \"1.0\"\n")
			write(t, filepath.Join(dir, "cargo", mod, "deck.script"), "haul 1\n")
		}
	}
	h.do(0, "adopt", live, "--as", "live", "--set", "pace=0.02")
	came := filepath.Join(filepath.Dir(h.home), "came", "kelp")
	write(t, filepath.Join(came, "kelp/bill.toml"), "name = \"kelp\"\nrelease = \"1.4\"\n")
	write(t, filepath.Join(came, "kelp/deck.script"), "haul 1\n")
	write(t, filepath.Join(came, "fish_kelp.json"), "[{\"name\": \"wrasse\", \"n\": 2}]\n")
	block := filepath.Join(t.TempDir(), "block")
	write(t, block, "quay {\n  lamp = 5;\n}\n")

	h.do(0, "take", "h", came, "--after", "a")
	h.do(0, "set", "h", "slots", "12", "--in", "conf/net.properties")
	h.do(0, "set", "h", "api_key", "sesame77", "--in", "conf/net.properties")
	h.do(0, "set", "h", "title", "A test", "--in", "harbour.start")
	h.do(0, "put", "h", "conf/quay.script", "--with", block, "--block", "quay {")
	more := filepath.Join(t.TempDir(), "fish_more.json")
	write(t, more, "[{\"name\": \"bass\"}]")
	h.do(0, "merge", "h", "a", more)
	h.do(0, "move", "h", "z", "--before", "a")
	h.do(0, "rule", "h", "after", "kelp", "a", "--because", "it waits")
	h.do(0, "expect", "h", "kelp", "--line", "kelp")
	insist.Same(t, "the test server", h.prove(0).outcomes(), "z confirmed, a confirmed, kelp confirmed")

	folder := filepath.Join(filepath.Dir(h.home), "kelp farms")
	said := h.do(0, "recipe", "save", "h", folder, "--about", "kelp, as it is on the test server", "--await", "conf/kelp.properties")
	insist.Holds(t, "the recipe", said, "take in kelp 1.4", "set slots to 12 in conf/net.properties", `replace the block "quay {" of conf/quay.script`, "add the entries of a to conf/fish.json", "move z before a",
		"each server's own: api_key in conf/net.properties", "each server's own: title in harbour.start", "kelp loads after a", "expects that")
	text := contents(t, filepath.Join(folder, "recipe.toml"))
	all := said + text
	for _, f := range within(folder, "*") {
		all += contents(t, f)
	}
	insist.Lacks(t, "the recipe", all, "sesame77", "hunter22", h.dir)
	insist.Same(t, "shown again", h.do(0, "recipe", "show", folder), said)
	insist.Holds(t, "over another", h.try("recipe", "save", "h", folder).err, "is there already")

	before := below(t, live)
	r := h.try("recipe", "run", "live", folder)
	insist.That(t, r.status == 1, "without what comes it ends with %d", r.status)
	insist.Holds(t, "without what comes", r.err, "does not fit: step 1, take in kelp 1.4: kelp is wanted; say with --from where it is", "nothing was written")
	insist.Same(t, "the live server", below(t, live), before)
	write(t, filepath.Join(live, "conf/quay.script"), "quay [\n  lamp = 1;\n]\n")
	write(t, filepath.Join(came, "kelp/deck.script"), "haul 2\n")
	r = h.try("recipe", "run", "live", folder, "--from", filepath.Dir(came))
	insist.Holds(t, "with other files", r.err, "kelp in kelp has other files than the kelp 1.4 that the recipe was made with", `there is no line "quay {"`)
	write(t, filepath.Join(came, "kelp/deck.script"), "haul 1\n")
	write(t, filepath.Join(live, "conf/quay.script"), "quay {\r\n  lamp = 2;\r\n}\r\n")
	before = below(t, live)
	insist.Holds(t, "shown first", h.do(0, "recipe", "run", "live", folder, "--from", filepath.Dir(came), "--show"), "lamp = 5", "wrasse")
	insist.Same(t, "the live server", below(t, live), before)
	insist.Holds(t, "what is left", h.do(0, "recipe", "run", "live", folder, "--from", filepath.Dir(came)), "initium prove live --first --await conf/kelp.properties")
	insist.Same(t, "a block", contents(t, filepath.Join(live, "conf/quay.script")), "quay {\r\n  lamp = 5;\r\n}\r\n")
	insist.Same(t, "settings", contents(t, filepath.Join(live, "conf/net.properties")), "slots=12\napi_key=hunter22\n")
	insist.Same(t, "entries", contents(t, filepath.Join(live, "conf/fish.json")), "{\"fish\": [\n  {\"name\": \"cod\"},\n  {\"name\": \"wrasse\", \"n\": 2},\n  {\"name\": \"bass\"}\n]}\n")
	insist.Holds(t, "the order, and its own title", contents(t, filepath.Join(live, "harbour.start")), "berth z\nberth a\nberth kelp\n", `title "Test"`)
	insist.Holds(t, "the rule", h.do(0, "rule", "live"), "kelp loads after a")
	insist.Holds(t, "the expectation", h.do(0, "expect", "live"), "kelp")
	p := &proofJSON{}
	h.json(0, p, "prove", "live", "--json")
	insist.Same(t, "the live server", p.outcomes(), "z confirmed, a confirmed, kelp confirmed")
	done := below(t, live)
	insist.Holds(t, "once more", h.do(0, "recipe", "run", "live", folder, "--from", filepath.Dir(came)), "so already: take in kelp 1.4", `so already: replace the block "quay {"`)
	insist.Same(t, "once more", below(t, live), done)
	h.do(0, "undo", "live", "0")
	insist.Same(t, "back", below(t, live), before)

	one := filepath.Join(filepath.Dir(h.home), "one")
	insist.Same(t, "of one mod", h.do(0, "recipe", "save", "h", one, "--mod", "z"), "one, for servers of harrow-sound\n   1  move z before a\n")
	insist.Holds(t, "of one entry", h.do(0, "recipe", "save", "h", one+"2", "2"), "1  set slots to 12")
	insist.Holds(t, "of some", h.do(0, "recipe", "save", "h", one+"3", "2..3"), "each server's own: api_key")
	for _, c := range []struct{ args, says string }{{"recipe save h " + one + "4 3", "nothing in these entries"}, {"recipe save h " + one + "4 x..y", "names no entries"}, {"recipe show " + one + "9", "read the recipe"}} {
		insist.Holds(t, c.args, h.try(split(c.args)...).err, c.says)
	}
}

// A recipe that somebody else has made is read as what it is: nothing in it leads out of the server's folder.
func TestHostileRecipes(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	folder := filepath.Join(filepath.Dir(h.home), "evil")
	before := below(t, h.dir)
	for _, c := range []struct{ text, says string }{
		{"dialect = 'harrow-sound'\n[[step]]\ndo = 'write'\nfile = '../../etc/x'\ntext = 'a'\n", "has to be a path below the server's folder"},
		{"dialect = 'harrow-sound'\n[[step]]\ndo = 'write'\nfile = '/etc/x'\ntext = 'a'\n", "has to be a path below the server's folder"},
		{"dialect = 'harrow-sound'\n[[step]]\ndo = 'write'\nfile = 'x'\ntext = '../../etc/passwd'\n", "has to be a file in the recipe's folder"},
		{"dialect = 'harrow-sound'\n[[step]]\ndo = 'take in'\nsource = '../x.zip'\nmods = [{name = 'x'}]\n", "has to be a name"},
		{"dialect = 'harrow-sound'\n[[step]]\ndo = 'format'\n", "nothing that a recipe can do"},
		{"dialect = 'harrow-sound'\n[[step]]\ndo = 'set'\nname = 'a\x1b[2J'\n", "recipe.toml:4"},
		{"dialect = 'harrow-sound'\n[[step]]\ndo = 'set'\nname = 'a'\n", "file and name are needed"},
		{"dialect = 'harrow-sound'\nawait = ['../x']\n", "await"},
		{"dialect = 'harrow-sound'\nnope = 1\n", "a recipe has no key \"nope\""},
		{"dialect = 'other'\n", "is for servers of other"},
		{"", "dialect is needed"},
		{"[", "recipe.toml:1"},
	} {
		put(t, filepath.Join(folder, "recipe.toml"), c.text)
		r := h.try("recipe", "run", "h", folder)
		insist.That(t, r.status == 2, "%q ends with %d", c.text, r.status)
		insist.Holds(t, c.text, r.err, c.says)
		insist.That(t, !strings.Contains(r.err, "\x1b"), "%q says %q", c.text, r.err)
		insist.Same(t, c.text+" leaves", below(t, h.dir), before)
	}
	put(t, filepath.Join(folder, "recipe.toml"), "dialect = 'harrow-sound'\n[[step]]\ndo = 'write'\nfile = 'x'\ntext = 'gone'\n[[step]]\ndo = 'on'\nmod = 'nobody'\n")
	insist.Holds(t, "what is not there", h.try("recipe", "run", "h", folder).err, "step 1, write x: read gone of the recipe", "step 2, switch nobody on:")
}

// A text that only begins like what is there is not taken for it.
func TestRecipeAddsWhatIsNearlyThere(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	folder := filepath.Join(filepath.Dir(h.home), "more")
	list := filepath.Join(h.dir, "conf/list.script")
	write(t, list, "n = [\n  30,\n  31\n];\n")
	put(t, filepath.Join(folder, "recipe.toml"), "dialect = 'harrow-sound'\n[[step]]\ndo = 'add to'\nfile = 'conf/list.script'\nname = 'n = ['\ntext = 'three'\n")
	put(t, filepath.Join(folder, "three"), "  3\n")
	h.do(0, "recipe", "run", "h", folder)
	insist.Same(t, "the list", contents(t, list), "n = [\n  30,\n  31,\n  3\n];\n")
	insist.Holds(t, "once more", h.do(0, "recipe", "run", "h", folder), "so already", "nothing to change")
	insist.Same(t, "the list", contents(t, list), "n = [\n  30,\n  31,\n  3\n];\n")
	put(t, filepath.Join(folder, "three"), "  31\n")
	insist.Holds(t, "one with a comma", h.do(0, "recipe", "run", "h", folder), "so already")
}
