package test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// pool is a set of made-up mods that need each other.
type pool struct {
	names []string
	needs map[string][]string
}

// newPool makes n mods; most needs can be met, some are holes, some make circles.
func newPool(r *rand.Rand, n int) *pool {
	p := &pool{needs: map[string][]string{}}
	for i := range n {
		p.names = append(p.names, fmt.Sprintf("mod_%02d", i))
	}
	for i, name := range p.names {
		for range r.IntN(3) {
			switch to := r.IntN(max(i, 1)); {
			case r.IntN(14) == 0:
				p.needs[name] = append(p.needs[name], "nowhere")
			case r.IntN(14) == 0:
				p.needs[name] = append(p.needs[name], p.names[r.IntN(n)])
			case i > 0:
				p.needs[name] = append(p.needs[name], p.names[to])
			}
		}
		slices.Sort(p.needs[name])
		p.needs[name] = slices.Compact(p.needs[name])
		p.needs[name] = slices.DeleteFunc(p.needs[name], func(s string) bool { return s == name })
	}
	return p
}

// lined lists most of the mods, mostly in order.
func (p *pool) lined(r *rand.Rand) []string {
	var list []string
	for _, name := range p.names {
		if r.IntN(8) > 0 {
			list = append(list, name)
		}
	}
	for range r.IntN(3) {
		if len(list) > 1 {
			i, j := r.IntN(len(list)), r.IntN(len(list))
			list[i], list[j] = list[j], list[i]
		}
	}
	if r.IntN(3) == 0 {
		list = slices.Insert(list, r.IntN(len(list)+1), "not_there")
	}
	return list
}

func quoted(list []string, q string) string {
	out := make([]string, len(list))
	for i := range list {
		out[i] = q + list[i] + q
	}
	return strings.Join(out, ", ")
}

type harrowTrial struct{}

func (harrowTrial) lay(t *testing.T, r *rand.Rand, dir string) []string {
	p := newPool(r, 4+r.IntN(16))
	folder := map[string]string{}
	var groups []string
	for _, name := range p.names {
		folder[name] = filepath.Join(dir, "cargo", name)
		if r.IntN(8) == 0 {
			groups = append(groups, "+group")
			folder[name] = filepath.Join(dir, "cargo", "+group", name)
		}
		bill := fmt.Sprintf("name = %q\nrelease = \"1.%d\"\nwaits_for = [%s]\n", name, r.IntN(9), quoted(p.needs[name], `"`))
		deck := fmt.Sprintf("haul %d\n", r.IntN(20))
		switch r.IntN(14) {
		case 0:
			bill = strings.Replace(bill, name, "another", 1)
		case 1:
			bill = "name = \n"
		case 2:
			deck += "chart depth\n"
		case 3:
			deck += "dance\n" // a word that it does not know
		case 4:
			deck = ""
		case 5:
			bill += fmt.Sprintf("tows = [%q]\n", p.names[r.IntN(len(p.names))])
		case 6:
			bill += fmt.Sprintf("likes = [%q]\n", p.names[r.IntN(len(p.names))])
		case 7:
			if r.IntN(2) == 0 {
				continue // not there at all
			}
		}
		put(t, filepath.Join(folder[name], "bill.toml"), bill)
		if deck != "" {
			put(t, filepath.Join(folder[name], "deck.script"), deck)
		}
	}
	var start strings.Builder
	fmt.Fprintf(&start, "let port %s\n", freePort(t))
	if r.IntN(15) > 0 {
		start.WriteString("let licence HS-1234\n")
	} else if r.IntN(2) == 0 {
		start.WriteString("let licence HS-PUT-YOURS-HERE\n")
	}
	lines := p.lined(r)
	if len(groups) > 0 {
		lines = slices.Insert(lines, r.IntN(len(lines)+1), "+group")
	}
	if r.IntN(5) == 0 && len(lines) > 0 {
		lines = append(lines, lines[r.IntN(len(lines))])
	}
	depth := -1
	if r.IntN(2) == 0 {
		depth = r.IntN(len(lines) + 1)
	}
	for i, name := range lines {
		if i == depth {
			start.WriteString("let depth 3\n")
		}
		if r.IntN(10) == 0 {
			start.WriteString("# ")
		}
		fmt.Fprintf(&start, "berth %s\n", name)
	}
	put(t, filepath.Join(dir, "harbour.start"), start.String())
	os.MkdirAll(filepath.Join(dir, "cargo"), 0o755)
	return []string{"harrow-sound", "--set", "pace=0"}
}

type lanternTrial struct{}

func (lanternTrial) lay(t *testing.T, r *rand.Rand, dir string) []string {
	p := newPool(r, 3+r.IntN(12))
	var all, own []string
	for _, name := range p.lined(r) {
		side := "all"
		if r.IntN(3) == 0 {
			side = "warden"
		}
		folder := filepath.Join(dir, "bog", name)
		manifest := fmt.Sprintf(`{"id": %q, "release": "2.%d", "needs": [%s], "side": %q, "burn": 3}`, name, r.IntN(5), quoted(p.needs[name], `"`), side)
		switch r.IntN(12) {
		case 0:
			manifest = `{"id": `
		case 1:
			put(t, filepath.Join(folder, "keys", name+".wick"), "wick of "+name)
		case 2:
			put(t, filepath.Join(folder, "keys", name+".wick"), "wick of "+name)
			put(t, filepath.Join(dir, "wicks", name+".wick"), "an old wick")
		case 3, 4:
			put(t, filepath.Join(folder, "keys", name+".wick"), "wick of "+name)
			put(t, filepath.Join(dir, "wicks", name+".wick"), "wick of "+name)
		}
		if name != "not_there" {
			put(t, filepath.Join(folder, "lantern.json"), manifest)
		}
		if (side == "warden") != (r.IntN(9) == 0) {
			own = append(own, name)
		} else {
			all = append(all, name)
		}
	}
	list := func(names []string) string {
		if len(names) == 0 {
			return ""
		}
		return "~" + strings.Join(names, ";~") + ";"
	}
	table := "<creatures>\n  <creature id=\"newt\"/>\n</creatures>\n"
	if r.IntN(12) == 0 {
		table = "<creatures>\n  <creature id=\"newt\">\n</creatures>\n"
	}
	put(t, filepath.Join(dir, "tables", "creatures.xml"), table)
	script := fmt.Sprintf("#!/bin/sh\ncd \"$(dirname \"$0\")\" || exit 1\nexec \"${MOOR:-initium}\" stand-in lantern-moor --pace \"${MOOR_PACE:-1}\" -- -port=%s '-lanterns=%s' '-wardens=%s'\n", "PORT", list(all), list(own))
	port := freePort(t)
	put(t, filepath.Join(dir, "moor.sh"), strings.Replace(script, "PORT", port, 1))
	os.Chmod(filepath.Join(dir, "moor.sh"), 0o755)
	return []string{"lantern-moor", "--set", "port=" + port, "--set", "pace=0"}
}

type cogwheelTrial struct{}

func (cogwheelTrial) lay(t *testing.T, r *rand.Rand, dir string) []string {
	p := newPool(r, 3+r.IntN(14))
	for _, name := range p.names {
		needs := slices.Clone(p.needs[name])
		for i := range needs {
			if r.IntN(4) == 0 {
				needs[i] += fmt.Sprintf(" >=3.%d", r.IntN(4))
			}
		}
		manifest := fmt.Sprintf("name: %s\nrelease: \"3.%d\"\nafter: [%s]\nwind: 2\n", name, r.IntN(5), quoted(needs, `"`))
		if r.IntN(8) == 0 {
			manifest += fmt.Sprintf("quarrels: [%s]\n", p.names[r.IntN(len(p.names))])
		}
		switch r.IntN(12) {
		case 0:
			manifest += "loader: winch\n"
		case 1:
			manifest += "loader: crank\n"
		case 2:
			manifest = "name: [\n"
		}
		var packed bytes.Buffer
		z := zip.NewWriter(&packed)
		w, _ := z.Create("ride.yaml")
		w.Write([]byte(manifest))
		z.Close()
		data := packed.Bytes()
		if r.IntN(16) == 0 {
			data = data[:len(data)/2]
		}
		put(t, filepath.Join(dir, "rides", name+".ride"), string(data))
	}
	os.MkdirAll(filepath.Join(dir, "rides"), 0o755)
	engine := "3\n"
	if r.IntN(12) == 0 {
		engine = "2\n"
	}
	put(t, filepath.Join(dir, "engine", "VERSION"), engine)
	put(t, filepath.Join(dir, "fair.json"), fmt.Sprintf("{\n  \"port\": %s,\n  \"loader\": \"crank\",\n  \"open\": [%s]\n}\n", freePort(t), quoted(p.lined(r), `"`)))
	return []string{"cogwheel-fair", "--set", "pace=0"}
}

type orchardsTrial struct{}

func (orchardsTrial) lay(t *testing.T, r *rand.Rand, dir string) []string {
	p := newPool(r, 3+r.IntN(12))
	var names, numbers []string
	for _, name := range p.lined(r) {
		number := fmt.Sprint(1000 + r.IntN(9000))
		if name != "not_there" {
			put(t, filepath.Join(dir, "grove", name, "graft.txt"), fmt.Sprintf("number = %s\nroots = %s\ngrows = 1\n", number, strings.Join(p.needs[name], " ")))
		}
		if r.IntN(10) == 0 {
			number = "77"
		}
		names, numbers = append(names, name), append(numbers, number)
	}
	os.MkdirAll(filepath.Join(dir, "grove"), 0o755)
	put(t, filepath.Join(dir, "maps", "hillside.map"), "hill\n")
	country := "hillside"
	if r.IntN(12) == 0 {
		country = "valley"
	}
	put(t, filepath.Join(dir, "orchard.ini"), fmt.Sprintf("[country]\ntitle=A\nport=%s\nmap=%s\n\n[grafts]\nnames=%s\nnumbers=%s\n",
		freePort(t), country, strings.Join(names, ","), strings.Join(numbers, ",")))
	return []string{"nine-orchards", "--set", "pace=0"}
}
