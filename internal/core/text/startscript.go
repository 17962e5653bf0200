package text

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// StartScript is what a start script says: where it goes, what is in the environment, and the one command that it becomes.
// What stands between two bytes of value 1 in a text is the name of a variable whose value is not written down, as it
// is a secret: who runs the script has to have it in his environment.
type StartScript struct {
	About   string   // a remark at its top
	Dir     string   // that the command runs in; "" for the script's own folder
	Env     []string // NAME=value
	Command []string
}

// hole is what stands around the name of a variable that is not written down.
const hole = "\x01"

// Hole is what stands for such a variable in a text of a StartScript.
func Hole(name string) string { return hole + name + hole }

// plainVariable is what a variable of a script may be called: a name goes into it as it is.
var plainVariable = regexp.MustCompile(`^[A-Z_][A-Z0-9_]*$`)

// holes are the variables that are not written down, each once. The error tells of a text in which something else stands
// where their names do, as one that came from a file may have it.
func (s *StartScript) holes() (names []string, err error) {
	for _, word := range slices.Concat(s.Env, s.Command, []string{s.Dir}) {
		parts := strings.Split(word, hole)
		for i, part := range parts {
			switch {
			case i%2 == 0:
			case i == len(parts)-1 || !plainVariable.MatchString(part):
				return nil, fmt.Errorf("%q cannot be written in a script", Clean(word))
			case !slices.Contains(names, part):
				names = append(names, part)
			}
		}
	}
	return names, nil
}

// written writes a text in parts, those that are variables as a shell has them.
func written(s string, quote func(string) (string, error), variable func(string) string) (string, error) {
	var b strings.Builder
	for i, part := range strings.Split(s, hole) {
		if i%2 == 1 {
			b.WriteString(variable(part))
			continue
		}
		if part == "" && s != "" {
			continue
		}
		quoted, err := quote(part)
		if err != nil {
			return "", err
		}
		b.WriteString(quoted)
	}
	return b.String(), nil
}

// POSIX writes it for sh (POSIX.1-2017, Shell Command Language).
func (s *StartScript) POSIX() ([]byte, error) {
	quote := func(s string) (string, error) {
		q, err := syntax.Quote(s, syntax.LangPOSIX)
		if err != nil {
			err = fmt.Errorf("%q cannot be written in a shell script: %w", Clean(s), err)
		}
		return q, err
	}
	variable := func(name string) string { return `"$` + name + `"` }
	names, err := s.holes()
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	b.WriteString("#!/bin/sh\n# " + Clean(s.About) + "\n")
	for _, name := range names {
		fmt.Fprintf(&b, ": \"${%s:?is a secret, and not written down here}\"\n", name)
	}
	dir := `"$(dirname "$0")"`
	if s.Dir != "" {
		if dir, err = quote(s.Dir); err != nil {
			return nil, err
		}
	}
	b.WriteString("cd " + dir + " || exit 1\n")
	for _, e := range s.Env {
		name, value, _ := strings.Cut(e, "=")
		value, err := written(value, quote, variable)
		if err != nil {
			return nil, err
		}
		fmt.Fprintf(&b, "export %s=%s\n", name, value)
	}
	b.WriteString("exec")
	for _, word := range s.Command {
		word, err := written(word, quote, variable)
		if err != nil {
			return nil, err
		}
		b.WriteString(" " + word)
	}
	b.WriteString("\n")
	return []byte(b.String()), nil
}

// Batch writes it for cmd.exe. Paths of the command and below the script's folder have slashes that lean the other way.
func (s *StartScript) Batch() ([]byte, error) {
	value := func(s string) (string, error) { return encodeBatch('"', s) }
	variable := func(name string) string { return "%" + name + "%" }
	word := func(s string) (string, error) {
		w, err := written(s, value, variable)
		if strings.ContainsAny(w, " \t&|<>^()%,;=") || w == "" {
			if strings.HasSuffix(w, `\`) { // or it would be taken for one before the quote
				w += `\`
			}
			w = `"` + w + `"`
		}
		return w, err
	}
	names, err := s.holes()
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	b.WriteString("@echo off\r\nrem " + strings.NewReplacer("%", "%%", "^", "").Replace(Clean(s.About)) + "\r\n")
	for _, name := range names {
		fmt.Fprintf(&b, "if not defined %s echo %s is a secret, and not written down here & exit /b 1\r\n", name, name)
	}
	dir := `"%~dp0"`
	if s.Dir != "" {
		if dir, err = word(s.Dir); err != nil {
			return nil, err
		}
	}
	b.WriteString("cd /d " + dir + " || exit /b 1\r\n")
	for _, e := range s.Env {
		e, err := written(e, value, variable)
		if err != nil {
			return nil, err
		}
		fmt.Fprintf(&b, "set \"%s\"\r\n", e)
	}
	for i, w := range s.Command {
		if i == 0 {
			w = strings.ReplaceAll(strings.TrimPrefix(w, "./"), "/", `\`)
		}
		w, err := word(w)
		if err != nil {
			return nil, err
		}
		if i > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(w)
	}
	b.WriteString("\r\n")
	return []byte(b.String()), nil
}
