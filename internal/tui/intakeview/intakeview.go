// Package intakeview is the screen that looks inside an archive or a folder before it is
// taken in.
package intakeview

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
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
)

// view is a look inside what came: on the left what it is, on the right
// where it will be, between them what happens to each part.
type view struct {
	*frame.Desk
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

// row is one part of what came.
type intakeRow struct {
	left, verb, right string
	ink               canvas.Ink // of the verb
	depth             int        // below the row that it belongs to
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

func newView(m *frame.Model, msg insideMsg) *view {
	v := &view{server: msg.server, dir: msg.dir}
	v.Desk = m.Desk(v)
	v.set(msg)
	return v
}

// set takes over what was found in a source with the answers so far.
func (v *view) set(msg insideMsg) {
	in := msg.inside
	v.source, v.inside, v.choices, v.rows, v.selected = msg.source, in, msg.choices, nil, 0
	found := in.Found
	for i := range found.Mods { // in the order in which they came, in or out
		m := &found.Mods[i]
		if at := slices.IndexFunc(in.Intake.Mods, func(p intake.Placed) bool { return p.Mod == m }); at >= 0 {
			v.mod(&in.Intake.Mods[at])
		} else {
			v.add(intakeRow{left: m.Root, verb: "stays out", ink: canvas.Dim, story: modStory(m), mod: m.Name})
		}
	}
	v.others()
	v.lines()
	for _, s := range in.Intake.Steps {
		v.add(intakeRow{left: s.Path, verb: "left to you", right: s.About, ink: canvas.Warn, story: plainly("This is not done by Initium: " + s.About + ".")})
	}
	for _, l := range in.Intake.Left {
		v.add(intakeRow{left: v.short(l.Path), verb: "stays", right: l.About, ink: canvas.Warn, story: plainly("An earlier release brought it, and this one does not; " + l.About + ".")})
	}
	for _, n := range found.Notes {
		v.add(intakeRow{left: n, verb: "to read", ink: canvas.Focus, story: v.remark(n)})
	}
	for _, s := range found.Surplus {
		v.add(intakeRow{left: s, verb: "left out", ink: canvas.Dim, story: plainly("Nothing on the server has a use for it.")})
	}
	for i := range v.rows {
		if v.rows[i].question != nil {
			v.selected = i
			break
		}
	}
}

func (v *view) add(r intakeRow) { v.rows = append(v.rows, r) }

// short is a path as it is seen from the server's folder.
func (v *view) short(p string) string { return canvas.Clean(strings.TrimPrefix(p, v.dir+"/")) }

// asked is the question about a path or a name, if there is one.
func (v *view) asked(about string) *intake.Question {
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
		name += "; it came as " + canvas.Clean(m.Mended)
	}
	lines := []told{{"", strings.TrimSpace(canvas.Clean(m.Name + " " + m.Manifest.Release))}, {"root", m.RootWords()}, {"name", name}}
	if len(m.Manifest.Needs) > 0 {
		var names []string
		for _, n := range m.Manifest.Needs {
			names = append(names, strings.TrimSpace(n.Name+" "+n.Range))
		}
		lines = append(lines, told{"needs", canvas.Clean(strings.Join(names, ", "))})
	}
	if m.Manifest.Side != "" {
		lines = append(lines, told{"side", canvas.Clean(m.Manifest.Side)})
	}
	return lines
}

// mod adds a mod, and below it what becomes of its files where others were.
func (v *view) mod(p *intake.Placed) {
	row := intakeRow{left: p.Root, right: v.short(p.Path) + fmt.Sprintf("   %s, %s", marks.Count(p.Files, "file", "files"), intake.Bytes(p.Bytes)), verb: "new", ink: canvas.Good, story: modStory(p.Mod), head: true, mod: p.Name}
	if p.Root == "" {
		row.left = "all that came"
	} else if !p.Single {
		row.left += "/"
	}
	if p.There != nil {
		row.verb, row.ink = "instead of "+strings.TrimSpace(canvas.Clean(p.There.Release)), canvas.Focus
		if p.There.Release == "" {
			row.verb = "instead"
		}
	}
	if v.choices.Section != "" && p.Listed && p.There == nil {
		row.story = append(row.story, told{"section", canvas.Clean(v.choices.Section)})
	}
	if lacking := v.inside.Lacking[p.Name]; len(lacking) > 0 {
		row.story = append(row.story, told{"lacks", canvas.Clean(strings.Join(lacking, ", ")) + ": not on the server, and not in what came"})
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
		r := intakeRow{left: canvas.Clean(n.Rel), verb: string(n.Kind), right: n.Why, depth: 1, story: plainly(canvas.Clean(n.Rel), n.Why)}
		switch n.Kind {
		case plan.FileComes:
			r.ink = canvas.Good
		case plan.FileGoes:
			r.ink, r.left, r.right = canvas.Bad, "", strings.TrimSpace(canvas.Clean(n.Rel)+"  "+n.Why)
		case plan.FileKept:
			r.ink, r.left, r.right = canvas.Warn, "", strings.TrimSpace(canvas.Clean(n.Rel)+"  "+n.Why)
		default:
			r.ink = canvas.Focus
		}
		v.add(r)
	}
	for _, q := range v.inside.Intake.Questions {
		if rel, ok := strings.CutPrefix(q.About, p.Path+"/"); ok {
			v.add(intakeRow{left: canvas.Clean(rel), verb: "?", right: canvas.Clean(rel), ink: canvas.Bad, depth: 1, question: &q, story: plainly(canvas.Clean(rel))})
		}
	}
}

// others adds keys, maps and other files that are placed one by one.
func (v *view) others() {
	in := v.inside.Intake
	for i := range in.Parts {
		p := &in.Parts[i]
		if p.What == plan.TheMod || len(p.Items) != 1 || p.Items[0].Rel != "" {
			continue
		}
		row := intakeRow{left: canvas.Clean(p.Items[0].From), right: v.short(p.Path), verb: "new", ink: canvas.Good, story: plainly(p.Title(), v.short(p.Path))}
		if p.Old != "" {
			row.verb, row.ink = "instead", canvas.Focus
		}
		v.add(row)
	}
	for _, o := range in.Overlaps {
		if o.Into || o.Choice == lineup.Take || o.Choice == lineup.Both {
			continue
		}
		row := intakeRow{left: canvas.Clean(path.Base(o.Path)), right: v.short(o.Path), verb: "same bytes", ink: canvas.Dim, story: plainly(v.short(o.Path), "It is there already, "+o.Whose+".")}
		switch {
		case o.Same:
		case o.Choice == lineup.Keep:
			row.verb, row.ink = "old one stays", canvas.Warn
		default:
			row.verb, row.ink, row.question = "?", canvas.Bad, v.asked(o.Path)
		}
		v.add(row)
	}
	for i := range in.Brings {
		b := &in.Brings[i]
		asked := 0
		for k := range in.Questions {
			q := &in.Questions[k]
			if !strings.HasPrefix(q.About, b.Into+":") {
				continue
			}
			asked++
			v.add(intakeRow{left: canvas.Clean(path.Base(b.Path)), verb: "?", right: canvas.Clean(q.Rel), ink: canvas.Bad, question: q, story: plainly(canvas.Clean(q.Rel))})
		}
		if asked == 0 {
			v.add(intakeRow{left: canvas.Clean(b.Path), verb: "entries", right: "into " + v.short(b.Into), ink: canvas.Good, story: plainly("Its entries are added to this table of the server, in the table's own layout; those that are there already stay as they are.")})
		}
	}
	for _, k := range in.Keys {
		v.add(intakeRow{left: canvas.Clean(k), verb: "same bytes", right: "the key is there already", ink: canvas.Dim, story: plainly("Another mod, or an earlier release, has brought the same key.")})
	}
}

// lines adds the lines of startup files that come with it.
func (v *view) lines() {
	if v.inside.Plan == nil {
		return
	}
	if v.choices.Alone {
		v.add(intakeRow{verb: "is switched off", right: "every other mod that it does not need", ink: canvas.Warn, story: plainly("What came is to be alone: all other mods but those that it needs are switched off with it, and one undo brings all of them back. z lets them load beside it.")})
	}
	for _, f := range v.inside.Plan.Files {
		if v.choices.Alone {
			break // the plan tells all of them
		}
		why := "The line that registers it, at the place in the load order that its needs want."
		if slices.ContainsFunc(v.inside.Intake.Brings, func(b intake.Shipped) bool { return b.Into == f.Path }) {
			why = "A line of an entry that it brings for this table."
		}
		for _, r := range f.Rows(0) {
			if r.Kind == plan.Comes {
				v.add(intakeRow{verb: "is written", right: fmt.Sprintf("%s:%d  %s", v.short(f.Path), r.NewLine, strings.TrimSpace(r.Text)), ink: canvas.Good, story: plainly(why)})
			}
		}
	}
	for _, r := range v.inside.Plan.Rules {
		v.add(intakeRow{verb: "is kept", right: "the rule: " + r.String(), ink: canvas.Good, story: plainly(canvas.Clean(r.Because))})
	}
}

// remark are the first lines of a readme.
func (v *view) remark(name string) []told {
	lines := strings.Split(string(v.inside.Found.Tree.Bytes(name)), "\n")
	var shown []string
	for _, l := range lines {
		if l = strings.TrimRight(canvas.Clean(l), " "); l != "" || len(shown) > 0 {
			shown = append(shown, l)
		}
	}
	return plainly(shown...)
}

func (v *view) step(by int) {
	v.selected = max(min(v.selected+by, len(v.rows)-1), 0)
}

// open counts the questions that have no answer yet.
func (v *view) open() int { return len(v.inside.Intake.Questions) }

func (v *view) drawParts(c *canvas.Canvas, y, h int) {
	in := v.inside
	x := c.PutWithin(2, y, c.W/2, canvas.Clean(path.Base(v.source)), canvas.Title)
	c.PutWithin(x+3, y, c.W-x-4, fmt.Sprintf("%s, %s, %s", in.Form, marks.Count(in.Found.Tree.Files, "file", "files"), intake.Bytes(in.Found.Tree.Total)), canvas.Dim)
	y, h = y+1, h-1
	for _, p := range in.Intake.Problems {
		c.Put(2, y, "!", canvas.Bad)
		y, h = c.Paragraph(4, y, c.W-6, 3, "It cannot be taken in: "+p, canvas.Bad), h-1
	}
	verbAt, verbWidth := v.columns(c.W)
	rightAt := verbAt + verbWidth + 2
	c.Put(2, y, "what came", canvas.Dim)
	c.Put(verbAt, y, "what happens", canvas.Dim)
	c.Put(rightAt, y, "where it will be", canvas.Dim)
	y, h = y+1, h-1
	v.rowsAt = y
	v.scroll = max(min(v.scroll, v.selected), v.selected-h+1, 0)
	for i := v.scroll; i < min(v.scroll+h, len(v.rows)); i++ {
		v.drawRow(c, y+i-v.scroll, i, verbAt, rightAt)
	}
	if more := len(v.rows) - v.scroll - h; more > 0 {
		c.Right(c.W-1, y+h-1, fmt.Sprintf(" ↓ %d more ", more), canvas.Dim)
	}
}

// columns share the width: the verbs take what the longest of them needs.
func (v *view) columns(w int) (verbAt, verbWidth int) {
	verbWidth = len("what happens")
	for i := range v.rows {
		verbWidth = max(verbWidth, len([]rune(v.rows[i].verb))+4)
	}
	verbWidth = min(verbWidth, w/4)
	return (w - verbWidth) * 2 / 5, verbWidth
}

func (v *view) drawRow(c *canvas.Canvas, y, i, verbAt, rightAt int) {
	r := &v.rows[i]
	if i == v.selected {
		c.Lift(y, 0, c.W)
		c.Put(0, y, "▌", canvas.Focus)
	}
	textInk := canvas.Text
	switch {
	case r.head:
		textInk = canvas.Title
	case r.ink == canvas.Dim:
		textInk = canvas.Dim
	}
	c.PutWithin(2+2*r.depth, y, verbAt-4-2*r.depth, canvas.Ending(canvas.Clean(r.left), verbAt-4-2*r.depth), textInk)
	verb, k := r.verb, r.ink
	if r.question != nil {
		verb, k = "? to answer", canvas.Bad
	}
	at := c.PutWithin(verbAt, y, rightAt-verbAt-2, verb, k)
	if r.right != "" && r.left != "" && at < rightAt-2 {
		c.Put(at+1, y, strings.Repeat("─", rightAt-at-3)+"›", canvas.Faint)
	}
	c.PutWithin(rightAt+2*r.depth, y, c.W-rightAt-1-2*r.depth, canvas.Clean(r.right), textInk)
}

// drawStory tells about the selected row, or what check would say afterwards.
func (v *view) drawStory(c *canvas.Canvas, y, h int) {
	if v.selected >= len(v.rows) {
		return
	}
	end := y + h
	r := &v.rows[v.selected]
	if r.question != nil {
		c.Put(2, y, "?", canvas.Bad)
		y = c.Paragraph(4, y, c.W-6, 4, r.question.Text, canvas.Text)
		x := 4
		for _, k := range v.answers(r.question) {
			x = c.PutWithin(c.Put(x, y, k[0]+" ", canvas.Key), y, c.W-x-3, k[1], canvas.Text) + 3
		}
		y++
	}
	for i, line := range r.story {
		switch {
		case y >= end || line.text == "" && r.verb != "to read":
			continue
		case i == 0 && r.verb != "to read":
			c.PutWithin(2, y, c.W-3, line.text, canvas.Title)
		case line.label != "":
			c.Put(2, y, line.label, canvas.Dim)
			c.PutWithin(12, y, c.W-13, line.text, canvas.Text)
		default:
			c.PutWithin(2, y, c.W-3, line.text, canvas.Text)
		}
		y++
	}
	for _, group := range []struct {
		list []check.Finding
		word string
	}{{v.inside.Comes, "check will say: "}, {v.inside.Mended, "check will no longer say: "}} {
		for _, f := range group.list {
			if y < end && (f.Severity != check.Note || len(group.list) == 1) {
				m := marks.Severity(f.Severity)
				c.Put(2, y, m.Shape, m.Ink)
				c.PutWithin(4, y, c.W-6, group.word+f.Message, canvas.Text)
				y++
			}
		}
	}
}

func (v *view) Keys() []frame.Key {
	keys := []frame.Key{{"↑ ↓", "choose"}}
	if v.selected < len(v.rows) && v.rows[v.selected].question != nil {
		keys = append(keys, v.answers(v.rows[v.selected].question)...)
	}
	if v.selected < len(v.rows) && v.rows[v.selected].mod != "" && len(v.inside.Found.Mods) > 1 {
		keys = append(keys, frame.Key{"o", "in or out"})
	}
	if len(v.inside.Found.Mods) > 0 {
		keys = append(keys, frame.Key{"I", "folder"})
		if len(v.inside.Titles) > 0 {
			keys = append(keys, frame.Key{"h", "section"})
		}
		keys = append(keys, frame.Key{"z", "alone"})
	}
	if v.inside.Plan != nil {
		keys = append(keys, frame.Key{"Enter", "the plan"})
	} else if v.open() > 0 {
		keys = append(keys, frame.Key{"Tab", "next question"})
	}
	return append(keys, frame.Key{"Esc", "to the board"})
}
