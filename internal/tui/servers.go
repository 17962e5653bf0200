package tui

import (
	"fmt"
	"os/exec"
	"slices"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/host"
)

// serverList is all adopted servers at a glance.
type serverList struct {
	*desk
	looking  bool
	judging  bool
	list     []app.Summary
	loaded   bool
	selected int
	seek     string // the server to select when the list comes
}

type lateMsg struct{ starts int } // that nobody had looked at

type serversMsg struct {
	list []app.Summary
	err  error
}

// newServerList is the list of all servers; seek is the one that is chosen at first.
func newServerList(m *model, seek string) *serverList {
	l := &serverList{seek: seek}
	l.desk = m.desk(l)
	return l
}

func (l *serverList) shown() tea.Cmd { return l.again() }

// again looks at all servers, and judges starts that nobody has looked at.
func (l *serverList) again() tea.Cmd { return tea.Batch(l.reload(), l.judgeLate()) }

func (l *serverList) judgeLate() tea.Cmd {
	if l.judging {
		return nil
	}
	l.judging = true
	return l.ask(func() tea.Msg { return lateMsg{l.app.CatchUpAll(l.ctx)} })
}

// reload looks at all servers, unless a look is under way.
func (l *serverList) reload() tea.Cmd {
	if l.looking {
		return nil
	}
	l.looking = true
	return l.ask(func() tea.Msg {
		list, err := l.app.Servers()
		return serversMsg{list, err}
	})
}

func (l *serverList) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case serversMsg:
		l.looking = false
		if msg.err != nil {
			l.complain(msg.err)
		}
		l.list, l.loaded = msg.list, true
		if at := slices.IndexFunc(msg.list, func(s app.Summary) bool { return s.Name == l.seek }); at >= 0 {
			l.selected = at
		}
		l.seek = ""
		l.choose(l.selected)
	case lateMsg:
		l.judging = false
		if msg.starts > 0 {
			return l.reload()
		}
	}
	return nil
}

func (l *serverList) choose(i int) { l.selected = min(max(i, 0), max(len(l.list)-1, 0)) }

func (l *serverList) key(k string) tea.Cmd {
	switch k {
	case "up", "k":
		l.choose(l.selected - 1)
	case "down", "j":
		l.choose(l.selected + 1)
	case "home":
		l.choose(0)
	case "end":
		l.choose(len(l.list))
	case "enter":
		return l.openServer()
	case "a":
		return askFolder(l.desk, func(name string) { l.seek = name })
	case "e":
		if l.selected < len(l.list) {
			l.seek = l.list[l.selected].Name
			return l.enter(newValues(l.model, &l.list[l.selected]))
		}
	case "E":
		return tea.ExecProcess(exec.CommandContext(l.ctx, l.app.Exe, "demo"), func(err error) tea.Msg { return nil })
	}
	return nil
}

// openServer opens the board of the chosen server.
func (l *serverList) openServer() tea.Cmd {
	if l.selected >= len(l.list) {
		return nil
	}
	l.seek = l.list[l.selected].Name
	return l.enter(newBoard(l.model, l.seek))
}

func (l *serverList) click(_, line int) tea.Cmd {
	i := line - 1
	if i < 0 || i >= len(l.list) {
		return nil
	}
	if i == l.selected {
		return l.openServer()
	}
	l.selected = i
	return nil
}

func (l *serverList) wheel(by int) { l.choose(l.selected + by) }

func (l *serverList) title(c *canvas) {
	x := c.put(2, 0, "Initium", inkTitle)
	if n := len(l.list); n > 0 {
		c.put(x+3, 0, count(n, "server", "servers"), inkDim)
	}
}

func (l *serverList) help() []helpList {
	return []helpList{{"All servers at a glance", []keyHelp{{"Enter", "open the board of the server; a second click does the same"}, {"a", "adopt a server: type or choose its folder"}, {"e", "see and change the values that it is started with"}, {"E", "see the demo, beside all this"}}}, {"What the shapes say", shapeHelp}}
}

func (l *serverList) draw(c *canvas, y, h int) {
	if !l.loaded {
		c.put(2, y, "looking at the servers …", inkDim)
		return
	}
	if len(l.list) == 0 {
		c.put(2, y, "No server is adopted yet.", inkTitle)
		c.put(2, y+2, "a", inkKey)
		y = c.paragraph(5, y+2, c.w-7, 3, "adopt one: type or choose its folder. Nothing is written into it.", inkText)
		c.put(2, y+1, "E", inkKey)
		c.paragraph(5, y+1, c.w-7, 3, "see the demo first: made-up servers in a scratch folder that goes afterwards.", inkText)
		return
	}
	const storyHeight = 6
	if h > storyHeight+4 {
		h -= storyHeight + 1
		c.rule(y + h)
		l.drawStory(c, y+h+1)
	}
	wide := c.w >= 100
	x := struct{ kind, state, port, mods, start int }{26, 42, 66, 74, 84}
	if !wide {
		x.kind, x.state, x.port, x.mods, x.start = 0, 22, 38, 46, 53
	}
	head := func(at int, s string) {
		if at > 0 {
			c.put(at, y, s, inkDim)
		}
	}
	c.put(4, y, "server", inkDim)
	head(x.kind, "kind")
	head(x.state, "state")
	head(x.port, "port")
	head(x.mods, "mods")
	head(x.start, "last start")
	y++
	for i, s := range l.list {
		row := y + i
		if i >= h-1 {
			break
		}
		if i == l.selected {
			c.lift(row, 0, c.w)
			c.put(0, row, "▌", inkFocus)
		}
		c.putWithin(4, row, 20, s.Name, inkTitle)
		if s.Problem != "" {
			c.putWithin(x.state, row, c.w-x.state-1, s.Problem, inkBad)
			continue
		}
		if wide {
			c.putWithin(x.kind, row, 15, clean(s.Dialect), inkText)
		}
		state, k := stateWords(&s, wide)
		c.putWithin(x.state, row, x.port-x.state-1, state, k)
		c.put(x.port, row, clean(s.Port), inkText)
		c.put(x.mods, row, fmt.Sprint(s.Registered), inkText)
		at := drawLastStart(c, x.start, row, s)
		if s.Errors > 0 {
			c.putWithin(at+2, row, c.w-at-3, "! "+count(s.Errors, "error", "errors"), inkBad)
		}
	}
}

// stateWords say how a server stands.
func stateWords(s *app.Summary, wide bool) (string, ink) {
	words, fine := s.StateWords()
	switch {
	case !fine:
		return words, inkBad
	case s.State.Up && wide:
		return words + " since " + clock(s.State.Since), inkGood
	case s.State.Up:
		return words, inkGood
	}
	return words, inkDim
}

// drawStory tells more about the selected server.
func (l *serverList) drawStory(c *canvas, y int) {
	if l.selected >= len(l.list) {
		return
	}
	s := l.list[l.selected]
	c.put(2, y, s.Name, inkTitle)
	line := func(label, text string, k ink) {
		if y++; y < c.h-footHeight {
			c.put(2, y, label, inkDim)
			c.putWithin(14, y, c.w-15, text, k)
		}
	}
	line("folder", clean(s.Dir), inkText)
	if s.Problem != "" {
		line("trouble", s.Problem, inkBad)
		return
	}
	if s.Last != nil && s.Last.Verdict != proof.Proved {
		line("last start", fmt.Sprintf("start %d, not proved: %s", s.Last.Number, s.Last.Reason), inkText)
	}
	if s.Proved != nil {
		line("last proof", fmt.Sprintf("start %d, %s, ready after %.2f s", s.Proved.Number, clock(*s.Proved.Started), float64(s.Proved.ReadyAfterMS)/1000), inkText)
	} else {
		line("last proof", "none yet", inkText)
	}
	switch st := &s.State; {
	case st.Lost != nil:
		line("state", fmt.Sprintf("its keeper was ended from outside; the server lives as process %d, unheard. Enter, then X stops it; start it anew after that", st.Lost[0]), inkBad)
	case st.Waiting:
		line("state", fmt.Sprintf("it ended with status %d and is started again at %s", st.Exit.Status, st.Exit.Again.Local().Format("15:04:05")), inkBad)
	case !st.Up && st.Exit != nil && st.Exit.How == host.EndedUnseen:
		line("state", st.Exit.Error, inkWarn)
	case !st.Up && st.Exit != nil && st.Exit.How == host.EndedItself && st.Exit.Status != 0:
		line("state", fmt.Sprintf("it ended by itself at %s, with status %d", clock(st.Exit.At), st.Exit.Status), inkWarn)
	}
	if s.Changed {
		line("changed", "the mods that are on, their releases or their order are other than at the last proof", inkWarn)
	}
	if s.Errors > 0 {
		line("check", count(s.Errors, "error", "errors")+" known before a start; Enter shows them", inkText)
	}
}

func drawLastStart(c *canvas, x, y int, s app.Summary) int {
	switch {
	case s.Last == nil:
		return c.put(x, y, "never started", inkDim)
	case s.Last.Verdict != proof.Proved:
		return c.put(x, y, "✕ not proved, "+clock(*s.Last.Started), inkBad)
	case s.Changed:
		return c.put(x, y, "◇ changed since the proof", inkWarn)
	}
	return c.put(x, y, "◆ proved, "+clock(*s.Last.Started), inkGood)
}

func (l *serverList) keys() []keyHelp {
	if len(l.list) == 0 {
		return []keyHelp{{"a", "adopt a server"}, {"E", "see the demo"}}
	}
	return []keyHelp{{"↑ ↓", "choose"}, {"Enter", "open"}, {"a", "adopt a server"}, {"e", "its values"}}
}
