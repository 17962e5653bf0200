package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
)

// prompt is a line that the operator types or pastes.
type prompt struct {
	label string
	input textinput.Model
	done  func(value string) tea.Cmd
	typed func(value string) // after every change; may be nil
	step  func(by int)       // the arrow keys; nil for what was typed here before
	leave func()             // on Esc; may be nil
	hint  []keyHelp          // the keys that work; may be nil
	empty bool               // nothing typed is an answer too
	veil  bool               // what is typed is a secret

	paths    bool                                  // what is typed is a path, to be completed
	folders  bool                                  // of a folder
	tell     func(dirs []string) map[string]string // something about listed folders; may be nil
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

// newPrompt is a prompt with a value to begin with.
func newPrompt(label, value string, done func(string) tea.Cmd) *prompt {
	p := &prompt{label: label, done: done, input: textinput.New(), proposed: value, chosen: -1}
	p.input.Prompt, p.input.CharLimit = "", maxTyped
	p.input.KeyMap.Paste.SetEnabled(false) // the terminal pastes; no program is run for it
	p.input.SetValue(value)
	p.input.CursorEnd()
	p.input.Focus()
	return p
}

// hide asks for a secret: it is neither proposed, shown nor remembered.
func (p *prompt) hide() {
	p.veil, p.paths, p.proposed = true, false, ""
	p.set("")
}

// pathPrompt asks for a path; files are listed as it is typed.
func pathPrompt(m *model, label, value string, done func(string) tea.Cmd) (*prompt, tea.Cmd) {
	p := newPrompt(label, value, done)
	p.paths = true
	return p, p.listPaths()
}

func (p *prompt) value() string { return p.input.Value() }

// set gives the prompt another value, as if it had been typed.
func (p *prompt) set(value string) {
	p.input.SetValue(value)
	p.input.CursorEnd()
}

// write lets the field take a key or a paste.
func (p *prompt) write(msg tea.Msg) tea.Cmd {
	was := p.value()
	p.input, _ = p.input.Update(msg) // a cursor that blinks is not wanted
	return p.changed(was)
}

// changed follows up what was typed.
func (p *prompt) changed(was string) tea.Cmd {
	now := p.value()
	if now == was {
		return nil
	}
	// A whole path in place of the proposed folder is meant to be the path.
	if rest, grown := strings.CutPrefix(now, p.proposed); p.paths && p.proposed != "" && was == p.proposed && grown && (strings.HasPrefix(rest, "/") || strings.HasPrefix(rest, "~/")) {
		p.set(rest)
	}
	p.proposed, p.chosen, p.wanted, p.recalled = "", -1, false, 0
	if p.typed != nil {
		p.typed(p.value())
	}
	return p.listPaths()
}

func (p *prompt) paste(_ *model, msg tea.PasteMsg) tea.Cmd {
	msg.Content = strings.TrimSpace(msg.Content) // the end of the line that it was copied with is none of it
	return p.write(msg)
}

func (p *prompt) key(m *model, k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "esc":
		m.prompt = nil
		if p.leave != nil {
			p.leave()
		}
		return nil
	case "up", "down": // what is typed stays as the step leaves it
		by := map[string]int{"up": -1, "down": 1}[k.String()]
		switch {
		case p.step != nil:
			p.step(by)
		case p.paths:
			p.choose(by)
		default:
			p.recall(m, -by)
		}
		return nil
	case "tab":
		if p.paths {
			p.complete()
			return p.listPaths()
		}
		return nil
	case "enter":
		m.prompt = nil
		value := strings.TrimSpace(p.value())
		if value == "" && !p.empty {
			return nil
		}
		if lines := m.typed[p.label]; value != "" && !p.veil && (len(lines) == 0 || lines[len(lines)-1] != value) {
			m.typed[p.label] = append(lines, value)
		}
		return p.done(value)
	case "ctrl+u":
		was := p.value()
		p.set("")
		return p.changed(was)
	}
	return p.write(k)
}

// recall goes through what was typed into prompts of this kind before.
func (p *prompt) recall(m *model, back int) {
	lines := m.typed[p.label]
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

// listPaths lists what begins as typed.
func (p *prompt) listPaths() tea.Cmd {
	if !p.paths {
		return nil
	}
	typed, tell, folders := p.value(), p.tell, p.folders
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
func (p *prompt) found(msg pathsMsg) {
	if msg.typed != p.value() {
		return
	}
	p.list, p.listed, p.told = msg.list, msg.typed, msg.told
	if p.wanted {
		p.wanted = false
		p.complete()
	}
}

// complete types what all that is listed begins with.
func (p *prompt) complete() {
	if p.chosen < 0 && p.listed != p.value() {
		p.wanted = true
		return
	}
	if p.chosen < 0 {
		p.set(commonStart(p.value(), p.list))
	}
	p.chosen, p.proposed = -1, ""
}

// choose goes through the list.
func (p *prompt) choose(by int) {
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
func (p *prompt) drawList(c *canvas) {
	if !p.paths || len(p.list) == 0 {
		return
	}
	n := min(len(p.list), mostListed, max(c.h-headHeight-footHeight-1, 0))
	first := min(max(p.chosen-n/2, 0), len(p.list)-n)
	top := c.h - footHeight - n
	c.rule(top - 1)
	for i := range n {
		row, at := top+i, first+i
		c.clear(row)
		k := inkText
		if at == p.chosen {
			c.lift(row, 0, c.w)
			c.put(0, row, "▌", inkFocus)
			k = inkTitle
		}
		name := filepath.Base(p.list[at])
		if strings.HasSuffix(p.list[at], "/") {
			name += "/"
		}
		x := c.putWithin(4, row, c.w-5, name, k)
		if told := p.told[p.list[at]]; told != "" {
			c.putWithin(max(x+2, 30), row, c.w-max(x+2, 30)-1, clean(told), inkGood)
		}
	}
	if more := len(p.list) - first - n; more > 0 {
		c.right(c.w, c.h-footHeight-1, fmt.Sprintf(" ↓ %d more", more), inkDim)
	}
}

// pathsLike are the files and folders whose paths begin as typed; folders end in a
// slash.
func pathsLike(typed string) (list []string) {
	dir, begin := filepath.Split(expandHome(typed))
	entries, err := os.ReadDir(filepath.Join(".", dir))
	if filepath.IsAbs(dir) {
		entries, err = os.ReadDir(dir)
	}
	if err != nil {
		return nil
	}
	for _, e := range entries {
		name := e.Name()
		if !strings.HasPrefix(name, begin) || strings.HasPrefix(name, ".") && begin == "" || clean(name) != name {
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

func expandHome(typed string) string {
	if rest, ok := strings.CutPrefix(typed, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return home + "/" + rest
		}
	}
	return typed
}

// draw shows what is typed, scrolled so that the place where it goes on is in sight.
func (p *prompt) draw(c *canvas, y int) {
	at := c.putWithin(2, y, max(c.w*2/3, c.w-30), p.label, inkDim)
	runes := []rune(p.value())
	if p.veil {
		runes = []rune(strings.Repeat("•", len(runes)))
	}
	cursor := min(p.input.Position(), len(runes))
	before := ending(string(runes[:cursor]), c.w-at-3)
	at = c.putWithin(at, y, c.w-at-2, before, inkTitle)
	rest := string(runes[cursor:])
	if rest == "" {
		c.put(at, y, "▏", inkKey)
		return
	}
	c.put(at, y, "▏", inkKey)
	c.putWithin(at+1, y, c.w-at-2, rest, inkTitle)
}

// wordPrompt asks for a word, proposing some.
func wordPrompt(label string, words []string, at int, done func(string) tea.Cmd) *prompt {
	value := ""
	if at < len(words) {
		value = clean(words[at])
	}
	p := newPrompt(label, value, done)
	p.step = func(by int) {
		if len(words) > 0 {
			at = (at + by + len(words)) % len(words)
			p.set(clean(words[at]))
		}
	}
	return p
}
