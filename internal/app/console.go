package app

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Say types a line on a running server's console and returns what the server said
// right after it, cleaned.
func (a *App) Say(ctx context.Context, name, line string) ([]string, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	if strings.TrimSpace(line) == "" {
		return nil, usage("say what is to be typed on the console of %s", name)
	}
	state, err := a.running(name)
	if err != nil {
		return nil, err
	}
	heard, err := a.hear(ctx, state.Start, line, 5*time.Second, fallsSilent)
	if err != nil {
		return nil, err
	}
	secrets := survey.Take(s.input()).Lineup.Secrets()
	var lines []string
	for l := range strings.Lines(string(heard.said)) {
		lines = append(lines, text.Mask(text.Clean(strings.TrimRight(l, "\r\n")), secrets))
	}
	return lines, nil
}

// Type types a line on a running server's console; what it says is in its log.
func (a *App) Type(name, line string) error {
	state, err := a.running(name)
	if err != nil {
		return err
	}
	return state.Start.Say(line)
}

// running is the state of a server that runs.
func (a *App) running(name string) (host.State, error) {
	if _, err := a.Home.Record(name); err != nil {
		return host.State{}, err
	}
	state, err := a.Home.State(name)
	if err == nil && (!state.Up || state.Start == "") {
		err = usage("%s is not running; initium prove %s --keep-running starts it", name, name)
	}
	return state, err
}

// hearing is what a running server says after something was typed on its console.
type hearing struct {
	before int    // lines that its log had by then
	said   []byte // what has come since
}

// hear types a line on the console of a start and hears what comes after that: until enough
// says so, which is given how long nothing has come, the server has ended, or the limit is
// reached.
func (a *App) hear(ctx context.Context, dir host.StartDir, line string, limit time.Duration, enough func(h *hearing, quiet time.Duration) bool) (*hearing, error) {
	follower := dir.Follow()
	defer follower.Close()
	h := &hearing{}
	for more := true; more; {
		var err error
		if more, err = follower.Next(func(chunk []byte, _ time.Duration) { h.before += bytes.Count(chunk, []byte{'\n'}) }); err != nil {
			return nil, fmt.Errorf("follow the log: %w", err)
		}
	}
	if err := dir.Say(line); err != nil {
		return nil, err
	}
	last := time.Now()
	for asked := last; time.Since(asked) < limit && ctx.Err() == nil; follower.Wait(ctx, replyQuiet/4) {
		_, ended := dir.Exit()
		length := len(h.said)
		if _, err := follower.Next(func(chunk []byte, _ time.Duration) { h.said = append(h.said, chunk...) }); err != nil {
			return nil, fmt.Errorf("follow the log: %w", err)
		}
		if len(h.said) > length {
			last = time.Now()
		}
		if ended || enough(h, time.Since(last)) {
			break
		}
	}
	return h, nil
}

// fallsSilent is when a reply is taken to be over that nothing else tells the end of.
func fallsSilent(h *hearing, quiet time.Duration) bool {
	return quiet > replyQuiet && (len(h.said) > 0 || quiet > 3*replyQuiet)
}

// Switch is what can be done to one mod of a running server.
type Switch string

// A mod can be loaded anew, loaded, or taken out.
const (
	SwitchReload Switch = "reload"
	SwitchLoad   Switch = "load"
	SwitchUnload Switch = "unload"
)

// NotLoaded are the mods that a plan has brought to a server that runs, and that are on without being loaded yet. can
// tells whether its family loads one while it runs.
func (a *App) NotLoaded(name string, p *plan.Plan) (mods []string, can bool, err error) {
	s, err := a.Server(name)
	if err != nil || !a.Home.IsRunning(name) {
		return nil, false, err
	}
	now := survey.Take(s.input())
	for i := range p.Parts {
		part := &p.Parts[i]
		if m := now.Find(part.Mod); part.What == plan.TheMod && part.Old == "" && part.New != "" && m != nil && m.On {
			mods = append(mods, m.Name)
		}
	}
	return mods, SwitchLoad.wordsOf(&s.Dialect.Console) != "", nil
}

// wordsOf are what has to be typed for it.
func (s Switch) wordsOf(k *dialect.Console) string {
	return map[Switch]string{SwitchReload: k.Reload, SwitchLoad: k.Load, SwitchUnload: k.Unload}[s]
}

// SwitchMod loads one mod of a running server anew, loads it, or takes it out, where
// the family of servers can do that, and tells by what the server says whether it was done.
// A mod that loads is waited for as long as a start of that family may take; ctx ends that.
// The result is kept with the proof of the running start.
func (a *App) SwitchMod(ctx context.Context, name, mod string, do Switch) (*proof.Mod, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	now := survey.Take(s.input())
	known := now.Find(mod)
	words := do.wordsOf(&s.Dialect.Console)
	switch {
	case known == nil:
		return nil, UsageError{now.Unknown(mod)}
	case words == "":
		return nil, usage("%s cannot %s a mod while it runs, as far as its dialect knows; start it anew (initium stop %s, initium prove %s --keep-running)", s.Dialect.Title, do, name, name)
	}
	state, err := a.running(name)
	if err != nil {
		return nil, err
	}
	t := &switching{server: s, now: now, name: text.Clean(mod), since: state.Since}
	began := time.Now()
	limit, enough := time.Duration(s.Dialect.Console.Within), fallsSilent
	if do != SwitchUnload {
		limit, enough = max(limit, time.Duration(s.Dialect.Start.Within)), t.spokenOf
	}
	h, err := a.hear(ctx, state.Start, strings.ReplaceAll(words, "{mod}", mod), limit, enough)
	if err != nil {
		return nil, err
	}
	list := s.Dialect.Console.List
	if do == SwitchUnload && list != "" { // nothing says better that it is gone
		if h, err = a.hear(ctx, state.Start, list, limit, t.listed); err != nil {
			return nil, err
		}
	}
	m, whole := t.judge(h)
	m.Reason = switched(m, do, whole && list != "")
	if m.Outcome == proof.Silent && do != SwitchUnload {
		m.Reason += fmt.Sprintf(", in %s", time.Since(began).Round(100*time.Millisecond))
	}
	p, err := state.Start.Proof()
	if err == nil {
		p.Reloads = append(p.Reloads, proof.Reload{At: time.Now(), Do: string(do), Mod: *m})
		if n := len(p.Reloads) - maxReloads; n > 0 {
			p.Reloads = slices.Delete(p.Reloads, 0, n)
		}
		err = state.Start.PutProof(p)
	}
	return m, err
}

// switching is one mod that is loaded or taken out while its server runs.
type switching struct {
	server *Server
	now    *survey.Survey
	name   string    // of the mod
	since  time.Time // that the server runs

	judged int  // bytes of what was heard
	spoken bool // of the mod, in them
}

// judge tells what came of the mod by what was heard, and whether that can be taken to be
// all of a reply.
func (t *switching) judge(h *hearing) (m *proof.Mod, whole bool) {
	r := proof.NewReader(t.server.Dialect, t.server.Vars["dir"], Expect(t.now), nil)
	r.Secrets = t.now.Lineup.Secrets()
	r.From(h.before)
	r.Ask(true)
	r.Feed(h.said, time.Since(t.since))
	r.Flush()
	whole = r.Whole() && len(h.said) > 0
	if m = r.Judge(proof.End{}).Find(t.name); m == nil {
		m = &proof.Mod{Name: t.name, Outcome: proof.Silent, Evidence: []proof.Evidence{}}
	}
	return m, whole
}

// spokenOf tells whether what was heard says what has come of the mod; what goes on with
// that, such as its reason, comes right after it.
func (t *switching) spokenOf(h *hearing, quiet time.Duration) bool {
	if len(h.said) > t.judged {
		m, _ := t.judge(h)
		t.judged, t.spoken = len(h.said), m.Outcome != proof.Silent
	}
	return t.spoken && quiet > replyQuiet
}

// listed tells whether the server's own list has come to its end: by the line that it ends with, where
// the dialect knows one, however long that takes.
func (t *switching) listed(h *hearing, quiet time.Duration) bool {
	if t.server.Dialect.Console.EndPattern() == nil {
		return fallsSilent(h, quiet)
	}
	_, whole := t.judge(h)
	return whole
}

// switched settles what came of a switch, and says why. listed tells that the server's
// own list was asked for, and came as a whole.
func switched(m *proof.Mod, do Switch, listed bool) string {
	named := m.Outcome == proof.Confirmed || m.Outcome == proof.Unlisted
	switch {
	case do == SwitchUnload && named:
		m.Outcome = proof.Failed
		return "the server's own list still names it"
	case do == SwitchUnload && m.Outcome == proof.Silent && listed:
		m.Outcome = proof.Confirmed
		return "the server's own list names it no more"
	case named:
		m.Outcome = proof.Confirmed
		return ""
	case m.Outcome == proof.Silent:
		return "the server said nothing about it after it was told to " + string(do) + " it"
	}
	return m.Reason
}

// maxReloads bounds how many reloads are kept with a proof.
const maxReloads = 200
