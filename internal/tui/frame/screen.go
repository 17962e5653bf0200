package frame

import (
	"context"
	"os/exec"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"initium/internal/tui/canvas"
)

// Screen is one of the pictures that the operator works with.
type Screen interface {
	Update(msg tea.Msg) tea.Cmd // takes what it asked for by its desk
	Key(k string) tea.Cmd
	Draw(c *canvas.Canvas, y, h int)
	Keys() []Key  // that matter now, the most important first; ? and q are added
	Help() []Help // all of them
	Place() *Desk
	Close() // it is not shown any more, and nothing will be answered
}

// What only some screens do.
type (
	// lively screens look at something that others change too.
	lively interface {
		Shown() tea.Cmd // it has come into sight, perhaps again
		Again() tea.Cmd // it is in sight for a while
	}
	wheeled interface{ Wheel(by int) }
	pointed interface{ Click(x, line int) tea.Cmd }
	// titled screens are about no server, and have a head of their own.
	titled interface{ Title(c *canvas.Canvas) }
	// A base is what a server is known by while screens about it lie above: it draws the
	// head of them all, and is what a change that was made comes back to.
	base interface {
		Server() string
		Head(c *canvas.Canvas, starting bool) // starting tells that a start is being watched
	}
	// starting screens show a start that is under way, or not any more.
	starting interface{ UnderWay() bool }
	// An opening is an answer that opens a screen above the one that asked for it, or says
	// why it cannot.
	opening interface{ Open(d *Desk) tea.Cmd }
)

// Key is a key, and what it does here.
type Key [2]string

// Help is a part of the help, with a title.
type Help struct {
	Title string
	Keys  []Key
}

// Desk is what a screen has of the root. Whatever a screen asks for comes back to its
// own desk, so that a late answer never lands on another.
type Desk struct {
	*Model
	id     int
	Screen Screen
	Stuck  bool // a wish is being carried out; keys that begin another wait
}

// Desk makes the desk of a new screen.
func (m *Model) Desk(s Screen) *Desk {
	m.made++
	d := &Desk{Model: m, id: m.made, Screen: s}
	m.desks[d.id] = d
	return d
}

func (d *Desk) Place() *Desk { return d }

// Close is what most screens have to do when they are left: nothing.
func (d *Desk) Close() {}

// Ask lets work find something out beside the screen.
func (d *Desk) Ask(work func() tea.Msg) tea.Cmd {
	id := d.id
	return func() tea.Msg {
		if msg := work(); msg != nil {
			return answerMsg{to: id, msg: msg}
		}
		return nil
	}
}

// Wish lets work carry out what the operator wants; until it is done no other wish is
// begun.
func (d *Desk) Wish(work func() tea.Msg) tea.Cmd {
	id := d.id
	d.Stuck = true
	return func() tea.Msg { return answerMsg{to: id, wish: true, msg: work()} }
}

// Begin is a wish that takes a while and can be stopped; the context it is given ends
// when the operator stops it.
func (d *Desk) Begin(what string, work func(ctx context.Context, b *Busy) tea.Msg) tea.Cmd {
	ctx, cancel := context.WithCancel(d.Ctx)
	b := &Busy{of: d, began: time.Now(), cancel: cancel, line: what}
	d.busy = b
	return tea.Batch(tea.Tick(moment, func(time.Time) tea.Msg { return beatMsg{} }), d.Wish(func() tea.Msg {
		defer cancel()
		return work(ctx, b)
	}))
}

// Lend leaves the terminal to a program until it ends, and answers with what then says.
func (d *Desk) Lend(program *exec.Cmd, then func(err error) tea.Msg) tea.Cmd {
	id := d.id
	return tea.ExecProcess(program, func(err error) tea.Msg { return answerMsg{to: id, msg: then(err)} })
}

// Enter opens a screen above this one.
func (d *Desk) Enter(s Screen) tea.Cmd {
	d.Notice = ""
	d.Open(s)
	return d.show()
}

// Back leaves this screen.
func (d *Desk) Back() tea.Cmd {
	d.Notice, d.Bad = "", false
	return d.leave(func(s Screen) bool { return s != d.Screen })
}

// InSight tells that this screen is shown.
func (d *Desk) InSight() bool { return d.Top() == d.Screen }

// Lowest tells that no other lies below this screen.
func (d *Desk) Lowest() bool { return d.stack[0] == d.Screen }

// BackToBase leaves all that lies above what the server is known by.
func (d *Desk) BackToBase() tea.Cmd {
	d.Notice, d.Bad = "", false
	return d.leave(func(s Screen) bool { _, ok := s.(base); return ok })
}

// Renew looks anew at what the server is known by, which lies below: it is another one than before.
func (d *Desk) Renew() tea.Cmd {
	for _, s := range d.stack {
		if _, ok := s.(base); !ok {
			continue
		}
		if shown, ok := s.(interface{ Shown() tea.Cmd }); ok {
			return shown.Shown()
		}
	}
	return nil
}

// kind names what goes on when it is not shown: one of each for a server.
type kind struct{ what, server string }

// KeepOpen lets this screen go on when it is left.
func (d *Desk) KeepOpen(what, server string) { d.kept[kind{what, server}] = d }

// Ongoing is the screen that goes on, or nil.
func (d *Desk) Ongoing(what, server string) Screen {
	if kept := d.kept[kind{what, server}]; kept != nil {
		return kept.Screen
	}
	return nil
}

// Forget ends that.
func (d *Desk) Forget(what, server string) {
	if k := (kind{what, server}); d.kept[k] == d {
		delete(d.kept, k)
		d.drop(d.Screen)
	}
}

// Beside runs what goes on beside the screen until ctx ends or it is done; the program
// waits for it.
func (m *Model) Beside(run func()) {
	m.work.Add(1)
	go func() {
		defer m.work.Done()
		run()
	}()
}

// Wait lets all that goes on beside the screen end.
func (m *Model) Wait() { m.work.Wait() }

// Stream hands on what comes bit by bit, all that has gathered at once.
type Stream[T any] struct {
	mu    sync.Mutex
	items []T
	ended bool
	ring  chan struct{}
}

// NewStream is a stream of which nothing has come yet.
func NewStream[T any]() *Stream[T] { return &Stream[T]{ring: make(chan struct{}, 1)} }

// Put adds an item; it never waits.
func (s *Stream[T]) Put(item T) {
	s.mu.Lock()
	s.items = append(s.items, item)
	s.mu.Unlock()
	s.wake()
}

// End says that nothing more comes.
func (s *Stream[T]) End() {
	s.mu.Lock()
	s.ended = true
	s.mu.Unlock()
	s.wake()
}

func (s *Stream[T]) wake() {
	select {
	case s.ring <- struct{}{}:
	default:
	}
}

// Next waits for items; ended tells that these are the last.
func (s *Stream[T]) Next(ctx context.Context) (items []T, ended bool) {
	select {
	case <-s.ring:
	case <-ctx.Done():
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	items, s.items = s.items, nil
	return items, s.ended || ctx.Err() != nil
}

// Moved is how far a key moves a picture of so many lines, 0 for another key.
func (d *Desk) Moved(k string, lines int) int {
	half := max(d.BodyHeight()/2, 1)
	return map[string]int{"up": -1, "k": -1, "down": 1, "j": 1, "pgup": -half, "pgdown": half, "home": -lines, "end": lines}[k]
}
