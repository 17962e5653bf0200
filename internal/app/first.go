package app

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"initium/internal/core/expect"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// Awaited is a file or folder that a first start should make.
type Awaited struct {
	Path  string `json:"path"`            // below the server's folder, or a whole path
	Mod   string `json:"mod,omitempty"`   // whose it is, "" for the server's
	Start int    `json:"start,omitempty"` // in which it came, 0 for none
	full  string
}

// First is what came of a server's first starts.
type First struct {
	Proof   *proof.Proof `json:"proof"` // of the last of them
	Starts  int          `json:"starts"`
	Awaited []Awaited    `json:"awaited"`
}

// Owed are those that have not come.
func (f *First) Owed() (list []Awaited) {
	for _, a := range f.Awaited {
		if a.Start == 0 {
			list = append(list, a)
		}
	}
	return list
}

// firstPatience is how long what mods make is waited for once the server is ready, where nobody has said how
// long it is to stay.
const firstPatience = 10 * time.Second

// FirstStart starts a server so that its mods make what they make at their first start: their settings, their
// stores. It waits until all that is awaited is there, stops the server, and starts it once more where
// something has not come. What is awaited are the things that the dialect says mods leave, the paths that the
// operator expects of every start, and those in also.
func (a *App) FirstStart(ctx context.Context, name string, also []string, opt ProveOptions) (*First, error) {
	s, err := a.Server(name)
	if err != nil {
		return nil, err
	}
	f := &First{}
	if f.Awaited, err = a.awaited(s, also); err != nil {
		return nil, err
	}
	const most = 2
	for f.Starts < most {
		f.Starts++
		if err := a.firstStart(ctx, name, f, opt); err != nil {
			return f, err
		}
		if len(f.Owed()) == 0 || f.Proof.Stopped || !f.Proof.Ready {
			break
		}
	}
	return f, nil
}

// awaited are the files and folders that are not there yet and should come.
func (a *App) awaited(s *Server, also []string) (list []Awaited, err error) {
	add := func(mod, full string) {
		full = filepath.Clean(full)
		if !slices.ContainsFunc(list, func(o Awaited) bool { return o.full == full }) && !there(full) {
			list = append(list, Awaited{Path: text.Clean(s.below(full)), Mod: text.Clean(mod), full: full})
		}
	}
	for _, left := range s.absentLeavings(survey.Take(s.input())) {
		add(left.Mod, left.Path)
	}
	expected, err := a.Expectations(s.Record.Name)
	if err != nil {
		return nil, err
	}
	for _, e := range expected {
		if e.Kind == expect.Path {
			add(e.Mod, filepath.Join(s.Record.Dir, e.Text))
		}
	}
	for _, p := range also {
		full := filepath.Join(s.Record.Dir, p)
		if filepath.IsAbs(p) || full != s.Record.Dir && !strings.HasPrefix(full, s.Record.Dir+"/") {
			return nil, usage("%s has to be a path below the server's folder", text.Clean(p))
		}
		add("", full)
	}
	return list, nil
}

func there(full string) bool {
	_, err := theirs.Lstat(full)
	return err == nil
}

// firstStart makes one start, and notes what has come in it.
func (a *App) firstStart(ctx context.Context, name string, f *First, opt ProveOptions) (err error) {
	opt.Keep = KeepAlways
	if f.Proof, err = a.Prove(ctx, name, opt); err != nil {
		return err
	}
	look := func() bool {
		for i := range f.Awaited {
			if w := &f.Awaited[i]; w.Start == 0 && there(w.full) {
				w.Start = f.Starts
			}
		}
		return len(f.Owed()) == 0
	}
	patience := opt.Stay
	if patience == 0 {
		patience = firstPatience
	}
	beat := time.NewTicker(100 * time.Millisecond)
	defer beat.Stop()
	over := time.After(patience)
	for waiting := true; waiting && !look() && a.Home.IsRunning(name) && f.Proof.Ready; {
		select {
		case <-beat.C:
		case <-over:
			waiting = false
		case <-ctx.Done():
			waiting = false
		}
	}
	if a.Home.IsRunning(name) {
		if _, err := a.Stop(context.WithoutCancel(ctx), name); err != nil && a.Home.IsRunning(name) {
			return err
		}
	}
	look() // some are written when the server stops
	return ctx.Err()
}
