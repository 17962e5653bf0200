package app

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"initium/internal/core/dialect"
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
	said, _, err := a.hear(ctx, state.Start, line, 5*time.Second)
	if err != nil {
		return nil, err
	}
	secrets := survey.Take(s.input()).Lineup.Secrets()
	var lines []string
	for l := range strings.Lines(string(said)) {
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

// hear types a line on the console of a start and returns what comes right after
// it, and how many lines the log had before.
func (a *App) hear(ctx context.Context, dir host.StartDir, line string, limit time.Duration) (said []byte, before int, err error) {
	follower := dir.Follow()
	defer follower.Close()
	for more := true; more; {
		if more, err = follower.Next(func(chunk []byte, _ time.Duration) { before += bytes.Count(chunk, []byte{'\n'}) }); err != nil {
			return nil, 0, fmt.Errorf("follow the log: %w", err)
		}
	}
	if err := dir.Say(line); err != nil {
		return nil, 0, err
	}
	last := time.Now()
	for asked := last; time.Since(asked) < limit && ctx.Err() == nil; follower.Wait(ctx, replyQuiet/4) {
		_, ended := dir.Exit()
		length := len(said)
		if _, err := follower.Next(func(chunk []byte, _ time.Duration) { said = append(said, chunk...) }); err != nil {
			return nil, 0, fmt.Errorf("follow the log: %w", err)
		}
		if len(said) > length {
			last = time.Now()
		}
		quiet := time.Since(last)
		if ended || quiet > replyQuiet && (len(said) > 0 || quiet > 3*replyQuiet) {
			break
		}
	}
	return said, before, nil
}

// Switch is what can be done to one mod of a running server.
type Switch string

// A mod can be loaded anew, loaded, or taken out.
const (
	SwitchReload Switch = "reload"
	SwitchLoad   Switch = "load"
	SwitchUnload Switch = "unload"
)

// wordsOf are what has to be typed for it.
func (s Switch) wordsOf(k *dialect.Console) string {
	return map[Switch]string{SwitchReload: k.Reload, SwitchLoad: k.Load, SwitchUnload: k.Unload}[s]
}

// SwitchMod loads one mod of a running server anew, loads it, or takes it out, where
// the family of servers can do that, and tells by the reply whether it was done. The
// result is kept with the proof of the running start.
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
	said, before, err := a.hear(ctx, state.Start, strings.ReplaceAll(words, "{mod}", mod), time.Duration(s.Dialect.Console.Within))
	if err != nil {
		return nil, err
	}
	list := s.Dialect.Console.List
	if do == SwitchUnload && list != "" { // nothing says better that it is gone
		if said, before, err = a.hear(ctx, state.Start, list, time.Duration(s.Dialect.Console.Within)); err != nil {
			return nil, err
		}
	}
	r := proof.NewReader(s.Dialect, s.Vars["dir"], Expect(now), nil)
	r.Secrets = now.Lineup.Secrets()
	r.From(before)
	r.Ask(true)
	r.Feed(said, time.Since(state.Since))
	r.Flush()
	whole := r.Whole() && len(said) > 0
	m := r.Judge(proof.End{}).Find(text.Clean(mod))
	if m == nil {
		m = &proof.Mod{Name: text.Clean(mod), Outcome: proof.Silent, Evidence: []proof.Evidence{}}
	}
	m.Reason = switched(m, do, whole && list != "")
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
