package check

import (
	"cmp"
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

	from []string // where relative paths may be seen from
	sure bool     // it is the first of these, and no other
}

// workingDirectory is where a unit starts its command (systemd.exec(5)).
var workingDirectory = regexp.MustCompile(`(?m)^[ \t]*WorkingDirectory=-?[ \t]*([^\r\n]*?)[ \t]*\r?$`)

// look goes through the commands of a script.
func (s *script) look(r *dialect.Registration, l *text.Launch) {
	own := path.Dir(s.file.Path)
	start, ok := s.s.Vars.Expand(s.d.Start.Directory)
	s.from, s.sure = []string{path.Clean(start)}, ok && path.IsAbs(start)
	if r.Format == dialect.FormatUnit {
		s.from = []string{"/"}
		for _, at := range workingDirectory.FindAllSubmatchIndex(s.file.Bytes, -1) {
			s.goTo(string(s.file.Bytes[at[2]:at[3]]), at[2], strings.ContainsAny(string(s.file.Bytes[at[2]:at[3]]), "%$~"))
		}
	}
	at := launching(r, l)
	for i := range l.Commands {
		words := l.Commands[i].Words
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
		s.goTo(words[rest].Value, words[rest].Start, l.Commands[i].Uses[rest] != (text.Use{}))
	}
}

// goTo notes where a script goes to, and tells where that is not there.
func (s *script) goTo(dir string, at int, unknown bool) {
	if unknown || dir == "-" || dir == "" {
		s.sure = false
		if own := path.Dir(s.file.Path); !slices.Contains(s.from, own) {
			s.from = append(s.from, own)
		}
		return
	}
	dir = strings.ReplaceAll(dir, `\`, "/")
	full := path.Clean(dir)
	if !path.IsAbs(full) {
		full = path.Join(s.from[0], dir)
	}
	if s.exists(full) {
		if s.sure {
			s.from = []string{full}
		} else {
			s.from = append(s.from, full)
		}
		return
	}
	if s.sure || path.IsAbs(dir) {
		s.tell(CodeScriptDirectory, at, "goes to %s, which is not there", dir)
		s.sure = false
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
	program := strings.ReplaceAll(c.Words[i].Value, `\`, "/")
	if c.Uses[i] == (text.Use{}) && strings.Contains(program, "/") {
		s.program(program, c.Words[i].Start)
	}
	open := false // more is handed over than can be read here
	var named []string
	for k := i + 1; k < len(c.Words); k++ {
		if c.Uses[k] != (text.Use{}) {
			open = true
			continue
		}
		value := strings.ReplaceAll(c.Words[k].Value, `\`, "/")
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
		s.tell(CodeNotHanded, c.Words[0].Start, "does not hand %s over to the server, which reads it only then", cmp.Or(strings.TrimPrefix(want, s.s.Vars["dir"]+"/"), want))
	}
}

// means tells whether a word names a file, seen from where the script may be.
func (s *script) means(word, full string) bool {
	if path.IsAbs(word) {
		return path.Clean(word) == full
	}
	return slices.ContainsFunc(s.from, func(dir string) bool { return path.Join(dir, word) == full })
}

// program looks whether the server's program is there and can be run.
func (s *script) program(name string, at int) {
	places := s.from
	if path.IsAbs(name) {
		places = []string{"/"}
	} else if !s.sure {
		places = append(slices.Clone(places), path.Dir(s.file.Path))
	}
	for _, dir := range places {
		info, err := fs.Stat(s.facts.FS, strings.TrimPrefix(path.Join(dir, name), "/"))
		if err != nil {
			continue
		}
		if info.IsDir() || info.Mode()&0o111 == 0 && !strings.HasSuffix(strings.ToLower(name), ".exe") {
			s.tell(CodeScriptProgram, at, "runs %s, which cannot be run", name)
		}
		return
	}
	seen := ""
	if s.sure && !path.IsAbs(name) {
		seen = ", seen from " + s.from[0]
	}
	if !s.sure && !path.IsAbs(name) && len(s.from) == 0 {
		return
	}
	s.tell(CodeScriptProgram, at, "runs %s, which is not there%s", name, seen)
}

// seenFromElsewhere tells a path that leads nowhere from where the script is then, and would from another folder.
func (s *script) seenFromElsewhere(value string, at int, own string) {
	if !s.sure || path.IsAbs(value) || !strings.Contains(value, "/") || strings.Contains(value, "://") || strings.ContainsAny(value, "*?;,:") || s.exists(path.Join(s.from[0], value)) {
		return
	}
	for _, dir := range []string{path.Clean(s.s.Vars["dir"]), own} {
		if dir != s.from[0] && s.exists(path.Join(dir, value)) {
			s.tell(CodeSeenFromElsewhere, at, "names %s, which is there seen from %s, and it runs in %s", value, dir, s.from[0])
			return
		}
	}
}
