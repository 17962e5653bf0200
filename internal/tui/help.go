package tui

import "slices"

// boardHelp are the keys of the board.
var boardHelp = []keyHelp{
	{"↑ ↓", "choose a mod; PgUp, PgDn, Home and End too"},
	{"t", "go to the next trouble"},
	{"/", "find a mod as you type; ↑ ↓ go through all that fit"},
	{"← →", "go to what the mod needs; to what needs it"},
	{"Bksp", "back to where a jump began"},
	{"Tab", "fold the section; ⇧Tab folds all"},
	{"f", "show only some rows: in trouble, failed, silent, …"},
	{"m", "plan the first remedy; 1 to 9 another"},
	{"o", "switch the mod off or on"},
	{"a", "add a mod that is there and not registered"},
	{"x", "take the mod's registration out"},
	{"⇧↑ ⇧↓", "move the mod; K and J do the same"},
	{"i", "take something in: look inside an archive first"},
	{"d", "take the mod out, files and all"},
	{"b", "back the world up"},
	{"w", "write down a rule about the mod"},
	{"c", "accept a finding as it is, with the reason"},
	{"n r", "begin a section at this row; rename its section"},
	{"[ ]", "move the row's section up or down, whole"},
	{"p", "the plan of all staged changes, to write it"},
	{"u", "take the last staged change back, or the last entry"},
	{"g", "the ledger: what was done; return to any point"},
	{"s S", "start the server and prove it, or stop it; start it anew"},
	{"=", "what is other than at the last proved start, or any other"},
	{"C", "search for the mod that breaks the server, on a copy"},
	{"l", "watch the server that runs; else the log of the last start"},
	{"Esc", "all servers"},
}

// shapeHelp are the shapes that the screen draws with.
var shapeHelp = []keyHelp{
	{"◆", "confirmed: the log itself names it as loaded"},
	{"✕", "failed: the log says so, with the reason"},
	{"◌", "silent: registered, and nothing was said"},
	{"◇", "unlisted: it loaded without being registered"},
	{"! ~", "an error or a warning, known before the start"},
	{"○", "the mod that others need; lines lead to them"},
	{"△ ▲", "trouble in the log; trouble that is new"},
	{"┃", "a need that points the wrong way"},
	{"▷", "staged: shown as it will be, not written yet"},
}

// wideHelp is the width from which both lists stand side by side.
const wideHelp = 110

// helpPages cuts the help into pages that fit this window.
func (m *model) helpPages() int { return len(m.helpLines()) }

// helpLines are the pages of the help, each a list of titles and keys.
func (m *model) helpLines() (pages [][]keyHelp) {
	room := m.bodyHeight() - 2
	if m.w >= wideHelp && room > max(len(boardHelp), len(shapeHelp)+len(watchHelp)+len(logHelp)+3) {
		return [][]keyHelp{nil} // drawn side by side
	}
	for _, part := range []struct {
		title string
		keys  []keyHelp
	}{{"On the board", boardHelp}, {"While watching, and in every log", slices.Concat(watchHelp, logHelp)}, {"What the shapes say", shapeHelp}} {
		for len(part.keys) > 0 {
			n := min(max(room-1, 1), len(part.keys))
			pages = append(pages, append([]keyHelp{{"", part.title}}, part.keys[:n]...))
			part.keys = part.keys[n:]
		}
	}
	return pages
}

// drawHelp lists all keys, and what the shapes mean.
func (m *model) drawHelp(c *canvas, y, h int) {
	column := func(x, y int, lines []keyHelp) {
		for i, k := range lines {
			if k.key == "" {
				c.put(x, y+i, k.does, inkTitle)
				continue
			}
			c.put(x, y+i, k.key, inkKey)
			c.putWithin(x+7, y+i, min(c.w-x-8, 58), k.does, inkText)
		}
	}
	pages := m.helpLines()
	if page := pages[min(m.help, len(pages))-1]; page != nil {
		column(2, y, page)
	} else {
		column(2, y, append([]keyHelp{{"", "On the board"}}, boardHelp...))
		column(68, y, slices.Concat([]keyHelp{{"", "While watching, and in every log"}}, watchHelp, logHelp))
		column(68, y+len(watchHelp)+len(logHelp)+2, append([]keyHelp{{"", "What the shapes say"}}, shapeHelp...))
	}
	c.putWithin(2, y+h-1, c.w-3, "Every change is shown as a plan first. Nothing is written before you say so.", inkDim)
}
