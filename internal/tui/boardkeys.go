package tui

import (
	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
	found "initium/internal/core/remedy"
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
	stoppedMsg struct {
		exit host.Exit
		anew bool // it is to be started again
		err  error
	}
	backupMsg struct {
		made host.Backup
		err  error
	}
	typedMsg  struct{ err error }
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
	case judgedMsg:
		b.judging = false
		if msg.starts > 0 {
			return b.reload()
		}
	case planMsg:
		return b.openPlan(msg)
	case stagedMsg:
		if msg.err != nil {
			b.complain(msg.err)
		} else {
			b.say("%s", msg.said)
		}
		return b.reload()
	case ledgerMsg:
		if msg.err != nil {
			b.complain(msg.err)
			return nil
		}
		return b.enter(newLedgerView(b, msg.entries))
	case logMsg:
		if msg.err != nil {
			b.complain(msg.err)
			return nil
		}
		return b.enter(newLogScreen(b, msg.log))
	case compareMsg:
		if msg.err != nil {
			b.complain(msg.err)
			return nil
		}
		return b.enter(newCompareView(b.model, b.name, msg.c))
	case insideMsg:
		return b.showInside(msg)
	case removalMsg:
		return b.showRemoval(msg)
	case backupMsg:
		b.sayBackup(msg)
	case stoppedMsg:
		return b.hasStopped(msg)
	case lessonsMsg:
		return b.openLessons(msg)
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
	if b.moves(k) || b.stuck {
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
		return b.openLog()
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
	case "g":
		return b.openLedger()
	case "i":
		return b.askSource()
	case "d":
		return b.takeOut()
	case "b":
		return b.backUp(b.name)
	case "=":
		return b.wish(b.compared(b.name, 0))
	case "C":
		return b.askCulprit()
	case "w":
		return b.writeRule()
	case "A":
		return b.acceptFinding()
	}
	return nil
}

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

// stage gathers changes; they are written when the plan is.
func (b *board) stage(changes ...lineup.Change) tea.Cmd {
	name := b.name
	return b.wish(func() tea.Msg {
		_, err := b.app.Stage(b.ctx, name, changes...)
		return stagedMsg{"Staged: " + words(changes) + ". p shows the plan, u takes it back.", err}
	})
}

// unstage takes the last staged change back.
func (b *board) unstage() tea.Cmd {
	name := b.name
	return b.wish(func() tea.Msg {
		return stagedMsg{"The last staged change is taken back.", b.app.Unstage(name, false)}
	})
}

// planned stages changes and works out the plan of all that is staged.
func (d *desk) planned(name string, changes ...lineup.Change) func() tea.Msg {
	return func() tea.Msg {
		if len(changes) > 0 {
			if _, err := d.app.Stage(d.ctx, name, changes...); err != nil {
				return planMsg{err: err}
			}
		}
		staged, err := d.app.Staged(name)
		if err != nil {
			return planMsg{err: err}
		}
		p, _, err := d.app.Plan(d.ctx, name, staged)
		return planMsg{why: words(staged), plan: p, err: err}
	}
}

// mendNow stages a remedy and shows the plan of all that is staged.
func (b *board) mendNow(changes []lineup.Change) tea.Cmd {
	return b.wish(b.planned(b.name, changes...))
}

// showPlan shows the plan of all that is staged.
func (b *board) showPlan() tea.Cmd { return b.wish(b.planned(b.name)) }

// returned works out the plan of a return to an entry of the ledger.
func (d *desk) returned(name string, to int) func() tea.Msg {
	return func() tea.Msg {
		p, why, err := d.app.ReturnPlan(name, to)
		return planMsg{why: why, plan: p, back: true, err: err}
	}
}

func (b *board) goBackTo(to int) tea.Cmd { return b.wish(b.returned(b.name, to)) }

// openPlan shows a plan above the screen that asked for it.
func (d *desk) openPlan(msg planMsg) tea.Cmd {
	if msg.err != nil {
		d.complain(msg.err)
		return nil
	}
	b := d.boardOf("")
	if msg.plan.Empty() || b == nil || b.look == nil {
		d.say("nothing to change: it is so already")
		return nil
	}
	return d.enter(newPlanView(d.model, b, msg))
}

func (b *board) openLedger() tea.Cmd {
	name := b.name
	return b.wish(func() tea.Msg {
		entries, err := b.app.Ledger(name)
		return ledgerMsg{entries, err}
	})
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

// openLog opens the log of the last start, at the line that the chosen row rests on.
func (b *board) openLog() tea.Cmd {
	if b.last == nil {
		b.say("There is no log yet: the server was never started here.")
		return nil
	}
	look, number, last := b.look, b.last.Number, 0
	if o := b.row().outcome; o != nil && o.Best() != nil {
		last = o.Best().Line + maxLog/2 // what comes long after the line that is shown is left out
	}
	return b.wish(func() tea.Msg {
		known, _ := b.app.KnownTrouble(look, number) // without it, nothing is told to be new
		l := logView{known: known}
		err := b.app.ReadLog(look, number, func(lines []proof.Line) bool {
			l.add(lines)
			return last > 0 && len(lines) > 0 && lines[len(lines)-1].Number > last
		})
		return logMsg{l, err}
	})
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

// sayBackup tells how a backup went.
func (d *desk) sayBackup(msg backupMsg) {
	if msg.err != nil {
		d.complain(msg.err)
		return
	}
	d.say("Backup %d: %s, %s, read again and whole.", msg.made.Number, count(msg.made.Files, "file", "files"), intake.Bytes(msg.made.Bytes))
}

// askConsole asks for a line to be typed on the server's console.
func (b *board) askConsole() tea.Cmd {
	if !b.look.Running {
		b.say("The server does not run; s starts it.")
		return nil
	}
	return b.console(b.name, func() {})
}

// console asks for a line to be typed on a server's console; then is called once it is on
// its way.
func (d *desk) console(name string, then func()) tea.Cmd {
	d.prompt = newPrompt("Console: ", "", func(line string) tea.Cmd {
		then()
		return d.ask(func() tea.Msg { return typedMsg{d.app.Type(name, line)} })
	})
	return nil
}

func (b *board) help() []helpList {
	return []helpList{
		{"The board: from what is declared to what is proved", boardHelp},
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
	keys = append(keys, keyHelp{"i", "take in"}, keyHelp{"/", "find"}, keyHelp{"f", "show only"}, keyHelp{"← →", "follow needs"}, keyHelp{"Tab", "fold"})
	if b.look != nil && b.look.Survey.Dialect.Order == dialect.OrderListed {
		keys = append(keys, keyHelp{"⇧↑ ⇧↓", "move"})
	}
	return append(keys, keyHelp{"x", "unregister"}, keyHelp{"d", "take out"}, keyHelp{"t", "next trouble"}, keyHelp{"g", "ledger"}, keyHelp{"=", "compare"}, keyHelp{"C", "culprit"}, keyHelp{"l", "log"}, keyHelp{"Esc", "servers"})
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
	{"i", "take something in: look inside an archive first"},
	{"d", "take the mod out, files and all"},
	{"b", "back the world up"},
	{"w", "write down a rule about the mod"},
	{"A", "accept a finding as it is, with the reason"},
	{"h H", "begin a section at this row; rename its section"},
	{"[ ]", "move the row's section up or down, whole"},
	{"p", "the plan of all staged changes, to write it"},
	{"u", "take the last staged change back, or the last entry"},
	{"g", "the ledger: what was done; return to any point"},
	{"s", "start the server and prove it"},
	{"X S", "stop the server that runs; start it anew"},
	{"l", "watch the server that runs; else the log of the last start"},
	{"c", "type a line on the console of the server that runs"},
	{"=", "what is other than at the last proved start, or any other"},
	{"C", "search for the mod that breaks the server, on a copy"},
}
