package tui

import (
	"cmp"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/core/proof"
)

// compareView shows what differs between two starts.
type compareView struct {
	*desk
	server string
	c      *proof.Comparison
	lines  []compareLine
	first  int
}

// compareLine is one difference: what it is about, and then and now.
type compareLine struct {
	about, shape string
	ink          ink
	text         string
}

type compareMsg struct {
	server string
	c      *proof.Comparison
	err    error
}

// openCompare compares the newest start with the last proved one.
func openCompare(s seat) tea.Cmd { return s.place().wish(compared(s.place(), s.server(), 0)) }

func (msg compareMsg) open(d *desk) tea.Cmd {
	if msg.err != nil {
		d.complain(msg.err)
		return nil
	}
	if v, ok := d.screen.(*compareView); ok {
		v.set(msg.c)
		return nil
	}
	return d.enter(newCompareView(d.model, msg.server, msg.c))
}

// compared compares the newest start with the last proved one, or with another by
// its number.
func compared(d *desk, server string, then int) func() tea.Msg {
	return func() tea.Msg {
		c, err := d.app.Compare(d.ctx, server, then, 0)
		return compareMsg{server, c, err}
	}
}

func newCompareView(m *model, server string, c *proof.Comparison) *compareView {
	v := &compareView{server: server}
	v.desk = m.desk(v)
	v.set(c)
	return v
}

func (v *compareView) set(c *proof.Comparison) {
	v.c, v.lines, v.first = c, nil, 0
	about := ""
	add := func(shape string, k ink, format string, args ...any) {
		v.lines = append(v.lines, compareLine{about, shape, k, fmt.Sprintf(format, args...)})
		about = ""
	}
	about = "mods"
	for _, name := range c.Came {
		add("+", inkGood, "%s is new", name)
	}
	for _, name := range c.Gone {
		add("−", inkWarn, "%s is gone", name)
	}
	for _, d := range c.Releases {
		add("~", inkFocus, "%s: release %s, was %s", d.Mod, cmp.Or(d.Now, "none"), cmp.Or(d.Then, "none"))
	}
	for _, d := range c.Outcomes {
		k := inkBad
		if d.Now == string(proof.Confirmed) {
			k = inkGood
		}
		add(outcomeMark(proof.Outcome(d.Now)).shape, k, "%s: %s, was %s", d.Mod, d.Now, d.Then)
	}
	about = "order"
	if len(c.Moved) > 0 {
		add("↕", inkFocus, "loaded at another place: %s", strings.Join(c.Moved, ", "))
	}
	about = "settings"
	for _, d := range c.Settings {
		add("~", inkFocus, "%s: %s, was %s", d.Mod, cmp.Or(d.Now, "not set"), cmp.Or(d.Then, "not set"))
	}
	about = "files"
	for _, f := range c.Files {
		shape, k := "~", inkFocus
		switch f.What {
		case "new":
			shape, k = "+", inkGood
		case "gone":
			shape, k = "−", inkWarn
		}
		add(shape, k, "%s: %s is %s", f.Mod, f.Path, f.What)
	}
	about = "times"
	for _, took := range c.Times {
		k := inkGood
		if took.Now > took.Then {
			k = inkWarn
		}
		add("~", k, "%s took %s to load, was %s", took.Mod, load(took.Now), load(took.Then))
	}
	if then, now := c.ReadyMS[0], c.ReadyMS[1]; then > 0 && now > 0 {
		add(" ", inkDim, "ready after %.2f s, was %.2f s", float64(now)/1000, float64(then)/1000)
	}
	about = "log, new"
	for _, r := range c.New {
		add("▲", inkWarn, "line %d: %s%s", r.Line, r.Text, aboutWords(&r))
	}
	about = "log, gone"
	for _, r := range c.Old {
		add(" ", inkDim, "%s", r.Text)
	}
}

// aboutWords say which mod a remark seems to be about.
func aboutWords(r *proof.Remark) string {
	if r.Mod == "" {
		return ""
	}
	return fmt.Sprintf("   (%s, by %s)", r.Mod, r.Sure)
}

func (v *compareView) draw(c *canvas, y, h int) {
	verdict := func(x, i int) int {
		k := inkGood
		if v.c.Verdicts[i] != proof.Proved {
			k = inkBad
		}
		x = c.put(x, y, fmt.Sprintf("start %d, ", v.c.Starts[i]), inkTitle)
		return c.put(x, y, string(v.c.Verdicts[i]), k)
	}
	x := verdict(2, 1)
	x = c.put(x+2, y, "beside", inkDim)
	verdict(x+2, 0)
	y, h = y+2, h-2
	if v.c.Same() {
		c.put(2, y, "Nothing of note differs.", inkText)
		y, h = y+2, h-2
	}
	v.first = max(min(v.first, len(v.lines)-h), 0)
	for i := v.first; i < min(v.first+h, len(v.lines)); i++ {
		line, row := &v.lines[i], y+i-v.first
		c.put(2, row, line.about, inkDim)
		c.put(14, row, line.shape, line.ink)
		c.putWithin(16, row, c.w-17, line.text, inkText)
	}
	if more := len(v.lines) - v.first - h; more > 0 {
		c.right(c.w, y+h-1, fmt.Sprintf(" ↓ %d more", more), inkDim)
	}
}

func (v *compareView) update(tea.Msg) tea.Cmd { return nil }

func (v *compareView) key(k string) tea.Cmd {
	switch k {
	case "left", "right":
		if v.stuck {
			return nil
		}
		then := v.c.Starts[0] + map[string]int{"left": -1, "right": 1}[k]
		if then < 1 || then >= v.c.Starts[1] {
			v.say("There is no start further that way to compare with.")
			return nil
		}
		v.notice = ""
		return v.wish(compared(v.desk, v.server, then))
	case "esc", "enter":
		return v.desk.back()
	}
	v.first = max(v.first+v.moved(k, len(v.lines)), 0)
	return nil
}

func (v *compareView) wheel(by int) { v.first = max(v.first+by, 0) }

func (v *compareView) keys() []keyHelp {
	return []keyHelp{{"↑ ↓", "scroll"}, {"← →", "with an earlier or later start"}, {"Esc", "to the board"}}
}

func (v *compareView) help() []helpList {
	return []helpList{{"What is other than at another start", []keyHelp{{"← →", "compare with an earlier or a later start"}}}}
}
