package tui

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
)

// serverForm is what the operator tells of a server: of a folder that is to be adopted its
// name, its family and its values; of one that is adopted its values.
type serverForm struct {
	*desk
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
func newAdoption(m *model, adopted func(name string), dir string) *serverForm {
	f := &serverForm{adopted: adopted, dir: dir, set: map[string]string{}}
	f.desk = m.desk(f)
	return f
}

// newValues is the form for an adopted server.
func newValues(m *model, s *app.Summary) *serverForm {
	f := &serverForm{server: s.Name, dir: s.Dir}
	f.desk = m.desk(f)
	return f
}

func (f *serverForm) shown() tea.Cmd {
	if f.server != "" {
		return f.refresh(nil)
	}
	return f.ask(func() tea.Msg {
		about, err := f.app.Candidate(f.dir)
		return candidateMsg{about, err}
	})
}

func (f *serverForm) again() tea.Cmd { return nil }

// refresh asks for the values as they are with those of set.
func (f *serverForm) refresh(set map[string]string) tea.Cmd {
	if f.server != "" {
		return f.ask(func() tea.Msg {
			values, err := f.app.Values(f.server)
			return valuesMsg{values: values, err: err}
		})
	}
	dir, family := f.about.Dir, f.about.Families[f.family]
	return f.ask(func() tea.Msg {
		values, err := f.app.ValuesFor(dir, family, set)
		return valuesMsg{set, values, err}
	})
}

func (f *serverForm) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case candidateMsg:
		if msg.err != nil {
			back := f.back()
			f.complain(msg.err)
			return back
		}
		if f.about != nil { // a family may have come since
			msg.about.Name = f.about.Name
		}
		f.about, f.family, f.set = msg.about, 0, map[string]string{}
		return f.refresh(f.set)
	case valuesMsg:
		if msg.err != nil {
			f.complain(msg.err)
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
			f.complain(msg.err)
			return nil
		}
		return f.enter(newOutline(f.model, f.about.Name, f.about.Dir, msg.file, "", msg.data))
	case givenMsg:
		if msg.err != nil {
			f.complain(msg.err)
		} else {
			f.say("%s. The ledger can take it back.", clean(msg.given[0].String()))
		}
		return f.refresh(nil)
	case adoptedMsg:
		if msg.err != nil {
			f.complain(msg.err)
			return nil
		}
		f.adopted(msg.name)
		back := f.back() // its looks are to be carried out, too
		return tea.Batch(back, f.model.top().place().enter(newBoard(f.model, msg.name)))
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

func (f *serverForm) wheel(by int) { f.choose(f.selected + by) }

func (f *serverForm) key(k string) tea.Cmd {
	if by := f.moved(k, f.rows()); by != 0 {
		f.choose(f.selected + by)
		return nil
	}
	switch {
	case k == "esc":
		return f.back()
	case f.stuck || f.server == "" && f.about == nil:
	case k == "enter":
		return f.change()
	case f.server == "" && f.selected == 1 && (k == "left" || k == "right"):
		return f.turn(map[string]int{"left": -1, "right": 1}[k])
	case f.server == "" && k == "D":
		return f.teach()
	}
	return nil
}

// turn chooses another family.
func (f *serverForm) turn(by int) tea.Cmd {
	n := len(f.about.Families)
	f.family = (f.family + by + n) % n
	f.notice = ""
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
		f.prompt = newPrompt("Its name: ", f.about.Name, func(name string) tea.Cmd { f.about.Name = name; return nil })
	case f.selected == 1:
		return f.turn(1)
	default:
		ad := app.Adoption{Dir: f.about.Dir, As: f.about.Name, Dialect: f.about.Families[f.family], Set: maps.Clone(f.set)}
		return f.wish(func() tea.Msg {
			r, err := f.app.Adopt(f.ctx, ad)
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
			return f.wish(func() tea.Msg {
				given, err := f.app.Give(f.ctx, f.server, map[string]string{name: typed})
				return givenMsg{given, err}
			})
		}
		set := maps.Clone(f.set)
		if set[name] = typed; typed == "" {
			delete(set, name)
		}
		return f.refresh(set)
	}
	label := clean(name) + " (nothing: as its files or its family have it): "
	p, cmd := newPrompt(label, v.Value, done), tea.Cmd(nil)
	if v.Kind == dialect.KindFolder || v.Kind == dialect.KindFile || v.Kind == dialect.KindProgram {
		p, cmd = pathPrompt(f.model, label, v.Value, done)
	}
	if v.Hidden {
		p.hide()
	}
	p.empty = true
	f.prompt = p
	return cmd
}

// teach begins a dialect for the folder, from a startup file of it.
func (f *serverForm) teach() tea.Cmd {
	p, cmd := pathPrompt(f.model, "Begin a dialect for it, from its startup file: ", f.about.Dir+string(filepath.Separator), func(file string) tea.Cmd {
		file, dir := expandHome(file), f.about.Dir
		return f.wish(func() tea.Msg {
			data, err := app.StartupText(dir, file)
			return startupMsg{file, data, err}
		})
	})
	f.prompt = p
	return cmd
}

func (f *serverForm) title(c *canvas) {
	title, about := "Adopt a server", "nothing is written into its folder"
	if f.server != "" {
		title, about = f.server, "the values that it is started with; each change is an entry of its ledger"
	}
	x := c.put(2, 0, title, inkTitle)
	c.putWithin(x+3, 0, c.w-x-4, about, inkDim)
}

func (f *serverForm) draw(c *canvas, y, h int) {
	c.put(2, y, "folder", inkDim)
	c.putWithin(16, y, c.w-17, clean(f.dir), inkText)
	y += 2
	if f.server == "" && f.about == nil {
		c.put(2, y, "looking into it …", inkDim)
		return
	}
	if f.server != "" && len(f.values) == 0 {
		c.put(2, y, "Its family asks for no values.", inkDim)
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
			c.lift(row, 0, c.w)
			c.put(0, row, "▌", inkFocus)
		}
		f.drawRow(c, row, i)
	}
	at := y + min(f.rows(), room) + 1
	c.rule(at)
	f.drawStory(c, at+1)
}

func (f *serverForm) drawRow(c *canvas, y, i int) {
	if f.server == "" {
		switch {
		case i == 0:
			c.put(2, y, "name", inkDim)
			c.putWithin(16, y, c.w-17, clean(f.about.Name), inkTitle)
			return
		case i == 1:
			c.put(2, y, "family", inkDim)
			x := c.putWithin(16, y, c.w-40, clean(f.about.Families[f.family]), inkTitle)
			if f.family < f.about.Fit {
				c.put(x+2, y, "◆ its files fit", inkGood)
			} else {
				c.put(x+2, y, "its files do not fit", inkWarn)
			}
			return
		case i == formHead+len(f.values):
			c.put(2, y, "Adopt it", inkKey)
			return
		}
		i -= formHead
	}
	v := &f.values[i]
	c.putWithin(2, y, 13, clean(v.Name), inkDim)
	k, shape := inkText, ""
	switch {
	case v.Problem != "":
		k, shape = inkBad, "✕ "
	case v.Given:
		k = inkTitle
	}
	words := clean(v.Value)
	if words == "" {
		words, k = "none", inkDim
	}
	x := c.putWithin(16, y, max(c.w-36, 20), shape+words, k)
	if v.Given {
		c.putWithin(x+2, y, c.w-x-3, "given", inkDim)
	}
}

// drawStory tells more about the chosen row.
func (f *serverForm) drawStory(c *canvas, y int) {
	say := func(s string, k ink) { y = c.paragraph(2, y, c.w-4, 2, s, k) }
	if v := f.value(); v != nil {
		about := clean(v.About)
		if about == "" {
			about = "a value of the kind " + string(v.Kind)
		}
		say(about, inkText)
		if v.Problem != "" {
			say(clean(v.Problem), inkBad)
		}
		return
	}
	switch {
	case f.selected == 0:
		say("What the server is called in Initium: letters, digits, . _ and -", inkText)
	case f.selected == 1 && f.about.Fit == 0:
		say("No dialect recognises this folder. Choose one by ← → if it is of its kind, or press D to begin one from the startup file.", inkWarn)
	case f.selected == 1:
		say(fmt.Sprintf("%s. ← → choose another; D begins one from a startup file.", count(f.about.Fit, "dialect recognises this folder", "dialects recognise this folder")), inkText)
	default:
		n := 0
		for _, v := range f.values {
			if v.Problem != "" {
				n++
			}
		}
		if n > 0 {
			say(count(n, "value is", "values are")+" wanting. It can be adopted so, and starts when they are there.", inkWarn)
			return
		}
		say("It is adopted, and its board opened. Nothing is written into its folder.", inkText)
	}
}

func (f *serverForm) keys() []keyHelp {
	if f.server != "" {
		return []keyHelp{{"↑ ↓", "choose"}, {"Enter", "change"}, {"Esc", "back"}}
	}
	keys := []keyHelp{{"↑ ↓", "choose"}, {"Enter", "change"}}
	if f.about != nil {
		switch {
		case f.selected == 1:
			keys = []keyHelp{{"↑ ↓", "choose"}, {"← →", "another family"}}
		case f.selected == f.rows()-1:
			keys = []keyHelp{{"↑ ↓", "choose"}, {"Enter", "adopt"}}
		}
		keys = append(keys, keyHelp{"D", "teach"})
	}
	return append(keys, keyHelp{"Esc", "back"})
}

func (f *serverForm) help() []helpList {
	list := []keyHelp{{"Enter", "change what the row says; the last row adopts"}, {"Esc", "back to the servers"}}
	if f.server != "" {
		list[0][1] = "change the value; nothing typed takes yours back"
		return []helpList{{"The values of a server", list}}
	}
	return []helpList{{"Adopt a server", append(list, keyHelp{"← →", "another family"}, keyHelp{"D", "teach: begin a dialect from a startup file"})}}
}

// askFolder asks for the folder of a server.
func askFolder(d *desk, adopted func(name string)) tea.Cmd {
	here, _ := os.Getwd()
	p := newPrompt("Folder of the server: ", strings.TrimSuffix(here, "/")+"/", func(dir string) tea.Cmd {
		return d.enter(newAdoption(d.model, adopted, expandHome(dir)))
	})
	p.paths, p.folders, p.tell = true, true, d.app.FamiliesOf
	d.prompt = p
	return p.listPaths()
}
