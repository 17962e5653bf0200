package board

import (
	"fmt"

	"github.com/charmbracelet/x/ansi"

	"initium/internal/core/check"
	"initium/internal/core/proof"
	"initium/internal/tui/canvas"
	"initium/internal/tui/marks"
)

// Server is the name of the server that the board is about.
func (b *Board) Server() string { return b.name }

// Head tells at the top of every screen about the server how it stands.
func (b *Board) Head(c *canvas.Canvas, starting bool) {
	x := c.Put(2, 0, b.name, canvas.Title)
	if b.look == nil {
		return
	}
	x = c.Put(x+3, 0, canvas.Clean(b.look.Server.Dialect.Title), canvas.Text)
	if port := b.look.Server.Vars["port"]; port != "" {
		x = c.Put(x+3, 0, "port "+canvas.Clean(port), canvas.Dim)
	}
	for _, what := range []struct {
		severity  check.Severity
		one, many string
	}{{check.Error, "error", "errors"}, {check.Warning, "warning", "warnings"}} {
		if n := check.Count(b.look.Findings, what.severity); n > 0 {
			mark := marks.Severity(what.severity)
			x = c.Put(x+3, 0, mark.Shape+" "+marks.Count(n, what.one, what.many), mark.Ink)
		}
	}
	if n := len(b.look.Staged); n > 0 {
		x = c.Put(x+3, 0, "▷ "+marks.Count(n, "change", "changes")+" staged", canvas.Focus)
	}
	b.drawState(c, x+3, starting)
}

// drawState says at the right of the head how the server stands.
func (b *Board) drawState(c *canvas.Canvas, from int, starting bool) {
	type part struct {
		text string
		ink  canvas.Ink
	}
	var parts []part
	record := b.look.Server.Record
	switch {
	case record.Host != "" && b.App.LineDown(b.name) != nil:
		parts = append(parts, part{"at " + record.Host + ", line down; as it was seen last", canvas.Bad})
	case record.Host != "":
		parts = append(parts, part{"at " + record.Host, canvas.Dim})
	case starting:
		parts = append(parts, part{"starting", canvas.Focus})
	case b.look.Running:
		parts = append(parts, part{"running", canvas.Good})
	default:
		parts = append(parts, part{"stopped", canvas.Dim})
	}
	switch {
	case b.last == nil && record.Host != "":
		parts = append(parts, part{"no start seen yet", canvas.Dim})
	case b.last == nil:
		parts = append(parts, part{"never started", canvas.Dim})
	case b.last.Verdict == proof.Proved && b.outdated:
		parts = append(parts, part{fmt.Sprintf("◇ changed since start %d proved it", b.last.Number), canvas.Warn})
	case b.last.Verdict == proof.Proved:
		by := fmt.Sprintf("◆ proved by start %d", b.last.Number)
		if b.last.Handed {
			by = fmt.Sprintf("◆ proved by log %d, handed in", b.last.Number)
		}
		parts = append(parts, part{by, canvas.Good})
	case b.outdated:
		parts = append(parts, part{fmt.Sprintf("◇ changed since start %d, which was not proved", b.last.Number), canvas.Warn})
	default:
		parts = append(parts, part{"✕ not proved", canvas.Bad})
	}
	x := c.W - 2
	for i := len(parts) - 1; i >= 0; i-- {
		if start := x - ansi.StringWidth(parts[i].text); start >= from {
			x = c.Right(x, 0, parts[i].text, parts[i].ink) - 3
		}
	}
}
