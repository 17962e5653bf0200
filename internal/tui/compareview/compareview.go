// Package compareview is the screen that compares two starts.
package compareview

import (
	"cmp"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/core/proof"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
)

// view shows what differs between two starts.
type view struct {
	*frame.Desk
	server string
	c      *proof.Comparison
	lines  []compareLine
	first  int
}

// compareLine is one difference: what it is about, and then and now.
type compareLine struct {
	about, shape string
	ink          canvas.Ink
	text         string
}

type compareMsg struct {
	server string
	c      *proof.Comparison
	err    error
}

// Door leads from the board to here.
var Door = frame.Door{Key: "=", Foot: "compare", Help: "what is other than at the last proved start, or any other", Open: openCompare}

// openCompare compares the newest start with the last proved one.
func openCompare(s frame.Seat) tea.Cmd { return s.Place().Wish(compared(s.Place(), s.Server(), 0)) }

func (msg compareMsg) Open(d *frame.Desk) tea.Cmd {
	if msg.err != nil {
		d.Complain(msg.err)
		return nil
	}
	if v, ok := d.Screen.(*view); ok {
		v.set(msg.c)
		return nil
	}
	return d.Enter(newView(d.Model, msg.server, msg.c))
}

// compared compares the newest start with the last proved one, or with another by
// its number.
func compared(d *frame.Desk, server string, then int) func() tea.Msg {
	return func() tea.Msg {
		c, err := d.App.Compare(d.Ctx, server, then, 0)
		return compareMsg{server, c, err}
	}
}

func newView(m *frame.Model, server string, c *proof.Comparison) *view {
	v := &view{server: server}
	v.Desk = m.Desk(v)
	v.set(c)
	return v
}

func (v *view) set(c *proof.Comparison) {
	v.c, v.lines, v.first = c, nil, 0
	about := ""
	add := func(shape string, k canvas.Ink, format string, args ...any) {
		v.lines = append(v.lines, compareLine{about, shape, k, fmt.Sprintf(format, args...)})
		about = ""
	}
	about = "mods"
	for _, name := range c.Came {
		add("+", canvas.Good, "%s is new", name)
	}
	for _, name := range c.Gone {
		add("−", canvas.Warn, "%s is gone", name)
	}
	for _, d := range c.Releases {
		add("~", canvas.Focus, "%s: release %s, was %s", d.Mod, cmp.Or(d.Now, "none"), cmp.Or(d.Then, "none"))
	}
	for _, d := range c.Outcomes {
		k := canvas.Bad
		if d.Now == string(proof.Confirmed) {
			k = canvas.Good
		}
		add(marks.Outcome(proof.Outcome(d.Now)).Shape, k, "%s: %s, was %s", d.Mod, d.Now, d.Then)
	}
	about = "order"
	if len(c.Moved) > 0 {
		add("↕", canvas.Focus, "loaded at another place: %s", strings.Join(c.Moved, ", "))
	}
	about = "settings"
	for _, d := range c.Settings {
		add("~", canvas.Focus, "%s: %s, was %s", d.Mod, cmp.Or(d.Now, "not set"), cmp.Or(d.Then, "not set"))
	}
	about = "files"
	for _, f := range c.Files {
		shape, k := "~", canvas.Focus
		switch f.What {
		case "new":
			shape, k = "+", canvas.Good
		case "gone":
			shape, k = "−", canvas.Warn
		}
		add(shape, k, "%s: %s is %s", cmp.Or(f.Mod, "the server"), f.Path, f.What)
	}
	about = "times"
	for _, took := range c.Times {
		k := canvas.Good
		if took.Now > took.Then {
			k = canvas.Warn
		}
		add("~", k, "%s took %s to load, was %s", took.Mod, marks.Millis(took.Now), marks.Millis(took.Then))
	}
	if then, now := c.ReadyMS[0], c.ReadyMS[1]; then > 0 && now > 0 {
		add(" ", canvas.Dim, "ready after %.2f s, was %.2f s", float64(now)/1000, float64(then)/1000)
	}
	about = "log, new"
	for _, r := range c.New {
		add("▲", canvas.Warn, "line %d: %s%s", r.Line, r.Text, aboutWords(&r))
	}
	about = "log, gone"
	for _, r := range c.Old {
		add(" ", canvas.Dim, "%s", r.Text)
	}
}

// aboutWords say which mod a remark seems to be about.
func aboutWords(r *proof.Remark) string {
	if r.Mod == "" {
		return ""
	}
	return fmt.Sprintf("   (%s, by %s)", r.Mod, r.Sure)
}

func (v *view) Draw(c *canvas.Canvas, y, h int) {
	verdict := func(x, i int) int {
		k := canvas.Good
		if v.c.Verdicts[i] != proof.Proved {
			k = canvas.Bad
		}
		x = c.Put(x, y, fmt.Sprintf("start %d, ", v.c.Starts[i]), canvas.Title)
		return c.Put(x, y, string(v.c.Verdicts[i]), k)
	}
	x := verdict(2, 1)
	x = c.Put(x+2, y, "beside", canvas.Dim)
	verdict(x+2, 0)
	y, h = y+2, h-2
	if v.c.Same() {
		c.Put(2, y, "Nothing of note differs.", canvas.Text)
		y, h = y+2, h-2
	}
	v.first = max(min(v.first, len(v.lines)-h), 0)
	for i := v.first; i < min(v.first+h, len(v.lines)); i++ {
		line, row := &v.lines[i], y+i-v.first
		c.Put(2, row, line.about, canvas.Dim)
		c.Put(14, row, line.shape, line.ink)
		c.PutWithin(16, row, c.W-17, line.text, canvas.Text)
	}
	if more := len(v.lines) - v.first - h; more > 0 {
		c.Right(c.W, y+h-1, fmt.Sprintf(" ↓ %d more", more), canvas.Dim)
	}
}

func (v *view) Update(tea.Msg) tea.Cmd { return nil }

func (v *view) Key(k string) tea.Cmd {
	switch k {
	case "left", "right":
		if v.Stuck {
			return nil
		}
		then := v.c.Starts[0] + map[string]int{"left": -1, "right": 1}[k]
		if then < 1 || then >= v.c.Starts[1] {
			v.Say("There is no start further that way to compare with.")
			return nil
		}
		v.Notice = ""
		return v.Wish(compared(v.Desk, v.server, then))
	case "esc", "enter":
		return v.Desk.Back()
	}
	v.first = max(v.first+v.Moved(k, len(v.lines)), 0)
	return nil
}

func (v *view) Wheel(by int) { v.first = max(v.first+by, 0) }

func (v *view) Keys() []frame.Key {
	return []frame.Key{{"↑ ↓", "scroll"}, {"← →", "with an earlier or later start"}, {"Esc", "to the board"}}
}

func (v *view) Help() []frame.Help {
	return []frame.Help{{Title: "What is other than at another start", Keys: []frame.Key{{"← →", "compare with an earlier or a later start"}}}}
}
