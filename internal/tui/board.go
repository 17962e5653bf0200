package tui

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
)

// board is the heart of Initium: a row for each mod, from what is declared to
// what is proved.
type board struct {
	look         *app.Look
	last, proved *proof.Proof
	rows         []boardRow
	needs        []need
	selected     int // of rows; always a mod while there is one
	scroll       int
	outdated     bool // the line-up is not the one that the last start had
}

// boardRow is a mod, or the title of a section.
type boardRow struct {
	title    string
	mod      *survey.Mod // nil for a title
	outcome  *proof.Mod  // nil when the last start did not judge it
	findings []check.Finding
}

// set takes over what is known of a server. The selection stays on its mod.
func (b *board) set(look *app.Look, last, proved *proof.Proof) {
	was := ""
	if m := b.mod(); m != nil {
		was = m.Name
	}
	b.look, b.last, b.proved = look, last, proved
	b.build()
	b.outdated = last != nil && app.ChangedSince(look.Survey, last)
	b.selected = 0
	first := -1
	for i, r := range b.rows {
		if r.mod == nil {
			continue
		}
		if r.mod.Name == was {
			b.selected = i
			return
		}
		if first < 0 || was == "" && troubled(r) && !troubled(b.rows[first]) {
			first = i
		}
	}
	b.selected = max(first, 0)
}

// troubled tells a row that the operator should look at.
func troubled(r boardRow) bool {
	return slices.ContainsFunc(r.findings, func(f check.Finding) bool { return f.Severity == check.Error }) ||
		r.outcome != nil && r.outcome.Outcome == proof.Failed
}

func (b *board) build() {
	s := b.look.Survey
	b.rows, b.needs = nil, nil
	rowOf := map[string]int{}
	section, aside := "", ""
	for i := range s.Mods {
		m := &s.Mods[i]
		if m.Base {
			continue
		}
		title := ""
		switch {
		case !m.Registered && m.Always:
			title = "Not registered, and loads anyway"
		case !m.Registered:
			title = "There, and not registered"
		case !m.On && s.Dialect.Order == "server":
			title = "Switched off"
		}
		if title != "" && title != aside {
			aside = title
			b.rows = append(b.rows, boardRow{title: title})
		} else if title == "" && m.Section != section && m.Section != "" {
			section = m.Section
			b.rows = append(b.rows, boardRow{title: clean(section)})
		}
		r := boardRow{mod: m}
		if b.last != nil && m.On {
			r.outcome = b.last.Find(clean(m.Name))
		}
		for _, f := range b.look.Findings {
			if f.Mod == clean(m.Name) {
				r.findings = append(r.findings, f)
			}
		}
		rowOf[m.Name] = len(b.rows)
		b.rows = append(b.rows, r)
	}
	if b.last != nil {
		b.addUnlisted(rowOf)
	}
	for i, r := range b.rows {
		if r.mod == nil || !r.mod.On {
			continue
		}
		for _, want := range r.mod.Needs() {
			name := want.Name
			if to, ok := rowOf[name]; ok && b.rows[to].mod.On {
				b.needs = append(b.needs, need{from: i, to: to})
			}
		}
		for _, want := range r.mod.OptionalNeeds() {
			name := want.Name
			if to, ok := rowOf[name]; ok && b.rows[to].mod.On {
				b.needs = append(b.needs, need{from: i, to: to, optional: true})
			}
		}
	}
	if s.Dialect.Order == "server" { // the rows' order is not the load order, so none points the wrong way
		for i := range b.needs {
			b.needs[i].unordered = true
		}
	}
}

// addUnlisted gives rows to what loaded without being registered and is not
// among the rows yet; what is, gets its outcome.
func (b *board) addUnlisted(rowOf map[string]int) {
	titled := false
	for i := range b.last.Mods {
		o := &b.last.Mods[i]
		if row, ok := rowOf[o.Name]; ok {
			if o.Outcome == proof.Unlisted {
				b.rows[row].outcome = o
			}
			continue
		}
		if o.Registered {
			continue // it was on the server then and is no more
		}
		m := b.look.Survey.Find(o.Name)
		if m == nil {
			m = &survey.Mod{Name: o.Name, Place: -1}
		}
		if !titled {
			titled = true
			b.rows = append(b.rows, boardRow{title: "In the log, and not registered"})
		}
		rowOf[o.Name] = len(b.rows)
		b.rows = append(b.rows, boardRow{mod: m, outcome: o})
	}
}

// mod is the selected mod, or nil.
func (b *board) mod() *survey.Mod {
	if b.selected < len(b.rows) {
		return b.rows[b.selected].mod
	}
	return nil
}

func (b *board) row() boardRow {
	if b.selected < len(b.rows) {
		return b.rows[b.selected]
	}
	return boardRow{}
}

// step moves the selection by so many mods.
func (b *board) step(by int) {
	dir := 1
	if by < 0 {
		dir, by = -1, -by
	}
	for i := b.selected + dir; i >= 0 && i < len(b.rows) && by > 0; i += dir {
		if b.rows[i].mod != nil {
			b.selected = i
			by--
		}
	}
}

// trouble goes to the next row that the operator should look at.
func (b *board) trouble() {
	for i := 1; i <= len(b.rows); i++ {
		at := (b.selected + i) % len(b.rows)
		if troubled(b.rows[at]) {
			b.selected = at
			return
		}
	}
}

// moveBy is the change that moves the selected mod by one row; ok is false where
// it cannot go on, or the server orders its mods itself.
func (b *board) moveBy(by int) (c lineup.Change, ok bool) {
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
func (b *board) line(m *survey.Mod) string {
	return b.look.Survey.Lineup.Entries[m.Entries[0]].Name
}

// staged says what is staged for a row; "" for nothing.
func (b *board) staged(m *survey.Mod) string {
	for _, c := range slices.Backward(b.look.Staged) {
		if c.Mod == m.Name || c.To == m.Name || m.Group && len(m.Entries) > 0 && c.Mod == b.line(m) {
			return strings.Join(strings.Fields(strings.Replace(c.String(), clean(c.Mod), "", 1)), " ")
		}
	}
	return ""
}

// remedy is one change that would mend what is wrong with a row.
type remedy struct {
	text    string
	changes []lineup.Change // empty when it takes the operator's own hands
	root    string          // the mod that is mended, when it is another one
}

// remedies lists what can be done about a row: what its own findings say, else
// what those of the mods it waits for say.
func (b *board) remedies(row boardRow) []remedy {
	return b.remediesOf(row, 0)
}

func (b *board) remediesOf(row boardRow, depth int) (list []remedy) {
	for _, f := range row.findings {
		if f.Remedy != "" {
			list = append(list, remedy{text: f.Remedy, changes: f.Changes})
		}
	}
	fixable := slices.ContainsFunc(list, func(r remedy) bool { return len(r.changes) > 0 })
	if fixable || row.mod == nil || depth > 8 || !troubled(row) {
		return list
	}
	for _, want := range row.mod.Needs() {
		name := want.Name
		i := slices.IndexFunc(b.rows, func(r boardRow) bool { return r.mod != nil && r.mod.Name == name })
		if i < 0 || !troubled(b.rows[i]) {
			continue
		}
		for _, r := range b.remediesOf(b.rows[i], depth+1) {
			if r.root == "" {
				r.root = clean(name)
			}
			if len(r.changes) > 0 {
				list = append(list, r)
			}
		}
	}
	return list
}

// columns are the places of a board's columns for a width.
type columns struct {
	name, release, rails, axis, outcome int // where each begins
	railWidth, axisWidth                int
}

func (b *board) columns(w int) columns {
	longest := 12
	for _, r := range b.rows {
		if r.mod != nil {
			longest = max(longest, len(clean(r.mod.Name)))
		}
	}
	c := columns{name: 7}
	c.release = c.name + min(longest, max(w/5, 16)) + 1
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

// draw puts the board on the canvas, from line y to line y+h.
func (b *board) draw(c *canvas, y, h int) {
	cols := b.columns(c.w)
	a := newAxis(cols.axis, cols.axisWidth, b.last)
	c.put(cols.name, y, "load order", inkDim)
	c.put(cols.rails+1, y, "needs", inkDim)
	if b.last == nil {
		c.putWithin(cols.axis, y, c.w-cols.axis-1, "no start yet; s starts the server and shows here what each mod did", inkDim)
	} else {
		a.header(c, y)
		c.putWithin(cols.outcome, y, c.w-cols.outcome, fmt.Sprintf("start %d, %s", b.last.Number, clock(*b.last.Started)), inkDim)
	}
	y, h = y+1, h-1
	b.follow(h)
	last := min(b.scroll+h, len(b.rows))
	for i := b.scroll; i < last; i++ {
		b.drawRow(c, y+i-b.scroll, i, cols, a)
	}
	r := newRails(b.needs, (cols.railWidth-1)/2, b.selected)
	r.draw(c, cols.rails, y, cols.railWidth, b.scroll, last, b.selected)
	if b.scroll > 0 {
		c.right(c.w, y, fmt.Sprintf(" ↑ %d more", b.scroll), inkDim)
	}
	if more := len(b.rows) - last; more > 0 {
		c.right(c.w, y+h-1, fmt.Sprintf(" ↓ %d more", more), inkDim)
	}
}

// follow scrolls just so far that the selected row, and a title above it, can be
// seen.
func (b *board) follow(h int) {
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

func (b *board) drawRow(c *canvas, y, i int, cols columns, a axis) {
	r := b.rows[i]
	if r.mod == nil {
		c.putWithin(2, y, cols.rails-3, r.title, inkDim)
		a.grid(c, y)
		return
	}
	m := r.mod
	nameInk := inkText
	switch {
	case !m.On:
		nameInk = inkDim
	case i == b.selected:
		nameInk = inkTitle
	}
	if i == b.selected {
		c.lift(y, 0, c.w)
		c.put(0, y, "▌", inkFocus)
	}
	if m.Position > 0 {
		c.right(4, y, fmt.Sprint(m.Position), inkDim)
	}
	for _, f := range r.findings {
		if f.Severity != check.Note {
			mark := severityMark(f.Severity)
			c.put(5, y, mark.shape, mark.ink)
			break
		}
	}
	c.putWithin(cols.name, y, cols.release-cols.name-1, clean(m.Name), nameInk)
	if cols.rails > cols.release {
		c.putWithin(cols.release, y, cols.rails-cols.release-1, clean(m.Release), inkDim)
	}
	a.grid(c, y)
	a.bar(c, y, r.outcome)
	b.drawOutcome(c, y, r, cols.outcome)
}

func (b *board) drawOutcome(c *canvas, y int, r boardRow, x int) {
	width := c.w - x - 1
	if s := b.staged(r.mod); s != "" {
		c.putWithin(x, y, width, "▷ "+s, inkFocus)
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
		c.putWithin(x, y, width, word, inkDim)
		return
	}
	mark := outcomeMark(r.outcome.Outcome)
	at := c.putWithin(x, y, width, mark.shape+" "+mark.word, mark.ink)
	detail := r.outcome.Reason
	if r.outcome.Outcome == proof.Confirmed && r.outcome.LoadMS != nil {
		detail = load(*r.outcome.LoadMS)
		if n := len(r.outcome.Evidence); n > 0 && width > 34 {
			detail = fmt.Sprintf("%-8s log line %d", detail, r.outcome.Evidence[n-1].Line)
		}
	}
	at = max(at+2, x+13)
	c.putWithin(at, y, c.w-at-1, detail, inkDim)
}

// click selects the row at a line of the board.
func (b *board) click(line int) {
	if i := b.scroll + line; i >= 0 && i < len(b.rows) && b.rows[i].mod != nil {
		b.selected = i
	}
}

// boardKeys are the keys of the board, for the line at the bottom and for help.
func (b *board) keys() []keyHelp {
	keys := []keyHelp{{"↑ ↓", "choose"}}
	if b.look != nil && len(b.look.Staged) > 0 {
		keys = append(keys, keyHelp{"p", "plan"}, keyHelp{"u", "take back"})
	}
	if len(b.fixes()) > 0 {
		keys = append(keys, keyHelp{"m", "mend"})
	}
	if b.look != nil && b.look.Running {
		keys = append(keys, keyHelp{"s", "stop"})
	} else {
		keys = append(keys, keyHelp{"s", "start and prove"})
	}
	if m := b.mod(); m != nil {
		switch {
		case !m.Registered:
			keys = append(keys, keyHelp{"a", "add"})
		case m.On:
			keys = append(keys, keyHelp{"o", "off"})
		default:
			keys = append(keys, keyHelp{"o", "on"})
		}
	}
	return append(keys, keyHelp{"?", "help"}, keyHelp{"q", "close"}, keyHelp{"⇧↑ ⇧↓", "move"}, keyHelp{"x", "take out"}, keyHelp{"t", "next trouble"}, keyHelp{"g", "ledger"}, keyHelp{"l", "log"}, keyHelp{"Esc", "servers"})
}

// fixes are the remedies of the selected row that Initium can carry out.
func (b *board) fixes() (list []remedy) {
	for _, r := range b.remedies(b.row()) {
		if len(r.changes) > 0 {
			list = append(list, r)
		}
	}
	return list
}
