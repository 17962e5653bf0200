package app

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"initium/internal/core/expect"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Expectations lists what the operator expects of every start of a server.
func (a *App) Expectations(name string) ([]expect.Expectation, error) {
	_, l, err := a.recovered(name)
	if err != nil {
		return nil, err
	}
	return l.Expectations(name)
}

// PutExpectation writes an expectation down: it is part of every proof from then on. A mod that it
// is about has to be known.
func (a *App) PutExpectation(name string, e expect.Expectation) error {
	s, err := a.Server(name)
	if err != nil {
		return err
	}
	if err := e.Check(); err != nil {
		return UsageError{err}
	}
	now := survey.Take(s.input())
	if e.Mod != "" && now.Find(e.Mod) == nil {
		return UsageError{now.Unknown(e.Mod)}
	}
	if secrets := now.Lineup.Secrets(); text.Mask(e.Text, secrets) != e.Text || text.Mask(e.Ask, secrets) != e.Ask {
		return usage("a secret of the server cannot be expected: it would stand in every proof")
	}
	l, err := a.ledger()
	if err != nil {
		return err
	}
	return l.PutExpectation(name, e)
}

// DropExpectation takes an expectation back by its number.
func (a *App) DropExpectation(name string, number int64) error {
	_, l, err := a.recovered(name)
	if err != nil {
		return err
	}
	err = l.DropExpectation(name, number)
	if errors.Is(err, host.ErrNoExpectation) {
		return UsageError{err}
	}
	return err
}

// expects are the expectations that a start is judged by: those of the server, and those of mods
// that are registered and on.
func (s *Server) expects(now *survey.Survey) (list []expect.Expectation) {
	for _, e := range s.Expected {
		if m := now.Find(e.Mod); e.Mod == "" || m != nil && m.Listed {
			list = append(list, e)
		}
	}
	return list
}

// askExpected types what replies are expected to, and keeps what is said.
func (f *following) askExpected(ctx context.Context) error {
	f.replies = map[string][]string{}
	for _, e := range f.expected.Own {
		if _, asked := f.replies[e.Ask]; e.Kind != expect.Reply || asked {
			continue
		}
		f.replies[e.Ask] = nil
		f.hearing = e.Ask
		f.reader.Ask(true)
		err := f.dir.Say(e.Ask)
		if err == nil {
			err = f.reply(ctx, time.Duration(f.server.Dialect.Console.Within))
		}
		f.reader.Ask(false)
		f.hearing = ""
		if err != nil && ctx.Err() == nil {
			f.unheard = text.Clean(err.Error())
		}
	}
	return nil
}

// settle looks at what is expected besides the lines of the log.
func (f *following) settle(up bool) {
	if f.before != nil { // the server is gone; what was seen while it was there counts
		f.settleAs(f.before.Expected)
		return
	}
	f.reader.Expect.Settle(up, expect.Answers{
		Reply: func(ask string, fits func(string) bool) (bool, string) {
			for _, line := range f.replies[ask] {
				if fits(line) {
					return true, line
				}
			}
			if f.there != nil {
				return false, "it cannot be asked: its console is at " + f.there().Host
			}
			return false, fmt.Sprintf("it said %d lines, and none does", len(f.replies[ask]))
		},
		Path: func(below string) (bool, string) {
			full := filepath.Join(f.server.Record.Dir, below)
			if _, err := theirs.Stat(full); err != nil {
				return false, text.Clean(strings.ReplaceAll(err.Error(), f.server.Record.Dir+"/", ""))
			}
			return true, ""
		},
		Port: func(port int) (bool, string) {
			if f.there != nil {
				return false, "which ports it listens on at " + f.there().Host + " cannot be seen from here"
			}
			running, err := f.dir.Running()
			if err != nil {
				return false, text.Clean(err.Error())
			}
			open := host.PortOf(running.Server, port)
			return open != "", open
		},
		Told: f.reader.Told,
	})
}

// settleAs takes over what was seen at an earlier judgement, but for the lines of the log.
func (f *following) settleAs(before []expect.Met) {
	w := f.reader.Expect
	w.Settle(true, expect.Answers{
		Reply: func(string, func(string) bool) (bool, string) { return false, "" },
		Path:  func(string) (bool, string) { return false, "" },
		Port:  func(int) (bool, string) { return false, "" },
		Told:  f.reader.Told,
	})
	for i := range w.Met {
		m := &w.Met[i]
		k := slices.IndexFunc(before, func(b expect.Met) bool { return b.Expectation == m.Expectation })
		if k >= 0 && (m.Kind == expect.Reply || m.Kind == expect.Path || m.Kind == expect.Port) {
			*m = before[k]
		}
	}
}
