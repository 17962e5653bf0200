package intakeview

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
	"initium/internal/tui/planview"
)

type insideMsg struct {
	server  string
	dir     string // the server's
	source  string
	choices lineup.Choices
	inside  *app.Inspection
	at      int // the row that was selected
	err     error
}

// Door leads from the board to here.
var Door = frame.Door{Key: "i", Foot: "take in", Help: "take something in: look inside an archive first", Often: true, Open: askSource}

// askSource asks for what is to be taken in; what is in the folder is listed as it is
// typed.
func askSource(s frame.Seat) tea.Cmd {
	d, server := s.Place(), s.Server()
	start := d.Sources
	if start == "" && d.App.Downloads != "" {
		start = d.App.Downloads + "/"
	} else if start == "" {
		if dir, err := os.Getwd(); err == nil {
			start = dir + "/"
		}
	}
	p, cmd := frame.PathPrompt(d.Model, "Take in (an archive, a folder or a file): ", start, func(typed string) tea.Cmd {
		typed = frame.ExpandHome(typed)
		d.Sources = filepath.Dir(typed) + "/"
		return lookInto(d, server, typed, lineup.Choices{}, 0)
	})
	p.Hint = []frame.Key{{"Enter", "look inside"}, {"↑ ↓", "choose"}, {"Tab", "complete"}, {"Ctrl+U", "empty it"}, {"Esc", "leave it"}}
	d.Prompt = p
	return cmd
}

// lookInto looks inside a source, with the answers given so far.
func lookInto(d *frame.Desk, server, source string, c lineup.Choices, at int) tea.Cmd {
	return d.Begin("Looking into it", func(ctx context.Context, b *frame.Busy) tea.Msg {
		in, err := d.App.Inspect(ctx, source, server, c, b.Read)
		record, known := d.App.Home.Record(server)
		return insideMsg{server, record.Dir, source, c, in, at, cmp.Or(err, known)}
	})
}

// Open shows the look inside a source, or what an answer has changed in it.
func (msg insideMsg) Open(d *frame.Desk) tea.Cmd {
	if msg.err != nil {
		d.Complain(msg.err)
		return nil
	}
	v, there := d.Screen.(*view)
	if !there {
		v = newView(d.Model, msg)
		cmd := d.Enter(v)
		v.sayNext()
		return cmd
	}
	v.set(msg)
	if v.open() == 0 {
		v.selected = min(msg.at, max(len(v.rows)-1, 0))
	}
	v.sayNext()
	return nil
}

// sayNext says what stands between the look and its plan.
func (v *view) sayNext() {
	switch n := v.open(); {
	case len(v.inside.Intake.Problems) > 0:
	case n > 0:
		v.Say("%s to answer before it can be taken in.", marks.Count(n, "question is", "questions are"))
	default:
		v.Say("Nothing is written yet. Enter shows the plan.")
	}
}

func (v *view) Update(tea.Msg) tea.Cmd { return nil }

func (v *view) Key(k string) tea.Cmd {
	if by := v.Moved(k, len(v.rows)); by != 0 {
		v.step(by)
		return nil
	}
	switch k {
	case "tab":
		for i := range v.rows {
			if at := (v.selected + 1 + i) % len(v.rows); v.rows[at].question != nil {
				v.selected = at
				break
			}
		}
	case "esc":
		return v.Desk.Back()
	}
	if v.Stuck || v.selected >= len(v.rows) {
		return nil
	}
	if k == "enter" && v.inside.Plan != nil {
		c := v.choices
		changes := v.inside.Plan.Changes
		take := changes[len(changes)-1]
		take.Choices = &c
		return v.Wish(planview.Planned(v.Desk, v.server, take))
	}
	switch k {
	case "I":
		return v.askFolder()
	case "h":
		return v.askSection()
	case "z":
		c := v.choices
		c.Alone = !c.Alone
		return lookInto(v.Desk, v.server, v.source, c, v.selected)
	}
	if name := v.rows[v.selected].mod; k == "o" && name != "" && len(v.inside.Found.Mods) > 1 {
		return lookInto(v.Desk, v.server, v.source, v.without(name), v.selected)
	}
	if q := v.rows[v.selected].question; q != nil && len(k) == 1 {
		return v.answerQuestion(q, int(k[0]-'1'))
	}
	return nil
}

func (v *view) Wheel(by int) { v.step(by) }

func (v *view) Click(_, line int) tea.Cmd {
	if at := v.scroll + line + frame.HeadHeight - v.rowsAt; line+frame.HeadHeight >= v.rowsAt && line < v.BoardHeight() && at < len(v.rows) {
		v.selected = at
	}
	return nil
}

func (v *view) Draw(c *canvas.Canvas, y, _ int) {
	v.drawParts(c, y, v.BoardHeight())
	c.Rule(y + v.BoardHeight())
	v.drawStory(c, y+v.BoardHeight()+1, v.StoryHeight())
}

func (v *view) Help() []frame.Help {
	return []frame.Help{{Title: "A look inside what came: what it is, and where each part goes", Keys: []frame.Key{
		{"Enter", "the plan of taking it in, once nothing is open"},
		{"Tab", "go to the next question"},
		{"1 2 3", "answer it, as the row says"},
		{"o", "leave a mod out, or take it in again"},
		{"I", "the folder that they are put into: one that is there, or a new category"},
		{"h", "the section that their lines go into"},
		{"z", "alone: all other mods are switched off with it; once more: beside them"},
	}}}
}

// askFolder asks for the folder that mods are put into.
func (v *view) askFolder() tea.Cmd {
	c := v.choices
	v.Prompt = frame.WordPrompt("Put into (↑ ↓, or type a category; empty for where its family has it): ", v.inside.Folders, max(slices.Index(v.inside.Folders, c.Into), 0), func(typed string) tea.Cmd {
		c.Into = typed
		return lookInto(v.Desk, v.server, v.source, c, v.selected)
	})
	v.Prompt.Empty = true
	return nil
}

// askSection asks for the section that new lines go into.
func (v *view) askSection() tea.Cmd {
	if len(v.inside.Titles) == 0 {
		v.Say("Its startup file has no sections.")
		return nil
	}
	c := v.choices
	v.Prompt = frame.WordPrompt("Into the section (↑ ↓; empty for where its needs stand): ", v.inside.Titles, max(slices.Index(v.inside.Titles, c.Section), 0), func(typed string) tea.Cmd {
		c.Section = typed
		return lookInto(v.Desk, v.server, v.source, c, v.selected)
	})
	v.Prompt.Empty = true
	return nil
}

// without are the choices with one of several mods left out, or taken in again.
// The last one cannot be left out.
func (v *view) without(name string) lineup.Choices {
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

// answers are what can be said to a question, in the order of the keys.
func (v *view) answers(q *intake.Question) []frame.Key {
	words := map[intake.Answer]string{intake.AnswerAgree: "yes, call it so", intake.AnswerName: "another name",
		intake.AnswerTake: "take this one", intake.AnswerKeep: "keep what is there", intake.AnswerBoth: "both, side by side"}
	list := make([]frame.Key, len(q.Answers))
	for i, answer := range q.Answers {
		list[i] = frame.Key{strconv.Itoa(i + 1), words[answer]}
	}
	return list
}

// answerQuestion gives an answer and looks again.
func (v *view) answerQuestion(q *intake.Question, n int) tea.Cmd {
	c := v.choices
	c.Take, c.Keep, c.Both = append([]string{}, c.Take...), append([]string{}, c.Keep...), append([]string{}, c.Both...)
	if n < 0 || n >= len(q.Answers) {
		return nil
	}
	switch q.Answers[n] {
	case intake.AnswerAgree:
		c.Agreed = append(slices.Clone(c.Agreed), q.About)
	case intake.AnswerName:
		v.Prompt = frame.NewPrompt("Name: ", q.About, func(typed string) tea.Cmd {
			c.As = typed
			return lookInto(v.Desk, v.server, v.source, c, v.selected)
		})
		return nil
	case intake.AnswerTake:
		c.Take = append(c.Take, q.About)
	case intake.AnswerKeep:
		c.Keep = append(c.Keep, q.About)
	case intake.AnswerBoth:
		c.Both = append(c.Both, q.About)
	}
	return lookInto(v.Desk, v.server, v.source, c, v.selected)
}
