package tui

import (
	"fmt"
	"strings"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"initium/internal/core/lineup"
	"initium/internal/core/rule"
)

// prompt is a line that the operator types.
type prompt struct {
	label, value string
	done         func(value string) tea.Cmd
	typed        func(value string) // after every key; may be nil
	step         func(by int)       // the arrow keys; may be nil
	leave        func()             // on Esc; may be nil
	complete     func(value string) string
	hint         []keyHelp // the keys that work; may be nil
	empty        bool      // nothing typed is an answer too
}

// maxTyped bounds what can be typed.
const maxTyped = 1000

func (m *model) promptKey(k tea.KeyPressMsg) tea.Cmd {
	p := m.prompt
	switch k.String() {
	case "esc":
		m.prompt = nil
		if p.leave != nil {
			p.leave()
		}
		return nil
	case "up", "down": // what is typed stays as the step leaves it
		if p.step != nil {
			p.step(map[string]int{"up": -1, "down": 1}[k.String()])
		}
		return nil
	case "tab":
		if p.complete != nil {
			p.value = p.complete(p.value)
		}
	case "enter":
		m.prompt = nil
		if p.empty || strings.TrimSpace(p.value) != "" {
			return p.done(strings.TrimSpace(p.value))
		}
	case "ctrl+u":
		p.value = ""
	case "backspace":
		if p.value != "" {
			_, size := utf8.DecodeLastRuneInString(p.value)
			p.value = p.value[:len(p.value)-size]
		}
	default:
		if s := k.Key().Text; s != "" && len(p.value)+len(s) <= maxTyped {
			p.value += clean(s)
		}
	}
	if p.typed != nil && m.prompt == p {
		p.typed(p.value)
	}
	return nil
}

// findMod asks for a part of a name and goes there while it is typed; the arrow
// keys go through all that have it.
func (m *model) findMod() {
	b := &m.board
	was := ""
	if mod := b.mod(); mod != nil {
		was = mod.Name
	}
	var hits []string
	at := 0
	goTo := func() {
		label := "Find: "
		if len(hits) > 0 {
			b.reveal(hits[at])
			label = fmt.Sprintf("Find (%d of %d): ", at+1, len(hits))
		} else if m.prompt != nil && m.prompt.value != "" {
			label = "Find (none has that): "
		}
		m.prompt.label = label
	}
	m.prompt = &prompt{
		label: "Find: ",
		done:  func(string) tea.Cmd { return nil },
		typed: func(text string) { hits, at = b.find(text), 0; goTo() },
		step: func(by int) {
			if len(hits) > 0 {
				at = (at + by + len(hits)) % len(hits)
				goTo()
			}
		},
		leave: func() { b.reveal(was) },
	}
}

// writeRule asks for a rule about the selected mod.
func (m *model) writeRule() tea.Cmd {
	mod := m.board.mod()
	if mod == nil {
		return nil
	}
	name, server := mod.Name, m.server
	m.prompt = &prompt{label: "Rule: " + clean(name) + " … (before, after, apart, needs, reads NAME; first, last, stay; then because …) ", done: func(typed string) tea.Cmd {
		r := parseRule(name, typed)
		m.stuck = true
		return func() tea.Msg { return stagedMsg{"Written down: " + r.String() + ".", m.app.PutRule(server, r)} }
	}}
	return nil
}

// parseRule reads "KIND [OTHER] [because REASON]".
func parseRule(name, typed string) rule.Rule {
	words, because, _ := strings.Cut(typed, " because ")
	fields := strings.Fields(words)
	r := rule.Rule{Mod: name, Because: strings.TrimSpace(because)}
	if len(fields) > 0 {
		r.Kind = rule.Kind(fields[0])
	}
	if len(fields) > 1 {
		r.Other = fields[1]
	}
	return r
}

// acceptFinding asks for the reason to accept the first finding of the selected
// row as it is.
func (m *model) acceptFinding() tea.Cmd {
	for _, f := range m.board.row().findings {
		if f.Accepted != "" {
			continue
		}
		server := m.server
		m.prompt = &prompt{label: "Accept \"" + f.Message + "\", because: ", done: func(because string) tea.Cmd {
			m.stuck = true
			return func() tea.Msg {
				_, err := m.app.Accept(server, f.Code, f.Mod, because)
				return stagedMsg{"Accepted, until what it says changes.", err}
			}
		}}
		return nil
	}
	m.say("There is no finding about this row to accept.")
	return nil
}

// newSection asks for the title of a section that begins above the selected row.
func (m *model) newSection() tea.Cmd {
	mod := m.board.mod()
	if mod == nil || len(mod.Entries) == 0 {
		return nil
	}
	before := m.board.line(mod)
	m.prompt = &prompt{label: "Title of the section that begins at " + clean(before) + ": ", done: func(title string) tea.Cmd {
		return m.stage(lineup.Change{Op: lineup.OpNewSection, Mod: title, Where: lineup.Where{Before: before}})
	}}
	return nil
}

// renameSection asks for a new title of the selected row's section.
func (m *model) renameSection() tea.Cmd {
	mod := m.board.mod()
	if mod == nil || mod.Section == "" {
		m.say("This row stands in no section.")
		return nil
	}
	old := mod.Section
	m.prompt = &prompt{label: "New title of the section: ", value: clean(old), done: func(title string) tea.Cmd {
		if title == old {
			return nil
		}
		return m.stage(lineup.Change{Op: lineup.OpRenameSection, Mod: old, To: title})
	}}
	return nil
}

// moveSection stages a move of the selected row's section past its neighbour.
func (m *model) moveSection(by int) tea.Cmd {
	mod := m.board.mod()
	if mod == nil || mod.Section == "" {
		return nil
	}
	titles := m.board.look.Survey.Lineup.SectionTitles()
	at := -1
	for i, title := range titles {
		if title == mod.Section {
			at = i
		}
	}
	c := lineup.Change{Op: lineup.OpMoveSection, Mod: mod.Section}
	switch {
	case at < 0 || at+by < 0 || at+by >= len(titles):
		return nil
	case by < 0:
		c.Where.Section = titles[at-1]
	case at+2 < len(titles):
		c.Where.Section = titles[at+2]
	}
	return m.stage(c)
}
