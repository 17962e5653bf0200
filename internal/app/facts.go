package app

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/forecast"
	"initium/internal/core/mod"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// facts gathers what check has to know of the world outside the server's files.
func (a *App) facts(s *Server, now *survey.Survey, running bool) (check.Surroundings, error) {
	facts := check.Surroundings{FS: s.disk(), Missing: s.Missing, Running: running, Away: s.Record.Host != "", Builds: a.builds(s, now)}
	facts.Fitting = a.fitting(s, now, facts.Builds)
	l, err := a.ledger()
	if err != nil {
		return facts, err
	}
	if facts.Accepted, err = l.Accepted(s.Record.Name); err != nil {
		return facts, err
	}
	if !s.isolated && s.Record.Host == "" {
		facts.Database = a.databaseFacts(s)
	}
	facts.Tables = a.tableFacts(s, now, l)
	if facts.Owed, err = a.owedBy(s, l); err != nil {
		return facts, err
	}
	lessons, err := l.Lessons()
	if err != nil {
		return facts, err
	}
	if len(lessons) > 0 {
		facts.Lessons = map[string]string{}
		for i := range now.Mods {
			m := &now.Mods[i]
			if lesson, ok := lessons[m.Path]; ok && m.Path != "" && lesson.Around == around(now, m) {
				facts.Lessons[m.Name] = lesson.Said
			}
		}
	}
	if facts.Refuted, err = a.refuted(l, s, now); err != nil {
		return facts, err
	}
	if !running && !s.isolated && s.Record.Host == "" {
		a.ports(s, &facts)
	}
	return facts, nil
}

// refuted is the last start, where it was not proved for what it was made with, and another
// would be made with the same; nil when not.
func (a *App) refuted(l *host.Ledger, s *Server, now *survey.Survey) (*forecast.Refuted, error) {
	starts, err := l.Starts(s.Record.Name)
	if err != nil || len(starts) == 0 || s.fsys != nil || starts[len(starts)-1].Verdict == proof.Proved {
		return nil, err
	}
	p, err := a.startBefore(s.Record.Name, 0, false)
	if err != nil || p == nil || p.Verdict == proof.Proved || p.Stopped || ChangedSince(now, p) {
		return nil, err
	}
	then, err := a.Home.Start(s.Record.Name, p.Number).Inventory()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	same, err := a.inventory(s, now)
	if err != nil || !then.Same(same) {
		return nil, err
	}
	r := &forecast.Refuted{Start: p.Number, Reason: p.Reason, Stops: p.Exit != nil, Failed: map[string]string{}}
	for i := range p.Mods {
		switch m := &p.Mods[i]; {
		case m.Outcome == proof.Failed:
			r.Failed[m.Name] = m.Reason
		case m.Outcome == proof.Silent && m.Registered && (p.Ready || r.Stops):
			r.Silent = append(r.Silent, m.Name)
		}
	}
	return r, nil
}

// around tells what a mod rests on besides its own files: which mods it stands on, near and
// far, for a script can fail because of another that was put in their place, and be right with
// the real one; what loads before it, where the order is the operator's; and the settings that
// it reads. Of the last two a print is made, as settings may be secret.
func around(s *survey.Survey, m *survey.Mod) string {
	paths := map[string]bool{}
	var visit func(m *survey.Mod)
	visit = func(m *survey.Mod) {
		for _, list := range [][]mod.Need{m.Needs(), m.OptionalNeeds()} {
			for _, need := range list {
				if n := s.Answer(need.Name); n != nil && (n.On || n.Base) && n.Path != "" && !paths[n.Path] {
					paths[n.Path] = true
					visit(n)
				}
			}
		}
	}
	visit(m)
	said := strings.Join(slices.Sorted(maps.Keys(paths)), "\n")
	sum, empty := sha256.New(), true
	note := func(words ...string) {
		empty = false
		fmt.Fprintf(sum, "%q\n", words)
	}
	if s.Dialect.Order == dialect.OrderListed {
		for i := range m.Index() {
			if earlier := &s.Mods[i]; earlier.Listed {
				note(earlier.Name)
			}
		}
	}
	for _, set := range s.Lineup.Settings {
		if slices.Contains(m.Manifest.Settings, set.Name) {
			note(set.Name, set.Value)
		}
	}
	if empty {
		return said
	}
	return said + "\n" + hex.EncodeToString(sum.Sum(nil))
}

// ports finds out who holds the server's port, which other servers share it, and
// the next one that is free.
func (a *App) ports(s *Server, facts *check.Surroundings) {
	port := s.Vars["port"]
	number, err := strconv.Atoi(port)
	if checkPort(port) != nil || err != nil {
		return
	}
	names, err := a.Home.Servers()
	if err != nil {
		return
	}
	taken := map[int]bool{}
	for _, other := range names {
		if other == s.Record.Name {
			continue
		}
		theirs := a.portOf(other)
		if n, err := strconv.Atoi(theirs); err == nil {
			taken[n] = true
		}
		switch {
		case theirs != port:
		case a.Home.IsRunning(other):
			facts.PortBusy = "the server " + other + " runs on it"
		default:
			facts.Sharing = append(facts.Sharing, other)
		}
	}
	if protocol := host.PortHeld(number); protocol != "" && facts.PortBusy == "" {
		facts.PortBusy = "another program on this machine has it open (" + protocol + ")"
	}
	if facts.PortBusy != "" || len(facts.Sharing) > 0 {
		facts.PortFree = host.FreePort(number, taken)
	}
}

// portOf is the port of another server, "" when it is not known. Nothing is brought to its end in its
// ledger: what was cut off there is told when that server is looked at.
func (a *App) portOf(name string) string {
	record, err := a.Home.Record(name)
	if err != nil {
		return ""
	}
	entry, err := a.Dialect(record.Dialect)
	if err != nil {
		return ""
	}
	if l, err := a.ledger(); err == nil {
		if set, err := l.Given(name, record.Set); err == nil {
			record.Set = set
		}
	}
	s := &Server{Record: record, Dialect: entry.Dialect, Missing: map[string]string{}}
	a.resolve(s)
	return s.Vars["port"]
}

// builds finds out the versions that mods have to fit.
func (a *App) builds(s *Server, now *survey.Survey) map[dialect.BuildOf]check.Build {
	if len(s.Dialect.Builds) == 0 {
		return nil
	}
	builds := map[dialect.BuildOf]check.Build{}
	for i := range s.Dialect.Builds {
		b := &s.Dialect.Builds[i]
		version, err := a.version(s, now, b)
		if err != nil && s.without(b.Of) {
			builds[b.Of] = check.Build{Absent: true, Problem: "none is there"}
		} else if err != nil {
			builds[b.Of] = check.Build{Problem: text.Clean(err.Error())}
		} else {
			builds[b.Of] = check.Build{Version: text.Clean(version)}
		}
	}
	return builds
}

// plainVersion finds a version in a line of words.
var plainVersion = regexp.MustCompile(`\bv?\d+(\.\d+)+[0-9A-Za-z.+-]*|\bv?\d+\b`)

func (a *App) version(s *Server, now *survey.Survey, b *dialect.Build) (string, error) {
	if b.Registration != "" {
		if set, ok := now.Lineup.Setting(b.Registration, b.Key); ok {
			return set.Value, nil
		}
		return "", fmt.Errorf("%s is not set in the %s", b.Key, b.Registration)
	}
	data, err := a.versionText(s, b)
	if err != nil {
		return "", err
	}
	if b.Format != "" {
		m := mod.Read([]dialect.Manifest{{File: "x", Format: b.Format, Release: b.Key}}, func(string) ([]byte, error) { return data, nil })
		if m.Problem != nil {
			return "", &m.Problem.Fault
		}
		if m.Release == "" {
			return "", fmt.Errorf("%s is not there", b.Key)
		}
		return m.Release, nil
	}
	for _, line := range strings.Split(string(data), "\n") {
		line = strings.TrimSpace(line)
		if p := b.LinePattern(); p != nil {
			if caps, ok := p.Match([]byte(line), nil); ok {
				return strings.TrimSpace(string(p.Get("version", []byte(line), caps))), nil
			}
			continue
		}
		if v := plainVersion.FindString(line); v != "" {
			return v, nil
		}
	}
	return "", fmt.Errorf("no version is in what was found")
}

// asked is what a version command said, for as long as its program is the same.
type asked struct {
	mu      sync.Mutex
	done    bool
	changed time.Time
	data    []byte
	err     error
}

// versionText reads a version's file, or runs its command. A command is run once
// for as long as its program does not change.
func (a *App) versionText(s *Server, b *dialect.Build) ([]byte, error) {
	if b.File != "" {
		name, ok := s.Vars.Expand(b.File)
		if !ok {
			return nil, fmt.Errorf("%s cannot be filled in", b.File)
		}
		return survey.Open(s.disk(), name, mod.MaxManifest)
	}
	if s.Record.Host != "" {
		return nil, fmt.Errorf("it stands at %s, where no command of it is run from here", s.Record.Host)
	}
	var command []string
	for _, word := range b.Command {
		value, ok := s.Vars.Expand(word)
		if !ok {
			return nil, fmt.Errorf("the word %q of the command cannot be filled in", word)
		}
		command = append(command, value)
	}
	var changed time.Time
	if info, err := theirs.Stat(command[0]); err == nil {
		changed = info.ModTime()
	}
	said := a.askedOf(strings.Join(command, "\x00"))
	said.mu.Lock() // nobody waits for it but who asks for the same
	defer said.mu.Unlock()
	if !said.done || !said.changed.Equal(changed) {
		said.data, said.err = host.AskVersion(command, folderOrRoot(s.Record.Dir))
		said.changed, said.done = changed, true
	}
	return said.data, said.err
}

// folderOrRoot is a folder, or the root where a server has none yet.
func folderOrRoot(dir string) string {
	if info, err := theirs.Stat(dir); err != nil || !info.IsDir() {
		return "/"
	}
	return filepath.Clean(dir)
}

// askedOf is what a command has said, or is to say.
func (a *App) askedOf(command string) *asked {
	a.mu.Lock()
	defer a.mu.Unlock()
	said := a.asked[command]
	if said == nil {
		said = &asked{}
		if a.asked == nil {
			a.asked = map[string]*asked{}
		}
		a.asked[command] = said
	}
	return said
}
