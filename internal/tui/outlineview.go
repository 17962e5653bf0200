package tui

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
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
	name, dir, file, command string
	lines                    []string
	selected, top            int
	outline                  *app.Outline // that is proposed, or nil
	written                  bool
}

// maxStartup bounds how much of a startup file is shown, in bytes.
const maxStartup = 4 << 20

// TeachServer shows a startup file to begin a dialect from, until the operator closes
// it. command starts the server, "" when that is to be said later.
func TeachServer(ctx context.Context, a *app.App, name, dir, file, command string) error {
	full := file
	if _, err := os.Stat(full); err != nil {
		full = filepath.Join(dir, file)
	}
	data, err := os.ReadFile(full)
	if err != nil {
		return fmt.Errorf("read the startup file: %w", err)
	}
	v := &outlineView{name: name, dir: dir, file: file, command: command, lines: strings.Split(strings.TrimSuffix(string(data[:min(len(data), maxStartup)]), "\n"), "\n")}
	m := &model{ctx: ctx, app: a, palette: newPalette(groundOf(os.Getenv)), w: 80, h: 24, view: viewOutline, outline: v, only: true}
	return show(ctx, m)
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
	case v.written:
		return []keyHelp{{"q", "close"}}
	case v.outline != nil:
		return []keyHelp{{"Enter", "write it"}, {"Esc", "point at another"}, {"q", "close"}}
	}
	return []keyHelp{{"↑ ↓", "choose a line"}, {"Enter", "it names a mod"}, {"q", "close"}}
}

func (m *model) outlineKey(k string) tea.Cmd {
	v := m.outline
	h := max(m.bodyHeight()-outlineHeight-1, 3)
	by := map[string]int{"up": -1, "k": -1, "down": 1, "j": 1, "pgup": -h, "pgdown": h, "home": -len(v.lines), "end": len(v.lines)}[k]
	v.selected = max(min(v.selected+by, len(v.lines)-1), 0)
	switch {
	case k == "q" || k == "esc" && (v.outline == nil || v.written):
		return m.close()
	case k == "esc":
		v.outline, m.notice = nil, ""
	case k == "enter" && v.outline == nil:
		m.askMod()
	case k == "enter" && !v.written:
		if err := v.outline.Write(); err != nil {
			m.complain(err)
			return nil
		}
		v.written = true
	}
	return nil
}

// askMod asks which word of the chosen line is the name of a mod.
func (m *model) askMod() {
	v := m.outline
	words, at := teach.Words(nil, v.lines[v.selected], nil), 0
	if n := len(words); n > 0 {
		at = n - 1 // what registers comes before the name more often than not
	}
	m.prompt = &prompt{label: "The name of the mod in this line (↑ ↓ go through its words): ", step: func(by int) {
		if len(words) > 0 {
			at = (at + by + len(words)) % len(words)
			m.prompt.value = clean(words[at])
		}
	}, done: func(mod string) tea.Cmd {
		o, err := m.app.TeachServer(v.name, v.dir, v.file, mod, v.command)
		if err != nil {
			m.complain(err)
			return nil
		}
		v.outline, m.notice = o, ""
		return nil
	}}
	if len(words) > 0 {
		m.prompt.value = clean(words[at])
	}
}
