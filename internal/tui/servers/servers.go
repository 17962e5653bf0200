// Package servers is the screen of all servers at a glance, and of what one has to be told
// to adopt another.
package servers

import (
	"cmp"
	"fmt"
	"os/exec"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/host"
	"initium/internal/tui/board"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
)

// serverList is all adopted servers at a glance.
type serverList struct {
	*frame.Desk
	looking  bool
	judging  bool
	list     []app.Summary
	distant  []app.Distant // of machines that were prepared, below the others
	asking   bool          // for these
	loaded   bool
	selected int
	first    int             // that is drawn
	seek     string          // the server to select when the list comes
	chosen   map[string]bool // for what is done to several
	round    *round          // what is done to them, or was done last; nil for nothing
}

type lateMsg struct{ starts int } // that nobody had looked at

type serversMsg struct {
	list []app.Summary
	err  error
}

// New is the list of all servers; seek is the one that is chosen at first.
func New(m *frame.Model, seek string) *serverList {
	l := &serverList{seek: seek, chosen: map[string]bool{}}
	l.Desk = m.Desk(l)
	return l
}

func (l *serverList) Shown() tea.Cmd {
	if l.round != nil && l.round.over {
		l.round = nil // it was looked at
	}
	return l.Again()
}

// Again looks at all servers, and judges starts that nobody has looked at.
func (l *serverList) Again() tea.Cmd { return tea.Batch(l.reload(), l.judgeLate(), l.askAround()) }

// askAround asks other machines what of their servers; nobody waits for them.
func (l *serverList) askAround() tea.Cmd {
	if l.asking {
		return nil
	}
	l.asking = true
	return l.Ask(func() tea.Msg {
		list, err := l.App.Distant(l.Ctx)
		return distantMsg{list, err}
	})
}

type distantMsg struct {
	list []app.Distant
	err  error
}

func (l *serverList) judgeLate() tea.Cmd {
	if l.judging {
		return nil
	}
	l.judging = true
	return l.Ask(func() tea.Msg { return lateMsg{l.App.CatchUpAll(l.Ctx)} })
}

// reload looks at all servers, unless a look is under way.
func (l *serverList) reload() tea.Cmd {
	if l.looking {
		return nil
	}
	l.looking = true
	return l.Ask(func() tea.Msg {
		list, err := l.App.Servers()
		return serversMsg{list, err}
	})
}

func (l *serverList) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case serversMsg:
		l.looking = false
		if msg.err != nil {
			l.Complain(msg.err)
		}
		l.list, l.loaded = msg.list, true
		if at := slices.IndexFunc(msg.list, func(s app.Summary) bool { return s.Name == l.seek }); at >= 0 {
			l.selected = at
		}
		l.seek = ""
		l.choose(l.selected)
	case distantMsg:
		l.asking = false
		if msg.err != nil && l.Ctx.Err() == nil {
			l.Complain(msg.err)
		}
		l.distant = msg.list
		l.choose(l.selected)
	case roundMsg:
		return l.hear(msg)
	case backMsg:
		if msg.err != nil {
			l.Complain(fmt.Errorf("the screen there ended: %w", msg.err))
		}
		return l.Again()
	case lateMsg:
		l.judging = false
		if msg.starts > 0 {
			return l.reload()
		}
	}
	return nil
}

func (l *serverList) choose(i int) { l.selected = min(max(i, 0), max(l.rows()-1, 0)) }

// rows are how many servers are listed, here and elsewhere.
func (l *serverList) rows() int { return len(l.list) + len(l.distant) }

func (l *serverList) Key(k string) tea.Cmd {
	switch k {
	case "up", "k":
		l.choose(l.selected - 1)
	case "down", "j":
		l.choose(l.selected + 1)
	case "home":
		l.choose(0)
	case "end":
		l.choose(l.rows())
	case "space":
		if l.selected >= len(l.list) {
			if l.selected < l.rows() {
				l.Say("It is at %s; Enter opens it there.", l.distant[l.selected-len(l.list)].Host)
			}
			return nil
		}
		if name := l.list[l.selected].Name; name != "" {
			if l.chosen[name] = !l.chosen[name]; !l.chosen[name] {
				delete(l.chosen, name)
			}
			l.choose(l.selected + 1)
		}
	case "s":
		return l.begin(app.ActProve)
	case "r":
		return l.begin(app.ActRehearse)
	case "P":
		return l.begin(app.ActApply)
	case "X":
		if l.round != nil && !l.round.over {
			l.round.cancel()
			l.round.given = true
			l.Say("It is given up; what is under way is brought to an end.")
		}
	case "enter":
		return l.openServer()
	case "a":
		return askFolder(l.Desk, func(name string) { l.seek = name })
	case "e":
		if l.selected < len(l.list) {
			l.seek = l.list[l.selected].Name
			return l.Enter(newValues(l.Model, &l.list[l.selected]))
		}
	case "E":
		return tea.ExecProcess(exec.CommandContext(l.Ctx, l.App.Exe, "demo"), func(err error) tea.Msg { return nil })
	}
	return nil
}

// openServer opens the board of the chosen server.
func (l *serverList) openServer() tea.Cmd {
	if l.selected >= l.rows() {
		return nil
	}
	if l.selected >= len(l.list) {
		return l.openThere(&l.distant[l.selected-len(l.list)])
	}
	l.seek = l.list[l.selected].Name
	return l.Enter(board.New(l.Model, l.seek))
}

// openThere opens the screen of the Initium at another machine, in this one's place.
func (l *serverList) openThere(d *app.Distant) tea.Cmd {
	words := []string{"at", d.Host}
	if d.Server != "" {
		words = append(words, d.Server)
	}
	program := exec.CommandContext(l.Ctx, l.App.Exe, words...)
	program.Env = append(program.Environ(), "INITIUM_HOME="+l.App.Home.Dir)
	return l.Lend(program, func(err error) tea.Msg { return backMsg{err} })
}

type backMsg struct{ err error }

func (l *serverList) Click(_, line int) tea.Cmd {
	i := line - 1 + l.first
	if i < 0 || i >= l.rows() {
		return nil
	}
	if i == l.selected {
		return l.openServer()
	}
	l.selected = i
	return nil
}

func (l *serverList) Wheel(by int) { l.choose(l.selected + by) }

func (l *serverList) Title(c *canvas.Canvas) {
	x := c.Put(2, 0, "Initium", canvas.Title)
	if n := l.rows(); n > 0 {
		x = c.Put(x+3, 0, marks.Count(n, "server", "servers"), canvas.Dim)
	}
	if n := len(l.chosen); n > 0 {
		c.Put(x+3, 0, fmt.Sprintf("%d chosen", n), canvas.Focus)
	}
}

func (l *serverList) Help() []frame.Help {
	return []frame.Help{{Title: "All servers at a glance", Keys: []frame.Key{{"Enter", "open the board of the server; a second click does the same"}, {"a", "adopt a server, or begin one: type or choose its folder, there or to be made"}, {"e", "see and change the values that it is started with"}, {"E", "see the demo, beside all this"},
		{"Space", "choose a server for what is done to several, one after the other"},
		{"s", "start and prove those that are chosen; the first that is not proved is the last"},
		{"r", "rehearse them likewise"},
		{"P", "make what is staged on each, start and prove it, or go back"},
		{"X", "stop it for now: what is under way is brought to an end"},
	}}, {Title: "What the shapes say", Keys: frame.ShapeHelp}}
}

func (l *serverList) Draw(c *canvas.Canvas, y, h int) {
	if !l.loaded {
		c.Put(2, y, "looking at the servers …", canvas.Dim)
		return
	}
	if l.rows() == 0 {
		c.Put(2, y, "No server is adopted yet.", canvas.Title)
		c.Put(2, y+2, "a", canvas.Key)
		y = c.Paragraph(5, y+2, c.W-7, 3, "adopt one: type or choose its folder. Nothing is written into it. Of a folder that is empty, or not there, a new one is begun.", canvas.Text)
		c.Put(2, y+1, "E", canvas.Key)
		c.Paragraph(5, y+1, c.W-7, 3, "see the demo first: made-up servers in a scratch folder that goes afterwards.", canvas.Text)
		return
	}
	const storyHeight = 6
	if h > storyHeight+4 {
		h -= storyHeight + 1
		c.Rule(y + h)
		l.drawStory(c, y+h+1)
	}
	wide := c.W >= 112 // else there is no room for what the last start came to
	x := struct{ kind, state, port, mods, start int }{26, 42, 66, 74, 84}
	if !wide {
		x.kind, x.state, x.port, x.mods, x.start = 0, 22, 38, 46, 53
	}
	head := func(at int, s string) {
		if at > 0 {
			c.Put(at, y, s, canvas.Dim)
		}
	}
	c.Put(4, y, "server", canvas.Dim)
	head(x.kind, "kind")
	head(x.state, "state")
	head(x.port, "port")
	head(x.mods, "mods")
	head(x.start, "last start")
	y++
	h--
	l.first = max(min(l.first, l.selected), l.selected-h+1, 0)
	for i := l.first; i < min(l.first+h, l.rows()); i++ {
		row := y + i - l.first
		if i == l.selected {
			c.Lift(row, 0, c.W)
			c.Put(0, row, "▌", canvas.Focus)
		}
		if i >= len(l.list) {
			l.drawDistant(c, row, &l.distant[i-len(l.list)], x.kind, x.state, x.port, x.mods, x.start)
			continue
		}
		s := l.list[i]
		if l.chosen[s.Name] {
			c.Put(2, row, "✓", canvas.Focus)
		}
		c.PutWithin(4, row, 20, s.Name, canvas.Title)
		if s.Problem != "" {
			c.PutWithin(x.state, row, c.W-x.state-1, s.Problem, canvas.Bad)
			continue
		}
		if wide {
			c.PutWithin(x.kind, row, 15, canvas.Clean(s.Dialect), canvas.Text)
		}
		state, k := stateWords(&s, wide)
		c.PutWithin(x.state, row, x.port-x.state-1, state, k)
		c.Put(x.port, row, canvas.Clean(s.Port), canvas.Text)
		c.Put(x.mods, row, fmt.Sprint(s.Registered), canvas.Text)
		if words, ink, ok := l.round.of(s.Name); ok {
			c.PutWithin(x.start, row, c.W-x.start-1, words, ink)
			continue
		}
		at := drawLastStart(c, x.start, row, s)
		if s.Errors > 0 {
			at = c.PutWithin(at+2, row, c.W-at-3, "! "+marks.Count(s.Errors, "error", "errors"), canvas.Bad)
		}
		if s.Owed > 0 {
			at = c.PutWithin(at+2, row, c.W-at-3, fmt.Sprintf("%d owed", s.Owed), canvas.Warn)
		}
		if s.Staged > 0 {
			c.PutWithin(at+2, row, c.W-at-3, fmt.Sprintf("▷ %d staged", s.Staged), canvas.Focus)
		}
	}
}

// drawDistant draws a server as the Initium of its machine tells of it.
func (l *serverList) drawDistant(c *canvas.Canvas, row int, d *app.Distant, kind, state, port, mods, start int) {
	c.PutWithin(4, row, state-5, d.Name(), canvas.Title)
	if words := cmp.Or(d.Down, d.Problem); words != "" {
		c.PutWithin(state, row, c.W-state-1, words, canvas.Bad)
		return
	}
	if kind > 0 {
		c.PutWithin(4, row, kind-5, d.Name(), canvas.Title)
		c.PutWithin(kind, row, 15, d.Dialect, canvas.Text)
	}
	if d.Running {
		words := d.StateWords()
		if d.Since != nil && d.Players == nil && kind > 0 {
			words += " since " + marks.Clock(*d.Since)
		}
		c.PutWithin(state, row, port-state-1, words, canvas.Good)
	} else {
		c.PutWithin(state, row, port-state-1, "stopped", canvas.Dim)
	}
	c.PutWithin(port, row, mods-port-1, d.Port, canvas.Text)
	c.Put(mods, row, fmt.Sprint(d.Mods), canvas.Text)
	at := c.PutWithin(start, row, c.W-start-1, d.LastStart, canvas.Text)
	if d.Errors > 0 {
		c.PutWithin(at+2, row, c.W-at-3, "! "+marks.Count(d.Errors, "error", "errors"), canvas.Bad)
	}
}

// stateWords say how a server stands.
func stateWords(s *app.Summary, wide bool) (string, canvas.Ink) {
	words, fine := s.StateWords()
	switch {
	case !fine:
		return words, canvas.Bad
	case s.State.Up && wide && s.Players != nil:
		return words + app.In(s.Players), canvas.Good
	case s.State.Up && wide:
		return words + " since " + marks.Clock(s.State.Since), canvas.Good
	case s.State.Up:
		return words, canvas.Good
	}
	return words, canvas.Dim
}

// drawStory tells more about the selected server.
func (l *serverList) drawStory(c *canvas.Canvas, y int) {
	if l.selected >= l.rows() {
		return
	}
	if l.selected >= len(l.list) {
		d := &l.distant[l.selected-len(l.list)]
		c.Put(2, y, d.Name(), canvas.Title)
		c.Put(2, y+1, "machine", canvas.Dim)
		c.PutWithin(14, y+1, c.W-15, d.Host+", on which Initium runs; Enter opens it there", canvas.Text)
		c.Put(2, y+2, "folder", canvas.Dim)
		c.PutWithin(14, y+2, c.W-15, d.Place, canvas.Text)
		if words := cmp.Or(d.Down, d.Problem); words != "" {
			c.Put(2, y+3, "trouble", canvas.Dim)
			c.PutWithin(14, y+3, c.W-15, words, canvas.Bad)
		}
		return
	}
	s := l.list[l.selected]
	c.Put(2, y, s.Name, canvas.Title)
	line := func(label, text string, k canvas.Ink) {
		if y++; y < c.H-frame.FootHeight {
			c.Put(2, y, label, canvas.Dim)
			c.PutWithin(14, y, c.W-15, text, k)
		}
	}
	line("folder", canvas.Clean(s.Dir), canvas.Text)
	if s.Problem != "" {
		line("trouble", s.Problem, canvas.Bad)
		return
	}
	if s.Last != nil && s.Last.Verdict != proof.Proved {
		line("last start", fmt.Sprintf("start %d, not proved: %s", s.Last.Number, s.Last.Reason), canvas.Text)
	}
	if s.Proved != nil {
		line("last proof", fmt.Sprintf("start %d, %s, ready after %.2f s", s.Proved.Number, marks.Clock(*s.Proved.Started), float64(s.Proved.ReadyAfterMS)/1000), canvas.Text)
	} else {
		line("last proof", "none yet", canvas.Text)
	}
	if s.Players != nil {
		line("running", "since "+marks.Clock(s.State.Since), canvas.Text)
	}
	switch st := &s.State; {
	case st.Lost != nil:
		line("state", fmt.Sprintf("its keeper was ended from outside; the server lives as process %d, unheard. Enter, then X stops it; start it anew after that", st.Lost[0]), canvas.Bad)
	case st.Waiting:
		line("state", fmt.Sprintf("it ended with status %d and is started again at %s", st.Exit.Status, st.Exit.Again.Local().Format("15:04:05")), canvas.Bad)
	case !st.Up && st.Exit != nil && st.Exit.How == host.EndedUnseen:
		line("state", st.Exit.Error, canvas.Warn)
	case !st.Up && st.Exit != nil && st.Exit.How == host.EndedItself && st.Exit.Status != 0:
		line("state", fmt.Sprintf("it ended by itself at %s, with status %d", marks.Clock(st.Exit.At), st.Exit.Status), canvas.Warn)
	}
	if s.Changed {
		line("changed", "since the last proof: "+strings.Join(s.Since, ", "), canvas.Warn)
	}
	if words, ink, ok := l.round.of(s.Name); ok {
		line("just now", words, ink)
	}
	if s.Errors > 0 {
		line("check", marks.Count(s.Errors, "error", "errors")+" known before a start; Enter shows them", canvas.Text)
	}
}

func drawLastStart(c *canvas.Canvas, x, y int, s app.Summary) int {
	switch {
	case s.Last == nil && s.Host != "":
		return c.Put(x, y, "no start seen yet", canvas.Dim)
	case s.Last == nil:
		return c.Put(x, y, "never started", canvas.Dim)
	case s.Last.Verdict != proof.Proved:
		return c.Put(x, y, "✕ not proved, "+marks.Clock(*s.Last.Started), canvas.Bad)
	case s.Changed:
		return c.Put(x, y, "◇ changed since the proof", canvas.Warn)
	}
	return c.Put(x, y, "◆ proved, "+marks.Clock(*s.Last.Started), canvas.Good)
}

func (l *serverList) Keys() []frame.Key {
	if len(l.list) == 0 {
		return []frame.Key{{"a", "adopt a server"}, {"E", "see the demo"}}
	}
	keys := []frame.Key{{"↑ ↓", "choose"}, {"Enter", "open"}, {"a", "adopt a server"}, {"e", "its values"}, {"Space", "choose several"}}
	switch {
	case l.round != nil && !l.round.over:
		keys = append([]frame.Key{{"X", "stop it for now"}}, keys...)
	case len(l.chosen) > 0:
		keys = append([]frame.Key{{"s", "start and prove"}, {"r", "rehearse"}, {"P", "prove it, or return"}}, keys...)
	}
	return keys
}
