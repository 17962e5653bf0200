package rule_test

import (
	"fmt"
	"testing"

	"initium/internal/core/rule"
	"initium/internal/insist"
)

// What each kind of rule says, and which rules are none.
func TestRules(t *testing.T) {
	for _, test := range []struct {
		r         rule.Rule
		says, bad string
	}{
		{rule.Rule{Kind: rule.Before, Mod: "a", Other: "b"}, "a loads before b", ""},
		{rule.Rule{Kind: rule.After, Mod: "a", Other: "b"}, "a loads after b", ""},
		{rule.Rule{Kind: rule.Apart, Mod: "a", Other: "b"}, "a and b are not together", ""},
		{rule.Rule{Kind: rule.Needs, Mod: "a", Other: "b"}, "a needs b", ""},
		{rule.Rule{Kind: rule.Reads, Mod: "a", Other: "b"}, "a reads the setting b when it starts", ""},
		{rule.Rule{Kind: rule.First, Mod: "a"}, "a loads first", ""},
		{rule.Rule{Kind: rule.Last, Mod: "a"}, "a loads last", ""},
		{rule.Rule{Kind: rule.Stay, Mod: "a"}, "a stays where it is", ""},
		{rule.Rule{Kind: rule.Needs, Mod: "a\x1b[2J", Other: "\u202eb"}, "a needs \ufffdb", ""},
		{rule.Rule{Kind: "near", Mod: "a", Other: "b"}, "a needs b", `"near" is no kind of rule; there are: before, after, apart, first, last, stay, needs, reads`},
		{rule.Rule{Mod: "a", Other: "b"}, "a needs b", `"" is no kind of rule; there are: before, after, apart, first, last, stay, needs, reads`},
		{rule.Rule{Kind: rule.Before, Other: "b"}, " loads before b", "a rule needs the exact name of a mod"},
		{rule.Rule{Kind: rule.Before, Mod: " a", Other: "b"}, " a loads before b", "a rule needs the exact name of a mod"},
		{rule.Rule{Kind: rule.Before, Mod: "a"}, "a loads before ", `a rule of the kind "before" needs two names`},
		{rule.Rule{Kind: rule.Reads, Mod: "a", Other: "b "}, "a reads the setting b  when it starts", `a rule of the kind "reads" needs two names`},
		{rule.Rule{Kind: rule.Stay, Mod: "a", Other: "b"}, "a stays where it is", `a rule of the kind "stay" takes one name`},
		{rule.Rule{Kind: rule.First, Mod: "a", Other: "a"}, "a loads first", `a rule of the kind "first" takes one name`},
		{rule.Rule{Kind: rule.Apart, Mod: "a", Other: "a"}, "a and a are not together", "a rule about a and itself makes no sense"},
	} {
		bad := ""
		if err := test.r.Check(); err != nil {
			bad = err.Error()
		}
		if got := test.r.String(); got != test.says || bad != test.bad {
			t.Errorf("%+v says %q, %q; want %q, %q", test.r, got, bad, test.says, test.bad)
		}
	}
	for kind, want := range map[rule.Kind][2]bool{rule.Before: {true, false}, rule.After: {true, false}, rule.Apart: {true, false}, rule.Needs: {true, false}, rule.Reads: {true, false}, rule.First: {false, true}, rule.Last: {false, true}, rule.Stay: {false, false}} {
		insist.That(t, kind.Pair() == want[0] && kind.End() == want[1], "%s: a pair %v, an end %v", kind, kind.Pair(), kind.End())
	}
	for want, r := range map[string]rule.Rule{"your rule": {}, "your rule: it sank": {Because: "it sank"}, "read from the log": {Because: "it sank", Log: "line"}} {
		insist.Same(t, fmt.Sprintf("%+v", r), r.Why(), want)
	}
}
