package app

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"initium/internal/core/dialect"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/order"
	"initium/internal/core/setting"
	"initium/internal/core/survey"
	"initium/internal/core/table"
	"initium/internal/core/text"
	"initium/internal/host"
)

// Bounds of what is looked through for settings.
const (
	maxSettingFiles = 2000
	maxSettingDepth = 5
	maxSettingFile  = 4 << 20 // bytes of one
)

// Setting is something that is set in a file of a server. Its strings are safe to show.
type Setting struct {
	File   string       `json:"file"` // below the server's folder, or a whole path
	Line   int          `json:"line"` // from 1
	Name   string       `json:"name"`
	Value  string       `json:"value"` // a secret is hidden
	Kind   setting.Kind `json:"kind"`
	Off    bool         `json:"off,omitempty"`        // it stands in a comment: what could be set
	Again  int          `json:"again,omitempty"`      // the line further down in the same file that sets it once more, 0 for none
	About  string       `json:"about,omitempty"`      // what the dialect says of it
	MayBe  string       `json:"may_be,omitempty"`     // and what it may be
	Mod    string       `json:"mod,omitempty"`        // the mod that has made the file
	ReadBy []string     `json:"read_by,omitempty"`    // mods that say that they read it
	Idle   bool         `json:"never_read,omitempty"` // nothing does, as far as the mods' files and the dialect tell
	Since  *Since       `json:"since,omitempty"`      // nil where it is as it was found

	Path    string `json:"-"` // the whole path of the file
	Written string `json:"-"` // the name as the file has it, which is not safe to show
	Secret  bool   `json:"-"` // the value is hidden
}

// Since says which entry of the ledger has set something.
type Since struct {
	Entry int       `json:"entry"`
	At    time.Time `json:"at"`
	Why   string    `json:"why"`
	Later bool      `json:"later,omitempty"` // somebody else has set it otherwise after that entry
	Older bool      `json:"older,omitempty"` // it was so before that entry, and what lies further back is not looked at
}

// Settings are what was found to be set.
type Settings struct {
	List   []Setting `json:"settings"`
	Files  int       `json:"files"`            // that were read
	Unread []string  `json:"unread,omitempty"` // files that could not be, and why
	Cut    bool      `json:"cut,omitempty"`    // there are more files than are looked through
}

// Settings lists what is set in the files of a server, of those whose names or values hold all of the
// words. file keeps it to one file, "" for all.
func (a *App) Settings(server, file string, words []string) (*Settings, error) {
	s, err := a.Server(server)
	if err != nil {
		return nil, err
	}
	now := survey.Take(s.input())
	found := &Settings{List: []Setting{}}
	files := []string{}
	if file != "" {
		full, err := s.fileOf(now.Lineup, file)
		if err != nil {
			return nil, err
		}
		files = append(files, full)
	} else if files, found.Cut, err = s.settingFiles(now); err != nil {
		return nil, err
	}
	secrets := now.Lineup.Secrets()
	lower := strings.Fields(strings.ToLower(strings.Join(words, " ")))
	l, err := a.ledger()
	if err != nil {
		return nil, err
	}
	touched, err := l.Touched(server)
	if err != nil {
		return nil, err
	}
	for _, full := range files {
		list, err := s.settingsIn(now.Lineup, full)
		if err != nil {
			if file != "" {
				return nil, err
			}
			found.Unread = append(found.Unread, text.Clean(s.below(full)+": "+err.Error()))
			continue
		}
		found.Files++
		var since []*Since
		if touched[full] {
			if since, err = s.since(l, full, list); err != nil {
				return nil, err
			}
		}
		maker := s.maker(now, full)
		for i, one := range list {
			shown := s.shown(full, one, secrets)
			shown.ReadBy, shown.Idle = s.readers(now, full, one)
			if shown.Mod = maker; since != nil {
				shown.Since = since[i]
			}
			if shown.Holds(lower) {
				found.List = append(found.List, shown)
			}
		}
	}
	return found, nil
}

// Holds tells whether name or value of a setting hold all of the words, which are in lower case.
func (s *Setting) Holds(words []string) bool {
	if len(words) == 0 {
		return true
	}
	in := strings.ToLower(s.Name + " " + s.Value)
	return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(in, w) })
}

// placed is a setting with the line that sets it once more.
type placed struct {
	setting.Setting
	again int
}

// settingsIn reads what is set in one file, without what registers mods.
func (s *Server) settingsIn(l *lineup.Lineup, full string) (list []placed, err error) {
	n, ok := setting.Of(s.Dialect, s.Vars, full)
	if !ok {
		return nil, errors.New("how it is written is not known, by its dialect or by its ending")
	}
	raw, err := survey.Open(s.disk(), full, maxSettingFile)
	if err != nil {
		return nil, err
	}
	doc, _ := text.Decode(raw)
	all, fault := setting.Read(doc, n)
	if fault != nil {
		return nil, fault
	}
	for _, one := range all {
		if !registers(l, full, one.Span) {
			list = append(list, placed{one, 0})
		}
	}
	last := map[string]int{}
	for i := len(list) - 1; i >= 0; i-- {
		if one := &list[i]; !one.Off {
			one.again, last[one.Name] = last[one.Name], one.Line
		}
	}
	return list, nil
}

// registers tells whether a value stands where mods are registered.
func registers(l *lineup.Lineup, file string, value text.Span) bool {
	return slices.ContainsFunc(l.Entries, func(e lineup.Entry) bool {
		return l.Files[e.File].Path == file && e.Line.Start < max(value.End, value.Start+1) && value.Start < e.Line.End
	})
}

func (s *Server) shown(full string, one placed, secrets []string) Setting {
	value := one.Value
	if text.IsSecret(one.Name, value) || slices.Contains(secrets, value) && value != "" {
		value = text.MaskValue("password", value)
	}
	shown := Setting{File: text.Clean(s.below(full)), Line: one.Line, Name: text.Clean(one.Name), Kind: setting.KindOf(one.Value), Off: one.Off, Again: one.again, Path: full, Written: one.Name}
	for i := range s.Dialect.Values {
		v := &s.Dialect.Values[i]
		r := s.Dialect.Registration(v.Registration)
		if r == nil || !v.Is(one.Name) {
			continue
		}
		if file, _ := s.Vars.Expand(r.File); file != full {
			continue
		}
		shown.About, shown.MayBe = text.Clean(v.About), text.Clean(v.MayBe())
		if v.Secret && value != "" {
			value = text.MaskValue("password", value)
		}
	}
	shown.Value = text.Clean(text.Mask(value, secrets))
	shown.Secret = value != one.Value || text.IsSecret(one.Name, "x")
	return shown
}

// setValues are all that is set in the files of a server, by name. What cannot be read is told by check.
func (s *Server) setValues(now *survey.Survey) (map[string][]string, error) {
	files, _, err := s.settingFiles(now)
	if err != nil {
		return nil, err
	}
	set := map[string][]string{}
	for _, full := range files {
		list, err := s.settingsIn(now.Lineup, full)
		if err != nil {
			continue
		}
		for _, one := range list {
			if !one.Off {
				set[one.Name] = append(set[one.Name], one.Value)
			}
		}
	}
	return set, nil
}

// readers are the mods that read what a startup file sets. idle tells that nothing does: where mods of the family say
// what they read, and the dialect does not know the setting as one of the server.
func (s *Server) readers(now *survey.Survey, full string, one placed) (mods []string, idle bool) {
	says := slices.ContainsFunc(s.Dialect.Manifests, func(m dialect.Manifest) bool { return m.Settings != "" })
	in := slices.ContainsFunc(now.Lineup.Settings, func(set lineup.Setting) bool {
		return set.Name == one.Name && now.Lineup.Files[set.File].Path == full
	})
	if !in || one.Off {
		return nil, false
	}
	for i := range now.Mods {
		if m := &now.Mods[i]; m.On && slices.Contains(order.Settings(now, m), one.Name) {
			mods = append(mods, text.Clean(m.Name))
		}
	}
	known := slices.ContainsFunc(s.Dialect.Values, func(v dialect.Value) bool { return v.Is(one.Name) }) ||
		slices.ContainsFunc(s.Dialect.Givens, func(g dialect.Given) bool { return g.From != nil && g.From.Key == one.Name })
	return mods, says && len(mods) == 0 && !known
}

// maxVersions is how many changes of a file are gone through.
const maxVersions = 100

// since tells of each setting of a file which entry has made it what it is; nil for those that no entry has.
func (s *Server) since(l *host.Ledger, full string, list []placed) ([]*Since, error) {
	versions, err := l.Versions(s.Record.Name, full, maxVersions)
	if err != nil {
		return nil, err
	}
	n, _ := setting.Of(s.Dialect, s.Vars, full)
	type place struct {
		name string
		nth  int
		off  bool
	}
	places := func(list []setting.Setting) (all map[place]string, order []place) {
		all, nth := make(map[place]string, len(list)), map[place]int{}
		for _, one := range list {
			p := place{one.Name, 0, one.Off}
			nth[p]++
			p.nth = nth[p]
			all[p], order = one.Value, append(order, p)
		}
		return all, order
	}
	var before []byte
	var was map[place]string
	read := func(raw []byte) map[place]string {
		if was == nil || !bytes.Equal(raw, before) {
			doc, _ := text.Decode(raw)
			list, _ := setting.Read(doc, n)
			was, _ = places(list)
			before = raw
		}
		return was
	}
	since := make([]*Since, len(list))
	open := map[place]int{}
	plain := make([]setting.Setting, len(list))
	for i := range list {
		plain[i] = list[i].Setting
	}
	values, order := places(plain)
	for i, p := range order {
		open[p] = i
	}
	for _, v := range versions {
		after := read(v.New)
		old := read(v.Old)
		for p, i := range open {
			then, there := after[p]
			first, there0 := old[p]
			switch {
			case !there || then != values[p]:
				since[i] = &Since{Entry: v.Entry, At: v.At, Why: text.Clean(v.Why), Later: true}
			case !there0 || first != then:
				since[i] = &Since{Entry: v.Entry, At: v.At, Why: text.Clean(v.Why)}
			default:
				continue
			}
			delete(open, p)
		}
	}
	if n := len(versions); n == maxVersions {
		oldest := versions[n-1]
		for _, i := range open {
			since[i] = &Since{Entry: oldest.Entry, At: oldest.At, Older: true}
		}
	}
	return since, nil
}

// maker is the mod that makes a file, as the dialect says of what mods leave behind; "" for none.
func (s *Server) maker(now *survey.Survey, full string) string {
	for i := range s.Dialect.Leavings {
		for k := range now.Mods {
			left, ok := intake.LeavingOf(&s.Dialect.Leavings[i], s.Vars, now.Mods[k].Name)
			if ok && (left == full || strings.HasPrefix(full, left+"/")) {
				return text.Clean(now.Mods[k].Name)
			}
		}
	}
	return ""
}

// below is a path as seen from the server's folder.
func (s *Server) below(full string) string { return strings.TrimPrefix(full, s.Record.Dir+"/") }

// settingFiles are the files of a server that may hold settings: its startup files, and those in its
// folder that are no mod's, by their endings.
func (s *Server) settingFiles(now *survey.Survey) (files []string, cut bool, err error) {
	for _, f := range now.Lineup.Files {
		if _, ok := setting.Of(s.Dialect, s.Vars, f.Path); ok && !f.Missing && !slices.Contains(files, f.Path) {
			files = append(files, f.Path)
		}
	}
	mods := map[string]bool{}
	for i := range now.Mods {
		mods[now.Mods[i].Path] = true
	}
	err = theirs.Walk(s.Record.Dir, func(full string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return nil // what cannot be looked into shows nothing
		case full == s.Record.Dir:
			return nil
		case e.IsDir() && (mods[full] || strings.HasPrefix(e.Name(), ".") || strings.Count(s.below(full), "/") >= maxSettingDepth):
			return fs.SkipDir
		case len(files) >= maxSettingFiles:
			cut = true
			return fs.SkipAll
		}
		if _, ok := setting.Of(s.Dialect, s.Vars, full); ok && e.Type().IsRegular() && !mods[full] && !slices.Contains(files, full) {
			files = append(files, full)
		}
		return nil
	})
	return files, cut, err
}

// fileOf is the whole path of a file of a server: one of its startup files, or one below its folder.
func (s *Server) fileOf(l *lineup.Lineup, name string) (string, error) {
	full := name
	if !filepath.IsAbs(name) {
		full = filepath.Join(s.Record.Dir, name)
	}
	full = filepath.Clean(full)
	own := slices.ContainsFunc(l.Files, func(f lineup.File) bool { return f.Path == full })
	if !own && !strings.HasPrefix(full, s.Record.Dir+"/") {
		return "", usage("%s is no file of this server", text.Clean(name))
	}
	return full, nil
}

// SettingChange is the change that sets something, or unsets it where value is nil: in a file, or where
// it is set already if that is one place only. line is the line of one that is set more than once, 0 for
// none.
func (a *App) SettingChange(server, name string, value *string, file string, line int, asSaid bool) (c lineup.Change, err error) {
	s, err := a.Server(server)
	if err != nil {
		return c, err
	}
	now := survey.Take(s.input())
	c = lineup.Change{Op: lineup.OpUnset, Mod: name, Line: line, AsSaid: asSaid}
	if value != nil {
		c.Op, c.To = lineup.OpSet, *value
	}
	if file != "" {
		c.File, err = s.fileOf(now.Lineup, file)
		return c, err
	}
	files, _, err := s.settingFiles(now)
	if err != nil {
		return c, err
	}
	in := func(off bool) (where []string) {
		for _, full := range files {
			list, err := s.settingsIn(now.Lineup, full)
			if err == nil && slices.ContainsFunc(list, func(p placed) bool { return p.Name == name && p.Off == off }) {
				where = append(where, full)
			}
		}
		return where
	}
	where := in(false)
	if len(where) == 0 && value != nil {
		where = in(true)
	}
	switch len(where) {
	case 0:
		if value == nil {
			return c, usage("%s is set in no file of %s that is understood", text.Clean(name), server)
		}
		if c.File = s.whereRead(now, name); c.File != "" {
			return c, nil
		}
		return c, usage("%s is set in no file of %s that is understood; say with --in FILE where it belongs", text.Clean(name), server)
	case 1:
		c.File = where[0]
		return c, nil
	}
	for i := range where {
		where[i] = s.below(where[i])
	}
	return c, usage("%s is set in %s; say with --in FILE which is meant", text.Clean(name), text.Clean(strings.Join(where, ", ")))
}

// whereRead is the startup file with the first mod that reads a setting when it starts, where a setting could stand
// in it; "" for none.
func (s *Server) whereRead(now *survey.Survey, name string) string {
	for i := range now.Mods {
		m := &now.Mods[i]
		if !m.On || !slices.Contains(order.Settings(now, m), name) {
			continue
		}
		for _, k := range m.Entries {
			file := now.Lineup.Files[now.Lineup.Entries[k].File].Path
			if n, ok := setting.Of(s.Dialect, s.Vars, file); ok && (len(n.Forms) > 0 || n.Format == dialect.FormatKeyValue) {
				return file
			}
		}
	}
	return ""
}

// File is what a file of the server holds.
func (g *ground) File(name string) ([]byte, error) {
	if path.Clean(name) != name || !strings.HasPrefix(name, g.s.Record.Dir+"/") {
		return nil, fmt.Errorf("it is no file of this server")
	}
	return survey.Open(g.s.disk(), name, table.MaxFile)
}
