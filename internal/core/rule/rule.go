// Package rule holds what an operator has written down about mods: which comes
// before which, what cannot be together, what a mod without a manifest needs.
package rule

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/text"
)

// Kind is what a rule demands.
type Kind string

// The kinds of rules. Those about order say nothing about what has to be there.
const (
	Before Kind = "before" // Mod loads before Other, if both are there
	After  Kind = "after"  // Mod loads after Other, if both are there
	Apart  Kind = "apart"  // Mod and Other cannot be together
	First  Kind = "first"  // Mod loads before all that it does not need
	Last   Kind = "last"   // Mod loads after all that do not need it
	Stay   Kind = "stay"   // Mod's line is not moved by a repair
	Needs  Kind = "needs"  // Mod cannot do without Other
	Reads  Kind = "reads"  // Mod reads the setting Other when it starts
)

// kinds are all kinds, in the order in which they are explained.
var kinds = []string{string(Before), string(After), string(Apart), string(First), string(Last), string(Stay), string(Needs), string(Reads)}

// Pair tells whether a rule of this kind names two things.
func (k Kind) Pair() bool { return k != First && k != Last && k != Stay }

// Rule is one rule.
type Rule struct {
	Number  int64  `json:"number"` // by which it can be taken back
	Kind    Kind   `json:"kind"`
	Mod     string `json:"mod"`
	Other   string `json:"other,omitempty"`
	Because string `json:"because"`
	Family  bool   `json:"family"`        // for all servers of the dialect, not for one
	Log     string `json:"log,omitempty"` // the log line that it was read from; "" when the operator wrote it down
}

// Same tells whether two rules say the same, for whatever reason and scope.
func (r Rule) Same(other Rule) bool {
	return r.Kind == other.Kind && r.Mod == other.Mod && r.Other == other.Other
}

// End tells whether a rule of this kind is about the first or the last place.
func (k Kind) End() bool { return k == First || k == Last }

// String says the rule as an operator would.
func (r Rule) String() string {
	mod, other := text.Clean(r.Mod), text.Clean(r.Other)
	switch r.Kind {
	case Before, After:
		return fmt.Sprintf("%s loads %s %s", mod, r.Kind, other)
	case Apart:
		return fmt.Sprintf("%s and %s are not together", mod, other)
	case First, Last:
		return fmt.Sprintf("%s loads %s", mod, r.Kind)
	case Stay:
		return mod + " stays where it is"
	case Reads:
		return fmt.Sprintf("%s reads the setting %s when it starts", mod, other)
	}
	return fmt.Sprintf("%s needs %s", mod, other)
}

// Why says who wants it so, for the end of a sentence.
func (r Rule) Why() string {
	switch {
	case r.Log != "":
		return "read from the log"
	case r.Because != "":
		return "your rule: " + text.Clean(r.Because)
	}
	return "your rule"
}

// Check says what is wrong with a rule before it is kept.
func (r Rule) Check() error {
	switch {
	case !slices.Contains(kinds, string(r.Kind)):
		return fmt.Errorf("%q is no kind of rule; there are: %s", text.Clean(string(r.Kind)), strings.Join(kinds, ", "))
	case r.Mod == "" || strings.TrimSpace(r.Mod) != r.Mod:
		return fmt.Errorf("a rule needs the exact name of a mod")
	case r.Kind.Pair() && (r.Other == "" || strings.TrimSpace(r.Other) != r.Other):
		return fmt.Errorf("a rule of the kind %q needs two names", r.Kind)
	case !r.Kind.Pair() && r.Other != "":
		return fmt.Errorf("a rule of the kind %q takes one name", r.Kind)
	case r.Mod == r.Other:
		return fmt.Errorf("a rule about %s and itself makes no sense", text.Clean(r.Mod))
	}
	return nil
}
