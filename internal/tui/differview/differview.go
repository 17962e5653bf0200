// Package differview is the screen of two servers side by side.
package differview

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/differ"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
)

// view shows what two servers have otherwise.
type view struct {
	*frame.Desk
	server string
	others []string // of the same family
	at     int      // of others
	list   []differ.Difference
	chosen int
	first  int
}

type differMsg struct {
	server string
	others []string
	at     int
	list   []differ.Difference
	err    error
}

// Door leads from the board to here.
var Door = frame.Door{Key: "B", Foot: "beside another", Help: "what another server of the family has otherwise", Open: openDiffer}

func openDiffer(s frame.Seat) tea.Cmd { return s.Place().Wish(differs(s.Place(), s.Server(), 0)) }

func (msg differMsg) Open(d *frame.Desk) tea.Cmd {
	switch {
	case msg.err != nil:
		d.Complain(msg.err)
		return nil
	case len(msg.others) == 0:
		d.Say("There is no other server of this family.")
		return nil
	}
	if v, ok := d.Screen.(*view); ok {
		v.set(msg)
		return nil
	}
	v := &view{server: msg.server}
	v.Desk = d.Model.Desk(v)
	v.set(msg)
	return d.Enter(v)
}

// differs compares a server with another of its family.
func differs(d *frame.Desk, server string, at int) func() tea.Msg {
	return func() tea.Msg {
		msg := differMsg{server: server}
		if msg.others, msg.err = d.App.Beside(server); msg.err != nil || len(msg.others) == 0 {
			return msg
		}
		msg.at = (at + len(msg.others)) % len(msg.others)
		msg.list, msg.err = d.App.Differ(server, msg.others[msg.at])
		return msg
	}
}

func (v *view) set(msg differMsg) {
	v.others, v.at, v.list = msg.others, msg.at, msg.list
	v.chosen = max(min(v.chosen, len(v.list)-1), 0)
}

func (v *view) other() string { return v.others[v.at] }

func (v *view) Draw(c *canvas.Canvas, y, h int) {
	x := c.Put(2, y, canvas.Clean(v.server), canvas.Title)
	x = c.Put(x+2, y, "beside", canvas.Dim)
	x = c.Put(x+2, y, canvas.Clean(v.other()), canvas.Title)
	own := 0
	for _, d := range v.list {
		if d.Own {
			own++
		}
	}
	c.PutWithin(x+3, y, c.W-x-4, fmt.Sprintf("%s, and %d of each one's own", marks.Count(len(v.list)-own, "difference", "differences"), own), canvas.Dim)
	y, h = y+2, h-2
	if len(v.list) == own {
		c.Put(2, y, "Nothing is otherwise but what is each one's own.", canvas.Text)
		y, h = y+2, h-2
	}
	if len(v.list) == 0 {
		return
	}
	story := min(5, h/3)
	kind, name := 13, min(28, c.W/4)
	wide := max((c.W-kind-name-5)/2, 6)
	one, two := 2+kind+name, 2+kind+name+wide+1
	c.PutWithin(one, y, wide, canvas.Clean(v.server), canvas.Dim)
	c.PutWithin(two, y, c.W-two-1, canvas.Clean(v.other()), canvas.Dim)
	y, h = y+1, max(h-1-story, 1)
	v.first = max(min(v.first, v.chosen), v.chosen-h+1, 0)
	for i := v.first; i < min(v.first+h, len(v.list)); i++ {
		d, row, ink := &v.list[i], y+i-v.first, canvas.Text
		if d.Own {
			ink = canvas.Dim
		}
		if i == v.chosen {
			c.Lift(row, 0, c.W)
			c.Put(0, row, "▌", canvas.Focus)
		}
		c.PutWithin(2, row, kind-1, string(d.Kind), canvas.Dim)
		c.PutWithin(2+kind, row, name-1, d.Name, ink)
		c.PutWithin(one, row, wide, words(d.A), ink)
		c.PutWithin(two, row, c.W-two-1, words(d.B), ink)
	}
	if more := len(v.list) - v.first - h; more > 0 {
		c.Right(c.W, y+h-1, fmt.Sprintf(" ↓ %d more", more), canvas.Dim)
	}
	if story > 2 {
		v.drawStory(c, y+h, story)
	}
}

// drawStory tells all of the chosen row.
func (v *view) drawStory(c *canvas.Canvas, y, h int) {
	d := v.list[v.chosen]
	c.Rule(y)
	x := c.PutWithin(2, y+1, c.W-3, d.Name, canvas.Title)
	where := d.Where
	if d.Own {
		where += "   each one's own"
	}
	c.PutWithin(x+3, y+1, c.W-x-4, where, canvas.Dim)
	wide := min(max(len(v.server), len(v.other())), 24)
	for i, side := range []struct{ server, said string }{{v.server, d.A}, {v.other(), d.B}} {
		if i+2 < h {
			c.PutWithin(2, y+2+i, wide, canvas.Clean(side.server), canvas.Dim)
			c.PutWithin(4+wide, y+2+i, c.W-wide-5, words(side.said), canvas.Text)
		}
	}
}

func words(s string) string {
	if s == "" {
		return "·"
	}
	return s
}

func (v *view) Update(msg tea.Msg) tea.Cmd {
	if msg, ok := msg.(ownMsg); ok {
		if msg.err != nil {
			v.Complain(msg.err)
			return nil
		}
		v.Say("%s is each one's own from now on, and not carried; V says otherwise.", msg.name)
		if !msg.own {
			v.Say("%s is no longer each one's own.", msg.name)
		}
		return v.Ask(differs(v.Desk, v.server, v.at))
	}
	if msg, ok := msg.(carriedMsg); ok {
		if msg.err != nil {
			v.Complain(msg.err)
			return nil
		}
		if msg.kind == differ.KindRule || msg.kind == differ.KindExpectation {
			v.Say("Written down on %s: %s.", msg.to, msg.said)
			return v.Ask(differs(v.Desk, v.server, v.at))
		}
		v.Say("Staged on %s: %s. Its plan shows the lines.", msg.to, msg.said)
	}
	return nil
}

type carriedMsg struct {
	to, said string
	kind     differ.Kind
	err      error
}

// carry stages on one server what the other has in the chosen row.
func (v *view) carry(from, to string) tea.Cmd {
	if len(v.list) == 0 {
		return nil
	}
	d := v.list[v.chosen]
	if d.Own {
		v.Say("Each server has its own of that; it is not carried.")
		return nil
	}
	if from != v.server {
		d.A, d.B = d.B, d.A
	}
	return v.Wish(func() tea.Msg {
		done, err := v.App.CarryOne(v.Ctx, from, to, d)
		return carriedMsg{to, canvas.Clean(strings.Join(done, ", ")), d.Kind, err}
	})
}

type ownMsg struct {
	name string
	own  bool
	err  error
}

// setOwn says that the chosen setting is each server's own, or is not.
func (v *view) setOwn() tea.Cmd {
	if len(v.list) == 0 || v.list[v.chosen].Kind != differ.KindSetting {
		v.Say("Only a setting is said to be each one's own.")
		return nil
	}
	d := v.list[v.chosen]
	return v.Wish(func() tea.Msg {
		var err error
		for _, server := range []string{v.server, v.other()} { // of which one may not have it
			if failed := v.App.SetOwn(server, d.Name, !d.Own); failed == nil {
				return ownMsg{d.Name, !d.Own, nil}
			} else if !app.IsSoAlready(failed) {
				err = failed
			}
		}
		return ownMsg{d.Name, !d.Own, err}
	})
}

func (v *view) Key(k string) tea.Cmd {
	switch {
	case k == "esc":
		return v.Desk.Back()
	case v.Stuck && slices.Contains([]string{"left", "right", ">", "<"}, k):
		return nil
	case k == "left" || k == "right":
		if len(v.others) == 1 {
			v.Say("There is no further server of this family.")
			return nil
		}
		v.Notice = ""
		return v.Wish(differs(v.Desk, v.server, v.at+map[string]int{"left": -1, "right": 1}[k]))
	case k == "V" && !v.Stuck:
		return v.setOwn()
	case k == ">":
		return v.carry(v.server, v.other())
	case k == "<":
		return v.carry(v.other(), v.server)
	}
	v.chosen = max(min(v.chosen+v.Moved(k, len(v.list)), len(v.list)-1), 0)
	return nil
}

func (v *view) Wheel(by int) { v.chosen = max(min(v.chosen+by, len(v.list)-1), 0) }

func (v *view) Keys() []frame.Key {
	return []frame.Key{{"↑ ↓", "choose"}, {">", "give it to " + v.other()}, {"<", "take it over"}, {"← →", "beside another server"}, {"V", "each one's own, or not"}, {"Esc", "to the board"}}
}

func (v *view) Help() []frame.Help {
	return []frame.Help{{Title: "Two servers side by side", Keys: []frame.Key{
		{">", "stage on the other server what this one has"},
		{"<", "stage on this server what the other has"},
		{"← →", "beside another server of the family"},
		{"V", "say that a setting is each one's own, or is not: what is own is never carried"},
	}}}
}
