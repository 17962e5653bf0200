package lineup_test

import (
	"fmt"
	"strings"
	"testing"

	"initium/internal/core/lineup"
)

// A line that is a registration but for a letter or two is told of, and mended to the byte.
func TestSlips(t *testing.T) {
	const script = "name = 's'\n[[place]]\npath = '{dir}/mods'\n[[registration]]\nname = 'script'\nfile = '{dir}/start'\nshape = 'line'\ncomment = '#'\nquote = '\"'\nline = 'LINE'\nsetting = 'let {name} {value}'\n[start]\ncommand = ['x']\n[[log.rule]]\nmeans = 'ready'\nline = 'up'\n"
	const keys = "name = 'k'\n[[place]]\npath = '{dir}/mods'\n[[registration]]\nname = 'keys'\nfile = '{dir}/start'\nshape = 'key'\nformat = 'key-value'\ncomment = '#'\nkey = 'KEY'\non = 'true'\noff = 'false'\n[start]\ncommand = ['x']\n[[log.rule]]\nmeans = 'ready'\nline = 'up'\n"
	line := func(pattern string) string { return strings.Replace(script, "LINE", pattern, 1) }
	key := func(pattern string) string { return strings.Replace(keys, "KEY", pattern, 1) }
	for _, test := range []struct{ dialect, doc, slips, mod, want string }{
		{line("berth {mod}"), "berth a\nbieth b\n", "b", "b", "berth a\nberth b\n"},
		{line("berth {mod}"), "\t\"brth\"  b # why\r\n", "b", "b", "\tberth  b # why\r\n"},
		{line("berth {mod}"), "ebrth b\nbertha c\nBerth d\nBERth e\nBERTh f\nbe b\nberths c d\nberth3 x\nharbour x\n", "b c d e f x", "e", "ebrth b\nbertha c\nBerth d\nberth e\nBERTh f\nbe b\nberths c d\nberth3 x\nharbour x\n"},
		{line("berth {mod}"), "let b c\nlot b c\n# bieth b\n", "", "b", "!"},
		{line("use {mod}"), "us b\nuse2 c\nuser d\nuxxe e\nsue f\n", "b c d f", "f", "us b\nuse2 c\nuser d\nuxxe e\nuse f\n"},
		{line("to {mod}"), "tp b\nt b\n", "", "b", "!"},
		{line("load mod {mod}"), "load mad b\nlaod mod c\nlaod mad d\nload x\n", "b c", "b", "load mod b\nlaod mod c\nlaod mad d\nload x\n"},
		{line("{mod}"), "a\n", "", "a", "!"},
		{key("load_{mod}"), "laod_b = true\nload_c = true\nlod_d = true\nlaod_e = 3\nloads_f = true\nlower = true\n", "b d f", "b", "load_b = true\nload_c = true\nlod_d = true\nlaod_e = 3\nloads_f = true\nlower = true\n"},
		{key("{mod}.enabled"), "b.enabeld = true\nc.enabled = true\nd.enable = true\n", "b d", "d", "b.enabeld = true\nc.enabled = true\nd.enabled = true\n"},
		{key("mod.{mod}.on"), "mad.b.on = true\nmod.c.onn = true\n", "b", "b", "mod.b.on = true\nmod.c.onn = true\n"},
		{key("{mod}"), "a = true\nb = 3\n", "", "b", "!"},
	} {
		l := open(parse(t, test.dialect), map[string]string{"/srv/start": test.doc})
		var names []string
		for _, s := range l.Slips {
			if p := l.SlipAt(s); !strings.Contains(p.Message, fmt.Sprintf("%q is what registers a mod", s.Want)) || p.Line != 1+strings.Count(test.doc[:s.Span.Start], "\n") {
				t.Errorf("%q: %+v", test.doc, p)
			}
			if s.Name == test.mod || strings.Contains(" "+test.slips+" ", " "+s.Name+" ") {
				names = append(names, s.Name)
			}
		}
		if got := strings.Join(names, " "); got != test.slips {
			t.Errorf("%q: slips are %q of %+v, want %q", test.doc, got, l.Slips, test.slips)
		}
		after, err := l.Apply(lineup.Change{Op: lineup.OpMend, Mod: test.mod})
		switch {
		case (err != nil) != (test.want == "!"):
			t.Errorf("%q: %v", test.doc, err)
		case err == nil && test.want != "" && string(after.Files[0].Bytes) != test.want:
			t.Errorf("%q is mended to %q, want %q", test.doc, after.Files[0].Bytes, test.want)
		}
	}
}
