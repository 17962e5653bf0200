package servers

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/plan"
	"initium/internal/tui/board"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/learnview"
	"initium/internal/tui/marks"
	"initium/internal/tui/teachview"
)

// serverForm is what the operator tells of a server: of a folder that is to be adopted its
// name, its family and its values; of one that is adopted its values.
type serverForm struct {
	*frame.Desk
	adopted func(name string) // is told of a server that is there now
	server  string            // that is adopted already, "" for a folder
	about   *app.Candidate
	dir     string
	family  int // of those that the candidate can have
	set     map[string]string
	values  []app.Value

	selected, top int
}

type (
	candidateMsg struct {
		about *app.Candidate
		err   error
	}
	valuesMsg struct {
		set    map[string]string
		values []app.Value
		err    error
	}
	adoptedMsg struct {
		name string
		err  error
	}
	startupMsg struct {
		file string
		data []byte
		err  error
	}
	givenMsg struct {
		given []plan.Given
		err   error
	}
)

// newAdoption is the form for a folder.
func newAdoption(m *frame.Model, adopted func(name string), dir string) *serverForm {
	f := &serverForm{adopted: adopted, dir: dir, set: map[string]string{}}
	f.Desk = m.Desk(f)
	return f
}

// newValues is the form for an adopted server.
func newValues(m *frame.Model, s *app.Summary) *serverForm {
	f := &serverForm{server: s.Name, dir: s.Dir}
	f.Desk = m.Desk(f)
	return f
}

func (f *serverForm) Shown() tea.Cmd {
	if f.server != "" {
		return f.refresh(nil)
	}
	return f.Ask(func() tea.Msg {
		about, err := f.App.Candidate(f.dir)
		return candidateMsg{about, err}
	})
}

func (f *serverForm) Again() tea.Cmd { return nil }

// refresh asks for the values as they are with those of set.
func (f *serverForm) refresh(set map[string]string) tea.Cmd {
	if f.server != "" {
		return f.Ask(func() tea.Msg {
			values, err := f.App.Values(f.server)
			return valuesMsg{values: values, err: err}
		})
	}
	dir, family := f.about.Dir, f.about.Families[f.family]
	return f.Ask(func() tea.Msg {
		values, err := f.App.ValuesFor(dir, family, set)
		return valuesMsg{set, values, err}
	})
}

func (f *serverForm) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case candidateMsg:
		if msg.err != nil {
			back := f.Back()
			f.Complain(msg.err)
			return back
		}
		if f.about != nil { // a family may have come since
			msg.about.Name = f.about.Name
		}
		f.about, f.family, f.set = msg.about, 0, map[string]string{}
		return f.refresh(f.set)
	case valuesMsg:
		if msg.err != nil {
			f.Complain(msg.err)
			return nil
		}
		first := f.values == nil
		f.set, f.values = msg.set, msg.values
		f.choose(f.selected)
		if first && f.server == "" {
			f.choose(f.next())
		}
	case startupMsg:
		if msg.err != nil {
			f.Complain(msg.err)
			return nil
		}
		return f.Enter(teachview.NewOutline(f.Model, app.TeachStart{Name: f.about.Name, Dir: f.about.Dir, Startup: msg.file}, msg.data))
	case givenMsg:
		if msg.err != nil {
			f.Complain(msg.err)
		} else {
			f.Say("%s. The ledger can take it back.", canvas.Clean(msg.given[0].String()))
		}
		return f.refresh(nil)
	case adoptedMsg:
		if msg.err != nil {
			f.Complain(msg.err)
			return nil
		}
		f.adopted(msg.name)
		back := f.Back() // its looks are to be carried out, too
		return tea.Batch(back, f.Model.Top().Place().Enter(board.New(f.Model, msg.name)))
	}
	return nil
}

// The rows of a form: those of a folder have two before its values, and one after.
const formHead = 2

func (f *serverForm) rows() int {
	if f.server != "" {
		return len(f.values)
	}
	return formHead + len(f.values) + 1
}

// next is the row that wants the operator most.
func (f *serverForm) next() int {
	if f.about.Fit != 1 {
		return 1
	}
	for i, v := range f.values {
		if v.Problem != "" {
			return formHead + i
		}
	}
	return f.rows() - 1
}

// value is the one that is chosen, or nil.
func (f *serverForm) value() *app.Value {
	i := f.selected
	if f.server == "" {
		i -= formHead
	}
	if i < 0 || i >= len(f.values) {
		return nil
	}
	return &f.values[i]
}

func (f *serverForm) choose(i int) { f.selected = min(max(i, 0), max(f.rows()-1, 0)) }

func (f *serverForm) Wheel(by int) { f.choose(f.selected + by) }

func (f *serverForm) Key(k string) tea.Cmd {
	if by := f.Moved(k, f.rows()); by != 0 {
		f.choose(f.selected + by)
		return nil
	}
	switch {
	case k == "esc":
		return f.Back()
	case f.Stuck || f.server == "" && f.about == nil:
	case k == "enter":
		return f.change()
	case f.server == "" && f.selected == 1 && (k == "left" || k == "right"):
		return f.turn(map[string]int{"left": -1, "right": 1}[k])
	case f.server == "" && k == "D":
		return f.teach()
	case f.server == "" && k == "L":
		v, look := learnview.New(f.Model, f.about.Name, f.about.Dir)
		return tea.Batch(f.Enter(v), look())
	}
	return nil
}

// turn chooses another family.
func (f *serverForm) turn(by int) tea.Cmd {
	n := len(f.about.Families)
	f.family = (f.family + by + n) % n
	f.Notice = ""
	return f.refresh(map[string]string{})
}

// change changes what the chosen row says, or adopts.
func (f *serverForm) change() tea.Cmd {
	v := f.value()
	switch {
	case v != nil:
		return f.give(v)
	case f.server != "":
	case f.selected == 0:
		f.Prompt = frame.NewPrompt("Its name: ", f.about.Name, func(name string) tea.Cmd { f.about.Name = name; return nil })
	case f.selected == 1:
		return f.turn(1)
	default:
		ad := app.Adoption{Dir: f.about.Dir, As: f.about.Name, Dialect: f.about.Families[f.family], Set: maps.Clone(f.set)}
		return f.Wish(func() tea.Msg {
			r, err := f.App.Adopt(f.Ctx, ad)
			return adoptedMsg{r.Name, err}
		})
	}
	return nil
}

// give asks for another value.
func (f *serverForm) give(v *app.Value) tea.Cmd {
	name := v.Name
	done := func(typed string) tea.Cmd {
		if f.server != "" {
			return f.Wish(func() tea.Msg {
				given, err := f.App.Give(f.Ctx, f.server, map[string]string{name: typed})
				return givenMsg{given, err}
			})
		}
		set := maps.Clone(f.set)
		if set[name] = typed; typed == "" {
			delete(set, name)
		}
		return f.refresh(set)
	}
	label := canvas.Clean(name) + " (nothing: as its files or its family have it): "
	p, cmd := frame.NewPrompt(label, v.Value, done), tea.Cmd(nil)
	if v.Kind == dialect.KindFolder || v.Kind == dialect.KindFile || v.Kind == dialect.KindProgram {
		p, cmd = frame.PathPrompt(f.Model, label, v.Value, done)
	}
	if v.Hidden {
		p.Hide()
	}
	p.Empty = true
	f.Prompt = p
	return cmd
}

// teach begins a dialect for the folder, from a startup file of it.
func (f *serverForm) teach() tea.Cmd {
	p, cmd := frame.PathPrompt(f.Model, "Begin a dialect for it, from its startup file: ", f.about.Dir+string(filepath.Separator), func(file string) tea.Cmd {
		file, dir := frame.ExpandHome(file), f.about.Dir
		return f.Wish(func() tea.Msg {
			data, err := app.StartupText(dir, file)
			return startupMsg{file, data, err}
		})
	})
	f.Prompt = p
	return cmd
}

func (f *serverForm) Title(c *canvas.Canvas) {
	title, about := "Adopt a server", "nothing is written into its folder"
	if f.server != "" {
		title, about = f.server, "the values that it is started with; each change is an entry of its ledger"
	}
	x := c.Put(2, 0, title, canvas.Title)
	c.PutWithin(x+3, 0, c.W-x-4, about, canvas.Dim)
}

func (f *serverForm) Draw(c *canvas.Canvas, y, h int) {
	c.Put(2, y, "folder", canvas.Dim)
	c.PutWithin(16, y, c.W-17, canvas.Clean(f.dir), canvas.Text)
	y += 2
	if f.server == "" && f.about == nil {
		c.Put(2, y, "looking into it …", canvas.Dim)
		return
	}
	if f.server != "" && len(f.values) == 0 {
		c.Put(2, y, "Its family asks for no values.", canvas.Dim)
		return
	}
	const storyHeight = 5
	room := max(h-2-storyHeight, 3)
	f.top = max(min(f.top, f.selected), f.selected-room+1)
	for i := f.top; i < min(f.rows(), f.top+room); i++ {
		row := y + i - f.top
		if f.server == "" && i == f.rows()-1 {
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
	f.drawStory(c, at+1)
}

func (f *serverForm) drawRow(c *canvas.Canvas, y, i int) {
	if f.server == "" {
		switch {
		case i == 0:
			c.Put(2, y, "name", canvas.Dim)
			c.PutWithin(16, y, c.W-17, canvas.Clean(f.about.Name), canvas.Title)
			return
		case i == 1:
			c.Put(2, y, "family", canvas.Dim)
			x := c.PutWithin(16, y, c.W-40, canvas.Clean(f.about.Families[f.family]), canvas.Title)
			if f.family < f.about.Fit {
				c.Put(x+2, y, "◆ its files fit", canvas.Good)
			} else {
				c.Put(x+2, y, "its files do not fit", canvas.Warn)
			}
			return
		case i == formHead+len(f.values):
			c.Put(2, y, "Adopt it", canvas.Key)
			return
		}
		i -= formHead
	}
	v := &f.values[i]
	c.PutWithin(2, y, 13, canvas.Clean(v.Name), canvas.Dim)
	k, shape := canvas.Text, ""
	switch {
	case v.Problem != "":
		k, shape = canvas.Bad, "✕ "
	case v.Given:
		k = canvas.Title
	}
	words := canvas.Clean(v.Value)
	if words == "" {
		words, k = "none", canvas.Dim
	}
	x := c.PutWithin(16, y, max(c.W-36, 20), shape+words, k)
	if v.Given {
		c.PutWithin(x+2, y, c.W-x-3, "given", canvas.Dim)
	}
}

// drawStory tells more about the chosen row.
func (f *serverForm) drawStory(c *canvas.Canvas, y int) {
	say := func(s string, k canvas.Ink) { y = c.Paragraph(2, y, c.W-4, 2, s, k) }
	if v := f.value(); v != nil {
		about := canvas.Clean(v.About)
		if about == "" {
			about = "a value of the kind " + string(v.Kind)
		}
		say(about, canvas.Text)
		if v.Problem != "" {
			say(canvas.Clean(v.Problem), canvas.Bad)
		}
		return
	}
	switch {
	case f.selected == 0:
		say("What the server is called in Initium: letters, digits, . _ and -", canvas.Text)
	case f.selected == 1 && f.about.Fit == 0:
		say("No dialect recognises this folder. Choose one by ← → if it is of its kind, or press L to find out by starts of copies how it works, D to point at its startup file and log.", canvas.Warn)
	case f.selected == 1:
		say(fmt.Sprintf("%s. ← → choose another; D begins one from a startup file.", marks.Count(f.about.Fit, "dialect recognises this folder", "dialects recognise this folder")), canvas.Text)
	default:
		n := 0
		for _, v := range f.values {
			if v.Problem != "" {
				n++
			}
		}
		if n > 0 {
			say(marks.Count(n, "value is", "values are")+" wanting. It can be adopted so, and starts when they are there.", canvas.Warn)
			return
		}
		say("It is adopted, and its board opened. Nothing is written into its folder.", canvas.Text)
	}
}

func (f *serverForm) Keys() []frame.Key {
	if f.server != "" {
		return []frame.Key{{"↑ ↓", "choose"}, {"Enter", "change"}, {"Esc", "back"}}
	}
	keys := []frame.Key{{"↑ ↓", "choose"}, {"Enter", "change"}}
	if f.about != nil {
		switch {
		case f.selected == 1:
			keys = []frame.Key{{"↑ ↓", "choose"}, {"← →", "another family"}}
		case f.selected == f.rows()-1:
			keys = []frame.Key{{"↑ ↓", "choose"}, {"Enter", "adopt"}}
		}
		keys = append(keys, frame.Key{"L", "learn"}, frame.Key{"D", "teach"})
	}
	return append(keys, frame.Key{"Esc", "back"})
}

func (f *serverForm) Help() []frame.Help {
	list := []frame.Key{{"Enter", "change what the row says; the last row adopts"}, {"Esc", "back to the servers"}}
	if f.server != "" {
		list[0][1] = "change the value; nothing typed takes yours back"
		return []frame.Help{{Title: "The values of a server", Keys: list}}
	}
	return []frame.Help{{Title: "Adopt a server", Keys: append(list, frame.Key{"← →", "another family"}, frame.Key{"L", "learn: find out by starts of copies how a server works that no family fits"}, frame.Key{"D", "teach: begin a dialect from a startup file"})}}
}

// askFolder asks for the folder of a server.
func askFolder(d *frame.Desk, adopted func(name string)) tea.Cmd {
	here, _ := os.Getwd()
	p := frame.NewPrompt("Folder of the server, there or to be made: ", strings.TrimSuffix(here, "/")+"/", func(dir string) tea.Cmd {
		if dir, err := filepath.Abs(frame.ExpandHome(dir)); err == nil && !strings.Contains(dir, ":") && app.IsBeginning(dir) {
			return d.Enter(newBeginning(d.Model, adopted, dir))
		}
		return d.Enter(newAdoption(d.Model, adopted, frame.ExpandHome(dir)))
	})
	p.Paths, p.Folders, p.Tell = true, true, d.App.FamiliesOf
	d.Prompt = p
	return p.ListPaths()
}
