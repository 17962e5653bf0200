package tui

import (
	"initium/internal/app"
	"initium/internal/core/intake"
	"initium/internal/host"
	"slices"

	tea "charm.land/bubbletea/v2"
)

// answer takes the result of a wish.
func (m *model) answer(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case serversMsg:
		if msg.err != nil {
			m.complain(msg.err)
		}
		m.servers.list, m.servers.loaded = msg.list, true
		m.servers.selected = min(m.servers.selected, max(len(msg.list)-1, 0))
		if m.servers.seek != "" {
			m.servers.selected = max(slices.IndexFunc(msg.list, func(s app.Summary) bool { return s.Name == m.servers.seek }), 0)
			m.servers.seek = ""
		}
	case lookMsg:
		if msg.err != nil {
			m.complain(msg.err)
		} else {
			m.board.set(msg.look, msg.last, msg.proved, msg.mends)
		}
		for _, note := range m.app.Notes() {
			m.say("%s.", clean(note))
		}
	case planMsg:
		m.stuck = false
		if msg.err != nil {
			m.complain(msg.err)
			return nil
		}
		if msg.plan.Empty() {
			m.say("nothing to change: it is so already")
			return nil
		}
		m.plan, m.view, m.notice = newPlanView(msg.why, m.board.look.Server.Record.Dir, msg.plan), viewPlan, ""
		m.plan.back = msg.back
	case stagedMsg:
		m.stuck = false
		if msg.err != nil {
			m.complain(msg.err)
		} else {
			m.say("%s", msg.said)
		}
		return m.reload()
	case ledgerMsg:
		m.stuck = false
		if msg.err != nil {
			m.complain(msg.err)
			return nil
		}
		m.ledger.set(msg.entries)
		m.view, m.notice = viewLedger, ""
	case appliedMsg:
		m.done()
		m.view = viewBoard
		if msg.err != nil {
			m.complain(msg.err)
		} else {
			next := "The next start will show it."
			if m.board.look != nil && m.board.look.Running {
				next = "The server runs as it was; S starts it anew."
			}
			m.say("Done: %s. %s", msg.why, next)
		}
		return m.reload()
	case insideMsg:
		m.showInside(msg)
	case removalMsg:
		return m.showRemoval(msg)
	case backupMsg:
		m.done()
		if msg.err != nil {
			m.complain(msg.err)
		} else {
			m.say("Backup %d: %s, %s, read again and whole.", msg.made.Number, count(msg.made.Files, "file", "files"), intake.Bytes(msg.made.Bytes))
		}
	case stoppedMsg:
		m.stuck = false
		switch {
		case msg.err != nil:
			m.complain(msg.err)
		case msg.exit.How == host.EndedKill:
			m.say("The server did not stop when it was asked, and was ended by force.")
		default:
			m.say("The server has stopped.")
		}
		if anew := m.anew; anew && msg.err == nil {
			m.anew = false
			return m.startServer()
		}
		m.anew = false
		return m.reloadBoard()
	case compareMsg:
		m.stuck = false
		if msg.err != nil {
			m.complain(msg.err)
			return nil
		}
		m.diff, m.view, m.notice = newCompareView(msg.c), viewCompare, ""
	case lessonsMsg:
		m.stuck = false
		if msg.err != nil {
			m.complain(msg.err)
			return nil
		}
		m.teach, m.view, m.notice = newTeachView(msg.l, msg.number), viewTeach, ""
	case triedMsg:
		msg.v.take(msg.t)
		return msg.v.next()
	case foundMsg:
		msg.v.found, msg.v.err, msg.v.over = msg.found, msg.err, true
		m.notice = ""
	case typedMsg:
		if msg.err != nil {
			m.complain(msg.err)
		}
	case ownedMsg:
		if msg.err != nil {
			m.complain(msg.err)
			return nil
		}
		m.say("The dialect says now that the server writes its log into %s. S starts it anew, and reads that.", msg.file)
	case switchedMsg:
		if msg.err != nil {
			m.complain(msg.err)
			return nil
		}
		m.say("%s, loaded anew: %s", msg.mod.Name, outcomeWords(msg.mod))
	case logMsg:
		m.stuck = false
		if msg.err != nil {
			m.complain(msg.err)
			return nil
		}
		m.log, m.view = msg.log, viewLog
		if o := m.board.row().outcome; o != nil && o.Best() != nil {
			m.log.point(o.Best().Line, m.bodyHeight())
		}
	}
	return nil
}
