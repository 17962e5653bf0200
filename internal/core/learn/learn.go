// Package learn finds out how a server tells what it does with its mods, from starts of copies of it
// that differ in one thing each: as it is, without a mod, with a name that is nowhere, with a broken
// mod, and so on. What is there exactly when a mod is tells that it has loaded.
package learn

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/teach"
	"initium/internal/core/text"
)

// Kind is what is done to the line-up before a start.
type Kind string

// The kinds of starts. All but AsItIs and Again are about one mod or more.
const (
	AsItIs  Kind = "as it is"
	Again   Kind = "a second time" // on the same copy
	Without Kind = "without"
	Absent  Kind = "with a name that is nowhere"
	Broken  Kind = "broken"
	Twice   Kind = "registered twice"
	Moved   Kind = "in another order"
	Aside   Kind = "called otherwise" // so that it may count as off, where being there is enough
	Damaged Kind = "with a line in its startup file that means nothing"
)

// Start is one start of a copy, and what was seen of it.
type Start struct {
	Kind   Kind
	Mods   []string // that it is about: switched off, made up, or broken
	On     []string // that were registered and on, in the order of the list
	Dir    string   // of the copy
	Called string   // of Aside: what the mod's file or folder was called, with {mod}
	Lines  []string // of the log, as rules see them, until the server was quiet or had ended
	Ended  bool     // by itself, before it was stopped
	Status int      // with which it ended
	Ports  []int    // on which it listened
	Held   []string // mods of which it held files in its memory
}

// Rule is a rule of the log, and what it rests on.
type Rule struct {
	dialect.Rule
	Examples []teach.Example
	Why      string // in words
}

// Findings are what the starts have shown.
type Findings struct {
	Prefix  teach.Prefix
	Rules   []Rule
	Held    bool                    // mods show in the server's memory
	Port    int                     // on which it listens; 0 for none
	Listens bool                    // and which is all that shows it to be ready
	Load    map[string]dialect.Fate // by the key of [load]
	Order   dialect.Order           // "" when nothing told it
	Needs   map[string][]string     // mods that did not load without another
	Mods    []string                // whose loading something tells
	Unshown []string                // mods that were on, and of which nothing tells that they load
	Aside   string                  // what a mod is called while it is off, where being there is enough
	Voices  []string                // mods without which the server says nothing
	Unsaid  []string                // what could not be found out, in words
}

// Nonsense is what a line holds that means nothing, and stands in a rule for anything.
const Nonsense = "initium_makes_no_sense"

// From finds out what the starts tell. The first has to be one of the server as it is. set are words of
// its startup files and command, such as its title: no rule that is about no mod holds one in quotes.
func From(starts []Start, set map[string]bool) *Findings {
	e := &evidence{starts: starts, set: set, f: &Findings{Load: map[string]dialect.Fate{}, Needs: map[string][]string{}}}
	if len(starts) == 0 || starts[0].Kind != AsItIs {
		e.f.Unsaid = append(e.f.Unsaid, "the server was not started as it is")
		return e.f
	}
	e.read()
	if starts[0].Ended {
		e.f.Unsaid = append(e.f.Unsaid, fmt.Sprintf("as it is, the server ended by itself with status %d: what it says then tells little", starts[0].Status))
	}
	e.loaded()
	e.held()
	e.failures()
	e.broken()
	e.needs()
	e.ready()
	e.twice()
	e.aside()
	e.stopped()
	e.order()
	return e.f
}

// message is a line of a start, read.
type message struct {
	line, said, level string
	at                int // its number, from 0
}

// evidence is what is known while the starts are compared.
type evidence struct {
	starts   []Start
	messages [][]message // of each start
	prefix   *text.Pattern
	set      map[string]bool
	f        *Findings

	tells []shown // lines that tell that a mod has loaded
}

// shown is a kind of line that is there exactly when a mod is.
type shown struct {
	kind     string
	others   []string // all its kinds, where it has more
	mods     []string
	examples []teach.Example
	at       int // where the last of them stands in the first start
	hinted   bool
}

// read takes the lines apart.
func (e *evidence) read() {
	e.f.Prefix = teach.FindPrefix(e.kinds())
	if e.f.Prefix.Pattern != "" {
		e.prefix, _ = text.ParsePattern(e.f.Prefix.Pattern, nil)
		if e.prefix != nil && e.f.Prefix.Time != "" {
			e.prefix.Shape("time", e.f.Prefix.Time)
		}
	}
	for i := range e.starts {
		var list []message
		for at, line := range e.starts[i].Lines {
			said, level, source := teach.Message(e.prefix, line)
			if len(level) == 0 {
				level = source // which may be the weight, as a server calls it
			}
			if strings.TrimSpace(said) != "" {
				list = append(list, message{line, said, string(level), at})
			}
		}
		e.messages = append(e.messages, list)
	}
}

// kinds are lines of the starts, one of each kind: what is said once for each mod counts no more than
// what is said once.
func (e *evidence) kinds() (lines []string) {
	seen := map[string]bool{}
	for i := range e.starts {
		for _, line := range e.starts[i].Lines {
			kind := line
			for _, mod := range e.starts[i].On {
				kind = replaceName(kind, mod, nameMark)
			}
			if kind = numbered(kind); !seen[kind] {
				seen[kind] = true
				lines = append(lines, line)
			}
		}
	}
	return lines
}

// of are the starts of a kind, by number.
func (e *evidence) of(kinds ...Kind) (list []int) {
	for i := range e.starts {
		if slices.Contains(kinds, e.starts[i].Kind) {
			list = append(list, i)
		}
	}
	return list
}

// kindsOf are the kinds of lines of a start that name a mod, each with its first line.
func (e *evidence) kindsOf(start int, mod string) map[string]message {
	kinds := map[string]message{}
	for _, m := range e.messages[start] {
		if kind, ok := kindOf(m.said, mod); ok {
			if _, seen := kinds[kind]; !seen {
				kinds[kind] = m
			}
		}
	}
	return kinds
}

// propose makes a rule from lines, and keeps it if it fits none of those that mean something else.
func (e *evidence) propose(means dialect.Meaning, examples []teach.Example, counter []string, why string) bool {
	const enough = 24 // examples that differ in nothing but a name add nothing
	rule, err := teach.Propose(e.prefix, teach.Lesson{Means: means, Examples: e.elsewhere(examples[:min(len(examples), enough)]), Counter: counter})
	if err != nil {
		return false
	}
	if slices.ContainsFunc(e.f.Rules, func(r Rule) bool { return r.Line == rule.Line && r.Means == rule.Means }) {
		return true
	}
	e.f.Rules = append(e.f.Rules, Rule{Rule: rule, Examples: examples, Why: why})
	return true
}

// elsewhere adds lines as a server in another folder would say them, and of another mod, so that no
// rule holds the folder of a copy, nor the name of a mod that a line says twice.
func (e *evidence) elsewhere(examples []teach.Example) []teach.Example {
	for _, x := range slices.Clone(examples) {
		line := x.Line
		for i := range e.starts {
			if dir := e.starts[i].Dir; dir != "" {
				line = strings.ReplaceAll(line, dir, "/elsewhere")
			}
		}
		line = strings.ReplaceAll(line, Nonsense, otherMark)
		mod := x.Mod
		if mod == "" {
			line = quoted.ReplaceAllStringFunc(line, func(q string) string {
				if e.set[q[1:len(q)-1]] {
					return q[:1] + otherMark + q[len(q)-1:]
				}
				return q
			})
		}
		if other := otherName(line, mod); strings.Count(other, otherMark) > 1 {
			line, mod = other, otherMark
		}
		if said, _, _ := teach.Message(e.prefix, line); strings.HasSuffix(line, said) {
			line = strings.TrimSuffix(line, said) + otherNumbers(said)
		}
		if line != x.Line {
			examples = append(examples, teach.Example{Line: line, Mod: mod})
		}
	}
	return examples
}

// loaded finds the lines that are there exactly when a mod is.
func (e *evidence) loaded() {
	base := e.of(AsItIs, Again)
	found := map[string]*shown{}
	for _, mod := range e.starts[0].On {
		for kind, m := range e.kindsOf(0, mod) {
			if !e.inAll(base[1:], mod, kind) {
				continue
			}
			s := found[kind]
			if s == nil {
				s = &shown{kind: kind, hinted: speaksOfLoading(kind)}
				found[kind] = s
			}
			s.mods = append(s.mods, mod)
			s.examples = append(s.examples, teach.Example{Line: m.line, Mod: mod})
			s.at = max(s.at, m.at)
		}
	}
	var list []*shown
	for _, kind := range slices.Sorted(maps.Keys(found)) {
		if s := found[kind]; !e.refuted(s) && (len(s.mods) > 1 || s.hinted) {
			list = append(list, s)
		}
	}
	list = append(list, e.merged(list)...)
	slices.SortFunc(list, func(a, b *shown) int {
		return cmp.Or(cmp.Compare(len(b.mods), len(a.mods)), yes(b.hinted)-yes(a.hinted), cmp.Compare(b.at, a.at), cmp.Compare(a.kind, b.kind))
	})
	covered := map[string]bool{}
	without := len(e.of(Without))
	for _, s := range list {
		fresh := slices.ContainsFunc(s.mods, func(m string) bool { return !covered[m] })
		if !fresh {
			continue
		}
		why := fmt.Sprintf("in %d of %d starts as it is, for %s", len(base), len(base), count(len(s.mods), "mod"))
		if n := e.goneWithout(s); n > 0 {
			why += fmt.Sprintf("; in none of %s without one of them", count(n, "start"))
		} else if without > 0 {
			continue // nothing shows that it goes with the mod
		}
		if e.propose(dialect.MeansLoaded, s.examples, e.counter(s), why) {
			e.tells = append(e.tells, *s)
			for _, m := range s.mods {
				covered[m] = true
			}
		}
	}
	for _, mod := range e.starts[0].On {
		if covered[mod] {
			e.f.Mods = append(e.f.Mods, mod)
		} else {
			e.f.Unshown = append(e.f.Unshown, mod)
		}
	}
}

// merged are kinds of lines that differ in one thing besides the mod, such as its title, taken together.
func (e *evidence) merged(list []*shown) (more []*shown) {
	var single []*shown
	for _, s := range list {
		if len(s.mods) == 1 && s.hinted {
			single = append(single, s)
		}
	}
	for len(single) > 1 {
		first, rest := single[0], single[1:]
		all := &shown{kind: first.kind, mods: slices.Clone(first.mods), examples: slices.Clone(first.examples), at: first.at, hinted: true, others: []string{first.kind}}
		single = nil
		for _, s := range rest {
			if !slices.Contains(all.mods, s.mods[0]) && alike(first.kind, s.kind) {
				all.mods, all.examples, all.others = append(all.mods, s.mods...), append(all.examples, s.examples...), append(all.others, s.kind)
				all.at = max(all.at, s.at)
			} else {
				single = append(single, s)
			}
		}
		if len(all.mods) > 1 {
			more = append(more, all)
		}
	}
	return more
}

// inAll tells whether a kind of line about a mod is in all of some starts.
func (e *evidence) inAll(starts []int, mod, kind string) bool {
	for _, i := range starts {
		if _, ok := e.kindsOf(i, mod)[kind]; !ok {
			return false
		}
	}
	return true
}

// refuted tells whether a kind of line is there without its mod, or for one that cannot have loaded.
func (e *evidence) refuted(s *shown) bool {
	for _, i := range e.of(Without, Absent) {
		for _, mod := range e.starts[i].Mods {
			if _, there := e.kindsOf(i, mod)[s.kind]; there {
				return true
			}
		}
	}
	for _, i := range e.of(Broken) {
		mod := e.starts[i].Mods[0]
		if _, there := e.kindsOf(i, mod)[s.kind]; there && e.noticed(i, mod) {
			return true
		}
	}
	return false
}

// noticed tells whether a server did anything about a mod that was broken.
func (e *evidence) noticed(start int, mod string) bool {
	return e.starts[start].Ended || len(e.news(start, mod)) > 0
}

// news are the lines of a start about a mod of a kind that is not usual: that a start as it is has not
// for this mod, nor for most of the others.
func (e *evidence) news(start int, mod string) (list []message) {
	usual := map[string]bool{}
	for kind := range e.kindsOf(0, mod) {
		usual[kind] = true
	}
	counts := map[string]int{}
	for _, on := range e.starts[0].On {
		for kind := range e.kindsOf(0, on) {
			counts[kind]++
		}
	}
	for kind, n := range counts { // what is said of a few may be what is wrong with them
		if 2*n >= len(e.starts[0].On) || speaksOfLoading(kind) {
			usual[kind] = true
		}
	}
	seen := map[string]bool{}
	for _, m := range e.messages[start] {
		if kind, ok := kindOf(m.said, mod); ok && !usual[kind] && !seen[kind] {
			seen[kind] = true
			list = append(list, m)
		}
	}
	return list
}

// goneWithout counts the starts without a mod of which a kind of line tells, and in which it is not.
func (e *evidence) goneWithout(s *shown) (n int) {
	for _, i := range e.of(Without) {
		if slices.ContainsFunc(e.starts[i].Mods, func(m string) bool { return slices.Contains(s.mods, m) }) {
			n++
		}
	}
	return n
}

// counter are lines that do not tell that a mod has loaded: what is said of those that could not.
func (e *evidence) counter(s *shown) (list []string) {
	const most = 60
	for _, i := range e.of(Absent, Broken) {
		for _, mod := range e.starts[i].Mods {
			for _, m := range e.news(i, mod) {
				if len(list) < most {
					list = append(list, m.line)
				}
			}
		}
	}
	return list
}

// held tells whether mods show in the server's memory: those that are on, and no others.
func (e *evidence) held() {
	for _, mod := range e.starts[0].On {
		for _, i := range e.of(AsItIs, Again) {
			if !e.starts[i].Ended && !slices.Contains(e.starts[i].Held, mod) {
				return
			}
		}
	}
	for _, i := range e.of(Without) {
		for _, mod := range e.starts[i].Mods {
			if slices.Contains(e.starts[i].Held, mod) {
				return
			}
		}
	}
	if len(e.starts[0].On) > 0 && !e.starts[0].Ended {
		e.f.Held, e.f.Mods, e.f.Unshown = true, e.starts[0].On, nil
	}
}

// toldLoaded tells whether a start shows that a mod has loaded.
func (e *evidence) toldLoaded(start int, mod string) bool {
	if e.f.Held && slices.Contains(e.starts[start].Held, mod) {
		return true
	}
	kinds := e.kindsOf(start, mod)
	return slices.ContainsFunc(e.tells, func(s shown) bool { _, ok := s.in(kinds); return ok })
}

// in finds a line of this kind among those about a mod.
func (s *shown) in(kinds map[string]message) (m message, ok bool) {
	for _, kind := range append([]string{s.kind}, s.others...) {
		if m, ok := kinds[kind]; ok {
			return m, true
		}
	}
	return m, false
}

// tellable tells whether anything would show it if a mod had loaded.
func (e *evidence) tellable(mod string) bool { return slices.Contains(e.f.Mods, mod) }

// good are lines of starts in which all is well: they mean no failure.
func (e *evidence) good() (list []string) {
	const most = 400
	seen := map[string]bool{}
	for _, i := range e.of(AsItIs, Again) {
		for _, m := range e.messages[i] {
			kind := numbered(m.said)
			if !e.starts[i].Ended && !seen[kind] && len(list) < most {
				seen[kind] = true
				list = append(list, m.line)
			}
		}
	}
	return list
}

// goodBut are such lines, without those of the kind of one that tells of a fault: a server as it is may
// have that fault with another mod.
func (e *evidence) goodBut(m message, mod string) (list []string) {
	kind, _ := kindOf(m.said, mod)
	for _, line := range e.good() {
		said, _, _ := teach.Message(e.prefix, line)
		if !slices.ContainsFunc(e.starts[0].On, func(on string) bool { k, ok := kindOf(said, on); return ok && k == kind }) {
			list = append(list, line)
		}
	}
	return list
}

// failures finds what is said of a name that is nowhere.
func (e *evidence) failures() {
	starts := e.of(Absent)
	if len(starts) == 0 {
		return
	}
	fate := dialect.FatePassed
	for _, i := range starts {
		s := &e.starts[i]
		said := e.news(i, s.Mods[0])
		if len(said) > 0 {
			fate = dialect.FateFails
		}
		if s.Ended {
			if fate = e.stops(i); e.wentOn(i) {
				fate = dialect.FateLater
			}
			break
		}
		if e.toldLoaded(i, s.Mods[0]) {
			fate = dialect.FateIgnored
		}
	}
	e.f.Load["absent"] = fate
	for _, i := range starts {
		e.missingTogether(i)
	}
	for _, i := range starts {
		s := &e.starts[i]
		said := e.news(i, s.Mods[0])
		if len(said) == 0 {
			continue
		}
		m := worst(said)
		if e.covered(m.line) {
			continue
		}
		why := "with a name that is nowhere"
		if s.Ended {
			why += ", and the server stopped"
		}
		means := dialect.MeansMissing
		if path := e.pathed(m, s.Mods[0]); path || slices.ContainsFunc(e.of(Broken), func(b int) bool {
			kind, _ := kindOf(m.said, s.Mods[0])
			_, same := e.kindsOf(b, e.starts[b].Mods[0])[kind]
			return same
		}) {
			means = dialect.MeansFailed // a rule for what is not there knows no files; and what is said of both tells them not apart
		}
		examples := []teach.Example{{Line: m.line, Mod: s.Mods[0]}}
		if other := e.otherMods(m.line, s.Mods[0]); other != m.line { // it says which other may be meant
			examples = append(examples, teach.Example{Line: other, Mod: s.Mods[0]})
		}
		if e.propose(means, examples, e.goodBut(m, s.Mods[0]), why) && s.Ended {
			e.fatal()
		}
	}
}

// otherMods is a line with another word in the place of each mod but the one that it is about: of those
// that were on, and of what the startup files hold that looks like no word.
func (e *evidence) otherMods(line, mod string) string {
	return word.ReplaceAllStringFunc(line, func(w string) string {
		if w != mod && (slices.Contains(e.starts[0].On, w) || e.set[w] && strings.ContainsAny(w, "_-0123456789") && strings.Trim(w, "-_.0123456789") != "") {
			return otherMark
		}
		return w
	})
}

// word is what a name is made of.
var word = regexp.MustCompile(`\w+(?:[-.]\w+)*`)

// wentOn tells whether a server that ended has loaded mods behind the one that the start is about.
func (e *evidence) wentOn(start int) bool {
	s := &e.starts[start]
	at := slices.Index(s.On, s.Mods[0])
	return at >= 0 && slices.ContainsFunc(s.On[at+1:], func(m string) bool { return e.toldLoaded(start, m) })
}

// stops is how a start ended that did: at the mod, or before the server came to any.
func (e *evidence) stops(start int) dialect.Fate {
	if len(e.sequence(0)) > 1 && len(e.sequence(start)) == 0 && len(e.starts[start].On) > 1 {
		return dialect.FateFirst
	}
	return dialect.FateStops
}

// missingTogether finds a line that names all mods at once that are nowhere.
func (e *evidence) missingTogether(start int) {
	s := &e.starts[start]
	if len(s.Mods) < 2 {
		return
	}
	for _, m := range e.news(start, s.Mods[0]) {
		line, ok := together(m.line, s.Mods)
		if !ok {
			continue
		}
		rule, err := teach.Propose(e.prefix, teach.Lesson{Means: dialect.MeansMissing, Examples: []teach.Example{{Line: line, Mod: wantMark}}})
		if err != nil {
			continue
		}
		rule.Line = strings.Replace(rule.Line, "{mod}", "{mods}", 1)
		if p, err := text.ParsePattern(rule.Line, nil); err == nil && teach.Fits(e.prefix, &rule, p, m.line) {
			e.f.Rules = append(e.f.Rules, Rule{Rule: rule, Examples: []teach.Example{{Line: m.line, Mod: s.Mods[0]}}, Why: "with names that are nowhere"})
			return
		}
	}
}

// covered tells whether a rule that was found fits a line.
func (e *evidence) covered(line string) bool {
	return slices.ContainsFunc(e.f.Rules, func(r Rule) bool {
		p, err := text.ParsePattern(r.Line, nil)
		return err == nil && teach.Fits(e.prefix, &r.Rule, p, line)
	})
}

// pathed tells whether a line names a mod as part of a path or file.
func (e *evidence) pathed(m message, mod string) bool {
	rule, err := teach.Propose(e.prefix, teach.Lesson{Means: dialect.MeansFailed, Examples: []teach.Example{{Line: m.line, Mod: mod}}})
	return err == nil && strings.Contains(rule.Line, "{path}")
}

// fatal marks the newest rule as one of lines with which a server stops.
func (e *evidence) fatal() {
	r := &e.f.Rules[len(e.f.Rules)-1]
	r.Fatal = r.Means == dialect.MeansFailed
}

// broken finds what is said of a mod whose files make no sense.
func (e *evidence) broken() {
	for _, i := range e.of(Broken) {
		s := &e.starts[i]
		mod := s.Mods[0]
		said := e.news(i, mod)
		fate := dialect.FatePassed
		switch {
		case s.Ended:
			fate = e.stops(i)
		case len(said) > 0:
			fate = dialect.FateFails
		case e.toldLoaded(i, mod):
			fate = dialect.FateIgnored
		case !e.tellable(mod):
			e.f.Unsaid = append(e.f.Unsaid, fmt.Sprintf("nothing tells what became of %s when its files made no sense", mod))
			continue
		}
		e.f.Load["script"], e.f.Load["unreadable"] = fate, fate
		if len(said) == 0 {
			continue
		}
		if e.propose(dialect.MeansFailed, []teach.Example{{Line: worst(said).line, Mod: mod}}, e.good(), "when the files of "+mod+" made no sense") {
			r := &e.f.Rules[len(e.f.Rules)-1]
			r.Own = r.Means == dialect.MeansFailed
			if s.Ended {
				e.fatal()
			}
		}
	}
}

// needs finds mods that did not load without another, and what is said of them.
func (e *evidence) needs() {
	for _, i := range e.of(Without) {
		s := &e.starts[i]
		if !slices.ContainsFunc(s.On, func(m string) bool { return e.toldLoaded(i, m) }) {
			continue // it may be the log that is gone with the mod
		}
		for _, mod := range s.On {
			if slices.Contains(s.Mods, mod) || !e.toldLoaded(0, mod) || e.toldLoaded(i, mod) {
				continue
			}
			if s.Ended && len(e.news(i, mod)) == 0 {
				continue // it may have been another's turn when the server ended
			}
			e.f.Needs[mod] = append(e.f.Needs[mod], s.Mods...)
			fate := dialect.FatePassed
			said := e.news(i, mod)
			if len(said) > 0 {
				fate = dialect.FateFails
				e.needRule(i, mod, said)
			}
			if s.Ended {
				fate = e.stops(i)
			}
			e.f.Load["need_absent"] = fate
		}
	}
}

// needRule makes a rule of what is said of a mod for want of another.
func (e *evidence) needRule(start int, mod string, said []message) {
	s := &e.starts[start]
	why := fmt.Sprintf("said of %s without %s", mod, strings.Join(s.Mods, ", "))
	if slices.ContainsFunc(said, func(m message) bool { return e.covered(m.line) }) {
		return
	}
	others := slices.DeleteFunc(slices.Concat(s.Mods, e.starts[0].On), func(m string) bool { return m == mod }) // what it needs may itself have waited
	for _, m := range said {
		for _, need := range others {
			if line, ok := wanting(m.line, need); ok && teach.NameAt(m.said, mod) >= 0 {
				rule, err := teach.Propose(e.prefix, teach.Lesson{Means: dialect.MeansNeeds, Examples: []teach.Example{{Line: line, Mod: mod}}, Counter: e.good()})
				if err != nil {
					continue
				}
				rule.Line = strings.Replace(rule.Line, wantMark, "{mods}", 1)
				if !strings.Contains(rule.Line, "{mods}") || strings.Contains(rule.Line, "{path}") {
					continue
				}
				if p, err := text.ParsePattern(rule.Line, nil); err == nil && teach.Fits(e.prefix, &rule, p, m.line) {
					e.f.Rules = append(e.f.Rules, Rule{Rule: rule, Examples: []teach.Example{{Line: m.line, Mod: mod}}, Why: why})
					return
				}
			}
		}
	}
	e.propose(dialect.MeansFailed, []teach.Example{{Line: worst(said).line, Mod: mod}}, e.good(), why)
}

// ready finds the line with which a start is over, and the port on which the server then listens.
func (e *evidence) ready() {
	var live []int
	for i := range e.starts {
		if !e.starts[i].Ended {
			live = append(live, i)
		}
	}
	if len(live) == 0 {
		return
	}
	for _, port := range e.starts[live[0]].Ports {
		steady := !slices.ContainsFunc(live, func(i int) bool { return !slices.Contains(e.starts[i].Ports, port) })
		if steady && e.f.Port == 0 {
			e.f.Port = port
		}
	}
	if line, why := e.readyLine(live); line != "" && e.propose(dialect.MeansReady, []teach.Example{{Line: line}}, e.unready(line), why) {
		return
	}
	if e.f.Port > 0 {
		e.f.Listens = true
		return
	}
	e.f.Unsaid = append(e.f.Unsaid, "no line and no port shows that the server is ready")
}

// readyLine is the last line of a start that all starts have which go on, and none that ended; best
// one that says so, or that names the port.
func (e *evidence) readyLine(live []int) (line, why string) {
	has := make([]map[string]int, len(e.starts))
	for i := range e.starts {
		has[i] = map[string]int{}
		for _, m := range e.messages[i] {
			has[i][numbered(m.said)]++
		}
	}
	best, score, seen := message{}, -1, 0
	for _, m := range e.messages[live[0]] {
		kind := numbered(m.said)
		in, usual := 0, true
		for _, i := range live {
			in += yes(has[i][kind] == 1)
			usual = usual && (has[i][kind] == 1 || e.voiceless(i, has))
		}
		if !usual || !e.aboutNoMod(m) {
			continue
		}
		inEnded := 0
		for i := range e.starts {
			if e.starts[i].Ended && has[i][kind] > 0 {
				inEnded++
			}
		}
		points := 2*yes(in == len(live)) + 3*m.at/max(len(e.starts[live[0]].Lines), 1)
		if inEnded == 0 {
			points += 4
		}
		if saysReady(m.said) {
			points += 3
		}
		if e.f.Port > 0 && hasNumber(m.said, e.f.Port) {
			points += 4
		}
		if e.afterLoaded(live[0], m.at) {
			points += 4
		}
		if points >= score { // the later one
			best, score, seen = m, points, in
		}
	}
	if score < 0 {
		return "", ""
	}
	for _, i := range live {
		if s := &e.starts[i]; s.Kind == Without && has[i][numbered(best.said)] == 0 {
			e.f.Voices = append(e.f.Voices, s.Mods...)
		}
	}
	return best.line, fmt.Sprintf("once in %d of %d starts that went on", seen, len(live))
}

// voiceless tells whether a start says so little of what the first one did that the log itself must be
// gone: a mod may be what writes it.
func (e *evidence) voiceless(start int, has []map[string]int) bool {
	if e.starts[start].Kind == AsItIs || e.starts[start].Kind == Again {
		return false
	}
	same := 0
	for kind := range has[0] {
		if has[start][kind] > 0 {
			same++
		}
	}
	return 2*same < len(has[0])
}

// unready are the lines of the first start but the one that says that it is ready.
func (e *evidence) unready(but string) (list []string) {
	for _, m := range e.messages[0] {
		if numbered(m.line) != numbered(but) {
			list = append(list, m.line)
		}
	}
	const most = 400
	return list[:min(len(list), most)]
}

// afterLoaded tells whether all lines that tell of loaded mods come before a place.
func (e *evidence) afterLoaded(start, at int) bool {
	for _, s := range e.tells {
		for _, mod := range s.mods {
			if m, ok := s.in(e.kindsOf(start, mod)); ok && m.at > at {
				return false
			}
		}
	}
	return true
}

// aboutNoMod tells that a line names none of the mods, or does so by chance: with or without them.
func (e *evidence) aboutNoMod(m message) bool {
	return !slices.ContainsFunc(e.tells, func(s shown) bool {
		return slices.ContainsFunc(s.mods, func(mod string) bool {
			k, ok := kindOf(m.said, mod)
			return ok && (k == s.kind || slices.Contains(s.others, k))
		})
	})
}

// stopped finds what a server says that gives up.
func (e *evidence) stopped() {
	goesOn := map[string]bool{}
	for i := range e.starts {
		for _, m := range e.messages[i] {
			if !e.starts[i].Ended || e.starts[i].Kind == AsItIs {
				goesOn[numbered(m.said)] = true
			}
		}
	}
	for i := range e.starts {
		s := &e.starts[i]
		if !s.Ended || s.Kind == AsItIs || s.Kind == Again {
			continue
		}
		var last []message
		for _, m := range e.messages[i] {
			if !goesOn[numbered(m.said)] {
				last = append(last, m)
			}
		}
		if len(last) == 0 {
			continue
		}
		slices.SortStableFunc(last, func(a, b message) int { return bad(b) - bad(a) })
		for _, m := range last {
			if e.covered(m.line) || e.gaveUp(m, "the server stopped "+string(s.Kind)) {
				break
			}
		}
	}
}

// gaveUp makes a rule of a line with which a server stops: with the reason behind a colon, or as a
// whole.
func (e *evidence) gaveUp(m message, why string) bool {
	example := []teach.Example{{Line: m.line}}
	if e.propose(dialect.MeansStopped, example, e.good(), why) {
		return true
	}
	if !e.propose(dialect.MeansIgnore, example, e.good(), why) {
		return false
	}
	e.f.Rules[len(e.f.Rules)-1].Means = dialect.MeansStopped
	return true
}

// twice finds what becomes of a mod that is registered a second time.
func (e *evidence) twice() {
	for _, i := range e.of(Twice) {
		s := &e.starts[i]
		switch said := e.news(i, s.Mods[0]); {
		case s.Ended:
			e.f.Load["twice"] = e.stops(i)
			if len(said) > 0 && e.propose(dialect.MeansFailed, []teach.Example{{Line: worst(said).line, Mod: s.Mods[0]}}, e.good(), "registered twice, and the server stopped") {
				e.fatal()
			}
		case len(said) > 0 && slices.ContainsFunc(said, func(m message) bool { return bad(m) > 0 }):
			e.f.Load["twice"] = dialect.FateFails
		case e.toldLoaded(i, s.Mods[0]):
			e.f.Load["twice"] = dialect.FateIgnored
		}
	}
}

// aside finds a name under which the server passes a mod over in silence.
func (e *evidence) aside() {
	for _, i := range e.of(Aside) {
		s := &e.starts[i]
		silent := !s.Ended && !e.toldLoaded(i, s.Mods[0]) && len(e.news(i, s.Mods[0])) == 0
		if silent && e.toldLoaded(0, s.Mods[0]) && e.f.Aside == "" {
			e.f.Aside = s.Called
		}
	}
}

// order finds out who decides in which order mods load: whether that follows the list.
func (e *evidence) order() {
	for _, i := range e.of(Moved) {
		before, after := e.sequence(0), e.sequence(i)
		switch moved := e.starts[i].Mods; {
		case len(moved) > 0 && len(e.f.Needs[moved[0]]) > 0 && slices.Contains(before, moved[0]) && !slices.Contains(after, moved[0]):
			e.f.Order = dialect.OrderListed // it came before what it needs
			e.f.Load["need_late"] = dialect.FatePassed
			if e.starts[i].Ended {
				e.f.Load["need_late"] = dialect.FateStops
			} else if len(e.news(i, moved[0])) > 0 {
				e.f.Load["need_late"] = dialect.FateFails
			}
		case len(before) < 2 || len(before) != len(after):
		case slices.Equal(before, after):
			e.f.Order = dialect.OrderServer
		case slices.Equal(after, only(e.starts[i].On, after)):
			e.f.Order = dialect.OrderListed
		}
	}
}

// sequence is the order in which mods are told to have loaded.
func (e *evidence) sequence(start int) (mods []string) {
	at := map[string]int{}
	for _, mod := range e.starts[start].On {
		kinds := e.kindsOf(start, mod)
		for _, s := range e.tells {
			if m, ok := s.in(kinds); ok {
				mods, at[mod] = append(mods, mod), m.at
				break
			}
		}
	}
	slices.SortStableFunc(mods, func(a, b string) int { return cmp.Compare(at[a], at[b]) })
	return mods
}

// only are those of a list that are in another one.
func only(list, in []string) (kept []string) {
	for _, s := range list {
		if slices.Contains(in, s) {
			kept = append(kept, s)
		}
	}
	return kept
}

func yes(b bool) int {
	if b {
		return 1
	}
	return 0
}

func count(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}

// LastOf is the kind of the last line that two starts of a server as it is have in common, "" for none.
func LastOf(starts []Start) string {
	if len(starts) < 2 {
		return ""
	}
	other := map[string]int{}
	for _, line := range starts[1].Lines {
		other[numbered(line)]++
	}
	count := map[string]int{}
	for _, line := range starts[0].Lines {
		count[numbered(line)]++
	}
	for _, line := range slices.Backward(starts[0].Lines) {
		if kind := numbered(line); strings.TrimSpace(line) != "" && count[kind] == 1 && other[kind] == 1 {
			return kind
		}
	}
	return ""
}

// Says tells whether there is a line of a kind.
func Says(lines []string, kind string) bool {
	return slices.ContainsFunc(lines, func(line string) bool { return numbered(line) == kind })
}
