package check

import (
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/text"
)

// launches looks at the scripts and units that start the server: whether what they go to and run is there, seen from
// where they stand then, and whether they hand over what the server has to be given.
func (c *checker) launches() {
	if c.facts.FS == nil {
		return
	}
	done := map[string]bool{}
	for i := range c.s.Lineup.Files {
		f := &c.s.Lineup.Files[i]
		r := &c.d.Registrations[f.Registration]
		if f.Missing || done[f.Path] || !slices.Contains([]dialect.Format{dialect.FormatShell, dialect.FormatBatch, dialect.FormatUnit}, r.Format) {
			continue
		}
		done[f.Path] = true
		l, fault := lineup.ReadLaunch(r.Format, f.Bytes)
		if fault != nil {
			continue // it is told with what registers mods
		}
		s := &script{checker: c, file: f, severity: Warning}
		if slices.ContainsFunc(c.d.Start.Command, func(word string) bool { full, ok := c.s.Vars.Expand(word); return ok && full == f.Path }) {
			s.severity = Error
		}
		s.look(r, l)
	}
}

// script is one that starts the server.
type script struct {
	*checker
	file     *lineup.File
	severity Severity // of what keeps it from that: an error where it is this one that is run

	from string // where relative paths are seen from
	sure bool   // that is known
}

// workingDirectory is where a unit starts its command (systemd.exec(5)).
var workingDirectory = regexp.MustCompile(`(?m)^[ \t]*WorkingDirectory=-?[ \t]*([^\r\n]*?)[ \t]*\r?$`)

// look goes through the commands of a script.
func (s *script) look(r *dialect.Registration, l *text.Launch) {
	own := path.Dir(s.file.Path)
	start, ok := s.s.Vars.Expand(s.d.Start.Directory)
	s.from, s.sure = path.Clean(start), ok && path.IsAbs(start)
	if r.Format == dialect.FormatUnit {
		s.from, s.sure = "/", true
		for _, at := range workingDirectory.FindAllSubmatchIndex(s.file.Bytes, -1) {
			s.goTo(string(s.file.Bytes[at[2]:at[3]]), at[2], strings.ContainsAny(string(s.file.Bytes[at[2]:at[3]]), "%$~"))
		}
	}
	at := launching(r, l)
	for i := range l.Commands {
		words := l.Commands[i].Words
		if len(words) == 0 {
			continue
		}
		if i == at {
			s.run(&l.Commands[i], own)
			return
		}
		if name := strings.ToLower(words[0].Value); name != "cd" && name != "pushd" && name != "chdir" {
			continue
		}
		rest := slices.IndexFunc(words[1:], func(w text.Piece) bool { return w.Value != "--" && !strings.EqualFold(w.Value, "/d") }) + 1
		if rest == 0 {
			s.sure = false // to the home of whoever runs it
			continue
		}
		dir, known := s.word(&l.Commands[i], rest)
		s.goTo(dir, words[rest].Start, !known)
	}
}

// beside is a path that begins with the folder of the script itself, as a shell and a batch file find it.
var beside = regexp.MustCompile(`^"?(?:\$\(dirname (?:-- )?"?\$(?:0|\{0\}|\{BASH_SOURCE(?:\[0\])?\})"?\)|\$\{0%/\*\}|%~dp0)"?([^"'$%` + "`" + `]*)"?$`)

// word is what a word of a command means; known is false where it is only known when the script runs.
func (s *script) word(c *text.Command, i int) (value string, known bool) {
	w := &c.Words[i]
	if m := beside.FindSubmatch(w.Span.In(s.file.Bytes)); m != nil {
		return path.Join(path.Dir(s.file.Path), strings.ReplaceAll(string(m[1]), `\`, "/")), true
	}
	return strings.ReplaceAll(w.Value, `\`, "/"), c.Uses[i] == (text.Use{})
}

// goTo notes where a script goes to, and tells where that is not there.
func (s *script) goTo(dir string, at int, unknown bool) {
	if unknown || dir == "-" || dir == "" || !path.IsAbs(dir) && !s.sure || path.IsAbs(dir) && s.elsewhere(dir) {
		s.sure = false
		return
	}
	full := path.Clean(dir)
	if !path.IsAbs(full) {
		full = path.Join(s.from, dir)
	}
	if s.from, s.sure = full, s.exists(full); !s.sure {
		s.tell(CodeScriptDirectory, at, "goes to %s, which is not there", dir)
	}
}

func (s *script) tell(code Code, at int, format string, args ...any) {
	line, column := text.Position(s.file.Bytes, at)
	args = append([]any{path.Base(s.file.Path)}, args...)
	f := s.add(Finding{Code: code, Severity: s.severity, File: s.file.Path, Line: line, Column: column}, "%s "+format, args...)
	if s.severity == Error {
		s.stops = append(s.stops, f.Message)
	}
}

// launching finds the command of a script that starts the server: the one with what registers mods, else the last that
// takes the script's place, else the last.
func launching(r *dialect.Registration, l *text.Launch) int {
	mark, _, _ := strings.Cut(r.At, "{list}")
	last := len(l.Commands) - 1
	for i := range l.Commands {
		for _, w := range l.Commands[i].Words {
			if mark != "" && strings.HasPrefix(w.Value, strings.TrimSpace(mark)) {
				return i
			}
		}
	}
	for i := last; i >= 0; i-- {
		if len(l.Commands[i].Words) > 0 && l.Commands[i].Words[0].Value == "exec" {
			return i
		}
	}
	return last
}

// assigned is a variable that is set for a command alone.
var assigned = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*=`)

// run looks at the command that starts the server.
func (s *script) run(c *text.Command, own string) {
	i := 0
	for i < len(c.Words)-1 && (slices.Contains([]string{"exec", "nohup", "env", "start", "call", "setsid"}, strings.ToLower(c.Words[i].Value)) || assigned.MatchString(c.Words[i].Value)) {
		i++
	}
	if program, known := s.word(c, i); known && strings.Contains(program, "/") {
		s.program(program, c.Words[i].Start)
	}
	open := false // more is handed over than can be read here
	var named []string
	for k := i + 1; k < len(c.Words); k++ {
		value, known := s.word(c, k)
		if !known {
			open = true
			continue
		}
		named = append(named, value)
		if _, behind, ok := strings.Cut(value, "="); ok {
			named, value = append(named, behind), behind
		}
		s.seenFromElsewhere(value, c.Words[k].Start, own)
	}
	for _, form := range s.d.Start.Hands {
		want, ok := s.s.Vars.Expand(form)
		if !ok || open || slices.ContainsFunc(named, func(n string) bool { return s.means(n, want) }) {
			continue
		}
		s.tell(CodeNotHanded, c.Words[0].Start, "does not hand %s over to the server, which reads it only then", strings.TrimPrefix(want, s.s.Vars["dir"]+"/"))
	}
}

// elsewhere tells a whole path of another machine, of which nothing is known here.
func (s *script) elsewhere(full string) bool {
	return s.facts.Away && !strings.HasPrefix(full, s.s.Vars["dir"]+"/") && full != s.s.Vars["dir"]
}

// means tells whether a word names a file, or may do so where it is not known from where it is seen.
func (s *script) means(word, full string) bool {
	switch {
	case path.IsAbs(word) && s.elsewhere(word):
	case path.IsAbs(word):
		return path.Clean(word) == full
	case s.sure:
		return path.Join(s.from, word) == full
	}
	return path.Base(word) == path.Base(full)
}

// program looks whether the server's program is there and can be run.
func (s *script) program(name string, at int) {
	full, seen := path.Clean(name), ""
	if path.IsAbs(name) && s.elsewhere(full) {
		return
	}
	if !path.IsAbs(name) {
		if !s.sure {
			return
		}
		full, seen = path.Join(s.from, name), ", seen from "+s.from
	}
	info, err := fs.Stat(s.facts.FS, strings.TrimPrefix(full, "/"))
	switch {
	case err != nil:
		s.tell(CodeScriptProgram, at, "runs %s, which is not there%s", name, seen)
	case info.IsDir() || info.Mode()&0o111 == 0 && !s.facts.Away && !strings.HasSuffix(strings.ToLower(name), ".exe"):
		s.tell(CodeScriptProgram, at, "runs %s, which cannot be run", name)
	}
}

// seenFromElsewhere tells a path that leads nowhere from where the script is then, and would from another folder.
func (s *script) seenFromElsewhere(value string, at int, own string) {
	if !s.sure || path.IsAbs(value) || !strings.Contains(value, "/") || strings.Contains(value, "://") || strings.ContainsAny(value, "*?;,:") || s.exists(path.Join(s.from, value)) {
		return
	}
	for _, dir := range []string{path.Clean(s.s.Vars["dir"]), own} {
		if dir != s.from && s.exists(path.Join(dir, value)) {
			s.tell(CodeSeenFromElsewhere, at, "names %s, which is there seen from %s, and it runs in %s", value, dir, s.from)
			return
		}
	}
}
