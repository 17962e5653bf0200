package app

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"initium/internal/core/check"
	"initium/internal/core/dialect"
	"initium/internal/core/expect"
	"initium/internal/core/forecast"
	"initium/internal/core/lineup"
	"initium/internal/core/order"
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Server is an adopted server with all that is known before it is surveyed.
type Server struct {
	Record  host.Record
	Dialect *dialect.Dialect
	Vars    dialect.Vars
	Missing map[string]string // given values that do not exist, with what was looked for
	Parked  []lineup.Parked
	Rules   []rule.Rule

	Expected []expect.Expectation // what the operator expects of every start

	memory *survey.Memory
	fsys   fs.FS // what is seen of the disk; nil for all as it is

	uses map[string]string // the one of each part that a plan chooses: not yet what the files say

	isolated bool // it is started in a network of its own
}

// seeing is the server as it would be with other files on the disk.
func (s *Server) seeing(fsys fs.FS) *Server {
	other := *s
	other.fsys = fsys
	return &other
}

// disk is what is seen of the machine's files.
func (s *Server) disk() fs.FS {
	if s.fsys != nil {
		return s.fsys
	}
	return theirs.Tree()
}

// Server looks an adopted server up.
func (a *App) Server(name string) (*Server, error) {
	record, l, err := a.recovered(name)
	if err != nil {
		return nil, err
	}
	return a.assembled(record, l)
}

// assembled is what is known of a server, by its record and the ledger.
func (a *App) assembled(record host.Record, l *host.Ledger) (*Server, error) {
	name := record.Name
	entry, err := a.Dialect(record.Dialect)
	if err != nil {
		return nil, err
	}
	if record.Set, err = l.Given(name, record.Set); err != nil {
		return nil, err
	}
	s := &Server{Record: record, Dialect: entry.Dialect, Missing: map[string]string{}, memory: a.memory(name)}
	a.resolve(s)
	if s.Parked, err = l.Parked(name); err != nil {
		return nil, err
	}
	if s.Expected, err = l.Expectations(name); err != nil {
		return nil, err
	}
	s.Rules, err = l.Rules(name, s.Dialect.Name)
	return s, err
}

// memory is what earlier surveys of a server have found.
func (a *App) memory(name string) *survey.Memory {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.known == nil {
		a.known = map[string]*survey.Memory{}
	}
	if a.known[name] == nil {
		a.known[name] = &survey.Memory{}
	}
	return a.known[name]
}

// recovered looks an adopted server up in the ledger, and completes or takes back
// first what an earlier run left half done.
func (a *App) recovered(name string) (host.Record, *host.Ledger, error) {
	record, err := a.Home.Record(name)
	if err != nil {
		return record, nil, err
	}
	l, err := a.ledger()
	if err != nil {
		return record, nil, err
	}
	said, err := l.Recover(name)
	if said != "" {
		a.tell(said)
	}
	a.freshen(record)
	a.noteTurn(name)
	return record, l, err
}

// resolve works out the values of the dialect's variables.
func (a *App) resolve(s *Server) {
	s.Vars = dialect.Vars{"dir": s.Record.Dir, "initium": a.Exe, "form": a.Home.FormDir(s.Record.Name)}
	if home, err := os.UserHomeDir(); err == nil {
		s.Vars["user_home"] = home
	}
	s.resolveParts()
	s.resolveGiven()
	if s.resolveParts() { // a file that names one was only known with what is given
		s.resolveGiven()
	}
}

func (s *Server) resolveGiven() {
	for _, g := range s.Dialect.Givens {
		value, problem := s.given(&g)
		s.Vars[g.Name] = value
		if delete(s.Missing, g.Name); problem != "" {
			s.Missing[g.Name] = problem
		}
	}
}

// given finds the value of one given: what the operator said, else what a file
// says, else the first default that exists.
func (s *Server) given(g *dialect.Given) (value, problem string) {
	if value, ok := s.Record.Set[g.Name]; ok {
		return exists(g.Kind, value)
	}
	if g.From != nil {
		l := lineup.Read(s.Dialect, s.Vars, func(name string) ([]byte, error) { return survey.Source(s.disk(), name) }, nil)
		if set, ok := l.Setting(g.From.Registration, g.From.Key); ok && set.Value != "" {
			return set.Value, ""
		}
	}
	var tried []string
	for _, candidate := range g.Default {
		candidate, ok := s.Vars.Expand(candidate)
		if !ok {
			continue
		}
		if value, problem := exists(g.Kind, candidate); problem == "" {
			return value, ""
		}
		tried = append(tried, candidate)
	}
	switch {
	case g.Optional:
		return "", ""
	case len(tried) > 0:
		return tried[0], "looked for " + strings.Join(tried, ", ") + " and found none"
	}
	return "", "no value was given"
}

// exists checks a value against its kind. A program is returned with its path.
func exists(kind dialect.Kind, value string) (found, problem string) {
	switch kind {
	case dialect.KindProgram:
		file, err := exec.LookPath(value)
		if err != nil {
			return value, value + " is not there or cannot be run"
		}
		return file, ""
	case dialect.KindFolder, dialect.KindFile:
		info, err := theirs.Stat(value)
		if err != nil || info.IsDir() != (kind == dialect.KindFolder) {
			return value, fmt.Sprintf("%s is not a %s that is there", value, kind)
		}
	}
	return value, ""
}

func readFile(name string) ([]byte, error) {
	return survey.Source(theirs.Tree(), name)
}

func (s *Server) input() survey.Input {
	return survey.Input{Memory: s.memory, Server: s.Record.Name, Dialect: s.Dialect, Vars: s.Vars, Parked: s.Parked, Rules: s.Rules, FS: s.disk()}
}

// Survey finds out what is on a server now.
func (a *App) Survey(name string) (*survey.Survey, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	return survey.Take(s.input()), nil
}

// Look is a survey with what check says about it.
type Look struct {
	Server   *Server
	Survey   *survey.Survey
	Findings []check.Finding
	Forecast *forecast.Forecast
	Repair   order.Repair
	Running  bool
	Staged   []lineup.Change // gathered and not applied yet; the survey is as it will be after them
	Problem  string          // why the staged changes cannot be made any more
}

// Look surveys and checks a server.
func (a *App) Look(name string) (*Look, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	return a.look(s, survey.Take(s.input()))
}

// look checks a survey.
func (a *App) look(s *Server, now *survey.Survey) (*Look, error) {
	began := time.Now()
	defer func() {
		if took := time.Since(began); took > host.Slow {
			a.Home.Log().Info("checking a server took long", "server", s.Record.Name, "took", took, "mods", len(now.Mods))
		}
	}()
	look := &Look{Server: s, Survey: now, Running: a.Home.IsRunning(s.Record.Name)}
	facts, err := a.facts(s, now, look.Running)
	if err != nil {
		return nil, err
	}
	report := check.Run(now, facts)
	look.Findings, look.Forecast, look.Repair = report.Findings, report.Forecast, report.Repair
	return look, nil
}

// LookAhead looks at a server as it will be once the staged changes are made.
func (a *App) LookAhead(name string) (*Look, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	now := survey.Take(s.input())
	staged, err := a.Staged(name)
	if err != nil {
		return nil, err
	}
	if len(staged) == 0 {
		return a.look(s, now)
	}
	p, after, err := a.planOn(context.Background(), s, now, staged)
	if err != nil {
		look, lookErr := a.look(s, now)
		if look != nil {
			look.Staged, look.Problem = staged, text.Clean(err.Error())
		}
		return look, lookErr
	}
	look, err := a.look(a.planned(s, after, a.overlay(p.Parts, p.Files...)), after)
	if look != nil {
		look.Staged = staged
	}
	return look, err
}

func checkPort(port string) error {
	n, err := strconv.Atoi(port)
	if err != nil || n < 1 || n > 65535 {
		return fmt.Errorf("%q is no port; a port is a number from 1 to 65535", port)
	}
	return nil
}
