// Package settingsview is the screen of what is set in the files of a server: where, to what, since when,
// and what it may be; values are changed in place.
package settingsview

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/lineup"
	"initium/internal/core/setting"
	"initium/internal/tui/frame"
	"initium/internal/tui/planview"
)

// view lists all settings of a server, file by file.
type view struct {
	*frame.Desk
	server   string
	dir      string
	findings []check.Finding // of which those count that stand at a setting
	found    *app.Settings
	staged   []lineup.Change
	words    string // what is looked for
	rows     []row  // that are shown
	selected int    // of them; a setting, where there is one
	scroll   int
	widest   int // name, in columns
	asked    bool
	turn     int // counts what was staged here: an answer from before is none any more
}

// row is the heading of a file, a setting, or a file that is not understood.
type row struct {
	file    string
	at      int // of found.List, -1 for none
	unread  string
	becomes *lineup.Change // what is staged for it, or nil
	trouble *check.Finding // the worst, or nil
}

type (
	foundMsg struct {
		found  *app.Settings
		staged []lineup.Change
		err    error
		turn   int
	}
	openMsg struct {
		foundMsg
		opening
	}
	opening struct {
		server, dir string
		findings    []check.Finding
		file        string // a whole path, or "" for the first
		line        int
	}
	stagedMsg struct {
		said string
		foundMsg
	}
	editMsg struct {
		edit *app.Edit
		err  error
	}
	editedMsg struct {
		change  lineup.Change
		changed bool
		err     error
	}
)

// Door leads from the board to here.
var Door = frame.Door{Key: ",", Foot: "settings", Help: "what is set in the server's files; change it in place", Open: func(s frame.Seat) tea.Cmd { return Open(s, "", 0) }}

// Open opens the settings of a server at a line of a file, given by its whole path; "" for the first of all.
func Open(s frame.Seat, file string, line int) tea.Cmd {
	d, look := s.Place(), s.Seen()
	if look == nil {
		return nil
	}
	o := opening{s.Server(), look.Server.Record.Dir, look.Findings, file, line}
	return d.Wish(func() tea.Msg {
		return openMsg{read(d, o.server), o}
	})
}

// read reads the settings of a server and what is staged for it.
func read(d *frame.Desk, server string) (msg foundMsg) {
	if msg.found, msg.err = d.App.Settings(server, "", nil); msg.err == nil {
		msg.staged, msg.err = d.App.Staged(server)
	}
	return msg
}

func (msg openMsg) Open(d *frame.Desk) tea.Cmd {
	if msg.err != nil {
		d.Complain(msg.err)
		return nil
	}
	return d.Enter(newView(d.Model, msg.opening, msg.found, msg.staged))
}

func newView(m *frame.Model, o opening, found *app.Settings, staged []lineup.Change) *view {
	v := &view{server: o.server, dir: o.dir, findings: o.findings}
	v.Desk = m.Desk(v)
	v.set(found, staged)
	for i, r := range v.rows {
		if s := v.setting(r); s != nil && s.Path == o.file && s.Line == o.line {
			v.selected = i
		}
	}
	return v
}

// set takes what was found, and stays at the setting that is chosen.
func (v *view) set(found *app.Settings, staged []lineup.Change) {
	was := v.setting(v.current())
	v.found, v.staged = found, staged
	v.widest = 0
	for i := range found.List {
		v.widest = max(v.widest, min(len(found.List[i].Name), 200))
	}
	v.lay()
	if was == nil {
		return
	}
	best := -1
	for i, r := range v.rows {
		s := v.setting(r)
		if s == nil || s.Path != was.Path || s.Written != was.Written {
			continue
		}
		if best < 0 || s.Line == was.Line {
			best = i
		}
	}
	if best >= 0 {
		v.selected = best
	}
}

// lay makes the rows of the settings that hold the words which are looked for.
func (v *view) lay() {
	v.rows = v.rows[:0]
	words := strings.Fields(strings.ToLower(v.words))
	file := ""
	for i := range v.found.List {
		s := &v.found.List[i]
		if !s.Holds(words) {
			continue
		}
		if s.Path != file {
			file = s.Path
			heading := s.File
			if s.Mod != "" {
				heading += "   made by " + s.Mod
			}
			v.rows = append(v.rows, row{file: heading, at: -1})
		}
		v.rows = append(v.rows, row{at: i, becomes: v.stagedFor(s), trouble: v.troubleOf(s)})
	}
	if len(words) == 0 {
		for i, u := range v.found.Unread {
			if i == 0 {
				v.rows = append(v.rows, row{file: "Not understood", at: -1})
			}
			v.rows = append(v.rows, row{unread: u, at: -1})
		}
	}
	v.selected = min(v.selected, max(len(v.rows)-1, 0))
	v.settle(1)
}

// settle goes from a heading to the next setting in a direction, or else in the other.
func (v *view) settle(by int) {
	for range 2 {
		for i := v.selected; i >= 0 && i < len(v.rows); i += by {
			if v.rows[i].at >= 0 {
				v.selected = i
				return
			}
		}
		by = -by
	}
}

// setting is the setting of a row, or nil.
func (v *view) setting(r row) *app.Setting {
	if v.found == nil || r.at < 0 || r.at >= len(v.found.List) {
		return nil
	}
	return &v.found.List[r.at]
}

func (v *view) current() row {
	if v.selected < len(v.rows) {
		return v.rows[v.selected]
	}
	return row{at: -1}
}

// stagedFor is the last change that is staged for a setting, or nil.
func (v *view) stagedFor(s *app.Setting) *lineup.Change {
	for i := range slices.Backward(v.staged) {
		c := &v.staged[i]
		if (c.Op == lineup.OpSet || c.Op == lineup.OpUnset) && c.File == s.Path && c.Mod == s.Written && (c.Line == 0 || c.Line == s.Line) {
			return c
		}
	}
	return nil
}

// troubleOf is the worst finding at a setting, or nil.
func (v *view) troubleOf(s *app.Setting) (worst *check.Finding) {
	for i := range v.findings {
		f := &v.findings[i]
		if f.File == s.Path && f.Line == s.Line && f.Line > 0 && !s.Off && f.Accepted == "" && (worst == nil || worst.Severity != check.Error && f.Severity == check.Error) {
			worst = f
		}
	}
	return worst
}

func (v *view) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case foundMsg:
		v.asked = false
		switch {
		case msg.turn != v.turn:
		case msg.err != nil:
			v.Complain(msg.err)
		default:
			v.set(msg.found, msg.staged)
		}
	case stagedMsg:
		if msg.err != nil {
			v.Complain(msg.err)
			return nil
		}
		v.turn++
		v.Say("%s", msg.said)
		v.set(msg.found, msg.staged)
	case editMsg:
		if msg.err != nil {
			v.Complain(msg.err)
			return nil
		}
		return v.Lend(msg.edit.Command(), func(err error) tea.Msg {
			c, changed, failed := msg.edit.Done()
			return editedMsg{c, changed, cmp.Or(err, failed)}
		})
	case editedMsg:
		switch {
		case msg.err != nil:
			v.Complain(msg.err)
		case !msg.changed:
			v.Say("Nothing was changed.")
		default:
			return v.Wish(planview.Planned(v.Desk, v.server, msg.change))
		}
	}
	return nil
}

// Shown and Again look at the files anew: what others change is seen, and files that mods have just made.
func (v *view) Shown() tea.Cmd { return v.look() }

func (v *view) Again() tea.Cmd { return v.look() }

func (v *view) look() tea.Cmd {
	if v.asked {
		return nil
	}
	v.asked = true
	turn := v.turn
	return v.Ask(func() tea.Msg {
		msg := read(v.Desk, v.server)
		msg.turn = turn
		return msg
	})
}

func (v *view) Wheel(by int) { v.step(by) }

func (v *view) Click(_, line int) tea.Cmd {
	if i := v.scroll + line - 2; line >= 2 && i < len(v.rows) && v.rows[i].at >= 0 && line-2 < v.room() {
		v.selected = i
	}
	return nil
}

// step goes so many settings up or down.
func (v *view) step(by int) {
	v.selected = max(min(v.selected+by, len(v.rows)-1), 0)
	if by < 0 {
		v.settle(-1)
	} else {
		v.settle(1)
	}
}

func (v *view) Key(k string) tea.Cmd {
	if by := v.Moved(k, len(v.rows)); by != 0 {
		v.step(by)
		return nil
	}
	s := v.setting(v.current())
	switch k {
	case "esc":
		if v.words != "" {
			v.words = ""
			v.lay()
			return nil
		}
		return v.Desk.Back()
	case "/":
		v.find()
		return nil
	case "t", "T":
		v.nextTrouble(map[string]int{"t": 1, "T": -1}[k])
		return nil
	}
	if v.Stuck {
		return nil
	}
	switch {
	case k == "p":
		if len(v.staged) == 0 {
			v.Say("Nothing is staged. Enter changes the value that is chosen.")
			return nil
		}
		return v.Wish(planview.Planned(v.Desk, v.server))
	case k == "u" && len(v.staged) > 0:
		return v.alter("The last staged change is taken back.", func() error { return v.App.Unstage(v.server, false) })
	case s == nil:
	case k == "enter":
		v.ask(s)
	case k == "space" || k == " ":
		return v.flip(s)
	case k == "d":
		if s.Off {
			v.Say("It stands in a comment, and is not in force.")
			return nil
		}
		return v.stage(lineup.Change{Op: lineup.OpUnset, Mod: s.Written, File: s.Path, Line: v.lineOf(s)})
	case k == "a":
		v.askNew(s)
	case k == "E":
		file := s.Path
		return v.Wish(func() tea.Msg {
			edit, err := v.App.BeginEdit(v.server, file)
			return editMsg{edit, err}
		})
	}
	return nil
}

// lineOf is the line that tells which of several places of a setting is meant, 0 where there is one.
func (v *view) lineOf(s *app.Setting) int {
	for i := range v.found.List {
		if o := &v.found.List[i]; o != s && o.Path == s.Path && o.Written == s.Written && o.Off == s.Off {
			return s.Line
		}
	}
	return 0
}

func (v *view) stage(c lineup.Change) tea.Cmd {
	return v.alter("Staged: "+c.String()+". p shows the plan, u takes it back.", func() error {
		_, err := v.App.Stage(v.Ctx, v.server, c)
		return err
	})
}

// alter does what is staged otherwise afterwards, and looks at that.
func (v *view) alter(said string, work func() error) tea.Cmd {
	return v.Wish(func() tea.Msg {
		if err := work(); err != nil {
			return stagedMsg{said, foundMsg{err: err}}
		}
		return stagedMsg{said, read(v.Desk, v.server)}
	})
}

// change stages another value of a setting.
func (v *view) change(s *app.Setting, value string) tea.Cmd {
	return v.stage(lineup.Change{Op: lineup.OpSet, Mod: s.Written, To: value, File: s.Path, Line: v.lineOf(s)})
}

// ask asks for another value.
func (v *view) ask(s *app.Setting) {
	begun := s.Value
	if c := v.current().becomes; c != nil && c.Op == lineup.OpSet && !s.Secret {
		begun = c.To
	}
	p := frame.NewPrompt(fmt.Sprintf("%s (%s): ", s.Name, kindWords(s)), begun, func(value string) tea.Cmd {
		if value == s.Value && !s.Off && v.stagedFor(s) == nil {
			return nil
		}
		return v.change(s, value)
	})
	p.Empty = true
	if s.Secret {
		p.Hide()
		p.Empty = false
	}
	v.Prompt = p
}

// kindWords say what a value may be.
func kindWords(s *app.Setting) string {
	switch {
	case s.MayBe != "":
		return s.MayBe
	case s.Secret:
		return "hidden"
	case s.Kind == setting.Flag:
		return "yes or no"
	case s.Kind == setting.Number:
		return "a number"
	}
	return "text"
}

// askNew asks for a setting that is not in the file yet.
func (v *view) askNew(like *app.Setting) {
	file := like.Path
	v.Prompt = frame.NewPrompt("New in "+like.File+" (NAME = VALUE): ", "", func(typed string) tea.Cmd {
		name, value, ok := strings.Cut(typed, "=")
		if name = strings.TrimSpace(name); !ok || name == "" {
			v.Say("A new setting is typed as NAME = VALUE.")
			return nil
		}
		return v.stage(lineup.Change{Op: lineup.OpSet, Mod: name, To: strings.TrimSpace(value), File: file})
	})
}

// flip stages the other of yes and no, in the words that stand there.
func (v *view) flip(s *app.Setting) tea.Cmd {
	now := s.Value
	if c := v.current().becomes; c != nil && c.Op == lineup.OpSet {
		now = c.To
	}
	other, ok := setting.Other(now)
	if !ok {
		v.Say("%s is no yes or no; Enter asks for another value.", s.Name)
		return nil
	}
	return v.change(s, other)
}

// find asks for words, and shows what holds them as they are typed.
func (v *view) find() {
	was := v.words
	p := frame.NewPrompt("Find: ", v.words, func(string) tea.Cmd { return nil })
	p.Typed = func(typed string) {
		v.words = typed
		v.lay()
	}
	p.Step = func(by int) { v.step(by) }
	p.Leave = func() {
		v.words = was
		v.lay()
	}
	p.Empty = true
	v.Prompt = p
}

// nextTrouble goes to the next setting in a direction that a finding stands at, or that is set again.
func (v *view) nextTrouble(by int) {
	n := len(v.rows)
	for k := 1; k <= n; k++ {
		i := ((v.selected+k*by)%n + n) % n
		if s := v.setting(v.rows[i]); s != nil && (v.rows[i].trouble != nil || s.Again > 0) {
			v.selected = i
			return
		}
	}
	v.Say("No finding stands at a setting, and nothing is set twice.")
}

func (v *view) Keys() []frame.Key {
	keys := []frame.Key{{"↑ ↓", "choose"}, {"Enter", "change it"}}
	if s := v.setting(v.current()); s != nil && s.Kind == setting.Flag && !s.Secret {
		keys = append(keys, frame.Key{"Space", "yes or no"})
	}
	if len(v.staged) > 0 {
		keys = append(keys, frame.Key{"p", "plan"}, frame.Key{"u", "take back"})
	}
	return append(keys, frame.Key{"/", "find"}, frame.Key{"t", "next trouble"}, frame.Key{"d", "take out"}, frame.Key{"a", "add"}, frame.Key{"E", "edit the file"}, frame.Key{"Esc", "to the board"})
}

func (v *view) Help() []frame.Help {
	return []frame.Help{{Title: "Settings: what is set, where, to what, and since when", Keys: []frame.Key{
		{"Enter", "type another value; it is written as what stands there"},
		{"Space", "the other of yes and no"},
		{"/", "show only what holds words, of all files; Esc shows all"},
		{"t T", "go to the next setting with trouble; to the one before"},
		{"d", "take the setting out of its file"},
		{"a", "add one to the file that the chosen one stands in"},
		{"E", "edit the whole file in your editor ($EDITOR)"},
		{"p", "the plan of all staged changes, to write it"},
		{"u", "take the last staged change back"},
	}}}
}
