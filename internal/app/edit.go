package app

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"mvdan.cc/sh/v3/shell"

	"initium/internal/core/lineup"
	"initium/internal/core/planner"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Edit is a file of a server that is edited as a whole: on a copy, so that what was changed becomes a plan
// as every other change does.
type Edit struct {
	File    string // its whole path
	copy    string
	before  []byte
	program []string
}

// BeginEdit copies a file of a server for the operator's editor: VISUAL, or EDITOR, or else "editor" or "vi".
func (a *App) BeginEdit(server, file string) (*Edit, error) {
	e := &Edit{}
	var err error
	if e.program, err = editor(os.Getenv); err != nil {
		return nil, err
	}
	s, p, err := a.planAfterStaged(context.Background(), server)
	if err != nil {
		return nil, err
	}
	if e.File, err = s.fileOf(p.Seen().Lineup, file); err != nil {
		return nil, err
	}
	if e.before, err = p.File(e.File); err != nil {
		return nil, fmt.Errorf("read %s: %w", text.Clean(e.File), err)
	}
	dir, err := os.MkdirTemp("", "initium-edit-") // for the operator alone
	if err != nil {
		return nil, err
	}
	e.copy = filepath.Join(dir, filepath.Base(e.File))
	return e, host.WritePrivate(e.copy, e.before)
}

// editor is the command that edits a file.
func editor(getenv func(string) string) ([]string, error) {
	for _, name := range []string{"VISUAL", "EDITOR"} {
		said := getenv(name)
		if _, err := exec.LookPath(said); err == nil { // a path with blanks, perhaps
			return []string{said}, nil
		}
		words, err := shell.Fields(said, getenv) // quotes mean what they mean to a shell
		if err != nil {
			return nil, usage("what %s says is no command: %v", name, err)
		}
		if len(words) > 0 {
			return words, nil
		}
	}
	for _, name := range []string{"editor", "vi"} {
		if _, err := exec.LookPath(name); err == nil {
			return []string{name}, nil
		}
	}
	return nil, usage("no editor is known: say in the variable EDITOR which one is meant")
}

// Command runs the editor on the copy.
func (e *Edit) Command() *exec.Cmd {
	return exec.Command(e.program[0], append(e.program[1:], e.copy)...)
}

// Done takes the copy away and returns the change that writes the file as it was edited; ok is false where
// nothing was.
func (e *Edit) Done() (c lineup.Change, ok bool, err error) {
	defer os.RemoveAll(filepath.Dir(e.copy))
	now, err := os.ReadFile(e.copy)
	if err != nil {
		return c, false, err
	}
	if len(now) > maxSettingFile {
		return c, false, fmt.Errorf("%s has grown to %d bytes, and at most %d are taken; nothing is changed", text.Clean(filepath.Base(e.File)), len(now), maxSettingFile)
	}
	return lineup.Change{Op: lineup.OpWrite, File: e.File, Content: now, Before: planner.Sum(e.before)}, !bytes.Equal(now, e.before), nil
}

// PutChange is the change that puts what a source holds into a file of a server: instead of a block, which is
// named by its first line, at the end of one, at a path of keys of a JSON document, or as the whole file.
func (a *App) PutChange(server, file, source string, block, into, at string) (c lineup.Change, err error) {
	s, err := a.Server(server)
	if err != nil {
		return c, err
	}
	full, err := s.fileOf(survey.Take(s.input()).Lineup, file)
	if err != nil {
		return c, err
	}
	if source, err = filepath.Abs(source); err != nil {
		return c, err
	}
	content, err := survey.Open(theirs.Tree(), source, maxSettingFile)
	if err != nil {
		return c, fmt.Errorf("read %s: %w", text.Clean(source), err)
	}
	c = lineup.Change{Op: lineup.OpWrite, File: full, Content: content}
	said := 0
	for op, where := range map[lineup.Op]string{lineup.OpBlock: block, lineup.OpAddTo: into, lineup.OpPutAt: at} {
		if where != "" {
			c.Op, c.Mod = op, where
			said++
		}
	}
	if said > 1 {
		return c, usage("say one of --block, --into and --at")
	}
	return c, nil
}
