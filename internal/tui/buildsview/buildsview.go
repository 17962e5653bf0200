// Package buildsview is the screen of the builds and runtimes that lie side by side.
package buildsview

import (
	"cmp"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/text"
	"initium/internal/tui/canvas"
	"initium/internal/tui/frame"
	"initium/internal/tui/marks"
	"initium/internal/tui/planview"
)

// view lists what lies side by side, with what is used and what is not made for each.
type view struct {
	*frame.Desk
	server, dir string
	list        []app.PartThere
	chosen      int
	first       int
}

type listMsg struct {
	server, dir string
	list        []app.PartThere
	err         error
}

// Door leads from the board to here.
var Door = frame.Door{Key: "U", Foot: "builds", Help: "builds, runtimes and the loader: which are used", Open: openBuilds}

func openBuilds(s frame.Seat) tea.Cmd { return s.Place().Wish(lists(s.Place(), s.Server())) }

func lists(d *frame.Desk, server string) func() tea.Msg {
	return func() tea.Msg {
		record, err := d.App.Home.Record(server)
		if err != nil {
			return listMsg{err: err}
		}
		list, err := d.App.Builds(server)
		return listMsg{server, record.Dir, list, err}
	}
}

// Open shows the list, above the screen that asked for it or in it.
func (msg listMsg) Open(d *frame.Desk) tea.Cmd {
	switch {
	case msg.err != nil:
		d.Complain(msg.err)
		return nil
	case len(msg.list) == 0:
		d.Say("Its dialect tells of no builds that lie side by side, or none is there.")
		return nil
	}
	if v, ok := d.Screen.(*view); ok {
		v.set(msg)
		return nil
	}
	v := &view{}
	v.Desk = d.Model.Desk(v)
	v.set(msg)
	v.chosen = max(slices.IndexFunc(v.list, func(b app.PartThere) bool { return b.Used }), 0)
	return d.Enter(v)
}

func (v *view) set(msg listMsg) {
	v.server, v.dir, v.list = msg.server, msg.dir, msg.list
	v.choose(v.chosen)
}

// Again looks anew: what is used may have changed.
func (v *view) Again() tea.Cmd { return v.Ask(lists(v.Desk, v.server)) }

func (v *view) Update(msg tea.Msg) tea.Cmd {
	if msg, ok := msg.(listMsg); ok {
		return msg.Open(v.Desk)
	}
	return nil
}

func (v *view) choose(i int) { v.chosen = min(max(i, 0), max(len(v.list)-1, 0)) }

// Wheel moves on in the list.
func (v *view) Wheel(by int) { v.choose(v.chosen + by) }

// Key carries a key out.
func (v *view) Key(k string) tea.Cmd {
	if by := v.Moved(k, len(v.list)); by != 0 {
		v.choose(v.chosen + by)
		return nil
	}
	switch {
	case k == "esc":
		return v.Back()
	case v.Stuck || len(v.list) == 0:
	case k == "enter":
		b := &v.list[v.chosen]
		switch {
		case b.Absent:
			return v.lay()
		case b.Of == dialect.PartLoader:
			v.Say("It lies over the server; N lays another over it, and the ledger brings back what was there before.")
			return nil
		case b.Used && b.Problem == "":
			v.Say("It is the one that is used.")
			return nil
		}
		which := strings.TrimPrefix(b.Path, v.dir+"/")
		return v.Wish(planview.Planned(v.Desk, v.server, lineup.Change{Op: lineup.OpUse, Mod: b.Part, To: which}))
	case k == "N":
		return v.lay()
	case k == "d" && len(v.list[v.chosen].Laid) > 0:
		return v.Wish(planview.Planned(v.Desk, v.server, lineup.Change{Op: lineup.OpRemove, Mod: v.list[v.chosen].Part, Choices: &lineup.Choices{Agree: true}}))
	}
	return nil
}

// lay asks for another one to be laid beside those that are there, or over the server. What that would replace its plan
// shows, which is agreed to or not.
func (v *view) lay() tea.Cmd {
	part, words := v.list[v.chosen].Part, "Lay another "+canvas.Clean(v.list[v.chosen].Part)+" beside, from: "
	if v.list[v.chosen].Of == dialect.PartLoader {
		words = "Lay " + cmp.Or(canvas.Clean(v.list[v.chosen].About), canvas.Clean(part)) + " over the server, from: "
	}
	p, cmd := frame.PathPrompt(v.Model, words, v.App.Downloads+string(filepath.Separator), func(typed string) tea.Cmd {
		return v.Wish(func() tea.Msg {
			changes, err := v.App.LayOf(v.Ctx, v.server, part, frame.ExpandHome(typed), "", lineup.Choices{Take: []string{"all"}})
			if err != nil {
				return listMsg{err: err}
			}
			return planview.Planned(v.Desk, v.server, changes...)()
		})
	})
	v.Prompt = p
	return cmd
}

// Title says what is listed.
func (v *view) Title(c *canvas.Canvas) {
	x := c.Put(2, 0, canvas.Clean(v.server), canvas.Title)
	c.PutWithin(x+3, 0, c.W-x-4, "what lies side by side or over it, and which the start uses", canvas.Dim)
}

// Draw lists what there is.
func (v *view) Draw(c *canvas.Canvas, y, h int) {
	const storyHeight = 7
	room := max(h-storyHeight-2, 3)
	v.first = max(min(v.first, v.chosen), v.chosen-room+1)
	wide := c.W >= 100
	head := func(x int, s string) { c.Put(x, y, s, canvas.Dim) }
	where := 32
	head(4, "part")
	head(16, "version")
	head(where, "where")
	if wide {
		head(where+34, "changed")
		head(where+48, "does not fit")
	} else {
		head(where+24, "does not fit")
	}
	y++
	for i := v.first; i < min(len(v.list), v.first+room); i++ {
		v.drawRow(c, y+i-v.first, i, where, wide)
	}
	at := y + min(len(v.list), room) + 1
	c.Rule(at)
	v.drawStory(c, at+1, h-(at+1-y)-1)
}

func (v *view) drawRow(c *canvas.Canvas, y, i, where int, wide bool) {
	b := &v.list[i]
	if i == v.chosen {
		c.Lift(y, 0, c.W)
		c.Put(0, y, "▌", canvas.Focus)
	}
	ink := canvas.Text
	if b.Used {
		c.Put(2, y, "◆", canvas.Good)
		ink = canvas.Title
	}
	c.PutWithin(4, y, 11, canvas.Clean(b.Part), ink)
	c.PutWithin(16, y, 14, canvas.Clean(cmp.Or(b.Version, map[bool]string{true: "none", false: "not known"}[b.Absent])), ink)
	width, fit := 22, where+24
	if wide {
		width, fit = 32, where+48
		if !b.Changed.IsZero() {
			c.Put(where+34, y, b.Changed.Format("2 Jan 2006"), canvas.Dim)
		}
	}
	c.PutWithin(where, y, width, v.short(b.Path), canvas.Text)
	if words := misfit(b); words != "" {
		c.PutWithin(fit, y, c.W-fit-1, words, canvas.Bad)
	}
}

func (v *view) short(full string) string {
	if full == v.dir {
		return "over its folder"
	}
	return canvas.Clean(strings.TrimPrefix(full, v.dir+"/"))
}

// misfit says in a few words what is not made for one.
func misfit(b *app.PartThere) string {
	switch {
	case b.Problem != "":
		return "✕ " + canvas.Clean(b.Problem)
	case b.Wants != "":
		return "✕ the server wants " + canvas.Clean(b.Wants)
	case len(b.Unfit) > 0:
		return "✕ " + marks.Count(len(b.Unfit), "mod", "mods")
	}
	return ""
}

// drawStory tells more about the chosen one.
func (v *view) drawStory(c *canvas.Canvas, y, h int) {
	if len(v.list) == 0 {
		return
	}
	b, bottom := &v.list[v.chosen], y+h
	say := func(s string, k canvas.Ink) {
		if y < bottom && s != "" {
			y = c.Paragraph(2, y, c.W-4, min(2, bottom-y), s, k)
		}
	}
	say(canvas.Clean(b.About), canvas.Dim)
	switch {
	case b.Absent:
		say("There is none. Enter lays one over the server, from an archive or a folder; what it replaces is kept and comes back when it is taken out.", canvas.Text)
	case b.Of == dialect.PartLoader && len(b.Laid) > 0:
		say("It was laid over the server from here, with "+marks.Count(len(b.Laid), "file", "files")+". N lays another over it, and d takes it out: the server is as it was then.", canvas.Text)
	case b.Of == dialect.PartLoader:
		say("It was there when the server was adopted. N lays another over it.", canvas.Text)
	case b.Used && b.Said == "given":
		say("It is used: you have said so. Initium hands it to the start.", canvas.Text)
	case b.Used && b.Said != "":
		say("It is used: "+canvas.Clean(b.Said)+" names it.", canvas.Text)
	case b.Used:
		say("It is used, as nothing names another.", canvas.Text)
	default:
		say("Enter plans to use it: wherever the start names one. What check says of the start with it then is shown on the board before anything is written.", canvas.Text)
	}
	say(canvas.Clean(b.Problem), canvas.Bad)
	if b.Wants != "" {
		say(fmt.Sprintf("The server wants %s of it.", canvas.Clean(b.Wants)), canvas.Bad)
	}
	for _, name := range slices.Sorted(maps.Keys(b.Unfit)) {
		say(fmt.Sprintf("%s wants %s", text.Clean(name), text.Clean(b.Unfit[name])), canvas.Warn)
	}
}

// Keys are those at the bottom.
func (v *view) Keys() []frame.Key {
	keys := []frame.Key{{"↑ ↓", "choose"}}
	switch b := &v.list[v.chosen]; {
	case b.Absent:
		keys = append(keys, frame.Key{"Enter", "bring one"})
	case b.Of != dialect.PartLoader:
		keys = append(keys, frame.Key{"Enter", "use it"})
	}
	if len(v.list[v.chosen].Laid) > 0 {
		keys = append(keys, frame.Key{"d", "take out"})
	}
	return append(keys, frame.Key{"N", "bring another"}, frame.Key{"Esc", "to the board"})
}

// Help explains them.
func (v *view) Help() []frame.Help {
	return []frame.Help{{Title: "Builds and runtimes", Keys: []frame.Key{
		{"Enter", "plan to use the chosen one, wherever the start names one"},
		{"N", "lay another beside those that are there, or a loader over the server, from an archive or a folder"},
		{"d", "take a loader out that was laid over the server: what it replaced comes back"},
		{"Esc", "back to the board"},
	}}}
}
