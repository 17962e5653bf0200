package tui

import (
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
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
	if g := m.base(); g != nil {
		v.WindowTitle += " · " + g.server()
	}
	return v
}

func (m *model) drawHead(c *canvas) {
	if t, ok := m.top().(titled); ok {
		t.title(c)
		return
	}
	if g := m.base(); g != nil {
		st, ok := m.top().(starting)
		g.head(c, ok && st.underWay())
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
	width := func(k keyHelp) int { return ansi.StringWidth(k[0]) + 1 + ansi.StringWidth(k[1]) }
	if len(keys) == 0 {
		return
	}
	last := keys[len(keys)-1]
	x, end := 2, c.w-1-width(last)-3
	put := func(k keyHelp) {
		x = c.put(x, y, k[0], inkKey)
		x = c.put(x+1, y, k[1], inkDim) + 3
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
