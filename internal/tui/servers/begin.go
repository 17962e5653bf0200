package servers

import (
	"maps"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/tui/board"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
)

// beginForm is what the operator says of a server that is not there yet: its family, what it is laid out from, and
// what has to be said before its first start.
type beginForm struct {
	*frame.Desk
	adopted  func(name string)
	b        app.Beginning
	want     app.Beginning // what was said last, of which it is being worked out what would be made
	asked    int           // how often that was asked
	families []string
	family   int
	begun    *app.Begun // as it would be; nil before that is known
	problem  string     // why it cannot be made so

	selected, top int
}

type (
	familiesMsg struct {
		names []string
		err   error
	}
	begunMsg struct {
		asked int
		b     app.Beginning
		begun *app.Begun
		err   error
	}
)

func newBeginning(m *frame.Model, adopted func(name string), dir string) *beginForm {
	f := &beginForm{adopted: adopted, b: app.Beginning{Dir: dir, As: filepath.Base(dir), Set: map[string]string{}}}
	f.Desk = m.Desk(f)
	return f
}

func (f *beginForm) Shown() tea.Cmd {
	return f.Ask(func() tea.Msg {
		names, err := f.App.Beginnable()
		return familiesMsg{names, err}
	})
}

func (f *beginForm) Again() tea.Cmd { return nil }

// refresh works out what would be made of what is said in b.
func (f *beginForm) refresh(b app.Beginning) tea.Cmd {
	f.asked++
	asked := f.asked
	f.want = b
	return f.Ask(func() tea.Msg {
		begun, err := f.App.NewServer(f.Ctx, b, true, nil)
		return begunMsg{asked, b, begun, err}
	})
}

func (f *beginForm) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case familiesMsg:
		if msg.err != nil || len(msg.names) == 0 {
			f.Complain(msg.err)
			return nil
		}
		f.families = msg.names
		f.b.Dialect = f.families[f.family]
		f.selected = 1
		return f.refresh(f.b)
	case begunMsg:
		if msg.asked != f.asked {
			return nil // something else was said meanwhile
		}
		if msg.err != nil && f.begun != nil && msg.b.Dialect == f.b.Dialect {
			f.Complain(msg.err) // what was said last cannot be; what was before stands
			f.want = f.b
			return nil
		}
		f.b, f.begun, f.problem = msg.b, msg.begun, ""
		if msg.err != nil {
			f.problem = msg.err.Error()
		}
		f.choose(f.selected)
	case adoptedMsg:
		if msg.err != nil {
			f.Complain(msg.err)
			return nil
		}
		f.adopted(msg.name)
		back := f.Back()
		return tea.Batch(back, f.Model.Top().Place().Enter(board.New(f.Model, msg.name)))
	}
	return nil
}

// The rows: name, family, what it is laid out from, one to bring more, values, settings, one to make it.
func (f *beginForm) bring() int    { return formHead + len(f.b.From) }
func (f *beginForm) values() int   { return f.bring() + 1 }
func (f *beginForm) settings() int { return f.values() + f.counts(true) }
func (f *beginForm) make() int     { return f.settings() + f.counts(false) }
func (f *beginForm) rows() int     { return f.make() + 1 }

func (f *beginForm) counts(values bool) int {
	switch {
	case f.begun == nil:
		return 0
	case values:
		return len(f.begun.Values)
	}
	return len(f.begun.Settings)
}

func (f *beginForm) choose(i int) { f.selected = min(max(i, 0), max(f.rows()-1, 0)) }

func (f *beginForm) Wheel(by int) { f.choose(f.selected + by) }

func (f *beginForm) Key(k string) tea.Cmd {
	if by := f.Moved(k, f.rows()); by != 0 {
		f.choose(f.selected + by)
		return nil
	}
	switch {
	case k == "esc":
		return f.Back()
	case f.Stuck || len(f.families) == 0:
	case f.selected == 1 && (k == "left" || k == "right"):
		return f.turn(map[string]int{"left": -1, "right": 1}[k])
	case k == "enter":
		return f.change()
	}
	return nil
}

// said is what is said so far, to be changed.
func (f *beginForm) said() app.Beginning {
	b := f.want
	b.From, b.Set = slices.Clone(b.From), maps.Clone(b.Set)
	return b
}

func (f *beginForm) turn(by int) tea.Cmd {
	n := len(f.families)
	f.family = (f.family + by + n) % n
	b := f.said()
	b.Dialect, b.Set = f.families[f.family], map[string]string{}
	f.begun, f.Notice = nil, ""
	f.b.Dialect = b.Dialect
	return f.refresh(b)
}

func (f *beginForm) change() tea.Cmd {
	switch i := f.selected; {
	case i == 0:
		f.Prompt = frame.NewPrompt("Its name: ", f.b.As, func(name string) tea.Cmd {
			b := f.said()
			b.As = name
			return f.refresh(b)
		})
	case i == 1:
		return f.turn(1)
	case i < f.bring():
		p, cmd := frame.PathPrompt(f.Model, "Bring (nothing: leave it out): ", f.b.From[i-formHead], func(typed string) tea.Cmd {
			b := f.said()
			if i-formHead >= len(b.From) {
				return nil // it was left out meanwhile
			}
			if b.From[i-formHead] = frame.ExpandHome(typed); typed == "" {
				b.From = slices.Delete(b.From, i-formHead, i-formHead+1)
			}
			return f.refresh(b)
		})
		p.Empty = true
		f.Prompt = p
		return cmd
	case i == f.bring():
		p, cmd := frame.PathPrompt(f.Model, "Bring an archive or a folder: ", f.App.Downloads+string(filepath.Separator), func(typed string) tea.Cmd {
			b := f.said()
			b.From = append(b.From, frame.ExpandHome(typed))
			return f.refresh(b)
		})
		f.Prompt = p
		return cmd
	case i >= f.values() && i < f.settings():
		v := f.begun.Values[i-f.values()]
		return f.ask(v.Name, v.Value, v.Kind, v.Hidden)
	case i >= f.settings() && i < f.make():
		s := f.begun.Settings[i-f.settings()]
		value := s.Value
		if s.Problem != "" || s.Hidden {
			value = ""
		}
		return f.ask(s.Name, value, dialect.KindText, s.Hidden)
	case i == f.make() && f.begun != nil:
		b := f.said()
		return f.Wish(func() tea.Msg {
			begun, err := f.App.NewServer(f.Ctx, b, false, nil)
			if err != nil {
				return adoptedMsg{err: err}
			}
			return adoptedMsg{name: begun.Server}
		})
	}
	return nil
}

// ask asks for a value or a setting.
func (f *beginForm) ask(name, value string, kind dialect.Kind, hidden bool) tea.Cmd {
	done := func(typed string) tea.Cmd {
		b := f.said()
		if b.Set[name] = typed; typed == "" {
			delete(b.Set, name)
		}
		return f.refresh(b)
	}
	label := canvas.Clean(name) + " (nothing: as it is at first): "
	p, cmd := frame.NewPrompt(label, value, done), tea.Cmd(nil)
	if kind == dialect.KindFolder || kind == dialect.KindFile || kind == dialect.KindProgram {
		p, cmd = frame.PathPrompt(f.Model, label, value, done)
	}
	if hidden {
		p.Hide()
	}
	p.Empty = true
	f.Prompt = p
	return cmd
}

func (f *beginForm) Title(c *canvas.Canvas) {
	x := c.Put(2, 0, "Begin a server", canvas.Title)
	c.PutWithin(x+3, 0, c.W-x-4, "nothing is written before the last row is entered", canvas.Dim)
}

func (f *beginForm) Draw(c *canvas.Canvas, y, h int) {
	c.Put(2, y, "folder", canvas.Dim)
	c.PutWithin(16, y, c.W-17, canvas.Clean(f.b.Dir), canvas.Text)
	y += 2
	if len(f.families) == 0 {
		c.Put(2, y, "looking at the families …", canvas.Dim)
		return
	}
	const storyHeight = 9
	room := max(h-2-storyHeight, 3)
	f.top = max(min(f.top, f.selected), f.selected-room+1)
	for i := f.top; i < min(f.rows(), f.top+room); i++ {
		row := y + i - f.top
		if i == f.make() {
			row++
		}
		if i == f.selected {
			c.Lift(row, 0, c.W)
			c.Put(0, row, "▌", canvas.Focus)
		}
		f.drawRow(c, row, i)
	}
	at := y + min(f.rows(), room) + 1
	c.Rule(at)
	f.drawStory(c, at+1, h-(at+1-y)-2)
}

func (f *beginForm) drawRow(c *canvas.Canvas, y, i int) {
	row := func(name, words string, k canvas.Ink, after string) {
		c.PutWithin(2, y, 13, canvas.Clean(name), canvas.Dim)
		if words == "" {
			words, k = "none", canvas.Dim
		}
		x := c.PutWithin(16, y, max(c.W-40, 20), words, k)
		c.PutWithin(x+2, y, c.W-x-3, after, canvas.Dim)
	}
	said := func(name string) string {
		if _, ok := f.b.Set[name]; ok {
			return "given"
		}
		return ""
	}
	state := func(problem, said string) (string, canvas.Ink) {
		switch {
		case problem != "":
			return "✕ ", canvas.Bad
		case said != "":
			return "", canvas.Title
		}
		return "", canvas.Text
	}
	switch {
	case i == 0:
		row("name", canvas.Clean(f.b.As), canvas.Title, "")
	case i == 1:
		row("family", canvas.Clean(f.families[f.family]), canvas.Title, "")
	case i < f.bring():
		row("from", canvas.Ending(canvas.Clean(f.b.From[i-formHead]), max(c.W-40, 20)), canvas.Text, "")
	case i == f.bring():
		c.Put(2, y, "Bring an archive or a folder", canvas.Key)
	case i < f.settings():
		v := &f.begun.Values[i-f.values()]
		shape, k := state(v.Problem, said(v.Name))
		row(v.Name, shape+canvas.Clean(v.Value), k, said(v.Name))
	case i < f.make():
		s := &f.begun.Settings[i-f.settings()]
		shape, k := state(s.Problem, said(s.Name))
		row(s.Name, shape+canvas.Clean(s.Value), k, said(s.Name))
	default:
		ink := canvas.Key
		if f.begun == nil {
			ink = canvas.Dim
		}
		c.Put(2, y, "Make it", ink)
	}
}

// drawStory tells more about the chosen row, and what would be made.
func (f *beginForm) drawStory(c *canvas.Canvas, y, h int) {
	bottom := y + h
	say := func(s string, k canvas.Ink) {
		if y < bottom && s != "" {
			y = c.Paragraph(2, y, c.W-4, min(2, bottom-y), s, k)
		}
	}
	switch i := f.selected; {
	case i == 0:
		say("What the server is called in Initium: letters, digits, . _ and -", canvas.Text)
	case i == 1:
		say("← → choose another family: these say what a server of theirs consists of.", canvas.Text)
	case i < f.bring():
		say("It is looked into, and what is in it put where its kind belongs. With nothing typed it is left out.", canvas.Text)
	case i == f.bring():
		say("The program, what it runs on, its data, and mods: each is looked into and put where its kind belongs; builds go into folders named by their version.", canvas.Text)
	case f.begun != nil && i < f.settings():
		v := &f.begun.Values[i-f.values()]
		say(canvas.Clean(v.About), canvas.Text)
		say(canvas.Clean(v.Problem), canvas.Bad)
	case f.begun != nil && i < f.make():
		s := &f.begun.Settings[i-f.settings()]
		say(canvas.Clean(s.About), canvas.Text)
		say(canvas.Clean(s.Problem), canvas.Bad)
	}
	switch {
	case f.problem != "":
		for i, line := range strings.Split(f.problem, "\n") {
			if i == 0 {
				line = "It cannot be made so: " + line
			}
			say(canvas.Clean(line), canvas.Bad)
		}
		return
	case f.begun == nil:
		say("working out what would be made …", canvas.Dim)
		return
	}
	clear := true
	for _, d := range f.begun.Findings {
		switch {
		case d.Severity == check.Error:
			say("✕ before its first start: "+canvas.Clean(d.Message), canvas.Bad)
		case d.Code == check.CodeVersionUnknown:
			say("◌ not known before it is there: "+canvas.Clean(d.Message), canvas.Warn)
		default:
			continue
		}
		clear = false
	}
	if clear {
		say("◆ nothing stands in the way of its first start", canvas.Good)
	}
	y++
	f.drawPlan(c, y, bottom)
}

// drawPlan lists what would be there then.
func (f *beginForm) drawPlan(c *canvas.Canvas, y, bottom int) {
	type line struct{ left, right string }
	var list []line
	short := func(full string) string { return canvas.Clean(strings.TrimPrefix(full, f.begun.Dir+"/")) }
	for i := range f.begun.Plan.Parts {
		p := &f.begun.Plan.Parts[i]
		list = append(list, line{short(p.Path), p.Title() + " " + p.String()})
	}
	for i := range f.begun.Plan.Files {
		list = append(list, line{short(f.begun.Plan.Files[i].Path), "is written"})
	}
	for _, then := range f.begun.Then {
		list = append(list, line{"over that", then.String()})
	}
	for i, l := range list {
		if y >= bottom {
			return
		}
		if y == bottom-1 && i < len(list)-1 {
			c.Put(2, y, "and "+marks.Count(len(list)-i, "more", "more"), canvas.Dim)
			return
		}
		x := c.PutWithin(2, y, min(c.W/2, 44), l.left, canvas.Text)
		c.PutWithin(max(x+2, min(c.W/2, 44)), y, c.W-max(x+2, min(c.W/2, 44))-1, canvas.Clean(l.right), canvas.Dim)
		y++
	}
}

func (f *beginForm) Keys() []frame.Key {
	keys := []frame.Key{{"↑ ↓", "choose"}}
	switch i := f.selected; {
	case len(f.families) == 0:
	case i == 1:
		keys = append(keys, frame.Key{"← →", "another family"})
	case i == f.bring():
		keys = append(keys, frame.Key{"Enter", "bring"})
	case i == f.make():
		keys = append(keys, frame.Key{"Enter", "make"})
	default:
		keys = append(keys, frame.Key{"Enter", "change"})
	}
	return append(keys, frame.Key{"Esc", "back"})
}

func (f *beginForm) Help() []frame.Help {
	return []frame.Help{{Title: "Begin a server", Keys: []frame.Key{{"Enter", "change what the row says, bring something, or make the server"}, {"← →", "another family"}, {"Esc", "back to the servers"}}}}
}
