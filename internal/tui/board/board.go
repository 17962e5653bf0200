// Package board is the screen of a server: its line-up in load order, with what is known
// of each mod before a start and what became of it in the last one.
package board

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	found "initium/internal/core/remedy"
	"initium/internal/core/survey"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
	"initium/internal/tui/watch"
)

// Board is the heart of Initium: a row for each mod, from what is declared to
// what is proved.
type Board struct {
	*frame.Desk
	name     string
	looking  bool         // a look is under way
	stale    bool         // and another has to follow
	judging  bool         // starts that nobody has looked at are being judged
	owed     bool         // a change of the operator's is not seen yet in what is shown
	ahead    []string     // keys that were typed meanwhile, for what will be shown then
	watching *watch.Watch // what watches the server, shown or not; nil when nothing does

	look         *app.Look
	last, proved *proof.Proof
	mends        map[string][]found.Remedy // by mod: what the last start suggests
	all          []boardRow                // every mod, under its section
	rows         []boardRow                // those that are shown
	needs        []need
	marks        []sign // of rows; empty until the overview is drawn
	rails        *rails
	longest      int // name, in bytes
	selected     int // of rows; always one that can be chosen while there is one
	scroll       int
	outdated     bool // the line-up is not the one that the last start had
	folded       map[string]bool
	filter       int // of filters
	left         hidden
	hops         hops
	trail        []string // where jumps began
}

// set takes over what is known of a server. The selection stays on its mod.
func (b *Board) set(look *app.Look, last, proved *proof.Proof, mends map[string][]found.Remedy) {
	was, title := "", ""
	if m := b.mod(); m != nil {
		was = m.Name
	} else if b.current().hidden > 0 {
		title = b.current().title
	} else if len(b.current().findings) > 0 {
		title = b.current().title
	}
	b.look, b.last, b.proved, b.mends = look, last, proved, mends
	b.all = b.gather()
	b.arrange()
	b.outdated = last != nil && app.ChangedSince(look.Survey, last)
	if was == "" && title == "" {
		if i := slices.IndexFunc(b.rows, troubled); i >= 0 {
			b.selected = i
			return
		}
	}
	b.seek(was, title)
}

// mod is the selected mod, or nil.
func (b *Board) mod() *survey.Mod {
	if b.selected < len(b.rows) {
		return b.rows[b.selected].mod
	}
	return nil
}

func (b *Board) current() boardRow {
	if b.selected < len(b.rows) {
		return b.rows[b.selected]
	}
	return boardRow{}
}

// step moves the selection by so many mods.
func (b *Board) step(by int) {
	dir := 1
	if by < 0 {
		dir, by = -1, -by
	}
	for i := b.selected + dir; i >= 0 && i < len(b.rows) && by > 0; i += dir {
		if b.rows[i].chosen() {
			b.selected = i
			by--
		}
	}
}

// trouble goes to the next row that the operator should look at, or back to the one
// before.
func (b *Board) trouble(by int) {
	n := len(b.rows)
	for i := 1; i <= n; i++ {
		at := ((b.selected+by*i)%n + n) % n
		if troubled(b.rows[at]) || b.rows[at].trouble > 0 {
			b.selected = at
			return
		}
	}
}

// moveBy is the change that moves the selected mod by one row; ok is false where
// it cannot go on, or the server orders its mods itself.
func (b *Board) moveBy(by int) (c lineup.Change, ok bool) {
	m := b.mod()
	if m == nil || !m.Registered || len(m.Entries) == 0 || b.look.Survey.Dialect.Order == dialect.OrderServer {
		return c, false
	}
	name := b.line(m)
	for i := b.selected + by; i >= 0 && i < len(b.rows); i += by {
		other := b.rows[i].mod
		if other == nil || !other.Registered || len(other.Entries) == 0 || b.line(other) == name {
			continue
		}
		c = lineup.Change{Op: lineup.OpMove, Mod: name}
		if (by < 0) == (other.Section == m.Section) {
			c.Where.Before = b.line(other)
		} else {
			c.Where.After = b.line(other)
		}
		return c, true
	}
	return c, false
}

// line is the name that a mod's registration has: its own or its category's.
func (b *Board) line(m *survey.Mod) string {
	return b.look.Survey.Lineup.Entries[m.Entries[0]].Name
}

// staged says what is staged for a row; "" for nothing.
func (b *Board) staged(m *survey.Mod) string {
	for _, c := range slices.Backward(b.look.Staged) {
		if c.Mod == m.Name || c.To == m.Name || m.Group && len(m.Entries) > 0 && c.Mod == b.line(m) {
			return strings.Join(strings.Fields(strings.Replace(c.String(), canvas.Clean(c.Mod), "", 1)), " ")
		}
	}
	return ""
}

// remedy is one change that would mend what is wrong with a row.
type remedy struct {
	text    string
	changes []lineup.Change // empty when it takes the operator's own hands
	root    string          // the mod that is mended, when it is another one
	back    bool            // it takes a return to the last proved state
}

// canDo tells whether Initium can carry it out.
func (r *remedy) canDo() bool { return len(r.changes) > 0 || r.back }

// remedies lists what can be done about a row: what its own findings say, else
// what those of the mods it waits for say.
func (b *Board) remedies(row boardRow) []remedy {
	return b.remediesOf(row, 0)
}

func (b *Board) remediesOf(row boardRow, depth int) (list []remedy) {
	for _, f := range row.findings {
		if f.Remedy != "" && !slices.ContainsFunc(list, func(r remedy) bool { return r.text == f.Remedy }) {
			list = append(list, remedy{text: f.Remedy, changes: f.Changes})
		}
	}
	list = b.afterStart(row, list)
	fixable := slices.ContainsFunc(list, func(r remedy) bool { return r.canDo() })
	if fixable || row.mod == nil || depth > 8 || !troubled(row) {
		return list
	}
	for _, want := range row.mod.Needs() {
		name := want.Name
		i := slices.IndexFunc(b.all, func(r boardRow) bool { return r.mod != nil && r.mod.Name == name })
		if i < 0 || !troubled(b.all[i]) {
			continue
		}
		for _, r := range b.remediesOf(b.all[i], depth+1) {
			if r.root == "" {
				r.root = canvas.Clean(name)
			}
			if r.canDo() {
				list = append(list, r)
			}
		}
	}
	return list
}

// afterStart adds what the last start suggests, where that is something else.
func (b *Board) afterStart(row boardRow, list []remedy) []remedy {
	if row.mod == nil || row.outcome == nil {
		return list
	}
	for _, r := range b.mends[row.outcome.Name] {
		known := slices.ContainsFunc(list, func(old remedy) bool {
			return old.text == r.Text || len(r.Changes) > 0 && slices.Equal(eachInWords(old.changes), eachInWords(r.Changes))
		})
		if !known {
			list = append(list, remedy{text: r.Text, changes: r.Changes, back: r.Back})
		}
	}
	return list
}

func eachInWords(changes []lineup.Change) (list []string) {
	for _, c := range changes {
		list = append(list, c.String())
	}
	return list
}

// columns are the places of a board's columns for a width.
type columns struct {
	name, release, rails, axis, outcome int // where each begins
	railWidth, axisWidth                int
}

func (b *Board) columns(w int) columns {
	c := columns{name: 7}
	c.release = c.name + min(b.longest, max(w/5, 16)) + 1
	c.rails = c.release
	if w >= 100 {
		c.rails += 10
	}
	c.railWidth = min(max(w/8, 7), 21) | 1
	c.axis = c.rails + c.railWidth + 1
	rest := w - c.axis
	c.axisWidth = rest - 2 - max(rest*9/20, min(24, rest*2/3))
	c.outcome = c.axis + c.axisWidth + 2
	return c
}

// moreWidth is the room at the right of the first and the last row for how many
// more there are.
const moreWidth = 13

// drawRows puts the rows on the canvas, from line y to line y+h.
func (b *Board) drawRows(c *canvas.Canvas, y, h int) {
	cols := b.columns(c.W)
	a := newAxis(cols.axis, cols.axisWidth, b.last)
	heading, k := "load order", canvas.Dim
	switch {
	case b.filter > 0:
		heading, k = "only "+filters[b.filter].name, canvas.Focus
	case b.look.Survey.Dialect.Order == dialect.OrderServer:
		heading = "foretold order"
	}
	c.PutWithin(cols.name, y, cols.rails-cols.name, heading, k)
	c.Put(cols.rails+1, y, "needs", canvas.Dim)
	if b.last == nil {
		words := "no start yet; s starts the server and shows here what each mod did"
		if b.host() != "" {
			words = "no start seen yet; s watches one there and shows here what each mod did"
		}
		c.PutWithin(cols.axis, y, c.W-cols.axis-1, words, canvas.Dim)
	} else {
		a.header(c, y)
		c.PutWithin(cols.outcome, y, c.W-cols.outcome, fmt.Sprintf("start %d, %s", b.last.Number, marks.Clock(*b.last.Started)), canvas.Dim)
	}
	y, h = y+1, h-1
	b.follow(h)
	last, edge := min(b.scroll+h, len(b.rows)), c.W
	if b.overview(h) {
		edge -= overviewWidth
	}
	for i := b.scroll; i < last; i++ {
		right := edge - 1
		if i == b.scroll && b.scroll > 0 || i == last-1 && last < len(b.rows) {
			right -= moreWidth
		}
		b.drawRow(c, y+i-b.scroll, i, cols, a, right)
	}
	if b.overview(h) {
		b.drawOverview(c, c.W-1, y, h, last)
	}
	b.rails.place((cols.railWidth-1)/2, b.selected, b.scroll, last)
	b.rails.draw(c, cols.rails, y, cols.railWidth, b.scroll, last, b.selected)
	if b.scroll > 0 {
		c.Right(edge, y, fmt.Sprintf(" ↑ %d more", b.scroll), canvas.Dim)
	}
	if more := len(b.rows) - last; more > 0 {
		c.Right(edge, y+h-1, fmt.Sprintf(" ↓ %d more", more), canvas.Dim)
	}
}

// follow scrolls just so far that the selected row, and a title above it, can be
// seen.
func (b *Board) follow(h int) {
	top := b.selected
	if top > 0 && b.rows[top-1].mod == nil {
		top--
	}
	b.scroll = min(b.scroll, top)
	if b.selected >= b.scroll+h {
		b.scroll = b.selected - h + 1
	}
	b.scroll = max(min(b.scroll, len(b.rows)-h), 0)
}

func (b *Board) drawRow(c *canvas.Canvas, y, i int, cols columns, a axis, right int) {
	r := b.rows[i]
	if r.mod == nil {
		a.grid(c, y)
		b.drawTitle(c, y, i, cols, right)
		return
	}
	m := r.mod
	nameInk := canvas.Text
	switch {
	case !m.On:
		nameInk = canvas.Dim
	case i == b.selected:
		nameInk = canvas.Title
	}
	if i == b.selected {
		c.Lift(y, 0, c.W)
		c.Put(0, y, "▌", canvas.Focus)
	}
	if r.number > 0 {
		c.Right(4, y, fmt.Sprint(r.number), canvas.Dim)
	}
	for _, f := range r.findings {
		if f.Severity != check.Note && f.Accepted == "" {
			mark := marks.Severity(f.Severity)
			c.Put(5, y, mark.Shape, mark.Ink)
			break
		}
	}
	c.PutWithin(cols.name, y, cols.release-cols.name-1, canvas.Clean(m.Name), nameInk)
	if cols.rails > cols.release {
		c.PutWithin(cols.release, y, cols.rails-cols.release-1, canvas.Clean(m.Release), canvas.Dim)
	}
	a.grid(c, y)
	a.bar(c, y, r.outcome)
	b.drawOutcome(c, y, r, cols.axis, cols.outcome, right)
}

// drawTitle draws the title of a section, and what is folded away under it.
func (b *Board) drawTitle(c *canvas.Canvas, y, i int, cols columns, right int) {
	r := &b.rows[i]
	if !r.chosen() {
		c.PutWithin(2, y, cols.rails-3, r.title, canvas.Dim)
		if r.empty {
			c.PutWithin(cols.outcome, y, right-cols.outcome, "no mod stands in it", canvas.Dim)
		}
		return
	}
	k := canvas.Dim
	if i == b.selected {
		c.Lift(y, 0, c.W)
		c.Put(0, y, "▌", canvas.Focus)
		k = canvas.Title
	}
	at := c.PutWithin(2, y, cols.rails-3, r.title, k)
	if n := len(r.findings); n > 0 {
		mark := marks.Severity(r.findings[0].Severity)
		words := r.findings[0].Message
		if n > 1 {
			words = fmt.Sprintf("%s, and %d more", words, n-1)
		}
		c.Put(at+2, y, mark.Shape, mark.Ink)
		c.PutWithin(cols.rails, y, right-cols.rails, words, mark.Ink)
		return
	}
	words := fmt.Sprintf("%d folded", r.hidden)
	if r.trouble > 0 {
		words += fmt.Sprintf(", %d in trouble", r.trouble)
		k = canvas.Bad
	}
	c.PutWithin(cols.outcome, y, right-cols.outcome, words, k)
}

// foretellWords says in a row what is foretold. Where the server stops because of
// something else, the row that tells of it says why.
func foretellWords(f *forecast.Mod) (words string, k canvas.Ink) {
	switch f.Cause {
	case forecast.NeverStarts, forecast.AllPassed:
		return "foretold: " + string(f.Outcome), canvas.Dim
	case forecast.ServerStops:
		return "foretold: not loaded, the server stops at " + f.Of, canvas.Dim
	}
	return "foretold: " + string(f.Outcome) + ", " + f.Because, canvas.Warn
}

func (b *Board) drawOutcome(c *canvas.Canvas, y int, r boardRow, axis, x, right int) {
	width := right - x
	if s := b.staged(r.mod); s != "" {
		c.PutWithin(x, y, width, "▷ "+s, canvas.Focus)
		return
	}
	if later := b.later(r.mod); later != nil {
		mark := marks.Outcome(later.Outcome)
		at := c.PutWithin(x, y, width, mark.Shape+" "+mark.Word, mark.Ink)
		words := "at " + marks.Clock(b.last.At(later)) + ", while it ran"
		if later.Reason != "" {
			words += ": " + later.Reason
		}
		at = max(at+2, x+13)
		c.PutWithin(at, y, right-at, words, canvas.Dim)
		return
	}
	if r.outcome == nil {
		word := ""
		switch {
		case !r.mod.Registered:
			word = "not registered"
		case !r.mod.On:
			word = "off"
		case r.mod.Path == "":
			word = "not there"
		case b.last != nil:
			word = "not in this start"
		}
		if f := r.foretold; f != nil && r.mod.On && f.Outcome != forecast.Confirmed {
			if b.last == nil { // the time axis is free
				x, width = axis, right-axis
			}
			words, k := foretellWords(f)
			c.PutWithin(x, y, width, words, k)
			return
		}
		c.PutWithin(x, y, width, word, canvas.Dim)
		return
	}
	mark := marks.Outcome(r.outcome.Outcome)
	at := c.PutWithin(x, y, width, mark.Shape+" "+mark.Word, mark.Ink)
	detail := r.outcome.Reason
	if r.outcome.Outcome == proof.Confirmed && r.outcome.LoadMS != nil {
		detail = marks.Millis(*r.outcome.LoadMS)
		if e := r.outcome.Best(); e != nil && width > 34 {
			detail = fmt.Sprintf("%-8s %s", detail, e.Where())
		}
	} else if e := r.outcome.Best(); r.outcome.Outcome == proof.Confirmed && e != nil && e.Line == 0 {
		detail = "by what it has made"
	} else if r.outcome.Outcome == proof.Confirmed && e != nil {
		detail = e.Where()
	}
	if r.outcome.Against != "" {
		detail = "≠ " + r.outcome.Against + "; " + detail
	}
	at = max(at+2, x+13)
	c.PutWithin(at, y, right-at, detail, canvas.Dim)
}

// choose selects the row at a line of the board.
func (b *Board) choose(line int) {
	if i := b.scroll + line; i >= 0 && i < len(b.rows) && b.rows[i].chosen() {
		b.selected = i
	}
}

// fixes are the remedies of the selected row that Initium can carry out.
func (b *Board) fixes() (list []remedy) {
	for _, r := range b.remedies(b.current()) {
		if r.canDo() {
			list = append(list, r)
		}
	}
	return list
}
