package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"initium/internal/core/check"
	"initium/internal/core/proof"
)

// headHeight is how many lines the head of every view takes; the foot takes
// one for a notice and one for the keys.
const (
	headHeight = 2
	footHeight = 2
)

func (m *model) bodyHeight() int { return max(m.h-headHeight-footHeight, 1) }

// storyHeight is the part of the board that tells about the selected row.
func (m *model) storyHeight() int {
	switch {
	case m.h >= 40:
		return 11
	case m.h >= 30:
		return 8
	}
	return 6
}

// boardHeight is what is left for the rows, with their heading.
func (m *model) boardHeight() int { return max(m.bodyHeight()-m.storyHeight()-1, 2) }

// View draws the screen.
func (m *model) View() tea.View {
	c := newCanvas(m.w, m.h)
	m.drawHead(c)
	y, h := headHeight, m.bodyHeight()
	switch {
	case m.help > 0:
		m.drawHelp(c, y, h)
	case m.view == viewServers:
		m.servers.draw(c, y, h)
	case m.view == viewPlan:
		m.plan.draw(c, y, h)
	case m.view == viewIntake:
		m.intake.draw(c, y, m.boardHeight())
		c.rule(y + m.boardHeight())
		m.intake.drawStory(c, y+m.boardHeight()+1, m.storyHeight())
	case m.view == viewWatch:
		m.watch.draw(c, y, h)
	case m.view == viewCompare:
		m.diff.draw(c, y, h)
	case m.view == viewCulprit:
		m.hunt.draw(c, y, h)
	case m.view == viewTeach:
		m.teach.draw(c, y, h)
	case m.view == viewOutline:
		m.outline.draw(c, y, h)
	case m.view == viewLog:
		m.log.draw(c, 0, y, c.w, h)
	case m.view == viewLedger:
		m.ledger.draw(c, y, m.boardHeight())
		c.rule(y + m.boardHeight())
		m.ledger.drawStory(c, y+m.boardHeight()+1, m.storyHeight(), m.board.look.Server.Record.Dir)
	case m.board.look == nil:
		c.put(2, y, "looking at the server …", inkDim)
	default:
		m.board.draw(c, y, m.boardHeight())
		c.rule(y + m.boardHeight())
		m.board.drawStory(c, y+m.boardHeight()+1, m.storyHeight())
	}
	m.drawFoot(c)
	v := tea.NewView(c.render(m.palette))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "Initium"
	if m.server != "" && m.view != viewServers {
		v.WindowTitle += " · " + m.server
	}
	return v
}

func (m *model) drawHead(c *canvas) {
	if m.view == viewServers {
		x := c.put(2, 0, "Initium", inkTitle)
		if n := len(m.servers.list); n > 0 {
			c.put(x+3, 0, count(n, "server", "servers"), inkDim)
		}
		return
	}
	if m.view == viewTeach || m.view == viewOutline {
		words := "point at lines and say what they mean; Initium makes the rules"
		if m.view == viewOutline {
			words = "point at the name of a mod; Initium finds out how mods are registered"
		}
		x := c.put(2, 0, "Teach", inkTitle)
		c.putWithin(x+3, 0, c.w-x-4, words, inkDim)
		return
	}
	x := c.put(2, 0, m.server, inkTitle)
	b := &m.board
	if b.look == nil {
		return
	}
	x = c.put(x+3, 0, clean(b.look.Server.Dialect.Title), inkText)
	if port := b.look.Server.Vars["port"]; port != "" {
		x = c.put(x+3, 0, "port "+clean(port), inkDim)
	}
	for _, what := range []struct {
		severity  check.Severity
		one, many string
	}{{check.Error, "error", "errors"}, {check.Warning, "warning", "warnings"}} {
		if n := check.Count(b.look.Findings, what.severity); n > 0 {
			mark := severityMark(what.severity)
			x = c.put(x+3, 0, mark.shape+" "+count(n, what.one, what.many), mark.ink)
		}
	}
	if n := len(b.look.Staged); n > 0 {
		x = c.put(x+3, 0, "▷ "+count(n, "change", "changes")+" staged", inkFocus)
	}
	m.drawState(c, x+3)
}

// drawState says at the right of the head how the server stands.
func (m *model) drawState(c *canvas, from int) {
	b := &m.board
	type part struct {
		text string
		ink  ink
	}
	var parts []part
	switch {
	case m.view == viewWatch && m.watch != nil && m.watch.result == nil && !m.watch.down():
		parts = append(parts, part{"starting", inkFocus})
	case b.look.Running:
		parts = append(parts, part{"running", inkGood})
	default:
		parts = append(parts, part{"stopped", inkDim})
	}
	switch {
	case b.last == nil:
		parts = append(parts, part{"never started", inkDim})
	case b.last.Verdict == proof.Proved && b.outdated:
		parts = append(parts, part{fmt.Sprintf("◇ changed since start %d proved it", b.last.Number), inkWarn})
	case b.last.Verdict == proof.Proved:
		parts = append(parts, part{fmt.Sprintf("◆ proved by start %d", b.last.Number), inkGood})
	case b.outdated:
		parts = append(parts, part{fmt.Sprintf("◇ changed since start %d, which was not proved", b.last.Number), inkWarn})
	default:
		parts = append(parts, part{"✕ not proved", inkBad})
	}
	x := c.w - 2
	for i := len(parts) - 1; i >= 0; i-- {
		if start := x - ansi.StringWidth(parts[i].text); start >= from {
			x = c.right(x, 0, parts[i].text, parts[i].ink) - 3
		}
	}
}

// drawFoot puts the notice and the keys that work here at the bottom.
func (m *model) drawFoot(c *canvas) {
	k := inkText
	if m.bad {
		k = inkBad
	}
	if m.prompt != nil {
		at := c.putWithin(2, c.h-2, c.w-3, m.prompt.label, inkDim)
		value := ending(m.prompt.value, c.w-at-3) // where the typing goes on
		at = c.putWithin(at, c.h-2, c.w-at-2, value, inkTitle)
		c.put(at, c.h-2, "▏", inkKey)
	} else if words := m.working(); words != "" {
		c.putWithin(2, c.h-2, c.w-3, words, inkFocus)
	} else {
		c.putWithin(2, c.h-2, c.w-3, m.notice, k)
	}
	x := 2
	for _, key := range m.keysHere() {
		width := ansi.StringWidth(key.key) + 1 + ansi.StringWidth(key.does)
		if x+width > c.w-1 {
			break
		}
		x = c.put(x, c.h-1, key.key, inkKey)
		x = c.put(x+1, c.h-1, key.does, inkDim) + 3
	}
}

// working says what is being done, while that takes a while.
func (m *model) working() string {
	if m.busy == nil {
		return ""
	}
	return m.busy.words()
}

func (m *model) keysHere() []keyHelp {
	switch {
	case m.working() != "" && m.prompt == nil:
		return []keyHelp{{"Esc", "stop it"}}
	case m.prompt != nil && m.prompt.hint != nil:
		return m.prompt.hint
	case m.prompt != nil:
		if m.prompt.step != nil {
			return []keyHelp{{"↑ ↓", "next"}, {"Enter", "stay here"}, {"Esc", "back"}}
		}
		return []keyHelp{{"Enter", "take it"}, {"Esc", "leave it"}}
	case m.help > 0 && m.help < m.helpPages():
		return []keyHelp{{"any key", "more"}, {"Esc", "back"}}
	case m.help > 0:
		return []keyHelp{{"any key", "back"}}
	case m.view == viewServers:
		return m.servers.keys()
	case m.view == viewPlan:
		return m.plan.keys()
	case m.view == viewIntake:
		return m.intake.keys()
	case m.view == viewWatch:
		return m.watch.keys()
	case m.view == viewLedger:
		return m.ledger.keys()
	case m.view == viewCompare:
		return m.diff.keys()
	case m.view == viewCulprit:
		return m.hunt.keys()
	case m.view == viewTeach:
		return m.teach.keys()
	case m.view == viewOutline:
		return m.outline.keys()
	case m.view == viewLog:
		return []keyHelp{{"↑ ↓", "scroll"}, {"t", "next trouble"}, {"/", "find"}, {"f", "show only"}, {"Esc", "to the board"}, {"?", "help"}, {"q", "close"}}
	}
	return m.board.keys()
}
