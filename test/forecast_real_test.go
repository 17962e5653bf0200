package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
)

const (
	bzfs        = "/usr/games/bzfs"
	bzfsPlugins = "/usr/lib/bzflag-server"
	sharedMods  = "/usr/share/games/minetest/mods"
)

// minetestTrial makes worlds for the real server: mods from all that are
// installed, with holes in their needs, wrong names, odd values, and mods of its
// own in all states.
type minetestTrial struct {
	once    sync.Once
	folders []string
}

func (m *minetestTrial) lay(t *testing.T, r *rand.Rand, dir string) []string {
	m.once.Do(func() {
		pick := rand.New(rand.NewPCG(1, 1))
		entries, _ := os.ReadDir(sharedMods)
		for _, e := range entries {
			m.folders = append(m.folders, e.Name())
			inside, _ := os.ReadDir(filepath.Join(sharedMods, e.Name()))
			for _, i := range inside { // the mods of a bundle have names of their own
				if i.IsDir() && pick.IntN(4) == 0 {
					m.folders = append(m.folders, i.Name())
				}
			}
		}
	})
	own := filepath.Join(dir, "own")
	os.MkdirAll(own, 0o755)
	var world strings.Builder
	game := []string{"minetest_game", "minetest"}[r.IntN(2)] // as it is called here, and as the server itself writes it
	fmt.Fprintf(&world, "gameid = %s\nbackend = sqlite3\nplayer_backend = sqlite3\nauth_backend = sqlite3\nmod_storage_backend = sqlite3\n", game)
	names := some(r, m.folders, 1+r.IntN(20))
	for _, name := range names {
		if real, ok := map[string]string{"lucky-block": "lucky_block", "mobs_redo": "mobs"}[name]; ok && r.IntN(4) > 0 {
			name = real
		}
		value := "true"
		switch r.IntN(14) {
		case 0:
			value = "yes"
		case 1:
			value = "false"
		case 2:
			value = []string{"False", "on", "maybe"}[r.IntN(3)]
		case 3:
			value = "share/" + name // right for some, wrong for what is in a bundle
		case 4:
			value = "mods/" + name
		}
		fmt.Fprintf(&world, "load_mod_%s = %s\n", name, value)
	}
	if game == "minetest" { // it names all that it finds
		for _, name := range m.folders {
			if !slices.Contains(names, name) {
				fmt.Fprintf(&world, "load_mod_%s = false\n", name)
			}
		}
	}
	for i := range r.IntN(3) {
		fmt.Fprintf(&world, "load_mod_absent_%d = true\n", i)
	}
	mods := r.IntN(7)
	for i := range mods {
		m.own(t, r, dir, own, &world, i, names)
	}
	if r.IntN(25) == 0 {
		world.Reset()
		fmt.Fprintf(&world, "load_mod_%s = true\n", names[0])
	}
	put(t, filepath.Join(dir, "world.mt"), world.String())
	return []string{"minetest", "--set", "port=" + freePort(t), "--set", "mods=" + own}
}

// own writes one mod of the trial's own, in the world's folder or in one more
// folder for mods.
func (m *minetestTrial) own(t *testing.T, r *rand.Rand, dir, own string, world *strings.Builder, i int, names []string) {
	name := fmt.Sprintf("own_%d", i)
	where, registered := filepath.Join(dir, "worldmods"), false
	if r.IntN(2) == 0 {
		where, registered = own, true
	}
	if r.IntN(5) == 0 {
		where = filepath.Join(where, fmt.Sprintf("pack_%d", r.IntN(2)))
		put(t, filepath.Join(where, "modpack.conf"), "name = "+filepath.Base(where)+"\n")
	}
	if r.IntN(5) == 0 { // hides an installed one, or one of the game
		name = append(names, "default", "dye", "doors")[r.IntN(len(names)+3)]
	}
	folder := filepath.Join(where, name)
	conf, script := "name = "+name+"\n", "-- nothing\n"
	var needs []string
	for range r.IntN(3) {
		needs = append(needs, []string{fmt.Sprintf("own_%d", r.IntN(7)), "default", "no_such_mod", names[r.IntN(len(names))]}[r.IntN(4)])
	}
	if len(needs) > 0 && r.IntN(3) == 0 {
		conf += "optional_depends = " + strings.Join(needs, ", ") + "\n"
	} else if len(needs) > 0 {
		conf += "depends = " + strings.Join(needs, ", ") + "\n"
	}
	switch r.IntN(16) {
	case 0:
		script = "this is = = no lua\n"
	case 1:
		script = "error('on purpose')\n"
	case 2:
		conf = "name = Bad.Name\n"
	case 3:
		conf += "what is this\n== nor this\n"
	case 4:
		conf = "" // without a manifest, its needs in the old file
		put(t, filepath.Join(folder, "depends.txt"), "default\nno_such_mod?\n")
	case 5:
		conf = "name = other_" + name + "\n"
	case 6:
		put(t, filepath.Join(folder, "readme.txt"), "no script\n")
		put(t, filepath.Join(folder, "mod.conf"), conf)
		if registered && r.IntN(2) == 0 {
			fmt.Fprintf(world, "load_mod_%s = true\n", name)
		}
		return
	}
	if conf != "" {
		put(t, filepath.Join(folder, "mod.conf"), conf)
	}
	put(t, filepath.Join(folder, "init.lua"), script)
	if registered && r.IntN(5) > 0 || r.IntN(6) == 0 {
		fmt.Fprintf(world, "load_mod_%s = true\n", name)
	}
}

// bzflagTrial makes options files for the real server.
type bzflagTrial struct {
	once  sync.Once
	names []string
}

func (b *bzflagTrial) lay(t *testing.T, r *rand.Rand, dir string) []string {
	b.once.Do(func() {
		files, _ := filepath.Glob(filepath.Join(bzfsPlugins, "*.so"))
		for _, f := range files {
			b.names = append(b.names, strings.TrimSuffix(filepath.Base(f), ".so"))
		}
	})
	var conf strings.Builder
	fmt.Fprintf(&conf, "# a trial\n-mp 10\n-i 127.0.0.1\n-p %s\n", freePort(t))
	names := some(r, b.names, r.IntN(12))
	for i := range r.IntN(3) {
		names = append(names, fmt.Sprintf("noSuch%d", i))
	}
	if len(names) > 0 && r.IntN(4) == 0 {
		names = append(names, names[r.IntN(len(names))]) // twice
	}
	for _, name := range some(r, names, len(names)) {
		switch r.IntN(8) {
		case 0:
			name = "# -loadplugin " + name + "\n"
		case 1:
			name = "-loadplugin " + filepath.Join(bzfsPlugins, name+".so") + "\n"
		default:
			name = "-loadplugin " + name + "\n"
		}
		conf.WriteString(name)
	}
	put(t, filepath.Join(dir, "bzfs.conf"), conf.String())
	if r.IntN(5) == 0 {
		put(t, filepath.Join(dir, "plugins", "broken.so"), "no plugin")
	}
	return []string{"bzflag"}
}
