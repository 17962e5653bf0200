package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
	"initium/internal/host/remote"
)

// HostSummary is a host in the list of all.
type HostSummary struct {
	host.HostRecord
	Servers []string
}

// Hosts lists the hosts that were added, with the servers that stand there.
func (a *App) Hosts() (list []HostSummary, err error) {
	names, err := a.Home.Hosts()
	if err != nil {
		return nil, err
	}
	servers, err := a.Home.Servers()
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		r, err := a.Home.Host(name)
		if err != nil {
			return nil, err
		}
		sum := HostSummary{HostRecord: r}
		for _, s := range servers {
			if record, err := a.Home.Record(s); err == nil && record.Host == name {
				sum.Servers = append(sum.Servers, s)
			}
		}
		list = append(list, sum)
	}
	return list, nil
}

// AddHost connects to a host and keeps where it is and whom one meets there. sure is asked whether the fingerprint is
// the right one; nil takes only the one that r has.
func (a *App) AddHost(ctx context.Context, r host.HostRecord, anew bool, sure func(fingerprint string) bool) (host.HostRecord, error) {
	if err := host.CheckName(r.Name); err != nil {
		return r, UsageError{err}
	}
	if _, err := a.Home.Host(r.Name); err == nil && !anew {
		return r, usage("%s is a host already; --anew says where it is, and whom you meet there, once more", r.Name)
	}
	address, err := remote.ParseAddress(r.URL)
	if err != nil {
		return r, UsageError{err}
	}
	r.URL = address.String()
	for _, file := range []*string{&r.Identity, &r.PasswordFile} {
		if *file != "" {
			*file = absolute(*file)
		}
	}
	asked := r.Pin
	r.Pin = ""
	// Nobody is told a password before it is clear who asks for it.
	first, seen, err := remote.Dial(ctx, address, remote.Login{Pin: "nobody"})
	if first != nil {
		_ = first.Close() // nothing is under way on it
	}
	if seen == "" && err != nil && !errors.Is(err, remote.ErrSecret) {
		return r, fmt.Errorf("the host %s: %w", r.Name, err)
	}
	switch {
	case seen == "":
	case asked != "" && asked != seen:
		return r, usage("%s shows the fingerprint %s, and not %s", address.Host, seen, text.Clean(asked))
	case asked == "" && (sure == nil || !sure(seen)):
		return r, usage("%s shows the fingerprint %s, which was not confirmed; say it with --fingerprint if it is the right one", address.Host, seen)
	}
	r.Pin, r.Added = seen, time.Now().UTC().Truncate(time.Second)
	f, err := host.DialHost(ctx, r, a.Secrets)
	if err != nil {
		return r, err
	}
	if err := f.Close(); err != nil && !errors.Is(err, remote.ErrLine) {
		a.Home.Log().Info("a host was left", "host", r.Name, "error", err)
	}
	return r, a.Home.PutHost(r)
}

// DropHost forgets a host that no server stands at.
func (a *App) DropHost(name string) error {
	list, err := a.Hosts()
	if err != nil {
		return err
	}
	for _, h := range list {
		if h.Name == name && len(h.Servers) > 0 {
			return usage("%s stands at %s; a host is dropped when no server does", strings.Join(h.Servers, ", "), name)
		}
	}
	return a.Home.DropHost(name)
}

// line is a connection to a host, for as long as this program runs.
type line struct {
	fs remote.FS
}

// hostLine is the line to a host; one that has broken is built up anew.
func (a *App) hostLine(ctx context.Context, name string) (remote.FS, error) {
	a.mu.Lock()
	l := a.lines[name]
	a.mu.Unlock()
	if l != nil {
		return l.fs, nil
	}
	r, err := a.Home.Host(name)
	if err != nil {
		return nil, err
	}
	f, err := host.DialHost(ctx, r, a.Secrets)
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.lines == nil {
		a.lines = map[string]*line{}
	}
	a.lines[name] = &line{f}
	return f, nil
}

// over does something over the line to a host. A line that broke is forgotten.
func (a *App) over(ctx context.Context, name string, do func(f remote.FS) error) error {
	f, err := a.hostLine(ctx, name)
	if err != nil {
		return err
	}
	if err = do(f); errors.Is(err, remote.ErrLine) {
		a.mu.Lock()
		delete(a.lines, name)
		a.mu.Unlock()
		_ = f.Close() // it is broken
	}
	return err
}

// hang ends all lines.
func (a *App) hang() {
	a.mu.Lock()
	defer a.mu.Unlock()
	for name, l := range a.lines {
		_ = l.fs.Close() // nothing is under way on it
		delete(a.lines, name)
	}
}

// mirror is that of a server that stands at a host: the files that register its mods arrive last, and its mods change
// as a whole.
func (a *App) mirror(r host.Record) *remote.Mirror {
	last := map[string]bool{}
	var s *Server
	if e, err := a.Dialect(r.Dialect); err == nil {
		s = &Server{Record: r, Dialect: e.Dialect, Missing: map[string]string{}, memory: a.memory(r.Name)}
		a.resolve(s)
		for i := range e.Dialect.Registrations {
			if file, ok := s.Vars.Expand(e.Dialect.Registrations[i].File); ok {
				last[strings.TrimPrefix(file, r.Dir+"/")] = true
			}
		}
	}
	return a.Home.MirrorOf(r, func(rel string) bool { return last[rel] }, func() (folders []string) {
		if s == nil {
			return nil
		}
		for _, m := range survey.Take(s.input()).Mods {
			if rel, ok := strings.CutPrefix(m.Path, r.Dir+"/"); ok && !m.Base {
				folders = append(folders, rel)
			}
		}
		return folders
	})
}

// Synced is what came of looking at a host, and of sending what had not arrived.
type Synced struct {
	Sent   []string // what had not arrived, and has now
	Pulled remote.Pulled
}

// Sync sends what was done here and has not arrived at the host of a server, and looks at it anew.
func (a *App) Sync(ctx context.Context, name string, progress func(host.Progress)) (*Synced, error) {
	return a.sync(ctx, name, true, progress)
}

// sync is Sync; without pull nothing is looked at but what is sent.
func (a *App) sync(ctx context.Context, name string, pull bool, progress func(host.Progress)) (*Synced, error) {
	r, err := a.Home.Record(name)
	if err != nil {
		return nil, err
	}
	if r.Host == "" {
		return nil, usage("%s is on this machine; there is nothing to bring here or there", name)
	}
	l, err := a.ledger()
	if err != nil {
		return nil, err
	}
	held, err := l.Hold(name)
	if err != nil {
		return nil, err
	}
	defer held.Close()
	m, s := a.mirror(r), &Synced{}
	err = a.over(ctx, r.Host, func(f remote.FS) error {
		if s.Sent, err = m.Ahead(); err == nil && len(s.Sent) > 0 {
			err = m.Push(ctx, f, told(progress))
		}
		if err == nil && pull {
			s.Pulled, err = m.Pull(ctx, f, told(progress))
		}
		return err
	})
	a.mu.Lock()
	defer a.mu.Unlock()
	a.synced, a.downs = made(a.synced), made(a.downs)
	a.synced[name] = syncing{time.Now(), err}
	if delete(a.downs, r.Host); errors.Is(err, remote.ErrLine) {
		a.downs[r.Host] = a.synced[name]
	}
	return s, err
}

// made is a map to write to.
func made[V any](m map[string]V) map[string]V {
	if m == nil {
		m = map[string]V{}
	}
	return m
}

func told(progress func(host.Progress)) func(remote.Progress) {
	if progress == nil {
		return nil
	}
	return func(p remote.Progress) {
		progress(host.Progress{Files: p.Files, AllFiles: p.AllFiles, Bytes: p.Bytes, AllBytes: p.AllBytes})
	}
}

// syncing is when a host was looked at last, and what came of it.
type syncing struct {
	at  time.Time
	err error
}

// looksAgain is how long a look at a host holds for those who only look.
const looksAgain = 30 * time.Second

// freshen looks at the host of a server now and then. What cannot be reached is told, and shown as it was seen last.
func (a *App) freshen(r host.Record) {
	if r.Host == "" {
		return
	}
	a.mu.Lock()
	last, ok := a.synced[r.Name]
	down := a.downs[r.Host]
	if lately := down.err != nil && time.Since(down.at) < looksAgain; lately && !ok { // another server there has waited for it
		a.synced = made(a.synced)
		a.synced[r.Name] = down
		last, ok = down, true
	}
	a.mu.Unlock()
	if ok && time.Since(last.at) < looksAgain {
		return
	}
	if s, err := a.Sync(context.Background(), r.Name, nil); err != nil {
		a.tell(fmt.Sprintf("%s is shown as it was seen last: %v", r.Name, err))
	} else if len(s.Sent) > 0 {
		a.tell(fmt.Sprintf("what had not arrived at %s has now: %s", r.Host, strings.Join(s.Sent, "; ")))
	}
}

// LineDown is why the host of a server could not be reached last; nil where it was.
func (a *App) LineDown(name string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.synced[name].err
}

// beforeChange looks at the host of a server right before something is changed there. The error says that nothing was.
func (a *App) beforeChange(ctx context.Context, r host.Record) error {
	if r.Host == "" {
		return nil
	}
	if _, err := a.Sync(ctx, r.Name, nil); err != nil {
		return fmt.Errorf("%w; nothing was changed", err)
	}
	return nil
}

// arrive sends what was done here to where the server stands.
func (a *App) arrive(ctx context.Context, r host.Record, progress func(host.Progress)) error {
	if r.Host == "" {
		return nil
	}
	if _, err := a.sync(ctx, r.Name, false, progress); err != nil {
		if errors.Is(err, remote.ErrChanged) {
			return fmt.Errorf("it is done here, and was not sent to %s: %w; take it back (initium undo %s), and plan it on what is there now", r.Host, err, r.Name)
		}
		return fmt.Errorf("it is done here, and has not all arrived at %s yet: %w; initium sync %s goes on", r.Host, err, r.Name)
	}
	return nil
}

// elsewhere refuses what only works where a server is run by Initium.
func (a *App) elsewhere(name, what string) error {
	r, err := a.Home.Record(name)
	if err != nil || r.Host == "" {
		return err
	}
	noted := ""
	if h, err := a.Home.Host(r.Host); err == nil && h.Notes != "" {
		noted = " (your notes: " + text.Clean(h.Notes) + ")"
	}
	return usage("cannot %s %s: it stands at %s, and is started and stopped there%s; hand its log in to have it judged (initium prove %s --from LOG)", what, name, r.Host, noted, name)
}

// atHost tells what stands at HOST:PATH; ok is false where that is no such place.
func (a *App) atHost(typed string) (r host.HostRecord, dir string, ok bool) {
	name, dir, cut := strings.Cut(typed, ":")
	if !cut {
		return r, "", false
	}
	if _, err := os.Stat(typed); err == nil {
		return r, "", false
	}
	r, err := a.Home.Host(name)
	return r, dir, err == nil
}

// adoptThere makes the mirror of a server at a host, and returns what is to be adopted.
func (a *App) adoptThere(ctx context.Context, h host.HostRecord, dir, as string) (r host.Record, err error) {
	address, err := remote.ParseAddress(h.URL)
	if err != nil {
		return r, err
	}
	whole := address.Whole(dir)
	if as == "" {
		as = path.Base(whole)
	}
	if err := host.CheckName(as); err != nil {
		return r, usage("%w; choose one with --as", err)
	}
	r = host.Record{Name: as, Dir: a.Home.MirrorDir(as), Host: h.Name, Path: whole}
	if old, err := a.Home.Record(as); err == nil && (old.Host != r.Host || old.Path != r.Path) {
		return r, usage("the name %s is taken by another server; choose another with --as", as)
	}
	err = a.over(ctx, h.Name, func(f remote.FS) error {
		if e, err := f.Stat(whole); err != nil || e.Kind != remote.Folder {
			if err == nil {
				err = fs.ErrNotExist
			}
			return fmt.Errorf("adopt %s: there is no such folder at %s (%w)", text.Clean(whole), h.Name, err)
		}
		if err := os.MkdirAll(filepath.Dir(r.Dir), 0o700); err != nil {
			return err
		}
		p, err := a.mirror(r).Pull(ctx, f, nil)
		for _, passed := range p.Passed {
			a.tell("passed over: " + passed)
		}
		if err == nil {
			a.mu.Lock()
			defer a.mu.Unlock()
			a.synced = made(a.synced)
			a.synced[as] = syncing{at: time.Now()} // whoever looks at it next need not ask again
		}
		return err
	})
	return r, err
}

// TestHost finds out what a host can do, with files that it writes into a folder there and takes away again, "" for
// where paths begin. It says each in words.
func (a *App) TestHost(ctx context.Context, name, folder string) (said []string, err error) {
	r, err := a.Home.Host(name)
	if err != nil {
		return nil, UsageError{err}
	}
	address, err := remote.ParseAddress(r.URL)
	if err != nil {
		return nil, err
	}
	err = a.over(ctx, name, func(f remote.FS) error {
		said, err = remote.Probe(ctx, f, address.Whole(folder))
		return err
	})
	return said, err
}
