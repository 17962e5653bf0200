package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"

	"initium/internal/core/proof"
	"initium/internal/host"
)

// ledgerView lists what was done to a server and how the starts after it went,
// newest first.
type ledgerView struct {
	*desk
	server   string
	dir      string       // the server's
	entries  []host.Entry // newest first
	selected int
	scroll   int
	did      map[int][]planRow // what entries did, by their numbers, as far as it was asked for
	unknown  map[int]string    // why that of others cannot be told
}

// didMsg is what an entry did.
type didMsg struct {
	number int
	rows   []planRow
	err    error
}

type ledgerMsg struct {
	server, dir string
	entries     []host.Entry
	err         error
}

// openLedger opens the ledger of a server.
func openLedger(s seat) tea.Cmd {
	server, dir, d := s.server(), s.seen().Server.Record.Dir, s.place()
	return d.wish(func() tea.Msg {
		entries, err := d.app.Ledger(server)
		return ledgerMsg{server, dir, entries, err}
	})
}

func (msg ledgerMsg) open(d *desk) tea.Cmd {
	if msg.err != nil {
		d.complain(msg.err)
		return nil
	}
	return d.enter(newLedgerView(d.model, msg.server, msg.dir, msg.entries))
}

func newLedgerView(m *model, server, dir string, entries []host.Entry) *ledgerView {
	l := &ledgerView{server: server, dir: dir, did: map[int][]planRow{}, unknown: map[int]string{}}
	l.desk = m.desk(l)
	l.set(entries)
	return l
}

func (l *ledgerView) update(msg tea.Msg) tea.Cmd {
	if msg, ok := msg.(didMsg); ok {
		l.did[msg.number] = msg.rows
		if msg.err != nil {
			l.unknown[msg.number] = clean(msg.err.Error())
		}
	}
	return nil
}

// shown asks what the selected entry did.
func (l *ledgerView) shown() tea.Cmd {
	if l.selected >= len(l.entries) {
		return nil
	}
	number := l.entries[l.selected].Number
	if _, known := l.did[number]; known || number == 0 {
		return nil
	}
	return l.ask(func() tea.Msg {
		p, err := l.app.EntryPlan(l.server, number)
		if err != nil {
			return didMsg{number: number, err: err}
		}
		return didMsg{number: number, rows: planRows(l.dir, p, 1)}
	})
}

func (l *ledgerView) again() tea.Cmd { return nil }

func (l *ledgerView) key(k string) tea.Cmd {
	if by := l.moved(k, len(l.entries)); by != 0 {
		l.step(by)
		return l.shown()
	}
	if k == "esc" {
		return l.desk.back()
	}
	if l.stuck || l.selected >= len(l.entries) {
		return nil
	}
	switch k {
	case "enter":
		return l.wish(returned(l.desk, l.server, l.entries[l.selected].Number))
	case "u":
		return l.wish(returned(l.desk, l.server, app.ReturnLast))
	case "v":
		return l.wish(returned(l.desk, l.server, app.ReturnProved))
	}
	return nil
}

func (l *ledgerView) wheel(by int) { l.step(by) }

func (l *ledgerView) help() []helpList {
	return []helpList{{"The ledger: what was done, and how to go back", []keyHelp{
		{"Enter", "plan the return to how things stood after this entry"},
		{"u", "plan to take the newest entry back"},
		{"v", "plan the return to the last proved state"},
	}}}
}

func (l *ledgerView) draw(c *canvas, y, _ int) {
	l.drawEntries(c, y, l.boardHeight())
	c.rule(y + l.boardHeight())
	l.drawStory(c, y+l.boardHeight()+1, l.storyHeight())
}

func (l *ledgerView) set(entries []host.Entry) {
	l.entries = nil
	for i := len(entries) - 1; i >= 0; i-- {
		l.entries = append(l.entries, entries[i])
	}
	l.selected = max(min(l.selected, len(l.entries)-1), 0)
}

func (l *ledgerView) step(by int) { l.selected = max(min(l.selected+by, len(l.entries)-1), 0) }

// lines is how many lines an entry takes.
func (l *ledgerView) lines(i int) int { return 1 + len(l.entries[i].Starts) }

func (l *ledgerView) drawEntries(c *canvas, y, h int) {
	c.put(2, y, "entry", inkDim)
	c.put(10, y, "when", inkDim)
	c.put(26, y, "what was done, and how the starts after it went", inkDim)
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
			c.lift(y, 0, c.w)
			c.put(0, y, "▌", inkFocus)
		}
		c.right(6, y, fmt.Sprint(e.Number), inkText)
		if e.Number > 0 {
			c.put(10, y, clock(e.At), inkDim)
		}
		c.putWithin(26, y, c.w-27, clean(e.Why), inkText)
		y++
		for _, s := range e.Starts {
			if y >= end {
				break
			}
			shape, k := "✕", inkBad
			if s.Verdict == proof.Proved {
				shape, k = "◆", inkGood
			}
			c.put(10, y, clock(s.At), inkDim)
			c.put(28, y, fmt.Sprintf("%s start %d: %s", shape, s.Number, s.Verdict), k)
			y++
		}
	}
}

// drawStory tells what the selected entry changed, line by line as far as there is room.
func (l *ledgerView) drawStory(c *canvas, y, h int) {
	if l.selected >= len(l.entries) {
		return
	}
	e := l.entries[l.selected]
	if e.Number == 0 {
		c.put(2, y, "Entry 0, as Initium found the server", inkTitle)
		return
	}
	x := c.put(2, y, fmt.Sprintf("Entry %d", e.Number), inkTitle)
	rows, known := l.did[e.Number]
	switch why := l.unknown[e.Number]; {
	case why != "":
		c.putWithin(2, y+1, c.w-3, "What it did cannot be told: "+why, inkBad)
		return
	case known && len(rows) == 0:
		c.put(x+3, y, "changed no file", inkDim)
	case !known:
		files := make([]string, len(e.Files))
		for i, f := range e.Files {
			files[i] = clean(strings.TrimPrefix(f, l.dir+"/"))
		}
		c.putWithin(x+3, y, c.w-x-4, strings.Join(files, ", "), inkDim)
	}
	room := h - 1
	if more := len(rows) - room; more > 0 {
		room--
		c.put(6, y+h-1, fmt.Sprintf("… and %s; initium ledger %s %d", count(more+1, "line more", "lines more"), l.server, e.Number), inkDim)
	}
	for i, r := range rows[:min(len(rows), max(room, 0))] {
		r.draw(c, y+1+i)
	}
}

func (l *ledgerView) keys() []keyHelp {
	return []keyHelp{{"↑ ↓", "choose"}, {"Enter", "return to it"}, {"u", "take the newest back"}, {"v", "to the last proved state"}, {"Esc", "to the board"}}
}
