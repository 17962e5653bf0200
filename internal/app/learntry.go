package app

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"initium/internal/core/learn"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/teach"
	"initium/internal/core/text"
	"initium/internal/host"
)

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
	f := learn.From(l.starts, l.set())
	if len(f.Mods) == 0 && len(f.Rules) == 0 {
		return f, nil // what is taken out shows nowhere: it may not be the way
	}
	for _, mod := range f.Voices {
		if err := l.onceMore(ctx, mod); err != nil {
			return nil, err
		}
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

// onceMore makes a start without a mod again, without which the server seems to say nothing: it may only have been
// slow. Of the two the one counts that says more.
func (l *learning) onceMore(ctx context.Context, mod string) error {
	first := slices.IndexFunc(l.starts, func(s learn.Start) bool { return s.Kind == learn.Without && slices.Equal(s.Mods, []string{mod}) })
	if err := l.start(ctx, learn.Without, []string{mod}, func(t *trial) error { return t.takeOut(mod) }); err != nil || first < 0 {
		return err
	}
	last := len(l.starts) - 1
	if len(l.starts[last].Lines) > len(l.starts[first].Lines) {
		l.starts[first] = l.starts[last]
	}
	l.starts = l.starts[:last]
	return nil
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
	forms := []string{file + ".off", "_" + file, "off-" + file}
	if strings.Contains(file, "{release}") {
		forms = nil // a dialect cannot say such a name
	}
	for _, called := range forms {
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
	dir, _, err := l.a.prepare(&Look{Server: t.server, Survey: now}, ProveOptions{Within: learnWithin})
	if err != nil {
		return s, err
	}
	defer dir.Remove()
	if err := l.a.launch(t.server.Record.Name, dir); err != nil {
		return s, err
	}
	exit, err := l.untilOver(ctx, dir, &s)
	if err != nil || exit != nil {
		if exit != nil {
			s.Ended, s.Status = true, exit.Status
		}
		return s, err
	}
	running, err := dir.Running()
	if err != nil {
		return s, err
	}
	s.Ports, _ = host.Listening(running.Keeper) // what cannot be looked at shows nothing
	mapped, _ := host.Mapped(running.Keeper)
	for i := range now.Mods {
		if m := &now.Mods[i]; slices.Contains(s.On, m.Name) && heldFile(m.Path, mapped) != "" {
			s.Held = append(s.Held, m.Name)
		}
	}
	end, err := dir.Stop(context.WithoutCancel(ctx))
	if err != nil {
		return s, fmt.Errorf("stop the copy: %w", err)
	}
	if end.How == host.EndedKill && l.signal == "" {
		l.signal = "INT" // it does not end on TERM; whether it does on this shows at the next start
		t.server.Dialect.Stop.Signal, l.server.Dialect.Stop.Signal = l.signal, l.signal
	}
	return s, ctx.Err()
}

// untilOver reads the log of a start until that is over: the server has ended, or said what it says last,
// or was quiet for long enough with nothing to do. exit is how it ended, nil while it runs.
func (l *learning) untilOver(ctx context.Context, dir host.StartDir, s *learn.Start) (exit *host.Exit, err error) {
	f := dir.Follow()
	defer f.Close()
	var log bytes.Buffer
	keep := func(chunk []byte, _ time.Duration) { log.Write(chunk[:min(len(chunk), maxLearnLog-log.Len())]) }
	began, heard, longest := time.Now(), time.Now(), time.Duration(0)
	idle, asked := time.Duration(0), time.Now() // since it was heard, without anything to do
	for {
		end, ended := dir.Exit() // asked first: all that it said is in the log by then
		had := log.Len()
		for more := true; more; {
			if more, err = f.Next(keep); err != nil {
				return nil, err
			}
		}
		if log.Len() > had {
			longest, heard, idle = max(longest, time.Since(heard)), time.Now(), 0
		}
		if r, err := dir.Running(); err != nil || !host.Working(r.Keeper) {
			idle += time.Since(asked)
		}
		asked = time.Now()
		over := idle > l.quiet || time.Since(heard) > learnWithin/2
		switch {
		case l.ends == "":
		case learn.Says(linesOf(log.Bytes()), l.ends):
			over = time.Since(heard) > learnSettled
		default: // it has not said what it says last, and may only be slow
			over = idle > min(learnLonger*l.quiet, learnWithin/2) || time.Since(heard) > learnWithin/2
		}
		if ended || ctx.Err() != nil || time.Since(began) > learnWithin || over {
			l.quiet = max(l.quiet, min(4*longest, learnWithin/2)) // a slow machine, or a slow server
			s.Lines = linesOf(log.Bytes())
			if ended {
				exit = &end
			}
			return exit, nil
		}
		f.Wait(ctx, learnTick)
	}
}

// linesOf are the lines of a log as rules see them.
func linesOf(log []byte) (lines []string) {
	for line := range bytes.Lines(log) {
		lines = append(lines, string(proof.Plain(line[:min(len(line), proof.MaxLine)])))
	}
	return lines
}
