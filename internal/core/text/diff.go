package text

import "bytes"

// maxDiff bounds the work of Diff: two documents that differ by more lines than
// this are shown as one block replaced by another.
const maxDiff = 2000

// Change is a run of lines that differs between two documents: lines OldFrom to
// OldTo of the one (from 0, half open) stand where lines NewFrom to NewTo of
// the other do.
type Change struct{ OldFrom, OldTo, NewFrom, NewTo int }

// Diff compares two documents line by line, endings included, and returns the
// runs that differ, fewest lines first found by Myers' greedy method.
func Diff(old, new []byte) []Change {
	a, b := rawLines(old), rawLines(new)
	head := 0
	for head < len(a) && head < len(b) && bytes.Equal(a[head], b[head]) {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && bytes.Equal(a[len(a)-1-tail], b[len(b)-1-tail]) {
		tail++
	}
	a, b = a[head:len(a)-tail], b[head:len(b)-tail]
	if len(a) == 0 && len(b) == 0 {
		return nil
	}
	if len(a) == 0 || len(b) == 0 {
		return []Change{{head, head + len(a), head, head + len(b)}}
	}
	return shortestEdit(a, b, head)
}

func rawLines(doc []byte) [][]byte {
	lines := bytes.SplitAfter(doc, []byte{'\n'})
	if n := len(lines); len(lines[n-1]) == 0 { // there is one at least
		lines = lines[:n-1]
	}
	return lines
}

// shortestEdit walks the edit graph of a and b by growing numbers of changed
// lines (E. W. Myers, An O(ND) Difference Algorithm, 1986) and reads the path
// back.
func shortestEdit(a, b [][]byte, shift int) []Change {
	limit := min(len(a)+len(b), maxDiff)
	furthest := make([]int, 2*limit+2)
	at := func(k int) *int { return &furthest[k+limit] }
	var trace [][]int
	for d := 0; d <= limit; d++ {
		trace = append(trace, append([]int(nil), furthest...))
		for k := -d; k <= d; k += 2 {
			x := 0
			switch {
			case d == 0:
			case k == -d || k != d && *at(k - 1) < *at(k + 1):
				x = *at(k + 1)
			default:
				x = *at(k - 1) + 1
			}
			for x < len(a) && x-k < len(b) && bytes.Equal(a[x], b[x-k]) {
				x++
			}
			*at(k) = x
			if x >= len(a) && x-k >= len(b) {
				return readBack(trace, len(a), len(b), limit, shift)
			}
		}
	}
	return []Change{{shift, shift + len(a), shift, shift + len(b)}}
}

func readBack(trace [][]int, x, y, limit, shift int) []Change {
	var steps []Change // single lines, last first
	for d := len(trace) - 1; d > 0; d-- {
		before := trace[d]
		k := x - y
		from := k - 1
		if k == -d || k != d && before[k-1+limit] < before[k+1+limit] {
			from = k + 1
		}
		px := before[from+limit]
		py := px - from
		if from > k { // a line of the new document came in
			steps = append(steps, Change{px, px, py, py + 1})
		} else {
			steps = append(steps, Change{px, px + 1, py, py})
		}
		x, y = px, py
	}
	var out []Change
	for i := len(steps) - 1; i >= 0; i-- {
		s := steps[i]
		s.OldFrom, s.OldTo, s.NewFrom, s.NewTo = s.OldFrom+shift, s.OldTo+shift, s.NewFrom+shift, s.NewTo+shift
		if n := len(out); n > 0 && out[n-1].OldTo == s.OldFrom && out[n-1].NewTo == s.NewFrom {
			out[n-1].OldTo, out[n-1].NewTo = s.OldTo, s.NewTo
			continue
		}
		out = append(out, s)
	}
	return out
}

// EditsBetween are the edits that turn old into new, line by line.
func EditsBetween(old, new []byte) []Edit {
	a, b := rawLines(old), rawLines(new)
	starts := make([]int, len(a)+1)
	for i, line := range a {
		starts[i+1] = starts[i] + len(line)
	}
	var edits []Edit
	for _, c := range Diff(old, new) {
		edits = append(edits, Edit{Span{starts[c.OldFrom], starts[c.OldTo]}, string(bytes.Join(b[c.NewFrom:c.NewTo], nil))})
	}
	return edits
}
