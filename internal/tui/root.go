package tui

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/lineup"
)

// model is the root: it keeps the stack of screens, and gives each of them what it
// asked for.
type model struct {
	ctx     context.Context
	app     *app.App
	palette *palette
	w, h    int

	stack []screen       // the last is shown
	desks map[int]*desk  // of every screen that still takes answers, by its number
	kept  map[kind]*desk // of those that go on when they are not shown
	made  int            // screens so far
	work  sync.WaitGroup // what goes on beside the screen, and has to end before it

	busy    *busy   // work that takes a while, or nil
	prompt  *prompt // what is being typed, or nil
	typed   map[string][]string
	sources string // the folder that something was taken in from last
	doors   []door // what a board leads to
	help    int    // the page of help that is shown, from 1; 0 for none
	notice  string
	bad     bool // the notice is about something that went wrong
}

// newModel is a root without a screen yet; a board in it leads through the doors.
func newModel(ctx context.Context, a *app.App, doors []door) *model {
	return &model{ctx: ctx, app: a, doors: doors, palette: newPalette(groundOf(os.Getenv)), w: 80, h: 24, desks: map[int]*desk{}, kept: map[kind]*desk{}, typed: map[string][]string{}}
}

// Messages of the root.
type (
	// answerMsg is what a screen asked for.
	answerMsg struct {
		to   int // the number of its desk
		wish bool
		msg  tea.Msg
	}
	againMsg struct{}
	pathsMsg struct {
		p     *prompt
		typed string
		list  []string
		told  map[string]string // something about some of them
	}
)

// lookEvery is how often what is shown is looked at anew, for what others change.
const lookEvery = 3 * time.Second

// Init begins by asking for the terminal's background, and looks at what is shown.
func (m *model) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, m.show(), again())
}

func again() tea.Cmd { return tea.Tick(lookEvery, func(time.Time) tea.Msg { return againMsg{} }) }

// top is the screen that is shown.
func (m *model) top() screen { return m.stack[len(m.stack)-1] }

// open puts a screen on top; it is asked for what it wants by show.
func (m *model) open(s screen) { m.stack = append(m.stack, s) }

// show lets the screen on top ask for what it wants to know.
func (m *model) show() tea.Cmd {
	if s, ok := m.top().(lively); ok {
		return s.shown()
	}
	return nil
}

// leave takes screens off until one of which want holds is on top, the lowest at the
// latest. What is left for good takes no more answers.
func (m *model) leave(want func(screen) bool) tea.Cmd {
	for len(m.stack) > 1 && !want(m.top()) {
		s := m.top()
		m.stack = m.stack[:len(m.stack)-1]
		m.drop(s)
	}
	return m.show()
}

// drop forgets a screen, unless it goes on when it is not shown.
func (m *model) drop(s screen) {
	d := s.place()
	if d == nil || slices.ContainsFunc(m.stack, func(other screen) bool { return other == s }) {
		return
	}
	for _, kept := range m.kept {
		if kept == d {
			return
		}
	}
	delete(m.desks, d.id)
	s.close()
}

// base is what the server is known by that the screens are about, or nil.
func (m *model) base() base {
	for _, s := range slices.Backward(m.stack) {
		if g, ok := s.(base); ok {
			return g
		}
	}
	return nil
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
	case tea.PasteMsg:
		if m.prompt != nil {
			return m, m.prompt.paste(m, msg)
		}
	case tea.KeyPressMsg:
		if m.prompt != nil && msg.String() != "ctrl+c" {
			return m, m.prompt.key(m, msg)
		}
		return m, m.key(msg.String())
	case tea.MouseClickMsg:
		if s, ok := m.top().(pointed); ok && m.help == 0 && m.prompt == nil {
			return m, s.click(msg.Mouse().X, msg.Mouse().Y-headHeight)
		}
	case tea.MouseWheelMsg:
		by := 3
		if msg.Mouse().Button == tea.MouseWheelUp {
			by = -3
		}
		if s, ok := m.top().(wheeled); ok && m.help == 0 {
			s.wheel(by)
		}
	case againMsg:
		if s, ok := m.top().(lively); ok && m.prompt == nil {
			return m, tea.Batch(s.again(), again())
		}
		return m, again()
	case beatMsg:
		return m, m.beat()
	case pathsMsg:
		if msg.p == m.prompt {
			m.prompt.found(msg)
		}
	case answerMsg:
		return m, m.answer(msg)
	}
	return m, nil
}

// answer hands to a screen what it asked for. One that is closed by then gets nothing.
func (m *model) answer(msg answerMsg) tea.Cmd {
	d := m.desks[msg.to]
	if d == nil {
		return nil
	}
	if msg.wish {
		d.stuck = false
		if m.busy != nil && m.busy.of == d {
			m.busy = nil
		}
	}
	if o, ok := msg.msg.(opening); ok {
		return o.open(d)
	}
	return d.screen.update(msg.msg)
}

// key carries a key press out that every screen has in common, or hands it on.
func (m *model) key(k string) tea.Cmd {
	switch {
	case k == "ctrl+c":
		return tea.Quit
	case m.help > 0:
		m.help++
		if m.help > m.helpPages() || k == "esc" {
			m.help = 0
		}
		return nil
	case k == "?":
		m.help = 1
		return nil
	case k == "esc" && m.busy != nil:
		m.busy.cancel()
		m.say("Stopping …")
		return nil
	case k == "q":
		return tea.Quit
	}
	return m.top().key(k)
}

func words(changes []lineup.Change) string {
	list := make([]string, len(changes))
	for i, c := range changes {
		list[i] = c.String()
	}
	return strings.Join(list, ", then ")
}
