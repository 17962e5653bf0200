package frame

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"initium/internal/tui/canvas"
)

// Prompt is a line that the operator types or pastes.
type Prompt struct {
	Label string
	input textinput.Model
	done  func(value string) tea.Cmd
	Typed func(value string) // after every change; may be nil
	Step  func(by int)       // the arrow keys; nil for what was typed here before
	Leave func()             // on Esc; may be nil
	Hint  []Key              // the keys that work; may be nil
	Empty bool               // nothing typed is an answer too
	veil  bool               // what is typed is a secret

	Paths    bool                                  // what is typed is a path, to be completed
	Folders  bool                                  // of a folder
	Tell     func(dirs []string) map[string]string // something about listed folders; may be nil
	told     map[string]string
	proposed string   // the value that it began with, for as long as nothing was typed
	list     []string // files and folders that begin as typed
	listed   string   // and what was typed then
	chosen   int      // of the list, -1 for none
	wanted   bool     // Tab was pressed before the list had come
	recalled int      // how many lines back in what was typed before
}

// maxTyped bounds what can be typed.
const maxTyped = 1000

// NewPrompt is a prompt with a value to begin with.
func NewPrompt(label, value string, done func(string) tea.Cmd) *Prompt {
	p := &Prompt{Label: label, done: done, input: textinput.New(), proposed: value, chosen: -1}
	p.input.Prompt, p.input.CharLimit = "", maxTyped
	p.input.KeyMap.Paste.SetEnabled(false) // the terminal pastes; no program is run for it
	p.input.SetValue(value)
	p.input.CursorEnd()
	p.input.Focus()
	return p
}

// Hide asks for a secret: it is neither proposed, shown nor remembered.
func (p *Prompt) Hide() {
	p.veil, p.Paths, p.proposed = true, false, ""
	p.set("")
}

// PathPrompt asks for a path; files are listed as it is typed.
func PathPrompt(m *Model, label, value string, done func(string) tea.Cmd) (*Prompt, tea.Cmd) {
	p := NewPrompt(label, value, done)
	p.Paths = true
	return p, p.ListPaths()
}

// Value is what is typed.
func (p *Prompt) Value() string { return p.input.Value() }

// set gives the prompt another value, as if it had been typed.
func (p *Prompt) set(value string) {
	p.input.SetValue(value)
	p.input.CursorEnd()
}

// write lets the field take a key or a paste.
func (p *Prompt) write(msg tea.Msg) tea.Cmd {
	was := p.Value()
	p.input, _ = p.input.Update(msg) // a cursor that blinks is not wanted
	return p.changed(was)
}

// changed follows up what was typed.
func (p *Prompt) changed(was string) tea.Cmd {
	now := p.Value()
	if now == was {
		return nil
	}
	// A whole path in place of the proposed folder is meant to be the path.
	if rest, grown := strings.CutPrefix(now, p.proposed); p.Paths && p.proposed != "" && was == p.proposed && grown && (strings.HasPrefix(rest, "/") || strings.HasPrefix(rest, "~/")) {
		p.set(rest)
	}
	p.proposed, p.chosen, p.wanted, p.recalled = "", -1, false, 0
	if p.Typed != nil {
		p.Typed(p.Value())
	}
	return p.ListPaths()
}

// Type lets the field take a key by its name, one that was typed before the prompt stood there.
func (p *Prompt) Type(key string) {
	if key == "space" {
		key = " "
	}
	if r, n := utf8.DecodeRuneInString(key); n == len(key) && n > 0 {
		p.write(tea.KeyPressMsg{Code: r, Text: key})
	}
}

func (p *Prompt) paste(_ *Model, msg tea.PasteMsg) tea.Cmd {
	msg.Content = strings.TrimSpace(msg.Content) // the end of the line that it was copied with is none of it
	return p.write(msg)
}

func (p *Prompt) key(m *Model, k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "esc":
		m.Prompt = nil
		if p.Leave != nil {
			p.Leave()
		}
		return nil
	case "up", "down": // what is typed stays as the step leaves it
		by := map[string]int{"up": -1, "down": 1}[k.String()]
		switch {
		case p.Step != nil:
			p.Step(by)
		case p.Paths:
			p.choose(by)
		default:
			p.recall(m, -by)
		}
		return nil
	case "tab":
		if p.Paths {
			p.complete()
			return p.ListPaths()
		}
		return nil
	case "enter":
		m.Prompt = nil
		value := strings.TrimSpace(p.Value())
		if value == "" && !p.Empty {
			return nil
		}
		if lines := m.typed[p.Label]; value != "" && !p.veil && (len(lines) == 0 || lines[len(lines)-1] != value) {
			m.typed[p.Label] = append(lines, value)
		}
		return p.done(value)
	case "ctrl+u":
		was := p.Value()
		p.set("")
		return p.changed(was)
	}
	return p.write(k)
}

// recall goes through what was typed into prompts of this kind before.
func (p *Prompt) recall(m *Model, back int) {
	lines := m.typed[p.Label]
	at := min(max(p.recalled+back, 0), len(lines))
	if at == p.recalled {
		return
	}
	value := ""
	if at > 0 {
		value = lines[len(lines)-at]
	}
	p.set(value)
	p.recalled = at
}

// ListPaths lists what begins as typed.
func (p *Prompt) ListPaths() tea.Cmd {
	if !p.Paths {
		return nil
	}
	typed, tell, folders := p.Value(), p.Tell, p.Folders
	return func() tea.Msg {
		list := pathsLike(typed)
		if folders {
			list = slices.DeleteFunc(list, func(path string) bool { return !strings.HasSuffix(path, "/") })
		}
		msg := pathsMsg{p: p, typed: typed, list: list}
		if tell != nil {
			msg.told = tell(list[:min(len(list), mostTold)])
		}
		return msg
	}
}

// found takes the list, unless something else was typed meanwhile.
func (p *Prompt) found(msg pathsMsg) {
	if msg.typed != p.Value() {
		return
	}
	p.list, p.listed, p.told = msg.list, msg.typed, msg.told
	if p.wanted {
		p.wanted = false
		p.complete()
	}
}

// complete types what all that is listed begins with.
func (p *Prompt) complete() {
	if p.chosen < 0 && p.listed != p.Value() {
		p.wanted = true
		return
	}
	if p.chosen < 0 {
		p.set(commonStart(p.Value(), p.list))
	}
	p.chosen, p.proposed = -1, ""
}

// choose goes through the list.
func (p *Prompt) choose(by int) {
	if n := len(p.list); n > 0 {
		if p.chosen < 0 && by < 0 {
			p.chosen = 0
		}
		p.chosen = (p.chosen + by + n) % n
		p.set(p.list[p.chosen])
		p.proposed = ""
	}
}

// mostTold is about how many folders something is told.
const mostTold = 200

// mostListed is how many files are listed above what is typed.
const mostListed = 8

// drawList shows what can be chosen, above the foot.
func (p *Prompt) drawList(c *canvas.Canvas) {
	if !p.Paths || len(p.list) == 0 {
		return
	}
	n := min(len(p.list), mostListed, max(c.H-HeadHeight-FootHeight-1, 0))
	first := min(max(p.chosen-n/2, 0), len(p.list)-n)
	top := c.H - FootHeight - n
	c.Rule(top - 1)
	for i := range n {
		row, at := top+i, first+i
		c.Clear(row)
		k := canvas.Text
		if at == p.chosen {
			c.Lift(row, 0, c.W)
			c.Put(0, row, "▌", canvas.Focus)
			k = canvas.Title
		}
		name := filepath.Base(p.list[at])
		if strings.HasSuffix(p.list[at], "/") {
			name += "/"
		}
		x := c.PutWithin(4, row, c.W-5, name, k)
		if told := p.told[p.list[at]]; told != "" {
			c.PutWithin(max(x+2, 30), row, c.W-max(x+2, 30)-1, canvas.Clean(told), canvas.Good)
		}
	}
	if more := len(p.list) - first - n; more > 0 {
		c.Right(c.W, c.H-FootHeight-1, fmt.Sprintf(" ↓ %d more", more), canvas.Dim)
	}
}

// pathsLike are the files and folders whose paths begin as typed; folders end in a
// slash.
func pathsLike(typed string) (list []string) {
	dir, begin := filepath.Split(ExpandHome(typed))
	entries, err := os.ReadDir(filepath.Join(".", dir))
	if filepath.IsAbs(dir) {
		entries, err = os.ReadDir(dir)
	}
	if err != nil {
		return nil
	}
	for _, e := range entries {
		name := e.Name()
		if !strings.HasPrefix(name, begin) || strings.HasPrefix(name, ".") && begin == "" || canvas.Clean(name) != name {
			continue
		}
		if e.IsDir() {
			name += "/"
		}
		list = append(list, dir+name)
	}
	return list
}

// commonStart is what all paths begin with, or what was typed when there are none.
func commonStart(typed string, paths []string) string {
	if len(paths) == 0 {
		return typed
	}
	common := paths[0]
	for _, p := range paths {
		for !strings.HasPrefix(p, common) {
			_, size := utf8.DecodeLastRuneInString(common)
			common = common[:len(common)-size]
		}
	}
	return common
}

// ExpandHome puts the home folder for a ~ at the beginning of a path.
func ExpandHome(typed string) string {
	if rest, ok := strings.CutPrefix(typed, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return home + "/" + rest
		}
	}
	return typed
}

// draw shows what is typed, scrolled so that the place where it goes on is in sight.
func (p *Prompt) draw(c *canvas.Canvas, y int) {
	at := c.PutWithin(2, y, max(c.W*2/3, c.W-30), p.Label, canvas.Dim)
	runes := []rune(p.Value())
	if p.veil {
		runes = []rune(strings.Repeat("•", len(runes)))
	}
	cursor := min(p.input.Position(), len(runes))
	before := canvas.Ending(string(runes[:cursor]), c.W-at-3)
	at = c.PutWithin(at, y, c.W-at-2, before, canvas.Title)
	rest := string(runes[cursor:])
	if rest == "" {
		c.Put(at, y, "▏", canvas.Key)
		return
	}
	c.Put(at, y, "▏", canvas.Key)
	c.PutWithin(at+1, y, c.W-at-2, rest, canvas.Title)
}

// WordPrompt asks for a word, proposing some.
func WordPrompt(label string, words []string, at int, done func(string) tea.Cmd) *Prompt {
	value := ""
	if at < len(words) {
		value = canvas.Clean(words[at])
	}
	p := NewPrompt(label, value, done)
	p.Hint = []Key{{"↑ ↓", "choose"}, {"Enter", "take it"}, {"Esc", "leave it"}}
	p.Step = func(by int) {
		if len(words) > 0 {
			at = (at + by + len(words)) % len(words)
			p.set(canvas.Clean(words[at]))
		}
	}
	return p
}
