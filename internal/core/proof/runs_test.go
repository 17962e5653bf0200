package proof_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/insist"
)

// Random runs of a server against its own record of them: players repeat its lines, it lists every
// file before it loads any, it loads mods anew and new ones while it runs, and some fail late. What
// the start showed, and what came later, is what the record says, whatever else is in the log.
func TestRandomRuns(t *testing.T) {
	held := strings.NewReplacer("means = \"loaded\"", "means = \"loaded\"\nsource = \"gate\"", "means = \"failed\"\nline = \"broke {mod}\"\nnext = true", "means = \"failed\"\nsource = \"gate\"\nline = \"broke {mod}: {reason}\"",
		"means = \"ready\"", "means = \"ready\"\nsource = \"gate\"", "means = \"loading\"", "means = \"loading\"\nsource = \"gate\"").Replace(gate) + "[log]\nprefix = \"{time} {source}: \"\n"
	head, rules, _ := strings.Cut(held, "[[log.rule]]")
	rules, log, _ := strings.Cut(rules, "[log]")
	d, err := dialect.Parse("gate.toml", []byte(head+"[log]"+log+"[[log.rule]]"+rules))
	insist.OK(t, err)
	for round := range 2000 {
		r := rand.New(rand.NewPCG(3, uint64(round)))
		var expected []proof.Expected
		names := []string{"ash", "ash2", "elm", "fir", "oak", "yew", "yew.b"}[:2+r.IntN(6)]
		for _, name := range names {
			expected = append(expected, proof.Expected{Name: name, Registered: r.IntN(4) > 0})
		}
		at := time.Duration(0)
		reader := proof.NewReader(d, "/srv", expected, nil)
		reader.Sole = true
		var text strings.Builder
		line := func(source, said string) {
			for r.IntN(3) == 0 { // a player says what he likes
				lie := fmt.Sprintf("10:00:00 <Bo>: %s\n", []string{"found " + names[r.IntN(len(names))], "broke " + names[r.IntN(len(names))] + ": ha", "up", "loading 1", "loaded all"}[r.IntN(5)])
				text.WriteString(lie)
				reader.Feed([]byte(lie), at)
			}
			at += time.Duration(r.IntN(500)) * time.Millisecond
			whole := fmt.Sprintf("10:00:00 %s: %s\n", source, said)
			text.WriteString(whole)
			for len(whole) > 0 { // as it comes, in pieces
				n := 1 + r.IntN(len(whole))
				reader.Feed([]byte(whole[:n]), at)
				whole = whole[n:]
			}
		}
		// The record: what became of each mod in the start, and later.
		start, later := map[string]string{}, map[string]string{}
		for _, name := range names {
			line("gate", "found "+name) // before it loads any
		}
		line("gate", fmt.Sprintf("loading %d", len(names)))
		for _, i := range r.Perm(len(names)) {
			name := names[i]
			switch r.IntN(5) {
			case 0: // nothing is said of it
			case 1:
				line("gate", "broke "+name+": it rots")
				start[name] = "failed"
			default:
				line("gate", "begins "+name)
				line("gate", "found "+name)
				start[name] = "confirmed"
			}
		}
		line("gate", "loaded all")
		line("gate", "found "+names[0]) // of another part
		line("gate", "up")
		reader.End(reader.Lines())
		line("gate", "loading one more")
		for range r.IntN(6) {
			name := append(slices.Clone(names), "new")[r.IntN(len(names)+1)]
			if r.IntN(2) == 0 {
				line("gate", "broke "+name+": it rots late")
				later[name] = "failed"
				continue
			}
			line("gate", "found "+name)
			if start[name] != "confirmed" || later[name] != "" { // else it is no news
				later[name] = "confirmed"
			}
		}
		p := reader.Judge(proof.End{})
		for _, e := range expected {
			want := start[e.Name]
			switch {
			case want == "" && e.Registered:
				want = "silent"
			case want == "confirmed" && !e.Registered:
				want = "unlisted"
			}
			got := ""
			if m := p.Find(e.Name); m != nil {
				got = string(m.Outcome)
			}
			insist.Need(t, got == want, "round %d: %s is %q, and the record says %q:\n%s", round, e.Name, got, want, text.String())
		}
		for _, name := range append(slices.Clone(names), "new") {
			got := ""
			if m := p.FindLater(name); m != nil {
				got = string(m.Outcome)
			}
			insist.Need(t, got == later[name], "round %d: later %s is %q, and the record says %q:\n%s", round, name, got, later[name], text.String())
		}
	}
}
