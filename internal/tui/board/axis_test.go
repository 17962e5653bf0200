package board

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/proof"
	"initium/internal/insist"
	"initium/internal/tui/canvas"
	"initium/internal/tui/screentest"
)

func ms(v float64) *float64 { return &v }

func TestAxis(t *testing.T) {
	p := &proof.Proof{ReadyAfterMS: 2000, Mods: []proof.Mod{
		{Name: "a", Outcome: proof.Confirmed, BeganMS: ms(0), EndedMS: ms(1000)},
		{Name: "b", Outcome: proof.Failed, EndedMS: ms(1200)},
		{Name: "c", Outcome: proof.Confirmed, EndedMS: ms(2000)},
		{Name: "d", Outcome: proof.Silent},
	}}
	c := canvas.New(46, 5)
	a := newAxis(2, 42, p)
	a.header(c, 0)
	for i := range p.Mods {
		a.grid(c, i+1)
		a.bar(c, i+1, &p.Mods[i])
	}
	gotLines := strings.Split(screentest.Plain(c), "\n")
	insist.That(t, strings.HasPrefix(gotLines[0], "  0  ") && strings.HasSuffix(gotLines[0], "ready") && strings.Contains(gotLines[0], "1.0 s"), "the scale is %q", gotLines[0])
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
		insist.Same(t, fmt.Sprintf("%v in steps of %v", test.ms, test.step), scaleLabel(test.ms, test.step), test.want)
	}
}
