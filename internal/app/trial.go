package app

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/fnv"
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
	"initium/internal/core/rule"
	"initium/internal/core/survey"
	"initium/internal/core/text"
	"initium/internal/host"
	"initium/internal/host/disk"
)

// trial is a copy of a server that may be started with any part of its line-up:
// in a folder of its own, on a port of its own, with a world of its own. What lies
// outside the server's folder is shared, and only read.
type trial struct {
	a      *App
	server *Server  // the copy
	name   string   // by which its keeper knows it
	folder string   // of the copy, and of what is set aside
	lock   *os.File // so that there is one at a time
	notes  []string // what of it is other than the server, in words
	whole  *survey.Survey
	files  map[string][]byte // the startup files, as they are with everything on
	aside  [][2]string       // what is moved away for now: from, to
}

// copying says what a copy of a server is for.
type copying struct {
	suffix   string            // as in host
	isolated bool              // it gets a network of its own, and keeps its port
	plan     *plan.Plan        // what is changed in it first, in words of the original; may be nil
	set      map[string]string // given values and settings that it has instead
}

// newTrial copies a server. The caller has to remove the copy.
func (a *App) newTrial(ctx context.Context, original *Server, of copying) (t *trial, err error) {
	lock, err := a.Home.LockTrial(original.Record.Name, of.suffix)
	if err != nil {
		return nil, err
	}
	t = &trial{a: a, folder: a.Home.TrialDir(original.Record.Name, of.suffix), name: original.Record.Name + of.suffix, lock: lock}
	if a.Home.IsRunning(t.name) { // left over from one that was ended by force
		if _, err := a.Home.StopServer(ctx, t.name); err != nil {
			return t, fmt.Errorf("stop an earlier copy: %w", err)
		}
	}
	if err := t.clear(); err != nil {
		return t, err
	}
	dir := filepath.Join(t.folder, "server")
	if err := disk.CopyServer(ctx, original.Record.Dir, dir); err != nil {
		return t, fmt.Errorf("copy the server: %w", err)
	}
	if err := t.relink(original.Record.Dir, dir); err != nil {
		return t, err
	}
	record := original.Record
	record.Name, record.Dir, record.Set = t.name, dir, maps.Clone(record.Set)
	if record.Set == nil {
		record.Set = map[string]string{}
	}
	t.server = &Server{Record: record, Dialect: original.Dialect, Missing: map[string]string{}, Parked: original.Parked, Rules: original.Rules, Expected: original.Expected, memory: &survey.Memory{}, isolated: of.isolated}
	if err := t.change(ctx, original, of.plan); err != nil {
		return t, err
	}
	for name, value := range t.server.Record.Set {
		if rest, ok := strings.CutPrefix(value, original.Record.Dir+"/"); ok {
			t.server.Record.Set[name] = filepath.Join(dir, rest)
		}
	}
	if err := t.copyWorld(ctx, original); err != nil {
		return t, err
	}
	a.resolve(t.server)
	if err := t.set(of.set); err != nil {
		return t, err
	}
	if !of.isolated {
		port, err := freePort(firstPort(t.folder))
		if err != nil {
			return t, err
		}
		old := t.server.Vars["port"]
		if original.Dialect.Given("port") != nil {
			t.server.Record.Set["port"] = strconv.Itoa(port)
		}
		a.resolve(t.server)
		if err := t.movePort(old, strconv.Itoa(port)); err != nil {
			return t, err
		}
	}
	t.whole = survey.Take(t.server.input())
	t.files = map[string][]byte{}
	for _, f := range t.whole.Lineup.Files {
		if !f.Missing && !t.server.Dialect.Registrations[f.Registration].ByPresence() {
			t.files[f.Path] = f.Raw()
		}
	}
	return t, nil
}

// The search for a free port for a copy begins at trialPort or up to trialPorts further.
const (
	trialPort  = 28300
	trialPorts = 600
)

// firstPort is where it begins for a copy in a folder: for the same one always at the same, so that what
// is remembered of it holds, and for others hardly ever.
func firstPort(folder string) int {
	h := fnv.New32a()
	h.Write([]byte(folder))
	return trialPort + int(h.Sum32()%trialPorts)
}

// clear takes the copy away, with the logs of its starts.
func (t *trial) clear() error {
	return errors.Join(os.RemoveAll(t.folder), t.a.Home.ForgetStarts(t.name))
}

// remove takes the copy away for good.
func (t *trial) remove() error { return errors.Join(t.clear(), t.lock.Close()) }

// relink lets links of the copy that lead into the server by its full path lead into the copy,
// or the server itself would be written to.
func (t *trial) relink(from, to string) error {
	return filepath.WalkDir(to, func(full string, e fs.DirEntry, err error) error {
		if err != nil || e.Type()&fs.ModeSymlink == 0 {
			return err
		}
		target, err := os.Readlink(full)
		if err != nil {
			return err
		}
		at := target
		if !filepath.IsAbs(at) {
			at = filepath.Join(filepath.Dir(full), at)
		}
		rel := strings.TrimPrefix(full, to+"/")
		switch rest, inside := strings.CutPrefix(at+"/", from+"/"); {
		case inside && filepath.IsAbs(target):
			return errors.Join(os.Remove(full), os.Symlink(filepath.Join(to, rest), full))
		case !strings.HasPrefix(at+"/", to+"/"):
			t.notes = append(t.notes, fmt.Sprintf("%s leads out of the server's folder, to %s: the copy has that in common with the server", text.Clean(rel), text.Clean(target)))
		}
		return nil
	})
}

// change carries a plan out on the copy, with a ledger of its own.
func (t *trial) change(ctx context.Context, original *Server, p *plan.Plan) error {
	if p == nil || p.Empty() {
		return nil
	}
	there := func(full string) (string, error) {
		rest, ok := strings.CutPrefix(full, original.Record.Dir+"/")
		if !ok {
			return "", fmt.Errorf("%s lies outside the server's folder, so that changing it cannot be tried on a copy", full)
		}
		return filepath.Join(t.server.Record.Dir, rest), nil
	}
	here := *p
	here.Files, here.Parts, here.Changes = slices.Clone(p.Files), slices.Clone(p.Parts), nil
	var err error
	for i := range here.Files {
		if here.Files[i].Form != "" {
			return fmt.Errorf("%s is a field of a web form, which a copy has not", here.Files[i].Form)
		}
		f := &here.Files[i]
		links := f.Links()
		if f.Path, err = there(f.Path); err != nil {
			return err
		}
		if links { // those that lead into the server lead into the copy there
			f.Path += "/"
			f.Old, f.Want = replacePath(f.Old, original.Record.Dir, t.server.Record.Dir), replacePath(f.Want, original.Record.Dir, t.server.Record.Dir)
		}
	}
	for i := range here.Parts {
		if here.Parts[i].Path, err = there(here.Parts[i].Path); err != nil {
			return err
		}
	}
	scratch := host.Home{Dir: filepath.Join(t.folder, "home")}
	l, err := scratch.OpenLedger()
	if err != nil {
		return err
	}
	defer l.Close()
	if err := l.Apply(ctx, t.name, "tried on a copy", &here, t.a.fetch(p, nil)); err != nil {
		return fmt.Errorf("make the changes on the copy: %w", err)
	}
	if p.Parked != nil {
		t.server.Parked = p.Parked
	}
	for _, g := range p.Given {
		if g.Now == "" {
			delete(t.server.Record.Set, g.Name)
		} else {
			t.server.Record.Set[g.Name] = g.Now
		}
	}
	t.server.Rules = append(slices.DeleteFunc(slices.Clone(t.server.Rules), func(r rule.Rule) bool { return slices.ContainsFunc(p.Unrules, r.Same) }), p.Rules...)
	return nil
}

// copyWorld gives the copy a world of its own, where that lies outside the server's folder; what
// lies inside has come with it.
func (t *trial) copyWorld(ctx context.Context, original *Server) error {
	for i, form := range original.Dialect.World.Paths {
		from, ok := original.Vars.Expand(form)
		if !ok || strings.HasPrefix(from, original.Record.Dir+"/") {
			continue
		}
		name, value := "", ""
		for _, g := range original.Dialect.Givens { // the value by which it is found
			if v := original.Vars[g.Name]; v != "" && strings.Contains(form, "{"+g.Name+"}") && (from == v || strings.HasPrefix(from, v+"/")) {
				name, value = g.Name, v
			}
		}
		if name == "" {
			return fmt.Errorf("its world %s lies outside the server's folder, and no value of it says so: a copy would play in the server's own world", from)
		}
		if set := t.server.Record.Set[name]; strings.HasPrefix(set, t.folder+"/") {
			continue // with an earlier one
		}
		to := filepath.Join(t.folder, "world", strconv.Itoa(i), filepath.Base(value))
		info, err := os.Stat(value)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			err = os.MkdirAll(filepath.Dir(to), 0o700)
		case err == nil && info.IsDir():
			err = disk.CopyServer(ctx, value, to)
		case err == nil:
			err = disk.CopyFolder(ctx, value, to)
		}
		if err != nil {
			return fmt.Errorf("copy the world: %w", err)
		}
		t.server.Record.Set[name] = to
	}
	return nil
}

// set gives the copy other values: those that the dialect says for one, and those that the operator
// does.
func (t *trial) set(wanted map[string]string) error {
	d := t.server.Dialect
	values := map[string]string{}
	for i := range d.Givens {
		if g := &d.Givens[i]; g.Rehearse != nil {
			values[g.Name] = *g.Rehearse
		}
	}
	l := lineup.Read(d, t.server.Vars, readFile, t.server.Parked)
	for i := range d.Values {
		v := &d.Values[i]
		if _, ok := l.Setting(v.Registration, v.Name); ok && v.Rehearse != nil {
			values[v.Name] = *v.Rehearse
		}
	}
	maps.Copy(values, wanted)
	for _, name := range slices.Sorted(maps.Keys(values)) {
		value := values[name]
		was := t.server.Vars[name]
		if d.Given(name) != nil {
			t.server.Record.Set[name] = value
			t.a.resolve(t.server)
			if problem := t.server.Missing[name]; problem != "" {
				return usage("%s: %s", name, text.Clean(problem))
			}
		} else {
			i := slices.IndexFunc(l.Settings, func(s lineup.Setting) bool { return s.Name == name })
			if i < 0 {
				return usage("%s has no value and no setting %s that its copy could have another of", t.server.Dialect.Title, text.Clean(name))
			}
			was = l.Settings[i].Value
			after, err := l.Apply(lineup.Change{Op: lineup.OpSet, Mod: name, To: value, Registration: d.Registrations[l.Files[l.Settings[i].File].Registration].Name})
			if err != nil {
				return fmt.Errorf("give the copy another %s: %w", text.Clean(name), err)
			}
			if err := t.write(plan.Between(l, after)); err != nil {
				return err
			}
			l = after
		}
		if was != value {
			t.notes = append(t.notes, fmt.Sprintf("%s is %s in it, not %s", text.Clean(name), text.Clean(text.MaskValue(name, value)), text.Clean(text.MaskValue(name, was))))
		}
	}
	return nil
}

func (t *trial) isListing(f *lineup.File) bool {
	return t.server.Dialect.Registrations[f.Registration].InFolder()
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
			if err := t.put(f.Path, changed); err != nil {
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

// put writes a file of the copy, and nothing else: a link in its place, wherever it leads, becomes a
// file, and over a folder that is a link out of the copy nothing is written.
func (t *trial) put(name string, data []byte) error {
	dir, err := filepath.EvalSymlinks(filepath.Dir(name))
	if err != nil {
		return err
	}
	folder, err := filepath.EvalSymlinks(t.folder)
	if err != nil {
		return err
	}
	if dir != folder && !strings.HasPrefix(dir, folder+"/") {
		return fmt.Errorf("%s lies outside the server's folder, by way of a link, so that it cannot be changed in a copy", strings.TrimPrefix(name, t.server.Record.Dir+"/"))
	}
	if strings.HasSuffix(name, "/") { // the links in a folder
		now, err := disk.Links(name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		gone, come, err := disk.Relinked(now, data)
		if err != nil {
			return err
		}
		_, err = disk.Relink(name, gone, come)
		return err
	}
	if info, err := os.Lstat(name); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		if err := os.Remove(name); err != nil {
			return err
		}
	}
	return os.WriteFile(name, data, 0o644)
}

// write carries a plan out on the copy.
func (t *trial) write(p *plan.Plan) error {
	for _, f := range p.Files {
		if f.List && !f.Links() || !strings.HasPrefix(f.Path, t.folder+"/") {
			continue
		}
		if err := t.put(f.Path, f.Want); err != nil {
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
		if err := t.put(name, data); err != nil {
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
