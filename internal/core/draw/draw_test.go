package draw_test

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"initium/internal/core/draw"
	"initium/internal/core/proof"
	"initium/internal/insist"
)

// texts reads an SVG as any reader of XML would and returns what is written in
// it.
func texts(t *testing.T, p *draw.Picture) (words []string) {
	t.Helper()
	var out bytes.Buffer
	insist.OK(t, p.SVG(&out))
	d := xml.NewDecoder(&out)
	inText := false
	for {
		token, err := d.Token()
		if err == io.EOF {
			return words
		}
		insist.OK(t, err)
		switch token := token.(type) {
		case xml.StartElement:
			inText = token.Name.Local == "text"
		case xml.CharData:
			if inText {
				words = append(words, string(token))
			}
		case xml.EndElement:
			inText = false
		}
	}
}

func has(words []string, want string) bool {
	for _, w := range words {
		if w == want {
			return true
		}
	}
	return false
}

func TestOrderNamesEveryMod(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{0, 1, 5, 60, 500} {
		o := &draw.Order{Title: "s: load order", About: "about it", Bands: []string{"One", "Two & <more>", ""}}
		for i := range n {
			o.Mods = append(o.Mods, draw.OrderMod{Name: fmt.Sprintf("mod_%03d", i), Number: i + 1, Band: i * 3 / n, Mark: draw.Mark(i % 6)})
			if i > 0 && i%4 > 0 {
				o.Needs = append(o.Needs, draw.OrderNeed{First: r.IntN(i), Then: i, Optional: i%5 == 0})
			}
		}
		if n > 4 {
			o.Needs = append(o.Needs, draw.OrderNeed{First: 4, Then: 1, Wrong: true})
		}
		p := o.Draw()
		words := texts(t, p)
		for _, m := range o.Mods {
			insist.Need(t, has(words, m.Name), "%d mods: %s is not named", n, m.Name)
		}
		insist.That(t, has(words, "Two & <more>") && has(words, o.Title), "%d mods: titles are missing in %q", n, words[:min(len(words), 6)])
		if n >= 60 && (p.Width/p.Height < 0.7 || p.Width/p.Height > 2.9) {
			t.Errorf("%d mods: %.0f by %.0f points is no shape for a page", n, p.Width, p.Height)
		}
		var pdf bytes.Buffer
		if err := p.PDF(&pdf); err != nil || !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")) {
			t.Errorf("%d mods: %v", n, err)
		}
	}
}

// A need that others imply is not drawn: it says nothing new.
func TestImpliedNeeds(t *testing.T) {
	o := &draw.Order{Bands: []string{""}, Mods: []draw.OrderMod{{Name: "a"}, {Name: "b"}, {Name: "c"}},
		Needs: []draw.OrderNeed{{First: 0, Then: 1}, {First: 1, Then: 2}}}
	plain := len(lines(t, o.Draw()))
	o.Needs = append(o.Needs, draw.OrderNeed{First: 0, Then: 2})
	insist.Same(t, "", len(lines(t, o.Draw())), plain)
}

// lines lists the curves of a picture.
func lines(t *testing.T, p *draw.Picture) []string {
	t.Helper()
	var out bytes.Buffer
	insist.OK(t, p.SVG(&out))
	var curves []string
	for _, line := range strings.Split(out.String(), "\n") {
		if strings.Contains(line, "<path") && strings.Contains(line, "C") {
			curves = append(curves, line)
		}
	}
	return curves
}

func TestCircleIsDrawn(t *testing.T) {
	o := &draw.Order{Bands: []string{""}, Mods: []draw.OrderMod{{Name: "a"}, {Name: "b"}},
		Needs: []draw.OrderNeed{{First: 0, Then: 1}, {First: 1, Then: 0}}}
	if words := texts(t, o.Draw()); !has(words, "a") || !has(words, "b") {
		t.Errorf("%q", words)
	}
}

func ms(v float64) *float64 { return &v }

func TestStart(t *testing.T) {
	old := &proof.Proof{Number: 1, Verdict: proof.Proved, ReadyAfterMS: 900, Mods: []proof.Mod{
		{Name: "a", Outcome: proof.Confirmed, BeganMS: ms(0), EndedMS: ms(100)},
		{Name: "left", Outcome: proof.Confirmed, BeganMS: ms(100), EndedMS: ms(200)},
	}}
	now := &proof.Proof{Number: 2, Verdict: proof.NotProved, Reason: "1 of 3 is not confirmed", Mods: []proof.Mod{
		{Name: "late", Outcome: proof.Confirmed, BeganMS: ms(300), EndedMS: ms(400)},
		{Name: "a", Outcome: proof.Confirmed, BeganMS: ms(0), EndedMS: ms(150)},
		{Name: "quiet", Outcome: proof.Silent},
		{Name: "bad", Outcome: proof.Failed, EndedMS: ms(250)},
	}}
	s := draw.StartOf("srv", now, old)
	var order []string
	for _, b := range s.Bars {
		order = append(order, b.Name)
	}
	insist.Same(t, "the bars stand as", strings.Join(order, " "), "a bad late quiet")
	words := texts(t, s.Draw())
	for _, want := range []string{"150 ms (+50)", "100 ms new", "silent", "failed", "in the earlier start only: left", "srv: start 2"} {
		insist.That(t, has(words, want), "%q is missing in %q", want, words)
	}
	if alone := draw.StartOf("srv", now, now); alone.WasReady != 0 || len(alone.Gone) != 0 {
		t.Error("a start is compared with itself")
	}
	if p := (&draw.Start{Title: "none"}).Draw(); p.Width <= 0 || p.Height <= 0 {
		t.Error("an empty start has no size")
	}
}

func TestPage(t *testing.T) {
	g := &draw.Page{Title: "srv: not proved", About: "F, start 2", Reason: "1 of 2", Rows: []draw.PageRow{
		{Mark: draw.MarkOf(proof.Confirmed), Name: "a", Release: "1.0", Load: "12 ms", Said: "log line 3: a is in"},
		{Mark: draw.MarkOf(proof.Failed), Name: strings.Repeat("long_", 40), Said: strings.Repeat("why ", 100)},
	}, Parts: []draw.PagePart{{Title: "Since the last proof", Lines: []string{"came: a"}}}}
	words := texts(t, g.Draw())
	for _, want := range []string{"srv: not proved", "Not proved because 1 of 2.", "confirmed", "failed", "12 ms", "log line 3: a is in", "came: a", "Since the last proof"} {
		insist.That(t, has(words, want), "%q is missing in %q", want, words)
	}
	for _, w := range words {
		insist.That(t, len(w) <= 200, "%q is not cut", w)
	}
	if p := (&draw.Page{}).Draw(); p.Height <= 0 {
		t.Error("an empty page has no size")
	}
}

func TestTimes(t *testing.T) {
	s := &draw.Times{Title: "srv: all starts", About: "3 starts, 1 proved", Starts: []draw.TimesStart{
		{Number: 1, When: "1 Jan", Ready: 1500, Proved: true}, {Number: 2, When: "2 Jan"}, {Number: 7, When: "3 Jan", Ready: 4000}}}
	words := texts(t, s.Draw())
	for _, want := range []string{"srv: all starts", "1 Jan", "3 Jan", "4 s", "not proved"} {
		insist.That(t, has(words, want), "%q is missing in %q", want, words)
	}
	many := &draw.Times{}
	for i := range 3000 {
		many.Starts = append(many.Starts, draw.TimesStart{Number: i + 1, Ready: float64(i), Proved: i%2 == 0})
	}
	if p := many.Draw(); p.Width > 20_000 || len(texts(t, p)) > 600 {
		t.Errorf("3000 starts are %.0f wide, with %d texts", p.Width, len(texts(t, p)))
	}
	if p := (&draw.Times{}).Draw(); p.Width <= 0 {
		t.Error("a chart without starts has no size")
	}
}

func BenchmarkOrder500(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 2))
	o := &draw.Order{Bands: []string{"One", "Two"}}
	for i := range 500 {
		o.Mods = append(o.Mods, draw.OrderMod{Name: fmt.Sprintf("mod_%03d", i), Number: i + 1, Band: i / 250})
		if i > 0 {
			o.Needs = append(o.Needs, draw.OrderNeed{First: r.IntN(i), Then: i})
		}
	}
	for b.Loop() {
		insist.OK(b, o.Draw().SVG(io.Discard))
	}
}
