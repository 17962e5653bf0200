package app

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/survey"
)

// errUntried says that something cannot be tried on a copy.
var errUntried = errors.New("it cannot be tried")

// apply makes changes in the startup files of a copy.
func (t *trial) apply(changes ...lineup.Change) error {
	before := lineup.Read(t.server.Dialect, t.server.Vars, readFile, t.server.Parked)
	after := before
	for _, c := range changes {
		var err error
		if after, err = after.Apply(c); err != nil {
			return fmt.Errorf("%w: %w", errUntried, err)
		}
	}
	t.server.Parked = after.Parked
	return t.write(plan.Between(before, after))
}

// takeOut takes the registration of a mod away, or the mod itself where that is what registers it.
func (t *trial) takeOut(mod string) error {
	m := t.whole.Find(mod)
	if m == nil {
		return fmt.Errorf("%w: %s is not in the copy", errUntried, mod)
	}
	if !t.byLine(m) {
		if !strings.HasPrefix(m.Path, t.folder+"/") {
			return fmt.Errorf("%w: %s lies outside the server's folder", errUntried, mod)
		}
		to := filepath.Join(t.folder, "aside")
		if err := os.MkdirAll(to, 0o755); err != nil {
			return err
		}
		return os.Rename(m.Path, filepath.Join(to, filepath.Base(m.Path)))
	}
	err := t.apply(lineup.Change{Op: lineup.OpUnregister, Mod: mod})
	if errors.Is(err, errUntried) {
		err = t.apply(lineup.Change{Op: lineup.OpOff, Mod: mod})
	}
	return err
}

// register registers mods, at the end of the list or, where the order is that of the list, before
// another.
func (t *trial) register(names []string, before string) error {
	if t.server.Dialect.Order != dialect.OrderListed {
		before = ""
	}
	l := lineup.Read(t.server.Dialect, t.server.Vars, readFile, t.server.Parked)
	var changes []lineup.Change
	for i, name := range names {
		c := lineup.Change{Op: lineup.OpRegister, Mod: name, Number: strconv.Itoa(999999 - i), Where: lineup.Where{Before: before}}
		for _, e := range l.Entries { // written as others are, with its path and ending
			if t.server.Dialect.Registrations[e.Registration].Shape != dialect.ShapeLink && strings.ContainsAny(e.Value, `/\\.`) && strings.Contains(e.Value, e.Name) && !strings.Contains(name, ".") {
				c.Written = strings.Replace(e.Value, e.Name, name, 1)
				break
			}
		}
		changes = append(changes, c)
	}
	err := t.apply(changes...)
	if before != "" && errors.Is(err, errUntried) { // the other may be in another list
		return t.register(names, "")
	}
	return err
}

// breakMod makes nonsense of the scripts and programs of a mod; where it has none, of all its files.
func (t *trial) breakMod(mod string) error {
	m := t.whole.Find(mod)
	if m == nil || !strings.HasPrefix(m.Path, t.folder+"/") {
		return fmt.Errorf("%w: its files lie outside the server's folder", errUntried)
	}
	var scripts, others []string
	err := filepath.WalkDir(m.Path, func(full string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		switch strings.ToLower(filepath.Ext(full)) {
		case ".lua", ".js", ".py", ".rb", ".pl", ".php", ".sh", ".so", ".dll", ".jar", ".zip", ".wasm", ".cs":
			scripts = append(scripts, full)
		case ".md", ".png":
		default:
			others = append(others, full)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if scripts == nil { // any of them may be what the server reads
		scripts = others
	}
	if scripts == nil {
		return fmt.Errorf("%w: it has no file that could be broken", errUntried)
	}
	for _, full := range scripts {
		if err := t.put(full, []byte(makesNoSense)); err != nil {
			return err
		}
	}
	return nil
}

// doubleLine writes the line of a mod twice, where it stands on one of its own.
func (t *trial) doubleLine(mod string) error {
	l := lineup.Read(t.server.Dialect, t.server.Vars, readFile, nil)
	alone := func(e lineup.Entry) bool {
		raw := l.Files[e.File].Raw()
		own := e.Line.End > e.Line.Start && e.Line.End <= len(raw) && raw[e.Line.End-1] == '\n' && !t.isListing(&l.Files[e.File])
		return own && !slices.ContainsFunc(l.Entries, func(o lineup.Entry) bool { return o.Name != mod && o.File == e.File && o.Line.Start == e.Line.Start })
	}
	entries := l.Find(mod)
	i := slices.IndexFunc(entries, alone)
	if i < 0 {
		return fmt.Errorf("%w: it has no line of its own", errUntried)
	}
	e, file := entries[i], &l.Files[entries[i].File]
	if err := t.put(file.Path, slices.Insert(bytes.Clone(file.Raw()), e.Line.End, e.Line.In(file.Raw())...)); err != nil {
		return err
	}
	if now := lineup.Read(t.server.Dialect, t.server.Vars, readFile, nil); len(now.Find(mod)) != len(entries)+1 {
		return fmt.Errorf("%w: two lines of it are not two registrations", errUntried)
	}
	return nil
}

// moveFirst moves a mod before another.
func (t *trial) moveFirst(mod, before string) error {
	return t.apply(lineup.Change{Op: lineup.OpMove, Mod: mod, Where: lineup.Where{Before: before}})
}

// damage adds a line that means nothing to the first startup file.
func (t *trial) damage() error {
	for _, name := range []string{".lua", ".conf", ""} {
		for full, data := range t.files {
			if strings.HasSuffix(full, name) && !strings.HasSuffix(full, "/") {
				return t.put(full, append(bytes.Clone(data), "\n"+makesNoSense...))
			}
		}
	}
	return fmt.Errorf("%w: it has no startup file", errUntried)
}

// rebase lets the texts of a copy that name the server's folder by its whole path name the copy, or it
// would write into the server.
func (t *trial) rebase(from string) error {
	const most = 1 << 20 // bytes of a text
	to := t.server.Record.Dir
	changed := 0
	err := filepath.WalkDir(to, func(full string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		info, err := e.Info()
		if err != nil || info.Size() > most {
			return err
		}
		data, err := os.ReadFile(full)
		if err != nil || bytes.IndexByte(data, 0) >= 0 || !bytes.Contains(data, []byte(from)) {
			return err
		}
		now := replacePath(data, from, to)
		if bytes.Equal(now, data) {
			return nil
		}
		changed++
		return os.WriteFile(full, now, info.Mode().Perm())
	})
	if changed > 0 {
		t.notes = append(t.notes, fmt.Sprintf("the server's folder is named by its whole path in %d of its files: in the copies they name the copy", changed))
		t.a.resolve(t.server)
		t.whole = survey.Take(t.server.input())
		for _, f := range t.whole.Lineup.Files {
			if !f.Missing && !t.server.Dialect.Registrations[f.Registration].ByPresence() {
				t.files[f.Path] = f.Raw()
			}
		}
	}
	return err
}

// replacePath puts another path in the place of one, wherever that stands as a whole or with more of
// it behind.
func replacePath(data []byte, from, to string) []byte {
	var out []byte
	for {
		i := bytes.Index(data, []byte(from))
		if i < 0 {
			return append(out, data...)
		}
		end := i + len(from)
		out = append(out, data[:i]...)
		if end < len(data) && (inPath(data[end]) && data[end] != '/') || i > 0 && (inPath(data[i-1])) {
			out = append(out, from...)
		} else {
			out = append(out, to...)
		}
		data = data[end:]
	}
}

func inPath(c byte) bool { return letter(c) || strings.IndexByte("/_-.", c) >= 0 }

// heldFile is the file of a mod that is among those which a server holds in its memory, "" for none.
func heldFile(mod string, mapped []string) string {
	real, err := filepath.EvalSymlinks(mod)
	if mod == "" || err != nil {
		return ""
	}
	for _, file := range mapped {
		if file == real || strings.HasPrefix(file, real+"/") {
			return file
		}
	}
	return ""
}
