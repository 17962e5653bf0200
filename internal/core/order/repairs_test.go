package order_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"initium/internal/core/order"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/golden"
)

// Servers of every kind, with sections, settings, rules, circles and mods that answer for
// others: what is wrong with their order, and how it would be mended, in full.
func TestRepairsInFull(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	var all strings.Builder
	for round := range 380 {
		n := 2 + r.IntN(9)
		name := func(i int) string { return fmt.Sprintf("m%d", i) }
		var start strings.Builder
		var mods []string
		for i := range n {
			switch r.IntN(6) {
			case 0:
				fmt.Fprintf(&start, "\n# == Part %d ==\n", i)
			case 1:
				fmt.Fprintf(&start, "let s%d %d\n", r.IntN(3), i)
			}
			off := ""
			if r.IntN(8) == 0 {
				off = "# "
			}
			fmt.Fprintf(&start, "%suse %s\n", off, name(i))
			var about []string
			for _, key := range []string{"needs", "needs", "uses", "before", "after", "reads", "gives"} {
				if r.IntN(5) > 0 {
					continue
				}
				of := name(r.IntN(n))
				switch key {
				case "reads":
					of = fmt.Sprint("s", r.IntN(3))
				case "gives":
					of = fmt.Sprint("g", r.IntN(2))
				case "needs":
					if r.IntN(6) == 0 {
						of = fmt.Sprint("g", r.IntN(2))
					}
				}
				if line := fmt.Sprintf("%s = ['%s']", key, of); !strings.Contains(strings.Join(about, ";"), key+" =") {
					about = append(about, line)
				}
			}
			mods = append(mods, name(i)+": "+strings.Join(about, "; "))
		}
		var rules []rule.Rule
		for range r.IntN(3) {
			kind := []rule.Kind{rule.Before, rule.After, rule.First, rule.Last, rule.Stay}[r.IntN(5)]
			one := rule.Rule{Kind: kind, Mod: name(r.IntN(n))}
			if kind == rule.Before || kind == rule.After {
				one.Other = name(r.IntN(n))
			}
			if one.Mod != one.Other {
				rules = append(rules, one)
			}
		}
		l := order.Read(survey.Take(input(t, start.String(), rules, mods...)))
		fmt.Fprintf(&all, "server %d:\n", round)
		for _, line := range strings.Split(strings.TrimSpace(start.String()), "\n") {
			if line != "" {
				fmt.Fprintf(&all, "  | %s\n", line)
			}
		}
		for _, m := range mods {
			fmt.Fprintf(&all, "  %s\n", strings.TrimSpace(m))
		}
		for _, one := range rules {
			fmt.Fprintf(&all, "  rule: %s\n", one)
		}
		for _, c := range l.Circles() {
			fmt.Fprintf(&all, "  circle %s: %s\n", strings.Join(c.All, " "), c.Describe())
		}
		for _, w := range l.Wrong() {
			fmt.Fprintf(&all, "  wrong: %s, fixed %v\n", w.Words(), w.Fixed)
		}
		repair := l.Repair()
		for _, m := range repair.Moves {
			fmt.Fprintf(&all, "  %s: %s\n", m.Change, strings.Join(m.Reasons, "; "))
		}
		for _, left := range repair.Left {
			fmt.Fprintf(&all, "  left: %s\n", left)
		}
		fmt.Fprintf(&all, "  %s, %d more than there have to be\n", repair.String(), repair.Excess)
	}
	golden.Check(t, "repairs.txt", all.String())
}
