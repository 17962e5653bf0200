package canvas_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"

	"initium/internal/insist"
	"initium/internal/tui/canvas"
	"initium/internal/tui/screentest"
)

func TestCanvasNeverOverflows(t *testing.T) {
	for _, s := range []string{"short", "a text that is longer than its place", "港港港港港港", "👩‍👩‍👧‍👦 family", "e\u0301\u0301 accents", "tab\tin it", ""} {
		c := canvas.New(12, 3)
		c.Put(-3, 0, s, canvas.Text)
		c.Put(8, 1, s, canvas.Bad)
		c.PutWithin(2, 2, 6, s, canvas.Good)
		c.Put(0, 7, s, canvas.Text)
		c.Put(0, -1, s, canvas.Text)
		for i, line := range strings.Split(ansi.Strip(c.Render(canvas.NewPalette(canvas.GroundUnknown))), "\n") {
			if w := ansi.StringWidth(line); w != 12 {
				t.Errorf("%q: line %d is %d wide: %q", s, i, w, line)
			}
		}
	}
}

func TestCanvasCutsWithAMark(t *testing.T) {
	c := canvas.New(20, 2)
	insist.Same(t, "it ends at", c.PutWithin(0, 0, 8, "harbour lights", canvas.Text), 8)
	c.Right(20, 1, "right", canvas.Text)
	insist.Same(t, "", screentest.Plain(c), "harbour…\n               right")
}

func TestParagraph(t *testing.T) {
	c := canvas.New(12, 5)
	insist.Same(t, "it ends at line", c.Paragraph(1, 0, 10, 3, "one two three four five six seven", canvas.Text), 3)
	insist.Same(t, "", screentest.Plain(c), " one two\n three four\n five six …")
}

func TestGroundOf(t *testing.T) {
	for _, test := range []struct {
		own, colorfgbg string
		want           canvas.Ground
	}{
		{"", "", canvas.GroundUnknown}, {"dark", "0;15", canvas.GroundDark}, {"light", "", canvas.GroundLight}, {"", "15;0", canvas.GroundDark},
		{"", "0;15", canvas.GroundLight}, {"", "0;default;15", canvas.GroundLight}, {"", "nonsense", canvas.GroundUnknown},
	} {
		getenv := func(name string) string {
			return map[string]string{"INITIUM_BACKGROUND": test.own, "COLORFGBG": test.colorfgbg}[name]
		}
		insist.Same(t, fmt.Sprintf("%q and %q give", test.own, test.colorfgbg), canvas.GroundOf(getenv), test.want)
	}
}
