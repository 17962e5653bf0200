// Package tui is Initium's screen: the list of servers, the board, the watch of
// a start, and the plan of a change, drawn with Bubble Tea.
package tui

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
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
	log     logView
	ledger  ledgerView
	intake  *intakeView
	busy    *busy   // work that takes a while, or nil
	prompt  *prompt // what is being typed, or nil
	help    int     // the page of help that is shown, from 1; 0 for none
	notice  string
	bad     bool // the notice is about something that went wrong
	quit    bool // close as soon as the start that is being watched has ended
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
	_, err := tea.NewProgram(m, tea.WithContext(ctx)).Run()
	if m.watch != nil {
		m.watch.finish()
	}
	return err
}

// finish gives a start up that is still being watched and waits for its end.
func (w *watch) finish() {
	if w.over() {
		return
	}
	w.cancel()
	for range w.news {
	}
	<-w.end
}

// Messages.
type (
	lookMsg struct {
		look         *app.Look
		last, proved *proof.Proof
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
	stoppedMsg struct{ err error }
	logMsg     struct {
		log logView
		err error
	}
	stepMsg  []app.Step
	endMsg   watchEnd
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
		return lookMsg{look, last, proved, err}
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
	default:
		return m, m.answer(msg)
	}
	return m, nil
}

// answer takes the result of a wish.
func (m *model) answer(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case serversMsg:
		if msg.err != nil {
			m.complain(msg.err)
		}
		m.servers.list, m.servers.loaded = msg.list, true
		m.servers.selected = min(m.servers.selected, max(len(msg.list)-1, 0))
		if m.servers.seek != "" {
			m.servers.selected = max(slices.IndexFunc(msg.list, func(s app.Summary) bool { return s.Name == m.servers.seek }), 0)
			m.servers.seek = ""
		}
	case lookMsg:
		if msg.err != nil {
			m.complain(msg.err)
		} else {
			m.board.set(msg.look, msg.last, msg.proved)
		}
		for _, note := range m.app.Notes() {
			m.say("%s.", clean(note))
		}
	case planMsg:
		m.stuck = false
		if msg.err != nil {
			m.complain(msg.err)
			return nil
		}
		if msg.plan.Empty() {
			m.say("nothing to change: it is so already")
			return nil
		}
		m.plan, m.view, m.notice = newPlanView(msg.why, m.board.look.Server.Record.Dir, msg.plan), viewPlan, ""
		m.plan.back = msg.back
	case stagedMsg:
		m.stuck = false
		if msg.err != nil {
			m.complain(msg.err)
		} else {
			m.say("%s", msg.said)
		}
		return m.reload()
	case ledgerMsg:
		m.stuck = false
		if msg.err != nil {
			m.complain(msg.err)
			return nil
		}
		m.ledger.set(msg.entries)
		m.view, m.notice = viewLedger, ""
	case appliedMsg:
		m.done()
		m.view = viewBoard
		if msg.err != nil {
			m.complain(msg.err)
		} else {
			m.say("Done: %s. The next start will show it.", msg.why)
		}
		return m.reload()
	case insideMsg:
		m.showInside(msg)
	case removalMsg:
		return m.showRemoval(msg)
	case backupMsg:
		m.done()
		if msg.err != nil {
			m.complain(msg.err)
		} else {
			m.say("Backup %d: %s, %s, read again and whole.", msg.made.Number, count(msg.made.Files, "file", "files"), intake.Bytes(msg.made.Bytes))
		}
	case stoppedMsg:
		m.stuck = false
		if msg.err != nil {
			m.complain(msg.err)
		} else {
			m.say("The server has stopped.")
		}
		return m.reload()
	case logMsg:
		m.stuck = false
		if msg.err != nil {
			m.complain(msg.err)
			return nil
		}
		m.log, m.view = msg.log, viewLog
		if o := m.board.row().outcome; o != nil && len(o.Evidence) > 0 {
			m.log.point(o.Evidence[len(o.Evidence)-1].Line, m.bodyHeight())
		}
	}
	return nil
}

// news takes what is new about the start that is being watched.
func (m *model) news(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case stepMsg:
		for _, s := range msg {
			m.watch.take(s)
		}
		return m.watch.next()
	case endMsg:
		m.watch.result, m.watch.err = msg.proof, msg.err
		if msg.err != nil {
			m.watch.result = nil
		} else {
			m.watch.soFar = msg.proof
		}
		if m.quit {
			return tea.Quit
		}
		view := m.view
		m.view = viewBoard // what has to be looked at is the board, whatever is shown
		cmd := m.reload()
		m.view = view
		return cmd
	}
	return nil
}

// next waits for news; what has gathered meanwhile comes in one piece.
func (w *watch) next() tea.Cmd {
	return func() tea.Msg {
		s, ok := <-w.news
		if !ok {
			return endMsg(<-w.end)
		}
		steps := stepMsg{s}
		for {
			select {
			case s, ok := <-w.news:
				if !ok {
					return steps
				}
				steps = append(steps, s)
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
		_, err := m.app.Stop(m.ctx, name)
		return stoppedMsg{err}
	}
}

func (m *model) openLog() tea.Cmd {
	if m.board.last == nil {
		m.say("There is no log yet: the server was never started here.")
		return nil
	}
	m.stuck = true
	look, file := m.board.look, m.board.last.Log
	return func() tea.Msg {
		var l logView
		err := m.app.ReadLog(look, file, l.add)
		return logMsg{l, err}
	}
}
