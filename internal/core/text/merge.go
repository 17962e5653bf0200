package text

import (
	"bytes"
	"fmt"
	"slices"
)

// Merge makes the change from base to want in current, a later version of base.
// The error names the first line of current where both changed the same lines.
func Merge(base, want, current []byte) ([]byte, error) {
	theirs := Diff(base, current)
	lines := rawLines(current)
	starts := make([]int, len(lines)+1)
	for i, line := range lines {
		starts[i+1] = starts[i] + len(line)
	}
	wantLines := rawLines(want)
	var edits []Edit
next:
	for _, c := range Diff(base, want) {
		shift := 0
		for _, t := range theirs {
			if t.OldFrom == c.OldFrom && t.OldTo == c.OldTo &&
				slices.EqualFunc(lines[t.NewFrom:t.NewTo], wantLines[c.NewFrom:c.NewTo], bytes.Equal) {
				continue next // both made the same change
			}
			// A change that only comes in touches the place between two lines.
			if t.OldFrom < c.OldTo && c.OldFrom < t.OldTo || t.OldFrom == c.OldFrom && (t.OldFrom == t.OldTo || c.OldFrom == c.OldTo) {
				return nil, fmt.Errorf("line %d has been changed since by somebody else", t.NewFrom+1)
			}
			if t.OldTo <= c.OldFrom {
				shift = t.NewTo - t.OldTo
			}
		}
		e := Edit{Span: Span{starts[c.OldFrom+shift], starts[c.OldTo+shift]}}
		for _, line := range wantLines[c.NewFrom:c.NewTo] {
			e.New += string(line)
		}
		edits = append(edits, e)
	}
	return Apply(current, edits)
}
