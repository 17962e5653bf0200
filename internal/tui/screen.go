package tui

import (
	"context"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
)

// screen is one of the pictures that the operator works with.
type screen interface {
	update(msg tea.Msg) tea.Cmd // takes what it asked for by its desk
	key(k string) tea.Cmd
	draw(c *canvas, y, h int)
	keys() []keyHelp  // that matter now, the most important first; ? and q are added
	help() []helpList // all of them
	place() *desk
	close() // it is not shown any more, and nothing will be answered
}

// What only some screens do.
type (
	// lively screens look at something that others change too.
	lively interface {
		shown() tea.Cmd // it has come into sight, perhaps again
		again() tea.Cmd // it is in sight for a while
	}
	wheeled interface{ wheel(by int) }
	pointed interface{ click(x, line int) tea.Cmd }
	// titled screens are about no server, and have a head of their own.
	titled interface{ title(c *canvas) }
	// A base is what a server is known by while screens about it lie above: it draws the
	// head of them all, and is what a change that was made comes back to.
	base interface {
		server() string
		head(c *canvas, starting bool) // starting tells that a start is being watched
	}
	// starting screens show a start that is under way, or not any more.
	starting interface{ underWay() bool }
	// An opening is an answer that opens a screen above the one that asked for it, or says
	// why it cannot.
	opening interface{ open(d *desk) tea.Cmd }
)

// keyHelp is a key, and what it does here.
type keyHelp [2]string

// helpList is a part of the help, with a title.
type helpList struct {
	title string
	keys  []keyHelp
}

// desk is what a screen has of the root. Whatever a screen asks for comes back to its
// own desk, so that a late answer never lands on another.
type desk struct {
	*model
	id     int
	screen screen
	stuck  bool // a wish is being carried out; keys that begin another wait
}

func (m *model) desk(s screen) *desk {
	m.made++
	d := &desk{model: m, id: m.made, screen: s}
	m.desks[d.id] = d
	return d
}

func (d *desk) place() *desk { return d }

// close is what most screens have to do when they are left: nothing.
func (d *desk) close() {}

// ask lets work find something out beside the screen.
func (d *desk) ask(work func() tea.Msg) tea.Cmd {
	id := d.id
	return func() tea.Msg {
		if msg := work(); msg != nil {
			return answerMsg{to: id, msg: msg}
		}
		return nil
	}
}

// wish lets work carry out what the operator wants; until it is done no other wish is
// begun.
func (d *desk) wish(work func() tea.Msg) tea.Cmd {
	id := d.id
	d.stuck = true
	return func() tea.Msg { return answerMsg{to: id, wish: true, msg: work()} }
}

// begin is a wish that takes a while and can be stopped; the context it is given ends
// when the operator stops it.
func (d *desk) begin(what string, work func(ctx context.Context, b *busy) tea.Msg) tea.Cmd {
	ctx, cancel := context.WithCancel(d.ctx)
	b := &busy{of: d, began: time.Now(), cancel: cancel, line: what}
	d.busy = b
	return tea.Batch(tea.Tick(moment, func(time.Time) tea.Msg { return beatMsg{} }), d.wish(func() tea.Msg {
		defer cancel()
		return work(ctx, b)
	}))
}

// enter opens a screen above this one.
func (d *desk) enter(s screen) tea.Cmd {
	d.notice = ""
	d.open(s)
	return d.show()
}

// back leaves this screen.
func (d *desk) back() tea.Cmd {
	d.notice, d.bad = "", false
	return d.leave(func(s screen) bool { return s != d.screen })
}

// backToBase leaves all that lies above what the server is known by.
func (d *desk) backToBase() tea.Cmd {
	d.notice, d.bad = "", false
	return d.leave(func(s screen) bool { _, ok := s.(base); return ok })
}

// kind names what goes on when it is not shown: one of each for a server.
type kind struct{ what, server string }

// keepOpen lets this screen go on when it is left.
func (d *desk) keepOpen(what, server string) { d.kept[kind{what, server}] = d }

// forget ends that.
func (d *desk) forget(what, server string) {
	if k := (kind{what, server}); d.kept[k] == d {
		delete(d.kept, k)
		d.drop(d.screen)
	}
}

// beside runs what goes on beside the screen until ctx ends or it is done; the program
// waits for it.
func (m *model) beside(run func()) {
	m.work.Add(1)
	go func() {
		defer m.work.Done()
		run()
	}()
}

// stream hands on what comes bit by bit, all that has gathered at once.
type stream[T any] struct {
	mu    sync.Mutex
	items []T
	ended bool
	ring  chan struct{}
}

func newStream[T any]() *stream[T] { return &stream[T]{ring: make(chan struct{}, 1)} }

// put adds an item; it never waits.
func (s *stream[T]) put(item T) {
	s.mu.Lock()
	s.items = append(s.items, item)
	s.mu.Unlock()
	s.wake()
}

// end says that nothing more comes.
func (s *stream[T]) end() {
	s.mu.Lock()
	s.ended = true
	s.mu.Unlock()
	s.wake()
}

func (s *stream[T]) wake() {
	select {
	case s.ring <- struct{}{}:
	default:
	}
}

// next waits for items; ended tells that these are the last.
func (s *stream[T]) next(ctx context.Context) (items []T, ended bool) {
	select {
	case <-s.ring:
	case <-ctx.Done():
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	items, s.items = s.items, nil
	return items, s.ended || ctx.Err() != nil
}

// moved is how far a key moves a picture of so many lines, 0 for another key.
func (d *desk) moved(k string, lines int) int {
	half := max(d.bodyHeight()/2, 1)
	return map[string]int{"up": -1, "k": -1, "down": 1, "j": 1, "pgup": -half, "pgdown": half, "home": -lines, "end": lines}[k]
}
