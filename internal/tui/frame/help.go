package frame

import "initium/internal/tui/canvas"

// everywhere are the keys that mean the same on every screen.
var everywhere = []Key{
	{"↑ ↓", "choose, or scroll; PgUp, PgDn, Home and End too"},
	{"Enter", "the next step: open it, write it, take it"},
	{"Esc", "back; what takes a while is stopped first"},
	{"?", "what this screen is for, and its keys"},
	{"q", "close Initium; servers go on running"},
}

// ShapeHelp are the shapes that the screen draws with.
var ShapeHelp = []Key{
	{"◆", "confirmed: the log itself names it as loaded"},
	{"✕", "failed: the log says so, with the reason"},
	{"◌", "silent: registered, and nothing was said"},
	{"◇", "unlisted: it loaded without being registered"},
	{"! ~", "an error or a warning, known before the start"},
	{"○", "the mod that others need; lines lead to them"},
	{"△ ▲", "trouble in the log; trouble that is new"},
	{"┃", "a need that points the wrong way"},
	{"▷", "staged: shown as it will be, not written yet"},
	{"╎ │", "all rows, and those that can be seen; a click goes there"},
}

// wideHelp is the width from which lists stand side by side.
const wideHelp = 110

// helpPages cuts the help into pages that fit this window.
func (m *Model) helpPages() int { return len(m.helpLines()) }

// helpLines are the pages of the help of the screen that is shown, each with one or two
// columns of titles and keys.
func (m *Model) helpLines() (pages [][][]Key) {
	room := max(m.BodyHeight()-2, 2)
	var columns [][]Key
	var column []Key
	for _, part := range append(m.Top().Help(), Help{"On every screen", everywhere}) {
		keys := append([]Key{{"", part.Title}}, part.Keys...)
		if len(column) > 0 && len(column)+1+len(keys) <= room {
			column = append(append(column, Key{}), keys...)
			continue
		}
		if len(column) > 0 {
			columns = append(columns, column)
		}
		for len(keys) > room {
			columns = append(columns, keys[:room])
			keys = keys[room:]
		}
		column = append([]Key{}, keys...)
	}
	columns = append(columns, column)
	per := 1
	if m.W >= wideHelp {
		per = 2
	}
	for len(columns) > 0 {
		n := min(per, len(columns))
		pages, columns = append(pages, columns[:n]), columns[n:]
	}
	return pages
}

// drawHelp lists the keys of the screen that is shown, and what the shapes mean.
func (m *Model) drawHelp(c *canvas.Canvas, y, h int) {
	pages := m.helpLines()
	for i, lines := range pages[min(m.help, len(pages))-1] {
		x := 2 + i*66
		for row, k := range lines {
			if k[0] == "" {
				c.Put(x, y+row, k[1], canvas.Title)
				continue
			}
			c.Put(x, y+row, k[0], canvas.Key)
			c.PutWithin(x+7, y+row, min(c.W-x-8, 58), k[1], canvas.Text)
		}
	}
	c.PutWithin(2, y+h-1, c.W-3, "Every change is shown as a plan first. Nothing is written before you say so.", canvas.Dim)
}
