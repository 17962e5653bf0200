package tui

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
)

// planView shows the exact lines that will change, before anything is written.
type planView struct {
	*desk
	server string
	runs   bool // the server, while the plan is looked at

	why   string
	plan  *plan.Plan
	rows  []planRow
	first int
	back  bool // it goes back in the ledger
	field int  // of the plan's files: the next one to copy
}

type planRow struct {
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

func newPlanView(m *model, msg planMsg) *planView {
	v := &planView{server: msg.server, runs: msg.runs, why: msg.why, plan: msg.plan, back: msg.back, rows: planRows(msg.dir, msg.plan, 3)}
	v.desk = m.desk(v)
	return v
}

// open shows a plan above the screen that asked for it.
func (msg planMsg) open(d *desk) tea.Cmd {
	if msg.err != nil {
		d.complain(msg.err)
		return nil
	}
	if msg.plan.Empty() {
		d.say("nothing to change: it is so already")
		return nil
	}
	return d.enter(newPlanView(d.model, msg))
}

// planFor is the answer with a plan of a server.
func planFor(d *desk, server, why string, back bool, p *plan.Plan, err error) planMsg {
	record, known := d.app.Home.Record(server)
	return planMsg{server: server, dir: record.Dir, runs: d.app.Home.IsRunning(server), why: why, plan: p, back: back, err: cmp.Or(err, known)}
}

// planned stages changes and works out the plan of all that is staged.
func planned(d *desk, server string, changes ...lineup.Change) func() tea.Msg {
	return func() tea.Msg {
		if len(changes) > 0 {
			if _, err := d.app.Stage(d.ctx, server, changes...); err != nil {
				return planMsg{err: err}
			}
		}
		staged, err := d.app.Staged(server)
		if err != nil {
			return planMsg{err: err}
		}
		p, _, err := d.app.Plan(d.ctx, server, staged)
		return planFor(d, server, words(staged), false, p, err)
	}
}

// returned works out the plan of a return to an entry of the ledger.
func returned(d *desk, server string, to int) func() tea.Msg {
	return func() tea.Msg {
		p, why, err := d.app.ReturnPlan(server, to)
		return planFor(d, server, why, true, p, err)
	}
}

// planRows are the rows of a plan, with so many lines around each that changes.
func planRows(dir string, p *plan.Plan, around int) (rows []planRow) {
	for i := range p.Parts {
		rows = append(rows, partRows(dir, &p.Parts[i])...)
	}
	for _, f := range p.Files {
		if len(rows) > 0 {
			rows = append(rows, planRow{})
		}
		name := strings.TrimPrefix(f.Path, dir+"/")
		switch {
		case f.Form != "":
			name = "the field " + f.Form + " of the web form"
		case f.New:
			name += " (a new file)"
		case f.List:
			name += " (what is in the folder)"
		}
		rows = append(rows, planRow{file: clean(name)})
		for _, r := range f.Rows(around) {
			rows = append(rows, planRow{row: r})
		}
	}
	for i, g := range p.Given {
		if i == 0 {
			rows = append(rows, planRow{}, planRow{file: "values of the server", about: count(len(p.Given), "value changes", "values change")})
		}
		was, now := g.Shown()
		if g.Was != "" {
			rows = append(rows, planRow{word: "goes", row: plan.Row{Kind: plan.Goes, Text: clean(g.Name + " = " + was)}})
		}
		if g.Now != "" {
			rows = append(rows, planRow{word: "comes", row: plan.Row{Kind: plan.Comes, Text: clean(g.Name + " = " + now)}})
		}
	}
	rows = append(rows, ruleRows("is written down", plan.Comes, p.Rules)...)
	return append(rows, ruleRows("is taken back", plan.Goes, p.Unrules)...)
}

// ruleRows tell which rules come or go with a plan.
func ruleRows(word string, kind plan.RowKind, rules []rule.Rule) (rows []planRow) {
	for i, r := range rules {
		if i == 0 {
			rows = append(rows, planRow{}, planRow{file: "your rules", about: count(len(rules), "rule", "rules") + " " + word})
		}
		rows = append(rows, planRow{word: map[plan.RowKind]string{plan.Comes: "comes", plan.Goes: "goes"}[kind], row: plan.Row{Kind: kind, Text: r.String()}})
	}
	return rows
}

// partRows tell what becomes of a folder or file as a whole.
func partRows(dir string, p *plan.Part) []planRow {
	rows := []planRow{{file: clean(strings.TrimPrefix(p.Path, dir+"/")), about: p.Title() + ", " + p.String()}}
	for _, n := range p.Notes {
		row := planRow{word: string(n.Kind), row: plan.Row{Kind: plan.Comes, Text: clean(n.Rel)}}
		switch n.Kind {
		case plan.FileGoes:
			row.row.Kind = plan.Goes
		case plan.FileKept:
			row.row.Kind = plan.Stays
		}
		if n.Why != "" {
			row.row.Text += "  (" + clean(n.Why) + ")"
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
	backupMsg struct {
		made host.Backup
		err  error
	}
)

func (v *planView) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case appliedMsg:
		cmd := v.backToBase()
		if msg.err != nil {
			v.complain(msg.err)
			return cmd
		}
		next := "The next start will show it."
		if v.runs {
			next = "The server runs as it was; S starts it anew."
		}
		v.say("Done: %s. %s", msg.why, next)
		return cmd
	case backupMsg:
		msg.say(v.desk)
	}
	return nil
}

func (v *planView) key(k string) tea.Cmd {
	switch k {
	case "enter":
		if !v.stuck {
			return v.write()
		}
	case "esc":
		if v.stuck {
			return nil
		}
		if v.back {
			return v.desk.back()
		}
		cmd := v.backToBase()
		v.say("Staged, and not written. p shows the plan again, u takes the last change back.")
		return cmd
	case "F":
		return v.copyField()
	case "b":
		if !v.stuck {
			return backUp(v.desk, v.server)
		}
	default:
		v.first = max(v.first+v.moved(k, len(v.rows)), 0)
	}
	return nil
}

func (v *planView) wheel(by int) { v.first = max(v.first+by, 0) }

// write writes the plan. Files may have to be copied first, which can be stopped.
func (v *planView) write() tea.Cmd {
	return v.begin("Copying", func(ctx context.Context, b *busy) tea.Msg {
		if v.back {
			return appliedMsg{v.why, v.app.Return(ctx, v.server, v.plan, v.why)}
		}
		return appliedMsg{v.why, v.app.Apply(ctx, v.server, v.plan, b.copied)}
	})
}

// say tells how a backup went.
func (msg backupMsg) say(d *desk) {
	if msg.err != nil {
		d.complain(msg.err)
		return
	}
	d.say("Backup %d: %s, %s, read again and whole.", msg.made.Number, count(msg.made.Files, "file", "files"), intake.Bytes(msg.made.Bytes))
}

// backUp backs the world of a server up.
func backUp(d *desk, server string) tea.Cmd {
	return d.begin("Backing the world up", func(ctx context.Context, b *busy) tea.Msg {
		made, err := d.app.Backup(ctx, server, "", b.copied)
		return backupMsg{made, err}
	})
}

// copyField puts what is to be pasted into the next field of a web form on the
// clipboard.
func (v *planView) copyField() tea.Cmd {
	name, text, ok := v.nextField()
	if !ok {
		return nil
	}
	v.say("Copied what goes into the field %q.", name)
	return tea.SetClipboard(text)
}

func (v *planView) help() []helpList {
	return []helpList{{"The plan: what would be written, and nothing is yet", []keyHelp{
		{"Enter", "write it; the ledger keeps what was there"},
		{"b", "back the world up first"},
		{"F", "copy what goes into the next field of a web form"},
		{"Esc", "leave it; what is staged stays so"},
	}}}
}

func (v *planView) draw(c *canvas, y, h int) {
	c.put(2, y, "Plan", inkTitle)
	c.putWithin(8, y, c.w-9, v.why, inkText)
	c.put(2, y+1, v.promise(), inkDim)
	y, h = y+3, h-3
	v.first = max(min(v.first, len(v.rows)-h), 0)
	for i := v.first; i < min(v.first+h, len(v.rows)); i++ {
		v.rows[i].draw(c, y+i-v.first)
	}
}

func (v *planView) promise() string {
	files, bytes := v.plan.Fetched()
	if files == 0 {
		return "Nothing is written yet. The ledger keeps the old bytes."
	}
	return fmt.Sprintf("Nothing is written yet. %s come, %s; the ledger keeps what they take the place of.", count(files, "file", "files"), intake.Bytes(bytes))
}

func (r planRow) draw(c *canvas, y int) {
	if r.file != "" {
		x := c.putWithin(2, y, c.w-3, r.file, inkTitle)
		c.putWithin(x+3, y, c.w-x-4, r.about, inkText)
		return
	}
	if r.word != "" {
		k := map[plan.RowKind]ink{plan.Comes: inkGood, plan.Goes: inkBad, plan.Stays: inkWarn}[r.row.Kind]
		c.put(6, y, r.word, k)
		c.putWithin(20, y, c.w-21, r.row.Text, inkText)
		return
	}
	line := func(number int, word string, k, textInk ink) {
		c.right(8, y, fmt.Sprint(number), inkDim)
		c.put(10, y, word, k)
		c.putWithin(20, y, c.w-21, r.row.Text, textInk)
	}
	switch r.row.Kind {
	case plan.Stays:
		line(r.row.NewLine, "", inkDim, inkDim)
	case plan.Goes:
		line(r.row.OldLine, "goes", inkBad, inkBad)
	case plan.Comes:
		line(r.row.NewLine, "comes", inkGood, inkGood)
	case plan.Gap:
		c.put(10, y, "…", inkFaint)
	}
}

// nextField is what to paste into a field of a web form; asked again, the next
// one.
func (v *planView) nextField() (name, text string, ok bool) {
	for range v.plan.Files {
		f := v.plan.Files[v.field%len(v.plan.Files)]
		v.field++
		if f.Form != "" {
			return f.Form, strings.TrimRight(string(f.Want), "\r\n"), true
		}
	}
	return "", "", false
}

func (v *planView) keys() []keyHelp {
	keys := []keyHelp{{"Enter", "write it"}, {"↑ ↓", "scroll"}, {"Esc", "leave it"}}
	for _, f := range v.plan.Files {
		if f.Form != "" {
			keys = append(keys, keyHelp{"F", "copy the field"})
			break
		}
	}
	if len(v.plan.Parts) > 0 {
		keys = append(keys, keyHelp{"b", "back the world up first"})
	}
	return keys
}
