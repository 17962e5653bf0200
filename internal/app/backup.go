package app

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/text"
	"initium/internal/host"
)

// worldPatterns are the patterns of the files and folders of a server's world, whole.
func (s *Server) worldPatterns() (list []string) {
	plain := dialect.Vars{} // only the dialect writes patterns
	for name, value := range s.Vars {
		plain[name] = text.Literal(value)
	}
	for _, pattern := range s.Dialect.World.Paths {
		if full, ok := plain.Expand(pattern); ok {
			list = append(list, filepath.Clean(full))
		}
	}
	return list
}

// world lists the files and folders of a server's world that are there; where one is a
// link, what it leads to. The error says that one leads nowhere.
func (s *Server) world() (paths []string, err error) {
	for _, full := range s.worldPatterns() {
		hits, err := theirs.Glob(full)
		if err != nil {
			continue // Parse has checked it
		}
		for _, h := range hits {
			real, err := theirs.Real(h)
			if err != nil {
				return nil, fmt.Errorf("find the world: %w", err)
			}
			if !slices.Contains(paths, real) {
				paths = append(paths, real)
			}
		}
	}
	return paths, nil
}

// Backup writes a backup of a server's world and looks that it can be read. The
// error says when the server runs: its world is written to then.
func (a *App) Backup(ctx context.Context, name, why string, progress func(host.Progress)) (host.Backup, error) {
	s, err := a.Server(name)
	if err != nil {
		return host.Backup{}, err
	}
	if len(s.Dialect.World.Paths) == 0 {
		return host.Backup{}, usage("the dialect %s does not say where the world is ([world] paths = …)", s.Dialect.Name)
	}
	if a.Home.IsRunning(name) {
		return host.Backup{}, fmt.Errorf("%w, and writes to its world; stop it first (initium stop %s)", host.ErrRunning, name)
	}
	if s.Record.Host != "" {
		if err := a.worldHolds(ctx, s, progress); err != nil {
			return host.Backup{}, err
		}
	}
	paths, err := s.world()
	if err != nil {
		return host.Backup{}, err
	}
	if len(paths) == 0 {
		var looked []string
		for _, p := range s.Dialect.World.Paths {
			if full, ok := s.Vars.Expand(p); ok {
				looked = append(looked, full)
			}
		}
		return host.Backup{}, usage("%s has no world yet: nothing is at %s", name, strings.Join(looked, ", "))
	}
	return a.Home.WriteBackup(ctx, name, s.Record.Dir, why, paths, progress)
}

// worldHolds brings the world of a server here that stands at a host, and looks once more whether it has held still
// meanwhile: one that a running server writes to would be kept in parts of different moments.
func (a *App) worldHolds(ctx context.Context, s *Server, progress func(host.Progress)) error {
	if _, err := a.Sync(ctx, s.Record.Name, progress); err != nil {
		return err
	}
	again, err := a.Sync(ctx, s.Record.Name, nil)
	if err != nil {
		return err
	}
	for _, rel := range again.Pulled.Names {
		for _, pattern := range s.worldPatterns() {
			if within(filepath.Join(s.Record.Dir, rel), pattern) {
				return fmt.Errorf("%s changes at %s while it is fetched: the server runs there, and writes to its world; stop it there first", text.Clean(rel), s.Record.Host)
			}
		}
	}
	return nil
}

// within tells whether a path is one that a pattern names, or below one.
func within(full, pattern string) bool {
	for ; len(full) > 1; full = filepath.Dir(full) {
		if ok, err := filepath.Match(pattern, full); err == nil && ok {
			return true
		}
	}
	return false
}

// DropBackups takes backups away by their numbers.
func (a *App) DropBackups(name string, numbers []int) error {
	list, err := a.Backups(name)
	if err != nil {
		return err
	}
	for _, n := range numbers {
		if !slices.ContainsFunc(list, func(b host.Backup) bool { return b.Number == n }) {
			return usage("%s has no backup %d; initium backup %s --list shows them", name, n, name)
		}
	}
	for _, n := range numbers {
		if err := a.Home.DropBackup(name, n); err != nil {
			return err
		}
	}
	return nil
}

// KeepBackups takes all backups away but the newest. It returns how many went, and the bytes that they took.
func (a *App) KeepBackups(name string, newest int) (gone int, bytes int64, err error) {
	list, err := a.Backups(name)
	if err != nil || newest < 1 || len(list) <= newest {
		return 0, 0, err
	}
	for _, b := range list[:len(list)-newest] {
		if err := a.Home.DropBackup(name, b.Number); err != nil {
			return gone, bytes, err
		}
		gone, bytes = gone+1, bytes+b.Packed
	}
	return gone, bytes, nil
}

// Backups lists the backups of a server, oldest first.
func (a *App) Backups(name string) ([]host.Backup, error) {
	if _, err := a.Home.Record(name); err != nil {
		return nil, err
	}
	return a.Home.Backups(name)
}

// RestoreChange is the change that puts the world back as a backup has it; 0 is
// the newest.
func (a *App) RestoreChange(name string, number int) (lineup.Change, error) {
	list, err := a.Backups(name)
	if err != nil {
		return lineup.Change{}, err
	}
	if len(list) == 0 {
		return lineup.Change{}, usage("%s has no backup; initium backup %s makes one", name, name)
	}
	for _, b := range slices.Backward(list) {
		if number == 0 || b.Number == number {
			return lineup.Change{Op: lineup.OpRestore, Mod: fmt.Sprint(b.Number), Source: b.File}, nil
		}
	}
	return lineup.Change{}, usage("%s has no backup %d; initium backup %s --list shows them", name, number, name)
}

// itemsOf are the files of a backup, and its empty folders.
func itemsOf(p *parcel) (items []plan.Item) {
	entries := p.tree.Entries
	for i := range entries {
		e := &entries[i]
		it := plan.Item{Rel: e.Path, Source: p.source.Path, From: e.Content(), Size: e.Size, Sum: e.Sum, Exec: e.Exec}
		switch {
		case e.Kind == intake.Link:
			it.Link, it.Size, it.Sum, it.Exec, it.Source = e.Target, 0, [32]byte{}, false, ""
		case e.Kind == intake.Folder && len(p.tree.Below(e.Path)) > 0:
			continue
		case e.Kind == intake.Folder:
			it.Folder = true
		}
		items = append(items, it)
	}
	return items
}
