package board

import (
	"fmt"
	"strings"

	"initium/internal/core/expect"
	"initium/internal/core/forecast"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/tui/canvas"
	"initium/internal/tui/marks"
)

// drawStory tells about the selected row: what it is, what happened to it, the
// evidence, and what can be done.
func (b *Board) drawStory(c *canvas.Canvas, y, h int) {
	r := b.current()
	if r.mod == nil && r.hidden > 0 {
		c.Put(2, y, r.title, canvas.Title)
		c.PutWithin(2, y+1, c.W-3, marks.Count(r.hidden, "mod is", "mods are")+" folded away here; Tab shows them, ⇧Tab unfolds every section.", canvas.Text)
		return
	}
	if r.mod == nil && len(r.findings) == 0 || h < 1 {
		return
	}
	m := r.mod
	if m == nil {
		m = &survey.Mod{Name: r.title}
	}
	x := c.Put(2, y, canvas.Clean(m.Name), canvas.Title)
	x = c.Put(x+1, y, canvas.Clean(m.Release), canvas.Dim)
	if m.Title != "" && m.Title != m.Name {
		x = c.Put(x+2, y, canvas.Clean(m.Title), canvas.Dim)
	}
	if r.outcome != nil {
		mark := marks.Outcome(r.outcome.Outcome)
		x = c.Put(x+3, y, mark.Shape+" "+mark.Word, mark.Ink)
		c.PutWithin(x+2, y, c.W-x-3, r.outcome.Reason, canvas.Text)
	}
	end := y + h
	y++
	remedies := b.remedies(r)
	room := end - len(remedies)
	for _, line := range b.storyLines(r) {
		if y >= max(room, end-h+2) {
			break
		}
		c.Put(2, y, line.label, line.ink)
		c.PutWithin(12, y, c.W-13, line.text, line.textInk)
		y++
	}
	fix := 0
	for _, rem := range remedies {
		if y >= end {
			break
		}
		label, words := "by hand", rem.text
		k := canvas.Dim
		if rem.canDo() {
			fix++
			label, k = fmt.Sprintf("remedy %d", fix), canvas.Key
		}
		if rem.root != "" {
			words += fmt.Sprintf("   (mends %s, which this one waits for)", rem.root)
		}
		c.Put(2, y, label, k)
		c.PutWithin(12, y, c.W-13, words, canvas.Text)
		y++
	}
}

type storyLine struct {
	label, text  string
	ink, textInk canvas.Ink
}

func (b *Board) storyLines(r boardRow) (lines []storyLine) {
	add := func(label, text string, k, textInk canvas.Ink) {
		lines = append(lines, storyLine{label, text, k, textInk})
	}
	for _, f := range r.findings {
		mark := marks.Severity(f.Severity)
		text := f.Message
		if f.Accepted != "" {
			text += "   (accepted: " + canvas.Clean(f.Accepted) + ")"
		}
		if f.Line > 0 {
			text += fmt.Sprintf("   (%s, line %d)", strings.TrimPrefix(f.File, b.look.Server.Record.Dir+"/"), f.Line)
		}
		add(mark.Shape+" "+mark.Word, text, mark.Ink, canvas.Text)
	}
	if r.mod == nil {
		return lines
	}
	if r.outcome != nil {
		lines = append(lines, evidenceLines(r.outcome)...)
	}
	m := r.mod
	if later := b.later(m); later != nil {
		add("later", marks.Clock(b.last.At(later))+": "+marks.OutcomeWords(later), canvas.Dim, canvas.Text)
		lines = append(lines, evidenceLines(later)...)
	}
	for _, e := range b.expected(m) {
		k := canvas.Text
		if !e.So {
			k = canvas.Bad
		}
		add("expected", e.String(), canvas.Dim, k)
	}
	if re := b.reloaded(m.Name); re != nil {
		add(re.Do, marks.Clock(re.At)+": "+marks.OutcomeWords(&re.Mod), canvas.Dim, canvas.Text)
	}
	if f := r.foretold; f != nil && m.On && (f.Outcome != forecast.Confirmed || r.outcome != nil && b.outdated) {
		words := string(f.Outcome)
		if f.Because != "" {
			words += ": " + f.Because
		}
		add("foretold", words, canvas.Dim, canvas.Text)
	}
	if needs := b.needsText(m); needs != "" {
		add("needs", needs, canvas.Dim, canvas.Text)
	}
	if users := b.usersText(m); users != "" {
		add("needed by", users, canvas.Dim, canvas.Text)
	}
	if m.Path != "" {
		add("folder", canvas.Clean(b.look.Server.Record.Place(m.Path)), canvas.Dim, canvas.Dim)
	}
	if len(m.Entries) > 0 {
		add("declared", canvas.Clean(b.declared(m)), canvas.Dim, canvas.Dim)
	}
	return lines
}

// evidenceLines are what speaks for the outcome of a mod, and what against it.
func evidenceLines(m *proof.Mod) (lines []storyLine) {
	if m.Against != "" {
		lines = append(lines, storyLine{"≠ against", m.Against, canvas.Warn, canvas.Text})
	}
	k := canvas.Text
	if m.Outcome == proof.Failed {
		k = canvas.Title
	}
	for _, e := range m.Evidence {
		label := fmt.Sprintf("log %d", e.Line)
		switch {
		case e.Line == 0:
			label = string(e.Source)
		case e.Source == proof.SourceConsole:
			label = fmt.Sprintf("reply %d", e.Line)
		}
		lines = append(lines, storyLine{label, e.Text, canvas.Dim, k})
		for _, more := range e.More[:min(len(e.More), 6)] {
			lines = append(lines, storyLine{"", more, canvas.Dim, canvas.Dim})
		}
	}
	return lines
}

func (b *Board) needsText(m *survey.Mod) string {
	var words []string
	for _, want := range m.Needs() {
		name := want.Name
		word := canvas.Clean(name)
		switch n := b.look.Survey.Answer(name); {
		case n == nil || n.Path == "":
			word += " (not there)"
		case !n.On && !n.Base:
			word += " (off)"
		case n.Base:
			word += " (the server's own)"
		}
		words = append(words, word)
	}
	for _, want := range m.OptionalNeeds() {
		name := want.Name
		words = append(words, canvas.Clean(name)+" (if there)")
	}
	return strings.Join(words, ", ")
}

func (b *Board) usersText(m *survey.Mod) string {
	var words []string
	for _, n := range b.needs {
		if b.rows[n.to].mod == m && b.rows[n.from].mod != nil {
			words = append(words, canvas.Clean(b.rows[n.from].mod.Name))
		}
	}
	return strings.Join(words, ", ")
}

// expected is what the last start has shown of what is expected of a mod.
func (b *Board) expected(m *survey.Mod) (list []expect.Met) {
	if b.last == nil {
		return nil
	}
	for _, e := range b.last.Expected {
		if e.Mod == m.Name {
			list = append(list, e)
		}
	}
	return list
}

// later is what came of a mod after the last start, where that counts for more; else nil.
func (b *Board) later(m *survey.Mod) *proof.Mod {
	if b.last == nil || m == nil {
		return nil
	}
	return b.last.Turned(canvas.Clean(m.Name))
}

// reloaded is the last time that a mod was loaded anew, loaded or taken out since the
// start; nil for never.
func (b *Board) reloaded(mod string) *proof.Reload {
	if b.last == nil {
		return nil
	}
	for i := len(b.last.Reloads) - 1; i >= 0; i-- {
		if b.last.Reloads[i].Mod.Name == canvas.Clean(mod) {
			return &b.last.Reloads[i]
		}
	}
	return nil
}

// declared tells where a mod is registered, and on which list where there are several.
func (b *Board) declared(m *survey.Mod) string {
	const most = 3
	lines, dir := b.look.Survey.Lineup, b.look.Server.Record.Dir+"/"
	var places []string
	for _, i := range m.Entries[:min(len(m.Entries), most)] {
		e := lines.Entries[i]
		file, line, _ := lines.Place(e)
		place := strings.TrimPrefix(file, dir)
		if line > 0 {
			place += fmt.Sprintf(", line %d", line)
		}
		if registrations := lines.Dialect.Registrations; len(registrations) > 1 && registrations[e.Registration].Name != "" {
			place += ", on the list " + registrations[e.Registration].Name
		}
		if m.Group {
			place += ", through " + e.Name
		}
		places = append(places, place)
	}
	if n := len(m.Entries) - most; n > 0 {
		places = append(places, fmt.Sprintf("and %d more", n))
	}
	return strings.Join(places, "; ")
}
