package teachview

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/teach"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
)

// pointed begins a dialect: the operator points at the name of a mod in a startup
// file.
type pointed struct {
	*frame.Desk
	of            app.TeachStart
	lines         []string
	selected, top int
	outline       *app.Outline // that is proposed, or nil
	written       bool
}

// NewOutline begins a dialect from a startup file with what it holds.
func NewOutline(m *frame.Model, of app.TeachStart, data []byte) *pointed {
	v := &pointed{of: of, lines: strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")}
	v.Desk = m.Desk(v)
	return v
}

type (
	outlinedMsg struct {
		outline *app.Outline
		err     error
	}
	begunMsg struct{ err error }
)

func (v *pointed) Title(c *canvas.Canvas) {
	x := c.Put(2, 0, "Teach", canvas.Title)
	c.PutWithin(x+3, 0, c.W-x-4, "point at the name of a mod; Initium finds out how mods are registered", canvas.Dim)
}

// shapeWords say how mods stand in a startup file.
var shapeWords = map[dialect.Shape]string{
	dialect.ShapeLine: "a line for each mod", dialect.ShapeKey: "a key for each mod, with a yes or no", dialect.ShapeList: "all mods in one value",
	dialect.ShapeParallel: "two lists side by side: names, and numbers", dialect.ShapeItems: "a list in a document", dialect.ShapeWords: "a launch parameter for each mod", dialect.ShapeSection: "the keys of a section, in order",
	dialect.ShapeRepeat: "a key that comes once for each mod", dialect.ShapeStatement: "a line or a block for each mod, with text around its name",
}

// outlineHeight is how many lines the proposal takes.
const outlineHeight = 7

func (v *pointed) Draw(c *canvas.Canvas, y, h int) {
	fileHeight := max(h-outlineHeight-1, 3)
	v.top = max(min(v.top, v.selected), v.selected-fileHeight+1)
	for i := v.top; i < min(v.top+fileHeight, len(v.lines)); i++ {
		row, line := y+i-v.top, canvas.Clean(v.lines[i])
		c.Right(6, row, fmt.Sprint(i+1), canvas.Dim)
		k := canvas.Text
		if v.outline != nil && slices.ContainsFunc(v.outline.Mods, func(mod string) bool { return strings.Contains(line, mod) }) {
			c.Put(7, row, "▸", canvas.Focus)
			k = canvas.Title
		}
		c.PutWithin(9, row, c.W-10, line, k)
		if i == v.selected {
			c.Lift(row, 0, c.W)
			c.Put(0, row, "▌", canvas.Focus)
		}
	}
	c.Rule(y + fileHeight)
	y += fileHeight + 1
	line := func(label, s string, k canvas.Ink) {
		c.Put(2, y, label, canvas.Dim)
		c.PutWithin(14, y, c.W-15, s, k)
		y++
	}
	if v.outline == nil {
		line("point", "choose a line that names a mod, and press Enter", canvas.Text)
		return
	}
	place := v.outline.Place
	if place == "" {
		place = "not found; it is to be said in the dialect, at [[place]]"
	}
	line("shape", string(v.outline.Shape)+": "+shapeWords[v.outline.Shape], canvas.Title)
	line("mods", fmt.Sprintf("%d: %s", len(v.outline.Mods), strings.Join(v.outline.Mods, ", ")), canvas.Text)
	line("they are in", place, canvas.Text)
	if !v.written {
		line("next", "Enter writes the beginning of the dialect "+v.of.Name, canvas.Text)
		return
	}
	line("written", canvas.Clean(v.outline.File), canvas.Good)
	line("next", "initium teach log "+v.of.Name+" LOG", canvas.Key)
}

func (v *pointed) Keys() []frame.Key {
	switch {
	case v.written && !v.Lowest():
		return []frame.Key{{"Esc", "adopt the folder"}}
	case v.written:
		return nil
	case v.outline != nil:
		return []frame.Key{{"Enter", "write it"}, {"Esc", "point at another"}}
	}
	keys := []frame.Key{{"↑ ↓", "choose a line"}, {"Enter", "it names a mod"}}
	if !v.Lowest() {
		keys = append(keys, frame.Key{"Esc", "back"})
	}
	return keys
}

func (v *pointed) Help() []frame.Help {
	return []frame.Help{{Title: "The beginning of a dialect, from the name of one mod", Keys: []frame.Key{
		{"Enter", "the chosen line names a mod; then write what was found"},
		{"Esc", "point at another line"},
	}}}
}

func (v *pointed) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case outlinedMsg:
		if msg.err != nil {
			v.Complain(msg.err)
			return nil
		}
		v.outline, v.Notice = msg.outline, ""
	case begunMsg:
		if msg.err != nil {
			v.Complain(msg.err)
			return nil
		}
		v.written = true
	}
	return nil
}

func (v *pointed) choose(i int) { v.selected = max(min(i, len(v.lines)-1), 0) }

func (v *pointed) Wheel(by int) { v.choose(v.selected + by) }

func (v *pointed) Key(k string) tea.Cmd {
	if by := v.Moved(k, len(v.lines)); by != 0 {
		v.choose(v.selected + by)
		return nil
	}
	switch {
	case v.Stuck:
	case k == "esc" && (v.outline == nil || v.written):
		if !v.Lowest() { // a folder waits to be adopted
			return v.Back()
		}
		return tea.Quit
	case k == "esc":
		v.outline, v.Notice = nil, ""
	case k == "enter" && v.outline == nil:
		words := teach.Words(nil, v.lines[v.selected], nil)
		likely := slices.Index(words, teach.Named(v.lines, v.selected))
		v.Prompt = frame.WordPrompt("The name of the mod in this line (↑ ↓ go through its words): ", words, max(likely, 0), v.outlineOf)
	case k == "enter" && !v.written:
		o := v.outline
		return v.Wish(func() tea.Msg { return begunMsg{o.Write()} })
	}
	return nil
}

// outlineOf works out how mods are registered, by the name of one.
func (v *pointed) outlineOf(mod string) tea.Cmd {
	return v.Wish(func() tea.Msg {
		o, err := v.App.TeachServer(v.of, mod)
		return outlinedMsg{o, err}
	})
}
