package learn_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"initium/internal/core/dialect"
	"initium/internal/core/learn"
	"initium/internal/core/teach"
	"initium/internal/core/text"
	"initium/internal/insist"
)

// server is how one speaks: lines with NAME, and NEED for what a mod lacks. "" is silence.
type server struct {
	head    string // before each line
	first   []string
	begins  string
	loaded  string
	missing string
	broken  string
	wants   string
	twice   string
	ready   string
	noise   string // once in every start, with another number each time
	garbage string // with which it gives up at a line that means nothing

	stops, stopsBroken, stopsTwice, later bool
	sorts                                 bool   // it loads by name, whatever the list says
	voice                                 string // the mod without which it says nothing
	held                                  bool   // mods show in its memory
	port                                  int
	titles                                map[string]string

	done []string // what the last run has loaded
}

// run starts a server with a line-up.
func (s *server) run(kind learn.Kind, mods, on []string, needs map[string]string, there func(string) bool) learn.Start {
	out := learn.Start{Kind: kind, Mods: mods, On: on, Dir: "/home/copies/x"}
	n := rand.IntN(900)
	say := func(line, name, need string) {
		if line != "" {
			title := name
			if s.titles != nil {
				title = s.titles[name]
			}
			n++
			out.Lines = append(out.Lines, strings.NewReplacer("N#", fmt.Sprint(n), "SS", fmt.Sprintf("%02d", n%60), "TITLE", title, "NAME", name, "NEED", need, "DIR", out.Dir).Replace(s.head+line))
		}
	}
	end := func(status int) learn.Start {
		out.Ended, out.Status = true, status
		return out
	}
	s.done = nil
	for _, line := range s.first {
		say(line, "", "")
	}
	say(s.noise, "", "")
	if kind == learn.Damaged && s.garbage != "" {
		say(s.garbage, "", "")
		return end(2)
	}
	list, late := slices.Clone(on), false
	if s.sorts {
		slices.Sort(list)
	}
	for _, name := range list {
		say(s.begins, name, "")
		switch need := needs[name]; {
		case !there(name):
			say(s.missing, name, "")
			if s.stops {
				return end(1)
			}
			late = late || s.later
			continue
		case kind == learn.Broken && mods[0] == name:
			say(s.broken, name, "")
			if s.stopsBroken {
				return end(1)
			}
			if s.broken != "" {
				continue
			}
		case need != "" && !slices.Contains(s.done, need):
			say(s.wants, name, need)
			continue
		case slices.Contains(s.done, name):
			say(s.twice, name, "")
			if s.stopsTwice {
				return end(1)
			}
			continue
		}
		say(s.loaded, name, "")
		s.done = append(s.done, name)
		if s.held {
			out.Held = append(out.Held, name)
		}
	}
	if late {
		return end(1)
	}
	say(s.ready, "", "")
	if s.port > 0 {
		out.Ports = []int{s.port}
	}
	if s.voice != "" && !slices.Contains(on, s.voice) {
		out.Lines = nil
	}
	return out
}

// experiments are the starts that are made of a server.
func (s *server) experiments(mods []string, needs map[string]string) (starts []learn.Start) {
	there := func(name string) bool { return slices.Contains(mods, name) }
	run := func(kind learn.Kind, of, on []string) {
		starts = append(starts, s.run(kind, of, on, needs, there))
	}
	run(learn.AsItIs, nil, mods)
	run(learn.Again, nil, mods)
	for i, mod := range mods {
		run(learn.Without, []string{mod}, slices.Concat(mods[:i], mods[i+1:]))
	}
	last := len(mods) - 1
	run(learn.Absent, []string{"nowhere_x"}, slices.Concat(mods[:last], []string{"nowhere_x"}, mods[last:]))
	run(learn.Absent, []string{"nowhere_x", "nowhere_y"}, slices.Concat(mods, []string{"nowhere_x", "nowhere_y"}))
	run(learn.Broken, []string{mods[1]}, mods)
	run(learn.Twice, []string{mods[1]}, slices.Concat(mods, mods[1:2]))
	run(learn.Moved, mods[last:], slices.Concat(mods[last:], mods[:last]))
	run(learn.Damaged, nil, mods)
	return starts
}

var crew = []string{"gull", "kelp", "lamp", "rope"}

// found are the rules in short: what each means, and its line.
func found(f *learn.Findings) string {
	var b strings.Builder
	for _, r := range f.Rules {
		fmt.Fprintf(&b, "%s %q", r.Means, r.Line)
		if r.Fatal {
			b.WriteString(" fatal")
		}
		if r.Own {
			b.WriteString(" own")
		}
		b.WriteString("\n")
	}
	return b.String()
}

func TestWhatStartsTell(t *testing.T) {
	needs := map[string]string{"rope": "lamp"}
	for name, test := range map[string]struct {
		server
		rules  string
		prefix string
		fates  map[string]dialect.Fate
		order  dialect.Order
		unsaid string
	}{
		"a server that tells all": {
			server: server{head: "12:00:SS [info] ", first: []string{"waking"}, begins: "opening NAME", loaded: "NAME is in", missing: "NAME was not found", broken: "NAME failed: bad knot", wants: "NAME waits for NEED", ready: "all hands ready", garbage: "cannot read DIR/plan, line N#: initium_makes_no_sense"},
			rules: `loaded "{mod} is in"
missing "{mod} was not found"
failed "{mod} failed: {reason}" own
needs "{mod} waits for {mods}"
ready "all hands ready"
stopped "cannot read /{any}/plan, line {any}: {reason}"
`,
			fates: map[string]dialect.Fate{"absent": dialect.FateFails, "script": dialect.FateFails, "unreadable": dialect.FateFails, "need_absent": dialect.FateFails, "need_late": dialect.FateFails, "twice": dialect.FateIgnored},
			order: dialect.OrderListed,
		},
		"one that stops at what is not there, and at what is broken": {
			server: server{loaded: "* module 'NAME' from ./lib/NAME.so is loaded", missing: "! cannot load ./lib/NAME.so: no such file", broken: "! ./lib/NAME.so is no module", twice: "! module 'NAME' is there twice", ready: "serving", stops: true, stopsBroken: true, stopsTwice: true},
			rules: `loaded "* module '{mod}' from ./lib/{any} is loaded"
failed "! cannot load {path}: {reason}" fatal
failed "! {path} is no module" fatal own
ready "serving"
failed "! module '{mod}' is there twice" fatal
`,
			fates:  map[string]dialect.Fate{"absent": dialect.FateStops, "script": dialect.FateStops, "unreadable": dialect.FateStops, "need_absent": dialect.FatePassed, "need_late": dialect.FatePassed, "twice": dialect.FateStops},
			order:  dialect.OrderListed,
			unsaid: "",
		},
		"one that goes through the others first, and loads by name": {
			server: server{loaded: "NAME loaded after N# ms", missing: "no NAME here", broken: "", ready: "open for players", later: true, sorts: true},
			rules: `loaded "{mod} loaded after {ms} ms"
missing "no {mod} here"
ready "open for players"
`,
			fates: map[string]dialect.Fate{"absent": dialect.FateLater, "script": dialect.FateIgnored, "unreadable": dialect.FateIgnored, "need_absent": dialect.FatePassed, "twice": dialect.FateIgnored},
			order: dialect.OrderServer,
		},
		"one that calls mods by their titles": {
			server: server{loaded: "Plugin TITLE loaded from NAME", titles: map[string]string{"gull": "The White Gull", "kelp": "Kelp Beds", "lamp": "Lamp", "rope": "Ropes"}, ready: "ready"},
			rules: `loaded "Plugin {any}loaded from {mod}"
ready "ready"
`,
			fates: map[string]dialect.Fate{"absent": dialect.FatePassed, "script": dialect.FateIgnored, "unreadable": dialect.FateIgnored, "need_absent": dialect.FatePassed, "need_late": dialect.FatePassed, "twice": dialect.FateIgnored},
			order: dialect.OrderListed,
		},
		"one that says nothing of mods, and holds them in its memory": {
			server: server{head: "#N# ", first: []string{"hello"}, missing: "no such thing: NAME", held: true, port: 4410, stops: true},
			rules: `missing "#{any} no such thing: {mod}"
`,
			prefix: "",
			fates:  map[string]dialect.Fate{"absent": dialect.FateStops, "need_absent": dialect.FatePassed, "script": dialect.FateIgnored, "unreadable": dialect.FateIgnored, "twice": dialect.FateIgnored},
		},
		"one that says nothing at all": {
			server: server{first: []string{"hello"}},
			rules: `ready "hello"
`,
			fates:  map[string]dialect.Fate{"absent": dialect.FatePassed},
			unsaid: "nothing tells what became of kelp",
		},
		"one that speaks through a mod": {
			server: server{loaded: "is up: NAME", ready: "running now, listening", voice: "gull"},
			rules: `loaded "is up: {mod}"
ready "running now, listening"
`,
			fates: map[string]dialect.Fate{"absent": dialect.FatePassed, "script": dialect.FateIgnored, "unreadable": dialect.FateIgnored, "need_absent": dialect.FatePassed, "need_late": dialect.FatePassed, "twice": dialect.FateIgnored},
			order: dialect.OrderListed,
		},
	} {
		t.Run(name, func(t *testing.T) {
			f := learn.From(test.experiments(crew, needs), nil)
			if test.held && test.port > 0 { // what stands at the beginning of all lines is no sign
				f.Rules = slices.DeleteFunc(f.Rules, func(r learn.Rule) bool { return r.Means == dialect.MeansReady })
			}
			insist.Same(t, "the rules", found(f), test.rules)
			for key, fate := range test.fates {
				insist.Same(t, "of "+key, f.Load[key], fate)
			}
			insist.Same(t, "fates", len(f.Load), len(test.fates))
			insist.Same(t, "the order", f.Order, test.order)
			insist.Same(t, "in memory", f.Held, test.held)
			insist.Same(t, "the port", f.Port, test.port)
			if got := strings.Join(f.Unsaid, "; "); !strings.Contains(got, test.unsaid) || test.unsaid == "" && got != "" {
				t.Errorf("not found out: %s", got)
			}
			if test.voice != "" {
				insist.Same(t, "the voices", strings.Join(f.Voices, " "), test.voice)
			}
			if test.wants != "" {
				insist.Same(t, "what needs what", fmt.Sprint(f.Needs), "map[rope:[lamp]]")
			}
			for _, r := range f.Rules {
				if r.Why == "" || len(r.Examples) == 0 {
					t.Errorf("the rule %q rests on nothing", r.Line)
				}
			}
		})
	}
}

// A mod that fails in a server as it is does not hide what failing looks like, and is told.
func TestWhatFailsAlready(t *testing.T) {
	s := server{loaded: "NAME is up", missing: "WARNING: NAME could not be loaded", ready: "ready"}
	there := func(name string) bool { return name != "kelp" && slices.Contains(crew, name) }
	var starts []learn.Start
	run := func(kind learn.Kind, of, on []string) {
		starts = append(starts, s.run(kind, of, on, nil, there))
	}
	run(learn.AsItIs, nil, crew)
	run(learn.Again, nil, crew)
	for i, mod := range crew {
		run(learn.Without, []string{mod}, slices.Concat(crew[:i], crew[i+1:]))
	}
	run(learn.Absent, []string{"nowhere_x"}, append(slices.Clone(crew), "nowhere_x"))
	f := learn.From(starts, nil)
	insist.Same(t, "the rules", found(f), "loaded \"{mod} is up\"\nmissing \"WARNING: {mod} could not be loaded\"\nready \"ready\"\n")
	insist.Same(t, "that nothing tells of", strings.Join(f.Unshown, " "), "kelp")
	insist.Same(t, "that something does", strings.Join(f.Mods, " "), "gull lamp rope")
}

// Lines that come whether a mod is on or not, or when it cannot have loaded, tell nothing.
func TestWhatTellsNothing(t *testing.T) {
	scan := server{first: []string{"found the file of gull", "found the file of kelp", "found the file of lamp", "found the file of rope"}, begins: "loading NAME", missing: "there is no NAME", ready: "ready to serve"}
	f := learn.From(scan.experiments(crew, nil), nil)
	for _, r := range f.Rules {
		if r.Means == dialect.MeansLoaded {
			t.Errorf("%q is taken to tell that a mod has loaded", r.Line)
		}
	}
	insist.Same(t, "that nothing tells of", len(f.Unshown), len(crew))
	insist.Holds(t, "nothing", strings.Join(learn.From(nil, nil).Unsaid, ""), "not started as it is")
	dead := learn.From([]learn.Start{{Kind: learn.AsItIs, On: crew, Lines: []string{"no"}, Ended: true, Status: 7}}, nil)
	insist.Holds(t, "one that ends", strings.Join(dead.Unsaid, ""), "ended by itself with status 7")
}

// No rule holds the folder of a copy, a number, the text that made no sense, nor what the server is set to.
func TestRulesHoldNothingOfTheCopy(t *testing.T) {
	s := server{loaded: "NAME loaded", ready: `world "Evening Tide" of DIR/world ready on port 4410`, garbage: `fatal error in "DIR/plan:N#": near "initium_makes_no_sense"`, port: 4410}
	f := learn.From(s.experiments(crew, nil), map[string]bool{"Evening Tide": true})
	for _, r := range f.Rules {
		insist.Lacks(t, "a rule", r.Line, "Evening", "copies", "441", "initium")
	}
	insist.Same(t, "the rules", found(f), "loaded \"{mod} loaded\"\nready \"world \\\"{any}\\\" of /{any}/world ready on port {any}\"\nstopped \"fatal error in \\\"/{any}/plan:{any}\\\": {reason}\"\n")
}

func TestAside(t *testing.T) {
	s := server{loaded: "bed NAME planted", ready: "gate open, ready"}
	starts := s.experiments(crew, nil)
	there := func(name string) bool { return slices.Contains(crew, name) }
	aside := func(called string, on []string) learn.Start {
		start := s.run(learn.Aside, crew[:1], on, nil, there)
		start.Called = called
		return start
	}
	f := learn.From(append(starts, aside("off-{mod}", crew), aside("{mod}.off", crew[1:]), aside("_{mod}", crew[1:])), nil)
	insist.Same(t, "the name", f.Aside, "{mod}.off")
}

func TestWhereAStartIsOver(t *testing.T) {
	starts := []learn.Start{{Lines: []string{"begin", "up after 4 ms", "tick", "done at 12:00:01", "tick", "only here"}}, {Lines: []string{"begin", "up after 9 ms", "tick", "done at 12:00:07", "tick"}}}
	kind := learn.LastOf(starts)
	insist.That(t, learn.Says([]string{"x", "done at 14:33:09"}, kind) && !learn.Says([]string{"tick", "begin"}, kind), "the last line is %q", kind)
	insist.Same(t, "of one start", learn.LastOf(starts[:1]), "")
}

// TestAnyServerIsLearned makes servers that speak in random ways, and wants every mod that has loaded to
// be told by what is learned, and none that has not.
func TestAnyServerIsLearned(t *testing.T) {
	insist.Long(t)
	r := rand.New(rand.NewPCG(4, 2))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	for i := range 300 {
		s := server{
			head:    pick("", "12:00:SS ", "[12:00:SS] [INFO] ", "2026-01-02 03:04:SS main: ", "N#:M 02 Jan 2026 03:04:SS.671 * ", "info: "),
			first:   [][]string{nil, {"hello"}, {"version 1.4", "(c) nobody"}}[r.IntN(3)],
			begins:  pick("", "", "opening NAME", "-> NAME"),
			loaded:  pick("loaded NAME", `mod "NAME" is up`, "NAME: ok, loaded in N# ms", "plugin NAME enabled (NAME.so)", "[NAME] initialized", "registered 'NAME'"),
			missing: pick("", "cannot find NAME", `no mod "NAME"`, "error: NAME.so: no such file", "NAME is missing"),
			broken:  pick("", "NAME is broken: eof", "failed to load NAME", "error in mods/NAME/main: bad"),
			ready:   pick("ready", "listening on port 4410", "server is up and accepts players", "done"),
			noise:   pick("", "seed N#", "memory N# kB"),
			garbage: pick("", "syntax error in DIR/x:N#", "bad line: initium_makes_no_sense"),
			stops:   r.IntN(3) == 0, sorts: r.IntN(3) == 0, stopsBroken: r.IntN(3) == 0,
		}
		f := learn.From(s.experiments(crew, nil), nil)
		var prefix *text.Pattern
		if f.Prefix.Pattern != "" {
			prefix, _ = text.ParsePattern(f.Prefix.Pattern, nil)
			if f.Prefix.Time != "" {
				prefix.Shape("time", f.Prefix.Time)
			}
		}
		told := func(start learn.Start, means dialect.Meaning) (mods []string) {
			for _, rule := range f.Rules {
				if rule.Means != means {
					continue
				}
				matches, err := teach.Try(prefix, rule.Rule, start.Lines)
				insist.OK(t, err)
				for _, m := range matches {
					mods = append(mods, m.Mods...)
					if len(m.Mods) == 0 {
						mods = append(mods, "")
					}
				}
			}
			slices.Sort(mods)
			return slices.Compact(mods)
		}
		there := func(name string) bool { return name != "nowhere_z" }
		for _, mod := range crew {
			on := slices.DeleteFunc(slices.Clone(crew), func(m string) bool { return m == mod })
			start := s.run(learn.Without, []string{mod}, append(on, "nowhere_z"), nil, there)
			want := slices.Sorted(slices.Values(s.done))
			if got := told(start, dialect.MeansLoaded); !slices.Equal(got, want) {
				t.Errorf("server %d: loaded are %q, told by %s\nin %s", i, got, found(f), strings.Join(start.Lines, "\n"))
				break
			}
			if ready := len(told(start, dialect.MeansReady)) > 0; ready == start.Ended {
				t.Errorf("server %d: ready is %v, of one that ended %v, by %s\nin %s", i, ready, start.Ended, found(f), strings.Join(start.Lines, "\n"))
				break
			}
			broken := s.run(learn.Broken, on[:1], on, nil, there)
			if got := told(broken, dialect.MeansLoaded); s.broken != "" && slices.Contains(got, on[0]) {
				t.Errorf("server %d: one that is broken is told to have loaded by %s\nin %s", i, found(f), strings.Join(broken.Lines, "\n"))
				break
			}
		}
	}
}

func TestWrite(t *testing.T) {
	s := server{head: "12:00:SS ", loaded: "NAME is in", missing: "NAME was not found", broken: "NAME failed: bad\x1b[31m knot", wants: "NAME waits for NEED", ready: "ready", port: 4410, held: true}
	f := learn.From(s.experiments(crew, map[string]string{"rope": "lamp"}), nil)
	o := teach.Outline{Name: "kiln", Title: "Kiln", Recognise: []string{"kiln.list"}, Place: "mods", Command: []string{"{dir}/kiln", "-p", "{port}"}, Port: 4410,
		Registration: teach.Registration{Shape: dialect.ShapeLine, Text: "[[registration]]\nname = \"kiln.list\"\nfile = \"{dir}/kiln.list\"\nformat = \"script\"\nshape = \"line\"\nline = \"use {mod}\"\n"}}
	doc, err := f.Write(o, []string{"{dir}/kiln.log"}, "INT")
	insist.OK(t, err)
	d, err := dialect.Parse("kiln.toml", doc)
	insist.OK(t, err)
	insist.Same(t, "rules", len(d.Log.Rules), len(f.Rules))
	insist.Same(t, "the signal", d.Stop.Signal, "INT")
	insist.Same(t, "what is absent", d.Load.Absent, dialect.FateFails)
	insist.Same(t, "the files", strings.Join(d.Log.Files, " "), "{dir}/kiln.log")
	insist.Same(t, "the probe", len(d.ProbesOf(dialect.ProbeLoaded)), 1)
	insist.Holds(t, "the file", string(doc), "# In 2 of 2 starts as it is, for 4 mods", "# rope did not load without lamp.", "# Said of rope without lamp: ")
	insist.Lacks(t, "the file", string(doc), "\x1b")
	insist.Holds(t, "the fates", strings.Join(f.Fates(), "; "), "a name that is nowhere fails, and the server goes on", "a mod that lacks what it needs fails")
	f.Rules, f.Listens = slices.DeleteFunc(f.Rules, func(r learn.Rule) bool { return r.Means == dialect.MeansReady }), true
	doc, err = f.Write(o, nil, "")
	insist.OK(t, err)
	if d, err = dialect.Parse("kiln.toml", doc); err == nil {
		insist.Same(t, "the port that shows it", d.Start.Listens, "{port}")
	}
	insist.OK(t, err)
	o.Registration, o.Always, f.Aside = teach.Registration{}, true, "{mod}.off"
	doc, err = f.Write(o, nil, "")
	insist.OK(t, err)
	d, err = dialect.Parse("kiln.toml", doc)
	insist.OK(t, err)
	insist.That(t, d.Registrations[0].ByPresence() && d.Places[0].Aside == "{mod}.off" && d.Places[0].Loads == dialect.LoadsAlways, "the folder is %+v, registered by %+v", d.Places[0], d.Registrations[0])
}
