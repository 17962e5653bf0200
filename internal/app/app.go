// Package app has one function for each thing that an operator does. The
// commands, the screen and the tests call it and nothing below it.
package app

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"time"

	"initium/dialects"
	"initium/internal/core/connection"
	"initium/internal/core/dialect"
	"initium/internal/core/survey"
	"initium/internal/core/table"
	"initium/internal/core/text"
	"initium/internal/host"
	"initium/internal/host/disk"
	"initium/internal/host/remote"
	"initium/internal/standin/landlord"
)

// App is Initium for one operator.
type App struct {
	Home host.Home
	Exe  string // the path of the program itself, which also is the keeper

	Passing   bool           // the servers end with this program, as in the demo
	Secrets   remote.Secrets // who is asked for a host's password; nil for nobody
	Downloads string         // the folder where what is to be taken in is looked for first; "" for where the program was started

	landlord *landlord.Landlord // of the demo; else nil

	once   sync.Once
	opened *host.Ledger
	failed error

	mu    sync.Mutex // guards what follows: a screen asks for several things at once
	notes []string
	asked map[string]*asked         // by the version command
	read  map[string]DialectEntry   // by file
	known map[string]*survey.Memory // by server
	noted map[string]bool           // servers of which it was told that a change was cut off

	parcels   map[string]*parcel        // what was looked into
	tables    map[string]*readTable     // by their files
	came      map[string][]table.Origin // which mods brought their entries
	databases map[connection.Connection]answered
	counts    map[string]*count  // who is in, by server
	lines     map[string]*line   // to hosts
	synced    map[string]syncing // servers that stand at hosts
	downs     map[string]syncing // hosts that could not be reached

	scripts map[string]*script // what came of those that were tried, for as long as a plan is looked at again and again
}

// theirs are the files of servers, all of which are on this machine.
var theirs disk.Files = disk.Local{}

func (a *App) tell(said string) {
	a.Home.Log().Info(said)
	a.mu.Lock()
	defer a.mu.Unlock()
	a.notes = append(a.notes, said)
}

// Notes hands out, once, what the operator has to be told besides: changes that
// had been cut off, and what was done about them.
func (a *App) Notes() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	notes := a.notes
	a.notes = nil
	return notes
}

// ledger opens the ledger when it is first needed.
func (a *App) ledger() (*host.Ledger, error) {
	a.once.Do(func() {
		if a.opened, a.failed = a.Home.OpenLedger(); a.failed == nil {
			a.opened.Connects(a.connection)
		}
	})
	return a.opened, a.failed
}

// Close closes what was opened.
func (a *App) Close() error {
	a.hang()
	a.endCounts()
	var err error
	if a.landlord != nil {
		err = a.landlord.Close()
	}
	if a.opened == nil {
		return err
	}
	return errors.Join(err, a.opened.Close())
}

// New finds the operator's home and this program.
func New() (*App, error) {
	home, err := host.FindHome()
	if err != nil {
		return nil, err
	}
	exe, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("find the program itself: %w", err)
	}
	return &App{Home: home, Exe: exe}, nil
}

// UsageError is a wish that cannot be carried out as it was put.
type UsageError struct{ Err error }

func (e UsageError) Error() string { return e.Err.Error() }

// Unwrap returns the cause.
func (e UsageError) Unwrap() error { return e.Err }

func usage(format string, args ...any) error { return UsageError{fmt.Errorf(format, args...)} }

// DialectEntry is a dialect that is known, with the file that it comes from and
// what is wrong with it.
type DialectEntry struct {
	Name    string
	File    string // for one that ships with Initium: a name without folders
	Own     bool   // the operator's
	Dialect *dialect.Dialect
	Data    []byte
	Err     error
}

// Dialects lists the dialects that ship with Initium and the operator's own. An
// own one takes the place of a shipped one with the same name.
func (a *App) Dialects() ([]DialectEntry, error) {
	known := map[string]DialectEntry{}
	shipped, err := fs.ReadDir(dialects.FS, ".")
	if err != nil {
		return nil, err
	}
	for _, e := range shipped {
		data, err := dialects.FS.ReadFile(e.Name())
		if err != nil {
			return nil, err
		}
		entry := a.readDialect(e.Name(), data)
		known[entry.Name] = entry
	}
	own, err := os.ReadDir(a.Home.DialectDir())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, e := range own {
		if filepath.Ext(e.Name()) != ".toml" {
			continue
		}
		file := filepath.Join(a.Home.DialectDir(), e.Name())
		entry := DialectEntry{Name: strings.TrimSuffix(filepath.Base(file), ".toml"), File: file}
		if data, err := os.ReadFile(file); err != nil {
			entry.Err = err
		} else {
			entry = a.readDialect(file, data)
		}
		entry.Own = true
		known[entry.Name] = entry
	}
	list := make([]DialectEntry, 0, len(known))
	for _, e := range known {
		list = append(list, e)
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Name < list[j].Name })
	return list, nil
}

// readDialect reads a dialect; one that has not changed is not read again.
func (a *App) readDialect(file string, data []byte) DialectEntry {
	a.mu.Lock()
	defer a.mu.Unlock()
	if e, ok := a.read[file]; ok && bytes.Equal(e.Data, data) {
		return e
	}
	e := parseDialect(file, data)
	if a.read == nil {
		a.read = map[string]DialectEntry{}
	}
	a.read[file] = e
	return e
}

func parseDialect(file string, data []byte) DialectEntry {
	e := DialectEntry{Name: strings.TrimSuffix(filepath.Base(file), ".toml"), File: file, Data: data}
	if e.Dialect, e.Err = dialect.Parse(file, data); e.Err == nil {
		e.Name = e.Dialect.Name
	}
	return e
}

// Dialect finds a dialect by name.
func (a *App) Dialect(name string) (DialectEntry, error) {
	list, err := a.Dialects()
	if err != nil {
		return DialectEntry{}, err
	}
	var names []string
	for _, e := range list {
		if e.Name == name {
			if e.Err != nil {
				return e, fmt.Errorf("the dialect %s has faults:\n%w", name, e.Err)
			}
			return e, nil
		}
		names = append(names, e.Name)
	}
	return DialectEntry{}, usage("there is no dialect %q; there are: %s", text.Clean(name), strings.Join(names, ", "))
}

// CheckDialect reads a dialect, by its file or its name, and says what is wrong with it.
func (a *App) CheckDialect(file string) (*dialect.Dialect, error) {
	info, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) || err == nil && info.IsDir() {
		list, _ := a.Dialects() // without them there is no such file
		for _, e := range list {
			if e.Name == file {
				return e.Dialect, e.Err
			}
		}
	}
	if err != nil {
		return nil, err
	}
	if info.Size() > dialect.MaxSize {
		return nil, fmt.Errorf("%s is larger than a dialect may be (%d bytes)", file, dialect.MaxSize)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return dialect.Parse(file, data)
}

// recognise finds the one dialect that a folder belongs to.
func (a *App) recognise(dir string) (string, error) {
	list, err := a.Dialects()
	if err != nil {
		return "", err
	}
	var hits []string
	faults := ""
	for _, e := range list {
		if e.Err != nil {
			faults += fmt.Sprintf("; %s has faults and was not tried (initium dialect check %[1]s)", text.Clean(e.Name))
		} else if recognises(e.Dialect, dir) {
			hits = append(hits, e.Name)
		}
	}
	switch len(hits) {
	case 1:
		return hits[0], nil
	case 0:
		return "", usage("no dialect recognises %s; name one with --dialect (initium dialect list)%s", dir, faults)
	}
	return "", usage("several dialects recognise %s: %s; name one with --dialect", dir, strings.Join(hits, ", "))
}

func recognises(d *dialect.Dialect, dir string) bool {
	for _, f := range d.Recognise.Files {
		if _, err := theirs.Stat(filepath.Join(dir, filepath.FromSlash(f))); err != nil {
			return false
		}
	}
	return len(d.Recognise.Files) > 0
}

// serverFolder is the whole path of a folder that is to be adopted.
func serverFolder(typed string) (string, error) {
	dir, err := filepath.Abs(typed)
	if err != nil {
		return "", err
	}
	info, err := theirs.Stat(dir)
	if err != nil {
		return "", fmt.Errorf("adopt %s: %w", typed, err)
	}
	if !info.IsDir() {
		return "", fmt.Errorf("adopt %s: it is a file; name the server's folder", typed)
	}
	return dir, nil
}

// Adoption is what the operator says when he adopts a server.
type Adoption struct {
	Dir     string
	Dialect string // "" to recognise it
	As      string // "" for the name of the folder
	Set     map[string]string
}

// Adopt takes a server into Initium's care. Nothing is written into the
// server's folder. A server that is adopted again keeps its starts, and every value that
// is not given anew.
func (a *App) Adopt(ctx context.Context, ad Adoption) (host.Record, error) {
	h, at, away := a.atHost(ad.Dir)
	var there host.Record
	var err error
	if away {
		if there, err = a.adoptThere(ctx, h, at, ad.As); err != nil {
			return host.Record{}, err
		}
		ad.Dir, ad.As = there.Dir, there.Name
	}
	dir, err := serverFolder(ad.Dir)
	if err != nil {
		return host.Record{}, err
	}
	if ad.Dialect == "" {
		if ad.Dialect, err = a.recognise(dir); err != nil {
			return host.Record{}, err
		}
	}
	entry, err := a.Dialect(ad.Dialect)
	if err != nil {
		return host.Record{}, err
	}
	if ad.As == "" {
		ad.As = filepath.Base(dir)
	}
	if err := host.CheckName(ad.As); err != nil {
		return host.Record{}, usage("%w; choose one with --as", err)
	}
	old, oldErr := a.Home.Record(ad.As)
	if oldErr == nil && old.Dir != dir {
		return host.Record{}, usage("the name %s is taken by the server in %s; choose another with --as", ad.As, old.Dir)
	}
	set, err := givenValues(entry.Dialect, ad.Set)
	if err != nil {
		return host.Record{}, err
	}
	r := host.Record{Name: ad.As, Dir: dir, Dialect: entry.Name, Set: set, Adopted: time.Now().UTC().Truncate(time.Second), Host: there.Host, Path: there.Path}
	if oldErr == nil {
		r = old
		r.Dialect = entry.Name
	}
	if err := a.Home.PutRecord(r); err != nil {
		return r, err
	}
	if oldErr == nil && len(set) > 0 {
		if _, err := a.Give(ctx, r.Name, set); err != nil && !errors.Is(err, errSoAlready) {
			return r, err
		}
		s, err := a.Server(r.Name)
		if err != nil {
			return r, err
		}
		r = s.Record
	}
	_, err = a.TakeBaseline(r.Name)
	return r, err
}

// givenValues checks the values of --set and makes paths absolute.
func givenValues(d *dialect.Dialect, set map[string]string) (map[string]string, error) {
	values := map[string]string{}
	for name, value := range set {
		g := d.Given(name)
		if g == nil {
			var known []string
			for _, g := range d.Givens {
				known = append(known, g.Name)
			}
			if len(known) == 0 {
				return nil, usage("%s takes no value %q; it takes none", d.Title, text.Clean(name))
			}
			return nil, usage("%s takes no value %q; it takes: %s", d.Title, text.Clean(name), strings.Join(known, ", "))
		}
		if strings.ContainsAny(value, "\x00\n\r") {
			return nil, usage("the value of %s is more than one line", name)
		}
		if value == "" {
			return nil, usage("the value of %s is empty; leave it out, and the family's own holds", name)
		}
		switch g.Kind {
		case dialect.KindPort:
			if err := checkPort(value); err != nil {
				return nil, usage("%s: %w", name, err)
			}
		case dialect.KindFolder, dialect.KindFile:
			value = absolute(value)
		case dialect.KindProgram:
			if strings.ContainsRune(value, filepath.Separator) {
				value = absolute(value)
			}
		}
		values[name] = value
	}
	return values, nil
}

func absolute(p string) string {
	if abs, err := filepath.Abs(p); err == nil {
		return abs
	}
	return p
}
