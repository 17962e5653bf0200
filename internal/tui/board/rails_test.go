package board

import (
	"fmt"
	"testing"

	"initium/internal/insist"
	"initium/internal/tui/canvas"
	"initium/internal/tui/screentest"
)

func drawRails(needs []need, lanes, rows, selected int) string {
	c := canvas.New(2*lanes+1, rows)
	r := newRails(needs, rows)
	r.place(lanes, selected, 0, rows)
	r.draw(c, 0, 0, 2*lanes+1, 0, rows, selected)
	return screentest.Plain(c)
}

func TestRails(t *testing.T) {
	for name, test := range map[string]struct {
		needs    []need
		lanes    int
		rows     int
		selected int
		want     string
	}{
		"one need":                {[]need{{from: 2, to: 0}}, 2, 3, -1, "─○\n │\n─╯"},
		"two users":               {[]need{{from: 1, to: 0}, {from: 3, to: 0}}, 2, 4, -1, "─○\n─┤\n │\n─╯"},
		"the wrong way":           {[]need{{from: 0, to: 2}}, 2, 3, -1, "━┓\n ┃\n━○"},
		"no order, no wrong":      {[]need{{from: 0, to: 2, unordered: true}}, 2, 3, -1, "─╮\n │\n─○"},
		"two side by side":        {[]need{{from: 1, to: 0}, {from: 3, to: 0}, {from: 3, to: 2}}, 2, 4, -1, "───○\n───┤\n─○ │\n─┴─╯"},
		"passing behind":          {[]need{{from: 2, to: 0}, {from: 3, to: 1}}, 2, 4, -1, "─○\n─│─○\n─╯ │\n───╯"},
		"no room, nothing chosen": {[]need{{from: 2, to: 0}, {from: 3, to: 1}}, 1, 4, -1, ""},
		"no room, one chosen":     {[]need{{from: 2, to: 0}, {from: 3, to: 1}}, 1, 4, 3, "\n─○\n │\n─╯"},
		"no room, one wrong":      {[]need{{from: 2, to: 0}, {from: 1, to: 3}}, 1, 4, -1, "\n━┓\n ┃\n━○"},
		"nothing":                 {nil, 2, 3, 0, ""},
	} {
		insist.Same(t, name, drawRails(test.needs, test.lanes, test.rows, test.selected), test.want)
	}
}

// TestRailsInAWindow draws a part of the rows only.
func TestRailsInAWindow(t *testing.T) {
	r := newRails([]need{{from: 90, to: 2}, {from: 50, to: 49}}, 100)
	r.place(3, -1, 49, 52)
	c := canvas.New(7, 3)
	r.draw(c, 0, 0, 7, 49, 52, -1)
	insist.Same(t, "", screentest.Plain(c), "─○ │\n─╯ │\n   │")
}

// TestRailsHoldStill: where all fit, choosing another row moves no line.
func TestRailsHoldStill(t *testing.T) {
	needs := []need{{from: 3, to: 0}, {from: 2, to: 1}, {from: 5, to: 4}, {from: 1, to: 5}}
	first := newRails(needs, 6)
	first.place(5, -1, 0, 6)
	for selected := range 6 {
		r := newRails(needs, 6)
		r.place(5, selected, 0, 6)
		for i := range r.trunks {
			insist.Same(t, fmt.Sprintf("with row %d chosen, trunk %d is in lane", selected, i), r.trunks[i].lane, first.trunks[i].lane)
		}
	}
}
