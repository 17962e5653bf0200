package tui

import (
	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/lineup"
)

// keyHelp is a key with what it does here.
type keyHelp struct{ key, does string }

// key carries a key press out.
func (m *model) key(k string) tea.Cmd {
	if k == "ctrl+c" {
		return m.close()
	}
	if m.help > 0 {
		m.help++
		if m.help > m.helpPages() || k == "esc" {
			m.help = 0
		}
		return nil
	}
	if k == "?" {
		m.help = 1
		return nil
	}
	if k == "esc" && m.busy != nil {
		m.busy.cancel()
		m.say("Stopping …")
		return nil
	}
	switch m.view {
	case viewIntake:
		return m.intakeKey(k)
	case viewServers:
		return m.serversKey(k)
	case viewBoard:
		return m.boardKey(k)
	case viewPlan:
		return m.planKey(k)
	case viewWatch:
		return m.watchKey(k)
	case viewLog:
		return m.logKey(k)
	case viewLedger:
		return m.ledgerKey(k)
	case viewCompare:
		return m.compareKey(k)
	case viewCulprit:
		return m.culpritKey(k)
	case viewTeach:
		return m.teachKey(k)
	case viewOutline:
		return m.outlineKey(k)
	}
	return nil
}

func (m *model) ledgerKey(k string) tea.Cmd {
	switch k {
	case "up", "k":
		m.ledger.step(-1)
	case "down", "j":
		m.ledger.step(1)
	case "pgup":
		m.ledger.step(-m.bodyHeight() / 2)
	case "pgdown":
		m.ledger.step(m.bodyHeight() / 2)
	case "esc", "g":
		m.view, m.notice = viewBoard, ""
	case "q":
		return m.close()
	}
	if m.stuck || m.ledger.selected >= len(m.ledger.entries) {
		return nil
	}
	switch k {
	case "enter":
		return m.goBack(m.ledger.entries[m.ledger.selected].Number)
	case "u":
		return m.goBack(app.ReturnLast)
	case "v":
		return m.goBack(app.ReturnProved)
	}
	return nil
}

// close ends the screen. What runs goes on running.
func (m *model) close() tea.Cmd { return tea.Quit }

func (m *model) serversKey(k string) tea.Cmd {
	l := &m.servers
	switch k {
	case "q":
		return m.close()
	case "up", "k":
		l.selected = max(l.selected-1, 0)
	case "down", "j":
		l.selected = max(min(l.selected+1, len(l.list)-1), 0)
	case "r":
		return m.reload()
	case "enter":
		if l.selected < len(l.list) {
			return m.open(l.list[l.selected].Name)
		}
	}
	return nil
}

// open shows a server's board.
func (m *model) open(name string) tea.Cmd {
	if m.watch != nil && m.watch.server != name {
		m.watch.finish()
		m.watch = nil
	}
	m.server, m.view, m.board, m.notice = name, viewBoard, board{}, ""
	return m.reload()
}

func (m *model) boardKey(k string) tea.Cmd {
	b := &m.board
	switch k {
	case "q":
		return m.close()
	case "esc":
		m.view, m.notice, m.servers.seek = viewServers, "", m.server
		return m.reload()
	}
	if b.look == nil {
		return nil
	}
	switch k {
	case "up", "k":
		b.step(-1)
	case "down", "j":
		b.step(1)
	case "pgup":
		b.step(-m.bodyHeight() / 2)
	case "pgdown":
		b.step(m.bodyHeight() / 2)
	case "home":
		b.step(-len(b.rows))
	case "end":
		b.step(len(b.rows))
	case "t":
		b.trouble()
	case "tab":
		b.fold(false)
	case "shift+tab":
		b.fold(true)
	case "f":
		b.show()
	case "/":
		m.findMod()
	case "left":
		m.notice, m.bad = b.jump(false), false
	case "right":
		m.notice, m.bad = b.jump(true), false
	case "backspace":
		b.goBack()
	}
	if m.stuck {
		return nil
	}
	switch k {
	case "s":
		m.notice = ""
		if b.look.Running {
			return m.stopServer()
		}
		return m.startServer()
	case "S":
		return m.startAnew()
	case "l":
		if b.look.Running {
			return m.watchServer()
		}
		return m.openLog()
	case "m", "1", "2", "3", "4", "5", "6", "7", "8", "9":
		return m.mend(k)
	case "o", "a", "x":
		return m.toggle(k)
	case "shift+up", "K":
		return m.moveRow(-1)
	case "shift+down", "J":
		return m.moveRow(1)
	case "n":
		return m.newSection()
	case "r":
		return m.renameSection()
	case "[":
		return m.moveSection(-1)
	case "]":
		return m.moveSection(1)
	case "p":
		if len(b.look.Staged) == 0 {
			m.say("Nothing is staged. o, a, x and Shift with ↑ ↓ stage changes.")
			return nil
		}
		return m.showPlan()
	case "u":
		if len(b.look.Staged) > 0 {
			return m.unstage()
		}
		return m.goBack(app.ReturnLast)
	case "g":
		return m.openLedger()
	case "i":
		m.askSource()
	case "d":
		return m.takeOut()
	case "b":
		return m.backUp()
	case "=":
		return m.compare(0)
	case "C":
		m.askCulprit()
	case "w":
		return m.writeRule()
	case "c":
		return m.acceptFinding()
	}
	return nil
}

// moveRow stages a move of the selected mod by one row. At the edge of a section
// it moves into the next one.
func (m *model) moveRow(by int) tea.Cmd {
	c, ok := m.board.moveBy(by)
	if !ok {
		return nil
	}
	return m.stage(c)
}

// mend plans a remedy of the selected row: the first, or the one with a number.
func (m *model) mend(k string) tea.Cmd {
	n := 0
	if k != "m" {
		n = int(k[0] - '1')
	}
	fixes := m.board.fixes()
	if n >= len(fixes) {
		if len(fixes) == 0 {
			m.say("There is no remedy for this row that Initium could carry out; t goes to the next trouble.")
		}
		return nil
	}
	if fixes[n].back {
		return m.goBack(app.ReturnProved)
	}
	return m.mendNow(fixes[n].changes)
}

// toggle stages to switch the selected mod on or off, to add it, or to take its
// registration out.
func (m *model) toggle(k string) tea.Cmd {
	mod := m.board.mod()
	if mod == nil {
		return nil
	}
	c := lineup.Change{Op: lineup.OpOff, Mod: mod.Name}
	switch {
	case !mod.Registered && k == "a":
		c.Op = lineup.OpRegister
	case !mod.Registered || k == "a":
		return nil
	case k == "x":
		c.Op = lineup.OpUnregister
	case !mod.On:
		c.Op = lineup.OpOn
	}
	return m.stage(c)
}

func (m *model) planKey(k string) tea.Cmd {
	switch k {
	case "enter":
		if !m.stuck {
			return m.apply()
		}
	case "esc", "q":
		m.view, m.notice = viewBoard, ""
		if !m.plan.back {
			m.say("Staged, and not written. p shows the plan again, u takes the last change back.")
		}
		return m.reload()
	case "c":
		return m.copyField()
	case "b":
		if !m.stuck {
			return m.backUp()
		}
	case "up", "k":
		m.plan.first--
	case "down", "j":
		m.plan.first++
	}
	m.plan.first = max(m.plan.first, 0)
	return nil
}

// copyField puts what is to be pasted into the next field of a web form on the
// clipboard.
func (m *model) copyField() tea.Cmd {
	name, text, ok := m.plan.nextField()
	if !ok {
		return nil
	}
	m.say("Copied what goes into the field %q.", name)
	return tea.SetClipboard(text)
}

func (m *model) logKey(k string) tea.Cmd {
	mod := ""
	if chosen := m.board.mod(); chosen != nil {
		mod = chosen.Name
	}
	if m.logKeys(&m.log, k, mod, m.bodyHeight()) {
		return nil
	}
	switch k {
	case "w":
		return m.openTeach(m.log.mark)
	case "esc", "enter", "l":
		m.view, m.notice = viewBoard, ""
	case "q":
		return m.close()
	}
	return nil
}

func (m *model) click(at tea.Mouse) tea.Cmd {
	line := at.Y - headHeight
	switch m.view {
	case viewServers:
		if i := line - 1; i >= 0 && i < len(m.servers.list) {
			if i == m.servers.selected {
				return m.open(m.servers.list[i].Name)
			}
			m.servers.selected = i
		}
	case viewBoard:
		if line >= 1 && line < m.boardHeight() {
			m.board.click(line - 1)
		}
	}
	return nil
}

func (m *model) wheel(at tea.Mouse) {
	by := 3
	if at.Button == tea.MouseWheelUp {
		by = -3
	}
	switch m.view {
	case viewBoard:
		m.board.step(by)
	case viewIntake:
		m.intake.step(by)
	case viewPlan:
		m.plan.first = max(m.plan.first+by, 0)
	case viewWatch:
		m.watch.log.scroll(by, m.watchHeight())
	case viewLog:
		m.log.scroll(by, m.bodyHeight())
	case viewCompare:
		m.diff.first += by
	case viewTeach:
		m.teach.selected = max(min(m.teach.selected+by, len(m.teach.l.Lines)-1), 0)
	}
}
