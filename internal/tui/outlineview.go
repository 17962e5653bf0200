package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/teach"
)

// outlineView begins a dialect: the operator points at the name of a mod in a startup
// file.
type outlineView struct {
	*desk
	name, dir, file, command string
	lines                    []string
	selected, top            int
	outline                  *app.Outline // that is proposed, or nil
	written                  bool
}

// newOutline begins a dialect from a startup file with what it holds.
func newOutline(m *model, name, dir, file, command string, data []byte) *outlineView {
	v := &outlineView{name: name, dir: dir, file: file, command: command, lines: strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")}
	v.desk = m.desk(v)
	return v
}

type (
	outlinedMsg struct {
		outline *app.Outline
		err     error
	}
	begunMsg struct{ err error }
)

func (v *outlineView) title(c *canvas) {
	x := c.put(2, 0, "Teach", inkTitle)
	c.putWithin(x+3, 0, c.w-x-4, "point at the name of a mod; Initium finds out how mods are registered", inkDim)
}

// shapeWords say how mods stand in a startup file.
var shapeWords = map[dialect.Shape]string{
	dialect.ShapeLine: "a line for each mod", dialect.ShapeKey: "a key for each mod, with a yes or no", dialect.ShapeList: "all mods in one value",
	dialect.ShapeItems: "a list in a document", dialect.ShapeWords: "a launch parameter for each mod", dialect.ShapeSection: "the keys of a section, in order",
	dialect.ShapeRepeat: "a key that comes once for each mod",
}

// outlineHeight is how many lines the proposal takes.
const outlineHeight = 7

func (v *outlineView) draw(c *canvas, y, h int) {
	fileHeight := max(h-outlineHeight-1, 3)
	v.top = max(min(v.top, v.selected), v.selected-fileHeight+1)
	for i := v.top; i < min(v.top+fileHeight, len(v.lines)); i++ {
		row, line := y+i-v.top, clean(v.lines[i])
		c.right(6, row, fmt.Sprint(i+1), inkDim)
		k := inkText
		if v.outline != nil && slices.ContainsFunc(v.outline.Mods, func(mod string) bool { return strings.Contains(line, mod) }) {
			c.put(7, row, "▸", inkFocus)
			k = inkTitle
		}
		c.putWithin(9, row, c.w-10, line, k)
		if i == v.selected {
			c.lift(row, 0, c.w)
			c.put(0, row, "▌", inkFocus)
		}
	}
	c.rule(y + fileHeight)
	y += fileHeight + 1
	line := func(label, s string, k ink) {
		c.put(2, y, label, inkDim)
		c.putWithin(14, y, c.w-15, s, k)
		y++
	}
	if v.outline == nil {
		line("point", "choose a line that names a mod, and press Enter", inkText)
		return
	}
	place := v.outline.Place
	if place == "" {
		place = "not found; it is to be said in the dialect, at [[place]]"
	}
	line("shape", string(v.outline.Shape)+": "+shapeWords[v.outline.Shape], inkTitle)
	line("mods", fmt.Sprintf("%d: %s", len(v.outline.Mods), strings.Join(v.outline.Mods, ", ")), inkText)
	line("they are in", place, inkText)
	if !v.written {
		line("next", "Enter writes the beginning of the dialect "+v.name, inkText)
		return
	}
	line("written", clean(v.outline.File), inkGood)
	line("next", "initium teach log "+v.name+" LOG", inkKey)
}

func (v *outlineView) keys() []keyHelp {
	switch {
	case v.written && len(v.stack) > 1:
		return []keyHelp{{"Esc", "adopt the folder"}}
	case v.written:
		return nil
	case v.outline != nil:
		return []keyHelp{{"Enter", "write it"}, {"Esc", "point at another"}}
	}
	keys := []keyHelp{{"↑ ↓", "choose a line"}, {"Enter", "it names a mod"}}
	if len(v.stack) > 1 {
		keys = append(keys, keyHelp{"Esc", "back"})
	}
	return keys
}

func (v *outlineView) help() []helpList {
	return []helpList{{"The beginning of a dialect, from the name of one mod", []keyHelp{
		{"Enter", "the chosen line names a mod; then write what was found"},
		{"Esc", "point at another line"},
	}}}
}

func (v *outlineView) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case outlinedMsg:
		if msg.err != nil {
			v.complain(msg.err)
			return nil
		}
		v.outline, v.notice = msg.outline, ""
	case begunMsg:
		if msg.err != nil {
			v.complain(msg.err)
			return nil
		}
		v.written = true
	}
	return nil
}

func (v *outlineView) choose(i int) { v.selected = max(min(i, len(v.lines)-1), 0) }

func (v *outlineView) wheel(by int) { v.choose(v.selected + by) }

func (v *outlineView) key(k string) tea.Cmd {
	if by := v.moved(k, len(v.lines)); by != 0 {
		v.choose(v.selected + by)
		return nil
	}
	switch {
	case v.stuck:
	case k == "esc" && (v.outline == nil || v.written):
		if len(v.stack) > 1 { // a folder waits to be adopted
			return v.back()
		}
		return tea.Quit
	case k == "esc":
		v.outline, v.notice = nil, ""
	case k == "enter" && v.outline == nil:
		words := teach.Words(nil, v.lines[v.selected], nil)
		// What registers comes before the name more often than not.
		v.prompt = wordPrompt("The name of the mod in this line (↑ ↓ go through its words): ", words, max(len(words)-1, 0), v.outlineOf)
	case k == "enter" && !v.written:
		o := v.outline
		return v.wish(func() tea.Msg { return begunMsg{o.Write()} })
	}
	return nil
}

// outlineOf works out how mods are registered, by the name of one.
func (v *outlineView) outlineOf(mod string) tea.Cmd {
	return v.wish(func() tea.Msg {
		o, err := v.app.TeachServer(v.name, v.dir, v.file, mod, v.command)
		return outlinedMsg{o, err}
	})
}
