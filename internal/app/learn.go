package app

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/learn"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/teach"
	"initium/internal/core/text"
	"initium/internal/host"
)

// LearnOptions say how a dialect is learned.
type LearnOptions struct {
	Name    string   // of the dialect
	Dir     string   // the server's folder
	Mods    []string // names of some of its mods; nil when they are to be guessed
	Startup string   // the file that registers them, "" when it is to be found
	Command string   // that starts the server, "" when it is to be found
	Port    int      // on which players connect, where the command says it; 0 to find out
	Trials  int      // random line-ups with which what was learned is tried
	Seed    uint64   // of these
	OnPhase func(string)
}

// Learned is a dialect that was learned, and how far it can be trusted. Its strings are safe to show.
type Learned struct {
	Name     string         `json:"dialect"`
	File     string         `json:"file"`
	Ways     []string       `json:"ways"` // in which mods may be registered, the one that was taken first
	Mods     []string       `json:"mods"`
	Starts   int            `json:"starts"` // that were made, without those of Agreement
	Rules    []LearnedRule  `json:"rules"`
	Fates    []string       `json:"fates"`  // what becomes of mods that something is wrong with
	Unsaid   []string       `json:"unsaid"` // what could not be found out
	Notes    []string       `json:"notes"`  // what of the copies was other than the server
	Problems []string       `json:"problems"`
	Trial    LearnAgreement `json:"trial"`
	Took     time.Duration  `json:"took_ns"`

	data []byte
}

// LearnedRule is what the server says, and what that rests on.
type LearnedRule struct {
	Means string `json:"means"`
	Line  string `json:"line"`
	Why   string `json:"why"`
}

// LearnAgreement is how far forecasts by what was learned agreed with what starts then showed.
type LearnAgreement struct {
	Lineups  int      `json:"lineups"`
	Exact    int      `json:"exact"` // with every mod as foretold, of those that show
	Mods     int      `json:"mods"`
	Shown    int      `json:"shown"`    // mods of which the start showed what became of them
	Right    int      `json:"right"`    // of these
	Differed []string `json:"differed"` // the others, in words
}

// Write writes the dialect among the operator's own.
func (l *Learned) Write() error { return host.WritePrivate(l.File, l.data) }

// LookAround tells in which ways the mods of a server may be registered, the likeliest first, and what
// would start it. Nothing is started.
func (a *App) LookAround(opt LearnOptions) (ways []string, command []string, err error) {
	if opt.Dir, err = filepath.Abs(opt.Dir); err != nil {
		return nil, nil, err
	}
	command, failed := starter(opt.Dir, opt.Command)
	seen, err := a.lookAround(opt.Dir, opt.Startup, command, opt.Mods)
	if err != nil {
		return nil, nil, err
	}
	for _, w := range seen.ways {
		ways = append(ways, w.String())
	}
	return ways, cleaned(command), failed
}

// How long a copy is watched, from which a dialect is learned.
const (
	learnQuiet    = 4 * time.Second        // without a line, after which a start counts as over that has not come to its end
	learnSettled  = 400 * time.Millisecond // the same for one that has
	learnTick     = 100 * time.Millisecond
	learnWithin   = 90 * time.Second  // at most
	learnPatience = 8 * time.Second   // for a server that is told to end
	maxLearnLog   = 8 << 20           // bytes of its log
	maxWithout    = 16                // starts without one mod each
	nowhere       = "initium_nowhere" // the name of a mod that is nowhere
	makesNoSense  = learn.Nonsense + " (\n"
)

// learning is a dialect that is being learned.
type learning struct {
	a      *App
	opt    LearnOptions
	way    Way
	server *Server // as the dialect describes it so far
	starts []learn.Start
	signal string   // that ends the server
	files  []string // that it writes its log into
	notes  []string
	made   int
	quiet  time.Duration // learnQuiet, or more where the machine is slow
	ends   string        // the kind of line with which a start is over, "" as long as that is not known
}

// Learn finds out how the server of a folder registers its mods and what it says of them: by looking,
// and by starting copies of it that differ in one thing each. Nothing is written but what Learned.Write
// does, and the server itself is not touched.
func (a *App) Learn(ctx context.Context, opt LearnOptions) (*Learned, error) {
	began := time.Now()
	if err := host.CheckName(opt.Name); err != nil {
		return nil, UsageError{err}
	}
	var err error
	if opt.Dir, err = filepath.Abs(opt.Dir); err != nil {
		return nil, err
	}
	if real, err := filepath.EvalSymlinks(opt.Dir); err == nil {
		opt.Dir = real
	}
	l := &learning{a: a, opt: opt, quiet: learnQuiet}
	defer a.Home.ForgetTrial(opt.Name, host.LearningSuffix)
	l.phase("looking through %s", text.Clean(opt.Dir))
	command, err := starter(opt.Dir, opt.Command)
	if err != nil {
		return nil, err
	}
	seen, err := a.lookAround(opt.Dir, opt.Startup, command, opt.Mods)
	if err != nil {
		return nil, err
	}
	var found *learn.Findings
	var best learning
	const most = 3 // ways that are tried
	for _, w := range seen.ways[:min(len(seen.ways), most)] {
		l.way, l.files, l.signal = w, nil, ""
		l.way.outline.Name, l.way.outline.Title, l.way.outline.Command = opt.Name, opt.Name, command
		l.way.outline.About = "Learned from starts of copies of the server in " + text.Clean(filepath.Base(opt.Dir)) + "."
		if err := l.draft(nil); err != nil {
			return nil, err
		}
		f, err := l.try(ctx)
		if err != nil {
			return nil, err
		}
		if found == nil || len(f.Mods)-len(f.Unshown) > len(found.Mods)-len(found.Unshown) {
			found, best = f, *l
		}
		if len(f.Mods) > 0 && len(f.Unshown) == 0 { // it shows in what the server says of all of them
			break
		}
	}
	best.made, best.notes = l.made, l.notes
	*l = best
	if found.Port > 0 {
		l.namePort(found.Port)
	}
	l.describe(found)
	if err := l.base(found); err != nil {
		return nil, err
	}
	data, err := found.Write(l.way.outline, l.files, l.signal)
	if err != nil {
		return nil, err
	}
	out := &Learned{Name: opt.Name, File: a.ownDialect(opt.Name), Starts: l.made, Mods: cleaned(found.Mods), Fates: found.Fates(), Unsaid: found.Unsaid, Notes: l.notes, data: data, Problems: []string{}, Rules: []LearnedRule{}}
	out.Ways = append(out.Ways, l.way.String())
	for _, w := range seen.ways {
		if w.File != l.way.File || w.Shape != l.way.Shape {
			out.Ways = append(out.Ways, w.String())
		}
	}
	for _, r := range found.Rules {
		out.Rules = append(out.Rules, LearnedRule{string(r.Means), text.Clean(r.Line), text.Clean(r.Why)})
	}
	if found.Held {
		out.Rules = append(out.Rules, LearnedRule{string(dialect.MeansLoaded), "", "a mod that is on has files in the server's memory, and one that is off has none"})
	}
	if found.Listens {
		out.Rules = append(out.Rules, LearnedRule{string(dialect.MeansReady), "", fmt.Sprintf("it listens on port %d, and no line says that it is ready", found.Port)})
	}
	if len(found.Voices) > 0 {
		out.Unsaid = append(out.Unsaid, "without "+text.Clean(strings.Join(found.Voices, ", "))+" the server says nothing of what it does: such a start cannot be judged")
	}
	if len(found.Unshown) > 0 {
		out.Unsaid = append(out.Unsaid, "nothing tells that these load: "+text.Clean(strings.Join(found.Unshown, ", "))+"; a start in which they say nothing cannot be proved")
	}
	d, problems := dialect.Draft(out.File, data)
	out.Problems = append(out.Problems, problemsLeft(problems)...)
	if len(problems) == 0 && opt.Trials > 0 {
		l.server.Dialect = d
		if err := l.selfTest(ctx, out, found); err != nil {
			return nil, err
		}
	}
	out.Took = time.Since(began)
	return out, nil
}

func (l *learning) phase(format string, args ...any) {
	if l.opt.OnPhase != nil {
		l.opt.OnPhase(fmt.Sprintf(format, args...))
	}
}

// describe finds the file in which mods say what they need, from needs that the starts have shown; and
// what there is in it besides.
func (l *learning) describe(f *learn.Findings) {
	if l.way.outline.Manifest != "" && len(f.Needs) == 0 {
		return
	}
	now := survey.Take(l.server.input())
	find := func(mod string, needs []string) bool {
		m := now.Find(mod)
		if m == nil || m.Path == "" {
			return false
		}
		known := teach.Known{Name: cmp.Or(m.Manifest.Name, m.Name), Needs: needs}
		for _, i := range m.Entries {
			if e := &now.Lineup.Entries[i]; l.server.Dialect.Registrations[e.Registration].Shape == dialect.ShapeParallel {
				known.Number = e.Value
			}
		}
		found, ok := teach.FindManifest(filesOf(m.Path), known)
		if ok && (found.Needs || len(needs) == 0) {
			l.way.outline.Manifest = found.Text
			return true
		}
		return false
	}
	for _, mod := range slices.Sorted(maps.Keys(f.Needs)) {
		if find(mod, f.Needs[mod]) {
			return
		}
		f.Unsaid = append(f.Unsaid, fmt.Sprintf("where %s says that it needs %s", text.Clean(mod), text.Clean(strings.Join(f.Needs[mod], ", "))))
	}
	if l.way.outline.Manifest == "" && len(l.starts) > 0 {
		for _, mod := range l.starts[0].On {
			if find(mod, nil) {
				return
			}
		}
	}
}

// base finds where the mods are that others need which loaded, and that are nowhere else: those that the
// server brings itself. Where they are not found, what mods say of their needs is left out, as it would
// foretell failures that do not come.
func (l *learning) base(f *learn.Findings) error {
	if l.way.outline.Manifest == "" || len(l.starts) == 0 {
		return nil
	}
	contradicted := func() (missing []string, err error) {
		if err := l.draft(f); err != nil {
			return nil, err
		}
		now := survey.Take(l.server.input())
		for _, name := range f.Mods {
			m := now.Find(name)
			if m == nil || !slices.Contains(l.starts[0].On, name) {
				continue
			}
			for _, need := range m.Needs() {
				if now.Answer(need.Name) == nil && !slices.Contains(missing, need.Name) {
					missing = append(missing, need.Name)
				}
			}
		}
		return missing, nil
	}
	missing, err := contradicted()
	if err != nil || len(missing) == 0 {
		return err
	}
	roots := []string{l.opt.Dir}
	if place := l.way.outline.Place; filepath.IsAbs(place) {
		roots = append(roots, filepath.Dir(place), filepath.Dir(filepath.Dir(place)))
	}
	if dir, file, _ := lookFar(roots, missing); dir != "" && file == l.way.outline.File {
		l.way.outline.Base = append(l.way.outline.Base, dir)
		if missing, err = contradicted(); err != nil || len(missing) == 0 {
			return err
		}
	}
	l.way.outline.Manifest, l.way.outline.Base = "", nil
	f.Unsaid = append(f.Unsaid, "where the mods are that others need, and that the server brings itself: "+text.Clean(strings.Join(missing, ", "))+"; what mods need is left out")
	return l.draft(f)
}

// namePort lets the command say the port as a value of the server, where it names it.
func (l *learning) namePort(port int) {
	number := strconv.Itoa(port)
	for i, word := range l.way.outline.Command {
		for _, form := range []string{number, ":" + number, "=" + number} {
			if word == number || form != number && strings.HasSuffix(word, form) {
				l.way.outline.Command[i] = strings.TrimSuffix(word, number) + "{port}"
				l.way.outline.Port = port
			}
		}
	}
}

// draft reads what is known so far as a dialect, and makes the server that it describes.
func (l *learning) draft(f *learn.Findings) error {
	if f == nil {
		f = &learn.Findings{}
	}
	data, err := f.Write(l.way.outline, l.files, l.signal)
	if err != nil {
		return err
	}
	d, problems := dialect.Draft(l.a.ownDialect(l.opt.Name), data)
	if d == nil {
		return usage("the way in which mods are registered cannot be described: %w", problems)
	}
	d.Stop.Patience, d.Start.Within = dialect.Duration(learnPatience), dialect.Duration(learnWithin)
	l.server = &Server{Record: host.Record{Name: l.opt.Name, Dir: l.opt.Dir, Dialect: l.opt.Name, Set: map[string]string{}}, Dialect: d, Missing: map[string]string{}, memory: &survey.Memory{}}
	l.a.resolve(l.server)
	return nil
}

// try makes the starts that tell how the way shows in what the server says.
func (l *learning) try(ctx context.Context) (*learn.Findings, error) {
	l.starts = nil
	if err := l.asItIs(ctx); err != nil {
		return nil, err
	}
	on := l.starts[0].On
	if len(on) == 0 {
		return learn.From(l.starts, l.set()), nil
	}
	for _, mod := range l.sample(on) {
		if err := l.start(ctx, learn.Without, []string{mod}, func(t *trial) error { return t.takeOut(mod) }); err != nil {
			return nil, err
		}
	}
	if f := learn.From(l.starts, l.set()); len(f.Mods) == 0 && len(f.Rules) == 0 {
		return f, nil // what is taken out shows nowhere: it may not be the way
	}
	subject := on[len(on)/2]
	if len(l.opt.Mods) > 0 && slices.Contains(on, l.opt.Mods[0]) {
		subject = l.opt.Mods[0]
	}
	for _, names := range [][]string{{nowhere}, {nowhere, nowhere + "2"}} {
		if l.way.File == "" {
			break // being there is enough
		}
		before := "" // another, so that what the server does then shows
		if len(names) == 1 && len(on) > 1 {
			before = on[len(on)-1]
		}
		if err := l.start(ctx, learn.Absent, names, func(t *trial) error { return t.register(names, before) }); err != nil {
			return nil, err
		}
	}
	if err := l.start(ctx, learn.Broken, []string{subject}, func(t *trial) error { return t.breakMod(subject) }); err != nil {
		return nil, err
	}
	if l.way.File == "" {
		return l.tryAside(ctx, subject)
	}
	if err := l.start(ctx, learn.Twice, []string{subject}, func(t *trial) error { return t.doubleLine(subject) }); err != nil {
		return nil, err
	}
	if len(on) > 1 {
		if err := l.start(ctx, learn.Moved, on[len(on)-1:], func(t *trial) error { return t.moveFirst(on[len(on)-1], on[0]) }); err != nil {
			return nil, err
		}
	}
	if err := l.start(ctx, learn.Damaged, nil, func(t *trial) error { return t.damage() }); err != nil {
		return nil, err
	}
	return learn.From(l.starts, l.set()), nil
}

// tryAside looks for a name under which the server passes a mod over, so that it can be switched off
// where it is.
func (l *learning) tryAside(ctx context.Context, mod string) (*learn.Findings, error) {
	file := cmp.Or(l.way.outline.File, "{mod}")
	needed := map[string]bool{}
	for _, list := range learn.From(l.starts, l.set()).Needs {
		for _, name := range list {
			needed[name] = true
		}
	}
	if i := slices.IndexFunc(l.starts[0].On, func(m string) bool { return !needed[m] }); i >= 0 && needed[mod] {
		mod = l.starts[0].On[i] // of one that others need they would speak
	}
	for _, called := range []string{file + ".off", "_" + file, "off-" + file} {
		err := l.start(ctx, learn.Aside, []string{mod}, func(t *trial) error {
			m := t.whole.Find(mod)
			if m == nil || !strings.HasPrefix(m.Path, t.folder+"/") {
				return fmt.Errorf("%w: it lies outside the server's folder", errUntried)
			}
			before, after, _ := strings.Cut(called, "{mod}")
			plainBefore, plainAfter, _ := strings.Cut(file, "{mod}")
			stem := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(m.Path), plainBefore), plainAfter)
			return os.Rename(m.Path, filepath.Join(filepath.Dir(m.Path), before+stem+after))
		})
		if err != nil {
			return nil, err
		}
		if n := len(l.starts) - 1; l.starts[n].Kind == learn.Aside {
			l.starts[n].Called = called
		}
		if f := learn.From(l.starts, l.set()); f.Aside != "" {
			return f, nil
		}
	}
	f := learn.From(l.starts, l.set())
	f.Unsaid = append(f.Unsaid, "under which name the server passes a mod over: mods cannot be switched off where they are")
	return f, nil
}

// set are the words of the startup files, and of the command.
func (l *learning) set() map[string]bool {
	words := map[string]bool{}
	for _, f := range lineup.Read(l.server.Dialect, l.server.Vars, readFile, nil).Files {
		for _, word := range bytes.FieldsFunc(f.Raw(), func(r rune) bool { return strings.ContainsRune(" \t\r\n\"'`;,:()[]{}<>=", r) }) {
			words[string(word)] = true
		}
		for _, line := range bytes.Split(f.Raw(), []byte("\n")) { // a value may hold blanks
			if _, value, ok := bytes.Cut(line, []byte("=")); ok {
				words[strings.Trim(string(bytes.TrimSpace(value)), "\"';")] = true
			}
		}
	}
	for _, word := range l.way.outline.Command {
		words[word] = true
	}
	return words
}

// asItIs starts a copy as it is, twice. Where the server writes its log into files and prints nothing
// of it, that is found, and the start is made once more.
func (l *learning) asItIs(ctx context.Context) error {
	before := time.Now()
	t, err := l.copy(ctx)
	if t != nil {
		defer t.remove()
	}
	if err != nil {
		return err
	}
	l.phase("start 1: as it is")
	s, err := l.watch(ctx, t, learn.AsItIs, nil)
	if err != nil {
		return err
	}
	l.starts = append(l.starts, s)
	if len(l.files) == 0 && !slices.ContainsFunc(s.Lines, func(line string) bool {
		return slices.ContainsFunc(s.On, func(mod string) bool { return teach.NameAt(line, mod) >= 0 })
	}) {
		for _, full := range logsElsewhere(t.server.Record.Dir, before.Add(-time.Second)) {
			if below, ok := strings.CutPrefix(full, t.server.Record.Dir+"/"); ok && !strings.ContainsAny(below, "{}") && len(l.files) == 0 {
				l.files = append(l.files, "{dir}/"+below)
			}
		}
		if len(l.files) > 0 {
			l.starts = nil
			if err := l.draft(nil); err != nil {
				return err
			}
			return l.asItIs(ctx)
		}
	}
	l.phase("start 2: as it is, a second time on the same copy")
	if s, err = l.watch(ctx, t, learn.Again, nil); err != nil {
		return err
	}
	l.starts = append(l.starts, s)
	l.ends = learn.LastOf(l.starts)
	return nil
}

// sample are the mods without which a copy is started: those that were named, and others from the
// beginning to the end of the list.
func (l *learning) sample(on []string) (list []string) {
	for _, m := range l.opt.Mods {
		if slices.Contains(on, m) && len(list) < maxWithout/2 {
			list = append(list, m)
		}
	}
	left := maxWithout - len(list)
	for i := range left {
		if m := on[i*len(on)/left]; !slices.Contains(list, m) {
			list = append(list, m)
		}
	}
	return list
}

// copy makes a copy of the server that knows nothing of where it was copied from.
func (l *learning) copy(ctx context.Context) (*trial, error) {
	of := copying{suffix: host.LearningSuffix, isolated: host.CanIsolate() == nil}
	t, err := l.a.newTrial(ctx, l.server, of)
	if err != nil {
		return t, err
	}
	if err := t.rebase(l.opt.Dir); err != nil {
		return t, err
	}
	for _, note := range t.notes {
		if !slices.Contains(l.notes, note) {
			l.notes = append(l.notes, note)
		}
	}
	return t, nil
}

// start makes a start of a fresh copy, with one thing changed. What cannot be done is left out, and
// said.
func (l *learning) start(ctx context.Context, kind learn.Kind, mods []string, change func(*trial) error) error {
	t, err := l.copy(ctx)
	if t != nil {
		defer t.remove()
	}
	if err != nil {
		return err
	}
	l.phase("start %d: %s %s", l.made+1, kind, text.Clean(strings.Join(mods, ", ")))
	if err := change(t); errors.Is(err, errUntried) {
		l.notes = append(l.notes, fmt.Sprintf("not tried: %s %s, as %v", kind, text.Clean(strings.Join(mods, ", ")), text.Clean(strings.TrimPrefix(err.Error(), errUntried.Error()+": "))))
		return nil
	} else if err != nil {
		return err
	}
	s, err := l.watch(ctx, t, kind, mods)
	if err == nil {
		l.starts = append(l.starts, s)
	}
	return err
}

// watch starts a copy and watches it until it is quiet or has ended, and stops it.
func (l *learning) watch(ctx context.Context, t *trial, kind learn.Kind, mods []string) (learn.Start, error) {
	l.made++
	now := survey.Take(t.server.input())
	s := learn.Start{Kind: kind, Mods: mods, Dir: t.server.Record.Dir}
	for i := range now.Mods {
		if m := &now.Mods[i]; m.Listed || m.Always && m.On {
			s.On = append(s.On, m.Name)
		}
	}
	look := &Look{Server: t.server, Survey: now}
	dir, _, err := l.a.prepare(look, ProveOptions{Within: learnWithin})
	if err != nil {
		return s, err
	}
	defer dir.Remove()
	if err := l.a.launch(t.server.Record.Name, dir); err != nil {
		return s, err
	}
	f := dir.Follow()
	defer f.Close()
	var log bytes.Buffer
	read := func() error {
		for more := true; more; {
			var err error
			more, err = f.Next(func(chunk []byte, _ time.Duration) { log.Write(chunk[:min(len(chunk), maxLearnLog-log.Len())]) })
			if err != nil {
				return err
			}
		}
		return nil
	}
	running, err := dir.Running()
	if err != nil {
		return s, err
	}
	began, heard, had, longest := time.Now(), time.Now(), 0, time.Duration(0)
	for {
		exit, ended := dir.Exit()
		if err := read(); err != nil {
			return s, err
		}
		if log.Len() > had {
			if had > 0 || !ended {
				longest = max(longest, time.Since(heard))
			}
			had, heard = log.Len(), time.Now()
		}
		if ended {
			s.Ended, s.Status = true, exit.Status
			break
		}
		limit := l.quiet
		if l.ends != "" && learn.Says(linesOf(log.Bytes()), l.ends) {
			limit = learnSettled
		}
		if ctx.Err() != nil || time.Since(began) > learnWithin || time.Since(heard) > limit {
			break
		}
		f.Wait(ctx, learnTick)
	}
	l.quiet = max(l.quiet, min(4*longest, learnWithin/2)) // a slow machine, or a slow server
	s.Lines = linesOf(log.Bytes())
	if !s.Ended {
		s.Ports, _ = host.Listening(running.Keeper) // what cannot be looked at shows nothing
		mapped, _ := host.Mapped(running.Keeper)
		for i := range now.Mods {
			if m := &now.Mods[i]; slices.Contains(s.On, m.Name) && heldFile(m.Path, mapped) != "" {
				s.Held = append(s.Held, m.Name)
			}
		}
		exit, err := dir.Stop(context.WithoutCancel(ctx))
		if err != nil {
			return s, fmt.Errorf("stop the copy: %w", err)
		}
		if exit.How == host.EndedKill && l.signal == "" {
			l.signal = "INT" // it does not end on TERM; whether it does on this shows at the next start
			t.server.Dialect.Stop.Signal, l.server.Dialect.Stop.Signal = l.signal, l.signal
		}
	}
	return s, ctx.Err()
}

// linesOf are the lines of a log as rules see them.
func linesOf(log []byte) (lines []string) {
	for line := range bytes.Lines(log) {
		lines = append(lines, string(proof.Plain(line[:min(len(line), proof.MaxLine)])))
	}
	return lines
}

// errUntried says that something cannot be tried on a copy.
var errUntried = errors.New("it cannot be tried")

// apply makes changes in the startup files of a copy.
func (t *trial) apply(changes ...lineup.Change) error {
	before := lineup.Read(t.server.Dialect, t.server.Vars, readFile, t.server.Parked)
	after := before
	for _, c := range changes {
		var err error
		if after, err = after.Apply(c); err != nil {
			return fmt.Errorf("%w: %w", errUntried, err)
		}
	}
	t.server.Parked = after.Parked
	return t.write(plan.Between(before, after))
}

// takeOut takes the registration of a mod away, or the mod itself where that is what registers it.
func (t *trial) takeOut(mod string) error {
	m := t.whole.Find(mod)
	if m == nil {
		return fmt.Errorf("%w: %s is not in the copy", errUntried, mod)
	}
	if !t.byLine(m) {
		if !strings.HasPrefix(m.Path, t.folder+"/") {
			return fmt.Errorf("%w: %s lies outside the server's folder", errUntried, mod)
		}
		to := filepath.Join(t.folder, "aside")
		if err := os.MkdirAll(to, 0o755); err != nil {
			return err
		}
		return os.Rename(m.Path, filepath.Join(to, filepath.Base(m.Path)))
	}
	err := t.apply(lineup.Change{Op: lineup.OpUnregister, Mod: mod})
	if errors.Is(err, errUntried) {
		err = t.apply(lineup.Change{Op: lineup.OpOff, Mod: mod})
	}
	return err
}

// register registers mods, at the end of the list or, where the order is that of the list, before
// another.
func (t *trial) register(names []string, before string) error {
	if t.server.Dialect.Order != dialect.OrderListed {
		before = ""
	}
	l := lineup.Read(t.server.Dialect, t.server.Vars, readFile, t.server.Parked)
	var changes []lineup.Change
	for i, name := range names {
		c := lineup.Change{Op: lineup.OpRegister, Mod: name, Number: strconv.Itoa(999999 - i), Where: lineup.Where{Before: before}}
		for _, e := range l.Entries { // written as others are, with its path and ending
			if strings.ContainsAny(e.Value, `/\\.`) && strings.Contains(e.Value, e.Name) && !strings.Contains(name, ".") {
				c.Written = strings.Replace(e.Value, e.Name, name, 1)
				break
			}
		}
		changes = append(changes, c)
	}
	err := t.apply(changes...)
	if before != "" && errors.Is(err, errUntried) { // the other may be in another list
		return t.register(names, "")
	}
	return err
}

// breakMod makes nonsense of the scripts and programs of a mod; where it has none, of all its files.
func (t *trial) breakMod(mod string) error {
	m := t.whole.Find(mod)
	if m == nil || !strings.HasPrefix(m.Path, t.folder+"/") {
		return fmt.Errorf("%w: its files lie outside the server's folder", errUntried)
	}
	var scripts, others []string
	err := filepath.WalkDir(m.Path, func(full string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		switch strings.ToLower(filepath.Ext(full)) {
		case ".lua", ".js", ".py", ".rb", ".pl", ".php", ".sh", ".so", ".dll", ".jar", ".zip", ".wasm", ".cs":
			scripts = append(scripts, full)
		case ".md", ".png":
		default:
			others = append(others, full)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if scripts == nil { // any of them may be what the server reads
		scripts = others
	}
	if scripts == nil {
		return fmt.Errorf("%w: it has no file that could be broken", errUntried)
	}
	for _, full := range scripts {
		if err := t.put(full, []byte(makesNoSense)); err != nil {
			return err
		}
	}
	return nil
}

// doubleLine writes the line of a mod twice, where it stands on one of its own.
func (t *trial) doubleLine(mod string) error {
	l := lineup.Read(t.server.Dialect, t.server.Vars, readFile, nil)
	alone := func(e lineup.Entry) bool {
		raw := l.Files[e.File].Raw()
		own := e.Line.End > e.Line.Start && e.Line.End <= len(raw) && raw[e.Line.End-1] == '\n' && !t.isListing(&l.Files[e.File])
		return own && !slices.ContainsFunc(l.Entries, func(o lineup.Entry) bool { return o.Name != mod && o.File == e.File && o.Line.Start == e.Line.Start })
	}
	entries := l.Find(mod)
	i := slices.IndexFunc(entries, alone)
	if i < 0 {
		return fmt.Errorf("%w: it has no line of its own", errUntried)
	}
	e, file := entries[i], &l.Files[entries[i].File]
	if err := t.put(file.Path, slices.Insert(bytes.Clone(file.Raw()), e.Line.End, e.Line.In(file.Raw())...)); err != nil {
		return err
	}
	if now := lineup.Read(t.server.Dialect, t.server.Vars, readFile, nil); len(now.Find(mod)) != len(entries)+1 {
		return fmt.Errorf("%w: two lines of it are not two registrations", errUntried)
	}
	return nil
}

// moveFirst moves a mod before another.
func (t *trial) moveFirst(mod, before string) error {
	return t.apply(lineup.Change{Op: lineup.OpMove, Mod: mod, Where: lineup.Where{Before: before}})
}

// damage adds a line that means nothing to the first startup file.
func (t *trial) damage() error {
	for _, name := range []string{".lua", ".conf", ""} {
		for full, data := range t.files {
			if strings.HasSuffix(full, name) {
				return t.put(full, append(bytes.Clone(data), "\n"+makesNoSense...))
			}
		}
	}
	return fmt.Errorf("%w: it has no startup file", errUntried)
}

// rebase lets the texts of a copy that name the server's folder by its whole path name the copy, or it
// would write into the server.
func (t *trial) rebase(from string) error {
	const most = 1 << 20 // bytes of a text
	to := t.server.Record.Dir
	changed := 0
	err := filepath.WalkDir(to, func(full string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		info, err := e.Info()
		if err != nil || info.Size() > most {
			return err
		}
		data, err := os.ReadFile(full)
		if err != nil || bytes.IndexByte(data, 0) >= 0 || !bytes.Contains(data, []byte(from)) {
			return err
		}
		now := replacePath(data, from, to)
		if bytes.Equal(now, data) {
			return nil
		}
		changed++
		return os.WriteFile(full, now, info.Mode().Perm())
	})
	if changed > 0 {
		t.notes = append(t.notes, fmt.Sprintf("the server's folder is named by its whole path in %d of its files: in the copies they name the copy", changed))
		t.a.resolve(t.server)
		t.whole = survey.Take(t.server.input())
		for _, f := range t.whole.Lineup.Files {
			if !f.Missing && !t.isListing(&f) {
				t.files[f.Path] = f.Raw()
			}
		}
	}
	return err
}

// replacePath puts another path in the place of one, wherever that stands as a whole or with more of
// it behind.
func replacePath(data []byte, from, to string) []byte {
	var out []byte
	for {
		i := bytes.Index(data, []byte(from))
		if i < 0 {
			return append(out, data...)
		}
		end := i + len(from)
		out = append(out, data[:i]...)
		if end < len(data) && (inPath(data[end]) && data[end] != '/') || i > 0 && (inPath(data[i-1])) {
			out = append(out, from...)
		} else {
			out = append(out, to...)
		}
		data = data[end:]
	}
}

func inPath(c byte) bool { return letter(c) || strings.IndexByte("/_-.", c) >= 0 }

// heldFile is the file of a mod that is among those which a server holds in its memory, "" for none.
func heldFile(mod string, mapped []string) string {
	real, err := filepath.EvalSymlinks(mod)
	if mod == "" || err != nil {
		return ""
	}
	for _, file := range mapped {
		if file == real || strings.HasPrefix(file, real+"/") {
			return file
		}
	}
	return ""
}

// selfTest starts copies with random line-ups, and compares what was foretold of each mod with what it
// showed.
func (l *learning) selfTest(ctx context.Context, out *Learned, f *learn.Findings) error {
	r := rand.New(rand.NewPCG(l.opt.Seed, 1))
	on := l.starts[0].On
	l.server.Dialect.Stop.Patience = dialect.Duration(learnPatience)
	l.server.Dialect.Start.Within = dialect.Duration(learnWithin/6 + 2*l.quiet)
	l.server.Dialect.Start.Settle = max(l.server.Dialect.Start.Settle, dialect.Duration(500*time.Millisecond))
	l.a.resolve(l.server)
	for i := range l.opt.Trials {
		t, err := l.copy(ctx)
		if err == nil {
			l.phase("random line-up %d of %d", i+1, l.opt.Trials)
			err = l.tryOne(ctx, t, r, on, f, out)
		}
		if t != nil {
			err = errors.Join(err, t.remove())
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// tryOne lays out one random line-up on a copy, foretells its start, and makes it.
func (l *learning) tryOne(ctx context.Context, t *trial, r *rand.Rand, on []string, f *learn.Findings, out *Learned) error {
	var words []string
	do := func(word string, err error) error {
		if errors.Is(err, errUntried) {
			return nil
		}
		words = append(words, word)
		return err
	}
	for _, mod := range on {
		inCategory := t.whole.Find(mod) != nil && t.whole.Find(mod).Group // which goes as a whole
		if r.IntN(4) == 0 && !inCategory && !slices.Contains(f.Voices, mod) {
			if err := do("without "+mod, t.takeOut(mod)); err != nil {
				return err
			}
		}
	}
	left := survey.Take(t.server.input())
	var now []string
	for _, mod := range on {
		if m := left.Find(mod); m != nil && (m.Listed || m.Always && m.On) {
			now = append(now, mod)
		}
	}
	if l.way.File != "" && len(now) > 1 {
		for range r.IntN(3) {
			mod, to := now[r.IntN(len(now))], now[r.IntN(len(now))]
			if mod != to {
				if err := do(mod+" before "+to, t.moveFirst(mod, to)); err != nil {
					return err
				}
			}
		}
	}
	if l.way.File != "" && r.IntN(4) == 0 {
		if err := do("with a name that is nowhere", t.register([]string{nowhere}, "")); err != nil {
			return err
		}
	}
	broken := ""
	if len(now) > 0 && r.IntN(4) == 0 {
		mod := now[r.IntN(len(now))]
		switch err := t.breakMod(mod); {
		case err == nil:
			words, broken = append(words, mod+" broken"), mod
		case !errors.Is(err, errUntried):
			return err
		}
	}
	look, err := l.a.look(t.server, survey.Take(t.server.input()))
	if err != nil {
		return err
	}
	following, end, err := l.a.start(ctx, look, ProveOptions{})
	if following != nil {
		defer following.dir.Remove()
		defer following.close()
	}
	if err != nil {
		return err
	}
	p := following.judge(end)
	if end.Exit == nil {
		if _, err := following.dir.Stop(context.WithoutCancel(ctx)); err != nil {
			return fmt.Errorf("stop the copy: %w", err)
		}
	}
	out.Trial.add(look.Forecast, p, words, broken, f)
	return ctx.Err()
}

// add compares what was foretold of a line-up with what its start showed. That the files of a mod make
// no sense nobody can foretell who does not run them: of such a mod it counts that the start shows what
// became of it, and of the others nothing where it took the server with it.
func (g *LearnAgreement) add(told *forecast.Forecast, p *proof.Proof, words []string, broken string, found *learn.Findings) {
	g.Lineups++
	exact := true
	brokenFate, known := found.Load["script"]
	if !known {
		brokenFate = dialect.FateIgnored
	}
	for _, f := range told.Mods {
		m := p.Find(text.Clean(f.Name))
		if m == nil {
			continue
		}
		g.Mods++
		wanted := f.Outcome
		switch {
		case m.Outcome == proof.Silent && p.Ready && p.Exit == nil && slices.Contains(found.Unshown, f.Name):
			continue
		case broken != "" && f.Name == broken && f.Outcome == forecast.Confirmed:
			wanted = map[dialect.Fate]forecast.Outcome{dialect.FateFails: forecast.Failed, dialect.FateStops: forecast.Failed, dialect.FateLater: forecast.Failed, dialect.FatePassed: forecast.NotLoaded, dialect.FateIgnored: forecast.Confirmed}[brokenFate]
		case broken != "" && (brokenFate == dialect.FateStops || len(found.Needs) > 0):
			continue
		}
		g.Shown++
		if wanted == outcomeOf(m) {
			g.Right++
			continue
		}
		exact = false
		with := "as it is"
		if len(words) > 0 {
			with = strings.Join(words, ", ")
		}
		reason := m.Reason
		if p.Exit != nil {
			reason = p.Reason
		}
		g.Differed = append(g.Differed, text.Clean(fmt.Sprintf("%s: %s was foretold as %s (%s), and was %s (%s)", with, f.Name, wanted, f.Because, m.Outcome, reason)))
	}
	if exact {
		g.Exact++
	}
}

// outcomeOf is what a start has shown of a mod, in the words of a forecast.
func outcomeOf(m *proof.Mod) forecast.Outcome {
	switch m.Outcome {
	case proof.Confirmed, proof.Unlisted:
		return forecast.Confirmed
	case proof.Failed:
		return forecast.Failed
	}
	return forecast.NotLoaded
}
