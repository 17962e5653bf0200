package tui

// boardHelp are the keys of the board.
var boardHelp = []keyHelp{
	{"↑ ↓", "choose a mod; PgUp, PgDn, Home and End too"},
	{"t", "go to the next trouble"},
	{"/", "find a mod as you type; ↑ ↓ go through all that fit"},
	{"← →", "go to what the mod needs; to what needs it"},
	{"⌫", "back to where a jump began"},
	{"Tab", "fold the section; ⇧Tab folds all"},
	{"f", "show only some rows: in trouble, failed, silent, …"},
	{"m", "plan the first remedy; 1 to 9 another"},
	{"o", "switch the mod off or on"},
	{"a", "add a mod that is there and not registered"},
	{"x", "take the mod's registration out"},
	{"⇧↑ ⇧↓", "move the mod; K and J do the same"},
	{"w", "write down a rule about the mod"},
	{"c", "accept a finding as it is, with the reason"},
	{"n r", "begin a section at this row; rename its section"},
	{"[ ]", "move the row's section up or down, whole"},
	{"p", "the plan of all staged changes, to write it"},
	{"u", "take the last staged change back, or the last entry"},
	{"g", "the ledger: what was done; return to any point"},
	{"s", "start the server and prove it, or stop it"},
	{"l", "the log of the last start, at this mod's line"},
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
	{"┃", "a need that points the wrong way"},
	{"▷", "staged: shown as it will be, not written yet"},
}

// wideHelp is the width from which both lists stand side by side.
const wideHelp = 110

// helpPages is how many pages the help has in this window.
func (m *model) helpPages() int {
	if m.w >= wideHelp || m.bodyHeight() >= len(boardHelp)+len(shapeHelp)+4 {
		return 1
	}
	return 2
}

// drawHelp lists all keys, and what the shapes mean.
func (m *model) drawHelp(c *canvas, y, h int) {
	column := func(x, y int, title string, keys []keyHelp) int {
		c.put(x, y, title, inkTitle)
		for _, k := range keys {
			y++
			c.put(x, y, k.key, inkKey)
			c.putWithin(x+7, y, min(c.w-x-8, 54), k.does, inkText)
		}
		return y + 2
	}
	shapes, keys := "What the shapes say", "On the board"
	switch {
	case m.w >= wideHelp:
		column(2, y, keys, boardHelp)
		column(62, y, shapes, shapeHelp)
	case m.helpPages() == 1:
		column(2, column(2, y, keys, boardHelp), shapes, shapeHelp)
	case m.help == 1:
		column(2, y, keys, boardHelp)
	default:
		column(2, y, shapes, shapeHelp)
	}
	c.put(2, y+h-1, "Every change is shown as a plan first. Nothing is written before you say so.", inkDim)
}
