// Package expectview asks what every start of a server has to show besides.
package expectview

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/core/expect"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
)

type writtenMsg struct {
	e   expect.Expectation
	err error
}

func (msg writtenMsg) Open(d *frame.Desk) tea.Cmd {
	if msg.err != nil {
		d.Complain(msg.err)
		return nil
	}
	d.Say("From now on every proof looks whether %s.", msg.e)
	return nil
}

// Ask asks for an expectation of a server, or of a mod of it; begun is what is typed already. What
// begins with "server" is the server's, whatever mod was pointed at.
func Ask(d *frame.Desk, server, mod, begun string) tea.Cmd {
	of := ""
	if mod != "" {
		of = " of " + canvas.Clean(mod)
	}
	p := frame.NewPrompt("Expect"+of+" at every start: ", begun, func(typed string) tea.Cmd {
		said, own := strings.CutPrefix(strings.TrimSpace(typed), "server ")
		e, err := expect.Parse(said)
		if err != nil {
			d.Complain(err)
			return nil
		}
		if !own {
			e.Mod = mod
		}
		return d.Wish(func() tea.Msg { return writtenMsg{e, d.App.PutExpectation(server, e)} })
	})
	p.Hint = []frame.Key{{"Enter", "take it"}, {"line, no line, path, port", "TEXT"}, {"told", "NAME VALUE"}, {"reply", "WORDS = TEXT"}, {"… because", "WHY"}, {"server …", "not of the mod"}}
	if mod == "" {
		p.Hint = p.Hint[:len(p.Hint)-1]
	}
	d.Prompt = p
	return nil
}
