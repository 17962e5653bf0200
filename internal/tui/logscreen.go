package tui

import (
	tea "charm.land/bubbletea/v2"

	"initium/internal/core/proof"
)

// logScreen shows the kept log of a server's last start.
type logScreen struct {
	*desk
	server string
	mod    string // that was chosen on the board
	log    logView
}

type logMsg struct {
	server, mod string
	line        int // that the view points at, 0 for none
	log         logView
	err         error
}

// openLog opens the log of the last start, at the line that the chosen row rests on.
func openLog(s seat) tea.Cmd {
	d, start := s.place(), s.lastStart()
	if start == nil {
		d.say("There is no log yet: the server was never started here.")
		return nil
	}
	look, last, msg := s.seen(), 0, logMsg{server: s.server()}
	m, outcome := s.pick()
	if m != nil {
		msg.mod = m.Name
	}
	if outcome != nil && outcome.Best() != nil {
		msg.line = outcome.Best().Line
		last = msg.line + maxLog/2 // what comes long after the line that is shown is left out
	}
	return d.wish(func() tea.Msg {
		known, _ := d.app.KnownTrouble(look, start.Number) // without it, nothing is told to be new
		msg.log = logView{known: known}
		msg.err = d.app.ReadLog(look, start.Number, func(lines []proof.Line) bool {
			msg.log.add(lines)
			return last > 0 && len(lines) > 0 && lines[len(lines)-1].Number > last
		})
		return msg
	})
}

func (msg logMsg) open(d *desk) tea.Cmd {
	if msg.err != nil {
		d.complain(msg.err)
		return nil
	}
	return d.enter(newLogScreen(d.model, msg))
}

func newLogScreen(m *model, msg logMsg) *logScreen {
	s := &logScreen{server: msg.server, mod: msg.mod, log: msg.log}
	s.desk = m.desk(s)
	if msg.line > 0 {
		s.log.point(msg.line, s.bodyHeight())
	}
	return s
}

func (s *logScreen) update(tea.Msg) tea.Cmd { return nil }

func (s *logScreen) key(k string) tea.Cmd {
	switch {
	case s.log.key(s.desk, k, s.mod, s.bodyHeight()):
	case k == "D":
		return openTeach(s.desk, s.server, s.log.mark)
	case k == "esc", k == "enter":
		return s.desk.back()
	}
	return nil
}

func (s *logScreen) draw(c *canvas, y, h int) { s.log.draw(c, 0, y, c.w, h) }

func (s *logScreen) wheel(by int) { s.log.scroll(by, s.bodyHeight()) }

func (s *logScreen) keys() []keyHelp {
	return []keyHelp{{"↑ ↓", "scroll"}, {"t", "next trouble"}, {"/", "find"}, {"f", "show only"}, {"D", "teach"}, {"Esc", "to the board"}}
}

func (s *logScreen) help() []helpList {
	return []helpList{{"The log of the last start", logHelp}, {"What the shapes say", shapeHelp}}
}
