package text_test

import (
	"slices"
	"strings"
	"testing"

	"initium/internal/core/text"
	"initium/internal/insist"
)

func TestStartScript(t *testing.T) {
	s := &text.StartScript{About: "Starts moor\x1b[31m.", Env: []string{"HOME=/a b", "KEY=x" + text.Hole("LICENCE")},
		Command: []string{"./bin/moor", "-key", text.Hole("LICENCE"), "-name", "it's", "", "50%", "a&b", `c\`, "d e\\"}}
	posix, err := s.POSIX()
	insist.OK(t, err)
	insist.Same(t, "posix", string(posix), `#!/bin/sh
# Starts moor.
: "${LICENCE:?is a secret, and not written down here}"
cd "$(dirname "$0")" || exit 1
export HOME='/a b'
export KEY=x"$LICENCE"
exec ./bin/moor -key "$LICENCE" -name "it's" '' 50% 'a&b' 'c\' 'd e\'
`)
	batch, err := s.Batch()
	insist.OK(t, err)
	insist.Same(t, "batch", string(batch), "@echo off\r\nrem Starts moor.\r\nif not defined LICENCE echo LICENCE is a secret, and not written down here & exit /b 1\r\n"+
		"cd /d \"%~dp0\" || exit /b 1\r\nset \"HOME=/a b\"\r\nset \"KEY=x%LICENCE%\"\r\n"+
		"bin\\moor -key \"%LICENCE%\" -name it's \"\" \"50%%\" \"a&b\" c\\ \"d e\\\\\"\r\n")
	s = &text.StartScript{Dir: "/srv/a moor", Command: []string{"run", `a"b`}}
	posix, err = s.POSIX()
	insist.OK(t, err)
	insist.Holds(t, "elsewhere", string(posix), "cd '/srv/a moor' || exit 1\nexec run 'a\"b'\n")
	_, err = s.Batch()
	insist.Fails(t, "a quote", err, "a batch file")
	_, err = (&text.StartScript{Command: []string{"a\x00b"}}).POSIX()
	insist.Fails(t, "a zero", err, "cannot be written in a shell script")
	for _, hostile := range []string{text.Hole(`X";touch owned;"`), text.Hole("x y"), text.Hole(""), "a\x01PORT"} {
		for _, s := range []*text.StartScript{{Command: []string{"run", hostile}}, {Env: []string{"A=" + hostile}, Command: []string{"run"}}, {Dir: "/" + hostile, Command: []string{"run"}}} {
			_, err = s.POSIX()
			insist.Fails(t, "what is no name", err, "cannot be written in a script")
			_, err = s.Batch()
			insist.Fails(t, "what is no name", err, "cannot be written in a script")
		}
	}
}

// Whatever words a command has, they are read as they were written.
func FuzzStartScript(f *testing.F) {
	f.Add("run", "a b", "it's $x `y` \\ * ~")
	f.Add("./x", "-e", "%A%^&")
	f.Add("a", "\"", "\n")
	f.Fuzz(func(t *testing.T, program, one, two string) {
		words := []string{"x" + program, one, two}
		if slices.ContainsFunc(words, func(w string) bool { return strings.Contains(w, "\x01") }) {
			return
		}
		s := &text.StartScript{About: "x", Command: words}
		read := func(l *text.Launch) (got []string) {
			for _, w := range l.Commands[len(l.Commands)-1].Words {
				got = append(got, w.Value)
			}
			return got
		}
		if doc, err := s.POSIX(); err == nil {
			if l := text.ReadPOSIX(doc); len(l.Faults) > 0 || !slices.Equal(read(l)[1:], words) {
				t.Errorf("posix: %q is read as %q from\n%s", words, read(l), doc)
			}
		}
		if doc, err := s.Batch(); err == nil && !strings.ContainsAny(program, "/ \\") && !strings.HasSuffix(one, `\`) && !strings.HasSuffix(two, `\`) {
			if l := text.ReadBatch(doc); len(l.Faults) > 0 || !slices.Equal(read(l), words) {
				t.Errorf("batch: %q is read as %q from\n%s", words, read(l), doc)
			}
		}
	})
}
