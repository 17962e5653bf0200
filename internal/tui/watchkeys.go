package tui

import (
	"context"
	"os"
	"os/exec"
	"strings"

	tea "charm.land/bubbletea/v2"
)

// watchHelp are the keys of the watch besides those of every log.
var watchHelp = []keyHelp{
	{"Tab", "choose among the mods, or scroll the log"},
	{"c", "type a line on the server's console"},
	{"L", "load the chosen mod anew, where the server can"},
	{"r", "start the server again after a crash, or not"},
	{"x", "stop the server: politely, then patiently, then by force"},
	{"e", "open the files that mods made at their first start"},
	{"o", "take the file that grows for the server's log"},
	{"s S", "start it once it has stopped; stop it and start it again"},
	{"Esc", "to the board; the server goes on"},
}

// usualGuard is how many crashes in a row a server is started again after, when the
// operator wants that.
const usualGuard = 5

func (w *watch) mod() string {
	if w.inMods && w.chosen < len(w.names) {
		return w.names[w.chosen]
	}
	return ""
}

func (m *model) watchKey(k string) tea.Cmd {
	w := m.watch
	h := m.watchHeight()
	if w.inMods {
		by := map[string]int{"up": -1, "k": -1, "down": 1, "j": 1, "pgup": -h / 2, "pgdown": h / 2, "home": -len(w.names), "end": len(w.names)}[k]
		if by != 0 {
			w.chosen = min(max(w.chosen+by, 0), max(len(w.names)-1, 0))
			if w.log.filter == logMod {
				w.log.show(logMod, w.mod(), h)
			}
			return nil
		}
	}
	if m.logKeys(&w.log, k, w.mod(), h) {
		return nil
	}
	switch k {
	case "tab":
		w.inMods = !w.inMods
	case "w":
		return m.openTeach(w.log.mark)
	case "c":
		m.askConsole()
	case "L":
		return m.loadAnew(w.mod())
	case "r":
		return m.toggleGuard()
	case "x":
		if !w.down() && !w.stopping {
			w.stopping = true
			return m.stopServer()
		}
	case "s":
		if w.down() && !m.stuck {
			return m.startServer()
		}
	case "S":
		return m.startAnew()
	case "e":
		return m.openMade()
	case "o":
		return m.ownLog()
	case "enter", "esc":
		m.view, m.notice = viewBoard, ""
		return m.reload()
	case "q":
		return m.close()
	}
	return nil
}

func (w *watch) keys() []keyHelp {
	keys := []keyHelp{{"↑ ↓", "scroll"}}
	if w.inMods {
		keys = []keyHelp{{"↑ ↓", "choose a mod"}, {"Tab", "the log"}}
	}
	switch {
	case w.err != nil:
		return []keyHelp{{"Esc", "to the board"}, {"?", "help"}, {"q", "close"}}
	case w.down():
		if w.result != nil && len(w.result.Made) > 0 {
			keys = append(keys, keyHelp{"e", "open what was made"})
		}
		keys = append(keys, keyHelp{"s", "start again"})
	default:
		keys = append(keys, keyHelp{"x", "stop the server"}, keyHelp{"S", "start anew"}, keyHelp{"c", "console"})
	}
	if w.elsewhere() != "" {
		keys = append(keys, keyHelp{"o", "that is its log"})
	}
	keys = append(keys, keyHelp{"Esc", "to the board"}, keyHelp{"t", "next trouble"}, keyHelp{"/", "find"}, keyHelp{"f", "show only"}, keyHelp{"?", "help"}, keyHelp{"q", "close"})
	if !w.inMods {
		keys = append(keys, keyHelp{"Tab", "the mods"})
	} else {
		keys = append(keys, keyHelp{"L", "load anew"})
	}
	return append(keys, keyHelp{"r", "restart after a crash"})
}

// elsewhere is the file that grows while the server prints nothing, "" for none.
func (w *watch) elsewhere() string {
	if len(w.log.lines) > 0 {
		return ""
	}
	return w.step.Elsewhere
}

// ownLog has the file that grows followed as the server's log, from the next start on.
func (m *model) ownLog() tea.Cmd {
	name, file := m.server, m.watch.elsewhere()
	if file == "" {
		return nil
	}
	return func() tea.Msg {
		written, err := m.app.OwnLog(name, file)
		return ownedMsg{clean(written), err}
	}
}

type ownedMsg struct {
	file string
	err  error
}

// watchHeight is how many lines of the log can be seen.
func (m *model) watchHeight() int { return max(m.bodyHeight()-watchHead, 1) }

// startServer begins a start and watches it.
func (m *model) startServer() tea.Cmd {
	if m.watch != nil {
		m.watch.finish()
	}
	m.notice = ""
	m.watch, m.view = newWatch(m.ctx, m.app, &m.board, true), viewWatch
	return tea.Batch(m.watch.next(), m.knownTrouble(m.watch))
}

// startAnew stops the server, if it runs, and starts it again.
func (m *model) startAnew() tea.Cmd {
	if m.stuck || m.board.look == nil {
		return nil
	}
	watched := m.watch != nil && m.watch.server == m.server && !m.watch.down()
	if !m.board.look.Running && !watched {
		return m.startServer()
	}
	stop := m.stopServer()
	m.anew = true
	return stop
}

// watchServer watches the server that runs.
func (m *model) watchServer() tea.Cmd {
	m.notice = ""
	m.view = viewWatch
	if m.watch != nil && m.watch.server == m.server && !m.watch.down() {
		return nil
	}
	m.watch = newWatch(m.ctx, m.app, &m.board, false)
	return tea.Batch(m.watch.next(), m.knownTrouble(m.watch))
}

type knownMsg struct {
	w     *watch
	known map[string]bool
}

// knownTrouble reads what the last proved start said of trouble.
func (m *model) knownTrouble(w *watch) tea.Cmd {
	look := m.board.look
	return func() tea.Msg {
		known, err := m.app.KnownTrouble(look, m.app.Current(w.server))
		if err != nil || known == nil {
			return nil // what is new is then not told apart
		}
		return knownMsg{w, known}
	}
}

// learn tells new trouble apart, also in what was said before.
func (l *logView) learn(known map[string]bool, alike func(string) string) {
	l.known, l.fresh = known, 0
	for i := range l.lines {
		line := &l.lines[i]
		switch {
		case line.joined && i > 0:
			line.fresh = l.lines[i-1].fresh
		case line.trouble:
			if line.fresh = !known[alike(line.text)]; line.fresh {
				l.fresh++
			}
		}
	}
}

// askConsole asks for a line to be typed on the server's console.
func (m *model) askConsole() {
	w := m.watch
	if w.down() {
		m.say("The server does not run; s starts it.")
		return
	}
	name := w.server
	m.prompt = &prompt{label: "Console: ", done: func(line string) tea.Cmd {
		w.log.mark = 0
		w.log.scroll(len(w.log.shown), m.watchHeight())
		return func() tea.Msg { return typedMsg{m.app.Type(name, line)} }
	}}
}

type typedMsg struct{ err error }

// loadAnew has the server load one mod anew.
func (m *model) loadAnew(mod string) tea.Cmd {
	if mod == "" {
		m.say("Tab goes to the mods; choose the one that is to be loaded anew.")
		return nil
	}
	m.say("Loading %s anew …", mod)
	name := m.server
	return func() tea.Msg {
		done, err := m.app.SwitchMod(m.ctx, name, mod, "reload")
		return switchedMsg{done, err}
	}
}

// toggleGuard switches restarts after a crash on or off.
func (m *model) toggleGuard() tea.Cmd {
	w, name := m.watch, m.server
	times := usualGuard
	if w.guard > 0 {
		times = 0
	}
	w.guard = times
	if times > 0 {
		m.say("After a crash the server is started again, with growing pauses, at most %d times in a row.", times)
	} else {
		m.say("After a crash the server stays down.")
	}
	return func() tea.Msg { return typedMsg{m.app.Guard(name, times)} }
}

// openMade opens the files that mods have made in the operator's editor.
func (m *model) openMade() tea.Cmd {
	w := m.watch
	if w.result == nil || len(w.result.Made) == 0 {
		m.say("No mod made a file of its own at this start, as far as the dialect knows.")
		return nil
	}
	if !w.down() {
		m.say("The server runs, and might write them again; x stops it first.")
		return nil
	}
	editor := os.Getenv("VISUAL")
	if editor == "" {
		editor = os.Getenv("EDITOR")
	}
	if editor == "" {
		m.say("Set EDITOR to the program that you edit with. The first is %s", w.result.Made[0].Path)
		return nil
	}
	words := strings.Fields(editor)
	for _, made := range w.result.Made {
		words = append(words, made.Path)
	}
	return tea.ExecProcess(exec.CommandContext(context.WithoutCancel(m.ctx), words[0], words[1:]...), func(err error) tea.Msg { return typedMsg{err} })
}
