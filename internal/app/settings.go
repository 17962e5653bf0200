package app

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"initium/internal/core/lineup"
	"initium/internal/core/setting"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// Bounds of what is looked through for settings.
const (
	maxSettingFiles = 2000
	maxSettingDepth = 5
	maxSettingFile  = 4 << 20 // bytes of one
)

// Setting is something that is set in a file of a server. Its strings are safe to show.
type Setting struct {
	File  string       `json:"file"` // below the server's folder, or a whole path
	Line  int          `json:"line"` // from 1
	Name  string       `json:"name"`
	Value string       `json:"value"` // a secret is hidden
	Kind  setting.Kind `json:"kind"`
	Off   bool         `json:"off,omitempty"`   // it stands in a comment: what could be set
	Again int          `json:"again,omitempty"` // the line further down in the same file that sets it once more, 0 for none
	About string       `json:"about,omitempty"` // what the dialect says of it
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
		for _, one := range list {
			shown := s.shown(full, one, secrets)
			if holdsAll(shown.Name+" "+shown.Value, words) {
				found.List = append(found.List, shown)
			}
		}
	}
	return found, nil
}

func holdsAll(in string, words []string) bool {
	in = strings.ToLower(in)
	return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(in, strings.ToLower(w)) })
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
	about := ""
	for _, v := range s.Dialect.Values {
		if v.Is(one.Name) {
			about = text.Clean(v.About)
			if v.Secret && value != "" {
				value = text.MaskValue("password", value)
			}
		}
	}
	return Setting{File: text.Clean(s.below(full)), Line: one.Line, Name: text.Clean(one.Name), Value: text.Clean(text.Mask(value, secrets)), Kind: setting.KindOf(one.Value), Off: one.Off, Again: one.again, About: about}
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

// File is what a file of the server holds.
func (g *ground) File(name string) ([]byte, error) {
	if path.Clean(name) != name || !strings.HasPrefix(name, g.s.Record.Dir+"/") {
		return nil, fmt.Errorf("it is no file of this server")
	}
	return survey.Open(g.s.disk(), name, maxSettingFile)
}
