package expect_test

import (
	"strings"
	"testing"

	"initium/internal/core/expect"
	"initium/internal/insist"
)

// Each kind of expectation, met and not, of a server that is up and of one that is not.
func TestSettle(t *testing.T) {
	ask := expect.Answers{
		Reply: func(ask string, fits func(string) bool) (bool, string) {
			return ask == "who" && fits("you and me"), "it said so"
		},
		Path: func(p string) (bool, string) { return p == "world/map", "" },
		Port: func(n int) (bool, string) { return n == 7000, "" },
		Told: func(fact string) string { return map[string]string{"map": `"Fen"`}[fact] },
	}
	for name, test := range map[string]struct {
		of   expect.Expectation
		log  string
		down bool
		want string // how it is told
	}{
		"a line":                {of: expect.Expectation{Kind: expect.Line, Text: "up{any}7000"}, log: "x|is up on 7000", want: `a line of the log holds "up{any}7000", and so it is: line 2 of the log, is up on 7000`},
		"its parts in order":    {of: expect.Expectation{Kind: expect.Line, Text: "7000{any}up", Because: "why"}, log: "is up on 7000", want: `a line of the log holds "7000{any}up", and that is not so: no line does (you expect it because why)`},
		"a line of one down":    {of: expect.Expectation{Kind: expect.Line, Text: "up"}, log: "up", down: true, want: `a line of the log holds "up", and so it is: line 1 of the log, up`},
		"none of one down":      {of: expect.Expectation{Kind: expect.Line, Text: "up"}, log: "x", down: true, want: `a line of the log holds "up", which was not looked at`},
		"no line":               {of: expect.Expectation{Kind: expect.NoLine, Text: "old"}, log: "new", want: `no line of the log holds "old", and so it is`},
		"no line, and there is": {of: expect.Expectation{Kind: expect.NoLine, Text: "old", Mod: "fen"}, log: "new|old|old", want: `fen: no line of the log holds "old", and that is not so: line 2 of the log, old`},
		"a reply":               {of: expect.Expectation{Kind: expect.Reply, Ask: "who", Text: "me"}, want: `the reply to "who" holds "me", and so it is: it said so`},
		"another reply":         {of: expect.Expectation{Kind: expect.Reply, Ask: "who", Text: "them"}, want: `the reply to "who" holds "them", and that is not so: it said so`},
		"a path":                {of: expect.Expectation{Kind: expect.Path, Text: "world/map"}, down: true, want: "world/map is there, and so it is"},
		"no path":               {of: expect.Expectation{Kind: expect.Path, Text: "world"}, want: "world is there, and that is not so"},
		"a port":                {of: expect.Expectation{Kind: expect.Port, Text: "7000"}, want: "the server has port 7000 open, and so it is"},
		"another port":          {of: expect.Expectation{Kind: expect.Port, Text: "7001"}, want: "the server has port 7001 open, and that is not so"},
		"a port of one down":    {of: expect.Expectation{Kind: expect.Port, Text: "7000"}, down: true, want: "the server has port 7000 open, which was not looked at"},
		"told":                  {of: expect.Expectation{Kind: expect.Told, Fact: "map", Text: "fen"}, want: `the server says that its map is fen, and so it is: it says "Fen"`},
		"told otherwise":        {of: expect.Expectation{Kind: expect.Told, Fact: "map", Text: "moor"}, want: `the server says that its map is moor, and that is not so: it says "Fen"`},
		"not told":              {of: expect.Expectation{Kind: expect.Told, Fact: "mode", Text: "moor"}, want: `the server says that its mode is moor, and that is not so: it does not say`},
	} {
		insist.OK(t, test.of.Check())
		w := expect.NewWatch([]expect.Expectation{test.of})
		for i, line := range strings.Split(test.log, "|") {
			w.Line(i+1, line, func() string { return line })
		}
		w.Settle(!test.down, ask)
		insist.Same(t, name, w.Met[0].String(), test.want)
		insist.Same(t, name+": unmet", w.Unmet(), map[bool]string{true: "", false: "not as expected: " + test.want}[w.Met[0].So])
	}
}

func TestCheck(t *testing.T) {
	for want, e := range map[string]expect.Expectation{
		"nothing that can be":   {Kind: "noise", Text: "x"},
		"say what is expected":  {Kind: expect.Line, Text: " {any} "},
		"one line":              {Kind: expect.Line, Text: "a\nb"},
		"of 1000 bytes":         {Kind: expect.Line, Text: strings.Repeat("x", 1001)},
		"typed on the console":  {Kind: expect.Reply, Text: "x", Ask: " "},
		"only a reply":          {Kind: expect.Line, Text: "x", Ask: "y"},
		"below the server":      {Kind: expect.Path, Text: "a/../../b"},
		"/etc has to be a path": {Kind: expect.Path, Text: "/etc"},
		"is one of title":       {Kind: expect.Told, Text: "x", Fact: "weather"},
		`"70000" is no port`:    {Kind: expect.Port, Text: "70000"},
		`"0" is no port`:        {Kind: expect.Port, Text: "0"},
	} {
		insist.Fails(t, want, e.Check(), want)
	}
	one := expect.Expectation{Kind: expect.Line, Text: "x", Number: 1, Because: "a"}
	insist.That(t, one.Same(expect.Expectation{Kind: expect.Line, Text: "x", Number: 2}), "another number makes another")
	insist.That(t, !one.Same(expect.Expectation{Kind: expect.NoLine, Text: "x", Number: 1}), "another kind makes none")
}

func TestParse(t *testing.T) {
	for typed, want := range map[string]expect.Expectation{
		"line up on {any}":                    {Kind: expect.Line, Text: "up on {any}"},
		" no line  old  because it is new ":   {Kind: expect.NoLine, Text: "old", Because: "it is new"},
		"told map fen because so":             {Kind: expect.Told, Fact: "map", Text: "fen", Because: "so"},
		"told title Two Words":                {Kind: expect.Told, Fact: "title", Text: "Two Words"},
		"reply who is there = you, and = him": {Kind: expect.Reply, Ask: "who is there", Text: "you, and = him"},
		"path a/b":                            {Kind: expect.Path, Text: "a/b"},
		"port 7000":                           {Kind: expect.Port, Text: "7000"},
	} {
		got, err := expect.Parse(typed)
		insist.That(t, err == nil && got == want, "%q is %+v, %v", typed, got, err)
	}
	for _, typed := range []string{"", "line", "lines x", "told map", "reply who", "port x", "path /x", "told weather fine"} {
		insist.That(t, insist.Err(expect.Parse(typed)) != nil, "%q is taken", typed)
	}
}
