package tui

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/host"
)

// watch shows a start as it happens, and the server that runs after it: what is
// owed, what has come, the log, and the time against the last start. Leaving it
// stops nothing.
type watch struct {
	*desk
	owner   owner
	server  string
	passing bool     // it ends with this program
	names   []string // the registered mods that are on, in load order
	last    *proof.Proof
	guard   int // how many crashes in a row it is started again after
	step    app.Step
	soFar   *proof.Proof
	log     logView
	result  *proof.Proof // once it is judged
	exit    *host.Exit   // how it ended; nil while it runs
	ended   bool         // nothing more will come
	err     error
	cancel  context.CancelFunc

	stopping bool // the operator wants it stopped
	inMods   bool // the keys move through the mods, not the log
	chosen   int  // of names

	heard time.Time // when the last step came
	news  *stream[app.Step]
	end   error // why it could not be watched, once the news has ended
}

// owner is what a watch was opened from, and what hears of what comes of the server.
type owner interface {
	reload() tea.Cmd // the server is another one than before
	hasStopped(msg stoppedMsg) tea.Cmd
	watchAnew(begin bool) tea.Cmd
}

// newWatch watches a server: the start that runs, or one that is begun now. last is the
// start that it is compared with, or nil; names are the mods that are owed, in load order. It
// goes on when its screen is left, for as long as its owner is there.
func newWatch(m *model, of owner, record *host.Record, last *proof.Proof, names []string, begin bool) *watch {
	w := &watch{owner: of, server: record.Name, passing: m.app.Passing, guard: record.Guard, last: last, names: names, heard: time.Now(), news: newStream[app.Step]()}
	w.desk = m.desk(w)
	w.keepOpen("watch", w.server)
	var ctx context.Context
	ctx, w.cancel = context.WithCancel(m.ctx)
	m.beside(func() {
		defer w.news.end()
		var opt app.FollowOptions
		if begin {
			var err error
			if opt.Look, err = w.app.Begin(w.server, app.ProveOptions{}); err != nil {
				w.end = err
				return
			}
		}
		opt.OnStep = w.news.put
		w.end = w.app.Follow(ctx, w.server, opt)
	})
	return w
}

type stepsMsg struct {
	steps []app.Step
	ended bool
}

type knownMsg struct{ known map[string]bool }

// next waits for news.
func (w *watch) next() tea.Cmd {
	return w.ask(func() tea.Msg {
		steps, ended := w.news.next(w.ctx)
		return stepsMsg{steps, ended}
	})
}

func (w *watch) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case stepsMsg:
		return w.hear(msg)
	case knownMsg:
		w.log.learn(msg.known, proof.Alike)
	case stoppedMsg:
		w.stopping = false
		if msg.anew && msg.err == nil {
			cmd := w.desk.back() // what is started now has a watch of its own
			return tea.Batch(cmd, w.owner.hasStopped(msg))
		}
		return w.owner.hasStopped(msg)
	case ownedMsg:
		if msg.err != nil {
			w.complain(msg.err)
			return nil
		}
		w.say("The dialect says now that the server writes its log into %s. S starts it anew, and reads that.", msg.file)
	case switchedMsg:
		if msg.err != nil {
			w.complain(msg.err)
			return nil
		}
		w.say("%s, loaded anew: %s", msg.mod.Name, outcomeWords(msg.mod))
	case typedMsg:
		if msg.err != nil {
			w.complain(msg.err)
		}
	}
	return nil
}

// hear takes what is new about the server.
func (w *watch) hear(msg stepsMsg) tea.Cmd {
	judged := false
	for _, s := range msg.steps {
		w.take(s)
		judged = judged || s.Judged != nil || s.Exit != nil
	}
	if msg.ended {
		w.ended, w.stopping = true, false
		if w.end != nil && w.ctx.Err() == nil && !errors.Is(w.end, context.Canceled) {
			w.err = w.end
		}
		return w.owner.reload()
	}
	if judged {
		return tea.Batch(w.next(), w.owner.reload())
	}
	return w.next()
}

// unwatch ends the watching; the server goes on.
func (w *watch) unwatch() {
	w.cancel()
	w.forget("watch", w.server)
}

// take adds a step to the picture. A start that comes after a crash begins a new one.
func (w *watch) take(s app.Step) {
	if w.step.Number != 0 && s.Number != w.step.Number {
		if w.result != nil && w.result.Verdict == proof.Proved {
			w.last = w.result
		}
		known := w.log.known
		w.log, w.soFar, w.result, w.exit = logView{known: known}, nil, nil, nil
	}
	w.log.add(s.New)
	if s.SoFar != nil {
		w.soFar = s.SoFar
	}
	if s.Judged != nil {
		w.result, w.soFar = s.Judged, s.Judged
		if w.last != nil && w.last.Number == s.Number { // it is no start to compare itself with
			w.last = nil
		}
	}
	w.exit = s.Exit
	w.step, w.heard = s, time.Now()
}

// underWay tells whether the start that is shown is not judged yet.
func (w *watch) underWay() bool { return w.result == nil && !w.down() }

func (w *watch) down() bool { return w.ended || w.err != nil }

// phase says in words where the start stands.
func (w *watch) phase() (string, ink) {
	proved := w.result != nil && w.result.Verdict == proof.Proved
	switch {
	case w.err != nil:
		return "✕ could not be started", inkBad
	case w.exit != nil && w.exit.Again != nil:
		return fmt.Sprintf("✕ it ended with status %d; it is started again in %.0f s", w.exit.Status, max(time.Until(*w.exit.Again).Seconds(), 0)), inkBad
	case w.exit != nil && w.exit.How == host.EndedKill:
		return verdictWords(proved) + "; it did not stop when asked, and was ended by force", inkWarn
	case w.exit != nil && (w.exit.How == host.EndedStop || w.exit.Status == 0) && w.result != nil:
		return verdictWords(proved) + "; stopped", verdictInk(proved)
	case w.exit != nil && w.result != nil:
		return verdictWords(proved) + fmt.Sprintf("; it ended %s, with status %d", w.exit.How, w.exit.Status), inkBad
	case w.exit != nil:
		return fmt.Sprintf("it ended %s, with status %d, and was not judged", w.exit.How, w.exit.Status), inkBad
	case w.step.Stopping || w.stopping:
		return "being stopped; it is asked first and given its time", inkWarn
	case w.result != nil:
		return verdictWords(proved) + "; running", verdictInk(proved)
	case w.step.Asking:
		return "ready; asking the server itself", inkFocus
	case w.step.Settling:
		return "ready; watching that it stays up", inkFocus
	case w.step.Status.Now != "":
		return "loading " + clean(w.step.Status.Now), inkFocus
	}
	return "starting", inkFocus
}

func verdictWords(proved bool) string {
	if proved {
		return "◆ proved"
	}
	return "✕ not proved"
}

func verdictInk(proved bool) ink {
	if proved {
		return inkGood
	}
	return inkBad
}

// watchHead is how many lines stand above the log.
const watchHead = 4

func (w *watch) draw(c *canvas, y, h int) {
	words, k := w.phase()
	x := c.put(2, y, words, k)
	c.putWithin(x+3, y, c.w-x-4, w.seconds(), inkText)
	w.drawProgress(c, y+1)
	w.drawPulse(c, y+2)
	y, h = y+watchHead, h-watchHead
	if words := w.outcome(); words != "" {
		next := c.paragraph(2, y-1, c.w-4, 3, words, inkText)
		h -= next - y + 1
		y = next + 1
	}
	left := min(max(c.w*2/7, 28), 46)
	if w.last != nil {
		left = min(max(c.w/3, 28), 52)
	}
	w.drawOwed(c, y, h, left)
	for row := y; row < y+h; row++ {
		c.put(left, row, "│", inkFaint)
	}
	w.log.draw(c, left+1, y, c.w-left-1, h)
}

// outcome says what the start has come to, and what to do next.
func (w *watch) outcome() string {
	switch {
	case w.err != nil:
		return clean(w.err.Error())
	case w.result == nil:
		return ""
	}
	s := w.result.Reason
	if s == "" {
		s = "every registered mod is confirmed"
	}
	if w.exit == nil {
		if s += "; the server runs on, whatever you close"; w.passing {
			s += ", until the demo ends"
		}
	}
	s += "."
	if file := w.elsewhere(); file != "" {
		s += " It printed nothing, but wrote " + file + "; if that is its log, O says so."
	} else if w.result.Hint != "" {
		s += " " + upper(w.result.Hint) + "."
	}
	for _, d := range w.result.Differs {
		s += " " + upper(d) + "."
	}
	if w.result.Unheard != "" {
		s += " The server could not be asked on its console: " + w.result.Unheard + "."
	}
	if n := len(w.result.Made); n > 0 {
		then := "X stops the server, e opens them, s starts it again"
		if w.exit != nil {
			then = "e opens them, s starts the server again"
		}
		s += fmt.Sprintf(" Mods have made %s at this start: %s.", count(n, "file or folder", "files or folders"), then)
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

func (w *watch) seconds() string {
	if w.step.Limit == 0 {
		return ""
	}
	elapsed := w.step.Elapsed
	if w.exit == nil {
		elapsed += time.Since(w.heard)
	}
	s := span(elapsed)
	if w.result != nil && w.result.Ready {
		s = fmt.Sprintf("ready after %.2f s", float64(w.result.ReadyAfterMS)/1000)
		if w.exit == nil {
			s += ", up for " + span(elapsed)
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
func (w *watch) estimate(elapsed time.Duration) (left time.Duration, ok bool) {
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
	filled := min(width*done/total, width)
	c.put(x, y, strings.Repeat("━", filled), inkBar)
	c.put(x+filled, y, strings.Repeat("─", width-filled), inkFaint)
}

// drawPulse shows that the server is alive, and what is new in its log.
func (w *watch) drawPulse(c *canvas, y int) {
	x := 2
	if w.exit == nil && w.err == nil && w.step.Limit > 0 {
		quiet := w.step.Quiet + time.Since(w.heard)
		k := inkDim
		if quiet > 10*time.Second && w.result == nil {
			k = inkWarn
		}
		words := "last line " + span(quiet) + " ago"
		if file := w.elsewhere(); file != "" {
			words = "nothing printed yet, but " + file + " grows"
		}
		x = c.putWithin(x, y, c.w-x-1, words, k) + 3
	}
	switch {
	case w.log.known != nil && w.log.fresh > 0:
		x = c.put(x, y, fmt.Sprintf("▲ %s of trouble that the last proved start had not", count(w.log.fresh, "line", "lines")), inkWarn) + 3
	case w.log.known != nil && w.log.trouble > 0:
		x = c.put(x, y, fmt.Sprintf("△ %s of trouble, all as in the last proved start", count(w.log.trouble, "line", "lines")), inkDim) + 3
	case w.log.trouble > 0:
		x = c.put(x, y, fmt.Sprintf("△ %s of trouble", count(w.log.trouble, "line", "lines")), inkWarn) + 3
	}
	if w.guard > 0 {
		c.putWithin(x, y, c.w-x-1, fmt.Sprintf("started again after a crash, %d times in a row at most", w.guard), inkDim)
	}
}

// drawOwed lists the mods: what came of each and how long that took beside the start
// before, or that it is still owed. When there are more than fit, the ones being
// waited for stay in sight.
func (w *watch) drawOwed(c *canvas, y, h, width int) {
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
			c.right(width-1, row, w.before(name), inkDim)
			c.right(width-14, row, detail, k)
		} else {
			c.right(width-1, row, detail, k)
		}
		nameInk := inkText
		if detail == "" {
			nameInk = inkDim
		}
		room := width - 16
		if w.last != nil && width >= 40 {
			room = width - 28
		}
		c.put(2, row, shape, k)
		c.putWithin(4, row, room, name, nameInk)
		if w.inMods && i == w.chosen {
			c.lift(row, 0, width)
			c.put(0, row, "▌", inkFocus)
		}
	}
}

// standing tells what came of a mod so far; detail is "" for one that is still owed.
func (w *watch) standing(name string) (shape string, k ink, detail string) {
	if w.soFar != nil {
		if m := w.soFar.Find(name); m != nil && m.Outcome != proof.Silent {
			mark := outcomeMark(m.Outcome)
			switch {
			case m.Against != "":
				return "≠", inkWarn, "contradicted"
			case m.LoadMS != nil && m.Outcome != proof.Failed:
				return mark.shape, mark.ink, load(*m.LoadMS)
			}
			return mark.shape, mark.ink, mark.word
		}
	}
	switch {
	case w.result != nil:
		return "◌", inkWarn, "silent"
	case name == clean(w.step.Status.Now) && !w.down():
		return "◦", inkFocus, "loading"
	}
	return "·", inkDim, ""
}

// before is how long a mod took in the start before.
func (w *watch) before(name string) string {
	if w.last == nil {
		return ""
	}
	if m := w.last.Find(name); m != nil && m.LoadMS != nil {
		return "was " + load(*m.LoadMS)
	}
	return ""
}

type (
	stoppedMsg struct {
		exit host.Exit
		anew bool // it is to be started again
		err  error
	}
	typedMsg struct{ err error }
)
