package host_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/plan"
	"initium/internal/golden"
	"initium/internal/host"
	"initium/internal/host/disk"
	"initium/internal/insist"
)

// TestLedgersInFull changes files and folders at random, alone and together, lets somebody
// else change them too, goes back, forgets and settles; what each step says and leaves is
// held to what was read through once.
func TestLedgersInFull(t *testing.T) {
	insist.Long(t)
	r := rand.New(rand.NewPCG(41, 2))
	var all strings.Builder
	for round := range 26 {
		home := host.Home{Dir: t.TempDir()}
		l, dir := ledger(t, home), t.TempDir()
		say := func(format string, args ...any) {
			fmt.Fprintln(&all, strings.NewReplacer(dir, "/srv", home.Dir, "/home").Replace(fmt.Sprintf(format, args...)))
		}
		say("== %d", round)
		at := func(name string) string { return filepath.Join(dir, name) }
		text := func() string {
			var b strings.Builder
			for i := range 2 + r.IntN(4) {
				fmt.Fprintf(&b, "line %d %s\n", i, []string{"", "x", "y", "z"}[r.IntN(4)])
			}
			return b.String()
		}
		if r.IntN(3) > 0 {
			put(t, at("list"), text(), 0o644)
		}
		if r.IntN(3) == 0 {
			put(t, at("mods/a/own"), "own", 0o600)
		}
		for range 9 {
			switch r.IntN(9) {
			case 0, 1, 2, 3: // a plan
				p := &plan.Plan{}
				var words []string
				for _, name := range []string{"list", "deep/er/conf"} {
					if r.IntN(2) == 0 {
						continue
					}
					f := plan.File{Path: at(name), Want: []byte(text())}
					old, err := os.ReadFile(f.Path)
					if f.Old = old; err != nil {
						f.New, f.Old = true, nil
					}
					p.Files, words = append(p.Files, f), append(words, name)
				}
				files := source{"f/one": text(), "f/two": text(), "f/sub/three": "3"}
				for _, name := range []string{"mods/a", "mods/b"} {
					if r.IntN(2) == 0 {
						continue
					}
					contents := &disk.Digests{}
					items, err := contents.List(at(name))
					old := ""
					if err == nil && len(items) > 0 {
						old = plan.Digest(items)
					}
					switch r.IntN(3) {
					case 0:
						if old != "" {
							p.Parts = append(p.Parts, plan.Part{Path: at(name), Mod: name, What: "the mod", Old: old})
							words = append(words, name+" goes")
						}
					default:
						some := source{}
						for _, file := range []string{"f/two", "f/sub/three"} {
							if r.IntN(3) > 0 {
								some[file] = files[file]
							}
						}
						some["f/one"] = files["f/one"]
						part := folder(at(name), old, some)
						slices.SortFunc(part.Items, func(a, b plan.Item) int { return strings.Compare(a.Rel, b.Rel) })
						if part.New != part.Old {
							p.Parts, words = append(p.Parts, part), append(words, name)
						}
					}
				}
				if len(p.Files)+len(p.Parts) == 0 {
					continue
				}
				say("%s: %v", strings.Join(words, ", "), l.Apply(t.Context(), "s", "step", p, from(files)))
			case 4: // somebody else
				name := []string{"list", "deep/er/conf", "mods/a/f/one", "mods/b/new", "mods/a"}[r.IntN(5)]
				if r.IntN(2) == 0 {
					insist.OK(t, os.RemoveAll(at(name)))
					say("somebody takes %s away", name)
				} else if name != "mods/a" {
					put(t, at(name), text()+"theirs\n", 0o644)
					say("somebody writes %s", name)
				}
			case 5, 6, 7:
				to := r.IntN(5)
				p, err := l.Return("s", to)
				if err != nil {
					say("back to %d: %v", to, err)
					break
				}
				var parts []string
				for i := range p.Parts {
					parts = append(parts, p.Parts[i].Path+" "+p.Parts[i].String())
				}
				for _, f := range p.Files {
					parts = append(parts, fmt.Sprintf("%s %v %q by %d edits", f.Path, f.New, f.Want, len(f.Edits)))
				}
				say("back to %d, by %q: %v", to, parts, l.Apply(t.Context(), "s", "back", p, nil))
			case 8:
				upTo := r.IntN(4)
				_, err := l.Forget("s", upTo)
				say("forget up to %d: %v", upTo, err)
			}
			say("   %q", tree(t, dir))
		}
		entries, err := l.Entries("s")
		insist.OK(t, err)
		for _, e := range entries {
			say("entry %d %s %q", e.Number, e.Why, e.Files)
		}
		said, err := l.Recover("s")
		say("recover: %q, %v; idle %v", said, err, l.Idle("s"))
	}
	golden.Check(t, "ledgers.txt", all.String())
}
