package tui

import (
	"context"
	"os"
	"os/exec"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/proof"
)

// watchHelp are the keys of the watch besides those of every log.
var watchHelp = []keyHelp{
	{"Tab", "choose among the mods, or scroll the log"},
	{"c", "type a line on the server's console"},
	{"L", "load the chosen mod anew, where the server can"},
	{"R", "start the server again after a crash, or not"},
	{"X", "stop the server: politely, then patiently, then by force"},
	{"e", "open the files that mods made at their first start"},
	{"O", "take the file that grows for the server's log"},
	{"s S", "start it once it has stopped; stop it and start it again"},
	{"Esc", "to the board; the server goes on"},
}

func (w *watch) help() []helpList {
	return []helpList{{"A start as it happens, and the server that runs after it", watchHelp}, {"In every log", logHelp}, {"What the shapes say", shapeHelp}}
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

func (w *watch) key(k string) tea.Cmd {
	h := w.logHeight()
	if by := w.moved(k, len(w.names)); w.inMods && by != 0 {
		w.chosen = min(max(w.chosen+by, 0), max(len(w.names)-1, 0))
		if w.log.filter == logMod {
			w.log.show(logMod, w.mod(), h)
		}
		return nil
	}
	if w.log.key(w.desk, k, w.mod(), h) {
		return nil
	}
	switch k {
	case "tab":
		w.inMods = !w.inMods
	case "D":
		return openTeach(w.desk, w.server, w.log.mark)
	case "c":
		return w.askConsole()
	case "L":
		return w.loadAnew(w.mod())
	case "R":
		return w.toggleGuard()
	case "X":
		return w.stop(false)
	case "s":
		if w.down() {
			return tea.Batch(w.desk.back(), w.owner.watchAnew(true))
		}
		w.say("The server runs; S stops it and starts it again.")
	case "S":
		if w.down() {
			return tea.Batch(w.desk.back(), w.owner.watchAnew(true))
		}
		return w.stop(true)
	case "e":
		return w.openMade()
	case "O":
		return w.ownLog()
	case "esc", "enter":
		return w.desk.back()
	}
	return nil
}

// stop stops the server; anew tells that it is started again then.
func (w *watch) stop(anew bool) tea.Cmd {
	if w.down() || w.stopping || w.stuck {
		return nil
	}
	w.stopping = true
	w.say("Stopping the server …")
	name := w.server
	return w.wish(func() tea.Msg {
		exit, err := w.app.Stop(w.ctx, name)
		return stoppedMsg{exit, anew, err}
	})
}

func (w *watch) wheel(by int) { w.log.scroll(by, w.logHeight()) }

func (w *watch) keys() []keyHelp {
	keys := []keyHelp{{"↑ ↓", "scroll"}}
	if w.inMods {
		keys = []keyHelp{{"↑ ↓", "choose a mod"}, {"Tab", "the log"}}
	}
	switch {
	case w.err != nil:
		return []keyHelp{{"Esc", "to the board"}}
	case w.down():
		if w.result != nil && len(w.result.Made) > 0 {
			keys = append(keys, keyHelp{"e", "open what was made"})
		}
		keys = append(keys, keyHelp{"s", "start again"})
	default:
		keys = append(keys, keyHelp{"X", "stop the server"}, keyHelp{"S", "start anew"}, keyHelp{"c", "console"})
	}
	if w.elsewhere() != "" {
		keys = append(keys, keyHelp{"O", "that is its log"})
	}
	keys = append(keys, keyHelp{"Esc", "to the board"}, keyHelp{"t", "next trouble"}, keyHelp{"/", "find"}, keyHelp{"f", "show only"})
	if !w.inMods {
		keys = append(keys, keyHelp{"Tab", "the mods"})
	} else {
		keys = append(keys, keyHelp{"L", "load anew"})
	}
	return append(keys, keyHelp{"R", "restart after a crash"})
}

// elsewhere is the file that grows while the server prints nothing, "" for none.
func (w *watch) elsewhere() string {
	if len(w.log.lines) > 0 {
		return ""
	}
	return w.step.Elsewhere
}

// ownLog has the file that grows followed as the server's log, from the next start on.
func (w *watch) ownLog() tea.Cmd {
	name, file := w.server, w.elsewhere()
	if file == "" {
		return nil
	}
	return w.ask(func() tea.Msg {
		written, err := w.app.OwnLog(name, file)
		return ownedMsg{clean(written), err}
	})
}

type ownedMsg struct {
	file string
	err  error
}

// logHeight is how many lines of the log can be seen.
func (w *watch) logHeight() int { return max(w.bodyHeight()-watchHead, 1) }

// knownTrouble reads what the last proved start said of trouble.
func (w *watch) knownTrouble(look *app.Look) tea.Cmd {
	return w.ask(func() tea.Msg {
		known, err := w.app.KnownTrouble(look, w.app.Current(w.server))
		if err != nil || known == nil {
			return nil // what is new is then not told apart
		}
		return knownMsg{known}
	})
}

// askConsole asks for a line to be typed on the server's console.
func (w *watch) askConsole() tea.Cmd {
	if w.down() {
		w.say("The server does not run; s starts it.")
		return nil
	}
	return console(w.desk, w.server, func() {
		w.log.mark = 0
		w.log.scroll(len(w.log.shown), w.logHeight())
	})
}

// loadAnew has the server load one mod anew.
func (w *watch) loadAnew(mod string) tea.Cmd {
	if mod == "" {
		w.say("Tab goes to the mods; choose the one that is to be loaded anew.")
		return nil
	}
	w.say("Loading %s anew …", mod)
	name := w.server
	return w.ask(func() tea.Msg {
		done, err := w.app.SwitchMod(w.ctx, name, mod, app.SwitchReload)
		return switchedMsg{done, err}
	})
}

type switchedMsg struct {
	mod *proof.Mod
	err error
}

// toggleGuard switches restarts after a crash on or off.
func (w *watch) toggleGuard() tea.Cmd {
	name, times := w.server, usualGuard
	if w.guard > 0 {
		times = 0
	}
	w.guard = times
	if times > 0 {
		w.say("After a crash the server is started again, with growing pauses, at most %d times in a row.", times)
	} else {
		w.say("After a crash the server stays down.")
	}
	return w.ask(func() tea.Msg { return typedMsg{w.app.Guard(name, times)} })
}

// openMade opens the files that mods have made in the operator's editor.
func (w *watch) openMade() tea.Cmd {
	if w.result == nil || len(w.result.Made) == 0 {
		w.say("No mod made a file of its own at this start, as far as the dialect knows.")
		return nil
	}
	if !w.down() {
		w.say("The server runs, and might write them again; X stops it first.")
		return nil
	}
	editor := os.Getenv("VISUAL")
	if editor == "" {
		editor = os.Getenv("EDITOR")
	}
	if editor == "" {
		w.say("Set EDITOR to the program that you edit with. The first is %s", w.result.Made[0].Path)
		return nil
	}
	words := strings.Fields(editor)
	for _, made := range w.result.Made {
		words = append(words, made.Path)
	}
	id := w.id
	return tea.ExecProcess(exec.CommandContext(context.WithoutCancel(w.ctx), words[0], words[1:]...), func(err error) tea.Msg { return answerMsg{to: id, msg: typedMsg{err}} })
}

// console asks for a line to be typed on a server's console; then is called once it is on
// its way.
func console(d *desk, name string, then func()) tea.Cmd {
	d.prompt = newPrompt("Console: ", "", func(line string) tea.Cmd {
		then()
		return d.ask(func() tea.Msg { return typedMsg{d.app.Type(name, line)} })
	})
	return nil
}
