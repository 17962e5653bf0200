package text_test

import (
	"testing"

	"initium/internal/core/text"
	"initium/internal/insist"
)

func TestCheckLua(t *testing.T) {
	for script, line := range map[string]int{
		"":                                0,
		"local a = 1\nprint(a)\n":         0,
		"#!/usr/bin/lua\nprint(1)\n":      0,
		"local a = 12ULL\n":               0,
		"goto done\n::done::\n":           0,
		"x = = 1\n":                       1,
		"local a = 1\nfunction f(\nend\n": 3,
		"if true then\n":                  2,
	} {
		fault := text.CheckLua([]byte(script))
		got := 0
		if fault != nil {
			got = fault.Line
		}
		insist.That(t, got == line, "%q: a mistake on line %d (%v), want %d", script, got, fault, line)
	}
}

func TestCheckWords(t *testing.T) {
	style := text.ScriptStyle{Comment: "#", Quote: `"`}
	for script, line := range map[string]int{"": 0, "go 1\n# stay\n\nstop\n": 0, "go 1\nrun 2\n": 2, "go \"a\n": 1} {
		fault := text.CheckWords([]byte(script), style, []string{"go", "stop"})
		got := 0
		if fault != nil {
			got = fault.Line
		}
		insist.That(t, got == line, "%q: a mistake on line %d (%v), want %d", script, got, fault, line)
	}
}

func FuzzCheckLua(f *testing.F) {
	f.Add([]byte("local t = {1, [2] = 3} -- x\nreturn function(...) return ... end"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if fault := text.CheckLua(data); fault != nil && (fault.Line < 1 || fault.Message == "") {
			t.Fatalf("a mistake without a place: %+v", fault)
		}
	})
}
