package settingsview

import (
	"fmt"
	"strings"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/tui/canvas"
	"initium/internal/tui/marks"
)

// room is how many rows there are between the heading and what is told of the chosen one.
func (v *view) room() int { return max(v.BodyHeight()-v.StoryHeight()-3, 1) }

func (v *view) Draw(c *canvas.Canvas, y, h int) {
	v.drawHeading(c, y)
	room := v.room()
	v.scroll = min(max(v.scroll, v.selected-room+1), max(v.selected-1, 0)) // the heading above it too
	v.scroll = max(min(v.scroll, len(v.rows)-room), 0)
	name := min(max(v.widest, 12), c.W*2/5)
	for i := v.scroll; i < min(v.scroll+room, len(v.rows)); i++ {
		v.drawRow(c, y+2+i-v.scroll, v.rows[i], i == v.selected, name)
	}
	if below := len(v.rows) - v.scroll - room; below > 0 {
		c.Right(c.W-1, y+1, fmt.Sprintf("↓ %d more", below), canvas.Dim)
	}
	top := y + 2 + room
	c.Rule(top)
	v.drawStory(c, top+1, y+h)
}

func (v *view) drawHeading(c *canvas.Canvas, y int) {
	x := c.Put(2, y, "Settings", canvas.Title)
	said := fmt.Sprintf("%s in %s", marks.Count(len(v.found.List), "setting", "settings"), marks.Count(v.found.Files, "file", "files"))
	if v.words != "" {
		fit := 0
		for _, r := range v.rows {
			if r.at >= 0 {
				fit++
			}
		}
		said = fmt.Sprintf("%d of %d that hold %q", fit, len(v.found.List), canvas.Clean(v.words))
	}
	if v.found.Cut {
		said += "; there are more files than are looked through"
	}
	x = c.PutWithin(x+3, y, c.W-x-4, said, canvas.Dim)
	if n := len(v.staged); n > 0 {
		c.PutWithin(x+3, y, c.W-x-4, fmt.Sprintf("▷ %s staged", marks.Count(n, "change", "changes")), canvas.Focus)
	}
	if len(v.rows) == 0 {
		what := "No file of this server sets anything that is understood here."
		if v.words != "" {
			what = "No setting holds that. Esc shows all."
		}
		c.PutWithin(2, y+3, c.W-3, what, canvas.Text)
	}
}

func (v *view) drawRow(c *canvas.Canvas, y int, r row, chosen bool, name int) {
	s := v.setting(r)
	switch {
	case r.unread != "":
		c.PutWithin(9, y, c.W-10, r.unread, canvas.Warn)
		return
	case s == nil:
		c.PutWithin(2, y, c.W-3, r.file, canvas.Title)
		return
	}
	if chosen {
		c.Lift(y, 0, c.W)
		c.Put(0, y, "▌", canvas.Focus)
	}
	ink, valueInk := canvas.Text, canvas.Text
	if s.Off {
		ink, valueInk = canvas.Dim, canvas.Dim
	}
	note, noteInk := v.note(s)
	switch {
	case r.becomes != nil:
		c.Put(1, y, "▷", canvas.Focus)
	case r.trouble != nil:
		m := marks.Severity(r.trouble.Severity)
		c.Put(1, y, m.Shape, m.Ink)
		note, noteInk = canvas.Clean(r.trouble.Message), m.Ink
	case s.Again > 0:
		c.Put(1, y, "~", canvas.Warn)
	}
	c.Right(7, y, fmt.Sprint(s.Line), canvas.Dim)
	c.PutWithin(9, y, name, s.Name, ink)
	at := 9 + name + 2
	width := max((c.W-at)/2, 8)
	x := at
	if r.becomes == nil {
		x = c.PutWithin(at, y, width, shown(s), valueInk)
	} else {
		x = c.PutWithin(at, y, width/2, shown(s), canvas.Dim)
		x = c.PutWithin(x+1, y, width-(x-at)-1, "→ "+becomes(s, r.becomes), canvas.Focus)
	}
	if x = max(x, at+width) + 2; note != "" {
		c.PutWithin(x, y, c.W-x-1, note, noteInk)
	}
}

// shown is a value as it is drawn.
func shown(s *app.Setting) string {
	if s.Value == "" {
		return "(nothing)"
	}
	return s.Value
}

// becomes is what a setting will be.
func becomes(s *app.Setting, c *lineup.Change) string {
	switch {
	case c.Op == lineup.OpUnset:
		return "taken out"
	case s.Secret:
		return "another one, hidden"
	case c.To == "":
		return "(nothing)"
	}
	return canvas.Clean(c.To)
}

// note is what a row says besides.
func (v *view) note(s *app.Setting) (string, canvas.Ink) {
	switch {
	case s.Again > 0:
		return fmt.Sprintf("set again on line %d", s.Again), canvas.Warn
	case s.Off:
		return "in a comment", canvas.Dim
	case s.Idle:
		return "nothing known reads it", canvas.Dim
	case s.Since != nil && s.Since.Older:
		return fmt.Sprintf("older than entry %d", s.Since.Entry), canvas.Dim
	case s.Since != nil && s.Since.Later:
		return fmt.Sprintf("changed by others since entry %d", s.Since.Entry), canvas.Dim
	case s.Since != nil:
		return fmt.Sprintf("entry %d, %s", s.Since.Entry, marks.Clock(s.Since.At)), canvas.Dim
	}
	return s.About, canvas.Dim
}

// drawStory tells all of the chosen setting.
func (v *view) drawStory(c *canvas.Canvas, y, end int) {
	r := v.current()
	s := v.setting(r)
	if s == nil {
		return
	}
	x := c.PutWithin(2, y, c.W-3, s.Name, canvas.Title)
	c.PutWithin(x+3, y, c.W-x-4, canvas.Ending(fmt.Sprintf("%s, line %d", s.File, s.Line), max(c.W-x-4, 2)), canvas.Dim)
	y++
	line := func(label, said string, ink canvas.Ink) {
		if said != "" && y < end {
			c.Put(2, y, label, canvas.Dim)
			y = c.Paragraph(12, y, c.W-13, min(end-y, 2), said, ink)
		}
	}
	is := fmt.Sprintf("%s (%s)", shown(s), kindWords(s))
	if s.Off {
		is = fmt.Sprintf("in a comment, %s; another value puts it in force", shown(s))
	}
	line("is", is, canvas.Text)
	if r.becomes != nil {
		line("becomes", becomes(s, r.becomes)+"; staged, and not written yet", canvas.Focus)
	}
	if f := r.trouble; f != nil {
		m := marks.Severity(f.Severity)
		line(m.Word, m.Shape+" "+canvas.Clean(f.Message), m.Ink)
		line("remedy", canvas.Clean(f.Remedy), canvas.Text)
	}
	if s.Again > 0 {
		line("again", fmt.Sprintf("It is set once more on line %d of this file.", s.Again), canvas.Warn)
	}
	line("about", s.About, canvas.Text)
	if len(s.ReadBy) > 0 {
		line("read by", strings.Join(s.ReadBy, ", "), canvas.Text)
	}
	if s.Idle {
		line("read by", "No mod says that it reads it, and the dialect does not know it as the server's.", canvas.Dim)
	}
	if s.Mod != "" {
		line("file", "It is one that "+s.Mod+" has made.", canvas.Text)
	}
	switch {
	case s.Since == nil:
		line("since", "Initium has not changed it.", canvas.Dim)
	case s.Since.Older:
		line("since", fmt.Sprintf("It was so before entry %d; what lies further back is not looked at.", s.Since.Entry), canvas.Dim)
	case s.Since.Later:
		line("since", fmt.Sprintf("Entry %d set it, and somebody else has changed it since.", s.Since.Entry), canvas.Text)
	default:
		line("since", strings.TrimSuffix(fmt.Sprintf("Entry %d, %s: %s", s.Since.Entry, marks.Clock(s.Since.At), s.Since.Why), ": "), canvas.Text)
	}
}
