// Package recipe holds what was done to a server in a form that can be read, compared and done again on
// another one: a folder with recipe.toml and the texts that its steps put in place.
package recipe

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"initium/internal/core/expect"
	"initium/internal/core/lineup"
	"initium/internal/core/rule"
	"initium/internal/core/text"
)

// File is the file of a recipe in its folder. MaxFile is the largest that is read, in bytes, MaxText the largest
// text beside it.
const (
	File    = "recipe.toml"
	MaxFile = 1 << 20
	MaxText = 4 << 20
)

// Recipe is what was done.
type Recipe struct {
	Name    string   `toml:"name"`
	Dialect string   `toml:"dialect"` // of the servers that it is for
	About   string   `toml:"about,omitempty"`
	Await   []string `toml:"await,omitempty"`    // files that a first start has to make, below the server's folder
	Left    []string `toml:"left_out,omitempty"` // what was done and is not in it, in words
	Own     []Own    `toml:"own,omitempty"`      // settings that are each server's own
	Steps   []Step   `toml:"step"`
	Rules   []Rule   `toml:"rule,omitempty"`
	Expects []Expect `toml:"expect,omitempty"`
}

// Own is a setting that every server has its own value of.
type Own struct {
	Name  string `toml:"name"`
	File  string `toml:"file,omitempty"` // below the server's folder
	About string `toml:"about,omitempty"`
}

// Step is one change, in the order in which they are made.
type Step struct {
	Do      string `toml:"do"` // the words of a lineup.Op
	Mod     string `toml:"mod,omitempty"`
	Mods    []Mod  `toml:"mods,omitempty"`   // that are taken in
	Source  string `toml:"source,omitempty"` // the name of what they came in
	File    string `toml:"file,omitempty"`   // below the server's folder
	Name    string `toml:"name,omitempty"`   // of a setting; the first line of a block; keys of JSON; the title of a section
	Value   string `toml:"value,omitempty"`
	AsSaid  bool   `toml:"as_said,omitempty"`
	Text    string `toml:"text,omitempty"` // the name of the file, in the recipe's folder, with what is put there
	Before  string `toml:"before,omitempty"`
	After   string `toml:"after,omitempty"`
	Section string `toml:"section,omitempty"`
	List    string `toml:"list,omitempty"` // which registration
}

// Mod is a mod that comes.
type Mod struct {
	Name    string `toml:"name"`
	Release string `toml:"release,omitempty"`
	Sum     string `toml:"sum,omitempty"` // the digest of its files
}

// Rule is what was written down about a mod.
type Rule struct {
	Mod     string `toml:"mod"`
	Kind    string `toml:"kind"`
	Other   string `toml:"other,omitempty"`
	Because string `toml:"because,omitempty"`
}

// Expect is what every start has to show.
type Expect struct {
	Mod     string `toml:"mod,omitempty"`
	Kind    string `toml:"kind"`
	Text    string `toml:"text"`
	Ask     string `toml:"ask,omitempty"`
	Fact    string `toml:"fact,omitempty"`
	Because string `toml:"because,omitempty"`
}

// steps are the changes that a recipe can have.
var steps = []lineup.Op{lineup.OpTake, lineup.OpRemove, lineup.OpRegister, lineup.OpUnregister, lineup.OpMove, lineup.OpOff, lineup.OpOn, lineup.OpSet, lineup.OpUnset,
	lineup.OpWrite, lineup.OpBlock, lineup.OpAddTo, lineup.OpPutAt, lineup.OpMerge, lineup.OpUnmerge, lineup.OpNewSection, lineup.OpRenameSection, lineup.OpMoveSection, lineup.OpScript}

// named are those whose Name is what a change has in the place of a mod.
var named = []lineup.Op{lineup.OpSet, lineup.OpUnset, lineup.OpBlock, lineup.OpAddTo, lineup.OpPutAt, lineup.OpNewSection, lineup.OpRenameSection, lineup.OpMoveSection}

// putting are those that put a text in place.
var putting = []lineup.Op{lineup.OpWrite, lineup.OpBlock, lineup.OpAddTo, lineup.OpPutAt}

// Known tells whether a recipe can have a change.
func Known(op lineup.Op) bool { return slices.Contains(steps, op) }

// Puts tells whether a change puts a text in place.
func Puts(op lineup.Op) bool { return slices.Contains(putting, op) }

// StepOf is a change as a step of a recipe; below makes a path one below the server's folder, ok is false for a
// change that cannot be repeated elsewhere.
func StepOf(c lineup.Change, below func(string) (string, bool)) (s Step, ok bool) {
	s = Step{Do: string(c.Op), Value: c.To, AsSaid: c.AsSaid, Before: c.Where.Before, After: c.Where.After, Section: c.Where.Section, List: c.Registration}
	if slices.Contains(named, c.Op) {
		s.Name = c.Mod
	} else {
		s.Mod = c.Mod
	}
	if c.Op == lineup.OpScript { // on whatever database the server has, with the script beside the recipe
		s.Value, s.AsSaid = "", false
		return s, true
	}
	if c.File != "" {
		if s.File, ok = below(c.File); !ok {
			return s, false
		}
	}
	return s, Known(c.Op) && c.Line == 0
}

// Change is the change that a step makes to a server whose folder is dir. content is what the step puts there.
func (s *Step) Change(dir string, content []byte) lineup.Change {
	c := lineup.Change{Op: lineup.Op(s.Do), Mod: s.Mod, To: s.Value, AsSaid: s.AsSaid, Registration: s.List, Content: content,
		Where: lineup.Where{Before: s.Before, After: s.After, Section: s.Section}}
	if slices.Contains(named, c.Op) {
		c.Mod = s.Name
	}
	if s.File != "" {
		c.File = path.Join(dir, s.File)
	}
	return c
}

// Rule is the rule as it is written down.
func (r *Rule) Rule() rule.Rule {
	return rule.Rule{Mod: r.Mod, Kind: rule.Kind(r.Kind), Other: r.Other, Because: r.Because}
}

// Expectation is the expectation as it is written down.
func (e *Expect) Expectation() expect.Expectation {
	return expect.Expectation{Mod: e.Mod, Kind: expect.Kind(e.Kind), Text: e.Text, Ask: e.Ask, Fact: e.Fact, Because: e.Because}
}

// Write writes a recipe as TOML.
func (r *Recipe) Write() ([]byte, error) {
	var b bytes.Buffer
	enc := toml.NewEncoder(&b)
	enc.SetIndentTables(false)
	if err := enc.Encode(r); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// Read reads a recipe and checks it. The error says what is wrong and where.
func Read(data []byte) (*Recipe, error) {
	if len(data) > MaxFile {
		return nil, fmt.Errorf("%s is larger than the %d bytes that a recipe may have", File, MaxFile)
	}
	r := &Recipe{}
	dec := toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields()
	if err := dec.Decode(r); err != nil {
		if strict := new(toml.StrictMissingError); errors.As(err, &strict) && len(strict.Errors) > 0 {
			line, _ := strict.Errors[0].Position()
			return nil, fmt.Errorf("%s:%d: a recipe has no key %q", File, line, text.Clean(strings.Join(strict.Errors[0].Key(), ".")))
		}
		if bad := new(toml.DecodeError); errors.As(err, &bad) {
			line, _ := bad.Position()
			return nil, fmt.Errorf("%s:%d: %s", File, line, strings.TrimPrefix(bad.Error(), "toml: "))
		}
		return nil, fmt.Errorf("%s: %w", File, err)
	}
	if r.Dialect == "" {
		return nil, fmt.Errorf("%s: dialect is needed: the family of servers that it is for", File)
	}
	for i := range r.Steps {
		if err := r.Steps[i].check(); err != nil {
			return nil, fmt.Errorf("%s: step %d: %w", File, i+1, err)
		}
	}
	for i := range r.Rules {
		one := r.Rules[i].Rule()
		if err := one.Check(); err != nil {
			return nil, fmt.Errorf("%s: rule %d: %w", File, i+1, err)
		}
	}
	for i := range r.Expects {
		if err := r.Expects[i].Expectation().Check(); err != nil {
			return nil, fmt.Errorf("%s: expect %d: %w", File, i+1, err)
		}
	}
	for _, p := range r.Await {
		if !isBelow(p) {
			return nil, fmt.Errorf("%s: await: %s has to be a path below the server's folder", File, text.Clean(p))
		}
	}
	return r, nil
}

// isBelow tells a path that stays below a folder.
func isBelow(p string) bool {
	return p != "" && !path.IsAbs(p) && path.Clean(p) == p && p != ".." && p != "." && !strings.HasPrefix(p, "../") && text.Clean(p) == p && !strings.Contains(p, "\\")
}

func (s *Step) check() error {
	op := lineup.Op(s.Do)
	switch {
	case !Known(op):
		return fmt.Errorf("%q is nothing that a recipe can do", text.Clean(s.Do))
	case s.File != "" && !isBelow(s.File):
		return fmt.Errorf("%s has to be a path below the server's folder", text.Clean(s.File))
	case op == lineup.OpScript && s.Text == "":
		return errors.New("text is needed: the script that is run")
	case Puts(op) && (s.File == "" || s.Text == ""):
		return errors.New("file and text are needed: where it is put, and what")
	case s.Text != "" && (!isBelow(s.Text) || strings.Contains(s.Text, "/") || s.Text == File):
		return fmt.Errorf("the text %q has to be a file in the recipe's folder", text.Clean(s.Text))
	case op == lineup.OpTake && len(s.Mods) == 0:
		return errors.New("mods are needed: what is taken in")
	case strings.ContainsAny(s.Source, `/\`):
		return fmt.Errorf("the source %q has to be a name, without a folder", text.Clean(s.Source))
	case (op == lineup.OpSet || op == lineup.OpUnset) && (s.File == "" || s.Name == ""):
		return errors.New("file and name are needed: what is set where")
	}
	return nil
}

// String says a step as an operator would.
func (s *Step) String() string {
	c := s.Change("", nil)
	if c.Op == lineup.OpTake {
		var names []string
		for _, m := range s.Mods {
			names = append(names, strings.TrimSpace(text.Clean(m.Name+" "+m.Release)))
		}
		return "take in " + strings.Join(names, ", ")
	}
	said := c.String()
	if c.Op == lineup.OpScript {
		return "run " + text.Clean(s.Text) + " on the server's database"
	}
	if s.File != "" {
		said = strings.TrimSuffix(said, path.Base(s.File)) + text.Clean(s.File)
	}
	return said
}
