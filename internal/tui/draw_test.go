package tui

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"

	"initium/internal/core/proof"
)

// plain is what a canvas shows, without colours, and without blanks at the ends
// of lines.
func plain(c *canvas) string {
	lines := strings.Split(ansi.Strip(c.render(newPalette(groundDark))), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.TrimRight(strings.Join(lines, "\n"), "\n")
}

func TestCanvasNeverOverflows(t *testing.T) {
	for _, s := range []string{"short", "a text that is longer than its place", "港港港港港港", "👩‍👩‍👧‍👦 family", "e\u0301\u0301 accents", "tab\tin it", ""} {
		c := newCanvas(12, 3)
		c.put(-3, 0, s, inkText)
		c.put(8, 1, s, inkBad)
		c.putWithin(2, 2, 6, s, inkGood)
		c.put(0, 7, s, inkText)
		c.put(0, -1, s, inkText)
		for i, line := range strings.Split(ansi.Strip(c.render(newPalette(groundUnknown))), "\n") {
			if w := ansi.StringWidth(line); w != 12 {
				t.Errorf("%q: line %d is %d wide: %q", s, i, w, line)
			}
		}
	}
}

func TestCanvasCutsWithAMark(t *testing.T) {
	c := newCanvas(20, 2)
	if end := c.putWithin(0, 0, 8, "harbour lights", inkText); end != 8 {
		t.Errorf("it ends at %d", end)
	}
	c.right(20, 1, "right", inkText)
	if got := plain(c); got != "harbour…\n               right" {
		t.Errorf("it shows %q", got)
	}
}

func TestParagraph(t *testing.T) {
	c := newCanvas(12, 5)
	if next := c.paragraph(1, 0, 10, 3, "one two three four five six seven", inkText); next != 3 {
		t.Errorf("it ends at line %d", next)
	}
	if got := plain(c); got != " one two\n three four\n five six …" {
		t.Errorf("it shows %q", got)
	}
}

func drawRails(needs []need, lanes, rows, selected int) string {
	c := newCanvas(2*lanes+1, rows)
	r := newRails(needs, rows)
	r.place(lanes, selected, 0, rows)
	r.draw(c, 0, 0, 2*lanes+1, 0, rows, selected)
	return plain(c)
}

func TestRails(t *testing.T) {
	for name, test := range map[string]struct {
		needs    []need
		lanes    int
		rows     int
		selected int
		want     string
	}{
		"one need":                {[]need{{from: 2, to: 0}}, 2, 3, -1, "─○\n │\n─╯"},
		"two users":               {[]need{{from: 1, to: 0}, {from: 3, to: 0}}, 2, 4, -1, "─○\n─┤\n │\n─╯"},
		"the wrong way":           {[]need{{from: 0, to: 2}}, 2, 3, -1, "━┓\n ┃\n━○"},
		"no order, no wrong":      {[]need{{from: 0, to: 2, unordered: true}}, 2, 3, -1, "─╮\n │\n─○"},
		"two side by side":        {[]need{{from: 1, to: 0}, {from: 3, to: 0}, {from: 3, to: 2}}, 2, 4, -1, "───○\n───┤\n─○ │\n─┴─╯"},
		"passing behind":          {[]need{{from: 2, to: 0}, {from: 3, to: 1}}, 2, 4, -1, "─○\n─│─○\n─╯ │\n───╯"},
		"no room, nothing chosen": {[]need{{from: 2, to: 0}, {from: 3, to: 1}}, 1, 4, -1, ""},
		"no room, one chosen":     {[]need{{from: 2, to: 0}, {from: 3, to: 1}}, 1, 4, 3, "\n─○\n │\n─╯"},
		"no room, one wrong":      {[]need{{from: 2, to: 0}, {from: 1, to: 3}}, 1, 4, -1, "\n━┓\n ┃\n━○"},
		"nothing":                 {nil, 2, 3, 0, ""},
	} {
		if got := drawRails(test.needs, test.lanes, test.rows, test.selected); got != test.want {
			t.Errorf("%s:\n%s\nwant\n%s", name, got, test.want)
		}
	}
}

// TestRailsInAWindow draws a part of the rows only.
func TestRailsInAWindow(t *testing.T) {
	r := newRails([]need{{from: 90, to: 2}, {from: 50, to: 49}}, 100)
	r.place(3, -1, 49, 52)
	c := newCanvas(7, 3)
	r.draw(c, 0, 0, 7, 49, 52, -1)
	if got := plain(c); got != "─○ │\n─╯ │\n   │" {
		t.Errorf("it shows\n%s", got)
	}
}

// TestRailsHoldStill: where all fit, choosing another row moves no line.
func TestRailsHoldStill(t *testing.T) {
	needs := []need{{from: 3, to: 0}, {from: 2, to: 1}, {from: 5, to: 4}, {from: 1, to: 5}}
	first := newRails(needs, 6)
	first.place(5, -1, 0, 6)
	for selected := range 6 {
		r := newRails(needs, 6)
		r.place(5, selected, 0, 6)
		for i := range r.trunks {
			if r.trunks[i].lane != first.trunks[i].lane {
				t.Errorf("with row %d chosen, trunk %d is in lane %d instead of %d", selected, i, r.trunks[i].lane, first.trunks[i].lane)
			}
		}
	}
}

func ms(v float64) *float64 { return &v }

func TestAxis(t *testing.T) {
	p := &proof.Proof{ReadyAfterMS: 2000, Mods: []proof.Mod{
		{Name: "a", Outcome: proof.Confirmed, BeganMS: ms(0), EndedMS: ms(1000)},
		{Name: "b", Outcome: proof.Failed, EndedMS: ms(1200)},
		{Name: "c", Outcome: proof.Confirmed, EndedMS: ms(2000)},
		{Name: "d", Outcome: proof.Silent},
	}}
	c := newCanvas(46, 5)
	a := newAxis(2, 42, p)
	a.header(c, 0)
	for i := range p.Mods {
		a.grid(c, i+1)
		a.bar(c, i+1, &p.Mods[i])
	}
	gotLines := strings.Split(plain(c), "\n")
	if !strings.HasPrefix(gotLines[0], "  0  ") || !strings.HasSuffix(gotLines[0], "ready") || !strings.Contains(gotLines[0], "1.0 s") {
		t.Errorf("the scale is %q", gotLines[0])
	}
	for i := 1; i < 5; i++ {
		if !strings.ContainsAny(gotLines[i], "━✕╺╸┊") || i != 3 && !strings.HasSuffix(gotLines[i], "┊") {
			t.Errorf("row %d is %q", i, gotLines[i])
		}
	}
	if n := strings.Count(gotLines[1], "━"); n < 19 || n > 21 {
		t.Errorf("the bar of half the time has %d of 42 columns", n)
	}
	last := -1
	for at := 0.0; at <= 2200; at += 50 {
		if h := a.halves(at); h < last || h > 84 {
			t.Fatalf("%v ms is at %d after %d", at, h, last)
		} else {
			last = h
		}
	}
}

func TestScaleLabels(t *testing.T) {
	for _, test := range []struct {
		ms, step float64
		want     string
	}{{0, 100, "0"}, {200, 100, "200 ms"}, {1500, 500, "1.5 s"}, {3000, 1000, "3 s"}, {240_000, 60_000, "4 min"}} {
		if got := scaleLabel(test.ms, test.step); got != test.want {
			t.Errorf("%v in steps of %v is %q, want %q", test.ms, test.step, got, test.want)
		}
	}
}

func TestGroundOf(t *testing.T) {
	for _, test := range []struct {
		own, colorfgbg string
		want           ground
	}{
		{"", "", groundUnknown}, {"dark", "0;15", groundDark}, {"light", "", groundLight}, {"", "15;0", groundDark},
		{"", "0;15", groundLight}, {"", "0;default;15", groundLight}, {"", "nonsense", groundUnknown},
	} {
		getenv := func(name string) string {
			return map[string]string{"INITIUM_BACKGROUND": test.own, "COLORFGBG": test.colorfgbg}[name]
		}
		if got := groundOf(getenv); got != test.want {
			t.Errorf("%q and %q give %v, want %v", test.own, test.colorfgbg, got, test.want)
		}
	}
}

func TestLogView(t *testing.T) {
	var l logView
	for i := range 100 {
		l.add([]proof.Line{{Number: i + 1, Text: "line\x1b[2J " + strings.Repeat("x", i%7)}})
	}
	shows := func(h int) string {
		c := newCanvas(30, h)
		l.draw(c, 0, 0, 30, h)
		return plain(c)
	}
	if got := shows(3); !strings.Contains(got, "100") || strings.Contains(got, " 97 ") {
		t.Errorf("it does not follow:\n%s", got)
	}
	l.scroll(-10, 3)
	l.add([]proof.Line{{Number: 101, Text: "more"}})
	if got := shows(3); !strings.Contains(got, "88") || !strings.Contains(got, "held") {
		t.Errorf("it is not held:\n%s", got)
	}
	l.scroll(1000, 3)
	if got := shows(3); !strings.Contains(got, "101") || l.held {
		t.Errorf("it does not follow again:\n%s", got)
	}
	l.point(50, 5)
	if got := shows(5); !strings.Contains(got, "▌") || !strings.Contains(got, "50") {
		t.Errorf("it does not point at line 50:\n%s", got)
	}
	if got := shows(5); strings.Contains(got, "\x1b") {
		t.Error("a control sequence of the log reaches the screen")
	}
}
