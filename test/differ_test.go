package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

type differJSON struct {
	Differences []struct {
		Kind, Where, Name, A, B string
		Own                     bool
	}
}

// rest are the differences that are not each server's own.
func (d *differJSON) rest() string {
	var said []string
	for _, one := range d.Differences {
		if !one.Own {
			said = append(said, fmt.Sprintf("%s %s: %s | %s", one.Kind, one.Name, one.A, one.B))
		}
	}
	return strings.Join(said, "\n")
}

// twins are two harbours, of which the second is called live.
func twins(t *testing.T, script string, mods ...string) (test, live *harbour) {
	t.Helper()
	test = newHarbour(t, script)
	for _, name := range mods {
		test.cargo(name, "", "haul 1\n")
	}
	live = &harbour{operator: test.operator, dir: filepath.Join(filepath.Dir(test.home), "live"), port: freePort(t)}
	copyAll(t, test.dir, live.dir)
	start := filepath.Join(live.dir, "harbour.start")
	write(t, start, strings.Replace(contents(t, start), test.port, live.port, 1))
	live.do(0, "adopt", live.dir, "--as", "live", "--set", "pace=0.05")
	return test, live
}

// What a test server has is told beside the live one, carried there in one plan, proved there, and taken back.
func TestDifferAndCarry(t *testing.T) {
	t.Parallel()
	h, live := twins(t, "let depth 3\nberth a\nberth b\nberth c\n", "a", "b", "c")
	insist.Holds(t, "at first", h.do(0, "differ", "h", "live"), "nothing but what is each one's own", "setting port in harbour.start: "+h.port+" | "+live.port)
	before := below(t, live.dir)
	h.do(0, "set", "h", "depth", "5")
	h.do(0, "set", "h", "licence", "HS-0THER-KEY-1")
	h.do(0, "off", "h", "b")
	h.do(0, "move", "h", "c", "--before", "a")
	h.cargo("d", "a", "haul 1\n")
	h.do(0, "register", "h", "d")
	write(t, filepath.Join(h.dir, "cargo/a/deck.script"), "haul 1\ncall newer\n")
	live.cargo("old", "", "haul 1\n")
	live.do(0, "register", "live", "old", "--before", "a")

	said := h.do(1, "differ", "h", "live")
	insist.Holds(t, "told", said, "mod a: 1.0 on, its own files | 1.0 on, other files", "mod b: 1.0 off | 1.0 on", "mod d: 1.0 on | not there", "mod old: not there | 1.0 on", "order c: first | behind b", "setting depth in harbour.start: 5 | 3",
		"each one's own:", "setting licence in harbour.start: •••••• (one) | •••••• (another)", "initium carry h live gives live what h has")
	insist.Lacks(t, "told", said, "0THER")
	insist.Holds(t, "one mod alone", h.do(0, "carry", "h", "live", "d", "--show"), "berth d")
	h.do(0, "carry", "h", "live", "d")
	var d differJSON
	h.json(1, &d, "differ", "h", "live", "--json")
	insist.Lacks(t, "then", d.rest(), "mod d")
	insist.Holds(t, "then", d.rest(), "mod b", "mod old")
	h.do(0, "carry", "h", "live", "--stage")
	h.do(0, "apply", "live", "--prove", "--or-return")
	said = h.do(0, "carry", "h", "live")
	insist.Holds(t, "after it", said, "nothing to carry", "left as it is: setting port")
	h.do(0, "differ", "h", "live")
	insist.Holds(t, "what is its own", contents(t, filepath.Join(live.dir, "harbour.start")), "let port "+live.port)
	insist.Same(t, "it proves there", live.proves("live", h.prove(0).outcomes()).Verdict, "proved")
	h.do(0, "set", "h", "depth", "6")
	insist.Holds(t, "how long it takes", h.do(0, "carry", "h", "live", "--show"), "let depth 6", "a start of live took")
	insist.Holds(t, "two families", h.try("differ", "h", newMoorBeside(t, h)).err, "only servers of one family")
	insist.Holds(t, "no such mod", h.try("carry", "h", "live", "nobody").err, "h has no mod nobody")
	h.do(0, "undo", "live", "0")
	insist.OK(t, os.RemoveAll(filepath.Join(live.dir, "cargo/old"))) // which came by itself, and is there again
	insist.Same(t, "back at the beginning", below(t, live.dir), before)
}

// What is each one's own by its operator's word is set apart; rules and expectations are carried with the rest, and a
// setting that is set more than once at each of its places.
func TestCarryNotesAndOwn(t *testing.T) {
	t.Parallel()
	h, live := twins(t, "let depth 3\nlet lamp 1\nberth a\nlet lamp 2\nberth b\n", "a", "b")
	h.do(0, "rule", "h", "before", "a", "b", "--because", "the crane")
	h.do(0, "expect", "h", "--line", "harbour open")
	live.do(0, "rule", "live", "apart", "a", "b")
	write(t, filepath.Join(h.dir, "harbour.start"), strings.NewReplacer("let lamp 1", "let lamp 7", "let lamp 2", "let lamp 8", "let depth 3", "let depth 4").Replace(contents(t, filepath.Join(h.dir, "harbour.start"))))
	h.do(0, "own", "live", "depth")
	insist.Holds(t, "twice", h.try("own", "live", "depth").err, "so already")
	insist.Holds(t, "none", h.try("own", "live", "dpeth").err, "nothing sets dpeth")
	insist.Holds(t, "by the dialect", h.try("own", "live", "port", "--not").err, "by its dialect")
	said := h.do(1, "differ", "h", "live")
	before, own, _ := strings.Cut(said, "each one's own:")
	insist.Lacks(t, "what is own", before, "depth")
	insist.Holds(t, "what is own", own, "setting depth in harbour.start: 4 | 3")
	script := contents(t, filepath.Join(live.dir, "harbour.start"))
	said = h.do(0, "carry", "h", "live", "--show")
	insist.Holds(t, "shown", said, "written down: a loads before b", "written down: expected:", "only live has it", "depth in harbour.start")
	insist.Holds(t, "nothing is written down by that", h.do(0, "rule", "live"), "not together")
	insist.Lacks(t, "nothing is written down by that", h.do(0, "rule", "live"), "loads before")
	insist.Holds(t, "staged", h.do(0, "carry", "h", "live", "--stage"), "left for afterwards: 2 rules and expectations")
	h.do(0, "apply", "live")
	insist.Holds(t, "afterwards", h.do(0, "carry", "h", "live"), "written down: a loads before b", "written down: expected:")
	insist.Same(t, "the script", contents(t, filepath.Join(live.dir, "harbour.start")), strings.NewReplacer("let lamp 1", "let lamp 7", "let lamp 2", "let lamp 8").Replace(script))
	insist.Holds(t, "there", h.do(0, "rule", "live"), "loads before", "the crane")
	h.do(0, "own", "live", "depth", "--not")
	h.do(0, "carry", "h", "live")
	insist.Holds(t, "carried", contents(t, filepath.Join(live.dir, "harbour.start")), "let depth 4")
	said = h.do(1, "differ", "h", "live")
	insist.Lacks(t, "what is left", said, "setting lamp", "setting depth", "loads before")
	write(t, filepath.Join(h.dir, "harbour.start"), strings.Replace(contents(t, filepath.Join(h.dir, "harbour.start")), "let lamp 8\n", "", 1))
	insist.Holds(t, "more often there", h.do(0, "carry", "h", "live"), "it is set 1 times on h, and 2 times on live")
}

// newMoorBeside is a server of another family with the same operator.
func newMoorBeside(t *testing.T, h *harbour) string {
	dir := filepath.Join(filepath.Dir(h.home), "moor")
	copyAll(t, "../demo/lantern-moor", dir)
	h.do(0, "adopt", dir, "--set", "port="+freePort(t))
	return "moor"
}

// Tables and data files are carried whole, and entries are told one by one.
func TestCarryTables(t *testing.T) {
	t.Parallel()
	m := newMoor(t)
	live := filepath.Join(filepath.Dir(m.home), "live")
	copyAll(t, m.dir, live)
	m.do(0, "adopt", live, "--as", "live", "--set", "port="+freePort(t))
	m.do(0, "take", "lantern-moor", m.comes("reeds", "1.1", newt, ""))
	said := m.do(1, "differ", "lantern-moor", "live")
	insist.Holds(t, "told", said, "mod reeds: 1.1 on | not there", "entry newt in tables/creatures.xml: "+newt+" | not there")
	insist.Lacks(t, "told", said, "@id", "heron")
	m.do(0, "carry", "lantern-moor", "live")
	insist.Same(t, "carried", contents(t, filepath.Join(live, "tables/creatures.xml")), contents(t, m.table))
	insist.Holds(t, "then", m.do(0, "differ", "lantern-moor", "live"), "nothing but what is each one's own")
	write(t, m.table, strings.Replace(contents(t, m.table), "</creatures>", "", 1))
	insist.Holds(t, "one that cannot be read", m.do(1, "differ", "lantern-moor", "live"), "file tables/creatures.xml")
	whole := contents(t, filepath.Join(live, "tables/creatures.xml"))
	insist.Holds(t, "is not carried", m.do(0, "carry", "lantern-moor", "live"), "it cannot be read")
	insist.Same(t, "the table", contents(t, filepath.Join(live, "tables/creatures.xml")), whole)
	m.do(0, "undo", "live")
	insist.Lacks(t, "taken back", contents(t, filepath.Join(live, "tables/creatures.xml")), "newt")
}

// Whatever is done to either of two servers, the one is as the other once that was carried over, but for what is its
// own.
func TestCarryRandomDifferences(t *testing.T) {
	t.Parallel()
	rounds := 12
	if n := os.Getenv("INITIUM_RUNS"); n != "" {
		fmt.Sscan(n, &rounds)
	}
	names := []string{"a", "b", "c", "d", "e", "f"}
	h, live := twins(t, "let depth 3\nlet lamp 1\nberth a\nberth b\nberth c\nberth d\nberth e\nberth f\n", names...)
	random := rand.New(rand.NewPCG(3, 9))
	pick := func() string { return names[random.IntN(len(names))] }
	for round := range rounds {
		for range 1 + random.IntN(6) {
			at := []*harbour{h, live}[random.IntN(2)]
			server := []string{"h", "live"}[map[bool]int{true: 0, false: 1}[at == h]]
			m, n := pick(), pick()
			for _, args := range [][][]string{
				{{"off", server, m}}, {{"on", server, m}}, {{"move", server, m, "--after", n}}, {{"unregister", server, m}}, {{"register", server, m}}, {{"remove", server, m, "--agree"}},
				{{"set", server, "depth", fmt.Sprint(random.IntN(9))}}, {{"unset", server, "lamp"}}, {{"set", server, "lamp", "2", "--in", "harbour.start"}},
			}[random.IntN(9)] {
				at.try(args...) // what is so already, or cannot be, is told
			}
			if name := pick(); random.IntN(3) == 0 {
				at.cargo(name, "", fmt.Sprintf("haul %d\n", random.IntN(4)))
			}
		}
		carried := h.try("carry", "h", "live")
		insist.Need(t, carried.status == 0, "round %d: %s%s", round, carried.out, carried.err)
		var d differJSON
		decode(t, h.try("differ", "h", "live", "--json").out, &d)
		insist.Need(t, d.rest() == "", "round %d leaves\n%s\nafter\n%s", round, d.rest(), carried.out)
	}
}
