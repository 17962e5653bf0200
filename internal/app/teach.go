package app

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/teach"
	"initium/internal/core/text"
	"initium/internal/host"
	"initium/internal/host/archive"
)

// Bounds of what is looked at when a dialect is taught.
const (
	maxTaughtLog  = 64 << 20 // bytes of a log
	maxTaughtFile = 4 << 20  // bytes of a startup file
	maxTaughtDirs = 5000     // folders of a server that are looked into
)

// Outline is the beginning of a dialect, made from a server's folder.
type Outline struct {
	File     string   // the dialect's
	Mods     []string // that its registration finds
	Place    string   // the folder that mods are in, below the server's; "" when it was not found
	Shape    dialect.Shape
	Problems []string // what is still missing

	data []byte
	old  []byte // the dialect in whose place it comes, nil for none
}

// Write writes the beginning of the dialect among the operator's own. One in whose place it comes is
// kept beside it, with .before behind its name.
func (o *Outline) Write() error {
	if o.old != nil {
		if err := host.WritePrivate(o.File+".before", o.old); err != nil {
			return err
		}
	}
	return host.WritePrivate(o.File, o.data)
}

// withLog is the beginning of a dialect with all that an earlier one says of the log.
func withLog(data []byte, old *dialect.Dialect) (_ []byte, err error) {
	if len(old.Log.Files) > 0 {
		data, err = teach.AddFiles(data, old.Log.Files)
	}
	if err == nil && old.Log.Prefix != "" {
		data, err = teach.AddPrefix(data, teach.Prefix{Pattern: old.Log.Prefix, Time: old.Log.Time})
	}
	for _, r := range old.Log.Rules {
		if err == nil {
			data, err = teach.AddRule(data, &dialect.Dialect{}, r, nil)
		}
	}
	return data, err
}

// MaxStartup bounds how much of a startup file is shown, in bytes.
const MaxStartup = 4 << 20

// StartupText is the beginning of a startup file of a folder, named from there or as a whole
// path.
func StartupText(dir, file string) ([]byte, error) {
	if _, err := theirs.Stat(file); err != nil {
		file = filepath.Join(dir, file)
	}
	if info, err := theirs.Stat(file); err != nil {
		return nil, fmt.Errorf("read the startup file: %w", err)
	} else if !info.Mode().IsRegular() {
		return nil, usage("%s is no file; name the startup file", file)
	}
	f, err := theirs.Open(file)
	if err != nil {
		return nil, fmt.Errorf("read the startup file: %w", err)
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, MaxStartup))
}

// TeachStart says of which server a dialect is begun.
type TeachStart struct {
	Name    string // of the dialect
	Dir     string // the server's folder
	Startup string // one of its startup files, from there or as a whole path
	Command string // that starts the server, "" when that is to be said later
	Anew    bool   // over a dialect of this name that is there: what it says of the log is kept, and its command unless another is said
}

// TeachServer begins a dialect for a server that nobody here knows: from its folder,
// and the name of one mod in one of its startup files. Nothing is written yet.
func (a *App) TeachServer(of TeachStart, mod string) (*Outline, error) {
	if err := host.CheckName(of.Name); err != nil {
		return nil, UsageError{err}
	}
	name, startup, command := of.Name, of.Startup, of.Command
	file := a.ownDialect(name)
	if err := a.FreeDialect(name); err != nil && !of.Anew {
		return nil, err
	}
	dir, err := filepath.Abs(of.Dir)
	if err != nil {
		return nil, err
	}
	below, err := filepath.Rel(dir, absolute(startup))
	if err != nil || !filepath.IsLocal(below) {
		if below = filepath.Clean(startup); !filepath.IsLocal(below) {
			return nil, usage("%s is not below %s", startup, dir)
		}
	}
	doc, err := survey.Open(theirs.Tree(), filepath.Join(dir, below), maxTaughtFile)
	if err != nil {
		return nil, fmt.Errorf("read the startup file: %w", err)
	}
	near := lookNear(dir, mod)
	r, err := teach.FindRegistration(filepath.ToSlash(below), doc, mod, func(n string) bool { return len(near[n]) > 0 })
	if err != nil {
		return nil, UsageError{err}
	}
	o := teach.Outline{Name: name, Title: name, Recognise: []string{filepath.ToSlash(below)}, Registration: r}
	o.Place, o.File = placeOf(near, r.Mods)
	if o.Place != "" && o.Place != "." {
		o.Recognise = append(o.Recognise, o.Place)
	}
	lookInside(&o, dir)
	switch {
	case command != "":
		o.Command = strings.Fields(command)
	case strings.HasSuffix(below, ".sh"):
		o.Command = []string{"{dir}/" + filepath.ToSlash(below)}
	}
	old, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	earlier, _ := dialect.Draft(file, old)
	if said := earlier.Start.Command; o.Command == nil && len(said) > 0 && !slices.ContainsFunc(said, func(w string) bool { return strings.Contains(strings.ReplaceAll(w, "{dir}", ""), "{") }) {
		o.Command = said
	}
	data, err := o.Write()
	if err == nil {
		data, err = withLog(data, earlier)
	}
	if err != nil {
		return nil, err
	}
	_, problems := dialect.Draft(file, data)
	return &Outline{old: old, File: file, Mods: cleaned(r.Mods), Place: text.Clean(o.Place), Shape: r.Shape, Problems: problemsLeft(problems), data: data}, nil
}

// lookInside finds out from the mods of an outline that are folders, or files, how such a mod describes
// itself, by what it is known, and how the names of category folders begin.
func lookInside(o *teach.Outline, dir string) {
	if o.Place == "" || filepath.IsAbs(o.Place) {
		return
	}
	o.Group = groupMark(o.Registration.Mods)
	root := filepath.Join(dir, filepath.FromSlash(o.Place))
	for _, mod := range o.Registration.Mods {
		name := mod
		if o.File != "" {
			name = strings.Replace(o.File, "{mod}", mod, 1)
		}
		if !filepath.IsLocal(name) || o.Group != "" && strings.HasPrefix(mod, o.Group) {
			continue
		}
		if m, ok := teach.FindManifest(filesOf(filepath.Join(root, name)), teach.Known{Name: mod}); ok && m.Named {
			o.Manifest = m.Text
			break
		}
	}
	if o.File == "" {
		o.Mark = markOf(root, o.Registration.Mods, o.Group)
	}
}

// markOf is the file that all the folders of mods have and others beside them have not; nil where
// there is none, or no need for one.
func markOf(root string, mods []string, group string) []string {
	entries, err := os.ReadDir(root)
	if err != nil {
		return nil
	}
	var common []string
	has := map[string]int{} // of other folders
	first, others := true, 0
	for _, e := range entries {
		if !e.IsDir() || strings.HasPrefix(e.Name(), ".") || group != "" && strings.HasPrefix(e.Name(), group) {
			continue
		}
		var files []string
		inside, _ := os.ReadDir(filepath.Join(root, e.Name())) // one that cannot be read shows nothing
		for _, f := range inside {
			if f.Type().IsRegular() {
				files = append(files, f.Name())
			}
		}
		switch {
		case !slices.Contains(mods, e.Name()):
			others++
			for _, f := range files {
				has[f]++
			}
		case first:
			common, first = files, false
		default:
			common = only(common, files)
		}
	}
	common = slices.DeleteFunc(common, func(f string) bool { return has[f] == others })
	slices.SortFunc(common, func(a, b string) int { return cmp.Or(cmp.Compare(has[a], has[b]), strings.Compare(a, b)) })
	if len(common) == 0 {
		return nil
	}
	return common[:1]
}

// only are those of a list that are in another one.
func only(list, in []string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(s string) bool { return !slices.Contains(in, s) })
}

// FreeDialect refuses the name of a dialect of the operator's own that is there already.
func (a *App) FreeDialect(name string) error {
	file := a.ownDialect(name)
	if _, err := os.Stat(file); err == nil {
		return usage("there is a dialect %s already, in %s; choose another name, remove it first, or say --anew", name, file)
	}
	return nil
}

func cleaned(list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = text.Clean(s)
	}
	return out
}

func problemsLeft(problems dialect.Problems) (list []string) {
	for _, p := range problems {
		list = append(list, p.Message)
	}
	return list
}

// ownDialect is the file of a dialect of the operator's own.
func (a *App) ownDialect(name string) string {
	return filepath.Join(a.Home.DialectDir(), name+".toml")
}

// spot is a folder that holds something by a name, perhaps with something before it and an ending.
type spot struct{ dir, before, ending string }

// lookNear finds what lies in the folders of a server, by name. Where nothing has that of the mod
// which is pointed at, a part of the name may be: mod_tide.so, of tide.
func lookNear(root, mod string) map[string][]spot {
	found := map[string][]spot{}
	names := map[string][]string{} // of all that is in a folder
	dirs := 0
	theirs.Walk(root, func(full string, e fs.DirEntry, err error) error {
		if err != nil || full == root {
			return nil
		}
		if e.IsDir() {
			if dirs++; dirs > maxTaughtDirs {
				return fs.SkipAll
			}
		}
		below, err := filepath.Rel(root, full)
		if err != nil {
			return nil
		}
		name, ending := e.Name(), ""
		if !e.IsDir() {
			ending = path.Ext(name)
			name = strings.TrimSuffix(name, ending)
		}
		in := filepath.ToSlash(filepath.Dir(below))
		found[name] = append(found[name], spot{dir: in, ending: ending})
		names[in] = append(names[in], e.Name())
		if e.IsDir() && strings.Count(below, string(filepath.Separator)) >= 3 {
			return fs.SkipDir
		}
		return nil
	})
	if len(found[mod]) == 0 {
		best, mods := partOf(names, mod)
		for _, name := range mods {
			found[name] = append(found[name], best)
		}
	}
	return found
}

// partOf finds what stands around the name of a mod in that of a file or folder: where most others
// in the same folder have the same around theirs, which are then mods too.
func partOf(names map[string][]string, mod string) (best spot, mods []string) {
	for _, dir := range slices.Sorted(maps.Keys(names)) {
		for _, name := range names[dir] {
			before, after, ok := strings.Cut(name, mod)
			if !ok || mod == "" || before != "" && letter(before[len(before)-1]) || after != "" && letter(after[0]) || release.MatchString(after) {
				continue
			}
			var like []string
			for _, other := range names[dir] {
				if stem, ok := strings.CutPrefix(other, before); ok && strings.HasSuffix(stem, after) && len(stem) > len(after) {
					like = append(like, strings.TrimSuffix(stem, after))
				}
			}
			if len(like) > len(mods) {
				best, mods = spot{dir, before, after}, like
			}
		}
	}
	return best, mods
}

// release is that of a mod in the name of its file, which is no part of all such names.
var release = regexp.MustCompile(`^[-_ .+]v?\d`)

func letter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' }

// placeOf is the folder that most of the mods are in, and what they are called there
// when they are files.
func placeOf(near map[string][]spot, mods []string) (dir, file string) {
	counts := map[spot]int{}
	var best spot
	for _, mod := range mods {
		for _, s := range near[mod] {
			if counts[s]++; counts[s] > counts[best] {
				best = s
			}
		}
	}
	if counts[best] == 0 {
		return "", ""
	}
	if best.before+best.ending != "" {
		file = best.before + "{mod}" + best.ending
	}
	return best.dir, file
}

// Lessons is a log from which a dialect is taught.
type Lessons struct {
	Dialect string
	Lines   []string // of the log, as rules see them
	Cut     bool     // there is more of it
	Known   []string // mods that are on the server, where there is one

	secrets []string // of the server, which are not shown

	doc  []byte
	d    *dialect.Dialect
	log  string // the log's path
	dir  string // the server's folder, "" for none
	file string // where it is written
}

// Taught is a rule that was made from examples, with what it comes to.
type Taught struct {
	Rule    dialect.Rule
	Matches []teach.Match // all lines that it fits
	Mods    []string      // that these speak of
	Strange []string      // of a rule that means loaded: those of Mods that are not registered, where the server is known
	Owed    []string      // mods of the server that no line speaks of yet, whatever the rule
}

// Teach opens a log to teach a dialect from: one of the operator's own, perhaps not
// complete yet; or one that ships with Initium, of which a copy of his own is then
// written. server is whose mods are known, "" for none.
func (a *App) Teach(name, log, server string, in io.Reader) (*Lessons, error) {
	l := &Lessons{Dialect: name, log: absolute(log), file: a.ownDialect(name)}
	var err error
	if l.doc, err = os.ReadFile(l.file); errors.Is(err, fs.ErrNotExist) {
		entry, err := a.Dialect(name)
		if err != nil {
			return nil, err
		}
		l.doc = entry.Data
		if entry.Own {
			l.file = entry.File
		}
	} else if err != nil {
		return nil, err
	}
	stream, err := archive.OpenStream(log, in)
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", text.Clean(log), err)
	}
	defer stream.Close()
	data, err := io.ReadAll(io.LimitReader(stream, maxTaughtLog+1))
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", text.Clean(log), err)
	}
	if l.Cut = len(data) > maxTaughtLog; l.Cut {
		data = data[:maxTaughtLog]
	}
	for line := range bytes.Lines(data) {
		l.Lines = append(l.Lines, string(proof.Plain(line[:min(len(line), proof.MaxLine)])))
	}
	if server != "" {
		s, err := a.Server(server)
		if err != nil {
			return nil, err
		}
		l.dir = s.Record.Dir
		now := survey.Take(s.input())
		l.secrets = now.Lineup.Secrets()
		for i := range now.Mods {
			if m := &now.Mods[i]; m.Listed {
				l.Known = append(l.Known, m.Name)
			}
		}
	}
	return l, l.begin()
}

// begin reads the dialect, and finds what stands before the messages of the log if it
// does not say.
func (l *Lessons) begin() (err error) {
	l.d, _ = dialect.Draft(l.file, l.doc)
	if l.d.Log.Prefix != "" || len(l.d.Log.Rules) > 0 {
		return nil
	}
	if p := teach.FindPrefix(l.Lines); p.Pattern != "" {
		if l.doc, err = teach.AddPrefix(l.doc, p); err != nil {
			return err
		}
		l.d, _ = dialect.Draft(l.file, l.doc)
	}
	return nil
}

// Own says that the server writes this log itself, besides what it prints: with every
// start it is then followed too. It returns the file as the dialect names it.
func (l *Lessons) Own() (file string, err error) {
	dir := l.dir
	if dir == "" {
		dir = l.recognised()
	}
	below, err := filepath.Rel(dir, l.log)
	if dir == "" || err != nil || !filepath.IsLocal(below) || strings.ContainsAny(below, "{}") {
		return "", usage("%s is not below the folder of a server of this dialect; name the server with --server", text.Clean(l.log))
	}
	file = "{dir}/" + filepath.ToSlash(below)
	if slices.Contains(l.d.Log.Files, file) {
		return file, nil
	}
	if len(l.d.Log.Files) > 0 {
		return "", usage("the dialect names the logs of its servers already: %s; change that in %s", text.Clean(strings.Join(l.d.Log.Files, ", ")), l.file)
	}
	doc, err := teach.AddFiles(l.doc, []string{file})
	if err != nil {
		return "", err
	}
	if err := host.WritePrivate(l.file, doc); err != nil {
		return "", err
	}
	l.doc = doc
	l.d, _ = dialect.Draft(l.file, doc)
	return file, nil
}

// recognised is the nearest folder above the log that is one of a server of this
// dialect; "" for none.
func (l *Lessons) recognised() string {
	if len(l.d.Recognise.Files) == 0 {
		return ""
	}
	missing := func(dir string) bool {
		return slices.ContainsFunc(l.d.Recognise.Files, func(file string) bool {
			_, err := theirs.Stat(filepath.Join(dir, filepath.FromSlash(file)))
			return err != nil
		})
	}
	for dir := filepath.Dir(l.log); ; dir = filepath.Dir(dir) {
		if !missing(dir) {
			return dir
		}
		if dir == filepath.Dir(dir) {
			return ""
		}
	}
}

// Prefix is what stands before every message, "" for nothing.
func (l *Lessons) Prefix() string { return l.d.Log.Prefix }

// Line is a line of the log by its number, from 1.
func (l *Lessons) Line(number int) (string, error) {
	if number < 1 || number > len(l.Lines) {
		return "", usage("the log has no line %d; it has %d", number, len(l.Lines))
	}
	return l.Lines[number-1], nil
}

// Shown is a line of the log as it may be shown, by its number, from 1.
func (l *Lessons) Shown(number int) string {
	return text.Mask(text.Clean(l.Lines[number-1]), l.secrets)
}

// Words are what may be the name of a mod in a line, the likeliest first.
func (l *Lessons) Words(number int) []string {
	line, err := l.Line(number)
	if err != nil {
		return nil
	}
	return teach.Words(l.d.Log.PrefixPattern(), line, func(s string) bool { return slices.Contains(l.Known, s) })
}

// Propose makes a rule from what was said of some lines, and tells what else in the
// log it fits.
func (l *Lessons) Propose(lesson teach.Lesson) (*Taught, error) {
	rule, err := teach.Propose(l.d.Log.PrefixPattern(), lesson)
	if err != nil {
		return nil, usage("%s", text.Mask(err.Error(), l.secrets)) // it may quote the line
	}
	if text.Mask(rule.Line, l.secrets) != rule.Line {
		return nil, usage("the line holds a secret of the server, which a dialect must not; point at another line of its kind too, so that it falls out")
	}
	t := &Taught{Rule: rule}
	if t.Matches, err = teach.Try(l.d.Log.PrefixPattern(), rule, l.Lines); err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, m := range t.Matches {
		for _, mod := range m.Mods {
			if !seen[mod] {
				seen[mod] = true
				t.Mods = append(t.Mods, text.Clean(mod))
				if rule.Means == dialect.MeansLoaded && len(l.Known) > 0 && !slices.Contains(l.Known, mod) {
					t.Strange = append(t.Strange, text.Clean(mod))
				}
			}
		}
	}
	spoken := l.spokenFor()
	for _, mod := range l.Known {
		if !seen[mod] && !spoken[mod] {
			t.Owed = append(t.Owed, text.Clean(mod))
		}
	}
	return t, nil
}

// spokenFor are the mods that the rules so far account for.
func (l *Lessons) spokenFor() map[string]bool {
	spoken := map[string]bool{}
	for _, rule := range l.d.Log.Rules {
		if rule.Means == dialect.MeansIgnore || rule.Pattern() == nil {
			continue
		}
		matches, err := teach.Try(l.d.Log.PrefixPattern(), rule, l.Lines)
		if err != nil {
			continue
		}
		for _, m := range matches {
			for _, mod := range m.Mods {
				spoken[mod] = true
			}
		}
	}
	return spoken
}

// Meaning is what the rules so far say of a line, "" when none fits it.
func (l *Lessons) Meaning(line string) dialect.Meaning {
	for i := range l.d.Log.Rules {
		r := &l.d.Log.Rules[i]
		if r.Pattern() != nil && teach.Fits(l.d.Log.PrefixPattern(), r, r.Pattern(), line) {
			return r.Means
		}
	}
	return ""
}

// Write writes a rule into the dialect. It returns the file, and what the dialect
// still lacks.
func (l *Lessons) Write(t *Taught, lesson teach.Lesson) (file string, missing []string, err error) {
	doc, err := teach.AddRule(l.doc, l.d, t.Rule, lesson.Examples)
	if err != nil {
		return "", nil, err
	}
	before, old := dialect.Draft(l.file, l.doc)
	d, problems := dialect.Draft(l.file, doc)
	if len(d.Log.Rules) != len(before.Log.Rules)+1 || len(problems) > len(old) {
		return "", nil, usage("the rule cannot be written: %w", problems)
	}
	if err := host.WritePrivate(l.file, doc); err != nil {
		return "", nil, err
	}
	l.doc, l.d = doc, d
	return l.file, problemsLeft(problems), nil
}

// TeachLog opens the newest log of a server to teach its dialect from.
func (a *App) TeachLog(_ context.Context, server string) (*Lessons, error) {
	s, err := a.Server(server)
	if err != nil {
		return nil, err
	}
	state, err := a.Home.State(server)
	if err != nil {
		return nil, err
	}
	if state.Start == "" {
		return nil, usage("there is no log yet: %s was never started here", server)
	}
	return a.Teach(s.Dialect.Name, state.Start.Log(), server, nil)
}

// OwnLog says to the dialect of a server that the server writes its log itself into a
// file below its folder, and does not print it. It returns the file as the dialect
// names it.
func (a *App) OwnLog(server, below string) (file string, err error) {
	s, err := a.Server(server)
	if err != nil {
		return "", err
	}
	l, err := a.Teach(s.Dialect.Name, filepath.Join(s.Record.Dir, below), server, nil)
	if err != nil {
		return "", err
	}
	return l.Own()
}
