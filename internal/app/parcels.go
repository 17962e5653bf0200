package app

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"

	"initium/internal/core/connection"
	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/survey"
	"initium/internal/host"
	"initium/internal/host/archive"
	"initium/internal/host/disk"
)

// parcel is something that was looked into.
type parcel struct {
	source *archive.Source
	tree   *intake.Tree
}

// bounds are those that the operator has set, else the usual ones.
func bounds(c *lineup.Choices) intake.Bounds {
	b := intake.DefaultBounds()
	if c == nil {
		return b
	}
	if c.MostFiles > 0 {
		b.Files = c.MostFiles
	}
	if c.MostBytes > 0 {
		b.Bytes = c.MostBytes
	}
	if c.MostRatio > 0 {
		b.Ratio = c.MostRatio
	}
	b.Cases = c.Cases
	return b
}

// open looks into a source. What was looked into before, and has not changed, is
// not read again.
func (a *App) open(ctx context.Context, name string, b intake.Bounds, dialects []*dialect.Dialect, progress func(int64)) (*parcel, error) {
	full, err := filepath.Abs(name)
	if err != nil {
		return nil, err
	}
	source, err := archive.Open(full, archive.Options{Bounds: b, Dialects: dialects, Progress: progress})
	if err != nil {
		return nil, err
	}
	key := fmt.Sprint(full, b, len(dialects), dialects[0].Name)
	a.mu.Lock()
	known := a.parcels[key]
	a.mu.Unlock()
	if known != nil && known.source.Same(source) {
		return known, nil
	}
	tree, err := source.Read(ctx)
	if ctx.Err() != nil {
		return nil, fmt.Errorf("look into %s: stopped; nothing was written", name)
	}
	if err != nil {
		return nil, fmt.Errorf("look into %s: %w; nothing was written", name, err)
	}
	p := &parcel{source, tree}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.parcels == nil {
		a.parcels = map[string]*parcel{}
	}
	a.parcels[key] = p
	return p, nil
}

// target is a server as intake sees it, with parts of a plan that come before.
func (a *App) target(s *Server, now *survey.Survey, earlier []plan.Part) (*intake.Target, error) {
	l, err := a.ledger()
	if err != nil {
		return nil, err
	}
	view := theirs.Tree()
	return &intake.Target{
		Survey: now,
		List: func(path string) ([]plan.Item, error) {
			for i := range earlier {
				if earlier[i].Path == path {
					return nil, fmt.Errorf("another change that is planned puts something there; apply that first")
				}
			}
			return l.Digests().List(path)
		},
		Exists: func(path string) bool {
			_, err := fs.Stat(view, relative(path))
			return err == nil || plannedAt(earlier, path)
		},
		Release: func(path string) ([]plan.Item, bool) {
			items, ok, err := l.Release(path)
			return items, ok && err == nil
		},
		Owner: func(path string) intake.Owner {
			o, err := l.Owner(s.Record.Name, path)
			if err != nil {
				a.tell(err.Error())
			}
			return o
		},
		Laid: func(mod string) ([]intake.Laid, error) {
			return l.Laid(s.Record.Name, mod, func(other string) bool { return now.Find(other) != nil })
		},
		Made: func(path string) bool {
			made, err := l.Made(s.Record.Name, path)
			return made && err == nil
		},
		Writable: disk.Writable,
	}, nil
}

func plannedAt(parts []plan.Part, path string) bool {
	for i := range parts {
		if parts[i].Path == path && parts[i].New != "" {
			return true
		}
	}
	return false
}

func relative(path string) string { return path[1:] }

// overlay is the file system as it will be after parts and files of plans.
func (a *App) overlay(parts []plan.Part, files ...plan.File) fs.FS {
	if len(files) > 0 {
		return withFiles(a.overlay(parts), files)
	}
	disk := theirs.Tree()
	if len(parts) == 0 {
		return disk
	}
	a.mu.Lock()
	trees := map[string]*intake.Tree{}
	for _, p := range a.parcels {
		trees[p.source.Path] = p.tree
	}
	a.mu.Unlock()
	return intake.NewOverlay(disk, parts, func(source, from string) []byte {
		if t := trees[source]; t != nil {
			return t.Bytes(from)
		}
		return nil
	})
}

// withFiles is a file system with files as a plan would write them.
func withFiles(below fs.FS, files []plan.File) fs.FS {
	var parts []plan.Part
	holds := map[string][]byte{}
	for _, f := range files {
		if f.List || f.Gone || connection.IsPlace(f.Path) {
			continue
		}
		holds[f.Path] = f.Want
		parts = append(parts, plan.Part{Path: f.Path, New: f.Path, Items: []plan.Item{{Size: int64(len(f.Want)), Source: f.Path, From: f.Path}}})
	}
	return intake.NewOverlay(below, parts, func(_, from string) []byte { return holds[from] })
}

// fetch is where the files of a plan come from.
func (a *App) fetch(p *plan.Plan, progress func(host.Progress)) *host.Fetch {
	f := &host.Fetch{Sources: map[string]host.Copier{}, Progress: progress}
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, known := range a.parcels {
		f.Sources[known.source.Path] = known.source
	}
	return f
}
