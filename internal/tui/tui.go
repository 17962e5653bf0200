// Package tui is Initium's screen: the list of servers, the board, the watch of
// a start, and the plan of a change, drawn with Bubble Tea.
package tui

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
	found "initium/internal/core/remedy"
	"initium/internal/host"
)

// view is one of the screens.
type view int

const (
	viewServers view = iota
	viewBoard
	viewPlan
	viewWatch
	viewLog
	viewLedger
	viewIntake
	viewCompare
	viewCulprit
	viewTeach
	viewOutline
)

// model is the whole screen.
type model struct {
	ctx     context.Context
	app     *app.App
	palette *palette
	w, h    int

	view    view
	server  string
	servers serverList
	board   board
	plan    *planView
	watch   *watch
	diff    *compareView
	hunt    *culpritView // the search for a culprit, or nil
	teach   *teachView
	outline *outlineView
	only    bool // nothing but this view is shown
	log     logView
	ledger  ledgerView
	intake  *intakeView
	busy    *busy   // work that takes a while, or nil
	prompt  *prompt // what is being typed, or nil
	help    int     // the page of help that is shown, from 1; 0 for none
	notice  string
	bad     bool // the notice is about something that went wrong
	anew    bool // once it has stopped, the server is started again
	stuck   bool // a wish is being carried out; keys that begin another wait

	lastSource string // the folder that something was taken in from last
}

// Run shows the screen until the operator closes it: on a server, or on the
// list of servers when name is "".
func Run(ctx context.Context, a *app.App, name string) error {
	m := &model{ctx: ctx, app: a, palette: newPalette(groundOf(os.Getenv)), w: 80, h: 24, server: name}
	if name != "" {
		m.view = viewBoard
	}
	err := show(ctx, m)
	if m.watch != nil {
		m.watch.finish()
	}
	if m.hunt != nil {
		m.hunt.finish()
	}
	return err
}

// finish ends the watching; the server goes on.
func (w *watch) finish() {
	w.cancel()
	for range w.news {
	}
}

// Messages.
type (
	lookMsg struct {
		look         *app.Look
		last, proved *proof.Proof
		mends        map[string][]found.Remedy
		err          error
	}
	serversMsg struct {
		list []app.Summary
		err  error
	}
	planMsg struct {
		why  string
		plan *plan.Plan
		back bool // it goes back in the ledger
		err  error
	}
	stagedMsg struct {
		said string
		err  error
	}
	appliedMsg struct {
		why string
		err error
	}
	ledgerMsg struct {
		entries []host.Entry
		err     error
	}
	stoppedMsg struct {
		exit host.Exit
		err  error
	}
	logMsg struct {
		log logView
		err error
	}
	stepMsg struct {
		w     *watch
		steps []app.Step
	}
	endMsg struct {
		w   *watch
		err error
	}
	switchedMsg struct {
		mod *proof.Mod
		err error
	}
	againMsg struct{}
)

// Init begins by asking for the terminal's background and looking at what is to
// be shown.
func (m *model) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, m.reload(), again())
}

// again looks at the servers anew from time to time, for what others change.
func again() tea.Cmd {
	return tea.Tick(3*time.Second, func(time.Time) tea.Msg { return againMsg{} })
}

func (m *model) reload() tea.Cmd {
	if m.only {
		return nil
	}
	if m.view == viewServers {
		return func() tea.Msg {
			list, err := m.app.Servers()
			return serversMsg{list, err}
		}
	}
	name := m.server
	return func() tea.Msg {
		look, err := m.app.LookAhead(name)
		if err != nil {
			return lookMsg{err: err}
		}
		last, proved, err := m.app.LastStart(name)
		if err != nil {
			return lookMsg{err: err}
		}
		mends, err := m.app.Remedies(look, last, proved)
		return lookMsg{look, last, proved, mends, err}
	}
}

func (m *model) say(format string, args ...any) {
	m.notice, m.bad = fmt.Sprintf(format, args...), false
}

func (m *model) complain(err error) { m.notice, m.bad = clean(err.Error()), true }

// Update takes one message.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.w, m.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		if groundOf(os.Getenv) == groundUnknown {
			m.palette = newPalette(map[bool]ground{true: groundDark, false: groundLight}[msg.IsDark()])
		}
	case tea.KeyPressMsg:
		if m.prompt != nil && msg.String() != "ctrl+c" {
			return m, m.promptKey(msg)
		}
		return m, m.key(msg.String())
	case tea.MouseClickMsg:
		return m, m.click(msg.Mouse())
	case tea.MouseWheelMsg:
		m.wheel(msg.Mouse())
	case againMsg:
		if m.view == viewServers || m.view == viewBoard && !m.stuck {
			return m, tea.Batch(m.reload(), again())
		}
		return m, again()
	case beatMsg:
		return m, m.beat()
	case stepMsg, endMsg:
		return m, m.news(msg)
	case knownMsg:
		msg.w.log.learn(msg.known, proof.Alike)
	default:
		return m, m.answer(msg)
	}
	return m, nil
}

// news takes what is new about the server that is being watched.
func (m *model) news(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case stepMsg:
		judged := false
		for _, s := range msg.steps {
			msg.w.take(s)
			judged = judged || s.Judged != nil || s.Exit != nil
		}
		if msg.w != m.watch {
			return nil
		}
		if judged {
			return tea.Batch(msg.w.next(), m.reloadBoard())
		}
		return msg.w.next()
	case endMsg:
		msg.w.ended, msg.w.stopping = true, false
		if msg.err != nil && m.ctx.Err() == nil {
			msg.w.err = msg.err
		}
		if msg.w == m.watch {
			return m.reloadBoard()
		}
	}
	return nil
}

// reloadBoard looks at the server anew, whatever is shown.
func (m *model) reloadBoard() tea.Cmd {
	view := m.view
	m.view = viewBoard
	cmd := m.reload()
	m.view = view
	return cmd
}

// next waits for news; what has gathered meanwhile comes in one piece.
func (w *watch) next() tea.Cmd {
	return func() tea.Msg {
		s, ok := <-w.news
		if !ok {
			select {
			case err := <-w.end:
				return endMsg{w, err}
			default:
				return endMsg{w, nil}
			}
		}
		steps := stepMsg{w, []app.Step{s}}
		for {
			select {
			case s, ok := <-w.news:
				if !ok {
					return steps
				}
				steps.steps = append(steps.steps, s)
			default:
				return steps
			}
		}
	}
}

// stage gathers changes; they are written when the plan is.
func (m *model) stage(changes ...lineup.Change) tea.Cmd {
	m.stuck = true
	name := m.server
	return func() tea.Msg {
		_, err := m.app.Stage(m.ctx, name, changes...)
		return stagedMsg{"Staged: " + words(changes) + ". p shows the plan, u takes it back.", err}
	}
}

func words(changes []lineup.Change) string {
	list := make([]string, len(changes))
	for i, c := range changes {
		list[i] = c.String()
	}
	return strings.Join(list, ", then ")
}

// unstage takes the last staged change back.
func (m *model) unstage() tea.Cmd {
	m.stuck = true
	name := m.server
	return func() tea.Msg {
		return stagedMsg{"The last staged change is taken back.", m.app.Unstage(name, false)}
	}
}

// mendNow stages a remedy and shows the plan of all that is staged.
func (m *model) mendNow(changes []lineup.Change) tea.Cmd {
	m.stuck = true
	name := m.server
	return func() tea.Msg {
		if _, err := m.app.Stage(m.ctx, name, changes...); err != nil {
			return planMsg{err: err}
		}
		return m.planStaged(name)
	}
}

func (m *model) planStaged(name string) tea.Msg {
	staged, err := m.app.Staged(name)
	if err != nil {
		return planMsg{err: err}
	}
	p, _, err := m.app.Plan(m.ctx, name, staged)
	return planMsg{why: words(staged), plan: p, err: err}
}

// showPlan shows the plan of all that is staged.
func (m *model) showPlan() tea.Cmd {
	m.stuck = true
	name := m.server
	return func() tea.Msg { return m.planStaged(name) }
}

// goBack shows the plan of a return to an entry of the ledger.
func (m *model) goBack(to int) tea.Cmd {
	m.stuck = true
	name := m.server
	return func() tea.Msg {
		p, why, err := m.app.ReturnPlan(name, to)
		return planMsg{why: why, plan: p, back: true, err: err}
	}
}

// apply writes the plan that is shown. Files may have to be copied first, which
// can be stopped.
func (m *model) apply() tea.Cmd {
	name, v := m.server, m.plan
	return m.begin("Copying", func(ctx context.Context, b *busy) tea.Msg {
		if v.back {
			return appliedMsg{v.why, m.app.Return(ctx, name, v.plan, v.why)}
		}
		return appliedMsg{v.why, m.app.Apply(ctx, name, v.plan, b.copied)}
	})
}

func (m *model) openLedger() tea.Cmd {
	m.stuck = true
	name := m.server
	return func() tea.Msg {
		entries, err := m.app.Ledger(name)
		return ledgerMsg{entries, err}
	}
}

func (m *model) stopServer() tea.Cmd {
	m.stuck = true
	m.say("Stopping the server …")
	name := m.server
	return func() tea.Msg {
		exit, err := m.app.Stop(m.ctx, name)
		return stoppedMsg{exit, err}
	}
}

func (m *model) openLog() tea.Cmd {
	if m.board.last == nil {
		m.say("There is no log yet: the server was never started here.")
		return nil
	}
	m.stuck = true
	look, number, last := m.board.look, m.board.last.Number, 0
	if o := m.board.row().outcome; o != nil && o.Best() != nil {
		last = o.Best().Line + maxLog/2 // what comes long after the line that is shown is left out
	}
	return func() tea.Msg {
		known, _ := m.app.KnownTrouble(look, number) // without it, nothing is told to be new
		l := logView{known: known}
		err := m.app.ReadLog(look, number, func(lines []proof.Line) bool {
			l.add(lines)
			return last > 0 && len(lines) > 0 && lines[len(lines)-1].Number > last
		})
		return logMsg{l, err}
	}
}
