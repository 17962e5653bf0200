// Package standin_test runs the simulated servers as their users would, and looks
// that they fail as servers do.
package standin_test

import (
	"archive/zip"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
	"initium/internal/standin/cogwheel"
	"initium/internal/standin/harrow"
	"initium/internal/standin/lantern"
	"initium/internal/standin/orchards"
	"initium/internal/standin/stage"
)

// at makes files in a scratch folder and makes that the working directory. It
// returns a port that is free.
func at(t *testing.T, files map[string]string) (port string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	insist.OK(t, err)
	defer l.Close()
	port = fmt.Sprint(l.Addr().(*net.TCPAddr).Port)
	t.Chdir(t.TempDir())
	for name, data := range files {
		insist.OK(t, os.MkdirAll(filepath.Dir(name), 0o755))
		if strings.HasSuffix(name, ".ride") {
			pack(t, name, data)
			continue
		}
		insist.OK(t, os.WriteFile(name, []byte(strings.ReplaceAll(data, "PORT", port)), 0o644))
	}
	return port
}

func pack(t *testing.T, name, manifest string) {
	t.Helper()
	f, err := os.Create(name)
	insist.OK(t, err)
	defer f.Close()
	z := zip.NewWriter(f)
	w, err := z.Create("ride.yaml")
	if err == nil {
		_, err = w.Write([]byte(manifest))
	}
	insist.Need(t, err == nil && z.Close() == nil, "%v", err)
}

// serve runs a server that is told to stop at once and returns what it said.
func serve(stop string, run func(*stage.Stage) int) (status int, log string) {
	var out strings.Builder
	status = run(&stage.Stage{In: strings.NewReader("help\n" + stop + "\n"), Out: &out})
	return status, out.String()
}

// said looks that a log has lines, in order.
func said(t *testing.T, log string, lines ...string) {
	t.Helper()
	rest := log
	for _, line := range lines {
		_, after, ok := strings.Cut(rest, line)
		if !ok {
			t.Errorf("%q is not said, or not in its place, in\n%s", line, log)
			return
		}
		rest = after
	}
}

func TestHarrowSound(t *testing.T) {
	at(t, map[string]string{
		"harbour.start":     "let title x # y\nlet port PORT\nlet licence L\nalso more\nberth a\nberth a\nberth +g\nberth \"no one\"\nberth b\nmumble\n",
		"more":              "let tide 3\n",
		"cargo/a/bill.toml": "release = '1'", "cargo/a/deck.script": "chart tide\nhaul 0\nstore\ncall hello\n",
		"cargo/+g/c/deck.script": "haul 0", "cargo/b/bill.toml": "waits_for = ['z']",
	})
	status, log := serve("cast off", func(s *stage.Stage) int { return harrow.Run(s, "harbour.start") })
	insist.Same(t, "exit status", status, 0)
	said(t, log, "makes no sense", "licence accepted", "a 1 is coming alongside", "a sets up its store", "a: hello", "a is made fast after 0 ms",
		"a lies alongside already", "c is made fast", "no cargo answers to no one", "b is turned away, it waits for z", "the sound is open", "the words here are", "good night")
	insist.OK(t, insist.Err(os.Stat("stores/a/state.txt")))
	at(t, map[string]string{"harbour.start": "let licence L\nlet port PORT\nberth a\n", "cargo/a/deck.script": "chart tide\n"})
	if status, log = serve("cast off", func(s *stage.Stage) int { return harrow.Run(s, "harbour.start") }); status != 3 {
		t.Errorf("a wreck ends with status %d", status)
	}
	said(t, log, "a ran aground: deck.script, line 1: the setting tide is not set at this point", "closing the sound: wreck at the pier")
}

func TestLanternMoor(t *testing.T) {
	port := at(t, map[string]string{
		"bog/a/lantern.json": `{"release": "1", "side": "all"}`, "bog/a/keys/a.wick": "k", "wicks/a.wick": "k",
		"bog/b/lantern.json": `{"needs": ["a"], "side": "all"}`, "bog/b/keys/b.wick": "k", "wicks/b.wick": "other",
		"bog/c/lantern.json": `{"needs": ["z"]}`, "bog/d/lantern.json": `{"side": "warden"}`, "bog/e/lantern.json": `{`,
	})
	run := func(args ...string) (int, string) {
		return serve("dawn", func(s *stage.Stage) int { return lantern.Run(s, append(args, "-port="+port)) })
	}
	status, log := run("-lanterns=~a;~b;~c;~d;~e;~f;g;~h", "-wardens=~d;", "-odd=1")
	insist.Same(t, "exit status", status, 0)
	said(t, log, "the parameter -odd means nothing", "not read without a ;", "a 1 burns (0 ms)", "b went out: b.wick is not among the wicks", "c wants z lit first",
		"d went out: it belongs on the other list", "e went out: lantern.json", "f is nowhere on the moor", `"g" is no lantern`, "d  burns", "night has fallen, 2 lit", "dawn")
	insist.That(t, !strings.Contains(log, "h is nowhere"), "the last item is read without its separator")
	insist.OK(t, os.MkdirAll("tables", 0o755))
	insist.OK(t, os.WriteFile("tables/creatures.xml", []byte("<creatures><creature></creatures>"), 0o644))
	if status, log = run(); status != 2 {
		t.Errorf("a broken table ends with status %d:\n%s", status, log)
	}
}

// fair is a fair with the engine that lies in its folder.
func fair(s *stage.Stage) int { return cogwheel.Run(s, "engine") }

func TestCogwheelFair(t *testing.T) {
	run := func() (int, string) { return serve("pack up", fair) }
	files := map[string]string{
		"fair.json": `{"port": PORT, "loader": "crank", "open": ["a", "b", "gone", "old"]}`, "engine/VERSION": "3",
		"rides/a.ride": "name: a\nrelease: '2'\nafter: [b]\n", "rides/b.ride": "name: b\n", "rides/old.ride": "name: old\nloader: spring\n",
	}
	at(t, files)
	status, log := run()
	insist.That(t, status == 0, "exit status %d:\n%s", status, log)
	said(t, log, "winding up b", "b turns", "winding up a 2", "a turns", "gone is on the list and not on the wagons", "old jams: it is built for the loader spring", "the gates are open", "packed up")
	files["rides/b.ride"] = "name: b\nafter: [a]\n"
	at(t, files)
	if status, log = run(); status != 3 {
		t.Errorf("a circle ends with status %d", status)
	}
	said(t, log, "a waits for itself")
	files["engine/VERSION"] = "2"
	at(t, files)
	if status, _ = run(); status != 6 {
		t.Errorf("an old engine ends with status %d", status)
	}
	files["fair.json"] = "{"
	at(t, files)
	if status, _ = run(); status != 2 {
		t.Errorf("a broken list ends with status %d", status)
	}
}

func TestNineOrchards(t *testing.T) {
	files := map[string]string{
		"orchard.ini":       "[country]\nport=PORT\nmap=hill\n[grafts]\nnames=a,b,c,d\nnumbers=1,9,3\n",
		"maps/hill.map":     "",
		"grove/a/graft.txt": "number = 1\n", "grove/b/graft.txt": "number = 2\n", "grove/c/graft.txt": "number = 3\nroots = b\n", "grove/d/graft.txt": "",
	}
	at(t, files)
	run := func() (int, string) { return serve("winter", orchards.Run) }
	status, log := run()
	insist.Same(t, "exit status", status, 0)
	said(t, log, "blight on b: its number is 2, the list says 9", "blight on c: its root b has not taken", "blight on d: it has no number", "grafted: a", "the bees are out over hill", "winter")
	delete(files, "maps/hill.map")
	at(t, files)
	if status, log = run(); status != 4 {
		t.Errorf("without its map it ends with status %d", status)
	}
	said(t, log, "frost: there is no map called hill")
}

func TestPortTaken(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	insist.OK(t, err)
	defer l.Close()
	port := fmt.Sprint(l.Addr().(*net.TCPAddr).Port)
	at(t, map[string]string{"harbour.start": "let licence L\nlet port " + port, "fair.json": `{"port": ` + port + `}`, "engine/VERSION": "3",
		"orchard.ini": "[country]\nmap=m\nport=" + port, "maps/m.map": ""})
	for name, run := range map[string]func(*stage.Stage) int{
		"harrow":   func(s *stage.Stage) int { return harrow.Run(s, "harbour.start") },
		"lantern":  func(s *stage.Stage) int { return lantern.Run(s, []string{"-port=" + port}) },
		"cogwheel": fair, "orchards": orchards.Run,
	} {
		if status, log := serve("", run); status != 5 || !strings.Contains(log, "port "+port+" is taken") {
			t.Errorf("%s ends with status %d:\n%s", name, status, log)
		}
	}
}
