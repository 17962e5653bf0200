package tui

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/host"
)

type insideMsg struct {
	source  string
	choices lineup.Choices
	inside  *app.Inside
	at      int // the row that was selected
	err     error
}

// askSource asks for what is to be taken in; Tab completes what is typed.
func (m *model) askSource() {
	start := m.lastSource
	if start == "" && m.app.Downloads != "" {
		start = m.app.Downloads + "/"
	} else if start == "" {
		if dir, err := os.Getwd(); err == nil {
			start = dir + "/"
		}
	}
	hits, at := []string(nil), -1
	p := &prompt{label: "Take in (an archive, a folder or a file): ", value: start,
		done: func(typed string) tea.Cmd { return m.lookInto(typed, lineup.Choices{}, 0) },
		hint: []keyHelp{{"Enter", "look inside"}, {"↑ ↓", "choose"}, {"Tab", "complete"}, {"Esc", "leave it"}}}
	p.typed = func(string) { hits, at = nil, -1 }
	p.step = func(by int) {
		if hits == nil {
			hits = pathsLike(p.value)
		}
		if len(hits) > 0 {
			if at < 0 && by < 0 {
				at = 0
			}
			at = (at + by + len(hits)) % len(hits)
			p.value = hits[at]
		}
	}
	p.complete = func(typed string) string {
		hits, at = nil, -1
		return commonStart(typed, pathsLike(typed))
	}
	m.prompt = p
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

// lookInto opens the look inside a source, with the answers given so far.
func (m *model) lookInto(source string, c lineup.Choices, at int) tea.Cmd {
	source = expandHome(source)
	m.lastSource = filepath.Dir(source) + "/"
	name := m.server
	return m.begin("Looking into it", func(ctx context.Context, b *busy) tea.Msg {
		in, err := m.app.LookInto(ctx, source, name, c, b.read)
		return insideMsg{source, c, in, at, err}
	})
}

func (m *model) showInside(msg insideMsg) {
	m.done()
	if msg.err != nil {
		m.complain(msg.err)
		return
	}
	m.intake = newIntakeView(msg.source, m.board.look.Server.Record.Dir, msg.choices, msg.inside)
	if m.view == viewIntake && m.intake.open() == 0 {
		m.intake.selected = min(msg.at, max(len(m.intake.rows)-1, 0))
	}
	m.view, m.notice = viewIntake, ""
	switch n := m.intake.open(); {
	case len(msg.inside.Intake.Problems) > 0:
	case n > 0:
		m.say("%s to answer before it can be taken in.", count(n, "question is", "questions are"))
	default:
		m.say("Nothing is written yet. Enter shows the plan.")
	}
}

func (m *model) intakeKey(k string) tea.Cmd {
	v := m.intake
	switch k {
	case "up":
		v.step(-1)
	case "down":
		v.step(1)
	case "pgup":
		v.step(-m.bodyHeight() / 2)
	case "pgdown":
		v.step(m.bodyHeight() / 2)
	case "home":
		v.step(-len(v.rows))
	case "end":
		v.step(len(v.rows))
	case "tab":
		for i := range v.rows {
			if at := (v.selected + 1 + i) % len(v.rows); v.rows[at].question != nil {
				v.selected = at
				break
			}
		}
	case "esc":
		m.view, m.notice = viewBoard, ""
		return m.reload()
	case "q":
		return m.close()
	}
	if m.stuck || v.selected >= len(v.rows) {
		return nil
	}
	if k == "enter" && v.inside.Plan != nil {
		c := v.choices
		changes := v.inside.Plan.Changes
		take := changes[len(changes)-1]
		take.Choices = &c
		return m.mendNow([]lineup.Change{take})
	}
	if name := v.rows[v.selected].mod; k == "o" && name != "" && len(v.inside.Found.Mods) > 1 {
		return m.lookInto(v.source, v.without(name), v.selected)
	}
	if q := v.rows[v.selected].question; q != nil {
		return m.answerQuestion(k, q.About, len(q.Say) > 0 && q.Say[0] == "--agree")
	}
	return nil
}

// without are the choices with one of several mods left out, or taken in again.
// The last one cannot be left out.
func (v *intakeView) without(name string) lineup.Choices {
	c := v.choices
	in := map[string]bool{}
	for _, p := range v.inside.Intake.Mods {
		in[p.Name] = true
	}
	in[name] = !in[name]
	c.Only = nil
	for i := range v.inside.Found.Mods {
		if m := v.inside.Found.Mods[i].Name; in[m] {
			c.Only = append(c.Only, m)
		}
	}
	if len(c.Only) == 0 {
		c.Only = []string{name}
	}
	return c
}

// answerQuestion gives an answer and looks again.
func (m *model) answerQuestion(k, about string, name bool) tea.Cmd {
	v := m.intake
	c := v.choices
	c.Take, c.Keep, c.Both = append([]string{}, c.Take...), append([]string{}, c.Keep...), append([]string{}, c.Both...)
	switch {
	case name && k == "y":
		c.Agree = true
	case name && k == "n":
		m.prompt = &prompt{label: "Name: ", value: about, done: func(typed string) tea.Cmd {
			c.As = typed
			return m.lookInto(v.source, c, v.selected)
		}}
		return nil
	case !name && k == "t":
		c.Take = append(c.Take, about)
	case !name && k == "k":
		c.Keep = append(c.Keep, about)
	case !name && k == "b":
		c.Both = append(c.Both, about)
	default:
		return nil
	}
	return m.lookInto(v.source, c, v.selected)
}

// takeOut asks, where others need the mod, and shows the plan that takes it out.
func (m *model) takeOut() tea.Cmd {
	mod := m.board.mod()
	if mod == nil || mod.Base {
		return nil
	}
	name, server := mod.Name, m.server
	return m.begin("Looking at what goes with it", func(ctx context.Context, _ *busy) tea.Msg {
		r, err := m.app.Removal(ctx, server, name, lineup.Choices{})
		if err != nil {
			return removalMsg{name: name, err: err}
		}
		msg := removalMsg{name: name, needed: r.Dependents}
		if len(r.Problems) > 0 {
			msg.err = &app.Unanswered{About: "take out " + clean(name), Problems: r.Problems}
		}
		return msg
	})
}

type removalMsg struct {
	name   string
	needed []string
	err    error
}

func (m *model) showRemoval(msg removalMsg) tea.Cmd {
	m.done()
	if msg.err != nil {
		m.complain(msg.err)
		return nil
	}
	change := lineup.Change{Op: lineup.OpRemove, Mod: msg.name, Choices: &lineup.Choices{Agree: true}}
	if len(msg.needed) == 0 {
		return m.mendNow([]lineup.Change{change})
	}
	m.prompt = &prompt{label: clean(strings.Join(msg.needed, ", ")) + " cannot do without it. Take it out all the same? (yes) ", done: func(typed string) tea.Cmd {
		if !strings.EqualFold(typed, "yes") {
			return nil
		}
		return m.mendNow([]lineup.Change{change})
	}}
	return nil
}

type backupMsg struct {
	made host.Backup
	err  error
}

// backUp backs the world up.
func (m *model) backUp() tea.Cmd {
	server := m.server
	return m.begin("Backing the world up", func(ctx context.Context, b *busy) tea.Msg {
		made, err := m.app.Backup(ctx, server, "", b.copied)
		return backupMsg{made, err}
	})
}
