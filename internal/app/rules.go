package app

import (
	"errors"
	"slices"
	"strings"

	"initium/internal/core/check"
	"initium/internal/core/mod"
	"initium/internal/core/proof"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Rules lists what the operator has written down for a server and its family.
func (a *App) Rules(name string) ([]rule.Rule, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	return s.Rules, nil
}

// PutRule writes a rule down: for the server, or for all servers of its dialect
// when the rule is for the family. The mods that it names have to be known, or
// an exact name would be typed twice.
func (a *App) PutRule(name string, r rule.Rule) error {
	s, err := a.Server(name)
	if err != nil {
		return err
	}
	if err := r.Check(); err != nil {
		return UsageError{err}
	}
	now := survey.Take(s.input())
	names := []string{r.Mod}
	if r.Kind.Pair() && r.Kind != rule.Reads && r.Kind != rule.Needs {
		names = append(names, r.Other)
	}
	for _, n := range names {
		if now.Find(n) == nil {
			return UsageError{now.Unknown(n)}
		}
	}
	l, err := a.ledger()
	if err != nil {
		return err
	}
	scope := name
	if r.Family {
		scope = s.Dialect.Name
	}
	return l.PutRule(scope, r)
}

// DropRule takes a rule back by its number.
func (a *App) DropRule(name string, number int64) error {
	s, err := a.Server(name)
	if err != nil {
		return err
	}
	l, err := a.ledger()
	if err != nil {
		return err
	}
	err = l.DropRule(name, s.Dialect.Name, number)
	if errors.Is(err, host.ErrNoRule) {
		return UsageError{err}
	}
	return err
}

// NeedsFromLog reads from the last start what the server said that mods without
// a manifest need, and writes it down as rules, marked with the log line.
func (a *App) NeedsFromLog(name string) (written []rule.Rule, err error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	last, _, err := a.LastStart(name)
	if err != nil {
		return nil, err
	}
	if last == nil {
		return nil, usage("%s was never started here, so there is no log to read needs from", name)
	}
	now := survey.Take(s.input())
	l, err := a.ledger()
	if err != nil {
		return nil, err
	}
	for _, m := range last.Mods {
		known := now.Find(m.Name)
		if m.Outcome != proof.Failed || known == nil || len(m.Evidence) == 0 {
			continue
		}
		for _, want := range m.Wanted {
			if slices.ContainsFunc(known.Needs(), func(n mod.Need) bool { return n.Name == want }) || strings.TrimSpace(want) == "" {
				continue
			}
			r := rule.Rule{Kind: rule.Needs, Mod: m.Name, Other: want, Log: text.Clean(m.Evidence[len(m.Evidence)-1].Text)}
			if err := l.PutRule(name, r); err != nil {
				return written, err
			}
			written = append(written, r)
		}
	}
	return written, nil
}

// Accept notes that findings are accepted, with the reason: all of a code, about
// a mod when one is named. They stay accepted until the facts that they tell of change.
func (a *App) Accept(name string, code check.Code, about, because string) ([]check.Finding, error) {
	look, err := a.Look(name)
	if err != nil {
		return nil, err
	}
	l, err := a.ledger()
	if err != nil {
		return nil, err
	}
	var hit []check.Finding
	for _, f := range look.Findings {
		if f.Code != code || about != "" && f.Mod != about {
			continue
		}
		if err := l.Accept(name, check.Accepted{Code: f.Code, Mod: f.Mod, Facts: f.Facts, Message: f.Message, Because: because}); err != nil {
			return nil, err
		}
		hit = append(hit, f)
	}
	if len(hit) == 0 {
		return nil, usage("check has no finding %q%s about %s", code, of(about), name)
	}
	return hit, nil
}

func of(mod string) string {
	if mod == "" {
		return ""
	}
	return " of " + text.Clean(mod)
}

// Unaccept takes an acceptance back.
func (a *App) Unaccept(name string, code check.Code, mod string) error {
	_, l, err := a.recovered(name)
	if err != nil {
		return err
	}
	n, err := l.Unaccept(name, code, mod)
	if err == nil && n == 0 {
		return usage("no finding %q%s is accepted on %s", code, of(mod), name)
	}
	return err
}
