package app

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/teach"
	"initium/internal/core/text"
	"initium/internal/host"
	"initium/internal/host/archive"
)

// AddDialect takes a dialect in that somebody else has written, under its own name. The error says what
// is wrong with it, or that there is one of that name.
func (a *App) AddDialect(file string, anew bool) (*dialect.Dialect, error) {
	d, err := a.CheckDialect(file)
	if err != nil {
		return nil, err
	}
	if untrue := d.Untrue(); len(untrue) > 0 {
		return nil, untrue
	}
	if err := host.CheckName(d.Name); err != nil {
		return nil, UsageError{err}
	}
	if !anew {
		if err := a.FreeDialect(d.Name); err != nil {
			return nil, err
		}
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return d, host.WritePrivate(a.ownDialect(d.Name), data)
}

// examplesEach is how many examples of a rule go with a dialect that is handed on.
const examplesEach = 2

// ExportDialect is a dialect as it may be handed on, with lines of the last starts of its servers as
// examples: what a rule leaves open in them is taken out, so that none holds a secret, or what a player
// is called. It returns how many were added.
func (a *App) ExportDialect(ctx context.Context, name string) (data []byte, added int, err error) {
	entry, err := a.Dialect(name)
	if err != nil {
		return nil, 0, err
	}
	d := entry.Dialect
	have := map[string]int{}
	for _, e := range d.Examples {
		if rule, _ := d.Says(e.Line); rule != nil {
			have[rule.Line]++
		}
	}
	names, err := a.Home.Servers()
	if err != nil {
		return nil, 0, err
	}
	data = bytes.Clone(entry.Data)
	for _, server := range names {
		record, err := a.Home.Record(server)
		if err != nil || record.Dialect != d.Name {
			continue
		}
		state, err := a.Home.State(server)
		if err != nil || state.Start == "" {
			continue
		}
		s, err := a.Server(server)
		if err != nil {
			return nil, 0, err
		}
		secrets := survey.Take(s.input()).Lineup.Secrets()
		log := host.OpenLog(state.Start.Log())
		err = eachLine(ctx, io.LimitReader(log, host.FirstPiece), func(line string) {
			rule, _ := d.Says(line)
			if rule == nil || have[rule.Line] >= examplesEach {
				return
			}
			bare := bareLine(d, rule, line)
			again, mods := d.Says(bare)
			if again != rule || text.Mask(bare, secrets) != bare || text.Clean(bare) != bare {
				return
			}
			block, failed := toml.Marshal(dialect.Example{Line: bare, Means: rule.Means, Mods: mods})
			if failed != nil {
				return
			}
			have[rule.Line]++
			added++
			data = fmt.Appendf(data, "\n[[example]]\n%s", block)
		})
		log.Close()
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, 0, fmt.Errorf("read the log of %s: %w", server, err)
		}
	}
	return data, added, nil
}

// bareLine is a line that a rule fits, without what the rule leaves open.
func bareLine(d *dialect.Dialect, rule *dialect.Rule, line string) string {
	head, said := "", line
	if p := d.Log.PrefixPattern(); p != nil {
		if caps, end, ok := p.MatchPrefix([]byte(line), nil); ok {
			head, said = p.Fill(func(name string) string {
				if value := string(p.Get(name, []byte(line), caps)); name != "any" {
					return value
				}
				return "x"
			}), line[end:]
		}
	}
	said = strings.TrimRight(said, " \t\r\n")
	caps, _ := rule.Pattern().Match([]byte(said), nil)
	return head + rule.Pattern().Fill(func(name string) string {
		switch name {
		case "mod", "mods", "ms", "s", "release":
			return string(rule.Pattern().Get(name, []byte(said), caps))
		case "path":
			return filepath.Base(string(rule.Pattern().Get(name, []byte(said), caps)))
		}
		return "x"
	})
}

// eachLine hands out the lines of a log as rules see them.
func eachLine(ctx context.Context, log io.Reader, do func(line string)) error {
	lines := bufio.NewScanner(stopping{ctx, log})
	lines.Buffer(make([]byte, 64<<10), proof.MaxLine)
	for lines.Scan() {
		do(string(proof.Plain(lines.Bytes())))
	}
	if err := lines.Err(); !errors.Is(err, bufio.ErrTooLong) { // what is longer than any line that is looked at ends the look
		return err
	}
	return nil
}

// Fit is how far a dialect fits a server. Its strings are safe to show.
type Fit struct {
	Missing []string `json:"missing"` // files by which the folder would be recognised
	Mods    []string `json:"mods"`    // that it finds registered and on
	There   int      `json:"there"`   // of them, found where mods are
	Unread  []string `json:"unread"`  // places of the startup files that it cannot read
	Lines   int      `json:"lines"`   // of the logs
	Known   int      `json:"known"`   // that a rule fits
	Left    []string `json:"left"`    // the commonest kinds of the others
}

// TryDialect tells how far a dialect, by its file or its name, fits the server of a folder and logs of it.
// Nothing is adopted, and nothing started.
func (a *App) TryDialect(ctx context.Context, file, dir string, logs []string) (*Fit, error) {
	d, err := a.CheckDialect(file)
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	if _, err := os.ReadDir(dir); err != nil {
		return nil, err
	}
	f := &Fit{Missing: []string{}, Mods: []string{}, Unread: []string{}, Left: []string{}}
	for _, name := range d.Recognise.Files {
		if _, err := theirs.Stat(filepath.Join(dir, filepath.FromSlash(name))); err != nil {
			f.Missing = append(f.Missing, text.Clean(name))
		}
	}
	s := &Server{Record: host.Record{Name: d.Name, Dir: dir, Dialect: d.Name}, Dialect: d, Missing: map[string]string{}, memory: &survey.Memory{}}
	a.resolve(s)
	now := survey.Take(s.input())
	for i := range now.Mods {
		if m := &now.Mods[i]; m.Listed || m.Always && m.On {
			f.Mods = append(f.Mods, text.Clean(m.Name))
			if m.Path != "" {
				f.There++
			}
		}
	}
	f.Unread = append(f.Unread, unread(now, nil)...)
	left := map[string]int{}
	sample := map[string]string{}
	for _, name := range logs {
		stream, err := archive.OpenStream(name, nil)
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", text.Clean(name), err)
		}
		err = eachLine(ctx, io.LimitReader(stream, maxTaughtLog), func(line string) {
			f.Lines++
			if rule, _ := d.Says(line); rule != nil {
				f.Known++
				return
			}
			kind := digits.ReplaceAllString(line, "0")
			if left[kind]++; sample[kind] == "" {
				sample[kind] = line
			}
		})
		stream.Close()
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", text.Clean(name), err)
		}
	}
	kinds := slices.SortedFunc(maps.Keys(left), func(a, b string) int { return cmp.Or(cmp.Compare(left[b], left[a]), strings.Compare(a, b)) })
	const most = 8
	for _, kind := range kinds[:min(len(kinds), most)] {
		f.Left = append(f.Left, fmt.Sprintf("%d × %s", left[kind], text.Mask(text.Clean(sample[kind]), now.Lineup.Secrets())))
	}
	return f, nil
}

var digits = regexp.MustCompile(`\d+`)

// DropLogRule takes a rule of the log out of a dialect, by its number from 1. Of a dialect that ships with
// Initium a copy of the operator's own is written. It returns what the dialect lacks then.
func (a *App) DropLogRule(name string, number int) (missing []string, err error) {
	entry, err := a.ownOrShipped(name)
	if err != nil {
		return nil, err
	}
	without, ok := teach.DropRule(entry, number-1)
	if !ok {
		return nil, usage("the dialect %s has no rule %d", text.Clean(name), number)
	}
	before, _ := dialect.Draft(name, entry)
	after, problems := dialect.Draft(name, without)
	if len(after.Log.Rules) != len(before.Log.Rules)-1 {
		return nil, usage("rule %d of %s cannot be taken out without harm to the rest; do so in %s", number, text.Clean(name), a.ownDialect(name))
	}
	return problemsLeft(problems), host.WritePrivate(a.ownDialect(name), without)
}

// LogRules are the rules of a dialect's log, of one that is not complete yet too.
func (a *App) LogRules(name string) ([]dialect.Rule, error) {
	data, err := a.ownOrShipped(name)
	if err != nil {
		return nil, err
	}
	d, _ := dialect.Draft(name, data)
	return d.Log.Rules, nil
}

// ownOrShipped is the file of a dialect of the operator's own, perhaps not complete, else of one that
// ships with Initium.
func (a *App) ownOrShipped(name string) ([]byte, error) {
	if err := host.CheckName(name); err != nil {
		return nil, UsageError{err}
	}
	data, err := os.ReadFile(a.ownDialect(name))
	if !errors.Is(err, fs.ErrNotExist) {
		return data, err
	}
	entry, err := a.Dialect(name)
	return entry.Data, err
}
