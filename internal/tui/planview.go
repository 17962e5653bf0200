package tui

import (
	"fmt"
	"strings"

	"initium/internal/core/intake"
	"initium/internal/core/plan"
)

// planView shows the exact lines that will change, before anything is written.
type planView struct {
	why   string
	dir   string
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

func newPlanView(why, dir string, p *plan.Plan) *planView {
	v := &planView{why: why, dir: dir, plan: p}
	for i := range p.Parts {
		v.part(&p.Parts[i])
	}
	for i, f := range p.Files {
		if i > 0 || len(v.rows) > 0 {
			v.rows = append(v.rows, planRow{})
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
		v.rows = append(v.rows, planRow{file: clean(name)})
		for _, r := range f.Rows(3) {
			v.rows = append(v.rows, planRow{row: r})
		}
	}
	return v
}

// part tells what becomes of a folder or file as a whole.
func (v *planView) part(p *plan.Part) {
	v.rows = append(v.rows, planRow{file: clean(strings.TrimPrefix(p.Path, v.dir+"/")), about: p.Title() + ", " + p.String()})
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
		v.rows = append(v.rows, row)
	}
}

func (v *planView) draw(c *canvas, y, h int) {
	c.put(2, y, "Plan", inkTitle)
	c.putWithin(8, y, c.w-9, v.why, inkText)
	c.put(2, y+1, v.promise(), inkDim)
	y, h = y+3, h-3
	v.first = max(min(v.first, len(v.rows)-h), 0)
	for i := v.first; i < min(v.first+h, len(v.rows)); i++ {
		v.drawRow(c, y+i-v.first, v.rows[i])
	}
}

func (v *planView) promise() string {
	files, bytes := v.plan.Fetched()
	if files == 0 {
		return "Nothing is written yet. The ledger keeps the old bytes."
	}
	return fmt.Sprintf("Nothing is written yet. %s come, %s; the ledger keeps what they take the place of.", count(files, "file", "files"), intake.Bytes(bytes))
}

func (v *planView) drawRow(c *canvas, y int, r planRow) {
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
			keys = append(keys, keyHelp{"c", "copy the field"})
			break
		}
	}
	if len(v.plan.Parts) > 0 {
		keys = append(keys, keyHelp{"b", "back the world up first"})
	}
	return append(keys, keyHelp{"?", "help"})
}
