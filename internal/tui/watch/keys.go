package watch

import (
	"context"
	"os"
	"os/exec"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/tui/canvas"
	"initium/internal/tui/expectview"
	"initium/internal/tui/frame"
	"initium/internal/tui/logpane"
	"initium/internal/tui/teachview"
)

// watchHelp are the keys of the watch besides those of every log.
var watchHelp = []frame.Key{
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

func (w *Watch) Help() []frame.Help {
	return []frame.Help{{Title: "A start as it happens, and the server that runs after it", Keys: watchHelp}, {Title: "In every log", Keys: logpane.Help}, {Title: "What the shapes say", Keys: frame.ShapeHelp}}
}

// UsualGuard is how many crashes in a row a server is started again after, when the
// operator wants that.
const usualGuard = 5

func (w *Watch) mod() string {
	if w.inMods && w.chosen < len(w.names) {
		return w.names[w.chosen]
	}
	return ""
}

func (w *Watch) Key(k string) tea.Cmd {
	h := w.logHeight()
	if by := w.Moved(k, len(w.names)); w.inMods && by != 0 {
		w.chosen = min(max(w.chosen+by, 0), max(len(w.names)-1, 0))
		if w.log.Filter == logpane.OfMod {
			w.log.Show(logpane.OfMod, w.mod(), h)
		}
		return nil
	}
	if w.log.Key(w.Desk, k, w.mod(), h) {
		return nil
	}
	if w.host != "" && slices.Contains([]string{"X", "S", "c", "L", "R", "e"}, k) {
		w.Say("The server stands at %s; that is done there.", w.host)
		return nil
	}
	switch k {
	case "tab":
		w.inMods = !w.inMods
	case "D":
		return teachview.Open(w.Desk, w.server, w.log.Mark)
	case "M":
		return expectview.Ask(w.Desk, w.server, w.mod(), w.log.Said())
	case "c":
		return w.askConsole()
	case "L":
		return w.loadAnew(w.mod())
	case "R":
		return w.toggleGuard()
	case "X":
		return w.stop(false)
	case "s":
		if w.Down() {
			return tea.Batch(w.Desk.Back(), w.owner.WatchAnew(true))
		}
		if w.host != "" {
			w.Say("It is watched already.")
			return nil
		}
		w.Say("The server runs; S stops it and starts it again.")
	case "S":
		if w.Down() {
			return tea.Batch(w.Desk.Back(), w.owner.WatchAnew(true))
		}
		return w.stop(true)
	case "e":
		return w.openMade()
	case "O":
		return w.ownLog()
	case "esc", "enter":
		return w.Desk.Back()
	}
	return nil
}

// stop stops the server; anew tells that it is started again then.
func (w *Watch) stop(anew bool) tea.Cmd {
	if w.Down() || w.stopping || w.Stuck {
		return nil
	}
	w.stopping = true
	w.Say("Stopping the server …")
	name := w.server
	return w.Wish(func() tea.Msg {
		exit, err := w.App.Stop(w.Ctx, name)
		return StoppedMsg{exit, anew, err}
	})
}

func (w *Watch) Wheel(by int) { w.log.Scroll(by, w.logHeight()) }

func (w *Watch) Keys() []frame.Key {
	keys := []frame.Key{{"↑ ↓", "scroll"}}
	if w.inMods {
		keys = []frame.Key{{"↑ ↓", "choose a mod"}, {"Tab", "the log"}}
	}
	switch {
	case w.err != nil:
		return []frame.Key{{"Esc", "to the board"}}
	case w.Down():
		if w.result != nil && len(w.result.Made) > 0 && w.host == "" {
			keys = append(keys, frame.Key{"e", "open what was made"})
		}
		again := "start again"
		if w.host != "" {
			again = "watch the next start"
		}
		keys = append(keys, frame.Key{"s", again})
	case w.host != "":
	default:
		keys = append(keys, frame.Key{"X", "stop the server"}, frame.Key{"S", "start anew"}, frame.Key{"c", "console"})
	}
	if w.elsewhere() != "" {
		keys = append(keys, frame.Key{"O", "that is its log"})
	}
	keys = append(keys, frame.Key{"Esc", "to the board"}, frame.Key{"t", "next trouble"}, frame.Key{"/", "find"}, frame.Key{"f", "show only"})
	if !w.inMods {
		keys = append(keys, frame.Key{"Tab", "the mods"})
	} else if w.host == "" {
		keys = append(keys, frame.Key{"L", "load anew"})
	}
	if w.host != "" {
		return keys
	}
	return append(keys, frame.Key{"R", "restart after a crash"})
}

// elsewhere is the file that grows while the server prints nothing, "" for none.
func (w *Watch) elsewhere() string {
	if len(w.log.Lines) > 0 {
		return ""
	}
	return w.step.Elsewhere
}

// ownLog has the file that grows followed as the server's log, from the next start on.
func (w *Watch) ownLog() tea.Cmd {
	name, file := w.server, w.elsewhere()
	if file == "" {
		return nil
	}
	return w.Ask(func() tea.Msg {
		written, err := w.App.OwnLog(name, file)
		return ownedMsg{canvas.Clean(written), err}
	})
}

type ownedMsg struct {
	file string
	err  error
}

// logHeight is how many lines of the log can be seen.
func (w *Watch) logHeight() int { return max(w.BodyHeight()-watchHead, 1) }

// KnownTrouble reads what the last proved start said of trouble.
func (w *Watch) KnownTrouble(look *app.Look) tea.Cmd {
	return w.Ask(func() tea.Msg {
		known, err := w.App.KnownTrouble(look, w.App.Current(w.server))
		if err != nil || known == nil {
			return nil // what is new is then not told apart
		}
		return knownMsg{known}
	})
}

// askConsole asks for a line to be typed on the server's console.
func (w *Watch) askConsole() tea.Cmd {
	if w.Down() {
		w.Say("The server does not run; s starts it.")
		return nil
	}
	return Console(w.Desk, w.server, func() {
		w.log.Mark = 0
		w.log.Scroll(len(w.log.Shown), w.logHeight())
	})
}

// loadAnew has the server load one mod anew.
func (w *Watch) loadAnew(mod string) tea.Cmd {
	if mod == "" {
		w.Say("Tab goes to the mods; choose the one that is to be loaded anew.")
		return nil
	}
	name := w.server
	return w.Begin("loading "+mod+" anew", func(ctx context.Context, _ *frame.Busy) tea.Msg {
		done, err := w.App.SwitchMod(ctx, name, mod, app.SwitchReload)
		return switchedMsg{done, err}
	})
}

type switchedMsg struct {
	mod *proof.Mod
	err error
}

// toggleGuard switches restarts after a crash on or off.
func (w *Watch) toggleGuard() tea.Cmd {
	name, times := w.server, usualGuard
	if w.guard > 0 {
		times = 0
	}
	w.guard = times
	if times > 0 {
		w.Say("After a crash the server is started again, with growing pauses, at most %d times in a row.", times)
	} else {
		w.Say("After a crash the server stays down.")
	}
	return w.Ask(func() tea.Msg { return TypedMsg{w.App.Guard(name, times)} })
}

// openMade opens the files that mods have made in the operator's editor.
func (w *Watch) openMade() tea.Cmd {
	if w.result == nil || len(w.result.Made) == 0 {
		w.Say("No mod made a file of its own at this start, as far as the dialect knows.")
		return nil
	}
	if !w.Down() {
		w.Say("The server runs, and might write them again; X stops it first.")
		return nil
	}
	editor := os.Getenv("VISUAL")
	if editor == "" {
		editor = os.Getenv("EDITOR")
	}
	if editor == "" {
		w.Say("Set EDITOR to the program that you edit with. The first is %s", w.result.Made[0].Path)
		return nil
	}
	words := strings.Fields(editor)
	for _, made := range w.result.Made {
		words = append(words, made.Path)
	}
	program := exec.CommandContext(context.WithoutCancel(w.Ctx), words[0], words[1:]...)
	return w.Lend(program, func(err error) tea.Msg { return TypedMsg{Err: err} })
}

// Console asks for a line to be typed on a server's console; then is called once it is on
// its way.
func Console(d *frame.Desk, name string, then func()) tea.Cmd {
	d.Prompt = frame.NewPrompt("Console: ", "", func(line string) tea.Cmd {
		then()
		return d.Ask(func() tea.Msg { return TypedMsg{d.App.Type(name, line)} })
	})
	return nil
}
