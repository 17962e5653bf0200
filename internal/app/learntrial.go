package app

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/learn"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

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
	words, broken, err := l.mix(t, r, on, f)
	if err != nil {
		return err
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

// mix makes random changes on a copy. It returns them in words, and the mod whose files make no sense
// then, "" for none. What cannot be tried is left out.
func (l *learning) mix(t *trial, r *rand.Rand, on []string, f *learn.Findings) (words []string, broken string, err error) {
	do := func(word string, make func() error) {
		if err != nil {
			return
		}
		switch made := make(); {
		case made == nil:
			words = append(words, word)
		case !errors.Is(made, errUntried):
			err = made
		}
	}
	for _, mod := range on {
		inCategory := t.whole.Find(mod) != nil && t.whole.Find(mod).Group // which goes as a whole
		if r.IntN(4) == 0 && !inCategory && !slices.Contains(f.Voices, mod) {
			do("without "+mod, func() error { return t.takeOut(mod) })
		}
	}
	left := survey.Take(t.server.input())
	now := slices.DeleteFunc(slices.Clone(on), func(mod string) bool {
		m := left.Find(mod)
		return m == nil || !m.Listed && !(m.Always && m.On)
	})
	if l.way.File != "" && len(now) > 1 {
		for range r.IntN(3) {
			if mod, to := now[r.IntN(len(now))], now[r.IntN(len(now))]; mod != to {
				do(mod+" before "+to, func() error { return t.moveFirst(mod, to) })
			}
		}
	}
	if l.way.File != "" && r.IntN(4) == 0 {
		do("with a name that is nowhere", func() error { return t.register([]string{nowhere}, "") })
	}
	if len(now) > 0 && r.IntN(4) == 0 {
		mod := now[r.IntN(len(now))]
		do(mod+" broken", func() error {
			err := t.breakMod(mod)
			if err == nil {
				broken = mod
			}
			return err
		})
	}
	return words, broken, err
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
			wanted = map[dialect.Fate]forecast.Outcome{dialect.FateFails: forecast.Failed, dialect.FateStops: forecast.Failed, dialect.FateLater: forecast.Failed, dialect.FateFirst: forecast.Failed, dialect.FatePassed: forecast.NotLoaded, dialect.FateIgnored: forecast.Confirmed}[brokenFate]
		case broken != "" && (brokenFate == dialect.FateStops || brokenFate == dialect.FateFirst || len(found.Needs) > 0):
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
