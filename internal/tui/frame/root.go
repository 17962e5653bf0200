// Package frame is what all screens stand in: the stack that they lie on, the head, the
// foot, the help, the line that is typed, and work that goes on beside them. It knows none
// of them.
package frame

import (
	"context"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/tui/canvas"
)

// Model is the root: it keeps the stack of screens, and gives each of them what it
// asked for.
type Model struct {
	Ctx     context.Context
	App     *app.App
	palette *canvas.Palette
	W, h    int

	stack []Screen       // the last is shown
	desks map[int]*Desk  // of every screen that still takes answers, by its number
	kept  map[kind]*Desk // of those that go on when they are not shown
	made  int            // screens so far
	work  sync.WaitGroup // what goes on beside the screen, and has to end before it

	busy    *Busy   // work that takes a while, or nil
	Prompt  *Prompt // what is being typed, or nil
	typed   map[string][]string
	Sources string // the folder that something was taken in from last
	Doors   []Door // what a board leads to
	help    int    // the page of help that is shown, from 1; 0 for none
	Notice  string
	Bad     bool // the notice is about something that went wrong
}

// New is a root without a screen yet; a board in it leads through the doors.
func New(ctx context.Context, a *app.App, doors []Door) *Model {
	return &Model{Ctx: ctx, App: a, Doors: doors, palette: canvas.NewPalette(canvas.GroundOf(os.Getenv)), W: 80, h: 24, desks: map[int]*Desk{}, kept: map[kind]*Desk{}, typed: map[string][]string{}}
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
		p     *Prompt
		typed string
		list  []string
		told  map[string]string // something about some of them
	}
)

// lookEvery is how often what is shown is looked at anew, for what others change.
const lookEvery = 3 * time.Second

// Init begins by asking for the terminal's background, and looks at what is shown.
func (m *Model) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, m.show(), again())
}

func again() tea.Cmd { return tea.Tick(lookEvery, func(time.Time) tea.Msg { return againMsg{} }) }

// Top is the screen that is shown.
func (m *Model) Top() Screen { return m.stack[len(m.stack)-1] }

// Open puts a screen on top; it is asked for what it wants by show.
func (m *Model) Open(s Screen) { m.stack = append(m.stack, s) }

// show lets the screen on top ask for what it wants to know.
func (m *Model) show() tea.Cmd {
	if s, ok := m.Top().(lively); ok {
		return s.Shown()
	}
	return nil
}

// leave takes screens off until one of which want holds is on top, the lowest at the
// latest. What is left for good takes no more answers.
func (m *Model) leave(want func(Screen) bool) tea.Cmd {
	for len(m.stack) > 1 && !want(m.Top()) {
		s := m.Top()
		m.stack = m.stack[:len(m.stack)-1]
		m.drop(s)
	}
	return m.show()
}

// drop forgets a screen, unless it goes on when it is not shown.
func (m *Model) drop(s Screen) {
	d := s.Place()
	if d == nil || slices.ContainsFunc(m.stack, func(other Screen) bool { return other == s }) {
		return
	}
	for _, kept := range m.kept {
		if kept == d {
			return
		}
	}
	delete(m.desks, d.id)
	s.Close()
}

// base is what the server is known by that the screens are about, or nil.
func (m *Model) base() base {
	for _, s := range slices.Backward(m.stack) {
		if g, ok := s.(base); ok {
			return g
		}
	}
	return nil
}

// Say puts words on the foot.
func (m *Model) Say(format string, args ...any) {
	m.Notice, m.Bad = fmt.Sprintf(format, args...), false
}

// Complain puts on the foot what went wrong.
func (m *Model) Complain(err error) { m.Notice, m.Bad = canvas.Clean(err.Error()), true }

// Update takes one message.
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.W, m.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		if canvas.GroundOf(os.Getenv) == canvas.GroundUnknown {
			m.palette = canvas.NewPalette(map[bool]canvas.Ground{true: canvas.GroundDark, false: canvas.GroundLight}[msg.IsDark()])
		}
	case tea.PasteMsg:
		if m.Prompt != nil {
			return m, m.Prompt.paste(m, msg)
		}
	case tea.KeyPressMsg:
		if m.Prompt != nil && msg.String() != "ctrl+c" {
			return m, m.Prompt.key(m, msg)
		}
		return m, m.press(msg.String())
	case tea.MouseClickMsg:
		if s, ok := m.Top().(pointed); ok && m.help == 0 && m.Prompt == nil {
			return m, s.Click(msg.Mouse().X, msg.Mouse().Y-HeadHeight)
		}
	case tea.MouseWheelMsg:
		by := 3
		if msg.Mouse().Button == tea.MouseWheelUp {
			by = -3
		}
		if s, ok := m.Top().(wheeled); ok && m.help == 0 {
			s.Wheel(by)
		}
	case againMsg:
		if s, ok := m.Top().(lively); ok && m.Prompt == nil {
			return m, tea.Batch(s.Again(), again())
		}
		return m, again()
	case beatMsg:
		return m, m.beat()
	case pathsMsg:
		if msg.p == m.Prompt {
			m.Prompt.found(msg)
		}
	case answerMsg:
		return m, m.answer(msg)
	}
	return m, nil
}

// answer hands to a screen what it asked for. One that is closed by then gets nothing.
func (m *Model) answer(msg answerMsg) tea.Cmd {
	d := m.desks[msg.to]
	if d == nil {
		return nil
	}
	if msg.wish {
		d.Stuck = false
		if m.busy != nil && m.busy.of == d {
			m.busy = nil
		}
	}
	if o, ok := msg.msg.(opening); ok {
		return o.Open(d)
	}
	return d.Screen.Update(msg.msg)
}

// press carries a key press out that every screen has in common, or hands it on.
func (m *Model) press(k string) tea.Cmd {
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
		m.Say("Stopping …")
		return nil
	case k == "q":
		return tea.Quit
	}
	return m.Top().Key(k)
}
