package board

import (
	"cmp"
	"slices"
	"strings"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	found "initium/internal/core/remedy"
	"initium/internal/core/survey"
	"initium/internal/host"
	"initium/internal/tui/canvas"
	"initium/internal/tui/expectview"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
	"initium/internal/tui/planview"
	"initium/internal/tui/settingsview"
	"initium/internal/tui/watch"
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

// New is the board of a server.
func New(m *frame.Model, name string) *Board {
	b := &Board{name: name}
	b.Desk = m.Desk(b)
	return b
}

func (b *Board) Shown() tea.Cmd { return tea.Batch(b.Reload(), b.judgeLate()) }

func (b *Board) Again() tea.Cmd {
	if b.Stuck {
		return nil
	}
	return b.Shown()
}

// judgeLate judges starts that nobody has looked at, such as one after a crash.
func (b *Board) judgeLate() tea.Cmd {
	if b.judging {
		return nil
	}
	b.judging = true
	name := b.name
	return b.Ask(func() tea.Msg {
		n, _ := b.App.CatchUp(b.Ctx, name) // the ledger says why that cannot be done
		return judgedMsg{n}
	})
}

// Reload looks at the server anew. While one look is under way another waits for it, and
// one only.
func (b *Board) Reload() tea.Cmd {
	if b.looking {
		b.stale = true
		return nil
	}
	b.looking = true
	name := b.name
	return b.Ask(func() tea.Msg {
		look, err := b.App.LookAhead(name)
		if err != nil {
			return lookMsg{err: err}
		}
		last, proved, err := b.App.LastStart(name)
		if err != nil {
			return lookMsg{err: err}
		}
		mends, err := b.App.Remedies(look, last, proved)
		return lookMsg{look, last, proved, mends, b.App.Notes(), err}
	})
}

func (b *Board) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case lookMsg:
		b.looking = false
		if msg.err != nil {
			b.Complain(msg.err)
		} else {
			b.set(msg.look, msg.last, msg.proved, msg.mends)
		}
		for _, note := range msg.notes {
			b.Say("%s.", canvas.Clean(note))
		}
		if b.stale {
			b.stale = false
			return b.Reload()
		}
		if !b.Stuck {
			return b.catchUp()
		}
	case judgedMsg:
		b.judging = false
		if msg.starts > 0 {
			return b.Reload()
		}
	case stagedMsg:
		if msg.err != nil {
			b.Complain(msg.err)
		} else {
			b.Say("%s", msg.said)
		}
		return b.Reload()
	case removalMsg:
		return b.showRemoval(msg)
	case planview.BackupMsg:
		msg.Say(b.Desk)
	case watch.StoppedMsg:
		return b.HasStopped(msg)
	case watch.TypedMsg:
		if msg.Err != nil {
			b.Complain(msg.Err)
		}
	}
	return nil
}

// Close lets go of what watches the server; that goes on.
func (b *Board) Close() {
	if b.watching != nil {
		b.watching.Unwatch()
	}
}

func (b *Board) Draw(c *canvas.Canvas, y, h int) {
	if b.look == nil {
		c.Put(2, y, "looking at the server …", canvas.Dim)
		return
	}
	b.drawRows(c, y, b.BoardHeight())
	c.Rule(y + b.BoardHeight())
	b.drawStory(c, y+b.BoardHeight()+1, b.StoryHeight())
}

func (b *Board) Wheel(by int) {
	if b.look != nil {
		b.step(by)
	}
}

func (b *Board) Click(x, line int) tea.Cmd {
	h := b.BoardHeight() - 1
	switch {
	case b.look == nil || line < 1 || line > h:
	case b.overview(h) && x >= b.W-overviewWidth:
		b.jumpTo(line-1, h)
	default:
		b.choose(line - 1)
	}
	return nil
}

func (b *Board) Key(k string) tea.Cmd {
	if k == "esc" {
		return b.Desk.Back()
	}
	if b.look == nil {
		return nil
	}
	if letter := utf8.RuneCountInString(k) == 1 || k == "space"; letter && b.owed && len(b.ahead) > 0 && len(b.ahead) < maxAhead { // it may be part of a text
		b.ahead = append(b.ahead, k)
		return nil
	}
	if b.moves(k) {
		return nil
	}
	if b.owed && len(b.ahead) < maxAhead {
		b.ahead = append(b.ahead, k)
	}
	if b.Stuck || b.owed {
		return nil
	}
	switch k {
	case "s":
		return b.start()
	case "S":
		return b.startAnew()
	case "X":
		if b.host() != "" {
			b.Say("The server stands at %s; it is stopped there.", b.host())
			return nil
		}
		if !b.look.Running {
			b.Say("The server does not run.")
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
	case "I":
		return b.putInto()
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
			b.Say("Nothing is staged. o, a, x and Shift with ↑ ↓ stage changes.")
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
		return planview.BackUp(b.Desk, b.name)
	case "W":
		return b.renewWorld()
	case "w":
		return b.writeRule()
	case "A":
		return b.acceptFinding()
	case "M":
		name := ""
		if mod := b.mod(); mod != nil {
			name = mod.Name
		}
		return expectview.Ask(b.Desk, b.name, name, "")
	}
	if i := slices.IndexFunc(b.Doors, func(d frame.Door) bool { return d.Key == k }); i >= 0 {
		return b.Doors[i].Open(b)
	}
	return nil
}

func (b *Board) Seen() *app.Look { return b.look }

func (b *Board) LastStart() *proof.Proof { return b.last }

func (b *Board) Pick() (*survey.Mod, *proof.Mod) { return b.current().mod, b.current().outcome }

// moves carries out keys that only move about on the board; it tells whether the key was
// one.
func (b *Board) moves(k string) bool {
	switch k {
	case "up", "k":
		b.step(-1)
	case "down", "j":
		b.step(1)
	case "pgup":
		b.step(-b.BodyHeight() / 2)
	case "pgdown":
		b.step(b.BodyHeight() / 2)
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
		b.Notice, b.Bad = b.jump(false), false
	case "right":
		b.Notice, b.Bad = b.jump(true), false
	case "backspace":
		b.goBack()
	default:
		return false
	}
	return true
}

// MaxAhead bounds how many keys are kept that were typed ahead.
const maxAhead = 32

// catchUp carries out the keys that were typed while a change was not seen yet: they were
// meant for what is shown now. Those after one that changes something wait again.
func (b *Board) catchUp() tea.Cmd {
	b.owed = false
	var cmds []tea.Cmd
	for len(b.ahead) > 0 && !b.owed && b.Prompt == nil && b.InSight() {
		k := b.ahead[0]
		b.ahead = b.ahead[1:]
		cmds = append(cmds, b.Key(k))
	}
	for _, k := range b.ahead {
		if b.Prompt != nil {
			b.Prompt.Type(k)
		}
	}
	if !b.owed || b.Prompt != nil {
		b.ahead = nil
	}
	return tea.Batch(cmds...)
}

// alter is a wish after which the board shows something else.
func (b *Board) alter(work func() tea.Msg) tea.Cmd {
	b.owed = true
	return b.Wish(work)
}

// stage gathers changes; they are written when the plan is.
func (b *Board) stage(changes ...lineup.Change) tea.Cmd {
	name := b.name
	return b.alter(func() tea.Msg {
		_, err := b.App.Stage(b.Ctx, name, changes...)
		return stagedMsg{"Staged: " + marks.Words(changes) + ". p shows the plan, u takes it back.", err}
	})
}

// unstage takes the last staged change back.
func (b *Board) unstage() tea.Cmd {
	name := b.name
	return b.alter(func() tea.Msg {
		return stagedMsg{"The last staged change is taken back.", b.App.Unstage(name, false)}
	})
}

// mendNow stages a remedy and shows the plan of all that is staged.
func (b *Board) mendNow(changes []lineup.Change) tea.Cmd {
	return b.Wish(planview.Planned(b.Desk, b.name, changes...))
}

// showPlan shows the plan of all that is staged.
func (b *Board) showPlan() tea.Cmd { return b.Wish(planview.Planned(b.Desk, b.name)) }

func (b *Board) goBackTo(to int) tea.Cmd { return b.Wish(planview.Returned(b.Desk, b.name, to)) }

// start begins a start and watches it.
func (b *Board) start() tea.Cmd {
	if b.look.Running {
		b.Say("The server runs; l watches it, S stops it and starts it again.")
		return nil
	}
	if b.host() != "" && b.watching != nil && !b.watching.Down() {
		return b.watch()
	}
	return b.WatchAnew(true)
}

// host is where the server stands, "" for this machine.
func (b *Board) host() string { return b.look.Server.Record.Host }

// startAnew stops the server, if it runs, and starts it again.
func (b *Board) startAnew() tea.Cmd {
	if b.Stuck || b.look == nil {
		return nil
	}
	if b.host() != "" {
		return b.start()
	}
	if !b.look.Running && (b.watching == nil || b.watching.Down()) {
		return b.start()
	}
	return b.stop(true)
}

// watch watches the server that runs.
func (b *Board) watch() tea.Cmd {
	if b.watching != nil && !b.watching.Down() {
		b.watching.Since(b.listed())
		return b.Enter(b.watching)
	}
	return b.WatchAnew(false)
}

// listed are the registered mods that are on, in load order.
func (b *Board) listed() (names []string) {
	for _, r := range b.all {
		if r.mod != nil && r.mod.Listed {
			names = append(names, canvas.Clean(r.mod.Name))
		}
	}
	return names
}

// WatchAnew begins to watch the server; begin tells that a start is begun too.
func (b *Board) WatchAnew(begin bool) tea.Cmd {
	if b.watching != nil {
		b.watching.Unwatch()
	}
	b.watching = watch.New(b.Model, b, &b.look.Server.Record, cmp.Or(b.proved, b.last), b.listed(), begin)
	return tea.Batch(b.Enter(b.watching), b.watching.Next(), b.watching.KnownTrouble(b.look))
}

// stop stops the server; anew tells that it is started again then.
func (b *Board) stop(anew bool) tea.Cmd {
	b.Say("Stopping the server …")
	name := b.name
	return b.Wish(func() tea.Msg {
		exit, err := b.App.Stop(b.Ctx, name)
		return watch.StoppedMsg{Exit: exit, Anew: anew, Err: err}
	})
}

func (b *Board) HasStopped(msg watch.StoppedMsg) tea.Cmd {
	switch {
	case msg.Err != nil:
		b.Complain(msg.Err)
	case msg.Exit.How == host.EndedKill:
		b.Say("The server did not stop when it was asked, and was ended by force.")
	default:
		b.Say("The server has stopped.")
	}
	if msg.Anew && msg.Err == nil {
		return b.WatchAnew(true)
	}
	return b.Reload()
}

// moveRow stages a move of the selected mod by one row. At the edge of a section
// it moves into the next one.
func (b *Board) moveRow(by int) tea.Cmd {
	c, ok := b.moveBy(by)
	if !ok {
		return nil
	}
	return b.stage(c)
}

// mend plans a remedy of the selected row: the first, or the one with a number.
func (b *Board) mend(k string) tea.Cmd {
	n := 0
	if k != "m" {
		n = int(k[0] - '1')
	}
	fixes := b.fixes()
	if n >= len(fixes) {
		if f := b.settingFault(); f != nil && len(fixes) == 0 {
			return settingsview.Open(b, f.File, f.Line)
		}
		if len(fixes) == 0 {
			b.Say("There is no remedy for this row that Initium could carry out; t goes to the next trouble.")
		}
		return nil
	}
	if fixes[n].back {
		return b.goBackTo(app.ReturnProved)
	}
	return b.mendNow(fixes[n].changes)
}

// settingFault is the first finding of the selected row that another value of a setting would mend, or nil.
func (b *Board) settingFault() *check.Finding {
	for _, f := range b.current().findings {
		if f.Accepted == "" && f.Line > 0 && strings.HasPrefix(string(f.Code), "setting-") {
			return &f
		}
	}
	return nil
}

// toggle stages to switch the selected mod on or off, to add it, or to take its
// registration out.
func (b *Board) toggle(k string) tea.Cmd {
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
func (b *Board) askConsole() tea.Cmd {
	if b.host() != "" {
		b.Say("The server stands at %s, and its console too.", b.host())
		return nil
	}
	if !b.look.Running {
		b.Say("The server does not run; s starts it.")
		return nil
	}
	return watch.Console(b.Desk, b.name, func() {})
}

func (b *Board) Help() []frame.Help {
	return []frame.Help{
		{Title: "The board: from what is declared to what is proved", Keys: boardHelp},
		{Title: "From the board to", Keys: b.DoorHelp()},
		{Title: "What the shapes say", Keys: frame.ShapeHelp},
	}
}

// Keys are those of the board that matter for the selected row.
func (b *Board) Keys() []frame.Key {
	keys := []frame.Key{{"↑ ↓", "choose"}}
	if b.current().hidden > 0 {
		keys = append(keys, frame.Key{"Tab", "unfold"})
	}
	if b.look != nil && len(b.look.Staged) > 0 {
		keys = append(keys, frame.Key{"p", "plan"}, frame.Key{"u", "take back"})
	}
	if len(b.fixes()) > 0 || b.settingFault() != nil {
		keys = append(keys, frame.Key{"m", "mend"})
	}
	if b.look != nil && b.look.Running {
		keys = append(keys, frame.Key{"l", "watch"}, frame.Key{"X", "stop"}, frame.Key{"S", "start anew"})
	} else if b.look != nil && b.host() != "" {
		keys = append(keys, frame.Key{"s", "watch a start there"})
	} else {
		keys = append(keys, frame.Key{"s", "start and prove"})
	}
	if m := b.mod(); m != nil {
		switch {
		case !m.Registered:
			keys = append(keys, frame.Key{"a", "add"})
		case m.On:
			keys = append(keys, frame.Key{"o", "off"})
		default:
			keys = append(keys, frame.Key{"o", "on"})
		}
	}
	keys = append(append(keys, b.DoorKeys(true)...), frame.Key{"/", "find"}, frame.Key{"f", "show only"}, frame.Key{"← →", "follow needs"}, frame.Key{"Tab", "fold"})
	if b.look != nil && b.look.Survey.Dialect.Order == dialect.OrderListed {
		keys = append(keys, frame.Key{"⇧↑ ⇧↓", "move"})
	}
	keys = append(keys, frame.Key{"x", "unregister"}, frame.Key{"d", "take out"}, frame.Key{"t", "next trouble"})
	return append(append(keys, b.DoorKeys(false)...), frame.Key{"Esc", "servers"})
}

// boardHelp are the keys of the board.
var boardHelp = []frame.Key{
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
	{"d I", "take the mod out; put it into another folder"},
	{"b", "back the world up"},
	{"W", "plan to begin the world anew; the ledger keeps it"},
	{"w", "write down a rule about the mod"},
	{"A", "accept a finding as it is, with the reason"},
	{"M", "write down what every start has to show of the mod"},
	{"h H", "begin a section at this row; rename its section"},
	{"[ ]", "move the row's section up or down, whole"},
	{"p", "the plan of all staged changes, to write it"},
	{"u", "take the last staged change back, or the last entry"},
	{"s", "start the server and prove it"},
	{"X S", "stop the server that runs; start it anew"},
	{"c", "type a line on the console of the server that runs"},
}
