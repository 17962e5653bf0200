package frame

import (
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"initium/internal/tui/canvas"
)

// HeadHeight is how many lines the head of every view takes; the foot takes
// one for a notice and one for the keys.
const (
	HeadHeight = 2
	FootHeight = 2
)

// BodyHeight is how many lines a screen has, between head and foot.
func (m *Model) BodyHeight() int { return max(m.h-HeadHeight-FootHeight, 1) }

// StoryHeight is the part of the board that tells about the selected row.
func (m *Model) StoryHeight() int {
	switch {
	case m.h >= 40:
		return 11
	case m.h >= 30:
		return 8
	}
	return 6
}

// BoardHeight is what is left for the rows, with their heading.
func (m *Model) BoardHeight() int { return max(m.BodyHeight()-m.StoryHeight()-1, 2) }

// View draws the screen.
func (m *Model) View() tea.View {
	c := canvas.New(m.W, m.h)
	m.drawHead(c)
	if m.help > 0 {
		m.drawHelp(c, HeadHeight, m.BodyHeight())
	} else {
		m.Top().Draw(c, HeadHeight, m.BodyHeight())
	}
	if m.Prompt != nil {
		m.Prompt.drawList(c)
	}
	m.drawFoot(c)
	v := tea.NewView(c.Render(m.palette))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "Initium"
	if g := m.base(); g != nil {
		v.WindowTitle += " · " + g.Server()
	}
	return v
}

func (m *Model) drawHead(c *canvas.Canvas) {
	if t, ok := m.Top().(titled); ok {
		t.Title(c)
		return
	}
	if g := m.base(); g != nil {
		st, ok := m.Top().(starting)
		g.Head(c, ok && st.UnderWay())
	}
}

// drawFoot puts the notice and the keys that work here at the bottom.
func (m *Model) drawFoot(c *canvas.Canvas) {
	c.Clear(c.H - 2) // a screen may have had too little room
	c.Clear(c.H - 1)
	k := canvas.Text
	if m.Bad {
		k = canvas.Bad
	}
	if m.Prompt != nil {
		m.Prompt.draw(c, c.H-2)
	} else if words := m.working(); words != "" {
		c.PutWithin(2, c.H-2, c.W-3, words, canvas.Focus)
	} else {
		c.PutWithin(2, c.H-2, c.W-3, m.Notice, k)
	}
	drawKeys(c, c.H-1, m.keysHere())
}

// drawKeys puts as many keys on a line as it has room for; the last always.
func drawKeys(c *canvas.Canvas, y int, keys []Key) {
	width := func(k Key) int { return ansi.StringWidth(k[0]) + 1 + ansi.StringWidth(k[1]) }
	if len(keys) == 0 {
		return
	}
	last := keys[len(keys)-1]
	x, end := 2, c.W-1-width(last)-3
	put := func(k Key) {
		x = c.Put(x, y, k[0], canvas.Key)
		x = c.Put(x+1, y, k[1], canvas.Dim) + 3
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
func (m *Model) working() string {
	if m.busy == nil {
		return ""
	}
	return m.busy.words()
}

func (m *Model) keysHere() []Key {
	switch {
	case m.working() != "" && m.Prompt == nil:
		return []Key{{"Esc", "stop it"}}
	case m.Prompt != nil && m.Prompt.Hint != nil:
		return m.Prompt.Hint
	case m.Prompt != nil && m.Prompt.Step != nil:
		return []Key{{"↑ ↓", "next"}, {"Enter", "stay here"}, {"Esc", "back"}}
	case m.Prompt != nil && m.Prompt.Paths:
		return []Key{{"↑ ↓", "choose"}, {"Tab", "complete"}, {"Enter", "take it"}, {"Esc", "leave it"}}
	case m.Prompt != nil:
		return []Key{{"Enter", "take it"}, {"↑", "what was typed before"}, {"Esc", "leave it"}}
	case m.help > 0 && m.help < m.helpPages():
		return []Key{{"any key", "more"}, {"Esc", "back"}}
	case m.help > 0:
		return []Key{{"any key", "back"}}
	}
	return append(m.Top().Keys(), Key{"q", "close"}, Key{"?", "help"})
}
