package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"initium/internal/core/check"
	"initium/internal/core/proof"
)

// headHeight is how many lines the head of every view takes; the foot takes
// one for a notice and one for the keys.
const (
	headHeight = 2
	footHeight = 2
)

func (m *model) bodyHeight() int { return max(m.h-headHeight-footHeight, 1) }

// storyHeight is the part of the board that tells about the selected row.
func (m *model) storyHeight() int {
	switch {
	case m.h >= 40:
		return 11
	case m.h >= 30:
		return 8
	}
	return 6
}

// boardHeight is what is left for the rows, with their heading.
func (m *model) boardHeight() int { return max(m.bodyHeight()-m.storyHeight()-1, 2) }

// View draws the screen.
func (m *model) View() tea.View {
	c := newCanvas(m.w, m.h)
	m.drawHead(c)
	if m.help > 0 {
		m.drawHelp(c, headHeight, m.bodyHeight())
	} else {
		m.top().draw(c, headHeight, m.bodyHeight())
	}
	if m.prompt != nil {
		m.prompt.drawList(c)
	}
	m.drawFoot(c)
	v := tea.NewView(c.render(m.palette))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "Initium"
	if b := m.boardOf(""); b != nil {
		v.WindowTitle += " · " + b.name
	}
	return v
}

func (m *model) drawHead(c *canvas) {
	if t, ok := m.top().(titled); ok {
		t.title(c)
		return
	}
	b := m.boardOf("")
	if b == nil {
		return
	}
	x := c.put(2, 0, b.name, inkTitle)
	if b.look == nil {
		return
	}
	x = c.put(x+3, 0, clean(b.look.Server.Dialect.Title), inkText)
	if port := b.look.Server.Vars["port"]; port != "" {
		x = c.put(x+3, 0, "port "+clean(port), inkDim)
	}
	for _, what := range []struct {
		severity  check.Severity
		one, many string
	}{{check.Error, "error", "errors"}, {check.Warning, "warning", "warnings"}} {
		if n := check.Count(b.look.Findings, what.severity); n > 0 {
			mark := severityMark(what.severity)
			x = c.put(x+3, 0, mark.shape+" "+count(n, what.one, what.many), mark.ink)
		}
	}
	if n := len(b.look.Staged); n > 0 {
		x = c.put(x+3, 0, "▷ "+count(n, "change", "changes")+" staged", inkFocus)
	}
	m.drawState(c, b, x+3)
}

// drawState says at the right of the head how the server stands.
func (m *model) drawState(c *canvas, b *board, from int) {
	type part struct {
		text string
		ink  ink
	}
	var parts []part
	watched, watching := m.top().(*watch)
	switch {
	case watching && watched.result == nil && !watched.down():
		parts = append(parts, part{"starting", inkFocus})
	case b.look.Running:
		parts = append(parts, part{"running", inkGood})
	default:
		parts = append(parts, part{"stopped", inkDim})
	}
	switch {
	case b.last == nil:
		parts = append(parts, part{"never started", inkDim})
	case b.last.Verdict == proof.Proved && b.outdated:
		parts = append(parts, part{fmt.Sprintf("◇ changed since start %d proved it", b.last.Number), inkWarn})
	case b.last.Verdict == proof.Proved:
		parts = append(parts, part{fmt.Sprintf("◆ proved by start %d", b.last.Number), inkGood})
	case b.outdated:
		parts = append(parts, part{fmt.Sprintf("◇ changed since start %d, which was not proved", b.last.Number), inkWarn})
	default:
		parts = append(parts, part{"✕ not proved", inkBad})
	}
	x := c.w - 2
	for i := len(parts) - 1; i >= 0; i-- {
		if start := x - ansi.StringWidth(parts[i].text); start >= from {
			x = c.right(x, 0, parts[i].text, parts[i].ink) - 3
		}
	}
}

// drawFoot puts the notice and the keys that work here at the bottom.
func (m *model) drawFoot(c *canvas) {
	c.clear(c.h - 2) // a screen may have had too little room
	c.clear(c.h - 1)
	k := inkText
	if m.bad {
		k = inkBad
	}
	if m.prompt != nil {
		m.prompt.draw(c, c.h-2)
	} else if words := m.working(); words != "" {
		c.putWithin(2, c.h-2, c.w-3, words, inkFocus)
	} else {
		c.putWithin(2, c.h-2, c.w-3, m.notice, k)
	}
	drawKeys(c, c.h-1, m.keysHere())
}

// drawKeys puts as many keys on a line as it has room for; the last always.
func drawKeys(c *canvas, y int, keys []keyHelp) {
	width := func(k keyHelp) int { return ansi.StringWidth(k.key) + 1 + ansi.StringWidth(k.does) }
	if len(keys) == 0 {
		return
	}
	last := keys[len(keys)-1]
	x, end := 2, c.w-1-width(last)-3
	put := func(k keyHelp) {
		x = c.put(x, y, k.key, inkKey)
		x = c.put(x+1, y, k.does, inkDim) + 3
	}
	for _, k := range keys[:len(keys)-1] {
		if x+width(k) > end {
			break
		}
		put(k)
	}
	put(last)
}

// working says what is being done, while that takes a while.
func (m *model) working() string {
	if m.busy == nil {
		return ""
	}
	return m.busy.words()
}

func (m *model) keysHere() []keyHelp {
	switch {
	case m.working() != "" && m.prompt == nil:
		return []keyHelp{{"Esc", "stop it"}}
	case m.prompt != nil && m.prompt.hint != nil:
		return m.prompt.hint
	case m.prompt != nil && m.prompt.step != nil:
		return []keyHelp{{"↑ ↓", "next"}, {"Enter", "stay here"}, {"Esc", "back"}}
	case m.prompt != nil && m.prompt.paths:
		return []keyHelp{{"↑ ↓", "choose"}, {"Tab", "complete"}, {"Enter", "take it"}, {"Esc", "leave it"}}
	case m.prompt != nil:
		return []keyHelp{{"Enter", "take it"}, {"↑", "what was typed before"}, {"Esc", "leave it"}}
	case m.help > 0 && m.help < m.helpPages():
		return []keyHelp{{"any key", "more"}, {"Esc", "back"}}
	case m.help > 0:
		return []keyHelp{{"any key", "back"}}
	}
	return append(m.top().keys(), keyHelp{"q", "close"}, keyHelp{"?", "help"})
}
