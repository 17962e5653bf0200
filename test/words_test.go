package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/cli"
	"initium/internal/insist"
)

// What is mistyped is asked back with what was most likely meant, and ends with the status
// of wrong usage.
func TestMistyped(t *testing.T) {
	h := newHarbour(t, "# ~~ Boats ~~\nberth tide_tables\n")
	h.cargo("tide_tables", "", "haul 1\n")
	h.cargo("lamp", "", "haul 1\n")
	for line, want := range map[string]string{
		"chek":                               "chek is neither a command nor an adopted server; did you mean check?",
		"hh":                                 "hh is neither a command nor an adopted server",
		"anything_else":                      "(initium --help lists the commands",
		"check hh":                           "hh is not adopted",
		"check h --jsn":                      "did you mean --json?",
		"check h --nothing-like-it":          "see initium help check",
		"export proof h --htlm x":            "did you mean --html? See initium help export proof",
		"check":                              "see initium help check",
		"--versio":                           "did you mean --version? See initium help",
		"off h tide_table":                   "did you mean tide_tables?",
		"register h lmp":                     "did you mean lamp?",
		"move h tide_tables --before=lmap":   "did you mean lamp?",
		"move h tide_tables --section Boots": "did you mean Boats?",
		"off h nothing_near":                 "nothing_near is not registered on this server",
		"give h prot=1":                      "it takes: ",
		"give h port":                        "a value is given as KEY=VALUE",
		"adopt nowhere --dialect ha":         "no such file",
	} {
		if r := h.try(split(line)...); r.status < 2 || !strings.Contains(r.err, want) || strings.HasSuffix(strings.TrimSpace(r.err), "help initium") {
			t.Errorf("initium %s: %d %s", line, r.status, r.err)
		}
	}
	if out := h.do(0, "--version"); !strings.HasPrefix(out, "initium ") || strings.TrimSpace(out) == "initium" {
		t.Errorf("its version is %q", out)
	}
	help := h.do(0, "--help")
	for _, title := range []string{"Begin with a server:", "Change its line-up:", "Go back, and keep safe:"} {
		insist.Holds(t, fmt.Sprintf("the help has no group %q", title), help, title)
	}
	if _, rest, ok := strings.Cut(help, "Additional Commands:"); !ok || strings.Count(rest[:strings.Index(rest, "Flags:")], "\n  ") != 2 {
		t.Errorf("not every command is in a group:\n%s", help)
	}
}

// The shell completes servers, mods, sections, dialects, entries and what is one of few words.
func TestCompletion(t *testing.T) {
	h := newHarbour(t, "# ~~ Boats ~~\nberth tide_tables\n")
	h.cargo("tide_tables", "", "haul 1\n")
	h.cargo("lamp", "", "haul 1\n")
	h.do(0, "off", "h", "tide_tables")
	for line, want := range map[string]string{
		"survey ":                       "h",
		"register h ":                   "lamp",
		"register h lamp --before ":     "tide_tables",
		"register h lamp --section ":    "Boats",
		"adopt /tmp --dialect ":         "harrow-sound",
		"undo h ":                       "1\tswitch tide_tables off",
		"che":                           "check\tTell what is wrong",
		"rule h before tide_tables ":    "lamp",
		"dialect show ":                 "harrow-sound",
		"remedy h ":                     "lamp",
		"culprit ":                      "h",
		"survey none ":                  ":4",
		"off none ":                     ":4",
		"undo none ":                    ":4",
		"register none lamp --section ": ":4",
		"register --section ":           ":4",
	} {
		args := strings.Split(line, " ")
		if r := h.try(append([]string{"__complete"}, args...)...); r.status != 0 || !strings.Contains("\n"+r.out, "\n"+want) {
			t.Errorf("%s completes to %d\n%s%s", line, r.status, r.out, r.err)
		}
	}
}

// Values that a server is started with are listed, changed and taken back.
func TestGive(t *testing.T) {
	h := newHarbour(t, "berth a\n")
	h.cargo("a", "", "haul 1\n")
	port := strings.Fields(strings.SplitN(h.do(0, "give", "h"), "port ", 2)[1])[0]
	if out := h.do(0, "give", "h", "port=31555"); port == "" || out != "port is 31555\n" {
		t.Errorf("give says %q", out)
	}
	insist.Holds(t, "the list", h.do(0, "give", "h", "--json"), `"value": "31555"`, `"given": true`)
	insist.Holds(t, "adopted anew it", h.do(0, "adopt", h.dir, "--as", "h"), "31555")
	h.do(2, "give", "h", "port=31555")
	if out := h.do(0, "undo", "h", "--help"); out == "" {
		t.Error("no help")
	}
	insist.Holds(t, "undo", h.do(0, "undo", "h"), "value: port is no longer 31555")
	h.do(0, "prove", "h", "--keep-running")
	if r := h.try("give", "h", "port=31556"); r.status != 3 || !strings.Contains(r.err, "stop it first") {
		t.Errorf("under the running server: %d %s", r.status, r.err)
	}
	if r := h.try("undo", "h", "1"); r.status != 3 || !strings.Contains(r.err, "stop it first") {
		t.Errorf("and back: %d %s", r.status, r.err)
	}
	h.do(0, "stop", "h")
}

// Every command has a man page, that says what it is for.
func TestManuals(t *testing.T) {
	dir := t.TempDir()
	insist.OK(t, cli.Manuals(dir))
	pages, err := os.ReadDir(dir)
	insist.Need(t, err == nil && len(pages) >= 45, "%d pages, %v", len(pages), err)
	for _, page := range pages {
		said := contents(t, filepath.Join(dir, page.Name()))
		command := strings.TrimSuffix(page.Name(), ".1")
		if _, about, ok := strings.Cut(said, "\n"+command+" - "); !ok || len(strings.SplitN(about, "\n", 2)[0]) < 10 || !strings.Contains(said, "\\fB"+strings.ReplaceAll(command, "-", " ")) && command != "initium" && !strings.Contains(command, "stand-in") {
			t.Errorf("the page %s says\n%s", page.Name(), said)
		}
	}
	if err := cli.Manuals(filepath.Join(dir, "none")); err == nil {
		t.Error("pages are written into a folder that is not there")
	}
}
