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
}

type ledgerMsg struct {
	entries []host.Entry
	err     error
}

func newLedgerView(b *board, entries []host.Entry) *ledgerView {
	l := &ledgerView{server: b.name, dir: b.look.Server.Record.Dir}
	l.desk = b.model.desk(l)
	l.set(entries)
	return l
}

func (l *ledgerView) update(msg tea.Msg) tea.Cmd {
	if msg, ok := msg.(planMsg); ok {
		return l.openPlan(msg)
	}
	return nil
}

func (l *ledgerView) key(k string) tea.Cmd {
	if by := l.moved(k, len(l.entries)); by != 0 {
		l.step(by)
		return nil
	}
	if k == "esc" {
		return l.desk.back()
	}
	if l.stuck || l.selected >= len(l.entries) {
		return nil
	}
	switch k {
	case "enter":
		return l.wish(l.returned(l.server, l.entries[l.selected].Number))
	case "u":
		return l.wish(l.returned(l.server, app.ReturnLast))
	case "v":
		return l.wish(l.returned(l.server, app.ReturnProved))
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
	l.drawStory(c, y+l.boardHeight()+1, l.storyHeight(), l.dir)
}

func (l *ledgerView) set(entries []host.Entry) {
	l.entries = nil
	for i := len(entries) - 1; i >= 0; i-- {
		l.entries = append(l.entries, entries[i])
	}
	l.selected = min(l.selected, len(l.entries)-1)
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

// drawStory tells which files the selected entry changed.
func (l *ledgerView) drawStory(c *canvas, y, h int, dir string) {
	if l.selected >= len(l.entries) {
		return
	}
	e := l.entries[l.selected]
	title := fmt.Sprintf("Entry %d", e.Number)
	if e.Number == 0 {
		title = "Entry 0, as Initium found the server"
	}
	c.put(2, y, title, inkTitle)
	for i, change := range e.Changes {
		if i+1 < h-1 {
			c.putWithin(4, y+1+i, c.w-5, change.String(), inkText)
		}
	}
	files := make([]string, len(e.Files))
	for i, f := range e.Files {
		files[i] = clean(strings.TrimPrefix(f, dir+"/"))
	}
	if len(files) > 0 {
		c.putWithin(2, y+min(len(e.Changes), max(h-2, 0))+1, c.w-3, "changed "+strings.Join(files, ", "), inkDim)
	}
}

func (l *ledgerView) keys() []keyHelp {
	return []keyHelp{{"↑ ↓", "choose"}, {"Enter", "return to it"}, {"u", "take the newest back"}, {"v", "to the last proved state"}, {"Esc", "to the board"}}
}
