package tui

import (
	"fmt"
	"initium/internal/core/check"
	"initium/internal/core/proof"

	"github.com/charmbracelet/x/ansi"
)

// server is the name of the server that the board is about.
func (b *board) server() string { return b.name }

// head tells at the top of every screen about the server how it stands.
func (b *board) head(c *canvas, starting bool) {
	x := c.put(2, 0, b.name, inkTitle)
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
	b.drawState(c, x+3, starting)
}

// drawState says at the right of the head how the server stands.
func (b *board) drawState(c *canvas, from int, starting bool) {
	type part struct {
		text string
		ink  ink
	}
	var parts []part
	switch {
	case starting:
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
