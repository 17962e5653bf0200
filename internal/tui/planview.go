package tui

import (
	"fmt"
	"strings"

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
	file string // begins a file
	row  plan.Row
}

func newPlanView(why, dir string, p *plan.Plan) *planView {
	v := &planView{why: why, dir: dir, plan: p}
	for i, f := range p.Files {
		if i > 0 {
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

func (v *planView) draw(c *canvas, y, h int) {
	c.put(2, y, "Plan", inkTitle)
	c.putWithin(8, y, c.w-9, v.why, inkText)
	c.put(2, y+1, "Nothing is written yet. The ledger keeps the old bytes.", inkDim)
	y, h = y+3, h-3
	v.first = max(min(v.first, len(v.rows)-h), 0)
	for i := v.first; i < min(v.first+h, len(v.rows)); i++ {
		v.drawRow(c, y+i-v.first, v.rows[i])
	}
}

func (v *planView) drawRow(c *canvas, y int, r planRow) {
	if r.file != "" {
		c.putWithin(2, y, c.w-3, r.file, inkTitle)
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
	return append(keys, keyHelp{"?", "help"})
}
