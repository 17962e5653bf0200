// Package watch is the screen of a start as it happens, and of the server that runs after
// it.
package watch

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/host"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/logpane"
	"initium/internal/tui/marks"
)

// Watch shows a start as it happens, and the server that runs after it: what is
// owed, what has come, the log, and the time against the last start. Leaving it
// stops nothing.
type Watch struct {
	*frame.Desk
	owner   owner
	server  string
	passing bool     // it ends with this program
	names   []string // the registered mods that are on, in load order
	last    *proof.Proof
	host    string // at which it is started, "" for this machine
	guard   int    // how many crashes in a row it is started again after
	step    app.Step
	soFar   *proof.Proof
	log     logpane.Pane
	result  *proof.Proof // once it is judged
	exit    *host.Exit   // how it ended; nil while it runs
	ended   bool         // nothing more will come
	err     error
	cancel  context.CancelFunc

	stopping bool // the operator wants it stopped
	inMods   bool // the keys move through the mods, not the log
	chosen   int  // of names

	heard time.Time        // when the last step came
	clock func() time.Time // nil for that of the machine
	news  *frame.Stream[app.Step]
	end   error // why it could not be watched, once the news has ended
}

// owner is what a watch was opened from, and what hears of what comes of the server.
type owner interface {
	Reload() tea.Cmd // the server is another one than before
	HasStopped(msg StoppedMsg) tea.Cmd
	WatchAnew(begin bool) tea.Cmd
}

// New watches a server: the start that runs, or one that is begun now. last is the
// start that it is compared with, or nil; names are the mods that are owed, in load order. It
// goes on when its screen is left, for as long as its owner is there.
func New(m *frame.Model, of owner, record *host.Record, last *proof.Proof, names []string, begin bool) *Watch {
	w := &Watch{owner: of, server: record.Name, passing: m.App.Passing, guard: record.Guard, host: record.Host, last: last, names: names, heard: time.Now(), news: frame.NewStream[app.Step]()}
	w.Desk = m.Desk(w)
	w.KeepOpen("watch", w.server)
	var ctx context.Context
	ctx, w.cancel = context.WithCancel(m.Ctx)
	m.Beside(func() {
		defer w.news.End()
		if w.host != "" {
			_, w.end = w.App.ProveThere(ctx, w.server, app.ProveOptions{OnStep: w.news.Put})
			return
		}
		var opt app.FollowOptions
		if begin {
			var err error
			if opt.Look, err = w.App.Begin(w.server, app.ProveOptions{}); err != nil {
				w.end = err
				return
			}
		}
		opt.OnStep = w.news.Put
		w.end = w.App.Follow(ctx, w.server, opt)
	})
	return w
}

type stepsMsg struct {
	steps []app.Step
	ended bool
}

type knownMsg struct{ known map[string]bool }

// Next waits for news.
func (w *Watch) Next() tea.Cmd {
	return w.Ask(func() tea.Msg {
		steps, ended := w.news.Next(w.Ctx)
		return stepsMsg{steps, ended}
	})
}

func (w *Watch) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case stepsMsg:
		return w.hear(msg)
	case knownMsg:
		w.log.Learn(msg.known, proof.Alike)
	case StoppedMsg:
		w.stopping = false
		if msg.Anew && msg.Err == nil {
			cmd := w.Desk.Back() // what is started now has a watch of its own
			return tea.Batch(cmd, w.owner.HasStopped(msg))
		}
		return w.owner.HasStopped(msg)
	case ownedMsg:
		if msg.err != nil {
			w.Complain(msg.err)
			return nil
		}
		w.Say("The dialect says now that the server writes its log into %s. S starts it anew, and reads that.", msg.file)
	case switchedMsg:
		if msg.err != nil {
			w.Complain(msg.err)
			return nil
		}
		w.Say("%s, loaded anew: %s", msg.mod.Name, marks.OutcomeWords(msg.mod))
	case TypedMsg:
		if msg.Err != nil {
			w.Complain(msg.Err)
		}
	}
	return nil
}

// hear takes what is new about the server.
func (w *Watch) hear(msg stepsMsg) tea.Cmd {
	judged := false
	for _, s := range msg.steps {
		w.take(s)
		judged = judged || s.Judged != nil || s.Exit != nil
	}
	if msg.ended {
		w.ended, w.stopping = true, false
		if w.end != nil && w.Ctx.Err() == nil && !errors.Is(w.end, context.Canceled) {
			w.err = w.end
		}
		return w.owner.Reload()
	}
	if judged {
		return tea.Batch(w.Next(), w.owner.Reload())
	}
	return w.Next()
}

// Unwatch ends the watching; the server goes on.
func (w *Watch) Unwatch() {
	w.cancel()
	w.Forget("watch", w.server)
}

// take adds a step to the picture. A start that comes after a crash begins a new one.
func (w *Watch) take(s app.Step) {
	if w.step.Number != 0 && s.Number != w.step.Number {
		if w.result != nil && w.result.Verdict == proof.Proved {
			w.last = w.result
		}
		known := w.log.Known
		w.log, w.soFar, w.result, w.exit = logpane.Pane{Known: known}, nil, nil, nil
	}
	w.log.Add(s.New)
	if s.SoFar != nil {
		w.soFar = s.SoFar
	}
	if s.Judged != nil {
		w.result, w.soFar = s.Judged, s.Judged
		for _, later := range s.Judged.Later { // it has come while the server ran
			if !slices.Contains(w.names, later.Name) {
				w.names = append(w.names, later.Name)
			}
		}
		if w.last != nil && w.last.Number == s.Number { // it is no start to compare itself with
			w.last = nil
		}
	}
	w.exit = s.Exit
	w.step, w.heard = s, w.now()
}

// Since adds mods that are registered by now and were not at the start: where the family can, they are
// loaded while the server runs.
func (w *Watch) Since(names []string) {
	for _, name := range names {
		if w.result != nil && !slices.Contains(w.names, name) {
			w.names = append(w.names, name)
		}
	}
}

// UnderWay tells whether the start that is shown is not judged yet.
func (w *Watch) UnderWay() bool { return w.result == nil && !w.Down() }

// Down tells whether the server does not run any more, or never did.
func (w *Watch) Down() bool { return w.ended || w.err != nil }

// phase says in words where the start stands.
func (w *Watch) phase() (string, canvas.Ink) {
	proved := w.result != nil && w.result.Verdict == proof.Proved
	there := w.step.There
	switch {
	case w.err != nil && w.host != "":
		return "✕ could not be watched", canvas.Bad
	case w.host != "" && w.result != nil:
		return verdictWords(proved) + "; running at " + w.host, verdictInk(proved)
	case w.host != "" && there == nil && w.step.Number == 0:
		return "looking at " + w.host, canvas.Focus
	case there != nil && there.Down != "":
		return "△ the line to " + w.host + " is down; it is tried again", canvas.Warn
	case there != nil && !there.Begun:
		return "waiting for you to start it at " + w.host, canvas.Focus
	case w.err != nil:
		return "✕ could not be started", canvas.Bad
	case w.exit != nil && w.exit.Again != nil:
		return fmt.Sprintf("✕ it ended with status %d; it is started again in %.0f s", w.exit.Status, max(time.Until(*w.exit.Again).Seconds(), 0)), canvas.Bad
	case w.exit != nil && w.exit.How == host.EndedKill:
		return verdictWords(proved) + "; it did not stop when asked, and was ended by force", canvas.Warn
	case w.exit != nil && (w.exit.How == host.EndedStop || w.exit.Status == 0) && w.result != nil:
		return verdictWords(proved) + "; stopped", verdictInk(proved)
	case w.exit != nil && w.result != nil:
		return verdictWords(proved) + fmt.Sprintf("; it ended %s, with status %d", w.exit.How, w.exit.Status), canvas.Bad
	case w.exit != nil:
		return fmt.Sprintf("it ended %s, with status %d, and was not judged", w.exit.How, w.exit.Status), canvas.Bad
	case w.step.Stopping || w.stopping:
		return "being stopped; it is asked first and given its time", canvas.Warn
	case w.result != nil:
		return verdictWords(proved) + "; running", verdictInk(proved)
	case w.step.Asking:
		return "ready; asking the server itself", canvas.Focus
	case w.step.Settling:
		return "ready; watching that it stays up", canvas.Focus
	case w.step.Status.Now != "":
		return "loading " + canvas.Clean(w.step.Status.Now), canvas.Focus
	}
	return "starting", canvas.Focus
}

func verdictWords(proved bool) string {
	if proved {
		return "◆ proved"
	}
	return "✕ not proved"
}

func verdictInk(proved bool) canvas.Ink {
	if proved {
		return canvas.Good
	}
	return canvas.Bad
}

// watchHead is how many lines stand above the log.
const watchHead = 4

func (w *Watch) Draw(c *canvas.Canvas, y, h int) {
	words, k := w.phase()
	x := c.Put(2, y, words, k)
	c.PutWithin(x+3, y, c.W-x-4, w.seconds(), canvas.Text)
	w.drawProgress(c, y+1)
	w.drawPulse(c, y+2)
	y, h = y+watchHead, h-watchHead
	if words := w.outcome(); words != "" {
		next := c.Paragraph(2, y-1, c.W-4, 3, words, canvas.Text)
		h -= next - y + 1
		y = next + 1
	}
	left := min(max(c.W*2/7, 28), 46)
	if w.last != nil {
		left = min(max(c.W/3, 28), 52)
	}
	w.drawOwed(c, y, h, left)
	for row := y; row < y+h; row++ {
		c.Put(left, row, "│", canvas.Faint)
	}
	w.log.Draw(c, left+1, y, c.W-left-1, h)
}

// outcome says what the start has come to, and what to do next.
func (w *Watch) outcome() string {
	switch {
	case w.err != nil:
		return canvas.Clean(w.err.Error())
	case w.result == nil:
		return w.toDo()
	}
	s := w.result.Reason
	if s == "" {
		s = "every registered mod is confirmed"
	}
	if gone := w.result.Missed(); gone != "" {
		s += "; " + gone
	}
	for i := range w.result.Later {
		if later := &w.result.Later[i]; later.Outcome == proof.Failed {
			s += fmt.Sprintf("; but %s failed at %s, while the server ran", later.Name, marks.Clock(w.result.At(later)))
			if later.Reason != "" {
				s += ": " + later.Reason
			}
			break
		}
	}
	if w.exit == nil && w.host == "" {
		if s += "; the server runs on, whatever you close"; w.passing {
			s += ", until the demo ends"
		}
	}
	return s + "." + w.besides()
}

// toDo says what is the operator's to do while a server elsewhere is waited for.
func (w *Watch) toDo() string {
	there := w.step.There
	switch {
	case there == nil:
		return ""
	case there.Down != "":
		return upper(canvas.Clean(there.Down)) + "."
	case there.Begun:
		return ""
	}
	s := fmt.Sprintf("Start it at %s now, or anew if it runs there.", there.Host)
	if there.Notes != "" {
		s += " Your notes: " + there.Notes + "."
	}
	return s + " " + there.Log + " is watched over the line, and the start judged."
}

// besides says what else is worth knowing of a start that was judged.
func (w *Watch) besides() (s string) {
	if file := w.elsewhere(); file != "" {
		s += " It printed nothing, but wrote " + file + "; if that is its log, O says so."
	} else if w.result.Hint != "" {
		s += " " + upper(w.result.Hint) + "."
	}
	if w.result.Again != "" {
		s += " " + upper(w.result.Again) + "."
	}
	for _, e := range w.result.Expected {
		if said := "not as expected: " + e.String(); !e.So && !e.Unasked && said != w.result.Reason {
			s += " Besides, " + said + "."
			break
		}
	}
	for _, d := range w.result.Differs {
		if d == w.result.Reason {
			continue
		}
		s += " " + upper(d) + "."
	}
	if w.result.Unheard != "" {
		s += " The server could not be asked: " + w.result.Unheard + "."
	}
	if n := len(w.result.Made); n > 0 {
		then := "X stops the server, e opens them, s starts it again"
		switch {
		case w.host != "":
			then = "they are there now, and settings (,) shows them"
		case w.exit != nil:
			then = "e opens them, s starts the server again"
		}
		s += fmt.Sprintf(" Mods have made %s at this start: %s.", marks.Count(n, "file or folder", "files or folders"), then)
	}
	for _, m := range w.result.Unmade {
		s += fmt.Sprintf(" %s has not made %s yet; start again, and if it is still not there, the mod does not work.", m.Mod, m.Path)
		break
	}
	return s
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func (w *Watch) now() time.Time {
	if w.clock != nil {
		return w.clock()
	}
	return time.Now()
}

func (w *Watch) seconds() string {
	if w.step.Limit == 0 {
		return ""
	}
	elapsed := w.step.Elapsed
	if w.exit == nil {
		elapsed += w.now().Sub(w.heard)
	}
	s := marks.Span(elapsed)
	if w.result != nil && w.result.Ready {
		s = fmt.Sprintf("ready after %.2f s", float64(w.result.ReadyAfterMS)/1000)
		if w.exit == nil {
			s += ", up for " + marks.Span(elapsed)
		}
	} else if w.result == nil {
		s += fmt.Sprintf(" of %.0f s at most", w.step.Limit.Seconds())
	}
	if w.last != nil && w.last.Ready {
		s += fmt.Sprintf("   (start %d took %.2f s", w.last.Number, float64(w.last.ReadyAfterMS)/1000)
		if left, ok := w.estimate(elapsed); ok && left > 0 {
			s += fmt.Sprintf("; about %.0f s more", max(left.Seconds(), 1))
		} else if ok {
			s += fmt.Sprintf("; it is %.0f s late by that", max(-left.Seconds(), 1))
		}
		s += ")"
	}
	return s
}

// estimate is how long it still takes until the server is ready, going by the start
// before: what was left then when the same mod had come, at today's pace.
func (w *Watch) estimate(elapsed time.Duration) (left time.Duration, ok bool) {
	if w.result != nil || w.exit != nil || w.step.Ready || w.last == nil || !w.last.Ready {
		return 0, false
	}
	then, pace := 0.0, 1.0
	whole := float64(w.last.ReadyAfterMS)
	if w.soFar != nil {
		for i := range w.soFar.Mods {
			m := &w.soFar.Mods[i]
			was := w.last.Find(m.Name)
			if m.EndedMS == nil || was == nil || was.EndedMS == nil || *was.EndedMS <= then {
				continue
			}
			then = *was.EndedMS
			pace = min(max(*m.EndedMS/max(then, 1), 0.2), 5)
		}
	}
	return time.Duration(whole*pace*float64(time.Millisecond)) - elapsed, true
}

// drawProgress draws how many mods have been spoken for.
func (w *Watch) drawProgress(c *canvas.Canvas, y int) {
	done, total := w.step.Status.Done, len(w.names)
	label := fmt.Sprintf("%d of %s spoken for", done, marks.Count(total, "mod", "mods"))
	if failed := w.step.Status.Failed; failed > 0 {
		label += fmt.Sprintf(", %d failed", failed)
	}
	x := c.Put(2, y, label, canvas.Dim) + 3
	width := min(c.W-x-2, 60)
	if total == 0 || width < 10 {
		return
	}
	filled := min(width*done/total, width)
	c.Put(x, y, strings.Repeat("━", filled), canvas.Bar)
	c.Put(x+filled, y, strings.Repeat("─", width-filled), canvas.Faint)
}

// drawPulse shows that the server is alive, and what is new in its log.
func (w *Watch) drawPulse(c *canvas.Canvas, y int) {
	x := 2
	if w.exit == nil && w.err == nil && w.step.Limit > 0 {
		quiet := w.step.Quiet + w.now().Sub(w.heard)
		k := canvas.Dim
		if quiet > 10*time.Second && w.result == nil {
			k = canvas.Warn
		}
		words := "last line " + marks.Span(quiet) + " ago"
		if file := w.elsewhere(); file != "" {
			words = "nothing printed yet, but " + file + " grows"
		}
		x = c.PutWithin(x, y, c.W-x-1, words, k) + 3
	}
	switch {
	case w.log.Known != nil && w.log.Fresh > 0:
		x = c.Put(x, y, fmt.Sprintf("▲ %s of trouble that the last proved start had not", marks.Count(w.log.Fresh, "line", "lines")), canvas.Warn) + 3
	case w.log.Known != nil && w.log.Trouble > 0:
		x = c.Put(x, y, fmt.Sprintf("△ %s of trouble, all as in the last proved start", marks.Count(w.log.Trouble, "line", "lines")), canvas.Dim) + 3
	case w.log.Trouble > 0:
		x = c.Put(x, y, fmt.Sprintf("△ %s of trouble", marks.Count(w.log.Trouble, "line", "lines")), canvas.Warn) + 3
	}
	if w.guard > 0 {
		c.PutWithin(x, y, c.W-x-1, fmt.Sprintf("started again after a crash, %d times in a row at most", w.guard), canvas.Dim)
	}
}

// drawOwed lists the mods: what came of each and how long that took beside the start
// before, or that it is still owed. When there are more than fit, the ones being
// waited for stay in sight.
func (w *Watch) drawOwed(c *canvas.Canvas, y, h, width int) {
	first := 0
	if len(w.names) > h {
		near := w.step.Status.Done - h*2/3
		if w.inMods {
			near = w.chosen - h/2
		}
		first = min(max(near, 0), len(w.names)-h)
	}
	for i := first; i < min(first+h, len(w.names)); i++ {
		name, row := w.names[i], y+i-first
		shape, k, detail := w.standing(name)
		if w.last != nil && width >= 40 { // in columns of their own
			c.Right(width-1, row, w.before(name), canvas.Dim)
			c.Right(width-14, row, detail, k)
		} else {
			c.Right(width-1, row, detail, k)
		}
		nameInk := canvas.Text
		if detail == "" {
			nameInk = canvas.Dim
		}
		room := width - 16
		if w.last != nil && width >= 40 {
			room = width - 28
		}
		c.Put(2, row, shape, k)
		c.PutWithin(4, row, room, name, nameInk)
		if w.inMods && i == w.chosen {
			c.Lift(row, 0, width)
			c.Put(0, row, "▌", canvas.Focus)
		}
	}
}

// standing tells what came of a mod so far; detail is "" for one that is still owed.
func (w *Watch) standing(name string) (shape string, k canvas.Ink, detail string) {
	if w.result != nil {
		if later := w.result.Turned(name); later != nil {
			mark := marks.Outcome(later.Outcome)
			return mark.Shape, mark.Ink, mark.Word + " " + marks.Clock(w.result.At(later))
		}
	}
	if w.soFar != nil {
		if m := w.soFar.Find(name); m != nil && m.Outcome != proof.Silent {
			mark := marks.Outcome(m.Outcome)
			switch {
			case m.Against != "":
				return "≠", canvas.Warn, "contradicted"
			case m.LoadMS != nil && m.Outcome != proof.Failed:
				return mark.Shape, mark.Ink, marks.Millis(*m.LoadMS)
			}
			return mark.Shape, mark.Ink, mark.Word
		}
	}
	switch {
	case w.result != nil && w.result.Find(name) == nil:
		return "·", canvas.Dim, "not in this start"
	case w.result != nil:
		return "◌", canvas.Warn, "silent"
	case name == canvas.Clean(w.step.Status.Now) && !w.Down():
		return "◦", canvas.Focus, "loading"
	}
	return "·", canvas.Dim, ""
}

// before is how long a mod took in the start before.
func (w *Watch) before(name string) string {
	if w.last == nil {
		return ""
	}
	if m := w.last.Find(name); m != nil && m.LoadMS != nil {
		return "was " + marks.Millis(*m.LoadMS)
	}
	return ""
}

type (
	StoppedMsg struct {
		Exit host.Exit
		Anew bool // it is to be started again
		Err  error
	}
	TypedMsg struct{ Err error }
)
