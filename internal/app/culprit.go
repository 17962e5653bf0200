package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"initium/internal/core/culprit"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/core/remedy"
	"initium/internal/core/text"
	"initium/internal/host"
)

// CulpritOptions say how the mods are looked for that break a server.
type CulpritOptions struct {
	Symptom string        // a pattern (RE2) that a log line fits when it fails; "" for what the first start shows
	Repeat  int           // as in culprit.Options
	Most    int           //
	Within  time.Duration // as in ProveOptions
	Stay    time.Duration //
	Anew    bool          // what an earlier search has learned is forgotten
	OnTry   func(Tried)   // may be nil; called before and after each start
}

// Tried is a start of a search, about to be made or made.
type Tried struct {
	culprit.Try
	Of     int // mods there are
	Done   bool
	Failed bool
	Known  bool          // from an earlier search that was stopped
	Took   time.Duration // when done
	Said   string        // how the start went, when done
}

// Culprits is what a search has found. Its strings are safe to show.
type Culprits struct {
	Server   string           `json:"server"`
	Symptom  string           `json:"symptom"`
	Culprits []string         `json:"culprits"`
	With     []string         `json:"with"` // what they need
	Starts   int              `json:"starts"`
	Rate     float64          `json:"rate"`   // how often it fails, 1 for always
	Repeat   int              `json:"repeat"` // starts without a fault that count as none
	Sure     bool             `json:"sure"`
	Problem  string           `json:"problem,omitempty"` // why there are none
	Reason   string           `json:"reason"`            // how the smallest set that still fails does so
	Evidence []proof.Evidence `json:"evidence"`
	Changes  []lineup.Change  `json:"remedy"`  // what keeps the culprits from meeting
	Cured    bool             `json:"cured"`   // with that all the others were sound; else there is another cause too
	Instead  []remedy.Remedy  `json:"instead"` // what may do instead, by what is said of the culprits; not tried
}

// symptom tells whether a start shows the fault that is looked for.
type symptom struct {
	words   string
	pattern *regexp.Regexp
	stops   bool
	never   bool     // does not become ready
	reason  string   // of a server that stops, without what differs from start to start
	mods    []string // that fail
}

var varies = regexp.MustCompile(`0x[0-9a-fA-F]+|\d+|/[^\s:'"]*`)

// steady takes from a reason what differs from start to start.
func steady(s string) string { return varies.ReplaceAllString(s, "#") }

// symptomOf takes the fault from a start that shows it; nil when it shows none.
func symptomOf(p *proof.Proof) *symptom {
	switch {
	case p.Verdict == proof.Proved:
		return nil
	case p.Exit != nil:
		return &symptom{words: p.Reason, stops: true, reason: steady(p.Reason)}
	case !p.Ready:
		return &symptom{words: p.Reason, never: true}
	}
	s := &symptom{}
	for _, m := range p.Mods {
		if m.Outcome == proof.Failed {
			s.mods = append(s.mods, m.Name)
		}
	}
	if len(s.mods) == 0 {
		for _, m := range p.Mods {
			if m.Registered && m.Outcome == proof.Silent {
				s.mods = append(s.mods, m.Name)
			}
		}
	}
	s.words = strings.Join(s.mods, ", ") + " not confirmed"
	return s
}

// shows tells whether a start shows the fault. seen tells that a line of it fitted the
// pattern, where there is one.
func (s *symptom) shows(p *proof.Proof, seen bool) bool {
	switch {
	case s.pattern != nil:
		return seen
	case s.stops:
		return steady(p.Reason) == s.reason
	case s.never:
		return p.Exit == nil && !p.Ready
	}
	for _, m := range p.Mods {
		if (m.Outcome == proof.Failed || m.Registered && m.Outcome == proof.Silent) && slices.Contains(s.mods, m.Name) {
			return true
		}
	}
	return false
}

// FindCulprits starts a copy of a server again and again with parts of its mods,
// until the smallest set is found that still fails. A search that is stopped goes
// on where it was when it is begun again on the same line-up.
func (a *App) FindCulprits(ctx context.Context, name string, opt CulpritOptions) (*Culprits, error) {
	original, err := a.idle(name, "copy")
	if err != nil {
		return nil, err
	}
	t, err := a.newTrial(ctx, original, copying{suffix: host.TrialSuffix})
	if t != nil {
		defer t.remove()
	}
	if err != nil {
		return nil, err
	}
	h := &search{a: a, t: t, opt: opt, name: name}
	if opt.Symptom != "" {
		pattern, err := regexp.Compile(opt.Symptom)
		if err != nil {
			return nil, usage("the symptom is no pattern: %w", err)
		}
		h.symptom = &symptom{words: opt.Symptom, pattern: pattern}
	}
	mods := arrange(t)
	if len(mods.Names) == 0 {
		return nil, UsageError{errNoMods}
	}
	if err := h.remember(mods); err != nil {
		return nil, err
	}
	found, err := culprit.Search(mods, culprit.Options{Repeat: opt.Repeat, Most: opt.Most}, func(try culprit.Try) (bool, error) { return h.try(ctx, try) })
	if err != nil {
		return nil, err
	}
	result := &Culprits{Server: name, Culprits: clean(found.Culprits), With: clean(found.With), Starts: found.Starts, Rate: found.Rate, Repeat: found.Repeat, Sure: found.Sure,
		Problem: found.Problem, Evidence: []proof.Evidence{}}
	if h.symptom != nil {
		result.Symptom = text.Clean(h.symptom.words)
	}
	if h.least != nil && found.Problem == "" {
		here := strings.NewReplacer(t.server.Record.Dir, original.Record.Dir)
		reason := reasonOf(h.least, found.Culprits)
		if h.symptom.pattern != nil {
			reason = h.least.Reason // the line that fits it
		}
		result.Reason, result.Evidence = here.Replace(reason), evidence(h.least)
		for i := range result.Evidence {
			result.Evidence[i].Text = here.Replace(result.Evidence[i].Text)
		}
	}
	cure := found.Cure
	if n := len(found.Culprits); n > 0 && cure == nil { // of several that break it together the last can go
		cure = found.Culprits[n-1:]
	}
	result.Cured, result.Changes = found.Cured && h.soundWithout(mods.Names, cure), []lineup.Change{}
	for _, name := range cure {
		change, _, err := without(t.whole.Lineup, t.whole.Find(name))
		if err != nil || !hangsOnLines(t.whole.Find(name)) {
			change.Op = lineup.OpRemove // there is no line that could be switched off
		}
		result.Changes = append(result.Changes, change)
	}
	result.Instead = h.instead(found)
	return result, a.Home.ForgetLearned(name)
}

// instead are changes that may mend the culprits, where what is said of them tells that,
// besides switching mods off.
func (h *search) instead(found culprit.Found) []remedy.Remedy {
	list := []remedy.Remedy{}
	if h.least == nil {
		return list
	}
	for _, name := range found.Culprits {
		m := h.least.Find(text.Clean(name))
		if m == nil || m.Outcome == proof.Confirmed {
			continue
		}
		for _, r := range remedy.For(remedy.Case{Survey: h.t.whole, Proof: h.least}, m) {
			off := slices.ContainsFunc(r.Changes, func(c lineup.Change) bool { return c.Op == lineup.OpOff })
			if len(r.Changes) > 0 && !off {
				list = append(list, r)
			}
		}
	}
	return list
}

// soundWithout tells whether the server came up, and stayed, when all but some mods were
// on: a start that fails in another way does not show the symptom, and is not sound either.
func (h *search) soundWithout(all, off []string) bool {
	p := h.proofs[setKey(slices.DeleteFunc(slices.Clone(all), func(name string) bool { return slices.Contains(off, name) }))]
	return p != nil && p.Ready && p.Exit == nil
}

func clean(names []string) []string {
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = text.Clean(n)
	}
	return list
}

// reasonOf says why a start failed: of a server that is up, what is said of a culprit,
// or of another mod that failed.
func reasonOf(p *proof.Proof, culprits []string) string {
	if p.Exit != nil || !p.Ready {
		return p.Reason
	}
	for _, want := range []func(*proof.Mod) bool{
		func(m *proof.Mod) bool { return slices.Contains(culprits, m.Name) && m.Outcome != proof.Confirmed },
		func(m *proof.Mod) bool { return m.Outcome == proof.Failed },
	} {
		for i := range p.Mods {
			if m := &p.Mods[i]; want(m) && m.Reason != "" {
				return fmt.Sprintf("%s (%s): %s", m.Name, m.Outcome, m.Reason)
			}
		}
	}
	return p.Reason
}

// evidence are the lines that tell of failures, or sound like them.
func evidence(p *proof.Proof) (list []proof.Evidence) {
	for _, m := range p.Mods {
		if m.Outcome == proof.Failed || m.Outcome == proof.Silent {
			list = append(list, m.Evidence...)
		}
	}
	return append([]proof.Evidence{}, list...)
}

// arrange are the mods that can be switched, each after those that it needs.
func arrange(t *trial) culprit.Mods {
	mods := t.switchable()
	at := map[string]int{}
	for i, m := range mods {
		at[m.Name] = i
	}
	names, needs := make([]string, len(mods)), make([][]int, len(mods))
	for i, m := range mods {
		names[i] = m.Name
		for _, need := range m.Needs() {
			if answer := t.whole.Answer(need.Name); answer != nil {
				if n, ok := at[answer.Name]; ok && n != i {
					needs[i] = append(needs[i], n)
				}
			}
		}
	}
	return culprit.Arrange(names, needs)
}

// search is one search with what it remembers.
type search struct {
	a       *App
	t       *trial
	opt     CulpritOptions
	name    string
	symptom *symptom
	least   *proof.Proof // of the smallest set that failed
	proofs  map[string]*proof.Proof
	fewest  int
	memory  host.Learned
	used    map[string]int // how many of the remembered starts of a set were asked for again
}

// remember reads what an earlier search of the same line-up has learned.
func (h *search) remember(mods culprit.Mods) error {
	h.used, h.proofs = map[string]int{}, map[string]*proof.Proof{}
	signature, err := h.t.signature(mods.Names)
	if err != nil {
		return err
	}
	signature = h.opt.Symptom + "\n" + signature
	known, err := h.a.Home.Learned(h.name)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if known.Signature == signature && !h.opt.Anew {
		h.memory = known
	}
	h.memory.Signature = signature
	return nil
}

// setKey stands for a set of mods, which come in one order always.
func setKey(on []string) string { return strings.Join(on, "\n") }

// try makes one start, or remembers it.
func (h *search) try(ctx context.Context, try culprit.Try) (bool, error) {
	tell := func(t Tried) {
		t.Try, t.Of = try, len(h.t.switchable())
		if h.opt.OnTry != nil {
			h.opt.OnTry(t)
		}
	}
	if err := ctx.Err(); err != nil {
		return false, err
	}
	set := setKey(try.On)
	for i, n := 0, 0; i < len(h.memory.Starts); i++ {
		if s := &h.memory.Starts[i]; s.Set == set {
			if n == h.used[set] && s.Proof != nil {
				h.used[set]++
				h.take(try, s.Proof, s.Failed)
				tell(Tried{Done: true, Known: true, Failed: s.Failed, Said: said(s.Proof)})
				return s.Failed, nil
			}
			n++
		}
	}
	tell(Tried{})
	began := time.Now()
	opt, seen, shown := ProveOptions{Within: h.opt.Within, Stay: h.opt.Stay}, false, ""
	if h.symptom != nil && h.symptom.pattern != nil {
		opt.OnStep = func(s Step) {
			for _, l := range s.New {
				if line := text.Clean(l.Text); !seen && h.symptom.pattern.MatchString(line) {
					seen, shown = true, fmt.Sprintf("line %d of its log says %q", l.Number, line)
				}
			}
		}
	}
	p, dir, err := h.t.start(ctx, try.On, opt)
	if dir != "" {
		defer dir.Remove()
	}
	if err == nil {
		err = ctx.Err() // a start that was given up shows nothing
	}
	if err != nil {
		return false, err
	}
	if seen { // that is what is looked for, whatever else is wrong
		p.Reason = shown
	}
	failed := h.take(try, p, seen)
	h.used[set]++
	h.memory.Starts = append(h.memory.Starts, host.LearnedStart{Set: set, Failed: failed, Proof: p})
	tell(Tried{Done: true, Failed: failed, Took: time.Since(began), Said: said(p)})
	return failed, h.a.Home.PutLearned(h.name, h.memory)
}

func said(p *proof.Proof) string {
	switch {
	case p == nil:
		return ""
	case p.Verdict == proof.Proved:
		return "proved"
	}
	return p.Reason
}

// take judges a start; the first that fails says what is looked for.
func (h *search) take(try culprit.Try, p *proof.Proof, seen bool) (failed bool) {
	h.proofs[setKey(try.On)] = p
	if h.symptom == nil {
		h.symptom = symptomOf(p)
		failed = h.symptom != nil
	} else {
		failed = h.symptom.shows(p, seen)
	}
	if failed && (h.least == nil || len(try.On) <= h.fewest) {
		h.least, h.fewest = p, len(try.On)
	}
	return failed
}

// errNoMods refuses a search where nothing can be switched.
var errNoMods = fmt.Errorf("there is no mod that could be switched off")
