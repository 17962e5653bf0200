package board

import (
	"cmp"
	"slices"

	"initium/internal/tui/canvas"
)

// need says that the mod in row From cannot load before the one in row To.
type need struct {
	from, to  int
	optional  bool
	unordered bool // the rows do not stand in load order
}

// rails draws who needs whom as lines between rows. Every mod that is needed
// has a trunk, a vertical line from its row to the rows of those that need it;
// its own end is a ring.
type rails struct {
	trunks []trunk
	depth  int // the most trunks that pass one row
	lanes  int // for which all trunks were placed last; 0 for none
}

type trunk struct {
	row      int   // of the mod that is needed
	users    []int // rows of those that need it
	lane     int   // -1 when there is no room
	low, top int   // the rows that it spans
	wrong    bool  // one of the users stands above it
}

// newRails gathers the needs between so many rows.
func newRails(needs []need, rows int) *rails {
	r := &rails{}
	at := make([]int32, rows) // of the trunk that a row has, from 1
	for _, n := range needs {
		if at[n.to] == 0 {
			r.trunks = append(r.trunks, trunk{row: n.to, low: n.to, top: n.to})
			at[n.to] = int32(len(r.trunks))
		}
		t := &r.trunks[at[n.to]-1]
		t.users = append(t.users, n.from)
		t.top, t.low = min(t.top, n.from), max(t.low, n.from)
		t.wrong = t.wrong || n.from < n.to && !n.unordered
	}
	open := make([]int32, rows+1) // how many trunks begin at a row, less those that ended before
	for i := range r.trunks {
		open[r.trunks[i].top]++
		open[r.trunks[i].low+1]--
	}
	passing := 0
	for _, change := range open {
		passing += int(change)
		r.depth = max(r.depth, passing)
	}
	slices.SortFunc(r.trunks, func(a, b trunk) int {
		if a.wrong != b.wrong {
			if a.wrong {
				return -1
			}
			return 1
		}
		// Short ones stand next to the names, so that lines cross less.
		return cmp.Or(cmp.Compare(a.low-a.top, b.low-b.top), cmp.Compare(a.row, b.row))
	})
	return r
}

// Place gives each trunk a lane. When all fit, the lanes do not depend on the
// selected row, so nothing jumps; else only trunks that point the wrong way and
// those of the selected row get one, as far as they can be seen between the rows
// first and last.
func (r *rails) place(lanes, selected, first, last int) {
	if r.depth <= lanes {
		if r.lanes == lanes {
			return
		}
		if r.assign(lanes, func(*trunk) bool { return true }) {
			r.lanes = lanes
			return
		}
	}
	r.lanes = 0
	seen := func(t *trunk) bool { return t.top < last && t.low >= first }
	r.assign(lanes,
		func(t *trunk) bool { return seen(t) && t.touches(selected) },
		func(t *trunk) bool { return seen(t) && t.wrong })
}

// assign gives lanes to the trunks that fit the first description, then to those
// that fit the next, and reports whether all of them got one.
func (r *rails) assign(lanes int, wanted ...func(*trunk) bool) bool {
	taken := make([][]*trunk, lanes)
	for i := range r.trunks {
		r.trunks[i].lane = -1
	}
	all := true
	for _, fits := range wanted {
		for i := range r.trunks {
			if t := &r.trunks[i]; t.lane < 0 && fits(t) {
				all = t.findLane(taken) && all
			}
		}
	}
	return all
}

// findLane takes the first lane that is free along the trunk's way, and tells
// whether there is one.
func (t *trunk) findLane(taken [][]*trunk) bool {
lane:
	for lane := range taken {
		for _, other := range taken[lane] {
			if t.top <= other.low && other.top <= t.low {
				continue lane
			}
		}
		t.lane = lane
		taken[lane] = append(taken[lane], t)
		return true
	}
	return false
}

func (t *trunk) touches(row int) bool {
	if t.row == row {
		return true
	}
	return slices.Contains(t.users, row)
}

// each calls f for every line that has a lane: from the mod in row t.row to one
// that needs it, in a column, with the rank that the line has in the picture.
func (r *rails) each(selected int, f func(t *trunk, user, col, rank int)) {
	for i := range r.trunks {
		t := &r.trunks[i]
		if t.lane < 0 {
			continue
		}
		for _, user := range t.users {
			rank := 1
			switch {
			case t.wrong && user < t.row:
				rank = 3
			case t.row == selected || user == selected:
				rank = 2
			}
			f(t, user, 1+2*t.lane, rank)
		}
	}
}

// The directions in which a cell's line runs on.
const (
	goesUp = 1 << iota
	goesDown
	goesLeft
	goesRight
)

var thinLines = map[int]string{
	goesUp: "│", goesDown: "│", goesUp | goesDown: "│", goesLeft: "─", goesRight: "─", goesLeft | goesRight: "─",
	goesUp | goesLeft: "╯", goesDown | goesLeft: "╮", goesUp | goesRight: "╰", goesDown | goesRight: "╭",
	goesUp | goesDown | goesLeft: "┤", goesUp | goesDown | goesRight: "├",
	goesUp | goesLeft | goesRight: "┴", goesDown | goesLeft | goesRight: "┬", goesUp | goesDown | goesLeft | goesRight: "┼",
}

var heavyLines = map[int]string{
	goesUp: "┃", goesDown: "┃", goesUp | goesDown: "┃", goesLeft: "━", goesRight: "━", goesLeft | goesRight: "━",
	goesUp | goesLeft: "┛", goesDown | goesLeft: "┓", goesUp | goesRight: "┗", goesDown | goesRight: "┏",
	goesUp | goesDown | goesLeft: "┫", goesUp | goesDown | goesRight: "┣",
	goesUp | goesLeft | goesRight: "┻", goesDown | goesLeft | goesRight: "┳", goesUp | goesDown | goesLeft | goesRight: "╋",
}

// railCell is one cell of the picture.
type railCell struct {
	goes  int
	rank  int // which of several lines in a cell is seen: 1 plain, 2 of the selected row, 3 wrong way
	giver bool
}

// Draw puts the rows from first to last on the canvas; row first is drawn at y.
// width is that of the whole column.
func (r *rails) draw(c *canvas.Canvas, x, y, width, first, last, selected int) {
	grid := make([]railCell, width*max(last-first, 0))
	add := func(row, col, goes, rank int) *railCell {
		if row < first || row >= last || col < 0 || col >= width {
			return &railCell{}
		}
		g := &grid[(row-first)*width+col]
		g.goes |= goes
		g.rank = max(g.rank, rank)
		return g
	}
	// First the trunks, then where rows join them, then the way from each row to
	// its trunk: that one passes behind the trunks that the row has no part in.
	r.each(selected, func(t *trunk, user, col, rank int) {
		for row := max(min(t.row, user), first); row < min(max(t.row, user), last); row++ {
			add(row, col, goesDown, rank)
			add(row+1, col, goesUp, rank)
		}
	})
	r.each(selected, func(t *trunk, user, col, rank int) {
		add(t.row, col, goesLeft, rank).giver = true
		add(user, col, goesLeft, rank)
	})
	r.each(selected, func(t *trunk, user, col, rank int) {
		for _, row := range []int{t.row, user} {
			for at := range col {
				const through = goesUp | goesDown
				if g := add(row, at, 0, 0); g.goes&(through|goesLeft) != through {
					add(row, at, goesLeft|goesRight, rank)
				}
			}
		}
	})
	for i, g := range grid {
		lines, k := thinLines, canvas.Faint
		switch g.rank {
		case 0:
			continue
		case 2:
			k = canvas.Focus
		case 3:
			lines, k = heavyLines, canvas.Bad
		}
		s := lines[g.goes]
		if g.giver {
			s = "○"
		}
		c.Put(x+i%width, y+i/width, s, k)
	}
}
