// Package planview is the screen of a change before it is written: every file, every line.
package planview

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/rule"
	"initium/internal/host"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
	"initium/internal/tui/tryview"
)

// view shows the exact lines that will change, before anything is written.
type view struct {
	*frame.Desk
	server string
	runs   bool // the server, while the plan is looked at

	why   string
	plan  *plan.Plan
	rows  []Row
	first int
	back  bool // it goes back in the ledger
	field int  // of the plan's files: the next one to copy
}

// Row is a line of a plan as it is drawn.
type Row struct {
	file  string // begins a file
	about string // and says more about it
	word  string // of a file of a part: what becomes of it
	row   plan.Row
}

// planMsg is a plan of what is to be done to a server.
type planMsg struct {
	server, dir string
	runs        bool
	why         string
	plan        *plan.Plan
	back        bool // it goes back in the ledger
	err         error
}

func newView(m *frame.Model, msg planMsg) *view {
	v := &view{server: msg.server, runs: msg.runs, why: msg.why, plan: msg.plan, back: msg.back, rows: Rows(msg.dir, msg.plan, 3)}
	v.Desk = m.Desk(v)
	return v
}

// Open shows a plan above the screen that asked for it.
func (msg planMsg) Open(d *frame.Desk) tea.Cmd {
	if msg.err != nil {
		d.Complain(msg.err)
		return nil
	}
	if msg.plan.Empty() {
		d.Say("nothing to change: it is so already")
		return nil
	}
	return d.Enter(newView(d.Model, msg))
}

// planFor is the answer with a plan of a server.
func planFor(d *frame.Desk, server, why string, back bool, p *plan.Plan, err error) planMsg {
	record, known := d.App.Home.Record(server)
	return planMsg{server: server, dir: record.Dir, runs: d.App.Home.IsRunning(server), why: why, plan: p, back: back, err: cmp.Or(err, known)}
}

// Planned stages changes and works out the plan of all that is staged.
func Planned(d *frame.Desk, server string, changes ...lineup.Change) func() tea.Msg {
	return func() tea.Msg {
		if len(changes) > 0 {
			if _, err := d.App.Stage(d.Ctx, server, changes...); err != nil {
				return planMsg{err: err}
			}
		}
		staged, err := d.App.Staged(server)
		if err != nil {
			return planMsg{err: err}
		}
		p, _, err := d.App.Plan(d.Ctx, server, staged)
		return planFor(d, server, marks.Words(staged), false, p, err)
	}
}

// Returned works out the plan of a return to an entry of the ledger.
func Returned(d *frame.Desk, server string, to int) func() tea.Msg {
	return func() tea.Msg {
		p, why, err := d.App.ReturnPlan(server, to)
		return planFor(d, server, why, true, p, err)
	}
}

// Rows are the rows of a plan, with so many lines around each that changes.
func Rows(dir string, p *plan.Plan, around int) (rows []Row) {
	for i := range p.Parts {
		rows = append(rows, partRows(dir, &p.Parts[i])...)
	}
	for _, f := range p.Files {
		if len(rows) > 0 {
			rows = append(rows, Row{})
		}
		name := strings.TrimPrefix(f.Path, dir+"/")
		switch {
		case f.Form != "":
			name = "the field " + f.Form + " of the web form"
		case f.New:
			name += " (a new file)"
		case f.List:
			name = strings.TrimSuffix(name, "/") + " (what is in the folder)"
		}
		rows = append(rows, Row{file: canvas.Clean(name)})
		for _, r := range f.Rows(around) {
			rows = append(rows, Row{row: r})
		}
	}
	for i, g := range p.Given {
		if i == 0 {
			rows = append(rows, Row{}, Row{file: "values of the server", about: marks.Count(len(p.Given), "value changes", "values change")})
		}
		was, now := g.Shown()
		if g.Was != "" {
			rows = append(rows, Row{word: "goes", row: plan.Row{Kind: plan.Goes, Text: canvas.Clean(g.Name + " = " + was)}})
		}
		if g.Now != "" {
			rows = append(rows, Row{word: "comes", row: plan.Row{Kind: plan.Comes, Text: canvas.Clean(g.Name + " = " + now)}})
		}
	}
	rows = append(rows, ruleRows("is written down", plan.Comes, p.Rules)...)
	return append(rows, ruleRows("is taken back", plan.Goes, p.Unrules)...)
}

// ruleRows tell which rules come or go with a plan.
func ruleRows(word string, kind plan.RowKind, rules []rule.Rule) (rows []Row) {
	for i, r := range rules {
		if i == 0 {
			rows = append(rows, Row{}, Row{file: "your rules", about: marks.Count(len(rules), "rule", "rules") + " " + word})
		}
		rows = append(rows, Row{word: map[plan.RowKind]string{plan.Comes: "comes", plan.Goes: "goes"}[kind], row: plan.Row{Kind: kind, Text: r.String()}})
	}
	return rows
}

// partRows tell what becomes of a folder or file as a whole.
func partRows(dir string, p *plan.Part) []Row {
	rows := []Row{{file: canvas.Clean(strings.TrimPrefix(p.Path, dir+"/")), about: p.Title() + ", " + p.String()}}
	for _, n := range p.Notes {
		if n.Rel == "" && n.Kind == plan.FileChanges && n.Why == "" {
			continue // of a file alone all is said
		}
		row := Row{word: string(n.Kind), row: plan.Row{Kind: plan.Comes, Text: canvas.Clean(n.Rel)}}
		switch n.Kind {
		case plan.FileGoes:
			row.row.Kind = plan.Goes
		case plan.FileKept:
			row.row.Kind = plan.Stays
		}
		if n.Why != "" {
			row.row.Text += "  (" + canvas.Clean(n.Why) + ")"
		}
		rows = append(rows, row)
	}
	return rows
}

type (
	appliedMsg struct {
		why string
		err error
	}
	BackupMsg struct {
		made host.Backup
		err  error
	}
)

func (v *view) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case appliedMsg:
		cmd := v.BackToBase()
		if msg.err != nil {
			v.Complain(msg.err)
			return cmd
		}
		next := "The next start will show it."
		if v.runs {
			next = "The server runs as it was; S starts it anew."
		}
		v.Say("Done: %s. %s", msg.why, next)
		return cmd
	case BackupMsg:
		msg.Say(v.Desk)
	}
	return nil
}

func (v *view) Key(k string) tea.Cmd {
	switch k {
	case "enter":
		if !v.Stuck {
			return v.write()
		}
	case "esc":
		if v.Stuck {
			return nil
		}
		if v.back {
			return v.Desk.Back()
		}
		cmd := v.BackToBase()
		v.Say("Staged, and not written. p shows the plan again, u takes the last change back.")
		return cmd
	case "r":
		if !v.back && !v.Stuck {
			return tryview.Rehearse(v.Desk, v.server)
		}
	case "P":
		if !v.back && !v.Stuck {
			return tryview.ProveOrReturn(v.Desk, v.server)
		}
	case "F":
		return v.copyField()
	case "b":
		if !v.Stuck {
			return BackUp(v.Desk, v.server)
		}
	default:
		v.first = max(v.first+v.Moved(k, len(v.rows)), 0)
	}
	return nil
}

func (v *view) Wheel(by int) { v.first = max(v.first+by, 0) }

// write writes the plan. Files may have to be copied first, which can be stopped.
func (v *view) write() tea.Cmd {
	return v.Begin("Copying", func(ctx context.Context, b *frame.Busy) tea.Msg {
		if v.back {
			return appliedMsg{v.why, v.App.Return(ctx, v.server, v.plan, v.why)}
		}
		return appliedMsg{v.why, v.App.Apply(ctx, v.server, v.plan, b.Copied)}
	})
}

// Say tells how a backup went.
func (msg BackupMsg) Say(d *frame.Desk) {
	if msg.err != nil {
		d.Complain(msg.err)
		return
	}
	d.Say("Backup %d: %s, %s, read again and whole.", msg.made.Number, marks.Count(msg.made.Files, "file", "files"), intake.Bytes(msg.made.Bytes))
}

// BackUp backs the world of a server up.
func BackUp(d *frame.Desk, server string) tea.Cmd {
	return d.Begin("Backing the world up", func(ctx context.Context, b *frame.Busy) tea.Msg {
		made, err := d.App.Backup(ctx, server, "", b.Copied)
		return BackupMsg{made, err}
	})
}

// copyField puts what is to be pasted into the next field of a web form on the
// clipboard.
func (v *view) copyField() tea.Cmd {
	name, text, ok := v.nextField()
	if !ok {
		return nil
	}
	v.Say("Copied what goes into the field %q.", name)
	return tea.SetClipboard(text)
}

func (v *view) Help() []frame.Help {
	return []frame.Help{{Title: "The plan: what would be written, and nothing is yet", Keys: []frame.Key{
		{"Enter", "write it; the ledger keeps what was there"},
		{"r", "rehearse it: start a copy of the server with it"},
		{"P", "write it, start the server with it and prove it, or go back to the last proved state"},
		{"b", "back the world up first"},
		{"F", "copy what goes into the next field of a web form"},
		{"Esc", "leave it; what is staged stays so"},
	}}}
}

func (v *view) Draw(c *canvas.Canvas, y, h int) {
	c.Put(2, y, "Plan", canvas.Title)
	c.PutWithin(8, y, c.W-9, v.why, canvas.Text)
	c.Put(2, y+1, v.promise(), canvas.Dim)
	y, h = y+3, h-3
	v.first = max(min(v.first, len(v.rows)-h), 0)
	for i := v.first; i < min(v.first+h, len(v.rows)); i++ {
		v.rows[i].Draw(c, y+i-v.first)
	}
}

func (v *view) promise() string {
	files, bytes := v.plan.Fetched()
	if files == 0 {
		return "Nothing is written yet. The ledger keeps the old bytes."
	}
	return fmt.Sprintf("Nothing is written yet. %s come, %s; the ledger keeps what they take the place of.", marks.Count(files, "file", "files"), intake.Bytes(bytes))
}

func (r Row) Draw(c *canvas.Canvas, y int) {
	if r.file != "" {
		x := c.PutWithin(2, y, c.W-3, r.file, canvas.Title)
		c.PutWithin(x+3, y, c.W-x-4, r.about, canvas.Text)
		return
	}
	if r.word != "" {
		k := map[plan.RowKind]canvas.Ink{plan.Comes: canvas.Good, plan.Goes: canvas.Bad, plan.Stays: canvas.Warn}[r.row.Kind]
		c.Put(6, y, r.word, k)
		c.PutWithin(20, y, c.W-21, r.row.Text, canvas.Text)
		return
	}
	line := func(number int, word string, k, textInk canvas.Ink) {
		c.Right(8, y, fmt.Sprint(number), canvas.Dim)
		c.Put(10, y, word, k)
		c.PutWithin(20, y, c.W-21, r.row.Text, textInk)
	}
	switch r.row.Kind {
	case plan.Stays:
		line(r.row.NewLine, "", canvas.Dim, canvas.Dim)
	case plan.Goes:
		line(r.row.OldLine, "goes", canvas.Bad, canvas.Bad)
	case plan.Comes:
		line(r.row.NewLine, "comes", canvas.Good, canvas.Good)
	case plan.Gap:
		c.Put(10, y, "…", canvas.Faint)
	}
}

// nextField is what to paste into a field of a web form; asked again, the next
// one.
func (v *view) nextField() (name, text string, ok bool) {
	for range v.plan.Files {
		f := v.plan.Files[v.field%len(v.plan.Files)]
		v.field++
		if f.Form != "" {
			return f.Form, strings.TrimRight(string(f.Want), "\r\n"), true
		}
	}
	return "", "", false
}

func (v *view) Keys() []frame.Key {
	keys := []frame.Key{{"Enter", "write it"}}
	if !v.back {
		keys = append(keys, frame.Key{"r", "rehearse it"}, frame.Key{"P", "prove it, or return"})
	}
	keys = append(keys, frame.Key{"Esc", "leave it"}, frame.Key{"↑ ↓", "scroll"})
	for _, f := range v.plan.Files {
		if f.Form != "" {
			keys = append(keys, frame.Key{"F", "copy the field"})
			break
		}
	}
	if len(v.plan.Parts) > 0 {
		keys = append(keys, frame.Key{"b", "back the world up first"})
	}
	return keys
}
