package tui

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
)

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
	l := &logView{known: map[string]bool{proof.Alike("warning 1"): true}}
	l.add(someLog(20))
	if l.trouble != 8 || l.fresh != 4 {
		t.Errorf("%d lines of trouble, %d new", l.trouble, l.fresh)
	}
	shown := func() string {
		var list []string
		for i := range l.shown {
			list = append(list, fmt.Sprint(l.at(i).number))
		}
		return strings.Join(list, " ")
	}
	for _, want := range []string{"1 6 11 16", "2 3 4 7 8 9 12 13 14 17 18 19", "4 9 14 19", "1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20"} {
		l.nextFilter("a", 5)
		if got := shown(); got != want {
			t.Errorf("filter %d shows %s, want %s", l.filter, got, want)
		}
	}
	l.nextFilter("", 5)
	if l.filter != logTrouble {
		t.Errorf("without a mod the first filter is %d", l.filter)
	}
	l.add([]proof.Line{{Number: 21, Text: "warning 99", Alarm: true}, {Number: 22, Text: "done"}})
	if !strings.HasSuffix(shown(), " 21") {
		t.Errorf("what came later is filtered into %s", shown())
	}
	l.show(logAll, "", 5)
	for _, want := range []int{21, 19, 17} {
		if !l.seek(false, 5, beginsTrouble) || l.mark != want {
			t.Errorf("trouble before is line %d, want %d", l.mark, want)
		}
	}
	l.find = "LINE 5"
	if !l.seek(false, 5, l.hasFind) || l.mark != 5 || l.seek(false, 5, l.hasFind) {
		t.Errorf("found is line %d", l.mark)
	}
	if !l.held || l.at(l.top).number > 5 || l.at(l.top+4).number < 5 {
		t.Errorf("the view begins at line %d", l.at(l.top).number)
	}
	l.scroll(1000, 5)
	if l.held {
		t.Error("at the end it is still held")
	}
}

// Lines that are let go take nothing else with them, held or filtered.
func TestLogLetsGo(t *testing.T) {
	l := &logView{}
	all := someLog(3 * maxLog)
	l.show(logTrouble, "", 10)
	for i := 0; i < len(all); i += 1000 {
		l.add(all[i : i+1000])
	}
	if len(l.lines) > maxLog+maxLog/4 || l.lines[len(l.lines)-1].number != 3*maxLog {
		t.Fatalf("%d lines, the last %d", len(l.lines), l.lines[len(l.lines)-1].number)
	}
	for i := range l.shown {
		if !l.at(i).trouble {
			t.Fatalf("line %d is shown", l.at(i).number)
		}
	}
	l.point(3*maxLog-100, 10)
	if l.at(l.top+5).number < 3*maxLog-100 || l.at(l.top+4).number > 3*maxLog-97 {
		t.Errorf("pointed at %d", l.at(l.top+5).number)
	}
}
