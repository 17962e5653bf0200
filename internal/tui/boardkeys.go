package tui

import (
	"cmp"
	"slices"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	found "initium/internal/core/remedy"
	"initium/internal/core/survey"
	"initium/internal/host"
)

// What a board asks for.
type (
	lookMsg struct {
		look         *app.Look
		last, proved *proof.Proof
		mends        map[string][]found.Remedy
		notes        []string
		err          error
	}
	stagedMsg struct {
		said string
		err  error
	}
	judgedMsg struct{ starts int } // that nobody had looked at
)

// newBoard is the board of a server.
func newBoard(m *model, name string) *board {
	b := &board{name: name}
	b.desk = m.desk(b)
	return b
}

func (b *board) shown() tea.Cmd { return tea.Batch(b.reload(), b.judgeLate()) }

func (b *board) again() tea.Cmd {
	if b.stuck {
		return nil
	}
	return b.shown()
}

// judgeLate judges starts that nobody has looked at, such as one after a crash.
func (b *board) judgeLate() tea.Cmd {
	if b.judging {
		return nil
	}
	b.judging = true
	name := b.name
	return b.ask(func() tea.Msg {
		n, _ := b.app.CatchUp(b.ctx, name) // the ledger says why that cannot be done
		return judgedMsg{n}
	})
}

// reload looks at the server anew. While one look is under way another waits for it, and
// one only.
func (b *board) reload() tea.Cmd {
	if b.looking {
		b.stale = true
		return nil
	}
	b.looking = true
	name := b.name
	return b.ask(func() tea.Msg {
		look, err := b.app.LookAhead(name)
		if err != nil {
			return lookMsg{err: err}
		}
		last, proved, err := b.app.LastStart(name)
		if err != nil {
			return lookMsg{err: err}
		}
		mends, err := b.app.Remedies(look, last, proved)
		return lookMsg{look, last, proved, mends, b.app.Notes(), err}
	})
}

func (b *board) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case lookMsg:
		b.looking = false
		if msg.err != nil {
			b.complain(msg.err)
		} else {
			b.set(msg.look, msg.last, msg.proved, msg.mends)
		}
		for _, note := range msg.notes {
			b.say("%s.", clean(note))
		}
		if b.stale {
			b.stale = false
			return b.reload()
		}
		if !b.stuck {
			return b.catchUp()
		}
	case judgedMsg:
		b.judging = false
		if msg.starts > 0 {
			return b.reload()
		}
	case stagedMsg:
		if msg.err != nil {
			b.complain(msg.err)
		} else {
			b.say("%s", msg.said)
		}
		return b.reload()
	case removalMsg:
		return b.showRemoval(msg)
	case backupMsg:
		msg.say(b.desk)
	case stoppedMsg:
		return b.hasStopped(msg)
	case typedMsg:
		if msg.err != nil {
			b.complain(msg.err)
		}
	}
	return nil
}

// close lets go of what watches the server; that goes on.
func (b *board) close() {
	if b.watching != nil {
		b.watching.unwatch()
	}
}

func (b *board) draw(c *canvas, y, h int) {
	if b.look == nil {
		c.put(2, y, "looking at the server …", inkDim)
		return
	}
	b.drawRows(c, y, b.boardHeight())
	c.rule(y + b.boardHeight())
	b.drawStory(c, y+b.boardHeight()+1, b.storyHeight())
}

func (b *board) wheel(by int) {
	if b.look != nil {
		b.step(by)
	}
}

func (b *board) click(x, line int) tea.Cmd {
	h := b.boardHeight() - 1
	switch {
	case b.look == nil || line < 1 || line > h:
	case b.overview(h) && x >= b.w-overviewWidth:
		b.jumpTo(line-1, h)
	default:
		b.choose(line - 1)
	}
	return nil
}

func (b *board) key(k string) tea.Cmd {
	if k == "esc" {
		return b.desk.back()
	}
	if b.look == nil {
		return nil
	}
	if b.moves(k) {
		return nil
	}
	if b.owed && len(b.ahead) < maxAhead {
		b.ahead = append(b.ahead, k)
	}
	if b.stuck || b.owed {
		return nil
	}
	switch k {
	case "s":
		return b.start()
	case "S":
		return b.startAnew()
	case "X":
		if !b.look.Running {
			b.say("The server does not run.")
			return nil
		}
		return b.stop(false)
	case "l":
		if b.look.Running {
			return b.watch()
		}
	case "c":
		return b.askConsole()
	case "m", "1", "2", "3", "4", "5", "6", "7", "8", "9":
		return b.mend(k)
	case "o", "a", "x":
		return b.toggle(k)
	case "shift+up", "K":
		return b.moveRow(-1)
	case "shift+down", "J":
		return b.moveRow(1)
	case "h":
		return b.newSection()
	case "H":
		return b.renameSection()
	case "[":
		return b.moveSection(-1)
	case "]":
		return b.moveSection(1)
	case "p":
		if len(b.look.Staged) == 0 {
			b.say("Nothing is staged. o, a, x and Shift with ↑ ↓ stage changes.")
			return nil
		}
		return b.showPlan()
	case "u":
		if len(b.look.Staged) > 0 {
			return b.unstage()
		}
		return b.goBackTo(app.ReturnLast)
	case "d":
		return b.takeOut()
	case "b":
		return backUp(b.desk, b.name)
	case "w":
		return b.writeRule()
	case "A":
		return b.acceptFinding()
	}
	if i := slices.IndexFunc(b.doors, func(d door) bool { return d.key == k }); i >= 0 {
		return b.doors[i].open(b)
	}
	return nil
}

func (b *board) seen() *app.Look { return b.look }

func (b *board) lastStart() *proof.Proof { return b.last }

func (b *board) pick() (*survey.Mod, *proof.Mod) { return b.row().mod, b.row().outcome }

// moves carries out keys that only move about on the board; it tells whether the key was
// one.
func (b *board) moves(k string) bool {
	switch k {
	case "up", "k":
		b.step(-1)
	case "down", "j":
		b.step(1)
	case "pgup":
		b.step(-b.bodyHeight() / 2)
	case "pgdown":
		b.step(b.bodyHeight() / 2)
	case "home":
		b.step(-len(b.rows))
	case "end":
		b.step(len(b.rows))
	case "t":
		b.trouble(1)
	case "T":
		b.trouble(-1)
	case "tab":
		b.fold(false)
	case "shift+tab":
		b.fold(true)
	case "f":
		b.nextFilter()
	case "/":
		b.findMod()
	case "left":
		b.notice, b.bad = b.jump(false), false
	case "right":
		b.notice, b.bad = b.jump(true), false
	case "backspace":
		b.goBack()
	default:
		return false
	}
	return true
}

// maxAhead bounds how many keys are kept that were typed ahead.
const maxAhead = 32

// catchUp carries out the keys that were typed while a change was not seen yet: they were
// meant for what is shown now. Those after one that changes something wait again.
func (b *board) catchUp() tea.Cmd {
	b.owed = false
	var cmds []tea.Cmd
	for len(b.ahead) > 0 && !b.owed && b.prompt == nil && b.top() == screen(b) {
		k := b.ahead[0]
		b.ahead = b.ahead[1:]
		cmds = append(cmds, b.key(k))
	}
	if !b.owed {
		b.ahead = nil
	}
	return tea.Batch(cmds...)
}

// alter is a wish after which the board shows something else.
func (b *board) alter(work func() tea.Msg) tea.Cmd {
	b.owed = true
	return b.wish(work)
}

// stage gathers changes; they are written when the plan is.
func (b *board) stage(changes ...lineup.Change) tea.Cmd {
	name := b.name
	return b.alter(func() tea.Msg {
		_, err := b.app.Stage(b.ctx, name, changes...)
		return stagedMsg{"Staged: " + words(changes) + ". p shows the plan, u takes it back.", err}
	})
}

// unstage takes the last staged change back.
func (b *board) unstage() tea.Cmd {
	name := b.name
	return b.alter(func() tea.Msg {
		return stagedMsg{"The last staged change is taken back.", b.app.Unstage(name, false)}
	})
}

// mendNow stages a remedy and shows the plan of all that is staged.
func (b *board) mendNow(changes []lineup.Change) tea.Cmd {
	return b.wish(planned(b.desk, b.name, changes...))
}

// showPlan shows the plan of all that is staged.
func (b *board) showPlan() tea.Cmd { return b.wish(planned(b.desk, b.name)) }

func (b *board) goBackTo(to int) tea.Cmd { return b.wish(returned(b.desk, b.name, to)) }

// start begins a start and watches it.
func (b *board) start() tea.Cmd {
	if b.look.Running {
		b.say("The server runs; l watches it, S stops it and starts it again.")
		return nil
	}
	return b.watchAnew(true)
}

// startAnew stops the server, if it runs, and starts it again.
func (b *board) startAnew() tea.Cmd {
	if b.stuck || b.look == nil {
		return nil
	}
	if !b.look.Running && (b.watching == nil || b.watching.down()) {
		return b.start()
	}
	return b.stop(true)
}

// watch watches the server that runs.
func (b *board) watch() tea.Cmd {
	if b.watching != nil && !b.watching.down() {
		return b.enter(b.watching)
	}
	return b.watchAnew(false)
}

// watchAnew begins to watch the server; begin tells that a start is begun too.
func (b *board) watchAnew(begin bool) tea.Cmd {
	if b.watching != nil {
		b.watching.unwatch()
	}
	var names []string
	for _, r := range b.all {
		if r.mod != nil && r.mod.Listed {
			names = append(names, clean(r.mod.Name))
		}
	}
	b.watching = newWatch(b.model, b, &b.look.Server.Record, cmp.Or(b.proved, b.last), names, begin)
	return tea.Batch(b.enter(b.watching), b.watching.next(), b.watching.knownTrouble(b.look))
}

// stop stops the server; anew tells that it is started again then.
func (b *board) stop(anew bool) tea.Cmd {
	b.say("Stopping the server …")
	name := b.name
	return b.wish(func() tea.Msg {
		exit, err := b.app.Stop(b.ctx, name)
		return stoppedMsg{exit, anew, err}
	})
}

func (b *board) hasStopped(msg stoppedMsg) tea.Cmd {
	switch {
	case msg.err != nil:
		b.complain(msg.err)
	case msg.exit.How == host.EndedKill:
		b.say("The server did not stop when it was asked, and was ended by force.")
	default:
		b.say("The server has stopped.")
	}
	if msg.anew && msg.err == nil {
		return b.watchAnew(true)
	}
	return b.reload()
}

// moveRow stages a move of the selected mod by one row. At the edge of a section
// it moves into the next one.
func (b *board) moveRow(by int) tea.Cmd {
	c, ok := b.moveBy(by)
	if !ok {
		return nil
	}
	return b.stage(c)
}

// mend plans a remedy of the selected row: the first, or the one with a number.
func (b *board) mend(k string) tea.Cmd {
	n := 0
	if k != "m" {
		n = int(k[0] - '1')
	}
	fixes := b.fixes()
	if n >= len(fixes) {
		if len(fixes) == 0 {
			b.say("There is no remedy for this row that Initium could carry out; t goes to the next trouble.")
		}
		return nil
	}
	if fixes[n].back {
		return b.goBackTo(app.ReturnProved)
	}
	return b.mendNow(fixes[n].changes)
}

// toggle stages to switch the selected mod on or off, to add it, or to take its
// registration out.
func (b *board) toggle(k string) tea.Cmd {
	mod := b.mod()
	if mod == nil {
		return nil
	}
	c := lineup.Change{Op: lineup.OpOff, Mod: mod.Name}
	switch {
	case !mod.Registered && k == "a":
		c.Op = lineup.OpRegister
	case !mod.Registered || k == "a":
		return nil
	case k == "x":
		c.Op = lineup.OpUnregister
	case !mod.On:
		c.Op = lineup.OpOn
	}
	return b.stage(c)
}

// askConsole asks for a line to be typed on the server's console.
func (b *board) askConsole() tea.Cmd {
	if !b.look.Running {
		b.say("The server does not run; s starts it.")
		return nil
	}
	return console(b.desk, b.name, func() {})
}

func (b *board) help() []helpList {
	return []helpList{
		{"The board: from what is declared to what is proved", boardHelp},
		{"From the board to", b.doorHelp()},
		{"What the shapes say", shapeHelp},
	}
}

// keys are those of the board that matter for the selected row.
func (b *board) keys() []keyHelp {
	keys := []keyHelp{{"↑ ↓", "choose"}}
	if b.row().hidden > 0 {
		keys = append(keys, keyHelp{"Tab", "unfold"})
	}
	if b.look != nil && len(b.look.Staged) > 0 {
		keys = append(keys, keyHelp{"p", "plan"}, keyHelp{"u", "take back"})
	}
	if len(b.fixes()) > 0 {
		keys = append(keys, keyHelp{"m", "mend"})
	}
	if b.look != nil && b.look.Running {
		keys = append(keys, keyHelp{"l", "watch"}, keyHelp{"X", "stop"}, keyHelp{"S", "start anew"})
	} else {
		keys = append(keys, keyHelp{"s", "start and prove"})
	}
	if m := b.mod(); m != nil {
		switch {
		case !m.Registered:
			keys = append(keys, keyHelp{"a", "add"})
		case m.On:
			keys = append(keys, keyHelp{"o", "off"})
		default:
			keys = append(keys, keyHelp{"o", "on"})
		}
	}
	keys = append(append(keys, b.doorKeys(true)...), keyHelp{"/", "find"}, keyHelp{"f", "show only"}, keyHelp{"← →", "follow needs"}, keyHelp{"Tab", "fold"})
	if b.look != nil && b.look.Survey.Dialect.Order == dialect.OrderListed {
		keys = append(keys, keyHelp{"⇧↑ ⇧↓", "move"})
	}
	keys = append(keys, keyHelp{"x", "unregister"}, keyHelp{"d", "take out"}, keyHelp{"t", "next trouble"})
	return append(append(keys, b.doorKeys(false)...), keyHelp{"Esc", "servers"})
}

// boardHelp are the keys of the board.
var boardHelp = []keyHelp{
	{"t T", "go to the next trouble; to the one before"},
	{"/", "find a mod as you type; ↑ ↓ go through all that fit"},
	{"← →", "go to what the mod needs; to what needs it"},
	{"Bksp", "back to where a jump began"},
	{"Tab", "fold the section; ⇧Tab folds all"},
	{"f", "show only some rows: in trouble, failed, silent, …"},
	{"m", "plan the first remedy; 1 to 9 another"},
	{"o", "switch the mod off or on"},
	{"a", "add a mod that is there and not registered"},
	{"x", "take the mod's registration out"},
	{"⇧↑ ⇧↓", "move the mod; K and J do the same"},
	{"d", "take the mod out, files and all"},
	{"b", "back the world up"},
	{"w", "write down a rule about the mod"},
	{"A", "accept a finding as it is, with the reason"},
	{"h H", "begin a section at this row; rename its section"},
	{"[ ]", "move the row's section up or down, whole"},
	{"p", "the plan of all staged changes, to write it"},
	{"u", "take the last staged change back, or the last entry"},
	{"s", "start the server and prove it"},
	{"X S", "stop the server that runs; start it anew"},
	{"c", "type a line on the console of the server that runs"},
}
