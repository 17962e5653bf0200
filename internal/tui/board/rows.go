package board

import (
	"fmt"
	"slices"
	"strings"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/tui/canvas"
)

// row is a mod, or the title of a section.
type boardRow struct {
	title    string      // of a section; of the server itself when there are findings
	empty    bool        // of a title: no mod stands in its section
	hidden   int         // of a title: how many mods are folded away under it
	trouble  int         // how many of those the operator should look at
	mod      *survey.Mod // nil for a title
	number   int         // its place in the load order, as listed or as foretold; 0 for none
	outcome  *proof.Mod  // nil when the last start did not judge it
	foretold *forecast.Mod
	findings []check.Finding
}

// chosen tells whether a row can be selected: a mod, a folded section, or the
// server itself when something is to be said about it.
func (r *boardRow) chosen() bool { return r.mod != nil || r.hidden > 0 || len(r.findings) > 0 }

// troubled tells a row that the operator should look at.
func troubled(r boardRow) bool {
	return slices.ContainsFunc(r.findings, func(f check.Finding) bool { return f.Severity == check.Error && f.Accepted == "" }) ||
		r.outcome != nil && r.outcome.Outcome == proof.Failed
}

// filter shows only some of the rows.
type filter struct {
	name string
	fits func(r *boardRow) bool
}

func outcomeIs(o proof.Outcome) func(*boardRow) bool {
	return func(r *boardRow) bool { return r.outcome != nil && r.outcome.Outcome == o }
}

// Filters are gone through with one key; the first shows all.
var filters = []filter{
	{"all", nil},
	{"findings", func(r *boardRow) bool {
		return slices.ContainsFunc(r.findings, func(f check.Finding) bool { return f.Severity != check.Note && f.Accepted == "" })
	}},
	{"out of order", func(r *boardRow) bool {
		return slices.ContainsFunc(r.findings, func(f check.Finding) bool {
			return slices.Contains([]check.Code{check.CodeNeedLate, check.CodeAskedLate, check.CodeRuleBroken, check.CodeSettingLate, check.CodeNeedCircle}, f.Code)
		})
	}},
	{"not loading", func(r *boardRow) bool {
		return r.mod.On && r.foretold != nil && r.foretold.Outcome != forecast.Confirmed
	}},
	{"failed", outcomeIs(proof.Failed)},
	{"silent", outcomeIs(proof.Silent)},
	{"unlisted", outcomeIs(proof.Unlisted)},
	{"not on", func(r *boardRow) bool { return !r.mod.Listed }},
}

// gather makes a row for every mod, under the titles of their sections.
func (b *Board) gather() []boardRow {
	s := b.look.Survey
	findings := map[string][]check.Finding{}
	for _, f := range b.look.Findings {
		findings[f.Mod] = append(findings[f.Mod], f)
	}
	outcomes := map[string]*proof.Mod{}
	if b.last != nil {
		for i := range b.last.Mods {
			outcomes[b.last.Mods[i].Name] = &b.last.Mods[i]
		}
	}
	foretoldAt := map[string]int{}
	serverOrders := s.Dialect.Order == dialect.OrderServer
	if serverOrders && b.look.Forecast != nil {
		for i, name := range b.look.Forecast.Order {
			foretoldAt[name] = i + 1
		}
	}
	var rows []boardRow
	section, aside := "", ""
	empty := emptySections{s.Lineup.SectionTitles()}
	b.longest = 12
	for _, m := range sequence(s, foretoldAt) {
		name := canvas.Clean(m.Name)
		if m.Base {
			continue
		}
		b.longest = max(b.longest, len(name))
		title := asideTitle(m, serverOrders)
		if title != "" && title != aside {
			rows = append(rows, empty.rest()...)
			aside = title
			rows = append(rows, boardRow{title: title})
		} else if title == "" && m.Section != section && m.Section != "" {
			section = m.Section
			rows = append(append(rows, empty.before(section)...), boardRow{title: canvas.Clean(section)})
		}
		r := boardRow{mod: m, number: m.Position, findings: findings[name]}
		if serverOrders {
			r.number = foretoldAt[name]
		}
		if b.look.Forecast != nil {
			r.foretold = b.look.Forecast.Find(m.Name)
		}
		if o := outcomes[name]; o != nil && (m.On || o.Outcome == proof.Unlisted) {
			r.outcome = o
		}
		delete(outcomes, name)
		rows = append(rows, r)
	}
	rows = append(append(rows, empty.rest()...), b.unlisted(outcomes)...)
	if about := serverFindings(rows, b.look.Findings); len(about) > 0 {
		rows = append([]boardRow{{title: "The server itself", findings: about}}, rows...)
	}
	return rows
}

// emptySections makes rows for the sections in which no mod stands, where they stand among the others.
type emptySections struct {
	titles []string // of the sections that were not come to yet
}

// before are those before a section that a mod stands in.
func (e *emptySections) before(section string) (rows []boardRow) {
	at := slices.Index(e.titles, section)
	if at < 0 {
		return nil
	}
	rows = titleRows(e.titles[:at])
	e.titles = e.titles[at+1:]
	return rows
}

func (e *emptySections) rest() []boardRow {
	rows := titleRows(e.titles)
	e.titles = nil
	return rows
}

func titleRows(titles []string) (rows []boardRow) {
	for _, title := range titles {
		rows = append(rows, boardRow{title: canvas.Clean(title), empty: true})
	}
	return rows
}

// serverFindings are those that no row tells: about settings, files, the port, or
// mods that have no row. Notes are left to the check command.
func serverFindings(rows []boardRow, findings []check.Finding) (about []check.Finding) {
	told := map[string]bool{}
	for i := range rows {
		if rows[i].mod != nil {
			told[canvas.Clean(rows[i].mod.Name)] = true
		}
	}
	for _, f := range findings {
		if !told[f.Mod] && f.Severity != check.Note {
			about = append(about, f)
		}
	}
	return about
}

// sequence lists the mods as the board shows them: as they are listed; or, where
// the server decides, in the order that is foretold, and behind those the mods
// that will not load.
func sequence(s *survey.Survey, foretoldAt map[string]int) []*survey.Mod {
	list := make([]*survey.Mod, len(s.Mods))
	for i := range s.Mods {
		list[i] = &s.Mods[i]
	}
	if len(foretoldAt) == 0 {
		return list
	}
	key := func(m *survey.Mod) int {
		n := foretoldAt[canvas.Clean(m.Name)]
		switch {
		case !m.Registered || !m.On: // those stand aside, as the survey has them
			return 2 * len(list)
		case n == 0:
			return len(list)
		}
		return n
	}
	slices.SortStableFunc(list, func(a, b *survey.Mod) int { return key(a) - key(b) })
	return list
}

// asideTitle is the heading of mods that are not in the load order.
func asideTitle(m *survey.Mod, serverOrders bool) string {
	switch {
	case !m.Registered && m.Always:
		return "Not registered, and loads anyway"
	case !m.Registered:
		return "There, and not registered"
	case !m.On && serverOrders:
		return "Switched off"
	}
	return ""
}

// unlisted makes rows for what loaded without being registered and is not among
// the rows yet.
func (b *Board) unlisted(outcomes map[string]*proof.Mod) (rows []boardRow) {
	if b.last == nil {
		return nil
	}
	for i := range b.last.Mods {
		o := &b.last.Mods[i]
		if outcomes[o.Name] == nil || o.Registered {
			continue // it has a row, or was on the server then and is no more
		}
		m := b.look.Survey.Find(o.Name)
		if m == nil {
			m = &survey.Mod{Name: o.Name, Place: -1}
		}
		if len(rows) == 0 {
			rows = append(rows, boardRow{title: "In the log, and not registered"})
		}
		rows = append(rows, boardRow{mod: m, outcome: o})
	}
	return rows
}

// arrange shows of all rows those that the filter lets through and that are not
// folded away.
func (b *Board) arrange() {
	b.rows, b.marks = b.rows[:0:0], nil
	title := -1 // of rows
	folded := false
	for i := range b.all {
		r := b.all[i]
		if r.mod == nil {
			if title >= 0 && title == len(b.rows)-1 && !b.shownAlone(title) {
				b.rows = b.rows[:title] // it had nothing to show
			}
			title, folded = len(b.rows), b.folded[r.title]
			b.rows = append(b.rows, r)
			continue
		}
		if fits := filters[b.filter].fits; fits != nil && !fits(&r) {
			continue
		}
		if folded {
			b.rows[title].hidden++
			if troubled(r) {
				b.rows[title].trouble++
			}
			continue
		}
		b.rows = append(b.rows, r)
	}
	if title >= 0 && title == len(b.rows)-1 && !b.shownAlone(title) {
		b.rows = b.rows[:title]
	}
	b.connect()
}

// shownAlone tells whether a title is shown that no row stands under.
func (b *Board) shownAlone(i int) bool { return b.rows[i].chosen() || b.rows[i].empty && b.filter == 0 }

// connect finds the lines between the rows. A line to a mod that is folded away
// leads to its section.
func (b *Board) connect() {
	s := b.look.Survey
	b.needs = b.needs[:0:0]
	rowOf := b.rowsOf(s)
	unordered := s.Dialect.Order == dialect.OrderServer // the rows' order is not the load order, so none points the wrong way
	for i := range b.all {
		m := b.all[i].mod
		if m == nil || !m.On || !among(s, m) || rowOf[m.Index()] < 0 {
			continue
		}
		from := int(rowOf[m.Index()])
		line := func(name string, optional bool) {
			n := s.Answer(name)
			if n == nil || !n.On {
				return
			}
			if to := int(rowOf[n.Index()]); to >= 0 && to != from {
				b.needs = append(b.needs, need{from, to, optional, unordered})
			}
		}
		for _, want := range m.Needs() {
			line(want.Name, false)
		}
		for _, want := range m.OptionalNeeds() {
			line(want.Name, true)
		}
	}
	b.rails = newRails(b.needs, len(b.rows))
}

// among tells whether a mod is one of a survey's own, and not made up beside it.
func among(s *survey.Survey, m *survey.Mod) bool {
	return m.Index() < len(s.Mods) && m == &s.Mods[m.Index()]
}

// rowsOf is the row of each mod of a survey, by its index: its own, that of its folded
// section, or negative.
func (b *Board) rowsOf(s *survey.Survey) []int32 {
	rowOf := slices.Repeat([]int32{-1}, len(s.Mods))
	title := map[string]int32{} // the rows of sections
	for i := range b.rows {
		switch m := b.rows[i].mod; {
		case m == nil:
			title[b.rows[i].title] = int32(i)
		case among(s, m):
			rowOf[m.Index()] = int32(i)
		}
	}
	at := int32(-1)
	for i := range b.all {
		r := &b.all[i]
		if r.mod == nil {
			at = -1
			if row, shown := title[r.title]; shown && b.folded[r.title] {
				at = row
			}
		} else if among(s, r.mod) && rowOf[r.mod.Index()] < 0 && at >= 0 {
			rowOf[r.mod.Index()] = at
		}
	}
	return rowOf
}

// fold hides or shows the mods of the selected row's section; all does so with
// every section.
func (b *Board) fold(all bool) {
	if b.folded == nil {
		b.folded = map[string]bool{}
	}
	title := ""
	for i := b.selected; i >= 0 && i < len(b.rows); i-- {
		if b.rows[i].mod == nil {
			title = b.rows[i].title
			break
		}
	}
	if title == "" && !all {
		return
	}
	was := ""
	if m := b.mod(); m != nil {
		was = m.Name
	}
	switch {
	case all && len(b.folded) > 0:
		clear(b.folded)
	case all:
		for i := range b.all {
			if r := &b.all[i]; r.mod == nil && len(r.findings) == 0 {
				b.folded[r.title] = true
			}
		}
	case b.folded[title]:
		delete(b.folded, title)
	default:
		b.folded[title] = true
	}
	b.arrange()
	b.seek(was, title)
}

// show goes on to the next filter that lets a row through. A mod that a filter
// hides is selected again when it comes back, unless another was chosen meanwhile.
func (b *Board) nextFilter() {
	was := ""
	if m := b.mod(); m != nil {
		was = m.Name
	}
	if b.left.stead == was && b.left.name != "" {
		was = b.left.name
	}
	for range filters {
		b.filter = (b.filter + 1) % len(filters)
		fits := filters[b.filter].fits
		if fits == nil || slices.ContainsFunc(b.all, func(r boardRow) bool { return r.mod != nil && fits(&r) }) {
			break
		}
	}
	b.arrange()
	b.seek(was, "")
	b.left = hidden{name: was}
	if m := b.mod(); m != nil {
		b.left.stead = m.Name
	}
}

// hidden is a mod that was selected, and the one that is in its stead.
type hidden struct{ name, stead string }

// seek selects a mod, or else the title or the first mod under it, or else the
// first row that can be.
func (b *Board) seek(name, title string) {
	first, under := -1, false
	for i := range b.rows {
		r := &b.rows[i]
		if r.mod != nil && r.mod.Name == name {
			b.selected = i
			return
		}
		under = under || r.mod == nil && title != "" && r.title == title
		if r.chosen() && (first < 0 || under) {
			first = i
			if under {
				under, title = false, ""
			}
		}
	}
	b.selected = max(first, 0)
}

// reveal selects a mod wherever it is hidden.
func (b *Board) reveal(name string) {
	title := ""
	for i := range b.all {
		r := &b.all[i]
		if r.mod == nil {
			title = r.title
			continue
		}
		if r.mod.Name != name {
			continue
		}
		if fits := filters[b.filter].fits; fits != nil && !fits(r) {
			b.filter = 0
		}
		delete(b.folded, title)
		b.arrange()
		b.seek(name, "")
		return
	}
}

// find lists the mods whose name or title holds a text: those that begin with it
// first.
func (b *Board) find(text string) (names []string) {
	text = strings.ToLower(text)
	if text == "" {
		return nil
	}
	var begin, hold []string
	for i := range b.all {
		m := b.all[i].mod
		if m == nil {
			continue
		}
		name := strings.ToLower(m.Name)
		switch {
		case strings.HasPrefix(name, text):
			begin = append(begin, m.Name)
		case strings.Contains(name, text) || strings.Contains(strings.ToLower(m.Title), text):
			hold = append(hold, m.Name)
		}
	}
	return append(begin, hold...)
}

// jump goes to what the selected mod needs, or to what needs it. Pressed again
// right after, it goes to the next of them.
func (b *Board) jump(users bool) string {
	m := b.mod()
	if m == nil {
		return ""
	}
	if b.hops.at == m.Name && b.hops.users == users && len(b.hops.names) > 1 {
		b.hops.next = (b.hops.next + 1) % len(b.hops.names)
	} else {
		names := b.neighbours(m, users)
		if len(names) == 0 {
			if users {
				return canvas.Clean(m.Name) + " is needed by none that is here."
			}
			return canvas.Clean(m.Name) + " needs none that is here."
		}
		b.trail = append(b.trail, m.Name)
		b.hops = hops{from: m.Name, names: names, users: users}
	}
	b.hops.at = b.hops.names[b.hops.next]
	b.reveal(b.hops.at)
	word := "needed by"
	if users {
		word = "needs"
	}
	said := fmt.Sprintf("%s: %s %s", canvas.Clean(b.hops.at), word, canvas.Clean(b.hops.from))
	if n := len(b.hops.names); n > 1 {
		said += fmt.Sprintf(" (%d of %d; the same key goes on)", b.hops.next+1, n)
	}
	return said + ". Backspace goes back."
}

// hops are the mods that a jump goes through.
type hops struct {
	from, at string
	names    []string
	users    bool
	next     int
}

// neighbours lists what a mod needs, or what needs it, among the rows.
func (b *Board) neighbours(m *survey.Mod, users bool) (names []string) {
	s := b.look.Survey
	wants := func(m *survey.Mod) (list []string) {
		for _, need := range m.Needs() {
			list = append(list, need.Name)
		}
		for _, need := range m.OptionalNeeds() {
			list = append(list, need.Name)
		}
		return list
	}
	for i := range b.all {
		other := b.all[i].mod
		if other == nil || other == m {
			continue
		}
		from, to := m, other
		if users {
			from, to = other, m
		}
		if slices.ContainsFunc(wants(from), func(name string) bool { return s.Answer(name) == to || to.Is(name) }) {
			names = append(names, other.Name)
		}
	}
	return names
}

// goBack returns to where the last jump began.
func (b *Board) goBack() {
	if n := len(b.trail); n > 0 {
		b.reveal(b.trail[n-1])
		b.trail = b.trail[:n-1]
	}
	b.hops = hops{}
}
