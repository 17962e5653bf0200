package tui

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
)

// intakeView is a look inside what came: on the left what it is, on the right
// where it will be, between them what happens to each part.
type intakeView struct {
	*desk
	server   string
	rowsAt   int // the line of the first row, as it was drawn last
	source   string
	inside   *app.Inspection
	choices  lineup.Choices
	dir      string // of the server
	rows     []intakeRow
	selected int
	scroll   int
}

// intakeRow is one part of what came.
type intakeRow struct {
	left, verb, right string
	ink               ink // of the verb
	depth             int // below the row that it belongs to
	story             []told
	question          *intake.Question
	head              bool
	mod               string // of a mod's own row: its name
}

// told is a line about a row, perhaps with a label before it.
type told struct{ label, text string }

// plainly are lines without labels.
func plainly(lines ...string) (list []told) {
	for _, l := range lines {
		list = append(list, told{"", l})
	}
	return list
}

func newIntakeView(m *model, msg insideMsg) *intakeView {
	v := &intakeView{server: msg.server, dir: msg.dir}
	v.desk = m.desk(v)
	v.set(msg)
	return v
}

// set takes over what was found in a source with the answers so far.
func (v *intakeView) set(msg insideMsg) {
	in := msg.inside
	v.source, v.inside, v.choices, v.rows, v.selected = msg.source, in, msg.choices, nil, 0
	found := in.Found
	for i := range found.Mods { // in the order in which they came, in or out
		m := &found.Mods[i]
		if at := slices.IndexFunc(in.Intake.Mods, func(p intake.Placed) bool { return p.Mod == m }); at >= 0 {
			v.mod(&in.Intake.Mods[at])
		} else {
			v.add(intakeRow{left: m.Root, verb: "stays out", ink: inkDim, story: modStory(m), mod: m.Name})
		}
	}
	v.others()
	v.lines()
	for _, s := range in.Intake.Steps {
		v.add(intakeRow{left: s.Path, verb: "left to you", right: s.About, ink: inkWarn, story: plainly("This is not done by Initium: " + s.About + ".")})
	}
	for _, n := range found.Notes {
		v.add(intakeRow{left: n, verb: "to read", ink: inkFocus, story: v.remark(n)})
	}
	for _, s := range found.Surplus {
		v.add(intakeRow{left: s, verb: "left out", ink: inkDim, story: plainly("Nothing on the server has a use for it.")})
	}
	for i := range v.rows {
		if v.rows[i].question != nil {
			v.selected = i
			break
		}
	}
}

func (v *intakeView) add(r intakeRow) { v.rows = append(v.rows, r) }

// short is a path as it is seen from the server's folder.
func (v *intakeView) short(p string) string { return clean(strings.TrimPrefix(p, v.dir+"/")) }

// asked is the question about a path or a name, if there is one.
func (v *intakeView) asked(about string) *intake.Question {
	for i := range v.inside.Intake.Questions {
		if q := &v.inside.Intake.Questions[i]; q.About == about {
			return q
		}
	}
	return nil
}

func modStory(m *intake.Mod) []told {
	name := m.Why
	if m.Mended != "" {
		name += "; it came as " + clean(m.Mended)
	}
	lines := []told{{"", strings.TrimSpace(clean(m.Name + " " + m.Manifest.Release))}, {"root", m.RootWords()}, {"name", name}}
	if len(m.Manifest.Needs) > 0 {
		var names []string
		for _, n := range m.Manifest.Needs {
			names = append(names, strings.TrimSpace(n.Name+" "+n.Range))
		}
		lines = append(lines, told{"needs", clean(strings.Join(names, ", "))})
	}
	if m.Manifest.Side != "" {
		lines = append(lines, told{"side", clean(m.Manifest.Side)})
	}
	return lines
}

// mod adds a mod, and below it what becomes of its files where others were.
func (v *intakeView) mod(p *intake.Placed) {
	row := intakeRow{left: p.Root, right: v.short(p.Path) + fmt.Sprintf("   %s, %s", count(p.Files, "file", "files"), intake.Bytes(p.Bytes)), verb: "new", ink: inkGood, story: modStory(p.Mod), head: true, mod: p.Name}
	if p.Root == "" {
		row.left = "all that came"
	} else if !p.Single {
		row.left += "/"
	}
	if p.There != nil {
		row.verb, row.ink = "instead of "+strings.TrimSpace(clean(p.There.Release)), inkFocus
		if p.There.Release == "" {
			row.verb = "instead"
		}
	}
	if lacking := v.inside.Lacking[p.Name]; len(lacking) > 0 {
		row.story = append(row.story, told{"lacks", clean(strings.Join(lacking, ", ")) + ": not on the server, and not in what came"})
	}
	if aged := v.inside.Aged[p.Name]; aged != "" {
		row.story = append(row.story, told{"old", aged})
	}
	if q := v.asked(p.Path); q != nil {
		row.question = q
	} else {
		row.question = v.asked(p.Name)
	}
	v.add(row)
	for _, n := range p.Notes {
		r := intakeRow{left: clean(n.Rel), verb: string(n.Kind), right: n.Why, depth: 1, story: plainly(clean(n.Rel), n.Why)}
		switch n.Kind {
		case plan.FileComes:
			r.ink = inkGood
		case plan.FileGoes:
			r.ink, r.left, r.right = inkBad, "", strings.TrimSpace(clean(n.Rel)+"  "+n.Why)
		case plan.FileKept:
			r.ink, r.left, r.right = inkWarn, "", strings.TrimSpace(clean(n.Rel)+"  "+n.Why)
		default:
			r.ink = inkFocus
		}
		v.add(r)
	}
	for _, q := range v.inside.Intake.Questions {
		if rel, ok := strings.CutPrefix(q.About, p.Path+"/"); ok {
			v.add(intakeRow{left: clean(rel), verb: "?", right: clean(rel), ink: inkBad, depth: 1, question: &q, story: plainly(clean(rel))})
		}
	}
}

// others adds keys, maps and other files that are placed one by one.
func (v *intakeView) others() {
	in := v.inside.Intake
	for i := range in.Parts {
		p := &in.Parts[i]
		if p.What == plan.TheMod || len(p.Items) != 1 || p.Items[0].Rel != "" {
			continue
		}
		row := intakeRow{left: clean(p.Items[0].From), right: v.short(p.Path), verb: "new", ink: inkGood, story: plainly(p.Title(), v.short(p.Path))}
		if p.Old != "" {
			row.verb, row.ink = "instead", inkFocus
		}
		v.add(row)
	}
	for _, o := range in.Overlaps {
		if o.Into || o.Choice == lineup.Take || o.Choice == lineup.Both {
			continue
		}
		row := intakeRow{left: clean(path.Base(o.Path)), right: v.short(o.Path), verb: "same bytes", ink: inkDim, story: plainly(v.short(o.Path), "It is there already, "+o.Whose+".")}
		switch {
		case o.Same:
		case o.Choice == lineup.Keep:
			row.verb, row.ink = "old one stays", inkWarn
		default:
			row.verb, row.ink, row.question = "?", inkBad, v.asked(o.Path)
		}
		v.add(row)
	}
	for _, k := range in.Keys {
		v.add(intakeRow{left: clean(k), verb: "same bytes", right: "the key is there already", ink: inkDim, story: plainly("Another mod, or an earlier release, has brought the same key.")})
	}
}

// lines adds the lines of startup files that come with it.
func (v *intakeView) lines() {
	if v.inside.Plan == nil {
		return
	}
	for _, f := range v.inside.Plan.Files {
		for _, r := range f.Rows(0) {
			if r.Kind == plan.Comes {
				v.add(intakeRow{verb: "is written", right: fmt.Sprintf("%s:%d  %s", v.short(f.Path), r.NewLine, strings.TrimSpace(r.Text)), ink: inkGood,
					story: plainly("The line that registers it, at the place in the load order that its needs want.")})
			}
		}
	}
	for _, r := range v.inside.Plan.Rules {
		v.add(intakeRow{verb: "is kept", right: "the rule: " + r.String(), ink: inkGood, story: plainly(clean(r.Because))})
	}
}

// remark are the first lines of a readme.
func (v *intakeView) remark(name string) []told {
	lines := strings.Split(string(v.inside.Found.Tree.Bytes(name)), "\n")
	var shown []string
	for _, l := range lines {
		if l = strings.TrimRight(clean(l), " "); l != "" || len(shown) > 0 {
			shown = append(shown, l)
		}
	}
	return plainly(shown...)
}

func (v *intakeView) step(by int) {
	v.selected = max(min(v.selected+by, len(v.rows)-1), 0)
}

// open counts the questions that have no answer yet.
func (v *intakeView) open() int { return len(v.inside.Intake.Questions) }

func (v *intakeView) drawParts(c *canvas, y, h int) {
	in := v.inside
	x := c.putWithin(2, y, c.w/2, clean(path.Base(v.source)), inkTitle)
	c.putWithin(x+3, y, c.w-x-4, fmt.Sprintf("%s, %s, %s", in.Form, count(in.Found.Tree.Files, "file", "files"), intake.Bytes(in.Found.Tree.Total)), inkDim)
	y, h = y+1, h-1
	for _, p := range in.Intake.Problems {
		c.put(2, y, "!", inkBad)
		y, h = c.paragraph(4, y, c.w-6, 3, "It cannot be taken in: "+p, inkBad), h-1
	}
	verbAt, verbWidth := v.columns(c.w)
	rightAt := verbAt + verbWidth + 2
	c.put(2, y, "what came", inkDim)
	c.put(verbAt, y, "what happens", inkDim)
	c.put(rightAt, y, "where it will be", inkDim)
	y, h = y+1, h-1
	v.rowsAt = y
	v.scroll = max(min(v.scroll, v.selected), v.selected-h+1, 0)
	for i := v.scroll; i < min(v.scroll+h, len(v.rows)); i++ {
		v.drawRow(c, y+i-v.scroll, i, verbAt, rightAt)
	}
	if more := len(v.rows) - v.scroll - h; more > 0 {
		c.right(c.w-1, y+h-1, fmt.Sprintf(" ↓ %d more ", more), inkDim)
	}
}

// columns share the width: the verbs take what the longest of them needs.
func (v *intakeView) columns(w int) (verbAt, verbWidth int) {
	verbWidth = len("what happens")
	for i := range v.rows {
		verbWidth = max(verbWidth, len([]rune(v.rows[i].verb))+4)
	}
	verbWidth = min(verbWidth, w/4)
	return (w - verbWidth) * 2 / 5, verbWidth
}

func (v *intakeView) drawRow(c *canvas, y, i, verbAt, rightAt int) {
	r := &v.rows[i]
	if i == v.selected {
		c.lift(y, 0, c.w)
		c.put(0, y, "▌", inkFocus)
	}
	textInk := inkText
	switch {
	case r.head:
		textInk = inkTitle
	case r.ink == inkDim:
		textInk = inkDim
	}
	c.putWithin(2+2*r.depth, y, verbAt-4-2*r.depth, ending(clean(r.left), verbAt-4-2*r.depth), textInk)
	verb, k := r.verb, r.ink
	if r.question != nil {
		verb, k = "? to answer", inkBad
	}
	at := c.putWithin(verbAt, y, rightAt-verbAt-2, verb, k)
	if r.right != "" && r.left != "" && at < rightAt-2 {
		c.put(at+1, y, strings.Repeat("─", rightAt-at-3)+"›", inkFaint)
	}
	c.putWithin(rightAt+2*r.depth, y, c.w-rightAt-1-2*r.depth, clean(r.right), textInk)
}

// drawStory tells about the selected row, or what check would say afterwards.
func (v *intakeView) drawStory(c *canvas, y, h int) {
	if v.selected >= len(v.rows) {
		return
	}
	end := y + h
	r := &v.rows[v.selected]
	if r.question != nil {
		c.put(2, y, "?", inkBad)
		y = c.paragraph(4, y, c.w-6, 3, r.question.Text, inkText)
		x := 4
		for _, k := range v.answers(r.question) {
			x = c.putWithin(c.put(x, y, k[0]+" ", inkKey), y, c.w-x-3, k[1], inkText) + 3
		}
		y++
	}
	for i, line := range r.story {
		switch {
		case y >= end || line.text == "" && r.verb != "to read":
			continue
		case i == 0 && r.verb != "to read":
			c.putWithin(2, y, c.w-3, line.text, inkTitle)
		case line.label != "":
			c.put(2, y, line.label, inkDim)
			c.putWithin(12, y, c.w-13, line.text, inkText)
		default:
			c.putWithin(2, y, c.w-3, line.text, inkText)
		}
		y++
	}
	for _, group := range []struct {
		list []check.Finding
		word string
	}{{v.inside.Comes, "check will say: "}, {v.inside.Mended, "check will no longer say: "}} {
		for _, f := range group.list {
			if y < end && (f.Severity != check.Note || len(group.list) == 1) {
				m := severityMark(f.Severity)
				c.put(2, y, m.shape, m.ink)
				c.putWithin(4, y, c.w-6, group.word+f.Message, inkText)
				y++
			}
		}
	}
}

func (v *intakeView) keys() []keyHelp {
	keys := []keyHelp{{"↑ ↓", "choose"}}
	if v.selected < len(v.rows) && v.rows[v.selected].question != nil {
		keys = append(keys, v.answers(v.rows[v.selected].question)...)
	}
	if v.selected < len(v.rows) && v.rows[v.selected].mod != "" && len(v.inside.Found.Mods) > 1 {
		keys = append(keys, keyHelp{"o", "in or out"})
	}
	if v.inside.Plan != nil {
		keys = append(keys, keyHelp{"Enter", "the plan"})
	} else if v.open() > 0 {
		keys = append(keys, keyHelp{"Tab", "next question"})
	}
	return append(keys, keyHelp{"Esc", "to the board"})
}
