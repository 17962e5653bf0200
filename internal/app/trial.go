package app

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/proof"
	"initium/internal/core/survey"
	"initium/internal/host"
	"initium/internal/host/disk"
)

// trial is a copy of a server that may be started with any part of its line-up:
// in a folder of its own, on a port of its own, with a world of its own. What lies
// outside the server's folder is shared, and only read.
type trial struct {
	a      *App
	server *Server // the copy
	name   string  // by which its keeper knows it
	folder string  // of the copy, and of what is set aside
	whole  *survey.Survey
	files  map[string][]byte // the startup files, as they are with everything on
	aside  [][2]string       // what is moved away for now: from, to
}

// newTrial copies a server. The caller has to remove the copy.
func (a *App) newTrial(ctx context.Context, original *Server) (t *trial, err error) {
	t = &trial{a: a, folder: a.Home.TrialDir(original.Record.Name), name: original.Record.Name + host.TrialSuffix}
	if a.Home.IsRunning(t.name) { // left over from a search that was ended by force
		if _, err := a.Home.StopServer(ctx, t.name); err != nil {
			return nil, fmt.Errorf("stop an earlier copy: %w", err)
		}
	}
	if err := t.remove(); err != nil {
		return nil, err
	}
	dir := filepath.Join(t.folder, "server")
	if err := disk.CopyFolder(ctx, original.Record.Dir, dir); err != nil {
		return nil, fmt.Errorf("copy the server: %w", err)
	}
	port, err := freePort(trialPort)
	if err != nil {
		return nil, err
	}
	record := original.Record
	record.Name, record.Dir, record.Set = t.name, dir, maps.Clone(record.Set)
	if record.Set == nil {
		record.Set = map[string]string{}
	}
	for name, value := range record.Set {
		if rest, ok := strings.CutPrefix(value, original.Record.Dir+"/"); ok {
			record.Set[name] = filepath.Join(dir, rest)
		}
	}
	old := original.Vars["port"]
	if original.Dialect.Given("port") != nil {
		record.Set["port"] = strconv.Itoa(port)
	}
	t.server = &Server{Record: record, Dialect: original.Dialect, Missing: map[string]string{}, Parked: original.Parked, Rules: original.Rules, memory: &survey.Memory{}}
	a.resolve(t.server)
	if err := t.movePort(old, strconv.Itoa(port)); err != nil {
		return nil, err
	}
	t.whole = survey.Take(t.server.input())
	t.files = map[string][]byte{}
	for _, f := range t.whole.Lineup.Files {
		if !f.Missing && !t.isListing(&f) {
			t.files[f.Path] = f.Raw()
		}
	}
	return t, nil
}

// trialPort is where the search for a free port for copies begins.
const trialPort = 28300

// remove takes the copy away, with the logs of its starts.
func (t *trial) remove() error {
	return errors.Join(os.RemoveAll(t.folder), t.a.Home.ForgetStarts(t.name))
}

func (t *trial) isListing(f *lineup.File) bool {
	return t.server.Dialect.Registrations[f.Registration].ByPresence()
}

// movePort gives the copy another port: the setting that the dialect names, else
// the number wherever it stands in the startup files.
func (t *trial) movePort(old, port string) error {
	g := t.server.Dialect.Given("port")
	l := lineup.Read(t.server.Dialect, t.server.Vars, readFile, t.server.Parked)
	if g != nil && g.From != nil {
		if _, ok := l.Setting(g.From.Registration, g.From.Key); !ok {
			return nil // the command says it
		}
		after, err := l.Apply(lineup.Change{Op: lineup.OpSet, Mod: g.From.Key, To: port, Registration: g.From.Registration})
		if err != nil {
			return fmt.Errorf("give the copy another port: %w", err)
		}
		return t.write(plan.Between(l, after))
	}
	if old == "" {
		return nil
	}
	number := regexp.MustCompile(`\b` + regexp.QuoteMeta(old) + `\b`)
	for _, f := range l.Files {
		if changed := number.ReplaceAll(f.Raw(), []byte(port)); !f.Missing && !bytes.Equal(changed, f.Raw()) && !t.isListing(&f) {
			if err := os.WriteFile(f.Path, changed, 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}

// signature tells this line-up from every other: by the startup files, and by the
// names, sizes and times of the files of all mods that can be switched.
func (t *trial) signature(mods []string) (string, error) {
	sum := sha256.New()
	for _, name := range slices.Sorted(maps.Keys(t.files)) {
		sum.Write(t.files[name])
	}
	for _, name := range mods {
		root := t.whole.Find(name).Path
		err := filepath.WalkDir(root, func(full string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() {
				return err
			}
			info, err := e.Info()
			if err == nil {
				fmt.Fprintln(sum, name, strings.TrimPrefix(full, root), info.Size(), info.ModTime().UnixNano())
			}
			return err
		})
		if err != nil {
			return "", fmt.Errorf("look at the files of %s: %w", name, err)
		}
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// write carries a plan out on the copy.
func (t *trial) write(p *plan.Plan) error {
	for _, f := range p.Files {
		if f.List || !strings.HasPrefix(f.Path, t.folder+"/") {
			continue
		}
		if err := os.WriteFile(f.Path, f.Want, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// switchable are the mods that a trial can be started without.
func (t *trial) switchable() (mods []*survey.Mod) {
	for i := range t.whole.Mods {
		m := &t.whole.Mods[i]
		if m.On && !m.Base && m.Path != "" && (t.byLine(m) || strings.HasPrefix(m.Path, t.folder+"/")) {
			mods = append(mods, m)
		}
	}
	return mods
}

// without takes the registration of a mod out of a line-up: switched off, where the
// file can say that.
func without(l *lineup.Lineup, m *survey.Mod) (c lineup.Change, after *lineup.Lineup, err error) {
	c = lineup.Change{Op: lineup.OpOff, Mod: m.Name}
	if after, err = l.Apply(c); err != nil {
		c.Op = lineup.OpUnregister
		after, err = l.Apply(c)
	}
	return c, after, err
}

// hangsOnLines tells whether a mod loads for its registration, and for nothing else.
func hangsOnLines(m *survey.Mod) bool { return m.Listed && !m.Always && !m.Group }

// byLine tells whether a mod is switched in the copy by changing its own registration.
func (t *trial) byLine(m *survey.Mod) bool {
	return hangsOnLines(m) && !slices.ContainsFunc(m.Entries, func(i int) bool {
		return t.server.Dialect.Registrations[t.whole.Lineup.Entries[i].Registration].ByPresence()
	})
}

// only leaves on those mods of the copy that are named.
func (t *trial) only(on []string) error {
	for _, moved := range slices.Backward(t.aside) {
		if err := os.Rename(moved[1], moved[0]); err != nil {
			return fmt.Errorf("put %s back: %w", moved[0], err)
		}
	}
	t.aside = nil
	for name, data := range t.files {
		if err := os.WriteFile(name, data, 0o644); err != nil {
			return err
		}
	}
	wanted := map[string]bool{}
	for _, name := range on {
		wanted[name] = true
	}
	l := t.whole.Lineup
	for _, m := range t.switchable() {
		if wanted[m.Name] {
			continue
		}
		if !t.byLine(m) {
			to := filepath.Join(t.folder, "aside", strconv.Itoa(len(t.aside)))
			if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
				return err
			}
			if err := os.Rename(m.Path, to); err != nil {
				return fmt.Errorf("take %s out of the copy: %w", m.Name, err)
			}
			t.aside = append(t.aside, [2]string{m.Path, to})
			continue
		}
		_, after, err := without(l, m)
		if err != nil {
			return fmt.Errorf("switch %s off in the copy: %w", m.Name, err)
		}
		l = after
	}
	return t.write(plan.Between(t.whole.Lineup, l))
}

// start starts the copy with some mods on, and stops it again. The folder of the
// start is the caller's to remove.
func (t *trial) start(ctx context.Context, on []string, opt ProveOptions) (*proof.Proof, host.StartDir, error) {
	if err := t.only(on); err != nil {
		return nil, "", err
	}
	f, end, err := t.a.start(ctx, &Look{Server: t.server, Survey: survey.Take(t.server.input())}, opt)
	if f != nil {
		defer f.close()
	}
	if err != nil {
		return nil, "", err
	}
	p := f.judge(end)
	if end.Exit == nil {
		if _, err = f.dir.Stop(context.WithoutCancel(ctx)); err != nil {
			err = fmt.Errorf("stop the copy: %w", err)
		}
	}
	return p, f.dir, err
}
