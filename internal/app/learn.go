package app

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/learn"
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
	learnLonger   = 3                      // times as long where other starts have come to an end: this one may only be slow
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
