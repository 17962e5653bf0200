package tui

import (
	"strings"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"initium/internal/core/lineup"
)

// prompt is a line that the operator types.
type prompt struct {
	label, value string
	done         func(value string) tea.Cmd
}

// maxTyped bounds what can be typed.
const maxTyped = 120

func (m *model) promptKey(k tea.KeyPressMsg) tea.Cmd {
	p := m.prompt
	switch k.String() {
	case "esc":
		m.prompt = nil
	case "enter":
		m.prompt = nil
		if strings.TrimSpace(p.value) != "" {
			return p.done(strings.TrimSpace(p.value))
		}
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
