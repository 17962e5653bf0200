package app

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/plan"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Value is one of the values that a family of servers asks its operator for.
type Value struct {
	Name    string       `json:"name"`
	Kind    dialect.Kind `json:"kind"`
	About   string       `json:"about,omitempty"`
	Value   string       `json:"value"`             // that holds now, as it may be shown
	Hidden  bool         `json:"hidden,omitempty"`  // it holds a secret that is not shown
	Given   bool         `json:"given"`             // the operator has given it; else a file says it, or the family
	Problem string       `json:"problem,omitempty"` // why a start would not do with it
}

// Values are those of an adopted server.
func (a *App) Values(name string) ([]Value, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	return s.values(), nil
}

func (s *Server) values() (list []Value) {
	for _, g := range s.Dialect.Givens {
		_, given := s.Record.Set[g.Name]
		value := s.Vars[g.Name]
		shown := text.MaskValue(g.Name, value)
		problem := s.Missing[g.Name]
		if shown != value {
			problem = strings.ReplaceAll(problem, value, shown)
		}
		list = append(list, Value{Name: g.Name, Kind: g.Kind, About: g.About, Value: shown, Hidden: shown != value, Given: given, Problem: problem})
	}
	return list
}

// serverIn is a folder as if it were adopted as a server of a family.
func (a *App) serverIn(dir, family string) (*Server, error) {
	entry, err := a.Dialect(family)
	if err != nil {
		return nil, err
	}
	return &Server{Record: host.Record{Name: filepath.Base(dir), Dir: dir, Dialect: entry.Name}, Dialect: entry.Dialect, Missing: map[string]string{}, memory: &survey.Memory{}}, nil
}

// Candidate is a folder that may be adopted.
type Candidate struct {
	Dir      string
	Name     string   // that it would have; free
	Families []string // that can be chosen: those that recognise the folder first
	Fit      int      // how many do
}

// Candidate looks at a folder that may be adopted. The error says why it cannot be.
func (a *App) Candidate(dir string) (*Candidate, error) {
	// The screen hands a whole path over, and a host has a name without folders.
	if at := strings.IndexByte(dir, ':'); at >= 0 {
		typed := dir[strings.LastIndexByte(dir[:at], '/')+1:]
		if _, _, there := a.atHost(typed); there {
			return nil, usage("what stands at a host is adopted by a command: initium adopt %s", text.Clean(typed))
		}
	}
	dir, err := serverFolder(dir)
	if err != nil {
		return nil, err
	}
	list, err := a.Dialects()
	if err != nil {
		return nil, err
	}
	c := &Candidate{Dir: dir, Name: filepath.Base(dir)}
	var others []string
	for _, e := range list {
		switch {
		case e.Err != nil:
		case recognises(e.Dialect, dir):
			c.Families = append(c.Families, e.Name)
		default:
			others = append(others, e.Name)
		}
	}
	c.Fit = len(c.Families)
	c.Families = append(c.Families, others...)
	for n := 2; ; n++ {
		if old, err := a.Home.Record(c.Name); err != nil || old.Dir == dir {
			return c, nil
		}
		c.Name = fmt.Sprintf("%s-%d", filepath.Base(dir), n)
	}
}

// ValuesFor are the values that a folder would have as a server of a family, with those
// that are given. The error says which of them cannot be.
func (a *App) ValuesFor(dir, family string, set map[string]string) ([]Value, error) {
	s, err := a.serverIn(dir, family)
	if err != nil {
		return nil, err
	}
	if s.Record.Set, err = givenValues(s.Dialect, set); err != nil {
		return nil, err
	}
	a.resolve(s)
	return s.values(), nil
}

// errSoAlready refuses a change that would be none.
var errSoAlready = errors.New("there is nothing to change; it is so already")

// Give changes values of a server that the operator gives; "" takes his back, so that a
// file's or the family's holds again. It is an entry of the ledger. It returns what
// changed; the error says why nothing could.
func (a *App) Give(ctx context.Context, name string, set map[string]string) ([]plan.Given, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	said := maps.Clone(set)
	maps.DeleteFunc(said, func(_, value string) bool { return value == "" })
	if said, err = givenValues(s.Dialect, said); err != nil {
		return nil, err
	}
	p := &plan.Plan{}
	var words []string
	for _, key := range slices.Sorted(maps.Keys(set)) {
		if s.Dialect.Given(key) == nil {
			_, err := givenValues(s.Dialect, map[string]string{key: "?"})
			return nil, err
		}
		if g := (plan.Given{Name: key, Was: s.Record.Set[key], Now: said[key]}); g.Was != g.Now {
			p.Given = append(p.Given, g)
			words = append(words, g.String())
		}
	}
	if p.Empty() {
		return nil, UsageError{errSoAlready}
	}
	return p.Given, a.Return(ctx, name, p, "give: "+strings.Join(words, ", "))
}

// FamiliesOf tells which families recognise folders, by the folders that some do.
func (a *App) FamiliesOf(dirs []string) map[string]string {
	list, err := a.Dialects()
	if err != nil {
		return nil
	}
	families := map[string]string{}
	for _, dir := range dirs {
		var names []string
		for _, e := range list {
			if e.Err == nil && recognises(e.Dialect, dir) {
				names = append(names, e.Name)
			}
		}
		if len(names) > 0 {
			families[dir] = strings.Join(names, ", ")
		}
	}
	return families
}
