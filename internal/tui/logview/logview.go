// Package logview is the screen of the log of the last start.
package logview

import (
	tea "charm.land/bubbletea/v2"

	"initium/internal/core/proof"
	"initium/internal/tui/canvas"
	"initium/internal/tui/expectview"
	"initium/internal/tui/frame"
	"initium/internal/tui/logpane"
	"initium/internal/tui/teachview"
)

// view shows the kept log of a server's last start.
type view struct {
	*frame.Desk
	server string
	mod    string // that was chosen on the board
	log    logpane.Pane
}

type logMsg struct {
	server, mod string
	line        int // that the view points at, 0 for none
	log         logpane.Pane
	err         error
}

// Door leads from the board to here.
var Door = frame.Door{Key: "l", Foot: "log", Help: "watch the server that runs; else the log of the last start", Open: openLog}

// openLog opens the log of the last start, at the line that the chosen row rests on.
func openLog(s frame.Seat) tea.Cmd {
	d, start := s.Place(), s.LastStart()
	if start == nil {
		d.Say("There is no log yet: the server was never started here.")
		return nil
	}
	look, last, msg := s.Seen(), 0, logMsg{server: s.Server()}
	m, outcome := s.Pick()
	if m != nil {
		msg.mod = m.Name
	}
	if outcome != nil && outcome.Best() != nil {
		msg.line = outcome.Best().Line
		last = msg.line + logpane.MaxLines/2 // what comes long after the line that is shown is left out
	}
	return d.Wish(func() tea.Msg {
		known, _ := d.App.KnownTrouble(look, start.Number) // without it, nothing is told to be new
		msg.log = logpane.Pane{Known: known}
		msg.err = d.App.ReadLog(look, start.Number, func(lines []proof.Line) bool {
			msg.log.Add(lines)
			return last > 0 && len(lines) > 0 && lines[len(lines)-1].Number > last
		})
		return msg
	})
}

func (msg logMsg) Open(d *frame.Desk) tea.Cmd {
	if msg.err != nil {
		d.Complain(msg.err)
		return nil
	}
	return d.Enter(newView(d.Model, msg))
}

func newView(m *frame.Model, msg logMsg) *view {
	s := &view{server: msg.server, mod: msg.mod, log: msg.log}
	s.Desk = m.Desk(s)
	if msg.line > 0 {
		s.log.Point(msg.line, s.BodyHeight())
	}
	return s
}

func (s *view) Update(tea.Msg) tea.Cmd { return nil }

func (s *view) Key(k string) tea.Cmd {
	switch {
	case s.log.Key(s.Desk, k, s.mod, s.BodyHeight()):
	case k == "M":
		return expectview.Ask(s.Desk, s.server, "", s.log.Said())
	case k == "D":
		return teachview.Open(s.Desk, s.server, s.log.Mark)
	case k == "esc", k == "enter":
		return s.Desk.Back()
	}
	return nil
}

func (s *view) Draw(c *canvas.Canvas, y, h int) { s.log.Draw(c, 0, y, c.W, h) }

func (s *view) Wheel(by int) { s.log.Scroll(by, s.BodyHeight()) }

func (s *view) Keys() []frame.Key {
	return []frame.Key{{"↑ ↓", "scroll"}, {"t", "next trouble"}, {"/", "find"}, {"f", "show only"}, {"D", "teach"}, {"M", "expect it"}, {"Esc", "to the board"}}
}

func (s *view) Help() []frame.Help {
	return []frame.Help{{Title: "The log of the last start", Keys: logpane.Help}, {Title: "What the shapes say", Keys: frame.ShapeHelp}}
}
