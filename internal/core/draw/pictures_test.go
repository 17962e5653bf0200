package draw_test

import (
	"bytes"
	_ "embed"
	"fmt"
	"regexp"
	"strconv"
	"testing"
	"testing/fstest"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/draw"
	"initium/internal/core/forecast"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/golden"
	"initium/internal/insist"
)

//go:embed testdata/pictured.toml
var pictured string

var decimals = regexp.MustCompile(`-?\d+\.\d+`)

// svg is a picture as text, with numbers that do not hang on the last bit of a processor.
func svg(t *testing.T, p *draw.Picture) string {
	t.Helper()
	var out bytes.Buffer
	insist.OK(t, p.SVG(&out))
	return decimals.ReplaceAllStringFunc(out.String(), func(s string) string {
		v, err := strconv.ParseFloat(s, 64)
		insist.OK(t, err)
		return strconv.FormatFloat(v+1e-7, 'f', 1, 64)
	}) + "\n"
}

// TestPictures holds whole pictures to those that were looked at.
func TestPictures(t *testing.T) {
	files := fstest.MapFS{"srv/start": {Data: []byte("use a\n# == One ==\nuse b\nuse late\nuse need\n# use off\n# == Two & <three> ==\nuse d\nuse gone\nuse e\n")}}
	for name, about := range map[string]string{"mods/a": "", "mods/b": "needs = ['a', 'base_one']\nlikes = ['off', 'd', 'b']", "mods/late": "needs = ['need', 'a']", "mods/need": "", "mods/off": "needs = ['a']", "mods/d": "needs = ['b', 'a', 'any']\nlikes = ['late']",
		"mods/e": "needs = ['e', 'nowhere', 'd']", "mods/spare": "", "always/any": "", "base/base_one": ""} {
		files["srv/"+name+"/about.toml"] = &fstest.MapFile{Data: []byte(about)}
	}
	at := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	last := &proof.Proof{Number: 7, Verdict: proof.NotProved, Started: &at, Ready: true, ReadyAfterMS: 900, Reason: "2 of 7 registered mods are not confirmed", Mods: []proof.Mod{
		{Name: "a", Outcome: proof.Confirmed, BeganMS: ms(0), EndedMS: ms(120), LoadMS: ms(120), Release: "1.0", Evidence: []proof.Evidence{{Source: "log", Line: 3, Text: "a is in"}}},
		{Name: "b", Outcome: proof.Failed, EndedMS: ms(200), Reason: "torn"}, {Name: "late", Outcome: proof.Silent, Reason: "nothing"}, {Name: "any", Outcome: proof.Unlisted, BeganMS: ms(300), EndedMS: ms(340.5), LoadMS: ms(40.5)},
		{Name: "d", Outcome: proof.Confirmed, BeganMS: ms(350), EndedMS: ms(880)}}}
	proved := &proof.Proof{Number: 5, Verdict: proof.Proved, Started: &at, Ready: true, ReadyAfterMS: 1200, Mods: []proof.Mod{
		{Name: "a", Outcome: proof.Confirmed, BeganMS: ms(0), EndedMS: ms(100)}, {Name: "d", Outcome: proof.Confirmed, BeganMS: ms(400), EndedMS: ms(940)}, {Name: "old", Outcome: proof.Confirmed, BeganMS: ms(10), EndedMS: ms(20)}}}
	for _, order := range []string{"listed", "server"} {
		d, err := dialect.Parse("f.toml", fmt.Appendf(nil, pictured, order))
		insist.OK(t, err)
		s := survey.Take(survey.Input{Server: "srv", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: files})
		o := draw.OrderOf(s, &forecast.Forecast{Order: []string{"d", "b", "a"}}, last)
		golden.Check(t, "order-"+order+".txt", fmt.Sprintf("%+v\n", *o)+svg(t, o.Draw()))
		if bare := draw.OrderOf(s, nil, nil); len(bare.Mods) != len(o.Mods) || bare.Mods[0].Mark != draw.MarkNone {
			t.Errorf("%s, before any start: %+v", order, bare.Mods)
		}
	}
	golden.Check(t, "start.txt", svg(t, draw.StartOf("srv", last, proved).Draw())+svg(t, draw.StartOf("srv", last, nil).Draw()))
	golden.Check(t, "times.txt", svg(t, (&draw.Times{Title: "srv: all starts", About: "4 starts", Starts: []draw.TimesStart{
		{Number: 1, When: "1 Jan", Ready: 1500, Proved: true}, {Number: 2, When: "2 Jan"}, {Number: 7, When: "3 Jan", Ready: 4000}, {Number: 8, When: "4 Jan", Ready: 90_000, Proved: true}}}).Draw()))
	golden.Check(t, "page.txt", svg(t, (&draw.Page{Title: "srv: not proved", About: "F, start 2", Reason: "1 of 2", Rows: []draw.PageRow{
		{Mark: draw.MarkConfirmed, Name: "a", Release: "1.0", Load: "12 ms", Said: "log line 3: a is in"}, {Mark: draw.MarkFailed, Name: "b", Said: "torn"}, {Mark: draw.MarkSilent, Name: "c"}, {Mark: draw.MarkUnlisted, Name: "d"}, {Mark: draw.MarkOff, Name: "e"}},
		Parts: []draw.PagePart{{Title: "Since the last proof", Lines: []string{"came: a", "gone: z"}}, {Title: "Told", Lines: []string{"port 7"}}}}).Draw()))
}

// TestLargePictures holds pictures of many mods: a chart in several columns, and an order in
// which lines would cross if nothing were done about it.
func TestLargePictures(t *testing.T) {
	began := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	now, then := &proof.Proof{Number: 9, Verdict: proof.NotProved, Started: &began, Ready: true, ReadyAfterMS: 9100}, &proof.Proof{Number: 3, Verdict: proof.Proved, Started: &began, Ready: true, ReadyAfterMS: 7200}
	for i := range 130 {
		m := proof.Mod{Name: fmt.Sprintf("mod_%03d", i), Outcome: proof.Confirmed, BeganMS: ms(float64(i * 60)), EndedMS: ms(float64(i*60 + 40 + i%7*9))}
		switch i % 23 {
		case 5:
			m.Outcome, m.BeganMS = proof.Failed, nil
		case 11:
			m = proof.Mod{Name: m.Name, Outcome: proof.Silent}
		case 17:
			m.BeganMS = nil
		}
		now.Mods = append(now.Mods, m)
		if i%3 > 0 {
			if m.EndedMS = ms(float64(i*50 + 30)); m.BeganMS != nil {
				m.BeganMS = ms(float64(i*50 - 5))
			}
			then.Mods = append(then.Mods, m)
		}
	}
	golden.Check(t, "start-large.txt", svg(t, draw.StartOf("srv", now, then).Draw()))

	d, err := dialect.Parse("f.toml", []byte("name = \"f\"\n[[place]]\npath = \"{dir}/mods\"\n[[manifest]]\nfile = \"about.toml\"\nformat = \"toml\"\nneeds = \"needs\"\noptional_needs = \"likes\"\n[[registration]]\nname = \"script\"\nfile = \"{dir}/start\"\nshape = \"line\"\ncomment = \"#\"\nline = \"use {mod}\"\nsection = \"# == {title} ==\"\n[start]\ncommand = [\"x\"]\n[[log.rule]]\nmeans = \"ready\"\nline = \"up\"\n"))
	insist.OK(t, err)
	files, start := fstest.MapFS{}, ""
	for i := range 34 {
		if i%12 == 0 {
			start += fmt.Sprintf("# == Part %d ==\n", i/12)
		}
		start += fmt.Sprintf("use m%02d\n", i)
		about := ""
		if i > 3 {
			about = fmt.Sprintf("needs = ['m%02d', 'm%02d']\n", (i*7+3)%i, (i*5+1)%(i-1))
		}
		if i%4 == 1 {
			about += fmt.Sprintf("likes = ['m%02d']\n", (i*11+5)%34)
		}
		files[fmt.Sprintf("srv/mods/m%02d/about.toml", i)] = &fstest.MapFile{Data: []byte(about)}
	}
	files["srv/start"] = &fstest.MapFile{Data: []byte(start)}
	s := survey.Take(survey.Input{Server: "srv", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: files})
	golden.Check(t, "order-large.txt", svg(t, draw.OrderOf(s, nil, nil).Draw()))
	small := fstest.MapFS{"srv/start": {Data: []byte("use a\nuse b\nuse c\n")}, "srv/mods/a/about.toml": {Data: []byte("likes = ['b', 'c']")}, "srv/mods/b/about.toml": {}, "srv/mods/c/about.toml": {Data: []byte("likes = ['b']")}}
	golden.Check(t, "order-liked.txt", svg(t, draw.OrderOf(survey.Take(survey.Input{Server: "srv", Dialect: d, Vars: dialect.Vars{"dir": "/srv"}, FS: small}), nil, nil).Draw()))
}
