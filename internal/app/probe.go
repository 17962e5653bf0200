package app

import (
	"bytes"
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// probe fills in the words of a probe.
func (s *Server) probe(p *dialect.Probe) (host.Probe, error) {
	ready := host.Probe{Within: time.Duration(p.Within)}
	for _, word := range p.Command {
		value, ok := s.Vars.Expand(word)
		if !ok {
			return ready, fmt.Errorf("the word %q of a probe cannot be filled in", word)
		}
		ready.Command = append(ready.Command, value)
	}
	dir, ok := s.Vars.Expand(p.Directory)
	if !ok {
		return ready, fmt.Errorf("the directory %q of a probe cannot be filled in", p.Directory)
	}
	ready.Dir = dir
	return ready, nil
}

// Probe has the server's own command look through its startup files, where its family has one, and
// returns what that finds wrong, each as a finding with its place.
func (a *App) Probe(ctx context.Context, name string) ([]check.Finding, error) {
	if err := a.elsewhere(name, "probe"); err != nil {
		return nil, err
	}
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	if len(s.Dialect.ProbesOf(dialect.ProbeStartup)) == 0 {
		return nil, usage("%s has no command that looks through its startup files, as far as its dialect knows", s.Dialect.Title)
	}
	return a.probeStartup(ctx, s)
}

func (a *App) probeStartup(ctx context.Context, s *Server) (list []check.Finding, err error) {
	secrets := survey.Take(s.input()).Lineup.Secrets()
	shown := func(said []byte) string { return text.Mask(text.Clean(string(bytes.TrimSpace(said))), secrets) }
	for _, p := range s.Dialect.ProbesOf(dialect.ProbeStartup) {
		ready, err := s.probe(p)
		if err != nil {
			return nil, err
		}
		printed, status, err := ready.Ask(ctx)
		if err != nil {
			return nil, err
		}
		found, last := len(list), ""
		for raw := range bytes.Lines(printed) {
			said := bytes.TrimSpace(proof.Plain(raw[:min(len(raw), proof.MaxLine)]))
			if len(said) > 0 {
				last = shown(said)
			}
			if file, row, reason, ok := faultIn(said, p.Rules); ok {
				if file != "" && !filepath.IsAbs(file) {
					file = filepath.Join(ready.Dir, file)
				}
				list = append(list, check.ProbeFault(text.Clean(file), row, shown(reason)))
			}
		}
		if status != 0 && len(list) == found {
			said := fmt.Sprintf("the server's own look through its startup files failed, with exit status %d", status)
			if last != "" {
				said += ": " + last
			}
			list = append(list, check.ProbeFault("", 0, said))
		}
	}
	return list, nil
}

// faultIn reads a line that a probe of startup files has printed; row is 0 where it says none.
func faultIn(said []byte, rules []dialect.Rule) (file string, row int, reason []byte, ok bool) {
	for i := range rules {
		p := rules[i].Pattern()
		caps, fits := p.Match(said, nil)
		if !fits {
			continue
		}
		row, _ = strconv.Atoi(string(p.Get("row", said, caps)))
		return string(p.Get("file", said, caps)), row, p.Get("reason", said, caps), rules[i].Means == dialect.MeansFault
	}
	return "", 0, nil, false
}

// probeLoaded has commands list what the server has loaded.
func (f *following) probeLoaded(ctx context.Context) {
	for _, p := range f.server.Dialect.ProbesOf(dialect.ProbeLoaded) {
		if p.Mapped {
			f.probeMemory()
			continue
		}
		printed, err := f.askProbe(ctx, p)
		if err != nil && ctx.Err() == nil {
			f.unheard = text.Mask(text.Clean(err.Error()), f.reader.Secrets)
		}
		f.reader.Heard(printed, p.Rules, err == nil)
	}
}

// probeMemory looks which mods the server holds files of in its memory.
func (f *following) probeMemory() {
	running, err := f.dir.Running()
	var mapped []string
	if err == nil {
		mapped, err = host.Mapped(running.Keeper)
	}
	if err != nil {
		f.unheard = text.Clean(err.Error())
		return
	}
	held := map[string]string{}
	for _, m := range f.expected.Mods {
		if file := heldFile(m.Path, mapped); file != "" {
			held[m.Name] = file
		}
	}
	f.reader.Holds(held, time.Since(f.began))
}

// askProbe runs the command of a probe and returns what it prints. The error says why that is no answer.
func (f *following) askProbe(ctx context.Context, p *dialect.Probe) (printed []byte, err error) {
	ready, err := f.server.probe(p)
	if err != nil {
		return nil, err
	}
	if f.server.isolated {
		running, err := f.dir.Running()
		if err != nil {
			return nil, err
		}
		ready.Beside = running.Server
	}
	printed, status, err := ready.Ask(ctx)
	if err == nil && status != 0 {
		err = fmt.Errorf("%s ended with status %d: %s", ready.Command[0], status, strings.TrimSpace(string(printed)))
	}
	return printed, err
}

// answers tells whether a server that listens on its port answers what it has loaded, too, where it can
// be asked: it may open the port before it is through with its mods. One that has not answered for as
// long as an answer may take is not waited for.
func (f *following) answers() bool {
	if _, ended := f.dir.Exit(); ended {
		return true
	}
	if f.listening.IsZero() {
		f.listening = time.Now()
	}
	for _, p := range f.server.Dialect.ProbesOf(dialect.ProbeLoaded) {
		if p.Mapped || time.Since(f.listening) > time.Duration(p.Within) {
			continue
		}
		if _, err := f.askProbe(context.Background(), p); err != nil {
			return false
		}
	}
	return true
}
