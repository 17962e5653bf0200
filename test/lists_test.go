package test

import (
	"path/filepath"
	"strings"
	"testing"

	"initium/internal/insist"
)

// A mod goes from one list of the server to another, in every file that repeats them, in one plan that is taken back.
func TestMoveToAnotherList(t *testing.T) {
	t.Parallel()
	m := newMoor(t)
	script, unit := filepath.Join(m.dir, "moor.sh"), filepath.Join(m.dir, "lantern-moor.service")
	before := contents(t, script) + contents(t, unit)
	const wardens = "wardens in the start script"
	insist.Holds(t, "no such list", m.try("move", "lantern-moor", "mist_bells", "--list", "guests").err, `has no list "guests"; it has start script; wardens in the start script`)
	insist.Holds(t, "no such mod", m.try("move", "lantern-moor", "nobody", "--list", wardens).err, "nobody")
	insist.Holds(t, "one that is on none", m.try("move", "lantern-moor", "peat_smoke", "--list", wardens).err, "peat_smoke is not registered")
	insist.Holds(t, "there already", m.try("move", "lantern-moor", "ford_keepers", "--list", wardens).err, "so already")
	m.do(0, "off", "lantern-moor", "mist_bells")
	m.do(0, "on", "lantern-moor", "mist_bells")
	m.do(0, "move", "lantern-moor", "mist_bells", "--list", wardens)
	for name, text := range map[string]string{"script": contents(t, script), "unit": contents(t, unit)} {
		insist.Lacks(t, name, text, "~mist_bells;~stilt_walks")
		insist.Holds(t, name, text, "-wardens=~ford_keepers;~mist_bells;")
		insist.Same(t, name, strings.Count(text, "mist_bells"), 1)
	}
	m.do(0, "undo", "lantern-moor")
	insist.Same(t, "taken back", contents(t, script)+contents(t, unit), before)
	m.do(0, "off", "lantern-moor", "mist_bells")
	m.do(0, "move", "lantern-moor", "mist_bells", "--list", wardens)
	insist.Lacks(t, "one that is off is off there too", contents(t, script), "mist_bells;")
	m.do(0, "on", "lantern-moor", "mist_bells")
	insist.Holds(t, "and comes back there", contents(t, script), "-wardens=~ford_keepers;~mist_bells;")
	insist.Holds(t, "a new one", m.do(0, "register", "lantern-moor", "peat_smoke", "--list", wardens), "~peat_smoke")
	insist.Holds(t, "a new one", contents(t, script), "-wardens=~ford_keepers;~mist_bells;~peat_smoke;")
	insist.Holds(t, "on no list", m.try("register", "lantern-moor", "peat_smoke", "--list", "guests").err, "has no list")
}
