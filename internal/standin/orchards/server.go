// Package orchards is the stand-in for Nine Orchards, a made-up country of
// orchards and bees. An INI file has two lists side by side, of names and of
// catalogue numbers, and the map; the log names all that took in one line.
package orchards

import (
	"bufio"
	"database/sql"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	_ "modernc.org/sqlite" // the orchard's own database

	"initium/internal/standin/stage"
)

// Run serves until it is told to stop and returns the exit status. Its working
// directory is the server's folder.
func Run(st *stage.Stage) int {
	log := func(format string, args ...any) { st.Say(stage.Clock()+" "+format, args...) }
	log("Nine Orchards 4 reads orchard.ini")
	ini, err := readINI("orchard.ini")
	if err != nil {
		log("frost: orchard.ini cannot be read: %v", err)
		return 2
	}
	if _, err := os.Stat(filepath.Join("maps", ini["country/map"]+".map")); err != nil {
		log("frost: there is no map called %s", ini["country/map"])
		return 4
	}
	closePort, err := st.Listen(ini["country/port"])
	if err != nil {
		log("frost: port %s is taken", ini["country/port"])
		return 5
	}
	defer closePort()
	names, numbers := list(ini["grafts/names"]), list(ini["grafts/numbers"])
	var took []string
	st.Gather(&stage.Crowd{
		Mods:   func() []string { return stage.Entries("grove/*", "") },
		Looks:  func(mod string) { log("looks at %s", mod) },
		Speech: func(said string) { log("<Bo> %s", said) },
		Comes: func(mod string) {
			if slices.Contains(took, mod) {
				return
			}
			tree, _ := readINI(filepath.Join("grove", mod, "graft.txt"))
			why := graft(st, mod, tree["/number"], took)
			st.Did(mod, why == "")
			if why != "" {
				log("blight on %s: %s", mod, why)
				return
			}
			took = append(took, mod)
			log("grafted: %s", mod)
		},
		Breaks: func(mod string) bool {
			i := slices.Index(took, mod)
			if i < 0 {
				return false
			}
			took = slices.Delete(took, i, i+1)
			log("blight on %s: mould", mod)
			return true
		},
	})
	for i, name := range names {
		if i >= len(numbers) {
			log("blight on %s: it has no number", name)
			st.Did(name, false)
			continue
		}
		why := graft(st, name, numbers[i], took)
		st.Did(name, why == "")
		if why != "" {
			log("blight on %s: %s", name, why)
			continue
		}
		took = append(took, name)
	}
	st.Unrest()
	log("grafted: %s", strings.Join(took, ", "))
	log("the bees are out over %s, port %s", ini["country/map"], ini["country/port"])
	st.Serve("winter", func(line string) {
		if line == "trees" {
			log("trees: %s", strings.Join(took, ", "))
			return
		}
		log("the words here are: trees, winter")
	})
	log("winter")
	return 0
}

func list(value string) []string {
	if value == "" {
		return nil
	}
	return strings.Split(value, ",")
}

// graft takes one mod in and says why it does not take; "" when it does.
func graft(st *stage.Stage, name, number string, took []string) string {
	if name == "" || strings.TrimSpace(name) != name || strings.ContainsAny(name, "/\\") {
		return "no tree has such a name"
	}
	m, err := readINI(filepath.Join("grove", name, "graft.txt"))
	if err != nil {
		return "there is no such tree in the grove"
	}
	if m["/number"] != number {
		return "its number is " + m["/number"] + ", the list says " + number
	}
	for _, need := range strings.Fields(m["/roots"]) {
		found := false
		for _, t := range took {
			found = found || t == need
		}
		if !found {
			return "its root " + need + " has not taken"
		}
	}
	if table := m["/table"]; table != "" && !hasTable("orchard.db", table) {
		return "orchard.db has no table " + table
	}
	ms, _ := strconv.Atoi(m["/grows"])
	st.Wait(ms)
	st.Store("hives", name)
	return ""
}

// hasTable asks a database whether it has a table.
func hasTable(file, table string) bool {
	if _, err := os.Stat(file); err != nil {
		return false
	}
	db, err := sql.Open("sqlite", "file:"+file+"?mode=ro")
	if err != nil {
		return false
	}
	defer db.Close()
	var n int
	return db.QueryRow(`SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name = ?`, table).Scan(&n) == nil && n == 1
}

// readINI reads a file into section/key and value.
func readINI(name string) (map[string]string, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	values, section := map[string]string{}, ""
	for scan := bufio.NewScanner(f); scan.Scan(); {
		line := strings.TrimSpace(scan.Text())
		if strings.HasPrefix(line, "[") && strings.HasSuffix(line, "]") {
			section = line[1 : len(line)-1]
			continue
		}
		if key, value, ok := strings.Cut(line, "="); ok && line[0] != ';' && line[0] != '#' {
			values[section+"/"+strings.TrimSpace(key)] = strings.TrimSpace(value)
		}
	}
	return values, nil
}
