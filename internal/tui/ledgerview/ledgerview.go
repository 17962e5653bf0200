// Package ledgerview is the screen of what was done to a server, and of the ways back.
package ledgerview

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/host"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
	"initium/internal/tui/planview"
)

// view lists what was done to a server and how the starts after it went,
// newest first.
type view struct {
	*frame.Desk
	server   string
	dir      string       // the server's
	entries  []host.Entry // newest first
	selected int
	scroll   int
	did      map[int][]planview.Row // what entries did, by their numbers, as far as it was asked for
	unknown  map[int]string         // why that of others cannot be told
}

// didMsg is what an entry did.
type didMsg struct {
	number int
	rows   []planview.Row
	err    error
}

type ledgerMsg struct {
	server, dir string
	entries     []host.Entry
	err         error
}

// Door leads from the board to here.
var Door = frame.Door{Key: "g", Foot: "ledger", Help: "the ledger: what was done; return to any point", Open: openLedger}

// openLedger opens the ledger of a server.
func openLedger(s frame.Seat) tea.Cmd {
	server, dir, d := s.Server(), s.Seen().Server.Record.Dir, s.Place()
	return d.Wish(func() tea.Msg {
		entries, err := d.App.Ledger(server)
		return ledgerMsg{server, dir, entries, err}
	})
}

func (msg ledgerMsg) Open(d *frame.Desk) tea.Cmd {
	if msg.err != nil {
		d.Complain(msg.err)
		return nil
	}
	return d.Enter(newView(d.Model, msg.server, msg.dir, msg.entries))
}

func newView(m *frame.Model, server, dir string, entries []host.Entry) *view {
	l := &view{server: server, dir: dir, did: map[int][]planview.Row{}, unknown: map[int]string{}}
	l.Desk = m.Desk(l)
	l.set(entries)
	return l
}

func (l *view) Update(msg tea.Msg) tea.Cmd {
	if msg, ok := msg.(didMsg); ok {
		l.did[msg.number] = msg.rows
		if msg.err != nil {
			l.unknown[msg.number] = canvas.Clean(msg.err.Error())
		}
	}
	return nil
}

// Shown asks what the selected entry did.
func (l *view) Shown() tea.Cmd {
	if l.selected >= len(l.entries) {
		return nil
	}
	number := l.entries[l.selected].Number
	if _, known := l.did[number]; known || number == 0 {
		return nil
	}
	return l.Ask(func() tea.Msg {
		p, err := l.App.EntryPlan(l.server, number)
		if err != nil {
			return didMsg{number: number, err: err}
		}
		return didMsg{number: number, rows: planview.Rows(l.dir, p, 1)}
	})
}

func (l *view) Again() tea.Cmd { return nil }

func (l *view) Key(k string) tea.Cmd {
	if by := l.Moved(k, len(l.entries)); by != 0 {
		l.step(by)
		return l.Shown()
	}
	if k == "esc" {
		return l.Desk.Back()
	}
	if l.Stuck || l.selected >= len(l.entries) {
		return nil
	}
	switch k {
	case "enter":
		return l.Wish(planview.Returned(l.Desk, l.server, l.entries[l.selected].Number))
	case "u":
		return l.Wish(planview.Returned(l.Desk, l.server, app.ReturnLast))
	case "v":
		return l.Wish(planview.Returned(l.Desk, l.server, app.ReturnProved))
	}
	return nil
}

func (l *view) Wheel(by int) { l.step(by) }

func (l *view) Help() []frame.Help {
	return []frame.Help{{Title: "The ledger: what was done, and how to go back", Keys: []frame.Key{
		{"Enter", "plan the return to how things stood after this entry"},
		{"u", "plan to take the newest entry back"},
		{"v", "plan the return to the last proved state"},
	}}}
}

func (l *view) Draw(c *canvas.Canvas, y, _ int) {
	l.drawEntries(c, y, l.BoardHeight())
	c.Rule(y + l.BoardHeight())
	l.drawStory(c, y+l.BoardHeight()+1, l.StoryHeight())
}

func (l *view) set(entries []host.Entry) {
	l.entries = nil
	for i := len(entries) - 1; i >= 0; i-- {
		l.entries = append(l.entries, entries[i])
	}
	l.selected = max(min(l.selected, len(l.entries)-1), 0)
}

func (l *view) step(by int) { l.selected = max(min(l.selected+by, len(l.entries)-1), 0) }

// lines is how many lines an entry takes.
func (l *view) lines(i int) int { return 1 + len(l.entries[i].Starts) }

func (l *view) drawEntries(c *canvas.Canvas, y, h int) {
	c.Put(2, y, "entry", canvas.Dim)
	c.Put(10, y, "when", canvas.Dim)
	c.Put(26, y, "what was done, and how the starts after it went", canvas.Dim)
	y, h = y+1, h-1
	l.scroll = min(l.scroll, l.selected)
	for used := 0; ; used = 0 {
		for i := l.scroll; i <= l.selected; i++ {
			used += l.lines(i)
		}
		if used <= h || l.scroll == l.selected {
			break
		}
		l.scroll++
	}
	end := y + h
	for i := l.scroll; i < len(l.entries) && y < end; i++ {
		e := l.entries[i]
		if i == l.selected {
			c.Lift(y, 0, c.W)
			c.Put(0, y, "▌", canvas.Focus)
		}
		c.Right(6, y, fmt.Sprint(e.Number), canvas.Text)
		if e.Number > 0 {
			c.Put(10, y, marks.Clock(e.At), canvas.Dim)
		}
		c.PutWithin(26, y, c.W-27, canvas.Clean(e.Why), canvas.Text)
		y++
		for _, s := range e.Starts {
			if y >= end {
				break
			}
			shape, k := "✕", canvas.Bad
			if s.Verdict == proof.Proved {
				shape, k = "◆", canvas.Good
			}
			c.Put(10, y, marks.Clock(s.At), canvas.Dim)
			c.Put(28, y, fmt.Sprintf("%s start %d: %s", shape, s.Number, s.Verdict), k)
			y++
		}
	}
}

// drawStory tells what the selected entry changed, line by line as far as there is room.
func (l *view) drawStory(c *canvas.Canvas, y, h int) {
	if l.selected >= len(l.entries) {
		return
	}
	e := l.entries[l.selected]
	if e.Number == 0 {
		c.Put(2, y, "Entry 0, as Initium found the server", canvas.Title)
		return
	}
	x := c.Put(2, y, fmt.Sprintf("Entry %d", e.Number), canvas.Title)
	rows, known := l.did[e.Number]
	switch why := l.unknown[e.Number]; {
	case why != "":
		c.PutWithin(2, y+1, c.W-3, "What it did cannot be told: "+why, canvas.Bad)
		return
	case known && len(rows) == 0:
		c.Put(x+3, y, "changed no file", canvas.Dim)
	case !known:
		files := make([]string, len(e.Files))
		for i, f := range e.Files {
			files[i] = canvas.Clean(strings.TrimPrefix(f, l.dir+"/"))
		}
		c.PutWithin(x+3, y, c.W-x-4, strings.Join(files, ", "), canvas.Dim)
	}
	room := h - 1
	if more := len(rows) - room; more > 0 {
		room--
		c.Put(6, y+h-1, fmt.Sprintf("… and %s; initium ledger %s %d", marks.Count(more+1, "line more", "lines more"), l.server, e.Number), canvas.Dim)
	}
	for i, r := range rows[:min(len(rows), max(room, 0))] {
		r.Draw(c, y+1+i)
	}
}

func (l *view) Keys() []frame.Key {
	return []frame.Key{{"↑ ↓", "choose"}, {"Enter", "return to it"}, {"u", "take the newest back"}, {"v", "to the last proved state"}, {"Esc", "to the board"}}
}
