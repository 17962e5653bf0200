package board

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/core/lineup"
	"initium/internal/core/planner"
	"initium/internal/core/rule"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/planview"
)

// findMod asks for a part of a name and goes there while it is typed; the arrow
// keys go through all that have it.
func (b *Board) findMod() {
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
		} else if b.Prompt.Value() != "" {
			label = "Find (none has that): "
		}
		b.Prompt.Label = label
	}
	p := frame.NewPrompt("Find: ", "", func(string) tea.Cmd { return nil })
	p.Typed = func(text string) { hits, at = b.find(text), 0; goTo() }
	p.Step = func(by int) {
		if len(hits) > 0 {
			at = (at + by + len(hits)) % len(hits)
			goTo()
		}
	}
	p.Leave = func() { b.reveal(was) }
	b.Prompt = p
}

// writeRule asks for a rule about the selected mod.
func (b *Board) writeRule() tea.Cmd {
	mod := b.mod()
	if mod == nil {
		return nil
	}
	name, server := mod.Name, b.name
	b.Prompt = frame.NewPrompt("Rule: "+canvas.Clean(name)+" … (before, after, apart, needs, reads NAME; first, last, stay; then because …) ", "", func(typed string) tea.Cmd {
		r := parseRule(name, typed)
		return b.alter(func() tea.Msg { return stagedMsg{"Written down: " + r.String() + ".", b.App.PutRule(server, r)} })
	})
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
func (b *Board) acceptFinding() tea.Cmd {
	for _, f := range b.current().findings {
		if f.Accepted != "" {
			continue
		}
		server := b.name
		b.Prompt = frame.NewPrompt("Accept \""+f.Message+"\", because: ", "", func(because string) tea.Cmd {
			return b.alter(func() tea.Msg {
				_, err := b.App.Accept(server, f.Code, f.Mod, because)
				return stagedMsg{"Accepted, until the facts that it tells of change.", err}
			})
		})
		return nil
	}
	b.Say("There is no finding about this row to accept.")
	return nil
}

// foldersMsg are the folders that a mod can be put into.
type foldersMsg struct {
	mod  string
	list []string
	at   int
	err  error
}

// putInto asks for the folder or category that the selected mod is put into.
func (b *Board) putInto() tea.Cmd {
	mod := b.mod()
	if mod == nil || mod.Path == "" {
		b.Say("This row has no files that could be put anywhere.")
		return nil
	}
	server, name, now := b.name, mod.Name, path.Dir(mod.Path)
	return b.Wish(func() tea.Msg {
		list, err := b.App.Folders(server)
		at := slices.IndexFunc(list, func(f string) bool { return strings.HasSuffix(now, "/"+f) })
		return foldersMsg{name, list, max(at, 0), err}
	})
}

// Open asks for one of them.
func (msg foldersMsg) Open(d *frame.Desk) tea.Cmd {
	b, ok := d.Screen.(*Board)
	if !ok {
		return nil
	}
	if msg.err != nil {
		b.Complain(msg.err)
		return nil
	}
	b.Prompt = frame.WordPrompt("Put "+canvas.Clean(msg.mod)+" into (↑ ↓, or type a category): ", msg.list, msg.at, func(typed string) tea.Cmd {
		return b.stage(lineup.Change{Op: lineup.OpPutInto, Mod: msg.mod, To: typed})
	})
	return nil
}

// newSection asks for the title of a section that begins above the selected row.
func (b *Board) newSection() tea.Cmd {
	mod := b.mod()
	if mod == nil || len(mod.Entries) == 0 {
		return nil
	}
	before := b.line(mod)
	b.Prompt = frame.NewPrompt("Title of the section that begins at "+canvas.Clean(before)+": ", "", func(title string) tea.Cmd {
		return b.stage(lineup.Change{Op: lineup.OpNewSection, Mod: title, Where: lineup.Where{Before: before}})
	})
	return nil
}

// renameSection asks for a new title of the selected row's section.
func (b *Board) renameSection() tea.Cmd {
	mod := b.mod()
	if mod == nil || mod.Section == "" {
		b.Say("This row stands in no section.")
		return nil
	}
	old := mod.Section
	b.Prompt = frame.NewPrompt("New title of the section: ", canvas.Clean(old), func(title string) tea.Cmd {
		if title == old {
			return nil
		}
		return b.stage(lineup.Change{Op: lineup.OpRenameSection, Mod: old, To: title})
	})
	return nil
}

// moveSection stages a move of the selected row's section past its neighbour.
func (b *Board) moveSection(by int) tea.Cmd {
	mod := b.mod()
	if mod == nil || mod.Section == "" {
		return nil
	}
	titles := b.look.Survey.Lineup.SectionTitles()
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
	return b.stage(c)
}

// takeOut asks, where others need the mod, and shows the plan that takes it out.
func (b *Board) takeOut() tea.Cmd {
	mod := b.mod()
	if mod == nil || mod.Base {
		return nil
	}
	name, server := mod.Name, b.name
	return b.Begin("Looking at what goes with it", func(ctx context.Context, _ *frame.Busy) tea.Msg {
		r, err := b.App.Removal(ctx, server, name, lineup.Choices{})
		if err != nil {
			return removalMsg{name: name, err: err}
		}
		msg := removalMsg{name: name, needed: r.Dependents}
		if len(r.Problems) > 0 {
			msg.err = &planner.Unanswered{About: "take out " + canvas.Clean(name), Problems: r.Problems}
		}
		return msg
	})
}

type removalMsg struct {
	name   string
	needed []string
	err    error
}

func (b *Board) showRemoval(msg removalMsg) tea.Cmd {
	if msg.err != nil {
		b.Complain(msg.err)
		return nil
	}
	change := lineup.Change{Op: lineup.OpRemove, Mod: msg.name, Choices: &lineup.Choices{Agree: true}}
	if len(msg.needed) == 0 {
		return b.mendNow([]lineup.Change{change})
	}
	b.Prompt = frame.NewPrompt(canvas.Clean(strings.Join(msg.needed, ", "))+" cannot do without it. Take it out all the same? (yes) ", "", func(typed string) tea.Cmd {
		if !strings.EqualFold(typed, "yes") {
			return nil
		}
		return b.mendNow([]lineup.Change{change})
	})
	return nil
}

// renewWorld plans to begin the world anew.
func (b *Board) renewWorld() tea.Cmd {
	name := b.name
	return b.Wish(func() tea.Msg {
		changes, err := b.App.RenewOf(name, nil)
		if err != nil {
			return removalMsg{name: name, err: err}
		}
		return planview.Planned(b.Desk, name, changes...)()
	})
}
