package tui

import (
	"context"
	"fmt"
	"strings"

	"initium/internal/app"
	"initium/internal/core/proof"
)

// watch shows a start as it happens: what is owed, what has come, the log, and
// the time against the last start.
type watch struct {
	server   string
	names    []string // the registered mods that are on, in load order
	last     *proof.Proof
	step     app.Step
	soFar    *proof.Proof
	log      logView
	result   *proof.Proof // when it is over
	err      error
	cancel   context.CancelFunc
	stopping bool // the operator wants it stopped
	news     chan app.Step
	end      chan watchEnd
}

type watchEnd struct {
	proof *proof.Proof
	err   error
}

// newWatch starts the server and begins to watch it.
func newWatch(ctx context.Context, a *app.App, b *board) *watch {
	w := &watch{server: b.look.Server.Record.Name, last: b.proved, news: make(chan app.Step, 256), end: make(chan watchEnd, 1)}
	if w.last == nil {
		w.last = b.last
	}
	for _, r := range b.rows {
		if r.mod != nil && r.mod.Listed {
			w.names = append(w.names, clean(r.mod.Name))
		}
	}
	ctx, w.cancel = context.WithCancel(ctx)
	go func() {
		p, err := a.Prove(ctx, w.server, app.ProveOptions{Keep: app.KeepProved, OnStep: func(s app.Step) { w.news <- s }})
		close(w.news)
		w.end <- watchEnd{p, err}
	}()
	return w
}

// take adds a step to the picture.
func (w *watch) take(s app.Step) {
	w.log.add(s.New)
	if s.SoFar != nil {
		w.soFar = s.SoFar
	}
	w.step = s
}

func (w *watch) over() bool { return w.result != nil || w.err != nil }

// phase says in words where the start stands.
func (w *watch) phase() (string, ink) {
	switch {
	case w.err != nil:
		return "✕ could not be started", inkBad
	case w.result != nil && w.result.Verdict == proof.Proved:
		return "◆ proved", inkGood
	case w.result != nil:
		return "✕ not proved", inkBad
	case w.step.Stopping || w.stopping:
		return "being stopped", inkWarn
	case w.step.Settling:
		return "ready; watching that it stays up", inkFocus
	case w.step.Status.Now != "":
		return "loading " + clean(w.step.Status.Now), inkFocus
	}
	return "starting", inkFocus
}

func (w *watch) draw(c *canvas, y, h int) {
	words, k := w.phase()
	x := c.put(2, y, words, k)
	if s := w.seconds(); s != "" {
		c.put(x+3, y, s, inkText)
	}
	w.drawProgress(c, y+1)
	y, h = y+3, h-3
	if w.over() {
		reason := "every registered mod is confirmed; the server goes on running"
		if w.err != nil {
			reason = clean(w.err.Error())
		} else if w.result.Reason != "" {
			reason = w.result.Reason
		}
		next := c.paragraph(2, y-1, c.w-4, 3, reason, inkText)
		h -= next - y + 1
		y = next + 1
	}
	left := min(max(c.w*2/7, 26), 44)
	w.drawOwed(c, y, h, left)
	for row := y; row < y+h; row++ {
		c.put(left, row, "│", inkFaint)
	}
	w.log.draw(c, left+1, y, c.w-left-1, h)
}

func (w *watch) seconds() string {
	if w.step.Limit == 0 {
		return ""
	}
	s := fmt.Sprintf("%.1f s", w.step.Elapsed.Seconds())
	if w.result != nil && w.result.Ready {
		s = fmt.Sprintf("ready after %.2f s", float64(w.result.ReadyAfterMS)/1000)
	} else if !w.over() {
		s += fmt.Sprintf(" of %.0f s at most", w.step.Limit.Seconds())
	}
	if w.last != nil && w.last.Ready {
		s += fmt.Sprintf("   (start %d took %.2f s)", w.last.Number, float64(w.last.ReadyAfterMS)/1000)
	}
	return s
}

// drawProgress draws how many mods have been spoken for.
func (w *watch) drawProgress(c *canvas, y int) {
	done, total := w.step.Status.Done, len(w.names)
	label := fmt.Sprintf("%d of %s spoken for", done, count(total, "mod", "mods"))
	if failed := w.step.Status.Failed; failed > 0 {
		label += fmt.Sprintf(", %d failed", failed)
	}
	x := c.put(2, y, label, inkDim) + 3
	width := min(c.w-x-2, 60)
	if total == 0 || width < 10 {
		return
	}
	filled := width * done / total
	c.put(x, y, strings.Repeat("━", filled), inkBar)
	c.put(x+filled, y, strings.Repeat("─", width-filled), inkFaint)
}

// drawOwed lists the mods: what came of each, or that it is still owed. When
// there are more than fit, the ones being waited for stay in sight.
func (w *watch) drawOwed(c *canvas, y, h, width int) {
	first := 0
	if len(w.names) > h {
		first = min(max(w.step.Status.Done-h*2/3, 0), len(w.names)-h)
	}
	for i := first; i < min(first+h, len(w.names)); i++ {
		name, row := w.names[i], y+i-first
		shape, k, detail := "·", inkDim, ""
		if w.soFar != nil {
			if m := w.soFar.Find(name); m != nil && m.Outcome != proof.Silent {
				mark := outcomeMark(m.Outcome)
				shape, k = mark.shape, mark.ink
				detail = mark.word
				if m.LoadMS != nil {
					detail = load(*m.LoadMS)
				}
			}
		}
		switch {
		case detail == "" && name == clean(w.step.Status.Now) && !w.over():
			shape, k, detail = "◦", inkFocus, "loading"
		case detail == "" && w.over():
			shape, k, detail = "◌", inkWarn, "silent"
		}
		c.put(2, row, shape, k)
		nameInk := inkText
		if detail == "" {
			nameInk = inkDim
		}
		c.putWithin(4, row, width-16, name, nameInk)
		c.right(width-1, row, detail, k)
	}
}

func (w *watch) keys() []keyHelp {
	keys := []keyHelp{{"↑ ↓", "scroll the log"}, {"End", "follow it"}}
	if w.over() {
		return append(keys, keyHelp{"Enter", "to the board"}, keyHelp{"?", "help"}, keyHelp{"q", "close"})
	}
	return append(keys, keyHelp{"x", "stop the server"}, keyHelp{"?", "help"})
}
