package servers

import (
	"context"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
)

// round is what is done to several servers, one after the other.
type round struct {
	act     app.Act
	servers []string
	now     string // the server that it is at
	phase   string
	fared   map[string]app.Fared
	over    bool
	given   bool // up
	cancel  context.CancelFunc
	news    *frame.Stream[turn]
}

// turn is something new about one of them.
type turn struct {
	server, phase string
	fared         *app.Fared
	err           error
}

type roundMsg struct {
	turns []turn
	ended bool
}

// begin does something to the servers that are chosen, in the order in which they are listed.
func (l *serverList) begin(act app.Act) tea.Cmd {
	switch {
	case l.round != nil && !l.round.over:
		l.Say("The servers are gone through already; X stops that.")
		return nil
	case len(l.chosen) == 0:
		l.Say("Space chooses servers for that; Enter opens one.")
		return nil
	}
	r := &round{act: act, fared: map[string]app.Fared{}, news: frame.NewStream[turn]()}
	for _, s := range l.list {
		if l.chosen[s.Name] {
			r.servers = append(r.servers, s.Name)
		}
	}
	var ctx context.Context
	ctx, r.cancel = context.WithCancel(l.Ctx)
	l.round, l.Notice = r, ""
	l.Beside(func() {
		defer r.news.End()
		_, err := l.App.Several(ctx, act, r.servers,
			func(server, words string) { r.news.Put(turn{server: server, phase: words}) },
			func(f app.Fared) { r.news.Put(turn{server: f.Server, fared: &f}) })
		if err != nil && ctx.Err() == nil {
			r.news.Put(turn{err: err})
		}
	})
	return l.next()
}

func (l *serverList) next() tea.Cmd {
	r := l.round
	return l.Ask(func() tea.Msg {
		turns, ended := r.news.Next(l.Ctx)
		return roundMsg{turns, ended}
	})
}

// hear takes what is new about the round.
func (l *serverList) hear(msg roundMsg) tea.Cmd {
	r := l.round
	for _, t := range msg.turns {
		switch {
		case t.err != nil:
			l.Complain(t.err)
		case t.fared != nil:
			r.fared[t.server], r.now, r.phase = *t.fared, "", ""
		default:
			r.now, r.phase = t.server, canvas.Clean(t.phase)
		}
	}
	if !msg.ended {
		return l.next()
	}
	r.over, r.now = true, ""
	clear(l.chosen)
	return l.reload()
}

// of tells how one of the servers fares; ok is false for one that is not gone through.
func (r *round) of(server string) (words string, ink canvas.Ink, ok bool) {
	if r == nil {
		return "", 0, false
	}
	if f, done := r.fared[server]; done {
		switch {
		case f.Passed:
			return "· " + f.Words, canvas.Dim, true
		case f.Good:
			return "◆ " + f.Words, canvas.Good, true
		}
		return "✕ " + f.Words, canvas.Bad, true
	}
	for _, name := range r.servers {
		switch {
		case name != server:
		case r.now == server:
			return "▸ " + r.phase, canvas.Focus, true
		case r.over && r.given:
			return "· left as it is", canvas.Dim, true
		case r.over:
			return "· left as it is, as one before it was not proved", canvas.Dim, true
		default:
			return "· its turn comes", canvas.Dim, true
		}
	}
	return "", 0, false
}
