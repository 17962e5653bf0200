package draw_test

import (
	"bytes"
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
)

var decimals = regexp.MustCompile(`-?\d+\.\d+`)

// svg is a picture as text, with numbers that do not hang on the last bit of a processor.
func svg(t *testing.T, p *draw.Picture) string {
	t.Helper()
	var out bytes.Buffer
	if err := p.SVG(&out); err != nil {
		t.Fatal(err)
	}
	return decimals.ReplaceAllStringFunc(out.String(), func(s string) string {
		v, err := strconv.ParseFloat(s, 64)
		if err != nil {
			t.Fatal(err)
		}
		return strconv.FormatFloat(v+1e-7, 'f', 1, 64)
	}) + "\n"
}

// TestPictures holds whole pictures to those that were looked at.
func TestPictures(t *testing.T) {
	const family = `name = "f"
order = %q
[[place]]
path = "{dir}/mods"
[[place]]
path = "{dir}/always"
loads = "always"
[[place]]
path = "{dir}/base"
loads = "base"
[[manifest]]
file = "about.toml"
format = "toml"
needs = "needs"
optional_needs = "likes"
[[registration]]
name = "script"
file = "{dir}/start"
shape = "line"
comment = "#"
line = "use {mod}"
section = "# == {title} =="
[start]
command = ["x"]
[[log.rule]]
means = "ready"
line = "up"
`
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
		d, err := dialect.Parse("f.toml", fmt.Appendf(nil, family, order))
		if err != nil {
			t.Fatal(err)
		}
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
