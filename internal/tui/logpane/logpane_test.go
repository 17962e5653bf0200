package logpane

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/insist"
	"initium/internal/tui/canvas"
	"initium/internal/tui/screentest"
)

func TestLogView(t *testing.T) {
	var l Pane
	for i := range 100 {
		l.Add([]proof.Line{{Number: i + 1, Text: "line\x1b[2J " + strings.Repeat("x", i%7)}})
	}
	shows := func(h int) string {
		c := canvas.New(30, h)
		l.Draw(c, 0, 0, 30, h)
		return screentest.Plain(c)
	}
	if got := shows(3); !strings.Contains(got, "100") || strings.Contains(got, " 97 ") {
		t.Errorf("it does not follow:\n%s", got)
	}
	l.Scroll(-10, 3)
	l.Add([]proof.Line{{Number: 101, Text: "more"}})
	insist.Holds(t, "it is not held", shows(3), "88", "held")
	l.Scroll(1000, 3)
	if got := shows(3); !strings.Contains(got, "101") || l.held {
		t.Errorf("it does not follow again:\n%s", got)
	}
	l.Point(50, 5)
	insist.Holds(t, "it does not point at line 50", shows(5), "▌", "50")
	if got := shows(5); strings.Contains(got, "\x1b") {
		t.Error("a control sequence of the log reaches the screen")
	}
}

// someLog has a line of each kind, over and over: of a mod, of trouble that is known,
// with a line that goes on with it, and of trouble that is new.
func someLog(n int) (lines []proof.Line) {
	for i := range n {
		l := proof.Line{Number: i + 1, Text: fmt.Sprintf("line %d", i+1)}
		switch i % 5 {
		case 0:
			l.Means, l.Mods = dialect.MeansLoaded, []string{"a"}
		case 1:
			l.Alarm, l.Text = true, fmt.Sprintf("warning %d", i)
		case 2:
			l.Joined, l.Text = true, "  and more of it"
		case 3:
			l.Alarm, l.Text, l.Mods = true, fmt.Sprintf("error %d", i), []string{"b"}
		}
		lines = append(lines, l)
	}
	return lines
}

func TestLogFiltersAndJumps(t *testing.T) {
	l := &Pane{Known: map[string]bool{proof.Alike("warning 1"): true}}
	l.Add(someLog(20))
	insist.That(t, l.Trouble == 8 && l.Fresh == 4, "%d lines of trouble, %d new", l.Trouble, l.Fresh)
	shown := func() string {
		var list []string
		for i := range l.Shown {
			list = append(list, fmt.Sprint(l.at(i).number))
		}
		return strings.Join(list, " ")
	}
	for _, want := range []string{"1 6 11 16", "2 3 4 7 8 9 12 13 14 17 18 19", "4 9 14 19", "1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20"} {
		l.nextFilter("a", 5)
		insist.Same(t, fmt.Sprintf("filter %d", l.Filter), shown(), want)
	}
	l.nextFilter("", 5)
	insist.Same(t, "without a mod the first filter", l.Filter, logTrouble)
	l.Add([]proof.Line{{Number: 21, Text: "warning 99", Alarm: true}, {Number: 22, Text: "done"}})
	insist.That(t, strings.HasSuffix(shown(), " 21"), "what came later is filtered into %s", shown())
	l.Show(logAll, "", 5)
	for _, want := range []int{21, 19, 17} {
		insist.That(t, l.seek(false, 5, beginsTrouble) && l.Mark == want, "trouble before is line %d, want %d", l.Mark, want)
	}
	l.find = "LINE 5"
	insist.That(t, l.seek(false, 5, l.hasFind) && l.Mark == 5 && !l.seek(false, 5, l.hasFind), "found is line %d", l.Mark)
	insist.That(t, l.held && l.at(l.top).number <= 5 && l.at(l.top+4).number >= 5, "the view begins at line %d", l.at(l.top).number)
	l.Scroll(1000, 5)
	insist.That(t, !l.held, "at the end it is still held")
}

// Lines that are let go take nothing else with them, held or filtered.
func TestLogLetsGo(t *testing.T) {
	l := &Pane{}
	all := someLog(3 * MaxLines)
	l.Show(logTrouble, "", 10)
	for i := 0; i < len(all); i += 1000 {
		l.Add(all[i : i+1000])
	}
	insist.Need(t, len(l.Lines) <= MaxLines+MaxLines/4 && l.Lines[len(l.Lines)-1].number == 3*MaxLines, "%d lines, the last %d", len(l.Lines), l.Lines[len(l.Lines)-1].number)
	for i := range l.Shown {
		insist.Need(t, l.at(i).trouble, "line %d is shown", l.at(i).number)
	}
	l.Point(3*MaxLines-100, 10)
	insist.That(t, l.at(l.top+5).number >= 3*MaxLines-100 && l.at(l.top+4).number <= 3*MaxLines-97, "pointed at %d", l.at(l.top+5).number)
}
